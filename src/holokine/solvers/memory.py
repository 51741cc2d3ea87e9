"""How much memory there is, and a refusal before it runs out."""

from __future__ import annotations

import os
from pathlib import Path

from holokine.errors import OutOfMemoryError

__all__ = ["available_memory", "beyond_memory", "refuse_beyond_memory"]


def available_memory() -> int | None:
    """Bytes that this process can still take: of the machine, or of its control group; None where unknown."""
    limits = []
    try:
        for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
            if line.startswith("MemAvailable:"):
                limits.append(1024 * int(line.split()[1]))
    except OSError:
        try:
            limits.append(os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
        except (AttributeError, ValueError, OSError):
            return None
    group = Path("/sys/fs/cgroup")
    try:
        most = (group / "memory.max").read_text(encoding="ascii").strip()
        if most.isdigit():
            limits.append(int(most) - int((group / "memory.current").read_text(encoding="ascii")))
    except (OSError, ValueError):
        pass
    return max(min(limits), 0) if limits else None


def beyond_memory(needed: float) -> bool:
    """Whether `needed` bytes are more than there are (False where that is not known)."""
    free = available_memory()
    return free is not None and needed > free


def refuse_beyond_memory(needed: float, unknowns: int, what: str = "the factorisation") -> None:
    """Raise when `needed` bytes are more than there are.

    Raises
    ------
    OutOfMemoryError
        With the estimate, what is free, and what helps.
    """
    free = available_memory()
    if free is not None and needed > free:
        raise OutOfMemoryError(
            f"{what} of {unknowns:,} unknowns needs about {needed / 1e9:.3g} GB and {free / 1e9:.3g} GB are free; "
            "coarsen the mesh, or run it where there is more memory"
        )
