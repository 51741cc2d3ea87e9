"""Many variants: equal to one-by-one runs wherever they run, modes followed, wishes, values reached, meshes refined."""

from __future__ import annotations

import json
import warnings

import numpy as np
import pandas as pd
import pytest

import holokine as hk
from conftest import straight_beam
from holokine.errors import DescriptionError, EventError, HolokineError, UnknownNameError
from holokine.vary.parameters import number_of, read_spread, resolved
from holokine.vary.plan import plan_of
from holokine.vary.refine import extrapolated
from holokine.verification.cases import beam
from test_cli import inside

STEEL = {"E": "206 GPa", "nu": 0.29, "density": "7830 kg/m^3"}


def mast(width: str = "30 mm") -> hk.Assembly:
    """A cantilever with a body at its tip, a pulse, a spectrum and loads at rest."""
    a = hk.Assembly("mast", units={"length": "mm", "force": "N"}).material("steel", **STEEL).damping("2 %")
    a.section("bar", rectangle={"width": width, "height": 20}).point("root", [0, 0, 0]).point("tip", [800, 0, 0])
    a.part("bar", beam={"through": ["root", "tip"], "section": "bar", "divisions": 8}, material="steel")
    a.mass("lamp", at="tip", mass="1.5 kg").support("wall", at="root", hold="all")
    a.gauge("lamp", acceleration="tip").gauge("root", reaction_moment="wall", axis="y").load("weight", gravity="-z")
    a.event("bump", pulse={"z": {"half sine": {"peak": "3 g", "duration": "11 ms"}}}).event("hang", static="weight")
    return a.band("engine", range=["20 Hz", "24 Hz"])


GRID = {"sections/bar/rectangle/width": "20, 30, 45 mm", "masses/lamp/mass": ["1 kg", "2 kg"]}


@pytest.fixture(scope="module")
def grid() -> hk.Assembly:
    return mast()


@pytest.fixture(scope="module")
def varied(grid):
    return grid.study(GRID, read=["bump: lamp", ("hang", "root")], count=5)


def test_variants_equal_one_by_one_runs(grid, varied):
    table = varied.table()
    assert len(table) == 7
    assert table["variant"].tolist() == list(range(7))
    assert table["bar width (mm)"].tolist() == [30, 20, 20, 30, 30, 45, 45]
    assert table["lamp mass (kg)"].tolist() == [1.5, 1, 2, 1, 2, 1, 2]
    for row, (width, mass) in zip(table.iloc[1:].itertuples(index=False), varied.plan.rows, strict=True):
        one = grid.changed({"sections": {"bar": {"rectangle": {"width": width}}}, "masses": {"lamp": {"mass": mass}}})
        modes = one.modes(5)
        own = dict(zip(table.columns, row, strict=True))
        followed = [own[f"mode_{k}_hz"] for k in range(1, 6)]
        assert {f for f in followed if f == f} <= set(modes.frequencies_hz.tolist())
        assert sum(f == f for f in followed) >= 4  # the fifth may lie beyond the five that are asked for
        peaks = modes.respond("bump").table("peaks").query("gauge == 'lamp'").set_index("component")["peak"]
        for axis in "xyz":
            assert own[f"bump: lamp {axis} (g)"] == pytest.approx(abs(peaks[axis]), rel=1e-14)
        at_rest = abs(modes.respond("hang").table("peaks").set_index("gauge").loc["root", "value"])
        assert own["hang: root y (N m)"] == pytest.approx(at_rest, rel=1e-14)
        assert own["mass_kg"] == pytest.approx(one.check().mass, rel=1e-12)
    pd.testing.assert_frame_equal(varied.variant(5).modes(5).table(), varied.variant(5).modes(5).table())
    assert varied.variant(0) is grid


@pytest.mark.parametrize("where", ["processes", "cluster"])
def test_processes_and_a_cluster_give_the_same(grid, varied, where, tmp_path):
    keys: dict = {"read": ["bump: lamp", ("hang", "root")], "count": 5}
    if where == "processes":
        other = grid.study(GRID, jobs=2, **keys)
    else:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            from distributed import LocalCluster

            with LocalCluster(n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None,
                              local_directory=str(tmp_path)) as cluster:  # fmt: skip
                other = grid.study(GRID, scheduler=cluster.scheduler_address, **keys)
    pd.testing.assert_frame_equal(other.table(), varied.table(), check_exact=False, rtol=1e-12)


