"""Modes: extraction, participation, damping, and the checks that come before."""
