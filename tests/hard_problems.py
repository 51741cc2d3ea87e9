"""Hard eigenproblems with known eigenvalues, by family and seed, and a verdict on what an extraction makes of them.

K = Tᵀ diag(k) T and M = Tᵀ diag(m) T with T a product of plane rotations (sparse) or a full orthogonal matrix, and a
diagonal scaling: the finite eigenvalues are k/m where m > 0, exactly, whatever T is.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy.sparse import csr_array, diags_array, eye_array

from holokine.errors import SolverError
from holokine.solvers.eigen import SAME, Wish, find_pairs

Floats = np.ndarray


@dataclass
class Problem:
    """K x = λ M x with what is asked and what is there."""

    K: csr_array
    M: csr_array
    wish: Wish
    values: Floats  # all finite eigenvalues, rising
    free: Floats | None = None
    refused: str = ""  # words of the error that must come
    facts: dict[str, Any] = field(default_factory=dict)


def rotations(n: int, rng: np.random.Generator, sweeps: int = 2) -> csr_array:
    """A sparse orthogonal matrix: rounds of rotations in planes of two."""
    T = csr_array(eye_array(n))
    for _ in range(sweeps):
        order = rng.permutation(n)
        a, b = order[: n // 2], order[n // 2 : 2 * (n // 2)]
        t = rng.uniform(0, 2 * np.pi, len(a))
        c = np.ones(n)
        c[a], c[b] = np.cos(t), np.cos(t)
        G = csr_array(diags_array(c)) + csr_array((np.concatenate([np.sin(t), -np.sin(t)]), (np.concatenate([a, b]),
                                                   np.concatenate([b, a]))), shape=(n, n))  # fmt: skip
        T = csr_array(G @ T)
    return T


def made(k: Floats, m: Floats, wish: Wish, rng: np.random.Generator, *, sweeps: int = 2, scale: Floats | None = None,
         full: Floats | None = None, **more: Any) -> Problem:  # fmt: skip
    """A problem of these stiffnesses and masses behind a change of basis."""
    n = len(k)
    T = rotations(n, rng, sweeps) if full is None else csr_array(full)
    if scale is not None:
        T = csr_array(T @ diags_array(scale))
    K, M = (csr_array(T.T @ diags_array(d) @ T) for d in (k, m))
    K, M = csr_array((K + K.T) / 2), csr_array((M + M.T) / 2)
    finite = m > 0
    free = None
    rigid = np.flatnonzero(finite & (k == 0))
    if len(rigid):
        unit = np.zeros((n, len(rigid)))
        unit[rigid, np.arange(len(rigid))] = 1.0
        free = T.toarray().T @ unit if scale is None else np.linalg.solve(T.toarray(), unit)
        K = _without(K, free)
    return Problem(K, M, wish, np.sort(k[finite] / m[finite]), free, **more)


def _without(K: csr_array, free: Floats) -> csr_array:
    """K as it is: rounding of its product with the free motions is below that of its entries."""
    assert np.abs(K @ free).max() < 1e-10 * abs(K).max() * np.abs(free).max()
    return K


def spread(rng: np.random.Generator, n: int, low: float = 1.0, high: float = 1e5) -> Floats:
    return np.sort(np.exp(rng.uniform(np.log(low), np.log(high), n)))


def size(rng: np.random.Generator) -> int:
    return int(rng.integers(610, 760))


def few_masses(rng):
    n, r = size(rng), int(rng.integers(3, 15))
    m = np.zeros(n)
    m[rng.permutation(n)[:r]] = rng.uniform(0.5, 50, r)
    return made(spread(rng, n), m, Wish(count=int(rng.integers(1, 40))), rng)


def some_masses(rng):
    n = size(rng)
    m = np.zeros(n)
    r = int(rng.integers(160, 420))
    m[rng.permutation(n)[:r]] = 1.0
    return made(spread(rng, n), m, Wish(count=int(rng.choice([10, 60, r - 3, r + 50]))), rng)


def singular_consistent(rng):
    """Mass of low rank without a zero on its diagonal."""
    n, r = 640, int(rng.integers(60, 300))
    m = np.concatenate([np.ones(r), np.zeros(n - r)])
    full = np.linalg.qr(rng.standard_normal((n, n)))[0]
    return made(spread(rng, n, 1, 1e4), m, Wish(count=int(rng.choice([8, 30, r + 20]))), rng, full=full)


def identical_parts(rng):
    n, times = size(rng), int(rng.integers(30, 200))
    lam = spread(rng, n)
    at = int(rng.integers(0, 40))
    lam[at : at + times] = lam[at]
    count = int(rng.choice([at + times, at + times + 5, at + times // 2, at + 3]))
    return made(np.sort(lam), np.ones(n), Wish(count=count), rng)


def identical_upto(rng):
    n, times = size(rng), int(rng.integers(30, 120))
    lam = spread(rng, n)
    lam[5 : 5 + times] = lam[5]
    lam = np.sort(lam)
    return made(lam, np.ones(n), Wish(upto=float(lam[5] * rng.choice([1.0, 1.0 + 1e-12, 1.001]))), rng)


def clusters(rng):
    n = size(rng)
    lam = spread(rng, n, 1, 1e4)
    for _ in range(6):
        at, width = int(rng.integers(0, 60)), int(rng.integers(2, 9))
        gap = 10.0 ** rng.uniform(-12, -6)
        lam[at : at + width] = lam[at] * (1.0 + gap * np.arange(width))
    return made(np.sort(lam), np.ones(n), Wish(count=int(rng.integers(20, 80))), rng)


def band_edges(rng):
    n = size(rng)
    lam = spread(rng, n, 1, 1e4)
    i, j = 20, int(rng.integers(30, 60))
    off = rng.choice([0.0, 1e-12, -1e-12], 2)
    return made(lam, np.ones(n), Wish(above=float(lam[i] * (1 + off[0])), upto=float(lam[j] * (1 + off[1]))), rng)


def band_in_a_gap(rng):
    n = size(rng)
    lam = spread(rng, n, 1, 1e4)
    i = int(rng.integers(10, 60))
    low, high = lam[i] + 0.3 * (lam[i + 1] - lam[i]), lam[i] + 0.6 * (lam[i + 1] - lam[i])
    return made(lam, np.ones(n), Wish(above=float(low), upto=float(high)), rng)


def near_an_eigenvalue(rng):
    n = size(rng)
    lam = spread(rng, n, 1, 1e4)
    i = int(rng.integers(0, 300))
    return made(lam, np.ones(n), Wish(near=float(lam[i] * (1 + rng.choice([0, 1e-13, -1e-12, 1e-9]))),
                                      count=int(rng.integers(1, 40))), rng)  # fmt: skip


def near_odd_places(rng):
    n, r = size(rng), int(rng.integers(0, 7))
    k = spread(rng, n, 1, 1e4)
    k[:r] = 0.0
    near = float(rng.choice([1e-30, 1e-9, 0.4, 0.99]) * k[r])
    return made(k, np.ones(n), Wish(near=near, count=int(rng.integers(1, 30))), rng)


def near_within_a_multiple(rng):
    n, times = size(rng), int(rng.integers(20, 60))
    lam = spread(rng, n, 1, 1e4)
    at = int(rng.integers(0, 200))
    lam[at : at + times] = lam[at]
    lam = np.sort(lam)
    return made(lam, np.ones(n), Wish(near=float(lam[at]), count=int(rng.choice([times, times + 4, times // 2]))), rng)


def hidden(rng):
    """Eigenvectors orthogonal, in M, to all start vectors of the first attempt."""
    n, block = 620, 6
    start = np.random.default_rng(0).standard_normal((n, block))
    plain = np.linalg.qr(np.hstack([start, rng.standard_normal((n, n - block))]))[0]
    hide = int(rng.integers(1, 5))
    lam = spread(rng, n, 1, 1e4)
    rows = rng.permutation(np.arange(40))[:hide]
    order = np.concatenate([np.flatnonzero(~np.isin(np.arange(n), rows)), rows])
    full = np.zeros((n, n))
    full[order] = plain.T[np.concatenate([np.arange(n - hide), np.arange(n - hide, n)])]
    # mix all but the hidden ones, so that the start vectors see every other eigenvector
    others = order[: n - hide]
    mix = np.linalg.qr(rng.standard_normal((n - hide, n - hide)))[0]
    full[others] = mix @ full[others]
    return made(lam, np.ones(n), Wish(count=int(rng.integers(25, 60))), rng, full=full)


def all_modes(rng):
    n = int(rng.integers(500, 660))
    lam = spread(rng, n, 1, 10.0 ** rng.uniform(2, 9))
    return made(lam, rng.uniform(0.5, 2, n), Wish(count=n - int(rng.choice([0, 2, 30]))), rng)


def most_by_bound(rng):
    n = size(rng)
    lam = spread(rng, n, 1, 1e6)
    i = int(rng.integers(n // 2, n - 1))
    return made(lam, np.ones(n), Wish(upto=float((lam[i] + lam[i + 1]) / 2)), rng)


def diagonal(rng):
    n = size(rng)
    k = spread(rng, n) * 1.5e6
    return made(k, np.full(n, 6.5e-5), Wish(count=int(rng.choice([20, 124, 300]))), rng, sweeps=0)


def scaled(rng):
    n = size(rng)
    factor = 10.0 ** rng.uniform(-9, 9)
    return made(factor * spread(rng, n), np.ones(n), Wish(count=int(rng.integers(5, 130))), rng,
                scale=np.full(n, 10.0 ** rng.uniform(-4, 4)))  # fmt: skip


def graded(rng):
    n = size(rng)
    return made(spread(rng, n), np.ones(n), Wish(count=int(rng.integers(5, 60))), rng,
                scale=10.0 ** rng.uniform(-3, 3, n))  # fmt: skip


def free_pieces(rng):
    n, r = size(rng), int(rng.integers(1, 31))
    k = spread(rng, n, 1, 1e6)
    k[:r] = 0.0
    return made(k, rng.uniform(1, 3, n), Wish(count=r + int(rng.integers(0, 60))), rng)


def free_chain(rng):
    n = size(rng)
    main = np.full(n, 2.0)
    main[[0, -1]] = 1.0
    K = csr_array(diags_array([main, -np.ones(n - 1), -np.ones(n - 1)], offsets=[0, 1, -1]))
    lam = 2.0 - 2.0 * np.cos(np.pi * np.arange(n) / n)
    count = int(rng.integers(2, 80))
    return Problem(K, csr_array(eye_array(n)), Wish(count=count), lam, np.ones((n, 1)))


def stiff_and_soft(rng):
    n, soft = size(rng), int(rng.integers(10, 40))
    k = np.concatenate([spread(rng, soft, 1, 1e2), spread(rng, n - soft, 1e10, 1e12)])
    # each kind in its own motions, so that the matrix holds the soft ones
    order = np.arange(n)
    wish = Wish(count=int(rng.integers(5, soft + 30)))
    a = made(k[:soft], np.ones(soft), wish, rng)
    b = made(k[soft:], np.ones(n - soft), wish, rng)
    from scipy.sparse import block_diag

    mix = rng.permutation(order)
    K, M = (csr_array(block_diag([x, y]).tocsr()[mix][:, mix]) for x, y in ((a.K, b.K), (a.M, b.M)))
    return Problem(K, M, wish, np.sort(k))


def buckled(rng):
    n = size(rng)
    k = spread(rng, n, 1, 1e4)
    k[: int(rng.integers(1, 4))] *= -1.0
    return made(k, np.ones(n), Wish(count=20), rng, refused="not positive semi-definite")


def tiny(rng):
    n = int(rng.integers(1, 4))
    m = rng.uniform(0.5, 2, n)
    return made(spread(rng, n), m, Wish(count=int(rng.integers(1, 6))), rng)


def cut_repetition(rng):
    n = size(rng)
    lam = spread(rng, n, 1, 1e4)
    at, times = int(rng.integers(10, 70)), int(rng.integers(2, 12))
    lam[at : at + times] = lam[at]
    return made(np.sort(lam), np.ones(n), Wish(count=at + int(rng.integers(1, times))), rng)


def slice_boundary(rng):
    n = 760
    lam = spread(rng, n, 1, 1e4)
    lam[110:130] = lam[110] * (1 + 1e-11 * np.arange(20))
    return made(np.sort(lam), np.ones(n), Wish(upto=float(np.sort(lam)[int(rng.integers(200, 240))])), rng)


def equal_pieces(rng):
    """Many equal pieces of few motions: a handful of distinct frequencies, each hundreds of times there."""
    times, motions = int(rng.integers(205, 320)), int(rng.integers(2, 4))
    own = np.sort(np.exp(rng.uniform(0, 5, motions)))
    if rng.integers(2):
        own[1] = own[0]
    lam = np.sort(np.tile(own, times))
    count = int(rng.choice([1, 5, 20, times, times + 7]))
    return made(lam, np.ones(len(lam)), Wish(count=count), rng, sweeps=int(rng.integers(0, 2)))


def hub(rng):
    """Equal arms on one hub: the hub's two modes around as many equal ones as there are arms less one."""
    arms = int(rng.integers(610, 700))
    k, weight, held = 1e5, float(rng.uniform(0.5, 40)), 3e6
    K = csr_array(diags_array(np.concatenate([np.full(arms, k), [arms * k + held]])))
    across = csr_array((np.full(arms, -k), (np.arange(arms), np.full(arms, arms))), shape=K.shape)
    M = csr_array(diags_array(np.concatenate([np.ones(arms), [weight]])))
    both = np.linalg.eigvals(
        np.array([[k, -k * np.sqrt(arms)], [-k * np.sqrt(arms) / weight, (arms * k + held) / weight]])
    )
    lam = np.sort(np.concatenate([both.real, np.full(arms - 1, k)]))
    return Problem(csr_array(K + across + across.T), M, Wish(count=int(rng.choice([2, 5, 20]))), lam)


