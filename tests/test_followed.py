"""What lets go, hits or slides, followed in time: closed forms, a dense integration, and the whole way of a user."""

from __future__ import annotations

import json

import numpy as np
import pytest
import scipy.linalg
from scipy.integrate import quad, solve_ivp
from scipy.optimize import brentq
from scipy.special import ellipk

import holokine as hk
from holokine.elements.laws import ForceLaw
from holokine.errors import EventError, HolokineError
from holokine.respond.contacts import SLIDING, Few, Member
from holokine.respond.stepped import Stepped
from test_cli import inside

ONE = np.array([1.0])


def alone(mass: float = 1.0, damping: float = 0.0, stiffness: float = 0.0, members: list[Member] | None = None) -> Few:
    unit = np.eye(1)
    return Few(mass * unit, damping * unit, stiffness * unit, unit, members or [])


def times(run, what: str) -> np.ndarray:
    return np.array([c.time for c in run.changes if c.what == what])


def kicked(rows: int, columns: int, impulse: float) -> np.ndarray:
    jumps = np.zeros((rows, columns))
    jumps[0, 0] = impulse
    return jumps


def test_a_ball_bounces_on_a_rigid_floor_until_it_lies():
    g, height, e = 9.81, 0.5, 0.5
    t = np.linspace(0.0, 2.0, 201)
    few = alone(members=[Member("floor", -ONE, gap=height, restitution=e)])
    run = few.run(t, np.full((201, 1), -g))
    first, speed = np.sqrt(2 * height / g), np.sqrt(2 * g * height)
    flights = 2 * speed / g * e ** np.arange(1, 15)
    np.testing.assert_allclose(
        times(run, "touches")[:15], first + np.concatenate([[0], np.cumsum(flights)[:14]]), rtol=1e-11
    )
    assert run.x[-1, 0] == pytest.approx(-height, abs=1e-14)
    assert run.force[-1, 0] == pytest.approx(g, rel=1e-12)
    assert run.closing.max() <= height * (1 + 1e-12)  # nothing goes into the floor
    assert run.work["lost"][-1] == pytest.approx(g * height, rel=1e-9)
    assert run.balance < 1e-12


@pytest.mark.parametrize("sides", [1, 2])
def test_an_oscillator_against_stops_piece_by_piece(sides):
    w, gap, k = 2 * np.pi, 0.5, 400.0
    members = [Member("stop", ONE, stiffness=k, gap=gap), Member("other", -ONE, stiffness=k, gap=gap)][:sides]
    t = np.linspace(0.0, 3.0, 301)
    run = alone(stiffness=w**2, members=members).run(t, np.zeros((301, 1)), jumps=kicked(301, 1, w))
    free, speed, fast = np.arcsin(gap) / w, w * np.cos(np.arcsin(gap)), np.sqrt(w**2 + k)
    still = k * gap / fast**2
    size, phase = np.hypot(gap - still, speed / fast), np.arctan2(gap - still, speed / fast)
    touching = (np.pi - 2 * phase) / fast
    between = 2 * free if sides == 2 else 2 * free + np.pi / w
    on = free + np.arange(20) * (touching + between)
    np.testing.assert_allclose(times(run, "touches")[:4], on[:4], rtol=1e-11)
    np.testing.assert_allclose(times(run, "opens")[:4], on[:4] + touching, rtol=1e-11)
    assert run.force.max() <= k * (still + size - gap) * (1 + 1e-12)
    assert run.balance < 1e-12


def test_coulomb_takes_equal_steps_off_a_free_motion():
    mu, force, k = 0.2, 10.0, 100.0
    foot = Member("foot", np.array([0.0, -1.0]), force=force, friction=mu, across=np.array([[1.0, 0.0]]),
                  across_force=np.zeros(1))  # fmt: skip
    few = Few(np.eye(2), np.zeros((2, 2)), np.diag([k, 0.0]), np.eye(2), [foot])
    t = np.linspace(0.0, 4.0, 401)
    run = few.run(t, np.zeros((401, 2)), jumps=kicked(401, 2, 3.0))
    still = mu * force / k
    first = np.hypot(still, 3.0 / np.sqrt(k)) - still
    stuck = times(run, "sticks")[-1]
    x, halves = run.x[:, 0], np.arange(20)
    left = first - 2 * still * halves
    stops = int(np.flatnonzero(left <= still)[0])  # where the spring cannot overcome friction any more
    assert abs(x[-1]) == pytest.approx(abs(left[stops]), abs=1e-12)
    quarter = np.arctan2(3.0 / np.sqrt(k), still) / np.sqrt(k)
    assert stuck == pytest.approx(quarter + stops * np.pi / np.sqrt(k), rel=1e-10)
    assert run.balance < 1e-10
    assert run.work["rubbed"][-1] == pytest.approx(4.5 - 0.5 * k * x[-1] ** 2, rel=1e-10)


