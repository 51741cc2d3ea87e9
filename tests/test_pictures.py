"""Pictures and animations: written whole, of the right size, with and without the rendering extra."""

from __future__ import annotations

import matplotlib.image
import numpy as np
import pytest

import holokine as hk
from conftest import STEEL
from holokine.show import scene
from holokine.show.figures import save
from test_cli import inside


@pytest.fixture(scope="module")
def bracket_modes():
    a = hk.Assembly("bracket").material("m", E=205e9, nu=0.29, density=7840)
    a.section("s", tube={"width": 0.04, "height": 0.04, "wall": 0.003})
    base = {"corner": [0, 0, 0], "sides": [[0.4, 0, 0], [0, 0.3, 0]], "divisions": [8, 6], "thickness": 0.004}
    a.part("p", plate=base, material="m")
    a.part(
        "b", box={"corner": [0.1, 0.1, 0.02], "sides": np.diag([0.1, 0.1, 0.05]).tolist(), "divisions": 2}, material="m"
    )
    a.point("q", [0, 0, 0]).point("r", [0, 0.3, 0])
    a.part("bar", beam={"through": ["q", "r"], "section": "s", "divisions": 6}, material="m")
    a.joint("bolt", between=[{"part": "p", "nearest": [0.15, 0.15, 0], "count": 6, "link": "averaging"},
                             {"part": "b", "plane": {"at": [0, 0, 0.02], "normal": "z"}}])  # fmt: skip
    a.point("w", [0.35, 0.15, 0.1]).mass("w", at="w", mass=1.0).link("arm", averaging="w", to={
        "part": "p", "box": [[0.29, 0, -1], [0.4, 0.3, 1]]})  # fmt: skip
    a.support("s", at=["q", "r"], hold="all").gauge("w", acceleration="w").gauge("bolt", force="bolt")
    return a.modes(count=4)


def looks_drawn(path) -> bool:
    picture = matplotlib.image.imread(path)
    assert picture.shape[:2] == (800, 1280)
    return float((picture[:, :, :3].min(axis=2) < 0.9).mean()) > 0.01


@pytest.mark.parametrize("rendered", [True, False])
def test_pictures_of_assembly_and_mode(bracket_modes, tmp_path, monkeypatch, rendered):
    if rendered and not scene.view_available():
        pytest.skip("the view extra, or a library to render with, is not here")
    if not rendered:
        monkeypatch.setattr(scene, "view_available", lambda: False)
    assert looks_drawn(bracket_modes.assembly.check().picture(tmp_path / "assembly.png"))
    assert looks_drawn(bracket_modes.picture(tmp_path / "mode.png", mode=1))
    with pytest.raises(hk.HolokineError, match="there is no mode 9: modes 1 to 4"):
        bracket_modes.picture(tmp_path / "none.png", mode=9)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["assembly.png", "mode.png"]


@pytest.mark.parametrize("rendered", [True, False])
def test_a_tall_one_is_drawn_whole(tmp_path, monkeypatch, rendered):
    """Foot and head of a mast, moved and at rest, stay inside the picture and clear of the words above."""
    if rendered and not scene.view_available():
        pytest.skip("the view extra, or a library to render with, is not here")
    if not rendered:
        monkeypatch.setattr(scene, "view_available", lambda: False)
    a = hk.Assembly().material("m", **STEEL).section("s", tube={"width": 1, "height": 1, "wall": 0.01})
    a.point("foot", [0, 0, 0]).point("head", [0, 0, 60]).mass("lamp", at="head", mass=50.0)
    a.part("mast", beam={"through": ["foot", "head"], "section": "s", "divisions": 24, "up": "x"}, material="m")
    modes = a.support("base", at="foot", hold="all").modes(count=2)
    pictures = [modes.picture(tmp_path / "mode.png", mode=1), a.check().picture(tmp_path / "whole.png")]
    for path in pictures:
        picture = matplotlib.image.imread(path)[:, :, :3]
        drawn = (
            picture.max(axis=2) - picture.min(axis=2) > 0.15
        )  # the scale of a mode lies at the right, words are grey
        rows = np.flatnonzero(drawn[:, 320:960].any(axis=1))
        assert len(rows) > 400, path  # it takes most of the height
        assert rows[0] > 45, path
        assert rows[-1] < 790, path


