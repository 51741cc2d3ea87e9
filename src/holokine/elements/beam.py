"""Straight 3D Timoshenko beam elements with two nodes.

The stiffness is exact for a beam, uniform or tapered, that is loaded at its ends: it is the inverse of the flexibility
F = ∫ Bᵀ f B dx, with f the compliance of the section (axial, shear, torsion about the shear centre, bending
with product moment) and B the equilibrium of the section forces (Przemieniecki, *Theory of Matrix Structural
Analysis*, ch. 5; Friedman & Kosmatka, Computers & Structures 47 (1993) 473-481). The consistent mass takes
the displacement field of that same static solution, so shear, rotary inertia and an offset shear centre are
all in it. The nodes' line is the centroid's unless an eccentricity is given.

Local axes per node: u, v, w, θx, θy, θz along x, y, z of the beam.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.arrays import Floats
from holokine.elements.kinds import ElementKind, element_map
from holokine.elements.sections import SectionProperties
from holokine.elements.stress import Places, StressField
from holokine.errors import ConstraintError, DescriptionError, MeshError

__all__ = ["BeamElements", "arm_matrix", "beam_axes", "fibre_stress"]

Taper = Callable[[float], SectionProperties]
_GAUSS_X, _GAUSS_W = (
    (np.polynomial.legendre.leggauss(4)[0] + 1) / 2,
    np.polynomial.legendre.leggauss(4)[1] / 2,
)


def beam_axes(start: Floats, end: Floats, up: tuple[float, float, float], part: str) -> Floats:
    """Local axes as rows x, y, z, shape (elements, 3, 3).

    Raises
    ------
    MeshError
        When `up` runs along the beam.
    """
    along = end - start
    length = np.linalg.norm(along, axis=1, keepdims=True)
    x = along / length
    z = np.asarray(up) - (x @ np.asarray(up))[:, None] * x
    size = np.linalg.norm(z, axis=1, keepdims=True)
    if (size < 1e-6).any():
        raise MeshError(f'part "{part}": up runs along the beam; choose another direction for it', path=("parts", part))
    z = z / size
    return np.stack([x, np.cross(z, x), z], axis=1)


def arm_matrix(r: Floats) -> Floats:
    """Matrix S with S @ t = t × r, i.e. the displacement at arm r of a rotation t; shape (..., 3, 3)."""
    s = np.zeros((*r.shape[:-1], 3, 3))
    s[..., 0, 1], s[..., 0, 2] = r[..., 2], -r[..., 1]
    s[..., 1, 0], s[..., 1, 2] = -r[..., 2], r[..., 0]
    s[..., 2, 0], s[..., 2, 1] = r[..., 1], -r[..., 0]
    return s


def _carry(distance: Floats) -> Floats:
    """Rigid transport of the six dofs over `distance` along x, shape (..., 6, 6)."""
    R = np.zeros((*distance.shape, 6, 6))
    R[..., range(6), range(6)] = 1.0
    R[..., 1, 5] = distance
    R[..., 2, 4] = -distance
    return R


def _section_compliance(s: SectionProperties, E: float, G: float, shear: bool) -> Floats:
    """Strains (u', γy, γz, θx', θy', θz') from section forces (N, Vy, Vz, T, My, Mz), all at the centroid."""
    f = np.zeros((6, 6))
    f[0, 0] = 1.0 / (E * s.area)
    if shear and s.shear_y > 0:
        f[1, 1] = 1.0 / (G * s.area * s.shear_y)
    if shear and s.shear_z > 0:
        f[2, 2] = 1.0 / (G * s.area * s.shear_z)
    f[4:, 4:] = np.linalg.inv(E * np.array([[s.Iy, -s.Iyz], [-s.Iyz, s.Iz]]))
    # torque about the shear centre: T - (ey Vz - ez Vy)
    ey, ez = s.shear_centre
    about = np.array([0.0, ez, -ey, 1.0, 0.0, 0.0])
    return f + np.outer(about, about) / (G * s.J)


def _section_inertia(s: SectionProperties, density: float, rotary: bool) -> Floats:
    m = np.zeros((6, 6))
    m[0, 0] = m[1, 1] = m[2, 2] = density * s.area
    m[3, 3] = density * (s.Iy + s.Iz)
    if rotary:
        m[4:, 4:] = density * np.array([[s.Iy, -s.Iyz], [-s.Iyz, s.Iz]])
    return m


Along = Callable[[float], tuple[Floats, Floats, Any]]
"""At a share of every element: compliance and inertia of its section, (6, 6) or one each, and (Iy + Iz) / A."""


def _even(s: SectionProperties, E: float, G: float, density: float, theory: str) -> Along:
    f = _section_compliance(s, E, G, shear=theory == "timoshenko")
    m = _section_inertia(s, density, rotary=theory != "euler")
    return lambda _: (f, m, (s.Iy + s.Iz) / s.area)


def _varying(taper: Taper, shares: Floats, E: float, G: float, density: float, theory: str) -> Along:
    """`shares`: of the run, at the start and end of every element, (elements, 2)."""

    @cache
    def at(x: float) -> tuple[Floats, Floats, Any]:
        own = [taper(float(s)) for s in shares @ np.array([1.0 - x, x])]
        return (
            np.array([_section_compliance(s, E, G, shear=theory == "timoshenko") for s in own]),
            np.array([_section_inertia(s, density, rotary=theory != "euler") for s in own]),
            np.array([(s.Iy + s.Iz) / s.area for s in own])[:, None, None],
        )

    return at


def _straight_beam(length: Floats, along: Along) -> tuple[Floats, Floats, Floats]:
    """Local stiffness, consistent mass, and what a unit tension adds to the stiffness, each (elements, 12, 12).

    By the element's exact flexibility.
    """
    count = len(length)
    # section forces at x from the end forces at node 2: B(x) = transport over (L - x), transposed
    F = np.zeros((count, 6, 6))
    for xg, wg in zip(_GAUSS_X, _GAUSS_W, strict=True):
        B = np.swapaxes(_carry(length * (1.0 - xg)), 1, 2)
        f = along(xg)[0]
        F += (wg * length)[:, None, None] * (np.swapaxes(B, 1, 2) @ f @ B)
    inverse = np.linalg.inv(F)
    # deformation of node 2 relative to node 1 carried rigidly
    D = np.concatenate([-_carry(length), np.broadcast_to(np.eye(6), (count, 6, 6))], axis=2)
    K = np.swapaxes(D, 1, 2) @ inverse @ D
    M, G = np.zeros((2, count, 12, 12))
    ends = inverse @ D
    for xg, wg in zip(_GAUSS_X, _GAUSS_W, strict=True):
        x = length * xg
        N = np.concatenate([_carry(x), np.zeros((count, 6, 6))], axis=2)
        for sub_x, sub_w in zip(_GAUSS_X, _GAUSS_W, strict=True):
            xi = x * sub_x
            B = np.swapaxes(_carry(length - xi), 1, 2)
            f = along(xg * sub_x)[0]
            N += (sub_w * x)[:, None, None] * (_carry(x - xi) @ (f @ B @ ends))
        f, m, polar = along(xg)
        M += (wg * length)[:, None, None] * (np.swapaxes(N, 1, 2) @ m @ N)
        strain = f @ np.swapaxes(_carry(length - x), 1, 2) @ ends
        slopes = np.stack([N[:, 5] + strain[:, 1], -N[:, 4] + strain[:, 2]], axis=1)
        twist = strain[:, 3:4]
        geometric = np.swapaxes(slopes, 1, 2) @ slopes + polar * np.swapaxes(twist, 1, 2) @ twist
        G += (wg * length)[:, None, None] * geometric
    K, M, G = ((m + np.swapaxes(m, 1, 2)) / 2.0 for m in (K, M, G))
    return K, M, G


def _moment_stiffness(length: Floats, forces: Floats) -> Floats:
    """What end moments add to the stiffness of elements, (elements, 12, 12), from local end forces (elements, 12).

    Second-order part of what they work on: the rotations of the ends in the axes that move with the chord,
    θ - φ - φ × θ / 2 with φ the turn of the chord and of the mean twist (rotation vectors throughout, so that moments
    in balance at a node add nothing of their own; Crisfield, *Non-linear Finite Element Analysis of Solids and
    Structures* 2, ch. 17). Axial force acts through the slopes along the element, not here.
    """
    count = len(length)
    rows = np.zeros((count, 12, 12))
    rows[:, range(12), range(12)] = 1.0
    stretch, lean_y, lean_z = ((rows[:, 6 + d] - rows[:, d]) / length[:, None] for d in range(3))
    twist = (rows[:, 3] + rows[:, 9]) / 2.0
    K = np.zeros((count, 12, 12))

    def add(factor: Floats, a: Floats, b: Floats) -> None:
        product = factor[:, None, None] * a[:, :, None] * b[:, None, :]
        K[...] += product + np.swapaxes(product, 1, 2)

    for end in (0, 6):
        mx, my, mz = (forces[:, end + 3 + d] for d in range(3))
        tx, ty, tz = (rows[:, end + 3 + d] for d in range(3))
        add(mx / 2.0, lean_z, tz)
        add(mx / 2.0, lean_y, ty)
        add(-my, lean_z, stretch)
        add(-my / 2.0, twist, lean_y)
        add(-my / 2.0, lean_y, tx)
        add(my / 2.0, twist, tz)
        add(mz, lean_y, stretch)
        add(-mz / 2.0, twist, lean_z)
        add(-mz / 2.0, twist, ty)
        add(-mz / 2.0, lean_z, tx)
    return K


@lru_cache(maxsize=512)
def _shared_beam(
    length: tuple[float, ...],
    section: SectionProperties,
    E: float,
    G: float,
    density: float,
    theory: str,
) -> tuple[Floats, Floats, Floats]:
    """Frames repeat the same few members many times."""
    return _straight_beam(np.array(length), _even(section, E, G, density, theory))


def _lumped(length: Floats, along: Along, rotary: bool) -> Floats:
    """Half of every element, with the section of its middle, at either end."""
    M = np.zeros((len(length), 12, 12))
    half = along(0.5)[1].copy()
    if not rotary:
        half[..., 3:, 3:] = 0.0
    block = (length / 2.0)[:, None, None] * half
    M[:, :6, :6] = block
    M[:, 6:, 6:] = block
    return M


def _tidy(fibres: Floats) -> Floats:
    """Places of fibres without what is rounding only."""
    return np.where(np.abs(fibres) < 1e-12 * np.abs(fibres).max(initial=1e-300), 0.0, fibres)


@dataclass(frozen=True)
class BeamElements(ElementKind):
    """Beam elements of one part.

    Attributes
    ----------
    part : str
        Name of the part.
    nodes : ndarray of int, shape (elements, 2)
        Node numbers.
    length : ndarray, shape (elements,)
        Lengths in m.
    ends : ndarray, shape (elements, 2, 3)
        Where the elements start and end, in m (arms and eccentricity included).
    axes : ndarray, shape (elements, 3, 3)
        Rows are the local x, y, z in global axes.
    to_local : ndarray, shape (elements, 12, 12)
        Takes global nodal motions to local dofs of the element's ends (arms included).
    local_stiffness, local_mass : ndarray, shape (elements, 12, 12)
        Local matrices, releases condensed, in SI.
    section : SectionProperties
        Of the run, or of its start where it tapers.
    stations : tuple of SectionProperties
        Where it tapers: at the start of the first element, then at the middle and the end of each; else none.
    E, G, density : float
        Pa, Pa, kg/m³.
    local_tension : ndarray, shape (elements, 12, 12)
        What a unit tension adds to the local stiffness.
    arms : ndarray, shape (elements, 2, 3)
        From the nodes to the element's ends in m, global axes.
    follow : dict of int to ndarray, shape (12, 12)
        How released directions of an element follow the others.
    local_elastic : ndarray, shape (elements, 12, 12), or None
        The local stiffness without what stress adds, where that is in `local_stiffness`.
    """

    part: str
    nodes: NDArray[np.int64]
    length: Floats
    ends: Floats
    axes: Floats
    to_local: Floats
    local_stiffness: Floats
    local_mass: Floats
    section: SectionProperties
    E: float
    G: float
    density: float
    stations: tuple[SectionProperties, ...] = ()
    local_tension: Floats = field(default_factory=lambda: np.zeros((0, 12, 12)))
    arms: Floats = field(default_factory=lambda: np.zeros((0, 2, 3)))
    follow: dict[int, Floats] = field(default_factory=dict)
    local_elastic: Floats | None = None
    kind: str = "beam"
    words = "beams"
    stress_names = ("fibre",)
    stress_options = frozenset({"end", "component"})

    @classmethod
    def build(
        cls,
        part: str,
        nodes: NDArray[np.int64],
        places: Floats,
        arms: Floats,
        *,
        section: SectionProperties,
        E: float,
        G: float,
        density: float,
        up: tuple[float, float, float],
        eccentricity: tuple[float, float] = (0.0, 0.0),
        release_start: tuple[int, ...] = (),
        release_end: tuple[int, ...] = (),
        theory: str = "timoshenko",
        preload: float = 0.0,
        mass: str = "consistent",
        taper: Taper | None = None,
        runs: tuple[list[int], list[int]] | None = None,
    ) -> BeamElements:
        """Build all elements of a run.

        Parameters
        ----------
        places : ndarray, shape (nodes of the mesh, 3)
            Node coordinates in m.
        arms : ndarray, shape (elements, 2, 3)
            Rigid arms from the nodes to the element's ends in m, global axes.
        release_start, release_end : tuple of int
            Local directions (0 to 5) released at the run's first and last end.
        theory : {"timoshenko", "rayleigh", "euler"}
            Shear and rotary inertia; rotary inertia only; neither.
        preload : float
            Constant axial force in N, tension positive; acts through the geometric stiffness on the slopes of
            the axis and on the twist.
        mass : {"consistent", "lumped", "lumped without rotary"}
        taper : callable, optional
            Section at a share of the run, where it is not the same all along.
        runs : tuple of list of int, optional
            Elements at the first end of which a run begins, and at the second end of which one ends; without it all
            are one run in order.
        """
        start, end = places[nodes[:, 0]] + arms[:, 0], places[nodes[:, 1]] + arms[:, 1]
        axes = beam_axes(start, end, up, part)
        length = np.linalg.norm(end - start, axis=1)
        # elements of one length share one matrix: a run has few distinct lengths
        rounded = float(f"{length.max():.12e}")
        unique, which = np.unique(np.round(length / rounded, 11), return_inverse=True)
        stations: tuple[SectionProperties, ...] = ()
        if taper is None:
            along = _even(section, E, G, density, theory)
            K, M, own = _shared_beam(tuple(unique * rounded), section, E, G, density, theory)
            if mass != "consistent":
                M = _lumped(unique * rounded, along, mass == "lumped")
            K, M, own = K[which], M[which], own[which]
        else:
            places_along = np.concatenate([[0.0], np.cumsum(length)]) / length.sum()
            halves = np.sort(np.concatenate([places_along, (places_along[1:] + places_along[:-1]) / 2.0]))
            stations = tuple(taper(float(s)) for s in halves)
            along = _varying(taper, np.column_stack([places_along[:-1], places_along[1:]]), E, G, density, theory)
            K, M, own = _straight_beam(length, along)
            if mass != "consistent":
                M = _lumped(length, along, mass == "lumped")
        if preload:
            K += preload * own
        begins, ends_at = runs or ([0], [len(nodes) - 1])
        free: dict[int, list[int]] = {e: [] for e in (*begins, *ends_at)}
        for e in begins:
            free[e] += list(release_start)
        for e in ends_at:
            free[e] += [6 + r for r in release_end]
        follow = {}
        for e, directions in free.items():
            if directions:
                K[e], M[e], follow[e] = _release(K[e], M[e], directions, part)
                own[e] = follow[e].T @ own[e] @ follow[e]
        total = arms + np.einsum("i,eij->ej", np.array([0.0, *eccentricity]), axes)[:, None, :]
        T = np.zeros((len(nodes), 12, 12))
        for end_number in range(2):
            o = 6 * end_number
            T[:, o : o + 3, o : o + 3] = axes
            T[:, o + 3 : o + 6, o + 3 : o + 6] = axes
            T[:, o : o + 3, o + 3 : o + 6] = axes @ arm_matrix(total[:, end_number])
        ends = places[nodes] + total
        return cls(
            part, nodes, length, ends, axes, T, K, M, section, E, G, density, stations, local_tension=own,
            arms=total, follow=follow,
        )  # fmt: skip

    @property
    def run_ends(self) -> Floats:
        """Start and end of each element in m, shape (elements, 2, 3)."""
        return self.ends

    @property
    def dofs(self) -> NDArray[np.int64]:
        """Degrees of freedom, shape (elements, 12)."""
        return (self.nodes[:, :, None] * 6 + np.arange(6)).reshape(len(self.nodes), -1)

    def blocks(self) -> Iterator[tuple[NDArray[np.int64], NDArray[np.int64] | None, Floats, Floats]]:
        """Nodes, elastic stiffness and mass (global axes) of all elements."""
        elastic = self if self.local_elastic is None else replace(self, local_stiffness=self.local_elastic)
        yield self.nodes, None, *elastic.matrices()

    def chunks(self) -> Iterator[tuple[NDArray[np.int64], Floats, Floats]]:
        """Degrees of freedom, stiffness (with what stress adds) and mass (global axes) of all elements."""
        yield self.dofs, *self.matrices()

    # -- about a state --------------------------------------------------------------------------------

    def expansion(self) -> Floats:
        """Motions of each element that grows freely by a unit strain along its axis, shape (elements, 12)."""
        motion = np.zeros((len(self.nodes), 12))
        motion[:, 6:9] = self.length[:, None] * self.axes[:, 0]
        return motion

    def free_stress(self) -> Floats:
        """E on the fibre."""
        return np.array([self.E])

    def resultants(self, u: Floats, strain: float) -> Floats:
        """Local elastic end forces (elements, 12) under motions (dofs,), grown freely by a strain along the axis."""
        own = u[self.dofs] - strain * self.expansion()
        elastic = self.local_stiffness if self.local_elastic is None else self.local_elastic
        return np.einsum("eij,ej->ei", elastic, np.einsum("eij,ej->ei", self.to_local, own))

    def tensions(self, forces: Floats) -> Floats:
        """Axial force of each element in N, tension positive, from its local end forces."""
        return np.asarray((forces[:, 6] - forces[:, 0]) / 2.0)

    def stressed(self, forces: Floats) -> BeamElements:
        """The elements with what their present end forces (elements, 12) add to the stiffness."""
        moments = _moment_stiffness(self.length, forces)
        for e, follow in self.follow.items():
            moments[e] = follow.T @ moments[e] @ follow
        added = self.tensions(forces)[:, None, None] * self.local_tension + moments
        elastic = self.local_stiffness if self.local_elastic is None else self.local_elastic
        return replace(self, local_stiffness=elastic + added, local_elastic=elastic)

    def stress_blocks(self) -> Iterator[tuple[NDArray[np.int64], Floats]]:
        """Nodes, and what stress adds to the stiffness (global axes)."""
        if self.local_elastic is not None:
            added = np.swapaxes(self.to_local, 1, 2) @ (self.local_stiffness - self.local_elastic) @ self.to_local
            yield self.nodes, (added + np.swapaxes(added, 1, 2)) / 2.0

    def arm_forces(
        self, u: Floats, ride: Floats, strain: float, forces: Floats | None = None
    ) -> list[tuple[NDArray[np.int64], Floats, Floats]]:
        """Nodes, forces in N that the elements' ends feel (by balance, global axes), and arms from node to end in m."""
        on = np.flatnonzero(np.abs(self.arms).max(axis=(1, 2), initial=0.0) > 1e-9 * self.length.max(initial=1.0))
        if len(on) == 0:
            return []
        local = (self.resultants(u, strain) if forces is None else forces)[on].copy()
        local += np.einsum("eij,ejk,ek->ei", self.local_mass[on], self.to_local[on], ride[self.dofs[on]])
        return [
            (self.nodes[on, end], np.einsum("eij,ei->ej", self.axes[on], local[:, 6 * end : 6 * end + 3]),
             self.arms[on, end])
            for end in range(2)
        ]  # fmt: skip

    def absent(self) -> BeamElements:
        """The run without stiffness, half of its mass on either end: a cable that is slack."""
        own = np.einsum("eii->e", self.local_mass[:, :3, :3] + self.local_mass[:, 6:9, 6:9]) / 3.0
        own += 2.0 * np.einsum("eii->e", self.local_mass[:, :3, 6:9]) / 3.0
        mass = np.zeros_like(self.local_mass)
        for e, first in ((0, 0), (-1, 6)):
            mass[e, range(first, first + 3), range(first, first + 3)] += own.sum() / 2.0
        none = np.zeros_like(self.local_stiffness)
        return replace(self, local_stiffness=none, local_mass=mass, local_tension=none, local_elastic=None)

    def lumped_chunks(self) -> Iterator[tuple[NDArray[np.int64], Floats]]:
        """Degrees of freedom and lumped mass (global axes)."""
        lumped = np.zeros((len(self.length), 12, 12))
        for rows, s in self._middles():
            lumped[rows] = _lumped(self.length[rows], _even(s, self.E, self.G, self.density, "timoshenko"), True)
        yield self.dofs, np.swapaxes(self.to_local, 1, 2) @ lumped @ self.to_local

    def volumes(self) -> Floats:
        """Volume of each element in m³."""
        if not self.stations:
            return self.length * self.section.area
        areas = np.array([s.area for s in self.stations])
        return self.length * (areas[:-1:2] + 4.0 * areas[1::2] + areas[2::2]) / 6.0

    def _middles(self) -> list[tuple[Any, SectionProperties]]:
        """Elements, and the section of their middle."""
        if not self.stations:
            return [(slice(None), self.section)]
        return [([i], s) for i, s in enumerate(self.stations[1::2])]

    def _slightest(self) -> SectionProperties:
        """The section that bends most easily."""
        return min(self.stations or (self.section,), key=lambda s: min(s.Iy, s.Iz) / s.area)

    def wave(self, omega: float) -> float:
        """Bending in the softer plane, (EI / ρA ω²)^¼."""
        s = self._slightest()
        if self.density <= 0:
            return float(np.inf)
        return float((self.E * min(s.Iy, s.Iz) / (self.density * s.area * omega**2)) ** 0.25)

    def wave_errors(self, shapes: Floats, omega: Floats) -> Floats:
        """Bending: (kh)⁴ / 720 of Hermite's, and (kh)² / 24 of shear's share; stretching and torsion: (kh)² / 24.

        Each of its own waves and its own energy.
        """
        s, h = self._slightest(), float(self.length.max())
        if self.density <= 0:
            return np.zeros(len(shapes))
        local = np.einsum("eij,kej->kei", self.to_local, shapes[:, self.dofs])
        energies = []
        for motions in ([0, 6], [3, 9], [1, 2, 4, 5, 7, 8, 10, 11]):
            K, own = self.local_stiffness[:, np.array(motions)[:, None], motions], local[:, :, motions]
            energies.append(np.einsum("kei,eij,kej->k", own, K, own, optimize=True) / 2.0)
        k = np.sqrt(omega) * (self.density * s.area / (self.E * min(s.Iy, s.Iz))) ** 0.25
        area = s.area * max(min(s.shear_y, s.shear_z), 1e-9)
        ratio = k**2 * self.E * min(s.Iy, s.Iz) / (self.G * area)
        bending = (k * h) ** 4 / 720.0 + (k * h) ** 2 / 24.0 * ratio / (1.0 + ratio)
        stretching = omega**2 * self.density / self.E * h**2 / 24.0
        torsion = omega**2 * self.density * (s.Iy + s.Iz) / (self.G * s.J) * h**2 / 24.0
        errors = (np.minimum(e, 1.0) for e in (stretching, torsion, bending))
        return np.asarray(sum(energy * e for energy, e in zip(energies, errors, strict=True)))

    def end_rows(self, end: str) -> tuple[NDArray[np.int64], Floats, Floats]:
        """N, Vy, Vz, T, My, Mz at the start or the end of the run, on the positive side of a cut."""
        e, sign, side = (0, -1.0, slice(0, 6)) if end == "start" else (-1, 1.0, slice(6, 12))
        stiff, mass = (sign * m[e] @ self.to_local[e] for m in (self.local_stiffness, self.local_mass))
        return self.nodes[e], stiff[side], mass[side]

    def bodies(self) -> tuple[Floats, Floats, Floats]:
        """Outlines of the section along every element, (faces, 4, 3); the middle of the run, and its axes y, z."""
        faces = []
        first = [self.section] * len(self.ends) if not self.stations else list(self.stations[:-1:2])
        last = first if not self.stations else list(self.stations[2::2])
        for number in range(len(self.section.pieces)):
            off = [np.einsum("eki,eij->ekj", np.array([s.pieces[number] for s in own]), self.axes[:, 1:])
                   for own in (first, last)]  # fmt: skip
            start, end = self.ends[:, [0]] + off[0], self.ends[:, [1]] + off[1]
            turned = [np.roll(x, -1, axis=1) for x in (start, end)]
            faces.append(np.stack([start, turned[0], turned[1], end], axis=2).reshape(-1, 4, 3))
        middle = len(self.ends) // 2
        place = self.ends[middle].mean(axis=0) if len(self.ends) % 2 else self.ends[middle, 0]
        return (np.concatenate(faces) if faces else np.zeros((0, 4, 3))), place, self.axes[middle, 1:]

    @classmethod
    def section_map(cls, blocks: Sequence[ElementKind], size: int) -> csr_array:
        """N, Vy, Vz, T, My, Mz on the positive side of a cut, from the elastic forces: a map (elements * 12, size)."""
        beams = [b for b in blocks if isinstance(b, BeamElements)]
        stiffness, to_local, dofs = (
            np.concatenate([getattr(b, name) for b in beams]) for name in ("local_stiffness", "to_local", "dofs")
        )
        return element_map(np.repeat([-1.0, 1.0], 6)[:, None] * (stiffness @ to_local), dofs, size)

    def matrices(self) -> tuple[Floats, Floats]:
        """Stiffness and mass in global axes, each of shape (elements, 12, 12)."""
        back = np.swapaxes(self.to_local, 1, 2)
        K, M = back @ self.local_stiffness @ self.to_local, back @ self.local_mass @ self.to_local
        return (K + np.swapaxes(K, 1, 2)) / 2.0, (M + np.swapaxes(M, 1, 2)) / 2.0

    def stress_fields(self, size: int) -> list[StressField]:
        """Normal stress of all fibres of every element, at its start and at its end, from the elastic forces alone.

        Empty without fibres.
        """
        return self.joined_fields([self], size)

    @classmethod
    def joined_fields(cls, blocks: Sequence[ElementKind], size: int) -> list[StressField]:
        """One field of all beams with so many fibres for their starts, and one for their ends."""
        found = []
        beams = [b for b in blocks if isinstance(b, BeamElements)]
        for count in sorted({len(b.section.fibres) for b in beams} - {0}):
            own = [b for b in beams if len(b.section.fibres) == count]
            spread = _section_rows(own, fibre_stress)[..., _BENDING]
            stiffness, to_local = (
                np.concatenate([getattr(b, a) for b in own]) for a in ("local_stiffness", "to_local")
            )
            numbers = np.concatenate([np.arange(1, len(b.nodes) + 1) for b in own])
            nodes, dofs, ends = (np.concatenate([getattr(b, a) for b in own]) for a in ("nodes", "dofs", "ends"))
            starts = tuple(np.cumsum([0, *(len(b.nodes) for b in own[:-1])]).tolist())
            found += [
                StressField(
                    tuple(b.part for b in own), element_map(sign * stiffness[:, ends_] @ to_local, dofs, size), 1,
                    Places.on("element", np.repeat(numbers, count), None, word), nodes, nodes[:, [side]],
                    spots=ends[:, side], starts=starts, spread=spread[:, side],
                )
                for side, (word, sign, ends_) in enumerate(
                    ((", start", -1.0, _BENDING), (", end", 1.0, [6 + k for k in _BENDING]))
                )
            ]  # fmt: skip
        return found

    def gauge_fields(self, size: int, **options: str | None) -> list[StressField]:
        """Normal stress of the fibres by balance, at both ends of every element, or at one end of the run.

        With the component `equivalent` each fibre with the largest shear stress of torsion and of either shear force
        beside it, torsion with either sign: places of two components, normal and shear.
        """
        count, end, component = len(self.section.fibres), options.get("end"), options.get("component")
        if component not in (None, "equivalent"):
            raise DescriptionError(f'beams tell the stress of extreme fibres, or equivalent, not "{component}"')
        if count == 0:
            raise DescriptionError(f'the section of "{self.part}" has no fibres; add fibres: [[y, z], ...] to it')
        if component and np.isnan(self.section.torsion_modulus):
            raise DescriptionError(
                f'the section of "{self.part}" is given by numbers, of which the shear stress of torsion is not known; '
                "give it a shape"
            )
        table, width = (sheared_fibre_stress, 2) if component else (fibre_stress, 1)
        stiff, inert = (_fibre_rows(self, matrix, table) for matrix in (self.local_stiffness, self.local_mass))
        fibres = [f", fibre y {1e3 * y + 0.0:.4g} z {1e3 * z + 0.0:.4g} mm" for y, z in _tidy(self.section.fibres)]
        if self.stations:
            fibres = [f"{fibre} at the run's start, thinner or thicker here" for fibre in fibres]
        if component:
            fibres = [f"{f}{beside}" for f in fibres for beside in _BESIDE]
            count = len(fibres)
        sides = tuple(f", {word}{f}" for word in ("start", "end") for f in fibres)
        elements, ends = np.arange(len(self.nodes)), [0, 1]
        if end is not None:
            ends = [0 if end == "start" else 1]
            elements = elements[[0]] if end == "start" else elements[[-1]]
        maps = [
            element_map(np.hstack([values[e][elements] for e in ends]), self.dofs[elements], size)
            for values in (stiff, inert)
        ]
        number = np.repeat(elements + 1, len(ends) * count)
        side = np.tile(np.concatenate([e * count + np.arange(count) for e in ends]), len(elements))
        places = Places("element", number, None, sides, side)
        none = np.zeros((0, 1), dtype=np.int64)
        free = np.array([self.E, 0.0]) if component else None
        return [StressField((self.part,), maps[0], width, places, none, none, maps[1], free=free)]


