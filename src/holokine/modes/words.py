"""What each mode is, in words, from its shape and its energies; computed anew from the present result each time.

In this order: a rigid-body mode; members that move as one body on springs; a motion local to one part; bending,
torsion or stretching of a slender whole; waves of a ring, a cylinder or a flat plate; else what moves (a member, a
group of the description, or several), how, and what it strains.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg

from holokine.describe.references import group_members
from holokine.modes.kinds import ModeKind
from holokine.progress import counted
from holokine.ranking import ALIKE, first_largest, ranked
from holokine.system.totals import member_masses

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.modes.energy import Energies
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = ["mode_kinds"]

SLENDER = 4.0
FLAT = 0.03
REPEATED = 1e-6
MOST_WAVES = 100  # around a ring: what is searched for grows with their number
CLOSE = 0.01
MOVER = 0.6  # of the kinetic energy: what moves is named by members or a group that hold as much
STRAINED = 0.8
_OWN = 0.5  # of the strain energy: a part that holds as much deforms, however little its shape differs from a body's
_SPINS = 0.05  # of the energy of turning, below which the motion of nodes is what goes with it
_AS_A_LINE = 0.3  # of the kinetic energy: a slender body whose sections move by less as one does not bend or twist


@dataclass(frozen=True)
class _Field:
    """Motion of some nodes: places, translations, rotations, weights (kg) and own inertia (kg m², (nodes, 3))."""

    places: Floats
    shift: Floats
    turn: Floats
    weight: Floats
    inertia: Floats | None = None

    @property
    def spins(self) -> bool:
        """Whether nearly all of its kinetic energy is in turns of nodes about themselves."""
        if self.inertia is None:
            return False
        moving = float((self.weight[:, None] * self.shift**2).sum())
        return moving < _SPINS * float((self.inertia * self.turn**2).sum())

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


@dataclass(frozen=True)
class _Names:
    """What several members are called together: their group, where the description has one that fits."""

    members: tuple[str, ...]
    groups: dict[str, Ints]
    mass: Floats  # of each member, as a share of the whole

    @classmethod
    def of(cls, system: System, energies: Energies) -> _Names:
        place = {name: i for i, name in enumerate(energies.members)}
        groups = {}
        for name in system.description.groups:
            own = [place[m] for m in group_members(system.description, name) if m in place]
            if len(own) > 1:
                groups[name] = np.array(sorted(set(own)), dtype=np.int64)
        masses = member_masses(system)
        mass = np.array([masses[n].mass if n in masses else 0.0 for n in energies.members])
        return cls(energies.members, groups, mass / (mass.sum() or 1.0))

    def group(self, share: Floats, least: float, without: Sequence[str] = ()) -> str | None:
        """The group that holds at least a share of something, and the most beyond its share of the mass.

        `without`: members that must not be in it.
        """
        held = {g: float(share[own].sum()) for g, own in self.groups.items()
                if not without or not any(self.members[i] in without for i in own)}  # fmt: skip
        over = {g: share_ - float(self.mass[self.groups[g]].sum()) for g, share_ in held.items() if share_ >= least}
        best = max(over, key=lambda g: (over[g], -len(self.groups[g])), default=None)
        return best if best is not None and over[best] > 0.1 else None

    def movers(self, kinetic: Floats, least: float = MOVER) -> tuple[str, list[str]]:
        """What moves, in words and as members: one, a group, up to three, or the whole."""
        least *= 1.0 - ALIKE  # symmetric parts hold shares such as six tenths, but for rounding
        order = ranked(kinetic)
        if kinetic[order[0]] >= least:
            return self.members[order[0]], [self.members[order[0]]]
        group = self.group(kinetic, least)
        if group is not None:
            return group, [self.members[i] for i in self.groups[group]]
        count = int(np.searchsorted(np.cumsum(kinetic[order]), least)) + 1
        if count <= 3:
            names = [self.members[i] for i in order[:count]]
            return f"{', '.join(names[:-1])} and {names[-1]}", names
        return "the whole assembly", list(self.members)

    def strained(self, energies: Energies, strain: Floats, movers: Sequence[str]) -> str:
        """The members that strain most, or the group that they are, if nothing of it is what moves."""
        group = self.group(strain, STRAINED, movers) if strain.max(initial=0.0) < STRAINED * strain.sum() else None
        found = energies.together(strain)
        return group or ", ".join(name for name, share in found[:3] if share >= 0.1) or (
            found[0][0] if found else "nothing"
        )  # fmt: skip


def mode_kinds(modes: ModeSet, energies: Energies) -> list[ModeKind]:
    """What every mode is, in order."""
    system = modes.system
    weight = _Weight.of(system)
    kinetic, strain = energies.shares("kinetic"), energies.shares("strain")
    names = _Names.of(system, energies)
    found, seen = [], dict[tuple[str, str, str], int]()
    for row in counted(range(modes.count), "what the modes are", "modes"):
        kind = _kind(system, modes, row, energies, names, kinetic[:, row], strain[:, row], weight)
        if kind.family in ("bending", "torsion", "stretching"):
            key = (kind.family, kind.about, kind.member)
            seen[key] = seen.get(key, 0) + 1
            kind = replace(kind, order=(seen[key],), ranked=not kind.member and modes.from_the_bottom)
        repeated, near = _company(modes, row)
        found.append(replace(kind, repeated=repeated, near=near))
    return found


def _company(modes: ModeSet, row: int) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Modes at the same frequency, and others close by."""
    if modes.rigid[row]:
        return (), ()
    f = modes.frequencies_hz
    same = np.flatnonzero((np.abs(f - f[row]) <= REPEATED * f[row]) & ~modes.rigid)
    if len(same) > 1:
        return tuple(int(modes.numbers[i]) for i in same), ()
    near = np.flatnonzero((np.abs(f - f[row]) <= CLOSE * f[row]) & (np.arange(len(f)) != row))
    return (), tuple(int(modes.numbers[i]) for i in near)


