"""Answering a sine sweep."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import block_array, csr_array

from holokine.errors import EventError
from holokine.excite.harmonic import Excitation, Felt, Swing, build_swing
from holokine.findings import Finding
from holokine.modes.damping import rayleigh_factors
from holokine.progress import counted
from holokine.respond.bench import Bench, about_supports, damping_words, refuse_moved, taken
from holokine.respond.curves import gathered_points
from holokine.respond.moving_groups import moving_groups
from holokine.respond.readout import passed_on, read_fields
from holokine.respond.reduced import ReducedModel, read_static, solve_static, with_loads
from holokine.respond.resting import state_values
from holokine.respond.steady import SteadyModel, loss_of, steady_model
from holokine.respond.sweep import SweepReader, SweepResult, respond_sweep, with_full
from holokine.system.loads import LoadField, base_field, load_field, load_sum
from holokine.system.wide import explicit

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.describe.events import SweepEvent, Unbalance
    from holokine.gauges.channels import GaugeSet
    from holokine.respond.answer_periodic import PeriodicResult
    from holokine.system.build import System

__all__ = ["answer_sweep", "full_steady", "sweep_frequencies", "swinging"]

_MISSED = 0.01  # of a peak, from which sweep points are said to be too few


def answer_sweep(bench: Bench, name: str, event: SweepEvent) -> SweepResult | PeriodicResult:
    """Steady vibration at all frequencies of a sweep; with what lets go and hits where the event follows it.

    Raises
    ------
    EventError, DescriptionError
    """
    reduced = taken(bench, event)
    excitation, extra = swinging(bench, name, event)
    if extra:
        reduced = with_loads(reduced, bench.modes, bench.gauges, extra)

    def fields() -> list[LoadField]:
        return [base_field(bench.system, axis) for axis in "xyz"] + extra

    model = steady_model(bench, reduced, fields, event.damping)
    reader = SweepReader(model, excitation, event.static_correction)
    frequencies, starts = sweep_frequencies(bench, event, model, excitation)
    steady = None
    if event.beside is not None:
        steady = _steady(bench, event.beside)
    if event.with_state:
        own = state_values(bench, name)
        steady = own if steady is None else steady + own
    result = respond_sweep(
        reader, frequencies, starts, name=name, acting=tuple(extra), steady=steady, amplitudes=event.amplitudes,
        octaves_per_minute=event.octaves_per_minute,
    )  # fmt: skip
    if event.full_model_at is not None:
        at = np.array(event.full_model_at)
        forces = excitation.at(at, model.reduced.loads)
        result = with_full(result, at, full_steady(bench.system, bench.gauges, model, fields(), at, forces,
                                                   _rayleigh(bench, event)))  # fmt: skip
    own_findings = (*model.findings, *damping_words(bench, event, reduced), *_about_modes(reduced, frequencies))
    findings = (*result.findings, *_about_points(event, result), *own_findings, *about_supports(bench, event))
    result = replace(result, findings=findings, model_findings=own_findings)
    if event.follow:
        from holokine.respond.answer_periodic import answer_periodic

        return answer_periodic(bench, name, event, result, excitation, extra)
    return result


def _rayleigh(bench: Bench, event: SweepEvent) -> tuple[float, float] | None:
    described = event.damping or bench.document.description.damping_used
    return None if described.rayleigh is None else rayleigh_factors(*described.rayleigh)


def swinging(bench: Bench, name: str, event: SweepEvent) -> tuple[Excitation, list[LoadField]]:
    """What swings, and the loads by which it does beside the base."""
    folder, d = bench.document.folder, bench.document.description
    columns: list[str] = []
    swings: list[Swing] = []
    extra: list[LoadField] = []
    for axis, swing in (event.base or {}).items():
        columns.append(str(axis))
        swings.append(build_swing(swing, "base", folder=folder, source=f'event "{name}", base {axis}'))
    felt: tuple[Felt, ...] = ()
    if event.support_swings:
        moving = moving_groups(bench.system, f'event "{name}"', event.moving, loss_of(bench, event.damping))
        extra, felt = moving.fields, moving.felt
        for group, own in event.support_swings.items():
            for axis, swing in own.base.items():
                columns.append(f"{group} {axis}")
                source = f'event "{name}", supports "{group}", {axis}'
                swings.append(build_swing(swing, "supports", folder=folder, source=source))
    for load, swing in (event.loads or {}).items():
        extra.append(load_field(bench.system, load, d.loads[load]))
        columns.append(load)
        swings.append(build_swing(swing, "load", folder=folder, source=f'event "{name}", load {load}'))
    refuse_moved(extra, name, event)
    for rotor, one in (event.unbalance or {}).items():
        for field, phase in _turning(bench.system, name, rotor, one):
            extra.append(field)
            columns.append(field.name)
            swings.append(Swing(np.ones(1), np.array([one.amount]), np.array([phase]), source=rotor, acts="rotor"))
    return Excitation(tuple(columns), tuple(swings), felt), extra


def _turning(system: System, name: str, rotor: str, one: Unbalance) -> list[tuple[LoadField, float]]:
    """A unit force along each of two directions across the axis, with its phase: the second lags by a quarter."""
    where = f'event "{name}", unbalance "{rotor}"'
    node = system.node(one.at, where)
    if not system.active[6 * node : 6 * node + 3].all():
        raise EventError(f'{where}: nothing takes a force along all directions at the point "{one.at}"')
    axis = np.array(one.axis)
    first = np.eye(3)[int(np.abs(axis).argmin())]
    first = first - (first @ axis) * axis
    first /= np.linalg.norm(first)
    second = np.cross(axis, first)
    turn = -np.pi / 2.0 if one.turning == "forward" else np.pi / 2.0
    found: list[tuple[LoadField, float]] = []
    for direction, phase in ((first, one.phase), (second, one.phase + turn)):
        force, none = np.zeros(system.size), np.zeros(system.size)
        force[6 * node : 6 * node + 3] = direction
        found.append((LoadField(f"{rotor} {len(found) + 1}", force, none, none), phase))
    return found


def sweep_frequencies(
    bench: Bench, event: SweepEvent, model: SteadyModel, excitation: Excitation
) -> tuple[Floats, NDArray[np.int64]]:
    """Frequencies of a sweep in Hz, and the first of each of its ranges."""
    sweep = event.sweep
    if sweep.at is not None:
        return np.array(sweep.at), np.zeros(1, dtype=np.int64)
    ranges = [sweep.range] if sweep.range is not None else _band_ranges(bench, str(sweep.band))
    centres, widths = model.vibration.resonances()
    parts = []
    for low, high in ranges:
        if sweep.spacing == "linear":
            parts.append(np.linspace(low, high, int(sweep.points or 2)))
        elif sweep.spacing == "logarithmic":
            count = sweep.points or int(np.ceil(np.log2(high / low) * int(sweep.per_octave or 1) - 1e-9)) + 1
            parts.append(np.geomspace(low, high, max(count, 2)))
        else:
            parts.append(gathered_points(low, high, centres, widths, excitation.corners))
    starts = np.cumsum([0, *(len(p) for p in parts[:-1])])
    return np.concatenate(parts), starts


def _band_ranges(bench: Bench, name: str) -> list[tuple[float, float]]:
    """Ranges of a band, rising; those that meet are one."""
    found = sorted((low, high) for _, low, high in bench.document.description.bands[name].ranges())
    result = [found[0]]
    for low, high in found[1:]:
        if low <= result[-1][1]:
            result[-1] = (result[-1][0], max(high, result[-1][1]))
        else:
            result.append((low, high))
    return result


def _steady(bench: Bench, static: str) -> Floats:
    event: Any = bench.document.description.events[static]
    field = load_sum(bench.system, f"{static} (at rest)", event.static)
    values = read_static(bench.gauges, field, solve_static(bench.system, [field])[0])
    return np.where(bench.gauges.channels.is_rate, 0.0, values)  # nothing at rest has a velocity or acceleration


def _about_points(event: SweepEvent, result: SweepResult) -> list[Finding]:
    missed = result.sampled_error
    if missed <= _MISSED:
        return []
    more = "its list of frequencies" if event.sweep.at is not None else f"spacing: {event.sweep.spacing}"
    return [Finding("warning", f"the points of {more} miss a peak by up to {100 * missed:.3g} %; peaks are told as "
                    "they are, between the points, but curves and whole fields are those of the points")]  # fmt: skip


def _about_modes(reduced: ReducedModel, frequencies: Floats) -> list[Finding]:
    """Whether the modes reach beyond the sweep."""
    last, top = float(reduced.frequencies_hz[-1]), float(frequencies.max())
    if last >= 1.5 * top:
        return []
    return [Finding(
        "warning" if last < top else "note", f"the sweep runs to {top:.4g} Hz, the modes to {last:.4g} Hz: modes above "
        f"are taken at rest, which is good to a few percent from 1.5 times the sweep on. Extract up to {1.5 * top:.3g} "
        "Hz, or check with full model at",
    )]  # fmt: skip


def full_steady(
    system: System, gauges: GaugeSet, model: SteadyModel, fields: list[LoadField], frequencies: Floats, load: Complex,
    rayleigh: tuple[float, float] | None = None,
) -> Complex:  # fmt: skip
    """All channels by solving the whole model at each frequency, shape (frequencies, channels).

    (K + i Σ η K + i ω C - ω² M) u = p as a real symmetric system of twice the size; described damping of modes as the
    low-rank Σ 2ζω (Mφ)(Mφ)ᵀ on the modes, or as Rayleigh's matrices.
    """
    from holokine.solvers.factor import factorise

    T = system.constraints.reduce
    K, M = explicit(system.reduced_stiffness), explicit(system.reduced_mass)
    C = csr_array(T.T @ system.damping @ T)
    L = csr_array(K.shape) if model.loss is None else csr_array(T.T @ model.loss @ T)
    n, kept = K.shape[0], model.modes
    ratios = 2.0 * model.own[:kept] * model.reduced.omega[:kept]
    carried = np.asarray(system.mass @ model.mode_shapes.T)
    spread, size = np.zeros((n, 0)), np.zeros(0)
    if rayleigh is not None:
        C = csr_array(C + rayleigh[0] * M + rayleigh[1] * K)
    else:
        free = model.mode_shapes[:, system.constraints.independent]
        spread = np.asarray(M @ free.T)[:, ratios > 0]
        size = ratios[ratios > 0]
    push = np.array([T.T @ (f.force - system.mass @ f.ride) for f in fields])
    ride, outside = np.array([f.ride for f in fields]), np.array([f.force for f in fields])
    found = []
    for row in counted(range(len(frequencies)), "the whole model", "frequencies"):
        w = 2.0 * np.pi * float(frequencies[row])
        A, G = csr_array(K - w**2 * M), csr_array(w * C + L)
        factor = factorise(csr_array(block_array([[A, -G], [-G, -A]], format="csr")))

        def solve(right: Complex, factor: Any = factor) -> Complex:
            both = np.concatenate([right.real, -right.imag])
            x = np.asarray(factor.solve(np.ascontiguousarray(both)))
            return np.asarray(x[:n] + 1j * x[n:])

        x = solve((load[row] @ push)[:, None])
        if spread.shape[1]:
            inner = solve(spread.astype(complex))
            kernel = np.diag(1.0 / (1j * w * size)) + spread.T @ inner
            x = x - inner @ np.linalg.solve(kernel, spread.T @ x)
        u = np.asarray(T @ x.real)[:, 0] + 1j * np.asarray(T @ x.imag)[:, 0]
        found.append(_read_full(system, gauges, model, (u, w, load[row]), (ride, outside), (carried, ratios), rayleigh))
    return np.array(found)


def _read_full(
    system: System, gauges: GaugeSet, model: SteadyModel, state: tuple[Complex, float, Complex],
    loads: tuple[Floats, Floats], own: tuple[Floats, Floats], rayleigh: tuple[float, float] | None,
) -> Complex:  # fmt: skip
    """All channels of one complex amplitude of motion: its real and imaginary part are read as two fields."""
    (u, w, load), (ride, outside), (carried, ratios) = state, loads, own
    v, a = 1j * w * u, -(w**2) * u
    taken = system.damping @ v + (0.0 if model.loss is None else 1j * (model.loss @ u))
    if rayleigh is not None:
        taken = taken + rayleigh[0] * (system.mass @ v) + rayleigh[1] * (system.stiffness @ v)
    elif ratios.any():
        taken = taken + carried @ (ratios * (carried.T @ v))
    inner, absolute = u, a + load @ ride
    for k in model.reduced.apart:  # beside what moves relative to it, what follows groups of supports at rest
        s = -load[k] / w**2 * ride[k]
        u, v, a = u + s, v + 1j * w * s, a - w**2 * s
    field = (u, v, a, absolute)
    rows = tuple(np.stack([x.real, x.imag]) for x in field)
    balance = load @ outside - taken
    frame = (load[:3] / (1j * w), -load[:3] / w**2)
    values = read_fields(
        gauges, model.reduced, rows, np.stack([balance.real, balance.imag]),  # type: ignore[arg-type]
        (np.stack([frame[0].real, frame[0].imag]), np.stack([frame[1].real, frame[1].imag])),
    )  # fmt: skip
    lost = 0.0 if model.loss_map is None else 1j * (model.loss_map @ u)
    factor = ratios if rayleigh is None else np.full(model.modes, rayleigh[0])
    inside = passed_on(model.reduced, 1j * w * (carried.T @ inner), factor)
    return np.asarray(values[0] + 1j * values[1] + lost + inside)
