"""Random vibration: mean squares of all readings by exact integration of modal pairs over pieces of densities.

Every channel is a sum of partial fractions of the damped modes' poles (and a constant, where the base or what was left
out rides along), so that variance, moments of the spectrum and covariances of components are quadratic forms in one
matrix of integrals (`moments`); close modes, coupled dampers and loss factors are within it. Equivalent stress has the
mean square of its quadratic form under the covariance of the components (Segalman, Fulcher, Reese & Field, Sandia
report SAND98-0260, 1998), and the percentile of the distribution of that form.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from math import erfc, gamma, sqrt
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError, first_few
from holokine.excite.density import PowerPieces, crossed
from holokine.excite.harmonic import Felt
from holokine.ranking import first_largest
from holokine.respond.moments import FeatureSpace
from holokine.respond.reduced import ReducedModel, reading_noise
from holokine.respond.steady import SteadyModel, SteadyReadout

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from holokine.arrays import Complex, Floats, Ints
    from holokine.findings import Finding
    from holokine.gauges.readings import Reading
    from holokine.respond.meaning import Meaning
    from holokine.system.loads import LoadField

__all__ = [
    "FatigueLine",
    "Look",
    "RandomReader",
    "RandomResult",
    "Source",
    "dirlik",
    "exceeded",
    "largest_expected",
    "quadratic_percentile",
    "respond_random",
    "root_of",
]

_PLACES = 4000  # channels read at once
_MOMENTS = (0, 1, 2, 4)
EULER = 0.5772156649015329


@dataclass(frozen=True)
class Source:
    """What acts, and on what: a column of the reduced model with its density (one-sided, per Hz)."""

    column: str
    density: PowerPieces
    stated: float | None = None
    acts: Literal["base", "supports", "load"] = "load"

    @property
    def words(self) -> str:
        """Such as `base z`; a load by its name."""
        return self.column if self.acts == "load" else f"{self.acts} {self.column}"


@dataclass(frozen=True)
class FatigueLine:
    """amplitude^slope × cycles = constant; `amplitude` in Pa for `cycles`, where damage is told."""

    slope: float
    amplitude: float | None = None
    cycles: float | None = None


@dataclass(frozen=True)
class Look:
    """A reading at one place.

    Attributes
    ----------
    covariance : ndarray, shape (components, components)
    moments : ndarray, shape (4,)
        Of the density of its quadratic form, ∫ f^n S df for n = 0, 1, 2, 4.
    shares : ndarray, shape (coordinates,)
        Of every coordinate in the mean square, with half of each cross term.
    rest : float
        Share of what acts besides.
    """

    covariance: Floats
    moments: Floats
    shares: Floats
    rest: float


class _Features:
    """Motion under one unit source, its rows being features in place of frequencies; see `readout.Motion`."""

    def __init__(
        self, space: FeatureSpace, poles: Complex, held: Complex, weights: Floats, column: int, felt: list[Felt],
        r: ReducedModel,
    ) -> None:  # fmt: skip
        """Of a unit of a column's acceleration; `held`, `weights`: of all columns, (loads, ...)."""
        n, rows = len(poles), space.count
        one = 1.0 / (2j * np.pi)  # 1 / (s - s_k) = 1 / 2πi · 1 / (f - z_k)
        at = {p: n + k for k, p in enumerate(space.powers)}
        self.q = np.zeros((rows, held.shape[2]), dtype=complex)
        self.v, self.a = np.zeros_like(self.q), np.zeros_like(self.q)
        self.load = np.zeros((rows, len(r.loads)), dtype=complex)
        self.s = np.zeros_like(self.q)
        itself = Felt(r.loads[column], r.loads[column], 0)
        for f in (itself, *felt):
            k = r.loads.index(f.column)
            R, p = f.factor * held[k] * poles[:, None] ** f.power, f.power
            self.q[:n] += one * R
            self.v[:n] += one * poles[:, None] * R
            self.a[:n] += one * poles[:, None] ** 2 * R
            self.load[at[p], k] += f.factor * one**-p
            if p == 0:
                self.a[at[0]] = weights[k]  # so that the constant of the balance is (-Γ - w) / ω² = 0
                continue
            self.q[at[-1]] -= one * R.sum(axis=0)  # what H(s) / s, H(s) / s² have beside the poles
            self.s[at[p]] += one**-p * f.factor * weights[k] / r.omega**2
            if p == -2:
                self.q[at[-2]] -= one**2 * (poles[:, None] * R).sum(axis=0)
                self.v[at[-1]] -= one * (poles[:, None] * R).sum(axis=0)
        self.s[:n] = -self.a[:n] / r.omega**2
        self.base_velocity, self.base_displacement = np.zeros_like(self.load), np.zeros_like(self.load)
        if len(space.powers) > 1:
            self.base_velocity[at[-1], column] = one
            self.base_displacement[at[-2], column] = one**2

    def coordinate(self, which: int) -> Complex:
        """By the number that `Readout.which` gives."""
        return self.s - self.q if which == 4 else np.asarray(getattr(self, "qvas"[which]))

    def product(self, which: int, weights: Floats) -> Complex:
        """A coordinate times weights of the modes."""
        return np.asarray(self.coordinate(which) @ weights)


