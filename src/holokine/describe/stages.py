"""Stages: what each step of the computation reads of a description, and its key.

    mesh → system → state → modes ─┬→ damping ──┐
               │      └───→ gauges ┼→ reduced ──┼→ answer → (limits)
               └────→ dampers ─────┘            ┘

A stage declares the entries that it starts from; what these name (materials, points, groups, files ...) belongs to it
as far as no stage below has it already. Its key is a hash of all that in canonical form, in SI and with the contents of
named files, and of the keys below. Equal keys mean equal results, on every machine; what differs is made anew or
refused. Texts (the title) and entries that nothing names are in no key.

The state is the one that the description switches on (`state`), with its loads; none is that of the unloaded
assembly. What is computed about one state is never taken for another.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal, get_args

from pydantic import BaseModel

from holokine.describe.events import EventKind
from holokine.describe.fields import NamesFile, Strict
from holokine.describe.files import Folder
from holokine.describe.references import table_of
from holokine.describe.schema import Description
from holokine.describe.walk import walk, walk_field

__all__ = ["STAGES", "Basis", "Keys", "Request", "Stage", "StageName", "VectorRequest", "differences"]

StageName = Literal["mesh", "system", "dampers", "state", "modes", "damping", "gauges", "reduced", "reading"]
Path = tuple[Any, ...]
Plain = Any  # nested dicts and lists of texts, numbers and truth values


@dataclass(frozen=True)
class Stage:
    """What a stage reads.

    Attributes
    ----------
    name : str
    below : tuple of str
        Stages whose results it takes.
    tables : tuple of str
        Fields of the description that it starts from.
    version : int
        To be raised when the same input gives other results.
    """

    name: StageName
    below: tuple[StageName, ...] = ()
    tables: tuple[str, ...] = ()
    version: int = 1


_STRUCTURE = ("parts", "masses", "springs", "bushings", "links", "joints", "ties", "supports", "matrices")
STAGES: dict[StageName, Stage] = {
    s.name: s
    for s in (
        Stage("mesh", (), ("parts", "merge_tolerance", "matrices")),
        Stage("system", ("mesh",), (*_STRUCTURE, "mass_matrix", "massless")),
        Stage("dampers", ("system",), ("springs", "bushings", "joints")),
        Stage("state", ("system",), ("states",)),
        Stage("modes", ("state",)),
        Stage("damping", ("modes", "dampers"), ("damping", "materials", "springs", "bushings", "joints")),
        Stage("gauges", ("state",), ("gauges",)),
        Stage("reduced", ("modes", "gauges", "dampers")),
        Stage("reading", (), ("groups", "bands", "limits")),
    )
}
_ORDERED = frozenset({"parts", "points", "joints", "gauges"})
"""Tables whose order numbers nodes or channels."""


@dataclass(frozen=True)
class Request:
    """Which modes are asked for, in Hz: the lowest, a band, or those next to a frequency.

    `default`: nothing was asked for, and the description (or the usual count) decides.
    """

    count: int | None = None
    upto: float | None = None
    above: float | None = None
    near: float | None = None
    default: bool = False

    @classmethod
    def of(
        cls,
        d: Description,
        count: int | None = None,
        upto: float | None = None,
        above: float | None = None,
        near: float | None = None,
    ) -> Request:
        """What is asked for, completed by what the description says."""
        if near is not None and count is None:
            count = 10
        if count is None and upto is None:
            return cls(d.modes.count, d.modes.upto, above, near, default=True)
        return cls(count, upto, above, near)

    def again(self, d: Description) -> Request:
        """The same request of another description."""
        return Request.of(d, None, None, self.above, self.near) if self.default else self

    def plain(self, keys: Keys) -> dict[str, Plain]:
        """For keys; whether it was asked for or taken from the description makes no difference."""
        return {"count": self.count, "upto": self.upto, "above": self.above, "near": self.near}


@dataclass(frozen=True)
class VectorRequest:
    """Load-dependent vectors in place of modes: how many, and for which event (by name, or given by itself)."""

    event: EventKind
    count: int
    name: str = ""

    def again(self, d: Description) -> VectorRequest:
        """The same request of another description."""
        return VectorRequest(d.events.get(self.name, self.event), self.count, self.name)

    def plain(self, keys: Keys) -> dict[str, Plain]:
        """For keys."""
        return {"vectors": self.count, "event": keys.event_inputs(self.event)}


Basis = Request | VectorRequest


@dataclass
class Keys:
    """Keys of all stages of one description."""

    description: Description
    folder: Folder = field(default_factory=Folder)

    def of(self, stage: StageName, request: Basis | None = None) -> str:
        """Key of a stage, as 64 hexadecimal digits; of `modes` and what rests on them for a request."""
        name = (stage, id(request) if isinstance(request, VectorRequest) else request)
        if name not in self._made:
            s = STAGES[stage]
            below = [self.of(b, request) for b in s.below]
            asked = request.plain(self) if stage == "modes" and request is not None else None
            self._made[name] = _hash([stage, s.version, below, self.inputs(stage), asked])
        return self._made[name]

    def of_answer(self, event: EventKind, request: Basis | None) -> str:
        """Key of the answer to an event."""
        rests_on: tuple[StageName, ...] = ("reduced", "damping") if event.needs_modes else ("gauges",)
        below = [self.of(stage, request) for stage in rests_on]
        return _hash(["answer", 1, event.kind, below, self.event_inputs(event)])

    def inputs(self, stage: StageName) -> dict[str, Plain]:
        """What a stage reads beyond the stages below, in canonical form: tables of entries, and files by contents."""
        if stage not in self._inputs:
            self._inputs[stage] = self._read(stage)
        return self._inputs[stage]

    def event_inputs(self, event: EventKind) -> dict[str, Plain]:
        """The same for an event, with loads and static events that it names."""
        taken = self._taken("gauges")
        found, files = self._reached([((), event)], taken)
        return {
            "kind": event.kind,
            "event": _canonical(event, None),
            **self._entries(found, None),
            **self._hashed(files),
        }

    @cached_property
    def _made(self) -> dict[Any, str]:
        return {}

    @cached_property
    def _inputs(self) -> dict[StageName, dict[str, Plain]]:
        return {}

    def _read(self, stage: StageName) -> dict[str, Plain]:
        d, s = self.description, STAGES[stage]
        result: dict[str, Plain] = {}
        if stage == "state":
            return self._of_state()
        for table in s.tables:
            value = getattr(d, table)
            if stage == "damping" and table == "materials":
                losses = {n: m.loss_factor for n, m in value.items() if m.loss_factor}
                used = {m for p in d.parts.values() for m in p.materials}
                result[table] = {n: _number(e) for n, e in losses.items() if n in used}
            elif stage == "damping" and table != "damping":
                result[table] = {n: _number(e.loss_factor) for n, e in value.items() if e.loss_factor}
            elif stage == "damping":
                result[table] = _canonical(d.damping_used, None)
            elif stage == "dampers":
                result[table] = {n: _canonical(e.damping, None) for n, e in value.items()}
            elif stage == "reading" or value is not None:
                result[table] = _table(table, value, stage)
        if stage in ("dampers", "reading"):
            return result
        roots = [((t,), getattr(d, t)) for t in s.tables if t != "materials"]
        if stage == "mesh":  # every point that carries something is a node
            roots = [((t,), getattr(d, t)) for t in _STRUCTURE]
        taken = set().union(*(self._taken(b) for b in s.below)) if s.below else set()
        found, files = self._reached(roots, taken)
        if stage == "mesh":
            found = [f for f in found if f[0] == "points"]
            files = [f for p, f in self._files(((t,), getattr(d, t)) for t in ("parts", "matrices"))]
        if stage == "system":
            found = [f for f in found if f[0] not in _STRUCTURE]
        result |= self._entries(found, stage)
        return {**result, **self._hashed(files)}

    def _of_state(self) -> dict[str, Plain]:
        """The state that is switched on, its loads, and expansions that its temperatures need."""
        d = self.description
        if d.state is None:
            return {}
        own = d.states[d.state]
        result: dict[str, Plain] = {"state": _canonical(own, None)}
        if own.temperature:
            every = {n: m.expansion for n, m in d.materials.items() if m.expansion is not None}
            result["expansions"] = {n: _number(v) for n, v in every.items()}
        found, files = self._reached([(("states",), {d.state: own})], self._taken("system"))
        return {**result, **self._entries(found, None), **self._hashed(files)}

    def _taken(self, stage: StageName) -> set[tuple[str, str]]:
        """Entries that a stage and those below have."""
        if stage not in self._owned:
            s = STAGES[stage]
            taken = set().union(*(self._taken(b) for b in s.below)) if s.below else set()
            d = self.description
            tables = _STRUCTURE if stage in ("mesh", "system") else s.tables
            own = [((t,), getattr(d, t)) for t in tables]
            if stage == "state":  # its loads and their points are in its key by themselves, not taken from others
                own, tables = [], ()
            if stage == "mesh":
                reached = {f for f in self._reached(own, set())[0] if f[0] == "points"}
            else:
                reached = set(self._reached(own, set())[0])
                reached |= {(t, n) for t in tables if isinstance(getattr(d, t), dict) for n in getattr(d, t)}
            self._owned[stage] = taken | reached
        return self._owned[stage]

    @cached_property
    def _owned(self) -> dict[StageName, set[tuple[str, str]]]:
        return {}

    def _reached(
        self, roots: list[tuple[Path, Any]], taken: set[tuple[str, str]]
    ) -> tuple[list[tuple[str, str]], list[str]]:
        """Entries that roots name, directly or through others, beyond those taken; and files."""
        d = self.description
        found: dict[tuple[str, str], None] = {}
        files: dict[str, None] = {}
        open_: list[tuple[Path, Any]] = list(roots)
        while open_:
            path, value = open_.pop()
            for _, name, mark in _walk_any(value, path):
                if isinstance(mark, NamesFile):
                    files[name] = None
                    continue
                table = table_of(d, mark, name)
                entry = None if table is None else (table, name)
                if entry is None or entry in found:
                    continue
                found[entry] = None
                if entry not in taken:
                    open_.append(((table,), {name: getattr(d, str(table))[name]}))
        return [f for f in found if f not in taken], list(files)

    def _files(self, roots: Iterator[tuple[Path, Any]]) -> Iterator[tuple[Path, str]]:
        for path, value in roots:
            for at, name, mark in _walk_any(value, path):
                if isinstance(mark, NamesFile):
                    yield at, name

    def _entries(self, found: list[tuple[str, str]], stage: StageName | None) -> dict[str, Plain]:
        d = self.description
        result: dict[str, Plain] = {}
        order = {(t, n): i for t in ("points", "joints") for i, n in enumerate(getattr(d, t))}
        for table, name in sorted(found, key=lambda f: (f[0], order.get(f, 0), f[1])):
            result.setdefault(f"of {table}", {})[name] = _canonical(getattr(d, table)[name], stage)
        if "of points" in result:
            result["of points"] = [[n, p] for n, p in result["of points"].items()]
        return result

    def _hashed(self, files: list[str]) -> dict[str, Plain]:
        found = {}
        for name in files:
            if name not in self._contents:
                self._contents[name] = self.folder.digest(name)
            found[name] = self._contents[name]
        return {"files": sorted(found.values())} if found else {}

    @cached_property
    def _contents(self) -> dict[str, str]:
        return {}

    def file_names(self) -> list[str]:
        """All files that the description names."""
        return list(dict.fromkeys(name for _, name, mark in walk(self.description) if isinstance(mark, NamesFile)))


def _walk_any(value: Any, path: Path) -> Iterator[tuple[Path, str, Any]]:
    """Marks in a model, or in what a field of the description holds."""
    if isinstance(value, BaseModel):
        yield from walk(value, path)
    elif isinstance(value, dict) and path:
        yield from walk_field(Description, path[0], value)


def _table(name: str, value: Any, stage: StageName) -> Plain:
    if isinstance(value, dict):
        pairs = [[k, _canonical(v, stage)] for k, v in value.items()]
        return pairs if name in _ORDERED else dict(pairs)
    return _canonical(value, stage)


def _number(value: float) -> float | str:
    """A number without the last digits, in which units and machines differ."""
    return float(f"{value:.12g}") + 0.0 if value == value and abs(value) != float("inf") else str(value)


def _canonical(value: Any, stage: StageName | None) -> Plain:
    """A value as plain data, in SI, independent of how it was written."""
    if isinstance(value, BaseModel):
        later, whether = frozenset[str](), frozenset[str]()
        if isinstance(value, Strict):
            later, whether = value.left_to_later.get(stage or "", later), value.whether
        marks = _file_fields(type(value))
        result = {}
        for name in type(value).model_fields:
            own = getattr(value, name)
            if name in later:
                if name in whether:
                    result[f"whether {name}"] = _whether(own)
            elif own is not None and name not in marks:
                result[name] = _canonical(own, stage)
        return result
    if isinstance(value, bool | str) or value is None:
        return value
    if isinstance(value, int | float):
        return _number(float(value))
    if isinstance(value, dict):
        return {str(k): _canonical(v, stage) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_canonical(v, stage) for v in value]
    return str(value)


def _whether(value: Any) -> Plain:
    return [bool(v) for v in value] if isinstance(value, list | tuple) else bool(value)


def _file_fields(model: type[BaseModel]) -> frozenset[str]:
    """Fields that hold the name of a file: its contents stand for it."""
    if model not in _FILE_FIELDS:
        _FILE_FIELDS[model] = frozenset(
            name
            for name, f in model.model_fields.items()
            if any(isinstance(m, NamesFile) for m in (*f.metadata, *_metadata(f.annotation)))
        )
    return _FILE_FIELDS[model]


_FILE_FIELDS: dict[type[BaseModel], frozenset[str]] = {}


def _metadata(annotation: Any) -> list[Any]:
    found = list(getattr(annotation, "__metadata__", ()))
    for a in get_args(annotation):
        found += getattr(a, "__metadata__", ())
    return found


def _hash(value: Plain) -> str:
    return hashlib.sha256(json.dumps(value, sort_keys=True, separators=(",", ":")).encode()).hexdigest()


def differences(before: Keys, now: Keys, stages: tuple[StageName, ...]) -> list[Path]:
    """Paths at which the inputs of stages differ, such as ``("materials", "steel", "E")``; files by their name."""
    found: dict[Path, None] = {}
    for stage in stages:
        for path in _differ(before.inputs(stage), now.inputs(stage), ()):
            table = str(path[0]).removeprefix("of ") if path else ""
            if table == "files":
                names = dict.fromkeys([*before.file_names(), *now.file_names()])
                for name in names:
                    if before.folder.digest(name) != now.folder.digest(name):
                        found["files", name] = None
            else:
                found[(table, *path[1:])] = None
    order = {name: i for i, name in enumerate(Description.model_fields)}
    return sorted(found, key=lambda path: order.get(path[0], len(order)))


def _differ(a: Plain, b: Plain, path: Path) -> Iterator[Path]:
    if a == b:
        return
    if _is_table(a) and _is_table(b):
        a, b = dict(a), dict(b)
        if a == b:
            yield (*path, "order")
            return
    if isinstance(a, dict) and isinstance(b, dict):
        for key in dict.fromkeys([*a, *b]):
            if a.get(key) != b.get(key):
                yield from _differ(a.get(key), b.get(key), (*path, key))
        return
    yield path


def _is_table(value: Plain) -> bool:
    """Whether it is a table in its order: pairs of a name and an entry."""
    return isinstance(value, list) and all(isinstance(p, list) and len(p) == 2 and isinstance(p[0], str) for p in value)
