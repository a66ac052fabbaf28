"""A thread that draws one picture at a time; only the latest wish counts."""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from PyQt6.QtGui import QColor, QImage, QPainter

from vastgrid.qt.widgets import theme

Wish = TypeVar("Wish")


@dataclass(frozen=True)
class Size:
    """Width and height in pixels."""

    width: int
    height: int


class Painter(threading.Thread, Generic[Wish]):
    """Draws off the interface thread.

    Parameters
    ----------
    draw : callable
        Wish → picture, and whatever belongs to it.
    deliver : callable
        Gets the wish, the picture and what belongs to it, on the painter's thread.
    size : callable
        Says how large the picture of a wish is, for telling of a fault in its place.
    """

    def __init__(
        self,
        draw: Callable[[Wish], tuple[QImage, Any]],
        deliver: Callable[[Wish, QImage, Any], None],
        size: Callable[[Wish], Size],
    ) -> None:
        super().__init__(daemon=True, name="vastgrid-painter")
        self._draw, self._deliver, self._size = draw, deliver, size
        self._wanted: Wish | None = None
        self._wake = threading.Condition()
        self._closed = False
        self.busy = False

    def ask(self, wish: Wish) -> None:
        """Ask for a picture; an older wish that was not begun is forgotten."""
        with self._wake:
            self._wanted = wish
            self.busy = True
            self._wake.notify()

    def close(self) -> None:
        """End the thread after the picture it is drawing."""
        with self._wake:
            self._closed = True
            self._wake.notify()
        if self.is_alive():
            self.join(10.0)

    def run(self) -> None:
        """Draw until closed."""
        while True:
            with self._wake:
                while self._wanted is None and not self._closed:
                    self.busy = False
                    self._wake.wait()
                if self._closed:
                    return
                assert self._wanted is not None
                wish = self._wanted
                self._wanted = None
            more: Any = None
            try:
                picture, more = self._draw(wish)
            except Exception as error:  # noqa: BLE001 - a picture that fails must not end the painter
                picture = _fault_picture(self._size(wish), error)
            self._deliver(wish, picture, more)


def _fault_picture(size: Size, error: Exception) -> QImage:
    picture = QImage(size.width, size.height, QImage.Format.Format_ARGB32)
    picture.fill(QColor(0, 0, 0, 0))
    painter = QPainter(picture)
    painter.setPen(QColor(theme.LIGHT.error))
    painter.drawText(picture.rect(), 0x84, "This cannot be drawn.")
    painter.end()
    return picture
