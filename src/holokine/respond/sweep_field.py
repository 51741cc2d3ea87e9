"""Whole fields of steady vibration: shapes at a frequency and phase, envelopes over a sweep with their frequencies."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import csr_array

from holokine.elements.stress import mapped
from holokine.progress import counted
from holokine.respond.governing import largest_stress
from holokine.respond.reduced import left_out_fields
from holokine.system.loads import base_field
from holokine.system.recovery import BeamEnds, PartPeak, section_maps

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.sweep import SweepResult

__all__ = ["FieldSweep", "Reach"]

_CACHED = 500_000  # numbers that stay in the processor's memory
_SPAN = 1024


@dataclass(frozen=True)
class Reach:
    """Largest amplitudes of a field over a sweep.

    Attributes
    ----------
    amplitude : ndarray, shape (columns,)
        Peak, SI.
    frequency : ndarray, shape (columns,)
        Hz.
    """

    amplitude: Floats
    frequency: Floats


class FieldSweep:
    """Motion of all nodes under a sweep."""

    def __init__(self, answer: SweepResult, modes: ModeSet) -> None:
        self.answer, self.modes = answer, modes
        self.loads = [base_field(modes.system, axis) for axis in "xyz"] + list(answer.acting)
        self.shapes = answer.reader.model.shapes

    @property
    def _apart(self) -> list[int]:
        """Groups of supports, whose motion at rest belongs to displacement."""
        return list(self.answer.reduced.apart)

    @cached_property
    def left_out(self) -> Floats:
        """What left-out modes answer statically to each load, shape (loads, dofs)."""
        reader = self.answer.reader
        columns = [*reader.excitation.columns, *(f.column for f in reader.excitation.felt)] if reader.correct else []
        return left_out_fields(self.modes.system, self.loads, columns, self.answer.reduced, self.shapes)

    def fields(self, what: str = "displacement") -> Floats:
        """Fields that go with `coordinates`, shape (coordinates, dofs)."""
        if what == "displacement":
            return np.vstack([self.shapes, self.left_out, *(self.loads[k].ride[None] for k in self._apart)])
        return np.vstack([self.shapes, np.array([f.ride for f in self.loads])])

    def coordinates(self, what: str = "displacement", frequencies: Floats | None = None) -> Complex:
        """Displacement relative to the frame, or absolute acceleration, as coordinates, (points, modes + loads)."""
        motion = self.answer.motion if frequencies is None else self.answer.reader.motion(frequencies)
        load = motion.load
        if what == "acceleration":  # loads that are no base motion carry nobody
            load = np.where([f.is_base for f in self.loads], load, 0.0)
            return np.hstack([motion.a, load])
        return np.hstack([motion.q, load, motion.base_displacement[:, self._apart]])

    def at(self, frequency: float, phase: float = 0.0) -> Floats:
        """Displacement relative to the frame at an instant of the cycle, shape (dofs,), m and rad."""
        return np.real(self.amplitude(frequency) * np.exp(1j * phase))

    def amplitude(self, frequency: float) -> Complex:
        """Complex displacement relative to the frame at a frequency in Hz, shape (dofs,)."""
        return np.asarray((self.coordinates("displacement", np.array([frequency])) @ self.fields())[0])

    def envelope(self, what: str = "displacement", dofs: Any = None, through: csr_array | None = None) -> Reach:
        """Largest amplitude of every motion (or of some, or of what a map of them gives), with its frequency.

        On the points of the sweep, in blocks: memory stays bounded.
        """
        F = self.fields(what)
        if dofs is not None:
            F = F[:, dofs]
        if through is not None:
            F = np.ascontiguousarray(mapped(through, F).T)
        C, f = self.coordinates(what), self.answer.frequency_hz
        acting = np.flatnonzero(np.abs(C).max(axis=0))
        if len(acting) < len(F):
            C, F = C[:, acting], F[acting]
        count = F.shape[1]
        best, where = np.full(count, -1.0), np.zeros(count, dtype=np.int64)
        width = max(1, _CACHED // (2 * _SPAN))
        for a in counted(range(0, len(f), _SPAN), "largest amplitudes over the sweep", "spans"):
            part = C[a : a + _SPAN]
            both = np.ascontiguousarray(np.concatenate([part.real, part.imag]).T)
            rows = len(part)
            for b in range(0, count, width):
                values = F[:, b : b + width].T @ both  # one motion's curve lies together
                np.multiply(values, values, out=values)
                size = values[:, :rows]
                size += values[:, rows:]
                index = size.argmax(axis=1)
                found = size[np.arange(len(size)), index]
                better = found > best[b : b + width]
                best[b : b + width][better] = found[better]
                where[b : b + width][better] = a + index[better]
        return Reach(np.sqrt(np.maximum(best, 0.0)), f[where])

    def members(self) -> tuple[BeamEnds, Reach]:
        """Ends of all beam elements, and largest amplitudes of N Vy Vz T My Mz there."""
        ends, forces = section_maps(self.modes.system)
        return ends, self.envelope(through=forces)

    def stress(self, *, nodal: bool = True) -> tuple[list[PartPeak], Floats]:
        """Largest stress of every part over the sweep and the cycle with place and frequency, and at every node, Pa."""
        C, F = self.coordinates(), self.fields()
        return largest_stress(self.modes.system, C, F, self.answer.frequency_hz, "stress over the sweep", nodal=nodal)
