"""What the mesh makes of each frequency: by strain that neighbouring elements disagree on, and by waves along beams.

Strain averaged at nodes is nearer to the truth than that of elements (Zienkiewicz & Zhu, Int. J. Num. Meth. Eng. 24
(1987) 337-357); the energy of the difference over that of the mode is twice the relative error of its frequency, which
Rayleigh's quotient makes of the error of the shape. What the difference is worth differs by kind of element, by factors
fitted once (`ElementKind.recovery_worth`), to blocks and rectangular plates.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.elements.kinds import ElementKind
    from holokine.system.build import System

__all__ = ["mesh_errors"]

_BYTES = 400_000_000
UNKNOWN = 0.3
"""Share of a mode's energy in elements that no neighbour can be compared with, beyond which nothing is said."""


def mesh_errors(system: System, shapes: Floats, frequencies: Floats, total: Floats, moving: Floats) -> Floats:
    """Estimated relative error of each frequency by the mesh, in magnitude; nan where it cannot be told.

    Parameters
    ----------
    shapes, moving : ndarray, shape (modes, dofs)
        Mass-normalised, and the same without dofs whose mass is switched off.
    total : ndarray, shape (modes,)
        Energy of all in J: half of ω².
    """
    safe = np.where(total > 0, total, 1.0)
    error = np.zeros(len(shapes))
    hidden = np.zeros(len(shapes))
    omega, jumps = 2.0 * np.pi * frequencies, _meeting(system)
    for part in system.description.parts:
        blocks = [b.for_recovery() for b in system.element_blocks(part) if b.recovery_worth]
        for words in dict.fromkeys(b.words for b in blocks):
            lost, unknown = _recovered([b for b in blocks if b.words == words], shapes, jumps)
            error += lost / (2.0 * safe)
            hidden += unknown
        for block in system.element_blocks(part):
            error += block.wave_errors(shapes, omega) / safe
    if system.description.mass_matrix != "consistent":
        # lumping lowers where the mesh raises, as a rule: their sum, but no trust in all of their cancelling
        lumping = _lumping(system, moving) / 2.0
        error = np.maximum(np.abs(error + lumping), 0.7 * np.minimum(error, np.abs(lumping)))
    return np.where(hidden > UNKNOWN * safe, np.nan, error)


def _lumping(system: System, shapes: Floats) -> Floats:
    """φᵀ (M consistent - M) φ, shape (modes,): twice what lumping adds to each frequency, by Rayleigh's quotient."""
    result = np.zeros(len(shapes))
    for block in (b for b in system.elements if hasattr(b, "mass")):
        for kind, sign in (("consistent", 1.0), (system.description.mass_matrix, -1.0)):
            for nodes, index, _, M in replace(block, mass=kind).blocks():  # type: ignore[type-var, call-arg]
                dofs = (nodes[:, :, None] * 6 + np.arange(block.motions)).reshape(len(nodes), -1)
                m = M if index is None else M[index]
                for row, shape in enumerate(shapes):
                    own = shape[dofs]
                    result[row] += sign * float(np.einsum("ei,eij,ej->", own, m, own, optimize=True))
    return result


def _meeting(system: System) -> NDArray[np.bool_]:
    """Nodes at which strain jumps by nature: of several parts, of what is rigid or tied, of elements held whole."""
    parts = np.zeros(len(system.mesh.nodes))
    for nodes in system.mesh.part_nodes.values():
        parts[nodes] += 1
    for bond in system.bonds.values():
        if bond.kind not in ("averaging", "area"):
            parts[bond.nodes] += 2
    held = np.zeros(len(parts), dtype=bool)
    for support in system.supports.values():
        held[support.nodes] = True
    for block in system.elements:
        parts[np.unique(block.nodes[held[block.nodes].all(axis=1)])] += 2
    return parts > 1


