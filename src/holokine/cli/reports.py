"""What each command prints, and writes where told."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import partial
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine import Assembly, __version__, demo_folder
from holokine.cli.asked import GIF, PLAIN, STATE, Delivery, FilmAsked, LookAsked, ModesRange
from holokine.cli.terminal import Screen
from holokine.errors import DescriptionError
from holokine.findings import Finding
from holokine.progress import quiet
from holokine.whole import csv_text

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.answer import Answer
    from holokine.api.check import Check
    from holokine.api.modes import Modes

__all__ = ["AnswerView", "CheckReportView", "ModesAsked", "ModesRange", "ModesView", "open_modes", "run_demo"]


_LONGEST = 80


def _file_name(text: str, among: Iterable[str] = ()) -> str:
    """A name as the name of a file: letters, digits and underscores.

    A long one is cut; that one, and one that reads like another of `among`, is told apart by a digest.
    """

    def plain(words: str) -> str:
        return "".join(c if c.isalnum() else "_" for c in words.strip().lower()) or "event"

    name = plain(text)
    if len(name.encode()) <= _LONGEST and not any(other != text and plain(other) == name for other in among):
        return name
    short = name.encode()[: _LONGEST - 9].decode(errors="ignore")
    return f"{short}_{sha256(text.encode()).hexdigest()[:8]}"


@dataclass
class _View:
    """A command's result: lines and tables for the screen, tables and figures for a folder."""

    assembly: Assembly
    head: str
    stage: str = ""
    key: str = ""
    lines: list[str] = field(default_factory=list)
    screens: list[tuple[str, pd.DataFrame]] = field(default_factory=list)
    tables: dict[str, pd.DataFrame] = field(default_factory=dict)
    figures: dict[str, Any] = field(default_factory=dict)
    pictures: dict[str, Any] = field(default_factory=dict)
    meshes: dict[str, Any] = field(default_factory=dict)
    findings: tuple[Any, ...] = ()
    advice: list[str] = field(default_factory=list)
    details: list[str] = field(default_factory=list)
    after: list[str] = field(default_factory=list)
    facts: dict[str, Any] = field(default_factory=dict)

    def footer(self) -> str:
        return f"holokine {__version__}, key of the {self.stage} {self.key[:12]}{self._about()}"

    def _about(self) -> str:
        state = self.assembly.description.state
        return "" if state is None else f', about the state "{state}"'

    def deliver(self, to: Delivery) -> None:
        """Write to the folder first, then print in the form asked for."""
        written = self.write(to.out) if to.out is not None else []
        quiet()
        if to.as_json:
            click.echo(json.dumps(self.as_data(), indent=2, allow_nan=False, default=str))
        elif to.as_csv:
            click.echo(csv_text(next(iter(self.tables.values()))), nl=False)
        else:
            self.show(Screen(to.whole))
            for line in [*self.after, *(f"wrote {path}" for path in written)]:
                click.echo(line)

    def show(self, screen: Screen) -> None:
        screen.heading(self.head)
        screen.lines(self.lines)
        for title, table in self.screens:
            screen.table(f"{title}{self._about()}", table)
        screen.lines(self.advice)
        screen.findings(self.findings)
        screen.lines(self.details)
        screen.footer(self.footer())

    def as_data(self) -> dict[str, Any]:
        records = {name: _records(table) for name, table in self.tables.items()}
        return {
            "holokine": __version__,
            "assembly": self.assembly.title,
            "state": self.assembly.description.state,
            "stage": self.stage,
            "key": self.key,
            **self.facts,
            "findings": [{"level": f.level, "text": f.text} for f in self.findings],
            "tables": records,
        }

    def write(self, folder: Path) -> list[Path]:
        from holokine.cli.output import write_all

        return write_all(folder, self.tables, self.figures, {**self.pictures, **self.meshes}, self.footer())


def _records(table: pd.DataFrame) -> list[dict[str, Any]]:
    clean = table.astype(object).where(table.notna(), None)
    return [
        {str(k): (None if isinstance(v, float) and v in (float("inf"), float("-inf")) else v) for k, v in row.items()}
        for row in clean.to_dict("records")
    ]


