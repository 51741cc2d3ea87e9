"""Answering a sine sweep with what lets go, hits or slides: steady motions over frequency, and what sweeps see."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import EventError, first_few
from holokine.findings import Finding
from holokine.gauges.resting_gauges import LETS_GO
from holokine.progress import tell
from holokine.respond.bench import Bench, taken
from holokine.respond.branches import Branch, follow_branch, in_doubt, same_with, seen, stability, with_harmonics
from holokine.respond.contacts import CLOSED
from holokine.respond.curves import ranges
from holokine.respond.following import Following
from holokine.respond.meaning import PEAK, Meaning
from holokine.respond.periodic import Balance, Point, Unbalanced
from holokine.respond.periodic_reading import (
    LinearPoints,
    PeriodicPoints,
    SteadyPoints,
    cycle_extremes,
    places_reach,
    size_of,
)
from holokine.respond.reduced import ReducedModel, reading_noise, slight
from holokine.respond.resting import state_values
from holokine.respond.steady import steady_model

if TYPE_CHECKING:
    from collections.abc import Callable

    from numpy.typing import NDArray

    from holokine.arrays import Complex, Floats, Ints
    from holokine.describe.events import SweepEvent
    from holokine.excite.harmonic import Excitation
    from holokine.gauges.readings import Reading
    from holokine.respond.contacts import Member
    from holokine.respond.sweep import SweepResult
    from holokine.system.loads import LoadField

__all__ = ["PeriodicResult", "SweptJump", "answer_periodic"]

MOST = 120  # directions in which members act
_FIRST_HARMONICS, _MOST_HARMONICS = 5, 80
_FAR = 0.05  # from which on four times as many are taken next
_UNKNOWNS = 2600  # beyond which harmonics are not doubled any more
_SETTLED, _CLOSE = 2e-3, 5e-3  # by which places, and peaks, may differ with twice the harmonics
UNSETTLED = 0.02
_SILENT = 1e-8  # of the forces, below which nothing lets go, hits or slides
_DOUBTED = 12  # points at which peaks are checked with twice the harmonics
_FEWEST = 100  # points of a range


@dataclass(frozen=True)
class SweptJump:
    """Where a sweep leaves a branch.

    Attributes
    ----------
    upward : bool
        Of the sweep.
    frequency_hz : float
    leaves, reaches : int
        Points; reaches -1 where nothing stable is known.
    why : str
        ``runs back``, ``doubles``, ``wanders`` or ``turns``, see `Branch.lost`; ``lost``: nothing further was found.
    """

    upward: bool
    frequency_hz: float
    leaves: int
    reaches: int
    why: str


@dataclass(frozen=True, eq=False)
class PeriodicResult:
    """Answer to a sweep in which members let go, hit and slide.

    Attributes
    ----------
    reduced : ReducedModel
    name : str
    linear : SweepResult
        That holds them both ways.
    followed : tuple of Member
    points : SteadyPoints
        Steady motions of all branches, one branch after the other.
    branch : ndarray of int, shape (points,)
    lost : tuple of str
        Of every point why it is not stable; empty where it is.
    up, down : ndarray of bool, shape (points,)
        Whether a slow sweep sees it.
    jumps : tuple of SweptJump
    harmonics : int
    error : float
        By how much peaks differ with twice the harmonics, relative to them; 0 where nothing lets go.
    lows, highs : ndarray, shape (points, readings)
        Lowest and highest over the cycle at the place that governs, SI.
    peaks, lowest, highest : ndarray, shape (readings,)
        Over all that sweeps up and down see; the first with its sign.
    peak_frequencies : ndarray, shape (readings,)
        Hz.
    upward, downward : ndarray, shape (readings,)
        Largest size of a sweep up and of a sweep down.
    governing : ndarray of int, shape (readings,)
    places : tuple of str
    sampled_error : float
        Largest share by which the points miss a peak between them.
    acting : tuple of LoadField
    findings : tuple of Finding
    """

    reduced: ReducedModel
    name: str
    linear: SweepResult
    followed: tuple[Member, ...]
    points: SteadyPoints
    branch: Ints
    lost: tuple[str, ...]
    up: NDArray[np.bool_]
    down: NDArray[np.bool_]
    jumps: tuple[SweptJump, ...]
    error: float
    lows: Floats
    highs: Floats
    peaks: Floats
    lowest: Floats
    highest: Floats
    peak_frequencies: Floats
    upward: Floats
    downward: Floats
    governing: Ints
    places: tuple[str, ...]
    sampled_error: float
    acting: tuple[LoadField, ...]
    findings: tuple[Finding, ...]

    @property
    def meaning(self) -> Meaning:
        """Of `peaks`."""
        return PEAK

    @property
    def harmonics(self) -> int:
        """How many beside the mean."""
        return self.points.harmonics

    @property
    def frequency_hz(self) -> Floats:
        """Of the points, shape (points,)."""
        return np.asarray(self.points.omega / (2.0 * np.pi))

    @property
    def seen(self) -> Ints:
        """Points that a sweep sees."""
        return np.flatnonzero(self.up | self.down)

    @cached_property
    def noise(self) -> Floats:
        """What is rounding only in each reading, shape (readings,)."""
        return reading_noise(self.reduced.readings, np.abs(self.peaks))

    def sizes(self, reading: Reading) -> Floats:
        """Largest of a reading over cycles and all that sweeps see, at each of its places, shape (places,)."""
        return places_reach(self.points, self.points.at(self.seen), reading, every=True)[1]

    def size_curve(self, number: int) -> Floats:
        """Largest size of a reading over the cycle at every point."""
        return size_of(self.reduced.readings[number], self.lows[:, number], self.highs[:, number])

    @cached_property
    def changed(self) -> Floats:
        """By how much each reading differs from the linear answer somewhere that sweeps see, of its largest; 0 for
        shares of resting forces."""
        f, order = self.frequency_hz[self.seen], np.argsort(self.linear.frequency_hz, kind="stable")
        found = np.zeros(len(self.peaks))
        for n, reading in enumerate(self.reduced.readings):
            if reading.component == LETS_GO:
                continue
            plain = np.interp(f, self.linear.frequency_hz[order], self.linear.curve(n)[order])
            off = np.abs(self.size_curve(n)[self.seen] - plain).max(initial=0.0)
            found[n] = off / abs(self.peaks[n]) if abs(self.peaks[n]) > self.noise[n] else 0.0
        return found

    def columns(self, number: int) -> Ints:
        """Channels of a reading; of a field those of the place that governs."""
        return np.array(self.reduced.readings[number].at(int(self.governing[number])))

    def series(self, number: int, point: int) -> Complex:
        """Complex amplitudes of a reading's channels at a point, the mean first, (1 + harmonics, width)."""
        return np.asarray(self.points.series(self.points.at(np.array([point])), self.columns(number))[0])

    def peak_point(self, number: int) -> int:
        """The point that a sweep sees at which a reading is largest."""
        return int(self.seen[int(self.size_curve(number)[self.seen].argmax())])


