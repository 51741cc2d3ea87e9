"""Modes at one frequency, turned to where they are told apart best.

Of modes that share a frequency any mixture is a mode too, and what an extraction gives of them is decided by rounding.
They are turned so that one takes all of the motion along x that they have together, another what is left along y, and
so on; where none moves the assembly as a whole, so that the first place that moves most moves in one of them alone.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.ranking import EVEN, first_largest

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["of_one_frequency", "turned"]

ONE = 1e-8  # eigenvalues closer than this, relatively, are the same but for rounding
FELT = 1e-3  # of the root of the whole mass: a participation below is none
_WORK = 2_000_000_000  # sums of products; of more modes or dofs, fewer places are looked at


def of_one_frequency(values: Floats) -> list[slice]:
    """Runs of rising eigenvalues that are the same but for rounding, of two or more."""
    starts = np.flatnonzero(np.concatenate([[True], np.diff(values) > ONE * np.abs(values[1:])]))
    ends = np.concatenate([starts[1:], [len(values)]])
    return [slice(int(a), int(b)) for a, b in zip(starts, ends, strict=True) if b - a > 1]


def turned(participation: Floats, shapes: Floats) -> Floats:
    """How to mix modes of one frequency: an orthogonal matrix whose rows are the new modes in terms of the old ones.

    Parameters
    ----------
    participation : ndarray, shape (modes, 6)
        Along x y z and about them, over the root of the whole mass or inertia.
    shapes : ndarray, shape (modes, dofs)
        Of unit modal mass. Of very many only every so many dofs are looked at.

    Returns
    -------
    ndarray, shape (modes, modes)
    """
    count = len(shapes)
    seldom = max(1, -(-count * shapes.size // _WORK))
    work = np.hstack([np.eye(count), participation, shapes[:, ::seldom]])
    for done in range(count - 1):
        rest = work[done:]
        for seen in (rest[:, count : count + 3], rest[:, count + 3 : count + 6], rest[:, count + 6 :]):
            size = np.sqrt(np.einsum("ij,ij->j", seen, seen))
            if size.max(initial=0.0) > FELT:
                break
        place = first_largest(size, EVEN)
        if size[place] == 0.0:
            break
        # a reflection that brings all of this place into the first of the rows, and leaves none of it in the others
        mirror = seen[:, place] / size[place]
        mirror[0] += 1.0 if mirror[0] >= 0.0 else -1.0
        mirror /= np.linalg.norm(mirror)
        rest -= np.outer(2.0 * mirror, mirror @ rest)
    return work[:, :count]
