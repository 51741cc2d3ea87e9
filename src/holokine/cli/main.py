"""Commands, in the order of the work: check, modes, respond and what further is asked of them."""

from __future__ import annotations

import contextlib
import gc
import os
import sys
import threading
from dataclasses import replace
from functools import wraps
from pathlib import Path
from typing import Any

import click

from holokine.cli.asked import STATE, Delivery, FilmAsked, LookAsked, ModesRange
from holokine.errors import CheckFailedError, HolokineError, HolokineWarning

__all__ = ["run"]

EXIT_CHECK, EXIT_INPUT = 1, 2


class _Group(click.Group):
    """Lists commands in the order of the work."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(self.commands)


def _version(ctx: click.Context, _: Any, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        from holokine import __version__

        click.echo(f"holokine {__version__}")
        ctx.exit()


@click.group(cls=_Group, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.option("--version", is_flag=True, expose_value=False, is_eager=True, callback=_version, help="Show the version.")
def cli() -> None:
    """Natural frequencies, modal mass, shock and vibration response of assemblies.

    \b
    Example:
      holokine demo
      holokine check crate.yaml
      holokine modes crate.yaml --upto 400Hz
      holokine respond crate.yaml "kerb strike" --out results

    Exit codes: 0 done, 1 a check failed, 2 bad input.
    """


_AS_SAVED = "Take a run file as saved, though its assembly has changed."


def _state_asked(_: click.Context, __: Any, name: str | None) -> None:
    STATE.set(name)


def _ASSEMBLY(command: Any) -> Any:
    """The assembly, and the state about which it vibrates."""
    run = click.option("--state", metavar="NAME", expose_value=False, callback=_state_asked,
                       help="About this state of the file; none: the unloaded shape.")(command)  # fmt: skip
    return click.argument("assembly", type=click.Path(path_type=Path))(run)


def _output(command: Any) -> Any:
    """Options of form and folder, given to the command as `to`."""

    @wraps(command)
    def run(*args: Any, as_json: bool, as_csv: bool, out: Path | None, whole: bool, **keys: Any) -> Any:
        if as_json and as_csv:
            raise click.UsageError("give --json or --csv, not both")
        return command(*args, to=Delivery(as_json, as_csv, out, whole), **keys)

    run = click.option("--out", type=click.Path(path_type=Path, file_okay=False), metavar="DIR",
                       help="Write tables (CSV) and figures (PNG) into this folder.")(run)  # fmt: skip
    run = click.option("--csv", "as_csv", is_flag=True, help="Print the main table as CSV only.")(run)
    run = click.option("--all", "whole", is_flag=True, help="Long tables whole, on a terminal too.")(run)
    return click.option("--json", "as_json", is_flag=True, help="Print everything as JSON only.")(run)


def _pictures(command: Any) -> Any:
    """Options of how pictures are drawn, given to the command as `look`."""

    @wraps(command)
    def run(*args: Any, view: str | None, only: tuple[str, ...], **keys: Any) -> Any:
        if (view is not None or only) and keys["to"].out is None:
            raise click.UsageError("--view and --only are for the pictures in --out DIR")
        parts = (view or "").replace(",", " ").split()
        seen: Any = view
        if len(parts) == 3:
            try:
                seen = tuple(float(p) for p in parts)
            except ValueError:
                raise click.UsageError(f'--view: expected a name or three numbers, got "{view}"') from None
        return command(*args, look=LookAsked(seen, only or None), **keys)

    run = click.option("--only", multiple=True, metavar="NAME",
                       help="Draw this part, mass or group alone (repeatable).")(run)  # fmt: skip
    return click.option("--view", metavar="FROM", help="Pictures from corner, front, back, left, right, top, bottom, "
                        "or a direction such as 1,-1,2.")(run)  # fmt: skip


def _film(command: Any) -> Any:
    """Options of a film's format, given to the command as `film`; refused where none is asked for."""

    @wraps(command)
    def run(*args: Any, ending: str | None, size: str | None, rate: int | None, **keys: Any) -> Any:
        asked = keys.get("gauge") is not None or bool(keys.get("animate"))
        more = {"--film": ending, "--film-size": size, "--rate": rate, "--seconds": keys.get("seconds")}
        for option, value in more.items():
            if value is not None and not asked:
                raise click.UsageError(f"{option} belongs to --animate")
        pixels = (size or "1280x800").lower().split("x")
        if len(pixels) != 2 or not all(p.strip().isdigit() for p in pixels):
            raise click.UsageError(f'--film-size: expected width x height in pixels, such as 1280x800, got "{size}"')
        film = FilmAsked(ending or "gif", (int(pixels[0]), int(pixels[1])), rate)
        if size is not None:  # before anything is solved
            from holokine.show.scene import film_pixels

            film_pixels(film.pixels)
        return command(*args, film=film, **keys)

    run = click.option("--rate", type=click.IntRange(1, 120), metavar="N",
                       help="Pictures per second of a film (20 for an answer, 24 for a mode).")(run)  # fmt: skip
    run = click.option("--film-size", "size", metavar="WxH", help="Its width and height in pixels (1280x800).")(run)
    return click.option("--film", "ending", type=click.Choice(["gif", "mp4"]), help="Its format (gif).")(run)


