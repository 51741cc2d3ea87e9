"""What is called proven: motions that follow many others, bounds of frequencies, free motions, odd masses."""

from __future__ import annotations

import json

import numpy as np
import pytest
import scipy.io
import scipy.sparse as sp

import hard_problems as hp
import holokine as hk
from conftest import STEEL
from holokine.errors import MechanismError, MeshError, SolverError
from holokine.mesh.files import write_mesh
from holokine.mesh.mesh import Block, Mesh
from holokine.solvers.eigen import Wish, find_pairs
from holokine.solvers.library import fast_available
from holokine.system.wide import Following
from test_cli import inside

WAYS = ["superlu", *(["ldl"] if fast_available() else [])]
R, WIDTH, THICK, E = 0.3173, 0.0137, 0.0061, 203e9


@pytest.fixture(params=WAYS)
def way(request, monkeypatch):
    monkeypatch.setattr("holokine.solvers.factor.fast_available", lambda: request.param == "ldl")
    return request.param


def hoop(around: int, along: int, held: bool, press: float = 0.0) -> hk.Assembly:
    """A ring of quadratic shells that moves in its plane; held by the mean of all its nodes, or free."""
    a = hk.Assembly("hoop").material("m", E=E, nu=0.0, density=7860.0)
    a.part("ring", cylinder={"base": [0, 0, -WIDTH / 2], "axis": "z", "radius": R, "length": WIDTH,
                             "divisions": [around, along], "thickness": THICK, "quadratic": True},
           material="m")  # fmt: skip
    a.support("plane", at={"part": "ring"}, hold=["z", "rx", "ry"])
    if held:
        a.point("centre", [0, 0, 0]).link("mean", averaging="centre", to={"part": "ring"})
        a.support("centre", at="centre", hold=["x", "y", "rz"])
    if press:
        a.load("press", pressure=press, on={"part": "ring"}, towards="-normal").add_state("pressed", loads="press")
        a.about("pressed")
    return a


@pytest.mark.parametrize(("around", "along"), [(36, 1), (52, 1), (24, 2)])
def test_a_ring_held_by_its_mean_has_the_frequencies_of_the_free_one(way, around, along):
    """The mean takes the rigid motions and nothing else; pairs stay pairs. Tolerance: rounding, 1e11 wide."""
    held, free = hoop(around, along, True).modes(6), hoop(around, along, False).modes(9)
    assert isinstance(held.set.system.reduced_stiffness, Following)
    np.testing.assert_allclose(held.frequencies_hz, free.frequencies_hz[3:], rtol=5e-8)
    np.testing.assert_allclose(held.frequencies_hz[::2], held.frequencies_hz[1::2], rtol=5e-8)
    assert held.set.exists == 6
    assert "NOT PROVEN" not in held.statement
    apart = np.abs(held.frequencies_hz - free.frequencies_hz[3:])
    assert (apart <= held.errors_hz + free.errors_hz[3:]).all()


def test_a_pressed_ring_buckles_in_pairs_as_it_should():
    """q = n² EI / R³ per width for a pressure that keeps its direction (n = 2, 3); modes about the state in pairs."""
    p = 2e5
    a = hoop(48, 2, True, p).about("pressed")
    rest = a.state()
    assert rest.result.equilibrium.violation < 1e-8
    closed = np.array([4.0, 9.0]) * E * THICK**3 / 12.0 / R**3
    # a tenth of a percent: thickness over radius, and the mesh
    np.testing.assert_allclose(p * rest.buckling(4).factors, np.repeat(closed, 2), rtol=1.5e-3)
    f = a.modes(4).frequencies_hz
    np.testing.assert_allclose(f[::2], f[1::2], rtol=1e-6)


@pytest.mark.parametrize("family", list(hp.FAMILIES))
def test_bounds_hold_and_are_not_idle(family, way):
    """No eigenvalue is farther off than its bound says, which is small; beyond it lies the rounding of making K."""
    for seed in range(30, 32):
        p = hp.instance(family, seed)
        try:
            got = find_pairs(p.K, p.M, p.wish, rigid=p.free)
        except SolverError:
            continue
        values, _, _ = hp.wanted(p)
        elastic = values > 0.0
        off = np.abs(got.values - values)[elastic]
        assert (off <= 1.05 * got.errors[elastic] + 1e-13 * p.values[-1]).all(), (
            seed,
            (off / got.errors[elastic]).max(),
        )
        assert np.median(got.errors[elastic] / values[elastic] if elastic.any() else 0.0) < 1e-7


