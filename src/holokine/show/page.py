"""One HTML file, without network, in which the reader turns the model and watches its modes beside the tables."""

from __future__ import annotations

import base64
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from holokine.errors import HolokineError
from holokine.show.geometry import drawing_of
from holokine.show.numbers import number_text as n
from holokine.show.plain import filled_page
from holokine.show.solids import feature_edges
from holokine.show.text import mass_lines, proof_text
from holokine.whole import whole_file

if TYPE_CHECKING:
    from holokine.modes.mode_set import ModeSet

__all__ = ["page_text", "write_page"]

LARGEST = 60_000_000


def _packed(values: Any, kind: str) -> str:
    return base64.b64encode(np.ascontiguousarray(values).astype(kind).tobytes()).decode("ascii")


def write_page(modes: ModeSet, path: Path, table: pd.DataFrame, shares: pd.DataFrame, title: str) -> None:
    """Write the page.

    Raises
    ------
    HolokineError
        When the shapes would make the file too large for a browser, or the file cannot be written.
    """
    text = page_text(modes, table, shares, title)
    with whole_file(path) as part:
        part.write_text(text, encoding="utf-8")


def page_text(modes: ModeSet, table: pd.DataFrame, shares: pd.DataFrame, title: str) -> str:
    """The page as text; shapes are kept to one part in 30,000 of the largest displacement.

    Raises
    ------
    HolokineError
        When the shapes would make the file too large for a browser.
    """
    drawing = drawing_of(modes.system)
    faces = np.concatenate([*drawing.faces.values(), np.zeros((0, 4), dtype=np.int64)])
    lines = np.concatenate([*drawing.lines.values(), np.zeros((0, 2), dtype=np.int64)])
    arms = np.concatenate([*drawing.arms.values(), np.zeros((0, 2), dtype=np.int64)])
    edges = [feature_edges(drawing.nodes, f) for f in drawing.faces.values()]
    outline = np.concatenate([*(e for e in edges if len(e)), np.zeros((0, 2), dtype=np.int64)])
    bodies = np.array([m.node for m in drawing.masses], dtype=np.int64)
    held = np.array([m.node for m in drawing.supports[:400]], dtype=np.int64)
    used = np.unique(
        np.concatenate([a.ravel() for a in (faces, lines, arms, drawing.springs, bodies, held, outline)]).astype(int)
    )
    size = 6 * len(used) * modes.count
    if size > LARGEST:
        raise HolokineError(
            f"the page would hold {size / 1e6:.0f} MB of shapes, more than a browser opens with ease "
            f"({LARGEST / 1e6:.0f} MB); extract fewer modes"
        )
    place = np.zeros(len(drawing.nodes), dtype=np.int64)
    place[used] = np.arange(len(used))
    triangles = np.concatenate([faces[:, [0, 1, 2]], faces[:, [0, 2, 3]][faces[:, 2] != faces[:, 3]]])
    nodes = drawing.nodes[used]
    centre = (nodes.max(axis=0) + nodes.min(axis=0)) / 2.0
    shapes = modes.unit_maximum().reshape(modes.count, -1, 6)[:, used, :3]
    rows = []
    for i in range(modes.count):
        row = table.iloc[i]
        rows.append(
            {
                "mode": int(row["mode"]),
                "f": float(row["frequency_hz"]),
                "cells": [
                    str(row["mode"]),
                    n(float(row["frequency_hz"])),
                    f"{row['damping_percent']:.3g}",
                    row["what"],
                    *(f"{100.0 * shares[f'ratio_{d}_of_free'].iloc[i]:.1f}" for d in "xyz"),
                    row["most_strain"],
                    row["most_kinetic"],
                    _percent(float(row["mesh_error_percent"])),
                ],
            }
        )
    data = {
        "nodes": _packed((nodes - centre).ravel(), "<f4"),
        "diagonal": drawing.diagonal,
        "triangles": _packed(place[triangles].ravel(), "<u4"),
        "lines": _packed(place[lines].ravel(), "<u4"),
        "arms": _packed(place[arms].ravel(), "<u4"),
        "springs": _packed(place[drawing.springs].ravel(), "<u4"),
        "outline": _packed(place[outline.astype(int)].ravel(), "<u4"),
        "bodies": _packed(place[bodies], "<u4"),
        "held": _packed(place[held], "<u4"),
        "shapes": _packed(np.round(shapes.reshape(modes.count, -1) * 30000.0), "<i2"),
        "modes": rows,
    }
    return filled_page("page.html", title, [proof_text(modes), *mass_lines(modes)], modes.findings, data)


def _percent(error: float) -> str:
    """To a tenth of a percent; a dash where it is not known."""
    if error != error:
        return "-"
    return f"{error:.1f}" if error >= 0.05 else "<0.1"
