"""Picking points by areas drawn in the plan, in the section or in 3D; what is picked is seen in all of them."""

from __future__ import annotations

import dataclasses
from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, unit_word
from vastgrid.base.words import spaced
from vastgrid.data.classes import CLASSES, class_counts, class_words
from vastgrid.data.dataset import Floats
from vastgrid.data.pointset import PointSet
from vastgrid.measures.section import nearest_along
from vastgrid.measures.snap import Caught
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.pick_dialogs import ClassDialog, HeightsDialog
from vastgrid.qt.views.lasso import Lasso
from vastgrid.qt.views.tools import AreaTool, Tool
from vastgrid.qt.views.views import PICK, PICK_BOX, PICK_LESS, Views
from vastgrid.qt.widgets.polygons import polygon
from vastgrid.styling.look import PointLook, hidden_classes, hidden_heights_of
from vastgrid.terrain.editing.cleaning import CLASS, DELETE, KEEP, Cleaning
from vastgrid.terrain.editing.picking import ALSO, LESS, Pick, Picks, picked

# So many of the picked points are drawn: enough to see their shape.
MOST = 20_000
# Key, text, tip; those that draw stay in hand until Esc.
TOOLS = (
    (PICK, "pick", "Pick the points inside an area: draw it in the plan, in the section or in 3D; more areas add to it."),
    (PICK_LESS, "pick less", "Take the points inside an area out of what is picked."),
    (PICK_BOX, "pick box", "Pick the points in a box: two corners in the plan, then between which heights."),
    ("pick_none", "pick none", "Let go of what is picked."),
    ("pick_delete", "delete", "Take the picked points out."),
    ("pick_keep", "keep only", "Keep only the picked points: crop."),
    ("pick_class", "set class …", "Give the picked points a class."),
)  # fmt: skip


