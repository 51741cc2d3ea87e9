"""Sparse factorisations, Sturm counts and eigenvalue extraction."""