def test_animations_have_their_frames(bracket_modes, tmp_path):
    imageio = pytest.importorskip("imageio.v2")
    gif = bracket_modes.save(tmp_path / "mode.gif", mode=2, frames=8, true_scale="20 mm")
    frames = imageio.mimread(gif)
    assert len(frames) == 8
    assert frames[0].shape[:2] == (800, 1280)
    assert np.abs(frames[2].astype(float) - frames[6]).mean() > 0.05  # it moves
    film = bracket_modes.save(tmp_path / "mode.mp4", mode=1, frames=4, rate=8, pixels=(642, 402))
    assert film.stat().st_size > 3000
    with imageio.get_reader(film) as reader:
        facts = reader.get_meta_data()
        assert facts["size"] == (642, 402)
        assert facts["fps"] == pytest.approx(8)
        assert reader.count_frames() == 16  # the period four times, each picture rendered once
    with pytest.raises(hk.HolokineError, match="a film of 641 x 400 pixels cannot be made"):
        bracket_modes.save(tmp_path / "odd.gif", mode=1, pixels=(641, 400))
    with pytest.raises(hk.HolokineError, match=r"is saved as .*\.mp4"):
        bracket_modes.save(tmp_path / "mode.avi", mode=1)
    assert not list(tmp_path.glob(".part_*"))


def test_figures_carry_units_and_labels(crate_modes, tmp_path):
    ax = crate_modes.plot("effective_mass").axes[0]
    assert "Hz" in ax.get_xlabel()
    assert "% of the free mass" in ax.get_ylabel()
    shape = crate_modes.plot(1).axes[0]
    assert "Mode 1" in shape.get_title()
    assert "Hz" in shape.get_title()
    figure = crate_modes.respond("kerb strike").plot("fan")
    labels = [a.get_ylabel() for a in figure.axes]
    assert labels == ["base (g)", "acceleration (g)"]
    assert any(" g at " in t.get_text() for t in figure.axes[1].texts)
    spectrum = crate_modes.respond("works shock").plot()
    assert spectrum.axes[0].get_ylabel() == "pseudo-acceleration (g)"
    save(figure, tmp_path / "f.png")
    assert looks_drawn(tmp_path / "f.png")
    with pytest.raises(hk.HolokineError, match="there is no mode 0: modes 1 to"):
        crate_modes.plot(0)


BUMP = {"pulse": {"z": {"half sine": {"peak": "5 g", "duration": "6 ms"}}}, "ring down": 0.05}


@pytest.mark.parametrize("rendered", [True, False])
def test_deformed_shapes_and_films_of_answers(bracket_modes, tmp_path, monkeypatch, rendered):
    imageio = pytest.importorskip("imageio.v2")
    if rendered and not scene.view_available():
        pytest.skip("the view extra, or a library to render with, is not here")
    if not rendered:
        monkeypatch.setattr(scene, "view_available", lambda: False)
    answer = bracket_modes.respond(BUMP)
    early, late = answer.deformed("1 ms"), answer.deformed("12 ms")
    assert looks_drawn(late.picture(tmp_path / "d.png"))
    assert looks_drawn(late.picture(tmp_path / "s.png", colour="stress"))
    assert looks_drawn(answer.picture(tmp_path / "e.png", colour="displacement"))
    pictures = [matplotlib.image.imread(tmp_path / f"{n}.png")[:, :, :3] for n in "dse"]
    assert np.abs(pictures[0] - pictures[1]).mean() > 1e-3
    assert np.abs(pictures[0] - pictures[2]).mean() > 1e-3
    assert np.abs(early.displacement - late.displacement).max() > 0
    small = answer.save(tmp_path / "small.gif", gauge="w z", window=(0, 0.02), seconds=0.4, rate=5, pixels=(480, 360))
    assert [f.shape[:2] for f in imageio.mimread(small)] == [(360, 480)] * 2
    film = answer.save(tmp_path / "a.gif", gauge="w z", window=(0, 0.02), seconds=0.4, rate=10)
    frames = [f[:, :, :3].astype(float) for f in imageio.mimread(film)]
    assert len(frames) == 4
    assert frames[0].shape[:2] == (800, 1280)
    assert np.abs(frames[0][:540] - frames[2][:540]).mean() > 0.02  # the assembly moves
    assert np.abs(frames[0][560:] - frames[2][560:]).max() > 50  # and so does the marker
    with pytest.raises(hk.HolokineError, match="displacement or stress"):
        late.picture(tmp_path / "no.png", colour="heat")
    with pytest.raises(hk.HolokineError, match="2 to 2000"):
        answer.save(tmp_path / "no.gif", seconds=0.1, rate=1)


