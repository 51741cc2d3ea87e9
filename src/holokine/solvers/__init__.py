"""Sparse factorisations, inertia counts and eigenvalue extraction."""

from holokine.solvers.factor import Factor, factorise

__all__ = ["Factor", "factorise"]
