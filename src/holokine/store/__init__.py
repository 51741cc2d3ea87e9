"""Run files: stored modes and responses."""
