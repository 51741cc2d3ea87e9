"""The command about the assembly at rest: state."""

from __future__ import annotations

from pathlib import Path

import click

from holokine.api.state import State
from holokine.cli.deliver import Command, Delivery, deliver, delivered, refuse_file
from holokine.cli.options import takes
from holokine.cli.source import assembly_argument, assembly_of

__all__ = ["state"]


@click.command(cls=Command)
@assembly_argument
@click.argument("name", required=False)
@takes(
    State.changes,
    "up_to",
    up_to={
        "default": None,
        "type": click.FloatRange(min=1.0),
        "metavar": "FACTOR",
        "help": "Also the factors on its loads, up to this one, at which feet open, springs let go, cables slacken.",
    },
)
@click.option("--buckling", is_flag=True, help="Load factors of buckling instead, and how frequencies fall.")
@takes(
    State.buckling,
    "count",
    "factors",
    "modes",
    factors={"type": float, "metavar": "FACTOR"},
    modes={"type": click.IntRange(min=0)},
)
@delivered
def state(
    assembly: Path, name: str | None, up_to: float | None, buckling: bool, count: int, factors: tuple[float, ...],
    modes: int, to: Delivery,
) -> None:  # fmt: skip
    """The assembly at rest in a state: displacement, forces, stress, what touches, slides or is slack.

    NAME is a state of the file; the one that is switched on, or the only one, when left out.

    \b
    Example:
      holokine state crate.yaml parked --out results
      holokine state crate.yaml "iced up" --up-to 5
      holokine state crate.yaml parked --buckling --factors 0 --factors 1 --factors 2

    Guide: states.
    """
    refuse_file(to.save, State)
    to.films(False)
    if factors and not modes:
        raise click.UsageError("--factors needs modes to follow (--modes)")
    found = assembly_of(assembly).state(name)
    if buckling:
        deliver(found.buckling(count, factors=factors or None, modes=modes), to)
    else:
        deliver(found, to, stem="state", beside={} if up_to is None else {"changes": found.changes(up_to)})
