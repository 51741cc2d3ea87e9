"""Damped modes against dense first-order solutions; tuned dampers against known optima and by solving anew."""

from __future__ import annotations

import json

import numpy as np
import pytest
import scipy.linalg
from scipy.optimize import minimize

import holokine as hk
from conftest import chain, chain_matrices, straight_beam
from holokine.errors import DescriptionError, EventError, HolokineError, UnknownNameError

MASSES, STIFF = [4.0, 1.5, 2.5], [9e4, 2.5e4, 4e4]


def first_order(K: np.ndarray, C: np.ndarray, M: np.ndarray) -> np.ndarray:
    """Eigenvalues of the whole assembly in first order, a generalised dense problem."""
    n, none = len(M), np.zeros_like(M)
    A, B = np.block([[none, np.eye(n)], [-K, -C]]), np.block([[np.eye(n), none], [none, M]])
    return scipy.linalg.eig(A, B, right=False)


def damped_chain(c: float, damping: float | dict = 0.0) -> hk.Assembly:
    return chain(MASSES, STIFF, damping).spring("d", between=["p1", "p3"], damping=c, axis="x")


@pytest.mark.parametrize("c", [30.0, 700.0, 5000.0])
def test_poles_against_dense_first_order(c: float) -> None:
    """A damper across two springs, light to overdamped, beside modal ratios; two modes stand for three masses."""
    zeta = 0.01
    for count in (3, 2):
        modes = damped_chain(c, zeta).modes(count)
        K, M = chain_matrices(MASSES, STIFF)
        across = np.array([-1.0, 0, 1.0])
        phi = np.array([modes.shapes[:, 6 * modes.set.system.node(f"p{i}", "")] for i in (1, 2, 3)])
        C = c * np.outer(across, across) + M @ phi @ np.diag(2 * zeta * modes.set.omega) @ phi.T @ M
        exact = first_order(K, C, M)
        damped = modes.damped()
        if count == 3:
            swings = np.sort_complex(exact[exact.imag > 1e-9 * np.abs(exact)])
            np.testing.assert_allclose(np.sort_complex(damped.poles), swings, rtol=1e-9)
            slow = np.sort(exact[np.abs(exact.imag) <= 1e-9 * np.abs(exact)].real)
            np.testing.assert_allclose(np.sort(damped.set.real_poles), slow, rtol=1e-8)
            assert (len(slow) > 0) == (c >= 700.0)
        else:  # with one static shape for the damper two modes span all three masses: only the ratio of the third lacks
            assert damped.poles[0] == pytest.approx(exact[np.abs(exact - damped.poles[0]).argmin()], rel=2e-2)
    table = modes.damped().table()
    assert np.allclose(table["log_decrement"].iloc[0],
                       2 * np.pi * table["damping_percent"].iloc[0] / 100 /
                       np.sqrt(1 - (table["damping_percent"].iloc[0] / 100) ** 2))  # fmt: skip


def test_proportional_damping_leaves_shapes_real() -> None:
    """Rayleigh damping couples nothing: poles in closed form, shapes real, each its own undamped mode."""
    modes = chain(MASSES, STIFF, {"rayleigh": [["5 Hz", "2 %"], ["40 Hz", "6 %"]]}).modes()
    damped = modes.damped()
    w, z = modes.set.omega, modes.damping
    np.testing.assert_allclose(damped.poles, -z * w + 1j * w * np.sqrt(1 - z**2), rtol=1e-12)
    assert list(damped.table()["nearest_mode"]) == [1, 2, 3]
    assert damped.set.complexity.max() == 0.0
    assert "does not couple" in " ".join(damped.lines)


