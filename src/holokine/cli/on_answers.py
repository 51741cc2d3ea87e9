"""Commands about answers to events, and about two things side by side: respond, compare."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import click

from holokine.api.answer import Answer
from holokine.api.answers import answer_class, homes
from holokine.cli.deliver import Command, Delivery, deliver, delivered, file_name, refuse_file
from holokine.cli.source import Range, assembly_argument, assembly_of, modes_of, ranged
from holokine.errors import SelectionError
from holokine.findings import Finding

__all__ = ["compare", "respond"]


@click.command(cls=Command)
@assembly_argument
@click.argument("event")
@click.option("--against-rules", is_flag=True, help="A pulse in time against every rule under its spectra instead.")
@click.option(
    "--follow", is_flag=True, help="What acts one way lets go and hits as it does: in time, and over a sweep."
)
@click.option("--at", metavar="TIME",
              help="Also the deformed shape at this instant, as 27ms; of a sweep '45Hz, 90deg'.")  # fmt: skip
@click.option("--animate", "gauge", metavar="GAUGE", help="Film above this gauge's history into --out; of a sweep one "
              "cycle at its peak.")  # fmt: skip
@click.option("--with", "others", multiple=True, metavar="EVENT", help="Draw another sweep of the file into the same "
              "figure (repeatable; needs --out DIR).")  # fmt: skip
@click.option("--linear", type=click.Choice(["frequency", "amplitude", "both"]),
              help="Linear axes of a sweep's figure.")  # fmt: skip
@ranged("count", "upto", "as_saved")
@delivered
def respond(
    assembly: Path, event: str, against_rules: bool, follow: bool, at: str | None, gauge: str | None,
    others: tuple[str, ...], linear: str | None, wanted: Range, to: Delivery,
) -> None:  # fmt: skip
    """Response of all gauges to an event of the assembly file (or of a run file, without extracting again).

    \b
    Example:
      holokine respond crate.run "works shock" --table rules --table missing_mass
      holokine respond crate.run "kerb strike" --at 27ms --out results
      holokine respond crate.run "kerb strike" --animate "fan z" --out results --draw "window=0s to 80ms"
      holokine respond crate.run shaker --with "fan run-up" --linear frequency --out results

    Ends with exit code 1 when a limit of the assembly file is not met. Guide: responses.
    """
    refuse_file(to.save, Answer)
    if gauge is not None and to.out is None:
        raise click.UsageError("--animate needs --out DIR")
    if (others or linear) and to.out is None:
        raise click.UsageError("--with and --linear are for the figure in --out DIR")
    films = to.films(gauge is not None)
    refuse = partial(_refuse, event=event, others=others, follow=follow, needs={
        "--animate": (gauge is not None, "writes", ".gif .mp4"), "--at": (at is not None, "method", "deformed"),
        "--with and --linear": (bool(others or linear), "figure", "amplitudes"),
        "--against-rules": (against_rules, "method", "against_rules"),
        **{f"--table {name}": (name != "?", "table", name) for name, _, _ in to.tables},
    })  # fmt: skip
    from holokine.store.run_file import is_run_file

    notes: tuple[Finding, ...] = ()
    if is_run_file(assembly) or (opened := assembly_of(assembly)).event_named(event).needs_modes:
        answer: Any = modes_of(assembly, wanted, before=refuse).respond(event, follow=follow)
    else:
        refuse(opened)
        answer = opened.respond(event)
        if wanted.given:
            told = f"{answer.event.words} need no modes: --count and --upto change nothing here"
            notes = (Finding("note", told, "needs no modes"),)
    stem = file_name(answer.name, answer.assembly.description.events)
    if against_rules:
        deliver(answer.against_rules(), to, stem=f"{stem}_against_rules")
        return
    files, figures = (answer.files(**to.pictures), answer.figures) if to.out is not None else (None, None)
    if others or linear:
        more = {other: answer.modes.respond(other, follow=follow) for other in others}
        axes = {} if linear is None else {"logarithmic": (linear == "amplitude", linear == "frequency")}
        figures = {**answer.figures, "amplitudes": partial(answer.plot, others=more, **axes)}
    if gauge is not None:
        film = f".{films.pop('film', 'gif')}"
        files = {**(files or {}), film: partial(answer.save, gauge=gauge, **films)}
    beside = {} if at is None else {f"at_{file_name(at)}": _deformed(answer, at)}
    deliver(answer, to, stem=stem, beside=beside, files=files, figures=figures, notes=notes)


def _deformed(answer: Any, at: str) -> Any:
    made = answer.deformed
    return made(at) if callable(made) else made


def _refuse(
    assembly: Any, event: str, others: tuple[str, ...], needs: dict[str, tuple[bool, str, str]], follow: bool
) -> None:
    """Raise for what an event of this kind cannot show, before anything is solved."""
    described = assembly.event_named(event)
    if follow:
        described = described.following()

    def has(kind: Any, what: str, name: str) -> bool:
        return hasattr(kind, name) and callable(getattr(kind, name)) if what == "method" else name in kind._all(what)

    own = answer_class(described)
    for option, (asked, what, name) in needs.items():
        if asked and not has(own, what, name):
            found = " and ".join(homes(partial(has, what=what, name=name)))
            verb = "belong" if " and " in option else "belongs"
            if not found:
                own._refuse(what, name)
            raise click.UsageError(f"{option} {verb} to {found}; this event is one of {described.words}")
    for other in others:
        kind = assembly.event_named(other)
        if type(kind) is not type(described):
            raise click.UsageError(f'"{other}" is one of {kind.words}; beside "{event}" go {described.words} only')


@click.command(cls=Command)
@assembly_argument
@click.argument("others", nargs=-1, type=click.Path(path_type=Path))
@click.option("--variant", "variants", multiple=True, metavar="NAME", help="A variant of the file (repeatable); all of "
              "them when nothing else is named.")  # fmt: skip
@click.option("--mass-matrices", is_flag=True, help="Consistent against lumped, and lumped without rotary inertia.")
@click.option("--with-state", "states", multiple=True, metavar="NAME",
              help="The same about another state of the file (repeatable); none: the unloaded shape.")  # fmt: skip
@click.option("--adjust", "adjusted", multiple=True, metavar="'MEMBER: stiffness 1.5, mass 0.9'",
              help="Members or groups stiffer or lighter by factors: predicted against actual.")  # fmt: skip
@click.option("--ritz", metavar="EVENT", help="The lowest modes against load-dependent vectors for this event.")
@click.option("--vectors", type=click.IntRange(min=1), default=12, show_default=True, help="How many for --ritz.")
@ranged("count", "upto", "as_saved")
@delivered
def compare(
    assembly: Path, others: tuple[Path, ...], variants: tuple[str, ...], mass_matrices: bool, states: tuple[str, ...],
    adjusted: tuple[str, ...], ritz: str | None, vectors: int, wanted: Range, to: Delivery,
) -> None:  # fmt: skip
    """Pair the modes of an assembly with those of variants, of other files, or of members stiffer or lighter.

    \b
    Example:
      holokine compare crate.yaml --variant "thicker deck"
      holokine compare before.run after.run
      holokine compare crate.yaml --state none --with-state parked
      holokine compare crate.run --adjust "deck: stiffness 1.5"
      holokine compare crate.run --ritz "kerb strike" --vectors 6

    Guide: comparing.
    """
    factors = _factors(adjusted)
    candidates: list[tuple[str, Any]] = [(str(p), p) for p in others]

    def before(a: Any) -> None:
        if factors:
            a.adjusted(factors)
        if ritz is not None:
            a.loads_of(ritz)
        if (not factors and ritz is None) or others or variants or mass_matrices or states:
            candidates.extend(_candidates(a, others, variants, mass_matrices, states))

    first = modes_of(assembly, wanted, before=before)
    own: Any = first.assembly
    results: dict[str, Any] = {}
    if factors:
        results["adjusted"] = first.adjust(factors)
    if ritz is not None:
        results["ritz"] = first.against_ritz(ritz, vectors)
    for name, other in candidates:
        after = _modes_of(other, wanted, len(first))
        key = file_name(name, own.variants)
        results[f"{key}_{len(results)}" if key in results else key] = first.compare(after).named(name)
    stems = list(results)
    beside = {k: results[k] for k in stems[1:]}
    deliver(results[stems[0]], to, stem=stems[0], beside=beside)


def _factors(given: tuple[str, ...]) -> dict[str, dict[str, float]]:
    from holokine.units import quantity

    found: dict[str, dict[str, float]] = {}
    for text in given:
        member, colon, rest = text.rpartition(":")
        own = [part.split() for part in rest.split(",")]
        if not colon or any(len(p) != 2 or p[0] not in ("stiffness", "mass") for p in own):
            raise click.UsageError(f"--adjust {text}: expected 'MEMBER: stiffness 1.5, mass 0.9'")
        found[member.strip()] = {word: quantity(factor, "number") for word, factor in own}
    return found


def _candidates(
    assembly: Any, others: tuple[Path, ...], variants: tuple[str, ...], mass_matrices: bool, states: tuple[str, ...]
) -> list[tuple[str, Any]]:
    """What to compare with, checked before anything is solved."""
    found: list[tuple[str, Any]] = []
    if mass_matrices:
        now = assembly.description.mass_matrix
        kinds = [k for k in ("consistent", "lumped", "lumped without rotary") if k != now]
        found += [(f"{k} mass", assembly.changed({"mass matrix": k})) for k in kinds]
    for state in states:
        other = assembly.about(None if state == "none" else state)
        if other is assembly:
            raise SelectionError(f"--with-state {state}: the modes before are about it already (see --state)")
        found.append(("no state" if state == "none" else f"about {state}", other))
    names = variants or (() if others or mass_matrices or states else assembly.variants)
    found += [(name, assembly.variant(name)) for name in names]
    if not found and not others:
        raise SelectionError(
            "there is nothing to compare with: name other files, give the assembly variants, or ask for "
            "--mass-matrices, --with-state, --adjust or --ritz"
        )
    return found


def _modes_of(other: Any, wanted: Range, count: int) -> Any:
    if isinstance(other, Path):
        from holokine.store.run_file import is_run_file

        return modes_of(other, Range(as_saved=wanted.as_saved) if is_run_file(other) else wanted)
    return other.modes(count + 4 + count // 5)  # some more than before, for those that moved up
