"""Constraint equations of links, joints, ties and supports."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

from holokine.describe.schema import GROUND
from holokine.describe.targets import CylinderRegion, Selection
from holokine.describe.walk import walk
from holokine.elements.connectors import Connector, arm_matrix, axes_from
from holokine.elements.sections import section_properties
from holokine.errors import ConstraintError, DescriptionError, SelectionError, entry, first_few
from holokine.mesh.cells import CELLS
from holokine.mesh.select import one_node, select_nodes
from holokine.mesh.surface import face_normals
from holokine.mesh.ties import project
from holokine.mesh.tree import nearest_tree
from holokine.system.assemble import DIRECTION_NAMES, node_dofs
from holokine.system.constraints import Equation
from holokine.system.patches import beams_across, node_spacing
from holokine.system.pattern import Feet, Pattern
from holokine.system.spread import OuterFaces, Spread, spread_over

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.mesh.mesh import Mesh

__all__ = ["Bond", "Bonds", "Carrier", "Sides", "SupportRows", "all_sides", "build_bonds", "held_again"]


@dataclass(frozen=True)
class Bond:
    """A link, rigid joint or tie as rows of the constraints.

    Attributes
    ----------
    name : str
    kind : str
        rigid, averaging, area, joint or tie.
    place : ndarray, shape (3,)
        Where its force and moment are taken, in m.
    axes : ndarray, shape (3, 3)
        Rows are the axes in which they are given.
    rows : slice
        Its rows of the constraints.
    carried : ndarray of int
        Nodes whose force counts: those on the far side (targets of a link, second side of a joint, tied nodes).
    weights : ndarray, shape (6, rows)
        Resultant force and moment at `place`, in `axes`, that the far side passes to the near one, from λ.
    nodes : ndarray of int
        All nodes that it holds together.
    """

    name: str
    kind: str
    place: Floats
    axes: Floats
    rows: slice
    weights: Floats
    nodes: Ints


@dataclass(frozen=True)
class Sides:
    """Nodes of the sides of a joint, spring or bushing (points, or nodes made for them), and what each carries."""

    owner: str
    ends: tuple[int, ...]
    carried: tuple[Ints | Spread | None, ...]
    links: tuple[str, ...]

    @property
    def held(self) -> list[Ints]:
        """Nodes that the sides carry."""
        return [s.nodes if isinstance(s, Spread) else s for s in self.carried if s is not None]


_SHOWN = 1.5  # distances of nodes over the radius of a section, from which a mesh spreads moments wider than that is
_FLAT, _STANDS = np.cos(np.radians(20.0)), np.sin(np.radians(15.0))
FAR = 0.05  # of the diagonal: more is no gap of an assembly


@dataclass(frozen=True)
class SupportRows:
    """A support: its nodes, the held directions, and the held dofs, row by row; its one-way feet, if it has any."""

    name: str
    nodes: Ints
    hold: tuple[str, ...]
    dofs: Ints
    rows: slice
    feet: Feet | None = None


@dataclass(frozen=True)
class Carrier:
    """A node that carries others as a rigid body: their motions that follow it, row by row."""

    name: str
    node: int
    dofs: Ints
    rows: slice


@dataclass
class Bonds:
    """Everything that holds nodes together or to the frame."""

    equations: list[Equation]
    bonds: dict[str, Bond]
    supports: dict[str, SupportRows]
    elastic_joints: list[Connector]
    notes: list[str]
    carriers: list[Carrier]
    frames: dict[str, Connector]
    """By joint: its six stretches, held or not."""
    carried: list[str] = field(default_factory=list)
    """What is held besides, in words."""
    spread_ends: set[int] = field(default_factory=set)
    """Nodes at which beams end that turn with the area under their section."""


class _Collector:
    def __init__(self, d: Description, mesh: Mesh, active: NDArray[np.bool_]) -> None:
        self.d, self.mesh, self.active = d, mesh, active
        self.size = len(active)
        self.out = Bonds([], {}, {}, [], [], [], {})
        self.tied: dict[int, tuple[str, Ints]] = {}
        """By node that is tied to a face of solids: the tie, and the corners of the face."""
        self.count = 0

    @cached_property
    def outer(self) -> OuterFaces:
        """Outer faces of parts."""
        return OuterFaces(self.mesh)

    @cached_property
    def asked(self) -> Ints:
        """Nodes of points that supports, loads and gauges name."""
        tables = ("supports", "loads", "gauges")
        nodes = {self.mesh.points[n] for path, n, _ in walk(self.d) if path[0] in tables and n in self.mesh.points}
        return np.array(sorted(nodes), dtype=np.int64)

    def rows(self, owner: str, dependent: Ints, masters: csr_array) -> slice:
        self.out.equations.append(Equation(owner, dependent, masters))
        self.count += len(dependent)
        return slice(self.count - len(dependent), self.count)

    def attached(self, owner: str, nodes: Ints, what: str) -> Ints:
        """Those of the nodes that something moves; a note on the others, with what is nearest to them."""
        moved: Any = self.active.reshape(-1, 6).any(axis=1)
        empty = nodes[~moved[nodes]]
        if len(empty) == 0:
            return nodes
        used = np.flatnonzero(moved)
        if len(used) == 0:
            raise DescriptionError(
                f"{owner}: the assembly has no part, spring, mass or link that could move its {what}"
            )
        distance, nearest = nearest_tree(self.mesh.nodes[used]).query(self.mesh.nodes[empty])
        first = int(distance.argmax())
        called = {node: f'point "{point}"' for point, node in self.mesh.points.items()}
        where = called.get(int(empty[first]), "a node") + " at " + _place(self.mesh.nodes[empty[first]])
        other = (
            called.get(int(used[nearest[first]]), "the one") + " at " + _place(self.mesh.nodes[used[nearest[first]]])
        )
        near = f"the nearest node in use to {where} is {other}, {1e3 * distance[first]:.4g} mm away"
        if len(empty) == len(nodes):
            raise DescriptionError(f"{owner}: none of its {what} belongs to a part, spring, mass or link; {near}")
        self.out.notes.append(
            f"{owner}: {len(empty)} of its {len(nodes)} {what} belong to no part, spring, mass or link and are left "
            f"out; {near}"
        )
        return nodes[moved[nodes]]

    # -- links ----------------------------------------------------------------------------------------

    def rigid(self, owner: str, node: int, targets: Ints) -> tuple[Ints, slice]:
        """Targets follow the rigid motion of a node; only dofs that are active."""
        carry = np.zeros((len(targets), 6, 6))
        carry[:, range(6), range(6)] = 1.0
        carry[:, :3, 3:] = arm_matrix(self.mesh.nodes[targets] - self.mesh.nodes[node])
        dofs = node_dofs(targets[:, None])
        wanted = self.active[dofs].ravel()
        flat = carry.reshape(-1, 6)[wanted]
        r, c = np.repeat(np.arange(len(flat)), 6), np.tile(6 * node + np.arange(6), len(flat))
        A = coo_array((flat.ravel(), (r, c)), shape=(len(flat), self.size)).tocsr()
        A.eliminate_zeros()
        dependent = dofs.ravel()[wanted]
        return dependent, self.rows(owner, dependent, csr_array(A))

    def averaging(self, owner: str, node: int, targets: Ints, spread: Spread | None = None) -> tuple[Ints, slice]:
        """A node follows the mean rigid motion of targets: least squares over their translations, or of an area."""
        partly = ~np.asarray(self.active).reshape(-1, 6)[targets, :3].all(axis=1)
        if partly.any():
            first = _place(self.mesh.nodes[targets[partly][0]])
            raise ConstraintError(
                f"{owner}: {int(partly.sum())} of its {len(targets)} targets move only along some axes, the first at "
                f"{first}, so that their mean is not defined; choose nodes of parts"
            )
        places = self.mesh.nodes[targets]
        mean = _mean_motion(places) if spread is None else spread.mean_motion()
        if mean is None:
            raise ConstraintError(
                f"{owner}: its {len(targets)} targets lie in one line or point, so that their mean rotation is not "
                "defined; choose targets that span an area"
            )
        carry = np.eye(6)
        centre = places.mean(axis=0) if spread is None else spread.centre
        carry[:3, 3:] = arm_matrix(self.mesh.nodes[node] - centre)
        A = carry @ mean
        columns = (6 * targets[:, None] + np.arange(3)).ravel()
        dependent = 6 * node + np.arange(6)
        r, c = np.repeat(np.arange(6), len(columns)), np.tile(columns, 6)
        rows = self.rows(owner, dependent, csr_array(coo_array((A.ravel(), (r, c)), shape=(6, self.size)).tocsr()))
        return dependent, rows

    def link(self, name: str) -> None:
        link = self.d.links[name]
        owner = f'link "{name}"'
        node = one_node(self.mesh, self.d, link.point, owner)
        if link.kind == "area":
            spread = spread_over(self.outer, self.d, link.to, owner)
            self.bound(name, owner, node, spread.nodes, "area", spread)
            return
        targets = select_nodes(self.mesh, self.d, link.to, owner)
        targets = targets[targets != node]
        if len(targets) == 0:
            what = f'the point "{link.point}"' if isinstance(link.point, str) else "a node"
            raise DescriptionError(f"{owner}: links {what} to nothing but itself")
        if link.kind == "rigid":  # it moves points that are there for a support, a load or a gauge alone
            self.active[node_dofs(targets[np.isin(targets, self.asked)])] = True
        targets = self.attached(owner, targets, "targets")
        self.bound(name, owner, node, targets, link.kind)

    def bound(self, name: str, owner: str, node: int, targets: Ints, kind: str, spread: Spread | None = None) -> None:
        """A link by its node, what it carries (or is carried by), and its kind."""
        place = self.mesh.nodes[node]
        dependent, rows = self.carried(name, owner, node, targets, kind, spread)
        # λ acts on the dependent dofs: the carried nodes of a rigid link, the point of an averaging one
        sign = -1.0 if kind == "rigid" else 1.0
        weights = sign * _resultant(self.mesh.nodes, dependent, place, np.eye(3))
        self.out.bonds[name] = Bond(name, kind, place, np.eye(3), rows, weights, np.append(targets, node))

    def carried(
        self, name: str, owner: str, node: int, targets: Ints, kind: str, spread: Spread | None = None
    ) -> tuple[Ints, slice]:
        """The rows of a link."""
        if kind != "rigid":
            return self.averaging(owner, node, targets, spread)
        dependent, rows = self.rigid(owner, node, targets)
        self.out.carriers.append(Carrier(name, node, dependent, rows))
        return dependent, rows

    def sides(self, made: Sides, name: str = "", joint: str = "") -> None:
        """What the sides of a joint, spring or bushing carry; with a name, as links of their own."""
        for number, (end, carried, link) in enumerate(zip(made.ends, made.carried, made.links, strict=True), start=1):
            if carried is not None:
                where, spread = f"{made.owner}, side {number}", None
                if isinstance(carried, Spread):
                    spread, targets = carried, carried.nodes
                else:
                    targets = self.attached(where, carried, "nodes")
                if name:
                    self.bound(f"{name} side {number}", where, end, targets, link, spread)
                else:
                    self.carried(joint, where, end, targets, link, spread)

    # -- joints ---------------------------------------------------------------------------------------

    def joint(self, name: str, made: Sides) -> None:
        joint = self.d.joints[name]
        owner = f'joint "{name}"'
        self.sides(made, joint=name)
        ends = (made.ends[0], made.ends[1])
        axes = np.eye(3)
        if joint.axes is not None:
            axes = axes_from(joint.axes.x, joint.axes.y, owner=owner)
        places = self.mesh.nodes[list(ends)]
        at = places.mean(axis=0)
        apart = float(np.linalg.norm(places[1] - places[0]))
        if apart > FAR * float(np.linalg.norm(np.ptp(self.mesh.nodes, axis=0))):
            self.out.notes.append(
                f"{owner}: its sides are {1e3 * apart:.4g} mm apart; it acts in the middle, on rigid arms to both"
            )
        whole = Connector.build(
            name, "joint", ends, places, at, axes, np.array(joint.stiffness), np.array(joint.damping)
        )
        self.out.frames[name] = whole
        if any(joint.stiffness) or any(joint.damping):
            self.out.elastic_joints.append(whole)
        held = list(joint.held)
        nodes = np.unique(np.concatenate([np.array(ends), *made.held]))
        rows = slice(self.count, self.count)
        weights = np.zeros((6, 0))
        if held:
            # row: stretch = 0, written with the second end's motion that it determines most as the dependent one
            stretch = whole.stretch[held]
            dofs = node_dofs(np.array(ends))
            # second end u_b = what the first end carries there, in the held directions: solve for well-placed pivots
            _, pivots = _pivots(stretch[:, 6:])
            dependent = dofs[6:][pivots]
            solved = np.linalg.solve(stretch[:, 6:][:, pivots], stretch)
            masters = -solved
            masters[:, 6 + np.array(pivots)] += np.eye(len(held))
            r, c = np.repeat(np.arange(len(held)), 12), np.tile(dofs, len(held))
            A = coo_array((masters.ravel(), (r, c)), shape=(len(held), self.size)).tocsr()
            A.eliminate_zeros()
            rows = self.rows(owner, dependent, csr_array(A))
            # Cᵀ λ with C = solved @ u: forces on the second end; the first feels the opposite
            force = -np.linalg.inv(stretch[:, 6:][:, pivots]).T
            weights = np.zeros((6, len(held)))
            weights[held] = force
        self.out.bonds[name] = Bond(name, "joint", at, axes, rows, weights, nodes)

    # -- ties -----------------------------------------------------------------------------------------

    def tie(self, name: str) -> None:
        tie = self.d.ties[name]
        owner = f'tie "{name}"'
        nodes = select_nodes(self.mesh, self.d, tie.nodes, owner)
        found = project(self.mesh, nodes, tie.faces, tie.within, owner)
        solid = not self.active[6 * found.corners.ravel() + 3].any()
        motions = np.arange(3) if solid else np.arange(6)
        dependent, r, c, v = [], [], [], []
        count = 0
        for d in motions:
            own = self.active[6 * found.nodes + d]
            if not own.any():
                continue
            k = int(own.sum())
            dependent.append(6 * found.nodes[own] + d)
            r.append(np.repeat(count + np.arange(k), found.corners.shape[1]))
            c.append((6 * found.corners[own] + d).ravel())
            v.append(found.weights[own].ravel())
            if d < 3 and not solid:  # off the shell's mid-surface the face's turn carries the node along
                arm = arm_matrix(found.arms[own])[:, d]  # (k, 3)
                for t in range(3):
                    r.append(np.repeat(count + np.arange(k), found.corners.shape[1]))
                    c.append((6 * found.corners[own] + 3 + t).ravel())
                    v.append((arm[:, t, None] * found.weights[own]).ravel())
            count += k
        flat = np.concatenate(dependent)
        entries = (np.concatenate(v), (np.concatenate(r), np.concatenate(c)))
        A = coo_array(entries, shape=(len(flat), self.size)).tocsr()
        A.eliminate_zeros()
        rows = self.rows(owner, flat, csr_array(A))
        if solid:
            self.tied |= {int(n): (f"tie {name}", c) for n, c in zip(found.nodes, found.corners, strict=True)}
        place = self.mesh.nodes[found.nodes].mean(axis=0)
        weights = -_resultant(self.mesh.nodes, flat, place, np.eye(3))
        both = np.unique(np.concatenate([found.nodes, found.corners.ravel()]))
        self.out.bonds[name] = Bond(name, "tie", place, np.eye(3), rows, weights, both)
        if found.largest_gap > 1e-6:
            diagonal = float(np.linalg.norm(np.ptp(self.mesh.nodes, axis=0)))
            share = found.largest_gap / diagonal
            far = "" if share <= FAR else f", {100 * share:.0f} % of the size of the assembly: is within right?"
            self.out.notes.append(
                f"{owner}: {len(found.nodes)} nodes tied over gaps of up to {1e3 * found.largest_gap:.3g} mm{far}"
            )

    def into_solids(self) -> None:
        """Edges of shells and ends of beams in solids carry their rotations: the mean one of the solid about each node.

        A solid has displacements only, so that an edge would be a hinge. What lies on a solid with a whole face or
        length needs none; neither do rotations that a support, link or tie holds already.
        """
        solid = np.zeros(len(self.mesh.nodes), dtype=bool)
        cells = [b.cells for b in self.mesh.blocks if CELLS[b.kind].family == "solid"]
        if not cells:
            return
        for c in cells:
            solid[c.ravel()] = True
        held = np.zeros(self.size, dtype=bool)
        for equation in self.out.equations:
            held[equation.dependent] = True
        edges: dict[int, str] = {}
        for block in self.mesh.blocks:
            kind = CELLS[block.kind]
            if kind.family == "solid" or block.cells.shape[1] < 2:
                continue
            corners = block.cells[:, : len(kind.faces[0])] if kind.family == "surface" else block.cells
            lying = solid[corners].all(axis=1)
            own = np.setdiff1d(block.cells[solid[block.cells]], block.cells[lying].ravel())
            edges |= dict.fromkeys(own.tolist(), block.part)
        edges |= {node: part for node, (part, _) in self.tied.items()}
        turns = np.array([n for n in edges if not held[6 * n + 3 : 6 * n + 6].any()
                          and self.active[6 * n + 3 : 6 * n + 6].any()], dtype=np.int64)  # fmt: skip
        found: dict[str, list[tuple[Ints, Ints, Floats]]] = {}
        around = _Around(cells, len(self.mesh.nodes))
        ends = {node: (part, way) for part, own in self.across.items() for node, way in own.items()}
        for node in turns.tolist():
            shown = node in ends and self.fine(node, ends[node][0])
            spread = self.footprint(node, *ends[node]) if shown else None
            if spread is not None and (mean := spread.mean_motion()) is not None:
                dofs = 6 * node + 3 + np.flatnonzero(self.active[6 * node + 3 : 6 * node + 6])
                columns = (6 * spread.nodes[:, None] + np.arange(3)).ravel()
                found.setdefault(edges[node], []).append((dofs, columns, mean[dofs - 6 * node]))
                self.out.spread_ends.add(node)
                continue
            near = self.tied[node][1] if node in self.tied else np.array([node])
            targets = np.setdiff1d(around.nodes(near), [node])
            targets = targets[self.active.reshape(-1, 6)[targets, :3].all(axis=1)]
            mean = _mean_motion(self.mesh.nodes[targets])
            if mean is None:
                continue
            dofs = 6 * node + 3 + np.flatnonzero(self.active[6 * node + 3 : 6 * node + 6])
            columns = (6 * targets[:, None] + np.arange(3)).ravel()
            found.setdefault(edges[node], []).append((dofs, columns, mean[dofs - 6 * node]))
        self.turned(found, "carry their rotation into the solids that they end in", "in a solid")

    def onto_shells(self) -> None:
        """Beams that end within a shell, across its plane, turn as the area under their section does.

        At one node a torque has no stiffness in the limit of small elements (4 π G t a² of a disc of radius a), and a
        moment less and less. A mesh that is coarse beside the section spreads moments as wide as it is, and only the
        torque is carried. Where the shell has a fold, or another beam lies in it, the node is held otherwise.
        """
        shells = [b for b in self.mesh.blocks if CELLS[b.kind].family == "surface"]
        if not shells or not self.across:
            return
        every = np.array(sorted(self._owners), dtype=np.int64)
        held = np.zeros(self.size, dtype=bool)
        for equation in self.out.equations:  # also what links and joints hold on to
            held[equation.dependent] = True
            held[equation.masters.indices] = True
        normals: dict[int, list[Floats]] = {}
        for block in shells:
            near = np.isin(block.cells, every)
            own = near.any(axis=1)
            corners = block.cells[own, : 3 if block.cells.shape[1] in (3, 6) else 4]
            for cell, on, normal in zip(
                block.cells[own], near[own], face_normals(self.mesh.nodes[corners]), strict=True
            ):
                for node in cell[on].tolist():
                    normals.setdefault(node, []).append(normal)
        found: dict[str, list[tuple[Ints, Ints, Floats]]] = {}
        for part, nodes in self.across.items():
            for node, way in nodes.items():
                about, dofs = normals.get(node), 6 * node + np.arange(3, 6)
                if about is None or held[dofs].any():
                    continue
                steep = abs(float(way @ about[0])) > _STANDS * float(np.linalg.norm(way))
                if not steep or any(abs(float(about[0] @ n)) < _FLAT for n in about):
                    continue
                spread = self.footprint(node, part, about[0])
                mean = None if spread is None else spread.mean_motion()
                if spread is None or mean is None:
                    continue
                columns, turn = (6 * spread.nodes[:, None] + np.arange(3)).ravel(), mean[3:]
                if not self.fine(node, part):
                    n = np.where(np.abs(about[0]) < 1e-9, 0.0, about[0])
                    k = int(np.abs(n).argmax())
                    rest = np.array([j for j in range(3) if j != k and n[j]], dtype=np.int64)
                    columns, turn = (
                        np.concatenate([columns, dofs[rest]]),
                        np.concatenate([n @ turn, -n[rest]])[None] / n[k],
                    )
                    dofs = dofs[[k]]
                else:
                    self.out.spread_ends.add(node)
                found.setdefault(part, []).append((dofs, columns, turn))
                held[dofs] = True
        self.turned(found, "turn with the area under their section, on the shells that they stand on", "on a shell")

    def fine(self, node: int, part: str) -> bool:
        """Whether the mesh shows the section of a beam that ends on a node."""
        return bool(self._spacing[node] <= _SHOWN * self.reach(part))

    @cached_property
    def _spacing(self) -> Floats:
        """Distance of nodes of shells and solids about each node, m."""
        return node_spacing(self.mesh)

    def reach(self, part: str) -> float:
        """Radius in m of the section of a beam."""
        beam = self.d.parts[part].beam
        if beam is None:
            return 0.0
        s = section_properties(self.d.sections[beam.section])
        if len(s.fibres):
            return float(np.linalg.norm(s.fibres, axis=1).max())
        return float(np.sqrt(2 * (s.Iy + s.Iz) / s.area))  # of a full circle its radius

    def turned(self, found: dict[str, list[tuple[Ints, Ints, Floats]]], words: str, where: str) -> None:
        """Rotations that follow translations: by part the motions, those that they follow, and how."""
        for part, each in found.items():
            dofs = np.concatenate([d for d, _, _ in each])
            r = np.repeat(np.arange(len(dofs)), [len(c) for d, c, _ in each for _ in d])
            c = np.concatenate([np.tile(c, len(d)) for d, c, _ in each])
            A = coo_array((np.concatenate([a.ravel() for _, _, a in each]), (r, c)), shape=(len(dofs), self.size))
            self.rows(f'rotation of "{part}" {where}', dofs, csr_array(A.tocsr()))
        told = [f'"{part}" ({len(each)} node{"s" if len(each) > 1 else ""})' for part, each in found.items()]
        if told:
            self.out.carried.append(f"{words}: {first_few(told, 12)}")

    def footprint(self, node: int, part: str, way: Floats) -> Spread | None:
        """The area of shells or solids about a node, across a direction, that lies under the section of a beam."""
        reach = self.reach(part)
        if not reach:
            return None
        n = way / np.linalg.norm(way)
        disc = CylinderRegion.model_construct(
            base=tuple(self.mesh.nodes[node] - reach * n), axis=tuple(n), radius=float(reach), length=2.0 * float(reach)
        )
        try:
            return spread_over(
                self.outer, self.d, Selection.model_construct(part=self._owners[node], cylinder=disc), part
            )
        except SelectionError:
            return None

    @cached_property
    def across(self) -> dict[str, dict[int, Floats]]:
        """Ends of beams on single nodes of shells and solids (`beams_across`)."""
        return beams_across(self.mesh)

    @cached_property
    def _owners(self) -> dict[int, tuple[str, ...]]:
        """Parts of shells and solids by these nodes."""
        every = np.array(sorted({node for own in self.across.values() for node in own}), dtype=np.int64)
        found: dict[int, tuple[str, ...]] = {}
        for part in dict.fromkeys(b.part for b in self.mesh.blocks if CELLS[b.kind].family != "line"):
            for node in every[np.isin(every, self.mesh.part_nodes[part])].tolist():
                found[node] = (*found.get(node, ()), part)
        return found

    def support(self, name: str, pattern: Pattern) -> None:
        support = self.d.supports[name]
        owner = f'support "{name}"'
        nodes = self.attached(owner, select_nodes(self.mesh, self.d, support.at, owner), "nodes")
        held = np.array([DIRECTION_NAMES.index(h) for h in support.hold], dtype=np.int64)
        dofs = (nodes[:, None] * 6 + held).ravel()
        dofs = dofs[self.active[dofs]]
        feet = None
        if support.pushes is not None:
            axis = "xyz".index(support.pushes[-1])
            own = nodes[self.active[6 * nodes + axis]]
            across = tuple("xyz".index(a) for a in support.across if a not in support.hold)
            sign = -1.0 if support.pushes[0] == "-" else 1.0
            feet = Feet(name, own, axis, sign, support.gap or 0.0, support.friction or 0.0, across)
            if len(own) == 0:
                raise DescriptionError(
                    f"{owner}: nothing moves its nodes in {support.pushes[-1]}, along which it pushes"
                )
        elif len(dofs) == 0:
            raise DescriptionError(
                f"{owner}: holds nothing: no part, spring, mass or link moves its nodes in {', '.join(support.hold)}"
            )
        self.out.supports[name] = SupportRows(name, nodes, support.hold, dofs, slice(0, 0), feet)
        self.hold(self.out.supports[name], pattern)

    def hold(self, support: SupportRows, pattern: Pattern) -> None:
        """The rows of a support: what it holds both ways, then what its feet hold."""
        dofs = support.dofs
        if support.feet is not None:
            dofs = np.concatenate([dofs, feet_dofs(support.feet, pattern, self.active)])
        rows = self.rows(f'support "{support.name}"', dofs, csr_array((len(dofs), self.size)))
        self.out.supports[support.name] = replace(support, dofs=dofs, rows=rows)


def feet_dofs(feet: Feet, pattern: Pattern, active: NDArray[np.bool_]) -> Ints:
    """Motions that feet hold: along where they touch, across where they stick."""
    touching = feet.nodes[~pattern.is_open(feet)]
    sticking = feet.nodes[~pattern.is_sliding(feet)]
    across = (6 * sticking[:, None] + np.array(feet.across, dtype=np.int64)).ravel()
    return np.concatenate([6 * touching + feet.axis, across[active[across]]])


def held_again(
    d: Description,
    mesh: Mesh,
    active: NDArray[np.bool_],
    supports: dict[str, SupportRows],
    pattern: Pattern,
    equations: list[Equation],
) -> tuple[list[Equation], dict[str, SupportRows]]:
    """Equations (those of all but one-way supports are given) and supports under another pattern."""
    collector = _Collector(d, mesh, active)
    collector.count = sum(len(e.dependent) for e in equations)
    result = dict(supports)
    for name, support in supports.items():
        if support.feet is not None:
            gone = len(support.dofs) - (support.rows.stop - support.rows.start)
            assert gone == 0
            both = len([h for h in support.dofs if DIRECTION_NAMES[h % 6] in support.hold])
            collector.hold(replace(support, dofs=support.dofs[:both]), pattern)
            result[name] = collector.out.supports[name]
    return [*equations, *collector.out.equations], result


def _place(xyz: Floats) -> str:
    return "[" + ", ".join(f"{1e3 * v:.4g}" for v in xyz) + "] mm"


def _pivots(matrix: Floats) -> tuple[Floats, list[int]]:
    """Columns that determine all rows best."""
    _, R, order = scipy.linalg.qr(matrix, mode="economic", pivoting=True)
    return R, [int(i) for i in order[: len(matrix)]]


def _resultant(places: Floats, dofs: Ints, at: Floats, axes: Floats) -> Floats:
    """Force and moment at a place from forces on dofs, shape (6, motions)."""
    direction = dofs % 6
    W = np.zeros((6, len(dofs)))
    columns = np.arange(len(dofs))
    push = direction < 3
    unit = np.zeros((len(dofs), 3))
    unit[push, direction[push]] = 1.0
    W[:3] = unit.T
    W[3:] = np.cross(places[dofs // 6] - at, unit).T
    W[3 + direction[~push] - 3, columns[~push]] = 1.0
    turn = np.zeros((6, 6))
    turn[:3, :3] = turn[3:, 3:] = axes
    return turn @ W


def _mean_motion(places: Floats) -> Floats | None:
    """The mean rigid motion about their centre from translations of places, (6, 3 places): least squares.

    None where they lie in one line or point, so that it is not defined.
    """
    if not len(places):
        return None
    arms = places - places.mean(axis=0)
    fit = np.zeros((3 * len(places), 6))
    fit[:, :3] = np.tile(np.eye(3), (len(places), 1))
    fit[:, 3:] = arm_matrix(arms).reshape(-1, 3)
    radius = float(np.linalg.norm(arms, axis=1).max())
    scale = np.array([1.0, 1.0, 1.0, *[radius or 1.0] * 3])
    if np.linalg.matrix_rank(fit / scale, tol=1e-8) < 6:
        return None
    return np.asarray(np.linalg.pinv(fit / scale) / scale[:, None])


class _Around:
    """Nodes of the cells about nodes."""

    def __init__(self, cells: list[Ints], count: int) -> None:
        widths = np.concatenate([np.full(len(c), c.shape[1]) for c in cells])
        rows = np.repeat(np.arange(len(widths)), widths)
        flat = np.concatenate([c.ravel() for c in cells])
        self._of_cell = csr_array((np.ones(len(flat)), (rows, flat)), shape=(len(widths), count))
        self._of_node = csr_array(self._of_cell.T)

    def nodes(self, about: Ints) -> Ints:
        """Of all cells that have every one of these nodes, or if none has, of those that have one."""
        cells, hits = np.unique(_columns(self._of_node, np.unique(about)), return_counts=True)
        return np.unique(_columns(self._of_cell, cells[hits == hits.max(initial=0)]))


def _columns(matrix: csr_array, rows: Ints) -> Ints:
    """Columns of all entries in rows, read from the arrays: slicing costs a hundred times as much for so few."""
    start, indices = matrix.indptr, matrix.indices
    return np.concatenate([indices[:0], *(indices[start[k] : start[k + 1]] for k in rows)])


def build_bonds(
    d: Description,
    mesh: Mesh,
    active: NDArray[np.bool_],
    sides: dict[str, Sides],
    pattern: Pattern,
) -> Bonds:
    """Equations of everything that constrains, one-way supports last."""
    collector = _Collector(d, mesh, active)
    for name in d.links:
        with entry("link", name):
            collector.link(name)
    for name, made in sides.items():
        with entry("joint" if name in d.joints else "spring" if name in d.springs else "bushing", name):
            if name in d.joints:
                collector.joint(name, made)
            else:
                collector.sides(made, name)
    for name in d.ties:
        with entry("tie", name):
            collector.tie(name)
    for name in sorted(d.supports, key=lambda n: d.supports[n].pushes is not None):
        with entry("support", name):
            collector.support(name, pattern)
    collector.into_solids()
    collector.onto_shells()
    collector.out.supports = {name: collector.out.supports[name] for name in d.supports}
    return collector.out


def all_sides(d: Description, mesh: Mesh) -> tuple[Mesh, dict[str, Sides]]:
    """Ends of joints, springs and bushings; a side that is a set of nodes gets a node of its own at their centre."""
    result: dict[str, Sides] = {}
    nodes, outer = [mesh.nodes], OuterFaces(mesh)
    count = len(mesh.nodes)
    tables: tuple[tuple[str, dict[str, Any]], ...] = (
        ("joint", d.joints), ("spring", d.springs), ("bushing", d.bushings),
    )  # fmt: skip
    for kind, name, model in ((k, n, m) for k, table in tables for n, m in table.items()):
        owner = f'{kind} "{name}"'
        with entry(kind, name):
            ends: list[int] = []
            sides: list[Ints | Spread | None] = []
            links: list[str] = []
            for k, side in enumerate(model.between):
                if isinstance(side, str):
                    if side == GROUND:
                        continue
                    ends.append(mesh.points[side])
                    sides.append(None)
                    links.append("")
                    continue
                links.append(side.link)
                if side.link == "area":
                    spread = spread_over(outer, d, side.to, f"{owner}, side {k + 1}")
                    nodes.append(spread.centre[None])
                    ends.append(count)
                    sides.append(spread)
                    count += 1
                    continue
                chosen = select_nodes(mesh, d, side.to, f"{owner}, side {k + 1}")
                if len(chosen) == 1 and _is_point(side.to):
                    ends.append(int(chosen[0]))
                    sides.append(None)
                else:
                    nodes.append(mesh.nodes[chosen].mean(axis=0, keepdims=True))
                    ends.append(count)
                    sides.append(chosen)
                    count += 1
            if not ends:
                raise DescriptionError(f"{owner}: one end at least must be a point or a selection")
            if len(ends) == 2 and ends[0] == ends[1]:
                raise DescriptionError(f'{owner}: both sides are one node; write "apart: true" at one of the points')
            result[name] = Sides(owner, tuple(ends), tuple(sides), tuple(links))
    if count == len(mesh.nodes):
        return mesh, result
    return replace(mesh, nodes=np.concatenate(nodes), part_nodes={}), result


def _is_point(selection: Selection) -> bool:
    return selection.points is not None and len(selection.points) == 1
