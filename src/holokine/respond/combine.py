"""Response to spectra: mode by mode, then combined.

For mode i and direction d the largest modal coordinate is q = Γ S(f) / ω². Every channel is read mode by mode
and only then combined: SRSS, CQC with unequal damping (Der Kiureghian 1981, eq. 13; Wilson, Der Kiureghian &
Bayo 1981), or the absolute sum. What the modes leave out answers with the zero-period acceleration (missing
mass) and is added as a term of its own, uncorrelated with the modes.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.excite.spectrum import ResponseSpectrum
from holokine.modes.check import Finding
from holokine.respond.fields import equivalent_form
from holokine.respond.reduced import ReducedModel, reading_noise

__all__ = ["SpectrumAnswer", "combine_modes", "cqc_correlation", "respond_spectrum"]

Floats = NDArray[Any]  # float64
Rule = Literal["srss", "cqc", "absolute"]
MASS_THRESHOLD = 0.9


def cqc_correlation(omega: Floats, damping: Floats) -> Floats:
    """Correlation of modes under wide-band excitation, shape (modes, modes).

    ρ_ij = 8 √(ζi ζj) (ζi + r ζj) r^{3/2} / ((1 - r²)² + 4 ζi ζj r (1 + r²) + 4 (ζi² + ζj²) r²), r = ωj / ωi
    (Der Kiureghian 1981, eq. 13).
    """
    r = omega[None, :] / omega[:, None]
    zi, zj = damping[:, None], damping[None, :]
    top = 8.0 * np.sqrt(zi * zj) * (zi + r * zj) * r**1.5
    bottom = (1.0 - r**2) ** 2 + 4.0 * zi * zj * r * (1.0 + r**2) + 4.0 * (zi**2 + zj**2) * r**2
    return top / bottom


def combine_modes(values: Floats, rule: Rule, correlation: Floats | None = None) -> Floats:
    """Combine modal values, shape (modes, ...), over the modes.

    Returns
    -------
    ndarray, shape (...)
        At least zero.
    """
    if rule == "absolute":
        return np.abs(values).sum(axis=0)
    if rule == "srss":
        return np.sqrt((values**2).sum(axis=0))
    if correlation is None:
        raise ValueError("cqc needs the correlation of the modes")
    flat = values.reshape(len(values), -1)
    total = np.einsum("ic,ic->c", flat, correlation @ flat)
    return np.sqrt(np.maximum(total, 0.0)).reshape(values.shape[1:])


@dataclass(frozen=True)
class SpectrumAnswer:
    """Answer to response spectra.

    Attributes
    ----------
    reduced : ReducedModel
    directions : tuple of str
        Excited directions.
    spectra : dict of str to ResponseSpectrum
    spectral : ndarray, shape (modes, directions)
        Pseudo-acceleration of each mode in m/s².
    zero_period : ndarray, shape (directions,)
        Acceleration in m/s² with which the missing mass answers.
    modal : ndarray, shape (modes, directions, channels)
        Largest value of each channel per mode, with the sign of the mode.
    missing : ndarray, shape (directions, channels)
        Missing-mass term.
    rule, direction_rule : str
    peaks : ndarray, shape (readings,)
        Combined, SI; NaN where a spectrum cannot tell.
    by_direction : ndarray, shape (directions, readings)
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
    direction_rule: Literal["srss", "absolute"]
    peaks: Floats
    by_direction: Floats
    correlation: Floats | None
    findings: tuple[Finding, ...]
    places: tuple[str, ...]

    @property
    def noise(self) -> Floats:
        """What is rounding only in each reading, shape (readings,)."""
        return reading_noise(self.reduced.readings, self.peaks)

    def shares(self, reading: int) -> tuple[Floats, Floats]:
        """Share of each mode, and of the missing mass, in the square of a reading.

        With CQC the cross terms of two modes are shared out evenly between them; shares sum to one and may
        be negative where a mode takes away. The absolute sum shares linearly. Of a field (largest fibre) the
        channel that governs is taken.

        Returns
        -------
        modes : ndarray, shape (modes,)
        missing : ndarray, shape (1,)
        """
        derived = self.reduced.readings[reading]
        columns = list(derived.channels)
        if derived.how == "largest":
            columns = [columns[int(np.nanargmax(self._channel_peaks(columns)))]]
        form = np.eye(len(columns)) if derived.how != "equivalent" else equivalent_form(derived.width)
        if derived.how == "equivalent":
            each = _equivalent(
                self.modal[:, :, columns], self.missing[:, columns], derived.width, self.rule, self.correlation
            )
            place = int(_over_directions(each, self.direction_rule).argmax())
            columns = columns[place * derived.width : (place + 1) * derived.width]
        values = self.modal[:, :, columns]
        rest = self.missing[:, columns]
        if self.rule == "absolute":
            mode_part = np.abs(values).sum(axis=(1, 2))
            rest_part = np.abs(rest).sum()
        else:
            weighted = values
            if self.rule == "cqc" and self.correlation is not None:
                weighted = np.tensordot(self.correlation, values, axes=1)
            mode_part = ((values @ form) * weighted).sum(axis=(1, 2))
            rest_part = ((rest @ form) * rest).sum()
        total = mode_part.sum() + rest_part
        scale = 1.0 / total if total > 0 else 0.0
        return mode_part * scale, np.array([rest_part * scale])

    def _channel_peaks(self, columns: list[int]) -> Floats:
        each = _with_missing(self.modal[:, :, columns], self.missing[:, columns], self.rule, self.correlation)
        return _over_directions(each, self.direction_rule)


