"""Whole fields in time: motion of all nodes at an instant, envelopes with their times, stress of all parts.

A field is coordinates (modes, and loads for what the left-out modes answer) times fields of the same number, so that
envelopes are products of matrices in blocks, with bounded memory.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import csr_array

from holokine.elements.stress import mapped
from holokine.errors import EventError
from holokine.progress import counted
from holokine.respond.governing import largest_stress
from holokine.respond.reduced import solve_static
from holokine.state.rest import rest_factor
from holokine.system.loads import LoadField, base_field
from holokine.system.recovery import BeamEnds, PartPeak, section_maps
from holokine.whole import whole_hdf5

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.transient import TimeResult

__all__ = ["Envelope", "FieldMotion"]

_NUMBERS = 4_000_000  # held at once in a block
LARGEST = 2 * 1024**3


@dataclass(frozen=True)
class Envelope:
    """Extremes of a field in time.

    Attributes
    ----------
    lowest, highest : ndarray, shape (columns,)
        SI, between rows too.
    lowest_time, highest_time : ndarray, shape (columns,)
        s.
    """

    lowest: Floats
    highest: Floats
    lowest_time: Floats
    highest_time: Floats


class FieldMotion:
    """Motion of all nodes under a pulse.

    Raises
    ------
    EventError
        For a direct integration of the full model, which keeps gauges only.
    """

    def __init__(self, answer: TimeResult, modes: ModeSet) -> None:
        if not hasattr(answer.reader, "oscillators"):
            raise EventError("direct integration of the full model keeps the gauges only; take model: reduced")
        self.answer, self.modes = answer, modes
        self.loads = [base_field(modes.system, axis) for axis in "xyz"] + list(answer.acting)
        if len(self.loads) < len(answer.reduced.loads):  # the state itself: fields are what the event adds
            none = np.zeros(modes.system.size)
            self.loads.append(LoadField(answer.reduced.loads[-1], none, none, none))
        more = () if answer.beside is None else (answer.beside,)
        self.shapes = np.vstack([modes.shapes[: answer.reduced.count - sum(map(len, more))], *more])

    @cached_property
    def left_out(self) -> Floats:
        """What the left-out modes answer statically to each load, shape (loads, dofs)."""
        if not self.answer.reader.correct:
            return np.zeros((len(self.loads), self.shapes.shape[1]))
        system, reduced = self.modes.system, self.answer.reduced
        acting = self.answer.pulse.moves | (self.answer.pulse.resting != 0)
        acting[[column for column, _ in self.answer.pulse.felt]] = True
        result = np.zeros((len(self.loads), self.shapes.shape[1]))
        factor = rest_factor(system)
        for k in np.flatnonzero(acting):
            whole = solve_static(system, [self.loads[k]], factor)[0]
            result[k] = whole + (reduced.participation[:, k] / reduced.omega**2) @ self.shapes
        return result

    def _fields(self, what: str) -> Floats:
        """Fields that go with `_coordinates`, shape (coordinates, dofs)."""
        if what == "displacement":
            return np.vstack([self.shapes, self.left_out, *self._following])
        ride = np.array([f.ride if f.is_base else np.zeros_like(f.ride) for f in self.loads])
        return np.vstack([self.shapes, ride])

    @cached_property
    def _following(self) -> list[Floats]:
        """The assembly that follows the base and groups of supports at rest, where groups move, (columns, dofs)."""
        if self.answer.reduced.settled is None:
            return []
        moving = self.answer.pulse.moving
        return [np.array([f.ride if k >= 3 else np.zeros_like(f.ride) for k, f in enumerate(self.loads[:moving])])]

    def _coordinates(self, what: str, rows: Any) -> Floats:
        """Displacement relative to the frame, or absolute acceleration, as coordinates, (rows, modes + loads)."""
        path = self.answer.reader.path
        q, _, a = self.answer.reader.oscillators.motion(path.state[rows], path.load[rows])
        base = self.answer.reader.base(rows) if what == "displacement" else None
        return np.hstack([q if what == "displacement" else a, path.load[rows], *([] if base is None else [base])])

    def at(self, time: float, *, nearest: bool = False) -> tuple[float, Floats]:
        """Instant in s, and displacement relative to the frame then, (dofs,), in m and rad.

        Exactly then, or on the nearest row.

        Raises
        ------
        EventError
            An instant outside the history.
        """
        rows = self.answer.time
        if not rows[0] <= time <= rows[-1]:
            raise EventError(f"the history runs from {rows[0]:.6g} to {rows[-1]:.6g} s; {time:g} s lies outside")
        if nearest:
            row = int(np.abs(rows - time).argmin())
            return float(rows[row]), (self._coordinates("displacement", [row]) @ self._fields("displacement"))[0]
        return float(time), self.frames(np.array([time]))[0]

    def acceleration(self, dof: int) -> Floats:
        """Absolute acceleration of one motion at all rows, in m/s² or rad/s²."""
        return np.asarray(self._coordinates("acceleration", slice(None)) @ self._fields("acceleration")[:, dof])

    def frames(self, times: Floats, dofs: Any = slice(None)) -> Floats:
        """Displacements at instants, shape (instants, dofs chosen)."""
        path = self.answer.reader.path
        row = np.clip(np.searchsorted(self.answer.time, times, side="right") - 1, 0, len(self.answer.time) - 1)
        state, load = self.answer.reader.oscillators.within(path, row, times - self.answer.time[row])
        q, _, _ = self.answer.reader.oscillators.motion(state, load)
        base = []
        if self._following:
            base = [self.answer.reader.base_between(row, times - self.answer.time[row], load)[1]]
        return np.asarray(np.hstack([q, load, *base]) @ self._fields("displacement")[:, dofs])

    def envelope(self, what: str = "displacement", dofs: Any = None, through: csr_array | None = None) -> Envelope:
        """Extremes of every motion (or of some), with their times.

        Parameters
        ----------
        what : str
            displacement (relative to the frame) or acceleration (absolute).
        dofs : ndarray of int, optional
        through : sparse array, shape (columns, dofs), optional
            Map of the motion: extremes of what it gives (section forces, say).

        Rows are taken a few thousand at a time and motions in blocks; the extreme is refined by the parabola through
        the row and its neighbours, which at sixteen rows per period of the highest mode is good to about 1e-4.
        """
        F = self._fields(what)
        if dofs is not None:
            F = F[:, dofs]
        if through is not None:
            F = np.ascontiguousarray(mapped(through, F).T)
        count, rows = F.shape[1], len(self.answer.time)
        C = self._coordinates(what, slice(None))
        best = np.full((2, count), np.inf)
        where = np.zeros((2, count), dtype=np.int64)
        span = min(rows, 8192)
        width = max(1, _NUMBERS // span)
        for a in counted(range(0, rows, span), "largest values in time", "spans"):
            part = np.ascontiguousarray(C[a : a + span].T)
            for b in range(0, count, width):
                values = F[:, b : b + width].T @ part  # (motions, rows): one motion's history lies together
                own = np.arange(len(values))
                for side, index in ((0, values.argmin(axis=1)), (1, values.argmax(axis=1))):
                    found = values[own, index] * (1.0, -1.0)[side]
                    better = found < best[side, b : b + width]
                    best[side, b : b + width][better] = found[better]
                    where[side, b : b + width][better] = a + index[better]
        low, low_at = self._refined(C, F, where[0], best[0], 1.0)
        high, high_at = self._refined(C, F, where[1], best[1], -1.0)
        return Envelope(low, -high, low_at, high_at)

    def members(self) -> tuple[BeamEnds, Envelope]:
        """Ends of all beam elements, and extremes of N Vy Vz T My Mz there with their times."""
        ends, forces = section_maps(self.modes.system)
        return ends, self.envelope(through=forces)

    def _refined(self, C: Floats, F: Floats, rows: Any, best: Floats, sign: float) -> tuple[Floats, Floats]:
        """Lowest of sign · value by the parabola through three rows, and when."""
        t = self.answer.time
        i = np.clip(rows, 1, len(t) - 2)
        y = [sign * np.einsum("ck,ck->c", C[i + k], F.T) for k in (-1, 0, 1)]
        h0, h1 = t[i] - t[i - 1], t[i + 1] - t[i]
        whole = (h0 > 0) & (h1 > 0) & (i == rows)
        h0, h1 = np.where(whole, h0, 1.0), np.where(whole, h1, 1.0)
        s0, s1 = (y[1] - y[0]) / h0, (y[2] - y[1]) / h1
        curve = (s1 - s0) / (h0 + h1)
        slope = s0 + curve * h0  # of the parabola at the middle row
        shift = np.where(whole & (curve > 0), -slope / np.where(curve > 0, 2.0 * curve, 1.0), 0.0)
        shift = np.clip(shift, -h0, h1)
        lower = np.where(shift != 0.0, y[1] + slope * shift + curve * shift**2, best)
        use = lower < best
        return np.where(use, lower, best), np.where(use, t[i] + shift, t[rows])

    def stress(self, *, nodal: bool = True) -> tuple[list[PartPeak], Floats]:
        """Largest stress of every part in time with place and time, and at every node, in Pa.

        On the rows of the answer; elastic stress, as the gauges read it.
        """
        C, F = self._coordinates("displacement", slice(None)), self._fields("displacement")
        return largest_stress(self.modes.system, C, F, self.answer.time, "stress in time", nodal=nodal)

    def numbers(self) -> tuple[int, int]:
        """Rows and motions of the whole history."""
        return len(self.answer.time), self.shapes.shape[1]

    def history(self, largest: int = LARGEST) -> Floats:
        """Displacement of all dofs at all rows, shape (rows, dofs).

        Raises
        ------
        EventError
            When it would take more than `largest` bytes.
        """
        rows, dofs = self.numbers()
        if 8 * rows * dofs > largest:
            raise EventError(
                f"the history of all {dofs:,} degrees of freedom over {rows:,} rows takes {8e-9 * rows * dofs:.1f} GB, "
                f'more than {largest / 1e9:.1f} GB: save it in blocks (answer.save("all.h5")), or take envelopes'
            )
        return self._coordinates("displacement", slice(None)) @ self._fields("displacement")

    def write(self, path: Path, *, every: int = 1) -> int:
        """Write the history of all displacements in blocks to an HDF5 file; returns its bytes.

        Datasets: time (s), displacement (rows, nodes, 6; m and rad), nodes (m).
        """
        rows = np.arange(0, len(self.answer.time), every)
        F, nodes = self._fields("displacement"), self.modes.system.mesh.nodes
        with whole_hdf5(path) as file:
            file["time"], file["nodes"] = self.answer.time[rows], nodes
            kept = file.create_dataset("displacement", (len(rows), len(nodes), 6), dtype="f8")
            step = max(1, _NUMBERS // F.shape[1])
            for a in counted(range(0, len(rows), step), f"writing {path.name}", "blocks"):
                block = self._coordinates("displacement", rows[a : a + step]) @ F
                kept[a : a + len(block)] = block.reshape(len(block), -1, 6)
        return path.stat().st_size
