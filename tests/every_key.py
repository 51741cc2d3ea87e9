# ruff: noqa: E501 - data in rows
"""Small assemblies that between them use every key of the schema, and a change of every value in them."""

from __future__ import annotations

import copy
import json
import re
import types
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any, Union, get_args, get_origin

import meshio
import numpy as np
import scipy.io
from pydantic import BaseModel
from scipy.sparse import csr_array

import holokine as hk
from holokine.describe.events import EVENT_KINDS, EventKind
from holokine.describe.schema import Description

SPECTRUM = "frequency_hz,acceleration_g\n1,0.3\n20,4\n4000,2\n"
RECORD = "time_s,left [g],right [g]\n0,0,0\n0.004,2,1\n0.008,0,0.5\n0.010,0,0\n"

FRAME: dict[str, Any] = {
    "holokine": 1, "title": "Frame", "units": {"length": "mm", "force": "N"},
    "materials": {"steel": {"E": "205 GPa", "nu": 0.29, "density": "7840 kg/m^3", "loss factor": "1 %"},
                  "other": {"E": "70 GPa", "G": "26 GPa", "density": "2700 kg/m^3"},
                  "ply": {"orthotropic": {"E": ["40 GPa", "10 GPa", "10 GPa"], "G": ["4 GPa", "3 GPa", "4 GPa"],
                                          "nu": [0.3, 0.2, 0.1]}, "density": "1800 kg/m^3"}},
    "sections": {"bar": {"rectangle": {"width": 30, "height": 20}, "shear factors": [0.8, 0.7], "torsion constant": 9000},
                 "slim": {"rectangle": {"width": 24, "height": 14}, "shear factors": [0.8, 0.7],
                          "torsion constant": 5000}, "hoop": {"pipe": {"diameter": 20, "wall": 2}}},
    "points": {"a": [0, 0, 0], "b": [400, 0, 0], "c": [800, 0, 0], "d": [800, 0, 200], "e": {"at": [800, 0, 200.0],
               "apart": True}, "g": [400, 300, 150], "eye": [200, 0, 0], "h": [230, 130, 40], "idle": [9000, 0, 0]},
    "parts": {
        "beam": {"beam": {"through": ["a", "b", "c"], "section": "bar", "up": "z", "divisions": [4, 4],
                          "offset": {"start": [0, 0, 2], "end": [0, 0, 1]}, "eccentricity": [3, 2],
                          "release": {"start": ["rx"], "end": ["ry"]}, "theory": "timoshenko", "preload": 200},
                 "material": "steel"},
        "post": {"beam": {"through": ["c", "d"], "section": "bar", "end section": "slim", "up": "x", "size": 90}, "material": "other"},
        "plate": {"plate": {"corner": [0, 0, 0], "sides": [[400, 0, 0], [0, 300, 0]], "divisions": [4, 3], "thickness": 4,
                            "offset": 3, "area mass": "5 kg/m^2", "shear factor": 0.8, "tension": [20, 10],
                            "refine": [{"side": 1, "start": 0.25, "end": 0.5, "times": 2}], "cells": "quads",
                            "holes": [{"at": [250, 200], "size": [60, 50]}]},
                  "material": "ply", "axes": {"x": "x", "y": "y"}, "merge": True},
    },
    "masses": {"probe": {"at": "h", "mass": "0.2 kg"}, "unit": {"at": "g", "mass": "3 kg", "inertia": ["0.01 kg m^2", "0.012 kg m^2", "0.02 kg m^2"],
                        "offset": [0, 5, 0]}},
    "springs": {"stay": {"between": ["d", "ground"], "stiffness": 60, "damping": 0.02, "loss factor": "4 %",
                         "axis": "x"}},
    "bushings": {"pad": {"between": ["d", "e"], "stiffness": {"x": 100, "y": 120, "z": 150, "rx": "20 N m",
                         "ry": "20 N m", "rz": "20 N m"}, "damping": {"x": 0.01, "y": 0.01, "z": 0.015}, "loss factor": "6 %",
                         "axes": {"x": "x", "y": "y"}}},
    "links": {"patch": {"area": "h", "to": {"part": "plate", "box": [[200, 100, -1], [260, 160, 1]]}},
              "feet": {"rigid": "g", "to": {"part": "plate", "box": [[90, 190, -1], [210, 310, 1]]}},
              "hold": {"averaging": "e", "to": {"part": "plate", "box": [[290, -1, -1], [401, 110, 1]]}}},
    "supports": {"wall": {"at": "a", "hold": "all"},
                 "edge": {"at": {"group": "panels", "plane": {"at": [0, 0, 0], "normal": "x", "within": 1}},
                          "hold": ["x", "y", "z"]}},
    "groups": {"panels": ["plate"], "bars": ["beam", "post"]},
    "gauges": {
        "unit a": {"acceleration": "g", "axis": "z"}, "unit u": {"displacement": "g", "relative to": "b"},
        "unit v": {"velocity": "g", "motion": "relative"}, "turn": {"rotation": "b"},
        "at eye": {"displacement": "eye"},
        "pad f": {"force": "pad"}, "pad m": {"moment": "pad"}, "pad d": {"damper force": "pad"},
        "pad t": {"total force": "stay"}, "wall r": {"reaction": "wall"}, "wall m": {"reaction moment": "edge"},
        "both": {"reaction moment": ["wall", "edge"], "about": "g", "axis": [1, 0, 1]},
        "wall e": {"reaction": "wall", "point": "a", "portion": "elastic"},
        "wall p": {"reaction moment": "wall", "by point": True},
        "root f": {"beam force": "beam", "end": "start"}, "root m": {"beam moment": "beam", "end": "end"},
        "fibre": {"stress": "beam", "end": "start"}, "skin": {"stress": "plate", "surface": "top", "at": "centre",
                                                             "component": "equivalent"},
        "cut f": {"cut force": "bars", "plane": {"at": [250, 0, 0], "normal": "x"}},
        "cut m": {"cut moment": "beam", "plane": {"at": [250, 0, 0], "normal": "x"}},
    },
    "limits": {"unit a": "20 g", "wall r": {"z": 500}},
    "loads": {"weight": {"gravity": "-z", "size": "1 g", "tilted": {"x": "3 deg"}}, "push": {"at": "b", "force": [0, 10, -50], "moment": [0, 500, 0]},
              "wind": {"pressure": "2 kPa", "on": {"part": "plate"}, "towards": "-z"},
              "settle": {"supports": "wall", "move": {"z": -0.5}}},
    "damping": "2 %",
    "events": {
        "shock": {"spectrum": {"z": "shock.csv", "x": {"frequency": [1, 20, 4000], "acceleration": ["0.3 g", "4 g", "2 g"],
                               "scale": 0.5, "broaden": "5 %", "floor": "0.1 g", "damping": "2 %"}},
                  "combine": "cqc", "directions": "srss", "interpolate": "log-log", "outside": "hold",
                  "rigid between": [30, 60], "missing mass": True, "over missing mass": "absolute",
                  "zero period acceleration": {"x": "1 g", "z": "2 g"},
                  "damping": "3 %", "upto": "2 kHz"},
        "apart": {"support pulses": {"west": {"supports": ["wall"], "pulse": {"x": {"rectangle": {"peak": "2 g",
                  "duration": "9 ms"}}}}}, "ring down": "20 ms"},
        "jolt": {"pulse": {"z": {"rectangle": {"peak": "3 g", "duration": "8 ms", "start": "1 ms"}},
                           "x": {"file": "record.csv", "column": "left [g]", "scale": 0.5, "delay": "2 ms"}},
                 "loads": {"push": {"step": {"rise": "3 ms", "peak": 0.5}}}, "ring down": "60 ms", "step": "1 ms",
                 "start from": "rest", "static correction": True, "method": "modes",
                 "damping": ["3 %", "2 %"], "upto": "2 kHz"},
        "uneven": {"sweep": [5, 60], "support swings": {"west": {"supports": ["wall"], "base": {"x": "1 mm"}}}},
        "rough": {"support densities": {"west": {"supports": ["wall"], "random": {
                  "x": {"frequency": [5, 60], "density": ["0.01 g^2/Hz", "0.02 g^2/Hz"]}}}}},
        "rest": {"static": {"weight": 1.0, "wind": 0.5}},
        "sunk": {"static": ["settle", "push"]},
    },
    "modes": {"count": 8, "upto": 900.0},
    "bands": {"fan": {"speed": "1440 rpm", "harmonics": [1, 2], "margin": "10 %"}, "rail": {"range": [20, 90]}},
    "mass matrix": "consistent", "merge tolerance": 0.01, "massless": ["rz"],
}  # fmt: skip

