"""What every result is and can, in the same few words: findings, lines, tables, figures, a picture, files.

A class says once what it has: a method marked `table`, `figure` or `writes` is found by its name through
`Result.table`, `Result.plot` and `Result.save`, and stands at the prompt, on the screen, in JSON, in workbooks and in
reports.
"""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar

from holokine.errors import DescriptionError, OutputError, UnknownNameError, nearest_hint

if TYPE_CHECKING:
    import numpy as np
    import pandas as pd

    from holokine.api.host import AssemblyLike
    from holokine.findings import Finding

__all__ = ["Entry", "Named", "Result", "figure", "saved", "table", "writes"]

F = TypeVar("F", bound=Callable[..., Any])
Writer = Callable[[Path], Any]


@dataclass(frozen=True)
class Entry:
    """A table, a figure or a kind of file of a class of results.

    Attributes
    ----------
    name : str
        Of the table or figure; the ending of a file.
    title : str
        Over the table on a screen, below the figure; empty: only on request.
    make : callable
        Given the result, then options.
    listed : bool
        Whether it stands among all tables (or figures); else it is made on request, as it needs to be told of what.
    hide : tuple of str
        Columns that a screen leaves out.
    most : int or None
        Rows that a screen shows, the largest by the column `by`.
    by : str
    when : callable or None
        Whether a result has it.
    """

    name: str
    title: str
    make: Callable[..., Any]
    listed: bool = True
    hide: tuple[str, ...] = ()
    most: int | None = None
    by: str = ""
    when: Callable[[Any], bool] | None = None

    @property
    def words(self) -> str:
        """The first sentence of what it is."""
        return (inspect.getdoc(self.make) or "").split("\n")[0]

    def arguments(self, words: Sequence[str]) -> list[str]:
        """Words of a command line as the arguments it takes: all of them one name where it takes one."""
        kinds = [p.kind for p in list(inspect.signature(self.make).parameters.values())[1:]]
        several = inspect.Parameter.VAR_POSITIONAL in kinds or kinds.count(inspect.Parameter.POSITIONAL_OR_KEYWORD) > 1
        return list(words) if several or not words else [" ".join(words)]

    def of(self, result: Any, *what: Any, **options: Any) -> Any:
        """Made of a result.

        Raises
        ------
        DescriptionError
            An option that it does not have, or one that it needs and that is not given.
        """
        signature = inspect.signature(self.make)
        own = signature.parameters
        open_ended = any(p.kind is p.VAR_KEYWORD for p in own.values())
        for key in options:
            if key not in own and not open_ended:
                known = nearest_hint(key, list(own)[1:], "options") if len(own) > 1 else "It takes none."
                raise DescriptionError(f'{self.name}: there is no option "{key}". {known}')
        try:
            signature.bind(result, *what, **options)
        except TypeError as err:
            needs = [k for k, p in own.items() if p.default is p.empty and p.kind is p.POSITIONAL_OR_KEYWORD]
            left = [k for k in needs[1 + len(what) :] if k not in options]
            told = f'say which {" and ".join(left)}, such as "{self.name} {left[0]}=..."' if left else str(err)
            raise DescriptionError(f"{self.name}: {told}") from None
        return self.make(result, *what, **options)


def _marked(kind: str, **keys: Any) -> Callable[[F], F]:
    def mark(make: F) -> F:
        setattr(make, f"_{kind}", Entry(make=make, **keys))
        return make

    return mark


def table(name: str, title: str = "", **keys: Any) -> Callable[[F], F]:
    """A method that makes a table (further keys: see `Entry`); the first of a class is its main one."""
    return _marked("table", name=name, title=title, **keys)


def figure(name: str, title: str = "", **keys: Any) -> Callable[[F], F]:
    """A method that draws a figure; the first of a class is its main one."""
    return _marked("figure", name=name, title=title, **keys)


def writes(*endings: str, **keys: Any) -> Callable[[F], F]:
    """A method that writes files with these endings."""
    return _marked("writes", name=" ".join(endings), title="", **keys)


class Named(Mapping[str, Any]):
    """The tables of a result by name, each made when it is looked up; or what draws each of its figures."""

    def __init__(self, result: Result, kind: str) -> None:
        self._result, self._kind = result, kind
        self._own = {e.name: e for e in result._entries(kind) if e.listed}

    def __getitem__(self, name: str) -> Any:
        draw = partial(self._own[name].of, self._result)
        return draw() if self._kind == "table" else draw

    def __iter__(self) -> Iterator[str]:
        return iter(self._own)

    def __len__(self) -> int:
        return len(self._own)

    def _ipython_key_completions_(self) -> list[str]:
        return list(self._own)

    def __repr__(self) -> str:
        return "\n".join(f"{name}: {e.words}" for name, e in self._own.items())


