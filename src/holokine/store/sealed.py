"""Run files closed by a seal: a last line with the format, the length and a digest of every byte before it.

HDF5 readers pass over what stands behind the end of their content, so that the file stays plain HDF5. A file whose seal
fits is, byte for byte, what was written; nothing else is handed to the HDF5 library at all.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from hashlib import blake2b
from pathlib import Path
from typing import BinaryIO

from holokine.errors import RunFileError

__all__ = ["FORMAT", "MARK", "is_run_file", "seal", "unsealed"]

FORMAT = 4
MARK = "holokine run"
_SIGNATURE = b"\x89HDF\r\n\x1a\n"
_SEAL = re.compile(rb"\nholokine run, format (\d{1,6}), (\d{1,15}) bytes, blake2b ([0-9a-f]{64})\n\Z")
_LONGEST = 160  # bytes of a seal
_AT_ONCE = 1 << 20


def is_run_file(path: Path) -> bool:
    """Whether a file is HDF5 (it may still be damaged or foreign)."""
    try:
        if not path.is_file():  # a pipe would wait
            return False
        with path.open("rb") as file:
            return file.read(8) == _SIGNATURE
    except OSError:
        return False


def _digest(file: BinaryIO, length: int) -> str:
    file.seek(0)
    found = blake2b(digest_size=32)
    while length > 0:
        piece = file.read(min(length, _AT_ONCE))
        if not piece:
            break
        found.update(piece)
        length -= len(piece)
    return found.hexdigest()


def seal(path: Path, number: int = FORMAT) -> None:
    """Close a written file with its seal, and see it to the disk."""
    with path.open("r+b") as file:
        length = file.seek(0, os.SEEK_END)
        digest = _digest(file, length)
        file.seek(length)
        file.write(f"\n{MARK}, format {number}, {length} bytes, blake2b {digest}\n".encode())


@contextmanager
def unsealed(path: Path) -> Iterator[BinaryIO]:
    """The file, open for reading, once its seal fits.

    One opening serves the check and the reading: a file that is replaced meanwhile is read to its end as it was.

    Raises
    ------
    RunFileError
        Missing, no run file, of another format, not written to its end, or damaged.
    """
    try:
        with path.open("rb") as file:
            _check(path, file)
            file.seek(0)
            yield file
    except FileNotFoundError:
        raise RunFileError(f"{path}: there is no such file") from None
    except IsADirectoryError:
        raise RunFileError(f"{path}: is a folder, not a run file") from None
    except OSError as err:
        raise RunFileError(f"{path}: cannot be read ({err.strerror or err})") from None


def _check(path: Path, file: BinaryIO) -> None:
    if file.read(8) != _SIGNATURE:
        raise RunFileError(f"{path}: is not a run file")
    size = file.seek(0, os.SEEK_END)
    file.seek(max(0, size - _LONGEST))
    end = file.read()
    found = _SEAL.search(end)
    if found is None:
        file.seek(0)
        if MARK.encode() not in file.read(_AT_ONCE):
            raise RunFileError(f"{path}: is an HDF5 file, but not a run file")
        raise RunFileError(
            f"{path}: was not written to its end, was changed afterwards, or is of an earlier version; extract the "
            "modes again"
        )
    if int(found.group(1)) != FORMAT:
        raise RunFileError(f"{path}: has run format {int(found.group(1))}, not {FORMAT}; extract the modes again")
    length = int(found.group(2))
    if length != size - len(found.group(0)) or _digest(file, length) != found.group(3).decode():
        raise RunFileError(
            f"{path}: is damaged (its content is not what was written); extract the modes again, or take a copy"
        )
