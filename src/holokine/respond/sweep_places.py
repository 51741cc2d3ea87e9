"""Where the readings of a sweep are largest: places of fields, over the cycle, and with loads at rest beside.

What cannot govern by a bound that is cheap to have is not worked out: a principal stress is at most the root of the sum
of squares of its tensor, and vibration and rest together at most the sum of their sizes.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.stress import principal_stress

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.gauges.readings import Reading
    from holokine.respond.steady import SteadyMotion
    from holokine.respond.sweep import SweepReader

__all__ = ["bound_over_cycle", "governing_place", "largest_together", "over_cycle"]

NUMBERS = 4_000_000  # complex numbers held at once
_CHUNK = 2000
_THETA = np.exp(1j * np.pi * np.arange(48) / 48.0)
_TURNS = np.exp(2j * np.pi * np.arange(720) / 720.0)


def _ellipse(parts: Complex, form: Floats) -> Floats:
    """Root of the largest of pᵀ Q p over the cycle: the major half-axis."""
    turned = parts @ form
    own = np.real(np.einsum("...k,...k->...", np.conj(parts), turned))
    square = np.abs(np.einsum("...k,...k->...", parts, turned))
    return np.asarray(np.sqrt(np.maximum((own + square) / 2.0, 0.0)))


def over_cycle(reading: Reading, parts: Complex) -> Floats:
    """Largest size over the cycle of a reading from complex amplitudes of its components, shape (..., width) to (...).

    The principal stress by the plane on which it is largest: at 48 instants of half a cycle, and by a parabola between
    (1e-6 of it).
    """
    if reading.width == 1:
        return np.abs(parts[..., 0])
    form = reading.form.quadratic(reading.width)
    if form is not None:
        return _ellipse(parts, form)
    values = np.stack([np.abs(principal_stress(np.real(parts * turn))) for turn in _THETA])
    best = values.argmax(axis=0)[None]
    y0, y1, y2 = (np.take_along_axis(values, (best + k) % len(_THETA), axis=0)[0] for k in (-1, 0, 1))
    bend = y0 - 2.0 * y1 + y2
    return np.asarray(y1 - np.where(bend < 0, (y2 - y0) ** 2 / (8.0 * np.where(bend < 0, bend, -1.0)), 0.0))


def bound_over_cycle(reading: Reading, parts: Complex) -> Floats:
    """What a reading does not exceed over the cycle; what it is, where it is a quadratic form."""
    if reading.width > 1 and reading.form.quadratic(reading.width) is None:
        # xx yy xy, or xx yy zz xy yz zx: each shear stands twice in the tensor
        return _ellipse(parts, np.diag([1.0, 1.0, 2.0] if reading.width == 3 else [1.0] * 3 + [2.0] * 3))
    return over_cycle(reading, parts)


def _blocks(reader: SweepReader, motion: SteadyMotion, reading: Reading) -> Iterator[tuple[int, Complex]]:
    """Amplitudes of some places at a time: first place, and values of shape (points, places, width)."""
    step = max(1, NUMBERS // (len(motion.omega) * reading.width))
    first = reading.channels.start
    for a in range(0, reading.count, step):
        places = min(step, reading.count - a)
        columns = slice(first + a * reading.width, first + (a + places) * reading.width)
        yield a, reader.rows(motion, columns).reshape(len(motion.omega), places, reading.width)


def governing_place(reader: SweepReader, motion: SteadyMotion, reading: Reading) -> tuple[int, Floats]:
    """Place of a field whose largest over the sweep is the largest, and what each place does not exceed, (places,)."""
    best, where = -1.0, 0
    most = np.zeros(reading.count)
    plain = reading.width == 1 or reading.form.quadratic(reading.width) is not None
    for a, values in _blocks(reader, motion, reading):
        bound = bound_over_cycle(reading, values)
        top = most[a : a + values.shape[1]] = bound.max(axis=0)
        if plain:
            if top.max() > best:
                best, where = float(top.max()), a + int(top.argmax())
            continue
        order = np.flatnonzero(bound > best)
        order = order[np.argsort(-bound.ravel()[order], kind="stable")]
        flat = values.reshape(-1, reading.width)
        at, size = 0, 16
        while at < len(order) and bound.ravel()[order[at]] > best:
            chosen = order[at : at + size]
            exact = over_cycle(reading, flat[chosen])
            if exact.max() > best:
                best, where = float(exact.max()), a + int(chosen[int(exact.argmax())] % values.shape[1])
            at, size = at + size, _CHUNK
    return where, most


def largest_together(
    reader: SweepReader, motion: SteadyMotion, reading: Reading, steady: Floats, most: Floats, peak: tuple[float, float]
) -> float:
    """Largest of vibration and loads at rest together, over the cycle, the points of the sweep, and all places.

    Parameters
    ----------
    steady : ndarray, shape (channels,)
        All channels at rest.
    most : ndarray, shape (places,)
        What the vibration of each place does not exceed.
    peak : tuple of float
        The frequency in Hz between the points at which the vibration is largest, and its size there.

    One component adds up; several are looked at at 720 instants of a cycle (2e-5 of it).
    """
    still = reading.size(reading.form.value(reading.parts(steady)))  # (places,)
    bound = still + np.maximum(most, peak[1] if reading.count == 1 else 0.0)
    best = -np.inf if reading.one_sided else peak[1]
    for place in np.argsort(-bound, kind="stable"):
        if bound[place] <= best:
            break
        columns = np.array(reading.at(int(place)))
        rest = steady[columns]
        values = reader.rows(motion, columns)
        if reading.count == 1:
            values = np.concatenate([values, reader.rows(reader.motion(np.array([peak[0]])), columns)])
        swing = over_cycle(reading, values)
        if reading.width == 1:
            best = max(best, float(still[place] + swing.max()))
            continue
        order = np.argsort(-swing, kind="stable")
        for a in range(0, len(order), 50):
            rows = order[a : a + 50]
            if still[place] + swing[rows[0]] <= best:
                break
            moved = rest + np.real(values[rows][:, None] * _TURNS[:, None])
            best = max(best, float(np.abs(reading.form.value(moved)).max()))
    return best
