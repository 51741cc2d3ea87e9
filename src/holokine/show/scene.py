"""Rendered scenes and animations with the `view` extra (PyVista off screen, imageio for GIF and MP4).

Where the extra is not installed, pictures fall back to Matplotlib; animations are then drawn by it too.
"""

from __future__ import annotations

import errno
import math
import os
import shutil
import sys
from collections.abc import Callable, Iterable, Iterator, Sequence
from ctypes.util import find_library
from dataclasses import dataclass, replace
from functools import lru_cache, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import HolokineError
from holokine.modes.fields import nodal_energy, nodal_stress
from holokine.progress import counted, tell
from holokine.show.figures import COLOURS, GHOST, save
from holokine.show.geometry import Drawing, Look, bodies_of, drawing_of
from holokine.show.numbers import number_text as n
from holokine.show.plain import label as own_label
from holokine.show.solids import feature_edges, part_colours, plot_assembly, plot_field, plot_shape
from holokine.whole import whole_file

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = [
    "VIEW_HINT",
    "animate_mode",
    "moving_pictures",
    "picture_assembly",
    "picture_deformed",
    "picture_mode",
    "refuse_animation",
    "view_available",
    "write_film",
]

PIXELS = (1280, 800)
_WITHIN = 0.93  # of half the window: what is drawn stays inside
_BELOW_WORDS = 0.86  # the same at the top, below two lines of words
NAMED_PARTS = 24
VIEW_HINT = 'rendered pictures need the extra: python -m pip install "holokine[view]"'


@lru_cache(maxsize=1)
def view_available() -> bool:
    """Whether PyVista can render here: installed, and on Linux a display or the library EGL to do without one."""
    if sys.platform.startswith("linux") and not os.environ.get("DISPLAY") and find_library("EGL") is None:
        return False
    try:
        import pyvista  # noqa: F401
    except ImportError:
        return False
    return True


def _plotter(**keys: Any) -> Any:
    import pyvista
    from vtkmodules.vtkCommonCore import vtkLogger

    vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_OFF)  # it warns of a missing display, which is not needed
    plotter = pyvista.Plotter(off_screen=True, window_size=list(PIXELS), **keys)
    plotter.set_background("white")
    return plotter


def _surface(points: Floats, faces: Any) -> Any:
    import pyvista

    flat = np.column_stack([np.full(len(faces), 4), faces]).ravel()
    return pyvista.PolyData(points, flat)


def _lines(points: Floats, lines: Any) -> Any:
    import pyvista

    data = pyvista.PolyData()  # made with points alone it would draw a dot at each of them
    data.points = points
    data.lines = np.column_stack([np.full(len(lines), 2), lines]).ravel()
    return data


def _tubes(points: Floats, lines: Any, radius: float) -> Any:
    return _lines(points, lines).tube(radius=radius)


def _look(
    plotter: Any,
    look: Look | None = None,
    shift: tuple[float, float] = (0.0, 0.0),
    poses: Sequence[Callable[[], None]] = (),
) -> None:
    """Aim at everything drawn, as it stands and in some poses that it takes."""
    look = look or Look()
    plotter.add_axes(line_width=3, viewport=(0.84, 0.0, 1.0, 0.2))  # below the scale, clear of the legend
    plotter.view_vector(look.view, viewup=look.up)
    seen = [_extent(plotter)]
    for pose in poses:
        pose()
        seen.append(_extent(plotter))
    aside = max(float(np.abs([e[0] for e in seen]).max()), 1e-9)
    low, high = min(float(e[1][0]) for e in seen), max(float(e[1][1]) for e in seen)
    zoom = min(1.15, (_WITHIN - abs(shift[0])) / aside)
    if zoom * max(high, -low) > _WITHIN:  # a tall one takes the height below the words
        zoom = min(zoom, (_BELOW_WORDS + _WITHIN) / max(high - low, 1e-9))
        shift = shift[0], zoom * (high + low) / 2.0 - (_BELOW_WORDS - _WITHIN) / 2.0
    plotter.camera.zoom(zoom)
    plotter.camera.SetWindowCenter(*shift)