def _range(command: Any) -> Any:
    """Options of which modes, given to the command as `wanted`."""

    @wraps(command)
    def run(*args: Any, count: int | None, upto: str | None, as_saved: bool, **keys: Any) -> Any:
        return command(*args, wanted=ModesRange(count, upto, as_saved=as_saved), **keys)

    run = click.option("--as-saved", is_flag=True, help=_AS_SAVED)(run)
    run = click.option("--upto", metavar="FREQ", help="Highest frequency, such as 400Hz (a bare number is Hz).")(run)
    return click.option("--count", type=click.IntRange(min=1), help="Number of lowest modes.")(run)


@cli.command()
@_ASSEMBLY
@click.option("--as-saved", is_flag=True, help=_AS_SAVED)
@click.option("--sections", is_flag=True, help="Draw beams with their sections and axes.")
@_output
@_pictures
def check(assembly: Path, as_saved: bool, sections: bool, to: Delivery, look: LookAsked) -> None:
    """Mass, centre of mass, connections, supports and findings, before solving.

    \b
    Example:
      holokine check crate.yaml
      holokine check crate.run
      holokine check crate.yaml --out results --sections --only cage --view front

    Ends with exit code 1 when a finding is an error.
    """
    from holokine.cli.reports import CheckReportView

    view = CheckReportView.of(assembly, as_saved, look, sections)
    view.deliver(to)
    if not view.check.ok:
        raise CheckFailedError("the check found errors")


@cli.command()
@_ASSEMBLY
@click.argument("name", required=False)
@click.option("--up-to", type=click.FloatRange(min=1.0), metavar="FACTOR",
              help="Also the factors on its loads, up to this one, at which feet open, touch, slide or stick, springs "
              "let go or act, and cables go slack or pull.")  # fmt: skip
@_output
@_pictures
def state(assembly: Path, name: str | None, up_to: float | None, to: Delivery, look: LookAsked) -> None:
    """The assembly at rest in a state: displacement, forces, stress, what touches, slides or is slack.

    NAME is a state of the file; the one that is switched on, or the only one, when left out.

    \b
    Example:
      holokine state crate.yaml
      holokine state crate.yaml parked --out results
      holokine state crate.yaml "iced up" --up-to 5
    """
    from holokine.cli.state_reports import StateView

    StateView.of(assembly, name, look, up_to).deliver(to)


@cli.command()
@_ASSEMBLY
@click.argument("name", required=False)
@click.option("--count", type=click.IntRange(min=1), default=4, show_default=True, help="How many load factors.")
@click.option("--factor", "factors", type=float, multiple=True, metavar="FACTOR",
              help="Load factor at which to give frequencies (repeatable); by default parts of the load up to it, and "
              "0.9 of the lowest load factor.")  # fmt: skip
@click.option("--modes", type=click.IntRange(min=0), default=4, show_default=True,
              help="How many modes are followed over the load; 0: none.")  # fmt: skip
@_output
@_pictures
def buckling(
    assembly: Path, name: str | None, count: int, factors: tuple[float, ...], modes: int, to: Delivery, look: LookAsked
) -> None:
    """Load factors of buckling of a state, their shapes, and frequencies at parts of its load.

    \b
    Example:
      holokine buckling crate.yaml parked
      holokine buckling crate.yaml parked --factor 0 --factor 1 --factor 2 --out results
    """
    from holokine.cli.state_reports import BucklingView

    if factors and not modes:
        raise click.UsageError("--factor needs modes to follow (--modes)")
    BucklingView.of(assembly, name, count, factors, modes, look).deliver(to)


@cli.command()
@_ASSEMBLY
@_range
@click.option("--above", metavar="FREQ", help="Lowest frequency of a band.")
@click.option("--near", metavar="FREQ", help="Modes next to this frequency (--count of them, or 10).")
@click.option("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Keep everything in a run file, which later commands take in place of the assembly.")  # fmt: skip
@click.option(
    "--need", metavar="SHARE", help="Share of the free mass to be held, such as 90%; not reached: exit code 1."
)
@click.option("--along", default="x,y,z", show_default=True, metavar="DIRECTIONS", help="Directions for --need.")
@click.option("--sort", metavar="COLUMN", help="Sort the table of effective masses by a column of its CSV.")
@click.option("--top", type=click.IntRange(min=1), metavar="N", help="Only the first N rows of that table.")
@click.option("--at-energy", metavar="ENERGY", help="Peak displacement of each mode where it holds this energy, as 2J.")
@click.option("--points", metavar="SCALE",
              help="Also the shapes at named points, scaled: mass, 'unit maximum', or an energy as 2J.")  # fmt: skip
@click.option("--colour", type=click.Choice(["displacement", "energy", "stress"]), default="displacement",
              show_default=True, help="What shapes drawn into --out are coloured by.")  # fmt: skip
