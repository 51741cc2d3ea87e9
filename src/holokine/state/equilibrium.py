"""The assembly at rest under the loads of a state: displacement, what touches, what slides, what is slack.

One linear solution about everything engaged, one more for every one-way member, and a small problem of
complementarity between them (`contact`). Springs with tables or laws are Newton's method around it. The given geometry
is taken as the loaded one.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING, Literal

import numpy as np
import scipy.linalg
from scipy.sparse import coo_array, csr_array, vstack

from holokine.describe.references import group_members
from holokine.elements.beam import BeamElements
from holokine.elements.laws import ForceLaw, force_law
from holokine.errors import DescriptionError, EquilibriumError, OutOfMemoryError, SolverError, first_few
from holokine.progress import tell
from holokine.solvers.factor import Factor, factorise
from holokine.solvers.nullspace import all_resisted, unresisted
from holokine.state.contact import CycleError, RayError, Touch, with_friction
from holokine.state.hanging import barely, first_pulls, lengthened, same_pulls, same_stress, stress_of, strung
from holokine.state.rest import factor_at_rest
from holokine.state.stiffness import Loaded
from holokine.system.assemble import node_dofs
from holokine.system.loads import LoadField, load_sum
from holokine.system.mechanisms import describe_motion
from holokine.system.pattern import Pattern, at_no_load, fully_engaged
from holokine.system.wide import explicit, magnitude

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.describe.states import State
    from holokine.system.build import System

__all__ = [
    "BALANCED",
    "Equilibrium",
    "FootRow",
    "KeptSolutions",
    "SpringRow",
    "as_installed",
    "equilibrium",
    "growths",
    "line_of",
    "solve_about",
]

Kind = Literal["foot", "across", "spring", "cable", "tension", "law"]
_DRIVEN = 1e-7  # share of a load along a free motion from which it drives it
_ROUNDS = 8
_REPAIRS = 4  # solutions for what is left out of balance
_PULLS = 40  # rounds in which tensions of cables and what they hold agree
_PRESS = 1e5  # of the stiffness at the feet: that of the springs they stand on where rigid ones share forces
_OVER_GAPS = 1e6  # times what a spring of a foot may make of its gap beside the loads
_NO_FORCE = 1e-12  # of what moves a cable: less is no tension
NOTHING = 1e-9  # of the largest force, or motion: less is rounding
BALANCED = 1e-8  # of the largest force: what is out of balance by more is no equilibrium
_MOVING = ("foot", "across")
MOST = 3000
"""One-way members beyond which their condensed stiffness is not made."""


@dataclass(frozen=True)
class FootRow:
    """One foot of a one-way support in the state.

    Attributes
    ----------
    support : str
    node : int
    status : str
        touching, sliding or open.
    gap : float
        m left open; 0 where it touches.
    force : float
        N, with which the support pushes.
    across : ndarray, shape (3,)
        Friction on the assembly in N, global axes.
    slip : ndarray, shape (3,)
        How far the foot has slid, in m.
    friction : float
        Coulomb's coefficient.
    """

    support: str
    node: int
    status: Literal["touching", "sliding", "open"]
    gap: float
    force: float
    across: Floats
    slip: Floats
    friction: float


@dataclass(frozen=True)
class SpringRow:
    """A spring that is one-way or has a law, in the state: elongation in m, force in N, stiffness about it in N/m."""

    name: str
    elongation: float
    force: float
    stiffness: float
    status: Literal["acting", "open"]


@dataclass(frozen=True)
class Equilibrium:
    """The assembly at rest.

    Attributes
    ----------
    engaged : System
        With everything acting.
    system : System
        With the pattern found; stiffness from elasticity alone.
    loaded : Loaded
        Loads, displacement, and what stands for free strain.
    feet : tuple of FootRow
    springs : tuple of SpringRow
    slack : tuple of str
        Cables that carry nothing.
    violation : float
        Largest of all conditions not met, relative to the largest force, length or limit; a proof where it is rounding.
    steps : int
        Solutions of the small problem that were needed.
    shortened : dict of str to float
        By part with a tension: how much shorter than its place, in m, it is made to have it.
    drifts : ndarray, shape (dofs, dofs)
        Free motions that the loads do not work on.
    press : float
        Stiffness in N/m of the feet, where rigid ones could share their forces in many ways; else 0.
    by_stress : bool
        Whether the equilibrium leans on what stress adds to the stiffness (cables with nodes within, what hangs).
    rounding : float
        What rounding may leave out of balance, relative to the largest force.
    """

    engaged: System
    system: System
    loaded: Loaded
    feet: tuple[FootRow, ...]
    springs: tuple[SpringRow, ...]
    slack: tuple[str, ...]
    violation: float
    steps: int
    shortened: dict[str, float] = field(default_factory=dict)
    drifts: Floats = field(default_factory=lambda: np.zeros((0, 0)))
    press: float = 0.0
    by_stress: bool = False
    rounding: float = 0.0

    @property
    def balanced(self) -> bool:
        """Whether all conditions hold, as far as rounding lets them."""
        return self.violation <= max(BALANCED, 10.0 * self.rounding)


def growths(system: System, state: State) -> dict[str, float]:
    """Free strain of parts: by temperature, and by shortening (with a minus sign).

    Raises
    ------
    DescriptionError
        A material without expansion, a part that is not a beam where one is needed.
    """
    d = system.description
    found: dict[str, float] = {}
    for name, change in state.temperature.items():
        parts = [name] if name in d.parts else [m for m in group_members(d, name) if m in d.parts]
        if not parts:
            raise DescriptionError(f'state, temperature: the group "{name}" has no part')
        for part in parts:
            found[part] = found.get(part, 0.0) + _expansion(d, name, part) * change
    for part, size in state.shortening.items():
        found[part] = found.get(part, 0.0) - size / run_length(system, part, "shortening")
    return found


def _expansion(d: Description, name: str, part: str) -> float:
    """Coefficient in 1/K of a part's material, or of all of its layers."""
    found = {m: d.materials[m].expansion for m in d.parts[part].materials}
    for material, value in found.items():
        if value is None:
            raise DescriptionError(
                f'state, temperature, {name}: the material "{material}" of "{part}" has no expansion; add '
                "expansion: 12e-6 1/K to it"
            )
    values = [v for v in found.values() if v is not None]
    if len(set(values)) > 1:
        raise DescriptionError(
            f'state, temperature, {name}: the layers of "{part}" expand differently and would bend it; only layers of '
            "one expansion can be heated here"
        )
    return values[0]


