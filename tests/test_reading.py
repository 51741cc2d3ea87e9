"""Reading the modes: energies, words, levers, comparison of runs, hand formulas, bands, scaling, the page."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import holokine as hk
from conftest import BENCH_STEEL, STEEL, chain, straight_beam
from holokine.errors import DescriptionError, SelectionError, UnitError, UnknownNameError
from holokine.formulas import evaluate
from holokine.modes.compare import assurance
from test_cli import inside as holokine

FLAT = {"rectangle": {"width": 0.03, "height": 0.05}}


@pytest.fixture
def crate_copy(tmp_path: Path) -> Path:
    for name in ("crate.yaml", "works.csv"):
        shutil.copy(hk.demo_folder() / name, tmp_path / name)
    return tmp_path / "crate.yaml"


# -- energies ------------------------------------------------------------------------------------------


def test_energies_balance_and_sum(crate_modes):
    """Strain = kinetic = ω²/2 in every mode, over members and over groups that share nothing out twice."""
    e = crate_modes.energies
    np.testing.assert_allclose(e.strain.sum(axis=0), e.total, rtol=1e-9)
    np.testing.assert_allclose(e.kinetic.sum(axis=0), e.total, rtol=1e-9)
    assert (e.strain > -1e-9 * e.total).all()
    kinds = np.array(e.kinds)
    for rigid in ("rigid", "averaging", "joint"):
        assert (e.strain[kinds == rigid] == 0).all()
        assert (e.kinetic[kinds == rigid] == 0).all()
    table = crate_modes.table("energy")
    sums = table.groupby("mode")[["strain_percent", "kinetic_percent"]].sum()
    np.testing.assert_allclose(sums, 100.0, rtol=1e-9)
    groups = crate_modes.table("energy", by=["panels", "fan set"])
    assert list(groups["member"].unique()) == ["panels", "fan set", "(in no group)"]
    np.testing.assert_allclose(groups.groupby("mode")["strain_percent"].sum(), 100.0, rtol=1e-9)
    assert crate_modes.in_several_groups() == ("rail left", "rail right", "top left", "top right", "deck")
    with pytest.raises(UnknownNameError, match=r'no group "panel"\. Did you mean "panels"'):
        crate_modes.table("energy", by="panel")


def test_energies_by_hand_and_of_free_and_massless_assemblies():
    modes = chain([1.0, 2.0], [300.0, 500.0]).modes(2)
    u = modes.shapes[0].reshape(-1, 6)[:, 0]
    e = modes.energies
    table = dict(zip(e.members, zip(e.strain[:, 0], e.kinetic[:, 0], strict=True), strict=True))
    w2 = modes.set.omega[0] ** 2
    assert table["k1"][0] == pytest.approx(0.5 * 300.0 * u[0] ** 2)
    assert table["k2"][0] == pytest.approx(0.5 * 500.0 * (u[1] - u[0]) ** 2)
    assert table["m2"][1] == pytest.approx(0.5 * w2 * 2.0 * u[1] ** 2)
    free = straight_beam(1.0, FLAT, STEEL, divisions=10).modes(8).energies
    assert (free.strain[:, :6] == 0).all()
    assert (free.kinetic[:, :6] == 0).all()
    off = straight_beam(1.0, FLAT, STEEL, start="all", divisions=10).massless("z").modes(3).energies
    np.testing.assert_allclose(off.kinetic.sum(axis=0), off.total, rtol=1e-9)


@pytest.mark.parametrize(
    ("member", "key"), [("deck", "stiffness"), ("fan", "mass"), ("heat sink", "mass"), ("fan bushing a1", "stiffness")]
)
def test_levers_against_finite_differences(crate, crate_modes, member, key):
    """Derivatives of the frequencies, central differences with steps of 0.2 %: error of second order."""
    up, down = (crate.adjusted({member: {key: 1 + s * 0.002}}).modes(14) for s in (1, -1))
    slope = (up.frequencies_hz - down.frequencies_hz) / 0.004 / crate_modes.frequencies_hz[:14]
    table = crate_modes.table("sensitivities", change=1.0)
    own = table[(table["member"] == member) & (table["mode"] <= 14)].sort_values("mode")
    column = next(c for c in own if key in c)
    # repeated closeness (modes 10 and 11) makes the difference quotient less exact
    np.testing.assert_allclose(own[column].to_numpy() / 100.0, slope, atol=2e-4)
    assert np.abs(slope).max() > 0.01


def test_sensitivities_and_what_cannot_be_adjusted(crate, crate_modes):
    strongest = crate_modes.table("sensitivities", mode=8, most=1).iloc[0]
    assert (strongest["member"], strongest["change_percent"]) == ("deck", pytest.approx(10.0))
    assert strongest["by_stiffness_percent"] == pytest.approx(4.3, abs=0.05)
    table = crate_modes.table("sensitivities", by="group", change=0.2)
    strongest = table[(table["mode"] == 3) & (table["member"] == "front half")].iloc[0]
    assert strongest["by_stiffness_percent"] == pytest.approx(6.03, abs=0.02)
    for factors, words in (
        ({"deck": {"stiffness": 0.0}}, "greater than 0"),
        ({"fan": {"stiffness": 2.0}}, "a point mass has no stiffness"),
        ({"bolt 1": {"stiffness": 2.0}}, "no stiffness of its own"),
        ({"fan feet": {"mass": 2.0}}, "neither stiffness nor mass"),
        ({"dek": {"mass": 2.0}}, 'Did you mean "deck"'),
    ):
        with pytest.raises(hk.HolokineError, match=words):
            crate.adjusted(factors)
    heavier = crate.adjusted({"deck": {"mass": 1.5}, "fan set": {"mass": 2.0}})
    gain = heavier.check().mass - crate.check().mass
    masses = crate.check().table("mass").set_index("name")["mass_kg"]
    assert gain == pytest.approx(0.5 * masses["deck"] + masses["fan"], rel=1e-9)


# -- words ---------------------------------------------------------------------------------------------


def _words(assembly: hk.Assembly, count: int) -> list[str]:
    return assembly.modes(count).words


def test_words_of_beams():
    ends = {"cantilever": {"start": "all"}, "clamped": {"start": "all", "end": "all"},
            "pinned": {"start": ["x", "y", "z", "rx"], "end": ["y", "z"]}, "free": {}}  # fmt: skip
    for name, held in ends.items():
        words = _words(straight_beam(1.0, FLAT, STEEL, divisions=20, **held), 12)
        skip = 6 if name == "free" else 0
        assert words[skip : skip + 2] == ["first bending about z", "first bending about y"], name
        assert "second bending about z" in words
        assert "first torsion about x" in words
    assert "first stretching along x" in _words(straight_beam(1.0, FLAT, STEEL, start="all", divisions=20), 9)
    rigid = _words(straight_beam(1.0, FLAT, STEEL, divisions=10), 6)
    assert all(w.startswith("rigid-body: ") for w in rigid)
    assert sum("spins about x" in w for w in rigid) == 1
    square = _words(straight_beam(1.0, {"rectangle": {"width": 0.04, "height": 0.04}}, STEEL, start="all"), 2)
    assert all("(repeated: modes 1, 2)" in w for w in square)


def test_words_of_a_solid_beam_a_plate_a_ring_and_a_cylinder():
    block = hk.Assembly().material("m", **BENCH_STEEL)
    block.part("b", box={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.2, 0], [0, 0, 0.15]], "divisions": [20, 4, 3]},
               material="m")  # fmt: skip
    block.support("w", at={"part": "b", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    assert _words(block, 6) == [
        "first bending about y", "first bending about z", "second bending about y", "first torsion about x",
        "second bending about z", "first stretching along x",
    ]  # fmt: skip
    plate = hk.Assembly().material("m", **BENCH_STEEL)
    plate.part("p", plate={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.8, 0]], "divisions": [12, 10],
                           "thickness": 0.004}, material="m")  # fmt: skip
    for name, at, normal in (
        ("a", [0, 0, 0], "x"),
        ("b", [1, 0, 0], "x"),
        ("c", [0, 0, 0], "y"),
        ("d", [0, 0.8, 0], "y"),
    ):
        plate.support(name, at={"part": "p", "plane": {"at": at, "normal": normal}}, hold=["z"])
    plate.support("flat", at={"part": "p"}, hold=["x", "y", "rz"])
    waves = [w.split(", ")[1].split(" half")[0] for w in _words(plate, 8)]
    assert waves == ["1 x 1", "2 x 1", "1 x 2", "2 x 2", "3 x 1", "3 x 2", "1 x 3", "2 x 3"]
    ring = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.02, "height": 0.03})
    ring.part(
        "r", ring={"centre": [0, 0, 0], "axis": "z", "radius": 0.5, "section": "s", "divisions": 48}, material="m"
    )
    words = _words(ring, 14)[6:]
    assert [w.split(" (")[0] for w in words[::2]] == [
        "radial bending, 2 waves around", "bending along z, 2 waves around", "radial bending, 3 waves around",
        "bending along z, 3 waves around",
    ]  # fmt: skip
    shell = hk.Assembly().material("m", **STEEL)
    shell.part("c", cylinder={"base": [0, 0, 0], "axis": "z", "radius": 0.3, "length": 0.8, "divisions": [36, 12],
                              "thickness": 0.003}, material="m")  # fmt: skip
    shell.support("w", at={"part": "c", "plane": {"at": [0, 0, 0], "normal": "z"}}, hold="all")
    assert _words(shell, 2)[0] == "radial bending, 3 waves around, 1 half waves along z (repeated: modes 1, 2)"


def test_words_of_the_crate(crate_modes):
    """Where words name members, the energies and the shapes must bear them out."""
    words, e = crate_modes.words, crate_modes.energies
    assert words[0] == "fan moves along y, on fan bushing a1 to b2 (4)"
    assert words[1] == "fan moves along x, on fan bushing a1 to b2 (4)"
    assert words[8] == "heat sink rocks about x and moves along y, straining deck"
    assert any(w.startswith("cage moves along z, in opposite senses, straining ") for w in words)  # a group
    kinetic = dict(zip(e.members, e.shares("kinetic"), strict=True))
    for row, text in enumerate(words):
        if text.startswith("local to "):
            name = text.removeprefix("local to ").split(",")[0]
            assert kinetic[name][row] >= 0.75
        if text.startswith("fan ") and ", on fan bushing" in text:
            assert kinetic["fan"][row] > 0.9
        moving = re.split(" move| sway| rock| twist", text)[0]
        members = crate_modes.assembly.description.groups.get(moving, re.split(", | and ", moving))
        if moving != "the whole assembly" and all(m in kinetic for m in members):
            assert sum(kinetic[m][row] for m in members) >= 0.6
    assert any(w.startswith("local to deck, plate bending") for w in words)


def test_words_say_what_moves_and_how():
    """A chain that can only move along x never rocks; masses and springs keep their names; frames sway."""
    chain = hk.Assembly("chain")
    for k, z in enumerate((0.0, 0.2, 0.5, 0.9)):
        chain.point(f"p{k}", [0, 0, z]).mass(f"load {k}", at=f"p{k}", mass=[10, 20, 5, 8][k])
        chain.support(f"guide {k}", at=f"p{k}", hold=["y", "z", "rx", "ry", "rz"])
        below = f"p{k - 1}" if k else "ground"
        chain.spring(f"spring {k}", between=[below, f"p{k}"], stiffness=[2e4, 1.5e4, 6e4, 2e4][k], axis="x")
    words = _words(chain, 4)
    assert not any("rock" in w or "z" in w.split(", on")[0] for w in words)
    assert all("along x" in w for w in words)
    assert words[0] == "load 1 and load 3 move along x, on spring 0 and 1"  # the two others strain little
    assert words[3].endswith(", on spring 2 and 3")
    pair = hk.Assembly("pair")
    for k in (0, 1):
        pair.point(f"p{k}", [0, 0, 0.3 * k]).mass(f"disc {k}", at=f"p{k}", mass=5)
        pair.support(f"guide {k}", at=f"p{k}", hold=["y", "z", "rx", "ry", "rz"])
        pair.spring(f"soft {k}", between=["ground", f"p{k}"], stiffness=1e3, axis="x")
    pair.spring("link", between=["p0", "p1"], stiffness=5e4, axis="x")
    assert _words(pair, 2) == [
        "disc 0 and disc 1 move along x, on soft 0 and 1",
        "disc 0 and disc 1 move along x, against each other, on link",
    ]  # fmt: skip
    frame = hk.Assembly("portal").material("m", **STEEL).section("s", rectangle={"width": 0.04, "height": 0.06})
    corners = {"a": [0, 0, 0], "b": [1.2, 0, 0], "c": [1.2, 0.8, 0], "d": [0, 0.8, 0]}
    for name, (x, y, _) in corners.items():
        frame.point(name, [x, y, 0]).point(f"top {name}", [x, y, 1.5])
        frame.part(f"leg {name}", beam={"through": [name, f"top {name}"], "section": "s", "up": "x"}, material="m")
        frame.support(f"foot {name}", at=name, hold="all")
    for one, other in ("ab", "bc", "cd", "da"):
        frame.part(f"rail {one}{other}", material="m",
                   beam={"through": [f"top {one}", f"top {other}"], "section": "s", "up": "z"})  # fmt: skip
    frame.group("roof", [f"rail {p}" for p in ("ab", "bc", "cd", "da")])
    words = _words(frame, 3)
    assert [w.partition(",")[0] for w in words] == [
        "roof sways along y", "roof sways along x", "the whole assembly twists about z",
    ]  # fmt: skip
    assert all("straining leg " in w for w in words)


# -- participation, bands, scaling -----------------------------------------------------------------------


def test_enough_mass_by_hand_and_projected(crate_modes):
    found = {e.direction: e for e in crate_modes.enough("85 %", ["x", "z"])}
    table = crate_modes.table("participation")
    first = table.loc[table["cumulative_z_of_free"] >= 0.85, "mode"].iloc[0]
    assert found["z"].ok
    assert found["z"].mode == first
    assert not found["x"].ok
    assert "the residual term of a response carries the other" in found["x"].words
    # a pinned beam's modes 1, 3, 5 ... hold 8/π²/n² of the mass: 95 % of what moves freely comes with n = 7
    beam = straight_beam(2.0, FLAT, STEEL, start=["x", "y", "z", "rx"], end=["y", "z"], divisions=60,
                         suppress=["y", "rz", "rx", "x"])  # fmt: skip
    enough = beam.modes(12).enough(0.95, ["z"])[0]
    assert enough.mode == 7
    guess = beam.modes(10).enough(0.97, ["z"])[0]
    assert guess.probably is not None
    assert 11 <= guess.probably <= 40  # n = 13 in truth
    for share, along, words in ((1.5, "z", "between 0 and 100 %"), (0.9, ["w"], "unknown direction")):
        with pytest.raises(DescriptionError, match=words):
            crate_modes.enough(share, along)


def test_bands_and_scaling(crate_modes):
    bands = crate_modes.table("bands")
    assert set(bands.loc[(bands["band"] == "fan harmonic 1") & (bands["where"] == "in it"), "mode"]) == set()
    assert set(bands.loc[(bands["band"] == "fan harmonic 2") & (bands["where"] == "in it"), "mode"]) == {9, 10, 11, 12}
    near = bands[(bands["band"] == "fan harmonic 1") & (bands["mode"] == 3)].iloc[0]
    assert near["where"] == "4 % below"
    beam = straight_beam(1.0, FLAT, STEEL, start="all", divisions=20).modes(4)
    energy = beam.scaled("2 J")
    K = beam.set.system.stiffness
    np.testing.assert_allclose(0.5 * np.einsum("mi,mi->m", energy, (K @ energy.T).T), 2.0, rtol=1e-8)
    assert (
        beam.table("peak_at_energy", 2.0)["peak_displacement_mm"].iloc[0]
        > beam.table("peak_at_energy", 2.0)["peak_displacement_mm"].iloc[2]
    )
    np.testing.assert_array_equal(beam.scaled("mass"), beam.shapes)
    for keys, words in (({"range": [5, 2]}, "rise"), ({"speed": "10 Hz", "margin": 1.2}, "below 100"), ({}, "a band")):
        with pytest.raises(DescriptionError, match=words):
            hk.Assembly().changed({"bands": {"b": keys}})


# -- comparison -------------------------------------------------------------------------------------------


def test_pairs_recover_a_permutation_and_follow_a_crossing():
    rng = np.random.default_rng(1)
    shapes = np.linalg.qr(rng.standard_normal((60, 9)))[0].T
    order = rng.permutation(9)
    np.testing.assert_array_equal(assurance(shapes, shapes[order]).argmax(axis=1), np.argsort(order))

    def bar(height: float) -> hk.Assembly:
        return straight_beam(1.0, {"rectangle": {"width": 0.04, "height": height}}, STEEL, start="all", divisions=15)

    # bending about y below, then above bending about z: the order changes, the pairs do not
    got = bar(0.038).modes(4).compare(bar(0.042).modes(4))
    assert list(got.result.partner) == [1, 0, 3, 2]
    table = got.table()
    assert table["remark"].iloc[0] == "crossed by mode 2"
    assert table["remark"].iloc[1] == "crossed mode 1"
    np.testing.assert_allclose(table["shift_percent"].iloc[0], 100 * (0.042 / 0.038 - 1), rtol=0.02)
    assert table["shift_percent"].iloc[1] == pytest.approx(0.0, abs=0.05)
    assert got.table("mac").shape == (4, 5)


def test_unlike_meshes_and_nothing_in_common():
    coarse, fine = (straight_beam(1.0, FLAT, STEEL, start="all", divisions=n).modes(5) for n in (9, 16))
    got = coarse.compare(fine)
    assert list(got.result.partner) == [0, 1, 2, 3, 4]
    assert got.result.mac.diagonal().min() > 0.97
    apart = hk.Assembly().material("m", **STEEL).section("s", **FLAT).point("a", [50, 0, 0]).point("b", [51, 0, 0])
    apart.part("p", beam={"through": ["a", "b"], "section": "s", "divisions": 5}, material="m").support(
        "w", at="a", hold="all"
    )
    with pytest.raises(SelectionError, match="no place in common"):
        coarse.compare(apart.modes(3))


@pytest.mark.parametrize("finer", [0, 1])
def test_a_body_that_only_one_run_has_does_not_hide_the_pairs(finer: int):
    """What hung on a soft spring moves freely once its mass is gone; the frame that carried it still pairs."""

    def frame(mass: float, divisions: int) -> hk.Modes:
        a = straight_beam(1.0, FLAT, STEEL, start="all", divisions=divisions, suppress=["y", "rx", "rz"])
        a.point("box", [1, 0, -0.2]).spring("hanger", between=["box", "b"], stiffness=2e5, axis="z")
        if mass:
            a.mass("box", at="box", mass=mass).support("guide", at="box", hold=["x", "y"])
        return a.modes(4)

    loaded, bare = frame(500.0, 8), frame(0.0, 8 + finer)
    got = loaded.compare(bare).result
    assert list(got.partner) == [-1, 0, 1, 2]  # the box on its hanger has no partner
    assert got.mac[[1, 2, 3], [0, 1, 2]].min() > 0.9
    back = bare.compare(loaded).result
    assert list(back.partner)[:3] == [1, 2, 3]


def test_variants_of_a_file(crate, crate_copy):
    assert crate.variants == ("aluminium cage", "thicker deck", "stiffer fan bushings", "rubber fan bushings")
    thick = crate.variant("thicker deck")
    assert thick.description.parts["deck"].plate.thickness == pytest.approx(0.004)
    assert thick.description.parts["deck"].plate.offset == crate.description.parts["deck"].plate.offset
    assert not thick.variants
    with pytest.raises(UnknownNameError, match='Did you mean "thicker deck"'):
        crate.variant("thick deck")
    assert crate.changed({"masses": {"fan": {"mass": "30 kg"}}}).description.masses["fan"].mass == 30.0
    with pytest.raises(hk.HolokineError, match="there is no point"):
        crate.changed({"points": {"fan": None}})
    crate_copy.write_text(crate_copy.read_text().replace("plate: {thickness: 4}", "plate: {thickness: -4}"))
    with pytest.raises(DescriptionError, match="variants, thicker deck"):
        hk.Assembly.read(crate_copy)


# -- hand formulas -----------------------------------------------------------------------------------------


def test_beam_formulas_against_known_roots():
    common = {"length": 1.0, "E": 1.0, "I": 1.0, "mass_per_length": 1.0}
    roots = {"fixed-free": [1.87510407, 4.69409113, 7.85475744], "fixed-fixed": [4.73004074, 7.85320462, 10.9956079],
             "pinned-fixed": [3.92660231, 7.06858275, 10.2101761], "free-free": [4.73004074, 7.85320462, 10.9956079],
             "pinned-pinned": [np.pi, 2 * np.pi, 3 * np.pi], "free-sliding": [2.36502037, 5.49780392, 8.63937983],
             "pinned-sliding": [np.pi / 2, 1.5 * np.pi, 2.5 * np.pi]}  # fmt: skip
    for ends, values in roots.items():
        got = np.sqrt(2 * np.pi * evaluate("beam", ends=ends, modes=3, **common).frequencies_hz)
        np.testing.assert_allclose(got, values, rtol=1e-8)


def test_formulas_against_the_elements():
    """Bernoulli beams with a tip body, preload, rods, shafts, rings and plates: two ways to the same figure."""
    A, I = 0.03 * 0.05, 0.05 * 0.03**3 / 12  # noqa: E741
    m = STEEL["density"] * A
    plane = ["x", "z", "rx", "ry"]
    bar = straight_beam(1.0, FLAT, STEEL, start="all", suppress=plane, theory="euler", divisions=40)
    bar.mass("tip", at="b", mass=5.0, inertia=[0.0, 0.02, 0.02])
    got = evaluate("tip mass", length=1, E=206e9, I=I, mass_per_length=m, tip_mass=5, tip_inertia=0.02, modes=3)
    np.testing.assert_allclose(bar.modes(3).frequencies_hz, got.frequencies_hz, rtol=2e-6)
    pulled = straight_beam(1.0, FLAT, STEEL, start=["y"], end=["y"], suppress=plane, theory="euler", divisions=40,
                           preload=20e3)  # fmt: skip
    got = evaluate("beam", length=1, E=206e9, I=I, mass_per_length=m, preload="20 kN", modes=3)
    np.testing.assert_allclose(pulled.modes(3).frequencies_hz, got.frequencies_hz, rtol=1e-5)
    rod = straight_beam(1.0, FLAT, STEEL, start="all", suppress=["y", "z", "rx", "ry", "rz"], divisions=60)
    rod.mass("tip", at="b", mass=4.0)
    got = evaluate("rod", length=1, E=206e9, density=7830, area=A, tip_mass=4.0, modes=3)
    np.testing.assert_allclose(rod.modes(3).frequencies_hz, got.frequencies_hz, rtol=1.5e-3)
    G = 206e9 / 2.58
    round_bar = {"rod": {"diameter": 0.04}}
    J = np.pi * 0.04**4 / 32
    shaft = straight_beam(1.0, round_bar, STEEL, start="all", suppress=["x", "y", "z", "ry", "rz"], divisions=60)
    got = evaluate("shaft", length=1, G=G, J=J, density=7830, modes=3)
    np.testing.assert_allclose(shaft.modes(3).frequencies_hz, got.frequencies_hz, rtol=1.5e-3)
    ring = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.01, "height": 0.01})
    ring.part(
        "r", ring={"centre": [0, 0, 0], "axis": "z", "radius": 0.5, "section": "s", "divisions": 72}, material="m"
    )
    s = 0.01**4 / 12
    ratio = ring.modes(10).frequencies_hz[[6, 8]]
    torsion = 0.1406 * 0.01**4 * G / (206e9 * s)
    got = evaluate("ring", radius=0.5, E=206e9, I=s, mass_per_length=7830e-4, GJ_over_EI=torsion, modes=2)
    np.testing.assert_allclose(np.sort(ratio), got.frequencies_hz, rtol=3e-3)


def test_plate_and_damper_formulas():
    common = {"length": 1.0, "width": 1.0, "thickness": 0.01, "E": 200e9, "nu": 0.3, "density": 7850.0}
    D = 200e9 * 1e-6 / 12 / 0.91
    unit = np.sqrt(D / 78.5) / (2 * np.pi)
    exact = evaluate("plate", modes=3, **common).frequencies_hz / unit
    np.testing.assert_allclose(exact, np.pi**2 * np.array([2.0, 5.0, 5.0]), rtol=1e-12)
    # square plates by Leissa, J. Sound Vib. 31 (1973) 257: single products lie within 2 %, with free edges 12 %
    for ends, sides, values in (
        ("fixed-fixed", "fixed-fixed", [35.99, 73.41, 73.41, 108.3]),
        ("fixed-fixed", "pinned-pinned", [28.95, 54.74, 69.33, 94.59]),
        ("fixed-free", "free-free", [3.492, 8.525, 21.43, 27.33]),
        ("pinned-pinned", "free-free", [9.631, 16.13, 36.72, 38.94]),
    ):
        got = evaluate("plate", ends=ends, sides=sides, modes=4, **common).frequencies_hz / unit
        np.testing.assert_allclose(got, values, rtol=0.12 if "free" in ends + sides else 0.02)
    tuned = evaluate("tuned damper", mass=100.0, stiffness=4e5, mass_ratio=0.08)
    m, k, c = (tuned.facts[f"damper's {n}"][0] for n in ("mass", "stiffness", "damping constant"))
    w = np.linspace(0.6, 1.5, 4001) * np.sqrt(4e5 / 100)
    z = k + 1j * w * c
    main = 4e5 - 100 * w**2 + z * (-m * w**2) / (z - m * w**2)
    assert np.abs(4e5 / main).max() == pytest.approx(tuned.facts["largest amplification"][0], rel=1e-6)
    fixed = tuned.facts["amplification at the fixed points"][0]  # where the curves of all dampings cross
    for other in (0.3 * c, 3.0 * c):
        z = k + 1j * w * other
        again = 4e5 - 100 * w**2 + z * (-m * w**2) / (z - m * w**2)
        crossing = np.flatnonzero(np.diff(np.sign(np.abs(again) - np.abs(main))))
        np.testing.assert_allclose(np.abs(4e5 / main)[crossing], fixed, rtol=2e-3)


def test_formulas_refuse_bad_input():
    for name, keys, error, words in (
        ("bem", {}, UnknownNameError, 'Did you mean "beam"'),
        ("rod", {"length": 1, "E": 1, "density": 1, "areas": 1}, UnknownNameError, 'Did you mean "area"'),
        ("rod", {"length": "1 s", "E": 1, "density": 1}, UnitError, "length"),
        ("rod", {"length": -1, "E": 1, "density": 1}, DescriptionError, "greater than 0"),
        ("rod", {"length": 1, "E": 1}, DescriptionError, "density missing"),
        ("rod", {"length": 1, "E": 1, "density": 1, "ends": "pinned-free"}, DescriptionError, "fixed or free"),
        ("beam", {"length": 1, "E": 1, "I": 1, "mass_per_length": 1, "ends": "glued-free"}, DescriptionError, "ends"),
        ("beam", {"length": 1, "E": 1, "I": 1, "mass_per_length": 1, "preload": -99}, DescriptionError, "buckling"),
    ):
        with pytest.raises(error, match=words):
            hk.formula(name, **keys)


# -- the command line, pictures, the page --------------------------------------------------------------------


def test_commands_about_modes(crate_copy):
    folder = crate_copy.parent
    saved = holokine("modes", str(crate_copy), "--upto", "30Hz", "--save", str(folder / "c.run"), "--enough", "99%")
    assert saved.returncode == 1
    assert "the modes do not hold the mass asked for" in saved.stderr
    assert (folder / "c.run").exists()
    fine = holokine("modes", str(folder / "c.run"), "--enough", "80%", "--along", "z", "--json")
    assert fine.returncode == 0
    assert json.loads(fine.stdout)["tables"]["enough"][0]["with_mode"] == "4"
    moved = holokine("modes", str(folder / "c.run"), "--table", "peak_at_energy 1J", "--json")
    assert json.loads(moved.stdout)["tables"]["peak_at_energy"][0]["peak_displacement_mm"] > 1
    shares = ["modes", str(folder / "c.run"), "--table", "participation", "--sort"]
    assert holokine(*shares, "effective_y_kg", "--top", "2").returncode == 0
    assert holokine(*shares, "effectiv_y").returncode == 2
    energy = holokine("modes", str(folder / "c.run"), "--table", "energy group mode=3",
                      "--table", "sensitivities group mode=3 most=2")  # fmt: skip
    assert energy.returncode == 0, energy.stderr
    assert "Share of the energy" in energy.stdout
    assert "front half" in energy.stdout.split("What moves each mode")[1]
    early = holokine("modes", str(crate_copy), "--table", "energy grup")
    assert early.returncode == 2
    assert "there is no group" in early.stderr
    both = holokine("compare", str(folder / "c.run"), "--variant", "thicker deck", "--csv")
    assert both.returncode == 0, both.stderr
    table = pd.read_csv(pd.io.common.StringIO(both.stdout))
    assert table["shift_percent"].iloc[2] > 1.0
    lone = holokine("compare", str(crate_copy), "--adjust", "fan: mass 1.1", "--count", "2", "--json")
    rows = json.loads(lone.stdout)["tables"]["adjusted_modes"]
    assert rows[0]["predicted_percent"] == pytest.approx(-4.9, abs=0.1)
    assert rows[0]["shift_percent"] == pytest.approx(rows[0]["predicted_percent"], abs=0.5)
    text = holokine("formula", "rod", "length=1m", "E=205GPa", "density=7840kg/m^3", "--beside", str(folder / "c.run"))
    assert "1278" in text.stdout
    assert "Blevins" in text.stdout
    assert holokine("formula").stdout.count("length") >= 5
    assert holokine("modes", str(folder / "c.run"), "--as-saved", "--count", "3").returncode == 2
    assert holokine("respond", str(folder / "c.run"), "kerb strike").returncode == 0


def test_mass_matrices_compared(tmp_path):
    """Lumped mass without rotary inertia leaves out what the section's turning holds back."""
    bar = straight_beam(1.0, {"rectangle": {"width": 0.08, "height": 0.12}}, STEEL, start="all", divisions=30,
                        suppress=["y", "rz", "rx"])  # fmt: skip
    before = bar.modes(4)
    lumped = before.compare(bar.changed({"mass matrix": "lumped"}).modes(4)).table()["shift_percent"]
    bare = before.compare(bar.changed({"mass matrix": "lumped without rotary"}).modes(4)).table()["shift_percent"]
    assert (np.abs(lumped) < 1.0).all()
    assert (bare >= lumped - 1e-9).all()  # stretching is the same with both
    assert bare.iloc[3] > 1.0


