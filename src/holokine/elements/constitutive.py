"""Elasticity matrices of materials, in the order xx yy zz xy yz zx (engineering shear strains)."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import DescriptionError

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.schema import Material

__all__ = ["plane_stress", "rotate", "solid_matrix", "transverse_shear"]


def _compliance(material: Material) -> Floats:
    S = np.zeros((6, 6))
    if material.orthotropic is None:
        E, nu, G = material.young, material.poisson_ratio, material.shear_modulus
        if material.G is not None and material.nu is not None:
            nu = E / (2.0 * G) - 1.0  # an isotropic solid has two constants: E and G decide
        S[:3, :3] = -nu / E
        S[range(3), range(3)] = 1.0 / E
        S[range(3, 6), range(3, 6)] = 1.0 / G
        return S
    o = material.orthotropic
    Ex, Ey, Ez = o.E
    nxy, nyz, nzx = o.nu
    S[range(3), range(3)] = 1.0 / np.array([Ex, Ey, Ez])
    S[0, 1] = S[1, 0] = -nxy / Ex
    S[1, 2] = S[2, 1] = -nyz / Ey
    S[2, 0] = S[0, 2] = -nzx / Ez
    S[range(3, 6), range(3, 6)] = 1.0 / np.array(o.G)
    return S


def solid_matrix(material: Material, name: str = "") -> Floats:
    """6 by 6 elasticity matrix in Pa, material axes.

    Raises
    ------
    DescriptionError
        When the constants are those of no real material (the matrix is not positive definite).
    """
    S = _compliance(material)
    if np.linalg.eigvalsh(S / np.abs(S).max())[0] <= 0:
        raise DescriptionError(
            f'material "{name}": E, G and nu together belong to no real material (the elastic energy could be '
            "negative); check the Poisson ratios: nu_xy² must be below Ex / Ey, and so on",
            path=("materials", name),
        )
    return np.linalg.inv(S)


def plane_stress(material: Material, name: str = "") -> Floats:
    """3 by 3 plane-stress matrix (xx, yy, xy) in Pa, material axes."""
    solid_matrix(material, name)
    return np.linalg.inv(_compliance(material)[np.ix_([0, 1, 3], [0, 1, 3])])


def transverse_shear(material: Material) -> Floats:
    """2 by 2 matrix of transverse shear moduli (zx, yz) in Pa, material axes."""
    S = _compliance(material)
    return np.diag([1.0 / S[5, 5], 1.0 / S[4, 4]])


def rotate(D: Floats, axes: Floats) -> Floats:
    """Turn a 6 by 6 elasticity matrix from material axes (rows of `axes`) to global axes."""
    a = axes.T  # columns are the material axes: global = a @ material
    pairs = [(0, 0), (1, 1), (2, 2), (0, 1), (1, 2), (2, 0)]
    T = np.zeros((6, 6))  # stress: global = T @ material
    for i, (p, q) in enumerate(pairs):
        for j, (r, s) in enumerate(pairs):
            T[i, j] = a[p, r] * a[q, s] + (a[p, s] * a[q, r] if r != s else 0.0)
    return T @ D @ T.T
