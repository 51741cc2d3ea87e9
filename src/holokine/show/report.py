"""One HTML page of sections with lines, findings, tables and figures: self-contained, for a reader or a printer."""

from __future__ import annotations

import base64
import html
import io
import re
from collections.abc import Callable, Iterable
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.show.numbers import cell_text, column_words
from holokine.whole import temporary_folder, whole_file

if TYPE_CHECKING:
    import pandas as pd

    from holokine.findings import Finding

__all__ = ["MOST_ROWS", "Section", "report_text", "write_report"]

MOST_ROWS = 40
_BY = ("use_percent", "largest_mpa", "size_mm", "mass_kg", "share_percent")
_LEVELS = ("error", "warning", "note")


class Section:
    """A chapter: a title, and what follows in the order in which it is put in.

    Attributes
    ----------
    title : str
    name : str
        By which it is chosen; the title's words when left out.
    tables : dict of DataFrame
        Every table that was put in, whole, by title.
    """

    def __init__(
        self, title: str, lines: Iterable[str] = (), findings: tuple[Finding, ...] = (), name: str = ""
    ) -> None:
        self.title, self.name = title, name or title
        self.tables: dict[str, pd.DataFrame] = {}
        self._html: list[str] = []
        self.with_lines(lines, findings)

    def with_lines(self, lines: Iterable[str], findings: Iterable[Finding] = ()) -> Section:
        """Lines, then findings, errors first."""
        told = [f"<li>{html.escape(line.strip())}</li>" for line in lines]
        ranked = sorted(findings, key=lambda f: _LEVELS.index(f.level))
        told += [f'<li class="{f.level}">{f.level}: {html.escape(f.text)}</li>' for f in ranked]
        if told:
            self._html.append(f'<ul class="facts">{"".join(told)}</ul>')
        return self

    def with_table(self, title: str, table: pd.DataFrame, most: int | None = MOST_ROWS) -> Section:
        """A table; of a long one the rows that matter most, with how many are left out."""
        if table.empty:
            return self
        self.tables[title or self.title] = table
        shown, told = (table, "") if most is None else shortened(table, most)
        heading = f"<h3>{html.escape(title)}</h3>" if title else ""
        left = f'<p class="left">{html.escape(told)}</p>' if told else ""
        self._html.append(f"{heading}{_table(shown)}{left}")
        return self

    def with_figure(self, caption: str, draw: Callable[[], Any]) -> Section:
        """A figure of Matplotlib."""
        from matplotlib.backends.backend_agg import FigureCanvasAgg

        target = draw()
        figure = target if hasattr(target, "savefig") else target.figure
        FigureCanvasAgg(figure)
        data = io.BytesIO()
        figure.savefig(data, dpi=100, format="png")
        return self._image(caption, data.getvalue())

    def with_picture(self, caption: str, write: Callable[[Path], Any]) -> Section:
        """A picture that is written as PNG to a path."""
        with temporary_folder() as folder:
            path = Path(folder) / "picture.png"
            write(path)
            return self._image(caption, path.read_bytes())

    def _image(self, caption: str, data: bytes) -> Section:
        text = html.escape(caption)
        code = base64.b64encode(_lighter(data)).decode("ascii")
        self._html.append(
            f'<figure><img alt="{text}" src="data:image/png;base64,{code}"><figcaption>{text}</figcaption></figure>'
        )
        return self

    def with_page(self, caption: str, page: str) -> Section:
        """A page of its own within this one, which is left out in print."""
        self._html.append(
            f'<figure class="turned"><iframe title="{html.escape(caption)}" loading="lazy" '
            f'srcdoc="{html.escape(page)}"></iframe><figcaption>{html.escape(caption)}</figcaption></figure>'
        )
        return self

    def with_code(self, text: str) -> Section:
        """Text as it is, such as commands."""
        self._html.append(f"<pre>{html.escape(text)}</pre>")
        return self

    def with_own(self, markup: str) -> Section:
        """The analyst's own text, as safe markup, set apart by a bar."""
        self._html.append(f'<div class="own">{markup}</div>')
        return self

    @property
    def body(self) -> str:
        """The markup of the section without its title."""
        return "\n".join(self._html)


