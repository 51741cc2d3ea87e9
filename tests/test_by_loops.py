# ruff: noqa: E501 - data in rows
"""Pieces of the core on their own, each against plain loops, closed forms or dense calculation."""

from __future__ import annotations

import math
from itertools import combinations, permutations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import quad, solve_ivp
from scipy.sparse import csr_array, random_array

import holokine as hk
from conftest import STEEL
from holokine.describe.events.sweep_event import Harmonic
from holokine.describe.schema import Material, Spring
from holokine.elements.constitutive import plane_stress, rotate, solid_matrix, transverse_shear
from holokine.elements.laws import force_law
from holokine.elements.shapes import gauss, node_places, shape, surface_shape
from holokine.errors import DescriptionError, EventError
from holokine.excite.harmonic import build_swing
from holokine.later import Later
from holokine.mesh.cells import CELLS
from holokine.mesh.mesh import Block, Mesh
from holokine.mesh.quality import BAD_SHAPE, block_shapes, edge_lengths
from holokine.mesh.surface import outer_faces, rim
from holokine.respond.oscillators import Oscillators, cubic_extremes, phi_functions, recurrence
from holokine.show.numbers import cell_text, column_words, display_unit, number_text
from holokine.system.wide import Following, explicit, magnitude
from holokine.vary.follow import follow
from holokine.vary.parameters import number_of, read_spread, resolved
from holokine.vary.run import VariantResult
from holokine.vary.wish import mode_number, ranked, read_wish

# -- materials and springs -----------------------------------------------------------------------------------

PLY = Material.model_validate({"density": 1600, "orthotropic": {
    "E": ["120 GPa", "9 GPa", "11 GPa"], "G": ["5 GPa", "3 GPa", "4 GPa"], "nu": [0.3, 0.25, 0.02]}})  # fmt: skip
PAIRS = ((0, 0), (1, 1), (2, 2), (0, 1), (1, 2), (2, 0))


def tensor(D: np.ndarray) -> np.ndarray:
    """A 6 by 6 matrix on engineering strain as a tensor of fourth order."""
    C = np.zeros((3, 3, 3, 3))
    for a, (i, j) in enumerate(PAIRS):
        for b, (k, m) in enumerate(PAIRS):
            for p, q in {(i, j), (j, i)}:
                for r, s in {(k, m), (m, k)}:
                    C[p, q, r, s] = D[a, b]
    return C


def test_elasticity_turns_as_a_tensor_of_fourth_order():
    rng = np.random.default_rng(4)
    D = solid_matrix(PLY)
    for _ in range(5):
        axes = np.linalg.qr(rng.standard_normal((3, 3)))[0]  # rows: material axes
        turned = np.einsum("pi,qj,rk,sm,pqrs->ijkm", axes, axes, axes, axes, tensor(D))
        np.testing.assert_allclose(tensor(rotate(D, axes)), turned, rtol=1e-12, atol=1e-12 * D.max())
    np.testing.assert_allclose(rotate(rotate(D, axes), axes.T), D, rtol=1e-12, atol=1e-12 * D.max())


def test_plane_stress_is_the_solid_without_stress_across_it():
    D = solid_matrix(PLY)
    own, rest = [0, 1, 3], [2, 4, 5]
    condensed = D[np.ix_(own, own)] - D[np.ix_(own, rest)] @ np.linalg.solve(
        D[np.ix_(rest, rest)], D[np.ix_(rest, own)]
    )
    np.testing.assert_allclose(plane_stress(PLY), condensed, rtol=1e-12)
    np.testing.assert_allclose(transverse_shear(PLY), np.diag([4e9, 3e9]), rtol=1e-12)
    steel = Material.model_validate({"E": 2e11, "nu": 0.3, "density": 7800})
    lame, shear = 2e11 * 0.3 / (1.3 * 0.4), 2e11 / 2.6
    by_hand = lame * np.outer([1, 1, 1, 0, 0, 0], [1, 1, 1, 0, 0, 0]) + np.diag([2 * shear] * 3 + [shear] * 3)
    np.testing.assert_allclose(solid_matrix(steel), by_hand, rtol=1e-12, atol=1.0)
    np.testing.assert_allclose(rotate(by_hand, np.linalg.qr(np.arange(9.0).reshape(3, 3) ** 2 + np.eye(3))[0]), by_hand,
                               rtol=1e-9, atol=1e3)  # fmt: skip
    with pytest.raises(DescriptionError, match='material "odd": E, G and nu together belong to no real material'):
        solid_matrix(
            PLY.model_copy(update={"orthotropic": PLY.orthotropic.model_copy(update={"nu": (3.9, 0.2, 0.1)})}), "odd"
        )


