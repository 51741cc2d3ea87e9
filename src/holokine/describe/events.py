"""Events: what happens to the assembly (response spectra, base pulses)."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal, NamedTuple

from pydantic import BeforeValidator, Field, ValidationInfo, model_validator

from holokine.describe.fields import (
    Acceleration,
    Axis,
    Frequency,
    Number,
    PositiveLength,
    Ratio,
    Strict,
    Time,
    complaint,
    quantity_field,
)
from holokine.describe.loads import Names, length_vector
from holokine.errors import UnitError
from holokine.units import UnitSystem, quantity

__all__ = ["Amplitude", "Event", "PulseShape", "SignalTable", "SpectrumTable", "SupportSpectra"]


def _column(dimension: str, *, positive: bool = False) -> Any:
    def read(value: Any, info: ValidationInfo) -> tuple[float, ...]:
        units = (info.context or {}).get("units") or UnitSystem()
        if hasattr(value, "tolist"):
            value = value.tolist()
        if not isinstance(value, list | tuple) or len(value) < 1:
            raise complaint(f"expected a list of values, got {value!r}")
        result = []
        for number, entry in enumerate(value, start=1):
            try:
                result.append(quantity(entry, dimension, units))
            except UnitError as err:
                raise complaint(f"value {number}: {err}", "unit") from None
            if positive and result[-1] <= 0:
                raise complaint(f"value {number}: must be greater than 0, got {entry}")
        return tuple(result)

    return Annotated[tuple[float, ...], BeforeValidator(read)]


Frequencies = _column("frequency", positive=True)
Periods = _column("time", positive=True)
Times = _column("time")


Interpolation = Literal["log-log", "semi-log", "linear"]
Outside = Literal["error", "hold", "zero"]


class Corners(Strict):
    """A spectrum of constant displacement, velocity and acceleration, whichever is least, over a range."""

    range: tuple[Frequency, Frequency]
    displacement: PositiveLength | None = None
    velocity: quantity_field("velocity", above=0.0) | None = None  # type: ignore[valid-type]
    acceleration: quantity_field("acceleration", above=0.0) | None = None  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _some(self) -> Corners:
        if self.displacement is None and self.velocity is None and self.acceleration is None:
            raise complaint("give displacement, velocity or acceleration, or several of them")
        if self.range[0] >= self.range[1]:
            raise complaint("the range must rise")
        return self


def _ratio_keys(value: Any) -> Any:
    """Damping levels may be written ``2 %``."""
    if not isinstance(value, dict):
        return value
    result = {}
    for key, item in value.items():
        try:
            ratio = quantity(key, "number")
        except UnitError as err:
            raise complaint(f"damping level: {err}", "unit") from None
        if not 0.0 <= ratio < 1.0:
            raise complaint(f"a damping level lies between 0 and 100 %, got {key}")
        if ratio in result:
            raise complaint(f"the damping level {key} stands twice")
        result[ratio] = item
    return result


class SpectrumTable(Strict):
    """A response spectrum: frequency or period against acceleration, velocity or displacement.

    A bare text is the name of a CSV file, beside the assembly file.
    """

    shorthand: ClassVar[str | None] = "file"
    file: str | None = None
    text: str | None = None
    frequency: Frequencies | None = None  # type: ignore[valid-type]
    period: Periods | None = None  # type: ignore[valid-type]
    acceleration: _column("acceleration") | None = None  # type: ignore[valid-type]
    velocity: _column("velocity") | None = None  # type: ignore[valid-type]
    displacement: _column("displacement") | None = None  # type: ignore[valid-type]
    scale: Number = 1.0
    damping: Ratio | None = None
    corners: Corners | None = None
    envelope: tuple[SpectrumTable, ...] | None = None
    levels: Annotated[dict[float, SpectrumTable], BeforeValidator(_ratio_keys)] | None = None
    broaden: quantity_field("number", least=0.0) = 0.0  # type: ignore[valid-type]
    floor: quantity_field("acceleration", least=0.0) = 0.0  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _columns(self) -> SpectrumTable:
        inline = {n: getattr(self, n) for n in ("acceleration", "velocity", "displacement")}
        if self.broaden >= 1.0:
            raise complaint("a spectrum is broadened by less than 100 %")
        made = {n: getattr(self, n) for n in ("corners", "envelope", "levels") if getattr(self, n) is not None}
        if made:
            given = [self.file, self.text, self.frequency, self.period, *inline.values()]
            if len(made) > 1 or any(v is not None for v in given):
                raise complaint("give one of: a file, columns, corners, envelope, levels")
            if self.levels is not None and (len(self.levels) < 2 or self.damping is not None):
                raise complaint("levels need two damping ratios at least, and no other damping")
            if self.envelope is not None and len(self.envelope) < 1:
                raise complaint("an envelope needs one spectrum at least")
            return self
        if self.file is not None or self.text is not None:
            other = self.text if self.file is not None else None
            if any(v is not None for v in (*inline.values(), self.frequency, self.period, other)):
                raise complaint("give a file, a text or columns, only one of them")
            return self
        self.exactly_one({"frequency": self.frequency, "period": self.period}, "a spectrum's first column")
        self.exactly_one(inline, "a spectrum's second column")
        first = self.frequency or self.period or ()
        second = next(v for v in inline.values() if v is not None)
        if len(first) != len(second):
            raise complaint(f"the columns have {len(first)} and {len(second)} values")
        if len(first) < 2:
            raise complaint("a spectrum needs at least two points")
        return self


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


Peaked = Annotated[Amplitude | None, BeforeValidator(_amplitude)]


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
    def _runs(self) -> Chirp:
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
    def _fits(self) -> Trapezoid:
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
    def _ramps(self) -> Sine:
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
    def _decays(self) -> DecayingSine:
        if not 1e-3 <= self.damping < 1.0:
            raise complaint("the damping of a decaying sine lies from 0.1 % to below 100 %")
        return self


class SignalTable(Strict):
    """Points in time against one quantity, linear between them and zero outside: of the base, or a load's factor."""

    time: Times  # type: ignore[valid-type]
    acceleration: _column("acceleration") | None = None  # type: ignore[valid-type]
    velocity: _column("velocity") | None = None  # type: ignore[valid-type]
    displacement: _column("displacement") | None = None  # type: ignore[valid-type]
    factor: _column("number") | None = None  # type: ignore[valid-type]

    @property
    def column(self) -> str:
        """Which quantity it gives."""
        return next(n for n in ("acceleration", "velocity", "displacement", "factor") if getattr(self, n) is not None)

    @model_validator(mode="after")
    def _rows(self) -> SignalTable:
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
    sum: tuple[PulseShape, ...] | None = None
    table: SignalTable | None = None
    file: str | None = None
    column: str | None = None
    scale: Number = 1.0
    delay: quantity_field("time", least=0.0) = 0.0  # type: ignore[valid-type]

    @property
    def shape(self) -> str:
        """Which shape it has."""
        return next(n for n in SHAPES if getattr(self, n) is not None)

    @model_validator(mode="after")
    def _one(self) -> PulseShape:
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