def _extent(plotter: Any) -> Floats:
    """How far what is drawn lies off the middle of the window: left and right, down and up, over half its size."""
    import pyvista

    renderer = plotter.renderer
    matrix = plotter.camera.GetCompositeProjectionTransformMatrix(renderer.GetTiledAspectRatio(), -1.0, 1.0)
    across, upwards, depth = (np.asarray(pyvista.array_from_vtkmatrix(matrix))[k] for k in (0, 1, 3))
    extent = np.array([[np.inf, -np.inf], [np.inf, -np.inf]])
    for actor in renderer.actors.values():
        data = getattr(getattr(actor, "mapper", None), "dataset", None)
        if data is None or not data.n_points:
            continue
        points = np.asarray(data.points, dtype=float)
        distance = points @ depth[:3] + depth[3]
        for own, row in zip(extent, (across, upwards), strict=True):
            at = (points @ row[:3] + row[3]) / distance
            own[:] = min(own[0], at.min()), max(own[1], at.max())
    return np.where(np.isfinite(extent), extent, 0.0)


def _beam_radius(drawing: Drawing) -> float:
    return 0.006 * drawing.diagonal


def _grounded(plotter: Any, drawing: Drawing, radius: float, label: str | None) -> None:
    """Springs and bushings to ground, each ending on a plate."""
    import pyvista

    for number, (start, end) in enumerate(drawing.grounded):
        tube = pyvista.Line(start, end).tube(radius=1.2 * radius)
        plotter.add_mesh(tube, color=COLOURS[1], label=label if number == 0 else None)
        plate = pyvista.Disc(center=end, inner=0.0, outer=3.0 * radius, normal=end - start, c_res=24)
        plotter.add_mesh(plate, color="#606060")


def _sections(plotter: Any, system: System, drawing: Drawing, colours: dict[str, Any]) -> None:
    """Beams with their sections, and their axes y and z in the middle of each run."""
    import pyvista

    faces, shades, places, axes = [], [], [], []
    for part, own, place, turned in bodies_of(system, drawing.lines):
        faces.append(own)
        shades.append(np.tile(255.0 * np.array(colours[part][:3]), (len(own), 1)))
        places.append(place)
        axes.append(turned)
    if not places:
        return
    points = np.concatenate(faces).reshape(-1, 3)
    if len(points):
        body = _surface(points, np.arange(len(points)).reshape(-1, 4))
        body.cell_data["rgb"] = np.concatenate(shades).astype(np.uint8)
        plotter.add_mesh(body, scalars="rgb", rgb=True)
    arrow = pyvista.Arrow(scale=0.05 * drawing.diagonal, shaft_radius=0.03, tip_radius=0.08)
    for k, (colour, name) in enumerate((("#228833", "beam y"), ("#4477AA", "beam z"))):
        roots = pyvista.PolyData(np.array(places))
        roots["along"] = np.array(axes)[:, k]
        plotter.add_mesh(roots.glyph(geom=arrow, orient="along", scale=False), color=colour, label=name)


def _shoot(plotter: Any, path: Path) -> None:
    """Render into a file, whole or not at all."""
    with whole_file(path) as part:
        plotter.screenshot(str(part))
    plotter.close()


