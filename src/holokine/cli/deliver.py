"""How every command delivers a result: on the screen, as JSON or CSV, and into files."""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from functools import partial, wraps
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from holokine.cli.terminal import Screen
from holokine.errors import CheckFailedError, OutputError, UnknownNameError, nearest_hint
from holokine.progress import quiet, tell
from holokine.version import __version__
from holokine.whole import csv_text, whole_csv, whole_file

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.result import Result

__all__ = ["SHARED", "Command", "Delivery", "deliver", "deliver_all", "delivered", "file_name", "records"]

ABOUT = "about.txt"
_LONGEST = 80
_FILM = {"film", "size", "rate", "seconds", "window", "frames"}


@dataclass(frozen=True)
class Delivery:
    """In which form, and into which files, a command delivers.

    Attributes
    ----------
    tables : tuple of (str, tuple, dict)
        Tables asked for by name, with what each is to be of and its options; none: those that matter first.
    draw : dict
        How pictures and films are drawn.
    """

    as_json: bool = False
    as_csv: bool = False
    whole: bool = False
    out: Path | None = None
    save: Path | None = None
    tables: tuple[tuple[str, tuple[Any, ...], dict[str, Any]], ...] = ()
    sort: str | None = None
    top: int | None = None
    draw: dict[str, Any] = field(default_factory=dict)

    def sorted(self, table: pd.DataFrame) -> pd.DataFrame:
        """Rows by the column asked for, largest size first (modes and frequencies rising), and the first of them.

        Raises
        ------
        UnknownNameError
            With the nearest column and all there are.
        """
        if self.sort is not None:
            if self.sort not in table:
                hint = nearest_hint(self.sort, list(map(str, table.columns)), "columns")
                raise UnknownNameError(f'there is no column "{self.sort}". {hint}')
            rising = self.sort == "mode" or self.sort.endswith("_hz") or table[self.sort].dtype == object
            key = table[self.sort] if rising else -table[self.sort].abs()
            table = table.loc[key.sort_values(kind="stable").index].reset_index(drop=True)
        return table if self.top is None else table.head(self.top)

    def films(self, asked: bool) -> dict[str, Any]:
        """How films are drawn: ending, pixels, rate, seconds, window.

        Raises
        ------
        UsageError
            Keys of a film where none is asked for.
        """
        found = {k: v for k, v in self.draw.items() if k in _FILM}
        if found and not asked:
            raise click.UsageError(f"--draw {next(iter(found))}=... belongs to --animate")
        if "size" in found:
            from holokine.show.scene import film_pixels

            size = str(found.pop("size")).lower().split("x")
            if len(size) != 2 or not all(p.strip().isdigit() for p in size):
                raise click.UsageError("--draw size=...: expected width x height in pixels, such as size=1280x800")
            found["pixels"] = film_pixels((int(size[0]), int(size[1])))
        if found.get("film", "gif") not in ("gif", "mp4"):
            raise click.UsageError(f"--draw film=...: expected gif or mp4, got {found['film']}")
        return found

    @property
    def pictures(self) -> dict[str, Any]:
        """How pictures are drawn."""
        return {k: v for k, v in self.draw.items() if k not in _FILM}


class Shared(click.Option):
    """An option that every command has: told once, by `holokine --help`."""


def _shared(*names: str, **keys: Any) -> Any:
    return click.option(*names, cls=Shared, **keys)


SHARED = (
    _shared("--draw", multiple=True, metavar="KEY=VALUE", help="How pictures and films are drawn: view=front, "
            "only=deck, colour=stress, film=mp4, size=1280x800, rate=24, seconds=6, window='0s to 80ms', shapes=6."),
    _shared("--save", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
            help="Save it as the ending says: csv, xlsx, html, png, vtu; modes as run, html, gif, mp4."),
    _shared("--out", type=click.Path(path_type=Path, file_okay=False), metavar="DIR",
            help="Write tables (CSV), figures and pictures (PNG) into this folder."),
    _shared("--csv", "as_csv", is_flag=True, help="Print the main (or first asked) table as CSV only."),
    _shared("--json", "as_json", is_flag=True, help="Print everything as JSON only."),
    _shared("--all", "whole", is_flag=True, help="Long tables whole, on a terminal too."),
    _shared("--top", type=click.IntRange(min=1), metavar="N", help="Only the first N rows of the tables asked for."),
    _shared("--sort", metavar="COLUMN", help="Sort the tables asked for by a column of the CSV."),
    _shared("--table", multiple=True, metavar="'NAME ...'", help="Only this table, with its options, such as 'energy "
            "group' (repeatable); ? lists all."),
)  # fmt: skip


