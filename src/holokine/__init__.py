"""Holokine: structural dynamics of assemblies.

Natural frequencies and mode shapes, modal mass participation, and the response to shock spectra, base pulses, sine
sweeps and random vibration: at points, across links, at supports, in springs, as stress.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from holokine import errors
from holokine.errors import *  # noqa: F403 - the family of errors is part of the interface
from holokine.version import __version__

if TYPE_CHECKING:
    from holokine.api.announce import show_progress
    from holokine.api.answer import Answer
    from holokine.api.assembly import Assembly, open_run
    from holokine.api.check import Check
    from holokine.api.comparison import Comparison
    from holokine.api.formula import formula
    from holokine.api.modes import Modes
    from holokine.api.record import Record, match, shock
    from holokine.api.report import Report
    from holokine.api.state import State
    from holokine.api.study import Study
    from holokine.data import demo_folder
    from holokine.verification import verify

_HOME = {
    "Answer": "api.answer",
    "Assembly": "api.assembly",
    "Check": "api.check",
    "Comparison": "api.comparison",
    "Modes": "api.modes",
    "Record": "api.record",
    "Report": "api.report",
    "State": "api.state",
    "Study": "api.study",
    "demo_folder": "data",
    "formula": "api.formula",
    "match": "api.record",
    "open_run": "api.assembly",
    "shock": "api.record",
    "show_progress": "api.announce",
    "verify": "verification",
}
__all__ = [
    "Answer", "Assembly", "Check", "Comparison", "Modes", "Record", "Report", "State", "Study", "__version__",
    "demo_folder", "formula", "match", "open_run", "shock", "show_progress", "verify", *errors.__all__,
]  # fmt: skip


def __getattr__(name: str) -> Any:
    if name in _HOME:  # heavy packages load where used, so that the import stays light
        return getattr(import_module(f"holokine.{_HOME[name]}"), name)
    raise AttributeError(f"module 'holokine' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)