def picture_assembly(system: System, path: Path, look: Look | None = None) -> None:
    """Parts coloured, links, joints, supports, masses: rendered, or drawn plainly without the extra."""
    if not view_available():
        save(plot_assembly(system, look=look), path)
        return
    drawing = drawing_of(system, look)
    plotter = _plotter()
    colours = part_colours(drawing.parts)
    radius = _beam_radius(drawing)
    named = drawing.parts[:NAMED_PARTS]
    for part in named:
        if part in drawing.faces:
            surface = _surface(drawing.nodes, drawing.faces[part])
            plotter.add_mesh(surface, color=colours[part][:3], label=own_label(part), opacity=0.92)
        if part in drawing.lines:
            run = _tubes(drawing.nodes, drawing.lines[part], radius)
            plotter.add_mesh(run, color=colours[part][:3], label=None if part in drawing.faces else own_label(part))
    rest = [part for part in drawing.parts if part not in named]
    for kind, made, draw in (("faces", drawing.faces, _surface), ("lines", drawing.lines, _lines)):
        own = [part for part in rest if part in made]
        if own:  # in one piece: thousands of parts would take minutes
            whole = draw(drawing.nodes, np.concatenate([made[p] for p in own]))
            shades = [np.tile(255.0 * np.array(colours[p][:3]), (len(made[p]), 1)) for p in own]
            whole.cell_data["rgb"] = np.concatenate(shades).astype(np.uint8)
            whole = whole if kind == "faces" else whole.tube(radius=radius)
            plotter.add_mesh(whole, scalars="rgb", rgb=True, opacity=0.92 if kind == "faces" else 1.0)
    for faces in drawing.faces.values():
        edges = feature_edges(drawing.nodes, faces)
        if len(edges):
            plotter.add_mesh(_lines(drawing.nodes, edges), color="#303030", line_width=1.5)
    if rest:
        _spheres(plotter, [drawing.nodes[drawing.used].mean(axis=0)], 1e-9, GHOST, f"and {len(rest):,} more parts")
    if look is not None and look.sections:
        _sections(plotter, system, drawing, colours)
    for kind, arms in drawing.arms.items():
        colour = "#CC3311" if kind == "joint" else "#202124"
        plotter.add_mesh(
            _lines(drawing.nodes, arms),
            color=colour,
            line_width=2,
            label=f"{kind}s" if kind == "joint" else f"{kind} links",
        )
    if len(drawing.springs):
        plotter.add_mesh(
            _tubes(drawing.nodes, drawing.springs, 1.5 * radius), color=COLOURS[1], label="springs and bushings"
        )
    _grounded(plotter, drawing, radius, "springs to ground")
    _spheres(plotter, [m.place for m in drawing.masses], 3.2 * radius, COLOURS[0], "point masses")
    _spheres(plotter, [m.place for m in drawing.supports[:400]], 2.2 * radius, "black", "supports")
    if drawing.gauges:
        plotter.add_point_labels(
            np.array([m.place for m in drawing.gauges]), [m.label for m in drawing.gauges], font_size=13,
            text_color="#B34700", shape_color="white", shape_opacity=0.75, always_visible=True, point_size=8,
            point_color=COLOURS[1],
        )  # fmt: skip
    plotter.add_legend(bcolor=None, face="rectangle", size=(0.2, min(0.9, 0.03 * (len(named) + 7))), loc="upper left")
    plotter.add_text(system.description.title or "assembly", font_size=11, color="black", position="upper_right")
    _look(plotter, look, (-0.22, 0.0))  # the legend stands to the left
    _shoot(plotter, path)


def _spheres(plotter: Any, places: list[Floats], radius: float, colour: str, label: str) -> None:
    import pyvista

    if places:
        cloud = pyvista.PolyData(np.array(places))
        plotter.add_mesh(
            cloud.glyph(geom=pyvista.Sphere(radius=radius), scale=False, orient=False), color=colour, label=label
        )


def mode_colours(modes: ModeSet, mode: int, colour: str) -> tuple[Floats, str, float]:
    """What to colour the nodes by, what the scale says, and its upper end.

    Raises
    ------
    HolokineError
        For another word than displacement, energy or stress.
    """
    if colour == "displacement":
        shape = modes.unit_maximum()[modes.index(mode)].reshape(-1, 6)[:, :3]
        return np.linalg.norm(shape, axis=1), "displacement", 1.0
    if colour == "energy":
        return nodal_energy(modes, mode), "strain energy density", 1.0
    if colour == "stress":
        stress = nodal_stress(modes, mode) * 1e-9  # MPa for a largest displacement of 1 mm
        return stress, "stress (MPa) at 1 mm", max(float(stress.max(initial=0.0)), 1e-12)
    raise HolokineError(f'colour: expected displacement, energy or stress, got "{colour}"')


@dataclass
class _Scene:
    """A scene whose nodes can be moved."""

    plotter: Any
    drawing: Drawing
    moving: list[tuple[Any, Any, Floats | None]]
    painted: list[Any]
    label: str

    def place(self, displacement: Floats) -> None:
        """Move all nodes by a drawn displacement, shape (nodes, 3)."""
        for data, node, rest in self.moving:
            if node is None:
                data.points = self.drawing.nodes + displacement
            else:
                assert rest is not None
                data.points = rest + displacement[node]

    def scale_bar(self) -> None:
        _scale_bar(self.plotter, self.label, self.painted[-1] if self.painted else None)