class RandomReader:
    """Reads mean squares, covariances, moments and densities of channels.

    Attributes
    ----------
    model : SteadyModel
    sources : tuple of Source
    together : ndarray, shape (sources, sources), complex
        √coherence with its phase.
    readout : SteadyReadout
    """

    def __init__(
        self, model: SteadyModel, sources: tuple[Source, ...], together: Complex, correct: bool = True,
        felt: tuple[Felt, ...] = (),
    ) -> None:  # fmt: skip
        self.model, self.sources, self.together, self.correct = model, sources, together, correct
        self.readout = SteadyReadout(model, correct)
        r = model.reduced
        weights = -r.participation
        poles, held = model.vibration.fractions(weights)
        self.poles = poles
        self.space = FeatureSpace(poles, (0, -1, -2) if self.readout.needs_frame else (0,))
        self.felt = felt
        self.motions = [
            _Features(self.space, poles, held, weights.T, r.column(s.column), [f for f in felt if f.of == s.column], r)
            for s in sources
        ]
        self._grams: dict[float, Complex] = {}

    @property
    def reduced(self) -> ReducedModel:
        """With static shapes beside the modes."""
        return self.model.reduced

    def gram(self, power: float = 0.0) -> Complex:
        """∫ f^power S_jk φ_a φ̄_b df of all sources and features, shape (sources features,) twice."""
        if power not in self._grams:
            n, count = len(self.sources), self.space.count
            whole = np.zeros((n, count, n, count), dtype=complex)
            for j, one in enumerate(self.sources):
                for k in range(j, n):
                    factor = self.together[j, k]
                    pieces = one.density if k == j else crossed(one.density, self.sources[k].density)
                    if factor == 0.0 or pieces is None:
                        continue
                    block = factor * self.space.gram(pieces, power)
                    whole[j, :, k] = block
                    if k != j:
                        whole[k, :, j] = block.conj().T
            self._grams[power] = whole.reshape(n * count, n * count)
        return self._grams[power]

    def features(self, columns: Any) -> Complex:
        """What channels have of the features under each source, shape (sources features, columns)."""
        return np.concatenate([self.readout.read(m, columns) for m in self.motions])

    @cached_property
    def root(self) -> Floats:
        """B with BᵀB = covariance of modal displacements, loads and displacements of groups, shape (rank, of these)."""
        return root_of(self.coordinates_covariance("q"))

    def slow_weights(self, columns: Any) -> Floats:
        """What channels that read displacements take of the coordinates of `root`, shape (coordinates, columns)."""
        r, apart = self.reduced, list(self.reduced.apart)
        groups = [] if r.settled is None else [r.settled[apart][:, columns]]
        return np.vstack([r.modal[:, columns], self.readout.per_load(columns), *groups])

    def coordinates_covariance(self, which: str, power: float = 0.0) -> Floats:
        """Covariance of a modal coordinate (q, v, a) and of what acts, real; with q also of displacements of groups."""
        apart = list(self.reduced.apart) if which == "q" else []
        X = np.concatenate([
            np.hstack([getattr(m, which), m.load, *([m.base_displacement[:, apart]] if apart else [])])
            for m in self.motions
        ])  # fmt: skip
        return np.asarray((X.T @ (self.gram(power) @ X.conj())).real)

    def covariance(self, columns: Any, power: float = 0.0) -> Floats:
        """Covariance of some channels (times f^power), shape (columns, columns), real."""
        R = self.features(columns)
        return np.asarray((R.T @ (self.gram(power) @ R.conj())).real)

    def _is_slow(self, columns: Any) -> bool:
        """Whether channels read modal displacements only."""
        own, r = self.readout, self.reduced
        return not (
            own.which[columns].any() or own.damped[columns].any() or r.channels.is_absolute[columns].any()
            or own.on_rate is not None or own.on_loss is not None
        )  # fmt: skip

    def squares(self, reading: Reading) -> Floats:
        """Mean square at each place of a reading, by its quadratic form; NaN where it has none, shape (places,)."""
        half = half_form(reading)
        if half is None:
            return np.full(reading.count, np.nan)
        found, width = [], reading.width
        root = self.root if self._is_slow(reading.columns) else None
        for a in range(0, reading.count, _PLACES):
            own = reading.channels[a * width : min(a + _PLACES, reading.count) * width]
            columns = slice(own.start, own.stop, own.step)
            if root is not None:
                W = self.slow_weights(columns)
                W = (W.reshape(len(W), -1, width) @ half.T).reshape(len(W), -1)
                square = np.square(root @ W).sum(axis=0)
            else:
                R = self.features(columns)
                R = (R.reshape(len(R), -1, width) @ half.T).reshape(len(R), -1)
                square = (R * (self.gram() @ R.conj())).sum(axis=0).real
            found.append(square.reshape(-1, len(half)).sum(axis=1))
        return np.maximum(np.concatenate(found), 0.0) if found else np.zeros(0)

    def looks(self, chosen: Sequence[tuple[Reading, int]]) -> Iterator[Look]:
        """Readings with a quadratic form, each at one of its places; read and multiplied many at once, in order."""
        first = 0
        while first < len(chosen):
            last, width = first + 1, chosen[first][0].width
            while last < len(chosen) and width + chosen[last][0].width <= _PLACES:
                width += chosen[last][0].width
                last += 1
            yield from self._looks(chosen[first:last])
            first = last

    def _looks(self, chosen: Sequence[tuple[Reading, int]]) -> Iterator[Look]:
        columns = np.concatenate([np.array(reading.at(place)) for reading, place in chosen])
        ends = np.cumsum([reading.width for reading, _ in chosen])
        own = [slice(e - reading.width, e) for e, (reading, _) in zip(ends.tolist(), chosen, strict=True)]
        R = self.features(columns)
        products = [self.gram(power) @ R.conj() for power in _MOMENTS]
        # of what reads displacements only the covariance is a square of real numbers, which keeps small ones exact
        slow = self.root @ self.slow_weights(columns)
        weighed, covariances, moments = np.empty_like(R), [], []
        for (reading, _), at in zip(chosen, own, strict=True):
            half = half_form(reading)
            assert half is not None
            form = half.T @ half
            several = [(R[:, at].T @ product[:, at]).real for product in products]
            if self._is_slow(reading.columns):
                several[0] = slow[:, at].T @ slow[:, at]
            covariances.append(several[0])
            moments.append(np.array([(form * each).sum() for each in several]))
            weighed[:, at] = products[0][:, at] @ form
        by_coordinate = self._by_coordinate(columns, weighed)
        for at, covariance, moment in zip(own, covariances, moments, strict=True):
            part = by_coordinate[:, at].sum(axis=1)
            whole = float(moment[0])
            if whole > 0.0:
                yield Look(covariance, moment, part / whole, 1.0 - float(part.sum()) / whole)
            else:
                yield Look(covariance, moment, part, 0.0)

    def _by_coordinate(self, columns: Ints, weighed: Complex) -> Floats:
        """What each coordinate adds to mean squares, of which `weighed` is the derivative, (coordinates, columns)."""
        r, own, count = self.reduced, self.readout, self.space.count
        speed = r.modal_damper[:, columns] + (0.0 if own.on_rate is None else own.on_rate[:, columns])
        found = np.zeros((r.count, len(columns)))
        for j, motion in enumerate(self.motions):
            part = weighed[j * count : (j + 1) * count]
            for kind in np.unique(own.which[columns]):
                use = own.which[columns] == kind
                found[:, use] += (motion.coordinate(int(kind)).T @ part[:, use]).real * r.modal[:, columns[use]]
            if speed.any():
                found += (motion.v.T @ part).real * speed
            if own.on_loss is not None:
                found += (1j * (motion.q.T @ part)).real * own.on_loss[:, columns]
        return found

    def density(self, reading: Reading, place: int, f: Floats) -> Floats:
        """Density of a reading at a place (of its quadratic form), shape (frequencies,), per Hz."""
        half = half_form(reading)
        if half is None:
            return np.full(len(f), np.nan)
        values = self.space.at(f)
        R = (self.features(np.array(reading.at(place))) @ half.T).reshape(len(self.sources), self.space.count, -1)
        H = np.einsum("fk,jkc->jfc", values, R)
        result = np.zeros(len(f))
        for j, one in enumerate(self.sources):
            for k, other in enumerate(self.sources):
                if self.together[j, k] != 0.0:
                    size = np.sqrt(one.density.at(f) * other.density.at(f))
                    result += (self.together[j, k] * (H[j] * H[k].conj()).sum(axis=1)).real * size
        return np.maximum(result, 0.0)


