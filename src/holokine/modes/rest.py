"""The stiffness at rest, factorised once per system and kept with it."""

from __future__ import annotations

from holokine.errors import MechanismError
from holokine.solvers.factor import Factor, Pencil
from holokine.system.build import System

__all__ = ["pencil_of", "rest_factor"]


def pencil_of(system: System) -> Pencil:
    """Stiffness and mass of the independent motions, ordered and analysed once for all that is factorised."""
    pencil: Pencil | None = system.kept.get("pencil")
    if pencil is None:
        pencil = system.kept["pencil"] = Pencil(system.reduced_stiffness, system.reduced_mass)
    return pencil


def rest_factor(system: System) -> Factor:
    """Factor of Tᵀ K T, for everything that is solved at rest.

    Raises
    ------
    MechanismError
        When the stiffness is not positive definite: beyond buckling nothing is at rest.
    """
    factor = pencil_of(system).at(0.0, keep=True)
    if factor.negative:
        raise MechanismError(
            f"the assembly cannot be at rest: its stiffness has {factor.negative} negative "
            f"{'direction' if factor.negative == 1 else 'directions'}, so a preload is beyond buckling. Lower it"
        )
    return factor
