"""The demo assembly, and the JSON schema of assembly files."""

from __future__ import annotations

from pathlib import Path

__all__ = ["assembly_schema", "demo_folder"]


def demo_folder() -> Path:
    """Folder with the demo assembly file and the spectrum it names."""
    return Path(__file__).parent


def assembly_schema() -> Path:
    """The JSON schema of assembly files, for editors that complete and check while one writes."""
    return Path(__file__).parent / "assembly.schema.json"