@pytest.mark.skipif(shutil.which("chromium") is None, reason="no headless browser here")
def test_the_page_opens_in_a_browser_and_follows_the_reader(crate_modes, tmp_path):
    page = crate_modes.save(tmp_path / "crate.html")
    text = page.read_text(encoding="utf-8")
    assert "http" not in text.replace("http-equiv", "")  # nothing from a network
    drive = "<script>window.dispatchEvent(new KeyboardEvent('keydown',{key:'ArrowDown'}));</script></body>"
    page.write_text(text.replace("</body>", drive), encoding="utf-8")
    command = ["chromium", "--headless", "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader",
               "--enable-unsafe-swiftshader", "--virtual-time-budget=2000", "--dump-dom", page.as_uri()]  # fmt: skip
    got = subprocess.run(command, capture_output=True, text=True, timeout=120, check=True).stdout
    assert 'data-ready="1"' in got
    assert 'data-mode="2"' in got  # the arrow key went on to the second mode
    assert "Mode 2: 16.07 Hz, fan moves along x, on fan bushing a1 to b2 (4)" in got
    assert got.count("<tr") >= len(crate_modes)


def test_pictures_by_energy_and_stress(crate_modes, tmp_path):
    from matplotlib.image import imread

    pictures = [
        crate_modes.picture(tmp_path / f"{c}.png", mode=3, colour=c) for c in ("displacement", "energy", "stress")
    ]
    pictures.append(crate_modes.picture(tmp_path / "sheet.png", mode=[1, 2, 3, 4]))
    read = [imread(p)[..., :3] for p in pictures]
    assert all(p.std() > 0.02 for p in read)
    assert np.abs(read[0] - read[1]).mean() > 1e-3
    assert np.abs(read[1] - read[2]).mean() > 1e-3
    with pytest.raises(hk.HolokineError, match="displacement, energy or stress"):
        crate_modes.picture(tmp_path / "no.png", mode=3, colour="heat")
    assert not (tmp_path / "no.png").exists()


