"""How numbers are written, and in which unit a quantity is shown."""

from __future__ import annotations

import math

from holokine.units import DIMENSIONS, STANDARD_GRAVITY

__all__ = ["DISPLAY_UNITS", "display_unit", "number_text"]

DISPLAY_UNITS: dict[str, tuple[str, float]] = {
    "displacement": ("mm", 1e-3),
    "length": ("mm", 1e-3),
    "angle": ("mrad", 1e-3),
    "velocity": ("m/s", 1.0),
    "acceleration": ("g", STANDARD_GRAVITY),
    "force": ("N", 1.0),
    "moment": ("N m", 1.0),
    "stress": ("MPa", 1e6),
    "share": ("%", 1e-2),
}


def display_unit(dimension: str) -> tuple[str, float]:
    """Unit in which a quantity is shown, and its SI value."""
    return DISPLAY_UNITS.get(dimension, (DIMENSIONS[dimension][3], 1.0))


def number_text(value: float, digits: int = 4) -> str:
    """A number with so many significant digits, without an exponent where it reads well without.

    Examples
    --------
    >>> number_text(1234.567), number_text(0.0123456), number_text(3.2e-9), number_text(float("nan"))
    ('1235', '0.01235', '3.2e-09', '-')
    """
    if math.isnan(value):
        return "-"
    if value == 0.0:
        return "0"
    if not math.isfinite(value):
        return "inf" if value > 0 else "-inf"
    size = abs(value)
    if size >= 10.0**7 or size < 1e-4:
        return f"{value:.{max(digits - 2, 1)}g}" if size < 1e-4 else f"{value:.{digits - 1}e}"
    places = max(0, digits - 1 - math.floor(math.log10(size)))
    return f"{value:.{places}f}"
