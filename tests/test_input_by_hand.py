# ruff: noqa: E501 - data in rows
"""What is written against what it means, by hand: quantities, signals, selections."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from scipy.integrate import quad

import holokine as hk
from conftest import STEEL
from holokine.describe.events.signals import PulseShape
from holokine.describe.targets import Selection
from holokine.errors import SelectionError, UnitError
from holokine.excite.pulse import build_pulse
from holokine.mesh.select import one_node, select_nodes
from holokine.units import DIMENSIONS, UnitSystem, quantity, unit_factor

INCH, POUND, GRAVITY = 0.0254, 0.45359237, 9.80665
POUND_FORCE = POUND * GRAVITY

QUANTITIES = [
    # lengths, areas, moments of areas
    ("12 mm", "length", 0.012), ("1.5 cm", "length", 0.015), ("3 in", "length", 3 * INCH), ("2 ft", "length", 24 * INCH),
    ("250 um", "length", 2.5e-4), ("0.2 km", "length", 200.0), ("-4 mm", "length", -0.004), ("5 dm", "length", 0.5), ("1e3 mm", "length", 1.0), (".5 m", "length", 0.5), ("5. m", "length", 5.0),
    ("12 mm^2", "area", 12e-6), ("12 mm²", "area", 12e-6), ("3 cm^2", "area", 3e-4), ("2 in^2", "area", 2 * INCH**2), ("4 mm*mm", "area", 4e-6), ("4 mm mm", "area", 4e-6),
    ("7 cm^4", "second moment of area", 7e-8), ("7 mm^4", "second moment of area", 7e-12), ("1 in^4", "second moment of area", INCH**4), ("2 m⁴", "second moment of area", 2.0),
    # masses and densities
    ("3 kg", "mass", 3.0), ("250 g", "mass", 0.25), ("2 t", "mass", 2000.0), ("4 lb", "mass", 4 * POUND), ("1 slug", "mass", POUND_FORCE / (12 * INCH)), ("8 oz", "mass", POUND / 2),
    ("7850 kg/m^3", "density", 7850.0), ("7.85 g/cm^3", "density", 7850.0), ("7.85e-9 t/mm^3", "density", 7850.0), ("0.284 lb/in^3", "density", 0.284 * POUND / INCH**3), ("7.85 kg/dm^3", "density", 7850.0),
    ("5 kg/m^2", "mass per area", 5.0), ("500 g/m²", "mass per area", 0.5), ("0.01 kg m^2", "inertia", 0.01), ("300 g mm^2", "inertia", 3e-7), ("2 kg cm^2", "inertia", 2e-4), ("1 lb in^2", "inertia", POUND * INCH**2),
    # time, frequency, angle
    ("8 ms", "time", 0.008), ("2 min", "time", 120.0), ("1 h", "time", 3600.0), ("250 us", "time", 2.5e-4), ("3 sec", "time", 3.0),
    ("50 Hz", "frequency", 50.0), ("2 kHz", "frequency", 2000.0), ("600 rpm", "frequency", 10.0), ("628.3185307179587 rad/s", "frequency", 100.0), ("10 rev/s", "frequency", 10.0), ("3600 deg/s", "frequency", 10.0), ("5 1/s", "frequency", 5.0),
    ("90 deg", "angle", math.pi / 2), ("90°", "angle", math.pi / 2), ("1.5 rad", "angle", 1.5), ("0.25 rev", "angle", math.pi / 2), ("3 mrad", "angle", 0.003),
    # forces, stiffness, damping, stress
    ("4 kN", "force", 4000.0), ("4 N", "force", 4.0), ("2 lbf", "force", 2 * POUND_FORCE), ("3 kgf", "force", 3 * GRAVITY), ("1 kip", "force", 1000 * POUND_FORCE), ("1 MN", "force", 1e6), ("2 kg m/s^2", "force", 2.0),
    ("3 N m", "moment", 3.0), ("3 N mm", "moment", 0.003), ("2 kN m", "moment", 2000.0), ("5 lbf in", "moment", 5 * POUND_FORCE * INCH), ("5 lbf*ft", "moment", 5 * POUND_FORCE * 12 * INCH), ("6 N·m", "moment", 6.0),
    ("60 N/mm", "stiffness", 6e4), ("60 kN/m", "stiffness", 6e4), ("1 MN/m", "stiffness", 1e6), ("2 N/um", "stiffness", 2e6), ("10 lbf/in", "stiffness", 10 * POUND_FORCE / INCH), ("4 t/s^2", "stiffness", 4000.0),
    ("50 N m/rad", "rotational stiffness", 50.0), ("50 N mm/rad", "rotational stiffness", 0.05), ("1 N m/deg", "rotational stiffness", 180 / math.pi), ("50 N m", "rotational stiffness", 50.0),
    ("40 N s/m", "damping constant", 40.0), ("0.04 N s/mm", "damping constant", 40.0), ("4 kN s/m", "damping constant", 4000.0), ("40 kg/s", "damping constant", 40.0),
    ("205 GPa", "stress", 2.05e11), ("205000 MPa", "stress", 2.05e11), ("205e3 N/mm^2", "stress", 2.05e11), ("30 ksi", "stress", 30e3 * POUND_FORCE / INCH**2), ("14.5 psi", "stress", 14.5 * POUND_FORCE / INCH**2), ("3 bar", "stress", 3e5), ("2 kPa", "stress", 2000.0), ("1 kN/m²", "stress", 1000.0),
    # motion and energy
    ("3 g", "acceleration", 3 * GRAVITY), ("3 gn", "acceleration", 3 * GRAVITY), ("9806.65 mm/s^2", "acceleration", GRAVITY), ("2 m/s²", "acceleration", 2.0), ("386.1 in/s^2", "acceleration", 386.1 * INCH), ("0.5 g0", "acceleration", GRAVITY / 2),
    ("21 mm/s", "velocity", 0.021), ("36 km/h", "velocity", 10.0), ("36 kmh", "velocity", 10.0), ("2 in/s", "velocity", 2 * INCH), ("3 J", "energy", 3.0), ("3 mJ", "energy", 0.003), ("2 N m", "energy", 2.0),
    ("0.01 g^2/Hz", "acceleration density", 0.01 * GRAVITY**2), ("2 m^2/s^3", "acceleration density", 2.0), ("2 (m/s^2)^2/Hz", "acceleration density", 2.0),
    ("2 %", "number", 0.02), ("0.02", "number", 0.02), ("5 percent", "number", 0.05), ("1e-2", "number", 0.01),
]  # fmt: skip
WRONG = [
    ("3 kg", "length", "expected a length such as m, got"), ("3 mm", "mass", "expected a mass"), ("3 g", "length", "gram"), ("3 N", "stress", "of the dimension N"),
    ("3 furlong", "length", 'unknown unit "furlong"'), ("3 Mpa", "stress", 'Did you mean "MPa"'), ("3 degC", "length", "unknown unit"), ("three mm", "length", "expected a length"), ("3 mm 4", "length", 'unknown unit "mm 4"'), ("3 2 mm", "length", "unknown unit"), ("3 N/1000", "force", "unknown unit"),
    ("mm", "length", "expected a length"), ("3 %", "length", "percentage"), ("3 m**2", "area", "unknown unit"), ("3 m^0.5", "length", ""), ("3 __import__", "length", "unknown unit"), ("3;4 mm", "length", "unknown unit"), ("", "mass", "expected a mass"),
    ("3 rad", "mass", "expected a mass"), ("1e400 m", "length", "finite"), ("nan m", "length", "expected a length"), ("3 m/s", "acceleration", "expected an acceleration"),
]  # fmt: skip


def test_quantities_mean_what_a_calculator_says():
    wrong = []
    for text, dimension, expected in QUANTITIES:
        found = quantity(text, dimension)
        if found != pytest.approx(expected, rel=1e-12):
            wrong.append(f"{text}: {found}, not {expected}")
    assert not wrong, "\n".join(wrong)
    assert {d for _, d, _ in QUANTITIES} <= set(DIMENSIONS)


def test_what_is_no_quantity_says_what_is_expected():
    wrong = []
    for text, dimension, words in WRONG:
        try:
            wrong.append(f"{text}: taken as {quantity(text, dimension)}")
        except UnitError as err:
            if words not in str(err):
                wrong.append(f"{text}: {err}")
    assert not wrong, "\n".join(wrong)


@pytest.mark.parametrize(("declared", "expected"), [
    ({"length": "mm", "force": "N"}, {"stress": 1e6, "mass": 1000.0, "density": 1e12, "stiffness": 1e3, "acceleration": 1e-3}),
    ({"length": "m", "mass": "t"}, {"force": 1000.0, "stress": 1000.0, "density": 1000.0, "moment": 1000.0}),
    ({"length": "in", "force": "lbf"}, {"stress": POUND_FORCE / INCH**2, "mass": POUND_FORCE / INCH, "stiffness": POUND_FORCE / INCH}),
    ({"length": "mm", "mass": "kg", "time": "ms"}, {"force": 1000.0, "stress": 1e9, "velocity": 1.0}),
    ({}, {"force": 1.0, "length": 1.0, "stress": 1.0}),
])  # fmt: skip
def test_bare_numbers_follow_from_the_declared_units(declared, expected):
    system = UnitSystem.declare(**declared)
    for dimension, size in expected.items():
        assert quantity(3.0, dimension, system) == pytest.approx(3.0 * size, rel=1e-12), dimension
    assert quantity("3 Pa", "stress", system) == 3.0
    assert unit_factor("N/mm", "stiffness") == 1000.0


# -- signals ---------------------------------------------------------------------------------------------------

T, P = 0.02, 30.0
SIGNALS = {
    "half sine": ({"half sine": {"peak": P, "duration": T}}, lambda t: P * np.sin(np.pi * t / T) * (t <= T)),
    "rectangle": ({"rectangle": {"peak": P, "duration": T}}, lambda t: P * (t <= T)),
    "triangle": ({"triangle": {"peak": P, "duration": T}}, lambda t: P * (1 - np.abs(2 * t / T - 1)) * (t <= T)),
    "versed sine": ({"versed sine": {"peak": P, "duration": T}}, lambda t: P * (1 - np.cos(2 * np.pi * t / T)) / 2 * (t <= T)),
    "terminal": ({"terminal peak sawtooth": {"peak": P, "duration": T}}, lambda t: P * t / T * (t < T)),
    "initial": ({"initial peak sawtooth": {"peak": P, "duration": T}}, lambda t: P * (1 - t / T) * (t <= T)),
    "trapezoid": ({"trapezoid": {"peak": P, "duration": T, "rise": 0.004, "fall": 0.006}},
                  lambda t: P * np.clip(np.minimum(t / 0.004, (T - t) / 0.006), 0, 1)),
    "sine": ({"sine": {"peak": P, "frequency": 150, "cycles": 3}}, lambda t: P * np.sin(300 * np.pi * t) * (t <= 0.02)),
    "hann": ({"sine": {"peak": P, "frequency": 150, "cycles": 3, "window": "hann"}},
             lambda t: P * np.sin(300 * np.pi * t) * np.sin(np.pi * t / 0.02) ** 2 * (t <= 0.02)),
    "decaying": ({"decaying sine": {"peak": P, "frequency": 100, "damping": 0.1}}, None),
    "ramp": ({"ramp": {"peak": P, "rise": T}}, lambda t: P * np.minimum(t / T, 1.0)),
    "step": ({"step": {"peak": P, "rise": T}}, lambda t: P * (1 - np.cos(np.pi * np.minimum(t / T, 1.0))) / 2),
    "two": ({"sum": [{"half sine": {"peak": P, "duration": T}}, {"rectangle": {"peak": -5.0, "duration": 0.01, "start": 0.005}}]},
            lambda t: P * np.sin(np.pi * t / T) * (t <= T) - 5.0 * ((t >= 0.005) & (t <= 0.015))),
}  # fmt: skip


@pytest.mark.parametrize("name", SIGNALS)
def test_signals_are_their_formula(name):
    """On rows the curve within the chord of its sampling, between jumps; its area to 1e-6 (what a slow frame feels)."""
    shape, formula = SIGNALS[name]
    pulse = build_pulse({"z": PulseShape.model_validate(shape)})
    time, value = pulse.time, pulse.acceleration[:, 2]
    assert (np.diff(time) >= 0).all()
    assert not pulse.acceleration[:, :2].any()
    if formula is None:  # starts at zero, is down to a thousandth at its end, and crosses zero every half period
        crossings = time[:-1][(value[:-1] > 0) != (value[1:] > 0)]
        damped = 100 * np.sqrt(1 - 0.1**2)
        assert np.diff(crossings[1:6]) == pytest.approx(1 / (2 * damped), rel=2e-2) or np.diff(
            crossings[1:6]
        ) == pytest.approx(1 / 200, rel=2e-2)
        assert value[0] == 0.0
        assert np.abs(value[-30:]).max() < 2e-3 * P
        return
    smooth = np.concatenate([[True], np.diff(time) > 1e-12]) & np.concatenate([np.diff(time) > 1e-12, [True]])
    inside = smooth & (time > 1e-9) & (np.abs(time - T) > 1e-9)
    np.testing.assert_allclose(value[inside], formula(time[inside]), atol=2e-3 * P)
    end = float(time[-1])
    area = np.sum(np.diff(time) * (value[1:] + value[:-1]) / 2)
    cuts = sorted({0.0, *(c for c in (0.004, 0.005, 0.014, 0.015, T) if c < end), end})
    exact = sum(quad(lambda t: float(formula(np.array(t))), a, b, epsabs=1e-12)[0] for a, b in pairwise(cuts))
    assert area == pytest.approx(exact, rel=1e-6, abs=1e-6 * P * T)
    stays = name in ("ramp", "step")
    assert pulse.acceleration[-1, 2] == pytest.approx(P if stays else 0.0, abs=1e-9)
    assert pulse.peak[2] == pytest.approx(np.abs(formula(np.linspace(0, T, 20_001))).max(), rel=2e-3)


@pytest.mark.parametrize(("of", "peak", "power"), [("velocity", "0.4 m/s", 1), ("displacement", "3 mm", 2)])
def test_motion_of_the_base_by_velocity_or_displacement_is_differentiated(of, peak, power):
    """A versed sine of velocity or displacement: its acceleration by hand, and the base back at rest where it should be."""
    pulse = build_pulse({"x": PulseShape.model_validate({"versed sine": {"peak": peak, "duration": "40 ms"}})})
    w, size = 2 * np.pi / 0.04, {"velocity": 0.4, "displacement": 0.003}[of]
    exact = {1: lambda t: size * w / 2 * np.sin(w * t), 2: lambda t: size * w * w / 2 * np.cos(w * t)}[power]
    inside = (pulse.time > 1e-4) & (pulse.time < 0.0399)
    np.testing.assert_allclose(pulse.acceleration[inside, 0], exact(pulse.time[inside]), atol=5e-3 * size * w**power)
    assert pulse.velocity_change[0] == pytest.approx(0.0, abs=1e-3 * size * w ** (power - 1))
    moved = 0.4 * 0.04 / 2 if power == 1 else 0.0
    assert pulse.end_displacement[0] == pytest.approx(moved, abs=2e-3 * max(moved, size))


# -- selections ------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def yard() -> hk.Assembly:
    a = hk.Assembly().material("m", **STEEL).point("tip", [1.0, 0.5, 0.4]).point("far", [5, 5, 5])
    a.part(
        "block",
        box={"corner": [0, 0, 0], "sides": np.diag([1.0, 0.5, 0.4]).tolist(), "divisions": [8, 5, 4]},
        material="m",
    )
    a.part(
        "lid",
        plate={"corner": [0, 0, 0.4], "sides": [[1.0, 0, 0], [0, 0.5, 0]], "divisions": [8, 5], "thickness": 0.01},
        material="m",
    )
    return a.part("drum", cylinder={"base": [2, 0, 0], "radius": 0.3, "length": 0.6, "divisions": [16, 6], "thickness": 0.004},
                  material="m").group("flat", ["lid"]).group("all of it", ["block", "lid", "drum"])  # fmt: skip


SELECTIONS = {
    "box": ({"box": [[0.2, -1, -1], [0.6, 0.25, 0.2]]}, lambda p, x: 0.2 - 1e-9 <= x[0] <= 0.6 + 1e-9 and x[1] <= 0.25 + 1e-9 and x[2] <= 0.2 + 1e-9),
    "box turned round": ({"box": [[0.6, 0.25, 0.2], [0.2, -1, -1]]}, lambda p, x: 0.2 - 1e-9 <= x[0] <= 0.6 + 1e-9 and x[1] <= 0.25 + 1e-9 and x[2] <= 0.2 + 1e-9),
    "plane": ({"plane": {"at": [0, 0, 0.4], "normal": "z"}}, lambda p, x: abs(x[2] - 0.4) < 1e-6),
    "thick plane": ({"plane": {"at": [0.5, 0, 0], "normal": [1, 1, 0], "within": 0.1}}, lambda p, x: abs((x[0] - 0.5 + x[1]) / 2**0.5) <= 0.1),
    "part": ({"part": "lid"}, lambda p, x: "lid" in p), "parts": ({"part": ["lid", "drum"]}, lambda p, x: "lid" in p or "drum" in p),
    "group": ({"group": "flat"}, lambda p, x: "lid" in p), "part and plane": ({"part": "block", "plane": {"at": [1, 0, 0], "normal": "x"}}, lambda p, x: "block" in p and abs(x[0] - 1) < 1e-6),
    "cylinder": ({"cylinder": {"base": [2, 0, 0], "axis": "z", "radius": 0.31}}, lambda p, x: np.hypot(x[0] - 2, x[1]) <= 0.31),
    "short cylinder": ({"cylinder": {"base": [2, 0, 0], "axis": "z", "radius": 0.31, "length": 0.25}}, lambda p, x: np.hypot(x[0] - 2, x[1]) <= 0.31 and x[2] <= 0.25),
    "surface": ({"cylinder": {"base": [2, 0, 0], "axis": "z", "radius": 0.3, "surface": True}}, lambda p, x: abs(np.hypot(x[0] - 2, x[1]) - 0.3) < 1e-6),
    "points": ({"points": ["tip"]}, lambda p, x: np.allclose(x, [1.0, 0.5, 0.4])),
}  # fmt: skip


@pytest.mark.parametrize("name", SELECTIONS)
def test_selections_catch_what_a_loop_over_all_nodes_does(yard, name):
    mesh, (written, wanted) = yard.system.mesh, SELECTIONS[name]
    found = select_nodes(mesh, yard.description, Selection.model_validate(written), "here").tolist()
    parts = {n: {p for p, own in mesh.part_nodes.items() if n in set(own.tolist())} for n in range(len(mesh.nodes))}
    expected = [n for n, x in enumerate(mesh.nodes) if parts[n] and wanted(parts[n], x)]
    assert found == expected
    assert expected


def test_the_nearest_and_the_faces_that_look_one_way(yard):
    mesh = yard.system.mesh

    def nodes(**written) -> list[int]:
        return select_nodes(mesh, yard.description, Selection.model_validate(written), "here").tolist()

    place = [0.33, 0.21, 0.17]
    order = np.argsort(np.linalg.norm(mesh.nodes - place, axis=1), kind="stable")
    for count in (1, 5, 20):
        assert nodes(nearest=place, count=count) == sorted(order[:count].tolist())
    assert one_node(mesh, yard.description, Selection.model_validate({"nearest": place}), "here") == order[0]
    assert one_node(mesh, yard.description, "tip", "here") == mesh.points["tip"]
    side = nodes(part="block", normal={"along": "-x"})
    assert side == [n for n in mesh.part_nodes["block"] if abs(mesh.nodes[n][0]) < 1e-9]
    front = set(nodes(part="drum", normal={"along": "x", "within": "50 deg"}))
    assert front
    assert all(mesh.nodes[n][0] - 2 > 0.3 * math.cos(math.radians(50 + 360 / 16)) for n in front)
    for written, words in (({"box": [[7, 7, 7], [8, 8, 8]]}, r"the box catches no node; the nearest one, at \[2.21213, 0.212132, 0.6\] m, is 10.49 m away"),
                           ({"points": ["far"]}, 'nothing is attached to the point "far"'), ({"set": "none"}, 'there is no set "none"'),
                           ({"part": "block", "normal": {"along": [1, 1, 1], "within": "5 deg"}}, "no outer face looks that way")):  # fmt: skip
        with pytest.raises(SelectionError, match=words):
            nodes(**written)
    with pytest.raises(SelectionError, match="catches 54 nodes where one is needed"):
        one_node(mesh, yard.description, Selection.model_validate({"part": "lid"}), "here")
