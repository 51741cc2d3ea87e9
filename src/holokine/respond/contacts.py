"""A linear assembly in few coordinates with members that let go, hit and slide.

    M x'' + C x' + K x = G w(t) - Σ b (F - F0) + Σ a (f - f0)

with w linear between rows, F the force of a member along its row b (closing p = b x) and f its friction across. A
one-way member acts where p has passed its gap, F = k (p - g) + c p' and never below zero; a rigid one keeps p = g and
meets it with Newton's restitution; friction is Coulomb's, |f| at most μ F. What acts makes a pattern, and within a
pattern everything is linear: z = (x, x', w, 1, f and slopes) obeys z' = A z, so that z(h) = exp(A h) z without any
error of discretisation. Instants at which a pattern ends are roots of series in time. Sliding friction, whose size
follows the normal force, and polynomial laws are taken as linear over a step and found by iteration.

Impacts and simultaneous changes are one small problem of complementarity (`state.contact`): impulses in place of
forces, velocities in place of openings (Moreau 1988; Brogliato, *Nonsmooth Mechanics*, 2016).
"""

from __future__ import annotations

from collections import OrderedDict
from contextlib import suppress
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.respond.direct import cubic
from holokine.state.contact import CycleError, RayError, Touch, with_friction

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.elements.laws import ForceLaw

__all__ = ["CLOSED", "OPEN", "SLIDING", "Change", "Few", "Flow", "Margin", "Member", "Run", "impulses"]

OPEN, CLOSED, SLIDING = 0, 1, 2
Margin = tuple[int, str, int]  # member, what ends, sense
_TERMS = 18  # of a series over a step in which nothing turns by more than half a radian
FINE = 0.5  # rad
_CELLS = 12  # steps between which the largest force is looked for
_TURNS = 20_000  # over all members, until impulses stay
_KEPT = 400  # patterns whose exponentials are held
LANDED = 1e-6  # of the largest closing speed so far, at which a rebound is no flight any more
CROWD = 4_000  # changes within one step beyond which a member chatters
LENGTH, FORCE = 1e-12, 1e-10  # of the largest so far: rounding


@dataclass(frozen=True)
class Member:
    """Something that acts one way, or by a law.

    Attributes
    ----------
    name : str
    row : ndarray, shape (coordinates,)
        Closing (of a law: elongation) per coordinate, in m.
    stiffness, damping : float
        N/m (inf: rigid) and N s/m while it acts.
    gap : float
        Closing at which it begins to act, m; negative where it acts with a force at the start.
    force : float
        At the start, N.
    restitution : float
        Of a rigid one: share of the closing speed with which it rebounds.
    friction : float
        Coulomb's coefficient, of a rigid one.
    across : ndarray, shape (0 to 2, coordinates)
        Slip per coordinate.
    across_force : ndarray, shape (0 to 2,)
        Friction on the assembly at the start, N.
    law : ForceLaw or None
        In place of a stiffness: force over `start` plus elongation.
    start : float
        Elongation at the start, m.
    """

    name: str
    row: Floats
    stiffness: float = np.inf
    damping: float = 0.0
    gap: float = 0.0
    force: float = 0.0
    restitution: float = 0.0
    friction: float = 0.0
    across: Floats = field(default_factory=lambda: np.zeros((0, 0)))
    across_force: Floats = field(default_factory=lambda: np.zeros(0))
    law: ForceLaw | None = None
    start: float = 0.0

    @property
    def rigid(self) -> bool:
        """Whether it yields by nothing."""
        return self.law is None and bool(np.isinf(self.stiffness))

    @property
    def rough(self) -> bool:
        """Whether it rubs."""
        return self.friction > 0.0 and len(self.across) > 0

    @property
    def smooth(self) -> bool:
        """Whether its law is no table."""
        return self.law is not None and not len(self.law.rows)

    @property
    def at_start(self) -> int:
        """Status at the start: of a table the piece."""
        if self.law is not None:
            return 0 if self.smooth else int(np.searchsorted(self.law.rows[:, 0], self.start, side="right"))
        return CLOSED if self.force > 0.0 or self.gap < 0.0 else OPEN

    def acting(self, closing: Floats, speed: Floats) -> tuple[Floats, Floats]:
        """Elastic and damper force of one that yields, N; of a law at `start` plus closing."""
        if self.law is not None:
            e = self.start + closing
            if self.smooth:
                return self.law.polynomial(e)[0], np.zeros_like(e)
            pieces = np.array([self.law.piece(n)[:2] for n in range(len(self.law.rows) + 1)])
            k, at_zero = pieces[np.searchsorted(self.law.rows[:, 0], e, side="right")].T
            return k * e + at_zero, np.zeros_like(e)
        elastic = self.stiffness * (closing - self.gap)
        on = (closing > self.gap) & (elastic + self.damping * speed > 0.0)
        return np.where(on, elastic, 0.0), np.where(on, self.damping * speed, 0.0)

    def refuse_beyond(self, piece: int) -> None:
        """Stop where a piece of the table is none that it tells.

        Raises
        ------
        EventError
            The table is left, and does not say that its last force is held.
        """
        law = self.law
        assert law is not None
        below, above = piece == 0 and not law.free_below, piece == len(law.rows) and not law.free_above
        if len(law.rows) and (below or above) and not law.held:
            raise EventError(
                f'the spring "{self.name}" leaves its table ({1e3 * law.rows[0, 0]:g} to {1e3 * law.rows[-1, 0]:g} '
                "mm); lengthen the table, or let the last force be held (beyond: held)"
            )


