"""Every name that refers to something else must exist; checked before anything is computed."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from holokine.describe.schema import GROUND, Description
from holokine.describe.targets import Selection
from holokine.errors import DescriptionError, UnknownNameError, nearest_hint

__all__ = ["check_references", "group_members"]

Place = Callable[[tuple[Any, ...]], str]


def check_references(d: Description, place: Place) -> None:
    """Check all names used in `d`.

    Raises
    ------
    UnknownNameError
        With the place, the name, and the nearest one that exists.
    DescriptionError
        For names that clash or loops of groups.
    """

    def need(name: str, known: Iterable[str], what: str, *path: Any) -> None:
        known = list(known)
        if d.matrices is not None and what == "points":
            return  # nodes of the matrices' table are points too; they are looked up when it is read
        if name not in known:
            single = what.split(",")[0].removesuffix("s") if " or " not in what else "name"
            raise UnknownNameError(f'{place(path)}: there is no {single} "{name}". {nearest_hint(name, known, what)}')

    def target(sel: Selection, *path: Any) -> None:
        for name in sel.points or ():
            need(name, d.points, "points", *path)
        if sel.part is not None:
            need(sel.part, d.parts, "parts", *path, "part")
        if sel.group is not None:
            need(sel.group, d.groups, "groups", *path, "group")

    for reserved in (GROUND,):
        if reserved in d.points:
            raise DescriptionError(f'{place(("points", reserved))}: "{reserved}" means the support frame here')
    for name, part in d.parts.items():
        here = ("parts", name)
        need(part.material, d.materials, "materials", *here, "material")
        if part.section is not None:
            shape = next(n for n in ("beam", "ring", "mesh") if getattr(part, n) is not None)
            need(part.section, d.sections, "sections", *here, shape, "section")
        if part.beam is not None:
            for p in part.beam.through:
                need(p, d.points, "points", *here, "beam", "through")
    for name, mass in d.masses.items():
        need(mass.at, d.points, "points", "masses", name, "at")
    connectors: tuple[tuple[str, dict[str, Any]], ...] = (("springs", d.springs), ("bushings", d.bushings))
    for kind, table in connectors:
        for name, spring in table.items():
            for p in spring.between:
                need(str(p), [*d.points, GROUND], "points", kind, name, "between")
            if spring.between[0] == spring.between[1]:
                raise DescriptionError(f"{place((kind, name, 'between'))}: both ends are the same point")
    for name, link in d.links.items():
        need(link.point, d.points, "points", "links", name, "rigid" if link.rigid else "averaging")
        target(link.to, "links", name, "to")
    for name, joint in d.joints.items():
        for k, side in enumerate(joint.between):
            target(side.to, "joints", name, "between", k)
    for name, tie in d.ties.items():
        target(tie.nodes, "ties", name, "nodes")
        need(tie.faces, d.parts, "parts", "ties", name, "faces")
    for name, support in d.supports.items():
        target(support.at, "supports", name, "at")
    _check_connectors_unique(d, place)
    for name in d.groups:
        group_members(d, name, place=place)
    for name in d.limits:
        need(name, d.gauges, "gauges", "limits", name)
    for name, load in d.loads.items():
        for kind in ("at", "on"):
            selection = getattr(load, kind)
            if selection is not None:
                target(selection, "loads", name, kind)
        for one in load.supports or ():
            need(one, d.supports, "supports", "loads", name, "supports")
    for name, event in d.events.items():
        for load_name in (*(event.static or ()), *(event.loads or ())):
            need(load_name, d.loads, "loads", "events", name, "static" if event.static else "loads", load_name)
        for key in ("start_from", "let_go"):
            other = getattr(event, key)
            if other is not None:
                settled = [n for n, e in d.events.items() if e.static is not None]
                need(other, settled, "static events", "events", name, key)
        for group, spectra in (event.support_spectra or {}).items():
            for one in spectra.supports:
                need(one, d.supports, "supports", "events", name, "support_spectra", group, "supports")
    for name in d.damping.composite or ():
        known = [*d.materials, *d.parts, *d.springs, *d.bushings, *d.joints, *d.groups, "default"]
        need(name, known, "materials, members and groups", "damping", "composite", name)
    for name in d.adjust:
        known = [*d.parts, *d.masses, *d.springs, *d.bushings, *d.joints, *d.links, *d.ties, *d.groups]
        need(name, known, "parts, masses, connectors and groups", "adjust", name)
    for name, gauge in d.gauges.items():
        path = ("gauges", name, gauge.kind)
        kind = gauge.kind
        if kind in ("displacement", "rotation", "velocity", "acceleration"):
            need(gauge.source, d.points, "points", *path)
            if gauge.relative_to is not None:
                need(gauge.relative_to, d.points, "points", "gauges", name, "relative_to")
        elif kind in ("force", "moment"):
            need(
                gauge.source,
                [*d.links, *d.joints, *d.ties, *d.springs, *d.bushings],
                "links, joints, ties, springs and bushings",
                *path,
            )
        elif kind in ("damper_force", "total_force"):
            need(gauge.source, [*d.springs, *d.bushings, *d.joints], "springs, bushings and joints", *path)
        elif kind in ("reaction", "reaction_moment"):
            need(gauge.source, d.supports, "supports", *path)
        elif kind in ("cut_force", "cut_moment"):
            need(gauge.source, [*d.parts, *d.groups], "parts and groups", *path)
        else:
            need(gauge.source, d.parts, "parts", *path)
            if kind != "stress" and d.parts[gauge.source].section is None:
                raise DescriptionError(f'{place(path)}: the part "{gauge.source}" is not made of beams')


def _check_connectors_unique(d: Description, place: Place) -> None:
    seen: dict[str, str] = {}
    for kind in ("parts", "masses", "springs", "bushings", "links", "joints", "ties"):
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
    known = [*d.parts, *d.masses, *d.springs, *d.bushings, *d.links, *d.joints, *d.ties]
    members: list[str] = []

    def open_group(group: str, trail: tuple[str, ...]) -> None:
        if group in trail:
            raise DescriptionError(f'{where(("groups", name))}: the group "{group}" contains itself')
        if not d.groups[group]:
            raise DescriptionError(f"{where(('groups', group))}: the group is empty")
        for item in d.groups[group]:
            if item in d.groups and item not in known:
                open_group(item, (*trail, group))
            elif item in known:
                if item not in members:
                    members.append(item)
            else:
                hint = nearest_hint(item, [*known, *d.groups], "parts, masses, connectors and groups")
                raise UnknownNameError(f'{where(("groups", group))}: there is nothing named "{item}". {hint}')

    open_group(name, ())
    return members
