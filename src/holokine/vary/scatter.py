"""Scatter: what distributions of inputs do to frequencies and peaks, to first order.

With independent inputs of standard deviation σᵢ the variance of a quantity y is Σ (∂y/∂pᵢ σᵢ)² (Gauss). Frequencies by
the derivative of their eigenvalue from matrices to both sides (Fox & Kapoor, AIAA J. 6 (1968) 2426-2429), without
another extraction; readings by two runs for each input, half a standard deviation to either side.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.document import Document, variant_of
from holokine.errors import DescriptionError
from holokine.progress import tell
from holokine.store.chain import Chain, Memory
from holokine.vary.follow import follow
from holokine.vary.parameters import Parameter, Spread, parameter_at
from holokine.vary.run import ReadingAsked, VariantResult, _Base, _Job, _solved, key_of

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.stages import Request

__all__ = ["FirstOrder", "first_order", "mean_and_deviation", "scattered_parameters"]

SMALL, HALF = 0.01, 0.5  # of a standard deviation


@dataclass(frozen=True)
class FirstOrder:
    """Effects of inputs to first order.

    Attributes
    ----------
    parameters : tuple of Parameter
    mean, deviation : ndarray, shape (inputs,)
        In the unit that is written.
    first : VariantResult
        The description as it is written.
    at_mean : VariantResult
        With every input at its mean.
    frequencies_hz : ndarray, shape (modes,)
        At the means, by the numbers of the description as written; NaN where a mode is not found again.
    frequency_effects : ndarray, shape (inputs, modes)
        Change of each for one standard deviation of each input, Hz.
    reading_effects : dict of ndarray, shape (inputs,)
        The same of each reading, SI.
    """

    parameters: tuple[Parameter, ...]
    mean: Floats
    deviation: Floats
    first: VariantResult
    at_mean: VariantResult
    frequencies_hz: Floats
    frequency_effects: Floats
    reading_effects: dict[str, Floats]


def mean_and_deviation(spread: Spread) -> tuple[float, float]:
    """Mean and standard deviation; of a range, as if every value in it were as likely."""
    if spread.kind in ("uniform", "range"):
        return 0.5 * (spread.low + spread.high), abs(spread.high - spread.low) / math.sqrt(12.0)
    return spread.low, spread.high


def scattered_parameters(document: Document, given: Mapping[str | tuple[str | int, ...], Any]) -> tuple[Parameter, ...]:
    """Inputs with their distributions.

    Raises
    ------
    DescriptionError
        A list of values, which is no distribution.
    """
    found = []
    for place, values in given.items():
        one = parameter_at(document.data, place, values)
        if one.spread.kind == "list":
            raise DescriptionError(
                f'parameter "{one.text}": scatter takes a distribution (normal 3 mm +- 5 %, lognormal, uniform 2 to '
                "4 mm), not a list of values"
            )
        found.append(one)
    if not found:
        raise DescriptionError("nothing scatters: name a parameter with its distribution")
    return tuple(found)


def first_order(
    document: Document,
    parameters: tuple[Parameter, ...],
    asked: Request,
    readings: Sequence[ReadingAsked],
    memory: Memory,
) -> FirstOrder:
    """Derivatives at the means, times standard deviations.

    Raises
    ------
    HolokineError
        The description, or one beside the means, cannot be answered.
    """
    spreads = np.array([mean_and_deviation(p.spread) for p in parameters])
    mean, deviation = spreads.T
    base = _Base(document.data, str(document.folder.path), document.places, document.origin, asked, tuple(readings))
    tell("the description as it is written")
    first = _solved(document, memory, base, _Job(0, {}, key_of(document, asked, readings), "", ""))
    base, first = replace(base, sample=first.shapes[1]), replace(first, shapes=first.shapes[0])

    def made(values: Floats) -> Document:
        change: dict[str, Any] = {}
        for p, v in zip(parameters, values, strict=True):
            p.write(document.data, change, p.spread.written(float(v)))
        return variant_of(document, "", change, "inputs at " + ", ".join(f"{v:.6g}" for v in values))

    def run(number: int, values: Floats) -> VariantResult:
        own = made(values)
        return _solved(own, memory.copy(), base, _Job(number, {}, key_of(own, asked, readings), "", ""))

    tell("inputs at their means")
    at_mean = run(0, mean)
    way = follow(first, [at_mean], np.zeros((1, 1)), np.zeros(1))
    place, count = way.place[0], len(first.frequencies_hz)
    own = made(mean)
    modal = Chain(own, memory.copy()).modal(asked.again(own.description)).modes
    effects = np.full((len(parameters), count), np.nan)
    of_readings: dict[str, Floats] = {k: np.full(len(parameters), np.nan) for k in at_mean.readings}
    known = np.flatnonzero((place >= 0) & (np.array(first.frequencies_hz) > 0.0))
    for i in range(len(parameters)):
        tell(f"derivatives by {parameters[i].name}", i, len(parameters), "inputs")
        aside = np.zeros(len(parameters))
        aside[i] = deviation[i]
        low, high = (Chain(made(mean + s * SMALL * aside), memory.copy()).system for s in (-1.0, 1.0))
        alike = low.stiffness.shape == high.stiffness.shape == (modal.shapes.shape[1],) * 2
        if alike:
            K, M = high.stiffness - low.stiffness, high.mass - low.mass
            shapes = modal.shapes[place[known]]
            square = modal.omega[place[known]] ** 2
            change = np.einsum("ij,ij->i", shapes, (K @ shapes.T).T) - square * np.einsum(
                "ij,ij->i", shapes, (M @ shapes.T).T
            )
            effects[i, known] = change / (2.0 * SMALL) / (2.0 * np.sqrt(square)) / (2.0 * np.pi)
        if readings or not alike:
            both = [run(0, mean + s * HALF * aside) for s in (-1.0, 1.0)]
            for label in of_readings:
                a, b = (r.readings.get(label, (math.nan, ""))[0] for r in both)
                of_readings[label][i] = (b - a) / (2.0 * HALF)
            if not alike:  # another mesh: modes paired by their shapes
                pairs = follow(first, both, np.array([[-1.0], [1.0]]), np.zeros(1)).frequencies_hz
                effects[i] = (pairs[1] - pairs[0]) / (2.0 * HALF)
    return FirstOrder(parameters, mean, deviation, first, at_mean, way.frequencies_hz[0], effects, of_readings)
