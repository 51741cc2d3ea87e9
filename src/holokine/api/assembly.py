"""An assembly, read from a file or built call by call with the same words."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.describe.document import Document, Places, read_document, validated, variant_of
from holokine.errors import DescriptionError, UnknownNameError, nearest_hint
from holokine.units import quantity

if TYPE_CHECKING:
    from holokine.api.answer import Answer
    from holokine.api.check import Check
    from holokine.api.modes import Modes
    from holokine.describe.events import Event
    from holokine.describe.schema import Description
    from holokine.gauges import GaugeSet
    from holokine.solvers.eigen import Progress
    from holokine.system.build import System
    from holokine.system.loads import LoadField

__all__ = ["Assembly"]


class Assembly:
    """Parts, how they hold together and how they are held, with gauges and events.

    Parameters
    ----------
    title : str
        For tables and figures.
    units : dict, optional
        How bare numbers read, for instance ``{"length": "mm", "force": "N"}``; SI when left out.

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

    def __init__(self, title: str = "", *, units: dict[str, str] | None = None) -> None:
        self._data: dict[str, Any] = {"holokine": 1, "title": title, "units": units or {}}
        self._places = Places()
        self._folder = Path(".")
        self._document: Document | None = None
        self._system: System | None = None
        self._gauges: GaugeSet | None = None
        if units:
            self._check()

    @classmethod
    def read(cls, path: str | Path) -> Assembly:
        """Read an assembly file.

        Raises
        ------
        DescriptionError
            With file, line and key of everything that is wrong.
        """
        return cls.of(read_document(path))

    @classmethod
    def of(cls, document: Document) -> Assembly:
        """The assembly of a document that was read and validated."""
        result = cls.__new__(cls)
        result._data, result._places, result._folder = document.data, document.places, document.folder
        result._document, result._system, result._gauges = document, None, None
        return result

    # -- building -----------------------------------------------------------------------------------

    def _add(self, table: str, name: str, value: Any) -> Assembly:
        entries = dict(self._data.get(table, {}))
        if name in entries:
            raise DescriptionError(f'{table}: there is already "{name}"')
        self._check(table, name, value)
        entries[name] = value
        self._data = {**self._data, table: entries}
        self._document = self._system = None
        return self

    def _check(self, table: str | None = None, name: str = "", value: Any = None) -> None:
        """Validate what was just said by itself, so that an error comes from the call that made it."""
        alone = {"holokine": 1, "units": self._data["units"]}
        if table is not None:
            alone[table] = {name: value}
        try:
            validated(alone, self._places, self._folder)
        except UnknownNameError as err:
            if "unknown key" in str(err):
                raise  # names of other things may still be to come; they are checked before solving

    def material(self, name: str, **keys: Any) -> Assembly:
        """Add a material: E, nu (or G), density, loss factor."""
        return self._add("materials", name, keys)

    def section(self, name: str, **keys: Any) -> Assembly:
        """Add a beam section: one shape (rectangle, tube, rod, pipe, I, channel, angle, T) or properties."""
        return self._add("sections", name, keys)

    def point(self, name: str, at: Any, *, apart: bool = False) -> Assembly:
        """Add a point at [x, y, z]."""
        return self._add("points", name, {"at": at, "apart": apart})

    def part(self, name: str, **keys: Any) -> Assembly:
        """Add a part: its geometry (beam, ring, plate, cylinder, box, tube, extrusion, mesh), material, axes."""
        return self._add("parts", name, keys)

    def mass(self, name: str, **keys: Any) -> Assembly:
        """Add a point mass: at, mass, inertia (about its centre of mass), offset."""
        return self._add("masses", name, keys)

    def spring(self, name: str, **keys: Any) -> Assembly:
        """Add a spring along the line between two points: between, stiffness, damping, axis."""
        return self._add("springs", name, keys)

    def bushing(self, name: str, **keys: Any) -> Assembly:
        """Add a bushing: between, stiffness and damping in six directions, axes."""
        return self._add("bushings", name, keys)

    def link(self, name: str, **keys: Any) -> Assembly:
        """Add a link: rigid or averaging (the point), to (the targets)."""
        return self._add("links", name, keys)

    def joint(self, name: str, **keys: Any) -> Assembly:
        """Add a joint: between (two sides), kind, release, stiffness, damping, axes."""
        return self._add("joints", name, keys)

    def tie(self, name: str, **keys: Any) -> Assembly:
        """Tie nodes to the faces of a part: nodes, faces, within."""
        return self._add("ties", name, keys)

    def matrices(self, **keys: Any) -> Assembly:
        """Bring stiffness, mass (and damping) from files, with a table of their rows (dofs)."""
        return self._set("matrices", keys)

    def support(self, name: str, **keys: Any) -> Assembly:
        """Add a support: at, hold."""
        return self._add("supports", name, keys)

    def group(self, name: str, members: Any) -> Assembly:
        """Name a set of parts, masses, springs, bushings, links and other groups."""
        return self._add("groups", name, members)

    def gauge(self, name: str, **keys: Any) -> Assembly:
        """Add a gauge, for instance ``acceleration="fan", axis="z"`` or ``force="fan feet"``."""
        return self._add("gauges", name, keys)

    def load(self, name: str, **keys: Any) -> Assembly:
        """Add a load: gravity, force or moment, pressure, or supports that are moved."""
        return self._add("loads", name, keys)

    def event(self, name: str, **keys: Any) -> Assembly:
        """Add an event: spectrum, pulse or loads in time, loads at rest, and how it is answered."""
        return self._add("events", name, keys)

    def damping(self, value: Any) -> Assembly:
        """Set the damping: a ratio, a table by frequency, or Rayleigh from two points."""
        return self._set("damping", value)

    def mass_matrix(self, kind: str) -> Assembly:
        """Choose the mass matrix: consistent, lumped, or lumped without rotary."""
        return self._set("mass matrix", kind)

    def limit(self, gauge: str, value: Any) -> Assembly:
        """Limit a gauge: one value, or values by component."""
        return self._add("limits", gauge, value)

    def band(self, name: str, **keys: Any) -> Assembly:
        """Add a band of excitation: range, or speed with harmonics and margin."""
        return self._add("bands", name, keys)

    def massless(self, *directions: str) -> Assembly:
        """Switch the mass off in some directions (x y z rx ry rz), to leave out the modes along them."""
        return self._set("massless", list(directions))

    def _set(self, key: str, value: Any) -> Assembly:
        try:
            validated({"holokine": 1, "units": self._data["units"], key: value}, self._places, self._folder)
        except UnknownNameError as err:
            if "unknown key" in str(err):
                raise  # names of other things are checked before solving
        self._data = {**self._data, key: value}
        self._document = self._system = None
        return self

    # -- looking ------------------------------------------------------------------------------------

    @property
    def document(self) -> Document:
        """The validated description with its source and fingerprint."""
        if self._document is None:
            self._document = validated(self._data, self._places, self._folder)
        return self._document

    @property
    def description(self) -> Description:
        """The validated description, in SI."""
        return self.document.description

    @property
    def title(self) -> str:
        """Title, or the file's name."""
        return self.description.title or self._places.source or "assembly"

    @property
    def system(self) -> System:
        """Matrices and constraints; built on first use."""
        if self._system is None:
            from holokine.system import build_system

            self._system = build_system(self.description, self.document.folder)
        return self._system

    def check(self) -> Check:
        """Mass, centre of mass, connections, supports and findings, without solving for modes."""
        from holokine.api.check import Check
        from holokine.modes.check import check_system

        return Check(check_system(self.system), self.system)

    def write_mesh(self, path: str | Path) -> Path:
        """Write the mesh as VTU (or another format by its ending), with the part of each cell."""
        from holokine.mesh.files import write_mesh

        write_mesh(Path(path), self.system.mesh)
        return Path(path)

    def modes(
        self,
        count: int | None = None,
        *,
        upto: float | str | None = None,
        above: float | str | None = None,
        near: float | str | None = None,
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
        from holokine.gauges import build_gauges
        from holokine.modes import extract_modes

        limit, low, around = (None if f is None else quantity(f, "frequency") for f in (upto, above, near))
        if around is not None and count is None:
            count = 10
        if count is None and limit is None:
            request = self.description.modes
            count, limit = request.count, request.upto
        gauges = build_gauges(self.system)
        found = extract_modes(self.system, count=count, upto=limit, above=low, near=around, progress=progress)
        return Modes(self, found, gauges)

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

    def changed(self, values: dict[str, Any]) -> Assembly:
        """The assembly with some values overridden, written as in the file: ``{"materials": {"steel": ...}}``.

        An entry set to None is taken away.

        Raises
        ------
        DescriptionError
        """
        return self._changed(values, "")

    def _changed(self, values: dict[str, Any], name: str) -> Assembly:
        return Assembly.of(variant_of(self.document.data, name, values, self._places, self._folder))

    def adjusted(self, factors: dict[str, dict[str, float]]) -> Assembly:
        """The assembly with stiffness or mass of members or groups times a factor.

        For instance ``{"rail left": {"stiffness": 1.1}, "fan": {"mass": 0.9}}``.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        return self._changed({"adjust": factors}, "")

    def refuse_groups(self, names: list[str] | None) -> None:
        """Raise for groups that do not exist, or when there are none, before anything is solved.

        Raises
        ------
        UnknownNameError
            Listing what there is.
        """
        groups = self.description.groups
        if names is None and not groups:
            raise UnknownNameError("the assembly has no groups; name some under groups:")
        for name in names or []:
            if name not in groups:
                raise UnknownNameError(f'there is no group "{name}". {nearest_hint(name, groups, "groups")}')

    def respond(self, event: str | dict[str, Any]) -> Answer:
        """Extract the default modes (but for loads at rest) and respond to an event."""
        _, described = self.event_of(event)
        return self.static(event) if described.static is not None else self.modes().respond(event)

    def static(self, event: str | dict[str, Any] | Event) -> Answer:
        """Displacement and gauges under loads at rest: a static event by name, or ``{"static": ...}``.

        Raises
        ------
        UnknownNameError, EventError, MechanismError, DescriptionError
            An event in time, something that moves freely, a load on nothing.
        """
        from holokine.api.answer import Answer
        from holokine.errors import EventError
        from holokine.respond.static import respond_static

        name, described = self.event_of(event)
        if described.static is None:
            raise EventError(f'"{name}" is not an event of loads at rest (static)')
        if not self.description.gauges:
            raise EventError("there is nothing to read: the assembly has no gauges; add some under gauges:")
        return Answer(self, respond_static(self.gauges, described.static, name=name))

    def ritz(self, event: str | dict[str, Any] | Event, count: int = 20) -> Modes:
        """Load-dependent Ritz vectors for an event, in place of modes: few of them hold what its loads need.

        Raises
        ------
        UnknownNameError, EventError, MechanismError
            No such event, fewer vectors than loads, something that moves freely.
        """
        from holokine.api.modes import Modes
        from holokine.modes.ritz import ritz_vectors

        return Modes(self, ritz_vectors(self.system, self.loads_of(event), count))

    def loads_of(self, event: str | dict[str, Any] | Event) -> list[LoadField]:
        """Everything that an event acts with: base directions, groups of supports that move, and loads.

        Raises
        ------
        UnknownNameError, EventError
            Loads that move supports at rest, which have no inertia to speak of.
        """
        from holokine.errors import EventError
        from holokine.system.loads import base_field, load_field

        name, d = self.event_of(event)
        if d.support_spectra is not None:
            raise EventError(f'"{name}": load-dependent vectors are made for the whole base and for loads')
        axes = list(d.spectrum or d.pulse or ())
        names = [*(d.loads or ()), *(d.static or ())]
        for key in ("start_from", "let_go"):
            if getattr(d, key) is not None:
                names += list(self.description.events[getattr(d, key)].static or ())
        fields = [base_field(self.system, axis) for axis in axes]
        fields += [load_field(self.system, n, self.description.loads[n]) for n in dict.fromkeys(names)]
        for f in fields:
            if f.moved.any():
                raise EventError(f'"{name}": the load "{f.name}" moves supports, for which there are no such vectors')
        return fields

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion, built once."""
        if self._gauges is None or self._gauges.system is not self.system:
            from holokine.gauges import build_gauges

            self._gauges = build_gauges(self.system)
        return self._gauges

    def event_of(self, event: str | dict[str, Any] | Event) -> tuple[str, Event]:
        """Name and description of an event: of the file by name, or given as it would stand there.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        if isinstance(event, str):
            return event, self.event_named(event)
        if isinstance(event, dict):
            name = "event" if "event" not in self.description.events else "event given"
            return "event", self.changed({"events": {name: event}}).description.events[name]
        return "event", event

    def event_named(self, name: str) -> Any:
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

    def __repr__(self) -> str:
        counts = ", ".join(
            f"{len(self._data[k])} {k}" for k in ("parts", "masses", "links", "supports") if self._data.get(k)
        )
        return f"<Assembly {self._data.get('title') or self._places.source!r}: {counts or 'empty'}>"