def _scale_bar(plotter: Any, label: str, painted: Any) -> None:
    """Colours with their numbers, at the right."""
    bar = plotter.add_scalar_bar(
        label, mapper=None if painted is None else painted.mapper, color="black", vertical=True, position_x=0.88,
        position_y=0.2, height=0.5, width=0.05,
    )  # fmt: skip
    if bar is not None and painted is not None:
        low, high = painted.mapper.scalar_range
        places = max(0, 2 - math.floor(math.log10(max(abs(low), abs(high), 1e-300)))) if high > 0 else 2
        bar.SetLabelFormat(f"%.{min(places, 12)}f")  # three digits of the largest, and no point without digits


def _together(pieces: Iterable[Any], width: int) -> Any:
    """Cells of all parts as one: each mesh that is drawn holds all nodes."""
    return np.concatenate([*(p for p in pieces if len(p)), np.zeros((0, width), dtype=np.int64)])


def _edged(drawing: Drawing) -> dict[str, Any]:
    """Whether edges of elements are drawn: not where they would cover everything."""
    most = max((len(f) for f in drawing.faces.values()), default=0)
    return {"show_edges": most < 6000, "edge_color": "#4A4A4A", "line_width": 0.5}


def _movable(system: System, amount: Floats, label: str, top: float, plotter: Any, look: Look | None = None) -> _Scene:
    """The assembly coloured at its nodes, over a grey ghost of itself at rest."""
    drawing = drawing_of(system, look)
    radius = _beam_radius(drawing)
    scene = _Scene(plotter, drawing, [], [], label)
    keys = {"scalars": label, "cmap": "viridis", "clim": (0.0, top), "show_scalar_bar": False}
    edges = _together([feature_edges(drawing.nodes, faces) for faces in drawing.faces.values()], 2)
    if len(edges):
        plotter.add_mesh(_lines(drawing.nodes, edges), color=GHOST, line_width=1.5)
    faces = _together(drawing.faces.values(), 4)
    if len(faces):
        surface = _surface(drawing.nodes.copy(), faces)
        surface[label] = amount
        scene.painted.append(plotter.add_mesh(surface, **_edged(drawing), **keys))
        scene.moving.append((surface, None, None))
    lines = _together(drawing.lines.values(), 2)
    if len(lines):
        plotter.add_mesh(_lines(drawing.nodes, lines), color=GHOST, line_width=1.5)
        path = _lines(drawing.nodes.copy(), lines)
        path[label] = amount
        scene.painted.append(plotter.add_mesh(path, line_width=7, render_lines_as_tubes=True, **keys))
        scene.moving.append((path, None, None))
    arms = _together(drawing.arms.values(), 2)
    if len(arms):
        path = _lines(drawing.nodes.copy(), arms)
        plotter.add_mesh(path, color="#202124", line_width=2)
        scene.moving.append((path, None, None))
    if len(drawing.springs):
        path = _lines(drawing.nodes.copy(), drawing.springs)
        plotter.add_mesh(path, color=COLOURS[1], line_width=9, render_lines_as_tubes=True)
        scene.moving.append((path, None, None))
    _grounded(plotter, drawing, radius, None)
    if drawing.masses:
        import pyvista

        fine = {"theta_resolution": 12, "phi_resolution": 12} if len(drawing.masses) > 50 else {}
        ball = pyvista.Sphere(radius=3.0 * radius, **fine)
        nodes = np.repeat([m.node for m in drawing.masses], ball.n_points)
        points = np.tile(np.asarray(ball.points), (len(drawing.masses), 1)) + drawing.nodes[nodes]
        cells = ball.faces.reshape(-1, 4)[None] + ball.n_points * np.arange(len(drawing.masses))[:, None, None] * [
            0, 1, 1, 1]  # fmt: skip
        body = pyvista.PolyData(points, cells.ravel())
        plotter.add_mesh(body, color=COLOURS[0])
        scene.moving.append((body, nodes, points.copy()))
    _spheres(plotter, [m.place for m in drawing.supports[:400]], 2.0 * radius, "black", "supports")
    return scene


