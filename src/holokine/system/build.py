"""Building the system of a description: elements, connectors, constraints and matrices."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

from holokine.describe import Description
from holokine.describe.references import group_members
from holokine.describe.schema import GROUND, Bushing, Spring
from holokine.elements.beam import BeamElements
from holokine.elements.connectors import Connector, PointMass, arm_matrix, axes_from
from holokine.elements.sections import section_properties
from holokine.errors import DescriptionError
from holokine.mesh import Mesh, build_mesh, select_nodes
from holokine.system.assemble import DIRECTION_NAMES, assemble, node_dofs
from holokine.system.constraints import Constraints, Equation, eliminate

__all__ = ["LinkRows", "SupportRows", "System", "build_system"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]


@dataclass(frozen=True)
class LinkRows:
    """A rigid link: its point's node, the nodes it carries, and the constrained motions, row by row."""

    name: str
    node: int
    targets: Ints
    dofs: Ints
    rows: slice


@dataclass(frozen=True)
class SupportRows:
    """A support: its nodes, the held directions, and the held motions, row by row."""

    name: str
    nodes: Ints
    hold: tuple[str, ...]
    dofs: Ints
    rows: slice


@dataclass(frozen=True)
class System:
    """An assembly as matrices, six motions (x y z rx ry rz) per node, SI.

    Attributes
    ----------
    stiffness, mass, damping : sparse array, shape (dofs, dofs)
        Of the whole, before constraints; `damping` holds discrete dampers only.
    constraints : Constraints
        Supports and links; ``constraints.reduce`` is T with u = T v.
    """

    description: Description
    mesh: Mesh
    elements: tuple[BeamElements, ...]
    connectors: tuple[Connector, ...]
    masses: tuple[PointMass, ...]
    stiffness: csr_array
    mass: csr_array
    damping: csr_array
    active: NDArray[np.bool_]
    constraints: Constraints
    links: dict[str, LinkRows]
    supports: dict[str, SupportRows]
    notes: list[str] = field(default_factory=list)

    @property
    def size(self) -> int:
        """Number of motions before constraints."""
        return int(self.stiffness.shape[0])

    @property
    def free_size(self) -> int:
        """Number of independent motions."""
        return int(self.constraints.reduce.shape[1])

    @cached_property
    def reduced_stiffness(self) -> csr_array:
        """Tᵀ K T."""
        return self._reduced(self.stiffness)

    @cached_property
    def reduced_mass(self) -> csr_array:
        """Tᵀ M T."""
        return self._reduced(self.mass)

    def _reduced(self, matrix: csr_array) -> csr_array:
        T = self.constraints.reduce
        result = csr_array(T.T @ matrix @ T)
        return csr_array((result + result.T) * 0.5)

    def rigid_motions(self, about: Floats) -> Floats:
        """Rigid-body motions of all nodes for unit motion along x y z and unit turn about x y z at `about`.

        Returns
        -------
        ndarray, shape (6, dofs)
        """
        places = self.mesh.nodes - about
        R = np.zeros((6, len(places), 6))
        for d in range(3):
            R[d, :, d] = 1.0
            R[3 + d, :, 3 + d] = 1.0
        S = arm_matrix(places)  # (nodes, 3, 3): displacement = S @ turn
        R[3:, :, :3] = np.moveaxis(S, 2, 0)
        motions = R.reshape(6, -1)
        motions[:, ~self.active] = 0.0
        return motions

    def element_blocks(self, part: str) -> list[BeamElements]:
        """Element sets of one part."""
        return [e for e in self.elements if e.part == part]

    def members(self, group: str) -> list[str]:
        """Names in a group."""
        return group_members(self.description, group)


