"""The modes as steady vibration and damped modes need them: with all that couples them, and static shapes beside."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.describe.references import group_members
from holokine.findings import Finding
from holokine.modes.attached import MOST, Attached, attached_shapes, damper_pushes
from holokine.modes.damped import CoupledVibration
from holokine.modes.damping import composite_damping, loss_factors, modal_damping
from holokine.respond.readout import Readout, lost_with
from holokine.respond.reduced import solve_static
from holokine.state.rest import rest_factor
from holokine.system.assemble import node_dofs
from holokine.system.loads import LoadField
from holokine.system.loss import loss_matrix

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.describe.damping import Damping
    from holokine.gauges.channels import GaugeSet
    from holokine.respond.bench import Bench
    from holokine.respond.reduced import ReducedModel
    from holokine.system.build import System

RINGING = 0.01
"""Damping ratio, at least, of static shapes where members are followed."""

__all__ = ["Coupling", "SteadyModel", "SteadyMotion", "SteadyReadout", "at_rest_under", "coupling", "steady_model"]


@dataclass(frozen=True)
class SteadyModel:
    """Modal equations with everything that damps, and the reduced model that reads them.

    Attributes
    ----------
    reduced : ReducedModel
        With static shapes beside the modes.
    vibration : CoupledVibration
    own : ndarray, shape (modes and shapes,)
        Modal damping ratios, without dampers and loss factors.
    losses : dict of str to float
        Loss factors by member.
    loss : sparse array, shape (dofs, dofs), or None
        Σ η K.
    relieved_by_dampers, relieved_by_losses : ndarray, shape (modes and shapes, channels), or None
        What channels read of the assembly at rest under the forces of dampers per modal velocity, and under Σ η K per
        modal displacement.
    loss_map : sparse array, shape (channels, dofs), or None
        Elastic forces times loss factors, where a channel reads the damper's part of a spring or forces of elements.
    modes : int
        How many of the coordinates are modes.
    attached : Attached or None
    findings : tuple of Finding
    """

    reduced: ReducedModel
    vibration: CoupledVibration
    own: Floats
    losses: dict[str, float]
    loss: csr_array | None
    loss_map: csr_array | None
    modes: int
    attached: Attached | None
    mode_shapes: Floats
    findings: tuple[Finding, ...] = ()
    relieved_by_dampers: Floats | None = None
    relieved_by_losses: Floats | None = None
    plain: ReducedModel | None = None
    """Without static shapes: what the modes hold."""
    settled_loss: Floats | None = None
    """`loss_map` of what follows each group of supports at rest, shape (loads, channels)."""

    @cached_property
    def shapes(self) -> Floats:
        """Shapes of all coordinates, (modes and shapes, dofs)."""
        return self.mode_shapes if self.attached is None else np.vstack([self.mode_shapes, self.attached.shapes])

    @cached_property
    def modal_loss(self) -> Floats:
        """`loss_map` of every coordinate, shape (modes and shapes, channels)."""
        if self.loss_map is None:
            return np.zeros((self.reduced.count, len(self.reduced.channels)))
        return np.ascontiguousarray((self.loss_map @ self.shapes.T).T)


class SteadyMotion:
    """Complex amplitudes on rows of frequencies; what is not asked for is not made.

    Attributes
    ----------
    q : ndarray, shape (rows, modes)
    load : ndarray, shape (rows, loads)
    omega : ndarray, shape (rows,)
        rad/s.
    """

    def __init__(self, q: Complex, load: Complex, omega: Floats, reduced: ReducedModel) -> None:
        self.q, self.load, self.omega, self._reduced = q, load, omega, reduced
        self._parts: dict[int, Floats] = {}

    @cached_property
    def v(self) -> Complex:
        """Modal velocities."""
        return 1j * self.omega[:, None] * self.q

    @cached_property
    def a(self) -> Complex:
        """Modal accelerations."""
        return np.asarray(-((self.omega**2)[:, None]) * self.q)

    @cached_property
    def s(self) -> Complex:
        """What elastic and damping forces of the modes are together, as a coordinate."""
        r = self._reduced
        return np.asarray((-self.load @ r.participation.T - self.a) / r.omega**2)

    def coordinate(self, which: int) -> Complex:
        """By the number that `Readout.which` gives."""
        return self.s - self.q if which == 4 else np.asarray(getattr(self, "qvas"[which]))

    def product(self, which: int, weights: Floats) -> Complex:
        """A coordinate times real weights of the modes, (rows, columns): as two real products, half the work of one."""
        if which not in self._parts:
            value = self.coordinate(which)
            self._parts[which] = np.concatenate([value.real, value.imag])
        rows = len(self.omega)
        both = self._parts[which] @ weights
        result = np.empty((rows, both.shape[1]), dtype=complex)
        result.real, result.imag = both[:rows], both[rows:]
        return result

    @property
    def base_velocity(self) -> Complex:
        """Of the frame along x y z, and of groups of supports."""
        return np.asarray(self.load / (1j * self.omega[:, None]))

    @property
    def base_displacement(self) -> Complex:
        """Of the frame along x y z, and of groups of supports."""
        return np.asarray(-self.load / (self.omega**2)[:, None])


class SteadyReadout(Readout):
    """Reads channels of steady vibration, with what dampers and loss factors pass.

    The coordinate s of forces from balance takes all damping as passed on like elastic forces, as modal ratios are.
    What discrete dampers and loss factors do is known better: they push at places of their own, and what the assembly
    passes at rest under those pushes is taken off (a damper to the ground relieves the supports beside it).

    Attributes
    ----------
    on_rate, on_loss : ndarray, shape (modes and shapes, channels), or None
        Beside the modal values: per modal velocity, and per i times the modal displacement.
    """

    def __init__(self, model: SteadyModel, correct: bool = True) -> None:
        super().__init__(model.reduced, correct)
        whole, count = self.which >= 3, len(self.which)
        dampers, losses = model.relieved_by_dampers, model.relieved_by_losses
        self.on_rate: Floats | None = None if dampers is None else np.where(whole, -dampers, 0.0)
        self.on_loss: Floats | None = None
        if model.loss_map is not None or losses is not None:
            self.on_loss = model.modal_loss - (0.0 if losses is None else np.where(whole, losses, 0.0))
        self._rates, self._loses = (
            np.zeros(count, dtype=bool) if m is None else (m != 0).any(axis=0) for m in (self.on_rate, self.on_loss)
        )

        self._settled_loss = model.settled_loss

    def beside(self, motion: Any, column: int) -> Complex:
        """What each coordinate adds to a channel beside its modal value, on the first row, (modes and shapes,)."""
        result = motion.v[0] * self.reduced.modal_damper[:, column]
        if self.on_rate is not None:
            result = result + motion.v[0] * self.on_rate[:, column]
        return result if self.on_loss is None else result + 1j * motion.q[0] * self.on_loss[:, column]

    def read(self, motion: Any, columns: Any) -> Complex:
        """Values on all rows, shape (rows, columns)."""
        result = super().read(motion, columns)
        if self.on_rate is not None and self._rates[columns].any():
            result = result + motion.product(1, self.on_rate[:, columns])
        if self.on_loss is not None and self._loses[columns].any():
            result = result + 1j * motion.product(0, self.on_loss[:, columns])
        if self._settled_loss is not None:
            result = result + 1j * (motion.base_displacement @ self._settled_loss[:, columns])
        return result

    def read_each(self, motion: Any, columns: Any) -> Complex:
        """Values of own channels on each row, shape (rows, several) for `columns` of that shape."""
        result = super().read_each(motion, columns)
        if self.on_rate is not None and self._rates[columns].any():
            result = result + np.einsum("km,mkc->kc", motion.v, self.on_rate[:, columns])
        if self.on_loss is not None and self._loses[columns].any():
            result = result + 1j * np.einsum("km,mkc->kc", motion.q, self.on_loss[:, columns])
        if self._settled_loss is not None:
            result = result + 1j * np.einsum("kd,dkc->kc", motion.base_displacement, self._settled_loss[:, columns])
        return result


def steady_model(
    bench: Bench, reduced: ReducedModel, fields: Callable[[], list[LoadField]], damping: Damping | None = None,
    pushes: Floats | None = None,
) -> SteadyModel:  # fmt: skip
    """What couples the modes of `reduced` (the lowest of the bench's), with static shapes for what dampers push.

    Parameters
    ----------
    fields : callable
        Makes the loads that stand in the columns of `reduced`, in order; called where anything couples.
    damping : Damping, optional
        Of an event, in place of the description's.
    pushes : ndarray, shape (pushes, dofs), optional
        Of members that are followed, for which there are static shapes too; nothing of this is kept for other events.
    """
    followed = pushes is not None
    c = _coupling(bench, reduced.count, damping, pushes) if followed else coupling(bench, reduced.count, damping)
    of = _told(bench, reduced.count, damping)

    def held(what: str, make: Callable[[], Floats]) -> Floats:
        return make() if followed else bench.held(what, of, make)

    plain = reduced
    if c.attached is not None:
        reduced = joined(reduced, bench.system, bench.gauges, c.attached, fields(), by_inertia=followed)
    loss_map, mixed = None, np.zeros(0, dtype=np.int64)
    if c.losses:
        loss_map, mixed = _loss_map(bench, bench.gauges, c.losses)
    dampers = losses = None
    if reduced.channels.is_balance.any():
        if c.damped:
            dampers = held("under dampers", lambda: at_rest_under(bench, c.shapes, bench.system.damping))
        if c.loss is not None:
            loss = c.loss
            losses = held("under losses", lambda: at_rest_under(bench, c.shapes, loss)).copy()
            losses[:, mixed] = 0.0
    settled = None
    if loss_map is not None and reduced.settled is not None:
        rides = np.array([f.ride if k >= 3 and f.is_base else 0.0 * f.ride for k, f in enumerate(fields())])
        settled = np.ascontiguousarray((loss_map @ rides.T).T)
    kept = (c.vibration, c.own, c.losses, c.loss, loss_map, c.modes, c.attached, c.mode_shapes, c.findings)
    return SteadyModel(reduced, *kept, dampers, losses, plain, settled)


def at_rest_under(bench: Bench, shapes: Floats, matrix: csr_array) -> Floats:
    """All channels of the assembly at rest under a matrix times each shape, (shapes, channels)."""
    system = bench.system
    T = system.constraints.reduce
    forces = np.asarray((matrix @ shapes.T).T)
    free = np.asarray(rest_factor(system).solve(np.ascontiguousarray(T.T @ forces.T)))
    return bench.gauges.read(np.ascontiguousarray((T @ free).T), None, forces)


@dataclass(frozen=True)
class Coupling:
    """Modal equations with everything that damps; see `SteadyModel`."""

    vibration: CoupledVibration
    own: Floats
    losses: dict[str, float]
    loss: csr_array | None
    modes: int
    attached: Attached | None
    mode_shapes: Floats
    findings: tuple[Finding, ...] = ()
    damped: bool = False
    """Whether there are discrete dampers."""

    @property
    def shapes(self) -> Floats:
        """Shapes of all coordinates, (modes and shapes, dofs)."""
        return self.mode_shapes if self.attached is None else np.vstack([self.mode_shapes, self.attached.shapes])


def loss_of(bench: Bench, damping: Damping | None = None) -> csr_array | None:
    """Σ η K of all that has a loss factor; None where nothing has."""
    d = bench.document.description
    described = damping or d.damping_used
    losses, uniform = loss_factors(d, described), (described.loss_factor or {}).get("default", 0.0)
    return loss_matrix(bench.system, losses, uniform) if losses or uniform else None


def _told(bench: Bench, count: int, damping: Damping | None) -> str:
    """What coupled equations depend on besides modes, gauges and dampers."""
    return f"{count} {damping or bench.document.description.damping_used!r}"


def coupling(bench: Bench, count: int, damping: Damping | None = None) -> Coupling:
    """What couples the lowest modes, with static shapes for what dampers push; made once for all events."""
    return bench.held("coupling", _told(bench, count, damping), lambda: _coupling(bench, count, damping))


def _coupling(bench: Bench, count: int, damping: Damping | None, pushes: Floats | None = None) -> Coupling:
    d = bench.document.description
    described = damping or d.damping_used
    losses = loss_factors(d, described)
    uniform = (described.loss_factor or {}).get("default", 0.0)
    shapes, omega = bench.modes.shapes[:count], bench.modes.omega[:count]
    if described.composite is None:
        own = modal_damping(described, omega / (2.0 * np.pi))
    else:
        own = composite_damping(bench.modes, described.composite, bench.energies)[:count]
    if pushes is None and not (losses or uniform or _has_dampers(d)):
        return Coupling(CoupledVibration(omega, np.diag(2.0 * own * omega)), own, {}, None, count, None, shapes)
    system = bench.system
    loss = loss_matrix(system, losses, uniform)
    attached, findings = (None, []) if bench.modes.rigid.any() else _attached(bench, shapes, omega, set(losses), pushes)
    whole = shapes
    if attached is not None:
        whole = np.vstack([shapes, attached.shapes])
        omega = np.concatenate([omega, attached.omega])
        rayleigh = described.rayleigh is not None
        more = modal_damping(described, omega[count:] / (2.0 * np.pi)) if rayleigh else np.zeros(len(omega) - count)
        if pushes is not None and not rayleigh:  # they ring with what high harmonics do
            more += max(float(own[-1]), RINGING)
        own = np.concatenate([own, more])
    viscous = np.diag(2.0 * own * omega) + whole @ (system.damping @ whole.T)
    hysteretic = None if loss is None else whole @ (loss @ whole.T)
    vibration = CoupledVibration(omega, viscous, hysteretic)
    return Coupling(vibration, own, losses, loss, count, attached, shapes, tuple(findings), bool(system.damping.nnz))


def _loss_map(bench: Bench, gauges: GaugeSet, losses: dict[str, float]) -> tuple[csr_array | None, NDArray[np.int64]]:
    """η times the elastic value of channels that read it, as a map of motion; and channels that it is not known for.

    The damper's part of springs that lose, and what adds up forces of elements: ends of beams, cuts. Where these have
    several loss factors, the channel stays as if all lost alike.
    """
    d = bench.document.description
    connectors = {c.name: c for c in bench.system.connectors}
    scale = np.zeros(len(gauges.channels))
    mixed: list[int] = []
    rows: list[csr_array] = []
    for block, own in zip(gauges.channels.blocks, gauges.channels.slices, strict=True):
        gauge = d.gauges.get(block.gauge)
        source = "" if gauge is None else gauge.source
        c = connectors.get(source)
        if gauge is not None and gauge.kind in ("damper_force", "total_force") and c is not None and losses.get(source):
            row = {"along": 0, "x": 0, "y": 1, "z": 2}[block.components[0]]
            force = losses[source] * c.stiffness[row] * c.stretch[row]
            dofs = node_dofs(np.array(c.nodes))
            at = (np.full(len(dofs), own.start), dofs)
            rows.append(csr_array((force, at), shape=gauges.on_displacement.shape))
        members = group_members(d, source) if source in d.groups else [source]
        factors = {losses.get(m, 0.0) for m in members if m in d.parts}
        passing = block.kind == "balance" and block.portion != "elastic"
        if passing and len(factors) == 1:
            scale[own] = factors.pop()
        elif passing and factors:
            mixed += range(own.start, own.stop)
    result = csr_array(gauges.on_displacement * scale[:, None])
    for other in rows:
        result = csr_array(result + other)
    result.eliminate_zeros()
    return (result if result.nnz else None), np.array(mixed, dtype=np.int64)


def _has_dampers(d: Any) -> bool:
    connectors = (*d.springs.values(), *d.bushings.values(), *d.joints.values())
    return d.matrices is not None or any(np.any(c.damping) for c in connectors)


def _attached(
    bench: Bench, shapes: Floats, omega: Floats, lossy: set[str], more: Floats | None
) -> tuple[Attached | None, list[Finding]]:
    pushes = damper_pushes(bench.system, lossy)
    if more is not None:
        pushes = np.vstack([more, pushes]) if len(pushes) <= MOST else more
    if len(pushes) == 0:
        return None, []
    if more is None and len(pushes) > MOST:
        text = (
            f"more than {MOST} dampers and springs that lose: what modes leave out under their forces is not added, so "
            "that more modes may be needed; a check: full model at"
        )
        return None, [Finding("note", text)]
    attached = attached_shapes(bench.modes, shapes, omega, pushes)
    return (attached if len(attached.omega) else None), []


def joined(
    reduced: ReducedModel,
    system: System,
    gauges: GaugeSet,
    attached: Attached,
    fields: list[LoadField],
    *,
    by_inertia: bool = False,
) -> ReducedModel:
    """The reduced model with static shapes as further coordinates; what they hold leaves the residual.

    A shape reads what the assembly at rest under its pushes reads, less what the modes have of that, so that forces
    from balance stay in balance. `by_inertia`: what constraints carry is read of the inertia of a shape at rest, so
    that a foot that moves is in balance with the few coordinates themselves.
    """
    held = gauges.read(attached.answers, None, attached.pushes) - attached.modal @ reduced.modal
    modal = attached.mix @ held
    if by_inertia and len(attached.omega):
        carried = np.diff(gauges.on_multipliers.indptr) > 0
        inertia = attached.omega[:, None] ** 2 * np.asarray(system.mass @ attached.shapes.T).T
        none = np.zeros(system.size)
        answers = solve_static(system, [LoadField("", own, none, none) for own in inertia])
        modal[:, carried] = gauges.read(answers, None, inertia)[:, carried]
    speed = gauges.read_velocity(attached.shapes)
    forces = np.array([f.force - system.mass @ f.ride - system.stiffness @ f.moved for f in fields])
    gamma = -(attached.shapes @ forces.T)
    residual = reduced.residual - lost_with(reduced.channels, gamma, attached.omega, modal)
    return replace(
        reduced, omega=np.concatenate([reduced.omega, attached.omega]),
        damping=np.concatenate([reduced.damping, np.zeros(len(attached.omega))]),
        participation=np.vstack([reduced.participation, gamma]), modal=np.vstack([reduced.modal, modal]),
        modal_damper=np.vstack([reduced.modal_damper, speed]), residual=residual,
    )  # fmt: skip
