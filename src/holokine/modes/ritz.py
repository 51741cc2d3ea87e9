"""Load-dependent Ritz vectors: a basis made from an event's own loads.

Wilson, Yuan & Dickens, Earthquake Eng. Struct. Dyn. 10 (1982) 813-821, in blocks of loads: the first vectors are the
static answers to the loads, each next block the static answer to the inertia of the one before, M-orthonormal to all;
then the vectors that diagonalise K among them. They hold the static answer exactly, so that a few carry what hundreds
of eigenvectors may leave out.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg

from holokine.errors import EventError, MechanismError
from holokine.findings import Finding
from holokine.later import same
from holokine.modes.free_mass import free_mass, free_to_move
from holokine.modes.mode_set import RITZ, ModeSet
from holokine.ranking import leading_signs
from holokine.state.rest import rest_factor
from holokine.system.pieces import connected_pieces
from holokine.system.totals import mass_totals

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.build import System
    from holokine.system.loads import LoadField

__all__ = ["LoadShare", "load_shares", "ritz_vectors"]


@dataclass(frozen=True)
class LoadShare:
    """How much of a load a basis holds.

    Attributes
    ----------
    load : str
    static : ndarray, shape (vectors,)
        Running share of the static deformation energy, Σ (φᵀf)²/ω² over fᵀ K⁻¹ f.
    dynamic : ndarray, shape (vectors,)
        Running share of the load itself, Σ (φᵀf)² over fᵀ M⁻¹ f; for a base motion of the free mass. NaN where the
        load acts on dofs without mass.
    """

    load: str
    static: Floats
    dynamic: Floats


def _push(system: System, field: LoadField) -> Floats:
    return np.asarray(field.force - system.mass @ field.ride)


def ritz_vectors(system: System, fields: list[LoadField], count: int) -> ModeSet:
    """Load-dependent vectors of some loads, as a set of shapes with frequencies.

    Parameters
    ----------
    fields : list of LoadField
        Loads or base directions of the event.
    count : int
        How many vectors; fewer where the loads reach no more.

    Raises
    ------
    EventError
        Fewer vectors than loads.
    MechanismError
        When something can move freely.
    """
    free = [w for piece in connected_pieces(system) for w in piece.words]
    if free:
        raise MechanismError("load-dependent vectors need every rigid-body motion held; free: " + "; ".join(free))
    if count < len(fields):
        raise EventError(f"{len(fields)} loads need {len(fields)} vectors at least, got {count}")
    T, K, M = system.constraints.reduce, system.reduced_stiffness, system.reduced_mass
    factor = rest_factor(system)
    push = np.asarray(T.T @ np.array([_push(system, f) for f in fields]).T)
    X = np.zeros((K.shape[0], 0))
    block = np.asarray(factor.solve(np.ascontiguousarray(push)))
    while X.shape[1] < count:
        block = _orthonormal(block, X, M)[:, : count - X.shape[1]]
        if block.shape[1] == 0:
            break
        X = np.hstack([X, block])
        block = np.asarray(factor.solve(np.ascontiguousarray(M @ block)))
    if X.shape[1] == 0:
        raise EventError("the loads move no mass: there is nothing to make vectors from")
    values, V = scipy.linalg.eigh(X.T @ (K @ X), driver="evd")
    X = X @ V
    residual = K @ X - (M @ X) * values
    shapes = np.ascontiguousarray((T @ X).T)
    shapes *= leading_signs(shapes)[:, None]
    shapes.setflags(write=False)
    totals = mass_totals(system)
    R = system.rigid_motions(totals.centre)
    MR = system.mass @ R.T
    off = float(np.abs(X.T @ (M @ X) - np.eye(X.shape[1])).max())
    note = Finding(
        "note", f"{X.shape[1]} load-dependent vectors of {', '.join(f.name for f in fields)}: their frequencies are "
        "those of the basis, not natural frequencies",
    )  # fmt: skip
    return ModeSet(
        build=partial(same, system), frequencies_hz=np.sqrt(values) / (2.0 * np.pi), shapes=shapes,
        rigid=np.zeros(len(values), dtype=bool),
        residuals=np.linalg.norm(residual, axis=0) / np.maximum(np.linalg.norm(K @ X, axis=0), 1e-300),
        orthogonality=off, method=RITZ, exists=None, missing=0, below=0,
        searched="from the loads of the event", participation=shapes @ MR, totals=totals,
        whole_mass=np.einsum("ij,ji->i", R, MR), free_words=(), findings=(note,),
        free_mass=free_to_move(system),
    )  # fmt: skip


def _orthonormal(block: Floats, X: Floats, M: Any) -> Floats:
    """Columns M-orthonormal to X and to one another; those that bring nothing new are dropped."""
    kept: list[Floats] = []
    for x in block.T:
        size = np.sqrt(max(float(x @ (M @ x)), 0.0))
        if size == 0.0:
            continue
        y = x / size
        for _ in range(3):  # again and again: the vectors soon lose their independence
            for basis in (X, np.array(kept).T if kept else X[:, :0]):
                if basis.shape[1]:
                    y = y - basis @ (basis.T @ (M @ y))
        left = np.sqrt(max(float(y @ (M @ y)), 0.0))
        if left > 1e-9:
            kept.append(y / left)
    return np.array(kept).T if kept else np.zeros((len(block), 0))


def load_shares(modes: ModeSet, fields: list[LoadField]) -> list[LoadShare]:
    """Static and dynamic load participation of a basis (Wilson, Yuan & Dickens), load by load."""
    system = modes.system
    T, M = system.constraints.reduce, system.reduced_mass
    factor = rest_factor(system)
    result = []
    for field in fields:
        f = _push(system, field)
        own = np.asarray(T.T @ f)
        static = float(own @ np.asarray(factor.solve(np.ascontiguousarray(own[:, None])))[:, 0])
        held = modes.shapes @ f
        massless = M.diagonal() <= 0.0
        whole = np.nan
        if np.abs(own[massless]).max(initial=0.0) <= 1e-9 * np.abs(own).max(initial=0.0):
            whole = float(free_mass(M, own[:, None])[0])
        result.append(LoadShare(field.name, np.cumsum(held**2 / modes.omega**2) / static, np.cumsum(held**2) / whole))
    return result
