"""How numbers are written, and in which unit a quantity is shown."""

from __future__ import annotations

import math
from typing import Any

from holokine.units import DIMENSIONS, STANDARD_GRAVITY

__all__ = ["DISPLAY_UNITS", "cell_text", "column_words", "display_unit", "gauge_column", "number_text"]

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


COLUMN_UNITS = {
    "_hz": "Hz", "_rad_s": "rad/s", "_kg": "kg", "_db": "dB", "_percent": "%", "_ms": "ms", "_mm": "mm", "_s": "s",
    "_kg_m2": "kg m²", "_m": "m", "_mpa": "MPa", "_n": "N", "_nm": "N m", "_n_per_mm": "N/mm", "_n_s_per_m": "N s/m",
    "_deg": "deg", "_j": "J", "_n_s": "N s", "_g": "g", "_mm2": "mm²", "_per_s": "1/s", "_mm_per_s": "mm/s",
    "_m_per_s": "m/s",
}  # fmt: skip
"""Units by the endings of columns of tables."""


def column_words(column: str) -> tuple[str, str]:
    """Words and unit of a column of a table.

    Examples
    --------
    >>> column_words("effective_z_kg"), column_words("what")
    (('effective z', 'kg'), ('what', ''))
    >>> column_words("fan z (g)")
    ('fan z', 'g')
    """
    if column.endswith(")") and " (" in column:
        words, _, unit = column[:-1].rpartition(" (")
        return words, unit
    for ending in sorted(COLUMN_UNITS, key=len, reverse=True):
        if column.endswith(ending) and column != ending:
            return column.removesuffix(ending).replace("_", " "), COLUMN_UNITS[ending]
    return column.replace("_", " "), ""


def gauge_column(label: str, unit: str = "") -> str:
    """Column of a wide table that is of something the analyst named (a gauge, a point, a parameter).

    Examples
    --------
    >>> gauge_column("fan z", "g"), gauge_column("fan z", "%")
    ('fan z (g)', 'fan z (%)')
    """
    return f"{label} ({unit})" if unit else label


def cell_text(column: str, value: Any) -> str:
    """A cell of a table: four digits, percents to a tenth (damping to a hundredth), a dash where there is nothing."""
    if not isinstance(value, float):
        return str(value)
    if value != value:
        return "-"
    if column == "mac":
        return f"{value:.4f}"
    if column.endswith("percent"):
        return f"{value:z.2f}" if "damping" in column else f"{value:z.1f}"
    return f"{value:.3f}" if column.endswith("_kg") and abs(value) < 0.05 else number_text(value)


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