def bound_beside_an_eigenvalue(rng):
    """A lower bound and a count, with an eigenvalue, or a few, within a millionth below the bound."""
    n = size(rng)
    lam = spread(rng, n, 1, 1e4)
    i = int(rng.integers(5, 60))
    if rng.integers(2):
        lam[i - 3 : i] = lam[i] * (1 - 1e-8 * np.arange(3, 0, -1))
    off = float(rng.choice([2e-7, -2e-7, 9e-7, 3e-8, 5e-5]))
    return made(np.sort(lam), np.ones(n), Wish(above=float(lam[i] * (1 + off)), count=int(rng.integers(1, 9))), rng)


def soft_and_scaled(rng):
    """Any of the others with a stiffness a million millionth of what it was."""
    other = [f for f in FAMILIES.values() if f is not soft_and_scaled and f is not tiny]
    p = other[int(rng.integers(len(other)))](rng)
    w, by = p.wish, 1e-12
    bounds = (None if v is None else v * by for v in (w.upto, w.above, w.near))
    return Problem(csr_array(p.K * by), p.M, Wish(w.count, *bounds), p.values * by, p.free, p.refused)


FAMILIES: dict[str, Callable[[np.random.Generator], Problem]] = {
    f.__name__: f
    for f in (few_masses, some_masses, singular_consistent, identical_parts, identical_upto, clusters, band_edges,
              band_in_a_gap, near_an_eigenvalue, near_odd_places, near_within_a_multiple, hidden, all_modes,
              most_by_bound, diagonal, scaled, graded, free_pieces, free_chain, stiff_and_soft, buckled, tiny,
              cut_repetition, slice_boundary, equal_pieces, hub, bound_beside_an_eigenvalue, soft_and_scaled)
}  # fmt: skip


