"""Columns with units from CSV files."""

from __future__ import annotations

import re
from csv import QUOTE_NONE
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from holokine.describe.files import Folder, refuse_devices
from holokine.errors import EventError, UnitError, headed, nearest_hint
from holokine.units import unit_factor

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["parse_columns", "read_columns"]

_WORDS = {
    "frequency": "frequency",
    "freq": "frequency",
    "f": "frequency",
    "period": "period",
    "time": "time",
    "t": "time",
    "acceleration": "acceleration",
    "acc": "acceleration",
    "a": "acceleration",
    "velocity": "velocity",
    "displacement": "displacement",
    "factor": "factor",
    "density": "density",
}
_FEW = 2000  # rows that are read line by line
_LONG = 100_000  # bytes of a file from which it is read as a table
_WIDE = (b"\xff\xfe", b"\xfe\xff")  # how UTF-16 begins
_MEASURED = ("acceleration", "velocity", "displacement")
_DIMENSION = {"period": "time", "density": "acceleration density", "factor density": "factor density"}
_SPELT = {
    "m_s2": "m/s^2", "m_per_s2": "m/s^2", "mm_s2": "mm/s^2", "mm_per_s2": "mm/s^2", "m_s": "m/s",
    "m_per_s": "m/s", "mm_s": "mm/s", "mm_per_s": "mm/s",
    "g2_hz": "g^2/Hz", "g2_per_hz": "g^2/Hz", "g2/hz": "g^2/Hz", "g^2/hz": "g^2/Hz", "g²/hz": "g^2/Hz",
    "m2_s3": "m^2/s^3", "per_hz": "1/Hz", "1/hz": "1/Hz", "(m/s^2)^2/hz": "m^2/s^3", "(m/s²)²/hz": "m^2/s^3",
}  # fmt: skip
_DECIMAL = re.compile(r"\s*[-+]?\d+,\d+(?:[eE][-+]?\d+)?\s*")
_HEADER = re.compile(r"^\s*([A-Za-z]+)[\s_]*(?:[\[(]\s*(.*?)\s*[\])]|(.*?))\s*$")


def _by_unit(text: str, time: str) -> tuple[str, float] | None:
    """Quantity and factor of a header that is a unit only, such as Hz, s or g."""
    for name, dimension in (("frequency", "frequency"), (time, "time"), *((w, w) for w in _MEASURED)):
        try:
            return name, unit_factor(_spelt(text.strip("[]() ")), dimension)
        except UnitError:
            continue
    return None


def _header(text: str, file: Path, time: str) -> tuple[str, float]:
    match = _HEADER.match(text)
    word = match.group(1).lower() if match else ""
    alone = None if word in _WORDS else _by_unit(text, time)
    if alone is not None:
        return alone
    if match is None or word not in _WORDS:
        raise EventError(
            f'{file.name}, line 1: the column "{text}" cannot be understood; write for instance frequency_hz, '
            f"period_s, time_s, acceleration_g, acceleration_m_s2. {nearest_hint(word, _WORDS, 'column words')}",
            told=True,
        )
    name = _WORDS[word]
    unit = match.group(2) or match.group(3) or ""
    if name == "factor" and not unit:
        return name, 1.0
    if not unit:
        raise EventError(
            f'{file.name}, line 1: the column "{text}" has no unit; write for instance {name}_'
            f"{ {'frequency': 'hz', 'period': 's', 'time': 's', 'acceleration': 'g'}.get(name, 'm') }",
            told=True,
        )
    try:
        if name == "density" and _spelt(unit) == "1/Hz":
            return "factor density", 1.0
        return name, unit_factor(_spelt(unit), _DIMENSION.get(name, name))
    except UnitError as err:
        raise EventError(f'{file.name}, line 1: column "{text}": {err}', told=True) from None


def _spelt(unit: str) -> str:
    spelt = _SPELT.get(unit.lower(), unit)
    return {"hz": "Hz", "khz": "kHz", "G": "g"}.get(spelt, spelt)