def test_a_hardening_spring_has_the_period_of_the_elliptic_integral():
    b, amplitude = 3.0, 1.2
    law = ForceLaw(np.zeros((0, 2)), (1.0, 0.0, b))
    run = alone(members=[Member("spring", ONE, 1.0, law=law)])
    speed = np.sqrt(amplitude**2 + b * amplitude**4 / 2)
    t = np.linspace(0.0, 10.0, 2001)
    found = run.run(t, np.zeros((2001, 1)), jumps=kicked(2001, 1, speed))
    w2 = 1.0 + b * amplitude**2
    period = 4 / np.sqrt(w2) * ellipk(b * amplitude**2 / (2 * w2))
    x, time = found.x[:, 0], found.time
    rise = np.flatnonzero((x[:-1] < 0) & (x[1:] >= 0))
    crossings = time[rise] - x[rise] * (time[rise + 1] - time[rise]) / (x[rise + 1] - x[rise])
    assert np.diff(crossings).mean() == pytest.approx(period, rel=2e-6)
    assert found.x.max() == pytest.approx(amplitude, rel=2e-5)


def gapped_string(*more: Member):
    """Five masses in a string on moving ground, with members of every kind that yields; few, times and loads."""
    n, rng = 5, np.random.default_rng(0)
    K = np.zeros((n, n))
    for i in range(n):
        K[i, i] += 4e3
        if i + 1 < n:
            K[i : i + 2, i : i + 2] += 4e3 * np.array([[1, -1], [-1, 1]])
    M, e = np.diag(rng.uniform(0.5, 2.0, n)), np.eye(n)
    C, G = 0.002 * K, -M @ np.ones((n, 1))
    table = ForceLaw(np.array([[-2e-3, -8.0], [0.0, 0.0], [1e-3, 20.0], [5e-3, 22.0]]), held=True)
    members = [
        Member("damped", e[2], stiffness=5e4, gap=0.002, damping=20.0), Member("back", -e[4], stiffness=2e4, gap=0.001),
        Member("pressed", e[1] - e[3], stiffness=3e4, gap=-1e-4, force=3.0),
        Member("table", e[0], law=table, start=1e-4, force=2.0),
    ]  # fmt: skip
    t = np.linspace(0.0, 0.4, 401)
    w = (30 * np.sin(2 * np.pi * 7 * t))[:, None]
    return Few(M, C, K, G, [*members, *more]), t, w


def test_a_string_of_masses_with_gaps_agrees_with_a_dense_integration():
    few, t, w = gapped_string()
    run, n = few.run(t, w), few.count
    M, C, K, G, members = few.mass, few.damping, few.stiffness, few.weights, few.members

    def force(m: Member, x, v) -> float:
        p, q = m.row @ x, m.row @ v
        if m.law is not None:
            return m.law.force(m.start + p)
        return max(0.0, m.stiffness * (p - m.gap) + m.damping * q) if p > m.gap else 0.0

    def rhs(at, y):
        x, v = y[:n], y[n:]
        push = G[:, 0] * np.interp(at, t, w[:, 0]) - K @ x - C @ v
        for m in members:
            push -= m.row * (force(m, x, v) - m.force)
        return np.concatenate([v, push / np.diag(M)])

    dense = solve_ivp(rhs, (0, 0.4), np.zeros(2 * n), method="DOP853", rtol=1e-9, atol=1e-13, max_step=2e-4, t_eval=t)
    rows = np.searchsorted(run.time, t)
    assert len(run.changes) > 40
    assert np.abs(run.x[rows] - dense.y[:n].T).max() < 1e-5 * np.abs(run.x).max()
    assert run.balance < 1e-7
    again = gapped_string()[0].run(t, w)
    assert np.array_equal(again.x, run.x)


def test_steps_with_rough_feet_take_what_yields_as_the_exact_march_does():
    smooth = ForceLaw(np.zeros((0, 2)), (2e3, 1e5, 4e8))
    few, t, w = gapped_string(Member("smooth", np.eye(5)[3], 2e3, law=smooth))
    exact, stepped = few.run(t, w, finer=8), Stepped(few, t, w, finer=16).run()
    rows = [[int(np.flatnonzero(np.abs(run.time - at) < 1e-9)[-1]) for at in t] for run in (exact, stepped)]
    assert [(c.member, c.what) for c in exact.changes] == [(c.member, c.what) for c in stepped.changes]
    for one, other in ((exact.x, stepped.x), (exact.force, stepped.force)):
        off = np.abs(one[rows[0]] - other[rows[1]]).max(axis=0)
        assert (off < 2e-4 * np.abs(one).max(axis=0)).all()
    assert stepped.balance < 1e-4
    short = ForceLaw(np.array([[-1e-3, -4.0], [1e-3, 4.0]]))
    few, t, w = gapped_string(Member("short", np.eye(5)[4], 4e3, law=short))
    for march in (few.run, lambda *given: Stepped(few, *given).run()):
        with pytest.raises(EventError, match='"short" leaves its table'):
            march(t, w)


