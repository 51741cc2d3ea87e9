"""The folder in which files that a description names are looked for."""

from __future__ import annotations

from pathlib import Path

__all__ = ["Folder"]


class Folder:
    """A folder, or copies kept elsewhere that stand in for its files.

    ``folder / name`` is the path of a file by the name that the description gives it, relative or absolute.
    """

    def __init__(self, path: str | Path = ".", stand_ins: dict[str, Path] | None = None) -> None:
        self.path, self._stand_ins = Path(path), stand_ins or {}

    def __truediv__(self, name: str | Path) -> Path:
        return self._stand_ins.get(str(name), self.path / name)