@dataclass
class _Traced:
    """Branches of every range of a sweep, and what sweeps see of them."""

    balance: Balance
    branches: list[list[Branch]]
    error: float


def answer_periodic(
    bench: Bench, name: str, event: SweepEvent, linear: SweepResult, excitation: Excitation, extra: list[LoadField]
) -> PeriodicResult:
    """The answer with what lets go, hits or slides; `linear`: the answer that holds it both ways.

    Raises
    ------
    EventError
        Nothing acts one way; restitution; too many directions; no steady motion is found; a table that is left.
    """
    base = taken(bench, event)
    own = Following(bench, name, base, extra, MOST)
    bounces = next((p.member.name for p in own.places if p.member.restitution), None)
    if bounces is not None:
        raise EventError(
            f'event "{name}": follow: "{bounces}" rebounds by a restitution, which acts in time only; give it a '
            "stiffness (and a damper) in its place, or follow a pulse in time", path=("events", name),
        )  # fmt: skip
    model = steady_model(bench, own.reduced(), lambda: own.fields, event.damping, own.pushes)
    few = own.few(model.shapes, model.reduced.omega, model.own)
    V = own.coordinates(model.shapes)
    loss = np.zeros((few.count, few.count)) if model.loss is None else np.asarray(V @ (model.loss @ V.T))
    names = tuple(f.name for f in own.loads)
    low, high = float(linear.frequency_hz.min()), float(linear.frequency_hz.max())

    def acting(omega: float) -> Complex:
        f = min(max(omega / (2.0 * np.pi), low), high)
        return np.asarray(excitation.at(np.array([f]), names)[0])

    balance = Balance(few, loss, lambda w: few.weights @ acting(w), _FIRST_HARMONICS, 2.0 * np.pi * (low * high) ** 0.5)
    size = _force_size(balance, 2.0 * np.pi * linear.frequency_hz)
    rest = state_values(bench, name) if event.with_state else None
    if _nothing_changes(balance, 2.0 * np.pi * linear.frequency_hz, size):
        return _quiet(linear, tuple(few.members), rest)

    def read(balance: Balance, points: list[Point]) -> PeriodicPoints:
        return PeriodicPoints(model, own, balance, points, acting, rest)

    while True:
        traced = _traced(name, balance, event, linear, size)
        flat = [b for ranged in traced.branches for b in ranged]
        for b in flat:
            stability(traced.balance, b)
        points = read(traced.balance, [p for b in flat for p in b.points])
        number = np.repeat(np.arange(len(flat)), [len(b.points) for b in flat])
        arcs = np.concatenate([_arc(b, size, high - low) for b in flat])
        lost = tuple(why for b in flat for why in b.lost)
        up, down, jumps = _swept(traced.branches)
        result = _read(model.reduced, linear, tuple(few.members), points, (number, arcs), lost, (up, down), jumps, [])
        error, of = _peaks_in_doubt(result, points, traced, read)
        more = 2 * traced.balance.harmonics
        if error <= _CLOSE or traced.error > _SETTLED or not _can_have(balance, more):
            break
        balance = with_harmonics(balance, more)
    findings = (*linear.model_findings, *_findings(traced, jumps, error, of))
    return replace(result, error=error, findings=findings)