def test_shapes_at_points(crate_modes, tmp_path):
    """Values at named points in all three scales, against the shapes themselves and against strain energy."""
    system = crate_modes.set.system
    table = crate_modes.table("points", ["fan", "transformer"])
    assert list(table["point"][:2]) == ["fan", "transformer"]
    row = table[(table["mode"] == 4) & (table["point"] == "fan")].iloc[0]
    node = system.mesh.points["fan"]
    np.testing.assert_allclose([row[d] for d in ("x", "y", "z", "rx", "ry", "rz")],
                               crate_modes.set.shapes[3, 6 * node : 6 * node + 6], atol=1e-13)  # fmt: skip
    unit = crate_modes.table("points", scale="unit maximum")
    assert unit[["x", "y", "z"]].abs().to_numpy().max() <= 1.0 + 1e-12
    assert len(unit) == len(crate_modes) * len(system.moving_points())
    joules = crate_modes.table("points", "fan", scale="2 J")
    factor = 1e3 * np.sqrt(2 * 2.0) / crate_modes.set.omega  # U = (ω a)² / 2 for a shape of modal mass 1
    np.testing.assert_allclose(joules["z_mm"], factor * crate_modes.table("points", "fan")["z"], rtol=1e-9, atol=1e-12)
    with pytest.raises(hk.HolokineError, match=r'no point "fann" that moves\. Did you mean "fan"'):
        crate_modes.table("points", "fann")
    run = crate_modes.save(tmp_path / "crate.run")
    told = json.loads(holokine("modes", str(run), "--table", "points scale=2J", "--json").stdout)["tables"]["points"]
    pd.testing.assert_frame_equal(pd.DataFrame(told), crate_modes.table("points", scale="2J"), rtol=1e-12)
    assert holokine("modes", str(run), "--table", "points scale='2 kg'").returncode == 2


