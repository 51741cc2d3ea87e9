"""Steady vibration over a range of frequencies: the base shaken, loads that swing, rotors out of balance."""

from itertools import pairwise
from typing import ClassVar, Literal, Self

from pydantic import Field, model_validator

from holokine.describe.events.columns import list_of
from holokine.describe.events.kind import GROUPS_UNFOLLOWED, ModalEvent
from holokine.describe.events.signals import Peaked
from holokine.describe.fields import (
    Angle,
    Axis,
    FileName,
    Frequency,
    Number,
    Strict,
    UnitVector,
    complaint,
    names_of,
    quantity_field,
)
from holokine.describe.loads import SupportGroup, each_moves_with_one_group

__all__ = ["Harmonic", "HarmonicTable", "SupportSwings", "SweepEvent", "SweepRange", "Unbalance"]

_QUANTITIES = ("acceleration", "velocity", "displacement", "factor")


class SweepRange(Strict):
    """Frequencies of a sweep: a `range`, the range(s) of a `band`, or a list (`at`).

    ``gathered`` (the default) sets points about every mode by its bandwidth, so that no peak is cut; ``linear`` and
    ``logarithmic`` take `points` of them, or so many `per octave`.
    """

    shorthand: ClassVar[str | None] = "range"
    range: tuple[Frequency, Frequency] | None = None
    band: names_of("bands") | None = None  # type: ignore[valid-type]
    at: list_of("frequency", positive=True) | None = None  # type: ignore[valid-type]
    spacing: Literal["gathered", "linear", "logarithmic"] = "gathered"
    points: int | None = Field(default=None, ge=2, le=200_000)
    per_octave: int | None = Field(default=None, ge=1, le=10_000)

    @model_validator(mode="after")
    def _sense(self) -> Self:
        self.exactly_one({"range": self.range, "band": self.band, "at": self.at}, "frequencies of a sweep")
        if self.range is not None and self.range[0] >= self.range[1]:
            raise complaint(f"the range must rise, got {self.range[0]:g} to {self.range[1]:g} Hz")
        given = self.model_fields_set
        if self.at is not None:
            self.has_no_effect(given, ("spacing", "points", "per_octave"), "with a list of frequencies (at)")
            if any(b <= a for a, b in pairwise(self.at)):
                raise complaint("the frequencies (at) must rise")
        elif self.spacing == "gathered":
            self.has_no_effect(given, ("points", "per_octave"), "with spacing: gathered; take linear or logarithmic")
        elif self.spacing == "linear":
            self.has_no_effect(given, ("per_octave",), "with spacing: linear")
            if self.points is None:
                raise complaint("spacing: linear needs points (how many)")
        else:
            self.exactly_one({"points": self.points, "per octave": self.per_octave}, "spacing: logarithmic")
        return self


class HarmonicTable(Strict):
    """An amplitude over frequency, with its phase where that changes."""

    frequency: list_of("frequency", positive=True)  # type: ignore[valid-type]
    acceleration: list_of("acceleration") | None = None  # type: ignore[valid-type]
    velocity: list_of("velocity") | None = None  # type: ignore[valid-type]
    displacement: list_of("displacement") | None = None  # type: ignore[valid-type]
    factor: list_of("number") | None = None  # type: ignore[valid-type]
    phase: list_of("angle") | None = None  # type: ignore[valid-type]

    @property
    def column(self) -> str:
        """Which quantity it gives."""
        return next(n for n in _QUANTITIES if getattr(self, n) is not None)

    @model_validator(mode="after")
    def _rows(self) -> Self:
        self.exactly_one({n: getattr(self, n) for n in _QUANTITIES}, "a table over frequency")
        values = getattr(self, self.column)
        for name, column in ((self.column, values), ("phase", self.phase)):
            if column is not None and len(column) != len(self.frequency):
                raise complaint(f"the column {name} has {len(column)} values for {len(self.frequency)} frequencies")
        if len(values) < 2:
            raise complaint("a table over frequency needs at least two points")
        if any(v < 0 for v in values):
            raise complaint("amplitudes are at least 0; a phase of 180 deg turns the sign")
        for row, (a, b) in enumerate(pairwise(self.frequency), start=2):
            if b <= a:
                raise complaint(f"row {row}: the frequency does not rise ({a:g} Hz, then {b:g} Hz)")
        return self


class Harmonic(Strict):
    """A swing: its amplitude (peak), or a table or CSV file of it over frequency, and its phase.

    Motion of the base: acceleration, velocity or displacement by its unit. On a load: a factor. The phase is that of
    e^(+iωt): a lag is negative.
    """

    shorthand: ClassVar[str | None] = "amplitude"
    amplitude: Peaked = None
    table: HarmonicTable | None = None
    file: FileName | None = None
    scale: Number = 1.0
    phase: Angle = 0.0
    interpolate: Literal["log-log", "linear"] = "log-log"
    outside: Literal["error", "hold", "zero"] = "error"

    @model_validator(mode="after")
    def _one(self) -> Self:
        self.exactly_one({"amplitude": self.amplitude, "table": self.table, "file": self.file}, "a swing")
        if self.amplitude is not None:
            self.has_no_effect(self.model_fields_set, ("interpolate", "outside", "scale"), "without a table or file")
            if min(self.amplitude.value, self.amplitude.plain or 0.0) < 0:
                raise complaint("an amplitude is at least 0; a phase of 180 deg turns the sign")
        if (
            self.table is not None
            and self.interpolate == "log-log"
            and min(getattr(self.table, self.table.column)) <= 0
        ):
            raise complaint("amplitudes of 0 cannot be read on a logarithmic axis; write interpolate: linear")
        return self


