"""The reduced model: frequencies, damping, participation, gauge values per mode, and what modes leave out.

It is complete in itself: every response below is a small calculation on (modes × channels).
"""

from __future__ import annotations

from dataclasses import dataclass, fields, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError, MechanismError, first_few
from holokine.findings import Finding
from holokine.respond.readout import lost_with, split_static
from holokine.state.rest import rest_factor
from holokine.system.loads import LoadField, base_field

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.channels import Channels, GaugeSet
    from holokine.gauges.readings import Reading
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = [
    "ReducedModel",
    "about_slight",
    "at_supports",
    "left_out_fields",
    "read_static",
    "reading_noise",
    "reduce_model",
    "slight",
    "slight_below",
    "slight_of",
    "solve_static",
    "with_loads",
]

SLIGHT = 1e-3  # of the largest of its dimension, at and below which ratios of a reading are not told
SLIGHT_OWN = 0.01  # and of the largest of its gauge


@dataclass(frozen=True)
class ReducedModel:
    """Modes as seen through gauges.

    Attributes
    ----------
    omega, damping : ndarray, shape (modes,)
        rad/s and damping ratios.
    participation : ndarray, shape (modes, loads)
        Γ along x y z; of other loads, minus the modal force.
    channels, readings
        Of the gauges.
    modal : ndarray, shape (modes, channels)
        Value of each channel per unit modal coordinate (displacement and, for balances, inertia).
    modal_damper : ndarray, shape (modes, channels)
        Value per unit modal velocity (dampers).
    residual : ndarray, shape (loads, channels)
        What the left-out modes answer, statically, to a unit base acceleration along x y z, or to another load. For
        accelerations it is the rigid share of the left-out mass.
    static : ndarray, shape (loads, channels)
        The whole static answer to a unit base acceleration or load.
    rigid : ndarray, shape (loads, channels)
        Reading of a unit rigid translation (motion channels); zero for loads that are no base motion.
    captured : ndarray, shape (loads,)
        Share of the free mass that the modes hold, along x y z; for other loads NaN.
    free_mass, whole_mass : ndarray, shape (loads,)
        kg; for other loads NaN.
    loads : tuple of str
        x, y, z and the loads that an event adds.
    settled : ndarray, shape (loads, channels), or None
        For groups of supports: reading of the assembly that follows a unit motion of the group at rest.
    settled_damper : ndarray, shape (loads, channels), or None
        And of dampers, to a unit velocity of the group.
    apart : tuple of int
        Columns of these groups.
    """

    omega: Floats
    damping: Floats
    participation: Floats
    channels: Channels
    readings: tuple[Reading, ...]
    modal: Floats
    modal_damper: Floats
    residual: Floats
    static: Floats
    rigid: Floats
    captured: Floats
    free_mass: Floats
    whole_mass: Floats
    loads: tuple[str, ...] = ("x", "y", "z")
    settled: Floats | None = None
    settled_damper: Floats | None = None
    apart: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        for f in fields(self):
            value = getattr(self, f.name)
            if isinstance(value, np.ndarray):
                value.setflags(write=False)  # shared by all answers

    def column(self, load: str) -> int:
        """Which column a direction or load has."""
        return self.loads.index(load)

    @property
    def frequencies_hz(self) -> Floats:
        """Natural frequencies in Hz."""
        return self.omega / (2.0 * np.pi)

    @property
    def count(self) -> int:
        """Number of modes."""
        return len(self.omega)

    def keep(self, which: NDArray[np.bool_]) -> ReducedModel:
        """The model with some of its modes only; what the others held goes to the residual."""
        gone = ~which
        gamma, omega, modal = self.participation[gone], self.omega[gone], self.modal[gone]
        residual = self.residual + lost_with(self.channels, gamma, omega, modal)
        carrying = np.where(self.free_mass > 0, self.free_mass, np.inf)
        captured = self.captured - (gamma**2).sum(axis=0) / carrying
        return replace(
            self, omega=self.omega[which], damping=self.damping[which],
            participation=self.participation[which], modal=self.modal[which],
            modal_damper=self.modal_damper[which], residual=residual, captured=captured,
        )  # fmt: skip


def reading_noise(readings: tuple[Reading, ...], peaks: Floats) -> Floats:
    """What is rounding only in each reading, shape (readings,).

    1e-9 of the largest reading of its gauge, and 1e-11 of the largest of its dimension.
    """
    return _of_largest(readings, peaks, 1e-9, 1e-11)