def test_only_what_changes_is_computed_anew(grid):
    made = grid.study({"damping": ["1 %", "2 %", "4 %"], "masses/lamp/mass": ["1 kg", "1.5 kg"]}, read=["bump: lamp z"],
                     count=4)  # fmt: skip
    assert [r.made for r in made.results].count(1) == 1  # of the lighter lamp; those of 1.5 kg are the ones as written
    peaks = made.table()["bump: lamp z (g)"].iloc[1:]
    assert peaks.is_monotonic_decreasing or len(set(peaks)) == 6
    assert "modes extracted 1 times" in made.lines[0]


def test_an_interrupted_run_goes_on_and_what_is_stale_is_not_taken(grid, tmp_path, monkeypatch):
    import holokine.vary.run as run

    own, seen = run._keep, []

    def stop(*args):
        own(*args)
        seen.append(1)
        if len(seen) == 2:
            raise KeyboardInterrupt

    with monkeypatch.context() as m:
        m.setattr(run, "_keep", stop)
        with pytest.raises(KeyboardInterrupt):
            grid.study(GRID, count=4, folder=tmp_path)
    again = grid.study(GRID, count=4, folder=tmp_path)
    assert [r.kept for r in again.results].count(True) == 2
    pd.testing.assert_frame_equal(again.table(), grid.study(GRID, count=4).table())
    assert all(r.kept for r in grid.study(GRID, count=4, folder=tmp_path).results)
    assert not any(r.kept for r in grid.study(GRID, count=5, folder=tmp_path).results)
    other = grid.changed({"materials": {"steel": {"density": "7000 kg/m^3"}}})
    assert not any(r.kept for r in other.study(GRID, count=4, folder=tmp_path).results)
    for file in (tmp_path / "variants").iterdir():
        file.write_bytes(file.read_bytes()[:200])  # damaged: made anew
    assert not any(r.kept for r in grid.study(GRID, count=4, folder=tmp_path).results)


def test_a_failed_variant_is_a_row(grid, tmp_path):
    made = grid.study({"sections/bar/rectangle/width": ["20 mm", "-1 mm", "30 N", "40 mm"]}, count=3, folder=tmp_path)
    table = made.table().iloc[1:]
    assert [bool(f) for f in table["failed"]] == [False, True, True, False]
    assert table["mode_1_hz"].notna().tolist() == [True, False, False, True]
    assert "width" in made.failed[2]
    assert "4 variants, a grid of all values: 2 done, 2 failed" in made.lines[0]
    assert len(list((tmp_path / "variants").iterdir())) == 2  # failures are tried again


def test_modes_are_followed_through_a_crossing():
    # bending along y goes with the width, along z with the height of 20 mm: they cross where both are equal
    a = straight_beam(1.0, {"rectangle": {"width": "16 mm", "height": "20 mm"}}, STEEL, start="all", divisions=20)
    made = a.study({"sections/s/rectangle/width": "16 to 26 mm in 6"}, count=4)
    table = made.table().iloc[1:]
    along_y, along_z = table["mode_1_hz"].to_numpy(), table["mode_2_hz"].to_numpy()
    width = np.linspace(16, 26, 6)
    np.testing.assert_allclose(along_y / along_y[0], width / 16, rtol=2e-3)
    np.testing.assert_allclose(along_z, along_z[0], rtol=2e-3)
    crossed = ["1 with 2" in c for c in table["crossings"]]
    assert crossed.count(True) == 1
    assert crossed.index(True) in (2, 3)  # at 20 mm both are equal
    assert table["lowest_mac"].min() > 0.99
    assert "modes change their order in variants" in made.lines[1]


