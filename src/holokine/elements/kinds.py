"""What every kind of element can be asked. A new kind answers these and is found through `system.build.MAKERS`."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

import numpy as np
from scipy.sparse import csc_array, csr_array

from holokine.elements.stress import Places, StressField
from holokine.errors import MeshError
from holokine.sizes import narrow

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["CHUNK", "ElementKind", "StrainMaps", "averaged_field", "by_shape", "congruent", "element_map"]


CHUNK = 4_000


@dataclass(frozen=True)
class StrainMaps:
    """Strain at points within some elements, and how nodes take it from there.

    Attributes
    ----------
    dofs : ndarray of int, shape (elements, dofs)
    maps : ndarray, shape (sorts, points, components, dofs)
        Of motions on global axes, by sort of equal elements.
    sort : ndarray of int, shape (elements,), or None
        Which sort each element is of; None: each its own.
    weights : ndarray, shape (elements, points)
        Volume or area of each point.
    to_nodes : ndarray, shape (nodes, points)
        Strain at the nodes from that at the points, by a polynomial of lower order.
    shape : ndarray, shape (points, nodes)
        Shape functions at the points.
    stiffness, worth : ndarray, shape (components, components)
        Energy of strain, and that times what it is worth as error (`recovery_worth`).
    """

    dofs: Ints
    maps: Floats
    sort: Ints | None
    weights: Floats
    to_nodes: Floats
    shape: Floats
    stiffness: Floats
    worth: Floats

    def of(self, motions: Floats) -> Floats:
        """Strain (elements, points, components, modes) under motions (modes, elements, motions)."""
        sorts, points, components, count = self.maps.shape
        own = np.moveaxis(motions, 0, 2)
        if self.sort is None:
            found = self.maps.reshape(sorts, -1, count) @ own
        else:
            found = np.empty((len(own), points * components, own.shape[2]))
            for s in range(sorts):
                here = np.flatnonzero(self.sort == s)
                found[here] = self.maps[s].reshape(-1, count) @ own[here]
        return found.reshape(len(own), points, components, -1)


class ElementKind(ABC):
    """Elements of one kind and one part.

    Attributes
    ----------
    part, kind : str
        `kind` is a key of `mesh.cells.CELLS`.
    nodes : ndarray of int, shape (elements, nodes)
    places : ndarray, shape (nodes of the mesh, 3)
        m; kinds that keep their matrices need none.
    words : str
        What they are called, for messages: beams, shells, solids.
    stress_names : tuple of str
        Components of the stress at a place.
    stress_options : frozenset of str
        Options of a stress gauge that mean something here.
    """

    part: str
    kind: str
    nodes: Ints
    places: Floats
    words: ClassVar[str]
    stress_names: ClassVar[tuple[str, ...]]
    stress_options: ClassVar[frozenset[str]]
    at_once: ClassVar[int] = 40_000
    """Numbers in the matrices of as many elements as are worked out together: they stay in the processor's memory."""
    recovery_worth: ClassVar[dict[str, tuple[float, float]]] = {}
    """By kind of cell: what the energy of strain that neighbours disagree on is worth as error, of stretching (all of
    solids) and of bending."""

    @property
    @abstractmethod
    def dofs(self) -> Ints:
        """Degrees of freedom, shape (elements, dofs)."""

    @property
    def acting(self) -> Ints:
        """Those of the degrees of freedom that the elements resist or give mass, shape (elements, dofs)."""
        return self.dofs

    motions: ClassVar[int] = 6
    """How many of the six dofs of a node the elements resist: the first three, or all."""

    def blocks(self) -> Iterator[tuple[Ints, Ints | None, Floats, Floats]]:
        """Nodes, elastic stiffness and mass (global axes, symmetric to the last bit) of some elements at a time.

        Equal elements share matrices: the second is which one each element has, None where each has its own.
        """
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            X = self.places[nodes]
            first, index = congruent(X) or (slice(None), None)
            own = X[first]
            motions = self.motions * nodes.shape[1]
            K, M = (np.empty((len(own), motions, motions)) for _ in range(2))
            with np.errstate(divide="ignore", invalid="ignore"):  # of an element without area at a point, named below
                for some in self._few(len(own)):
                    for whole, part in zip((K, M), self._matrices(own[some]), strict=True):
                        np.add(part, np.swapaxes(part, 1, 2), out=whole[some])
                        whole[some] *= 0.5
            if not np.isfinite(K.sum()):
                sort = int(np.flatnonzero(~np.isfinite(K).all(axis=(1, 2)))[0])
                number = a + (sort if index is None else int(np.flatnonzero(index == sort)[0]))
                x, y, z = self.places[self.nodes[number]].mean(axis=0)
                raise MeshError(
                    f'part "{self.part}": element {number + 1} at [{x:.4g}, {y:.4g}, {z:.4g}] m is folded, or has no '
                    "area or volume somewhere within; look at the nodes in the middle of its edges",
                    path=("parts", self.part),
                )
            yield nodes, index, K, M

    def _few(self, count: int) -> Iterator[slice]:
        """`count` elements, as many at a time as `at_once` says, and no fewer than eight."""
        step = max(self.at_once // (self.motions * self.nodes.shape[1]) ** 2, 8)
        return (slice(a, a + step) for a in range(0, count, step))

    def _matrices(self, X: Floats) -> tuple[Floats, Floats]:
        """Stiffness and mass (global axes) of elements with their nodes at X, shape (elements, nodes, 3)."""
        raise NotImplementedError

    def chunks(self) -> Iterator[tuple[Ints, Floats, Floats]]:
        """Degrees of freedom, stiffness (with what stress adds) and mass (global axes) of some elements at a time."""
        stress = self.stress_blocks()
        for nodes, index, K, M in self.blocks():
            dofs = (nodes[:, :, None] * 6 + np.arange(self.motions)).reshape(len(nodes), -1)
            own = (K, M) if index is None else (K[index], M[index])
            added = next(stress, None)
            yield dofs, (own[0] if added is None else own[0] + added[1]), own[1]

    # -- about a state --------------------------------------------------------------------------------

    def expansion(self) -> Floats:
        """Motions of each element that grows freely by a unit strain all round, shape (elements, dofs)."""
        X = self.places[self.nodes]
        motion = np.zeros((*self.nodes.shape, self.motions))
        motion[:, :, :3] = X - X[:, :1]
        return motion.reshape(len(X), -1)

    def free_forces(self) -> Iterator[tuple[Ints, Floats, Floats]]:
        """Degrees of freedom, elastic forces under `expansion`, and that itself, of some elements at a time."""
        expansion, start = self.expansion(), 0
        for nodes, index, K, _ in self.blocks():
            dofs = (nodes[:, :, None] * 6 + np.arange(self.motions)).reshape(len(nodes), -1)
            own = expansion[start : start + len(nodes)]
            start += len(nodes)
            yield dofs, np.einsum("eij,ej->ei", K if index is None else K[index], own), own

    @abstractmethod
    def free_stress(self) -> Floats:
        """Stress of one place, as `stress_names`, that a unit free strain takes off where nothing moves, in Pa."""

    @abstractmethod
    def resultants(self, u: Floats, strain: float) -> Floats:
        """Stress, as far as it adds to the stiffness, under motions (dofs,) of what has grown freely by a strain."""

    @abstractmethod
    def stressed(self, resultants: Floats) -> ElementKind:
        """The elements with what their present stress adds to the stiffness (in `chunks`, not in `blocks`)."""

    @abstractmethod
    def stress_blocks(self) -> Iterator[tuple[Ints, Floats]]:
        """Nodes, and what stress adds to the stiffness (global axes), of some elements at a time; none unstressed."""

    def arm_forces(
        self, u: Floats, ride: Floats, strain: float, forces: Floats | None = None
    ) -> list[tuple[Ints, Floats, Floats]]:
        """Nodes, forces in N that act on rigid arms of theirs within the elements (global axes), and the arms in m.

        `forces`: local end forces that stand in place of those under u.
        """
        return []

    def absent(self) -> ElementKind:
        """The elements without stiffness, their mass at their ends: cables that are slack."""
        raise NotImplementedError

    @abstractmethod
    def lumped_chunks(self) -> Iterator[tuple[Ints, Floats]]:
        """Degrees of freedom and lumped mass of some elements at a time."""

    @abstractmethod
    def volumes(self) -> Floats:
        """Volume of each element in m³."""

    @abstractmethod
    def wave(self, omega: float) -> float:
        """Wavelength over 2π, in m, of the waves that its mesh has to follow at ω in rad/s; inf without mass."""

    def wave_errors(self, shapes: Floats, omega: Floats) -> Floats:
        """Energy in J of fields (modes, dofs) at ω that the mesh gets wrong, by waves along the elements, (modes,).

        Of kinds without `strain_maps`.
        """
        return np.zeros(len(shapes))

    def strain_maps(self) -> Iterator[StrainMaps]:
        """Strain inside the elements as a map of their motions, some elements at a time; none of beams."""
        return iter(())

    def for_recovery(self) -> ElementKind:
        """The elements with axes that turn as little as they can from one to the next."""
        return self

    def strain_axes(self) -> Floats | None:
        """Two of the axes of each element in which its strain is given, shape (elements, 2, 3); None: global."""
        return None

    @abstractmethod
    def stress_fields(self, size: int) -> list[StressField]:
        """What stress is judged by, for every element: surfaces, or extreme fibres; empty where there is none."""

    @classmethod
    def joined_fields(cls, blocks: Sequence[ElementKind], size: int) -> list[StressField]:
        """`stress_fields` of several sets of this kind; small ones may come as one field of several parts."""
        return [field for block in blocks for field in block.stress_fields(size)]

    @abstractmethod
    def gauge_fields(self, size: int, **options: str | None) -> list[StressField]:
        """What a stress gauge reads, by its options (of `stress_options`)."""

    def end_rows(self, end: str) -> tuple[Ints, Floats, Floats] | None:
        """Section forces at the first or last end of a run, as maps of its element's motions.

        Nodes of the element, and N Vy Vz T My Mz from displacement and from acceleration, shape (6, motions).
        """
        return None

    @property
    def run_ends(self) -> Floats | None:
        """Start and end of each element in m, shape (elements, 2, 3), of elements that have a section."""
        return None

    def bodies(self) -> tuple[Floats, Floats, Floats] | None:
        """Sections along the elements, for pictures: quadrilaterals (faces, 4, 3), and a place with its axes y and z.

        None of elements that have no section.
        """
        return None

    @classmethod
    def section_map(cls, blocks: Sequence[ElementKind], size: int) -> csr_array:
        """Elastic section forces N Vy Vz T My Mz at both ends of all elements of several sets of this kind.

        A map of displacement, (elements * 12, size); of elements that have no section (no `run_ends`) an empty one.
        """
        return csr_array((0, size))


def congruent(X: Floats) -> tuple[Ints, Ints] | None:
    """Elements that are equal but for where they lie, from node places (elements, nodes, 3).

    Returns
    -------
    first, index : ndarray of int
        One element of each sort, and the sort of every element; None where they are mostly different. Places count as
        equal to 1e-11 of the largest element: some rounding of coordinates.
    """
    if len(X) < 16:
        return None
    R = (X - X[:, :1]).reshape(len(X), -1)
    size = float(np.abs(R).max(initial=0.0))
    if not 0.0 < size < np.inf:
        return None
    places = np.rint(R / (1e-11 * size)).astype(np.int64)
    weights = np.random.default_rng(7).integers(-(2**62), 2**62, places.shape[1])
    _, first, index = np.unique(places @ weights, return_index=True, return_inverse=True)
    if 2 * len(first) > len(X) or (places != places[first[index]]).any():
        return None
    return first, index


def in_sorts(X: Floats) -> tuple[Ints | slice, Ints | None]:
    """Which elements stand for all equal ones, and the sort of each, where there are few sorts."""
    found = congruent(X)
    return (slice(None), None) if found is None or len(found[0]) > 64 else found


def by_shape(X: Floats, make: Callable[[Floats], Floats]) -> Floats:
    """What is made from the node places of elements, worked out once for equal ones."""
    found = congruent(X)
    return make(X) if found is None else make(X[found[0]])[found[1]]


def element_map(values: Floats, dofs: Ints, size: int) -> csr_array:
    """A sparse map (elements * rows, size) from blocks (elements, rows, motions) on dofs (elements, motions)."""
    count, rows, width = values.shape
    kind = np.int32 if max(values.size, size) < 2**31 else np.int64
    columns = np.repeat(dofs.astype(kind), rows, axis=0).ravel()
    starts = np.arange(0, values.size + 1, width, dtype=kind)
    return csr_array((values.ravel(), columns, starts), shape=(count * rows, size))


def averaged_field(
    block: ElementKind, mesh_places: Floats, corners: Iterable[Floats], size: int, side: str = ""
) -> StressField:
    """Stress at nodes, the mean of what the elements around say: maps (elements, width, motions) node by node."""
    used, index = np.unique(block.nodes, return_inverse=True)
    index = index.reshape(block.nodes.shape)
    share = 1.0 / np.bincount(index.ravel())
    width, dofs = len(block.stress_names), block.dofs
    total: csr_array = csr_array((width * len(used), size))
    for k, S in enumerate(corners):
        own = element_map(S * share[index[:, k]][:, None, None], dofs, size)
        rows = (width * index[:, k][:, None] + np.arange(width)).ravel()
        # summed up by a matrix of ones: row of the node, from row of the element
        onto = csc_array((np.ones(len(rows)), rows, np.arange(len(rows) + 1)), shape=(width * len(used), len(rows)))
        total = csr_array(total + narrow(csr_array(onto)) @ own)
    none = np.zeros((0, 1), dtype=np.int64)
    return StressField((block.part,), total, width, Places.on("node", used + 1, mesh_places[used], side), none, none)
