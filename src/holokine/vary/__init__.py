"""Many variants of one description: parameters, plans, runs on processes or a cluster, modes followed, wishes."""

from holokine.vary.follow import Followed, follow
from holokine.vary.inverse import Reached, reach
from holokine.vary.parameters import Parameter, read_spread
from holokine.vary.plan import Plan, plan_of
from holokine.vary.refine import Refined, refined
from holokine.vary.run import ReadingAsked, VariantResult, run_plan
from holokine.vary.wish import Wish, read_wish

__all__ = [
    "Followed",
    "Parameter",
    "Plan",
    "Reached",
    "ReadingAsked",
    "Refined",
    "VariantResult",
    "Wish",
    "follow",
    "plan_of",
    "reach",
    "read_spread",
    "read_wish",
    "refined",
    "run_plan",
]
