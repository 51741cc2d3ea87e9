"""Signals in time: shapes, tables, files."""

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal, NamedTuple, Self

from pydantic import BeforeValidator, Field, ValidationInfo, WithJsonSchema, model_validator

from holokine.describe.events.columns import list_of
from holokine.describe.fields import (
    FileName,
    Frequency,
    Number,
    Strict,
    Time,
    complaint,
    quantity_field,
    quantity_schema,
)
from holokine.errors import UnitError
from holokine.units import UnitSystem, quantity

__all__ = ["Amplitude", "PulseShape", "SignalTable"]


class Amplitude(NamedTuple):
    """Peak of a signal: acceleration, velocity or displacement in SI by its unit, or a plain number.

    A bare number is an acceleration in the declared units where the base moves, and a factor on a load.
    """

    of: Literal["acceleration", "velocity", "displacement"]
    value: float
    plain: float | None


def _amplitude(value: Any, info: ValidationInfo) -> Amplitude:
    if isinstance(value, Amplitude):
        return value
    units = (info.context or {}).get("units") or UnitSystem()
    try:
        plain: float | None = quantity(value, "number")
    except UnitError:
        plain = None
    errors = []
    for of in ("acceleration", "velocity", "displacement"):
        try:
            return Amplitude(of, quantity(value, of, units), plain)  # type: ignore[arg-type]
        except UnitError as err:
            errors.append(str(err))
            if plain is not None:
                break
    if plain is not None:  # a percentage
        return Amplitude("acceleration", float("nan"), plain)
    raise complaint(f"expected an acceleration, or a velocity or displacement of the base: {errors[0]}", "unit")


Peaked = Annotated[
    Amplitude | None,
    BeforeValidator(_amplitude),
    WithJsonSchema(quantity_schema("acceleration, velocity, displacement")),
]


class Signal(Strict):
    """What all shapes have: a peak (1 for loads where left out) and a start time."""

    peak: Peaked = None
    start: quantity_field("time", least=0.0) = 0.0  # type: ignore[valid-type]


class Peak(Signal):
    """A pulse of one lobe: peak acceleration, duration, optional start time."""

    duration: Time


class Step(Signal):
    """A value that is reached and kept: at once, or over a rise (half a cosine for a step, straight for a ramp)."""

    rise: quantity_field("time", least=0.0) = 0.0  # type: ignore[valid-type]


class Chirp(Signal):
    """A sine whose frequency runs from one to another, evenly in time (linear) or in octaves (logarithmic)."""

    range: tuple[Frequency, Frequency]
    duration: Time
    sweep: Literal["linear", "logarithmic"] = "logarithmic"
    window: Literal["none", "half sine", "hann"] = "none"

    @model_validator(mode="after")
    def _runs(self) -> Self:
        if self.range[0] == self.range[1]:
            raise complaint("a chirp needs two different frequencies; for one frequency take sine")
        if self.range[0] * self.duration > 1e4 or self.range[1] * self.duration > 1e4:
            raise complaint("a chirp of more than ten thousand cycles is too long here: shorten it")
        return self


class Trapezoid(Peak):
    """A flat top between a linear rise and a linear fall."""

    rise: Time
    fall: Time

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.rise + self.fall > self.duration * (1 + 1e-12):
            raise complaint("rise and fall together are longer than the duration")
        return self


class Sine(Signal):
    """A whole number of sine cycles, plain or under a window that begins and ends at zero."""

    frequency: Frequency
    cycles: int = Field(ge=1, le=1000)
    window: Literal["none", "half sine", "hann", "ramp"] = "none"
    ramp: int = Field(default=2, ge=1)

    @model_validator(mode="after")
    def _ramps(self) -> Self:
        if self.window == "ramp" and 2 * self.ramp > self.cycles:
            raise complaint(f"ramps of {self.ramp} cycles at both ends need {2 * self.ramp} cycles at least")
        if "ramp" in self.model_fields_set and self.window != "ramp":
            raise complaint("ramp (cycles) belongs to window: ramp")
        return self


class DecayingSine(Signal):
    """A sine that starts at zero and decays with a damping ratio, followed until it is down to a thousandth."""

    frequency: Frequency
    damping: quantity_field("number", above=0.0)  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _decays(self) -> Self:
        if not 1e-3 <= self.damping < 1.0:
            raise complaint("the damping of a decaying sine lies from 0.1 % to below 100 %")
        return self


class SignalTable(Strict):
    """Points in time against one quantity, linear between them and zero outside: of the base, or a load's factor."""

    time: list_of("time")  # type: ignore[valid-type]
    acceleration: list_of("acceleration") | None = None  # type: ignore[valid-type]
    velocity: list_of("velocity") | None = None  # type: ignore[valid-type]
    displacement: list_of("displacement") | None = None  # type: ignore[valid-type]
    factor: list_of("number") | None = None  # type: ignore[valid-type]

    @property
    def column(self) -> str:
        """Which quantity it gives."""
        return next(n for n in ("acceleration", "velocity", "displacement", "factor") if getattr(self, n) is not None)

    @model_validator(mode="after")
    def _rows(self) -> Self:
        names = ("acceleration", "velocity", "displacement", "factor")
        self.exactly_one({n: getattr(self, n) for n in names}, "a signal's table")
        values = getattr(self, self.column)
        if len(self.time) != len(values):
            raise complaint(f"the columns have {len(self.time)} and {len(values)} values")
        if len(self.time) < 2:
            raise complaint("a pulse table needs at least two points")
        times: tuple[float, ...] = self.time
        for row, (a, b) in enumerate(pairwise(times), start=2):
            if b < a:
                raise complaint(f"row {row}: the time goes back from {a:g} s to {b:g} s")
        return self


class PulseShape(Strict):
    """A signal in time: one shape, a table, or a CSV file (a bare text), scaled and delayed."""

    shorthand: ClassVar[str | None] = "file"
    half_sine: Peak | None = None
    rectangle: Peak | None = None
    triangle: Peak | None = None
    versed_sine: Peak | None = None
    terminal_peak_sawtooth: Peak | None = None
    initial_peak_sawtooth: Peak | None = None
    trapezoid: Trapezoid | None = None
    sine: Sine | None = None
    decaying_sine: DecayingSine | None = None
    chirp: Chirp | None = None
    step: Step | None = None
    ramp: Step | None = None
    sum: "tuple[PulseShape, ...] | None" = None
    table: SignalTable | None = None
    file: FileName | None = None
    column: str | None = None
    scale: Number = 1.0
    delay: quantity_field("time", least=0.0) = 0.0  # type: ignore[valid-type]

    @property
    def shape(self) -> str:
        """Which shape it has."""
        return next(n for n in SHAPES if getattr(self, n) is not None)

    @model_validator(mode="after")
    def _one(self) -> Self:
        if self.sum is not None and not self.sum:
            raise complaint("a sum needs one pulse at least")
        self.exactly_one({n: getattr(self, n) for n in SHAPES}, "a pulse has one shape")
        if self.column is not None and self.file is None:
            raise complaint("column (a header) belongs to a file")
        if self.ramp is not None and self.ramp.rise <= 0:
            raise complaint("a ramp needs a rise greater than 0 s")
        return self


SHAPES = (
    "half_sine", "rectangle", "triangle", "versed_sine", "terminal_peak_sawtooth", "initial_peak_sawtooth",
    "trapezoid", "sine", "decaying_sine", "chirp", "step", "ramp", "sum", "table", "file",
)  # fmt: skip
