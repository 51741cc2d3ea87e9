"""From a description to everything that is made of it, each stage once per key.

A `Memory` holds results by stage with the key that they were made for. What has an equal key is taken from there,
whoever put it there: this run, an earlier description, or a run file; everything else is made anew.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from hashlib import sha256
from typing import TYPE_CHECKING, Any, Literal, TypeVar

from holokine.describe.stages import Basis, StageName, VectorRequest, differences
from holokine.describe.walk import located
from holokine.errors import HolokineError, StaleError, headed
from holokine.findings import Finding
from holokine.modes.damping import (
    COUPLED,
    DamperShare,
    critical_findings,
    damper_share,
    damping_findings,
    damping_ratios,
    loss_findings,
    short_list_findings,
)
from holokine.progress import tell
from holokine.respond.limits import read_limits
from holokine.respond.registry import answer_event
from holokine.sizes import enough_memory
from holokine.solvers.pool import one_pool

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.document import Document
    from holokine.describe.events import EventKind
    from holokine.gauges.channels import GaugeSet
    from holokine.mesh.mesh import Mesh
    from holokine.modes.check import CheckReport
    from holokine.modes.energy import Energies
    from holokine.modes.kinds import ModeKind
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.reduced import ReducedModel
    from holokine.solvers.eigen import Progress
    from holokine.state.about import AtRest
    from holokine.system.build import System

__all__ = ["Chain", "Memory", "ModalChain", "changes", "short"]

T = TypeVar("T")
STRONGLY = 0.1  # coupling of neighbouring modes from which spectra are warned of


@dataclass
class Memory:
    """Results by stage, the latest of each, with the key that they were made for."""

    held: dict[str, tuple[str, Any]] = field(default_factory=dict)

    def take(self, stage: str, key: str, make: Callable[[], T]) -> T:
        """What is held under this key, or made now (and held from now on)."""
        found = self.held.get(stage)
        if found is None or found[0] != key:
            found = self.held[stage] = (key, make())
        result: T = found[1]
        return result

    def put(self, stage: str, key: str, value: Any) -> None:
        """Hold a result."""
        self.held[stage] = (key, value)

    def has(self, stage: str, key: str) -> bool:
        """Whether a result is held under this key."""
        return stage in self.held and self.held[stage][0] == key

    def copy(self) -> Memory:
        """Another memory of the same results, for a description that goes its own way."""
        return Memory(dict(self.held))


class Chain:
    """The stages that need no modes."""

    def __init__(self, document: Document, memory: Memory) -> None:
        self.document, self.memory = document, memory

    def key(self, stage: StageName, basis: Basis | None = None) -> str:
        """Key of a stage."""
        return self.document.keys.of(stage, basis)

    def take(self, stage: str, key: str, make: Callable[[], T]) -> T:
        """What is held under a key, or made now from files that are as they were when the key was made."""

        def made() -> T:
            with self.working(stage):
                return make()

        return self.memory.take(stage, key, made)

    @contextmanager
    def working(self, what: str, *, described: bool = True) -> Iterator[None]:
        """Within it, errors say where in the description they arose; files stay as they are; memory is enough.

        `described`: whether what is made stands in the description at all.

        Raises
        ------
        HolokineError
        """
        try:
            with self.document.folder.steady(), enough_memory(what), one_pool():
                yield
        except HolokineError as err:
            if described:
                self.document.say_where(err)
            raise

    @property
    def mesh(self) -> Mesh:
        """Nodes and cells."""
        d = self.document

        def make() -> Mesh:
            tell("meshing")
            from holokine.mesh.build import build_mesh

            return build_mesh(d.description, d.folder)

        return self.take("mesh", self.key("mesh"), make)

    @property
    def unloaded(self) -> System:
        """Matrices and constraints of the assembly without a state."""
        d = self.document

        def make() -> System:
            mesh = None if d.description.matrices is not None else self.mesh
            tell("building the matrices")
            from holokine.system.build import build_system

            return build_system(d.description, d.folder, mesh)

        made = self.take("system", self.key("dampers"), make)
        here = made.under(d.description)
        self.memory.put("system", self.key("dampers"), here)
        return here

    @property
    def at_rest(self) -> AtRest | None:
        """The state that the description switches on; None without.

        Raises
        ------
        EquilibriumError
            It has no equilibrium, or is beyond buckling.
        """
        d = self.document.description
        name = d.state
        if name is None:
            return None
        from holokine.state.about import at_rest

        key = self.key("state") + self.key("dampers")
        with headed(path=("states", name)):
            found: AtRest = self.take("state", key, lambda: at_rest(self.unloaded, d.states[name], name))
        return found

    @property
    def system(self) -> System:
        """Matrices and constraints, about the state where one is switched on."""
        state = self.at_rest
        return self.unloaded if state is None else state.system.under(self.document.description)

    @property
    def check(self) -> CheckReport:
        """Mass, centre of mass, connections and findings."""
        from holokine.modes.check import check_system

        system, state, failed = self.unloaded, None, []
        try:
            state = self.at_rest
        except HolokineError as err:  # of a state without equilibrium
            failed = [Finding("error", str(err), path=err.path)]
        tell("checking masses, connections and supports")
        with self.working("the check"):
            report = check_system(system, None if state is None else state.system)
        found = [*report.findings, *damping_findings(self.document.description)]
        found += failed if state is None and report.ok else () if state is None else state.findings
        try:
            read_limits(self.document.description.limits, self.gauges.readings)
        except HolokineError as err:  # of a gauge or a limit
            found.append(Finding("error", str(err), path=err.path))
        placed = (self.document.placed(f) if f.level == "error" else f for f in found)
        return replace(report, findings=tuple(placed))

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion."""
        key = self.key("gauges") + self.key("dampers")

        def make() -> GaugeSet:
            system = self.system
            tell("what the gauges read")
            from holokine.gauges.build import build_gauges

            return build_gauges(system)

        made = self.take("gauges", key, make)
        return made if made.system is self.system else replace(made, system=self.system)

    def modal(self, basis: Basis, progress: Progress | None = None) -> ModalChain:
        """The stages from the modes on, extracting them where no equal ones are held."""

        def make() -> ModeSet:
            if isinstance(basis, VectorRequest):
                from holokine.modes.ritz import ritz_vectors
                from holokine.respond.bench import acting_loads

                loads = acting_loads(self.system, basis.event, basis.name or "event")
                return ritz_vectors(self.system, loads, basis.count)
            from holokine.modes.extract import extract_modes

            r = basis
            return extract_modes(self.system, count=r.count, upto=r.upto, above=r.above, near=r.near, progress=progress)

        return ModalChain(self, basis, self.take("modes", self.key("modes", basis), make))

    @property
    def modes(self) -> ModeSet:
        """Not there: a kind of event that needs modes is answered by a `ModalChain`."""
        raise TypeError("this kind of event needs no modes")

    reduced = dampers = energies = modes

    def answer(self, name: str, event: EventKind) -> Any:
        """The result of an event that needs no modes."""
        return self.answered(self, name, event)

    def answered(self, bench: Any, name: str, event: EventKind) -> Any:
        """The result of an event on a bench, from files that are as they were."""
        tell(f'answering "{name}"')
        described = self.document.description.events.get(name) is event  # of one given in a call no line tells
        with self.working(f'the answer to "{name}"', described=described):
            return answer_event(bench, name, event)