def half_form(reading: Reading) -> Floats | None:
    """A with value² = |A parts|², shape (rank, width); None where the value is no quadratic form."""
    Q = reading.form.quadratic(reading.width)
    if Q is None:
        return None
    values, vectors = np.linalg.eigh(Q)
    keep = values > 1e-12 * values.max(initial=0.0)
    return np.asarray((vectors[:, keep] * np.sqrt(values[keep])).T)


def root_of(C: Floats) -> Floats:
    """B with BᵀB = C for a covariance, shape (rank, size)."""
    # as correlations: displacements of stiff modes are 1e-10 of the accelerations that stand beside them
    size = np.sqrt(np.maximum(np.diag(C), 0.0))
    size[size == 0.0] = 1.0
    values, vectors = np.linalg.eigh(0.5 * (C + C.T) / np.outer(size, size))
    keep = values > 1e-18 * max(float(values.max(initial=0.0)), 0.0)
    return np.asarray((vectors[:, keep] * np.sqrt(values[keep])).T * size)


@dataclass(frozen=True)
class RandomResult:
    """Answer to random vibration.

    Attributes
    ----------
    reduced : ReducedModel
    name : str
    reader : RandomReader
    meaning : Meaning
        Of `peaks`: so many RMS, or the expected largest over the duration.
    duration : float or None
        s.
    rms : ndarray, shape (readings,)
        SI; of fields the largest of all places. NaN where a reading is no quadratic form.
    peaks : ndarray, shape (readings,)
        As `meaning` says, of Gaussian readings; of the others the value that is exceeded as rarely as that of a
        Gaussian reading with their rate.
    governing : ndarray of int, shape (readings,)
    places : tuple of str
    moments : ndarray, shape (readings, 4)
        ∫ f^n S df for n = 0, 1, 2, 4.
    gaussian : ndarray of bool, shape (readings,)
    one_mode : ndarray, shape (readings,)
        RMS by the mode that has most of it alone (Miles, J. Aeronaut. Sci. 21 (1954) 753-762).
    main_mode : ndarray of int, shape (readings,)
        Row of that mode.
    main_share : ndarray, shape (readings,)
    fatigue : FatigueLine or None
    acting : tuple of LoadField
    findings : tuple of Finding
    """

    reduced: ReducedModel
    name: str
    reader: RandomReader
    meaning: Meaning
    duration: float | None
    rms: Floats
    peaks: Floats
    governing: NDArray[Any]
    places: tuple[str, ...]
    moments: Floats
    gaussian: NDArray[np.bool_]
    one_mode: Floats
    main_mode: NDArray[Any]
    main_share: Floats
    fatigue: FatigueLine | None = None
    acting: tuple[LoadField, ...] = ()
    findings: tuple[Finding, ...] = ()

    def sizes(self, reading: Reading) -> Floats:
        """Three RMS of a reading at each of its places, shape (places,)."""
        return np.asarray(3.0 * np.sqrt(self.reader.squares(reading)))

    @property
    def noise(self) -> Floats:
        """What is rounding only, shape (readings,)."""
        return reading_noise(self.reduced.readings, self.rms)

    @cached_property
    def crossings_hz(self) -> Floats:
        """Mean rate of crossings of zero upwards, of Gaussian readings; NaN for others (Rice 1945)."""
        m0, m2 = self.moments[:, 0], self.moments[:, 2]
        rate = np.sqrt(np.divide(m2, m0, out=np.zeros_like(m0), where=m0 > 0.0))
        return np.where(self.gaussian & (m0 > 0.0), rate, np.nan)

    @property
    def expected_largest(self) -> Floats:
        """Mean of the largest over the duration, of Gaussian readings (Davenport 1964); NaN without a duration."""
        if self.duration is None:
            return np.full(len(self.rms), np.nan)
        return self.rms * largest_expected(self.crossings_hz * self.duration)


