"""Tables and figures of natural modes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import Entry, Result, figure, table
from holokine.errors import DescriptionError, UnknownNameError, nearest_hint
from holokine.units import argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.host import AssemblyLike
    from holokine.modes.energy import Energies
    from holokine.modes.mode_set import ModeSet
    from holokine.modes.participation import Enough

__all__ = ["ModeTables", "member_words"]

DIRECTIONS = ("x", "y", "z", "rx", "ry", "rz")
ENERGY_TITLE = "Share of the energy (percent; those above 5 % or the three largest, at most six)"
NEAR_BAND = 0.15


class ModeTables(Result):
    """What tables and figures tell of modes."""

    assembly: AssemblyLike
    set: ModeSet
    _asked: tuple[Any, ...] | None
    stage = "modes"
    rows = "modes"

    @property
    def damping(self) -> NDArray[np.float64]:
        """Damping ratios, shape (modes,)."""
        raise NotImplementedError

    @property
    def energies(self) -> Energies:
        """Strain and kinetic energy of every member in every mode."""
        raise NotImplementedError

    @property
    def words(self) -> list[str]:
        """What each mode is."""
        raise NotImplementedError

    def shares_by(self, by: str | Sequence[str]) -> tuple[tuple[str, ...], NDArray[Any], NDArray[Any]]:
        """Names, strain and kinetic energy (names, modes) in J, by member, group, or groups by name."""
        raise NotImplementedError

    def enough(self, share: float | str = 0.9, directions: str | Sequence[str] = ("x", "y", "z")) -> list[Enough]:
        """Whether the modes hold a share of the free mass."""
        raise NotImplementedError

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        short = {"modes": _modes_in_words, "participation": _mass_by_direction, "energy": _energy_in_words}
        title, shown = super()._screen(entry, whole)
        return title, short[entry.name](shown) if entry.name in short else shown

    @table("modes", "What the modes are")
    def _modes(self) -> pd.DataFrame:
        """One row per mode: frequencies, what it is in words, where its energy is, how far the mesh can be trusted."""
        import pandas as pd

        modes, energies, f = self.set, self.energies, self.set.frequencies_hz
        most = {which: [member_words(energies, row, which) for row in range(modes.count)]
                for which in ("strain", "kinetic")}  # fmt: skip
        effective = modes.effective_mass[:, :3] / np.where(modes.free_mass[:3] > 0, modes.free_mass[:3], 1.0)
        main = effective.argmax(axis=1)
        return pd.DataFrame({
            "mode": modes.numbers, "frequency_hz": f, "frequency_error_hz": modes.errors_hz,
            "angular_frequency_rad_s": modes.omega, "period_s": np.where(f > 0, 1.0 / np.where(f > 0, f, 1.0), np.inf),
            "damping_percent": 100.0 * self.damping, "kind": np.where(modes.rigid, "rigid-body", "elastic"),
            "main_direction": [DIRECTIONS[d] if e[d] >= 0.01 else "-" for d, e in zip(main, effective, strict=True)],
            "main_direction_percent": 100.0 * effective.max(axis=1), "what": self.words,
            "most_strain": most["strain"], "most_kinetic": most["kinetic"],
            "mesh_error_percent": 100.0 * energies.mesh_error, "residual": modes.residuals,
        })  # fmt: skip

    @table("participation", "Effective mass (percent of the free mass)")
    def _participation(self) -> pd.DataFrame:
        """Participation factors, effective masses, ratios and cumulative ratios in x y z rx ry rz.

        Rotations are about the centre of mass. Ratios to the whole mass end in ``_of_whole``, to the mass that is free
        to move in ``_of_free``.
        """
        import pandas as pd

        modes, effective = self.set, self.set.effective_mass
        found: dict[str, object] = {"mode": modes.numbers, "frequency_hz": modes.frequencies_hz}
        for d, name in enumerate(DIRECTIONS):
            root, unit = ("sqrt_kg", "kg") if d < 3 else ("sqrt_kg_m", "kg_m2")
            found[f"factor_{name}_{root}"] = modes.participation[:, d]
            found[f"effective_{name}_{unit}"] = effective[:, d]
        for label, total in (("whole", modes.whole_mass), ("free", modes.free_mass)):
            for d, name in enumerate(DIRECTIONS):
                ratio = effective[:, d] / total[d] if total[d] > 0 else np.zeros(modes.count)
                found[f"ratio_{name}_of_{label}"] = ratio
                found[f"cumulative_{name}_of_{label}"] = np.cumsum(ratio)
        return pd.DataFrame(found)

    @table("enough")
    def _enough(self, share: float | str | None = None, along: str | Sequence[str] = ("x", "y", "z")) -> pd.DataFrame:
        """By direction: how many modes hold a share of the free mass, or how many are probably needed.

        `share`: 90 %, or what was asked for, when left out.
        """
        import pandas as pd

        wanted = (self._asked or (0.9,)) if share is None else (share, along)

        return pd.DataFrame([
            {"direction": e.direction, "wanted_percent": 100.0 * e.wanted, "reached_percent": 100.0 * e.reached,
             "with_mode": "-" if e.mode is None else str(e.mode), "frequency_hz": e.frequency_hz,
             "probably_needed": "" if e.probably is None else str(e.probably)}
            for e in self.enough(*wanted)
        ])  # fmt: skip

    @table("bands", "Modes in or within 15 % of bands of excitation",
           when=lambda self: bool(self.assembly.description.bands))  # fmt: skip
    def _bands(self) -> pd.DataFrame:
        """Modes in, or within 15 % of, the bands of excitation of the description."""
        import pandas as pd

        rows, modes = [], self.set
        for name, low, high in self.assembly.description.band_ranges():
            for number, f in zip(modes.numbers.tolist(), modes.frequencies_hz, strict=True):
                inside = low <= f <= high
                away = 0.0 if inside else (low / f - 1.0 if f < low else f / high - 1.0) if f > 0 else np.inf
                if inside or away <= NEAR_BAND:
                    where = "in it" if inside else f"{100 * away:.0f} % {'below' if f < low else 'above'}"
                    rows.append((name, low, high, number, f, where))
        return pd.DataFrame(rows, columns=["band", "from_hz", "to_hz", "mode", "frequency_hz", "where"])

    @table("energy", ENERGY_TITLE, listed=False)
    def _energy(self, by: str | Sequence[str] = "member", *, mode: int | Sequence[int] | None = None) -> pd.DataFrame:
        """Strain and kinetic energy of each member, of each group (``by="group"``), or of groups by name.

        One row per mode and member, in J at unit modal amplitude; shares sum to 100 % over members. A member in several
        groups counts in each; what is in none has a row of its own. `mode`: only this one, or these.

        Raises
        ------
        UnknownNameError
            A group or a mode that does not exist.
        """
        import pandas as pd

        names, strain, kinetic = self.shares_by(by)
        total, count = self.set.omega**2 / 2.0, len(names)
        safe = np.where(total > 0, total, 1.0)
        found = pd.DataFrame({
            "mode": np.repeat(self.set.numbers, count), "frequency_hz": np.repeat(self.set.frequencies_hz, count),
            "member": np.tile(np.array(names, dtype=object), self.set.count),
            "strain_percent": (100.0 * strain / safe).T.ravel(), "kinetic_percent": (100.0 * kinetic / safe).T.ravel(),
            "strain_j": strain.T.ravel(), "kinetic_j": kinetic.T.ravel(),
        })  # fmt: skip
        return found if mode is None else self._of_modes(found, mode)

    def energy_in_words(self, by: str | Sequence[str] = "member") -> pd.DataFrame:
        """The members (or groups) that matter in each mode, strain and kinetic side by side, in words."""
        return _energy_in_words(self._energy(by))

    def _of_modes(self, whole: pd.DataFrame, mode: int | Sequence[int]) -> pd.DataFrame:
        numbers = [mode] if isinstance(mode, int) else list(mode)
        for number in numbers:
            self.set.index(number)
        return whole[whole["mode"].isin(numbers)].reset_index(drop=True)

    @table("sensitivities", "What moves each mode (frequency, for a change of one member)", listed=False)
    def _sensitivities(
        self,
        by: str | Sequence[str] = "member",
        *,
        change: float | str = 0.1,
        mode: int | Sequence[int] | None = None,
        most: int | None = None,
    ) -> pd.DataFrame:
        """Change of each frequency, in percent, for `change` more stiffness or mass of each member, largest first.

        First order in the change, from the shares of energy: df/f = s/2 · dk/k - t/2 · dm/m with the shares s of strain
        and t of kinetic energy; `Modes.adjust` runs it. `most`: so many members of each mode, of those that move it by
        a twentieth of the change at least.

        Raises
        ------
        UnitError, DescriptionError
            A change of nothing, or to nothing.
        """
        step = argument_of("change", change, "number")
        if not step > -1.0 or step == 0.0:
            raise DescriptionError(f"change: a share of stiffness or mass above -100 % and not 0, got {step:g}")
        found = self._energy(by, mode=mode)
        found["by_stiffness_percent"] = 0.5 * step * found["strain_percent"]
        found["by_mass_percent"] = -0.5 * step * found["kinetic_percent"]
        sizes = np.maximum(found["by_stiffness_percent"] * np.sign(step), -found["by_mass_percent"] * np.sign(step))
        found = found.assign(_size=sizes).sort_values(["mode", "_size"], ascending=[True, False], kind="stable")
        if most is not None:
            elastic = ~np.isin(found["mode"], self.set.numbers[self.set.rigid])
            own = ~found["member"].str.startswith("(")
            found = found[elastic & own & (found["_size"] >= 5.0 * abs(step))].groupby("mode", sort=False).head(most)
        found.insert(3, "change_percent", 100.0 * step)
        columns = ["mode", "frequency_hz", "member", "change_percent", "by_stiffness_percent", "by_mass_percent"]
        return found[columns].reset_index(drop=True)

    @table("points", "Shapes at points", listed=False)
    def _points(self, points: str | Sequence[str] | None = None, *, scale: str | float = "mass") -> pd.DataFrame:
        """Shape values at named points, a row per mode and point: x y z and rotations rx ry rz.

        Parameters
        ----------
        points : str or list of str, optional
            All that move when left out.
        scale : str or float
            ``"mass"`` (modal mass 1; values in 1/√kg), ``"unit maximum"``, or an energy (mm and mrad then).

        Raises
        ------
        UnknownNameError
            For a point that does not exist or that nothing moves.
        """
        import pandas as pd

        known = self.set.system.moving_points()
        asked = list(known) if points is None else [points] if isinstance(points, str) else list(points)
        for point in asked:
            if point not in known:
                hint = nearest_hint(point, known, "points that move")
                raise UnknownNameError(f'there is no point "{point}" that moves. {hint}')
        metric = scale not in ("mass", "unit maximum")
        shapes = self.scaled(scale).reshape(self.set.count, -1, 6)
        at = shapes[:, [known[p] for p in asked]].reshape(-1, 6) * (1e3 if metric else 1.0)
        biggest = max(float(np.abs(at).max(initial=0.0)), 1e-300)
        at = np.where(np.abs(at) < 1e-12 * biggest, 0.0, at)
        found: dict[str, object] = {
            "mode": np.repeat(self.set.numbers, len(asked)),
            "frequency_hz": np.repeat(self.set.frequencies_hz, len(asked)), "point": asked * self.set.count,
        }  # fmt: skip
        units = ("mm", "mrad")
        found |= {f"{a}_{units[d // 3]}" if metric else a: at[:, d] for d, a in enumerate(DIRECTIONS)}
        return pd.DataFrame(found)

    def scaled(self, to: str | float = "unit maximum") -> NDArray[Any]:
        """Shapes, (modes, dofs), scaled to ``"unit maximum"``, ``"mass"`` (modal mass 1), or an energy per mode.

        An energy (in J, or with a unit) gives the deformation at which each mode holds that much strain energy:
        the smaller its peak, the stiffer the assembly in that mode. Rigid-body modes hold none and become NaN.
        """
        if to == "unit maximum":
            return self.set.unit_maximum()
        return self.set.shapes if to == "mass" else self.set.at_energy(argument_of("to", to, "energy"))

    @table("peak_at_energy", "Peak displacement where each mode holds this energy", listed=False)
    def _peak_at_energy(self, energy: float | str) -> pd.DataFrame:
        """Largest displacement of each mode, in mm, where it holds a given energy."""
        import pandas as pd

        nodes = self.set.at_energy(argument_of("energy", energy, "energy")).reshape(self.set.count, -1, 6)[:, :, :3]
        peak = 1e3 * np.linalg.norm(nodes, axis=2).max(axis=1)
        return pd.DataFrame(
            {"mode": self.set.numbers, "frequency_hz": self.set.frequencies_hz, "peak_displacement_mm": peak}
        )

    @table("load_shares", "Share of the loads held by the first shapes", listed=False)
    def _load_shares(self, event: Any) -> pd.DataFrame:
        """How much of an event's loads the lowest 1, 2, 3 ... of these shapes hold, in percent.

        Columns per load: static (of the deformation energy under the load at rest) and dynamic (of the load itself;
        for a base motion the effective mass). Wilson, Yuan & Dickens 1982.
        """
        import pandas as pd

        from holokine.modes.ritz import load_shares

        found: dict[str, object] = {"vectors": range(1, self.set.count + 1), "frequency_hz": self.set.frequencies_hz}
        for share in load_shares(self.set, self.assembly.loads_of(event)):
            found[f"{share.load}_static_percent"] = 100.0 * share.static
            found[f"{share.load}_dynamic_percent"] = 100.0 * share.dynamic
        return pd.DataFrame(found)

    # -- figures --------------------------------------------------------------------------------------------------

    @figure("shape", listed=False)
    def _shape(self, mode: int = 1, *, share: float = 0.08, ax: Any = None) -> Any:
        """Shape of a mode (from 1) over the undeformed frame; `share`: largest displacement drawn, of the diagonal."""
        from holokine.show.solids import plot_shape

        return plot_shape(self.set, mode, ax=ax, share=share)

    @figure("effective_mass", "Effective mass held up to a frequency")
    def _effective_mass(self, *, ax: Any = None) -> Any:
        """Cumulative effective mass against frequency."""
        from holokine.show.figures import plot_participation

        return plot_participation(self.set, ax=ax)

    @figure("energy", "Where the energy of each mode is")
    def _energy_bars(self, by: str | Sequence[str] | None = None) -> Any:
        """Stacked bars of where the energy of each mode is.

        `by`: members, groups or groups by name; when left out members, or groups where the description has them and
        the nine members that hold most leave more than half to the others.
        """
        from holokine.show.mode_figures import MOST_BARS, plot_energy

        if by is None:
            held = self.energies.strain.sum(axis=1)
            most = float(np.sort(held)[::-1][:MOST_BARS].sum())
            by = "group" if self.assembly.description.groups and most < 0.5 * float(held.sum()) else "member"
        return plot_energy(self.set, *self.shares_by(by), by if isinstance(by, str) else "group")

    @figure("bands", "Natural frequencies against bands of excitation",
            when=lambda self: bool(self.assembly.description.bands))  # fmt: skip
    def _bands_drawn(self) -> Any:
        """Natural frequencies against the bands of excitation."""
        from holokine.show.mode_figures import plot_bands

        return plot_bands(self.set, self.assembly.description)

    @property
    def _first_rows(self) -> pd.DataFrame:
        """Frequencies and main directions of the modes."""
        import pandas as pd

        free = np.where(self.set.free_mass[:3] > 0, self.set.free_mass[:3], 1.0)
        share = 100.0 * self.set.effective_mass[:, :3] / free
        found = {"mode": self.set.numbers, "frequency_hz": self.set.frequencies_hz}
        return pd.DataFrame(found | {f"{a}_percent": [f"{v:.1f}" for v in share[:, d]] for d, a in enumerate("xyz")})


def member_words(energies: Energies, row: int, which: str) -> str:
    """The member with the largest share in a mode, with it."""
    found = energies.together(energies.shares(which)[:, row])
    return f"{found[0][0]} {100 * found[0][1]:.0f} %" if found else "-"


def _modes_in_words(whole: pd.DataFrame) -> pd.DataFrame:
    """Frequency and what each mode is: the main columns of the table of modes."""
    result = whole[["mode", "frequency_hz"]].assign(period_ms=1e3 * whole["period_s"])
    result = result.join(whole[["what", "most_strain", "most_kinetic", "mesh_error_percent"]])
    return result.assign(residual=[f"{r:.0e}" for r in whole["residual"]])


def _mass_by_direction(whole: pd.DataFrame) -> pd.DataFrame:
    """Effective mass by direction with its running sum, in percent of the free mass."""
    result = whole[["mode", "frequency_hz"]].copy()
    for d in "xyz":
        result[f"{d}_kg"] = whole[f"effective_{d}_kg"]
        result[f"{d}_percent"] = 100.0 * whole[f"ratio_{d}_of_free"]
        result[f"{d}_sum_percent"] = 100.0 * whole[f"cumulative_{d}_of_free"]
    return result


def _energy_in_words(whole: pd.DataFrame) -> pd.DataFrame:
    """Members that matter in each mode, strain and kinetic side by side, in words."""
    import pandas as pd

    rows = []
    for mode, own in whole.groupby("mode", sort=False):
        row: dict[str, object] = {"mode": mode, "frequency_hz": float(own["frequency_hz"].iloc[0])}
        for which in ("strain", "kinetic"):
            ranked = own.sort_values(f"{which}_percent", ascending=False, kind="stable")
            share = ranked[f"{which}_percent"]
            large = ranked[share >= min(5.0, float(share.iloc[:3].min()))].iloc[:6]
            words = [f"{m} {p:.0f}" for m, p in zip(large["member"], large[f"{which}_percent"], strict=True)]
            rest = float(share.iloc[len(large) :].sum())
            more = f"{int((share.iloc[len(large) :] > 0).sum()):,} others {rest:.0f}" if rest >= 0.5 else ""
            row[which] = ", ".join([*words, *([more] if more else [])])
        rows.append(row)
    return pd.DataFrame(rows)
