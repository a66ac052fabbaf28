"""How long work says how far it is, and learns that it should stop."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from vastgrid.base.errors import Cancelled


class Progress(Protocol):
    """What a conversion, reader or writer is given to report to."""

    def report(self, fraction: float, text: str = "") -> None:
        """Say how far the work is (0 to 1); raises `Cancelled` where the user asked to stop."""

    def part(self, start: float, stop: float) -> Progress:
        """Return a progress whose 0…1 is `start`…`stop` of this one."""


class Silent:
    """Progress for callers that do not watch; can still be told to cancel (tests, command line)."""

    def __init__(self, cancelled: Callable[[], bool] = lambda: False) -> None:
        self._cancelled = cancelled

    def report(self, fraction: float, text: str = "") -> None:
        """Raise `Cancelled` if asked to stop."""
        if self._cancelled():
            raise Cancelled

    def part(self, start: float, stop: float) -> Progress:
        """Return itself: nobody looks at the fraction."""
        return self

    def stopping(self) -> bool:
        """Say whether the work should stop, without reporting anything."""
        return self._cancelled()


class Reporting:
    """Progress that calls back, at most as often as it is told."""

    def __init__(self, tell: Callable[[float, str], None], cancelled: Callable[[], bool]) -> None:
        self._tell, self._cancelled = tell, cancelled
        self._start, self._stop = 0.0, 1.0

    def report(self, fraction: float, text: str = "") -> None:
        """Pass the fraction on, scaled into this progress's share."""
        if self._cancelled():
            raise Cancelled
        self._tell(self._start + (self._stop - self._start) * min(max(fraction, 0.0), 1.0), text)

    def stopping(self) -> bool:
        """Say whether the work should stop, without reporting anything."""
        return self._cancelled()

    def part(self, start: float, stop: float) -> Progress:
        """Return a progress for a share of this one."""
        share = Reporting(self._tell, self._cancelled)
        width = self._stop - self._start
        share._start, share._stop = self._start + start * width, self._start + stop * width
        return share
