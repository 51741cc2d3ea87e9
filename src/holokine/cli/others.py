"""Commands that need no modes: shock, formula, verify, demo."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import click

from holokine.api.record import MatchedTo, Record, match
from holokine.api.record import shock as shock_of
from holokine.cli.deliver import Command, Delivery, deliver, deliver_all, delivered, file_name, refuse_file
from holokine.cli.options import takes
from holokine.cli.source import Range, modes_of
from holokine.errors import OutputError

__all__ = ["demo", "formula", "shock", "verify"]


@click.command(cls=Command)
@click.argument("record", type=click.Path(path_type=Path))
@click.option("--event", metavar="EVENT", help="RECORD is an assembly or run file: answer this pulse first ...")
@click.option("--gauge", metavar="GAUGE", help="... and take this acceleration's history, such as 'fan z'.")
@takes(
    shock_of,
    "low",
    "high",
    "per_octave",
    "frequencies",
    "damping",
    "q",
    "of",
    "remove_offset",
    "broaden",
    low={"metavar": "FREQ"},
    high={"metavar": "FREQ"},
    frequencies={"multiple": False, "metavar": "LIST"},
    damping={"metavar": "RATIO"},
    q={"type": float, "metavar": "Q"},
    of={"metavar": "QUANTITY"},
    broaden={"metavar": "SHARE", "default": "0", "show_default": False},
)
@click.option("--match", "matched", is_flag=True, help="RECORD is a spectrum: make a record in time that has it.")
@takes(match, "duration", "seed", duration={"metavar": "TIME"}, seed={"type": int, "default": None})
@delivered
def shock(
    record: Path, event: str | None, gauge: str | None, low: str | None, high: str | None, per_octave: int | None,
    frequencies: str | None, damping: tuple[str, ...], q: tuple[float, ...], of: str, remove_offset: bool,
    broaden: str, matched: bool, duration: str | None, seed: int | None, to: Delivery,
) -> None:  # fmt: skip
    """Shock response spectra of a record or of a gauge's history; or a record made to match a spectrum.

    \b
    Example:
      holokine shock record.csv --low 5Hz --high 2kHz --damping 5% --damping 2%
      holokine shock crate.run --event "kerb strike" --gauge "fan z" --high 200Hz
      holokine shock works.csv --match --damping 2% --save pulse.csv

    Guide: shock spectra.
    """
    to.films(False)
    if matched:
        told = {"--event": event, "--gauge": gauge, "--low": low, "--high": high, "--frequencies": frequencies,
                "--q": q, "--remove-offset": remove_offset}  # fmt: skip
        wrong = [k for k, v in told.items() if v]
        if wrong or len(damping) > 1:
            raise click.UsageError(f"{wrong[0] if wrong else 'several --damping'}: not for a record made by --match")
        refuse_file(to.save, MatchedTo)
        keys: dict[str, Any] = {"damping": damping[0] if damping else None, "per_octave": per_octave,
                                "duration": duration, "seed": seed}  # fmt: skip
        made = match(record, **{k: v for k, v in keys.items() if v is not None})
        deliver(made, to, stem=file_name(Path(made.name).stem))
        return
    if duration is not None or seed is not None:
        raise click.UsageError("--duration and --seed belong to --match")
    if (event is None) != (gauge is None):
        raise click.UsageError("--event and --gauge go together")
    refuse_file(to.save, Record)
    keys = {"low": low, "high": high, "per_octave": per_octave, "damping": damping or None, "q": q, "of": of,
            "frequencies": None if frequencies is None else [x.strip() for x in frequencies.split(",") if x.strip()],
            "remove_offset": remove_offset, "broaden": broaden}  # fmt: skip
    if event is not None:
        answer: Any = modes_of(record, Range(), before=lambda a: _in_time(a.event_named(event))).respond(event)
        found = answer.shock(str(gauge), **keys)
    else:
        found = shock_of(record, **keys)
    deliver(found, to, stem=file_name(found.name))


def _in_time(event: Any) -> None:
    """Raise for an event that has no history."""
    if event.kind != "time":
        raise click.UsageError(f"shock spectra are taken of histories; this event is one of {event.words}")


@click.command(cls=Command)
@click.argument("name", required=False)
@click.argument("inputs", nargs=-1)
@click.option("--modes", type=click.IntRange(min=1), default=5, show_default=True, help="How many frequencies.")
@click.option("--beside", type=click.Path(path_type=Path), metavar="FILE", help="Assembly or run file to set beside.")
@delivered
def formula(name: str | None, inputs: tuple[str, ...], modes: int, beside: Path | None, to: Delivery) -> None:
    """Natural frequencies by a hand formula; without a name: which there are.

    \b
    Example:
      holokine formula
      holokine formula "mass on a spring" mass=24kg stiffness=560N/mm
      holokine formula beam length=1m E=205GPa I=1.5e-7m^4 mass_per_length=12kg/m ends=fixed-free
    """
    from holokine.api.formula import formula as evaluated

    given: dict[str, Any] = {}
    for item in inputs:
        key, equals, value = item.partition("=")
        if not equals or not value:
            raise click.UsageError(f'"{item}": inputs are written name=value, such as length=1m')
        if key in ("modes", "beside", "name"):
            raise click.UsageError(f"{key}: use --{key}")
        given[key] = value
    found = evaluated(name or "", modes=modes, **given)  # errors in the inputs first
    if beside is not None and name:
        found = evaluated(name, modes=modes, beside=modes_of(beside, Range()), **given)
    deliver(found, to)


@click.command(cls=Command)
@click.option("--only", multiple=True, metavar="WORDS", help="Only cases that speak of this (repeatable).")
@delivered
def verify(only: tuple[str, ...], to: Delivery) -> None:
    """Run the verification cases on this machine: expected and computed figures, deviation, tolerance, versions.

    \b
    Example:
      holokine verify --only plate --only sweep
      holokine verify --save verification.html --out evidence

    Ends with exit code 1 when a case is out of its tolerance.
    """
    from holokine.verification import Verification
    from holokine.verification import verify as run

    refuse_file(to.save, Verification)
    deliver(run(only or None), to)


@click.command(cls=Command)
@click.option("--out", type=click.Path(path_type=Path), metavar="DIR", help="Folder for the assembly, run file, report "
              "and workbook (crate-demo); with --all for every table and figure.")  # fmt: skip
@click.option("--all", "whole", is_flag=True, help="Every table of every step; files only with --out.")
def demo(out: Path | None, whole: bool) -> None:
    """A tour of the whole job on the shipped demo: a converter crate on the roof of a tram.

    \b
    Example:
      holokine demo
      holokine demo --all --out everything

    The tour leaves its files in the folder crate-demo where it is called, or in DIR.
    """
    if not whole:
        from holokine.cli.tour import run_tour

        run_tour(out or Path("crate-demo"))
        return
    from holokine import Assembly, demo_folder

    if out is not None and out.exists() and not out.is_dir():
        raise OutputError(f"{out}: is not a folder")
    source = demo_folder() / "crate.yaml"
    crate = Assembly.read(source)
    modes = crate.modes()
    results: list[tuple[str, Any]] = [("", crate.check()), ("", modes)]
    for state in crate.states:
        results += [(f"state_{file_name(state)}", crate.state(state)),
                    (f"state_{file_name(state)}_modes", modes.compare(crate.about(state).modes()))]  # fmt: skip
    events = crate.description.events
    results += [(file_name(name, events), modes.respond(name)) for name in events]
    deliver_all(results, out)
    if out is None:
        click.echo("Nothing was written; --out DIR writes the assembly file, tables and figures.")
        return
    for file in [source, *sorted(demo_folder().glob("*.csv"))]:
        shutil.copy(file, out / file.name)
        click.echo(f"wrote {out / file.name}")
