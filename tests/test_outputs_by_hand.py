"""What commands print, worked out again from the numbers in the same tables, or by brute force from the shapes."""

from __future__ import annotations

import json
import math
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from scipy.integrate import solve_ivp

import holokine as hk
from test_cli import inside
from test_commands import SHELF

GRAVITY = 9.80665


@pytest.fixture(scope="module")
def shelf(tmp_path_factory) -> Path:
    folder = tmp_path_factory.mktemp("by hand")
    (folder / "shelf.yaml").write_text(SHELF)
    hk.Assembly.read(folder / "shelf.yaml").modes().save(folder / "shelf.run")
    return folder


@pytest.fixture(scope="module")
def modes(shelf) -> hk.Modes:
    return hk.open_run(shelf / "shelf.run")


def printed(shelf: Path, *arguments: str) -> dict[str, pd.DataFrame]:
    done = inside(*(str(shelf / a) if a.endswith((".yaml", ".run", ".csv")) else a for a in arguments), "--json")
    assert done.returncode in (0, 1), done.stderr
    return {name: pd.DataFrame(rows) for name, rows in json.loads(done.stdout)["tables"].items()}


def test_participation_is_the_product_of_shapes_and_mass(shelf, modes):
    """Factors, effective masses, ratios to the whole and to what is free, and their sums from mode to mode."""
    table = printed(shelf, "modes", "shelf.run")["participation"]
    system = modes.set.system
    M, shapes = system.mass.toarray(), modes.set.shapes
    weight = M.sum()  # of translations in one direction is the mass
    r = {axis: np.tile(np.eye(6)[d], len(M) // 6) for d, axis in enumerate("xyz")}
    fixed = np.setdiff1d(np.arange(len(M)), system.constraints.independent)
    assert weight > 0
    for axis, field in r.items():
        factor = shapes @ M @ field
        np.testing.assert_allclose(table[f"factor_{axis}_sqrt_kg"], factor, atol=1e-9)
        np.testing.assert_allclose(table[f"effective_{axis}_kg"], factor**2, atol=1e-9)
        whole = field @ M @ field
        np.testing.assert_allclose(table[f"ratio_{axis}_of_whole"], factor**2 / whole, atol=1e-12)
        np.testing.assert_allclose(table[f"cumulative_{axis}_of_whole"], np.cumsum(factor**2) / whole, atol=1e-12)
        free = table[f"effective_{axis}_kg"] / table[f"ratio_{axis}_of_free"]
        assert free.iloc[0] == pytest.approx(modes.set.free_mass["xyz".index(axis)], rel=1e-9)
        assert free.iloc[0] <= whole * (1 + 1e-12)
    assert len(fixed)  # supports hold some motions, whose mass is not free to move
    enough = printed(shelf, "modes", "shelf.run", "--enough", "80%", "--along", "x,z")["enough"].set_index("direction")
    for axis in ("x", "z"):
        reached = 100 * table[f"cumulative_{axis}_of_free"].iloc[-1]
        assert enough.loc[axis, "reached_percent"] == pytest.approx(reached, rel=1e-9)
        first = np.flatnonzero(100 * table[f"cumulative_{axis}_of_free"] >= 80)
        assert enough.loc[axis, "with_mode"] == (str(first[0] + 1) if len(first) else "-")


def test_options_of_modes_sort_scale_and_shorten(shelf, modes):
    ordered = printed(
        shelf, "modes", "shelf.run", "--table", "participation", "--sort", "effective_z_kg", "--top", "3"
    )["participation"]
    everything = modes.table("participation").sort_values("effective_z_kg", ascending=False)
    assert ordered["mode"].tolist() == everything["mode"].tolist()[:3]
    peak = printed(shelf, "modes", "shelf.run", "--table", "peak_at_energy 2J")["peak_at_energy"]
    moves = np.linalg.norm(modes.set.shapes.reshape(len(modes), -1, 6)[:, :, :3], axis=2).max(axis=1)
    np.testing.assert_allclose(peak["peak_displacement_mm"], 1e3 * moves * math.sqrt(4.0) / modes.set.omega, rtol=1e-9)
    points = printed(shelf, "modes", "shelf.run", "--table", "points scale='unit maximum'")["points"]
    pump = points[points["point"] == "pump"].reset_index(drop=True)
    node = modes.set.system.mesh.points["pump"]
    by_hand = modes.set.shapes[:, 6 * node : 6 * node + 3] / moves[:, None]
    np.testing.assert_allclose(pump[["x", "y", "z"]], by_hand, atol=1e-9)
    bands = printed(shelf, "modes", "shelf.run")["bands"]
    f = modes.frequencies_hz
    assert len(bands) == sum(45 / 1.15 <= v <= 55 * 1.15 for v in f)
    for row in bands.itertuples():
        value = f[row.mode - 1]
        away = 0.0 if 45 <= value <= 55 else 45 / value - 1 if value < 45 else value / 55 - 1
        assert away <= 0.15 + 1e-12
        assert row.where == ("in it" if away == 0 else f"{100 * away:.0f} % {'below' if value < 45 else 'above'}")


def test_energies_and_levers_add_up(shelf, modes):
    told = printed(shelf, "modes", "shelf.run", "--table", "energy", "--table", "sensitivities")
    energy, guidance = told["energy"], told["sensitivities"]
    strain = next(c for c in energy if "strain" in c and "percent" in c)
    kinetic = next(c for c in energy if "kinetic" in c and "percent" in c)
    for column in (strain, kinetic):
        np.testing.assert_allclose(
            energy.groupby("mode")[column].sum(), 100.0, rtol=1e-6
        )  # Σ φᵀkφ of stiff members loses digits
    stiffer = next(c for c in guidance if "stiffness" in c)
    heavier = next(c for c in guidance if "mass" in c)
    merged = guidance.merge(energy, on=["mode", "member"])
    assert len(merged) == len(guidance)
    # Rayleigh's quotient: df/f = s/2 · 10 % and -t/2 · 10 %
    np.testing.assert_allclose(merged[stiffer], 0.05 * merged[strain], atol=1e-9)
    np.testing.assert_allclose(merged[heavier], -0.05 * merged[kinetic], atol=1e-9)
    groups = printed(shelf, "modes", "shelf.run", "--table", "energy group")["energy"]
    legs = energy[energy["member"].str.startswith("leg ")].groupby("mode")[strain].sum()
    own = groups[groups.iloc[:, 2:].columns.size > 0 and groups["group" if "group" in groups else "member"] == "legs"]
    np.testing.assert_allclose(own.set_index("mode")[strain], legs, rtol=1e-9)


def test_a_record_made_for_a_spectrum_has_the_spectrum_told(shelf, tmp_path):
    """Single masses driven by the written record, integrated by brute force: their largest absolute acceleration."""
    (shelf / "target.csv").write_text("frequency_hz,acceleration_g\n2,0.5\n10,2\n60,2\n")
    done = inside(
        "shock", str(shelf / "target.csv"), "--match", "--damping", "5%", "--duration", "2.5 s", "--out", str(tmp_path)
    )
    assert done.returncode == 0, done.stderr
    record = pd.read_csv(next(tmp_path.glob("*record*.csv")))
    time = record.iloc[:, 0].to_numpy(float)
    base = record.iloc[:, 1].to_numpy(float) * GRAVITY
    table = pd.read_csv(next(p for p in tmp_path.glob("*.csv") if "record" not in p.name))
    assert abs(np.trapezoid(base, time)) < 1e-3 * np.abs(base).max()  # no velocity is left
    for k in (0, len(table) // 2, len(table) - 1):
        w, z = 2 * np.pi * float(table["frequency_hz"].iloc[k]), 0.05

        def rate(t: float, y: np.ndarray, w: float = w, z: float = z) -> list[float]:
            return [y[1], -2 * z * w * y[1] - w * w * y[0] - np.interp(t, time, base)]

        solved = solve_ivp(rate, (time[0], time[-1]), [0, 0], max_step=0.02 / (w / 2 / np.pi), rtol=1e-6, atol=1e-9)
        absolute = -2 * z * w * solved.y[1] - w * w * solved.y[0]
        assert np.abs(absolute).max() / GRAVITY == pytest.approx(table["reached_g"].iloc[k], rel=2e-2)
        off = 20 * math.log10(table["reached_g"].iloc[k] / table["wanted_g"].iloc[k])
        assert table["off_db"].iloc[k] == pytest.approx(off, abs=1e-6)


def test_refinement_scatter_and_variants_from_their_own_columns(shelf, modes):
    refined = printed(shelf, "study", "shelf.yaml", "--mesh", "1.5", "--mesh", "2", "--count", "3")["mesh"]
    for row in refined.to_dict("records"):
        sizes = [c for c in refined if c.endswith("x") and c[0].isdigit()]
        assert len(sizes) == 2
        fine, finest = (row[c] for c in sizes)
        if row["remark"].startswith("hangs on"):  # the pads of the pump's feet take other nodes at every size
            assert abs(finest - fine) > 0.3 * abs(fine - row["as_written"])
            assert row["extrapolated"] is None or math.isnan(row["extrapolated"])
            continue
        ratio = float(sizes[1][:-1]) / float(sizes[0][:-1])
        limit = finest + (finest - fine) / (ratio ** row["order"] - 1)  # Richardson
        assert row["extrapolated"] == pytest.approx(limit, rel=2e-2)
        assert row["error_bar"] >= abs(row["extrapolated"] - finest) * (1 - 1e-9)
    place = "parts/top/plate/thickness"
    scatter = printed(
        shelf, "study", "shelf.yaml", "--scatter", "--set", f"{place} = normal 5 mm +- 4 %", "--count", "3"
    )
    inputs, whole = scatter["inputs"], scatter["scatter"]
    ends = [modes.assembly.changed({"parts": {"top": {"plate": {"thickness": f"{t} mm"}}}}).modes(3).frequencies_hz
            for t in (4.99, 5.01)]  # fmt: skip
    slope = (ends[1] - ends[0]) / 0.02
    np.testing.assert_allclose(whole["deviation"].iloc[:3], np.abs(slope) * 0.2, rtol=5e-3)
    np.testing.assert_allclose(inputs["effect_of_one_deviation"].iloc[:3], slope * 0.2, rtol=5e-3)
    np.testing.assert_allclose(whole["deviation_percent"], 100 * whole["deviation"] / whole["at_means"], rtol=1e-9)
    variants = printed(shelf, "study", "shelf.yaml", "--set", f"{place} = 4, 6 mm", "--count", "2", "--jobs", "1")[
        "variants"
    ]
    top = 0.7 * 0.4 * 7830.0  # kg per m of thickness
    np.testing.assert_allclose(variants["mass_kg"] - variants["mass_kg"].iloc[0],
                               top * 1e-3 * (variants["top thickness (mm)"] - 5.0), atol=1e-6)  # fmt: skip
    for row in variants.to_dict("records"):
        own = modes.assembly.changed({"parts": {"top": {"plate": {"thickness": f"{row['top thickness (mm)']} mm"}}}})
        np.testing.assert_allclose([row["mode_1_hz"], row["mode_2_hz"]], own.modes(2).frequencies_hz, rtol=1e-9)


def test_state_and_limits_in_what_check_and_respond_print(shelf, modes):
    state = printed(shelf, "state", "shelf.yaml")
    assert any("displacement" in name or "points" in name for name in state)
    check = json.loads(inside("check", str(shelf / "shelf.yaml"), "--json").stdout)
    M = modes.set.system.mass.toarray()
    nodes = modes.set.system.mesh.nodes
    fields = [np.tile(np.eye(6)[d], len(nodes)) for d in range(3)]
    mass = fields[0] @ M @ fields[0]
    assert check["mass_kg"] == pytest.approx(mass, rel=1e-12)
    turn = np.zeros((len(nodes), 6))  # a turn about y moves x by z and z by -x
    turn[:, 0], turn[:, 2], turn[:, 4] = nodes[:, 2], -nodes[:, 0], 1.0
    centre = [-(fields[2] @ M @ turn.ravel()) / mass, (fields[0] @ M @ turn.ravel()) / mass]
    assert [check["centre_of_mass_m"][0], check["centre_of_mass_m"][2]] == pytest.approx(centre, abs=1e-12)
    parts = pd.DataFrame(check["tables"]["mass"])
    d = modes.assembly.description
    parts = parts[parts["name"].isin([*d.parts, *d.masses])]  # without the sum at the end
    assert parts["mass_kg"].sum() == pytest.approx(mass, rel=1e-12)
    assert parts["share_percent"].sum() == pytest.approx(100.0, rel=1e-12)
    done = inside("respond", str(shelf / "shelf.run"), "drop", "--json")
    told = json.loads(done.stdout)["tables"]
    peaks = pd.DataFrame(told["drop_peaks"]).set_index(["gauge", "component"])
    size = max(abs(peaks.loc[("pump", axis), "peak"]) for axis in "xyz")
    assert done.returncode == int(peaks.loc[("pump", "magnitude"), "peak"] > 20.0)
    assert peaks.loc[("pump", "magnitude"), "peak"] >= size * (1 - 1e-9)