@dataclass(frozen=True)
class Change:
    """Something that happens to a member at an instant.

    Attributes
    ----------
    time : float
    member : int
    what : str
        ``touches``, ``opens``, ``sticks``, ``slides`` or ``next piece``.
    speed : float
        Of touching: closing speed before, m/s.
    impulse : float
        Of a rigid one that is hit, N s.
    lost : float
        Energy lost in all impacts of this instant, J, told with the first of them.
    """

    time: float
    member: int
    what: str
    speed: float = 0.0
    impulse: float = 0.0
    lost: float = 0.0


@dataclass
class Run:
    """What was found, by rows; an instant at which something changes stands twice.

    Attributes
    ----------
    time : ndarray, shape (rows,)
    load : ndarray, shape (rows, loads)
    x, v, a : ndarray, shape (rows, coordinates)
    closing, speed, closing_acceleration, force, force_rate : ndarray, shape (rows, members)
        m (from the start), m/s, m/s², N (in all, not beside the start) and N/s.
    slip, rub : ndarray, shape (rows, members, 2)
        Slip in m and friction on the assembly in N (in all).
    status : ndarray of int, shape (rows, members)
    changes : list of Change
    work : dict of str to ndarray, shape (rows,)
        J: ``input``, ``kinetic``, ``strain``, ``damped``, ``rubbed``, ``lost``.
    """

    time: Floats
    load: Floats
    x: Floats
    v: Floats
    a: Floats
    closing: Floats
    speed: Floats
    closing_acceleration: Floats
    force: Floats
    force_rate: Floats
    slip: Floats
    rub: Floats
    status: NDArray[np.int8]
    changes: list[Change]
    work: dict[str, Floats]

    def largest(self, member: int) -> tuple[float, float]:
        """Force of largest size in N and when in s, between rows too."""
        f, h = self.force[:, member], np.diff(self.time)
        cells = np.unique(np.argsort(-np.maximum(np.abs(f[:-1]), np.abs(f[1:])), kind="stable")[:_CELLS])
        s = np.linspace(0.0, 1.0, 65)[None]
        ends = [x[:, None] for x in (f[cells], f[cells + 1])]
        slopes = [x[:, None] for x in (self.force_rate[cells, member], self.force_rate[cells + 1, member])]
        between = cubic(s, h[cells][:, None], *ends, *slopes)
        row, column = np.unravel_index(int(np.abs(between).argmax()), between.shape)
        return float(between[row, column]), float(self.time[cells[row]] + s[0, column] * h[cells[row]])

    def rubbed(self, member: int) -> float:
        """Energy in J that a member's friction took."""
        rub = (self.rub[1:, member] + self.rub[:-1, member]) / 2.0
        return float(-(rub * np.diff(self.slip[:, member], axis=0)).sum())

    @property
    def missing(self) -> Floats:
        """What was put in less all that became of it, in J, shape (rows,)."""
        return np.asarray(self.work["input"] - sum(w for k, w in self.work.items() if k != "input"))

    @property
    def balance(self) -> float:
        """By how much the energies differ from what was put in, over the largest of them."""
        return float(np.abs(self.missing).max()) / max(*(float(np.abs(w).max()) for w in self.work.values()), 1e-300)


