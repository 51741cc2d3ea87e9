# ruff: noqa: E501 - data in rows
"""Wrong input of every kind, each tried in a process of its own with a limit of time and memory.

A case is made from a number alone, so that it can be made again. It ends well when the job is done with finite results,
or refused with one of Holokine's errors that names the place; everything else is a fault, by kind.
"""

from __future__ import annotations

import one_thread  # noqa: F401 - before NumPy loads

# isort: split
import contextlib
import copy
import io
import json
import os
import re
import resource
import select
import shutil
import signal
import subprocess
import sys
import time
import traceback
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from random import Random
from typing import Any

import h5py
import numpy as np

import every_key as ek
import holokine as hk
from holokine.describe.yaml_file import read_yaml
from holokine.errors import HolokineError
from holokine.store.sealed import seal

SECONDS, MEMORY = 40, 4 << 30

ABSURD: list[Any] = [
    0, -1, 1, 2, 3, 1e308, -1e308, 1e-320, 5e-324, 1e18, 10**18, 10**30, 1e-30, 1e12, 1e6, -1e6, 1e-6, 0.5, 99.9, 300,
    float("nan"), float("inf"), -float("inf"), "nan", "inf", "1e400", "-0", "1e308 m", "4e16 N/m", "1e-30 kg", "4e6 kg",
    "1 ns", "2e31 ms", "1e-6 ms", "3e-5 Hz", "60 kHz", "99.9 %", "800 %", "1000 g", "1e308 N/m", "-3 g", "5 m", "3 kg",
    "7 Hz", "2 s", "20 mm", "1e9 mm", "200 GPa", "0 m", "0.3", "", " ", "x", "y", "rx", "all", "ground", "a", "b", None,
    True, False, [], {}, [[]], [0], [0, 0, 0], [1, 2, 3], ["x", "y"], [1e308] * 3, {"x": 1}, {"at": "a"}, {"part": "beam"},
    [[0, 0], [1, 1]], "<script>alert(1)</script>", "</script>", "\"'><b>", "a\nb", "a\tb", "\ud800", "\x00", "../../x", "é" * 50,
    "x" * 5000, "shock.csv", "k.mtx", "sheet.vtu", "/etc/passwd", "/dev/zero", ".", "..", "none.csv", "CQC", "2001-01-01",
]  # fmt: skip


@dataclass(frozen=True)
class Outcome:
    """How a case ended: done, refused, or a fault (crash, hang, memory, not finite, no place)."""

    kind: str
    words: str

    @property
    def fault(self) -> bool:
        return self.kind not in ("done", "refused")

    @property
    def way(self) -> str:
        """Outcomes of one way are alike but for names and numbers."""
        return (
            f"{self.kind}: "
            + re.sub(r"[-+]?[\d.]+(e[-+]?\d+)?", "#", re.sub(r"\"[^\"]*\"|'[^']*'", "_", self.words))[:150]
        )


def within_limits(job: Callable[[], Outcome], seconds: float = SECONDS, memory: int = MEMORY) -> Outcome:
    """The outcome of a job in a process of its own."""
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(read)
        quiet = os.open(os.devnull, os.O_RDWR)
        for stream in (0, 1, 2):
            os.dup2(quiet, stream)
        resource.setrlimit(resource.RLIMIT_AS, (_mapped() + memory,) * 2)
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        resource.setrlimit(resource.RLIMIT_CPU, (round(seconds), round(seconds) + 5))
        try:
            found = job()
        except MemoryError:
            found = Outcome("memory", _where(traceback.format_exc()))
        except BaseException:
            found = Outcome("crash", _where(traceback.format_exc()))
        with contextlib.suppress(OSError):
            os.write(write, f"{found.kind}\n{found.words}"[:4000].encode("utf-8", "backslashreplace"))
        os._exit(0)
    os.close(write)
    ready, _, _ = select.select([read], [], [], 4.0 * seconds)  # waits as well: of time on a busy machine there is more
    if not ready:
        os.kill(child, signal.SIGKILL)
    text = os.read(read, 8192).decode() if ready else ""
    os.close(read)
    _, status = os.waitpid(child, 0)
    if not ready or (os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGXCPU):
        return Outcome("hang", f"longer than {seconds:.0f} s")
    if not text:
        return Outcome("crash", f"the process ended with status {status}")
    kind, words = text.split("\n", 1)
    return Outcome(kind, words)


def _mapped() -> int:
    return int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()


def _where(text: str) -> str:
    lines = [x for x in text.strip().splitlines() if x.strip()]
    places = [x.strip() for x in lines if x.strip().startswith('File "') and "holokine" in x]
    at = re.sub(r'File ".*/(src/holokine|holokine)/', "", places[-1]).replace('"', "") if places else ""
    return f"{lines[-1][:200]} [{at}]"