def largest_expected(cycles: Floats) -> Floats:
    """Mean of the largest of n cycles over the RMS, √(2 ln n) + 0.5772 / √(2 ln n) (Davenport, Proc. ICE 1964)."""
    with np.errstate(divide="ignore", invalid="ignore"):
        root = np.sqrt(2.0 * np.log(np.asarray(cycles, dtype=float)))
        return np.where(np.asarray(cycles) > 2.0, root + EULER / root, np.nan)


def exceeded(times: float) -> float:
    """Share of time for which a Gaussian lies beyond so many RMS, to either side."""
    return erfc(times / sqrt(2.0))


def quadratic_percentile(covariance: Floats, times: float) -> float:
    """Value that √(Σ xᵢ²) exceeds as rarely as one Gaussian exceeds so many RMS, for Gaussian x with a covariance.

    The tail by inversion of the moment generating function on a contour of steepest descent (Rice, SIAM J. Sci.
    Stat. Comput. 1 (1980) 438-448).
    """
    from scipy.optimize import brentq

    values = np.linalg.eigvalsh(covariance)
    top = float(values.max(initial=0.0))
    if top <= 0.0:
        return 0.0
    lam = values[values > 1e-10 * top] / top
    if len(lam) == 1:
        return times * sqrt(top)

    u = np.arange(-12.0, 12.0001, 0.04)

    def beyond(x: float) -> float:
        """(1 / 2πi) ∫ e^(-tx) Π (1 - 2λt)^(-1/2) dt / t on a parabola through the saddle, about the cuts from 1/2."""

        def slope(t: float) -> float:
            return float((lam / (1.0 - 2.0 * lam * t)).sum()) - x

        saddle = brentq(slope, 0.05, 0.5 - 1e-9) if slope(0.05) < 0.0 else 0.05
        reach = 0.5 - saddle
        t = saddle + reach * (0.5 * u**2 + 1j * u)
        root = np.prod(np.sqrt(1.0 - 2.0 * lam[:, None] * t), axis=0)
        values = np.exp(-t * x) / (root * t) * reach * (u + 1j)
        return float((values.sum() * (u[1] - u[0]) / (2j * np.pi)).real)

    wanted = exceeded(times)
    high = times**2 * len(lam) + 10.0 * lam.sum()
    return sqrt(top * brentq(lambda x: beyond(x) / wanted - 1.0, 0.999 * times**2, high, xtol=1e-10))


