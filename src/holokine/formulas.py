"""Hand formulas for natural frequencies: beams, rods, shafts, rings, plates, a mass on a spring, a tuned damper.

Each has a name, a source and inputs with dimensions. Sources: Blevins, Formulas for Natural Frequency and Mode
Shape (1979); Rao, Vibration of Continuous Systems (2007); Timoshenko, Young & Weaver, Vibration Problems in
Engineering, 4th ed. (1974); Warburton, Proc. Inst. Mech. Eng. 168 (1954) 371-384; Den Hartog, Mechanical
Vibrations, 4th ed. (1956).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import DescriptionError, UnknownNameError, argument, nearest_hint
from holokine.units import UnitSystem, quantity

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["FORMULAS", "Formula", "FormulaResult", "evaluate"]

TWO_PI = 2.0 * math.pi


class Labelled(str):
    """A label with the order of its mode: half waves along and across."""

    order: tuple[int, ...] = ()

    @classmethod
    def of(cls, text: str, *order: int) -> Labelled:
        """With its order."""
        made = cls(text)
        made.order = order
        return made


@dataclass(frozen=True)
class FormulaResult:
    """Frequencies by a hand formula.

    Attributes
    ----------
    name, words, source : str
    frequencies_hz : ndarray, shape (modes,)
    labels : tuple of str
        What each is.
    facts : dict of str to (float, str)
        Other results with their units.
    family : str
        What its modes are, in the words for modes: bending, torsion, stretching, plate bending, ring, on springs.
    """

    name: str
    words: str
    source: str
    frequencies_hz: Floats
    labels: tuple[str, ...]
    facts: dict[str, tuple[float, str]]
    family: str = ""


@dataclass(frozen=True)
class Formula:
    """A hand formula.

    Attributes
    ----------
    words, source : str
    needs, options : dict of str to str
        Inputs and their dimensions (keys of `units.DIMENSIONS`, or ``text``); options have defaults.
    example : str
        Inputs for a try.
    """

    words: str
    source: str
    needs: dict[str, str]
    options: dict[str, tuple[str, Any]]
    example: str
    compute: Callable[..., tuple[Floats, list[str], dict[str, tuple[float, str]]]]


def _roots(function: Callable[[float], float], count: int, start: float = 1e-6, step: float = 0.02) -> list[float]:
    """The first positive roots, bracketed on a fine grid."""
    from scipy.optimize import brentq

    found: list[float] = []
    a, fa = start, function(start)
    while len(found) < count:
        b = a + step
        fb = function(b)
        if fa * fb < 0 and abs(fb - fa) < 1e3 * max(1.0, min(abs(fa), abs(fb)) + 1.0):
            found.append(float(brentq(function, a, b, xtol=1e-14, rtol=1e-14)))
        a, fa = b, fb
    return found


_ENDS = ("fixed", "pinned", "sliding", "free")


def _pair(ends: str) -> tuple[str, str]:
    words = ends.strip().lower().replace("clamped", "fixed").replace("simply supported", "pinned").split("-")
    if len(words) != 2 or any(w not in _ENDS for w in words):
        raise DescriptionError(
            f'ends: expected two of {", ".join(_ENDS)} with a hyphen, such as fixed-free, got "{ends}"'
        )
    first, second = sorted(words, key=_ENDS.index)
    return first, second


def _beam_roots(ends: str, count: int) -> list[float]:
    """β L of the bending modes (rigid-body ones left out)."""
    pair = _pair(ends)
    n = range(1, count + 1)
    if pair in (("pinned", "pinned"), ("sliding", "sliding")):
        return [k * math.pi for k in n]
    if pair == ("pinned", "sliding"):
        return [(k - 0.5) * math.pi for k in n]
    # characteristic equations divided by cosh, so that they stay of size one
    if pair in (("fixed", "fixed"), ("free", "free")):
        return _roots(lambda x: math.cos(x) - 1.0 / math.cosh(x), count, start=1.0)
    if pair == ("fixed", "free"):
        return _roots(lambda x: math.cos(x) + 1.0 / math.cosh(x), count)
    if pair in (("fixed", "pinned"), ("pinned", "free")):
        return _roots(lambda x: math.sin(x) - math.cos(x) * math.tanh(x), count, start=1.0)
    return _roots(lambda x: math.sin(x) + math.cos(x) * math.tanh(x), count, start=1.0)  # fixed or free with sliding


def _timoshenko_roots(ends: str, r2: float, s2: float, count: int) -> list[float]:
    """b = ω L² √(m/EI) of a beam with rotary inertia (r² = I / A L²) and shear (s² = EI / κGA L²), by its determinant.

    Below the cut-off b = 1 / √(r² s²), where a second family of modes begins.
    """

    def determinant(b: float) -> float:
        middle, spread = (r2 + s2) / 2.0, math.sqrt((r2 - s2) ** 2 / 4.0 + 1.0 / b**2)
        grow, turn = b * math.sqrt(max(spread - middle, 0.0)), b * math.sqrt(spread + middle)
        # w = e^{-grow x}, e^{-grow (1-x)}, cos, sin; the slope of the section goes with w' by the shear that is left
        k = np.array([-grow, grow, 1j * turn], dtype=complex)
        slope = (k**2 + b**2 * s2) / k  # ψ / w, from the balance of shear: (w' - ψ)' = -b² s² w
        rows = []
        for word, x in zip(_words(ends), (0.0, 1.0), strict=True):
            w = np.array([math.exp(-grow * x), math.exp(-grow * (1.0 - x)), np.exp(1j * turn * x)])
            values = {"w": w, "psi": slope * w, "bend": k * slope * w, "shear": (k**2 + b**2 * r2) * slope * w}
            for name in {"fixed": ("w", "psi"), "pinned": ("w", "bend"), "free": ("bend", "shear"),
                         "sliding": ("psi", "shear")}[word]:  # fmt: skip
                v = values[name]
                row = np.array([v[0].real, v[1].real, v[2].real, v[2].imag])
                rows.append(row / np.abs(row).max())
        return float(np.linalg.det(np.array(rows)))

    cut_off = 1.0 / math.sqrt(r2 * s2) if r2 > 0 and s2 > 0 else math.inf
    found: list[float] = []
    from scipy.optimize import brentq

    x, step = 0.3, 0.02  # √b rises by about π from mode to mode, shear brings them closer
    before = determinant(x**2)
    while len(found) < count:
        after_x = x + step
        if after_x**2 >= cut_off:
            raise DescriptionError(
                f"modes: only {len(found)} of {count} lie below the cut-off frequency of shear; ask for fewer"
            )
        after = determinant(after_x**2)
        if before * after < 0:
            found.append(float(brentq(lambda y: determinant(y**2), x, after_x, xtol=1e-13, rtol=1e-13)) ** 2)
        x, before = after_x, after
    return found


def _words(ends: str) -> list[str]:
    _pair(ends)
    return ends.strip().lower().replace("clamped", "fixed").replace("simply supported", "pinned").split("-")


def _beam(
    length: float, E: float, I: float, mass_per_length: float, ends: str, preload: float, area: float, G: float,  # noqa: E741
    shear_factor: float, modes: int,
) -> Any:  # fmt: skip
    if (G > 0) != (shear_factor > 0) or (G > 0 and not area > 0):
        raise DescriptionError("shear: give G, shear_factor and area together (shear stiffness = shear_factor G area)")
    if area > 0:
        if preload:
            raise DescriptionError("preload: this formula knows it without shear and rotary inertia only")
        r2 = I / (area * length**2)
        s2 = E * I / (shear_factor * G * area * length**2) if G > 0 else 0.0
        b = np.array(_timoshenko_roots(ends, r2, s2, modes))
        plain = np.array(_beam_roots(ends, modes)) ** 2
        f = b / (TWO_PI * length**2) * math.sqrt(E * I / mass_per_length)
        what = "shear and rotary inertia" if G > 0 else "rotary inertia"
        facts = {f"{what} lower mode 1 by": (100.0 * (1.0 - b[0] / plain[0]), "%")}
        return f, [f"bending {k}" for k in range(1, modes + 1)], facts
    x = np.array(_beam_roots(ends, modes))
    f = x**2 / (TWO_PI * length**2) * math.sqrt(E * I / mass_per_length)
    if preload:
        if _pair(ends) != ("pinned", "pinned"):
            raise DescriptionError("preload: this formula knows it for pinned-pinned beams only")
        n = np.arange(1, modes + 1)
        factor = 1.0 + preload * length**2 / (n**2 * math.pi**2 * E * I)
        if factor[0] <= 0:
            raise DescriptionError(f"preload: beyond the buckling force of {math.pi**2 * E * I / length**2:.4g} N")
        f = f * np.sqrt(factor)
    return f, [f"bending {k}" for k in range(1, modes + 1)], {}


def _tip(
    length: float,
    E: float,
    I: float,  # noqa: E741
    mass_per_length: float,
    tip_mass: float,
    tip_inertia: float,
    modes: int,
) -> Any:
    mu = tip_mass / (mass_per_length * length)
    nu = tip_inertia / (mass_per_length * length**3)

    def equation(x: float) -> float:
        c, s, t = math.cos(x), math.sin(x), math.tanh(x)
        q = 1.0 / math.cosh(x)
        plain = q + c
        with_mass = mu * x * (c * t - s)
        with_turn = -nu * x**3 * (t * c + s)
        both = mu * nu * x**4 * (q - c)
        return plain + with_mass + with_turn + both

    x = np.array(_roots(equation, modes))
    f = x**2 / (TWO_PI * length**2) * math.sqrt(E * I / mass_per_length)
    return f, [f"bending {k}" for k in range(1, modes + 1)], {"tip mass / beam mass": (mu, "")}


def _wave_roots(ends: str, ratio: float, count: int) -> list[float]:
    """k L of rods and shafts; `ratio`: tip mass to rod mass (fixed-free only)."""
    pair = _pair(ends)
    n = range(1, count + 1)
    if pair in (("fixed", "fixed"), ("free", "free")):
        return [k * math.pi for k in n]
    if pair != ("fixed", "free"):
        raise DescriptionError(f'ends: a rod or shaft has fixed or free ends, got "{ends}"')
    if ratio == 0.0:
        return [(k - 0.5) * math.pi for k in n]
    return _roots(lambda x: ratio * x * math.sin(x) - math.cos(x), count)


def _rod(length: float, E: float, density: float, ends: str, tip_mass: float, area: float, modes: int) -> Any:
    if tip_mass and area <= 0:
        raise DescriptionError("area: is needed with a tip mass")
    ratio = tip_mass / (density * area * length) if tip_mass else 0.0
    x = np.array(_wave_roots(ends, ratio, modes))
    return x / (TWO_PI * length) * math.sqrt(E / density), [f"stretching {k}" for k in range(1, modes + 1)], {}


def _shaft(
    length: float, G: float, J: float, polar_moment: float, density: float, ends: str, tip_inertia: float, modes: int
) -> Any:
    polar = polar_moment or J
    ratio = tip_inertia / (density * polar * length) if tip_inertia else 0.0
    x = np.array(_wave_roots(ends, ratio, modes))
    f = x / (TWO_PI * length) * math.sqrt(G * J / (density * polar))
    return f, [f"torsion {k}" for k in range(1, modes + 1)], {}


def _ring(radius: float, E: float, I: float, mass_per_length: float, GJ_over_EI: float, modes: int) -> Any:  # noqa: E741
    n = np.arange(2, modes + 2, dtype=float)
    base = math.sqrt(E * I / (mass_per_length * radius**4)) / TWO_PI
    inside = base * n * (n**2 - 1.0) / np.sqrt(n**2 + 1.0)
    labels = [f"in its plane, {int(k)} waves around (twice)" for k in n]
    if GJ_over_EI > 0:
        outside = base * n * (n**2 - 1.0) / np.sqrt(n**2 + 1.0 / GJ_over_EI)
        order = np.argsort(np.concatenate([inside, outside]))[:modes]
        labels += [f"out of its plane, {int(k)} waves around (twice)" for k in n]
        return np.concatenate([inside, outside])[order], [labels[i] for i in order], {}
    return inside, labels, {}


def _plate_factor(edge: tuple[str, str], m: int) -> tuple[float, float, float, str]:
    """Warburton's G, H, J of the m-th beam function (from 1), and its name."""
    if edge == ("pinned", "pinned"):
        return float(m), float(m**2), float(m**2), str(m)
    pi = math.pi
    if edge == ("fixed", "fixed"):
        g = 1.506 if m == 1 else m + 0.5
        h = 1.248 if m == 1 else g**2 * (1.0 - 2.0 / (g * pi))
        return g, h, h, str(m)
    if edge == ("fixed", "pinned"):
        g = m + 0.25
        h = g**2 * (1.0 - 1.0 / (g * pi))
        return g, h, h, str(m)
    if edge == ("fixed", "free"):
        if m == 1:
            return 0.597, -0.0870, 0.471, "1"
        if m == 2:
            return 1.494, 1.347, 3.284, "2"
        g = m - 0.5
        return g, g**2 * (1.0 - 2.0 / (g * pi)), g**2 * (1.0 + 2.0 / (g * pi)), str(m)
    if edge == ("pinned", "free"):
        if m == 1:
            return 0.0, 0.0, 3.0 / pi**2, "1 (turning)"
        g = m - 0.75
        return g, g**2 * (1.0 - 1.0 / (g * pi)), g**2 * (1.0 + 3.0 / (g * pi)), str(m)
    if m == 1:
        return 0.0, 0.0, 0.0, "1 (even)"
    if m == 2:
        return 0.0, 0.0, 12.0 / pi**2, "2 (turning)"
    if m == 3:
        return 1.506, 1.248, 5.017, "3"
    g = m - 1.5
    return g, g**2 * (1.0 - 2.0 / (g * pi)), g**2 * (1.0 + 6.0 / (g * pi)), str(m)


