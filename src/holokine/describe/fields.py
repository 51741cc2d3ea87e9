"""Field types of the schema: quantities with units, vectors, directions, and the strict base model."""

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from typing import Annotated, Any, ClassVar, Literal, get_args, get_origin

from pydantic import BaseModel, BeforeValidator, ConfigDict, ValidationInfo, WithJsonSchema, model_validator
from pydantic_core import PydanticCustomError

from holokine.errors import UnitError, nearest_hint, shown
from holokine.units import UnitSystem, quantity, refuse_impossible

__all__ = [
    "DIRECTIONS",
    "NAMES_OR_TABLE",
    "ONE_OR_MORE",
    "one_or_more",
    "FileName",
    "Names",
    "NamesFile",
    "names_of",
    "Acceleration",
    "Angle",
    "Area",
    "AreaMass",
    "Around",
    "Axis",
    "Density",
    "Direction",
    "Expansion",
    "Force",
    "ForcePerLength",
    "Frequency",
    "Inertia",
    "Length",
    "LengthVector",
    "LossFactor",
    "Number",
    "PositiveLength",
    "ProductMoment",
    "Ratio",
    "SecondMoment",
    "Stress",
    "Strict",
    "TemperatureChange",
    "Time",
    "UNIT_VECTOR_SCHEMA",
    "UnitVector",
    "by_direction",
    "complaint",
    "quantity_field",
    "unit_vector",
]


@dataclass(frozen=True)
class Names:
    """Marks a field (or a key) that names an entry of one of these tables of the description.

    `also`: words that stand for something else here. `kind`: of an event, where only one kind will do.
    """

    tables: tuple[str, ...]
    also: tuple[str, ...] = ()
    kind: str = ""

    @property
    def words(self) -> str:
        """The tables in words."""
        if self.kind:
            return f"{self.kind} events"
        return " and ".join([", ".join(self.tables[:-1]), self.tables[-1]]) if len(self.tables) > 1 else self.tables[0]


@dataclass(frozen=True)
class NamesFile:
    """Marks a field that names a file, whose contents belong to what is described."""


def names_of(*tables: str, also: tuple[str, ...] = (), kind: str = "") -> Any:
    """Annotation of a text that names an entry of `tables`."""
    return Annotated[str, Names(tables, also, kind)]


FileName = Annotated[str, NamesFile()]

Direction = Literal["x", "y", "z", "rx", "ry", "rz"]
DIRECTIONS: tuple[str, ...] = get_args(Direction)
Axis = Literal["x", "y", "z"]
_AXES = {"x": (1.0, 0.0, 0.0), "y": (0.0, 1.0, 0.0), "z": (0.0, 0.0, 1.0)}


def complaint(text: str, kind: str = "description") -> PydanticCustomError:
    """A validation error whose text is shown as it stands (`kind` chooses the exception raised)."""
    return PydanticCustomError(kind, "{text}", {"text": text})


def _units(info: ValidationInfo) -> UnitSystem:
    context = info.context or {}
    return context.get("units") or UnitSystem()


def _read(value: Any, dimension: str, info: ValidationInfo, least: float | None, strict: bool) -> float:
    try:
        number = quantity(value, dimension, _units(info), unbounded=True)
        if least is not None and (number < least or (strict and number == least)):
            word = "greater than" if strict else "at least"
            raise complaint(f"must be {word} {least:g}, got {value}")
        # rounding leaves tiny differences of what may be negative too; sizes are not tiny
        refuse_impossible(number, value, dimension, tiny=least is not None)
    except UnitError as err:
        raise complaint(str(err), "unit") from None
    return number


def quantity_field(
    dimension: str, *, above: float | None = None, least: float | None = None, most: float | None = None
) -> Any:
    """Annotation of a float field read with units of `dimension`, with optional bounds (SI)."""

    def read(value: Any, info: ValidationInfo) -> float:
        bound = above if above is not None else least
        number = _read(value, dimension, info, bound, above is not None)
        if most is not None and number > most:
            raise complaint(f"must be at most {most:g}, got {shown(value)}")
        return number

    return Annotated[float, BeforeValidator(read), WithJsonSchema(quantity_schema(dimension))]


def quantity_schema(dimension: str) -> dict[str, Any]:
    """JSON schema of a quantity: a bare number, or a text with a unit."""
    return {"type": ["number", "string"], "description": f"{dimension}: a number, or a text with a unit"}


def _around(value: Any, info: ValidationInfo) -> float:
    number = _read(value, "angle", info, None, False)
    if not 0.0 < abs(number) <= 2.0 * math.pi * (1.0 + 1e-9):
        raise complaint(f"goes around by more than nothing and by at most 360 deg, got {shown(value)}")
    return number


Around = Annotated[float, BeforeValidator(_around), WithJsonSchema(quantity_schema("angle"))]


