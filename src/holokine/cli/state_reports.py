"""What the commands about states print: state, buckling."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.cli.asked import PLAIN, LookAsked
from holokine.cli.reports import _read, _View

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.at_rest import Rest

__all__ = ["BucklingView", "StateView"]


@dataclass
class StateView(_View):
    """`holokine state`."""

    @classmethod
    def of(cls, path: Path, name: str | None, look: LookAsked = PLAIN) -> StateView:
        return cls.about(_read(path, False).rest(name), look)

    @classmethod
    def about(cls, rest: Rest, look: LookAsked = PLAIN) -> StateView:
        tables = rest.tables()
        titles = {
            "feet": "One-way supports", "springs": "One-way springs, and springs with a law",
            "axial": "Axial force of beams, tension positive", "supports": "Forces of supports on the assembly",
            "readings": "Gauges at rest", "points": "Displacement of points", "stress": "Largest stress of parts",
        }  # fmt: skip
        shown = {"axial": _first(tables.get("axial"), 12), "points": _first(tables.get("points"), 12, "size_mm")}
        screens = []
        for key, title in titles.items():
            table = tables.get(key)
            if table is None:
                continue
            short = shown.get(key)
            if short is not None and len(short) < len(table):
                title += f", the {len(short)} largest of {len(table)} (--json and --out hold all)"
            screens.append((title, table if short is None else short))
        shape = rest.deformed()
        return cls(
            rest.assembly, f"{rest.assembly.title}: at rest", "state", rest.key, lines=rest.lines, screens=screens,
            tables={f"state_{k}": t for k, t in tables.items()},
            pictures={f"state_{c}.png": partial(shape.picture, colour=c, **look.keys)
                      for c in ("displacement", "stress")},
            meshes={"state.vtu": shape.write_vtu}, findings=rest.findings,
        )  # fmt: skip


def _first(table: pd.DataFrame | None, most: int, by: str | None = None) -> pd.DataFrame | None:
    """The first rows of a table, by size of a column."""
    if table is None or len(table) <= most:
        return None
    return (table if by is None else table.sort_values(by, ascending=False)).head(most)


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
            tables=tables, figures=figures, findings=rest.findings,
            pictures={f"buckling_{n}.png": partial(found.picture, n, **look.keys) for n in drawn},
        )  # fmt: skip
