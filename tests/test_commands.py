"""Every command's JSON and CSV against Python, on an assembly that is not the demo; matrices from elsewhere; memory."""

from __future__ import annotations

import io
import json
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
import scipy.io
from scipy.sparse import csr_array

import holokine as hk
from conftest import chain, chain_matrices
from holokine.errors import DescriptionError, HolokineError, SolverError
from holokine.sizes import afford, available_memory, beyond_memory, enough_memory
from test_cli import inside

SHELF = """holokine: 1
title: shelf with a pump
units: {length: mm, force: N}
materials:
  steel: {E: 206 GPa, nu: 0.29, density: 7830 kg/m^3}
sections:
  leg: {tube: {width: 30, height: 30, wall: 2}}
points:
  f1: [0, 0, 0]
  f2: [700, 0, 0]
  f3: [0, 400, 0]
  f4: [700, 400, 0]
  t1: [0, 0, 500]
  t2: [700, 0, 500]
  t3: [0, 400, 500]
  t4: [700, 400, 500]
  pump: [350, 200, 580]
parts:
  leg 1: {beam: {through: [f1, t1], section: leg, up: x, divisions: 4}, material: steel}
  leg 2: {beam: {through: [f2, t2], section: leg, up: x, divisions: 4}, material: steel}
  leg 3: {beam: {through: [f3, t3], section: leg, up: x, divisions: 4}, material: steel}
  leg 4: {beam: {through: [f4, t4], section: leg, up: x, divisions: 4}, material: steel}
  top:
    plate: {corner: [0, 0, 500], sides: [[700, 0, 0], [0, 400, 0]], divisions: [7, 4], thickness: 5}
    material: steel
masses:
  pump: {at: pump, mass: 14 kg, inertia: [0.1, 0.12, 0.1]}
links:
  pump feet: {averaging: pump, to: {part: top, box: [[150, 50, 499], [550, 350, 501]]}}
springs:
  snubber: {between: [t1, ground], damping: 40 N s/m, axis: x}
supports:
  feet: {at: [f1, f2, f3, f4], hold: [x, y, z]}
groups:
  legs: [leg 1, leg 2, leg 3, leg 4]
  deck: [top, pump]
gauges:
  pump: {acceleration: pump}
  sway: {displacement: pump, axis: x}
  feet: {reaction: feet}
  top stress: {stress: top}
limits: {pump: 20 g}
bands: {mains: {range: [45 Hz, 55 Hz]}}
damping: 3 %
modes: {count: 8}
loads: {weight: {gravity: -z}}
states: {standing: {loads: weight}}
variants: {thicker: {parts: {top: {plate: {thickness: 8}}}}}
events:
  drop: {pulse: {z: {half sine: {peak: 10 g, duration: 6 ms}}}, ring down: 200 ms}
  quake: {spectrum: {x: {frequency: [1, 10, 1000], acceleration: [0.2 g, 2 g, 2 g]}}}
  test: {sweep: [5 Hz, 200 Hz], base: {z: 0.5 g}}
  ship: {random: {z: {frequency: [5, 200], density: [0.01 g^2/Hz, 0.01 g^2/Hz]}}, duration: 1 h}
  rest: {static: weight}
"""


@pytest.fixture(scope="module")
def shelf(tmp_path_factory) -> Path:
    path = tmp_path_factory.mktemp("shelf") / "shelf.yaml"
    path.write_text(SHELF)
    return path


@pytest.fixture(scope="module")
def run(shelf) -> Path:
    return hk.Assembly.read(shelf).modes().save(shelf.parent / "shelf.run")


@pytest.fixture(scope="module")
def modes(run) -> hk.Modes:
    return hk.open_run(run)


def python_side(modes: hk.Modes) -> dict[str, tuple[list[str], dict[str, pd.DataFrame]]]:
    """By command: its arguments and the tables that Python has, the main one first."""
    a = modes.assembly
    shock = modes.respond("drop").shock("pump z", low="10 Hz", high="500 Hz")
    ritz = modes.compare(a.variant("thicker").modes())
    return {
        "check": (["check", "{run}"], a.check().tables),
        "modes": (["modes", "{run}"], {"modes": modes.table(), "participation": modes.table("participation"),
                                       "bands": modes.table("bands")}),
        "energy": (["modes", "{run}", "--table", "energy", "--table", "sensitivities"],
                   {"energy": modes.table("energy"), "sensitivities": modes.table("sensitivities")}),
        "energy of groups": (["modes", "{run}", "--table", "energy group"], {"energy": modes.table("energy", "group")}),
        "damped": (["modes", "{run}", "--damped"], {"damped_modes": modes.damped().table()}),
        "compare": (["compare", "{run}", "--variant", "thicker"], {"thicker_modes": ritz.table()}),
        "rules": (["respond", "{run}", "drop", "--against-rules"],
                  {"drop_against_rules_ratios": modes.respond("drop").against_rules().table()}),
        "state": (["state", "{yaml}"], {f"state_{k}": t for k, t in a.state().tables.items()}),
        "shock": (["shock", "{run}", "--event", "drop", "--gauge", "pump z", "--low", "10Hz", "--high", "500Hz"],
                  {"drop__pump_z_spectrum": shock.table()}),
        **{f"respond {e}": (["respond", "{run}", e], {f"{e}_{k}": t for k, t in modes.respond(e).tables.items()})
           for e in a.description.events},
    }  # fmt: skip


