"""Natural modes (or load-dependent Ritz vectors) of an assembly, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.announce import announced
from holokine.api.mode_tables import ModeTables
from holokine.api.result import Writer, writes
from holokine.errors import DescriptionError, UnknownNameError, nearest_hint
from holokine.units import argument_of

if TYPE_CHECKING:
    from holokine.api.answer import Answer
    from holokine.api.comparison import Comparison, ModesCompared
    from holokine.api.damped import Damped
    from holokine.api.host import AssemblyLike
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


class Modes(ModeTables):
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

    lines_first = 0
    unmet = "the modes do not hold the mass asked for"

    def __init__(self, assembly: AssemblyLike, chain: ModalChain, run: RunContents | None = None) -> None:
        self.assembly, self.set, self._at, self.run = assembly, chain.modes, chain, run
        self._asked: tuple[Any, ...] | None = None

    @property
    def now(self) -> ModalChain:
        """These modes under the assembly as it is now: what changed beyond them takes effect.

        Raises
        ------
        StaleError
            When what they depend on has changed, by name.
        """
        self._at = self._at.moved_to(self.assembly.document)
        return self._at

    @property
    def basis(self) -> Any:
        """What was asked for."""
        return self._at.basis

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.assembly.title}: natural frequencies"

    @property
    def key(self) -> str:
        """Equal for equal descriptions and requests, on every machine."""
        return self._at.key("modes")

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What the extraction noticed, how discrete dampers are taken in, and which modes the mesh may falsify."""
        opened = () if self.run is None else self.run.findings
        return (*opened, *self.set.findings, *self.now.findings)

    @property
    def statement(self) -> str:
        """Modes found, modes that exist, largest residual and loss of orthogonality, in words."""
        from holokine.show.text import proof_text

        return proof_text(self.set)

    def ask_mass(self, share: float | str, along: str | Sequence[str] = ("x", "y", "z")) -> Modes:
        """Ask for a share of the free mass along some directions: `ok` says whether the modes hold it.

        Raises
        ------
        UnitError, DescriptionError
            A share that is not between 0 and 100 %, or an unknown direction.
        """
        self.enough(share, along)
        self._asked = (share, along)
        return self

    @property
    def ok(self) -> bool:
        """Whether the mass that was asked for is held (true where none was)."""
        return self._asked is None or all(e.ok for e in self.enough(*self._asked))

    @property
    def lines(self) -> list[str]:
        """Mass held, how many modes hold 90 % (or what was asked for), the proof of their number, the time step."""
        from holokine.show.text import mass_lines, time_step_line

        enough = self.enough(*(self._asked or (0.9,)))
        return [*mass_lines(self.set), *(e.words for e in enough), self.statement, time_step_line(self.set)]

    @property
    def facts(self) -> dict[str, Any]:
        """The statement."""
        return {"statement": self.statement}

    # -- numbers ----------------------------------------------------------------------------------------------------

    def __len__(self) -> int:
        return self.set.count

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
        """Mass-normalised shapes, shape (modes, dofs), six per node; see `scaled`."""
        return self.set.shapes

    @property
    def damping(self) -> NDArray[np.float64]:
        """Damping ratios, shape (modes,): the description's, of materials, and what discrete dampers add to each."""
        return self.now.damping

    @property
    def reduced(self) -> ReducedModel:
        """The modes as seen through the gauges, complete in itself.

        Raises
        ------
        MechanismError
            With rigid-body modes.
        """
        return self.now.reduced

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion."""
        return self.now.gauges

    @property
    def energies(self) -> Energies:
        """Strain and kinetic energy of every member in every mode."""
        return self._at.energies

    @property
    def kinds(self) -> tuple[ModeKind, ...]:
        """What each mode is, as data: family, axis, order, the part that it is local to."""
        return self._at.kinds

    @property
    def words(self) -> list[str]:
        """What each mode is, from its shape and energies."""
        return [kind.words for kind in self.kinds]

    def untrusted(self, limit: float = 0.05) -> tuple[Finding, ...]:
        """A warning that names the modes whose frequency the mesh may falsify by more than a share (roughly)."""
        from holokine.modes.energy import untrusted_modes

        return untrusted_modes(self.set, self.energies, limit)

    def shares_by(self, by: str | Sequence[str]) -> tuple[tuple[str, ...], NDArray[Any], NDArray[Any]]:
        """Names, strain and kinetic energy (names, modes) in J, by member, group, or groups by name.

        Raises
        ------
        UnknownNameError
            No groups at all, or none of that name.
        """
        if by == "member":
            return self.energies.members, self.energies.strain, self.energies.kinetic
        from holokine.modes.energy import group_energies

        description = self.now.document.description
        wanted = None if by == "group" else (by,) if isinstance(by, str) else tuple(by)
        refuse_groups(description.groups, wanted)
        g = group_energies(description, self.energies, wanted)
        return g.names, g.strain, g.kinetic

    def in_several_groups(self) -> tuple[str, ...]:
        """Members that are in more than one group, whose energy counts in each."""
        from holokine.modes.energy import group_energies

        return group_energies(self.now.document.description, self.energies).several

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
        chosen = tuple(directions.replace(",", " ").split() if isinstance(directions, str) else directions)
        for d in chosen:
            if d not in DIRECTIONS:
                raise DescriptionError(f'unknown direction "{d}"; directions are {" ".join(DIRECTIONS)}')
        return enough_mass(self.set, wanted, chosen)

    # -- further results --------------------------------------------------------------------------------------------

    def respond(self, event: str | EventKind | dict[str, Any], *, follow: bool = False) -> Answer:
        """Response of all gauges to an event: a name in the description, or the event itself.

        `follow`: one-way supports, springs and cables, and springs with a law, let go and hit as they do: in time, and
        in the steady motions of a sine sweep.

        Raises
        ------
        UnknownNameError, EventError, MechanismError
        StaleError
            When the assembly has changed in what the modes depend on.
        """
        from holokine.api.answers import answer_of

        name, described = self.assembly.event_of(event)
        if follow:
            described = described.following()
        if not described.needs_modes:
            answered: Answer = self.assembly.respond(event)
            return answered
        chain = self.now
        return announced(answer_of(self.assembly, chain, described, chain.answer(name, described), self))

    def compare(self, after: Modes) -> ModesCompared:
        """Pair these modes with those of another run by the modal assurance criterion.

        Raises
        ------
        SelectionError
            When the two have no place in common.
        """
        from holokine.api.comparison import ModesCompared

        if not isinstance(after, Modes):
            raise TypeError(f"compare takes the modes of another run, such as assembly.modes(), got {after!r:.60}")
        return ModesCompared.of(self, after)

    def adjust(self, factors: Mapping[str, Mapping[str, float | str]]) -> ModesCompared:
        """Run again with members or groups stiffer or lighter: predicted from the energies against actual.

        Parameters
        ----------
        factors : dict
            Such as ``{"deck": {"stiffness": 1.5}, "fan": {"mass": 0.9}}``.

        Raises
        ------
        UnknownNameError, DescriptionError
            A member that does not exist; modes that do not begin with the lowest.
        """
        from holokine.api.comparison import ModesCompared

        return ModesCompared.adjusted(self, factors)

    def against_ritz(self, event: str, count: int = 12) -> Comparison:
        """The lowest natural modes against as many load-dependent Ritz vectors: what each basis holds of the loads.

        Parameters
        ----------
        event : str
        count : int
            How many vectors.
        """
        from holokine.api.comparison import BasesCompared

        return BasesCompared.of(self, event, count)

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

        found = coupling(self.now, self.set.count)
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
        at : str
            Point at which the damper's mass hangs.
        axis : str or three numbers
            Along what it slides: x, y, z, or a direction such as 1,0,1.
        mode : int, optional
            Mode that it is for; the lowest mode that moves the point most along the axis when left out.
        mass : float or str, optional
            Its mass, such as 2kg ...
        ratio : float or str, optional
            ... or its share of the effective modal mass there, such as 5%; one of the two.
        against : str, optional
            force (at the point, whose displacement is read; the default), base, or a sweep of the description.
        gauge : str, optional
            The reading of that sweep whose largest is made least, such as 'fan z'.
        band : two of float or str, optional
            Frequencies that count, such as 15Hz 25Hz; 0.6 to 1.5 times the mode's when left out.

        Raises
        ------
        EventError, UnknownNameError, UnitError, DescriptionError
        """
        from holokine.api.tuned import tuned_damper

        return announced(tuned_damper(self, at, axis, mode, mass, ratio, against, gauge, band))

    def report(
        self,
        *,
        sections: Sequence[str] | None = None,
        events: Sequence[str] | None = None,
        text: str | Path | None = None,
    ) -> Report:
        """The report of these modes and of every event, saved as one HTML page or as a workbook.

        Parameters
        ----------
        sections : list of str, optional
            Of findings, assembly, state, modes, energy, damped, events, origin; all when left out.
        events : list of str, optional
            Only these events; all of the description when left out.
        text : str or Path, optional
            Markdown of your own; after '# modes' or '# kerb strike' it goes into that section.

        Raises
        ------
        UnknownNameError, EventError, DescriptionError, OutputError
            An unknown section or event, a text that cannot be read.
        """
        from holokine.api.report import Report

        return Report(self, sections, events, text)

    # -- files ------------------------------------------------------------------------------------------------------

    @writes(".run")
    def _run_file(self, path: Path) -> None:
        """Modes, reduced model and description: opened again, everything can be asked without extracting.

        Raises
        ------
        RunFileError
            When another kind of file stands there, or it cannot be written.
        StaleError
            When the assembly has changed in what the modes depend on.
        """
        from datetime import UTC, datetime

        from holokine.store.run_file import write_run
        from holokine.version import __version__

        created = datetime.now(UTC).isoformat(timespec="seconds")
        write_run(path, self.now, version=__version__, created=created)

    @writes(".png")
    def _drawn(
        self,
        path: Path,
        *,
        mode: int | Sequence[int] = 1,
        colour: str = "displacement",
        share: float | None = None,
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
    ) -> None:
        """Rendered picture of a mode (from 1) over a ghost of the undeformed assembly; of several modes one sheet.

        `colour`: displacement, energy (strain energy density) or stress. `share`: largest displacement drawn, as a
        share of the assembly's diagonal. `view` and `only` as of a check; drawn plainly without the `view` extra.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_mode, picture_sheet

        if not isinstance(mode, int):
            picture_sheet(self.set, [int(m) for m in mode], path)
            return
        look = Look.of(self.set.system, view, only)
        picture_mode(self.set, mode, path, share=share, colour=colour, look=look)

    @writes(".gif", ".mp4")
    def _film(
        self,
        path: Path,
        *,
        mode: int = 1,
        share: float | None = None,
        true_scale: float | str | None = None,
        frames: int = 24,
        rate: int = 24,
        pixels: tuple[int, int] = (1280, 800),
    ) -> None:
        """One period of a mode.

        `share`: largest displacement drawn as a share of the diagonal; `true_scale`: largest displacement (m, or
        with a unit), drawn without magnification. `frames`: pictures of the period; `rate`: pictures per second;
        `pixels`: width and height, both even.

        Raises
        ------
        HolokineError
            No such mode, odd pixels, or imageio is not installed.
        """
        from holokine.show.scene import animate_mode

        scale = None if true_scale is None else argument_of("true_scale", true_scale, "length")
        animate_mode(self.set, mode, path, share=share, true_scale=scale, frames=frames, rate=rate, pixels=pixels)

    @writes(".vtu")
    def _mesh(self, path: Path, *, modes: Sequence[int] | None = None) -> None:
        """The mesh with mode shapes (unit maximum) as point data, for a 3D viewer."""
        from holokine.mesh.files import write_mesh

        unit = self.scaled().reshape(len(self), -1, 6)
        chosen = self.set.numbers.tolist() if modes is None else modes
        rows = {m: self.set.index(m) for m in chosen}
        data = {f"mode {m} at {self.frequencies_hz[i]:.6g} Hz": unit[i, :, :3] for m, i in rows.items()}
        write_mesh(path, self.set.system.mesh, data)

    @writes(".html")
    def _page(self, path: Path) -> None:
        """One page in which the reader turns the model and watches its modes, tables beside it."""
        from holokine.show.page import write_page

        write_page(self.set, path, self.table("modes"), self.table("participation"), self.assembly.title)

    def files(self, shapes: int = 6, animate: Sequence[int] = (), film: str = "gif", **draw: Any) -> dict[str, Writer]:
        """Pictures of the first `shapes` modes and a sheet of them, films of modes, and all shapes as a mesh."""
        from holokine.show.scene import refuse_animation, view_available

        for number in animate:
            refuse_animation(self.set, number)
        motion = {k: draw.pop(k) for k in ("rate", "pixels", "frames", "seconds") if k in draw}
        first = self.set.numbers.tolist()[:shapes]
        found: dict[str, Writer] = {f"mode_{m:02d}.png": partial(self.picture, mode=m, **draw) for m in first}
        if len(first) > 1 and view_available():
            found["modes_sheet.png"] = partial(self.picture, mode=first[:12])
        found |= {f"mode_{m:02d}.{film}": partial(self.save, mode=m, **motion) for m in animate}
        return found | {"modes.vtu": self.save}

    @property
    def _first_lines(self) -> list[str]:
        return [self.statement]


def refuse_groups(groups: Mapping[str, Any], names: Sequence[str] | None) -> None:
    """Raise for groups that do not exist, or when there are none, before anything is solved.

    Raises
    ------
    UnknownNameError
        Listing what there is.
    """
    if names is None and not groups:
        raise UnknownNameError("the assembly has no groups; name some under groups:")
    for name in names or []:
        if name not in groups:
            raise UnknownNameError(f'there is no group "{name}". {nearest_hint(name, groups, "groups")}')
