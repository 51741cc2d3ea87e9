"""Motion of a point, or of one point relative to another."""

from __future__ import annotations

import numpy as np

from holokine.describe.gauges import Gauge
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps, builds, vector
from holokine.system.build import System

_MOTION = {
    "displacement": ("displacement", 0, 0),
    "rotation": ("angle", 0, 3),
    "velocity": ("velocity", 1, 0),
    "acceleration": ("acceleration", 2, 0),
}  # dimension, order, first direction


@builds("displacement", "rotation", "velocity", "acceleration")
def motion(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    dimension, order, first = _MOTION[gauge.kind]
    points = [gauge.source] if gauge.relative_to is None else [gauge.source, gauge.relative_to]
    nodes = [system.node(point, f'gauge "{name}"') for point in points]

    def add(d: int, axis: str) -> int:
        columns = np.array([6 * n + first + d for n in nodes])
        values = np.array([1.0, -1.0])[: len(nodes)]
        channel = ChannelBlock(name, (axis,), dimension, "motion", order, gauge.is_relative)
        return maps.add(channel, displacement=(columns, values))

    vector(maps, name, gauge, dimension, add)