class Command(click.Command):
    """A command that lists its own options, and names those that every command has."""

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        own = [p for p in self.get_params(ctx) if isinstance(p, click.Option) and not isinstance(p, Shared)]
        with formatter.section("Options"):
            formatter.write_dl([r for p in own if (r := p.get_help_record(ctx)) is not None])
        shared = [p.opts[0] for p in self.get_params(ctx) if isinstance(p, Shared)]
        if shared:
            with formatter.section("Tables, files and pictures (holokine --help tells what each does)"):
                formatter.write_text(" ".join(shared))


def delivered(command: Any) -> Any:
    """The options of form, files and drawing, given to the command as `to`."""

    @wraps(command)
    def run(*args: Any, as_json: bool, as_csv: bool, whole: bool, out: Path | None, save: Path | None,
            table: tuple[str, ...], sort: str | None, top: int | None, draw: tuple[str, ...],
            **keys: Any) -> Any:  # fmt: skip
        if as_json and as_csv:
            raise click.UsageError("give --json or --csv, not both")
        if draw and out is None and save is None:
            raise click.UsageError("--draw is for the pictures in --out DIR or --save FILE")
        if (sort or top) and not table:
            raise click.UsageError("--sort and --top are for the tables asked for by --table")
        tables = tuple(_asked(t) for t in table)
        to = Delivery(as_json, as_csv, whole, out, save, tables, sort, top, _drawn(draw))
        return command(*args, to=to, **keys)

    for option in SHARED:
        run = option(run)
    return run