class Flow:
    """One pattern: exponentials over steps, and what is watched."""

    def __init__(self, few: Few, key: tuple[int, ...]) -> None:
        n, m, loads = few.count, len(few.members), few.weights.shape[1]
        self.given = [(j, k) for j, own in enumerate(few.members) for k in range(max(len(own.across), own.smooth))
                      if (own.smooth and k == 0) or (own.rough and key[j] == SLIDING)]  # fmt: skip
        given = len(self.given)
        one, f = 2 * n + loads, 2 * n + loads + 1
        rates = f + given
        size = rates + loads + given
        self.key = key
        self.n, self.loads, self.one, self.f, self.rates, self.size = n, loads, one, f, rates, size
        R = np.zeros((n, size))  # forces on the coordinates
        K, C = few.stiffness.copy(), few.damping.copy()
        force = np.zeros((m, size))
        rows: list[Floats] = []
        held: list[tuple[int, int]] = []  # member, and -1 for its normal or which direction across
        for j, (own, status) in enumerate(zip(few.members, key, strict=True)):
            b = own.row
            if own.smooth:  # what is followed of it is what it makes beside the start
                force[j, one] = own.force
                continue
            R[:, one] += own.force * b
            if own.law is not None:
                k, at_zero, _, _ = own.law.piece(status)
                force[j, :n], force[j, one] = k * b, k * own.start + at_zero
                K += k * np.outer(b, b)
                R[:, one] -= force[j, one] * b
                continue
            if own.rough:
                R[:, one] -= own.across_force @ own.across
            if status == OPEN:
                continue
            if own.rigid:
                rows.append(b)
                held.append((j, -1))
            else:
                force[j, :n], force[j, n : 2 * n] = own.stiffness * b, own.damping * b
                force[j, one] = -own.stiffness * own.gap
                K += own.stiffness * np.outer(b, b)
                C += own.damping * np.outer(b, b)
                R[:, one] += own.stiffness * own.gap * b
            if own.rough and status == CLOSED:
                for k, across in enumerate(own.across):
                    rows.append(across)
                    held.append((j, k))
        for column, (j, k) in enumerate(self.given):
            own = few.members[j]
            R[:, f + column] += -own.row if own.smooth else own.across[k]
            if own.smooth:
                force[j, f + column] += 1.0  # beside the force at the start
        R[:, :n] -= K
        R[:, n : 2 * n] -= C
        R[:, 2 * n : 2 * n + loads] = few.weights
        self.rub = np.zeros((m, 2, size))
        for column, (j, k) in enumerate(self.given):
            if not few.members[j].smooth:
                self.rub[j, k, f + column] = 1.0
        accelerated = few.inverse @ R
        if rows:
            A = np.array(rows)
            MA = few.inverse @ A.T
            S = A @ MA
            mu = -np.linalg.lstsq(S, A @ accelerated, rcond=1e-13)[0]
            accelerated = accelerated + MA @ mu
            for own_row, (j, k) in zip(mu, held, strict=True):
                if k < 0:
                    force[j] = -own_row
                else:
                    self.rub[j, k] = own_row
        self.force, self.accelerated = force, accelerated
        A = np.zeros((size, size))
        A[:n, n : 2 * n] = np.eye(n)
        A[n : 2 * n] = accelerated
        A[2 * n : 2 * n + loads, rates : rates + loads] = np.eye(loads)
        A[f : f + given, rates + loads :] = np.eye(given)
        self.A = A
        self._whole: list[float] = []
        self._held: list[tuple[float, Floats]] = []
        values = np.linalg.eigvals(A[: 2 * n, : 2 * n]) if n else np.zeros(1)
        self.fastest = float(np.abs(values).max(initial=0.0))
        ringing = values[np.abs(values.imag) > np.abs(values.real)]
        self.ringing = float(np.abs(ringing).max(initial=0.0))
        self.closing = np.zeros((m, size))
        self.closing[:, :n] = few.rows
        self.speed = np.zeros((m, size))
        self.speed[:, n : 2 * n] = few.rows
        self.slipping = np.zeros((m, 2, size))
        self.slip = np.zeros((m, 2, size))
        for j, own in enumerate(few.members):
            for k, across in enumerate(own.across):
                self.slip[j, k, :n] = self.slipping[j, k, n : 2 * n] = across
        self._watch(few)

    def _watch(self, few: Few) -> None:
        """What must not fall below zero in this pattern, as rows on z, and of what; friction and dampers beside."""
        rows: list[Floats] = []
        what: list[Margin] = []
        lengths: list[float] = []  # what a length of rounding is there, and a force of rounding
        forces: list[float] = []
        self.beside: list[int] = []
        for j, (own, status) in enumerate(zip(few.members, self.key, strict=True)):

            def watch(row: Floats, constant: float, kind: str, sense: int, of: tuple[float, float], j: int = j) -> None:
                row = row.copy()
                row[self.one] += constant
                rows.append(row)
                what.append((j, kind, sense))
                lengths.append(of[0])
                forces.append(of[1])

            if own.law is not None:
                _, _, low, high = (0.0, 0.0, -np.inf, np.inf) if own.smooth else own.law.piece(status)
                if np.isfinite(low):
                    watch(self.closing[j], own.start - low, "piece", -1, (1.0, 0.0))
                if np.isfinite(high):
                    watch(-self.closing[j], high - own.start, "piece", 1, (1.0, 0.0))
            elif status != OPEN:
                watch(self.force[j], 0.0, "open", 0, (0.0 if own.rigid else 10.0 * own.stiffness, 1.0))
                if own.rough:
                    self.beside.append(j)
            elif own.damping:
                self.beside.append(j)
            else:
                watch(-self.closing[j], own.gap, "touch", 0, (1.0, 0.0))
        self.margins = np.array(rows).reshape(len(rows), self.size)
        self.what, self.lengths, self.forces = what, np.array(lengths), np.array(forces)

    def to(self, z: Floats, h: float) -> Floats:
        """The state a time later."""
        while h > 0.0:
            for size, E in self._steps(h):
                if h >= size * (1.0 - 1e-12):
                    z, h = E @ z, h - size
                    break
            else:
                return self.series(z, h).sum(axis=0)
            if h <= 1e-12 * size:
                return z
        return z

    def _steps(self, h: float) -> list[tuple[float, Floats]]:
        """Steps of which exponentials are held, the longest first; those of h made while there are few."""
        if any(abs(k - h) <= 1e-9 * h for k in self._whole):
            return self._held
        if len(self._whole) < 6 and not any(self._part_of(h, k) for k in self._whole):
            halves = max(0, int(np.ceil(np.log2(max(self.fastest * h / FINE, 1.0)))))
            made = [scipy.linalg.expm(self.A * (h / 2**halves))]
            for _ in range(halves):
                made.append(made[-1] @ made[-1])
            self._whole.append(h)
            self._held += [(h / 2**i, E) for i, E in enumerate(made[::-1])]
            self._held.sort(key=lambda pair: -pair[0])
        return self._held

    @staticmethod
    def _part_of(h: float, whole: float) -> bool:
        return h < whole and abs(np.log2(whole / h) % 1.0) > 1e-9

    def series(self, z: Floats, h: float) -> Floats:
        """Terms of the state a short time later, (terms, size)."""
        terms = np.empty((_TERMS, *z.shape))
        terms[0] = z
        for k in range(1, _TERMS):
            terms[k] = self.A @ terms[k - 1] * (h / k)
        return terms