def test_wishes_find_the_best_variant(varied):
    best = varied.best("lowest mode above 17 Hz", "least mass")
    table = varied.table()
    lowest = table[["mode_1_hz", "mode_2_hz"]].min(axis=1)
    fit = table[lowest >= 17.0].sort_values("mass_kg")
    met = best[best["missed_percent"] == 0.0]
    assert met["variant"].tolist() == fit["variant"].tolist()
    assert 0 < len(met) < 7
    peaks = varied.best("bump: lamp z below 0.001 g", "most bump: lamp z")
    assert (peaks["missed_percent"] > 0).all()
    assert varied.best("most lowest mode")["variant"].iloc[0] == lowest.idxmax()
    outside = varied.best("mode 1 outside 15 Hz to 18 Hz")
    inside_band = outside["mode_1_hz"].between(15, 18)
    assert (outside["missed_percent"] > 0).tolist() == inside_band.tolist()
    for wish, words in (("fast", "expected such as"), ("mode 9 above 3 Hz", "no mode 9"), ("mass above 3 m", "m"),
                        ("bump: roof below 2 g", "a wish about")):  # fmt: skip
        with pytest.raises(HolokineError, match=words):
            varied.best(wish)


@pytest.mark.parametrize(
    ("given", "values"),
    [
        ("2, 3, 4 mm", ("2 mm", "3 mm", "4 mm")),
        ("2 to 6 mm in 3", ("2 mm", "4 mm", "6 mm")),
        ("1e2 to 1e4 N/m in 3 by ratio", ("100 N/m", "1000 N/m", "10000 N/m")),
        ("steel, aluminium", ("steel", "aluminium")),
        ([1, 2.5], (1, 2.5)),
        ("1 cm, 20 mm", ("1 cm", "20 mm")),
        ("0.5 to 2 in 4", (0.5, 1.0, 1.5, 2.0)),
    ],
)
def test_values_are_read_as_they_are_meant(given, values):
    assert read_spread(given, "x").values == values


@pytest.mark.parametrize(
    ("given", "words"),
    [
        ("2 to 6 mm", "how many values"),
        ("2 mm to 6 N in 3", "one unit"),
        ("3 to 3 mm in 4", "between two ends"),
        ("-1 to 4 mm in 3 by ratio", "above zero"),
        ("uniform 5 to 2 mm", "lower to a higher"),
        ("normal 3 mm", "expected normal MEAN"),
        ("lognormal -3 mm +- 5 %", "above zero"),
        ("normal 3 mm +- 1 N", "one unit"),
        ([], "expected values"),
        ("2, , 3", "expected values"),
    ],
)
def test_values_that_mean_nothing_are_refused(given, words):
    with pytest.raises(DescriptionError, match=words):
        read_spread(given, 'parameter "x"')


def test_samples_of_a_hypercube_fill_every_stratum(grid):
    plan = plan_of(grid.document, {"sections/bar/rectangle/width": "uniform 20 to 40 mm",
                                   "materials/steel/E": "normal 206 GPa +- 5 %",
                                   "masses/lamp/mass": "lognormal 1.5 kg +- 0.3 kg",
                                   "parts/bar/material": ["steel"],
                                   "damping": "1 to 3 % in 2"}, samples=400)  # fmt: skip
    numbers = plan.numbers()
    assert sorted(((numbers[:, 0] - 20) / 20 * 400).astype(int)) == list(range(400))
    assert numbers[:, 1].mean() == pytest.approx(206, rel=1e-3)
    assert numbers[:, 1].std() == pytest.approx(0.05 * 206, rel=0.02)
    assert numbers[:, 2].mean() == pytest.approx(1.5, rel=2e-3)
    assert numbers[:, 2].std() == pytest.approx(0.3, rel=0.03)
    assert numbers[:, 2].min() > 0
    assert sorted(((numbers[:, 4] - 1) / 2 * 400).astype(int)) == list(range(400))
    same = plan_of(grid.document, {"sections/bar/rectangle/width": "uniform 20 to 40 mm"}, samples=5, seed=3)
    assert same.rows == plan_of(grid.document, {"sections/bar/rectangle/width": "uniform 20 to 40 mm"}, 5, 3).rows
    assert abs(np.corrcoef(numbers[:, [0, 1, 2, 4]].T) - np.eye(4)).max() < 0.2


def test_places_are_found_by_their_keys_and_refused_with_the_nearest():
    data = {"points": {"top 1": [0, 0, 5], "a/b": [1, 2, 3]}, "parts": {"deck": {"plate": {"thickness": 3}}}}
    assert resolved(data, "points/top 1/3") == ("points", "top 1", 2)
    assert resolved(data, "points/a/b/item 1") == ("points", "a/b", 0)
    assert resolved(data, ("parts", "deck", "plate", "thickness")) == ("parts", "deck", "plate", "thickness")
    assert resolved(data, "adjust/deck/stiffness") == ("adjust", "deck", "stiffness")
    for wrong, words in (("parts/dek/plate/thickness", "deck"), ("points/top 1/4", "no item"), ("", "with slashes"),
                         ("parts/deck/plate/thickness/x", "which has no")):  # fmt: skip
        with pytest.raises(DescriptionError, match=words):
            resolved(data, wrong)
    assert number_of("2.5e3 N/mm") == (2500.0, "N/mm")
    assert number_of("steel") is None


