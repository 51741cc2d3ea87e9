"""One short screen for what stands at a prompt."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from holokine.show.numbers import number_text as n
from holokine.show.text import proof_text

if TYPE_CHECKING:
    from holokine.modes.check import CheckReport
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = ["answer_short", "as_html", "check_short", "modes_short"]

ROWS = 15
WIDTH = 118


def _table(data: pd.DataFrame, name: str) -> list[str]:
    """The first rows, and how many more there are."""
    if data.empty:
        return [f"  no {name}"]
    shown = data.iloc[:ROWS]
    text = shown.to_string(index=False, float_format=n, na_rep="-", max_colwidth=48, line_width=None)
    lines = ["  " + line[:WIDTH] for line in text.splitlines()]
    if len(data) > len(shown):
        lines.append(f"  ... {len(data) - len(shown)} more of {len(data)} {name}")
    return lines


def check_short(title: str, report: CheckReport, system: System) -> str:
    """Mass, size, counts and the most serious findings."""
    t, box = report.totals, report.box
    size = " x ".join(n(1e3 * s) for s in box[1] - box[0])
    counts = ", ".join(f"{v:,} {k}" for k, v in report.counts.items() if v)
    order = {"error": 0, "warning": 1, "note": 2}
    findings = sorted(report.findings, key=lambda f: order[f.level])
    lines = [
        f"Check: {title}",
        f"  {n(t.mass)} kg, centre of mass [{', '.join(n(1e3 * c) for c in t.centre)}] mm, box {size} mm",
        f"  {counts}",
        f"  {len(report.pieces)} connected {'piece' if len(report.pieces) == 1 else 'pieces'}, "
        f"{len(system.supports)} supports",
    ]
    lines += [f"  {f.level}: {f.text}"[:WIDTH] for f in findings[:8]] or ["  no findings"]
    if len(findings) > 8:
        lines.append(f"  ... {len(findings) - 8} more of {len(findings)} findings")
    return "\n".join([*lines, "  print() shows all; masses(), connections(), elements(), supports() are tables"])


def modes_short(title: str, modes: ModeSet) -> str:
    """Frequencies, periods and main directions of the lowest modes."""
    free = np.where(modes.free_mass[:3] > 0, modes.free_mass[:3], 1.0)
    share = 100.0 * modes.effective_mass[:, :3] / free
    table = pd.DataFrame({"mode": modes.numbers, "frequency_hz": modes.frequencies_hz})
    for d, axis in enumerate("xyz"):
        table[f"{axis}_percent"] = [f"{v:.1f}" for v in share[:, d]]
    return "\n".join([f"Modes: {title}", f"  {proof_text(modes)}", *_table(table, "modes")])


def answer_short(title: str, name: str, lines: list[str], peaks: pd.DataFrame) -> str:
    """The event, and the first peaks."""
    head = [f"  {line}"[:WIDTH] for line in lines[:4]]
    return "\n".join([f"Answer: {title}, {name}", *head, *_table(peaks, "readings")])


def as_html(text: str) -> str:
    """The same for a notebook."""
    return f'<pre style="line-height: 1.25; overflow-x: auto">{escape(text)}</pre>'
