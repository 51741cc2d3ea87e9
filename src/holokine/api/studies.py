"""Studies of scatter, of a target frequency, and of the mesh's convergence, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import figure, table
from holokine.api.study import Study, VariantStudy, reading_column
from holokine.errors import first_few
from holokine.show.numbers import display_unit, gauge_column
from holokine.show.numbers import number_text as n
from holokine.show.study_figures import mode_column, parameter_names

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.host import AssemblyLike
    from holokine.vary import Reached, Refined
    from holokine.vary.scatter import FirstOrder

__all__ = ["MeshStudy", "ScatterStudy", "TargetStudy"]


class ScatterStudy(Study):
    """Frequencies and peaks under scattering inputs: to first order, and by samples where they were asked for.

    Attributes
    ----------
    first_order : FirstOrder
    samples : VariantStudy or None
    """

    rows = "modes and readings"

    def __init__(self, assembly: AssemblyLike, effects: FirstOrder, samples: VariantStudy | None) -> None:
        self.assembly, self.first_order, self.samples = assembly, effects, samples

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.assembly.title}: scatter"

    @property
    def key(self) -> str:
        """Of the modes as written."""
        return self.first_order.first.key

    @property
    def facts(self) -> dict[str, Any]:
        """What failed."""
        return {"failed": {} if self.samples is None else self.samples.failed}

    @property
    def lines(self) -> list[str]:
        """Inputs with their means and deviations, and what became of the samples."""
        found, told = self.first_order, []
        names = parameter_names(found.parameters)
        for name, p, m, s in zip(names, found.parameters, found.mean, found.deviation, strict=True):
            spread = f", deviation {n(s)} {p.unit}".rstrip()
            told.append(f"{name}: {p.spread.kind}, mean {n(m)} {p.unit}".rstrip() + spread)
        told.append("deviation: one standard deviation to first order (derivatives at the means), inputs independent")
        return told + ([] if self.samples is None else self.samples.lines)

    @table("scatter", "Frequencies and peaks")
    def _scatter(self, percentiles: Sequence[float] = (5.0, 50.0, 95.0)) -> pd.DataFrame:
        """A row per mode and reading: as written, at the means, standard deviation by derivatives, and of the samples
        mean, standard deviation and percentiles; which input matters most and its share of the variance."""
        import pandas as pd

        names, rows, samples = parameter_names(self.first_order.parameters), [], self._sampled
        for what, column, unit, written, mean, effects in _quantities(self.first_order):
            whole = float(np.sqrt((effects**2).sum()))
            row: dict[str, Any] = {
                "what": what, "unit": unit, "as_written": written, "at_means": mean, "deviation": whole,
                "deviation_percent": 100.0 * whole / mean if mean else np.nan,
            }  # fmt: skip
            if samples is not None:
                values = samples[column].dropna().to_numpy(float)
                row |= {"sample_mean": values.mean() if len(values) else np.nan,
                        "sample_deviation": values.std(ddof=1) if len(values) > 1 else np.nan}  # fmt: skip
                row |= {f"p{p:g}": np.percentile(values, p) if len(values) else np.nan for p in percentiles}
                row["samples"] = len(values)
            best = int(np.nanargmax(effects**2)) if whole > 0.0 else 0
            row["most_by"] = f"{names[best]} ({100 * effects[best] ** 2 / whole**2:.0f} %)" if whole > 0.0 else ""
            rows.append(row)
        return pd.DataFrame(rows)

    @table("inputs")
    def _inputs(self) -> pd.DataFrame:
        """A row per mode or reading and input: effect of one deviation, share of the variance in percent (first order);
        with samples the rank correlation."""
        import pandas as pd
        from scipy.stats import spearmanr

        names, rows, samples = parameter_names(self.first_order.parameters), [], self._sampled
        drawn = None if self.samples is None else self.samples.plan.numbers()
        for what, column, unit, _, _, effects in _quantities(self.first_order):
            whole = float((effects**2).sum())
            for i, name in enumerate(names):
                row: dict[str, Any] = {
                    "what": what, "input": name, "effect_of_one_deviation": effects[i], "unit": unit,
                    "share_percent": 100.0 * effects[i] ** 2 / whole if whole > 0.0 else np.nan,
                }  # fmt: skip
                if samples is not None and drawn is not None:
                    values = samples[column].to_numpy(float)
                    there = np.isfinite(values)
                    varies = there.sum() > 2 and np.ptp(values[there]) > 0.0
                    rank = float(spearmanr(drawn[there, i], values[there]).statistic) if varies else np.nan
                    row["rank_correlation"] = rank
                rows.append(row)
        return pd.DataFrame(rows)

    @table("variants", when=lambda self: self.samples is not None)
    def _variants(self) -> pd.DataFrame:
        """A row per sample, as of many variants."""
        assert self.samples is not None
        return self.samples.table("variants")

    @property
    def _sampled(self) -> pd.DataFrame | None:
        return None if self.samples is None else self.samples.table("variants").iloc[1:]

    @figure("scatter")
    def _drawn(self) -> Any:
        """Bands of every frequency with bands of excitation across, and of every reading."""
        from holokine.show.study_figures import plot_scatter

        return plot_scatter(self.table("scatter"), self.assembly.description.band_ranges(), self.assembly.title)


class TargetStudy(Study):
    """Which value of a parameter brings a mode to a frequency, with the runs that prove it.

    Attributes
    ----------
    result : Reached
    """

    stage = "system found"
    rows = "runs"

    def __init__(self, assembly: AssemblyLike, result: Reached) -> None:
        self.assembly, self.result = assembly, result

    @property
    def title(self) -> str:
        """Assembly and target."""
        return f"{self.assembly.title}: mode {self.result.mode} to {n(self.result.target_hz)} Hz"

    @property
    def key(self) -> str:
        """Of the system found."""
        key: str = self.found().key
        return key

    @property
    def value(self) -> Any:
        """The value as it stands in a description."""
        return self.result.written

    @property
    def facts(self) -> dict[str, Any]:
        """The place, its value, and the change of the description."""
        return {"parameter": self.result.text, "value": self.value, "change": self.result.change}

    @property
    def lines(self) -> list[str]:
        """The answer, and what proves it."""
        return _target_lines(self.result)

    @table("target", "Runs on the way, the last the proof")
    def _target(self) -> pd.DataFrame:
        """A row per run: value, frequency, what the derivative of the run before had predicted, the mode's number and
        likeness."""
        import pandas as pd

        found, steps = self.result, self.result.steps
        return pd.DataFrame({
            "run": range(1, len(steps) + 1), gauge_column(found.text, found.unit): [s.value for s in steps],
            "frequency_hz": [s.frequency_hz for s in steps], "predicted_hz": [s.predicted_hz for s in steps],
            "off_percent": [100.0 * (s.frequency_hz / found.target_hz - 1.0) for s in steps],
            "change_percent": [10.0 * s.slope for s in steps], "mode": [s.mode for s in steps],
            "mac_to_run_before": [s.assurance for s in steps],
        })  # fmt: skip

    def found(self) -> Any:
        """The assembly with that value."""
        return self.assembly.changed(self.result.change)


class MeshStudy(Study):
    """An assembly with its meshes at several sizes: what frequencies and peaks tend to, with error bars.

    Attributes
    ----------
    result : Refined
    """

    stage = "system"
    rows = "modes and readings"

    def __init__(self, assembly: AssemblyLike, result: Refined) -> None:
        self.assembly, self.result = assembly, result

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.assembly.title}: convergence of the mesh"

    @property
    def key(self) -> str:
        """Of the system as written."""
        return self.assembly.key

    @property
    def lines(self) -> list[str]:
        """Sizes of the models, what stayed as it is, how far off the mesh as written is."""
        return _refined_lines(self.result)

    @table("mesh", "Values by size of elements, and what they tend to")
    def _mesh(self) -> pd.DataFrame:
        """A row per mode and reading: values by size, what they tend to, error bar, observed order."""
        import pandas as pd

        found, rows = self.result, []
        names = [_size_column(t) for t in found.realised]
        for k, e in enumerate(found.frequencies):
            values = [found.results[0].frequencies_hz[k], *found.followed.frequencies_hz[:, k]]
            sizes = dict(zip(names, values, strict=True))
            rows.append({"what": f"mode {k + 1}", "unit": "Hz", **sizes, **_told(e, 1.0, values)})
        for label, e in found.readings.items():
            unit, size = display_unit(found.results[0].readings[label][1])
            values = [r.readings[label][0] / size for r in found.results]
            sizes = dict(zip(names, values, strict=True))
            rows.append({"what": label, "unit": unit, **sizes, **_told(e, size, values)})
        return pd.DataFrame(rows)

    @figure("mesh")
    def _drawn(self) -> Any:
        """What is off what it tends to, against the size of elements."""
        from holokine.show.study_figures import plot_refined

        return plot_refined(self.result, self.assembly.title)


def _quantities(found: FirstOrder) -> list[tuple[str, str, str, float, float, NDArray[Any]]]:
    """Name, column of samples, unit, as written, at the means, and effects of one deviation of every input."""
    rows: list[tuple[str, str, str, float, float, NDArray[Any]]] = []
    for k, f in enumerate(found.first.frequencies_hz):
        rows.append((f"mode {k + 1}", mode_column(k + 1), "Hz", f, float(found.frequencies_hz[k]),
                     found.frequency_effects[:, k]))  # fmt: skip
    for label, effects in found.reading_effects.items():
        (value, dimension), mean = found.first.readings[label], found.at_mean.readings[label][0]
        unit, size = display_unit(dimension)
        rows.append((label, reading_column(label, dimension), unit, value / size, mean / size, effects / size))
    return rows


def _target_lines(found: Reached) -> list[str]:
    """The answer, and what proves it."""
    first, last = found.steps[0], found.steps[-1]
    renamed = "" if last.mode == found.mode else f" (mode {last.mode} there)"
    unsure = "" if last.assurance >= 0.8 else (
        f"; there the shape is shared with another mode close by (likeness {last.assurance:.2f})"
    )  # fmt: skip
    return [
        f"{found.text} = {found.written} brings mode {found.mode} to {n(last.frequency_hz, 6)} Hz{renamed}{unsure}; "
        f"as written they are {n(first.value)}{f' {found.unit}' if found.unit else ''} and {n(first.frequency_hz)} Hz",
        f"proven by a run with that value: off the wish by {1e6 * abs(last.frequency_hz / found.target_hz - 1):.2g} "
        f"parts in a million; {len(found.steps)} runs. change: of the frequency, for 10 % more of the value "
        "(by the derivative)",
    ]


def _size_column(times: float) -> str:
    return "as_written" if times == 1.0 else f"{times:.3g}x"


def _told(e: Any, size: float, values: Sequence[float]) -> dict[str, Any]:
    off = 100.0 * (values[0] / (e.value / size) - 1.0) if e.value == e.value and e.value else np.nan
    return {"extrapolated": e.value / size, "error_bar": e.error / size, "as_written_off_percent": off,
            "order": e.order, "remark": e.remark}  # fmt: skip


def _refined_lines(found: Refined) -> list[str]:
    """Sizes of the models, and what stayed as it is."""
    sizes = "; ".join(
        f"{'as written' if t == 1 else f'{t:.3g} times finer'}: {nodes:,} nodes, {elements:,} elements"
        for t, nodes, elements in zip(found.realised, found.nodes, found.elements, strict=True)
    )
    lines = [sizes]
    if found.left:
        lines.append(f"meshes from files stay as they are, and so does their error: {', '.join(found.left)}")
    if found.unlike > 1.15:
        lines.append(
            f"parts did not refine alike (by up to {100 * (found.unlike - 1):.0f} %), so that orders are blurred"
        )
    if found.taken:
        told = [f"{name} {' '.join(f'{1e3 * e:.3g}' for e in many)} mm" for name, many in found.taken.items()]
        lines.append(
            f"what takes nodes by their place takes others at each size (extent of {first_few(told, 6)}): what is held "
            "or read there changes with the mesh. Take the area (link: area)"
        )
    if found.hanging:
        lines.append(f"modes that hang on it have no limit: {first_few(map(str, found.hanging), 12)}")
    worst = [(k + 1, 100.0 * abs(found.results[0].frequencies_hz[k] / e.value - 1.0))
             for k, e in enumerate(found.frequencies) if e.value == e.value and e.value > 0]  # fmt: skip
    if worst:
        mode, off = max(worst, key=lambda w: w[1])
        lines.append(f"the mesh as written is off by {off:.2g} % at most (mode {mode}), by these sizes")
    moved = [k for k, e in {**{f"mode {i + 1}": e for i, e in enumerate(found.frequencies)}, **found.readings}.items()
             if e.value != e.value]  # fmt: skip
    if moved:
        lines.append(
            f"no figure is given for {len(moved)} that do not settle or are not found again: {first_few(moved, 8)}"
        )
    return lines