BLOCKS: dict[str, Any] = {
    "holokine": 1,
    "materials": {"m": {"E": "70 GPa", "nu": 0.3, "density": "2700 kg/m^3"}, "soft": {"E": "7 GPa", "nu": 0.3,
                                                                                     "density": "1200 kg/m^3"}},
    "sections": {"ring": {"rod": {"diameter": "12 mm"}}},
    "parts": {
        "box": {"box": {"corner": [0, 0, 0], "sides": [[0.2, 0, 0], [0, 0.1, 0], [0, 0, 0.1]], "divisions": [3, 2, 2],
                        "cells": "bricks", "quadratic": False, "refine": [{"side": 1, "start": 0.0, "end": 0.4,
                                                                           "times": 2}]}, "material": "m"},
        "tube": {"tube": {"base": [0, 0, 0.3], "axis": "z", "inner": 0.03, "outer": 0.05, "length": 0.1, "angle": "90 deg",
                          "start": "x", "divisions": [1, 2, 2]}, "material": "m"},
        "drum": {"cylinder": {"base": [0.5, 0, 0], "axis": "z", "radius": 0.05, "end radius": 0.04, "length": 0.1,
                              "angle": "180 deg", "start": "x", "divisions": [4, 2], "thickness": 0.002,
                              "cells": "triangles"}, "material": "m"},
        "hoop": {"ring": {"centre": [1, 0, 0], "axis": "z", "radius": 0.1, "section": "ring", "divisions": 8,
                          "theory": "timoshenko"}, "material": "m"},
        "bar": {"extrusion": {"origin": [0, 0, 0.6], "plane": {"x": "x", "y": "y"}, "length": 0.1, "size": 0.05,
                              "outline": [[0, 0], [0.1, 0], [0.1, 0.1], [0, 0.1]],
                              "holes": [{"at": [0.05, 0.05], "size": [0.04, 0.04]}]}, "material": "m"},
        "sheet": {"mesh": {"file": "sheet.vtu", "unit": "mm", "only": {"side": 1}, "shell": {"thickness": 0.003},
                           "up": "z"}, "material": "m"},
        "wire": {"mesh": {"file": "wire.vtu", "section": "ring", "up": "z", "beams": {
            "half=2": {"section": "ring", "up": "y", "theory": "timoshenko", "preload": 100, "eccentricity": [0.002, 0],
                       "release": {"end": ["rx"]}}}}, "material": "m"},
        "wall": {"plate": {"corners": [[0, 0.4, 0], [0.2, 0.4, 0], [0.2, 0.4, 0.2], [0, 0.4, 0.2]], "size": 0.07,
                           "thickness": 0.003, "holes": [{"at": [0.1, 0.1], "diameter": 0.09}]}, "material": "m"},
    },
    "points": {"tip": [0.2, 0.1, 0.1]},
    "joints": {
        "bolt": {"between": [{"part": "box", "plane": {"at": [0, 0, 0.1], "normal": "z"}},
                             {"part": "tube", "plane": {"at": [0, 0, 0.3], "normal": "z"}, "link": "averaging"}],
                 "kind": "rigid", "release": ["rz"], "stiffness": {"x": 2e6}, "damping": {"x": 20000}, "loss factor": "5 %",
                 "axes": {"x": "y", "y": "z"}},
        "steady": {"between": [{"part": "tube", "plane": {"at": [0, 0, 0.4], "normal": "z"}}, "tip"], "kind": "ball"},
        "near": {"between": [{"part": "drum", "nearest": [0.5, 0, 0], "count": 3}, {"to": "tip", "link": "rigid"}]},
        "over": {"between": [{"part": "hoop", "nearest": [1, 0, 0]}, "tip"]},
        "up": {"between": [{"part": "bar", "normal": {"along": "-z", "within": "10 deg"}}, "tip"]},
        "by": {"between": [{"part": "sheet", "set": "side=1", "cylinder": {"base": [0, 0.2, 0], "axis": "z",
                            "radius": 0.11, "length": 0.01, "surface": False}}, "tip"]},
        "to wire": {"between": [{"part": "wire", "nearest": [0.2, 0.3, 0]}, "tip"]},
        "wire end": {"between": [{"part": "wire", "nearest": [0.4, 0.3, 0]}, "tip"]},
    },
    "ties": {"seam": {"nodes": {"part": "wall", "plane": {"at": [0, 0, 0], "normal": "z"}}, "faces": "sheet",
                      "within": 0.35}},
    "supports": {"foot": {"at": {"part": "box", "plane": {"at": [0, 0, 0], "normal": "z"}}, "hold": ["x", "y", "z"]},
                 "stand": {"at": {"part": "hoop", "nearest": [1.1, 0, 0]}, "hold": ["z"]}},
    "gauges": {"core": {"stress": "box", "at": "nodes", "component": "equivalent"}, "stand": {"reaction": "stand"}, "tip": {"acceleration": "tip"},
               "bolt": {"force": "bolt"}},
    "damping": {"composite": {"m": "3 %", "drum": "3 %", "default": "2 %"}},
    "modes": {"count": 5},
    "events": {
        "levels": {"spectrum": {
            "z": {"levels": {"2 %": {"period": [0.0001, 1], "velocity": [0.1, 0.2]},
                             "5 %": {"frequency": [1, 9000], "displacement": [0.02, 0.00001]}}, "scale": 1.1},
            "x": {"envelope": [{"text": "f [Hz]; a [g]\n1; 0.5\n9000; 1\n"}, "shock.csv"]}}, "outside": "hold",
            "missing mass": False},
        "train": {"pulse": {
            "x": {"sum": [{"sine": {"peak": 10, "frequency": 40, "cycles": 6, "window": "ramp", "ramp": 2, "start": 0.01}},
                          {"decaying sine": {"peak": 5, "frequency": 60, "damping": 0.2}}]},
            "y": {"table": {"time": [0, 0.01, 0.02], "acceleration": [0, 4, 0]}},
            "z": {"trapezoid": {"peak": 6, "duration": 0.02, "rise": 0.004, "fall": 0.003}}},
            "method": "generalised alpha", "high frequency damping": "30 %", "ring down": "50 %", "step": 0.0005},
        "chirp": {"pulse": {"x": {"chirp": {"peak": 4, "range": [40, 90], "duration": 0.02, "sweep": "linear",
                                            "window": "hann"}},
                            "y": {"versed sine": {"peak": 3, "duration": 0.01}}}, "ring down": 0.02, "step": 0.001},
        "apart": {"support spectra": {
                      "foot": {"supports": ["foot"], "displacement": {"z": 0.001}, "spectrum": {"z": {"corners": {
                          "range": [1, 9000], "acceleration": "2 g", "velocity": "21 mm/s", "displacement": "0.03 mm"}}}},
                      "stand": {"supports": ["stand"], "spectrum": {"z": "shock.csv"}}},
                  "over supports": "srss", "over displacement": "absolute", "combine": "double sum", "duration": "8 s",
                  "outside": "hold"},
    },
}  # fmt: skip