BALL = """
holokine: 1
units: {length: m, force: N}
points: {a: [0, 0, 0], b: [1, 0, 0]}
masses: {ball: {at: b, mass: 2}}
springs:
  coil: {between: [a, b], stiffness: 800}
  buffer: {between: [ground, b], axis: x, one way: pull, gap: GAP, stiffness: 20000}
supports:
  wall: {at: a, hold: all}
  rails: {at: b, hold: [y, z, rx, ry, rz]}
damping: 0
gauges:
  ball: {displacement: b, axis: x}
  ball a: {acceleration: b, axis: x}
  buffer: {force: buffer}
  wall: {reaction: wall}
loads: {push: {at: b, force: [3, 0, 0]}}
events:
  jolt: {pulse: {x: {half sine: {peak: 20 m/s^2, duration: 50 ms}}}, ring down: 1 s}
  followed: {pulse: {x: {half sine: {peak: 20 m/s^2, duration: 50 ms}}}, ring down: 1 s, follow: true}
  hold: {static: push}
"""


@pytest.fixture
def ball(tmp_path):
    file = tmp_path / "ball.yaml"
    file.write_text(BALL.replace("GAP", "0.01"))
    return file


def test_a_buffer_with_a_gap_in_an_assembly(ball, tmp_path):
    modes = hk.Assembly.read(ball).modes(count=1)
    linear, answer = modes.respond("jolt"), modes.respond("jolt", follow=True)
    w, k = np.sqrt(400.0), 20000.0
    # after the pulse the motion is free: by its amplitude the speed at the buffer, and from that the force there
    size = abs(linear.result.peaks[0])
    speed, fast = w * np.sqrt(size**2 - 0.01**2), np.sqrt((800 + k) / 2)
    still = k * 0.01 / (800 + k)
    deepest = still + np.hypot(0.01 - still, speed / fast)
    one = answer.table("one_way").iloc[0]
    assert one["largest_force_n"] == pytest.approx(k * (deepest - 0.01), rel=1e-4)
    assert one["fastest_touch_mm_per_s"] == pytest.approx(1e3 * speed, rel=1e-4)
    peaks = answer.table("peaks").set_index("gauge")
    assert peaks.loc["buffer", "peak"] == pytest.approx(k * (deepest - 0.01), rel=1e-4)
    assert abs(peaks.loc["ball a", "peak"]) * 9.80665 == pytest.approx(
        (800 * deepest + k * (deepest - 0.01)) / 2, rel=1e-3
    )
    told = next(f for f in answer.findings if f.kind == "followed")
    assert told.numbers["changes"] == len(answer.table("changes")) == 8
    assert told.numbers["energy"] < 1e-9
    assert told.numbers["error"] < 1e-4
    assert abs(answer.table("followed_energies")["missing_j"]).max() < 1e-9
    same = modes.respond("followed")
    assert np.array_equal(same.result.peaks, answer.result.peaks)
    assert answer.ok
    answer.save(tmp_path / "answer.xlsx")
    answer.plot("one_way").savefig(tmp_path / "members.png")
    assert "one_way" not in linear.tables
    shape = answer.deformed(answer.table("changes")["time_ms"].iloc[0] / 1e3)
    assert np.abs(shape.displacement).max() == pytest.approx(0.01, rel=1e-6)
    done = inside("respond", str(ball), "jolt", "--follow", "--count", "1", "--json")
    assert done.returncode == 0, done.stderr
    printed = json.loads(done.stdout)
    assert [r["what"] for r in printed["tables"]["jolt_changes"]] == ["touches", "opens"] * 4


def test_what_never_acts_changes_nothing(tmp_path):
    file = tmp_path / "far.yaml"
    file.write_text(BALL.replace("GAP", "0.5"))
    modes = hk.Assembly.read(file).modes(count=1)
    answer = modes.respond("followed")
    assert np.array_equal(answer.result.peaks, modes.respond("jolt").result.peaks)
    assert answer.table("changes").empty


BOX = """
holokine: 1
units: {length: m, force: N}
points: {b: [0, 0, 1], c: [0, 0, 2]}
masses: {box: {at: b, mass: 3}, lid: {at: c, mass: 1e-3}}
supports:
  floor: {at: b, pushes: z, restitution: REST}
  rails: {at: b, hold: [x, y, rx, ry, rz]}
  more: {at: c, hold: [x, y, rx, ry, rz]}
springs:
  hinge: {between: [b, c], stiffness: 5}
loads: {weight: {gravity: -z}}
states: {standing: {loads: weight}}
state: standing
damping: 0
gauges:
  box: {displacement: b, axis: z}
  floor: {reaction: floor}
events:
  drop: {pulse: {z: {half sine: {peak: -30 m/s^2, duration: 100 ms}}}, ring down: 1 s, follow: true, with state: true}
"""


