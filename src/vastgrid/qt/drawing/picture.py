"""A picture of data in a dialog, from which a place can be picked or a box drawn."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSizeF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QImage, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from vastgrid.qt.drawing.view import View


class Picture(QWidget):
    """Shows an image of the world.

    Signals
    -------
    picked : float, float, float
        A place was clicked: easting, northing, and world size of a pixel.
    boxed : float, float, float, float
        A box was drawn: west, south, east, north.
    """

    picked = pyqtSignal(float, float, float)
    boxed = pyqtSignal(float, float, float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setMinimumSize(380, 220)
        self.setAccessibleName("Picture of the file's content")
        self.image: QImage | None = None
        self.overlay: QImage | None = None
        self.view = View(0.0, 0.0, 1.0, 1, 1)
        self.note = ""
        self._from: QPointF | None = None
        self._to: QPointF | None = None

    def show_image(self, image: QImage | None, view: View, overlay: QImage | None = None) -> None:
        """Show an image of a view; an overlay is drawn over it."""
        self.image, self.view, self.overlay = image, view, overlay
        self.update()

    def _scale(self) -> float:
        """Return what the image is shown at: never larger than it is, never beyond the widget."""
        return min(1.0, self.width() / max(self.view.width, 1), self.height() / max(self.view.height, 1))

    def _corner(self) -> QPointF:
        scale = self._scale()
        return QPointF((self.width() - scale * self.view.width) / 2.0, (self.height() - scale * self.view.height) / 2.0)

    def place(self, east: float, north: float) -> QPointF:
        """Return where a place in the world is shown."""
        x, y = self.view.pixel(east, north)
        return self._corner() + QPointF(x, y) * self._scale()

    def _world(self, place: QPointF) -> tuple[float, float]:
        own = (place - self._corner()) / self._scale()
        return self.view.world(own.x(), own.y())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self.image is not None:
            self._from = self._to = event.position()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._from is not None:
            self._to = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if event is None or self._from is None or self._to is None:
            return
        one, other = self._world(self._from), self._world(event.position())
        moved = (event.position() - self._from).manhattanLength()
        self._from = self._to = None
        self.update()
        if moved < 6:
            self.picked.emit(*one, self.view.size / self._scale())
        else:
            self.boxed.emit(min(one[0], other[0]), min(one[1], other[1]), max(one[0], other[0]), max(one[1], other[1]))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        scale = self._scale()
        box = QRectF(self._corner(), QSizeF(scale * self.view.width, scale * self.view.height))
        for image in (self.image, self.overlay):
            if image is not None:
                painter.drawImage(box, image)
        if self._from is not None and self._to is not None:
            painter.setPen(QPen(QColor("#0B6E75"), 1.5, Qt.PenStyle.DashLine))
            painter.drawRect(QRectF(self._from, self._to).normalized())
        if self.note:
            painter.setPen(QColor("#5B6870"))
            painter.drawText(QRectF(0, self.height() - 20, self.width(), 18), 0x84, self.note)
        painter.end()