def dirlik(moments: Floats, slope: float) -> tuple[float, float]:
    """Mean of amplitude^slope over ranges counted by rainflow, and ranges per s (Dirlik, PhD thesis, Warwick 1985).

    Parameters
    ----------
    moments : ndarray, shape (4,)
        ∫ f^n S df for n = 0, 1, 2, 4.
    """
    m0, m1, m2, m4 = (float(m) for m in moments)
    if m0 <= 0.0 or m2 <= 0.0 or m4 <= 0.0:
        return 0.0, 0.0
    rate, bandwidth = sqrt(m4 / m2), m2 / sqrt(m0 * m4)
    if bandwidth > 1.0 - 1e-6:  # one frequency only
        return narrow_band(m0, slope), rate
    centre = m1 / m0 * sqrt(m2 / m4)
    d1 = 2.0 * (centre - bandwidth**2) / (1.0 + bandwidth**2)
    r = (bandwidth - centre - d1**2) / (1.0 - bandwidth - d1 + d1**2)
    d2 = (1.0 - bandwidth - d1 + d1**2) / (1.0 - r)
    d3 = 1.0 - d1 - d2
    q = 1.25 * (bandwidth - d3 - d2 * r) / d1
    mean = d1 * q**slope * gamma(1.0 + slope) + 2.0 ** (slope / 2.0) * gamma(1.0 + slope / 2.0) * (
        d2 * abs(r) ** slope + d3
    )  # fmt: skip
    return m0 ** (slope / 2.0) * mean, rate


