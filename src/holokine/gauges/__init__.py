"""Quantities watched, as linear maps of displacement, velocity and, for constraint forces, acceleration."""

from holokine.gauges.build import build_gauges
from holokine.gauges.channels import Channel, GaugeSet

__all__ = ["Channel", "GaugeSet", "build_gauges"]