def run_length(system: System, part: str, key: str) -> float:
    """Length of a beam part in m."""
    blocks = system.element_blocks(part)
    if not blocks or not all(isinstance(b, BeamElements) for b in blocks):
        raise DescriptionError(f'state, {key}: the part "{part}" is not made of beams')
    return float(sum(b.length.sum() for b in blocks if isinstance(b, BeamElements)))


@dataclass
class _Member:
    """An unknown of the small problem.

    `load` is what a unit of it adds to the forces, `moved` what it imposes, `own` what it adds to its own force by
    itself; its force is -load · u + own y + `start`.
    """

    kind: Kind
    name: str
    load: csr_array
    moved: csr_array
    own: float = 0.0
    start: float = 0.0
    target: float = 0.0
    law: ForceLaw | None = None
    number: int = 0
    axis: int = 0

    @property
    def imposed(self) -> bool:
        """Whether it is a motion that is imposed, not a force."""
        return self.kind in _MOVING and self.own == 0.0


class _Solver:
    """Solutions about everything engaged, free motions pinned."""

    def __init__(self, system: System) -> None:
        self.system = system
        self.T = system.constraints.reduce
        K = explicit(system.reduced_stiffness)
        self.free = np.zeros((0, K.shape[0]))
        self.factor: Factor | None = None
        if K.shape[0] == 0:
            return
        try:
            factor = factor_at_rest(system)
            held = all_resisted(system.reduced_stiffness, factor)
        except OutOfMemoryError:
            raise
        except SolverError:
            held = False
        if held:
            self.factor = factor
            return
        self.free, _ = unresisted(system.reduced_stiffness, most=24)
        if not len(self.free):
            self.factor = factor_at_rest(system)
            return
        top = float(K.diagonal().max(initial=1e-300))
        scaled = self.free * np.sqrt(np.where(K.diagonal() > 1e-14 * top, K.diagonal(), top))
        pins = scipy.linalg.qr(scaled, mode="r", pivoting=True)[1][: len(self.free)]
        spring = K.diagonal()[pins]
        spring = np.where(spring > 1e-14 * top, spring, top)
        pinned = coo_array((spring, (pins, pins)), shape=K.shape)
        self.factor = factorise(csr_array(K + csr_array(pinned)))
        for _ in range(3):  # what soft motions have left in them
            self.free = self.free - np.asarray(self.factor.solve(np.ascontiguousarray(K @ self.free.T))).T

    def solve(self, loads: Floats) -> Floats:
        """Motions (dofs, columns) under forces on all dofs (dofs, columns)."""
        if self.factor is None:
            return np.zeros_like(loads)
        return np.asarray(self.T @ np.asarray(self.factor.solve(np.ascontiguousarray(self.T.T @ loads))))

    def exact(self, load: Floats) -> Floats:
        """The same of one load, (dofs,), with what is left out of balance solved for again while that helps."""
        u = self.solve(load[:, None])[:, 0]
        off = np.inf
        for _ in range(_REPAIRS):
            rest = load - self.system.stiffness @ u
            now = float(np.linalg.norm(self.T.T @ rest))
            if not now < 0.5 * off:
                break
            off, before = now, u
            u = u + self.solve(rest[:, None])[:, 0]
        return u if np.isinf(off) else before

    def drive(self, load: Floats) -> Floats:
        """Work of a load on every free motion, relative to its size, shape (dofs,)."""
        if not len(self.free):
            return np.zeros(0)
        right = self.T.T @ load
        size = np.zeros(len(self.free))  # as if all of it pushed where the motion is largest
        turns = self.system.constraints.independent % 6 >= 3
        for own in (turns, ~turns):
            size += np.abs(self.free[:, own]).max(axis=1, initial=0.0) * float(np.abs(right[own]).sum())
        return np.asarray(self.free @ right) / np.where(size > 0.0, size, 1.0)

    def undriven(self, load: Floats) -> Floats:
        """A load without what works on free motions, (dofs,), on the independent dofs."""
        if not len(self.free):
            return load
        right = self.T.T @ load
        right = right - self.free.T @ np.linalg.lstsq(self.free @ self.free.T, self.free @ right, rcond=1e-12)[0]
        result = np.zeros_like(load)
        result[self.system.constraints.independent] = right
        return result

    def settled(self, u: Floats) -> Floats:
        """The same motion without its share of the free motions."""
        if not len(self.free):
            return u
        Z = np.asarray(self.T @ self.free.T)
        MZ = self.system.mass @ Z
        gram = Z.T @ MZ
        share = np.linalg.lstsq(gram, MZ.T @ u, rcond=1e-12)[0]
        return np.asarray(u - Z @ share)


