"""Run files: modes and reduced model on disk, with the description they came from."""

from holokine.store.run_file import RunContents, is_run_file, read_run, refuse_overwriting, write_run

__all__ = ["RunContents", "is_run_file", "read_run", "refuse_overwriting", "write_run"]
