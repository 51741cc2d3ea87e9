"""Tables as a workbook (XLSX): a sheet per table, numbers as numbers, units in the headers.

Written by openpyxl row by row, so that a long table takes little memory.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.errors import MissingExtraError
from holokine.progress import tell
from holokine.show.numbers import column_words
from holokine.whole import whole_file

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["MOST_SHEET_ROWS", "write_workbook"]

MOST_SHEET_ROWS = 1_048_575
_NAME = 31
_UNFIT = re.compile(r"[\[\]:*?/\\\x00-\x1f']")


def write_workbook(path: Path, tables: Mapping[str, pd.DataFrame], about: str) -> None:
    """Write the tables, and before them a sheet that lists them with what made them.

    A cell without a value is empty; numbers that are not finite stand as text. Tables longer than a sheet go on in
    further ones.

    Raises
    ------
    OutputError
        openpyxl is not installed, or the file cannot be written.
    """
    try:
        from openpyxl import Workbook
        from openpyxl.cell import WriteOnlyCell
        from openpyxl.styles import Alignment, Font
        from openpyxl.utils import get_column_letter
    except ImportError:
        raise MissingExtraError('a workbook needs openpyxl: python -m pip install "holokine[report]"') from None

    book = Workbook(write_only=True)
    sheets: dict[str, tuple[str, int]] = {}
    pieces: list[tuple[str, pd.DataFrame]] = []
    for title, table in tables.items():
        for start in range(0, max(len(table), 1), MOST_SHEET_ROWS):
            name = _sheet_name(title, {"contents", *(n.lower() for n in sheets)})
            piece = table.iloc[start : start + MOST_SHEET_ROWS]
            sheets[name] = (title + (f", rows from {start + 1:,}" if start else ""), len(piece))
            pieces.append((name, piece))

    def text(sheet: Any, value: str, *, bold: bool = False) -> Any:
        cell = WriteOnlyCell(sheet, value)
        cell.data_type = "s"  # never a formula
        if bold:
            cell.font, cell.alignment = Font(bold=True), Alignment(wrap_text=True, vertical="top")
        return cell

    contents = book.create_sheet("contents")
    contents.column_dimensions["A"].width, contents.column_dimensions["B"].width = 34, 70
    contents.append([text(contents, about)])
    contents.append([text(contents, word, bold=True) for word in ("sheet", "table", "rows")])
    for name, (title, rows) in sheets.items():
        contents.append([text(contents, name), text(contents, title), rows])
    for number, (name, table) in enumerate(pieces):
        tell(f"writing {path.name}", number, len(pieces), "sheets")
        sheet = book.create_sheet(name)
        sheet.freeze_panes = "A2"
        for k, column in enumerate(table.columns, 1):
            wide = 26 if table[column].dtype.kind not in "if" else 13
            sheet.column_dimensions[get_column_letter(k)].width = wide
        sheet.append([text(sheet, header(str(c)), bold=True) for c in table.columns])
        for row in table.itertuples(index=False):
            sheet.append([_cell(sheet, v, text) for v in row])
    with whole_file(path) as part, part.open("wb") as file:
        book.save(file)


def header(column: str) -> str:
    """Words of a column with its unit: ``effective z (kg)``."""
    words, unit = column_words(column)
    return f"{words} ({unit})" if unit else words


def _cell(sheet: Any, value: Any, text: Any) -> Any:
    if value is None or value != value:
        return None
    if isinstance(value, str):
        return text(sheet, value[:32_767])
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float) and not math.isfinite(value):
        return text(sheet, str(value))
    return value


def _sheet_name(title: str, taken: set[str]) -> str:
    plain = _UNFIT.sub(" ", title).strip() or "table"
    name, n = plain[:_NAME].strip(), 1
    while name.lower() in taken:
        n += 1
        name = f"{plain[: _NAME - 1 - len(str(n))].strip()} {n}"
    return name
