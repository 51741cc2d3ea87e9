"""What a Python user holds: :class:`Assembly`, :class:`Modes`, :class:`Answer`."""

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

__all__ = [
    "Answer",
    "Assembly",
    "Check",
    "Compared",
    "Damped",
    "Modes",
    "RandomAnswer",
    "SpectrumAnswer",
    "StaticAnswer",
    "SweepAnswer",
    "TimeAnswer",
    "TunedDamper",
]