def test_a_box_leaves_the_floor_and_comes_back(tmp_path):
    """With the floor falling away at more than 1 g the box flies; where it meets the floor again is by hand."""
    file = tmp_path / "box.yaml"
    file.write_text(BOX.replace("REST", "0"))
    answer = hk.Assembly.read(file).modes(count=1).respond("drop")
    g, w = 9.80665, np.pi / 0.1

    def base(t: float) -> float:
        return -30 * np.sin(w * t) if 0 <= t <= 0.1 else 0.0

    off = np.arcsin(g / 30) / w

    def height(t: float) -> float:
        return quad(lambda s: (t - s) * (-g - base(s)), off, t, points=[0.1] if t > 0.1 else None, limit=200)[0]

    lands = brentq(height, 0.1, 1.0)
    told = answer.table("changes")
    told = told[told["member"] == "floor"]
    assert told["what"].tolist()[:2] == ["opens", "touches"]
    assert told["time_ms"].iloc[0] == pytest.approx(1e3 * off, rel=2e-3)
    assert told["time_ms"].iloc[1] == pytest.approx(1e3 * lands, rel=2e-3)
    history = answer.table("history", "floor")
    column = next(c for c in history if c.startswith("floor z") or c.startswith("floor ("))
    flying = (history["time_s"] > off * 1.05) & (history["time_s"] < lands * 0.98)
    assert np.abs(history.loc[flying, column]).max() < 2e-2 * 3 * g
    assert history[column].iloc[-1] == pytest.approx(3 * g, rel=0.05)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (("pulse: {x:", "start from: hold, pulse: {x:"), "follow starts from the state"),
        (("one way: pull, gap: 0.01, ", ""), "acts one way or by a law"),
        (("follow: true", "follow: true, method: average acceleration"), "follow works on modes"),
    ],
)  # fmt: skip
def test_what_cannot_be_followed_is_said(tmp_path, change, words):
    text = BALL.replace("GAP", "0.01").replace(*change)
    file = tmp_path / "a.yaml"
    file.write_text(text)
    with pytest.raises(HolokineError, match=words):
        hk.Assembly.read(file).modes(count=1).respond("followed")


def test_friction_spectra_and_rebounds_are_refused_by_name(ball):
    modes = hk.Assembly.read(ball).modes(count=1)
    with pytest.raises(EventError, match="follow is for events in time"):
        modes.respond("hold", follow=True)
    text = ball.read_text().replace("hold: all}", "hold: all, restitution: 0.5}")
    ball.write_text(text)
    with pytest.raises(HolokineError, match="restitution has no effect"):
        hk.Assembly.read(ball)
    ball.write_text(BOX.replace("REST", "1.5"))
    with pytest.raises(HolokineError, match="restitution"):
        hk.Assembly.read(ball)
    rough = BOX.replace("  rails: {at: b, hold: [x, y, rx, ry, rz]}\n", "")
    ball.write_text(rough.replace("REST", "0.5, friction: 0.2"))
    with pytest.raises(EventError, match='"floor" has friction and restitution'):
        hk.Assembly.read(ball).modes(count=1).respond("drop")
    ball.write_text(rough.replace("restitution: REST", "friction: 0.2"))
    with pytest.raises(EventError, match='"floor" rubs where nothing yields'):
        hk.Assembly.read(ball).modes(count=1).respond("drop")


