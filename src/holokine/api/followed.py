"""What one-way members did in an answer in time that follows them: tables and figure."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.result import figure, table

if TYPE_CHECKING:
    import pandas as pd

    from holokine.respond.transient import Followed, TimeResult

__all__ = ["FollowedTables"]


def _is_followed(answer: Any) -> bool:
    return answer.result.followed is not None


class FollowedTables:
    """Tables and figure of what lets go and hits, for answers in time."""

    result: TimeResult

    @property
    def _followed(self) -> Followed:
        assert self.result.followed is not None
        return self.result.followed

    @table("one_way", "What acts one way or by a law", when=_is_followed)
    def _one_way(self) -> pd.DataFrame:
        """Every one-way member: at the start and the end, how often it opened and touched, for how long it was
        open, the widest opening, the largest force, the fastest and the hardest touch; of rough feet how often and for
        how long they slid, their slip added up, how far from their place they are at the end, and what was rubbed."""
        import pandas as pd

        from holokine.respond.contacts import OPEN, SLIDING

        told, run = self._followed, self._followed.run
        step = np.diff(run.time, append=run.time[-1])
        rows = []
        for j, m in enumerate(told.members):
            own = [c for c in run.changes if c.member == j]
            touches = [c for c in own if c.what == "touches"]
            row: dict[str, object] = {"member": m.name, "force_at_start_n": m.force}
            force, when = run.largest(j)
            row |= {"largest_force_n": force, "largest_force_at_ms": 1e3 * when}
            if m.law is None:
                open_ = run.status[:, j] == OPEN
                row |= {"opened": sum(c.what == "opens" for c in own), "touched": len(touches),
                        "open_ms": 1e3 * float(step[open_].sum()),
                        "widest_mm": 1e3 * max(0.0, float((m.gap - run.closing[:, j]).max())),
                        "fastest_touch_mm_per_s": 1e3 * max((c.speed for c in touches), default=0.0),
                        "hardest_impulse_n_s": max((c.impulse for c in touches), default=0.0),
                        "at_the_end": ("open", "touching", "sliding")[int(run.status[-1, j])]}  # fmt: skip
            if m.rough:
                moved = np.linalg.norm(np.diff(run.slip[:, j], axis=0), axis=1)
                slides = run.status[:-1, j] == SLIDING
                row |= {"slid": sum(c.what == "slides" for c in own),
                        "sliding_ms": 1e3 * float(step[:-1][slides].sum()),
                        "slip_added_up_mm": 1e3 * float(moved[slides].sum()),
                        "left_mm": 1e3 * float(np.linalg.norm(run.slip[-1, j])),
                        "rubbed_j": run.rubbed(j)}  # fmt: skip
            rows.append(row)
        return pd.DataFrame(rows)

    @table("changes", when=_is_followed)
    def _changes(self) -> pd.DataFrame:
        """Every instant at which a member opens, touches (with the closing speed and what an impact takes), slides,
        sticks or comes to the next piece of its table."""
        import pandas as pd

        told = self._followed
        return pd.DataFrame(
            [{"time_ms": 1e3 * c.time, "member": told.members[c.member].name, "what": c.what,
              "speed_mm_per_s": 1e3 * c.speed, "impulse_n_s": c.impulse, "lost_j": c.lost} for c in told.run.changes],
            columns=["time_ms", "member", "what", "speed_mm_per_s", "impulse_n_s", "lost_j"],
        )  # fmt: skip

    @table("against_linear", "Peaks beside those of the answer that holds it both ways", when=_is_followed)
    def _against_linear(self) -> pd.DataFrame:
        """Peaks of all gauges beside those of the linear answer, and their ratio."""
        from holokine.respond.reduced import slight
        from holokine.show.tables import peaks_table

        answer, linear = self.result, self._followed.linear
        nothing = slight(answer.reduced.readings, linear)

        def more(number: int, size: float) -> dict[str, object]:
            plain = linear[number] / size
            ratio = abs(answer.peaks[number] / linear[number]) if linear[number] and not nothing[number] else np.nan
            return {"linear": plain, "ratio_to_linear": ratio}

        return peaks_table(answer, "peak", more, lambda number: answer.reduced.readings[number].component == "lets go")

    @table("followed_energies", listed=False, when=_is_followed)
    def _followed_energies(self) -> pd.DataFrame:
        """Energies in J at every row from the start on: put in, kinetic, strain, damped, rubbed, lost in impacts, and
        by how much they do not add up."""
        import pandas as pd

        run = self._followed.run
        kinds = ("input", "kinetic", "strain", "damped", "rubbed", "lost")
        work = {f"{k}_j": run.work[k] for k in kinds}
        return pd.DataFrame({"time_s": run.time, **work, "missing_j": run.missing})

    @figure("one_way", "What acts, under what the base does", when=_is_followed)
    def _one_way_drawn(self) -> Any:
        """Forces of the members over time, and when each is open, under what acts."""
        from holokine.show.followed_figures import plot_members

        return plot_members(self.result)
