"""What the documents show must run: README files and calls, guide snippets, examples, docstring examples."""

from __future__ import annotations

import doctest
import importlib
import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from pydantic import TypeAdapter, ValidationError

import holokine as hk
from holokine.describe.document import Places, validated
from holokine.describe.schema import Description
from holokine.describe.yaml_file import read_yaml
from holokine.errors import UnknownNameError
from holokine.units import UnitSystem

ROOT = Path(__file__).parents[1]
GUIDE = (ROOT / "docs" / "guide.md").read_text(encoding="utf-8")
README = (ROOT / "README.md").read_text(encoding="utf-8")


def as_read(text: str, folder: Path) -> dict:
    (folder / "snippet.yaml").write_text(text)
    return read_yaml(folder / "snippet.yaml").data


def snippets(text: str, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", text, flags=re.DOTALL)


def test_readme_file_and_calls_run(tmp_path, monkeypatch):
    (source,) = snippets(README, "yaml")
    (tmp_path / "bracket.yaml").write_text(source)
    monkeypatch.chdir(tmp_path)
    (calls,) = snippets(README, "python")
    silent = calls.replace("print(", "repr(")
    namespace: dict = {}
    exec(compile(silent, "README.md", "exec"), namespace)
    assert len(namespace["answer"].table("peaks")) == 2
    header = (tmp_path / "sensor.csv").read_text().splitlines()[0]
    assert header == "time_s,base z (g),sensor z (g)"
    for line in re.findall(r"^holokine .*?(?=\s+#|$)", README, flags=re.MULTILINE):
        command = [sys.executable, "-c", "from holokine.cli.main import run; run()", *line.split()[1:]]
        got = subprocess.run(command, capture_output=True, text=True, check=False)
        assert got.returncode == 0, (line, got.stderr)


def test_readme_names_only_pictures_that_exist():
    for path in re.findall(r"\((docs/[^)]+?)\)", README):
        assert (ROOT / path).exists(), path
    for path in (ROOT / "docs" / "screenshots").glob("*.png"):
        assert f"docs/screenshots/{path.name}" in README, path.name


def test_links_between_documents_hold():
    for page in (ROOT / "docs").glob("*.md"):
        text = page.read_text(encoding="utf-8")
        for target in re.findall(r"\]\(([^)#]*)(?:#([^)]*))?\)", text):
            name, anchor = target
            other = page if not name else page.parent / name
            assert other.exists(), (page.name, target)
            if anchor:
                heads = re.findall(r"^#+ (.*)$", other.read_text(encoding="utf-8"), flags=re.MULTILINE)
                made = {re.sub(r"[^a-z0-9 -]", "", h.lower()).replace(" ", "-") for h in heads}
                assert anchor in made, (page.name, target)


@pytest.mark.parametrize("number", range(len(snippets(GUIDE, "yaml"))))
def test_guide_snippets_are_valid_descriptions(number, tmp_path):
    """Every key that the guide shows exists and takes what the guide gives it (`..` stands for numbers)."""
    text = snippets(GUIDE, "yaml")[number].replace("[[..], [..]]", "[[0, 0, 0], [1, 1, 1]]").replace("...", "400 Hz")
    data = as_read(text, tmp_path)
    fields = Description.model_fields
    keys = {str(k).replace(" ", "_") for k in data}
    context = {"units": UnitSystem.declare(length="mm", force="N")}
    if keys <= set(fields):
        problem = ""
        try:
            validated({"holokine": 1, "units": {"length": "mm", "force": "N"}, **data}, Places(), Path())
        except UnknownNameError as err:  # names of things that the snippet leaves out are no matter
            problem = str(err)
        assert "unknown key" not in problem
        return
    from holokine.describe.targets import Selection

    try:
        TypeAdapter(Selection).validate_python(data, context=context)
    except ValidationError as err:
        pytest.fail(str(err))


def test_the_guide_shows_every_key():
    """Each key that an assembly file may have stands in code in the guide."""
    keys: set[str] = set()

    def gather(part: object) -> None:
        if isinstance(part, dict):
            properties = part.get("properties")
            if isinstance(properties, dict):
                keys.update(properties)
            for inner in part.values():
                gather(inner)
        elif isinstance(part, list):
            for inner in part:
                gather(inner)

    gather(json.loads((ROOT / "src" / "holokine" / "data" / "assembly.schema.json").read_text(encoding="utf-8")))
    assert len(keys) > 200
    code = "\n".join(re.findall(r"```.*?```|`[^`]+`", GUIDE, flags=re.DOTALL))
    keys.discard("anyOf")  # of the key that is itself called properties
    missing = sorted(k for k in keys if not re.search(rf"(?<!\w){re.escape(k)}(?!\w)", code))
    assert missing == []


@pytest.mark.parametrize("script", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.stem)
def test_examples_run_and_print(script, tmp_path):
    env = {**os.environ, "MPLBACKEND": "Agg"}
    quietly = ["-W", "error", "-W", "ignore::UserWarning:__main__"]  # findings are told to the scripts too
    got = subprocess.run([sys.executable, *quietly, script], cwd=tmp_path, env=env, capture_output=True, text=True,
                         check=False)  # fmt: skip
    assert got.returncode == 0, got.stderr
    assert "peak" in got.stdout
    assert list(tmp_path.iterdir()) == []  # nothing is written unless asked


@pytest.mark.parametrize(
    "name", ["holokine.units", "holokine.errors", "holokine.show.numbers", "holokine.api.assembly"]
)
def test_docstring_examples(name):
    result = doctest.testmod(importlib.import_module(name), optionflags=doctest.NORMALIZE_WHITESPACE)
    assert result.attempted > 0
    assert result.failed == 0


def test_demo_file_says_what_it_promises():
    crate = hk.Assembly.read(hk.demo_folder() / "crate.yaml")
    check = crate.check()
    assert check.ok
    assert 300 < check.mass < 600
    assert 8 < crate.modes(count=1).frequencies_hz[0] < 25
    kinds = {b.kind for b in crate.system.mesh.blocks}
    assert {"beam", "quad4", "hex8"} <= kinds
    assert {"rigid", "joint"} <= {b.kind for b in crate.system.bonds.values()}
    assert {e.kind for e in crate.description.events.values()} == {"random", "spectrum", "time", "static", "sweep"}
