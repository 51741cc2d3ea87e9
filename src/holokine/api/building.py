"""The calls that build an assembly: one for every table of the description, with the words of the file.

Which keys a call takes is said once, in the schema; a call shows them as its signature.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cache, partial
from pathlib import PurePath
from typing import TYPE_CHECKING, Any, Literal, Self, get_args

from holokine.describe.document import Document, Origin, Places, validated
from holokine.describe.files import Folder
from holokine.errors import DescriptionError, UnknownKeyError, UnknownNameError
from holokine.units import is_with_unit, with_unit

if TYPE_CHECKING:
    from holokine.describe.schema import Description
    from holokine.store.chain import Memory

__all__ = ["Building", "given", "plain"]


class Adder:
    """A call ``assembly.part("deck", plate=..., material=...)`` that adds one entry to a table of the description.

    Parameters
    ----------
    table : str
        The table; keys and values are those of the file, with underscores for spaces.
    words : str
        What it adds.
    """

    def __init__(self, table: str, words: str) -> None:
        self._table, self.__doc__ = table, words

    def __get__(self, assembly: Any, owner: Any = None) -> Callable[..., Any]:
        add = self._call(assembly)
        add.__doc__ = self.__doc__  # type: ignore[attr-defined]
        add.__signature__ = _signature(self._table)  # type: ignore[attr-defined]
        return add

    def _call(self, assembly: Any) -> Callable[..., Any]:
        return partial(_add, assembly, self._table)


class EventAdder(Adder):
    """The same for events; by kind with that kind's options alone, such as ``assembly.event.sweep("shaker", ...)``."""

    def _call(self, assembly: Any) -> Callable[..., Any]:
        return _Events(assembly)


class _Events:
    """Adds events of any kind; of one kind by its name."""

    def __init__(self, assembly: Any) -> None:
        self._assembly = assembly

    def __call__(self, name: str, /, **keys: Any) -> Any:
        return _add(self._assembly, "events", name, **keys)

    def __getattr__(self, kind: str) -> Callable[..., Any]:
        from holokine.describe.events import EVENT_KINDS

        found = {k.kind: k for k in EVENT_KINDS}
        if kind.startswith("_") or kind not in found:
            raise AttributeError(f"events are of the kinds {', '.join(found)}; there is no {kind}")
        add = partial(_add, self._assembly, "events")
        add.__doc__ = inspect.getdoc(found[kind])
        add.__signature__ = _of_model(found[kind])  # type: ignore[attr-defined]
        return add

    def __dir__(self) -> list[str]:
        from holokine.describe.events import EVENT_KINDS

        return [k.kind for k in EVENT_KINDS]


def _add(assembly: Any, table: str, name: str, /, **keys: Any) -> Any:
    return assembly.add(table, name, given(keys))


@cache
def _signature(table: str) -> inspect.Signature:
    """Name, and the keys that the table's entries have."""
    from holokine.describe.schema import Description

    annotation = Description.model_fields[table].annotation
    return _of_model(*_models(annotation))


def _models(annotation: Any) -> list[Any]:
    if hasattr(annotation, "model_fields"):
        return [annotation]
    return [m for part in get_args(annotation) for m in _models(part)]


def _of_model(*models: Any) -> inspect.Signature:
    own = {name: field for model in models for name, field in model.model_fields.items()}
    name = inspect.Parameter("name", inspect.Parameter.POSITIONAL_ONLY, annotation=str)
    keys = [
        inspect.Parameter(k, inspect.Parameter.KEYWORD_ONLY, annotation=f.annotation,
                          default=inspect.Parameter.empty if f.is_required() else None)
        for k, f in own.items()
    ]  # fmt: skip
    return inspect.Signature([name, *keys])


