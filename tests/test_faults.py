"""Damaged run files, full disks, processes that are killed, files replaced meanwhile: all or nothing."""

from __future__ import annotations

import contextlib
import os
import resource
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import h5py
import numpy as np
import pandas as pd
import pytest

import every_key as ek
import holokine as hk
from holokine import whole
from holokine.errors import OutputError, RunFileError, StaleError
from holokine.show.scene import write_film
from holokine.store.sealed import seal


@pytest.fixture(scope="module")
def saved(tmp_path_factory) -> Path:
    """A run file of the demo that is complete in itself, and its assembly file beside it."""
    folder = tmp_path_factory.mktemp("saved")
    for name in ("crate.yaml", "works.csv"):
        shutil.copy(hk.demo_folder() / name, folder)
    hk.Assembly.read(folder / "crate.yaml").modes(count=5).save(folder / "crate.run")
    return folder / "crate.run"


def edited(saved: Path, to: Path, edit) -> Path:
    """A copy with its content changed by `edit`, under a seal that fits: only its layout can tell."""
    shutil.copy(saved, to)
    with h5py.File(to, "r+") as file:
        edit(file)
    seal(to)
    return to


def test_a_byte_changed_anywhere_in_a_run_file_is_told(saved, tmp_path):
    """The last byte, the first, the seal's own, and places at random; cut off, lengthened, and sealed twice."""
    content = saved.read_bytes()
    rng = np.random.default_rng(3)
    places = [8, len(content) - 1, len(content) - 40, len(content) - 100, *rng.integers(8, len(content), 60)]
    file = tmp_path / "a.run"
    for place in places:
        changed = bytearray(content)
        changed[place] ^= 1 << int(rng.integers(8))
        file.write_bytes(changed)
        with pytest.raises(RunFileError, match=r"a\.run: (is damaged|was not written to its end|has run format)"):
            hk.open_run(file)
    for changed in (content[:-1], content[: len(content) // 2], content[:9], content + b"\n", content[:8] * 40):
        file.write_bytes(changed)
        with pytest.raises(RunFileError, match=r"a\.run: (is damaged|was not|is an HDF5 file, but not a run file)"):
            hk.open_run(file)
    file.write_bytes(content)
    seal(file, 99)
    with pytest.raises(RunFileError, match="run format 99"):
        hk.open_run(file)
    file.write_bytes(content)
    assert len(hk.open_run(file).frequencies_hz) == 5


def _array(name, change):
    def edit(file):
        value = change(file[name][()])
        del file[name]
        file[name] = value

    return edit


def _text(name, change):
    return _array(name, lambda raw: change(raw.decode()))


def _with(array, place, value):
    array[place] = value
    return array


EDITS = [
    (_array("modes/shapes", lambda a: a[:, :-6]), "modes/shapes: are not six degrees of freedom"),
    (_array("modes/shapes", lambda a: a.astype(complex)), "modes/shapes is of the type complex128"),
    (_array("modes/shapes", lambda a: a.astype("S8")), "modes/shapes is of the type"),
    (_array("modes/shapes", lambda a: a.astype("f4")), "modes/shapes is of the type float32"),
    (_array("modes/shapes", lambda a: _with(a, (2, 3), np.nan)), "modes/shapes holds numbers that are not finite"),
    (_array("modes/frequencies_hz", lambda a: a[:-1]), "does not fit the others"),
    (_array("modes/frequencies_hz", lambda a: _with(a, 0, np.inf)), "not finite"),
    (_array("modes/frequencies_hz", lambda a: a[::-1].copy()), "modes/frequencies_hz: do not rise"),
    (_array("modes/totals", lambda a: a[:4]), "modes/totals"),
    (_array("modes/rigid", lambda a: a.astype("f8")), "modes/rigid is of the type float64"),
    (_array("damping/ratios", lambda a: a[:, None]), r"damping/ratios has the shape"),
    (_array("damping/ratios", lambda a: _with(a, 0, -1e6)), "damping/ratios: are negative"),
    (_array("reduced/modal", lambda a: a[:, :-1]), "reduced/modal"),
    (_array("reduced/omega", lambda a: 2 * a), "reduced/omega: are not those of the modes"),
    (_array("reduced/places/0/side", lambda a: a + 40), "there is no such side"),
    (_array("reduced/places/0/numbers", lambda a: a[:-1]), "reduced/places/0"),
    (_text("modes/facts", lambda t: t.replace('"missing": 0', '"missing": "none"')), "facts, missing: .*integer"),
    (_text("modes/facts", lambda t: "[" * 3000), "modes/facts"),
    (_array("energies/strain", lambda a: a[:-1]), "energies/"),
    (
        _array("energies/kinetic", lambda a: _with(a, (0, 0), np.nan)),
        "energies/kinetic holds numbers that are not finite",
    ),
    (_array("energies/told", lambda a: a.astype("f8")), "energies/told is of the type float64"),
    (_array("energies/mesh_error", lambda a: a[:-1]), "energies/mesh_error"),
    (_text("energies/names", lambda t: t.replace('"', "", 1)), "energies/names"),
    (_text("energies/names", lambda t: "[[],[]]"), "energies/names: are of another number than the energies"),
    (_text("keys", lambda t: t.replace('"kinds"', '"kings"')), "keys of stages"),
    (_text("keys", lambda t: t.replace('"modes"', '"nodes"')), "keys of stages"),
    (_text("keys", lambda t: "7"), "keys: .*object"),
    (_text("description", lambda t: t.replace("{", "[", 1)), "description"),
    (_text("changes", lambda t: '[["a", 3]]'), "changes"),
    (_text("asked", lambda t: '{"count": "many"}'), "asked"),
    (_text("reduced/readings", lambda t: t.replace('"width": 1', '"width": 900', 1)), "does not fit the channels"),
    (_text("reduced/channels", lambda t: t.replace('"places": 1,', '"places": 2,', 1)), "channels"),
    (lambda f: f.__delitem__("modes"), "modes is not there"),
    (lambda f: f.attrs.__delitem__("created"), "attribute created"),
    (lambda f: f.attrs.__setitem__("source", 3.0), "attribute source"),
    (lambda f: f.attrs.__setitem__("kind", "letter"), "not a run file"),
    (lambda f: f.__setitem__("more", 1.0), "'more' has no place"),
    (lambda f: f["modes"].__setitem__("modes", f["modes"]), "'modes' has no place"),  # goes round in a circle
    (lambda f: (f.__delitem__("keys"), f.__setitem__("keys", h5py.SoftLink("/keys"))), "keys is a link"),
    (lambda f: (f.__delitem__("keys"), f.__setitem__("keys", h5py.ExternalLink("/etc/passwd", "/"))), "keys is a link"),
    (lambda f: (f.__delitem__("damping"), f.__setitem__("damping", 1.0)), "damping is no group"),
    (lambda f: (f.__delitem__("keys"), f.create_group("keys")), "keys is no data"),
]


@pytest.mark.parametrize("number", range(len(EDITS)))
def test_a_run_file_that_is_sealed_but_does_not_fit_is_refused(saved, tmp_path, number):
    """Whoever wrote it: each wrong entry is one clear error that names it."""
    edit, words = EDITS[number]
    with pytest.raises(RunFileError, match=words) as err:
        hk.open_run(edited(saved, tmp_path / "a.run", edit))
    assert "a.run: is damaged" in str(err.value)
    assert "extract the modes again" in str(err.value)


def test_foreign_files_in_place_of_run_files(saved, tmp_path):
    with h5py.File(tmp_path / "foreign.run", "w") as file:
        file["x"] = 1
    (tmp_path / "folder.run").mkdir()
    for name, words in (
        ("foreign.run", "not a run file"), ("none.run", "no such file"), ("folder.run", "is a folder"),
    ):  # fmt: skip
        with pytest.raises(RunFileError, match=words):
            hk.open_run(tmp_path / name)
    with pytest.raises(RunFileError, match="is not a run file"):
        hk.open_run(saved.with_name("crate.yaml"))


def test_a_run_file_is_not_put_in_place_of_another_kind_of_file(saved):
    modes = hk.open_run(saved)
    with pytest.raises(OutputError, match="is saved as"):
        modes.save(saved.parent / "crate.yaml")
    (saved.parent / "other.run").write_text("notes")
    for name, words in (("other.run", "another kind of file"), ("none/a.run", "there is no folder")):
        with pytest.raises(RunFileError, match=words):
            modes.save(saved.parent / name)
    (saved.parent / "other.run").unlink()
    assert sorted(p.name for p in saved.parent.iterdir()) == ["crate.run", "crate.yaml", "works.csv"]


def test_a_full_disk_leaves_the_old_file_and_nothing_else(saved, tmp_path):
    """The limit of a file's size in place of a full disk, at every part of the writing; then it is saved after all."""
    run = Path(shutil.copy(saved, tmp_path / "crate.run"))
    modes = hk.open_run(saved)
    answer = modes.respond("kerb strike")
    size, content = run.stat().st_size, run.read_bytes()
    unlimited = resource.getrlimit(resource.RLIMIT_FSIZE)
    for share in np.linspace(0.0, 0.99, 12):
        writers = {
            "crate.run": modes.save,
            "p.html": modes.save,
            "h.h5": answer.save,
            "v.vtu": modes.save,
        }
        for target, write in writers.items():
            most = int(share * size) if target == "crate.run" else 500
            resource.setrlimit(resource.RLIMIT_FSIZE, (most, unlimited[1]))
            try:
                with pytest.raises(hk.errors.HolokineError, match="cannot be written"):
                    write(tmp_path / target)
            finally:
                resource.setrlimit(resource.RLIMIT_FSIZE, unlimited)
            assert [p.name for p in tmp_path.iterdir()] == ["crate.run"]
            assert run.read_bytes() == content
    modes.save(run)
    assert np.array_equal(hk.open_run(run).frequencies_hz, modes.frequencies_hz)


@pytest.mark.parametrize(("ending", "most"), [(".gif", 500), (".mp4", 500), (".mp4", 48 * 1024)])
def test_a_film_that_does_not_fit_leaves_nothing(tmp_path, ending, most):
    """Also where the encoder fails after it took the last picture."""
    noise = np.random.default_rng(1).integers(0, 255, (4, 240, 320, 3), dtype=np.uint8)
    unlimited = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (most, unlimited[1]))
    try:
        with pytest.raises(OutputError, match="cannot be written"):
            write_film(tmp_path / f"mode{ending}", noise, 24.0, count=4)
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, unlimited)
    assert not list(tmp_path.iterdir())
    write_film(tmp_path / f"mode{ending}", noise, 24.0, count=4)
    assert (tmp_path / f"mode{ending}").stat().st_size > most