SHAPES: dict[str, Any] = {
    "holokine": 1,
    "materials": {"m": {"E": 2e11, "nu": 0.3, "density": 7800}},
    "points": {f"p{i}": [0.5 * i, 0, 0] for i in range(9)},
    "sections": {
        "s0": {"tube": {"width": 0.05, "height": 0.07, "wall": 0.003}}, "s1": {"rod": {"diameter": 0.04}},
        "s2": {"pipe": {"diameter": 0.05, "wall": 0.004}},
        "s3": {"I": {"height": 0.1, "width": 0.06, "web": 0.005, "flange": 0.007}},
        "s4": {"channel": {"height": 0.1, "width": 0.06, "web": 0.005, "flange": 0.007}},
        "s5": {"angle": {"height": 0.06, "width": 0.05, "thickness": 0.005}},
        "s6": {"T": {"height": 0.1, "width": 0.06, "web": 0.005, "flange": 0.007}},
        "s7": {"properties": {"area": 8e-4, "Iy": 2e-7, "Iz": 3e-7, "Iyz": 2e-8, "J": 1e-7, "shear centre": [0.005, 0.003],
                              "fibres": [[0.02, 0.03], [-0.02, -0.03]]}},
    },
    "parts": {f"b{i}": {"beam": {"through": [f"p{i}", f"p{i + 1}"], "section": f"s{i}", "divisions": 2}, "material": "m"}
              for i in range(8)},
    "supports": {"a": {"at": "p0", "hold": "all"}, "z": {"at": "p8", "hold": ["x", "y", "z"]}},
    "gauges": {"fibre": {"stress": "b7"}, "mid": {"displacement": "p4", "motion": "absolute"}},
    "damping": {"rayleigh": [["5 Hz", "2 %"], ["80 Hz", "4 %"]], "loss factor": {"b2": "3 %"}},
    "bands": {"fan": {"range": [15, 40]}, "rail": {"range": [20, 90]}},
    "modes": {"count": 4}, "adjust": {"b1": {"stiffness": 1.2, "mass": 1.1}},
    "events": {"blow": {"pulse": {a: {s: {"peak": 5, "duration": 0.01}} for a, s in
                                  (("x", "terminal peak sawtooth"), ("y", "initial peak sawtooth"), ("z", "triangle"))},
                        "ring down": 0.03, "model": "full", "method": "average acceleration", "step": 0.001},
               "slow": {"pulse": {"x": {"ramp": {"peak": 2, "rise": 0.02}}, "z": {"rectangle": {"peak": 2,
                        "duration": 0.02}}, "y": {"table": {"time": [0, 0.02, 0.04, 0.06, 0.08, 0.1],
                        "displacement": [0, 0, 0.001, 0.002, 0.002, 0.002]}}},
                        "ring down": 0.02, "let go": "hung"},
               "quick": {"pulse": {"x": {"table": {"time": [0, 0.1], "velocity": [0, 0.1]}}}, "ring down": 0.01,
                         "loads": {"weight": {"table": {"time": [0, 0.01, 0.02], "factor": [0, 1, 0]}}}},
               "hung": {"static": "weight"},
               "shaken": {"sweep": {"range": [20, 90], "spacing": "logarithmic", "points": 12},
                          "base": {"x": {"amplitude": 2, "phase": 0.3},
                                   "y": {"table": {"frequency": [30, 100], "acceleration": [1, 2], "phase": [0.1, 1]},
                                         "interpolate": "linear", "outside": "hold", "scale": 1.5}},
                          "loads": {"weight": {"table": {"frequency": [10, 100], "factor": [0.1, 0.2]}}},
                          "unbalance": {"rotor": {"at": "p3", "axis": "y", "amount": 0.01, "phase": 0.1,
                                                  "turning": "forward"}},
                          "beside": "hung", "static correction": True, "amplitudes": "peak", "full model at": [30.0],
                          "octaves per minute": 2.0},
               "swept": {"sweep": {"band": "fan"}, "base": {"z": {"file": "swing.csv"}}},
               "listed": {"sweep": {"at": [30, 31, 60]}, "base": {
                   "x": {"table": {"frequency": [20, 90], "velocity": [0.1, 0.2]}},
                   "y": {"table": {"frequency": [20, 90], "displacement": [0.001, 0.002]}}}},
               "stepped": {"sweep": {"range": [20, 90], "spacing": "logarithmic", "per octave": 5}, "base": {"x": 1}},
               "rough": {"random": {"x": {"frequency": [10, 50, 400], "density": [0.1, 0.2, 0.05], "outside": "hold",
                                          "rms": 7.0},
                                    "y": {"frequency": [10, 50, 400], "level": 0.1, "slopes": [3, -3], "at": 50},
                                    "z": {"pasted": "frequency_hz density_m2_s3\n10 0.1\n300 0.1", "scale": 2}},
                         "loads": {"weight": {"frequency": [10, 100], "level": 0.01, "slopes": [1], "rms": 1.0}},
                         "coherence": [{"between": ["x", "y"], "coherence": 0.5, "phase": 0.4}], "times": 4,
                         "duration": 100.0, "static correction": True,
                         "fatigue": {"slope": 4, "amplitude": 1e4, "cycles": 1e3}},
               "rougher": {"random": {"x": {"file": "noise.csv"}}, "peak": "expected largest", "duration": "60 s",
                           "loads": {"weight": {"frequency": [10, 100], "density": [0.1, 0.1]}}}},
    "loads": {"weight": {"gravity": "-z"}},
}  # fmt: skip

