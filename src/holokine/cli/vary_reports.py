"""What the commands about many variants print: vary, reach, refine."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine.cli.reports import _file_name, _read, _View
from holokine.errors import OutputError

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.variation import Variation
    from holokine.cli.asked import ModesRange

__all__ = ["ReachView", "RefineView", "ScatterView", "VaryView"]

MOST_MODES = 6


def _settings(given: tuple[str, ...]) -> dict[str | tuple[str | int, ...], Any]:
    """Places with their values from ``PLACE = VALUES``."""
    found: dict[str | tuple[str | int, ...], Any] = {}
    for text in given:
        place, sign, values = text.partition("=")
        if not sign or not place.strip() or not values.strip():
            example = "parts/deck/plate/thickness = 2, 3, 4 mm"
            raise click.UsageError(f'--set: expected PLACE = VALUES, such as "{example}", got "{text}"')
        if place.strip() in found:
            raise click.UsageError(f"--set: {place.strip()} is given twice")
        found[place.strip()] = values.strip()
    return found


@dataclass
class VaryView(_View):
    """`holokine vary`."""

    met: bool = True

    @classmethod
    def of(
        cls, path: Path, given: tuple[str, ...], read: tuple[str, ...], wishes: tuple[str, ...], keys: dict[str, Any],
        wanted: ModesRange, write: Path | None, out: Path | None,
    ) -> VaryView:  # fmt: skip
        from holokine.vary import read_wish

        settings = _settings(given)
        for wish in wishes:  # before anything is solved
            read_wish(wish)
        if out is not None and out.exists() and not out.is_dir():
            raise OutputError(f"{out}: is not a folder")
        assembly = _read(path, False)
        made = assembly.vary(settings, read=read, count=wanted.count, upto=wanted.upto, folder=out, **keys)
        table = made.table()
        view = cls(
            assembly, f"{assembly.title}: varied", "modes", made.first.key, lines=made.lines,
            tables={"variants": table}, figures={"variants": made.plot},
            facts={"failed": made.failed},
        )  # fmt: skip
        for label in made.first.readings:
            view.figures[f"variants_{_file_name(label)}"] = partial(made.plot, label)
        view.screens.append(("Variants (0: as written)", _short(table, view)))
        if made.failed:
            told = [f"variant {k} failed: {why}" for k, why in made.failed.items()]
            view.details += told[:10] + ([f"and {len(told) - 10} more failed (in the table)"] if len(told) > 10 else [])
        if wishes:
            view._wished(made, wishes, write)
        return view

    def _wished(self, made: Variation, wishes: tuple[str, ...], write: Path | None) -> None:
        best = made.best(*wishes)
        self.tables["best"] = best
        met = best["missed_percent"] == 0.0
        number = int(best["variant"].iloc[0])
        asked = "; ".join(w.text for w in made.wishes(wishes))
        values = ", ".join(f"{c} {v:.4g}" if isinstance(v, float) else f"{c} {v}"
                           for c, v in best.iloc[0, 2 : 2 + len(made.plan.parameters)].items())  # fmt: skip
        if met.any():
            text = f"best for {asked}: variant {number} ({values}); {int(met.sum())} of {len(best)} meet all bounds"
        else:
            self.met = False
            text = (f"no variant meets {asked}; the nearest is variant {number} ({values}), which misses by "
                    f"{best['missed_percent'].iloc[0]:.3g} % of the bounds in all")  # fmt: skip
        self.lines.append(text)
        self.screens.append(("From the best", _short(best, None).head(10)))
        if write is not None:
            made.variant(number).write(write)
            self.after.append(f"wrote {write}: variant {number}")


def _short(table: pd.DataFrame, view: VaryView | None) -> pd.DataFrame:
    """The columns that a screen holds: parameters, mass, the lowest modes, readings."""
    from holokine.show.variation import mode_columns

    modes = mode_columns(table)
    hidden = modes[MOST_MODES:]
    if hidden and view is not None:
        view.details.append(f"modes {MOST_MODES + 1} to {len(modes)} are in --csv, --json and --out")
    drop = [*hidden, *(c for c in ("failed", "crossings") if c in table and not table[c].astype(bool).any())]
    result = table.drop(columns=drop)
    if "failed" in result:
        result["failed"] = ["" if not f else "failed" for f in result["failed"]]
    return result


@dataclass
class ScatterView(_View):
    """`holokine scatter`."""

    @classmethod
    def of(
        cls, path: Path, given: tuple[str, ...], read: tuple[str, ...], keys: dict[str, Any], wanted: ModesRange,
        out: Path | None,
    ) -> ScatterView:  # fmt: skip
        settings = _settings(given)
        if out is not None and out.exists() and not out.is_dir():
            raise OutputError(f"{out}: is not a folder")
        assembly = _read(path, False)
        folder = out if keys["samples"] is not None else None
        found = assembly.scatter(settings, read=read, count=wanted.count, upto=wanted.upto, folder=folder, **keys)
        table, inputs = found.table(), found.inputs()
        failed = {} if found.variation is None else found.variation.failed
        view = cls(
            assembly, f"{assembly.title}: scatter", "modes", found.first_order.first.key, lines=found.lines,
            screens=[("Frequencies and peaks", table)], tables={"scatter": table, "scatter_inputs": inputs},
            figures={"scatter": found.plot}, facts={"failed": failed},
        )  # fmt: skip
        if found.variation is not None:
            view.tables["variants"] = found.variation.table()
        view.details += [f"variant {k} failed: {why}" for k, why in list(failed.items())[:10]]
        view.details.append("shares of every input are in --json and --out (scatter_inputs)")
        return view


@dataclass
class ReachView(_View):
    """`holokine reach`."""

    @classmethod
    def of(cls, path: Path, place: str, mode: int, to: str, write: Path | None) -> ReachView:
        assembly = _read(path, False)
        found = assembly.reach(place, mode, to)
        table = found.table()
        changed = found.changed()
        view = cls(
            assembly, f"{assembly.title}: mode {mode} to {to}", "modes", changed.key, lines=found.lines,
            screens=[("Runs on the way, the last the proof", table)], tables={"reach": table},
            facts={"parameter": found.result.text, "value": found.value, "change": found.result.change},
        )  # fmt: skip
        view.stage = "system found"
        if write is not None:
            changed.write(write)
            view.after.append(f"wrote {write}: the assembly with {place} = {found.value}")
        return view


@dataclass
class RefineView(_View):
    """`holokine refine`."""

    @classmethod
    def of(cls, path: Path, times: tuple[float, ...], read: tuple[str, ...], wanted: ModesRange) -> RefineView:
        assembly = _read(path, False)
        found = assembly.refine(times or (1.5, 2.0), read=read, count=wanted.count, upto=wanted.upto)
        table = found.table()
        return cls(
            assembly, f"{assembly.title}: refined meshes", "system", assembly.key, lines=found.lines,
            screens=[("Values by size of elements, and what they tend to", table)], tables={"refined": table},
            figures={"refined": found.plot},
        )  # fmt: skip