def two_bars(stiffness: float | None) -> hk.Assembly:
    a = hk.Assembly("bars").material("m", **STEEL).section("s", rectangle={"width": 0.02, "height": 0.03})
    a.point("a", [0, 0, 0]).point("b", [1, 0, 0]).point("c", [1, 0, 0], apart=True).point("d", [2, 0, 0])
    for name, ends in (("one", ["a", "b"]), ("two", ["c", "d"])):
        a.part(name, beam={"through": ends, "section": "s", "divisions": 60}, material="m")
    if stiffness is None:
        a.link("k", rigid="b", to="c")
    else:
        a.bushing("k", between=["b", "c"], stiffness=[stiffness] * 6)
    return a.support("w", at="a", hold="all")


def test_what_a_stiff_spring_takes_from_the_digits_is_said():
    """Two factorisations disagree by no more than the bounds; beyond the digits shown that is no proof, and named."""
    exact = two_bars(None).modes(3).frequencies_hz
    shares = []
    for stiffness in (1e9, 1e13, 4e15):
        found = []
        for fast in {False, fast_available()}:
            with pytest.MonkeyPatch.context() as m:
                m.setattr("holokine.solvers.factor.fast_available", lambda fast=fast: fast)
                found.append(two_bars(stiffness).modes(3))
        for modes in found:
            assert (
                np.abs(modes.frequencies_hz - found[0].frequencies_hz) <= modes.errors_hz + found[0].errors_hz
            ).all()
            flexible = 3.0 * E / stiffness if stiffness < 1e12 else 0.0
            assert (np.abs(modes.frequencies_hz - exact) <= modes.errors_hz + (1e-3 + flexible) * exact).all()
        shares.append(found[0].errors_hz[0] / found[0].frequencies_hz[0])
    assert shares[0] < 1e-6 < 1e-4 < shares[2]
    last = found[0]
    assert "NOT PROVEN to the digits shown: mode 1" in last.statement
    assert any(f.level == "warning" and '"k"' in f.text and "digits" in f.text for f in last.findings)
    assert (last.table()["frequency_error_hz"] == last.errors_hz).all()
    with pytest.raises(MechanismError, match='lost to rounding beside the stiffness of "k"'):
        two_bars(5e17).modes(3)


def test_bounds_go_through_run_files(tmp_path):
    modes = two_bars(1e9).modes(3)
    again = hk.open_run(modes.save(tmp_path / "m.run"))
    assert (again.errors_hz == modes.errors_hz).all()
    assert again.statement == modes.statement


def swaying(plate: bool, pendulums: int = 1) -> hk.Assembly:
    """Bodies on hinged falls and springs along x, free along y; beside them, on request, a plate that is sound."""
    a = hk.Assembly("sway").material("steel", **STEEL).section("rod", rod={"diameter": 0.024})
    if plate:
        a.part("deck", plate={"corner": [0, 0, 5], "sides": [[2, 0, 0], [0, 2, 0]], "divisions": 24, "thickness": 0.01},
               material="steel")  # fmt: skip
        a.support("e", at={"part": "deck", "plane": {"at": [0, 0, 5], "normal": "x"}}, hold="all")
    for k in range(pendulums):
        x = 7.0 * k
        places = {"ta": [x, -1.5, 1.9], "tf": [x, 1.5, 1.9], "ha": [x, -1.5, 0.6], "hf": [x, 1.5, 0.6],
                  "boat": [x, 0, 0], "p1": [x - 0.5, -1.5, 0.3], "p2": [x - 0.5, 1.5, 0.3],
                  "p3": [x - 0.5, -1.5, -0.4]}  # fmt: skip
        for name, at in places.items():
            a.point(f"{name} {k}", at)
        for end in "af":
            a.part(f"fall {end} {k}", beam={"through": [f"t{end} {k}", f"h{end} {k}"], "section": "rod", "up": "x",
                                            "divisions": 1, "release": {"start": ["ry", "rz"], "end": ["ry", "rz"]}},
                   material="steel")  # fmt: skip
        a.mass(f"boat {k}", at=f"boat {k}", mass=4200, inertia=[17e3, 3e3, 18e3])
        a.link(f"hull {k}", rigid=f"boat {k}", to=[f"{n} {k}" for n in ("ha", "hf", "p1", "p2", "p3")])
        for n in (1, 2, 3):
            a.spring(f"s{n} {k}", between=[f"p{n} {k}", "ground"], axis="x", stiffness=9e5)
        a.support(f"top {k}", at=[f"ta {k}", f"tf {k}"], hold="all")
    return a


