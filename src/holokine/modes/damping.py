"""Damping ratio of each mode."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.references import group_members
from holokine.errors import DescriptionError, first_few
from holokine.findings import Finding

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.damping import Damping
    from holokine.describe.schema import Description
    from holokine.modes.energy import Energies
    from holokine.modes.mode_set import ModeSet

__all__ = [
    "COUPLED",
    "DamperShare",
    "composite_damping",
    "critical_findings",
    "damper_share",
    "damping_findings",
    "damping_ratios",
    "loss_factors",
    "loss_findings",
    "modal_damping",
    "own_losses",
    "rayleigh_factors",
    "short_list_findings",
]

COUPLED = 1e-6  # coupling of two modes by dampers from which all are solved together, which is exact
UNUSUAL = 0.3
FELT = 1e-9  # a damping ratio below is rounding


@dataclass(frozen=True)
class DamperShare:
    """What discrete dampers do to the modes.

    Attributes
    ----------
    ratios : ndarray, shape (modes,)
        What they add to the damping ratios.
    coupling : float
        Largest coupling of two modes, |c_ij| / √(c_ii c_jj) with c = Φ C Φᵀ, which the ratios leave out.
    neighbours : float
        The same among modes whose frequencies lie within half of one another.
    """

    ratios: Floats
    coupling: float
    neighbours: float


def damper_share(modes: ModeSet) -> DamperShare:
    """What discrete dampers add to the damping ratios, c_ii / (2 ω_i), and how much they couple the modes."""
    C = modes.system.damping
    if C.nnz == 0:
        return DamperShare(np.zeros(modes.count), 0.0, 0.0)
    c = modes.shapes @ (C @ modes.shapes.T)
    omega = np.where(modes.omega > 0, modes.omega, np.inf)
    diagonal = np.maximum(np.diag(c), 0.0)
    root = np.sqrt(np.outer(diagonal, diagonal))
    ratio = np.abs(c) / np.where(root > 0, root, 1.0)
    np.fill_diagonal(ratio, 0.0)
    own = diagonal / (2.0 * omega)
    ratio[~np.outer(own > FELT, own > FELT)] = 0.0
    near = np.abs(modes.omega[:, None] - modes.omega) < 0.5 * np.maximum(modes.omega[:, None], modes.omega)
    active = np.outer(own > 1e-4, own > 1e-4)
    neighbours = float(np.where(near & active, ratio, 0.0).max(initial=0.0))
    return DamperShare(own, float(ratio.max(initial=0.0)), neighbours)


def composite_damping(modes: ModeSet, ratios: dict[str, float], energies: Energies) -> Floats:
    """Σ ζ_j s_j over members j with shares s_j of the strain energy, shape (modes,).

    A member takes its own ratio, else that of a group it is in (the first named), else its material's, else half its
    material's loss factor, else ``default`` (0). Roesset, Whitman & Dobry, J. Struct. Div. ASCE 99 (1973) 399-416.
    """
    d = modes.system.description
    groups = {name: set(group_members(d, name)) for name in ratios if name in d.groups}
    half = {member: own / 2.0 for member, own in own_losses(d).items()}
    chosen = np.array([_chosen(d, m, ratios, groups, half) for m in energies.members])
    return chosen @ energies.shares("strain")


def _chosen(
    d: Description, member: str, given: dict[str, float], groups: dict[str, set[str]], own: dict[str, float]
) -> float:
    """What is given for a member: by its name, a group it is in (the first named), its material; or its own value."""
    options = [member, *(g for g, members in groups.items() if member in members)]
    if member in d.parts:
        names = [m.removesuffix(f" of {member}") for m in d.parts[member].materials]
        if len(names) > 1 and any(n in given for n in names):
            raise DescriptionError(
                f'damping: the part "{member}" has layers of {", ".join(names)}, and what it loses depends on the '
                "mode; give a value for the part"
            )
        options += names[:1]
    named = next((given[o] for o in options if o in given), None)
    if named is not None:
        return named
    rest = own[member] if member in own else given.get("default", 0.0)
    if rest != rest:
        raise DescriptionError(
            f'part "{member}": its layers have different loss factors, and what the laminate loses depends on the mode;'
            f' give the part one of its own: damping: {{loss factor: {{"{member}": ...}}}}',
            path=("parts", member),
        )
    return rest


def _loss_of(d: Description, part: str) -> float:
    """Loss factor of a part by its material; of layers the one that they share, nan where they differ."""
    losses = {d.materials[m].loss_factor or 0.0 for m in d.parts[part].materials}
    return losses.pop() if len(losses) == 1 else float("nan")


def own_losses(d: Description) -> dict[str, float]:
    """Loss factors of members that have one of their own: parts by their material, springs, bushings and joints."""
    found = {name: _loss_of(d, name) for name in d.parts}
    tables: tuple[dict[str, Any], ...] = (d.springs, d.bushings, d.joints)
    for table in tables:
        found |= {name: c.loss_factor or 0.0 for name, c in table.items()}
    return {name: value for name, value in found.items() if value}


def loss_factors(d: Description, damping: Damping) -> dict[str, float]:
    """Loss factor of every part, spring, bushing and joint that has one (hysteretic damping).

    What `damping` gives by name, group or material comes before a member's own, and its default after. None under
    composite damping, whose ratios take them in.
    """
    if damping.composite is not None:
        return {}
    given, own = damping.loss_factor or {}, own_losses(d)
    groups = {name: set(group_members(d, name)) for name in given if name in d.groups}
    members = (*d.parts, *d.springs, *d.bushings, *d.joints)
    found = {m: _chosen(d, m, given, groups, own) for m in members}
    return {m: value for m, value in found.items() if value}


def damping_ratios(
    modes: ModeSet, dampers: Floats, energies: Callable[[], Energies], given: Damping | None = None
) -> Floats:
    """Damping ratio of each mode: what the description says, loss factors of members, and discrete dampers.

    A loss factor η adds η/2 times the share of the strain energy that is in the member (Ungar & Kerwin, J. Acoust.
    Soc. Am. 34 (1962) 954-957); under composite damping it stands for the ratio of a member that is not named.
    `given`: damping of an event, in place of the description's.
    """
    d = modes.system.description
    described = d.damping_used if given is None else given
    if described.composite is not None:
        return composite_damping(modes, described.composite, energies()) + dampers
    ratios = modal_damping(described, modes.frequencies_hz) + dampers
    losses = loss_factors(d, described)
    if losses:
        own = energies()
        each = np.array([losses.get(m, (described.loss_factor or {}).get("default", 0.0)) for m in own.members])
        ratios = ratios + each / 2.0 @ own.shares("strain")
    return ratios


def critical_findings(modes: ModeSet, damping: Floats) -> list[Finding]:
    """A warning that names the modes that do not vibrate for their damping."""
    critical = modes.numbers[: len(damping)][damping >= 1.0]
    if not len(critical):
        high = modes.numbers[: len(damping)][damping > UNUSUAL]
        return [] if not len(high) else [Finding(
            "warning", f"damping is above {100 * UNUSUAL:.0f} % in {len(high)} of {len(damping)} modes, up to "
            f"{100 * damping.max():.3g} % ({first_few(high, 8)}): structures without dampers have 0.5 to 10 %",
        )]  # fmt: skip
    shown = first_few(critical, 8)
    return [Finding(
        "warning", f"damping is critical or more in {len(critical)} of {len(damping)} modes: {shown}. They do not "
        "vibrate, and what a spectrum says of them has no meaning; take an event in time",
    )]  # fmt: skip


def short_list_findings(damping: Damping, count: int) -> list[Finding]:
    """A note where a list of ratios is shorter than the modes."""
    listed = damping.modes
    if listed is None or len(listed) >= count:
        return []
    return [Finding("note", f"damping lists {len(listed)} ratios for {count} modes: the last, {100 * listed[-1]:g} %, "
                    "holds for those above")]  # fmt: skip


def damping_findings(d: Description) -> list[Finding]:
    """What is assumed of the damping."""
    if d.damping_given:
        return []
    if d.damping_used.ratio:
        return [Finding("note", f"a damping of {100 * (d.damping_used.ratio or 0):g} % is assumed: the description "
                        "gives none (damping:)")]  # fmt: skip
    return [Finding("note", "damping is by the loss factors of members alone (η/2 times their share of the strain "
                    "energy); members without one have none, and damping: is not given")]  # fmt: skip


def loss_findings(d: Description) -> list[Finding]:
    """A note where loss factors stand for damping ratios."""
    if not loss_factors(d, d.damping_used):
        return []
    return [Finding(
        "note", "loss factors stand for damping ratios of single modes in spectra and in time (half of each by its "
        "share of the strain energy); sine sweeps and damped modes take them as they are",
    )]  # fmt: skip


def modal_damping(damping: Damping, frequencies: Floats) -> Floats:
    """Damping ratios at frequencies in Hz, shape (modes,).

    One value; a list mode by mode, the last held for modes above; a table, linear between its rows and held outside;
    or Rayleigh damping C = αM + βK through two points, ζ = α / (2ω) + βω / 2.
    """
    f = np.asarray(frequencies, dtype=float)
    if damping.ratio is not None:
        return np.full(len(f), damping.ratio)
    if damping.loss_factor is not None and damping.modes is damping.table is damping.rayleigh is None:
        return np.zeros(len(f))
    if damping.modes is not None:
        return np.array([damping.modes[min(i, len(damping.modes) - 1)] for i in range(len(f))])
    if damping.table is not None:
        table = np.array(damping.table)
        return np.interp(f, table[:, 0], table[:, 1])
    if damping.composite is not None:
        raise ValueError("composite damping needs energies: composite_damping")
    assert damping.rayleigh is not None
    alpha, beta = rayleigh_factors(*damping.rayleigh)
    omega = 2.0 * np.pi * np.maximum(f, 1e-12)
    return np.maximum(alpha / (2.0 * omega) + beta * omega / 2.0, 0.0)


def rayleigh_factors(first: tuple[float, float], second: tuple[float, float]) -> tuple[float, float]:
    """α and β of C = αM + βK from two pairs of frequency in Hz and damping ratio."""
    w = 2.0 * np.pi * np.array([first[0], second[0]])
    alpha, beta = np.linalg.solve(np.column_stack([0.5 / w, 0.5 * w]), [first[1], second[1]])
    return float(alpha), float(beta)