def _mode_scene(
    modes: ModeSet,
    mode: int,
    share: float | None,
    true_scale: float | None,
    colour: str = "displacement",
    plotter: Any = None,
    look: Look | None = None,
) -> tuple[Any, Any, Drawing, str]:
    """Plotter, a function that moves the scene to a phase, the drawing and what the scale is in words."""
    drawing = drawing_of(modes.system, look)
    shape = modes.unit_maximum()[modes.index(mode)].reshape(-1, 6)[:, :3]
    if true_scale is not None:
        factor = true_scale
        words = f"largest displacement {n(1e3 * true_scale)} mm, drawn true to scale"
    else:
        factor = (share if share is not None else 0.08) * drawing.diagonal
        words = f"unit maximum displacement, drawn as {n(1e3 * factor, 3)} mm"
    amount, label, top = mode_colours(modes, mode, colour)
    single = plotter is None
    plotter = plotter if plotter is not None else _plotter()
    scene = _movable(modes.system, amount, label, top, plotter, look)

    def move(phase: float) -> None:
        scene.place(phase * factor * shape)

    poses = (partial(move, -1.0), partial(move, 1.0))
    text = f"Mode {mode}: {n(modes.frequencies_hz[modes.index(mode)])} Hz\n{words}; undeformed in grey"
    if not single:
        plotter.add_text(text.split("\n")[0], font_size=9, color="black", position="upper_left")
        _look(plotter, look, poses=poses)
        return plotter, move, drawing, words
    plotter.add_text(text, font_size=12, color="black", position="upper_left")
    scene.scale_bar()
    _look(plotter, look, poses=poses)
    return plotter, move, drawing, words


def picture_deformed(
    system: System, nodes: Floats, values: Floats, label: str, title: str, path: Path, share: float = 0.08,
    look: Look | None = None,
) -> None:  # fmt: skip
    """The assembly deformed by `nodes` (nodes, 3; in m), magnified, over a ghost of itself, coloured by values."""
    drawing = drawing_of(system, look)
    top = max(float(values.max(initial=0.0)), 1e-300)
    largest = max(float(np.linalg.norm(nodes, axis=1).max(initial=0.0)), 1e-300)
    factor = share * drawing.diagonal / largest
    words = f"{title}\nlargest displacement {n(1e3 * largest)} mm, drawn {n(factor, 3)} times; undeformed in grey"
    if not view_available():
        moved = replace(drawing, nodes=drawing.nodes + factor * nodes)
        save(plot_field(moved, values / top, f"{label}, 1 = {n(top)}", words, look=look), path)
        return
    plotter = _plotter()
    scene = _movable(system, values, label, top, plotter, look)
    scene.place(factor * nodes)
    plotter.add_text(words, font_size=12, color="black", position="upper_left")
    scene.scale_bar()
    _look(plotter, look)
    _shoot(plotter, path)


def moving_pictures(
    system: System, frames: Floats, title: str, share: float, size: tuple[int, int]
) -> Iterator[Floats]:
    """Pictures of the assembly at displacements, shape (frames, nodes, 3) in m, magnified alike in all of them."""
    drawing = drawing_of(system)
    amount = 1e3 * np.linalg.norm(frames, axis=2)
    largest = max(float(amount.max(initial=0.0)) / 1e3, 1e-300)
    factor = share * drawing.diagonal / largest
    words = f"{title}; largest displacement {n(1e3 * largest)} mm, drawn {n(factor, 3)} times"
    label = "displacement (mm)"
    if view_available():
        plotter = _plotter()
        plotter.window_size = size
        scene = _movable(system, amount[0], label, 1e3 * largest, plotter)
        plotter.add_text(words, font_size=10, color="black", position="upper_left")
        scene.scale_bar()
        high, low = frames.max(axis=1), frames.min(axis=1)  # the frames that reach farthest along x, y and z
        farthest = np.unique(np.concatenate([high.argmax(axis=0), low.argmin(axis=0)]))
        _look(plotter, poses=[partial(scene.place, factor * frames[k]) for k in farthest])
        for frame, values in zip(frames, amount, strict=True):
            scene.place(factor * frame)
            for data, node, _ in scene.moving:
                if node is None and label in data.array_names:
                    data[label] = values
            plotter.render()
            yield plotter.screenshot(return_img=True)
        plotter.close()
        return
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    for frame, values in zip(frames, amount, strict=True):
        moved = replace(drawing, nodes=drawing.nodes + factor * frame)
        ax = plot_field(moved, values / (1e3 * largest), f"{label}, 1 = {n(1e3 * largest)}", words)
        ax.figure.set_size_inches(size[0] / 100, size[1] / 100)
        ax.figure.set_dpi(100)
        canvas = FigureCanvasAgg(ax.figure)
        canvas.draw()
        yield np.asarray(canvas.buffer_rgba())[:, :, :3]


