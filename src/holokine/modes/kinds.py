"""What a mode is, as data, of which words are printed."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["ModeKind"]

_ORDER = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth")


@dataclass(frozen=True)
class ModeKind:
    """What a mode is.

    Attributes
    ----------
    family : str
        bending, torsion, stretching, plate bending, ring in plane, ring out of plane, on springs, rigid-body, or
        nothing.
    about : str
        Axis that it bends or twists about or stretches along; else nothing.
    member : str
        Part that it is local to; else nothing.
    order : tuple of int
        Its order, half waves of a plate by axis, or waves around.
    ranked : bool
        Whether the order stands before what moves.
    text : str
        What moves and how.
    more : str
        What it is on, held by or strains.
    repeated, near : tuple of int
        Modes at the same frequency (this one among them), or close by.
    """

    family: str = ""
    about: str = ""
    member: str = ""
    order: tuple[int, ...] = ()
    ranked: bool = False
    text: str = ""
    more: str = ""
    repeated: tuple[int, ...] = ()
    near: tuple[int, ...] = ()

    @property
    def words(self) -> str:
        """In a table."""
        rank = ""
        if self.ranked and self.order:
            k = self.order[0]
            rank = f"{_ORDER[k - 1] if k <= len(_ORDER) else f'{k}th'} "
        company = ""
        if self.repeated:
            company = f" (repeated: modes {', '.join(map(str, self.repeated))})"
        elif self.near:
            company = f" (close to mode {', '.join(map(str, self.near))})"
        parts = [f"local to {self.member}" if self.member else "", f"{rank}{self.text}", self.more]
        return ", ".join(p for p in parts if p) + company
