"""Assembly files as plain data: YAML 1.2 with limits, so that no file can take the machine's time or memory.

What is read are mappings, lists, texts, numbers, truth values and nothing; tags of any other kind are refused, and
nothing that a file says is ever built, called or imported. Aliases and merges are expanded within a budget. The events
come from the compiled parser (libyaml); plain scalars are told apart by the core schema of YAML 1.2.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from hashlib import sha256
from pathlib import Path
from typing import Any, NoReturn

from holokine.describe.files import refuse_devices
from holokine.errors import DescriptionError

__all__ = ["DEEPEST", "YamlFile", "dumped", "read_yaml"]

DEEPEST = 60
"""Levels of keys within keys."""
_LARGEST = 30_000_000  # bytes of a file
_BEYOND = 50_000  # entries that aliases and merges may add
_TIMES = 20  # or as many times the entries that are written
_TAG = "tag:yaml.org,2002:"
_CORE = {"!", *(_TAG + kind for kind in ("str", "int", "float", "bool", "null", "timestamp", "map", "seq"))}
_WORDS: dict[str, Any] = {"": None, "~": None, **dict.fromkeys(("null", "Null", "NULL"))}
_WORDS |= {word: word.lower() == "true" for word in ("true", "True", "TRUE", "false", "False", "FALSE")}
_INTEGER = re.compile(r"[-+]?[0-9]+|0o[0-7]+|0x[0-9a-fA-F]+")
_FLOAT = re.compile(r"[-+]?(?:\.[0-9]+|[0-9]+(?:\.[0-9]*)?)(?:[eE][-+]?[0-9]+)?")
_ODD = re.compile(r"([-+]?)\.(inf|Inf|INF)|\.(nan|NaN|NAN)")


@dataclass(frozen=True)
class YamlFile:
    """What stands in a file.

    Attributes
    ----------
    data : dict
        Plain data.
    lines : dict
        Line (from 1) of every entry by its path.
    digest : str
        SHA-256 of the file's bytes.
    """

    data: dict[str, Any]
    lines: dict[tuple[Any, ...], int]
    digest: str


class _NotPlainError(Exception):
    """Something that has no place in a file, with its line."""

    def __init__(self, problem: str, line: int | None) -> None:
        super().__init__(problem)
        self.line = line


def read_yaml(file: Path) -> YamlFile:
    """Read an assembly file as plain data.

    Raises
    ------
    DescriptionError
        Missing or unreadable, not YAML, nested too deep, expanded beyond all measure, or of tags of other kinds; with
        the line.
    """
    import yaml

    refuse_devices(file)
    try:
        if file.stat().st_size > _LARGEST:
            raise DescriptionError(
                f"{file}: is larger than {_LARGEST // 1_000_000} MB; keep meshes and records in files of their own"
            )
        content = file.read_bytes()
        text = content.decode("utf-8").replace("\r\n", "\n")
    except FileNotFoundError:
        raise DescriptionError(f"{file}: there is no such file") from None
    except (OSError, UnicodeDecodeError) as err:
        raise DescriptionError(f"{file}: cannot be read as text ({err})") from None
    try:
        composer = _Composer(iter(yaml.parse(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))))
        root = composer.document()
        plain = _Plain(_TIMES * composer.entries + _BEYOND)
        data = None if root is None else plain.of(root, ())
    except (yaml.MarkedYAMLError, _NotPlainError) as err:
        at = (
            err.line if isinstance(err, _NotPlainError) else getattr(err.problem_mark or err.context_mark, "line", None)
        )
        problem = str(err) if isinstance(err, _NotPlainError) else err.problem or err.context or "not valid YAML"
        line = "" if at is None else f", line {at + 1}"
        told = problem.strip().split("\n")[0]
        raise DescriptionError(f"{file.name}{line}: not valid YAML: {told}") from None
    except (yaml.YAMLError, ValueError, OverflowError) as err:
        first = str(err).strip().split("\n")[0]
        raise DescriptionError(f"{file.name}: not valid YAML: {first}") from None
    if not isinstance(data, dict):
        raise DescriptionError(f"{file.name}: expected keys and values (holokine: 1, parts: ...)")
    return YamlFile(data, plain.lines, sha256(content).hexdigest())


def dumped(data: dict[str, Any], *, flow: bool | None = None, width: int = 120) -> str:
    """Plain data as YAML that reads back as the same data, short tables on one line."""
    import yaml

    class Dumper(yaml.SafeDumper):
        """Texts that would read as something else stand in quotes."""

        def ignore_aliases(self, data: Any) -> bool:
            return True

    def text(dumper: Any, value: str) -> Any:
        try:
            quoted = value == "<<" or not isinstance(_resolved(value), str)
        except ValueError:
            quoted = True
        return dumper.represent_scalar(_TAG + "str", value, style="'" if quoted else None)

    Dumper.add_representer(str, text)
    Dumper.add_representer(float, lambda dumper, value: dumper.represent_scalar(_TAG + "float", _float(value)))
    made: str = yaml.dump(
        data, Dumper=Dumper, width=width, default_flow_style=flow, sort_keys=False, allow_unicode=True
    )
    return made


def _float(value: float) -> str:
    if value != value:
        return ".nan"
    return repr(value) if abs(value) != float("inf") else (".inf" if value > 0 else "-.inf")


@dataclass(slots=True)
class _Node:
    """A scalar (its value), a list of nodes, or a table (pairs of nodes), with its line from 0."""

    line: int
    value: Any
    kind: str


class _Composer:
    """Nodes of a document from its events; counts entries, and levels so that none is too deep."""

    def __init__(self, events: Iterator[Any]) -> None:
        self._events, self._named, self.entries = events, dict[str, _Node](), 0

    def document(self) -> _Node | None:
        """The one document that there is; None where there is nothing."""
        from yaml.events import DocumentStartEvent, StreamEndEvent

        root = None
        for event in self._events:
            if isinstance(event, DocumentStartEvent):
                if root is not None:
                    raise _NotPlainError("another document begins here, and a file is one", event.start_mark.line)  # type: ignore[union-attr]
                root = self._node(next(self._events), 0)
            elif isinstance(event, StreamEndEvent):
                break
        return root

    def _node(self, event: Any, level: int) -> _Node:
        from yaml.events import AliasEvent, MappingStartEvent, ScalarEvent, SequenceEndEvent

        self.entries += 1
        line = event.start_mark.line
        if level > DEEPEST:
            raise _NotPlainError(f"nested more than {DEEPEST} deep", line)
        if isinstance(event, AliasEvent):
            if event.anchor not in self._named:
                raise _NotPlainError(f'found undefined alias "{event.anchor}"', line)
            return self._named[event.anchor]
        tag, made = event.tag, _Node(line, None, "scalar")
        if tag is not None and tag not in _CORE:
            raise _NotPlainError(f'the tag "{tag}" has no meaning here', line)
        if isinstance(event, ScalarEvent):
            made.value = self._scalar(event, tag)
            made.kind = "merge" if made.value == "<<" and not event.style and tag is None else "scalar"
        elif isinstance(event, MappingStartEvent):
            made.kind, made.value = "table", []
            self._name(event, made)
            while not type(key := next(self._events)).__name__.endswith("EndEvent"):
                made.value.append((self._node(key, level + 1), self._node(next(self._events), level + 1)))
        else:
            made.kind, made.value = "list", []
            self._name(event, made)
            while not isinstance(item := next(self._events), SequenceEndEvent):
                made.value.append(self._node(item, level + 1))
        self._name(event, made)
        return made

    def _name(self, event: Any, made: _Node) -> None:
        if event.anchor:
            self._named[event.anchor] = made

    def _scalar(self, event: Any, tag: str | None) -> Any:
        if tag in (None, "!", _TAG + "str", _TAG + "timestamp") and (tag or event.style):
            return event.value
        try:
            found, kind = _resolved(event.value), str(tag or "").removeprefix(_TAG)
        except ValueError:
            raise _NotPlainError(f'"{event.value[:40]}" is no int', event.start_mark.line) from None
        if not kind:
            return found
        if kind == "float" and type(found) is int:
            return float(found)
        if type(found).__name__.replace("NoneType", "null") != kind:
            raise _NotPlainError(f'"{event.value[:40]}" is no {kind}', event.start_mark.line)
        return found


def _resolved(text: str) -> Any:
    """What a plain scalar stands for; a whole number of thousands of digits is a ValueError."""
    if text in _WORDS:
        return _WORDS[text]
    if text[0] in "+-.0123456789":
        if _INTEGER.fullmatch(text):
            return int(text, 0) if text[:2] in ("0x", "0o") else int(text)
        if _FLOAT.fullmatch(text):
            return float(text)
        odd = _ODD.fullmatch(text)
        if odd:
            return float(f"{odd[1]}inf") if odd[2] else float("nan")
    return text


@dataclass
class _Plain:
    """Plain data of composed nodes, and the line of every entry."""

    left: int
    lines: dict[tuple[Any, ...], int] = field(default_factory=dict)

    def of(self, node: _Node, path: tuple[Any, ...]) -> Any:
        self._spend(node)
        if len(path) > DEEPEST:
            _refuse(node, f"nested more than {DEEPEST} deep")
        if node.kind == "list":
            items = []
            for number, value in enumerate(node.value):
                here = (*path, number)
                self.lines[here] = value.line + 1
                items.append(self.of(value, here))
            return items
        if node.kind != "table":
            return node.value
        chosen: dict[Any, tuple[_Node, _Node, bool]] = {}
        for key, value, merged in self._pairs(node, 0):
            if key.kind not in ("scalar", "merge"):
                _refuse(key, "a list or table cannot be a key")
            if key.value in chosen and not merged and not chosen[key.value][2]:
                _refuse(key, f'found duplicate key "{key.value}"')
            chosen[key.value] = key, value, merged
        result: dict[Any, Any] = {}
        for name, (key, value, _) in chosen.items():
            here = (*path, name)
            self.lines[here] = key.line + 1
            result[name] = self.of(value, here)
        return result

    def _pairs(self, node: _Node, depth: int) -> list[tuple[_Node, _Node, bool]]:
        """Keys and values, and whether they are taken over (``<<``): these first, of several tables the last first."""
        if depth > DEEPEST:
            _refuse(node, f"takes over from tables more than {DEEPEST} deep")
        found: list[tuple[_Node, _Node, bool]] = []
        for key, value in node.value:
            if key.kind == "merge":
                for source in reversed(value.value) if value.kind == "list" else [value]:
                    if source.kind != "table":
                        _refuse(source, "<< takes over tables only")
                    taken = self._pairs(source, depth + 1)
                    self._spend(source, len(taken))
                    found += taken
        return found + [(k, v, depth > 0) for k, v in node.value if k.kind != "merge"]

    def _spend(self, node: _Node, entries: int = 1) -> None:
        self.left -= entries
        if self.left < 0:
            _refuse(node, "aliases (*) and << expand it beyond all measure")


def _refuse(node: _Node, problem: str) -> NoReturn:
    raise _NotPlainError(problem, node.line)
