"""The demo data: a made-up converter crate on the roof of a tram."""

from __future__ import annotations

from pathlib import Path

__all__ = ["demo_folder"]


def demo_folder() -> Path:
    """Folder of the shipped demo files (crate.yaml and the tables it names)."""
    return Path(__file__).parent