def narrow_band(m0: float, slope: float) -> float:
    """Mean of amplitude^slope where amplitudes follow Rayleigh: (√2 σ)^b Γ(1 + b/2) (Miles 1954)."""
    return (2.0 * m0) ** (slope / 2.0) * gamma(1.0 + slope / 2.0)


def respond_random(
    reader: RandomReader, name: str, meaning: Meaning, duration: float | None = None, fatigue: FatigueLine | None = None
) -> RandomResult:
    """Mean squares of all readings, with the places that govern, moments, percentiles and the main mode.

    Raises
    ------
    EventError
        The expected largest is asked for over a duration of fewer than two cycles of a reading.
    """
    reduced = reader.reduced
    count = len(reduced.readings)
    rms, peaks, one_mode = np.full(count, np.nan), np.full(count, np.nan), np.full(count, np.nan)
    governing, main = np.zeros(count, dtype=np.int64), np.zeros(count, dtype=np.int64)
    share, moments = np.full(count, np.nan), np.full((count, 4), np.nan)
    gaussian, places = np.zeros(count, dtype=bool), [""] * count
    chosen = []
    for n, reading in enumerate(reduced.readings):
        if half_form(reading) is None:
            continue
        if reading.count > 1:
            squares = reader.squares(reading)
            if not np.isfinite(squares).any():
                continue
            governing[n] = first_largest(squares)
            rms[n] = sqrt(float(squares[governing[n]]))
        chosen.append(n)
    levels = np.array([source.density.at(reduced.frequencies_hz) for source in reader.sources])
    looks = reader.looks([(reduced.readings[n], int(governing[n])) for n in chosen])
    for n, look in zip(chosen, looks, strict=True):
        reading, best = reduced.readings[n], int(governing[n])
        if reading.count == 1:
            if not np.isfinite(look.moments[0]):
                continue
            rms[n] = sqrt(max(float(look.moments[0]), 0.0))
        half = half_form(reading)
        assert half is not None
        places[n], moments[n], gaussian[n] = reading.place(best), look.moments, len(half) == 1
        times = _times(meaning, look.moments) if rms[n] > 0.0 else 0.0
        peaks[n] = times * rms[n] if gaussian[n] else quadratic_percentile(half @ look.covariance @ half.T, times)
        if rms[n] > 0.0:
            own = look.shares[: reader.model.modes]
            main[n] = first_largest(own)
            share[n] = own[main[n]]
            one_mode[n] = _one_mode(reader, reading, best, int(main[n]), half, levels[:, main[n]])
    short = np.flatnonzero(np.isfinite(rms) & ~np.isfinite(peaks))
    if len(short):
        labels = first_few((reduced.readings[n].label for n in short), 4)
        raise EventError(
            f'event "{name}": peak: expected largest: {duration:g} s hold fewer than two cycles of {labels}; give a '
            "longer duration, or peak: times rms",
            path=("events", name),
        )
    return RandomResult(
        reduced, name, reader, meaning, duration, rms, peaks, governing, tuple(places), moments, gaussian, one_mode,
        main, share, fatigue,
    )  # fmt: skip


def _times(meaning: Meaning, moments: Floats) -> float:
    """How many RMS the peak of a reading is."""
    if meaning.kind == "times rms":
        return meaning.amount
    return float(largest_expected(np.sqrt(moments[2] / moments[0]) * meaning.amount))


def _one_mode(reader: RandomReader, reading: Reading, place: int, mode: int, half: Floats, levels: Floats) -> float:
    """RMS of one mode alone under white noise of the densities at its frequency (`levels`): √(π/2 f Q S)."""
    r = reader.reduced
    columns = np.array(reading.at(place))
    f, ratio = float(r.frequencies_hz[mode]), float(r.damping[mode])
    if not ratio > 0.0:
        return float("nan")
    rate = r.omega[mode] ** (np.where(reader.readout.which[columns] < 3, reader.readout.which[columns], 0) - 2.0)
    square = 0.0
    for source, level in zip(reader.sources, levels, strict=True):
        push = r.participation[mode, r.column(source.column)]
        value = half @ (push * r.modal[mode, columns] * rate)
        square += float(value @ value) * float(level)
    return sqrt(square * np.pi / 2.0 * f / (2.0 * ratio))
