"""A parameter: a place in the description, and the values that it is to take there.

Values are written as in the file, with their unit, so that a variant reads as if it had been typed.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from holokine.describe.walk import located
from holokine.errors import DescriptionError, UnitError, nearest_hint
from holokine.units import DIMENSIONS, UnitSystem, unit_factor

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["Parameter", "Spread", "number_in", "plain_number", "read_spread", "resolved", "with_value"]

Path = tuple[str | int, ...]
Kind = Literal["list", "range", "uniform", "normal", "lognormal"]
_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_QUANTITY = re.compile(rf"\s*(?P<number>{_NUMBER})\s*(?P<unit>.*?)\s*")
_RANGE = re.compile(rf"\s*(?P<low>{_NUMBER})\s*(?P<unit1>.*?)\s+to\s+(?P<high>{_NUMBER})\s*(?P<unit>.*?)\s*")
_STEPS = re.compile(r"\s+in\s+(?P<count>\d+)(?P<ratio>\s+by\s+ratio)?\s*$")
_DRAWN = re.compile(
    rf"\s*(?P<number>{_NUMBER})\s*(?P<unit1>.*?)\s*(?:±|\+-|\+/-)\s*(?P<by>{_NUMBER})\s*(?P<unit>.*?)\s*"
)
_KINDS = ("uniform", "normal", "lognormal")
MOST_VALUES = 100_000


@dataclass(frozen=True)
class Spread:
    """Values of a parameter: those of a list or range, or a distribution to draw from.

    Attributes
    ----------
    kind : str
    values : tuple
        Of a list or range, as they are written into the description.
    low, high : float
        Of a uniform distribution: its ends; of the others: mean and standard deviation.
    unit : str
    """

    kind: Kind
    values: tuple[Any, ...] = ()
    low: float = 0.0
    high: float = 0.0
    unit: str = ""

    @property
    def drawn(self) -> bool:
        """Whether values are drawn by chance."""
        return self.kind in _KINDS

    def at(self, probability: Floats) -> Floats:
        """Values that a distribution stays below with these probabilities."""
        from scipy.stats import norm

        if self.kind == "uniform":
            return np.asarray(self.low + (self.high - self.low) * probability)
        if self.kind == "normal":
            return np.asarray(self.low + self.high * norm.ppf(probability))
        spread = math.sqrt(math.log1p((self.high / self.low) ** 2))  # of the logarithm
        return np.asarray(np.exp(math.log(self.low) - spread**2 / 2 + spread * norm.ppf(probability)))

    def written(self, number: float) -> Any:
        """A number as it stands in the description."""
        return f"{number:.12g} {self.unit}" if self.unit else float(f"{number:.12g}")


@dataclass(frozen=True)
class Parameter:
    """A place in the description with a spread of values.

    Attributes
    ----------
    text : str
        The place as it was given.
    path : tuple
        Keys, and positions in lists from 0.
    spread : Spread
    linked : tuple of tuple
        Other places that take the same values.
    """

    text: str
    path: Path
    spread: Spread
    linked: tuple[Path, ...] = ()

    @property
    def paths(self) -> tuple[Path, ...]:
        """All places that take its values."""
        return (self.path, *self.linked)

    def write(self, data: Mapping[str, Any], change: dict[str, Any], value: Any) -> None:
        """Write a value into a change of the description, in all places (`with_value`)."""
        for path in self.paths:
            with_value(data, change, path, value)

    @property
    def unit(self) -> str:
        """Unit in which the values are written, where all have the same."""
        if self.spread.drawn or not self.spread.values:
            return self.spread.unit
        units = {number_of(v)[1] for v in self.spread.values if number_of(v) is not None}  # type: ignore[index]
        return units.pop() if len(units) == 1 else ""

    @property
    def name(self) -> str:
        """In short: the entry's name and the last key, such as ``deck thickness``."""
        steps = [f"item {s + 1}" if isinstance(s, int) else str(s).replace("_", " ") for s in self.path]
        return " ".join([steps[1], *steps[2:][-1:]]) if len(steps) > 1 else steps[0]

    def number(self, value: Any) -> float:
        """A value as a number, for figures and distances: its place in the list where it is a word."""
        found = number_of(value)
        if found is not None:
            return found[0]
        return float(self.spread.values.index(value)) if value in self.spread.values else math.nan


def number_of(value: Any) -> tuple[float, str] | None:
    """Number and unit of a value as written; None for a word."""
    if isinstance(value, bool) or value is None:
        return None
    if isinstance(value, int | float):
        return float(value), ""
    found = _QUANTITY.fullmatch(str(value))
    return (float(found["number"]), found["unit"]) if found else None