@pytest.mark.parametrize(("plate", "pendulums"), [(False, 1), (True, 1), (True, 12)])
def test_free_motions_are_all_found_and_named(way, plate, pendulums):
    """By check and by modes, beside something sound and alone, sparse and dense; more than a first look takes."""
    a = swaying(plate, pendulums)
    report = a.check()
    said = [f.text for f in report.findings if f.level == "error"]
    assert not report.ok
    assert len(said) == pendulums
    for k in range(pendulums):
        assert any(f'"boat {k}": translation along y' in text for text in said)
    with pytest.raises(MechanismError, match='"boat 0": translation along y'):
        a.modes(5)


@pytest.mark.parametrize("kind", ["a negative diagonal", "a negative direction", "mass beside nothing"])
def test_a_mass_matrix_of_no_body_is_refused(tmp_path, kind):
    k = sp.csr_array(sp.diags_array(np.linspace(1e4, 9e4, 6)))
    m = np.diag(np.full(6, 2.0))
    if kind == "a negative diagonal":
        m[2, 2] = -1e-3
    elif kind == "a negative direction":
        m[0, 1] = m[1, 0] = 2.1
    else:
        m[3, 3], m[3, 4], m[4, 3] = 0.0, 0.5, 0.5
    for name, matrix in (("k", k), ("m", sp.csr_array(m))):
        scipy.io.mmwrite(tmp_path / f"{name}.mtx", matrix, symmetry="symmetric")
    rows = "".join(f"{i},x,{i},0,0\n" for i in range(1, 7))
    (tmp_path / "d.csv").write_text("node,direction,x_m,y_m,z_m\n" + rows)
    path = tmp_path / "a.yaml"
    path.write_text("holokine: 1\nmatrices: {stiffness: k.mtx, mass: m.mtx, dofs: d.csv}\n")
    a = hk.Assembly.read(path)
    with pytest.raises(SolverError, match="mass matrix is not positive semi-definite"):
        a.modes(3)
    assert any(f.level == "error" and "not positive semi-definite" in f.text for f in a.check().findings)
    assert inside("modes", str(path), "--count", "3").returncode == 2


def test_a_bound_typed_from_a_printed_frequency_gives_the_count_asked_for():
    """An eigenvalue within a millionth below the bound; through the public way, on either side of it."""
    a = hk.Assembly().material("m", **STEEL).section("s", rod={"diameter": 0.02})
    a.point("a", [0, 0, 0]).point("b", [3, 0, 0])
    a.part("bar", beam={"through": ["a", "b"], "section": "s", "divisions": 130}, material="m")
    a.support("w", at="a", hold="all")
    every = a.modes(26)
    for row in (19, 20):
        for off in (2e-7, -2e-7, 1e-6, 4e-7):
            above = float(every.frequencies_hz[row] * (1 + off))
            found = a.modes(5, above=above)
            first = int((every.frequencies_hz < above * (1 - 1e-9)).sum())
            np.testing.assert_allclose(found.frequencies_hz, every.frequencies_hz[first : first + 5], rtol=1e-8)
            assert found.set.below == first


