"""Where two capabilities meet: kinds of event, states, amplitudes, gauges, limits and outputs, walked together."""

from __future__ import annotations

import copy
import io
import json
import logging
import pickle
import re
import subprocess
import sys
import warnings
from functools import cache
from html import unescape
from typing import Any

import numpy as np
import pandas as pd
import pytest
import scipy.linalg
import scipy.signal
from click.testing import CliRunner
from openpyxl import load_workbook

import holokine as hk
import holokine.api.announce as shown
from conftest import STEEL, chain, chain_matrices
from holokine.cli.main import cli
from holokine.errors import CheckFailedError, DescriptionError, HolokineError, UnitError, UnknownNameError
from holokine.vary.inverse import NotReachedError


def two_arms() -> hk.Assembly:
    """Two cantilevers that have nothing to do with each other."""
    a = hk.Assembly("two arms").material("m", **STEEL).section("s", rectangle={"width": 0.03, "height": 0.02})
    for k, length in enumerate((1.0, 1.3)):
        a.point(f"a{k}", [0, k, 0]).point(f"b{k}", [length, k, 0])
        run = {"through": [f"a{k}", f"b{k}"], "section": "s", "up": "z", "divisions": 20}
        a.part(f"arm {k}", beam=run, material="m")
        a.support(f"wall {k}", at=f"a{k}", hold="all")
    return a


def test_what_modes_are_is_data_and_words_are_printed_from_it(tmp_path):
    """A part that bends is no rigid body, however little its shape differs from one; formulas pair with their like."""
    modes = two_arms().modes(6)
    kinds = [(k.family, k.about, k.member, k.order) for k in modes.kinds]
    wanted = [(1, 1), (0, 1), (1, 2)]  # arm and order, in two planes each
    assert kinds == [("bending", about, f"arm {arm}", (order,)) for arm, order in wanted for about in "yz"]
    assert modes.words == [k.words for k in modes.kinds]
    run = modes.save(tmp_path / "two.run")
    assert hk.open_run(run).kinds == modes.kinds
    area = 0.03 * 0.02
    table = hk.formula("beam", modes=2, length=1.3, E=STEEL["E"], I=0.03 * 0.02**3 / 12, beside=modes,
                       mass_per_length=STEEL["density"] * area, ends="clamped-free").table()  # fmt: skip
    own = table[table["what"] == "bending 1 about y of arm 1"]
    assert own["run_mode"].tolist() == ["1"]
    assert abs(own["run_over_formula_percent"].iloc[0]) < 0.2
    # a name with the words of another kind decides nothing
    renamed = two_arms()
    data = renamed._data
    data = {**data, "parts": {"bar on rubber, on steel": data["parts"]["arm 0"], "arm 1": data["parts"]["arm 1"]}}
    again = hk.Assembly._of(hk.Assembly("x")._with(data).document, renamed._memory.copy()).modes(3)
    assert [k.family for k in again.kinds] == ["bending"] * 3


def test_what_only_turns_about_itself_spins():
    a = hk.Assembly("rollers").material("m", **STEEL).section("r", rod={"diameter": 0.1})
    for k in range(3):
        a.point(f"a{k}", [0, 0.3 * k, 0]).point(f"b{k}", [1, 0.3 * k, 0])
        run = {"through": [f"a{k}", f"b{k}"], "section": "r", "up": "z", "divisions": 8}
        a.part(f"roller {k}", beam=run, material="m").support(f"l{k}", at=f"a{k}", hold=["x", "y", "z"])
        a.support(f"r{k}", at=f"b{k}", hold=["y", "z"])
        a.bushing(f"drive {k}", between=[f"a{k}", "ground"], stiffness=[1e7, 1e7, 1e7, 20 + k, 1, 1])
    a.group("rollers", ["roller 0", "roller 1", "roller 2"])
    assert a.modes(3).words == [f"roller {k} spins about x as a rigid body, on drive {k}" for k in range(3)]


