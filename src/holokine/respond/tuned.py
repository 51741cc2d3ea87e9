"""Tuned dampers: a mass on a spring and damper that takes a resonance off an assembly.

The assembly without the damper is known by four curves over frequency: how its point and the reading move, each under
what acts and under a unit force at the point. The damper couples to them by its dynamic stiffness, exactly, so that
every spring and damper can be tried without solving for modes again.

Classic optimum: Den Hartog, Mechanical Vibrations (1956), section 3.3, for a force; Warburton, Earthq. Eng.
Struct. Dyn. 10 (1982) 381-401, for motion of the base: of one undamped mass. Minimax: the spring and damper with
which the largest reading over the band is least, by optimisation on the assembly as it is, damping and all other modes
included; of one undamped mass it is that of Nishihara & Asami, J. Vib. Acoust. 124 (2002) 576-582.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from holokine.errors import EventError
from holokine.excite.harmonic import Excitation, Swing
from holokine.progress import tell
from holokine.respond.answer_sweep import swinging
from holokine.respond.bench import Bench, taken
from holokine.respond.curves import gathered_points
from holokine.respond.reduced import solve_static, with_loads
from holokine.respond.steady import steady_model
from holokine.respond.sweep import SweepReader, over_cycle
from holokine.system.loads import LoadField, base_field

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.gauges.readings import Reading

__all__ = ["Host", "Setting", "Tuned", "classic_setting", "host_of", "minimax", "tune"]

Acts = Literal["force", "base"]
DEVICE = "tuned damper"
_POINTS = 1500
SCATTER = 0.1


@dataclass(frozen=True)
class Setting:
    """Spring and damper of a tuned damper of a given mass.

    Attributes
    ----------
    mass, stiffness, damping : float
        kg, N/m, N s/m.
    peak : float
        Largest of the reading over the band, SI.
    at : float
        Where that is, Hz.
    stroke : float
        Largest travel of the mass relative to its point over the band, m.
    """

    mass: float
    stiffness: float
    damping: float
    peak: float = np.nan
    at: float = np.nan
    stroke: float = np.nan

    @property
    def frequency_hz(self) -> float:
        """Of the mass on its spring, on a fixed point."""
        return float(np.sqrt(self.stiffness / self.mass) / (2.0 * np.pi))

    @property
    def ratio(self) -> float:
        """Damping ratio of the mass on its spring and damper."""
        return float(self.damping / (2.0 * np.sqrt(self.stiffness * self.mass)))


@dataclass(frozen=True)
class Host:
    """The assembly without its damper, over frequency.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
    moves, yields : ndarray, shape (points,), complex
        Absolute displacement of the point along the damper under what acts, and per N there.
    reads, answers : ndarray, shape (points, width), complex
        Components of the reading under what acts, and per N there.
    reading : Reading or None
        None: the displacement of the point.
    """

    frequency_hz: Floats
    moves: Complex
    yields: Complex
    reads: Complex
    answers: Complex
    reading: Reading | None = None
    bounded: bool = True
    """Whether every mode in the band has damping of its own."""

    def with_damper(self, setting: Setting | None) -> tuple[Floats, Floats]:
        """Size of the reading with a damper (or without), and travel of its mass, shape (points,) each."""
        if setting is None:
            return self._size(self.reads), np.zeros(len(self.moves))
        w = 2.0 * np.pi * self.frequency_hz
        spring = setting.stiffness + 1j * w * setting.damping
        free = spring - setting.mass * w**2
        pull = setting.mass * w**2 * spring / free  # force on the point per its displacement
        moved = self.moves / (1.0 - pull * self.yields)
        size = self._size(self.reads + (pull * moved)[:, None] * self.answers)
        return size, np.abs(setting.mass * w**2 / free * moved)

    def _size(self, parts: Complex) -> Floats:
        return np.abs(parts[:, 0]) if self.reading is None else over_cycle(self.reading, parts)

    def judged(self, setting: Setting | None) -> tuple[float, float, float]:
        """Largest reading, where (Hz), and largest travel: of the curves through the points."""
        size, travel = self.with_damper(setting)
        peak, at = _top(self.frequency_hz, size)
        return peak, at, _top(self.frequency_hz, travel)[0] if setting is not None else 0.0

    def set(self, mass: float, stiffness: float, damping: float) -> Setting:
        """A setting with what it reaches."""
        return Setting(mass, stiffness, damping, *self.judged(Setting(mass, stiffness, damping)))


def _top(f: Floats, size: Floats) -> tuple[float, float]:
    """Largest of a curve, by the parabola through 1/size² at the largest point and its neighbours, and where."""
    k = int(size.argmax())
    if k in (0, len(f) - 1):
        return float(size[k]), float(f[k])
    x, y = f[k - 1 : k + 2], 1.0 / np.maximum(size[k - 1 : k + 2], 1e-300) ** 2
    s0, s1 = (y[1] - y[0]) / (x[1] - x[0]), (y[2] - y[1]) / (x[2] - x[1])
    bend = (s1 - s0) / (x[2] - x[0])
    if not bend > 0:
        return float(size[k]), float(f[k])
    slope = s0 + bend * (x[1] - x[0])
    step = float(np.clip(-slope / (2.0 * bend), x[0] - x[1], x[2] - x[1]))
    low = float(y[1] + slope * step + bend * step**2)
    return (1.0 / np.sqrt(low) if 0 < low <= y[1] else float(size[k])), float(x[1] + step)


@dataclass(frozen=True)
class Tuned:
    """A tuned damper on an assembly.

    Attributes
    ----------
    mode : int
        Row of the mode, from 0.
    effective_mass : float
        Modal mass of the mode at the point along the damper, kg.
    mass_ratio : float
        Mass of the damper over that.
    acts : str
        force or base: which classic optimum applies.
    without : float
        Largest of the reading over the band without a damper, SI.
    classic, best : Setting
    scattered : tuple of (float, Setting)
        The best one with its own frequency off by a share.
    """

    host: Host
    mode: int
    effective_mass: float
    mass_ratio: float
    acts: Acts
    band: tuple[float, float]
    without: float
    without_at: float
    classic: Setting
    best: Setting
    scattered: tuple[tuple[float, Setting], ...]


def classic_setting(mass: float, ratio: float, omega: float, acts: Acts) -> Setting:
    """Spring and damper by the classic optimum of one undamped mass, for a mass ratio and an angular frequency.

    Raises
    ------
    EventError
        A mass ratio for which motion of the base has no such optimum (2 and more).
    """
    if acts == "force":
        own = omega / (1.0 + ratio)
        zeta = np.sqrt(3.0 * ratio / (8.0 * (1.0 + ratio)))
    else:
        if ratio >= 2.0:
            raise EventError(f"a mass ratio of {ratio:.3g} is too large: the classic optimum needs less than 2")
        own = omega * np.sqrt(1.0 - ratio / 2.0) / (1.0 + ratio)
        zeta = np.sqrt(3.0 * ratio / (8.0 * (1.0 + ratio) * (1.0 - ratio / 2.0)))
    return Setting(mass, mass * own**2, 2.0 * zeta * mass * own)


def minimax(host: Host, start: Setting) -> Setting:
    """The spring and damper for which the largest reading is least, from a first guess."""
    from scipy.optimize import minimize

    scale = host.judged(None)[0] or 1.0

    def largest(x: Floats) -> float:
        k, c = start.stiffness * np.exp(x[0]), start.damping * np.exp(x[1])
        return host.judged(Setting(start.mass, k, c))[0] / scale

    x = np.zeros(2)
    for spread in (0.15, 0.03, 0.005):  # the largest of several peaks has a kink, at which one descent may stick
        corners = x + spread * np.array([[0.0, 0.0], [1.0, 0.3], [0.3, 1.0]])
        options = {"initial_simplex": corners, "xatol": 1e-9, "fatol": 1e-12, "maxiter": 400}
        found = minimize(largest, x, method="Nelder-Mead", options=options)
        x = found.x
    return host.set(start.mass, start.stiffness * float(np.exp(x[0])), start.damping * float(np.exp(x[1])))


def host_of(
    bench: Bench, node: int, direction: Floats, acts: Any, reading: int | None, band: tuple[float, float]
) -> Host:
    """Curves of the assembly without a damper.

    Parameters
    ----------
    direction : ndarray, shape (3,)
        Of length 1.
    acts : "force", "base", or (name, SweepEvent)
        A unit force at the point along the damper, a base acceleration of 1 m/s² along it, or what an event swings.
    reading : int, optional
        Row of a reading; None: the displacement of the point (relative to the frame).
    band : tuple of float
        Hz.
    """
    system = bench.system
    dofs = 6 * node + np.arange(3)
    none, force = np.zeros(system.size), np.zeros(system.size)
    force[dofs] = direction
    extra: list[LoadField] = []
    damping = None
    if isinstance(acts, tuple):
        name, event = acts
        reduced = taken(bench, event)
        excitation, extra = swinging(bench, name, event)
        damping = event.damping
    else:
        reduced = bench.reduced
        one = np.ones(1)
        if acts == "force":
            excitation = Excitation((DEVICE,), (Swing(one, one, np.zeros(1)),))
        else:
            named = [(axis, float(d)) for axis, d in zip("xyz", direction, strict=True) if d]
            excitation = Excitation(
                tuple(a for a, _ in named), tuple(Swing(one, np.array([d]), np.zeros(1)) for _, d in named)
            )
    fields = [base_field(system, axis) for axis in "xyz"] + [*extra, LoadField(DEVICE, force, none, none)]
    reduced = with_loads(reduced, bench.modes, bench.gauges, fields[3:])
    model = steady_model(bench, reduced, lambda: fields, damping)
    reader = SweepReader(model, excitation)
    reduced = reader.reduced
    device = reduced.column(DEVICE)
    centres, widths = model.vibration.resonances()
    f = np.unique(np.concatenate([
        gathered_points(*band, centres, widths, excitation.corners),
        np.geomspace(*band, _POINTS),
    ]))  # fmt: skip
    undamped = centres[widths < 2e-9 * centres]
    if len(undamped):  # whose resonance itself no curve has
        f = f[np.abs(f[:, None] / undamped - 1.0).min(axis=1) > 1e-6]
    bounded = not ((undamped > band[0]) & (undamped < band[1])).any()
    shape = model.shapes[:, dofs] @ direction
    still = (
        solve_static(system, fields)[:, dofs] @ direction
        + (reduced.participation / reduced.omega[:, None] ** 2).T @ shape
    )
    acting, pushed = reader.motion(f), reader.motion(f, _unit(len(f), len(fields), device))
    carried = acting.base_displacement @ [f.ride[dofs] @ direction if f.is_base else 0.0 for f in fields]
    moved = acting.q @ shape + acting.load @ still
    yields = pushed.q @ shape + still[device]
    if reading is None:
        return Host(f, moved + carried, yields, moved[:, None], yields[:, None], None, bounded)
    one_reading = reduced.readings[reading]
    if one_reading.count > 1:
        raise EventError(f'"{one_reading.label}" is the largest of many places; take a gauge of one place')
    columns = np.array(one_reading.at(0))
    read, answered = reader.rows(acting, columns), reader.rows(pushed, columns)
    return Host(f, moved + carried, yields, read, answered, one_reading, bounded)


def _unit(rows: int, loads: int, column: int) -> Complex:
    result = np.zeros((rows, loads), dtype=complex)
    result[:, column] = 1.0
    return result


def tune(
    bench: Bench, node: int, direction: Floats, *, mode: int, mass: float | None, ratio: float | None, acts: Any,
    reading: int | None = None, band: tuple[float, float] | None = None,
) -> Tuned:  # fmt: skip
    """The classic optimum and the minimax of a tuned damper at a node along a direction.

    Parameters
    ----------
    mode : int
        Row of the mode that it is for, from 0.
    mass, ratio : float
        One of them: kg, or over the effective modal mass at the point.
    band : tuple of float, optional
        Hz; 0.6 to 1.5 times the mode's frequency when left out.

    Raises
    ------
    EventError
        A point that the mode does not move along the direction.
    """
    modes = bench.modes
    motion = float(modes.shapes[mode].reshape(-1, 6)[node, :3] @ direction)
    largest = float(np.abs(modes.shapes[mode].reshape(-1, 6)[:, :3]).max())
    if abs(motion) < 1e-3 * largest:
        raise EventError(
            f"mode {mode + 1} hardly moves the point along this direction ({100 * abs(motion) / largest:.2g} % of its "
            "largest): a damper there does nothing for it"
        )
    effective = 1.0 / motion**2
    ratio = float(mass / effective) if mass is not None else float(ratio or 0.0)
    mass = ratio * effective
    f = float(modes.frequencies_hz[mode])
    band = band or (0.6 * f, 1.5 * f)
    tell("curves of the assembly without the damper")
    host = host_of(bench, node, direction, acts, reading, band)
    kind: Acts = "base" if acts == "base" or (isinstance(acts, tuple) and (acts[1].base or acts[1].moving)) else "force"
    first = classic_setting(mass, ratio, float(modes.omega[mode]), kind)
    classic = host.set(mass, first.stiffness, first.damping)
    tell("the least of the largest")
    best = minimax(host, classic)
    scattered = tuple(
        (by, host.set(mass, best.stiffness * (1.0 + by) ** 2, best.damping)) for by in (-SCATTER, SCATTER)
    )
    without, at, _ = host.judged(None)
    if not host.bounded:
        without = np.inf
    return Tuned(host, mode, effective, ratio, kind, band, without, at, classic, best, scattered)