def test_hundreds_of_free_motions_are_counted_and_the_first_named():
    """Two hundred bodies on bushings that hold no turn: the error stays short, and says how many there are."""
    a = hk.Assembly("row")
    for i in range(200):
        a.point(f"g{i}", [float(i), 0, 0]).point(f"p{i}", [float(i), 0, 1])
        a.mass(f"m{i}", at=f"p{i}", mass=2.0, inertia=[0.1, 0.1, 0.1])
        a.bushing(f"b{i}", between=[f"g{i}", f"p{i}"], stiffness=[1e4, 1e4, 4e4, 0, 0, 0])
    a.support("s", at=[f"g{i}" for i in range(200)], hold="all")
    with pytest.raises(MechanismError, match=r"more motions meet no resistance") as error:
        a.modes(5)
    assert len(str(error.value)) < 2500


def test_equal_masses_on_bushings(tmp_path):
    """210 equal masses, x and y alike: 420 modes at one frequency, of which the count asks for twenty."""
    a = hk.Assembly("row")
    for i in range(210):
        a.point(f"g{i}", [float(i), 0, 0]).point(f"p{i}", [float(i), 0, 1]).mass(f"m{i}", at=f"p{i}", mass=2.0)
        a.bushing(f"b{i}", between=[f"g{i}", f"p{i}"], stiffness=[1e4, 1e4, 4e4, 1e3, 1e3, 1e3])
    a.support("s", at=[f"g{i}" for i in range(210)], hold="all")
    a.support("t", at=[f"p{i}" for i in range(210)], hold=["rx", "ry", "rz"])
    modes = a.modes(20)
    np.testing.assert_allclose(modes.frequencies_hz, np.sqrt(5e3) / (2 * np.pi), rtol=1e-9)
    assert modes.set.exists == 420
    assert any("420" in f.text for f in modes.findings)


def test_few_masses_among_many_motions_are_bounded_without_a_dense_matrix(monkeypatch):
    """A long line of springs with ten masses: against the condensed chain, and no matrix of all motions squared."""
    n, masses = 20_000, 10
    main = np.full(n, 2.0)
    K = sp.csr_array(sp.diags_array([-np.ones(n - 1), main, -np.ones(n - 1)], offsets=[-1, 0, 1])) * 1e6
    m = np.zeros(n)
    m[n // masses // 2 :: n // masses] = 3.0
    monkeypatch.setattr("holokine.solvers.eigen._DenseSolve", None)
    got = find_pairs(K, sp.csr_array(sp.diags_array(m)), Wish(count=masses))
    places = np.flatnonzero(m)
    gaps = np.diff(np.concatenate([[-1], places, [n]]))
    k = 1e6 / gaps
    small = np.diag(k[:-1] + k[1:]) - np.diag(k[1:-1], 1) - np.diag(k[1:-1], -1)
    exact = np.linalg.eigvalsh(small / 3.0)
    assert (np.abs(got.values - exact) <= got.errors + 1e-9 * exact).all()
    assert (got.errors < 1e-5 * exact).all()


def test_all_finite_modes_where_half_has_no_mass(way):
    """A bound above everything, a mass matrix of low rank: what rounding makes of the rest is not taken for modes."""
    for seed in (1,) if way == "superlu" else (1, 4, 7):
        rng = np.random.default_rng(seed)
        n, massive = 640, 420
        m = np.zeros(n)
        m[rng.permutation(n)[:massive]] = rng.uniform(0.5, 50, massive)
        p = hp.made(hp.spread(rng, n, 1, 1e7), m, Wish(upto=1e30), rng)
        got = find_pairs(p.K, p.M, p.wish)
        assert len(got.values) == massive
        assert (np.abs(got.values - p.values) <= 1.05 * got.errors + 1e-12 * p.values[-1]).all()


def test_a_hole_that_grazes_a_line_folds_no_element(tmp_path):
    """A rib half a millimetre beside a hole; and a folded element from elsewhere is named."""
    a = hk.Assembly("deck").material("m", **STEEL)
    a.part("floor", plate={"origin": [0, 0, 0], "plane": {"x": "x", "y": "y"}, "size": 0.08, "quadratic": True,
                           "outline": [[0, 0], [1.2, 0], [1.2, 0.8], [0, 0.8]], "thickness": 0.003,
                           "holes": [{"at": [0.625, 0.4], "diameter": 0.049}]}, material="m")  # fmt: skip
    a.part("rib", plate={"corner": [0.6, 0, 0], "sides": [[0, 0.8, 0], [0, 0, 0.06]], "size": 0.08, "quadratic": True,
                         "thickness": 0.002}, material="m")  # fmt: skip
    a.support("edge", at={"part": "floor", "plane": {"at": [0, 0, 0], "normal": "y"}}, hold="all")
    assert a.check().ok
    modes = a.modes(3)
    assert np.isfinite(modes.frequencies_hz).all()
    assert modes.errors_hz.max() < 1e-5
    nodes = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0.5, 0, 0], [0.5, 0.5, 0], [0, 0.5, 0]], dtype=float)
    nodes[4] = [0.05, 0.05, 0.0]
    write_mesh(tmp_path / "f.vtu", Mesh(nodes, (Block("p", "tri6", np.arange(6)[None]),), {}))
    b = hk.Assembly().material("m", **STEEL)
    b.part("skin", mesh={"file": str(tmp_path / "f.vtu"), "shell": {"thickness": 0.01}}, material="m")
    with pytest.raises(MeshError, match=r'"skin".*element 1 at'):
        b.check()