# -- branches ---------------------------------------------------------------------------------------------------------


def _nothing_changes(balance: Balance, omega: Floats, size: float) -> bool:
    """Whether under the linear answer all members act as they do at the start."""
    if any(m.smooth for m in balance.few.members):
        return False
    once = with_harmonics(balance, 1)
    force = np.zeros(once.shape)
    for w in omega:
        try:
            point, _ = once.solve(force, float(w))
        except Unbalanced:
            return False
        force, acting = point.force, once.forces(point)
        for j, m in enumerate(balance.few.members):
            every = [once.normal[j], *once.across[j]]
            if not m.rigid:
                off = np.abs(force[every]).max()
            elif m.at_start == CLOSED:  # it stays where it is
                off = (np.abs(point.place[every]).max(axis=1) * once.stiff[every]).max()
            else:
                off = np.abs(acting[every]).max()
            if off > _SILENT * size:
                return False
    return True


def _traced(name: str, balance: Balance, event: SweepEvent, linear: SweepResult, size: float) -> _Traced:
    """All branches that sweeps come upon, with as many harmonics as it takes."""
    given = event.sweep.at is not None or event.sweep.spacing != "gathered"
    spans = [linear.frequency_hz[own] for own in ranges(linear.starts, len(linear.frequency_hz))]
    spacings = [_spacing(2.0 * np.pi * f, linear, given) for f in spans]
    best: _Traced | None = None
    while True:
        tell(f"steady motions of {balance.harmonics} harmonics")
        try:
            each = [_of_range(balance, 2.0 * np.pi * f, s, size) for f, s in zip(spans, spacings, strict=True)]
            error = max(in_doubt(balance, b) for own in each for b in own)
            best = _Traced(balance, each, error)
        except Unbalanced:
            pass
        more = (4 if best is None or best.error > _FAR else 2) * balance.harmonics
        if not _can_have(balance, more):
            more = 2 * balance.harmonics
        if best is not None and best.error <= _SETTLED:
            return best
        if not _can_have(balance, more):
            break
        balance = with_harmonics(balance, more)
    if best is None:
        raise EventError(
            f'event "{name}": follow: no steady motion is found at either end of the sweep with '
            f"{balance.harmonics} harmonics; begin where less happens, or follow it in time (loads or a pulse)",
            path=("events", name),
        )
    return best