def test_what_cannot_be_varied_is_refused_before_it_is_run(grid):
    for parameters, keys, words in (
        ({}, {}, "nothing is varied"),
        ({"damping": ["1 %", "3 %"]}, {}, "changes neither the modes nor a reading"),
        ({"title": ["a", "b"]}, {}, "changes neither"),
        ({"sections/bar/rectangle/breadth": [1, 2]}, {}, "breadth"),
        ({"masses/lamp/mass": "uniform 1 to 2 kg"}, {}, "how many samples"),
        ({"masses/lamp/mass": [1, 2], "masses/lamp": [{"at": "tip", "mass": 1}]}, {}, "change the same place"),
        ({"masses/lamp/mass": "1 to 2 kg in 30000"}, {}, "more than 20,000"),
        ({"masses/lamp/mass": [1, 2]}, {"read": ["jolt: lamp"]}, 'no event "jolt"'),
        ({"masses/lamp/mass": [1, 2]}, {"read": ["bump: roof"]}, 'no reading "roof"'),
        ({"masses/lamp/mass": [1, 2]}, {"read": ["bump"]}, "an event, a colon"),
    ):
        with pytest.raises(HolokineError, match=words):
            grid.study(parameters, count=3, **keys)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with pytest.raises(EventError, match="no scheduler answers"):
            grid.study({"masses/lamp/mass": [1, 2]}, count=3, scheduler="tcp://127.0.0.1:9")


def test_a_value_that_brings_a_mode_to_a_frequency_is_the_closed_form():
    a = hk.Assembly().point("p", [0, 0, 0]).mass("m", at="p", mass=3.0).support("guide", at="p", hold=["y", "z"])
    a.spring("k", between=["p", "ground"], stiffness="2 N/mm", axis="x")
    found = a.target("springs/k/stiffness", 1, "6 Hz")
    assert found.result.steps[0].slope == pytest.approx(0.5, abs=1e-9)  # f goes with the root of k
    assert number_of(found.value)[0] == pytest.approx(3.0 * (2 * np.pi * 6) ** 2 / 1000, rel=2e-5)
    assert found.value.endswith(" N/mm")
    assert len(found.result.steps) == 2  # the logarithms are on a line
    assert found.found().modes(1).frequencies_hz[0] == pytest.approx(6.0, rel=1e-5)
    section = {"rectangle": {"width": "25 mm", "height": "10 mm"}}
    slim = straight_beam(1.0, section, STEEL, start="all", divisions=20, theory="euler")
    second = slim.target("sections/s/rectangle/height", 3, 100.0)  # 1 and 3 bend along z, 2 along y
    f = slim.modes(4).frequencies_hz[2]
    assert number_of(second.value)[0] == pytest.approx(10.0 * 100.0 / f, rel=1e-4)
    table = second.table()
    assert table["off_percent"].abs().iloc[-1] < 1e-3
    tried = second.result.steps[1].value
    assert tried == float(f"{tried:.7g}")  # no more digits than can be told
    first = second.result.steps[0]
    assert table["predicted_hz"].iloc[1] == pytest.approx(f * (tried / first.value) ** first.slope, rel=1e-9)
    assert table["predicted_hz"].iloc[1] == pytest.approx(100.0, rel=1e-7)


def test_what_brings_a_mode_nowhere_is_refused_with_its_runs(grid):
    for place, mode, to, words in (
        ("materials/steel/nu", 1, "40 Hz", "hardly depends"),
        ("parts/bar/material", 1, "40 Hz", "writes no number"),
        ("masses/lamp/mass", 1, "900 Hz", "does not bring the mode"),
        ("masses/lamp/mass", 90, "40 Hz", "mode 90"),
        ("masses/lamp/mass", 1, "0 Hz", "above zero"),
    ):
        with pytest.raises(HolokineError, match=words):
            grid.target(place, mode, to)