SAVING = """
from pathlib import Path
import holokine as hk
from holokine.cli.deliver import Delivery, write_files
modes = [hk.open_run("first.run"), hk.open_run("second.run")]
print("ready", flush=True)
while True:
    for m in modes:
        m.save("a.run")
        m.save("page.html")
        write_files({"": m}, [("masses", m.table())], Delivery(out=Path("tables")), {}, {})
"""
"""Saves one run and then the other over it, without end."""


@pytest.mark.parametrize("rounds", [8])
def test_a_process_killed_while_it_saves_leaves_a_whole_file(saved, tmp_path, rounds):
    """`scripts/faults.py` does 200 rounds."""
    kill_and_reopen(saved, tmp_path, rounds)


def kill_and_reopen(saved: Path, folder: Path, rounds: int) -> None:
    """After each kill: one run or the other, pages whole, and no file that is not one of them."""
    assembly = hk.Assembly.read(saved.with_name("crate.yaml"))
    lengths = {hk.open_run(saved).save(folder / "first.run").stat().st_size: 5}
    lengths[assembly.modes(count=9).save(folder / "second.run").stat().st_size] = 9
    rng = np.random.default_rng(5)
    for _ in range(rounds):
        with subprocess.Popen([sys.executable, "-c", SAVING], cwd=folder, stdout=subprocess.PIPE, text=True) as process:
            assert process.stdout.readline() == "ready\n"
            time.sleep(float(rng.uniform(0.0, 0.25)))
            process.send_signal(signal.SIGKILL)
        names = {p.name for p in folder.iterdir() if not p.name.startswith(whole.HIDDEN)}
        assert names <= {"first.run", "second.run", "a.run", "page.html", "tables"}
        if "a.run" in names:
            assert len(hk.open_run(folder / "a.run").frequencies_hz) == lengths[(folder / "a.run").stat().st_size]
        if "page.html" in names:
            assert (folder / "page.html").read_text(encoding="utf-8").rstrip().endswith("</html>")
        tables = {p.name for p in (folder / "tables").iterdir() if p.name[0] != "."} if "tables" in names else set()
        assert tables <= {"masses.csv", "about.txt"}
        if "masses.csv" in tables:
            assert len(pd.read_csv(folder / "tables/masses.csv")) in (5, 9)


