"""Solids."""

from __future__ import annotations

from typing import Any

import numpy as np

import holokine as hk
from holokine.verification.cases import ALUMINIUM, STEEL, Figures, case, edge, elastic


def prism(divisions: list[int], **keys: Any) -> hk.Assembly:
    shape = {"corner": [0, 0, 0], "sides": np.diag([1.193, 0.113, 0.081]).tolist(), "divisions": divisions, **keys}
    a = hk.Assembly().material("m", **ALUMINIUM).part("b", box=shape, material="m")
    return a.support("root", at=edge([0, 0, 0], "x"), hold=["x", "y", "z"])


SLENDER = [47.1863, 65.544, 289.462, 394.525, 576.356, 785.122, 1043.5, 1077.28, 1474.89, 1729.43]


@case("slender cantilever prism", "3-D elasticity, converged Ritz", "24 x 4 x 4 bricks of 20 nodes", 4e-3)
def _() -> Figures:
    return elastic(prism([24, 4, 4], quadratic=True), 10), SLENDER


@case("slender cantilever prism", "3-D elasticity, converged Ritz", "48 x 8 x 8 bricks of 8 nodes", 1e-2)
def _() -> Figures:
    return elastic(prism([48, 8, 8]), 10), SLENDER


@case("slender cantilever prism", "3-D elasticity, converged Ritz", "30 x 3 x 3 x 6 tetrahedra of 10 nodes", 7e-3)
def _() -> Figures:
    return elastic(prism([30, 3, 3], cells="tetrahedra", quadratic=True), 10), SLENDER


FREE = [9814.23, 12271.8, 14796, 17779.2, 18736.3, 18776.9, 19481.3, 20791.3, 22536.4, 22747.1]


@case("free block", "3-D elasticity, converged Ritz", "8 x 6 x 4 bricks of 20 nodes", 1e-3)
def _() -> Figures:
    sides = np.diag([0.1313, 0.0973, 0.0617]).tolist()
    shape = {"corner": [0, 0, 0], "sides": sides, "divisions": [8, 6, 4], "quadratic": True}
    return elastic(hk.Assembly().material("m", **STEEL).part("b", box=shape, material="m"), 16)[:10], FREE
