"""What each mode is, in words, from its shape and its energies; computed anew from the present result each time.

In this order: a rigid-body mode; members that move as one body on springs; a motion local to one part; bending,
torsion or stretching of a slender whole; waves of a ring, a cylinder or a flat plate; else what moves (a member, a
group of the description, or several), how, and what it strains.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.describe.references import group_members
from holokine.progress import counted
from holokine.ranking import ALIKE, first_largest, ranked
from holokine.system.totals import member_masses

if TYPE_CHECKING:
    from holokine.modes.energy import Energies
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = ["ModeKind", "mode_kinds", "mode_words"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
SLENDER = 4.0
FLAT = 0.03
REPEATED = 1e-6
MOST_WAVES = 100  # around a ring: what is searched for grows with their number
CLOSE = 0.01
MOVER = 0.6  # of the kinetic energy: what moves is named by members or a group that hold as much
STRAINED = 0.8
_AS_A_LINE = 0.3  # of the kinetic energy: a slender body whose sections move by less as one does not bend or twist
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


@dataclass(frozen=True)
class ModeKind:
    """What a mode is, as told by its words.

    Attributes
    ----------
    family : str
        bending, torsion, stretching, plate bending, ring in plane, ring out of plane, on springs, or nothing.
    about : str
        Axis that it bends about (or the member that it is local to, and the axis), else nothing.
    order : tuple of int
        Its order, half waves of a plate by axis, or waves around.
    """

    family: str = ""
    about: str = ""
    order: tuple[int, ...] = ()


def mode_kinds(words: Sequence[str]) -> list[ModeKind]:
    """Kinds of modes from their words; what is local to a part is numbered there."""
    found, seen = [], dict[tuple[str, str], int]()
    for text in words:
        local = re.match(r"local to (.*?), ", text)
        rest = text[local.end() :] if local else text
        line = re.match(r"(?:\S+ )?(bending|torsion|stretching) (?:about|along) (\[.*?\]|[xyz])( \(|$)", rest)
        plate = re.match(r"plate bending, (\d+) x (\d+) half waves", rest)
        round_ = re.match(r"(radial bending|bending along [xyz]), (\d+) waves? around", rest)
        if line:
            key = (line[1], f"{line[2]} of {local[1]}" if local else line[2])
            seen[key] = seen.get(key, 0) + 1
            found.append(ModeKind(*key, (seen[key],)))
        elif plate:
            found.append(ModeKind("plate bending", local[1] if local else "", (int(plate[1]), int(plate[2]))))
        elif round_:
            where = "in" if round_[1].startswith("radial") else "out of"
            found.append(ModeKind(f"ring {where} plane", "", (int(round_[2]),)))
        elif ", on " in text and not text.startswith("rigid-body"):
            found.append(ModeKind("on springs"))
        else:
            found.append(ModeKind())
    return found


def mode_words(modes: ModeSet, energies: Energies) -> list[str]:
    """Words for every mode, in order."""
    system = modes.system
    weight = system.weighed.diagonal().reshape(-1, 6)[:, :3].mean(axis=1)
    kinetic, strain = energies.shares("kinetic"), energies.shares("strain")
    names = _Names.of(system, energies)
    kinds: list[tuple[str, str]] = []
    for row in counted(range(modes.count), "what the modes are", "modes"):
        kinds.append(_kind(system, modes, row, energies, names, kinetic[:, row], strain[:, row], weight))
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
    system: System, modes: ModeSet, row: int, energies: Energies, names: _Names, kinetic: Floats, strain: Floats,
    weight: Floats,
) -> tuple[str, str]:  # fmt: skip
    """The kind of a mode, and what follows it: more words, or ``ranked`` for kinds that are numbered."""
    shape = modes.shapes[row].reshape(-1, 6)
    in_use = weight > 0
    everything = _Field(system.mesh.nodes[in_use], shape[in_use, :3], shape[in_use, 3:], weight[in_use])
    if modes.rigid[row]:
        return f"rigid-body: {_rigid(everything)[0]}", ""
    kinds = np.array(energies.kinds)
    springy = np.isin(kinds, ("spring", "bushing", "joint", "hinge", "slider", "ball", "rigid"))
    what, movers = names.movers(kinetic)
    if strain[springy].sum() >= 0.7:
        field = _field(system, modes, row, movers, weight)
        words, fits = _rigid(field)
        on = f"on {names.strained(energies, np.where(springy, strain, 0.0), movers)}"
        if fits >= 0.95:
            body = any(m in system.mesh.part_nodes for m in movers)
            return _said(what, words) + (" as a rigid body" if body else ""), on
        return _said(what, _moves(system, field)), on
    top = first_largest(kinetic)
    parts = list(system.description.parts)
    if len(parts) > 1 and kinds[top] == "part" and kinetic[top] >= 0.75:
        name = energies.members[top]
        field = _field(system, modes, row, [name], weight)
        words, fits = _rigid(field)
        if fits >= 0.95:
            return f"{name} {words} as a rigid body", f"held by {names.strained(energies, strain, movers)}"
        words = _deformation(system, [name], field)[0]
        if words:
            return f"local to {name}", words
    if len(parts) >= 1:
        words, ranked = _deformation(system, parts, everything)
        if words and (len(parts) == 1 or ranked == "ranked"):
            return words, ranked
    if movers == list(energies.members):
        field = everything
    else:
        field = _field(system, modes, row, movers, weight)
    return _said(what, _moves(system, field)), f"straining {names.strained(energies, strain, movers)}"


def _said(what: str, words: str) -> str:
    """Subject and verbs, in the plural for several members."""
    if " and " in what:
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


def _field(system: System, modes: ModeSet, row: int, members: list[str], weight: Floats) -> _Field:
    bodies = {b.name: np.array([b.node]) for b in system.masses}
    none = np.zeros(0, dtype=np.int64)
    nodes = [system.mesh.part_nodes.get(name, bodies.get(name, none)) for name in members]
    index = np.unique(np.concatenate(nodes))
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
        return _motion_name(total), float(total @ total > 0)
    fit, *_ = scipy.linalg.lstsq(A, b)
    if float(b @ b) <= 1e-12 * float((field.weight * (radius * np.linalg.norm(field.turn, axis=1)) ** 2).sum()):
        return f"spins about {_axis_name(field.turn.mean(axis=0))}, its own axis", 1.0
    explained = float(np.linalg.norm(A @ fit) ** 2 / max(float(b @ b), 1e-300))
    own = (field.weight[:, None] * field.shift**2).sum(axis=0)
    d = int(own.argmax())
    turning = (fit[3:] ** 2).sum() >= 0.2 * (fit**2).sum()
    if turning and own[d] >= (1.0 - 1e-9) * own.sum() and not np.abs(field.turn).max() > 0.0:
        # nothing turns: places on a line that move one way, each by its own amount
        even = float(field.weight @ field.shift[:, d]) ** 2 / float(field.weight.sum() * own[d])
        return f"moves along {'xyz'[d]}", even
    return _motion_name(fit), explained


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


def _slender(field: _Field, axes: Floats) -> tuple[str, str]:
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
        return "", ""
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
        n, along = _waves(field, f, angle, d)
        words = {
            "axial": f"bending along {'xyz'[d]}",
            "radial": "radial bending",
            "around": f"turning about {'xyz'[d]}",
        }
        text = f"{words[kind]}, {n} waves around" if n != 1 else f"{words[kind]}, 1 wave around"
        return f"{text}, {along} half waves along {'xyz'[d]}" if along > 0 and np.ptp(arms[:, d]) > 1e-6 else text
    return ""


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
