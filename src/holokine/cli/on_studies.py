"""Commands that run many variants, or look for one: study, tune."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from holokine.api.modes import Modes
from holokine.api.study import Study
from holokine.api.study_calls import StudyCalls
from holokine.cli.deliver import Command, Delivery, deliver, delivered, refuse_file
from holokine.cli.options import takes
from holokine.cli.source import Range, assembly_argument, assembly_of, modes_of, ranged
from holokine.errors import OutputError

__all__ = ["study", "tune"]


@click.command(cls=Command)
@assembly_argument
@click.option("--set", "given", multiple=True, metavar="'PLACE = VALUES'",
              help="What is varied: keys joined by slashes, and a list (2, 3, 4 mm), a range (2 to 6 mm in 5), or a "
              "distribution (uniform 2 to 6 mm; normal, lognormal 3 mm +- 5 %). Repeatable.")  # fmt: skip
@click.option("--scatter", is_flag=True, help="What scattering inputs do, by derivatives (and by --samples).")
@click.option("--target", metavar="FREQ", help="Which value of the --set place (without values) brings --mode there.")
@click.option("--mode", type=click.IntRange(min=1), metavar="MODE", help="For --target: its number as written.")
@click.option("--mesh", "times", type=float, multiple=True, metavar="FACTOR",
              help="Meshes finer by this factor (repeatable): what frequencies and peaks tend to.")  # fmt: skip
@takes(
    StudyCalls.study,
    "samples",
    "seed",
    "read",
    "wishes",
    "jobs",
    "scheduler",
    samples={"type": click.IntRange(min=2)},
    seed={"type": int},
    read={"metavar": "'EVENT: GAUGE'"},
    wishes={"metavar": "WISH"},
    jobs={"default": None, "show_default": False, "help": "Processes; as cores and memory allow when left out."},
    scheduler={"metavar": "ADDRESS"},
)
@ranged("count", "upto")
@delivered
def study(
    assembly: Path, given: tuple[str, ...], scatter: bool, target: str | None, mode: int | None,
    times: tuple[float, ...], samples: int | None, seed: int, read: tuple[str, ...], wishes: tuple[str, ...],
    jobs: int | None, scheduler: str | None, wanted: Range, to: Delivery,
) -> None:  # fmt: skip
    """Many variants; scatter of inputs; the value that brings a mode to a frequency; convergence of the mesh.

    \b
    Example:
      holokine study crate.yaml --set "parts/deck/plate/thickness = 2 to 6 mm in 5" --out results
      holokine study crate.yaml --set "parts/deck/plate/thickness = 3, 4 mm" --wishes "mode 8 above 34 Hz"
      holokine study crate.yaml --set "materials/steel/E = normal 205 GPa +- 3 %" --scatter --samples 40
      holokine study crate.yaml --set parts/deck/plate/thickness --mode 8 --target 34Hz --save found.yaml
      holokine study crate.yaml --mesh 1.5 --mesh 2 --count 10

    With --out DIR finished variants are kept there, and an interrupted run goes on. Exit code 1: no variant meets the
    wishes. Guide: studies.
    """
    refuse_file(to.save, Study)
    to.films(False)
    _keep_input(assembly, to.save)
    if sum((scatter, target is not None, bool(times))) > 1:
        raise click.UsageError("give one of --scatter, --target and --mesh")
    if jobs is not None and scheduler is not None:
        raise click.UsageError("give --jobs (processes here) or --scheduler, not both")
    if scatter and samples is None and (jobs is not None or scheduler is not None):
        raise click.UsageError("--jobs and --scheduler are for --samples")
    if to.out is not None and to.out.exists() and not to.out.is_dir():
        raise OutputError(f"{to.out}: is not a folder")
    if to.save is not None and to.save.suffix in (".yaml", ".yml") and not wishes and target is None:
        raise click.UsageError("--save as an assembly needs --wishes, which tell the best variant, or --target")
    if times:
        if given:
            raise click.UsageError("--mesh varies the mesh alone: leave --set out")
        deliver(assembly_of(assembly).converge(times, read=read, count=wanted.count, upto=wanted.upto), to)
        return
    if not given:
        raise click.UsageError("--set tells what is varied; or ask for --mesh")
    if target is not None:
        if mode is None or len(given) != 1 or "=" in given[0]:
            raise click.UsageError("--target needs --mode and one --set PLACE without values")
        deliver(assembly_of(assembly).target(given[0].strip(), mode, target, count=wanted.count), to)
        return
    settings = _settings(given)
    more: dict[str, Any] = {"samples": samples, "seed": seed, "read": read, "count": wanted.count, "upto": wanted.upto,
                            "jobs": jobs, "scheduler": scheduler}  # fmt: skip
    found: Any
    if scatter:
        found = assembly_of(assembly).scatter(settings, folder=to.out if samples is not None else None, **more)
    else:
        found = assembly_of(assembly).study(settings, folder=to.out, wishes=wishes, **more)
    deliver(found, to)


def _settings(given: tuple[str, ...]) -> dict[str | tuple[str | int, ...], Any]:
    """Places with their values from ``PLACE = VALUES``."""
    found: dict[str | tuple[str | int, ...], Any] = {}
    for text in given:
        place, sign, values = text.partition("=")
        if not sign or not place.strip() or not values.strip():
            example = "parts/deck/plate/thickness = 2, 3, 4 mm"
            raise click.UsageError(f'--set: expected PLACE = VALUES, such as "{example}", got "{text}"')
        if place.strip() in found:
            raise click.UsageError(f"--set: {place.strip()} is given twice")
        found[place.strip()] = values.strip()
    return found


def _keep_input(assembly: Path, save: Path | None) -> None:
    """Refuse to write over the file that is read."""
    if save is not None and save.resolve() == assembly.resolve():
        raise click.UsageError(f"--save: {save} is the assembly itself; give another name")


@click.command(cls=Command)
@assembly_argument
@takes(
    Modes.tune,
    "at",
    "axis",
    "mode",
    "mass",
    "ratio",
    "against",
    "gauge",
    "band",
    at={"required": True, "metavar": "POINT"},
    axis={"required": True, "metavar": "AXIS"},
    band={"nargs": 2, "multiple": False, "metavar": "FROM TO"},
)
@ranged("count", "upto", "as_saved")
@delivered
def tune(
    assembly: Path, at: str, axis: str, mode: int | None, mass: str | None, ratio: str | None, against: str | None,
    gauge: str | None, band: tuple[str, str] | None, wanted: Range, to: Delivery,
) -> None:  # fmt: skip
    """A tuned damper for a mode: spring, damper and travel by the classic optimum and by the least of the largest.

    \b
    Example:
      holokine tune crate.yaml --at transformer --axis z --mode 3 --ratio 5%
      holokine tune crate.run --at transformer --axis z --mass 12kg --against shaker --gauge "transformer z"

    Saved as yaml: the assembly with the damper in it. Guide: tuned dampers.
    """
    from holokine.api.tuned import TunedDamper

    refuse_file(to.save, TunedDamper)
    to.films(False)
    _keep_input(assembly, to.save)
    parts: Any = axis.replace(",", " ").split()
    damper = modes_of(assembly, wanted).tune(
        at, parts if len(parts) == 3 else axis, mode=mode, mass=mass, ratio=ratio, against=against, gauge=gauge,
        band=band or None,
    )  # fmt: skip
    deliver(damper, to)
