"""Sentences and headings around the tables."""

from __future__ import annotations

import numpy as np

from holokine.modes.check import CheckReport
from holokine.modes.extract import ModeSet
from holokine.modes.ritz import RITZ
from holokine.respond.combine import SpectrumAnswer
from holokine.respond.static import StaticAnswer
from holokine.respond.transient import PulseAnswer
from holokine.show.numbers import number_text as n
from holokine.system.build import System
from holokine.units import STANDARD_GRAVITY

__all__ = ["answer_lines", "check_lines", "check_text", "event_words", "mass_lines", "proof_text", "time_step_line"]


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


def check_text(report: CheckReport, system: System) -> str:
    """The whole check as plain text."""
    from holokine.show.tables import mass_table, supports_table

    findings = [f"{f.level}: {f.text}" for f in report.findings] or ["no findings"]
    return "\n".join(
        [
            *check_lines(report, system),
            "",
            mass_table(report).to_string(index=False, float_format=n),
            "",
            supports_table(system).to_string(index=False),
            "",
            *findings,
        ]
    )


def proof_text(modes: ModeSet) -> str:
    """What proves the extraction: counts, largest residual, loss of orthogonality, solver."""
    if modes.method == RITZ:
        top = n(float(modes.frequencies_hz[-1]))
        return f"{modes.count} load-dependent vectors; their frequencies, up to {top} Hz, are those of the basis"
    proof = "how many exist is not known"
    if modes.exists is not None:
        word = "exist" if modes.exists != 1 else "exists"
        proof = f"{modes.exists} {word} there by count of inertia"
    f = modes.frequencies_hz
    where = f"up to {n(float(f[-1]))} Hz" if modes.from_the_bottom else f"from {n(float(f[0]))} to {n(float(f[-1]))} Hz"
    if not modes.from_the_bottom and modes.below is not None:
        proof += f", {modes.below} below"
    return (
        f"{modes.count} modes found {where} ({proof}); largest residual "
        f"{modes.residuals.max(initial=0.0):.1e}, loss of M-orthogonality {modes.orthogonality:.1e}; "
        f"{modes.method}"
    )


def mass_lines(modes: ModeSet) -> list[str]:
    """How much of the mass the modes hold, per direction."""
    lines = []
    captured = modes.effective_mass.sum(axis=0)
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


def event_words(answer: SpectrumAnswer | PulseAnswer) -> str:
    """What the event is, in a line."""
    if isinstance(answer, SpectrumAnswer):
        names = ", ".join(answer.sources.names)
        rule = {
            "srss": "SRSS",
            "cqc": "CQC",
            "absolute": "absolute sum",
            "grouped": "grouping of close modes",
            "largest plus srss": "largest plus SRSS of the rest",
        }.get(answer.rule, answer.rule)
        if answer.combination.rigid is not None:
            rule += ", rigid parts algebraically"
        both = "" if len(set(answer.sources.axes)) == 1 else f", directions by {answer.direction_rule}"
        if len(set(answer.sources.axes)) < len(answer.sources.axes):
            both = f", groups of supports by {answer.sources.supports}" + both
            return f"response spectra at groups of supports: {names}; modes by {rule}{both.replace('srss', 'SRSS')}"
        return f"response spectrum along {names}; modes by {rule}{both.replace('srss', 'SRSS')}"
    pulse = answer.pulse
    words = []
    if pulse.moves_base:
        peak, change, end = pulse.peak / STANDARD_GRAVITY, pulse.velocity_change, pulse.end_displacement
        moved = [d for d in range(3) if pulse.peak[d] > 0]
        shown = ", ".join(
            f"{'xyz'[d]} {n(peak[d])} g with a velocity change of {n(change[d])} m/s and a displacement of "
            f"{n(1e3 * end[d])} mm at its end" for d in moved
        )  # fmt: skip
        words.append(f"base pulse along {', '.join('xyz'[d] for d in moved)}: peak {shown}")
    signals = [
        f"{name} (peak {n(pulse.peak[k])} times)" for k, name in enumerate(pulse.names)
        if k > 2 and pulse.resting[k] == 0
    ]  # fmt: skip
    if signals:
        words.append("loads in time: " + ", ".join(signals))
    for k, name in enumerate(pulse.names):
        if pulse.resting[k]:
            words.append(
                f"{name} stays on all the time" if pulse.acceleration[-1, k] else f"{name} is let go at the start"
            )
    return "; ".join(words) + (
        f"; from {n(1e3 * pulse.start)} to {n(1e3 * pulse.end)} ms, followed until {n(1e3 * answer.time[-1])} ms in "
        f"{len(answer.time) - 1:,} steps"
    )


def static_lines(answer: StaticAnswer) -> list[str]:
    """Loads and their balance."""
    loads = ", ".join(name if k == 1 else f"{n(k)} times {name}" for name, k in answer.loads.items())
    rows = [
        ("loads in all", answer.applied),
        ("supports answer", answer.reactions),
        ("springs to the frame", answer.ground),
    ]
    return [
        f"loads at rest: {loads}",
        *(
            f"{word}: " + ", ".join(f"{a} {n(x)} N" for a, x in zip("xyz", v, strict=True))
            for word, v in rows
            if v.any()
        ),
    ]


def answer_lines(answer: SpectrumAnswer | PulseAnswer | StaticAnswer) -> list[str]:
    """Event, modes kept and mass held: what to read before the peaks."""
    if isinstance(answer, StaticAnswer):
        return static_lines(answer)
    r = answer.reduced
    f = r.frequencies_hz
    damping = f"{n(100 * r.damping.min(), 3)} %"
    if r.damping.max() - r.damping.min() > 1e-9:
        damping = f"{n(100 * r.damping.min(), 3)} to {n(100 * r.damping.max(), 3)} %"
    lines = [
        event_words(answer),
        f"{r.count} modes from {n(f[0])} to {n(f[-1])} Hz, damping {damping}",
        "free mass held by the modes: "
        + ", ".join(f"{a} {100 * c:.1f} %" for a, c in zip(r.loads, r.captured, strict=True) if c == c),
    ]
    if isinstance(answer, SpectrumAnswer):
        if answer.missing.any():
            lines.append(
                "missing mass answers with "
                + ", ".join(
                    f"{d} {n(z / STANDARD_GRAVITY)} g"
                    for d, z in zip(answer.sources.names, answer.zero_period, strict=True)
                )
            )
        else:
            lines.append("missing mass left out")
    else:
        lines.append(
            "left-out modes answer statically (correction column)"
            if answer.reader.correct
            else "no static correction for left-out modes"
        )
    return lines