LAWS = {
    "both sides": {"force": [[-0.003, -90.0], [0, 0], [0.002, 30], [0.006, 250]]},
    "one side": {"force": [[0, 0], [0.002, 30], [0.006, 250]], "mirrored": False},
    "one side, downwards": {"force": [[-0.006, -250], [-0.002, -30], [0, 0]], "mirrored": False},
    "mirrored": {"force": [[0, 0], [0.002, 30], [0.006, 250]], "mirrored": True},
    "held": {"force": [[-0.003, -90.0], [0, 0], [0.002, 30]], "beyond": "held"},
    "polynomial": {"law": {"linear": 1e4, "quadratic": 2e5, "cubic": 3e8}},
}


@pytest.mark.parametrize("name", LAWS)
def test_slopes_of_springs_are_those_of_their_forces(name):
    law = force_law(Spring.model_validate({"between": ["a", "ground"], "axis": "x", **LAWS[name]}))
    assert law is not None
    places = np.linspace(-0.009, 0.009, 401) + 1.3e-6  # off the rows
    step = 1e-9
    for e in places:
        slope = (law.force(e + step) - law.force(e - step)) / (2 * step)
        held = law.held and len(law.rows) and not law.rows[0, 0] < e < law.rows[-1, 0]
        assert law.slope(e) == pytest.approx(0.0 if held else slope, rel=1e-5, abs=1e-3)
        assert abs(law.slope(e)) <= law.steepest * (1 + 1e-9) or name == "polynomial"
    if len(law.rows):
        for e, f in law.rows:
            assert law.force(e) == pytest.approx(f, abs=1e-12)
        inner = law.rows[1:-1, 0]
        for e in inner:  # at a corner the mean of both sides
            assert law.slope(e) == pytest.approx((law.slope(e - 1e-5) + law.slope(e + 1e-5)) / 2, rel=1e-12)
    if name == "mirrored":
        assert [law.force(-e) for e in places] == pytest.approx([-law.force(e) for e in places])
        assert not law.beyond(0.006)
    if name == "one side":
        assert (law.force(-0.004), law.slope(-0.004), law.beyond(-0.004), law.beyond(0.007)) == (0.0, 0.0, False, True)
    if name == "one side, downwards":
        assert (law.force(0.004), law.beyond(0.004), law.beyond(-0.007)) == (0.0, False, True)


# -- shapes and meshes ---------------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["hex8", "hex20", "tet4", "tet10", "wedge6", "wedge15", "pyramid5", "pyramid13"])
def test_shape_functions_are_one_at_their_node_and_their_slopes_are_theirs(kind):
    places = node_places(kind)
    inside = places.mean(axis=0) + 0.1 * np.random.default_rng(1).standard_normal((4, 3))
    for k, p in enumerate(places):
        if kind.startswith("pyramid") and k == 4:
            p = p - [0, 0, 1e-9]  # the apex itself has no slopes
        N, _ = shape(kind, p)
        np.testing.assert_allclose(N, np.eye(len(places))[k], atol=1e-7)
    for p in inside:
        N, dN = shape(kind, p)
        assert N.sum() == pytest.approx(1.0, abs=1e-12)
        np.testing.assert_allclose(N @ places, p, atol=1e-12)  # so that straight elements are mapped straight
        for d in range(3):
            step = 1e-6 * np.eye(3)[d]
            slope = (shape(kind, p + step)[0] - shape(kind, p - step)[0]) / 2e-6
            np.testing.assert_allclose(dN[:, d], slope, atol=1e-8)
    assert not N.flags.writeable  # worked out once, and handed out again
    assert shape(kind, p)[0] is N


