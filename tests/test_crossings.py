"""Where two capabilities meet: kinds of event, states, amplitudes, gauges, limits and outputs, walked together."""

from __future__ import annotations

import copy
import logging
import pickle
import warnings
from html import unescape

import numpy as np
import pytest

import holokine as hk
import holokine.api.shown as shown
from conftest import STEEL


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
    assert hk.Modes.open(run).kinds == modes.kinds
    area = 0.03 * 0.02
    table = hk.formula("beam", modes=2, length=1.3, E=STEEL["E"], I=0.03 * 0.02**3 / 12, beside=modes,
                       mass_per_length=STEEL["density"] * area, ends="clamped-free")  # fmt: skip
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
    rest = crate.rest(next(iter(d.states)))
    others = [crate, crate_modes, crate.check(), crate_modes.damped(), rest, rest.buckling(2),
              crate_modes.tune("fan", "z", ratio="5 %"), crate_modes.conservatism("kerb strike"),
              answers["kerb strike"].deformed(), crate.vary({("materials", "steel", "E"): [200e9]}, count=3),
              hk.shock(([0, 0.01, 0.02], [0, 1, 0])), crate_modes.compare(crate_modes)]  # fmt: skip
    for thing in (*others, *answers.values()):
        _ = repr(thing)
        for again in (pickle.loads(pickle.dumps(thing)), copy.deepcopy(thing)):
            assert repr(again) == repr(thing)
    for name, answer in answers.items():
        again = pickle.loads(pickle.dumps(answer))
        for table, own in again.tables().items():
            assert own.equals(answer.tables()[table]), (name, table)
    again = pickle.loads(pickle.dumps(crate)).changed({"damping": 0.03})
    np.testing.assert_allclose(again.modes().frequencies_hz, crate_modes.frequencies_hz, rtol=1e-10)
    with pytest.raises(ValueError, match="read-only"):
        crate.system.stiffness.data[:] *= 2