def _chosen(text: str, file: Path) -> tuple[str, float]:
    """Quantity and factor of a column by its unit alone: acc front left [g], channel_7_m_s2, lever (mm)."""
    bracket = re.search(r"[\[(]\s*([^\])]*?)\s*[\])]\s*$", text)
    words = re.split(r"[\s_]+", text.strip())
    tails = [bracket.group(1)] if bracket else ["_".join(words[-n:]) for n in (3, 2, 1)]
    for tail in tails:
        for quantity_name in _MEASURED:
            try:
                return quantity_name, unit_factor(_spelt(tail), quantity_name)
            except UnitError:
                continue
    raise EventError(
        f'{file.name}, line 1: the column "{text}" ends in no unit of acceleration, velocity or displacement; write '
        f"for instance {words[0]} [g]",
        told=True,
    )


def read_columns(
    path: str | Path, folder: Folder | None = None, *, only: str | None = None, time: str = "time"
) -> dict[str, Floats]:
    """Read a CSV file whose header names quantity and unit, such as ``frequency_hz,acceleration_g``.

    Also read are ``time [ms]`` and ``acceleration (m/s^2)``, and units alone (``Hz  g``); separators may be comma,
    semicolon, tab or spaces, and but for commas decimals may have a comma. Lines that begin with ``#`` are comments.
    `time`: what a column is that is headed by a unit of time alone, time or period.

    Returns
    -------
    dict of str to ndarray
        By quantity (frequency, period, time, acceleration, velocity, displacement, factor), in SI. With `only` the
        header of one column: time and that column, whatever the others are.

    Raises
    ------
    EventError
        Missing file, no such column, a header that cannot be understood, a value that is not a finite number
        (with its line).
    """
    file = Path(path) if folder is None else folder / path
    with headed(file=file):
        refuse_devices(file)
        found = _at_once(file, only, time)
        if found is not None:
            return found
        try:
            content = file.read_bytes()
            lines = content.decode("utf-16" if content[:2] in _WIDE else "utf-8-sig").splitlines()
        except FileNotFoundError:
            raise EventError(f"{file}: there is no such file") from None
        except (OSError, UnicodeDecodeError) as err:
            raise EventError(f"{file}: cannot be read as text ({err})") from None
        return parse_columns(lines, file.name, only, time)


def _at_once(file: Path, only: str | None, time: str) -> dict[str, Floats] | None:
    """A long file by a table reader; None for a short one, and where anything is out of place: then it is named."""
    try:
        if file.stat().st_size < _LONG:
            return None
        content = file.read_bytes()
        at, head = 0, ""
        while not head.strip() or head.startswith("#"):
            end = content.index(b"\n", at) + 1
            at, head = end, content[at:end].decode("utf-8-sig").rstrip("\r\n")
        if '"' in head:
            return None
        separator = _separator(head)
        columns = _columns(head, separator, file, only, time)
        first = content[at : content.find(b"\n", at)].decode()
        twice = len({name for name, _ in columns}) < len(columns)
        if not separator or twice or content.find(b"#", at) >= 0:
            return None
        import pandas as pd

        used = [i for i, (name, _) in enumerate(columns) if not name.startswith("unused")]
        table = pd.read_csv(
            BytesIO(content[at:]), sep=separator, header=None, dtype=dict.fromkeys(used, float),
            decimal="," if separator != "," and "," in first else ".",
            quoting=QUOTE_NONE,
        )  # fmt: skip
    except (OSError, ValueError, EventError):
        return None
    separators = content.count(separator.encode(), at)
    if table.shape[1] != len(columns) or separators != len(table) * (len(columns) - 1):
        return None
    if not np.isfinite(table[used].to_numpy()).all():
        return None
    return {columns[i][0]: table[i].to_numpy() * columns[i][1] for i in used}


def _separator(head: str) -> str:
    return next((s for s in (";", "\t", ",") if s in head), "")


def _cells(line: str, separator: str) -> list[str]:
    """Cells of a line; by spaces, a bracket belongs to the word before it."""
    if separator:
        return [cell.strip() for cell in line.split(separator)]
    wide = re.split(r"\s{2,}", line.strip())
    return wide if len(wide) > 1 else re.findall(r"[^\s\[(]+(?:\s*[\[(][^\])]*[\])])?|[\[(][^\])]*[\])]", line)