def _can_have(balance: Balance, harmonics: int) -> bool:
    return harmonics <= _MOST_HARMONICS and len(balance.rows) * (2 * harmonics + 1) <= _UNKNOWNS


def _of_range(balance: Balance, omega: Floats, spacing: Callable[[float], float], size: float) -> list[Branch]:
    """The branch from the lower end of a range, and that from the upper end where the first does not reach it.

    Raises
    ------
    Unbalanced
        Neither end has one.
    """
    low, high = float(omega[0]), float(omega[-1])
    found: list[Branch] = []
    for start, end in ((low, high), (high, low)):
        if found and abs(found[0].points[-1].omega - high) <= 1e-9 * high:
            break
        try:
            found.append(follow_branch(balance, balance.begin(start), end, spacing, size))
        except Unbalanced:
            if start == high and not found:
                raise
    return found


def _spacing(omega: Floats, linear: SweepResult, given: bool) -> Callable[[float], float]:
    """Longest step at an angular frequency: by modes and their bandwidths, and by points that the sweep gives."""
    centres, widths = (2.0 * np.pi * x for x in linear.reader.model.vibration.resonances())
    span = float(omega[-1] - omega[0])

    def spacing(w: float) -> float:
        near = float(np.hypot(w - centres, widths).min(initial=np.inf)) / 6.0
        longest = min(max(near, 1e-4 * span), span / _FEWEST)
        if given:
            k = int(np.clip(np.searchsorted(omega, w), 1, len(omega) - 1))
            longest = min(longest, float(omega[k] - omega[k - 1]))
        return longest

    return spacing


