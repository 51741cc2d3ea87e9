"""Collecting the channels of gauges and their four maps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array, vstack

from holokine.elements.stress import rows_of
from holokine.gauges.channels import ChannelBlock, Channels, GaugeSet
from holokine.gauges.readings import Reading
from holokine.sizes import narrow

if TYPE_CHECKING:
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System

__all__ = ["AXES", "BUILDERS", "Maps", "builds", "vector"]

Floats = NDArray[Any]  # float64
AXES = ("x", "y", "z")
_NAMES = ("displacement", "velocity", "acceleration", "multipliers")


@dataclass
class Maps:
    """Rows of the maps while they are being collected."""

    blocks: list[ChannelBlock] = field(default_factory=list)
    readings: list[Reading] = field(default_factory=list)
    count: int = 0
    entries: dict[str, list[tuple[Any, Any, Any]]] = field(default_factory=lambda: {name: [] for name in _NAMES})
    fields: dict[str, list[tuple[int, csr_array]]] = field(default_factory=lambda: {name: [] for name in _NAMES})
    free: list[tuple[str, slice, Floats]] = field(default_factory=list)

    def add(
        self, block: ChannelBlock, *, free: dict[str, float] | None = None, **rows: tuple[NDArray[np.int64], Floats]
    ) -> int:
        """One channel, with its rows as (columns, values); returns its number.

        `free`: what it reads of a unit free strain of a part that does not move, or of a unit force of a spring that
        its elongation does not tell.
        """
        here = slice(self.count, self.count + 1)
        self.free += [(name, here, np.array([value])) for name, value in (free or {}).items()]
        for name, (columns, values) in rows.items():
            index = np.full(len(columns), self.count)
            self.entries[name].append((index, np.asarray(columns), np.asarray(values, dtype=float)))
        return self._counted(block)

    def add_field(self, block: ChannelBlock, *, free: dict[str, Floats] | None = None, **maps: csr_array) -> int:
        """A whole block of channels with its maps; its first number is returned. `free`: of one place, as in `add`."""
        here = slice(self.count, self.count + block.count)
        self.free += [(name, here, np.tile(values, block.places)) for name, values in (free or {}).items()]
        for name, matrix in maps.items():
            self.fields[name].append((self.count, matrix))
        return self._counted(block)

    def _counted(self, block: ChannelBlock) -> int:
        first = self.count
        self.blocks.append(block)
        self.count += block.count
        return first

    def _matrix(self, name: str, columns: int) -> csr_array:
        single = csr_array((self.count, columns))
        if self.entries[name]:
            r, c, v = (np.concatenate([e[k] for e in self.entries[name]]) for k in range(3))
            single = csr_array(coo_array((v, (r, c)), shape=single.shape).tocsr())
        pieces, end = [], 0
        for start, matrix in self.fields[name]:
            pieces += [rows_of(single, end, start), matrix]
            end = start + matrix.shape[0]
        pieces.append(rows_of(single, end, self.count))
        result = csr_array(vstack(pieces))
        result.eliminate_zeros()
        return narrow(result)

    def made(self, system: System) -> GaugeSet:
        """The gauge set."""
        n, m = system.size, system.constraints.rows.shape[0]
        maps = [self._matrix(name, m if name == "multipliers" else n) for name in _NAMES]
        on_u, on_v, on_a, on_forces = maps
        channels, readings = Channels(tuple(self.blocks)), tuple(self.readings)
        return GaugeSet(system, channels, readings, on_u, on_v, on_a, on_forces, tuple(self.free))


Builder: TypeAlias = "Callable[[System, Maps, str, Gauge], None]"
BUILDERS: dict[str, Builder] = {}
"""By the kind of gauge (a key of `describe.gauges.GAUGE_KINDS`): what adds its channels and readings."""


def builds(*kinds: str) -> Callable[[Builder], Builder]:
    """Enter a function for kinds of gauge."""

    def enter(function: Builder) -> Builder:
        BUILDERS.update(dict.fromkeys(kinds, function))
        return function

    return enter


def vector(
    maps: Maps, name: str, gauge: Gauge, dimension: str, add: Callable[[int, str], int], prefix: str = ""
) -> None:
    """Three components and their magnitude, or what `axis` asks for; `prefix` goes before their names."""
    numbers = [add(d, AXES[d]) for d in range(3)]
    for d, axis in enumerate(AXES):
        if gauge.axis in (None, axis):
            maps.readings.append(Reading(name, prefix + axis, dimension, "single", range(numbers[d], numbers[d] + 1)))
    if gauge.axis in (None, "magnitude"):
        channels = range(numbers[0], numbers[0] + 3)
        maps.readings.append(Reading(name, f"{prefix}magnitude", dimension, "magnitude", channels, 3))
