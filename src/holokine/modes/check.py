"""Checking an assembly before anything is solved: totals, what hangs on what, and findings."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.errors import HolokineError, MechanismError, OutOfMemoryError, SolverError, first_few
from holokine.findings import Finding
from holokine.mesh.cells import CELLS
from holokine.mesh.seams import half_open_seams, near_gaps
from holokine.modes.slips import implausible
from holokine.solvers.eigen import refuse_negative_mass
from holokine.solvers.nullspace import all_resisted, unresisted
from holokine.state.rest import factor_at_rest
from holokine.system.adequacy import ENOUGH, coarse_parts, single_cables, symmetry_planes
from holokine.system.assemble import DIRECTION_NAMES
from holokine.system.loads import Resultant, load_field
from holokine.system.mechanisms import cause_of, describe_motion, stiffest_connection
from holokine.system.patches import energy_beside, small_patches
from holokine.system.pieces import Piece, connected_pieces, piece_motions
from holokine.system.totals import MassTotals, mass_totals, member_masses

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe import Description
    from holokine.system.build import System

__all__ = [
    "CheckReport", "Finding", "check_system", "mass_findings", "mesh_findings", "patch_findings", "refuse_loose",
    "refuse_wrong_mass",
]  # fmt: skip

HANGS = 0.05  # of a mode's strain energy
MOST_TOLD, MOST_FREE = 12, 500  # motions without resistance: told one by one, and looked for


@dataclass(frozen=True)
class CheckReport:
    """What `check` found.

    Attributes
    ----------
    totals : MassTotals
        Of the whole, supports included.
    members : dict of str to MassTotals
        Per part and point mass.
    box : ndarray, shape (2, 3)
        Smallest and largest coordinates of nodes in use, in m.
    counts : dict of str to int
        Nodes, elements, motions and so on.
    pieces : tuple of Piece
        Connected pieces, largest first.
    findings : tuple of Finding
    loads : dict of str to Resultant
        Of every load that is not a motion of supports.
    """

    totals: MassTotals
    members: dict[str, MassTotals]
    box: Floats
    counts: dict[str, int]
    pieces: tuple[Piece, ...]
    findings: tuple[Finding, ...]
    loads: dict[str, Resultant] = field(default_factory=dict)

    @property
    def ok(self) -> bool:
        """Whether no finding is an error."""
        return all(f.level != "error" for f in self.findings)


def check_system(system: System, about: System | None = None) -> CheckReport:
    """Look at everything that can be said without extracting modes.

    `about`: the same about a state, by which free motions are judged (what hangs on cables is held by their tension).
    """
    totals = mass_totals(system)
    held = about or system
    pieces = tuple(connected_pieces(held))
    findings: list[Finding] = []
    in_use: NDArray[np.bool_] = np.asarray(system.active.reshape(-1, 6).any(axis=1))
    places = system.mesh.nodes[in_use] if in_use.any() else np.zeros((1, 3))
    d = system.description
    if totals.mass <= 0.0:
        findings.append(Finding("error", "the assembly has no mass: give the materials a density, or add point masses"))
    findings += _loose_pieces(held, pieces)
    try:
        refuse_wrong_mass(system)
    except SolverError as err:
        findings.append(Finding("error", str(err), path=err.path))
    if not any(f.level == "error" for f in findings):
        findings += [Finding("error", m) for m in internal_mechanisms(held, pieces)]
    findings += implausible(system, totals, members := member_masses(system))
    unused = [n for n in d.materials if all(n not in p.materials for p in d.parts.values())]
    used = {s for p in d.parts.values() for s in p.sections}
    unused += [n for n in d.sections if n not in used]
    if unused:
        findings.append(Finding("note", f"defined but not used: {', '.join(unused)}"))
    at = system.mesh.points
    loose = [n for n in d.points if n not in at or not in_use[at[n]]]
    if loose:
        findings.append(Finding("note", f"points that nothing is attached to: {', '.join(loose)}"))
    for a, b in system.mesh.coincident:
        findings.append(Finding("note", f'the points "{a}" and "{b}" are at the same place and stay two nodes'))
    findings += mass_findings(system)
    findings += _open_seams(system)
    findings += _gaps(system, pieces)
    loads, bad = _loads(system)
    findings += bad
    findings += _one_way(d)
    findings += [Finding("warning", n) for n in system.notes]
    findings += [Finding("note", n) for n in system.told]
    findings += [Finding("warning", n) for n in symmetry_planes(system)]
    if d.modes.upto is not None:
        findings += mesh_findings(system, d.modes.upto)
    if not system.supports and not any(p.supports for p in pieces):
        findings.append(Finding("note", "nothing is supported: the assembly is free, with rigid-body modes"))
    counts = {
        "nodes": int(in_use.sum()),
        "elements": system.mesh.cell_count,
        "point masses": len(system.masses),
        "springs and bushings": len(system.connectors),
        "links, joints and ties": len(system.bonds),
        "supports": len(system.supports),
        "independent degrees of freedom": system.free_size,
        "nodes merged": system.mesh.merged,
    }
    box = np.stack([places.min(axis=0), places.max(axis=0)])
    return CheckReport(totals, members, box, counts, pieces, tuple(findings), loads)


def _open_seams(system: System) -> list[Finding]:
    """Parts that share some nodes of a seam and not all: the rest opens."""
    held = [bond.nodes for bond in system.bonds.values()]
    found = []
    for seam in half_open_seams(system.mesh, np.unique(np.concatenate(held)) if held else np.zeros(0, dtype=np.int64)):
        x, y, z = 1e3 * system.mesh.nodes[seam.apart[0]]
        found.append(Finding(
            "warning", f'"{seam.part}" meets "{seam.other}" in a seam that is only partly closed: they share '
            f"{seam.shared} nodes, {len(seam.apart)} more of {seam.part} lie on {seam.other} and hang free (the first "
            f"at [{x:.4g}, {y:.4g}, {z:.4g}] mm). Give both the same divisions there, or tie them: "
            f"ties: {{{seam.part} to {seam.other}: {{nodes: {{part: {seam.part}}}, faces: {seam.other}}}}}",
        ))  # fmt: skip
    return found


def _gaps(system: System, pieces: tuple[Piece, ...]) -> list[Finding]:
    """Parts that nearly touch and hang on nothing of one another."""
    found = []
    gaps = near_gaps(system.mesh, [p.members for p in pieces])
    for gap in gaps[:MOST_TOLD]:
        x, y, z = 1e3 * gap.place
        found.append(Finding(
            "warning", f'"{gap.part}" and "{gap.other}" nearly touch ({1e3 * gap.distance:.3g} mm, at [{x:.4g}, '
            f"{y:.4g}, {z:.4g}] mm) and are not connected: move one, tie them (ties: {{name: {{nodes: {{part: "
            f"{gap.part}}}, faces: {gap.other}, within: ...}}}}), or widen the merge tolerance",
        ))  # fmt: skip
    if len(gaps) > MOST_TOLD:
        found.append(Finding("warning", f"{len(gaps) - MOST_TOLD} more pairs of parts nearly touch"))
    return found


def _one_way(d: Description) -> list[Finding]:
    """What acts one way or by a law, and what is made of it without a state."""
    names = [n for n, s in d.supports.items() if s.pushes is not None]
    names += [n for n, s in d.springs.items() if s.one_way is not None]
    names += [n for n, p in d.parts.items() if p.only_pulls]
    struts = [n for n, p in d.parts.items() if p.only_pulls and p.cable is None]
    laws = [n for n, s in d.springs.items() if s.is_nonlinear]
    found = []
    about = "is found in a state" + (f" (states here: {', '.join(d.states)})" if d.states else " (states:)")
    if names:
        found.append(Finding(
            "note", f"one-way: {first_few(names, 8)}. Which of them act {about}; without one they act both ways, those "
            "with a gap not at all",
        ))  # fmt: skip
    if struts:
        found.append(Finding(
            "note", f"struts that only pull: {first_few(struts, 8)}. While they pull they bend as beams do, clamped at "
            "their ends unless released; a rope or chain is a cable (cable: in place of beam:)",
        ))  # fmt: skip
    if laws:
        found.append(Finding(
            "note", f"springs with a force table or law: {first_few(laws, 8)}. Their stiffness {about}; without one it "
            "is their slope in the unloaded shape",
        ))  # fmt: skip
    return found


def _loads(system: System) -> tuple[dict[str, Resultant], list[Finding]]:
    """What loads come to, and those that act on nothing, or that nothing takes."""
    totals, found = {}, []
    for name, load in system.description.loads.items():
        try:
            total = load_field(system, name, load).total
        except HolokineError as err:
            found.append(Finding("error", str(err), path=err.path))
            continue
        if total is not None:
            totals[name] = total
    return totals, found


def mass_findings(system: System) -> list[Finding]:
    """What a lumped mass matrix changes in a frequency, or leaves out."""
    matrix = system.description.mass_matrix
    if matrix == "consistent":
        return []
    found = []
    slow = sorted({e.part for e in system.elements if CELLS[e.kind].order == 2 and e.kind != "quad9"})
    if slow:
        found.append(Finding(
            "warning", f"lumped mass lowers frequencies of quadratic elements by some percent ({first_few(slow, 6)});"
            " the consistent one errs by about a tenth of a percent there"
        ))  # fmt: skip
    beams = sorted({e.part for e in system.elements if CELLS[e.kind].family == "line"})
    if beams and matrix == "lumped without rotary":
        found.append(Finding(
            "warning", "without rotary inertia beams have none about their own axis: their torsion modes are left out "
            f"({first_few(beams, 6)})"
        ))  # fmt: skip
    return found


def patch_findings(system: System, shapes: Floats, values: Floats, below: int) -> list[Finding]:
    """Modes that hang on connections whose size the mesh decides, by the strain energy next to these.

    Parameters
    ----------
    values : ndarray, shape (modes,)
        ω².
    below : int
        How many modes lie below the first.
    """
    small = small_patches(system)
    if not small:
        return []
    share = energy_beside(system, small, shapes) / np.maximum(0.5 * values, 1e-300)
    share[:, values <= 1e-9 * float(values.max(initial=0.0))] = 0.0
    modes, most = np.flatnonzero(share.sum(axis=0) > HANGS), share.max(axis=1)
    if not len(modes):
        return []
    names = [n for n, s in sorted(zip(small, most, strict=True), key=lambda x: -x[1]) if s > 0.1 * most.max()]
    number = first_few([str(below + k + 1) for k in modes], 8)
    return [Finding(
        "warning", f"{'modes' if len(modes) > 1 else 'mode'} {number} {'hang' if len(modes) > 1 else 'hangs'} on "
        f"{first_few(names, 4)} (up to {100 * share.sum(axis=0).max():.0f} % of the strain energy is next to them), "
        "which take the nodes that the mesh happens to have there: a finer mesh changes them, and the mesh error "
        "leaves that out. Take the area (link: area), which no mesh changes",
    )]  # fmt: skip


def mesh_findings(system: System, frequency: float) -> list[Finding]:
    """Warnings about parts too coarsely meshed for a frequency in Hz."""
    single = single_cables(system)
    found = [] if not single else [Finding(
        "note", f"cables of one element, whose vibration between their ends is left out: {first_few(single, 6)}"
    )]  # fmt: skip
    return found + [
        Finding("warning", f'the mesh of "{c.part}" is coarse for {c.frequency:.4g} Hz: {c.per_wave:.1f} elements per '
                f"wavelength where {ENOUGH:g} are needed; its local modes come out wrong there")
        for c in coarse_parts(system, frequency)
    ]  # fmt: skip


def refuse_wrong_mass(system: System) -> None:
    """Raise for a mass matrix from elsewhere that no bodies have.

    Raises
    ------
    SolverError
    """
    if system.description.matrices is not None:
        called = {node: point for point, node in system.mesh.points.items()}

        def words(dof: int) -> str:
            node, direction = divmod(dof, 6)
            return f"{DIRECTION_NAMES[direction]} of node {called.get(node, node + 1)}"

        refuse_negative_mass(system.mass, words)


def _loose_pieces(system: System, pieces: tuple[Piece, ...]) -> list[Finding]:
    findings = []
    held = bool(system.supports) or any(p.supports for p in pieces)
    for piece in pieces:
        if len(piece.free) == 0:
            continue
        names = ", ".join(f'"{m}"' for m in piece.members) or "a point"
        if not piece.supports and (held or len(pieces) > 1):
            findings.append(
                Finding("error", f"hangs on nothing: {names}. Link it to the rest, let it share a point with "
                        "it, or support it")
            )  # fmt: skip
        elif piece.supports:
            findings.append(
                Finding("warning", f"{names} can move without resistance: {'; '.join(piece.words)}. "
                        "Hold more directions, unless rigid-body modes are meant")
            )  # fmt: skip
    return findings


def internal_mechanisms(system: System, pieces: tuple[Piece, ...]) -> list[str]:
    """Motions without resistance that are not rigid motions of a whole piece, in words."""
    T, d = system.constraints.reduce, system.description.parts
    known = []
    for piece in pieces:
        if len(piece.free):
            known += list(piece_motions(system, piece))
    try:
        free = _without_resistance(system, len(known))
    except OutOfMemoryError:
        raise
    except SolverError:
        return ["the stiffness matrix is singular: something can move without resistance"]
    if len(free) <= len(known):
        return []
    full = (T @ free.T).T
    if known:
        basis = np.linalg.qr(np.array(known).T)[0]
        full = full - (full @ basis) @ basis.T
        u, s, _ = np.linalg.svd(full, full_matrices=False)
        full = (u.T @ full)[s > 1e-6 * s[0]][: len(free) - len(known)]
    if len(full) > 1:  # one moving part per motion, as far as that goes
        import scipy.linalg

        pivots = scipy.linalg.qr(full, mode="r", pivoting=True)[1][: len(full)]
        full = np.linalg.solve(full[:, pivots], full)
    every = [describe_motion(system, f) for f in full[:MOST_TOLD]]
    loose = [m for m in every if any(p in d and d[p].cable is not None for p in m.parts)]
    found = [f"a mechanism: {m.words}" for m in every if m not in loose]
    if loose:
        moving = sorted({p for m in loose for p in m.parts})
        cables = [p for p in moving if p in d and d[p].cable is not None]
        others = [p for p in moving if p not in cables]
        found.append(
            f"cables without tension: {first_few(cables, 6)}"
            + (f"; with them moves {first_few(others, 6)}" if others else "")
            + ". Across its line a cable is held by its tension alone, which a state gives it (states: loads, tension, "
            "shortening; state: NAME switches it on)"
        )
    cause = cause_of(system, full) or _lost_in(system, full)
    if cause:
        found = [f for f in found if f != "a mechanism: "] or ["a mechanism"]
    if len(full) > MOST_TOLD:
        found.append(f"{len(full) - MOST_TOLD} more motions meet no resistance")
    return [*found, cause] if cause else found


def _lost_in(system: System, motions: Floats) -> str:
    """Whether a stiff connection beside dofs may have taken the digits of what resists them."""
    name, share = max((stiffest_connection(system, u) for u in motions), key=lambda found: found[1], default=("", 0.0))
    if share < 0.5:
        return ""
    return (
        f'what else resists this may be lost to rounding beside the stiffness of "{name}": make it less stiff, or link '
        "what is rigid (links: rigid)"
    )


def _without_resistance(system: System, known: int) -> Floats:
    """Vectors that the stiffness does not resist, (vectors, independent dofs), of which `known` are known; kept."""
    found: Floats | None = system.kept.get("unresisted")
    if found is None:
        K = system.reduced_stiffness
        found = np.zeros((0, K.shape[0]))
        if known or not _held_throughout(system):
            most = known + 8
            found, others = unresisted(K, most=most)
            while len(found) >= most and most < min(K.shape[0], known + MOST_FREE):  # there may be more
                most *= 4
                found, others = unresisted(K, most=most)
            inertia = np.einsum("ij,ij->i", others, (system.reduced_mass @ others.T).T)
            energy = np.einsum("ij,ij->i", others, (K @ others.T).T)
            some = inertia > 1e-12 * inertia.max(initial=0.0)
            if some.any():  # about where elastic modes begin
                system.kept["lowest"] = float((energy[some] / inertia[some]).min())
        system.kept["unresisted"] = found
    return found


def _held_throughout(system: System) -> bool:
    """Whether the factor at rest, which all that follows needs, shows that nothing moves freely."""
    try:
        return all_resisted(system.reduced_stiffness, factor_at_rest(system))
    except OutOfMemoryError:
        raise
    except SolverError:
        return False


def refuse_loose(system: System, pieces: tuple[Piece, ...]) -> list[Finding]:
    """Raise where modes would make no sense; return warnings about rigid-body motions otherwise.

    Raises
    ------
    MechanismError
        A piece that hangs on nothing beside others, or a mechanism inside a piece.
    """
    findings = _loose_pieces(system, pieces)
    errors = [f.text for f in findings if f.level == "error"]
    if not errors:
        errors = internal_mechanisms(system, pieces)
    if errors:
        raise MechanismError("; ".join(errors))
    return findings
