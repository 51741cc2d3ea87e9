"""Extracting modes of a system, with participation and proof."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, diags_array, eye_array

from holokine.errors import MechanismError, SolverError
from holokine.modes.check import Finding, mesh_findings, refuse_loose
from holokine.solvers import factorise
from holokine.solvers.eigen import lowest_pairs
from holokine.system.adequacy import symmetry_planes
from holokine.system.build import System
from holokine.system.pieces import Piece, connected_pieces, motion_words
from holokine.system.totals import MassTotals, mass_totals

__all__ = ["DEFAULT_COUNT", "ModeSet", "extract_modes"]

Floats = NDArray[Any]  # float64
DEFAULT_COUNT = 20
RIDGE = 1e-13


@dataclass(frozen=True)
class ModeSet:
    """Natural frequencies and mode shapes.

    Attributes
    ----------
    system : System
    frequencies_hz : ndarray, shape (modes,)
        Rising; rigid-body modes are exactly 0.
    shapes : ndarray, shape (modes, dofs)
        Mass-normalised, largest component positive; dofs are x y z rx ry rz per node in m and rad.
    rigid : ndarray of bool, shape (modes,)
        Rigid-body modes.
    residuals : ndarray, shape (modes,)
        Relative residual of each pair (see `solvers.eigen`).
    orthogonality : float
        Largest entry of |Φ M Φᵀ - I|.
    method : str
    exists_below : int or None
        Modes that exist below the cut-off or the highest kept, by inertia; None where not known.
    participation : ndarray, shape (modes, 6)
        Participation factors Γ = φᵀ M r; rotations about the centre of mass.
    totals : MassTotals
    whole_mass, free_mass : ndarray, shape (6,)
        Mass in kg (x y z) and inertia in kg m² (rx ry rz, about the centre of mass): all of it, and what is
        free to move, to which the effective masses of all modes sum.
    findings : tuple of Finding
    """

    system: System
    frequencies_hz: Floats
    shapes: Floats
    rigid: NDArray[np.bool_]
    residuals: Floats
    orthogonality: float
    method: str
    exists_below: int | None
    participation: Floats
    totals: MassTotals
    whole_mass: Floats
    free_mass: Floats
    pieces: tuple[Piece, ...]
    findings: tuple[Finding, ...]

    @property
    def count(self) -> int:
        """Number of modes."""
        return len(self.frequencies_hz)

    @property
    def omega(self) -> Floats:
        """Angular frequencies in rad/s, shape (modes,)."""
        return 2.0 * np.pi * self.frequencies_hz

    @property
    def effective_mass(self) -> Floats:
        """Γ², in kg (x y z) and kg m² (rx ry rz), shape (modes, 6)."""
        return self.participation**2

    def unit_maximum(self) -> Floats:
        """Shapes scaled so that the largest translation is 1, shape (modes, dofs)."""
        nodes = self.shapes.reshape(self.count, -1, 6)[:, :, :3]
        size = np.linalg.norm(nodes, axis=2).max(axis=1, initial=0.0)
        fallback = np.abs(self.shapes).max(axis=1, initial=0.0)
        size = np.where(size > 1e-9 * fallback, size, fallback)
        return self.shapes / size[:, None]


def extract_modes(system: System, *, count: int | None = None, upto: float | None = None) -> ModeSet:
    """Extract the lowest modes.

    Parameters
    ----------
    count : int, optional
        How many (20 when neither is given).
    upto : float, optional
        Highest frequency in Hz. With `count` too, whichever comes first.

    Raises
    ------
    MechanismError
        When a part hangs on nothing or something inside moves without resistance.
    SolverError
        No mass, nothing free to move, no mode up to the cut-off, or no convergence.
    """
    if count is None and upto is None:
        count = DEFAULT_COUNT
    if count is not None and count < 1:
        raise SolverError(f"the number of modes must be 1 or more, got {count}")
    if upto is not None and not upto > 0:
        raise SolverError(f"the upper frequency must be greater than 0 Hz, got {upto:g}")
    totals = mass_totals(system)
    if totals.mass <= 0:
        raise SolverError("the assembly has no mass: give the materials a density, or add point masses")
    if system.free_size == 0:
        raise SolverError("nothing is free to move: every motion is held by supports")
    pieces = tuple(connected_pieces(system))
    findings = refuse_loose(system, pieces)
    _refuse_without_inertia(system, pieces)
    K, M = system.reduced_stiffness, system.reduced_mass
    limit = None if upto is None else (2.0 * np.pi * upto) ** 2
    expected = sum(len(p.free) for p in pieces)
    pairs = lowest_pairs(K, M, count=count, upto=limit, rigid=expected)
    if len(pairs.values) == 0:
        raise SolverError(f"there is no mode up to {upto:g} Hz")
    values = pairs.values.copy()
    rigid = np.zeros(len(values), dtype=bool)
    rigid[: min(expected, len(values))] = True
    elastic = values[~rigid]
    if len(elastic) and elastic[0] <= 0.0:
        raise MechanismError(
            f"mode {int(rigid.sum()) + 1} has no stiffness (λ = {elastic[0]:.3g} rad²/s²): a preload at or "
            "beyond buckling, or a motion that nothing resists"
        )
    values[rigid] = 0.0
    if "were not found" in pairs.method:
        findings = [*findings, Finding(
            "error", f"{pairs.method}: the modes below are not complete; extract fewer, or a narrower range",
        )]  # fmt: skip
    elif count is not None and pairs.exists_below is not None and pairs.exists_below > len(values) == count:
        findings = [*findings, Finding(
            "warning", f"mode {count} is one of several at the same frequency, of which the count cuts off the rest; "
            f"ask for {pairs.exists_below} modes",
        )]  # fmt: skip
    highest = float(np.sqrt(max(values.max(), 0.0)) / (2.0 * np.pi))
    if highest > 0:
        findings = [*findings, *mesh_findings(system, highest)]
    findings = [*findings, *(Finding("warning", w) for w in symmetry_planes(system))]
    T = system.constraints.reduce
    shapes = np.ascontiguousarray((T @ pairs.vectors.T).T)
    largest = shapes[np.arange(len(shapes)), np.abs(shapes).argmax(axis=1)]
    shapes *= np.where(largest < 0, -1.0, 1.0)[:, None]
    shapes.setflags(write=False)
    R = system.rigid_motions(totals.centre)
    MR = system.mass @ R.T
    whole = np.einsum("ij,ji->i", R, MR)
    return ModeSet(
        system=system,
        frequencies_hz=np.sqrt(values) / (2.0 * np.pi),
        shapes=shapes,
        rigid=rigid,
        residuals=pairs.residuals,
        orthogonality=pairs.orthogonality,
        method=pairs.method,
        exists_below=pairs.exists_below,
        participation=shapes @ MR,
        totals=totals,
        whole_mass=whole,
        free_mass=_free_mass(M, T.T @ MR),
        pieces=pieces,
        findings=tuple(findings),
    )


def _refuse_without_inertia(system: System, pieces: tuple[Piece, ...]) -> None:
    """Raise for a free rigid-body motion that moves no mass: its frequency would be zero over zero."""
    for piece in pieces:
        if len(piece.free) == 0:
            continue
        inside = np.zeros((system.size // 6, 6), dtype=bool)
        inside[piece.nodes] = True
        motions = np.where(inside.ravel(), piece.free @ system.rigid_motions(piece.centre), 0.0)
        inertia = motions @ (system.mass @ motions.T)
        values, vectors = np.linalg.eigh(inertia)
        if values[0] <= 1e-12 * max(values[-1], 1e-300):
            words = "; ".join(motion_words((vectors[:, [0]].T @ piece.free).round(9), piece.centre))
            raise MechanismError(
                f"a motion without resistance and without inertia: {words}. Hold it, or give it inertia (the mass "
                "matrix `lumped without rotary` has none about a beam's own axis)"
            )


def _free_mass(M: csr_array, load: Floats) -> Floats:
    """bᵀ M⁻¹ b per direction: what the effective masses of all modes sum to. M may be singular."""
    diagonal = M.diagonal()
    carrying = np.flatnonzero(diagonal > 0)
    root = 1.0 / np.sqrt(diagonal[carrying])
    scaled = csr_array(diags_array(root) @ M[carrying][:, carrying] @ diags_array(root))
    b = root[:, None] * load[carrying]
    # a whiff of the unit matrix stands in for motions without inertia (b has no share in them)
    factor = factorise(csr_array(scaled + RIDGE * eye_array(len(carrying))))
    x = factor.solve(b)
    for _ in range(4):
        x = x + factor.solve(b - scaled @ x)
    return np.asarray(2.0 * np.einsum("ij,ij->j", b, x) - np.einsum("ij,ij->j", x, scaled @ x))