def slight_below(readings: tuple[Reading, ...], peaks: Floats) -> Floats:
    """At and below which each reading is nothing against others of its dimension, shape (readings,)."""
    return _of_largest(readings, peaks, SLIGHT_OWN, SLIGHT)


def slight(readings: tuple[Reading, ...], peaks: Floats) -> NDArray[np.bool_]:
    """Readings that are nothing against others of their dimension, of which ratios say nothing, shape (readings,)."""
    return np.abs(np.nan_to_num(peaks)) <= slight_below(readings, peaks)


def slight_of(result: Any) -> NDArray[np.bool_]:
    """Readings of an answer that are slight, and yet more than rounding, shape (readings,)."""
    return slight(result.reduced.readings, result.peaks) & (np.abs(np.nan_to_num(result.peaks)) > result.noise)


def about_slight(result: Any) -> list[Finding]:
    """Which readings of an answer have no ratios."""
    readings, small = result.reduced.readings, slight_of(result)
    if result.meaning.kind == "value" or not small.any():
        return []
    names = first_few((readings[k].label for k in np.flatnonzero(small)), 4)
    return [Finding("note", f"no ratios are told of what is nothing beside other readings of its kind: {names}")]


def _of_largest(readings: tuple[Reading, ...], peaks: Floats, of_gauge: float, of_dimension: float) -> Floats:
    """Shares of the largest reading of the gauge, and of all of the dimension: the larger, shape (readings,)."""
    largest: dict[tuple[str, str], float] = {}
    for reading, peak in zip(readings, np.nan_to_num(peaks), strict=True):
        for key in ((reading.gauge, reading.dimension), ("", reading.dimension)):
            largest[key] = max(largest.get(key, 0.0), abs(float(peak)))
    return np.array(
        [max(of_gauge * largest[r.gauge, r.dimension], of_dimension * largest["", r.dimension]) for r in readings]
    )


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
    omega = modes.omega
    modal = gauges.read(modes.shapes, -modes.shapes * (omega**2)[:, None])
    factor = rest_factor(modes.system)
    columns = [_column(modes, gauges, modal, factor, base_field(modes.system, axis)) for axis in "xyz"]
    rows: dict[str, Any] = {name: np.array([c[name] for c in columns]) for name in columns[0]}
    free = modes.free_mass[:3]
    gamma = rows.pop("participation").T
    captured = np.where(free > 0, (gamma**2).sum(axis=0) / np.where(free > 0, free, 1.0), 1.0)
    return ReducedModel(
        omega, damping, gamma, gauges.channels, gauges.readings, modal, gauges.read_velocity(modes.shapes),
        captured=captured, free_mass=free, whole_mass=modes.whole_mass[:3], **rows,
    )  # fmt: skip


def solve_static(system: System, fields: list[LoadField], factor: Any = None) -> Floats:
    """Displacement under loads at rest, shape (fields, dofs), in m and rad."""
    T = system.constraints.reduce
    factor = factor or rest_factor(system)
    loads = np.array([f.force - system.mass @ f.ride - system.stiffness @ f.moved for f in fields])
    free = np.asarray(factor.solve(np.ascontiguousarray(T.T @ loads.T)))
    return np.asarray((T @ free).T + np.array([f.moved for f in fields]))


def left_out_fields(
    system: System, loads: list[LoadField], columns: list[str], reduced: ReducedModel, shapes: Floats
) -> Floats:
    """What left-out modes move, statically, under each load; of those in `columns`, zero for others, (loads, dofs)."""
    result = np.zeros((len(loads), shapes.shape[1]))
    factor = rest_factor(system)
    for name in columns:
        k = reduced.column(name)
        whole = solve_static(system, [loads[k]], factor)[0]
        result[k] = whole + (reduced.participation[:, k] / reduced.omega**2) @ shapes
    return result


def read_static(gauges: GaugeSet, field: LoadField, moved: Floats) -> Floats:
    """All channels for a displacement under a load at rest, shape (channels,); accelerations read nothing."""
    values = gauges.read(moved[None], field.ride[None], field.force[None])[0]
    return np.where(gauges.channels.is_damper_portion, 0.0, values)


