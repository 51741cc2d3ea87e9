"""Building the system of a description: elements, connectors, constraints and matrices."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, diags_array

from holokine.describe.files import Folder
from holokine.describe.joints import AveragingOrRigid
from holokine.describe.references import group_members
from holokine.describe.schema import GROUND, Bushing, Material, Spring
from holokine.elements.beam import BeamElements
from holokine.elements.cable import CableElements
from holokine.elements.connectors import Connector, PointMass, arm_matrix, axes_from
from holokine.elements.constitutive import plane_stress, rotate, solid_matrix, transverse_shear
from holokine.elements.curved import CurvedShellElements
from holokine.elements.kinds import ElementKind
from holokine.elements.laminate import Laminate, Ply
from holokine.elements.sections import round_section, section_properties, tapered
from holokine.elements.shell import ShellElements
from holokine.elements.solid import SolidElements
from holokine.errors import DescriptionError, entry
from holokine.mesh.build import build_mesh
from holokine.mesh.cells import CELLS
from holokine.mesh.select import one_node, select_nodes
from holokine.system.assemble import DIRECTION_NAMES, Accumulator, assemble, node_dofs, without_noise
from holokine.system.constraints import Constraints, Equation, eliminate
from holokine.system.links import Bond, Carrier, Sides, SupportRows, all_sides, build_bonds, held_again
from holokine.system.pattern import Feet, Pattern, at_no_load
from holokine.system.wide import Following, Matrix

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.describe.parts import Part, Shell
    from holokine.mesh.mesh import Block, Mesh

__all__ = ["Elements", "StressBlock", "System", "build_system"]

Elements = ElementKind


class Matrices(NamedTuple):
    """Matrices of an assembly, sparse: stiffness, mass, damping (motions, motions), and T with u = T v."""

    stiffness: csr_array
    mass: csr_array
    damping: csr_array
    reduce: csr_array


@dataclass(frozen=True)
class System:
    """An assembly as matrices, six dofs (x y z rx ry rz) per node, SI.

    Attributes
    ----------
    stiffness, mass, damping : sparse array, shape (dofs, dofs)
        Of the whole, before constraints; `damping` holds discrete dampers only.
    weighed : sparse array, shape (dofs, dofs)
        The mass matrix with all directions, where `mass` has some switched off on request.
    constraints : Constraints
        Supports and links; ``constraints.reduce`` is T with u = T v.
    pattern : Pattern
        What acts of one-way members.
    equations : list of Equation
        Of all that constrains, but for one-way supports.
    carriers : list of Carrier
        Nodes that carry others as rigid bodies.
    frames : dict of str to Connector
        The six stretches of every joint.
    stressed : tuple of StressBlock
        About a state: what loads on links, masses, springs and faces add to the stiffness.
    added : sparse array, shape (dofs, dofs), or None
        All that the stress of the state adds; it is in `stiffness`.
    about : str
        Name of the state; "" for the unloaded assembly.
    resting : dict of str to ndarray
        By one-way support (N at each foot, 0 where open), spring and cable (one force in N): what they carry there.
    """

    description: Description
    mesh: Mesh
    elements: tuple[Elements, ...]
    connectors: tuple[Connector, ...]
    masses: tuple[PointMass, ...]
    stiffness: csr_array
    mass: csr_array
    weighed: csr_array
    damping: csr_array
    active: NDArray[np.bool_]
    constraints: Constraints
    bonds: dict[str, Bond]
    supports: dict[str, SupportRows]
    notes: list[str] = field(default_factory=list)
    pattern: Pattern = field(default_factory=Pattern)
    equations: list[Equation] = field(default_factory=list, repr=False)
    carriers: list[Carrier] = field(default_factory=list, repr=False)
    frames: dict[str, Connector] = field(default_factory=dict, repr=False)
    stressed: tuple[StressBlock, ...] = ()
    added: csr_array | None = None
    about: str = ""
    resting: dict[str, Floats] = field(default_factory=dict)
    told: list[str] = field(default_factory=list)
    spread_ends: frozenset[int] = frozenset()
    """What else is to be known of it, without reason for doubt."""
    kept: dict[str, Any] = field(default_factory=dict, repr=False)
    """What was made of the matrices and is kept with them (a factorisation)."""

    def __post_init__(self) -> None:
        for matrix in (self.stiffness, self.mass, self.weighed, self.damping):
            _kept(matrix)

    def __getstate__(self) -> dict[str, Any]:
        """Without what is kept: factorisations cannot be copied, and are made again where they are needed."""
        return {**self.__dict__, "kept": {}}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self.__post_init__()

    @property
    def size(self) -> int:
        """Number of dofs before constraints."""
        return int(self.stiffness.shape[0])

    @property
    def free_size(self) -> int:
        """Number of independent dofs."""
        return int(self.constraints.reduce.shape[1])

    @property
    def feet(self) -> list[Feet]:
        """Feet of all one-way supports."""
        return [s.feet for s in self.supports.values() if s.feet is not None]

    def with_pattern(self, pattern: Pattern) -> System:
        """The same with another pattern of what acts."""
        if pattern is self.pattern:
            return self
        size, change = self.size, []
        connectors = [c for c in self.connectors if c.kind != "friction"]
        for number, c in enumerate(connectors):
            if c.kind == "spring" and c.name in pattern.springs and c.stiffness[0] != pattern.springs[c.name]:
                stiffness = c.stiffness.copy()
                stiffness[0] = pattern.springs[c.name]
                now = connectors[number] = replace(c, stiffness=stiffness)
                change.append((node_dofs(np.array(c.nodes))[None], (now.matrices()[0] - c.matrices()[0])[None]))
        for c in (c for c in self.connectors if c.kind == "friction"):
            change.append((node_dofs(np.array(c.nodes))[None], -c.matrices()[0][None]))
        for c in _friction_springs(self, pattern):
            connectors.append(c)
            change.append((node_dofs(np.array(c.nodes))[None], c.matrices()[0][None]))
        active, elements, inert = self.active, self.elements, []
        if pattern.slack != self.pattern.slack:
            assert not self.pattern.slack
            active = active.copy()
            others: Any = np.zeros(size, dtype=bool)
            elements = tuple(
                e.absent() if e.part in pattern.slack else e
                for e in self.elements  # type: ignore[attr-defined]
            )
            for old, new in zip(self.elements, elements, strict=True):
                if old is new:
                    others[old.acting.ravel()] = True
                    continue
                for sign, e in ((-1.0, old), (1.0, new)):
                    for dofs, k, m in e.chunks():
                        change.append((dofs, sign * k))
                        inert.append((dofs, sign * m))
                active[old.acting.ravel()] = False
            M_diag = csr_array(self.mass + assemble(size, inert)).diagonal()
            active = (active | others) & self.active
            for c in connectors:
                active[node_dofs(np.array(c.nodes))] |= self.active[node_dofs(np.array(c.nodes))]
            for eq in self.equations:
                active[eq.masters.indices] |= self.active[eq.masters.indices]
                active[eq.dependent] |= self.active[eq.dependent]
            for body in self.masses:
                active[node_dofs(np.array([body.node]))] |= self.active[node_dofs(np.array([body.node]))]
            active |= self.active & (M_diag > 1e-12 * M_diag.max(initial=0.0))
        K = self.stiffness if not change else _changed(self.stiffness, change)
        M, weighed = ((_changed(m, inert) if inert else m) for m in (self.mass, self.weighed))
        equations, supports = held_again(
            self.description, self.mesh, active, self.supports, pattern, self.equations
        )  # fmt: skip
        return replace(
            self, connectors=tuple(connectors), elements=elements, stiffness=K, mass=M, weighed=weighed,
            active=active, constraints=eliminate(size, active, equations), supports=supports, pattern=pattern, kept={},
        )  # fmt: skip

    @cached_property
    def reduced_stiffness(self) -> Matrix:
        """Tᵀ K T."""
        return _kept(self.constraints.reduced(self.stiffness))

    @cached_property
    def reduced_mass(self) -> Matrix:
        """Tᵀ M T."""
        return _kept(self.constraints.reduced(self.mass))

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

    @cached_property
    def _sets(self) -> dict[str, list[Elements]]:
        result: dict[str, list[Elements]] = {}
        for e in self.elements:
            result.setdefault(e.part, []).append(e)
        return result

    def element_blocks(self, part: str) -> list[Elements]:
        """Element sets of one part."""
        return self._sets.get(part, [])

    def members(self, group: str) -> list[str]:
        """Names in a group."""
        return group_members(self.description, group)

    def moving_points(self) -> dict[str, int]:
        """Named points that something moves, with their nodes."""
        return {p: n for p, n in self.mesh.points.items() if self.active[6 * n : 6 * n + 3].any()}

    def node(self, point: str, where: str) -> int:
        """Node of a named point.

        Raises
        ------
        DescriptionError
            When nothing is attached to the point.
        """
        node = self.mesh.points.get(point)
        if node is None or not self.active[6 * node : 6 * node + 6].any():
            raise DescriptionError(f'{where}: nothing is attached to the point "{point}"')
        return node

    def under(self, description: Description) -> System:
        """The same system under a description that differs in nothing that it depends on (names, groups, gauges)."""
        if description is self.description:
            return self
        result = copy(self)  # with all that was factorised or reduced
        object.__setattr__(result, "description", description)
        object.__setattr__(result, "mesh", self.mesh.with_names(description))
        return result


def _kept(matrix: Matrix) -> Matrix:
    """A matrix that cannot be written to: what was made of it is kept and shared."""
    for own in (matrix.whole, matrix.rows) if isinstance(matrix, Following) else (matrix,):
        own.data.setflags(write=False)
    return matrix


def build_system(description: Description, folder: Folder | None = None, mesh: Mesh | None = None) -> System:
    """Mesh (unless given), build all elements and connectors, assemble and eliminate.

    Raises
    ------
    MeshError, SelectionError, ConstraintError, DescriptionError
    """
    given = None
    if description.matrices is not None:
        from holokine.system.given import read_given

        given = read_given(description, folder or Folder())
        mesh = given.mesh
    mesh = (mesh or build_mesh(description, folder)).with_names(description)
    mesh, sides = all_sides(description, mesh)
    elements = tuple(_elements(description, mesh))
    masses: list[PointMass] = []
    for name, m in description.masses.items():
        with entry("mass", name):
            _check_inertia(name, m.mass, np.array(m.inertia))
            at = one_node(mesh, description, m.at, f'mass "{name}"')
            masses.append(PointMass(name, at, m.mass, np.array(m.offset), np.array(m.inertia)))
    connectors = _connectors(description, mesh, sides)
    pattern = at_no_load(description)
    size = 6 * len(mesh.nodes)
    total = Accumulator(size, matrices=2)  # stiffness, mass
    for e in elements:
        for nodes, index, k, inertia in e.blocks():
            total.add_elements(nodes, e.motions, index, k, inertia)
    for body in masses:
        total.add(node_dofs(np.array([body.node]))[None], body.matrix()[None], 1)
    active: Any = np.zeros(size, dtype=bool)
    for e in elements:
        active[e.acting.ravel()] = True
    for c in connectors:
        dofs = node_dofs(np.array(c.nodes))
        acts = replace(c, stiffness=np.where(np.arange(6) == 0, 1.0, 0.0)) if c.name in pattern.springs else c
        active[dofs[(acts.matrices()[0].diagonal() != 0) | (c.matrices()[1].diagonal() != 0)]] = True
    for body in masses:
        dofs = node_dofs(np.array([body.node]))
        active[dofs[body.matrix().diagonal() != 0]] = True
    if given is not None:
        active |= given.active
    for name, link in description.links.items():
        with entry("link", name):
            active[node_dofs(np.array([one_node(mesh, description, link.point, f'link "{name}"')]))] = True
    for name, made in sides.items():
        own = [n for n, c in zip(made.ends, made.carried, strict=True) if c is not None or name in description.joints]
        active[node_dofs(np.array(own, dtype=np.int64))] = True
    _pulled_across(description, mesh, active)
    bonds = build_bonds(description, mesh, active, sides, pattern)
    every = (*connectors, *bonds.elastic_joints)
    springs: list[Any] = [(node_dofs(np.array(c.nodes))[None], *(m[None] for m in c.matrices())) for c in every]
    for dofs, k, _ in springs:
        total.add(dofs, k)
    K, M = (without_noise(total.result(k)) for k in (0, 1))
    C = assemble(size, [(dofs, c) for dofs, _, c in springs])
    if given is not None:
        K, M, C = csr_array(K + given.stiffness), csr_array(M + given.mass), csr_array(C + given.damping)
    weighed = M
    if description.massless:
        off = np.isin(np.tile(np.array(DIRECTION_NAMES), size // 6), description.massless)
        stay = diags_array((~off).astype(float))
        M = csr_array(stay @ M @ stay)
        M.eliminate_zeros()
    constraints = eliminate(size, active, bonds.equations)
    one_way = {f'support "{s.name}"' for s in bonds.supports.values() if s.feet is not None}
    notes = [*mesh.notes, *bonds.notes]
    if description.massless:
        notes.append(
            f"mass is switched off on request in {', '.join(description.massless)}: modes along it are left out"
        )
    if constraints.redundant:
        notes.append(
            f"over-constrained: {', '.join(constraints.redundant)} repeat what other links or supports hold "
            "already; frequencies are right, but how the force is shared between them is not defined"
        )
    return System(
        description,
        mesh,
        elements,
        every,
        tuple(masses),
        K,
        M,
        weighed,
        C,
        active,
        constraints,
        bonds.bonds,
        bonds.supports,
        notes,
        pattern,
        [e for e in bonds.equations if e.owner not in one_way],
        bonds.carriers,
        bonds.frames,
        told=bonds.carried,
        spread_ends=frozenset(bonds.spread_ends),
    )


def _pulled_across(d: Description, mesh: Mesh, active: NDArray[np.bool_]) -> None:
    """Let springs of finite length pull across at nodes that links carry or supports hold, as they do in a state."""
    ends: list[Any] = [e for s in d.springs.values() if s.axis is None for e in s.between]
    nodes = {mesh.points[e] for e in ends if isinstance(e, str) and e in mesh.points}
    if not d.states or not nodes:
        return
    held: set[int] = set()
    for kind, table in (("link", d.links), ("support", d.supports)):
        for name, model in table.items():
            target = model.to if isinstance(model, AveragingOrRigid) else model.at
            held |= nodes & set(select_nodes(mesh, d, target, f'{kind} "{name}"').tolist())
    for node in held:
        active[6 * node : 6 * node + 3] = True


def _changed(matrix: csr_array, blocks: list[tuple[Ints, Floats]]) -> csr_array:
    """A matrix with blocks added; what cancels to rounding is zero."""
    added = assemble(matrix.shape[0], blocks)
    total = csr_array(matrix + added)
    diagonal, rest = np.abs(matrix.diagonal()), total.tocoo()
    size = diagonal[rest.row] + diagonal[rest.col]
    total.data[np.abs(total.data) < 1e-14 * size] = 0.0
    total.eliminate_zeros()
    return total


def _friction_springs(system: System, pattern: Pattern) -> list[Connector]:
    """Springs across in place of feet that stick."""
    found = []
    for feet in system.feet:
        for node, k in zip(feet.nodes.tolist(), pattern.friction.get(feet.name, ()), strict=False):
            stiffness = np.zeros(6)
            stiffness[list(feet.across)] = k
            if k > 0.0:
                place = system.mesh.nodes[[node]]
                found.append(Connector.build(
                    f"{feet.name} friction", "friction", (node,), place, place[0], np.eye(3), stiffness, np.zeros(6),
                    ground_first=True,
                ))  # fmt: skip
    return found


@dataclass(frozen=True)
class StressBlock:
    """What the present load of a member adds to the stiffness, beside that of elements.

    Attributes
    ----------
    name : str
        Of the link, joint, mass, spring, bushing, part or load.
    dofs : ndarray of int, shape (blocks, dofs)
    matrices : ndarray, shape (blocks, motions, dofs)
    """

    name: str
    dofs: Ints
    matrices: Floats


def _elements(d: Description, mesh: Mesh) -> list[Elements]:
    sections = {name: section_properties(s) for name, s in d.sections.items()}
    for name, own in sections.items():
        times = own.J / (own.Iy + own.Iz)
        if times > 1.05:
            raise DescriptionError(
                f'section "{name}": its torsion constant is {times:.3g} times its polar moment Iy + Iz, and '
                "no section has more than that; is its unit right?",
                path=("sections", name),
            )
    made, result = Made(d, mesh, sections), []
    for name, part in d.parts.items():
        with entry("part", name):
            result += [MAKERS[CELLS[block.kind].family](made, name, part, block) for block in mesh.blocks_of(name)]
    return result


@dataclass(frozen=True)
class Made:
    """What elements are made from beside their part."""

    description: Description
    mesh: Mesh
    sections: dict[str, Any]

    def material(self, part: Part) -> Material:
        """Of a part that is not layered."""
        assert part.material is not None
        return self.description.materials[part.material]


def _cable(made: Made, name: str, part: Part, block: Block, material: Material) -> Elements:
    cable = part.cable
    assert cable is not None
    section = made.sections[cable.section] if cable.section is not None else round_section(float(cable.area or 0.0))
    stiffness = material.young * section.area if cable.stiffness is None else cable.stiffness
    return CableElements.of(
        name, block.cells, made.mesh.nodes, section=section, stiffness=stiffness, density=material.density,
        mass=made.description.mass_matrix,
    )  # fmt: skip


def _beams(made: Made, name: str, part: Part, block: Block) -> Elements:
    material = made.material(part)
    if material.orthotropic is not None:
        raise DescriptionError(f'part "{name}": beams need an isotropic material, "{part.material}" is orthotropic')
    if part.cable is not None:
        return _cable(made, name, part, block, material)
    assert block.arms is not None
    keys: dict[str, Any] = {"up": (0.0, 0.0, 1.0)}
    if part.beam is not None:
        beam = part.beam
        keys = {
            "up": beam.up,
            "eccentricity": beam.eccentricity,
            "release_start": tuple(DIRECTION_NAMES.index(r) for r in beam.release.start),
            "release_end": tuple(DIRECTION_NAMES.index(r) for r in beam.release.end),
            "theory": beam.theory,
            "preload": beam.preload,
        }
        if beam.end_section is not None:
            sections = made.description.sections
            keys["taper"] = tapered(sections[beam.section], sections[beam.end_section], f'part "{name}"')
    elif part.ring is not None:
        keys = {"up": part.ring.axis, "theory": part.ring.theory}
    section = part.section
    if part.mesh is not None:
        keys = {"up": part.mesh.up}
        own = part.mesh.beams.get(block.set)
        if own is not None:
            section = own.section or section
            keys = {
                "up": own.up or part.mesh.up,
                "eccentricity": own.eccentricity,
                "release_start": tuple(DIRECTION_NAMES.index(r) for r in own.release.start),
                "release_end": tuple(DIRECTION_NAMES.index(r) for r in own.release.end),
                "theory": own.theory,
                "preload": own.preload,
                "runs": _run_ends(block.cells),
            }
    return BeamElements.build(
        name,
        block.cells,
        made.mesh.nodes,
        block.arms,
        section=made.sections[str(section)],
        E=material.young,
        G=material.shear_modulus,
        density=material.density,
        mass=made.description.mass_matrix,
        **keys,
    )


def _run_ends(cells: Ints) -> tuple[list[int], list[int]]:
    """Elements whose first, and whose second node is the end of a run: on no other element, or on several."""
    _, index, counts = np.unique(cells, return_inverse=True, return_counts=True)
    ends = (counts != 2)[index.reshape(cells.shape)]
    return np.flatnonzero(ends[:, 0]).tolist(), np.flatnonzero(ends[:, 1]).tolist()


def _shells(made: Made, name: str, part: Part, block: Block) -> Elements:
    shell = part.shell
    assert shell is not None
    tension, along = None, None
    if shell.tension is not None:
        x, y, xy = (*shell.tension, 0.0)[:3]
        tension = np.array([[x, xy], [xy, y]])
        along, turned = _direction(part, shell.tension_along)
        if turned:  # given along the side that runs around; the axis is y
            tension = np.array([[y, -xy], [-xy, x]])
    kind = ShellElements if CELLS[block.kind].order == 1 else CurvedShellElements
    elements = kind(
        name,
        block.kind,
        block.cells,
        made.mesh.nodes,
        _laminate(made.description, part, shell),
        shell.offset,
        None if part.axes is None else part.axes.x,
        made.description.mass_matrix,
        tension,
        along,
    )
    if along is not None:
        normals = elements.normals()
        bad = np.flatnonzero(np.linalg.norm(np.cross(normals, along), axis=1) < 0.2)
        if len(bad):
            raise DescriptionError(
                f'part "{name}": tension along runs nearly along the normal of element {bad[0] + 1}; choose a '
                "direction that lies in the surface"
            )
    return elements


def _direction(part: Part, side: Any) -> tuple[tuple[float, float, float] | None, bool]:
    """A direction, or that of a side of a plate or cylinder, and whether the side asked for runs across it."""
    if not isinstance(side, str):
        return side, False
    if part.cylinder is not None:
        return part.cylinder.axis, side == "side 1"
    assert part.plate is not None
    first = side == "side 1"
    if part.plate.sides is not None:
        vector = np.array(part.plate.sides[0 if first else 1])
    else:
        assert part.plate.corners is not None
        c = np.array(part.plate.corners)
        vector = c[1 if first else 3] - c[0]
    return tuple(vector / np.linalg.norm(vector)), False


def _laminate(d: Description, part: Part, shell: Shell) -> Laminate:
    """What a shell is made of, in the axes of the part."""
    if shell.layers is None:
        assert shell.thickness is not None
        assert part.material is not None
        material = d.materials[part.material]
        membrane, shear = plane_stress(material, part.material), transverse_shear(material)
        factor = 5.0 / 6.0 if shell.shear_factor is None else shell.shear_factor
        return Laminate.single(shell.thickness, membrane, shear, material.density, shell.area_mass, factor)
    total = sum(layer.thickness for layer in shell.stack)
    plies, height = [], -total / 2.0
    for layer in shell.stack:
        name = layer.material or str(part.material)
        material = d.materials[name]
        own, shear = plane_stress(material, name), transverse_shear(material)
        share = 1.0 if layer.carries else 0.0
        top = height + layer.thickness
        plies.append(Ply(height, top, share * own, share * shear, material.density, layer.angle))
        height = top
    return Laminate(tuple(plies), shell.area_mass)


def _solids(made: Made, name: str, part: Part, block: Block) -> Elements:
    material = made.material(part)
    D = solid_matrix(material, str(part.material))
    if part.axes is not None:
        D = rotate(D, axes_from(part.axes.x, part.axes.y, owner=f'part "{name}"'))
    return SolidElements(
        name, block.kind, block.cells, made.mesh.nodes, D, material.density, made.description.mass_matrix
    )


MAKERS = {"line": _beams, "surface": _shells, "solid": _solids}
"""By the family of the cells: what makes elements of them."""


def _connectors(d: Description, mesh: Mesh, sides: dict[str, Sides]) -> list[Connector]:
    result = []
    at_rest = at_no_load(d)
    every: list[tuple[str, str, Spring | Bushing]] = [
        *(("spring", name, s) for name, s in d.springs.items()),
        *(("bushing", name, b) for name, b in d.bushings.items()),
    ]
    for kind, name, spring in every:
        with entry(kind, name):
            nodes = sides[name].ends
            places = mesh.nodes[list(nodes)]
            stiffness, damping = np.zeros(6), np.zeros(6)
            if isinstance(spring, Spring):
                stiffness[0], damping[0] = at_rest.springs.get(name, spring.stiffness), spring.damping
                axes = axes_from(spring.axis or _line(name, places))
            else:
                stiffness[:], damping[:] = spring.stiffness, spring.damping
                axes = np.eye(3)
                if spring.axes is not None:
                    axes = axes_from(spring.axes.x, spring.axes.y, owner=f'bushing "{name}"')
            if not (stiffness.any() or damping.any() or name in at_rest.springs):
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
