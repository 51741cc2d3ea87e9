"""Groups of supports that move by themselves: the assembly follows them at rest, and answers relative to that.

With r, what follows a unit motion of a group at rest (K r = 0 away from supports), the motion relative to it answers to
the inertia -M r s'' (Clough & Penzien, *Dynamics of Structures*, section 26-7), and to what dampers and loss factors
take from r itself, -C r s' and -i L r s.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array

from holokine.excite.harmonic import Felt
from holokine.respond.reduced import solve_static
from holokine.system.loads import LoadField, moved_supports

if TYPE_CHECKING:
    from holokine.system.build import System

__all__ = ["MovingGroups", "moving_groups"]


@dataclass(frozen=True)
class MovingGroups:
    """Groups as loads.

    Attributes
    ----------
    groups : dict of str to LoadField
        By column (group and direction).
    pushes : tuple of LoadField
        What dampers and loss factors take from r.
    felt : tuple of Felt
        With what each of these goes.
    """

    groups: dict[str, LoadField]
    pushes: tuple[LoadField, ...] = ()
    felt: tuple[Felt, ...] = ()

    @property
    def fields(self) -> list[LoadField]:
        """All of them, groups first."""
        return [*self.groups.values(), *self.pushes]


def moving_groups(
    system: System, where: str, groups: Mapping[str, tuple[tuple[str, ...], tuple[str, ...]]],
    loss: csr_array | None = None,
) -> MovingGroups:  # fmt: skip
    """Groups of supports, by their supports and directions.

    Raises
    ------
    DescriptionError
        A support that does not hold a direction in which it moves.
    """
    none = np.zeros(system.size)
    found: dict[str, LoadField] = {}
    for group, (supports, axes) in groups.items():
        for axis in axes:
            column = f"{group} {axis}"
            imposed = moved_supports(system, supports, {axis: 1.0}, f'{where}, supports "{group}"')
            found[column] = LoadField(
                column, none, solve_static(system, [LoadField(column, none, none, imposed)])[0], none, True
            )
    pushes, felt = [], []
    for word, matrix, power, factor in (("dampers", system.damping, -1, 1.0), ("loss", loss, -2, 1j)):
        for column, field in found.items():
            force = none if matrix is None else -(matrix @ field.ride)
            if force.any():
                pushes.append(LoadField(f"{column}, {word}", force, none, none))
                felt.append(Felt(pushes[-1].name, column, power, factor))
    return MovingGroups(found, tuple(pushes), tuple(felt))
