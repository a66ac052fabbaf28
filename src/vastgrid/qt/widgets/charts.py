"""Small charts of an answer: cut and fill to one scale, columns, a curve."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from vastgrid.base.words import spaced
from vastgrid.data.dataset import Floats
from vastgrid.qt.widgets import theme
from vastgrid.styling import ramps


def cut_colour() -> QColor:
    """Return the colour of cut: that of the difference map's lower end."""
    return _shade(0.12)


def fill_colour() -> QColor:
    """Return the colour of fill: that of the difference map's upper end."""
    return _shade(0.88)


def _shade(share: float) -> QColor:
    table = ramps.difference()
    r, g, b = (int(v) for v in table[round(share * (len(table) - 1))])
    return QColor(r, g, b)


class _Chart(QWidget):
    """What charts have in common: a title, a fixed height, a place for each thing."""

    def __init__(self, title: str, palette: theme.Palette, height: int, words: Sequence[str]) -> None:
        super().__init__()
        self.title, self.palette_ = title, palette
        self.words = list(words)
        # Whoever cannot see the picture is told its figures.
        self.setAccessibleName(f"{title}: {'; '.join(self.words[:40])}")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(height)
        self.setMouseTracking(True)

    def place_of(self, k: int) -> QRectF:
        """Return where a thing lies; nowhere, where a chart shows nothing one by one."""
        return QRectF()

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        for k, text in enumerate(self.words):
            if self.place_of(k).contains(event.position()):
                QToolTip.showText(event.globalPosition().toPoint(), text, self)
                return

    def begin(self) -> QPainter:
        """Return a painter with the title drawn."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(8.5))
        painter.setPen(self.palette_.colour("quiet"))
        painter.drawText(QRectF(0, 0, self.width(), 16), 0x81, self.title)
        return painter


class EarthBars(_Chart):
    """Cut and fill of several things, each as two bars to one scale."""

    ROW = 44.0

    def __init__(self, title: str, rows: Sequence[tuple[str, float, float]], unit: str, palette: theme.Palette) -> None:
        words = [f"{name}: cut {spaced(cut, 1)} {unit}, fill {spaced(fill, 1)} {unit}" for name, cut, fill in rows]
        super().__init__(title, palette, round(22 + self.ROW * len(rows)), words)
        self.rows, self.unit = list(rows), unit

    def place_of(self, k: int) -> QRectF:
        """Return where a row lies."""
        return QRectF(0, 20.0 + self.ROW * k, self.width(), self.ROW)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = self.begin()
        palette = self.palette_
        most = max((max(cut, fill) for _, cut, fill in self.rows), default=0.0) or 1.0
        mono = theme.font(8.5, mono=True)
        room = self.width() * 0.5
        for k, (name, cut, fill) in enumerate(self.rows):
            place = self.place_of(k)
            painter.setFont(theme.font(8.5))
            painter.setPen(palette.colour("ink"))
            text = QFontMetricsF(painter.font()).elidedText(name, Qt.TextElideMode.ElideRight, self.width())
            painter.drawText(QRectF(0, place.top(), self.width(), 15), 0x81, text)
            for j, (word, value, colour) in enumerate((("cut", cut, cut_colour()), ("fill", fill, fill_colour()))):
                top = place.top() + 15 + 13 * j
                wide = max(room * value / most, 1.0 if value > 0.0 else 0.0)
                painter.fillRect(QRectF(26, top + 2, wide, 9), colour)
                painter.setPen(palette.colour("quiet"))
                painter.setFont(theme.font(8.0))
                painter.drawText(QRectF(0, top, 25, 13), 0x81, word)
                painter.setPen(palette.colour("ink"))
                painter.setFont(mono)
                painter.drawText(QRectF(0, top, self.width(), 13), 0x82, f"{spaced(value, 1)} {self.unit}")
        painter.end()


class Columns(_Chart):
    """Values in classes as columns, each with its own colour; from a line of nought up, and down where negative.

    Parameters
    ----------
    ends : (str, str)
        What stands at the left and the right end below.
    signed : (n,) float64 or None
        Where each class lies, for the colours of cut and fill; None for the curve's colour.
    """

    def __init__(
        self,
        title: str,
        values: Floats,
        words: Sequence[str],
        ends: tuple[str, str],
        palette: theme.Palette,
        signed: Floats | None = None,
    ) -> None:
        super().__init__(title, palette, 128, words)
        self.values, self.ends, self.signed = values, ends, signed

    def place_of(self, k: int) -> QRectF:
        """Return where a column stands."""
        wide = self.width() / max(len(self.values), 1)
        return QRectF(k * wide, 18.0, wide, self.height() - 36.0)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = self.begin()
        palette = self.palette_
        top, low = max(float(self.values.max(initial=0.0)), 0.0), min(float(self.values.min(initial=0.0)), 0.0)
        span = (top - low) or 1.0
        most = float(np.abs(self.signed).max(initial=0.0)) if self.signed is not None else 0.0
        for k, value in enumerate(self.values.tolist()):
            place = self.place_of(k)
            nought = place.top() + place.height() * top / span
            high = place.height() * value / span
            colour = palette.colour("curve")
            if self.signed is not None:
                colour = _shade(0.5 + 0.42 * float(self.signed[k]) / (most or 1.0))
            bar = QRectF(place.left() + 1.0, nought - high, max(place.width() - 2.0, 1.0), high).normalized()
            painter.fillRect(bar, colour)
            painter.setPen(QPen(palette.colour("line"), 1))
            painter.drawRect(bar)
        bottom = self.place_of(0).bottom() if len(self.values) else 0.0
        nought = 18.0 + (bottom - 18.0) * top / span
        painter.setPen(QPen(palette.colour("quiet"), 1))
        painter.drawLine(QPointF(0, nought), QPointF(self.width(), nought))
        row = QRectF(0, self.height() - 16, self.width(), 16)
        for flags, text in zip((0x81, 0x82), self.ends, strict=True):
            painter.drawText(row, flags, text)
        painter.end()


class Curve(_Chart):
    """A line through pairs of values: what a basin holds, by level."""

    def __init__(
        self,
        title: str,
        across: Floats,
        up: Floats,
        words: Sequence[str],
        ends: tuple[str, str, str],
        palette: theme.Palette,
    ) -> None:
        super().__init__(title, palette, 150, words)
        self.across, self.up, self.ends = across, up, ends

    def _places(self) -> list[QPointF]:
        room = QRectF(2, 20, self.width() - 4.0, self.height() - 40.0)
        wide = float(np.ptp(self.across)) if len(self.across) else 0.0
        high = float(np.ptp(self.up)) if len(self.up) else 0.0
        return [
            QPointF(
                room.left() + room.width() * (x - float(self.across.min())) / (wide or 1.0),
                room.bottom() - room.height() * (y - float(self.up.min())) / (high or 1.0),
            )
            for x, y in zip(self.across.tolist(), self.up.tolist(), strict=True)
        ]

    def place_of(self, k: int) -> QRectF:
        """Return where a pair is caught."""
        at = self._places()[k]
        return QRectF(at.x() - 5, at.y() - 5, 10, 10)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = self.begin()
        palette = self.palette_
        places = self._places()
        painter.setPen(QPen(palette.colour("line"), 1))
        painter.drawRect(QRectF(0, 18, self.width() - 1.0, self.height() - 36.0))
        painter.setPen(QPen(palette.colour("curve"), 2))
        painter.drawPolyline(QPolygonF(places))
        painter.setBrush(palette.colour("curve"))
        painter.setPen(Qt.PenStyle.NoPen)
        for at in places if len(places) <= 60 else []:
            painter.drawEllipse(at, 2.4, 2.4)
        painter.setPen(palette.colour("quiet"))
        row = QRectF(0, self.height() - 16, self.width(), 16)
        painter.drawText(row, 0x81, self.ends[0])
        painter.drawText(row, 0x82, self.ends[1])
        painter.drawText(QRectF(4, 20, self.width() - 8.0, 14), 0x81, self.ends[2])
        painter.end()
