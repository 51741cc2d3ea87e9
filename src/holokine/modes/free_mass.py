"""The mass that is free to move along a load: bᵀ M⁻¹ b, to which the effective masses of all modes sum."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, diags_array, eye_array

from holokine.solvers.factor import Pencil, factorise
from holokine.solvers.products import Symmetric, inverse_form
from holokine.state.rest import pencil_of
from holokine.system.totals import mass_totals
from holokine.system.wide import Matrix, WideSum, explicit

if TYPE_CHECKING:
    from holokine.system.build import System

__all__ = ["free_mass", "free_to_move"]

Floats = NDArray[Any]  # float64
RIDGE = 1e-13
ENOUGH = 1e-12  # of the whole: what one more step of refinement is worth


def free_mass(M: Matrix, load: Floats, motion: Floats | None = None, pencil: Pencil | None = None) -> Floats:
    """bᵀ M⁻¹ b per direction, shape (directions,). M may be singular.

    Parameters
    ----------
    M : sparse array, shape (independent, independent)
    load : ndarray, shape (independent, directions)
        b, such as M r of rigid-body motions r.
    motion : ndarray, shape (independent, directions), optional
        Nearly M⁻¹ b: v with M v = b but for a few rows (next to supports).
    pencil : Pencil, optional
        Of K and M, whose ordering serves M too.

    By conjugate gradients on the matrix with unit diagonal, most of whose eigenvalues lie close together (Wathen, IMA
    J. Numer. Anal. 7 (1987) 449-457), to 1e-10; where they do not get there, by a factor.
    """
    carrying = np.flatnonzero(M.diagonal() > 0)
    root = 1.0 / np.sqrt(M.diagonal()[carrying])
    scaled: Matrix
    if isinstance(M, WideSum):
        scaled = M.scaled(root, carrying)
    else:
        scaled = csr_array(diags_array(root) @ M[carrying][:, carrying] @ diags_array(root))
    b = root[:, None] * load[carrying]
    product = Symmetric(scaled)
    x = np.zeros_like(b) if motion is None else motion[carrying] / root[:, None]
    rest = b - product.columns(np.ascontiguousarray(x))
    known = np.einsum("ij,ij->j", b + rest, x)
    added = inverse_form(product, rest, beside=known)
    if added is None:
        added = _by_factor(scaled, rest, pencil if len(carrying) == M.shape[0] else None, root, known)
    return np.asarray(known + added)


def free_to_move(system: System) -> Floats:
    """Mass in kg (x y z) and inertia in kg m² (about the centre of mass) that are free to move, shape (6,); kept."""
    found: Floats | None = system.kept.get("free mass")
    if found is None:
        R = system.rigid_motions(mass_totals(system).centre)
        T = system.constraints.reduce
        near = R[:, system.constraints.independent].T
        found = free_mass(system.reduced_mass, T.T @ (system.mass @ R.T), near, pencil_of(system))
        system.kept["free mass"] = found
    return found


def _by_factor(scaled: Matrix, b: Floats, pencil: Pencil | None, root: Floats, beside: Floats) -> Floats:
    # a whiff of the unit matrix stands in for motions without inertia (b has no share in them)
    if pencil is None:
        solve = factorise(csr_array(explicit(scaled) + RIDGE * eye_array(len(b)))).solve
    else:
        factor = pencil.of_mass(RIDGE)

        def solve(right: Floats) -> Floats:
            return np.asarray(factor.solve(right / root[:, None]) / root[:, None])

    x = solve(b)
    for _ in range(4):
        rest = b - scaled @ x
        more = solve(rest)
        x = x + more
        # what the form lacked before this step
        if (np.abs(np.einsum("ij,ij->j", rest, more)) <= ENOUGH * np.abs(beside)).all():
            break
    return np.asarray(2.0 * np.einsum("ij,ij->j", b, x) - np.einsum("ij,ij->j", x, scaled @ x))
