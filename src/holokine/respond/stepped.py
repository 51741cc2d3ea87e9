"""Stepping a few coordinates with rough feet through time: what rubs sits on parts that yield, and has no mass.

Modes of the few coordinates above what the answer keeps, and as many more as there are rigid directions, answer at
rest (Khenous, Laborde and Renard, European Journal of Mechanics A 27 (2008) 918-932; Monjaraz-Tec, Gross and Krack,
Computers & Structures 259 (2022) 106698): the force of a foot is then a function of where the rest is and where the
foot has slid to, it does not jump, and nothing hammers. Over a step the modes are exact under forces that run
straight, and the forces at its end solve one small problem: openings and forces, slip and friction (Alart and Curnier,
Computer Methods in Applied Mechanics and Engineering 92 (1991) 353-375), springs by their laws. Where what acts
changes within a step, it is halved until its end stands.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.errors import EventError, first_few
from holokine.progress import tell
from holokine.respond.contacts import OPEN, SLIDING, Change, Few, Run
from holokine.respond.energy import few_energies

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["Stepped"]

_LATE = 0.502  # share of its end in the mean force over a step; half: nothing is damped by the method (Newmark 1959)
_TURN = 0.4  # rad of the fastest mode that moves in a step
_STANDS = 1e-5  # of the liveliest so far: by so much two halves may differ from a step in which something changes
_HALVINGS = 10
_NEWTON, _AGAIN, _SWEEPS = 30, 3, 200
_AGREED = 1e-12
_YIELDS, _ENOUGH = 1e-7, 1e-3  # how far apart from one another directions yield at rest, at least, and as is wished
_SETTLED = 1e-5  # of the largest force: within so much forces agree where corrections go in circles
_KEPT = 60  # factors
_SHORT = 1e-9  # of the usual step: none at all


@dataclass(frozen=True)
class _State:
    """Where a step ends: modes and their speeds, forces beside the start, places of the directions, what acts."""

    z: Floats
    g: Floats
    u: Floats
    w: Floats
    status: tuple[int, ...]


class _RestlessError(Exception):
    """No forces were found with which everything agrees."""


@dataclass(frozen=True)
class _Kept:
    """A state at an instant, and its stretch, in which nothing changes."""

    time: float
    state: _State
    stretch: int


@dataclass(eq=False)
class _Feet:
    """Rigid members as arrays."""

    normal: NDArray[np.int64]
    gap: Floats
    friction: Floats
    across: NDArray[np.int64]  # (feet, 2), -1 where there is none

    def __post_init__(self) -> None:
        self.rough = self.across[:, 0] >= 0
        self.two = self.across[:, 1] >= 0  # slide in two directions
        self.places = np.nonzero(self.across >= 0)  # foot and side of every direction across
        self.slots = self.across[self.places]
        rough = np.unique(self.places[0])
        self.pairs = np.searchsorted(rough, self.places[0])
        self.firsts = np.searchsorted(self.places[0], rough)


@dataclass(frozen=True)
class _Look:
    """By how much forces are off (0 where they agree), what acts (normals: 0 or 1 or a piece; across: 1 sticks,
    2 to 4 slides, 0 rubs by nothing), bounds of friction, its direction and what was tried for it, and places."""

    off: Floats
    key: NDArray[np.int16]
    bound: Floats
    way: Floats
    over: Floats
    u: Floats

    def status(self, of: Stepped) -> tuple[int, ...]:
        """Per member."""
        result = self.key[of.normal_rows].astype(np.int64)
        f = of.feet
        slides = (result[of.feet_members] != OPEN) & f.rough & (self.key[f.across[:, 0]] != 1)
        result[of.feet_members[slides]] = SLIDING
        return tuple(result.tolist())


@dataclass
class _Length:
    """Everything about steps of one length."""

    E: Floats
    first: Floats  # of loads at its beginning, on modes and speeds
    last: Floats
    whole: Floats  # of a force that stays
    place: Floats  # of directions per force at the end
    speed: Floats


class Stepped:
    """One run.

    Parameters
    ----------
    few : Few
    keep : float
        Angular frequency in rad/s above which modes answer at rest.

    Raises
    ------
    EventError
        A rigid direction in which the assembly yields by nothing, so that its force has no one answer.
    """

    def __init__(
        self, few: Few, time: Floats, load: Floats, jumps: Floats | None = None, finer: int = 1, keep: float = np.inf
    ) -> None:
        self.few, self.time, self.load, self.jumps = few, time, load, jumps
        self._directions()
        w2, shapes = scipy.linalg.eigh(few.stiffness, few.mass)
        n = self._split(w2, shapes, keep)
        self.n, self.shapes, self.w2 = n, shapes[:, :n], w2
        still = shapes[:, n:] / np.sqrt(w2[n:])
        self.still = still @ still.T  # displacement at rest per force
        B = self.rows
        self.P, self.R = B @ self.shapes, B @ self.still @ B.T
        self.damped = few.damping @ self.shapes  # forces on the coordinates per speed of the modes that move
        self.Q = -B @ self.still @ self.damped
        self.push, self.R_load = self.shapes.T @ few.weights, B @ self.still @ few.weights
        step = np.diff(time)
        usual = float(np.median(step[step > 0.0]))
        fastest = float(np.sqrt(max(w2[n - 1], 0.0)))
        self.parts = finer * max(1, int(np.ceil(usual * fastest / _TURN)))
        C = self.shapes.T @ few.damping @ self.shapes
        self.A = np.block([[np.zeros((n, n)), np.eye(n)], [-np.diag(w2[:n]), -C]])
        self._lengths: dict[str, _Length] = {}
        self._factors: dict[tuple[str, bytes], Any] = {}
        self.liveliest = 1e-300
        self.largest = max([1e-300, *(abs(m.force) for m in few.members)])
        self.changes: list[Change] = []
        self.kicks: list[tuple[float, float]] = []
        self.kept: list[_Kept] = []
        self.stretch = 0

    # -- directions ------------------------------------------------------------------------------------------------

    def _directions(self) -> None:
        """Rows of normals and of directions across, and which belongs to whom."""
        few = self.few
        rows: list[Floats] = []
        rigid: list[int] = []
        self.normal: list[int] = []
        self.across: list[list[int]] = []
        for m in few.members:
            self.normal.append(len(rows))
            rows.append(m.row)
            if m.rigid:
                rigid.append(len(rows) - 1)
            sides: list[int] = []
            for a in m.across if m.rough else ():
                sides.append(len(rows))
                rigid.append(len(rows))
                rows.append(a)
            self.across.append(sides)
        self.rows = np.array(rows).reshape(-1, few.count)
        self.rigid = rigid
        count = len(rows)
        self.start = np.zeros(count)  # forces at the start
        for j, m in enumerate(few.members):
            self.start[self.normal[j]] = m.force
            for k, i in enumerate(self.across[j]):
                self.start[i] = m.across_force[k]
        self.normal_rows = np.array(self.normal, dtype=np.int64)
        feet = [j for j, m in enumerate(few.members) if m.rigid]
        self.feet_members = np.array(feet, dtype=np.int64)
        own = [few.members[j] for j in feet]
        across = np.full((len(feet), 2), -1, dtype=np.int64)
        for row, j in zip(across, feet, strict=True):
            row[: len(self.across[j])] = self.across[j]
        self.feet = _Feet(self.normal_rows[feet], np.array([m.gap for m in own]), np.array([m.friction for m in own]),
                          across)  # fmt: skip
        self.yielding = [(self.normal[j], m) for j, m in enumerate(few.members) if not m.rigid]

    def _split(self, w2: Floats, shapes: Floats, keep: float) -> int:
        """How many modes move; those above answer at rest, so many that no rigid direction is left without them."""
        rows = self.rows[self.rigid]
        fewest = max(len(rows), int((w2 > keep**2).sum()))
        most = min(fewest + max(10, fewest // 3), int((w2 > 0.0).sum()), len(w2) - 1)
        best, chosen, weakest = 0.0, 0, 0
        for count in range(fewest, most + 1):
            n = len(w2) - count
            half = rows @ (shapes[:, n:] / np.sqrt(w2[n:]))
            size = np.linalg.norm(half, axis=1)
            if len(rows) and (size > 0.0).all():
                vectors, values, _ = np.linalg.svd(half / size[:, None], full_matrices=False)
                weakest, share = int(np.abs(vectors[:, -1]).argmax()), float(values[-1]) ** 2
            else:
                share = 0.0 if len(rows) else 1.0
            if share > best:
                best, chosen = share, n
            if share >= _ENOUGH:
                break
        if best >= _YIELDS:
            return chosen
        row = self.rigid[weakest]
        of = next(m.name for m, n, a in zip(self.few.members, self.normal, self.across, strict=True) if row in (n, *a))
        raise EventError(
            f'"{of}" rubs where nothing yields that the modes leave out, so that its forces have no one answer; '
            "give it a part that yields, a stiffness, or keep fewer modes"
        )

    # -- a step ----------------------------------------------------------------------------------------------------

    def length(self, h: float) -> _Length:
        """What a step of this length does."""
        key = f"{h:.9e}"
        found = self._lengths.get(key)
        if found is None:
            n = self.n
            big = np.zeros((4 * n, 4 * n))
            big[: 2 * n, : 2 * n] = self.A * h
            big[n : 2 * n, 2 * n : 3 * n] = h * np.eye(n)
            big[2 * n : 3 * n, 3 * n :] = np.eye(n)
            big = scipy.linalg.expm(big)
            whole, last = big[: 2 * n, 2 * n : 3 * n], big[: 2 * n, 3 * n :]
            P, Q = self.P, self.Q
            found = _Length(
                big[: 2 * n, : 2 * n], whole - last, last, whole,
                self.R + _LATE * (P @ whole[:n] + Q @ whole[n:]) @ P.T,
                self.R / h + _LATE * (P + Q / h) @ whole[n:] @ P.T,
            )  # fmt: skip
            if len(self._lengths) > 200:
                self._lengths.clear()
                self._factors.clear()
            self._lengths[key] = found
        return found

    def step(self, s: _State, w: Floats, h: float) -> _State:
        """The state a time later."""
        at, n = self.length(h), self.n
        z = at.E @ s.z + at.first @ (self.push @ s.w) + at.last @ (self.push @ w)
        z += (1.0 - _LATE) * at.whole @ (self.P.T @ s.g)
        u = self.P @ z[:n] + self.Q @ z[n:] + self.R_load @ w
        v = self.P @ z[n:] + (self.Q @ (z - s.z)[n:] + self.R_load @ (w - s.w) - self.R @ s.g) / h
        g, u, status = self._solve(s, u, v, at.place, at.speed, h)
        return _State(z + _LATE * at.whole @ (self.P.T @ g), g, u, w, status)

    def anew(self, s: _State, w: Floats) -> _State:
        """The state at the same instant under other loads."""
        u = self.P @ s.z[: self.n] + self.Q @ s.z[self.n :] + self.R_load @ w
        g, u, status = self._solve(s, u, self.P @ s.z[self.n :], self.R, np.zeros_like(self.R), 0.0)
        return _State(s.z, g, u, w, status)

    def _solve(
        self, s: _State, u0: Floats, v0: Floats, D: Floats, Dv: Floats, h: float
    ) -> tuple[Floats, Floats, tuple[int, ...]]:
        """Forces g beside the start with which places u0 + D g and speeds v0 + Dv g agree (Newton's method)."""
        scale = np.maximum(np.diag(D), 1e-300)
        g, best, held, found = s.g, np.inf, s.g, None
        for turn in range(_NEWTON * _AGAIN):
            now = self._look(s, g, u0 + D @ g, v0 + Dv @ g, scale)
            size = float(np.abs(now.off / scale).max(initial=0.0))
            if size < best:
                best, held, found = size, g, now
            if size <= _AGREED * self.largest or (best <= _SETTLED * self.largest and turn % _NEWTON == _NEWTON - 1):
                break
            if turn % _NEWTON == _NEWTON - 1:  # in circles: nearer, foot by foot
                g = self._swept(s, held, u0, v0, D, Dv, scale)
            else:
                step, part = self._correction(now, D, Dv, scale, h), 1.0
                while turn % _NEWTON > 8 and part > 0.05:  # shorter ones lead out of circles
                    tried = g - part * step
                    look = self._look(s, tried, u0 + D @ tried, v0 + Dv @ tried, scale)
                    if np.linalg.norm(look.off / scale) < (1.0 - 0.1 * part) * np.linalg.norm(now.off / scale):
                        break
                    part /= 2.0
                g = g - part * step
        if found is None or best > _SETTLED * self.largest:
            raise _RestlessError
        return held, found.u, found.status(self)

    def _swept(self, s: _State, g: Floats, u0: Floats, v0: Floats, D: Floats, Dv: Floats, scale: Floats) -> Floats:
        """Forces after many turns over the members, each set so that it alone agrees (Gauss-Seidel)."""
        g, f = g.copy(), self.feet
        u, v = u0 + D @ g, v0 + Dv @ g

        def put(i: Any, change: Any) -> None:
            g[i] += change
            u[:] += D[:, i] @ change if np.ndim(change) else D[:, i] * change
            v[:] += Dv[:, i] @ change if np.ndim(change) else Dv[:, i] * change

        for _ in range(_SWEEPS):
            before = g.copy()
            for foot, n in enumerate(f.normal.tolist()):
                past = (u[n] - f.gap[foot]) / scale[n]
                put(n, min(-past, self.start[n] - g[n]))  # no pull
                i = f.across[foot][f.across[foot] >= 0]
                if len(i):
                    bound = f.friction[foot] * max(self.start[n] - g[n], 0.0)
                    tried = self.start[i] + g[i] - (u[i] - s.u[i]) / scale[i].max()
                    size = float(np.hypot.reduce(tried))
                    put(i, (tried if size <= bound else tried * (bound / size)) - self.start[i] - g[i])
            for n, m in self.yielding:
                now = self._look(s, g, u, v, scale)
                k = m.law.slope(m.start + u[n]) if m.law is not None else m.stiffness * float(now.key[n])
                c = m.damping * float(now.key[n]) if m.law is None else 0.0
                put(n, now.off[n] / scale[n] / (1.0 + k * D[n, n] + c * Dv[n, n]))
            if float(np.abs(g - before).max()) <= _AGREED * self.largest:
                break
        return g

    def _look(self, s: _State, g: Floats, u: Floats, v: Floats, scale: Floats) -> _Look:
        """By how much a step's end is off, and what acts there."""
        force = self.start - g  # of normals; friction is -force
        off, key = np.empty(len(g)), np.zeros(len(g), dtype=np.int16)
        f = self.feet
        n = f.normal
        N, past, own = force[n], u[n] - f.gap, scale[n]
        closed = N * own + past > 0.0
        off[n], key[n] = np.where(closed, past, own * N), closed
        bound = f.friction * np.where(closed, np.maximum(N, 0.0), 0.0)
        tried = np.zeros((len(n), 2))
        over, way = bound, tried
        if len(f.slots):
            i, (foot, side) = f.slots, f.places
            slip, rub = u[i] - s.u[i], -force[i]
            wide = np.maximum.reduceat(scale[i], f.firsts)[f.pairs]
            tried[foot, side] = rub - slip / wide
            over = np.hypot(tried[:, 0], tried[:, 1])
            sticks = closed & (over <= bound)
            way = tried / np.maximum(over, 1e-300)[:, None]
            loose, held = ~sticks[foot], bound[foot]
            off[i] = np.where(loose, scale[i] * (rub - held * way[foot, side]), slip)
            key[i] = np.where(loose, np.where(held > 0.0, np.sign(tried[foot, side]) + 3, 0), 1)
        for n1, m in self.yielding:
            p, F = float(u[n1]), float(force[n1])
            if m.law is not None:
                off[n1] = scale[n1] * (F - m.law.force(m.start + p))
                key[n1] = 0 if m.smooth else np.searchsorted(m.law.rows[:, 0], m.start + p, side="right")
                continue
            wanted = m.stiffness * (p - m.gap) + m.damping * float(v[n1])
            # what yields at rest gives way to a damper at once: whether it touches is told by where it would be without
            key[n1] = p - m.gap + scale[n1] * max(F, 0.0) > 0.0 and wanted > 0.0
            off[n1] = scale[n1] * (F - (wanted if key[n1] else 0.0))
        return _Look(off, key, bound, way, over, u)

    def _correction(self, now: _Look, D: Floats, Dv: Floats, scale: Floats, h: float) -> Floats:
        """What Newton's method takes off the forces."""
        f, key = self.feet, now.key
        turning = f.two & (key[f.across[:, 0]] > 1)  # slides whose direction is no row's
        kept = None
        if not turning.any() and not any(m.smooth for _, m in self.yielding):
            kept = (f"{h:.9e}", key.tobytes())
        factor = self._factors.get(kept) if kept is not None else None
        if factor is None:
            J = D.copy()
            loose = f.normal[key[f.normal] == OPEN]
            J[loose] = 0.0
            J[loose, loose] = -scale[loose]
            for k in (0, 1):
                has = f.across[:, k] >= 0
                i = f.across[has, k]
                slides = has.copy()
                slides[has] = key[i] != 1
                i = f.across[slides, k]
                J[i] = 0.0
                J[i, i] = scale[i]
                pushed = slides & (now.bound > 0.0)
                i = f.across[pushed, k]
                J[i, f.normal[pushed]] += scale[i] * f.friction[pushed] * now.way[pushed, k]
            foot = np.flatnonzero(turning & (now.bound > 0.0))
            if len(foot):
                i, e = f.across[foot], now.way[foot]
                turn = (np.eye(2) - e[:, :, None] * e[:, None]) * (now.bound / now.over)[foot, None, None]
                by = -D[i] / scale[i].max(axis=1)[:, None, None]
                by[np.arange(len(foot))[:, None], [[0, 1]], i] += 1.0
                J[i] -= scale[i][:, :, None] * (turn @ by)
            for n, m in self.yielding:
                J[n] = 0.0
                if m.law is not None:
                    J[n] = -m.law.slope(m.start + float(now.u[n])) * D[n]
                elif key[n]:
                    J[n] = -m.stiffness * D[n] - m.damping * Dv[n]
                J[n, n] -= 1.0
                J[n] *= scale[n]
            factor = scipy.linalg.lu_factor(J, check_finite=False)
            if kept is not None:
                if len(self._factors) >= _KEPT:
                    self._factors.clear()
                self._factors[kept] = factor
        return np.asarray(scipy.linalg.lu_solve(factor, now.off, check_finite=False))

    # -- the whole -------------------------------------------------------------------------------------------------

    def run(self) -> Run:
        """Every row, and every instant at which something changes, twice."""
        n, count = self.n, len(self.rows)
        first = tuple(m.at_start for m in self.few.members)
        none = np.zeros(self.load.shape[1])
        usual = float(np.median(np.diff(self.time)))
        s = _State(np.zeros(2 * n), np.zeros(count), np.zeros(count), none, first)
        s = self._kicked(s, 0)
        s = self._anew(0, s)
        self._keep(float(self.time[0]), s)
        for i in range(len(self.time) - 1):
            if i % 500 == 0:
                tell("following what lets go and slides", i, len(self.time), "rows")
            t, h = float(self.time[i]), float(self.time[i + 1] - self.time[i])
            if h <= _SHORT * usual:
                if (self.load[i + 1] != s.w).any():
                    s = self._anew(i + 1, s)
                    self._keep(t, s, fresh=True)
                continue
            rate = (self.load[i + 1] - self.load[i]) / h
            for k in range(self.parts):
                s = self._advance(t + h * k / self.parts, s, rate, h / self.parts, _HALVINGS)
            s = replace(s, w=self.load[i + 1])
            kicked = self._kicked(s, i + 1)
            if kicked is not s:
                s = self._anew(i + 1, kicked)
                self._keep(float(self.time[i + 1]), s, fresh=True)
        return self._collected()

    def _anew(self, i: int, s: _State) -> _State:
        t = float(self.time[i])
        try:
            new = self.anew(s, self.load[i])
        except _RestlessError:
            raise self._stuck(t) from None
        self._told(t, s, new)
        return new

    def _kicked(self, s: _State, i: int) -> _State:
        if self.jumps is None or not self.jumps[i].any():
            return s
        z = s.z.copy()
        before = 0.5 * float(z[self.n :] @ z[self.n :])
        z[self.n :] += self.push @ self.jumps[i]
        self.kicks.append((float(self.time[i]), 0.5 * float(z[self.n :] @ z[self.n :]) - before))
        return replace(s, z=z)

    def _advance(self, t: float, s: _State, rate: Floats, h: float, halvings: int) -> _State:
        """Over a step; where what acts changes it is halved until two halves say the same."""
        try:
            end = self.step(s, s.w + rate * h, h)
        except _RestlessError:
            if not halvings:
                raise self._stuck(t) from None
            return self._halves(t, s, rate, h, halvings)
        self.liveliest = max(self.liveliest, self._lively(end.z))
        self.largest = max(self.largest, float(np.abs(end.g).max(initial=0.0)))
        if end.status != s.status and halvings:
            with suppress(_RestlessError):
                middle = self.step(s, s.w + rate * h / 2.0, h / 2.0)
                other = self.step(middle, s.w + rate * h, h / 2.0)
                if self._lively(end.z - other.z) <= _STANDS * self.liveliest:
                    self._took(t, s, middle, h / 2.0)
                    self._took(t + h / 2.0, middle, other, h / 2.0)
                    return other
            return self._halves(t, s, rate, h, halvings)
        self._took(t, s, end, h)
        return end

    def _lively(self, z: Floats) -> float:
        """Root of the energy of modes and speeds."""
        n = self.n
        return float(np.sqrt(0.5 * (z[n:] @ z[n:] + np.abs(self.w2[:n]) @ z[:n] ** 2)))

    def _halves(self, t: float, s: _State, rate: Floats, h: float, halvings: int) -> _State:
        middle = self._advance(t, s, rate, h / 2.0, halvings - 1)
        return self._advance(t + h / 2.0, middle, rate, h / 2.0, halvings - 1)

    def _stuck(self, t: float) -> EventError:
        names = dict.fromkeys(self.few.members[c.member].name for c in self.changes[-20:])
        return EventError(
            f"at {t:.6g} s forces and slip find no agreement, of {first_few(names, 6) or 'feet at the start'}; a "
            "smaller coefficient of friction, or fewer modes"
        )

    def _took(self, t: float, s: _State, end: _State, h: float) -> None:
        if end.status != s.status:
            self._told(t, s, end)
            self._keep(t, replace(s, status=end.status), fresh=True)
        self._keep(t + h, end)

    def _told(self, t: float, before: _State, after: _State) -> None:
        """What changes from one state to another."""
        for j, m in enumerate(self.few.members):
            old, new = before.status[j], after.status[j]
            if old == new:
                continue
            if m.law is not None:
                m.refuse_beyond(new)
                self.changes.append(Change(t, j, "next piece"))
            elif new == OPEN:
                self.changes.append(Change(t, j, "opens"))
            else:
                if old == OPEN:
                    i = self.normal[j]
                    speed = float(self.P[i] @ before.z[self.n :])
                    self.changes.append(Change(t, j, "touches", max(speed, 0.0)))
                if new == SLIDING:
                    self.changes.append(Change(t, j, "slides"))
                elif old == SLIDING:
                    self.changes.append(Change(t, j, "sticks"))

    def _keep(self, t: float, s: _State, *, fresh: bool = False) -> None:
        self.stretch += fresh
        self.kept.append(_Kept(t, s, self.stretch))

    def _collected(self) -> Run:
        few, kept, n = self.few, self.kept, self.n
        m = len(few.members)
        time = np.array([k.time for k in kept])
        stretch = np.array([k.stretch for k in kept])
        g, w = np.array([k.state.g for k in kept]), np.array([k.state.w for k in kept])
        z = np.array([k.state.z for k in kept])
        status = np.array([k.state.status for k in kept], dtype=np.int8).reshape(len(kept), m)
        g_rate, w_rate = _slopes(time, g, stretch), _slopes(time, w, stretch)
        own = g @ self.P + w @ self.push.T
        speeding = z @ self.A[n:].T + own
        heavy = [z[:, :n] @ self.shapes.T, z[:, n:] @ self.shapes.T, speeding @ self.shapes.T]
        light, light_rate = (a @ self.rows + b @ few.weights.T - c @ self.damped.T
                             for a, b, c in ((g, w, z[:, n:]), (g_rate, w_rate, speeding)))  # fmt: skip
        x, v, a = heavy[0] + light @ self.still, heavy[1] + light_rate @ self.still, heavy[2]
        u, u_rate = x @ self.rows.T, v @ self.rows.T
        normal = self.normal_rows
        force, force_rate = (self.start - g)[:, normal], -g_rate[:, normal]
        slip, rub = np.zeros((2, len(time), m, 2))
        for j, across in enumerate(self.across):
            for k, i in enumerate(across):
                slip[:, j, k], rub[:, j, k] = u[:, i], self.start[i] + g[:, i]
        work = few_energies(few, time, w, x, v, a, u[:, normal], slip, status, rub, heavy=heavy)
        work["lost"] = np.zeros(len(time))
        for t, energy in self.kicks:
            work["input"] = work["input"] + energy * (time >= t)
        return Run(time, w, x, v, a, u[:, normal], u_rate[:, normal], a @ few.rows.T, force, force_rate, slip, rub,
                   status, self.changes, work)  # fmt: skip


def _slopes(time: Floats, values: Floats, stretch: NDArray[np.int64]) -> Floats:
    """How fast rows change, each stretch by itself: parabolas through three rows (lines where there are two)."""
    result = np.zeros_like(values)
    first = np.flatnonzero(np.diff(stretch, prepend=-1))
    for a, b in zip(first, [*first[1:], len(time)], strict=True):
        if b - a >= 2:
            result[a:b] = np.gradient(values[a:b], time[a:b], axis=0, edge_order=2 if b - a >= 3 else 1)
    return result
