"""The command line as a user drives it: output, files, exit codes."""

from __future__ import annotations

import contextlib
import io
import json
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pandas as pd
import pytest

import holokine as hk
from holokine.show import busy


def holokine(*arguments: str, cwd: Path | None = None) -> subprocess.CompletedProcess:
    command = [sys.executable, "-W", "error", "-c", "from holokine.cli.main import run; run()", *arguments]
    return subprocess.run(command, capture_output=True, text=True, cwd=cwd, timeout=300, check=False)


def inside(*arguments: str) -> subprocess.CompletedProcess:
    """The same in this process, which saves loading all packages again."""
    from holokine.cli.main import run

    out, err, code = io.StringIO(), io.StringIO(), 0
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            run(list(arguments))
        except SystemExit as end:
            code = int(end.code or 0)
    return subprocess.CompletedProcess(arguments, code, out.getvalue(), err.getvalue())


@pytest.fixture
def crate_copy(tmp_path: Path) -> Path:
    for name in ("crate.yaml", "works.csv"):
        shutil.copy(hk.demo_folder() / name, tmp_path / name)
    return tmp_path / "crate.yaml"


def test_version_help_and_unknown_command():
    assert holokine("--version").stdout.strip() == f"holokine {hk.__version__}"
    from holokine.cli.main import COMMANDS

    assert len(COMMANDS) == 12
    for command in ([], *([name] for name in COMMANDS)):
        got = inside(*command, "--help")
        assert got.returncode == 0
        assert "Example:" in got.stdout
        assert len(got.stdout.splitlines()) <= 45, command  # at 80 columns
    unknown = inside("respnd")
    assert unknown.returncode == 2
    assert 'Did you mean "respond"?' in unknown.stderr


def test_check_prints_totals_and_writes_nothing(crate_copy):
    before = sorted(crate_copy.parent.iterdir())
    got = holokine("check", str(crate_copy))
    assert got.returncode == 0, got.stderr
    for text in ("total mass", "centre of mass", "transformer", "mount 4", "everything hangs together"):
        assert text in got.stdout
    assert sorted(crate_copy.parent.iterdir()) == before
    data = json.loads(inside("check", str(crate_copy), "--json").stdout)
    assert 300 < data["mass_kg"] < 600
    assert data["tables"]["mass"][-1]["name"] == "whole assembly"
    assert data["key"] == hk.Assembly.read(crate_copy).key


def test_modes_as_table_csv_and_json(crate_copy):
    got = holokine("modes", str(crate_copy), "--count", "5")
    assert got.returncode == 0
    assert "5 modes found" in got.stdout
    assert "e-2" not in got.stdout.split("residual")[-1].replace("e-1", "")  # no rounding noise shown as mass
    csv = inside("modes", str(crate_copy), "--upto", "30Hz", "--csv")
    table = pd.read_csv(pd.io.common.StringIO(csv.stdout))
    assert (table["frequency_hz"] <= 30).all()
    assert 8 < table["frequency_hz"].iloc[0] < 25
    data = json.loads(inside("modes", str(crate_copy), "--count", "3", "--json").stdout)
    assert len(data["tables"]["participation"]) == 3
    assert inside("modes", str(crate_copy), "--json", "--csv").returncode == 2


def test_respond_prints_peaks_and_writes_tables_and_figures(crate_copy, tmp_path):
    out = tmp_path / "results"
    got = holokine("respond", str(crate_copy), "kerb strike", "--out", str(out))
    assert got.returncode == 0, got.stderr
    for text in ("base pulse along z", "free mass held", "mount 1 pull", "ratio to static"):
        assert text in got.stdout
    assert {p.name.removeprefix("kerb_strike") for p in out.iterdir()} == {
        "_histories.png", ".vtu", "_peaks.csv", "_histories.csv", "_excitation.png", "_histories.html", "_stress.png",
        "_displacement.png", "_stress.csv", "_points.csv", "_members.csv", "about.txt",
    }  # fmt: skip
    peaks = pd.read_csv(out / "kerb_strike_peaks.csv")
    histories = pd.read_csv(out / "kerb_strike_histories.csv")
    highest = peaks[(peaks["gauge"] == "fan") & (peaks["component"] == "z")]["peak"].iloc[0]
    assert histories["fan z (g)"].abs().max() == pytest.approx(abs(highest), rel=2e-2)
    spectrum = inside("respond", str(crate_copy), "works shock")
    assert "Modes that matter most" in spectrum.stdout
    assert "missing mass answers with" in spectrum.stdout


