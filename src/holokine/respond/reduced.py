"""The reduced model: frequencies, damping, participation, gauge values per mode, and what modes leave out.

It is complete in itself: every response below is a small calculation on (modes × channels).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError, MechanismError
from holokine.gauges.channels import Channel, Derived, GaugeSet
from holokine.modes.extract import ModeSet
from holokine.solvers import factorise

__all__ = ["ReducedModel", "reading_noise", "reduce_model"]

Floats = NDArray[Any]  # float64


@dataclass(frozen=True)
class ReducedModel:
    """Modes as seen through gauges.

    Attributes
    ----------
    omega, damping : ndarray, shape (modes,)
        rad/s and damping ratios.
    participation : ndarray, shape (modes, 3)
        Γ along x y z.
    channels, readings
        Of the gauges.
    modal : ndarray, shape (modes, channels)
        Value of each channel per unit modal coordinate (displacement and, for balances, inertia).
    modal_damper : ndarray, shape (modes, channels)
        Value per unit modal velocity (dampers).
    residual : ndarray, shape (3, channels)
        What the left-out modes answer, statically, to a unit base acceleration along x y z. For accelerations
        it is the rigid share of the left-out mass.
    static : ndarray, shape (3, channels)
        The whole static answer to a unit base acceleration.
    rigid : ndarray, shape (3, channels)
        Reading of a unit rigid translation (motion channels).
    captured : ndarray, shape (3,)
        Share of the free mass that the modes hold, along x y z.
    free_mass, whole_mass : ndarray, shape (3,)
        kg.
    """

    omega: Floats
    damping: Floats
    participation: Floats
    channels: tuple[Channel, ...]
    readings: tuple[Derived, ...]
    modal: Floats
    modal_damper: Floats
    residual: Floats
    static: Floats
    rigid: Floats
    captured: Floats
    free_mass: Floats
    whole_mass: Floats

    @property
    def frequencies_hz(self) -> Floats:
        """Natural frequencies in Hz."""
        return self.omega / (2.0 * np.pi)

    @property
    def count(self) -> int:
        """Number of modes."""
        return len(self.omega)

    def is_kind(self, kind: str, order: int | None = None) -> NDArray[np.bool_]:
        """Which channels are of a kind (and order)."""
        return np.array([c.kind == kind and (order is None or c.order == order) for c in self.channels], dtype=bool)

    @property
    def is_absolute(self) -> NDArray[np.bool_]:
        """Which channels read absolute motion."""
        return np.array([c.kind == "motion" and not c.relative for c in self.channels], dtype=bool)

    def keep(self, which: NDArray[np.bool_]) -> ReducedModel:
        """The model with some of its modes only; what the others held goes to the residual."""
        gone = ~which
        gamma, omega, modal = self.participation[gone], self.omega[gone], self.modal[gone]
        residual = self.residual.copy()
        accelerating = self.is_kind("motion", 2) & self.is_absolute
        moving = self.is_kind("motion", 1) | self.is_kind("motion", 2)
        lost = gamma.T @ (modal / (omega**2)[:, None])
        residual[:, ~moving] -= lost[:, ~moving]
        residual[:, accelerating] += (gamma.T @ modal)[:, accelerating]
        captured = self.captured - np.where(
            self.free_mass > 0,
            (gamma**2).sum(axis=0) / np.where(self.free_mass > 0, self.free_mass, 1.0),
            0.0,
        )
        return replace(
            self, omega=self.omega[which], damping=self.damping[which],
            participation=self.participation[which], modal=self.modal[which],
            modal_damper=self.modal_damper[which], residual=residual, captured=captured,
        )  # fmt: skip


def reading_noise(readings: tuple[Derived, ...], peaks: Floats) -> Floats:
    """What is rounding only in each reading: 1e-9 of the largest reading of its gauge, shape (readings,)."""
    largest: dict[str, float] = {}
    for reading, peak in zip(readings, np.nan_to_num(peaks), strict=True):
        largest[reading.gauge] = max(largest.get(reading.gauge, 0.0), abs(float(peak)))
    return np.array([1e-9 * largest[r.gauge] for r in readings])


def reduce_model(modes: ModeSet, gauges: GaugeSet, damping: Floats) -> ReducedModel:
    """See modes through gauges; solves the static residual once per direction.

    Raises
    ------
    MechanismError
        When the assembly has rigid-body modes: its motion under a base acceleration is not bounded.
    """
    if modes.rigid.any():
        raise MechanismError(
            "a response to base motion needs every rigid-body motion held by supports; free: "
            + "; ".join(modes.free_words)
        )
    if not modes.from_the_bottom:
        raise EventError(f"a response needs the modes from the lowest up; these were extracted {modes.searched}")
    system = modes.system
    omega = modes.omega
    gamma = modes.participation[:, :3]
    modal = gauges.read(modes.shapes, -modes.shapes * (omega**2)[:, None])
    damper = gauges.read_velocity(modes.shapes)
    T = system.constraints.reduce
    R = system.rigid_motions(np.zeros(3))[:3]
    factor = factorise(system.reduced_stiffness)
    load = T.T @ (system.mass @ R.T)
    moved = (T @ -factor.solve(np.asarray(load))).T
    static = gauges.read(moved, R)
    rigid = gauges.read(R)
    kept = np.einsum("md,mc->dc", gamma / (omega**2)[:, None], modal)
    residual = static + kept
    kinds = np.array([c.kind for c in gauges.channels])
    order = np.array([c.order for c in gauges.channels])
    absolute = np.array([c.kind == "motion" and not c.relative for c in gauges.channels], dtype=bool)
    moving = (kinds == "motion") & (order > 0)
    share = rigid - gamma.T @ modal
    residual[:, moving] = 0.0
    static[:, moving] = 0.0
    accelerating = (kinds == "motion") & (order == 2) & absolute
    residual[:, accelerating] = share[:, accelerating]
    static[:, accelerating] = rigid[:, accelerating]
    rigid[:, kinds != "motion"] = 0.0
    free = modes.free_mass[:3]
    captured = np.where(free > 0, (gamma**2).sum(axis=0) / np.where(free > 0, free, 1.0), 1.0)
    return ReducedModel(
        omega, damping, gamma, gauges.channels, gauges.readings, modal, damper, residual, static, rigid,
        captured, free, modes.whole_mass[:3],
    )  # fmt: skip