GIVEN: dict[str, Any] = {
    "holokine": 1,
    "matrices": {"stiffness": "k.mtx", "mass": "m.mtx", "damping": "c.mtx", "dofs": "dofs.csv"},
    "supports": {"wall": {"at": "1", "hold": ["x"]}},
    "gauges": {"end": {"acceleration": "4", "axis": "x"}, "root": {"reaction": "wall", "axis": "x"}},
    "damping": {"table": [["1 Hz", "1 %"], ["9 Hz", "4 %"]]},
    "modes": {"count": 3},
    "events": {"hit": {"pulse": {"x": {"half sine": {"peak": 5, "duration": 0.1}}}, "ring down": 1},
               "flat": {"spectrum": {"x": {"frequency": [0.1, 100], "acceleration": [3, 3]}}}},
}  # fmt: skip

STATED: dict[str, Any] = {
    "holokine": 1,
    "materials": {"m": {"E": 2e11, "nu": 0.3, "density": 7800, "expansion": "12e-6 1/K"}},
    "sections": {"bar": {"rectangle": {"width": 0.02, "height": 0.03}}, "rope": {"rod": {"diameter": 0.004}}},
    "points": {"a": [0, 0, 0], "b": [1, 0, 0], "c": [2, 0, 0], "d": [1, 0, 1], "e": [2, 0, 1], "g": [0, 0, 1]},
    "parts": {
        "bar": {"beam": {"through": ["a", "b", "c"], "section": "bar", "divisions": [4, 4]}, "material": "m"},
        "rope": {"beam": {"through": ["b", "d"], "section": "rope", "up": "y", "divisions": 1, "goes slack": True},
                 "material": "m"},
        "wire": {"cable": {"through": ["b", "e"], "area": 2e-5, "stiffness": 3e6, "divisions": 2}, "material": "m"},
        "chain": {"cable": {"through": ["c", "d"], "section": "rope", "size": 0.705}, "material": "m"},
        "tie": {"beam": {"through": ["c", "e"], "section": "rope", "up": "y", "divisions": 1}, "material": "m"},
        "line": {"beam": {"through": ["a", "g"], "section": "rope", "up": "y", "divisions": 3}, "material": "m"},
        "sheet": {"plate": {"corner": [1, 1, 0], "sides": [[0.4, 0, 0], [0, 0.3, 0]], "divisions": [3, 3],
                            "thickness": 0.002}, "material": "m"},
    },
    "springs": {
        "stop": {"between": ["ground", "b"], "axis": "y", "one way": "pull", "gap": 0.00001, "stiffness": 2e5},
        "rubber": {"between": ["ground", "c"], "axis": "y", "force": [[0, 0], [1e-6, 10], [1e-5, 300]],
                   "mirrored": True, "beyond": "held"},
        "bias": {"between": ["ground", "b"], "axis": "z", "law": {"linear": 1e5, "quadratic": 1e8, "cubic": 1e12}},
    },
    "supports": {
        "wall": {"at": "a", "hold": "all"}, "tops": {"at": ["d", "e", "g"], "hold": "all"},
        "pad": {"at": "c", "pushes": "x", "gap": 0.00001, "friction": 0.4},
        "rim": {"at": {"part": "sheet", "plane": {"at": [1, 0, 0], "normal": "x"}}, "hold": "all"},
        "far": {"at": {"part": "sheet", "plane": {"at": [1.4, 0, 0], "normal": "x"}}, "hold": ["x", "y", "z"]},
    },
    "groups": {"sheets": ["sheet"]},
    "gauges": {"bar": {"beam force": "bar", "end": "start"}, "pad": {"reaction": "pad"}, "skin": {"stress": "sheet"},
               "stop": {"force": "stop"}, "bias": {"force": "bias"}},
    "loads": {"push": {"at": "b", "force": [-900, 60, -150]}, "shove": {"at": "c", "force": [-5000, 20, -20]},
              "wind": {"pressure": 2000, "on": {"part": "sheet"}, "towards": "-z", "following": True},
              "more": {"at": "b", "force": [0, 0, -10]}},
    "states": {"held": {"loads": {"push": 1.0, "shove": 1.0, "wind": 1.0}, "tension": {"tie": 200.0},
                        "shortening": {"line": 0.0001, "wire": 0.001, "chain": 0.001},
                        "installed": "tight", "temperature": {"sheets": 3.0}, "stress stiffness": True,
                        "one way": True, "friction stiffness": "900 1/m", "constant": "wind"},
               "tight": {"tension": {"rope": 300.0, "wire": 900.0}}, "other": {"loads": "more"}},
    "state": "held", "damping": "2 %", "modes": {"count": 6},
    "events": {"still": {"static": "more", "with state": True}, "elsewhere": {"state": "other"},
               "bump": {"pulse": {"z": {"half sine": {"peak": 5, "duration": 0.01}}}, "ring down": 0.03, "with state": True},
               "shake": {"sweep": {"range": [20, 60], "spacing": "linear", "points": 5}, "base": {"z": 1},
                         "with state": True}},
}  # fmt: skip