def test_loss_factors_against_complex_stiffness() -> None:
    """Poles under K (1 + iη) by spring are ± the roots of a complex eigenproblem; a uniform factor gives √(1 + iη)."""
    a = chain(MASSES, STIFF, {"loss factor": {"k2": "30 %", "default": "2 %"}})
    K, M = chain_matrices(MASSES, STIFF)
    upper = np.array([[1.0, -1, 0], [-1, 1, 0], [0, 0, 0]]) * STIFF[1]
    lossy = K + 0.02j * (K - upper) + 0.30j * upper
    exact = np.sqrt(-scipy.linalg.eigvals(lossy, M))
    exact = np.where(exact.imag < 0, -exact, exact)
    damped = a.modes().damped()
    np.testing.assert_allclose(np.sort_complex(damped.poles), np.sort_complex(exact), rtol=1e-9)
    assert damped.set.complexity.max() > 0.05
    uniform = chain(MASSES, STIFF, {"loss factor": "10 %"}).modes()
    np.testing.assert_allclose(uniform.damped().poles, 1j * uniform.set.omega * np.sqrt(1 + 0.1j), rtol=1e-9)
    # elsewhere half of it stands for the ratio, which is told
    np.testing.assert_allclose(uniform.damping, 0.05, rtol=1e-12)
    assert not uniform.damped()._coupling.vibration.coupled


def test_own_loss_factors_of_materials_springs_and_joints() -> None:
    """By name before group before material before own before default."""
    steel = {"E": 206e9, "nu": 0.29, "density": 7830.0, "loss_factor": "1 %"}
    a = straight_beam(1.0, {"rectangle": {"width": 0.02, "height": 0.03}}, steel, start="all")
    a.spring("s", between=["b", "ground"], stiffness=1e4, axis="z", loss_factor="20 %").group("ends", ["s"])
    from holokine.modes.damping import loss_factors

    def factors(damping) -> dict[str, float]:
        b = a.changed({"damping": damping})
        return loss_factors(b.description, b.description.damping_used)

    assert factors({"ratio": 0.01}) == {"beam": 0.01, "s": 0.2}
    assert factors({"loss factor": "3 %"}) == {"beam": 0.01, "s": 0.2}  # a default is for members that have none
    assert factors({"loss factor": {"m": "4 %", "ends": "5 %", "default": "9 %"}}) == {"beam": 0.04, "s": 0.05}
    assert factors({"loss factor": {"ends": "5 %", "s": "6 %"}}) == {"beam": 0.01, "s": 0.06}
    assert factors({"composite": {"default": "1 %"}}) == {}
    for bad, words in (
        ({"loss factor": "3 %", "composite": {"m": 0.01}}, "instead of it"), ({"loss factor": 3}, "3 %"),
        ({"loss factor": "-3 %"}, "at least 0"),
        ({"loss factor": {"nobody": "1 %"}}, "nobody"), ({}, "exactly one"),
    ):  # fmt: skip
        with pytest.raises((DescriptionError, UnknownNameError), match=words):
            a.changed({"damping": bad}).modes(1)


def test_free_assembly_has_damped_modes() -> None:
    """Two masses that only hang on one another: the free motion stays, the other is damped by the damper between."""
    m1, m2, k, c = 2.0, 3.0, 4e3, 9.0
    a = hk.Assembly("free").damping(0.0)
    for name, x, m in (("p1", 0.0, m1), ("p2", 0.1, m2)):
        a.point(name, [x, 0, 0]).mass(f"m{name}", at=name, mass=m, inertia=[1, 1, 1])
        a.support(f"guide {name}", at=name, hold=["y", "z", "rx", "ry", "rz"])
    a.spring("k", between=["p1", "p2"], stiffness=k, damping=c, axis="x")
    damped = a.modes().damped()
    reduced = m1 * m2 / (m1 + m2)
    exact = np.roots([reduced, c, k])
    assert damped.poles[-1] == pytest.approx(exact[exact.imag > 0][0], rel=1e-9)


# -- tuned dampers -------------------------------------------------------------------------------------------


def two_masses(mu: float, tuning: float, zeta: float, f: np.ndarray) -> np.ndarray:
    """Amplification of an undamped mass under a force, with a damper on it; f over its own frequency."""
    w2 = tuning * tuning
    free, pull = w2 - f**2 + 2j * zeta * tuning * f, w2 + 2j * zeta * tuning * f
    return np.abs(free / ((1 - f**2) * free - mu * f**2 * pull))