def test_the_demo_is_a_tour_whose_commands_work(tmp_path):
    got = holokine("demo", cwd=tmp_path)
    assert got.returncode == 0, got.stderr
    lines = got.stdout.splitlines()
    assert len(lines) <= 90
    assert max(map(len, lines)) <= 120
    folder = tmp_path / "crate-demo"
    assert {p.name for p in folder.iterdir()} == {
        "crate.yaml", "works.csv", "crate.run", "notes.md", "crate.html", "crate.xlsx"}  # fmt: skip
    commands = [line.split("$ holokine ", 1)[1] for line in lines if "  $ holokine " in line]
    assert len(commands) == 9
    fan = hk.open_run(folder / "crate.run").respond("kerb strike").table("peaks").query("gauge == 'fan'").iloc[0]
    assert f"the fan {fan['peak']:.3f} g after {fan['time_ms']:.2f} ms" in got.stdout
    for command in commands:  # as they are typed, in the folder that the tour left
        if "report" not in command:
            told = inside(*(str(folder / w) if w.startswith("crate.") else w for w in shlex.split(command)))
            assert told.returncode == 0, told.stderr
    (tmp_path / "file").write_text("")
    assert inside("demo", "--out", str(tmp_path / "file")).returncode == 2


@pytest.mark.long
def test_demo_with_all_tables_does_the_whole_job(tmp_path):
    got = holokine("demo", "--all", "--out", str(tmp_path / "demo"))
    assert got.returncode == 0, got.stderr
    for event in ("works shock", "kerb strike", "rail joint", "winter standstill", "fan start", "two wheel sets"):
        assert f": {event}" in got.stdout
    names = {p.name for p in (tmp_path / "demo").iterdir()}
    assert {"crate.yaml", "works.csv", "effective_mass.png", "mode_01.png", "works_shock_shares.png"} <= names
    again = inside("check", str(tmp_path / "demo" / "crate.yaml"))
    assert again.returncode == 0


BAD = [
    (["check", "none.yaml"], "there is no such file"),
    (["respond", "crate.yaml", "curb strike"], 'Did you mean "kerb strike"'),
    (["modes", "crate.yaml", "--upto", "5 kg"], 'expected a frequency such as Hz, got "kg"'),
    (["modes", "crate.yaml", "--upto", "1Hz"], "no mode up to 1 Hz"),
    (["modes", "crate.yaml", "--count", "0"], "--count"),
    (["respond", "crate.yaml"], "EVENT"),
    (["modes", "crate.yaml", "--count", "3", "--animate", "9"], "there is no mode 9: modes 1 to 3"),
    (["check", "works.csv"], "expected keys and values"),
    (["respond", "crate.yaml", "works shock", "--at", "5ms"], "--at belongs to events in time"),
    (["respond", "crate.yaml", "kerb strike", "--table", "rules"], "--table rules belongs to response spectra"),
    (["respond", "crate.yaml", "kerb strike", "--table", "rulz"], "The tables are: peaks, limits"),
    (["respond", "crate.yaml", "works shock", "--against-rules"], "--against-rules belongs to events in time"),
    (["respond", "crate.yaml", "kerb strike", "--draw", "window=0s to 1s"], "window=... belongs to --animate"),
    (["respond", "crate.yaml", "kerb strike", "--draw", "film=mp4"], "film=... belongs to --animate"),
    (["respond", "crate.yaml", "kerb strike", "--draw", "veiw=front"], 'Did you mean "view"?'),
    (["respond", "crate.yaml", "kerb strike", "--draw", "front"], "expected KEY=VALUE"),
    (["modes", "crate.yaml", "--draw", "rate=30"], "rate=... belongs to --animate"),
    (["modes", "crate.yaml", "--animate", "1", "--draw", "size=wide", "--out", "o"], "such as size=1280x800"),
    (
        ["modes", "crate.yaml", "--animate", "1", "--draw", "size=641x480"],
        "a film of 641 x 480 pixels cannot be made: even numbers",
    ),
    (
        ["modes", "crate.yaml", "--count", "2", "--table", "modes by=3"],
        'modes: there is no option "by". It takes none.',
    ),
    (["modes", "crate.yaml", "--table", "energy grup"], 'no group "grup"'),
    (["modes", "crate.yaml", "--save", "crate.doc"], "this is saved as .csv"),
    (["compare", "crate.yaml", "--ritz", "two wheel sets"], "the whole base and for loads"),
    (["compare", "crate.yaml", "--adjust", "deck 1.5"], "expected 'MEMBER: stiffness 1.5, mass 0.9'"),
    (["shock", "works.csv", "--match", "--duration", "0.1s"], "too short"),
    (["shock", "works.csv", "--duration", "0.1s"], "belong to --match"),
    (["study", "crate.yaml", "--set", "damping = 1, 2 %", "--scatter", "--mesh", "2"], "give one of --scatter"),
]