@click.option("--shapes", type=click.IntRange(min=0), default=6, show_default=True, help="Shapes drawn into --out.")
@click.option(
    "--animate",
    type=click.IntRange(min=1),
    multiple=True,
    metavar="MODE",
    help="Animate this mode into --out (repeatable).",
)
@_film
@_output
@_pictures
def modes(
    assembly: Path,
    wanted: ModesRange,
    above: str | None,
    near: str | None,
    save: Path | None,
    need: str | None,
    along: str,
    sort: str | None,
    top: int | None,
    at_energy: str | None,
    points: str | None,
    colour: str,
    shapes: int,
    animate: tuple[int, ...],
    film: FilmAsked,
    to: Delivery,
    look: LookAsked,
) -> None:
    """Natural frequencies, mode shapes and effective masses.

    \b
    Example:
      holokine modes crate.yaml --upto 400Hz --count 50
      holokine modes crate.yaml --csv > modes.csv
      holokine modes crate.yaml --count 8 --animate 3 --out results
      holokine modes crate.run --animate 1 --film mp4 --film-size 1920x1080 --out results
      holokine modes crate.yaml --above 50Hz --upto 80Hz
      holokine modes crate.yaml --save crate.run
      holokine modes crate.run --need 90% --along z
      holokine modes crate.run --sort effective_z_kg --top 5
      holokine modes crate.run --points mass
    """
    from holokine.cli.reports import ModesAsked, ModesView

    if animate and to.out is None:
        raise click.UsageError("--animate needs --out DIR")

    wanted = replace(wanted, above=above, near=near)
    drawn = shapes if to.out is not None else 0
    asked = ModesAsked(drawn, animate, need, tuple(along.replace(",", " ").split()), sort, top, colour, at_energy,
                       points, film=film)  # fmt: skip
    view = ModesView.of(assembly, wanted, replace(asked, look=look), save)
    view.deliver(to)
    if not view.enough:
        raise CheckFailedError("the modes do not hold the mass asked for")


@cli.command()
@_ASSEMBLY
@click.argument("event")
@click.option("--signed", is_flag=True, help="Peaks of a spectrum with the sign of the mode that dominates each.")
@click.option("--rules", is_flag=True, help="Peaks of a spectrum by every rule of combination side by side.")
@click.option(
    "--animate",
    "gauge",
    metavar="GAUGE",
    help="Animate an answer in time into --out, above this gauge's history; of a sweep one cycle at its peak.",
)
@click.option("--window", nargs=2, metavar="FROM TO", help="Time that the animation shows, such as 0s 80ms.")
@click.option("--seconds", type=click.FloatRange(0.1, 120), help="How long it plays (6).")
@click.option("--with", "others", multiple=True, metavar="EVENT",
              help="Draw another sweep of the file into the same figure (repeatable; needs --out DIR).")  # fmt: skip
@click.option("--linear", type=click.Choice(["frequency", "amplitude", "both"]),
              help="Linear axes in the figure of a sweep, in place of logarithmic ones (needs --out DIR).")  # fmt: skip
@click.option(
    "--at",
    metavar="TIME",
    help="Also the deformed shape, stress and member forces at this instant, as 27ms; of a sweep as '45Hz, 90deg'.",
)
@_film
@_range
@_output
@_pictures
def respond(
    assembly: Path,
    event: str,
    signed: bool,
    rules: bool,
    gauge: str | None,
    window: tuple[str, str] | None,
    seconds: float | None,
    at: str | None,
    others: tuple[str, ...],
    linear: str | None,
    film: FilmAsked,
    wanted: ModesRange,
    to: Delivery,
    look: LookAsked,
) -> None:
    """Response of all gauges to an event of the assembly file (or of a run file, without extracting again).

    \b
    Example:
      holokine respond crate.yaml "kerb strike"
      holokine respond crate.yaml "works shock" --out results
      holokine respond crate.run "works shock" --rules
      holokine respond crate.run "kerb strike"
      holokine respond crate.run "kerb strike" --animate "fan z" --window 0s 200ms --out results
      holokine respond crate.run "kerb strike" --at 27ms
      holokine respond crate.yaml "winter standstill"
      holokine respond crate.run shaker --at "20.2 Hz" --animate fan --out results
      holokine respond crate.run shaker --with "fan run-up" --linear frequency --out results

    Ends with exit code 1 when a limit of the assembly file is not met.
    """
    from holokine.cli.reports import AnswerAsked, AnswerView, Film

    if gauge is None and window:
        raise click.UsageError("--window belongs to --animate GAUGE")
    if gauge is not None and to.out is None:
        raise click.UsageError("--animate needs --out DIR")
    if (others or linear) and to.out is None:
        raise click.UsageError("--with and --linear are for the figure in --out DIR")
    moving = None if gauge is None else Film(film, gauge, window or None, seconds or 6.0)
    asked = AnswerAsked(signed, moving, at, rules, look, to.as_json or to.out is not None, others, linear)
    view = AnswerView.of(assembly, event, wanted, asked)
    view.deliver(to)
    if not view.ok:
        raise CheckFailedError("a limit is not met")