def _check_mode(modes: ModeSet, mode: int) -> None:
    modes.index(mode)


def picture_mode(
    modes: ModeSet, mode: int, path: Path, *, share: float | None = None, colour: str = "displacement",
    look: Look | None = None,
) -> None:  # fmt: skip
    """Deformed shape over a ghost of the undeformed one: rendered, or drawn plainly without the extra."""
    _check_mode(modes, mode)
    if not view_available():
        amount, label, top = mode_colours(modes, mode, colour)
        drawn = 0.08 if share is None else share
        save(
            plot_shape(
                modes,
                mode,
                share=drawn,
                amount=amount / top,
                label=label if top == 1.0 else label + " / largest",
                look=look,
            ),
            path,
        )
        return
    plotter, move, _, _ = _mode_scene(modes, mode, share, None, colour, look=look)
    move(1.0)
    _shoot(plotter, path)


def picture_field(system: System, values: Floats, label: str, title: str, path: Path, look: Look | None = None) -> None:
    """The undeformed assembly coloured by a value at every node: rendered, or drawn plainly without the extra."""
    drawing = drawing_of(system, look)
    drawn = [a.ravel() for a in (*drawing.faces.values(), *drawing.lines.values())]
    top = max(float(values[np.concatenate(drawn)].max()) if drawn else 0.0, 1e-300)
    if not view_available():
        save(plot_field(drawing, values / top, f"{label}, 1 = {n(top)}", title, look=look), path)
        return
    plotter = _plotter()
    keys = {"scalars": label, "cmap": "viridis", "clim": (0.0, top), "show_scalar_bar": False}
    painted: Any = None
    faces, lines = _together(drawing.faces.values(), 4), _together(drawing.lines.values(), 2)
    if len(faces):
        surface = _surface(drawing.nodes, faces)
        surface[label] = values
        painted = plotter.add_mesh(surface, **_edged(drawing), **keys)
    if len(lines):
        run = _lines(drawing.nodes, lines)
        run[label] = values
        painted = plotter.add_mesh(run, line_width=7, render_lines_as_tubes=True, **keys)
    radius = _beam_radius(drawing)
    _spheres(plotter, [m.place for m in drawing.masses], 3.0 * radius, COLOURS[0], "point masses")
    _spheres(plotter, [m.place for m in drawing.supports[:400]], 2.0 * radius, "black", "supports")
    plotter.add_text(title, font_size=12, color="black", position="upper_left")
    _scale_bar(plotter, label, painted)
    _grounded(plotter, drawing, radius, None)
    _look(plotter, look)
    _shoot(plotter, path)


