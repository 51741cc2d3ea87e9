"""Assembly files and calls: units, names, bad input. Every message names the place and the remedy."""

from __future__ import annotations

import itertools
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import holokine as hk
from conftest import STEEL
from holokine import units
from holokine.errors import DescriptionError, UnitError, UnknownNameError
from holokine.units import UnitSystem, quantity

GOOD = """\
holokine: 1
title: bracket
units: {length: mm, force: N}
materials:
  steel: {E: 205 GPa, nu: 0.29, density: 7840 kg/m^3}
sections:
  flat: {rectangle: {width: 40, height: 10}}
points:
  root: [0, 0, 0]
  tip: [500, 0, 0]
parts:
  arm: {beam: {through: [root, tip], section: flat, divisions: 4}, material: steel}
masses:
  lump: {at: tip, mass: 2 kg}
supports:
  wall: {at: root, hold: all}
groups:
  all of it: [arm, lump]
gauges:
  tip: {acceleration: tip, axis: z}
  wall: {reaction: wall}
damping: 2 %
events:
  bump: {pulse: {z: {half sine: {peak: 3 g, duration: 11 ms}}}}
"""


@pytest.fixture
def write(tmp_path):
    def make(*changes: tuple[str, str]):
        text = GOOD
        for old, new in changes:
            assert old in text
            text = text.replace(old, new)
        file = tmp_path / "bracket.yaml"
        file.write_text(text)
        return file

    return make


def test_file_and_calls_say_the_same(write):
    from_file = hk.Assembly.read(write())
    a = hk.Assembly("bracket", units={"length": "mm", "force": "N"})
    a.material("steel", E="205 GPa", nu=0.29, density="7840 kg/m^3").section(
        "flat", rectangle={"width": 40, "height": 10}
    )
    a.point("root", [0, 0, 0]).point("tip", [500, 0, 0])
    a.part("arm", beam={"through": ["root", "tip"], "section": "flat", "divisions": 4}, material="steel")
    a.mass("lump", at="tip", mass="2 kg").support("wall", at="root", hold="all").group("all of it", ["arm", "lump"])
    a.gauge("tip", acceleration="tip", axis="z").gauge("wall", reaction="wall").damping("2 %")
    a.event("bump", pulse={"z": {"half_sine": {"peak": "3 g", "duration": "11 ms"}}})
    assert a.description == from_file.description
    np.testing.assert_array_equal(a.modes(count=3).frequencies_hz, from_file.modes(count=3).frequencies_hz)
    # a bare mass in mm, N, s would be in tonnes
    assert from_file.description.masses["lump"].mass == 2.0
    assert from_file.description.points["tip"].at == (0.5, 0.0, 0.0)


