"""How conservative spectrum combination is: a pulse in time against every rule under the pulse's own spectra."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.describe.events import EventKind, TimeEvent
from holokine.errors import EventError
from holokine.excite.spectrum import ResponseSpectrum
from holokine.respond.combine import SpectrumResult, respond_spectrum
from holokine.respond.oscillators import Oscillators, cubic_extremes
from holokine.respond.rules import RULES
from holokine.sizes import afford

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.excite.pulse import BasePulse
    from holokine.respond.reduced import ReducedModel
    from holokine.respond.transient import TimeResult

__all__ = ["pulse_spectrum", "rules_under", "spectra_of_pulse", "under_every_rule"]

_STEPS = 64


def pulse_spectrum(pulse: BasePulse, axis: int, frequencies: Floats, damping: Floats) -> Floats:
    """Maximax pseudo-acceleration in m/s² of oscillators under a base pulse along one axis, shape (frequencies,).

    By the exact recurrence on 64 steps per period and all rows of the pulse; between steps the largest of the cubic
    through displacement and velocity (error of order (2π/64)⁴/384, 2e-7); after the pulse by two periods more.
    """
    result = np.empty(len(frequencies))
    for i, (f, zeta) in enumerate(zip(frequencies, damping, strict=True)):
        step = 1.0 / (f * _STEPS)
        time, load = _grid(pulse, axis, step, 2.0 / f)
        single = Oscillators(np.array([2.0 * np.pi * f]), np.array([zeta]), -np.ones((1, 1)))
        path = single.run(time, load[:, None])
        q, v, _ = single.motion(path.state, path.load)
        low, high = _extremes(time, q[:, 0], v[:, 0])
        result[i] = (2.0 * np.pi * f) ** 2 * max(high, -low)
    return result


def _grid(pulse: BasePulse, axis: int, step: float, after: float) -> tuple[Floats, Floats]:
    gaps = np.diff(pulse.time)
    afford((pulse.end - pulse.time[0] + after) / step, 8.0, "steps", "shorten the pulse", EventError, most=1e8)
    pieces = np.maximum(1, np.ceil(gaps / step - 1e-9)).astype(int)
    first = np.repeat(np.arange(len(gaps)), pieces)
    share = (np.arange(len(first)) - np.repeat(np.cumsum(pieces) - pieces, pieces) + 1) / pieces[first]
    a = pulse.acceleration[:, axis]
    tail = int(np.ceil(after / step))
    time = np.concatenate(
        [pulse.time[:1], pulse.time[first] + share * gaps[first], pulse.end + step * np.arange(1, tail + 1)]
    )
    load = np.concatenate([a[:1], a[first] + share * (a[first + 1] - a[first]), np.zeros(tail)])
    return time, load


def _extremes(time: Floats, q: Floats, v: Floats) -> tuple[float, float]:
    """Lowest and highest displacement; each run of equal steps by itself."""
    step = np.diff(time)
    edges = np.flatnonzero(np.abs(np.diff(step)) > 1e-6 * step.max()) + 1
    low, high = 0.0, 0.0
    for a, b in zip([0, *edges], [*edges, len(step)], strict=True):
        part = cubic_extremes(q[a : b + 1], v[a : b + 1] * step[a])
        low, high = min(low, part[0]), max(high, part[1])
    return low, high


def spectra_of_pulse(pulse: BasePulse, reduced: ReducedModel) -> dict[str, ResponseSpectrum]:
    """The pulse's own spectra along its directions, at the modes' frequencies and damping; held outside."""
    f = reduced.frequencies_hz
    order = np.argsort(f, kind="stable")
    keep = order[np.concatenate([[True], np.diff(f[order]) > 1e-9 * f[order][1:]])]
    result = {}
    for axis, name in enumerate("xyz"):
        if not pulse.moves[axis]:
            continue
        values = pulse_spectrum(pulse, axis, f[keep], reduced.damping[keep])
        grid = np.append(f[keep], 1.5 * f[keep][-1])
        result[name] = ResponseSpectrum(
            grid, np.append(values, pulse.peak[axis]), "linear", "hold", f"spectrum of the pulse, {name}"
        )  # fmt: skip
    return result


def under_every_rule(
    reduced: ReducedModel, spectra: dict[str, ResponseSpectrum], name: str
) -> dict[str, SpectrumResult]:
    """Answers by rule; the zero-period acceleration is the peak of the pulse. CQC is left out without damping."""
    rules = [r for r in RULES if r != "cqc" or (reduced.damping > 0).any()]
    return {rule: respond_spectrum(reduced, spectra, name=name, rule=rule) for rule in rules}


def rules_under(result: TimeResult, event: EventKind, name: str) -> dict[str, SpectrumResult]:
    """Answers under the spectra of a pulse by every rule, beside its answer in time.

    Raises
    ------
    EventError
        For an event that is not a base pulse alone.
    """
    if not isinstance(event, TimeEvent) or event.load_names or event.at_rest or not event.pulse:
        raise EventError(f'"{name}" is not a base pulse alone: name one, whose own spectra are then taken')
    if result.pulse.jumps:
        raise EventError(
            f'"{name}": the velocity of its base jumps, whose spectrum grows with frequency without end: no rule that '
            "needs an acceleration at zero period can be held against it"
        )
    return under_every_rule(result.reduced, spectra_of_pulse(result.pulse, result.reduced), name)
