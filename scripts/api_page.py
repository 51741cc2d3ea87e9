"""Write docs/api.md, the page of the Python interface, from the signatures and docstrings.

python scripts/api_page.py [--check]
"""

from __future__ import annotations

import inspect
import sys
from importlib import import_module
from pathlib import Path
from typing import Any

import holokine as hk
from holokine.api.result import Result

TARGET = Path(__file__).parents[1] / "docs" / "api.md"
HEAD = """# Python interface

Made from the docstrings by `python scripts/api_page.py`. `help(hk.Assembly.gauge)` says the same at a prompt; the words
are those of the [guide](guide.md).

"""
CLASSES = {
    "Assembly": "api.building:Building api.study_calls:StudyCalls api.assembly:Assembly",
    "Check": "api.check:Check",
    "State": "api.state:State",
    "State.buckling": "api.state:BucklingOf",
    "State.changes": "api.state:ChangesOf",
    "Deformed shapes": "api.deformed:Deformed",
    "Modes": "api.mode_tables:ModeTables api.modes:Modes",
    "Modes.damped": "api.damped:Damped",
    "Modes.tune": "api.tuned:TunedDamper",
    "Answers of every kind": "api.answer:Answer",
    "Answers to spectra": "api.spectrum_answer:SpectrumAnswer",
    "Answers in time": "api.time_answer:TimeAnswer",
    "Answers to sweeps": "api.sweep_answer:SweepAnswer",
    "Answers to sweeps that follow": "api.periodic_answer:PeriodicAnswer",
    "Answers to random vibration": "api.random_answer:RandomAnswer",
    "Answers to static loads": "api.static_answer:StaticAnswer",
    "Comparisons of modes": "api.comparison:ModesCompared",
    "Modes.against_ritz": "api.comparison:BasesCompared",
    "against_rules": "api.comparison:RulesAgainstTime",
    "Studies of variants": "api.study:VariantStudy",
    "Scatter": "api.studies:ScatterStudy",
    "Target frequency": "api.studies:TargetStudy",
    "Convergence of the mesh": "api.studies:MeshStudy",
    "Record": "api.record:Record",
    "match": "api.record:MatchedTo",
    "formula": "api.formula:ByFormula",
    "Report": "api.report:Report",
    "verify": "verification.run:Verification",
}
"""Headings, and the classes whose members stand under each."""
FUNCTIONS = ("formula", "match", "open_run", "shock", "show_progress", "verify", "demo_folder")
KINDS = {"table": "Tables", "figure": "Figures", "writes": "Saved as"}


def first_line(member: Any) -> str:
    """What a docstring begins with."""
    text = inspect.getdoc(member) or ""
    return " ".join(text.split("\n\n")[0].split())


def signature(member: Any) -> str:
    """Names and defaults, without types."""
    shown, star = [], False
    for name, p in inspect.signature(member).parameters.items():
        if name == "self":
            continue
        if p.kind is p.KEYWORD_ONLY and not star:
            shown.append("*")
            star = True
        shown.append(name if p.default is p.empty else f"{name}={p.default!r}")
    return f"({', '.join(shown)})"


def page() -> str:
    """The whole page."""
    parts = [HEAD, "## Every result\n\n", *members(Result), "\n"]
    for heading, homes in CLASSES.items():
        found = [getattr(import_module(f"holokine.{m}"), n) for m, n in (home.split(":") for home in homes.split())]
        parts.append(f"## {heading}\n\n{first_line(found[-1])}\n\n")
        for cls in found:
            parts += members(cls)
        last = found[-1]
        for kind, title in KINDS.items():
            own = [e for e in getattr(last, "_own", {}).get(kind, {}).values() if kind != "writes" or e.words]
            if own:
                parts.append(
                    f"- {title}: " + "; ".join(f"`{e.name}{entry_options(e)}` {e.words.rstrip('.')}" for e in own)
                )
                parts.append("\n")
        parts.append("\n")
    parts.append("## Functions\n\n")
    for name in FUNCTIONS:
        function = getattr(hk, name)
        parts.append(f"- `{name}{signature(function)}`: {first_line(function)}\n")
    return "".join(parts)


def entry_options(entry: Any) -> str:
    """What a table, figure or file takes."""
    shown = signature(entry.make).replace("(path, *, ", "(").replace("(path)", "()").replace("(*, ", "(")
    return "" if shown == "()" else shown


def members(cls: type) -> list[str]:
    """A line for every public member of a class itself."""
    parts = []
    for own, member in sorted(vars(cls).items()):
        if own.startswith("_"):
            continue
        bare = member.__func__ if isinstance(member, classmethod | staticmethod) else member
        if inspect.isfunction(bare):
            parts.append(f"- `{own}{signature(bare).replace('(cls, ', '(').replace('(cls)', '()')}`: ")
        elif isinstance(member, property) or hasattr(member, "func"):
            parts.append(f"- `{own}`: ")
            bare = member.fget if isinstance(member, property) else member.func
        else:
            continue
        parts.append(f"{first_line(bare)}\n")
    return parts


if __name__ == "__main__":
    if "--check" in sys.argv:
        if TARGET.read_text(encoding="utf-8") != page():
            sys.exit("docs/api.md is not that of the code: run python scripts/api_page.py")
    else:
        TARGET.write_text(page(), encoding="utf-8")
        print(f"wrote {TARGET}")
