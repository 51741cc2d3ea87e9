"""Response to spectra: mode by mode, then combined.

For mode i and direction d the largest modal coordinate is q = Γ S(f) / ω². Every channel is read mode by mode and only
then combined (`rules`). What the modes leave out answers with the zero-period acceleration (missing mass) and is
added as a term of its own: uncorrelated with the modes, or algebraically with their rigid parts.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import EventError, first_few
from holokine.findings import Finding, Level
from holokine.ranking import first_largest, ranked
from holokine.respond.meaning import COMBINED, Meaning
from holokine.respond.readout import Readout
from holokine.respond.reduced import ReducedModel, reading_noise
from holokine.respond.rules import (
    RULES,
    Beside,
    Combination,
    DirectionRule,
    Rule,
    Sources,
    cqc_correlation,
    rigid_share,
)

if TYPE_CHECKING:
    from collections.abc import Sequence

    from holokine.arrays import Floats
    from holokine.excite.spectrum import ResponseSpectrum
    from holokine.gauges.readings import Reading

__all__ = ["SpectrumResult", "respond_spectrum"]

MASS_THRESHOLD = 0.9
_BLOCK = 8_000_000  # numbers held at once when a field is combined
STEEP = 0.2
_FELT = 0.005  # of a reading: what close modes change by less is not worth a warning


@dataclass(frozen=True)
class SpectrumResult:
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
    def meaning(self) -> Meaning:
        """Of `peaks`."""
        return COMBINED

    def sizes(self, reading: Reading) -> Floats:
        """Combined size of a reading at each of its places, shape (places,)."""
        return self.sources.over(self._each(reading))

    @cached_property
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
        r = self.reduced.readings[reading]
        form = r.form.quadratic(r.width)
        if form is None:
            return np.full(self.reduced.count, np.nan), np.array([np.nan])
        place = first_largest(self.sources.over(self._each(r))) if r.form.field else 0
        own = list(r.at(place))
        mode, rest = np.zeros(self.reduced.count), 0.0
        for group in [[c] for c in own] if r.form.by_component else [own]:
            unit = form[: len(group), : len(group)]
            of_modes, of_rest = self.combination.shares(self.modal[:, :, group], self.missing[:, group], unit)
            mode, rest = mode + of_modes, rest + of_rest
        total = mode.sum() + rest
        scale = 1.0 / total if total > 0 else 0.0
        return mode * scale, np.array([rest * scale])

    def _each(self, reading: Reading) -> Floats:
        """Combined value at every place of a reading, shape (directions, places), in blocks of places."""
        form = reading.form.quadratic(reading.width)
        assert form is not None
        count, directions = self.modal.shape[:2]
        step = max(1, _BLOCK // (count * directions * reading.width))
        found = []
        for a in range(0, reading.count, step):
            part = reading.channels[a * reading.width : (a + step) * reading.width]
            own = slice(part.start, part.stop, part.step)
            values, missing = self.modal[:, :, own], self.missing[:, own]
            shape = (count, directions, -1, reading.width)
            if reading.width == 1:
                found.append(self.combination.combined(values, missing))
            elif reading.form.by_component:
                combined = self.combination.combined(values, missing).reshape(shape[1:])
                found.append(reading.form.value(combined))
            else:
                found.append(self.combination.form(values.reshape(shape), missing.reshape(shape[1:]), form))
        return np.concatenate(found, axis=1)

    def _filled(self) -> SpectrumResult:
        """With the peaks of every reading by the combination."""
        count = len(self.reduced.readings)
        peaks, settled = np.full(count, np.nan), np.zeros(count)
        by_direction, places = np.full((len(self.directions), count), np.nan), [""] * count
        still = _settled(self.reduced, self.sources, self.apart, self.modal)
        for number, reading in enumerate(self.reduced.readings):
            if reading.form.quadratic(reading.width) is None:
                continue
            # of fields the largest of the combined field, not a combination of largest
            each = self._each(reading)
            every = self.sources.over(each)
            by_direction[:, number] = each.max(axis=1)
            apart_there = np.zeros(len(every))
            if still is not None:
                apart_there = self.sources.over_apart(np.abs(reading.form.value(reading.parts(still))))
            total = self.with_settled(every, apart_there)
            best = first_largest(total)
            peaks[number], settled[number], places[number] = total[best], apart_there[best], reading.place(best)
        return replace(self, peaks=peaks, settled=settled, by_direction=by_direction, places=tuple(places))

    def by(self, rule: Rule) -> SpectrumResult:
        """The same modal values combined by another rule; all else as it is.

        Raises
        ------
        EventError
            CQC without damping.
        """
        r, c = self.reduced, self.combination
        _refuse_undamped(self.name, rule, r)
        usual = c.beside == ("absolute" if c.rule == "absolute" else "srss")
        made = Combination.make(
            rule, r.omega, r.damping, duration=c.duration, rigid=c.rigid, beside=None if usual else c.beside
        )
        return replace(self, rule=rule, combination=made, findings=())._filled()

    def by_rule(self) -> dict[Rule, Floats]:
        """Peaks by every rule that these modes allow, each of shape (readings,), SI."""
        result: dict[Rule, Floats] = {}
        for rule in RULES:
            if rule == self.rule:
                result[rule] = self.peaks
            elif rule != "cqc" or (self.reduced.damping > 0).any():
                result[rule] = self.by(rule).peaks
        return result

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
            if not reading.form.signed or not np.isfinite(self.peaks[number]):
                continue
            place = first_largest(self.sources.over(self._each(reading))) if reading.form.field else 0
            column = reading.channels[place]
            every = np.concatenate([self.modal[:, :, column].ravel(), self.missing[:, column]])
            result[number] = -1.0 if every[first_largest(np.abs(every))] < 0 else 1.0
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
    over_missing_mass: Beside | None = None,
) -> SpectrumResult:
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
    over_missing_mass : str, optional
        How the missing mass joins the combined modes, absolute or srss; by default absolute with the absolute sum of
        modes, else srss.
    groups : dict of str to tuple of str, optional
        By column: names of the supports in the group.

    Raises
    ------
    EventError
        A mode outside a table, CQC without damping, no direction.
    """
    if not spectra:
        raise EventError(f'event "{name}": no direction is excited', path=("events", name))
    _refuse_undamped(name, rule, reduced)
    sources = Sources(tuple(spectra), tuple(name[-1] for name in spectra), direction_rule, over_supports)
    directions = sources.results
    columns = [reduced.column(d) for d in spectra]
    f = reduced.frequencies_hz
    spectral = np.column_stack([s.at(f, reduced.damping) for s in spectra.values()])
    findings: list[Finding] = []
    told: list[tuple[str, Level, str]] = []  # by direction
    zpa = np.zeros(len(spectra))
    for i, d in enumerate(spectra):
        given = (zero_period or {}).get(d)
        zpa[i] = given if given is not None else spectra[d].acceleration[-1]
        if missing_mass and given is None:
            told.append((
                d, "note", f"the missing mass answers with the spectrum's last value, {zpa[i]:.4g} m/s² at "
                f"{spectra[d].frequency_hz[-1]:g} Hz",
            ))  # fmt: skip
        told += [(d, "warning", text) for text in _spectrum_findings(spectra[d], reduced, columns[i])]
        share = reduced.captured[columns[i]]
        if share < MASS_THRESHOLD:
            cure = "the missing-mass term answers for the rest" if missing_mass else "add modes or missing mass"
            told.append((
                d, "warning", f"the modes hold {100 * share:.1f} % of the free mass, below "
                f"{100 * MASS_THRESHOLD:.0f} %; {cure}",
            ))  # fmt: skip
    findings += by_direction(told)
    if not missing_mass:
        zpa[:] = 0.0
    coordinate = reduced.participation[:, columns] * spectral / (reduced.omega**2)[:, None]
    readout = Readout(reduced)
    modal = sources.gathered(coordinate, 1)[:, :, None] * readout.per_mode()[:, None, :]
    if rule in ("srss", "largest plus srss"):
        findings += _close_modes(rule, reduced, modal)
    missing = sources.gathered(readout.beside_modes(columns) * zpa[:, None], 0)
    untold = reduced.channels.is_absolute & (reduced.channels.order < 2)
    if untold.any():
        labels = sorted({b.gauge for b in reduced.channels.blocks if b.frame == "absolute" and b.order < 2})
        findings.append(Finding(
            "warning", f"absolute displacement and velocity cannot be had from a spectrum: {', '.join(labels)}; "
            "read them relative to ground (motion: relative)",
        ))  # fmt: skip
    rigid = None
    if rigid_between is not None:
        rigid = np.repeat(rigid_share(f, *rigid_between)[:, None], len(directions), axis=1)
    combination = Combination.make(rule, reduced.omega, reduced.damping, duration=duration, rigid=rigid,
                                   beside=over_missing_mass)  # fmt: skip
    count = len(reduced.readings)
    answer = SpectrumResult(
        reduced, name, directions, spectra, spectral, zpa, modal, missing, rule, direction_rule, np.full(count, np.nan),
        np.full((len(directions), count), np.nan), combination, (), (), sources, np.zeros(count), groups or {},
        apart or {}, over_displacement,
    )  # fmt: skip
    for reading in reduced.readings:
        if reading.form.quadratic(reading.width) is None:
            findings.append(Finding(
                "warning", f"principal stress has no meaning in a combined answer ({reading.gauge}): its direction "
                "differs from mode to mode; read the equivalent stress or components",
            ))  # fmt: skip
    return replace(answer._filled(), findings=tuple(findings))


