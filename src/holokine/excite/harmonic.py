"""What swings: amplitude and phase of every source over frequency, e^(+iωt)."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np

from holokine.errors import EventError
from holokine.excite.tables import read_columns

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.describe.events.sweep_event import Harmonic
    from holokine.describe.files import Folder

__all__ = ["Excitation", "Felt", "Swing", "build_swing"]

_POWER = {"acceleration": 0, "velocity": 1, "displacement": 2}
_KNOWN = ("acceleration", "velocity", "displacement", "factor")


@dataclass(frozen=True)
class Swing:
    """One source over frequency: the acceleration of the base in m/s², or the factor of a load.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
        Rising; one point stands for all frequencies.
    amplitude, phase : ndarray, shape (points,)
        Peak in SI, and rad.
    power : int
        How often the given quantity is still to be differentiated: 1 a velocity, 2 a displacement.
    acts : str
        On what: the whole base, a group of supports, a load; a rotor out of balance has a force of the amplitude times
        ω².
    """

    frequency_hz: Floats
    amplitude: Floats
    phase: Floats
    power: int = 0
    interpolate: Literal["log-log", "linear"] = "log-log"
    outside: Literal["error", "hold", "zero"] = "error"
    source: str = "swing"
    acts: Literal["base", "supports", "load", "rotor"] = "load"

    def at(self, frequencies: Floats) -> Complex:
        """Complex amplitude at frequencies in Hz, shape (frequencies,).

        Raises
        ------
        EventError
            Frequencies that the table does not cover, unless `outside` says what holds there.
        """
        f = np.asarray(frequencies, dtype=float)
        omega = 2.0 * np.pi * f
        size, turn = self._size(f)
        value = size * np.exp(1j * turn)
        if self.acts == "rotor":
            return np.asarray(value * omega**2)
        return np.asarray(value * (1j * omega) ** self.power)

    def _size(self, f: Floats) -> tuple[Floats, Floats]:
        if len(self.frequency_hz) == 1:
            return np.full(f.shape, self.amplitude[0]), np.full(f.shape, self.phase[0])
        low, high = float(self.frequency_hz[0]), float(self.frequency_hz[-1])
        beyond = (f < low * (1 - 1e-9)) | (f > high * (1 + 1e-9))
        if self.outside == "error" and beyond.any():
            raise EventError(
                f"{self.source}: the table runs from {low:g} to {high:g} Hz and does not cover the sweep from "
                f"{f.min():g} to {f.max():g} Hz. Extend it, or write outside: hold (its end values) or outside: zero"
            )
        turn = np.interp(f, self.frequency_hz, self.phase)
        if self.interpolate == "linear":
            size = np.interp(f, self.frequency_hz, self.amplitude)
        else:
            size = np.exp(np.interp(np.log(f), np.log(self.frequency_hz), np.log(self.amplitude)))
        return (np.where(beyond, 0.0, size) if self.outside == "zero" else size), turn


@dataclass(frozen=True)
class Felt:
    """A force that goes with the motion of a group of supports.

    Attributes
    ----------
    column : str
        Of the force.
    of : str
        Column of the group's acceleration.
    power : int
        -1 with its velocity, -2 with its displacement.
    factor : complex
        1, or i of loss factors.
    """

    column: str
    of: str
    power: int
    factor: complex = 1.0


@dataclass(frozen=True)
class Excitation:
    """Everything that swings, by column of the reduced model.

    Attributes
    ----------
    columns : tuple of str
        Names of the reduced model's columns (x y z, groups of supports, loads, turning forces of rotors) that swing.
    swings : tuple of Swing
    felt : tuple of Felt
        Forces that go with the motion of groups.
    """

    columns: tuple[str, ...]
    swings: tuple[Swing, ...]
    felt: tuple[Felt, ...] = ()

    def at(self, frequencies: Floats, loads: tuple[str, ...]) -> Complex:
        """Complex amplitude of all columns, shape (frequencies, loads)."""
        result = np.zeros((len(frequencies), len(loads)), dtype=complex)
        for column, swing in zip(self.columns, self.swings, strict=True):
            result[:, loads.index(column)] += swing.at(frequencies)
        return self.with_felt(frequencies, result, loads)

    def with_felt(self, frequencies: Floats, load: Complex, loads: tuple[str, ...]) -> Complex:
        """Complex amplitudes of all columns, (frequencies, loads), with the forces that go with groups."""
        omega = 2.0 * np.pi * np.asarray(frequencies)
        for f in self.felt:
            load[:, loads.index(f.column)] = f.factor * load[:, loads.index(f.of)] * (1j * omega) ** f.power
        return load

    @property
    def corners(self) -> Floats:
        """Frequencies of tables, where an amplitude may have a corner, in Hz."""
        rows = [s.frequency_hz for s in self.swings if len(s.frequency_hz) > 1]
        return np.unique(np.concatenate(rows)) if rows else np.zeros(0)


def build_swing(
    swing: Harmonic, acts: Literal["base", "supports", "load"], *, folder: Folder | None = None, source: str = "swing"
) -> Swing:
    """A source from what the description says: an amplitude, a table, or a CSV file.

    Raises
    ------
    EventError
        Files and tables that cannot be used.
    """
    base = acts != "load"
    if swing.amplitude is not None:
        given = swing.amplitude
        value = given.value if base else float(given.plain or 0.0)
        power = _POWER[given.of] if base else 0
        return Swing(np.ones(1), np.array([value]), np.array([swing.phase]), power, source=source, acts=acts)
    phase: Floats | None = None
    if swing.table is not None:
        name, x = swing.table.column, np.array(swing.table.frequency)
        y = np.array(getattr(swing.table, name))
        phase = None if swing.table.phase is None else np.array(swing.table.phase)
    else:
        assert swing.file is not None
        source = f"{source}, {Path(swing.file).name}"
        columns = read_columns(swing.file, folder)
        names = [n for n in _KNOWN if n in columns]
        if "frequency" not in columns or len(names) != 1:
            raise EventError(
                f"{source}: expected a column of frequency and one of acceleration, velocity, displacement or factor, "
                f"got {', '.join(columns)}"
            )
        name, x = names[0], columns["frequency"]
        y = columns[name]
    if (name == "factor") == base:
        wanted = "acceleration, velocity or displacement" if base else "factor"
        raise EventError(f"{source}: expected a column of {wanted}, got {name}")
    _check(source, x, y, swing.interpolate)
    turn = swing.phase + (np.zeros(len(x)) if phase is None else np.unwrap(phase))
    return Swing(x, y * swing.scale, turn, _POWER.get(name, 0), swing.interpolate, swing.outside, source, acts)


def _check(source: str, x: Floats, y: Floats, interpolate: str) -> None:
    if len(x) < 2:
        raise EventError(f"{source}: needs at least two frequencies")
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise EventError(f"{source}: holds values that are not finite numbers")
    if (x <= 0).any() or (np.diff(x) <= 0).any():
        raise EventError(f"{source}: frequencies must be greater than 0 and rise")
    if (y < 0).any() or (interpolate == "log-log" and (y <= 0).any()):
        raise EventError(
            f"{source}: amplitudes must be {'greater than 0 on a logarithmic axis' if (y >= 0).all() else 'at least 0'}"
            "; write interpolate: linear, or a phase of 180 deg to turn the sign"
        )
