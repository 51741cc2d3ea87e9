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


LONG: dict[str, tuple[str, ...]] = {
    "test_a_record_made_for_a_shock_spectrum": (),
    "test_a_record_made_for_a_spectrum_has_the_spectrum_told": (),
    "test_a_pressed_ring_buckles_in_pairs_as_it_should": (),
    "test_a_process_killed_while_it_saves_leaves_a_whole_file": (),
    "test_all_finite_modes_where_half_has_no_mass": ("superlu",),
    "test_an_answer_from_a_run_file_loads_what_it_uses": (),
    "test_an_area_moves_as_its_mean_and_does_not_change_with_the_mesh": ("True-True", "False-True", "True-False"),
    "test_an_interrupted_command_leaves_nothing_half_written": (),
    "test_bounds_hold_and_are_not_idle": ("hidden", "singular_consistent"),
    "test_commands_about_loads_vectors_and_records": (),
    "test_contents_of_every_named_file_are_in_a_key": (),
    "test_deformed_shapes_and_films_of_answers": ("True",),
    "test_each_module_imports_alone_and_the_package_stays_light": (),
    "test_every_command_takes_a_run_file": (),
    "test_everything_can_be_pickled_and_copied": (),
    "test_examples_run_and_print": ("crate_random", "crate_states", "crate_loads", "crate_cover", "crate_sensitivities",
                                    "crate_kerb_strike", "crate_sweep"),
    "test_every_table_figure_and_file_of_every_answer": ("run file",),
    "test_fewer_elements_around_holes_and_faster_growth": (),
    "test_figures_of_what_acts_and_of_groups": (),
    "test_few_load_dependent_vectors_do_what_many_modes_do": (),
    "test_hundreds_of_free_motions_are_counted_and_the_first_named": (),
    "test_limits_figures_page_and_film": (),
    "test_lists_of_frequencies_hold_the_peaks": (),
    "test_names_are_text_in_every_output": ("4", "8", "12"),
    "test_names_in_reports_and_workbooks_stay_text": (),
    "test_nothing_missed_doubled_or_falsely_proven": ("hidden", "singular_consistent", "slice_boundary", "identical"),
    "test_one_number_means_the_same_in_every_output": (),
    "test_own_text_goes_where_its_headings_say": (),
    "test_printed_digits_are_the_same": (),
    "test_readme_file_and_calls_run": (),
    "test_refining_names_what_takes_other_nodes_and_gives_no_limit_there": (),
    "test_resonances_are_the_maxima_of_the_direct_solution": (),
    "test_respond_prints_peaks_and_writes_tables_and_figures": (),
    "test_sandwich_beam_against_bricks": (),
    "test_scatter_by_derivatives_is_that_of_samples": (),
    "test_slopes_and_close_modes_against_quadrature": ("modal", "loss"),
    "test_states_on_the_command_line": (),
    "test_the_demo_is_a_tour_whose_commands_work": (),
    "test_the_report_opens_and_prints_in_a_browser": (),
    "test_two_processes_that_save_to_one_file_leave_one_of_both": (),
    "test_what_cannot_be_varied_is_refused_before_it_is_run": (),
    "test_what_goes_on_is_told_on_a_terminal": (),
    "test_what_the_schema_refuses_is_told_with_line_key_and_remedy": ("frame", "shapes"),
    "test_without_dense_help_it_is_right_or_says_that_it_is_not_proven": ("hidden",),
    "test_wrong_input_is_refused_or_answered": ("40", "80", "120", "160"),
    "test_wrong_input_on_the_command_line": ("3", "4", "5"),
    "test_wrong_values_that_hypothesis_finds": (),
}  # fmt: skip
"""Tests that the short suite leaves to the long one (`-m long`): whole ones, or the cases with these words."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    for item in items:
        words = LONG.get(getattr(item, "originalname", item.name))
        case = item.name.partition("[")[2].rstrip("]")
        if words is not None and (not words or any(w in case for w in words)):
            item.add_marker(pytest.mark.long)


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
