"""Files that appear only when they are complete, and temporary folders that do not outlive their process.

Where the system can, a file that is being written has no name at all (``O_TMPFILE``): whatever ends the process,
nothing is left. Elsewhere, and for writers that go by the ending of a name, it has a hidden name with the number of its
process beside its target; what a process that is no more left in a folder is taken away by the next one that writes
there.
"""

from __future__ import annotations

import contextlib
import io
import os
import re
import secrets
import shutil
import socket
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from holokine.errors import HolokineError, OutputError

__all__ = ["csv_text", "temporary_folder", "whole_csv", "whole_file", "whole_hdf5"]

_HIDDEN = ".holokine-part"
_FOLDER = "holokine-"
_RUN = ("=", "+", "-", "@", "\t", "\r")
_OWNED = re.compile(r"(?:\.holokine-part|holokine)-(?P<host>[0-9A-Za-z_.]+)-(?P<process>\d{1,18})-[0-9a-z_]{8}")


@contextmanager
def whole_file(path: Path, error: type[HolokineError] = OutputError, *, by_ending: bool = False) -> Iterator[Path]:
    """A path to write to, whose content becomes `path` when the block ends well, and vanishes otherwise.

    What stood at `path` is replaced at once, or stays as it was. The content is on the disk when this returns.

    Parameters
    ----------
    by_ending : bool
        The writer goes by the ending of the name it is given.

    Raises
    ------
    HolokineError
        Of the kind given, when the system refuses: no such folder, not allowed, the disk is full.
    """
    try:
        if os.path.isdir(path):
            raise error(f"{path}: is a folder, not a file; choose another name")
        _take_away(path.absolute().parent)
        with (None if by_ending else _nameless(path)) or _named(path) as part:
            yield part
    except OSError as err:
        raise error(f"{path}: cannot be written ({err.strerror or err})") from None


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


def _nameless(path: Path) -> contextlib.AbstractContextManager[Path] | None:
    """A file without a name, reached through its descriptor; None where the system has none."""
    flag = getattr(os, "O_TMPFILE", None)
    if flag is None or not Path("/proc/self/fd").is_dir():
        return None
    try:
        descriptor = os.open(path.absolute().parent, flag | os.O_RDWR, 0o666)
    except OSError:  # this file system has none, or the folder refuses, which a named file then tells
        return None
    return _written(path, descriptor)


@contextmanager
def _written(path: Path, descriptor: int) -> Iterator[Path]:
    try:
        yield Path(f"/proc/{os.getpid()}/fd/{descriptor}")
        os.fsync(descriptor)
        try:
            _link(descriptor, path)
        except FileExistsError:
            between = _beside(path)
            try:
                _link(descriptor, between)
                between.replace(path)
            finally:
                between.unlink(missing_ok=True)
    finally:
        os.close(descriptor)


def _link(descriptor: int, path: Path) -> None:
    """Give it a name; with a folder's descriptor, which the full path overrides, the system call follows the link."""
    os.link(f"/proc/self/fd/{descriptor}", path.absolute(), src_dir_fd=descriptor, follow_symlinks=True)


@contextmanager
def _named(path: Path) -> Iterator[Path]:
    part = _beside(path)
    try:
        yield part
        with part.open("rb") as file:
            os.fsync(file.fileno())
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def _beside(path: Path) -> Path:
    return path.absolute().parent / f"{_HIDDEN}-{_owner()}{path.suffix}"


def _owner() -> str:
    """Which process a name belongs to, with something that no other call has."""
    return f"{_host()}-{os.getpid()}-{secrets.token_hex(4)}"


def _host() -> str:
    return re.sub(r"[^0-9A-Za-z_.]", "_", socket.gethostname())[:40] or "here"


def _take_away(folder: Path, hidden: bool = True) -> None:
    """Remove what processes of this machine that are no more have left in a folder."""
    with contextlib.suppress(OSError):
        for item in list(folder.glob(f"{_HIDDEN}-*" if hidden else f"{_FOLDER}*")):
            owner = _OWNED.match(item.name)
            if owner is None or owner["host"] != _host() or _lives(int(owner["process"])):
                continue
            if item.is_dir() and not item.is_symlink():
                shutil.rmtree(item, ignore_errors=True)
            else:
                with contextlib.suppress(OSError):
                    item.unlink()


def _lives(process: int) -> bool:
    if process == os.getpid():
        return True
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):  # it lives, and is another user's; or the system cannot say
        return True
    return True


def temporary_folder() -> tempfile.TemporaryDirectory[str]:
    """A folder of this process, removed at its end at the latest; those that ended processes left go first.

    Raises
    ------
    OutputError
        There is no folder for temporary files.
    """
    try:
        _take_away(Path(tempfile.gettempdir()), hidden=False)
        return tempfile.TemporaryDirectory(prefix=f"{_FOLDER}{_host()}-{os.getpid()}-")
    except OSError as err:
        told = err.strerror or err
        raise OutputError(f"no folder for temporary files can be used ({told}); name one in TMPDIR") from None