def equal(told: list[dict], table: pd.DataFrame, what: str) -> None:
    got = pd.DataFrame(told)
    assert len(got) == len(table), what
    for column in table:
        if column not in got:
            continue
        mine, theirs = table[column], got[column]
        if mine.dtype.kind in "if":
            here = np.where(np.isinf(mine.to_numpy(float)), np.nan, mine.to_numpy(float))
            least = 1e-9 * max(1e-300, float(np.nanmax(np.abs(here), initial=0.0)))
            values = pd.to_numeric(theirs).to_numpy(float)
            np.testing.assert_allclose(values, here, rtol=1e-9, atol=least, err_msg=f"{what}, {column}")
        else:
            assert theirs.fillna("").astype(str).tolist() == mine.fillna("").astype(str).tolist(), (what, column)


COMMANDS = ("check", "modes", "energy", "energy of groups", "damped", "compare", "rules", "state", "shock",
            "respond drop", "respond quake", "respond test", "respond ship", "respond rest")  # fmt: skip


@pytest.fixture(scope="module")
def sides(modes):
    return python_side(modes)


@pytest.mark.parametrize("command", COMMANDS)
def test_json_and_csv_say_what_python_says(command, sides, shelf, run):
    arguments, tables = sides[command]
    typed = [a.format(run=run, yaml=shelf) for a in arguments]
    got = inside(*typed, "--json")
    assert got.returncode in (0, 1), got.stderr  # 1: a limit of the shelf is not met
    data = json.loads(got.stdout)
    assert data["holokine"] == hk.__version__
    assert command in ("check", "shock", "rules", "state") or data["assembly"].startswith("shelf with a pump")
    for name, table in ((n, t) for n, t in tables.items() if len(t)):
        own = data["tables"].get(name, data["tables"].get(name.replace(" ", "_")))
        assert own is not None, (command, name, list(data["tables"]))
        equal(own if own is not None else next(iter(data["tables"].values())), table, f"{command}, {name}")
    text = inside(*typed, "--csv")
    assert text.returncode == got.returncode
    main = pd.read_csv(io.StringIO(text.stdout), keep_default_na=False, na_values=[""])
    first = next(iter(data["tables"].values()))
    assert len(main) == len(first)
    assert list(main) == list(first[0])
    assert not got.stderr.replace("holokine: a limit is not met", "").strip()


def test_commands_that_change_something_say_what_python_says(shelf, run, modes, tmp_path):
    data = json.loads(inside("compare", str(run), "--adjust", "top: stiffness 1.2", "--json").stdout)
    after = modes.assembly.adjusted({"top": {"stiffness": 1.2}}).modes(10)
    shift = modes.compare(after).table()["shift_percent"].iloc[: len(modes)]
    told = pd.DataFrame(data["tables"]["adjusted_modes"])
    np.testing.assert_allclose(told["shift_percent"], shift, rtol=1e-6, atol=1e-9)
    first_order = modes.table("sensitivities", change=0.2).set_index(["mode", "member"])["by_stiffness_percent"]
    own = [first_order[m, "top"] for m in modes.set.numbers.tolist()]
    np.testing.assert_allclose(told["predicted_percent"], own, rtol=1e-9)
    tuned = json.loads(inside("tune", str(run), "--at", "pump", "--axis", "z", "--ratio", "5%", "--json").stdout)
    own = modes.tune("pump", "z", ratio="5 %").table()
    equal(tuned["tables"]["tuned_damper"], own, "tune")
    buckled = json.loads(
        inside("state", str(shelf), "standing", "--buckling", "--count", "2", "--modes", "0", "--json").stdout
    )
    factors = modes.assembly.state("standing").buckling(2).factors
    found = [r["load_factor"] for r in buckled["tables"]["buckling"] if r["load_factor"] > 0]
    np.testing.assert_allclose(found[:2], factors[:2], rtol=1e-6)
    vectors = json.loads(inside("compare", str(run), "--ritz", "drop", "--vectors", "4", "--json").stdout)
    held = modes.assembly.ritz("drop", 4).table("load_shares", "drop")
    first = pd.DataFrame(vectors["tables"]["ritz_load_shares"])
    own_columns = [c for c in first if c.endswith("_vectors_percent")]
    np.testing.assert_allclose(first[own_columns], held.iloc[:4, 2:], rtol=1e-6, atol=1e-6)
    page = tmp_path / "shelf.html"
    assert inside("modes", str(run), "--save", str(page)).returncode == 0
    assert page.read_text(encoding="utf-8").count('"cells"') == len(modes)
    formula = inside("formula", "mass on a spring", "mass=24kg", "stiffness=560N/mm", "--json")
    told = pd.DataFrame(json.loads(formula.stdout)["table"] if "table" in json.loads(formula.stdout) else
                        next(iter(json.loads(formula.stdout)["tables"].values())))  # fmt: skip
    assert told["frequency_hz"].iloc[0] == pytest.approx(np.sqrt(560e3 / 24) / 2 / np.pi)