def instance(family: str, seed: int) -> Problem:
    """A problem, the same for the same family and seed."""
    return FAMILIES[family](np.random.default_rng([seed, *family.encode()]))


def wanted(p: Problem) -> tuple[Floats, int, int]:
    """Eigenvalues that must come, how many exist in the range (with repetitions of the last), and how many below."""
    lam, w = p.values, p.wish
    if w.near is not None:
        chosen = np.sort(np.argsort(np.abs(lam - w.near), kind="stable")[: w.count])
        first, last = chosen[0], chosen[-1] + 1
        low, high = lam[first], lam[last - 1]
        group = (lam >= low - SAME * abs(low)) & (lam <= high + SAME * abs(high))
        return lam[first:last], int(group.sum()), int(first)
    first = 0 if w.above is None else int(np.searchsorted(lam, w.above * (1 - 1e-9)))
    last = len(lam) if w.upto is None else int(np.searchsorted(lam, w.upto * (1 + 1e-9), side="right"))
    if w.count is None or last - first < w.count:
        return lam[first:last], last - first, first
    last = first + w.count
    end = last
    while end < len(lam) and lam[end] - lam[end - 1] < SAME * abs(lam[end]):
        end += 1
    return lam[first:last], end - first, first


def verdict(p: Problem) -> str:
    """What is wrong with what the extraction says; empty where all of it is right."""
    try:
        got = find_pairs(p.K, p.M, p.wish, rigid=p.free)
    except SolverError as err:
        return "" if p.refused and p.refused in str(err) else f"refused: {err}"
    if p.refused:
        return "not refused"
    values, exists, below = wanted(p)
    if got.doubt:
        return f"not proven: {got.doubt} ({got.method})"
    if len(got.values) != len(values) or got.exists != exists or got.missing:
        return (f"{len(got.values)} for {len(values)} found, {got.exists} for {exists} exist, {got.missing} missing "
                f"({got.method})")  # fmt: skip
    tied = p.wish.near is not None and exists > len(values)  # which of a group are taken is open
    if got.below != below and not tied:
        return f"{got.below} for {below} below ({got.method})"
    slack = 1e-13 * (p.values[-1] if got.method.startswith("dense") else values[-1] if len(values) else 0.0)
    off = np.abs(got.values - values) - slack
    if len(values) and (off > 1e-7 * np.abs(values)).any():
        i = int((off / np.maximum(np.abs(values), 1e-300)).argmax())
        return f"{got.values[i]:.12g} for {values[i]:.12g} ({got.method})"
    if got.residuals.max(initial=0.0) > 1e-9 or got.orthogonality > 1e-8:
        return f"residual {got.residuals.max():.1e}, orthogonality {got.orthogonality:.1e} ({got.method})"
    if got.total is not None and got.total != len(p.values):
        return f"{got.total} for {len(p.values)} in all"
    return ""
