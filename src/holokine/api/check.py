"""What `Assembly.check` returns."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.result import Result, Writer, table, writes
from holokine.show.numbers import number_text

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.findings import Finding
    from holokine.modes.check import CheckReport
    from holokine.system.build import System
    from holokine.system.links import SupportRows

__all__ = ["Check"]


@dataclass(frozen=True, repr=False)
class Check(Result):
    """Totals, connections and findings of an assembly.

    Attributes
    ----------
    report : CheckReport
        The numbers, in SI.
    """

    unmet = "the check found errors"
    report: CheckReport
    system: System
    name: str = ""
    system_key: str = ""
    stage = "system"

    @property
    def title(self) -> str:
        """The assembly's title."""
        return f"{self.name or 'assembly'}: check"

    @property
    def key(self) -> str:
        """Of the system that was checked."""
        return self.system_key

    @property
    def ok(self) -> bool:
        """Whether no finding is an error."""
        return self.report.ok

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Errors, warnings and notes."""
        return self.report.findings

    @property
    def mass(self) -> float:
        """Total mass in kg."""
        return self.report.totals.mass

    @property
    def lines(self) -> list[str]:
        """Totals and counts, a line each."""
        from holokine.show.text import check_lines

        return check_lines(self.report, self.system)

    @property
    def facts(self) -> dict[str, Any]:
        """Mass, centre, inertia and box in SI, counts, and what is connected."""
        totals, report = self.report.totals, self.report
        return {
            "mass_kg": totals.mass, "centre_of_mass_m": totals.centre.tolist(),
            "inertia_kg_m2": totals.inertia.tolist(), "box_m": report.box.tolist(), "counts": report.counts,
            "pieces": [{"members": list(p.members), "held_by": list(p.supports), "free": p.words}
                       for p in report.pieces],
        }  # fmt: skip

    @table("mass", "Mass")
    def _mass(self) -> pd.DataFrame:
        """Mass and centre of mass of each part and point mass, and of the whole (last row)."""
        import pandas as pd

        whole, rows = self.report.totals, []
        for name, m in [*self.report.members.items(), ("whole assembly", whole)]:
            share = 100.0 * m.mass / whole.mass if whole.mass else float("nan")
            row = {"name": name, "mass_kg": m.mass, "share_percent": share}
            rows.append(row | {f"centre_{a}_mm": 1e3 * c for a, c in zip("xyz", m.centre, strict=True)})
        return pd.DataFrame(rows)

    @table("elements", "Elements (shape: 1 perfect, 0 flat)")
    def _elements(self) -> pd.DataFrame:
        """Elements of each part and kind: number, smallest and largest edge, worst shape (1 perfect, 0 flat)."""
        import pandas as pd

        from holokine.mesh.cells import CELLS
        from holokine.mesh.quality import block_shapes

        return pd.DataFrame([
            {"part": shape.block.part, "elements": len(shape.block.cells), "kind": shape.block.kind,
             "smallest_edge_mm": 1e3 * float(shape.shortest.min()),
             "largest_edge_mm": 1e3 * float(shape.longest.max()),
             "worst_shape": float(shape.quality.min()) if CELLS[shape.block.kind].corners else float("nan")}
            for shape in block_shapes(self.system.mesh)
        ])  # fmt: skip

    @table("connections", "What holds what")
    def _connections(self) -> pd.DataFrame:
        """Links, joints, ties, springs and bushings: kind, place, nodes, and the parts that they hold together."""
        import numpy as np
        import pandas as pd

        system, holders = self.system, dict[int, list[str]]()
        for part, nodes in system.mesh.part_nodes.items():
            for node in nodes:
                holders.setdefault(int(node), []).append(part)
        for body in system.masses:
            holders.setdefault(body.node, []).append(body.name)
        for point, node in system.mesh.points.items():
            holders.setdefault(node, [point])
        things = {b.name: (b.kind, b.nodes, b.place) for b in system.bonds.values()}
        for c in system.connectors:
            things.setdefault(c.name, (c.kind, np.array(c.nodes), c.place))
        rows: list[dict[str, Any]] = []
        for name, (kind, nodes, place) in things.items():
            held = dict.fromkeys(p for node in nodes for p in holders.get(int(node), []))
            at = {f"{a}_mm": 1e3 * x for a, x in zip("xyz", place, strict=True)}
            rows.append({"connection": name, "kind": kind, "nodes": len(nodes), **at,
                         "holds": ", ".join(held) + (" and ground" if len(nodes) == 1 else "")})  # fmt: skip
        shared: dict[str, dict[str, int]] = {}
        for (a, b), count in system.mesh.merged_pairs.items():
            shared.setdefault(a, {})[b] = count
        for part, others in shared.items():
            words = ", ".join(f"{other} ({count})" for other, count in others.items())
            rows.append({"connection": "shared nodes", "kind": "merged", "nodes": sum(others.values()),
                         "holds": f"{part} on {words}"})  # fmt: skip
        return pd.DataFrame(rows, columns=["connection", "kind", "nodes", "x_mm", "y_mm", "z_mm", "holds"])

    @table("supports", "Supports")
    def _supports(self) -> pd.DataFrame:
        """Supports and what they hold."""
        import pandas as pd

        rows = [(s.name, len(s.nodes), _holds(s)) for s in self.system.supports.values()]
        return pd.DataFrame(rows, columns=["support", "nodes", "holds"])

    @table("loads", "Loads: what each comes to", when=lambda self: bool(self.report.loads))
    def _loads(self) -> pd.DataFrame:
        """What every load comes to: force, moment about the mean place of its forces, that place, pressed area."""
        import numpy as np
        import pandas as pd

        rows = []
        for name, total in self.report.loads.items():
            size, arm = float(np.linalg.norm(total.force)), float(np.linalg.norm(total.moment))
            least = 1e-9 * max(arm, size * float(np.abs(total.place).max(initial=0.0)))
            row: dict[str, object] = {"load": name}
            row |= {f"{a}_n": 0.0 if abs(f) < 1e-9 * size else f for a, f in zip("xyz", total.force, strict=True)}
            row |= {f"moment_{a}_nm": 0.0 if abs(m) <= least else m for a, m in zip("xyz", total.moment, strict=True)}
            row |= {f"at_{a}_mm": 1e3 * x for a, x in zip("xyz", total.place, strict=True)}
            rows.append({**row, "area_mm2": 1e6 * total.area})
        made = pd.DataFrame(rows)
        return made.drop(columns="area_mm2") if made["area_mm2"].isna().all() else made

    def plot(self, what: Any = None, *, ax: Any = None, **options: Any) -> Any:
        """Parts, connections, supports, masses and gauges drawn plainly; returns the Figure."""
        from holokine.show.solids import plot_assembly

        return plot_assembly(self.system, ax).figure

    @writes(".png")
    def _drawn(
        self,
        path: Path,
        *,
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
        sections: bool = False,
    ) -> None:
        """The assembly, rendered with the `view` extra (drawn plainly without it).

        `view`: corner, front, back, left, right, top, bottom, or a direction from the assembly to the eye. `only`: a
        part, mass, group or several, drawn alone with what connects them. `sections`: beams with their sections and
        their axes y and z.

        Raises
        ------
        HolokineError, UnknownNameError
            An unknown view, or a name of nothing that can be drawn.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_assembly

        picture_assembly(self.system, path, Look.of(self.system, view, only, sections))

    @writes(".vtu")
    def _mesh(self, path: Path) -> None:
        """The mesh with the part of each cell, for a 3D viewer."""
        from holokine.mesh.files import write_mesh

        write_mesh(path, self.system.mesh)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """The picture and the mesh."""
        return {"assembly.png": partial(self.picture, **draw), "assembly.vtu": self.save}

    @property
    def _first_rows(self) -> None:
        return None

    @property
    def _first_lines(self) -> list[str]:
        from holokine.show.short import check_facts

        return [*check_facts(self.report, self.system), f"tables: {', '.join(self.tables)}"]


def _holds(s: SupportRows) -> str:
    """What a support holds both ways, and where it only pushes."""
    words = [" ".join(s.hold)] if s.hold else []
    if s.feet is not None:
        more = [f"after {number_text(1e3 * s.feet.gap)} mm"] if s.feet.gap else []
        more += [f"friction {s.feet.friction:g}"] if s.feet.friction else []
        way = "-" if s.feet.sign < 0 else ""
        words.append(f"pushes {way}{'xyz'[s.feet.axis]}" + (f" ({', '.join(more)})" if more else ""))
    return ", ".join(words)