def _with_missing(values: Floats, missing: Floats, rule: Rule, correlation: Floats | None) -> Floats:
    combined = combine_modes(values, rule, correlation)
    return combined + np.abs(missing) if rule == "absolute" else np.sqrt(combined**2 + missing**2)


def _over_directions(values: Floats, rule: str) -> Floats:
    return np.abs(values).sum(axis=0) if rule == "absolute" else np.sqrt((values**2).sum(axis=0))


def respond_spectrum(
    reduced: ReducedModel,
    spectra: dict[str, ResponseSpectrum],
    *,
    name: str = "spectrum",
    rule: Rule = "cqc",
    direction_rule: Literal["srss", "absolute"] = "srss",
    missing_mass: bool = True,
    zero_period: dict[str, float] | None = None,
) -> SpectrumAnswer:
    """Response of all gauges to spectra along one or more directions.

    Parameters
    ----------
    spectra : dict of str to ResponseSpectrum
        By direction x, y, z.
    zero_period : dict of str to float, optional
        Zero-period acceleration in m/s² by direction; the spectrum's last value where left out.

    Raises
    ------
    EventError
        A mode outside a table, CQC without damping, no direction.
    """
    if not spectra:
        raise EventError(f"{name}: no direction is excited")
    if rule == "cqc" and (reduced.damping <= 0).all():
        raise EventError(f"{name}: CQC needs damping, and every mode has none; give damping or use srss")
    directions = tuple(spectra)
    columns = ["xyz".index(d) for d in directions]
    f = reduced.frequencies_hz
    spectral = np.column_stack([spectra[d].at(f) for d in directions])
    findings: list[Finding] = []
    zpa = np.zeros(len(directions))
    for i, d in enumerate(directions):
        given = (zero_period or {}).get(d)
        zpa[i] = given if given is not None else spectra[d].acceleration[-1]
        if missing_mass and given is None:
            findings.append(Finding(
                "note", f"{d}: the missing mass answers with the spectrum's last value, {zpa[i]:.4g} m/s² at "
                f"{spectra[d].frequency_hz[-1]:g} Hz",
            ))  # fmt: skip
        outside = (f < spectra[d].frequency_hz[0]) | (f > spectra[d].frequency_hz[-1])
        if outside.any():
            findings.append(Finding(
                "warning", f"{d}: {int(outside.sum())} modes lie outside the spectrum's table; its end values "
                "are held for them",
            ))  # fmt: skip
        share = reduced.captured[columns[i]]
        if share < MASS_THRESHOLD:
            cure = "the missing-mass term answers for the rest" if missing_mass else "add modes or missing mass"
            findings.append(Finding(
                "warning", f"{d}: the modes hold {100 * share:.1f} % of the free mass, below "
                f"{100 * MASS_THRESHOLD:.0f} %; {cure}",
            ))  # fmt: skip
    if rule == "srss":
        close = np.flatnonzero(np.diff(f) < 0.1 * f[:-1])
        if len(close):
            pairs = ", ".join(f"{i + 1} and {i + 2}" for i in close[:5])
            findings.append(Finding(
                "warning", f"modes within 10 % of one another under SRSS: {pairs}; CQC takes their correlation in",
            ))  # fmt: skip
    if not missing_mass:
        zpa[:] = 0.0
    coordinate = reduced.participation[:, columns] * spectral / (reduced.omega**2)[:, None]
    order = np.array([c.order for c in reduced.channels], dtype=int)
    rate = np.where(order == 1, reduced.omega[:, None], np.where(order == 2, reduced.omega[:, None] ** 2, 1.0))
    per_unit = reduced.modal * rate
    damper = reduced.modal_damper * reduced.omega[:, None]
    per_unit = np.where(damper == 0.0, per_unit, np.hypot(per_unit, damper) * np.where(per_unit < 0, -1, 1))
    modal = coordinate[:, :, None] * per_unit[:, None, :]
    missing = reduced.residual[columns] * zpa[:, None]
    absolute = reduced.is_absolute & (order < 2)
    if absolute.any():
        labels = sorted({reduced.channels[i].gauge for i in np.flatnonzero(absolute)})
        findings.append(Finding(
            "warning", f"absolute displacement and velocity cannot be had from a spectrum: {', '.join(labels)}; "
            "read them relative to the frame",
        ))  # fmt: skip
        modal[:, :, absolute] = np.nan
    correlation = cqc_correlation(reduced.omega, reduced.damping) if rule == "cqc" else None
    channel = _with_missing(modal, missing, rule, correlation)
    by_direction = _readings(reduced, channel)
    peaks = _over_directions(by_direction, direction_rule)
    overall = _over_directions(channel, direction_rule)
    places = [""] * len(reduced.readings)
    for number, reading in enumerate(reduced.readings):
        columns = list(reading.channels)
        if reading.how == "largest":  # the largest of the combined field, not a combination of largest
            best = int(overall[columns].argmax())
            peaks[number] = overall[columns[best]]
            places[number] = reading.places[best] if reading.places else reduced.channels[columns[best]].place
        elif reading.how == "equivalent":
            each = _equivalent(modal[:, :, columns], missing[:, columns], reading.width, rule, correlation)
            by_direction[:, number] = each.max(axis=1)
            field = _over_directions(each, direction_rule)
            peaks[number], places[number] = field.max(), reading.places[int(field.argmax())]
        elif reading.how == "principal":
            peaks[number] = np.nan
            by_direction[:, number] = np.nan
            findings.append(Finding(
                "warning", f"principal stress has no meaning in a combined answer ({reading.gauge}): its direction "
                "differs from mode to mode; read the equivalent stress or components",
            ))  # fmt: skip
    return SpectrumAnswer(
        reduced, name, directions, spectra, spectral, zpa, modal, missing, rule, direction_rule,
        peaks, by_direction, correlation, tuple(findings), tuple(places),
    )  # fmt: skip


def _equivalent(values: Floats, missing: Floats, width: int, rule: Rule, correlation: Floats | None) -> Floats:
    """Equivalent stress by the quadratic form over pairs of modes, shape (directions, places).

    σ² = Σ_ij ρ_ij σ_iᵀ A σ_j with the rule's own correlation; the absolute rule adds each mode's equivalent
    stress. Never from combined components, which have lost their signs.
    """
    A = equivalent_form(width)
    count, directions, _ = values.shape
    stress = values.reshape(count, directions, -1, width)
    rest = missing.reshape(directions, -1, width)
    left_out = np.maximum(np.einsum("dpi,ij,dpj->dp", rest, A, rest), 0.0)
    if rule == "absolute":
        each = np.sqrt(np.maximum(np.einsum("mdpi,ij,mdpj->mdp", stress, A, stress, optimize=True), 0.0))
        return each.sum(axis=0) + np.sqrt(left_out)
    weighted = stress if rule == "srss" or correlation is None else np.tensordot(correlation, stress, axes=1)
    total = np.einsum("mdpi,mdpi->dp", stress @ A, weighted)
    return np.sqrt(np.maximum(total + left_out, 0.0))


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