BAD = [
    ("section: flat", "section: flt", UnknownNameError, r'line 12: parts, arm, beam, section: there is no section "fl'),
    ("material: steel", "material: steal", UnknownNameError, r'no material "steal". Did you mean "steel"'),
    ("[arm, lump]", "[arm, lamp]", UnknownNameError, r'line 18.*nothing named "lamp". Did you mean "lump"'),
    ("[arm, lump]", "[]", DescriptionError, r"line 18.*group is empty"),
    ("reaction: wall", "reaction: wal", UnknownNameError, r'no support "wal". Did you mean "wall"'),
    ("mass: 2 kg", "mass: 2 m", UnitError, r'line 14: masses, lump, mass: expected a mass such as kg, got "m"'),
    ("mass: 2 kg", "mass: 2 kgg", UnitError, r'unknown unit "kgg"'),
    ("mass: 2 kg", "mass: .nan", UnitError, r"line 14.*finite number"),
    ("mass: 2 kg", "mass: .inf", UnitError, r"line 14.*finite number"),
    ("mass: 2 kg", "mass: -2 kg", DescriptionError, r"must be at least 0, got -2 kg"),
    ("mass: 2 kg", "", DescriptionError, r'the key "mass" is missing'),
    ("205 GPa", "-205 GPa", DescriptionError, r"line 5: materials, steel, E: must be greater than 0"),
    ("nu: 0.29", "nu: 0.5", DescriptionError, r"Poisson ratio.*between -1 and 0.5, got 0.5"),
    ("7840 kg/m^3", "-1", DescriptionError, r"density: must be at least 0"),
    ("duration: 11 ms", "duration: -11 ms", DescriptionError, r"line 24.*duration: must be greater than 0, got -11 ms"),
    ("height: 10", "height: 0", DescriptionError, r"height: must be greater than 0"),
    ("height: 10", "hight: 10", UnknownNameError, r'unknown key "hight". Did you mean "height"'),
    ("rectangle: {width: 40, height: 10}", "tube: {width: 40, height: 10, wall: 6}", DescriptionError, r"wall is half"),
    ("hold: all", "hold: [x, w]", DescriptionError, r"line 16: supports, wall, hold, item 2: expected 'x'"),
    ("damping: 2 %", "damping: 2", DescriptionError, r"damping ratio of 2 is critical or more.*percentage"),
    ("3 g", "3 kg", UnitError, r'expected an acceleration such as m/s\^2, got "kg"'),
    ("force: N", "force: N, mass: kg", UnitError, r"line 3: units: the unit system is not consistent.*declare mass: t"),
    ("holokine: 1", "holokine: 2", DescriptionError, r"line 1: holokine: this version reads format 1 only"),
    ("holokine: 1\n", "", DescriptionError, r"not an assembly file"),
    ("materials:", "materials: [", DescriptionError, r"line \d+: not valid YAML"),
    ("  tip: [500, 0, 0]", "  tip: [500, 0, 0]\n  tip: [1, 0, 0]", DescriptionError, r"line 11.*duplicate key"),
    ("points:", "pionts:", UnknownNameError, r'unknown key "pionts". Did you mean "points"'),
    ("root: [0, 0, 0]", "root: [0, 0]", DescriptionError, r"three lengths \[x, y, z\]"),
    ("{reaction: wall}", "{reaction: wall, force: x}", DescriptionError, r"exactly one of"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "kind", "match"), BAD, ids=[b[1][:24] for b in BAD])
def test_bad_input_names_place_and_remedy(write, old, new, kind, match):
    with pytest.raises(kind, match=match):
        hk.Assembly.read(write((old, new)))


def test_several_problems_are_told_at_once(write):
    with pytest.raises(DescriptionError, match=r"2 problems") as caught:
        hk.Assembly.read(write(("nu: 0.29", "nu: 0.6"), ("height: 10", "height: -1")))
    assert "line 5" in str(caught.value)
    assert "line 7" in str(caught.value)


def test_calls_fail_where_they_are_made():
    a = hk.Assembly()
    with pytest.raises(DescriptionError, match=r'materials, m: the key "density" is missing'):
        a.material("m", E="200 GPa", nu=0.3)
    with pytest.raises(DescriptionError, match=r"materials, m: .*nu .Poisson ratio"):
        a.material("m", E="200 GPa", nu=0.7, density=7800)
    with pytest.raises(UnitError, match="not consistent"):
        hk.Assembly(units={"length": "mm", "mass": "kg", "force": "N"})
    a.material("m", **STEEL)
    with pytest.raises(DescriptionError, match='there is already "m"'):
        a.material("m", **STEEL)
    a.part("later", beam={"through": ["p", "q"], "section": "s"}, material="m")  # names may come later
    with pytest.raises(UnknownNameError, match='no point "p"'):
        a.check()


def test_units_known_by_heart_are_those_of_the_registry():
    """Written down so that the registry need not be loaded: each entry is what the registry says, to the last bit."""
    assert len(units._FAMILIAR) > 90
    for text, known in units._FAMILIAR.items():
        assert units._looked_up(text) == known, text
    assert units._parse_unit("m^-2") == (1.0, (-2, 0, 0), 0)  # others are looked up


