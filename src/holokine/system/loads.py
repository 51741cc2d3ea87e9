"""Loads as fields on the motions of a system: forces at nodes, accelerations that mass resists, moved supports."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError
from holokine.system.assemble import DIRECTION_NAMES

if TYPE_CHECKING:
    from holokine.describe.loads import Load
    from holokine.system.build import System

__all__ = ["LoadField", "base_field", "load_field", "load_sum", "moved_supports"]

Floats = NDArray[Any]  # float64


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
    """

    name: str
    force: Floats
    ride: Floats
    moved: Floats
    is_base: bool = False

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
        A load on nothing, on motions that nothing resists, on no face, or a support that does not hold the direction.
    """
    from holokine.system import acting  # selections and faces: not for answers from a run file

    force, ride, moved = np.zeros((3, system.size))
    where = f'load "{name}"'
    if load.gravity is not None:
        ride = -load.size * np.array(load.gravity) @ system.rigid_motions(np.zeros(3))[:3]
    elif load.pressure is not None:
        force = acting.pressure(system, where, load)
    elif load.move is not None:
        moved = moved_supports(system, load.supports or (), {str(k): v for k, v in load.move.items()}, where)
    else:
        force = acting.force(system, where, load)
    return LoadField(name, force, ride, moved)


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
