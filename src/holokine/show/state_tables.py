"""Tables, words and figures of states and of their buckling."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from holokine.gauges.resting_gauges import LETS_GO
from holokine.respond.reduced import reading_noise
from holokine.respond.resting import read_at_rest
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.state.buckling import FARTHEST, Buckling

if TYPE_CHECKING:
    from holokine.gauges.channels import GaugeSet
    from holokine.state.about import AtRest
    from holokine.state.changes import Changes
    from holokine.state.sequence import FrequencyPath
    from holokine.system.build import System

__all__ = [
    "axial_table", "buckling_lines", "buckling_table", "changes_lines", "changes_table", "feet_table", "path_table",
    "plot_path", "readings_table", "spring_table", "state_lines", "supports_at_rest",
]  # fmt: skip

Floats = NDArray[Any]  # float64


def state_lines(state: AtRest) -> list[str]:
    """Loads, balance, and how well all conditions are met."""
    eq, s = state.equilibrium, state.state
    loads = [name if k == 1 else f"{n(k)} times {name}" for name, k in s.loads.items()]
    loads += [f"{n(v)} N of tension in {part}" for part, v in s.tension.items()]
    loads += [f"{part} shorter by {n(1e3 * v)} mm" for part, v in s.shortening.items()]
    loads += [f"{part} {'warmer' if v > 0 else 'colder'} by {n(abs(v))} K" for part, v in s.temperature.items()]
    lines = [f"at rest under: {', '.join(loads)}"]
    if eq.shortened:
        lengths = ", ".join(f"{part}: {1e3 * v:.6g} mm" for part, v in eq.shortened.items())
        lines.append(f"made tight by shortening: {{{lengths}}} (another state keeps it by installed: {state.name})")
    u = state.displacement.reshape(-1, 6)[:, :3]
    size = np.linalg.norm(u, axis=1)
    node = int(size.argmax())
    names = {k: p for p, k in state.elastic.mesh.points.items()}
    x, y, z = 1e3 * state.elastic.mesh.nodes[node]
    where = names.get(node, f"[{n(x)}, {n(y)}, {n(z)}] mm")
    lines.append(f"largest displacement: {n(1e3 * float(size[node]))} mm at {where}")
    outside, reactions, ground = state.balance
    for word, v in (("total applied load", outside), ("total reaction", reactions), ("springs to ground", ground)):
        if v.any():
            lines.append(f"{word}: " + ", ".join(f"{a} {n(f)} N" for a, f in zip("xyz", v, strict=True)))
    if eq.feet:
        count = {word: sum(r.status == word for r in eq.feet) for word in ("touching", "sliding", "open")}
        words = ", ".join(f"{k} {word}" for word, k in count.items() if k)
        lines.append(f"feet of one-way supports: {words}")
    acting = [s for s in eq.springs if s.status == "acting"]
    if eq.springs:
        lines.append(f"one-way springs and springs with a law: {len(acting)} of {len(eq.springs)} act")
    if any(p.only_pulls for p in state.elastic.description.parts.values()):
        lines.append(f"slack: {', '.join(eq.slack) or 'no cable'}")
    lines.append(
        f"all conditions of the equilibrium hold to {eq.violation:.1g} of the largest force (balance, gaps, "
        "no pull where there is only push, friction within its limit)"
        if eq.feet or eq.springs or eq.slack
        else f"forces balance to {eq.violation:.1g} of the largest"
    )
    return lines


def feet_table(state: AtRest) -> pd.DataFrame:
    """Feet of one-way supports: touching, sliding or open, gap, force, friction against its limit, slip."""
    names = {k: p for p, k in state.elastic.mesh.points.items()}
    rows = []
    for r in state.equilibrium.feet:
        x, y, z = 1e3 * state.elastic.mesh.nodes[r.node]
        across, limit = float(np.linalg.norm(r.across)), r.friction * r.force
        row: dict[str, object] = {
            "support": r.support, "at": names.get(r.node, f"[{n(x)}, {n(y)}, {n(z)}] mm"), "state": r.status,
            "gap_mm": 1e3 * r.gap, "force_n": r.force,
        }  # fmt: skip
        if any(f.friction for f in state.equilibrium.feet):
            row |= {"friction_n": across, "limit_n": limit, "used_percent": 100.0 * across / limit if limit else np.nan,
                    "slip_mm": 1e3 * float(np.linalg.norm(r.slip)) if r.friction else np.nan}  # fmt: skip
        rows.append(row)
    return pd.DataFrame(rows)


def spring_table(state: AtRest) -> pd.DataFrame:
    """One-way springs and springs with a table or law: elongation, force, and stiffness about the state."""
    rows = [
        {"spring": s.name, "state": s.status, "elongation_mm": 1e3 * s.elongation, "force_n": s.force,
         "stiffness_n_per_mm": 1e-3 * s.stiffness}
        for s in state.equilibrium.springs
    ]  # fmt: skip
    return pd.DataFrame(rows)


def axial_table(state: AtRest) -> pd.DataFrame:
    """Axial force of every beam part, tension positive, largest first; how much shorter than its place what is made
    tight is; cables that are slack are told."""
    rows, made = [], {**state.state.shortening, **state.equilibrium.shortened}
    for part, (low, high) in state.tensions.items():
        slack = part in state.equilibrium.slack
        shorter = made.get(part, np.nan)
        rows.append({"part": part, "lowest_n": low, "highest_n": high, "shortening_mm": 1e3 * shorter,
                     "state": "slack" if slack else ""})  # fmt: skip
    table = pd.DataFrame(rows, columns=["part", "lowest_n", "highest_n", "shortening_mm", "state"])
    order = table[["lowest_n", "highest_n"]].abs().max(axis=1).sort_values(ascending=False).index
    if not (table["state"] != "").any():
        table = table.drop(columns="state")
    if not made:
        table = table.drop(columns="shortening_mm")
    return table.loc[order].reset_index(drop=True)


def supports_at_rest(state: AtRest) -> pd.DataFrame:
    """Force of every support on the assembly, friction included, global axes."""
    rows = []
    size = max((float(np.abs(f).max()) for f in state.reactions.values()), default=0.0)
    for name, force in state.reactions.items():
        force = np.where(np.abs(force) < 1e-12 * size, 0.0, force)
        row = {"support": name, **{f"{a}_n": float(f) for a, f in zip("xyz", force, strict=True)}}
        rows.append({**row, "size_n": float(np.linalg.norm(force))})
    return pd.DataFrame(rows, columns=["support", "x_n", "y_n", "z_n", "size_n"])


def readings_table(gauges: GaugeSet, values: Floats) -> pd.DataFrame:
    """Every reading in the state, in display units; velocities and accelerations, which nothing has, are left out."""
    peaks, places = read_at_rest(gauges, values)
    noise = reading_noise(gauges.readings, peaks)
    rows = []
    for number, reading in enumerate(gauges.readings):
        if np.isnan(peaks[number]) or reading.component == LETS_GO:
            continue
        unit, size = display_unit(reading.dimension)
        quiet = abs(peaks[number]) <= noise[number]
        value = 0.0 if quiet else peaks[number] / size
        rows.append({"gauge": reading.gauge, "component": reading.component, "value": value, "unit": unit,
                     "place": places[number]})  # fmt: skip
    table = pd.DataFrame(rows, columns=["gauge", "component", "value", "unit", "place"])
    return table if table["place"].astype(bool).any() else table.drop(columns="place")


def buckling_lines(state: AtRest, found: Buckling) -> list[str]:
    """The lowest factor as a margin, and whether any were left out."""
    constant = f", {', '.join(state.state.constant)} held constant" if state.state.constant else ""
    lines = [f"load factors of the state's loads{constant}: all of them times the factor make it buckle"]
    if len(found.positive):
        first = float(found.positive[0])
        lines.append(f"lowest load factor: {n(first)}; the state has a safety of {n(first)} against buckling")
        more = "" if found.all_positive else f"; {found.exist} lie at or below the highest one listed, by inertia"
        lines.append(f"{len(found.positive)} positive factors listed{more}")
    else:
        lines.append(f"no load factor between 0 and {FARTHEST:g}: these loads do not make it buckle")
    if len(found.negative):
        lines.append(f"loads the other way round: nearest factor {n(float(found.negative[0]))}")
    else:
        lines.append(f"loads the other way round: none down to -{FARTHEST:g}")
    return lines


def buckling_table(found: Buckling, words: list[str]) -> pd.DataFrame:
    """Load factors, lowest first, negative ones after, with what moves most."""
    factors = np.concatenate([found.positive, found.negative])
    return pd.DataFrame({"number": np.arange(1, len(factors) + 1), "load_factor": factors, "moves_most": words})


def changes_lines(state: AtRest, found: Changes) -> list[str]:
    """The nearest change on either side of the state, and where its equilibrium ends."""
    constant = f", {', '.join(state.state.constant)} held constant" if state.state.constant else ""
    lines = [f"load factors of the state's loads{constant}, from {found.low:g} to {found.high:g}; the state is at 1"]
    if not found.members:
        return [*lines, "nothing of it acts one way only: nothing can change"]
    above, below = ([c for c in found.found if (c.factor > 1.0) == side] for side in (True, False))
    if above:
        first = above[0]
        lines.append(f"first change under more load: at {n(first.factor)}, {first.words}")
    else:
        lines.append(f"under more load nothing changes up to {n(found.high if found.ends is None else found.ends)}")
    if below:
        lines.append(f"last change under less load: at {n(below[-1].factor)}, {below[-1].words}")
    if found.ends is not None:
        lines.append(f"its equilibrium ends at {n(found.ends)}; beyond it: {found.why}")
    if not found.whole:
        lines.append(f"there are more changes than the {len(found.found)} listed")
    if found.curved:
        lines.append("feet rub, springs have a law, stress holds what hangs, or load steps are followed: what changes "
                     "and comes back between two factors that were looked at may be missed")  # fmt: skip
    return lines


def changes_table(state: AtRest, found: Changes) -> pd.DataFrame:
    """By rising load factor: the member, where it is, and what it does below and above."""
    mesh = state.elastic.mesh
    names = {k: p for p, k in mesh.points.items()}
    rows = []
    for c in found.found:
        where = ""
        if c.node is not None:
            where = names.get(c.node, "[{}, {}, {}] mm".format(*(n(v) for v in 1e3 * mesh.nodes[c.node])))
        rows.append({"load_factor": c.factor, "member": c.name, "kind": c.kind, "at": where,
                     "below": c.below, "above": c.above})  # fmt: skip
    return pd.DataFrame(rows, columns=["load_factor", "member", "kind", "at", "below", "above"])


def path_table(path: FrequencyPath) -> pd.DataFrame:
    """Frequency of every mode at every load factor, and the factor at which its square would be zero."""
    rows = []
    for k in range(path.frequencies_hz.shape[1]):
        row: dict[str, object] = {"mode": k + 1}
        row |= {f"hz_at_{factor:.3g}": path.frequencies_hz[i, k] for i, factor in enumerate(path.factors)}
        rows.append({**row, "zero_at_factor": path.zeros[k]})
    return pd.DataFrame(rows)


def plot_path(path: FrequencyPath, title: str, lowest: float | None) -> Any:
    """Frequency squared against the load factor, straight lines on to zero; returns the Figure."""

    from holokine.show.figures import COLOURS, GHOST, SIZE

    figure = empty_figure(SIZE)
    ax = figure.subplots()
    squares = path.frequencies_hz**2
    for k in range(squares.shape[1]):
        colour = COLOURS[k % len(COLOURS)]
        ax.plot(path.factors, squares[:, k], "o-", color=colour, ms=5, label=f"mode {k + 1}")
        zero = path.zeros[k]
        if np.isfinite(zero) and path.factors[-1] < zero < 3.0 * max(path.factors[-1], 1.0):
            ax.plot([path.factors[-1], zero], [squares[-1, k], 0.0], "--", color=colour, lw=1)
    if lowest is not None:
        ax.axvline(lowest, color=GHOST, lw=1.2)
        ax.annotate(f"buckling at {n(lowest)}", (lowest, 0.97), xycoords=("data", "axes fraction"), rotation=90,
                    ha="right", va="top", fontsize=9, color="#5F6368")  # fmt: skip
    ax.set(xlabel="load factor", ylabel="frequency squared (Hz²)", title=f"{title}: frequency squared against load")
    ax.set_ylim(bottom=0.0)
    ax.grid(alpha=0.25)
    ax.legend(fontsize=9)
    return figure


def moves_most(system: System, shapes: Floats) -> list[str]:
    """By shape: the part or mass that moves most, with its share of the largest motion of all."""
    words = []
    places = dict(system.mesh.part_nodes)
    places |= {m.name: np.array([m.node]) for m in system.masses}
    for shape in shapes:
        size = np.linalg.norm(shape.reshape(-1, 6)[:, :3], axis=1)
        if not size.any():
            size = np.linalg.norm(shape.reshape(-1, 6)[:, 3:], axis=1)
        most = sorted(((float(size[nodes].max(initial=0.0)), name) for name, nodes in places.items()), reverse=True)
        node = int(size.argmax())
        x, y, z = 1e3 * system.mesh.nodes[node]
        words.append(f"{most[0][1] if most else 'a point'}, at [{n(x)}, {n(y)}, {n(z)}] mm")
    return words
