"""Mass, constraints, participation, and the motions that nothing resists."""

from __future__ import annotations

import re

import numpy as np
import pytest

import holokine as hk
from conftest import STEEL, chain, straight_beam
from holokine.errors import ConstraintError, DescriptionError, MechanismError, SolverError

FLAT = {"rectangle": {"width": 0.04, "height": 0.02}}


def test_total_mass_centre_and_inertia_by_hand():
    a = straight_beam(2.0, FLAT, STEEL, start="all", divisions=5)
    a.mass("box", at="b", mass=3.0, inertia=[0.1, 0.2, 0.25], offset=[0, 0, 0.5])
    report = a.check().report
    bar = 0.04 * 0.02 * 2.0 * 7830
    assert report.totals.mass == pytest.approx(bar + 3.0, rel=1e-12)
    centre = np.array([bar * 1.0 + 3 * 2.0, 0, 3 * 0.5]) / (bar + 3)
    assert report.totals.centre == pytest.approx(centre, rel=1e-12, abs=1e-15)
    d_bar, d_box = np.array([1.0, 0, 0]) - centre, np.array([2.0, 0, 0.5]) - centre
    own = np.diag([7830 * 2 * (0.04 * 0.02**3 + 0.02 * 0.04**3) / 12, bar * (4 / 12 + 0.02**2 / 12),
                   bar * (4 / 12 + 0.04**2 / 12)])  # fmt: skip
    inertia = own + np.diag([0.1, 0.2, 0.25])
    for m, d in ((bar, d_bar), (3.0, d_box)):
        inertia += m * (d @ d * np.eye(3) - np.outer(d, d))
    np.testing.assert_allclose(report.totals.inertia, inertia, rtol=1e-10, atol=1e-10)
    assert report.members["box"].inertia == pytest.approx(np.diag([0.1, 0.2, 0.25]))


@pytest.mark.parametrize("matrix", ["consistent", "lumped", "lumped without rotary"])
def test_effective_masses_of_all_modes_sum_to_the_free_mass(matrix):
    a = straight_beam(1.0, FLAT, STEEL, start="all", divisions=6, offset={"start": [0, 0, 0.02]})
    a.point("p", [1.2, 0.1, 0]).mass("w", at="p", mass=2.0, inertia=[0.01, 0.01, 0.01]).mass_matrix(matrix)
    a.link("arm", rigid="b", to="p")
    modes = a.modes(count=500)
    total = modes.set.effective_mass.sum(axis=0)
    np.testing.assert_allclose(total, modes.set.free_mass, rtol=1e-9)
    assert (modes.set.free_mass <= modes.set.whole_mass * (1 + 1e-12)).all()
    table = modes.table("participation")
    assert table["cumulative_z_of_free"].iloc[-1] == pytest.approx(1.0, abs=1e-9)
    held = modes.set.whole_mass[:3] - modes.set.free_mass[:3]
    assert (held > 0).all()  # the clamped end carries mass that a base motion cannot excite


def test_free_assembly_has_six_rigid_body_modes_and_shapes_are_normalised():
    modes = straight_beam(1.0, FLAT, STEEL, divisions=8).modes(count=10)
    assert modes.set.rigid.tolist() == [True] * 6 + [False] * 4
    assert (modes.frequencies_hz[:6] == 0).all()
    assert modes.table()["kind"].tolist()[:7] == ["rigid-body"] * 6 + ["elastic"]
    M = modes.set.system.mass
    np.testing.assert_allclose(modes.shapes @ (M @ modes.shapes.T), np.eye(10), atol=1e-9)
    for shape in modes.shapes:  # both ends of a symmetric beam turn as much: the first decides
        assert shape[np.flatnonzero(np.abs(shape) > (1 - 1e-6) * np.abs(shape).max())[0]] > 0
    unit = modes.scaled().reshape(10, -1, 6)[:, :, :3]
    size = np.linalg.norm(unit, axis=2).max(axis=1)
    spin = size < 1e-6  # a turn about the beam's own axis moves no node: its turn is the unit
    assert spin.sum() <= 1
    np.testing.assert_allclose(size[~spin], 1.0)
    np.testing.assert_allclose(np.abs(modes.scaled()[spin]).max(initial=1.0), 1.0)
    assert modes.set.residuals.max() < 1e-9
    with pytest.raises(MechanismError, match=r"translation along x.*rotation about"):
        modes.reduced  # noqa: B018 - the property is what raises