@pytest.mark.parametrize("kind", ["quad9", "tri6"])
def test_surface_shapes_and_their_slopes(kind):
    p = np.array([[0.2, 0.3], [0.1, 0.55], [0.31, 0.02]])
    N, dN = surface_shape(kind, p)
    np.testing.assert_allclose(N.sum(axis=1), 1.0, atol=1e-12)
    for d in range(2):
        step = 1e-6 * np.eye(2)[d]
        slope = (surface_shape(kind, p + step)[0] - surface_shape(kind, p - step)[0]) / 2e-6
        np.testing.assert_allclose(dN[:, :, d], slope, atol=1e-8)


@pytest.mark.parametrize("n", [1, 2, 3, 5])
def test_gauss_rules_are_exact_to_their_degree(n):
    x, w = gauss(n)
    for power in range(2 * n):
        assert (w * x**power).sum() == pytest.approx((1 + (-1) ** power) / (power + 1), abs=1e-14)
    assert abs((w * x ** (2 * n)).sum() - 2 / (2 * n + 1)) > 1e-4


def mesh_of(kind: str, nodes: np.ndarray, cells: list[list[int]]) -> Mesh:
    a = hk.Assembly().material("m", **STEEL)
    a.part("p", box={"corner": [0, 0, 0], "sides": np.eye(3).tolist(), "divisions": 1}, material="m")
    from dataclasses import replace

    blocks = (Block("p", kind, np.array(cells)),)
    return replace(a.system.mesh, nodes=nodes, blocks=blocks)


def test_quality_is_the_sine_of_a_shear_and_keeps_under_turns():
    square = np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]])
    turn = np.linalg.qr(np.random.default_rng(2).standard_normal((3, 3)))[0]
    for angle in np.radians([90, 60, 30, 10, 5]):
        sheared = square.copy()
        sheared[2:, 0] += np.cos(angle)
        sheared[2:, 1] = np.sin(angle)
        for nodes in (sheared, 7.0 * sheared @ turn + 3.0):
            (found,) = block_shapes(mesh_of("quad4", nodes, [[0, 1, 2, 3]]))
            assert found.quality[0] == pytest.approx(np.sin(angle), rel=1e-9)
        lengths = edge_lengths(sheared, "quad4", np.array([[0, 1, 2, 3]]))
        np.testing.assert_allclose(lengths, 1.0, rtol=1e-12)
    assert np.sin(np.radians(5)) < BAD_SHAPE
    (triangle,) = block_shapes(mesh_of("tri3", np.array([[0, 0, 0], [2, 0, 0], [1, 3**0.5, 0.0]]), [[0, 1, 2]]))
    assert triangle.quality[0] == pytest.approx(1.0, rel=1e-12)
    brick = np.array([[x, y, z] for z in (0, 1) for x, y in ((0, 0), (1, 0), (1, 1), (0, 1))], dtype=float)
    assert block_shapes(mesh_of("hex8", brick, [list(range(8))]))[0].quality[0] == pytest.approx(1.0)
    inverted = [*range(4, 8), *range(4)]
    assert block_shapes(mesh_of("hex8", brick, [inverted]))[0].quality[0] == pytest.approx(-1.0)


