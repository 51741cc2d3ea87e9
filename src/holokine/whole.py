"""Files that appear only when they are complete."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from holokine.errors import HolokineError, OutputError

__all__ = ["whole_file"]


@contextmanager
def whole_file(path: Path, error: type[HolokineError] = OutputError) -> Iterator[Path]:
    """A name beside `path` to write under; moved into place when the block ends well, else removed.

    Raises
    ------
    HolokineError
        Of the kind given, when the system refuses.
    """
    part = path.with_name(f".part_{path.name}")
    try:
        yield part
        part.replace(path)
    except OSError as err:
        raise error(f"{path}: cannot be written ({err.strerror or err})") from None
    finally:
        part.unlink(missing_ok=True)
