"""The one place that knows how a channel is read from motion.

Modes move as q (relative to the frame); what else is known of the motion follows from it. A channel takes, by its kind:

- motions of order 0, 1, 2: q, q', q'' of the modes; absolute ones add the frame's (rigid share times its motion);
- elastic forces and stress: q, and for dampers q' by a map of their own;
- forces from balance: s = (load - q'')/ω² = q + 2ζ q'/ω (uncoupled), so that reactions equal loads and inertia; their
  elastic portion q, and what damping passes s - q.

Modes left out answer statically: the residual of each load times the load, but for velocities and relative
accelerations; for absolute accelerations their mass rides with the base. The same maps read real histories, complex
amplitudes (rows are then frequencies), the largest values of modes (`per_mode`), and loads at rest.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.gauges.channels import Channels, GaugeSet
    from holokine.respond.reduced import ReducedModel

__all__ = ["Motion", "Readout", "lost_with", "passed_on", "read_fields", "split_static"]

Numbers = NDArray[Any]  # float64 or complex128


@dataclass(frozen=True)
class Motion:
    """Motion on rows (instants or frequencies), real or complex.

    Attributes
    ----------
    q, v, a, s : ndarray, shape (rows, modes)
        Modal displacement, velocity, acceleration, and balance (see above).
    load : ndarray, shape (rows, loads)
        What acts: acceleration of the base along x y z in m/s², then factors of other loads.
    base_velocity, base_displacement : ndarray, shape (rows, 3 or more), or None
        Of the frame, where absolute velocities or displacements are read, and of groups of supports beside it.
    """

    q: Numbers
    v: Numbers
    a: Numbers
    s: Numbers
    load: Numbers
    base_velocity: Numbers | None = None
    base_displacement: Numbers | None = None

    def coordinate(self, which: int) -> Numbers:
        """By the number that `Readout.which` gives."""
        return self.s - self.q if which == 4 else (self.q, self.v, self.a, self.s)[which]

    def product(self, which: int, weights: Floats) -> Numbers:
        """A coordinate times weights of the modes, shape (rows, columns)."""
        return np.asarray(self.coordinate(which) @ weights)


class Readout:
    """Reads channels of a reduced model.

    Attributes
    ----------
    which : ndarray of int, shape (channels,)
        Coordinate that a channel takes: 0 q, 1 q', 2 q'', 3 balance, 4 balance less q.
    residual : ndarray, shape (loads, channels)
        What left-out modes answer to each load; zero where they are not asked for.
    needs_frame : bool
        Whether a channel reads absolute velocity or displacement, and so the frame's.
    """

    def __init__(self, reduced: ReducedModel, correct: bool = True) -> None:
        channels = reduced.channels
        self.reduced, self.correct = reduced, correct
        which = np.where(channels.is_balance & ~channels.is_elastic_portion, 3, channels.order)
        self.which: Ints = np.where(channels.is_damper_portion, 4, which)
        self.residual = reduced.residual if correct else np.zeros_like(reduced.residual)
        self.damped: NDArray[np.bool_] = (reduced.modal_damper != 0).any(axis=0)
        self._framed = channels.is_absolute & (channels.order < 2)
        self.settled = reduced.settled
        self.needs_frame = bool(self._framed.any()) or self.settled is not None

    def per_load(self, columns: Any) -> Floats:
        """Weight of each load beside the modes, shape (loads, columns): Σ g q + this · load."""
        r = self.reduced
        # absolute acceleration: Σ g q'' + rigid·a, in which the left-out modes ride with the base
        riding = r.rigid[:, columns] if self.correct else r.rigid[:, columns] - r.residual[:, columns]
        return np.where(r.channels.is_acceleration[columns], riding, self.residual[:, columns])

    def read(self, motion: Motion, columns: Any) -> Numbers:
        """Values on all rows, shape (rows, columns). `columns`: a slice or an array of channel numbers."""
        r = self.reduced
        which = self.which[columns]
        modal, weight = r.modal[:, columns], self.per_load(columns)
        kinds = np.unique(which)
        if len(kinds) == 1:
            result = motion.product(kinds[0], modal)
            if weight.any():
                result += motion.load @ weight
        else:
            result = np.asarray(motion.load @ weight)
            for kind in kinds:
                use = which == kind
                result[:, use] += motion.product(kind, modal[:, use])
        if self.damped[columns].any():
            result = result + motion.product(1, r.modal_damper[:, columns])
        framed = self._framed[columns]
        if framed.any():
            for order, frame in ((1, motion.base_velocity), (0, motion.base_displacement)):
                use = framed & (r.channels.order[columns] == order)
                if use.any():
                    assert frame is not None
                    result[:, use] += frame[:, :3] @ r.rigid[:3, columns][:, use]
        for use, given, weight in self._following(motion, columns):
            result[:, use] += given @ weight[:, use]
        return result

    def _following(self, motion: Motion, columns: Any) -> Iterator[tuple[NDArray[np.bool_], Numbers, Floats]]:
        """Which columns read that the assembly follows groups of supports, with the motion and its weights."""
        if self.settled is None:
            return
        channels = self.reduced.channels
        order = np.where(channels.is_motion[columns], channels.order[columns], 0)
        for k, given in enumerate((motion.base_displacement, motion.base_velocity, motion.load)):
            use = (order == k) & ~channels.is_acceleration[columns]
            if use.any():
                assert given is not None
                yield use, given, self.settled[: given.shape[1]][:, columns]
        rates = self.reduced.settled_damper
        if rates is not None and motion.base_velocity is not None:
            use = np.asarray(rates[:, columns].any(axis=0), dtype=bool)
            if use.any():
                yield use, motion.base_velocity, rates[: motion.base_velocity.shape[1]][:, columns]

    def read_each(self, motion: Motion, columns: Ints) -> Numbers:
        """Values of own channels on each row, shape (rows, several) for `columns` of that shape."""
        r = self.reduced
        g, d = r.modal[:, columns], r.modal_damper[:, columns]  # (modes, rows, several)
        coordinate = np.stack([motion.coordinate(k) for k in range(5)])
        picked = coordinate[self.which[columns], np.arange(len(columns))[:, None]]  # (rows, several, modes)
        values = np.einsum("kcm,mkc->kc", picked, g)
        if self.damped.any():
            values += np.einsum("km,mkc->kc", motion.v, d)
        values += np.einsum("kd,dkc->kc", motion.load, self.per_load(columns))
        if self._framed[columns].any():
            for order, frame in ((1, motion.base_velocity), (0, motion.base_displacement)):
                use = (self._framed & (r.channels.order == order))[columns]
                if frame is not None:
                    values += np.where(use, np.einsum("kd,dkc->kc", frame[:, :3], r.rigid[:3][:, columns]), 0.0)
        for use, given, weight in self._following(motion, columns):
            values += np.where(use, np.einsum("kd,dkc->kc", given, weight), 0.0)
        return values

    def per_mode(self, columns: Any = slice(None)) -> Floats:
        """Largest value of channels per unit of the largest modal displacement, shape (modes, columns).

        Velocity is ω times displacement and acceleration ω² times it, as pseudo-values are; a damper's share stands at
        a right angle to the elastic one. With the sign of the mode; NaN for absolute displacement and velocity, which
        a spectrum cannot tell.
        """
        r = self.reduced
        rate = r.omega[:, None] ** r.channels.order[columns]
        value = r.modal[:, columns] * rate
        portion = r.channels.is_damper_portion[columns]
        if portion.any():  # 2ζ q'/ω, at a right angle to the elastic portion
            value = np.where(portion, value * 2.0 * r.damping[:, None], value)
        if self.damped[columns].any():
            damper = r.modal_damper[:, columns] * r.omega[:, None]
            value = np.where(damper == 0.0, value, np.hypot(value, damper) * np.where(value < 0, -1, 1))
        framed = self._framed[columns]
        return np.where(framed, np.nan, value) if framed.any() else value

    def beside_modes(self, loads: Any, columns: Any = slice(None)) -> Floats:
        """What left-out modes answer to unit loads with the sign that it has beside `per_mode`, (loads, columns).

        Modal coordinates there stand for a base that moves the other way, so relative motion and forces change sign.
        """
        forward = self.reduced.channels.is_acceleration[columns]
        return self.residual[loads][:, columns] * np.where(forward, 1.0, -1.0)

    def static(self, columns: Any) -> Floats | None:
        """Answer of channels to unit loads if all were slow, (loads, columns); None where that has no meaning."""
        channels = self.reduced.channels
        rates = channels.is_rate[columns] & ~channels.is_acceleration[columns]
        if rates.any() or self._framed[columns].any():
            return None
        return self.reduced.static[:, columns]

    def has_correction(self, columns: Any) -> bool:
        """Whether left-out modes answer in these channels at all."""
        channels = self.reduced.channels
        return not bool((channels.is_rate[columns] & ~channels.is_acceleration[columns]).any())


def passed_on(reduced: ReducedModel, speed: Numbers, factor: Floats) -> Numbers:
    """What described damping passes to supports and connections, as an inner force, shape (..., channels).

    Ratios of modes (and Rayleigh's share of the mass) as a matrix are outer forces on the masses: in a full model they
    would be missing in the balance of reactions and inertia, which answers by modes keep.

    Parameters
    ----------
    speed : ndarray, shape (..., modes)
        Modal velocities.
    factor : ndarray, shape (modes,)
        Modal damping force per modal velocity.
    """
    whole = reduced.channels.is_balance & ~reduced.channels.is_elastic_portion
    count = speed.shape[-1]
    return np.asarray(np.where(whole, (speed * factor / reduced.omega[:count] ** 2) @ reduced.modal[:count], 0.0))


def split_static(
    channels: Channels, static: Floats, rigid: Floats, gamma: Floats, omega: Floats, modal: Floats, is_base: bool
) -> dict[str, Floats]:
    """Residual, static and rigid reading of one load from its static answer and its modal forces.

    Parameters
    ----------
    static, rigid : ndarray, shape (channels,)
        All channels under the load at rest, and under the unit motion of the frame itself (zero for other loads).
    gamma : ndarray, shape (modes,)
        Participation factors, minus the modal force.
    """
    residual = static + (gamma / omega**2) @ modal
    still = channels.is_rate | channels.is_damper_portion
    residual[still], static = 0.0, np.where(still, 0.0, static)
    if is_base:
        riding = channels.is_acceleration
        residual[riding] = (rigid - gamma @ modal)[riding]
        static[riding] = rigid[riding]
        rigid = np.where(channels.is_motion, rigid, 0.0)
    return {"participation": gamma, "residual": residual, "static": static, "rigid": rigid}


def lost_with(channels: Channels, gamma: Floats, omega: Floats, modal: Floats) -> Floats:
    """What the residual of every load gains when modes are left out, shape (loads, channels).

    `gamma`, `omega`, `modal`: of the modes that go, (modes, loads), (modes,), (modes, channels).
    """
    quiet = np.where(channels.is_rate | channels.is_damper_portion, 0.0, -(gamma.T @ (modal / (omega**2)[:, None])))
    return np.where(channels.is_acceleration, gamma.T @ modal, quiet)


def read_fields(
    gauges: GaugeSet, reduced: ReducedModel, fields: tuple[Floats, Floats, Floats, Floats], balance: Floats,
    frame: tuple[Floats, Floats],
) -> Floats:  # fmt: skip
    """All channels from motion of the whole model, shape (rows, channels).

    Parameters
    ----------
    fields : displacement, velocity, acceleration relative to the frame, and absolute acceleration, (rows, dofs).
    balance : forces from outside less what dampers take, (rows, dofs).
    frame : velocity and displacement of the frame, (rows, 3).
    """
    u, v, relative, absolute = fields
    channels = gauges.channels
    held = np.diff(gauges.on_multipliers.indptr) > 0
    portions = channels.is_damper_portion | (channels.is_elastic_portion & held)
    if portions.any():
        raise EventError(
            "the full model tells forces of supports, links and ties as a whole; their elastic and damper portions, "
            "and the damper portion of all others, need its modes"
        )
    result = gauges.read(u, absolute, balance) + gauges.read_velocity(v)
    for use, field in (
        (channels.is_motion & (channels.order == 1), v),
        (channels.is_motion & (channels.order == 2) & ~channels.is_absolute, relative),
        (channels.is_acceleration, absolute),
    ):
        if use.any():
            result[:, use] = np.asarray(gauges.on_displacement[np.flatnonzero(use)] @ field.T).T
    for order, motion in ((1, frame[0]), (0, frame[1])):
        use = channels.is_absolute & (channels.order == order)
        if use.any():
            result[:, use] += motion @ reduced.rigid[:3, use]
    return result
