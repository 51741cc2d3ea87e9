"""Springs, bushings, dampers and point masses as small matrices on nodes.

A connector acts at one place, carried from each node by a rigid arm. Its six stretches are
Δ = A (u_b + θ_b × r_b) - A (u_a + θ_a × r_a) in its own axes A, so that a rigid motion of both sides stretches
nothing; forces are k Δ (elastic) and c Δ' (damper), positive when they pull a towards b.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.beam import arm_matrix
from holokine.errors import DescriptionError

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["Connector", "PointMass", "arm_matrix", "axes_from", "point_mass_matrix"]


def axes_from(x: tuple[float, ...], y: tuple[float, ...] | None = None, *, owner: str = "axes") -> Floats:
    """Right-handed axes as rows: x as given, y in the half plane of `y` (any when left out)."""
    ex = np.asarray(x, dtype=float) / np.linalg.norm(x)
    guess = np.asarray(y, dtype=float) if y is not None else np.eye(3)[np.argmin(np.abs(ex))]
    ey = guess - (guess @ ex) * ex
    size = np.linalg.norm(ey)
    if size < 1e-9:
        raise DescriptionError(f"{owner}, axes: x and y of the axes run along the same line")
    ey = ey / size
    return np.stack([ex, ey, np.cross(ex, ey)])


@dataclass(frozen=True)
class Connector:
    """A spring or bushing between two nodes, or between a node and the support frame.

    Attributes
    ----------
    name : str
    kind : str
        ``spring`` or ``bushing``.
    nodes : tuple of int
        One node (to the support frame) or two.
    stretch : ndarray, shape (6, 6 * nodes)
        Takes nodal motions to the six stretches in own axes.
    stiffness, damping : ndarray, shape (6,)
        N/m, N m/rad; N s/m, N m s/rad.
    place : ndarray, shape (3,)
        Where it acts, in m.
    axes : ndarray, shape (3, 3)
        Rows are its own axes.
    """

    name: str
    kind: str
    nodes: tuple[int, ...]
    stretch: Floats
    stiffness: Floats
    damping: Floats
    place: Floats
    axes: Floats

    @classmethod
    def build(
        cls,
        name: str,
        kind: str,
        nodes: tuple[int, ...],
        places: Floats,
        at: Floats,
        axes: Floats,
        stiffness: Floats,
        damping: Floats,
        ground_first: bool = False,
    ) -> Connector:
        """Build from node places (nodes, 3) in m and the place `at` where it acts.

        `ground_first`: with one node, the support frame is the first end and the node the second.
        """
        turn = np.zeros((6, 6))
        turn[:3, :3] = turn[3:, 3:] = axes
        stretch = np.zeros((6, 6 * len(nodes)))
        for number in range(len(nodes)):
            carry = np.eye(6)
            carry[:3, 3:] = arm_matrix(at - places[number])
            second = number == 1 or (len(nodes) == 1 and ground_first)
            sign = 1.0 if second else -1.0
            own = turn @ carry
            own[np.abs(own) < 1e-15 * np.abs(carry).max()] = 0.0  # rounding is no stiffness
            stretch[:, 6 * number : 6 * number + 6] = sign * own
        return cls(name, kind, nodes, stretch, np.asarray(stiffness), np.asarray(damping), at, axes)

    def stretches(self, u: Floats) -> Floats:
        """The six stretches (m and rad, own axes) under motions of all nodes, (dofs,)."""
        return np.asarray(self.stretch @ u.reshape(-1, 6)[list(self.nodes)].ravel())

    def along(self, size: int) -> Floats:
        """Its elongation per motion of all nodes, (dofs,) of that `size`."""
        row = np.zeros(size)
        for end, node in enumerate(self.nodes):
            row[6 * node : 6 * node + 6] += self.stretch[0, 6 * end : 6 * end + 6]
        return row

    def beside(self, u: Floats, force: float) -> float:
        """What of a force in N along its line the elongation does not tell."""
        return force - float(self.stiffness[0]) * float(self.stretches(u)[0])

    def matrices(self) -> tuple[Floats, Floats]:
        """Stiffness and damping matrix, each of shape (6 * nodes, 6 * nodes)."""
        B = self.stretch
        return B.T @ (self.stiffness[:, None] * B), B.T @ (self.damping[:, None] * B)


@dataclass(frozen=True)
class PointMass:
    """A rigid body on a node: mass in kg, offset of its centre of mass in m, inertia about it in kg m²."""

    name: str
    node: int
    mass: float
    offset: Floats
    inertia: Floats

    def matrix(self) -> Floats:
        """Mass matrix on the node's six dofs."""
        return point_mass_matrix(self.mass, self.offset, self.inertia)


def point_mass_matrix(mass: float, offset: Floats, inertia: Floats) -> Floats:
    """Mass matrix (6, 6) of a rigid body whose centre of mass is `offset` from the node."""
    S = arm_matrix(np.asarray(offset, dtype=float))
    M = np.zeros((6, 6))
    M[:3, :3] = mass * np.eye(3)
    M[:3, 3:] = mass * S
    M[3:, :3] = mass * S.T
    M[3:, 3:] = inertia + mass * S.T @ S
    return M
