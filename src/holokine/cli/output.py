"""Writing tables and figures into a folder, all or nothing per file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from holokine.errors import OutputError
from holokine.progress import tell
from holokine.whole import whole_csv, whole_file

__all__ = ["ABOUT", "write_all"]

ABOUT = "about.txt"


def write_all(
    folder: Path, tables: dict[str, Any], figures: dict[str, Any], files: dict[str, Any], footer: str
) -> list[Path]:
    """Write each table as CSV, each figure as PNG, and files that write themselves to a path.

    A file appears only when it is complete. Tables are plain CSV; what made each file stands in `ABOUT` beside them, a
    line per file, in which a later run replaces the lines of the files that it writes anew.

    Raises
    ------
    OutputError
        When the folder cannot be made or written to.
    """
    from holokine.show.figures import save

    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise OutputError(f"{folder}: cannot be used as a folder ({err.strerror})") from None
    written: list[Path] = []
    total = len(tables) + len(figures) + len(files)

    def told(path: Path) -> Path:
        tell(f"writing {path.name}", len(written), total, "files")
        return path

    for name, table in tables.items():
        path = told(folder / f"{name}.csv")
        whole_csv(table, path)
        written.append(path)
    for name, draw in figures.items():
        path = told(folder / f"{name}.png")
        save(draw(), path)
        written.append(path)
    for name, write in files.items():
        path = told(folder / name)
        write(path)
        written.append(path)
    _note(folder / ABOUT, [path.name for path in written], footer)
    return written


def _note(path: Path, names: list[str], footer: str) -> None:
    """Say of each file what made it."""
    old: dict[str, str] = {}
    if path.is_file():
        lines = path.read_text(encoding="utf-8", errors="replace").splitlines()
        old = dict(line.split(": ", 1) for line in lines if ": " in line)
    told = {**old, **dict.fromkeys(names, footer)}
    with whole_file(path) as part:
        part.write_text("".join(f"{name}: {what}\n" for name, what in told.items()), encoding="utf-8")