def _plate(
    length: float, width: float, thickness: float, E: float, nu: float, density: float, ends: str, sides: str,
    mass_per_area: float, modes: int,
) -> Any:  # fmt: skip
    x_edges, y_edges = _pair(ends), _pair(sides)
    for pair in (x_edges, y_edges):
        if "sliding" in pair:
            raise DescriptionError("ends, sides: the edges of a plate are fixed, pinned or free")
    D = E * thickness**3 / (12.0 * (1.0 - nu**2))
    areal = density * thickness + mass_per_area
    found = []
    for m in range(1, modes + 4):
        for n in range(1, modes + 4):
            gx, hx, jx, first = _plate_factor(x_edges, m)
            gy, hy, jy, second = _plate_factor(y_edges, n)
            ratio = length / width
            square = gx**4 + gy**4 * ratio**4 + 2.0 * ratio**2 * (nu * hx * hy + (1.0 - nu) * jx * jy)
            if square > 1e-9:
                found.append((math.pi / (2.0 * length**2) * math.sqrt(square * D / areal),
                              Labelled.of(f"({first}, {second})", m, n)))  # fmt: skip
    found.sort()
    return np.array([f for f, _ in found[:modes]]), [w for _, w in found[:modes]], {"D": (D, "N m")}


def _mass_on_spring(mass: float, stiffness: float, spring_mass: float, damping_ratio: float) -> Any:
    moving = mass + spring_mass / 3.0
    f = math.sqrt(stiffness / moving) / TWO_PI
    facts = {"static deflection under gravity": (9.80665 * 1e3 * mass / stiffness, "mm")}
    labels = ["undamped"]
    values = [f]
    if damping_ratio:
        if damping_ratio >= 1.0:
            raise DescriptionError("damping_ratio: critical or more: nothing oscillates")
        values.append(f * math.sqrt(1.0 - damping_ratio**2))
        labels.append("damped")
    return np.array(values), labels, facts