@dataclass
class CheckReportView(_View):
    """`holokine check`."""

    check: Check = None  # type: ignore[assignment]

    @classmethod
    def of(cls, path: Path, as_saved: bool = False, look: LookAsked = PLAIN, sections: bool = False) -> CheckReportView:
        assembly = _read(path, as_saved)
        check = assembly.check()
        totals = check.report.totals
        return cls(
            assembly,
            f"{assembly.title}: check",
            "system",
            check.key,
            lines=check.lines,
            screens=check.screens(),
            tables=check.tables(),
            pictures={"assembly.png": partial(check.picture, **look.keys, sections=sections)},
            meshes={"assembly.vtu": assembly.write_mesh},
            findings=check.findings,
            facts={
                "mass_kg": totals.mass,
                "centre_of_mass_m": totals.centre.tolist(),
                "inertia_kg_m2": totals.inertia.tolist(),
                "box_m": check.report.box.tolist(),
                "counts": check.report.counts,
                "pieces": [
                    {"members": list(p.members), "held_by": list(p.supports), "free": p.words}
                    for p in check.report.pieces
                ],
            },
            check=check,
        )


def about_asked(assembly: Assembly) -> Assembly:
    """The assembly about the state that --state asks for."""
    name = STATE.get()
    return assembly if name is None else assembly.about(None if name == "none" else name)


def _read(path: Path, as_saved: bool) -> Assembly:
    """The assembly of a file or of a run file."""
    from holokine.store.run_file import is_run_file

    if is_run_file(path):
        return about_asked(open_modes(path, ModesRange(as_saved=as_saved), any_state=True).assembly)
    if as_saved:
        raise click.UsageError("--as-saved belongs to run files")
    return about_asked(Assembly.read(path))


def open_modes(path: Path, wanted: ModesRange, before: Any = None, any_state: bool = False) -> Modes:
    """Modes of an assembly file, extracted, or of a run file, as they are.

    `before` is called with the assembly before anything is solved. `any_state`: whatever state --state asks for.
    """
    from holokine import Modes
    from holokine.store.run_file import is_run_file

    if is_run_file(path):
        if wanted.given:
            raise click.UsageError(
                "a run file holds the modes that were extracted; leave out --count, --upto, --above and --near, or "
                "give the assembly file"
            )
        modes = Modes.open(path, as_saved=wanted.as_saved)
        if not any_state and about_asked(modes.assembly) is not modes.assembly:
            has = modes.assembly.description.state
            raise click.UsageError(
                f"{path} holds modes about {'no state' if has is None else f'the state {has}'}; give the assembly file "
                "with --state, and save another run"
            )
        if before is not None:
            before(modes.assembly)
        return modes
    if wanted.as_saved:
        raise click.UsageError("--as-saved belongs to run files")
    assembly = about_asked(Assembly.read(path))
    if before is not None:
        before(assembly)
    return assembly.modes(wanted.count, upto=wanted.upto, above=wanted.above, near=wanted.near)


def write_report(
    path: Path,
    wanted: ModesRange,
    page: Path,
    sections: list[str] | None,
    events: tuple[str, ...] | None,
    text: Path | None,
    workbook: Path | None,
) -> None:
    """`holokine report`."""
    modes = open_modes(path, wanted, before=lambda a: [a.event_named(e) for e in events or ()])
    made = modes.report(sections=sections, events=events, text=text)
    made.write(page)
    if workbook is not None:
        made.workbook(workbook)
    quiet()
    click.echo(f"wrote {page}: {', '.join(s.title for s in made.sections)}")
    if workbook is not None:
        click.echo(f"wrote {workbook}: {len(made.tables)} tables")
    for line in made.failed:
        click.echo(f"not in it: {line}")


@dataclass(frozen=True)
class ModesAsked:
    """What `holokine modes` is asked to show."""

    shapes: int = 0
    animate: tuple[int, ...] = ()
    need: str | None = None
    along: tuple[str, ...] = ("x", "y", "z")
    sort: str | None = None
    top: int | None = None
    colour: str = "displacement"
    at_energy: str | None = None
    points: str | None = None
    look: LookAsked = PLAIN
    film: FilmAsked = GIF


