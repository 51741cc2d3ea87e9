"""Names, titles and units from outside are text wherever they are shown: pages, figures, tables, files, terminals."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from pathlib import Path

import meshio
import pandas as pd
import pytest

import holokine as hk
from holokine.errors import DescriptionError
from test_cli import inside

NASTY = [
    "</script><script>alert(1)</script>", "<!--<script>", "\"'><img src=x onerror=alert(1)>", "$x_{", "a$b$c",
    "../../up",
    "__DATA__", "__TITLE__ __FACTS__", "&lt;b&gt;", "=1+1", "é" * 190, "[bold]red[/bold]", "{curly} %s \\n", "-", "CON",
]  # fmt: skip


def nasty(first: int) -> hk.Assembly:
    """A small assembly in which every name is one of these, another one for each kind of entry."""
    title, m, sec, point, part, gauge, event, support = (NASTY[(first + k) % len(NASTY)] for k in range(8))
    a = hk.Assembly(title, units={"length": "mm", "force": "N"})
    a.material(m, E="70 GPa", nu=0.33, density="2700 kg/m^3").section(sec, rectangle={"width": 20, "height": 10})
    a.point(point, [0, 0, 0]).point("tip", [400, 0, 0])
    a.part(part, beam={"through": [point, "tip"], "section": sec, "up": "z", "divisions": 4}, material=m)
    a.mass("load", at="tip", mass="2 kg").support(support, at=point, hold="all")
    a.group(title, [part, "load"]).gauge(gauge, acceleration="tip").gauge("stress", stress=part)
    a.damping("2 %").band(support, range=["10 Hz", "20 Hz"])
    a.event(event, pulse={"z": {"half sine": {"peak": "5 g", "duration": "10 ms"}}})
    a.event("sweep", sweep={"range": ["5 Hz", "200 Hz"]}, base={"z": "1 g"})
    return a


class Tags(HTMLParser):
    """Elements, attributes that act, and the title of a page."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: list[str] = []
        self.title, self.inside = "", ""
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.inside = tag
        self.tags.append(tag)
        assert not any(name.startswith("on") for name, _ in attrs), attrs

    def handle_data(self, data):
        if self.inside == "title":
            self.title += data
            self.inside = ""


@pytest.mark.parametrize("first", range(0, len(NASTY), 4))
def test_names_are_text_in_every_output(tmp_path, first):
    """Every command with all its files, from an assembly file of such names and from its run file."""
    title, event, gauge = (NASTY[(first + k) % len(NASTY)] for k in (0, 6, 5))
    folder = tmp_path / "within/deep"
    folder.mkdir(parents=True)
    file = nasty(first).save(folder / "a.yaml")
    assert hk.Assembly.read(file).title == title
    run, out = str(folder / "a.run"), ["--out", str(folder / "out")]
    for command in (
        ["modes", str(file), "--count", "3", "--save", run, *out], ["check", str(file), *out], ["modes", run,
            "--table", "energy", *out],
        ["respond", run, "--", event], ["respond", run, *out, "--", event], ["respond", run, "sweep", *out],
        ["modes", run, "--damped", *out], ["modes", run, "--save", str(folder / "page.html")],
    ):  # fmt: skip
        got = inside(*command)
        assert got.returncode == 0, (command, got.stderr)
    assert {p.name for p in tmp_path.iterdir()} == {"within"}
    assert {p.name for p in (tmp_path / "within").iterdir()} == {"deep"}
    assert {p.name for p in folder.iterdir()} == {"a.yaml", "a.run", "out", "page.html"}
    pages = [folder / "page.html", *folder.glob("out/*.html")]
    assert len(pages) >= 3
    for page in pages:
        text = page.read_text(encoding="utf-8")
        found = Tags(text)
        assert title in found.title
        assert "img" not in found.tags
        assert (found.tags.count("script"), found.tags.count("title")) == (1, 1)
        line = next(x for x in text.split("<script>")[1].splitlines() if re.match(r"const D ?=", x))
        json.JSONDecoder().raw_decode(line.split("=", 1)[1].strip())  # whole, whatever the names say
    peaks = [pd.read_csv(table) for table in folder.glob("out/*_peaks.csv")]
    assert len(peaks) == 2
    assert all(gauge in set(frame["gauge"].str.removeprefix("'")) for frame in peaks)
    meshes = list(folder.glob("out/*.vtu"))
    assert meshes
    assert all(len(meshio.read(mesh).points) >= 5 for mesh in meshes)
    answer = json.loads(inside("respond", run, "--json", "--", event).stdout)
    assert gauge in {row["gauge"] for row in next(t for k, t in answer["tables"].items() if k.endswith("_peaks"))}


@pytest.mark.parametrize(
    ("name", "words"),
    [
        ("a\nb", "cannot be a name"), ("a\tb", "cannot be a name"), ("\ud800", "cannot be a name"),
        ("\x07", "cannot be a name"), ("\u2028", "cannot be a name"), ("x" * 201, "at most 200 characters"),
    ],
)  # fmt: skip
def test_what_cannot_be_shown_is_no_name(name, words):
    with pytest.raises(DescriptionError, match=words):
        hk.Assembly("a").point(name, [0, 0, 0])
    with pytest.raises(DescriptionError, match="cannot be shown"):
        assert hk.Assembly("\ud800").description


def test_files_that_are_named_are_looked_up_and_nothing_more(tmp_path):
    """A device, a folder, a name of no file: each an error that names it, and no wait."""
    for name in (
        "/dev/zero",
        "/dev/stdin",
        ".",
        "..",
        "none.csv",
        "",
        "a\0b",
        "/proc/self/mem",
        "https://example.org/a.csv",
    ):
        a = hk.Assembly("a").material("m", E=7e10, nu=0.3, density=2700.0).point("p", [0, 0, 0])
        a.mass("m", at="p", mass=1.0).spring("k", between=["ground", "p"], stiffness=1e5, axis="z")
        a.support("g", at="p", hold=["x", "y", "rx", "ry", "rz"])
        with pytest.raises(hk.errors.HolokineError):
            a.event("e", spectrum={"z": name}).modes(count=1).respond("e")
    assert not list(Path(tmp_path).iterdir())