@pytest.mark.parametrize("mu", [0.02, 0.1])
def test_tuned_damper_on_one_mass(mu: float) -> None:
    """The classic optimum has its fixed points level; the least of the largest is that of a fine search by hand."""
    f0 = 5.0
    k = 100.0 * (2 * np.pi * f0) ** 2
    t = chain([100.0], [k], 0.0).modes().tune("p1", "x", ratio=mu)
    classic, best = t.result.classic, t.result.best
    assert t.result.effective_mass == pytest.approx(100.0, rel=1e-9)
    assert classic.frequency_hz == pytest.approx(f0 / (1 + mu), rel=1e-9)
    assert classic.ratio == pytest.approx(np.sqrt(3 * mu / 8 / (1 + mu)), rel=1e-9)
    f = np.linspace(0.6, 1.5, 200_001)
    assert classic.peak * k == pytest.approx(two_masses(mu, 1 / (1 + mu), classic.ratio, f).max(), rel=1e-5)
    assert classic.peak * k == pytest.approx(
        np.sqrt(1 + 2 / mu), rel=2e-3
    )  # its fixed points; peaks lie a little above
    fine = np.linspace(0.6, 1.5, 20_001)
    found = minimize(lambda x: two_masses(mu, x[0], x[1], fine).max(), [1 / (1 + mu), classic.ratio],
                     method="Nelder-Mead", options={"xatol": 1e-9, "fatol": 1e-11, "maxiter": 2000})  # fmt: skip
    assert best.peak * k == pytest.approx(found.fun, rel=2e-5)
    assert best.peak < classic.peak
    assert best.frequency_hz / f0 == pytest.approx(found.x[0], rel=1e-4)
    y = t.result.host.with_damper(best)[0] * k
    tops = y[1:-1][(y[1:-1] > y[:-2]) & (y[1:-1] > y[2:])]
    assert len(tops) == 2
    assert tops[0] == pytest.approx(tops[1], rel=1e-3)  # both peaks level
    assert not np.isfinite(t.result.without)
    assert "infinite" in " ".join(t.lines)


def test_tuned_damper_among_the_members() -> None:
    """On three damped masses: curves by receptances equal the assembly solved anew with the damper in it."""
    a = damped_chain(20.0).spring("e", between=["p2", "ground"], damping=15.0, axis="x")
    a.gauge("last", acceleration="p3", axis="x")
    a.event("sweep", sweep=[3, 40], base={"x": "0.2 g"})
    modes = a.modes()
    for keys in ({"against": "force"}, {"against": "base"}, {"against": "sweep", "gauge": "last x"}):
        t = modes.tune("p3", "x", mode=1, mass="0.3 kg", **keys)
        assert t.solved_anew == pytest.approx(t.result.best.peak, rel=1e-5)
        assert t.result.best.peak < t.result.classic.peak < t.result.without
        assert all(s.peak >= t.result.best.peak for _, s in t.result.scattered)
    with_it = t.assembly()
    assert with_it.description.masses["tuned damper"].mass == pytest.approx(0.3)
    assert len(with_it.modes()) == len(modes) + 1
    assert t.table()["setting"].tolist()[:3] == ["without", "classic optimum", "least of the largest"]
    assert t.plot().axes[0].get_xlabel() == "frequency (Hz)"