def _kind(
    system: System, modes: ModeSet, row: int, energies: Energies, names: _Names, kinetic: Floats, strain: Floats,
    weight: _Weight,
) -> ModeKind:  # fmt: skip
    """The kind of a mode, without its order among its like."""
    everything = _field(system, modes, row, None, weight)
    if modes.rigid[row]:
        return ModeKind("rigid-body", text=f"rigid-body: {_rigid(everything)[0]}")
    kinds = np.array(energies.kinds)
    springy = np.isin(kinds, ("spring", "bushing", "joint", "hinge", "slider", "ball", "rigid"))
    what, movers = names.movers(kinetic)
    if strain[springy].sum() >= 0.7:
        field = _field(system, modes, row, movers, weight)
        words, fits = _rigid(field)
        on = f"on {names.strained(energies, np.where(springy, strain, 0.0), movers)}"
        if fits >= 0.95:
            body = any(m in system.mesh.part_nodes for m in movers)
            return ModeKind("on springs", text=_said(what, words) + (" as a rigid body" if body else ""), more=on)
        return ModeKind("on springs", text=_said(what, _moves(system, field)), more=on)
    top = first_largest(kinetic)
    parts = list(system.description.parts)
    if len(parts) > 1 and kinds[top] == "part" and kinetic[top] >= 0.75:
        name = energies.members[top]
        field = _field(system, modes, row, [name], weight)
        words, fits = _rigid(field)
        if fits >= 0.95 and strain[top] < _OWN:
            held = f"held by {names.strained(energies, strain, movers)}"
            return ModeKind(text=f"{_said(name, words)} as a rigid body", more=held)
        found = _deformation(system, [name], field)
        if found.text:
            return replace(found, member=name)
    if len(parts) >= 1:
        found = _deformation(system, parts, everything)
        if found.text and (len(parts) == 1 or found.family in ("bending", "torsion", "stretching")):
            return found
    field = everything if movers == list(energies.members) else _field(system, modes, row, movers, weight)
    strains = f"straining {names.strained(energies, strain, movers)}"
    return ModeKind(text=_said(what, _moves(system, field)), more=strains)


def _said(what: str, words: str) -> str:
    """Subject and verbs, in the plural for several members."""
    if " and " in what or (what.endswith("s") and not what.endswith(("ss", "us", "is"))):
        for verb in ("moves", "rocks", "sways", "spins", "twists"):
            words = words.replace(f"{verb} ", f"{verb[:-1]} ")
    return f"{what} {words}"


