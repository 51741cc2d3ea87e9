"""Commands: check, modes, respond, demo."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from holokine.errors import CheckFailedError, HolokineError

__all__ = ["run"]

EXIT_CHECK, EXIT_INPUT = 1, 2


class _Group(click.Group):
    """Lists commands in the order of the work."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.commands)


def _version(ctx: click.Context, _: Any, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        from holokine import __version__

        click.echo(f"holokine {__version__}")
        ctx.exit()


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.option("--version", is_flag=True, expose_value=False, is_eager=True, callback=_version, help="Show the version.")
def cli() -> None:
    """Natural frequencies, modal mass and shock response of assemblies.

    \b
    Example:
      holokine demo
      holokine check crate.yaml
      holokine modes crate.yaml --upto 400Hz
      holokine respond crate.yaml "kerb strike" --out results

    Exit codes: 0 done, 1 a check failed, 2 bad input.
    """


_ASSEMBLY = click.argument("assembly", type=click.Path(path_type=Path))


def _saved(command: Any) -> Any:
    return click.option("--as-saved", is_flag=True, help="Take a run file as saved, though its assembly has changed.")(
        command
    )


def _output(command: Any) -> Any:
    command = click.option("--out", type=click.Path(path_type=Path, file_okay=False), metavar="DIR",
                           help="Write tables (CSV) and figures (PNG) into this folder.")(command)  # fmt: skip
    command = click.option("--csv", "as_csv", is_flag=True, help="Print the main table as CSV only.")(command)
    return click.option("--json", "as_json", is_flag=True, help="Print everything as JSON only.")(command)


def _range(command: Any) -> Any:
    command = click.option("--upto", metavar="FREQ", help="Highest frequency, such as 400Hz (a bare number is Hz).")(
        command
    )
    return click.option("--count", type=click.IntRange(min=1), help="Number of lowest modes.")(command)


@cli.command()
@_ASSEMBLY
@_output
def check(assembly: Path, as_json: bool, as_csv: bool, out: Path | None) -> None:
    """Mass, centre of mass, connections, supports and findings, before solving.

    \b
    Example:
      holokine check crate.yaml

    Ends with exit code 1 when a finding is an error.
    """
    from holokine.cli.reports import CheckReportView

    view = CheckReportView.of(assembly)
    view.deliver(as_json, as_csv, out)
    if not view.check.ok:
        raise CheckFailedError("the check found errors")


@cli.command()
@_ASSEMBLY
@_range
@click.option("--above", metavar="FREQ", help="Lowest frequency of a band.")
@click.option("--near", metavar="FREQ", help="Modes next to this frequency (--count of them, or 10).")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Keep everything in a run file, which later commands take in place of the assembly.")  # fmt: skip
@_saved
@click.option("--shapes", type=click.IntRange(min=0), default=6, show_default=True, help="Shapes drawn into --out.")
@click.option(
    "--animate",
    type=click.IntRange(min=1),
    multiple=True,
    metavar="MODE",
    help="Animate this mode into --out (repeatable).",
)
@_output
def modes(
    assembly: Path,
    count: int | None,
    upto: str | None,
    above: str | None,
    near: str | None,
    save: Path | None,
    as_saved: bool,
    shapes: int,
    animate: tuple[int, ...],
    as_json: bool,
    as_csv: bool,
    out: Path | None,
) -> None:
    """Natural frequencies, mode shapes and effective masses.

    \b
    Example:
      holokine modes crate.yaml --upto 400Hz --count 50
      holokine modes crate.yaml --csv > modes.csv
      holokine modes crate.yaml --count 8 --animate 3 --out results
      holokine modes crate.yaml --above 50Hz --upto 80Hz
      holokine modes crate.yaml --save crate.run
    """
    from holokine.cli.reports import ModesRange, ModesView

    if animate and out is None:
        raise click.UsageError("--animate needs --out DIR")

    wanted = ModesRange(count, upto, above, near, as_saved)
    ModesView.of(assembly, wanted, shapes, animate, save).deliver(as_json, as_csv, out)


@cli.command()
@_ASSEMBLY
@click.argument("event")
@_range
@_saved
@_output
def respond(
    assembly: Path,
    event: str,
    count: int | None,
    upto: str | None,
    as_saved: bool,
    as_json: bool,
    as_csv: bool,
    out: Path | None,
) -> None:
    """Response of all gauges to an event of the assembly file (or of a run file, without extracting again).

    \b
    Example:
      holokine respond crate.yaml "kerb strike"
      holokine respond crate.yaml "works shock" --out results
      holokine respond crate.run "kerb strike"
    """
    from holokine.cli.reports import AnswerView, ModesRange

    AnswerView.of(assembly, event, ModesRange(count, upto, as_saved=as_saved)).deliver(as_json, as_csv, out)


@cli.command()
@click.option("--out", type=click.Path(path_type=Path, file_okay=False), metavar="DIR",
              help="Write the assembly file, tables and figures into this folder.")  # fmt: skip
def demo(out: Path | None) -> None:
    """The whole job on the shipped demo: a converter crate on the roof of a tram.

    \b
    Example:
      holokine demo
      holokine demo --out crate-demo
    """
    from holokine.cli.reports import run_demo

    run_demo(out)


def run(arguments: list[str] | None = None) -> None:
    """Entry point: runs a command and turns errors into messages and exit codes."""
    try:
        cli.main(arguments, standalone_mode=False)
    except CheckFailedError as err:
        click.echo(f"holokine: {err}", err=True)
        sys.exit(EXIT_CHECK)
    except HolokineError as err:
        click.echo(f"holokine: error: {err}", err=True)
        sys.exit(EXIT_INPUT)
    except click.exceptions.Abort:
        click.echo("holokine: stopped; nothing was left half-written", err=True)
        sys.exit(130)
    except click.ClickException as err:
        err.show()
        sys.exit(EXIT_INPUT)
    except BrokenPipeError:
        sys.stderr.close()
        sys.exit(0)
