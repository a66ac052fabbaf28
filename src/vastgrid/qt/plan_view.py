"""The plan view: terrain from above, panned and zoomed without waiting for anything to be drawn."""

from __future__ import annotations

import math
import threading
from collections.abc import Callable, Sequence

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QPolygonF,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from vastgrid.base.quantities import Unit
from vastgrid.qt import rendering, theme
from vastgrid.qt.bridge import Bridge
from vastgrid.qt.rendering import View
from vastgrid.terrain.compare import bucket_index, heights
from vastgrid.terrain.dataset import Dataset
from vastgrid.terrain.grid import Grid
from vastgrid.terrain.linework import Contours
from vastgrid.terrain.tin import Tin

MARGIN = 1.5


class Painter(threading.Thread):
    """Draws one picture at a time on its own thread; only the latest wish counts."""

    def __init__(self, deliver: Callable[[View, QImage, int], None]) -> None:
        super().__init__(daemon=True, name="vastgrid-painter")
        self._deliver = deliver
        self._wanted: tuple[Sequence[Dataset], View, theme.Palette, int, dict[int, str]] | None = None
        self._wake = threading.Condition()
        self._closed = False
        self.busy = False

    def ask(
        self, datasets: Sequence[Dataset], view: View, palette: theme.Palette, scene: int, colours: dict[int, str]
    ) -> None:
        """Ask for a picture; an older wish that was not begun is forgotten."""
        with self._wake:
            self._wanted = (datasets, view, palette, scene, colours)
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
                datasets, view, palette, scene, colours = self._wanted
                self._wanted = None
            try:
                for each in datasets:
                    if isinstance(each, Tin):
                        bucket_index(each)
                picture = rendering.draw(datasets, view, palette, wires=True, colours=colours)
            except Exception as error:  # noqa: BLE001 - a picture that fails must not end the painter
                picture = _fault_picture(view, error)
            self._deliver(view, picture, scene)


def _fault_picture(view: View, error: Exception) -> QImage:
    picture = QImage(view.width, view.height, QImage.Format.Format_ARGB32)
    picture.fill(QColor(0, 0, 0, 0))
    painter = QPainter(picture)
    painter.setPen(QColor(theme.LIGHT.error))
    painter.drawText(picture.rect(), 0x84, f"This cannot be drawn: {error}")
    painter.end()
    return picture


