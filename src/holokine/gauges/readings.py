"""What a reading makes of its channels: a form of the values at one place, and the largest over places.

A reading is one number for tables: a channel alone, the magnitude of three, or the largest over the places of a field.
Each form says what value it has, whether it has a sign, and the quadratic form that it is the root of, from which
every combination (of modes, of random motion) is made.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

import numpy as np

from holokine.elements.stress import Places, equivalent_form, equivalent_stress, principal_stress

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["FORMS", "Form", "Reading"]


class Form(ABC):
    """How the values at one place become one number."""

    name: ClassVar[str]
    field: ClassVar[bool] = False
    """Whether the reading is the largest over many places."""
    by_component: ClassVar[bool] = False
    """Whether a combined answer makes it of combined components (an upper bound), not of the quadratic form."""
    signed: ClassVar[bool] = False
    """Whether the number has a sign (and so a lowest and a highest value of their own)."""

    @abstractmethod
    def value(self, parts: Floats) -> Floats:
        """Number of each place, shape (..., width) to (...)."""

    def quadratic(self, width: int) -> Floats | None:
        """Q with value² = pᵀ Q p, shape (width, width); None where the value is no quadratic form."""
        return np.eye(width)


class Single(Form):
    """One channel."""

    name, signed = "single", True

    def value(self, parts: Floats) -> Floats:
        return parts[..., 0]


class Magnitude(Form):
    """Magnitude of a vector."""

    name, by_component = "magnitude", True

    def value(self, parts: Floats) -> Floats:
        return np.asarray(np.sqrt((parts**2).sum(axis=-1)))


class Largest(Form):
    """One channel per place, the largest of all."""

    name, field, signed = "largest", True, True

    def value(self, parts: Floats) -> Floats:
        return parts[..., 0]


class Equivalent(Form):
    """Equivalent (von Mises) stress, the largest of all places."""

    name, field = "equivalent", True

    def value(self, parts: Floats) -> Floats:
        return equivalent_stress(parts)

    def quadratic(self, width: int) -> Floats | None:
        return equivalent_form(width)


class Principal(Form):
    """Principal stress of largest magnitude, with its sign, the largest of all places."""

    name, field, signed = "principal", True, True

    def value(self, parts: Floats) -> Floats:
        return principal_stress(parts)

    def quadratic(self, width: int) -> Floats | None:
        return None


FORMS: dict[str, Form] = {f.name: f for f in (Single(), Magnitude(), Largest(), Equivalent(), Principal())}


@dataclass(frozen=True)
class Reading:
    """A number that tables show, made of channels.

    Attributes
    ----------
    gauge, component, dimension : str
    how : str
        Key of `FORMS`.
    channels : range
        Place by place, `width` of each.
    width : int
        Channels of one place.
    places : Places or None
        Of a field.
    one_sided : bool
        Whether only what is above zero counts.
    """

    gauge: str
    component: str
    dimension: str
    how: str
    channels: range
    width: int = 1
    places: Places | None = None
    one_sided: bool = False

    def size(self, values: Floats) -> Floats:
        """By which its values are ranked."""
        return values if self.one_sided else np.abs(values)

    @property
    def form(self) -> Form:
        """What it makes of its channels."""
        return FORMS[self.how]

    @property
    def label(self) -> str:
        """Gauge and component for tables."""
        return f"{self.gauge} {self.component}".strip()

    @property
    def count(self) -> int:
        """Number of places."""
        return len(self.channels) // self.width

    @property
    def columns(self) -> slice:
        """Its channels as a slice (a view, not a copy, of an array of channels)."""
        return slice(self.channels.start, self.channels.stop, self.channels.step)

    def at(self, place: int) -> range:
        """Channels of one place."""
        return self.channels[place * self.width : (place + 1) * self.width]

    def parts(self, values: Floats) -> Floats:
        """Its own values of an array of all channels, shape (..., channels) to (..., places, width)."""
        own = values[..., self.columns]
        return own.reshape(*own.shape[:-1], self.count, self.width)

    def place(self, number: int) -> str:
        """A place in words; nothing where the reading is no field."""
        return "" if self.places is None else self.places.text(number)
