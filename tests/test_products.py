"""Products, sums of element matrices, the mass that is free to move, and the ways by which they are worked out."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.linalg
import scipy.sparse as sp
from hypothesis import given, settings
from hypothesis import strategies as st

import holokine as hk
from conftest import STEEL
from holokine.elements import kinds
from holokine.elements.kinds import by_shape, congruent
from holokine.elements.stress import equivalent_form, equivalent_root, equivalent_stress, mapped
from holokine.modes.free_mass import free_mass
from holokine.solvers import factor as factor_module
from holokine.solvers import products
from holokine.solvers.eigen import Wish, find_pairs
from holokine.solvers.factor import Pencil, factorise
from holokine.solvers.library import fast_available, sparse_library
from holokine.solvers.nullspace import all_resisted, unresisted
from holokine.solvers.pool import one_pool
from holokine.system import constraints as constraints_module
from holokine.system.assemble import Accumulator, node_dofs, without_noise
from holokine.system.constraints import Constraints
from holokine.system.wide import Following, explicit, magnitude

WAYS = [False, *([True] if fast_available() else [])]


@pytest.fixture(params=WAYS, ids=lambda fast: "library" if fast else "scipy")
def way(request, monkeypatch):
    """Products by the sparse solver's library, however small, and without it."""
    library = sparse_library() if request.param else None
    monkeypatch.setattr(products, "sparse_library", lambda: library)
    monkeypatch.setattr(products, "_SMALL", -1)
    return request.param


def scattered_matrix(n: int, seed: int, ridge: float = 0.0) -> sp.csr_array:
    A = sp.random_array((n, n), density=0.05, rng=seed, format="csr")
    return sp.csr_array(A + A.T + ridge * sp.eye_array(n))


def test_products_of_blocks(way):
    """Against dense products, for more vectors than are taken at once; what is given is not changed."""
    A, rng = scattered_matrix(130, 1), np.random.default_rng(2)
    for count in (1, 6, 40):
        X = rng.standard_normal((count, 130))
        before = X.copy()
        np.testing.assert_allclose(products.Symmetric(A)(X), X @ A.toarray(), atol=1e-12)
        assert (before == X).all()
        block = np.ascontiguousarray(X.T)
        np.testing.assert_allclose(products.Symmetric(A).columns(block), A.toarray() @ block, atol=1e-12)
    V, W, P = rng.standard_normal((9, 130)), rng.standard_normal((4, 130)), rng.standard_normal((9, 4))
    np.testing.assert_allclose(products.inner(V, W), V @ W.T, atol=1e-12)
    np.testing.assert_allclose(products.inner(V[::2], W), V[::2] @ W.T, atol=1e-12)
    expected = W - P.T @ V
    for rows in (W.copy(), np.asfortranarray(W)):
        products.subtract(rows, P, V)
        np.testing.assert_allclose(rows, expected, atol=1e-12)
    whole = W.copy()
    products.subtract(whole, P[:0], V[:0])  # nothing to take off
    assert (whole == W).all()
    with one_pool():  # results are the same in one pool of threads
        np.testing.assert_allclose(V @ W.T, products.inner(V, W), atol=1e-12)


def test_inverse_form(way):
    """bᵀ A⁻¹ b against a dense solution; None where conjugate gradients would take long; zero for nothing."""
    A = scattered_matrix(200, 3, ridge=12.0)
    B = np.random.default_rng(4).standard_normal((200, 3))
    dense = np.einsum("ij,ij->j", B, np.linalg.solve(A.toarray(), B))
    found = products.inverse_form(products.Symmetric(A), B, A.diagonal(), beside=np.zeros(3))
    np.testing.assert_allclose(found, dense, rtol=1e-9)
    assert (products.inverse_form(products.Symmetric(A), 0 * B, A.diagonal(), beside=np.ones(3)) == 0).all()
    # rows of any size, and rows without numbers, are no burden
    by = sp.diags_array(np.geomspace(1e-6, 1e6, 200))
    padded = sp.csr_array(sp.block_diag([by @ A @ by, sp.csr_array((9, 9))]))
    found = products.inverse_form(
        products.Symmetric(padded), np.vstack([by @ B, np.zeros((9, 3))]), padded.diagonal(), beside=np.zeros(3)
    )
    np.testing.assert_allclose(found, dense, rtol=1e-9)
    turn = np.linalg.qr(np.random.default_rng(5).standard_normal((200, 200)))[0]
    for own in (np.geomspace(1e-9, 1.0, 200), np.r_[np.zeros(5), np.ones(195)]):  # steep, singular
        bad = sp.csr_array(turn @ np.diag(own) @ turn.T)
        assert products.inverse_form(products.Symmetric(bad), B, bad.diagonal(), beside=np.zeros(3)) is None


