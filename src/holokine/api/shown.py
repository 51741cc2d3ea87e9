"""What every result shows at a prompt and in a notebook, and how its findings reach a Python user."""

from __future__ import annotations

import logging
import sys
import warnings
from abc import abstractmethod
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from holokine.errors import HolokineWarning
from holokine.progress import Listener, quiet, use

if TYPE_CHECKING:
    import pandas as pd

    from holokine.findings import Finding

__all__ = ["Shown", "announced", "show_progress", "unannounced"]

_HOME = str(Path(__file__).resolve().parents[1])
_LOG = logging.getLogger("holokine")
_LOG.addHandler(logging.NullHandler())
_told: set[str] = set()
_silent: ContextVar[bool] = ContextVar("silent", default=False)
_MOST_TOLD = 10_000


class Shown:
    """A result: at a prompt its title, its findings, what it is, and the first rows of its main table."""

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it."""
        return ()

    @abstractmethod
    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        """Title, lines, the main table where there is one, and what its rows are."""

    def __repr__(self) -> str:
        from holokine.show.short import result_short

        return result_short(*self._at_prompt(), self.findings)

    def _repr_html_(self) -> str:
        from holokine.show.short import as_html

        return as_html(*self._at_prompt(), self.findings)


R = TypeVar("R", bound=Shown)


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