def _tuned_peak(mass_ratio: float, tuning: float, zeta: float) -> float:
    """Largest displacement over the static one of a main mass, undamped, with a damper; zeta is c / (2 m Ω)."""
    from scipy.optimize import minimize_scalar

    def minus(g: float) -> float:
        damped = (2.0 * zeta * g) ** 2
        split = mass_ratio * tuning**2 * g**2 - (g**2 - 1.0) * (g**2 - tuning**2)
        below = damped * (g**2 - 1.0 + mass_ratio * g**2) ** 2 + split**2
        return -math.sqrt((damped + (g**2 - tuning**2) ** 2) / below)

    grid = np.linspace(0.02, 3.0, 3000)
    at = float(grid[int(np.argmin([minus(float(g)) for g in grid]))])
    step = float(grid[1] - grid[0])
    return -float(minimize_scalar(minus, bounds=(at - step, at + step), method="bounded", options={"xatol": 1e-9}).fun)


def _tuned(mass: float, stiffness: float, mass_ratio: float) -> Any:
    if mass_ratio <= 0:
        raise DescriptionError("mass_ratio: must be greater than 0")
    main = math.sqrt(stiffness / mass) / TWO_PI
    tuned = main / (1.0 + mass_ratio)
    added = mass_ratio * mass
    pair = []
    ratio2 = (tuned / main) ** 2
    b = 1.0 + ratio2 * (1.0 + mass_ratio)
    for sign in (-1.0, 1.0):
        pair.append(main * math.sqrt((b + sign * math.sqrt(b**2 - 4.0 * ratio2)) / 2.0))
    # c / (2 m Ω) = √(3μ / 8(1+μ)³) with the main mass's Ω; over the damper's own frequency Ω / (1+μ) it is
    zeta = math.sqrt(3.0 * mass_ratio / (8.0 * (1.0 + mass_ratio)))
    omega = TWO_PI * tuned
    facts = {
        "damper's mass": (added, "kg"),
        "damper's stiffness": (added * omega**2, "N/m"),
        "damper's damping ratio": (100.0 * zeta, "%"),
        "damper's damping constant": (2.0 * zeta * added * omega, "N s/m"),
        "amplification at the fixed points": (math.sqrt(1.0 + 2.0 / mass_ratio), ""),
        "largest amplification": (_tuned_peak(mass_ratio, tuned / main, zeta / (1.0 + mass_ratio)), ""),
    }
    labels = ["main mass alone", "damper alone, tuned", "lower of the pair, undamped", "upper of the pair, undamped"]
    return np.array([main, tuned, *pair]), labels, facts