def _moves(system: System, field: _Field) -> str:
    """How members move: as nearly one body, along a direction, or along two."""
    words, fits = _rigid(field)
    if fits >= 0.8:
        if words in ("moves along x", "moves along y", "moves along z"):
            return words.replace("moves", _verb(system, field, "xyz".index(words[-1])))
        return words
    if fits >= 0.5 and words.startswith("rocks about") and " and " not in words:
        return words.replace("rocks", "twists")
    share = (field.weight[:, None] * field.shift**2).sum(axis=0)
    share = share / max(float(share.sum()), 1e-300)
    order = ranked(share, 0.005)  # as shares are told
    d = int(order[0])
    mean = float(field.weight @ field.shift[:, d]) ** 2
    together = mean >= 0.5 * float(field.weight.sum() * (field.weight @ field.shift[:, d] ** 2))
    how = "" if together else ", against each other" if len(field.weight) == 2 else ", in opposite senses"
    if share[d] < 0.7:
        e = int(order[1])
        return f"moves along {'xyz'[d]} ({100 * share[d]:.0f} %) and {'xyz'[e]} ({100 * share[e]:.0f} %){how}"
    return f"{_verb(system, field, d)} along {'xyz'[d]}{how}"


def _verb(system: System, field: _Field, direction: int) -> str:
    """Sways: sideways of the way from where the assembly is held, for what lies beyond all of that."""
    held = [s.nodes for s in system.supports.values()]
    if not held:
        return "moves"
    places = system.mesh.nodes[np.unique(np.concatenate(held))]
    beyond = np.maximum(field.centre - places.max(axis=0), places.min(axis=0) - field.centre)
    axis = int(beyond.argmax())
    extent = float(np.ptp(system.mesh.nodes, axis=0).max())
    return "sways" if beyond[axis] > 0.05 * extent and axis != direction else "moves"


@dataclass(frozen=True)
class _Weight:
    """Mass of every node in kg, and its own inertia in kg m² about x, y, z, from the diagonal of the mass matrix."""

    mass: Floats
    inertia: Floats

    @classmethod
    def of(cls, system: System) -> _Weight:
        diagonal = system.weighed.diagonal().reshape(-1, 6)
        return cls(diagonal[:, :3].mean(axis=1), diagonal[:, 3:])


def _field(system: System, modes: ModeSet, row: int, members: list[str] | None, weight: _Weight) -> _Field:
    """Motion of the nodes of members, or of all."""
    index = np.arange(len(weight.mass))
    if members is not None:
        bodies = {b.name: np.array([b.node]) for b in system.masses}
        none = np.zeros(0, dtype=np.int64)
        nodes = [system.mesh.part_nodes.get(name, bodies.get(name, none)) for name in members]
        index = np.unique(np.concatenate(nodes))
    index = index[weight.mass[index] > 0]
    shape = modes.shapes[row].reshape(-1, 6)[index]
    return _Field(system.mesh.nodes[index], shape[:, :3], shape[:, 3:], weight.mass[index], weight.inertia[index])


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
        return _motion_name(total), float(total @ total > 0)
    fit, *_ = scipy.linalg.lstsq(A, b)
    if field.spins:
        return _spin(field)
    explained = float(np.linalg.norm(A @ fit) ** 2 / max(float(b @ b), 1e-300))
    own = (field.weight[:, None] * field.shift**2).sum(axis=0)
    d = int(own.argmax())
    turning = (fit[3:] ** 2).sum() >= 0.2 * (fit**2).sum()
    if turning and own[d] >= (1.0 - 1e-9) * own.sum() and not np.abs(field.turn).max() > 0.0:
        # nothing turns: places on a line that move one way, each by its own amount
        even = float(field.weight @ field.shift[:, d]) ** 2 / float(field.weight.sum() * own[d])
        return f"moves along {'xyz'[d]}", even
    return _motion_name(fit), explained


