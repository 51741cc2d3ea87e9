"""Holokine: structural dynamics of assemblies.

Natural frequencies and mode shapes, modal mass participation, and the response to shock spectra and base
pulses: at points, across links, at supports, in springs, as stress.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from holokine.errors import HolokineError, HolokineWarning

if TYPE_CHECKING:
    from holokine.api.answer import Answer
    from holokine.api.assembly import Assembly
    from holokine.api.check import Check
    from holokine.api.compared import Compared
    from holokine.api.damped import Damped
    from holokine.api.modes import Modes
    from holokine.api.random_answer import RandomAnswer
    from holokine.api.spectrum_answer import SpectrumAnswer
    from holokine.api.static_answer import StaticAnswer
    from holokine.api.sweep_answer import SweepAnswer
    from holokine.api.time_answer import TimeAnswer
    from holokine.api.tuned import TunedDamper

__version__ = "0.1.0"
__all__ = [
    "Answer",
    "Assembly",
    "BroughtMode",
    "Check",
    "Compared",
    "Damped",
    "HolokineError",
    "HolokineWarning",
    "Matched",
    "Modes",
    "RandomAnswer",
    "Refinement",
    "Report",
    "Shock",
    "SpectrumAnswer",
    "StaticAnswer",
    "SweepAnswer",
    "TimeAnswer",
    "TunedDamper",
    "Variation",
    "Verification",
    "__version__",
    "demo_folder",
    "formula",
    "match",
    "shock",
    "show_progress",
    "verify",
]

_HOME = {
    "Answer": "api.answer",
    "Assembly": "api.assembly",
    "BroughtMode": "api.variation",
    "Check": "api.check",
    "Compared": "api.compared",
    "Damped": "api.damped",
    "Matched": "api.match",
    "Modes": "api.modes",
    "RandomAnswer": "api.random_answer",
    "Refinement": "api.variation",
    "Report": "api.report",
    "Shock": "api.shock",
    "SpectrumAnswer": "api.spectrum_answer",
    "StaticAnswer": "api.static_answer",
    "SweepAnswer": "api.sweep_answer",
    "TimeAnswer": "api.time_answer",
    "TunedDamper": "api.tuned",
    "Variation": "api.variation",
    "Verification": "verification",
    "demo_folder": "data",
    "formula": "api.formula",
    "match": "api.match",
    "show_progress": "api.shown",
    "shock": "api.shock",
    "verify": "verification",
}


def __getattr__(name: str) -> Any:
    if name in _HOME:  # heavy packages load where used, so that the import stays light
        return getattr(import_module(f"holokine.{_HOME[name]}"), name)
    raise AttributeError(f"module 'holokine' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)