# -- matrices from elsewhere -----------------------------------------------------------------------------------


def given(folder: Path, K: np.ndarray, M: np.ndarray, count: int, form: str) -> hk.Assembly:
    if form == "npz":
        from scipy.sparse import save_npz

        save_npz(folder / "k.npz", csr_array(K))
        save_npz(folder / "m.npz", csr_array(M))
    else:
        for name, matrix in (("k", K), ("m", M)):
            kind = "symmetric" if form == "half" else "general"
            scipy.io.mmwrite(folder / f"{name}.mtx", csr_array(matrix), symmetry=kind, precision=17)
    rows = "".join(f"{n},x,{0.1 * n},0,0\n" for n in range(1, count + 1))
    (folder / "dofs.csv").write_text("node,direction,x_m,y_m,z_m\n" + rows)
    end = "npz" if form == "npz" else "mtx"
    (folder / "given.yaml").write_text(
        f"holokine: 1\nmatrices: {{stiffness: k.{end}, mass: m.{end}, dofs: dofs.csv}}\n"
        f"gauges: {{end: {{acceleration: '{count}', axis: x}}}}\ndamping: 2 %\n"
        "events: {hit: {pulse: {x: {half sine: {peak: 5, duration: 0.1}}}, ring down: 1}}\n"
    )
    return hk.Assembly.read(folder / "given.yaml")


@pytest.mark.parametrize("form", ["general", "half", "npz"])
def test_matrices_from_elsewhere_answer_like_the_assembly(form, tmp_path):
    masses, springs = [2.0, 3.0, 1.0, 4.0], [900.0, 700.0, 500.0, 400.0]
    K, M = chain_matrices(masses, springs)
    try:
        a = given(tmp_path, K, M, 4, form)
    except DescriptionError as err:
        pytest.fail(str(err))
    own = chain(masses, springs).gauge("end", acceleration="p4", axis="x")
    modes, ours = a.modes(4), own.modes(4)
    np.testing.assert_allclose(modes.frequencies_hz, ours.frequencies_hz, rtol=1e-10)
    event = {"pulse": {"x": {"half sine": {"peak": 5, "duration": 0.1}}}, "ring down": 1}
    np.testing.assert_allclose(modes.respond("hit").result.peaks, ours.respond(event).result.peaks, rtol=1e-8)
    random = {"random": {"x": {"frequency": [0.1, 50], "density": [1.0, 1.0]}}}
    np.testing.assert_allclose(modes.respond(random).result.rms, ours.respond(random).result.rms, rtol=1e-8)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda K, M: (K + np.triu(K, 1), M), "symmetric"),
        (lambda K, M: (K[:3, :3], M), "rows"),
        (lambda K, M: (K, np.zeros_like(M)), "mass"),
        (lambda K, M: (K * np.nan, M), "finite|nan"),
    ],
)
def test_matrices_that_cannot_be_are_refused(change, words, tmp_path):
    K, M = chain_matrices([2.0, 3.0, 1.0, 4.0], [900.0, 700.0, 500.0, 400.0])
    with pytest.raises(HolokineError, match=rf"(?i){words}"):
        given(tmp_path, *change(K, M), 4, "general").modes(2)


# -- memory ----------------------------------------------------------------------------------------------------------