STEPPED: dict[str, Any] = {
    "holokine": 1,
    "materials": {"m": {"E": 2e11, "nu": 0.3, "density": 7800}},
    "sections": {"bar": {"rectangle": {"width": 0.02, "height": 0.005}}},
    "points": {"a": [0, 0, 0], "b": [1, 0, 0]},
    "parts": {"bar": {"beam": {"through": ["a", "b"], "section": "bar", "divisions": 6}, "material": "m"}},
    "supports": {"wall": {"at": "a", "hold": "all"}},
    "gauges": {"bar": {"beam moment": "bar", "end": "start"}, "tip": {"displacement": "b"}},
    "loads": {"side": {"at": "b", "force": [0, 0, -40]}},
    "states": {"bent": {"loads": "side", "load steps": 2}}, "state": "bent", "modes": {"count": 3},
    "events": {"more": {"static": {"side": 0.1}, "with state": True}},
}  # fmt: skip

BOUNCED: dict[str, Any] = {
    "holokine": 1,
    "materials": {"m": {"E": 2e11, "nu": 0.3, "density": 7800}},
    "sections": {"bar": {"rectangle": {"width": 0.02, "height": 0.01}}},
    "points": {"a": [0, 0, 0], "b": [0.6, 0, 0]},
    "parts": {"bar": {"beam": {"through": ["a", "b"], "section": "bar", "divisions": 4}, "material": "m"}},
    "supports": {"wall": {"at": "a", "hold": "all"},
                 "stop": {"at": "b", "pushes": "z", "gap": 0.0005, "restitution": 0.5}},
    "gauges": {"tip": {"displacement": "b", "axis": "z"}, "wall": {"reaction": "wall"}},
    "damping": "2 %", "modes": {"count": 3},
    "events": {"bounce": {"pulse": {"z": {"half sine": {"peak": 60, "duration": 0.01}}}, "ring down": 0.04,
                          "follow": True}},
}  # fmt: skip

