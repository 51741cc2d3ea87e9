"""What the commands about modes print: energy, change, compare, formula."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine.cli.asked import Delivery, FilmAsked, ModesRange
from holokine.cli.reports import _file_name, _records, _View, open_modes
from holokine.cli.terminal import Screen
from holokine.errors import SelectionError
from holokine.progress import quiet
from holokine.units import quantity
from holokine.whole import csv_text

if TYPE_CHECKING:
    import pandas as pd

    from holokine import Assembly
    from holokine.api.modes import Modes
    from holokine.describe.events import EventKind
    from holokine.findings import Finding

__all__ = [
    "ChangeView",
    "CompareView",
    "ConservatismView",
    "DampedView",
    "EnergyView",
    "TuneView",
    "VectorsView",
    "deliver_match",
    "deliver_shock",
    "show_formula",
    "show_formulas",
]


@dataclass
class VectorsView(_View):
    """`holokine vectors`."""

    @classmethod
    def of(cls, path: Path, event: str, count: int, wanted: ModesRange) -> VectorsView:
        modes = open_modes(path, wanted, before=lambda a: a.loads_of(event))
        assembly = modes.assembly
        made = assembly.ritz(event, count)
        count = min(len(made), len(modes))
        eigen, own = modes.load_shares(event).iloc[:count], made.load_shares(event).iloc[:count]
        table = eigen[["vectors"]].rename(columns={"vectors": "n"})
        for column in eigen.columns[2:]:
            name = column.removesuffix("_percent")
            table[f"{name}_modes_percent"] = eigen[column]
            table[f"{name}_vectors_percent"] = own[column]
        screens = [("Share of the loads held by the first n vectors", table)]
        tables = {"load_shares": table}
        described = assembly.event_named(event)
        if described.needs_modes:
            tables["peaks_by_basis"] = cls._peaks(modes, made, event, count)
            screens.append((f"Peaks with {count} vectors without correction, beside all {len(modes)} modes with it",
                            tables["peaks_by_basis"]))  # fmt: skip
        lines = [
            f"{event}: {count} natural modes against {count} load-dependent vectors",
            "static: of the deformation energy at rest under the load; dynamic: of the load (effective mass)",
        ]
        head = f"{assembly.title}: load-dependent vectors for {event}"
        return cls(assembly, head, "vectors", made.key, lines=lines, screens=screens,
                   tables=tables, findings=made.findings)  # fmt: skip

    @staticmethod
    def _peaks(modes: Modes, made: Modes, event: str, count: int) -> pd.DataFrame:
        """Largest reading of every gauge by the first natural modes, by the vectors, and by all modes corrected."""
        described = modes.assembly.event_named(event)
        plainly = {"static_correction": False, "missing_mass": False}
        off: dict[str, Any] = {k: v for k, v in plainly.items() if k in type(described).model_fields}
        if "amplitudes" in type(described).model_fields:  # of sweeps, compared as peaks
            described = described.model_copy(update={"amplitudes": "peak"})
        plain = described.model_copy(update=off)
        cut = plain.model_copy(update={"upto": float(modes.frequencies_hz[count - 1]) * (1 + 1e-9)})
        answers = [(modes, cut), (made, plain), (modes, described)]
        best, few, full = (m.respond(e).peaks().set_index(["gauge", "component"]) for m, e in answers)
        full = full.reset_index()
        full["size"] = full["peak"].abs()
        rows = full.loc[full.groupby("gauge", sort=False)["size"].idxmax()]
        keys = list(zip(rows["gauge"], rows["component"], strict=True))
        result = rows[["gauge", "component", "unit"]].reset_index(drop=True)
        result["all_modes_corrected"] = rows["peak"].to_numpy()
        result["natural_modes"] = best["peak"].loc[keys].to_numpy()
        result["load_dependent"] = few["peak"].loc[keys].to_numpy()
        return result


@dataclass
class DampedView(_View):
    """`holokine damped`."""

    @classmethod
    def of(cls, path: Path, wanted: ModesRange, animate: tuple[int, ...], film: FilmAsked) -> DampedView:
        modes = open_modes(path, wanted)
        damped = modes.damped()
        table = damped.table()
        for mode in animate:
            damped._row(mode)
        return cls(
            modes.assembly,
            f"{modes.assembly.title}: damped modes",
            "modes",
            modes.key,
            lines=damped.lines,
            screens=damped.screens(),
            tables={"damped_modes": table},
            figures={"poles": damped.plot},
            pictures={f"damped_mode_{m:02d}.{film.ending}": partial(damped.animate, m, **film.keys) for m in animate},
            findings=damped.findings,
        )


@dataclass
class TuneView(_View):
    """`holokine tune`."""

    @classmethod
    def of(cls, path: Path, wanted: ModesRange, keys: dict[str, Any], write: Path | None) -> TuneView:
        modes = open_modes(path, wanted)
        damper = modes.tune(**keys)
        table = damper.table()
        lines = damper.lines
        anew = damper.solved_anew
        if anew is not None:
            off = abs(anew / damper.result.best.peak - 1.0)
            lines.append(
                f"solved anew with the damper among the members: the largest reading is {100 * off:.2g} % "
                f"{'higher' if anew > damper.result.best.peak else 'lower'}; modal damping ratios then hold for its "
                "modes, and its mass rides along across its axis"
            )
        view = cls(
            modes.assembly,
            f"{modes.assembly.title}: tuned damper",
            "modes",
            modes.key,
            lines=lines,
            screens=[("Settings", table)],
            tables={"tuned_damper": table},
            figures={"tuned_damper": damper.plot},
            findings=damper.findings,
            facts={"members": damper.values()},
        )
        if write is not None:
            damper.assembly().write(write)
            view.after.append(f"wrote {write}: the assembly with the damper in it")
        return view


@dataclass
class EnergyView(_View):
    """`holokine energy`."""

    @classmethod
    def of(cls, path: Path, wanted: ModesRange, by: str, chosen: tuple[int, ...], change: str) -> EnergyView:
        from holokine.show.mode_tables import ENERGY_TITLE, energy_in_words

        def before(assembly: Assembly) -> None:
            if by != "member":
                assembly.refuse_groups(None if by == "group" else [by])

        step = quantity(change, "number")
        modes = open_modes(path, wanted, before=before)
        for mode in chosen:
            modes.set.index(mode)
        energy, guidance = modes.energy(by), modes.guidance(by, change=step)
        advice = modes.advice(by, change=step)
        if chosen:
            energy, guidance = (t[t["mode"].isin(chosen)].reset_index(drop=True) for t in (energy, guidance))
            advice = [a for a in advice if any(f"mode {m} (" in a for m in chosen)]
        lines = [modes.statement]
        if by == "group":
            several = modes.in_several_groups()
            if several:
                lines.append(f"in several groups, and counted in each: {', '.join(several)}")
        return cls(
            modes.assembly,
            f"{modes.assembly.title}: energy by {by}",
            "modes",
            modes.key,
            lines=lines,
            screens=[(ENERGY_TITLE, energy_in_words(energy))],
            tables={"energy": energy, "guidance": guidance},
            figures={"energy": lambda: modes.plot_energy(None if by == "member" else by)},
            findings=modes.findings,
            advice=[
                f"Advice (first order in a change of {change}; the two strongest of each mode, if they move it by "
                f"{5 * step:.3g} % at least; all are in --json and --out):",
                *(f"  {a}" for a in advice or ["no member moves a mode by as much; groups may (--by group)"]),
            ],
            facts={"advice": advice},
        )


@dataclass
class ChangeView(_View):
    """`holokine change`."""

    @classmethod
    def of(cls, path: Path, member: str, stiffness: str | None, mass: str | None, wanted: ModesRange) -> ChangeView:
        import numpy as np

        factors = {k: quantity(v, "number") for k, v in (("stiffness", stiffness), ("mass", mass)) if v is not None}
        before = open_modes(path, wanted, before=lambda a: a.adjusted({member: factors}))
        assembly = before.assembly
        if not before.set.from_the_bottom:
            raise click.UsageError(
                f"{path} holds a band of modes; a change is followed from the lowest mode up: save a run that starts "
                "there"
            )
        after = assembly.adjusted({member: factors}).modes(len(before) + 2)
        compared = before.compare(after)
        names, strain, kinetic = before._by(member if member in assembly.description.groups else "member")
        row = names.index(member)
        total = np.where(before.set.omega > 0, before.set.omega**2 / 2.0, 1.0)
        dk, dm = factors.get("stiffness", 1.0) - 1.0, factors.get("mass", 1.0) - 1.0
        predicted = 50.0 * (dk * strain[row] - dm * kinetic[row]) / total
        table = compared.table().iloc[: len(before)].copy()
        table.insert(4, "predicted_percent", predicted)
        table = table.rename(columns={"shift_percent": "actual_percent"})
        words = ", ".join(f"{k} x {v:g}" for k, v in factors.items())
        return cls(
            assembly,
            f"{assembly.title}: {member}, {words}",
            "modes",
            before.key,
            lines=[f"before: {before.statement}", f"after:  {after.statement}",
                   "predicted: first order, from the shares of energy; actual: run again"],
            screens=[("Frequencies before and after", table)],
            tables={"change": table},
            findings=after.findings,
            facts={"member": member, **factors},
        )  # fmt: skip


@dataclass
class CompareView(_View):
    """`holokine compare`."""

    @classmethod
    def of(
        cls, path: Path, others: tuple[Path, ...], variants: tuple[str, ...], mass_matrices: bool,
        states: tuple[str, ...], wanted: ModesRange,
    ) -> CompareView:  # fmt: skip
        candidates: list[tuple[str, Any]] = [(str(p), p) for p in others]
        first = open_modes(
            path, wanted, before=lambda a: candidates.extend(_variants(a, others, variants, mass_matrices, states))
        )
        assembly = first.assembly
        view = cls(
            assembly, f"{assembly.title}: compared", "modes before", first.key, lines=[f"before: {first.statement}"]
        )
        for name, other in candidates:
            after = _modes_of(other, wanted, first, name)
            compared = first.compare(after)
            table, key = compared.table(), _file_name(name, assembly.variants)
            if key in view.tables:
                key = f"{key}_{len(view.tables)}"
            view.lines.append(f"{name}: {after.statement}")
            view.lines.append(f"{name}: shapes compared at {compared.result.points} points")
            view.lines += [f"{name}: {line}" for line in compared.lines]
            view.screens.append((f"Before against {name}", table))
            view.tables[key] = table
            view.tables[f"{key}_mac"] = compared.mac()
            view.figures[f"{key}_mac"] = compared.plot
        return view


def _variants(
    assembly: Assembly, others: tuple[Path, ...], variants: tuple[str, ...], mass_matrices: bool,
    states: tuple[str, ...],
) -> list[tuple[str, Any]]:  # fmt: skip
    """What to compare with, checked before anything is solved."""
    found: list[tuple[str, Any]] = []
    if mass_matrices:
        now = assembly.description.mass_matrix
        kinds = [k for k in ("consistent", "lumped", "lumped without rotary") if k != now]
        found += [(f"{k} mass", assembly.changed({"mass matrix": k})) for k in kinds]
    for state in states:
        other = assembly.about(None if state == "none" else state)
        if other is assembly:
            raise SelectionError(f"--with-state {state}: the modes before are about it already (see --state)")
        found.append(("no state" if state == "none" else f"about {state}", other))
    names = variants or (() if others or mass_matrices or states else assembly.variants)
    found += [(name, assembly.variant(name)) for name in names]
    if not found and not others:
        raise SelectionError(
            "there is nothing to compare with: name other files, give the assembly variants, or ask for "
            "--mass-matrices or --with-state"
        )
    return found


def _modes_of(other: Any, wanted: ModesRange, first: Modes, name: str) -> Modes:
    if isinstance(other, Path):
        from holokine.store.run_file import is_run_file

        return open_modes(other, ModesRange(as_saved=wanted.as_saved) if is_run_file(other) else wanted)
    # some more than before, for those that moved up
    return other.modes(len(first) + 4 + len(first) // 5)  # type: ignore[no-any-return]


def show_formulas() -> None:
    """List the formulas with their inputs."""
    import pandas as pd

    from holokine.formulas import FORMULAS

    screen = Screen()
    screen.heading("Hand formulas")
    rows = [
        {"formula": name, "gives": f.words, "needs": ", ".join(f.needs), "may have": ", ".join(f.options)}
        for name, f in FORMULAS.items()
    ]
    screen.table("Inputs are written name=value with a unit", pd.DataFrame(rows))
    for name, f in FORMULAS.items():
        quoted = f'"{name}"' if " " in name else name
        click.echo(f"  holokine formula {quoted} {f.example}")


def show_formula(
    name: str, inputs: tuple[str, ...], modes: int, beside: Path | None, as_json: bool, as_csv: bool
) -> None:
    """Evaluate one and print it."""
    from holokine import formula

    given: dict[str, Any] = {}
    for item in inputs:
        key, equals, value = item.partition("=")
        if not equals or not value:
            raise click.UsageError(f'"{item}": inputs are written name=value, such as length=1m')
        if key in ("modes", "beside", "name"):
            raise click.UsageError(f"{key}: use --{key}")
        given[key] = value
    run = None if beside is None else open_modes(beside, ModesRange())
    if run is not None:
        formula(name, modes=modes, **given)  # errors in the inputs first
    table = formula(name, modes=modes, beside=run, **given)
    facts, source, words = (table.attrs[k] for k in ("facts", "source", "words"))
    table.attrs = {}
    if as_json:
        data = {"formula": name, "gives": words, "source": source, "inputs": given,
                "facts": {k: {"value": v, "unit": u} for k, (v, u) in facts.items()},
                "tables": {"formula": _records(table)}}  # fmt: skip
        click.echo(json.dumps(data, indent=2, allow_nan=False, default=str))
        return
    if as_csv:
        click.echo(csv_text(table), nl=False)
        return
    from holokine.show.numbers import number_text

    screen = Screen()
    screen.heading(f"{name}: {words}")
    screen.lines([f"source: {source}", "inputs: " + ", ".join(f"{k} = {v}" for k, v in given.items())])
    screen.lines([f"{k}: {number_text(v)} {u}".rstrip() for k, (v, u) in facts.items()])
    screen.table("Frequencies", table)


@dataclass
class ConservatismView(_View):
    """`holokine conservatism`."""

    @classmethod
    def of(cls, path: Path, event: str, wanted: ModesRange) -> ConservatismView:
        modes = open_modes(path, wanted, before=lambda a: a.event_named(event))
        found = modes.conservatism(event)
        name = f"{_file_name(event, modes.assembly.description.events)}_conservatism"
        return cls(
            modes.assembly,
            f"{modes.assembly.title}: {event}, how conservative the rules are",
            "modes",
            modes.key,
            screens=[("Peak in time, and rules over it", found.table())],
            lines=found.lines[:1],
            details=found.lines[1:],
            tables={name: found.table()},
            figures={name: found.plot},
            findings=found.findings,
        )


@dataclass(frozen=True)
class Sheet:
    """What a command prints or writes that needs no assembly: one table, figures, findings."""

    title: str
    file_name: str
    table: pd.DataFrame
    footer: str
    facts: dict[str, Any]
    figure: Any
    findings: Sequence[Finding] = ()
    lines: Sequence[str] = ()
    files: dict[str, Any] = field(default_factory=dict)

    def deliver(self, to: Delivery) -> None:
        """Print it as asked, and write it where asked."""
        from holokine import __version__
        from holokine.cli.output import write_all

        footer = f"holokine {__version__}, {self.footer}"
        written = []
        if to.out is not None:
            written = write_all(to.out, {self.file_name: self.table}, {self.file_name: self.figure}, self.files, footer)
        quiet()
        if to.as_json:
            data = {"holokine": __version__, **self.facts,
                    "findings": [{"level": f.level, "text": f.text} for f in self.findings],
                    "tables": {self.facts.get("kind", "srs"): _records(self.table)}}  # fmt: skip
            click.echo(json.dumps(data, indent=2, allow_nan=False, default=str))
        elif to.as_csv:
            click.echo(csv_text(self.table), nl=False)
        else:
            screen = Screen(to.whole)
            screen.heading(self.title)
            for line in self.lines:
                click.echo(line)
            screen.table("", self.table)
            screen.findings(tuple(self.findings))
            screen.footer(footer)
            for path in written:
                click.echo(f"wrote {path}")


def deliver_shock(
    record: Path,
    event: str | None,
    gauge: str | None,
    sides: tuple[str, ...],
    by: str,
    keys: dict[str, Any],
    to: Delivery,
) -> None:
    """`holokine srs`: of a CSV record, or of a gauge under a pulse."""
    from holokine import shock

    if (event is None) != (gauge is None):
        raise click.UsageError("--event and --gauge go together")
    if event is not None:
        modes = open_modes(record, ModesRange(), before=lambda a: _in_time(a.event_named(event)))
        answer: Any = modes.respond(event)
        found = answer.shock(str(gauge), **keys)
    else:
        found = shock(record, **keys)
    facts = {"record": found.name, "quantity": found.result.quantity}
    Sheet(
        f"{found.name}: shock response spectrum, {found.result.quantity}{found.words}", f"{_file_name(found.name)}_srs",
        found.table(sides=sides, by=by), found.name, facts, lambda: found.plot(sides[0]), found.result.findings,
        found.peaks(sides),
    ).deliver(to)  # fmt: skip


def _in_time(event: EventKind) -> None:
    """Raise for an event that has no history."""
    if event.kind != "time":
        raise click.UsageError(f"shock spectra are taken of histories; this event is one of {event.words}")


def deliver_match(spectrum: Path, keys: dict[str, Any], to: Delivery) -> None:
    """`holokine match`: a record made for a shock spectrum."""
    from holokine import match

    found = match(spectrum, **keys)
    name = _file_name(Path(found.name).stem)
    facts = {"spectrum": found.name, "kind": "match", "words": found.words}
    Sheet(
        f"{found.name}: a record made to match it", f"{name}_match", found.table(), found.name, facts, found.plot,
        lines=found.words, files={f"{name}_record.csv": found.write},
    ).deliver(to)  # fmt: skip
