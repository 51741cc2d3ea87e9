"""What goes on, told to whoever listens: nobody, unless an interface says so.

The core tells phases and counts; it knows nothing of terminals.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sized
from contextlib import contextmanager
from contextvars import ContextVar
from typing import TypeVar

__all__ = ["Listener", "counted", "listening", "quiet", "tell", "use"]

T = TypeVar("T")
Listener = Callable[[str, int, int, str], None]
"""Called with a phase in words, how much is done of how much (0 where it is not counted), and of what."""

_listener: ContextVar[Listener | None] = ContextVar("listener", default=None)
_usual: list[Listener] = []


def tell(phase: str, done: int = 0, of: int = 0, what: str = "") -> None:
    """Tell a phase, and how far it is."""
    listener = _listener.get() or (_usual[0] if _usual else None)
    if listener is not None:
        listener(phase, done, of, what)


def use(listener: Listener | None) -> None:
    """Tell phases to this listener wherever no other is set; None: to nobody."""
    _usual[:] = [] if listener is None else [listener]


def counted(items: Iterable[T], phase: str, what: str, of: int | None = None) -> Iterator[T]:
    """The items one by one, each told before it is taken up."""
    total = of if of is not None else len(items) if isinstance(items, Sized) else 0
    for number, item in enumerate(items):
        tell(phase, number, total, what)
        yield item


@contextmanager
def listening(listener: Listener) -> Iterator[None]:
    """Within it, phases are told to this listener."""
    token = _listener.set(listener)
    try:
        yield
    finally:
        _listener.reset(token)


def quiet() -> None:
    """Tell that nothing goes on for now, before something else is shown: an empty phase."""
    tell("")
