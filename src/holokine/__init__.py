"""Holokine: structural dynamics of assemblies.

Natural frequencies and mode shapes, modal mass participation, and the response to shock spectra and base
pulses: at points, across links, at supports, in springs, as stress.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from holokine.errors import HolokineError

if TYPE_CHECKING:
    from holokine.api import (
        Answer,
        Assembly,
        Check,
        Compared,
        Damped,
        Modes,
        RandomAnswer,
        SpectrumAnswer,
        StaticAnswer,
        SweepAnswer,
        TimeAnswer,
        TunedDamper,
    )

__version__ = "0.1.0"
__all__ = [
    "Answer",
    "Assembly",
    "BroughtMode",
    "Check",
    "Compared",
    "Damped",
    "HolokineError",
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
    "verify",
]

_LAZY = dict.fromkeys(
    (
        "Answer", "Assembly", "Check", "Compared", "Damped", "Modes", "RandomAnswer", "SpectrumAnswer", "StaticAnswer",
        "SweepAnswer", "TimeAnswer", "TunedDamper",
    ),
    "holokine.api",
)  # fmt: skip


def __getattr__(name: str) -> Any:
    if name in _LAZY:  # heavy packages load where used, so that the import stays light
        return getattr(import_module(_LAZY[name]), name)
    if name == "demo_folder":
        return import_module("holokine.data").demo_folder
    if name in ("Shock", "shock"):
        return getattr(import_module("holokine.api.shock"), name)
    if name in ("Matched", "match"):
        return getattr(import_module("holokine.api.match"), name)
    if name in ("Verification", "verify"):
        return getattr(import_module("holokine.verification"), name)
    if name in ("BroughtMode", "Refinement", "Variation"):
        return getattr(import_module("holokine.api.variation"), name)
    if name == "Report":
        return import_module("holokine.api.report").Report
    if name == "formula":
        return import_module("holokine.api.formula").formula
    raise AttributeError(f"module 'holokine' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)
