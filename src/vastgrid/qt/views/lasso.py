"""An area clicked on a view that is no plan: its corners are pixels until it is closed."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from vastgrid.qt.widgets.theme import Palette

# A press that moves farther than this, in pixels, is a drag of the view.
SLIP = 4.0


class Lasso(QObject):
    """Gathers corners on a widget until Enter or a double click.

    Once a corner is set the view stays as it is: the wheel and drags would move the world away from under them.

    Parameters
    ----------
    view : QWidget
        With a list `overlays` of what is painted above it, and its `palette_`.

    Signals
    -------
    closed : list of QPointF
        The area is complete; three corners or more.
    given_up
        Esc was pressed.
    """

    closed = pyqtSignal(list)
    given_up = pyqtSignal()

    def __init__(self, view: QWidget) -> None:
        super().__init__(view)
        self.view = view
        self.on = False
        self.corners: list[QPointF] = []
        self._pointer: QPointF | None = None
        self._pressed: QPointF | None = None
        view.overlays.append(self.paint)  # type: ignore[attr-defined]
        view.installEventFilter(self)

    def begin(self) -> None:
        """Let clicks set corners."""
        self.on, self.corners = True, []
        self.view.setCursor(Qt.CursorShape.CrossCursor)
        self.view.update()

    def end(self) -> None:
        """Let the view have its clicks again."""
        self.on, self.corners, self._pointer, self._pressed = False, [], None, None
        self.view.unsetCursor()
        self.view.update()

    def eventFilter(self, _view: QObject | None, event: QEvent | None) -> bool:
        """Take what means corners."""
        if not self.on or event is None:
            return False
        if isinstance(event, QMouseEvent):
            return self._mouse(event)
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            return self._key(event)
        return event.type() == QEvent.Type.Wheel and bool(self.corners)

    def _mouse(self, event: QMouseEvent) -> bool:
        kind = event.type()
        if kind == QEvent.Type.MouseButtonPress:
            self._pressed = event.position() if event.button() == Qt.MouseButton.LeftButton else None
            self.view.setFocus()
        elif kind == QEvent.Type.MouseButtonDblClick:
            self._pressed = None
            self._close()
            return True
        elif kind == QEvent.Type.MouseButtonRelease and self._pressed is not None:
            moved = event.position() - self._pressed
            self._pressed = None
            if moved.manhattanLength() <= SLIP:
                self.corners.append(event.position())
        elif kind == QEvent.Type.MouseMove:
            self._pointer = event.position()
        self.view.update()
        return bool(self.corners) and kind != QEvent.Type.MouseButtonRelease

    def _key(self, event: QKeyEvent) -> bool:
        key = event.key()
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._close()
        elif key == Qt.Key.Key_Escape:
            self.given_up.emit()
        elif key == Qt.Key.Key_Backspace and self.corners:
            self.corners.pop()
        else:
            return bool(self.corners)
        self.view.update()
        return True

    def _close(self) -> None:
        corners, self.corners = self.corners, []
        self.view.update()
        if len(corners) >= 3:
            self.closed.emit(corners)

    def paint(self, painter: QPainter) -> None:
        """Show the corners, and the area they make with the pointer."""
        if not self.corners:
            return
        palette: Palette = self.view.palette_  # type: ignore[attr-defined]
        tint = QColor(palette.colour("action"))
        tint.setAlpha(40)
        painter.setPen(QPen(palette.colour("error"), 1.8, Qt.PenStyle.DashLine))
        painter.setBrush(tint)
        painter.drawPolygon(QPolygonF([*self.corners, *([self._pointer] if self._pointer is not None else [])]))
        painter.setPen(QPen(QColor("#FFFFFF"), 1.5))
        painter.setBrush(palette.colour("error"))
        for corner in self.corners:
            painter.drawEllipse(corner, 4.0, 4.0)