class Picking:
    """What is picked of a chosen cloud, and what is done to it.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    """

    def __init__(self, parent: QWidget, desk: Desk, making: Making, views: Views) -> None:
        self.parent, self.desk, self.making, self.views = parent, desk, making, views
        self.picks: list[tuple[str, Pick]] = []
        self.held = ""
        self.number = 0
        self.words = ""
        self._found_in = ""
        self._card = ""
        self._seen: Floats = np.zeros((0, 3))
        section = views.sectioning.view
        self.lassos = {"section": Lasso(section), "space": Lasso(views.space)}
        self.lassos["section"].closed.connect(lambda corners: self.desk.guarded(lambda: self._in_section(corners)))
        self.lassos["space"].closed.connect(lambda corners: self.desk.guarded(lambda: self._in_space(corners)))
        for lasso in self.lassos.values():
            lasso.given_up.connect(self.put_down)
        views.plan.overlays.append(self._paint_plan)
        views.space.overlays.append(self._paint_space)
        section.overlays.append(self._paint_section)
        desk.selected.connect(self._chosen)
        desk.changed.connect(self._chosen)

    def run(self, key: str) -> None:
        """Do what a button says.

        Raises
        ------
        CallError
            If no points are chosen, or none are picked where some have to be.
        """
        if self.points() is None:
            raise CallError("choose one card of points first: it is what is picked from")
        if key in (PICK, PICK_LESS, PICK_BOX):
            self._take_up(key)
        elif key == "pick_none":
            self.put_down()
            self.clear()
        else:
            self._do(key)

    def points(self) -> tuple[str, PointSet] | None:
        """Return the chosen card and its points, if exactly one card of points is chosen."""
        return self.desk.chosen(PointSet)

    # -- drawing areas

    def _take_up(self, key: str) -> None:
        # The tool before would take this one out of the hand where it ends.
        self.put_down()
        self._card = self.desk.selection[0]
        plan = self.views.plan
        if key == PICK_BOX:
            tool: Tool = Tool(
                lambda places: self.desk.guarded(lambda: self._boxed(places)), most=2, snaps=False, ended=self.put_down
            )
        else:
            tool = AreaTool(
                lambda places: self.desk.guarded(lambda: self._in_plan(key, places)),
                least=3,
                snaps=False,
                ended=self.put_down,
            )
        plan.use(tool)
        self.held = key
        self.views.show_held(key)
        for lasso in self.lassos.values():
            lasso.begin() if key != PICK_BOX else lasso.end()
        where = "the plan, the section or the 3D view" if key != PICK_BOX else "the plan"
        what = "two corners" if key == PICK_BOX else "the corners of an area"
        self.desk.say(f"Click {what} in {where}; Enter or a double click ends it, Esc stops picking")

    def put_down(self) -> None:
        """Stop drawing areas; what is picked stays picked."""
        if not self.held:
            return
        self.held = ""
        self.views.show_held("")
        for lasso in self.lassos.values():
            lasso.end()
        tool = self.views.plan.tool
        if tool is not None and tool.ended == self.put_down:
            self.views.plan.use(None)
        self.desk.say(self.words)

    def _in_plan(self, key: str, places: list[Caught]) -> None:
        self._add(key, Pick(tuple((each.east, each.north) for each in places)))

    def _in_section(self, corners: list[QPointF]) -> None:
        strip = self.views.sectioning
        if strip.line is None:
            return
        line = tuple((float(east), float(north)) for east, north in strip.line[:, :2])
        places = tuple(strip.view.place_at(corner) for corner in corners)
        self._add(self.held, Pick(places, line, Length(strip.band_width() or 1e-6)))

    def _in_space(self, corners: list[QPointF]) -> None:
        space = self.views.space
        eye = space.camera.eye()
        through = tuple(tuple(float(each) for each in space.on_ray(corner)) for corner in corners)
        self._add(self.held, Pick(through, eye=tuple(float(each) for each in eye)))

    def _boxed(self, places: list[Caught]) -> None:
        own = self.points()
        if own is None:
            return
        (a, b) = places
        west, east = sorted((a.east, b.east))
        south, north = sorted((a.north, b.north))
        pick = Pick(((west, south), (east, south), (east, north), (west, north)))
        points = own[1]

        def work(progress: Progress) -> tuple[int, float, float]:
            inside = points.xyz[picked(points, ((ALSO, pick),)), 2]
            return len(inside), float(inside.min(initial=np.inf)), float(inside.max(initial=-np.inf))

        def arrived(made: tuple[int, float, float]) -> None:
            number, low, high = made
            if not number:
                self.desk.tell("there are no points in that box")
                return
            what = f"{count(number, 'point')} in a box of {east - west:.2f} × {north - south:.2f}"
            self._ask_heights(pick, HeightsDialog(self.parent, what, low, high, unit_word(points.frame.vertical)))

        self.desk.behind.cancel_all()
        self.desk.start_behind(self.desk.behind, "what lies in the box", work, arrived)

    def _ask_heights(self, pick: Pick, dialog: HeightsDialog) -> None:
        low, high = dialog.above.text(), dialog.below.text()

        def done() -> None:
            above, below = dialog.limits()
            # What stands there from the start means every height.
            above = None if dialog.above.text() == low else above
            below = None if dialog.below.text() == high else below
            self._add(PICK_BOX, dataclasses.replace(pick, above=above, below=below))

        dialog.accepted.connect(lambda: self.desk.guarded(done))
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

    def _add(self, key: str, pick: Pick) -> None:
        how = LESS if key == PICK_LESS else ALSO
        if how == LESS and not self.picks:
            raise CallError("nothing is picked yet that could become less")
        self.picks.append((how, pick))
        self._find()
        if self.views.plan.tool is None:
            self._take_up(key)

    # -- what is picked

    def clear(self) -> None:
        """Let go of what is picked."""
        self.picks, self.number, self.words, self._seen = [], 0, "", np.zeros((0, 3))
        self.desk.behind.cancel_all()
        self._update()

    def whole(self) -> Picks:
        """Return the picks; what is not drawn is not meant."""
        every = list(self.picks)
        own = self.views.styling.styled(self._card) if self._card in self.desk.session.graph else None
        if own is not None and isinstance(own.look, PointLook):
            codes = np.flatnonzero(hidden_classes(own.look))
            if len(codes) and CLASSES in own.dataset.attributes:  # type: ignore[attr-defined]
                every.append((LESS, Pick(of=tuple(int(code) for code in codes))))
            every += [
                (LESS, Pick(above=Length(low), below=Length(high))) for low, high in hidden_heights_of(own.look.heights)
            ]
        return tuple(every)

    def _find(self) -> None:
        own = self.points()
        if own is None:
            return
        picks = self.whole()
        points = own[1]
        self._found_in = points.content

        def work(progress: Progress) -> tuple[int, Floats, str]:
            found = np.flatnonzero(picked(points, picks))
            some = found[:: max(len(found) // MOST, 1)]
            words = f"{count(len(found), 'point')} picked"
            if CLASSES in points.attributes and len(found):
                codes, numbers = class_counts(points.chosen(found))
                words += ": " + ", ".join(
                    f"{spaced(int(number))} {class_words(int(code))}"
                    for code, number in zip(codes, numbers, strict=True)
                )
            return len(found), points.xyz[some], words

        def arrived(made: tuple[int, Floats, str]) -> None:
            self.number, self._seen, self.words = made
            self.desk.say(self.words)
            self._update()

        self.desk.behind.cancel_all()
        self.desk.start_behind(self.desk.behind, "what is picked", work, arrived)

    def _chosen(self) -> None:
        if self.picks or self.held:
            own = self.desk.selection
            if own != [self._card]:
                self.put_down()
                self.clear()
            elif self.picks:
                now = self.points()
                if now is not None and now[1].content != self._found_in:
                    self._find()

    # -- what is done to it

    def _do(self, key: str) -> None:
        if not self.picks:
            raise CallError("pick some points first")
        if key == "pick_class":
            dialog = ClassDialog(self.parent, count(self.number, "point"))
            dialog.accepted.connect(lambda: self.desk.guarded(lambda: self._apply(CLASS, dialog.code())))
            dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            dialog.open()
            return
        self._apply(DELETE if key == "pick_delete" else KEEP)

    def _apply(self, word: str, code: int = 0) -> None:
        line = Cleaning(word, self.whole(), code).line()
        held = self.held
        self.put_down()
        self.clear()
        self.making.edit(self._card, line)
        if held:
            # The next area is drawn on what that gives.
            self.desk.guarded(partial(self._take_up, held))

    # -- seeing it

    def _update(self) -> None:
        for view in (self.views.plan, self.views.space, self.views.sectioning.view):
            view.update()

    def _paint(self, painter: QPainter, x: Floats, y: Floats) -> None:
        halo = QColor("#FFFFFF")
        halo.setAlpha(140)
        dots = polygon(x, y)
        few = len(x) < 2000
        for colour, width in (
            (halo, 6.0 if few else 3.0),
            (self.views.plan.palette_.colour("error"), 4.0 if few else 2.0),
        ):
            painter.setPen(QPen(colour, width))
            painter.drawPoints(dots)

    def _paint_plan(self, painter: QPainter) -> None:
        if len(self._seen):
            view = self.views.plan.view
            turned = view.turned(self._seen[:, :2])
            self._paint(painter, (turned[:, 0] - view.west) / view.size, (view.top - turned[:, 1]) / view.size)

    def _paint_space(self, painter: QPainter) -> None:
        if len(self._seen):
            space = self.views.space
            x, y = space.camera.pixels(self._seen, space.width(), space.height())
            self._paint(painter, x, y)

    def _paint_section(self, painter: QPainter) -> None:
        strip = self.views.sectioning
        if len(self._seen) and strip.line is not None:
            along = nearest_along(self._seen, strip.line, strip.band_width())
            near = np.isfinite(along)
            x, y = strip.view.pixels(along[near], self._seen[near, 2])
            self._paint(painter, x, y)