def test_products_of_familiar_units_are_those_of_the_registry():
    """Every way of writing two or three of them: equal to rounding, and nothing taken that the registry refuses."""
    ways = (
        "{} {}/{}",
        "{}^2/{}",
        "{}²*{}^3",
        "{}/{} {}",
        "{}/{}/{}",
        "{} / {}^2 * {}",
        "{}2/{}",
        "/{}",
        "{}**2",
        "{}^2.5",
    )
    names = ("g", "mm", "t", "N", "Hz", "rad", "g0", "standard_gravity", "°")
    composed = 0
    for way, *three in itertools.product(ways, names, names, names):
        found = units._composed(text := way.format(*three))
        if found is not None:
            known = units._looked_up(text)
            assert found[0] == pytest.approx(known[0], rel=1e-15), text
            assert found[1:] == known[1:], text
            composed += 1
    assert composed > 4000
    assert [units._composed(t) for t in ("g02/s", "mm^-1", "", " ", "N*", "furlong/s", "1/s^2")] == [None] * 7


def test_unit_readings():
    assert quantity("3 g", "acceleration") == pytest.approx(3 * 9.80665, rel=1e-15)
    assert quantity("3 g", "mass") == pytest.approx(0.003)
    assert quantity("600 rpm", "frequency") == pytest.approx(10.0)
    assert quantity("6.283185307179586 rad/s", "frequency") == pytest.approx(1.0)
    assert quantity("2 %", "number") == 0.02
    assert quantity("1 t/mm³", "density") == pytest.approx(1e12)
    assert quantity("3 kN/mm", "stiffness") == 3e6
    assert quantity("30 deg", "angle") == pytest.approx(np.pi / 6)
    with pytest.raises(UnitError, match=r'expected a length.*got "g", which is of the dimension kg.*gram'):
        quantity("3 g", "length")
    for bad in ("3 m)", "__import__('os')", True, None, "nan", [1]):
        with pytest.raises(UnitError):
            quantity(bad, "length")
    system = UnitSystem.declare(length="mm", force="N")
    assert quantity(7.84e-9, "density", system) == pytest.approx(7840.0)
    assert UnitSystem.declare(length="mm", mass="t", force="N").factor("stress") == pytest.approx(1e6)


@settings(max_examples=10, deadline=None)
@given(
    length=st.sampled_from(["m", "mm", "in"]),
    mass=st.sampled_from(["kg", "t", "lb"]),
    time=st.sampled_from(["s", "ms"]),
)
def test_changing_the_unit_system_changes_no_answer(length, mass, time):
    units = {"length": length, "mass": mass, "time": time}
    s = UnitSystem.declare(**units)
    a = hk.Assembly("u", units=units)
    a.material("m", E=200e9 / s.factor("stress"), nu=0.3, density=7800 / s.factor("density"))
    a.section("s", rod={"diameter": 0.03 / s.length}).point("a", [0, 0, 0]).point("b", [1.2 / s.length, 0, 0])
    a.part("p", beam={"through": ["a", "b"], "section": "s"}, material="m")
    a.mass("w", at="b", mass=2.0 / s.mass, inertia=[0.1 / s.factor("inertia")] * 3)
    a.bushing("k", between=["b", "ground"], stiffness=[3e4 / s.factor("stiffness")] * 3
              + [20 / s.factor("rotational stiffness")] * 3)  # fmt: skip
    a.support("root", at="a", hold="all").gauge("tip", displacement="b", axis="z")
    modes = a.modes(count=5)  # whole pairs: a round bar has two planes
    np.testing.assert_allclose(modes.frequencies_hz[0], modes.frequencies_hz[1], rtol=1e-9)
    event = {"pulse": {"z": {"half sine": {"peak": "1 g", "duration": "10 ms"}}}}
    answer = np.append(modes.frequencies_hz, modes.respond(event).result.peaks[0])
    _FIRST.append(answer)
    np.testing.assert_allclose(answer, _FIRST[0], rtol=1e-9)