def _loss_factor(value: Any, info: ValidationInfo) -> float:
    number = _read(value, "number", info, 0.0, False)
    if number >= 2.0:
        raise complaint(f"a loss factor of {number:g} is more than any material has; did you mean {number:g} %?")
    return number


LossFactor = Annotated[float, BeforeValidator(_loss_factor), WithJsonSchema(quantity_schema("number"))]
_KELVIN = re.compile(r"^\s*([-+0-9.eE]+)\s*(?:K|°C|degC|C|kelvin)?\s*$")
_PER_KELVIN = re.compile(r"^\s*([-+0-9.eE]+)\s*(?:1?/(?:K|°C|degC|C)|(?:um|µm)/(?:\(?m K\)?|m/K)|ppm/K|)\s*$")


def _temperature(value: Any) -> float:
    """A change of temperature in K."""
    return _matched(value, _KELVIN, "a change of temperature, such as 40 K")[0]


def _expansion(value: Any) -> float:
    """A coefficient of thermal expansion in 1/K."""
    number, text = _matched(value, _PER_KELVIN, "a coefficient of expansion, such as 12e-6 1/K or 12 um/m/K")
    found = number * (1e-6 if any(u in text for u in ("um", "µm", "ppm")) else 1.0)
    if not -1e-3 < found < 1e-3:
        raise complaint(f"an expansion of {found:g} per K is more than any solid has; did you mean {1e-6 * found:g}?")
    return found


def _matched(value: Any, pattern: re.Pattern[str], what: str) -> tuple[float, str]:
    found = pattern.match(str(value))
    try:
        number = float(found.group(1)) if found and not isinstance(value, bool) else math.nan
    except ValueError:
        number = math.nan
    if not math.isfinite(number):
        raise complaint(f"expected {what}, got {shown(value)}", "unit")
    return number, str(value)


TemperatureChange = Annotated[
    float, BeforeValidator(_temperature), WithJsonSchema(quantity_schema("change of temperature"))
]
Expansion = Annotated[float, BeforeValidator(_expansion), WithJsonSchema(quantity_schema("1/K"))]
Number = quantity_field("number")
Ratio = quantity_field("number", least=0.0)
Length = quantity_field("length")
PositiveLength = quantity_field("length", above=0.0)
Area = quantity_field("area", above=0.0)
Stress = quantity_field("stress", above=0.0)
Density = quantity_field("density", least=0.0)
Inertia = quantity_field("inertia")
Time = quantity_field("time", above=0.0)
Frequency = quantity_field("frequency", above=0.0)
Force = quantity_field("force")
Acceleration = quantity_field("acceleration")
Angle = quantity_field("angle")
Gap = quantity_field("length", least=0.0)
AreaMass = quantity_field("mass per area", least=0.0)
ForcePerLength = quantity_field("force per length")
SecondMoment = quantity_field("second moment of area", above=0.0)
ProductMoment = quantity_field("second moment of area")


def _length_vector(value: Any, info: ValidationInfo) -> tuple[float, float, float]:
    if isinstance(value, str) or not isinstance(value, Sequence | tuple) or len(value) != 3:
        if hasattr(value, "tolist"):
            return _length_vector(value.tolist(), info)
        raise complaint(f"expected three lengths [x, y, z], got {shown(value)}")
    return tuple(_read(v, "length", info, None, False) for v in value)  # type: ignore[return-value]


def vector_schema(dimension: str) -> dict[str, Any]:
    """JSON schema of three quantities."""
    return {"type": "array", "items": quantity_schema(dimension), "minItems": 3, "maxItems": 3}


def by_direction(dimension: str) -> Any:
    """JSON schema of quantities by direction: a list, or ``{x: ...}``."""
    one = quantity_schema(dimension)
    return WithJsonSchema({"anyOf": [{"type": "array", "items": one}, {"type": "object", "additionalProperties": one}]})


ONE_OR_MORE = WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]})
"""JSON schema of a name, or a list of them."""

NAMES_OR_TABLE = WithJsonSchema(
    {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}, {"type": "object"}]}
)
"""JSON schema of a name, a list of them, or a table of keys."""


def one_or_more(value: Any) -> Any:
    """A list as it is; a single name as a list of one."""
    return (value,) if isinstance(value, str) else value


LengthVector = Annotated[
    tuple[float, float, float], BeforeValidator(_length_vector), WithJsonSchema(vector_schema("length"))
]


