"""Results by stage and key: in memory, and in run files with the description that they came from."""

from holokine.store.chain import Chain, Memory, ModalChain, changes
from holokine.store.run_file import RunContents, is_run_file, read_run, refuse_overwriting, write_run

__all__ = [
    "Chain",
    "Memory",
    "ModalChain",
    "RunContents",
    "changes",
    "is_run_file",
    "read_run",
    "refuse_overwriting",
    "write_run",
]
