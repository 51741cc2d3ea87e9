"""Every name that refers to something else must exist; checked before anything is computed.

Fields declare what they name (`fields.names_of`); the few rules that a declaration cannot say stand here.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from holokine.describe.fields import Names
from holokine.describe.schema import GROUND, Description
from holokine.describe.walk import walk
from holokine.errors import DescriptionError, UnknownNameError, nearest_hint

__all__ = ["check_references", "group_members", "table_of"]

Place = Callable[[tuple[Any, ...]], str]
_NAMED = ("parts", "masses", "springs", "bushings", "links", "joints", "ties")


def table_of(d: Description, mark: Names, name: str) -> str | None:
    """The table in which a name stands that a field with this mark may hold; None where it stands in none."""
    for table in mark.tables:
        entry = getattr(d, table).get(name)
        if entry is not None and (not mark.kind or entry.kind == mark.kind):
            return table
    return None


def check_references(d: Description, place: Place) -> None:
    """Check all names used in `d`.

    Raises
    ------
    UnknownNameError
        With the place, the name, and the nearest one that exists.
    DescriptionError
        For names that clash or loops of groups.
    """
    if GROUND in d.points:
        raise DescriptionError(f'{place(("points", GROUND))}: "{GROUND}" means the support frame here')
    _check_unique(d, place)
    for name in d.groups:
        group_members(d, name, place=place)
    for path, name, mark in walk(d):
        if not isinstance(mark, Names) or path[0] == "groups" or name in mark.also or table_of(d, mark, name):
            continue
        if mark.tables == ("points",) and d.matrices is not None:
            continue  # nodes of the matrices' table are points too; they are looked up when it is read
        known = [n for t in mark.tables for n, e in getattr(d, t).items() if not mark.kind or e.kind == mark.kind]
        single = "name" if len(mark.tables) > 1 else mark.words.removesuffix("s")
        hint = nearest_hint(name, [*known, *mark.also], mark.words)
        raise UnknownNameError(f'{place(path)}: there is no {single} "{name}". {hint}')
    connectors: tuple[tuple[str, dict[str, Any]], ...] = (("springs", d.springs), ("bushings", d.bushings))
    for kind, table in connectors:
        for name, spring in table.items():
            if spring.between[0] == spring.between[1]:
                raise DescriptionError(f"{place((kind, name, 'between'))}: both ends are the same point")
    for name, gauge in d.gauges.items():
        if (
            gauge.kind in ("beam_force", "beam_moment")
            and d.parts[gauge.source].section is None
            and d.parts[gauge.source].cable is None
        ):
            path = ("gauges", name, gauge.kind)
            raise DescriptionError(f'{place(path)}: the part "{gauge.source}" is not made of beams')


def _check_unique(d: Description, place: Place) -> None:
    seen: dict[str, str] = {}
    for kind in _NAMED:
        for name in getattr(d, kind):
            if name in seen:
                raise DescriptionError(
                    f'{place((kind, name))}: the name "{name}" is already used in {seen[name]}; '
                    "parts, masses and connections need names of their own"
                )
            seen[name] = kind


def group_members(d: Description, name: str, *, place: Place | None = None) -> list[str]:
    """Names of the parts, masses, springs, bushings and links in a group, groups within it opened."""
    where = place or (lambda path: ", ".join(map(str, path)))
    tables = [getattr(d, table) for table in _NAMED]
    members: dict[str, None] = {}

    def open_group(group: str, trail: tuple[str, ...]) -> None:
        if group in trail:
            raise DescriptionError(f'{where(("groups", name))}: the group "{group}" contains itself')
        if not d.groups[group]:
            raise DescriptionError(f"{where(('groups', group))}: the group is empty")
        for item in d.groups[group]:
            if any(item in table for table in tables):
                members[item] = None
            elif item in d.groups:
                open_group(item, (*trail, group))
            else:
                known = [n for table in tables for n in table]
                hint = nearest_hint(item, [*known, *d.groups], "parts, masses, connectors and groups")
                raise UnknownNameError(f'{where(("groups", group))}: there is nothing named "{item}". {hint}')

    open_group(name, ())
    return list(members)
