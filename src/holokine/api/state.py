"""A state, its buckling, and what changes over its loads, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.deformed import Deformed
from holokine.api.result import Result, Writer, figure, table, writes
from holokine.errors import DescriptionError, UnknownNameError
from holokine.gauges.resting_gauges import LETS_GO
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.state.buckling import FARTHEST

if TYPE_CHECKING:
    import pandas as pd

    from holokine.findings import Finding
    from holokine.state.about import AtRest
    from holokine.state.buckling import Buckling
    from holokine.state.changes import Changes
    from holokine.state.sequence import FrequencyPath
    from holokine.system.build import System

__all__ = ["BucklingOf", "ChangesOf", "State"]


@dataclass(frozen=True, repr=False)
class State(Result):
    """An assembly at rest in a state: displacement, forces, stress, and what touches, slides or is slack.

    Attributes
    ----------
    result : AtRest
        The numbers, in SI.
    """

    result: AtRest
    assembly_title: str
    state_key: str
    stage = "state"

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.assembly_title}: at rest"

    @property
    def name(self) -> str:
        """Of the state."""
        return self.result.name

    @property
    def key(self) -> str:
        """Equal for equal descriptions on every machine."""
        return self.state_key

    @property
    def facts(self) -> dict[str, Any]:
        """Name of the state."""
        return {"state": self.name}

    @property
    def lines(self) -> list[str]:
        """Loads, balance, and how well all conditions are met."""
        return state_lines(self.result)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it."""
        return self.result.findings

    @table("feet", "One-way supports", when=lambda self: bool(self.result.equilibrium.feet))
    def _feet(self) -> pd.DataFrame:
        """Feet of one-way supports: touching, sliding or open, gap, force, friction against its limit, slip."""
        import pandas as pd

        feet, place = self.result.equilibrium.feet, self.result.elastic.mesh.place_words
        rubs, rows = any(f.friction for f in feet), []
        for r in feet:
            across, limit = float(np.linalg.norm(r.across)), r.friction * r.force
            row: dict[str, object] = {"support": r.support, "at": place(r.node), "state": r.status,
                                      "gap_mm": 1e3 * r.gap, "force_n": r.force}  # fmt: skip
            if rubs:
                slip = 1e3 * float(np.linalg.norm(r.slip)) if r.friction else np.nan
                used = 100.0 * across / limit if limit else np.nan
                row |= {"friction_n": across, "limit_n": limit, "used_percent": used, "slip_mm": slip}
            rows.append(row)
        return pd.DataFrame(rows)

    @table("springs", "One-way springs, and springs with a law",
           when=lambda self: bool(self.result.equilibrium.springs))  # fmt: skip
    def _springs(self) -> pd.DataFrame:
        """One-way springs and springs with a table or law: elongation, force, and stiffness about the state."""
        import pandas as pd

        return pd.DataFrame([
            {"spring": s.name, "state": s.status, "elongation_mm": 1e3 * s.elongation, "force_n": s.force,
             "stiffness_n_per_mm": 1e-3 * s.stiffness}
            for s in self.result.equilibrium.springs
        ])  # fmt: skip

    @table("axial", "Axial force of beams and cables, tension positive", most=12)
    def _axial(self) -> pd.DataFrame:
        """Axial force of every beam part, tension positive, largest first; how much shorter than its place what is
        made tight is; cables that are slack are told."""
        import pandas as pd

        eq = self.result.equilibrium
        made, slack = {**self.result.state.shortening, **eq.shortened}, eq.slack
        found = pd.DataFrame(
            [(part, low, high, 1e3 * made.get(part, np.nan), "slack" if part in slack else "")
             for part, (low, high) in self.result.tensions.items()],
            columns=["part", "lowest_n", "highest_n", "shortening_mm", "state"],
        )  # fmt: skip
        order = found[["lowest_n", "highest_n"]].abs().max(axis=1).sort_values(ascending=False).index
        there = {"state": (found["state"] != "").any(), "shortening_mm": bool(made)}
        empty = [c for c, has in there.items() if not has]
        return found.drop(columns=empty).loc[order].reset_index(drop=True)

    @table("supports", "Forces of supports on the assembly")
    def _supports(self) -> pd.DataFrame:
        """Force of every support on the assembly, friction included, global axes."""
        import pandas as pd

        rows, reactions = [], self.result.reactions
        size = max((float(np.abs(f).max()) for f in reactions.values()), default=0.0)
        for name, force in reactions.items():
            force = np.where(np.abs(force) < 1e-12 * size, 0.0, force)
            rows.append((name, *force.tolist(), float(np.linalg.norm(force))))
        return pd.DataFrame(rows, columns=["support", "x_n", "y_n", "z_n", "size_n"])

    @cached_property
    def _gauges(self) -> Any:
        from holokine.respond.resting import resting_gauges

        return resting_gauges(self.result)

    @table("readings", "Gauges at rest")
    def _readings(self) -> pd.DataFrame:
        """Value of every gauge in the state itself, in display units; velocities and accelerations are left out."""
        import pandas as pd

        from holokine.respond.reduced import reading_noise
        from holokine.respond.resting import read_at_rest, state_channels

        gauges = self._gauges
        peaks, places = read_at_rest(gauges, state_channels(self.result, gauges))
        noise, rows = reading_noise(gauges.readings, peaks), []
        for number, reading in enumerate(gauges.readings):
            if np.isnan(peaks[number]) or reading.component == LETS_GO:
                continue
            unit, size = display_unit(reading.dimension)
            value = 0.0 if abs(peaks[number]) <= noise[number] else peaks[number] / size
            rows.append((reading.gauge, reading.component, value, unit, places[number]))
        found = pd.DataFrame(rows, columns=["gauge", "component", "value", "unit", "place"])
        return found if found["place"].astype(bool).any() else found.drop(columns="place")

    @cached_property
    def deformed(self) -> Deformed:
        """The deformed assembly: shape, stress, member forces."""
        return Deformed.of_state(self.result)

    @table("points", "Displacement of points", most=12, by="size_mm")
    def _points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        return self.deformed.table("points")

    @table("stress", "Largest stress of parts")
    def _stress(self) -> pd.DataFrame:
        """Largest stress of every part in MPa, with the place."""
        return self.deformed.table("stress")

    @table("members")
    def _members(self) -> pd.DataFrame:
        """Elastic section forces at both ends of every beam element, in the beam's axes, N and N m."""
        return self.deformed.table("members")

    @writes(".png", ".vtu")
    def _drawn(self, path: Path, **look: Any) -> None:
        """The deformed assembly: a picture, or a mesh for a 3D viewer."""
        self.deformed.save(path, **look)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """Displacement and stress as pictures and as a mesh."""
        found: dict[str, Writer] = {
            f"state_{c}.png": partial(self.picture, **{"colour": c, **draw}) for c in ("displacement", "stress")
        }
        return found | {"state.vtu": self.save}

    @property
    def _first_rows(self) -> None:
        return None

    def buckling(self, count: int = 4, *, factors: Sequence[float] | None = None, modes: int = 6) -> BucklingOf:
        """Load factors of buckling, and how frequencies fall as the load rises.

        Parameters
        ----------
        count : int
            How many load factors.
        factors : list of float, optional
            Load factors at which to give frequencies; by default parts of the load up to it, and 0.9 of the lowest.
        modes : int
            How many modes are followed over the load; 0: none.

        Raises
        ------
        EquilibriumError, SolverError, DescriptionError
            What is constant is beyond buckling by itself; stress stiffness is switched off; a factor beyond buckling.
        """
        if not self.result.state.stress_stiffness:
            raise DescriptionError(
                f'state "{self.name}": buckling needs what stress adds to the stiffness, which is switched off'
            )
        return BucklingOf(self, self.result.buckling(count), factors, modes)

    def changes(self, up_to: float = 10.0) -> ChangesOf:
        """Load factors at which feet open, touch, slide or stick, springs let go, and cables go slack.

        The factor is on all loads but those that the state names constant (where it names none, on its temperatures,
        tensions and shortenings too), as for buckling.

        Parameters
        ----------
        up_to : float
            The highest load factor; 1 is the state itself.

        Raises
        ------
        DescriptionError
            `up_to` below 1.
        """
        return ChangesOf(self, self.result.changes(up_to))


