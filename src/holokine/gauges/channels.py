"""Channels: the single numbers that gauges are made of, and how they are read from motion.

A channel is of one of these classes, which decide how a response in modal coordinates reads it:

``motion``
    a component of the motion of a point, or the difference of two; `order` 0, 1, 2 for displacement,
    velocity, acceleration;
``elastic``
    a map of displacement (spring force, elastic part) with, for dampers, a map of velocity;
``balance``
    a map of displacement and absolute acceleration (reaction, link force, beam end force), which keeps
    D'Alembert's balance exactly, damping included; or its elastic or damper portion.

Channels that are alike stand in one block (the stress of a whole part is one), so that their number costs arrays, not
objects.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.readings import Reading
    from holokine.system.build import System

__all__ = ["ChannelBlock", "Channels", "GaugeSet"]

Flags = NDArray[np.bool_]


@dataclass(frozen=True)
class ChannelBlock:
    """Channels of one gauge that are read alike: the components of a place, place by place.

    Attributes
    ----------
    gauge : str
        Name of the gauge.
    components : tuple of str
        ``x``, ``magnitude``, ``N`` ...
    dimension : str
        Key of `units.DIMENSIONS`.
    kind : {"motion", "elastic", "balance"}
    order : int
        Time derivative of a motion.
    relative : bool
        Motion relative to the support frame (or of two points).
    places : int
        How many places the block has.
    portion : str
        Of a balance: elastic or damper, where it is not the whole.
    aside : bool
        No table shows it: how far members turn.
    """

    gauge: str
    components: tuple[str, ...]
    dimension: str
    kind: Literal["motion", "elastic", "balance"]
    order: int = 0
    relative: bool = True
    places: int = 1
    portion: Literal["", "elastic", "damper"] = ""
    aside: bool = False

    @property
    def count(self) -> int:
        """Number of channels."""
        return len(self.components) * self.places

    @property
    def frame(self) -> str:
        """relative or absolute for motions, else nothing."""
        return "" if self.kind != "motion" else "relative" if self.relative else "absolute"


@dataclass(frozen=True)
class Channels:
    """All channels, block by block, with what they are as arrays of shape (channels,)."""

    blocks: tuple[ChannelBlock, ...]

    def __len__(self) -> int:
        return int(self._starts[-1])

    @cached_property
    def _starts(self) -> NDArray[np.int64]:
        return np.cumsum([0, *(b.count for b in self.blocks)], dtype=np.int64)

    @property
    def slices(self) -> list[slice]:
        """Channels of each block."""
        return [slice(int(a), int(b)) for a, b in pairwise(self._starts)]

    def _spread(self, values: list[Any], dtype: Any) -> NDArray[Any]:
        result = np.repeat(np.array(values, dtype=dtype), [b.count for b in self.blocks])
        result.setflags(write=False)
        return result

    @cached_property
    def order(self) -> NDArray[np.int64]:
        """Time derivative of dofs; 0 for all others."""
        return self._spread([b.order if b.kind == "motion" else 0 for b in self.blocks], np.int64)

    @cached_property
    def is_motion(self) -> Flags:
        """Components of dofs."""
        return self._spread([b.kind == "motion" for b in self.blocks], bool)

    @cached_property
    def is_balance(self) -> Flags:
        """Forces from balance."""
        return self._spread([b.kind == "balance" for b in self.blocks], bool)

    @cached_property
    def is_elastic_portion(self) -> Flags:
        """Forces from balance without what damping passes."""
        return self._spread([b.portion == "elastic" for b in self.blocks], bool)

    @cached_property
    def is_damper_portion(self) -> Flags:
        """What damping passes of forces from balance."""
        return self._spread([b.portion == "damper" for b in self.blocks], bool)

    @cached_property
    def is_absolute(self) -> Flags:
        """Motions that include the frame's."""
        return self._spread([b.kind == "motion" and not b.relative for b in self.blocks], bool)

    @cached_property
    def is_acceleration(self) -> Flags:
        """Absolute accelerations."""
        return self.is_absolute & (self.order == 2)

    @cached_property
    def is_rate(self) -> Flags:
        """Velocities and accelerations, which nothing at rest has."""
        return self.is_motion & (self.order > 0)

    def block(self, channel: int) -> ChannelBlock:
        """The block of a channel."""
        return self.blocks[int(np.searchsorted(self._starts, channel, side="right")) - 1]


@dataclass(frozen=True)
class GaugeSet:
    """All channels of the gauges, with their maps.

    Attributes
    ----------
    channels : Channels
    readings : tuple of Reading
        What tables show, in the order of the gauges.
    on_displacement, on_velocity, on_acceleration : sparse array, shape (channels, dofs)
        Maps of relative displacement, relative velocity and absolute acceleration.
    on_multipliers : sparse array, shape (channels, constraints)
        Map of the constraint forces λ.
    free : tuple of (str, slice, ndarray)
        What channels read of a unit free strain of a part, or of a unit force of a spring that its elongation does not
        tell.
    """

    system: System
    channels: Channels
    readings: tuple[Reading, ...]
    on_displacement: csr_array
    on_velocity: csr_array
    on_acceleration: csr_array
    on_multipliers: csr_array
    free: tuple[tuple[str, slice, Floats], ...] = ()

    @property
    def count(self) -> int:
        """Number of channels."""
        return len(self.channels)

    def read(self, displacement: Floats, acceleration: Floats | None = None, applied: Floats | None = None) -> Floats:
        """Values of all channels for fields of displacement and absolute acceleration, under applied forces.

        Parameters
        ----------
        displacement, acceleration : ndarray, shape (fields, dofs)
            In m and rad, m/s² and rad/s²; acceleration is taken as zero when left out.
        applied : ndarray, shape (fields, dofs), optional
            Forces from outside in N and N m (and, beside motion, what dampers take), for constraint forces.

        Returns
        -------
        ndarray, shape (fields, channels)
        """
        u = displacement.T
        values = self.on_displacement @ u
        needs_forces = self.on_multipliers.nnz > 0
        unbalanced = self.system.stiffness @ u if needs_forces else None
        if acceleration is not None:
            values = values + self.on_acceleration @ acceleration.T
            if unbalanced is not None:
                unbalanced = unbalanced + self.system.mass @ acceleration.T
        if unbalanced is not None and applied is not None:
            unbalanced = unbalanced - applied.T
        if unbalanced is not None:
            values = values + self.on_multipliers @ self.system.constraints.forces(unbalanced)
        return np.ascontiguousarray(values.T)

    def of_free(self, amounts: Mapping[str, float]) -> Floats:
        """What all channels read of free strain of parts and of forces that elongations do not tell, (channels,)."""
        values = np.zeros(self.count)
        for name, where, unit in self.free:
            values[where] += amounts.get(name, 0.0) * unit
        return values

    def read_velocity(self, fields: Floats) -> Floats:
        """Values of the dampers' share for fields of velocity, shape (fields, channels)."""
        return np.ascontiguousarray((self.on_velocity @ fields.T).T)