class Few:
    """The assembly in few coordinates.

    Parameters
    ----------
    mass, damping, stiffness : ndarray, shape (coordinates, coordinates)
        Without the members.
    weights : ndarray, shape (coordinates, loads)
        Force on the coordinates per load.
    members : list of Member

    Raises
    ------
    EventError
        A coordinate without mass.
    """

    def __init__(
        self, mass: Floats, damping: Floats, stiffness: Floats, weights: Floats, members: list[Member]
    ) -> None:
        self.mass, self.damping, self.stiffness, self.weights = mass, damping, stiffness, weights
        self.members, self.count = members, len(mass)
        try:
            scipy.linalg.cholesky(mass)
        except np.linalg.LinAlgError:
            raise EventError("a direction in which a one-way member can act moves no mass") from None
        self.inverse = np.linalg.inv(mass)
        self.rows = np.array([m.row for m in members]).reshape(len(members), self.count)
        across = [a for m in members for a in m.across]
        self.directions = np.vstack([self.rows, np.array(across).reshape(-1, self.count)])
        self._flows: OrderedDict[tuple[int, ...], Flow] = OrderedDict()

    def flow(self, key: tuple[int, ...]) -> Flow:
        """Everything about a pattern."""
        found = self._flows.get(key)
        if found is None:
            found = self._flows[key] = Flow(self, key)
            if len(self._flows) > _KEPT:
                self._flows.popitem(last=False)
        self._flows.move_to_end(key)
        return found

    def run(self, time: Floats, load: Floats, *, jumps: Floats | None = None, finer: int = 1) -> Run:
        """From rest at x = 0 over all rows; `load` beside what holds at the start.

        `jumps`: integrals of loads that act in no time at rows, (rows, loads). `finer`: into how many a step is
        divided at least.

        Raises
        ------
        EventError
            A member that chatters, or a table that is left.
        """
        from holokine.respond.marching import March

        return March(self, time, load, jumps, finer).run()