def test_free_mass_of_every_kind_of_mass_matrix(way):
    """By gradients, by a factor of its own, by one in the ordering of the stiffness, with motions without mass."""
    rng = np.random.default_rng(5)
    good = scattered_matrix(150, 6, ridge=12.0)
    bad = sp.csr_array(sp.block_diag([good, np.diag(np.geomspace(1e-11, 1.0, 60)) + 1e-12 * np.ones((60, 60))]))
    for M in (good, bad):
        n = M.shape[0]
        r = rng.standard_normal((n, 3))
        load = M @ r
        exact = np.einsum("ij,ij->j", load, r)
        np.testing.assert_allclose(free_mass(M, load), exact, rtol=1e-9)
        near = r.copy()
        near[:7] = 0.0  # right but for a few rows
        np.testing.assert_allclose(free_mass(M, load, near), exact, rtol=1e-9)
        pencil = Pencil(sp.csr_array(M + sp.eye_array(n)), M)
        pencil.at(0.0, keep=True)
        np.testing.assert_allclose(free_mass(M, load, near, pencil), exact, rtol=1e-9)
        assert pencil.held(0.0)
    padded = sp.csr_array(sp.block_diag([good, sp.csr_array((10, 10))]))
    load = np.vstack([good @ np.ones((150, 1)), np.zeros((10, 1))])
    np.testing.assert_allclose(free_mass(padded, load), [good.sum()], rtol=1e-9)


@pytest.mark.parametrize("method", ["superlu", *(["ldl"] if fast_available() else [])])
def test_one_step_of_inverse_iteration_sees_what_nothing_resists(method):
    """Trusses of points on springs: sound ones pass, a loose motion or a nearly loose one is looked at closer."""
    n = 300
    line = sp.csr_array(sp.diags_array([-np.ones(n - 1), 2.0 * np.ones(n), -np.ones(n - 1)], offsets=[-1, 0, 1]))
    assert all_resisted(line, factorise(line, method=method))
    stiff = sp.csr_array(sp.diags_array(np.geomspace(1e-7, 1e7, n)))  # very different stiffnesses are no mechanism
    assert all_resisted(stiff, factorise(stiff, method=method))
    ends = np.r_[1.0, 2.0 * np.ones(n - 2), 1.0]
    for hold in (1e-14, 1e-13):  # a free line that a whiff holds
        loose = sp.csr_array(sp.diags_array([-np.ones(n - 1), ends, -np.ones(n - 1)], offsets=[-1, 0, 1]))
        loose = sp.csr_array(loose + hold * sp.eye_array(n))
        assert not all_resisted(loose, factorise(loose, method=method))
    free, others = unresisted(loose)
    assert len(free) == 1
    assert np.ptp(free[0]) < 1e-6 * abs(free[0]).max()
    energy = np.einsum("ij,ij->i", others, (loose @ others.T).T) / np.einsum("ij,ij->i", others, others)
    assert energy.min() == pytest.approx(2 - 2 * np.cos(np.pi / n), rel=0.5)  # the first elastic motion, roughly


