"""Hand formulas from Python."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes

__all__ = ["formula"]


def formula(name: str, *, modes: int = 5, beside: Modes | None = None, **inputs: Any) -> pd.DataFrame:
    """Natural frequencies by a hand formula: beam, tip mass, rod, shaft, ring, plate, mass on a spring, tuned damper.

    Parameters
    ----------
    modes : int
        How many, where there are several.
    beside : Modes, optional
        A run to set beside it: the nearest mode of each, and the difference in percent.
    inputs
        Quantities with units as text, or bare in SI; `holokine.formulas.FORMULAS` lists them.

    Returns
    -------
    DataFrame
        With the formula's source in ``attrs["source"]`` and other results in ``attrs["facts"]``.

    Raises
    ------
    UnknownNameError, UnitError, DescriptionError

    Examples
    --------
    >>> import holokine as hk
    >>> f = hk.formula("mass on a spring", mass="24 kg", stiffness="560 N/mm")
    >>> round(float(f["frequency_hz"].iloc[0]), 3)
    24.311
    """
    from holokine.formulas import evaluate
    from holokine.show.mode_tables import formula_table

    result = evaluate(name, modes=modes, **inputs)
    table = formula_table(result, None if beside is None else beside.set, None if beside is None else beside.kinds)
    table.attrs |= {"source": result.source, "words": result.words, "facts": result.facts}
    return table