class ModalChain:
    """The stages from the modes on.

    Attributes
    ----------
    chain : Chain
    basis : Request or VectorRequest
        What was asked for.
    modes : ModeSet
    """

    def __init__(self, chain: Chain, basis: Basis, modes: ModeSet) -> None:
        self.chain, self.basis = chain, basis
        self.modes = replace(modes, build=partial(getattr, chain, "system"))
        self.document, self.memory = chain.document, chain.memory

    def key(self, stage: StageName) -> str:
        """Key of a stage."""
        return self.chain.key(stage, self.basis)

    @property
    def system(self) -> System:
        """Matrices and constraints."""
        return self.chain.system

    @property
    def unloaded(self) -> System:
        """Matrices and constraints of the assembly without a state."""
        return self.chain.unloaded

    @property
    def at_rest(self) -> AtRest | None:
        """The state that is switched on."""
        return self.chain.at_rest

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion."""
        return self.chain.gauges

    def moved_to(self, document: Document) -> ModalChain:
        """The same modes under another description.

        Raises
        ------
        StaleError
            When that has other modes, with what changed.
        """
        if document is self.document:
            return self
        basis = self.basis.again(document.description)
        if document.keys.of("modes", basis) != self.key("modes"):
            raise StaleError(
                "the assembly has changed since these modes were extracted: "
                f"{'; '.join(changes(self.document, document, self.basis))}. Extract them again, or undo the change"
            )
        return ModalChain(Chain(document, self.memory), basis, self.modes)

    @cached_property
    def energies(self) -> Energies:
        """Strain and kinetic energy of every member in every mode."""

        def make() -> Energies:
            tell("energies of all members")
            from holokine.modes.energy import mode_energies

            return mode_energies(self.modes)

        return self.chain.take("energies", self.key("modes"), make)

    @cached_property
    def kinds(self) -> tuple[ModeKind, ...]:
        """What each mode is; groups of the description give names to what moves together."""

        def make() -> tuple[ModeKind, ...]:
            from holokine.modes.words import mode_kinds

            return tuple(mode_kinds(self.modes, self.energies))

        return self.chain.take("kinds", self.kinds_key, make)

    @property
    def kinds_key(self) -> str:
        """Key of the kinds."""
        groups = json.dumps(self.document.description.groups)
        return self.key("modes") + sha256(groups.encode()).hexdigest()[:12]

    @cached_property
    def dampers(self) -> DamperShare:
        """What discrete dampers add to each ratio, and how much they couple the modes."""
        key = self.key("modes") + self.key("dampers")
        return self.chain.take("damper shares", key, lambda: damper_share(self.modes))

    @cached_property
    def damping(self) -> Floats:
        """Damping ratios, shape (modes,): the description's, of materials, and what discrete dampers add."""

        def make() -> Floats:
            result = damping_ratios(self.modes, self.dampers.ratios, lambda: self.energies)
            result.setflags(write=False)
            return result

        return self.chain.take("damping", self.key("damping"), make)

    @cached_property
    def reduced(self) -> ReducedModel:
        """The modes as seen through the gauges, with damping, complete in itself.

        Raises
        ------
        MechanismError
            With rigid-body modes.
        """
        key = self.key("reduced")

        def make() -> ReducedModel:
            gauges, damping = self.gauges, self.damping
            tell("modes as the gauges see them, and what they leave out")
            from holokine.respond.reduced import reduce_model

            return reduce_model(self.modes, gauges, damping)

        made = self.chain.take("reduced", key, make)
        return replace(made, damping=self.damping)

    def held(self, what: str, of: str, make: Callable[[], T]) -> T:
        """Of these modes, gauges and dampers: what events share and need not make again, by what else it depends on."""
        key = self.key("reduced") + self.key("damping") + of
        return self.memory.take(what, key, make)

    @property
    def can_respond(self) -> bool:
        """Whether these modes can answer events: none of them rigid, and from the lowest up."""
        return not self.modes.rigid.any() and self.modes.from_the_bottom

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What is to be known of the damping."""
        share = self.dampers
        d = self.document.description
        found = damping_findings(d) + short_list_findings(d.damping_used, self.modes.count)
        found += critical_findings(self.modes, self.damping) + loss_findings(d)
        if not share.ratios.any():
            return tuple(found)
        text = f"discrete dampers add up to {100 * share.ratios.max():.2g} % to the damping of a mode"
        if share.coupling <= COUPLED:
            return (*found, Finding("note", text))
        text += (
            f"; they also couple modes (by up to {share.coupling:.2f} of their own damping), which spectra leave out"
        )
        text += "; answers in time solve them together"
        level: Literal["note", "warning"] = "warning" if share.neighbours > STRONGLY else "note"
        return (*found, Finding(level, text))

    def answer(self, name: str, event: EventKind) -> Any:
        """The result of an event."""
        return self.chain.answered(self, name, event)


_SAME = "nothing that is written, but this version reads descriptions in another way than the one that saved them"
_TO_MODES: tuple[StageName, ...] = ("mesh", "system", "state")


def changes(before: Document, now: Document, basis: Basis | None = None, *, most: int = 6) -> list[str]:
    """What the modes depend on and differs, in words: ``materials, steel, E: 205 GPa, now 190 GPa``.

    As written, where both descriptions write it.
    """
    found = differences(before.keys, now.keys, _TO_MODES)
    words = [_change(before, now, path) for path in found]
    if basis is not None and basis.plain(before.keys) != (again := basis.again(now.description)).plain(now.keys):
        old, new = basis.plain(before.keys), again.plain(now.keys)
        words += [f"modes, {k}: {old[k]}, now {new[k]}" for k in old if old[k] != new[k]]
    words = list(dict.fromkeys(words)) or [_SAME]
    return words[:most] + ([f"and {len(words) - most} more"] if len(words) > most else [])


def _change(before: Document, now: Document, path: tuple[Any, ...]) -> str:
    if path[0] == "files":
        gone = not (now.folder / path[1]).is_file()
        return f"{path[1]} is gone" if gone else f"{path[1]} has other contents"
    if path[-1] == "order":
        return f"{', '.join(str(p) for p in path[:-1])}: the order has changed"
    words = ", ".join(str(p).replace("_", " ") if i != 1 else str(p) for i, p in enumerate(path))
    places = [located(d.data, path) for d in (before, now)]
    values = [None if p is None else p[0][p[1]] for p in places]
    if values[0] is None and values[1] is not None:
        return f"{words} is new"
    if values[1] is None and values[0] is not None:
        return f"{words} is gone"
    if values[0] == values[1]:
        return f"{words} has changed"
    return f"{words}: {short(values[0])}, now {short(values[1])}"


def short(value: Any) -> str:
    """A value in at most forty characters."""
    text = str(value)
    return text if len(text) <= 40 else text[:37] + "..."