RATTLED: dict[str, Any] = {
    **{key: BOUNCED[key] for key in ("holokine", "materials", "sections", "points", "parts", "gauges", "damping", "modes")},
    "supports": {"wall": {"at": "a", "hold": "all"}},
    "springs": {"stop": {"between": ["ground", "b"], "axis": "z", "one way": "pull", "gap": 0.0015, "stiffness": 800}},
    "events": {"rattle": {"sweep": [18, 30], "base": {"z": 1.5}, "follow": True}},
}  # fmt: skip

PLATES: dict[str, Any] = {
    "holokine": 1,
    "materials": {"m": {"E": "70 GPa", "nu": 0.3, "density": "2700 kg/m^3"},
                  "soft": {"E": "7 GPa", "nu": 0.3, "density": "1200 kg/m^3"},
                  "ply": {"orthotropic": {"E": ["120 GPa", "9 GPa", "9 GPa"], "G": ["5 GPa", "3 GPa", "5 GPa"],
                                          "nu": [0.3, 0.3, 0.02]}, "density": "1600 kg/m^3"}},
    "parts": {
        "lid": {"plate": {"around": 21, "growth": 0.4, "outline": [[0, 0], {"corner": [0.3, 0], "radius": 0.03}, [0.3, 0.2],
                                      {"through": [0.15, 0.24], "to": [0, 0.2]}],
                          "origin": [0, 0, 0.1], "plane": {"x": "x", "y": "y"}, "size": 0.06, "thickness": 0.004,
                          "points": [[0.081, 0.052]], "lines": [[[0.05, 0.12], [0.14, 0.15]]],
                          "finer": [{"at": [0.2, 0.1], "size": 0.02, "within": 0.015}],
                          "holes": [{"outline": [[0.2, 0.15], [0.24, 0.15], [0.22, 0.18]]}], "cells": "quads"},
                "material": "m"},
        "skin": {"plate": {"corner": [0.5, 0, 0], "sides": [[0.3, 0.05, 0], [0, 0.2, 0]], "divisions": [4, 3],
                           "quadratic": True, "tension": [3000, 1000, 500], "tension along": "side 1",
                           "layers": [{"thickness": 0.001, "material": "ply", "angle": "30 deg"},
                                      {"thickness": 0.002, "carries": True},
                                      {"thickness": 0.0005, "material": "soft", "carries": False}],
                           "symmetric": False}, "material": "m"},
        "can": {"cylinder": {"base": [1.2, 0, 0], "radius": 0.1, "length": 0.2, "thickness": 0.002, "divisions": [8, 3],
                             "quadratic": False}, "material": "m"},
        "lump": {"extrusion": {"outline": [[1.5, 0], [1.7, 0], [1.6, 0.2]], "length": 0.05, "size": 0.06,
                               "holes": [{"at": [1.6, 0.12], "diameter": 0.03}], "around": 8, "growth": 0.5,
                               "finer": [{"at": [1.6, 0.05], "size": 0.03}]}, "material": "m"},
    },
    "supports": {"low": {"at": {"plane": {"at": [0, 0, 0], "normal": "y"}}, "hold": "all"},
                 "rest": {"at": {"part": "can", "plane": {"at": [0, 0, 0], "normal": "z"}}, "hold": "all"}},
    "gauges": {"fibres": {"stress": "skin", "layer": 1, "component": "xx"}},
    "loads": {"push": {"at": {"part": "skin", "nearest": [0.8, 0.25, 0]}, "force": [0, 20, 10]}},
    "modes": {"count": 6},
    "events": {"pushed": {"static": "push"}, "hit": {"pulse": {"z": {"half sine": {"peak": 20, "duration": 0.01}}}}},
}  # fmt: skip

DOCUMENTS = {
    "frame": FRAME,
    "plates": PLATES,
    "blocks": BLOCKS,
    "shapes": SHAPES,
    "given": GIVEN,
    "stated": STATED,
    "stepped": STEPPED,
    "bounced": BOUNCED,
    "rattled": RATTLED,
}
FILES = (
    "noise.csv",
    "shock.csv",
    "record.csv",
    "swing.csv",
    "sheet.vtu",
    "wire.vtu",
    "k.mtx",
    "m.mtx",
    "c.mtx",
    "dofs.csv",
)