@dataclass(frozen=True, repr=False)
class ChangesOf(Result):
    """Load factors at which members that act one way change.

    Attributes
    ----------
    state : State
    result : Changes
        The numbers.
    """

    state: State
    result: Changes
    rows = "changes"

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.state.assembly_title}: what changes with the load"

    @property
    def factors(self) -> NDArray[Any]:
        """Load factors, rising; members that change together have one each."""
        return np.array([c.factor for c in self.result.found])

    @property
    def lines(self) -> list[str]:
        """The nearest change on either side of the state, and where its equilibrium ends."""
        return _change_lines(self.state.result, self.result)

    @table("changes", "What changes with the load")
    def _changes(self) -> pd.DataFrame:
        """By rising load factor: the member, where it is, and what it does below and above."""
        import pandas as pd

        place = self.state.result.elastic.mesh.place_words
        return pd.DataFrame(
            [(c.factor, c.name, c.kind, "" if c.node is None else place(c.node), c.below, c.above)
             for c in self.result.found],
            columns=["load_factor", "member", "kind", "at", "below", "above"],
        )  # fmt: skip


class BucklingOf(Result):
    """Load factors of buckling with their shapes.

    Attributes
    ----------
    state : State
    result : Buckling
        The numbers.
    """

    stage = "state"
    rows = "factors"

    def __init__(self, state: State, result: Buckling, factors: Sequence[float] | None, modes: int) -> None:
        self.state, self.result, self._asked, self._modes = state, result, factors, modes
        if modes and factors is not None:
            self._refuse(factors)

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.state.assembly_title}: buckling"

    @property
    def key(self) -> str:
        """Of the state."""
        return self.state.key

    @cached_property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """What to know before trusting it: of the state, and of what lets go before it buckles."""
        from holokine.state.changes import before_buckling

        top = float(self.factors[0]) if len(self.factors) else 10.0
        found = self.state.result.changes(max(1.0, min(top, 10.0)), low=1.0)
        return (*self.state.findings, *before_buckling(found))

    @property
    def factors(self) -> NDArray[Any]:
        """Positive load factors, lowest first."""
        return self.result.positive

    @property
    def lines(self) -> list[str]:
        """The lowest factor as a margin, and whether any were left out."""
        return _buckling_lines(self.state.result, self.result)

    @property
    def _shapes(self) -> NDArray[Any]:
        return np.vstack([self.result.shapes, self.result.negative_shapes])

    @table("buckling", "Load factors")
    def _buckling(self) -> pd.DataFrame:
        """Load factors, lowest first, negative ones after, with what moves most."""
        import pandas as pd

        factors = np.concatenate([self.result.positive, self.result.negative])
        words = _moves_most(self.state.result.elastic, self._shapes)
        return pd.DataFrame({"number": np.arange(1, len(factors) + 1), "load_factor": factors, "moves_most": words})

    def _refuse(self, factors: Sequence[float]) -> None:
        low = float(self.factors[0]) if len(self.factors) else np.inf
        high = float(self.result.negative[0]) if len(self.result.negative) else -np.inf
        wrong = [f for f in factors if not high < f < low]
        if wrong:
            raise DescriptionError(f"load factor {wrong[0]:g}: beyond buckling, which lies at {low:.4g} and {high:.4g}")

    @cached_property
    def path(self) -> FrequencyPath:
        """Natural frequencies at parts of the load, of the modes that are lowest under the highest."""
        from holokine.modes.extract import extract_modes
        from holokine.state.sequence import frequency_path

        state, factors = self.state.result, self._asked
        if factors is None:
            factors = [1.0] if len(state.equilibrium.drifts) else [0.0, 0.25, 0.5, 0.75, 1.0]
            if len(self.factors) and self.factors[0] > 1.2:
                top = 0.9 * float(self.factors[0])
                factors = [*factors, *(np.array([0.3, 0.6, 0.85, 1.0]) * (top - 1.0) + 1.0)]
            self._refuse(factors)

        def modes(system: Any, wanted: int) -> Any:
            found = extract_modes(system, count=min(wanted, system.free_size))
            return found.frequencies_hz, found.shapes

        shape = self.result.shapes[0] if len(self.result.shapes) else None
        return frequency_path(state, np.array(sorted(factors), dtype=float), self._modes, modes, shape)

    @table("frequency_by_load", "Frequencies at parts of the load", when=lambda self: self._modes > 0)
    def _by_load(self) -> pd.DataFrame:
        """Frequency of every mode at every load factor, and the factor at which its square would be zero."""
        import pandas as pd

        path = self.path
        found: dict[str, Any] = {"mode": range(1, path.frequencies_hz.shape[1] + 1)}
        found |= {f"hz_at_{factor:.3g}": f for factor, f in zip(path.factors, path.frequencies_hz, strict=True)}
        return pd.DataFrame({**found, "zero_at_factor": path.zeros})

    @figure("frequency_by_load", "Frequency squared against the load", when=lambda self: self._modes > 0)
    def _plotted(self) -> Any:
        """Frequency squared against the load factor, straight lines on to zero."""
        from holokine.show.state_figures import plot_path

        return plot_path(self.path, self.state.assembly_title, float(self.factors[0]) if len(self.factors) else None)

    @writes(".png")
    def _drawn(self, path: Path, *, number: int = 1, view: Any = None, only: Any = None) -> None:
        """Picture of a buckling shape (`number` from 1, as in the table).

        Raises
        ------
        UnknownNameError
            No such shape.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_deformed

        shapes, factors = self._shapes, np.concatenate([self.result.positive, self.result.negative])
        if not 1 <= number <= len(shapes):
            raise UnknownNameError(f"there is no buckling shape {number}; there are 1 to {len(shapes)}")
        shape = shapes[number - 1].reshape(-1, 6)[:, :3]
        title = f"{self.state.name}: buckling {number}, load factor {factors[number - 1]:.4g}"
        system = self.state.result.elastic
        picture_deformed(system, shape, np.linalg.norm(shape, axis=1), "motion (largest 1)", title, path, 0.08,
                         Look.of(system, view, only))  # fmt: skip

    def files(self, **draw: Any) -> dict[str, Writer]:
        """Pictures of the first three shapes."""
        count = min(len(self._shapes), 3)
        return {f"buckling_{k}.png": partial(self.picture, number=k, **draw) for k in range(1, count + 1)}


def state_lines(state: AtRest) -> list[str]:
    """Loads, balance, and how well all conditions are met."""
    eq, s = state.equilibrium, state.state
    loads = [name if k == 1 else f"{n(k)} times {name}" for name, k in s.loads.items()]
    loads += [f"{n(v)} N of tension in {part}" for part, v in s.tension.items()]
    loads += [f"{part} shorter by {n(1e3 * v)} mm" for part, v in s.shortening.items()]
    loads += [f"{part} {'warmer' if v > 0 else 'colder'} by {n(abs(v))} K" for part, v in s.temperature.items()]
    lines = [f"at rest under: {', '.join(loads)}"]
    if eq.shortened:
        lengths = ", ".join(f"{part}: {1e3 * v:.6g} mm" for part, v in eq.shortened.items())
        lines.append(f"made tight by shortening: {{{lengths}}} (another state keeps it by installed: {state.name})")
    u = state.displacement.reshape(-1, 6)[:, :3]
    size = np.linalg.norm(u, axis=1)
    node = int(size.argmax())
    where = state.elastic.mesh.place_words(node)
    lines.append(f"largest displacement: {n(1e3 * float(size[node]))} mm at {where}")
    outside, reactions, ground = state.balance
    for word, v in (("total applied load", outside), ("total reaction", reactions), ("springs to ground", ground)):
        if v.any():
            lines.append(f"{word}: " + ", ".join(f"{a} {n(f)} N" for a, f in zip("xyz", v, strict=True)))
    if eq.feet:
        count = {word: sum(r.status == word for r in eq.feet) for word in ("touching", "sliding", "open")}
        words = ", ".join(f"{k} {word}" for word, k in count.items() if k)
        lines.append(f"feet of one-way supports: {words}")
    acting = [s for s in eq.springs if s.status == "acting"]
    if eq.springs:
        lines.append(f"one-way springs and springs with a law: {len(acting)} of {len(eq.springs)} act")
    if any(p.only_pulls for p in state.elastic.description.parts.values()):
        lines.append(f"slack: {', '.join(eq.slack) or 'no cable'}")
    lines.append(
        f"all conditions of the equilibrium hold to {eq.violation:.1g} of the largest force (balance, gaps, "
        "no pull where there is only push, friction within its limit)"
        if eq.feet or eq.springs or eq.slack
        else f"forces balance to {eq.violation:.1g} of the largest"
    )
    return lines


def _change_lines(state: AtRest, found: Changes) -> list[str]:
    """The nearest change on either side of the state, and where its equilibrium ends."""
    constant = f", {', '.join(state.state.constant)} held constant" if state.state.constant else ""
    lines = [f"load factors of the state's loads{constant}, from {found.low:g} to {found.high:g}; the state is at 1"]
    if not found.members:
        return [*lines, "nothing of it acts one way only: nothing can change"]
    above, below = ([c for c in found.found if (c.factor > 1.0) == side] for side in (True, False))
    if above:
        first = above[0]
        lines.append(f"first change under more load: at {n(first.factor)}, {first.words}")
    else:
        lines.append(f"under more load nothing changes up to {n(found.high if found.ends is None else found.ends)}")
    if below:
        lines.append(f"last change under less load: at {n(below[-1].factor)}, {below[-1].words}")
    if found.ends is not None:
        lines.append(f"its equilibrium ends at {n(found.ends)}; beyond it: {found.why}")
    if not found.whole:
        lines.append(f"there are more changes than the {len(found.found)} listed")
    if found.curved:
        lines.append("feet rub, springs have a law, stress holds what hangs, or load steps are followed: what changes "
                     "and comes back between two factors that were looked at may be missed")  # fmt: skip
    return lines


def _buckling_lines(state: AtRest, found: Buckling) -> list[str]:
    """The lowest factor as a margin, and whether any were left out."""
    constant = f", {', '.join(state.state.constant)} held constant" if state.state.constant else ""
    lines = [f"load factors of the state's loads{constant}: all of them times the factor make it buckle"]
    if len(found.positive):
        first = float(found.positive[0])
        lines.append(f"lowest load factor: {n(first)}; the state has a safety of {n(first)} against buckling")
        more = "" if found.all_positive else f"; {found.exist} lie at or below the highest one listed, by inertia"
        lines.append(f"{len(found.positive)} positive factors listed{more}")
    else:
        lines.append(f"no load factor between 0 and {FARTHEST:g}: these loads do not make it buckle")
    if len(found.negative):
        lines.append(f"loads the other way round: nearest factor {n(float(found.negative[0]))}")
    else:
        lines.append(f"loads the other way round: none down to -{FARTHEST:g}")
    return lines


def _moves_most(system: System, shapes: NDArray[Any]) -> list[str]:
    """By shape: the part or mass that moves most, with its share of the largest motion of all."""
    words = []
    places = dict(system.mesh.part_nodes)
    places |= {m.name: np.array([m.node]) for m in system.masses}
    for shape in shapes:
        size = np.linalg.norm(shape.reshape(-1, 6)[:, :3], axis=1)
        if not size.any():
            size = np.linalg.norm(shape.reshape(-1, 6)[:, 3:], axis=1)
        most = sorted(((float(size[nodes].max(initial=0.0)), name) for name, nodes in places.items()), reverse=True)
        node = int(size.argmax())
        x, y, z = 1e3 * system.mesh.nodes[node]
        words.append(f"{most[0][1] if most else 'a point'}, at [{n(x)}, {n(y)}, {n(z)}] mm")
    return words
