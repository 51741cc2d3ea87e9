"""Sentences and headings around the tables."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.modes.mode_set import RITZ
from holokine.show.numbers import number_text as n

if TYPE_CHECKING:
    from collections.abc import Sequence

    from holokine.modes.check import CheckReport
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.reduced import ReducedModel
    from holokine.system.build import System
    from holokine.system.loads import LoadField, Resultant

__all__ = [
    "check_lines",
    "kept_lines",
    "load_lines",
    "mass_lines",
    "proof_text",
    "resultant_words",
    "time_step_line",
    "vector_words",
]


def check_lines(report: CheckReport, system: System) -> list[str]:
    """Totals and counts, a line each."""
    t, box = report.totals, report.box
    principal = np.linalg.eigvalsh(t.inertia)
    size = box[1] - box[0]
    tensor = np.where(np.abs(t.inertia) < 1e-9 * np.abs(t.inertia).max(initial=0.0), 0.0, t.inertia)
    lines = [
        f"total mass       {n(t.mass)} kg",
        f"centre of mass   x {n(1e3 * t.centre[0])}  y {n(1e3 * t.centre[1])}  z {n(1e3 * t.centre[2])} mm",
        f"inertia there    xx {n(tensor[0, 0])}  yy {n(tensor[1, 1])}  zz {n(tensor[2, 2])}  "
        f"xy {n(tensor[0, 1])}  yz {n(tensor[1, 2])}  xz {n(tensor[0, 2])} kg m² "
        f"(principal {', '.join(n(p) for p in principal)})",
        f"bounding box     {n(1e3 * size[0])} x {n(1e3 * size[1])} x {n(1e3 * size[2])} mm, "
        f"from [{', '.join(n(1e3 * b) for b in box[0])}] to [{', '.join(n(1e3 * b) for b in box[1])}] mm",
        "counts           " + ", ".join(f"{v:,} {k}" for k, v in report.counts.items() if v and k != "nodes merged"),
        f"merging          {report.counts['nodes merged']:,} nodes made one with others within "
        f"{1e3 * system.mesh.merge_tolerance:.2g} mm",
    ]  # fmt: skip
    held = len(report.pieces)
    lines.append(f"connected pieces {held}" + (" (everything hangs together)" if held == 1 else ""))
    if held > 1:
        for number, piece in enumerate(report.pieces, start=1):
            names = ", ".join(piece.members) or "a point"
            lines.append(f"  piece {number}: {names}; held by {', '.join(piece.supports) or 'nothing'}")
    return lines


def proof_text(modes: ModeSet) -> str:
    """What proves the extraction: counts, largest residual, loss of orthogonality, solver."""
    if modes.method == RITZ:
        top = n(float(modes.frequencies_hz[-1]))
        return f"{modes.count} load-dependent vectors; their frequencies, up to {top} Hz, are those of the basis"
    proof = "how many exist is not known"
    if modes.exists is not None:
        word = "exist" if modes.exists != 1 else "exists"
        proof = f"{modes.exists} {word} there by Sturm count"
    f = modes.frequencies_hz
    end = modes.upto_hz if modes.upto_hz is not None and modes.upto_hz > f[-1] else float(f[-1])
    where = f"up to {n(end)} Hz" if modes.from_the_bottom else f"from {n(float(f[0]))} to {n(float(f[-1]))} Hz"
    if not modes.from_the_bottom and modes.below is not None:
        proof += f", {modes.below} below"
    if modes.doubt:
        proof = f"NOT PROVEN: {modes.doubt}"
    found = f"{modes.count} modes found"
    if modes.total == modes.count:
        found, proof = f"all {modes.count} modes that exist found", "there are no others"
    return (
        f"{found} {where} ({proof}); {_error_words(modes)}residuals to {modes.residuals.max(initial=0.0):.0e}, "
        f"M-orthogonal to {modes.orthogonality:.0e}; {modes.method}"
    )


def _error_words(modes: ModeSet) -> str:
    """How well the frequencies are known as those of the matrices; nothing where that is not known."""
    share = modes.errors_hz / np.where(modes.frequencies_hz > 0.0, modes.frequencies_hz, np.inf)
    if not np.isfinite(share).any():
        return ""
    row = int(np.nanargmax(share))
    if modes.unsure.any():
        return f"NOT PROVEN to the digits shown: mode {modes.numbers[row]} is known to {modes.errors_hz[row]:.1g} Hz; "
    return f"frequencies to {share[row]:.0e}, "


def mass_lines(modes: ModeSet) -> list[str]:
    """How much of the mass the modes hold, per direction."""
    lines = []
    captured = modes.effective_mass.sum(axis=0)
    captured = np.where(captured[:3] > 1e-12 * modes.whole_mass[:3], captured[:3], 0.0)  # what rounding leaves
    for d, axis in enumerate("xyz"):
        free, whole = modes.free_mass[d], modes.whole_mass[d]
        of_free = 100 * captured[d] / free if free else 0.0
        of_whole = 100 * captured[d] / whole if whole else 0.0
        lines.append(
            f"{axis}: {n(captured[d])} kg held by {modes.count} modes = {of_free:.1f} % of the free mass "
            f"{n(free)} kg, {of_whole:.1f} % of the whole {n(whole)} kg"
        )
    return lines


def time_step_line(modes: ModeSet) -> str:
    """What the highest mode kept asks of the time step of a later response in time."""
    top = float(modes.frequencies_hz[-1]) if modes.count else 0.0
    if top <= 0:
        return "no elastic mode: nothing sets a time step"
    return (
        f"highest mode kept: period {n(1e3 / top)} ms; a response in time wants steps of about {n(1e3 / top / 20)} ms "
        f"(20 per period), {n(20 * top)} per second of history"
    )


def load_lines(acting: Sequence[LoadField]) -> list[str]:
    """What loads that act come to at a factor of 1."""
    return [f"load {field.name}: {resultant_words(field.total)}" for field in acting if field.total is not None]


def resultant_words(total: Resultant) -> str:
    """Force, moment where there is one, and the place that it is about."""
    size = float(np.linalg.norm(total.force))
    least = 1e-6 * max(size * float(np.abs(total.place).max()), float(np.abs(total.moment).max()))
    moment = vector_words(np.where(np.abs(total.moment) <= least, 0.0, total.moment), "N m")
    area = "" if np.isnan(total.area) else f" on {n(1e6 * total.area)} mm²"
    at = f"at [{', '.join(n(1e3 * x) for x in total.place)}] mm"
    if not size:
        return f"{moment or 'nothing'}, {at}"
    return f"{vector_words(total.force, 'N')}{area}, {at}" + (f", with a moment of {moment} about it" if moment else "")


def vector_words(values: np.ndarray, unit: str) -> str:
    """Components that are not zero: ``x 3.2 N, z -12 N``."""
    shown = np.where(np.abs(values) < 1e-9 * np.abs(values).max(initial=0.0), 0.0, values)
    return ", ".join(f"{a} {n(v)} {unit}" for a, v in zip("xyz", shown, strict=True) if v)


def kept_lines(reduced: ReducedModel) -> list[str]:
    """Modes kept with their damping, and mass held."""
    r, f = reduced, reduced.frequencies_hz
    damping = f"{n(100 * r.damping.min(), 3)} %"
    if r.damping.max() - r.damping.min() > 1e-9:
        damping = f"{n(100 * r.damping.min(), 3)} to {n(100 * r.damping.max(), 3)} %"
    return [
        f"{r.count} modes from {n(f[0])} to {n(f[-1])} Hz, damping {damping}",
        "free mass held by the modes: "
        + ", ".join(f"{a} {100 * c:.1f} %" for a, c in zip(r.loads, r.captured, strict=True) if c == c),
    ]