def test_refined_meshes_reach_the_exact_frequencies_within_their_error_bars():
    # Timoshenko theory, exact roots; a plate with hard simple supports by Mindlin theory
    exact = [202.810185, 784.759067, 1680.31431]
    bar = {"rectangle": {"width": 0.0415, "height": 0.0785}}
    alu = {"E": 71.3e9, "nu": 0.33, "density": 2713.0}
    a = beam(0.943, bar, alu, start="z", end="z", suppress=["x", "y", "rx", "rz"], divisions=8)
    found = a.converge((2, 4), count=3)
    table = found.table()
    assert found.result.realised == (1.0, 2.0, 4.0)
    for row, f in zip(table.itertuples(), exact, strict=True):
        assert abs(row.extrapolated - f) < max(row.error_bar, 1.2e-3 * f)  # the theory's shear factor is another one
        assert abs(row.extrapolated - f) < abs(row.as_written - f)
        assert row.order == pytest.approx(2.0, abs=0.3)
    from holokine.verification.shells import ALUMINIUM, THIN, plate, simply_supported

    flat = simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [8, 8]), 1.37, 1.37).converge((2, 3), count=4)
    for row, f in zip(flat.table().itertuples(), THIN, strict=False):
        if row.extrapolated == row.extrapolated:  # the equal pair may exchange its shapes
            assert abs(row.extrapolated - f) <= row.error_bar + 2e-4 * f
    assert flat.table()["extrapolated"].notna().sum() >= 2


def test_extrapolation_by_hand():
    exact = extrapolated([1, 1.5, 2.5], [7 + 0.3 * (1 / t) ** 3 for t in (1, 1.5, 2.5)])
    assert exact.value == pytest.approx(7.0, abs=1e-9)
    assert exact.order == pytest.approx(3.0, abs=1e-6)
    two = extrapolated([1, 2], [4.4, 4.1])
    assert (two.value, two.error) == (pytest.approx(4.0), pytest.approx(0.3))  # order 2 assumed, threefold
    swings = extrapolated([1, 2, 4], [5.0, 5.4, 5.1])
    assert (swings.value, swings.error) == (5.1, pytest.approx(0.4))
    assert "oscillates" in swings.remark
    moves = extrapolated([1, 2, 4], [1.0, 2.0, 4.0])
    assert moves.value != moves.value
    assert "does not settle" in moves.remark
    assert extrapolated([1, 2, 4], [3.0, 3.0, 3.0]).error == 0.0