def test_count_and_cutoff_whichever_comes_first():
    beam = straight_beam(1.0, FLAT, STEEL, start="all", divisions=20)
    ten = beam.modes(count=10).frequencies_hz
    limit = (ten[5] + ten[6]) / 2
    assert len(beam.modes(upto=limit)) == 6
    assert len(beam.modes(count=4, upto=limit)) == 4
    assert len(beam.modes(count=9, upto=f"{limit / 1000} kHz")) == 6
    with pytest.raises(SolverError, match="no mode up to"):
        beam.modes(upto=ten[0] / 2)


def test_sparse_route_agrees_with_dense_and_counts_by_inertia():
    beam = straight_beam(3.0, FLAT, STEEL, start="all", divisions=400)
    from holokine.solvers.eigen import lowest_pairs

    modes = beam.modes(upto=900.0)
    assert "dense" not in modes.set.method
    K, M = beam.system.reduced_stiffness.toarray(), beam.system.reduced_mass.toarray()
    import scipy.linalg

    exact = np.sqrt(scipy.linalg.eigh(K, M, eigvals_only=True, subset_by_index=[0, 39])) / 2 / np.pi
    wanted = exact[exact <= 900.0]
    assert len(modes) == len(wanted) == modes.set.exists
    # the dense solver's own rounding on a matrix of condition 1e13
    np.testing.assert_allclose(modes.frequencies_hz, wanted, rtol=1e-5)
    again = lowest_pairs(beam.system.reduced_stiffness, beam.system.reduced_mass, count=5, upto=None)
    np.testing.assert_array_equal(again.values, lowest_pairs(
        beam.system.reduced_stiffness, beam.system.reduced_mass, count=5, upto=None).values)  # fmt: skip


def _stool() -> hk.Assembly:
    a = hk.Assembly().material("m", **STEEL).section("s", **FLAT)
    a.point("a", [0, 0, 0]).point("b", [1, 0, 0]).point("c", [2, 0, 0]).point("d", [5, 0, 0]).point("e", [6, 0, 0])
    a.part("post", beam={"through": ["a", "b"], "section": "s", "divisions": 3}, material="m")
    return a.support("floor", at="a", hold="all")


def test_a_part_that_hangs_on_nothing_is_named():
    a = _stool().part("loose", beam={"through": ["d", "e"], "section": "s", "divisions": 3}, material="m")
    errors = [f.text for f in a.check().findings if f.level == "error"]
    assert len(errors) == 1
    assert 'hangs on nothing: "loose"' in errors[0]
    with pytest.raises(MechanismError, match='hangs on nothing: "loose"'):
        a.modes(count=3)


def test_a_spinning_strut_and_a_swinging_arm_are_named():
    strut = _stool()
    strut.part("strut", beam={"through": ["b", "c"], "section": "s", "divisions": 2,
                              "release": {"start": ["rx"]}}, material="m")  # fmt: skip
    text = [f.text for f in strut.check().findings if f.level == "error"]
    assert len(text) == 1
    assert '"strut": rotation about x' in text[0]
    arm = _stool()
    arm.part("arm", beam={"through": ["b", "c"], "section": "s", "release": {"start": ["ry", "rz"]}}, material="m")
    errors = [f.text for f in arm.check().findings if f.level == "error"]
    assert len(errors) == 2
    assert all('"arm": rotation about' in e and "post" not in e for e in errors)
    assert {"rotation about y" in e for e in errors} == {True, False}
    with pytest.raises(MechanismError, match='"arm"'):
        arm.modes(count=2)


def test_partly_held_assembly_gives_its_rigid_body_mode_with_a_warning():
    beam = straight_beam(1.0, FLAT, STEEL, start=["x", "y", "z", "rx", "rz"], divisions=6)
    modes = beam.modes(count=3)
    assert modes.set.rigid.tolist() == [True, False, False]
    assert any("rotation about y through [0, 0, 0]" in f.text for f in modes.findings)


