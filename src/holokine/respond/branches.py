"""Branches of steady motions over frequency: followed by arc length, whether they are stable, what a sweep sees.

Stability by Floquet's multipliers: what becomes of a small disturbance over one cycle, exactly from one change of what
acts to the next (Leine and Nijmeijer, *Dynamics and Bifurcations of Non-Smooth Mechanical Systems*, 2004). Where rigid
members act, a branch is called unstable where it runs back, and no other loss of stability is looked for.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.progress import tell
from holokine.respond.contacts import OPEN
from holokine.respond.periodic import Balance, Point, Unbalanced, scaled
from holokine.respond.series import padded

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats

__all__ = ["Branch", "Jump", "Seen", "follow_branch", "in_doubt", "multipliers", "same_with", "seen", "stability"]

_MOST = 6000  # points of a branch
_ASTRAY = 400  # points without a frequency that was not reached before
_TURN = 0.97  # cosine of the angle between steps
_LEAST, _FIRST, _LONGEST = 1e-5, 0.05, 1.0  # steps, of the scale of both axes
_EASY = 5
_GRID = 256  # parts of a cycle where a law is no table
_BEYOND = 2e-3  # of 1, by which a multiplier may be larger: rounding of instants


@dataclass(eq=False)
class Branch:
    """One branch.

    Attributes
    ----------
    points : list of Point
    lost : list of str
        Of every point: why it is not stable: ``runs back``, ``doubles`` (a motion of twice the period), ``wanders``
        (one of another period), ``turns`` (one of the same period); empty where it is stable.
    ends : str
        Why it ends: ``range``, ``steps`` (nothing further was found), ``astray`` (it comes to no further frequencies).
    """

    points: list[Point]
    lost: list[str] = field(default_factory=list)
    ends: str = "range"

    @property
    def omega(self) -> Floats:
        """rad/s, shape (points,)."""
        return np.array([p.omega for p in self.points])

    @property
    def stable(self) -> NDArray[np.bool_]:
        """Shape (points,)."""
        return np.array([not why for why in self.lost], dtype=bool)


@dataclass(frozen=True)
class Jump:
    """Where a sweep leaves a branch: angular frequency, from which point to which (None: nothing stable is known)."""

    omega: float
    branch: int
    point: int
    to_branch: int | None
    to_point: int | None
    why: str


@dataclass(frozen=True)
class Seen:
    """What a sweep sees: points of branches in order, and where it jumps."""

    points: tuple[tuple[int, int], ...]
    jumps: tuple[Jump, ...]


def follow_branch(
    balance: Balance, start: Point, upto: float, spacing: Callable[[float], float], size: float
) -> Branch:
    """The branch from a point on, until it leaves the range between its frequency and another.

    Parameters
    ----------
    upto : float
        Angular frequency in rad/s at the other end.
    spacing : callable
        Longest step in rad/s at an angular frequency.
    size : float
        Scale of forces in N.
    """
    low, high = sorted((start.omega, upto))
    if start.turn[-1] * (upto - start.omega) < 0.0:
        start = replace(start, turn=-start.turn)
    points, ds = [start], _FIRST
    reached, since = [start.omega, start.omega], 0
    largest = max(size, float(np.abs(start.force).max(initial=0.0)))
    while len(points) < _MOST and since < _ASTRAY:
        here = points[-1]
        since += 1
        if not reached[0] <= here.omega <= reached[1]:
            reached, since = [min(reached[0], here.omega), max(reached[1], here.omega)], 0
        width = 3.0 * spacing(here.omega)
        turn = scaled(here.turn, largest, width)
        ds = min(ds, _LONGEST, 1.0 / (3.0 * max(abs(float(turn[-1])), 1e-12)))
        guess = here.force + (ds * largest) * turn[:-1].reshape(here.force.shape)
        try:
            found, steps = balance.solve(guess, here.omega + ds * width * float(turn[-1]), turn, largest, width)
        except Unbalanced:
            found, steps = None, 0
        if found is not None:
            straight = float(turn @ scaled(found.turn, largest, width))
            if straight < _TURN and ds > 100.0 * _LEAST:
                found = None
        if found is None:
            ds /= 2.0
            if ds >= _LEAST:
                continue
            found = _round_corner(balance, points, largest, width)
            if found is None:
                return Branch(points, ends="steps")
            points.append(found)
            ds = 100.0 * _LEAST
            continue
        if not low <= found.omega <= high:
            end = high if found.omega > high else low
            part = (end - here.omega) / (found.omega - here.omega)
            with suppress(Unbalanced):
                points.append(balance.solve(here.force + part * (found.force - here.force), end)[0])
            return Branch(points)
        balance.refuse_beyond(found)
        points.append(found)
        tell(f"{len(points):,} steady motions, {found.omega / (2 * np.pi):.5g} Hz")
        largest = max(largest, float(np.abs(found.force).max(initial=0.0)))
        if steps <= _EASY and straight > 0.5 * (1.0 + _TURN):
            ds *= 1.6
    return Branch(points, ends="astray")


def _round_corner(balance: Balance, points: list[Point], largest: float, width: float) -> Point | None:
    """A point beyond a corner: where something only just touches, a branch can turn at once by more than a right angle.

    Looked for at frequencies next to it, away from where the branch came from.
    """
    here = points[-1]
    for part in (1e-4, 1e-3, 1e-2):
        for way in (-1.0, 1.0):
            omega = here.omega + way * part * width
            try:
                found, _ = balance.solve(here.force, omega)
            except Unbalanced:
                continue
            moved = float(np.linalg.norm(found.force - here.force)) / largest
            if moved > 10.0 * part + 0.01 * part**0.5:
                continue
            turn = np.append((found.force - here.force).ravel(), omega - here.omega)
            old = next((p for p in points[-2::-1] if (p.omega - omega) * way >= 0.0), None)
            if old is not None and (points[-2].omega - here.omega) * way > 0.0:
                share = (omega - here.omega) / (old.omega - here.omega)
                on_it = here.force + share * (old.force - here.force)
                off = float(np.linalg.norm(found.force - on_it))
                if moved < 1e-12 or off < 0.3 * moved * largest:
                    continue
            if float(scaled(found.turn, largest, width) @ scaled(turn, largest, width)) < 0.0:
                found = replace(found, turn=-found.turn)
            return found
    return None


def stability(balance: Balance, branch: Branch) -> None:
    """Tell of every point of a branch why it is not stable."""
    rigid = any(m.rigid for m in balance.few.members)
    flows: dict[bytes, _Flow] = {}
    way = 1.0 if branch.points[0].turn[-1] > 0.0 else -1.0
    for number, point in enumerate(branch.points):
        back = point.turn[-1] * way < 0.0
        why = "runs back" if back else ""
        if not rigid and not back:
            tell(f"stability {number + 1:,} of {len(branch.points):,}")
            why = _lost(balance, point, flows)
        branch.lost.append(why)


class _Flow:
    """What disturbances do while the same acts: exponentials by eigenvalues, or directly where two fall into one."""

    def __init__(self, A: Floats) -> None:
        self.A = A
        self.values, self.vectors = np.linalg.eig(A)
        try:
            self.inverse = np.linalg.inv(self.vectors)
            self.ill = bool(np.linalg.cond(self.vectors) > 1e8)
        except np.linalg.LinAlgError:
            self.ill = True

    def after(self, time: float, disturbances: Floats) -> Floats:
        """Disturbances a time later."""
        if self.ill:
            return np.asarray(scipy.linalg.expm(self.A * time) @ disturbances)
        return np.asarray(((self.vectors * np.exp(self.values * time)) @ (self.inverse @ disturbances)).real)


def _lost(balance: Balance, point: Point, flows: dict[bytes, _Flow]) -> str:
    values = multipliers(balance, point, flows)
    worst = values[int(np.abs(values).argmax())]
    if abs(worst) <= 1.0 + _BEYOND:
        return ""
    if abs(worst.imag) > 1e-6 * abs(worst):
        return "wanders"
    return "doubles" if worst.real < 0.0 else "turns"


def multipliers(balance: Balance, point: Point, flows: dict[bytes, _Flow] | None = None) -> Complex:
    """Factors of small disturbances over one cycle, shape (2 coordinates,); of members that yield."""
    flows = {} if flows is None else flows
    few, w = balance.few, point.omega
    n, grid = few.count, 2.0 * np.pi / _GRID
    state = np.zeros(len(few.members), dtype=np.int64)
    changes: list[tuple[float, int, int]] = []
    smooth = [j for j, m in enumerate(few.members) if m.smooth]
    for j, m in enumerate(few.members):
        if m.smooth:
            continue
        pieces = balance.pieces(j, point.place, w)
        state[j] = pieces[0][2]
        changes += [(a, j, what) for a, _, what in pieces[1:]]
        if pieces[-1][2] != pieces[0][2]:
            changes.append((0.0, j, pieces[0][2]))
            state[j] = pieces[-1][2]
    steps = [(grid * k, -1, 0) for k in range(_GRID)] if smooth else []
    at, X = 0.0, np.eye(2 * n)
    for when, j, what in sorted([*changes, *steps, (2.0 * np.pi, -2, 0)]):
        if when > at:
            X = _flow(balance, state, flows).after((when - at) / w, X)
            at = when
        if j >= 0:
            m, old = few.members[j], state[j]
            state[j] = what
            if old == OPEN and balance.comes_in(j, point.place, when):  # the instant moves with what closes
                X[n:] -= np.outer(few.inverse @ m.row, m.damping * (m.row @ X[:n]))
        elif j == -1:
            for s in smooth:
                d, m = balance.normal[s], few.members[s]
                assert m.law is not None
                e = m.start + float(balance.cycle.values(point.place[d], np.array([when]))[0])
                more = m.law.polynomial(e)[1] - balance.kappa[d]
                X[n:] -= np.outer(few.inverse @ m.row, more * grid / w * (m.row @ X[:n]))
    return np.asarray(np.linalg.eigvals(X).astype(complex))


def _flow(balance: Balance, state: NDArray[np.int64], flows: dict[bytes, _Flow]) -> _Flow:
    key = state.tobytes()
    if key not in flows:
        few, n = balance.few, balance.few.count
        A = few.flow(tuple(state.tolist())).A[: 2 * n, : 2 * n].copy()
        w = np.sqrt(np.maximum(np.diag(few.stiffness), balance.middle**2 * np.diag(few.mass)))
        A[n:, n:] -= few.inverse @ (balance.L / np.sqrt(np.outer(w, w)))  # what has loss factors, as dampers
        for j, m in enumerate(few.members):
            if m.smooth:
                A[n:, :n] -= balance.kappa[balance.normal[j]] * np.outer(few.inverse @ m.row, m.row)
        flows[key] = _Flow(A)
    return flows[key]


def seen(branches: list[Branch], up: bool) -> Seen:
    """What a slow sweep sees, from one end of the range to the other."""
    at = _beginning(branches, up)
    way = 1.0 if up else -1.0
    points: list[tuple[int, int]] = []
    jumps: list[Jump] = []
    if at is None:
        return Seen((), ())
    (b, k, step), lost = at, False
    been: set[tuple[int, int, int]] = set()  # where it landed
    while (b, k, step) not in been:
        points.append((b, k))
        branch = branches[b]
        nxt, omega = k + step, branch.points[k].omega
        if not 0 <= nxt < len(branch.points):
            landing = None if nxt < 0 or branch.ends == "range" else _landing(branches, omega, way, (b, k))
            if landing is None:
                break
            jumps.append(Jump(omega, b, k, landing[0], landing[1], "lost"))
            been.add((b, k, step))
            b, k, step = landing
            continue
        ahead = (branch.points[nxt].omega - omega) * way
        if ahead > 0.0 and (branch.stable[nxt] or lost):
            k, lost = nxt, lost and not branch.stable[nxt]
            continue
        # it ends here: by running back, or by a loss of stability
        why = "runs back" if ahead <= 0.0 else branch.lost[nxt]
        landing = _landing(branches, omega, way, (b, k))
        if landing is not None:
            jumps.append(Jump(omega, b, k, landing[0], landing[1], why))
        else:
            if not lost:
                jumps.append(Jump(omega, b, k, None, None, why))
            lost = True  # it goes on along what is known of it
            if why == "runs back":
                landing = _landing(branches, omega, way, (b, k), stable=False)
            if landing is None and ahead <= 0.0:
                break
        been.add((b, k, step))
        b, k, step = landing or (b, nxt, step)
    return Seen(tuple(points), tuple(jumps))


def _beginning(branches: list[Branch], up: bool) -> tuple[int, int, int] | None:
    """The point at that end of the range, and which way the branch goes from it."""
    best = None
    for b, branch in enumerate(branches):
        w = branch.omega
        for k, step in ((0, 1), (len(w) - 1, -1)):
            if len(w) > 1 and ((w[k + step] > w[k]) == up):
                rank = -w[k] if up else w[k]
                if best is None or rank > best[0] + 1e-9 * abs(rank):
                    best = rank, (b, k, step)
    return None if best is None else best[1]


def _landing(
    branches: list[Branch], omega: float, way: float, leaves: tuple[int, int], stable: bool = True
) -> tuple[int, int, int] | None:  # fmt: skip
    """The next stable point of any branch at a frequency, along the branch that is left first, and its way on.

    Not `stable`: one that only does not run back.
    """
    found = []
    for b, branch in enumerate(branches):
        w = branch.omega
        good = branch.stable if stable else np.array([why != "runs back" for why in branch.lost])
        for k in range(len(w) - 1):
            if not (w[k] - omega) * (w[k + 1] - omega) <= 0.0 or w[k] == w[k + 1]:
                continue
            step = 1 if (w[k + 1] - w[k]) * way > 0.0 else -1
            to = k + 1 if step > 0 else k
            near = b == leaves[0] and abs(k - leaves[1]) <= 2
            if good[k] and good[k + 1] and not near:
                found.append((b != leaves[0], abs(k - leaves[1]), (b, to, step)))
    return min(found)[2] if found else None


def in_doubt(balance: Balance, branch: Branch, count: int = 6) -> float:
    """By how much places differ with twice the harmonics, relative to the largest, at points where most happens."""
    more = with_harmonics(balance, 2 * balance.harmonics)
    reach = np.array([np.abs(p.force).sum() for p in branch.points])
    chosen = np.unique(np.argsort(-reach, kind="stable")[:: max(1, len(reach) // (4 * count))][:count])
    worst = 0.0
    for k in chosen:
        p = branch.points[int(k)]
        try:
            q = same_with(more, p)
        except Unbalanced:
            return np.inf
        one, other = p.place @ balance.cycle.V.T, q.place @ more.cycle.V.T
        least, most = np.abs(one).max(axis=1), np.abs(other).max(axis=1)
        worst = max(worst, float((np.abs(least - most) / max(most.max(), 1e-300)).max()))
        worst = max(worst, abs(q.omega - p.omega) / p.omega)
    return worst


def same_with(more: Balance, p: Point) -> Point:
    """The point of the same branch with more harmonics.

    Raises
    ------
    Unbalanced
    """
    size = max(float(np.abs(p.force).max(initial=0.0)), more.still, 1e-300)
    turn = np.append(padded(p.turn[:-1].reshape(p.force.shape), more.harmonics).ravel(), p.turn[-1])
    width = 0.02 * p.omega
    return more.solve(padded(p.force, more.harmonics), p.omega, scaled(turn, size, width), size, width)[0]


def with_harmonics(balance: Balance, harmonics: int) -> Balance:
    """The same with another number of harmonics."""
    return Balance(balance.few, balance.L, balance.push, harmonics, balance.middle)