@pytest.mark.parametrize(("arguments", "message"), BAD, ids=[" ".join(b[0]) for b in BAD])
def test_bad_input_ends_with_code_2_and_no_traceback(crate_copy, monkeypatch, arguments, message):
    before = sorted(crate_copy.parent.iterdir())
    monkeypatch.chdir(crate_copy.parent)
    got = inside(*arguments, "--out", "results")
    assert got.returncode == 2
    assert message in got.stderr
    assert "Traceback" not in got.stderr
    assert sorted(crate_copy.parent.iterdir()) == before  # nothing written


def test_failed_check_ends_with_code_1_and_blocked_folder_with_2(crate_copy):
    text = crate_copy.read_text().replace("supports:", "supports:\n  nothing: {at: fan foot a1, hold: [x]}", 1)
    loose = text.replace(
        "  fan: {at: fan, mass: 24 kg", "  spare: {at: spare, mass: 1 kg}\n  fan: {at: fan, mass: 24 kg"
    )
    loose = loose.replace("points:", "points:\n  spare: [0, 0, 900]", 1)
    crate_copy.write_text(loose)
    got = holokine("check", str(crate_copy))
    assert got.returncode == 1
    assert 'hangs on nothing: "spare"' in got.stdout
    crate_copy.write_text(text)
    (crate_copy.parent / "taken").write_text("a file")
    got = holokine("respond", "crate.yaml", "kerb strike", "--out", "taken", cwd=crate_copy.parent)
    assert got.returncode == 2
    assert (crate_copy.parent / "taken").read_text() == "a file"


def test_commands_about_loads_vectors_and_records(crate_copy, monkeypatch):
    monkeypatch.chdir(crate_copy.parent)
    still = inside("respond", "crate.yaml", "winter standstill", "--out", "still")
    assert still.returncode == 0, still.stderr
    assert "total applied load: z -4748 N, at [" in still.stdout
    assert "total reaction: z 4748 N" in still.stdout
    members = pd.read_csv("still/winter_standstill_members.csv")
    assert set(members["end"]) == {"start", "end"}
    assert {p.name for p in Path("still").glob("*.png")} == {
        "winter_standstill_displacement.png", "winter_standstill_stress.png"
    }  # fmt: skip
    modes = inside("modes", "crate.yaml", "--upto", "60Hz", "--save", "crate.run")
    assert modes.returncode == 0, modes.stderr
    then = inside("respond", "crate.run", "kerb strike", "--at", "27ms")
    assert "Largest stress of parts" in then.stdout
    assert "Displacement of points" in then.stdout
    apart = inside("respond", "crate.run", "two wheel sets")
    assert "response spectra at groups of supports: front z, rear z; modes by CQC, groups of supports by SRSS" in (
        apart.stdout
    )
    vectors = inside("compare", "crate.run", "--ritz", "rail joint", "--vectors", "5", "--json")
    table = json.loads(vectors.stdout)["tables"]["ritz_load_shares"]
    assert len(table) == 5
    assert table[-1]["z_static_vectors_percent"] > 99.0 > table[0]["z_static_modes_percent"]
    Path("short.csv").write_text("frequency_hz,acceleration_g\n20,2\n80,8\n200,6\n")
    made = inside("shock", "short.csv", "--match", "--per-octave", "4", "--out", "made")
    assert "windowed sines" in made.stdout
    assert {p.name for p in Path("made").iterdir()} == {
        "about.txt",
        "short_match.csv",
        "short_match.png",
        "short_record.csv",
    }
    again = inside("shock", "made/short_record.csv", "--low", "20Hz", "--high", "200Hz", "--csv")
    assert again.stdout.startswith("frequency_hz,")