def test_findings_reach_a_python_user(caplog, monkeypatch):
    """Warnings once each by `warnings`, notes to the log, both first at the prompt and in a notebook."""
    monkeypatch.setattr(shown, "_told", set())
    a = two_arms().gauge("tip", acceleration="b0").damping(0.02)
    a.event("hit", pulse={"z": {"half sine": {"peak": "2 g", "duration": "5 ms"}}})
    with caplog.at_level(logging.INFO, "holokine"), warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        answer = a.modes(3).respond("hit")
        a.modes(3).respond("hit")
    grave = [f.text for f in answer.findings if f.level == "warning"]
    assert grave
    assert [str(w.message) for w in told if w.category is hk.HolokineWarning].count(grave[0]) == 1
    assert {w.filename for w in told if w.category is hk.HolokineWarning} == {__file__}
    notes = [f.text for f in answer.findings if f.level == "note"]
    assert set(notes) <= {r.getMessage() for r in caplog.records}
    assert repr(answer).splitlines()[1].startswith("  warning: ")
    assert grave[0] in unescape(answer._repr_html_())
    heard = []
    hk.show_progress(lambda *what: heard.append(what))
    try:
        a.changed({"damping": 0.03}).modes(3).respond("hit")
    finally:
        hk.show_progress(False)
    assert any(phase.startswith("answering") or "gauges" in phase for phase, *_ in heard)


def test_everything_can_be_pickled_and_copied(crate, crate_modes):
    """After it was solved and read: for pools of processes, caches and joblib; copies answer the same."""
    d = crate.description
    answers = {e: crate_modes.respond(e) for e in d.events if d.events[e].needs_modes}
    answers |= {e: crate.respond(e) for e in d.events if not d.events[e].needs_modes}
    rest = crate.state(next(iter(d.states)))
    others = [crate, crate_modes, crate.check(), crate_modes.damped(), rest, rest.buckling(2),
              crate_modes.tune("fan", "z", ratio="5 %"), answers["kerb strike"].against_rules(),
              answers["kerb strike"].deformed(), crate.study({("materials", "steel", "E"): [200e9]}, count=3),
              hk.shock(([0, 0.01, 0.02], [0, 1, 0])), crate_modes.compare(crate_modes)]  # fmt: skip
    for thing in (*others, *answers.values()):
        _ = repr(thing)
        for again in (pickle.loads(pickle.dumps(thing)), copy.deepcopy(thing)):
            assert repr(again) == repr(thing)
    for name, answer in answers.items():
        again = pickle.loads(pickle.dumps(answer))
        for table, own in again.tables.items():
            assert own.equals(answer.tables[table]), (name, table)
    again = pickle.loads(pickle.dumps(crate)).changed({"damping": 0.03})
    np.testing.assert_allclose(again.modes().frequencies_hz, crate_modes.frequencies_hz, rtol=1e-10)
    with pytest.raises(ValueError, match="read-only"):
        crate.system.stiffness.data[:] *= 2


class Length:
    """A quantity as unit libraries make them."""

    class Unit:
        def __init__(self, name: str) -> None:
            self.name = name

        def __format__(self, how: str) -> str:
            return self.name

    def __init__(self, magnitude: object, unit: str) -> None:
        self.magnitude, self.units = magnitude, Length.Unit(unit)


@pytest.fixture(scope="module")
def arm() -> hk.Assembly:
    a = hk.Assembly("arm").material("steel", E="205 GPa", nu=0.29, density=7840.0)
    a.section("s", rectangle={"width": 0.04, "height": "4 cm"}).point("a", [0, 0, 0]).point("b", [1, 0, 0])
    a.part("arm", beam={"through": ["a", "b"], "section": "s", "divisions": 10}, material="steel")
    a.support("wall", at="a", hold="all").gauge("tip", acceleration="b", axis="z").damping("2 %")
    return a.event("bump", pulse={"z": {"half sine": {"peak": "3 g", "duration": "11 ms"}}})