def test_what_memory_cannot_hold_is_refused_with_its_size(monkeypatch):
    import holokine.sizes as sizes

    assert (available_memory() or 1) > 0
    monkeypatch.setattr(sizes, "available_memory", lambda: 1_000_000_000)
    assert beyond_memory(2e9)
    assert not beyond_memory(2e8)
    with pytest.raises(DescriptionError, match=r"rows need about 80 GB, 1 GB are free: coarsen"):
        afford(1e6, 1e4, "rows", "coarsen the mesh", DescriptionError)
    afford(1e3, 1e3, "rows", "coarsen the mesh", DescriptionError)
    with pytest.raises(HolokineError, match="what was made"), enough_memory("what was made"):
        raise MemoryError
    shape = {"corner": [0, 0, 0], "sides": np.eye(3).tolist(), "divisions": [3000, 3000, 3000]}
    with pytest.raises(HolokineError, match=r"nodes|elements|free"):
        hk.Assembly().material("m", E=1e9, nu=0.3, density=1.0).part("b", box=shape, material="m").check()


def test_the_corners_of_an_extraction():
    a = chain([1.0, 2.0, 3.0], [500.0, 400.0, 300.0])
    K, M = chain_matrices([1.0, 2.0, 3.0], [500.0, 400.0, 300.0])
    exact = np.sqrt(np.linalg.eigvals(np.linalg.solve(M, K)).real)
    exact = np.sort(exact) / 2 / np.pi
    every = a.modes(50)  # more than there are
    np.testing.assert_allclose(every.frequencies_hz, exact, rtol=1e-12)
    assert "there are no others" in every.statement
    assert len(a.modes(upto=float(exact[1]) * (1 + 1e-9))) == 2
    assert len(a.modes(upto=float(exact[1]) * (1 - 1e-9))) == 1
    np.testing.assert_allclose(a.modes(1, near=float(exact[2])).frequencies_hz, exact[2:], rtol=1e-10)
    np.testing.assert_allclose(a.modes(above=float(exact[0]) * 1.01, upto=1e3).frequencies_hz, exact[1:], rtol=1e-10)
    one = chain([2.0], [800.0]).modes(1)
    assert one.frequencies_hz[0] == pytest.approx(20.0 / 2 / np.pi, rel=1e-13)
    equal_ones = hk.Assembly()
    for k in range(6):  # six equal frequencies
        equal_ones.point(f"p{k}", [k, 0, 0]).mass(f"m{k}", at=f"p{k}", mass=1.0)
        equal_ones.spring(f"k{k}", between=["ground", f"p{k}"], stiffness=100.0, axis="x")
        equal_ones.support(f"g{k}", at=f"p{k}", hold=["y", "z"])
    found = equal_ones.modes(6)
    np.testing.assert_allclose(found.frequencies_hz, np.full(6, 10 / 2 / np.pi), rtol=1e-12)
    heavy = found.set.system.mass
    np.testing.assert_allclose(found.shapes @ (heavy @ found.shapes.T), np.eye(6), atol=1e-10)
    with pytest.raises((SolverError, HolokineError)):
        a.modes(upto=float(exact[0]) * 0.5).respond({"static": "none"})


def test_tables_asked_for_are_what_is_saved_each_under_its_own_name(run, modes, tmp_path):
    def called(*arguments: str) -> str:
        done = inside(*map(str, arguments))
        assert done.returncode == 0, done.stderr
        return done.stdout

    one = ["--table", "energy group"]
    called("modes", str(run), *one, "--save", str(tmp_path / "one.csv"))
    pd.testing.assert_frame_equal(pd.read_csv(tmp_path / "one.csv"), modes.table("energy", "group"))
    both = ["--table", "energy", *one]
    told = json.loads(called("modes", str(run), *both, "--json"))["tables"]
    assert list(told) == ["energy", "energy group"]
    equal(told["energy"], modes.table("energy"), "whole")
    equal(told["energy group"], modes.table("energy", "group"), "of groups")
    called("modes", str(run), *both, "--save", str(tmp_path / "both.xlsx"), "--out", str(tmp_path))
    assert list(pd.read_excel(tmp_path / "both.xlsx", sheet_name=None)) == ["contents", "energy", "energy group"]
    assert {p.name for p in tmp_path.glob("energy*.csv")} == {"energy.csv", "energy_group.csv"}
    refused = inside("modes", str(run), *both, "--save", str(tmp_path / "two.csv"))
    assert refused.returncode == 2
    assert "holds one table, 2 are asked for" in refused.stderr
    assert not (tmp_path / "two.csv").exists()
    random = next(e for e, k in modes.assembly.description.events.items() if k.kind == "random")
    answer = modes.respond(random)
    pair = [r.gauge for r in answer.result.reduced.readings][:2]
    told = json.loads(called("respond", str(run), random, "--table", f"covariance '{pair[0]}' '{pair[1]}'", "--json"))
    equal(told["tables"]["covariance"], answer.table("covariance", *pair), "of two gauges")
