"""One short screen for what stands at a prompt."""

from __future__ import annotations

import textwrap
from html import escape
from typing import TYPE_CHECKING

import pandas as pd

from holokine.show.numbers import number_text as n

if TYPE_CHECKING:
    from collections.abc import Sequence

    from holokine.findings import Finding
    from holokine.modes.check import CheckReport
    from holokine.system.build import System

__all__ = ["as_html", "check_facts", "result_short"]

ROWS = 15
FINDINGS = 5
WIDTH = 118


def _table(data: pd.DataFrame, name: str) -> list[str]:
    """The first rows, and how many more there are."""
    if data.empty:
        return [f"  no {name}"]
    shown = data.iloc[:ROWS]
    text = shown.to_string(index=False, float_format=n, na_rep="-", max_colwidth=48, line_width=None)
    lines = ["  " + (line if len(line) <= WIDTH else f"{line[: WIDTH - 2]} …") for line in text.splitlines()]
    if len(data) > len(shown):
        lines.append(f"  ... {len(data) - len(shown)} more of {len(data)} {name}")
    return lines


def check_facts(report: CheckReport, system: System) -> list[str]:
    """Mass, size and counts."""
    t, box = report.totals, report.box
    size = " x ".join(n(1e3 * s) for s in box[1] - box[0])
    return [
        f"{n(t.mass)} kg, centre of mass [{', '.join(n(1e3 * c) for c in t.centre)}] mm, box {size} mm",
        ", ".join(f"{v:,} {k}" for k, v in report.counts.items() if v),
        f"{len(report.pieces)} connected {'piece' if len(report.pieces) == 1 else 'pieces'}, "
        f"{len(system.supports)} supports",
        "print() shows all; masses(), connections(), elements(), supports() are tables",
    ]


def told_first(findings: Sequence[Finding]) -> list[str]:
    """Errors and warnings, at most a few, and how many more there are."""
    grave = [f for level in ("error", "warning") for f in findings if f.level == level]
    lines = [f"{f.level}: {f.text}" for f in grave[:FINDINGS]]
    notes = sum(f.level == "note" for f in findings)
    left = [f"{len(grave) - FINDINGS} more warnings"] if len(grave) > FINDINGS else []
    left += [f"{notes} note{'s' if notes != 1 else ''}"] if notes else []
    return [*lines, f"({' and '.join(left)} in findings)"] if left else lines


def _wrapped(line: str) -> list[str]:
    return textwrap.wrap(line, WIDTH, initial_indent="  ", subsequent_indent="    ")


def result_short(
    title: str, lines: Sequence[str], table: pd.DataFrame | None, rows: str, findings: Sequence[Finding] = ()
) -> str:
    """Title, findings that matter, what it is, and the first rows."""
    told = [part for line in (*told_first(findings), *lines) for part in _wrapped(line)]
    return "\n".join([title, *told, *([] if table is None else _table(table, rows))])


def as_html(
    title: str, lines: Sequence[str], table: pd.DataFrame | None, rows: str, findings: Sequence[Finding] = ()
) -> str:
    """The same for a notebook, findings whole."""
    told = told_first(findings)
    items = "".join(f"<li>{escape(line)}</li>" for line in told)
    text = "\n".join(
        [*(part for line in lines for part in _wrapped(line)), *([] if table is None else _table(table, rows))]
    )
    head = f"<strong>{escape(title)}</strong>" + (f'<ul style="margin: 0.2em 0">{items}</ul>' if items else "")
    return f'{head}<pre style="line-height: 1.25; overflow-x: auto">{escape(text)}</pre>'