def test_quantities_of_a_unit_library_are_taken(arm):
    p = hk.Assembly().point("a", Length(np.array([1.0, 2.0, 3.0]), "mm")).point("b", [Length(4, "cm"), 0, 0])
    assert p.description.points["a"].at == (0.001, 0.002, 0.003)
    assert p.description.points["b"].at == (0.04, 0.0, 0.0)
    made = hk.Assembly().material("m", E=Length(206.0, "GPa"), nu=0.3, density=Length(7.85, "g/cm**3"))
    assert made.description.materials["m"].density == pytest.approx(7850.0)
    assert len(arm.modes(upto=Length(0.1, "kHz"))) == len(arm.modes(upto=100.0))
    with pytest.raises(UnitError, match="expected a stress"):
        hk.Assembly().material("m", E=Length(206.0, "kg"), nu=0.3, density=1.0)
    pint = pytest.importorskip("pint")
    u = pint.UnitRegistry()
    assert hk.Assembly().point("a", u.Quantity([1, 2, 3], "mm")).description.points["a"].at == (0.001, 0.002, 0.003)


WRONG_CALLS = [
    ("m.respond(None)", "expected the name of one"), ("a.respond(5)", "expected the name of one"),
    ("a.study([{'materials': 1}])", "or a DataFrame with a column per place"), ("a.study(None)", "nothing is varied"),
    ("m.table('sensitivities', change='-100 %')", "above -100 %"), ("m.table('modes', of=3)", "It takes none"),
    ("m.table('mods')", 'Did you mean "modes"?'), ("m.plot('enrgy')", 'Did you mean "energy"?'),
    ("r.save('x.doc')", "is saved as .csv"), ("r.array('pekas')", 'Did you mean "peaks"?'),
    ("r.table('rules')", "belongs to answers to response spectra"),
    ("r.save('x.gif', rate=0)", "0 pictures"),
    ("r.table('histories', most=0)", "most: expected a whole number of at least 1"),
    ("r.table('history', 'tip', thin=-5)", "thin: expected a whole number"),
    ("r.table('history', 'tip', thin=0)", "thin: expected"),
    ("a.modes(True)", "count: expected a whole number"), ("a.modes(2.5)", "count: expected a whole number"),
    ("a.study({'materials/steel/E': [2e11]}, jobs=0)", "jobs: expected a whole number of at least 1"),
    ("m.plot(1, ax=axes)", "expected three-dimensional Axes"), ("m.plot(1, ax=axes[0, 0])", "three-dimensional Axes"),
    ("m.plot('effective_mass', ax=axes)", "one pair of Axes in two dimensions"),
    ("hk.shock(([0, 1, 2], [0, 1]))", "as many times as accelerations, got 3 and 2"),
    ("hk.shock(5)", "expected a file, (time, acceleration), a Series or a DataFrame"),
]  # fmt: skip


@pytest.mark.parametrize(("call", "words"), WRONG_CALLS)
def test_wrong_calls_say_what_is_expected(arm, call, words):
    from matplotlib.figure import Figure

    modes = arm.modes(4)
    known = {"hk": hk, "a": arm, "m": modes, "r": modes.respond("bump"), "axes": Figure().subplots(2, 2)}
    with pytest.raises(HolokineError, match=re.escape(words)):
        eval(call, known)


def test_nothing_is_decided_from_the_text_of_a_message():
    a = hk.Assembly().group("g", ["unknown key beam"]).group("h", ["later beam"])  # both may come yet
    with pytest.raises(UnknownNameError, match="unknown key beam"):
        _ = a.description
    with pytest.raises(UnknownNameError, match=r"unknown key .thruogh"):
        a.part("p", beam={"thruogh": ["a", "b"]}, material="m")