def test_what_made_each_file_stands_beside_plain_tables(crate_copy):
    """CSV files read as they are; about.txt tells version and key of each, kept up to date over runs."""
    out = crate_copy.parent / "out"
    inside("check", str(crate_copy), "--out", str(out))
    first = (out / "about.txt").read_text()
    assert pd.read_csv(out / "mass.csv").columns[0] == "name"
    assert "mass.csv: holokine" in first
    inside("modes", str(crate_copy), "--upto", "25Hz", "--draw", "shapes=0", "--out", str(out))
    lines = dict(line.split(": ", 1) for line in (out / "about.txt").read_text().splitlines())
    assert {p.name for p in out.iterdir()} == {*lines, "about.txt"}
    assert "key of the system" in lines["mass.csv"]
    assert "key of the modes" in lines["modes.csv"]
    assert len(pd.read_csv(out / "modes.csv")) == 4


def on_a_terminal(*arguments: str) -> str:
    """What a terminal of 24 rows shows of a command, its error stream too."""
    import os
    import pty
    import select

    master, slave = pty.openpty()
    environment = {**os.environ, "COLUMNS": "150", "LINES": "24", "TERM": "dumb"}
    child = subprocess.Popen([sys.executable, "-m", "holokine", *arguments], stdout=slave, stderr=slave,
                             env=environment)  # fmt: skip
    os.close(slave)
    text = b""
    while child.poll() is None or select.select([master], [], [], 0.2)[0]:
        if select.select([master], [], [], 0.2)[0]:
            try:
                text += os.read(master, 65536)
            except OSError:
                break
    os.close(master)
    child.wait(60)
    return text.decode()


def test_what_goes_on_is_told_on_a_terminal(crate_copy, tmp_path, monkeypatch):
    """Phases of the chain, in order, to a listener; on a terminal beside the output; in a pipe not at all."""
    from holokine.progress import listening, tell

    heard = []
    with listening(lambda phase, done, of, what: heard.append((phase, done, of, what))):
        a = hk.Assembly.read(crate_copy)
        a.check()
        modes = a.modes(count=6)
        assert len(modes.words) == 6
        answer = modes.respond("kerb strike")
        answer.table("stress")
        answer.save(tmp_path / "a.gif", window=(0, 0.02), seconds=0.5, rate=4, pixels=(320, 240))
    phases = [h[0] for h in heard]
    order = ["meshing", "building the matrices", "checking masses", "what the gauges read", "iterating from",
             "energies of all members", "what the modes are", 'answering "kerb strike"', "modes as the gauges see",
             "stress in time", "pictures of a.gif", "writing a.gif"]  # fmt: skip
    first = [next(i for i, p in enumerate(phases) if p.startswith(word)) for word in order]
    assert first == sorted(first), list(zip(order, first, strict=True))
    assert all(0 <= done <= of for _, done, of, _ in heard if of)
    assert ("pictures of a.gif", 1, 2, "pictures") in heard
    before = len(heard)
    tell("nobody listens now")
    assert len(heard) == before
    monkeypatch.setattr(busy.Busy, "after", 0.0)
    screen = on_a_terminal("check", str(crate_copy))
    assert "Mass" in screen
    assert inside("check", str(crate_copy)).stderr == ""


def test_a_run_of_an_unchanged_file_is_not_parsed_again(crate_copy, monkeypatch):
    """Told by its bytes; an error still names the line, and any change is read."""
    from holokine.describe import document

    run = hk.Assembly.read(crate_copy).variant("thicker deck").modes(count=4).save(crate_copy.with_name("crate.run"))
    parsed = []
    real = document.read_yaml
    monkeypatch.setattr(document, "read_yaml", lambda file: parsed.append(file) or real(file))
    modes = hk.open_run(run)
    assert parsed == []
    fresh = hk.Assembly.read(crate_copy).variant("thicker deck").modes(count=4)
    assert modes.assembly.document.data == fresh.assembly.document.data
    assert modes.key == fresh.key
    parsed.clear()
    places = hk.open_run(run).assembly.document.places
    assert parsed == []
    line = crate_copy.read_text().splitlines().index("events:") + 1
    assert places.of(("events",)) == f"crate.yaml, line {line}: events"
    assert len(parsed) == 1  # read for the line
    crate_copy.write_text(crate_copy.read_text() + "\n# a remark\n")
    parsed.clear()
    assert not hk.open_run(run).run.findings
    assert len(parsed) == 1


