"""Writing a description as an assembly file."""

from __future__ import annotations

import os
from copy import deepcopy
from pathlib import Path
from typing import Any

from holokine.describe.document import Document
from holokine.describe.fields import NamesFile
from holokine.describe.walk import located, walk
from holokine.describe.yaml_file import dumped
from holokine.whole import whole_file

__all__ = ["write_document"]


def write_document(document: Document, path: Path) -> Path:
    """Write a description; files that it names are referred to from the new place.

    Raises
    ------
    OutputError
    """
    data = _plain(deepcopy(document.data))
    folder = document.folder.path.resolve()
    here = path.resolve().parent
    if folder != here:
        for at, name, mark in walk(document.description):
            place = located(data, at) if isinstance(mark, NamesFile) and not Path(name).is_absolute() else None
            if place is not None and place[0][place[1]] == name:
                place[0][place[1]] = Path(os.path.relpath(folder / name, here)).as_posix()
    order = ["holokine", "title", "units"]
    kept = {k: data[k] for k in order if data.get(k)} | {k: v for k, v in data.items() if k not in order and v != {}}
    with whole_file(path) as part:
        part.write_text(dumped(kept), encoding="utf-8")
    return path


def _plain(value: Any) -> Any:
    """Plain data: no arrays, no tuples, no sequences of other kinds."""
    if hasattr(value, "tolist"):
        value = value.tolist()
    if isinstance(value, dict):
        return {_plain(k): _plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(v) for v in value]
    if isinstance(value, os.PathLike):
        return os.fspath(value)
    return value
