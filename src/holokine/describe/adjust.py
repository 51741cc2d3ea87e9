"""Changed assemblies: variants that override named values, and stiffness or mass of members times a factor."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from holokine.describe.references import group_members
from holokine.describe.schema import Description, Material, Spring
from holokine.errors import DescriptionError

__all__ = ["adjusted", "merged"]


def merged(data: Mapping[str, Any], override: Mapping[str, Any], *, tables: bool = True) -> dict[str, Any]:
    """Plain data with values overridden, mapping by mapping; null takes an entry away.

    Keys match however they are written, with spaces or underscores. `tables`: at the top stand tables of named
    things, to which names are added; further down one shape may stand in place of another.
    """
    result = dict(data)
    spelt = {str(k).replace("_", " "): k for k in result}
    for key, value in override.items():
        own = spelt.get(str(key).replace("_", " "), key)
        before = result.get(own)
        if value is None:
            result.pop(own, None)
        elif isinstance(value, Mapping) and isinstance(before, Mapping) and (tables or not _is_choice(before, value)):
            result[own] = merged(before, value, tables=False)
        else:
            result[own] = value
    return result


def _is_choice(before: Mapping[str, Any], now: Mapping[str, Any]) -> bool:
    """Whether a mapping of one key stands for a choice of shape that another key replaces as a whole."""
    return len(before) == 1 and len(now) == 1 and set(before) != set(now) and all(
        isinstance(v, Mapping) for v in (*before.values(), *now.values())
    )  # fmt: skip


def adjusted(d: Description) -> Description:
    """The description with the factors of its `adjust` worked into materials, springs and masses.

    Raises
    ------
    DescriptionError
        A factor on something that has no such stiffness or mass.
    """
    if not d.adjust:
        return d
    factors: dict[str, tuple[float, float]] = {}
    for name, change in d.adjust.items():
        members = group_members(d, name) if name in d.groups else [name]
        for member in members:
            k, m = factors.get(member, (1.0, 1.0))
            factors[member] = k * change.stiffness, m * change.mass
    materials, parts = dict(d.materials), dict(d.parts)
    springs, bushings, joints, masses = dict(d.springs), dict(d.bushings), dict(d.joints), dict(d.masses)
    for name, (k, m) in factors.items():
        alone = name in d.adjust
        if name in parts:
            for old in parts[name].materials:
                materials[f"{old} of {name}"] = _scaled_material(d.materials[old], k, m)
            update: dict[str, Any] = {"material": parts[name].material and f"{parts[name].material} of {name}"}
            shell, mesh = parts[name].shell, parts[name].mesh
            if shell is not None and (shell.area_mass or shell.layers):
                layers = shell.layers and tuple(
                    y.model_copy(update={"material": y.material and f"{y.material} of {name}"}) for y in shell.layers
                )
                heavier = shell.model_copy(update={"area_mass": m * shell.area_mass, "layers": layers})
                if mesh is not None:
                    update["mesh"] = mesh.model_copy(update={"shell": heavier})
                else:
                    update["plate" if parts[name].plate is not None else "cylinder"] = heavier
            parts[name] = parts[name].model_copy(update=update)
        elif name in masses:
            body = masses[name]
            inertia = tuple(tuple(m * v for v in row) for row in body.inertia)
            masses[name] = body.model_copy(update={"mass": m * body.mass, "inertia": inertia})
            _refuse_if(alone and k != 1.0, name, "a point mass has no stiffness")
        elif name in springs:
            springs[name] = _scaled_spring(springs[name], k)
            _refuse_if(alone and m != 1.0, name, "a spring has no mass")
        elif name in bushings or name in joints:
            table: dict[str, Any] = bushings if name in bushings else joints
            stiffness = tuple(k * v for v in table[name].stiffness)
            _refuse_if(alone and not any(stiffness), name, "it has no stiffness of its own")
            _refuse_if(alone and m != 1.0, name, "it has no mass")
            table[name] = table[name].model_copy(update={"stiffness": stiffness})
        else:
            _refuse_if(alone, name, "a rigid or averaging connection has neither stiffness nor mass")
    return d.model_copy(
        update={"materials": materials, "parts": parts, "springs": springs, "bushings": bushings, "joints": joints,
                "masses": masses}
    )  # fmt: skip


def _refuse_if(wrong: bool, name: str, why: str) -> None:
    if wrong:
        raise DescriptionError(f"adjust, {name}: {why}")


def _scaled_spring(spring: Spring, k: float) -> Spring:
    update: dict[str, Any] = {"stiffness": k * spring.stiffness}
    if spring.force is not None:
        update["force"] = tuple((e, k * f) for e, f in spring.force)
    if spring.law is not None:
        law = spring.law
        update["law"] = law.model_copy(update={n: k * getattr(law, n) for n in ("linear", "quadratic", "cubic")})
    return spring.model_copy(update=update)


def _scaled_material(material: Material, k: float, m: float) -> Material:
    update: dict[str, Any] = {"density": m * material.density}
    if material.orthotropic is not None:
        o = material.orthotropic
        update["orthotropic"] = o.model_copy(update={"E": tuple(k * e for e in o.E), "G": tuple(k * g for g in o.G)})
    else:
        update["E"] = k * material.young
        if material.G is not None:
            update["G"] = k * material.G
    return material.model_copy(update=update)