def build_system(description: Description, mesh: Mesh | None = None) -> System:
    """Mesh (unless given), build all elements and connectors, assemble and eliminate.

    Raises
    ------
    MeshError, SelectionError, ConstraintError, DescriptionError
    """
    mesh = mesh or build_mesh(description)
    elements = tuple(_elements(description, mesh))
    connectors = tuple(_connectors(description, mesh))
    masses = tuple(
        PointMass(name, mesh.points[m.at], m.mass, np.array(m.offset), np.array(m.inertia))
        for name, m in description.masses.items()
    )
    for name, m in description.masses.items():
        _check_inertia(name, m.mass, np.array(m.inertia))
    size = 6 * len(mesh.nodes)
    blocks: list[Any] = [(node_dofs(e.nodes), *e.matrices()) for e in elements]
    springs: list[Any] = [(node_dofs(np.array(c.nodes))[None], *(m[None] for m in c.matrices())) for c in connectors]
    bodies = [(node_dofs(np.array([m.node]))[None], m.matrix()[None]) for m in masses]
    K = assemble(size, [(d, k) for d, k, _ in blocks] + [(d, k) for d, k, _ in springs])
    M = assemble(size, [(d, m) for d, _, m in blocks] + bodies)
    C = assemble(size, [(d, c) for d, _, c in springs])
    active: Any = (K.diagonal() != 0) | (M.diagonal() != 0) | (C.diagonal() != 0)
    for link in description.links.values():
        active[node_dofs(np.array([mesh.points[link.rigid]]))] = True
    equations, links, supports, notes = _constraints(description, mesh, active)
    constraints = eliminate(size, active, equations)
    if constraints.redundant:
        notes.append(
            f"over-constrained: {', '.join(constraints.redundant)} repeat what other links or supports hold "
            "already; frequencies are right, but how the force is shared between them is not defined"
        )
    return System(description, mesh, elements, connectors, masses, K, M, C, active, constraints, links, supports, notes)


def _elements(d: Description, mesh: Mesh) -> list[BeamElements]:
    result = []
    properties = {name: section_properties(s) for name, s in d.sections.items()}
    for name, part in d.parts.items():
        material = d.materials[part.material]
        for block in mesh.blocks_of(name):
            beam = part.beam
            assert block.arms is not None
            result.append(
                BeamElements.build(
                    name,
                    block.cells,
                    mesh.nodes,
                    block.arms,
                    section=properties[beam.section],
                    E=material.E,
                    G=material.shear_modulus,
                    density=material.density,
                    up=beam.up,
                    eccentricity=beam.eccentricity,
                    release_start=tuple(DIRECTION_NAMES.index(r) for r in beam.release.start),
                    release_end=tuple(DIRECTION_NAMES.index(r) for r in beam.release.end),
                    theory=beam.theory,
                    preload=beam.preload,
                    mass=d.mass_matrix,
                )
            )
    return result


def _connectors(d: Description, mesh: Mesh) -> list[Connector]:
    result = []
    tables: tuple[tuple[str, dict[str, Spring] | dict[str, Bushing]], ...] = (
        ("spring", d.springs),
        ("bushing", d.bushings),
    )
    for kind, table in tables:
        for name, spring in table.items():
            ends = [e for e in spring.between if e != GROUND]
            if not ends:
                raise DescriptionError(f'{kind} "{name}": one end at least must be a point')
            nodes = tuple(mesh.points[e] for e in ends)
            if len(nodes) == 2 and nodes[0] == nodes[1]:
                raise DescriptionError(
                    f'{kind} "{name}": its points "{ends[0]}" and "{ends[1]}" are one node; '
                    'write "apart: true" at one of the points'
                )
            places = mesh.nodes[list(nodes)]
            stiffness, damping = np.zeros(6), np.zeros(6)
            if isinstance(spring, Spring):
                stiffness[0], damping[0] = spring.stiffness, spring.damping
                axes = axes_from(spring.axis or _line(name, places))
            else:
                stiffness[:], damping[:] = spring.stiffness, spring.damping
                axes = np.eye(3)
                if spring.axes is not None:
                    try:
                        axes = axes_from(spring.axes.x, spring.axes.y)
                    except ValueError as err:
                        raise DescriptionError(f'bushing "{name}", axes: {err}') from None
            if not (stiffness.any() or damping.any()):
                raise DescriptionError(f'{kind} "{name}": has neither stiffness nor damping')
            first = spring.between[0] == GROUND
            at = places.mean(axis=0)
            result.append(Connector.build(name, kind, nodes, places, at, axes, stiffness, damping, ground_first=first))
    return result


