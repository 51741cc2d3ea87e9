"""What each mode is, in words, from its shape and its energies; computed anew from the present result each time.

In this order: a rigid-body mode; members that move as one body on springs; a motion local to one part; bending,
torsion or stretching of a slender whole; waves of a ring, a cylinder or a flat plate; else where the energy is.
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.errors import first_few
from holokine.modes.energy import Energies
from holokine.modes.extract import ModeSet
from holokine.system.build import System

__all__ = ["mode_words"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
SLENDER = 4.0
FLAT = 0.03
REPEATED = 1e-6
MOST_WAVES = 100  # around a ring: what is searched for grows with their number
CLOSE = 0.01
_ORDER = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth")


@dataclass(frozen=True)
class _Field:
    """Motion of some nodes: places, translations, rotations and weights (kg)."""

    places: Floats
    shift: Floats
    turn: Floats
    weight: Floats

    @property
    def centre(self) -> Floats:
        return np.average(self.places, axis=0, weights=self.weight)

    @property
    def axes(self) -> Floats:
        """Rows: principal axes of the extent, longest first, turned to global axes where they are close to them."""
        arms = self.places - self.places.mean(axis=0)
        rows = np.linalg.eigh(arms.T @ arms)[1].T[::-1]
        extent = np.ptp(arms @ rows.T, axis=0)
        own = np.ptp(arms, axis=0)
        if np.prod(np.maximum(own, 1e-12)) <= 1.05 * np.prod(np.maximum(extent, 1e-12)) or np.allclose(
            np.sort(own), np.sort(extent), rtol=0.02, atol=1e-9
        ):
            rows, extent = np.eye(3), own
        return rows[np.argsort(-extent, kind="stable")]


def mode_words(modes: ModeSet, energies: Energies) -> list[str]:
    """Words for every mode, in order."""
    system = modes.system
    weight = system.weighed.diagonal().reshape(-1, 6)[:, :3].mean(axis=1)
    kinetic, strain = energies.shares("kinetic"), energies.shares("strain")
    kinds: list[tuple[str, str]] = []
    for row in range(modes.count):
        kinds.append(_kind(system, modes, row, energies, kinetic[:, row], strain[:, row], weight))
    seen: dict[str, int] = {}
    result = []
    for row, (kind, more) in enumerate(kinds):
        text = kind
        if more == "ranked":
            seen[kind] = seen.get(kind, 0) + 1
            rank = seen[kind]
            if modes.from_the_bottom:
                text = f"{_ORDER[rank - 1] if rank <= len(_ORDER) else f'{rank}th'} {kind}"
        elif more:
            text = f"{kind}, {more}"
        result.append(text + _company(modes, row))
    return result


def _company(modes: ModeSet, row: int) -> str:
    """Whether others lie at the same frequency, or close by."""
    if modes.rigid[row]:
        return ""
    f = modes.frequencies_hz
    same = np.flatnonzero((np.abs(f - f[row]) <= REPEATED * f[row]) & ~modes.rigid)
    if len(same) > 1:
        return f" (repeated: modes {', '.join(str(modes.numbers[i]) for i in same)})"
    near = np.flatnonzero((np.abs(f - f[row]) <= CLOSE * f[row]) & (np.arange(len(f)) != row))
    return f" (close to mode {', '.join(str(modes.numbers[i]) for i in near)})" if len(near) else ""


def _kind(
    system: System, modes: ModeSet, row: int, energies: Energies, kinetic: Floats, strain: Floats, weight: Floats
) -> tuple[str, str]:
    """The kind of a mode, and what follows it: more words, or ``ranked`` for kinds that are numbered."""
    shape = modes.shapes[row].reshape(-1, 6)
    in_use = weight > 0
    everything = _Field(system.mesh.nodes[in_use], shape[in_use, :3], shape[in_use, 3:], weight[in_use])
    if modes.rigid[row]:
        return f"rigid-body: {_rigid(everything)[0]}", ""
    kinds = np.array(energies.kinds)
    springy = np.isin(kinds, ("spring", "bushing", "joint", "hinge", "slider", "ball", "rigid"))
    if strain[springy].sum() >= 0.7:
        movers = [energies.members[i] for i in np.argsort(-kinetic) if kinetic[i] >= 0.1]
        field = _field(system, modes, row, movers, weight)
        words, fits = _rigid(field)
        on = _strained(energies, np.where(springy, strain, 0.0))
        what = first_few(movers, 3)
        if fits >= 0.95:
            return f"{what} as a rigid body on {on}", words
        return f"{what} on {on}", _mainly(field)
    top = int(np.argmax(kinetic))
    parts = list(system.description.parts)
    local = len(parts) > 1 and kinds[top] == "part" and kinetic[top] >= 0.75
    if local:
        name = energies.members[top]
        field = _field(system, modes, row, [name], weight)
        words, fits = _rigid(field)
        if fits >= 0.95:
            return f"{name} as a rigid body", f"{words}, held by {_strained(energies, strain)}"
        return f"local to {name}", _deformation(system, [name], field)[0]
    if len(parts) >= 1:
        words, ranked = _deformation(system, parts, everything)
        if words and (len(parts) == 1 or ranked == "ranked"):
            return words, ranked
    words, fits = _rigid(everything)
    if fits >= 0.8:
        return f"whole assembly {words}", f"on {_strained(energies, strain)}"
    return f"deformation of {_strained(energies, strain)}", _mainly(everything)


def _strained(energies: Energies, strain: Floats) -> str:
    """The members that strain most."""
    found = energies.together(strain)
    return ", ".join(name for name, share in found[:3] if share >= 0.1) or (found[0][0] if found else "nothing")


def _field(system: System, modes: ModeSet, row: int, members: list[str], weight: Floats) -> _Field:
    nodes: list[int] = []
    for name in members:
        own = system.mesh.part_nodes.get(name)
        nodes += own.tolist() if own is not None else [b.node for b in system.masses if b.name == name]
    index = np.unique(np.array(nodes, dtype=np.int64))
    index = index[weight[index] > 0]
    shape = modes.shapes[row].reshape(-1, 6)[index]
    return _Field(system.mesh.nodes[index], shape[:, :3], shape[:, 3:], weight[index])


def _rigid(field: _Field) -> tuple[str, float]:
    """The nearest rigid motion in words, and the share of the motion (by kinetic energy) that it explains."""
    root = np.sqrt(field.weight)[:, None]
    arms = field.places - field.centre
    radius = float(np.sqrt((field.weight[:, None] * arms**2).sum() / field.weight.sum())) or 1.0
    columns = []
    for d in range(3):
        columns.append(np.tile(np.eye(3)[d], (len(arms), 1)))
    for d in range(3):
        columns.append(np.cross(np.eye(3)[d], arms) / radius)
    A = np.stack([(root * c).ravel() for c in columns], axis=1)
    b = (root * field.shift).ravel()
    if len(arms) == 1:
        total = np.concatenate([field.shift[0], field.turn[0] * 0.05])
        return _motion_name(np.concatenate([field.shift[0], field.turn[0] * 0.05])), float(total @ total > 0)
    fit, *_ = scipy.linalg.lstsq(A, b)
    if float(b @ b) <= 1e-12 * float((field.weight * (radius * np.linalg.norm(field.turn, axis=1)) ** 2).sum()):
        return f"spins about {_axis_name(field.turn.mean(axis=0))}, its own axis", 1.0
    explained = float(np.linalg.norm(A @ fit) ** 2 / max(float(b @ b), 1e-300))
    return _motion_name(fit), explained


def _motion_name(fit: Floats) -> str:
    """Six amounts (rotations times a radius) as the one or two that matter."""
    share = fit**2 / max(float((fit**2).sum()), 1e-300)
    names = ("moves along x", "moves along y", "moves along z", "rocks about x", "rocks about y", "rocks about z")
    picked = [i for i in np.argsort(-share)[:2] if share[i] >= 0.2]
    return " and ".join(names[i] for i in picked)


def _mainly(field: _Field) -> str:
    share = (field.weight[:, None] * field.shift**2).sum(axis=0)
    share = share / max(float(share.sum()), 1e-300)
    picked = [f"{100 * share[d]:.0f} % along {'xyz'[d]}" for d in np.argsort(-share) if share[d] >= 0.2]
    return "moving " + ", ".join(picked)


def _axis_name(v: Floats) -> str:
    main = int(np.abs(v).argmax())
    if abs(v[main]) > 0.98:
        return "xyz"[main]
    v = v * np.sign(v[main])
    return "[" + ", ".join(f"{c:.2g}" for c in v + 0.0) + "]"


def _deformation(system: System, parts: list[str], field: _Field) -> tuple[str, str]:
    """Bending, torsion, stretching or waves of what lies in the parts; empty where its form is none of these."""
    axes = field.axes
    extent = np.ptp((field.places - field.places.mean(axis=0)) @ axes.T, axis=0)
    if extent[0] <= 0:
        return "", ""
    ring = _round(field, axes)
    if ring:
        return ring, ""
    if extent[1] * SLENDER <= extent[0]:
        return _slender(field, axes)
    if extent[2] <= FLAT * extent[0] and all(not system.description.parts[p].section for p in parts):
        return _plate(field, axes, extent), ""
    return "", ""


def _slices(field: _Field, along: Floats) -> list[Ints]:
    """Nodes by their place along an axis."""
    s = field.places @ along
    order = np.argsort(s, kind="stable")
    gap = np.diff(s[order])
    span = float(np.ptp(s)) or 1.0
    if (gap > 1e-6 * span).sum() > 60:
        edges = np.linspace(s.min(), s.max(), 61)
        index = np.clip(np.searchsorted(edges, s, side="right") - 1, 0, 59)
        return [np.flatnonzero(index == k) for k in range(60) if (index == k).any()]
    return list(np.split(order, np.flatnonzero(gap > 1e-6 * span) + 1))


def _slender(field: _Field, axes: Floats) -> tuple[str, str]:
    """Bending about an axis, torsion, or stretching, whichever moves most mass."""
    shift, turn = field.shift @ axes.T, field.turn @ axes.T
    arms = (field.places - field.places.mean(axis=0)) @ axes.T
    amounts = np.zeros(4)  # stretch, bending along the second and third axis, torsion
    radius2 = 0.0
    for index in _slices(field, axes[0]):
        w = field.weight[index]
        mean = np.average(shift[index], axis=0, weights=w)
        amounts[:3] += w.sum() * mean**2
        off = arms[index, 1:] - np.average(arms[index, 1:], axis=0, weights=w)
        polar = float((w * (off**2).sum(axis=1)).sum())
        radius2 += polar
        rest = shift[index, 1:] - mean[1:]
        spin = float((w * (off[:, 0] * rest[:, 1] - off[:, 1] * rest[:, 0])).sum())
        if polar > 1e-12 * w.sum():
            amounts[3] += spin**2 / polar
    if radius2 <= 1e-12 * field.weight.sum():  # a line of beams: its twist is in the rotations
        twist = turn[:, 0]
        lateral = np.abs(shift).max(initial=0.0)
        span = float(np.ptp(arms[:, 0]))
        amounts[3] = (
            float((field.weight * (0.02 * span * twist) ** 2).sum())
            if lateral < 0.02 * span * np.abs(twist).max(initial=0.0)
            else 0.0
        )
    main = int(np.argmax(amounts))
    if main == 0:
        return f"stretching along {_axis_name(axes[0])}", "ranked"
    if main == 3:
        return f"torsion about {_axis_name(axes[0])}", "ranked"
    direction = np.zeros(3)
    both = amounts[1:3] / max(float(amounts[1:3].sum()), 1e-300)
    if both.min() > 0.05:  # bending along a slanted direction
        pair = np.array([np.concatenate([field.shift @ axes[1]]), np.concatenate([field.shift @ axes[2]])])
        values, vectors = np.linalg.eigh((pair * field.weight) @ pair.T)
        direction = vectors[:, int(np.argmax(values))] @ axes[1:]
    else:
        direction = axes[main]
    about = np.cross(axes[0], direction)
    return f"bending about {_axis_name(about)}", "ranked"


def _crossings(field: _Field, value: Floats, along: Floats, across: Floats) -> int:
    """Half waves along an axis: changes of sign along lines, weighted by how much the lines move, plus one."""
    s, t = field.places @ along, field.places @ across
    edges = np.linspace(t.min(), t.max() + 1e-12, 13)
    line = np.clip(np.searchsorted(edges, t, side="right") - 1, 0, 11)
    total, counted = 0.0, 0.0
    size = np.abs(value).max(initial=0.0)
    for k in range(12):
        own = np.flatnonzero(line == k)
        if len(own) < 3:
            continue
        order = own[np.argsort(s[own], kind="stable")]
        v, place = value[order], np.round(s[order] / max(float(np.ptp(s)), 1e-30), 6)
        which = np.unique(place, return_inverse=True)[1]
        mean = np.bincount(which, weights=v) / np.bincount(which)
        firm = mean[np.abs(mean) > 0.05 * size]
        changes = sum(a * b < 0 for a, b in pairwise(firm.tolist()))
        strength = float((mean**2).mean())
        total += strength * changes
        counted += strength
    return round(total / counted) + 1 if counted > 0 else 1


def _plate(field: _Field, axes: Floats, extent: Floats) -> str:
    shift = field.shift @ axes.T
    share = (field.weight[:, None] * shift**2).sum(axis=0)
    if share[2] < 0.5 * share.sum():
        return f"in-plane motion along {_axis_name(axes[int(np.argmax(share[:2]))])}"
    m = _crossings(field, shift[:, 2], axes[0], axes[1])
    n = _crossings(field, shift[:, 2], axes[1], axes[0])
    a, b = _axis_name(axes[0]), _axis_name(axes[1])
    first, second = ((m, a), (n, b)) if a <= b else ((n, b), (m, a))
    return f"plate bending, {first[0]} x {second[0]} half waves along {first[1]} and {second[1]}"


def _round(field: _Field, axes: Floats) -> str:
    """Waves around a ring or cylinder; empty where the nodes are not all at one distance from an axis."""
    middle = (field.places.max(axis=0) + field.places.min(axis=0)) / 2.0
    arms = field.places - middle
    for d in range(3):
        out = np.delete(arms, d, axis=1)
        radius = np.linalg.norm(out, axis=1)
        if len(radius) < 8 or np.ptp(radius) > 0.05 * radius.mean():
            continue
        angle = np.arctan2(out[:, 1], out[:, 0])
        spread = np.sort(angle)
        if len(spread) < 8 or np.diff(spread).max() > 1.0 or len(np.unique(np.round(angle, 3))) < 8:
            continue
        u, v = np.cos(angle), np.sin(angle)
        plane = np.delete(field.shift, d, axis=1)
        fields = {
            "radial": plane[:, 0] * u + plane[:, 1] * v,
            "around": -plane[:, 0] * v + plane[:, 1] * u,
            "axial": field.shift[:, d],
        }
        power = {k: float((field.weight * f**2).sum()) for k, f in fields.items()}
        in_plane = power["radial"] + power["around"]
        kind = "axial" if power["axial"] > in_plane else "radial" if power["radial"] > 0.05 * in_plane else "around"
        f = fields[kind]
        waves = [
            abs((field.weight * f * np.exp(-1j * n * angle)).sum())
            for n in range(min(len(np.unique(angle)) // 2, MOST_WAVES) + 1)
        ]
        n = int(np.argmax(waves))
        along = _crossings(field, f * np.cos(n * angle - np.angle((field.weight * f * np.exp(-1j * n * angle)).sum())),
                           np.eye(3)[d], np.roll(np.eye(3)[d], 1)) if np.ptp(arms[:, d]) > 0 else 0  # fmt: skip
        words = {
            "axial": f"bending along {'xyz'[d]}",
            "radial": "radial bending",
            "around": f"turning about {'xyz'[d]}",
        }
        text = f"{words[kind]}, {n} waves around" if n != 1 else f"{words[kind]}, 1 wave around"
        return f"{text}, {along} half waves along {'xyz'[d]}" if along > 0 and np.ptp(arms[:, d]) > 1e-6 else text
    return ""