def _spin(field: _Field) -> tuple[str, float]:
    """Turning about an axis of its own, and the share of it that all nodes have in common."""
    assert field.inertia is not None
    whole = float((field.inertia * field.turn**2).sum())
    mean = (field.inertia * field.turn).sum(axis=0) / np.maximum(field.inertia.sum(axis=0), 1e-300)
    together = float((field.inertia.sum(axis=0) * mean**2).sum()) / whole
    if together < 0.5:  # rollers that turn against each other
        sign = np.sign(field.turn[np.arange(len(field.turn)), np.abs(field.turn).argmax(axis=1)])
        mean = (field.inertia * field.turn * sign[:, None]).sum(axis=0)
    return f"spins about {_axis_name(mean)}", max(together, 0.95)


def _motion_name(fit: Floats) -> str:
    """Six amounts (rotations times a radius) as the one or two that matter."""
    share = fit**2 / max(float((fit**2).sum()), 1e-300)
    picked = [i for i in np.argsort(-share, kind="stable")[:2] if share[i] >= 0.2]
    if len(picked) == 2 and (picked[0] < 3) == (picked[1] < 3):
        verb = "moves along" if picked[0] < 3 else "rocks about"
        return f"{verb} {'xyz'[picked[0] % 3]} and {'xyz'[picked[1] % 3]}"
    return " and ".join(("moves along " if i < 3 else "rocks about ") + "xyz"[i % 3] for i in picked)


def _axis_name(v: Floats) -> str:
    main = int(np.abs(v).argmax())
    v = v / (float(np.linalg.norm(v)) or 1.0)
    if abs(v[main]) > 0.98:
        return "xyz"[main]
    v = np.where(np.abs(v) < 1e-3, 0.0, v * np.sign(v[main]))
    return "[" + ", ".join(f"{c:.2g}" for c in v + 0.0) + "]"


def _deformation(system: System, parts: list[str], field: _Field) -> ModeKind:
    """Bending, torsion, stretching or waves of what lies in the parts; no text where its form is none of these."""
    axes = field.axes
    extent = np.ptp((field.places - field.places.mean(axis=0)) @ axes.T, axis=0)
    if extent[0] <= 0:
        return ModeKind()
    ring = _round(field, axes)
    if ring.text:
        return ring
    if extent[1] * SLENDER <= extent[0]:
        return _slender(field, axes)
    if extent[2] <= FLAT * extent[0] and all(not system.description.parts[p].section for p in parts):
        return _plate(field, axes, extent)
    return ModeKind()


def _stations(field: _Field, along: Floats) -> Ints:
    """Which of the stations along an axis, from 0, each node lies at."""
    s = field.places @ along
    order = np.argsort(s, kind="stable")
    gap = np.diff(s[order])
    span = float(np.ptp(s)) or 1.0
    if (gap > 1e-6 * span).sum() > 60:
        edges = np.linspace(s.min(), s.max(), 61)
        return np.unique(np.clip(np.searchsorted(edges, s, side="right") - 1, 0, 59), return_inverse=True)[1]
    station = np.empty(len(s), dtype=np.int64)
    station[order] = np.concatenate([[0], np.cumsum(gap > 1e-6 * span)])
    return station


