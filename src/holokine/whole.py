"""Files that appear only when they are complete: written beside their place under a hidden name, then moved there."""

from __future__ import annotations

import contextlib
import io
import os
import secrets
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from holokine.errors import HolokineError, OutputError

__all__ = ["csv_text", "temporary_folder", "whole_csv", "whole_file", "whole_hdf5"]

HIDDEN = ".holokine-"
_RUN = ("=", "+", "-", "@", "\t", "\r")


@contextmanager
def whole_file(path: Path, error: type[HolokineError] = OutputError) -> Iterator[Path]:
    """A path to write to, whose content becomes `path` when the block ends well, and vanishes otherwise.

    What stood at `path` is replaced at once, or stays as it was. The content is on the disk when this returns. The
    hidden name has the ending of `path`, for writers that go by it.

    Raises
    ------
    HolokineError
        Of the kind given, when the system refuses: no such folder, not allowed, the disk is full.
    """
    part = path.absolute().parent / f"{HIDDEN}{secrets.token_hex(6)}{path.suffix}"
    try:
        if os.path.isdir(path):
            raise error(f"{path}: is a folder, not a file; choose another name")
        yield part
        with part.open("rb") as file:
            os.fsync(file.fileno())
        part.replace(path)
    except OSError as err:
        raise error(f"{path}: cannot be written ({err.strerror or err})") from None
    finally:
        with contextlib.suppress(OSError):
            part.unlink(missing_ok=True)


def whole_csv(table: Any, path: Path, **keys: Any) -> None:
    """Write a DataFrame as CSV (`csv_text`), whole or not at all.

    Raises
    ------
    OutputError
    """
    with whole_file(path) as part:
        _harmless(table).to_csv(part, index=False, **keys)


def csv_text(table: Any) -> str:
    """A DataFrame as CSV without its index (`keys` as of `to_csv`).

    Texts that a spreadsheet would run as a formula have an apostrophe before them, which it takes for text.
    """
    return str(_harmless(table).to_csv(index=False))


def _harmless(table: Any) -> Any:
    def told(value: Any) -> Any:
        if isinstance(value, str) and value[:1] in _RUN and not _number(value):
            return f"'{value}"
        return value

    texts = [c for c, kind in enumerate(table.dtypes) if str(kind).startswith(("object", "str"))]
    result = table.rename(columns=told)
    if texts:
        result = result.copy(deep=False)
        for c in texts:
            result.isetitem(c, result.iloc[:, c].map(told))
    return result


def _number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return text == "-"
    return True


class _Sturdy(io.FileIO):
    """A file that keeps the first refusal of the system for later: the HDF5 library does not survive one."""

    refused: OSError | None = None

    def write(self, data: Any) -> int:
        if self.refused is None:
            try:
                left = memoryview(data).cast("B")
                while len(left):
                    left = left[super().write(left) or 0 :]
            except OSError as err:
                self.refused = err
        return memoryview(data).nbytes

    def truncate(self, size: int | None = None) -> int:
        try:
            return super().truncate(size)
        except OSError as err:
            self.refused = self.refused or err
            return size or 0


@contextmanager
def whole_hdf5(
    path: Path, error: type[HolokineError] = OutputError, close: Callable[[Path], None] = lambda _: None
) -> Iterator[Any]:
    """An HDF5 file to write to (`h5py.File`), in the manner of `whole_file`; `close` is given it when it is written.

    Raises
    ------
    HolokineError
    """
    import h5py

    with whole_file(path, error) as part:
        with _Sturdy(part, "w+") as raw:
            with h5py.File(raw, "w") as file:
                yield file
            if raw.refused is not None:
                raise raw.refused
        close(part)


def temporary_folder() -> tempfile.TemporaryDirectory[str]:
    """A folder of this process, removed at its end at the latest.

    Raises
    ------
    OutputError
        There is no folder for temporary files.
    """
    try:
        return tempfile.TemporaryDirectory(prefix="holokine-")
    except OSError as err:
        told = err.strerror or err
        raise OutputError(f"no folder for temporary files can be used ({told}); name one in TMPDIR") from None
