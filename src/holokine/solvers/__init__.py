"""Sparse factorisations, inertia counts and eigenvalue extraction."""

from holokine.solvers.factor import Factor, Pencil, factorise

__all__ = ["Factor", "Pencil", "factorise"]