def test_zero_mass_and_nothing_free_are_errors():
    light = straight_beam(1.0, FLAT, {**STEEL, "density": 0}, start="all")
    assert any("no mass" in f.text for f in light.check().findings if f.level == "error")
    with pytest.raises(SolverError, match="no mass"):
        light.modes(count=1)
    held = chain([1.0], [10.0]).support("more", at="p1", hold="all")
    with pytest.raises(SolverError, match="nothing is free to move"):
        held.modes(count=1)


def test_chains_of_links_circles_and_repeats():
    a = _stool().point("p", [1, 0, 0.3]).point("q", [1, 0.2, 0.3]).mass("w", at="q", mass=4.0)
    a.link("one", rigid="b", to="p").link("two", rigid="p", to="q")
    direct = _stool().mass("w", at="b", mass=4.0, offset=[0, 0.2, 0.3])
    np.testing.assert_allclose(a.modes(count=5).frequencies_hz, direct.modes(count=5).frequencies_hz, rtol=1e-9)
    circle = _stool().point("p", [1, 0, 0.3])
    circle.link("one", rigid="b", to="p").link("two", rigid="p", to="b")
    with pytest.raises(ConstraintError, match=r'circle.*link "one", link "two"'):
        circle.modes(count=1)
    twice = _stool().point("p", [1, 0, 0.3]).mass("w", at="p", mass=4.0)
    twice.link("one", rigid="b", to="p").link("again", rigid="b", to="p")
    assert any("over-constrained" in f.text for f in twice.check().findings)
    once = _stool().point("p", [1, 0, 0.3]).mass("w", at="p", mass=4.0).link("one", rigid="b", to="p")
    np.testing.assert_allclose(twice.modes(count=4).frequencies_hz, once.modes(count=4).frequencies_hz, rtol=1e-9)


def test_points_at_one_place_stay_apart_and_say_so():
    a = _stool().point("pad", [1, 0, 0]).mass("w", at="pad", mass=1.0, inertia=[1, 1, 1])
    a.bushing("rubber", between=["b", "pad"], stiffness=[1e5, 1e5, 1e5, 100, 100, 100])
    assert any('"b" and "pad" are at the same place' in f.text for f in a.check().findings)
    assert a.modes(count=2).frequencies_hz[0] > 0
    onto = _stool()
    onto._data["points"]["mid"] = {"at": [1 / 3, 0, 0]}  # on an inner node of the post: it becomes that node
    onto.mass("w", at="mid", mass=1.0)
    assert onto.system.mesh.merged == 1
    assert onto.check().ok


def test_bushing_axes_and_place():
    """A bushing between distant points resists no rigid motion of both, and its axes turn with it."""
    a = chain([2.0], [1000.0])
    a.point("far", [0.1, 0.4, 0.2]).mass("f", at="far", mass=1.0, inertia=[1, 1, 1])
    a.bushing("b", between=["p1", "far"], stiffness=[1e4, 2e4, 3e4, 40, 50, 60],
              axes={"x": [0, 1, 1], "y": [1, 0, 0]})  # fmt: skip
    c = a.system.connectors[-1]
    R = a.system.rigid_motions(np.zeros(3))
    from holokine.system.assemble import node_dofs

    rigid = R[:, node_dofs(np.array(c.nodes))]
    np.testing.assert_allclose(rigid @ c.matrices()[0] @ rigid.T, 0.0, atol=1e-9)
    K = c.matrices()[0][6:9, 6:9]
    n = np.array([0, 1, 1]) / np.sqrt(2)
    assert n @ K @ n == pytest.approx(1e4)


def test_impossible_inertia_is_refused():
    with pytest.raises(DescriptionError, match="no body has the principal inertias"):
        _stool().mass("w", at="b", mass=1.0, inertia=[1.0, 0.1, 0.1]).check()


