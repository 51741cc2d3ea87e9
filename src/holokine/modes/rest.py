"""The stiffness at rest, factorised once per system and kept with it."""

from __future__ import annotations

from holokine.errors import MechanismError
from holokine.solvers import factorise
from holokine.solvers.factor import Factor
from holokine.system.build import System

__all__ = ["rest_factor"]


def rest_factor(system: System) -> Factor:
    """Factor of Tᵀ K T, for everything that is solved at rest.

    Raises
    ------
    MechanismError
        When the stiffness is not positive definite: beyond buckling nothing is at rest.
    """
    factor: Factor | None = system.kept.get("rest")
    if factor is None:
        factor = factorise(system.reduced_stiffness)
        if factor.negative:
            raise MechanismError(
                f"the assembly cannot be at rest: its stiffness has {factor.negative} negative "
                f"{'direction' if factor.negative == 1 else 'directions'}, so a preload is beyond buckling. Lower it"
            )
        system.kept["rest"] = factor
    return factor