def test_tuned_damper_on_solids_and_askew() -> None:
    """A node of solids has no turn to hold the mass by: it stands on stiff springs across; an axis may lie askew."""
    a = hk.Assembly("block").material("m", E=70e9, nu=0.3, density=2700).damping("1 %")
    a.part("b", box={"corner": [0, 0, 0], "sides": [[0.4, 0, 0], [0, 0.05, 0], [0, 0, 0.02]], "divisions": [8, 2, 1]},
           material="m")  # fmt: skip
    a.support("wall", at={"part": "b", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    a.point("tip", [0.4, 0.025, 0.02]).load("push", at="tip", force=[0, 0, 1])
    a.gauge("end", displacement="tip", axis="z")
    t = a.modes(4).tune("tip", "z", ratio="5 %")
    assert "bushings" in t.values()
    assert t.assembly().check().ok
    assert t.solved_anew == pytest.approx(t.result.best.peak, rel=0.03)  # modal ratios hold for other modes then
    askew = a.modes(4).tune("tip", [0, 1, 1], ratio="5 %")
    assert askew.solved_anew is None
    assert "[0, 0.707, 0.707]" in askew.lines[0]


def test_what_a_tuned_damper_refuses() -> None:
    a = damped_chain(20.0, 0.01).gauge("all", displacement="p1").event("sweep", sweep=[3, 40], base={"x": "1 g"})
    modes = a.event("drop", pulse={"x": {"half sine": {"peak": "1 g", "duration": 0.01}}}).modes()
    for keys, words in (
        ({"axis": "x"}, "one of them"), ({"axis": "x", "mass": 1, "ratio": 0.1}, "one of them"),
        ({"axis": "x", "ratio": "-1 %"}, "greater than 0"), ({"axis": "x", "ratio": 5}, "5 %"),
        ({"axis": "q", "ratio": 0.1}, "axis"), ({"axis": [0, 0, 0], "ratio": 0.1}, "not all zero"),
        ({"axis": "x", "ratio": 0.1, "band": [9, 4]}, "higher one"), ({"axis": "x", "ratio": 0.1, "mode": 9}, "mode"),
        ({"axis": "x", "ratio": 0.1, "against": "drop"}, "for a sine sweep"),
        ({"axis": "x", "ratio": 0.1, "against": "sweep"}, "name the gauge"),
        ({"axis": "x", "ratio": 0.1, "against": "sweep", "gauge": "all"}, "several components"),
        ({"axis": "x", "ratio": 0.1, "gauge": "all x"}, "belongs to a sweep"),
        ({"axis": "x", "ratio": 0.1, "against": "base", "mass": None, "at": "p9"}, "p9"),
    ):  # fmt: skip
        at = keys.pop("at", "p3")
        with pytest.raises(HolokineError, match=words):
            modes.tune(at, **keys)
    steel = {"E": 206e9, "nu": 0.29, "density": 7830.0}
    bending = straight_beam(1.0, {"rectangle": {"width": 0.02, "height": 0.03}}, steel, start="all").modes(1)
    with pytest.raises(EventError, match="hardly moves"):
        bending.tune("b", "x", ratio=0.1)


# -- as commands -------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def chain_file(tmp_path_factory):
    a = damped_chain(300.0, 0.01).gauge("last", acceleration="p3", axis="x")
    a.event("sweep", sweep=[3, 60], base={"x": "0.2 g"})
    return a.save(tmp_path_factory.mktemp("chain") / "chain.yaml")


def test_damped_command(chain_file, tmp_path, capsys) -> None:
    from holokine.cli.main import run

    run(["modes", str(chain_file), "--damped", "--json"])
    data = json.loads(capsys.readouterr().out)
    rows = data["tables"]["damped_modes"]
    assert [r["nearest_mode"] for r in rows if r["kind"] == "swings"] != []
    assert rows[0]["damping_percent"] > 1.0
    run(["modes", str(chain_file), "--damped", "--out", str(tmp_path), "--animate", "1", "--draw", "size=320x200"])
    assert {"damped_modes.csv", "poles.png", "damped_mode_01.gif"} <= {p.name for p in tmp_path.iterdir()}
    with pytest.raises(SystemExit) as stop:
        run(["modes", str(chain_file), "--damped", "--out", str(tmp_path), "--animate", "9"])
    assert stop.value.code == 2
    assert "there is no damped mode 9" in capsys.readouterr().err


def test_tune_command(chain_file, tmp_path, capsys) -> None:
    from holokine.cli.main import run

    written = tmp_path / "with.yaml"
    what = ["tune", str(chain_file), "--at", "p3", "--axis", "x", "--ratio", "5%"]
    run([*what, "--against", "sweep", "--gauge", "last x", "--out", str(tmp_path), "--save", str(written)])
    text = capsys.readouterr().out
    assert "classic optimum" in text
    assert "solved anew" in text
    assert (tmp_path / "tuned_damper.png").stat().st_size > 10_000
    assert "tuned damper" in hk.Assembly.read(written).description.masses
    with pytest.raises(SystemExit) as stop:
        run([*what, "--gauge", "last x"])
    assert stop.value.code == 2
