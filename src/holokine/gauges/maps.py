"""Collecting the channels of gauges and their four maps."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, TypeAlias

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array, vstack

from holokine.elements.stress import rows_of
from holokine.gauges.channels import ChannelBlock, Channels, GaugeSet
from holokine.gauges.readings import Reading
from holokine.sizes import narrow

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System

__all__ = ["AXES", "BUILDERS", "Maps", "Row", "builds", "vector"]

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


@dataclass
class Row:
    """What one channel reads: its entries in the maps, and of free strain and forces (`Maps.add`)."""

    entries: dict[str, tuple[NDArray[np.int64], Floats]] = field(default_factory=dict)
    free: dict[str, float] = field(default_factory=dict)

    @classmethod
    def along(cls, direction: tuple[float, ...], rows: list[Row]) -> Row:
        """The sum of rows of three components times a direction."""
        found = cls()
        each: dict[str, list[tuple[NDArray[np.int64], Floats]]] = {}
        for by, row in zip(direction, rows, strict=True):
            for key, (columns, values) in row.entries.items() if by else ():
                each.setdefault(key, []).append((columns, by * values))
            for key, value in row.free.items() if by else ():
                found.free[key] = found.free.get(key, 0.0) + by * value
        for key, pieces in each.items():
            found.entries[key] = np.concatenate([c for c, _ in pieces]), np.concatenate([v for _, v in pieces])
        return found


def vector(
    maps: Maps, axis: Any, block: ChannelBlock, row: Callable[[int], Row], *, prefix: str = "",
    names: tuple[str, ...] = AXES, after: str = "",
) -> None:  # fmt: skip
    """Three components and their magnitude, or what `axis` asks for: one of them, or a direction of length one.

    Parameters
    ----------
    block : ChannelBlock
        What all components have in common.
    row : callable
        Of a component (0, 1, 2).
    prefix, after : str
        Around the names of the components.
    """
    rows = [row(d) for d in range(3)]
    first, name, dimension = maps.count, block.gauge, block.dimension

    def add(component: str, own: Row) -> None:
        maps.add(replace(block, components=(component,)), free=own.free, **own.entries)

    if isinstance(axis, tuple):
        add(f"{prefix}along", Row.along(axis, rows))
        maps.readings.append(Reading(name, f"{prefix}along{after}", dimension, "single", range(first, first + 1)))
        return
    for d in range(3):
        add(f"{prefix}{names[d]}{after}", rows[d])
        if axis in (None, AXES[d]):
            channels = range(first + d, first + d + 1)
            maps.readings.append(Reading(name, f"{prefix}{names[d]}{after}", dimension, "single", channels))
    if axis == "magnitude" or (axis is None and names == AXES):
        label = f"{prefix}magnitude{after}"
        maps.readings.append(Reading(name, label, dimension, "magnitude", range(first, first + 3), 3))
