"""The plan view: terrain from above, panned, zoomed and turned without waiting for anything to be drawn."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QShowEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QWidget

from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import of_kind
from vastgrid.data.tin import Tin
from vastgrid.measures.heights import bucket_index, heights_at_hand
from vastgrid.measures.snap import Caught
from vastgrid.qt.drawing import divider, furniture, pointing, rendering
from vastgrid.qt.drawing.painter import Painter, Size
from vastgrid.qt.drawing.view import View, bounds, fitted
from vastgrid.qt.views.tools import AreaTool, Tool
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.bridge import Bridge
from vastgrid.styling.colouring import Scale, StyledLayer

MARGIN = 1.5
# How near the pointer has to come to be caught, in pixels; a press that moves farther than SLIP is a drag.
REACH, SLIP = 11.0, 4.0
_indexer = ThreadPoolExecutor(1, thread_name_prefix="vastgrid-index")


@dataclass(frozen=True, eq=False)
class PlanWish:
    """A picture that is asked for."""

    items: tuple[StyledLayer, ...]
    view: View
    palette: theme.Palette
    scene: int
    # What is shown on the right of the divider, where two are compared.
    other: tuple[StyledLayer, ...] = ()
    # Pixels of the screen for one of the view.
    ratio: float = 1.0


class PlanView(QWidget):
    """Shows datasets in plan.

    Signals
    -------
    cursor_moved : str
        Easting, northing and heights under the cursor, ready to show.
    scale_changed : str
        “1:500”, ready to show.
    looked : ()
        What part of the world is seen has changed.
    pointed : east, north
        The place under the cursor.
    """

    cursor_moved = pyqtSignal(str)
    scale_changed = pyqtSignal(str)
    looked = pyqtSignal()
    pointed = pyqtSignal(float, float)

    def __init__(self, palette: theme.Palette) -> None:
        super().__init__()
        self.setObjectName("plan")
        self.setAccessibleName("Plan view")
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumSize(240, 160)
        self.palette_ = palette
        self.items: list[StyledLayer] = []
        # What is being done that will fill an empty plan, or why it is empty.
        self.doing = ""
        self.preview: Dataset | None = None
        self.view = View(0.0, 0.0, 1.0, 800, 500)
        self.mark: tuple[float, float] | None = None
        self.pointer: tuple[float, float] | None = None
        self.unit: Unit | None = None
        self.snapping = True
        self.tool: Tool | None = None
        self.overlays: list[Callable[[QPainter], None]] = []
        self.legend: list[Scale] = []
        self.split: float | None = None
        self.other: list[StyledLayer] = []
        self.touched = False
        self._scene = 0
        self._picture: tuple[View, QImage, int] | None = None
        self._other_picture: QImage | None = None
        self._pressed: QPointF | None = None
        self._drag: QPointF | None = None
        self._splitting = False
        self._bridge = Bridge(self)
        self._painter: Painter[PlanWish] = Painter(
            self._draw,
            lambda wish, picture, more: self._bridge.post(lambda: self._arrived(wish, picture, more)),
            lambda wish: Size(wish.view.width, wish.view.height),
        )
        self._painter.start()
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(40)
        self._soon.timeout.connect(self._ask)

    @staticmethod
    def _draw(wish: PlanWish) -> tuple[QImage, tuple[list[Scale], QImage | None]]:
        def drawn(items: tuple[StyledLayer, ...]) -> QImage:
            return rendering.draw(items, wish.view, wish.palette, wires=True, ratio=wish.ratio)

        picture = drawn(wish.items)
        other = drawn(wish.other) if wish.other else None
        ends = rendering.height_range([item.dataset for item in (*wish.items, *wish.other)])
        return picture, (furniture.scales([*wish.other, *wish.items], ends), other)

    # -- what is shown

    @property
    def datasets(self) -> list[Dataset]:
        """What is shown, the lowest first."""
        return [item.dataset for item in self.items]

    def show_items(self, items: Sequence[StyledLayer], other: Sequence[StyledLayer] = ()) -> None:
        """Show these, the first lowest; the view stays where it is unless nothing was shown before.

        Parameters
        ----------
        other : sequence of Dressed
            What is shown to the right of the divider; with it the divider appears.
        """
        before = [(id(item.dataset), item.look, item.number) for item in (*self.items, *self.other)]
        self.split = (self.split or 0.5) if other else None
        if [(id(item.dataset), item.look, item.number) for item in (*items, *other)] == before and len(items) == len(
            self.items
        ):
            return
        self.items, self.other = list(items), list(other)
        self._scene += 1
        for tin in of_kind((item.dataset for item in (*self.items, *self.other)), Tin):
            # The picture need not wait for what only readouts and catching need.
            if not heights_at_hand(tin):
                _indexer.submit(bucket_index, tin)
        if not self.touched:
            self.fit()
        self._ask()

    def repaint_all(self) -> None:
        """Draw everything anew: a colour changed, or a cloud can be drawn better."""
        self._scene += 1
        self._ask()

    def use(self, tool: Tool | None) -> None:
        """Let clicks go to a tool; the one before ends."""
        before, self.tool = self.tool, tool
        if tool is None:
            self.unsetCursor()
        else:
            self.setCursor(Qt.CursorShape.CrossCursor)
            self.setFocus()
        if before is not None and before is not tool:
            before.ended()
        self.update()

    def end_tool(self, *, keep: bool) -> None:
        """End the present tool, and hand on what it gathered if that is enough."""
        tool = self.tool
        self.use(None)
        if keep and tool is not None and len(tool.places) >= tool.least:
            tool.done(tool.places)

    def draw_area(self, done: Callable[[list[tuple[float, float]]], None]) -> None:
        """Let corners be clicked; call back with them when Enter is pressed or the last one is double-clicked."""
        self.use(AreaTool(lambda places: done([(each.east, each.north) for each in places]), least=3, snaps=False))

    def show_preview(self, made: Dataset | None) -> None:
        """Draw what would be made lightly over everything, or take it away."""
        self.preview = made
        self.update()

    def set_snapping(self, on: bool) -> None:
        """Let the pointer be caught by vertices, lines and edges, or not."""
        self.snapping = on

    def set_palette(self, palette: theme.Palette) -> None:
        """Change the theme."""
        self.palette_ = palette
        self._scene += 1
        self._ask()

    def fit(self) -> None:
        """Show everything whole, north up."""
        box = bounds([item.dataset for item in (*self.items, *self.other)])
        if box is not None and self.width() > 1:
            self.touched = False
            self.look(fitted(box, self.width(), self.height()))

    def go_to(self, east: float, north: float, *, close: bool = True) -> None:
        """Bring a place to the middle, mark it, and come close."""
        self.mark = (east, north)
        self.touched = True
        size = self.view.size
        if close:
            box = bounds(self.datasets)
            if box is not None:
                size = min(size, max(box[2] - box[0], box[3] - box[1]) / 12.0 / max(self.width(), 1) * 2.0)
        self.look(dataclasses.replace(self.view, east=east, north=north, size=size))

    def turn_to(self, bearing: float) -> None:
        """Turn the picture until this bearing, in degrees, is up."""
        self.touched = True
        self.look(dataclasses.replace(self.view, turn=round(bearing % 360.0, 6)))

    def centre_on(self, east: float, north: float, size: float) -> None:
        """Look at the same place as another view does."""
        self.touched = True
        self.look(dataclasses.replace(self.view, east=east, north=north, size=size))

    def forget(self) -> None:
        """Show nothing, and fit the view anew to whatever comes next."""
        self.items, self.other, self.mark, self.touched, self._picture = [], [], None, False, None
        self.use(None)
        self._scene += 1
        self.update()

    def settled(self) -> bool:
        """Whether the picture shows the present view sharply, and heights can be read out."""
        surfaces = of_kind((item.dataset for item in (*self.items, *self.other)), Tin)
        return self.drawn() and all(heights_at_hand(each) for each in surfaces)

    def drawn(self) -> bool:
        """Whether the picture shows the present view sharply."""
        made = self._picture
        return (
            not self._painter.busy
            and not self._soon.isActive()
            and made is not None
            and made[2] == self._scene
            and made[0].size == self.view.size
            and made[0].turn == self.view.turn
        )

    def close_painter(self) -> None:
        """End the painter's thread."""
        self._painter.close()

    # -- looking around

    def look(self, view: View) -> None:
        """Look at another part of the world."""
        self.view = view
        self.scale_changed.emit(furniture.scale_text(self.view.size, self.unit, self.logicalDpiX()))
        self.looked.emit()
        self.update()
        if not self._covered():
            self._soon.start()

    def _covered(self) -> bool:
        made = self._picture
        if made is None or made[2] != self._scene or made[0].size != self.view.size or made[0].turn != self.view.turn:
            return False
        drawn = made[0]
        x, y = drawn.pixel(self.view.east, self.view.north)
        across, down = self.view.width / 2.0, self.view.height / 2.0
        return across <= x <= drawn.width - across and down <= y <= drawn.height - down

    def _ask(self) -> None:
        # Before it is shown its size is not what it will be.
        if self.isVisible():
            view = self.view.grown(MARGIN)
            shown = tuple(self.items), view, self.palette_, self._scene, tuple(self.other)
            self._painter.ask(PlanWish(*shown, self.devicePixelRatioF()))

    def _arrived(self, wish: PlanWish, picture: QImage, more: tuple[list[Scale], QImage | None] | None) -> None:
        if wish.scene == self._scene:
            self._picture = (wish.view, picture, wish.scene)
            self.legend, self._other_picture = more if more is not None else ([], None)
            self.update()
            if not self._covered():
                self._soon.start()

    def zoom(self, ratio: float, at: QPointF) -> None:
        """Come closer by a ratio, the place under a pixel staying where it is."""
        self.touched = True
        east, north = self.view.world(at.x(), at.y())
        size = min(max(self.view.size / ratio, 1e-6), 1e7)
        view = dataclasses.replace(self.view, size=size, width=self.width(), height=self.height())
        there = view.world(at.x(), at.y())
        self.look(dataclasses.replace(view, east=view.east + east - there[0], north=view.north + north - there[1]))

    def pan(self, dx: float, dy: float) -> None:
        """Move the picture by pixels."""
        self.touched = True
        view = self.view
        east, north = view.world(view.width / 2.0 - dx, view.height / 2.0 - dy)
        self.look(dataclasses.replace(view, east=east, north=north))

    def event(self, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.DevicePixelRatioChange:
            # On another screen, or another scale of the desktop.
            self.repaint_all()
        return super().event(event)

    def showEvent(self, event: QShowEvent | None) -> None:
        self._soon.start()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self.view = dataclasses.replace(self.view, width=self.width(), height=self.height())
        if not self.touched:
            self.fit()
        self._soon.start()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is None:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self.turn_to(self.view.turn + (event.angleDelta().y() or event.angleDelta().x()) / 24.0)
        else:
            self.zoom(1.0015 ** event.angleDelta().y(), event.position())

    def caught(self, at: QPointF) -> Caught:
        """Return what lies under a pixel, caught by what is near if snapping is on."""
        place = self.view.world(at.x(), at.y())
        snaps = self.snapping and (self.tool is None or self.tool.snaps)
        return pointing.caught(self.datasets, *place, REACH if snaps else 0.0, self.view.size)

    def line_at(self, east: float, north: float) -> Floats | None:
        """Return the line nearest to a place, (n, ≥ 2), if one is near enough to be caught."""
        return pointing.line_at(self.datasets, east, north, REACH * self.view.size)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        self._pressed = self._drag = event.position()
        self._splitting = divider.grips(self.split, event.position().x(), self.width())
        if self.tool is None and not self._splitting:
            self.setCursor(Qt.CursorShape.ClosedHandCursor)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        pressed, self._pressed, self._drag = self._pressed, None, None
        splitting, self._splitting = self._splitting, False
        if self.tool is None:
            self.unsetCursor()
        elif event is not None and pressed is not None and not splitting:
            moved = event.position() - pressed
            if math.hypot(moved.x(), moved.y()) <= SLIP and self.tool.add(self.caught(event.position())):
                self.end_tool(keep=True)
            self.update()

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self.tool is not None:
            self.end_tool(keep=True)
        elif event is not None:
            self.zoom(2.0, event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        if self._splitting:
            self.split = divider.within(event.position().x() / max(self.width(), 1))
            self.update()
        elif self._drag is not None and self._pressed is not None:
            moved = event.position() - self._drag
            far = event.position() - self._pressed
            if self.tool is None or math.hypot(far.x(), far.y()) > SLIP:
                self._drag = event.position()
                self.pan(moved.x(), moved.y())
        elif self.tool is not None:
            self.tool.move(self.caught(event.position()))
            self.update()
        elif self.split is not None:
            near = divider.grips(self.split, event.position().x(), self.width())
            self.setCursor(Qt.CursorShape.SplitHCursor if near else Qt.CursorShape.ArrowCursor)
        place = self.view.world(event.position().x(), event.position().y())
        self.cursor_moved.emit(self.readout(*place))
        self.pointed.emit(*place)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        key, step = event.key(), 60.0
        moves = {
            Qt.Key.Key_Left: (step, 0.0),
            Qt.Key.Key_Right: (-step, 0.0),
            Qt.Key.Key_Up: (0.0, step),
            Qt.Key.Key_Down: (0.0, -step),
        }
        if self.tool is not None and key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Escape):
            self.end_tool(keep=key != Qt.Key.Key_Escape)
        elif self.tool is not None and key == Qt.Key.Key_Backspace:
            self.tool.back()
            self.update()
        elif self.tool is not None and key == Qt.Key.Key_Space:
            # The keyboard's click: the place in the middle.
            if self.tool.add(self.caught(self._middle())):
                self.end_tool(keep=True)
            self.update()
        elif key in moves:
            self.pan(*moves[Qt.Key(key)])
        elif not self._other_key(key):
            super().keyPressEvent(event)
            return
        self.cursor_moved.emit(self.readout(self.view.east, self.view.north))

    def _middle(self) -> QPointF:
        return QPointF(self.width() / 2.0, self.height() / 2.0)

    def _other_key(self, key: int) -> bool:
        if key in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.zoom(1.4, self._middle())
        elif key == Qt.Key.Key_Minus:
            self.zoom(1.0 / 1.4, self._middle())
        elif key in (Qt.Key.Key_F, Qt.Key.Key_Home):
            self.fit()
        elif key in (Qt.Key.Key_BracketLeft, Qt.Key.Key_BracketRight):
            self.turn_to(self.view.turn + (15.0 if key == Qt.Key.Key_BracketRight else -15.0))
        elif key == Qt.Key.Key_N:
            self.turn_to(0.0)
        elif self.split is not None and key in (Qt.Key.Key_Comma, Qt.Key.Key_Period):
            self.split = divider.within(self.split + (0.02 if key == Qt.Key.Key_Period else -0.02))
            self.update()
        else:
            return False
        return True

    def readout(self, east: float, north: float) -> str:
        """Return easting, northing and the height of each surface there, the uppermost first."""
        return pointing.readout([*self.datasets, *(own.dataset for own in self.other)], east, north)

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.palette_.colour("paper"))
        if not self.items and not self.other:
            furniture.paint_empty(painter, self.width(), self.height(), self.palette_, self.doing)
            painter.end()
            return
        if self._picture is not None:
            furniture.paint_picture(painter, self._picture[1], self._picture[0], self.view)
            if self.split is not None and self._other_picture is not None:
                self._paint_split(painter, self._other_picture, self._picture[0])
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.preview is not None:
            furniture.paint_preview(painter, self.preview, self.view, self.palette_)
        self._paint_furniture(painter)
        for overlay in self.overlays:
            overlay(painter)
        if self.tool is not None:
            self.tool.paint(painter, self)
        if self.mark is not None:
            furniture.paint_mark(painter, QPointF(*self.view.pixel(*self.mark)), self.palette_)
        if self.pointer is not None:
            painter.setPen(QPen(QColor("#FFFFFF"), 1.5))
            painter.setBrush(self.palette_.colour("action"))
            painter.drawEllipse(QPointF(*self.view.pixel(*self.pointer)), 4.5, 4.5)
        if self.hasFocus():
            painter.setPen(QPen(self.palette_.colour("action"), 2))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(1, 1, self.width() - 2, self.height() - 2))
        painter.end()

    def _paint_split(self, painter: QPainter, picture: QImage, drawn: View) -> None:
        """Show the second of two compared stacks to the right of the divider."""
        assert self.split is not None
        at = round(self.split * self.width())
        right = QRectF(at, 0, self.width() - at, self.height())
        painter.save()
        painter.setClipRect(right)
        painter.fillRect(right, self.palette_.colour("paper"))
        furniture.paint_picture(painter, picture, drawn, self.view)
        painter.restore()
        alike = {id(item) for item in self.items} & {id(own) for own in self.other}
        one, two = ([each.dataset.name for each in item if id(each) not in alike] for item in (self.items, self.other))
        divider.paint(painter, at, self.height(), one, two, self.palette_)

    def _paint_furniture(self, painter: QPainter) -> None:
        """North arrow, scale bar and legends, all true."""
        right = self.width() - 14.0
        furniture.paint_north(painter, right, 12.0, self.view.turn, self.palette_)
        furniture.paint_bar(painter, 12.0, float(self.height()), self.view.size, self.unit, self.palette_)
        furniture.paint_legends(painter, right, 66.0, self.height() - 110.0, self.legend, self.palette_)
