"""Loads as fields on the motions of a system: forces at nodes, accelerations that mass resists, moved supports."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import DescriptionError, entry
from holokine.system.assemble import DIRECTION_NAMES

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.loads import Load
    from holokine.system.build import System

__all__ = ["LoadField", "Resultant", "base_field", "load_field", "load_sum", "moved_supports"]


@dataclass(frozen=True)
class Resultant:
    """What a load comes to.

    Attributes
    ----------
    force, moment : ndarray, shape (3,)
        N, and N m about `place`.
    place : ndarray, shape (3,)
        Mean place of its forces by their size, m.
    area : float
        Of the faces under a pressure, m²; NaN for other loads.
    """

    force: Floats
    moment: Floats
    place: Floats
    area: float = float("nan")

    @classmethod
    def of(cls, system: System, field: LoadField, area: float = float("nan")) -> Resultant:
        """Of forces at nodes and of mass against an acceleration."""
        each = field.force - (system.mass @ field.ride if field.ride.any() else 0.0)
        forces, moments = each.reshape(-1, 6)[:, :3], each.reshape(-1, 6)[:, 3:]
        size = np.linalg.norm(forces, axis=1)
        if not size.any():
            size = np.linalg.norm(moments, axis=1)
        places = system.mesh.nodes
        place = size @ places / size.sum() if size.any() else np.zeros(3)
        return cls(forces.sum(axis=0), moments.sum(axis=0) + np.cross(places - place, forces).sum(axis=0), place, area)


@dataclass(frozen=True)
class LoadField:
    """A load of unit size, or a unit acceleration of the base.

    Attributes
    ----------
    name : str
    force : ndarray, shape (dofs,)
        Forces at the nodes in N, moments in N m.
    ride : ndarray, shape (dofs,)
        Field of acceleration in m/s² that mass resists: of the base, or against gravity.
    moved : ndarray, shape (dofs,)
        Motion in m and rad that moved supports impose (with all else that is tied to it).
    is_base : bool
        Whether points ride with the field, so that absolute motions include it.
    total : Resultant or None
        Of a load of the description.
    """

    name: str
    force: Floats
    ride: Floats
    moved: Floats
    is_base: bool = False
    total: Resultant | None = None

    def scaled(self, by: float) -> LoadField:
        """The load times a factor."""
        return LoadField(self.name, by * self.force, by * self.ride, by * self.moved, self.is_base)


def load_sum(system: System, name: str, factors: dict[str, float]) -> LoadField:
    """Loads of the description added with factors, as one load."""
    loads = system.description.loads
    parts = [load_field(system, load, loads[load]).scaled(k) for load, k in factors.items()]
    none = np.zeros(system.size)
    force, ride, moved = (sum((getattr(p, n) for p in parts), none) for n in ("force", "ride", "moved"))
    return LoadField(name, force, ride, moved)


def base_field(system: System, axis: str) -> LoadField:
    """A unit acceleration of the base along x, y or z."""
    none = np.zeros(system.size)
    return LoadField(axis, none, system.rigid_motions(np.zeros(3))["xyz".index(axis)], none, True)


def load_field(system: System, name: str, load: Load) -> LoadField:
    """A load of the description.

    Raises
    ------
    DescriptionError, SelectionError
        A load on nothing, on dofs that nothing resists, on no face, or a support that does not hold the direction.
    """
    from holokine.system import acting  # selections and faces: not for answers from a run file

    force, ride, moved = np.zeros((3, system.size))
    area = float("nan")
    where = f'load "{name}"'
    with entry("load", name):
        if load.gravity is not None:
            ride = -load.size * np.array(load.pull) @ system.rigid_motions(np.zeros(3))[:3]
        elif load.pressure is not None:
            force, area = acting.pressure(system, where, load)
        elif load.move is not None:
            moved = moved_supports(system, load.supports or (), {str(k): v for k, v in load.move.items()}, where)
        else:
            force = acting.force(system, where, load)
    field = LoadField(name, force, ride, moved)
    return field if load.move is not None else replace(field, total=Resultant.of(system, field, area))


def moved_supports(system: System, names: tuple[str, ...], move: dict[str, float], where: str) -> Floats:
    """Motion, shape (dofs,), that supports impose when they are moved along directions by m or rad.

    Raises
    ------
    DescriptionError
        A support that does not hold one of the directions.
    """
    values = np.zeros(system.constraints.rows.shape[0])
    for name in names:
        support = system.supports[name]
        for axis, size in move.items():
            rows = np.flatnonzero(support.dofs % 6 == DIRECTION_NAMES.index(axis))
            if len(rows) == 0:
                raise DescriptionError(
                    f'{where}: the support "{name}" does not hold {axis} (it holds {" ".join(support.hold)}), so that '
                    "it cannot move the assembly along it"
                )
            values[support.rows.start + rows] = size
    return system.constraints.enforced(values)
