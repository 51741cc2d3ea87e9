"""Building the maps of the gauges that a description asks for. Each kind of gauge has its builder in `*_gauges.py`."""

from __future__ import annotations

from typing import TYPE_CHECKING

from holokine.errors import entry
from holokine.gauges import force_gauges, motion_gauges, section_gauges, stress_gauges  # noqa: F401 - enter builders
from holokine.gauges.maps import BUILDERS, Maps
from holokine.gauges.resting_gauges import add_resting
from holokine.gauges.turning import add_turning

if TYPE_CHECKING:
    from holokine.describe.gauges import Gauge
    from holokine.gauges.channels import GaugeSet
    from holokine.system.build import System

__all__ = ["build_gauges"]


def build_gauges(system: System, gauges: dict[str, Gauge] | None = None) -> GaugeSet:
    """Maps of the description's gauges (or of those given).

    Raises
    ------
    DescriptionError
        A gauge on a point that nothing is attached to, a moment of a spring, a stress without fibres.
    """
    maps = Maps()
    for name, gauge in (system.description.gauges if gauges is None else gauges).items():
        with entry("gauge", name):
            BUILDERS[gauge.kind](system, maps, name, gauge)
    if gauges is None:
        add_resting(system, maps)
        add_turning(system, maps)
    return maps.made(system)
