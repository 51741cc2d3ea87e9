"""Events: what happens to the assembly (response spectra, base pulses)."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, Field, ValidationInfo, model_validator

from holokine.describe.fields import Acceleration, Axis, Frequency, Number, Ratio, Strict, Time, complaint
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


class SpectrumTable(Strict):
    """A response spectrum: frequency or period against acceleration, velocity or displacement.

    A bare text is the name of a CSV file, beside the assembly file.
    """

    shorthand: ClassVar[str | None] = "file"
    file: str | None = None
    frequency: Frequencies | None = None  # type: ignore[valid-type]
    period: Periods | None = None  # type: ignore[valid-type]
    acceleration: _column("acceleration") | None = None  # type: ignore[valid-type]
    velocity: _column("velocity") | None = None  # type: ignore[valid-type]
    displacement: _column("displacement") | None = None  # type: ignore[valid-type]
    scale: Number = 1.0

    @model_validator(mode="after")
    def _columns(self) -> SpectrumTable:
        inline = {n: getattr(self, n) for n in ("acceleration", "velocity", "displacement")}
        if self.file is not None:
            if any(v is not None for v in (*inline.values(), self.frequency, self.period)):
                raise complaint("give a file or columns, not both")
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
    table: SignalTable | None = None
    file: str | None = None
    scale: Number = 1.0

    @model_validator(mode="after")
    def _one(self) -> PulseShape:
        names = ("half_sine", "rectangle", "triangle", "table", "file")
        self.exactly_one({n: getattr(self, n) for n in names}, "a pulse has one shape")
        return self


class Event(Strict):
    """A response spectrum (`spectrum`, by direction) or a base pulse in time (`pulse`, by direction)."""

    spectrum: dict[Axis, SpectrumTable] | None = None
    pulse: dict[Axis, PulseShape] | None = None
    combine: Literal["srss", "cqc", "absolute"] = "cqc"
    directions: Literal["srss", "absolute"] = "srss"
    interpolate: Literal["log-log", "linear"] = "log-log"
    outside: Literal["error", "hold"] = "error"
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
        acts = self.spectrum if self.spectrum is not None else self.pulse
        if not acts:
            raise complaint("the event acts in no direction; directions are x, y, z")
        return self

    @property
    def kind(self) -> str:
        return "spectrum" if self.spectrum is not None else "pulse"