def test_a_string_on_a_rough_foot_agrees_with_a_slider_in_fine_steps():
    """The foot has next to no mass: between it and the first mass is a spring that slips where friction ends."""
    n, k, stiff, mu, pressed = 7, 4e3, 1e5, 0.3, 50.0
    K = np.zeros((n, n))
    for i, own in zip(range(n - 1), [k, k, k, k, 0.0, stiff], strict=True):
        K[i : i + 2, i : i + 2] += own * np.array([[1, -1], [-1, 1]])
    K[4, 4] += 1e3
    M, G = np.diag([1e-7, 1, 1, 1, 1, 1e-7, 5.0]), np.zeros((n, 2))
    G[3, 0] = G[6, 1] = 1.0
    foot = Member("foot", -np.eye(n)[5], force=pressed, friction=mu, across=np.eye(n)[:1], across_force=np.zeros(1))
    t = np.linspace(0.0, 2.0, 1001)

    def loads(at):
        return np.array([40 * np.sin(8 * np.pi * at) * (at < 1), 30 * np.sin(14 * np.pi * at)])

    run = Stepped(Few(M, 0 * K, K, G, [foot]), t, loads(t).T, finer=16, keep=1e3).run()
    # straight loads between rows in both
    h, x, v, slider = 2e-5, np.zeros(5), np.zeros(5), 0.0  # masses 1 to 4, then the one above the foot
    chain, mass = K[1:5, 1:5], np.array([1, 1, 1, 1, 5.0])
    given, moved, slid, rubbed = loads(t), [], [], 0.0
    for i in range(100_000):
        at = i * h
        pull, press = (np.interp(at, t, g) for g in given)
        limit, wanted = mu * (pressed - stiff * x[4]), k * (x[0] - slider)
        if abs(wanted) > limit:
            new = x[0] - np.sign(wanted) * limit / k
            rubbed += abs(new - slider) * limit
            slider = new
        force = np.array([0, 0, pull, 0, press - stiff * x[4]])
        force[:4] -= chain @ x[:4]
        force[0] += k * slider
        v += h * force / mass
        x += h * v
        if i % 100 == 99:
            moved.append(x[2])
            slid.append(slider)
    rows = [int(np.flatnonzero(np.abs(run.time - at) < 1e-9)[-1]) for at in t[1:]]
    assert sum(c.what == "slides" for c in run.changes) > 8
    assert np.abs(run.x[rows, 3] - moved).max() < 1e-3 * np.abs(moved).max()
    assert np.abs(run.slip[rows, 0, 0] - slid).max() < 1e-3 * np.abs(slid).max()
    assert run.work["rubbed"][-1] == pytest.approx(rubbed, rel=2e-4)
    assert run.rubbed(0) == pytest.approx(rubbed, rel=2e-4)
    assert run.balance < 1e-4
    sliding = run.status[:, 0] == SLIDING
    off = np.abs(run.rub[:, 0, 0]) - mu * run.force[:, 0]
    assert off.max() < 1e-9 * pressed  # never beyond what friction holds
    assert np.sort(np.abs(off[sliding]))[-20] < 1e-9 * pressed  # but for the rows at which it begins


SKID = """
holokine: 1
units: {length: mm, force: N}
materials: {steel: {E: 205 GPa, nu: 0.29, density: 7850 kg/m^3}}
sections: {rail: {tube: {width: 80 mm, height: 60 mm, wall: 4 mm}}}
points: {a: [0, 0, 0], b: [1500, 0, 0], c: [1500, 700, 0], d: [0, 700, 0], pump: [600, 350, 300]}
parts:
  r1: {beam: {through: [a, b], section: rail, up: z, divisions: 4}, material: steel}
  r2: {beam: {through: [d, c], section: rail, up: z, divisions: 4}, material: steel}
  c1: {beam: {through: [a, d], section: rail, up: z, divisions: 2}, material: steel}
  c2: {beam: {through: [b, c], section: rail, up: z, divisions: 2}, material: steel}
masses: {pump: {at: pump, mass: 120 kg, inertia: ["3 kg m^2", "3 kg m^2", "4 kg m^2"]}}
links: {carried: {averaging: pump, to: {group: ends}}}
groups: {ends: [c1, c2]}
supports:
  foot a: {at: a, pushes: z, friction: 0.3}
  foot b: {at: b, pushes: z, friction: 0.3}
  foot c: {at: c, pushes: z, friction: 0.3}
  foot d: {at: d, pushes: z, friction: 0.3}
loads: {weight: {gravity: -z}}
states: {standing: {loads: weight}}
state: standing
damping: 2 %
gauges: {pump: {acceleration: pump}, moves: {displacement: a}, foot a: {reaction: foot a}, bend: {stress: r1}}
limits: {moves: 20 mm}
events:
  push: {pulse: {x: {half sine: {peak: 0.6 g, duration: 120 ms}}}, ring down: 0.15 s, follow: true}
  slant: {pulse: {x: {half sine: {peak: 0.6 g, duration: 120 ms}}, y: {half sine: {peak: 0.6 g, duration: 120 ms}}},
    ring down: 0.15 s, follow: true}
  nudge: {pulse: {x: {half sine: {peak: 0.05 g, duration: 120 ms}}}, follow: true}
"""


@pytest.fixture(scope="module")
def skid(tmp_path_factory):
    file = tmp_path_factory.mktemp("skid") / "skid.yaml"
    file.write_text(SKID)
    return hk.Assembly.read(file).modes(count=8)


