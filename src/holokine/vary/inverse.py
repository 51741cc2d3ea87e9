"""The inverse question: which value of a parameter brings a mode to a frequency.

The derivative of an eigenvalue, φᵀ(K' - λM')φ (Fox & Kapoor, AIAA Journal 6 (1968) 2426-2429), gives Newton's step in
the logarithms of value and frequency; the mode is extracted anew at every step and followed by its shape, so that the
value found is proven by a run and not by the derivative.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.document import Document, variant_of
from holokine.describe.walk import located
from holokine.errors import DescriptionError, HolokineError, UnknownNameError
from holokine.progress import tell
from holokine.store.chain import Chain, Memory
from holokine.vary.parameters import Path, Spread, number_of, resolved, with_value
from holokine.vary.run import Sample

if TYPE_CHECKING:
    from holokine.describe.stages import Request
    from holokine.modes.mode_set import ModeSet

__all__ = ["NotReachedError", "Reached", "Step", "reach"]

CLOSE = 1e-5  # relative, of the frequency
DIGITS = 7  # of a value that is tried: finer than that, and no more than can be told
MOST_STEPS = 60
SHORTEST = 1e-4
FARTHEST = 10.0  # times what is written, or its part: beyond that a value makes no sense as a change of it
LONGEST = math.log(3.0)  # of a step in the logarithm of the value
FINE = 1e-3  # of the value, for the difference of the matrices
IDLE = 1e-4  # change of ln f per change of ln value below which nothing can be brought anywhere
ALIKE, PARTLY, SURE = 0.6, 0.25, 0.8  # of shapes: the same, shared with another mode, beyond doubt


@dataclass(frozen=True)
class Step:
    """One run on the way.

    Attributes
    ----------
    value : float
        In the unit that is written.
    frequency_hz : float
    predicted_hz : float
        By the derivative at the step before; NaN at the first.
    slope : float
        Change of ln f per change of ln value, by the derivative here.
    mode : int
        Number of the mode in this run.
    assurance : float
        Of its shape against that of the step before.
    """

    value: float
    frequency_hz: float
    predicted_hz: float
    slope: float
    mode: int
    assurance: float


@dataclass(frozen=True)
class Reached:
    """What was found.

    Attributes
    ----------
    text : str
        The parameter.
    unit : str
    mode : int
    target_hz : float
    steps : tuple of Step
        The first is the description as it is written; the last the proof.
    written : object
        The value as it stands in the description then.
    change : dict
        What is written in place of the description's own.
    """

    text: str
    unit: str
    mode: int
    target_hz: float
    steps: tuple[Step, ...]
    written: Any
    change: dict[str, Any]


class NotReachedError(DescriptionError):
    """No value brings the mode there.

    Attributes
    ----------
    best : Step
        The run that came nearest.
    """

    def __init__(self, text: str, best: Step) -> None:
        super().__init__(text)
        self.best = best

    def __reduce__(self) -> tuple[Any, ...]:
        return NotReachedError, (str(self), self.best)


def reach(
    document: Document,
    given: str | Sequence[str | int],
    mode: int,
    target_hz: float,
    asked: Request,
    memory: Memory,
) -> Reached:
    """Which value brings a mode of the description as it is written to a frequency.

    Raises
    ------
    DescriptionError
        The place holds no number above zero, the mode hardly depends on it, or the way there ends: at a value that
        cannot be, or where the mode dissolves in others.
    UnknownNameError
        No such mode.
    """
    path = resolved(document.data, given)
    text = given if isinstance(given, str) else "/".join(map(str, given))
    value, unit = _start(document, path, text)
    spread = Spread("list", unit=unit)
    if not (math.isfinite(target_hz) and target_hz > 0):
        raise DescriptionError(f"a mode is brought to a frequency above zero, got {target_hz:g} Hz")

    def made(number: float) -> tuple[Document, dict[str, Any]]:
        change: dict[str, Any] = {}
        with_value(document.data, change, path, spread.written(number))
        return variant_of(document, "", change, f"{text} = {spread.written(number)}"), change

    steps: list[Step] = []
    at, shape, predicted = value, None, math.nan
    low, high = 0.0, math.inf  # values beyond which the frequency lies on the other side
    sample: Sample | None = None
    for count in range(MOST_STEPS):
        tell(f"mode {mode} at {text} = {spread.written(at)}", count, 0, "runs")
        try:
            own, change = made(at)
            modes = Chain(own, memory.copy()).modal(asked.again(own.description)).modes
        except HolokineError as err:
            if not steps:
                raise
            raise DescriptionError(f"{text} = {spread.written(at)}, on the way to {target_hz:g} Hz: {err}") from None
        if sample is None:
            sample = Sample.of(modes)
            row = _row(modes, mode)
            alike = 1.0
        else:
            mac = np.square(sample.shapes(modes).astype(float) @ shape)
            row = int(mac.argmax())
            if mac[row] < ALIKE and (mac >= PARTLY).any():  # two modes that come close share it: the one expected
                parts = np.flatnonzero(mac >= PARTLY)
                row = int(parts[np.abs(modes.frequencies_hz[parts] - predicted).argmin()])
            alike = float(min(1.0, mac[row]))
            if alike < PARTLY:  # too far to know it again
                last = steps[-1].value
                if abs(at / last - 1.0) < SHORTEST:
                    raise _ended(text, steps, target_hz, f"its shape dissolves in others at {spread.written(at)}")
                at = math.sqrt(last * at)
                predicted = steps[-1].frequency_hz * (at / last) ** steps[-1].slope
                continue
        if alike >= SURE:
            shape = sample.shapes(modes)[row].astype(float)
        f = float(modes.frequencies_hz[row])
        slope = _slope(own, modes, row, at, made, memory)
        steps.append(Step(at, f, predicted, slope, int(modes.numbers[row]), alike))
        if abs(f / target_hz - 1.0) <= CLOSE:
            return Reached(text, unit, mode, target_hz, tuple(steps), spread.written(at), change)
        if abs(slope) < IDLE:
            share = 10.0 * abs(slope)
            raise _ended(text, steps, target_hz, f"the mode hardly depends on it: 10 % more move it by {share:.2g} %")
        if (f < target_hz) == (slope > 0):
            low = max(low, at)
        else:
            high = min(high, at)
        step = float(np.clip(math.log(target_hz / f) / slope, -LONGEST, LONGEST))
        after = at * math.exp(step)
        if not low < after < high:  # beyond what is known to be too far
            after = math.sqrt(low * high) if low > 0 and high < math.inf else after
        if high / max(low, 1e-300) - 1.0 < SHORTEST:
            raise _ended(text, steps, target_hz, "two modes share its shape there, and in passing from one to the next "
                         "it leaps over that frequency")  # fmt: skip
        after = min(max(after, value / FARTHEST), value * FARTHEST)
        if after == at:
            raise _ended(text, steps, target_hz, f"it would take more than {FARTHEST:g} times, or less than a "
                         f"{'tenth' if FARTHEST == 10 else 'part'} of, what is written")  # fmt: skip
        after = float(f"{after:.{DIGITS}g}")
        predicted = f * (after / at) ** slope
        at = after
    raise _ended(text, steps, target_hz, f"not reached within {MOST_STEPS} runs")


def _ended(text: str, steps: list[Step], target_hz: float, why: str) -> DescriptionError:
    found = ", ".join(f"{s.value:.5g}: {s.frequency_hz:.5g} Hz" for s in steps[-6:])
    best = min(steps, key=lambda s: abs(math.log(s.frequency_hz / target_hz)))
    return NotReachedError(
        f"{text} does not bring the mode to {target_hz:g} Hz: {why}. The nearest is {best.value:.5g} with "
        f"{best.frequency_hz:.5g} Hz (runs: {found})", best,
    )  # fmt: skip


def _start(document: Document, path: Path, text: str) -> tuple[float, str]:
    """Number and unit that are written now."""
    found = located(document.data, path)
    written = found[0][found[1]] if found is not None else None
    if found is None and path[0] == "adjust":
        written = 1.0
    told = number_of(written) if not isinstance(written, dict | list) else None
    if told is None:
        raise DescriptionError(f'parameter "{text}": the description writes no number there to start from')
    if not told[0] > 0:
        raise DescriptionError(f'parameter "{text}": starts from a value above zero, and {written} is written')
    return told


def _row(modes: ModeSet, mode: int) -> int:
    row: int = modes.index(mode)
    if modes.rigid[row]:
        raise UnknownNameError(f"mode {mode} is a rigid-body mode, whose frequency stays zero")
    return row


def _slope(own: Document, modes: ModeSet, row: int, at: float, made: Any, memory: Memory) -> float:
    """d ln f / d ln value, from the matrices to both sides."""
    systems = []
    for side in (-1.0, 1.0):
        beside, _ = made(at * (1.0 + side * FINE))
        systems.append(Chain(beside, memory.copy()).system)
    shape, square = modes.shapes[row], float(modes.omega[row] ** 2)
    if any(s.stiffness.shape != (len(shape), len(shape)) for s in systems):
        raise DescriptionError(
            "the mesh changes with the value, so that matrices to both sides cannot be compared; give its parts "
            "divisions in place of a size, or vary it in a grid"
        )
    K, M = systems[1].stiffness - systems[0].stiffness, systems[1].mass - systems[0].mass
    change = float(shape @ (K @ shape)) - square * float(shape @ (M @ shape))
    return change / (2.0 * FINE) / (2.0 * square)
