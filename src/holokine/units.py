"""Units: what a number with or without a unit means, as an SI float.

Inside Holokine everything is SI (m, kg, s, N, Pa, rad; frequencies in Hz). A text such as ``"205 GPa"``
carries its unit; a bare number takes the declared :class:`UnitSystem`. The letter ``g`` is the standard
acceleration of gravity, 9.80665 m/s² exactly, where an acceleration is expected, and a gram otherwise.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from holokine.errors import UnitError, argument, nearest_hint, shown

__all__ = [
    "DIMENSIONS",
    "POSSIBLE",
    "STANDARD_GRAVITY",
    "UnitSystem",
    "argument_of",
    "quantity",
    "refuse_impossible",
    "unit_factor",
]

STANDARD_GRAVITY = 9.80665
"""Standard acceleration of gravity in m/s² (exact, 3rd CGPM 1901)."""

DIMENSIONS: dict[str, tuple[int, int, int, str]] = {
    # name: exponents of (length, mass, time) and the SI unit that messages show
    "number": (0, 0, 0, "a plain number"),
    "length": (1, 0, 0, "m"),
    "area": (2, 0, 0, "m^2"),
    "second moment of area": (4, 0, 0, "m^4"),
    "warping constant": (6, 0, 0, "m^6"),
    "volume": (3, 0, 0, "m^3"),
    "mass": (0, 1, 0, "kg"),
    "inertia": (2, 1, 0, "kg m^2"),
    "time": (0, 0, 1, "s"),
    "frequency": (0, 0, -1, "Hz"),
    "density": (-3, 1, 0, "kg/m^3"),
    "mass per area": (-2, 1, 0, "kg/m^2"),
    "mass per length": (-1, 1, 0, "kg/m"),
    "stress": (-1, 1, -2, "Pa"),
    "force": (1, 1, -2, "N"),
    "force per length": (0, 1, -2, "N/m"),
    "moment": (2, 1, -2, "N m"),
    "stiffness": (0, 1, -2, "N/m"),
    "rotational stiffness": (2, 1, -2, "N m/rad"),
    "damping constant": (0, 1, -1, "N s/m"),
    "rotational damping constant": (2, 1, -1, "N m s/rad"),
    "energy": (2, 1, -2, "J"),
    "unbalance": (1, 1, 0, "kg m"),
    "acceleration": (1, 0, -2, "m/s^2"),
    "velocity": (1, 0, -1, "m/s"),
    "displacement": (1, 0, 0, "m"),
    "angle": (0, 0, 0, "rad"),
    "share": (0, 0, 0, "a plain number"),
    "per length": (-1, 0, 0, "1/m"),
    "quadratic stiffness": (-1, 1, -2, "N/m^2"),
    "cubic stiffness": (-2, 1, -2, "N/m^3"),
    "acceleration density": (2, 0, -3, "(m/s^2)^2/Hz"),
    "factor density": (0, 0, 1, "1/Hz"),
}
POSSIBLE: dict[str, tuple[float, float]] = {
    # in SI: sizes that are not zero lie between these, whatever is modelled; beyond is a slip
    "number": (0.0, 1e15),
    "length": (1e-12, 1e7),
    "area": (1e-24, 1e12),
    "second moment of area": (1e-36, 1e20),
    "warping constant": (1e-50, 1e24),
    "volume": (1e-36, 1e18),
    "mass": (1e-18, 1e12),
    "inertia": (1e-30, 1e18),
    "time": (1e-12, 1e9),
    "frequency": (1e-9, 1e9),
    "density": (1e-6, 1e14),
    "mass per area": (1e-12, 1e9),
    "mass per length": (1e-12, 1e9),
    "stress": (1e-9, 1e18),
    "force": (1e-18, 1e15),
    "force per length": (1e-15, 1e15),
    "moment": (1e-24, 1e18),
    "stiffness": (1e-12, 1e18),
    "rotational stiffness": (1e-18, 1e18),
    "damping constant": (1e-15, 1e14),
    "rotational damping constant": (1e-20, 1e16),
    "energy": (1e-24, 1e18),
    "unbalance": (1e-18, 1e12),
    "acceleration": (1e-15, 1e9),
    "velocity": (1e-15, 1e6),
    "displacement": (1e-15, 1e6),
    "angle": (1e-15, 1e6),
    "share": (1e-30, 1e15),
    "per length": (1e-12, 1e12),
    "quadratic stiffness": (1e-12, 1e30),
    "cubic stiffness": (1e-12, 1e40),
    "acceleration density": (1e-30, 1e18),
    "factor density": (1e-30, 1e18),
}
"""Smallest and largest size that a quantity can have, in SI."""
_SHOWN = {d[:3]: d[3] for d in reversed(list(DIMENSIONS.values()))}
_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?"
_QUANTITY = re.compile(rf"^\s*({_NUMBER})\s*(.*?)\s*$", re.DOTALL)
_COMMON_UNITS = (
    "m", "mm", "in", "kg", "g", "t", "N", "kN", "Pa", "MPa", "GPa", "s", "ms", "Hz", "rpm", "rad", "deg", "m/s",
    "m/s^2", "kg/m^3", "t/mm^3", "N/m", "N/mm", "N m",
)  # fmt: skip


# mechanical units only: a registry of our own loads ten times faster than the full one, and knows nothing
# that has no place here
_DEFINITIONS = """
giga- = 1e9 = G-
mega- = 1e6 = M-
kilo- = 1e3 = k-
hecto- = 1e2 = h-
deci- = 1e-1 = d-
centi- = 1e-2 = c-
milli- = 1e-3 = m-
micro- = 1e-6 = u- = µ- = μ-
nano- = 1e-9 = n-
meter = [length] = m = metre
gram = [mass] = g
second = [time] = s = sec
radian = [] = rad
tonne = 1e6 * gram = metric_ton
minute = 60 * second = min
hour = 3600 * second = h
hertz = 1 / second = Hz
degree = 0.017453292519943295 * radian = deg = °
revolution = 6.283185307179586 * radian = rev = turn
revolution_per_minute = revolution / minute = rpm
newton = kilogram * meter / second ** 2 = N
pascal = newton / meter ** 2 = Pa
bar = 1e5 * pascal
joule = newton * meter = J
watt = joule / second = W
inch = 0.0254 * meter = in
foot = 0.3048 * meter = ft
mile = 1609.344 * meter = mi
pound = 453.59237 * gram = lb = lbm
ounce = 28.349523125 * gram = oz
standard_gravity = 9.80665 * meter / second ** 2 = g0 = gn
kilogram_force = kilogram * standard_gravity = kgf
pound_force = pound * standard_gravity = lbf
kip = 1000 * pound_force
slug = pound_force * second ** 2 / foot
psi = pound_force / inch ** 2
ksi = 1000 * psi
kmh = kilometer / hour = kph
"""


_FAMILIAR: dict[str, tuple[float, tuple[int, int, int], int]] = {
    "m": (1.0, (1, 0, 0), 0),
    "mm": (0.001, (1, 0, 0), 0),
    "cm": (0.01, (1, 0, 0), 0),
    "um": (1e-06, (1, 0, 0), 0),
    "km": (1000.0, (1, 0, 0), 0),
    "in": (0.0254, (1, 0, 0), 0),
    "ft": (0.3048, (1, 0, 0), 0),
    "m^2": (1.0, (2, 0, 0), 0),
    "mm^2": (1e-06, (2, 0, 0), 0),
    "cm^2": (0.0001, (2, 0, 0), 0),
    "mm^3": (1e-09, (3, 0, 0), 0),
    "mm^4": (1.0000000000000002e-12, (4, 0, 0), 0),
    "cm^4": (1e-08, (4, 0, 0), 0),
    "m^4": (1.0, (4, 0, 0), 0),
    "mm^6": (1e-18, (6, 0, 0), 0),
    "kg": (1.0, (0, 1, 0), 0),
    "g": (0.001, (0, 1, 0), 0),
    "t": (1000.0, (0, 1, 0), 0),
    "lb": (0.45359237, (0, 1, 0), 0),
    "kg/m^3": (1.0, (-3, 1, 0), 0),
    "g/cm^3": (999.9999999999999, (-3, 1, 0), 0),
    "t/mm^3": (999999999999.9999, (-3, 1, 0), 0),
    "kg/m^2": (1.0, (-2, 1, 0), 0),
    "kg/m": (1.0, (-1, 1, 0), 0),
    "kg m^2": (1.0, (2, 1, 0), 0),
    "kg mm^2": (1e-06, (2, 1, 0), 0),
    "g mm^2": (1e-09, (2, 1, 0), 0),
    "t mm^2": (0.001, (2, 1, 0), 0),
    "s": (1.0, (0, 0, 1), 0),
    "ms": (0.001, (0, 0, 1), 0),
    "us": (1e-06, (0, 0, 1), 0),
    "min": (60.0, (0, 0, 1), 0),
    "h": (3600.0, (0, 0, 1), 0),
    "Hz": (1.0, (0, 0, -1), 0),
    "kHz": (1000.0, (0, 0, -1), 0),
    "rpm": (0.10471975511965977, (0, 0, -1), 1),
    "1/s": (1.0, (0, 0, -1), 0),
    "rad/s": (1.0, (0, 0, -1), 1),
    "rad": (1.0, (0, 0, 0), 1),
    "deg": (0.017453292519943295, (0, 0, 0), 1),
    "°": (0.017453292519943295, (0, 0, 0), 1),
    "N": (1.0, (1, 1, -2), 0),
    "kN": (1000.0, (1, 1, -2), 0),
    "MN": (1000000.0, (1, 1, -2), 0),
    "lbf": (4.4482216152605, (1, 1, -2), 0),
    "N/m": (1.0, (0, 1, -2), 0),
    "N/mm": (1000.0, (0, 1, -2), 0),
    "kN/m": (1000.0, (0, 1, -2), 0),
    "kN/mm": (1000000.0, (0, 1, -2), 0),
    "MN/m": (1000000.0, (0, 1, -2), 0),
    "N/um": (1000000.0, (0, 1, -2), 0),
    "N m": (1.0, (2, 1, -2), 0),
    "N mm": (0.001, (2, 1, -2), 0),
    "kN m": (1000.0, (2, 1, -2), 0),
    "N m/rad": (1.0, (2, 1, -2), -1),
    "N mm/rad": (0.001, (2, 1, -2), -1),
    "kN m/rad": (1000.0, (2, 1, -2), -1),
    "N s/m": (1.0, (0, 1, -1), 0),
    "N s/mm": (1000.0, (0, 1, -1), 0),
    "kN s/m": (1000.0, (0, 1, -1), 0),
    "kg/s": (1.0, (0, 1, -1), 0),
    "N m s/rad": (1.0, (2, 1, -1), -1),
    "N mm s/rad": (0.001, (2, 1, -1), -1),
    "Pa": (1.0, (-1, 1, -2), 0),
    "kPa": (1000.0, (-1, 1, -2), 0),
    "MPa": (1000000.0, (-1, 1, -2), 0),
    "GPa": (1000000000.0, (-1, 1, -2), 0),
    "bar": (100000.0, (-1, 1, -2), 0),
    "psi": (6894.757293168362, (-1, 1, -2), 0),
    "ksi": (6894757.293168362, (-1, 1, -2), 0),
    "N/mm^2": (1000000.0, (-1, 1, -2), 0),
    "N/m^2": (1.0, (-1, 1, -2), 0),
    "kN/m^2": (1000.0, (-1, 1, -2), 0),
    "J": (1.0, (2, 1, -2), 0),
    "mJ": (0.001, (2, 1, -2), 0),
    "kJ": (1000.0, (2, 1, -2), 0),
    "m/s": (1.0, (1, 0, -1), 0),
    "mm/s": (0.001, (1, 0, -1), 0),
    "cm/s": (0.01, (1, 0, -1), 0),
    "km/h": (0.2777777777777778, (1, 0, -1), 0),
    "in/s": (0.0254, (1, 0, -1), 0),
    "m/s^2": (1.0, (1, 0, -2), 0),
    "mm/s^2": (0.001, (1, 0, -2), 0),
    "m/s²": (1.0, (1, 0, -2), 0),
    "standard_gravity": (9.80665, (1, 0, -2), 0),
    "kg/m³": (1.0, (-3, 1, 0), 0),
    "kg m²": (1.0, (2, 1, 0), 0),
    "mm/s²": (0.001, (1, 0, -2), 0),
    "N/mm²": (1000000.0, (-1, 1, -2), 0),
    "g0": (9.80665, (1, 0, -2), 0),
    "m/s^2/Hz": (1.0, (1, 0, -1), 0),
}
"""What the registry says of the usual units: loading it takes longer than many a question. A test compares."""
_PIECE = re.compile(r"\s*([*/·]?)\s*([A-Za-zµ°_]+[0-9]?)(?:(?:\^|(?=[²³⁴]))([1-9²³⁴]))?(?![\w^.])")
_RAISED = {"²": 2, "³": 3, "⁴": 4}


@lru_cache(maxsize=1)
def _registry() -> Any:
    import pint

    registry = pint.UnitRegistry(None)
    for line in _DEFINITIONS.strip().splitlines():
        registry.define(line)
    return registry


def _parse_unit(text: str) -> tuple[float, tuple[int, int, int], int]:
    """Factor to SI, exponents of (length, mass, time) and power of angle of a unit expression."""
    return _FAMILIAR.get(text) or _composed(text) or _looked_up(text)


@lru_cache(maxsize=4096)
def _composed(text: str) -> tuple[float, tuple[int, int, int], int] | None:
    """The same for products, quotients and powers of familiar units (``g mm``, ``g^2/Hz``), from left to right."""
    factor, powers, at = 1.0, [0, 0, 0, 0], 0
    while at < len(text):
        piece = _PIECE.match(text, at)
        known = _FAMILIAR.get(piece[2]) if piece else None
        if piece is None or known is None or (at == 0 and piece[1]):
            return None
        power = _RAISED.get(piece[3]) or int(piece[3] or 1)
        factor = factor / known[0] ** power if piece[1] == "/" else factor * known[0] ** power
        signed = -power if piece[1] == "/" else power
        powers = [p + signed * k for p, k in zip(powers, (*known[1], known[2]), strict=True)]
        at = piece.end()
    return (factor, (powers[0], powers[1], powers[2]), powers[3]) if at else None


@lru_cache(maxsize=4096)
def _looked_up(text: str) -> tuple[float, tuple[int, int, int], int]:
    """The same, from the registry."""
    import pint

    ureg = _registry()
    cleaned = text.replace("²", "^2").replace("³", "^3").replace("·", "*").replace("⁴", "^4").strip()
    cleaned = re.sub(r"(?<=[A-Za-z0-9_)])\s+(?=[A-Za-z_(])", " * ", cleaned)
    cleaned = re.sub(r"(?<![A-Za-z_])t(?![A-Za-z_0-9])", "metric_ton", cleaned)
    # a number of its own is no unit, but for the 1 of 1/s
    stray = re.search(r"(?:^|[\s*/(])(?!1\s*/)\d", cleaned.replace("^ ", "^"))
    if stray or re.search(r"[^A-Za-z0-9_µμΩ°*/^().+\- ]", cleaned) or "**" in cleaned:
        raise UnitError(f'unknown unit "{text}". {nearest_hint(text, _COMMON_UNITS, "common units")}')
    try:
        root = ureg.parse_expression(cleaned)
        root = ureg.Quantity(root).to_root_units()
    except pint.errors.OffsetUnitCalculusError as err:
        raise UnitError(f'the unit "{text}" has an offset and cannot be used here') from err
    except Exception as err:  # the expression parser fails in many ways on malformed text
        raise UnitError(f'unknown unit "{text}". {nearest_hint(text, _COMMON_UNITS, "common units")}') from err
    powers = {"meter": 0, "gram": 0, "kilogram": 0, "second": 0, "radian": 0}
    factor = float(root.magnitude)
    for unit, power in root._units.items():
        if unit not in powers or power != int(power):
            raise UnitError(f'the unit "{text}" contains "{unit}", which has no place in structural dynamics')
        powers[unit] = int(power)
    factor *= 1e-3 ** powers["gram"]
    mass = powers["gram"] + powers["kilogram"]
    return factor, (powers["meter"], mass, powers["second"]), powers["radian"]


def _dimension_text(exponents: tuple[int, int, int]) -> str:
    if exponents in _SHOWN:
        return _SHOWN[exponents]
    parts = [f"{u}^{p}" if p != 1 else u for u, p in zip(("m", "kg", "s"), exponents, strict=True) if p]
    return " ".join(parts) or "a plain number"


def unit_factor(unit: str, dimension: str) -> float:
    """Factor that turns a number in `unit` into SI (Hz for frequencies), for an expected dimension.

    Raises
    ------
    UnitError
        When the unit is unknown or of another dimension; the message shows both.
    """
    want = DIMENSIONS[dimension][:3]
    if unit in ("%", "percent"):
        if dimension != "number":
            raise UnitError(f'expected {_expected(dimension)}, got a percentage ("{unit}")')
        return 0.01
    factor, have, angle = _parse_unit(unit) if unit else (1.0, (0, 0, 0), 0)
    if have == want:
        if dimension == "frequency" and angle == 1:  # rad/s, rpm and the like count radians, not cycles
            return factor / (2.0 * math.pi)
        return factor
    standing = re.sub(r"(?<![A-Za-z_])g(?![A-Za-z_0-9])", "standard_gravity", unit)
    if standing != unit and dimension in ("acceleration", "acceleration density"):
        factor, as_gravity, _ = _parse_unit(standing)
        if as_gravity == want:
            return factor
    note = ""
    if standing != unit:
        note = " (g is read as gram, or as 9.80665 m/s^2 where an acceleration is expected)"
    raise UnitError(
        f'expected {_expected(dimension)}, got "{unit or "a plain number"}", '
        f"which is of the dimension {_dimension_text(have)}{note}"
    )


def _expected(dimension: str) -> str:
    shown = DIMENSIONS[dimension][3]
    if dimension == "number":
        return "a plain number"
    article = "an" if dimension[0] in "aei" else "a"
    return f"{article} {dimension} such as {shown}"


@dataclass(frozen=True)
class UnitSystem:
    """How bare numbers read: SI factors of the base units.

    Attributes
    ----------
    length, mass, time : float
        Metres, kilograms and seconds in one unit of the system.
    names : tuple of str
        The units as declared, for messages: (length, mass, time, force).
    """

    length: float = 1.0
    mass: float = 1.0
    time: float = 1.0
    names: tuple[str, str, str, str] = ("m", "kg", "s", "N")

    def factor(self, dimension: str) -> float:
        """SI value of one bare unit of this dimension (frequencies stay Hz, angles rad)."""
        if dimension in ("frequency", "angle", "number"):
            return 1.0
        a, b, c = DIMENSIONS[dimension][:3]
        return float(self.length**a * self.mass**b * self.time**c)

    @classmethod
    def declare(
        cls,
        *,
        length: str | None = None,
        mass: str | None = None,
        time: str | None = None,
        force: str | None = None,
    ) -> UnitSystem:
        """Build a system from unit names; what is left out follows from force = mass x length / time².

        Raises
        ------
        UnitError
            When the four do not satisfy force = mass x length / time² (mm, kg, s and N do not).
        """
        for unit in (length, mass, time, force):
            if unit and not unit.strip()[:1].isalpha() and unit.strip()[:1] not in "µμ":
                raise UnitError(f'"{unit}" is no unit: write its name alone, such as mm, kg, s or N')
        si_length = unit_factor(length, "length") if length else 1.0
        si_time = unit_factor(time, "time") if time else 1.0
        si_mass = unit_factor(mass, "mass") if mass else None
        si_force = unit_factor(force, "force") if force else None
        if si_mass is None:
            si_mass = 1.0 if si_force is None else si_force * si_time**2 / si_length
        follows = si_mass * si_length / si_time**2
        names = (length or "m", mass or f"{si_mass:g} kg", time or "s", force or f"{follows:g} N")
        if si_force is not None and abs(follows / si_force - 1.0) > 1e-9:
            needed = si_force * si_time**2 / si_length
            spelt = {1.0: "kg", 1000.0: "t", 1e-3: "g", 1e6: "kt"}.get(round(needed, 12), f"{needed:g} kg")
            raise UnitError(
                f"the unit system is not consistent: with {names[0]}, {names[1]} and {names[2]} the unit of "
                f"force is {follows:g} N, not {force} ({si_force:g} N). Bare numbers in such a mixture give "
                f"silently wrong frequencies. Either declare mass: {spelt}, or leave out force, or declare "
                f"length: m, mass: kg, force: N and write units beside the numbers that differ"
            )
        return cls(si_length, si_mass, si_time, names)


def quantity(value: Any, dimension: str, system: UnitSystem | None = None, *, unbounded: bool = False) -> float:
    """Read one quantity as SI.

    Parameters
    ----------
    value : float, int or str
        ``3.5`` (in the unit system), ``"3 g"``, ``"205 GPa"``, ``"2 %"``, ``"1/8 inch"`` is not read.
    dimension : str
        A key of :data:`DIMENSIONS`.
    system : UnitSystem, optional
        How bare numbers read; SI by default.
    unbounded : bool
        Leave it to the caller to `refuse_impossible`.

    Raises
    ------
    UnitError
        Not a number, NaN or infinite, larger than anything of its kind (`POSSIBLE`), unknown unit, wrong dimension.

    Examples
    --------
    >>> quantity("3 g", "acceleration"), quantity("3 g", "mass")
    (29.41995, 0.003)
    """
    if isinstance(value, bool) or value is None:
        raise UnitError(f"expected {_expected(dimension)}, got {_shown(value)}")
    if is_with_unit(value):
        value = with_unit(value)
    if isinstance(value, str):
        match = _QUANTITY.match(value)
        if not match or value.strip().lower() in ("nan", "inf", "-inf", ".nan", ".inf"):
            raise UnitError(f"expected {_expected(dimension)}, got {_shown(value)}")
        number, unit = float(match.group(1)), match.group(2)
        if unit:
            result = number * unit_factor(unit, dimension)
        else:
            result = number * (system or UnitSystem()).factor(dimension)
    else:
        try:
            number = float(value)
        except (TypeError, ValueError, OverflowError):
            raise UnitError(f"expected {_expected(dimension)}, got {_shown(value)}") from None
        result = number * (system or UnitSystem()).factor(dimension)
    if not math.isfinite(result):
        raise UnitError(f"expected a finite number for {_expected(dimension)}, got {_shown(value)}")
    if not unbounded:
        refuse_impossible(result, value, dimension)
    return result


def is_with_unit(value: Any) -> bool:
    """Whether a value is a quantity of a unit library (pint and those alike)."""
    return hasattr(value, "magnitude") and hasattr(value, "units") and not isinstance(value, type)


def with_unit(value: Any) -> Any:
    """A quantity of a unit library as it would be written: ``205.0 GPa``; of an array a list of them."""
    numbers, unit = value.magnitude, format(value.units, "~C").replace("**", "^")
    if hasattr(numbers, "tolist"):
        numbers = numbers.tolist()

    def written(number: Any) -> Any:
        return [written(n) for n in number] if isinstance(number, list | tuple) else f"{number!r} {unit}".strip()

    return written(numbers)


def argument_of(name: str, value: Any, dimension: str) -> float:
    """An argument of a call as SI; its errors name it.

    Raises
    ------
    UnitError
    """
    with argument(name):
        return quantity(value, dimension)


def refuse_impossible(number: float, value: Any, dimension: str, *, tiny: bool = False) -> None:
    """Raise for a number (SI; `value` as it was given) that is larger than anything of its kind.

    Parameters
    ----------
    tiny : bool
        Also for one that is not zero, and smaller than anything of its kind.

    Raises
    ------
    UnitError
    """
    least, most = POSSIBLE[dimension]
    if abs(number) > most or (tiny and 0.0 < abs(number) < least):
        bound = f"beyond {most:.0e}" if abs(number) > most else f"below {least:.0e}"
        unit = DIMENSIONS[dimension][3]
        given = f"{number:.3g}" if unit.startswith("a ") else f"{number:.3g} {unit}"
        raise UnitError(
            f"got {_shown(value)}, which is {given}: {bound} no {dimension} makes sense; is its unit right?"
        )


def _shown(value: Any) -> str:
    return "nothing" if value is None else shown(value)
