"""What `holokine demo` prints: the job on the demo crate step by step, with what each step says about it."""

from __future__ import annotations

import shutil
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine import Assembly, demo_folder
from holokine.errors import MissingExtraError, OutputError
from holokine.progress import quiet
from holokine.show.numbers import number_text as n

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes

__all__ = ["run_tour"]

WIDEST = 118
OWN_TEXT = """\
A converter crate on the roof of a tram, as the demo of Holokine has it. Text like this comes from a Markdown file of
the analyst's own (`notes.md` beside this report), and stands where its headings say.

# modes
The fan on its bushings moves first; the deck carries transformer and heat sink in the modes after that.

# kerb strike
One wheel set over a kerb. What the fan's bushings make of it is the largest acceleration of the crate.
"""


@dataclass
class _Step:
    """A question, what is typed, the lines that matter, and what they say."""

    question: str
    command: str
    lines: list[str] = field(default_factory=list)
    says: str = ""


def run_tour(out: Path) -> None:
    """Do the job, print the tour, and leave the files in a folder.

    Raises
    ------
    OutputError
        Before anything is solved, where the folder cannot be one.
    """
    if out.exists() and not out.is_dir():
        raise OutputError(f"{out}: is not a folder")
    try:
        out.mkdir(parents=True, exist_ok=True)
        for file in [demo_folder() / "crate.yaml", *sorted(demo_folder().glob("*.csv"))]:
            shutil.copy(file, out / file.name)
        (out / "notes.md").write_text(OWN_TEXT, encoding="utf-8")
    except OSError as err:
        raise OutputError(f"{out}: cannot be written to ({err.strerror})") from None
    crate = Assembly.read(out / "crate.yaml")
    _print([f"A converter crate on the roof of a tram: the whole job. Type the commands in {out}.", ""])
    modes = crate.modes()
    modes.save(out / "crate.run")
    for step in (
        lambda: _check(crate), lambda: _modes(modes), lambda: _energy(modes), lambda: _shock(modes),
        lambda: _pulse(modes), lambda: _sweep(modes), lambda: _state(crate, modes), lambda: _reach(crate),
        lambda: _report(modes, out),
    ):  # fmt: skip
        made = step()
        quiet()
        _print([made.question, f"  $ {made.command}", *(f"    {line}" for line in made.lines), f"  {made.says}", ""])
    _print([
        f"Everything is in {out}: crate.html (the report), crate.xlsx (every table), crate.run, crate.yaml, notes.md.",
        "All tables of all steps: holokine demo --all. Every command: holokine --help.",
    ])  # fmt: skip


def _print(lines: list[str]) -> None:
    for line in lines:
        for part in _folded(line):
            click.echo(part)


def _folded(line: str) -> list[str]:
    """A line no wider than the tour, later parts indented as the first."""
    import textwrap

    own = line[: len(line) - len(line.lstrip())]
    return textwrap.wrap(line, WIDEST, subsequent_indent=own, drop_whitespace=True) or [""]


def _check(crate: Assembly) -> _Step:
    check = crate.check()
    masses = check.table("mass")
    whole = masses.iloc[-1]
    heavy = masses.iloc[:-1].sort_values("mass_kg", ascending=False).head(3)
    told = ", ".join(f"{name!s} {n(mass)} kg" for name, mass in zip(heavy.iloc[:, 0], heavy["mass_kg"], strict=True))
    share = 100.0 * float(heavy["mass_kg"].iloc[0]) / float(whole["mass_kg"])
    levels = [f.level for f in check.findings]
    count = f"{levels.count('error')} errors, {levels.count('warning')} warnings, {levels.count('note')} notes"
    return _Step(
        "Is the model what it should be?", "holokine check crate.yaml",
        [*(_squeezed(line) for line in check.lines[:2]), _squeezed(check.lines[4]), f"heaviest: {told}; {count}"],
        f"The {heavy.iloc[0, 0]!s} is {share:.0f} % of the mass; everything hangs together, so it can be solved.",
    )  # fmt: skip


def _squeezed(line: str) -> str:
    return " ".join(line.split())


def _modes(modes: Modes) -> _Step:
    table = modes.table()
    lines = [
        f"{row['mode']:>2}  {n(row['frequency_hz'])} Hz  {row['what']}" for row in table.head(4).to_dict("records")
    ]
    enough = modes.enough()
    low = min(enough, key=lambda e: e.reached)
    return _Step(
        "Where are its modes, and were any missed?", "holokine modes crate.yaml --save crate.run",
        [*lines, *(_squeezed(e.words) for e in enough), modes.statement],
        f"The Sturm count proves that none is missed; along {low.direction} the modes hold "
        f"{100 * low.reached:.0f} % of the mass, so a response adds the rest as if it were rigid.",
    )  # fmt: skip


