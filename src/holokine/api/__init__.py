"""What a Python user holds: :class:`Assembly`, :class:`Modes`, :class:`Answer`."""

from holokine.api.answer import Answer
from holokine.api.assembly import Assembly
from holokine.api.check import Check
from holokine.api.compared import Compared
from holokine.api.modes import Modes

__all__ = ["Answer", "Assembly", "Check", "Compared", "Modes"]
