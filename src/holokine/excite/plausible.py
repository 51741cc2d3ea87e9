"""Base motions of a size that another unit explains better than a shock or vibration does."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.findings import Finding
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.excite.density import PowerPieces
    from holokine.excite.pulse import BasePulse
    from holokine.excite.spectrum import ResponseSpectrum

__all__ = ["about_density", "about_pulse", "about_spectrum"]

FASTEST, FARTHEST = 20.0, 5.0  # m/s and m that a base gains by: beyond a shaker's, a ship's or an earthquake's
SLIGHT, HUGE = 0.02 * STANDARD_GRAVITY, 2e5 * STANDARD_GRAVITY  # below any qualification test; above pyroshock
SEVERE = 10.0  # m/s of pseudo-velocity: near explosions under water
LOUD, FAINT = 300.0 * STANDARD_GRAVITY, 1e-5 * STANDARD_GRAVITY  # RMS
SOONEST = 2e-6  # s between rows: no logger is so fast


def about_pulse(pulse: BasePulse) -> list[Finding]:
    """A base that would be sent off, or a record whose rows lie too close."""
    found: list[Finding] = []
    if not pulse.moves_base:
        return found
    velocity, displacement = pulse.base_motion(pulse.time, pulse.acceleration)
    for d, name in enumerate(pulse.names[: pulse.moving]):
        speed, way = float(np.abs(velocity[:, d]).max()), float(np.abs(displacement[:, d]).max())
        if speed > FASTEST or way > FARTHEST:
            length = pulse.end - pulse.start
            found.append(Finding(
                "warning", f"{name}: the base reaches {speed:.4g} m/s and moves {way:.4g} m in the {length:.4g} s of "
                f"the pulse: are the units of its peak and duration right ({length:g} ms?)",
            ))  # fmt: skip
    steps = np.diff(pulse.time)
    steps = steps[steps > 0]
    span = pulse.end - pulse.start
    if len(steps) > 50 and np.ptp(steps) < 1e-3 * steps.max() and steps.min() < SOONEST and pulse.tabled:
        found.append(Finding(
            "warning", f"the rows of the record follow by {1e6 * steps.min():.3g} µs, all within {span:.3g} s: is its "
            f"time in ms, where s was meant ({1e3 * span:.3g} s)?",
        ))  # fmt: skip
    return found


def about_spectrum(spectrum: ResponseSpectrum) -> list[str]:
    """Whether a spectrum is so small or so large that a unit was probably left out, in words."""
    every = (spectrum, *spectrum.levels)
    most = max(float(s.acceleration.max()) for s in every)
    told = f"the largest value of the spectrum is {most:.4g} m/s² ({most / STANDARD_GRAVITY:.3g} g)"
    if 0.0 < most < SLIGHT or most > HUGE:
        return [f"{told}: is its unit right? A column without one is in the units of the description"]
    fastest, at = max((float(v), float(s.frequency_hz[int((s.acceleration / s.frequency_hz).argmax())]))
                      for s in every for v in [(s.acceleration / (2.0 * np.pi * s.frequency_hz)).max()])  # fmt: skip
    if fastest > SEVERE:
        return [
            f"{told}, and its pseudo-velocity {fastest:.4g} m/s at {at:.4g} Hz, more than near explosions "
            f"under water: is its unit right? In m/s² in place of g it would be {most / STANDARD_GRAVITY**2:.3g} g"
        ]
    return []


def about_density(direction: str, density: PowerPieces) -> list[Finding]:
    """Densities of an overall RMS that no shaker has."""
    rms = density.rms
    if FAINT < rms < LOUD:
        return []
    return [Finding(
        "warning", f"{direction}: the overall RMS is {rms / STANDARD_GRAVITY:.3g} g: is the unit of the density right? "
        "A bare number is in the units of the description, (m/s²)²/Hz in SI; g²/Hz is 96 times as much",
    )]  # fmt: skip
