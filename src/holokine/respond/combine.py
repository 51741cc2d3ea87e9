"""Response to spectra: mode by mode, then combined.

For mode i and direction d the largest modal coordinate is q = Γ S(f) / ω². Every channel is read mode by mode and only
then combined (`rules`). What the modes leave out answers with the zero-period acceleration (missing mass) and is
added as a term of its own: uncorrelated with the modes, or algebraically with their rigid parts.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.stress import equivalent_form, equivalent_stress
from holokine.errors import EventError
from holokine.excite.spectrum import ResponseSpectrum
from holokine.gauges.channels import Derived
from holokine.modes.check import Finding
from holokine.respond.reduced import ReducedModel, reading_noise
from holokine.respond.rules import Combination, DirectionRule, Rule, Sources, rigid_share

__all__ = ["SpectrumAnswer", "respond_spectrum"]

Floats = NDArray[Any]  # float64
MASS_THRESHOLD = 0.9
STEEP = 0.2


@dataclass(frozen=True)
class SpectrumAnswer:
    """Answer to response spectra.

    Attributes
    ----------
    reduced : ReducedModel
    directions : tuple of str
        What results are combined from: excited directions, or groups of supports with their direction.
    sources : Sources
        Columns that are excited, and the rules over them.
    spectra : dict of str to ResponseSpectrum
        By source.
    spectral : ndarray, shape (modes, sources)
        Pseudo-acceleration of each mode in m/s².
    zero_period : ndarray, shape (sources,)
        Acceleration in m/s² with which the missing mass answers.
    modal : ndarray, shape (modes, directions, channels)
        Largest value of each channel per mode, with the sign of the mode.
    missing : ndarray, shape (directions, channels)
        Missing-mass term, with the sign that it has beside the modes.
    rule, direction_rule : str
    combination : Combination
        The rule with its correlation and rigid parts.
    peaks : ndarray, shape (readings,)
        Combined, SI; NaN where a spectrum cannot tell.
    by_direction : ndarray, shape (directions, readings)
    settled : ndarray, shape (readings,)
        Part of the peaks from groups of supports that move apart, at rest.
    groups : dict of str to tuple of str
        Supports of each source that is a group of them.
    apart : dict of str to float
        By source: the most by which the group may move from the others, in m; `over_displacement` adds what that
        strains to the peaks.
    findings : tuple of Finding
    """

    reduced: ReducedModel
    name: str
    directions: tuple[str, ...]
    spectra: dict[str, ResponseSpectrum]
    spectral: Floats
    zero_period: Floats
    modal: Floats
    missing: Floats
    rule: Rule
    direction_rule: DirectionRule
    peaks: Floats
    by_direction: Floats
    combination: Combination
    findings: tuple[Finding, ...]
    places: tuple[str, ...]
    sources: Sources
    settled: Floats
    groups: dict[str, tuple[str, ...]] = field(default_factory=dict)
    apart: dict[str, float] = field(default_factory=dict)
    over_displacement: str = "absolute"

    @property
    def noise(self) -> Floats:
        """What is rounding only in each reading, shape (readings,)."""
        return reading_noise(self.reduced.readings, self.peaks)

    def shares(self, reading: int) -> tuple[Floats, Floats]:
        """Share of each mode, and of the missing mass, in the square of a reading.

        Cross terms of two modes are shared out evenly between them; shares sum to one and may be negative where a
        mode takes away. Of a field (largest fibre) the channel that governs is taken; directions count as they add
        up under SRSS.

        Returns
        -------
        modes : ndarray, shape (modes,)
        missing : ndarray, shape (1,)
        """
        derived = self.reduced.readings[reading]
        columns = list(derived.channels)
        form = np.eye(len(columns))
        if derived.how == "largest":
            each = self.combination.combined(self.modal[:, :, columns], self.missing[:, columns])
            columns = [columns[int(np.nanargmax(self.sources.over(each)))]]
            form = np.eye(1)
        elif derived.how == "equivalent":
            form = equivalent_form(derived.width)
            each = self._equivalent(columns, derived.width)
            place = int(self.sources.over(each).argmax())
            columns = columns[place * derived.width : (place + 1) * derived.width]
        mode_part = np.zeros(self.reduced.count)
        rest_part = 0.0
        groups = [columns] if derived.how == "equivalent" else [[c] for c in columns]
        for group in groups:
            mode, rest = self.combination.shares(
                self.modal[:, :, group], self.missing[:, group], form if derived.how == "equivalent" else np.eye(1)
            )
            mode_part, rest_part = mode_part + mode, rest_part + rest
        total = mode_part.sum() + rest_part
        scale = 1.0 / total if total > 0 else 0.0
        return mode_part * scale, np.array([rest_part * scale])

    def _equivalent(self, columns: list[int], width: int) -> Floats:
        """Equivalent stress of places with `width` components each, shape (directions, places)."""
        count, directions = self.modal.shape[:2]
        return self.combination.form(
            self.modal[:, :, columns].reshape(count, directions, -1, width),
            self.missing[:, columns].reshape(directions, -1, width),
            equivalent_form(width),
        )

    def with_settled(self, values: Floats, settled: Floats) -> Floats:
        """Dynamic values and what groups of supports strain by standing apart, added by the answer's rule."""
        return values + settled if self.over_displacement == "absolute" else np.hypot(values, settled)

    def signs(self) -> Floats:
        """Sign of the mode (or missing mass) with the largest part in each reading, shape (readings,).

        For those who need values that could act together: peaks times these signs keep the pattern of what dominates.
        Magnitudes and equivalent stresses have none and stay positive.
        """
        result = np.ones(len(self.reduced.readings))
        for number, reading in enumerate(self.reduced.readings):
            if reading.how in ("magnitude", "equivalent", "principal") or not np.isfinite(self.peaks[number]):
                continue
            columns = list(reading.channels)
            if reading.how == "largest":
                each = self.combination.combined(self.modal[:, :, columns], self.missing[:, columns])
                columns = [columns[int(self.sources.over(each).argmax())]]
            every = np.concatenate([self.modal[:, :, columns[0]].ravel(), self.missing[:, columns[0]]])
            result[number] = -1.0 if every[np.abs(every).argmax()] < 0 else 1.0
        return result