def picture_sheet(modes: ModeSet, chosen: list[int], path: Path) -> None:
    """Several modes on one sheet; needs the extra.

    Raises
    ------
    HolokineError
        No such mode, more than twelve, or pyvista is not installed.
    """
    for mode in chosen:
        _check_mode(modes, mode)
    if not 1 <= len(chosen) <= 12:
        raise HolokineError(f"a sheet takes one to twelve modes, got {len(chosen)}")
    if not view_available():
        raise HolokineError(f"a sheet of modes needs pyvista; {VIEW_HINT}")

    columns = 1 if len(chosen) == 1 else 2 if len(chosen) <= 4 else 3 if len(chosen) <= 9 else 4
    rows = -(-len(chosen) // columns)
    plotter = _plotter(shape=(rows, columns), border=True)
    plotter.set_background("white")
    for k, mode in enumerate(chosen):
        plotter.subplot(k // columns, k % columns)
        _, move, _, _ = _mode_scene(modes, mode, None, None, plotter=plotter)
        move(1.0)
    _shoot(plotter, path)


def refuse_animation(modes: ModeSet, mode: int) -> Any:
    """Raise where an animation could not be made, before anything is written; return the package that writes it."""
    _check_mode(modes, mode)
    return _imageio()


def _imageio() -> Any:
    try:
        import imageio.v2 as imageio
    except ImportError:
        raise HolokineError(f"animations need imageio; {VIEW_HINT}") from None
    return imageio


def animate_mode(
    modes: ModeSet,
    mode: int,
    path: Path,
    *,
    share: float | None = None,
    true_scale: float | None = None,
    frames: int = 24,
    rate: int = 24,
    pixels: tuple[int, int] = PIXELS,
) -> None:
    """One period of a mode as GIF or MP4, by the ending of `path`.

    Parameters
    ----------
    share : float, optional
        Largest displacement drawn, as a share of the assembly's diagonal (0.08).
    true_scale : float, optional
        Largest displacement in m, drawn without magnification.
    frames, rate : int
        Pictures of one period, and how many are shown per second. An MP4 repeats the period four times.
    pixels : tuple of int
        Width and height; both even.

    Raises
    ------
    HolokineError
        No such mode, an ending that is not gif or mp4, or imageio is not installed.
    """
    _check_mode(modes, mode)
    phases = np.sin(2.0 * np.pi * np.arange(frames) / frames)
    pictures = _rendered(modes, mode, share, true_scale, phases, film_pixels(pixels))
    write_film(path, pictures, rate, count=frames, repeat=4)


def film_pixels(pixels: tuple[int, int]) -> tuple[int, int]:
    """Width and height of a film.

    Raises
    ------
    HolokineError
        Smaller than 160 x 120, larger than 4096 x 4096, or odd numbers, which films cannot have.
    """
    width, height = pixels
    if not (160 <= width <= 4096 and 120 <= height <= 4096) or width % 2 or height % 2:
        raise HolokineError(
            f"a film of {width} x {height} pixels cannot be made: even numbers from 160 x 120 to 4096 x 4096"
        )
    return width, height


def write_film(path: Path, pictures: Iterable[Any], rate: float, *, count: int, repeat: int = 1) -> None:
    """Pictures as GIF or MP4 by the ending of `path`; an MP4 repeats them.

    Raises
    ------
    HolokineError
        Another ending, or imageio is not installed; nothing half-written is left.
    """
    imageio = _imageio()
    if path.suffix.lower() not in (".gif", ".mp4"):
        raise HolokineError(f'{path}: an animation ends with .gif or .mp4, not "{path.suffix}"')
    if not rate > 0:
        raise HolokineError(f"rate: expected pictures per second, more than 0, got {rate:g}")
    made = list(counted(pictures, f"pictures of {path.name}", "pictures", count))
    tell(f"writing {path.name}")
    if path.suffix.lower() == ".gif":
        film = imageio.mimwrite("<bytes>", made, format="GIF", duration=1000.0 / rate, loop=0)
        with whole_file(path) as part:
            part.write_bytes(film)
        return
    with whole_file(path) as part:
        _write_mp4(imageio, part, made * repeat, rate)


def _write_mp4(imageio: Any, part: Path, pictures: list[Any], rate: float) -> None:
    import imageio_ffmpeg

    writer: Any
    try:
        with imageio.get_writer(part, fps=rate, quality=8, macro_block_size=2) as writer:
            for picture in pictures:
                writer.append_data(picture)
        whole = imageio_ffmpeg.count_frames_and_secs(part)[0] == len(pictures)  # an encoder may fail after the last one
    except (OSError, RuntimeError):
        whole = False
    if not whole:
        free = shutil.disk_usage(part.parent).free
        raise OSError(errno.EIO, f"the encoder of films stopped; {free / 1e6:.3g} MB are free there")


def _rendered(
    modes: ModeSet, mode: int, share: float | None, true_scale: float | None, phases: Floats, pixels: tuple[int, int]
) -> Any:
    if view_available():
        plotter, move, _, _ = _mode_scene(modes, mode, share, true_scale)
        plotter.window_size = pixels
        for phase in phases:
            move(float(phase))
            plotter.render()
            yield plotter.screenshot(return_img=True)
        plotter.close()
        return
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    diagonal = drawing_of(modes.system).diagonal
    most = true_scale / diagonal if true_scale is not None else share if share is not None else 0.08
    for phase in phases:
        ax = plot_shape(modes, mode, share=most * float(phase) if phase else 1e-12)
        ax.figure.set_size_inches(pixels[0] / 100, pixels[1] / 100)
        ax.figure.set_dpi(100)
        canvas = FigureCanvasAgg(ax.figure)
        canvas.draw()
        yield np.asarray(canvas.buffer_rgba())[:, :, :3]
