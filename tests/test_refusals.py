# ruff: noqa: E501 - data in rows
"""What the schema refuses: wrong keys, names, numbers and combinations, each with its line, its key and what is expected."""

from __future__ import annotations

import copy
import json
import re
import shlex
from pathlib import Path
from typing import Any

import pytest

import every_key as ek
import holokine as hk
from holokine.describe.yaml_file import dumped, read_yaml
from holokine.errors import HolokineError
from test_cli import inside
from test_commands import SHELF

REFUSED: dict[str, list[tuple[str, Any, str]]] = {
    "frame": [
        ("materials/steel", {"E": "205 GPa", "density": "7840 kg/m^3"}, "give nu (Poisson ratio) or G (shear modulus)"),
        ("materials/ply/nu", 0.3, "nu and G belong inside orthotropic"),
        ("materials/steel/E", -1, "must be greater than 0, got -1"),
        ("materials/steel/E", "205 Gpa m", 'unknown unit "Gpa m"'),
        ("materials/steel/nu", 0.6, "nu (Poisson ratio) must lie between -1 and 0.5, got 0.6"),
        ("materials/steel/density", "7840 kg", 'expected a density such as kg/m^3, got "kg", which is of the dimension kg'),
        ("materials/steel/loss factor", "-1 %", "must be at least 0, got -1 %"),
        ("materials/steel/colour", "red", 'unknown key "colour"'),
        ("materials/ply/orthotropic/nu", [0.3, 0.2], "item 3 is missing"),
        ("materials/ply/orthotropic/nu", [0.3, 2.5, 0.1], "E, G and nu together belong to no real material (the elastic energy could be negative)"),
        ("sections/bar", {"I": {"height": 100, "width": 50, "web": 60, "flange": 7}}, "web must be thinner than the width, and two flanges thinner than the height"),
        ("sections/bar", {"I": {"height": 100, "width": 50, "web": 5, "flange": 57}}, "web must be thinner than the width, and two flanges thinner than the height"),
        ("sections/bar", {"angle": {"height": 50, "width": 40, "thickness": 45}}, "the thickness must be less than both legs"),
        ("sections/bar", {"tube": {"width": 30, "height": 20, "wall": 12}}, "use a rectangle instead"),
        ("sections/bar", {"pipe": {"diameter": 20, "wall": 11}}, "use a rod instead"),
        ("sections/bar", {"rod": {"diameter": 0}}, "must be greater than 0, got 0"),
        ("sections/bar", {"rod": {"diameter": 10}, "rectangle": {"width": 3, "height": 4}}, "give exactly one of rectangle, tube, rod, pipe, I, channel, angle, T, properties (got rectangle and rod)"),
        ("sections/bar", {}, "give exactly one of rectangle, tube, rod, pipe, I, channel, angle, T, properties (got none)"),
        ("points/b", [400, 0], "expected three lengths [x, y, z], got [400, 0]"),
        ("points/b", ["400 kg", 0, 0], 'expected a length such as m, got "kg", which is of the dimension kg'),
        ("points/b", "here", "expected three lengths [x, y, z], got 'here'"),
        ("points/e", {"at": [800, 0, 200], "apart": "perhaps"}, "expected true or false, got 'perhaps'"),
        ("parts/beam/beam/divisions", 0, "divisions must be 1 or more, got 0"),
        ("parts/beam/beam/divisions", [4, 4, 4], "divisions lists 3 numbers for 2 spans"),
        ("parts/beam/beam/divisions", [4, 0], "divisions must be 1 or more, got (4, 0)"),
        ("parts/beam/beam/size", 30, "give divisions or size, not both"),
        ("parts/beam/beam/through", ["a", "a"], "divisions lists 2 numbers for 1 spans"),
        ("parts/beam/beam/through", ["a"], "needs at least 2 entries, got 1"),
        ("parts/beam/beam/through", ["a", "q"], "divisions lists 2 numbers for 1 spans"),
        ("parts/beam/beam/up", "w", 'expected an axis x, y, z (or -x, -y, -z) or three numbers, got "w"'),
        ("parts/beam/beam/up", [0, 0, 0], "expected three numbers that are not all zero, got [0, 0, 0]"),
        ("parts/beam/beam/section", "bars", 'there is no section "bars"'),
        ("parts/beam/beam/theory", "cosserat", "expected 'timoshenko', 'rayleigh' or 'euler', got 'cosserat'"),
        ("parts/beam/beam/release/start", ["q"], "expected 'x', 'y', 'z', 'rx', 'ry' or 'rz', got 'q'"),
        ("parts/beam/material", "stel", 'there is no material "stel"'),
        ("parts/post/beam/end section", "hoop", "a beam tapers between two sections of one shape (rectangle, tube, rod, pipe, I, channel, angle, T)"),
        ("parts/beam", {"material": "steel"}, "give exactly one of beam, cable, ring, plate, cylinder, box, tube, extrusion, mesh (got none)"),
        ("parts/beam/plate", {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": [1, 1], "thickness": 1}, "give exactly one of beam, cable, ring, plate, cylinder, box, tube, extrusion, mesh (got beam and plate)"),
        ("parts/plate/plate/thickness", 0, "must be greater than 0, got 0"),
        ("parts/plate/plate/divisions", [4, -3], "divisions must be 1 or more, got [4, -3]"),
        ("parts/plate/plate/sides", [[400, 0, 0], [300, 0, 0]], "the corners span no area"),
        ("parts/plate/plate/sides", [[400, 0, 0]], "item 2 is missing"),
        ("parts/plate/plate/refine", [{"side": 3, "start": 0.25, "end": 0.5, "times": 2}], "the sides here are 1 to 2"),
        ("parts/plate/plate/refine", [{"side": 1, "start": 0.75, "end": 0.5, "times": 2}], "start and end must be fractions of the side with start below end"),
        ("parts/plate/plate/tension", [1, 2, 3, 4], "tension is [x, y] or [x, y, shear], got 4 numbers"),
        ("parts/plate/plate/shear factor", 1.5, "shear factor must be above 0 and at most 1, got 1.5"),
        ("parts/plate/plate/shear factor", 0, "shear factor must be above 0 and at most 1, got 0"),
        ("parts/plate/plate/cells", "bricks", "expected 'quads' or 'triangles', got 'bricks'"),
        ("parts/plate/plate/holes", [{"at": [250, 200]}], "give exactly one of diameter, size, outline (got none)"),
        ("parts/plate/plate/holes", [{"at": [250, 200], "size": [60, 50], "diameter": 9}], "give exactly one of diameter, size, outline (got diameter and size)"),
        ("parts/plate/plate/area mass", "5 kg", 'expected a mass per area such as kg/m^2, got "kg", which is of the dimension kg'),
        ("masses/unit/mass", "-3 kg", "must be at least 0, got -3 kg"),
        ("masses/unit/inertia", {"xx": 1, "q": 2}, "unknown inertia entry ['q']; entries are xx yy zz xy yz xz"),
        ("masses/unit/inertia", [1, 2], "expected [Ixx, Iyy, Izz], a 3 by 3 tensor, or entries xx yy zz xy yz xz"),
        ("masses/unit/at", "z9", 'there is no point "z9"'),
        ("masses/unit/offset", [0, 5], "expected three lengths [x, y, z], got [0, 5]"),
        ("springs/stay/between", ["d"], "item 2 is missing"),
        ("springs/stay/between", ["d", "d"], "both ends are the same point"),
        ("springs/stay/axis", "q", 'expected an axis x, y, z (or -x, -y, -z) or three numbers, got "q"'),
        ("springs/stay/stiffness", "60 N", 'expected a stiffness such as N/m, got "N", which is of the dimension N'),
        ("springs/stay/one way", "up", "expected 'push' or 'pull', got 'up'"),
        ("bushings/pad/stiffness", {"x": "100 N m"}, 'expected a stiffness such as N/m, got "N m", which is of the dimension N m'),
        ("bushings/pad/damping", {"u": 1}, 'unknown direction "u"; directions are x y z rx ry rz'),
        ("bushings/pad/axes", {"x": "x", "y": "x"}, "x and y of the axes run along the same line"),
        ("links/feet/to", {"part": "plat"}, 'there is no part "plat"'),
        ("links/feet", {"rigid": "g", "averaging": "g", "to": {"part": "plate"}}, "give exactly one of rigid, averaging, area (got rigid and averaging)"),
        ("links/feet", {"rigid": "g"}, 'the key "to" is missing'),
        ("links/feet/to", {}, "a selection needs at least one of points, part, group, set, box, plane, cylinder, normal, nearest"),
        ("supports/wall/hold", [], "holds no direction; directions are x y z rx ry rz, or all; one-way: pushes"),
        ("supports/wall/hold", ["x", "w"], "expected 'x', 'y', 'z', 'rx', 'ry' or 'rz', got 'w'"),
        ("supports/wall/hold", "everything", "expected 'x', 'y', 'z', 'rx', 'ry' or 'rz', got 'everything'"),
        ("supports/wall/at", "zz", 'there is no point "zz"'),
        ("supports/edge/at", {"group": "panel"}, 'there is no group "panel"'),
        ("groups/panels", ["plates"], 'there is nothing named "plates"'),
        ("groups/panels", ["panels"], 'the group "panels" contains itself'),
        ("groups/panels", [], "the group is empty"),
        ("gauges/unit a/acceleration", "gg", 'there is no point "gg"'),
        ("gauges/unit a/axis", "q", 'axis must be x, y, z, magnitude or a direction of three numbers, got "q"'),
        ("gauges/unit a/velocity", "g", "give exactly one of displacement, rotation, velocity, acceleration, force, moment, damper force, total force,"),
        ("gauges/unit u/relative to", "nowhere", 'there is no point "nowhere"'),
        ("gauges/cut f", {"cut force": "bars"}, "{at: [x, y, z], normal: axis}, others have none"),
        ("gauges/unit a/plane", {"at": [0, 0, 0], "normal": "x"}, "plane does not belong to a gauge of acceleration, but to cut force, cut moment"),
        ("gauges/pad f/force", "pads", 'there is no name "pads"'),
        ("gauges/fibre/stress", "unit", 'there is no part "unit"'),
        ("gauges/skin/surface", "middlemost", "expected 'top', 'middle', 'bottom' or 'both', got 'middlemost'"),
        ("gauges/skin/component", "mises", "expected 'equivalent', 'xx', 'yy', 'zz', 'xy', 'yz', 'zx', 'components' or 'principal', got 'mises'"),
        ("gauges/root f/end", "centre", "expected 'start' or 'end', got 'centre'"),
        ("gauges/wall r/reaction", "walls", 'there is no support "walls"'),
        ("gauges/wall e/portion", "plastic", "expected 'elastic', 'damper' or 'whole', got 'plastic'"),
        ("limits/unit a", "20 m", 'expected an acceleration such as m/s^2, got "m", which is of the dimension m'),
        ("limits/nobody", "20 g", 'there is no gauge "nobody"'),
        ("limits/wall r", {"q": 5}, 'the gauge has no component "q"'),
        ("loads/settle/move", {}, "expected directions and how far, such as {z: -2 mm}, got {}"),
        ("loads/settle/move", {"q": 1}, 'unknown direction "q"; directions are x y z rx ry rz'),
        ("loads/settle/supports", "walls", 'there is no support "walls"'),
        ("loads/push", {"force": [0, 10, 0]}, "a load by force needs at"),
        ("loads/push", {"at": "b"}, "give exactly one of gravity, force or moment, pressure, move (got none)"),
        ("loads/wind", {"pressure": "2 kPa"}, "a load by pressure needs on"),
        ("loads/wind/on", {"part": "beam"}, "no face lies in the selection"),
        ("loads/weight/gravity", "down", 'expected an axis x, y, z (or -x, -y, -z) or three numbers, got "down"'),
        ("damping", [], "the list of ratios is empty"),
        ("damping", -0.1, "must be at least 0, got -0.1"),
        ("damping", {"composite": {"default": "2 %"}, "loss factor": {"beam": "3 %"}}, "composite damping has ratios of members; give loss factors instead of it, not beside it"),
        ("damping", {"rayleigh": [["5 Hz", "2 %"]]}, "item 2 is missing"),
        ("damping", {"table": [["5 Hz", "2 %"], ["4 Hz", "2 %"]]}, "the table's frequencies must rise from row to row"),
        ("damping", "2 kg", 'expected a plain number, got "kg", which is of the dimension kg'),
        ("bands/rail/range", [90, 20], "the range must rise"),
        ("bands/fan/margin", "120 %", "the margin must be below 100 %"),
        ("bands/fan", {"speed": "1440 rpm", "range": [1, 2]}, "give exactly one of range, speed (got range and speed)"),
        ("modes/count", 0, "must be at least 1, got 0"),
        ("modes/count", 2.5, "expected a whole number, got 2.5"),
        ("modes/upto", "-5 Hz", "must be greater than 0, got -5 Hz"),
        ("mass matrix", "diagonal", "expected 'consistent', 'lumped' or 'lumped without rotary', got 'diagonal'"),
        ("massless", ["q"], "expected 'x', 'y', 'z', 'rx', 'ry' or 'rz', got 'q'"),
        ("merge tolerance", -1, "must be greater than 0, got -1"),
        ("units/length", "kg", 'expected a length such as m, got "kg", which is of the dimension kg'),
        ("units/length", "2 mm", '"2 mm" is no unit: write its name alone, such as mm, kg, s or N'),
        ("holokine", 2, "this version reads format 1 only, got 2"),
        ("adjust", {"nobody": {"stiffness": 2}}, 'there is no name "nobody"'),
        ("adjust", {"beam": {"stiffness": 0}}, "must be greater than 0, got 0"),
        ("variants", {"soft": {"materials": {"steel": {"E": "5 kg"}}}}, 'expected a stress such as Pa, got "kg", which is of the dimension kg'),
        ("variants", {"soft": {"variants": {}}}, "a variant cannot have variants"),
        ("variants", {"soft": {"materials": {"stel": {"E": "5 GPa"}}}}, 'the key "density" is missing'),
        ("state", "held", 'there is no state "held"'),
        ("events/shock/combine", "sum", "expected 'srss', 'cqc', 'absolute', 'largest plus srss', 'grouped' or 'double sum', got 'sum'"),
        ("events/shock/directions", "vector", "expected 'srss', 'absolute', '100-30-30' or '100-40-40', got 'vector'"),
        ("events/shock/spectrum", {"w": "shock.csv"}, "expected 'x', 'y' or 'z', got 'w'"),
        ("events/shock/spectrum", {"z": {"frequency": [1, 20], "acceleration": ["1 g"]}}, "the columns have 2 and 1 values"),
        ("events/shock/spectrum", {"z": {"frequency": [1], "acceleration": ["1 g"]}}, "a spectrum needs at least two points"),
        ("events/shock/spectrum", {"z": {}}, "a spectrum's first column: give exactly one of frequency, period (got none)"),
        ("events/shock/spectrum", {"z": {"file": "shock.csv", "frequency": [1, 2], "acceleration": [1, 2]}}, "give a file, a text or columns, only one of them"),
        ("events/shock/spectrum", {"z": {"envelope": []}}, "an envelope needs one spectrum at least"),
        ("events/shock/spectrum", {"z": {"corners": {"range": [1, 100]}}}, "give displacement, velocity or acceleration, or several of them"),
        ("events/shock/spectrum", {"z": {"corners": {"range": [100, 1], "acceleration": "1 g"}}}, "the range must rise"),
        ("events/shock/spectrum", {"z": "gone.csv"}, "there is no such file"),
        ("events/shock/rigid between", [60, 30], "the second frequency must be the higher one"),
        ("events/shock/duration", "-8 s", "must be greater than 0, got -8 s"),
        ("events/shock/pulse", {"x": {"rectangle": {"peak": 1, "duration": 0.01}}}, "give exactly one of spectrum, support spectra, pulse, support pulses, loads, let go, static, state, sweep, random, support densities (go"),
        ("events/shock", {}, "give exactly one of spectrum, support spectra, pulse, support pulses, loads, let go, static, state, sweep, random, support densities (go"),
        ("events/shock/missing mass", "no idea", "expected true or false, got 'no idea'"),
        ("events/jolt/pulse", {"z": {"rectangle": {"peak": "3 m", "duration": "8 ms"}}}, "a displacement of the base cannot jump, it would need an infinite velocity"),
        ("events/jolt/pulse", {"z": {"rectangle": {"peak": "3 g", "duration": "0 ms"}}}, "must be greater than 0, got 0 ms"),
        ("events/jolt/pulse", {"z": {"square": {"peak": "3 g", "duration": "8 ms"}}}, 'unknown key "square"'),
        ("events/jolt/pulse", {"z": {"chirp": {"peak": 4, "range": [40, 40], "duration": 0.02}}}, "a chirp needs two different frequencies; for one frequency take sine"),
        ("events/jolt/pulse", {"z": {"chirp": {"peak": 4, "range": [4000, 90000], "duration": 20}}}, "shorten it"),
        ("events/jolt/pulse", {"z": {"sine": {"peak": 4, "frequency": 40, "cycles": 4, "ramp": 1}}}, "ramp (cycles) belongs to window: ramp"),
        ("events/jolt/pulse", {"z": {"decaying sine": {"peak": 4, "frequency": 40, "damping": 1.2}}}, "the damping of a decaying sine lies from 0.1 % to below 100 %"),
        ("events/jolt/pulse", {"z": {"table": {"time": [0, 1], "acceleration": [1]}}}, "the columns have 2 and 1 values"),
        ("events/jolt/pulse", {"z": {"table": {"time": [0], "acceleration": [1]}}}, "a pulse table needs at least two points"),
        ("events/jolt/pulse", {"z": {"table": {"time": [0, 1], "acceleration": [1, 2], "velocity": [1, 2]}}}, "a signal's table: give exactly one of acceleration, velocity, displacement, factor (got acceleration and veloc"),
        ("events/jolt/pulse", {"z": {"table": {"time": [1, 0], "acceleration": [1, 2]}}}, "the time goes back from 1 s to 0 s"),
        ("events/jolt/pulse", {"z": {"trapezoid": {"peak": 6, "duration": 0.02, "rise": 0.014, "fall": 0.013}}}, "rise and fall together are longer than the duration"),
        ("events/jolt/pulse", {"z": {"file": "record.csv", "column": "middle [g]"}}, 'there is no column "middle [g]"'),
        ("events/jolt/pulse", {"z": {"sum": []}}, "a sum needs one pulse at least"),
        ("events/jolt/support pulses", {"west": {"supports": ["wall"], "pulse": {"x": {"rectangle": {"peak": 1, "duration": 0.01}}}}}, "give pulse (the whole base) or support pulses (groups of supports), not both"),
        ("events/apart/model", "full", "support pulses are answered by modes"),
        ("events/apart/support pulses/west/supports", ["walls"], 'there is no support "walls"'),
        ("events/jolt/let go", "rest", "give start from (the load stays) or let go (the load is taken off), not both"),
        ("events/jolt/start from", "resting", 'there is no static event "resting"'),
        ("events/jolt/step", "0 ms", "must be greater than 0, got 0 ms"),
        ("events/jolt/ring down", "-1 s", "must be greater than 0, got -1 s"),
        ("events/jolt/method", "explicit", "expected 'automatic', 'modes', 'coupled modes', 'average acceleration' or 'generalised alpha', got 'explicit'"),
        ("events/jolt/loads", {"pushes": {"step": {"rise": "3 ms", "peak": 0.5}}}, 'there is no load "pushes"'),
        ("events/rest/static", {}, "the event has no load"),
        ("events/rest/static", ["weights"], 'there is no load "weights"'),
        ("events/rest/static", {"weight": "1 kg"}, 'expected a plain number, got "kg", which is of the dimension kg'),
        ("evnts", {}, 'unknown key "evnts"'),
    ],
    "shapes": [
        ("sections/s7/properties/Iyz", 3e-07, "Iyz is larger than any real section allows (Iyz² must be below Iy·Iz)"),
        ("sections/s7/properties/J", 0, "must be greater than 0, got 0"),
        ("sections/s7/properties/fibres", [[0.02]], "item 2 is missing"),
        ("events/shaken/sweep", {"range": [90, 20]}, "the range must rise, got 90 to 20 Hz"),
        ("events/listed/sweep", {"at": [60, 31, 30]}, "the frequencies (at) must rise"),
        ("events/shaken/sweep", {"range": [20, 90], "spacing": "linear"}, "linear needs points (how many)"),
        ("events/shaken/sweep", {"range": [20, 90], "spacing": "logarithmic", "points": 5, "per octave": 3}, "give exactly one of points, per octave (got points and per octave)"),
        ("events/swept/sweep", {"band": "fans"}, 'there is no band "fans"'),
        ("events/swept/sweep", {}, "give exactly one of range, band, at (got none)"),
        ("events/listed/base", {"x": {"table": {"frequency": [20], "velocity": [0.1]}}}, "a table over frequency needs at least two points"),
        ("events/listed/base", {"x": {"table": {"frequency": [20, 90], "velocity": [0.1, -0.2]}}}, "amplitudes are at least 0; a phase of 180 deg turns the sign"),
        ("events/listed/base", {"x": {"table": {"frequency": [20, 90], "velocity": [0.1, 0.2], "factor": [1, 2]}}}, "give exactly one of acceleration, velocity, displacement, factor (got velocity and factor)"),
        ("events/listed/base", {"x": -1}, "an amplitude is at least 0; a phase of 180 deg turns the sign"),
        ("events/listed/base", {}, "give base (z: 1 g), support swings, loads (factors on loads) or unbalance; a sweep is its frequencies only"),
        ("events/listed/base", {"x": {}}, "give exactly one of amplitude, table, file (got none)"),
        ("events/shaken/unbalance/rotor/at", "p99", 'there is no point "p99"'),
        ("events/shaken/unbalance/rotor/amount", "-1 kg m", "must be greater than 0, got -1 kg m"),
        ("events/shaken/octaves per minute", 0, "must be greater than 0, got 0"),
        ("events/shaken/beside", "shaken", 'there is no static event "shaken"'),
        ("events/shaken/amplitudes", "mean", "expected 'peak', 'rms' or 'peak to peak', got 'mean'"),
        ("events/rougher/random", {"x": {"frequency": [10], "density": [0.1]}}, "a density needs two frequencies at least"),
        ("events/rougher/random", {"x": {"frequency": [10, 20], "density": [0.1, 0]}}, "beside a row of 0 there is nothing, and so there is between all of its rows"),
        ("events/rougher/random", {"x": {"frequency": [10, 20], "density": [0.1]}}, "1 densities for 2 frequencies"),
        ("events/rougher/random", {"x": {"frequency": [20, 10], "density": [0.1, 0.1]}}, "the frequency does not rise (20 Hz, then 10 Hz)"),
        ("events/rougher/random", {"x": {"frequency": [10, 20], "level": 0.1}}, "a level needs slopes in dB per octave, 1 for so many rows less one"),
        ("events/rougher/random", {"x": {"frequency": [10, 20], "level": 0.1, "slopes": [3, 3], "at": 15}}, "a level needs slopes in dB per octave, 1 for so many rows less one"),
        ("events/rough/fatigue", {"slope": 4, "amplitude": 10000.0}, "a point of the S-N line takes an amplitude and its cycles"),
        ("events/rough/fatigue", {"slope": 0.5}, "must be at least 1, got 0.5"),
        ("events/rough/coherence", [{"between": ["x", "q"], "coherence": 0.5}], '"q" is no source here'),
        ("events/rough/coherence", [{"between": ["x", "y"], "coherence": 0.5}, {"between": ["y", "x"], "coherence": 0.4}], "each pair of two sources once"),
        ("events/rough/coherence", [{"between": ["x", "y"], "coherence": 1.5}], "must be at most 1, got 1.5"),
        ("events/rough/coherence", [{"between": ["x", "x"], "coherence": 0.5}], "each pair of two sources once"),
        ("events/rough/times", 0, "must be greater than 0, got 0"),
        ("events/rough/duration", "-1 s", "must be greater than 0, got -1 s"),
        ("events/blow", {"pulse": {}, "spectrum": {}}, "give exactly one of spectrum, support spectra, pulse, support pulses, loads, let go, static, state, sweep, random, support densities (go"),
    ],
    "plates": [
        ("parts/lid/plate/outline", [[0, 0], [0.3, 0]], "an outline needs three corners, or two and an arc"),
        ("parts/lid/plate/outline", [[0, 0], [0.3, 0.2], [0.3, 0], [0, 0.2]], "the outline crosses itself at [0.15, 0.1] m in the plane"),
        ("parts/lid/plate/outline", [[0, 0], [0.3, 0], {"corner": [0.3, 0.2], "radius": 0.5}, [0, 0.2]], "the roundings between [0.3, 0] and [0.3, 0.2] m do not fit on the edge"),
        ("parts/lid/plate/size", 0, "must be greater than 0, got 0"),
        ("parts/lid/plate/points", [[5, 5]], "the point [5, 5] m lies outside the outline or in a hole"),
        ("parts/skin/plate/layers", [], "needs at least 1 entry, got 0"),
        ("parts/skin/plate/layers", [{"thickness": 0}], "must be greater than 0, got 0"),
        ("parts/skin/plate/layers", [{"thickness": 0.001, "material": "none"}], "all layers have one of their own. Leave one of the two out"),
        ("parts/skin/plate/tension along", "side 3", "the sides here are side 1 and side 2, got 'side 3'; or give an axis or a direction"),
        ("parts/can/cylinder/radius", -1, "must be greater than 0, got -1"),
        ("gauges/fibres/layer", 9, "layer 9 is not there"),
    ],
    "blocks": [
        ("parts/tube/tube/inner", 0.05, "the inner radius must be smaller than the outer one"),
        ("parts/tube/tube/angle", "400 deg", "goes around by more than nothing and by at most 360 deg, got '400 deg'"),
        ("parts/box/box/sides", [[0.2, 0, 0], [0, 0.1, 0], [0.2, 0.1, 0]], "the three sides span no volume"),
        ("parts/box/box/divisions", [3, 2], "divisions needs 3 numbers, got 2"),
        ("parts/box/box/refine", [{"side": 4, "start": 0, "end": 0.4, "times": 2}], "must be at most 3, got 4"),
        ("parts/hoop/ring/divisions", 1, "must be at least 3, got 1"),
        ("parts/sheet/mesh/file", "gone.vtu", "there is no such file"),
        ("parts/sheet/mesh/only", {"side": 7}, 'the file has no set of cells "side=7"'),
        ("parts/wire/mesh/beams", {"half=9": {"section": "ring"}}, 'the file has no set of cells "half=9"'),
        ("ties/seam/faces", "nothing", 'there is no part "nothing"'),
        ("ties/seam/within", -1, "must be greater than 0, got -1"),
        ("joints/bolt/kind", "welded", "expected 'rigid', 'hinge', 'slider' or 'ball', got 'welded'"),
        ("joints/bolt/stiffness", [1, 2], "expected 3 or 6 values of stiffness (x y z rx ry rz) or direction: value pairs, got [1, 2]"),
        ("joints/bolt/stiffness", {"q": 1}, 'unknown direction "q"; directions are x y z rx ry rz'),
        ("joints/bolt/between", ["tip"], "item 2 is missing"),
        ("joints/near/between", [{"part": "drum", "nearest": [0.5, 0, 0], "count": 0}, "tip"], "must be at least 1, got 0"),
        ("joints/up/between", [{"part": "bar"}, {}], "a selection needs at least one of points, part, group, set, box, plane, cylinder, normal, nearest"),
        ("damping/composite/nobody", "3 %", 'there is no name "nobody"'),
    ],
    "stated": [
        ("springs/rubber/force", [[0, 0]], "expected two or more rows [elongation, force], such as [[0, 0], [3 mm, 200 N], [5 mm, 600 N]]"),
        ("springs/rubber/force", [[0, 0], [1e-06]], "expected [elongation, force], got [1e-06]"),
        ("springs/rubber/force", [[0, 0], [2e-06, 10], [1e-06, 20]], "elongations must rise, 0.001 mm follows 0.002 mm"),
        ("springs/rubber/beyond", "broken", "expected 'refused' or 'held', got 'broken'"),
        ("springs/bias/law", {}, "linear, quadratic or cubic"),
        ("supports/pad/pushes", "w", "expected 'x', 'y', 'z', '-x', '-y' or '-z', got 'w'"),
        ("supports/pad/friction", -0.1, "must be at least 0, got -0.1"),
        ("state", "hold", 'there is no state "hold"'),
        ("states/held/loads", {"pull": 1}, '"wind" is none of the loads of this state'),
        ("states/held/tension", {"tie": "5 m"}, 'expected a force such as N, got "m", which is of the dimension m'),
        ("states/held/temperature", {"nobody": 3}, 'there is no name "nobody"'),
        ("states/held/constant", "pull", '"pull" is none of the loads of this state'),
    ],
    "given": [
        ("matrices/stiffness", "gone.mtx", "there is no such file (the stiffness matrix)"),
        ("supports/wall/at", "9", 'nothing is attached to the point "9"'),
        ("gauges/end/acceleration", "17", 'nothing is attached to the point "17"'),
    ],
}  # fmt: skip


COMMANDS = [
    ("check shelf.yaml --json --csv", "give --json or --csv, not both"),
    ("check gone.yaml", "gone.yaml: there is no such file"),
    ("check shelf.yaml --draw view=above", "--draw is for the pictures in --out DIR or --save FILE"),
    ("check shelf.run --draw view=above --save a.png", 'there is no view "above"'),
    ("check shelf.yaml --state sitting", 'there is no state "sitting"'),
    ("modes shelf.yaml --count -1", "Invalid value for '--count': -1 is not in the range x>=1."),
    ("modes shelf.yaml --upto '5 kg'", 'upto: expected a frequency such as Hz, got "kg", which is of the dimension kg'),
    ("modes shelf.yaml --above 50Hz --upto 20Hz", "shelf.yaml: the lower frequency must be 0 Hz or more and below the upper one, got 50"),
    ("modes shelf.yaml --near 50Hz --upto 20Hz", "shelf.yaml: give a frequency to look around, or a range, not both"),
    ("modes shelf.yaml --animate 1", "--animate needs --out DIR"),
    ("modes shelf.run --count 3", "a run file holds the modes that were extracted; leave out --count, --upto, --above and --near, o"),
    ("modes shelf.yaml --as-saved", "--as-saved belongs to run files"),
    ("modes shelf.run --enough 120%", "a share of mass lies between 0 and 100 %, got 120%"),
    ("modes shelf.run --enough 90% --along w", 'unknown direction "w"; directions are x y z rx ry rz'),
    ("modes shelf.run --table modes --sort colour", 'there is no column "colour"'),
    ("modes shelf.run --table 'points scale=metres'", "expected an energy such as J, got 'metres'"),
    ("modes shelf.run --table 'peak_at_energy 5kg'", 'expected an energy such as J, got "kg", which is of the dimension kg'),
    ("modes shelf.run --draw colour=heat --save a.png", 'colour: expected displacement, energy or stress, got "heat"'),
    ("modes shelf.run --sort mode", "--sort and --top are for the tables asked for by --table"),
    ("modes shelf.yaml --save notes.md", "this is saved as .csv"),
    ("modes shelf.yaml --save nowhere/b.run", "nowhere/b.run: there is no folder"),
    ("respond shelf.run dropp", 'there is no event "dropp"'),
    ("respond shelf.run drop --at '9 s'", "the history runs from -0.0006 to 0.206 s; 9 s lies outside"),
    ("respond shelf.run drop --at soon", "at: expected a time such as s, got 'soon'"),
    ("respond shelf.run quake --at 5ms", "--at belongs to events in time (pulse, support pulses, loads, let go) and sine sweeps (sweep); t"),
    ("respond shelf.run quake --animate --out o", "Got unexpected extra argument (o)"),
    ("respond shelf.run drop --with test", "--with and --linear are for the figure in --out DIR"),
    ("respond shelf.run test --with drop --out o", '"drop" is one of events in time (pulse, support pulses, loads, let go); beside "test" go sine sweeps'),
    ("respond shelf.run drop --animate pump --draw size=1x1 --out o", "a film of 1 x 1 pixels cannot be made"),
    ("respond shelf.run drop --animate 'pump z' --draw 'window=2s to 1s' --save a.csv", "--animate needs --out DIR"),
    ("modes shelf.run --table 'energy colour'", 'there is no group "colour"'),
    ("modes shelf.run --table 'energy mode=99'", "there is no mode 99: modes 1 to 8 were extracted"),
    ("modes shelf.run --damped --animate 99 --out o", "there is no damped mode 99; there are 1 to 8"),
    ("tune shelf.run --at nowhere --axis z --mass 1kg", 'tuned damper: nothing is attached to the point "nowhere"'),
    ("tune shelf.run --at pump --axis w --mass 1kg", 'axis: expected x, y, z or three numbers, got "w"'),
    ("tune shelf.run --at pump --axis z --mass -1kg", "a tuned damper: its mass must be greater than 0"),
    ("tune shelf.run --at pump --axis z", "a tuned damper: give its mass, or its ratio to the effective mass, one of them"),
    ("tune shelf.run --at pump --axis z --mass 1kg --ratio 5%", "a tuned damper: give its mass, or its ratio to the effective mass, one of them"),
    ("tune shelf.run --at pump --axis z --mass 1kg --mode 99", "there is no mode 99: modes 1 to 8 were extracted"),
    ("tune shelf.run --at pump --axis z --mass 1kg --against wind", 'there is no event "wind"'),
    ("tune shelf.run --at pump --axis z --mass 1kg --against test", "a tuned damper against a sweep: name the gauge whose largest is to be least"),
    ("tune shelf.run --at pump --axis z --mass 1kg --band 25Hz 15Hz", "a band runs from one frequency to a higher one"),
    ("tune shelf.run --at pump --axis z --ratio 300%", "a mass ratio of 3 is no damper on the assembly; did you mean 3 %?"),
    ("compare shelf.run --adjust top", "expected 'MEMBER: stiffness 1.5, mass 0.9'"),
    ("compare shelf.run --adjust 'lid: mass 2'", 'changed: adjust, lid: there is no name "lid"'),
    ("compare shelf.run --adjust 'pump: stiffness 2'", "changed: adjust, pump: a point mass has no stiffness"),
    ("compare shelf.yaml --variant thinner", 'there is no variant "thinner"'),
    ("compare shelf.yaml other.yaml", "other.yaml: there is no such file"),
    ("compare shelf.yaml --with-state lying", 'there is no state "lying"'),
    ("study shelf.yaml --set parts/top/plate/thickness", '--set: expected PLACE = VALUES, such as "parts/deck/plate/thickness = 2, 3, 4 mm", got "parts/to'),
    ("study shelf.yaml --set 'parts/top/plate/thickness ='", '--set: expected PLACE = VALUES, such as "parts/deck/plate/thickness = 2, 3, 4 mm", got "parts/to'),
    ("study shelf.yaml --set 'parts/top/plate/thick = 3, 4 mm'", 'parameter "parts/top/plate/thick": parts, top, plate: unknown key "thick"'),
    ("study shelf.yaml --set 'parts/lid/plate/thickness = 3, 4 mm'", 'parameter "parts/lid/plate/thickness": there is no "lid" under parts'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 kg'", 'parameter "parts/top/plate/thickness": parts, top, plate, thickness: expected a length such as m'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3 to 4 mm'", 'parameter "parts/top/plate/thickness": a range needs how many values, such as 3 to 4 mm in 5; to'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3 to 4 mm in 1'", 'parameter "parts/top/plate/thickness": a range takes two or more values (at most 100,000) betwee'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = uniform 3 mm'", 'parameter "parts/top/plate/thickness": expected uniform LOW to HIGH UNIT, got uniform 3 mm'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = normal 3 mm +- 5 kg'", 'parameter "parts/top/plate/thickness": mean and deviation take one unit, or the deviation %, got'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --set 'parts/top/plate/thickness = 5 mm'", "--set: parts/top/plate/thickness is given twice"),
    ("study shelf.yaml --set 'parts/top/plate/thickness = uniform 3 to 4 mm'", 'parameter "parts/top/plate/thickness": a distribution is drawn from; say how many samples'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --save b.yaml", "--save as an assembly needs --wishes"),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --wishes pretty", 'wish "pretty": expected such as "lowest mode above 25 Hz", "mode 2 outside 40 Hz to 50 Hz", "ker'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --wishes 'lowest mode above 25 kg'", 'expected a frequency such as Hz, got "kg", which is of the dimension kg'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --read drop", 'reading "drop": expected an event, a colon and a gauge, such as "kerb strike: fan"'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --read 'drop: nobody'", 'there is no reading "nobody" of "drop"'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --read 'flood: pump z'", 'there is no event "flood"'),
    ("study shelf.yaml --set 'parts/top/plate/thickness = 3, 4 mm' --jobs 2 --scheduler tcp://h:1", "give --jobs (processes here) or --scheduler, not both"),
    ("study shelf.yaml --set 'parts/top/plate/divisions = 1 to 900 in 900' --set 'parts/top/plate/thickness = 1 to 900 mm in 900'", "810,000 variants are asked for, more than 20,000; give fewer values, or draw samples"),
    ("study shelf.yaml --set 'parts/top/plate/thickness = geometric 0 to 4 mm in 3'", 'parameter "parts/top/plate/thickness": parts, top, plate, thickness: expected a length such as m'),
    ("study shelf.yaml --scatter --set 'parts/top/plate/thickness = 3, 4 mm'", 'parameter "parts/top/plate/thickness": scatter takes a distribution (normal 3 mm +- 5 %, lognorm'),
    ("study shelf.yaml --scatter --set 'parts/top/plate/thickness = normal 5 mm +- 3 %' --jobs 2", "--jobs and --scheduler are for --samples"),
    ("study shelf.yaml --set parts/top/plate/thickness --mode 1 --target '30 kg'", 'frequency: expected a frequency such as Hz, got "kg", which is of the dimension kg'),
    ("study shelf.yaml --set parts/top/plate/cells --mode 1 --target 30Hz", 'parameter "parts/top/plate/cells": the description writes no number there to start from'),
    ("study shelf.yaml --set parts/lid --mode 1 --target 30Hz", 'parameter "parts/lid": the description writes no number there to start from'),
    ("study shelf.yaml --mesh 1", "meshes are refined by factors above 1, such as 1.5 and 2"),
    ("study shelf.yaml --mesh 0.5", "meshes are refined by factors above 1, such as 1.5 and 2"),
    ("study shelf.yaml --mesh -2", "meshes are refined by factors above 1, such as 1.5 and 2"),
    ("shock gone.csv --match", "gone.csv: there is no such file"),
    ("shock target.csv --match --duration '1 ms'", "three half-cycles of the lowest frequency, 1 Hz, take 1.5 s; the record of 0.001 s is too short:"),
    ("shock shelf.yaml --match", 'shelf.yaml, line 1: the column "holokine:" cannot be understood; write for instance frequency_hz'),
    ("shock gone.csv", "gone.csv: there is no such file"),
    ("shock record.csv --low 50Hz --high 20Hz", "frequencies must rise from above 0, got 50 to 20 Hz, 22 per octave"),
    ("shock record.csv --damping -1", "record.csv: damping ratios lie from 0 to below 1"),
    ("shock record.csv --of jerk", 'of: there is no quantity "jerk"'),
    ("shock record.csv --table 'spectrum sides=left'", 'there is no side "left"'),
    ("shock shelf.run --event drop", "--event and --gauge go together"),
    ("shock shelf.run --event quake --gauge 'pump z'", "shock spectra are taken of histories; this event is one of response spectra (spectrum, support s"),
    ("shock shelf.run --event drop --gauge sway", '"sway": name one component of an acceleration gauge'),
    ("shock shelf.run --event drop --gauge nobody", 'there is no gauge "nobody"'),
    ("shock record.csv --event drop", "--event and --gauge go together"),
    ("respond shelf.run quake --against-rules", "--against-rules belongs to events in time"),
    ("modes shelf.run --save a.txt", "this is saved as .csv"),
    ("modes shelf.run --save nowhere/a.html", "nowhere/a.html: there is no folder"),
    ("report shelf.run a.html --sections weather", 'a report has no section "weather"'),
    ("report shelf.run a.html --events flood", 'there is no event "flood"'),
    ("report shelf.run a.html --text gone.md", "gone.md: cannot be read (No such file or directory)"),
    ("report shelf.run a.html --workbook a.csv", "a.csv: the workbook's name must end with .xlsx"),
    ("report shelf.run shelf.yaml", "shelf.yaml: the page's name must end with .html"),
    ("formula pendulum", 'there is no formula "pendulum"'),
    ("formula beam length=1m", 'formula "beam": E, I, mass_per_length missing; for instance length=1m E=205GPa I=1.5e-7m^4 mass_'),
    ("formula beam length=1kg", 'formula "beam": E, I, mass_per_length missing; for instance length=1m E=205GPa I=1.5e-7m^4 mass_'),
    ("formula beam length", '"length": inputs are written name=value, such as length=1m'),
    ("formula beam length=1m ends=nailed", 'formula "beam": E, I, mass_per_length missing; for instance length=1m E=205GPa I=1.5e-7m^4 mass_'),
    ("state shelf.yaml --buckling --modes 0 --factors 0.5", "--factors needs modes to follow (--modes)"),
    ("state shelf.yaml --buckling --factors many", "Invalid value for '--factors': 'many' is not a valid float."),
    ("dance", 'there is no command "dance"'),
    ("shock record.csv --q 0", "q: a quality factor must be greater than 0.5"),
    ("shock record.csv --per-octave 10000 --high 900kHz", "in all; take fewer, or a narrower range"),
    ("respond", "Missing argument 'ASSEMBLY'"),
    ("study shelf.yaml --scatter --set 'title = normal 5 mm +- 3 %'", "is a text, not a number that could vary by degrees"),
    ("study shelf.yaml --set 'gauges/sway/axis = 1 to 3 mm in 3'", '"x" is a text, not a number that could vary by degrees'),
]  # fmt: skip


CALLS = [
    ("m.respond('flood')", "UnknownNameError", 'there is no event "flood"'),
    ("m.respond({})", "DescriptionError", "the event given: an event: give exactly one of spectrum, support spectra, pulse, support pulses, loa"),
    ("m.respond({'spectrum': {'x': {'frequency': [1, 2], 'acceleration': [1, 1]}}, 'pulse': {}})", "DescriptionError", "the event given: an event: give exactly one of spectrum, support spectra, pulse, support pulses, loa"),
    ("m.respond({'wave': 1})", "DescriptionError", "the event given: an event: give exactly one of spectrum, support spectra, pulse, support pulses, loa"),
    ("m.respond({'random': {'z': {'frequency': [5, 200], 'density': [1e-2, 1e-2]}}, 'damping': 0})", "EventError", 'event "event": the mode at 5.547 Hz has no damping, under which random vibration grows without bound'),
    ("m.respond({'spectrum': {'x': {'frequency': [20, 30], 'acceleration': [1, 1]}}})", "EventError", 'event "event", spectrum x: 7 of the modes lie outside the table of 20 to 30 Hz: 4.93, 5.547, 12.34,'),
    ("m.respond({'sweep': [5, 50], 'base': {'y': 1, 'z': 1}, 'damping': 0.0})", "EventError", "the sweep passes 2 modes without damping, whose answer is infinite: 5.547 Hz, 21.42 Hz"),
    ("m.respond({'pulse': {'z': {'half sine': {'peak': 1, 'duration': 0.01}}}, 'step': 1e-9})", "EventError", 'event "event": 2.128323e+08 rows would be needed, and 2,000,000 are the most; give a longer step, a'),
    ("m.enough(1.5)", "DescriptionError", "a share of mass lies between 0 and 100 %, got 1.5"),
    ("m.enough(0.9, ['w'])", "DescriptionError", 'unknown direction "w"; directions are x y z rx ry rz'),
    ("m.table('energy', ['nobody'])", "UnknownNameError", 'there is no group "nobody"'),
    ("m.scaled('heavy')", "UnitError", "to: expected an energy such as J, got 'heavy'"),
    ("m.table('peak_at_energy', '5 kg')", "UnitError", 'energy: expected an energy such as J, got "kg", which is of the dimension kg'),
    ("m.table('points', scale='big')", "UnitError", "to: expected an energy such as J, got 'big'"),
    ("m.picture('x.png', mode=99)", "UnknownNameError", "there is no mode 99: modes 1 to 8 were extracted"),
    ("m.picture('x.png', mode=1, colour='heat')", "HolokineError", 'colour: expected displacement, energy or stress, got "heat"'),
    ("m.save('x.gif', mode=99)", "UnknownNameError", "there is no mode 99: modes 1 to 8 were extracted"),
    ("m.save('x.avi')", "OutputError", "x.avi: this result is saved as"),
    ("m.picture('x.png', mode=list(range(1, 20)))", "UnknownNameError", "there is no mode 9: modes 1 to 8 were extracted"),
    ("m.respond('quake').against_rules()", "AttributeError", 'have no "against_rules"; it belongs to answers to events in time'),
    ("m.save('/nowhere/x.run')", "RunFileError", "/nowhere/x.run: there is no folder /nowhere"),
    ("t.table('history', 'nobody')", "UnknownNameError", 'there is no gauge "nobody"'),
    ("t.deformed('9 s')", "EventError", "the history runs from -0.0006 to 0.206 s; 9 s lies outside"),
    ("t.deformed('soon')", "UnitError", "at: expected a time such as s, got 'soon'"),
    ("t.save('x.avi')", "OutputError", "x.avi: this result is saved as"),
    ("t.shock('sway x')", "EventError", '"sway x": name one component of an acceleration gauge'),
    ("t.shock('pump')", "EventError", '"pump": name one component of an acceleration gauge: pump x, pump y, pump z'),
    ("t.table('transfer', 'pump z')", "UnknownNameError", 'answers to events in time (pulse, support pulses, loads, let go) have no table "transfer"'),
    ("t.table('resonances')", "UnknownNameError", 'answers to events in time (pulse, support pulses, loads, let go) have no table "resonances"'),
    ("s.table('history', 'pump z')", "UnknownNameError", 'answers to response spectra (spectrum, support spectra) have no table "history"'),
    ("s.save('x.gif')", "OutputError", "x.gif: this result is saved as"),
    ("s.shock('pump z')", "AttributeError", 'answers to response spectra (spectrum, support spectra) have no "shock"'),
    ("w.deformed('500 Hz')", "EventError", "the sweep runs from 5 to 200 Hz; 500 Hz lies outside"),
    ("w.deformed('5 ms')", "UnitError", 'at: expected a frequency such as Hz, got "ms", which is of the dimension s'),
    ("w.table('history', 'pump z')", "UnknownNameError", 'answers to sine sweeps (sweep) have no table "history"'),
    ("w.save('x.gif', window=(0, 1))", "EventError", "steady vibration has no time window: its film is one cycle"),
    ("r.table('density', 'nobody')", "UnknownNameError", 'there is no gauge "nobody"'),
    ("r.table('history', 'pump z')", "UnknownNameError", 'answers to random vibration (random) have no table "history"'),
    ("r.deformed('1 s')", "AttributeError", 'answers to random vibration (random) have no "deformed"'),
    ("a.modes(0)", "DescriptionError", "count: expected a whole number of at least 1, got 0"),
    ("a.modes(count=3, upto='-5 Hz')", "SolverError", "shelf.yaml: the upper frequency must be greater than 0 Hz, got -5"),
    ("a.modes(near='50 Hz', above='2 Hz')", "SolverError", "shelf.yaml: give a frequency to look around, or a range, not both"),
    ("a.modes(upto='5 kg')", "UnitError", 'upto: expected a frequency such as Hz, got "kg", which is of the dimension kg'),
    ("a.variant('thinner')", "UnknownNameError", 'there is no variant "thinner"'),
    ("a.changed({'part': {}})", "UnknownKeyError", 'changed: unknown key "part"'),
    ("a.changed({'parts': {'lid': {}}})", "DescriptionError", "changed: parts, lid: a part has one geometry: give exactly one of beam, cable, ring, plate, cylinder, box,"),
    ("a.point('p', [0, 0])", "DescriptionError", "points, p, at: expected three lengths [x, y, z], got [0, 0]"),
    ("a.part('q', beam={}, plate={})", "DescriptionError", 'parts, q, beam: the key "through" is missing'),
    ("a.part('q')", "DescriptionError", "parts, q: a part has one geometry: give exactly one of beam, cable, ring, plate, cylin"),
    ("a.gauge('g')", "DescriptionError", "gauges, g: a gauge has one kind: give exactly one of displacement, rotation, ve"),
    ("a.event('e')", "DescriptionError", "events, e: an event: give exactly one of spectrum, support spectra, pulse, supp"),
    ("a.load('l')", "DescriptionError", "loads, l: a load: give exactly one of gravity, force or moment, pressure, move"),
    ("a.mass('m', at='pump', mass=-1)", "DescriptionError", "masses, m, mass: must be at least 0, got -1"),
    ("a.support('s', at='f1')", "DescriptionError", "supports, s: holds no direction; directions are x y z rx ry rz, or all; one-way"),
    ("a.band('b')", "DescriptionError", "bands, b: a band: give exactly one of range, speed (got none)"),
    ("a.damping(-1)", "DescriptionError", "damping, ratio: must be at least 0, got -1"),
    ("a.damping({'table': []})", "DescriptionError", "damping: the table has no row"),
    ("a.save('/nowhere/x.yaml')", "OutputError", "/nowhere/x.yaml: cannot be written (No such file or directory)"),
    ("a.about('lying')", "UnknownNameError", 'there is no state "lying"'),
    ("a.state('lying')", "UnknownNameError", 'there is no state "lying"'),
    ("hk.Assembly.read('/nowhere.yaml')", "DescriptionError", "/nowhere.yaml: there is no such file"),
    ("hk.Assembly.read('/tmp')", "DescriptionError", "/tmp: is a folder, not a file"),
    ("hk.open_run('/nowhere.run')", "RunFileError", "/nowhere.run: there is no such file"),
    ("hk.open_run('shelf.yaml')", "RunFileError", "shelf.yaml: is not a run file"),
    ("a.study({})", "DescriptionError", "nothing is varied: name a parameter with its values"),
    ("a.study({'parts/top/plate/thickness': []})", "DescriptionError", 'parameter "parts/top/plate/thickness": expected values, such as 2, 3, 4 mm'),
    ("a.study({'parts/top/plate/thickness': ['3 mm']}, samples=1)", "DescriptionError", "a hypercube takes two samples at least, got 1"),
    ("a.scatter({})", "DescriptionError", "nothing scatters: name a parameter with its distribution"),
    ("a.scatter({'parts/top/plate/thickness': '3 mm'})", "DescriptionError", 'parameter "parts/top/plate/thickness": scatter takes a distribution (normal 3 mm +- 5 %, lognormal,'),
    ("a.converge(times=[1.0])", "DescriptionError", "meshes are refined by factors above 1, such as 1.5 and 2"),
    ("a.converge(times=[])", "DescriptionError", "meshes are refined by factors above 1, such as 1.5 and 2"),
    ("a.target('parts/top/plate/thickness', mode=1, frequency='-3 Hz')", "DescriptionError", "a mode is brought to a frequency above zero, got -3 Hz"),
    ("a.target('parts/top/plate/thickness', mode=0, frequency='30 Hz')", "DescriptionError", "mode: expected a whole number of at least 1, got 0"),
    ("a.coordinates('nowhere')", "UnknownNameError", 'there is no part or point "nowhere" with nodes'),
    ("hk.match({'frequency': [1, 2], 'acceleration': [1]})", "DescriptionError", "spectrum: the columns have 2 and 1 values"),
    ("hk.formula('beam')", "DescriptionError", 'formula "beam": length, E, I, mass_per_length missing'),
    ("hk.formula('pendulum', length=1)", "UnknownNameError", 'there is no formula "pendulum"'),
    ("hk.formula('beam', length=1, E=2e11, I=1e-8, mass_per_length=1, ends='free')", "DescriptionError", 'ends: expected two of fixed, pinned, sliding, free with a hyphen, such as fixed-free, got "free"'),
    ("hk.formula('beam', length=-1, E=2e11, I=1e-8, mass_per_length=1)", "DescriptionError", 'formula "beam", length: must be greater than 0, got -1'),
    ("hk.formula('beam', length=1, E=2e11, I=1e-8, mass_per_length=1, colour=2)", "UnknownNameError", 'formula "beam": there is no input "colour"'),
    ("a.modes(2).compare(3)", "TypeError", "compare takes the modes of another run, such as assembly.modes(), got 3"),
    ("m.table('sensitivities', change=0)", "DescriptionError", "change: a share of stiffness or mass above -100 % and not 0, got 0"),
    ("m.table('sensitivities', change=-1.5)", "DescriptionError", "above -100 % and not 0, got -1.5"),
]  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Path:
    made = tmp_path_factory.mktemp("shelf")
    (made / "shelf.yaml").write_text(SHELF)
    hk.Assembly.read(made / "shelf.yaml").modes().save(made / "shelf.run")
    (made / "notes.md").write_text("# hello\n")
    (made / "target.csv").write_text("frequency_hz,acceleration_g\n1,0.5\n10,2\n500,2\n")
    rows = "".join(f"{k / 1000},{k % 7 - 3}\n" for k in range(400))
    (made / "record.csv").write_text(f"time_s,acceleration_g\n{rows}")
    return made


def test_commands_refuse_what_cannot_be_and_write_nothing(folder, monkeypatch):
    """Options against one another, names that are not there, numbers out of range: exit code 2 and what would do."""
    monkeypatch.chdir(folder)
    before = {p.name: p.read_bytes() for p in folder.iterdir()}
    fell_short = []
    for line, words in COMMANDS:
        done = inside(*shlex.split(line))
        told = " ".join(done.stderr.split())
        if done.returncode != 2 or " ".join(words.split()) not in told or done.stdout:
            fell_short.append(f"{line}: {done.returncode}: {told[:300]}")
    assert not fell_short, "\n".join(fell_short)
    assert {p.name: p.read_bytes() for p in folder.iterdir()} == before


def written(document: str, path: str, value: Any, folder: Path) -> tuple[Path, tuple[str, ...]]:
    """A document with one value changed, every key on a line of its own."""
    data, steps = copy.deepcopy(ek.DOCUMENTS[document]), tuple(path.split("/"))
    here = data
    for step in steps[:-1]:
        here = here[step]
    here[steps[-1]] = value
    file = folder / f"{document}.yaml"
    file.write_text(dumped(data, flow=False, width=10**6))
    return file, steps


def refusal(file: Path, steps: tuple[str, ...]) -> str:
    """What is said of it: when it is read, checked, or answered."""
    try:
        assembly = hk.Assembly.read(file)
        wrong = [f.text for f in assembly.check().findings if f.level == "error"]
        if wrong:
            return wrong[0]
        if steps[0] == "events":
            assembly.modes(count=4).respond(steps[1])
    except HolokineError as err:
        return str(err)
    return "nothing"


@pytest.mark.parametrize("document", REFUSED)
def test_what_the_schema_refuses_is_told_with_line_key_and_remedy(document, tmp_path):
    ek.write_files(tmp_path)
    fell_short = []
    for path, value, words in REFUSED[document]:
        file, steps = written(document, path, value, tmp_path)
        told = refusal(file, steps)
        lines = read_yaml(file).lines
        found = re.match(rf"{file.name}, line (\d+): ", told)
        around = steps[: min(2, len(steps))]
        here = {at for at, line in lines.items() if found and line == int(found[1])}
        if words not in told:
            fell_short.append(f"{path} = {value}: {told}")
        elif found and not any(at[: len(around)] == around or around[: len(at)] == at for at in here):
            fell_short.append(f"{path} = {value}: line {found[1]} is of {here}")
        elif not found and "record.csv, line 1" not in told:  # a column is missed where it should be
            fell_short.append(f"{path} = {value}: no line in {told}")
        elif found and steps[-1] not in told and steps[min(1, len(steps) - 1)] not in told:
            fell_short.append(f"{path} = {value}: no key in {told}")
        elif re.search(r"Input should|validation|Tuple|NoneType|\bdict\b|<class", told):
            fell_short.append(f"{path} = {value}: in words of Python: {told}")
    assert not fell_short, "\n".join(fell_short)


@pytest.mark.parametrize("number", range(0, 120, 17))
def test_commands_say_the_same_and_end_with_two(number, tmp_path):
    """Whatever the command, the same words as in Python, exit code 2, and nothing written."""
    ek.write_files(tmp_path)
    path, value, words = REFUSED["frame"][number]
    file, _ = written("frame", path, value, tmp_path)
    before = sorted(p.name for p in tmp_path.iterdir())
    for command in (
        ["modes", str(file), "--out", str(tmp_path / "out")],
        ["modes", str(file), "--save", str(tmp_path / "a.html")],
    ):
        done = inside(*command)
        assert done.returncode == 2, (path, done.stdout)
        assert done.stderr.startswith("holokine: error: frame.yaml, line ")
        assert words in done.stderr
        assert done.stdout == ""
    assert sorted(p.name for p in tmp_path.iterdir()) == before


def test_calls_refuse_what_cannot_be_by_the_name_of_the_argument(folder, monkeypatch):
    """From Python: errors of ours (of Python where an attribute or a type is wrong), and the assembly as it was."""
    monkeypatch.chdir(folder)
    m = hk.open_run("shelf.run")
    names = {
        "hk": hk,
        "m": m,
        **{k: m.respond(e) for k, e in {"t": "drop", "s": "quake", "w": "test", "r": "ship"}.items()},
    }
    before = {p.name: p.read_bytes() for p in folder.iterdir()}
    fell_short = []
    for call, kind, words in CALLS:
        names["a"] = a = hk.Assembly.read("shelf.yaml")
        was = a.document.data
        try:
            eval(call, dict(names))  # the table's own text
            fell_short.append(f"{call}: accepted")
        except Exception as err:
            if type(err).__name__ != kind or words not in str(err):
                fell_short.append(f"{call}: {type(err).__name__}: {err}")
        if a.document.data != was:
            fell_short.append(f"{call}: changed the assembly")
    assert not fell_short, "\n".join(fell_short)
    assert {p.name: p.read_bytes() for p in folder.iterdir()} == before


def test_findings_of_check_tell_file_and_line_where_there_is_a_file(tmp_path):
    """Errors about entries (a load on nothing, a gauge, a limit) by their line; made in Python the same without one."""
    ek.write_files(tmp_path)
    changes = {
        "loads/wind/on": ({"part": "beam"}, "loads", "wind"),
        "limits/wall r": ({"q": 5}, "limits", "wall r"),
        "gauges/cut f/plane": ({"at": [90000, 0, 0], "normal": "x"}, "gauges", "cut f"),
    }
    for path, (value, table, name) in changes.items():
        file, _ = written("frame", path, value, tmp_path)
        told = [f.text for f in hk.Assembly.read(file).check().findings if f.level == "error"]
        line = read_yaml(file).lines[(table, name)]
        assert len(told) == 1, told
        assert told[0].startswith(f"frame.yaml, line {line}: {table[:-1]} "), told
        assert f'"{name}"' in told[0]
        assert not hk.Assembly.read(file).check().ok
    made = hk.Assembly().material("m", E=2e11, nu=0.3, density=7800).point("a", [0, 0, 0]).point("b", [1, 0, 0])
    made.section("s", rod={"diameter": 0.02}).part("b", beam={"through": ["a", "b"], "section": "s"}, material="m")
    made.support("root", at="a", hold="all").load("wind", pressure=5.0, on={"part": "b"}, towards="z")
    (told,) = [f.text for f in made.check().findings if f.level == "error"]
    assert told == 'load "wind": no face lies in the selection; name a part of shells or solids'
    good = hk.Assembly.read(ek.write(ek.FRAME, tmp_path / "good.yaml"))
    assert good.check().ok
    assert not [f for f in good.check().findings if f.level == "error"]
    file, _ = written("frame", "limits/wall r", {"q": 5}, tmp_path)
    done = inside("check", str(file))
    assert done.returncode == 1
    assert 'limit "wall r": the gauge has no component "q"; it has x, y, z, magnitude' in " ".join(done.stdout.split())
    data = json.loads(inside("check", str(file), "--json").stdout)
    assert [f["level"] for f in data["findings"]].count("error") == 1
    assert inside("check", str(tmp_path / "good.yaml")).returncode == 0