def number_in(value: Any, unit: str, units: UnitSystem, place: str = "") -> float:
    """A value as written as a number in a unit (none: bare, of the description's units); NaN for a word.

    `place`: the last key, which tells a gram from the acceleration of gravity.
    """
    found = number_of(value)
    if found is None:
        return math.nan
    number, own = found
    if own == unit:
        return number
    dimensions = sorted(DIMENSIONS, key=lambda d: (d == "mass") if "mass" not in place else (d == "acceleration"))
    for dimension in dimensions:
        try:
            one, other = (unit_factor(u, dimension) if u else units.factor(dimension) for u in (own, unit))
        except UnitError:
            continue
        return number * one / other
    return math.nan


def read_spread(given: Any, where: str) -> Spread:
    """Values as given: a list, or words.

    ``2, 3, 4 mm`` (the last unit holds for all that have none), ``steel, aluminium``, ``2 to 6 mm in 5`` (``by ratio``
    for equal ratios), ``uniform 2 to 6 mm``, ``normal 3 mm +- 5 %``, ``lognormal 3 mm +- 0.2 mm`` (mean and standard
    deviation).

    Raises
    ------
    DescriptionError
        With the place and what is expected.
    """
    if isinstance(given, Spread):
        return given
    if not isinstance(given, str):
        values = list(given) if isinstance(given, Sequence | np.ndarray) else [given]
        return _list([v.item() if hasattr(v, "item") else v for v in values], where)
    words = given.strip()
    kind = next((k for k in _KINDS if re.match(rf"{k}\b", words)), None)
    if kind is not None:
        return _drawn(kind, words[len(kind) :], where)
    steps = _STEPS.search(words)
    found = _RANGE.fullmatch(words if steps is None else words[: steps.start()])
    if found is not None:
        return _range(found, steps, where)
    return _list([w.strip() for w in words.split(",")], where)


def _list(values: list[Any], where: str) -> Spread:
    if not values or any(v is None or v == "" for v in values):
        raise DescriptionError(f"{where}: expected values, such as 2, 3, 4 mm")
    last = number_of(values[-1])
    if last is not None and last[1] and isinstance(values[-1], str):  # the last unit holds for bare numbers before it
        numbers = [number_of(v) for v in values]
        values = [
            f"{n[0]:.12g} {last[1]}" if n is not None and not n[1] and isinstance(v, str) else v
            for v, n in zip(values, numbers, strict=True)
        ]
    values = [plain_number(v) for v in values]
    unlike = [v for n, v in enumerate(values) if v not in values[:n]]
    return Spread("list", tuple(unlike))


def plain_number(value: Any) -> Any:
    """A text that is a bare number as one."""
    found = number_of(value) if isinstance(value, str) else None
    return found[0] if found is not None and not found[1] else value


def _range(found: re.Match[str], steps: re.Match[str] | None, where: str) -> Spread:
    low, high, unit = float(found["low"]), float(found["high"]), found["unit"]
    if found["unit1"] and found["unit1"] != unit:
        raise DescriptionError(f"{where}: both ends of a range take one unit, got {found['unit1']} and {unit}")
    if steps is None:
        raise DescriptionError(
            f"{where}: a range needs how many values, such as {found.group().strip()} in 5; to draw by chance, begin "
            "with uniform"
        )
    count = int(steps["count"])
    if not 2 <= count <= MOST_VALUES or low == high:
        raise DescriptionError(f"{where}: a range takes two or more values (at most {MOST_VALUES:,}) between two ends")
    if steps["ratio"] and not (low > 0 and high > 0):
        raise DescriptionError(f"{where}: equal ratios need ends above zero")
    numbers = np.geomspace(low, high, count) if steps["ratio"] else np.linspace(low, high, count)
    plain = Spread("range", unit=unit)
    return Spread("range", tuple(plain.written(float(v)) for v in numbers), low, high, unit)


def _drawn(kind: Any, words: str, where: str) -> Spread:
    if kind == "uniform":
        found = _RANGE.fullmatch(words)
        if found is None or (found["unit1"] and found["unit1"] != found["unit"]):
            raise DescriptionError(f"{where}: expected uniform LOW to HIGH UNIT, got uniform{words}")
        low, high = float(found["low"]), float(found["high"])
        if not low < high:
            raise DescriptionError(f"{where}: a uniform distribution goes from a lower to a higher end")
        return Spread("uniform", (), low, high, found["unit"])
    found = _DRAWN.fullmatch(words)
    if found is None:
        raise DescriptionError(f"{where}: expected {kind} MEAN UNIT +- DEVIATION (a unit, or %), got {kind}{words}")
    mean, by = float(found["number"]), float(found["by"])
    unit = found["unit1"]
    if found["unit"] == "%" and unit != "%":
        by *= abs(mean) / 100.0
    elif unit and found["unit"] != unit:
        raise DescriptionError(f"{where}: mean and deviation take one unit, or the deviation %, got {words.strip()}")
    else:
        unit = found["unit"]
    if not by > 0 or (kind == "lognormal" and not mean > 0):
        raise DescriptionError(f"{where}: a {kind} distribution needs a deviation{' and a mean' * (kind != 'normal')} "
                               "above zero")  # fmt: skip
    return Spread(kind, (), mean, by, unit)