ENDS = {"fixed-free": {"start": "all"}, "pinned-pinned": {"start": ["x", "y", "z", "rx"], "end": ["y", "z"]},
        "fixed-fixed": {"start": "all", "end": "all"}, "fixed-pinned": {"start": "all", "end": ["y", "z"]},
        "free-free": {}}  # fmt: skip


@pytest.mark.parametrize("ends", ENDS)
def test_beam_formula_with_shear_and_rotary_inertia(ends):
    """A stocky beam by the formula against fine Timoshenko and Rayleigh elements; pinned ends in closed form too."""
    length, b, h = 1.0, 0.1, 0.2
    area, I, E, nu = b * h, b * h**3 / 12, STEEL["E"], STEEL["nu"]  # noqa: E741
    G, kappa = E / (2 * (1 + nu)), 5 / 6
    common = {"length": length, "E": E, "I": I, "mass_per_length": STEEL["density"] * area, "ends": ends, "modes": 4}
    for theory, more in (("timoshenko", {"area": area, "G": G, "shear_factor": kappa}), ("rayleigh", {"area": area})):
        found = hk.formula("beam", **common, **more).frequencies_hz
        section = {"rectangle": {"width": b, "height": h}}
        beam = straight_beam(length, section, STEEL, divisions=120, theory=theory, suppress=["y", "rz", "rx", "x"],
                             **{k: [d for d in ("y", "z", "rx") if d in v] or v if v != "all" else v
                                for k, v in ENDS[ends].items()})  # fmt: skip
        modes = beam.modes(count=8)
        exact = modes.frequencies_hz[~modes.set.rigid][:4]
        factor = beam.system.element_blocks("beam")[0].section.shear_z
        assert factor == pytest.approx(kappa, rel=0.02)
        np.testing.assert_allclose(found, exact, rtol=4e-3 if theory == "timoshenko" else 5e-4)
    if ends == "pinned-pinned":  # Timoshenko's frequency equation for k = nπ, quadratic in b²
        n2 = (np.arange(1, 5) * np.pi) ** 2
        r2, s2 = I / (area * length**2), E * I / (kappa * G * area * length**2)
        half = (1 + n2 * (r2 + s2)) / (2 * r2 * s2)
        b2 = half - np.sqrt(half**2 - n2**2 / (r2 * s2))
        closed = np.sqrt(b2) / (2 * np.pi * length**2) * np.sqrt(E * I / common["mass_per_length"])
        shear = hk.formula("beam", **common, area=area, G=G, shear_factor=kappa).frequencies_hz
        np.testing.assert_allclose(shear, closed, rtol=1e-10)
    for bad, words in (({"G": G}, "together"), ({"area": area, "preload": 5.0, "ends": "pinned-pinned"}, "without"),
                       ({"area": area, "G": G, "shear_factor": kappa, "modes": 40}, "cut-off")):  # fmt: skip
        with pytest.raises(DescriptionError, match=words):
            hk.formula("beam", **{**common, **bad})


