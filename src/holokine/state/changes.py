"""Load factors at which something lets go, touches, slides or sticks, goes slack or pulls.

Forces and gaps are straight over the load factor as long as nothing changes (curved where feet slide or springs have a
law), so that the next change is where the first of them, drawn on, is zero. It is proven from both sides: nothing has
changed just before it, and has just behind it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

from holokine.errors import EquilibriumError, first_few
from holokine.findings import Finding
from holokine.progress import tell
from holokine.state.equilibrium import Equilibrium, KeptSolutions, as_installed, equilibrium
from holokine.state.hanging import lengthened, mean_pulls
from holokine.state.steps import stepped

if TYPE_CHECKING:
    from holokine.describe.states import State
    from holokine.system.build import System

__all__ = ["LOWEST", "Change", "Changes", "before_buckling", "changes"]

LOWEST = 1e-3
"""Load factor below which nothing is looked for: without load nothing is decided."""
_SIDE = 1e-6  # of the factor: how near from either side a change is proven
_MOST = 200  # changes followed
_PIECES = 16  # of the range, where forces are curved over the factor
Member = tuple[str, str, int]  # support, spring or cable; its name; its node or 0


@dataclass(frozen=True)
class Change:
    """One member that changes.

    Attributes
    ----------
    factor : float
        Of the loads.
    kind : str
        support, spring or cable.
    name : str
    node : int or None
        Of a support.
    below, above : str
        touching, sliding or open; acting or open; taut or slack: below the factor and above it.
    """

    factor: float
    kind: Literal["support", "spring", "cable"]
    name: str
    node: int | None
    below: str
    above: str

    @property
    def words(self) -> str:
        """What it does as the load grows, such as `pad 1 opens`."""
        if self.above in ("touching", "open") and self.below != self.above:
            verb = "opens" if self.above == "open" else "sticks" if self.below == "sliding" else "touches"
        else:
            verb = {"sliding": "slides", "acting": "acts", "taut": "pulls", "slack": "goes slack"}[self.above]
        return f"{self.name} {verb}"


@dataclass(frozen=True)
class Changes:
    """All changes over a range of load factors.

    Attributes
    ----------
    found : tuple of Change
        By rising factor.
    low, high : float
        The range that was looked through.
    members : int
        One-way members that could change.
    ends : float or None
        Factor beyond which there is no equilibrium, within the range.
    why : str
        What the equilibrium says there.
    curved : bool
        Whether forces are curved over the factor (feet rub, springs have a law, stress holds what hangs, load steps are
        followed): between the factors looked at something could change and come back.
    whole : bool
        Whether there are no more changes in the range than those found.
    """

    found: tuple[Change, ...]
    low: float
    high: float
    members: int
    ends: float | None
    why: str
    curved: bool
    whole: bool


def before_buckling(found: Changes) -> tuple[Finding, ...]:
    """That load factors of buckling are of what acts in the state, and until when that holds."""
    if not found.found and found.ends is None:
        return ()
    if found.found:
        first = found.found[0]
        together = [c.words for c in found.found if c.factor <= first.factor * (1.0 + 2.0 * _SIDE)]
        text = f"{first_few(together, 4)} at a load factor of {first.factor:.4g}, before it buckles"
    else:
        text = f"the equilibrium ends at a load factor of {found.ends:.4g}, before it buckles: {found.why}"
    return (Finding("warning", f"{text}: factors of buckling are of what acts at 1; a state with loads beyond that "
                    "factor has its own"),)  # fmt: skip


@dataclass(frozen=True)
class _Look:
    """At one factor: status and distance to the next one (above zero) of every member."""

    factor: float
    status: dict[Member, str]
    margin: dict[Member, float]


def changes(base: System, name: str, at_one: Equilibrium, low: float, high: float) -> Changes:
    """Changes of one-way members under the state's loads times a factor, from `low` to `high`.

    The factor is on all loads but those named constant; where none is, on temperatures, tensions and shortenings too,
    as for buckling. What another state has made tight (`installed`) stays as it is.

    Parameters
    ----------
    base : System
        At no load.
    at_one : Equilibrium
        Of the state itself.
    """
    given = base.description.states[name]
    fixed, kept = as_installed(base, given, name), KeptSolutions()

    def look(factor: float) -> _Look | EquilibriumError:
        scaled = _scaled(given, fixed, factor)
        try:
            found = equilibrium(base, scaled, name, kept) if given.load_steps is None else stepped(base, scaled, name)
        except EquilibriumError as err:
            return err
        return _look(factor, found)

    here = _look(1.0, at_one)
    if not given.one_way or not here.status:
        return Changes((), low, high, 0, None, "", False, True)
    laws = any(s.is_nonlinear for s in base.description.springs.values())
    curved = given.load_steps is not None or laws or at_one.by_stress or any(f.friction for f in base.feet)
    found: list[Change] = []
    ends, why, whole = None, "", True
    for end in (low, high):
        at: _Look | EquilibriumError = here
        while isinstance(at, _Look) and len(found) < _MOST:
            tell(f"what changes beyond a load factor of {at.factor:.4g}")
            step = _next(look, at, end, curved)
            if step is None:
                break
            before, at, place = step
            if isinstance(at, EquilibriumError):
                ends, why = place, str(at)
            else:
                found += _changed(before, at, place, end > 1.0)
        whole &= len(found) < _MOST
    found.sort(key=lambda c: c.factor)
    return Changes(tuple(found), low, high, len(here.status), ends, why, curved, whole)


def _scaled(given: State, fixed: State, factor: float) -> State:
    """The state with its loads times a factor."""
    update: dict[str, Any] = {
        "loads": {n: k if n in given.constant else factor * k for n, k in given.loads.items()}, "installed": None,
    }  # fmt: skip
    for key in ("temperature", "shortening", "tension"):
        own, all_ = getattr(given, key), getattr(fixed, key)
        update[key] = {n: v if given.constant or n not in own else factor * v for n, v in all_.items()}
    return fixed.model_copy(update=update)


def _look(factor: float, eq: Equilibrium) -> _Look:
    d, system, u = eq.system.description, eq.engaged, eq.loaded.displacement
    status: dict[Member, str] = {}
    margin: dict[Member, float] = {}
    pulls = mean_pulls(eq)
    for r in eq.feet:
        key = ("support", r.support, r.node)
        status[key] = r.status
        if r.status == "open":
            margin[key] = r.gap
        elif r.status == "sliding":
            margin[key] = r.force
            margin["slip", r.support, r.node] = float(np.linalg.norm(r.slip))
        else:
            margin[key] = r.force
            if r.friction:
                margin["slip", r.support, r.node] = r.friction * r.force - float(np.linalg.norm(r.across))
    for s in eq.springs:
        spring = d.springs[s.name]
        if spring.one_way is not None:
            key = ("spring", s.name, 0)
            status[key] = s.status
            past = (1.0 if spring.one_way == "pull" else -1.0) * s.elongation - (spring.gap or 0.0)
            margin[key] = abs(past)
    for part, described in d.parts.items():
        if not described.only_pulls:
            continue
        key = ("cable", part, 0)
        if part in eq.slack:
            status[key] = "slack"
            margin[key] = -lengthened(system, part, u, eq.loaded.growth) if eq.loaded.local is None else np.inf
        else:
            status[key] = "taut"
            margin[key] = pulls[part]
    return _Look(factor, status, margin)


def _crossing(earlier: _Look, last: _Look, up: float) -> float | None:
    """Factor on from `last` at which the first margin, drawn on from two looks, is zero."""
    if earlier is last:
        return None
    found = []
    for key, there in last.margin.items():
        fall = earlier.margin.get(key, np.inf) - there
        if np.isfinite(fall) and fall > 1e-9 * abs(there):
            found.append(up * (last.factor + there * (last.factor - earlier.factor) / fall))
    return up * min(found) if found else None


def _next(
    look: Callable[[float], _Look | EquilibriumError], start: _Look, end: float, curved: bool
) -> tuple[_Look, _Look | EquilibriumError, float] | None:
    """The last look before the next change, the first behind it, and where it is; None where nothing changes."""
    up = 1.0 if end > start.factor else -1.0
    span = abs(end - start.factor)
    if span <= 2.0 * _SIDE * start.factor:
        return None
    piece = span / _PIECES if curved else span
    earlier, last = start, start
    aim = start.factor + up * min(0.01 * start.factor, 0.1 * span)
    while True:  # on, by what is drawn on from the last two, until something has changed
        tried = look(aim)
        if not (isinstance(tried, _Look) and tried.status == start.status):
            beyond, high = tried, aim
            break
        if aim == end:
            return None
        earlier, last = last, tried
        drawn = _crossing(earlier, last, up)
        behind = end if drawn is None else drawn * (1.0 + up * _SIDE)
        aim = up * min(up * behind, up * (aim + up * piece), up * end)
    for turn in range(200):  # nearer from both sides
        near = _SIDE * high
        if abs(high - last.factor) <= 2.5 * near:
            break
        drawn = _crossing(earlier, last, up)
        if drawn is None or turn % 3 == 2 or not up * last.factor < up * drawn < up * high:
            drawn = 0.5 * (last.factor + high)
        for aim in (drawn - up * near, drawn + up * near):
            if up * last.factor < up * aim < up * high:
                tried = look(aim)
                if not (isinstance(tried, _Look) and tried.status == start.status):
                    beyond, high = tried, aim
                    break
                earlier, last = last, tried
    drawn = _crossing(earlier, last, up)
    inside = drawn is not None and up * last.factor <= up * drawn <= up * high
    return last, beyond, drawn if inside and drawn is not None else 0.5 * (last.factor + high)


def _changed(before: _Look, after: _Look, place: float, up: bool) -> list[Change]:
    found = []
    for key, was in before.status.items():
        now = after.status.get(key, was)
        if now != was:
            below, above = (was, now) if up else (now, was)
            node = key[2] if key[0] == "support" else None
            found.append(Change(place, key[0], key[1], node, below, above))  # type: ignore[arg-type]
    return found