def _refuse_undamped(name: str, rule: str, reduced: ReducedModel) -> None:
    if rule == "cqc" and (reduced.damping <= 0).all():
        raise EventError(
            f'event "{name}": CQC needs damping, and every mode has none; give damping or use srss',
            path=("events", name),
        )


def _settled(reduced: ReducedModel, sources: Sources, apart: dict[str, float], modal: Floats) -> Floats | None:
    """Channels of the assembly that follows each group of supports at its most, at rest, shape (sources, channels).

    None where no group moves apart; rounding beside the modes' values is off, and velocities and accelerations are
    zero.
    """
    if reduced.settled is None or not any(apart.values()):
        return None
    each = np.array([apart.get(name, 0.0) * reduced.settled[reduced.column(name)] for name in sources.names])
    largest: dict[str, float] = {}
    parts = list(zip(reduced.channels.blocks, reduced.channels.slices, strict=True))
    for block, own in parts:
        here = max(float(np.nan_to_num(np.abs(v)).max(initial=0.0)) for v in (modal[..., own], each[:, own]))
        largest[block.dimension] = max(largest.get(block.dimension, 0.0), here)
    for block, own in parts:
        each[:, own][np.abs(each[:, own]) < 1e-10 * largest[block.dimension]] = 0.0
    return np.where(reduced.channels.is_rate, 0.0, each)