def _value(text: str) -> Any:
    """A word of a command line as Python takes it: a number, yes or no, a list, or the word."""
    if "," in text:
        return [_value(part.strip()) for part in text.split(",") if part.strip()]
    if text.lower() in ("yes", "no", "true", "false"):
        return text.lower() in ("yes", "true")
    for kind in (int, float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text


def _asked(text: str) -> tuple[str, tuple[Any, ...], dict[str, Any]]:
    try:
        words = shlex.split(text)
    except ValueError as err:
        raise click.UsageError(f"--table {text}: {err}") from None
    if not words:
        raise click.UsageError("--table: expected the name of a table; ? lists them")
    options = {k.replace("-", "_"): _value(v) for k, sign, v in (w.partition("=") for w in words[1:]) if sign}
    return words[0], tuple(w for w in words[1:] if "=" not in w), options


def _titles(asked: Iterable[tuple[str, tuple[Any, ...], dict[str, Any]]]) -> list[str]:
    """What each table asked for is called: by its name, and where a name comes twice by what it is of too."""
    asked = list(asked)
    names = [name for name, _, _ in asked]
    found: list[str] = []
    for name, what, options in asked:
        more = [*map(str, what), *(f"{k} {v}" for k, v in options.items())] if names.count(name) > 1 else []
        title = " ".join([name, *more])
        found.append(title if title not in found else f"{title} {len(found) + 1}")
    return found


def _drawn(given: Iterable[str]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    known = ("view", "only", "colour", "share", "sections", "shapes", *sorted(_FILM))
    for text in given:
        key, sign, value = text.partition("=")
        if not sign or not value:
            raise click.UsageError(f"--draw {text}: expected KEY=VALUE, such as view=front")
        if key not in known:
            raise click.UsageError(f"--draw {key}: {nearest_hint(key, known, 'keys')}")
        if key == "only":
            found[key] = [*found.get(key, []), value]
        elif key == "window":
            found[key] = value.replace(",", " ").split(" to ") if " to " in value else value.replace(",", " ").split()
        else:
            found[key] = _value(value)
    return found


def file_name(text: str, among: Iterable[str] = ()) -> str:
    """A name as the name of a file: letters, digits and underscores.

    A long one is cut; that one, and one that reads like another of `among`, is told apart by a digest.
    """

    def plain(words: str) -> str:
        return "".join(c if c.isalnum() else "_" for c in words.strip().lower()) or "event"

    name = plain(text)
    if len(name.encode()) <= _LONGEST and not any(other != text and plain(other) == name for other in among):
        return name
    short = name.encode()[: _LONGEST - 9].decode(errors="ignore")
    return f"{short}_{sha256(text.encode()).hexdigest()[:8]}"


def refuse_file(path: Path | None, kind: Any) -> None:
    """Raise for a file that would have a wrong ending or no folder, before anything is solved.

    Raises
    ------
    UsageError, RunFileError
    """
    if path is None:
        return
    endings = sorted({e for entry in kind._all("writes").values() for e in entry.name.split()} | {".png"})
    if path.suffix.lower() not in endings:
        raise click.UsageError(f"--save {path}: this is saved as {', '.join(endings)}")
    if not path.resolve().parent.is_dir():
        raise click.UsageError(f"--save {path}: there is no folder {path.resolve().parent}")
    if path.suffix.lower() == ".run":
        from holokine.store.run_file import refuse_overwriting

        refuse_overwriting(path)


def deliver(
    result: Result,
    to: Delivery,
    *,
    stem: str = "",
    beside: Mapping[str, Result] | None = None,
    files: dict[str, Callable[[Path], Any]] | None = None,
    figures: dict[str, Callable[[], Any]] | None = None,
    notes: tuple[Any, ...] = (),
) -> None:
    """Write to files first, then print in the form asked for; what is not met ends in an error.

    Parameters
    ----------
    stem : str
        Before the names of files and tables.
    beside : dict of str to Result, optional
        Further results in the same delivery, by what stands before the names of their tables.
    files, figures : dict, optional
        In place of the result's own, by the ending after `stem`.
    notes : tuple of Finding
        Findings of the command besides those of the result.

    Raises
    ------
    CheckFailedError
        Something that was asked for is not met.
    """
    if any(name == "?" for name, _, _ in to.tables):
        for entry in result._entries("table"):
            click.echo(f"{entry.name}: {entry.words}")
        return
    others = list((beside or {}).values())
    every = {stem: result, **{(f"{stem}_{k}" if stem else k): v for k, v in (beside or {}).items()}}
    entries = [result._entry("table", name) for name, _, _ in to.tables]
    made = [to.sorted(e.of(result, *(_value(w) for w in e.arguments(what)), **options))
            for e, (_, what, options) in zip(entries, to.tables, strict=True)]  # fmt: skip
    asked = list(zip(_titles(to.tables), made, strict=True))
    screens = [result._screen(e, t) if to.sort is None and to.top is None else (e.title or e.name, t)
               for e, t in zip(entries, made, strict=True)]  # fmt: skip
    written = write_files(every, asked, to, files, figures)
    if to.save is not None:
        _save(result, asked, to)
        written.append(to.save)
    quiet()
    more = (f for other in others for f in other.findings if f not in result.findings)
    findings = (*result.findings, *more, *notes)
    if to.as_json:
        click.echo(json.dumps(_data(every, asked, findings), indent=2, allow_nan=False, default=str))
    elif to.as_csv:
        click.echo(csv_text(asked[0][1] if asked else result.table()), nl=False)
    else:
        screen, told = Screen(to.whole), result.lines
        screen.heading(result.title)
        screen.lines(told[: result.lines_first] if not asked else [])
        for other in others:
            screen.lines(other.lines)
        # what an option asked for beside a result of another kind comes before it
        shown = [result, *others] if all(isinstance(o, type(result)) for o in others) else [*others, result]
        for own in (screens,) if asked else [r.screens() for r in shown]:
            for title, table in own:
                screen.table(title, table)
        screen.findings(findings)
        screen.lines(told[result.lines_first :] if not asked else [])
        screen.footer(result.footer)
        for path in written:
            click.echo(f"wrote {path}")
    for one in every.values():
        if not one.ok:
            raise CheckFailedError(one.unmet)


def _save(result: Result, asked: list[tuple[str, pd.DataFrame]], to: Delivery) -> None:
    """Save the tables asked for, where the file holds tables; else the result as its ending says.

    Raises
    ------
    UsageError
        Several tables for a file of one.
    """
    assert to.save is not None
    ending = to.save.suffix.lower()
    if not asked or ending not in (".csv", ".xlsx"):
        result.save(to.save, **to.pictures)
    elif ending == ".xlsx":
        from holokine.show.workbook import write_workbook

        write_workbook(to.save, dict(asked), f"{result.title}; {result.footer}")
    elif len(asked) == 1:
        whole_csv(asked[0][1], to.save)
    else:
        raise click.UsageError(f"--save {to.save}: a CSV file holds one table, {len(asked)} are asked for; "
                               "--save to .xlsx, or --out DIR")  # fmt: skip


def deliver_all(results: Iterable[tuple[str, Result]], out: Path | None) -> None:
    """Print several results, and write all of them into a folder."""
    for stem, result in results:
        try:
            deliver(result, Delivery(out=out), stem=stem)
        except CheckFailedError as err:
            click.echo(f"not met: {err}")


def _tables(every: Mapping[str, Result], asked: list[tuple[str, pd.DataFrame]]) -> dict[str, pd.DataFrame]:
    if asked:
        return dict(asked)
    found: dict[str, pd.DataFrame] = {}
    for stem, result in every.items():
        for name, table in result.tables.items():
            found[f"{stem}_{name}" if stem else name] = table
    return found


def _data(
    every: Mapping[str, Result], asked: list[tuple[str, pd.DataFrame]], findings: Iterable[Any]
) -> dict[str, Any]:
    first = next(iter(every.values()))
    assembly = first.of_assembly
    data: dict[str, Any] = {"holokine": __version__, "title": first.title}
    if assembly is not None:
        data |= {"assembly": assembly.title, "state": assembly.description.state}
    if first.key:
        data |= {"stage": first.stage, "key": first.key}
    for result in every.values():
        data |= result.facts
    data["lines"] = [line for result in every.values() for line in result.lines]
    data["findings"] = [f.data for f in findings]
    return data | {"tables": {name: records(table) for name, table in _tables(every, asked).items()}}


def records(table: pd.DataFrame) -> list[dict[str, Any]]:
    """Rows as JSON takes them: nothing where there is no number, or none that is finite."""
    clean = table.astype(object).where(table.notna(), None)
    return [
        {str(k): (None if isinstance(v, float) and v in (float("inf"), float("-inf")) else v) for k, v in row.items()}
        for row in clean.to_dict("records")
    ]


def write_files(
    every: Mapping[str, Result],
    asked: list[tuple[str, pd.DataFrame]],
    to: Delivery,
    files: dict[str, Callable[[Path], Any]] | None,
    figures: dict[str, Callable[[], Any]] | None,
) -> list[Path]:
    """Write each table as CSV, each figure as PNG, and files that write themselves to a path.

    A file appears only when it is complete. What made each file stands in `ABOUT` beside them, a line per file, in
    which a later run replaces the lines of the files that it writes anew.
    """
    if to.out is None:
        return []
    try:
        to.out.mkdir(parents=True, exist_ok=True)
    except OSError as err:
        raise OutputError(f"{to.out}: cannot be used as a folder ({err.strerror})") from None
    work: dict[str, Callable[[Path], Any]] = {}
    first = next(iter(every.values()))
    for name, table in ((n, t) for n, t in _tables(every, asked).items() if len(t)):
        work[(file_name(name) if asked else name) + ".csv"] = partial(whole_csv, table)
    for stem, result in () if asked else every.items():
        own = result.figures if figures is None or result is not first else figures
        for name, draw in own.items():
            work[file_name("_".join(w for w in (stem, name) if w)) + ".png"] = partial(_drawn_to, draw)
        more = result.files(**to.pictures) if files is None or result is not first else files
        work |= {f"{stem}{ending}" if ending[:1] in "._" else ending: write for ending, write in more.items()}
    written: list[Path] = []
    for name, write in work.items():
        tell(f"writing {name}", len(written), len(work), "files")
        write(to.out / name)
        written.append(to.out / name)
    _note(to.out / ABOUT, [path.name for path in written], first.footer)
    return written


def _drawn_to(draw: Callable[[], Any], path: Path) -> None:
    from holokine.show.figures import save

    save(draw(), path)


def _note(path: Path, names: list[str], footer: str) -> None:
    """Say of each file what made it."""
    old: dict[str, str] = {}
    if path.is_file():
        lines = path.read_text(encoding="utf-8", errors="replace").splitlines()
        old = dict(line.split(": ", 1) for line in lines if ": " in line)
    told = {**old, **dict.fromkeys(names, footer)}
    with whole_file(path) as part:
        part.write_text("".join(f"{name}: {what}\n" for name, what in told.items()), encoding="utf-8")