@pytest.mark.parametrize("axis", ["x", "y", "z"])
def test_static_reactions_under_one_g_equal_the_weight(crate_modes, axis):
    d = "xyz".index(axis)
    system = crate_modes.set.system
    reduced = crate_modes.reduced
    total = 0.0
    from holokine.describe.gauges import Gauge
    from holokine.gauges.build import build_gauges
    from holokine.respond.reduced import reduce_model

    gauges = build_gauges(system, {m: Gauge(reaction=m, axis=axis) for m in system.supports})
    static = reduce_model(crate_modes.set, gauges, reduced.damping).static
    singles = [r.channels[0] for r in gauges.readings]
    total = static[d, singles].sum() * 9.80665
    assert total == pytest.approx(crate_modes.set.totals.mass * 9.80665, rel=1e-10)


@pytest.mark.parametrize(
    ("slip", "words"),
    [
        ({"materials": {"m": {"E": "206 MPa"}}}, r'"m" has E = 0\.206 GPa.*162 m/s.*was an E of 206 GPa meant\?'),
        ({"materials": {"m": {"E": "206e6 GPa"}}}, r"was an E of 206 GPa meant\?"),
        ({"masses": {"box": {"mass": "35 t"}}}, r'"box" has 3\.5e\+04 kg, .* times all the rest.*its unit right'),
        ({"materials": {"m": {"density": "0.00785 kg/m^3"}}}, r"density of 0\.00785 kg/m³: is its unit right"),
    ],
)
def test_slips_of_units_are_noticed(slip: dict, words: str):
    sound = straight_beam(1.0, {"rectangle": {"width": 0.03, "height": 0.05}}, STEEL, start="all")
    sound.mass("box", at="b", mass="200 kg")
    assert not [f for f in sound.check().findings if f.level == "warning"]
    found = [f.text for f in sound.changed(slip).check().findings if f.level == "warning"]
    assert any(re.search(words, text) for text in found), found


def test_rubber_foam_and_diamond_are_no_slips():
    for E, density in (("2 MPa", 1100), ("20 MPa", 60), ("1100 GPa", 3500), ("16 GPa", 11340), ("30 GPa", 2400)):
        a = straight_beam(0.2, {"rod": {"diameter": 0.05}}, {"E": E, "nu": 0.3, "density": density}, start="all")
        assert not [f.text for f in a.check().findings if "waves" in f.text]


@pytest.mark.parametrize("kind", ["rigid", "averaging"])
def test_legs_that_end_on_nothing_are_warned_of_and_do_not_count(kind: str):
    """A foot 12 mm beside the beam carries nothing: said with the nearest node, and the answer is that without it."""

    def stand(feet: list[str]) -> hk.Assembly:
        a = straight_beam(1.0, FLAT, STEEL, start="all", divisions=10)
        for x, y in ((7, 0.0), (8, 0.0), (9, 0.012)):
            a.point(f"foot {x}", [0.1 * x, y, 0])
        a.part("rib", beam={"through": ["foot 7", "side"], "section": "s"}, material="m")
        a.point("side", [0.7, 0.3, 0]).point("hub", [0.8, 0, 0.2])
        return a.mass("box", at="hub", mass=3.0, inertia=[0.02, 0.02, 0.02]).link("legs", **{kind: "hub"}, to=feet)

    sound = ["foot 7", "foot 8", "side"]
    slipped = stand([*sound, "foot 9"])
    said = [f for f in slipped.check().findings if f.text.startswith('link "legs"')]
    assert [f.level for f in said] == ["warning"]
    assert re.search(r'1 of its 4 targets.*"foot 9" at \[900, 12, 0\] mm.*\[900, 0, 0\] mm, 12 mm away', said[0].text)
    np.testing.assert_allclose(slipped.modes(6).frequencies_hz, stand(sound).modes(6).frequencies_hz, rtol=1e-10)
    assert not [f for f in stand(sound).check().findings if "targets" in f.text]
    with pytest.raises(DescriptionError, match="none of its targets belongs to a part, spring, mass or link; the near"):
        stand(["foot 9"]).check()
    sprung = stand([*sound, "foot 9"]).spring("prop", between=["ground", "foot 9"], stiffness=1e4, axis="z")
    if kind == "averaging":  # a mean of motions that are not there would hold the box to the frame
        with pytest.raises(ConstraintError, match=r"1 of its 4 targets move only along some axes.*\[900, 12, 0\] mm"):
            sprung.check()
    else:
        assert sprung.check().report.ok


