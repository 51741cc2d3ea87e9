"""Write the JSON schema of assembly files, as it is shipped with the package.

python scripts/schema.py [--check]
"""

from __future__ import annotations

import json
import sys

from holokine.data import assembly_schema
from holokine.describe.published import published_schema


def main() -> None:
    text = json.dumps(published_schema(), indent=1, sort_keys=True) + "\n"
    if "--check" in sys.argv:
        if assembly_schema().read_text() != text:
            sys.exit("the published schema is not that of the code: run python scripts/schema.py")
        return
    assembly_schema().write_text(text)
    print(f"wrote {assembly_schema()}")


if __name__ == "__main__":
    main()
