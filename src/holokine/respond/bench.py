"""What the answer to an event may take: the description and all that is made of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

import numpy as np

from holokine.errors import EventError
from holokine.findings import Finding
from holokine.modes.damping import DamperShare, critical_findings, damping_ratios, modal_damping, short_list_findings
from holokine.system.loads import LoadField, base_field, load_field

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.damping import Damping
    from holokine.describe.document import Document
    from holokine.describe.events import EventKind, ModalEvent
    from holokine.gauges.channels import GaugeSet
    from holokine.modes.energy import Energies
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.reduced import ReducedModel
    from holokine.state.about import AtRest
    from holokine.system.build import System

__all__ = ["Bench", "about_supports", "acting_loads", "damping_words", "refuse_moved", "relieved", "taken"]

T = TypeVar("T")


class Bench(Protocol):
    """Everything below the answers, made once."""

    @property
    def document(self) -> Document:
        """The description with its source."""

    @property
    def system(self) -> System:
        """Matrices and constraints."""

    @property
    def unloaded(self) -> System:
        """Matrices and constraints of the assembly without a state."""

    @property
    def at_rest(self) -> AtRest | None:
        """The state that is switched on."""

    @property
    def modes(self) -> ModeSet:
        """Frequencies and shapes; not to be asked for by kinds that need none."""

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges."""

    @property
    def reduced(self) -> ReducedModel:
        """Modes as seen through the gauges, with damping."""

    @property
    def energies(self) -> Energies:
        """Energies of every member in every mode."""

    @property
    def dampers(self) -> DamperShare:
        """What discrete dampers add to each ratio, and how much they couple the modes."""

    def held(self, what: str, of: str, make: Callable[[], T]) -> T:
        """What events share and need not make again, by what else than modes, gauges and dampers it depends on."""


def taken(bench: Bench, event: ModalEvent) -> ReducedModel:
    """The reduced model under the event's own damping and cut-off.

    Raises
    ------
    EventError
        No mode below the cut-off.
    """
    reduced = bench.reduced
    if event.damping is not None:
        reduced = replace(reduced, damping=_own_damping(bench, event.damping, reduced))
    if event.upto is None:
        return reduced
    keep = reduced.frequencies_hz <= event.upto
    if not keep.any():
        raise EventError(f"no mode lies at or below {event.upto:g} Hz")
    return reduced.keep(keep)


def _own_damping(bench: Bench, given: Damping, reduced: ReducedModel) -> Floats:
    """Ratios under another damping than the description's; what dampers and loss factors add stays."""
    described = bench.document.description.damping_used
    plain = (given.composite, described.composite, given.loss_factor, described.loss_factor)
    if all(kind is None for kind in plain):  # without energies, which a run file does not hold
        f = reduced.frequencies_hz
        added = np.maximum(reduced.damping - modal_damping(described, f), 0.0)
        return np.asarray(added + modal_damping(given, f))
    return damping_ratios(bench.modes, bench.dampers.ratios, lambda: bench.energies, given)


def damping_words(bench: Bench, event: ModalEvent, reduced: ReducedModel) -> list[Finding]:
    """What is to be known of an event's own damping."""
    if event.damping is None:
        return []
    found: list[Finding] = []
    if bench.dampers.ratios.any():
        found.append(Finding("note", "what discrete dampers add stays beside the damping that this event gives"))
    found += short_list_findings(event.damping, reduced.count)
    return found + critical_findings(bench.modes, reduced.damping)


def acting_loads(system: System, event: EventKind, name: str) -> list[LoadField]:
    """Everything that an event acts with: base directions and loads, those at rest too.

    Raises
    ------
    EventError
        Loads that move supports at rest, which have no inertia to speak of; an event of another kind.
    """
    d = system.description
    names = [*event.load_names, *(n for e in event.at_rest for n in d.events[e].load_names)]
    fields = [base_field(system, axis) for axis in event.axes]
    fields += [load_field(system, n, d.loads[n]) for n in dict.fromkeys(names)]
    if not fields or event.moving:
        raise EventError(f'"{name}": load-dependent vectors are made for the whole base and for loads')
    for f in fields:
        if f.moved.any():
            raise EventError(f'"{name}": the load "{f.name}" moves supports, for which there are no such vectors')
    return fields


def refuse_moved(fields: list[LoadField], name: str, event: EventKind) -> None:
    """Raise for loads that move supports, which answer to no inertia."""
    for f in fields:
        if f.moved.any():
            raise EventError(
                f'event "{name}": the load "{f.name}" moves supports, which works at rest only; move the whole base, '
                f"or groups of supports ({event.groups_by})",
                path=("events", name),
            )


def relieved(bench: Bench, reduced: ReducedModel, passed: Callable[[], Floats]) -> ReducedModel:
    """Forces from balance less what the assembly at rest passes under the forces of dampers, per modal velocity.

    A damper to the ground relieves the supports beside it. `passed` makes that, (modes, channels), where it is needed.
    """
    channels = reduced.channels
    whole = channels.is_balance & ~channels.is_elastic_portion
    if not (bench.dampers.ratios.any() and whole.any()):
        return reduced
    return replace(reduced, modal_damper=reduced.modal_damper - np.where(whole, passed(), 0.0))


def about_supports(bench: Bench, event: EventKind) -> list[Finding]:
    """What motion of groups of supports leaves as it is."""
    named = [s for supports, _ in event.moving.values() for s in supports]
    if not named:
        return []
    d = bench.document.description
    rest = [s for s in d.supports if s not in named]
    found = [Finding("note", "groups of supports move differently: displacements and velocities are those in space")]
    if rest:
        found.append(Finding("note", f"supports in no group stay where they are: {', '.join(rest)}"))
    tables: tuple[dict[str, Any], ...] = (d.springs, d.bushings)
    grounded = [n for t in tables for n, s in t.items() if "ground" in s.between]
    if grounded:
        found.append(Finding("note", f"what springs to ground stand on stays where it is: {', '.join(grounded)}"))
    return found
