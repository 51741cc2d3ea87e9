"""Kill a process that saves, again and again, and open what it left (tests/test_faults.py).

python scripts/faults.py 200
"""

from __future__ import annotations

import shutil
import sys
import tempfile
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import holokine as hk
from test_faults import kill_and_reopen


def main() -> None:
    """Each round must leave whole files, old or new, and nothing beside them."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "saved").mkdir()
        (folder / "work").mkdir()
        for file in ("crate.yaml", "works.csv"):
            shutil.copy(hk.demo_folder() / file, folder / "saved")
        run = hk.Assembly.read(folder / "saved/crate.yaml").modes(count=5).save(folder / "saved/crate.run")
        kill_and_reopen(run, folder / "work", rounds)
    print(f"{rounds} rounds: every file whole, nothing left over")


if __name__ == "__main__":
    main()