def _close_modes(rule: str, reduced: ReducedModel, modal: Floats) -> list[Finding]:
    """Modes whose correlation a rule leaves out, those first whose cross term changes a reading most.

    `modal`: (modes, directions, channels).
    """
    f = reduced.frequencies_hz
    close = np.flatnonzero(np.diff(f) < 0.1 * f[:-1])
    if not len(close):
        return []
    correlation = cqc_correlation(reduced.omega, np.maximum(reduced.damping, 1e-6))
    square = np.nan_to_num((modal**2).sum(axis=0))
    loud = square > 1e-12 * square.max(initial=0.0)
    effect = np.zeros(len(close))
    for k, i in enumerate(close):
        cross = 2.0 * correlation[i, i + 1] * np.nan_to_num(np.abs(modal[i] * modal[i + 1]))
        effect[k] = np.sqrt(1.0 + float((cross[loud] / square[loud]).max(initial=0.0))) - 1.0
    text = (f"{len(close)} pair{'s' if len(close) > 1 else ''} of modes within 10 % of one another under {rule}, which "
            "leaves out how they act together")  # fmt: skip
    order = ranked(effect)
    felt = order[effect[order] >= _FELT]
    if not len(felt):
        return [Finding("note", f"{text}; none of them changes a reading by {100 * _FELT:g} %")]
    pairs = first_few((f"{close[k] + 1} and {close[k] + 2} (up to {100 * effect[k]:.0f} %)" for k in felt), 8)
    others = len(close) - len(felt)
    which = "other changes" if others == 1 else f"other {others} change"
    rest = f"; the {which} none by {100 * _FELT:g} %" if others else ""
    return [Finding(
        "warning", f"{text}; by what that changes in a reading: {pairs}{rest}. CQC takes their correlation in"
    )]  # fmt: skip