_BEAM = {"length": "length", "E": "stress", "I": "second moment of area", "mass_per_length": "mass per length"}
FORMULAS: dict[str, Formula] = {
    "beam": Formula(
        "bending of a uniform beam; with area also rotary inertia, with G and shear_factor also shear",
        "Blevins 1979, chapter 8 (roots solved to 1e-14); preload: Timoshenko, Young & Weaver 1974, chapter 5; shear "
        "and rotary inertia: Huang, J. Appl. Mech. 28 (1961) 579-584",
        _BEAM,
        {"ends": ("text", "pinned-pinned"), "preload": ("force", 0.0), "area": ("area", 0.0), "G": ("stress", 0.0),
         "shear_factor": ("number", 0.0)},
        "length=1m E=205GPa I=1.5e-7m^4 mass_per_length=12kg/m ends=fixed-free", _beam,
    ),
    "tip mass": Formula(
        "cantilever with a mass (and inertia) at its tip", "Rao 2007, chapter 11 (roots solved to 1e-14)",
        {**_BEAM, "tip_mass": "mass"}, {"tip_inertia": ("inertia", 0.0)},
        "length=1m E=205GPa I=1.5e-7m^4 mass_per_length=12kg/m tip_mass=5kg", _tip,
    ),
    "rod": Formula(
        "stretching of a uniform rod", "Blevins 1979, chapter 8",
        {"length": "length", "E": "stress", "density": "density"},
        {"ends": ("text", "fixed-free"), "tip_mass": ("mass", 0.0), "area": ("area", 0.0)},
        "length=1m E=205GPa density=7840kg/m^3 ends=fixed-free", _rod,
    ),
    "shaft": Formula(
        "torsion of a uniform shaft (polar_moment is J for a round one)", "Blevins 1979, chapter 8",
        {"length": "length", "G": "stress", "J": "second moment of area", "density": "density"},
        {"ends": ("text", "fixed-free"), "polar_moment": ("second moment of area", 0.0),
         "tip_inertia": ("inertia", 0.0)},
        "length=1m G=80GPa J=2e-8m^4 density=7840kg/m^3", _shaft,
    ),
    "ring": Formula(
        "free thin ring, bending in (and out of) its plane", "Blevins 1979, chapter 9; Timoshenko, Young & Weaver "
        "1974, chapter 5", {"radius": "length", "E": "stress", "I": "second moment of area",
                               "mass_per_length": "mass per length"},
        {"GJ_over_EI": ("number", 0.0)}, "radius=0.5m E=205GPa I=4.5e-8m^4 mass_per_length=4.7kg/m", _ring,
    ),
    "plate": Formula(
        "bending of a thin rectangular plate; `ends` are the edges across the length, `sides` those along it",
        "Warburton 1954 (exact for pinned edges all round, within 2 % without free edges, up to 12 % with them)",
        {"length": "length", "width": "length", "thickness": "length", "E": "stress", "nu": "number",
         "density": "density"},
        {"ends": ("text", "pinned-pinned"), "sides": ("text", "pinned-pinned"),
         "mass_per_area": ("mass per area", 0.0)},
        "length=1.8m width=1.1m thickness=3mm E=205GPa nu=0.29 density=7840kg/m^3", _plate,
    ),
    "mass on a spring": Formula(
        "one mass on a spring, a third of the spring's own mass moving with it", "Den Hartog 1956, chapter 2; "
        "Blevins 1979, chapter 6", {"mass": "mass", "stiffness": "stiffness"},
        {"spring_mass": ("mass", 0.0), "damping_ratio": ("number", 0.0)}, "mass=24kg stiffness=560N/mm",
        _mass_on_spring,
    ),
    "tuned damper": Formula(
        "best tuning of a damped absorber on an undamped mass under force", "Den Hartog 1956, section 3.3",
        {"mass": "mass", "stiffness": "stiffness", "mass_ratio": "number"}, {},
        "mass=24kg stiffness=560N/mm mass_ratio=0.05", _tuned,
    ),
}  # fmt: skip