@dataclass
class _Kept:
    """A system with everything engaged, and what is solved once about it: whatever the loads."""

    system: System
    condensed: Floats | None = None

    @cached_property
    def solver(self) -> _Solver:
        return _Solver(self.system)


KeptSolutions = dict[tuple[frozenset[str], float], _Kept]
"""By the cables that are absent, and the stiffness of springs under feet."""


def solve_about(system: System, field_: LoadField) -> Floats:
    """Motions (dofs,) of a system under loads, free motions that nothing drives left out."""
    solver = _Solver(system)
    load = field_.force - system.mass @ field_.ride - system.stiffness @ field_.moved
    return solver.settled(solver.solve(load[:, None])[:, 0] + field_.moved)


def equilibrium(base: System, state: State, name: str, kept: KeptSolutions | None = None) -> Equilibrium:
    """Find what acts of one-way members and springs, and the assembly at rest with that.

    `kept` holds what states of the same assembly share that differ in their loads only; it is added to.

    Raises
    ------
    EquilibriumError
        Nothing holds a motion that the loads drive; no pattern settles; a spring beyond its table.
    DescriptionError
    """
    where = f'state "{name}"'
    state = as_installed(base, state, name)
    _refuse_twice(base, state, where)
    absent: frozenset[str] = frozenset()
    steps = 0
    pulls = first_pulls(base, state)
    seen: set[frozenset[str]] = set()
    hangs = state.stress_stiffness and any(p.only_pulls for p in base.description.parts.values())
    hung: csr_array | None = None
    for _ in range(_ROUNDS + (_PULLS if pulls or hangs else 0)):
        try:
            found = _round(base, state, name, absent, pulls, hung, kept=kept)
        except _DrivenError:  # what hangs on cables is held across by their tension
            if not hangs or hung is not None:
                raise
            hung = stress_of(_round(base, state, name, absent, pulls, hung, leave=True))
            continue
        steps += found.steps
        slack = frozenset(found.slack)
        same = True
        if hung is not None:
            before, hung = hung, stress_of(found)
            same = same_stress(before, hung)
        if slack == absent and same_pulls(found, pulls) and same:
            if not found.balanced:
                raise EquilibriumError(
                    f"{where}: no equilibrium was found: its conditions are missed by {found.violation:.2g} of the "
                    "largest force"
                )
            return replace(found, steps=steps)
        going = absent ^ slack
        if slack in seen and going and barely(found, going):
            slack |= going  # lengthened by less than what makes a force: they carry nothing
        seen.add(absent)
        absent = slack  # a slack cable has no bending stiffness either: once more without it
    if slack == absent:
        raise EquilibriumError(
            f"{where}: the tensions of cables and what they let sag do not settle together: "
            f"{first_few(sorted({base.elements[n].part for n in pulls}), 8)}; give them tension"
        )
    raise EquilibriumError(
        f"{where}: no pattern of slack and taut cables settles; these keep changing: "
        f"{first_few(sorted(absent ^ slack) or sorted(absent), 8)}"
    )


def as_installed(base: System, state: State, name: str) -> State:
    """The state with the lengths that tensions were given in another one (`installed`).

    Raises
    ------
    DescriptionError
        States that are installed in one another, or where nothing has a tension.
    EquilibriumError
        The other has no equilibrium.
    """
    states, trail = base.description.states, [name]
    while (other := states[trail[-1]].installed if len(trail) > 1 else state.installed) is not None:
        if other in trail:
            raise DescriptionError(
                f'state "{name}", installed: it comes back to the state "{other}"', path=("states", name)
            )
        trail.append(other)
    if len(trail) == 1:
        return state
    first = states[trail[1]]
    lengths = equilibrium(base, first, trail[1]).shortened
    lengths |= as_installed(base, first, trail[1]).shortening
    if not lengths:
        raise DescriptionError(
            f'state "{name}", installed: nothing has a tension or a shortening in the state "{trail[1]}"',
            path=("states", name),
        )
    own = {p: v for p, v in lengths.items() if p not in state.tension and p not in state.shortening}
    return state.model_copy(update={"shortening": {**own, **state.shortening}, "installed": None})


