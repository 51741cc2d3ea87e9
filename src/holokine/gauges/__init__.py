"""Quantities watched, as linear maps of displacement, velocity and, for constraint forces, acceleration."""

from holokine.gauges.build import build_gauges
from holokine.gauges.channels import ChannelBlock, Channels, GaugeSet
from holokine.gauges.readings import FORMS, Form, Reading

__all__ = ["FORMS", "ChannelBlock", "Channels", "Form", "GaugeSet", "Reading", "build_gauges"]