def impulses(few: Few, rigid: list[int], before: Floats, restitution: Floats) -> tuple[Floats, Floats]:
    """What rigid members that touch do to velocities.

    Parameters
    ----------
    rigid : list of int
        Members that touch.
    before : ndarray, shape (coordinates,)
        Velocity before.
    restitution : ndarray, shape (touching,)

    Returns
    -------
    after : ndarray, shape (coordinates,)
    impulse : ndarray, shape (touching,)
        N s.
    """
    rows: list[Floats] = []
    normal, places, friction = [], [], []
    shift: list[float] = []
    for r, e in zip(rigid, restitution, strict=True):
        own = few.members[r]
        normal.append(len(rows))
        rows.append(-own.row)  # opening
        speed = float(own.row @ before)
        shift.append(e * speed if speed > 0.0 else 0.0)
        slips = [-1, -1]
        if own.rough:
            for k, direction in enumerate(own.across):
                slips[k] = len(rows)
                rows.append(direction)
                shift.append(0.0)
        places.append(slips)
        friction.append(own.friction if own.rough else 0.0)
    J = np.array(rows)
    W = J @ few.inverse @ J.T
    start = J @ before - np.array(shift)
    own_friction = np.array(friction)
    push: Floats | None = None
    if not own_friction.any() or len(rigid) <= 40:
        stiff = np.linalg.inv(W + 1e-13 * np.trace(W) / len(W) * np.eye(len(W)))
        touch = Touch(np.array(normal, dtype=np.int64), np.array(places, dtype=np.int64).reshape(-1, 2), own_friction)
        with suppress(CycleError, RayError, np.linalg.LinAlgError):
            y, _ = with_friction(stiff, -stiff @ start, touch)
            push = stiff @ (y - start)
    if push is None:
        push = _projected(W, start, normal, places, friction)
    after = before + few.inverse @ (J.T @ push)
    return after, push[np.array(normal)]


def _projected(W: Floats, start: Floats, normal: list[int], places: list[list[int]], friction: list[float]) -> Floats:
    """Impulses by turns over the members, each set so that it alone holds (projected Gauss-Seidel; Moreau 1988)."""
    push = np.zeros(len(start))
    for _ in range(_TURNS):
        before = push.copy()
        for n, slips, mu in zip(normal, places, friction, strict=True):
            push[n] = max(0.0, push[n] - (start[n] + W[n] @ push) / W[n, n])
            t = [k for k in slips if k >= 0]
            if not t:
                continue
            tried = push[t] - (start[t] + W[t] @ push) / float(np.diag(W)[t].max()) / len(t)
            size = float(np.linalg.norm(tried))
            push[t] = tried if size <= mu * push[n] else tried * (mu * push[n] / size)
        if float(np.abs(push - before).max()) <= 1e-13 * float(np.abs(push).max(initial=1e-300)):
            break
    return push
