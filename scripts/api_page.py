"""Write docs/api.md, the page of the Python interface, from the signatures and docstrings.

python scripts/api_page.py [--check]
"""

from __future__ import annotations

import inspect
import sys
from pathlib import Path
from typing import Any

import holokine as hk

TARGET = Path(__file__).parents[1] / "docs" / "api.md"
HEAD = """# Python interface

Made from the docstrings by `python scripts/api_page.py`. `help(hk.Assembly.gauge)` says the same at a prompt; the words
are those of the [guide](guide.md).

"""
CLASSES = (
    "Assembly", "Check", "Modes", "Compared", "Answer", "SpectrumAnswer", "TimeAnswer", "StaticAnswer", "SweepAnswer",
    "Damped", "TunedDamper", "Shock", "Matched", "Variation", "BroughtMode", "Refinement", "Report", "Verification",
)  # fmt: skip
FUNCTIONS = ("formula", "match", "shock", "verify", "demo_folder")


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
    parts = [HEAD]
    for name in CLASSES:
        cls = getattr(hk, name)
        parts.append(f"## {name}\n\n{first_line(cls)}\n\n")
        for own, member in sorted(vars(cls).items()):
            if own.startswith("_") or own in ("extras", "peak_word"):
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
        parts.append("\n")
    parts.append("## Functions\n\n")
    for name in FUNCTIONS:
        function = getattr(hk, name)
        parts.append(f"- `{name}{signature(function)}`: {first_line(function)}\n")
    return "".join(parts)


if __name__ == "__main__":
    if "--check" in sys.argv:
        if TARGET.read_text(encoding="utf-8") != page():
            sys.exit("docs/api.md is not that of the code: run python scripts/api_page.py")
    else:
        TARGET.write_text(page(), encoding="utf-8")
        print(f"wrote {TARGET}")
