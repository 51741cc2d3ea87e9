"""Steady periodic motion of a few coordinates with members that let go, hit and slide: harmonic balance.

    M x'' + C x' + (K + i L) x = p cos ωt - Σ b (F - F0) + Σ a (f - f0)

Motion and forces of the members are Fourier series over one cycle; the forces are found in time and taken back
(Cameron and Griffin, Journal of Applied Mechanics 56 (1989) 149-154). What is solved for are the members' forces
beside those of the assembly about its state, so that nothing else grows with the coordinates. Rigid members and
friction hold by projections of their forces (dynamic Lagrangian: Nacivet and others, Journal of Sound and Vibration 265
(2003) 201-219, with the projections of Alart and Curnier, 1991). Branches are followed by arc length through turns
(Seydel, *Practical Bifurcation and Stability Analysis*, 2010).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from holokine.respond.contacts import CLOSED, OPEN, Few, Member
from holokine.respond.series import Cycle, Linear

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats

__all__ = ["Balance", "Point", "Unbalanced", "scaled"]

_NEWTON = 25
_HALVINGS = 6
_AGREED = 1e-10  # of the largest force
_TOUCHES = 1e-9  # of a place: so near to the gap what begins there touches
_MEAN = 1e-7  # by which a mean that friction leaves open is drawn to what it is at the start

_Slope = tuple[int, int, str, "Floats"]
"""Whose force, on which direction it depends, on what of it (place x, speed v, w = v / ω, force u), and how."""


class Unbalanced(Exception):  # noqa: N818 - no error for users: the step is tried smaller
    """No forces were found with which everything agrees."""


@dataclass(frozen=True, eq=False)
class Point:
    """One steady motion.

    Attributes
    ----------
    omega : float
        rad/s.
    force : ndarray, shape (directions, 1 + 2 harmonics)
        Forces of the members beside those about the state, N: mean, real and imaginary parts.
    place : ndarray, shape (directions, 1 + 2 harmonics)
        Closing and slip, m.
    turn : ndarray, shape (directions x coefficients + 1,)
        How forces, and last the frequency, change along the branch.
    """

    omega: float
    force: Floats
    place: Floats
    turn: Floats

    @property
    def harmonics(self) -> int:
        """How many."""
        return self.force.shape[1] // 2


def scaled(turn: Floats, size: float, width: float) -> Floats:
    """A direction of length 1 where forces have a scale in N, and the frequency one in rad/s."""
    way = np.append(turn[:-1] / size, turn[-1] / width)
    return np.asarray(way / np.linalg.norm(way))


class Balance:
    """Few coordinates with their members, and so many harmonics.

    Parameters
    ----------
    few : Few
    loss : ndarray, shape (coordinates, coordinates)
        L.
    push : callable
        Complex amplitude of the force on the coordinates at an angular frequency, shape (coordinates,).
    harmonics : int
    middle : float
        Angular frequency in rad/s about which it is looked at.

    Attributes
    ----------
    rows : ndarray, shape (directions, coordinates)
        Closing of every member, followed by its directions of slip where it rubs.
    normal : list of int
        Direction of every member's closing.
    cycle : Cycle
    still : float
        Largest force at the start, N.
    """

    def __init__(self, few: Few, loss: Floats, push: Callable[[float], Complex], harmonics: int, middle: float) -> None:
        self.few, self.L, self.push, self.harmonics, self.middle = few, loss, push, harmonics, middle
        self.normal: list[int] = []
        self.across: list[list[int]] = []
        rows: list[Floats] = []
        for m in few.members:
            self.normal.append(len(rows))
            rows.append(m.row)
            self.across.append([])
            if m.rough:
                for a in m.across:
                    self.across[-1].append(len(rows))
                    rows.append(a)
        self.rows = B = np.array(rows)
        K, M = few.stiffness, few.mass
        yields = np.linalg.solve(K + middle**2 * M, B.T)
        self.stiff = 1.0 / np.einsum("dn,nd->d", B, yields)  # about what a direction yields by
        self.kappa, self.damper = np.zeros((2, len(B)))
        for j, m in enumerate(few.members):
            d = self.normal[j]
            if m.law is not None:
                self.kappa[d] = m.law.polynomial(m.start)[1] if m.smooth else m.law.piece(m.at_start)[0]
            elif m.rigid:
                own = [d, *self.across[j]]
                self.kappa[own], self.damper[own] = self.stiff[own], self.stiff[own] / middle
            elif m.at_start == CLOSED:
                self.kappa[d], self.damper[d] = m.stiffness, m.damping
        self.K = K + (B.T * self.kappa) @ B
        self.C = few.damping + (B.T * self.damper) @ B
        self.cycle = Cycle(harmonics)
        self.still = max([abs(m.force) for m in few.members], default=0.0)
        self._last: tuple[float, Linear] | None = None

    @property
    def shape(self) -> tuple[int, int]:
        """Of coefficients: directions, and 1 + 2 harmonics."""
        return len(self.rows), 2 * self.harmonics + 1

    def linear(self, omega: float) -> Linear:
        """The assembly about its state at this frequency."""
        if self._last is None or self._last[0] != omega:
            step = 1e-6 * omega
            rate = (self.push(omega + step) - self.push(omega - step)) / (2.0 * step)
            parts = (self.few.mass, self.C, self.K, self.L)
            self._last = omega, Linear(parts, self.rows, self.harmonics, omega, self.push(omega), rate)
        return self._last[1]

    # -- members ------------------------------------------------------------------------------------------------------

    def pieces(self, j: int, place: Floats, omega: float) -> list[tuple[float, float, int]]:
        """What of a member that yields acts over the cycle: from which angle to which, open, closed or which piece."""
        m, x = self.few.members[j], place[self.normal[j]]
        constant = np.zeros(len(x))
        constant[0] = 1.0
        if m.law is not None:
            margins = np.array([x + (m.start - row) * constant for row in m.law.rows[:, 0]])
        else:
            margins = (x - m.gap * constant)[None]
            if m.damping:
                margins = np.vstack([margins, m.stiffness * margins + m.damping * omega * (self.cycle.D @ x)])
        ends = self.cycle.breaks(margins)
        signs = self.cycle.values(margins, (ends[1:] + ends[:-1]) / 2.0) > 0.0
        state = signs.sum(axis=0) if m.law is not None else signs.all(axis=0).astype(int)
        found: list[tuple[float, float, int]] = []
        for a, b, what in zip(ends[:-1], ends[1:], state.tolist(), strict=True):
            if found and found[-1][2] == what:
                found[-1] = (found[-1][0], float(b), what)
            else:
                found.append((float(a), float(b), what))
        return found

    def comes_in(self, j: int, place: Floats, angle: float) -> bool:
        """Whether a member touches there and its damper's force is there at once."""
        m, x = self.few.members[j], place[self.normal[j]]
        ahead = float(self.cycle.values(x, np.array([angle]))[0]) - m.gap
        return m.law is None and m.damping > 0.0 and abs(ahead) <= _TOUCHES * float(np.abs(x).sum())

    def acts(self, force: Floats, place: Floats, omega: float) -> tuple[Floats, list[_Slope]]:
        """Forces beside those about the state, (directions, coefficients), and what they depend on."""
        found = np.zeros_like(place)
        slopes: list[_Slope] = []
        for j, m in enumerate(self.few.members):
            d = self.normal[j]
            x = place[d]
            if m.rigid:
                self._rigid(j, force, place, omega, found, slopes)
            elif m.smooth:
                assert m.law is not None
                F, k = m.law.polynomial(m.start + x @ self.cycle.V.T)
                found[d] = self.cycle.W @ F - self.kappa[d] * x
                slopes.append((d, d, "x", (self.cycle.W * (k - self.kappa[d])) @ self.cycle.V))
                found[d, 0] -= m.force
            else:
                self._yields(j, place, omega, found, slopes)
        return found, slopes

    def _yields(self, j: int, place: Floats, omega: float, found: Floats, slopes: list[_Slope]) -> None:
        m, d = self.few.members[j], self.normal[j]
        x, speed = place[d], omega * (self.cycle.D @ place[d])
        parts: dict[int, list[tuple[float, float]]] = {}
        for a, b, what in self.pieces(j, place, omega):
            parts.setdefault(what, []).append((a, b))
        whole = np.zeros((len(x), len(x)))
        dampers = np.zeros_like(whole)
        found[d] = -self.kappa[d] * x - self.damper[d] * speed
        found[d, 0] -= m.force
        for what, ends in parts.items():
            if m.law is None and what == OPEN:
                continue
            E = self.cycle.over(ends)
            if m.law is not None:
                k, at_zero, _, _ = m.law.piece(what)
                constant = k * m.start + at_zero
            else:
                k, constant = m.stiffness, -m.stiffness * m.gap
                dampers += m.damping * E
                found[d] += m.damping * (E @ speed)
                for a, _ in ends:
                    if self.comes_in(j, place, a):
                        # the damper comes in at once: the instant moves with what closes
                        v = self.cycle.basis(np.array([a]))[0]
                        left = v / np.pi
                        left[0] /= 2.0
                        whole += m.damping * omega * np.outer(left, v)
            whole += k * E
            found[d] += E @ (k * x) + constant * E[:, 0]
        eye = np.eye(len(x))
        slopes.append((d, d, "x", whole - self.kappa[d] * eye))
        if m.damping or self.damper[d]:
            slopes.append((d, d, "v", dampers - self.damper[d] * eye))

    def _rigid(self, j: int, force: Floats, place: Floats, omega: float, found: Floats, slopes: list[_Slope]) -> None:
        m, d = self.few.members[j], self.normal[j]
        own = self.across[j]
        every = [d, *own]
        base = self.kappa[every, None] * place[every] + omega * self.damper[every, None] * (
            place[every] @ self.cycle.D.T
        )
        whole = force[every] + base  # their forces beside the start
        eps, tau = self.stiff[d], self.stiff[own]
        tried = whole[0] + eps * place[d]
        tried[0] += m.force - eps * m.gap
        at = whole[1:] + tau[:, None] * (place[own] @ self.cycle.D.T)
        at[:, 0] -= m.across_force[: len(own)]
        # of each: on what it depends beside its force
        of_tried = [(d, "x", self.kappa[d] + eps), (d, "v", self.damper[d])]
        of_at = [[(a, "x", self.kappa[a]), (a, "v", self.damper[a]), (a, "w", self.stiff[a])] for a in own]

        def depends(i: int, k: int, E: Floats) -> None:
            slopes.append((i, every[k], "u", E))
            slopes.extend((i, b, of, by * E) for b, of, by in (of_tried if k == 0 else of_at[k - 1]))

        if len(own) < 2:  # pieces of series: exact
            margins = np.array([tried, *([at[0] - m.friction * tried, at[0] + m.friction * tried] if own else [])])
            ends = self.cycle.breaks(margins)
            signs = (self.cycle.values(margins, (ends[1:] + ends[:-1]) / 2.0) > 0.0).T
            spans = list(zip(ends[:-1].tolist(), ends[1:].tolist(), strict=True))
            on = self.cycle.over([s for s, g in zip(spans, signs, strict=True) if g[0]])
            found[d] = on @ tried
            depends(d, 0, on)
            if own:
                sticks = self.cycle.over([s for s, g in zip(spans, signs, strict=True) if g[0] and not g[1] and g[2]])
                forth = self.cycle.over([s for s, g in zip(spans, signs, strict=True) if g[0] and g[1]])
                back = self.cycle.over([s for s, g in zip(spans, signs, strict=True) if g[0] and not g[2]])
                slides = m.friction * (forth - back)
                found[own[0]] = sticks @ at[0] + slides @ tried
                depends(own[0], 0, slides)
                depends(own[0], 1, sticks)
        else:
            self._two_ways(m, tried, at, every, found, depends)
        found[every] -= base
        found[d, 0] -= m.force
        found[own, 0] += m.across_force[: len(own)]
        eye = np.eye(len(tried))
        for i in every:
            slopes += [(i, i, "x", -self.kappa[i] * eye), (i, i, "v", -self.damper[i] * eye)]

    def _two_ways(
        self, m: Member, tried: Floats, at: Floats, every: list[int], found: Floats,
        depends: Callable[[int, int, Floats], None],
    ) -> None:  # fmt: skip
        """Friction in a plane, at samples of the cycle."""
        normal, t = tried @ self.cycle.V.T, at @ self.cycle.V.T
        on = normal > 0.0
        bound = m.friction * np.where(on, normal, 0.0)
        size = np.linalg.norm(t, axis=0)
        slides = size > bound
        safe = np.where(slides, size, 1.0)
        share = np.where(slides, bound / safe, 1.0)
        way = np.where(slides, t / safe, 0.0)
        found[every[0]] = self.cycle.W @ np.where(on, normal, 0.0)
        depends(every[0], 0, (self.cycle.W * on) @ self.cycle.V)
        for k, a in enumerate(every[1:]):
            found[a] = self.cycle.W @ (share * t[k])
            depends(a, 0, (self.cycle.W * (way[k] * m.friction * on)) @ self.cycle.V)
            for i in range(len(every) - 1):
                depends(a, i + 1, (self.cycle.W * (share * (float(i == k) - way[k] * way[i]))) @ self.cycle.V)

    # -- solving ------------------------------------------------------------------------------------------------------

    def residual(self, force: Floats, omega: float) -> tuple[Floats, Floats, Floats, Floats, list[_Slope]]:
        """By how much forces are off, how that changes with the frequency, places, their rates, slopes."""
        at = self.linear(omega)
        place, rate = at.at(force)
        found, slopes = self.acts(force, place, omega)
        off = force - found
        turned = np.zeros_like(off)
        rates = {"x": rate, "v": (place + omega * rate) @ self.cycle.D.T, "w": rate @ self.cycle.D.T}
        for i, d, of, E in slopes:
            if of != "u":
                turned[i] -= E @ rates[of][d]
        for own in self.across:
            off[own, 0] += _MEAN * force[own, 0]
        return off, turned, place, rate, slopes

    def jacobian(self, slopes: list[_Slope], omega: float) -> Floats:
        """How the residual changes with forces, (unknowns, unknowns)."""
        count, P = self.shape
        H = self.linear(omega).matrix().reshape(count, P, count * P)
        J = np.eye(count * P).reshape(count, P, count * P)
        whole: dict[tuple[int, int], Floats] = {}
        for i, d, of, E in slopes:
            if of == "u":
                J[i, :, d * P : (d + 1) * P] -= E
                continue
            if of != "x":
                E = (omega if of == "v" else 1.0) * E @ self.cycle.D
            if not E.any():
                continue
            whole[i, d] = whole[i, d] + E if (i, d) in whole else E
        for (i, d), E in whole.items():
            J[i] += E @ H[d]
        for own in self.across:
            for a in own:
                J[a, 0, a * P] += _MEAN
        return J.reshape(count * P, count * P)

    def solve(
        self, force: Floats, omega: float, turn: Floats | None = None, size: float = 1.0, width: float = 1.0
    ) -> tuple[Point, int]:
        """The steady motion next to a guess: at its frequency, or where a plane across `turn` meets the branch.

        Returns
        -------
        point : Point
        steps : int

        Raises
        ------
        Unbalanced
        """
        start, at, moved = force.ravel().copy(), omega, omega
        y = start.copy()
        before, way, shift, cut = np.inf, np.zeros(0), 0.0, 0
        for number in range(_NEWTON):
            off, turned, place, _, slopes = self.residual(y.reshape(self.shape), moved)
            reach = max(float(np.abs(y).max(initial=0.0)), self.still, 1e-300)
            plane = 0.0 if turn is None else float(turn[:-1] @ (y - start) / size + turn[-1] * (moved - at) / width)
            if float(np.abs(off).max()) <= _AGREED * max(reach, size) and abs(plane) < 1e-8:
                return self._with_turn(y, moved, place, turned, slopes, turn, size, width), number
            now = float(np.linalg.norm(off))
            if not np.isfinite(now) or now > 1e6 * max(reach, size):
                break
            if now > 2.0 * before and cut < _HALVINGS:  # the last correction went too far
                y, moved, cut = y - way / 2.0, moved - shift / 2.0, cut + 1
                way, shift = way / 2.0, shift / 2.0
                continue
            before, cut = now, 0
            J = self.jacobian(slopes, moved)
            if turn is None:
                way = _solved(J, -off.ravel())
                y = y + way
            else:
                both = _solved(J, np.column_stack([-off.ravel(), turned.ravel()]))
                a, b = both.T
                shift = float((-plane - turn[:-1] @ a / size) / (turn[-1] / width - turn[:-1] @ b / size))
                way = a - shift * b
                y, moved = y + way, moved + shift
                if not 0.2 * at < moved < 5.0 * at:
                    break
        raise Unbalanced

    def begin(self, omega: float) -> Point:
        """The steady motion at a frequency that grows out of rest with what pushes.

        Raises
        ------
        Unbalanced
        """
        push, force, share, step = self.push, np.zeros(self.shape), 0.0, 1.0
        while True:
            part = min(1.0, share + step)
            self.push, self._last = _part_of(push, part), None
            try:
                found, steps = self.solve(force, omega)
            except Unbalanced:
                step /= 2.0
                if step < 1e-3:
                    raise
                continue
            finally:
                self.push, self._last = push, None
            force, share = found.force, part
            if share >= 1.0:
                return found
            if steps < 6:
                step *= 2.0

    def _with_turn(
        self, y: Floats, omega: float, place: Floats, turned: Floats, slopes: list[_Slope], before: Floats | None,
        size: float, width: float,
    ) -> Point:  # fmt: skip
        try:
            way = np.append(-_solved(self.jacobian(slopes, omega), turned.ravel()), 1.0)
        except Unbalanced:
            way = np.append(np.zeros(len(y)), 1.0)
        if before is not None and float(scaled(way, size, width) @ before) < 0.0:
            way = -way
        return Point(omega, y.reshape(self.shape), place, way)

    def forces(self, point: Point) -> Floats:
        """Forces of members beside those at the start, N, (directions, coefficients); across the other way round."""
        base = self.kappa[:, None] * point.place
        return np.asarray(point.force + base + point.omega * self.damper[:, None] * (point.place @ self.cycle.D.T))

    def damper_force(self, j: int, place: Floats, omega: float) -> Floats:
        """Force of a one-way member's damper, N, (coefficients,)."""
        m = self.few.members[j]
        on = self.cycle.over([(a, b) for a, b, what in self.pieces(j, place, omega) if what == CLOSED])
        return np.asarray(m.damping * omega * (on @ (self.cycle.D @ place[self.normal[j]])))

    def coordinates(self, point: Point) -> Complex:
        """Complex amplitudes of the coordinates, (1 + harmonics, coordinates)."""
        return self.linear(point.omega).coordinates(point.force)

    def refuse_beyond(self, point: Point) -> None:
        """Stop where a spring leaves its table.

        Raises
        ------
        EventError
        """
        for j, m in enumerate(self.few.members):
            if m.law is not None and not m.smooth:
                for _, _, piece in self.pieces(j, point.place, point.omega):
                    m.refuse_beyond(piece)


def _part_of(push: Callable[[float], Complex], share: float) -> Callable[[float], Complex]:
    return lambda omega: np.asarray(share * push(omega))


def _solved(J: Floats, right: Floats) -> Floats:
    try:
        return np.linalg.solve(J, right)
    except np.linalg.LinAlgError:
        raise Unbalanced from None
