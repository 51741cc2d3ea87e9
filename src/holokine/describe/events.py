"""Events: what happens to the assembly (response spectra, base pulses)."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal

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
from holokine.errors import UnitError
from holokine.units import UnitSystem, quantity

__all__ = ["Event", "PulseShape", "SignalTable", "SpectrumTable"]


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


class Peak(Strict):
    """A pulse of one lobe: peak acceleration, duration, optional start time."""

    peak: Acceleration
    duration: Time
    start: Annotated[float, Field(ge=0)] | Any = 0.0

    @model_validator(mode="before")
    @classmethod
    def _start(cls, data: Any, info: ValidationInfo) -> Any:
        if isinstance(data, dict) and "start" in data:
            units = (info.context or {}).get("units") or UnitSystem()
            try:
                start = quantity(data["start"], "time", units)
            except UnitError as err:
                raise complaint(f"start: {err}", "unit") from None
            if start < 0:
                raise complaint(f"start: must be at least 0, got {data['start']}")
            return {**data, "start": start}
        return data


class Trapezoid(Peak):
    """A flat top between a linear rise and a linear fall."""

    rise: Time
    fall: Time

    @model_validator(mode="after")
    def _fits(self) -> Trapezoid:
        if self.rise + self.fall > self.duration * (1 + 1e-12):
            raise complaint("rise and fall together are longer than the duration")
        return self


class Sine(Strict):
    """A whole number of sine cycles, plain or under a window that begins and ends at zero."""

    peak: Acceleration
    frequency: Frequency
    cycles: int = Field(ge=1, le=1000)
    start: quantity_field("time", least=0.0) = 0.0  # type: ignore[valid-type]
    window: Literal["none", "half sine", "hann"] = "none"


class DecayingSine(Strict):
    """A sine that starts at zero and decays with a damping ratio, followed until it is down to a thousandth."""

    peak: Acceleration
    frequency: Frequency
    damping: quantity_field("number", above=0.0)  # type: ignore[valid-type]
    start: quantity_field("time", least=0.0) = 0.0  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _decays(self) -> DecayingSine:
        if not 1e-3 <= self.damping < 1.0:
            raise complaint("the damping of a decaying sine lies from 0.1 % to below 100 %")
        return self


class SignalTable(Strict):
    """A base acceleration by points in time, linear between them and zero outside."""

    time: Times  # type: ignore[valid-type]
    acceleration: _column("acceleration")  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _rows(self) -> SignalTable:
        if len(self.time) != len(self.acceleration):
            raise complaint(f"the columns have {len(self.time)} and {len(self.acceleration)} values")
        if len(self.time) < 2:
            raise complaint("a pulse table needs at least two points")
        times: tuple[float, ...] = self.time
        for row, (a, b) in enumerate(pairwise(times), start=2):
            if b < a:
                raise complaint(f"row {row}: the time goes back from {a:g} s to {b:g} s")
        return self


class PulseShape(Strict):
    """A base acceleration pulse: one shape, a table, or a CSV file (a bare text)."""

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
    sum: tuple[PulseShape, ...] | None = None
    table: SignalTable | None = None
    file: str | None = None
    scale: Number = 1.0

    @model_validator(mode="after")
    def _one(self) -> PulseShape:
        names = (
            "half_sine", "rectangle", "triangle", "versed_sine", "terminal_peak_sawtooth", "initial_peak_sawtooth",
            "trapezoid", "sine", "decaying_sine", "sum", "table", "file",
        )  # fmt: skip
        if self.sum is not None and not self.sum:
            raise complaint("a sum needs one pulse at least")
        self.exactly_one({n: getattr(self, n) for n in names}, "a pulse has one shape")
        return self


class Event(Strict):
    """A response spectrum (`spectrum`, by direction) or a base pulse in time (`pulse`, by direction)."""

    spectrum: dict[Axis, SpectrumTable] | None = None
    pulse: dict[Axis, PulseShape] | None = None
    combine: Literal["srss", "cqc", "absolute", "largest plus srss", "grouped", "double sum"] = "cqc"
    directions: Literal["srss", "absolute", "100-30-30", "100-40-40"] = "srss"
    interpolate: Interpolation = "log-log"
    outside: Outside = "error"
    rigid_between: tuple[Frequency, Frequency] | None = None
    duration: Time = 10.0
    missing_mass: bool = True
    zero_period_acceleration: Acceleration | dict[Axis, Acceleration] | None = None
    static_correction: bool = True
    ring_down: Time | None = None
    step: Time | None = None
    damping: Ratio | None = None
    upto: Frequency | None = None

    @model_validator(mode="after")
    def _one(self) -> Event:
        self.exactly_one({"spectrum": self.spectrum, "pulse": self.pulse}, "an event")
        if self.rigid_between is not None and self.rigid_between[0] >= self.rigid_between[1]:
            raise complaint("rigid between: the second frequency must be the higher one")
        acts = self.spectrum if self.spectrum is not None else self.pulse
        if not acts:
            raise complaint("the event acts in no direction; directions are x, y, z")
        return self

    @property
    def kind(self) -> str:
        return "spectrum" if self.spectrum is not None else "pulse"
