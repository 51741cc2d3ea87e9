"""The report and the workbook: every number in them is that of a table; the analyst's own text; verification here."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
from dataclasses import replace
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pandas as pd
import pytest

import holokine as hk
import holokine.verification.run as verification
from holokine.elements.beam import BeamElements
from holokine.errors import DescriptionError, EventError, OutputError, UnknownNameError
from holokine.show.numbers import cell_text
from holokine.show.report import Section, report_text, shortened
from test_cli import inside
from test_text import NASTY, nasty


class Page(HTMLParser):
    """Tables (rows of texts), headings and the text of a page."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tables: list[list[list[str]]] = []
        self.headings: list[str] = []
        self.words: list[str] = []
        self.outside: list[str] = []
        self._at = ""
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self._at = tag
        self.outside += [v for k, v in attrs if k in ("src", "href") and v and not v.startswith(("data:", "#"))]
        if tag == "table":
            self.tables.append([])
        elif tag == "tr":
            self.tables[-1].append([])
        elif tag in ("td", "th"):
            self.tables[-1][-1].append("")
        elif tag in ("h2", "h3"):
            self.headings.append("")

    def handle_endtag(self, tag):
        self._at = ""

    def handle_data(self, data):
        if self._at in ("td", "th"):
            self.tables[-1][-1][-1] += data
        elif self._at in ("h2", "h3"):
            self.headings[-1] += data
        self.words.append(data)


@pytest.fixture(scope="module")
def bracket() -> hk.Modes:
    """An assembly with a group, limits, a band, a damper, a state and four kinds of event."""
    a = hk.Assembly("bracket", units={"length": "mm", "force": "N"}).damping("2 %")
    a.material("steel", E="205 GPa", nu=0.29, density="7840 kg/m^3").section("s", rectangle={"width": 40, "height": 10})
    a.point("root", [0, 0, 0]).point("tip", [500, 0, 0])
    a.part("arm", beam={"through": ["root", "tip"], "section": "s", "divisions": 8}, material="steel")
    a.mass("sensor", at="tip", mass="0.8 kg").support("wall", at="root", hold="all").group(
        "all of it", ["arm", "sensor"]
    )
    a.spring("snubber", between=["tip", "ground"], stiffness="1 N/mm", damping="20 N s/m", axis="z")
    a.gauge("tip", displacement="tip", axis="z").gauge("stress", stress="arm").gauge("wall", reaction="wall")
    a.limit("tip", "0.2 mm").limit("stress", "400 MPa").band("engine", range=["20 Hz", "30 Hz"])
    a.load("weight", gravity="-z").add_state("hung", loads="weight")
    a.event("bump", pulse={"z": {"half sine": {"peak": "3 g", "duration": "11 ms"}}})
    a.event("flat", spectrum={"z": {"frequency": [1, 2000], "acceleration": ["1 g", "1 g"]}})
    a.event("hang", static="weight").event("sine", sweep=[5, 200], base={"z": "0.1 g"})
    return a.about("hung").modes(4)


@pytest.fixture(scope="module")
def made(bracket):
    return bracket.report()


def test_every_number_of_the_page_is_that_of_its_table(bracket, made, tmp_path_factory):
    page = Page(made.save(tmp_path_factory.mktemp("r") / "bracket.html").read_text(encoding="utf-8"))
    assert not page.outside  # nothing from a network
    tables = [t for s in made.sections for t in s.tables.values()]
    assert len(page.tables) == len(tables) > 20
    for shown, table in zip(page.tables, tables, strict=True):
        cells = [[cell_text(str(c), v) for c, v in zip(table.columns, row, strict=True)]
                 for row in table.itertuples(index=False)]  # fmt: skip
        assert shown[1:] == [[re.sub(r"\s+", " ", c) for c in row] for row in cells] or len(table) > 40
    for event in ("bump", "flat", "sine"):  # and the tables are those of the answers
        own = next(s for s in made.sections if s.name == event).tables
        assert any(t["peak"].tolist() == bracket.respond(event).table("peaks")["peak"].tolist() for t in own.values()
                   if "peak" in t)  # fmt: skip
    modes = next(s for s in made.sections if s.name == "modes").tables["What the modes are"]
    assert modes["frequency_hz"].tolist() == bracket.frequencies_hz.tolist()


