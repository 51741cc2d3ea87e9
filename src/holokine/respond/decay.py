"""How long free motion is followed: until what is left of it cannot carry a reading beyond what it has reached.

After the last row of an excitation every modal coordinate is a sum of decaying complex exponentials about its rest, so
that a reading stays within its value at rest plus the sum of the sizes of what modes still have in it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import EventError
from holokine.findings import Finding, Level
from holokine.respond.readout import Motion
from holokine.respond.reduced import slight_below

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.readings import Reading
    from holokine.respond.reduced import ReducedModel
    from holokine.respond.transient import History

__all__ = ["Decay", "long_enough", "longest_after", "reached"]

Extremes = list[tuple["Reading", float, float]]
LEFT_OPEN = 0.01  # of its peak, by which a reading may still rise before that is a warning
MATTERS = 0.05  # of its peak, below which the other extreme of a reading is not waited for
_LOOKED_AT = 8  # places of a field, those that may reach most, whose largest is its reach
_BISECTIONS = 40


@dataclass(frozen=True)
class _Left:
    """What modes can still do to one reading: value at rest and, by coordinate, sizes per mode, (modes, places)."""

    rest: Floats
    sizes: dict[int, Floats]
    lowest: float
    highest: float
    signed: bool
    floor: float  # below which it is nothing beside others

    def beyond(self, amplitudes: tuple[Floats, ...]) -> float:
        """Largest share by which what may still come exceeds what was reached; at most 0 where nothing can."""
        more = sum((amplitudes[kind] @ size for kind, size in self.sizes.items()), np.zeros(len(self.rest)))
        peak = max(abs(self.lowest), abs(self.highest), self.floor)
        if len(self.rest) > 1:  # of a field the larger side over all its places
            return (float((np.abs(self.rest) + more).max()) - peak) / peak
        high = float((self.rest + more).max()) - max(self.highest, MATTERS * peak, self.floor)
        low = max(-self.lowest, MATTERS * peak, self.floor) if self.signed else np.inf
        return max(high, float((more - self.rest).max()) - low) / peak


class Decay:
    """Bounds on readings after a history, from the state in its last row; of those that matter beside others.

    Parameters
    ----------
    reader : History
        Of oscillators whose state decays by itself (`Oscillators.left`).
    reached : list of (Reading, lowest, highest)
        Extremes on the rows; of fields those of some places.
    """

    def __init__(self, reader: History, reached: list[tuple[Reading, float, float]]) -> None:
        self.reader = reader
        peaks = np.array([max(abs(low), abs(high)) for _, low, high in reached])
        floors = slight_below(tuple(r for r, _, _ in reached), peaks)
        self.left = [
            self._left(*one, float(floor))
            for one, floor in zip(reached, floors, strict=True)
            if floor > 0.0 and not self._grows(one[0])
        ]

    @cached_property
    def _at_rest(self) -> Motion:
        """Everything at rest under the loads of the last row."""
        rest, reader = self.reader.rest, self.reader
        none = np.zeros_like(rest)
        return Motion(rest, none, none, rest, reader.path.load[-1:], *(reader.last_frame or (None, None)))

    def _grows(self, reading: Reading) -> bool:
        """Whether a reading follows a base that moves on."""
        channels, frame = self.reader.readout.reduced.channels, self.reader.last_frame
        own = reading.columns
        return bool(
            frame is not None and (channels.is_absolute[own] & (channels.order[own] == 0)).any() and frame[0].any()
        )

    def _left(self, reading: Reading, lowest: float, highest: float, floor: float) -> _Left:
        readout, own = self.reader.readout, reading.columns
        r = readout.reduced
        at_rest = readout.read(self._at_rest, own).reshape(1, reading.count, reading.width)
        sizes: dict[int, Floats] = {}
        which = np.broadcast_to(readout.which[own], (r.count, len(reading.channels)))
        for kind in np.unique(which):
            sizes[int(kind)] = self._size(reading, np.where(which == kind, r.modal[:, own], 0.0))
        if readout.damped[own].any():
            sizes[1] = sizes.get(1, 0.0) + self._size(reading, r.modal_damper[:, own])
        value = (
            reading.form.value(at_rest)[0] if reading.form.signed else self._size(reading, at_rest[0].ravel()[None])[0]
        )
        return _Left(value, sizes, lowest, highest, reading.form.signed, floor)

    @staticmethod
    def _size(reading: Reading, rows: Floats) -> Floats:
        """A norm of the reading's parts that its value does not exceed, (rows, places)."""
        parts = rows.reshape(len(rows), reading.count, reading.width)
        form = reading.form.quadratic(reading.width)
        if form is None:  # principal stress: each shear stands twice in the tensor
            form = np.diag([1.0, 1.0, 2.0] if reading.width == 3 else [1.0] * 3 + [2.0] * 3)
        return np.sqrt(np.maximum(np.einsum("rpk,kl,rpl->rp", parts, form, parts), 0.0))

    def beyond(self, later: float = 0.0) -> float:
        """Largest share by which a reading may still exceed its extremes so many seconds after the last row."""
        amplitudes = self.reader.oscillators.left(self.reader.path.state[-1], self.reader.path.load[-1], later)
        return max((one.beyond(amplitudes) for one in self.left), default=0.0)

    def needed(self, most: float) -> float:
        """Seconds after the last row from which nothing can exceed what was reached; `most` where they do not do."""
        if self.beyond(most) > 0.0:
            return most
        low, high = 0.0, most
        if self.beyond() <= 0.0:
            return 0.0
        for _ in range(_BISECTIONS):
            middle = 0.5 * (low + high)
            low, high = (middle, high) if self.beyond(middle) > 0.0 else (low, middle)
        return high


