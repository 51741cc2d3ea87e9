"""Sparse factorisations, inertia counts and eigenvalue extraction."""
