"""Writing tables and figures into a folder, all or nothing per file."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from holokine.errors import DescriptionError

__all__ = ["write_all"]


def write_all(
    folder: Path, tables: dict[str, Any], figures: dict[str, Any], files: dict[str, Any], footer: str
) -> list[Path]:
    """Write each table as CSV, each figure as PNG, and files that write themselves to a path.

    A file appears only when it is complete.

    Raises
    ------
    DescriptionError
        When the folder cannot be made or written to.
    """
    from holokine.show.figures import save

    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise DescriptionError(f"{folder}: cannot be used as a folder ({err.strerror})") from None
    written = []
    for name, table in tables.items():
        path = folder / f"{name}.csv"
        _replace(path, lambda p, t=table: p.write_text(f"# {footer}\n" + t.to_csv(index=False), encoding="utf-8"))
        written.append(path)
    for name, draw in figures.items():
        path = folder / f"{name}.png"
        _replace(path, lambda p, d=draw: save(d(), p))
        written.append(path)
    for name, write in files.items():
        path = folder / name
        write(path)
        written.append(path)
    return written


def _replace(path: Path, write: Any) -> None:
    part = path.with_name(f".part_{path.name}")
    try:
        write(part)
        os.replace(part, path)
    except OSError as err:
        raise DescriptionError(f"{path}: cannot be written ({err.strerror})") from None
    finally:
        part.unlink(missing_ok=True)