def test_a_file_replaced_while_it_is_read_is_told(tmp_path, monkeypatch):
    """A mesh that is replaced between the look at its contents and its reading: no answer from a mixture of both."""
    from holokine.mesh import build

    ek.write_files(tmp_path)
    read = build.read_mesh
    for replaced in (False, True):
        a = hk.Assembly.read(ek.write(ek.BLOCKS, tmp_path / "a.yaml"))

        def late(path, factor, replaced=replaced):
            ek.write_files(tmp_path, change="sheet.vtu" if replaced else "")  # the same content anew is no change
            return read(path, factor)

        monkeypatch.setattr(build, "read_mesh", late)
        for _ in range(2):  # nor the second time
            if replaced:
                with pytest.raises(StaleError, match=r"sheet\.vtu: was replaced or changed"):
                    a.modes(count=2)
            else:
                a.modes(count=2)
    monkeypatch.setattr(build, "read_mesh", read)
    assert hk.Assembly.read(tmp_path / "a.yaml").modes(count=2).key != a.key


def test_where_nothing_can_be_written_it_is_said_and_nothing_is_left(tmp_path):
    (tmp_path / "folder").mkdir()
    (tmp_path / "file").write_text("x")
    for path, words in (
        (tmp_path / "folder", "is a folder"), (tmp_path / "file/a.csv", "cannot be written"),
        (tmp_path / "none/a.csv", "cannot be written"), (Path("/proc/a.csv"), "cannot be written"),
        (tmp_path / ("a" * 300), "cannot be written"),
    ):  # fmt: skip
        with pytest.raises(OutputError, match=words), whole.whole_file(path) as part:
            part.write_text("new")
    with contextlib.suppress(ZeroDivisionError), whole.whole_file(tmp_path / "file") as part:
        part.write_text(f"new {1 / 0}")
    assert (tmp_path / "file").read_text() == "x"
    for ending in ("", ".csv"):
        with whole.whole_file(tmp_path / f"file{ending}") as part:
            assert part.suffix == ending
            part.write_text("new")
        assert (tmp_path / f"file{ending}").read_text() == "new"
        (tmp_path / "usual").write_text("x")
        assert (tmp_path / f"file{ending}").stat().st_mode == (tmp_path / "usual").stat().st_mode
        (tmp_path / "usual").unlink()
    assert sorted(p.name for p in tmp_path.iterdir()) == ["file", "file.csv", "folder"]