def test_formulas_are_paired_by_kind_and_plane():
    """A flat cantilever: its bending in either plane beside the formula's, whatever lies nearest in frequency."""
    beam = straight_beam(1.0, FLAT, STEEL, start="all", divisions=40)
    modes = beam.modes(count=10)
    section = beam.system.element_blocks("beam")[0].section
    table = hk.formula("beam", length=1, E=STEEL["E"], I=section.Iy, mass_per_length=STEEL["density"] * section.area,
                       ends="fixed-free", modes=3, beside=modes, area=section.area, G=STEEL["E"] / 2.58,
                       shear_factor=section.shear_z).table()  # fmt: skip
    own = table[table["what"].str.endswith("about y")]
    other = table[table["what"].str.endswith("about z")]
    assert set(table["paired_by"]) == {"kind and order"}
    assert own["run_over_formula_percent"].abs().max() < 0.1
    assert (other["run_over_formula_percent"].abs() > 20).all()  # the other plane has the other second moment
    assert list(own["run_mode_is"].str.split(" ").str[0]) == ["first", "second", "third"]
    ratio = np.sqrt(section.Iz / section.Iy)
    np.testing.assert_allclose(other["run_hz"].to_numpy()[:2] / own["run_hz"].to_numpy()[:2], ratio, rtol=0.02)
    torsion = hk.formula("shaft", length=1, G=STEEL["E"] / 2.58, J=section.J, density=STEEL["density"],
                         polar_moment=section.Iy + section.Iz, modes=2, beside=modes).table()  # fmt: skip
    assert torsion["run_mode_is"].iloc[0].startswith("first torsion about x")
    assert abs(torsion["run_over_formula_percent"].iloc[0]) < 0.5
    stretching = hk.formula("rod", length=1, E=STEEL["E"], density=STEEL["density"], modes=6, beside=modes).table()
    assert stretching["paired_by"].iloc[-1] in ("not in the run", "nearest frequency only")
    sprung = chain([24.0], [560e3]).modes()
    one = hk.formula("mass on a spring", mass=24, stiffness=560e3, beside=sprung).table()
    assert one["paired_by"].iloc[0] == "kind and order"
    assert abs(one["run_over_formula_percent"].iloc[0]) < 1e-9