@pytest.mark.parametrize("event", ["push", pytest.param("slant", marks=pytest.mark.long)])
def test_a_skid_on_rough_feet_slides_as_far_as_a_rigid_block(skid, event, tmp_path):
    """A frame stiff beside the pulse: the way is that of a block (Newmark, Géotechnique 15 (1965) 139-160)."""
    answer = skid.respond(event)
    ways = 1.0 if event == "push" else np.sqrt(2.0)
    t = np.linspace(0.0, 0.27, 27_001)
    speed, way, dt = 0.0, 0.0, t[1]
    for at in t:
        base = 0.6 * ways * np.sin(np.pi * at / 0.12) if at < 0.12 else 0.0
        speed = max(0.0, speed + 9.80665 * (base - 0.3) * dt)
        way += speed * dt
    one = answer.table("one_way")
    assert one["left_mm"].to_numpy() == pytest.approx(1e3 * way, rel=0.04)
    assert (one["slip_added_up_mm"] >= one["left_mm"] * 0.999).all()
    assert (one["at_the_end"] != "open").all()
    system = skid.set.system
    along = system.rigid_motions(np.zeros(3))[0]
    mass = float(along @ (system.mass @ along))
    assert one["rubbed_j"].sum() == pytest.approx(0.3 * mass * 9.80665 * way, rel=0.05)
    run = answer.result.followed.run
    assert run.balance < 3e-3
    # the reaction of a foot is what was followed, beside the state
    history = answer.table("history", "foot a")
    j = [m.name for m in answer.result.followed.members].index("foot a")
    m, near = answer.result.followed.members[j], 1e-8 * run.force.max()
    np.testing.assert_allclose(history["foot a z (N)"], run.force[:, j] - m.force, atol=near)
    np.testing.assert_allclose(history["foot a x (N)"], run.rub[:, j, 0] - m.across_force[0], atol=near)
    moved = answer.table("history", "moves")["moves x (mm)"]
    np.testing.assert_allclose(moved, 1e3 * run.slip[:, j, 0], atol=1e-6)
    tip = answer.system.mesh.points["a"]
    assert answer.deformed(float(run.time[-1])).displacement.reshape(-1, 6)[tip, 0] == pytest.approx(
        run.slip[-1, j, 0], rel=1e-6
    )
    assert len(answer.table("limits")) >= 1
    answer.plot("one_way").savefig(tmp_path / "members.png")
    answer.save(tmp_path / "a.html")


@pytest.mark.long
def test_a_skid_slides_into_a_damped_stop(tmp_path):
    """Rough feet, a stop with a damper that comes in against what has no mass, loads in time about a state."""
    stop = "{between: [wall, b], one way: push, gap: 3, stiffness: 500 N/mm, damping: 500 N s/m}"
    text = SKID
    for old, new in (
        ("supports:\n", f"springs: {{stop: {stop}}}\nsupports:\n  rig: {{at: wall, hold: [x, y, z]}}\n"),
        ("pump: [600", "wall: [1600, 0, 0], pump: [600"),
        ("loads: {weight", "loads: {shove: {at: pump, force: [600, 0, 0]}, weight"),
        ("bend: {stress: r1}", "bend: {stress: r1}, both: {total force: stop}"),
    ):
        assert old in text
        text = text.replace(old, new, 1)
    file = tmp_path / "skid.yaml"
    file.write_text(text + """
  shoved: {loads: {shove: {half sine: {duration: 60 ms}}}, ring down: 0.1 s, follow: true, with state: true}
  hits: {pulse: {x: {half sine: {peak: -0.6 g, duration: 120 ms}}}, ring down: 0.05 s, follow: true}
""")  # fmt: skip
    modes = hk.Assembly.read(file).modes(count=8)
    for event, touched in (("shoved", 0), ("hits", 1)):
        answer = modes.respond(event)
        one, run = answer.table("one_way").set_index("member"), answer.result.followed.run
        j = list(one.index).index("stop")
        assert one.loc["stop", "touched"] == touched
        assert (one["slid"].dropna() >= 1).all()
        assert run.balance < 2e-4
        np.testing.assert_allclose(answer.table("history", "both").iloc[:, -1], -run.force[:, j], atol=1e-9)
    assert 1e3 * run.closing[:, j].max() > 3.0


def test_a_rigid_foot_reads_what_is_followed(skid, tmp_path):
    """A frame held across that lifts off and lands: reactions from balance are the forces of the feet to rounding."""
    file = tmp_path / "skid.yaml"
    lift = "{pulse: {z: {half sine: {peak: 1.2 g, duration: 30 ms}, scale: -1}}, ring down: 1 ms, follow: true}"
    file.write_text(SKID.replace("friction: 0.3", "hold: [x, y]") + f"  lift: {lift}\n")
    answer = hk.Assembly.read(file).modes(count=6).respond("lift")
    run, told = answer.result.followed.run, answer.table("one_way").set_index("member")
    assert told["opened"].sum() >= 1
    j = list(told.index).index("foot a")
    beside = run.force[:, j] - told["force_at_start_n"].iloc[j]
    np.testing.assert_allclose(answer.table("history", "foot a")["foot a z (N)"], beside, atol=1e-7)


def test_feet_that_stick_change_nothing(skid):
    answer = skid.respond("nudge")
    event = skid.assembly.description.events["nudge"].model_copy(update={"follow": False})
    assert np.array_equal(answer.result.peaks, skid.respond(event).result.peaks)
    assert (answer.table("one_way")["slid"] == 0).all()


