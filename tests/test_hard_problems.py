"""The promise of the proof: made-up hard problems whose eigenvalues are known exactly, by both factorisations."""

from __future__ import annotations

import re

import numpy as np
import pytest
import scipy.io
import scipy.sparse as sp

import hard_problems as hp
import holokine as hk
from conftest import STEEL
from holokine.errors import RunFileError, SolverError
from holokine.solvers import eigen
from holokine.solvers.eigen import Wish, find_pairs
from holokine.solvers.factor import Pencil
from holokine.solvers.library import fast_available

WAYS = ["superlu", *(["ldl"] if fast_available() else [])]


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("family", list(hp.FAMILIES))
def test_nothing_missed_doubled_or_falsely_proven(family, way, monkeypatch):
    monkeypatch.setattr("holokine.solvers.factor.fast_available", lambda: way == "ldl")
    slow = family in ("identical_parts", "hidden", "singular_consistent", "stiff_and_soft", "most_by_bound")
    for seed in range(3 if slow else 6):
        assert hp.verdict(hp.instance(family, seed)) == "", (family, seed)


@pytest.mark.parametrize("family", ["identical_parts", "clusters", "band_edges", "near_within_a_multiple", "hidden",
                                    "near_an_eigenvalue", "stiff_and_soft", "graded", "slice_boundary"])  # fmt: skip
def test_without_dense_help_it_is_right_or_says_that_it_is_not_proven(family, monkeypatch):
    """What a problem too large for dense matrices would get."""
    monkeypatch.setattr(eigen, "REPAIR", 0)
    for seed in range(20, 23):
        said = hp.verdict(hp.instance(family, seed))
        assert said == "" or said.startswith(("not proven", "refused")), (family, seed, said)


def test_doubt_is_said_first_and_carried_by_answers(monkeypatch, tmp_path):
    """An inertia that counts one too many: never printed as proof."""
    a = hk.Assembly().material("m", **STEEL).section("s", rod={"diameter": 0.02})
    a.point("a", [0, 0, 0]).point("b", [3, 0, 0])
    a.part("bar", beam={"through": ["a", "b"], "section": "s", "divisions": 130}, material="m")
    a.support("w", at="a", hold="all").gauge("tip", acceleration="b")
    monkeypatch.setattr(eigen, "REPAIR", 0)
    real = Pencil.at

    def lying(self, shift, **keys):
        factor = real(self, shift, **keys)
        factor.negative = factor.negative + (shift > 0)
        return factor

    monkeypatch.setattr(Pencil, "at", lying)
    modes = a.modes(count=5)
    assert modes.statement.startswith("5 modes found")
    assert re.search(r"NOT PROVEN: 1 of \d eigenvalues that were not found", modes.statement)
    assert "exist there" not in modes.statement
    answer = modes.respond({"spectrum": {"z": {"frequency": [0.1, 1e5], "acceleration": [1, 1]}}})
    assert any(f.level == "error" and "not" in f.text for f in answer.findings)


def test_all_that_exist_and_counts_that_cut(tmp_path):
    """Through matrices from elsewhere, the public way."""
    k, m = np.array([4.0, 9.0, 9.0, 16.0, 25.0]), np.array([1.0, 1.0, 1.0, 1.0, 0.0])
    for name, d in (("k", k), ("m", m)):
        scipy.io.mmwrite(tmp_path / f"{name}.mtx", sp.csr_array(sp.diags_array(d)), symmetry="symmetric")
    rows = "".join(f"{i},x,{i},0,0\n" for i in range(1, 6))
    (tmp_path / "d.csv").write_text("node,direction,x_m,y_m,z_m\n" + rows)
    text = "holokine: 1\nmatrices: {stiffness: k.mtx, mass: m.mtx, dofs: d.csv}\n"
    (tmp_path / "a.yaml").write_text(text)
    a = hk.Assembly.read(tmp_path / "a.yaml")
    everything = a.modes(count=9)
    assert len(everything) == 4
    assert everything.statement.startswith("all 4 modes that exist found")
    assert any("9 modes were asked for, and there are 4 in all" in f.text for f in everything.findings)
    np.testing.assert_allclose(everything.frequencies_hz * 2 * np.pi, [2, 3, 3, 4], rtol=1e-12)
    assert any("ask for 3" in f.text for f in a.modes(count=2).findings)
    near = a.modes(near=3.0 / (2 * np.pi), count=1)
    assert any("ask for 2 to have them all" in f.text for f in near.findings)
    opened = hk.open_run(everything.save(tmp_path / "a.run"))
    assert opened.statement == everything.statement


def test_a_factor_that_gave_up_its_place_says_so():
    K = sp.csr_array(sp.diags_array([np.full(900, 2.0), -np.ones(899), -np.ones(899)], offsets=[0, 1, -1]))
    pencil = Pencil(K, sp.csr_array(sp.eye_array(900)), method=WAYS[-1])
    first = pencil.at(0.0)
    assert first.negative == 0
    before = first.solve(np.ones(900))
    second = pencil.at(1.0)
    assert first.negative == 0  # what was told stays as it was
    assert second.negative == 300
    if WAYS[-1] == "ldl":
        with pytest.raises(RuntimeError, match="given up its place"):
            first.solve(np.ones(900))
    else:
        np.testing.assert_array_equal(first.solve(np.ones(900)), before)


def test_an_ordinary_problem_costs_two_factorisations():
    n = 2000
    K = sp.csr_array(sp.diags_array([np.full(n, 2.0), -np.ones(n - 1), -np.ones(n - 1)], offsets=[0, 1, -1]))
    M = sp.csr_array(sp.eye_array(n))
    for wish in (Wish(count=20), Wish(upto=0.001), Wish(count=20, upto=1.0)):
        assert find_pairs(K, M, wish).factorisations == 2


def test_a_slice_that_fails_keeps_what_is_certain(monkeypatch):
    monkeypatch.setattr(eigen, "REPAIR", 0)
    problem = hp.instance("slice_boundary", 1)
    real, calls = eigen._Sweep._loosely, []

    def tired(self, *args):
        calls.append(1)
        if len(calls) % 2 == 0:
            raise SolverError("did not converge")
        return real(self, *args)

    monkeypatch.setattr(eigen._Sweep, "_loosely", tired)
    got = find_pairs(problem.K, problem.M, problem.wish)
    assert "the extraction did not get on: did not converge" in got.doubt
    assert 100 < len(got.values) < 200
    np.testing.assert_allclose(got.values, problem.values[: len(got.values)], rtol=1e-7)


def test_errors_of_vectors_that_cannot_be_kept(tmp_path):
    a = hk.Assembly().material("m", **STEEL).section("s", rod={"diameter": 0.02}).point("a", [0, 0, 0])
    a.point("b", [1, 0, 0]).part("bar", beam={"through": ["a", "b"], "section": "s"}, material="m")
    a.support("w", at="a", hold="all").load("push", at="b", force=[0, 0, 1]).event("rest", static="push")
    a.event("hit", loads={"push": {"half sine": {"duration": 0.01}}})
    with pytest.raises(RunFileError, match="name the event"):
        a.ritz({"loads": {"push": {"half sine": {"duration": 0.01}}}}, count=2).save(tmp_path / "v.run")
    vectors = a.ritz("hit", count=2)
    opened = hk.open_run(vectors.save(tmp_path / "v.run"))
    np.testing.assert_array_equal(opened.shapes, vectors.shapes)
