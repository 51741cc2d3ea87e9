"""Strain and kinetic energy of each part, mass and connection in each mode, and what follows from their shares.

A mass-normalised mode of angular frequency ω at unit amplitude holds ω²/2 of strain energy and, a quarter period
later, as much kinetic energy. The shares s and t of a member give the first-order change of the frequency with
its stiffness and mass, df/f = s/2 · dk/k - t/2 · dm/m (Rayleigh's quotient is stationary; Fox & Kapoor, AIAA
Journal 6 (1968) 2426-2429).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property, partial
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.references import group_members
from holokine.errors import first_few
from holokine.findings import Finding
from holokine.modes.mesh_error import mesh_errors
from holokine.ranking import ranked
from holokine.system.assemble import DIRECTION_NAMES, node_dofs

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe.schema import Description
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import Elements, System

__all__ = ["Energies", "GroupEnergies", "element_energies", "group_energies", "mode_energies", "untrusted_modes"]


@dataclass(frozen=True)
class Energies:
    """Energies by member.

    Attributes
    ----------
    members : tuple of str
        Parts, point masses, springs, bushings, elastic joints, links, ties.
    kinds : tuple of str
        ``part``, ``mass``, ``spring`` ...
    strain, kinetic : ndarray, shape (members, modes)
        In J at unit modal amplitude (mass-normalised shapes); both sum to ω²/2 per mode.
    total : ndarray, shape (modes,)
        ω²/2.
    estimate : callable
        Makes the mesh error when it is asked for.
    """

    members: tuple[str, ...]
    kinds: tuple[str, ...]
    strain: Floats
    kinetic: Floats
    total: Floats
    estimate: Callable[[], Floats]

    @cached_property
    def mesh_error(self) -> Floats:
        """Estimate of the relative error of each frequency that the mesh makes (`mesh_errors`), shape (modes,).

        nan where it cannot be told.
        """
        return self.estimate()

    def together(self, shares: Floats) -> list[tuple[str, float]]:
        """Members with their shares in one mode, largest first.

        Connections whose names differ in the last word only are taken together (``pad a, b and c``), but for those
        that hold less than a tenth of the largest.
        """
        alike: dict[str, list[tuple[str, float]]] = {}
        for name, kind, share in zip(self.members, self.kinds, shares, strict=True):
            if share > 0:
                stem = name.rpartition(" ")[0]
                key = stem if stem and kind not in ("part", "mass") else name
                alike.setdefault(key, []).append((name, float(share)))
        result: list[tuple[str, float]] = []
        for stem, members in alike.items():
            least = 0.1 * max(share for _, share in members)
            main = [m for m in members if m[1] >= least]
            result += [m for m in members if m[1] < least or len(main) == 1]
            if len(main) > 1:
                result.append((_alike(stem, [name for name, _ in main]), sum(share for _, share in main)))
        return [result[i] for i in ranked(np.array([share for _, share in result]))]

    def shares(self, which: str) -> Floats:
        """Shares of strain or kinetic energy, shape (members, modes); zero in rigid-body modes for strain."""
        values = self.strain if which == "strain" else self.kinetic
        total = values.sum(axis=0)
        return values / np.where(total > 0, total, 1.0)


def _alike(stem: str, names: list[str]) -> str:
    """Names that differ in their last words: all of three, of more the first and the last and how many they are."""
    last = [name.removeprefix(stem).strip() for name in names]
    if len(last) > 3:
        return f"{stem} {last[0]} to {last[-1]} ({len(last)})"
    return f"{stem} {', '.join(last[:-1])} and {last[-1]}"


@dataclass(frozen=True)
class GroupEnergies:
    """Energies by group.

    Attributes
    ----------
    names : tuple of str
        Groups, in the order of the description, then ``(in no group)``.
    strain, kinetic : ndarray, shape (groups, modes)
    several : tuple of str
        Members that are in more than one group, whose energy counts in each.
    """

    names: tuple[str, ...]
    strain: Floats
    kinetic: Floats
    several: tuple[str, ...]


def _quadratic(shapes: Floats, dofs: Ints, matrices: Floats) -> Floats:
    """φᵀ A φ of each element and mode, shape (elements, modes)."""
    local = np.moveaxis(shapes[:, dofs], 0, 2)  # (elements, motions, modes)
    return np.einsum("emk,emk->ek", local, matrices @ local)


def _some(chunks: Iterator[tuple[Any, ...]], count: int) -> Iterator[tuple[Any, ...]]:
    """Matrices of some elements at a time, so few that their motions in all modes stay small."""
    for chunk in chunks:
        step = max(1, 4_000_000 // (chunk[0].shape[1] * max(count, 1)))
        for a in range(0, len(chunk[0]), step):
            yield tuple(x[a : a + step] for x in chunk)


def mode_energies(modes: ModeSet) -> Energies:
    """Energies of all members in all modes."""
    system = modes.system
    shapes, moving, omega2 = modes.shapes, _moving(system, modes.shapes), modes.omega**2
    names: list[str] = []
    kinds: list[str] = []
    strain: list[Floats] = []
    kinetic: list[Floats] = []
    zero = np.zeros(modes.count)

    def add(name: str, kind: str, u: Floats, t: Floats) -> None:
        names.append(name)
        kinds.append(kind)
        strain.append(u / 2.0)
        kinetic.append(omega2 * t / 2.0)

    for part in system.description.parts:
        u, t = zero.copy(), zero.copy()
        for block in system.element_blocks(part):
            for dofs, k, m in _some(block.chunks(), modes.count):
                u += _quadratic(shapes, dofs, k).sum(axis=0)
                t += _quadratic(moving, dofs, m).sum(axis=0)
        add(part, "part", u, t)
    for body in system.masses:
        dofs = node_dofs(np.array([body.node]))[None]
        add(body.name, "mass", zero, _quadratic(moving, dofs, body.matrix()[None])[0])
    for c in system.connectors:
        dofs = node_dofs(np.array(c.nodes))[None]
        add(c.name, c.kind, _quadratic(shapes, dofs, c.matrices()[0][None])[0], zero)
    for bond in system.bonds.values():
        if bond.name not in names:
            add(bond.name, bond.kind, zero, zero)
    for b in system.stressed:  # what loads on rigid arms, springs and faces add about a state
        held = _quadratic(shapes, b.dofs, b.matrices).sum(axis=0)
        if b.name not in names:
            add(b.name, "load", zero, zero)
        strain[names.index(b.name)] = strain[names.index(b.name)] + held / 2.0
    total = omega2 / 2.0
    if system.description.matrices is not None:  # what the given matrices hold
        u = np.einsum("mi,mi->m", shapes, (system.stiffness @ shapes.T).T) - 2.0 * np.sum(strain, axis=0)
        t = np.einsum("mi,mi->m", shapes, (system.mass @ shapes.T).T)
        add("given matrices", "matrices", u, t - 2.0 * np.sum(kinetic, axis=0) / np.where(omega2 > 0, omega2, 1.0))
    S, T = np.array(strain).reshape(-1, modes.count), np.array(kinetic).reshape(-1, modes.count)
    S[:, modes.rigid] = 0.0

    estimate = partial(_mesh_error, modes, total, moving)
    return Energies(tuple(names), tuple(kinds), S, T, total, estimate)


def _mesh_error(modes: ModeSet, total: Floats, moving: Floats) -> Floats:
    errors = mesh_errors(modes.system, modes.shapes, modes.frequencies_hz, total, moving)
    return np.where(modes.rigid, 0.0, errors)


def untrusted_modes(modes: ModeSet, energies: Energies, limit: float) -> tuple[Finding, ...]:
    """A warning that names the modes whose frequency the mesh may falsify by more than a share (roughly)."""
    bad = modes.numbers[energies.mesh_error > limit]
    if not len(bad):
        return ()
    shown = first_few(bad, 12)
    text = (
        f"the mesh may falsify the frequency by more than {100 * limit:g} % (a rough estimate) in {len(bad)} of "
        f"{modes.count} modes: {shown}; refine the parts that hold their strain energy"
    )
    return (Finding("warning", text),)


def _moving(system: System, shapes: Floats) -> Floats:
    """Shapes without the directions whose mass is switched off."""
    if not system.description.massless:
        return shapes
    off = np.isin(np.tile(np.array(DIRECTION_NAMES), shapes.shape[1] // 6), system.description.massless)
    return np.where(off, 0.0, shapes)


def group_energies(d: Description, energies: Energies, groups: tuple[str, ...] | None = None) -> GroupEnergies:
    """Energies by group of the description, and of what is in none.

    Raises
    ------
    UnknownNameError
        For a group that does not exist.
    """
    chosen = tuple(d.groups) if groups is None else groups
    place = {name: i for i, name in enumerate(energies.members)}
    rows, times = [], np.zeros(len(energies.members), dtype=int)
    for group in chosen:
        picked = [place[m] for m in group_members(d, group) if m in place]
        times[picked] += 1
        rows.append(picked)
    rows.append([int(i) for i in np.flatnonzero(times == 0)])
    strain = np.array([energies.strain[r].sum(axis=0) for r in rows])
    kinetic = np.array([energies.kinetic[r].sum(axis=0) for r in rows])
    several = tuple(energies.members[i] for i in np.flatnonzero(times > 1))
    return GroupEnergies((*chosen, "(in no group)"), strain, kinetic, several)


def element_energies(modes: ModeSet, mode: int) -> list[tuple[Elements, Floats]]:
    """Strain energy density of every element in a mode, in J/m³ at unit modal amplitude, block by block."""
    shape = modes.shapes[[modes.index(mode)]]
    result = []
    for block in modes.system.elements:
        energy = np.concatenate([_quadratic(shape, dofs, k)[:, 0] / 2.0 for dofs, k, _ in _some(block.chunks(), 1)])
        volume = np.abs(block.volumes())
        result.append((block, energy / np.where(volume > 0, volume, 1.0)))
    return result