@dataclass
class ModesView(_View):
    """`holokine modes`."""

    modes: Modes = None  # type: ignore[assignment]
    enough: bool = True

    @classmethod
    def of(cls, path: Path, wanted: ModesRange, asked: ModesAsked, save: Path | None) -> ModesView:
        from holokine.store.run_file import refuse_overwriting
        from holokine.units import quantity

        scale = None if asked.points in ("mass", "unit maximum") else asked.points
        for value, dimension in ((asked.need, "number"), (asked.at_energy, "energy"), (scale, "energy")):
            if value is not None:  # before anything is solved
                quantity(value, dimension)
        if save is not None:
            refuse_overwriting(save)
        modes = open_modes(path, wanted)
        view = cls.about(modes.assembly, modes, asked)
        if save is not None:
            modes.save(save)
            view.after.append(f"saved {save}; give it to later commands in place of {path.name}")
        return view

    @classmethod
    def about(cls, assembly: Assembly, modes: Modes, asked: ModesAsked) -> ModesView:
        from holokine.show.mode_tables import enough_table, mass_by_direction, modes_in_words, sorted_top
        from holokine.show.scene import refuse_animation

        table, shares = modes.table(), modes.participation()
        shares = sorted_top(shares, asked.sort, asked.top)
        shapes, animate = asked.shapes, asked.animate
        figures: dict[str, Any] = {"effective_mass": modes.plot_participation, "energy": modes.plot_energy}
        enough = modes.enough(0.9 if asked.need is None else asked.need, asked.along)
        details = modes.lines(enough)
        tables = {"modes": table, "participation": shares, "enough": enough_table(enough)}
        screens = [
            ("What the modes are", modes_in_words(table)),
            ("Effective mass (percent of the free mass)", mass_by_direction(shares)),
        ]
        if asked.at_energy is not None:
            tables["peak_at_energy"] = modes.peak_at_energy(asked.at_energy)
            screens.append((f"Peak displacement where each mode holds {asked.at_energy}", tables["peak_at_energy"]))
        if asked.points is not None:
            tables["points"] = modes.at_points(scale=asked.points)
            words = {"mass": "modal mass 1, in 1/√kg and rad/(m √kg)", "unit maximum": "largest displacement 1"}
            screens.append((f"Shapes at points ({words.get(asked.points, asked.points + ' in each mode')})",
                            tables["points"]))  # fmt: skip
        if assembly.description.bands:
            tables["bands"] = modes.bands()
            figures["bands"] = modes.plot_bands
            screens.append(("Modes in or within 15 % of bands of excitation", tables["bands"]))
        pictures = {
            f"mode_{number:02d}.png": partial(modes.picture, number, colour=asked.colour, **asked.look.keys)
            for number in modes.set.numbers[:shapes].tolist()
        }
        if shapes > 1 and modes.can_render:
            pictures["modes_sheet.png"] = partial(modes.sheet, modes=modes.set.numbers[: min(shapes, 12)].tolist())
        for number in animate:
            refuse_animation(modes.set, number)
        film = asked.film
        for number in animate:
            pictures[f"mode_{number:02d}.{film.ending}"] = partial(modes.animate, number, **film.keys)
        return cls(
            assembly,
            f"{assembly.title}: natural frequencies",
            "modes",
            modes.key,
            details=details,
            screens=screens,
            tables=tables,
            figures=figures,
            pictures=pictures,
            meshes={"modes.vtu": modes.write_vtu},
            findings=(*modes.findings, *modes.untrusted()),
            facts={"statement": modes.statement},
            modes=modes,
            enough=asked.need is None or all(e.ok for e in enough),
        )


@dataclass(frozen=True)
class Film:
    """Animation of an answer that a command asks for."""

    form: FilmAsked
    gauge: str | None
    window: tuple[str, str] | None
    seconds: float

    def maker(self, answer: Any) -> Any:
        return partial(answer.animate, gauge=self.gauge, window=self.window, seconds=self.seconds, **self.form.keys)


@dataclass(frozen=True)
class AnswerAsked:
    """What `holokine respond` is asked to show besides."""

    signed: bool = False
    film: Film | None = None
    at: str | None = None
    rules: bool = False
    look: LookAsked = PLAIN
    files: bool = True
    """All tables, for files or machines; else what the screen shows."""
    others: tuple[str, ...] = ()
    linear: str | None = None

    def refuse(self, assembly: Assembly, name: str) -> None:
        """Raise for what an event of this kind cannot show, before anything is solved."""
        event = assembly.event_named(name)
        from holokine.api.answers import ANSWER_CLASSES

        asked = {"film": self.film is not None, "instant": self.at is not None, "signed": self.signed,
                 "rules": self.rules, "axes": bool(self.others or self.linear)}  # fmt: skip
        options = {"film": "--animate", "instant": "--at", "signed": "--signed", "rules": "--rules",
                   "axes": "--with and --linear"}  # fmt: skip
        for extra, given in asked.items():
            if given and extra not in ANSWER_CLASSES[type(event)].extras:
                homes = " and ".join(kind.words for kind, c in ANSWER_CLASSES.items() if extra in c.extras)
                verb = "belong" if " and " in options[extra] else "belongs"
                raise click.UsageError(f"{options[extra]} {verb} to {homes}; this event is one of {event.words}")
        for other in self.others:
            if type(assembly.event_named(other)) is not type(event):
                raise click.UsageError(f'"{other}" is one of {assembly.event_named(other).words}; beside "{name}" go '
                                       f"{event.words} only")  # fmt: skip


