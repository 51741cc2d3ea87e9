"""Make every picture in docs/screenshots/ again from the demo data.

Terminal pictures are taken of an xterm under Xvfb (Debian packages xvfb, xterm, imagemagick); figures are
written by the library itself.

    python scripts/screenshots.py [name ...]
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PIL import Image

import holokine as hk
from holokine.show.figures import save

TARGET = Path(__file__).parents[1] / "docs" / "screenshots"
CRATE = hk.demo_folder() / "crate.yaml"
TERMINAL = {
    "check": "holokine check crate.yaml | head -48",
    "modes": "holokine modes crate.yaml --count 16 | head -49",
    "energy": "holokine modes crate.yaml --count 12 --table 'energy group' | head -49",
    "compare": "holokine compare crate.yaml --variant 'thicker deck' --variant 'aluminium cage' --count 10",
    "respond_spectrum": "holokine respond crate.yaml 'works shock' | head -48",
    "state": "holokine state crate.yaml 'iced up' | head -48",
    "demo": "holokine demo | head -48",
    "refine": "holokine study crate.yaml --mesh 2 --mesh 3 --count 8",
    "verify": "holokine verify | tail -48",
}


def terminal(name: str, command: str) -> None:
    """Run a command in a terminal window of 1280 by 800 and photograph it."""
    with tempfile.TemporaryDirectory() as folder:
        for file in hk.demo_folder().glob("*.*"):
            if file.suffix in (".yaml", ".csv"):
                shutil.copy(file, folder)
        display = f":{90 + os.getpid() % 9}"
        server = subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
        try:
            time.sleep(1.5)
            env = {**os.environ, "DISPLAY": display}
            quiet = f"shopt -u checkwinsize; export COLUMNS=152; cd {folder}"
            shell = f"{quiet} && printf '$ %s\\n' \"{command}\" && {command} | cat; touch done; sleep 60"
            window = subprocess.Popen(
                ["xterm", "-geometry", "158x50+0+0", "-fa", "DejaVu Sans Mono", "-fs", "9", "-bg", "white", "-fg",
                 "black", "-e", "bash", "-c", shell], env=env,
            )  # fmt: skip
            for _ in range(900):
                if (Path(folder) / "done").exists():
                    break
                time.sleep(0.2)
            time.sleep(1.0)
            subprocess.run(["import", "-window", "root", str(TARGET / f"{name}.png")], env=env, check=True)
            window.kill()
        finally:
            server.kill()
            server.wait()


def figures(wanted: set[str]) -> None:
    crate = hk.Assembly.read(CRATE)
    modes = crate.modes()
    steel = {"materials/steel/E": "normal 205 GPa +- 3 %", "parts/deck/plate/thickness": "uniform 2.8 to 3.2 mm"}
    drawn: dict[str, list[Callable[[], Any]]] = {
        "srs": [modes.respond("kerb strike").shock("fan z", low=5, high=200, damping=["2 %", "5 %"]).plot],
        "frequency": [modes.respond("shaker").plot, modes.respond("rough track").plot],
        "damping": [
            lambda: crate.variant("rubber fan bushings").modes().damped().plot(),
            lambda: modes.tune("transformer", "z", mass="12 kg", against="shaker", gauge="transformer z").plot(),
        ],
        "followed": [lambda: crate.about("iced up").modes().respond("kerb strike", follow=True).plot("one_way")],
        "buckling": [lambda: crate.state("iced up").buckling().plot()],
        "vary": [
            lambda: crate.study({"parts/deck/plate/thickness": "2 to 6 mm in 17"}, count=14).plot(),
            lambda: crate.scatter(steel, read=["kerb strike: deck stress"], samples=40, count=10).plot(),
        ],
    }
    if not wanted or "mode" in wanted:
        modes.picture(TARGET / "mode.png", mode=3)
        print("rendered mode")
    if not wanted or "page" in wanted:
        down = "window.dispatchEvent(new KeyboardEvent('keydown',{key:'ArrowDown'}));"
        photograph_page(lambda path: modes.save(path), "page", down + down)
    if not wanted or "report" in wanted:
        photograph_page(lambda path: modes.report().save(path), "report", "")
    if not wanted or "histories_page" in wanted:
        zoom = "from = -5; to = 300; cursor = 66; draw();"
        photograph_page(lambda path: modes.respond("kerb strike").save(path), "histories_page", zoom)
    for name, draw in drawn.items():
        if not wanted or name in wanted:
            stacked(draw, TARGET / f"{name}.png")
            print(f"drew {name}")


def stacked(draw: list[Callable[[], Any]], path: Path) -> None:
    """One figure, or several one above the other."""
    with tempfile.TemporaryDirectory() as folder:
        pictures = []
        for k, one in enumerate(draw):
            save(one(), Path(folder) / f"{k}.png")
            with Image.open(Path(folder) / f"{k}.png") as picture:
                pictures.append(picture.convert("RGB"))
        whole = Image.new("RGB", (pictures[0].width, sum(p.height for p in pictures)), "white")
        top = 0
        for picture in pictures:
            whole.paste(picture, (0, top))
            top += picture.height
        whole.save(path)


def photograph_page(write: Callable[[Path], Path], name: str, script: str) -> None:
    """An interactive page in a headless browser (Debian package chromium), after a script of the reader's doing."""
    with tempfile.TemporaryDirectory() as folder:
        page = write(Path(folder) / f"{name}.html")
        page.write_text(page.read_text().replace("</body>", f"<script>{script}</script></body>"))
        subprocess.run(
            ["chromium", "--headless", "--no-sandbox", "--use-gl=angle", "--use-angle=swiftshader",
             "--enable-unsafe-swiftshader", "--window-size=1280,800", "--virtual-time-budget=3000",
             f"--screenshot={TARGET / name}.png", page.as_uri()], check=True, capture_output=True,
        )  # fmt: skip
    print(f"photographed {name}")


def main() -> None:
    wanted = set(sys.argv[1:])
    TARGET.mkdir(parents=True, exist_ok=True)
    figures(wanted)
    for name, command in TERMINAL.items():
        if not wanted or name in wanted:
            terminal(name, command)
            print(f"photographed {name}")


if __name__ == "__main__":
    main()