_FAMILIES = {"beam": "bending", "tip mass": "bending", "rod": "stretching", "shaft": "torsion",
             "plate": "plate bending", "ring": "ring", "mass on a spring": "on springs"}  # fmt: skip


def evaluate(name: str, *, modes: int = 5, units: UnitSystem | None = None, **inputs: Any) -> FormulaResult:
    """Evaluate a hand formula.

    Parameters
    ----------
    name : str
        Key of `FORMULAS`.
    modes : int
        How many frequencies, where there are several.
    inputs
        Quantities, with units as text or bare in SI.

    Raises
    ------
    UnknownNameError, UnitError, DescriptionError
        An unknown formula or input, one that is missing, out of range or of another dimension.
    """
    if name not in FORMULAS:
        raise UnknownNameError(f'there is no formula "{name}". {nearest_hint(name, FORMULAS, "formulas")}')
    formula = FORMULAS[name]
    known = {**formula.needs, **{k: d for k, (d, _) in formula.options.items()}}
    if "density" in inputs and "density" not in known and {"mass_per_length", "area"} <= set(known):
        if "area" not in inputs or "mass_per_length" in inputs:
            raise DescriptionError(f'formula "{name}": density goes with area, in place of mass_per_length')
        each = [quantity(inputs[k], k, units or UnitSystem()) for k in ("density", "area")]
        inputs = {k: v for k, v in inputs.items() if k != "density"} | {
            "mass_per_length": f"{each[0] * each[1]!r} kg/m"
        }
    for key in inputs:
        if key not in known:
            raise UnknownNameError(f'formula "{name}": there is no input "{key}". {nearest_hint(key, known, "inputs")}')
    missing = [k for k in formula.needs if k not in inputs]
    if missing:
        raise DescriptionError(f'formula "{name}": {", ".join(missing)} missing; for instance {formula.example}')
    if modes < 1:
        raise DescriptionError("the number of modes must be 1 or more")
    values: dict[str, Any] = {k: default for k, (_, default) in formula.options.items()}
    for key, value in inputs.items():
        if known[key] == "text":
            values[key] = str(value)
            continue
        with argument(key):
            values[key] = quantity(value, known[key], units or UnitSystem())
        optional = key in formula.options
        if key != "preload" and (values[key] < 0 or (values[key] == 0 and not optional)):
            raise DescriptionError(f'formula "{name}", {key}: must be greater than 0, got {value}')
    if "modes" in formula.compute.__code__.co_varnames[: formula.compute.__code__.co_argcount]:
        values["modes"] = modes
    f, labels, facts = formula.compute(**values)
    return FormulaResult(
        name, formula.words, formula.source, np.asarray(f), tuple(labels), facts, _FAMILIES.get(name, "")
    )
