"""What is equal but for rounding: modes of one frequency, and the first of equal sizes, whatever solved for them."""

from __future__ import annotations

import re

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import holokine as hk
from conftest import STEEL
from holokine.modes.turned import of_one_frequency, turned
from holokine.ranking import first_largest, ranked
from holokine.solvers import eigen, factor
from holokine.solvers.library import fast_available

WAYS = ["dense", "superlu", *(["ldl"] if fast_available() else [])]


def mast(turn: float = 30.0) -> hk.Assembly:
    """A square mast of which all bending comes in pairs, its section turned about its axis."""
    up = [float(np.cos(np.radians(turn))), float(np.sin(np.radians(turn))), 0.0]
    a = hk.Assembly().material("steel", **STEEL).section("tube", tube={"width": 0.1, "height": 0.1, "wall": 0.005})
    a.point("foot", [0, 0, 0]).point("head", [0, 0, 4])
    run = {"through": ["foot", "head"], "section": "tube", "up": up, "divisions": 24}
    a.part("mast", beam=run, material="steel").support("base", at="foot", hold="all")
    return a.mass("lamp", at="head", mass=7.5)


def wheel(count: int = 24) -> hk.Assembly:
    """A ring on soft springs, of whose own motions most move nothing as a whole."""
    a = hk.Assembly().material("steel", **STEEL).section("bar", rod={"diameter": 0.02})
    ring = {"radius": 0.5, "section": "bar", "divisions": count, "axis": "z", "centre": [0, 0, 0]}
    return a.part("ring", ring=ring, material="steel")


def three_ways(lengths: tuple[float, float, float]) -> hk.Assembly:
    """A mass on three springs at right angles, along no axis."""
    axes = np.linalg.qr(np.random.default_rng(5).standard_normal((3, 3)))[0]
    a = hk.Assembly().point("middle", [0, 0, 0]).mass("block", at="middle", mass=2.0)
    for k, (axis, rate) in enumerate(zip(axes, lengths, strict=True)):
        a.point(f"wall {k}", axis.tolist()).support(f"hold {k}", at=f"wall {k}", hold="all")
        a.spring(f"spring {k}", between=["middle", f"wall {k}"], stiffness=rate, axis=axis.tolist())
    return a


@pytest.mark.parametrize("way", WAYS)
def test_pairs_of_a_square_mast_lie_along_the_axes(monkeypatch, way):
    """In any frame: the first of a pair has all of x, the second all of y; the same shapes by every solver."""
    monkeypatch.setattr(factor, "_chosen", lambda asked, size: way if asked == "auto" else asked)
    monkeypatch.setattr(eigen, "DENSE_SIZE", 10)
    modes = mast().modes(count=9)
    effective = modes.set.participation[:, :2] ** 2
    pairs = of_one_frequency((2 * np.pi * modes.frequencies_hz) ** 2)
    assert len(pairs) == 4
    for pair in pairs:
        assert effective[pair].sum() > 0.01
        np.testing.assert_allclose(effective[pair.start, 1], 0.0, atol=1e-12)
        np.testing.assert_allclose(effective[pair.start + 1, 0], 0.0, atol=1e-12)
        np.testing.assert_allclose(effective[pair.start, 0], effective[pair.start + 1, 1], rtol=1e-9)
    plain = mast(0.0).modes(count=9)  # the same mast with its section along the axes
    np.testing.assert_allclose(modes.frequencies_hz, plain.frequencies_hz, rtol=1e-9)
    for a, b in zip(modes.shapes, plain.shapes, strict=True):
        np.testing.assert_allclose(a, b, atol=1e-6 * np.abs(b).max())
    K, M = modes.assembly.system.stiffness, modes.assembly.system.mass
    X = modes.shapes
    np.testing.assert_allclose(X @ (M @ X.T), np.eye(9), atol=1e-11)
    stiff = X @ (K @ X.T) / (2 * np.pi * modes.frequencies_hz) ** 2
    np.testing.assert_allclose(stiff, np.eye(9), atol=1e-7)
    assert modes.set.residuals.max() < 1e-11
    words = [line.split(" (")[0] for line in modes.words]
    assert words[:2] == ["first bending about y", "first bending about x"]
    assert all(re.search(r"about [xyz]|along [xyz]", line) for line in words), words