@settings(max_examples=25, deadline=None)
@given(st.integers(0, 10**6), st.sampled_from([3, 6]), st.booleans(), st.integers(200, 5000))
def test_sums_of_element_matrices(seed, motions, shared, limit):
    """Blocks of node pairs against dense sums of two matrices: any nodes (repeated ones too), shared, any pieces."""
    rng = np.random.default_rng(seed)
    total = 9
    accumulator, dense = Accumulator(6 * total, matrices=2), np.zeros((2, 6 * total, 6 * total))
    accumulator.limit = limit
    for count in (4, 3, 4):
        elements = int(rng.integers(1, 12))
        nodes = np.array([rng.choice(total, count, replace=False) for _ in range(elements)])
        kinds = int(rng.integers(1, 4)) if shared else elements
        index = rng.integers(0, kinds, elements) if shared else None
        values = rng.standard_normal((2, kinds, motions * count, motions * count))
        values[:, :, 1] = 0.0  # a direction that does not couple
        accumulator.add_elements(nodes, motions, index, *values)
        for e, own in enumerate(nodes):
            dofs = (own[:, None] * 6 + np.arange(motions)).ravel()
            dense[:, dofs[:, None], dofs] += values[:, e if index is None else index[e]]
    dofs = node_dofs(np.array([1, 4]))
    for matrix in (1, 0):
        block = rng.standard_normal((1, 12, 12))
        accumulator.add(node_dofs(np.array([[1, 4]])), block, matrix)
        dense[matrix][np.ix_(dofs, dofs)] += block[0]
    for matrix in (0, 1):
        result = accumulator.result(matrix)
        np.testing.assert_allclose(result.toarray(), dense[matrix], atol=1e-12)
        assert result.has_sorted_indices or (result.sort_indices() is None)
        assert result.nnz <= (dense[matrix] != 0).sum() + 144