class PlanView(QWidget):
    """Shows datasets in plan.

    Signals
    -------
    cursor_moved : str
        Easting, northing and height under the cursor, ready to show.
    scale_changed : str
        “1:500”, ready to show.
    """

    cursor_moved = pyqtSignal(str)
    scale_changed = pyqtSignal(str)

    def __init__(self, palette: theme.Palette) -> None:
        super().__init__()
        self.setObjectName("plan")
        self.setAccessibleName("Plan view")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(240, 160)
        self.palette_ = palette
        self.datasets: list[Dataset] = []
        self.preview: Contours | None = None
        self.view = View(0.0, 0.0, 1.0, 800, 500)
        self.mark: tuple[float, float] | None = None
        self.unit: Unit | None = None
        self._touched = False
        self._scene = 0
        self._picture: tuple[View, QImage, int] | None = None
        self._range = (0.0, 1.0)
        self._drag: QPointF | None = None
        self.colours: dict[int, str] = {}
        self._corners: list[tuple[float, float]] = []
        self._area_done: Callable[[list[tuple[float, float]]], None] | None = None
        self._pointer = QPointF()
        self._bridge = Bridge(self)
        self._painter = Painter(lambda *made: self._bridge.post(lambda: self._arrived(*made)))
        self._painter.start()
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(40)
        self._soon.timeout.connect(self._ask)

    # -- what is shown

    def show_datasets(self, datasets: Sequence[Dataset]) -> None:
        """Show these, the first lowest; the view stays where it is unless nothing was shown before."""
        if [id(each) for each in datasets] == [id(each) for each in self.datasets]:
            return
        self.datasets = list(datasets)
        self._scene += 1
        self._range = rendering.height_range(self.datasets)
        if not self._touched:
            self.fit()
        self._ask()

    def repaint_all(self) -> None:
        """Draw everything anew: a colour changed, or a cloud can be drawn better."""
        self._scene += 1
        self._ask()

    def draw_area(self, done: Callable[[list[tuple[float, float]]], None]) -> None:
        """Let corners be clicked; call back with them when Enter is pressed or the last one is double-clicked."""
        self._corners, self._area_done = [], done
        self.setCursor(Qt.CursorShape.CrossCursor)
        self.setFocus()
        self.update()

    def end_area(self, *, keep: bool) -> None:
        """End the drawing of an area, and hand it on if it has three corners."""
        corners, done = self._corners, self._area_done
        self._corners, self._area_done = [], None
        self.unsetCursor()
        self.update()
        if keep and done is not None and len(corners) >= 3:
            done(corners)

    def show_preview(self, contours: Contours | None) -> None:
        """Draw contours lightly over everything, or take them away."""
        self.preview = contours
        self.update()

    def set_palette(self, palette: theme.Palette) -> None:
        """Change the theme."""
        self.palette_ = palette
        self._scene += 1
        self._ask()

    def fit(self) -> None:
        """Show everything whole."""
        box = rendering.bounds(self.datasets)
        if box is not None and self.width() > 1:
            self._touched = False
            self._look(rendering.fitted(box, self.width(), self.height()))

    def go_to(self, east: float, north: float, *, close: bool = True) -> None:
        """Bring a place to the middle, mark it, and come close."""
        self.mark = (east, north)
        self._touched = True
        size = self.view.size
        if close:
            box = rendering.bounds(self.datasets)
            if box is not None:
                size = min(size, max(box[2] - box[0], box[3] - box[1]) / 12.0 / max(self.width(), 1) * 2.0)
        self._look(View(east, north, size, self.width(), self.height()))

    def forget(self) -> None:
        """Show nothing, and fit the view anew to whatever comes next."""
        self.datasets, self.mark, self._touched, self._picture = [], None, False, None
        self._scene += 1
        self.update()

    def settled(self) -> bool:
        """Whether the picture shows the present view sharply."""
        made = self._picture
        return (
            not self._painter.busy
            and not self._soon.isActive()
            and made is not None
            and made[2] == self._scene
            and made[0].size == self.view.size
        )

    def close_painter(self) -> None:
        """End the painter's thread."""
        self._painter.close()

    # -- looking around

    def _look(self, view: View) -> None:
        self.view = view
        self.scale_changed.emit(self._scale_text())
        self.update()
        if not self._covered():
            self._soon.start()

    def _covered(self) -> bool:
        made = self._picture
        if made is None or made[2] != self._scene or made[0].size != self.view.size:
            return False
        drawn = made[0]
        return (
            drawn.west <= self.view.west
            and drawn.top >= self.view.top
            and drawn.west + drawn.width * drawn.size >= self.view.west + self.view.width * self.view.size
            and drawn.top - drawn.height * drawn.size <= self.view.top - self.view.height * self.view.size
        )

    def _ask(self) -> None:
        if self.width() > 1:
            view = self.view.grown(MARGIN)
            self._painter.ask(tuple(self.datasets), view, self.palette_, self._scene, dict(self.colours))

    def _arrived(self, view: View, picture: QImage, scene: int) -> None:
        if scene == self._scene:
            self._picture = (view, picture, scene)
            self.update()
            if not self._covered():
                self._soon.start()

    def _zoom(self, ratio: float, at: QPointF) -> None:
        self._touched = True
        east, north = self.view.world(at.x(), at.y())
        size = min(max(self.view.size / ratio, 1e-6), 1e7)
        own = View(self.view.east, self.view.north, size, self.width(), self.height())
        x, y = own.pixel(east, north)
        self._look(View(own.east + (x - at.x()) * size, own.north - (y - at.y()) * size, size, own.width, own.height))

    def _pan(self, dx: float, dy: float) -> None:
        self._touched = True
        view = self.view
        self._look(View(view.east - dx * view.size, view.north + dy * view.size, view.size, view.width, view.height))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        view = self.view
        self.view = View(view.east, view.north, view.size, self.width(), self.height())
        if not self._touched:
            self.fit()
        self._soon.start()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None:
            self._zoom(1.0015 ** event.angleDelta().y(), event.position())

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is not None and self._area_done is not None:
            self._corners.append(self.view.world(event.position().x(), event.position().y()))
            self.update()
        elif event is not None:
            self._drag = event.position()
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._drag = None
        if self._area_done is None:
            self.unsetCursor()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self._area_done is not None:
            self.end_area(keep=True)
        elif event is not None:
            self._zoom(2.0, event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._drag is not None:
            moved = event.position() - self._drag
            self._drag = event.position()
            self._pan(moved.x(), moved.y())
        if self._area_done is not None:
            self._pointer = event.position()
            self.update()
        self.cursor_moved.emit(self.readout(*self.view.world(event.position().x(), event.position().y())))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        middle = QPointF(self.width() / 2.0, self.height() / 2.0)
        step = 60.0
        moves = {
            Qt.Key.Key_Left: (step, 0.0),
            Qt.Key.Key_Right: (-step, 0.0),
            Qt.Key.Key_Up: (0.0, step),
            Qt.Key.Key_Down: (0.0, -step),
        }
        if self._area_done is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape):
            self.end_area(keep=event.key() != Qt.Key.Key_Escape)
        elif event.key() in moves:
            self._pan(*moves[Qt.Key(event.key())])
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self._zoom(1.4, middle)
        elif event.key() == Qt.Key.Key_Minus:
            self._zoom(1.0 / 1.4, middle)
        elif event.key() in (Qt.Key.Key_F, Qt.Key.Key_Home):
            self.fit()
        else:
            super().keyPressEvent(event)
            return
        self.cursor_moved.emit(self.readout(self.view.east, self.view.north))

    def readout(self, east: float, north: float) -> str:
        """Return easting, northing and the height of the uppermost surface there."""
        text = f"E {_spaced(east)}   N {_spaced(north)}"
        for each in reversed(self.datasets):
            if isinstance(each, Tin | Grid):
                z = float(heights(each, np.array([[east, north]]))[0])
                if math.isfinite(z):
                    return f"{text}   Z {z:.3f} ({each.name})"
        return text + "   Z –"

    def _scale_text(self) -> str:
        if self.unit is None or self.unit is Unit.DEGREE:
            return f"1 pixel = {self.view.size:.3g}"
        metres = self.view.size * float(self.unit.metres)
        ratio = metres / (0.0254 / max(self.logicalDpiX(), 1))
        return f"1:{_spaced(round(ratio, -max(int(math.log10(max(ratio, 1.0))) - 1, 0)), 0)}"

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.palette_.colour("paper"))
        if not self.datasets:
            self._paint_empty(painter)
            painter.end()
            return
        if self._picture is not None:
            drawn, picture, _ = self._picture
            x, y = self.view.pixel(drawn.west, drawn.top)
            ratio = drawn.size / self.view.size
            if abs(ratio - 1.0) < 1e-9:
                painter.drawImage(QPointF(round(x), round(y)), picture)
            else:
                painter.drawImage(QRectF(x, y, drawn.width * ratio, drawn.height * ratio), picture)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.preview is not None:
            self._paint_preview(painter, self.preview)
        self._paint_area(painter)
        self._paint_mark(painter)
        self._paint_furniture(painter)
        if self.hasFocus():
            painter.setPen(QPen(self.palette_.colour("action"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(1, 1, self.width() - 2, self.height() - 2))
        painter.end()

    def _paint_empty(self, painter: QPainter) -> None:
        painter.setPen(self.palette_.colour("ink"))
        painter.setFont(theme.font(14, bold=True))
        box = QRectF(0, self.height() / 2.0 - 46, self.width(), 30)
        painter.drawText(box, 0x84, "Drop files here, or press Import")
        painter.setPen(self.palette_.colour("quiet"))
        painter.setFont(theme.font(10))
        text = "Points, clouds, drawings, LandXML, rasters, vectors, meshes. Then make ground from what came in."
        painter.drawText(box.translated(0, 32), 0x84, text)

    def _paint_preview(self, painter: QPainter, contours: Contours) -> None:
        colour = self.palette_.colour("action")
        painter.setPen(QPen(colour, 1.0))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
        x = (contours.plan[:, 0] - self.view.west) / self.view.size
        y = (self.view.top - contours.plan[:, 1]) / self.view.size
        for k in range(len(contours)):
            cut = slice(int(contours.offsets[k]), int(contours.offsets[k + 1]))
            if x[cut].max() < 0 or x[cut].min() > self.width() or y[cut].max() < 0 or y[cut].min() > self.height():
                continue
            painter.drawPolyline(_polygon(x[cut], y[cut]))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _paint_area(self, painter: QPainter) -> None:
        if self._area_done is None:
            return
        places = [QPointF(*self.view.pixel(*corner)) for corner in self._corners]
        painter.setPen(QPen(self.palette_.colour("action"), 2.0, Qt.PenStyle.DashLine))
        tint = QColor(self.palette_.colour("action"))
        tint.setAlpha(40)
        painter.setBrush(tint)
        painter.drawPolygon(QPolygonF([*places, self._pointer] if places else []))
        painter.setBrush(self.palette_.colour("action"))
        for place in places:
            painter.drawEllipse(place, 3.5, 3.5)

    def _paint_mark(self, painter: QPainter) -> None:
        if self.mark is None:
            return
        x, y = self.view.pixel(*self.mark)
        for colour, width in ((QColor("#FFFFFF"), 4.0), (self.palette_.colour("error"), 2.0)):
            painter.setPen(QPen(colour, width))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawEllipse(QPointF(x, y), 11, 11)
            painter.drawLine(QPointF(x - 17, y), QPointF(x - 6, y))
            painter.drawLine(QPointF(x + 6, y), QPointF(x + 17, y))

    def _paint_furniture(self, painter: QPainter) -> None:
        """North arrow, scale bar and height legend, all true."""
        ink, halo = self.palette_.colour("ink"), QColor(self.palette_.raised)
        halo.setAlpha(215)
        painter.setFont(theme.font(8.5))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(halo)
        right = self.width() - 14.0
        painter.drawRoundedRect(QRectF(right - 30, 12, 30, 44), 5, 5)
        painter.setBrush(ink)
        top = QPointF(right - 15, 17)
        painter.drawPolygon(QPolygonF([top, top + QPointF(6, 20), top + QPointF(0, 15), top + QPointF(-6, 20)]))
        painter.setPen(ink)
        painter.drawText(QRectF(right - 30, 38, 30, 16), 0x84, "N")
        self._paint_bar(painter, ink, halo)
        self._paint_legend(painter, ink, halo)

    def _paint_bar(self, painter: QPainter, ink: QColor, halo: QColor) -> None:
        wanted = 130.0 * self.view.size
        power = 10.0 ** math.floor(math.log10(wanted))
        length = max(step for step in (1.0, 2.0, 5.0, 10.0) if step * power <= wanted * 1.0001) * power
        pixels = length / self.view.size
        y = self.height() - 18.0
        unit = f" {self.unit.value}" if self.unit else ""
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(halo)
        painter.drawRoundedRect(QRectF(12, y - 22, pixels + 60, 32), 5, 5)
        painter.setBrush(ink)
        painter.drawRect(QRectF(22, y, pixels / 2.0, 4))
        painter.setPen(QPen(ink, 1))
        painter.setBrush(QColor(self.palette_.raised))
        painter.drawRect(QRectF(22 + pixels / 2.0, y, pixels / 2.0, 4))
        painter.drawText(QRectF(12, y - 19, 20, 16), 0x84, "0")
        painter.drawText(QRectF(22 + pixels - 40, y - 19, 90, 16), 0x84, f"{length:g}{unit}")

    def _paint_legend(self, painter: QPainter, ink: QColor, halo: QColor) -> None:
        if not any(isinstance(each, Tin | Grid) for each in self.datasets) or self.height() < 260:
            return
        low, high = self._range
        x, y, tall = self.width() - 26.0, 70.0, 120
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(halo)
        painter.drawRoundedRect(QRectF(x - 54, y - 10, 66, tall + 20), 5, 5)
        colours = rendering.ramp()
        for k in range(tall):
            r, g, b = (int(value) for value in colours[len(colours) - 1 - k * len(colours) // tall])
            painter.fillRect(QRectF(x - 6, y + k, 11, 1.5), QColor(r, g, b))
        painter.setPen(ink)
        for share in (0.0, 0.5, 1.0):
            value = high - share * (high - low)
            painter.drawText(QRectF(x - 54, y + share * tall - 8, 44, 16), 0x82, f"{value:.1f}")


def _polygon(x: np.ndarray, y: np.ndarray) -> QPolygonF:
    """Fill a polygon's own memory: a thousand times faster than point by point."""
    polygon = QPolygonF()
    polygon.fill(QPointF(), len(x))
    buffer = polygon.data()
    assert buffer is not None
    buffer.setsize(16 * len(x))
    values = np.frombuffer(memoryview(buffer), np.float64)  # type: ignore[arg-type]
    values[0::2], values[1::2] = x, y
    return polygon


def _spaced(value: float, decimals: int = 2) -> str:
    return f"{value:,.{decimals}f}".replace(",", "\u202f")