def _column(modes: ModeSet, gauges: GaugeSet, modal: Floats, factor: Any, field: LoadField) -> dict[str, Floats]:
    """Participation, residual, static and rigid reading of one load."""
    system, omega = modes.system, modes.omega
    gamma = -(modes.shapes @ (field.force - system.mass @ field.ride - system.stiffness @ field.moved))
    static = read_static(gauges, field, solve_static(system, [field], factor)[0])
    rigid = gauges.read(field.ride[None])[0] if field.is_base else np.zeros(len(static))
    return split_static(gauges.channels, static, rigid, gamma, omega, modal, field.is_base)


def _lowest(modes: ModeSet, count: int) -> ModeSet:
    """Frequencies and shapes of the lowest modes only."""
    return replace(modes, frequencies_hz=modes.frequencies_hz[:count], shapes=modes.shapes[:count])


def with_loads(reduced: ReducedModel, modes: ModeSet, gauges: GaugeSet, fields: list[LoadField]) -> ReducedModel:
    """The model with columns for more loads; one static solution each.

    `reduced` may hold fewer of the modes than `modes` (from the lowest up).
    """
    factor = rest_factor(modes.system)
    kept = _lowest(modes, reduced.count)
    columns = [_column(kept, gauges, reduced.modal, factor, f) for f in fields]
    nothing = np.full(len(fields), np.nan)
    settled = settled_damper = None
    if any(f.is_base for f in fields):
        none, here = np.zeros(len(gauges.channels)), ~gauges.channels.is_damper_portion
        rows = [np.where(here, gauges.read(f.ride[None])[0], 0.0) if f.is_base else none for f in fields]
        settled = np.array([none] * len(reduced.loads) + rows)
        rates = [gauges.read_velocity(f.ride[None])[0] if f.is_base else none for f in fields]
        settled_damper = np.array([none] * len(reduced.loads) + rates)
    return replace(
        reduced,
        participation=np.hstack([reduced.participation, *(c["participation"][:, None] for c in columns)]),
        residual=np.vstack([reduced.residual, *(c["residual"] for c in columns)]),
        static=np.vstack([reduced.static, *(c["static"] for c in columns)]),
        rigid=np.vstack([reduced.rigid, *(c["rigid"] for c in columns)]),
        captured=np.concatenate([reduced.captured, nothing]),
        free_mass=np.concatenate([reduced.free_mass, nothing]),
        whole_mass=np.concatenate([reduced.whole_mass, nothing]),
        loads=(*reduced.loads, *(f.name for f in fields)),
        settled=settled,
        settled_damper=settled_damper,
        apart=tuple(len(reduced.loads) + k for k, f in enumerate(fields) if f.is_base),
    )


def at_supports(reduced: ReducedModel, modes: ModeSet, gauges: GaugeSet, groups: dict[str, Floats]) -> ReducedModel:
    """The model excited by groups of supports that move by themselves, instead of by the whole base.

    Parameters
    ----------
    groups : dict of str to ndarray, shape (dofs,)
        By name of the column: what a unit motion of the group imposes.

    The assembly follows a group at rest (the influence field r, K r = 0 away from supports); its motion relative to
    that answers to the inertia -M r s'' (Clough & Penzien, Dynamics of Structures, section 26-7).
    """
    from holokine.modes.free_mass import free_mass

    system = modes.system
    factor = rest_factor(system)
    T = system.constraints.reduce
    kept = _lowest(modes, reduced.count)
    none = np.zeros(system.size)
    columns, settled, free = [], [], []
    for name, imposed in groups.items():
        r = solve_static(system, [LoadField(name, none, none, imposed)], factor)[0]
        columns.append(_column(kept, gauges, reduced.modal, factor, LoadField(name, none, r, none, True)))
        settled.append(np.where(gauges.channels.is_damper_portion, 0.0, gauges.read(r[None])[0]))
        free.append(float(free_mass(system.reduced_mass, (T.T @ (system.mass @ r))[:, None])[0]))
    gamma = np.column_stack([c["participation"] for c in columns])
    whole = np.array(free)
    return replace(
        reduced, participation=gamma, residual=np.array([c["residual"] for c in columns]),
        static=np.array([c["static"] for c in columns]), rigid=np.array([c["rigid"] for c in columns]),
        captured=np.where(whole > 0, (gamma**2).sum(axis=0) / np.where(whole > 0, whole, 1.0), 1.0),
        free_mass=whole, whole_mass=whole, loads=tuple(groups), settled=np.array(settled),
        apart=tuple(range(len(groups))),
    )  # fmt: skip
