"""Random vibration: densities of the base's acceleration along directions, and of loads."""

from itertools import pairwise
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self

from pydantic import Field, model_validator

from holokine.describe.events.columns import list_of
from holokine.describe.events.kind import ModalEvent
from holokine.describe.fields import (
    Acceleration,
    Angle,
    Axis,
    FileName,
    Frequency,
    Number,
    Strict,
    Time,
    complaint,
    names_of,
    quantity_field,
)
from holokine.describe.loads import SupportGroup, each_moves_with_one_group

if TYPE_CHECKING:
    from numpy.typing import NDArray

__all__ = [
    "AccelerationDensity", "Coherence", "Density", "Fatigue", "LoadDensity", "RandomEvent", "SupportDensities",
]  # fmt: skip


class Density(Strict):
    """A one-sided density over frequency: rows, a level with slopes, a table that is pasted, or a CSV file.

    Straight on logarithmic axes between rows; outside there is nothing, or the end values where it is held. A frequency
    in two rows is a step; between a row of 0 and the next there is nothing.
    `slopes`, in dB per octave, lead from a `level` `at` a frequency (the first when left out) through all rows.
    """

    shorthand: ClassVar[str | None] = "file"
    frequency: list_of("frequency", positive=True) | None = None  # type: ignore[valid-type]
    slopes: list_of("number") | None = None  # type: ignore[valid-type]
    at: Frequency | None = None
    pasted: str | None = None
    file: FileName | None = None
    scale: quantity_field("number", above=0.0) = 1.0  # type: ignore[valid-type]
    outside: Literal["nothing", "hold"] = "nothing"

    @model_validator(mode="after")
    def _one(self) -> Self:
        own: Any = self
        density, level = own.density, own.level
        self.exactly_one({"frequency": self.frequency, "pasted": self.pasted, "file": self.file}, "a density")
        if self.frequency is None:
            given = self.model_fields_set
            self.has_no_effect(given, ("density", "level", "slopes", "at"), "with a table that is pasted or a file")
            return self
        for row, (a, b) in enumerate(pairwise(self.frequency), start=2):
            if b < a or (b == a and density is None):
                raise complaint(f"row {row}: the frequency does not rise ({a:g} Hz, then {b:g} Hz)")
        if len(self.frequency) < 2 or self.frequency[0] == self.frequency[-1]:
            raise complaint("a density needs two frequencies at least")
        self.exactly_one({"density": density, "level": level}, "a density over frequency")
        if density is not None:
            self.has_no_effect(self.model_fields_set, ("slopes", "at"), "with a density at every frequency")
            if len(density) != len(self.frequency):
                raise complaint(f"{len(density)} densities for {len(self.frequency)} frequencies")
            if min(density) < 0 or max(density) == 0:
                raise complaint("densities are at least 0, and some of them above")
            return self
        if self.slopes is None or len(self.slopes) != len(self.frequency) - 1:
            raise complaint(
                f"a level needs slopes in dB per octave, {len(self.frequency) - 1} for so many rows less one"
            )
        if self.at is not None and self.at not in self.frequency:
            raise complaint(f"at: {self.at:g} Hz is none of the frequencies")
        return self


class AccelerationDensity(Density):
    """Of an acceleration, g²/Hz or (m/s²)²/Hz; `rms`: its overall RMS as stated elsewhere, which is checked."""

    density: list_of("acceleration density") | None = None  # type: ignore[valid-type]
    level: quantity_field("acceleration density", above=0.0) | None = None  # type: ignore[valid-type]
    rms: Acceleration | None = None


class LoadDensity(Density):
    """Of a factor on a load, 1/Hz; `rms`: its overall RMS as stated elsewhere, which is checked."""

    density: list_of("factor density") | None = None  # type: ignore[valid-type]
    level: quantity_field("factor density", above=0.0) | None = None  # type: ignore[valid-type]
    rms: Number | None = None


class SupportDensities(SupportGroup):
    """A group of supports under random motion of its own; supports in no group stay where they are."""

    moved_by: ClassVar[str] = "random"
    random: dict[Axis, AccelerationDensity]


class Coherence(Strict):
    """How two of the sources (directions, groups with theirs, loads) go together.

    Coherence γ² from 0 to 1, and a phase of the first.
    """

    between: tuple[str, str]
    coherence: Number = Field(ge=0.0, le=1.0)
    phase: Angle = 0.0