_BENDING = [0, 4, 5]  # of N, Vy, Vz, T, My, Mz: what normal stress comes from


def _section_rows(blocks: Sequence[BeamElements], table: Callable[[SectionProperties], Floats]) -> Floats:
    """Rows of a table of sections at both ends of every element, on (N, Vy, Vz, T, My, Mz): (elements, 2, rows, 6)."""
    known: dict[int, Floats] = {}

    def of(section: SectionProperties) -> Floats:  # many parts are of one section
        if id(section) not in known:
            known[id(section)] = table(section)
        return known[id(section)]

    each = []
    for b in blocks:
        along = np.array([of(s) for s in (b.stations[::2] if b.stations else (b.section,))])
        first = np.arange(len(b.nodes)) if b.stations else np.zeros(len(b.nodes), dtype=np.int64)
        each.append(np.stack([along[first], along[first + 1 if b.stations else first]], axis=1))
    return np.concatenate(each)


def _fibre_rows(
    block: BeamElements, matrix: Floats, table: Callable[[SectionProperties], Floats]
) -> tuple[Floats, Floats]:
    """Rows of a table of sections at the start and at the end of every element on global dofs, (elements, rows, 12).

    By the local stiffness, or by the local mass for what inertia adds (`matrix`).
    """
    rows = _section_rows([block], table)
    return -rows[:, 0] @ (matrix[:, :6] @ block.to_local), rows[:, 1] @ (matrix[:, 6:] @ block.to_local)