def test_figures_of_what_acts_and_of_groups(crate, tmp_path):
    a = crate.changed({"events": {"both": {
        "pulse": {"x": {"step": {"peak": "3 mm", "rise": "20 ms"}},
                  "z": {"half sine": {"peak": "1 g", "duration": "5 ms"}}},
        "loads": {"fan torque": {"ramp": {"rise": "30 ms"}}}, "ring down": 0.05}}})  # fmt: skip
    answer = a.modes(count=12).respond("both")
    above = answer.plot("fan")
    labels = {ax.get_ylabel() for ax in above.axes}
    assert {"base (g)", "factor of loads", "acceleration (g)"} <= labels
    acts = answer.plot("excitation")
    assert [ax.get_ylabel() for ax in acts.axes] == [
        "acceleration (g)", "velocity (m/s)", "displacement (mm)", "factor of the load"
    ]  # fmt: skip
    ends = [t.get_text() for t in acts.axes[2].get_legend().get_texts()]
    assert ends[0] == "x: 3.000 at the end (dot)"
    with pytest.raises(hk.HolokineError, match="has no figure"):
        a.respond("winter standstill").plot()
    table = {"frequency": [1, 500], "acceleration": ["1 g", "2 g"]}
    groups = {
        f"g{i}": {"supports": f"mount {i}", "spectrum": dict.fromkeys(hold, table)}
        for i, hold in ((1, "xyz"), (2, "yz"), (3, "xz"), (4, "z"))
    }
    many = a.modes(count=12).respond({"support spectra": groups})  # eight columns, more than there are colours
    for figure in (many.plot(), many.plot("four_way")):
        save(figure, tmp_path / "m.png")
        assert looks_drawn(tmp_path / "m.png")
        assert len([t for t in figure.axes[0].get_legend().get_texts() if "spectrum along" in t.get_text()]) == 8
    names = [c for c in many.table("peaks").columns if c.startswith("from_")]
    assert names == [f"from_g{i}_{d}" for i, hold in ((1, "xyz"), (2, "yz"), (3, "xz"), (4, "z")) for d in hold]


def test_figures_say_what_they_leave_out(tmp_path):
    """Forty gauges, forty springs: titles and legends count what is not drawn, and what is drawn matters most."""
    a = hk.Assembly("comb")
    for k in range(40):
        a.point(f"p{k}", [0.1 * k, 0, 0]).mass(f"m{k}", at=f"p{k}", mass=1.0 + 0.01 * k)
        a.support(f"guide {k}", at=f"p{k}", hold=["y", "z", "rx", "ry", "rz"])
        a.spring(f"s{k}", between=[f"p{k}", "ground"], stiffness=1e4 * (1 + 0.2 * k), axis="x")
        a.gauge(f"g{k}", displacement=f"p{k}", axis="x")
    a.limit("g33", 1e-6).limit("g7", 1e-3)
    modes = a.modes(count=40)
    energy = modes.plot("energy")
    labels = [t.get_text() for t in energy.legends[0].get_texts()]
    assert labels[-1] == "the other 71"  # of 40 masses and 40 springs nine are drawn
    assert "first 24 of 40 modes" in energy.axes[0].get_title()
    a.group("half", [f"s{k}" for k in range(20)])
    by_group = a.modes(count=40).plot("energy")
    assert "by group" in by_group.axes[0].get_title()
    assert [t.get_text() for t in by_group.legends[0].get_texts()] == ["(in no group)", "half"]
    spectrum = {"spectrum": {"x": {"frequency": [0.1, 1000], "acceleration": [9.81, 9.81]}}, "combine": "srss"}
    modes = a.modes(count=40)
    shares = modes.respond(spectrum).plot("shares")
    (ax,) = shares.axes
    drawn = [t.get_text() for t in ax.get_yticklabels()]
    assert "(30 of 40)" in ax.get_title()
    assert drawn[:2] == ["g33 x", "g7 x"]  # most of their limits used
    assert [t.get_text() for t in ax.get_legend().get_texts()][-1] == "the other 33"
    pulse = {"pulse": {"x": {"half sine": {"peak": 9.81, "duration": 0.01}}}, "ring down": 0.1}
    histories = modes.respond(pulse).plot()
    assert histories.axes[0].get_title().endswith("(4 of 40)")
    assert histories.axes[1].get_title(loc="left").startswith("g33 x")


