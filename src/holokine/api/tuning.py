"""From the words of a request to a tuned damper."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.tuned import TunedDamper
from holokine.describe.events import SweepEvent, SweepRange
from holokine.errors import DescriptionError, EventError
from holokine.respond.tuned import tune
from holokine.units import argument_of

if TYPE_CHECKING:
    from holokine.api.modes import Modes

__all__ = ["tuned_damper"]

PUSH, POINT, SHAKE = "tuned damper push", "tuned damper point", "tuned damper sweep"


def tuned_damper(
    modes: Modes, at: str, axis: str | Sequence[float], mode: int | None, mass: float | str | None,
    ratio: float | str | None, against: str | None, gauge: str | None, band: Sequence[float | str] | None,
) -> TunedDamper:  # fmt: skip
    """See `Modes.tune`."""
    if (mass is None) == (ratio is None):
        raise DescriptionError("a tuned damper: give its mass, or its ratio to the effective mass, one of them")
    kilograms = None if mass is None else argument_of("mass", mass, "mass")
    share = None if ratio is None else argument_of("ratio", ratio, "number")
    for value, word in ((kilograms, "mass"), (share, "ratio")):
        if value is not None and not value > 0:
            raise DescriptionError(f"a tuned damper: its {word} must be greater than 0")
    if share is not None and share >= 1.0:
        raise DescriptionError(f"a mass ratio of {share:g} is no damper on the assembly; did you mean {share:g} %?")
    direction = _direction(axis)
    chain = modes._now
    node = chain.system.node(at, "tuned damper")
    row = modes.set.index(mode) if mode is not None else _most_moved(modes, node, direction)
    limits = None if band is None else tuple(argument_of("band", b, "frequency") for b in band)
    if limits is not None and (len(limits) != 2 or not 0 < limits[0] < limits[1]):
        raise EventError("a band runs from one frequency to a higher one")
    acts: Any = against or "force"
    reading: int | None = None
    if acts not in ("force", "base"):
        name, event = modes.assembly.event_of(acts)
        if not isinstance(event, SweepEvent):
            raise EventError(f'"{name}" is one of {event.words}; a tuned damper is for a sine sweep, force or base')
        acts = (name, event)
        if gauge is None:
            raise EventError("a tuned damper against a sweep: name the gauge whose largest is to be least")
        reading = _reading(modes, gauge)
    elif gauge is not None:
        raise EventError("a gauge belongs to a sweep of the description (against); force and base read the point")
    result = tune(
        chain, node, direction, mode=row, mass=kilograms, ratio=share, acts=acts, reading=reading,
        band=limits,  # type: ignore[arg-type]
    )  # fmt: skip
    source = (
        f"{acts[0]}, {gauge}"
        if isinstance(acts, tuple)
        else {"force": f"a force at {at}, its displacement there", "base": f"motion of the base, displacement of {at}"}[
            acts
        ]
    )
    words = f"mode {modes.set.numbers[row]} ({modes.set.frequencies_hz[row]:.4g} Hz), against {source}"
    return TunedDamper(
        modes, result, at, tuple(direction.tolist()), words, partial(_solved_anew, acts, at, direction, reading)
    )


def _direction(axis: str | Sequence[float]) -> NDArray[Any]:
    if isinstance(axis, str):
        if axis not in ("x", "y", "z"):
            raise DescriptionError(f'axis: expected x, y, z or three numbers, got "{axis}"')
        return np.eye(3)["xyz".index(axis)]
    vector = np.array([float(v) for v in axis])
    if vector.shape != (3,) or not np.linalg.norm(vector) > 0:
        raise DescriptionError(f"axis: expected x, y, z or three numbers that are not all zero, got {axis}")
    return np.asarray(vector / np.linalg.norm(vector))


def _most_moved(modes: Modes, node: int, direction: NDArray[Any]) -> int:
    """The lowest mode of which the point has most of the motion, by kinetic energy of a unit mass there."""
    motion = np.abs(modes.set.shapes.reshape(modes.set.count, -1, 6)[:, node, :3] @ direction) / modes.set.omega
    return int(motion.argmax())


def _reading(modes: Modes, gauge: str) -> int:
    from holokine.errors import UnknownNameError, nearest_hint

    readings = modes.reduced.readings
    found = [k for k, r in enumerate(readings) if gauge in (r.gauge, r.label)]
    if not found:
        hint = nearest_hint(gauge, list(dict.fromkeys(r.label for r in readings)), "readings")
        raise UnknownNameError(f'there is no reading "{gauge}". {hint}')
    if len(found) > 1:
        names = ", ".join(readings[k].label for k in found)
        raise EventError(f'"{gauge}" has several components; name one: {names}')
    return found[0]


def _solved_anew(acts: Any, at: str, direction: NDArray[Any], reading: int | None, damper: TunedDamper) -> float | None:
    """Solve the assembly with the damper among its members, and read the same thing."""
    low, high = damper.result.band
    assembly, count = damper.assembly(), len(damper.modes) + 2
    sweep = SweepRange(range=(low, high))
    if isinstance(acts, tuple):
        event = acts[1]
        answer: Any = assembly.modes(count).respond(event.model_copy(update={"sweep": sweep}))
        return float(answer.result.swing[reading])
    if (np.abs(direction) > 0).sum() != 1:
        return None
    axis = "xyz"[int(np.abs(direction).argmax())]
    shake: dict[str, Any] = {"sweep": [low, high]}
    more: dict[str, Any] = {"gauges": {POINT: {"displacement": at, "axis": axis}}}
    if acts == "force":
        more["loads"] = {PUSH: {"at": at, "force": [f"{d:g} N" for d in direction]}}
        shake["loads"] = {PUSH: 1.0}
    else:
        shake["base"] = {axis: "1 m/s^2"}
    more["events"] = {SHAKE: shake}
    answer = assembly.changed(more).modes(count).respond(SHAKE)
    return float(answer.result.swing[answer._numbers(POINT)[0]])