def test_findings_come_first_and_name_limits_and_what_governs(bracket, made):
    first = made.sections[0]
    assert first.name == "findings"
    limits = first.tables["Limits of all events, most used first"]
    assert limits["use_percent"].is_monotonic_decreasing
    broken = int((limits["use_percent"] > 100).sum())
    assert 0 < broken < len(limits)
    assert f"{broken} of {len(limits)} limits are not met" in first.body
    largest = first.tables["Largest of every reading over all events"].set_index(["gauge", "component"])
    peaks = {
        e: bracket.respond(e).table("peaks").set_index(["gauge", "component"])["peak"] for e in ("bump", "flat", "sine")
    }
    for reading in (("tip", "z"), ("wall", "z")):
        best = max(peaks, key=lambda e, r=reading: abs(peaks[e][r]))
        assert largest.loc[reading, "event"] == best
        assert largest.loc[reading, "peak"] == peaks[best][reading]
    assert {"findings", "assembly", "state", "modes", "energy", "damped", "bump", "flat", "hang", "sine", "origin"} == {
        s.name for s in made.sections}  # fmt: skip
    keys = next(s for s in made.sections if s.name == "origin").tables
    assert bracket.key in keys["Keys: equal for equal descriptions, on every machine"]["key"].tolist()


def test_the_workbook_read_back_equals_the_tables(made, tmp_path):
    path = made.save(tmp_path / "bracket.xlsx")
    book = pd.read_excel(path, sheet_name=None, header=0, keep_default_na=False, na_values=[""])
    contents = pd.read_excel(path, sheet_name="contents", header=1)
    assert contents["table"].tolist() == list(made.tables)
    assert len(book) == len(made.tables) + 1
    for name, table in zip(contents["sheet"], made.tables.values(), strict=True):
        got = book[name]
        assert len(got) == len(table)
        for mine, theirs in zip(table.columns, got.columns, strict=True):
            if table[mine].dtype.kind in "if":
                both = pd.to_numeric(got[theirs]).to_numpy(dtype=float), table[mine].to_numpy(dtype=float)
                np.testing.assert_allclose(*both, rtol=1e-15)  # a workbook holds sixteen digits
            else:
                assert got[theirs].fillna("").astype(str).tolist() == table[mine].fillna("").astype(str).tolist()
    heads = [c for t in book.values() for c in t.columns]
    assert "frequency (Hz)" in heads
    assert "effective mass" not in heads or "x (kg)" in heads


def test_own_text_goes_where_its_headings_say(bracket, tmp_path):
    from PIL import Image

    Image.new("RGB", (4, 3), "red").save(tmp_path / "photo.png")
    text = tmp_path / "notes.md"
    text.write_text(
        "Before all.\n\n# Bump\nThe *worst* <b>one</b>. ![rig](photo.png)\n\n# What follows\n## Next\n\n"
        "| a | b |\n|---|---|\n| 1 | 2 |\n\n# natural frequencies and mode shapes\nRead these.\n",
        encoding="utf-8",
    )
    made = bracket.report(text=text, sections=["modes", "events"], events=["bump", "flat"])
    titles = [s.title for s in made.sections]
    assert titles == ["Summary", "Natural frequencies and mode shapes", "Event: bump", "What follows", "Event: flat"]
    own = {s.title: s.body for s in made.sections}
    assert own["Event: bump"].startswith('<div class="own"><p>The <em>worst</em> &lt;b&gt;one&lt;/b&gt;.')
    assert "data:image/png;base64," in own["Event: bump"][:400]
    assert "<h3>Next</h3>" in own["What follows"]
    assert "Read these." in own["Natural frequencies and mode shapes"][:60]
    for wrong, words in (("![x](../photo.png)", "outside the folder"), ("![x](http://a.b/c.png)", "lie beside"),
                         ("![x](notes.md)", "no PNG, JPEG or GIF"), ("![x](none.png)", "cannot be read")):  # fmt: skip
        text.write_text(wrong, encoding="utf-8")
        with pytest.raises(DescriptionError, match=words):
            bracket.report(text=text, sections=["assembly"])
    text.write_text("[a](javascript:alert(1)) <script>alert(1)</script>", encoding="utf-8")
    body = bracket.report(text=text, sections=["assembly"]).sections[0].body
    assert "<script" not in body
    assert "href" not in body


