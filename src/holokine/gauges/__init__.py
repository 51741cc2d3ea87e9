"""Quantities watched, as linear maps of displacement, velocity and, for constraint forces, acceleration."""

from holokine.gauges.channels import Channel, GaugeSet
from holokine.gauges.build import build_gauges

__all__ = ["Channel", "GaugeSet", "build_gauges"]