def by_direction(told: Sequence[tuple[str, Level, str]]) -> list[Finding]:
    """What holds of several directions alike, once."""
    together: dict[tuple[Level, str], list[str]] = {}
    for direction, level, text in told:
        together.setdefault((level, text), []).append(direction)
    return [Finding(level, f"{', '.join(names)}: {text}") for (level, text), names in together.items()]


def _spectrum_findings(spectrum: ResponseSpectrum, reduced: ReducedModel, axis: int) -> list[str]:
    """Modes outside the table, at its steep edges, and damping that is not the modes'."""
    f, found = reduced.frequencies_hz, []
    outside = (f < spectrum.frequency_hz[0]) | (f > spectrum.frequency_hz[-1])
    if outside.any():
        kept = [("pseudo-acceleration", "pseudo-velocity", "displacement")[p] for p in dict.fromkeys(spectrum.powers)]
        what = "count as zero" if spectrum.outside == "zero" else f"take its end values of {' and '.join(kept)}"
        found.append(f"{int(outside.sum())} modes lie outside the spectrum's table and {what}")
    if spectrum.damping is not None and not spectrum.levels:
        off = np.abs(reduced.damping - spectrum.damping) > 0.1 * max(spectrum.damping, 1e-3)
        if off.any():
            lo, hi = 100.0 * reduced.damping[off].min(), 100.0 * reduced.damping[off].max()
            shown = f"{lo:.3g} %" if hi - lo < 0.01 else f"{lo:.3g} to {hi:.3g} %"
            found.append(
                f"the spectrum is for {100 * spectrum.damping:.3g} % damping, {int(off.sum())} modes "
                f"have {shown}; give the spectrum at several damping levels"
            )
    held = reduced.participation[:, axis] ** 2 / max(float(reduced.free_mass[axis]), 1e-300)
    now = spectrum.at(f, reduced.damping)
    near = spectrum.held()
    change = np.stack([near.at(k * f, reduced.damping) / np.maximum(now, 1e-300) - 1.0 for k in (0.95, 1.05)])
    steep = np.flatnonzero((np.abs(change).max(axis=0) > STEEP) & (held >= 0.05))
    if len(steep):
        ranked = steep[np.argsort(-held[steep], kind="stable")]
        words = first_few(
            (
                f"mode {i + 1} at {f[i]:.4g} Hz ({100 * change[0, i]:+.0f} % / {100 * change[1, i]:+.0f} %)"
                for i in ranked
            ),
            8,
        )
        found.append(
            f"a shift of the frequency by -5 % / +5 % changes what the spectrum gives by more than "
            f"{100 * STEEP:.0f} %: {words}"
        )
    return found
