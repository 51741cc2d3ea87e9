"""How findings and progress reach a Python user."""

from __future__ import annotations

import logging
import sys
import warnings
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from holokine.errors import HolokineWarning
from holokine.progress import Listener, quiet, use

if TYPE_CHECKING:
    from holokine.api.result import Result

__all__ = ["announced", "show_progress", "unannounced"]

_HOME = str(Path(__file__).resolve().parents[1])
_LOG = logging.getLogger("holokine")
_LOG.addHandler(logging.NullHandler())
_told: set[str] = set()
_silent: ContextVar[bool] = ContextVar("silent", default=False)
_MOST_TOLD = 10_000


R = TypeVar("R", bound="Result")


def announced(result: R) -> R:
    """The result, its findings told: warnings and errors by `warnings` (once each), notes to the log ``holokine``."""
    quiet()
    if _silent.get():
        return result
    for f in result.findings:
        if f.level == "note":
            _LOG.info("%s", f.text)
        elif f.text not in _told:
            if len(_told) >= _MOST_TOLD:
                _told.clear()
            _told.add(f.text)
            warnings.warn(f.text, HolokineWarning, stacklevel=_outside())
    return result


@contextmanager
def unannounced() -> Iterator[None]:
    """Within it findings stay with their results: of runs that a user did not ask for by themselves."""
    token = _silent.set(True)
    try:
        yield
    finally:
        _silent.reset(token)


def show_progress(on: bool | Listener = True) -> None:
    """Tell from now on what goes on in long work, with an estimate of what is left of it; `False` ends it.

    On the error stream, in a notebook below the cell; or by a function of one's own, called with a phase in words, how
    much is done of how much, and of what.
    """
    if callable(on):
        use(on)
    else:
        from holokine.show.busy import Busy

        use(Busy(always=True) if on else None)


def _outside() -> int:
    """How many frames up the caller stands that is none of ours."""
    level, frame = 2, sys._getframe(2)
    while frame is not None and frame.f_code.co_filename.startswith(_HOME) and frame.f_back is not None:
        level, frame = level + 1, frame.f_back
    return level
