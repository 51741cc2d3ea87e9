"""Quantities watched, as linear maps of displacement, velocity and, for constraint forces, acceleration."""
