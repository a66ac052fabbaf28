"""Single areas chosen by clicks in the plan: what is chosen is seen, and becomes a step."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPen

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.data.areas import Areas
from vastgrid.data.frame import is_geographic
from vastgrid.measures.snap import Caught
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.views.tools import Tool
from vastgrid.qt.views.views import CHOOSE, Views

if TYPE_CHECKING:
    from vastgrid.qt.views.plan_view import PlanView

# Key, text, tip; the first stays in hand until Esc.
TOOLS = (
    (CHOOSE, "choose areas", "Choose areas by clicking into them; a second click lets one go."),
    ("choose_none", "choose none", "Let go of the chosen areas."),
    ("choose_keep", "keep chosen", "A card of the chosen areas alone."),
    ("choose_out", "leave out chosen", "A card of all areas but the chosen ones."),
)


class _Clicks(Tool):
    """Hands on each click, and draws no line between them."""

    def add(self, place: Caught) -> bool:
        """Hand on a place; there is no last one."""
        self.changed([place], None)
        return False

    def move(self, place: Caught) -> None:
        """Nothing follows the pointer."""

    def paint(self, painter: QPainter, plan: PlanView) -> None:
        """What is chosen is drawn over the plan."""


class Choosing:
    """Which areas of a chosen card are chosen, and what is done with them."""

    def __init__(self, desk: Desk, making: Making, views: Views) -> None:
        self.desk, self.making, self.views = desk, making, views
        # A place in each chosen area, by its number.
        self.places: dict[int, tuple[float, float]] = {}
        self._card = ""
        self._shapes: Any = None
        self._tree: Any = None
        views.plan.overlays.append(self._paint)
        desk.selected.connect(self._selected)

    def run(self, key: str) -> None:
        """Do what a button says.

        Raises
        ------
        CallError
            If no card of areas is chosen, or no area where some have to be.
        """
        if self.areas() is None:
            raise CallError("choose one card of areas first")
        if key == CHOOSE:
            self._take_up()
        elif key == "choose_none":
            self.let_go()
        else:
            self._make("kept" if key == "choose_keep" else "out")

    def areas(self) -> tuple[str, Areas] | None:
        """Return the chosen card and its areas, if exactly one such card is chosen."""
        return self.desk.chosen(Areas)

    def let_go(self) -> None:
        """Choose none."""
        self.places = {}
        self.views.plan.update()

    def _take_up(self) -> None:
        own = self.areas()
        assert own is not None
        if own[0] != self._card:
            self.places = {}
        self._card, areas = own
        self._shapes = areas.shapes()
        self._tree = shapely.STRtree(self._shapes)
        self.views.plan.use(
            _Clicks(
                lambda places: None,
                least=0,
                snaps=False,
                changed=lambda places, pointer: self._clicked(places[-1]) if places else None,
                ended=lambda: self.views.show_held(""),
            )
        )
        self.views.show_held(CHOOSE)
        self.desk.say("Click into the areas that are meant; Esc ends choosing")

    def _clicked(self, place: Caught) -> None:
        own = (place.east, place.north)
        for k in self._tree.query(shapely.Point(own), predicate="intersects").tolist():
            if self.places.pop(k, None) is None:
                self.places[k] = own
        self.desk.say(f"{count(len(self.places), 'area')} chosen")
        self.views.plan.update()

    def _make(self, side: str) -> None:
        if not self.places:
            raise CallError("choose some areas first: click into them")
        own = self.areas()
        # As fine as a hand can click.
        digits = 9 if own is not None and is_geographic(own[1].frame) else 4
        at = ", ".join(f"{round(east, digits)!r} {round(north, digits)!r}" for east, north in self.places.values())
        card = self._card
        self.views.plan.use(None)
        self.let_go()
        self.making.make("choose", [card], {"at": at, "side": side}, asked=True)

    def _selected(self) -> None:
        if self.places and self.desk.selection != [self._card]:
            self.let_go()

    def _paint(self, painter: QPainter) -> None:
        if not self.places:
            return
        view = self.views.plan.view
        path = QPainterPath()
        for k in self.places:
            for polygon in shapely.get_parts(self._shapes[k]).tolist():
                for ring in (polygon.exterior, *polygon.interiors):
                    turned = view.turned(np.asarray(ring.coords)[:, :2])
                    x, y = (turned[:, 0] - view.west) / view.size, (view.top - turned[:, 1]) / view.size
                    path.moveTo(QPointF(float(x[0]), float(y[0])))
                    for a, b in zip(x[1:].tolist(), y[1:].tolist(), strict=True):
                        path.lineTo(QPointF(a, b))
        accent = self.views.plan.palette_.colour("error")
        fill = QColor(accent)
        fill.setAlpha(70)
        painter.setPen(QPen(accent, 2.0))
        # A place in a hole is none in the area.
        path.setFillRule(Qt.FillRule.OddEvenFill)
        painter.fillPath(path, fill)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