class SupportSpectra(Strict):
    """A group of supports with its own spectra, and the most by which it may move from the others."""

    supports: Names
    spectrum: dict[Axis, SpectrumTable]
    displacement: length_vector = (0.0, 0.0, 0.0)  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _some(self) -> SupportSpectra:
        if not self.supports or not self.spectrum:
            raise complaint("a group of supports needs supports and a spectrum")
        for axis, size in zip("xyz", self.displacement, strict=True):
            if size and axis not in self.spectrum:
                raise complaint(f"a displacement along {axis} needs a spectrum along {axis} too")
        return self


def _static(value: Any) -> Any:
    """A load, a list of loads, or loads with factors."""
    if isinstance(value, str):
        return {value: 1.0}
    if isinstance(value, list | tuple):
        return dict.fromkeys(value, 1.0)
    return value


def _ring_down(value: Any, info: ValidationInfo) -> float | tuple[float]:
    """A time in s, or the share that is left of the motion as a 1-tuple."""
    units = (info.context or {}).get("units") or UnitSystem()
    if isinstance(value, tuple):
        return value
    if isinstance(value, str) and "%" in value:
        share = quantity(value, "number")
        if not 0.0 < share < 1.0:
            raise complaint(f"ring down to between 0 and 100 %, or give a time; got {value}")
        return (share,)
    try:
        time = quantity(value, "time", units)
    except UnitError as err:
        raise complaint(f"a time, or what is left of the motion in percent: {err}", "unit") from None
    if not time > 0:
        raise complaint(f"must be greater than 0, got {value}")
    return time


