"""A record in time whose shock spectrum is a given one: a sum of windowed sines, iterated.

Each term is A sin(2πft/N) sin(2πft) over an odd number N of half-cycles, which leaves the base at rest where it was
(Yang, Shock and Vibration Bulletin 42 (1972) part 2; Irvine, shock synthesis by such wavelets): zero velocity change
and zero displacement for every term, and so for the sum.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.progress import tell
from holokine.respond.shock import Quantity, octave_frequencies, shock_spectrum
from holokine.sizes import afford

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["MatchedRecord", "match_record"]

SAMPLES_PER_PERIOD = 20.0


@dataclass(frozen=True)
class MatchedRecord:
    """A record and how well it matches.

    Attributes
    ----------
    time, acceleration : ndarray, shape (samples,)
        s and m/s².
    frequency_hz, wanted, reached : ndarray, shape (frequencies,)
        Shock spectra (maximax) in m/s², on the frequencies of the terms and one between each two of them.
    damping : float
    amplitude, half_cycles, delay : ndarray, shape (terms,)
        Of the windowed sines: m/s², odd numbers, s.
    rounds : int
        Corrections made.
    """

    time: Floats
    acceleration: Floats
    frequency_hz: Floats
    wanted: Floats
    reached: Floats
    damping: float
    amplitude: Floats
    half_cycles: NDArray[Any]
    delay: Floats
    rounds: int

    @property
    def error_db(self) -> Floats:
        """20 log10 of reached over wanted, shape (frequencies,)."""
        return 20.0 * np.log10(self.reached / self.wanted)


def match_record(
    frequencies: Floats,
    wanted: Floats,
    *,
    damping: float = 0.05,
    per_octave: int = 6,
    duration: float | None = None,
    rounds: int = 120,
    within_db: float = 0.5,
    quantity: Quantity = "absolute acceleration",
    seed: int = 1,
) -> MatchedRecord:
    """Make a record to match a shock spectrum.

    Parameters
    ----------
    frequencies, wanted : ndarray
        The spectrum in Hz and m/s², rising frequencies; log-log between them.
    per_octave : int
        Terms per octave.
    duration : float, optional
        Longest length in s; three half-cycles of the lowest frequency are the least, seven are taken when left out.
    rounds : int
        Most corrections of the amplitudes; the best is kept.
    within_db : float
        Stop when every term's frequency is this near.
    seed : int
        Of the delays and signs.

    Raises
    ------
    EventError
        A spectrum that is not positive and rising, a duration too short for the lowest frequency.
    """
    f0, s0 = np.asarray(frequencies, dtype=float), np.asarray(wanted, dtype=float)
    if len(f0) < 2 or (np.diff(f0) <= 0).any() or not (f0 > 0).all() or not (s0 > 0).all():
        raise EventError("a spectrum to match needs rising frequencies and values greater than 0")
    if not 0.0 <= damping < 1.0:
        raise EventError(f"damping lies from 0 to below 100 %, got {damping:g}")
    f = octave_frequencies(float(f0[0]), float(f0[-1]), per_octave)
    least = 1.5 / f[0]
    if duration is not None and duration < least:
        raise EventError(
            f"three half-cycles of the lowest frequency, {f[0]:g} Hz, take {least:.4g} s; the record of {duration:g} s "
            "is too short: begin the spectrum higher, or make the record longer"
        )
    length = duration if duration is not None else 3.5 / f[0]
    target = _at(f, f0, s0)
    rng = np.random.default_rng(seed)
    halves = 2.0 * f * length  # half-cycles that fit
    count = np.clip(np.floor((np.minimum(halves, 15.0) - 1.0) / 2.0) * 2.0 + 1.0, 3.0, None)
    spare = np.maximum(length - count / (2.0 * f), 0.0)
    delay = rng.uniform(0.0, 0.3, len(f)) * spare
    sign = rng.choice([-1.0, 1.0], len(f))
    step = 1.0 / (SAMPLES_PER_PERIOD * f[-1])
    afford(
        length / step, 2.0 * len(f), "samples of the record", "begin the spectrum higher, end it lower, or make the "
        "record shorter", EventError,
    )  # fmt: skip
    time = step * np.arange(int(np.ceil(length / step)) + 1)
    terms = np.stack([_term(time, *p) for p in zip(f, count, delay, strict=True)])
    made = 0

    def worst_of(levels: Floats) -> tuple[Floats, Floats, float]:
        """Correct amplitudes until they stay; the best of them, their errors in dB and the largest."""
        nonlocal made
        best, kept, errors, stale = np.inf, levels, np.zeros(len(f)), 0
        while made < rounds and stale < 5 and best > within_db:
            made += 1
            tell("correcting the record, rounds so far", made, rounds)
            reached = _spectrum(time, levels @ terms, f, damping, quantity)
            off = 20.0 * np.log10(reached / target)
            size = float(np.abs(off).max())
            stale = stale + 1 if size > 0.98 * best else 0
            if size < best:
                best, kept, errors = size, levels, off
            levels = levels * np.clip(target / reached, 0.5, 2.0) ** 0.8
        return kept, errors, best

    kept, errors, best = worst_of(sign * target / 3.0)
    while made < rounds and best > within_db:  # a term that its neighbours overrule: turn it round
        term = int(rng.choice(np.argsort(-np.abs(errors))[:4]))
        other = kept.copy()
        other[term] = -np.sign(kept[term]) * target[term] / 3.0
        tried, off, size = worst_of(other)
        if size < best:
            kept, errors, best = tried, off, size
    record = kept @ terms
    looks = np.sort(np.concatenate([f, np.sqrt(f[1:] * f[:-1])]))
    return MatchedRecord(
        time, record, looks, _at(looks, f0, s0), _spectrum(time, record, looks, damping, quantity), damping, kept,
        count.astype(int), delay, made,
    )  # fmt: skip


def _at(f: Floats, f0: Floats, s0: Floats) -> Floats:
    return np.asarray(np.exp(np.interp(np.log(f), np.log(f0), np.log(s0))))


def _term(time: Floats, f: float, count: float, delay: float) -> Floats:
    t = time - delay
    inside = (t >= 0.0) & (t <= count / (2.0 * f))
    return np.where(inside, np.sin(2.0 * np.pi * f * t / count) * np.sin(2.0 * np.pi * f * t), 0.0)


def _spectrum(time: Floats, record: Floats, f: Floats, damping: float, quantity: Quantity) -> Floats:
    return np.asarray(shock_spectrum(time, record, f, [damping], quantity=quantity).maximax[0])
