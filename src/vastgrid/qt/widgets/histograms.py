"""Small histograms; a click on a bar hides or shows what it stands for."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from vastgrid.data.dataset import Floats
from vastgrid.measures.figures import Histogram
from vastgrid.qt.widgets import theme
from vastgrid.styling import ramps


class HistogramView(QWidget):
    """Paints a histogram.

    Signals
    -------
    pressed : int
        A bar was clicked, or chosen with the keyboard.
    """

    pressed = pyqtSignal(int)

    def __init__(self, histogram: Histogram, palette: theme.Palette, hidden: set[int], *, clickable: bool) -> None:
        super().__init__()
        self.histogram, self.palette_, self.hidden, self.clickable = histogram, palette, hidden, clickable
        self.current = -1
        self.setAccessibleName(f"Histogram: {histogram.title}")
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(18 * len(histogram.counts) + 20 if histogram.names else 92)
        if clickable:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            self.setCursor(Qt.CursorShape.PointingHandCursor)
            self.setToolTip("Click a bar to hide or show what it stands for")

    def bar(self, k: int) -> QRectF:
        """Return where a bar can be clicked."""
        if self.histogram.names:
            return QRectF(0, 18.0 + 18.0 * k, self.width(), 18.0)
        wide = self.width() / max(len(self.histogram.counts), 1)
        return QRectF(k * wide, 18.0, wide, self.height() - 34.0)

    def _at(self, event: QMouseEvent) -> int:
        every = range(len(self.histogram.counts))
        return next((k for k in every if self.bar(k).contains(event.position())), -1)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        k = -1 if event is None else self._at(event)
        if k >= 0 and self.clickable:
            self.pressed.emit(k)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        k = -1 if event is None else self._at(event)
        if k >= 0 and event is not None:
            QToolTip.showText(event.globalPosition().toPoint(), self.histogram.label(k), self)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not self.clickable:
            return
        last = len(self.histogram.counts) - 1
        if event.key() in (Qt.Key.Key_Right, Qt.Key.Key_Down):
            self.current = min(self.current + 1, last)
        elif event.key() in (Qt.Key.Key_Left, Qt.Key.Key_Up):
            self.current = max(self.current - 1, 0)
        elif event.key() in (Qt.Key.Key_Space, Qt.Key.Key_Return) and self.current >= 0:
            self.pressed.emit(self.current)
        else:
            super().keyPressEvent(event)
            return
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        palette, own = self.palette_, self.histogram
        painter.setFont(theme.font(8.5))
        painter.setPen(palette.colour("quiet"))
        painter.drawText(QRectF(0, 0, self.width(), 16), 0x81, own.title)
        most = max(int(own.counts.max(initial=1)), 1)
        for k in range(len(own.counts)):
            (self._paint_thing if own.names else self._paint_range)(painter, k, most)
        if not own.names and len(own.bounds):
            painter.setPen(palette.colour("quiet"))
            low, high = f"{own.bounds[0]:.2f}", f"{own.bounds[-1]:.2f} {own.unit}"
            painter.drawText(QRectF(0, self.height() - 16, self.width(), 16), 0x81, low)
            painter.drawText(QRectF(0, self.height() - 16, self.width(), 16), 0x82, high)
        if self.hasFocus() and self.current >= 0:
            painter.setPen(QPen(palette.colour("action"), 2))
            painter.drawRect(self.bar(self.current).adjusted(0, 0, -1, -1))
        painter.end()

    def _colour(self, k: int) -> QColor:
        own = self.histogram
        if own.keys:
            return QColor(*(int(v) for v in ramps.classes()[own.keys[k]]))
        if own.title == "Elevations":
            table = ramps.elevation()
            r, g, b = (int(v) for v in table[round(k * (len(table) - 1) / max(len(own.counts) - 1, 1))])
            return QColor(r, g, b).darker(112)
        return self.palette_.colour("curve")

    def _paint_range(self, painter: QPainter, k: int, most: int) -> None:
        place = self.bar(k)
        high = place.height() * float(np.sqrt(int(self.histogram.counts[k]) / most))
        bar = QRectF(place.left() + 0.5, place.bottom() - high, place.width() - 1.0, high)
        if k in self.hidden:
            painter.setPen(QPen(self.palette_.colour("line"), 1))
            painter.drawRect(bar)
        else:
            painter.fillRect(bar, self._colour(k))

    def _paint_thing(self, painter: QPainter, k: int, most: int) -> None:
        own, place = self.histogram, self.bar(k)
        share = float(np.sqrt(int(own.counts[k]) / most))
        bar = QRectF(place.left(), place.top() + 3, max(share * place.width() * 0.3, 2.0), 11)
        painter.setPen(QPen(self.palette_.colour("quiet"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush if k in self.hidden else self._colour(k))
        painter.drawRect(bar)
        painter.setPen(self.palette_.colour("quiet" if k in self.hidden else "ink"))
        text = own.label(k) + (" (hidden)" if k in self.hidden else "")
        room = place.width() * 0.68
        text = QFontMetricsF(painter.font()).elidedText(text, Qt.TextElideMode.ElideRight, room)
        painter.drawText(QRectF(place.width() * 0.32, place.top(), room, 17), 0x81, text)


class DensityView(QWidget):
    """Paints how dense points lie, north up."""

    def __init__(self, density: Floats, palette: theme.Palette) -> None:
        super().__init__()
        self.palette_ = palette
        top = float(np.quantile(density[density > 0], 0.98)) if (density > 0).any() else 1.0
        table = ramps.steepness()
        colours = table[np.clip(np.sqrt(density / top) * 255.0, 0, 255).astype(np.uint8)]
        image = np.full((*density.shape, 4), 255, np.uint8)
        image[:, :, 0], image[:, :, 1], image[:, :, 2] = colours[:, :, 2], colours[:, :, 1], colours[:, :, 0]
        image[density == 0, 3] = 0
        rows, columns = density.shape
        self.image = QImage(image.tobytes(), columns, rows, 4 * columns, QImage.Format.Format_ARGB32).copy()
        self.words = f"Density: dark is {top:.3g} and more in a square unit"
        self.setAccessibleName(self.words)
        self.setFixedHeight(150)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setFont(theme.font(8.5))
        painter.setPen(self.palette_.colour("quiet"))
        painter.drawText(QRectF(0, 0, self.width(), 16), 0x81, self.words)
        room = QRectF(0, 18, self.width(), self.height() - 20)
        scale = min(room.width() / self.image.width(), room.height() / self.image.height())
        painter.drawImage(QRectF(0, 18, self.image.width() * scale, self.image.height() * scale), self.image)
        painter.setPen(QPen(self.palette_.colour("line"), 1))
        painter.drawRect(QRectF(0, 18, self.image.width() * scale, self.image.height() * scale))
        painter.end()