@cli.command()
@_ASSEMBLY
@click.argument("event")
@_range
@_output
def conservatism(
    assembly: Path,
    event: str,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """A pulse in time against every rule of combination under its own spectra.

    \b
    Example:
      holokine conservatism crate.yaml "kerb strike"
    """
    from holokine.cli.mode_reports import ConservatismView

    ConservatismView.of(assembly, event, wanted).deliver(to)


@cli.command()
@_ASSEMBLY
@click.argument("event")
@click.option(
    "--vectors", "number", type=click.IntRange(min=1), default=12, show_default=True, help="How many vectors."
)
@_range
@_output
def vectors(
    assembly: Path,
    event: str,
    number: int,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """Natural modes against load-dependent Ritz vectors for an event: what each basis holds of its loads.

    \b
    Example:
      holokine vectors crate.yaml "kerb strike" --vectors 6
    """
    from holokine.cli.mode_reports import VectorsView

    VectorsView.of(assembly, event, number, wanted).deliver(to)


@cli.command()
@_ASSEMBLY
@click.option("--animate", type=click.IntRange(min=1), multiple=True, metavar="MODE",
              help="Film of a cycle of this damped mode into --out (repeatable).")  # fmt: skip
@_film
@_range
@_output
def damped(assembly: Path, animate: tuple[int, ...], film: FilmAsked, wanted: ModesRange, to: Delivery) -> None:
    """Damped (complex) modes: frequency, damping ratio and decay as dampers and loss factors couple the modes.

    \b
    Example:
      holokine damped crate.yaml
      holokine damped crate.run --animate 4 --out results
    """
    from holokine.cli.mode_reports import DampedView

    if animate and to.out is None:
        raise click.UsageError("--animate needs --out DIR")
    DampedView.of(assembly, wanted, animate, film).deliver(to)


@cli.command()
@_ASSEMBLY
@click.option("--at", required=True, metavar="POINT", help="Point at which the damper's mass hangs.")
@click.option("--axis", required=True, metavar="AXIS", help="Along what it slides: x, y, z, or a direction as 1,0,1.")
@click.option("--mode", type=int, metavar="MODE", help="Mode that it is for; by default the one that moves it most.")
@click.option("--mass", metavar="MASS", help="Its mass, such as 2kg ...")
@click.option("--ratio", metavar="SHARE", help="... or its share of the effective modal mass there, such as 5%.")
@click.option("--against", metavar="WHAT", help="force (at the point; the default), base, or a sweep of the file ...")
@click.option("--gauge", metavar="GAUGE", help="... and the reading whose largest is to be least, such as 'fan z'.")
@click.option("--band", nargs=2, metavar="FROM TO", help="Frequencies that count, such as 15Hz 25Hz.")
@click.option("--write", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Write the assembly with the damper in it.")  # fmt: skip
@_range
@_output
def tune(
    assembly: Path,
    at: str,
    axis: str,
    mode: int | None,
    mass: str | None,
    ratio: str | None,
    against: str | None,
    gauge: str | None,
    band: tuple[str, str] | None,
    write: Path | None,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """A tuned damper for a mode: spring, damper and travel by the classic optimum and by the least of the largest.

    \b
    Example:
      holokine tune crate.yaml --at transformer --axis z --mode 3 --ratio 5%
      holokine tune crate.run --at transformer --axis z --mass 12kg --against shaker --gauge "transformer z"
    """
    from holokine.cli.mode_reports import TuneView

    _keep_input(assembly, write)

    parts = axis.replace(",", " ").split()
    keys: dict[str, Any] = {"at": at, "axis": parts if len(parts) == 3 else axis, "mode": mode, "mass": mass,
                            "ratio": ratio, "against": against, "gauge": gauge, "band": band or None}  # fmt: skip
    TuneView.of(assembly, wanted, keys, write).deliver(to)


@cli.command()
@_ASSEMBLY
@click.option(
    "--by", default="member", show_default=True, metavar="WHAT", help="member, group, or the name of a group."
)
@click.option("--mode", "chosen", type=int, multiple=True, metavar="MODE", help="Only this mode (repeatable).")
@click.option("--change", default="10%", show_default=True, metavar="SHARE", help="Change that the advice is for.")
@_range
@_output
def energy(
    assembly: Path,
    by: str,
    chosen: tuple[int, ...],
    change: str,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """Where the energy of each mode is, and which part to stiffen or lighten.

    \b
    Example:
      holokine energy crate.yaml --by group
      holokine energy crate.run --mode 3 --mode 4
    """
    from holokine.cli.mode_reports import EnergyView

    EnergyView.of(assembly, wanted, by, chosen, change).deliver(to)


@cli.command()
@_ASSEMBLY
@click.argument("member")
@click.option("--stiffness", metavar="FACTOR", help="Factor on its stiffness, such as 1.1.")
@click.option("--mass", metavar="FACTOR", help="Factor on its mass.")
@_range
@_output
def change(
    assembly: Path,
    member: str,
    stiffness: str | None,
    mass: str | None,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """Run again with a member (or group) stiffer or lighter: predicted against actual.

    \b
    Example:
      holokine change crate.yaml "rail left" --stiffness 1.2
      holokine change crate.run deck --stiffness 1.5
      holokine change crate.yaml "fan set" --mass 0.8 --upto 100Hz
    """
    from holokine.cli.mode_reports import ChangeView

    if stiffness is None and mass is None:
        raise click.UsageError("give --stiffness or --mass")
    ChangeView.of(assembly, member, stiffness, mass, wanted).deliver(to)


@cli.command()
@_ASSEMBLY
@click.argument("others", nargs=-1, type=click.Path(path_type=Path))
@click.option("--variant", "variants", multiple=True, metavar="NAME", help="A variant of the file (repeatable); all of "
              "them when nothing else is named.")  # fmt: skip
@click.option("--mass-matrices", is_flag=True, help="Consistent against lumped, and lumped without rotary inertia.")
@click.option("--with-state", "states", multiple=True, metavar="NAME",
              help="The same about another state of the file (repeatable); none: the unloaded shape.")  # fmt: skip
@_range
@_output
def compare(
    assembly: Path,
    others: tuple[Path, ...],
    variants: tuple[str, ...],
    mass_matrices: bool,
    states: tuple[str, ...],
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """Pair the modes of an assembly with those of variants or of other files.

    \b
    Example:
      holokine compare crate.yaml
      holokine compare crate.yaml --variant "thicker deck"
      holokine compare before.run after.run
      holokine compare crate.yaml --mass-matrices --count 12
      holokine compare crate.yaml --state none --with-state parked
    """
    from holokine.cli.mode_reports import CompareView

    CompareView.of(assembly, others, variants, mass_matrices, states, wanted).deliver(to)


def _lowest(command: Any) -> Any:
    """Options of which lowest modes, given to the command as `wanted`."""

    @wraps(command)
    def run(*args: Any, count: int | None, upto: str | None, **keys: Any) -> Any:
        return command(*args, wanted=ModesRange(count, upto), **keys)

    run = click.option("--upto", metavar="FREQ", help="Highest frequency, such as 400Hz (a bare number is Hz).")(run)
    return click.option("--count", type=click.IntRange(min=1), help="Number of lowest modes.")(run)


@cli.command()
@_ASSEMBLY
@click.option("--set", "given", multiple=True, required=True, metavar="'PLACE = VALUES'",
              help="What is varied: keys joined by slashes, and a list (2, 3, 4 mm), a range (2 to 6 mm in 5), "
              "or a distribution (uniform 2 to 6 mm; normal, lognormal 3 mm +- 5 %). Repeatable.")  # fmt: skip
@click.option("--samples", type=click.IntRange(min=2), metavar="N", help="Draw N by a Latin hypercube, not a grid.")
@click.option("--seed", type=int, default=1, show_default=True, help="Another start draws others.")
@click.option("--read", multiple=True, metavar="'EVENT: GAUGE'", help="Peak to be read of every variant (repeatable).")
@click.option("--wish", "wishes", multiple=True, metavar="WISH",
              help="Such as 'lowest mode above 25 Hz', 'least mass' (repeatable): which variant is best.")  # fmt: skip
@click.option("--write", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Write the best variant as an assembly file (needs --wish).")  # fmt: skip
@click.option("--jobs", type=click.IntRange(min=1), metavar="N", help="Processes; as cores and memory allow.")
@click.option("--scheduler", metavar="ADDRESS", help="Run on the workers of this dask.distributed scheduler, such as "
              "tcp://host:8786.")  # fmt: skip
@_lowest
@_output
def vary(
    assembly: Path,
    given: tuple[str, ...],
    samples: int | None,
    seed: int,
    read: tuple[str, ...],
    wishes: tuple[str, ...],
    write: Path | None,
    jobs: int | None,
    scheduler: str | None,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """Run many variants: modes followed by their shapes, readings, and which is best.

    With --out DIR finished variants are kept there, and an interrupted run goes on where it was. A variant that fails
    is a row of the table.

    \b
    Example:
      holokine vary crate.yaml --set "parts/deck/plate/thickness = 2 to 6 mm in 5" --out results
      holokine vary crate.yaml --set "materials/steel/E = normal 205 GPa +- 3 %" --samples 40 --read "kerb strike: fan"
      holokine vary crate.yaml --set "parts/deck/plate/thickness = 3, 4 mm" --wish "mode 8 above 34 Hz"

    Ends with exit code 1 when no variant meets the bounds wished for.
    """
    from holokine.cli.vary_reports import VaryView

    _keep_input(assembly, write)
    if write is not None and not wishes:
        raise click.UsageError("--write needs --wish, which tells the best variant")
    if jobs is not None and scheduler is not None:
        raise click.UsageError("give --jobs (processes here) or --scheduler, not both")
    keys = {"samples": samples, "seed": seed, "jobs": jobs, "scheduler": scheduler}
    view = VaryView.of(assembly, given, read, wishes, keys, wanted, write, to.out)
    view.deliver(to)
    if not view.met:
        raise CheckFailedError("no variant meets the bounds wished for")


@cli.command()
@_ASSEMBLY
@click.option("--set", "given", multiple=True, required=True, metavar="'PLACE = DISTRIBUTION'",
              help="What scatters: keys joined by slashes, and normal 205 GPa +- 3 %, lognormal 140 N/mm +- 10 % or "
              "uniform 2.8 to 3.2 mm. Repeatable.")  # fmt: skip
@click.option("--samples", type=click.IntRange(min=2), metavar="N", help="Also N samples of a Latin hypercube.")
@click.option("--seed", type=int, default=1, show_default=True, help="Another start draws others.")
@click.option("--read", multiple=True, metavar="'EVENT: GAUGE'", help="Also the peak of this reading (repeatable).")
@click.option("--jobs", type=click.IntRange(min=1), metavar="N", help="Processes; as cores and memory allow.")
@click.option("--scheduler", metavar="ADDRESS", help="Run samples on the workers of this dask.distributed scheduler.")
@_lowest
@_output
def scatter(
    assembly: Path,
    given: tuple[str, ...],
    samples: int | None,
    seed: int,
    read: tuple[str, ...],
    jobs: int | None,
    scheduler: str | None,
    wanted: ModesRange,
    to: Delivery,
) -> None:
    """What scatter of materials, thickness, springs or damping does to frequencies and peaks, and what matters most.

    By derivatives at once; with --samples by runs too. With --out DIR finished samples are kept, as vary does.

    \b
    Example:
      holokine scatter crate.yaml --set "materials/steel/E = normal 205 GPa +- 3 %" --count 12
      holokine scatter crate.yaml --set "damping = lognormal 2 % +- 0.5 %" --read "kerb strike: fan" --samples 40
    """
    from holokine.cli.vary_reports import ScatterView

    if samples is None and (jobs is not None or scheduler is not None):
        raise click.UsageError("--jobs and --scheduler are for --samples")
    if jobs is not None and scheduler is not None:
        raise click.UsageError("give --jobs (processes here) or --scheduler, not both")
    keys = {"samples": samples, "seed": seed, "jobs": jobs, "scheduler": scheduler}
    ScatterView.of(assembly, given, read, keys, wanted, to.out).deliver(to)


@cli.command()
@_ASSEMBLY
@click.argument("place")
@click.option("--mode", type=click.IntRange(min=1), required=True, metavar="MODE", help="Its number as written.")
@click.option("--to", "target", required=True, metavar="FREQ", help="Frequency that it is to have, such as 30Hz.")
@click.option("--write", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Write the assembly with the value found.")  # fmt: skip
@_output
def reach(assembly: Path, place: str, mode: int, target: str, write: Path | None, to: Delivery) -> None:
    """Which thickness, stiffness or other number brings a mode to a frequency; found by derivatives, proven by a run.

    PLACE is written as for vary: keys joined by slashes.

    \b
    Example:
      holokine reach crate.yaml parts/deck/plate/thickness --mode 8 --to 34Hz
      holokine reach crate.yaml "adjust/fan set/stiffness" --mode 4 --to 25Hz --write stiffer.yaml
    """
    from holokine.cli.vary_reports import ReachView

    _keep_input(assembly, write)
    ReachView.of(assembly, place, mode, target, write).deliver(to)


@cli.command()
@_ASSEMBLY
@click.option("--times", type=float, multiple=True, metavar="FACTOR",
              help="How much finer the elements become (repeatable; 1.5 and 2 when left out).")  # fmt: skip
@click.option("--read", multiple=True, metavar="'EVENT: GAUGE'", help="Also the peak of this reading (repeatable).")
@_lowest
@_output
def refine(assembly: Path, times: tuple[float, ...], read: tuple[str, ...], wanted: ModesRange, to: Delivery) -> None:
    """Built-in meshes at two or three sizes: what frequencies and peaks tend to, with error bars.

    \b
    Example:
      holokine refine crate.yaml --count 10
      holokine refine crate.yaml --times 2 --read "kerb strike: deck stress" --out results
    """
    from holokine.cli.vary_reports import RefineView

    RefineView.of(assembly, times, read, wanted).deliver(to)


@cli.command()
@click.argument("name", required=False)
@click.argument("inputs", nargs=-1)
@click.option("--modes", type=click.IntRange(min=1), default=5, show_default=True, help="How many frequencies.")
@click.option(
    "--beside", type=click.Path(path_type=Path), metavar="FILE", help="Assembly or run file to set beside it."
)
@click.option("--csv", "as_csv", is_flag=True, help="Print the table as CSV only.")
@click.option("--json", "as_json", is_flag=True, help="Print everything as JSON only.")
def formula(
    name: str | None, inputs: tuple[str, ...], modes: int, beside: Path | None, as_csv: bool, as_json: bool
) -> None:
    """Natural frequencies by a hand formula; without a name: which there are.

    \b
    Example:
      holokine formula
      holokine formula "mass on a spring" mass=24kg stiffness=560N/mm
      holokine formula beam length=1m E=205GPa I=1.5e-7m^4 mass_per_length=12kg/m ends=fixed-free
    """
    from holokine.cli.mode_reports import show_formula, show_formulas

    if name is None:
        show_formulas()
    else:
        show_formula(name, inputs, modes, beside, as_json, as_csv)


@cli.command()
@_ASSEMBLY
@click.argument("page", type=click.Path(path_type=Path, dir_okay=False))
@_range
def page(assembly: Path, page: Path, wanted: ModesRange) -> None:
    """Write one HTML file in which the reader turns the model and watches its modes.

    \b
    Example:
      holokine page crate.yaml crate.html --upto 100Hz
    """
    from holokine.cli.reports import open_modes
    from holokine.progress import quiet

    _refuse_name(page, (".html", ".htm"), "page")
    open_modes(assembly, wanted).page(page)
    quiet()
    click.echo(f"wrote {page}")


@cli.command()
@_ASSEMBLY
@click.argument("page", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--sections", metavar="LIST", help="Of findings, assembly, state, modes, energy, damped, events, origin; "
              "all when left out.")  # fmt: skip
@click.option("--event", "events", multiple=True, metavar="EVENT", help="Only this event (repeatable).")
@click.option("--text", type=click.Path(path_type=Path), metavar="FILE",
              help="Markdown of your own; after '# modes' or '# kerb strike' it goes into that section.")  # fmt: skip
@click.option("--workbook", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Also every table, whole, as a workbook (.xlsx).")  # fmt: skip
@_range
def report(
    assembly: Path,
    page: Path,
    sections: str | None,
    events: tuple[str, ...],
    text: Path | None,
    workbook: Path | None,
    wanted: ModesRange,
) -> None:
    """Write one HTML page to hand over: findings, assembly, modes, energies, every event, your own text.

    \b
    Example:
      holokine report crate.yaml crate.html
      holokine report crate.run crate.html --text notes.md --workbook crate.xlsx
      holokine report crate.run crate.html --sections findings,modes,events --event "kerb strike"
    """
    from holokine.cli.reports import write_report

    _refuse_name(page, (".html", ".htm"), "page")
    if workbook is not None:
        _refuse_name(workbook, (".xlsx",), "workbook")
    chosen = None if sections is None else [s.strip() for s in sections.split(",") if s.strip()]
    write_report(assembly, wanted, page, chosen, events or None, text, workbook)


def _refuse_name(path: Path, endings: tuple[str, ...], what: str) -> None:
    """Raise for a file that would have a wrong ending or no folder, before anything is solved."""
    if path.suffix.lower() not in endings:
        raise click.UsageError(f"{path}: the {what}'s name must end with {endings[0]}")
    if not path.resolve().parent.is_dir():
        raise click.UsageError(f"{path}: there is no folder {path.resolve().parent}")


@cli.command()
@click.argument("spectrum", type=click.Path(path_type=Path))
@click.option("--damping", default="5 %", show_default=True, metavar="RATIO", help="Damping ratio of the spectrum.")
@click.option("--per-octave", type=click.IntRange(min=1, max=24), default=6, show_default=True, help="Windowed sines.")
@click.option("--duration", metavar="TIME", help="Longest length, such as 0.8s; 7 half-cycles of the lowest frequency.")
@click.option("--seed", type=int, default=1, show_default=True, help="Another start gives another record.")
@_output
def match(
    spectrum: Path,
    damping: str,
    per_octave: int,
    duration: str | None,
    seed: int,
    to: Delivery,
) -> None:
    """Make a record in time whose shock spectrum is the one given, so that it can be run as a pulse.

    \b
    Example:
      holokine match works.csv --damping 2% --out results
    """
    from holokine.cli.mode_reports import deliver_match

    keys = {"damping": damping, "per_octave": per_octave, "duration": duration, "seed": seed}
    deliver_match(spectrum, keys, to)


@cli.command()
@click.argument("record", type=click.Path(path_type=Path))
@click.option("--event", metavar="EVENT", help="RECORD is an assembly or run file: answer this pulse first ...")
@click.option(
    "--gauge",
    metavar="GAUGE",
    help="... and take this acceleration's history, such as 'fan z', or a point's: 'bed a1 z'.",
)
@click.option(
    "--from",
    "low",
    default=None,
    metavar="FREQ",
    help="Lowest natural frequency, or longest period as 0.5s; 5 Hz when left out.",
)
@click.option(
    "--to",
    "high",
    default=None,
    metavar="FREQ",
    help="Highest natural frequency, or shortest period; 2 kHz when left out.",
)
@click.option("--per-octave", type=click.IntRange(min=1), default=None, metavar="N",
              help="Frequencies per octave; by default what the damping asks for (53 at 2 %, 22 at 5 %).")  # fmt: skip
@click.option("--frequencies", default=None, metavar="LIST",
              help="The natural frequencies themselves, such as '20,31.5,50 Hz', in place of a range.")  # fmt: skip
@click.option("--damping", multiple=True, metavar="RATIO", help="Damping ratio (repeatable); 5 % when left out.")
@click.option(
    "--q", "factors", multiple=True, type=float, metavar="Q", help="Quality factor, 1/(2 ratio) (repeatable)."
)
@click.option("--by", type=click.Choice(["frequency", "period"]), default="frequency", show_default=True,
              help="First column of the table.")  # fmt: skip
@click.option("--of", "of", default="absolute acceleration", show_default=True, metavar="QUANTITY",
              help="absolute acceleration, pseudo-acceleration, pseudo-velocity, relative displacement.")  # fmt: skip
@click.option("--side", "sides", multiple=True, default=("maximax",), show_default=True, metavar="SIDE",
              help="maximax, positive, negative, primary, residual (repeatable).")  # fmt: skip
@click.option("--remove-offset", is_flag=True, help="Take the mean of the record off first.")
@click.option("--broaden", default="0", metavar="SHARE", help="Hold every value over this share of its frequency.")
@_output
def srs(
    record: Path,
    event: str | None,
    gauge: str | None,
    low: str | None,
    high: str | None,
    per_octave: int | None,
    frequencies: str | None,
    damping: tuple[str, ...],
    factors: tuple[float, ...],
    by: str,
    of: str,
    sides: tuple[str, ...],
    remove_offset: bool,
    broaden: str,
    to: Delivery,
) -> None:
    """Shock response spectra of a record, or of a gauge's history.

    \b
    Example:
      holokine srs record.csv --from 5Hz --to 2kHz --damping 5% --damping 2%
      holokine srs crate.run --event "kerb strike" --gauge "fan z" --to 200Hz
    """
    from holokine.cli.mode_reports import deliver_shock

    keys = {"low": low, "high": high, "per_octave": per_octave,
            "frequencies": None if frequencies is None else [x.strip() for x in frequencies.split(",") if x.strip()],
            "damping": damping or None, "q": factors, "of": of,
            "remove_offset": remove_offset, "broaden": broaden}  # fmt: skip
    deliver_shock(record, event, gauge, sides, by, keys, to)


@cli.command()
@click.option("--only", multiple=True, metavar="WORDS", help="Only cases that speak of this (repeatable).")
@click.option("--page", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
              help="Write the table, every figure and the versions as an HTML page, for the files.")  # fmt: skip
@_output
def verify(only: tuple[str, ...], page: Path | None, to: Delivery) -> None:
    """Run the verification cases on this machine: expected and computed figures, deviation, tolerance, versions.

    \b
    Example:
      holokine verify
      holokine verify --only plate --only sweep
      holokine verify --page verification.html --out evidence

    Ends with exit code 1 when a case is out of its tolerance.
    """
    from holokine.cli.verification import VerificationView

    if page is not None:
        _refuse_name(page, (".html", ".htm"), "page")
    view = VerificationView.of(only)
    view.deliver(to)
    if page is not None:
        view.found.page(page)
        if not (to.as_json or to.as_csv):
            click.echo(f"wrote {page}")
    if not view.found.ok:
        raise CheckFailedError("a verification case is out of its tolerance")


@cli.command()
@click.option("--out", type=click.Path(path_type=Path), metavar="DIR",
              help="Folder for the assembly, run file, report and workbook (crate-demo); with --all for every table "
              "and figure.")  # fmt: skip
@click.option("--all", "whole", is_flag=True, help="Every table of every step; files only with --out.")
def demo(out: Path | None, whole: bool) -> None:
    """A tour of the whole job on the shipped demo: a converter crate on the roof of a tram.

    \b
    Example:
      holokine demo
      holokine demo --out tour
      holokine demo --all --out everything

    The tour leaves its files in the folder crate-demo where it is called, or in DIR.
    """
    if whole:
        from holokine.cli.reports import run_demo

        run_demo(out)
    else:
        from holokine.cli.tour import run_tour

        run_tour(out or Path("crate-demo"))


def _keep_input(assembly: Path, write: Path | None) -> None:
    """Refuse to write over the file that is read."""
    if write is not None and write.resolve() == assembly.resolve():
        raise click.UsageError(f"--write: {write} is the assembly itself; give another name")


def _end_in_order() -> None:
    """Told to end, the process takes its temporary folders with it.

    What is raised while an object is cleared away is lost: there the signal is sent again a little later.
    """
    import signal

    def later(number: int, frame: Any) -> bool:
        while frame is not None:
            if frame.f_code.co_name == "__del__":
                threading.Timer(0.02, signal.raise_signal, (number,)).start()
                return True
            frame = frame.f_back
        return False

    def end(number: int, frame: Any) -> None:
        if not later(number, frame):
            sys.exit(128 + number)

    def interrupt(number: int, frame: Any) -> None:
        if not later(number, frame):
            raise KeyboardInterrupt

    if threading.current_thread() is not threading.main_thread():
        return
    if signal.getsignal(signal.SIGTERM) == signal.SIG_DFL:
        signal.signal(signal.SIGTERM, end)
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, interrupt)


def _streams() -> None:
    """Streams that are closed take nothing, and characters that a stream cannot show become question marks."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115
        elif hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")


def _say(text: str) -> None:
    """On the error stream, as far as that takes anything."""
    try:
        click.echo(text, err=True)
        sys.stderr.flush()
    except OSError:
        _into_nothing(sys.stderr)


def _into_nothing(stream: Any) -> None:
    """What a stream still holds goes nowhere, so that the end of the process does not stumble over it."""
    try:
        os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())
    except (OSError, ValueError):
        return


def run(arguments: list[str] | None = None) -> None:
    """Entry point: runs a command and turns errors into messages and exit codes."""
    import warnings

    from holokine.progress import listening
    from holokine.show.busy import Busy

    if "numpy" not in sys.modules:  # sums of its threads would differ in their last digits from machine to machine
        os.environ["OPENBLAS_NUM_THREADS"] = "1"
        gc.set_threshold(20_000)  # loading makes many objects and no rubbish: a look after every 700 costs a tenth
    warnings.simplefilter("ignore", HolokineWarning)  # commands print findings themselves
    _streams()
    busy = Busy()
    _end_in_order()
    try:
        with listening(busy):
            cli.main(arguments, standalone_mode=False)
        sys.stdout.flush()
    except CheckFailedError as err:
        busy.clear()
        _say(f"holokine: {err}")
        sys.exit(EXIT_CHECK)
    except HolokineError as err:
        busy.clear()
        _say(f"holokine: error: {err}")
        sys.exit(EXIT_INPUT)
    except MemoryError:
        busy.clear()
        _say(
            f"holokine: error: there is not enough memory ({busy.phase or 'at the start'}); coarsen the mesh, ask for "
            "less, or run it where there is more"
        )
        sys.exit(EXIT_INPUT)
    except (click.exceptions.Abort, KeyboardInterrupt):
        busy.clear()
        _say("holokine: stopped; nothing was left half-written")
        sys.exit(130)
    except click.ClickException as err:
        busy.clear()
        with contextlib.suppress(OSError):
            err.show()
        sys.exit(EXIT_INPUT)
    except BrokenPipeError:  # who reads has enough
        _into_nothing(sys.stdout)
        sys.exit(0)
    except OSError as err:
        busy.clear()
        _into_nothing(sys.stdout)
        _say(f"holokine: error: {f'{err.filename}: ' if err.filename else ''}cannot be written ({err.strerror or err})")
        sys.exit(EXIT_INPUT)
    finally:
        busy.clear()