BEAM = """
holokine: 1
units: {length: mm, force: N}
materials: {steel: {E: 205 GPa, nu: 0.29, density: 7850 kg/m^3}}
sections: {bar: {rectangle: {width: 30 mm, height: 10 mm}}}
points: {a: [0, 0, 0], b: [600, 0, 0], under: [600, 0, -50]}
parts: {bar: {beam: {through: [a, b], section: bar, up: z, divisions: 8}, material: steel}}
supports: {wall: {at: a, hold: all}, rig: {at: under, hold: [x, y, z]}}
springs: {stop: {between: [under, b], one way: push, gap: 0.5, stiffness: 300 N/mm}}
damping: 1 %
gauges: {tip: {displacement: b, axis: z}, stop: {force: stop}}
events: {jolt: {pulse: {z: {half sine: {peak: 6 g, duration: 12 ms}}}, ring down: 60 ms, follow: true}}
"""


def test_a_beam_on_a_stop_agrees_with_a_step_by_step_integration_of_the_whole_model(tmp_path):
    file = tmp_path / "beam.yaml"
    file.write_text(BEAM)
    assembly = hk.Assembly.read(file)
    few, many = assembly.modes(count=8), assembly.modes(count=24)
    system = many.set.system
    T = system.constraints.reduce.toarray()
    K, M = (T.T @ m.toarray() @ T for m in (system.stiffness, system.mass))
    w2, shapes = scipy.linalg.eigh(K, M)
    C = M @ shapes @ np.diag(0.02 * np.sqrt(w2)) @ shapes.T @ M
    pull = -(T.T @ (system.mass @ system.rigid_motions(np.zeros(3))[2]))
    tip = T[6 * system.mesh.points["b"] + 2]
    k, gap, h = 3e5, 5e-4, 4e-6
    free, held = (scipy.linalg.lu_factor(4 / h**2 * M + 2 / h * C + K + s * np.outer(tip, tip)) for s in (0.0, k))
    x, v, a = np.zeros((3, len(M)))
    touches, moved, pushed = False, [0.0], [0.0]
    for i in range(1, int(0.072 / h)):  # average acceleration, contact by the end of each step
        base = 6 * 9.80665 * np.sin(np.pi * i * h / 0.012) if i * h < 0.012 else 0.0
        right = M @ (4 / h**2 * x + 4 / h * v + a) + C @ (2 / h * x + v) + pull * base
        new = scipy.linalg.lu_solve(held if touches else free, right - (k * gap * tip if touches else 0.0))
        if (-(tip @ new) > gap) != touches:
            touches = not touches
            new = scipy.linalg.lu_solve(held if touches else free, right - (k * gap * tip if touches else 0.0))
        a = 4 / h**2 * (new - x) - 4 / h * v - a
        x, v = new, 2 / h * (new - x) - v
        moved.append(float(tip @ x))
        pushed.append(k * max(0.0, -moved[-1] - gap))
    for modes, within in ((few, 0.01), (many, 3e-4)):
        answer = modes.respond("jolt")
        assert np.abs(answer.result.peaks[0]) == pytest.approx(max(moved), rel=within)
        assert np.abs(answer.result.peaks[1]) == pytest.approx(max(pushed), rel=within)
        assert answer.table("one_way").loc[0, "touched"] == 3


CROSSED = BEAM.replace("stiffness: 300 N/mm", "stiffness: 300 N/mm, damping: 200 N s/m").replace(
    "stop: {force: stop}}", "stop: {force: stop}, damper: {damper force: stop}, both: {total force: stop}}"
).replace("events: {jolt: {pulse", """loads: {weight: {gravity: -z}, push: {at: b, force: [0, 0, -30]}}
states: {hangs: {loads: weight}}
state: hangs
limits: {both: 60 N}
events:
  push: {loads: {push: {half sine: {duration: 5 ms}}}, ring down: 60 ms, follow: true}
  drop: {pulse: {z: {half sine: {peak: 6 g, duration: 12 ms}, scale: -1}}, ring down: 60 ms, follow: true}
  total: {pulse: {z: {half sine: {peak: 6 g, duration: 12 ms}}}, ring down: 60 ms, follow: true, with state: true}
  apart: {support pulses: {w: {supports: wall, pulse: {z: {half sine: {peak: 6 g, duration: 12 ms}}}}}}
  jolt: {pulse""").replace("follow: true}}\n", "follow: true}\n")  # fmt: skip


@pytest.fixture(scope="module")
def crossed(tmp_path_factory):
    file = tmp_path_factory.mktemp("crossed") / "beam.yaml"
    file.write_text(CROSSED)
    return hk.Assembly.read(file).modes(count=12)