def _line(name: str, places: Floats) -> tuple[float, ...]:
    line = places[-1] - places[0]
    if len(places) < 2 or np.linalg.norm(line) < 1e-12:
        raise DescriptionError(
            f'spring "{name}": its ends give no direction (same place, or ground); add axis: x, y, z or a vector'
        )
    return tuple(line)


def _check_inertia(name: str, mass: float, inertia: Floats) -> None:
    principal = np.linalg.eigvalsh(inertia)
    slack = 1e-9 * max(abs(principal).max(), 1e-30)
    if principal[0] < -slack or principal[2] > principal[0] + principal[1] + slack:
        shown = ", ".join(f"{p:.4g}" for p in principal)
        raise DescriptionError(
            f'mass "{name}": no body has the principal inertias [{shown}] kg m^2: each must be at least zero '
            "and none larger than the sum of the other two. Give tensor entries about the centre of mass, "
            "products with their minus sign"
        )
    if mass == 0.0 and principal[2] > 0:
        raise DescriptionError(f'mass "{name}": has inertia but no mass')


def _constraints(
    d: Description, mesh: Mesh, active: NDArray[np.bool_]
) -> tuple[list[Equation], dict[str, LinkRows], dict[str, SupportRows], list[str]]:
    size = len(active)
    equations: list[Equation] = []
    links: dict[str, LinkRows] = {}
    supports: dict[str, SupportRows] = {}
    notes: list[str] = []
    count = 0
    for name, link in d.links.items():
        node = mesh.points[link.rigid]
        targets = select_nodes(mesh, d, link.to, f'link "{name}"')
        targets = targets[targets != node]
        if len(targets) == 0:
            raise DescriptionError(f'link "{name}": links the point "{link.rigid}" to nothing but itself')
        A, dofs = _rigid_rows(mesh.nodes, node, targets, active)
        owner = f'link "{name}"'
        if len(dofs) == 0:
            raise DescriptionError(f"{owner}: none of its targets belongs to a part, spring or mass")
        equations.append(Equation(owner, dofs, A))
        links[name] = LinkRows(name, node, targets, dofs, slice(count, count + len(dofs)))
        count += len(dofs)
    for name, support in d.supports.items():
        nodes = select_nodes(mesh, d, support.at, f'support "{name}"')
        held = [DIRECTION_NAMES.index(h) for h in support.hold]
        dofs = (nodes[:, None] * 6 + np.array(held)).ravel()
        dofs = dofs[active[dofs]]
        owner = f'support "{name}"'
        if len(dofs) == 0:
            raise DescriptionError(f"{owner}: holds nothing: its nodes belong to no part, spring, mass or link")
        equations.append(Equation(owner, dofs, csr_array((len(dofs), size))))
        supports[name] = SupportRows(name, nodes, support.hold, dofs, slice(count, count + len(dofs)))
        count += len(dofs)
    return equations, links, supports, notes


def _rigid_rows(places: Floats, node: int, targets: Ints, active: NDArray[np.bool_]) -> tuple[csr_array, Ints]:
    """Rows that make targets follow the rigid motion of `node`; only for motions that are active."""
    carry = np.zeros((len(targets), 6, 6))
    carry[:, range(6), range(6)] = 1.0
    carry[:, :3, 3:] = arm_matrix(places[targets] - places[node])
    dofs = node_dofs(targets[:, None])
    wanted = active[dofs].ravel()
    flat = carry.reshape(-1, 6)[wanted]
    rows = np.repeat(np.arange(len(flat)), 6)
    cols = np.tile(6 * node + np.arange(6), len(flat))
    A = coo_array((flat.ravel(), (rows, cols)), shape=(len(flat), len(active))).tocsr()
    A.eliminate_zeros()
    return csr_array(A), dofs.ravel()[wanted]
