"""The one family of errors that Holokine raises on bad input or failed computations.

Every message says what is wrong and where, and, where it can, what was expected and the remedy.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager
from operator import index
from reprlib import Repr
from typing import Any

__all__ = [
    "CheckFailedError", "ConstraintError", "DescriptionError", "EquilibriumError", "EventError", "HolokineError",
    "HolokineWarning", "MechanismError", "MeshError", "MissingExtraError", "OutOfMemoryError", "OutputError",
    "RunFileError", "SelectionError", "SolverError", "StaleError", "UnitError", "UnknownKeyError", "UnknownNameError",
]  # fmt: skip

_SHORT = Repr()
_SHORT.maxstring = _SHORT.maxother = _SHORT.maxlong = 80
_SHORT.maxlist = _SHORT.maxtuple = _SHORT.maxdict = 8


def shown(value: object) -> str:
    """A value in a message, as Python writes it, in at most some sixty characters."""
    text = _SHORT.repr(value)
    return text if len(text) < 60 else text[:57] + "..."


@contextmanager
def headed(head: str = "", path: tuple[Any, ...] = (), file: object = "") -> Iterator[None]:
    """Within it, our errors begin with what they are about (a part, an argument), and carry its path and named file.

    Raises
    ------
    HolokineError
    """
    try:
        yield
    except HolokineError as err:
        err.path, err.file = err.path or path, err.file or str(file)
        if not str(err).startswith(head):
            err.args = (f"{head}: {err}",)
        raise


def entry(kind: str, name: str) -> AbstractContextManager[None]:
    """Within it, our errors begin with the entry (part "deck"), and carry its path."""
    return headed(f'{kind} "{name}"', ("masses" if kind == "mass" else f"{kind}s", name))


@contextmanager
def argument(name: str) -> Iterator[None]:
    """Within it, errors begin with the argument of a call whose value they are about, Python's own included.

    Raises
    ------
    HolokineError
    """
    try:
        with headed(name):
            yield
    except HolokineError:
        raise
    except (TypeError, ValueError, OverflowError) as err:
        raise DescriptionError(f"{name}: {err}") from None


def whole_number(name: str, value: Any, least: int = 1) -> int:
    """An argument that counts.

    Raises
    ------
    DescriptionError
        It is no whole number, or less than `least`.
    """
    try:
        number = index(value)
    except TypeError:
        number = None
    if number is None or isinstance(value, bool) or number < least:
        raise DescriptionError(f"{name}: expected a whole number of at least {least}, got {shown(value)}")
    return number


def first_few(words: Iterable[object], most: int) -> str:
    """The first words of a list in a message, and how many more there are."""
    every = [str(w) for w in words]
    return ", ".join(every[:most]) + (f" and {len(every) - most} more" if len(every) > most else "")


class HolokineError(Exception):
    """Base of all errors that Holokine raises on purpose.

    Attributes
    ----------
    path : tuple
        What it is about: keys of the description, indices; empty where it is about none of them.
    kind : str
        What it is, as one word for programs; empty where nothing decides by it.
    numbers : dict
        What the sentence was printed from.
    file : str
        The named file that it is about.
    told : bool
        Whether the sentence says where it is already.
    """

    def __init__(
        self,
        *message: object,
        path: tuple[Any, ...] = (),
        kind: str = "",
        numbers: dict[str, Any] | None = None,
        file: object = "",
        told: bool = False,
    ) -> None:
        super().__init__(*message)
        self.path, self.kind, self.numbers, self.file, self.told = path, kind, numbers or {}, str(file), told


class HolokineWarning(UserWarning):
    """A finding of level warning or error of a result, told to a Python user once."""


class DescriptionError(HolokineError, ValueError):
    """The assembly file or call says something that cannot be (names file, line and key)."""


class UnitError(DescriptionError):
    """A quantity has an unknown unit, the wrong dimension, or the unit system is inconsistent."""


class UnknownNameError(DescriptionError, LookupError):
    """A name (group, gauge, material, part, point, event ...) that is not defined."""


class UnknownKeyError(UnknownNameError):
    """A key that no entry of its kind has."""


class SelectionError(DescriptionError):
    """A selection that catches nothing."""


class MeshError(HolokineError, ValueError):
    """A mesh that cannot be used: damaged file, inverted or zero-volume element, unknown cell."""


class ConstraintError(HolokineError, ValueError):
    """Links, joints or ties that contradict one another or go round in a circle."""


class MechanismError(HolokineError):
    """Something can move without resistance although the request needs it held."""


class EquilibriumError(MechanismError):
    """A state that has no equilibrium, or is beyond buckling; names the motion or the members."""


class SolverError(HolokineError):
    """A factorisation or an eigenvalue extraction that failed; says what it has and what it lacks."""


class OutOfMemoryError(SolverError):
    """A factorisation or extraction for which there is not enough memory; trying it another way does not help."""


class EventError(HolokineError, ValueError):
    """A spectrum, pulse or other event that cannot be applied to these modes."""


class RunFileError(HolokineError):
    """A run file that is damaged, foreign or out of date."""


class StaleError(HolokineError):
    """Something was made of another description than the present one; says what changed."""


class OutputError(HolokineError):
    """A file or folder that cannot be written."""


class MissingExtraError(OutputError):
    """Something needs a package that is not installed; says which extra brings it."""


class CheckFailedError(HolokineError):
    """A check that the analyst asked for (mass threshold, allowable) was not met."""


_LISTED = 40  # names: of more the likeliest half as many are told


def nearest_hint(name: str, known: Iterable[str], what: str = "") -> str:
    """Say which known name lies nearest to `name`, and list what there is.

    Examples
    --------
    >>> nearest_hint("steal", ["steel", "aluminium"], "materials")
    'Did you mean "steel"? The materials are: steel, aluminium.'
    """
    names = [str(k) for k in known]
    label = what or "known names"
    if not names:
        return f"There are no {label}."
    lowered = {n.lower(): n for n in reversed(names)}
    close = difflib.get_close_matches(str(name).lower(), list(lowered), n=1, cutoff=0.5)
    if len(names) > _LISTED:
        likeness = {n: difflib.SequenceMatcher(None, str(name).lower(), n.lower()).quick_ratio() for n in names}
        near = sorted(names, key=lambda n: -likeness[n])[: _LISTED // 2]
        listed = f"The {len(near)} of {len(names)} {label} that are most like it: {', '.join(near)}."
    else:
        listed = f"The {label} are: {', '.join(names)}."
    hint = f'Did you mean "{lowered[close[0]]}"? ' if close else ""
    return hint + listed