def test_a_machine_on_plain_supports_and_skew_springs():
    """Points that carry a support, a load or a gauge alone are carried by a rigid link; rounding acts not."""
    body = hk.Assembly("body").point("c", [0, 0, 0.5]).mass("m", at="c", mass=10.0, inertia=[1, 1, 1])
    for k, (x, y) in enumerate(((0.3, 0.2), (0.3, -0.2), (-0.3, 0)), 1):
        body.point(f"f{k}", [x, y, 0]).support(f"f{k}", at=f"f{k}", hold=["z"])
    body.point("hook", [0, 0, 1.0]).point("eye", [0.3, 0, 0.6]).point("astray", [0, 9, 0])
    body.spring("side", between=["c", "ground"], axis="x", stiffness=4e3).support("y", at="c", hold=["y", "rz"])
    body.link("l", rigid="c", to=["f1", "f2", "f3", "hook", "eye"])
    body.load("pull", at="hook", force=[30.0, 0, 0]).gauge("eye", displacement="eye", axis="x").gauge(
        "f3", reaction="f3"
    )
    body.event("pulled", static="pull")
    assert body.modes(1).frequencies_hz[0] == pytest.approx(20.0 / (2 * np.pi), rel=1e-9)
    peaks = body.respond("pulled").table("peaks").set_index(["gauge", "component"])["value"]
    assert peaks.loc["eye"].iloc[0] == pytest.approx(30.0 / 4e3 * 1e3, rel=1e-9)
    assert peaks.loc[("f3", "z")] == pytest.approx(-30.0 * 0.5 / 0.6, rel=1e-9)
    lost = body.changed({"links": {"l": {"to": ["f1", "f2", "f3", "astray"]}}})
    assert any("astray" in f.text for f in lost.check().findings)
    for high, wide, f in ((4.0, 3.0, np.sqrt(np.array([720.0, 1280.0]) / 5.0) / (2 * np.pi)),
                          (1.0, 1.0, np.sqrt(np.array([1000.0, 1000.0]) / 5.0) / (2 * np.pi))):  # fmt: skip
        truss = (
            hk.Assembly("truss").point("m", [0, 0, high]).mass("m", at="m", mass=5.0).support("y", at="m", hold=["y"])
        )
        for k, x in enumerate((-wide, wide)):
            truss.point(f"f{k}", [x, 0, 0]).support(f"f{k}", at=f"f{k}", hold=["x", "y", "z"])
            truss.spring(f"s{k}", between=[f"f{k}", "m"], stiffness=1000.0)
        np.testing.assert_allclose(truss.modes(2).frequencies_hz, f, rtol=1e-9)


def test_json_tells_the_bounds(tmp_path):
    path = tmp_path / "bars.yaml"
    two_bars(1e9).save(path)
    got = inside("modes", str(path), "--count", "3", "--json")
    assert got.returncode == 0
    assert '"frequency_error_hz"' in json.dumps(json.loads(got.stdout))
