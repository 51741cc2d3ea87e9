"""Write the JSON schema of assembly files, as it is shipped with the package, and docs/keys.md, its keys in words.

python scripts/schema.py [--check]
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from holokine.data import assembly_schema
from holokine.describe.published import published_schema

PAGE = Path(__file__).parents[1] / "docs" / "keys.md"
HEAD = """# Keys of an assembly file

Made from the schema by `python scripts/schema.py`. How they work together is in the [guide](guide.md). A quantity
is a number in the declared units, or a text with a unit; a key in *italics* has to be there.

"""
ORDER = (
    "holokine", "title", "units", "materials", "sections", "points", "parts", "masses", "springs", "bushings", "links",
    "joints", "ties", "supports", "groups", "gauges", "limits", "loads", "states", "state", "damping", "events",
    "modes",
    "bands", "variants", "adjust", "mass matrix", "massless", "merge tolerance", "matrices",
)  # fmt: skip


def linked(name: str) -> str:
    return f"[{spoken(name)}](#{spoken(name).replace(' ', '-')})"


def spoken(name: str) -> str:
    """A model as a heading: ``SpectrumEvent``, spectrum event."""
    return "".join(f" {c.lower()}" if c.isupper() and k else c.lower() for k, c in enumerate(name))


def words(part: dict[str, Any]) -> str:
    """What a value may be."""
    if "$ref" in part:
        return linked(part["$ref"].rsplit("/", 1)[1])
    for key in ("anyOf", "oneOf"):
        if key in part:
            found = [words(p) for p in part[key] if p.get("type") != "null"]
            return " or ".join(dict.fromkeys(w for w in found if w))
    if "enum" in part:
        return ", ".join(f"`{v}`" for v in part["enum"])
    if "const" in part:
        return f"`{part['const']}`"
    described = str(part.get("description", ""))
    if described.endswith("a number, or a text with a unit"):
        kind = described.split(":")[0]
        return "a number" if kind == "number" else f"a quantity ({kind})"
    kind = part.get("type")
    if kind == "array":
        inner = words(part["items"]) if isinstance(part.get("items"), dict) else ""
        count = f"{part['minItems']} of " if part.get("minItems") == part.get("maxItems", 0) else ""
        return f"a list ({count}{inner})" if inner else "a list"
    if kind == "object":
        inner = part.get("additionalProperties")
        return f"by name: {words(inner)}" if isinstance(inner, dict) and words(inner) else "keys and values"
    plain = {"string": "a text", "boolean": "true or false", "integer": "a whole number", "number": "a number"}
    return plain.get(kind, "") if isinstance(kind, str) else "a number or a text"


def rows(model: dict[str, Any]) -> str:
    """A line for every key of a table."""
    lines = ["| key | what it takes | left out |", "|---|---|---|"]
    for key, part in model.get("properties", {}).items():
        name = f"*`{key}`*" if key in model.get("required", ()) else f"`{key}`"
        left = part.get("default")
        default = "" if left in (None, "", [], {}) else f"`{json.dumps(left)}`"
        lines.append(f"| {name} | {words(part) or 'any'} | {default if len(default) < 40 else ''} |".replace("\n", " "))
    return "\n".join(lines) + "\n"


def page() -> str:
    """All keys: the top of a file, then every model in the order in which it is met."""
    schema = published_schema()
    top, models = schema["properties"], schema["$defs"]
    assert set(ORDER) == set(top), set(ORDER) ^ set(top)
    parts = [HEAD, "## The file\n\n", rows({"properties": {k: top[k] for k in ORDER}}), "\n"]
    met: list[str] = []

    def gather(part: Any) -> None:
        if isinstance(part, dict):
            name = str(part.get("$ref", "")).rsplit("/", 1)[-1]
            if name and name not in met:
                met.append(name)
                gather(models[name])
            for key, inner in part.items():
                if key != "$defs":
                    gather(inner)
        elif isinstance(part, list):
            for inner in part:
                gather(inner)

    for key in ORDER:
        gather(top[key])
    for name in met:
        about = " ".join(models[name].get("description", "").split("\n\nAttributes")[0].split())
        parts.append(f"## {spoken(name)}\n\n{about}\n\n{rows(models[name])}\n" if models[name].get("properties") else
                     f"## {spoken(name)}\n\n{about or words(models[name])}\n\n")  # fmt: skip
    return "".join(parts)


def main() -> None:
    text = json.dumps(published_schema(), indent=1, sort_keys=True) + "\n"
    if "--check" in sys.argv:
        if assembly_schema().read_text() != text or PAGE.read_text(encoding="utf-8") != page():
            sys.exit("the published schema, or docs/keys.md, is not that of the code: run python scripts/schema.py")
        return
    assembly_schema().write_text(text)
    PAGE.write_text(page(), encoding="utf-8")
    print(f"wrote {assembly_schema()} and {PAGE}")


if __name__ == "__main__":
    main()
