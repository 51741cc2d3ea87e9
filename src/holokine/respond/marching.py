"""Marching a few coordinates with one-way members through time, from instant of change to instant of change."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import EventError, first_few
from holokine.progress import tell
from holokine.respond.contacts import (
    CLOSED,
    CROWD,
    FINE,
    FORCE,
    LANDED,
    LENGTH,
    OPEN,
    SLIDING,
    Change,
    Few,
    Flow,
    Margin,
    Run,
    impulses,
)
from holokine.respond.energy import few_energies
from holokine.respond.roots import dips, first_below, root

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["March"]

_WITHIN = 8  # rows between two changes that lie within one step
_ITERATIONS = 60
_AGREED = 1e-13
_STICKS = 1e-7  # of the largest force: by so much a foot holds more than its limit before it slides


class March:
    """One run."""

    def __init__(self, few: Few, time: Floats, load: Floats, jumps: Floats | None, finer: int) -> None:
        self.few, self.time, self.load, self.jumps, self.finer = few, time, load, jumps, finer
        self.key = tuple(m.at_start for m in few.members)
        self.flow = few.flow(self.key)
        self.x, self.v = np.zeros(few.count), np.zeros(few.count)
        self.way = np.zeros((len(few.members), 2))  # direction of slip
        self.rubbing = np.zeros((len(few.members), 2))  # friction, or what a law makes beside the start
        self.changes: list[Change] = []
        self.rows: list[tuple[float, Floats, tuple[float, float, float], Flow]] = []
        self.lost = self.kicked = self.relaxed = 0.0
        self.strongest = 1e-300
        self.nudge = 1e-8 * float(np.einsum("ij,jk,ik->i", few.rows, few.inverse, few.rows).max(initial=0.0))
        # what the loads alone could make of the members within a step: less is rounding
        push = np.abs(few.directions @ few.inverse @ few.weights) @ np.abs(load).max(axis=0)
        step = float(np.median(np.diff(time)[np.diff(time) > 0.0]))
        self.fastest = max(step * float(push.max(initial=0.0)), 1e-300)
        self.longest = max(100.0 * step * self.fastest, 1e-300)
        for m in few.members:
            self.longest = max(self.longest, abs(m.gap), abs(m.start))
            self.strongest = max(self.strongest, abs(m.force))

    # -- states -------------------------------------------------------------------------------------------------

    def state(self, flow: Flow, w: Floats, rate: Floats) -> Floats:
        """x, x', loads, 1, given forces, and slopes."""
        z = np.zeros(flow.size)
        n = flow.n
        z[:n], z[n : 2 * n], z[2 * n : 2 * n + flow.loads], z[flow.one] = self.x, self.v, w, 1.0
        for column, (j, k) in enumerate(flow.given):
            z[flow.f + column] = self.rubbing[j, k]
        z[flow.rates : flow.rates + flow.loads] = rate
        return z

    def keep(self, z: Floats) -> None:
        """Take over what a state says."""
        n = self.flow.n
        self.x, self.v = z[:n].copy(), z[n : 2 * n].copy()
        for column, (j, k) in enumerate(self.flow.given):
            self.rubbing[j, k] = z[self.flow.f + column]

    def note(self, t: float, z: Floats) -> None:
        """A row."""
        self.rows.append((t, z, (self.lost, self.kicked, self.relaxed), self.flow))
        closing, force = self.flow.closing @ z, self.flow.force @ z
        self.longest = max(self.longest, float(np.abs(closing).max(initial=0.0)))
        self.strongest = max(self.strongest, float(np.abs(force).max(initial=0.0)))
        n = self.few.count
        self.fastest = max(self.fastest, float(np.abs(self.few.directions @ z[n : 2 * n]).max(initial=0.0)))

    def given(self, z: Floats, ways: Floats) -> Floats:
        """What sliding friction (against `ways`) and laws are in a state, (given,)."""
        flow, few = self.flow, self.few
        result = np.zeros(len(flow.given))
        for column, (j, k) in enumerate(flow.given):
            own = few.members[j]
            if own.smooth:
                assert own.law is not None
                result[column] = own.law.force(own.start + float(flow.closing[j] @ z)) - own.force
            else:
                result[column] = -own.friction * max(float(flow.force[j] @ z), 0.0) * ways[j, k]
        return result

    def ways(self, z: Floats, later: float = 0.0) -> Floats:
        """Directions in which feet slide, as far as their present acceleration tells a time later, (members, 2)."""
        found = self.way
        n = self.few.count
        for j in {j for j, _ in self.flow.given if self.key[j] == SLIDING and len(self.few.members[j].across) > 1}:
            across = self.few.members[j].across
            slip = across @ (z[n : 2 * n] + later * (self.flow.accelerated @ z))
            speed = float(np.linalg.norm(slip))
            if speed > 1e-9 * self.fastest and float(slip @ self.way[j]) > 0.0:
                found = found.copy() if found is self.way else found
                found[j] = slip / speed
        return found

    def to(self, z: Floats, h: float) -> Floats:
        """The state a time later, with given forces that agree at its end."""
        flow = self.flow
        if not flow.given:
            return flow.to(z, h)
        f, rates, count = flow.f, flow.rates + flow.loads, len(flow.given)
        unit = np.zeros((flow.size, count))
        unit[rates:] = np.eye(count)
        unit = flow.to(unit, h)  # what a unit slope of each makes by the end
        z = z.copy()
        ways = self.ways(z, h)
        z[rates:] = (self.given(z, ways) - z[f : f + count]) / h
        end = flow.to(z, h)
        for _ in range(_ITERATIONS):
            wanted = self.given(end, ways)
            off, size = wanted - end[f : f + count], max(self.strongest, float(np.abs(wanted).max()))
            if float(np.abs(off).max()) <= _AGREED * size:
                return end
            step = np.linalg.lstsq(unit[f : f + count] - self._given_by(end, unit, ways), off, rcond=1e-14)[0]
            z[rates:] += step
            end = flow.to(z, h)
        if float(np.abs(off).max()) > 1e-7 * size:
            raise EventError(
                "sliding friction and the normal force do not settle: the coefficient is too large for how the members "
                "push one another"
            )
        return end

    def _given_by(self, z: Floats, by: Floats, ways: Floats) -> Floats:
        """How sliding friction and laws change with a change of the state, (given, changes)."""
        flow, few = self.flow, self.few
        result = np.zeros((len(flow.given), by.shape[1]))
        for column, (j, k) in enumerate(flow.given):
            own = few.members[j]
            if own.smooth:
                assert own.law is not None
                result[column] = own.law.slope(own.start + float(flow.closing[j] @ z)) * (flow.closing[j] @ by)
            elif float(flow.force[j] @ z) > 0.0:
                result[column] = -own.friction * ways[j, k] * (flow.force[j] @ by)
        return result

    # -- what ends a pattern ------------------------------------------------------------------------------------

    def margins(self, z: Floats) -> tuple[Floats, list[Margin], Floats]:
        """What must not fall below zero, of what, and what of each is rounding; z may hold terms, (terms, size)."""
        flow = self.flow
        near, weak = LENGTH * self.longest, FORCE * self.strongest
        values, what = flow.margins @ z.T, flow.what
        noise = np.maximum(flow.lengths * near, flow.forces * weak)
        if flow.beside:
            more = [one for j in flow.beside for one in self._beside(j, np.atleast_2d(z), near, weak)]
            added = np.array([row for row, _, _ in more])
            values = np.concatenate([values, added if z.ndim == 2 else added[:, 0]])
            what = [*what, *(w for _, w, _ in more)]
            noise = np.concatenate([noise, [n for _, _, n in more]])
        return values, what, noise

    def _beside(self, j: int, terms: Floats, near: float, weak: float) -> list[tuple[Floats, Margin, float]]:
        """Margins that are no rows on z: of friction, and of members that a damper lets go."""
        flow, own = self.flow, self.few.members[j]
        if self.key[j] == OPEN:
            ahead = -(terms @ flow.closing[j])
            ahead[0] += own.gap
            if ahead[0] >= -near:
                return [(ahead, (j, "touch", 0), near)]
            pulls = own.stiffness * ahead - own.damping * (terms @ flow.speed[j])
            return [(pulls, (j, "touch", 0), max(weak, 10.0 * own.stiffness * near))]
        count = len(own.across)
        if self.key[j] == SLIDING:
            along = (terms @ flow.slipping[j, :count].T) @ self.way[j, :count]
            return [(along, (j, "stop", 0), 1e-9 * self.fastest)]
        rub = terms @ flow.rub[j, :count].T
        ends = rub.sum(axis=0)  # of series: along what it is at the end of so short a step
        unit = ends / max(float(np.linalg.norm(ends)), 1e-300)
        return [(own.friction * (terms @ flow.force[j]) - rub @ unit, (j, "slide", 0), _STICKS * self.strongest)]

    def advance(self, t: float, z: Floats, h: float) -> tuple[float, Floats, list[Margin]]:
        """To the end of a step, or to the first instant at which something ends: when, state, and what ends."""
        flow = self.flow
        done, part = 0.0, h
        if flow.ringing > 0.0:
            part = h / 2 ** max(0, int(np.ceil(np.log2(max(flow.ringing * h / 0.7, 1.0)))))
        whole = part
        m0, _, noise = self.margins(z)
        d0 = self._slopes(z)
        while done < h * (1.0 - 1e-12):
            part = min(part, h - done)
            z1 = self.to(z, part)
            m1, what, noise = self.margins(z1)
            d1 = self._slopes(z1)
            doubt = ((m1 < -noise) & ((d1 < 0.0) | (m1 < -1e3 * noise))) | dips(m0, m1, d0, d1, part, noise)
            if not doubt.any():
                self.way = self.ways(z1)
                z, m0, d0, done, part = z1, m1, d1, done + part, min(2.0 * part, whole)
                continue
            if flow.fastest * part > FINE and part > 1e-9 * whole:
                part /= 2.0
                continue
            at = self._first_root(z, z1, part, noise)
            if at is None:
                if (m1 < -1e3 * noise).any():
                    part /= 2.0
                    if part > 1e-13 * whole:
                        continue
                    return t + done, z, [w for w, m, n in zip(what, m1, noise, strict=True) if m < -n]
                z, m0, d0, done = z1, m1, d1, done + part
                continue
            tau, ends = at
            return t + done + tau, self.to(z, tau) if tau > 0.0 else z, ends
        return t + h, z, []

    def _slopes(self, z: Floats) -> Floats:
        rate = self.flow.A @ z
        if not self.flow.beside:
            return np.asarray(self.flow.margins @ rate)
        return np.asarray(self.margins(np.vstack([z, rate]))[0][:, 1])

    def _first_root(self, z: Floats, z1: Floats, h: float, noise: Floats) -> tuple[float, list[Margin]] | None:
        """First instant within a short step at which a margin falls below zero, and of which members."""
        flow = self.flow
        start = z
        if flow.given:
            start = z.copy()
            f, rates = flow.f, flow.rates + flow.loads
            count = len(flow.given)
            start[rates:] = (z1[f : f + count] - z[f : f + count]) / h
        table, what, _ = self.margins(flow.series(start, h))
        found: list[tuple[float, int]] = []
        share = np.linspace(0.0, 1.0, 17)
        powers = share[:, None] ** np.arange(table.shape[1])
        for i, row in enumerate(table):
            values = powers @ row
            below = np.flatnonzero(values < -noise[i])
            if not len(below):
                slopes = np.polynomial.polynomial.polyder(row)
                v = powers[:, :-1] @ slopes
                for k in np.flatnonzero((v[:-1] < 0) & (v[1:] > 0)):  # a dip between
                    s = root(slopes, share[k], share[k + 1], rising=True)
                    if np.polynomial.polynomial.polyval(s, row) < -noise[i]:
                        found.append((root(row, share[k], s, rising=False), i))
                        break
                continue
            at = int(below[0])
            found.append((first_below(row, share, at), i))
        if not found:
            return None
        first = min(s for s, _ in found)
        return first * h, [what[i] for s, i in found if s <= first + 1e-9]

    # -- changes --------------------------------------------------------------------------------------------------

    def change(self, t: float, w: Floats, rate: Floats, ends: list[Margin]) -> None:
        """A new pattern from what ends: members that touch are hit, others let go, stick or slide."""
        z = self.state(self.flow, w, rate)
        touching = [j for j, what, _ in ends if what == "touch" and self.few.members[j].rigid]
        key = list(self.key)
        for end in ends:
            if end[0] not in touching:
                self.turn(t, key, end, z)
        self.set_pattern(key)
        if touching:
            self.hit(t, touching)
        self.settle(t, w, rate)

    def turn(self, t: float, key: list[int], end: Margin, z: Floats) -> None:
        """What becomes of a member whose status ends, but for a rigid one that touches (`hit`)."""
        j, what, sense = end
        own = self.few.members[j]
        if what == "piece":
            key[j] += sense
            own.refuse_beyond(key[j])
            self.changes.append(Change(t, j, "next piece"))
        elif what == "touch":
            self.spring(t, key, j, CLOSED)
        elif what == "open":
            if own.rigid:
                self.place([j])
            self.spring(t, key, j, OPEN)
        elif what == "slide":
            rub = self.flow.rub[j, : len(own.across)] @ z
            self.slide(t, key, j, -rub, rub)
        else:
            key[j] = CLOSED
            self.changes.append(Change(t, j, "sticks"))

    def spring(self, t: float, key: list[int], j: int, status: int) -> None:
        """A member opens, or one that yields touches."""
        own = self.few.members[j]
        key[j] = status
        if own.damping and not own.rigid:  # let go while pressed, its damper takes what is in it
            held = 0.5 * own.stiffness * max(float(own.row @ self.x) - own.gap, 0.0) ** 2
            self.relaxed += held if status == OPEN else -held
        speed = float(own.row @ self.v) if status == CLOSED else 0.0
        self.changes.append(Change(t, j, "opens" if status == OPEN else "touches", speed))

    def slide(self, t: float, key: list[int], j: int, way: Floats, rub: Floats) -> None:
        """A foot begins to slide, or turns."""
        key[j] = SLIDING
        self.way[j] = 0.0
        self.way[j, : len(way)] = way / max(float(np.linalg.norm(way)), 1e-300)
        self.rubbing[j] = 0.0
        self.rubbing[j, : len(rub)] = rub
        before = self.changes[-1] if self.changes else None
        if before is not None and before.time == t and before.member == j and before.what == "sticks":
            self.changes.pop()  # it only turns
            return
        self.changes.append(Change(t, j, "slides"))

    def set_pattern(self, key: list[int]) -> None:
        self.key = tuple(key)
        self.flow = self.few.flow(self.key)

    def place(self, members: list[int]) -> None:
        """Put rigid members that touch where they touch, which rounding has moved a little."""
        few = self.few
        rows = few.rows[members]
        off = rows @ self.x - [few.members[j].gap for j in members]
        if len(members):
            back = few.inverse @ rows.T
            self.x = self.x - back @ np.linalg.lstsq(rows @ back, off, rcond=1e-13)[0]

    def hit(self, t: float, touching: list[int]) -> None:
        """Impulses of everything rigid that touches, where something comes in."""
        few = self.few
        closed = [j for j, m in enumerate(few.members) if m.rigid and self.key[j] != OPEN]
        every = sorted({*closed, *touching})
        self.place(every)
        speeds = few.rows[every] @ self.v
        self.fastest = max(self.fastest, float(np.abs(few.directions @ self.v).max(initial=0.0)))
        e = np.array([few.members[j].restitution for j in every])
        e = np.where(e * speeds <= LANDED * self.fastest, 0.0, e)
        before = 0.5 * float(self.v @ few.mass @ self.v)
        v, impulse = impulses(few, every, self.v, e)
        self.v = v
        gone = max(before - 0.5 * float(v @ few.mass @ v), 0.0)
        self.lost += gone
        key = list(self.key)
        for j, push, speed, rebound in zip(every, impulse, speeds, few.rows[every] @ v, strict=True):
            own, was = few.members[j], key[j]
            flies = float(rebound) < -1e-9 * self.fastest
            if j in touching:
                self.changes.append(Change(t, j, "touches", float(speed), float(push), gone))
                gone = 0.0
            key[j] = OPEN if flies else CLOSED
            if flies and (was != OPEN or j in touching):
                self.changes.append(Change(t, j, "opens"))
            if not flies and own.rough:
                slip = own.across @ v
                if float(np.linalg.norm(slip)) > 1e-9 * self.fastest:
                    if was == SLIDING and float(slip @ self.way[j, : len(slip)]) > 0.0:
                        key[j] = SLIDING
                    else:
                        self.slide(t, key, j, slip, np.zeros(len(slip)))
        self.set_pattern(key)

    def settle(self, t: float, w: Floats, rate: Floats) -> None:
        """Change what would let go, slide or close at once at this instant, the worst first, until nothing would."""
        few = self.few
        for _ in range(8 * len(few.members) + 20):
            z = self._agreed(w, rate)
            m, what, noise = self.margins(z)
            rates = np.vstack([z, self.flow.A @ z, self.flow.A @ (self.flow.A @ z)])
            _, d, dd = self.margins(rates)[0].T
            slow = 1e-9 * self.fastest
            near = np.array([kind == "touch" for _, kind, _ in what], dtype=bool)
            at = m <= noise
            wrong = (m < -noise) | (
                at & np.where(near, (d < -slow) | ((d <= slow) & (dd < -self.nudge * self.strongest)), d < 0.0)
            )
            wrong &= np.array([kind not in ("stop", "slide") for _, kind, _ in what], dtype=bool) | (m < -noise)
            if not wrong.any():
                return
            worst = int(np.argmin(np.where(wrong, m / noise - at, np.inf)))
            j, kind, _ = what[worst]
            if kind == "touch" and few.members[j].rigid:
                self.hit(t, [j])
                continue
            key = list(self.key)
            self.turn(t, key, what[worst], z)
            self.set_pattern(key)
        raise EventError(f"at {t:.6g} s no pattern of what touches and what is open settles: {self.restless(20)}")

    def restless(self, last: int) -> str:
        """Names of members that took part in the last changes."""
        return first_few(dict.fromkeys(self.few.members[c.member].name for c in self.changes[-last:]), 6)

    def _agreed(self, w: Floats, rate: Floats) -> Floats:
        """The state at this instant with given forces that agree with it."""
        z = self.state(self.flow, w, rate)
        if self.flow.given:
            f, count = self.flow.f, len(self.flow.given)
            unit = np.zeros((self.flow.size, count))
            unit[f : f + count] = np.eye(count)
            for _ in range(_ITERATIONS):
                off = self.given(z, self.way) - z[f : f + count]
                if float(np.abs(off).max()) <= _AGREED * self.strongest:
                    break
                z[f : f + count] += np.linalg.lstsq(
                    np.eye(count) - self._given_by(z, unit, self.way), off, rcond=1e-14
                )[0]
            for column, (j, k) in enumerate(self.flow.given):
                self.rubbing[j, k] = z[f + column]
        return z

    # -- the whole ------------------------------------------------------------------------------------------------

    def run(self) -> Run:
        """Every row, and every instant at which something changes, twice."""
        self.kick(0)
        self.begin(0)
        for i in range(len(self.time) - 1):
            if i % 500 == 0:
                tell("following what lets go and hits", i, len(self.time), "rows")
            self._step(i)
            if self.kick(i + 1):
                self.begin(i + 1)
        return self._collected()

    def begin(self, i: int) -> None:
        """A row at which loads begin anew: what acts then."""
        t, w, none = float(self.time[i]), self.load[i], np.zeros(self.load.shape[1])
        self.settle(t, w, none)
        self.note(t, self._agreed(w, none))

    def kick(self, i: int) -> bool:
        """What loads that act in no time at a row do."""
        if self.jumps is None or not self.jumps[i].any():
            return False
        few = self.few
        before = 0.5 * float(self.v @ few.mass @ self.v)
        self.v = self.v + few.inverse @ (few.weights @ self.jumps[i])
        self.kicked += 0.5 * float(self.v @ few.mass @ self.v) - before
        if any(m.rigid and self.key[j] != OPEN for j, m in enumerate(few.members)):
            self.hit(float(self.time[i]), [])
        return True

    def _step(self, i: int) -> None:
        t, end = float(self.time[i]), float(self.time[i + 1])
        w, h = self.load[i], end - t
        if h <= 0.0:  # the load jumps
            if (self.load[i + 1] != w).any():
                self.begin(i + 1)
            return
        rate = (self.load[i + 1] - w) / h
        crowd, since = 0, t
        parts = self.finer * (4 if self.flow.given else 1)
        while t < end:
            z = self._agreed(w, rate)
            part = min(h / parts, end - t)
            if end - t - part < 1e-9 * h:
                part = end - t
            now, z1, ends = self.advance(t, z, part)
            if now > t and (ends or since > float(self.time[i])):
                self._between(t, z, now - t)
            t = end if not ends and part == end - t else now
            w = self.load[i] + rate * (t - float(self.time[i])) if t < end else self.load[i + 1]
            self.keep(z1)
            if ends or t >= end:
                self.note(t, self._agreed(w, rate))
            if ends:
                self.change(t, w, rate, ends)
                self.note(t, self._agreed(w, rate))
                since, crowd = t, crowd + 1
                if crowd > CROWD:
                    raise EventError(
                        f"chatter at {t:.6g} s: more than {CROWD} changes within {1e3 * h:.3g} ms, of "
                        f"{self.restless(50)}; give them a stiffness or damping, or keep fewer modes"
                    )

    def _between(self, t: float, z: Floats, h: float) -> None:
        """Rows within a step in which something has changed."""
        for k in range(1, _WITHIN):
            self.note(t + h * k / _WITHIN, self.to(z, h * k / _WITHIN))

    def _collected(self) -> Run:
        few, rows = self.few, self.rows
        n, m = few.count, len(few.members)
        count = len(rows)
        a, x, v = (np.empty((count, n)) for _ in range(3))
        load = np.empty((count, few.weights.shape[1]))
        closing, force, force_rate = (np.empty((count, m)) for _ in range(3))
        slip, rub = np.empty((count, m, 2)), np.empty((count, m, 2))
        status = np.empty((count, m), dtype=np.int8)
        for i, (_, z, _, flow) in enumerate(rows):
            x[i], v[i], a[i] = z[:n], z[n : 2 * n], flow.accelerated @ z
            load[i] = z[2 * n : 2 * n + flow.loads]
            closing[i], force[i] = flow.closing @ z, flow.force @ z
            force_rate[i] = flow.force @ (flow.A @ z)
            slip[i], rub[i] = flow.slip @ z, flow.rub @ z
            status[i] = flow.key
        speed = v @ few.rows.T
        for j, own in enumerate(few.members):
            if own.law is not None and own.smooth:  # rows do not hold how fast it changes
                force_rate[:, j] = [own.law.slope(own.start + p) for p in closing[:, j]] * speed[:, j]
        time = np.array([r[0] for r in rows])
        lost, kicked, relaxed = np.array([r[2] for r in rows]).T
        work = few_energies(few, time, load, x, v, a, closing, slip, status, rub)
        work["lost"], work["input"], work["damped"] = lost, work["input"] + kicked, work["damped"] + relaxed
        return Run(time, load, x, v, a, closing, speed, a @ few.rows.T, force, force_rate, slip, rub, status,
                   self.changes, work)  # fmt: skip
