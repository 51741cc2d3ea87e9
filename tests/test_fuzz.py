# ruff: noqa: E501 - data in rows
"""A few hundred wrong inputs, each in a process of its own with a limit of time and memory (`scripts/fuzz.py`: more)."""

from __future__ import annotations

import os
import signal
from pathlib import Path
from random import Random

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import fuzzing
import holokine as hk
from holokine.describe.yaml_file import read_yaml
from holokine.errors import DescriptionError


@pytest.fixture(scope="module")
def source(tmp_path_factory) -> fuzzing.Source:
    return fuzzing.Source(tmp_path_factory.mktemp("good"))


@pytest.mark.parametrize("first", range(0, 200, 40))
def test_wrong_input_is_refused_or_answered(source, tmp_path, first):
    """Values, structure, bytes of assembly files, records, meshes, matrices and run files: no case falls short."""
    fell_short = []
    for number in range(first, first + 40):
        words, outcome, _ = fuzzing.tried(source, number, tmp_path / f"case-{number}")
        if outcome.fault:
            fell_short.append(f"case {number} ({words}): {outcome.kind}: {outcome.words}")
    assert not fell_short, "\n".join(fell_short)


@settings(max_examples=30, deadline=None, suppress_health_check=list(HealthCheck))
@given(rng=st.randoms(use_true_random=False), values=st.lists(st.floats() | st.integers() | st.text(), max_size=3))
def test_wrong_values_that_hypothesis_finds(source, tmp_path_factory, rng: Random, values):
    """The same with values of its own, made smaller where one falls short."""
    before = list(fuzzing.ABSURD)
    fuzzing.ABSURD.extend(values)
    try:
        words, outcome, _ = fuzzing.tried(source, rng, tmp_path_factory.mktemp("case"))
    finally:
        fuzzing.ABSURD[:] = before
    assert not outcome.fault, f"{words}: {outcome.kind}: {outcome.words}"


@pytest.mark.parametrize("number", range(len(fuzzing.COMMANDS)))
def test_wrong_input_on_the_command_line(source, tmp_path, number):
    """The real command: exit code 0, 1 or 2, an error in words that tell the place, no trace, nothing half-written."""
    words, outcome, _ = fuzzing.tried_command(source, number, tmp_path / "case")
    assert not outcome.fault, f"{words}: {outcome.kind}: {outcome.words}"


def test_the_fuzzer_tells_what_falls_short(tmp_path):
    """It knows a crash, a hang, too much memory and a process that ends from what is well."""
    ends = {
        "crash": lambda: 1 / 0, "hang": lambda: os.read(os.pipe()[0], 1), "memory": lambda: bytearray(6 << 30),
        "done": lambda: fuzzing.Outcome("done", ""),
    }  # fmt: skip
    for kind, job in ends.items():
        outcome = fuzzing.within_limits(job, seconds=1.0)
        assert outcome.kind == kind
        assert outcome.fault == (kind != "done")
    assert fuzzing.within_limits(lambda: sum(iter(int, 1)), seconds=1.0).kind == "hang"  # of its own time
    assert fuzzing.within_limits(lambda: os._exit(7)).kind == "crash"
    assert fuzzing.within_limits(lambda: os.kill(os.getpid(), signal.SIGKILL)).kind == "crash"
    assert fuzzing.placed("crate.yaml, line 3: parts")
    assert not fuzzing.placed("the time does not rise")


BOMBS = {
    "lists": "a0: &a0 [1, 2]\n" + "".join(f"a{i}: &a{i} [{', '.join([f'*a{i - 1}'] * 10)}]\n" for i in range(1, 12)),
    "tables": "a0: &a0 {x: 1}\n" + "".join(
        f"a{i}: &a{i} {{<<: [{', '.join([f'*a{i - 1}'] * 10)}], y{i}: 1}}\n" for i in range(1, 12)
    ),
    "itself": "title: &a [*a, *a]\n", "takes itself over": "parts: &a\n  <<: *a\n  b: 1\n",
    "deep": "title: " + "[" * 5000 + "]" * 5000 + "\n", "deep tables": "title: " + "{a: " * 3000 + "}" * 3000 + "\n",
}  # fmt: skip


@pytest.mark.parametrize("name", BOMBS)
def test_files_that_unfold_without_end_are_refused_at_once(tmp_path, name):
    file = tmp_path / "a.yaml"
    file.write_text("holokine: 1\n" + BOMBS[name])
    outcome = fuzzing.within_limits(lambda: _read(file), seconds=20.0, memory=1 << 30)
    assert outcome.kind == "refused", outcome
    assert "a.yaml, line " in outcome.words
    assert any(w in outcome.words for w in ("beyond all measure", "more than 60 deep", "maximum nesting depth"))


def _read(file: Path) -> fuzzing.Outcome:
    try:
        hk.Assembly.read(file)
    except DescriptionError as err:
        return fuzzing.Outcome("refused", str(err))
    return fuzzing.Outcome("done", "")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("holokine: !!float x", 'line 1: not valid YAML: "x" is no float'), ("holokine: !!bool 7", '"7" is no bool'),
        ("holokine: !!python/object/apply:os.system [ls]", "has no meaning here"), ("title: !thing x", "no meaning"),
        ("title: !!binary aGVsbG8=", "has no meaning here"), ("title: !!set {a, b}", "has no meaning here"),
        ("holokine: " + "9" * 6000, "is no int"), ("? [a]\n: 1", "cannot be a key"), ("a: 1\n---\nb: 1", "another document"),
        ("a: &x 1\nb: {<<: *x}", "takes over tables only"), ("a: 1\na: 2", 'line 2: .*duplicate key "a"'),
        ("title: -0", "got 0"), ("title: 2001-01-01\nholokine: 2", "reads format 1 only, got 2"), ("a: \"\\x00\"", "cannot be shown"),
    ],
)  # fmt: skip
def test_yaml_of_other_kinds_is_told_with_its_line(tmp_path, text, words):
    (tmp_path / "a.yaml").write_text(text + ("" if "holokine" in text else "\nholokine: 1") + "\n")
    with pytest.raises(DescriptionError, match=words):
        hk.Assembly.read(tmp_path / "a.yaml")


@pytest.mark.parametrize(
    "title", ["9" * 5000, "<<", "null", "1e3", ".5", "0x1F", "true", "~", "2001-01-01", "# a: b", ".inf"]
)
def test_texts_that_read_as_something_else_are_saved_as_texts(tmp_path, title):
    assert read_yaml(hk.Assembly(title).save(tmp_path / "a.yaml")).data["title"] == title


def test_tables_taken_over_keep_their_order_and_give_way(tmp_path):
    """``<<`` as YAML 1.1 has it: a table's own keys win, then the tables named first."""
    (tmp_path / "a.yaml").write_text(
        "base: &b {one: 1, two: 2}\nmore: &m {two: 20, three: 3}\nall: {<<: [*b, *m], four: 4, one: 11}\n"
    )
    assert read_yaml(tmp_path / "a.yaml").data["all"] == {"two": 2, "three": 3, "one": 11, "four": 4}
