"""Text from outside stays text: in figures, where $ begins a formula, and in pages, where < begins markup."""

from __future__ import annotations

import html
import json
import re
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from holokine.findings import Finding

from holokine.errors import HolokineError, shown

__all__ = ["flat_axes", "empty_figure", "filled_page", "label"]

_LONGEST = 48


@cache
def _figure_class() -> Any:
    from matplotlib.figure import Figure
    from matplotlib.text import Text

    class PlainFigure(Figure):
        """A figure whose texts are no formulas, but for those that axes make of their numbers."""

        def draw(self, renderer: Any) -> None:
            for text in self.findobj(Text):
                words = text.get_text()
                if "$" in words and "\\mathdefault" not in words:
                    text.set_parse_math(False)
            super().draw(renderer)

        def _repr_png_(self) -> bytes:
            """For notebooks."""
            import io

            from matplotlib.backends.backend_agg import FigureCanvasAgg

            FigureCanvasAgg(self)
            data = io.BytesIO()
            self.savefig(data, dpi=80, format="png")
            return data.getvalue()

    return PlainFigure


def flat_axes(ax: Any) -> Any:
    """Axes to draw into: those given, or of a new figure.

    Raises
    ------
    HolokineError
        Something else, such as an array of several.
    """
    if ax is None:
        return empty_figure((12.8, 8.0)).subplots()
    if not hasattr(ax, "plot") or hasattr(ax, "add_collection3d"):
        raise HolokineError(f"ax: expected one pair of Axes in two dimensions, got {shown(type(ax).__name__)}")
    return ax


def empty_figure(size: tuple[float, float], **keys: Any) -> Any:
    """A Figure of a size in inches."""
    return _figure_class()(figsize=size, layout="constrained", **keys)


def label(text: str) -> str:
    """A name for a legend or an axis: a long one cut; shown even if it begins as labels do that are left out."""
    short = text if len(text) <= _LONGEST else text[: _LONGEST - 3] + "..."
    return f" {short}" if short.startswith("_") else short


def filled_page(
    template: str, heading: str, lines: list[str], findings: tuple[Finding, ...], data: dict[str, Any]
) -> str:
    """A template of this package with its heading, lines, findings and the data of its script put in.

    All at once, so that nothing that is put in is taken for a place to put in more; no text in the data can end the
    script or begin another.
    """
    text = files("holokine.show").joinpath(template).read_text(encoding="utf-8")
    facts = "".join(f"<li>{html.escape(line)}</li>" for line in lines)
    facts += "".join(f'<li class="{f.level}">{f.level}: {html.escape(f.text)}</li>' for f in findings)
    script = json.dumps(data)
    for sign in "<>&":
        script = script.replace(sign, f"\\u{ord(sign):04x}")
    given = {"__TITLE__": html.escape(heading), "__FACTS__": facts, "__DATA__": script}
    return re.sub("|".join(given), lambda found: given[found.group()], text)