def test_names_in_reports_and_workbooks_stay_text(tmp_path):
    a = nasty(NASTY.index("=1+1"))
    made = a.modes(2).report(sections=["findings", "assembly", "events"])
    page = Page(made.save(tmp_path / "nasty.html").read_text(encoding="utf-8"))
    assert any("=1+1" in h for h in page.headings + page.words)
    assert "alert(1)</script>" not in (tmp_path / "nasty.html").read_text(encoding="utf-8")
    made.save(tmp_path / "nasty.xlsx")
    from openpyxl import load_workbook

    cells = [c for sheet in load_workbook(tmp_path / "nasty.xlsx") for row in sheet for c in row]
    assert not [c for c in cells if c.data_type == "f"]
    assert any(str(c.value).startswith("=1+1") for c in cells)


def test_what_fails_is_told_and_does_not_end_the_report(tmp_path):
    a = hk.Assembly("free").point("p", [0, 0, 0]).mass("m", at="p", mass=2.0, inertia=[1, 1, 1])
    a.spring("k", between=["p", "ground"], stiffness=900.0, axis="x").gauge("g", displacement="p", axis="x")
    a.event("jolt", pulse={"x": {"half sine": {"peak": 1.0, "duration": 0.01}}})
    made = a.modes(6).report()
    made.save(tmp_path / "free.html")
    assert any(line.startswith("event jolt: ") for line in made.failed)
    page = (tmp_path / "free.html").read_text(encoding="utf-8")
    assert "not answered" in page
    assert "was not answered" in made.sections[0].body


def test_wrong_requests_are_refused_before_anything_is_answered(bracket, tmp_path, monkeypatch):
    with pytest.raises(UnknownNameError, match='no section "mode"'):
        bracket.report(sections=["mode"])
    with pytest.raises(UnknownNameError, match='no event "bum"'):
        bracket.report(events=["bum"])
    with pytest.raises(EventError, match="section of events is not asked for"):
        bracket.report(sections=["modes"], events=["bump"])
    with pytest.raises(OutputError):
        bracket.report(sections=["assembly"]).save(tmp_path / "none" / "r.html")
    monkeypatch.setitem(__import__("sys").modules, "openpyxl", None)
    with pytest.raises(OutputError, match="pip install"):
        bracket.report(sections=["assembly"]).save(tmp_path / "b.xlsx")


def test_long_tables_keep_the_rows_that_matter_and_say_what_is_left_out():
    table = pd.DataFrame({"gauge": [f"g{n}" for n in range(100)], "peak": np.r_[np.arange(50.0), 1e6 + np.arange(50.0)],
                          "unit": ["g"] * 50 + ["N"] * 50})  # fmt: skip
    rows, told = shortened(table, 10)
    assert rows["gauge"].tolist() == [f"g{n}" for n in (45, 46, 47, 48, 49, 95, 96, 97, 98, 99)]
    assert told.startswith("10 of 100 rows, the largest by peak of each unit")
    assert shortened(table.drop(columns="unit"), 10)[1].startswith("the first 10 of 100 rows")
    text = report_text("t", [Section("s").with_table("x", table, 10)])
    assert len(Page(text).tables[0]) == 11


@pytest.mark.skipif(shutil.which("chromium") is None, reason="no headless browser here")
def test_the_report_opens_and_prints_in_a_browser(made, tmp_path):
    page = made.save(tmp_path / "bracket.html")
    drive = """<script>window.onload=()=>{const w=document.documentElement.clientWidth;
    const bad=[...document.querySelectorAll('h1,h2,h3,p,li,figure,nav')].filter(e=>e.getBoundingClientRect().right>w+1);
    document.body.dataset.wide=bad.length;document.body.dataset.top=window.scrollY;
    document.body.dataset.font=getComputedStyle(document.body).fontSize}</script></body>"""
    text = page.read_text(encoding="utf-8")
    page.write_text(text.replace("</body></html>", drive + "</html>"), encoding="utf-8")
    base = ["chromium", "--headless", "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader",
            "--enable-unsafe-swiftshader"]  # fmt: skip
    got = subprocess.run([*base, "--virtual-time-budget=4000", "--dump-dom", page.as_uri()],
                         capture_output=True, text=True, timeout=120, check=True).stdout  # fmt: skip
    assert 'data-wide="0"' in got
    assert 'data-top="0"' in got  # the model within does not pull the page to itself
    assert 'data-font="15px"' in got
    subprocess.run([*base, "--no-pdf-header-footer", f"--print-to-pdf={tmp_path / 'r.pdf'}", page.as_uri()],
                   capture_output=True, timeout=120, check=True)  # fmt: skip
    printed = (tmp_path / "r.pdf").read_bytes()
    assert printed.startswith(b"%PDF")
    assert printed.count(b"/Type /Page\n") + printed.count(b"/Type /Page ") > 5


