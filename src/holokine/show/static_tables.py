"""Tables and words of answers to loads at rest, and of deformed shapes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from holokine.gauges.resting_gauges import LETS_GO
from holokine.show.numbers import number_text as n
from holokine.show.tables import peaks_table
from holokine.show.text import resultant_words, vector_words
from holokine.system.recovery import BeamEnds, beam_ends

if TYPE_CHECKING:
    from holokine.respond.static import StaticResult
    from holokine.system.build import System

__all__ = ["members_table", "moved_points_table", "static_lines", "static_values"]


def static_values(answer: StaticResult) -> pd.DataFrame:
    """Value of every reading; velocities and accelerations, which nothing has at rest, are left out."""
    return peaks_table(
        answer, "value", lambda number, _: {"place": answer.places[number]},
        lambda number: not np.isfinite(answer.peaks[number])
        or (answer.state is not None and answer.reduced.readings[number].component == LETS_GO),
    )  # fmt: skip


def moved_points_table(system: System, nodes: np.ndarray) -> pd.DataFrame:
    """Displacement of every named point in mm, from that of all nodes in m."""
    rows = []
    for point, node in system.mesh.points.items():
        u = 1e3 * nodes[node]
        rows.append({"point": point, "x_mm": u[0], "y_mm": u[1], "z_mm": u[2], "size_mm": float(np.linalg.norm(u))})
    return pd.DataFrame(rows, columns=["point", "x_mm", "y_mm", "z_mm", "size_mm"])


def members_table(system: System, displacement: np.ndarray, growth: Mapping[str, float] | None = None) -> pd.DataFrame:
    """Elastic section forces at both ends of every beam element, in the beam's axes, N and N m."""
    return section_table(*beam_ends(system, displacement, growth))


SECTION_COLUMNS = ("N_n", "Vy_n", "Vz_n", "T_nm", "My_nm", "Mz_nm")


def ends_table(ends: BeamEnds) -> dict[str, object]:
    """Columns that say which end of which element a row is of, and where."""
    count = ends.counts
    number = np.arange(1, len(ends.places) + 1) - np.repeat(ends.starts, count).astype(np.int64)
    table: dict[str, object] = {
        "part": np.repeat(np.array(ends.parts, dtype=object), 2 * count),
        "element": np.repeat(number, 2),
        "end": np.tile(np.array(["start", "end"], dtype=object), len(number)),
    }
    return table | dict(zip(("x_mm", "y_mm", "z_mm"), 1e3 * ends.places.reshape(-1, 3).T, strict=True))


def section_table(ends: BeamEnds, forces: np.ndarray) -> pd.DataFrame:
    """Section forces (elements, 2, 6), a row per end of an element."""
    return pd.DataFrame(ends_table(ends) | dict(zip(SECTION_COLUMNS, forces.reshape(-1, 6).T, strict=True)))


def static_lines(answer: StaticResult) -> list[str]:
    """Loads and their balance; of a state of its own what is known of that."""
    if answer.state is not None:
        from holokine.show.state_tables import state_lines

        return state_lines(answer.state)
    loads = ", ".join(name if k == 1 else f"{n(k)} times {name}" for name, k in answer.loads.items())
    rows = (("total reaction", answer.reactions), ("springs to ground", answer.ground))
    moment = ""
    if answer.total is not None:
        applied = replace(answer.total, force=answer.applied)
        moment = resultant_words(applied)
    return [
        f"loads at rest: {loads}",
        *([f"total applied load: {moment}"] if moment else []),
        *(f"{word}: {vector_words(v, 'N')}" for word, v in rows if v.any()),
    ]