def unit_vector(value: Any) -> tuple[float, float, float]:
    """An axis name (``z``, ``-z``) or three numbers, as a vector of length one."""
    if isinstance(value, str):
        name = value.strip().lower()
        sign = -1.0 if name.startswith("-") else 1.0
        key = name.lstrip("+-")
        if key not in _AXES:
            raise complaint(f'expected an axis x, y, z (or -x, -y, -z) or three numbers, got "{value}"')
        return tuple(sign * c for c in _AXES[key])  # type: ignore[return-value]
    try:
        numbers = [float(v) for v in value]
    except (TypeError, ValueError):
        raise complaint(f"expected an axis x, y, z or three numbers, got {shown(value)}") from None
    size = math.hypot(*numbers)
    if len(numbers) != 3 or not math.isfinite(size) or size == 0.0:
        raise complaint(f"expected three numbers that are not all zero, got {shown(value)}")
    return tuple(n / size for n in numbers)  # type: ignore[return-value]


UNIT_VECTOR_SCHEMA: dict[str, Any] = {
    "anyOf": [{"enum": [s + a for a in "xyz" for s in ("", "-", "+")]}, vector_schema("direction cosines")]
}
UnitVector = Annotated[tuple[float, float, float], BeforeValidator(unit_vector), WithJsonSchema(UNIT_VECTOR_SCHEMA)]


@cache
def _words_of(model: type[BaseModel]) -> dict[str, dict[str, str]]:
    """By field: its words in small letters, so that CQC is cqc."""
    found = {}
    for name, field in model.model_fields.items():
        parts = [field.annotation, *get_args(field.annotation)]
        words = [w for part in parts if get_origin(part) is Literal for w in get_args(part) if isinstance(w, str)]
        if words:
            found[name] = {w.lower(): w for w in words}
    return found


class Strict(BaseModel):
    """Base of all parts of the description: unknown keys are errors that name the nearest known one.

    Keys may be written with spaces (``half sine``, as in files) or underscores (``half_sine``, as in calls).
    """

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)
    shorthand: ClassVar[str | None] = None
    """Name of the field that a bare (non-mapping) value stands for."""
    shorthand_lists: ClassVar[tuple[str, ...]] = ()
    """And those that a bare list stands for (see `bare`)."""
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {}
    """By stage: fields that it does not depend on, though it reads the others (see `stages`)."""
    whether: ClassVar[frozenset[str]] = frozenset()
    """Of those, fields of which it still matters whether they are zero."""

    @model_validator(mode="before")
    @classmethod
    def _known_keys(cls, data: Any) -> Any:
        if isinstance(data, cls):
            return data
        if not isinstance(data, Mapping):
            bare = cls.bare(data)
            if bare is not None and data is not None:
                return {bare: data.tolist() if hasattr(data, "tolist") else data}
            keys = ", ".join(_spoken(n) for n in cls.model_fields)
            got = "nothing" if data is None else repr(data)
            raise complaint(f"expected keys and values (keys: {keys}), got {got}")
        result = {}
        for key, value in data.items():
            name = str(key).strip().replace(" ", "_").replace("-", "_")
            if name not in cls.model_fields:
                known = [_spoken(n) for n in cls.model_fields]
                words = f'unknown key "{key}". {nearest_hint(str(key), known, "keys here")}'
                raise PydanticCustomError("key", "{text}", {"text": words, "key": key})
            if name in result:
                raise complaint(f'the key "{_spoken(name)}" is given twice')
            result[name] = _words_of(cls).get(name, {}).get(value.lower(), value) if isinstance(value, str) else value
        return result

    @classmethod
    def bare(cls, value: Any) -> str | None:
        """Name of the field that a bare value stands for."""
        return cls.shorthand

    @classmethod
    def exactly_one(cls, given: Mapping[str, Any], what: str) -> None:
        """Raise unless exactly one of `given` is not None."""
        present = [_spoken(k) for k, v in given.items() if v is not None]
        if len(present) != 1:
            names = ", ".join(_spoken(k) for k in given)
            got = "none" if not present else " and ".join(present)
            raise complaint(f"{what}: give exactly one of {names} (got {got})")

    @classmethod
    def has_no_effect(cls, given: set[str], names: tuple[str, ...], when: str) -> None:
        """Raise for options that were given where they do nothing."""
        idle = [_spoken(n) for n in names if n in given]
        if idle:
            raise complaint(f"{' and '.join(idle)} {'have' if len(idle) > 1 else 'has'} no effect {when}")

    @classmethod
    def __get_pydantic_json_schema__(cls, core: Any, handler: Any) -> dict[str, Any]:
        """Keys as files write them, and the bare value that may stand for the whole."""
        schema = handler.resolve_ref_schema(handler(core))
        schema["properties"] = {_spoken(k): v for k, v in schema.get("properties", {}).items()}
        if "required" in schema:
            schema["required"] = [_spoken(k) for k in schema["required"]]
        schema.pop("title", None)
        if cls.shorthand is None:
            return dict(schema)
        bare = [schema["properties"][_spoken(n)] for n in (cls.shorthand, *cls.shorthand_lists)]
        return {"anyOf": [schema, *bare], "description": schema.get("description", "")}


def _spoken(name: str) -> str:
    return name.replace("_", " ")
