"""Run the example notebooks and store what they give; with `--check`: fail where a stored output is another one.

python scripts/notebooks.py [--check]

Texts are compared as they are, but for times and dates; of pictures that they are there: their pixels follow the
versions of the packages that draw them.
"""

from __future__ import annotations

import copy
import re
import sys
from pathlib import Path
from typing import Any

import nbformat
from nbclient import NotebookClient

FOLDER = Path(__file__).parents[1] / "examples" / "notebooks"
_LOOSE = re.compile(r"\d{4}-\d\d-\d\dT[\d:+.]+|\b\d+ s\b|0x[0-9a-f]+|\(pypardiso\)|[-+]?\d\.\d+e-\d\d|[-+]?\d+e-\d\d")

_CELL = re.compile(r"\S*/ipykernel_\d+/\d+\.py:(?=\d+: )")  # the file a cell is run from: another name in each run


def told(cell: Any) -> list[str]:
    """Outputs of a cell as texts; a picture by its kind."""
    found = []
    for output in cell.get("outputs", []):
        data = output.get("data", {})
        if "image/png" in data:
            found.append("picture")
        else:
            found.append(_LOOSE.sub("~", output.get("text") or "".join(data.get("text/plain", ""))))
    return found


def main() -> int:
    check, wrong = "--check" in sys.argv, 0
    for path in sorted(FOLDER.glob("*.ipynb")):
        stored = nbformat.read(path, as_version=4)
        fresh = copy.deepcopy(stored)
        NotebookClient(
            fresh, timeout=600, kernel_name="python3", resources={"metadata": {"path": str(FOLDER)}}
        ).execute()
        for cell in fresh.cells:
            cell.get("metadata", {}).pop("execution", None)
            for output in cell.get("outputs", []):
                output.get("data", {}).pop("text/html", None)  # the plain text beside it says the same
                if "text" in output:
                    output["text"] = _CELL.sub("", output["text"])
        if check:
            for number, (old, new) in enumerate(zip(stored.cells, fresh.cells, strict=True), 1):
                if old.cell_type == "code" and told(old) != told(new):
                    wrong += 1
                    print(f"{path.name}, cell {number}: stored\n{told(old)}\nnow\n{told(new)}")
        else:
            nbformat.write(fresh, path)
        print(f"ran {path.name}")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
