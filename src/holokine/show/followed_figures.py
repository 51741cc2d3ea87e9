"""Figure of members that let go and hit: forces, and when each is open."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.respond.contacts import OPEN, SLIDING
from holokine.show.figures import COLOURS, draw_acting, new_figure
from holokine.show.plain import label

if TYPE_CHECKING:
    from holokine.respond.transient import TimeResult

__all__ = ["plot_members"]

_LANES = 24
_FORCES = 6


def plot_members(answer: TimeResult) -> Any:
    """Base motion, forces of the busiest members, and a lane each in which it is dark where a member acts (of
    another colour where it slides)."""
    told = answer.followed
    assert told is not None
    run = told.run
    swing = np.ptp(run.force, axis=0)
    changed = {c.member for c in run.changes}
    busiest = sorted((j for j in range(len(swing)) if swing[j] > 0.0), key=lambda j: (j not in changed, -swing[j]))
    lanes = sorted(busiest[:_LANES]) or [0]
    figure, axes = new_figure(3, sharex=True, gridspec_kw={"height_ratios": [0.8, 1.4, 0.4 + 0.12 * len(lanes)]})
    t, pulse = 1e3 * run.time, answer.pulse
    draw_acting(axes[0], answer)
    drawn = [j for j in busiest if j in changed] or busiest
    more = len(drawn) - _FORCES
    axes[0].set_title(f"{answer.name}: what acts above, forces and contact of one-way members below")
    for n, j in enumerate(drawn[:_FORCES]):
        axes[1].plot(t, run.force[:, j], color=COLOURS[n % 6], lw=1.1, label=label(told.members[j].name))
    axes[1].set_ylabel("force of what changes (N)" if changed else "force (N)")
    low, high = axes[1].get_ylim()
    axes[1].set_ylim(low, high + 0.45 * (high - low))  # room for the legend
    axes[1].legend(loc="upper right", ncols=2, title=f"and {more} more" if more > 0 else None)
    for lane, j in enumerate(lanes):
        acts = run.status[:, j] != OPEN
        axes[2].fill_between(t, lane - 0.35, lane + 0.35, where=acts, step="post", color=COLOURS[0], lw=0)
        if told.members[j].rough:
            slides = run.status[:, j] == SLIDING
            axes[2].fill_between(t, lane - 0.35, lane + 0.35, where=slides, step="post", color=COLOURS[1], lw=0)
    axes[2].set_yticks(range(len(lanes)), [label(told.members[j].name) for j in lanes])
    axes[2].set_ylim(len(lanes) - 0.5, -0.5)
    rubs = any(told.members[j].rough for j in lanes)
    axes[2].set_ylabel("sticks, slides" if rubs else "acts")
    axes[2].set_xlabel("time (ms)")
    last = run.changes[-1].time if run.changes else pulse.end
    end = max(pulse.end, min(last, pulse.end + 5.0 * (pulse.end - pulse.start)))
    axes[2].set_xlim(t[0], min(t[-1], 1e3 * (end + 0.1 * (end - run.time[0]))))
    return figure
