"""Shared builders of small assemblies with closed-form or independently computed answers."""

from __future__ import annotations

import one_thread  # noqa: F401 - before NumPy loads

# isort: split
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings

import holokine as hk
from holokine.mesh.cells import CELLS
from holokine.mesh.files import write_mesh
from holokine.mesh.grids import with_middles
from holokine.mesh.mesh import Block, Mesh

# the same draws in every run; new ones by `python -m pytest --hypothesis-profile search`, whose finds become examples
settings.register_profile("same", derandomize=True, deadline=None)
settings.register_profile("search", deadline=None, print_blob=True)
settings.load_profile("same")

ALUMINIUM = {"E": 71.3e9, "nu": 0.33, "density": 2713.0}
STEEL = {"E": 206e9, "nu": 0.29, "density": 7830.0}
BENCH_STEEL = {"E": 200e9, "nu": 0.3, "density": 8000.0}


@pytest.fixture(scope="session")
def crate_file() -> Path:
    return hk.demo_folder() / "crate.yaml"


@pytest.fixture(scope="session")
def crate(crate_file: Path) -> hk.Assembly:
    return hk.Assembly.read(crate_file)


@pytest.fixture(scope="session")
def crate_modes(crate: hk.Assembly) -> hk.Modes:
    return crate.modes()


def straight_beam(
    length: float,
    section: dict,
    material: dict,
    *,
    start: list[str] | str = (),
    end: list[str] | str = (),
    suppress: list[str] = (),
    divisions: int = 40,
    up: str = "z",
    **beam,
) -> hk.Assembly:
    """One beam along x with motions suppressed everywhere, as the reference cases ask for."""
    a = hk.Assembly("beam").material("m", **material).section("s", **section)
    a.point("a", [0, 0, 0]).point("b", [length, 0, 0])
    run = {"through": ["a", "b"], "section": "s", "up": up, "divisions": divisions, **beam}
    a.part("beam", beam=run, material="m")
    if suppress:
        a.support("plane", at={"part": "beam"}, hold=list(suppress))
    if start:
        a.support("left", at="a", hold=start if isinstance(start, str) else list(start))
    if end:
        a.support("right", at="b", hold=end if isinstance(end, str) else list(end))
    return a


def chain(masses: list[float], stiffness: list[float], damping: float | dict = 0.02) -> hk.Assembly:
    """Masses in a row along x, each on a spring to the one before, the first to the frame."""
    a = hk.Assembly("chain").damping(damping)
    before = "ground"
    for i, (m, k) in enumerate(zip(masses, stiffness, strict=True), start=1):
        a.point(f"p{i}", [0.1 * i, 0, 0]).mass(f"m{i}", at=f"p{i}", mass=m, inertia=[1.0, 1.0, 1.0])
        a.spring(f"k{i}", between=[before, f"p{i}"], stiffness=k, axis="x")
        a.support(f"guide {i}", at=f"p{i}", hold=["y", "z", "rx", "ry", "rz"])
        before = f"p{i}"
    return a


def chain_matrices(masses: list[float], stiffness: list[float]) -> tuple[np.ndarray, np.ndarray]:
    """The same by hand."""
    n = len(masses)
    K = np.zeros((n, n))
    for i, k in enumerate(stiffness):
        K[i, i] += k
        if i:
            K[i - 1, i - 1] += k
            K[i, i - 1] -= k
            K[i - 1, i] -= k
    return K, np.diag(np.array(masses, dtype=float))


def elastic(modes: hk.Modes) -> np.ndarray:
    """Frequencies without the rigid-body modes."""
    return modes.frequencies_hz[~modes.set.rigid]


def pyramids(material, sides, divisions, folder, quadratic) -> hk.Assembly:
    """A block of six pyramids around the middle of every cell of a grid, through a mesh file."""
    grid = {"corner": [0, 0, 0], "sides": np.diag(sides).tolist(), "divisions": divisions}
    mesh = hk.Assembly().material("m", **material).part("box", box=grid, material="m").system.mesh
    cells = mesh.blocks[0].cells
    nodes = np.concatenate([mesh.nodes, mesh.nodes[cells].mean(axis=1)])
    top = len(mesh.nodes) + np.arange(len(cells))[:, None]
    found = np.concatenate([np.column_stack([cells[:, list(f)[::-1]], top]) for f in CELLS["hex8"].faces])
    kind = "pyramid5"
    if quadratic:
        nodes, found = with_middles(nodes, found, CELLS["pyramid5"].edges)
        kind = "pyramid13"
    path = folder / f"{kind}.vtu"
    write_mesh(path, Mesh(nodes, (Block("p", kind, found),), {}))
    result = hk.Assembly("pyramids").material("m", **material)
    return result.part("box", mesh={"file": str(path)}, material="m")