_FIRST: list[np.ndarray] = []  # the answer in the first system drawn; all others must equal it


def test_an_answer_from_a_run_file_loads_what_it_uses(crate_modes, tmp_path):
    """No meshing, element, matrix or solver, no registry of units and no figure: most of a short command's time."""
    run = crate_modes.save(tmp_path / "crate.run")
    code = """
import sys
from holokine.cli.main import run
run(sys.argv[1:])
print(*sorted(m for m in sys.modules if m.split(".")[0] in ("holokine", "pint", "matplotlib", "pyvista", "yaml")))
"""
    commands = {
        "holokine.respond.transient": ["respond", run, "kerb strike"],
        "holokine.respond.combine": ["respond", run, "works shock"],
        "holokine.respond.random": ["respond", run, "rough track"], "holokine.api.mode_tables": ["modes", run],
        "holokine.modes.energy": ["modes", run, "--table", "energy"],
    }  # fmt: skip
    unused = {"pint", "matplotlib", "pyvista", "yaml", *(f"holokine.{m}" for m in (
        "mesh.build", "mesh.triangulate", "elements.shell", "elements.beam", "system.build", "solvers.factor",
        "solvers.eigen", "state.equilibrium", "modes.check", "modes.extract", "modes.words", "vary",
    ))}  # fmt: skip
    for own, command in commands.items():
        done = subprocess.run([sys.executable, "-c", code, *map(str, command)], capture_output=True, text=True)
        assert done.returncode == 0, done.stderr
        loaded = set(done.stdout.splitlines()[-1].split())
        assert own in loaded
        assert not loaded & unused, command


def test_each_module_imports_alone_and_the_package_stays_light():
    code = (
        "import sys, holokine; heavy = {'numpy', 'pandas', 'matplotlib', 'scipy', 'pint', 'rich', 'pydantic'};"
        "print(sorted(heavy & set(sys.modules)))"
    )
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert out.strip() == "[]"
    import pkgutil

    names = [m.name for m in pkgutil.walk_packages(hk.__path__, "holokine.")]
    assert len(names) > 40
    script = """
import importlib, os, sys
for heavy in ("numpy", "pandas", "pydantic", "pint", "scipy.sparse.linalg", "scipy.signal", "matplotlib.figure"):
    importlib.import_module(heavy)  # so that each child below loads our own modules only
for room in sys.argv[1:]:
    names = room.split()
    for name in names:
        child = os.fork()
        if child == 0:
            importlib.import_module(name)
            os._exit(0)
        assert os.waitpid(child, 0)[1] == 0, name
    for name in names:
        importlib.import_module(name)
"""
    # room by room: what stands above is loaded already, which the layering contract makes no loop possible in
    order = [
        "describe",
        "mesh",
        "elements",
        "system",
        "solvers",
        "state",
        "modes",
        "gauges",
        "excite",
        "respond",
        "store",
    ]
    rooms = [
        [n for n in names if n.split(".")[1] == room] for room in (*order, "vary", "show", "api", "verification", "cli")
    ]
    rest = [n for n in names if not any(n in room for room in rooms)]
    assert len(rest) < 14
    whole = [" ".join(room) for room in ([n for n in rest if n.count(".") == 1], *rooms)]
    subprocess.run([sys.executable, "-W", "error", "-c", script, *whole], check=True)


def test_public_names_are_pinned():
    own = [n for n in hk.__all__ if n not in hk.errors.__all__]
    assert own == [
        "Answer", "Assembly", "Check", "Comparison", "Modes", "Record", "Report", "State", "Study", "__version__",
        "demo_folder", "formula", "match", "open_run", "shock", "show_progress", "verify",
    ]  # fmt: skip
    assert set(hk.errors.__all__) <= set(hk.__all__)
    assert set(dir(hk)) >= set(hk.__all__)
    with pytest.raises(AttributeError):
        hk.nothing  # noqa: B018 - the access is what raises