def test_refinement_says_what_it_cannot_refine(tmp_path):
    shape = {"corner": [0, 0, 0], "sides": [[0.4, 0, 0], [0, 0.3, 0]], "divisions": [4, 3], "thickness": 0.003}
    a = hk.Assembly().material("m", **STEEL).part("sheet", plate=shape, material="m")
    a.support("edge", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    a.point("hub", [0.3, 0.15, 0.05]).mass("motor", at="hub", mass=1.0)
    a.link("pad", averaging="hub", to={"part": "sheet", "box": [[0.15, 0.05, -1], [0.35, 0.25, 1]]})
    a.save(tmp_path / "sheet.vtu")
    found = a.converge((2,), count=2)
    assert list(found.result.taken) == ['link "pad"']  # 4 nodes up to 71 mm off the middle, then 25 up to 141 mm
    corners, spacing = np.array([0.5, 1.0]) * np.sqrt(2) * 0.1, np.array([0.1, 0.05])
    np.testing.assert_allclose(found.result.taken['link "pad"'], np.hypot(corners, spacing / 2), rtol=1e-9)
    assert any("takes nodes by their place" in line for line in found.lines)
    given = hk.Assembly().material("m", **STEEL)
    given.part("given", mesh={"file": str(tmp_path / "sheet.vtu"), "shell": {"thickness": 0.003}}, material="m")
    with pytest.raises(DescriptionError, match="every mesh comes from a file"):
        given.converge()
    with pytest.raises(DescriptionError, match="factors above 1"):
        a.converge((0.5,))
    with pytest.raises(DescriptionError, match="make no difference"):
        a.converge((1.01,))


def test_the_figure_joins_what_belongs_together_and_draws_bands(varied):
    figure = varied.plot()
    axes = figure.axes
    assert [ax.get_xlabel() for ax in axes] == ["bar width (mm)", "lamp mass (kg)"]
    assert axes[0].get_ylabel() == "natural frequency (Hz)"
    first = varied.table().iloc[1:]
    lines = [line for line in axes[0].lines if line.get_linestyle() == "-" and len(line.get_xdata()) == 3]
    drawn = {tuple(np.round(line.get_ydata(), 9)) for line in lines}
    for mass in (1.0, 2.0):
        own = first[first["lamp mass (kg)"] == mass].sort_values("bar width (mm)")
        assert tuple(np.round(own["mode_1_hz"], 9)) in drawn
    texts = [t.get_text() for t in axes[1].texts]
    assert "engine" in texts
    peak = varied.plot("bump: lamp z")
    assert peak.axes[0].get_ylabel() == "bump: lamp z (g)"
    with pytest.raises(UnknownNameError, match="was asked for"):
        varied.plot("bump: lamp q")


def test_vary_reach_and_refine_by_the_command_line(tmp_path, grid):
    file = grid.save(tmp_path / "mast.yaml")
    out = tmp_path / "out"
    command = ["study", str(file), "--set", "sections/bar/rectangle/width = 20 to 40 mm in 3", "--count", "3"]
    command += ["--jobs", "1", "--read", "bump: lamp z", "--out", str(out), "--save", str(tmp_path / "best.yaml")]
    command += ["--wishes", "lowest mode above 15 Hz", "--wishes", "least mass"]
    got = inside(*command)
    assert got.returncode == 0, got.stderr
    assert "3 variants, a grid of all values: 3 done; modes extracted 2 times" in got.stdout
    table = pd.read_csv(out / "variants.csv")
    direct = grid.study({"sections/bar/rectangle/width": "20 to 40 mm in 3"}, read=["bump: lamp z"], count=3).table()
    pd.testing.assert_frame_equal(
        table.drop(columns=["failed", "crossings"]), direct.drop(columns=["failed", "crossings"])
    )
    assert {"variants.png", "best.csv", "variants_bump__lamp_z.png"} <= {p.name for p in out.iterdir()}
    best = pd.read_csv(out / "best.csv").iloc[0]
    assert f"best for lowest mode above 15 Hz; least mass: variant {best['variant']:.0f}" in got.stdout
    assert hk.Assembly.read(tmp_path / "best.yaml").modes(3).frequencies_hz[0] == pytest.approx(best["mode_1_hz"])
    again = inside(*command)
    assert "(3 kept from an earlier run); modes extracted 0 times" in again.stdout
    none = inside(
        "study", str(file), "--set", "masses/lamp/mass = 1, 2 kg", "--wishes", "mode 1 above 500 Hz", "--jobs", "1"
    )
    assert none.returncode == 1
    assert "no variant meets mode 1 above 500 Hz" in none.stdout
    data = json.loads(
        inside("study", str(file), "--set", "masses/lamp/mass", "--mode", "1", "--target", "20Hz", "--json").stdout
    )
    heavy = grid.changed({"masses": {"lamp": {"mass": data["value"]}}}).modes(1).frequencies_hz[0]
    assert heavy == pytest.approx(20.0, rel=1e-5)
    assert data["change"] == {"masses": {"lamp": {"mass": data["value"]}}}
    fine = inside("study", str(file), "--count", "2", "--mesh", "2", "--csv")
    assert fine.stdout.splitlines()[0].startswith("what,unit,as_written,2x,extrapolated,error_bar")
    for wrong, words in ((["study", str(file), "--set", "width 3"], "PLACE = VALUES"),
                         (["study", str(file), "--set", "damping = 1, 2 %", "--save", "x.yaml"], "needs --wishes"),
                         (["study", str(file), "--set", "damping = 1, 2 %", "--jobs", "1", "--scheduler", "a"], "both"),
                         (["study", str(file), "--set", "masses/lump/mass", "--mode", "1", "--target", "2Hz"],
                             "lamp")):  # fmt: skip
        got = inside(*wrong)
        assert got.returncode == 2
        assert words in got.stderr


def test_scatter_by_derivatives_is_that_of_samples():
    a = mast()
    inputs = {"materials/steel/E": "normal 206 GPa +- 3 %", "sections/bar/rectangle/width": "uniform 28 to 32 mm",
              "masses/lamp/mass": "lognormal 1.5 kg +- 4 %", "damping": "lognormal 2 % +- 0.3 %"}  # fmt: skip
    found = a.scatter(inputs, read=["bump: lamp z", "hang: root"], samples=300, count=3)
    table = found.table().set_index("what")
    for what in ("mode 1", "mode 2", "mode 3", "bump: lamp z", "hang: root y"):
        row = table.loc[what]
        assert row["sample_deviation"] == pytest.approx(row["deviation"], rel=0.08), what
        assert row["sample_mean"] == pytest.approx(row["at_means"], rel=0.01)
        assert row["p5"] < row["p50"] < row["p95"]
        assert row["samples"] == 300
    # bending along z (mode 1, height 20 of width 30): f ~ √(E w / (m_beam w + c m)), by hand for E
    effects = found.table("inputs").set_index(["what", "input"])
    assert effects.loc[("mode 1", "steel E"), "effect_of_one_deviation"] == pytest.approx(
        0.5 * 0.03 * table.loc["mode 1", "at_means"], rel=1e-3)  # fmt: skip
    assert effects.loc[("mode 1", "damping"), "share_percent"] == pytest.approx(0.0, abs=1e-9)
    assert effects.loc[("hang: root y", "steel E"), "share_percent"] < 1e-6  # statically determinate
    assert table.loc["bump: lamp z", "most_by"].split(" (")[0] in {"damping", "steel E", "lamp mass", "bar width"}
    shares = effects.groupby(level=0)["share_percent"].sum()
    assert shares.to_numpy() == pytest.approx(np.full(5, 100.0))
    best = effects.loc["mode 1"]["share_percent"].idxmax()
    assert effects.loc[("mode 1", best), "rank_correlation"] == effects.loc["mode 1"]["rank_correlation"].abs().max()
    figure = found.plot()
    assert [ax.get_ylabel() for ax in figure.axes] == ["natural frequency (Hz)", "reading"]
    alone = a.scatter(inputs, count=3)
    assert alone.samples is None
    np.testing.assert_allclose(alone.table()["deviation"], table["deviation"].iloc[:3], rtol=1e-9)
    with pytest.raises(DescriptionError, match="takes a distribution"):
        a.scatter({"masses/lamp/mass": [1, 2]})


def test_scatter_by_the_command_line(tmp_path, grid):
    file = grid.save(tmp_path / "mast.yaml")
    out = tmp_path / "out"
    command = ["study", str(file), "--scatter", "--set", "masses/lamp/mass = normal 1.5 kg +- 5 %", "--count", "2"]
    got = inside(*command, "--samples", "12", "--jobs", "1", "--out", str(out))
    assert got.returncode == 0, got.stderr
    assert "lamp mass: normal, mean 1.500 kg, deviation 0.07500 kg" in got.stdout
    assert {"scatter.csv", "inputs.csv", "scatter.png", "variants.csv"} <= {p.name for p in out.iterdir()}
    table = pd.read_csv(out / "scatter.csv")
    direct = grid.scatter({"masses/lamp/mass": "normal 1.5 kg +- 5 %"}, count=2, samples=12).table()
    pd.testing.assert_frame_equal(table, direct, check_exact=False, rtol=1e-9)
    assert inside(*command, "--jobs", "2").returncode == 2


def test_shapes_of_very_many_variants_stay_small(grid):
    from holokine.vary.run import Sample

    modes = grid.modes(4).set
    few, many = Sample.of(modes, 10), Sample.of(modes, 10_000_000)
    assert len(many.nodes) <= len(few.nodes) <= 800
    shape = {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": [40, 40], "thickness": 0.004}
    a = hk.Assembly().material("m", **STEEL).part("p", plate=shape, material="m")
    a.support("edge", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    plate = a.modes(6).set
    assert len(Sample.of(plate).nodes) == 800
    small = Sample.of(plate, 20_000)
    assert len(small.nodes) == 138  # 400 MB over 24 bytes, 6 modes and 20,000 variants
    assert small.token != Sample.of(plate).token
    shapes = small.shapes(plate)
    np.testing.assert_allclose(np.linalg.norm(shapes, axis=1), 1.0, rtol=1e-6)
    assert abs(shapes @ shapes.T - np.eye(6)).max() < 0.35  # a few nodes still tell the modes apart
