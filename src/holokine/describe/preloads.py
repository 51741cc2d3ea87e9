"""What preloads written in the description do to what is read."""

from __future__ import annotations

from typing import TYPE_CHECKING

from holokine.findings import Finding

if TYPE_CHECKING:
    from holokine.describe.schema import Description

__all__ = ["preload_findings"]


def preload_findings(description: Description) -> list[Finding]:
    """Preloads stiffen, and readings are what an event adds to them: say so, with the force to add."""
    held = []
    for name, part in description.parts.items():
        held += [f"{preload:.4g} N in {name}" for preload in part.preloads]
        if part.shell is not None and part.shell.tension is not None:
            along = " and ".join(f"{size:.4g}" for size in part.shell.tension)
            held.append(f"{along} N/m along element x and y in {name}")
    if not held:
        return []
    return [Finding(
        "warning", "preload is in the stiffness but in no reading: forces and stresses are what the event adds to "
        f"{', '.join(held)}",
    )]  # fmt: skip