def write_files(folder: Path, *, change: str = "") -> None:
    """The files that the assemblies name; `change`: one of them with other contents."""
    k = 1.1 if change else 1.0

    def of(name: str) -> float:
        return k if name == change else 1.0

    (folder / "noise.csv").write_text(f"frequency_hz,density_g2_hz\n10,{0.001 * of('noise.csv')}\n200,0.001\n")
    (folder / "shock.csv").write_text(SPECTRUM.replace("20,4", f"20,{4 * of('shock.csv')}"))
    (folder / "record.csv").write_text(RECORD.replace("0.004,2", f"0.004,{2 * of('record.csv')}"))
    (folder / "swing.csv").write_text(f"frequency_hz,displacement_mm\n10,1\n100,{0.5 * of('swing.csv')}\n")
    x, y = np.meshgrid(np.linspace(0, 200 * of("sheet.vtu"), 4), np.linspace(150, 300, 4), indexing="ij")
    nodes = np.column_stack([x.ravel(), y.ravel(), 0 * x.ravel()])
    i, j = (v.ravel() for v in np.meshgrid(range(3), range(3), indexing="ij"))
    cells = np.column_stack([4 * i + j, 4 * i + 4 + j, 4 * i + 5 + j, 4 * i + 1 + j])
    sheet = meshio.Mesh(nodes, [("quad", cells)], cell_data={"side": [np.array([1] * 6 + [2] * 3)]})
    sheet.write(folder / "sheet.vtu")
    line = np.array([[0.2, 0.3, 0.0], [0.3, 0.3, 0.0], [0.4 * of("wire.vtu"), 0.3, 0.0]])
    halves = {"half": [np.array([1, 2])]}
    meshio.Mesh(line, [("line", np.array([[0, 1], [1, 2]]))], cell_data=halves).write(folder / "wire.vtu")
    K = 1e3 * of("k.mtx") * (np.diag([2.0, 2, 2, 1]) - np.diag([1.0] * 3, 1) - np.diag([1.0] * 3, -1))
    M, C = np.diag([1.0, 1.2, 1.1, 2.0 * of("m.mtx")]), np.diag([0.0, 0, 0, 3.0 * of("c.mtx")])
    for name, A in (("k", K), ("m", M), ("c", C)):
        scipy.io.mmwrite(folder / f"{name}.mtx", csr_array(A), symmetry="symmetric")
    rows = "".join(f"{n},x,{0.1 * n * of('dofs.csv')},0,0\n" for n in (1, 2, 3, 4))
    (folder / "dofs.csv").write_text("node,direction,x_m,y_m,z_m\n" + rows)


def write(document: dict[str, Any], path: Path) -> Path:
    path.write_text(json.dumps(document))  # JSON is YAML
    return path


# -- a change of every value -------------------------------------------------------------------------------

CHOICES: dict[str, Any] = {
    "cqc": "srss", "srss": "absolute", "double sum": "absolute", "log-log": "linear", "hold": "zero", "modes": "automatic",
    "generalised alpha": "average acceleration", "average acceleration": "generalised alpha", "timoshenko": "euler",
    "bricks": "wedges", "quads": "triangles", "triangles": "quads", "consistent": "lumped", "averaging": "rigid",
    "linear": "logarithmic", "hann": "half sine", "ramp": "none", "relative": "absolute", "top": "bottom",
    "centre": "nodes", "start": "end", "end": "start", "equivalent": "xx", "principal": "equivalent", "all": ["x", "y", "z"],
    "x": "y", "y": "z", "z": "x", "-z": "z", "rx": "rz", "ry": "rz", "rz": "ry", "steel": "other", "other": "steel",
    "bar": "hoop", "slim": "bar", "full": "reduced", "ground": "g", "a": "b", "b": "c", "c": "b", "d": "g", "e": "d", "g": "d",
    "m": "soft", "ply": "steel", "mm": "cm", "hoop": "bar", "eye": "c", "plate": "beam", "beam": "post", "post": "beam",
    "box": "bar", "tip": "p", "left [g]": "right [g]", "-x": "x", "rest": "still", "panels": "bars", "bars": "panels",
    "pad": "stay", "stay": "pad", "wall": "edge", "edge": "wall", "bolt": "near", "side=1": "side=2", "settle": "push",
    "forward": "backward", "logarithmic": "linear", "peak": "rms", "held": "other", "pull": "push", "push": "shove",
    "rope": "bar", "wind": "push",
}  # fmt: skip
"""What a word is changed into, where the place does not ask for another (see `EXPLICIT`)."""


def leaves(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[tuple[Any, ...], Any]]:
    """Every single value of plain data with its path; of a list of numbers the first."""
    if isinstance(value, dict):
        for key, item in value.items():
            yield from leaves(item, (*path, key))
    elif isinstance(value, list):
        for number, item in enumerate(value):
            if number == 0 or not isinstance(item, int | float | str):
                yield from leaves(item, (*path, number))
    else:
        yield path, value