class Event(Strict):
    """What happens to the assembly.

    A response spectrum by direction (`spectrum`), or by groups of supports (`support_spectra`); a base pulse in time
    by direction (`pulse`) and loads in time (`loads`); or loads at rest (`static`).
    """

    spectrum: dict[Axis, SpectrumTable] | None = None
    support_spectra: dict[str, SupportSpectra] | None = None
    pulse: dict[Axis, PulseShape] | None = None
    loads: dict[str, PulseShape] | None = None
    static: Annotated[dict[str, Number], BeforeValidator(_static)] | None = None
    combine: Literal["srss", "cqc", "absolute", "largest plus srss", "grouped", "double sum"] = "cqc"
    directions: Literal["srss", "absolute", "100-30-30", "100-40-40"] = "srss"
    over_supports: Literal["absolute", "srss", "algebraic"] = "absolute"
    over_displacement: Literal["absolute", "srss"] = "absolute"
    interpolate: Interpolation = "log-log"
    outside: Outside = "error"
    rigid_between: tuple[Frequency, Frequency] | None = None
    duration: Time = 10.0
    missing_mass: bool = True
    zero_period_acceleration: Acceleration | dict[Axis, Acceleration] | None = None
    static_correction: bool = True
    ring_down: Annotated[Any, BeforeValidator(_ring_down)] = None
    step: Time | None = None
    start_from: str | None = None
    let_go: str | None = None
    method: Literal["automatic", "modes", "coupled modes", "average acceleration", "generalised alpha"] = "automatic"
    model: Literal["reduced", "full"] = "reduced"
    high_frequency_damping: quantity_field("number", least=0.0) = 0.2  # type: ignore[valid-type]
    damping: Ratio | None = None
    upto: Frequency | None = None

    @model_validator(mode="after")
    def _one(self) -> Event:
        names = ("spectrum", "support_spectra", "static")
        time = self.pulse if self.pulse is not None else self.loads
        self.exactly_one({**{n: getattr(self, n) for n in names}, "pulse or loads": time}, "an event")
        if self.rigid_between is not None and self.rigid_between[0] >= self.rigid_between[1]:
            raise complaint("rigid between: the second frequency must be the higher one")
        acts = next(a for a in (self.spectrum, self.support_spectra, self.static, self.pulse or self.loads, {}) if a
                    is not None)  # fmt: skip
        if not acts:
            raise complaint("the event acts in no direction; directions are x, y, z")
        if self.high_frequency_damping > 1.0:
            raise complaint("high frequency damping lies from 0 (none) to 100 % (gone in one step)")
        named = [s for group in (self.support_spectra or {}).values() for s in group.supports]
        twice = next((s for s in named if named.count(s) > 1), None)
        if twice is not None:
            raise complaint(f'support spectra: the support "{twice}" is named twice; a support moves with one group')
        moving = self.kind == "pulse"
        for name in ("start_from", "let_go", "ring_down", "step"):
            if getattr(self, name) is not None and not moving:
                raise complaint(f"{name.replace('_', ' ')} belongs to events in time (pulse, loads)")
        if self.start_from is not None and self.let_go is not None:
            raise complaint("give start from (the load stays) or let go (the load is taken off), not both")
        if self.model == "full" and self.method not in ("average acceleration", "generalised alpha"):
            raise complaint(
                "model: full needs a method of direct integration (average acceleration, generalised alpha)"
            )
        return self

    @property
    def kind(self) -> str:
        """spectrum, pulse (anything in time) or static."""
        if self.static is not None:
            return "static"
        return "pulse" if self.pulse is not None or self.loads is not None else "spectrum"