def respond_spectrum(
    reduced: ReducedModel,
    spectra: dict[str, ResponseSpectrum],
    *,
    name: str = "spectrum",
    rule: Rule = "cqc",
    direction_rule: DirectionRule = "srss",
    missing_mass: bool = True,
    zero_period: dict[str, float] | None = None,
    rigid_between: tuple[float, float] | None = None,
    duration: float = 10.0,
    over_supports: str = "absolute",
    apart: dict[str, float] | None = None,
    groups: dict[str, tuple[str, ...]] | None = None,
    over_displacement: str = "absolute",
) -> SpectrumAnswer:
    """Response of all gauges to spectra along one or more directions.

    Parameters
    ----------
    spectra : dict of str to ResponseSpectrum
        By direction x, y, z; or by column of a model `at_supports`, whose names end in the direction.
    zero_period : dict of str to float, optional
        Zero-period acceleration in m/s² by direction; the spectrum's last value where left out.
    rigid_between : tuple of float, optional
        Frequencies in Hz from which modes begin to move in phase with the base, and from which they do so wholly
        (the zero-period frequency): that part is combined algebraically, with the missing mass.
    duration : float
        Of the motion in s, for the double sum.
    over_supports : str
        Rule over groups of supports along one direction: absolute, srss or algebraic.
    apart : dict of str to float, optional
        By column: the most by which the group may move, in m. What the assembly takes from that at rest is added over
        groups absolutely, over directions by their rule, and to the peaks by `over_displacement` (absolute or srss).
    groups : dict of str to tuple of str, optional
        By column: names of the supports in the group.

    Raises
    ------
    EventError
        A mode outside a table, CQC without damping, no direction.
    """
    if not spectra:
        raise EventError(f"{name}: no direction is excited")
    if rule == "cqc" and (reduced.damping <= 0).all():
        raise EventError(f"{name}: CQC needs damping, and every mode has none; give damping or use srss")
    sources = Sources(tuple(spectra), tuple(name[-1] for name in spectra), direction_rule, over_supports)
    directions = sources.results
    columns = [reduced.column(d) for d in spectra]
    f = reduced.frequencies_hz
    spectral = np.column_stack([s.at(f, reduced.damping) for s in spectra.values()])
    findings: list[Finding] = []
    zpa = np.zeros(len(spectra))
    for i, d in enumerate(spectra):
        given = (zero_period or {}).get(d)
        zpa[i] = given if given is not None else spectra[d].acceleration[-1]
        if missing_mass and given is None:
            findings.append(Finding(
                "note", f"{d}: the missing mass answers with the spectrum's last value, {zpa[i]:.4g} m/s² at "
                f"{spectra[d].frequency_hz[-1]:g} Hz",
            ))  # fmt: skip
        findings += _spectrum_findings(d, spectra[d], reduced, columns[i])
        share = reduced.captured[columns[i]]
        if share < MASS_THRESHOLD:
            cure = "the missing-mass term answers for the rest" if missing_mass else "add modes or missing mass"
            findings.append(Finding(
                "warning", f"{d}: the modes hold {100 * share:.1f} % of the free mass, below "
                f"{100 * MASS_THRESHOLD:.0f} %; {cure}",
            ))  # fmt: skip
    if rule in ("srss", "largest plus srss"):
        close = np.flatnonzero(np.diff(f) < 0.1 * f[:-1])
        if len(close):
            pairs = ", ".join(f"{i + 1} and {i + 2}" for i in close[:5])
            findings.append(Finding(
                "warning", f"modes within 10 % of one another under {rule}: {pairs}; CQC takes their correlation in",
            ))  # fmt: skip
    if not missing_mass:
        zpa[:] = 0.0
    coordinate = reduced.participation[:, columns] * spectral / (reduced.omega**2)[:, None]
    order = np.array([c.order for c in reduced.channels], dtype=int)
    rate = np.where(order == 1, reduced.omega[:, None], np.where(order == 2, reduced.omega[:, None] ** 2, 1.0))
    per_unit = reduced.modal * rate
    damper = reduced.modal_damper * reduced.omega[:, None]
    per_unit = np.where(damper == 0.0, per_unit, np.hypot(per_unit, damper) * np.where(per_unit < 0, -1, 1))
    modal = sources.gathered(coordinate, 1)[:, :, None] * per_unit[:, None, :]
    # the modes' coordinates stand for a base that moves the other way: relative motion and forces change sign
    forward = reduced.is_absolute & (order == 2)
    missing = sources.gathered(reduced.residual[columns] * np.where(forward, 1.0, -1.0) * zpa[:, None], 0)
    absolute = reduced.is_absolute & (order < 2)
    if absolute.any():
        labels = sorted({reduced.channels[i].gauge for i in np.flatnonzero(absolute)})
        findings.append(Finding(
            "warning", f"absolute displacement and velocity cannot be had from a spectrum: {', '.join(labels)}; "
            "read them relative to the frame",
        ))  # fmt: skip
        modal[:, :, absolute] = np.nan
    rigid = None
    if rigid_between is not None:
        rigid = np.repeat(rigid_share(f, *rigid_between)[:, None], len(directions), axis=1)
    combination = Combination.make(rule, reduced.omega, reduced.damping, duration=duration, rigid=rigid)
    channel = combination.combined(modal, missing)
    by_direction = _readings(reduced, channel)
    peaks = sources.over(by_direction)
    overall = sources.over(channel)
    places = [""] * len(reduced.readings)
    answer = SpectrumAnswer(
        reduced, name, directions, spectra, spectral, zpa, modal, missing, rule, direction_rule,
        peaks, by_direction, combination, (), (), sources, np.zeros(len(reduced.readings)), groups or {},
        apart or {}, over_displacement,
    )  # fmt: skip
    still = _settled(reduced, sources, apart or {}, np.abs(overall))
    settled = np.zeros(len(reduced.readings))
    for number, reading in enumerate(reduced.readings):
        columns = list(reading.channels)
        if reading.how == "principal":
            peaks[number] = np.nan
            by_direction[:, number] = np.nan
            findings.append(Finding(
                "warning", f"principal stress has no meaning in a combined answer ({reading.gauge}): its direction "
                "differs from mode to mode; read the equivalent stress or components",
            ))  # fmt: skip
            continue
        # of fields the largest of the combined field, not a combination of largest
        every = peaks[[number]]
        if reading.how == "largest":
            every = overall[columns]
        elif reading.how == "equivalent":
            each = answer._equivalent(columns, reading.width)
            by_direction[:, number] = each.max(axis=1)
            every = sources.over(each)
        apart_there = np.zeros(len(every)) if still is None else _apart_sizes(still[:, columns], reading, sources)
        total = answer.with_settled(every, apart_there)
        best = int(total.argmax())
        peaks[number], settled[number] = total[best], apart_there[best]
        if reading.how in ("largest", "equivalent"):
            places[number] = reading.places[best] if reading.places else reduced.channels[columns[best]].place
    return replace(answer, findings=tuple(findings), places=tuple(places), settled=settled)