def test_what_rounding_left_is_not_stored(monkeypatch):
    """In a grid of rectangles: no number between rounding and 1e-9 of the most it can be; what stays, stays to the bit.

    What is small but not left by rounding stays, as does all in rows without a diagonal.
    """

    def made() -> hk.Assembly:
        a = hk.Assembly().material("m", **STEEL)
        a.part("p", plate={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.6, 0]], "divisions": [20, 12],
                           "thickness": 0.002}, material="m")  # fmt: skip
        return a.support("root", at={"part": "p", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")

    clean = made().system
    with monkeypatch.context() as patch:
        patch.setattr("holokine.system.build.without_noise", lambda A: A)
        whole = made().system
    for A, B in ((clean.stiffness, whole.stiffness), (clean.mass, whole.mass)):
        root = np.sqrt(B.diagonal())
        off = abs(A - B).tocoo()
        assert off.nnz > B.nnz // 6
        assert (off.data < 1e-15 * root[off.row] * root[off.col]).all()
        assert A.nnz + off.nnz == B.nnz
        assert abs(A - A.T).nnz == 0
    rest = clean.stiffness.tocoo()
    root = np.sqrt(clean.stiffness.diagonal())
    size = np.abs(rest.data) / (root[rest.row] * root[rest.col])
    assert ((size > 1e-9) | (size < 1e-13)).all()
    monkeypatch.setattr("holokine.system.assemble._STRIP", 5)
    given = np.array([[4.0, 3e-15, 0, 1e-7], [3e-15, 1.0, 1.9e-15, 0], [0, 1.9e-15, 4.0, 1e-30], [1e-7, 0, 1e-30, 0.0]])
    kept = given.copy()
    kept[1, 2] = kept[2, 1] = 0.0
    assert (without_noise(sp.csr_array(given)).toarray() == kept).all()
    empty = sp.csr_array((4, 4))
    assert without_noise(empty).nnz == 0


@pytest.mark.parametrize("shape", ["grid", "stretched"])
def test_equal_elements_are_worked_out_once_and_right(shape, monkeypatch):
    """A grid of few different bricks and quads, and one where none equals another: matrices as if each were alone."""

    def made(alone: bool) -> list[sp.csr_array]:
        with monkeypatch.context() as patch:
            if alone:
                patch.setattr(kinds, "congruent", lambda X: None)
            a = hk.Assembly().material("m", **STEEL)
            a.part("b", box={"corner": [0.1, 0, 0.3], "sides": np.diag([0.3, 0.2, 0.1]).tolist(),
                             "divisions": [6, 4, 3]}, material="m")  # fmt: skip
            if shape == "grid":
                form = {"corner": [0.1, 0, 0], "sides": [[0.3, 0, 0.1], [0, 0.2, 0]], "divisions": [7, 5]}
                a.part("p", plate={**form, "thickness": 0.01, "offset": 0.004}, material="m")
            else:
                a.part("p", cylinder={"base": [0, 0, 0], "axis": "z", "radius": 0.2, "length": 0.3,
                                      "divisions": [17, 4], "thickness": 0.01}, material="m")  # fmt: skip
            system = a.system
            return [system.stiffness, system.mass]

    for once, each in zip(made(False), made(True), strict=True):
        assert abs(once - each).max() < 1e-10 * abs(each).max()
        assert abs(once - once.T).max() == 0.0  # symmetric to the last bit


def test_what_counts_as_equal():
    rng = np.random.default_rng(8)
    X = rng.standard_normal((4, 3)) + rng.standard_normal((50, 1, 3))
    first, index = congruent(X)
    assert len(first) == 1
    assert (index == 0).all()
    X[::2, 1] += 1e-6  # two sorts
    first, index = congruent(X)
    assert len(first) == 2
    assert set(index[::2]) != set(index[1::2])
    areas = by_shape(X, lambda places: np.linalg.norm(places[:, 1] - places[:, 0], axis=1))
    np.testing.assert_allclose(areas, np.linalg.norm(X[:, 1] - X[:, 0], axis=1), rtol=1e-10)
    assert congruent(rng.standard_normal((50, 4, 3))) is None  # all different
    assert congruent(X[:5]) is None  # too few to be worth it
    assert congruent(np.zeros((50, 4, 3))) is None
    assert congruent(np.full((50, 4, 3), np.nan)) is None


def test_reduction_by_selection_equals_the_product():
    """Independent motions, followers and held ones against TᵀAT; another kind of T goes the plain way."""
    rng = np.random.default_rng(9)
    A = scattered_matrix(40, 10, ridge=1.0)
    T = np.zeros((40, 30))
    T[:30] = np.eye(30)
    T[30:36] = rng.standard_normal((6, 30)) * (rng.random((6, 30)) < 0.2)
    for matrix in (T, T @ np.linalg.qr(rng.standard_normal((30, 30)))[0]):
        constraints = Constraints(sp.csr_array((0, 40)), sp.csr_array(matrix), {}, np.arange(30))
        np.testing.assert_allclose(constraints.reduced(A).toarray(), matrix.T @ A @ matrix, atol=1e-12)


@pytest.mark.parametrize("width", [3, 6])
def test_equivalent_stress_is_a_length(width):
    stress = np.random.default_rng(11).standard_normal((30, width))
    L = equivalent_root(width)
    np.testing.assert_allclose(L.T @ L, equivalent_form(width), atol=1e-12)
    np.testing.assert_allclose(np.linalg.norm(stress @ L.T, axis=1), equivalent_stress(stress), rtol=1e-12)
    A = sp.random_array((8, 60), density=0.1, rng=3, format="csr")
    fields = np.random.default_rng(12).standard_normal((4, 60))
    np.testing.assert_allclose(mapped(A, fields), A @ fields.T, atol=1e-13)


def following(S, rows, inner) -> Following:
    """S + DᵀAD as S and A over the motions and those that follow them by D."""
    return Following(sp.csr_array(sp.block_diag([S, sp.csr_array(inner)])), rows)


def wide_problem(n: int, hung: bool = False) -> tuple[Following, Following]:
    """A line of springs and masses; one mass and one spring act on averages of many of its points.

    With `hung` the line is free but for that spring to ground.
    """
    rng = np.random.default_rng(13)
    ends = np.r_[1.0 if hung else 2.0, 2.0 * np.ones(n - 2), 1.0]
    S = sp.csr_array(sp.diags_array([-np.ones(n - 1), ends, -np.ones(n - 1)], offsets=[-1, 0, 1]))
    rows = sp.csr_array(np.where(np.arange(n) % 3 == 0, 3.0 / n, 0.0)[None] * rng.uniform(0.8, 1.2, (2, n)))
    stiff, heavy = np.array([[0.3, 0.0], [0.0, 0.0]]), np.array([[40.0, 5.0], [5.0, 20.0]])
    unit = sp.csr_array(sp.diags_array(rng.uniform(0.5, 1.5, n)))
    return following(S, rows, stiff), following(unit, rows, heavy)


@pytest.mark.parametrize("method", ["superlu", *(["ldl"] if fast_available() else [])])
@pytest.mark.parametrize("hung", [False, True])
def test_wide_rows_beside_a_sparse_matrix(method, hung, monkeypatch):
    """Factor, inertia, products and eigenpairs of S + DᵀAD against the dense sum; and where S alone is singular."""
    n = 700
    K, M = wide_problem(n, hung)
    full_k, full_m = explicit(K).toarray(), explicit(M).toarray()
    X = np.random.default_rng(14).standard_normal((n, 3))
    for A, full in ((K, full_k), (M, full_m)):
        np.testing.assert_allclose(A @ X, full @ X, atol=1e-12)
        np.testing.assert_allclose(A.diagonal(), np.diag(full), atol=1e-14)
        np.testing.assert_allclose(products.Symmetric(A).columns(X), full @ X, atol=1e-12)
        assert (magnitude(A, X) >= np.abs(full @ X) - 1e-13).all()
    exact = scipy.linalg.eigh(full_k, full_m, eigvals_only=True)
    pencil = Pencil(K, M, method=method)
    for below in (0, 1, 4, 30):
        shift = 0.0 if below == 0 else float((exact[below - 1] + exact[below]) / 2)
        factor = pencil.at(shift, keep=below == 0)
        assert factor.perturbed == 0
        assert factor.negative == below
        np.testing.assert_allclose((full_k - shift * full_m) @ factor.solve(X), X, atol=1e-7)
    mass = pencil.of_mass(1e-13)
    np.testing.assert_allclose(full_m @ mass.solve(X), X, atol=1e-9)
    monkeypatch.setattr(factor_module, "_chosen", lambda asked, size: method if asked == "auto" else asked)
    pairs = find_pairs(K, M, Wish(count=15))
    np.testing.assert_allclose(pairs.values, exact[:15], rtol=1e-9)
    assert pairs.exists in (15, None)
    assert pairs.residuals.max() < 1e-12
    r = np.random.default_rng(15).standard_normal((n, 2))
    exact_mass = np.einsum("ij,ij->j", r, full_m @ r)
    np.testing.assert_allclose(free_mass(M, full_m @ r, r * (1 + 1e-3), pencil), exact_mass, rtol=1e-9)


@pytest.mark.parametrize("held", ["root and stay", "stay", "nothing"])
def test_a_mass_on_many_points_stays_apart(monkeypatch, held):
    """A sheet with a machine on an averaging link: kept apart and summed up, the same answers.

    Held at its root and by a bushing at the machine; by the bushing alone, so that the sparse part is singular; free.
    """
    found = []
    for most in (0, 10**12):
        monkeypatch.setattr(constraints_module, "MOST_DENSE", most)
        a = hk.Assembly().material("m", **STEEL).damping(0.02)
        a.part("p", plate={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.6, 0]], "divisions": [20, 12],
                           "thickness": 0.01}, material="m")  # fmt: skip
        a.point("top", [0.5, 0.3, 0.2]).mass("machine", at="top", mass=20.0, inertia=[0.3, 0.3, 0.4])
        a.link("feet", averaging="top", to={"part": "p", "box": [[0.2, 0.1, -1], [0.8, 0.5, 1]]})
        if "stay" in held:
            a.bushing("stay", between=["top", "ground"], stiffness=[1e5, 1e5, 1e5, 2e3, 2e3, 2e3])
            a.gauge("stay", force="stay")
        if "root" in held:
            a.support("root", at={"part": "p", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
        a.gauge("machine", acceleration="top").gauge("sheet", stress="p")
        a.event("hit", pulse={"z": {"half sine": {"peak": 9, "duration": 0.01}}}, ring_down=0.05)
        assert a.check().ok
        assert isinstance(a.system.reduced_mass, Following) is (most == 0)
        assert isinstance(a.system.reduced_stiffness, Following) is (most == 0 and "stay" in held)
        modes = a.modes(count=14)
        assert modes.set.exists == 14
        assert not modes.set.doubt
        band = a.modes(above=modes.frequencies_hz[8] - 1.0, upto=modes.frequencies_hz[11] + 1.0)
        around = a.modes(near=float(modes.frequencies_hz[9]), count=3)
        numbers = [modes.frequencies_hz, modes.set.free_mass, band.frequencies_hz, around.frequencies_hz]
        assert band.frequencies_hz[0] == pytest.approx(modes.frequencies_hz[8], rel=1e-9)
        if held != "nothing":
            numbers += [modes.set.participation**2, modes.respond("hit").result.peaks]
        else:
            assert modes.set.rigid.sum() == 6
        found.append(numbers)
    for apart, summed in zip(*found, strict=True):
        np.testing.assert_allclose(apart, summed, rtol=1e-7, atol=1e-9 * np.abs(summed).max())
