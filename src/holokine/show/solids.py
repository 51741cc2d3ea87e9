"""Three-dimensional figures with Matplotlib: the plain way, which needs no other package."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import HolokineError, shown
from holokine.show.figures import COLOURS, GHOST, MARKS, SIZE
from holokine.show.geometry import Drawing, Look, bodies_of, drawing_of
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = ["part_colours", "plot_assembly", "plot_shape"]

MOST_EDGES = 4000
ARM_COLOURS = {"rigid": "#202124", "averaging": "#5F6368", "area": "#5F6368", "joint": "#CC3311"}


def part_colours(parts: list[str]) -> dict[str, Any]:
    """A colour per part, well apart for neighbours in the list."""
    from matplotlib import colormaps

    table = colormaps["tab10"]
    result = {}
    for i, part in enumerate(parts):
        shade = 0.62 if (i // 10) % 2 else 1.0  # a second round is darker, so that names stay readable on white
        r, g, b, a = table(i % 10)
        result[part] = (shade * r, shade * g, shade * b, a)
    return result


def _axes(ax: Any) -> Any:
    if ax is not None:
        if not hasattr(ax, "add_collection3d"):
            raise HolokineError('ax: expected three-dimensional Axes, as plt.subplot(projection="3d") makes, got '
                                f"{shown(type(ax).__name__)}")  # fmt: skip
        return ax

    # drawing order is ours: faces, then lines, then marks, which must not vanish behind a plate
    return empty_figure(SIZE).add_subplot(projection="3d", computed_zorder=False)


def _frame(ax: Any, places: Floats, look: Look | None = None) -> None:
    if look is not None:
        x, y, z = look.view
        turned = np.degrees(np.arctan2(y, x)) if x or y else -90.0
        ax.view_init(elev=np.degrees(np.arctan2(z, np.hypot(x, y))), azim=turned)
    low, high = places.min(axis=0), places.max(axis=0)
    pad = 0.03 * float((high - low).max()) + 1e-9
    low, high = low - pad, high + pad
    ax.set(xlim=(low[0], high[0]), ylim=(low[1], high[1]), zlim=(low[2], high[2]))
    ax.set_box_aspect(high - low, zoom=0.95)
    ax.set(xlabel="x (mm)", ylabel="y (mm)", zlabel="z (mm)")
    ax.locator_params(nbins=5)
    ax.grid(False)


def _shaded(corners: Floats, colours: Any) -> Any:
    """Darken faces that look away from a light above, so that solids read as solids."""
    normal = np.cross(corners[:, 2] - corners[:, 0], corners[:, 3] - corners[:, 1])
    size = np.linalg.norm(normal, axis=1, keepdims=True)
    normal = normal / np.where(size > 0, size, 1.0)
    light = np.array([0.35, -0.5, 0.79])
    amount = 0.62 + 0.38 * np.abs(normal @ light)
    result = np.array(np.broadcast_to(colours, (len(corners), 4)), dtype=float)
    result[:, :3] *= amount[:, None]
    return result


def _faces(ax: Any, corners: Floats, colours: Any, *, alpha: float = 1.0, edges: bool = True) -> None:
    from mpl_toolkits.mplot3d.art3d import Poly3DCollection

    shaded = _shaded(corners, colours)
    shaded[:, 3] = alpha
    edge = (0.2, 0.2, 0.2, 0.35) if edges and len(corners) <= MOST_EDGES else shaded
    ax.add_collection3d(Poly3DCollection(corners, facecolors=shaded, edgecolors=edge, linewidths=0.25, zorder=1))


def plot_assembly(system: System, ax: Any = None, *, look: Look | None = None) -> Any:
    """The assembly as checked: parts coloured, links, joints, supports, masses and gauges where they are."""
    from matplotlib.lines import Line2D
    from matplotlib.patches import Patch
    from mpl_toolkits.mplot3d.art3d import Line3DCollection

    ax = _axes(ax)
    drawing = drawing_of(system, look)
    places = 1e3 * drawing.nodes
    colours = part_colours(drawing.parts)
    if drawing.faces:  # all in one collection, so that they are sorted by depth among one another
        _faces(
            ax,
            places[np.concatenate(list(drawing.faces.values()))],
            np.concatenate([np.tile(colours[p], (len(f), 1)) for p, f in drawing.faces.items()]),
            alpha=0.8,
        )
    for part, lines in drawing.lines.items():
        ax.add_collection3d(Line3DCollection(places[lines], colors=[colours[part]], lw=3.0, zorder=3))
    entries: list[Any] = []
    for kind, arms in drawing.arms.items():
        ax.add_collection3d(Line3DCollection(places[arms], colors=ARM_COLOURS[kind], lw=1.1, ls=":", zorder=4))
        entries.append(
            Line2D([], [], color=ARM_COLOURS[kind], ls=":", label=f"{kind} links" if kind != "joint" else "joints")
        )
    if len(drawing.springs):
        ax.add_collection3d(Line3DCollection(places[drawing.springs], colors=COLOURS[1], lw=4.0, zorder=4))
        entries.append(Line2D([], [], color=COLOURS[1], lw=4, label="springs, bushings, elastic joints"))
    if look is not None and look.sections:
        for part, faces, _, _ in bodies_of(system, drawing.lines):
            if len(faces):
                _faces(ax, 1e3 * faces, colours[part], edges=False)
    if len(drawing.grounded):
        ax.add_collection3d(Line3DCollection(1e3 * drawing.grounded, colors=COLOURS[1], lw=4.0, zorder=4))
        ends = 1e3 * drawing.grounded[:, 1]
        ax.scatter(*ends.T, marker="_", s=140, color="#606060", depthshade=False, zorder=6)
        entries.append(Line2D([], [], color=COLOURS[1], lw=4, marker="_", mec="#606060", label="springs to ground"))
    for marks, shape, colour, name in (
        (drawing.supports, "^", "black", "supports"),
        (drawing.masses, "o", COLOURS[0], "point masses"),
    ):
        if marks:
            at = 1e3 * np.array([m.place for m in marks])
            ax.scatter(*at.T, marker=shape, s=55, color=colour, depthshade=False, zorder=6)
            entries.append(Line2D([], [], marker=shape, color=colour, ls="", label=own_label(name)))
    for number, mark in enumerate(drawing.gauges, start=1):
        ax.text(*(1e3 * mark.place), f" {number}", color=COLOURS[1], weight="bold", fontsize=11, zorder=10)
    _frame(ax, places[drawing.used], look)
    shown = [Patch(color=colours[p], label=own_label(p)) for p in drawing.parts[:24]]
    if len(drawing.parts) > 24:
        shown.append(Patch(color="white", label=f"and {len(drawing.parts) - 24} more parts"))
    figure = ax.figure
    figure.legend(handles=[*shown, *entries], loc="outside left upper", fontsize=8, title="parts and connections")
    gauges = "\n".join(f"{i}  {m.label}" for i, m in enumerate(drawing.gauges, start=1))
    if gauges:
        figure.text(0.995, 0.98, f"gauges\n{gauges}", color=COLOURS[1], fontsize=9, ha="right", va="top")
    ax.set_title(f"{system.description.title or 'assembly'}: parts, connections, supports, masses, gauges")
    return ax


def plot_shape(
    modes: ModeSet, mode: int, ax: Any = None, *, share: float = 0.08, amount: Any = None, label: str = "",
    look: Look | None = None,
) -> Any:  # fmt: skip
    """Shape of one mode over the undeformed assembly, equal scales on all axes.

    `share`: largest displacement drawn, as a share of the diagonal. `amount`: what to colour the nodes by, largest
    1, and its `label`; displacement when left out.
    """
    row = modes.index(mode)
    from matplotlib import colormaps
    from mpl_toolkits.mplot3d.art3d import Line3DCollection

    ax = _axes(ax)
    system = modes.system
    drawing = drawing_of(system, look)
    places = 1e3 * drawing.nodes
    shape = modes.unit_maximum()[row].reshape(-1, 6)[:, :3]
    moved = places + 1e3 * share * drawing.diagonal * shape
    amount = np.linalg.norm(shape, axis=1) if amount is None else amount
    palette = colormaps["viridis"]
    if drawing.faces:
        every = np.concatenate(list(drawing.faces.values()))
        _faces(ax, moved[every], palette(amount[every].mean(axis=1)))
    for faces in drawing.faces.values():
        _ghost(ax, drawing, places, faces)
    for lines in drawing.lines.values():
        ax.add_collection3d(Line3DCollection(places[lines], colors=GHOST, lw=1.0, alpha=0.8, zorder=2))
        ax.add_collection3d(
            Line3DCollection(moved[lines], colors=palette(amount[lines].mean(axis=1)), lw=2.4, zorder=3)
        )
    for kind, arms in drawing.arms.items():
        ax.add_collection3d(Line3DCollection(moved[arms], colors=ARM_COLOURS[kind], lw=1.0, ls=":", zorder=4))
    if len(drawing.springs):
        ax.add_collection3d(Line3DCollection(moved[drawing.springs], colors=COLOURS[1], lw=3.0, zorder=3))
    if len(drawing.grounded):
        ax.add_collection3d(Line3DCollection(1e3 * drawing.grounded, colors=COLOURS[1], lw=3.0, zorder=3))
    for number, mark in enumerate(drawing.masses):
        p = moved[mark.node]
        ax.scatter(
            *p,
            color=COLOURS[number % 6],
            s=90,
            marker=MARKS[number % 6],
            label=own_label(mark.label),
            depthshade=False,
            zorder=6,
        )
    if drawing.supports:
        at = np.array([places[m.node] for m in drawing.supports])
        ax.scatter(
            *at.T, color="black", s=50 if len(at) < 40 else 6, marker="^", label="supports", depthshade=False, zorder=6
        )
    used = drawing.used
    _frame(ax, np.concatenate([places[used], moved[used]]), look)
    if drawing.masses or drawing.supports:
        ax.legend(loc="upper left")
    bar = ax.figure.colorbar(_mappable(palette), ax=ax, shrink=0.6, pad=0.08)
    bar.set_label(label or "displacement (1 = largest)")
    ax.set_title(
        f"Mode {mode}: {n(modes.frequencies_hz[row])} Hz, drawn over the undeformed assembly (grey)\n"
        f"scaled to unit maximum displacement, drawn as {100 * share:.0f} % of the diagonal"
    )
    return ax


def plot_field(drawing: Drawing, amount: Any, label: str, title: str, *, look: Look | None = None) -> Any:
    """The undeformed assembly coloured by a value from 0 to 1 at every node; returns the Axes."""
    from matplotlib import colormaps
    from mpl_toolkits.mplot3d.art3d import Line3DCollection

    ax = _axes(None)
    places, palette = 1e3 * drawing.nodes, colormaps["viridis"]
    if drawing.faces:
        every = np.concatenate(list(drawing.faces.values()))
        _faces(ax, places[every], palette(amount[every].mean(axis=1)))
    for lines in drawing.lines.values():
        ax.add_collection3d(
            Line3DCollection(places[lines], colors=palette(amount[lines].mean(axis=1)), lw=2.4, zorder=3)
        )
    _frame(ax, places[drawing.used], look)
    ax.figure.colorbar(_mappable(palette), ax=ax, shrink=0.6, pad=0.08).set_label(label)
    ax.set_title(title)
    return ax


def _mappable(palette: Any) -> Any:
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import Normalize

    return ScalarMappable(Normalize(0.0, 1.0), palette)


def _ghost(ax: Any, drawing: Drawing, places: Floats, faces: Any) -> None:
    """Outline of the undeformed faces: edges that bound the part or fold sharply."""
    from mpl_toolkits.mplot3d.art3d import Line3DCollection

    edges = feature_edges(places, faces)
    if len(edges):
        ax.add_collection3d(Line3DCollection(places[edges], colors=GHOST, lw=0.9, alpha=0.9, zorder=2))


def feature_edges(places: Floats, faces: Any) -> Any:
    """Edges of one face only, or where two faces meet at more than 25 degrees; shape (edges, 2)."""
    pairs = np.concatenate([faces[:, [a, b]] for a, b in ((0, 1), (1, 2), (2, 3), (3, 0))])
    owner = np.tile(np.arange(len(faces)), 4)
    real = pairs[:, 0] != pairs[:, 1]
    pairs, owner = np.sort(pairs[real], axis=1), owner[real]
    X = places[faces]
    normal = np.cross(X[:, 2] - X[:, 0], X[:, 3] - X[:, 1])
    normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    order = np.lexsort(pairs.T[::-1])
    pairs, owner = pairs[order], owner[order]
    same = np.concatenate([(pairs[1:] == pairs[:-1]).all(axis=1), [False]])
    follows = np.concatenate([[False], same[:-1]])
    sharp = np.zeros(len(pairs), dtype=bool)
    i = np.flatnonzero(same)
    sharp[i] = np.abs(np.einsum("ei,ei->e", normal[owner[i]], normal[owner[i + 1]])) < 0.906
    return pairs[(~same & ~follows) | sharp]