def test_variations_show_one_unit_link_places_and_take_tables(arm, tmp_path):
    table = arm.study({"sections/s/rectangle/width": "30, 50 mm"}, count=2).table()
    assert table["s width (mm)"].tolist() == [40.0, 30.0, 50.0]  # 0.04 without a unit is in m
    table = arm.study({"sections/s/rectangle/height": "30, 50 mm"}, count=2).table()
    assert table["s height (mm)"].tolist() == [40.0, 30.0, 50.0]  # 4 cm
    table = arm.study({"sections/s/rectangle/height": [0.03]}, count=2).table()
    assert table["s height"].tolist() == [0.04, 0.03]
    both = arm.study({"sections/s/rectangle/width & sections/s/rectangle/height": "20, 40 mm"}, count=2).table()
    np.testing.assert_allclose(both["mass_kg"], [12.544, 12.544 / 4, 12.544], rtol=1e-9)
    with pytest.raises(DescriptionError, match="change the same place"):
        arm.study({"sections/s/rectangle/width & sections/s/rectangle/height": "20 mm", "sections/s": ["x"]})
    rows = pd.DataFrame({"sections/s/rectangle/width": ["30 mm", "40 mm", "30 mm"],
                         "materials/steel/density": [7800, 7800, 7900]})  # fmt: skip
    table = arm.study(rows, count=2).table()
    np.testing.assert_allclose(table["mass_kg"][1:], [0.03 * 0.04 * 7800, 0.04 * 0.04 * 7800, 0.03 * 0.04 * 7900])
    with pytest.raises(NotReachedError, match="more than 10 times") as found:
        arm.target("sections/s/rectangle/width", 1, "5 kHz")
    assert 0.004 <= found.value.best.value <= 0.4
    arm.save(tmp_path / "arm.yaml")
    script = tmp_path / "unguarded.py"
    script.write_text("import holokine as hk\nprint('once')\na = hk.Assembly.read('arm.yaml')\n"
                      "v = a.study({'materials/steel/E': ['190 GPa', '200 GPa', '210 GPa']}, count=2, jobs=2)\n"
                      "print(len(v), v.failed)\n")  # fmt: skip
    done = subprocess.run([sys.executable, script.name], cwd=tmp_path, capture_output=True, text=True, timeout=300)
    assert done.stdout.splitlines() == ["once", "3 {}"], done.stderr


def fin(tied: bool = False, **more: object) -> hk.Assembly:
    """A plate that stands on a block of solids."""
    a = hk.Assembly("fin").material("m", E=2e11, nu=0.3, density=7800.0)
    block = {"corner": [-0.1, 0, -0.1], "sides": [[0.2, 0, 0], [0, 0.3, 0], [0, 0, 0.1]]}
    a.part("block", box={**block, "divisions": [8, 9 if tied else 8, 4]}, material="m")
    plate = {"corner": [0, 0, 0], "sides": [[0, 0.3, 0], [0, 0, 0.4]], "divisions": [8, 8], "thickness": 0.02}
    a.part("fin", plate={**plate, **more}, material="m")
    if tied:
        a.tie("weld", nodes={"part": "fin", "plane": {"at": [0, 0, 0], "normal": "z"}}, faces="block")
    return a.support("s", at={"part": "block", "plane": {"at": [0, 0, -0.1], "normal": "z"}}, hold=["x", "y", "z"])


@pytest.mark.parametrize("tied", [False, True])
def test_the_edge_of_a_shell_in_a_solid_is_no_hinge(tied):
    """Against 20-node bricks throughout: 102.1, 312.1, 631.2, 1001.6 Hz."""
    a = fin(tied)
    np.testing.assert_allclose(a.modes(4).frequencies_hz, [102.12, 312.12, 631.18, 1001.59], rtol=0.04)
    told = [f for f in a.check().findings if f.text.startswith("carry their rotation into the solids")]
    assert [f.level for f in told] == ["note"]
    free = fin(tied).support("held", at={"part": "fin", "plane": {"at": [0, 0, 0], "normal": "z"}}, hold="all")
    clamped = free.modes(1).frequencies_hz[0]  # rotations that something else holds are left to that
    assert 104.0 < clamped < 107.0


