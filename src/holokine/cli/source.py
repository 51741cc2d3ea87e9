"""Where a command takes its assembly and modes from: an assembly file, or a run file."""

from __future__ import annotations

from collections.abc import Callable
from contextvars import ContextVar
from dataclasses import dataclass
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine.cli.options import takes

if TYPE_CHECKING:
    from holokine.api.assembly import Assembly
    from holokine.api.modes import Modes

__all__ = ["Range", "assembly_argument", "assembly_of", "modes_of", "ranged"]

_STATE: ContextVar[str | None] = ContextVar("state", default=None)
AS_SAVED = "Take a run file as saved, though its assembly has changed."


@dataclass(frozen=True)
class Range:
    """Which modes a command asks for."""

    count: int | None = None
    upto: str | None = None
    above: str | None = None
    near: str | None = None
    as_saved: bool = False

    @property
    def given(self) -> bool:
        """Whether any range was asked for."""
        return any(v is not None for v in (self.count, self.upto, self.above, self.near))


def assembly_argument(command: Any) -> Any:
    """The assembly, and the state about which it vibrates."""

    def asked(_: click.Context, __: Any, name: str | None) -> None:
        _STATE.set(name)

    run = click.option("--state", metavar="NAME", expose_value=False, callback=asked,
                       help="About this state of the file; none: the unloaded shape.")(command)  # fmt: skip
    return click.argument("assembly", type=click.Path(path_type=Path))(run)


def ranged(*names: str) -> Callable[[Any], Any]:
    """Options of which modes (of count, upto, above, near, as_saved), given to the command as `wanted`."""

    def add(command: Any) -> Any:
        from holokine.api.assembly import Assembly

        @wraps(command)
        def run(*args: Any, **keys: Any) -> Any:
            own = {k: keys.pop(k) for k in names}
            return command(*args, wanted=Range(**own), **keys)

        if "as_saved" in names:
            run = click.option("--as-saved", is_flag=True, help=AS_SAVED)(run)
        changes: dict[str, Any] = {n: {"metavar": "FREQ"} for n in names if n in ("upto", "above", "near")}
        return takes(Assembly.modes, *(n for n in names if n != "as_saved"), **changes)(run)

    return add


def _about(assembly: Assembly) -> Assembly:
    name = _STATE.get()
    return assembly if name is None else assembly.about(None if name == "none" else name)


def assembly_of(path: Path, as_saved: bool = False) -> Assembly:
    """The assembly of a file or of a run file, about the state that is asked for."""
    from holokine import Assembly, open_run
    from holokine.store.run_file import is_run_file

    if is_run_file(path):
        return _about(open_run(path, as_saved=as_saved).assembly)  # type: ignore[arg-type]
    if as_saved:
        raise click.UsageError("--as-saved belongs to run files")
    return _about(Assembly.read(path))


def modes_of(path: Path, wanted: Range, before: Callable[[Assembly], Any] | None = None) -> Modes:
    """Modes of an assembly file, extracted, or of a run file, as they are.

    `before` is called with the assembly before anything is solved.
    """
    from holokine import open_run
    from holokine.store.run_file import is_run_file

    if not is_run_file(path):
        assembly = assembly_of(path, wanted.as_saved)
        if before is not None:
            before(assembly)
        return assembly.modes(wanted.count, upto=wanted.upto, above=wanted.above, near=wanted.near)
    if wanted.given:
        raise click.UsageError(
            "a run file holds the modes that were extracted; leave out --count, --upto, --above and --near, or give "
            "the assembly file"
        )
    modes = open_run(path, as_saved=wanted.as_saved)
    own: Any = modes.assembly
    if _about(own) is not own:
        has = own.description.state
        raise click.UsageError(
            f"{path} holds modes about {'no state' if has is None else f'the state {has}'}; give the assembly file "
            "with --state, and save another run"
        )
    if before is not None:
        before(own)
    return modes
