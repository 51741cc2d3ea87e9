"""Modes of an assembly, as a Python user holds them."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer
from holokine.describe.events import Event
from holokine.errors import EventError
from holokine.excite import build_pulse, build_spectrum
from holokine.gauges import GaugeSet
from holokine.modes import Finding, ModeSet, damper_share, modal_damping
from holokine.respond import ReducedModel, reduce_model, respond_pulse, respond_spectrum
from holokine.units import quantity

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    import pandas as pd

    from holokine.api.assembly import Assembly
    from holokine.api.compared import Compared
    from holokine.describe.document import Document
    from holokine.excite import BasePulse
    from holokine.modes.energy import Energies
    from holokine.modes.participation import Enough
    from holokine.store import RunContents
    from holokine.system.build import System
    from holokine.system.loads import LoadField

__all__ = ["Modes"]

COUPLED = 0.1  # coupling of neighbouring modes by dampers from which they are solved together

Floats = NDArray[Any]  # float64


class Modes:
    """Natural frequencies, shapes and participation, and the way to responses.

    Attributes
    ----------
    assembly : Assembly
    set : ModeSet
        The numbers, in SI.
    """

    def __init__(
        self, assembly: Assembly, modes: ModeSet, gauges: GaugeSet | None = None, run: RunContents | None = None
    ) -> None:
        self.assembly, self.set, self._gauges = assembly, modes, gauges
        self.run = run

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
        from holokine.store import read_run

        made: list[Assembly] = []

        def builder(document: Document) -> Callable[[], System]:
            made.append(Assembly.of(document))
            return lambda: made[0].system

        contents = read_run(Path(path), builder, as_saved=as_saved)
        return cls(made[0], contents.modes, run=contents)

    def save(self, path: str | Path) -> Path:
        """Write a run file: modes, reduced model and description.

        Raises
        ------
        RunFileError
            When another kind of file stands there, or it cannot be written.
        """
        from datetime import UTC, datetime

        from holokine import __version__
        from holokine.store import write_run

        reduced = None if self.set.rigid.any() or not self.set.from_the_bottom else self.reduced
        write_run(
            Path(path), self.assembly.document, self.set, reduced, self._dampers, version=__version__,
            created=datetime.now(UTC).isoformat(timespec="seconds"),
        )  # fmt: skip
        return Path(path)

    @property
    def gauges(self) -> GaugeSet:
        """Maps of the gauges on the full motion."""
        if self._gauges is None:
            from holokine.gauges import build_gauges

            own = self.assembly.system is self.set.system
            self._gauges = self.assembly.gauges if own else build_gauges(self.set.system)
        return self._gauges

    @property
    def frequencies_hz(self) -> NDArray[np.float64]:
        """Natural frequencies in Hz, shape (modes,)."""
        return self.set.frequencies_hz

    @property
    def shapes(self) -> NDArray[np.float64]:
        """Mass-normalised shapes, shape (modes, dofs), six per node; see `unit_maximum`."""
        return self.set.shapes

    def unit_maximum(self) -> NDArray[np.float64]:
        """Shapes whose largest translation is 1."""
        return self.set.unit_maximum()

    def __len__(self) -> int:
        return self.set.count

    @cached_property
    def damping(self) -> NDArray[np.float64]:
        """Damping ratios, shape (modes,): the description's, and what discrete dampers add to each mode."""
        described = self.assembly.description.damping
        if described.composite is not None:
            from holokine.modes.damping import composite_damping

            return composite_damping(self.set, described.composite, self.energies) + self._dampers[0]
        return modal_damping(described, self.frequencies_hz) + self._dampers[0]

    @cached_property
    def _dampers(self) -> tuple[NDArray[np.float64], float]:
        return damper_share(self.set) if self.run is None else self.run.dampers

    @cached_property
    def reduced(self) -> ReducedModel:
        """The modes as seen through the gauges, complete in itself.

        Raises
        ------
        MechanismError
            With rigid-body modes.
        """
        if self.run is not None and self.run.reduced is not None:
            return self.run.reduced
        return reduce_model(self.set, self.gauges, self.damping)

    def conservatism(self, event: str) -> pd.DataFrame:
        """Peaks of a pulse in time against every rule of combination under the spectra of the same pulse.

        Raises
        ------
        UnknownNameError, EventError
            An unknown event, or one that is not a pulse.
        """
        from holokine.show.tables import conservatism_table

        return conservatism_table(*self._conservatism(event))

    def _conservatism(self, event: str) -> Any:
        from holokine.respond.conservatism import spectra_of_pulse, under_every_rule

        described = self.assembly.event_named(event)
        if described.pulse is None or described.loads is not None or described.start_from or described.let_go:
            raise EventError(f'"{event}" is not a base pulse alone: name one, whose own spectra are then taken')
        result: Any = self.respond(event).result
        spectra = spectra_of_pulse(result.pulse, result.reduced)
        return result, spectra, under_every_rule(result.reduced, spectra, event)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What the extraction noticed, and how discrete dampers are taken in."""
        ratios, coupling = self._dampers
        own = self.set.findings if self.run is None else (*self.run.findings, *self.set.findings)
        if not ratios.any():
            return own
        text = f"discrete dampers add up to {100 * ratios.max():.2g} % to the damping of a mode"
        level: Literal["note", "warning"] = "note"
        if coupling > COUPLED:
            level = "warning"
            text += (
                f"; they also couple neighbouring modes (by up to {coupling:.2f} of their own damping), which spectra "
                "leave out; pulses take it in (method: coupled modes)"
            )
        return (*own, Finding(level, text))

    @property
    def statement(self) -> str:
        """Modes found, modes that exist, largest residual and loss of orthogonality, in words."""
        from holokine.show.text import proof_text

        return proof_text(self.set)

    def table(self) -> pd.DataFrame:
        """One row per mode: frequencies, what it is in words, where its energy is, how far the mesh can be trusted."""
        from holokine.show.tables import modes_table

        return modes_table(self.set, self.damping, self.energies, self.words)

    @cached_property
    def energies(self) -> Energies:
        """Strain and kinetic energy of every member in every mode."""
        from holokine.modes.energy import mode_energies

        return mode_energies(self.set)

    @cached_property
    def words(self) -> list[str]:
        """What each mode is, from its shape and energies."""
        from holokine.modes.words import mode_words

        return mode_words(self.set, self.energies)

    def untrusted(self, limit: float = 0.05) -> tuple[Finding, ...]:
        """A warning that names the modes whose frequency the mesh may falsify by more than a share (roughly)."""
        bad = self.set.numbers[self.energies.mesh_error > limit]
        if not len(bad):
            return ()
        shown = ", ".join(str(m) for m in bad[:12]) + (f" and {len(bad) - 12} more" if len(bad) > 12 else "")
        text = (
            f"the mesh may falsify the frequency by more than {100 * limit:g} % (a rough estimate) in {len(bad)} of "
            f"{len(self)} modes: {shown}; refine the parts that hold their strain energy"
        )
        return (Finding("warning", text),)

    def _by(self, by: str | Sequence[str]) -> tuple[tuple[str, ...], Floats, Floats]:
        if by == "member":
            return self.energies.members, self.energies.strain, self.energies.kinetic
        if by != "group" and isinstance(by, str):
            by = [by]
        from holokine.modes.energy import group_energies

        self.assembly.refuse_groups(None if by == "group" else list(by))
        g = group_energies(self.set.system, self.energies, None if by == "group" else tuple(by))
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

        return group_energies(self.set.system, self.energies).several

    def guidance(self, by: str | Sequence[str] = "member", *, change: float = 0.1) -> pd.DataFrame:
        """Change of each frequency, in percent, for `change` more stiffness or mass of each member, largest first.

        First order in the change, from the shares of energy; `Assembly.adjusted` runs it.
        """
        from holokine.show.mode_tables import guidance_table

        return guidance_table(self.set, *self._by(by), change)

    def advice(self, by: str | Sequence[str] = "member", *, change: float = 0.1, most: int = 2) -> list[str]:
        """The same in words: the strongest levers on each mode."""
        from holokine.show.mode_tables import guidance_lines

        return guidance_lines(self.set, *self._by(by), change, most)

    def plot_energy(self, by: str | Sequence[str] = "member") -> Any:
        """Stacked bars of where the energy of each mode is; returns the Figure."""
        from holokine.show.mode_figures import plot_energy

        return plot_energy(self.set, *self._by(by))

    def enough(self, share: float | str = 0.9, directions: str | Sequence[str] = ("x", "y", "z")) -> list[Enough]:
        """For each direction: how many modes hold a share of the free mass, or how many are probably needed.

        Raises
        ------
        UnitError, DescriptionError
            A share that is not between 0 and 100 %, or an unknown direction.
        """
        from holokine.errors import DescriptionError
        from holokine.modes.participation import DIRECTIONS, enough_mass

        wanted = quantity(share, "number")
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

        return bands_table(self.set)

    def plot_bands(self) -> Any:
        """Natural frequencies against the bands of excitation; returns the Axes."""
        from holokine.show.mode_figures import plot_bands

        return plot_bands(self.set)

    def scaled(self, to: str | float = "unit maximum") -> Floats:
        """Shapes, (modes, dofs), scaled to ``"unit maximum"``, ``"mass"`` (modal mass 1), or an energy per mode.

        An energy (in J, or with a unit) gives the deformation at which each mode holds that much strain energy:
        the smaller its peak, the stiffer the assembly in that mode. Rigid-body modes hold none and become NaN.
        """
        if to == "unit maximum":
            return self.set.unit_maximum()
        if to == "mass":
            return self.set.shapes
        energy = quantity(to, "energy")
        omega = np.where(self.set.omega > 0, self.set.omega, np.nan)
        return self.set.shapes * (np.sqrt(2.0 * energy) / omega)[:, None]

    def peak_at_energy(self, energy: float | str) -> pd.DataFrame:
        """Largest displacement of each mode, in mm, where it holds a given energy."""
        import pandas as pd

        nodes = self.scaled(energy).reshape(len(self), -1, 6)[:, :, :3]
        peak = np.linalg.norm(nodes, axis=2).max(axis=1)
        return pd.DataFrame(
            {"mode": self.set.numbers, "frequency_hz": self.frequencies_hz, "peak_displacement_mm": 1e3 * peak}
        )

    def compare(self, after: Modes) -> Compared:
        """Pair these modes with those of another run by the modal assurance criterion.

        Raises
        ------
        SelectionError
            When the two have no place in common.
        """
        from holokine.api.compared import Compared
        from holokine.modes.compare import compare_modes

        return Compared(self, after, compare_modes(self.set, after.set))

    def participation(self) -> pd.DataFrame:
        """Participation factors, effective masses, ratios and cumulative ratios by direction."""
        from holokine.show.tables import participation_table

        return participation_table(self.set)

    def load_shares(self, event: str | Event | dict[str, Any]) -> pd.DataFrame:
        """How much of an event's loads the lowest 1, 2, 3 ... of these shapes hold, in percent.

        Columns per load: static (of the deformation energy under the load at rest) and dynamic (of the load itself;
        for a base motion the effective mass). Wilson, Yuan & Dickens 1982.
        """
        import pandas as pd

        from holokine.modes.ritz import load_shares

        table: dict[str, Any] = {"vectors": range(1, len(self) + 1), "frequency_hz": self.frequencies_hz}
        for share in load_shares(self.set, self.assembly.loads_of(event)):
            table[f"{share.load}_static_percent"] = 100.0 * share.static
            table[f"{share.load}_dynamic_percent"] = 100.0 * share.dynamic
        return pd.DataFrame(table)

    def respond(self, event: str | Event | dict[str, Any]) -> Answer:
        """Response of all gauges to an event: a name in the description, or the event itself.

        Raises
        ------
        UnknownNameError, EventError, MechanismError
        """
        name, described = self.assembly.event_of(event)
        if described.static is not None:
            return self.assembly.static(event)
        if not self.reduced.readings:
            raise EventError("there is nothing to read: the assembly has no gauges; add some under gauges:")
        reduced = self._kept(described)
        if described.kind == "spectrum":
            return Answer(self.assembly, self._spectrum(name, described, reduced), self)
        pulse, extra = self._excitation(name, described)
        return Answer(self.assembly, self._in_time(name, described, reduced, pulse, extra), self, extra)

    def _spectrum(self, name: str, event: Event, reduced: ReducedModel) -> Any:
        tables: dict[str, Any] = {str(d): t for d, t in (event.spectrum or {}).items()}
        groups: dict[str, tuple[str, ...]] = {}
        apart: dict[str, float] = {}
        imposed: dict[str, Floats] = {}
        for group, own in (event.support_spectra or {}).items():
            for axis, table in own.spectrum.items():
                column = f"{group} {axis}"
                from holokine.system.loads import moved_supports

                where = f'event "{name}", supports "{group}"'
                imposed[column] = moved_supports(self.set.system, own.supports, {axis: 1.0}, where)
                tables[column], groups[column] = table, own.supports
                apart[column] = own.displacement["xyz".index(axis)]
        if imposed:
            from holokine.respond.reduced import at_supports

            reduced = at_supports(reduced, self.set, self.gauges, imposed)
        spectra = {
            d: build_spectrum(
                table,
                folder=self.assembly.document.folder,
                interpolate=event.interpolate,
                outside=event.outside,
                source=f'event "{name}", spectrum {d}',
            )
            for d, table in tables.items()
        }
        zpa = event.zero_period_acceleration
        if zpa is not None and not isinstance(zpa, dict):
            zpa = dict.fromkeys(("x", "y", "z"), zpa)
        answer = respond_spectrum(
            reduced,
            spectra,
            name=name,
            rule=event.combine,
            direction_rule=event.directions,
            missing_mass=event.missing_mass,
            zero_period=None if zpa is None else {d: z for d in spectra for a, z in zpa.items() if a == d[-1]},
            rigid_between=event.rigid_between,
            duration=event.duration,
            over_supports=event.over_supports,
            apart=apart,
            groups=groups,
            over_displacement=event.over_displacement,
        )
        if imposed:
            answer = replace(answer, findings=(*answer.findings, *self._about_supports(event)))
        return answer

    def _about_supports(self, event: Event) -> list[Finding]:
        """What independent support motion leaves as it is."""
        named = {s for own in (event.support_spectra or {}).values() for s in own.supports}
        rest = [s for s in self.assembly.description.supports if s not in named]
        found = []
        if rest:
            found.append(Finding("note", f"supports in no group stay with the frame: {', '.join(rest)}"))
        d = self.assembly.description
        grounded = [n for t in (d.springs, d.bushings) for n, s in t.items() if "ground" in s.between]
        if grounded:
            found.append(Finding("note", f"springs to ground stay with the frame: {', '.join(grounded)}"))
        return found

    def _in_time(self, name: str, event: Event, reduced: ReducedModel, pulse: BasePulse, extra: list[LoadField]) -> Any:
        if extra:
            from holokine.respond.reduced import with_loads

            reduced = with_loads(reduced, self.set, self.gauges, extra)
        method = event.method
        if method == "automatic":
            method = "coupled modes" if self._dampers[1] > COUPLED else "modes"
        coupling = None
        if method != "modes":
            shapes = self.set.shapes[: reduced.count]
            coupling = shapes @ (self.set.system.damping @ shapes.T)
        return respond_pulse(
            reduced,
            pulse,
            name=name,
            ring_down=event.ring_down,
            step=event.step,
            static_correction=event.static_correction,
            method=method,
            coupling=coupling,
            high_frequency_damping=event.high_frequency_damping,
            full=self._full(reduced, extra, event) if event.model == "full" else None,
        )

    def _excitation(self, name: str, event: Event) -> tuple[BasePulse, list[LoadField]]:
        """Signals on common rows, and the loads that they (and the start) act with."""
        from holokine.system.loads import load_field, load_sum

        d = self.assembly.description
        extra = [load_field(self.set.system, load, d.loads[load]) for load in event.loads or ()]
        rest: dict[str, str | None] = {"start_from": None, "let_go": None}
        for key in rest:
            static = getattr(event, key)
            if static is not None:
                rest[key] = f"{static} (at rest)"
                extra.append(load_sum(self.set.system, f"{static} (at rest)", d.events[static].static or {}))
        for f in extra:
            if f.moved.any():
                raise EventError(
                    f'event "{name}": the load "{f.name}" moves supports, which works at rest only; in time the whole '
                    "base moves (pulse)"
                )
        base = {str(d): s for d, s in (event.pulse or {}).items()}
        pulse = build_pulse(
            base, loads=event.loads, stays=rest["start_from"], goes=rest["let_go"],
            folder=self.assembly.document.folder, source=f'event "{name}"',
        )  # fmt: skip
        return pulse, extra

    def _full(self, reduced: ReducedModel, extra: list[LoadField], event: Event) -> Any:
        from holokine.modes.damping import rayleigh_factors
        from holokine.respond.direct import FullModel
        from holokine.system.loads import base_field

        system, kept = self.set.system, reduced.count
        described = self.assembly.description.damping
        rayleigh = None
        if described.rayleigh is not None and event.damping is None:
            rayleigh = rayleigh_factors(*described.rayleigh)
        own = reduced.damping - (self._dampers[0][:kept] if event.damping is None else 0.0)
        fields = [base_field(system, axis) for axis in "xyz"] + extra
        return FullModel(system, self.gauges, fields, self.set.shapes[:kept], reduced.omega, own, rayleigh)

    def _kept(self, event: Event) -> ReducedModel:
        """The reduced model under the event's own damping and cut-off."""
        reduced = self.reduced
        if event.damping is not None:
            reduced = replace(reduced, damping=np.full(reduced.count, event.damping))
        if event.upto is None:
            return reduced
        keep = reduced.frequencies_hz <= event.upto
        if not keep.any():
            raise EventError(f"no mode lies at or below {event.upto:g} Hz")
        return reduced.keep(keep)

    def plot_participation(self, ax: Any = None) -> Any:
        """Cumulative effective mass against frequency; returns the Axes."""
        from holokine.show.figures import plot_participation

        return plot_participation(self.set, ax=ax)

    def picture(self, mode: int, path: str | Path, *, colour: str = "displacement", share: float | None = None) -> Path:
        """Rendered picture of a mode (from 1) over a ghost of the undeformed assembly; drawn plainly without `view`.

        `colour`: displacement, energy (strain energy density) or stress. `share`: largest displacement drawn, as
        a share of the assembly's diagonal.
        """
        from holokine.show.scene import picture_mode

        picture_mode(self.set, mode, Path(path), share=share, colour=colour)
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

    def animate(
        self,
        mode: int,
        path: str | Path,
        *,
        share: float | None = None,
        true_scale: float | str | None = None,
        frames: int = 24,
    ) -> Path:
        """One period of a mode as GIF or MP4.

        `share`: largest displacement drawn as a share of the diagonal; `true_scale`: largest displacement (m, or
        with a unit), drawn without magnification.

        Raises
        ------
        HolokineError
            No such mode, another ending, or imageio is not installed.
        """
        from holokine.show.scene import animate_mode

        scale = None if true_scale is None else quantity(true_scale, "length")
        animate_mode(self.set, mode, Path(path), share=share, true_scale=scale, frames=frames)
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
