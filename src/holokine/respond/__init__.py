"""Responses: spectrum combination and time histories on the reduced model, direct integration, loads at rest."""

from holokine.respond.bench import Bench
from holokine.respond.combine import SpectrumResult, respond_spectrum
from holokine.respond.reduced import ReducedModel, reduce_model
from holokine.respond.registry import answer_event
from holokine.respond.static import StaticResult, respond_static
from holokine.respond.sweep import SweepResult
from holokine.respond.transient import TimeResult, respond_pulse

__all__ = [
    "Bench",
    "ReducedModel",
    "SpectrumResult",
    "StaticResult",
    "SweepResult",
    "TimeResult",
    "answer_event",
    "reduce_model",
    "respond_pulse",
    "respond_spectrum",
    "respond_static",
]