# -- the job ------------------------------------------------------------------------------------------------


def whole_job(path: Path) -> Outcome:
    """Read, check, modes, energies, every event with its tables and pages; in a folder of its own."""
    try:
        a = hk.Assembly.read(path)
        if not a.check().ok:
            return Outcome("refused", f"{path.name}: by its check")
        modes = a.modes(count=4)
        tables = {"modes": modes.table(), "participation": modes.table("participation")}
        for name in list(a.description.events)[:3]:
            try:
                answer = modes.respond(name)
            except HolokineError as err:
                if not placed(str(err)):
                    return Outcome("no place", str(err))
                continue
            tables[f"peaks of {name}"] = answer.table("peaks")
            with contextlib.redirect_stdout(io.StringIO()):
                answer.save(path.parent / "page.html")
        modes.save(path.parent / "modes.html")
    except HolokineError as err:
        return Outcome("refused", str(err)) if placed(str(err)) else Outcome("no place", str(err))
    for name, table in tables.items():
        numbers = table.select_dtypes("number").drop(columns="period_s", errors="ignore")  # endless of rigid modes
        bad = [c for c in numbers if np.isinf(numbers[c].to_numpy(dtype=float)).any() or _no_peak(c, numbers)]
        if bad:
            return Outcome("not finite", f"{name}, {bad[0]}")
    return Outcome("done", "")


def _no_peak(column: str, numbers: Any) -> bool:
    """A peak, or its frequency, is missing; a reading that stays at zero has no frequency of its peak."""
    if column not in ("frequency_hz", "peak"):
        return False
    lost = numbers[column].isna()
    return bool((lost & (numbers["peak"] != 0)).any() if "peak" in numbers else lost.any())


def placed(text: str) -> bool:
    """Whether an error says where: a file, with its line or key, or a name in quotes."""
    return bool(re.search(r"\.(yaml|csv|vtu|mtx|npz|run)\b", text))


# -- wrong input --------------------------------------------------------------------------------------------


