"""Modes of an assembly, as a Python user holds them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.shown import Shown, announced
from holokine.errors import DescriptionError, UnknownNameError, nearest_hint
from holokine.units import argument_of

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.api.answer import Answer
    from holokine.api.assembly import Assembly
    from holokine.api.compared import Compared, RulesAgainstTime
    from holokine.api.damped import Damped
    from holokine.api.report import Report
    from holokine.api.tuned import TunedDamper
    from holokine.describe.events import EventKind
    from holokine.findings import Finding
    from holokine.gauges.channels import GaugeSet
    from holokine.modes.energy import Energies
    from holokine.modes.kinds import ModeKind
    from holokine.modes.participation import Enough
    from holokine.respond.reduced import ReducedModel
    from holokine.store.chain import ModalChain
    from holokine.store.run_file import RunContents

__all__ = ["Modes"]

Floats = NDArray[Any]  # float64


class Modes(Shown):
    """Natural frequencies, shapes and participation, and the way to responses.

    Attributes
    ----------
    assembly : Assembly
    set : ModeSet
        The numbers, in SI.

    Notes
    -----
    What is changed in the assembly afterwards takes effect where the modes do not depend on it (damping, gauges,
    events, groups, limits); any other change is refused by name when something is asked that would mix the two.
    """

    def __init__(self, assembly: Assembly, chain: ModalChain, run: RunContents | None = None) -> None:
        self.assembly, self.set, self._at, self._run = assembly, chain.modes, chain, run

    @classmethod
    def open(cls, path: str | Path, *, as_saved: bool = False) -> Modes:
        """Open a run file: everything can be asked at once, without extracting again.

        Parameters
        ----------
        as_saved : bool
            Take the run as it was saved even where the assembly file has changed since.

        Raises
        ------
        RunFileError
            Missing, foreign, damaged, or older than the assembly file (with what changed there).
        """
        from holokine.api.assembly import Assembly
        from holokine.store.run_file import read_run

        contents = read_run(Path(path), as_saved=as_saved)
        assembly = Assembly._of(contents.document, contents.chain.memory)
        return cls(assembly, contents.chain, contents)

    def save(self, path: str | Path) -> Path:
        """Write a run file: modes, reduced model and description.

        Raises
        ------
        RunFileError
            When another kind of file stands there, or it cannot be written.
        StaleError
            When the assembly has changed in what the modes depend on.
        """
        from datetime import UTC, datetime

        from holokine import __version__
        from holokine.store.run_file import write_run

        created = datetime.now(UTC).isoformat(timespec="seconds")
        write_run(Path(path), self._now, version=__version__, created=created)
        return Path(path)

    @property
    def _now(self) -> ModalChain:
        """These modes under the assembly as it is now: what changed beyond them takes effect.

        Raises
        ------
        StaleError
            When what they depend on has changed, by name.
        """
        self._at = self._at.moved_to(self.assembly.document)
        return self._at

    @property
    def run(self) -> RunContents | None:
        """The run file that these modes were opened from."""
        return self._run

    @property
    def key(self) -> str:
        """Key of these modes: equal for equal descriptions and requests, on every machine."""
        return self._at.key("modes")

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion."""
        return self._now.gauges

    @property
    def frequencies_hz(self) -> NDArray[np.float64]:
        """Natural frequencies in Hz, shape (modes,)."""
        return self.set.frequencies_hz

    @property
    def errors_hz(self) -> NDArray[np.float64]:
        """Bound of the error of each frequency in Hz, shape (modes,): of extraction and rounding, not of the mesh."""
        return self.set.errors_hz

    @property
    def shapes(self) -> NDArray[np.float64]:
        """Mass-normalised shapes, shape (modes, dofs), six per node; see `unit_maximum`."""
        return self.set.shapes

    def unit_maximum(self) -> NDArray[np.float64]:
        """Shapes whose largest translation is 1."""
        return self.set.unit_maximum()

    def __len__(self) -> int:
        return self.set.count

    @property
    def damping(self) -> NDArray[np.float64]:
        """Damping ratios, shape (modes,): the description's, of materials, and what discrete dampers add to each."""
        return self._now.damping

    @property
    def reduced(self) -> ReducedModel:
        """The modes as seen through the gauges, complete in itself.

        Raises
        ------
        MechanismError
            With rigid-body modes.
        """
        return self._now.reduced

    def conservatism(self, event: str | EventKind | dict[str, Any]) -> RulesAgainstTime:
        """Peaks of a pulse in time against every rule of combination under the spectra of the same pulse.

        Raises
        ------
        UnknownNameError, EventError
            An unknown event, or one that is not a pulse.
        """
        from holokine.api.compared import RulesAgainstTime
        from holokine.respond.conservatism import pulse_under_rules

        name, described = self.assembly.event_of(event)
        time, rules = pulse_under_rules(self._now, name, described)
        return announced(RulesAgainstTime(name, time, rules, (*self.findings, *time.findings)))

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What the extraction noticed, and how discrete dampers are taken in."""
        opened = () if self._run is None else self._run.findings
        return (*opened, *self.set.findings, *self._now.findings)

    @property
    def statement(self) -> str:
        """Modes found, modes that exist, largest residual and loss of orthogonality, in words."""
        from holokine.show.text import proof_text

        return proof_text(self.set)

    def lines(self, enough: Sequence[Enough] | None = None) -> list[str]:
        """Mass held, whether the modes are `enough` (by default for 90 %), the proof of their number, the time step."""
        from holokine.show.text import mass_lines, time_step_line

        found = self.enough() if enough is None else enough
        return [*mass_lines(self.set), *(e.words for e in found), self.statement, time_step_line(self.set)]

    def table(self) -> pd.DataFrame:
        """One row per mode: frequencies, what it is in words, where its energy is, how far the mesh can be trusted."""
        from holokine.show.tables import modes_table

        return modes_table(self.set, self.damping, self.energies, self.words)

    @property
    def energies(self) -> Energies:
        """Strain and kinetic energy of every member in every mode."""
        return self._at.energies

    @property
    def words(self) -> list[str]:
        """What each mode is, from its shape and energies."""
        return [kind.words for kind in self.kinds]

    @property
    def kinds(self) -> tuple[ModeKind, ...]:
        """What each mode is, as data: family, axis, order, the part that it is local to."""
        return self._at.kinds

    def untrusted(self, limit: float = 0.05) -> tuple[Finding, ...]:
        """A warning that names the modes whose frequency the mesh may falsify by more than a share (roughly)."""
        from holokine.modes.energy import untrusted_modes

        return untrusted_modes(self.set, self.energies, limit)

    def _by(self, by: str | Sequence[str]) -> tuple[tuple[str, ...], Floats, Floats]:
        if by == "member":
            return self.energies.members, self.energies.strain, self.energies.kinetic
        if by != "group" and isinstance(by, str):
            by = [by]
        from holokine.modes.energy import group_energies

        self.assembly.refuse_groups(None if by == "group" else list(by))
        g = group_energies(self._now.document.description, self.energies, None if by == "group" else tuple(by))
        return g.names, g.strain, g.kinetic

    def energy(self, by: str | Sequence[str] = "member") -> pd.DataFrame:
        """Strain and kinetic energy of each member, of each group (``by="group"``), or of groups by name.

        One row per mode and member; shares sum to 100 % over members. A member in several groups counts in each;
        what is in none has a row of its own.

        Raises
        ------
        UnknownNameError
            For a group that does not exist.
        """
        from holokine.show.mode_tables import energy_table

        return energy_table(self.set, *self._by(by))

    def in_several_groups(self) -> tuple[str, ...]:
        """Members that are in more than one group, whose energy counts in each."""
        from holokine.modes.energy import group_energies

        return group_energies(self._now.document.description, self.energies).several

    def guidance(self, by: str | Sequence[str] = "member", *, change: float | str = 0.1) -> pd.DataFrame:
        """Change of each frequency, in percent, for `change` more stiffness or mass of each member, largest first.

        First order in the change, from the shares of energy; `Assembly.adjusted` runs it.

        Raises
        ------
        DescriptionError
            A change of nothing, or to nothing.
        """
        change = argument_of("change", change, "number")
        if not change > -1.0 or change == 0.0:
            raise DescriptionError(f"change: a share of stiffness or mass above -100 % and not 0, got {change:g}")
        from holokine.show.mode_tables import guidance_table

        return guidance_table(self.set, *self._by(by), change)

    def advice(self, by: str | Sequence[str] = "member", *, change: float | str = 0.1, most: int = 2) -> list[str]:
        """The same in words: the strongest levers on each mode."""
        from holokine.show.mode_tables import guidance_lines

        return guidance_lines(self.set, *self._by(by), argument_of("change", change, "number"), most)

    def plot_energy(self, by: str | Sequence[str] | None = None) -> Any:
        """Stacked bars of where the energy of each mode is; returns the Figure.

        `by`: members, groups or groups by name; when left out members, or groups where the description has them and
        the nine members that hold most leave more than half to the others.
        """
        from holokine.show.mode_figures import MOST_BARS, plot_energy

        if by is None:
            held = self.energies.strain.sum(axis=1)
            most = float(np.sort(held)[::-1][:MOST_BARS].sum())
            by = "group" if self.assembly.description.groups and most < 0.5 * float(held.sum()) else "member"
        return plot_energy(self.set, *self._by(by), by if isinstance(by, str) else "group")

    def enough(self, share: float | str = 0.9, directions: str | Sequence[str] = ("x", "y", "z")) -> list[Enough]:
        """For each direction: how many modes hold a share of the free mass, or how many are probably needed.

        Raises
        ------
        UnitError, DescriptionError
            A share that is not between 0 and 100 %, or an unknown direction.
        """
        from holokine.modes.participation import DIRECTIONS, enough_mass

        wanted = argument_of("share", share, "number")
        if not 0.0 < wanted <= 1.0:
            raise DescriptionError(f"a share of mass lies between 0 and 100 %, got {share}")
        chosen = tuple(directions)
        for d in chosen:
            if d not in DIRECTIONS:
                raise DescriptionError(f'unknown direction "{d}"; directions are {" ".join(DIRECTIONS)}')
        return enough_mass(self.set, wanted, chosen)

    def bands(self) -> pd.DataFrame:
        """Modes in, or near, the bands of excitation of the description."""
        from holokine.show.mode_tables import bands_table

        return bands_table(self._now.modes, self._now.document.description)

    def plot_bands(self) -> Any:
        """Natural frequencies against the bands of excitation; returns the Axes."""
        from holokine.show.mode_figures import plot_bands

        return plot_bands(self._now.modes, self._now.document.description)

    def scaled(self, to: str | float = "unit maximum") -> Floats:
        """Shapes, (modes, dofs), scaled to ``"unit maximum"``, ``"mass"`` (modal mass 1), or an energy per mode.

        An energy (in J, or with a unit) gives the deformation at which each mode holds that much strain energy:
        the smaller its peak, the stiffer the assembly in that mode. Rigid-body modes hold none and become NaN.
        """
        if to == "unit maximum":
            return self.set.unit_maximum()
        if to == "mass":
            return self.set.shapes
        return self.set.at_energy(argument_of("to", to, "energy"))

    def at_points(self, points: str | Sequence[str] | None = None, *, scale: str | float = "mass") -> pd.DataFrame:
        """Shape values at named points, a row per mode and point: x y z and rotations rx ry rz.

        Parameters
        ----------
        points : str or list of str, optional
            All that move when left out.
        scale : str or float
            ``"mass"`` (modal mass 1; values in 1/√kg), ``"unit maximum"``, or an energy (mm and mrad then).

        Raises
        ------
        UnknownNameError
            For a point that does not exist or that nothing moves.
        """
        from holokine.show.mode_tables import points_table

        known = self._now.system.moving_points()
        asked = list(known) if points is None else [points] if isinstance(points, str) else list(points)
        for point in asked:
            if point not in known:
                hint = nearest_hint(point, known, "points that move")
                raise UnknownNameError(f'there is no point "{point}" that moves. {hint}')
        metric = scale not in ("mass", "unit maximum")
        return points_table(self.set, {p: known[p] for p in asked}, self.scaled(scale), metric)

    def peak_at_energy(self, energy: float | str) -> pd.DataFrame:
        """Largest displacement of each mode, in mm, where it holds a given energy."""
        from holokine.show.mode_tables import peak_at_energy_table

        return peak_at_energy_table(self.set, argument_of("energy", energy, "energy"))

    def compare(self, after: Modes) -> Compared:
        """Pair these modes with those of another run by the modal assurance criterion.

        Raises
        ------
        SelectionError
            When the two have no place in common.
        """
        from holokine.api.compared import Compared
        from holokine.modes.compare import compare_modes

        if not isinstance(after, Modes):
            raise TypeError(f"compare takes the modes of another run, such as assembly.modes(), got {after!r:.60}")
        return Compared(self, after, compare_modes(self.set, after.set))

    def participation(self) -> pd.DataFrame:
        """Participation factors, effective masses, ratios and cumulative ratios by direction."""
        from holokine.show.tables import participation_table

        return participation_table(self.set)

    def load_shares(self, event: str | EventKind | dict[str, Any]) -> pd.DataFrame:
        """How much of an event's loads the lowest 1, 2, 3 ... of these shapes hold, in percent.

        Columns per load: static (of the deformation energy under the load at rest) and dynamic (of the load itself;
        for a base motion the effective mass). Wilson, Yuan & Dickens 1982.
        """
        from holokine.modes.ritz import load_shares
        from holokine.show.mode_tables import load_shares_table

        return load_shares_table(self.set, load_shares(self.set, self.assembly.loads_of(event)))

    def damped(self) -> Damped:
        """Damped (complex) modes, coupled by dampers, loss factors and all other damping of the description.

        Raises
        ------
        StaleError
            When the assembly has changed in what the modes depend on.
        """
        from holokine.api.damped import Damped
        from holokine.modes.damped import damped_modes
        from holokine.respond.steady import coupling

        chain = self._now
        found = coupling(chain, self.set.count)
        return announced(Damped(self, found, damped_modes(found.vibration, found.modes)))

    def tune(
        self,
        at: str,
        axis: str | Sequence[float],
        *,
        mode: int | None = None,
        mass: float | str | None = None,
        ratio: float | str | None = None,
        against: str | None = None,
        gauge: str | None = None,
        band: Sequence[float | str] | None = None,
    ) -> TunedDamper:
        """A tuned damper (a mass on a spring and damper) at a point: which spring and damper, and what it brings.

        Parameters
        ----------
        at, axis : str, str or three numbers
            Where its mass hangs, and along what it slides.
        mode : int, optional
            Which it is for; the lowest mode that moves the point most along the axis when left out.
        mass, ratio : float or str
            Its mass (kg, or with a unit), or its share of the effective modal mass there (``"5 %"``): one of them.
        against : str, optional
            ``"force"`` (the default: a force at the point, whose displacement is read), ``"base"`` (motion of the base
            along the axis; the point's displacement relative to it), or a sweep of the description with a `gauge`.
        gauge : str, optional
            One reading, such as ``"fan z"``, whose largest over the band is made least.
        band : two of float or str, optional
            From and to in Hz; 0.6 to 1.5 times the mode's frequency when left out.

        Raises
        ------
        EventError, UnknownNameError, UnitError, DescriptionError
        """
        from holokine.api.tuning import tuned_damper

        return announced(tuned_damper(self, at, axis, mode, mass, ratio, against, gauge, band))

    def respond(self, event: str | EventKind | dict[str, Any]) -> Answer:
        """Response of all gauges to an event: a name in the description, or the event itself.

        Raises
        ------
        UnknownNameError, EventError, MechanismError
        StaleError
            When the assembly has changed in what the modes depend on.
        """
        from holokine.api.answers import answer_of

        name, described = self.assembly.event_of(event)
        if not described.needs_modes:
            return self.assembly.respond(event)
        chain = self._now
        return announced(answer_of(self.assembly, chain, described, chain.answer(name, described), self))

    def plot_participation(self, ax: Any = None) -> Any:
        """Cumulative effective mass against frequency; returns the Axes."""
        from holokine.show.figures import plot_participation

        return plot_participation(self.set, ax=ax)

    def picture(
        self,
        mode: int,
        path: str | Path,
        *,
        colour: str = "displacement",
        share: float | None = None,
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
    ) -> Path:
        """Rendered picture of a mode (from 1) over a ghost of the undeformed assembly; drawn plainly without `view`.

        `colour`: displacement, energy (strain energy density) or stress. `share`: largest displacement drawn, as
        a share of the assembly's diagonal. `view` and `only` as for `Check.picture`.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_mode

        look = Look.of(self.set.system, view, only)
        picture_mode(self.set, mode, Path(path), share=share, colour=colour, look=look)
        return Path(path)

    @property
    def can_render(self) -> bool:
        """Whether the `view` extra is there and can render here."""
        from holokine.show.scene import view_available

        return view_available()

    def sheet(self, path: str | Path, modes: Sequence[int] | None = None) -> Path:
        """Several modes (the first six when left out) on one picture."""
        from holokine.show.scene import picture_sheet

        picture_sheet(self.set, [int(m) for m in (self.set.numbers[:6] if modes is None else modes)], Path(path))
        return Path(path)

    def page(self, path: str | Path) -> Path:
        """Write one HTML file in which the reader turns the model and watches its modes, tables beside it."""
        from holokine.show.page import write_page

        write_page(self.set, Path(path), self.table(), self.participation(), self.assembly.title)
        return Path(path)

    def report(
        self,
        path: str | Path | None = None,
        *,
        sections: Sequence[str] | None = None,
        events: Sequence[str] | None = None,
        text: str | Path | None = None,
    ) -> Report:
        """The report of these modes and of every event: one HTML page for readers and printers, or a workbook.

        Parameters
        ----------
        path : str or Path, optional
            Where the page is written; without one, ``report().write`` and ``report().workbook`` do.
        sections : list of str, optional
            Of findings, assembly, state, modes, energy, damped, events, origin; all when left out.
        events : list of str, optional
            All events of the description when left out.
        text : str or Path, optional
            A Markdown file of the analyst's own. A heading of the first level that names a section or event puts what
            follows at its beginning, any other makes a chapter.

        Raises
        ------
        UnknownNameError, EventError, DescriptionError, OutputError
            An unknown section or event, a text that cannot be read, a page that cannot be written.
        """
        from holokine.api.report import Report

        made = Report(self, sections, events, text)
        if path is not None:
            made.write(path)
        return made

    def animate(
        self,
        mode: int,
        path: str | Path,
        *,
        share: float | None = None,
        true_scale: float | str | None = None,
        frames: int = 24,
        rate: int = 24,
        pixels: tuple[int, int] = (1280, 800),
    ) -> Path:
        """One period of a mode as GIF or MP4.

        `share`: largest displacement drawn as a share of the diagonal; `true_scale`: largest displacement (m, or
        with a unit), drawn without magnification. `frames`: pictures of the period; `rate`: pictures per second;
        `pixels`: width and height, both even.

        Raises
        ------
        HolokineError
            No such mode, another ending, odd pixels, or imageio is not installed.
        """
        from holokine.show.scene import animate_mode

        scale = None if true_scale is None else argument_of("true_scale", true_scale, "length")
        animate_mode(self.set, mode, Path(path), share=share, true_scale=scale, frames=frames, rate=rate,
                     pixels=pixels)  # fmt: skip
        return Path(path)

    def write_vtu(self, path: str | Path, modes: list[int] | None = None) -> Path:
        """Write the mesh with mode shapes (unit maximum) as point data, for a 3D viewer."""
        from holokine.mesh.files import write_mesh

        unit = self.unit_maximum().reshape(len(self), -1, 6)
        chosen = modes if modes is not None else self.set.numbers.tolist()
        rows = {m: self.set.index(m) for m in chosen}
        data = {f"mode {m} at {self.frequencies_hz[i]:.6g} Hz": unit[i, :, :3] for m, i in rows.items()}
        write_mesh(Path(path), self.set.system.mesh, data)
        return Path(path)

    def plot(self, mode: int, ax: Any = None, *, size: float | None = None) -> Any:
        """Shape of a mode (from 1) over the undeformed frame; returns the Axes.

        `size`: largest displacement drawn, as a share of the assembly's diagonal (0.08 when left out).
        """
        from holokine.show.solids import plot_shape

        return plot_shape(self.set, mode, ax=ax, share=size if size is not None else 0.08)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        from holokine.show.short import modes_first

        return f"Modes: {self.assembly.title}", [self.statement], modes_first(self.set), "modes"