class Result:
    """A result: at a prompt its title, its findings, what it is, and the first rows of its main table."""

    stage: ClassVar[str] = ""
    """What its key is of."""
    rows: ClassVar[str] = "rows"
    """What the rows of its main table are."""
    unmet: ClassVar[str] = "what was asked for is not met"
    """What a command says where `ok` is false."""
    lines_first: ClassVar[int] = 1_000
    """How many of its lines are read before the tables; the others after."""
    _own: ClassVar[dict[str, dict[str, Entry]]] = {}

    def __init_subclass__(cls, **keys: Any) -> None:
        super().__init_subclass__(**keys)
        cls._own = {}
        for kind in ("table", "figure", "writes"):
            found: dict[str, Entry] = {}
            for home in reversed(cls.__mro__):
                for value in vars(home).values():
                    entry = getattr(value, f"_{kind}", None)
                    if isinstance(entry, Entry):
                        found[entry.name] = entry
            cls._own[kind] = found

    # -- what a class tells -----------------------------------------------------------------------------------

    @property
    def title(self) -> str:
        """What it is of."""
        raise NotImplementedError

    @property
    def key(self) -> str:
        """Equal for equal descriptions and requests, on every machine; empty where it has none."""
        return ""

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it."""
        return ()

    @property
    def lines(self) -> list[str]:
        """What to read first."""
        return []

    @property
    def ok(self) -> bool:
        """Whether everything is met that was asked for (limits, a threshold, a bound)."""
        return True

    @property
    def facts(self) -> dict[str, Any]:
        """Single numbers and words, for machines."""
        return {}

    @property
    def of_assembly(self) -> AssemblyLike | None:
        """The assembly that it is of; None where there is none."""
        found: AssemblyLike | None = getattr(self, "assembly", None)
        return found

    # -- tables -------------------------------------------------------------------------------------------------

    @classmethod
    def _all(cls, kind: str) -> dict[str, Entry]:
        return cls._own.get(kind, {})

    def _entries(self, kind: str) -> list[Entry]:
        return [e for e in self._all(kind).values() if e.when is None or e.when(self)]

    def _entry(self, kind: str, name: str) -> Entry:
        found = {e.name: e for e in self._entries(kind)}
        if not found:
            raise UnknownNameError(f"{self.title}: has no {kind}")
        if not name:
            return next(iter(found.values()))
        if name not in found:
            raise UnknownNameError(f'there is no {kind} "{name}" here. {nearest_hint(name, found, f"{kind}s")}')
        return found[name]

    @property
    def tables(self) -> Mapping[str, pd.DataFrame]:
        """All tables by name, made when looked up; printed, it says what each is."""
        return Named(self, "table")

    def table(self, name: str = "", *what: Any, **options: Any) -> pd.DataFrame:
        """A table by name, the main one without; with what it is to be of, and options, where it has any.

        Units stand in the names of columns, or in a column `unit` where rows differ.

        Raises
        ------
        UnknownNameError, DescriptionError
            No such table (those that there are are listed), no such option.
        """
        made: pd.DataFrame = self._entry("table", name).of(self, *what, **options)
        return made

    def array(self, name: str) -> np.ndarray[Any, Any]:
        """The numbers of this name, in SI, read-only; those that there are are listed where there is none.

        Raises
        ------
        UnknownNameError
        """
        import numpy as np

        found: dict[str, Any] = {}
        for home in (self, getattr(self, "set", None), getattr(self, "result", None)):
            if home is not None:
                names = [n for n in dir(type(home)) if not n.startswith("_")] + list(getattr(home, "__dict__", {}))
                found |= {n: home for n in names if n not in found and not callable(getattr(type(home), n, None))}
        try:
            value = getattr(found[name], name)
        except KeyError:
            value = None
        if not isinstance(value, np.ndarray):
            arrays = [n for n, home in found.items() if not n.startswith("_") and _is_array(home, n)]
            raise UnknownNameError(f'there is no array "{name}" here. {nearest_hint(name, arrays, "arrays")}')
        view = value.view()
        view.setflags(write=False)
        return view

    def screens(self, *names: str) -> list[tuple[str, pd.DataFrame]]:
        """Tables as a reader wants them first, with their titles: those of a title, or those named."""
        entries = [self._entry("table", n) for n in names]
        entries = entries or [e for e in self._entries("table") if e.title and e.listed]
        shown = []
        for e in entries:
            whole = e.of(self)
            if len(whole):
                shown.append(self._screen(e, whole))
        return shown

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        """A title and the columns and rows that a screen shows."""
        title, short = entry.title or entry.name.replace("_", " "), whole
        if entry.most is not None and len(whole) > entry.most:
            title += f", the {entry.most} largest of {len(whole)}"
            short = short.sort_values(entry.by, ascending=False, kind="stable") if entry.by else short
            short = short.head(entry.most)
        return title, short.drop(columns=[c for c in entry.hide if c in short])

    # -- figures and files ---------------------------------------------------------------------------------------

    @property
    def figures(self) -> Mapping[str, Callable[[], Any]]:
        """What draws each figure, by name."""
        return Named(self, "figure")

    def plot(self, what: Any = None, *, ax: Any = None, **options: Any) -> Any:
        """A figure by name, or the main one (of a gauge, a mode ... where it takes one); returns the Figure.

        Parameters
        ----------
        what : str or int, optional
            Name of a figure, or what the main figure is to be of.
        ax : Axes, optional
            To draw into, for figures of one pair of axes.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        found = {e.name: e for e in self._entries("figure")}
        named = isinstance(what, str) and what in found
        entry = found[what] if named else self._entry("figure", "")
        own = list(inspect.signature(entry.make).parameters.values())[1:]
        takes = [p for p in own if p.name != "ax" and p.kind is p.POSITIONAL_OR_KEYWORD]
        odd = isinstance(what, str) and bool(takes) and str(takes[0].annotation).startswith("int")
        if what is not None and not named and (odd or not takes):
            raise UnknownNameError(f'there is no figure "{what}" here. {nearest_hint(str(what), found, "figures")}')
        if ax is not None:
            if not any(p.name == "ax" for p in own):
                raise DescriptionError(f"ax: the figure {entry.name} has several axes of its own; leave ax out")
            options["ax"] = ax
        drawn = entry.of(self, *(() if what is None or named else (what,)), **options)
        return drawn if hasattr(drawn, "savefig") else drawn.figure

    def picture(self, path: str | Path, **options: Any) -> Path:
        """A picture of the assembly with this result on it, as PNG; options as `save` takes them.

        Raises
        ------
        OutputError
            A result that has none.
        """
        target = Path(path)
        entry = next((e for e in self._entries("writes") if ".png" in e.name.split()), None)
        if entry is None:
            raise OutputError(f"{target.name}: there is no picture of this result; plot() draws its figures")
        entry.of(self, target, **options)
        return target

    def save(self, path: str | Path, **options: Any) -> Path:
        """Write it as its ending says: csv (a table, by `table`), xlsx (all tables), html, png, and what a class adds.

        Raises
        ------
        OutputError, DescriptionError
            Another ending (those that there are are listed), an option that this kind of file does not have.
        """
        target = Path(path)
        known = {ending: e for e in self._entries("writes") for ending in e.name.split()}
        entry = known.get(target.suffix.lower())
        if entry is None and target.suffix.lower() == ".png" and self._entries("figure"):
            from holokine.show.figures import save

            save(self.plot(options.pop("what", None), **options), target)
            return target
        if entry is None:
            raise OutputError(f"{target}: this result is saved as {', '.join(sorted(known))}")
        entry.of(self, target, **options)
        return target

    @writes(".csv")
    def _csv(self, path: Path, *, table: str = "", **options: Any) -> None:
        """A table, the main one without a name."""
        from holokine.whole import whole_csv

        whole_csv(self.table(table, **options), path)

    @writes(".xlsx")
    def _workbook(self, path: Path) -> None:
        """Every table, a sheet each."""
        from holokine.show.workbook import write_workbook

        write_workbook(path, {n: t for n, t in self.tables.items() if len(t)}, f"{self.title}; {self.footer}")

    @writes(".html")
    def _page(self, path: Path) -> None:
        """Findings, lines, tables and figures on one page."""
        from holokine.show.report import Section, write_report

        section = Section(self.title, self.lines, self.findings)
        for title, shown in self.screens():
            section.with_table(title, shown)
        for name, draw in self.figures.items():
            section.with_figure(name.replace("_", " "), draw)
        write_report(path, self.title, [section], self.footer)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """What writes each further file (pictures, meshes, pages) by the ending after the result's name.

        `draw`: how pictures are drawn.
        """
        return {}

    @property
    def footer(self) -> str:
        """Version and key."""
        from holokine.version import __version__

        return f"holokine {__version__}" + (f", key of the {self.stage} {self.key[:12]}" if self.key else "")

    # -- at a prompt --------------------------------------------------------------------------------------------

    @property
    def _first_rows(self) -> pd.DataFrame | None:
        """The main table as a prompt shows it."""
        entries = self._entries("table")
        return None if not entries or not entries[0].title else self._screen(entries[0], entries[0].of(self))[1]

    @property
    def _first_lines(self) -> Sequence[str]:
        return self.lines

    def __repr__(self) -> str:
        from holokine.show.short import result_short

        return result_short(self.title, self._first_lines, self._first_rows, self.rows, self.findings)

    def _repr_html_(self) -> str:
        from holokine.show.short import as_html

        return as_html(self.title, self._first_lines, self._first_rows, self.rows, self.findings)


def _is_array(home: Any, name: str) -> bool:
    """Whether an attribute is an array, as far as that can be told without computing anything."""
    import numpy as np

    kept = getattr(home, "__dict__", {})
    if name in kept:
        return isinstance(kept[name], np.ndarray)
    made = getattr(type(home), name, None)
    told = getattr(getattr(made, "fget", None) or getattr(made, "func", None), "__annotations__", {}).get("return", "")
    return any(word in str(told) for word in ("NDArray", "Floats", "ndarray"))


def saved(table_of: Result, name: str, **options: Any) -> Writer:
    """What writes one table as CSV."""
    return lambda path: table_of.save(Path(path).with_suffix(".csv"), table=name, **options)