def _lighter(data: bytes) -> bytes:
    """A PNG with 256 colours of its own in place of millions: a third of the size, and the same to the eye."""
    from PIL import Image

    with Image.open(io.BytesIO(data)) as picture:
        less = io.BytesIO()
        picture.convert("RGB").quantize(256, dither=Image.Dither.NONE).save(less, "PNG")
    return min(data, less.getvalue(), key=len)


def shortened(table: pd.DataFrame, most: int) -> tuple[pd.DataFrame, str]:
    """A table with the rows that matter most, in their order, and words for what is left out."""
    count = len(table)
    if count <= most:
        return table, ""
    size, by = None, next((c for c in _BY if c in table), "")
    if by:
        size = table[by].abs()
    elif "unit" in table and (value := next((c for c in ("peak", "value") if c in table), "")):
        by, size = f"{value} of each unit", -table[value].abs().groupby(table["unit"]).rank(ascending=False)
    if size is None:
        return table.head(most), f"the first {most} of {count:,} rows; the workbook and --out hold all"
    rows = np.sort(np.argsort(-size.fillna(-np.inf).to_numpy(), kind="stable")[:most])
    words = by.replace("_percent", "").replace("_mpa", " stress").replace("_mm", "").replace("_kg", "")
    return table.iloc[rows], f"{most} of {count:,} rows, the largest by {words}; the workbook and --out hold all"


def _table(table: pd.DataFrame) -> str:
    numeric = [table[c].dtype.kind in "if" for c in table.columns]
    heads = []
    for column, right in zip(table.columns, numeric, strict=True):
        words, unit = column_words(str(column))
        small = f"<small>{html.escape(unit)}</small>" if unit else ""
        heads.append(f"<th{' class=n' * right}>{html.escape(words)}{small}</th>")
    rows = []
    for row in table.itertuples(index=False):
        cells = [
            f"<td{' class=n' * right}>{html.escape(cell_text(str(c), v))}</td>"
            for c, v, right in zip(table.columns, row, numeric, strict=True)
        ]
        rows.append(f"<tr>{''.join(cells)}</tr>")
    return (
        f'<div class="scroll"><table><thead><tr>{"".join(heads)}</tr></thead><tbody>\n'
        + "\n".join(rows)
        + "\n</tbody></table></div>"
    )


def report_text(title: str, sections: list[Section], footer: str = "") -> str:
    """The page as text."""
    places = {id(s): re.sub(r"\W+", "-", s.title.lower()).strip("-") + f"-{n}" for n, s in enumerate(sections, 1)}
    nav = "".join(f'<li><a href="#{places[id(s)]}">{html.escape(s.title)}</a></li>' for s in sections)
    body = "\n".join(
        f'<section id="{places[id(s)]}"><h2>{html.escape(s.title)}</h2>\n{s.body}</section>' for s in sections
    )
    given = {
        "__TITLE__": html.escape(title), "__NAV__": f"<ul>{nav}</ul>" if len(sections) > 1 else "", "__BODY__": body,
        "__FOOT__": html.escape(footer),
    }  # fmt: skip
    text = files("holokine.show").joinpath("report.html").read_text(encoding="utf-8")
    return re.sub("|".join(given), lambda found: given[found.group()], text)


def write_report(path: Path, title: str, sections: list[Section], footer: str = "") -> None:
    """Write the page, whole or not at all.

    Raises
    ------
    OutputError
        When the file cannot be written.
    """
    text = report_text(title, sections, footer)
    with whole_file(path) as part:
        part.write_text(text, encoding="utf-8")
