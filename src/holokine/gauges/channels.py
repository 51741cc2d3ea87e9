"""Channels: the single numbers that gauges are made of, and how they are read from motion.

A channel is of one of these classes, which decide how a response in modal coordinates reads it:

``motion``
    a component of the motion of a point, or the difference of two; `order` 0, 1, 2 for displacement,
    velocity, acceleration;
``elastic``
    a map of displacement (spring force, elastic part) with, for dampers, a map of velocity;
``balance``
    a map of displacement and absolute acceleration (reaction, link force, beam end force), which keeps
    D'Alembert's balance exactly, damping included.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.system.build import System

__all__ = ["Channel", "Derived", "GaugeSet"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64


@dataclass(frozen=True)
class Channel:
    """One number of a gauge.

    Attributes
    ----------
    gauge : str
        Name of the gauge.
    component : str
        ``x``, ``magnitude``, ``N`` ...
    dimension : str
        Key of `units.DIMENSIONS`.
    kind : {"motion", "elastic", "balance"}
    order : int
        Time derivative of a motion.
    relative : bool
        Motion relative to the support frame (or of two points).
    place : str
        Where, for channels of a field (``element 3, start``).
    """

    gauge: str
    component: str
    dimension: str
    kind: Literal["motion", "elastic", "balance"]
    order: int = 0
    relative: bool = True
    place: str = ""

    @property
    def label(self) -> str:
        """Gauge and component for tables."""
        return f"{self.gauge} {self.component}".strip()


@dataclass(frozen=True)
class Derived:
    """A reading made of several channels.

    Attributes
    ----------
    how : str
        ``single``; ``magnitude`` of components; ``largest`` of a field; ``equivalent`` or ``principal``: the
        largest equivalent (von Mises) or principal stress of a field whose places have `width` components each.
    channels : tuple of int
        Place by place.
    places : tuple of str
        Where, for fields.
    """

    gauge: str
    component: str
    dimension: str
    how: Literal["single", "magnitude", "largest", "equivalent", "principal"]
    channels: tuple[int, ...]
    width: int = 1
    places: tuple[str, ...] = ()

    @property
    def label(self) -> str:
        """Gauge and component for tables."""
        return f"{self.gauge} {self.component}".strip()


@dataclass(frozen=True)
class GaugeSet:
    """All channels of the gauges, with their maps.

    Attributes
    ----------
    channels : tuple of Channel
    readings : tuple of Derived
        What tables show, in the order of the gauges.
    on_displacement, on_velocity, on_acceleration : sparse array, shape (channels, dofs)
        Maps of relative displacement, relative velocity and absolute acceleration.
    on_multipliers : sparse array, shape (channels, constraints)
        Map of the constraint forces λ.
    """

    system: System
    channels: tuple[Channel, ...]
    readings: tuple[Derived, ...]
    on_displacement: csr_array
    on_velocity: csr_array
    on_acceleration: csr_array
    on_multipliers: csr_array

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

    def read_velocity(self, fields: Floats) -> Floats:
        """Values of the dampers' share for fields of velocity, shape (fields, channels)."""
        return np.ascontiguousarray((self.on_velocity @ fields.T).T)
