"""The mass that is free to move along a load: bᵀ M⁻¹ b, to which the effective masses of all modes sum."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array, diags_array

from holokine.solvers.factor import Pencil, factorise
from holokine.solvers.products import Symmetric, inverse_form
from holokine.state.rest import pencil_of
from holokine.system.totals import mass_totals
from holokine.system.wide import Matrix, explicit

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.build import System

__all__ = ["free_mass", "free_to_move"]

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
    diagonal = M.diagonal()
    product = Symmetric(M)
    x = np.zeros_like(load) if motion is None else np.ascontiguousarray(motion)
    rest = load - product.columns(x)
    known = np.einsum("ij,ij->j", load + rest, x)
    added = inverse_form(product, rest, diagonal, beside=known)
    if added is None:
        added = _by_factor(M, product, rest, diagonal, pencil, known)
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


def _by_factor(
    M: Matrix, product: Symmetric, b: Floats, diagonal: Floats, pencil: Pencil | None, beside: Floats
) -> Floats:
    # a whiff of the diagonal stands in for motions without inertia (b has no share in them)
    carrying = diagonal > 0
    if pencil is not None and carrying.all():
        solve = pencil.of_mass(RIDGE).solve
    else:
        ridge = diags_array(np.where(carrying, RIDGE * diagonal, 1.0))
        solve = factorise(csr_array(explicit(M) + ridge)).solve
    x = solve(b)
    for _ in range(4):
        rest = b - product.columns(np.ascontiguousarray(x))
        more = solve(rest)
        x = x + more
        # what the form lacked before this step
        if (np.abs(np.einsum("ij,ij->j", rest, more)) <= ENOUGH * np.abs(beside)).all():
            break
    x = np.ascontiguousarray(x)
    return np.asarray(2.0 * np.einsum("ij,ij->j", b, x) - np.einsum("ij,ij->j", x, product.columns(x)))
