"""Steady periodic motion with members that let go, hit and slide: published branches, closed forms, runs in time."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import brentq

from holokine.elements.laws import ForceLaw
from holokine.errors import EventError
from holokine.respond.branches import Branch, follow_branch, in_doubt, multipliers, seen, stability
from holokine.respond.contacts import Few, Member
from holokine.respond.periodic import Balance
from holokine.respond.series import as_complex
from test_followed import ONE, gapped_string


def swept(few: Few, push, harmonics: int, low: float, high: float, spacing: float, size: float):
    balance = Balance(few, np.zeros((few.count, few.count)), push, harmonics, low)
    branch = follow_branch(balance, balance.begin(low), high, lambda w: spacing, size)
    stability(balance, branch)
    return balance, branch


def sizes(balance: Balance, branch: Branch, direction: int = 0) -> np.ndarray:
    return np.array([np.abs(p.place[direction] @ balance.cycle.V.T).max() for p in branch.points])


def stops(count: int, damping: float = 0.0) -> Few:
    members = [Member("stop", ONE, 9.0, gap=1.0, damping=damping), Member("other", -ONE, 9.0, gap=1.0)][:count]
    return Few(np.eye(1), 0.04 * np.eye(1), np.eye(1), np.eye(1), members)


def test_duffing_follows_its_published_branches_and_jumps_where_they_turn():
    b, z, force = 0.05, 0.02, 0.1
    law = ForceLaw(np.zeros((0, 2)), (1.0, 0.0, b))
    few = Few(np.eye(1), 2 * z * np.eye(1), np.zeros((1, 1)), np.eye(1), [Member("spring", ONE, 1.0, law=law)])
    _, branch = swept(few, lambda w: np.array([force + 0j]), 1, 0.5, 1.9, 0.02, 0.1)
    # with one harmonic: (1 - w² + 3/4 b a²)² a² + (2 z w a)² = force² (Nayfeh and Mook 1979)
    a = np.array([abs(as_complex(p.place)[0, 1]) for p in branch.points])
    w = branch.omega
    np.testing.assert_allclose(np.hypot((1 - w**2 + 0.75 * b * a**2) * a, 2 * z * w * a), force, rtol=1e-8)
    assert branch.ends == "range"

    def at(size: float, sign: float) -> float:
        # that curve at a size: what a sweep jumps at are its turns
        s = 1 + 0.75 * b * size**2 - 2 * z**2
        return np.sqrt(s + sign * np.sqrt(s**2 - (1 + 0.75 * b * size**2) ** 2 + (force / size) ** 2))

    top = brentq(lambda x: (force / x) ** 2 - (2 * z) ** 2 * (1 + 0.75 * b * x**2 - z**2), 1.0, 4.0)
    grid = np.linspace(0.3, top * (1 - 1e-9), 200_001)
    left, right = at(grid, -1.0), at(grid, 1.0)
    lowest = int(right.argmin())
    up, down = seen([branch], True), seen([branch], False)
    assert [len(up.jumps), len(down.jumps)] == [1, 1]
    assert up.jumps[0].omega == pytest.approx(max(left.max(), right[lowest:].max()), rel=1e-4)
    assert down.jumps[0].omega == pytest.approx(right[lowest], rel=1e-4)
    between = (w > 1.001 * right[lowest]) & (w < 0.999 * up.jumps[0].omega)
    assert {"runs back", ""} == {why for why, inside in zip(branch.lost, between, strict=True) if inside}
    more, fine = swept(few, lambda w: np.array([force + 0j]), 7, 0.5, 1.9, 0.02, 0.1)
    assert in_doubt(more, fine) < 1e-6
    first = [max(abs(as_complex(p.place)[0, 1]) for p in found.points) for found in (branch, fine)]
    assert first[1] == pytest.approx(first[0], rel=3e-3)
    assert seen([fine], True).jumps[0].omega == pytest.approx(up.jumps[0].omega, rel=3e-3)


def test_a_sweep_against_stops_jumps_up_and_down_and_agrees_with_runs_in_time():
    for few in (stops(1, 0.1), stops(2)):
        balance, branch = swept(few, lambda w: np.array([0.1 + 0j]), 21, 0.3, 3.0, 0.02, 0.1)
        assert branch.ends == "range"
        up, down = seen([branch], True), seen([branch], False)
        assert len(up.jumps) == len(down.jumps) == 1
        assert up.jumps[0].why == down.jumps[0].why == "runs back"
        assert up.jumps[0].omega > down.jumps[0].omega
        w, found = branch.omega, sizes(balance, branch)
        assert (np.diff(w[[k for _, k in up.points]]) >= 0).all()  # it runs one way
        assert (np.diff(w[[k for _, k in down.points]]) <= 0).all()
        assert down.jumps[0].omega == pytest.approx(1.0444, abs=1e-3)  # where the free motion reaches the stop
        k = next(k for _, k in up.points if found[k] > 1.2)
        period = 2 * np.pi / w[k]
        # slowly swept up to it in time, then held there
        n, cycles = 64, 100
        rate = np.linspace(0.85, w[k], n * cycles)
        rate = np.concatenate([rate, np.full(50 * n, w[k])])
        phase = np.cumsum(rate) * period / n
        t = np.arange(len(rate)) * period / n
        run = few.run(t, 0.1 * np.cos(phase)[:, None])
        last = run.time > t[-1] - 2 * period
        reached = (balance.cycle.V @ branch.points[k].place.T).max(axis=0)
        np.testing.assert_allclose(run.closing[last].max(axis=0), reached, rtol=4e-3)


def test_members_of_every_kind_agree_with_a_run_in_time():
    few, _, _ = gapped_string()
    f, n, cycles = 6.0, 128, 24
    balance = Balance(few, np.zeros((5, 5)), lambda w: few.weights[:, 0] * (12 + 0j), 24, 10.0)
    point = balance.begin(2 * np.pi * f)
    t = np.arange(cycles * n + 1) / (n * f)
    run = few.run(t, (12 * np.minimum(t * f / 5, 1) * np.cos(2 * np.pi * f * t))[:, None])
    last = run.time > t[-1] - 1 / f
    x = point.place @ balance.cycle.V.T
    np.testing.assert_allclose(run.closing[last].max(axis=0), x.max(axis=1), rtol=2e-3, atol=5e-6)
    np.testing.assert_allclose(run.closing[last].min(axis=0), x.min(axis=1), rtol=2e-3, atol=5e-6)
    whole = balance.coordinates(point)
    np.testing.assert_allclose(few.rows @ whole.T, as_complex(point.place), atol=1e-12)
    assert np.abs(multipliers(balance, point)).max() < 1.0  # the run settles there
    # derivatives by which branches are followed, against differences
    _, turned, _, _, slopes = balance.residual(point.force, point.omega)
    J, e = balance.jacobian(slopes, point.omega), 1e-4
    for column in (0, 3, 60, 150):
        d = np.zeros(J.shape[1])
        d[column] = e
        d = d.reshape(balance.shape)
        ends = [balance.residual(point.force + s * d, point.omega)[0] for s in (1, -1)]
        np.testing.assert_allclose((ends[0] - ends[1]).ravel() / (2 * e), J[:, column], atol=1e-5)
    ends = [balance.residual(point.force, point.omega + s * 1e-5)[0] for s in (1, -1)]
    np.testing.assert_allclose((ends[0] - ends[1]) / 2e-5, turned, atol=2e-5 * np.abs(turned).max())


def test_multipliers_of_a_linear_assembly_are_its_poles_over_a_cycle():
    few = Few(np.diag([1.0, 2.0]), np.diag([0.1, 0.05]), np.array([[5.0, -2.0], [-2.0, 2.0]]), np.eye(2),
              [Member("stop", np.array([1.0, 0.0]), 50.0, gap=1e3, damping=1.0)])  # fmt: skip
    balance = Balance(few, np.zeros((2, 2)), lambda w: np.array([1.0, 0.0], dtype=complex), 3, 1.0)
    point = balance.begin(1.3)
    A = np.block([[np.zeros((2, 2)), np.eye(2)], [-few.inverse @ few.stiffness, -few.inverse @ few.damping]])
    exact = np.exp(np.linalg.eigvals(A) * 2 * np.pi / 1.3)
    np.testing.assert_allclose(np.sort_complex(multipliers(balance, point)), np.sort_complex(exact), atol=1e-12)
    assert np.abs(point.force).max() == 0.0  # a member that never acts changes nothing
    plain = np.linalg.solve(few.stiffness - 1.3**2 * few.mass + 1.3j * few.damping, [1.0, 0.0])
    np.testing.assert_allclose(balance.coordinates(point)[1], plain, rtol=1e-13)


@pytest.mark.parametrize("across", [1, 2])
def test_friction_under_a_sine_comes_to_the_closed_form_of_den_hartog(across):
    mu, normal, ratio = 0.2, 10.0, 0.3
    force = mu * normal / ratio
    foot = Member("foot", np.array([0.0, 0.0, -1.0]), force=normal, friction=mu, across=np.eye(3)[:across],
                  across_force=np.zeros(across))  # fmt: skip
    few = Few(np.eye(3), np.zeros((3, 3)), np.diag([1.0, 7.3, 0.0]), np.eye(3), [foot])
    for beta in (0.7, 1.3, 1.6):
        # Transactions of the ASME 53 (1931) APM-107: without stops, no damping but friction
        U = np.sin(np.pi / beta) / (beta * (1 + np.cos(np.pi / beta)))
        exact = np.sqrt(1 / (1 - beta**2) ** 2 - (ratio * U) ** 2)
        off = []
        for harmonics in (9, 19, 39):
            balance = Balance(few, np.zeros((3, 3)), lambda w: np.array([force, 0, 0], dtype=complex), harmonics, 1.0)
            x = balance.begin(beta).place[1] @ balance.cycle.V.T
            off.append(abs(np.abs(x).max() / force - exact) / exact)
        assert off[0] > off[1] > off[2]
        assert off[2] < 4e-3


def test_a_table_that_is_left_is_refused_by_name():
    law = ForceLaw(np.array([[-1.0, -1.0], [1.0, 1.0]]))
    few = Few(np.eye(1), 0.1 * np.eye(1), np.zeros((1, 1)), np.eye(1), [Member("pad", ONE, law=law)])
    balance = Balance(few, np.zeros((1, 1)), lambda w: np.array([1.0 + 0j]), 5, 1.0)
    balance.refuse_beyond(balance.begin(3.0))
    with pytest.raises(EventError, match='"pad" leaves its table'):
        balance.refuse_beyond(balance.begin(1.0))
