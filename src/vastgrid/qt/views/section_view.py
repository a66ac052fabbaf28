"""The section strip: everything along a line, with heights exaggerated, read under the pointer and handed on."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from vastgrid.base.quantities import Unit, unit_word
from vastgrid.data.classes import NOISE
from vastgrid.measures.section import Profile
from vastgrid.qt.drawing import furniture
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.polygons import polygon
from vastgrid.styling import ramps
from vastgrid.styling.ramps import CATEGORIES

LEFT, RIGHT, TOP, BOTTOM = 62.0, 16.0, 26.0, 24.0
EXAGGERATIONS = (0.0, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0)


class SectionView(QWidget):
    """Paints profiles.

    Signals
    -------
    seen : from, to
        Another part of the section is seen.
    hovered : float
        Distance along the section under the pointer; NaN when it leaves.
    stepped : int
        The section is to move a step to the left (-1) or right (1).
    """

    seen = pyqtSignal(float, float)
    hovered = pyqtSignal(float)
    stepped = pyqtSignal(int)

    def __init__(self, palette: theme.Palette) -> None:
        super().__init__()
        self.setObjectName("section")
        self.setAccessibleName("Section")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(110)
        self.palette_ = palette
        self.profiles: list[Profile] = []
        self.total = 0.0
        self.ratio = 1.0
        self.units: tuple[Unit | None, Unit | None] = (None, None)
        # 0 fills the strip.
        self.wanted = 0.0
        # Another view of the same section: both have the same heights.
        self.beside: SectionView | None = None
        self.overlays: list[Callable[[QPainter], None]] = []
        self._from, self._to = 0.0, 1.0
        self._hover: float | None = None
        self._drag: tuple[float, float, float] | None = None

    def show_profiles(
        self,
        profiles: Sequence[Profile],
        total: float,
        units: tuple[Unit | None, Unit | None],
        ratio: float,
    ) -> None:
        """Show these along a section of a length; the part that is seen stays if the length does."""
        if abs(total - self.total) > 1e-9:
            self._from, self._to = 0.0, max(total, 1e-9)
        self.profiles, self.total, self.units, self.ratio = list(profiles), total, units, ratio
        self.update()

    def colour_of(self, k: int) -> QColor:
        """Return the colour of the k-th profile: ink for the first surface, then colours that can be told apart."""
        surfaces = [n for n, each in enumerate(self.profiles) if each.kind == "line"]
        if surfaces and k == surfaces[0]:
            return self.palette_.colour("ink")
        return QColor(CATEGORIES[(4 + k * 3) % len(CATEGORIES)])

    # -- scales

    def heights_seen(self) -> tuple[float, float] | None:
        """Return the lowest and highest height in the part that is seen."""
        low, high = math.inf, -math.inf
        for each in (*self.profiles, *(self.beside.profiles if self.beside is not None else ())):
            seen = (each.along >= self._from) & (each.along <= self._to)
            z = each.z[seen]
            z = z[np.isfinite(z)]
            if len(z):
                low, high = min(low, float(z.min())), max(high, float(z.max()))
            for end in (self._from, self._to):
                value = each.at(end)
                if math.isfinite(value):
                    low, high = min(low, value), max(high, value)
        return (low, high) if low <= high else None

    def frame(self, box: QRectF) -> tuple[float, float, float]:
        """Return pixels per plan unit, pixels per height unit, and the height at the box's middle."""
        across = box.width() / max(self._to - self._from, 1e-9)
        pair = self.heights_seen() or (0.0, 1.0)
        middle = (pair[0] + pair[1]) / 2.0
        if self.wanted:
            return across, across / self.ratio * self.wanted, middle
        span = max(pair[1] - pair[0], 1e-6)
        return across, box.height() / (span * 1.15), middle

    def exaggeration(self) -> float:
        """Return by how much heights are exaggerated now."""
        across, up, _ = self.frame(self._box())
        return up * self.ratio / across

    def _box(self) -> QRectF:
        return QRectF(LEFT, TOP, max(self.width() - LEFT - RIGHT, 10.0), max(self.height() - TOP - BOTTOM, 10.0))

    def place_at(self, at: QPointF) -> tuple[float, float]:
        """Return distance along the section and height of a pixel."""
        box = self._box()
        across, up, middle = self.frame(box)
        return self._from + (at.x() - box.left()) / across, middle - (at.y() - box.center().y()) / up

    def pixels(self, along: np.ndarray, z: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return where places of the section are drawn, x and y (n,)."""
        box = self._box()
        across, up, middle = self.frame(box)
        return box.left() + (along - self._from) * across, box.center().y() - (z - middle) * up

    # -- hands

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        box = self._box()
        across, _, _ = self.frame(box)
        if self._drag is not None:
            moved = (self._drag[0] - event.position().x()) / across
            self._show_part(self._drag[1] + moved, self._drag[2] + moved)
        self._hover_at(self._from + (event.position().x() - box.left()) / across)

    def _hover_at(self, distance: float) -> None:
        self._hover = distance if 0.0 <= distance <= self.total else None
        self.hovered.emit(distance if self._hover is not None else math.nan)
        self.update()

    def leaveEvent(self, event: object) -> None:
        self._hover = None
        self.hovered.emit(math.nan)
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None:
            self._drag = (event.position().x(), self._from, self._to)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._drag = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        self._show_part(0.0, self.total)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            box = self._box()
            across, _, _ = self.frame(box)
            self.zoom(1.0015 ** event.angleDelta().y(), self._from + (event.position().x() - box.left()) / across)

    def zoom(self, ratio: float, at: float) -> None:
        """Come closer by a ratio, a distance staying where it is."""
        self._show_part(at - (at - self._from) / ratio, at + (self._to - at) / ratio)

    def _show_part(self, start: float, stop: float) -> None:
        if stop - start >= self.total:
            start, stop = 0.0, self.total
        elif start < 0.0:
            start, stop = 0.0, stop - start
        elif stop > self.total:
            start, stop = start - (stop - self.total), self.total
        self.follow(start, max(stop, start + 1e-6))
        self.seen.emit(self._from, self._to)

    def follow(self, start: float, stop: float) -> None:
        """Show the part of the section that another view shows."""
        self._from, self._to = start, stop
        self.update()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key = event.key()
        step = (self._to - self._from) / 50.0
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            now = self._hover if self._hover is not None else (self._from + self._to) / 2.0
            self._hover_at(min(max(now + (step if key == Qt.Key.Key_Right else -step), 0.0), self.total))
        elif key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal, Qt.Key.Key_Minus):
            at = self._hover if self._hover is not None else (self._from + self._to) / 2.0
            self.zoom(0.7 if key == Qt.Key.Key_Minus else 1.4, at)
        elif key in (Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            self.stepped.emit(-1 if key == Qt.Key.Key_PageUp else 1)
        elif key in (Qt.Key.Key_F, Qt.Key.Key_Home):
            self._show_part(0.0, self.total)
        else:
            super().keyPressEvent(event)

    def words(self) -> str:
        """Return what stands under the pointer: each surface's height, and how far each lies above the first."""
        if self._hover is None:
            return ""
        unit = unit_word(self.units[1])
        plan = unit_word(self.units[0])
        found = [(each.name, each.at(self._hover)) for each in self.profiles if each.kind == "line"]
        found = [(name, z) for name, z in found if math.isfinite(z)]
        parts = [f"at {self._hover:.2f}{plan}"]
        for k, (name, z) in enumerate(found):
            parts.append(f"{name} {z:.3f}{unit}" + (f" (Δ {z - found[0][1]:+.3f})" if k else ""))
        return "   ".join(parts)

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.palette_.colour("paper"))
        self.paint(painter, QRectF(self.rect()))
        if self.profiles:
            painter.setClipRect(self._box())
            for overlay in self.overlays:
                overlay(painter)
            painter.setClipping(False)
        if self.hasFocus():
            painter.setPen(QPen(self.palette_.colour("action"), 2))
            painter.drawRect(QRectF(1, 1, self.width() - 2, self.height() - 2))
        painter.end()

    def paint(self, painter: QPainter, whole: QRectF) -> None:
        """Paint the section into a rectangle, of the window, a picture or a sheet."""
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(
            whole.left() + LEFT, whole.top() + TOP, whole.width() - LEFT - RIGHT, whole.height() - TOP - BOTTOM
        )
        painter.setFont(theme.font(8.5))
        if not self.profiles:
            painter.setPen(self.palette_.colour("quiet"))
            painter.drawText(whole, 0x84, "Nothing that is shown lies along this line.")
            return
        self._paint_axes(painter, box)
        painter.save()
        painter.setClipRect(box)
        for k, each in enumerate(self.profiles):
            if each.kind == "marks":
                self._paint_marks(painter, box, each, self.colour_of(k))
        for k in reversed(range(len(self.profiles))):
            if self.profiles[k].kind == "line":
                self._paint_line(painter, box, self.profiles[k], self.colour_of(k))
        painter.restore()
        self._paint_names(painter, whole)
        self._paint_hover(painter, box)
        self._paint_words(painter, box)

    def _paint_axes(self, painter: QPainter, box: QRectF) -> None:
        across, up, middle = self.frame(box)
        quiet, line = self.palette_.colour("quiet"), self.palette_.colour("line")
        step = furniture.bar_length(1.0 / up, 44.0)
        low = middle - box.height() / 2.0 / up
        z = math.ceil(low / step) * step
        decimals = max(0, -math.floor(math.log10(step)))
        while z <= middle + box.height() / 2.0 / up:
            y = box.center().y() - (z - middle) * up
            painter.setPen(QPen(line, 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(quiet)
            painter.drawText(QRectF(box.left() - LEFT, y - 8, LEFT - 6, 16), 0x82, f"{z:.{decimals}f}")
            z += step
        step = furniture.bar_length(1.0 / across, 110.0)
        d = math.ceil(self._from / step) * step
        decimals = max(0, -math.floor(math.log10(step)))
        while d <= self._to + 1e-9:
            x = box.left() + (d - self._from) * across
            painter.setPen(QPen(line, 1))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.setPen(quiet)
            painter.drawText(QRectF(x - 40, box.bottom() + 3, 80, 16), 0x84, f"{d:.{decimals}f}")
            d += step

    def _paint_line(self, painter: QPainter, box: QRectF, profile: Profile, colour: QColor) -> None:
        across, up, middle = self.frame(box)
        painter.setPen(QPen(colour, 1.6))
        x = box.left() + (profile.along - self._from) * across
        y = box.center().y() - (profile.z - middle) * up
        good = np.isfinite(y)
        marks = np.flatnonzero(np.diff(np.concatenate(([False], good, [False])).astype(np.int8)))
        for start, stop in zip(marks[::2].tolist(), marks[1::2].tolist(), strict=True):
            inside = np.flatnonzero((x[start:stop] >= box.left() - 2) & (x[start:stop] <= box.right() + 2))
            if len(inside):
                first, last = max(start + int(inside[0]) - 1, start), min(start + int(inside[-1]) + 2, stop)
            else:
                first, last = start, stop
            painter.drawPolyline(polygon(*_thinned(x[first:last], y[first:last])))

    def _paint_marks(self, painter: QPainter, box: QRectF, profile: Profile, colour: QColor) -> None:
        across, up, middle = self.frame(box)
        seen = (profile.along >= self._from) & (profile.along <= self._to)
        x = box.left() + (profile.along[seen] - self._from) * across
        y = box.center().y() - (profile.z[seen] - middle) * up
        few = len(x) <= 3000
        codes = profile.classes[seen] if profile.classes is not None else None
        if len(x) > 40_000:
            # As many as there are pixels: more would cover each other.
            cell = np.unique(np.round(x) * 100_000.0 + np.round(y), return_index=True)[1]
            x, y, codes = x[cell], y[cell], codes[cell] if codes is not None else None
        # Classes are told apart where there are several; noise lies above all else.
        every = np.unique(profile.classes).tolist() if profile.classes is not None else []
        for code in sorted(every, key=lambda code: (code in NOISE, code)) if len(every) > 1 else [None]:
            tint = QColor(colour) if code is None else QColor(*ramps.classes()[code].tolist())
            tint.setAlpha(230 if few else 130)
            own = slice(None) if code is None else codes == code
            painter.setPen(QPen(tint, 4.0 if code in NOISE or (few and len(x) < 400) else 2.0))
            painter.drawPoints(polygon(x[own], y[own]))

    def _paint_names(self, painter: QPainter, whole: QRectF) -> None:
        x = whole.left() + LEFT
        painter.setFont(theme.font(8.5))
        for k, each in enumerate(self.profiles):
            wide = painter.fontMetrics().horizontalAdvance(each.name) + 30.0
            if x + wide > whole.right() - 8:
                painter.setPen(self.palette_.colour("quiet"))
                painter.drawText(QPointF(x, whole.top() + 17), "…")
                return
            colour = self.colour_of(k)
            if each.kind == "line":
                painter.setPen(QPen(colour, 2.2))
                painter.drawLine(QPointF(x, whole.top() + 13), QPointF(x + 16, whole.top() + 13))
            else:
                painter.setPen(QPen(colour, 5.0))
                painter.drawPoint(QPointF(x + 8, whole.top() + 13))
            painter.setPen(self.palette_.colour("ink"))
            painter.drawText(QPointF(x + 21, whole.top() + 17), each.name)
            x += wide

    def _paint_words(self, painter: QPainter, box: QRectF) -> None:
        """Write what stands under the pointer, on the side where it is not in the way."""
        words = self.words()
        if not words:
            return
        painter.setFont(theme.font(8.5, mono=True))
        wide = min(painter.fontMetrics().horizontalAdvance(words) + 12.0, box.width())
        across, _, _ = self.frame(box)
        left = box.left() + ((self._hover or 0.0) - self._from) * across < box.center().x()
        place = QRectF(box.right() - wide if left else box.left(), box.top() + 2, wide, 18)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(furniture.halo_of(self.palette_))
        painter.drawRoundedRect(place, 4, 4)
        painter.setPen(self.palette_.colour("ink"))
        text = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(wide) - 8)
        painter.drawText(place, 0x84, text)

    def _paint_hover(self, painter: QPainter, box: QRectF) -> None:
        if self._hover is None:
            return
        across, up, middle = self.frame(box)
        x = box.left() + (self._hover - self._from) * across
        if not box.left() - 1 <= x <= box.right() + 1:
            return
        painter.setPen(QPen(self.palette_.colour("error"), 1, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        for k, each in enumerate(self.profiles):
            z = each.at(self._hover)
            if math.isfinite(z):
                painter.setPen(QPen(self.palette_.colour("raised"), 1.5))
                painter.setBrush(self.colour_of(k))
                painter.drawEllipse(QPointF(x, box.center().y() - (z - middle) * up), 4, 4)


def _thinned(x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return a line with no more than the lowest and highest place of each pixel column: nothing is lost to the eye."""
    if len(x) < 6000:
        return x, y
    column = np.floor(x).astype(np.int64)
    start = np.concatenate(([0], np.flatnonzero(np.diff(column)) + 1))
    low, high = np.minimum.reduceat(y, start), np.maximum.reduceat(y, start)
    return np.repeat(x[start], 2), np.column_stack((low, high)).ravel()