@dataclass
class AnswerView(_View):
    """`holokine respond`."""

    ok: bool = True

    @classmethod
    def of(cls, path: Path, event: str, wanted: ModesRange, asked: AnswerAsked) -> AnswerView:
        from holokine.store.run_file import is_run_file

        if not is_run_file(path):
            assembly = about_asked(Assembly.read(path))
            described = assembly.event_named(event)
            asked.refuse(assembly, event)
            if not described.needs_modes:
                view = cls.about(assembly.respond(event), asked)
                if wanted.given:
                    told = f"{described.words} need no modes: --count and --upto change nothing here"
                    view.findings = (*view.findings, Finding("note", told))
                return view
        modes = open_modes(path, wanted, before=lambda a: asked.refuse(a, event))
        return cls.about(modes.respond(event), asked)

    @classmethod
    def about(cls, answer: Answer, asked: AnswerAsked = AnswerAsked()) -> AnswerView:
        name = _file_name(answer.name, answer.assembly.description.events)
        signed: dict[str, Any] = {"signed": True} if asked.signed else {}
        made = answer.tables() if asked.files else {"peaks": answer.peaks()}
        tables = {f"{name}_{k}": t for k, t in made.items()}
        if asked.signed:
            tables[f"{name}_peaks"] = answer.peaks(**signed)
        if asked.rules:
            tables |= {f"{name}_{k}": t for k, t in answer.rule_tables().items()}  # type: ignore[attr-defined]
        screens = answer.screens(**signed, **({"rules": True} if asked.rules else {}))
        files = {f"{name}{ending}": write for ending, write in answer.files(asked.look.keys).items()}
        figures = {f"{name}{ending}": draw for ending, draw in answer.figures().items()}
        if asked.others or asked.linear:
            more = {other: answer.modes.respond(other) for other in asked.others}
            axes = (asked.linear not in ("frequency", "both"), asked.linear not in ("amplitude", "both"))
            figures[name] = partial(answer.plot, others=more, logarithmic=axes)  # type: ignore[call-arg]
        if asked.film is not None:
            files[f"{name}.{asked.film.form.ending}"] = asked.film.maker(answer)
        if asked.at is not None:
            shape = answer.deformed(asked.at)  # type: ignore[attr-defined]
            when = f"{name}_at_{_file_name(asked.at)}"
            tables |= {f"{when}_stress": shape.stress(), f"{when}_points": shape.points()}
            tables[f"{when}_members"] = shape.members()
            screens += [(f"Displacement of points at {asked.at}", tables[f"{when}_points"]),
                        (f"Largest stress of parts at {asked.at}", tables[f"{when}_stress"])]  # fmt: skip
            files |= {f"{when}.png": shape.picture, f"{when}.vtu": shape.write_vtu}
        return cls(
            answer.assembly,
            f"{answer.assembly.title}: {answer.name}",
            "answer",
            answer.key,
            ok=answer.ok,
            lines=answer.lines()[:1],
            details=answer.lines()[1:],
            screens=screens,
            tables=tables,
            figures=figures,
            meshes=files,
            findings=answer.findings,
            facts={"event": answer.name, "kind": answer.event.kind},
        )


def run_demo(out: Path | None) -> None:
    """Check, modes, and every event of the demo crate."""
    source = demo_folder() / "crate.yaml"
    screen = Screen()
    views: list[_View] = [CheckReportView.of(source)]
    assembly = views[0].assembly
    modes = assembly.modes()
    views.append(ModesView.about(assembly, modes, ModesAsked(2)))
    from holokine.cli.state_reports import StateView

    for state in assembly.states:
        views.append(StateView.about(assembly.rest(state)))
        other = assembly.about(state).modes()
        views[-1].lines += [f"against the unloaded crate: {line}" for line in modes.compare(other).lines]
    seen = set()
    for name, event in assembly.description.events.items():
        answer = AnswerView.about(modes.respond(name))
        if event.kind in seen:  # pictures of the first event of each kind will do
            answer.meshes, answer.figures = {}, dict(list(answer.figures.items())[:1])
        seen.add(event.kind)
        views.append(answer)
    quiet()
    for view in views:
        view.show(screen)
    if out is not None:
        if out.exists() and not out.is_dir():
            raise DescriptionError(f"{out}: is not a folder")
        for view in views:
            paths = view.write(out)
            quiet()
            for path in paths:
                click.echo(f"wrote {path}")
        for file in [source, *sorted(demo_folder().glob("*.csv"))]:
            shutil.copy(file, out / file.name)
            click.echo(f"wrote {out / file.name}")
        click.echo("Pictures, pages and meshes are those of the first event of each kind; respond writes them for any.")
    else:
        click.echo("Nothing was written; --out DIR writes the assembly file, tables and figures.")
