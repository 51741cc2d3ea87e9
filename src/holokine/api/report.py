"""The report of a run: what the analyst hands over, from what every result tells of itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.result import Result, writes
from holokine.describe.stages import Request
from holokine.errors import EventError, HolokineError, UnknownNameError, nearest_hint
from holokine.findings import Finding
from holokine.progress import tell

if TYPE_CHECKING:
    from holokine.api.answer import Answer
    from holokine.api.host import AssemblyLike
    from holokine.show.report import Section

__all__ = ["SECTIONS", "Report"]

SECTIONS = ("findings", "assembly", "state", "modes", "energy", "damped", "events", "origin")
"""What a report may hold, in its order."""
MOST_ADVICE, MOST_MODES = 12, 120


class Report(Result):
    """Sections of a report about modes and their answers, made once, saved as a page or as a workbook.

    Attributes
    ----------
    modes : Modes
    sections : list of Section
    failed : list of str
        What could not be made, with why; it stands in the report too.
    """

    stage = "modes"

    def __init__(
        self,
        modes: Any,
        sections: Sequence[str] | None = None,
        events: Sequence[str] | None = None,
        text: str | Path | None = None,
    ) -> None:
        from holokine.show.own_text import OwnText

        self.modes, self.failed = modes, list[str]()
        wanted = list(SECTIONS) if sections is None else list(sections)
        for name in wanted:
            if name not in SECTIONS:
                raise UnknownNameError(f'a report has no section "{name}". {nearest_hint(name, SECTIONS, "sections")}')
        known = modes.assembly.description.events
        if events is not None and "events" not in wanted:
            raise EventError("events are named, but the section of events is not asked for")
        self._events = list(known) if events is None else list(events)
        for event in self._events:
            modes.assembly.event_named(event)
        own = None if text is None else OwnText.read(Path(text))
        self._answers: dict[str, Answer] = {}
        self._reasons: dict[str, str] = {}
        if "events" in wanted:
            for n, event in enumerate(self._events):
                tell(f'answering "{event}"', n, len(self._events), "events")
                try:
                    self._answers[event] = modes.respond(event)
                except HolokineError as err:
                    self._reasons[event] = str(err)
        makers: dict[str, Callable[[], list[Section]]] = {
            "assembly": self._assembly, "state": self._state, "modes": self._modes, "energy": self._energy,
            "damped": self._damped, "events": self._of_events, "origin": self._origin,
        }  # fmt: skip
        made: dict[str, list[Section]] = {}
        for name in (n for n in SECTIONS if n in wanted and n != "findings"):
            tell(f"the report's section {name}")
            made[name] = makers[name]()
        if "findings" in wanted:  # they are of all the others
            made["findings"] = self._findings(list(made))
        found = [s for name in SECTIONS for s in made.get(name, [])]
        self.sections = found if own is None else own.placed(found)

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.modes.assembly.title}: report"

    @property
    def of_assembly(self) -> AssemblyLike:
        """That of the modes."""
        return self.modes.assembly

    @property
    def key(self) -> str:
        """Of the modes."""
        key: str = self.modes.key
        return key

    @property
    def lines(self) -> list[str]:
        """What is in it, and what could not be made."""
        titles = ", ".join(s.title for s in self.sections)
        return [f"sections: {titles}", f"{len(self.tables)} tables", *(f"not in it: {line}" for line in self.failed)]

    @contextmanager
    def _kept(self, section: Section, what: str) -> Iterator[None]:
        """What fails within is told in the section, and does not end the report."""
        try:
            yield
        except HolokineError as err:
            self.failed.append(f"{what}: {err}")
            section.with_lines([], [Finding("warning", f"{what} could not be made: {err}")])

    # -- sections -------------------------------------------------------------------------------------------------

    def _findings(self, others: list[str]) -> list[Section]:
        """Limits and findings of everything that the report holds."""
        import pandas as pd

        from holokine.show.report import Section

        modes, section = self.modes, Section("Findings", name="findings")
        rows: list[Any] = []
        told, said = dict[tuple[Any, str], list[str]](), list[str]()
        for name, answer in self._answers.items():
            limits = answer.tables.get("limits")
            if limits is not None and len(limits):
                limits.insert(0, "event", name)
                rows.append(limits)
        if rows:
            table = pd.concat(rows, ignore_index=True).sort_values("use_percent", ascending=False, kind="stable")
            broken = int((table["met"] == "NO").sum())
            met = f"{broken} of {len(table)} limits are not met" if broken else f"all {len(table)} limits are met"
            said.append(met)
        elif self._answers:
            said.append("the description sets no limits for what was read")
        said += [*(e.words for e in modes.enough()), modes.statement]
        section.with_lines(said)
        sources = [("assembly", modes.assembly.check().findings)] if "assembly" in others else []
        sources += [("modes", (*modes.findings, *modes.untrusted()))]
        sources += [(name, answer.findings) for name, answer in self._answers.items()]
        for source, findings in sources:
            for f in findings:
                told.setdefault((f.level, f.text), []).append(source)
        for name, reason in self._reasons.items():
            told[("warning", f'event "{name}" was not answered: {reason}')] = []
        section.with_lines([], [
            Finding(level, f"{', '.join(of[:3])}{f' and {len(of) - 3} more' if len(of) > 3 else ''}: {words}" if of
                    else words)
            for (level, words), of in told.items()
        ])  # fmt: skip
        if rows:
            section.with_table("Limits of all events, most used first", table)
        section.with_table("Largest of every reading over all events", self._largest())
        return [section]

    def _largest(self) -> Any:
        """The event that governs each reading, with its peak."""
        import pandas as pd

        tables = [t for answer in self._answers.values() if len(t := answer.table("largest"))]
        if not tables:
            return pd.DataFrame()
        every = pd.concat(tables, ignore_index=True)
        keys = [every[k].fillna("") for k in ("gauge", "component", "motion", "unit")]
        rows = every["peak"].abs().groupby(keys, sort=False).idxmax()
        return every.loc[rows].reset_index(drop=True)

    def _assembly(self) -> list[Section]:
        from holokine.show.report import Section

        check = self.modes.assembly.check()
        section = Section("Assembly", check.lines, name="assembly")
        with self._kept(section, "the picture of the assembly"):
            section.with_picture("The assembly with its supports, masses and connections", check.picture)
        for title, table in check.screens():
            section.with_table(title, table)
        return [section]

    def _state(self) -> list[Section]:
        from holokine.show.report import Section

        if self.modes.assembly.description.state is None:
            return []
        state = self.modes.assembly.state()
        section = Section(f'At rest in the state "{state.name}"', state.lines, state.findings, name="state")
        with self._kept(section, "the picture of the state"):
            section.with_picture("Displacement at rest", state.picture)
        for title, table in state.screens():
            section.with_table(title, table)
        return [section]

    def _modes(self) -> list[Section]:
        from holokine.show.page import page_text
        from holokine.show.report import Section
        from holokine.show.scene import view_available

        modes = self.modes
        section = Section("Natural frequencies and mode shapes", modes.lines, name="modes")
        title, table = modes.screens("modes")[0]
        section.with_table(title, table, MOST_MODES)
        if view_available() and len(modes):
            with self._kept(section, "the pictures of the modes"):
                first = modes.set.numbers[:6].tolist()
                section.with_picture(f"Modes {first[0]} to {first[-1]}", lambda path: modes.picture(path, mode=first))
        with self._kept(section, "the model to be turned"):
            page = page_text(modes.set, modes.table("modes"), modes.table("participation"), modes.assembly.title)
            section.with_page("The model: drag to turn it, pick a mode in the table to watch it", page)
        for title, table in modes.screens()[1:]:
            section.with_table(title, table, MOST_MODES)
        section.with_figure("Effective mass held up to a frequency", modes.figures["effective_mass"])
        if "bands" in modes.figures:
            section.with_figure("Natural frequencies against bands of excitation", modes.figures["bands"])
        return [section]

    def _energy(self) -> list[Section]:
        from holokine.show.report import Section

        modes = self.modes
        section = Section("Which part is responsible", name="energy")
        strongest = modes.table("sensitivities", most=1)
        section.with_table("What moves each mode most, for 10 % more stiffness or mass", strongest, MOST_ADVICE)
        section.with_table(*modes.screens("energy")[0])
        section.with_figure("Where the energy of each mode is", modes.figures["energy"])
        if modes.assembly.description.groups:
            title, table = modes.screens("energy")[0][0], modes.energy_in_words("group")
            section.with_table(f"By group: {title[0].lower()}{title[1:]}", table)
        return [section]

    def _damped(self) -> list[Section]:
        from holokine.show.report import Section

        section = Section("Damped modes", name="damped")
        with self._kept(section, "the damped modes"):
            damped = self.modes.damped()
            section.with_lines(damped.lines, [f for f in damped.findings if f not in self.modes.findings])
            for title, table in damped.screens():
                section.with_table(title, table)
            section.with_figure("Poles of the damped modes", damped.plot)
        return [section]

    def _of_events(self) -> list[Section]:
        return [self._event(name, answer) for name, answer in self._answers.items()] + [
            self._unanswered(name, reason) for name, reason in self._reasons.items()
        ]

    def _event(self, name: str, answer: Answer) -> Section:
        from holokine.show.report import Section

        tell(f'the report of "{name}"')
        of_modes = set(self.modes.findings)
        own = tuple(f for f in answer.findings if f not in of_modes)
        section = Section(f"Event: {name}", answer.lines, own, name=name)
        for title, table in answer.screens():
            section.with_table(title, table)
        for figure, draw in answer.figures.items():
            with self._kept(section, f"a figure of {name}"):
                section.with_figure(f"{name}: {figure.replace('_', ' ')}", draw)
        if answer.has_fields:
            with self._kept(section, f"the stress of {name}"):
                if "Largest stress of parts" not in section.tables:
                    section.with_table("Largest stress of parts", answer.table("stress"))
                section.with_picture(f"{name}: largest stress", answer.picture)
        return section

    def _unanswered(self, name: str, reason: str) -> Section:
        from holokine.show.report import Section

        self.failed.append(f"event {name}: {reason}")
        return Section(f"Event: {name}", [], (Finding("warning", f"not answered: {reason}"),), name=name)

    def _origin(self) -> list[Section]:
        import pandas as pd

        from holokine.show.report import Section
        from holokine.version import __version__

        modes, document = self.modes, self.modes.assembly.document
        origin = document.origin
        lines = [
            f"made {datetime.now(UTC).isoformat(timespec='seconds')} by holokine {__version__}",
            f"assembly: {origin.source or 'built by Python calls'}"
            + (f", SHA-256 {origin.digest}" if origin.digest else ""),
            *(f"changed: {f'variant {name}' if name else values!s}" for name, values in origin.changes),
        ]
        keys = [("system", modes.assembly.key), ("modes", modes.key)]
        keys += [(f"answer to {name}", answer.key) for name, answer in self._answers.items()]
        section = Section("Origin", lines, name="origin")
        table = pd.DataFrame(keys, columns=["stage", "key"])
        section.with_table("Keys: equal for equal descriptions, on every machine", table, most=None)
        files = document.keys.file_names()
        if files:
            digests = [(name, document.folder.digest(name)) for name in files]
            section.with_table("Files that the assembly names", pd.DataFrame(digests, columns=["file", "sha256"]))
        return [section.with_lines(["to reproduce:"]).with_code("\n".join(self._commands()))]

    def _commands(self) -> list[str]:
        source = self.modes.assembly.document.origin.source or "ASSEMBLY.yaml"
        basis = self.modes.basis
        given: list[str] = []
        if isinstance(basis, Request) and not basis.default:
            asked_for = {"count": basis.count, "upto": basis.upto, "above": basis.above, "near": basis.near}
            given = [f"--{k} {v if k == 'count' else f'{v:.17g}Hz'}" for k, v in asked_for.items() if v is not None]
        about = self.modes.assembly.description.state
        state = [] if about is None else [f'--state "{about}"']
        run = f"{Path(source).stem}.run"
        asked = " ".join([f"holokine modes {source}", *given, *state, f"--save {run}"])
        return [f"holokine check {source}", asked, *(f'holokine respond {run} "{e}"' for e in self._answers)]

    # -- out ------------------------------------------------------------------------------------------------------

    @property
    def tables(self) -> dict[str, Any]:  # type: ignore[override]
        """Every table of the report, whole, by section and title."""
        found: dict[str, Any] = {}
        for section in self.sections:
            for title, table in section.tables.items():
                found[title if title == section.title else f"{section.name}: {title}"] = table
        return found

    def table(self, name: str = "", *what: Any, **options: Any) -> Any:
        """A table by its section and title.

        Raises
        ------
        UnknownNameError
        """
        tables = self.tables
        if name not in tables:
            raise UnknownNameError(f'the report has no table "{name}". {nearest_hint(name, tables, "tables")}')
        return tables[name]

    @writes(".html")
    def _page(self, path: Path) -> None:
        """One page without a network, for readers and printers."""
        from holokine.show.report import write_report

        write_report(path, self.modes.assembly.title, self.sections, self.footer)
