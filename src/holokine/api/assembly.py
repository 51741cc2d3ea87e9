"""An assembly, read from a file or built call by call with the same words."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.announce import announced
from holokine.api.building import plain
from holokine.api.study_calls import StudyCalls
from holokine.describe.document import Document, read_document, variant_of
from holokine.describe.stages import Request, VectorRequest
from holokine.errors import (
    EventError,
    UnknownNameError,
    nearest_hint,
    shown,
    whole_number,
)
from holokine.units import argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.answer import Answer
    from holokine.api.check import Check
    from holokine.api.modes import Modes
    from holokine.api.state import State
    from holokine.describe.events import EventKind
    from holokine.gauges.channels import GaugeSet
    from holokine.solvers.eigen import Progress
    from holokine.store.chain import Chain, Memory
    from holokine.system.build import Matrices, System
    from holokine.system.loads import LoadField

__all__ = ["Assembly", "open_run"]

Value = float | str
"""A number in the declared units, or a text with a unit."""
Table = dict[str, Any]


class Assembly(StudyCalls):
    """Parts, how they hold together and how they are held, with gauges and events.

    Parameters
    ----------
    title : str
        For tables and figures.
    units : dict, optional
        How bare numbers read, for instance ``{"length": "mm", "force": "N"}``; SI when left out.

    Notes
    -----
    What is built or computed is kept, and made anew only from the first stage that a change reaches.

    Examples
    --------
    >>> import holokine as hk
    >>> bar = hk.Assembly("cantilever")
    >>> _ = bar.material("steel", E="205 GPa", nu=0.29, density="7840 kg/m^3")
    >>> _ = bar.section("flat", rectangle={"width": "40 mm", "height": "10 mm"})
    >>> _ = bar.point("root", [0, 0, 0]).point("tip", ["0.5 m", 0, 0])
    >>> _ = bar.part("bar", beam={"through": ["root", "tip"], "section": "flat"}, material="steel")
    >>> _ = bar.support("wall", at="root", hold="all")
    >>> round(float(bar.modes(count=1).frequencies_hz[0]), 2)
    33.03
    """

    @classmethod
    def read(cls, path: str | Path) -> Assembly:
        """Read an assembly file.

        Raises
        ------
        DescriptionError
            With file, line and key of everything that is wrong.
        """
        return cls._of(read_document(path))

    @classmethod
    def _of(cls, document: Document, memory: Memory | None = None) -> Assembly:
        result = cls.__new__(cls)
        result._data, result._places, result._folder = document.data, document.places, document.folder
        result._document, result._origin, result._held = document, document.origin, memory
        return result

    def save(self, path: str | Path) -> Path:
        """Write the assembly as a file (.yaml): read back, it has equal keys; or its mesh (.vtu and others).

        Files that it names are referred to from the new place.

        Raises
        ------
        OutputError, DescriptionError
        """
        target = Path(path)
        if target.suffix.lower() not in (".yaml", ".yml"):
            from holokine.mesh.files import write_mesh

            write_mesh(target, self.system.mesh)
            return target
        from holokine.describe.writing import write_document

        return write_document(self.document, target)

    # -- looking ------------------------------------------------------------------------------------

    @property
    def _memory(self) -> Memory:
        if self._held is None:
            from holokine.store.chain import Memory

            self._held = Memory()
        return self._held

    @property
    def _chain(self) -> Chain:
        from holokine.store.chain import Chain

        return Chain(self.document, self._memory)

    @property
    def system(self) -> System:
        """Matrices and constraints; built on first use."""
        return self._chain.system

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion, built on first use."""
        return self._chain.gauges

    def check(self) -> Check:
        """Mass, centre of mass, connections, supports and findings, without solving for modes."""
        from holokine.api.check import Check

        chain = self._chain
        return announced(Check(chain.check, chain.unloaded, self.title, self.key))

    def coordinates(self, name: str | None = None) -> Any:
        """Places of the nodes of a part, or of a named point, in m; of all nodes without a name.

        Returns
        -------
        ndarray, shape (nodes, 3)
            In the order of the node numbers of the mesh; of a point, one row.

        Raises
        ------
        UnknownNameError
            A name that is neither a part nor a point with a node.
        """
        mesh = self.system.mesh
        if name is None:
            return mesh.nodes.copy()
        if name in mesh.part_nodes:
            return mesh.nodes[mesh.part_nodes[name]]
        if name in mesh.points:
            return mesh.nodes[[mesh.points[name]]]
        hint = nearest_hint(name, [*mesh.part_nodes, *mesh.points], "parts and points with nodes")
        raise UnknownNameError(f'there is no part or point "{name}" with nodes. {hint}')

    def nodes(self, name: str | None = None) -> pd.DataFrame:
        """Nodes of a part, of a named point, or all: number from 1, place in mm, and the row that they begin at.

        A node's six dofs x y z rx ry rz stand in six rows from that one on (from 0), in shapes (as columns), in the
        matrices, and in fields.

        Raises
        ------
        UnknownNameError
        """
        import pandas as pd

        mesh = self.system.mesh
        places = self.coordinates(name)
        numbers = list(range(len(mesh.nodes)))
        if name is not None:
            numbers = mesh.part_nodes[name].tolist() if name in mesh.part_nodes else [mesh.points[name]]
        table = {"node": [n + 1 for n in numbers], **{f"{a}_mm": 1e3 * places[:, d] for d, a in enumerate("xyz")}}
        return pd.DataFrame({**table, "row": [6 * n for n in numbers]})

    @property
    def arrays(self) -> Matrices:
        """Stiffness, mass and damping of all dofs (SI, rows as `nodes` says), and what ties them together.

        With T = ``reduce``, u = T v for the independent dofs v, and modes obey (Tᵀ K T) v = ω² (Tᵀ M T) v:

        >>> import numpy as np, holokine as hk
        >>> a = hk.Assembly().point("p", [0, 0, 0]).mass("m", at="p", mass=2.0)
        >>> a = a.spring("k", between=["ground", "p"], stiffness=800.0, axis="x").support("s", at="p", hold=["y", "z"])
        >>> K, M, C, T = a.arrays
        >>> float(np.sqrt((T.T @ K @ T).toarray() / (T.T @ M @ T).toarray())[0, 0])
        20.0

        They cannot be written to.
        """
        from holokine.system.build import Matrices

        system = self.system
        return Matrices(system.stiffness, system.mass, system.damping, system.constraints.reduce)

    def modes(
        self,
        count: int | None = None,
        *,
        upto: Value | None = None,
        above: Value | None = None,
        near: Value | None = None,
        progress: Progress | None = None,
    ) -> Modes:
        """Natural frequencies and mode shapes.

        Parameters
        ----------
        count : int, optional
            How many of the lowest.
        upto : float or str, optional
            Highest frequency, in Hz or with a unit. With `count` too, whichever comes first. When both are
            left out: what the description's ``modes`` says, or 20 modes.
        above : float or str, optional
            Lowest frequency of a band.
        near : float or str, optional
            The `count` modes next to this frequency (10 when `count` is left out).
        progress : callable, optional
            Called with a phase in words, modes converged and modes wanted, as the extraction goes on.

        Raises
        ------
        MechanismError, SolverError
        """
        from holokine.api.modes import Modes

        asked = {"upto": upto, "above": above, "near": near}
        limit, low, around = (None if f is None else argument_of(n, f, "frequency") for n, f in asked.items())
        count = None if count is None else whole_number("count", count)
        request = Request.of(self.description, count, limit, low, around)
        return announced(Modes(self, self._chain.modal(request, progress)))

    @property
    def states(self) -> tuple[str, ...]:
        """Names of the states in the description."""
        return tuple(self.description.states)

    def about(self, state: str | None) -> Assembly:
        """The assembly as it vibrates about one of its states; None: about the unloaded shape.

        Raises
        ------
        UnknownNameError
            With the nearest name and all there are.
        """
        if state == self.description.state:
            return self
        if state is not None and state not in self.description.states:
            hint = nearest_hint(state, self.description.states, "states")
            raise UnknownNameError(f'there is no state "{state}". {hint}')
        return self._changed({"state": state}, "")

    def state(self, name: str | None = None) -> State:
        """The assembly at rest in a state: by name, or the one that is switched on.

        Raises
        ------
        UnknownNameError, EquilibriumError, DescriptionError
            No such state (or none at all), no equilibrium, beyond buckling.
        """
        from holokine.api.state import State

        chosen = self if name is None else self.about(name)
        if chosen.description.state is None:
            one = list(self.description.states)
            if len(one) != 1:
                hint = f"name one of {', '.join(one)}" if one else "describe one under states:"
                raise UnknownNameError(f"no state is switched on; {hint}")
            chosen = self.about(one[0])
        found = chosen._chain.at_rest
        assert found is not None
        return announced(State(found, chosen.title, chosen.document.keys.of("state")))

    @property
    def variants(self) -> tuple[str, ...]:
        """Names of the variants in the description."""
        return tuple(self.description.variants)

    def variant(self, name: str) -> Assembly:
        """The assembly with a variant's values in place of its own.

        Raises
        ------
        UnknownNameError
            With the nearest name and all there are.
        """
        variants = self.description.variants
        if name not in variants:
            raise UnknownNameError(f'there is no variant "{name}". {nearest_hint(name, variants, "variants")}')
        return self._changed(variants[name], name)

    def changed(self, values: Table) -> Assembly:
        """The assembly with some values overridden, written as in the file: ``{"materials": {"steel": ...}}``.

        An entry set to None is taken away.

        Raises
        ------
        DescriptionError
        """
        return self._changed(values, "")

    def _changed(self, values: Table, name: str) -> Assembly:
        return Assembly._of(variant_of(self.document, name, plain(values)), self._memory.copy())

    def adjusted(self, factors: dict[str, dict[str, float]]) -> Assembly:
        """The assembly with stiffness or mass of members or groups times a factor.

        For instance ``{"rail left": {"stiffness": 1.1}, "fan": {"mass": 0.9}}``.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        return self._changed({"adjust": factors}, "")

    def respond(self, event: str | Table | EventKind) -> Answer:
        """Answer an event: by the default modes, or without any for a kind of event that needs none."""
        name, described = self.event_of(event)
        if described.needs_modes:
            return self.modes().respond(event)
        if described.in_state not in (None, self.description.state):
            return self.about(described.in_state).respond(event)
        from holokine.api.answers import answer_of

        chain = self._chain
        return announced(answer_of(self, chain, described, chain.answer(name, described)))

    def ritz(self, event: str | Table | EventKind, count: int = 20) -> Modes:
        """Load-dependent Ritz vectors for an event, in place of modes: few of them hold what its loads need.

        Raises
        ------
        UnknownNameError, EventError, MechanismError
            No such event, fewer vectors than loads, something that moves freely.
        """
        from holokine.api.modes import Modes

        _, described = self.event_of(event)
        request = VectorRequest(described, count, event if isinstance(event, str) else "")
        return announced(Modes(self, self._chain.modal(request)))

    def loads_of(self, event: str | Table | EventKind) -> list[LoadField]:
        """Everything that an event acts with: base directions, and loads.

        Raises
        ------
        UnknownNameError, EventError
            Loads that move supports at rest, which have no inertia to speak of.
        """
        from holokine.respond.bench import acting_loads

        name, described = self.event_of(event)
        return acting_loads(self.system, described, name)

    def event_of(self, event: str | Table | EventKind) -> tuple[str, EventKind]:
        """Name and description of an event: of the file by name, or given as it would stand there.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        if isinstance(event, str):
            return event, self.event_named(event)
        if isinstance(event, Mapping):
            name = "event" if "event" not in self.description.events else "event given"
            changed = {"events": {name: plain(event)}}
            return "event", variant_of(self.document, "", changed, "the event given").description.events[name]
        from holokine.describe.events import EventKind

        if not isinstance(event, EventKind):
            raise EventError(f"event: expected the name of one, or what stands under it in a file, got {shown(event)}")
        return "event", event

    def event_named(self, name: str) -> EventKind:
        """An event of the description.

        Raises
        ------
        UnknownNameError
            With the nearest name and all there are.
        """
        events = self.description.events
        if name not in events:
            raise UnknownNameError(f'there is no event "{name}". {nearest_hint(name, events, "events")}')
        return events[name]


def open_run(path: str | Path, *, as_saved: bool = False) -> Modes:
    """Open a run file: everything can be asked at once, without extracting again.

    Parameters
    ----------
    path : str or Path
    as_saved : bool
        Take a run file as saved, though its assembly has changed.

    Raises
    ------
    RunFileError
        Missing, foreign, damaged, or older than the assembly file (with what changed there).
    """
    from holokine.api.modes import Modes
    from holokine.store.run_file import read_run

    contents = read_run(Path(path), as_saved=as_saved)
    return Modes(Assembly._of(contents.document, contents.chain.memory), contents.chain, contents)