def _number(cell: str, separator: str) -> float:
    """A number; with a decimal comma where commas do not separate."""
    return float(cell if separator == "," or "." in cell else cell.replace(",", "."))


def parse_columns(lines: list[str], name: str, only: str | None = None, time: str = "time") -> dict[str, Floats]:
    """The same from lines of text, such as a table that was pasted; `name` is for messages.

    Raises
    ------
    EventError
    """
    file = Path(name)
    rows = [(n, _unquoted(line)) for n, line in enumerate(lines, start=1) if line.strip() and not line.startswith("#")]
    if not rows:
        raise EventError(f"{file.name}: the table is empty")
    separator = _separator(rows[0][1])
    columns = _columns(rows[0][1], separator, file, only, time)
    names = [name for name, _ in columns]
    if len(set(names)) < len(names):
        raise EventError(
            f"{file.name}, line {rows[0][0]}: a quantity stands in two columns: {', '.join(names)}", told=True
        )
    values = _quickly(rows, separator, names)
    if values is None:
        values = _line_by_line(rows, separator, names, file)
    bad = np.argwhere(~np.isfinite(values))
    if len(bad):
        raise EventError(f"{file.name}, line {rows[1 + bad[0][0]][0]}: a value is not a finite number", told=True)
    return {name: values[:, c] * factor for c, (name, factor) in enumerate(columns) if not name.startswith("unused")}


def _unquoted(line: str) -> str:
    """A line without quotes about its cells."""
    if '"' not in line:
        return line
    outside = [part if n % 2 == 0 else part.replace(",", ".") if _DECIMAL.fullmatch(part) else part
               for n, part in enumerate(line.split('"'))]  # fmt: skip
    return "".join(outside)


def _columns(head: str, separator: str, file: Path, only: str | None, time: str) -> list[tuple[str, float]]:
    """Quantity and factor of every column."""
    heads = _cells(head.rstrip("\n"), separator)
    if only is None:
        columns = [_header(cell, file, time) for cell in heads]
    else:
        if only not in heads:
            raise EventError(
                f'{file.name}, line 1: there is no column "{only}". {nearest_hint(only, heads, "columns")}', told=True
            )
        first = next((h for h in heads if re.match(r"\s*(time|t)\b|\s*(time|t)_", h, re.IGNORECASE)), None)
        if first is None:
            raise EventError(f"{file.name}, line 1: there is no column of time", told=True)
        columns = [
            _header(h, file, time) if h == first else _chosen(h, file) if h == only else (f"unused {i}", 1.0)
            for i, h in enumerate(heads)
        ]
    return columns


def _quickly(rows: list[tuple[int, str]], separator: str, names: list[str]) -> Floats | None:
    """All numbers at once; None where something is not one, or not in its place, which `_line_by_line` then names."""
    width, count = len(names), len(rows) - 1
    text = "\n".join([line for _, line in rows[1:]])
    if count < _FEW or not separator or text.count(separator) != count * (width - 1):
        return None
    cells = text.replace(separator, "\n").split("\n")
    values = np.zeros((count, width))
    try:
        for c, name in enumerate(names):
            if not name.startswith("unused"):
                own = cells[c::width] if separator == "," else [cell.replace(",", ".") for cell in cells[c::width]]
                values[:, c] = list(map(float, own))
    except ValueError:
        return None
    return values if np.isfinite(values).all() else None


def _parted(line: str, separator: str) -> list[str]:
    return line.split(separator) if separator else line.split()


def _line_by_line(rows: list[tuple[int, str]], separator: str, names: list[str], file: Path) -> Floats:
    values = np.empty((len(rows) - 1, len(names)))
    for index, (number, line) in enumerate(rows[1:]):
        cells = _parted(line, separator)
        if len(cells) != len(names):
            raise EventError(f"{file.name}, line {number}: {len(cells)} values for {len(names)} columns", told=True)
        for c, cell in enumerate(cells):
            if names[c].startswith("unused"):
                values[index, c] = 0.0
                continue
            try:
                values[index, c] = _number(cell.strip(), separator)
            except ValueError:
                raise EventError(f'{file.name}, line {number}: "{cell.strip()}" is not a number', told=True) from None
    return values