def test_unknown_names_list_the_likeliest_of_many():
    a = hk.Assembly()
    for k in range(300):
        a.point(f"corner {k}", [0.1 * k, 0, 0])
    a.mass("m", at="cornr 217", mass=1)
    with pytest.raises(hk.HolokineError, match=r"The 20 of \d+ points that are most like it: .*corner 217") as told:
        a.check()
    assert str(told.value).count("corner ") < 25


def grounded_frame() -> hk.Assembly:
    a = hk.Assembly("sill on pads").material("m", **STEEL)
    a.section("i", I={"width": 0.06, "height": 0.12, "web": 0.005, "flange": 0.008})
    a.section("p", pipe={"diameter": 0.05, "wall": 0.004})
    a.point("a", [0, 0, 0]).point("b", [1.2, 0, 0]).point("c", [1.2, 0.8, 0])
    a.part("sill", beam={"through": ["a", "b"], "section": "i", "up": "z", "eccentricity": [0, 0.02]}, material="m")
    a.part("side", beam={"through": ["b", "c"], "section": "p", "up": "z"}, material="m").group("rear", ["side"])
    for p in "abc":
        a.bushing(f"pad {p}", between=[p, "ground"], stiffness={"x": 1e5, "y": 1e5, "z": 3e5})
    return a.spring("stay", between=["c", "ground"], stiffness=5e5, axis="x")


def test_springs_to_ground_sections_views_and_members_alone(tmp_path):
    from holokine.show.geometry import Look, bodies_of, drawing_of

    a = grounded_frame()
    system = a.system
    whole = drawing_of(system)
    assert len(whole.grounded) == 4
    stay = next(g for g in whole.grounded if abs(g[1, 0] - g[0, 0]) > 1e-9)
    np.testing.assert_allclose(stay[0], [1.2, 0.8, 0])  # along its axis, the others down
    assert sum(g[1, 2] < g[0, 2] for g in whole.grounded) == 3
    assert "sill and ground" in a.check().table("connections")["holds"].to_list()
    rear = drawing_of(system, Look.of(system, only="rear"))
    assert (list(rear.lines), len(rear.grounded)) == (["side"], 3)
    assert rear.used.sum() < whole.used.sum()
    # the drawn section has the section's own extent, about the eccentric axis
    faces = {part: f for part, f, _, _ in bodies_of(system, ["sill", "side"])}
    sill = faces["sill"].reshape(-1, 3)
    np.testing.assert_allclose(np.ptp(sill, axis=0), [1.2, 0.06, 0.12], atol=1e-12)
    np.testing.assert_allclose((sill.max(axis=0) + sill.min(axis=0)) / 2, [0.6, 0, 0.02], atol=1e-12)
    assert np.ptp(faces["side"].reshape(-1, 3)[:, 2]) == pytest.approx(0.05, rel=0.01)
    pictures = {}
    for name, keys in {"plain": {}, "top": {"view": "top"}, "along": {"view": (1, 0, 0.2)},
                       "sections": {"sections": True}, "rear": {"only": ["side"]}}.items():  # fmt: skip
        pictures[name] = a.check().picture(tmp_path / f"{name}.png", **keys).read_bytes()
    assert len(set(pictures.values())) == len(pictures)  # each option acts
    modes = a.modes(count=7)
    assert modes.picture(tmp_path / "m.png", mode=1, view="front", only="sill").stat().st_size > 5000
    for keys, words in (({"view": "frnt"}, 'Did you mean "front"'), ({"view": (0, 0, 0)}, "not all zero"),
                        ({"only": "sil"}, 'Did you mean "sill"')):  # fmt: skip
        with pytest.raises(hk.HolokineError, match=words):
            a.check().picture(tmp_path / "bad.png", **keys)
    assert not (tmp_path / "bad.png").exists()
    path = a.save(tmp_path / "a.yaml")
    out, drawn = tmp_path / "out", ["view=1,-1,2", "only=rear", "sections=yes"]
    asked = [word for key in drawn for word in ("--draw", key)]
    assert inside("check", str(path), *asked, "--out", str(out)).returncode == 0
    assert (out / "assembly.png").stat().st_size > 5000
