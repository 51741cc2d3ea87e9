"""The stiffness at rest, factorised once per system and kept with it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from holokine.errors import MechanismError
from holokine.progress import tell

if TYPE_CHECKING:
    from holokine.solvers.factor import Factor, Pencil
    from holokine.system.build import System

__all__ = ["factor_at_rest", "pencil_of", "rest_factor"]


def pencil_of(system: System) -> Pencil:
    """Stiffness and mass of the independent dofs, ordered and analysed once for all that is factorised."""
    pencil: Pencil | None = system.kept.get("pencil")
    if pencil is None:
        from holokine.solvers.factor import Pencil

        pencil = system.kept["pencil"] = Pencil(system.reduced_stiffness, system.reduced_mass)
    return pencil


def factor_at_rest(system: System) -> Factor:
    """The same, whatever its inertia."""
    pencil = pencil_of(system)
    if not pencil.held(0.0):
        tell("factorising the stiffness at rest")
    return pencil.at(0.0, keep=True)


def rest_factor(system: System) -> Factor:
    """Factor of Tᵀ K T, for everything that is solved at rest.

    Raises
    ------
    MechanismError
        When the stiffness is not positive definite: beyond buckling nothing is at rest.
    """
    factor = factor_at_rest(system)
    if factor.negative:
        raise MechanismError(
            f"the assembly cannot be at rest: its stiffness has {factor.negative} negative "
            f"{'direction' if factor.negative == 1 else 'directions'}, so a preload is beyond buckling. Lower it"
        )
    return factor
