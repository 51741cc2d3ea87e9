"""Writing tables and figures into a folder, all or nothing per file."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from holokine.errors import OutputError
from holokine.whole import whole_file

__all__ = ["write_all"]


def write_all(
    folder: Path, tables: dict[str, Any], figures: dict[str, Any], files: dict[str, Any], footer: str
) -> list[Path]:
    """Write each table as CSV, each figure as PNG, and files that write themselves to a path.

    A file appears only when it is complete.

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
    written = []
    for name, table in tables.items():
        path = folder / f"{name}.csv"
        with whole_file(path) as part:
            part.write_text(f"# {footer}\n" + table.to_csv(index=False), encoding="utf-8")
        written.append(path)
    for name, draw in figures.items():
        path = folder / f"{name}.png"
        with whole_file(path) as part:
            save(draw(), part)
        written.append(path)
    for name, write in files.items():
        path = folder / name
        write(path)
        written.append(path)
    return written
