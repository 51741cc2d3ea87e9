"""The entry point of the command line: which commands there are, streams, signals, errors and exit codes."""

from __future__ import annotations

import contextlib
import gc
import os
import sys
import threading
from importlib import import_module
from typing import Any

import click

from holokine.errors import CheckFailedError, HolokineError, HolokineWarning

__all__ = ["run"]

EXIT_CHECK, EXIT_INPUT = 1, 2
COMMANDS = {
    "check": ("on_models", "Masses, connections, supports, before solving."),
    "state": ("on_states", "At rest in a state; buckling; changes with the load."),
    "modes": ("on_models", "Frequencies, shapes, effective masses, energies."),
    "respond": ("on_answers", "Shock, time, sweep, random and static events."),
    "compare": ("on_answers", "Modes of two runs, variants, states or changes."),
    "study": ("on_studies", "Variants, scatter, target frequencies, meshes."),
    "tune": ("on_studies", "A tuned damper for a mode."),
    "shock": ("others", "Shock response spectra; records that match them."),
    "formula": ("others", "Natural frequencies by hand formulas."),
    "report": ("on_models", "One HTML page to hand over, and a workbook."),
    "verify": ("others", "The verification cases, run on this machine."),
    "demo": ("others", "A tour of the whole job on the shipped demo."),
}
"""In the order of the work: the file that each is in, and what it does. A file is loaded when its command is called."""


class _Commands(click.Group):
    """Commands that are loaded when they are called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in COMMANDS:
            return None
        found: click.Command = getattr(import_module(f"holokine.cli.{COMMANDS[name][0]}"), name)
        return found

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, words) for name, (_, words) in COMMANDS.items()])

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        from holokine.cli.deliver import SHARED

        super().format_options(ctx, formatter)
        probe = click.Command("probe")
        for option in SHARED:
            option(probe)
        with formatter.section("Every command that delivers a result has"):
            formatter.write_dl([r for p in probe.params[::-1] if (r := p.get_help_record(ctx)) is not None])

    def resolve_command(self, ctx: click.Context, args: list[str]) -> Any:
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            from holokine.errors import nearest_hint

            raise click.UsageError(f'there is no command "{args[0]}". {nearest_hint(args[0], COMMANDS, "commands")}')
        return super().resolve_command(ctx, args)


def _version(ctx: click.Context, _: Any, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        from holokine.version import __version__

        click.echo(f"holokine {__version__}")
        ctx.exit()


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 118})
@click.option("--version", is_flag=True, expose_value=False, is_eager=True, callback=_version, help="Show the version.")
def cli() -> None:
    """Natural frequencies, modal mass, shock and vibration response of assemblies.

    \b
    Example:
      holokine demo
      holokine check crate.yaml
      holokine modes crate.yaml --upto 400Hz
      holokine respond crate.yaml "kerb strike" --out results

    Exit codes: 0 done, 1 a check failed, 2 bad input.
    """


def _end_in_order() -> None:
    """Told to end, the process takes its temporary folders with it.

    What is raised while an object is cleared away is lost: there the signal is sent again a little later.
    """
    import signal

    def later(number: int, frame: Any) -> bool:
        while frame is not None:
            if frame.f_code.co_name == "__del__":
                threading.Timer(0.02, signal.raise_signal, (number,)).start()
                return True
            frame = frame.f_back
        return False

    def end(number: int, frame: Any) -> None:
        if not later(number, frame):
            sys.exit(128 + number)

    def interrupt(number: int, frame: Any) -> None:
        if not later(number, frame):
            raise KeyboardInterrupt

    if threading.current_thread() is not threading.main_thread():
        return
    if signal.getsignal(signal.SIGTERM) == signal.SIG_DFL:
        signal.signal(signal.SIGTERM, end)
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, interrupt)


def _streams() -> None:
    """Streams that are closed take nothing, and characters that a stream cannot show become question marks."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")


def _say(text: str) -> None:
    """On the error stream, as far as that takes anything."""
    try:
        click.echo(text, err=True)
        sys.stderr.flush()
    except OSError:
        _into_nothing(sys.stderr)


def _into_nothing(stream: Any) -> None:
    """What a stream still holds goes nowhere, so that the end of the process does not stumble over it."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    except (OSError, ValueError):
        return


def run(arguments: list[str] | None = None) -> None:
    """Entry point: runs a command and turns errors into messages and exit codes."""
    import warnings

    from holokine.progress import listening
    from holokine.show.busy import Busy

    if "numpy" not in sys.modules:  # sums of its threads would differ in their last digits from machine to machine
        os.environ["OPENBLAS_NUM_THREADS"] = "1"
        gc.set_threshold(20_000)  # loading makes many objects and no rubbish: a look after every 700 costs a tenth
    warnings.simplefilter("ignore", HolokineWarning)  # commands print findings themselves
    _streams()
    busy = Busy()
    _end_in_order()
    try:
        with listening(busy):
            cli.main(arguments, standalone_mode=False)
        sys.stdout.flush()
    except CheckFailedError as err:
        busy.clear()
        _say(f"holokine: {err}")
        sys.exit(EXIT_CHECK)
    except HolokineError as err:
        busy.clear()
        _say(f"holokine: error: {err}")
        sys.exit(EXIT_INPUT)
    except MemoryError:
        busy.clear()
        _say(
            f"holokine: error: there is not enough memory ({busy.phase or 'at the start'}); coarsen the mesh, ask for "
            "less, or run it where there is more"
        )
        sys.exit(EXIT_INPUT)
    except (click.exceptions.Abort, KeyboardInterrupt):
        busy.clear()
        _say("holokine: stopped; nothing was left half-written")
        sys.exit(130)
    except click.ClickException as err:
        busy.clear()
        with contextlib.suppress(OSError):
            err.show()
        sys.exit(EXIT_INPUT)
    except BrokenPipeError:  # who reads has enough
        _into_nothing(sys.stdout)
        sys.exit(0)
    except OSError as err:
        busy.clear()
        _into_nothing(sys.stdout)
        _say(f"holokine: error: {f'{err.filename}: ' if err.filename else ''}cannot be written ({err.strerror or err})")
        sys.exit(EXIT_INPUT)
    finally:
        busy.clear()
