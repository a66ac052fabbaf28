"""Working by hand on a surface: a hand is taken up, shows what it would do, and does it; Esc puts it down."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPainterPath, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, square_word, unit_word
from vastgrid.base.words import area_words, place_words
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.measures.changes import Changes, changes
from vastgrid.measures.heights import heights
from vastgrid.measures.snap import Caught
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.height_dialog import HeightDialog
from vastgrid.qt.drawing.rendering import draw, height_range
from vastgrid.qt.drawing.view import View
from vastgrid.qt.views.tools import AreaTool, Tool
from vastgrid.qt.views.views import Views
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.polygons import polygon
from vastgrid.terrain.editing.edit_lines import Places
from vastgrid.terrain.editing.edits import KINDS, EditKind, EditLog, EditTool, nearest_vertex, replayed
from vastgrid.terrain.editing.logs import OFF
from vastgrid.terrain.editing.patches import patch
from vastgrid.terrain.editing.working import Working

# A click means an edge that lies no more pixels away.
REACH = 12.0
# Of more triangles than this nothing is worked out while the window waits.
LARGE = 40_000
# So many triangles are drawn of what a hand would do.
MOST = 4000
_NUMBER = {"one": (1, 1), "two": (2, 2), "line": (2, 0), "area": (3, 0)}


Box = tuple[float, float, float, float]


@dataclass(frozen=True, slots=True)
class Waiting:
    """An edit that is done and not yet in the surface."""

    line: str
    places: Places


@dataclass(frozen=True, slots=True)
class Done:
    """How edits look that are not yet in the surface."""

    view: View
    found: Changes
    image: QImage


def edit_tools() -> list[tuple[str, EditKind, EditTool]]:
    """Return every hand with a key of its own and its kind of edit, in the order in which they are offered."""
    return [(f"hand_{hand.text.replace(' ', '_')}", kind, hand) for kind in KINDS for hand in kind.edit_tools]


class EditTools:
    """The edit tools of the window.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    """

    def __init__(self, parent: QWidget, desk: Desk, making: Making, views: Views) -> None:
        self.parent, self.desk, self.making, self.views = parent, desk, making, views
        plan = self.plan = views.plan
        self.ghost: Changes | None = None
        self.why = ""
        self.held = ""
        self._again = ""
        self._pointer: QPointF | None = None
        self._waiting: list[Waiting] = []
        self._card = ""
        self._done: Done | None = None
        plan.overlays.append(self._paint)
        desk.changed.connect(self._resume)

    def surface(self) -> tuple[str, Tin] | None:
        """Return the chosen card and its surface, if exactly one TIN is chosen."""
        return self.desk.chosen(Tin)

    def take_up(self, key: str) -> None:
        """Take a hand up.

        Raises
        ------
        CallError
            If no surface is chosen.
        """
        kind, hand = next((kind, hand) for own, kind, hand in edit_tools() if own == key)
        if self.surface() is None:
            raise CallError("choose one TIN first: it is what the edit tools work on")
        self.held, self._again = key, ""
        least, most = _NUMBER[hand.gathers]
        tool = (AreaTool if hand.gathers == "area" else Tool)(
            lambda places: self.desk.guarded(lambda: self._gathered(kind, hand, places)),
            least=least,
            most=most,
            changed=lambda places, pointer: self._follow(kind, hand, places, pointer),
            ended=self._put_down,
        )
        self.plan.use(tool)
        self.views.show_held(key)
        ending = {
            "one": "",
            "two": "",
            "line": "; Enter or a double click ends",
            "area": "; Enter or a double click ends",
        }
        self.desk.say(f"{hand.tip.removesuffix('.')}{ending[hand.gathers]}, Esc cancels the tool")

    def _put_down(self) -> None:
        self.ghost, self.why, self.held = None, "", ""
        self.views.show_held("")
        self.desk.behind.cancel_all()
        self.plan.update()
        self.desk.say("")

    # -- what it would do

    def _follow(self, kind: EditKind, hand: EditTool, places: list[Caught], pointer: Caught | None) -> None:
        every = [*places, *([pointer] if pointer is not None else [])]
        least, most = _NUMBER[hand.gathers]
        every = every[: most or None]
        if pointer is not None:
            self._pointer = QPointF(*self.plan.view.pixel(pointer.east, pointer.north))
        if len(every) < least or hand.asks:
            self.ghost = None
            return
        self.show_ghost(kind, hand, every, None)

    def show_ghost(self, kind: EditKind, hand: EditTool, places: list[Caught], value: Length | None) -> None:
        """Draw what an edit would do, worked out behind; the latest wish wins."""
        surface = self.surface()
        if surface is None:
            return
        _, tin = surface
        corners = tuple((each.east, each.north) for each in places)
        reach = REACH * self.plan.view.size

        def work(progress: Progress) -> tuple[Changes | None, str]:
            try:
                part, box = self._part(tin, corners)
                edit = hand.edit(meant(part, kind, hand, corners, reach), value)
            except CallError as error:
                return None, str(error)
            done = replayed(part, EditLog((edit.line(),)))
            if done.findings:
                return None, done.findings[0].text.split("does not apply: ")[-1]
            return changes(part, done.tin, box), ""

        def arrived(made: tuple[Changes | None, str]) -> None:
            if self.held:
                self.ghost, self.why = made
                self.plan.update()

        self.desk.behind.cancel_all()
        self.desk.start_behind(self.desk.behind, "what it would do", work, arrived)

    def _part(self, tin: Tin, corners: Places) -> tuple[Tin, Box]:
        """Return the ground around places, with what was done since the surface was made last, and the box it lies in."""
        reach = REACH * self.plan.view.size
        near = [place for waiting in self._waiting for place in waiting.places]
        places = np.array([*corners, *near])
        (west, south), (east, north) = places.min(axis=0) - reach, places.max(axis=0) + reach
        box = (float(west), float(south), float(east), float(north))
        part = patch(tin, box)
        if self._waiting and len(part.triangles) <= LARGE:
            part = replayed(part, EditLog(tuple(each.line for each in self._waiting))).tin
        return part, box

    def _show_done(self, tin: Tin) -> None:
        """Draw what was done where it was done, until the surface is made and drawn anew."""
        places = [place for each in self._waiting for place in each.places]
        before, self._waiting, own = self._waiting, [], self._waiting
        part, box = self._part(tin, tuple(places))
        self._waiting = before
        if len(part.triangles) > LARGE:
            # The window must not stand still for it: the surface itself shows it as soon as it is made.
            return
        made = replayed(part, EditLog(tuple(each.line for each in own))).tin
        found = changes(part, made, box)
        styled = self.views.styling.styled(self.desk.selection[0])
        others = [each.dataset for each in self.plan.items]
        if styled is None or not len(made.triangles):
            return
        view = self.plan.view
        look = dataclasses.replace(styled, dataset=made, _kept={})
        image = draw([look], view, self.plan.palette_, labels=False, wires=True, ends=height_range(others))
        self._done = Done(view, found, image)
        self.plan.repaint()

    def _paint_done(self, painter: QPainter) -> None:
        done = self._done
        if done is None:
            return
        if self.plan.view != done.view or (not self._waiting and self.plan.settled()):
            self._done = None
            return
        area = QPainterPath()
        area.setFillRule(Qt.FillRule.WindingFill)
        for corner in (*done.found.gone[:MOST], *done.found.new[:MOST]):
            area.addPolygon(self._outline(corner))
        painter.save()
        painter.setClipPath(area)
        painter.fillRect(self.plan.rect(), self.plan.palette_.colour("paper"))
        painter.drawImage(0, 0, done.image)
        painter.restore()

    def _paint(self, painter: QPainter) -> None:
        """Show what goes in the warning colour, what comes in the action colour, and how much beside the pointer."""
        self._paint_done(painter)
        if not self.held or (self.ghost is None and not self.why):
            return
        palette = self.plan.palette_
        text = self.why
        if self.ghost is not None:
            tint = palette.colour("warning")
            tint.setAlpha(70)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(tint)
            for corner in self.ghost.gone[:MOST]:
                painter.drawPolygon(self._outline(corner))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(palette.colour("action"), 1.6))
            for corner in self.ghost.new[:MOST]:
                painter.drawPolygon(self._outline(corner))
            text = self._amount(self.ghost)
        if self._pointer is not None and text:
            self._say_beside(painter, text)

    def _outline(self, corner: Floats) -> QPolygonF:
        plan = self.plan.view.turned(corner[:, :2])
        view = self.plan.view
        return polygon((plan[:, 0] - view.west) / view.size, (view.top - plan[:, 1]) / view.size)

    def _amount(self, ghost: Changes) -> str:
        area = square_word(self.desk.session.units()[0])
        if not len(ghost.gone) and not len(ghost.new):
            return "nothing changes in view"
        parts = []
        if len(ghost.gone) > len(ghost.new) and abs(ghost.taken) > 1e-6:
            parts.append(f"{count(len(ghost.gone) - len(ghost.new), 'triangle')} go")
        elif abs(ghost.taken) > 1e-6:
            parts.append(f"{count(len(ghost.new) - len(ghost.gone), 'triangle')} come")
        else:
            parts.append(f"{count(len(ghost.new), 'triangle')} new")
        if abs(ghost.taken) > 1e-6:
            parts.append(f"{area_words(abs(ghost.taken))}{area}")
        return ", ".join(parts)

    def _say_beside(self, painter: QPainter, text: str) -> None:
        assert self._pointer is not None
        palette = self.plan.palette_
        painter.setFont(theme.font(8.5))
        wide = QFontMetricsF(painter.font()).horizontalAdvance(text) + 12
        x = min(self._pointer.x() + 16, self.plan.width() - wide - 4)
        box = QRectF(x, self._pointer.y() + 12, wide, 19)
        ground = QColor(palette.colour("raised"))
        painter.setPen(QPen(palette.colour("line"), 1.0))
        painter.setBrush(ground)
        painter.drawRect(box)
        painter.setPen(palette.colour("error" if self.why else "ink"))
        painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), text)

    # -- doing it

    def _gathered(self, kind: EditKind, hand: EditTool, places: list[Caught]) -> None:
        surface = self.surface()
        if surface is None:
            raise CallError("choose one TIN first: it is what the edit tools work on")
        _, tin = surface
        clicked = tuple((each.east, each.north) for each in places)
        part, _ = self._part(tin, clicked)
        corners = meant(part, kind, hand, clicked, REACH * self.plan.view.size)
        key = next(key for key, _, each in edit_tools() if each is hand)
        if not hand.asks:
            self._do(surface, hand.edit(corners, None).line(), corners, key)
            return
        dialog = self._dialog(kind, hand, tin, corners)
        dialog.accepted.connect(lambda: self.desk.guarded(partial(self._accepted, surface, hand, corners, dialog, key)))
        ring = [Caught(east, north, 0.0, "", "") for east, north in corners]
        if hand.gathers == "area":
            self.held = key
            dialog.typed.connect(lambda: self.desk.guarded(lambda: self.show_ghost(kind, hand, ring, dialog.length())))
        dialog.finished.connect(lambda _: self._put_down())
        dialog.open()

    def _accepted(self, own: tuple[str, Tin], hand: EditTool, corners: Places, dialog: HeightDialog, key: str) -> None:
        self._do(own, hand.edit(corners, dialog.length()).line(), corners, key)

    def _do(self, own: tuple[str, Tin], line: str, corners: Places, key: str) -> None:
        # The hand stays taken up; it goes on once the edited surface is there.
        card, tin = own
        self._again = key
        self._waiting.append(Waiting(line, corners))
        self._show_done(tin)
        self.making.edit(card, line)
        self._card = self.desk.selection[0]

    def _resume(self) -> None:
        self._waiting = self._waiting[len(self._waiting) - self._yet_to_come() :]
        if self._again and not self.held and self.surface() is not None:
            self.desk.guarded(lambda: self.take_up(self._again))

    def _yet_to_come(self) -> int:
        """Return how many of the edits are not yet in the surface."""
        if self._card and (self.desk.selection != [self._card] or self._card not in self.desk.session.graph):
            # Taken back, or another card is looked at now.
            return 0
        surface = self.surface()
        if surface is None or not self._waiting:
            return len(self._waiting)
        node = self.desk.session.graph.node(surface[0])
        log = self.desk.session.editing.log(surface[0])
        if log is None:
            # Nothing is edited any more, or all of it is yet to be made.
            return len(self._waiting) if self.desk.runner.busy else 0
        figures = node.outcome.figures if node.outcome is not None else {}
        counted = int(figures.get("replayed", 0)) + int(figures.get("not_replayed", 0))
        return min(max(sum(not line.startswith(OFF) for line in log.entries) - counted, 0), len(self._waiting))

    def _dialog(self, kind: EditKind, hand: EditTool, tin: Tin, corners: Places) -> HeightDialog:
        unit = unit_word(tin.frame.vertical)
        own = np.array(corners)
        if hand.asks == "amount":
            what = f"{hand.text.capitalize()}: by how much, inside {count(len(corners), 'corner')}"
            dialog = HeightDialog(self.parent, what, 0.1, unit, compared=False)
        else:
            z = heights(tin, own) if hand.gathers != "area" else heights(tin, own.mean(axis=0, keepdims=True))
            known = float(z[0]) if np.isfinite(z[0]) else 0.0
            if hand.means == "vertex":
                known = float(tin.vertices[nearest_vertex(tin.vertices, *corners[0]), 2])
            east, north = corners[0]
            what = f"{'Vertex' if hand.means == 'vertex' else 'Ground'} at {place_words(east, north)}"
            self.plan.mark = (east, north)
            dialog = HeightDialog(self.parent, what, known, unit)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.plan.update()
        return dialog


def meant(tin: Tin, kind: EditKind, hand: EditTool, places: Places, reach: float) -> Places:
    """Return the places that are meant by those that were clicked: the nearest vertex, or on the nearest edge.

    Raises
    ------
    CallError
        If nothing of the kind is near enough.
    """
    if not places:
        return places
    east, north = places[0]
    if hand.means == "vertex":
        vertex = nearest_vertex(tin.vertices, east, north)
        return ((float(tin.vertices[vertex, 0]), float(tin.vertices[vertex, 1])), *places[1:])
    if hand.means == "edge":
        work = Working(tin, reach)
        found = work.edge_at(east, north) if kind.word == "swap" else work.breakline_at(east, north)
        if found is None:
            raise CallError("there is no edge there" if kind.word == "swap" else "there is no breakline there")
        a, b = (work.xyz[int(work.tri[found[0], (found[1] + k) % 3]), :2] for k in (0, 1))
        return ((float((a[0] + b[0]) / 2.0), float((a[1] + b[1]) / 2.0)),)
    return places
