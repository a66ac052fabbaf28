"""What a click in the plan means: tools gather places, the plan shows them."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPen, QPolygonF

from vastgrid.measures.snap import Caught
from vastgrid.qt.widgets import theme

if TYPE_CHECKING:
    from vastgrid.qt.views.plan_view import PlanView

Places = list[tuple[float, float]]


class Tool:
    """Gathers places until it is finished.

    Parameters
    ----------
    done : callable
        Gets the places when Enter is pressed or the last one is double-clicked.
    least : int
        So many places are needed.
    most : int
        With so many it is finished by itself; 0 for any number.
    snaps : bool
        Whether places are caught by what lies near.
    changed : callable
        Gets the places whenever one is added, moved with the pointer, or taken back.
    """

    closed = False

    def __init__(
        self,
        done: Callable[[list[Caught]], None],
        *,
        least: int = 2,
        most: int = 0,
        snaps: bool = True,
        changed: Callable[[list[Caught], Caught | None], None] = lambda places, pointer: None,
        ended: Callable[[], None] = lambda: None,
    ) -> None:
        self.done, self.least, self.most, self.snaps = done, least, most, snaps
        self.changed, self.ended = changed, ended
        self.places: list[Caught] = []
        self.pointer: Caught | None = None

    def add(self, place: Caught) -> bool:
        """Take a place; return whether that was the last one needed."""
        self.places.append(place)
        self.changed(self.places, None)
        return self.most > 0 and len(self.places) >= self.most

    def move(self, place: Caught) -> None:
        """Follow the pointer."""
        self.pointer = place
        self.changed(self.places, place)

    def back(self) -> None:
        """Give the last place back."""
        if self.places:
            self.places.pop()
            self.changed(self.places, self.pointer)

    def paint(self, painter: QPainter, plan: PlanView) -> None:
        """Show what was gathered."""
        colour = plan.palette_.colour("error")
        points = [QPointF(*plan.view.pixel(each.east, each.north)) for each in self.places]
        pointer = [QPointF(*plan.view.pixel(self.pointer.east, self.pointer.north))] if self.pointer else []
        halo = QColor("#FFFFFF")
        halo.setAlpha(170)
        path = QPolygonF([*points, *pointer]) if points else QPolygonF()
        for pen in (QPen(halo, 4.0), QPen(colour, 1.8, Qt.PenStyle.DashLine)):
            painter.setPen(pen)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolygon(path) if self.closed else painter.drawPolyline(path)
        painter.setPen(QPen(halo, 1.5))
        painter.setBrush(colour)
        for point in points:
            painter.drawEllipse(point, 4.0, 4.0)
        if self.pointer is not None and self.pointer.what not in ("", "surface"):
            self._paint_caught(painter, plan, pointer[0])

    def _paint_caught(self, painter: QPainter, plan: PlanView, at: QPointF) -> None:
        """Show that something was caught, and what."""
        assert self.pointer is not None
        painter.setPen(QPen(plan.palette_.colour("action"), 2.0))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if self.pointer.what in ("vertex", "point"):
            painter.drawRect(QRectF(at.x() - 6, at.y() - 6, 12, 12))
        else:
            painter.drawLine(at + QPointF(-7, -7), at + QPointF(7, 7))
            painter.drawLine(at + QPointF(-7, 7), at + QPointF(7, -7))
        painter.setFont(theme.font(8))
        text = f"{self.pointer.what} of {self.pointer.name}" if self.pointer.name else self.pointer.what
        wide = QFontMetricsF(painter.font()).horizontalAdvance(text) + 8
        box = QRectF(at.x() + 10, at.y() - 22, wide, 16)
        painter.fillRect(box, plan.palette_.colour("raised"))
        painter.setPen(plan.palette_.colour("ink"))
        painter.drawText(box, 0x84, text)


class AreaTool(Tool):
    """Gathers the corners of an area."""

    closed = True

    def paint(self, painter: QPainter, plan: PlanView) -> None:
        """Show the area tinted."""
        tint = QColor(plan.palette_.colour("action"))
        tint.setAlpha(40)
        corners = [*self.places, *([self.pointer] if self.pointer else [])] if self.places else []
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(tint)
        painter.drawPolygon(QPolygonF([QPointF(*plan.view.pixel(each.east, each.north)) for each in corners]))
        super().paint(painter, plan)
