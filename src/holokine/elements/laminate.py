"""What a shell is made of through its thickness: one layer, or a laminate.

Classical lamination (Jones, *Mechanics of Composite Materials*, ch. 4) for membrane, bending and what couples
them; the transverse shear stiffness follows from the shear stress that balances the layers in cylindrical bending
(Rolfes & Rohwer, Int. J. Num. Meth. Eng. 40 (1997) 51-60), which gives 5/6 of a single layer.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["Laminate", "Ply", "turned_in_plane"]


def turned_in_plane(Q: Floats, angle: float) -> Floats:
    """Plane-stress matrix (xx, yy, xy) of a layer whose axis 1 lies at an angle (rad) from x towards y."""
    T = _stress_turn(angle)
    return np.asarray(T @ Q @ T.T)


def _stress_turn(angle: float) -> Floats:
    """Stress xx yy xy from that in axes at an angle."""
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c * c, s * s, -2 * c * s], [s * s, c * c, 2 * c * s], [c * s, -c * s, c * c - s * s]])


@dataclass(frozen=True)
class Ply:
    """One layer.

    Attributes
    ----------
    bottom, top : float
        Heights over the mid-surface in m.
    own : ndarray, shape (3, 3)
        Plane-stress matrix in Pa along the layer's own axes; zero for a layer that only weighs.
    shear : ndarray, shape (2, 2)
        Transverse shear moduli (zx, yz) in Pa, own axes.
    density : float
        kg/m³.
    angle : float
        From the element's x to the layer's, towards y, in rad.
    """

    bottom: float
    top: float
    own: Floats
    shear: Floats
    density: float
    angle: float = 0.0

    @cached_property
    def stiffness(self) -> Floats:
        """Plane-stress matrix in element axes."""
        return self.own if self.angle == 0.0 else turned_in_plane(self.own, self.angle)

    @cached_property
    def transverse(self) -> Floats:
        """Transverse shear moduli (zx, yz) in element axes."""
        c, s = np.cos(self.angle), np.sin(self.angle)
        turn = np.array([[c, -s], [s, c]])
        return np.asarray(turn @ self.shear @ turn.T)

    @property
    def to_own(self) -> Floats:
        """Map of stress xx yy xy in element axes to the layer's axes."""
        return _stress_turn(-self.angle)


@dataclass(frozen=True)
class Laminate:
    """Layers from the bottom (against the normal) to the top.

    Attributes
    ----------
    plies : tuple of Ply
    area_mass : float
        kg/m² of what has mass but no stiffness, in the mid-surface.
    shear_factor : float or None
        Of a single layer; None: from the balance of the layers.
    """

    plies: tuple[Ply, ...]
    area_mass: float = 0.0
    shear_factor: float | None = None

    @classmethod
    def single(
        cls,
        thickness: float,
        membrane: Floats,
        shear: Floats,
        density: float,
        area_mass: float = 0.0,
        shear_factor: float | None = None,
    ) -> Laminate:
        """Of one layer."""
        return cls((Ply(-thickness / 2, thickness / 2, membrane, shear, density),), area_mass, shear_factor)

    @cached_property
    def thickness(self) -> float:
        """Of all layers, in m."""
        return self.plies[-1].top - self.plies[0].bottom

    @property
    def is_single(self) -> bool:
        """Whether one layer is all."""
        return len(self.plies) == 1

    def _moments(self, power: int) -> list[float]:
        return [(p.top ** (power + 1) - p.bottom ** (power + 1)) / (power + 1) for p in self.plies]

    def _sum(self, power: int) -> Floats:
        return np.asarray(sum(m * p.stiffness for m, p in zip(self._moments(power), self.plies, strict=True)))

    @cached_property
    def stretching(self) -> Floats:
        """A, membrane forces over membrane strain in N/m, shape (3, 3)."""
        return self._sum(0)

    @cached_property
    def coupling(self) -> Floats:
        """B, membrane forces over curvature in N; exactly zero where the layers are symmetric."""
        B = self._sum(1)
        return np.where(np.abs(B) < 1e-12 * self.thickness * np.abs(self.stretching).max(), 0.0, B)

    @cached_property
    def bending(self) -> Floats:
        """D, moments over curvature in N m, shape (3, 3)."""
        return self._sum(2)

    @cached_property
    def matrix(self) -> Floats:
        """Membrane forces and moments over membrane strain and curvature, shape (6, 6)."""
        return np.block([[self.stretching, self.coupling], [self.coupling, self.bending]])

    @cached_property
    def transverse(self) -> Floats:
        """Transverse shear forces over shear strains (zx, yz) in N/m, shape (2, 2)."""
        if self.shear_factor is not None:
            return np.asarray(
                self.shear_factor * sum(m * p.transverse for m, p in zip(self._moments(0), self.plies, strict=True))
            )
        A, B, D = self.stretching, self.coupling, self.bending
        shift = np.linalg.solve(A, B)
        curving = np.linalg.inv(D - B @ shift)
        nodes, weights = np.polynomial.legendre.leggauss(3)
        compliance, below = np.zeros((2, 2)), np.zeros((3, 3))

        def up_to(p: Ply, z: float) -> Floats:
            return np.asarray(p.stiffness @ ((z**2 - p.bottom**2) / 2.0 * np.eye(3) - (z - p.bottom) * shift))

        for p in self.plies:
            half = (p.top - p.bottom) / 2.0
            if p.own.any():
                flexible = np.linalg.inv(p.transverse)
                for x, w in zip(nodes, weights, strict=True):
                    a = -(below + up_to(p, p.bottom + half * (1 + x))) @ curving
                    f = np.array([[a[0, 0], a[2, 1]], [a[2, 0], a[1, 1]]])
                    compliance += w * half * f.T @ flexible @ f
            below = below + up_to(p, p.top)
        return np.asarray(np.linalg.inv((compliance + compliance.T) / 2.0))

    @cached_property
    def inertia(self) -> tuple[float, float, float]:
        """Mass per area in kg/m², its first moment in kg/m and its second in kg about the mid-surface."""
        areal, first, second = (
            sum(m * p.density for m, p in zip(self._moments(k), self.plies, strict=True)) for k in range(3)
        )
        if abs(first) < 1e-12 * areal * self.thickness:
            first = 0.0
        return areal + self.area_mass, first, second

    def at(self, height: float) -> Ply:
        """The layer at a height; of two that meet there, the outer one."""
        order = self.plies if height >= 0 else self.plies[::-1]
        chosen = order[0]
        for p in order:
            if p.bottom - 1e-12 * self.thickness <= height <= p.top + 1e-12 * self.thickness:
                chosen = p
        return chosen
