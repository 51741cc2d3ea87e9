"""What a run file must hold, checked whole before anything of it is believed.

Each entry has a type and a shape whose names (modes, dofs, channels ...) are bound by the first entry that uses them
and must agree in all others. Entries that are not listed, links to elsewhere, and numbers that are not finite are
refused.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from pydantic import TypeAdapter, ValidationError

from holokine.errors import RunFileError

__all__ = ["Array", "Group", "Layout", "Text", "checked_json"]

Shape = tuple[int | str, ...]


@dataclass(frozen=True)
class Array:
    """Numbers (``f``), whole numbers (``i``), truth values (``b``) or bytes (``u``) of a shape."""

    kind: Literal["f", "i", "b", "u"]
    shape: Shape
    needed: bool = True
    known: bool = True  # without NaN for what is not known


@dataclass(frozen=True)
class Text:
    """One text."""

    needed: bool = True


@dataclass(frozen=True)
class Group:
    """Entries by name; with `each`, any number of one kind, called 0, 1, 2 ... (`named`: told by an attribute)."""

    entries: dict[str, Entry]
    each: Entry | None = None
    attributes: tuple[str, ...] = ()
    named: bool = False
    needed: bool = True


Entry = Array | Text | Group
_SIZES = {"f": 8, "i": 8, "b": 1, "u": 1}


class Layout:
    """Reads a file by what it must hold."""

    def __init__(self, file: Any) -> None:
        self._file, self._sizes = file, dict[str, int]()

    def read(self, expected: Group) -> dict[str, Any]:
        """Everything, as arrays, texts and dictionaries; attributes of a group under ``@name``.

        Raises
        ------
        RunFileError
            Naming the entry that does not fit.
        """
        return self._group(self._file, expected, "")

    def _group(self, group: Any, expected: Group, path: str) -> dict[str, Any]:
        import h5py

        names = set(group)
        unknown = sorted(names - set(expected.entries)) if expected.each is None else []
        if expected.each is not None:
            unknown = sorted(n for n in names - set(expected.entries) if not (n.isdecimal() and int(n) < len(names)))
        if unknown:
            raise RunFileError(f"{path}{unknown[0]!r} has no place in it")
        found: dict[str, Any] = {}
        for name in expected.attributes:
            found[f"@{name}"] = self._attribute(group, name, path)
        wanted = {**expected.entries}
        if expected.each is not None:
            wanted |= dict.fromkeys(sorted(names - set(expected.entries), key=int), expected.each)
        for name, entry in wanted.items():
            at = f"{path}{name}"
            if name not in names:
                if entry.needed:
                    raise RunFileError(f"{at} is not there")
                continue
            if not isinstance(group.get(name, getlink=True), h5py.HardLink):
                raise RunFileError(f"{at} is a link to elsewhere")
            item = group[name]
            if isinstance(entry, Group):
                if not isinstance(item, h5py.Group):
                    raise RunFileError(f"{at} is no group")
                found[name] = self._group(item, entry, f"{at}/")
            elif not isinstance(item, h5py.Dataset):
                raise RunFileError(f"{at} is no data")
            else:
                key = self._attribute(item, "name", f"{at}/") if expected.named else name
                found[key] = self._text(item, at) if isinstance(entry, Text) else self._array(item, entry, at)
        return found

    def _attribute(self, item: Any, name: str, path: str) -> str:
        value = item.attrs.get(name)
        if not isinstance(value, str):
            raise RunFileError(f"the attribute {path}{name} is not there, or no text")
        return value

    def _text(self, item: Any, at: str) -> str:
        import h5py

        if item.shape != () or h5py.check_string_dtype(item.dtype) is None:
            raise RunFileError(f"{at} is no text")
        raw = item[()]
        return raw.decode("utf-8") if isinstance(raw, bytes) else str(raw)

    def _array(self, item: Any, expected: Array, at: str) -> np.ndarray[Any, Any]:
        kind = item.dtype.kind
        if kind != expected.kind or item.dtype.itemsize != _SIZES[expected.kind]:
            raise RunFileError(f"{at} is of the type {item.dtype}")
        shape = item.shape
        if shape is None or len(shape) != len(expected.shape):
            raise RunFileError(f"{at} has the shape {shape}")
        for size, name in zip(shape, expected.shape, strict=True):
            own = f"{at} {name}" if name == "any" else name
            if size != (own if isinstance(own, int) else self._sizes.setdefault(own, size)):
                raise RunFileError(f"{at} has the shape {shape}, which does not fit the others")
        values = np.asarray(item[()])
        if kind == "f" and not (np.isfinite(values) | (np.isnan(values) & (not expected.known))).all():
            raise RunFileError(f"{at} holds numbers that are not finite")
        values.setflags(write=False)
        return values


def checked_json(kind: Any, text: str, at: str) -> Any:
    """Data of a declared type from JSON.

    Raises
    ------
    RunFileError
        It is no JSON, or of other types.
    """
    try:
        return TypeAdapter(kind).validate_json(text, strict=True)
    except ValidationError as err:
        first = err.errors(include_url=False)[0]
        where = ", ".join(str(p) for p in (at, *first["loc"]))
        raise RunFileError(f"{where}: {first['msg']}") from None
