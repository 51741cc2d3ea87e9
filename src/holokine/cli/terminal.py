"""Printing to the terminal."""

from __future__ import annotations

import os
import sys
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Screen"]


def _title(column: str) -> str:
    from holokine.show.numbers import column_words

    words, unit = column_words(column)
    return f"{words}\n({unit})" if unit else words


class Screen:
    """Headings, tables and findings, as wide as the terminal (140 columns or more into a file or pipe).

    On a terminal a table longer than the screen is shortened, and says so, unless all is asked for (`whole`).
    """

    def __init__(self, whole: bool = False) -> None:
        from rich.console import Console

        class Ours(Console):
            def on_broken_pipe(self) -> None:
                raise BrokenPipeError  # who reads has enough: no failure

        self.whole = whole

        width = None
        if not sys.stdout.isatty():  # tables are not folded for a pipe, whatever window it was started from
            asked = os.environ.get("COLUMNS", "")
            width = max(int(asked), 140) if asked.isdigit() else 160
        self.console = Ours(width=width, highlight=False, soft_wrap=False, emoji=False, markup=False)

    def heading(self, text: str) -> None:
        """A heading over a rule."""
        self.console.print()
        self.console.print(text, style="bold")
        self.console.print("─" * min(len(text), self.console.width))

    def lines(self, lines: list[str]) -> None:
        """Plain lines."""
        for line in lines:
            self.console.print(line)

    def table(self, title: str, data: pd.DataFrame) -> None:
        """A table; numbers to four digits, right-aligned."""
        from rich import box
        from rich.table import Table

        from holokine.show.numbers import cell_text

        if data.empty:
            return
        rows = len(data)
        most = max(20, self.console.height - 10)
        if self.console.is_terminal and not self.whole and rows > most + 4:
            data = data.iloc[:most]
        table = Table(box=box.SIMPLE_HEAD, pad_edge=False)
        for column in data.columns:
            numeric = data[column].dtype.kind in "if"
            table.add_column(_title(str(column)), justify="right" if numeric else "left")
        previous: Any = None
        for row in data.itertuples(index=False):
            cells = []
            for column, value in zip(data.columns, row, strict=True):
                cells.append("" if column == "gauge" and value == previous else cell_text(str(column), value))
            previous = row[0]
            table.add_row(*cells)
        self.console.print()
        self.console.print(title, style="italic")
        self.console.print(table)
        if len(data) < rows:
            left = f"  {rows - len(data)} more of {rows} rows: --all shows them; --csv, --json and --out hold them"
            self.console.print(left, style="italic")

    def findings(self, findings: tuple[Any, ...]) -> None:
        """Errors first, then warnings, then notes."""
        styles = {"error": "bold red", "warning": "yellow", "note": ""}
        for level in styles:
            for f in findings:
                if f.level == level:
                    self.console.print(f"{f.level}: {f.text}", style=styles[level])

    def footer(self, text: str) -> None:
        """Version and fingerprint."""
        self.console.print(text, style="dim")
