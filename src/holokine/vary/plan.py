"""Which variants are run: a grid of all values, or samples of a Latin hypercube.

McKay, Beckman & Conover, Technometrics 21 (1979) 239-245.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import product
from math import prod
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.document import Document, variant_of
from holokine.errors import DescriptionError, HolokineError, UnknownKeyError, shown
from holokine.vary.parameters import Parameter, Path, parameter_at, plain_number

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["MOST_VARIANTS", "Plan", "plan_of"]

MOST_VARIANTS = 20_000


@dataclass(frozen=True)
class Plan:
    """Variants of a description.

    Attributes
    ----------
    parameters : tuple of Parameter
    rows : list of tuple
        Values of the parameters, as written, a row per variant.
    drawn : bool
        Whether they are samples.
    """

    parameters: tuple[Parameter, ...]
    rows: list[tuple[Any, ...]]
    drawn: bool

    def change(self, data: Mapping[str, Any], row: tuple[Any, ...]) -> dict[str, Any]:
        """What a variant writes in place of the description's own."""
        change: dict[str, Any] = {}
        for parameter, value in zip(self.parameters, row, strict=True):
            parameter.write(data, change, value)
        return change

    def numbers(self) -> np.ndarray:
        """Values as numbers, shape (variants, parameters)."""
        found = [[p.number(v) for p, v in zip(self.parameters, row, strict=True)] for row in self.rows]
        return np.array(found, dtype=float).reshape(len(self.rows), len(self.parameters))


def plan_of(
    document: Document,
    parameters: Mapping[str | tuple[str | int, ...], Any] | pd.DataFrame,
    samples: int | None = None,
    seed: int = 1,
) -> Plan:
    """A grid of all values of all parameters, the rows of a table, or with `samples` a Latin hypercube.

    In a hypercube every parameter is drawn: from its distribution, evenly between the ends of its range, or from the
    values of its list, each as often.

    Raises
    ------
    DescriptionError
        A place that is not there, values that do not fit, a distribution without samples, too many variants.
    """
    columns = hasattr(parameters, "columns") and hasattr(parameters, "iterrows")  # a DataFrame: a row per variant
    if not columns and not isinstance(parameters, Mapping) and parameters is not None:
        raise DescriptionError(
            "parameters: expected places with their values, {place: [values]}, or a DataFrame with a column per place, "
            f"got {shown(parameters)}"
        )
    if parameters is None or not len(parameters):
        raise DescriptionError("nothing is varied: name a parameter with its values")
    data = document.data
    found = []
    given: Any
    for given, values in parameters.items():
        found.append(parameter_at(data, given, values.tolist() if columns else values))
    taken: list[tuple[Path, str]] = []
    for parameter in found:
        for path in parameter.paths:
            clash = next((text for other, text in taken if _overlap(other, path)), None)
            if clash is not None:
                raise DescriptionError(f'parameters "{clash}" and "{parameter.text}" change the same place')
            taken.append((path, parameter.text))
    loose = [p for p in found if p.spread.drawn]
    if loose and samples is None:
        raise DescriptionError(f'parameter "{loose[0].text}": a distribution is drawn from; say how many samples')
    if columns:
        if samples is not None:
            raise DescriptionError("samples: the rows of a table are the variants; nothing is drawn")
        _refuse_many(len(parameters))
        every = [[plain_number(v) for v in values.tolist()] for _, values in parameters.items()]
        rows = list(zip(*every, strict=True))
    elif samples is None:
        count = prod(len(p.spread.values) for p in found)
        _refuse_many(count)
        rows = list(product(*(p.spread.values for p in found)))
    else:
        if samples < 2:
            raise DescriptionError(f"a hypercube takes two samples at least, got {samples}")
        _refuse_many(samples)
        rows = _hypercube(found, samples, seed)
    plan = Plan(tuple(found), rows, samples is not None)
    _refuse_misfits(document, plan)
    return plan


def _overlap(one: Path, other: Path) -> bool:
    short = min(len(one), len(other))
    return one[:short] == other[:short]


def _refuse_many(count: int) -> None:
    if count > MOST_VARIANTS:
        raise DescriptionError(
            f"{count:,} variants are asked for, more than {MOST_VARIANTS:,}; give fewer values, or draw samples"
        )


def _hypercube(parameters: Sequence[Parameter], samples: int, seed: int) -> list[tuple[Any, ...]]:
    from scipy.stats import qmc

    cube = qmc.LatinHypercube(len(parameters), rng=np.random.default_rng(seed)).random(samples)
    columns = []
    for k, parameter in enumerate(parameters):
        spread, share = parameter.spread, cube[:, k]
        if spread.drawn:
            columns.append([spread.written(float(v)) for v in spread.at(share)])
        elif spread.kind == "range":
            between = spread.low + (spread.high - spread.low) * share
            columns.append([spread.written(float(v)) for v in between])
        else:
            columns.append([spread.values[int(s * len(spread.values))] for s in share])
    return list(zip(*columns, strict=True))


def _refuse_misfits(document: Document, plan: Plan) -> None:
    """Raise where no value of a parameter can be read at all: a place or unit that is wrong from the start."""
    for k, parameter in enumerate(plan.parameters):
        first: HolokineError | None = None
        for value in dict.fromkeys(row[k] for row in plan.rows):
            alone: dict[str, Any] = {}
            parameter.write(document.data, alone, value)
            try:
                variant_of(document, "", alone, f'parameter "{parameter.text}"')
                break
            except HolokineError as err:
                first = first or err
        else:  # several may fit together only
            if first is not None and (len(plan.parameters) == 1 or isinstance(first, UnknownKeyError)):
                raise first