def test_outer_faces_are_those_that_one_element_has():
    a = hk.Assembly().material("m", **STEEL)
    a.part("b", box={"corner": [0, 0, 0], "sides": np.eye(3).tolist(), "divisions": [3, 2, 2], "cells": "tetrahedra"},
           material="m")  # fmt: skip
    a.part("s", plate={"corner": [2, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": [3, 2], "thickness": 0.01},
           material="m")  # fmt: skip
    mesh = a.system.mesh
    seen: dict[frozenset[int], int] = {}
    for block in mesh.blocks_of("b"):
        for cell in block.cells.tolist():
            for face in combinations(cell, 3):
                seen[frozenset(face)] = seen.get(frozenset(face), 0) + 1
    alone = {face for face, count in seen.items() if count == 1}
    found = {frozenset(f) for faces, _ in outer_faces(mesh, "b") for f in faces.tolist()}
    assert found == alone
    assert set(rim(mesh, "b").tolist()) == set().union(*alone)
    edge = {n for n, (x, y, _) in enumerate(mesh.nodes) if x >= 2 and (x in (2, 3) or y in (0, 1))}
    assert set(rim(mesh, "s").tolist()) == edge
    assert CELLS["tet4"].count == 4


def test_motions_that_follow_many_are_what_they_stand_for(monkeypatch):
    rng = np.random.default_rng(3)
    S = random_array((11, 11), density=0.4, rng=rng).tocsr()
    S, D = csr_array(S + S.T), csr_array(random_array((2, 9), density=0.5, rng=rng).tocsr())
    wide = Following(S, D)
    carry = np.vstack([np.eye(9), D.toarray()])
    dense = carry.T @ S.toarray() @ carry
    X = rng.standard_normal((9, 4))
    np.testing.assert_allclose(wide @ X, dense @ X, rtol=1e-12, atol=1e-12)
    np.testing.assert_allclose(wide.diagonal(), np.diag(dense), rtol=1e-12, atol=1e-12)
    np.testing.assert_allclose(explicit(wide).toarray(), dense, rtol=1e-12, atol=1e-12)
    monkeypatch.setattr("holokine.system.wide._STRIP", 7)  # strips of a row or two, of none
    exact = np.abs(carry).T @ (np.abs(S.toarray()) @ np.abs(carry @ X))
    np.testing.assert_allclose(magnitude(wide, X), exact, rtol=1e-12)
    np.testing.assert_allclose(magnitude(wide, X[:, 0]), exact[:, 0], rtol=1e-12)
    assert (magnitude(csr_array((9, 9)), X) == 0.0).all()
    assert wide.shape == (9, 9)
    assert wide.nnz == S.nnz + D.nnz


# -- motion --------------------------------------------------------------------------------------------------


def test_phi_functions_have_no_cancellation():
    """Against their integrals, e^x = ∫ and φ_k(x) = ∫₀¹ e^((1-s)x) s^(k-1)/(k-1)! ds, over twelve decades."""
    for size in 10.0 ** np.arange(-10, 2):
        for x in (-size, -size + 0.7j * size, 1j * size):
            grown, phi1, phi2 = (complex(v[0]) for v in phi_functions(np.array([x], dtype=complex)))
            for found, weight in ((phi1, lambda s: 1.0), (phi2, lambda s: s)):
                parts = [quad(lambda s, p=part, w=weight, x=x: getattr(np.exp((1 - s) * x) * w(s), p), 0, 1, epsabs=1e-13,
                              limit=200)[0] for part in ("real", "imag")]  # fmt: skip
                assert found == pytest.approx(complex(*parts), rel=1e-12, abs=1e-13)
            assert grown == pytest.approx(np.exp(x), rel=1e-14)


@pytest.mark.parametrize("rows", [1, 7, 64, 1000])
def test_recurrences_are_their_loop(rows):
    rng = np.random.default_rng(rows)
    E = np.exp(-0.02 * rng.uniform(0, 3, 5) + 1j * rng.uniform(0, 3, 5))
    drive = rng.standard_normal((rows, 5)) + 1j * rng.standard_normal((rows, 5))
    y, expected = start = rng.standard_normal(5) + 0j, []
    y = rng.standard_normal(5) + 0j
    start = y
    for d in drive:
        y = E * y + d
        expected.append(y)
    np.testing.assert_allclose(recurrence(E, drive, start), expected, rtol=1e-11, atol=1e-11)


@pytest.mark.parametrize("damping", [0.0, 0.03, 0.9999999, 1.7])
def test_oscillators_between_rows_are_the_solution_of_their_equation(damping):
    omega, weights = np.array([17.0, 55.0]), np.array([[1.0, -0.4], [0.3, 2.0]])
    time = np.array([0.0, 0.01, 0.03, 0.03, 0.06, 0.1])
    load = np.array([[0, 0], [3.0, 1], [1, -2], [4, 4], [0, 1], [0, 0]])
    model = Oscillators(omega, np.full(2, damping), weights)
    path = model.run(time, load)

    def rate(t: float, y: np.ndarray, a: int) -> np.ndarray:
        share = (t - time[a]) / (time[a + 1] - time[a])
        p = weights @ (load[a] + share * (load[a + 1] - load[a]))
        return np.concatenate([y[2:], p - 2 * damping * omega * y[2:] - omega**2 * y[:2]])

    y = np.zeros(4)
    for a in range(len(time) - 1):
        if time[a + 1] == time[a]:  # the load jumps, the motion does not
            continue
        inside = np.array([0.21, 0.77]) * (time[a + 1] - time[a])
        solved = solve_ivp(rate, (time[a], time[a + 1]), y, args=(a,), t_eval=[*(time[a] + inside), time[a + 1]],
                           rtol=1e-11, atol=1e-14, method="DOP853")  # fmt: skip
        state, force = model.within(path, np.full(2, a), inside)
        q, v, acc = model.motion(state, force)
        np.testing.assert_allclose(q, solved.y[:2, :2].T, rtol=1e-6, atol=1e-9)
        np.testing.assert_allclose(v, solved.y[2:, :2].T, rtol=1e-6, atol=1e-7)
        np.testing.assert_allclose(acc, [rate(time[a] + t, s, a)[2:] for t, s in zip(inside, solved.y[:, :2].T, strict=True)],
                                   rtol=1e-5, atol=1e-5)  # fmt: skip
        s = model.balance(q, v, acc, force)
        np.testing.assert_allclose(s, -(acc - force @ weights.T) / omega**2, rtol=1e-9, atol=1e-12)
        y = solved.y[:, -1]


def test_extremes_between_rows_are_those_of_fine_sampling():
    rng = np.random.default_rng(6)
    for _ in range(20):
        amplitude, phase, rate = rng.uniform(0.2, 1, 4), rng.uniform(0, 6, 4), rng.uniform(0.05, 0.35, 4)
        x, fine = np.arange(200.0), np.linspace(0, 199, 200_001)

        def value(t, amplitude=amplitude, rate=rate, phase=phase):
            return np.sin(np.outer(t, rate) + phase) @ amplitude

        slope = np.cos(np.outer(x, rate) + phase) @ (amplitude * rate)
        low, high = cubic_extremes(value(x), slope)
        dense = value(fine)
        assert high == pytest.approx(dense.max(), abs=2e-4)
        assert low == pytest.approx(dense.min(), abs=2e-4)
        assert high >= value(x).max()


SWINGS = [
    ({"amplitude": 2.0}, 0, lambda f: 2.0 + 0j * f),
    ({"amplitude": 2.0, "phase": 0.5}, 0, lambda f: 2.0 * np.exp(0.5j) + 0j * f),
    ({"table": {"frequency": [10, 40], "acceleration": [1, 16]}}, 0, lambda f: (f / 10.0) ** 2 + 0j),
    ({"table": {"frequency": [10, 40], "acceleration": [1, 16]}, "interpolate": "linear"}, 0, lambda f: 1 + (f - 10) / 2 + 0j),
    ({"table": {"frequency": [10, 40], "velocity": [0.2, 0.2]}}, 1, lambda f: 0.2 * 2j * np.pi * f),
    ({"table": {"frequency": [10, 40], "displacement": [0.1, 0.1]}, "scale": 3}, 2, lambda f: -0.3 * (2 * np.pi * f) ** 2 + 0j),
    ({"table": {"frequency": [10, 40], "acceleration": [1, 1], "phase": [0.0, 3.0]}}, 0,
     lambda f: np.exp(1j * (f - 10) / 10)),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(SWINGS)))
def test_sources_over_frequency_are_what_is_written(number):
    written, power, expected = SWINGS[number]
    swing = build_swing(Harmonic.model_validate(written), "base")
    f = np.linspace(10, 40, 13)
    assert swing.power == power
    np.testing.assert_allclose(swing.at(f), expected(f), rtol=1e-12)
    if len(swing.frequency_hz) > 1:
        with pytest.raises(EventError, match=r"runs from 10 to 40 Hz and does not cover the sweep from 5 to 40 Hz"):
            swing.at(np.array([5.0, 40.0]))
        zero = build_swing(Harmonic.model_validate({**written, "outside": "zero"}), "base")
        hold = build_swing(Harmonic.model_validate({**written, "outside": "hold"}), "base")
        assert zero.at(np.array([5.0, 50.0])).tolist() == [0.0, 0.0]
        omega = 2j * np.pi * np.array([5.0, 50.0])
        ends = swing.at(np.array([10.0, 40.0])) / (2j * np.pi * np.array([10.0, 40.0])) ** power
        np.testing.assert_allclose(hold.at(np.array([5.0, 50.0])), ends * omega**power, rtol=1e-12)


# -- many variants -------------------------------------------------------------------------------------------


def variant(number: int, frequencies, shapes) -> VariantResult:
    order = np.argsort(frequencies, kind="stable")
    return VariantResult(
        number, "", frequencies_hz=tuple(np.asarray(frequencies)[order]), shapes=np.asarray(shapes)[order]
    )


@pytest.mark.parametrize("order", list(permutations(range(4)))[::5])
def test_modes_are_followed_through_a_crossing_in_whatever_order_variants_come(order):
    """Mode 1 rises through mode 2 while both shapes turn slowly; mode 3 stays; a fourth dies in one variant."""

    def at(p: float) -> tuple[list[float], np.ndarray]:
        turn = np.radians(4.0 * p)
        a = np.array([np.cos(turn), 0, np.sin(turn), 0, 0])
        c = np.array([-np.sin(turn), 0, np.cos(turn), 0, 0])
        shapes = np.array([a, np.eye(5)[1], c, np.eye(5)[3] if p < 4 else np.eye(5)[4]])
        return [10.0 + 2.0 * p, 13.0, 30.0, 40.0], shapes

    values = np.array([1.0, 2.0, 3.0, 4.0])
    first = variant(0, *at(0.0))
    found = follow(
        first, [variant(k, *at(values[n])) for k, n in enumerate(order, 1)], values[list(order), None], np.array([0.0])
    )
    for row, n in enumerate(order):
        p = values[n]
        np.testing.assert_allclose(found.frequencies_hz[row, :3], [10 + 2 * p, 13.0, 30.0])
        assert np.isnan(found.frequencies_hz[row, 3]) == (p == 4.0)
        assert found.place[row].tolist()[:2] == ([0, 1] if p < 1.5 else [1, 0])
        assert found.crossings[row] == ("1 with 2" if p == 2.0 else "")  # told where it happens, from the neighbour
    neighbours = {n: (-1 if n == 0 else list(order).index(n - 1)) for n in range(4)}
    assert [int(found.parent[row]) for row, n in enumerate(order)] == [neighbours[n] for n in order]
    np.testing.assert_allclose(
        found.assurance[:, :3], np.tile(np.cos(np.radians(4.0)) ** np.array([2, 0, 2]), (4, 1)), rtol=1e-6, atol=1e-6
    )


WISHES = {
    "lowest mode above 25 Hz": ("lowest mode", "above", ("25 Hz",)),
    "mass below 450 kg": ("mass", "below", ("450 kg",)),
    "mode 2 outside 40 Hz to 50 Hz": ("mode 2", "outside", ("40 Hz", "50 Hz")),
    "kerb strike: fan z below 2 g": ("kerb strike: fan z", "below", ("2 g",)),
    "least mass": ("mass", "least", ()), "most lowest mode": ("lowest mode", "most", ()), "at least mass": ("mass", "least", ()),
}  # fmt: skip


def test_wishes_are_read_and_rank_like_a_plain_sort():
    for text, (what, how, bounds) in WISHES.items():
        wish = read_wish(text)
        assert (wish.what, wish.how, wish.bounds) == (what, how, bounds)
        assert wish.is_goal == (not bounds)
        assert read_wish(wish.text) == wish
    assert [mode_number(w) for w in ("mode 12", "lowest mode", "mode")] == [12, None, None]
    assert read_wish("mass below 2 kg").missed(3.0, "mass") == pytest.approx(0.5)
    assert read_wish("lowest mode above 25 Hz").missed(20.0, "frequency") == pytest.approx(0.2)
    assert read_wish("mode 2 outside 40 Hz to 50 Hz").missed(48.0, "frequency") == pytest.approx(2 / 50)
    assert read_wish("mass below 2 kg").missed(math.nan, "mass") == math.inf
    rng = np.random.default_rng(9)
    mass, low = rng.uniform(1, 4, 30), rng.uniform(10, 40, 30)
    low[5] = np.nan

    def value(what: str, row: int) -> tuple[float, str]:
        return (float(mass[row]), "mass") if what == "mass" else (float(low[row]), "frequency")

    told = ranked([read_wish("lowest mode above 25 Hz"), read_wish("least mass")], range(30), value)
    good = sorted((r for r in range(30) if low[r] >= 25), key=lambda r: mass[r])
    short = sorted((r for r in range(30) if low[r] < 25), key=lambda r: -low[r])
    assert [r for r, _ in told] == [*good, *short, 5]
    assert all(missed == 0.0 for _, missed in told[: len(good)])


PLACES = [
    ("parts/deck/plate/thickness", ("parts", "deck", "plate", "thickness")),
    ("parts/deck/plate/area mass", ("parts", "deck", "plate", "area mass")),
    ("parts / deck / plate / thickness", ("parts", "deck", "plate", "thickness")),
    ("materials/a/b/E", ("materials", "a/b", "E")),
    ("points/p/2", ("points", "p", 1)),
    ("points/p/item 3", ("points", "p", 2)),
    ("events/hit/pulse/z/half sine/peak", ("events", "hit", "pulse", "z", "half sine", "peak")),
]
DATA = {
    "parts": {"deck": {"plate": {"thickness": "3 mm", "area_mass": 5}}}, "materials": {"a/b": {"E": 1}},
    "points": {"p": [1, 2, 3]}, "events": {"hit": {"pulse": {"z": {"half_sine": {"peak": "3 g"}}}}},
}  # fmt: skip


def test_places_of_parameters_in_words():
    for text, path in PLACES:
        plain = tuple(str(k).replace("_", " ") if isinstance(k, str) else k for k in resolved(DATA, text))
        assert plain == path, text
    for text, words in (("", "a place is written as keys with slashes"), ("points/p/4", "4"), ("parts/deck/plate/thickness/x", "x"),
                        ("parts/duck/plate", 'there is no "duck" under parts')):  # fmt: skip
        with pytest.raises(DescriptionError, match=words):
            resolved(DATA, text)


SPREADS = [
    ("2, 3, 4 mm", ["2 mm", "3 mm", "4 mm"]), ("2 to 6 mm in 5", ["2 mm", "3 mm", "4 mm", "5 mm", "6 mm"]),
    ("1 to 100 N/mm in 3 by ratio", ["1 N/mm", "10 N/mm", "100 N/mm"]), ("0.5", [0.5]), ([1, 2], [1, 2]),
]  # fmt: skip


def test_spreads_of_parameters_in_words():
    for text, values in SPREADS:
        spread = read_spread(text, "parameter")
        assert len(spread.values) == len(values)
        for got, want in zip(spread.values, values, strict=True):
            mine, theirs = number_of(got), number_of(want)
            assert mine[0] == pytest.approx(theirs[0], rel=1e-12)
            assert mine[1] == theirs[1]
    p = np.array([0.02275013194817921, 0.5, 0.9772498680518208])
    np.testing.assert_allclose(read_spread("normal 3 mm +- 5 %", "").at(p), [2.7, 3.0, 3.3], rtol=1e-9)
    np.testing.assert_allclose(read_spread("uniform 2 to 6 mm", "").at(p), 2 + 4 * p, rtol=1e-12)
    drawn = read_spread("lognormal 100 N/mm +- 20 N/mm", "").at((np.arange(20_000) + 0.5) / 20_000)
    assert drawn.mean() == pytest.approx(100, rel=1e-3)
    assert drawn.std() == pytest.approx(20, rel=5e-3)
    assert (drawn > 0).all()


# -- numbers on the screen -----------------------------------------------------------------------------------


@settings(max_examples=300, deadline=None)
@given(st.floats(allow_nan=False, allow_infinity=False, min_value=-1e30, max_value=1e30), st.integers(3, 6))
def test_numbers_read_back_to_their_digits_without_needless_exponents(value, digits):
    text = number_text(value, digits)
    if value == 0.0:
        assert text == "0"
        return
    lost = 0.5 * 10.0 ** (1 - (digits if abs(value) >= 1e-4 else max(digits - 2, 1)))
    assert float(text) == pytest.approx(value, rel=1.001 * lost)
    if 1e-4 <= abs(value) < 10.0**7 * (1 - lost):
        assert "e" not in text
    assert text.startswith("-") == (value < 0)


def test_cells_and_heads_of_tables():
    table = {
        ("frequency_hz", 12.3456): "12.35", ("damping_percent", 2.0): "2.00", ("share_percent", 12.345): "12.3", ("shift_percent", -0.04): "0.0",
        ("effective_z_kg", 0.0001): "0.000", ("effective_z_kg", 123.45): "123.5", ("what", "sways"): "sways",
        ("peak", float("nan")): "-", ("peak", float("inf")): "inf", ("peak", -0.00012346): "-0.0001235", ("mode", 3): "3",
    }  # fmt: skip
    for (column, value), text in table.items():
        assert cell_text(column, value) == text, column
    heads = {"effective_z_kg": ("effective z", "kg"), "time_ms": ("time", "ms"), "stiffness_n_per_mm":
             ("stiffness", "N/mm"), "inertia_kg_m2": ("inertia", "kg m²"), "what": ("what", ""), "_hz": (" hz", "")}  # fmt: skip
    for column, words in heads.items():
        assert column_words(column) == words, column
    assert display_unit("acceleration") == ("g", 9.80665)
    assert display_unit("mass") == ("kg", 1.0)


def test_what_is_loaded_later_is_a_plain_table_otherwise():
    table = Later({"root": "math:sqrt", "gone": "math:no_such_thing", "nowhere": "no_such_room:x"})
    assert table["root"] is math.sqrt
    assert list(table) == ["root", "gone", "nowhere"]
    assert len(table) == 3
    assert "root" in table
    assert "other" not in table
    for key, error in (("gone", AttributeError), ("nowhere", ModuleNotFoundError), ("other", KeyError)):
        with pytest.raises(error):
            table[key]
