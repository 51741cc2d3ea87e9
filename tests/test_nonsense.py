# ruff: noqa: E501 - data in rows
"""What cannot be is refused by name; what is out of all proportion is warned of; sizes are estimated beforehand."""

from __future__ import annotations

import copy
import subprocess
import sys
import textwrap
from typing import Any

import numpy as np
import pytest
import scipy.io
from scipy.sparse import csr_array, save_npz

import every_key as ek
import holokine as hk
from conftest import STEEL, chain
from holokine import sizes
from holokine.errors import DescriptionError, EventError, HolokineError, MeshError, OutOfMemoryError, UnitError
from holokine.system.matrix_file import read_matrix


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("nonsense")
    ek.write_files(made)
    return made


def frame(folder, *changes: tuple[tuple[Any, ...], Any]) -> hk.Assembly:
    """The frame with values put into it, one key on each line of its file."""
    data = copy.deepcopy(ek.FRAME)
    for path, value in changes:
        here: Any = data
        for step in path[:-1]:
            here = here[step]
        here[path[-1]] = value
    return hk.Assembly.read(ek.write(data, folder / "frame.yaml"))


REFUSED = [
    (("bands", "fan", "harmonics"), ["nan"], "bands, fan, harmonics, item 1"),
    (("bands", "fan", "harmonics"), ["inf"], "bands, fan, harmonics, item 1"),
    (("bands", "fan", "harmonics"), [1, 1e9], "at most 10000"),
    (("sections", "bar", "shear factors"), [0, 0.8], "none of a real section"),
    (("sections", "bar", "shear factors"), [0.8, 5], "none of a real section"),
    (("sections", "bar", "torsion constant"), 9e9, r'section "bar": its torsion constant is 1.38e\+05 times its polar moment'),
    (("damping",), "300 %", "critical or more"),
    (("damping",), [0.02, "500 %"], "critical or more"),
    (("damping",), {"table": [["10 Hz", "800 %"], ["100 Hz", "2 %"]]}, "critical or more"),
    (("damping",), {"composite": {"default": "800 %"}}, "critical or more"),
    (("damping",), {"rayleigh": [["10 Hz", "500 %"], ["100 Hz", "2 %"]]}, "critical or more"),
    (("damping",), {"rayleigh": [["10 Hz", "20 %"], ["1000 Hz", "0.1 %"]]}, "turns negative above 1414 Hz"),
    (("damping",), {"rayleigh": [["10 Hz", "2 %"], ["11 Hz", "50 %"]]}, r"turns negative below 9\.96 Hz"),
    (("events", "shock", "zero period acceleration"), {"x": "-1 g"}, "zero period acceleration, x: must be at least 0"),
    (("events", "shock", "zero period acceleration"), "-3 g", "zero period acceleration: must be at least 0"),
    (("loads", "weight", "size"), "1e9 g", "no acceleration makes sense"),
    (("masses", "unit", "mass"), "1e-30 kg", "no mass makes sense"),
    (("springs", "stay", "stiffness"), "4e19 N/m", "no stiffness makes sense"),
    (("bushings", "pad", "stiffness"), {"x": 1e308}, "finite number"),
    (("units",), {"length": "0 m", "force": "N"}, "is no unit"),
    (("units",), {"length": "1e200 m"}, "is no unit"),
    (("points", "b"), [1e18, 0, 0], "no length makes sense"),
    (("points", "b"), [1e308, 0, 0], "no length makes sense"),
    (("materials", "steel", "density"), 10**30, "18 digits"),
    (("parts", "plate", "plate", "divisions"), [10**18, 3], r'part "plate": .* nodes need about .* GB'),
    (("parts", "post", "beam", "size"), "1 nm", r'part "post": 2e\+08 nodes need about 640 GB'),
    (("masses", "unit", "mass"), "5 m", "expected a mass"),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(REFUSED)))