def plain(value: Any) -> Any:
    """Paths as text and arrays as lists, wherever they stand."""
    if isinstance(value, PurePath):
        return str(value)
    if is_with_unit(value):
        return with_unit(value)
    if hasattr(value, "tolist"):  # arrays and their scalars; NumPy is loaded when something is computed
        return value.tolist()
    if isinstance(value, Mapping):
        return {k: plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    return value


def given(values: Mapping[str, Any]) -> dict[str, Any]:
    """Keyword arguments that were given, with keys as files write them."""
    return {k.replace("_", " "): v for k, v in values.items() if v is not None}


class Building:
    """A description built call by call, each call checked by itself."""

    def __init__(self, title: str = "", *, units: dict[str, str] | None = None) -> None:
        self._data: dict[str, Any] = {"holokine": 1, "title": title, "units": units or {}}
        self._places, self._folder, self._origin = Places(), Folder(), Origin()
        self._document: Document | None = None
        self._held: Memory | None = None
        if units:
            self._check()

    # -- building -----------------------------------------------------------------------------------

    def add(self, table: str, name: str, value: Any) -> Self:
        """Add an entry to a table of the description, with its keys as the file writes them.

        Raises
        ------
        DescriptionError
            The name is taken, or the entry says something that cannot be.
        """
        value = plain(value)
        entries = dict(self._data.get(table, {}))
        if name in entries:
            raise DescriptionError(f'{table}: there is already "{name}"')
        self._check(table, name, value)
        entries[name] = value
        return self._with({**self._data, table: entries})

    def _with(self, data: dict[str, Any]) -> Self:
        self._data, self._document = data, None
        return self

    def _check(self, table: str | None = None, name: str = "", value: Any = None) -> None:
        """Validate what was just said by itself, so that an error comes from the call that made it."""
        alone = {"holokine": 1, "units": self._data.get("units") or {}}
        if table is not None:
            alone[table] = {name: value} if name else value
        try:
            validated(alone, self._places, self._folder)
        except UnknownKeyError:
            raise
        except UnknownNameError:
            pass  # names of other things may still be to come; they are checked before solving

    def _set(self, key: str, value: Any) -> Self:
        value = plain(value)
        self._check(key, "", value)
        return self._with({**self._data, key: value})

    material = Adder("materials", "Add a material: E with nu or G, or orthotropic constants; density; loss factor.")
    section = Adder("sections", "Add a beam section: one shape, or properties; shear factors and the torsion constant.")
    part = Adder("parts", "Add a part: one geometry, its material (none where layers have theirs), own axes, whether "
                 "it shares nodes.")  # fmt: skip
    mass = Adder("masses", "Add a point mass at a point, or off it by a rigid arm; inertia about its centre of mass.")
    spring = Adder("springs", "Add a spring and damper along the line between two points (or ``ground``), or along an "
                   "axis; one-way after a gap; or by a table of force over elongation, or a law.")  # fmt: skip
    bushing = Adder("bushings", "Add a bushing: stiffness and damping in six directions between two points.")
    link = Adder("links", "Add a link from a point, rigid, averaging or by area, to targets.")
    joint = Adder("joints", "Add a joint between two sides: rigid, but for directions released or given stiffness or "
                  "damping.")  # fmt: skip
    tie = Adder("ties", "Tie nodes to the faces of a part.")
    support = Adder("supports", "Add a support: directions held (x y z rx ry rz, or all) of a point or of selected "
                    "nodes; or one-way: where it pushes, after a gap, with friction.")  # fmt: skip
    gauge = Adder("gauges", "Add a gauge: one quantity with what it is read from, such as acceleration=\"fan\", "
                  "axis=\"z\".")  # fmt: skip
    load = Adder("loads", "Add a load: gravity, a force and moment, a pressure, or supports that are moved.")
    add_state = Adder("states", "Add a state: the assembly at rest under loads, tensions, temperatures. `about` "
                      "switches it on.")  # fmt: skip
    event = EventAdder("events", "Add an event: spectra, pulse or loads in time, a sweep, random, static loads, a "
                       "state. By kind (event.sweep, event.time ...) with the options of that kind.")  # fmt: skip
    band = Adder("bands", "Add a band of excitation: a range, or a speed with harmonics and a margin to each side.")

    def point(self, name: str, at: Any, *, apart: bool = False) -> Self:
        """Add a point at [x, y, z]; `apart` keeps it a node of its own where others are at the same place."""
        return self.add("points", name, {"at": at, **({"apart": True} if apart else {})})

    def group(self, name: str, members: str | Sequence[str]) -> Self:
        """Name a set of parts, masses, springs, bushings, links and other groups."""
        return self.add("groups", name, members)

    def limit(self, gauge: str, value: Any) -> Self:
        """Limit a gauge: one value, or values by component."""
        return self.add("limits", gauge, value)

    def matrices(self, *, stiffness: str, mass: str, damping: str | None = None, dofs: str) -> Self:
        """Bring stiffness, mass (and damping) from files, with a table of their rows (dofs)."""
        return self._set("matrices", given({"stiffness": stiffness, "mass": mass, "damping": damping, "dofs": dofs}))

    def damping(self, value: float | str | dict[str, Any]) -> Self:
        """Set the damping: a ratio, a table by frequency, Rayleigh from two points, composite, or loss factors."""
        return self._set("damping", value)

    def mass_matrix(self, kind: Literal["consistent", "lumped", "lumped without rotary"]) -> Self:
        """Choose the mass matrix."""
        return self._set("mass matrix", kind)

    def merge_tolerance(self, distance: float | str) -> Self:
        """Distance within which nodes of parts become one."""
        return self._set("merge tolerance", distance)

    def default_modes(self, count: int | None = None, upto: float | str | None = None) -> Self:
        """How many modes `modes` extracts when it is not told."""
        return self._set("modes", given({"count": count, "upto": upto}))

    def massless(self, *directions: str) -> Self:
        """Switch the mass off in some directions (x y z rx ry rz), to leave out the modes along them."""
        return self._set("massless", list(directions))

    def add_variant(self, name: str, values: dict[str, Any]) -> Self:
        """Add a variant: values put in place of the assembly's own, as in the file."""
        entries = dict(self._data.get("variants", {}))
        if name in entries:
            raise DescriptionError(f'variants: there is already "{name}"')
        return self._with({**self._data, "variants": {**entries, name: plain(values)}})

    @property
    def document(self) -> Document:
        """The validated description with its source and the keys of its stages."""
        if self._document is None:
            made = validated(self._data, self._places, self._folder)
            self._document = replace(made, origin=self._origin)
        return self._document

    @property
    def description(self) -> Description:
        """The validated description, in SI."""
        return self.document.description

    @property
    def title(self) -> str:
        """Title, or the file's name; with the state that is switched on."""
        own = self.description.title or self._origin.source or "assembly"
        return own if self.description.state is None else f'{own}, about the state "{self.description.state}"'

    @property
    def key(self) -> str:
        """Key of the system (stiffness, mass and constraints), as hexadecimal digits."""
        return self.document.keys.of("dampers")

    @property
    def _counted(self) -> tuple[str, ...]:
        return (
            "materials", "sections", "points", "parts", "masses", "springs", "bushings", "links", "joints", "ties",
            "supports", "groups", "gauges", "limits", "loads", "states", "events", "bands", "variants",
        )  # fmt: skip

    def __repr__(self) -> str:
        counts = [f"{len(self._data[k])} {k}" for k in self._counted if self._data.get(k)]
        title = self._data.get("title") or self._origin.source or "assembly"
        return f"Assembly: {title}\n  " + (", ".join(counts) or "empty")

    def _repr_html_(self) -> str:
        from html import escape

        return f"<pre>{escape(repr(self))}</pre>"
