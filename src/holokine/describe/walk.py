"""Walking a description: every value with its path and what its field declares (names of entries, names of files)."""

from __future__ import annotations

import types
from collections.abc import Callable, Iterator
from functools import cache
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import BaseModel

from holokine.describe.fields import Names, NamesFile

__all__ = ["Found", "located", "walk", "walk_field"]

Path = tuple[Any, ...]
Mark = Names | NamesFile
Found = tuple[Path, str, Mark]
Visit = Callable[[Any, Path], Iterator[Found]]


def walk(model: BaseModel, path: Path = ()) -> Iterator[Found]:
    """Path, text and mark of every field of a model (and all within it) that names an entry or a file."""
    for name, visit in _plan(type(model)):
        value = getattr(model, name)
        if value is not None:
            yield from visit(value, (*path, name))


def walk_field(model: type[BaseModel], name: str, value: Any) -> Iterator[Found]:
    """The same of a value that could be that of one field of a model."""
    visit = dict(_plan(model)).get(name)
    if visit is not None and value is not None:
        yield from visit(value, (name,))


@cache
def _plan(model: type[BaseModel]) -> tuple[tuple[str, Visit], ...]:
    """Fields of a model that hold anything marked, with how to look into them."""
    found = []
    for name, field in model.model_fields.items():
        annotation: Any = field.annotation
        if field.metadata:
            annotation = Annotated[annotation, *field.metadata]
        visit = _visitor(annotation)
        if visit is not None:
            found.append((name, visit))
    return tuple(found)


def _visitor(annotation: Any) -> Visit | None:
    """How to look into a value of this type; None where nothing in it can be marked."""
    origin, args = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        mark = next((m for m in annotation.__metadata__ if isinstance(m, Names | NamesFile)), None)
        if mark is not None:
            return lambda value, path: iter([(path, value, mark)])
        return _visitor(args[0])
    if origin in (Union, types.UnionType):
        choices = [(a, v) for a in _alternatives(annotation) if (v := _visitor(a)) is not None]
        return _either(choices) if choices else None
    if origin is tuple:
        inner = [_visitor(a) for a in args if a is not Ellipsis]
        return _each(inner) if any(inner) else None
    if origin is dict:
        return _entries(_visitor(args[0]), _visitor(args[1]))
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return lambda value, path: walk(value, path)
    return None


def _alternatives(annotation: Any) -> Iterator[Any]:
    """The types that a value may have, unions within unions opened."""
    origin, args = get_origin(annotation), get_args(annotation)
    if origin in (Union, types.UnionType):
        for a in args:
            yield from _alternatives(a)
    elif origin is Annotated and get_origin(args[0]) in (Union, types.UnionType):
        yield from _alternatives(args[0])
    else:
        yield annotation


def _either(choices: list[tuple[Any, Visit]]) -> Visit:
    def look(value: Any, path: Path) -> Iterator[Found]:
        for annotation, visit in choices:
            kind = get_origin(annotation)
            plain = annotation if kind is None else get_args(annotation)[0] if kind is Annotated else kind
            plain = get_origin(plain) or plain
            if isinstance(plain, type) and isinstance(value, plain):
                yield from visit(value, path)
                return

    return look


def _each(inner: list[Visit | None]) -> Visit:
    def look(value: Any, path: Path) -> Iterator[Found]:
        for number, item in enumerate(value):
            visit = inner[number] if number < len(inner) else inner[-1]
            if visit is not None and item is not None:
                yield from visit(item, (*path, number))

    return look


def _entries(keys: Visit | None, values: Visit | None) -> Visit | None:
    if keys is None and values is None:
        return None

    def look(value: Any, path: Path) -> Iterator[Found]:
        for key, item in value.items():
            if keys is not None:
                yield from keys(key, (*path, key))
            if values is not None and item is not None:
                yield from values(item, (*path, key))

    return look


def located(data: Any, path: Path) -> tuple[Any, Any] | None:
    """Container and key in plain data, as written, of a path of fields; None where it does not stand there.

    Keys may be written with spaces or underscores, numbers with units, and a bare value may stand for its mapping.
    """
    here, last = data, None
    for step in path:
        inside = here if last is None else here[last]
        if isinstance(inside, dict):
            key = next((k for k in inside if k == step or _same(k, step)), None)
            if key is None:
                return None
            here, last = inside, key
        elif isinstance(inside, list | tuple) and isinstance(step, int) and step < len(inside):
            here, last = inside, step
        else:
            break  # a bare value stands for what is written here
    return None if last is None else (here, last)


def _same(written: Any, step: Any) -> bool:
    if isinstance(step, float):
        from holokine.errors import UnitError
        from holokine.units import quantity

        try:
            return quantity(written, "number") == step
        except UnitError:
            return False
    return str(written).strip().replace(" ", "_").replace("-", "_") == str(step)