def test_what_cannot_be_is_refused_with_its_place(folder, number):
    path, value, words = REFUSED[number]
    with pytest.raises(HolokineError, match=words) as err:
        frame(folder, (path, value)).modes(count=2).respond("shock")
    assert str(err.value).startswith("frame.yaml, line 1: ")


WARNED = [
    (("damping",), "99.9 %", "damping is critical or more in", None),
    (("damping",), "50 %", "damping is above 30 % in 4 of 4 modes", None),
    (("loads", "weight", "size"), "1000 g", "pulls with 1000 g: is its unit right", None),
    (("masses", "unit", "mass"), "4e6 kg", "times all the rest together", None),
    (("masses", "unit", "mass"), "1e-9 kg", "beside .* of the rest: is its unit right", None),
    (("bushings", "pad", "stiffness", "x"), "4e16 N/m", "digits of all else are lost", None),
    (("materials", "steel", "E"), 205, "was an E of 205 GPa meant", None),
    (("events", "apart", "ring down"), "1 ns", "followed for 1e-06 ms after the excitation, less than a quarter of the lowest mode's period", "apart"),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(WARNED)))
def test_what_is_out_of_proportion_is_warned_of(folder, number):
    path, value, words, event = WARNED[number]

    def warnings_of(a: hk.Assembly) -> list[str]:
        modes = a.modes(count=4)
        found = [*a.check().findings, *modes.findings, *(modes.respond(event).findings if event else ())]
        return [f.text for f in found if f.level == "warning"]

    import re

    assert any(re.search(words, text) for text in warnings_of(frame(folder, (path, value))))
    assert not any(re.search(words, text) for text in warnings_of(frame(folder)))