def fibre_stress(s: SectionProperties) -> Floats:
    """Normal stress in Pa at the fibres from section forces (N, Vy, Vz, T, My, Mz), shape (fibres, 6)."""
    bend = np.linalg.inv(np.array([[s.Iy, -s.Iyz], [-s.Iyz, s.Iz]]))
    y, z = s.fibres[:, 0], s.fibres[:, 1]
    none = np.zeros((len(y), 3))
    return np.column_stack([np.full(len(y), 1.0 / s.area), none, np.column_stack([z, -y]) @ bend])


_BESIDE = (", Vz and T", ", Vz and -T", ", Vy and T", ", Vy and -T")


def sheared_fibre_stress(s: SectionProperties) -> Floats:
    """Normal stress of each fibre with the largest shear stress beside it, four ways: (fibres 4 2, 6)."""
    normal = fibre_stress(s)
    result = np.zeros((len(normal), 4, 2, 6))
    result[:, :, 0] = normal[:, None]
    for way, (axis, sign) in enumerate(((2, 1.0), (2, -1.0), (1, 1.0), (1, -1.0))):
        result[:, way, 1, axis] = s.shear_peak[axis - 1]
        result[:, way, 1, 3] = sign / s.torsion_modulus
    return result.reshape(-1, 6)


def _release(K: Floats, M: Floats, free: list[int], part: str) -> tuple[Floats, Floats, Floats]:
    """Condense released local directions statically (Guyan) out of one element; with how they follow the others."""
    inner = K[np.ix_(free, free)]
    scale = np.sqrt(np.outer(np.diag(inner), np.diag(inner)))
    if np.linalg.matrix_rank(inner / scale, tol=1e-10) < len(free):
        raise ConstraintError(
            f'part "{part}": so many directions of its ends are released that it can move without resistance',
            path=("parts", part),
        )
    kept = [i for i in range(12) if i not in free]
    T = np.zeros((12, 12))
    T[kept, kept] = 1.0
    T[np.ix_(free, kept)] = -np.linalg.solve(inner, K[np.ix_(free, kept)])
    Kc, Mc = T.T @ K @ T, T.T @ M @ T
    Kc[free], Kc[:, free] = 0.0, 0.0
    size = np.sqrt(np.abs(np.diag(K)))
    Kc[np.abs(Kc) < 1e-14 * np.outer(size, size)] = 0.0  # what releases leave of a number that they take away
    return (Kc + Kc.T) / 2.0, (Mc + Mc.T) / 2.0, T