def test_three_at_one_frequency_come_along_x_y_and_z():
    modes = three_ways((4e4, 4e4, 4e4)).modes(count=3)
    np.testing.assert_allclose(np.abs(modes.set.participation[:, :3]), np.sqrt(2.0) * np.eye(3), atol=1e-9)
    # a millionth apart they are modes of their own, along their springs, and stay so
    apart = three_ways((4e4, 4e4 * (1 + 4e-6), 4e4 * (1 + 8e-6))).modes(count=3)
    axes = np.linalg.qr(np.random.default_rng(5).standard_normal((3, 3)))[0]
    np.testing.assert_allclose(np.abs(apart.set.participation[:, :3]), np.sqrt(2.0) * np.abs(axes), atol=1e-8)


def test_pairs_that_move_nothing_as_a_whole_are_told_apart_by_place():
    """A free ring: of every pair one has a node of its own at the place where the other moves most."""
    modes = wheel().modes(count=18)
    values = (2 * np.pi * modes.frequencies_hz[~modes.set.rigid]) ** 2
    shapes = modes.shapes[~modes.set.rigid].reshape(len(values), -1, 6)[:, :, :3]
    seen = 0
    for pair in of_one_frequency(values):
        if pair.stop - pair.start != 2 or pair.stop == len(values):
            continue
        both = shapes[pair].reshape(2, -1)
        size = np.hypot(*both)
        place = first_largest(size, 1e-6)
        assert abs(both[1, place]) < 1e-6 * size[place]
        assert abs(both[0, place]) > 0.999 * size[place]
        seen += 1
    assert seen >= 3


@pytest.mark.parametrize("count", [2, 3, 7])
@pytest.mark.parametrize("seed", range(6))
def test_turning_forgets_how_the_modes_were_mixed(count, seed):
    rng = np.random.default_rng(seed)
    shapes = rng.standard_normal((count, 40))
    participation = rng.standard_normal((count, 6)) * (rng.random(6) < 0.5)
    found = []
    for _ in range(2):
        mix = np.linalg.qr(rng.standard_normal((count, count)))[0]
        turn = turned(mix @ participation, mix @ shapes)
        np.testing.assert_allclose(turn @ turn.T, np.eye(count), atol=1e-12)
        new = turn @ mix @ shapes
        found.append(new * np.sign(new[:, :1]))
    np.testing.assert_allclose(*found, atol=1e-9)


@given(
    st.lists(st.integers(0, 6), min_size=1, max_size=40),
    st.integers(0, 2**32 - 1),
)
def test_rounding_does_not_rank(sizes, seed):
    """Sizes of a few values, disturbed in their last digits: always the same order, which is that of Python's sort."""
    exact = np.array(sizes, dtype=float)
    noisy = exact * (1.0 + 1e-13 * np.random.default_rng(seed).standard_normal(len(exact)))
    expected = sorted(range(len(exact)), key=lambda i: (-exact[i], i))
    assert ranked(noisy).tolist() == expected
    assert first_largest(noisy) == expected[0]
    noisy = np.append(np.nan, noisy)
    assert first_largest(noisy) == expected[0] + 1
    assert first_largest(np.array([np.nan, np.nan])) == 0


