"""Commands about the assembly itself: check, modes, report."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine.api.check import Check
from holokine.api.modes import Modes
from holokine.cli.deliver import Command, Delivery, deliver, delivered, refuse_file
from holokine.cli.options import takes
from holokine.cli.source import AS_SAVED, Range, assembly_argument, assembly_of, modes_of, ranged

if TYPE_CHECKING:
    from holokine.api.report import Report

__all__ = ["check", "modes", "report"]


@click.command(cls=Command)
@assembly_argument
@click.option("--as-saved", is_flag=True, help=AS_SAVED)
@delivered
def check(assembly: Path, as_saved: bool, to: Delivery) -> None:
    """Mass, centre of mass, connections, supports and findings, before solving.

    \b
    Example:
      holokine check crate.yaml
      holokine check crate.yaml --out results --draw sections=yes --draw only=cage

    Ends with exit code 1 when a finding is an error. Guide: checking an assembly.
    """
    refuse_file(to.save, Check)
    to.films(False)
    deliver(assembly_of(assembly, as_saved).check(), to)


@click.command(cls=Command)
@assembly_argument
@ranged("count", "upto", "above", "near", "as_saved")
@click.option("--damped", is_flag=True, help="Damped (complex) modes instead, as dampers and loss factors couple them.")
@click.option("--enough", metavar="SHARE", help="Share of the free mass to be held, such as 90%; less: exit code 1.")
@click.option("--along", default="x,y,z", show_default=True, metavar="DIRECTIONS", help="Directions for --enough.")
@click.option("--animate", type=click.IntRange(min=1), multiple=True, metavar="MODE",
              help="Animate this mode into --out (repeatable).")  # fmt: skip
@delivered
def modes(
    assembly: Path, wanted: Range, damped: bool, enough: str | None, along: str, animate: tuple[int, ...],
    to: Delivery,
) -> None:  # fmt: skip
    """Natural frequencies, mode shapes and effective masses.

    \b
    Example:
      holokine modes crate.yaml --upto 400Hz --save crate.run
      holokine modes crate.run --table "energy group" --table "sensitivities most=2"
      holokine modes crate.run --damped
      holokine modes crate.run --animate 3 --out results --draw film=mp4

    Saved as run, later commands take it in place of the assembly; as html, the model can be turned. Guide: modes.
    """
    from holokine.units import quantity

    refuse_file(to.save, Modes)
    if animate and to.out is None:
        raise click.UsageError("--animate needs --out DIR")
    films = to.films(bool(animate))
    if enough is not None:
        quantity(enough, "number")
    found = modes_of(assembly, wanted, before=lambda a: _refuse_tables(a, to))
    if damped:
        other = found.damped()
        deliver(other, to, files=other.files(animate, **films) if to.out is not None else None)
        return
    if enough is not None:
        found.ask_mass(enough, along)
    files: Any = None
    if to.out is not None:
        pictures = to.pictures
        files = found.files(int(pictures.pop("shapes", 6)), animate, **films, **pictures)
    deliver(found, to, files=files, notes=found.untrusted())


def _refuse_tables(assembly: Any, to: Delivery) -> None:
    """Raise for tables of groups or events that there are not, before anything is solved."""
    from holokine.api.modes import refuse_groups

    for name, what, options in to.tables:
        by = " ".join(what) or options.get("by", "member")
        if name in ("energy", "sensitivities") and by != "member":
            refuse_groups(assembly.description.groups, None if by == "group" else [str(by)])
        if name == "load_shares" and what:
            assembly.event_named(" ".join(what))


@click.command(cls=Command)
@assembly_argument
@click.argument("page", type=click.Path(path_type=Path, dir_okay=False))
@takes(
    Modes.report,
    "sections",
    "events",
    "text",
    sections={"multiple": False, "metavar": "LIST"},
    events={"metavar": "EVENT"},
    text={"type": click.Path(path_type=Path), "metavar": "FILE"},
)
@click.option("--workbook", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Also every table, whole, as a workbook (.xlsx).")  # fmt: skip
@ranged("count", "upto", "as_saved")
def report(
    assembly: Path, page: Path, sections: str | None, events: tuple[str, ...], text: Path | None, workbook: Path | None,
    wanted: Range,
) -> None:  # fmt: skip
    """Write one HTML page to hand over: findings, assembly, modes, energies, every event, your own text.

    \b
    Example:
      holokine report crate.yaml crate.html
      holokine report crate.run crate.html --text notes.md --workbook crate.xlsx
      holokine report crate.run crate.html --sections findings,modes,events --events "kerb strike"

    For a page with the model to turn alone: holokine modes crate.run --save crate.html. Guide: reports.
    """
    for path, ending, what in ((page, ".html", "page"), (workbook, ".xlsx", "workbook")):
        if path is not None and path.suffix.lower() != ending:
            raise click.UsageError(f"{path}: the {what}'s name must end with {ending}")
        if path is not None and not path.resolve().parent.is_dir():
            raise click.UsageError(f"{path}: there is no folder {path.resolve().parent}")
    chosen = None if sections is None else [s.strip() for s in sections.split(",") if s.strip()]
    found = modes_of(assembly, wanted, before=lambda a: [a.event_named(e) for e in events])
    made: Report = found.report(sections=chosen, events=events or None, text=text)
    made.save(page)
    click.echo(f"wrote {page}: {', '.join(s.title for s in made.sections)}")
    if workbook is not None:
        made.save(workbook)
        click.echo(f"wrote {workbook}: {len(made.tables)} tables")
    for line in made.failed:
        click.echo(f"not in it: {line}")
