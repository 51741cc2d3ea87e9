"""The answer to an event, as a Python user holds it: what every kind has. Each kind has a class of its own beside."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import Entry, Result, Writer, saved, table, writes
from holokine.errors import EventError, StaleError, UnknownNameError, nearest_hint
from holokine.findings import Finding

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.host import AssemblyLike, ModesLike
    from holokine.describe.events import EventKind
    from holokine.respond.limits import LimitCheck
    from holokine.respond.meaning import Meaning
    from holokine.store.chain import Chain, ModalChain
    from holokine.system.build import System

__all__ = ["Answer", "MovingAnswer"]

R = TypeVar("R")

NO_GAUGES = "the assembly has no gauges: named points, members and stress of parts are answered; gauges: reads more"


class Answer(Result, Generic[R]):
    """Peaks and whole fields for one event.

    Attributes
    ----------
    assembly : Assembly
    event : EventKind
        The event as described.
    result
        The numbers, in SI.
    """

    unmet = "a limit is not met"
    stage = "answer"
    rows = "readings"
    lines_first = 1
    has_fields: bool = True

    def __init__(
        self,
        assembly: AssemblyLike,
        chain: Chain | ModalChain,
        event: EventKind,
        result: R,
        modes: ModesLike | None = None,
    ) -> None:
        self.assembly, self.event, self.result, self._chain, self._modes = assembly, event, result, chain, modes

    @property
    def title(self) -> str:
        """Assembly and event."""
        return f"{self.assembly.title}: {self.name}"

    @property
    def modes(self) -> ModesLike:
        """The modes that the answer was made from.

        Raises
        ------
        EventError
            For a kind of event that needs none.
        """
        if self._modes is None:
            raise EventError(f"an answer to {self.event.words} has no modes")
        return self._modes

    @property
    def system(self) -> System:
        """The system that the answer is of."""
        return self._chain.system

    @property
    def name(self) -> str:
        """Name of the event."""
        return str(self._numbers_of.name)

    @property
    def _numbers_of(self) -> Any:
        return self.result

    @property
    def key(self) -> str:
        """Key of the answer: equal for equal descriptions, modes and events, on every machine."""
        return self._chain.document.keys.of_answer(self.event, self._basis)

    @property
    def _basis(self) -> Any:
        return self._chain.basis if self._modes is not None else None  # type: ignore[union-attr]

    @property
    def facts(self) -> dict[str, Any]:
        """Event and kind."""
        return {"event": self.name, "kind": self.event.kind}

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting the answer: modes, preloads, then event."""
        from holokine.describe.preloads import preload_findings
        from holokine.respond.reduced import about_slight
        from holokine.respond.resting import large_turns

        of_modes = () if self._modes is None else self._modes.findings
        told = (*of_modes, *preload_findings(self._chain.document.description), *self._numbers_of.findings)
        told = (*told, *self._about_state(), *large_turns(self._numbers_of), *about_slight(self._numbers_of))
        return told if self._numbers_of.reduced.readings else (*told, Finding("note", NO_GAUGES))

    def _about_state(self) -> list[Finding]:
        """Whether the numbers hold the state, and whether the vibration lifts what rests in it."""
        from holokine.describe.twice import acting_twice
        from holokine.respond.resting import letting_go

        d = self._chain.document.description
        state = d.state
        if self.event.in_state is not None:
            return [Finding("note", f'readings are those of the state "{state}" itself')]
        if state is None:
            return []
        whole = getattr(self.event, "with_state", None)
        text = f'readings are what the event adds to the state "{state}"; limits are checked on the total of both'
        if whole:
            text = (
                f'readings are the total of the state "{state}" and what the event adds; whole fields are what it adds'
            )
        twice = acting_twice(d, state, self._at_rest_loads())
        return [*twice, Finding("note", text), *letting_go(self._numbers_of)]

    def _at_rest_loads(self) -> dict[str, float]:
        """Loads that the event has at rest, with their factors."""
        d = self._chain.document.description
        total: dict[str, float] = {}
        for event in (self.event, *(d.events[name] for name in self.event.at_rest)):
            for name, factor in getattr(event, "static", {}).items():
                total[name] = total.get(name, 0.0) + factor
        return total

    # -- limits -----------------------------------------------------------------------------------------------------

    @property
    def ok(self) -> bool:
        """Whether every limit is met (true without limits)."""
        return all(c.ok for c in self._limits())

    def _limits(self) -> list[LimitCheck]:
        """Peaks against the limits of the assembly as they are now.

        Raises
        ------
        StaleError
            When the assembly has changed since in what the answer depends on.
        """
        from holokine.respond.limits import check_limits, read_limits

        now = self.assembly.document
        if now is not self._chain.document:
            event = now.description.events.get(self.name, self.event)
            if now.keys.of_answer(event, self._basis) != self.key:
                raise StaleError(f'the assembly has changed since "{self.name}" was answered: answer it again')
        result = self._numbers_of
        limits = read_limits(now.description.limits, result.reduced.readings)
        told = {row: limit for row, limit in limits.items() if self._can_tell(row)}
        peaks, bounds = self._totals if told else (result.peaks, np.zeros(len(result.peaks), dtype=bool))
        return check_limits(told, peaks, result.meaning, bool(self._holds_state), bounds)

    @property
    def _reads_state(self) -> bool:
        """Whether the readings themselves hold a state."""
        return bool(getattr(self.event, "with_state", None)) or self.event.in_state is not None

    @property
    def _holds_state(self) -> bool:
        """Whether limits are held against the total of a state and what the event adds."""
        return self._reads_state or self._chain.document.description.state is not None

    @cached_property
    def _totals(self) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        """Peaks with the state beside them, by the sign that is worse, and which are bounds; without one the peaks."""
        from holokine.respond.resting import state_channels, totals

        result, state = self._numbers_of, None
        if self._holds_state and not self._reads_state:
            state = self._chain.at_rest
        if state is None:
            return np.asarray(result.peaks), np.zeros(len(result.peaks), dtype=bool)
        ends = (getattr(result, "lowest", None), getattr(result, "highest", None))
        return totals(result.reduced.readings, state_channels(state), result.peaks, *ends)

    def _checks(self) -> list[LimitCheck]:
        """The limits for a figure to go by; none where the assembly has changed since."""
        try:
            return self._limits()
        except StaleError:
            return []

    def _can_tell(self, reading: int) -> bool:
        """Whether a limit on this reading has a meaning here."""
        return True

    # -- tables -----------------------------------------------------------------------------------------------------

    @property
    def shown(self) -> Meaning:
        """What tables and pictures of whole fields show."""
        return self._numbers_of.meaning  # type: ignore[no-any-return]

    @table("peaks", "Peaks", hide=("lowest", "lowest_at_ms", "highest", "highest_at_ms", "rms"))
    def _peaks(self) -> pd.DataFrame:
        """Peak of every gauge in display units."""
        raise NotImplementedError

    @table("limits", "Limits", when=lambda self: bool(self.assembly.description.limits))
    def _limits_table(self) -> pd.DataFrame:
        """Peaks against limits, most used first: what the peak is and of what, use in percent, met or not."""
        from holokine.show.tables import limits_table

        return limits_table(self._numbers_of, self._limits())

    @table("largest", listed=False)
    def _largest_table(self) -> pd.DataFrame:
        """Size of every gauge with what it is (peak, 3 RMS, value), alike for every kind of answer: for comparisons."""
        from holokine.show.tables import largest_table

        return largest_table(self._numbers_of, {"event": self.name})

    @table("points", "Named points", listed=False)
    def _points(self) -> pd.DataFrame:
        """Motion of every named point."""
        raise NotImplementedError

    @table("stress", "Largest stress of parts", listed=False)
    def _stress_table(self) -> pd.DataFrame:
        """Largest stress of every part with its place: combined, at rest, or in time with the instant."""
        from holokine.show.tables import part_peaks_table

        return part_peaks_table(self._worst, self._when, self.shown)

    _when: ClassVar[tuple[str, float]] = ("time_ms", 1e3)
    """Column, and factor, of when the largest is reached."""

    @property
    def _worst(self) -> Any:
        """Peaks of stress by part."""
        return self._stress[0]

    @property
    def _stress(self) -> Any:
        """Peaks by part, and the largest at every node in Pa."""
        raise NotImplementedError

    @property
    def _largest(self) -> NDArray[Any]:
        """Largest displacement of every degree of freedom in m and rad, shape (dofs,)."""
        raise NotImplementedError

    def rows_of(self, gauge: str) -> list[int]:
        """Which readings are of a gauge, or are a component of one.

        Raises
        ------
        UnknownNameError
        """
        readings = self._numbers_of.reduced.readings
        found = [n for n, r in enumerate(readings) if gauge in (r.gauge, r.label)]
        if not found:
            names = list(dict.fromkeys(r.gauge for r in readings))
            raise UnknownNameError(f'there is no gauge "{gauge}". {nearest_hint(gauge, names, "gauges")}')
        return found

    @property
    def _main_points(self) -> tuple[dict[str, int], NDArray[np.int64]]:
        """Named points that move, with their rows of x y z."""
        nodes = self.system.moving_points()
        return nodes, (6 * np.array(list(nodes.values()), dtype=np.int64)[:, None] + np.arange(3)).ravel()

    def screens(self, *names: str) -> list[tuple[str, pd.DataFrame]]:
        """Tables as a reader wants them first; without gauges named points, and the largest stress of every part."""
        found = super().screens(*names)
        if names or self._numbers_of.reduced.readings or not self.has_fields:
            return found
        return [*found, *super().screens("points", "stress")]

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        if entry.name == "peaks" and "place" in short:
            if not short["place"].fillna("").astype(bool).any():
                return title, short.drop(columns="place")
            short = short.assign(place=short.pop("place").fillna(""))
        return title, short

    def _entry(self, kind: str, name: str) -> Entry:
        try:
            return super()._entry(kind, name)
        except UnknownNameError:
            from holokine.api.answers import homes

            found = homes(lambda c: name in c._all(kind))
            if not found or name in self._all(kind):
                raise
            told = f'answers to {self.event.words} have no {kind} "{name}"; it belongs to answers to'
            raise UnknownNameError(f"{told} {' and '.join(found)}") from None

    @classmethod
    def _refuse(cls, what: str, name: str) -> None:
        """Raise for a table or figure that no answer has.

        Raises
        ------
        UnknownNameError
        """
        known = cls._all(what)
        raise UnknownNameError(f'there is no {what} "{name}" here. {nearest_hint(name, known, f"{what}s")}')

    # -- pictures and files -------------------------------------------------------------------------------------------

    @writes(".png", when=lambda self: self.has_fields)
    def _drawn(
        self,
        path: Path,
        *,
        colour: str = "stress",
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
    ) -> None:
        """The assembly coloured by the largest stress (MPa) or displacement (mm), whenever it happens.

        `view` and `only` as of a check.

        Raises
        ------
        EventError
            For another word than stress or displacement.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_field

        by = self.shown.per_peak
        if colour == "stress":
            values, label = 1e-6 * by * self._stress[1], "stress (MPa)"
        elif colour == "displacement":
            field = self._largest.reshape(-1, 6)[:, :3]
            values, label = 1e3 * by * np.linalg.norm(field, axis=1), "displacement (mm)"
        else:
            raise EventError(f'colour: expected stress or displacement, got "{colour}"')
        picture_field(self.system, values, label, f"{self.name}: {self.shown.of(label)}", path,
                      Look.of(self.system, view, only))  # fmt: skip

    @writes(".vtu", when=lambda self: self.has_fields)
    def _mesh(self, path: Path) -> None:
        """Displacements relative to the frame (m) and stress (Pa) as point data on the mesh, for a 3D viewer.

        The largest of every node (of random vibration its RMS), components without sign.
        """
        from holokine.mesh.files import write_mesh

        by, moved, stress = self.shown.per_peak, self._largest.reshape(-1, 6)[:, :3], self._stress[1]
        data = {self.shown.of("displacement (m)"): by * moved, self.shown.of("stress (Pa)"): by * stress}
        write_mesh(path, self.system.mesh, data)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """What writes each further file, by its ending after the event's name."""
        if not self.has_fields:
            return {}
        found: dict[str, Writer] = {".vtu": self.save}
        for colour in ("stress", "displacement"):
            found[f"_{colour}.png"] = partial(self.picture, **{"colour": colour, **draw})
        own = [e.name for e in self._entries("table") if e.name in ("points", "members", "stress") and not e.listed]
        return found | {f"_{name}.csv": saved(self, name) for name in own}

    def __getattr__(self, name: str) -> Any:
        if not name.startswith("_"):
            from holokine.api.answers import homes

            found = homes(lambda c: hasattr(c, name))
            if found:
                told = f'answers to {self.event.words} have no "{name}"; it belongs to answers to'
                raise AttributeError(f"{told} {' and '.join(found)}")
        raise AttributeError(f'an answer has no "{name}"')


class MovingAnswer(Answer[R]):
    """An answer whose whole fields move: the largest stress is looked for, of parts alone where nodes do not matter."""

    @property
    def motion(self) -> Any:
        """Whole fields."""
        raise NotImplementedError

    def _points_reach(self) -> tuple[list[str], Any, Any]:
        """Named points, what they reach in displacement, and in acceleration; rows (points of x, y, z)."""
        nodes, dofs = self._main_points
        return list(nodes), self.motion.envelope("displacement", dofs), self.motion.envelope("acceleration", dofs)

    @cached_property
    def _stress(self) -> Any:
        return self.motion.stress()

    @cached_property
    def _worst(self) -> Any:
        return self._stress[0] if "_stress" in self.__dict__ else self.motion.stress(nodal=False)[0]