class Unbalance(Strict):
    """A rotor out of balance: mass × radius (`amount`), at a point, about an axis, its speed the sweep's frequency.

    Its force turns about the axis (forward: by the right-hand rule) and grows with the square of the speed.
    """

    at: names_of("points")  # type: ignore[valid-type]
    axis: UnitVector
    amount: quantity_field("unbalance", above=0.0)  # type: ignore[valid-type]
    phase: Angle = 0.0
    turning: Literal["forward", "backward"] = "forward"


class SupportSwings(SupportGroup):
    """A group of supports that swings by itself; supports in no group stay where they are."""

    moved_by: ClassVar[str] = "base"
    base: dict[Axis, Harmonic]


class SweepEvent(ModalEvent):
    """Steady vibration over a range of frequencies (`sweep`): of the `base`, by `loads`, by `unbalance`.

    `support swings`, in place of `base`: groups of supports that swing differently, the others at rest.
    `beside`: loads at rest that stay on, told apart from the vibration. `full model at`: frequencies at which the whole
    model is solved too, as a check. `octaves per minute`: how fast a real sweep would run. `with state`: the state
    stays on beside it, as loads at rest do. `follow`: one-way supports, springs and cables, and springs with a law, let
    go, hit and slide as they do; what a slow sweep up and a slow sweep down see.
    """

    kind: ClassVar[str] = "sweep"
    words: ClassVar[str] = "sine sweeps (sweep)"
    groups_by: ClassVar[str] = "support swings"
    told_by: ClassVar[tuple[str, ...]] = ("sweep",)

    sweep: SweepRange
    base: dict[Axis, Harmonic] | None = None
    support_swings: dict[str, SupportSwings] | None = None
    loads: dict[names_of("loads"), Harmonic] | None = None  # type: ignore[valid-type]
    unbalance: dict[str, Unbalance] | None = None
    beside: names_of("events", kind="static") | None = None  # type: ignore[valid-type]
    with_state: bool | None = None
    static_correction: bool = True
    amplitudes: Literal["peak", "rms", "peak to peak"] = "peak"
    full_model_at: list_of("frequency", positive=True) | None = None  # type: ignore[valid-type]
    octaves_per_minute: quantity_field("number", above=0.0) | None = None  # type: ignore[valid-type]
    follow: bool = False

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if not (self.base or self.support_swings or self.loads or self.unbalance):
            raise complaint(
                "nothing shakes the assembly: give base (z: 1 g), support swings, loads (factors on loads) or "
                "unbalance; a sweep is its frequencies only"
            )
        groups = self.support_swings or {}
        if self.base and groups:
            raise complaint("give base (the whole base) or support swings (groups of supports), not both")
        each_moves_with_one_group("support swings", (group.supports for group in groups.values()))
        moving = {f"base {axis}": swing for axis, swing in (self.base or {}).items()}
        moving |= {f"support swings, {g}, {axis}": s for g, own in groups.items() for axis, s in own.base.items()}
        for where, swing in moving.items():
            if swing.table is not None and swing.table.column == "factor":
                raise complaint(f"{where}: a factor is for loads; the base has acceleration, velocity or displacement")
            if swing.amplitude is not None and swing.amplitude.value != swing.amplitude.value:
                raise complaint(f"{where}: expected an acceleration, velocity or displacement, got a percentage")
        for load, swing in (self.loads or {}).items():
            plain = swing.table.column == "factor" if swing.table is not None else True
            if swing.amplitude is not None:
                plain = swing.amplitude.plain is not None
            if not plain:
                raise complaint(f"loads, {load}: the amplitude of a load is a factor on it, a plain number")
        return self

    def unfollowed(self) -> str:
        """Groups of supports, single frequencies, and what only a linear answer has."""
        if self.support_swings:
            return GROUPS_UNFOLLOWED
        if self.sweep.at is not None and len(self.sweep.at) < 2:
            return "follow runs through frequencies: give a range, a band, or at least two frequencies"
        linear = {
            "beside": self.beside is not None, "static correction: false": not self.static_correction,
            f"amplitudes: {self.amplitudes}": self.amplitudes != "peak",
            "full model at": self.full_model_at is not None, "octaves per minute": self.octaves_per_minute is not None,
        }  # fmt: skip
        given = [key for key, is_given in linear.items() if is_given]
        if not given:
            return ""
        cure = "; put its loads into a state (states: ..., state: NAME)" if self.beside is not None else ""
        return f"{' and '.join(given)}: for linear answers only, leave out with follow{cure}"

    @property
    def axes(self) -> tuple[str, ...]:
        """Directions in which the whole base moves."""
        return tuple(str(d) for d in self.base or ())

    @property
    def moving(self) -> dict[str, tuple[tuple[str, ...], tuple[str, ...]]]:
        """Supports and directions of every group that moves by itself."""
        return {g: (own.supports, tuple(map(str, own.base))) for g, own in (self.support_swings or {}).items()}

    @property
    def load_names(self) -> tuple[str, ...]:
        """Loads that swing."""
        return tuple(self.loads or ())

    @property
    def at_rest(self) -> tuple[str, ...]:
        """Static events whose loads stay on."""
        return () if self.beside is None else (str(self.beside),)
