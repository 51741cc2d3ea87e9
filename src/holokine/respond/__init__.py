"""Responses: spectrum combination and time histories on the reduced model, direct integration, loads at rest."""

from holokine.respond.combine import SpectrumAnswer, respond_spectrum
from holokine.respond.reduced import ReducedModel, reduce_model
from holokine.respond.static import StaticAnswer, respond_static
from holokine.respond.transient import PulseAnswer, respond_pulse

__all__ = [
    "PulseAnswer",
    "ReducedModel",
    "SpectrumAnswer",
    "StaticAnswer",
    "reduce_model",
    "respond_pulse",
    "respond_spectrum",
    "respond_static",
]