def reached(
    reader: History, values: Iterable[tuple[int, Reading, Floats | None]]
) -> list[tuple[Reading, float, float]]:
    """Extremes on the rows of all readings; of fields, of the places that may reach most.

    `values`: numbered readings with the histories of their channels, None for fields.
    """
    found = []
    for _, reading, known in values:
        if known is None:
            bound = reader.bound(reading)
            places = np.arange(min(reading.count, _LOOKED_AT)) if bound is None else np.argsort(-bound)[:_LOOKED_AT]
            columns = np.concatenate([np.array(reading.at(int(p))) for p in places])
            known = reader.rows(slice(None), columns)
        history = reading.form.value(known.reshape(len(known), -1, reading.width))
        found.append((reading, float(history.min()), float(history.max())))
    return found


def long_enough(
    followed: Callable[[float], History], extremes: Callable[[History], Extremes], reduced: ReducedModel, most: float,
    search: bool | None,
) -> tuple[History, list[Finding]]:  # fmt: skip
    """A history until nothing can exceed what it has reached, or of the full length, and how long it is and why.

    Parameters
    ----------
    followed : callable
        The history so many seconds after the excitation.
    extremes : callable
        Extremes of its readings on the rows.
    search : bool or None
        Whether to look for the length; None: take the full one, and bound nothing.
    """
    period = 2.0 * np.pi / float(reduced.omega.min())
    after = min(period, most) if search else most
    reader = followed(after)
    decay = Decay(reader, [] if search is None else extremes(reader))
    if search and (more := decay.needed(most - after)) > 0.0:
        after = min(1.02 * (after + more), most)
        reader = followed(after)
        decay = Decay(reader, extremes(reader))
    length = f"followed for {_seconds(after)} after the excitation"
    short = not search and after < period / 4.0
    if short:
        length += f", less than a quarter of the lowest mode's period of {_seconds(period)}"
    cure = "give ring down to follow it longer" if search else "give a longer ring down"
    if not decay.left:
        if short:
            return reader, [Finding("warning", f"{length}: {cure}")]
        return reader, [Finding("note", f"{length}, a period of the lowest mode" if search else length)]
    beyond = decay.beyond()
    if beyond <= 0.0:
        return reader, [Finding("note", f"{length}: no gauge can exceed its peak after that")]
    level: Level = "warning" if beyond > LEFT_OPEN else "note"
    return reader, [Finding(level, f"{length}: a gauge may still exceed its peak by up to {100 * beyond:.2g} % (if all "
                            f"that is left of the modes came together); {cure}")]  # fmt: skip


def _seconds(time: float) -> str:
    return f"{time:.4g} s" if time >= 1.0 else f"{1e3 * time:.4g} ms"


def longest_after(reduced: ReducedModel, ring_down: float | tuple[float] | None) -> float:
    """How long an answer is followed after its excitation at most, in s; as `respond_pulse` says.

    Raises
    ------
    EventError
        A share is asked for that a mode without damping never falls to.
    """
    if isinstance(ring_down, float | int):
        return float(ring_down)
    left = 0.05 if ring_down is None else ring_down[0]
    rates = reduced.damping * reduced.omega
    period = 2.0 * np.pi / reduced.omega.min()
    if ring_down is None:
        slow = rates[int(np.argmin(reduced.omega))]
        return float(min(-np.log(left) / slow if slow > 0 else np.inf, 30.0 * period))
    if rates.min() <= 0:
        raise EventError(f"ring down to {100 * left:g} %: a mode without damping never decays; give a time")
    return float(-np.log(left) / rates.min())
