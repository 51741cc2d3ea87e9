"""Modes: extraction, participation, damping, and the checks that come before."""

from holokine.modes.check import CheckReport, Finding, check_system
from holokine.modes.damping import damper_share, modal_damping
from holokine.modes.extract import ModeSet, extract_modes

__all__ = ["CheckReport", "Finding", "ModeSet", "check_system", "damper_share", "extract_modes", "modal_damping"]