def _slender(field: _Field, axes: Floats) -> ModeKind:
    """Bending about an axis, torsion, or stretching, whichever moves most mass."""
    shift, turn = field.shift @ axes.T, field.turn @ axes.T
    arms = (field.places - field.places.mean(axis=0)) @ axes.T
    w, station = field.weight, _stations(field, axes[0])

    def summed(value: Floats) -> Floats:
        return np.bincount(station, w * value)

    heavy = np.bincount(station, w)
    mean, middle = (np.stack([summed(c) for c in a.T], axis=1) / heavy[:, None] for a in (shift, arms))
    off, rest = arms - middle[station], shift - mean[station]
    polar = summed(off[:, 1] ** 2 + off[:, 2] ** 2)
    spin = summed(off[:, 1] * rest[:, 2] - off[:, 2] * rest[:, 1])
    wide = polar > 1e-12 * heavy
    amounts = np.zeros(4)  # stretch, bending along the second and third axis, torsion
    amounts[:3] = heavy @ mean**2
    amounts[3] = (spin[wide] ** 2 / polar[wide]).sum()
    if polar.sum() <= 1e-12 * w.sum():  # a line of beams: its twist is in the rotations
        twist = turn[:, 0]
        lateral = np.abs(shift).max(initial=0.0)
        span = float(np.ptp(arms[:, 0]))
        amounts[3] = (
            float((field.weight * (0.02 * span * twist) ** 2).sum())
            if lateral < 0.02 * span * np.abs(twist).max(initial=0.0)
            else 0.0
        )
    whole = float((field.weight[:, None] * field.shift**2).sum())
    if amounts.sum() < _AS_A_LINE * whole:  # its sections deform, and what they move by as one is rounding
        return ModeKind()
    main = int(np.argmax(amounts))
    along = _axis_name(axes[0])
    if main == 0:
        return ModeKind("stretching", along, text=f"stretching along {along}")
    if main == 3:
        return ModeKind("torsion", along, text=f"torsion about {along}")
    direction = np.zeros(3)
    both = amounts[1:3] / max(float(amounts[1:3].sum()), 1e-300)
    if both.min() > 0.05:  # bending along a slanted direction
        pair = np.array([np.concatenate([field.shift @ axes[1]]), np.concatenate([field.shift @ axes[2]])])
        values, vectors = np.linalg.eigh((pair * field.weight) @ pair.T)
        direction = vectors[:, int(np.argmax(values))] @ axes[1:]
    else:
        direction = axes[main]
    about = _axis_name(np.cross(axes[0], direction))
    return ModeKind("bending", about, text=f"bending about {about}")


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


def _plate(field: _Field, axes: Floats, extent: Floats) -> ModeKind:
    shift = field.shift @ axes.T
    share = (field.weight[:, None] * shift**2).sum(axis=0)
    if share[2] < 0.5 * share.sum():
        return ModeKind(text=f"in-plane motion along {_axis_name(axes[int(np.argmax(share[:2]))])}")
    m = _crossings(field, shift[:, 2], axes[0], axes[1])
    n = _crossings(field, shift[:, 2], axes[1], axes[0])
    a, b = _axis_name(axes[0]), _axis_name(axes[1])
    first, second = ((m, a), (n, b)) if a <= b else ((n, b), (m, a))
    text = f"plate bending, {first[0]} x {second[0]} half waves along {first[1]} and {second[1]}"
    return ModeKind("plate bending", order=(first[0], second[0]), text=text)


def _round(field: _Field, axes: Floats) -> ModeKind:
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
        n, along = _waves(field, f, angle, d)
        words = {
            "axial": f"bending along {'xyz'[d]}",
            "radial": "radial bending",
            "around": f"turning about {'xyz'[d]}",
        }
        text = f"{words[kind]}, {n} waves around" if n != 1 else f"{words[kind]}, 1 wave around"
        if along > 0 and np.ptp(arms[:, d]) > 1e-6:
            text += f", {along} half waves along {'xyz'[d]}"
        family = {"axial": "ring out of plane", "radial": "ring in plane"}.get(kind, "")
        return ModeKind(family, "xyz"[d], order=(n,), text=text)
    return ModeKind()


def _waves(field: _Field, f: Floats, angle: Floats, d: int) -> tuple[int, int]:
    """Waves around, and half waves along the axis d (0 of a ring), of a motion f.

    Station by station along the axis: over the whole length an even number of half waves would cancel.
    """
    station = _stations(field, np.eye(3)[d])
    heavy = field.weight * f
    best, size, profile = 0, -1.0, np.zeros(0, dtype=complex)
    for n in range(min(len(np.unique(angle)) // 2, MOST_WAVES) + 1):
        share = np.bincount(station, heavy * np.cos(n * angle)) - 1j * np.bincount(station, heavy * np.sin(n * angle))
        amount = float((np.abs(share) ** 2).sum())
        if amount > size * (1.0 + 1e-9):
            best, size, profile = n, amount, share
    if station.max() < 1:
        return best, 0
    turned = np.exp(-0.5j * np.angle((profile**2).sum()))
    mean = np.real(profile * turned) / np.bincount(station, field.weight)
    firm = mean[np.abs(mean) > 0.05 * np.abs(mean).max()]
    return best, 1 + sum(a * b < 0 for a, b in pairwise(firm.tolist()))