def paths(value: Any, at: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Every place in plain data."""
    found = [at] if at else []
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, item in items:
        found += paths(item, (*at, key))
    return found


def _get(data: Any, path: tuple[Any, ...]) -> Any:
    for step in path:
        data = data[step]
    return data


def wrong_value(rng: Random, data: dict[str, Any]) -> str:
    """Put something wrong into plain data, in place; in words what."""
    every = paths(data)
    path = rng.choice(every)
    holder, key = _get(data, path[:-1]), path[-1]
    how = rng.choice(["absurd", "absurd", "absurd", "scale", "gone", "swap", "twice", "renamed", "more", "unit"])
    old = holder[key]
    if how == "absurd":
        holder[key] = copy.deepcopy(rng.choice(ABSURD))
    elif how == "scale":
        factor = rng.choice([1e-12, 1e-6, 1e-3, -1.0, 1e3, 1e6, 1e12, 1e200])
        found = re.match(r"^(-?[\d.]+)(.*)$", str(old))
        holder[key] = (
            old * factor if isinstance(old, int | float) else f"{float(found[1]) * factor:g}{found[2]}" if found else 7
        )
    elif how == "gone":
        del holder[key]
    elif how == "swap":
        holder[key] = copy.deepcopy(_get(data, rng.choice(every)))
    elif how == "twice" and isinstance(holder, list):
        holder.extend(copy.deepcopy(holder) * rng.choice([1, 3, 200]))
    elif how == "renamed" and isinstance(holder, dict):
        holder[rng.choice([str(a) for a in ABSURD if isinstance(a, str)])] = holder.pop(key)
    elif how == "more" and isinstance(old, dict):
        other = _get(data, rng.choice(every))
        old[rng.choice(["stiffness", "at", "more", "damping", "material", "hold"])] = copy.deepcopy(other)
    elif how == "unit" and isinstance(old, int | float):
        holder[key] = (
            f"{old} {rng.choice(['m', 'mm', 'kg', 's', 'Hz', 'GPa', 'N/m', 'g', '%', 'deg', 'furlong', '1/0', 'm^99', 'm**m'])}"
        )
    else:
        holder[key] = rng.choice(["", None, 1e300])
    return f"{', '.join(map(str, path))}: {how}"


def wrong_bytes(rng: Random, content: bytes) -> bytes:
    """Bytes changed, cut out, doubled or put in."""
    made = bytearray(content)
    for _ in range(rng.choice([1, 1, 2, 5, 30])):
        at, size = rng.randrange(len(made) + 1), rng.choice([1, 1, 4, 40, 400])
        how = rng.randrange(6)
        if how == 0 and made:
            made[at % len(made)] ^= 1 << rng.randrange(8)
        elif how == 1:
            del made[at : at + size]
        elif how == 2:
            made[at:at] = made[at : at + size]
        elif how == 3:
            made[at:at] = rng.choice([b"\x00", b"\xff\xfe", b"nan", b"1e999", b"-", b"9" * 30, b"\n", b",", b"{", b"[" * 200, b"&a ", b"*a",
                                      b"!!float ", b": ", b"complex", b"<", b"]]>"])  # fmt: skip
        elif how == 4:
            del made[at:]
        else:
            made[at : at + size] = bytes(rng.randrange(256) for _ in range(size))
    return bytes(made)


def wrong_run(rng: Random, file: Path) -> None:
    """Change the content of a run file, and seal it again."""
    with h5py.File(file, "r+") as held:
        names: list[str] = []
        held.visit(names.append)
        name = rng.choice(names)
        item = held[name]
        if isinstance(item, h5py.Group):
            del held[name]
            if rng.randrange(2):
                held[name] = rng.choice([1.0, "text", np.zeros((2, 2)), h5py.SoftLink("/")])
        elif item.dtype.kind == "O":
            text = item[()].decode()
            del held[name]
            data = (
                text.encode()
                if rng.randrange(2)
                else re.sub(r"\d+", rng.choice(["null", '"x"', "[]", "-1", "1e308", "{}"]), text, count=3)
            )
            held[name] = (
                wrong_bytes(rng, data).decode("utf-8", "replace").replace("\x00", "")
                if isinstance(data, bytes)
                else data
            )
        else:
            values = item[()]
            attributes = dict(item.attrs)
            del held[name]
            changes: list[Callable[[Any], Any]] = [
                lambda a: a.astype(complex), lambda a: a.astype("S4"), lambda a: a.ravel(), lambda a: a[:-1], lambda a: a[..., None],
                lambda a: np.full_like(a, 10**9 if a.dtype.kind in "iu" and a.dtype.itemsize > 1 else 1), lambda a: a.astype("f4"),
                lambda a: a * np.array(np.nan), lambda a: a * 1e300, lambda a: -a if a.dtype.kind == "f" else a, lambda a: "text", lambda a: 7.0,
            ]  # fmt: skip
            made = values
            with contextlib.suppress(ValueError, TypeError, IndexError), np.errstate(all="ignore"):
                made = rng.choice(changes)(values)
            held[name] = made
            held[name].attrs.update(attributes)
    seal(file)


class Source:
    """Good input from which wrong input is made: small assemblies with every key, the demo, and their run files."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        ek.write_files(folder)
        for name in ("crate.yaml", "works.csv"):
            shutil.copy(hk.demo_folder() / name, folder)
        self.documents = {**ek.DOCUMENTS, "crate": read_yaml(folder / "crate.yaml").data}
        self.run = folder / "good.run"
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            hk.Assembly.read(folder / "crate.yaml").modes(count=4).save(self.run)

    def case(self, number: int | Random, into: Path) -> tuple[str, Callable[[], Outcome]]:
        """A case by its number: in words, and its job, which works in the folder `into`."""
        rng = Random(number) if isinstance(number, int) else number
        into.mkdir(parents=True, exist_ok=True)
        for name in (*ek.FILES, "works.csv"):
            shutil.copy(self.folder / name, into)
        name = rng.choice(list(self.documents))
        target = into / "a.yaml"
        kind = rng.choice(["value", "value", "value", "value", "values", "yaml", "file", "run", "run bytes"])
        if kind.startswith("value"):
            data = copy.deepcopy(self.documents[name])
            words = "; ".join(wrong_value(rng, data) for _ in range(1 if kind == "value" else rng.randrange(2, 6)))
            _write(data, target)
            return f"{name}: {words}", lambda: whole_job(target)
        if kind == "yaml":
            _write(self.documents[name], target)
            target.write_bytes(wrong_bytes(rng, target.read_bytes()))
            return f"{name}: bytes of the assembly file", lambda: whole_job(target)
        if kind == "file":
            file = rng.choice([*ek.FILES, "works.csv"])
            user = "crate" if file == "works.csv" else next(
                n for n, d in self.documents.items() if f"'{file}'" in str(d)
            )  # fmt: skip
            (into / file).write_bytes(wrong_bytes(rng, (into / file).read_bytes()))
            _write(self.documents[user], target)
            return f"{user}: bytes of {file}", lambda: whole_job(target)
        run = Path(shutil.copy(self.run, into / "a.run"))
        if kind == "run":
            wrong_run(rng, run)
        else:
            run.write_bytes(wrong_bytes(rng, run.read_bytes()))
            if rng.randrange(3) == 0 and len(run.read_bytes()):
                seal(run)
        return f"run file, {kind}", lambda: opened(run)


def opened(run: Path) -> Outcome:
    """A run file opened as it was saved, and asked."""
    try:
        modes = hk.open_run(run, as_saved=True)
        modes.table()
        peaks = modes.respond("kerb strike").table("peaks")
    except HolokineError as err:
        return Outcome("refused", str(err)) if placed(str(err)) else Outcome("no place", str(err))
    return Outcome("done", "") if np.isfinite(peaks["peak"]).all() else Outcome("not finite", "peaks")


def _write(data: Any, target: Path) -> None:
    """As JSON, which is YAML but for numbers that are none."""
    import json

    text = json.dumps(data)
    for json_word, word in (("-Infinity", "-.inf"), ("Infinity", ".inf"), ("NaN", ".nan")):
        text = re.sub(rf"(?<=[:\[, ]){json_word}(?=[,\]}}])", word, text)
    target.write_text(text, encoding="utf-8")


def tried(source: Source, number: int | Random, into: Path) -> tuple[str, Outcome, float]:
    """A case tried: what it was, how it ended, and how long it took."""
    words, job = source.case(number, into)
    begin = time.monotonic()
    warnings.simplefilter("ignore")
    outcome = within_limits(job)
    left = sorted(p.name for p in into.iterdir() if p.name.startswith(".holokine"))
    if left and not outcome.fault:
        outcome = Outcome("left over", left[0])
    shutil.rmtree(into, ignore_errors=True)
    return words, outcome, time.monotonic() - begin


# -- the command line ---------------------------------------------------------------------------------------

COMMANDS = [
    ["check", "a.yaml"], ["modes", "a.yaml", "--count", "3", "--out", "out", "--save", "b.run"],
    ["respond", "a.yaml", "kerb strike", "--json"], ["modes", "a.yaml", "--table", "energy"], ["modes", "a.yaml", "--save", "a.html"],
    ["compare", "a.yaml", "--count", "2"], ["shock", "works.csv"], ["modes", "a.run"],
    ["respond", "a.yaml", "rough track", "--csv"], ["report", "a.yaml", "a.html", "--sections", "findings,events", "--events", "works shock"],
    ["study", "a.yaml", "--set", "parts/deck/plate/thickness", "--mode", "1", "--target", "17Hz", "--save", "b.yaml"],
    ["study", "a.yaml", "--set", "parts/deck/plate/thickness = 3, 4 mm", "--count", "2", "--jobs", "1", "--out", "out"],
]  # fmt: skip
LIMITS = "import resource; resource.setrlimit(resource.RLIMIT_AS, (8 << 30, 8 << 30)); from holokine.cli.main import run; run()"


def tried_command(source: Source, number: int, into: Path) -> tuple[str, Outcome, float]:
    """A wrong demo crate (and records, and a run file) given to a real command."""
    rng, command = Random(number), COMMANDS[number % len(COMMANDS)]
    source.case(9000 + number, into)
    data = read_yaml(source.folder / "crate.yaml").data
    words = f"{command[0]}: {wrong_value(rng, data)}"
    _write(data, into / "a.yaml")
    (into / "works.csv").write_bytes(wrong_bytes(rng, (source.folder / "works.csv").read_bytes()))
    if command[-1] == "a.run":
        (into / "a.run").write_bytes(source.run.read_bytes())
        wrong_run(rng, into / "a.run")
    begin = time.monotonic()
    try:
        got = subprocess.run([sys.executable, "-c", LIMITS, *command], cwd=into, capture_output=True, text=True,
                             timeout=120, check=False)  # fmt: skip
    except subprocess.TimeoutExpired:
        return words, Outcome("hang", "longer than 120 s"), 120.0
    outcome = _ended(got, command, into)
    shutil.rmtree(into, ignore_errors=True)
    return words, outcome, time.monotonic() - begin


def _ended(got: Any, command: list[str], into: Path) -> Outcome:
    """How a command ended."""
    if got.returncode not in (0, 1, 2) or "Traceback" in got.stderr + got.stdout:
        return Outcome("crash", f"exit code {got.returncode}: {got.stderr[-400:]}")
    left = [p.name for p in into.rglob("*") if p.name.startswith(".")]
    if left or (got.returncode == 2 and (into / "b.run").exists()):
        return Outcome("left over", ", ".join(left) or "b.run")
    if got.returncode == 2:
        if not got.stderr.startswith("holokine: error: ") or not placed(got.stderr):
            return Outcome("no place", got.stderr[-400:])
        return Outcome("refused", got.stderr[-200:])
    if command[-1] == "--json":
        json.loads(got.stdout)
    return Outcome("done", "")