def changed(value: Any) -> Any:
    """Another value of the same kind; None where there is none that is general."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, int):
        return value + 1
    if isinstance(value, float):
        return 1.1 * value + (0.25 if value == 0 else 0.0)
    found = re.match(r"^(-?[0-9.]+)( .*)$", value)
    if found:
        return f"{1.1 * float(found[1]):.6g}{found[2]}"
    return CHOICES.get(value)


def put(document: dict[str, Any], path: tuple[Any, ...], value: Any) -> dict[str, Any]:
    """The document with one value in place of another; None takes the entry away."""
    result = copy.deepcopy(document)
    here = result
    for step in path[:-1]:
        here = here[step]
    if value is None:
        del here[path[-1]]
    else:
        here[path[-1]] = value
    return result


def declared(model: type, name: str) -> tuple[str, str]:
    """The model that declares a key, which those made from it share, and the key."""
    home = next(c for c in reversed(model.__mro__) if name in getattr(c, "__annotations__", {}))
    return home.__name__, name


def schema_fields() -> set[tuple[str, str]]:
    """Every (model, key) of the schema."""
    found: set[tuple[str, str]] = set()
    seen: set[type] = set()

    def look(annotation: Any) -> None:
        if get_origin(annotation) in (Annotated, Union, types.UnionType, tuple, dict):
            for a in get_args(annotation):
                look(a)
        elif isinstance(annotation, type) and issubclass(annotation, BaseModel) and annotation not in seen:
            seen.add(annotation)
            for name, field in annotation.model_fields.items():
                found.add(declared(annotation, name))
                look(field.annotation)
        elif annotation is EventKind:
            for kind in EVENT_KINDS:
                look(kind)

    look(Description)
    for kind in EVENT_KINDS:
        look(kind)
    return found


def owner(model: BaseModel, path: tuple[Any, ...]) -> tuple[str, str]:
    """The (model, key) that a value in the data of a description belongs to."""
    here: Any = model
    found = ("", "")
    for step in path:
        if isinstance(here, BaseModel):
            name = str(step).replace(" ", "_")
            if name not in type(here).model_fields:
                break  # a value that stands for its mapping
            found = declared(type(here), name)
            here = getattr(here, name)
        elif isinstance(here, dict):
            here = here.get(step, here.get(_number(step)))
        elif isinstance(here, list | tuple) and isinstance(step, int) and step < len(here):
            here = here[step]
        else:
            break
    while isinstance(here, BaseModel) and type(here).shorthand:
        found = declared(type(here), type(here).shorthand)
        here = getattr(here, type(here).shorthand)
    return found


def _number(step: Any) -> Any:
    return float(str(step).removesuffix("%")) / 100 if str(step).endswith("%") else step


def given_fields(model: BaseModel) -> set[tuple[str, str]]:
    """(model, key) pairs that a description gives a value to."""
    found: set[tuple[str, str]] = set()

    def look(value: Any) -> None:
        if isinstance(value, BaseModel):
            for name in value.model_fields_set:
                found.add(declared(type(value), name))
                look(getattr(value, name))
        elif isinstance(value, dict):
            for item in value.values():
                look(item)
        elif isinstance(value, list | tuple):
            for item in value:
                look(item)

    look(model)
    return found


# -- what comes out ------------------------------------------------------------------------------------------


def results(modes: hk.Modes, events: tuple[str, ...]) -> dict[str, np.ndarray]:
    """What an assembly gives, as arrays by name; of events those asked for."""
    a = modes.assembly
    out: dict[str, Any] = {
        "frequencies": modes.frequencies_hz, "shapes": np.abs(modes.shapes), "damping": modes.damping,
        "places": a.system.mesh.nodes, "cells": np.concatenate([b.cells.ravel() for b in a.system.mesh.blocks] or [[0]]),
        "energies": modes.energies.strain, "K": np.array([abs(a.system.stiffness).sum()]),
        "C": np.array([abs(a.system.damping).sum()]),
    }  # fmt: skip
    state = None if a.description.state is None else a.description.states[a.description.state]
    if state is not None and state.stress_stiffness and state.load_steps is None:
        out["buckling"] = a.state().buckling(1).factors
    if a.description.groups:
        out["groups"] = modes.table("energy", "group")["strain_percent"].to_numpy()
    if a.description.bands:
        out["bands"] = modes.table("bands").to_numpy(dtype=str)
    for name in events:
        answer = modes.respond(name)
        table = answer.table("peaks")
        column = next(c for c in ("value", "peak", "rms", "peak_to_peak") if c in table)
        out[f"{name} of"] = (table["gauge"] + " " + table["component"] + table["motion"]).to_numpy(dtype=str)
        out[name] = table[column].to_numpy()
        together = table["largest_together"] if "largest_together" in table else 0.0 * table[column]
        out[f"{name} with what is at rest"] = together.to_numpy()
        if "limits" in answer.tables:
            out[f"{name} limits"] = answer.table("limits")["limit"].to_numpy(dtype=float)
        out[f"{name} says"] = np.array([f.text for f in answer.result.findings])
        if answer.event.kind == "random":
            out[f"{name} lasts"] = np.nan_to_num(answer.result.expected_largest)
            if "fatigue" in answer.tables:
                held = answer.table("fatigue").select_dtypes("number")
                out[f"{name} fatigue"] = np.nan_to_num(held.to_numpy(dtype=float))
        for rows in ("histories", "curves"):
            if rows in answer.tables:
                out[f"{name} {rows}"] = answer.table(rows).select_dtypes("number").to_numpy()
    return out


def same(left: dict[str, np.ndarray], right: dict[str, np.ndarray]) -> bool:
    """Whether two sets of results agree."""
    if left.keys() != right.keys():
        return False
    for name, a in left.items():
        b = right[name]
        if a.shape != b.shape:
            return False
        if a.dtype.kind in "US":
            if (a != b).any():
                return False
            continue
        scale = float(np.nanmax(np.abs(a), initial=0.0)) or 1.0
        if not np.allclose(a, b, rtol=0, atol=1e-9 * scale, equal_nan=True):
            return False
    return True