@pytest.mark.parametrize("event", ["jolt", "push", "drop", "total"])
def test_a_damped_stop_about_a_state_in_every_gauge_field_and_file(crossed, event, tmp_path):
    answer = crossed.respond(event)
    run, first = answer.result.followed.run, answer.result.followed.members[0].force
    assert first > 1.0  # the beam hangs on its stop
    beside = 0.0 if event == "total" else first
    elastic, damper, both = (answer.table("history", g).iloc[:, -1].to_numpy() for g in ("stop", "damper", "both"))
    force, open_ = run.force[:, 0], run.status[:, 0] == 0
    np.testing.assert_allclose(both, -(force - beside), atol=1e-9)
    assert np.abs(damper[open_]).max() < 1e-9
    assert np.abs(elastic[open_] - beside).max() < 1e-9
    np.testing.assert_allclose(elastic + damper, both, atol=1e-9)
    assert force.min() > -1e-9
    assert (force[open_] == 0.0).all()
    assert run.balance < 1e-6
    limits = answer.table("limits").iloc[0]
    total = np.abs(force).max() if event == "total" else max(abs(beside + both.min()), abs(both.max() - beside))
    assert limits["peak"] >= total * (1 - 1e-6)
    # the field at an instant is what the gauge reads then
    row = int(np.argmax(run.time > 0.01))
    tip = answer.system.mesh.points["b"]
    moved = answer.deformed(float(run.time[row])).displacement.reshape(-1, 6)[tip, 2]
    gauge = answer.result.history(0)[row] - (answer.result.history(0)[0] if event == "total" else 0.0)
    assert moved == pytest.approx(gauge, rel=1e-6, abs=1e-12)
    envelope = answer.motion.envelope(dofs=np.array([6 * tip + 2]))
    assert (
        envelope.highest[0]
        >= (answer.result.history(0).max() - (answer.result.history(0)[0] if event == "total" else 0)) * 0.999
    )
    if event == "drop":
        answer.save(tmp_path / "a.vtu")
        answer.save(tmp_path / "a.html")
        answer.save(tmp_path / "a.gif", seconds=0.5, rate=4, pixels=(320, 200))
    assert len(answer.table("stress")) == 1


def test_a_followed_answer_comes_from_a_run_file_and_linear_answers_name_it(crossed, tmp_path):
    crossed.save(tmp_path / "beam.run")
    again = hk.open_run(tmp_path / "beam.run").respond("drop")
    np.testing.assert_allclose(again.result.peaks, crossed.respond("drop").result.peaks, rtol=1e-9)
    event = crossed.assembly.description.events["drop"].model_copy(update={"follow": False})
    linear = crossed.respond(event)
    told = next(f for f in linear.findings if f.kind == "lets go")
    assert "--follow" in told.text
    assert told.numbers["stop (one way)"] > 1.0
    assert not any(f.kind == "lets go" for f in again.findings)
    with pytest.raises(EventError, match="groups of supports are not followed"):
        crossed.respond("apart", follow=True)


LAWFUL = """
holokine: 1
units: {length: m, force: N}
points: {a: [0, 0, 0], b: [1, 0, 0]}
masses: {ball: {at: b, mass: 2}}
springs:
  coil: {between: [a, b], stiffness: 800}
  bias: {between: [ground, b], axis: x, law: {linear: 400, quadratic: 3000, cubic: 9e5}}
supports:
  wall: {at: a, hold: all}
  rails: {at: b, hold: [y, z, rx, ry, rz]}
damping: 0
loads: {pull: {at: b, force: [6, 0, 0]}}
states: {pulled: {loads: pull}}
gauges: {ball: {displacement: b, axis: x}, bias: {force: bias}}
events: {jolt: {pulse: {x: {half sine: {peak: 20 m/s^2, duration: 50 ms}}}, ring down: 1 s, follow: true}}
"""


@pytest.mark.parametrize("state", ["", "state: pulled\n"])
def test_a_spring_with_a_law_is_followed_from_where_a_state_stretches_it(tmp_path, state):
    file = tmp_path / "law.yaml"
    file.write_text(LAWFUL + state)
    answer = hk.Assembly.read(file).modes(count=1).respond("jolt")

    def law(e):
        return 400 * e + 3000 * e**2 + 9e5 * e**3

    start = brentq(lambda e: 800 * e + law(e) - 6, 0, 1) if state else 0.0

    def rhs(t, y):
        base = 20 * np.sin(np.pi * t / 0.05) if 0 <= t <= 0.05 else 0.0
        return [y[1], -base - (800 * y[0] + law(start + y[0]) - law(start)) / 2]

    plain = solve_ivp(rhs, (0, 1.05), [0.0, 0.0], rtol=1e-10, atol=1e-13, max_step=1e-3, dense_output=True)
    x = plain.sol(np.linspace(0, 1.05, 20_001))[0]
    force = law(start + x) - law(start)
    assert abs(answer.result.lowest[0]) == pytest.approx(-x.min(), rel=2e-4)
    assert answer.result.highest[0] == pytest.approx(x.max(), rel=2e-4)
    assert answer.result.highest[1] == pytest.approx(force.max(), rel=5e-4)
    assert answer.result.lowest[1] == pytest.approx(force.min(), rel=5e-4)
    assert answer.result.followed.run.balance < 1e-3