def _force_size(balance: Balance, omega: Floats) -> float:
    """A scale of the members' forces, N: what directions would take if they did not yield."""
    most = balance.still
    once = with_harmonics(balance, 1)
    for w in omega[:: max(1, len(omega) // 60)]:
        at = once.linear(float(w))
        most = max(most, 0.05 * float((np.abs(at.place) * np.maximum(balance.stiff, balance.kappa)).max()))
    return max(most, 1e-300)


def _arc(branch: Branch, size: float, span: float) -> Floats:
    """Length along a branch."""
    steps = [
        np.hypot(float(np.linalg.norm(b.force - a.force)) / size, (b.omega - a.omega) / (2.0 * np.pi * span))
        for a, b in zip(branch.points[:-1], branch.points[1:], strict=True)
    ]
    return np.concatenate([[0.0], np.cumsum(steps)])


def _swept(branches: list[list[Branch]]) -> tuple[NDArray[np.bool_], NDArray[np.bool_], tuple[SweptJump, ...]]:
    """Which points sweeps up and down see, and their jumps."""
    total = sum(len(b.points) for own in branches for b in own)
    saw = np.zeros((2, total), dtype=bool)
    jumps: list[SweptJump] = []
    at = 0
    for own in branches:
        firsts = at + np.concatenate([[0], np.cumsum([len(b.points) for b in own])]).astype(int)
        for row, upward in enumerate((True, False)):
            found = seen(own, upward)
            for b, k in found.points:
                saw[row, firsts[b] + k] = True
            for j in found.jumps:
                to = -1 if j.to_branch is None or j.to_point is None else int(firsts[j.to_branch] + j.to_point)
                jumps.append(SweptJump(upward, j.omega / (2.0 * np.pi), int(firsts[j.branch] + j.point), to, j.why))
        at = int(firsts[-1])
    return saw[0], saw[1], tuple(jumps)


# -- readings ---------------------------------------------------------------------------------------------------------


def _quiet(linear: SweepResult, members: tuple[Member, ...], rest: Floats | None) -> PeriodicResult:
    """Nothing lets go, hits or slides: the linear answer to the digit."""
    f = linear.frequency_hz
    told = Finding(
        "note", "nothing lets go, hits or slides in this sweep: it is the linear answer", "followed",
        numbers={"harmonics": 1, "error": 0.0},
    )  # fmt: skip
    number = np.repeat(np.arange(len(linear.starts)), np.diff([*linear.starts, len(f)]))
    every = np.ones(len(f), dtype=bool)
    return _read(
        linear.reduced, linear, members, LinearPoints(linear.reader, f, rest), (number, f),
        ("",) * len(f), (every, every), (), [*linear.model_findings, told],
    )  # fmt: skip


def _read(
    reduced: ReducedModel, linear: SweepResult, members: tuple[Member, ...], points: SteadyPoints,
    along: tuple[Ints, Floats], lost: tuple[str, ...], saw: tuple[NDArray[np.bool_], NDArray[np.bool_]],
    jumps: tuple[SweptJump, ...], findings: list[Finding],
) -> PeriodicResult:  # fmt: skip
    """Lowest and highest of every reading at every point, and over what sweeps see."""
    readings, count = reduced.readings, len(points.omega)
    chosen = np.flatnonzero(saw[0] | saw[1])
    lows, highs = np.zeros((2, count, len(readings)))
    governing = np.zeros(len(readings), dtype=np.int64)
    some, whole = points.at(chosen), points.at(np.arange(count))
    for n, r in enumerate(readings):
        if r.count > 1:
            governing[n] = places_reach(points, some, r, every=False)[0]
        lows[:, n], highs[:, n] = cycle_extremes(points.values(r, whole, int(governing[n])))
    peaks, lowest, highest, where, up, down = np.zeros((6, len(readings)))
    missed = 0.0
    for n, r in enumerate(readings):
        size = size_of(r, lows[:, n], highs[:, n])
        highest[n], at_high, off_high = _highest(highs[:, n], points.omega, along, saw[0] | saw[1])
        lowest[n], at_low, off_low = _highest(-lows[:, n], points.omega, along, saw[0] | saw[1])
        lowest[n] = -lowest[n]
        is_high = r.one_sided or not r.form.signed or highest[n] >= -lowest[n]
        peaks[n], where[n], off = (highest[n], at_high, off_high) if is_high else (lowest[n], at_low, off_low)
        up[n], down[n] = (_highest(size, points.omega, along, one)[0] for one in saw)
        missed = max(missed, off)
    at_hz = where / (2.0 * np.pi)
    if isinstance(points, LinearPoints):
        peaks, at_hz, missed = linear.peaks.copy(), linear.peak_frequencies, linear.sampled_error
        up, down = linear.peaks.copy(), linear.peaks.copy()
    return PeriodicResult(
        reduced, linear.name, linear, members, points, along[0], lost, saw[0], saw[1], jumps, 0.0, lows, highs,
        peaks, lowest, highest, at_hz, up, down, governing,
        tuple(r.place(int(g)) for r, g in zip(readings, governing, strict=True)), missed, linear.acting,
        tuple(findings),
    )  # fmt: skip


def _peaks_in_doubt(
    result: PeriodicResult, points: PeriodicPoints, traced: _Traced,
    read: Callable[[Balance, list[Point]], PeriodicPoints],
) -> tuple[float, str]:  # fmt: skip
    """By how much peaks differ with twice the harmonics, relative to them, and whose do most."""
    readings = result.reduced.readings
    matters = [n for n in map(int, np.flatnonzero(~slight(readings, result.peaks))) if readings[n].component != LETS_GO]
    places = {n: result.peak_point(n) for n in matters}
    order = sorted(set(places.values()), key=lambda k: -sum(p == k for p in places.values()))[:_DOUBTED]
    more = with_harmonics(traced.balance, 2 * traced.balance.harmonics)
    try:
        found = [same_with(more, points.points[k]) for k in order]
    except Unbalanced:
        return np.inf, ""
    finer = read(more, found)
    every, worst, of = finer.at(np.arange(len(found))), 0.0, ""
    for n in matters:
        if places[n] not in order:
            continue
        r = readings[n]
        ends = cycle_extremes(finer.values(r, every, int(result.governing[n])))
        size = float(size_of(r, *ends)[order.index(places[n])])
        off = abs(size - float(result.size_curve(n)[places[n]])) / abs(float(result.peaks[n]))
        if off > worst:
            worst, of = off, r.label
    return worst, of


def _highest(
    values: Floats, omega: Floats, along: tuple[Ints, Floats], saw: NDArray[np.bool_]
) -> tuple[float, float, float]:
    """The highest of what a sweep sees, its frequency, and by how much the points miss it.

    Between points by a parabola along the branch through 1 / value², which is exact for a resonance.
    """
    branch, arc = along
    chosen = np.flatnonzero(saw)
    if not len(chosen):
        return 0.0, float("nan"), 0.0
    k = int(chosen[int(values[chosen].argmax())])
    top, at = float(values[k]), float(omega[k])
    if not 0 < k < len(values) - 1 or branch[k - 1] != branch[k + 1] or not (saw[k - 1] and saw[k + 1]):
        return top, at, 0.0
    s, near = arc[k - 1 : k + 2] - arc[k], values[k - 1 : k + 2]
    if s[0] >= 0.0 or s[2] <= 0.0 or near.min() <= 0.0:
        return top, at, 0.0
    curve = np.polyfit(s, (top / near) ** 2, 2)
    best = -curve[1] / (2.0 * curve[0]) if curve[0] > 0.0 else 0.0
    least = float(np.polyval(curve, best))
    if not s[0] < best < s[2] or not 0.0 < least <= 1.0:
        return top, at, 0.0
    frequency = float(np.polyval(np.polyfit(s, omega[k - 1 : k + 2], 2), best))
    return top / least**0.5, frequency, 1.0 - least**0.5


# -- what is to be known ----------------------------------------------------------------------------------------------


def _findings(traced: _Traced, jumps: tuple[SweptJump, ...], error: float, of: str) -> list[Finding]:
    balance = traced.balance
    count = sum(len(b.points) for own in traced.branches for b in own)
    numbers = {"harmonics": float(balance.harmonics), "error": error, "points": float(count)}
    told = (
        "with twice as many no steady motion was found" if np.isinf(error)
        else f"with twice as many, peaks differ by at most {100 * error:.2g} %" + (f" ({of})" if of else "")
    )  # fmt: skip
    found = [Finding(
        "note", f"followed over frequency through {count:,} steady motions with {balance.harmonics} harmonics; {told}. "
        "Branches that no slow sweep comes upon are not looked for", "followed", numbers=numbers,
    )]  # fmt: skip
    if error > UNSETTLED:
        found.append(Finding(
            "warning", f"what was followed is not settled: {told}. Hits on what does not yield are not caught by "
            "harmonics: give the stop or foot a stiffness, or check a frequency in time", "unsettled", numbers=numbers,
        ))  # fmt: skip
    for own in traced.branches:
        for b in own:
            if b.ends != "range":
                f = b.points[-1].omega / (2.0 * np.pi)
                found.append(Finding(
                    "warning", f"a branch is lost at {f:.5g} Hz: nothing further was found there; what lies between "
                    "branches is not known: check a frequency there in time", "branch lost",
                    numbers={"frequency_hz": f},
                ))  # fmt: skip
    for upward in (True, False):
        way, row = ("up", "jumps up") if upward else ("down", "jumps down")
        each = [j for j in jumps if j.upward == upward]
        at = [j.frequency_hz for j in each if j.reaches >= 0]
        if at:
            words = first_few([f"{f:.5g} Hz" for f in at], 4)
            found.append(Finding("note", f"a slow sweep {way} jumps at {words}", row, numbers=_numbered(at)))
        open_ = [j for j in each if j.reaches < 0]
        if open_:
            words = first_few([f"{j.frequency_hz:.5g} Hz ({_WHY[j.why]})" for j in open_], 3)
            found.append(Finding(
                "warning", f"a slow sweep {way} finds no stable motion of its period from here on: {words}; what is "
                "told beyond, until a motion is stable again, is not what is seen: run a frequency there in time",
                "not stable", numbers=_numbered([j.frequency_hz for j in open_]),
            ))  # fmt: skip
    if any(m.rigid for m in balance.few.members):
        found.append(Finding(
            "note", "where rigid feet and stops act, branches count as unstable where they run back only; whether a "
            "motion of twice the period takes over is not looked at", "stability",
        ))  # fmt: skip
    return found


def _numbered(frequencies: list[float]) -> dict[str, float]:
    return {f"frequency_hz_{k + 1}": f for k, f in enumerate(frequencies)}


_WHY = {
    "runs back": "the branch turns back",
    "doubles": "one of twice the period takes over",
    "wanders": "one of another period takes over",
    "turns": "another of the same period takes over",
    "lost": "nothing further was found",
}
