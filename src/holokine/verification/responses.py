"""Pulses, spectra, loads in time and at rest, sweeps, damped modes, tuned dampers."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np

import holokine as hk
from holokine.verification.cases import ALUMINIUM, BAR, Figures, beam, case


@case("single mass, half-sine base pulse", "closed form", "one mode", 1e-6, "peak acceleration (m/s²)")
def _() -> Figures:
    omega, duration = 2 * np.pi * 30.0, 0.02
    a = hk.Assembly().damping(0.0).point("p", [0, 0, 0]).mass("m", at="p", mass=1.0)
    a.spring("k", between=["ground", "p"], stiffness=omega**2, axis="x").support(
        "g", at="p", hold=["y", "z", "rx", "ry", "rz"]
    )
    a.gauge("a", acceleration="p", axis="x")
    answer = a.modes(count=1).respond({"pulse": {"x": {"half sine": {"peak": 1.0, "duration": duration}}}})
    r = np.pi / duration / omega
    t = np.linspace(0, duration, 2_000_001)
    return [abs(answer.result.peaks[0])], [
        np.abs((np.sin(np.pi * t / duration) - r * np.sin(omega * t)) / (1 - r**2)).max()
    ]


@case(
    "residual shock spectrum of a half-sine",
    "4x cos(πx) / (1 - 4x²), x = f T",
    "20,000 samples",
    1e-6,
    "residual spectrum (1)",
)
def _() -> Figures:
    t = np.linspace(0.0, 0.01, 20_001)
    x = np.array([0.1, 0.3, 0.8, 1.2, 1.9])
    found = [hk.shock((t, np.sin(np.pi * t / 0.01)), low=f, high=1.01 * f, per_octave=1, damping=0.0) for f in x / 0.01]
    return [float(s.values("residual")[0, 0]) for s in found], np.abs(
        4 * x * np.cos(np.pi * x) / (1 - 4 * x**2)
    ).tolist()


@case("peak of a pulse by CQC over the peak in time", "one mode: 1", "mass on a spring", 2e-5, "ratio (1)")
def _() -> Figures:
    a = hk.Assembly().point("p", [0, 0, 0]).mass("m", at="p", mass=10.0)
    a.spring("k", between=["ground", "p"], stiffness=4000.0, axis="x").support("guide", at="p", hold=["y", "z"])
    a.gauge("force", force="k").damping(0.03)
    a.event("jolt", pulse={"x": {"triangle": {"peak": "4 g", "duration": "60 ms"}}})
    return [float(a.modes(1).respond("jolt").against_rules().table()["cqc_over_time"].iloc[0])], [1.0]


def sprung() -> hk.Assembly:
    """A mass of 10 kg on a spring of 4000 N/m, without damping, and a push on it."""
    a = hk.Assembly().point("p", [0, 0, 0]).mass("m", at="p", mass=10.0).damping(0.0)
    a.spring("k", between=["ground", "p"], stiffness=4000.0, axis="x").support("guide", at="p", hold=["y", "z"])
    return a.gauge("force", force="k").load("push", at="p", force=[40, 0, 0])


@case("load that is put on suddenly, or over 0.5 to 2.5 periods", "1 + abs(sin πr) / πr", "mass on a spring", 1e-8,
      "peak over static (1)")  # fmt: skip
def _() -> Figures:
    modes, period = sprung().modes(1), 2.0 * np.pi * np.sqrt(10.0 / 4000.0)
    ratios = [0.5, 1.5, 2.5]
    shapes = [{"step": {}}, *({"ramp": {"rise": r * period}} for r in ratios)]
    found = [modes.respond({"loads": {"push": s}, "ring down": 2.0}).result.peaks[0] / 40.0 for s in shapes]
    return found, [2.0, *(1 + abs(np.sin(np.pi * r)) / (np.pi * r) for r in ratios)]


@case("clamped beam: one end moved and tilted, and its weight", "slope deflection with shear", "24 beams", 1e-6,
      "reaction (N, N m, N m, N)")  # fmt: skip
def _() -> Figures:
    a = beam(0.943, BAR, ALUMINIUM, start="all", end="all", divisions=24)
    a.gauge("f", reaction="left", axis="z").gauge("m", reaction_moment="left", axis="y")
    a.load("moved", supports="right", move={"z": -2e-3}).load("tilted", supports="right", move={"ry": 1e-3})
    a.load("weight", gravity="-z")
    E, G, A, I, L = 71.3e9, 71.3e9 / 2.66, 0.0415 * 0.0785, 0.0415 * 0.0785**3 / 12, 0.943  # noqa: E741
    phi = 12 * E * I / (5 / 6 * G * A * L**2)
    found = [a.respond({"static": n}).result.peaks for n in ("moved", "tilted", "weight")]
    shear = 12 * E * I * 2e-3 / (L**3 * (1 + phi))
    far = (2 - phi) / (1 + phi) * E * I / L * 1e-3
    return [float(found[0][0]), abs(float(found[0][1])), abs(float(found[1][1])), float(found[2][0])], [
        shear, shear * L / 2, far, 2713.0 * A * L * 9.80665 / 2
    ]  # fmt: skip


@case("groups of supports: two ends of a mass on two springs", "Γ of each group by hand", "one mass", 1e-9,
      "peak displacement (m)")  # fmt: skip
def _() -> Figures:
    a = hk.Assembly().damping(0.02)
    for name, x in (("a", 0.0), ("p", 0.1), ("b", 0.2)):
        a.point(name, [x, 0, 0])
    a.mass("m", at="p", mass=3.0).support("guide", at="p", hold=["y", "z"]).support("one", at="a", hold="all")
    a.spring("ka", between=["a", "p"], stiffness=2e4, axis="x").spring(
        "kb", between=["p", "b"], stiffness=1e4, axis="x"
    )
    a.support("two", at="b", hold="all").gauge("u", displacement="p", axis="x")
    flat = {n: {"frequency": [1, 100], "acceleration": [s, s]} for n, s in (("one", 6.0), ("two", 9.0))}
    groups = {n: {"supports": n, "spectrum": {"x": flat[n]}} for n in flat}
    modes, found = a.modes(1), []
    for rule in ("absolute", "srss", "algebraic"):
        found.append(modes.respond({"support spectra": groups, "over supports": rule}).result.peaks[0])
    w2 = 3e4 / 3.0
    one, two = 2 / 3 * 6.0 / w2, 1 / 3 * 9.0 / w2
    return [float(v) for v in found], [one + two, float(np.hypot(one, two)), one + two]


def swept_beam(eta: float, c: float) -> hk.Answer:
    """A pinned beam shaken at 0.3 of its span, read at 0.6, with a loss factor and a damper to the ground at 0.3."""
    a = beam(2.0, {"rectangle": {"width": 0.03, "height": 0.008}}, {"E": 70e9, "nu": 0.3, "density": 2700.0},
             start=["x", "z"], end="z", suppress=["y", "rx", "rz"], theory="euler")  # fmt: skip
    a.point("at", [0.6, 0, 0]).point("read", [1.2, 0, 0]).damping({"loss factor": eta})
    a = a.changed({"parts": {"beam": {"beam": {"through": ["a", "at", "read", "b"]}}}})
    if c:
        a.spring("damper", between=["at", "ground"], damping=c, axis="z")
    a.load("push", at="at", force=[0, 0, 1]).gauge("moves", displacement="read", axis="z")
    answer = a.event("sweep", sweep=[3, 60], loads={"push": 1.0}).modes(12).respond("sweep")
    return answer


def receptance(x: float, y: float, s: Any, eta: float) -> Any:
    """Of the same beam as a continuum between two shares x ≤ y of its span, at s = iω (any complex s)."""
    mass, stiff = 2700 * 0.03 * 0.008, 70e9 * 0.03 * 0.008**3 / 12 * (1 + 1j * eta)
    b = (-mass * s**2 / stiff + 0j) ** 0.25 * 2.0
    y, x = 1 - y, x
    return (
        2.0**3
        / (2 * stiff * b**3)
        * (np.sin(b * y) * np.sin(b * x) / np.sin(b) - np.sinh(b * y) * np.sinh(b * x) / np.sinh(b))
    )


def swept_exactly(eta: float, c: float, f: Any) -> Any:
    s = 2j * np.pi * f
    return receptance(0.3, 0.6, s, eta) / (1 + c * s * receptance(0.3, 0.3, s, eta))


@case("sweep: continuous beam, E (1 + iη)", "closed form (receptance)", "40 beams, 12 modes", 1e-4,
      "amplitude at a peak (m)")  # fmt: skip
def _() -> Figures:
    answer = swept_beam(0.02, 0.0)
    table = answer.table("resonances").query("kind == 'peak'")
    f = table["frequency_hz"].to_numpy()
    return 1e-3 * table["peak"].to_numpy(), np.abs(swept_exactly(0.02, 0.0, f))


@case("sweep: the same with a damper along the span", "closed form (receptances coupled)",
      "40 beams, 12 modes and a static shape", 1e-4, "amplitude at a peak (m)")  # fmt: skip
def _() -> Figures:
    answer = swept_beam(0.02, 20.0)
    table = answer.table("resonances").query("kind == 'peak'")
    f = table["frequency_hz"].to_numpy()
    return 1e-3 * table["peak"].to_numpy(), np.abs(swept_exactly(0.02, 20.0, f))


@case("damped modes of that beam", "roots of 1 + c s α(s)", "40 beams, 12 modes and a static shape", 2e-6,
      "size of a pole (rad/s), damping ratio (1)")  # fmt: skip
def _() -> Figures:
    modes = swept_beam(0.0, 20.0).modes
    assert isinstance(modes, hk.Modes)
    damped = modes.damped()
    exact = []
    for start in damped.poles[:3]:
        s, d = complex(start) * (1 + 1e-3j), 1e-6  # Newton's method from beside it, on the continuum's own equation
        for _ in range(60):
            g = [1 + 20.0 * z * receptance(0.3, 0.3, z, 0.0) for z in (s * (1 - d), s, s * (1 + d))]
            s -= g[1] * 2 * d * s / (g[2] - g[0])
        exact.append(s)
    found, roots = damped.poles[:3], np.array(exact)
    return [*np.abs(found), *(-found.real / np.abs(found))], [*np.abs(roots), *(-roots.real / np.abs(roots))]


@case("half-power bandwidth and peak of one mass", "closed form", "a mass on a spring, 1 % of critical", 1e-6,
      "amplitude over static (1), frequency and bandwidth (Hz)")  # fmt: skip
def _() -> Figures:
    k, zeta = 3.0 * (2 * np.pi * 10) ** 2, 0.01
    a = hk.Assembly().damping(zeta).point("p", [0, 0, 0]).mass("m", at="p", mass=3.0)
    a.spring("k", between=["p", "ground"], stiffness=k, axis="x").support("guide", at="p", hold=["y", "z"])
    a.gauge("moves", displacement="p", axis="x").load("push", at="p", force=[1, 0, 0])
    row = a.event("sweep", sweep=[5, 20], loads={"push": 1.0}).modes().respond("sweep").table("peaks").iloc[0]
    top = 1 / (2 * zeta * np.sqrt(1 - zeta**2))
    low, high = (np.sqrt(1 - 2 * zeta**2 + sign * 2 * zeta * np.sqrt(1 - zeta**2)) for sign in (-1, 1))
    return ([1e-3 * row["peak"] * k, row["frequency_hz"], row["bandwidth_hz"]],
            [top, 10 * np.sqrt(1 - 2 * zeta**2), 10 * (high - low)])  # fmt: skip


@case("white noise on one mass: RMS of acceleration, rate of crossings", "closed form (Crandall & Mark 1963)",
      "a mass on a spring, 2 % of critical", 1e-5, "RMS (m/s²), displacement (m), crossings (Hz)")  # fmt: skip
def _() -> Figures:
    w, z, S = 2 * np.pi * 40.0, 0.02, 0.9617
    a = hk.Assembly().damping(z).point("p", [0, 0, 0]).mass("m", at="p", mass=2.0)
    a.spring("k", between=["ground", "p"], stiffness=2.0 * w**2, axis="x")
    a.support("guide", at="p", hold=["y", "z"]).gauge("a", acceleration="p", axis="x")
    a.gauge("u", displacement="p", axis="x")
    result = a.modes(1).respond({"random": {"x": {"frequency": [1e-3, 1e6], "density": [S, S]}}}).result
    exact = [np.sqrt(S * w * (1 + 4 * z**2) / (8 * z)), np.sqrt(S / (8 * z * w**3)), 40.0]
    return [*result.rms[:2], result.crossings_hz[1]], exact


@case("random motion in three pieces with slopes, two close modes", "adaptive quadrature of sweeps' transfer functions",
      "three masses on springs", 1e-8, "mean square force (N²)")  # fmt: skip
def _() -> Figures:
    from scipy.integrate import quad

    a = hk.Assembly().damping(0.02)
    before = "ground"
    for n, (m, k) in enumerate(((2.0, 7.1e4), (1.0, 3e4), (0.05, 1.9e3)), 1):
        a.point(f"p{n}", [0.1 * n, 0, 0]).mass(f"m{n}", at=f"p{n}", mass=m)
        a.spring(f"k{n}", between=[before, f"p{n}"], stiffness=k, axis="x")
        a.support(f"guide {n}", at=f"p{n}", hold=["y", "z"])
        before = f"p{n}"
    a.gauge("f", force="k2")
    table = {"frequency": [5.0, 20.0, 80.0, 300.0], "density": [0.5, 2.0, 2.0, 0.1]}
    modes = a.modes(3)
    answer: Any = modes.respond({"random": {"x": table}})
    density = answer.result.reader.sources[0].density
    swept: Any = modes.respond({"sweep": [5, 300], "base": {"x": 1.0}})

    def value(f: float) -> float:
        motion = swept.result.reader.motion(np.array([f]))
        return float(abs(swept.result.reader.rows(motion, np.array([0]))[0, 0]) ** 2 * density.at(np.array([f]))[0])

    marks = [5.0, 20.0, 80.0, 300.0]
    for f, width in zip(modes.frequencies_hz, 0.04 * modes.frequencies_hz, strict=True):
        marks += [float(f + k * width) for k in (-20, -4, -1, 0, 1, 4, 20) if 5 < f + k * width < 300]
    marks = sorted(marks)
    exact = sum(quad(value, p, q, epsabs=0, epsrel=1e-11, limit=200)[0] for p, q in pairwise(marks))
    return [float(answer.result.rms[0] ** 2)], [exact]


@case("tuned damper on an undamped mass, least of the largest", "Nishihara & Asami 2002 (exact optimum)",
      "mass ratio 10 %", 2e-3, "tuning, damping ratio (1)")  # fmt: skip
def _() -> Figures:
    mu = 0.1
    a = hk.Assembly().damping(0.0).point("p", [0, 0, 0]).mass("m", at="p", mass=100.0)
    a.spring("k", between=["p", "ground"], stiffness=100.0 * (2 * np.pi * 5) ** 2, axis="x")
    a.support("guide", at="p", hold=["y", "z"])
    best = a.modes().tune("p", "x", ratio=mu).result.best
    root = np.sqrt(4 + 3 * mu)
    tuning = (
        2 / (1 + mu) * np.sqrt(2 * (16 + 23 * mu + 9 * mu**2 + 2 * (2 + mu) * root) / (3 * (64 + 80 * mu + 27 * mu**2)))
    )
    return [best.frequency_hz / 5, best.ratio], [tuning, np.sqrt((8 + 9 * mu - 4 * root) / (1 + mu)) / 4]
