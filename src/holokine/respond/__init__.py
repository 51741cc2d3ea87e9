"""Responses on the reduced model: spectrum combination and base pulses in time."""

from holokine.respond.combine import SpectrumAnswer, respond_spectrum
from holokine.respond.reduced import ReducedModel, reduce_model
from holokine.respond.transient import PulseAnswer, respond_pulse

__all__ = [
    "PulseAnswer",
    "ReducedModel",
    "SpectrumAnswer",
    "reduce_model",
    "respond_pulse",
    "respond_spectrum",
]
