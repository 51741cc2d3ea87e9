"""Response spectra of the whole base, or of groups of supports."""

from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, model_validator

from holokine.describe.events.columns import list_of
from holokine.describe.events.kind import ModalEvent
from holokine.describe.fields import (
    Axis,
    FileName,
    Frequency,
    Number,
    PositiveLength,
    Ratio,
    Strict,
    Time,
    complaint,
    quantity_field,
)
from holokine.describe.loads import SupportGroup, each_moves_with_one_group, length_vector
from holokine.errors import UnitError
from holokine.units import quantity

__all__ = ["SpectrumEvent", "SpectrumTable", "SupportSpectra"]

Frequencies = list_of("frequency", positive=True)
Periods = list_of("time", positive=True)


Interpolation = Literal["log-log", "semi-log", "linear"]
Outside = Literal["error", "hold", "zero"]


class Corners(Strict):
    """A spectrum of constant displacement, velocity and acceleration, whichever is least, over a range."""

    range: tuple[Frequency, Frequency]
    displacement: PositiveLength | None = None
    velocity: quantity_field("velocity", above=0.0) | None = None  # type: ignore[valid-type]
    acceleration: quantity_field("acceleration", above=0.0) | None = None  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _some(self) -> Self:
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
    file: FileName | None = None
    text: str | None = None
    frequency: Frequencies | None = None  # type: ignore[valid-type]
    period: Periods | None = None  # type: ignore[valid-type]
    acceleration: list_of("acceleration") | None = None  # type: ignore[valid-type]
    velocity: list_of("velocity") | None = None  # type: ignore[valid-type]
    displacement: list_of("displacement") | None = None  # type: ignore[valid-type]
    scale: Number = 1.0
    damping: Ratio | None = None
    corners: Corners | None = None
    envelope: "tuple[SpectrumTable, ...] | None" = None
    levels: Annotated[dict[float, "SpectrumTable"], BeforeValidator(_ratio_keys)] | None = None
    broaden: quantity_field("number", least=0.0) = 0.0  # type: ignore[valid-type]
    floor: quantity_field("acceleration", least=0.0) = 0.0  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _columns(self) -> Self:
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


class SupportSpectra(SupportGroup):
    """A group of supports with its own spectra, and the most by which it may move from the others."""

    moved_by: ClassVar[str] = "spectrum"
    spectrum: dict[Axis, SpectrumTable]
    displacement: length_vector = (0.0, 0.0, 0.0)  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _moves(self) -> Self:
        for axis, size in zip("xyz", self.displacement, strict=True):
            if size and axis not in self.spectrum:
                raise complaint(f"a displacement along {axis} needs a spectrum along {axis} too")
        return self


_Size = quantity_field("acceleration", least=0.0)


class SpectrumEvent(ModalEvent):
    """A response spectrum by direction (`spectrum`), or by groups of supports (`support spectra`)."""

    kind: ClassVar[str] = "spectrum"
    words: ClassVar[str] = "response spectra (spectrum, support spectra)"
    told_by: ClassVar[tuple[str, ...]] = ("spectrum", "support_spectra")

    spectrum: dict[Axis, SpectrumTable] | None = None
    support_spectra: dict[str, SupportSpectra] | None = None
    combine: Literal["srss", "cqc", "absolute", "largest plus srss", "grouped", "double sum"] = "cqc"
    directions: Literal["srss", "absolute", "100-30-30", "100-40-40"] = "srss"
    over_supports: Literal["absolute", "srss", "algebraic"] = "absolute"
    over_displacement: Literal["absolute", "srss"] = "absolute"
    interpolate: Interpolation = "log-log"
    outside: Outside = "error"
    rigid_between: tuple[Frequency, Frequency] | None = None
    duration: Time = 10.0
    missing_mass: bool = True
    over_missing_mass: Literal["absolute", "srss"] | None = None
    zero_period_acceleration: _Size | dict[Axis, _Size] | None = None  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _sense(self) -> Self:
        given = self.model_fields_set
        acts = self.spectrum if self.spectrum is not None else self.support_spectra
        if not acts:
            raise complaint("the event acts in no direction; directions are x, y, z")
        if self.rigid_between is not None and self.rigid_between[0] >= self.rigid_between[1]:
            raise complaint("rigid between: the second frequency must be the higher one")
        if self.combine != "double sum":
            self.has_no_effect(given, ("duration",), "but with combine: double sum")
        if self.support_spectra is None:
            self.has_no_effect(given, ("over_supports", "over_displacement"), "without support spectra")
        elif not any(any(s.displacement) for s in self.support_spectra.values()):
            self.has_no_effect(given, ("over_displacement",), "where no group has a displacement")
        if not self.missing_mass:
            self.has_no_effect(given, ("zero_period_acceleration",), "with missing mass: false")
            if self.rigid_between is None:
                self.has_no_effect(given, ("over_missing_mass",), "with missing mass: false")
        each_moves_with_one_group(
            "support spectra", (group.supports for group in (self.support_spectra or {}).values())
        )
        return self

    @property
    def moving(self) -> dict[str, tuple[tuple[str, ...], tuple[str, ...]]]:
        """Supports and directions of every group that moves by itself."""
        return {g: (own.supports, tuple(map(str, own.spectrum))) for g, own in (self.support_spectra or {}).items()}

    @property
    def axes(self) -> tuple[str, ...]:
        """Directions of the whole base."""
        return tuple(str(d) for d in self.spectrum or ())
