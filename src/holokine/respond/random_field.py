"""Whole fields under random vibration: RMS of displacement and acceleration of all nodes, of stress of all parts."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.stress import StressField, equivalent_form
from holokine.progress import tell
from holokine.respond.random import RandomResult, root_of
from holokine.respond.reduced import left_out_fields
from holokine.system.loads import base_field
from holokine.system.recovery import PartPeak, keep_worst, stress_fields

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet

__all__ = ["RandomField"]

_NUMBERS = 4_000_000  # of a block


class RandomField:
    """Fields as coordinates (modes and what acts) times shapes, so that a mean square is a product by their root."""

    def __init__(self, answer: RandomResult, modes: ModeSet) -> None:
        self.answer, self.modes = answer, modes
        self.loads = [base_field(modes.system, axis) for axis in "xyz"] + list(answer.acting)
        self.shapes = answer.reader.model.shapes

    @cached_property
    def left_out(self) -> Floats:
        """What left-out modes answer statically to each load, shape (loads, dofs)."""
        reader = self.answer.reader
        columns = [s.column for s in reader.sources] + [f.column for f in reader.felt] if reader.correct else []
        return left_out_fields(self.modes.system, self.loads, columns, self.answer.reduced, self.shapes)

    @cached_property
    def _fields(self) -> Floats:
        return np.vstack([self.shapes, self.left_out, *(self.loads[k].ride[None] for k in self.answer.reduced.apart)])

    @cached_property
    def _root(self) -> Floats:
        return self.answer.reader.root

    def displacement(self) -> Floats:
        """RMS of displacement relative to the frame, shape (dofs,), m and rad."""
        return self._rms(self._root, self._fields)

    def acceleration(self, dofs: NDArray[Any]) -> Floats:
        """RMS of absolute acceleration of some motions, m/s² and rad/s²."""
        rides = np.array([f.ride[dofs] if f.is_base else 0.0 * f.ride[dofs] for f in self.loads])
        covariance = self.answer.reader.coordinates_covariance("a")
        return self._rms(root_of(covariance), np.vstack([self.shapes[:, dofs], rides]))

    @staticmethod
    def _rms(root: Floats, fields: Floats) -> Floats:
        result = np.empty(fields.shape[1])
        step = max(1, _NUMBERS // max(len(root), 1))
        for a in range(0, len(result), step):
            part = root @ fields[:, a : a + step]
            result[a : a + step] = np.sqrt(np.einsum("ij,ij->j", part, part))
        return result

    def stress(self) -> tuple[list[PartPeak], Floats]:
        """Largest RMS of stress of every part with its place, and at every node, Pa, in blocks.

        Shells and solids: equivalent stress by the covariance of its components; beams: extreme fibres.
        """
        found: list[tuple[StressField, Floats, Floats | None]] = []
        for m in stress_fields(self.modes.system):
            tell(f"RMS of stress, {m.parts[0]}")
            values = np.empty((len(m.cells), m.per_element // m.width))
            half = np.ones((1, 1))
            if m.width > 1:
                size, vectors = np.linalg.eigh(equivalent_form(m.width))
                half = (vectors * np.sqrt(np.maximum(size, 0.0))).T
            step = max(1, _NUMBERS // (m.per_element * max(len(self._fields), 1)))
            for a in range(0, len(values), step):
                part = self._root @ m.of(self._fields, slice(a, a + step)).reshape(-1, len(self._fields)).T
                split = part.reshape(len(part), -1, m.width) @ half.T  # (rank, places, components)
                own = np.sqrt(np.einsum("rpw,rpw->p", split, split))
                values[a : a + step] = own.reshape(-1, values.shape[1])
            found.append((m, values.max(axis=1), None))
        return keep_worst(self.modes.system, found)