def test_a_support_beside_its_node_and_a_joint_across_the_assembly():
    a = straight_beam(1.0, FLAT, STEEL, start="all", end=["z"], divisions=10)
    a.point("stray", [1.0, 0.0, -0.003]).support("pads", at=["b", "stray"], hold=["y"])
    a.point("lid a", [0, 0, 0.3]).point("lid b", [1, 0, 0.3])
    a.part("lid", beam={"through": ["lid a", "lid b"], "section": "s", "divisions": 10}, material="m")
    a.joint("bolt", between=["a", "lid a"], kind="rigid").joint("screw", between=["b", "lid b"], kind="hinge")
    found = [f.text for f in a.check().findings if f.level == "warning"]
    assert any(t.startswith('support "pads": 1 of its 2 nodes') and "3 mm away" in t for t in found), found
    assert any('joint "bolt": its sides are 300 mm apart' in t for t in found), found


def test_the_work_of_reading_names_grows_with_the_model_only(monkeypatch):
    """Four times the bays, four times the looks into the description, from a description to a checked system."""
    from holokine.describe import schema, walk

    def looks(bays: int) -> int:
        a = hk.Assembly("mast").material("m", **STEEL).section("s", **FLAT).point("p0", [0, 0, 0])
        for i in range(1, bays + 1):
            a.point(f"p{i}", [0.5 * i, 0, 0]).mass(f"box {i}", at=f"p{i}", mass=1.0)
            a.part(f"bay {i}", beam={"through": [f"p{i - 1}", f"p{i}"], "section": "s"}, material="m")
            a.point(f"name {i}", [0.5 * i, 0, 0])
        a.support("foot", at="p0", hold="all")
        count = 0

        def counted(model, path=()):
            nonlocal count
            count += 1
            return plain(model, path)

        plain = walk.walk
        for module in (schema, walk):
            monkeypatch.setattr(module, "walk", counted)
        assert a.check().report.ok
        monkeypatch.undo()
        return count

    few, many = looks(10), looks(40)
    assert 0 < many < 4.5 * few


def test_mechanisms_at_nodes_of_solids_name_cause_and_cure():
    """Bushings and beams on single nodes of a solid turn freely there: said once, with what holds them."""

    def block(**more):
        a = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.02, "height": 0.03})
        a.part("block", box={"corner": [0, 0, 0], "sides": [[0.3, 0, 0], [0, 0.2, 0], [0, 0, 0.1]],
                             "divisions": [2, 2, 1]}, material="m")  # fmt: skip
        return a

    on_pads = block()
    for k, (x, y) in enumerate(((0, 0), (0.3, 0), (0, 0.2), (0.3, 0.2))):
        on_pads.point(f"c{k}", [x, y, 0]).point(f"f{k}", [x, y, -0.05])
        on_pads.bushing(f"pad {k}", between=[f"c{k}", f"f{k}"], stiffness={"x": 1e5, "y": 1e5, "z": 3e5})
        on_pads.support(f"g{k}", at=f"f{k}", hold="all")
    with pytest.raises(MechanismError) as told:
        on_pads.modes(count=3)
    assert str(told.value).count("nodes of solids hold no rotation") == 1
    assert '"pad 0" turns freely on the node of "block" at [0, 0, 0] mm, and others on 3 more' in str(told.value)
    mast = block()
    mast.support("base", at={"part": "block", "plane": {"at": [0, 0, 0], "normal": "z"}}, hold=["x", "y", "z"])
    mast.point("a", [0.15, 0.1, 0.1]).point("b", [0.15, 0.1, 0.6])
    mast.part("mast", beam={"through": ["a", "b"], "section": "s", "up": "x"}, material="m")
    text = " ".join(f.text for f in mast.check().findings)
    assert "no rotation" not in text  # its end carries the rotation of the solid about it
    assert 'carry their rotation into the solids that they end in: "mast" (1 node)' in text
    # what is linked is held by that
    mast.link("shoe", averaging="a", to={"part": "block", "plane": {"at": [0, 0, 0.1], "normal": "z"}})
    assert "no rotation" not in " ".join(f.text for f in mast.check().findings)