def parameter_at(data: Mapping[str, Any], given: str | Sequence[str | int], values: Any) -> Parameter:
    """A place of the description with its spread of values; several, joined by `` & `` or as a tuple, take the same.

    Raises
    ------
    DescriptionError
        No such place, values that cannot be read, or a range or distribution where a word stands.
    """
    if isinstance(given, str):
        places: list[Any] = [g.strip() for g in given.split(" & ")]
    else:
        places = list(given) if given and all(isinstance(g, tuple | list) for g in given) else [given]
    texts = [g if isinstance(g, str) else "/".join(map(str, g)) for g in places]
    text = " & ".join(texts)
    path, *linked = (resolved(data, g) for g in places)
    spread = read_spread(values, f'parameter "{text}"')
    here = located(data, path)
    stands = None if here is None else here[0].get(here[1]) if isinstance(here[0], Mapping) else here[0][here[1]]
    if isinstance(stands, str) and number_of(stands) is None and all(map(number_of, spread.values)):
        raise DescriptionError(f'parameter "{text}": "{stands}" is a text, not a number that could vary by degrees')
    return Parameter(text, path, spread, tuple(linked))


def resolved(data: Mapping[str, Any], given: str | Sequence[str | int]) -> Path:
    """The path of a place: keys in words, joined by slashes (a key may hold one), positions in lists from 1.

    A key that does not stand there yet is taken as it is; whether the format knows it is seen when it is read.

    Raises
    ------
    DescriptionError
        Empty, an item that a list does not have, or a way through a bare value.
    """
    steps = [s.strip() if isinstance(s, str) else s for s in (given.split("/") if isinstance(given, str) else given)]
    where = given if isinstance(given, str) else "/".join(map(str, given))
    if not steps or any(s == "" for s in steps):
        raise DescriptionError(f'parameter "{where}": a place is written as keys with slashes, such as '
                               "parts/deck/plate/thickness")  # fmt: skip
    path: list[str | int] = []
    here: Any = data
    while steps:
        if isinstance(here, Mapping):
            own = {_alike(k): k for k in here}
            many = next((n for n in range(len(steps), 0, -1) if _alike("/".join(map(str, steps[:n]))) in own), 0)
            key = own[_alike("/".join(map(str, steps[:many])))] if many else str(steps[0])
            if not many and len(path) == 1 and len(steps) > 1 and path[0] not in ("adjust",):
                raise DescriptionError(f'parameter "{where}": there is no "{steps[0]}" under {path[0]}. '
                                       + nearest_hint(str(steps[0]), [str(k) for k in here], str(path[0])))  # fmt: skip
            steps, here = steps[max(many, 1) :], here.get(key) if many else {}
            path.append(key)
        elif isinstance(here, list | tuple):
            item = str(steps[0]).removeprefix("item ")
            if not item.isdigit() or not 1 <= int(item) <= len(here):
                raise DescriptionError(f'parameter "{where}": "{steps[0]}" is no item of the {len(here)} (from 1)')
            path.append(int(item) - 1)
            steps, here = steps[1:], here[int(item) - 1]
        else:
            raise DescriptionError(f'parameter "{where}": "{path[-1]}" holds {here!r}, which has no "{steps[0]}"')
    return tuple(path)


def _alike(key: Any) -> str:
    return str(key).strip().replace("_", " ")


def with_value(data: Mapping[str, Any], change: dict[str, Any], path: Path, value: Any) -> None:
    """Enter a value into a change of the description; a list is changed as a whole."""
    here: Any = change
    below: Any = data
    for n, step in enumerate(path[:-1]):
        below = below[step] if _has(below, step) else {}
        if isinstance(step, int):
            here = here[step]
            continue
        if step not in here:
            within_list = isinstance(path[n + 1], int)
            here[step] = _copied(below) if within_list else {}
        here = here[step]
    here[path[-1]] = value


def _has(below: Any, step: Any) -> bool:
    return step < len(below) if isinstance(step, int) and isinstance(below, list) else step in below


def _copied(value: Any) -> Any:
    if isinstance(value, Mapping):
        return {k: _copied(v) for k, v in value.items()}
    return [_copied(v) for v in value] if isinstance(value, list | tuple) else value
