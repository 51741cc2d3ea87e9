"""An assembly, read from a file or built call by call with the same words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path, PurePath
from typing import TYPE_CHECKING, Any, Literal

from holokine.api.shown import announced
from holokine.describe.document import Document, Origin, Places, read_document, validated, variant_of
from holokine.describe.files import Folder
from holokine.describe.stages import Request, VectorRequest
from holokine.errors import (
    DescriptionError,
    EventError,
    UnknownKeyError,
    UnknownNameError,
    nearest_hint,
    shown,
    whole_number,
)
from holokine.units import argument_of, is_with_unit, with_unit

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.answer import Answer
    from holokine.api.at_rest import Rest
    from holokine.api.check import Check
    from holokine.api.modes import Modes
    from holokine.api.scatter import Scatter
    from holokine.api.static_answer import StaticAnswer
    from holokine.api.variation import BroughtMode, Refinement, Variation
    from holokine.describe.events import EventKind
    from holokine.describe.schema import Description
    from holokine.gauges.channels import GaugeSet
    from holokine.solvers.eigen import Progress
    from holokine.store.chain import Chain, Memory
    from holokine.system.build import Matrices, System
    from holokine.system.loads import LoadField

__all__ = ["Assembly"]

Value = float | str
"""A number in the declared units, or a text with a unit."""
Vector = Sequence[Value]
Axis = str | Sequence[float]
Table = dict[str, Any]
Where = str | Sequence[str] | Table
"""A point, points, or a selection."""


class Assembly:
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

    def __init__(self, title: str = "", *, units: dict[str, str] | None = None) -> None:
        self._data: dict[str, Any] = {"holokine": 1, "title": title, "units": units or {}}
        self._places, self._folder, self._origin = Places(), Folder(), Origin()
        self._document: Document | None = None
        self._held: Memory | None = None
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
        return cls._of(read_document(path))

    @classmethod
    def _of(cls, document: Document, memory: Memory | None = None) -> Assembly:
        result = cls.__new__(cls)
        result._data, result._places, result._folder = document.data, document.places, document.folder
        result._document, result._origin, result._held = document, document.origin, memory
        return result

    def write(self, path: str | Path) -> Path:
        """Write the assembly as a file; read back, it has equal keys.

        Files that it names are referred to from the new place.

        Raises
        ------
        OutputError, DescriptionError
        """
        from holokine.describe.writing import write_document

        return write_document(self.document, Path(path))

    # -- building -----------------------------------------------------------------------------------

    def _add(self, table: str, name: str, value: Any) -> Assembly:
        value = _plain(value)
        entries = dict(self._data.get(table, {}))
        if name in entries:
            raise DescriptionError(f'{table}: there is already "{name}"')
        self._check(table, name, value)
        entries[name] = value
        return self._with({**self._data, table: entries})

    def _with(self, data: dict[str, Any]) -> Assembly:
        self._data, self._document = data, None
        return self

    def _check(self, table: str | None = None, name: str = "", value: Any = None) -> None:
        """Validate what was just said by itself, so that an error comes from the call that made it."""
        alone = {"holokine": 1, "units": self._data.get("units") or {}}
        if table is not None:
            alone[table] = {name: value} if name else value
        try:
            validated(alone, self._places, self._folder)
        except UnknownKeyError:
            raise
        except UnknownNameError:
            pass  # names of other things may still be to come; they are checked before solving

    def _set(self, key: str, value: Any) -> Assembly:
        value = _plain(value)
        self._check(key, "", value)
        return self._with({**self._data, key: value})

    def material(
        self,
        name: str,
        *,
        E: Value | None = None,
        nu: float | None = None,
        G: Value | None = None,
        orthotropic: Table | None = None,
        density: Value,
        loss_factor: Value | None = None,
        expansion: Value | None = None,
    ) -> Assembly:
        """Add a material: E with nu or G (Pa), or orthotropic constants; density (kg/m³); loss factor."""
        return self._add("materials", name, _given(locals()))

    def section(
        self,
        name: str,
        *,
        rectangle: Table | None = None,
        tube: Table | None = None,
        rod: Table | None = None,
        pipe: Table | None = None,
        I: Table | None = None,  # noqa: E741 - the trade's name of the shape
        channel: Table | None = None,
        angle: Table | None = None,
        T: Table | None = None,
        properties: Table | None = None,
        shear_factors: Sequence[float] | None = None,
        torsion_constant: Value | None = None,
    ) -> Assembly:
        """Add a beam section: one shape, or properties; shear factors and the torsion constant may be overridden."""
        return self._add("sections", name, _given(locals()))

    def point(self, name: str, at: Vector, *, apart: bool = False) -> Assembly:
        """Add a point at [x, y, z]; `apart` keeps it a node of its own where others are at the same place."""
        return self._add("points", name, {"at": at, **({"apart": True} if apart else {})})

    def part(
        self,
        name: str,
        *,
        beam: Table | None = None,
        cable: Table | None = None,
        ring: Table | None = None,
        plate: Table | None = None,
        cylinder: Table | None = None,
        box: Table | None = None,
        tube: Table | None = None,
        extrusion: Table | None = None,
        mesh: Table | str | None = None,
        material: str | None = None,
        axes: Table | None = None,
        merge: bool | None = None,
    ) -> Assembly:
        """Add a part: one geometry, its material (none where layers have theirs), own axes, whether it shares nodes."""
        return self._add("parts", name, _given(locals()))

    def mass(self, name: str, *, at: str, mass: Value, inertia: Any = None, offset: Vector | None = None) -> Assembly:
        """Add a point mass at a point, or off it by a rigid arm; inertia about its centre of mass."""
        return self._add("masses", name, _given(locals()))

    def spring(
        self,
        name: str,
        *,
        between: Sequence[str],
        stiffness: Value | None = None,
        damping: Value | None = None,
        loss_factor: Value | None = None,
        axis: Axis | None = None,
        one_way: Literal["push", "pull"] | None = None,
        gap: Value | None = None,
        force: Any = None,
        mirrored: bool | None = None,
        beyond: Literal["held"] | None = None,
        law: Table | None = None,
    ) -> Assembly:
        """Add a spring and damper along the line between two points (or ``ground``), or along `axis`.

        Or `one_way`, after a `gap`; or by a table of `force` over elongation, or a `law`, in place of a stiffness.
        """
        return self._add("springs", name, _given(locals()))

    def bushing(
        self,
        name: str,
        *,
        between: Sequence[str],
        stiffness: Any = None,
        damping: Any = None,
        loss_factor: Value | None = None,
        axes: Table | None = None,
    ) -> Assembly:
        """Add a bushing: stiffness and damping in six directions between two points, in own axes."""
        return self._add("bushings", name, _given(locals()))

    def link(
        self, name: str, *, rigid: str | None = None, averaging: str | None = None, area: str | None = None, to: Where
    ) -> Assembly:
        """Add a link from a point, `rigid`, `averaging` or by `area`, to targets."""
        return self._add("links", name, _given(locals()))

    def joint(
        self,
        name: str,
        *,
        between: Sequence[Any],
        kind: str | None = None,
        release: str | Sequence[str] | None = None,
        stiffness: Any = None,
        damping: Any = None,
        loss_factor: Value | None = None,
        axes: Table | None = None,
    ) -> Assembly:
        """Add a joint between two sides: rigid, but for directions released or given stiffness or damping."""
        return self._add("joints", name, _given(locals()))

    def tie(self, name: str, *, nodes: Where, faces: str, within: Value | None = None) -> Assembly:
        """Tie nodes to the faces of a part."""
        return self._add("ties", name, _given(locals()))

    def matrices(self, *, stiffness: str, mass: str, damping: str | None = None, dofs: str) -> Assembly:
        """Bring stiffness, mass (and damping) from files, with a table of their rows (dofs)."""
        return self._set("matrices", _given(locals()))

    def support(
        self,
        name: str,
        *,
        at: Where,
        hold: str | Sequence[str] | None = None,
        pushes: str | None = None,
        gap: Value | None = None,
        friction: float | None = None,
    ) -> Assembly:
        """Add a support: directions held (x y z rx ry rz, or all) of a point or of selected nodes.

        Or one-way: the direction into which it `pushes` (x, -x ...), after a `gap`, with a coefficient of `friction`.
        """
        return self._add("supports", name, _given(locals()))

    def group(self, name: str, members: str | Sequence[str]) -> Assembly:
        """Name a set of parts, masses, springs, bushings, links and other groups."""
        return self._add("groups", name, members)

    def gauge(
        self,
        name: str,
        *,
        displacement: Where | Sequence[Any] | None = None,
        rotation: Where | Sequence[Any] | None = None,
        velocity: Where | Sequence[Any] | None = None,
        acceleration: Where | Sequence[Any] | None = None,
        force: str | None = None,
        moment: str | None = None,
        damper_force: str | None = None,
        total_force: str | None = None,
        reaction: str | Sequence[str] | None = None,
        reaction_moment: str | Sequence[str] | None = None,
        beam_force: str | None = None,
        beam_moment: str | None = None,
        stress: str | None = None,
        cut_force: str | None = None,
        cut_moment: str | None = None,
        axis: str | Vector | None = None,
        relative_to: Where | Sequence[Any] | None = None,
        motion: Literal["relative", "absolute"] | None = None,
        point: str | None = None,
        by_point: bool | None = None,
        about: str | None = None,
        portion: Literal["elastic", "damper", "whole"] | None = None,
        end: Literal["start", "end"] | None = None,
        surface: Literal["top", "middle", "bottom", "both"] | None = None,
        at: Literal["centre", "nodes"] | None = None,
        layer: int | None = None,
        component: str | None = None,
        plane: Table | None = None,
    ) -> Assembly:
        """Add a gauge: one quantity with what it is read from, such as ``acceleration="fan", axis="z"``."""
        return self._add("gauges", name, _given(locals()))

    def load(
        self,
        name: str,
        *,
        gravity: Axis | None = None,
        tilted: Table | None = None,
        size: Value | None = None,
        at: Where | None = None,
        force: Any = None,
        moment: Any = None,
        pressure: Value | None = None,
        on: Table | None = None,
        towards: Axis | None = None,
        following: bool | None = None,
        supports: str | Sequence[str] | None = None,
        move: Table | None = None,
    ) -> Assembly:
        """Add a load: gravity, a force and moment, a pressure, or supports that are moved."""
        return self._add("loads", name, _given(locals()))

    def state(
        self,
        name: str,
        *,
        loads: str | Sequence[str] | Table | None = None,
        tension: Table | None = None,
        shortening: Table | None = None,
        temperature: Table | None = None,
        stress_stiffness: bool | None = None,
        one_way: bool | None = None,
        friction_stiffness: Value | None = None,
        installed: str | None = None,
        load_steps: int | None = None,
        constant: str | Sequence[str] | None = None,
    ) -> Assembly:
        """Add a state: the assembly at rest under loads, tensions, temperatures. `about` switches it on."""
        return self._add("states", name, _given(locals()))

    def event(
        self,
        name: str,
        *,
        spectrum: Table | None = None,
        support_spectra: Table | None = None,
        pulse: Table | None = None,
        support_pulses: Table | None = None,
        support_swings: Table | None = None,
        support_densities: Table | None = None,
        loads: Table | None = None,
        static: str | Sequence[str] | Table | None = None,
        state: str | None = None,
        random: Table | None = None,
        coherence: Sequence[Table] | None = None,
        peak: Literal["times rms", "expected largest"] | None = None,
        times: float | None = None,
        fatigue: Table | None = None,
        combine: str | None = None,
        directions: str | None = None,
        over_supports: str | None = None,
        over_displacement: str | None = None,
        interpolate: str | None = None,
        outside: str | None = None,
        rigid_between: Vector | None = None,
        duration: Value | None = None,
        missing_mass: bool | None = None,
        over_missing_mass: Literal["absolute", "srss"] | None = None,
        zero_period_acceleration: Any = None,
        static_correction: bool | None = None,
        ring_down: Value | None = None,
        step: Value | None = None,
        start_from: str | None = None,
        let_go: str | None = None,
        method: str | None = None,
        model: str | None = None,
        high_frequency_damping: Value | None = None,
        sweep: Any = None,
        base: Table | None = None,
        unbalance: Table | None = None,
        beside: str | None = None,
        amplitudes: str | None = None,
        full_model_at: Sequence[Value] | None = None,
        with_state: bool | None = None,
        octaves_per_minute: float | None = None,
        damping: Value | Table | None = None,
        upto: Value | None = None,
    ) -> Assembly:
        """Add an event: spectra, pulse or loads in time, a sweep, random, loads at rest, a state of its own.

        An option that does not belong to the event's kind is refused.
        """
        return self._add("events", name, _given(locals()))

    def damping(self, value: Value | Table) -> Assembly:
        """Set the damping: a ratio, a table by frequency, Rayleigh from two points, composite, or loss factors."""
        return self._set("damping", value)

    def mass_matrix(self, kind: Literal["consistent", "lumped", "lumped without rotary"]) -> Assembly:
        """Choose the mass matrix."""
        return self._set("mass matrix", kind)

    def merge_tolerance(self, distance: Value) -> Assembly:
        """Distance within which nodes of parts become one."""
        return self._set("merge tolerance", distance)

    def default_modes(self, count: int | None = None, upto: Value | None = None) -> Assembly:
        """How many modes `modes` extracts when it is not told."""
        return self._set("modes", {k: v for k, v in (("count", count), ("upto", upto)) if v is not None})

    def limit(self, gauge: str, value: Any) -> Assembly:
        """Limit a gauge: one value, or values by component."""
        return self._add("limits", gauge, value)

    def band(
        self,
        name: str,
        *,
        range: Vector | None = None,
        speed: Value | None = None,
        harmonics: Sequence[float] | None = None,
        margin: Value | None = None,
    ) -> Assembly:
        """Add a band of excitation: a range, or a speed with harmonics and a margin to each side."""
        return self._add("bands", name, _given(locals()))

    def massless(self, *directions: str) -> Assembly:
        """Switch the mass off in some directions (x y z rx ry rz), to leave out the modes along them."""
        return self._set("massless", list(directions))

    def add_variant(self, name: str, values: Table) -> Assembly:
        """Add a variant: values put in place of the assembly's own, as in the file."""
        entries = dict(self._data.get("variants", {}))
        if name in entries:
            raise DescriptionError(f'variants: there is already "{name}"')
        return self._with({**self._data, "variants": {**entries, name: _plain(values)}})

    # -- looking ------------------------------------------------------------------------------------

    @property
    def document(self) -> Document:
        """The validated description with its source and the keys of its stages."""
        if self._document is None:
            from dataclasses import replace

            made = validated(self._data, self._places, self._folder)
            self._document = replace(made, origin=self._origin)
        return self._document

    @property
    def description(self) -> Description:
        """The validated description, in SI."""
        return self.document.description

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
    def title(self) -> str:
        """Title, or the file's name; with the state that is switched on."""
        own = self.description.title or self._origin.source or "assembly"
        return own if self.description.state is None else f'{own}, about the state "{self.description.state}"'

    @property
    def key(self) -> str:
        """Key of the system (stiffness, mass and constraints), as hexadecimal digits."""
        return self.document.keys.of("dampers")

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

        A node's six motions x y z rx ry rz stand in six rows from that one on (from 0), in shapes (as columns), in the
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
        """Stiffness, mass and damping of all motions (SI, rows as `nodes` says), and what ties them together.

        With T = ``reduce``, u = T v for the independent motions v, and modes obey (Tᵀ K T) v = ω² (Tᵀ M T) v:

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

    def write_mesh(self, path: str | Path) -> Path:
        """Write the mesh as VTU (or another format by its ending), with the part of each cell."""
        from holokine.mesh.files import write_mesh

        write_mesh(Path(path), self.system.mesh)
        return Path(path)

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

    def _request(self, count: int | None, upto: Value | None) -> Request:
        limit = None if upto is None else argument_of("upto", upto, "frequency")
        count = None if count is None else whole_number("count", count)
        return Request.of(self.description, count, limit)

    def vary(
        self,
        parameters: Mapping[str | tuple[str | int, ...], Any],
        *,
        samples: int | None = None,
        seed: int = 1,
        read: Sequence[str | tuple[str, str]] = (),
        count: int | None = None,
        upto: Value | None = None,
        jobs: int | None = 1,
        scheduler: str | None = None,
        folder: str | Path | None = None,
    ) -> Variation:
        """Run many variants: modes followed by their shapes, and any reading of any event.

        Parameters
        ----------
        parameters : dict
            Values by place: keys of the description joined by slashes, such as ``"parts/deck/plate/thickness"``
            (positions in lists from 1; a tuple of keys where a name holds a slash). Values are a list, or words:
            ``"2 to 6 mm in 5"``, ``"uniform 2 to 6 mm"``, ``"normal 3 mm +- 5 %"``, ``"lognormal 3 mm +- 0.2 mm"``.
        samples, seed : int, optional
            Draw so many by a Latin hypercube, in place of a grid of all values.
        read : list of str
            ``"EVENT: GAUGE"``, each read as its peak.
        count, upto : optional
            Which modes, as for `modes`.
        jobs : int, optional
            Processes; None: as many as cores and memory allow. A script that asks for more than one guards its main
            part by ``if __name__ == "__main__":``.
        scheduler : str, optional
            Address of a scheduler of dask.distributed, in place of processes here.
        folder : str or Path, optional
            Where finished variants are kept, so that an interrupted run goes on.

        Raises
        ------
        DescriptionError, UnknownNameError, EventError, MechanismError, SolverError
            A place, value, event or reading that is not there, a parameter that changes nothing, or an assembly that
            cannot be solved as it is written. A variant that fails is a row of the table.
        """
        from holokine.api.variation import varied

        basis = self._request(count, upto)
        return varied(self, parameters, basis, read, samples, seed, jobs, scheduler, folder)

    def scatter(
        self,
        parameters: Mapping[str | tuple[str | int, ...], Any],
        *,
        read: Sequence[str | tuple[str, str]] = (),
        samples: int | None = None,
        seed: int = 1,
        count: int | None = None,
        upto: Value | None = None,
        jobs: int | None = 1,
        scheduler: str | None = None,
        folder: str | Path | None = None,
    ) -> Scatter:
        """What scattering inputs do to frequencies and peaks: by derivatives, and with `samples` by a Latin hypercube.

        Parameters as of `vary`, with distributions for values: ``"normal 205 GPa +- 3 %"``, ``"lognormal 140 N/mm +-
        10 %"``, ``"uniform 2.8 to 3.2 mm"``.

        Raises
        ------
        DescriptionError, UnknownNameError, EventError, MechanismError, SolverError
        """
        from holokine.api.scatter import scattered

        basis = self._request(count, upto)
        return scattered(self, parameters, basis, read, samples, seed, jobs, scheduler, folder)

    def reach(
        self, parameter: str | tuple[str | int, ...], mode: int, to: Value, *, count: int | None = None
    ) -> BroughtMode:
        """Which value of a parameter brings a mode to a frequency: by derivatives, then run again to prove.

        Parameters
        ----------
        parameter : str or tuple
            A place that holds a number above zero, as for `vary`.
        mode : int
            By its number now; it is followed by its shape.
        to : float or str
            In Hz, or with a unit.

        Raises
        ------
        DescriptionError, UnknownNameError
            The mode hardly depends on it, or the value that is found on the way cannot be.
        """
        from holokine.api.variation import brought

        mode = whole_number("mode", mode)
        basis = self._request(count, None)
        if basis.count is not None and basis.count < mode + 4 and basis.upto is None:
            basis = Request.of(self.description, mode + 4)
        return brought(self, parameter, mode, argument_of("to", to, "frequency"), basis)

    def refine(
        self,
        times: Sequence[float] = (1.5, 2.0),
        *,
        read: Sequence[str | tuple[str, str]] = (),
        count: int | None = None,
        upto: Value | None = None,
    ) -> Refinement:
        """Run with the built-in meshes finer by some factors: what frequencies and peaks tend to, with error bars.

        Raises
        ------
        DescriptionError, UnknownNameError
            No built-in mesh, or factors that make no difference.
        """
        from holokine.api.variation import refined_meshes

        return refined_meshes(self, times, read, self._request(count, upto))

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

    def rest(self, state: str | None = None) -> Rest:
        """The assembly at rest in a state: by name, or the one that is switched on.

        Raises
        ------
        UnknownNameError, EquilibriumError, DescriptionError
            No such state (or none at all), no equilibrium, beyond buckling.
        """
        from holokine.api.at_rest import Rest

        chosen = self if state is None else self.about(state)
        if chosen.description.state is None:
            one = list(self.description.states)
            if len(one) != 1:
                hint = f"name one of {', '.join(one)}" if one else "describe one under states:"
                raise UnknownNameError(f"no state is switched on; {hint}")
            chosen = self.about(one[0])
        return announced(Rest(chosen))

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
        return Assembly._of(variant_of(self.document, name, _plain(values)), self._memory.copy())

    def adjusted(self, factors: dict[str, dict[str, float]]) -> Assembly:
        """The assembly with stiffness or mass of members or groups times a factor.

        For instance ``{"rail left": {"stiffness": 1.1}, "fan": {"mass": 0.9}}``.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        return self._changed({"adjust": factors}, "")

    def refuse_groups(self, names: Sequence[str] | None) -> None:
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

    def static(self, event: str | Table | EventKind) -> StaticAnswer:
        """Displacement and gauges under loads at rest: an event by name, or ``{"static": ...}``, ``{"state": ...}``.

        Raises
        ------
        UnknownNameError, EventError, MechanismError, DescriptionError
            An event in time, something that moves freely, a load on nothing.
        """
        from holokine.api.static_answer import StaticAnswer

        name, described = self.event_of(event)
        if described.kind != "static" and described.in_state is None:
            raise EventError(f'"{name}" is not an event of loads at rest (static)')
        answer = self.respond(event)
        assert isinstance(answer, StaticAnswer)
        return answer

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
            changed = {"events": {name: _plain(event)}}
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

    @property
    def _counted(self) -> tuple[str, ...]:
        return (
            "materials", "sections", "points", "parts", "masses", "springs", "bushings", "links", "joints", "ties",
            "supports", "groups", "gauges", "limits", "loads", "states", "events", "bands", "variants",
        )  # fmt: skip

    def __repr__(self) -> str:
        counts = [f"{len(self._data[k])} {k}" for k in self._counted if self._data.get(k)]
        title = self._data.get("title") or self._origin.source or "assembly"
        return f"Assembly: {title}\n  " + (", ".join(counts) or "empty")

    def _repr_html_(self) -> str:
        from html import escape

        return f"<pre>{escape(repr(self))}</pre>"


def _plain(value: Any) -> Any:
    """Paths as text and arrays as lists, wherever they stand."""
    if isinstance(value, PurePath):
        return str(value)
    if is_with_unit(value):
        return with_unit(value)
    if hasattr(value, "tolist"):  # arrays and their scalars; NumPy is loaded when something is computed
        return value.tolist()
    if isinstance(value, Mapping):
        return {k: _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    return value


def _given(values: dict[str, Any]) -> dict[str, Any]:
    """Keyword arguments of a call that were given, with keys as files write them."""
    return {k.replace("_", " "): v for k, v in values.items() if k not in ("self", "name") and v is not None}