def test_a_tie_over_a_gap_of_the_size_of_the_assembly_is_told():
    a = hk.Assembly("two plates").material("m", **STEEL)
    for name, z in (("low", 0.0), ("high", 0.3)):
        a.part(
            name,
            plate={"corner": [0, 0, z], "sides": [[0.4, 0, 0], [0, 0.4, 0]], "divisions": 4, "thickness": 0.01},
            material="m",
        )
    a.support("wall", at={"part": "low", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    a.tie("t", nodes={"part": "high"}, faces="low", within="1 m")
    assert any("of the size of the assembly: is within right?" in f.text for f in a.check().findings)


def test_rows_of_every_kind_are_counted_before_they_are_made():
    """Pulses, ring-downs, gaps in records, spectra and records to match: an estimate and a remedy, at once."""
    modes = chain([1.0, 1.0], [1e4, 1e4]).modes(count=2)
    lobe = {"half sine": {"peak": 1.0, "duration": 0.01}}
    gap = {"table": {"time": [0.0, 0.01, 1e8], "acceleration": [0.0, 1.0, 0.0]}}
    for event in (
        {"pulse": {"x": lobe}, "ring down": 1e8}, {"pulse": {"x": lobe}, "step": 1e-9}, {"pulse": {"x": gap}},
        {"pulse": {"x": {"trapezoid": {"rise": 0.01, "fall": 0.01, "duration": 1e8, "peak": 1.0}}}},
    ):  # fmt: skip
        with pytest.raises(EventError, match="rows would be needed, and 2,000,000 are the most"):
            modes.respond(event)
    t = np.array([0.0, 1e-9, 1.0])
    with pytest.raises(EventError, match="steps are too uneven"):
        hk.shock((t, [0.0, 1.0, 0.0]))
    with pytest.raises(EventError, match="more than 20,000 in all"):
        hk.shock((np.linspace(0, 1, 2000), np.sin(np.linspace(0, 60, 2000))), low=1.0, high=1000.0, per_octave=10**6)
    with pytest.raises(EventError, match=r"samples of the record need about .* GB"):
        hk.match({"frequency": [1e-6, 1e5], "acceleration": [1.0, 1.0]})


def test_memory_that_runs_out_is_said_with_what_was_made(monkeypatch):
    """Wherever it runs out: in the making of a stage, and of an answer."""
    modes = chain([1.0, 1.0], [1e4, 1e4]).modes(count=2)

    def out(*_, **__):
        raise MemoryError

    monkeypatch.setattr("holokine.store.chain.answer_event", out)
    with pytest.raises(OutOfMemoryError, match='not enough memory for the answer to "event"'):
        modes.respond({"spectrum": {"x": {"frequency": [1, 100], "acceleration": [1, 1]}}})
    monkeypatch.setattr("holokine.system.build.build_system", out)
    with pytest.raises(OutOfMemoryError, match="not enough memory for system"):
        chain([1.0], [1e4]).modes(count=1)
    monkeypatch.setattr(sizes, "available_memory", lambda: 1000)
    with pytest.raises(MeshError, match="GB are free"):
        sizes.afford_nodes(1e6)
    sizes.afford(1e5, 1.0, "rows", "take fewer")  # so few are not looked at


def test_a_machine_of_four_gigabytes_is_never_asked_for_more():
    """In a process that may map 4 GB: large meshes, records and answers are refused with an estimate, not by a crash."""
    code = textwrap.dedent("""
        import resource
        import holokine as hk
        import holokine.api, pandas, scipy.sparse.linalg
        from holokine.errors import HolokineError
        resource.setrlimit(resource.RLIMIT_AS, (4 << 30, 4 << 30))
        def box(n):
            a = hk.Assembly("b").material("m", E=2e11, nu=0.3, density=7800.0)
            a.part("b", box={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0], [0, 0, 1]], "divisions": n}, material="m")
            return a.support("w", at={"part": "b", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
        for make in (lambda: box(20000).modes(count=2), lambda: box(110).modes(count=2),
                     lambda: hk.match({"frequency": [1e-4, 1e5], "acceleration": [1.0, 1.0]})):
            try:
                make()
            except HolokineError as err:
                assert "GB" in str(err), err
                print("refused:", err)
    """)
    got = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=300, check=False)
    assert got.returncode == 0, got.stderr
    assert got.stdout.count("refused:") == 3, got.stdout


MATRICES = {
    "complex": ("%%MatrixMarket matrix coordinate complex general\n2 2 1\n1 1 1.0 2.0\n", "the numbers are complex"),
    "pattern": ("%%MatrixMarket matrix coordinate pattern general\n2 2 1\n1 1\n", "the numbers are pattern"),
    "hermitian": ("%%MatrixMarket matrix coordinate real skew-symmetric\n2 2 1\n1 1 1\n", "must be symmetric"),
    "banner": ("%%MatrixMarkt matrix\n2 2 1\n1 1 1\n", "line 1: expected"),
    "huge": ("%%MatrixMarket matrix coordinate real general\n2 2 99999999999\n1 1 1\n", "99,999,999,999 entries, more than the file can hold"),
    "wide": ("%%MatrixMarket matrix coordinate real general\n99999999999999 99999999999999 1\n1 1 1\n", "more than the file can hold"),
    "beyond": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n3 1 1\n", "entry 1 is in row 3, column 1"),
    "zero": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n0 1 1\n", "entry 1 is in row 0"),
    "fraction": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n1.5 1 1\n", "entry 1 is in row 1.5"),
    "nan": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n1 1 nan\n", "finite"),
    "inf": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n1 1 1e999\n", "not finite"),
    "short": ("%%MatrixMarket matrix coordinate real general\n2 2 3\n1 1 1\n", "tells 3 entries and has 1"),
    "words": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n1 1 one\n", "expected 3 numbers"),
    "columns": ("%%MatrixMarket matrix coordinate real general\n2 2 1\n1 1 1 1 1\n", "expected 3 numbers in every line"),
    "sizes": ("%%MatrixMarket matrix coordinate real general\nx 2 1\n1 1 1\n", "line 2: expected the numbers of rows"),
    "flat": ("%%MatrixMarket matrix coordinate real general\n2 3 1\n1 1 1\n", "2 by 3, not square"),
    "nothing": ("", "line 1: expected"),
    "head": ("%%MatrixMarket matrix coordinate real general\n%\n", "ends before its sizes"),
}  # fmt: skip


@pytest.mark.parametrize("name", MATRICES)
def test_damaged_matrices_are_told(tmp_path, name):
    text, words = MATRICES[name]
    (tmp_path / "a.mtx").write_text(text)
    with pytest.raises(MeshError, match=words):
        read_matrix(tmp_path / "a.mtx", "stiffness")
    (tmp_path / "a.mtx").write_bytes(text.encode()[:-3] + b"\xff\xfe\x00")
    with pytest.raises(MeshError, match=r"a\.mtx"):
        read_matrix(tmp_path / "a.mtx", "stiffness")


def test_matrices_are_read_as_they_were_written(tmp_path):
    """In every form of the format that holds real numbers, against the writer of another library."""
    rng = np.random.default_rng(2)
    A = rng.normal(size=(30, 30)) * (rng.random((30, 30)) < 0.2)
    A[3, 4] = 1.2345678901234567e-19
    S = A + A.T
    for B, symmetry in ((A, "general"), (S, "symmetric"), (S, "general")):
        for dense in (False, True):
            scipy.io.mmwrite(
                tmp_path / "a.mtx", B if dense else csr_array(B), symmetry=symmetry, precision=17, comment="a\nb"
            )
            np.testing.assert_array_equal(read_matrix(tmp_path / "a.mtx", "mass").toarray(), B)
    whole = np.round(10 * S).astype(int)
    scipy.io.mmwrite(tmp_path / "a.mtx", csr_array(whole))
    np.testing.assert_array_equal(read_matrix(tmp_path / "a.mtx", "mass").toarray(), whole)
    save_npz(tmp_path / "s.npz", csr_array(S))
    np.savez(tmp_path / "d.npz", S)
    for name in ("s.npz", "d.npz"):
        np.testing.assert_array_equal(read_matrix(tmp_path / name, "mass").toarray(), S)
    np.savez(tmp_path / "two.npz", a=S, b=S)
    np.savez(tmp_path / "c.npz", S + 1j)
    np.savez(tmp_path / "o.npz", np.array([{"a": 1}], dtype=object))
    save_npz(tmp_path / "i.npz", csr_array(S))
    with np.load(tmp_path / "i.npz") as data:
        parts = dict(data)
    parts["indices"] = parts["indices"] + 10**6
    np.savez(tmp_path / "i.npz", **parts)
    for name, words in (
        ("two.npz", "2 arrays"),
        ("c.npz", "complex128"),
        ("o.npz", "cannot be read"),
        ("i.npz", "cannot be read"),
    ):
        with pytest.raises(MeshError, match=words):
            read_matrix(tmp_path / name, "mass")


def test_every_quantity_has_bounds_that_no_model_meets():
    from holokine.units import DIMENSIONS, POSSIBLE, quantity

    assert set(POSSIBLE) == set(DIMENSIONS)
    for dimension, (least, most) in POSSIBLE.items():
        assert 0 <= least < most
        assert quantity(most, dimension) == most
        with pytest.raises(UnitError, match="makes sense"):
            quantity(1.01 * most, dimension)
    with pytest.raises(DescriptionError, match="below 1e-12 no length makes sense"):
        hk.Assembly().section("s", rod={"diameter": "1e-15 m"})


def test_results_without_finite_values_are_no_peaks():
    """Overflow in an answer names the readings, and is no peak."""
    modes = chain([1.0, 1.0], [1e4, 1e4]).gauge("k", force="k1").modes(count=2)
    huge = modes.reduced.modal.copy()
    huge[:] = 1e308
    from dataclasses import replace

    modes.now.memory.put("reduced", modes.now.key("reduced"), replace(modes.reduced, modal=huge))
    del modes.now.__dict__["reduced"]
    with pytest.raises(EventError, match="1 of 1 readings have no finite value"):
        modes.respond({"pulse": {"x": {"half sine": {"peak": 1e6, "duration": 0.01}}}})