def _round(
    base: System, state: State, name: str, absent: frozenset[str], pulls: dict[int, Floats], hung: csr_array | None,
    leave: bool = False, kept: KeptSolutions | None = None,
) -> Equilibrium:  # fmt: skip
    """The equilibrium with some cables absent; its slack ones are those of them that stay so, and new ones.

    `hung`: what stress adds to the stiffness of all, where the assembly hangs by it. `leave`: without the share of the
    loads that drives free motions, to find that stress.
    """
    d = base.description
    growth = growths(base, state)
    field_ = load_sum(base, name, state.loads)
    kept = {} if kept is None else kept
    if (absent, 0.0) not in kept:
        kept[absent, 0.0] = _Kept(
            base.with_pattern(replace(fully_engaged(d), slack=absent) if state.one_way else _both_ways(base))
        )
    rigid = kept[absent, 0.0]
    plain = rigid.system
    more = strung(plain, pulls) if hung is None else hung
    if more is not None:
        kept, rigid = {}, _Kept(replace(plain, stiffness=csr_array(plain.stiffness + more), kept={}))
    engaged = rigid.system
    own = {f'support "{f.name}"' for f in base.feet} if state.one_way else set()
    failed: EquilibriumError | None = None
    if not own & set(engaged.constraints.redundant):
        try:
            return _settled(base, plain, rigid, state, name, growth, field_, more, 0.0, leave)
        except EquilibriumError as err:
            if not own:
                raise
            failed = err
    press = _press(engaged, field_)
    if (absent, press) not in kept:
        for other in [k for k in kept if k[0] == absent and k[1]]:  # of other loads over gaps: one factor is enough
            del kept[other]
        kept[absent, press] = _Kept(_on_springs(engaged, press))
    try:
        found = _settled(base, plain, kept[absent, press], state, name, growth, field_, more, press, leave)
    except EquilibriumError as err:
        raise (failed or err) from None
    if failed is not None and frozenset(found.slack) == absent and not found.balanced:
        raise failed
    return found


class _DrivenError(EquilibriumError):
    """Loads drive a motion that nothing elastic resists."""


def _sprung(engaged: System) -> Ints:
    """Motions of all feet, and across where they rub."""
    every = [(6 * node + axis) for feet in engaged.feet for node in feet.nodes.tolist()
             for axis in (feet.axis, *(feet.across if feet.friction else ()))]  # fmt: skip
    return np.array([i for i in every if engaged.active[i]], dtype=np.int64)