def _recovered(blocks: list[ElementKind], shapes: Floats, jumps: NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """Energy in J that recovery finds wrong, and energy of elements that have no neighbours to compare, shape (modes,).

    The blocks of one part are averaged together. With σ* = Σ N σ*ₙ the square of σ* - σ is summed up without being kept
    by element: σ*ᵀ (Σ ∫ N Nᵀ) σ* - 2 σ*ᵀ Σ ∫ N σ + ∫ σ².
    """
    nodes = np.concatenate([b.nodes.ravel() for b in blocks])
    used, place, holders = np.unique(nodes, return_inverse=True, return_counts=True)
    split = np.cumsum([b.nodes.size for b in blocks])[:-1]
    own = np.split(place, split)
    folded = _folded(blocks, [p.reshape(b.nodes.shape) for p, b in zip(own, blocks, strict=True)], len(used))
    # where strain jumps by nature every element keeps its own: the node stands for each of them apart
    apart = (folded | jumps[used])[place]
    place = np.where(apart, len(used) + np.cumsum(apart) - 1, place)
    count = len(used) + int(apart.sum())
    alone = apart | (holders == 1)[np.minimum(place, len(used) - 1)]
    shaped = [p.reshape(b.nodes.shape) for p, b in zip(np.split(place, split), blocks, strict=True)]
    cut = np.split(alone, split)
    lone = [np.asarray(p.reshape(b.nodes.shape).all(axis=1)) for p, b in zip(cut, blocks, strict=True)]
    components = next(blocks[0].strain_maps()).maps.shape[2]
    step = max(1, int(_BYTES / (count * components * 24)))
    results = [
        _recovered_modes(blocks, shaped, lone, count, components, shapes[a : a + step])
        for a in range(0, len(shapes), step)
    ]
    lost, unknown = (np.concatenate(r) for r in zip(*results, strict=True))
    return np.maximum(lost, 0.0), unknown


def _folded(blocks: list[ElementKind], local: list[Ints], count: int) -> NDArray[np.bool_]:
    """Nodes at which the axes of the elements around differ."""
    total, holders = np.zeros((count, 6)), np.zeros(count)
    for block, own in zip(blocks, local, strict=True):
        axes = block.strain_axes()
        if axes is None:
            return np.zeros(count, dtype=bool)
        for column in range(own.shape[1]):
            holders += np.bincount(own[:, column], minlength=count)
            for k, values in enumerate(axes.reshape(len(own), 6).T):
                total[:, k] += np.bincount(own[:, column], values, count)
    mean = total / np.maximum(holders, 1.0)[:, None]
    return np.asarray((np.linalg.norm(mean[:, :3], axis=1) < 0.94) | (np.linalg.norm(mean[:, 3:], axis=1) < 0.94))


def _recovered_modes(
    blocks: list[ElementKind],
    local: list[Ints],
    lone: list[NDArray[np.bool_]],
    count: int,
    components: int,
    shapes: Floats,
) -> tuple[Floats, Floats]:
    modes = len(shapes)
    above, below = np.zeros((count, components * modes)), np.zeros(count)
    pull = np.zeros((count, components * modes))
    own_energy, unknown = np.zeros((2, modes))
    masses: list[tuple[csr_array, Floats]] = []
    for block, places, left in zip(blocks, local, lone, strict=True):
        rows, columns, entries = [], [], []
        worth: Floats = np.eye(components)
        start = 0
        for chunk in block.strain_maps():
            own = places[start : start + len(chunk.dofs)]
            out = left[start : start + len(chunk.dofs)]
            start += len(chunk.dofs)
            strain = chunk.of(shapes[:, chunk.dofs])  # (elements, points, components, modes)
            if out.any():
                energy = 0.5 * np.einsum("epck,cd,epdk,ep->ek", *(strain[out], chunk.stiffness, strain[out]),
                                       chunk.weights[out], optimize=True)  # fmt: skip
                unknown += energy.sum(axis=0)
            count_, points = strain.shape[:2]
            flat = strain.reshape(count_, points, -1)
            spread = coo_array((np.ones(own.size), (own.ravel(), np.arange(own.size))), shape=(count, own.size)).tocsr()
            above += spread @ (chunk.to_nodes @ flat).reshape(own.size, -1)
            below += np.bincount(own.ravel(), minlength=count)
            weights = np.where(out[:, None], 0.0, chunk.weights)
            worth = chunk.worth
            stress = worth @ strain
            stress *= weights[:, :, None, None]
            own_energy += np.einsum("ix,ix->x", strain.reshape(-1, modes), stress.reshape(-1, modes))
            pull += spread @ (chunk.shape.T @ stress.reshape(count_, points, -1)).reshape(own.size, -1)
            mass = (chunk.shape.T * weights[:, None]) @ chunk.shape
            n = own.shape[1]
            rows.append(np.repeat(own, n, axis=1).ravel())
            columns.append(np.tile(own, (1, n)).ravel())
            entries.append(mass.ravel())
        at = (np.concatenate(rows), np.concatenate(columns))
        masses.append((coo_array((np.concatenate(entries), at), shape=(count, count)).tocsr(), worth))
    star = above / np.maximum(below, 1.0)[:, None]
    field, square = star.reshape(count, components, modes), np.zeros(modes)
    for M, worth in masses:
        moved = (M @ star).reshape(count, components, modes)
        square += np.einsum("nck,cd,ndk->k", field, worth, moved, optimize=True)
    cross = np.einsum("nq,nq->q", star, pull).reshape(components, modes).sum(axis=0)
    return (square - 2.0 * cross + own_energy) / 2.0, unknown