def _energy(modes: Modes) -> _Step:
    words = {row["mode"]: row["strain"] for row in modes.energy_in_words().to_dict("records")}
    strongest = modes.table("sensitivities", mode=(3, 8), most=1).to_dict("records")
    told = []
    for row in strongest:
        what = max(("stiffness", "mass"), key=lambda w: abs(row[f"by_{w}_percent"]))
        effect = f"moves mode {row['mode']} by {row[f'by_{what}_percent']:+.1f} %"
        told.append(f"{row['change_percent']:g} % more {what} of {row['member']} {effect}")
    return _Step(
        "Which part is responsible?",
        'holokine modes crate.run --table "energy mode=3,8" --table "sensitivities most=1"',
        [*(f"mode {m}: strain in {words[m]}" for m in (3, 8)), *told],
        "Mode 8 is the deck's, and a thicker one moves it; mode 3 is spread over deck and rails: no single part helps.",
    )  # fmt: skip


def _peak_lines(peaks: pd.DataFrame, rows: tuple[tuple[str, str], ...], more: Any) -> list[str]:
    found = []
    for gauge, component in rows:
        row = peaks[(peaks["gauge"] == gauge) & (peaks["component"] == component)].iloc[0]
        value = f"{n(row['peak']):>8} {row['unit']:<4} {more(row)}".rstrip()
        found.append(f"{gauge} {component}".strip().ljust(26) + value)
    return found


READ = (("fan", "z"), ("transformer", "z"), ("bolt 1", "z"), ("deck stress", "equivalent"))


def _shock(modes: Modes) -> _Step:
    answer = modes.respond("works shock")
    peaks: Any = answer.table()
    best = answer.table("main_modes", share=0.5)
    fan = best[(best["gauge"] == "fan") & (best["component"] == "z")].iloc[0]
    number = int(str(fan["modes"]).split(",")[0])
    what = modes.words[number - 1]
    return _Step(
        "What does the works' shock test do to it?", 'holokine respond crate.run "works shock"',
        [*answer.lines[:1], *_peak_lines(peaks, READ, lambda r: "")],
        f"Most of the fan's {n(float(peaks[(peaks['gauge'] == 'fan')]['peak'].iloc[0]))} g comes from mode {number} "
        f"({what.split(',')[0]}); peaks are combined for each quantity by itself.",
    )  # fmt: skip


def _pulse(modes: Modes) -> _Step:
    peaks = modes.respond("kerb strike").table()
    fan = peaks[(peaks["gauge"] == "fan")].iloc[0]
    return _Step(
        "And a wheel set over a kerb, in time?", 'holokine respond crate.run "kerb strike"',
        _peak_lines(peaks, READ, lambda r: f"at {n(r['time_ms'])} ms"),
        f"The base sees 3 g, the fan {n(abs(float(fan['peak'])))} g after {n(float(fan['time_ms']))} ms: its bushings "
        f"amplify the strike {n(abs(float(fan['peak'])) / 3.0, 2)} times.",
    )  # fmt: skip


def _sweep(modes: Modes) -> _Step:
    peaks = modes.respond("shaker").table()
    rows = (("transformer", "z"), ("fan", "z"), ("deck stress", "equivalent"))
    fan = peaks[(peaks["gauge"] == "transformer") & (peaks["component"] == "z")].iloc[0]
    return _Step(
        "At which frequency does the sine test hurt?", "holokine respond crate.run shaker",
        _peak_lines(peaks, rows, lambda r: f"at {n(r['frequency_hz'])} Hz"),
        f"The transformer answers most at {n(float(fan['frequency_hz']))} Hz, {n(float(fan['peak']) / 0.5, 2)} times "
        "what the table does; this is where a sweep has to be slow.",
    )  # fmt: skip


def _state(crate: Assembly, modes: Modes) -> _Step:
    about = crate.about("parked")
    rest = about.state()
    compared = modes.compare(about.modes())
    return _Step(
        "Does its own weight and the tension of its stays matter?", "holokine compare crate.run --with-state parked",
        [*rest.lines[:2], compared.lines[-1]],
        "Modes and answers about a state are asked with --state parked; without one the crate is taken unloaded.",
    )  # fmt: skip


def _reach(crate: Assembly) -> _Step:
    found = crate.target("parts/deck/plate/thickness", 8, "38 Hz")
    return _Step(
        "Which deck brings the heat sink's mode to 38 Hz?",
        "holokine study crate.yaml --set parts/deck/plate/thickness --mode 8 --target 38Hz", found.lines[:1],
        f"{len(found.result.steps)} runs, the last with that thickness; study runs many such changes, and the mesh.",
    )  # fmt: skip


def _report(modes: Modes, out: Path) -> _Step:
    made = modes.report(text=out / "notes.md")
    made.save(out / "crate.html")
    told = f"crate.xlsx: {len(made.tables)} tables"
    try:
        made.save(out / "crate.xlsx")
    except MissingExtraError as err:
        told = f"crate.xlsx is left out: {err}"
    return _Step(
        "What is handed over?", "holokine report crate.run crate.html --text notes.md --workbook crate.xlsx",
        [f"crate.html: {', '.join(s.title for s in made.sections)}", told],
        "One page without a network, with shapes to be turned; it prints to PDF from a browser.",
    )  # fmt: skip
