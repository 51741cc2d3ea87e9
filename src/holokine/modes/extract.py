"""Extracting modes of a system, with participation and proof."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import MechanismError, SolverError, first_few
from holokine.findings import Finding
from holokine.later import same
from holokine.modes.check import (
    mass_findings,
    mesh_findings,
    patch_findings,
    refuse_loose,
    refuse_wrong_mass,
)
from holokine.modes.free_mass import free_to_move
from holokine.modes.mode_set import ModeSet, unsure
from holokine.modes.turned import of_one_frequency, turned
from holokine.progress import tell
from holokine.ranking import leading_signs
from holokine.solvers.dense import IndefiniteError
from holokine.solvers.eigen import EigenPairs, Progress, Wish, backward_errors, find_pairs
from holokine.state.limits import negative_motion
from holokine.state.rest import pencil_of
from holokine.system.adequacy import symmetry_planes
from holokine.system.mechanisms import describe_motion, stiffest_connection
from holokine.system.pieces import Piece, connected_pieces, motion_words, piece_motions
from holokine.system.totals import mass_totals

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.build import System
    from holokine.system.wide import Matrix

__all__ = ["DEFAULT_COUNT", "extract_modes"]

DEFAULT_COUNT = 20


def extract_modes(
    system: System,
    *,
    count: int | None = None,
    upto: float | None = None,
    above: float | None = None,
    near: float | None = None,
    progress: Progress | None = None,
) -> ModeSet:
    """Extract modes: the lowest, those of a band, or those nearest to a frequency.

    Parameters
    ----------
    count : int, optional
        How many (20 when no range is given).
    upto : float, optional
        Highest frequency in Hz. With `count` too, whichever comes first.
    above : float, optional
        Lowest frequency in Hz.
    near : float, optional
        Frequency in Hz; the `count` modes next to it.
    progress : callable, optional
        Called with a phase in words, modes converged and modes wanted.

    Raises
    ------
    MechanismError
        When a part hangs on nothing or something inside moves without resistance.
    SolverError
        No mass, nothing free to move, no mode in the range, too large for memory, or no convergence.
    """
    if near is not None and (upto is not None or above is not None):
        raise SolverError("give a frequency to look around, or a range, not both")
    if count is None and upto is None:
        count = DEFAULT_COUNT
    if count is not None and count < 1:
        raise SolverError(f"the number of modes must be 1 or more, got {count}")
    for value, name in ((upto, "upper frequency"), (near, "frequency to look around")):
        if value is not None and not value > 0:
            raise SolverError(f"the {name} must be greater than 0 Hz, got {value:g}")
    if above is not None and (above < 0 or (upto is not None and above >= upto)):
        raise SolverError(f"the lower frequency must be 0 Hz or more and below the upper one, got {above:g}")
    above = above or None
    totals = mass_totals(system)
    if totals.mass <= 0:
        raise SolverError("the assembly has no mass: give the materials a density, or add point masses")
    if system.free_size == 0:
        raise SolverError("nothing is free to move: every motion is held by supports")
    if system.reduced_mass.diagonal().max(initial=0.0) <= 0.0:
        raise SolverError("nothing that is free to move has mass in a direction that is not switched off")
    refuse_wrong_mass(system)
    pieces = tuple(connected_pieces(system))
    findings = refuse_loose(system, pieces)
    _refuse_without_inertia(system, pieces)
    K, M = system.reduced_stiffness, system.reduced_mass
    wish = Wish(count, *(None if f is None else (2.0 * np.pi * f) ** 2 for f in (upto, above, near)))
    free = _free_vectors(system, pieces)
    pencil = pencil_of(system)
    try:
        pairs = find_pairs(
            K, M, wish, rigid=free, progress=progress or _told, pencil=pencil, lowest=system.kept.get("lowest")
        )
        moving = free_to_move(system)
    except IndefiniteError:
        shape = negative_motion(system) if system.about else None
        if shape is None:
            raise
        raise MechanismError(
            f"a mechanism: {describe_motion(system, shape).words or 'of a point'}: it is at rest about the state "
            f'"{system.about}", and nothing holds it there. Hold it'
        ) from None
    finally:
        pencil.release()
    R = system.rigid_motions(totals.centre)
    MR = system.mass @ R.T
    searched = _searched(count, upto, above, near)
    if len(pairs.values) == 0:
        raise SolverError(f"there is no mode {searched}")
    expected = max(free.shape[1] - (pairs.below or 0), 0)
    values = pairs.values.copy()
    rigid = np.zeros(len(values), dtype=bool)
    rigid[: min(expected, len(values))] = True
    unheld = np.flatnonzero(~rigid & (values <= pairs.rounding))
    if len(unheld):
        row = int(unheld[0])
        motion = describe_motion(system, system.constraints.reduce @ pairs.vectors[row]).words or "of a point"
        raise MechanismError(
            f"mode {row + 1} has no stiffness (λ = {values[row]:.3g} rad²/s², known to {pairs.rounding[row]:.1g}): a "
            f"preload at or beyond buckling, or a motion that nothing resists: {motion}"
        )
    values[rigid] = 0.0
    errors = np.where(rigid, 0.0, _frequency_errors(values, pairs.errors))
    if pairs.missing:
        findings = [*findings, Finding(
            "error", f"{pairs.missing} of the {pairs.exists} modes that exist {searched} were not found: the list is "
            "not complete; extract fewer, or a narrower range",
        )]  # fmt: skip
    elif pairs.doubt:
        findings = [*findings, Finding(
            "error", f"not proven: {pairs.doubt}. What is listed holds by itself; more may be missing",
        )]  # fmt: skip
    elif pairs.exists is None:
        findings = [*findings, Finding(
            "warning", "that no mode is missing could not be proven: the factorisation at hand tells no inertia; "
            "install the `fast` extra",
        )]  # fmt: skip
    elif near is not None and pairs.exists > len(values):
        findings = [*findings, Finding(
            "warning", f"the count cuts through modes at the same frequency; ask for {pairs.exists} to have them all",
        )]  # fmt: skip
    elif count is not None and pairs.total is not None and pairs.total < count:
        findings = [*findings, Finding("note", f"{count} modes were asked for, and there are {pairs.total} in all")]
    elif count is not None and near is None and pairs.exists > len(values) == count:
        findings = [*findings, Finding(
            "warning", f"mode {(pairs.below or 0) + count} is one of several at the same frequency, of which the count "
            f"cuts off the rest; ask for {pairs.exists} modes",
        )]  # fmt: skip
    if system.description.massless:
        off = ", ".join(system.description.massless)
        findings = [
            *findings,
            Finding("note", f"mass is switched off on request in {off}: modes along it are left out"),
        ]
    findings = [*findings, *_unsure_findings(system, pairs, np.sqrt(values) / (2.0 * np.pi), errors)]
    highest = float(np.sqrt(max(values.max(), 0.0)) / (2.0 * np.pi))
    if highest > 0:
        findings = [*findings, *mesh_findings(system, highest)]
    findings = [*findings, *mass_findings(system)]
    findings = [*findings, *(Finding("warning", w) for w in symmetry_planes(system))]
    T = system.constraints.reduce
    whole = np.einsum("ij,ji->i", R, MR)
    shapes = np.ascontiguousarray((T @ pairs.vectors.T).T)
    residuals = _turn_equal(K, M, pairs, int(rigid.sum()), shapes, MR / np.sqrt(np.where(whole > 0.0, whole, np.inf)))
    shapes *= leading_signs(shapes)[:, None]
    shapes.setflags(write=False)
    findings = [*findings, *patch_findings(system, shapes, values, pairs.below or 0)]
    return ModeSet(
        build=partial(same, system),
        frequencies_hz=np.sqrt(values) / (2.0 * np.pi),
        shapes=shapes,
        rigid=rigid,
        residuals=residuals,
        errors_hz=errors,
        orthogonality=pairs.orthogonality,
        method=pairs.method,
        exists=pairs.exists,
        missing=pairs.missing,
        below=pairs.below,
        searched=searched,
        participation=shapes @ MR,
        totals=totals,
        whole_mass=whole,
        free_mass=moving,
        free_words=tuple(w for p in pieces for w in p.words),
        findings=tuple(findings),
        total=pairs.total,
        doubt=pairs.doubt,
        upto_hz=upto if pairs.exists == len(values) and not pairs.missing and not pairs.doubt else None,
    )


def _turn_equal(K: Matrix, M: Matrix, pairs: EigenPairs, first: int, shapes: Floats, moved: Floats) -> Floats:
    """Turn modes of one frequency (`turned`) where they lie, from the first elastic one; the residuals of all."""
    residuals = pairs.residuals.copy()
    rows: list[int] = []
    vectors = []
    for run in of_one_frequency(pairs.values[first:]):
        own = slice(first + run.start, first + run.stop)
        there = shapes[own].reshape(own.stop - own.start, -1, 6)
        there = there[:, :, :3] if there[:, :, :3].any() else there
        mix = turned(shapes[own] @ moved, there.reshape(len(there), -1))
        shapes[own] = mix @ shapes[own]
        rows += range(own.start, own.stop)
        vectors.append(mix @ pairs.vectors[own])
    if rows:
        residuals[rows] = backward_errors(K, M, pairs.values[rows], np.vstack(vectors).T)
    return residuals


def _frequency_errors(values: Floats, errors: Floats) -> Floats:
    """Bounds in Hz from those of λ."""
    low, high = (np.sqrt(np.maximum(values + sign * errors, 0.0)) for sign in (-1.0, 1.0))
    f = np.sqrt(np.maximum(values, 0.0))
    exact = np.where(f > 0.0, errors / np.where(f > 0.0, 2.0 * f, 1.0), high)  # where the difference would cancel
    return np.where(errors < 1e-6 * values, exact, np.maximum(high - f, f - low)) / (2.0 * np.pi)


def _told(phase: str, done: int, of: int) -> None:
    tell(phase, done, of, "modes")


def _searched(count: int | None, upto: float | None, above: float | None, near: float | None) -> str:
    if near is not None:
        return f"next to {near:g} Hz"
    words = [f"from {above:g} Hz" if above is not None else "", f"up to {upto:g} Hz" if upto is not None else ""]
    return " ".join(w for w in words if w) or "from the lowest up"


def _unsure_findings(system: System, pairs: EigenPairs, frequencies: Floats, errors: Floats) -> list[Finding]:
    """What of frequencies rounding, or a bad factor, has taken away."""
    rows = np.flatnonzero(unsure(frequencies, errors))
    if not len(rows):
        return []
    worst = int(rows[np.argmax(errors[rows] / frequencies[rows])])
    below = pairs.below or 0
    numbers = first_few([str(r + 1 + below) for r in rows], 6)
    stiffest, share = stiffest_connection(system, system.constraints.reduce @ pairs.vectors[worst])
    if share > 0.5:
        cause = f'Most of what cancels is in "{stiffest}": make it less stiff, or link what is rigid (links: rigid)'
    else:
        cause = "Stiff parts next to soft ones cancel to this: make less stiff, or link, what is rigid beside the rest"
    return [Finding(
        "warning", f"the frequency of {'mode' if len(rows) == 1 else 'modes'} {numbers} is not known to the digits "
        f"shown: mode {worst + 1 + below} at {frequencies[worst]:.5g} Hz to {errors[worst]:.1g} Hz. {cause}",
    )]  # fmt: skip


def _free_vectors(system: System, pieces: tuple[Piece, ...]) -> Floats:
    """Free rigid-body motions of all pieces in the independent dofs, shape (independent, dofs)."""
    free = system.constraints.independent
    columns = [piece_motions(system, piece)[:, free].T for piece in pieces if len(piece.free)]
    return np.hstack(columns) if columns else np.zeros((system.free_size, 0))


def _refuse_without_inertia(system: System, pieces: tuple[Piece, ...]) -> None:
    """Raise for a free rigid-body motion that moves no mass: its frequency would be zero over zero."""
    for piece in pieces:
        if len(piece.free) == 0:
            continue
        motions = piece_motions(system, piece)
        inertia = motions @ (system.mass @ motions.T)
        values, vectors = np.linalg.eigh(inertia)
        if values[0] <= 1e-12 * max(values[-1], 1e-300):
            words = "; ".join(motion_words((vectors[:, [0]].T @ piece.free).round(9), piece.centre))
            raise MechanismError(
                f"a motion without resistance and without inertia: {words}. Hold it, or give it inertia (the mass "
                "matrix `lumped without rotary` has none about a beam's own axis)"
            )
