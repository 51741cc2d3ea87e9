"""Tuned dampers, as a Python user holds them, and the way there from the words of a request."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import Result, figure, table, writes
from holokine.describe.events import SweepEvent, SweepRange
from holokine.errors import DescriptionError, EventError, UnknownNameError, nearest_hint
from holokine.respond.tuned import tune
from holokine.units import argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.host import AssemblyLike, ModesLike
    from holokine.findings import Finding
    from holokine.respond.tuned import Tuned

__all__ = ["TunedDamper", "tuned_damper"]

STIFF = 1e4
"""Stiffness across a damper on solids, over that along it."""
PUSH, POINT, SHAKE = "tuned damper push", "tuned damper point", "tuned damper sweep"


class TunedDamper(Result):
    """A tuned damper for a mode of an assembly: by the classic optimum, and by the least of the largest.

    Attributes
    ----------
    modes : Modes
        Of the assembly without it.
    result : Tuned
        The numbers, in SI.
    """

    stage = "modes"
    rows = "settings"

    def __init__(
        self, modes: ModesLike, result: Tuned, at: str, axis: tuple[float, float, float], words: str,
        again: Callable[[TunedDamper], float | None],
    ) -> None:  # fmt: skip
        self.modes, self.result, self.at, self.axis, self._words, self._again = modes, result, at, axis, words, again

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.modes.assembly.title}: tuned damper"

    @property
    def of_assembly(self) -> AssemblyLike:
        """That without the damper."""
        return self.modes.assembly

    @property
    def key(self) -> str:
        """Of the modes without it."""
        return self.modes.key

    @property
    def facts(self) -> dict[str, Any]:
        """The damper as entries of a description."""
        return {"members": self.values()}

    @property
    def lines(self) -> list[str]:
        """What it is for, what to build, what it brings, and what solving it anew says."""
        from holokine.show.tuned import tuned_lines

        lines, anew = tuned_lines(self.result, self.at, self.axis, self._words), self.solved_anew
        if anew is not None:
            off = abs(anew / self.result.best.peak - 1.0)
            lines.append(
                f"solved anew with the damper among the members: the largest reading is {100 * off:.2g} % "
                f"{'higher' if anew > self.result.best.peak else 'lower'}; modal damping ratios then hold for its "
                "modes, and its mass rides along across its axis"
            )
        return lines

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it."""
        from holokine.show.tuned import tuned_findings

        return tuned_findings(self.result)

    @table("tuned_damper", "Settings")
    def _settings(self) -> pd.DataFrame:
        """Without, by the classic optimum, by the least of the largest, and with its tuning off by 10 %."""
        import pandas as pd

        from holokine.show.tuned import reading_unit, reduction

        result = self.result
        unit, size = reading_unit(result)
        rows: list[dict[str, Any]] = [
            {"setting": "without", "peak": result.without / size, "unit": unit, "at_hz": result.without_at,
             "reduction": 1.0}
        ]  # fmt: skip
        named = [("classic optimum", result.classic), ("least of the largest", result.best)]
        for name, s in [*named, *((f"tuning {100 * by:+.0f} %", s) for by, s in result.scattered)]:
            rows.append({
                "setting": name, "mass_kg": s.mass, "stiffness_n_per_mm": 1e-3 * s.stiffness,
                "damping_n_s_per_m": s.damping, "own_frequency_hz": s.frequency_hz,
                "own_damping_percent": 100.0 * s.ratio, "peak": s.peak / size, "unit": unit, "at_hz": s.at,
                "reduction": reduction(result, s), "stroke_mm": 1e3 * s.stroke,
            })  # fmt: skip
        return pd.DataFrame(rows, columns=list(rows[-1]))

    def values(self, name: str = "tuned damper", *, which: str = "best") -> dict[str, Any]:
        """The damper as entries of a description: a point, a mass, and a joint (a bushing on solids) along its axis.

        Parameters
        ----------
        name : str
            Of the mass; the joint or bushing is called so with ``spring`` after it.
        which : str
            best or classic.
        """
        setting = self.result.classic if which == "classic" else self.result.best
        system = self.modes.set.system
        node = system.node(self.at, "tuned damper")
        stiffness = {"x": f"{setting.stiffness:.10g} N/m"}
        slides = {
            "between": [self.at, name], "stiffness": stiffness, "damping": {"x": f"{setting.damping:.10g} N s/m"},
            "axes": {"x": list(self.axis), "y": _across(self.axis)},
        }  # fmt: skip
        turns = bool(system.active[6 * node + 3 : 6 * node + 6].all())
        if not turns:  # a node of solids: no joint holds the mass there; across it stands on stiff springs
            stiffness |= dict.fromkeys("yz", f"{STIFF * setting.stiffness:.10g} N/m")
        return {
            "points": {name: {"at": [f"{1e3 * x:.10g} mm" for x in system.mesh.nodes[node]], "apart": True}},
            "masses": {name: {"at": name, "mass": f"{setting.mass:.10g} kg"}},
            "joints" if turns else "bushings": {f"{name} spring": slides},
        }

    def assembly(self, name: str = "tuned damper", *, which: str = "best") -> Any:
        """The assembly with the damper in it, to be solved, compared and written like any other."""
        return self.modes.assembly.changed(self.values(name, which=which))

    @cached_property
    def solved_anew(self) -> float | None:
        """Largest reading over the band with the damper among the members and modes extracted anew, SI.

        None where the damper's axis is not a global one and no event is given, for which there is no gauge.
        """
        from holokine.api.announce import unannounced

        with unannounced():
            return self._again(self)

    @figure("tuned_damper")
    def _drawn(self) -> Any:
        """Amplitude over frequency without the damper and with each setting."""
        from holokine.show.tuned import plot_tuned

        return plot_tuned(self.result, f"{self.modes.assembly.title}: {self._words}")

    @writes(".yaml", ".yml")
    def _assembly_file(self, path: Path) -> None:
        """The assembly with the damper in it."""
        self.assembly().save(path)


def _across(axis: tuple[float, float, float]) -> list[float]:
    """A direction across an axis."""
    least = min(range(3), key=lambda k: abs(axis[k]))
    return [1.0 if k == least else 0.0 for k in range(3)]


def tuned_damper(
    modes: Any, at: str, axis: str | Sequence[float], mode: int | None, mass: float | str | None,
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
    chain = modes.now
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


def _most_moved(modes: ModesLike, node: int, direction: NDArray[Any]) -> int:
    """The lowest mode of which the point has most of the motion, by kinetic energy of a unit mass there."""
    motion = np.abs(modes.set.shapes.reshape(modes.set.count, -1, 6)[:, node, :3] @ direction) / modes.set.omega
    return int(motion.argmax())


def _reading(modes: Any, gauge: str) -> int:
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
    return float(answer.result.swing[answer.rows_of(POINT)[0]])