class Fatigue(Strict):
    """An S-N line: amplitude^slope × cycles is constant; with a point of it (amplitude, cycles) damage is told."""

    slope: Number = Field(ge=1.0, le=30.0)
    amplitude: quantity_field("stress", above=0.0) | None = None  # type: ignore[valid-type]
    cycles: quantity_field("number", above=0.0) | None = None  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _both(self) -> Self:
        if (self.amplitude is None) != (self.cycles is None):
            raise complaint("a point of the S-N line takes an amplitude and its cycles")
        return self


class RandomEvent(ModalEvent):
    """Stationary random vibration: of the base along directions (`random`), and by `loads`.

    `support densities`, in place of `random`: groups of supports that move differently, the others at rest.
    Sources are independent but for their `coherence`. `times`: how many RMS are told as the peak (a quantity that is no
    Gaussian has the value that it exceeds as rarely). `duration`: for expected largest values, cycles and damage.
    `peak: expected largest` tells the mean of the largest over the duration in place of so many RMS; limits go by it.
    """

    kind: ClassVar[str] = "random"
    words: ClassVar[str] = "random vibration (random)"
    groups_by: ClassVar[str] = "support densities"
    told_by: ClassVar[tuple[str, ...]] = ("random", "support_densities")

    random: dict[Axis, AccelerationDensity] = {}
    support_densities: dict[str, SupportDensities] | None = None
    loads: dict[names_of("loads"), LoadDensity] | None = None  # type: ignore[valid-type]
    coherence: tuple[Coherence, ...] = ()
    static_correction: bool = True
    peak: Literal["times rms", "expected largest"] = "times rms"
    times: quantity_field("number", above=0.0) = 3.0  # type: ignore[valid-type]
    duration: Time | None = None
    fatigue: Fatigue | None = None

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if not (self.random or self.support_densities or self.loads):
            raise complaint("nothing shakes the assembly: give random (z: a density) or loads (densities of factors)")
        each_moves_with_one_group("support densities", (g.supports for g in (self.support_densities or {}).values()))
        if self.fatigue is not None and self.duration is None:
            raise complaint("fatigue needs a duration")
        if self.peak == "expected largest":
            self.has_no_effect(self.model_fields_set, ("times",), "with peak: expected largest")
            if self.duration is None:
                raise complaint("peak: expected largest needs a duration")
        if self.times > 5.5:
            raise complaint(f"times: {self.times:g} RMS are exceeded less than once in 10^7; give at most 5.5")
        names = self.sources
        seen = set()
        for c in self.coherence:
            unknown = [n for n in c.between if n not in names]
            if unknown:
                raise complaint(f'coherence: "{unknown[0]}" is no source here; they are {", ".join(names)}')
            if c.between[0] == c.between[1] or frozenset(c.between) in seen:
                raise complaint(f"coherence between {' and '.join(c.between)}: each pair of two sources once")
            seen.add(frozenset(c.between))
        self._possible(len(names))
        return self

    def _possible(self, count: int) -> None:
        """Refuse coherences that cannot be together: as of a with b, and b with c, but not a with c."""
        import numpy as np

        if count > 2 and np.linalg.eigvalsh(self.coherence_matrix()).min() < -1e-9:
            raise complaint("coherence: these pairs cannot all be so; sources that go with a third go with each other")

    def coherence_matrix(self) -> "NDArray[Any]":
        """√coherence with its phase of every two sources, complex, shape (sources, sources)."""
        import numpy as np

        names = self.sources
        matrix = np.eye(len(names), dtype=complex)
        for c in self.coherence:
            i, j = (names.index(n) for n in c.between)
            matrix[i, j] = np.sqrt(c.coherence) * np.exp(1j * c.phase)
            matrix[j, i] = np.conj(matrix[i, j])
        return matrix

    @property
    def axes(self) -> tuple[str, ...]:
        """Directions in which the whole base moves."""
        return tuple(str(d) for d in self.random)

    @property
    def sources(self) -> tuple[str, ...]:
        """Directions of the base, groups of supports with theirs (`left z`), loads."""
        return (*self.axes, *self.group_columns, *self.load_names)

    @property
    def moving(self) -> dict[str, tuple[tuple[str, ...], tuple[str, ...]]]:
        """Supports and directions of every group that moves by itself."""
        return {g: (own.supports, tuple(map(str, own.random))) for g, own in (self.support_densities or {}).items()}

    @property
    def load_names(self) -> tuple[str, ...]:
        """Loads that act."""
        return tuple(self.loads or ())