def table() -> hk.Assembly:
    """Four equal legs under a plate."""
    a = hk.Assembly().material("steel", **STEEL).section("rod", rod={"diameter": 0.02})
    for k, (x, y) in enumerate([(1, 1), (-1, 1), (-1, -1), (1, -1)]):
        a.point(f"foot {k}", [x, y, 0]).point(f"top {k}", [x, y, 1])
        run = {"through": [f"foot {k}", f"top {k}"], "section": "rod", "up": "x", "divisions": 4}
        a.part(f"leg {'DBAC'[k]}", beam=run, material="steel").support(f"base {k}", at=f"foot {k}", hold="all")
    a.point("deck", [0, 0, 1]).mass("load", at="deck", mass=200.0, inertia=[20.0, 20.0, 30.0])
    a.link("plate", rigid="deck", to=[f"top {k}" for k in range(4)])
    for c in "DBAC":
        a.gauge(f"stress {c}", stress=f"leg {c}")
    return a.damping(0.02).event("shock", spectrum={"x": {"frequency": [1, 1e4], "acceleration": [9, 9]}})


def test_equal_parts_are_named_in_the_order_of_the_description(monkeypatch):
    """Whatever is largest in all of four legs is told of the first, by every solver."""
    found = []
    for way in WAYS:
        monkeypatch.setattr(factor, "_chosen", lambda asked, size, way=way: way if asked == "auto" else asked)
        monkeypatch.setattr(eigen, "DENSE_SIZE", 10)
        modes = table().modes(count=11)
        shares = modes.energies.shares("strain")
        named = [modes.energies.together(shares[:, mode])[0][0] for mode in range(11)]
        assert named[:3] == ["leg D"] * 3
        peaks = modes.respond("shock").table("peaks")
        found.append((modes.words, named, peaks["place"].tolist()))
    for kept in zip(*found, strict=True):
        assert all(k == kept[0] for k in kept), kept


def test_of_two_equal_surfaces_the_first_is_named():
    """Plates bent alike in both surfaces, turned any way: the top is told, and the elements in order."""
    for turn in (0.0, 0.3, 1.1):
        c, s = float(np.cos(turn)), float(np.sin(turn))
        a = hk.Assembly().material("steel", **STEEL)
        sides = [[c, s, 0], [-0.4 * s, 0.4 * c, 0]]
        a.part(
            "shelf",
            plate={"corner": [0, 0, 0], "sides": sides, "divisions": [6, 4], "thickness": 0.01},
            material="steel",
        )
        a.support("wall", at={"part": "shelf", "plane": {"at": [0, 0, 0], "normal": [c, s, 0]}}, hold="all")
        a.load("weight", gravity="-z").event("rest", static="weight")
        worst = a.modes(count=2).respond("rest").table("stress")
        assert worst["where"].tolist() == ["element 2, top"]  # and not element 3, its mirror image, nor the bottom


def test_a_tube_whose_sections_deform_does_not_bend():
    """A stack of two parts: what bends takes part in a motion along x or y, what only ovals is not called bending."""
    a = hk.Assembly().material("steel", **STEEL)
    around = {"axis": "z", "radius": 0.4, "thickness": 0.004}
    a.part("shell", cylinder={**around, "base": [0, 0, 0], "length": 6, "divisions": [24, 30]}, material="steel")
    cap = {**around, "end radius": 0.2, "base": [0, 0, 6], "length": 0.3, "divisions": [24, 3], "thickness": 0.006}
    a.part("cap", cylinder=cap, material="steel")
    a.support("foot", at={"part": "shell", "plane": {"at": [0, 0, 0], "normal": "z"}}, hold="all")
    modes = a.modes(count=18)
    share = (modes.set.participation[:, :2] ** 2).sum(axis=1) / modes.set.whole_mass[0]
    both = [i for i, words in enumerate(modes.words) if "and cap" in words or "cap and" in words]
    assert both  # modes of the two together, which are not told as waves around one of them
    for mode in both:
        assert share[mode] < 1e-9
        assert "in opposite senses" in modes.words[mode], modes.words[mode]
    for mode, words in enumerate(modes.words):
        if " bending about " in words:
            assert share[mode] > 1e-3, words