def _settled(reduced: ReducedModel, sources: Sources, apart: dict[str, float], beside: Floats) -> Floats | None:
    """Channels of the assembly that follows each group of supports at its most, at rest, shape (sources, channels).

    None where no group moves apart; rounding beside the dynamic values is off, and velocities and accelerations are
    zero.
    """
    if reduced.settled is None or not any(apart.values()):
        return None
    each = np.array([apart.get(name, 0.0) * reduced.settled[reduced.column(name)] for name in sources.names])
    moving = np.array([c.order > 0 for c in reduced.channels], dtype=bool)
    largest: dict[str, float] = {}
    for k, channel in enumerate(reduced.channels):
        here = max(float(np.nan_to_num(beside[k])), float(np.abs(each[:, k]).max()))
        largest[channel.dimension] = max(largest.get(channel.dimension, 0.0), here)
    noise = np.array([1e-10 * largest[c.dimension] for c in reduced.channels])
    return np.where(moving | (np.abs(each) < noise), 0.0, each)


def _apart_sizes(each: Floats, reading: Derived, sources: Sources) -> Floats:
    """Sizes from sources' channels, (sources, channels), added over groups and directions: one, or one per place."""
    if reading.how == "magnitude":
        each = np.linalg.norm(each, axis=1)[:, None]
    elif reading.how == "equivalent":
        each = equivalent_stress(each.reshape(len(each), -1, reading.width))
    return sources.over_apart(np.abs(each))


