"""Stress of whole parts: the largest over all places, by component, equivalent or principal."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from holokine.elements.stress import Places
from holokine.errors import DescriptionError
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps, builds
from holokine.gauges.readings import Reading

if TYPE_CHECKING:
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System


@builds("stress")
def stress(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    """Channels of all places of the part, in one block, and what the gauge reads of them."""
    blocks = system.element_blocks(gauge.source)
    first = blocks[0]
    if any(b.stress_names != first.stress_names for b in blocks):
        kinds = " and ".join(dict.fromkeys(b.words for b in blocks))
        raise DescriptionError(f'gauge "{name}": the part "{gauge.source}" mixes {kinds}')
    options = {o: getattr(gauge, o) for o in ("end", "surface", "at", "component", "layer")}
    for option, value in options.items():
        if value is not None and option not in first.stress_options:
            raise DescriptionError(
                f'gauge "{name}": the part "{gauge.source}" is made of {first.words}, whose stress gauge takes '
                f"{' and '.join(sorted(first.stress_options))}, not {option}"
            )
    try:
        found = [f for b in blocks for f in b.gauge_fields(system.size, **options)]
    except DescriptionError as err:
        raise DescriptionError(f'gauge "{name}": {err}') from None
    names, width = first.stress_names, found[0].width
    if width != len(names):  # beams, whose fibres have shear beside them
        names = ("normal", "shear")
    start = maps.count
    for part in found:
        balance = part.inertia is not None or gauge.portion not in (None, "elastic")
        more = {"acceleration": part.inertia} if part.inertia is not None else {}
        kind: Any = "balance" if balance else "elastic"
        portion = "elastic" if gauge.portion is None and balance else gauge.passed
        block = ChannelBlock(name, names, "stress", kind, places=len(part.places), portion=portion)
        maps.add_field(
            block,
            free={gauge.source: -(first.free_stress() if part.free is None else part.free)},
            displacement=part.matrix,
            **more,
        )
    places = Places.joined([f.places for f in found])
    channels = range(start, maps.count)
    if width == 1:
        maps.readings.append(Reading(name, "extreme fibre", "stress", "largest", channels, 1, places))
        return
    component = gauge.component or "equivalent"
    if component in ("equivalent", "principal"):
        maps.readings.append(Reading(name, component, "stress", component, channels, width, places))
        return
    for c in names if component == "components" else (component,):
        if c not in names:
            raise DescriptionError(f'gauge "{name}": {first.words} have the components {", ".join(names)}, not {c}')
        own = channels[names.index(c) :: width]
        maps.readings.append(Reading(name, c, "stress", "largest", own, 1, places))