def test_long_tables_are_shortened_on_a_terminal_only(crate_copy):
    """On a terminal of 24 rows the modes are cut with the way to see all; --all, a pipe and CSV hold every row."""
    run = hk.Assembly.read(crate_copy).modes().save(crate_copy.with_name("crate.run"))
    cut = on_a_terminal("modes", str(run))
    assert "28 more of 48 rows: --all shows them" in cut
    assert cut.index("What the modes are") < cut.index("Sturm count")  # what was asked for comes first
    assert "more of 48 rows" not in on_a_terminal("modes", str(run), "--all")
    assert "more of 48 rows" not in inside("modes", str(run)).stdout
    assert len(inside("modes", str(run), "--csv").stdout.splitlines()) == 49


def test_states_on_the_command_line(crate_copy, monkeypatch):
    monkeypatch.chdir(crate_copy.parent)
    got = inside("state", "crate.yaml", "iced up", "--out", "rest")
    assert got.returncode == 0, got.stderr
    assert "one-way springs and springs with a law: 4 of 4 act" in got.stdout
    assert "Gauges at rest" in got.stdout
    assert 'about the state "iced up": at rest' in got.stdout
    assert {p.name for p in Path("rest").iterdir()} >= {"state_springs.csv", "state_stress.png", "state.vtu"}
    springs = pd.read_csv("rest/state_springs.csv", comment="#")
    assert (springs["state"] == "acting").all()
    data = json.loads(inside("state", "crate.yaml", "parked", "--json").stdout)
    assert data["state"] == "parked"
    assert {row["state"] for row in data["tables"]["state_springs"]} == {"open"}
    weight = 9.80665 * json.loads(inside("check", "crate.yaml", "--json").stdout)["mass_kg"]
    assert sum(row["z_n"] for row in data["tables"]["state_supports"]) == pytest.approx(weight, rel=1e-9)
    got = inside("state", "crate.yaml", "iced up", "--buckling", "--count", "2", "--modes", "2", "--factors", "0",
                 "--factors", "5")  # fmt: skip
    assert got.returncode == 0, got.stderr
    assert "the state has a safety of 10.7" in got.stdout
    assert "Frequencies at parts of the load" in got.stdout
    got = inside("modes", "crate.yaml", "--state", "iced up", "--count", "6", "--save", "iced.run")
    assert got.returncode == 0, got.stderr
    assert 'Converter crate on a tram roof, about the state "iced up"' in got.stdout
    answer = inside("respond", "iced.run", "kerb strike")
    assert 'readings are what the event adds to the state "iced up"' in answer.stdout.replace("\n", " ")
    assert "the vibration pulls apart what only pushes or pulls: fan stop a1" in answer.stdout.replace("\n", " ")
    got = inside("compare", "crate.yaml", "--state", "none", "--with-state", "iced up", "--count", "10")
    assert "mode 6 moves most: 27.44 Hz becomes 62.41 Hz (+127 %)" in got.stdout
    got = inside("compare", "crate.yaml", "--variant", "aluminium cage", "--count", "10")
    assert "mode 10 moves most: 46.75 Hz becomes 41.01 Hz (-12.3 %)" in got.stdout  # as many digits as in the table
    for arguments, words in (
        (["modes", "iced.run", "--state", "parked"], "holds modes about the state iced up"),
        (["state", "crate.yaml", "iced"], 'Did you mean "iced up"'), (["state", "crate.yaml"], "name one of parked"),
        (["compare", "crate.yaml", "--with-state", "none"], "the modes before are about it already"),
        (["state", "crate.yaml", "parked", "--buckling", "--factors", "99"], "beyond buckling"),
    ):  # fmt: skip
        got = inside(*arguments)
        assert got.returncode == 2
        assert words in got.stderr.replace("\n", " ")