def _spectrum_findings(d: str, spectrum: ResponseSpectrum, reduced: ReducedModel, axis: int) -> list[Finding]:
    """Modes outside the table, at its steep edges, and damping that is not the modes'."""
    f, found = reduced.frequencies_hz, []
    outside = (f < spectrum.frequency_hz[0]) | (f > spectrum.frequency_hz[-1])
    if outside.any():
        what = "count as zero" if spectrum.outside == "zero" else "take its end values"
        found.append(Finding("warning", f"{d}: {int(outside.sum())} modes lie outside the spectrum's table and {what}"))
    if spectrum.damping is not None and not spectrum.levels:
        off = np.abs(reduced.damping - spectrum.damping) > 0.1 * max(spectrum.damping, 1e-3)
        if off.any():
            lo, hi = 100.0 * reduced.damping[off].min(), 100.0 * reduced.damping[off].max()
            shown = f"{lo:.3g} %" if hi - lo < 0.01 else f"{lo:.3g} to {hi:.3g} %"
            found.append(Finding(
                "warning", f"{d}: the spectrum is for {100 * spectrum.damping:.3g} % damping, {int(off.sum())} modes "
                f"have {shown}; give the spectrum at several damping levels",
            ))  # fmt: skip
    held = reduced.participation[:, axis] ** 2 / max(float(reduced.free_mass[axis]), 1e-300)
    now = spectrum.at(f, reduced.damping)
    near = spectrum.held()
    change = np.stack([near.at(k * f, reduced.damping) / np.maximum(now, 1e-300) - 1.0 for k in (0.95, 1.05)])
    steep = np.flatnonzero((np.abs(change).max(axis=0) > STEEP) & (held >= 0.05))
    if len(steep):
        words = ", ".join(
            f"mode {i + 1} at {f[i]:.4g} Hz ({100 * change[0, i]:+.0f} % / {100 * change[1, i]:+.0f} %)"
            for i in steep[:4]
        )
        found.append(Finding(
            "warning", f"{d}: a shift of the frequency by -5 % / +5 % changes what the spectrum gives by more than "
            f"{100 * STEEP:.0f} %: {words}",
        ))  # fmt: skip
    return found


def _readings(reduced: ReducedModel, channel: Floats) -> Floats:
    """Readings from combined channels, shape (..., channels) to (..., readings)."""
    result = np.zeros((*channel.shape[:-1], len(reduced.readings)))
    for number, reading in enumerate(reduced.readings):
        part = channel[..., list(reading.channels)]
        if reading.how in ("equivalent", "principal"):
            continue
        if reading.how == "magnitude":
            result[..., number] = np.sqrt((part**2).sum(axis=-1))
        else:
            result[..., number] = part.max(axis=-1)
    return result
