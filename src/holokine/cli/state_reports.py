"""What the commands about states print: state, buckling."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.cli.asked import PLAIN, LookAsked
from holokine.cli.reports import _read, _View

if TYPE_CHECKING:
    from holokine.api.at_rest import Rest

__all__ = ["BucklingView", "StateView"]


@dataclass
class StateView(_View):
    """`holokine state`."""

    @classmethod
    def of(cls, path: Path, name: str | None, look: LookAsked = PLAIN, up_to: float | None = None) -> StateView:
        rest = _read(path, False).rest(name)
        view = cls.about(rest, look)
        if up_to is not None:
            found = rest.changes(up_to)
            view.lines = [*view.lines, *found.lines]
            view.tables["state_changes"] = table = found.table()
            view.screens = [("What changes with the load", table), *view.screens] if len(table) else view.screens
        return view

    @classmethod
    def about(cls, rest: Rest, look: LookAsked = PLAIN) -> StateView:
        tables = rest.tables()
        shape = rest.deformed()
        return cls(
            rest.assembly, f"{rest.assembly.title}: at rest", "state", rest.key, lines=rest.lines,
            screens=rest.screens(), tables={f"state_{k}": t for k, t in tables.items()},
            pictures={f"state_{c}.png": partial(shape.picture, colour=c, **look.keys)
                      for c in ("displacement", "stress")},
            meshes={"state.vtu": shape.write_vtu}, findings=rest.findings,
        )  # fmt: skip


@dataclass
class BucklingView(_View):
    """`holokine buckling`."""

    @classmethod
    def of(
        cls, path: Path, name: str | None, count: int, factors: tuple[float, ...], modes: int, look: LookAsked = PLAIN
    ) -> BucklingView:
        rest = _read(path, False).rest(name)
        found = rest.buckling(count)
        way = found.path(factors or None, modes) if modes else None
        table = found.table()
        tables: dict[str, Any] = {"buckling": table}
        screens = [("Load factors", table)]
        figures: dict[str, Any] = {}
        if way is not None:
            tables["frequency_by_load"] = found.path_table(way)
            screens.append(("Frequencies at parts of the load", tables["frequency_by_load"]))
            figures["frequency_by_load"] = partial(found.plot, way)
        drawn = range(1, min(len(table), 3) + 1)
        return cls(
            rest.assembly, f"{rest.assembly.title}: buckling", "state", rest.key, lines=found.lines, screens=screens,
            tables=tables, figures=figures, findings=found.findings,
            pictures={f"buckling_{n}.png": partial(found.picture, n, **look.keys) for n in drawn},
        )  # fmt: skip
