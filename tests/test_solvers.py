"""Factorisations and eigenpairs against dense LAPACK on hundreds of made-up problems."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.linalg
import scipy.sparse as sp
from hypothesis import given, settings
from hypothesis import strategies as st

import holokine as hk
from conftest import STEEL, straight_beam
from holokine.errors import SolverError
from holokine.solvers import eigen, factor
from holokine.solvers.eigen import Wish, find_pairs, lowest_pairs
from holokine.solvers.factor import factorise
from holokine.solvers.lanczos import block_lanczos
from holokine.solvers.library import fast_available

METHODS = ["dense", "superlu", *(["ldl"] if fast_available() else [])]


@pytest.fixture
def sparse_route(monkeypatch):
    """Send small problems through the sparse route."""
    monkeypatch.setattr(eigen, "DENSE_SIZE", 10)


def problem(eigenvalues: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """K, M and M-orthonormal eigenvectors (columns) with the given eigenvalues."""
    rng = np.random.default_rng(seed)
    n = len(eigenvalues)
    Q = np.linalg.qr(rng.standard_normal((n, n)))[0]
    low = np.linalg.cholesky(np.eye(n) + 0.2 * Q @ np.diag(rng.uniform(0, 1, n)) @ Q.T)
    Q = np.linalg.qr(rng.standard_normal((n, n)))[0]
    K = low @ (Q * eigenvalues) @ Q.T @ low.T
    M = low @ low.T
    return (K + K.T) / 2, (M + M.T) / 2, np.linalg.solve(low.T, Q)


@pytest.mark.parametrize("method", METHODS)
def test_factors_solve_and_count(method):
    for seed in range(12):
        rng = np.random.default_rng(seed)
        values = np.sort(10 ** rng.uniform(0, 4, 80))
        K, M, _ = problem(values, seed)
        shift = (values[seed] + values[seed + 1]) / 2
        factor = factorise(sp.csr_array(K - shift * M), method=method)
        B = rng.standard_normal((80, 3))
        np.testing.assert_allclose((K - shift * M) @ factor.solve(B), B, atol=1e-8)
        np.testing.assert_allclose(factor.solve(B[:, 0]), factor.solve(B)[:, 0], rtol=1e-9, atol=1e-12)
        assert factor.negative in (seed + 1, None)
        if method != "superlu":
            assert factor.negative == seed + 1


@pytest.mark.parametrize("seed", range(40))
def test_random_problems_of_many_kinds_against_dense(sparse_route, seed):
    """Five kinds each: plain, repeated, rigid-body, clustered, with motions without mass."""
    rng = np.random.default_rng(1000 + seed)
    for kind in ("plain", "repeated", "rigid", "clustered", "massless"):
        n = int(rng.integers(60, 140))
        values = np.sort(10 ** rng.uniform(0, 6, n))
        rigid = 0
        if kind == "repeated":
            values[3 : 3 + int(rng.integers(2, 8))] = values[3]
        elif kind == "rigid":
            rigid = 6
            values[:6] = 0.0
        elif kind == "clustered":
            values[5:8] = values[5] * (1 + 1e-9 * np.arange(3))
        values.sort()
        K, M, X = problem(values, seed)
        if kind == "massless":
            C = rng.standard_normal((15, n))
            K = np.block([[K + C.T @ C / 40, C.T], [C, 40 * np.eye(15)]])
            M = scipy.linalg.block_diag(M, np.zeros((15, 15)))
        k = int(rng.integers(rigid + 1, 25))
        pairs = lowest_pairs(sp.csr_array(K), sp.csr_array(M), count=k, upto=None, rigid=X[:, :rigid])
        assert len(pairs.values) == k
        elastic = slice(rigid, None)
        # the made-up matrices themselves carry their eigenvalues to 1e-16 of the largest only
        np.testing.assert_allclose(pairs.values[elastic], values[rigid:k], rtol=1e-10, atol=1e-14 * values[-1])
        assert np.abs(pairs.values[:rigid]).max(initial=0.0) < 1e-9 * values[-1]
        assert pairs.residuals.max() < 1e-12
        assert pairs.orthogonality < 1e-10
        assert pairs.missing == 0
        assert pairs.exists is None or pairs.exists >= k
        gap = k < n and values[k] > values[k - 1] * (1 + 1e-6)
        if gap and kind != "massless":  # the whole found subspace is the true one
            outside = pairs.vectors.T - X[:, :k] @ (X[:, :k].T @ M @ pairs.vectors.T)
            assert np.sqrt(np.abs(np.einsum("ij,ij->j", outside, M @ outside))).max() < 1e-8


@settings(max_examples=20, deadline=None)
@given(place=st.integers(0, 8), times=st.integers(2, 9), extra=st.integers(0, 4), seed=st.integers(0, 10**6))
def test_planted_repeated_eigenvalues_are_all_found(place, times, extra, seed):
    values = np.sort(10 ** np.random.default_rng(seed).uniform(1, 5, 70))
    values[place : place + times] = values[place]
    K, M, _ = problem(np.sort(values), seed)
    before, eigen.DENSE_SIZE = eigen.DENSE_SIZE, 10
    try:
        k = place + times + extra
        pairs = lowest_pairs(sp.csr_array(K), sp.csr_array(M), count=k, upto=None)
        top = np.sort(values)[place + times - 1] * (1 + 1e-9)
        limited = lowest_pairs(sp.csr_array(K), sp.csr_array(M), count=None, upto=top)
    finally:
        eigen.DENSE_SIZE = before
    np.testing.assert_allclose(pairs.values, np.sort(values)[:k], rtol=1e-9)
    assert len(limited.values) == limited.exists == place + times


@pytest.mark.parametrize("wish", ["count", "upto", "band", "near"])
def test_a_mode_hidden_from_the_start_vectors_is_noticed_and_found(sparse_route, monkeypatch, wish):
    """The first iteration is kept orthogonal to one mode throughout; the count by inertia brings it back.

    With an upper bound the hidden mode is the last below it, and the next one lies well above.
    """
    values = np.sort(10 ** np.random.default_rng(2).uniform(1, 5, 90))
    K, M, X = problem(values, 2)
    hidden = X[:, [4]]
    original = eigen.block_lanczos
    blinded = []

    def blind(solve, mass, wanted, **keys):
        first = not blinded
        if first:
            blinded.append(True)
            keys["locked"] = hidden  # stays orthogonal to it throughout
        found = original(solve, mass, wanted, **keys)
        if first:
            assert np.abs(hidden.T @ M @ found.vectors).max() < 1e-6
        return found

    monkeypatch.setattr(eigen, "block_lanczos", blind)
    middle = (values[3] + values[4]) / 2
    asked = {
        "count": Wish(count=8),
        "upto": Wish(upto=values[4] * 1.0001),
        "near": Wish(near=values[4] * 1.001, count=3),
        "band": Wish(above=middle, upto=values[4] * 1.0001),
    }[wish]
    pairs = find_pairs(sp.csr_array(K), sp.csr_array(M), asked)
    true = {"count": values[:8], "upto": values[:5], "band": values[4:5],
            "near": np.sort(values[np.argsort(np.abs(values - values[4] * 1.001))[:3]])}[wish]  # fmt: skip
    np.testing.assert_allclose(pairs.values, true, rtol=1e-9)
    assert pairs.exists == len(true)
    assert pairs.missing == 0


def test_without_convergence_it_says_what_it_has():
    values = np.arange(1.0, 200.0)
    K, M, _ = problem(values, 1)
    factor = factorise(sp.csr_array(K))
    found = block_lanczos(factor.solve, sp.csr_array(M), lambda t: 12, block=2, most=16, tolerance=1e-30)
    assert not found.converged
    assert len(found.theta) < 12


@pytest.mark.parametrize("matrix", ["consistent", "lumped without rotary"])
def test_sparse_and_dense_routes_agree_on_an_assembly(sparse_route, monkeypatch, matrix):
    square = {"rectangle": {"width": 0.04, "height": 0.04}}
    rotary = matrix == "consistent"
    beam = straight_beam(1.0, square, STEEL, divisions=30, start=() if rotary else ["rx"]).mass_matrix(matrix)
    if not rotary:
        with pytest.raises(hk.HolokineError, match="without resistance and without inertia: rotation about x"):
            straight_beam(1.0, square, STEEL, divisions=30).mass_matrix(matrix).modes(count=8)
    sparse = beam.modes(count=16)
    assert "Lanczos" in sparse.set.method
    monkeypatch.setattr(eigen, "DENSE_SIZE", 10_000)
    dense = beam.modes(count=16)
    assert sparse.set.rigid.sum() == dense.set.rigid.sum() == (6 if rotary else 5)
    np.testing.assert_allclose(sparse.frequencies_hz, dense.frequencies_hz, rtol=1e-8)
    # square bar: bending comes in pairs, and a count that cuts one is told
    cut = beam.modes(count=7 if rotary else 6)
    assert any("ask for" in f.text for f in cut.findings)
    np.testing.assert_array_equal(sparse.frequencies_hz.shape, (16,))


def test_preload_beyond_buckling_is_refused_by_the_sparse_route(sparse_route):
    section = {"rectangle": {"width": 0.0471, "height": 0.0313}}
    beam = straight_beam(2.31, section, STEEL, start="z", end="z", suppress=["x", "y", "rx", "rz"], preload=-60000)
    with pytest.raises(hk.HolokineError, match="buckling"):
        beam.modes(count=2)
    with pytest.raises(SolverError, match="nothing is free"):
        lowest_pairs(sp.csr_array((0, 0)), sp.csr_array((0, 0)), count=1, upto=None)


@pytest.mark.skipif(not fast_available(), reason="without pypardiso everything is SuperLU's")
def test_thin_factors_are_superlus_where_nothing_can_go_wrong(monkeypatch):
    """A chain of 900 masses, definite, indefinite, free: SuperLU at rest where definite, the same pairs and counts."""
    monkeypatch.setattr(eigen, "DENSE_SIZE", 50)
    n = 900
    rng = np.random.default_rng(4)
    springs, masses = rng.uniform(1.0, 2.0, n + 1), rng.uniform(0.5, 1.5, n)

    def chain() -> sp.csr_array:
        between = -springs[1:-1]
        return sp.csr_array(sp.diags_array([between, springs[:-1] + springs[1:], between], offsets=[-1, 0, 1]))

    K = chain()
    M = sp.csr_array(sp.diags_array(masses))
    exact = scipy.linalg.eigh(K.toarray(), M.toarray(), eigvals_only=True)
    found = {}
    for large in (10, 10**9):
        monkeypatch.setattr(factor, "LARGE", large)
        pencil = factor.Pencil(K, M)
        pairs = find_pairs(K, M, Wish(count=25), pencil=pencil)
        np.testing.assert_allclose(
            pairs.values, exact[:25], rtol=1e-10, atol=2e-15 * exact[-1]
        )  # rounding of the dense ones
        assert (pairs.exists, pairs.missing, pairs.doubt) == (25, 0, "")
        assert isinstance(pencil.at(0.0), factor._SuperLUFactor) == (large == 10)
        assert ("SuperLU" in pairs.method) == (large == 10)
        found[large] = pairs.vectors
        assert pencil.at((exact[39] + exact[40]) / 2).negative == 40
    assert scipy.linalg.subspace_angles(found[10].T, found[10**9].T).max() < 1e-7
    monkeypatch.setattr(factor, "LARGE", 10)
    indefinite = factor.Pencil(sp.csr_array(K - 0.01 * M), M).at(0.0)
    assert indefinite.method == "sparse LDLT (pypardiso)"
    assert indefinite.negative == int((exact < 0.01).sum())
    springs[0] = springs[-1] = 0.0
    free = chain()
    assert factor.Pencil(free, M).at(0.0).method == "sparse LDLT (pypardiso)"
    rigid = find_pairs(free, M, Wish(count=5), rigid=np.ones((n, 1)))
    exact = scipy.linalg.eigh(free.toarray(), M.toarray(), eigvals_only=True)
    np.testing.assert_allclose(rigid.values[1:], exact[1:5], rtol=1e-9, atol=2e-15 * exact[-1])
    assert (rigid.exists, rigid.doubt) == (5, "")