def test_two_processes_that_save_to_one_file_leave_one_of_both(saved, tmp_path):
    hk.open_run(saved).save(tmp_path / "first.run")
    hk.Assembly.read(saved.with_name("crate.yaml")).modes(count=9).save(tmp_path / "second.run")
    code = "import sys, holokine as hk\nm = hk.open_run(sys.argv[1])\nfor _ in range(15): m.save('a.run')"
    both = [subprocess.Popen([sys.executable, "-c", code, f"{name}.run"], cwd=tmp_path) for name in ("first", "second")]
    while any(p.poll() is None for p in both):
        if (tmp_path / "a.run").exists():
            assert len(hk.open_run(tmp_path / "a.run").frequencies_hz) in (5, 9)
    assert [p.returncode for p in both] == [0, 0]
    assert {p.name for p in tmp_path.iterdir()} == {"first.run", "second.run", "a.run"}


def test_a_command_told_to_end_takes_its_temporary_folder_with_it(saved, tmp_path):
    """Copies of the files that a run as saved needs stand in a folder of the process."""
    code = (
        "import sys, time, holokine as hk\nfrom holokine.cli import main\n"
        "main.cli.main = lambda *_, **__: (hk.open_run(sys.argv[1], as_saved=True).respond('works shock'),"
        " print('here', flush=True), time.sleep(60))\nmain.run([])"
    )
    for how in (signal.SIGTERM, signal.SIGINT):
        with subprocess.Popen(
            [sys.executable, "-c", code, str(saved)], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
            env={**os.environ, "TMPDIR": str(tmp_path)},
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        ) as process:  # fmt: skip
            assert process.stdout.readline() == "here\n"
            assert len(list(tmp_path.iterdir())) == 1
            process.send_signal(how)
            assert process.wait(20) == 128 + how
        assert not list(tmp_path.iterdir())
