"""Cables: they carry tension along their line and nothing else.

No bending, no torsion, no shear: across they resist by their tension alone, N / L between the ends of an element, as a
string does (Irvine, *Cable Structures*, ch. 2). Mass and motion run straight between the nodes of an element.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.beam import BeamElements

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.elements.sections import SectionProperties

__all__ = ["CableElements"]

_ACROSS = ((1, 7), (2, 8))
_TRANSLATIONS = np.array([0, 1, 2, 6, 7, 8])


@dataclass(frozen=True)
class CableElements(BeamElements):
    """Elements of one cable: of beams the ones that carry no moment.

    Attributes
    ----------
    section : SectionProperties
        Its area counts; one fibre in the middle tells N / A.
    """

    words = "cables"

    @classmethod
    def of(
        cls, part: str, nodes: Ints, places: Floats, *, section: SectionProperties, stiffness: float, density: float,
        mass: str,
    ) -> CableElements:  # fmt: skip
        """Build all elements of a cable.

        Parameters
        ----------
        places : ndarray, shape (nodes of the mesh, 3)
            m.
        stiffness : float
            E A in N.
        """
        ends = places[nodes]
        along = ends[:, 1] - ends[:, 0]
        length = np.linalg.norm(along, axis=1)
        x = along / length[:, None]
        side = np.eye(3)[np.argmin(np.abs(x), axis=1)]  # any two directions across will do
        z = side - (side * x).sum(axis=1)[:, None] * x
        z /= np.linalg.norm(z, axis=1)[:, None]
        axes = np.stack([x, np.cross(z, x), z], axis=1)
        T, K, M, G = np.zeros((4, len(nodes), 12, 12))
        for o in range(0, 12, 3):
            T[:, o : o + 3, o : o + 3] = axes
        both = np.array([[1.0, -1.0], [-1.0, 1.0]])
        K[:, [[0], [6]], [0, 6]] = (stiffness / length)[:, None, None] * both
        for pair in _ACROSS:
            G[:, np.array(pair)[:, None], pair] = both / length[:, None, None]
        share = np.array([[2.0, 1.0], [1.0, 2.0]]) / 6.0 if mass == "consistent" else np.eye(2) / 2.0
        for d in range(3):
            M[:, [[d], [d + 6]], [d, d + 6]] = (density * section.area * length)[:, None, None] * share
        return cls(
            part, nodes, length, ends, axes, T, K, M, replace(section, fibres=np.zeros((1, 2))),
            stiffness / section.area, 0.0, density, local_tension=G, arms=np.zeros((len(nodes), 2, 3)),
        )  # fmt: skip

    @property
    def acting(self) -> Ints:
        """Translations."""
        return self.dofs[:, _TRANSLATIONS]

    def strung(self, tension: Floats) -> list[tuple[Ints, Floats]]:
        """What tensions (elements,) in N hold of the nodes within the run, as they lie between its ends (global axes).

        Dofs and stiffness across: of every element, and for a straight run less that of one piece from end to end, so
        that it holds nothing of a run that turns as a whole.
        """
        K = np.swapaxes(self.to_local, 1, 2) @ (tension[:, None, None] * self.local_tension) @ self.to_local
        found = [(self.dofs, K)]
        line = self.ends[-1, 1] - self.ends[0, 0]
        whole = float(np.linalg.norm(line))
        if whole > (1.0 - 1e-9) * self.length.sum():
            pull = whole / float((self.length / tension).sum())  # of the chain as it hangs between its ends
            across = -pull / whole * (np.eye(3) - np.outer(line, line) / whole**2)
            ends = np.concatenate([self.dofs[0, :3], self.dofs[-1, 6:9]])
            found.append((ends[None], np.kron([[1.0, -1.0], [-1.0, 1.0]], across)[None]))
        return found

    def lumped_chunks(self) -> Iterator[tuple[Ints, Floats]]:
        """Degrees of freedom and lumped mass (global axes)."""
        half = self.density * self.section.area * self.length / 2.0
        M = np.zeros((len(self.nodes), 12, 12))
        M[:, _TRANSLATIONS, _TRANSLATIONS] = half[:, None]
        yield self.dofs, M

    @property
    def _pull(self) -> Floats:
        """Tension of each element in N, where it is about a state."""
        if self.local_elastic is None:
            return np.zeros(len(self.nodes))
        return np.asarray((self.local_stiffness - self.local_elastic)[:, 1, 1] * self.length)

    def wave(self, omega: float) -> float:
        """Across, √(N / ρA) / ω; without tension nothing runs along it that way."""
        pull = float(self._pull.min())
        heavy = self.density * self.section.area
        return float(np.sqrt(pull / heavy) / omega) if pull > 0.0 and heavy > 0.0 else float(np.inf)

    def wave_errors(self, shapes: Floats, omega: Floats) -> Floats:
        """(kh)² / 24 of waves along and across, each of its own energy."""
        if self.density <= 0:
            return np.zeros(len(shapes))
        local = np.einsum("eij,kej->kei", self.to_local, shapes[:, self.dofs])
        h = float(self.length.max())
        pull = max(float(self._pull.min()), 1e-300)
        total = np.zeros(len(shapes))
        across = pull / (self.density * self.section.area)
        for motions, speed in (([0, 6], self.E / self.density), ([1, 2, 7, 8], across)):
            own, K = local[:, :, motions], self.local_stiffness[:, np.array(motions)[:, None], motions]
            energy = np.einsum("kei,eij,kej->k", own, K, own, optimize=True) / 2.0
            total += energy * np.minimum(omega**2 / speed * h**2 / 24.0, 1.0)
        return total