def _press(engaged: System, field_: LoadField) -> float:
    """Stiffness in N/m of springs under feet (`_on_springs`), stiff beside what they carry."""
    dofs = _sprung(engaged)
    diagonal = np.abs(engaged.stiffness.diagonal())
    near = diagonal[np.unique(6 * (dofs // 6)[:, None] + np.arange(3))]
    press = _PRESS * (float(near.max(initial=0.0)) or float(diagonal.max(initial=0.0)))
    weight = float(np.abs(field_.force - engaged.mass @ field_.ride).sum()) or 1.0
    if not press:  # nothing yields: as stiff as hides it
        size = float(np.ptp(engaged.mesh.nodes, axis=0).max(initial=0.0)) or 1.0
        press = weight / (NOTHING * size)
    gap = max(f.gap for f in engaged.feet)
    if gap:  # forces over gaps, from which those of the loads are told
        press = min(press, _OVER_GAPS * weight / gap)
    return press


def _on_springs(engaged: System, press: float) -> System:
    """The same with every foot, and its friction, on a spring of one stiffness.

    So forces that rigid feet could share in many ways are shared in one, of least squares, and feet that oppose one
    another at one place do not contradict.
    """
    dofs = _sprung(engaged)
    held = csr_array(coo_array((np.full(len(dofs), press), (dofs, dofs)), shape=engaged.stiffness.shape))
    apart = {f.name: np.ones(len(f.nodes), dtype=bool) for f in engaged.feet}
    free = engaged.with_pattern(replace(engaged.pattern, open=apart))
    return replace(free, stiffness=csr_array(free.stiffness + held), kept={})


def _settled(
    base: System, plain: System, kept: _Kept, state: State, name: str, growth: dict[str, float],
    field_: LoadField, more: csr_array | None, press: float, leave: bool,
) -> Equilibrium:  # fmt: skip
    """The equilibrium with rigid feet, or with feet on springs of the stiffness `press`; `leave` as in `_round`."""
    d, where = base.description, f'state "{name}"'
    engaged, solver = kept.system, kept.solver
    members = _members(engaged, state, growth, press)
    inner = _growth_forces(engaged, growth)
    y0 = np.zeros(len(members))
    for i, m in enumerate(members):  # gaps: the foot holds where it would touch, the spring acts from there
        if m.kind == "foot":
            y0[i] = -engaged.supports[m.name].feet.gap  # type: ignore[union-attr]
        elif m.kind == "spring":
            y0[i] = -(d.springs[m.name].gap or 0.0)
    push, moved = _together(members, y0, engaged.size)
    moved += field_.moved
    outside = field_.force - engaged.mass @ field_.ride + inner + push
    load = outside - engaged.stiffness @ moved
    if leave:
        load = solver.undriven(load)
    driven = solver.drive(load)
    for number in np.flatnonzero(np.abs(driven) > _DRIVEN):
        motion = np.asarray(engaged.constraints.reduce @ solver.free[number])
        raise _DrivenError(
            f"{where}: no equilibrium: its loads drive a motion that nothing resists: "
            f"{describe_motion(engaged, motion).words or 'of a point'}. Hold it, or let friction or stays hold it"
        )
    tell("equilibrium of the state")
    u = solver.exact(load) + moved
    y, F, F0, count = np.zeros(0), np.zeros(0), np.zeros(0), 0
    if members:
        if kept.condensed is None:
            kept.condensed = _condensed(engaged, solver, members)
        H, F0 = kept.condensed, _at_start(engaged, members, u, outside, y0)
        y, count = _small_problem(engaged, solver, members, H, F0, where)
        F = F0 + H @ y
        push, slid = _together(members, y, engaged.size)
        moved += slid
        load = outside + push - engaged.stiffness @ moved
        u = solver.exact(solver.undriven(load) if leave else load) + moved
        for i, m in enumerate(members if press else []):  # as the springs of feet tell it
            if m.kind in _MOVING:
                F[i] = float(m.own * (y + y0)[i] - (m.load @ u)[0])
    u = solver.settled(u)
    largest = float(max(np.abs(F).max(initial=0.0), np.abs(F0).max(initial=0.0)))  # F0: there when nothing acts
    found = _with_pattern(base, plain, state, members, y, F, largest, u, growth, field_, more, where)
    return replace(
        found,
        press=press,
        by_stress=more is not None,
        steps=count,
        drifts=np.asarray(engaged.constraints.reduce @ solver.free.T).T,
    )


def _both_ways(base: System) -> Pattern:
    """As without a state; springs with a law by their reference."""
    plain, engaged = at_no_load(base.description), fully_engaged(base.description)
    laws = {n: k for n, k in engaged.springs.items() if base.description.springs[n].is_nonlinear}
    return replace(plain, springs={**plain.springs, **laws})


def _refuse_twice(base: System, state: State, where: str) -> None:
    d = base.description
    for name, part in d.parts.items():
        held = part.preloads or (part.shell is not None and part.shell.tension)
        if held and state.stress_stiffness:
            key = "preload" if part.run is not None else "tension"
            raise DescriptionError(
                f'{where}: the part "{name}" has a {key} of its own, and the state finds the stress of every part; '
                f"leave the {key} out, and put it into the state (tension, shortening, loads)"
            )
    for part, force in state.tension.items():
        run_length(base, part, "tension")
        if force < 0.0 and state.one_way and d.parts[part].only_pulls:
            raise DescriptionError(
                f"{where}, tension, {part}: it carries no compression, and {force:g} N would press it; give "
                "a tension of 0 N or more, or loads that leave it slack"
            )


def line_of(system: System, part: str, key: str) -> tuple[float, float, Floats]:
    """Of a run as a spring along its line: length in m, stiffness in N/m, and load for a unit of length, (dofs,)."""
    length = run_length(system, part, key)
    return length, _self_force(system, part) / length**2, _growth_load(system, part) / length


def _growth_load(system: System, part: str) -> Floats:
    """Forces that stand for a unit free strain of a part."""
    result = np.zeros(system.size)
    for e in system.element_blocks(part):
        for dofs, force, _ in e.free_forces():
            np.add.at(result, dofs.ravel(), force.ravel())
    return result


def _self_force(system: System, part: str) -> float:
    """Energy conjugate of a unit free strain of a part under itself, ∫ E A dx for a run, in J."""
    blocks = system.element_blocks(part)
    return sum(float(np.vdot(force, own)) for e in blocks for _, force, own in e.free_forces())


def _sparse(values: Floats) -> csr_array:
    on = np.flatnonzero(np.abs(values) > 1e-15 * np.abs(values).max(initial=0.0))
    return csr_array((values[on], (np.zeros(len(on), dtype=np.int64), on)), shape=(1, len(values)))


def _growth_forces(system: System, growth: dict[str, float]) -> Floats:
    """Forces that stand for free strain."""
    result = np.zeros(system.size)
    for part, strain in growth.items():
        if strain:
            result += strain * _growth_load(system, part)
    return result


def _members(system: System, state: State, growth: dict[str, float], press: float) -> list[_Member]:
    """The unknowns: feet with their slips, one-way springs, cables, tensions by force, springs with a law.

    `press`: stiffness in N/m of feet on springs (`_on_springs`); 0 for rigid ones.
    """
    d, size, one_way = system.description, system.size, state.one_way
    none = csr_array((1, size))
    found: list[_Member] = []
    for feet in system.feet if one_way else []:
        rows = system.supports[feet.name]
        row_of = {int(dof): rows.rows.start + i for i, dof in enumerate(rows.dofs)}
        for number, node in enumerate(feet.nodes.tolist()):
            for axis in (feet.axis, *(feet.across if feet.friction else ())):
                kind: Kind = "foot" if axis == feet.axis else "across"
                sign = feet.sign if axis == feet.axis else 1.0
                row = row_of.get(6 * node + axis)
                if press and system.active[6 * node + axis]:
                    unit = np.zeros(size)
                    unit[6 * node + axis] = press * sign
                    found.append(_Member(kind, feet.name, _sparse(unit), none, press, number=number, axis=axis))
                elif row is not None:
                    values = np.zeros(system.constraints.rows.shape[0])
                    values[row] = sign
                    moved = _sparse(system.constraints.enforced(values))
                    push = csr_array(-(system.stiffness @ moved.T).T)
                    found.append(_Member(kind, feet.name, push, moved, number=number, axis=axis))
    if len(found) > MOST:
        raise DescriptionError(
            f"the one-way supports have {len(found):,} feet and directions of friction in all, more than {MOST:,}: "
            "support fewer nodes, or link them to a point"
        )
    for c in system.connectors:
        if c.kind != "spring" or c.name not in d.springs:
            continue
        spring = d.springs[c.name]
        row = c.along(size)
        law = force_law(spring)
        if law is not None:
            k = float(c.stiffness[0])
            found.append(_Member("law", c.name, _sparse(-k * row), none, k, law=law))
        elif spring.one_way is not None and one_way:
            sign, k = (1.0 if spring.one_way == "pull" else -1.0), spring.stiffness
            found.append(_Member("spring", c.name, _sparse(-sign * k * row), none, k))
    for part, described in d.parts.items():
        cable = one_way and described.only_pulls
        if part in system.pattern.slack:
            continue
        if cable or part in state.tension:
            length, own, pull = line_of(system, part, "tension")
            load = _sparse(-pull)
            kind_: Kind = "tension" if part in state.tension else "cable"
            start = -own * length * growth.get(part, 0.0)
            found.append(_Member(kind_, part, load, none, own, start, state.tension.get(part, 0.0)))
    return found


def _together(members: list[_Member], y: Floats, size: int) -> tuple[Floats, Floats]:
    """Forces of springs and cables, and imposed motions of feet, with amounts y."""
    force, moved = np.zeros((2, size))
    for m, amount in zip(members, y, strict=True):
        if amount and m.imposed:
            moved[m.moved.indices] += amount * m.moved.data
        elif amount:
            force[m.load.indices] += amount * m.load.data
    return force, moved


def _at_start(system: System, members: list[_Member], u: Floats, outside: Floats, y0: Floats) -> Floats:
    """F0 of F = F0 + H y: forces of all members with the amounts `y0`.

    Feet feel what is unbalanced along their unit motion, K u less the loads from `outside`; all others
    -load · u + own y + start.
    """
    L = csr_array(vstack([m.load for m in members]))
    moves = csr_array(vstack([m.moved for m in members]))
    plain = -(L @ u) + np.array([m.own for m in members]) * y0 + np.array([m.start for m in members])
    return np.where([m.imposed for m in members], moves @ (system.stiffness @ u - outside), plain)


def _condensed(system: System, solver: _Solver, members: list[_Member]) -> Floats:
    """H of F = F0 + H y: what amounts of members add to the forces of all."""
    n = len(members)
    L = csr_array(vstack([m.load for m in members]))
    moves = csr_array(vstack([m.moved for m in members]))
    feet = np.array([m.imposed for m in members])
    H = np.empty((n, n))
    step = max(1, 40_000_000 // max(system.size, 1))
    for a in range(0, n, step):
        some = slice(a, min(a + step, n))
        load = L[some].T.toarray()
        H[:, some] = -(L @ (solver.solve(load) + moves[some].T.toarray()))
        H[:, some] -= (moves @ load) * ~feet[some]
    H[np.diag_indices(n)] += [m.own for m in members]
    return (H + H.T) / 2.0


def _small_problem(
    system: System, solver: _Solver, members: list[_Member], H: Floats, F0: Floats, where: str
) -> tuple[Floats, int]:
    """Springs with a law by Newton's method, tensions by elimination, the rest by `contact`."""
    n = len(members)
    of = {kind: np.array([i for i, m in enumerate(members) if m.kind == kind], dtype=np.int64)
          for kind in ("foot", "across", "spring", "cable", "tension", "law")}  # fmt: skip
    fixed = of["tension"]
    laws = of["law"]
    rest = np.array([i for i in range(n) if members[i].kind not in ("tension", "law")], dtype=np.int64)
    target = np.array([members[i].target for i in fixed])
    position = {int(i): k for k, i in enumerate(rest)}
    normal = [i for i in rest if members[i].kind in ("foot", "spring", "cable")]
    across = np.full((len(normal), 2), -1, dtype=np.int64)
    friction = np.zeros(len(normal))
    for k, i in enumerate(normal):
        m = members[i]
        if m.kind == "foot":
            slips = [position[int(j)] for j in of["across"]
                     if members[j].name == m.name and members[j].number == m.number]  # fmt: skip
            across[k, : len(slips)] = slips
            feet = system.supports[m.name].feet
            friction[k] = feet.friction if feet is not None and slips else 0.0
    touch = Touch(np.array([position[int(i)] for i in normal], dtype=np.int64), across, friction)
    count = 0

    def settle(a: Floats) -> Floats:
        nonlocal count
        count += 1
        y = np.zeros(n)
        y[laws] = a
        G, f = H, F0 + H[:, laws] @ a
        if len(fixed):
            inverse = np.linalg.solve(
                H[np.ix_(fixed, fixed)], np.column_stack([H[fixed], (target - f[fixed])[:, None]])
            )
            f = f + H[:, fixed] @ inverse[:, -1]
            G = H - H[:, fixed] @ inverse[:, :-1]
        y[rest] = with_friction(G[np.ix_(rest, rest)], f[rest], touch)[0] if len(rest) else 0.0
        if len(fixed):
            y[fixed] = np.linalg.solve(H[np.ix_(fixed, fixed)], target - F0[fixed] - H[fixed] @ _without(y, fixed))
        return y

    try:
        if not len(laws):
            return settle(np.zeros(0)), count
        return _newton(members, laws, H, F0, settle, where), count
    except RayError as err:
        ray = np.zeros(n)
        ray[rest] = err.motion
        push, moved = _together(members, ray, system.size)
        motion = solver.solve((push - system.stiffness @ moved)[:, None])[:, 0] + moved
        going = describe_motion(system, motion).words or "of a point"
        names = list(dict.fromkeys(members[i].name for i in rest[np.abs(err.motion) > 1e-6 * np.abs(err.motion).max()]))
        raise EquilibriumError(
            f"{where}: no equilibrium: {first_few(names, 8)} let go or slide, and nothing stops this motion: {going}"
        ) from None
    except CycleError as err:
        names = list(dict.fromkeys(members[normal[i]].name for i in err.restless))
        raise EquilibriumError(
            f"{where}: no pattern of touching, sliding and open feet settles; these keep changing: "
            f"{first_few(names, 8)}. Lower the friction there, hold them, or give them a friction stiffness"
        ) from None


def _without(y: Floats, index: Ints) -> Floats:
    result = y.copy()
    result[index] = 0.0
    return result


def _newton(
    members: list[_Member], laws: Ints, H: Floats, F0: Floats, settle: Callable[[Floats], Floats], where: str
) -> Floats:
    """Amounts by which springs with a law differ from their reference, such that their force is that of the law."""
    k = np.array([members[i].own for i in laws])

    def residual(a: Floats) -> tuple[Floats, Floats, Floats]:
        y = settle(a)
        F = (F0 + H @ y)[laws]
        e = F / k - a
        wanted = np.array([members[i].law.force(x) for i, x in zip(laws, e, strict=True)])  # type: ignore[union-attr]
        return F - wanted, y, e

    a = np.zeros(len(laws))
    r, y, e = residual(a)
    size = max(float(np.abs(F0).max()), float(np.abs(r).max()), 1e-300)
    for _ in range(80):
        if float(np.abs(r).max()) <= 1e-11 * size:
            return y
        J = np.zeros((len(laws), len(laws)))
        h = 1e-6 * max(float(np.abs(e).max()), float(np.abs(r / k).max()), 1e-9)
        for j in range(len(laws)):
            moved = a.copy()
            moved[j] += h
            J[:, j] = (residual(moved)[0] - r) / h
        try:
            step = np.linalg.solve(J, r)
        except np.linalg.LinAlgError:
            break
        share = 1.0
        while share > 1e-4:
            tried = residual(a - share * step)
            if float(np.abs(tried[0]).max()) < (1.0 - 0.1 * share) * float(np.abs(r).max()):
                break
            share /= 2.0
        a, (r, y, e) = a - share * step, tried
    if float(np.abs(r).max()) <= 1e-8 * size:
        return y
    worst = members[laws[int(np.abs(r).argmax())]].name
    raise EquilibriumError(
        f'{where}: no equilibrium: the force of the spring "{worst}" does not come to rest on its table or law '
        f"(off by {float(np.abs(r).max()):.3g} N): it softens faster than the rest holds"
    )


def _with_pattern(
    base: System, engaged: System, state: State, members: list[_Member], y: Floats, F: Floats, largest: float,
    u: Floats, growth: dict[str, float], field_: LoadField, more: csr_array | None, where: str,
) -> Equilibrium:  # fmt: skip
    """The system with what acts, and all conditions looked at again with it."""
    moved = float(np.abs(u.reshape(-1, 6)[:, :3]).max(initial=0.0))
    growth, slack = dict(growth), set()
    for p in engaged.pattern.slack:
        if not lengthened(engaged, p, u, growth) > NOTHING * moved:
            slack.add(p)
    for m, amount, force in zip(members, y, F, strict=True):
        if m.kind in ("tension", "cable") and amount:
            growth[m.name] = growth.get(m.name, 0.0) - amount / run_length(engaged, m.name, m.kind)
        # by its length where that shows, else by a force that is more than rounding in what moves it
        if m.kind == "cable" and (amount > NOTHING * moved or force <= _NO_FORCE * max(largest, m.own * moved)):
            slack.add(m.name)
    forces, springs = _spring_forces(engaged, members, u, where)
    rows = _foot_rows(engaged, members, y, F, largest)
    open_, sliding, friction = {}, {}, {}
    for feet in engaged.feet if state.one_way else []:
        own = [r for r in rows if r.support == feet.name]
        open_[feet.name] = np.array([r.status == "open" for r in own], dtype=bool)
        sliding[feet.name] = np.array([r.status == "sliding" for r in own], dtype=bool)
        if state.friction_stiffness is not None and feet.friction:
            sliding[feet.name][:] = True
            friction[feet.name] = np.array([state.friction_stiffness * feet.friction * r.force for r in own])
    stiffness = {**engaged.pattern.springs, **{s.name: s.stiffness for s in springs}}
    # what is taut again has been away: it comes back in the next round
    acting = frozenset(slack) | engaged.pattern.slack
    pattern = Pattern(open_, sliding, acting, stiffness, friction)
    source = engaged if acting == engaged.pattern.slack else base
    system = source.with_pattern(pattern if state.one_way else replace(engaged.pattern, springs=stiffness))
    growth = {p: s for p, s in growth.items() if p not in acting}
    inner = _growth_forces(system, growth)
    if more is not None and acting == engaged.pattern.slack:
        inner -= more @ u
    for c in system.connectors:  # what acts beside stiffness times elongation
        dofs = node_dofs(np.array(c.nodes))
        if c.name in forces:
            inner[dofs] -= c.beside(u, forces[c.name]) * c.stretch[0]
        elif c.kind == "friction":
            inner[dofs[:3]] += c.stiffness[:3] * u[dofs[:3]]
    for r in rows:
        if r.status == "sliding" or (r.support in friction and r.status == "touching"):
            inner[6 * r.node : 6 * r.node + 3] += r.across
    loaded = Loaded(u, field_, growth, inner, forces)
    off, rounding = _unbalanced(system, loaded)
    violation = max(_missed(rows, largest), off)
    return Equilibrium(
        engaged, system, loaded, tuple(rows), tuple(springs), tuple(sorted(slack)), violation, 0, rounding=rounding,
        shortened={m.name: float(amount) for m, amount in zip(members, y, strict=True) if m.kind == "tension"},
    )  # fmt: skip


def _unbalanced(system: System, loaded: Loaded) -> tuple[float, float]:
    """What of the forces is out of balance where nothing holds, and rounding in them, relative to the largest."""
    T = system.constraints.reduce
    off = np.abs(T.T @ loaded.unbalanced(system)).max(initial=0.0)
    f = loaded.field
    parts = (system.stiffness @ loaded.displacement, system.mass @ f.ride, f.force, loaded.inner)
    size = max(float(np.abs(p).max(initial=0.0)) for p in parts)
    noise = 2.0**-52 * float(magnitude(system.stiffness, loaded.displacement).max(initial=0.0))
    return float(off) / max(size, 1e-300), noise / max(size, 1e-300)


def _spring_forces(
    system: System, members: list[_Member], u: Floats, where: str
) -> tuple[dict[str, float], list[SpringRow]]:
    d = system.description
    forces, rows = {}, []
    for m in members:
        if m.kind not in ("law", "spring"):
            continue
        c = next(c for c in system.connectors if c.name == m.name)
        e = float(c.stretches(u)[0])
        if m.law is not None:
            if m.law.beyond(e):
                a, b = m.law.rows[0, 0], m.law.rows[-1, 0]
                raise EquilibriumError(
                    f'{where}: the spring "{m.name}" is lengthened by {1e3 * e:.4g} mm, beyond its table ({1e3 * a:g} '
                    f"to {1e3 * b:g} mm); lengthen the table, or let the last force be held (beyond: held)"
                )
            force, k = m.law.force(e), m.law.slope(e)
        else:
            spring = d.springs[m.name]
            sign = 1.0 if spring.one_way == "pull" else -1.0
            past = sign * e - (spring.gap or 0.0)
            acts = past > 0.0
            force, k = (sign * m.own * past, m.own) if acts else (0.0, 0.0)
        forces[m.name] = force
        rows.append(SpringRow(m.name, e, force, k, "open" if m.law is None and force == 0.0 else "acting"))
    return forces, rows


def _foot_rows(system: System, members: list[_Member], y: Floats, F: Floats, largest: float) -> list[FootRow]:
    """State of every foot."""
    at = {(m.name, m.number, m.axis): i for i, m in enumerate(members) if m.kind in _MOVING}
    rows: list[FootRow] = []
    for feet in system.feet:
        for number, node in enumerate(feet.nodes.tolist()):
            i = at.get((feet.name, number, feet.axis))
            if i is None:
                continue
            across, slip = np.zeros((2, 3))
            for a in feet.across:
                j = at.get((feet.name, number, a))
                if j is not None:
                    across[a], slip[a] = F[j], y[j]
            status: Literal["touching", "sliding", "open"] = "touching"
            if y[i] > 0.0 or F[i] <= NOTHING * largest:
                status, across = "open", np.zeros(3)
            elif np.abs(slip).max() > 0.0:
                status = "sliding"
            gap, force = (max(float(y[i]), 0.0), 0.0) if status == "open" else (0.0, float(F[i]))
            rows.append(FootRow(feet.name, node, status, gap, force, across, slip, feet.friction))
    return rows


def _missed(rows: list[FootRow], scale: float) -> float:
    """Largest of what the conditions of contact and friction are missed by, relative to the largest force."""
    worst = 0.0
    for r in rows:
        size = float(np.linalg.norm(r.across))
        limit = r.friction * r.force
        if r.status == "touching" and r.friction:
            worst = max(worst, (size - limit) / max(scale, 1e-300))
        if r.status == "sliding":
            worst = max(worst, abs(size - limit) / max(scale, 1e-300))
            off = r.across + limit * r.slip / max(float(np.linalg.norm(r.slip)), 1e-300)
            worst = max(worst, float(np.linalg.norm(off)) / max(scale, 1e-300))
    return worst
