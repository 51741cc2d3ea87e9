"""The folder in which files that a description names are looked for."""

from __future__ import annotations

import hashlib
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from holokine.errors import DescriptionError, StaleError
from holokine.sizes import afford

__all__ = ["Folder", "refuse_devices"]


def refuse_devices(path: Path) -> None:
    """Raise for what is there and no file that ends: a device, a pipe, a folder; and for one that memory cannot hold.

    Raises
    ------
    DescriptionError
        It is no file, its name cannot be one, or it is too large.
    """
    try:
        status = path.stat()
    except OSError:  # where it is read, it is said why
        return
    except ValueError:
        raise DescriptionError(f"{str(path)!a} cannot be the name of a file") from None
    if not stat.S_ISREG(status.st_mode):
        kind = "a folder" if stat.S_ISDIR(status.st_mode) else "a device or pipe"
        raise DescriptionError(f"{path}: is {kind}, not a file")
    afford(2.0 * status.st_size / 8.0, 1.0, f"numbers of {path.name}", "bring a smaller file", DescriptionError)


class Folder:
    """A folder, or copies kept elsewhere that stand in for its files.

    ``folder / name`` is the path of a file by the name that the description gives it, relative or absolute.
    """

    def __init__(self, path: str | Path = ".", stand_ins: dict[str, Path] | None = None) -> None:
        self.path, self._stand_ins = Path(path), stand_ins or {}
        self._seen: dict[str, tuple[tuple[int, ...], str]] = {}
        self._used: set[str] = set()

    def __truediv__(self, name: str | Path) -> Path:
        path = self._stand_ins.get(str(name), self.path / name)
        self._used.add(str(name))
        refuse_devices(path)
        return path

    def digest(self, name: str) -> str:
        """SHA-256 of a file's contents; of one that is not there, which fails where it is read, a text that says so.

        From then on `steady` knows the file.
        """
        try:
            self._seen[name] = self._looked_at(name)
        except OSError as err:
            return f"{name} cannot be read: {err.strerror}"
        except DescriptionError as err:  # said where it is read
            return f"{name} cannot be read: {err}"
        return self._seen[name][1]

    def _looked_at(self, name: str) -> tuple[tuple[int, ...], str]:
        with (self / name).open("rb") as file:
            return _version(os.fstat(file.fileno())), hashlib.file_digest(file, "sha256").hexdigest()

    @contextmanager
    def steady(self) -> Iterator[None]:
        """Within it, files are read whose digest was taken before; it fails if one is not what it was.

        Raises
        ------
        StaleError
            A file that was used within was replaced or written to since its digest was taken: what was just made would
            be a mixture of both.
        """
        before, self._used = self._used, set[str]()
        try:
            yield
            for name in sorted(self._used & set(self._seen)):
                if self._is_another(name):
                    raise StaleError(f"{self / name}: was replaced or changed since it was first read; start again")
        finally:
            self._used |= before

    def _is_another(self, name: str) -> bool:
        version, digest = self._seen[name]
        try:
            return _version((self / name).stat()) != version and self._looked_at(name)[1] != digest
        except OSError:
            return True


def _version(status: os.stat_result) -> tuple[int, ...]:
    return status.st_ino, status.st_size, status.st_mtime_ns
