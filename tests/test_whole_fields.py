"""Whole fields, their maps and what is kept small of them, against plain loops over elements, rows and columns."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.linalg
import scipy.sparse as sp
from hypothesis import example, given, settings
from hypothesis import strategies as st

import holokine as hk
from conftest import ALUMINIUM, STEEL
from holokine.describe.schema import Description
from holokine.describe.walk import walk, walk_field
from holokine.elements.kinds import element_map
from holokine.elements.laminate import Laminate, Ply
from holokine.elements.shell import ShellElements
from holokine.elements.stress import equivalent_stress, rows_of
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps
from holokine.modes.words import _Field, _slender, _stations
from holokine.respond import governing
from holokine.sizes import narrow
from holokine.solvers import eigen, factor
from holokine.solvers.eigen import Wish, find_pairs
from holokine.system.recovery import section_maps, stress_fields

G = 9.80665


@pytest.fixture(scope="module")
def rack() -> hk.Assembly:
    """Two posts of unlike sections, a tapered arm, a shelf of shells and a block of solids that rock on a base."""
    a = hk.Assembly("rack").material("steel", **STEEL).material("alu", **ALUMINIUM)
    a.section("post", tube={"width": 0.06, "height": 0.04, "wall": 0.004})
    a.section("rod", rod={"diameter": 0.03}).section("thick", rectangle={"width": 0.05, "height": 0.04})
    a.section("thin", rectangle={"width": 0.03, "height": 0.02})
    for name, at in {"a": [0, 0, 0], "b": [0, 0, 1], "c": [0.8, 0, 0], "d": [0.8, 0, 1], "e": [0.8, 0.5, 1.1]}.items():
        a.point(name, at)
    a.part("post", beam={"through": ["a", "b"], "section": "post", "up": "x", "divisions": 3}, material="steel")
    a.part("shelf", plate={"corner": [0, 0, 1], "sides": [[0.8, 0, 0], [0, 0.4, 0]], "divisions": [4, 2],
                           "thickness": 0.006}, material="alu")  # fmt: skip
    a.part("rod", beam={"through": ["c", "d"], "section": "rod", "up": "x", "divisions": 5}, material="steel")
    a.part("arm", beam={"through": ["d", "e"], "section": "thick", "end section": "thin", "up": "z", "divisions": 4},
           material="alu")  # fmt: skip
    a.part("lump", box={"corner": [0.2, 0.1, 1.0], "sides": [[0.2, 0, 0], [0, 0.2, 0], [0, 0, 0.1]],
                        "divisions": [2, 2, 1]}, material="steel")  # fmt: skip
    a.joint("seat", between=[{"part": "lump", "plane": {"at": [0, 0, 1], "normal": "z"}},
                             {"part": "shelf", "box": [[0.1, 0.0, 0.99], [0.5, 0.4, 1.01]]}])  # fmt: skip
    a.support("feet", at="a", hold="all").support("foot", at="c", hold="all")
    a.load("push", at="e", force={"x": 90.0, "z": -40.0}).damping(0.03)
    a.event("push", static="push")
    return a.event("jolt", pulse={"x": {"half sine": {"peak": 4 * G, "duration": 0.02}},
                                  "z": {"half sine": {"peak": 2 * G, "duration": 0.01}}}, ring_down=0.25)  # fmt: skip


def forces_by_loops(system, motion: np.ndarray) -> dict[tuple[str, int], np.ndarray]:
    """Section forces at both ends of every beam element, by part and number: (2, 6) of motions (dofs,)."""
    found = {}
    for block in system.elements:
        if not hasattr(block, "local_stiffness"):
            continue
        for number, dofs in enumerate(block.dofs):
            local = block.local_stiffness[number] @ (block.to_local[number] @ motion[dofs])
            found[block.part, number + 1] = np.stack([-local[:6], local[6:]])
    return found


def test_section_forces_of_all_beams_are_those_of_each(rack):
    """Of a load at rest to rounding; extremes of a pulse over its rows, with their instants; parts in their order."""
    system = rack.system
    shape = rack.respond({"static": "push"}).deformed
    table, exact = shape.table("members"), forces_by_loops(system, shape.displacement)
    assert table["part"].drop_duplicates().tolist() == ["post", "rod", "arm"]
    assert len(table) == 2 * (3 + 5 + 4)
    columns = ["N_n", "Vy_n", "Vz_n", "T_nm", "My_nm", "Mz_nm"]
    size = max(np.abs(f).max() for f in exact.values())
    for row in table.to_dict("records"):
        own = exact[row["part"], row["element"]][("start", "end").index(row["end"])]
        np.testing.assert_allclose([row[c] for c in columns], own, atol=1e-9 * size)
    answer = rack.modes(count=12).respond("jolt")
    history, time = answer.motion.history(), answer.motion.answer.time
    rows = [forces_by_loops(system, u) for u in history]
    members = answer.table("members")
    assert len(members) == len(table)
    ends, matrix = section_maps(system)
    assert (ends.parts, ends.starts) == (("post", "rod", "arm"), (0, 3, 8))
    np.testing.assert_allclose(
        (matrix @ history[7]).reshape(-1, 2, 6), np.array(list(rows[7].values())), atol=1e-9 * size
    )
    for row in members.to_dict("records"):
        side = ("start", "end").index(row["end"])
        own = np.array([r[row["part"], row["element"]][side] for r in rows])
        for k, column in enumerate(columns):
            name, unit = column.split("_")
            span = np.ptp(own[:, k])
            for word, extreme, pick in (
                ("lowest", own[:, k].min(), np.argmin),
                ("highest", own[:, k].max(), np.argmax),
            ):
                told = row[f"{word}_{name}_{unit}"]
                beyond = (extreme - told) * (1 if word == "lowest" else -1)  # between rows it can only be more
                assert -1e-9 * size <= beyond < 5e-3 * span + 1e-9 * size
                if span > 1e-3 * np.abs(own).max():
                    near = np.abs(own[:, k] - extreme) <= 1e-6 * span
                    assert pick(own[:, k]) in np.flatnonzero(near)
                    step = np.diff(time).max() * 1e3
                    assert np.abs(1e3 * time[near] - row[f"{word}_{name}_at_ms"]).min() <= step


@pytest.mark.parametrize("span", [5, 64, 10_000])
@pytest.mark.parametrize("nodal", [True, False])
def test_largest_stress_of_parts_is_that_of_every_element_at_every_row(rack, monkeypatch, span, nodal):
    """However many rows a bound judges together, and whether leaders go first: value, element and instant."""
    monkeypatch.setattr(governing, "_SPAN", span)
    monkeypatch.setattr(governing, "_CACHED", 400)
    answer = rack.modes(count=12).respond("jolt")
    system, history = rack.system, answer.motion.history()
    peaks, at_nodes = answer.motion.stress(nodal=nodal)
    best, nodes = {}, np.zeros(len(system.mesh.nodes))
    for field in stress_fields(system):
        values = field.of(history).transpose(2, 0, 1)
        size = np.abs(values).max(axis=2) if field.width == 1 else equivalent_stress(values)
        for e, part in enumerate(np.array(field.parts)[field.owner]):
            top = float(size[:, e].max())
            if top > best.get(part, (0.0,))[0]:
                best[part] = (top, int(size[:, e].argmax()), e - field.starts[field.parts.index(part)] + 1)
            for node in field.nodes[e]:
                nodes[node] = max(nodes[node], top)
    assert [p.part for p in peaks] == ["post", "shelf", "rod", "arm", "lump"]
    # a solid that moves by 28 mm and is hardly strained: rounding of its motion, times E over its elements of 50 mm
    noise = 2.0**-52 * 2e11 * np.abs(history).max() / 0.05
    for peak in peaks:
        top, row, element = best[peak.part]
        assert peak.stress == pytest.approx(top, rel=1e-10, abs=noise)
        assert peak.time == pytest.approx(answer.motion.answer.time[row])
        assert peak.where.startswith(f"element {element},") or peak.where == f"element {element}"
    if nodal:
        np.testing.assert_allclose(at_nodes, nodes, rtol=1e-10, atol=max(noise, 1e-13 * nodes.max()))


def test_maps_of_fields_and_of_single_channels_come_in_their_order():
    """Channels one by one, then whole fields, then single ones again: every row where its number says."""
    rng = np.random.default_rng(2)
    fields = [sp.csr_array(np.round(rng.standard_normal((rows, 9)), 1)) for rows in (4, 6)]
    maps, expected = Maps(), []

    def single() -> None:
        columns, values = rng.choice(9, 3, replace=False), rng.standard_normal(3)
        assert maps.add(ChannelBlock("one", ("x",), "length", "elastic"), displacement=(columns, values)) == len(
            expected
        )
        expected.append(np.zeros(9))
        expected[-1][columns] = values

    single()
    single()
    for field in fields:
        block = ChannelBlock("field", ("a", "b"), "stress", "elastic", places=field.shape[0] // 2)
        assert maps.add_field(block, displacement=field) == len(expected)
        expected += list(field.toarray())
    single()
    found = maps._matrix("displacement", 9)
    np.testing.assert_array_equal(found.toarray(), np.array(expected))
    assert found.indices.dtype == np.int32
    assert (found.data != 0.0).all()
    assert maps._matrix("velocity", 9).shape == (13, 9)
    assert maps._matrix("velocity", 9).nnz == 0


def test_a_map_of_elements_and_its_rows():
    rng = np.random.default_rng(3)
    values, dofs = rng.standard_normal((5, 2, 3)), np.array([rng.choice(12, 3, replace=False) for _ in range(5)])
    dense = np.zeros((10, 12))
    for e in range(5):
        for r in range(2):
            dense[2 * e + r, dofs[e]] = values[e, r]
    whole = element_map(values, dofs, 12)
    np.testing.assert_array_equal(whole.toarray(), dense)
    for start, stop in ((0, 10), (3, 7), (8, 40), (4, 4)):
        np.testing.assert_array_equal(rows_of(whole, start, stop).toarray(), dense[start:stop])


def test_sparse_arrays_are_kept_small():
    """Indices of 64 bits are narrowed where 32 reach; room left over by a sum is given back; the rest stays itself."""
    wide = sp.csr_array(sp.random_array((40, 30), density=0.2, rng=np.random.default_rng(1)))
    wide = sp.csr_array((wide.data, wide.indices.astype(np.int64), wide.indptr.astype(np.int64)), shape=wide.shape)
    small = narrow(wide)
    assert (small.indices.dtype, small.indptr.dtype) == (np.int32, np.int32)
    np.testing.assert_array_equal(small.toarray(), wide.toarray())
    assert narrow(small) is small
    total = sp.csr_array(small + small)
    assert total.data.base is not None  # room for twice as many
    tight = narrow(total)
    assert tight.data.base is None or tight.data.base.nbytes <= 1.1 * tight.data.nbytes
    np.testing.assert_array_equal(tight.toarray(), 2 * wide.toarray())
    far = sp.csr_array(([1.0], np.array([2**31 + 5]), np.array([0, 1], dtype=np.int64)), shape=(1, 2**31 + 9))
    assert narrow(far) is far


def test_large_models_keep_no_wide_indices(rack):
    """What the solver reads is as it wants it: nothing is copied for it."""
    system = rack.system
    for matrix in (system.stiffness, system.mass, system.reduced_stiffness, system.reduced_mass,
                   system.constraints.reduce, section_maps(system)[1]):  # fmt: skip
        assert matrix.indices.dtype == matrix.indptr.dtype == np.int32
    for field in stress_fields(system):
        assert field.matrix.indices.dtype == np.int32


@pytest.mark.parametrize("repeated", [1, 5])
def test_wide_blocks_find_what_narrow_ones_do(monkeypatch, repeated):
    """Twelve columns at a time, as for large models, on eigenvalues that repeat: all of them, proven."""
    monkeypatch.setattr(eigen, "DENSE_SIZE", 50)
    rng = np.random.default_rng(repeated)
    values = np.sort(np.repeat(rng.uniform(1.0, 900.0, 400 // repeated), repeated))
    Q = np.linalg.qr(rng.standard_normal((400, 400)))[0]
    masses = rng.uniform(0.5, 2.0, 400)
    K = (Q * values) @ Q.T * np.sqrt(np.outer(masses, masses))
    found = {}
    for block in (12, 6):
        monkeypatch.setattr(factor._DenseFactor, "block", block)
        pairs = find_pairs(sp.csr_array((K + K.T) / 2), sp.csr_array(np.diag(masses)), Wish(count=40))
        np.testing.assert_allclose(pairs.values, values[:40], rtol=1e-10)
        assert (pairs.exists, pairs.missing, pairs.doubt) == (40, 0, "")
        assert pairs.orthogonality < 1e-12
        found[block] = pairs.vectors
    angles = scipy.linalg.subspace_angles(found[12].T, found[6].T)
    assert angles.max() < 1e-6


def test_marks_of_one_field_are_those_of_the_whole_description(rack):
    d = rack.description
    every = list(walk(d))
    assert len(every) > 20
    for name in Description.model_fields:
        assert list(walk_field(Description, name, getattr(d, name))) == [f for f in every if f[0][0] == name]
    assert list(walk_field(Description, "no such table", {})) == []


@pytest.mark.parametrize("kind", ["quad4", "tri3"])
@pytest.mark.parametrize("offset", [0.0, 0.01])
def test_mass_of_layered_shells_by_quadrature(kind, offset):
    """Translations and turns of a distorted element of two unlike layers: mass, moments and inertia of its layers.

    Independently: the polygon cut into triangles, each with the exact rule of the second degree, layer by layer.
    """
    corners = np.array([[0, 0], [1.1, 0.1], [1.3, 0.9], [-0.1, 0.7]])[: 4 if kind == "quad4" else 3]
    X = np.column_stack([corners, np.zeros(len(corners))])[None]
    Q = np.diag([1e9, 1e9, 4e8])
    plies = [(-0.006, 0.002, 2700.0), (0.002, 0.006, 7800.0)]
    laminate = Laminate(tuple(Ply(b, t, Q, np.eye(2) * 4e8, r) for b, t, r in plies))
    shell = ShellElements("s", kind, np.arange(len(corners))[None], X[0], laminate, offset=offset)
    M = shell._matrices(X)[1][0]
    rigid = np.zeros((6, 6 * len(corners)))
    for n, (x, y) in enumerate(corners):
        at = np.eye(6)
        at[3:, :3] = np.cross(np.eye(3), [x, y, 0.0])
        rigid[:, 6 * n : 6 * n + 6] = at
    exact = np.zeros((6, 6))
    fans = [(0, k, k + 1) for k in range(1, len(corners) - 1)]
    for fan in fans:
        p = corners[list(fan)]
        area = abs((p[1] - p[0])[0] * (p[2] - p[0])[1] - (p[1] - p[0])[1] * (p[2] - p[0])[0]) / 2
        for x, y in ((p[0] + p[1]) / 2, (p[1] + p[2]) / 2, (p[2] + p[0]) / 2):
            for low, high, density in plies:
                for z in np.array([-1, 1]) / np.sqrt(3) * (high - low) / 2 + (low + high) / 2:
                    moved = np.hstack([np.eye(3), np.zeros((3, 3))]).T
                    moved[3:] = np.cross(np.eye(3), [x, y, z + offset])
                    exact += area / 3 * density * (high - low) / 2 * moved @ moved.T
    found = rigid @ M @ rigid.T
    # the turn about the normal has no inertia of the thickness: none is left out
    np.testing.assert_allclose(found, exact, rtol=1e-9, atol=1e-9 * exact.max())


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 10**6))
@example(30362)  # what its sections move by as one is a fifth of all: they deform, and no word fits
@example(31)
def test_words_of_slender_parts_by_their_stations(seed):
    """Stations along an axis, and what moves most mass there, against a loop over stations."""
    rng = np.random.default_rng(seed)
    levels = np.sort(rng.choice(40, 6, replace=False)) * 0.5
    places = np.array([[x, y, z] for x in levels for y, z in rng.uniform(-0.2, 0.2, (int(rng.integers(1, 5)), 2))])
    field = _Field(places, rng.standard_normal(places.shape) * rng.uniform(0, 1, 3), np.zeros(places.shape),
                   rng.uniform(0.1, 2.0, len(places)))  # fmt: skip
    station = _stations(field, np.array([1.0, 0, 0]))
    assert [sorted(set(places[station == k, 0])) for k in range(station.max() + 1)] == [[x] for x in levels]
    amounts, arms = np.zeros(4), places - places.mean(axis=0)
    for k in range(6):
        own = station == k
        w = field.weight[own]
        mean = np.average(field.shift[own], axis=0, weights=w)
        amounts[:3] += w.sum() * mean**2
        off = arms[own] - np.average(arms[own], axis=0, weights=w)
        rest = field.shift[own] - mean
        polar = (w * (off[:, 1] ** 2 + off[:, 2] ** 2)).sum()
        if polar > 1e-12 * w.sum():
            amounts[3] += (w * (off[:, 1] * rest[:, 2] - off[:, 2] * rest[:, 1])).sum() ** 2 / polar
    word = ("stretching along x", "bending about", "bending about", "torsion about x")[int(amounts.argmax())]
    together = amounts.sum() / (field.weight @ (field.shift**2).sum(axis=1))
    said = _slender(field, np.eye(3)).text
    assert said.startswith(word) if together >= 0.3 else said == ""
