"""Properties of beam sections.

Local axes: y along the width, z along the height, origin at the centroid. Formulas for thin-walled shapes
take the walls as thin for J and the shear centre (Young & Budynas, *Roark's Formulas for Stress and Strain*,
8th ed., tables 9.1 and 10.7); the torsion constant of a solid rectangle is the full St-Venant series
(Timoshenko & Goodier, *Theory of Elasticity*, 3rd ed., § 109). Shear factors: 5/6 for a solid rectangle, 0.9
for a solid circle, Cowper (1966) with nu = 0.3 for a pipe, area of the walls along the force over the whole
area for the others. Restrained warping is not modelled.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe import schema

__all__ = ["SectionProperties", "round_section", "section_properties", "tapered"]

Box = tuple[float, float, float, float]
CIRCLE_FIBRES = 36  # bending stress between two of them is at most 0.4 % higher


@dataclass(frozen=True, eq=False)
class SectionProperties:
    """Section properties in SI, about the centroid.

    Attributes
    ----------
    area : float
        m².
    Iy, Iz, Iyz : float
        Second moments ∫z² dA, ∫y² dA and ∫yz dA in m⁴.
    J : float
        St-Venant torsion constant in m⁴.
    shear_y, shear_z : float
        Shear factors (effective over whole area) for forces along y and z.
    shear_centre : tuple of float
        Place (y, z) of the shear centre in m.
    fibres : ndarray, shape (fibres, 2)
        Places (y, z) of the extreme fibres in m.
    """

    area: float
    Iy: float
    Iz: float
    J: float
    shear_y: float
    shear_z: float
    fibres: NDArray[np.float64]
    Iyz: float = 0.0
    shear_centre: tuple[float, float] = (0.0, 0.0)
    torsion_modulus: float = math.nan
    """Moment of torsion over the largest shear stress that it makes, in m³; NaN where the shape is not known."""
    shear_peak: tuple[float, float] = (math.nan, math.nan)
    """Largest shear stress over a force along y and z, in 1/m²."""
    pieces: tuple[NDArray[np.float64], ...] = ()
    """Outlines of the pieces that it is made of, (y, z) in m each, for pictures; none where it is given by numbers."""


def rectangle_torsion(width: float, height: float) -> float:
    """St-Venant torsion constant of a solid rectangle in m⁴ (Timoshenko & Goodier § 109, eq. 170)."""
    a, b = max(width, height), min(width, height)
    n = np.arange(1, 40, 2)
    series = np.sum(np.tanh(n * math.pi * a / (2.0 * b)) / n**5.0)
    return a * b**3 / 3.0 * (1.0 - 192.0 * b / (math.pi**5 * a) * float(series))


def rectangle_torsion_modulus(width: float, height: float) -> float:
    """Moment of torsion over the largest shear stress, in the middle of the long side (Timoshenko & Goodier § 109)."""
    a, b = max(width, height), min(width, height)
    n = np.arange(1, 40, 2)
    with np.errstate(over="ignore"):
        series = np.sum(1.0 / (n**2.0 * np.cosh(np.minimum(n * math.pi * a / (2.0 * b), 700.0))))
    return rectangle_torsion(width, height) / (b * (1.0 - 8.0 / math.pi**2 * float(series)))


def _corners(points: list[tuple[float, float]]) -> NDArray[np.float64]:
    return np.array(points, dtype=float)


def _circle(radius: float) -> NDArray[np.float64]:
    angle = 2.0 * math.pi * np.arange(CIRCLE_FIBRES) / CIRCLE_FIBRES
    return radius * np.column_stack([np.cos(angle), np.sin(angle)])


def _from_rectangles(
    boxes: list[Box],
) -> tuple[float, float, float, float, float, float]:
    """Area, centroid y and z, Iy, Iz, Iyz of rectangles (y0, y1, z0, z1) together, about the centroid."""
    b = np.array(boxes)
    w, h = b[:, 1] - b[:, 0], b[:, 3] - b[:, 2]
    area = w * h
    y, z = (b[:, 0] + b[:, 1]) / 2.0, (b[:, 2] + b[:, 3]) / 2.0
    total = float(area.sum())
    yc, zc = float(area @ y) / total, float(area @ z) / total
    iy = float(np.sum(area * h**2 / 12.0 + area * (z - zc) ** 2))
    iz = float(np.sum(area * w**2 / 12.0 + area * (y - yc) ** 2))
    iyz = float(np.sum(area * (y - yc) * (z - zc)))
    return total, yc, zc, iy, iz, iyz


def _pieces(boxes: list[Box], y: float = 0.0, z: float = 0.0) -> tuple[Floats, ...]:
    """Outlines of rectangles (y0, y1, z0, z1) about a centroid."""
    return tuple(_corners([(a, c), (b, c), (b, d), (a, d)]) - (y, z) for a, b, c, d in boxes)


def _rectangle(s: schema.Rectangle) -> SectionProperties:
    b, h = s.width, s.height
    y, z = b / 2.0, h / 2.0
    return SectionProperties(
        b * h, b * h**3 / 12.0, h * b**3 / 12.0, rectangle_torsion(b, h), 5 / 6, 5 / 6,
        _corners([(-y, -z), (y, -z), (y, z), (-y, z)]), torsion_modulus=rectangle_torsion_modulus(b, h),
        shear_peak=(1.5 / (b * h), 1.5 / (b * h)), pieces=_pieces([(-y, y, -z, z)]),
    )  # fmt: skip


def _tube(s: schema.TubeSection) -> SectionProperties:
    b, h, t = s.width, s.height, s.wall
    bi, hi = b - 2 * t, h - 2 * t
    area = b * h - bi * hi
    ring = (b - t) + (h - t)
    J = 2.0 * t * (b - t) ** 2 * (h - t) ** 2 / ring + 2.0 * ring * t**3 / 3.0
    y, z = b / 2.0, h / 2.0
    return SectionProperties(
        area, (b * h**3 - bi * hi**3) / 12.0, (h * b**3 - hi * bi**3) / 12.0, J,
        min(2 * b * t / area, 5 / 6), min(2 * h * t / area, 5 / 6),
        _corners([(-y, -z), (y, -z), (y, z), (-y, z)]), torsion_modulus=2.0 * (b - t) * (h - t) * t,
        pieces=_pieces([(-y, y, -z, t - z), (-y, y, z - t, z), (-y, t - y, t - z, z - t), (y - t, y, t - z, z - t)]),
    )  # fmt: skip


def _rod(s: schema.Rod) -> SectionProperties:
    inertia = math.pi * s.diameter**4 / 64.0
    area = math.pi * s.diameter**2 / 4.0
    return SectionProperties(area, inertia, inertia, 2 * inertia, 0.9, 0.9, _circle(s.diameter / 2.0),
                             torsion_modulus=4 * inertia / s.diameter,
                             shear_peak=(4 / 3 / area, 4 / 3 / area), pieces=(_circle(s.diameter / 2.0),))  # fmt: skip


def _pipe(s: schema.Pipe) -> SectionProperties:
    inner = s.diameter - 2.0 * s.wall
    inertia = math.pi * (s.diameter**4 - inner**4) / 64.0
    area = math.pi * (s.diameter**2 - inner**2) / 4.0
    m, nu = inner / s.diameter, 0.3
    q = (1.0 + m**2) ** 2
    shear = 6.0 * (1.0 + nu) * q / ((7.0 + 6.0 * nu) * q + (20.0 + 12.0 * nu) * m**2)
    outer, peak = s.diameter / 2.0, 4.0 / 3.0 * (1.0 + m + m**2) / (1.0 + m**2) / area
    return SectionProperties(
        area, inertia, inertia, 2 * inertia, shear, shear, _circle(outer), torsion_modulus=2 * inertia / outer,
        shear_peak=(peak, peak), pieces=(_circle(outer),),
    )  # fmt: skip


def _i_shape(s: schema.Flanged) -> SectionProperties:
    b, h, tw, tf = s.width, s.height, s.web, s.flange
    boxes: list[Box] = [(-b / 2, b / 2, h / 2 - tf, h / 2), (-b / 2, b / 2, -h / 2, -h / 2 + tf),
             (-tw / 2, tw / 2, -h / 2 + tf, h / 2 - tf)]  # fmt: skip
    area, _, _, iy, iz, _ = _from_rectangles(boxes)
    J = (2 * b * tf**3 + (h - tf) * tw**3) / 3.0
    return SectionProperties(
        area, iy, iz, J, min(5 / 6 * 2 * b * tf / area, 1.0), min(h * tw / area, 1.0),
        _corners([(-b / 2, -h / 2), (b / 2, -h / 2), (b / 2, h / 2), (-b / 2, h / 2)]), torsion_modulus=J / max(tw, tf),
        pieces=_pieces(boxes),
    )  # fmt: skip


def _channel(s: schema.Flanged) -> SectionProperties:
    """Web at negative y, flanges towards positive y."""
    b, h, tw, tf = s.width, s.height, s.web, s.flange
    boxes: list[Box] = [
        (0, tw, -h / 2, h / 2),
        (tw, b, h / 2 - tf, h / 2),
        (tw, b, -h / 2, -h / 2 + tf),
    ]
    area, yc, _, iy, iz, _ = _from_rectangles(boxes)
    flange, depth = b - tw / 2.0, h - tf
    behind = 3.0 * flange**2 * tf / (depth * tw + 6.0 * flange * tf)
    J = (2 * flange * tf**3 + depth * tw**3) / 3.0
    return SectionProperties(
        area, iy, iz, J, min(5 / 6 * 2 * b * tf / area, 1.0), min(h * tw / area, 1.0),
        _corners([(-yc, -h / 2), (b - yc, -h / 2), (b - yc, h / 2), (-yc, h / 2)]),
        shear_centre=(tw / 2.0 - behind - yc, 0.0), torsion_modulus=J / max(tw, tf), pieces=_pieces(boxes, yc),
    )  # fmt: skip


def _angle(s: schema.AngleShape) -> SectionProperties:
    """Corner at negative y and z, legs along positive y and z."""
    b, h, t = s.width, s.height, s.thickness
    boxes: list[Box] = [(0, t, 0, h), (t, b, 0, t)]
    area, yc, zc, iy, iz, iyz = _from_rectangles(boxes)
    J = (b + h - t) * t**3 / 3.0
    return SectionProperties(
        area, iy, iz, J, 5 / 6 * b * t / area, 5 / 6 * h * t / area,
        _corners([(-yc, -zc), (b - yc, -zc), (b - yc, t - zc), (t - yc, h - zc), (-yc, h - zc)]),
        Iyz=iyz, shear_centre=(t / 2.0 - yc, t / 2.0 - zc), torsion_modulus=J / t, pieces=_pieces(boxes, yc, zc),
    )  # fmt: skip


def _tee(s: schema.Flanged) -> SectionProperties:
    """Flange at positive z, web towards negative z."""
    b, h, tw, tf = s.width, s.height, s.web, s.flange
    boxes: list[Box] = [(-b / 2, b / 2, h - tf, h), (-tw / 2, tw / 2, 0, h - tf)]
    area, _, zc, iy, iz, _ = _from_rectangles(boxes)
    J = (b * tf**3 + (h - tf / 2) * tw**3) / 3.0
    return SectionProperties(
        area, iy, iz, J, min(5 / 6 * b * tf / area, 1.0), min(h * tw / area, 1.0),
        _corners([(-tw / 2, -zc), (tw / 2, -zc), (b / 2, h - tf - zc), (b / 2, h - zc), (-b / 2, h - zc),
                  (-b / 2, h - tf - zc)]),
        shear_centre=(0.0, h - tf / 2.0 - zc), torsion_modulus=J / max(tw, tf), pieces=_pieces(boxes, 0.0, zc),
    )  # fmt: skip


def _given(s: schema.GivenProperties) -> SectionProperties:
    fibres = np.array(s.fibres, dtype=float).reshape(-1, 2)
    return SectionProperties(s.area, s.Iy, s.Iz, s.J, 5 / 6, 5 / 6, fibres, Iyz=s.Iyz, shear_centre=s.shear_centre)


_SHAPES = {
    "rectangle": _rectangle,
    "tube": _tube,
    "rod": _rod,
    "pipe": _pipe,
    "I": _i_shape,
    "channel": _channel,
    "angle": _angle,
    "T": _tee,
    "properties": _given,
}


def section_properties(section: schema.Section) -> SectionProperties:
    """Properties of a described section, with its overrides applied."""
    for name, compute in _SHAPES.items():
        shape = getattr(section, name)
        if shape is not None:
            result: SectionProperties = compute(shape)  # type: ignore[operator]
            break
    if section.shear_factors is not None:
        result = replace(result, shear_y=section.shear_factors[0], shear_z=section.shear_factors[1])
    if section.torsion_constant is not None:
        more = section.torsion_constant / result.J
        result = replace(result, J=section.torsion_constant, torsion_modulus=more * result.torsion_modulus)
    if math.isnan(result.shear_peak[0]) and not math.isnan(result.torsion_modulus):  # thin walls along the force
        peak = tuple(1.0 / (k * result.area) for k in (result.shear_y, result.shear_z))
        result = replace(result, shear_peak=(peak[0], peak[1]))
    return result


def round_section(area: float) -> SectionProperties:
    """A round bar of an area in m²."""
    from holokine.describe.schema import Section

    return section_properties(Section.model_validate({"rod": {"diameter": math.sqrt(4.0 * area / math.pi)}}))


def tapered(first: schema.Section, last: schema.Section, where: str) -> Callable[[float], SectionProperties]:
    """Properties along a run whose dimensions change evenly from one section to another, by the share of the run.

    Raises
    ------
    DescriptionError
        Sections of different shapes, or given by numbers.
    """
    shape = next(n for n in _SHAPES if getattr(first, n) is not None)
    if getattr(last, shape) is None or shape == "properties":
        raise DescriptionError(
            f"{where}: a beam tapers between two sections of one shape (rectangle, tube, rod, pipe, I, channel, angle, "
            "T)"
        )
    overrides = [[s.shear_factors is None, s.torsion_constant is None] for s in (first, last)]
    if overrides[0] != overrides[1]:
        raise DescriptionError(
            f"{where}: give shear factors and torsion constant with both of its sections, or neither"
        )

    def between(a: Any, b: Any, share: float) -> Any:
        if isinstance(a, tuple):
            return tuple(between(x, y, share) for x, y in zip(a, b, strict=True))
        return (1.0 - share) * a + share * b if isinstance(a, float) and isinstance(b, float) else a

    def mixed(a: Any, b: Any, share: float) -> Any:
        return a.model_copy(update={n: between(getattr(a, n), getattr(b, n), share) for n in type(a).model_fields})

    def at(share: float) -> SectionProperties:
        whole = mixed(first, last, share)
        return section_properties(
            whole.model_copy(update={shape: mixed(getattr(first, shape), getattr(last, shape), share)})
        )

    return at