def test_the_end_of_a_beam_in_a_solid_is_no_hinge():
    a = hk.Assembly().material("m", E=2e11, nu=0.3, density=7800.0).section("r", rod={"diameter": 0.03})
    block = {"corner": [-0.1, -0.1, -0.1], "sides": [[0.2, 0, 0], [0, 0.2, 0], [0, 0, 0.1]], "divisions": [6, 6, 3]}
    a.part("block", box=block, material="m").point("a", [0, 0, 0]).point("b", [0, 0, 0.5])
    a.part("post", beam={"through": ["a", "b"], "section": "r", "up": "x", "divisions": 10}, material="m")
    a.support("s", at={"part": "block", "plane": {"at": [0, 0, -0.1], "normal": "z"}}, hold=["x", "y", "z"])
    f = a.modes(1).frequencies_hz[0]
    clamped = 1.8751**2 / (2 * np.pi) * np.sqrt(2e11 * 0.03**2 / 16 / 7800 / 0.5**4)
    assert 0.95 * clamped < f < clamped


def test_beams_along_a_rib_take_all_nodes_of_the_line():
    """A deck of any outline, a rib with a grid of its own, and a beam with other divisions along the same line."""
    a = hk.Assembly("rib").material("steel", **STEEL).section("box", rectangle={"width": 0.05, "height": 0.05})
    a.point("a", [0.2, 0.5, 0]).point("b", [0.73, 0.5, 0])
    outline = [[0, 0], [1, 0], [1, 1], [0, 1]]
    a.part("deck", plate={"origin": [0, 0, 0], "plane": {"x": "x", "y": "y"}, "outline": outline, "size": 0.12,
                          "thickness": 0.01}, material="steel")  # fmt: skip
    a.part("rib", plate={"corner": [0, 0.5, -0.2], "sides": [[1, 0, 0], [0, 0, 0.2]], "size": 0.12, "thickness": 0.01},
           material="steel")  # fmt: skip
    a.part("stiff", beam={"through": ["a", "b"], "section": "box", "up": "z", "size": 0.12}, material="steel")
    a.support("s", at={"part": "deck", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    mesh = a.system.mesh
    deck, stiff = set(mesh.part_nodes["deck"].tolist()), set(mesh.part_nodes["stiff"].tolist())
    top = {n for n in mesh.part_nodes["rib"].tolist() if abs(mesh.nodes[n, 2]) < 1e-9}
    assert stiff <= deck
    assert top <= deck
    assert len(stiff - top) >= 3
    assert len(a.converge(count=2).table()) == 2


def test_parts_that_nearly_touch_are_named_with_their_distance():
    a = hk.Assembly().material("m", **STEEL).section("s", rod={"diameter": 0.02})
    for name, low, n in (("deck", 0.0, 8), ("far deck", 0.3, 8)):
        a.part(name, plate={"corner": [0, 0, low], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": [n, n],
                            "thickness": 0.01}, material="m")  # fmt: skip
        a.support(f"s {name}", at={"part": name, "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    a.part("rib", plate={"corner": [0, 0.51, -0.202], "sides": [[1, 0, 0], [0, 0, 0.2]], "divisions": [5, 3],
                         "thickness": 0.01}, material="m")  # fmt: skip
    a.support("s rib", at={"part": "rib", "plane": {"at": [0, 0, -0.202], "normal": "z"}}, hold="all")
    near = [f for f in a.check().findings if "nearly touch" in f.text]
    assert len(near) == 1
    assert near[0].text.startswith('"rib" and "deck" nearly touch (2 mm, at')


# -- every kind of event, with and without a state, every amplitude, gauge and limit, in every output ---------

MASSES, SPRINGS, RATIO, PUSH = [2.0, 1.2], [5e4, 3e4], 0.02, 40.0
BAR = 1e4  # N/m of the first spring that a bar of 10 mm² and 1 m takes
GAUGES = {"u": "mm", "v": "m/s", "a": "g", "k": "N", "r": "N", "s": "MPa"}
SI = {"u": 1e-3, "v": 1.0, "a": 9.80665, "k": 1.0, "r": 1.0, "s": 1e6}
LIMIT = {"u": "1 mm", "a": "5 g", "k": "48 N", "r": "12 N", "s": "1.1 MPa"}
DENSITY = 0.02  # (m/s²)²/Hz
EVENTS = {
    "spectrum": {"spectrum": {"x": {"frequency": [0.1, 1000], "acceleration": [6.0, 6.0]}}, "combine": "srss"},
    "pulse": {"pulse": {"x": {"half sine": {"peak": 30.0, "duration": 0.02}}}},
    **{f"sweep {shown}": {"sweep": [5, 60], "base": {"x": 1.5}, "amplitudes": shown}
       for shown in ("peak", "rms", "peak to peak")},
    "random": {"random": {"x": {"frequency": [2, 200], "density": [DENSITY, DENSITY]}}, "times": 3},
    "random, longest": {"random": {"x": {"frequency": [2, 200], "density": [DENSITY, DENSITY]}},
                        "peak": "expected largest", "duration": "600 s"},
    "static": {"static": {"push": 1.0}},
}  # fmt: skip


def two_masses(state: bool) -> hk.Assembly:
    a = chain(MASSES, [SPRINGS[0] - BAR, SPRINGS[1]], RATIO).material("light", E=1e9, nu=0.3, density=2e-6)
    a.section("thin", rod={"diameter": float(np.sqrt(4e-5 / np.pi))})
    a.point("w", [-0.9, 0, 0]).support("wall", at="w", hold="all")
    a.part("bar", beam={"through": ["w", "p1"], "section": "thin", "divisions": 1}, material="light")
    a.gauge("u", displacement="p2", axis="x").gauge("v", velocity="p2", axis="x").gauge("k", force="k1")
    a.gauge("r", reaction="wall", axis="x").gauge("s", stress="bar")
    a.gauge("a", acceleration="p2", axis="x").load("push", at="p2", force=[PUSH, 0, 0])
    for name, event in EVENTS.items():
        a.event(name, **{k.replace(" ", "_"): v for k, v in event.items()})
    for gauge, limit in LIMIT.items():
        a.limit(gauge, limit)
    return a.add_state("pushed", loads="push").about("pushed") if state else a


AT_REST: dict[str, float] = {}
"""With their signs."""


@cache
def by_hand() -> dict[str, dict[str, tuple[float, float]]]:
    """Lowest and highest of every gauge under every event, SI, from two modes: no part of the library."""
    K, M = chain_matrices(MASSES, SPRINGS)
    w2, phi = scipy.linalg.eigh(K, M)
    w = np.sqrt(w2)
    gamma = phi.T @ M @ np.ones(2)
    rest = np.linalg.solve(K, [0.0, PUSH])
    row = {"u": phi[1], "k": (SPRINGS[0] - BAR) * phi[0], "r": -BAR * phi[0], "s": BAR / 1e-5 * phi[0]}
    found = {"static": {g: float(rest @ np.linalg.solve(phi.T, r)) for g, r in row.items()}}
    AT_REST.update(found["static"])
    q = gamma * 6.0 / w2
    found["spectrum"] = {g: np.hypot(*(r * q)) for g, r in row.items()}
    found["spectrum"] |= {"v": np.hypot(*(phi[1] * q * w)), "a": np.hypot(*(phi[1] * q * w2))}

    def steady(f: np.ndarray) -> dict[str, np.ndarray]:
        """Amplitudes per m/s² of the base."""
        s = 2j * np.pi * f[:, None]
        each = -gamma / (s**2 + 2 * RATIO * w * s + w2)
        relative = each @ phi[1]
        return {
            "u": relative,
            "v": relative * s[:, 0],
            "a": relative * s[:, 0] ** 2 + 1.0,
            "k": each @ row["k"],
            "s": each @ row["s"],
            "r": (each * (1 + 2 * RATIO * s / w)) @ row["r"],
        }

    f = np.unique(
        np.concatenate([np.linspace(5, 60, 200_001), *(np.linspace(0.99, 1.01, 20_001) * x / 2 / np.pi for x in w)])
    )
    sweep = {g: 1.5 * np.abs(h).max() for g, h in steady(f).items()}
    found |= {name: sweep for name in EVENTS if name.startswith("sweep")}
    f = np.geomspace(2, 200, 400_001)
    rms, most = {}, {}
    for g, h in steady(f).items():
        power = DENSITY * np.abs(h) ** 2
        rms[g] = np.sqrt(np.trapezoid(power, f))
        root = np.sqrt(2 * np.log(np.sqrt(np.trapezoid(power * f**2, f)) / rms[g] * 600))
        most[g] = rms[g] * (root + 0.5772156649 / root)
    found |= {"random": {g: 3 * r for g, r in rms.items()}, "random, longest": most}
    t = np.linspace(0.0, 0.6, 600_001)
    base = 30.0 * np.sin(np.pi * t / 0.02) * (t < 0.02)
    x = np.zeros((2, 2, len(t)))
    for k in range(2):
        _, _, z = scipy.signal.lsim(([1.0], [1.0, 2 * RATIO * w[k], w2[k]]), base, t)  # states: speed and place
        x[k] = -gamma[k] * z.T
    speed, place = x[:, 0], x[:, 1]
    absolute = -(2 * RATIO * w[:, None] * speed + w2[:, None] * place)
    found["pulse"] = {"u": phi[1] @ place, "v": phi[1] @ speed, "a": phi[1] @ absolute + base * (1 - phi[1] @ gamma),
                      "k": row["k"] @ place, "s": row["s"] @ place,
                      "r": row["r"] @ (place + 2 * RATIO * speed / w[:, None])}  # fmt: skip

    def both(v: Any) -> tuple[float, float]:
        return (float(np.min(v)), float(np.max(v))) if np.ndim(v) else (-abs(float(v)), abs(float(v)))

    return {event: {g: both(v) for g, v in values.items()} for event, values in found.items()}


CLOSE = {"pulse": 2e-4, "random": 2e-4, "random, longest": 2e-4}


@pytest.mark.parametrize("state", [False, True])
def test_one_number_means_the_same_in_every_output(state, tmp_path):
    """Tables, limits, JSON and CSV of the command line, report and workbook against the calculation by hand."""
    a = two_masses(state)
    modes, wanted, runner = a.modes(), by_hand(), CliRunner()
    file = modes.save(tmp_path / "two.run")
    rest = {g: AT_REST.get(g, 0.0) if state else 0.0 for g in GAUGES}
    largest: dict[str, tuple[float, str]] = {}
    for event, values in wanted.items():
        close = CLOSE.get(event, 1e-6)
        answer = modes.respond(event)
        told = answer.table("largest").set_index("gauge")
        shown = {"sweep rms": 0.5**0.5, "sweep peak to peak": 2.0}.get(event, 1.0)
        column = {"sweep rms": "rms", "sweep peak to peak": "peak_to_peak", "static": "value"}.get(event, "peak")
        table = answer.table("peaks").set_index("gauge")
        limits = answer.table("limits").set_index("gauge")
        data = json.loads(runner.invoke(cli, ["respond", str(file), event, "--json"]).output)["tables"]
        name = next(k for k in data if k.endswith("_peaks"))
        rows = {r["gauge"]: r for r in data[name]}
        held = {r["gauge"]: r for r in data[name.replace("_peaks", "_limits")]}
        for gauge, (low, high) in values.items():
            size, value = SI[gauge], max(high, -low)
            assert abs(told.loc[gauge, "peak"]) * size == pytest.approx(value, rel=close), (event, gauge)
            assert abs(table.loc[gauge, column]) * size == pytest.approx(shown * value, rel=close), (event, gauge)
            assert rows[gauge][column] == pytest.approx(table.loc[gauge, column], rel=1e-12)
            if largest.get(gauge, (0.0, ""))[0] < value * (1 - 1e-9):
                largest[gauge] = value, event
            if gauge not in LIMIT:
                continue
            total = max(abs(low + rest[gauge]), abs(high + rest[gauge]))
            if event == "static":  # its sign is known
                total = abs(AT_REST[gauge] + rest[gauge])
            at_most = gauge == "s"  # of fields the largest of both added, which is told
            if at_most and state:
                total = max(-low, high) + abs(rest[gauge])
            assert limits.loc[gauge, "of"] == ("event" if not state else "total, at most" if at_most else "total")
            assert limits.loc[gauge, "peak"] * size == pytest.approx(total, rel=close), (event, gauge)
            allowed = {"u": 1e-3, "a": 5 * 9.80665, "k": 48.0, "r": 12.0, "s": 1.1e6}[gauge]
            assert limits.loc[gauge, "use_percent"] == pytest.approx(100 * total / allowed, rel=close)
            assert (limits.loc[gauge, "met"] == "yes") == (total <= allowed)
            assert held[gauge]["peak"] == pytest.approx(limits.loc[gauge, "peak"], rel=1e-12)
        meaning = {"spectrum": "combined peak", "random": "3 RMS", "static": "value",
                   "random, longest": "expected largest in 600 s"}.get(event, "peak")  # fmt: skip
        assert set(told["meaning"]) == set(limits["meaning"]) == {meaning}
        assert answer.ok == bool((limits["met"] == "yes").all())
        code = runner.invoke(cli, ["respond", str(file), event]).exception
        assert isinstance(code, CheckFailedError) != answer.ok
    report = modes.report(sections=["findings", "events"])
    over = report.tables["findings: Largest of every reading over all events"].set_index("gauge")
    for gauge, (value, event) in largest.items():
        assert abs(over.loc[gauge, "peak"]) * SI[gauge] == pytest.approx(value, rel=2e-4)
        assert over.loc[gauge, "event"] == event
    book = load_workbook(report.save(tmp_path / "two.xlsx"), read_only=True, data_only=True)
    found = {}
    for sheet in book:
        rows = [list(r) for r in sheet.iter_rows(values_only=True)]
        head = next((r for r in rows if {"gauge", "peak", "meaning", "event"} <= set(r)), None)
        if head is not None and "limit" not in head:
            at = [head.index(c) for c in ("gauge", "peak")]
            found = {r[at[0]]: r[at[1]] for r in rows[rows.index(head) + 1 :]}
    for gauge in largest:
        assert found[gauge] == pytest.approx(over.loc[gauge, "peak"], rel=1e-12)
    csv = pd.read_csv(io.StringIO(runner.invoke(cli, ["respond", str(file), "sweep rms", "--csv"]).output))
    own = modes.respond("sweep rms").table("peaks")
    np.testing.assert_allclose(csv["rms"], own["rms"], rtol=1e-12)


def test_shapes_are_checked_in_three_lines_by_matrices_and_rows(arm):
    modes = arm.modes(5)
    K, M, _, T = arm.arrays
    v = np.linalg.lstsq(T.toarray(), modes.shapes.T, rcond=None)[0]
    np.testing.assert_allclose(T.T @ K @ T @ v, T.T @ M @ T @ v * (2 * np.pi * modes.frequencies_hz) ** 2, rtol=1e-6,
                               atol=1e-3)  # fmt: skip
    nodes = arm.nodes("arm")
    tip = nodes.loc[nodes["x_mm"].idxmax()]
    assert tip["row"] == 6 * (tip["node"] - 1) == arm.nodes("b")["row"].iloc[0]
    along = modes.shapes[:, nodes["row"].to_numpy(int)]  # x of every node, mode by mode
    assert along.shape == (5, len(nodes))
    assert len(arm.nodes()) == len(arm.coordinates())
