"""Reading an assembly file (YAML 1.2) or plain data into a :class:`Description`, with places for errors."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from hashlib import sha256
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from holokine.describe.adjust import adjusted, merged
from holokine.describe.fields import NamesFile
from holokine.describe.files import Folder
from holokine.describe.references import check_references
from holokine.describe.schema import Description, Units
from holokine.describe.stages import Keys
from holokine.describe.walk import walk
from holokine.describe.yaml_file import DEEPEST, read_yaml
from holokine.errors import DescriptionError, HolokineError, UnitError, UnknownKeyError, shown
from holokine.findings import Finding

__all__ = ["Document", "Origin", "Places", "read_document", "translated", "validated", "variant_of"]

_KINDS: dict[str, type[DescriptionError]] = {"unit": UnitError, "key": UnknownKeyError}
_HIDDEN = {"function-before", "function-after", "nullable"}


@dataclass(frozen=True)
class Places:
    """Where each key of a description was written.

    Attributes
    ----------
    source : str
        File name, or "" for Python calls.
    lines : dict
        Line number (from 1) of each path of keys.
    """

    source: str = ""
    lines: dict[tuple[Any, ...], int] = field(default_factory=dict)

    def of(self, path: tuple[Any, ...]) -> str:
        """Words such as ``crate.yaml, line 12: parts, rail left, beam``."""
        steps = []
        for depth, step in enumerate(path):  # what stands second is a name, and shown as it is
            words = str(step) if depth == 1 else str(step).replace("_", " ")
            steps.append(f"item {step + 1}" if isinstance(step, int) else words)
        keys = ", ".join(steps)
        head = self.head(path)
        return f"{head}: {keys}" if keys and head else keys or head

    def head(self, path: tuple[Any, ...]) -> str:
        """File and line alone; nothing for Python calls."""
        if not self.source:
            return ""
        line = next((self.lines[path[:n]] for n in range(len(path), -1, -1) if path[:n] in self.lines), None)
        return self.source if line is None else f"{self.source}, line {line}"


@dataclass(frozen=True)
class Origin:
    """Where a description came from: a file, and variants or changes made to it one after the other.

    Attributes
    ----------
    source : str
        File name; "" for Python calls.
    changes : tuple of (str, dict)
        Name of the variant (or "") and the values put in place.
    digest : str
        SHA-256 of the file's bytes as they were read.
    """

    source: str = ""
    changes: tuple[tuple[str, Any], ...] = ()
    digest: str = ""


@dataclass(frozen=True)
class Document:
    """A validated description with the plain data it came from.

    Attributes
    ----------
    description : Description
        Validated, in SI units.
    data : dict
        What was written, as plain data.
    places : Places
        Where it was written.
    folder : Folder
        Where files that it names are looked for.
    origin : Origin
    """

    description: Description
    data: dict[str, Any]
    places: Places
    folder: Folder
    origin: Origin = Origin()

    @cached_property
    def keys(self) -> Keys:
        """Keys of all stages."""
        return Keys(self.description, self.folder)

    def say_where(self, err: HolokineError) -> None:
        """Put file and line of what an error is about before its text, unless it tells them."""
        source = self.origin.source
        if not source or err.told:
            return
        path = self._written(err.path, err.file)
        # an error that names no entry of ours is about a file, of which the key tells what it is for
        head = (self.places.of(path) if err.file or not err.path else self.places.head(path)) or source
        names = [name for name, _ in self.origin.changes]
        if names:
            head = f"{source}, " + ", ".join(f'variant "{n}"' if n else "changed" for n in names)
        err.args, err.told = (f"{head}: {err}",), True

    def placed(self, finding: Finding) -> Finding:
        """A finding with file and line before its sentence, where it is about an entry that has one."""
        path = self._written(finding.path) if self.origin.source else ()
        head = self.places.head(path)
        return (
            finding if not path or finding.text.startswith(head) else replace(finding, text=f"{head}: {finding.text}")
        )

    def _written(self, path: tuple[Any, ...], file: str = "") -> tuple[Any, ...]:
        """The deepest place in the file of what stands at a path, or of the key that names a file."""
        for at, name, mark in walk(self.description) if file else ():
            if isinstance(mark, NamesFile) and Path(str(name)).name == Path(file).name and at[: len(path)] == path:
                return _as_written(at, self.places)
        for depth in range(len(path), 1, -1):
            found = _as_written(path[:depth], self.places)
            if found in self.places.lines:
                return found
        return ()


def read_document(path: str | Path) -> Document:
    """Read and validate an assembly file.

    Raises
    ------
    DescriptionError
        Missing or unreadable file, YAML errors, and everything that validation finds; each with its line.
    """
    file = Path(path)
    found = read_yaml(file)
    read = validated(found.data, Places(file.name, found.lines), Folder(file.parent))
    return replace(read, origin=Origin(file.name, digest=found.digest))


def known_document(file: Path, data: dict[str, Any], origin: Origin) -> Document | None:
    """The document of a file of which the data are known, unless its bytes have changed since."""
    try:
        if not origin.digest or sha256(file.read_bytes()).hexdigest() != origin.digest:
            return None
    except OSError:
        return None
    known = validated(data, Places(file.name, _Lines(file)), Folder(file.parent), variants=False)
    return replace(known, origin=origin)


class _Lines(dict[tuple[Any, ...], int]):
    """Lines of a file, which is read for them when one is asked for."""

    def __init__(self, file: Path) -> None:
        super().__init__()
        self._file: Path | None = file

    def __contains__(self, path: object) -> bool:
        if self._file is not None:
            file, self._file = self._file, None
            self.update(read_yaml(file).lines)
        return super().__contains__(path)


def validated(data: Mapping[str, Any], places: Places, folder: Folder, *, variants: bool = True) -> Document:
    """Validate plain data (keys of the schema, values with units) and all names that refer to others.

    `variants`: each of them too, so that none is first found wrong when it is asked for.
    """
    _refuse_unfit(data, (), places)
    plain = dict(data)
    spelt = {str(k).replace(" ", "_"): k for k in plain}
    try:
        units = Units.model_validate(plain.get(spelt.get("units", "units")) or {})
        system = units.system()
    except ValidationError as err:
        raise translated(err, places, ("units",)) from None
    except UnitError as err:
        raise UnitError(f"{places.of(('units',))}: {err}") from None
    if "holokine" not in plain and places.source:
        raise DescriptionError(
            f'{places.of(())}: not an assembly file: the first key must be "holokine: 1" (the format version)'
        )
    try:
        description = Description.model_validate(plain, context={"units": system})
    except ValidationError as err:
        raise translated(err, places, ()) from None
    check_references(description, places.of)
    document = Document(adjusted(description), plain, places, folder, Origin(places.source))
    if variants:
        for name, change in description.variants.items():
            variant_of(document, name, change)
    return document


def variant_of(document: Document, name: str, override: Mapping[str, Any], what: str = "changed") -> Document:
    """The document with a variant's values in place of its own; without a name, with changes made by a call (`what`).

    Raises
    ------
    DescriptionError
        Naming the variant, where its values do not fit.
    """

    def where() -> str:
        return document.places.of(("variants", name)) if name else what

    if "variants" in override:
        raise DescriptionError(f"{where()}: a variant cannot have variants")
    plain = merged({k: v for k, v in document.data.items() if k != "variants"}, override)
    try:
        result = validated(plain, Places(), document.folder)
    except DescriptionError as err:
        told = str(err)
        if what != "changed":  # an event given in a call stands in no table
            told = told.removeprefix("events, event given").removeprefix("events, event")
        raise type(err)(f"{where()}{told if told.startswith((',', ':')) else ': ' + told}") from None
    before = document.origin
    return replace(result, origin=Origin(before.source, (*before.changes, (name, dict(override))), before.digest))


def _refuse_unfit(value: Any, path: tuple[Any, ...], places: Places) -> None:
    """Refuse what no key can take: unprintable text, names of several lines, endless numbers, no bottom."""
    if isinstance(value, str):
        found = _UNFIT.search(value)
        if found:
            told = ascii(found.group())
            raise _unfit(path, places, f"the text has a character that cannot be shown ({told} after {found.start()})")
    elif isinstance(value, int):
        if abs(value) > _LARGEST:
            raise _unfit(path, places, f"a whole number may have 18 digits, got {shown(value)}")
    elif isinstance(value, Mapping):
        if len(path) > DEEPEST:
            raise _unfit(path, places, f"nested more than {DEEPEST} deep")
        for key, item in value.items():
            if isinstance(key, str) and (_UNFIT.search(key) or _LINES.search(key) or len(key) > _LONG_NAME):
                words = f"{key[:40]!a} cannot be a name: names are one line of at most {_LONG_NAME} characters"
                raise _unfit(path, places, words)
            if not isinstance(item, float):
                _refuse_unfit(item, (*path, key), places)
    elif isinstance(value, list | tuple):
        if len(path) > DEEPEST:
            raise _unfit(path, places, f"nested more than {DEEPEST} deep")
        for number, item in enumerate(value):
            if not isinstance(item, float):
                _refuse_unfit(item, (*path, number), places)


def _unfit(path: tuple[Any, ...], places: Places, words: str) -> DescriptionError:
    at = places.of(path)
    return DescriptionError(f"{at}: {words}" if at else words)


_UNFIT = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u2028\u2029\ud800-\udfff\ufffe\uffff]")
_LINES = re.compile("[\n\t]")
_LARGEST = 10**18
_LONG_NAME = 200
_TOLD = 20


def translated(err: ValidationError, places: Places, prefix: tuple[Any, ...]) -> HolokineError:
    """What a validator found as one of our errors, each with its place."""
    problems: list[tuple[str, str]] = []
    for item in _of_the_right_kind(err.errors(include_url=False)):
        path = prefix + tuple(p for p in item["loc"] if not (isinstance(p, str) and _hidden(p)))
        message = _in_words(item, path)
        if item["type"] == "missing":
            path = path[:-1]
        at = places.of(_as_written(path, places))
        if "key" in item.get("ctx", {}):  # the line of the key itself, which has no other place
            at = at.replace(places.head(path), places.head((*_as_written(path, places), item["ctx"]["key"])), 1)
        problems.append((item["type"], f"{at}: {message}"))
    seen = list(dict.fromkeys(text for _, text in problems))
    text = seen[0] if len(seen) == 1 else f"{len(seen)} problems:\n" + "\n".join(f"  {t}" for t in seen[:_TOLD])
    if len(seen) > _TOLD:
        text += f"\n  and {len(seen) - _TOLD} more"
    return _KINDS.get(problems[0][0], DescriptionError)(text)


_EXPECTED = {
    "bool": "true or false", "int": "a whole number", "float": "a number", "string": "a text", "tuple": "a list",
    "list": "a list", "dict": "keys and values", "model": "keys and values",
}  # fmt: skip
_BOUNDS = {
    "greater_than": ("greater than", "gt"), "greater_than_equal": ("at least", "ge"), "less_than": ("below", "lt"),
    "less_than_equal": ("at most", "le"),
}  # fmt: skip


def _in_words(item: Any, path: tuple[Any, ...]) -> str:
    """What a validator found, without its own terms."""
    kind, given, more = item["type"], shown(item["input"]), item.get("ctx", {})
    if kind == "missing":
        last = path[-1]
        return (
            f"item {last + 1} is missing" if isinstance(last, int) else f'the key "{last.replace("_", " ")}" is missing'
        )
    if kind == "literal_error":
        if item["input"] is not None and path[-1:] == ("holokine",):
            return f"this version reads format 1 only, got {given}"
        return f"expected {more['expected']}, got {given}"
    if kind in _BOUNDS:
        words, key = _BOUNDS[kind]
        return f"must be {words} {more[key]:g}, got {given}"
    if kind in ("too_short", "too_long"):
        bound, key = ("at least", "min_length") if kind == "too_short" else ("at most", "max_length")
        entries = "entry" if more[key] == 1 else "entries"
        return f"needs {bound} {more[key]} {entries}, got {more['actual_length']}"
    stem, _, rest = kind.partition("_")
    if stem in _EXPECTED and rest in ("type", "parsing", "from_float", "attributes_type"):
        return f"expected {_EXPECTED[stem]}, got {given}"
    return str(item["msg"])


def _of_the_right_kind(errors: list[Any]) -> list[Any]:
    """Without what a table says of a single value that was given in its place, and the other way about."""
    tables = {item["loc"][:k] for item in errors for k, step in enumerate(item["loc"]) if str(step).startswith("dict[")}
    kept = []
    for item in errors:
        loc = item["loc"]
        at = next((k for k in range(len(loc)) if loc[:k] in tables), None)
        as_table = at is not None and str(loc[at]).startswith("dict[")
        given_table = at is not None and (len(loc) > at + 1 or isinstance(item["input"], dict))
        if at is None or as_table == given_table:
            kept.append(item)
    # a list of which no entry is right is called empty besides
    holders = {item["loc"][:k] for item in kept for k in range(len(item["loc"]))}
    return [item for item in kept if item["type"] != "too_short" or item["loc"] not in holders] or errors


def _hidden(step: str) -> bool:
    """Whether a step of a place is the validator's own."""
    return step.startswith(("function-", "kind:", "dict[")) or step in _HIDDEN


def _as_written(path: tuple[Any, ...], places: Places) -> tuple[Any, ...]:
    """Map schema keys (underscores) back to the keys in the file so that their lines are found."""
    done: tuple[Any, ...] = ()
    for step in path:
        options = [step]
        if isinstance(step, str):
            options += [step.replace("_", " "), step.replace("_", "-")]
        done += (next((o for o in options if (*done, o) in places.lines), step),)
    return done