def test_report_by_the_command_line(tmp_path, bracket):
    run = bracket.save(tmp_path / "bracket.run")
    page, book = tmp_path / "b.html", tmp_path / "b.xlsx"
    got = inside(
        "report", str(run), str(page), "--sections", "findings, events", "--events", "bump", "--workbook", str(book)
    )
    assert got.returncode == 0, got.stderr
    assert f"wrote {page}: Findings, Event: bump" in got.stdout
    assert "Event: flat" not in page.read_text(encoding="utf-8")
    assert {"contents"} < set(pd.read_excel(book, sheet_name=None))
    for wrong, words in ((["b.txt"], "must end with .html"), (["b.html", "--workbook", "b.xls"], "must end with .xlsx"),
                         (["b.html", "--events", "bang"], 'no event "bang"'), (["b.html", "--text", "no.md"], "no.md"),
                         (["b.html", "--sections", "all"], 'no section "all"')):  # fmt: skip
        got = inside("report", str(run), *(str(tmp_path / w) if w.endswith((".txt", ".html")) else w for w in wrong))
        assert got.returncode == 2
        assert words in got.stderr


# -- verification on this machine --------------------------------------------------------------------------------


def test_verification_tells_expected_and_computed_figures(tmp_path):
    found = hk.verify("half-sine")
    assert found.ok
    table, figures = found.table(), found.table("figures")
    assert len(table) == 2
    assert len(figures) == table["figures"].sum() == 6
    np.testing.assert_allclose(figures["computed"] / figures["expected"] - 1, figures["deviation"], atol=1e-15)
    assert (figures["deviation"].abs() <= figures["tolerance"]).all()
    page = Page(found.save(tmp_path / "v.html").read_text(encoding="utf-8"))
    assert [r[0] for r in page.tables[0][1:]] == table["case"].tolist()
    assert len(page.tables[1]) == 7
    assert f"numpy {np.__version__}" in " ".join(page.words)
    with pytest.raises(UnknownNameError, match="no verification case speaks of"):
        hk.verify("warp drive")


@pytest.mark.parametrize("wrong", ["expected", "element", "error"])
def test_verification_fails_when_a_case_is_made_wrong(wrong, monkeypatch, tmp_path):
    case = next(c for c in verification.known_cases() if c.name == "cantilever with offset tip body")
    if wrong == "expected":
        computed, expected = case.run()
        bad = replace(case, run=lambda: (computed, [*expected[:3], expected[3] * 1.001, *expected[4:]]))
    elif wrong == "error":
        bad = replace(case, run=lambda: hk.Assembly("nothing").modes(1).frequencies_hz)
    else:
        bad = case
        own = BeamElements.matrices

        def stiffer(self):
            K, M = own(self)
            return 1.002 * K, M

        monkeypatch.setattr(BeamElements, "matrices", stiffer)
    monkeypatch.setattr(verification, "CASES", [bad])
    found = hk.verify()
    assert not found.ok
    got = inside("verify", "--json")
    assert got.returncode == 1
    row = json.loads(got.stdout)["tables"]["verification"][0]
    assert row["result"].startswith("FAILED")
    assert "out of its tolerance" in got.stderr
    if wrong == "expected":
        assert row["worst_figure"] == "natural frequency (Hz), 4"
        assert row["deviation"] == pytest.approx(1 / 1.001 - 1, abs=1e-4)


def test_the_documented_table_is_that_of_the_cases():
    text = (Path(__file__).parents[1] / "docs" / "verification.md").read_text(encoding="utf-8")
    rows = [line for line in text.splitlines() if line.startswith("| ")][1:]
    cases = verification.known_cases()
    assert [r.split(" | ")[0].strip("| ") for r in rows] == [c.name for c in cases]
    for row, case in zip(rows, cases, strict=True):
        cells = [c.strip() for c in row.strip("|").split("|")]
        assert cells[1:3] == [case.source, case.model]
        assert abs(float(cells[6])) <= case.tolerance
        assert float(cells[7]) == pytest.approx(case.tolerance, rel=0.05)
