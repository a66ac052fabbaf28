"""The lineage: cards in columns, joined by curves; the map of the job."""

from __future__ import annotations

import functools
import math
import re
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QMimeData, QPointF, QRectF, QSize, Qt, QUrl, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QDrag,
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QApplication, QSizePolicy, QWidget

from vastgrid import catalog
from vastgrid.base.quantities import unit_word
from vastgrid.data.kinds import kind_named
from vastgrid.data.table import Table
from vastgrid.lineage.graph import Card, Graph, Role, State
from vastgrid.qt.desk.cards import answer_text, beside_another, cost_text, kind_expected, kind_text
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.drawing import rendering
from vastgrid.qt.drawing.view import bounds, fitted
from vastgrid.qt.widgets import glyphs, theme
from vastgrid.qt.widgets.bridge import Bridge

CARD, PICTURE = QSize(246, 58), QSize(62, 46)
# Beside the panel there is less room: cards and their pictures become narrower, and names break onto further lines.
NARROW, SMALL = 193, QSize(46, 34)
BETWEEN, LINE, LINES = 40, 15, 3
GAP, TOP, LEFT = 7, 26, 16
COLUMNS = ("came in", "ground", "made", "goes out")


@dataclass(frozen=True)
class Placed:
    """Where a card lies."""

    node: str
    column: int
    place: QRectF


def column_of(node: Card, kind: str) -> int:
    """Return a node's column: files in, ground, what is made from it, files out."""
    if node.role in (Role.SOURCE, Role.KEPT):
        return 0
    if node.role is Role.DELIVERY:
        return 3
    own = kind_named(kind)
    return 1 if own is not None and own.ground else 2


class LineageView(QWidget):
    """Paints the lineage and lets cards be chosen with mouse and keyboard.

    Signals
    -------
    wanted_targets : str, QPointF
        The “+” of a card was pressed, at a global place.
    switched : str
        A card's eye was pressed.
    """

    wanted_targets = pyqtSignal(str, object)
    switched = pyqtSignal(str)
    removed = pyqtSignal()

    def __init__(self, desk: Desk, palette: theme.Palette) -> None:
        super().__init__()
        # Where the left button went down, as long as that may become a drag.
        self._pressed: QPointF | None = None
        self.desk = desk
        desk.selected.connect(self.update)
        desk.worked.connect(self.update)
        self.setObjectName("lineage")
        self.setAccessibleName("Lineage")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.palette_ = palette
        self.graph = Graph()
        self.cards: list[Placed] = []
        self._names: dict[str, list[str]] = {}
        self.card_width, self.step = CARD.width(), float(CARD.width() + BETWEEN)
        self._pictures: dict[str, QImage] = {}
        self._asked: set[str] = set()
        self._bridge = Bridge(self)

    @property
    def selection(self) -> list[str]:
        """The chosen cards."""
        return self.desk.selection

    # -- content

    def show_graph(self) -> None:
        """Show the lineage as it is now."""
        self.graph = self.desk.session.graph
        self.desk.selection = [node for node in self.selection if node in self.graph]
        self._lay_out()
        self._draw_pictures()
        self.update()

    def set_palette(self, palette: theme.Palette) -> None:
        """Change the theme; the cards' pictures are drawn anew."""
        if palette is not self.palette_:
            self.palette_ = palette
            self._pictures.clear()
            self._asked.clear()
            self._draw_pictures()
        self.update()

    def select(self, nodes: list[str]) -> None:
        """Choose cards."""
        self.desk.select(nodes)

    def kind_of(self, node: Card) -> str:
        """Return the kind of a node's result."""
        if node.role is Role.DELIVERY:
            return "delivery"
        return node.kind or kind_expected(node, self.graph)

    def _lay_out(self) -> None:
        columns: list[list[str]] = [[], [], [], []]
        for node in self.graph.cards.values():
            if beside_another(node):
                continue
            columns[column_of(node, self.kind_of(node))].append(node.id)
        least = 4 * NARROW + 3 * BETWEEN + 2 * LEFT
        room = max(self.parent_width(), least) - 2 * LEFT
        self.card_width = min(CARD.width(), (room - 3 * BETWEEN) // 4)
        self.step = (room - self.card_width) / 3.0
        self.cards, self._names = [], {}
        height = 60.0
        for k, column in enumerate(columns):
            top = TOP + (self._ground_row(columns) if k == 1 else 0.0) * (CARD.height() + GAP)
            for card in column:
                self._names[card] = self._broken(self.graph[card])
                tall = CARD.height() + LINE * (len(self._names[card]) - 1)
                self.cards.append(Placed(card, k, QRectF(LEFT + k * self.step, top, self.card_width, tall)))
                top += tall + GAP
            height = max(height, top + 8)
        self.setMinimumSize(least, math.ceil(height))

    @property
    def _picture(self) -> QSize:
        """How large the picture on a card is."""
        return PICTURE if self.card_width > CARD.width() - 20 else SMALL

    def _broken(self, node: Card) -> list[str]:
        """Return a card's name on one to three lines; what is too long for them is cut in the middle, where names differ least."""
        metrics = QFontMetricsF(theme.font(9.5, bold=True))
        room = self.card_width - 6 - self._picture.width() - 8 - 19 - (28 if node.role is not Role.DELIVERY else 8)
        if metrics.horizontalAdvance(node.name) <= room:
            return [node.name]
        # Names of files are parted after their own marks as well.
        rest = re.findall(r"[^ \-_.]*[ \-_.]?", node.name)
        lines: list[str] = []
        while len(lines) < LINES - 1 and any(rest):
            line = ""
            while rest and (not line or metrics.horizontalAdvance((line + rest[0]).rstrip()) <= room):
                line += rest.pop(0)
            lines.append(metrics.elidedText(line.rstrip(), Qt.TextElideMode.ElideMiddle, room))
        last = "".join(rest).rstrip()
        return [*lines, metrics.elidedText(last, Qt.TextElideMode.ElideMiddle, room)] if last else lines

    def _ground_row(self, columns: list[list[str]]) -> float:
        """Return where the ground begins: beside the middle of its sources, yet never far down."""
        if not columns[1]:
            return 0.0
        rows = [columns[0].index(i) for i in self.graph[columns[1][0]].inputs if i in columns[0]]
        middle = sum(rows) / len(rows) if rows else 0.0
        return max(min(middle, 2.0) - (len(columns[1]) - 1) / 2.0, 0.0)

    def parent_width(self) -> int:
        """Return the width there is to fill."""
        parent = self.parentWidget()
        return parent.width() if parent is not None else self.width()

    def place_of(self, node: str) -> QRectF | None:
        """Return where a card lies; None where it has none of its own."""
        return next((card.place for card in self.cards if card.node == node), None)

    def resizeEvent(self, event: Any) -> None:
        self._lay_out()

    def _draw_pictures(self) -> None:
        """Draw the cards' small pictures off the interface thread, each content once."""
        wanted = []
        for node in self.graph.cards.values():
            digest = self._picture_key(node)
            if digest and digest not in self._pictures and digest not in self._asked:
                self._asked.add(digest)
                wanted.append((digest, node.id))
        if wanted:
            palette = self.palette_
            threading.Thread(target=self._draw_all, args=(wanted, palette), daemon=True).start()

    def _picture_key(self, node: Card) -> str:
        if node.role is Role.DELIVERY and node.inputs and node.inputs[0] in self.graph:
            node = self.graph[node.inputs[0]]
        return node.digest

    def _draw_all(self, wanted: list[tuple[str, str]], palette: theme.Palette) -> None:
        for digest, node in wanted:
            try:
                own = self.graph[node]
                source = own.inputs[0] if own.role is Role.DELIVERY else node
                dataset = self.desk.dataset(source)
                box = bounds([dataset]) if dataset is not None else None
                if dataset is None or box is None:
                    continue
                view = fitted(box, 2 * PICTURE.width(), 2 * PICTURE.height(), 0.03)
                picture = rendering.draw([dataset], view, palette, small=True)
            except Exception:  # noqa: BLE001 - a card without a picture is still a card
                continue
            self._bridge.post(functools.partial(self._arrived, digest, picture))

    def _arrived(self, digest: str, picture: QImage) -> None:
        self._pictures[digest] = picture
        self.update()

    # -- hands

    def _card_at(self, place: QPointF) -> Placed | None:
        return next((card for card in self.cards if card.place.adjusted(0, 0, 13, 0).contains(place)), None)

    def plus_of(self, card: Placed) -> QRectF:
        """Return where a card's “+” is."""
        return QRectF(card.place.right() - 11, card.place.center().y() - 11, 22, 22)

    def _has_eye(self, node: Card) -> bool:
        """Return whether a card is something that the views can show or hide."""
        kind = kind_named(self.kind_of(node))
        return node.role is not Role.DELIVERY and (kind is None or kind.drawn)

    def eye_of(self, card: Placed) -> QRectF:
        """Return where a card's switch for showing and hiding is."""
        return QRectF(card.place.right() - 32, card.place.top() + 3, 18, 18)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        card = self._card_at(event.position())
        self._pressed = event.position() if event.button() is Qt.MouseButton.LeftButton else None
        if card is None:
            self.select([])
            return
        node = self.graph[card.node]
        if node.role is not Role.DELIVERY and self.plus_of(card).contains(event.position()):
            if card.node not in self.selection:
                self.select([card.node])
            self.wanted_targets.emit(card.node, event.globalPosition())
        elif self._has_eye(node) and self.eye_of(card).contains(event.position()):
            self.switched.emit(card.node)
        elif event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier):
            own = [node for node in self.selection if node != card.node]
            self.select(own if card.node in self.selection else [*own, card.node])
        else:
            self.select([card.node])

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        if event is None or not event.buttons() & Qt.MouseButton.LeftButton or self._pressed is None:
            return
        far = (event.position() - self._pressed).manhattanLength()
        card = self._card_at(self._pressed)
        if card is None or far < QApplication.startDragDistance():
            return
        self._pressed = None
        data = self.file_of(card.node)
        if data is not None:
            drag = QDrag(self)
            drag.setMimeData(data)
            drag.exec(Qt.DropAction.CopyAction)

    def file_of(self, node: str) -> QMimeData | None:
        """Return the file of a card as what is dragged: that of a delivery, or of a source; None for others."""
        own = self.graph[node]
        if own.role not in (Role.DELIVERY, Role.SOURCE) or not own.path or not Path(own.path).is_file():
            return None
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(own.path)])
        return data

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or not self.cards:
            return
        moves = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
        now = next((card for card in self.cards if self.selection and card.node == self.selection[-1]), None)
        if event.key() in moves:
            found = self._neighbour(now, *moves[Qt.Key(event.key())])
            extend = event.modifiers() & Qt.KeyboardModifier.ShiftModifier
            self.select(
                [*(node for node in self.selection if node != found.node), found.node] if extend else [found.node]
            )
        elif now is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Plus):
            if self.graph[now.node].role is not Role.DELIVERY:
                self.wanted_targets.emit(now.node, QPointF(self.mapToGlobal(now.place.center().toPoint())))
        elif now is not None and event.key() == Qt.Key.Key_Space:
            self.switched.emit(now.node)
        elif now is not None and event.key() == Qt.Key.Key_Delete:
            self.removed.emit()
        else:
            super().keyPressEvent(event)

    def _neighbour(self, now: Placed | None, across: int, down: int) -> Placed:
        if now is None:
            return self.cards[0]
        if down:
            column = [card for card in self.cards if card.column == now.column]
            return column[min(max(column.index(now) + down, 0), len(column) - 1)]
        beside = [card for card in self.cards if (card.column - now.column) * across > 0]
        if not beside:
            return now
        nearest = min(abs(card.column - now.column) for card in beside)
        able = [card for card in beside if abs(card.column - now.column) == nearest]
        return min(able, key=lambda card: abs(card.place.y() - now.place.y()))

    # -- painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), self.palette_.colour("band"))
        painter.setFont(theme.font(8.5))
        painter.setPen(self.palette_.colour("quiet"))
        for k, name in enumerate(COLUMNS):
            painter.drawText(QRectF(LEFT + k * self.step + 2, 5, 200, 18), 0x81, name)
        places = {card.node: card for card in self.cards}
        labels: list[QRectF] = []
        for card in self.cards:
            for source in self.graph[card.node].inputs:
                if source in places:
                    self._paint_curve(painter, places[source].place, card.place, source, card.node)
        for card in self.cards:
            self._paint_cost(painter, card, places, labels)
        for card in self.cards:
            self._paint_card(painter, card)
        if self.hasFocus():
            painter.setPen(QPen(self.palette_.colour("action"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(1, 1, self.width() - 3, self.height() - 3))
        painter.end()

    def _paint_curve(self, painter: QPainter, a: QRectF, b: QRectF, source: str, node: str) -> None:
        begin, end = QPointF(a.right(), a.center().y()), QPointF(b.left(), b.center().y())
        bend = max(abs(end.x() - begin.x()) * 0.5, 24.0)
        path = QPainterPath(begin)
        path.cubicTo(begin + QPointF(bend, 0), end - QPointF(bend, 0), end)
        strong = node in self.selection or source in self.selection
        stale = self.graph.state(node) is not State.MADE
        pen = QPen(self.palette_.colour("action" if strong else "curve"), 2.2 if strong else 1.4)
        if stale:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        role = self._role_word(source, node)
        if role:
            painter.setFont(theme.font(8.0))
            width = QFontMetricsF(painter.font()).horizontalAdvance(role) + 6
            box = QRectF(a.right() + 16, path.pointAtPercent(0.12).y() - 8, width, 16)
            painter.fillRect(box, self.palette_.colour("band"))
            painter.setPen(self.palette_.colour("quiet"))
            painter.drawText(box, 0x84, role)

    def _role_word(self, source: str, node: str) -> str:
        """Return the role that a card plays, where there are several to tell apart."""
        own = self.graph.node(node)
        if own.role is not Role.MADE or len(catalog.conversion_named(own.operation).inputs) < 2:
            return ""
        return next(use.role for use in own.uses if use.card == source)

    def _paint_cost(self, painter: QPainter, card: Placed, places: dict[str, Placed], taken: list[QRectF]) -> None:
        """Write what a step cost on the curve that leads into it."""
        text = cost_text(self.graph[card.node])
        inputs = self.graph[card.node].inputs
        if not text or not inputs or inputs[0] not in places:
            return
        painter.setFont(theme.font(8.5))
        width = QFontMetricsF(painter.font()).horizontalAdvance(text) + 10
        box = QRectF(card.place.left() - width - 6, card.place.center().y() - 9, width, 18)
        # The card says it too: where there is no room between the columns, that is enough.
        if width + 8 > self.step - self.card_width or any(box.intersects(other) for other in taken):
            return
        taken.append(box)
        painter.fillRect(box, self.palette_.colour("band"))
        painter.setPen(self.palette_.colour("warning"))
        painter.drawText(box, 0x84, text)

    def _paint_card(self, painter: QPainter, card: Placed) -> None:
        node = self.graph[card.node]
        state = self.graph.state(card.node)
        palette, place = self.palette_, card.place
        chosen = card.node in self.selection
        pen = QPen(palette.colour("action" if chosen else "line"), 2.0 if chosen else 1.0)
        if state is not State.MADE:
            pen = QPen(palette.colour("warning"), 1.6 if chosen else 1.2, Qt.PenStyle.DashLine)
        if card.node in self.desk.failures:
            pen = QPen(palette.colour("error"), 1.6)
        painter.setPen(pen)
        painter.setBrush(palette.colour("raised"))
        painter.drawRoundedRect(place, 6, 6)
        frame = QRectF(place.left() + 6, place.top() + 6, self._picture.width(), self._picture.height())
        painter.fillRect(frame, palette.colour("band"))
        picture = self._pictures.get(self._picture_key(node))
        if picture is not None:
            painter.setOpacity(1.0 if node.shown or node.role is Role.DELIVERY else 0.35)
            painter.drawImage(frame, picture)
            painter.setOpacity(1.0)
        kind = self.kind_of(node)
        if kind == Table.kind:
            glyphs.paint(painter, kind, palette.quiet, QRectF(frame.center().x() - 14, frame.center().y() - 14, 28, 28))
        left = frame.right() + 8
        glyphs.paint(painter, kind, palette.action, QRectF(left, place.top() + 5, 15, 15))
        painter.setPen(palette.colour("ink"))
        painter.setFont(theme.font(9.5, bold=True))
        names = self._names.get(card.node) or [node.name]
        for k, name in enumerate(names):
            painter.drawText(QRectF(left + 19, place.top() + 3 + LINE * k, place.right() - left - 19, 19), 0x81, name)
        lower = place.top() + LINE * (len(names) - 1)
        painter.setFont(theme.font(8.5))
        first, second = self._lines(node, kind, state)
        metrics = QFontMetricsF(painter.font())
        wide = place.right() - left - 12
        painter.setPen(palette.colour("quiet"))
        painter.drawText(
            QRectF(left, lower + 21, wide, 17), 0x81, metrics.elidedText(first, Qt.TextElideMode.ElideRight, wide)
        )
        warn = state is not State.MADE or card.node in self.desk.failures or "differ" in second
        painter.setPen(palette.colour("warning" if warn else "quiet"))
        painter.drawText(
            QRectF(left, lower + 37, wide, 17),
            0x81,
            metrics.elidedText(second, Qt.TextElideMode.ElideRight, wide),
        )
        if node.role is not Role.DELIVERY:
            if self._has_eye(node):
                self._paint_eye(painter, self.eye_of(card), node.shown)
            if chosen or self.underMouse():
                self._paint_plus(painter, self.plus_of(card), chosen=chosen)

    def _paint_eye(self, painter: QPainter, place: QRectF, shown: bool) -> None:
        painter.setPen(QPen(self.palette_.colour("quiet"), 1.3))
        painter.setBrush(self.palette_.colour("action") if shown else QColor(0, 0, 0, 0))
        painter.drawEllipse(place.center(), 4.5, 4.5)

    def _paint_plus(self, painter: QPainter, place: QRectF, *, chosen: bool) -> None:
        painter.setPen(QPen(self.palette_.colour("action"), 1.4))
        painter.setBrush(self.palette_.colour("action" if chosen else "raised"))
        painter.drawEllipse(place.center(), 9.0, 9.0)
        painter.setPen(QPen(self.palette_.colour("on_action" if chosen else "action"), 1.8))
        c = place.center()
        painter.drawLine(c - QPointF(4.5, 0), c + QPointF(4.5, 0))
        painter.drawLine(c - QPointF(0, 4.5), c + QPointF(0, 4.5))

    def _lines(self, node: Card, kind: str, state: State) -> tuple[str, str]:
        if node.id in self.desk.running:
            return kind_text(node, kind), "being made …"
        if node.id in self.desk.failures:
            return kind_text(node, kind), "failed, see the panel"
        if state is not State.MADE:
            return kind_text(node, kind), state.value
        if node.role is Role.DELIVERY and node.outcome and node.outcome.delivery:
            report = node.outcome.delivery
            gap = report.vertical
            mark = "read back ✓" if report.good else "read back: differs"
            return kind_text(node, kind), mark + (f" {gap:.4f} {report.unit}".rstrip() if gap is not None else "")
        if node.role is Role.SOURCE:
            return kind_text(node, kind), Path(node.path).name
        if node.role is Role.KEPT:
            return kind_text(node, kind), f"kept as it was: {node.words['of']}"
        if node.kind == Table.kind and node.outcome and node.outcome.loss:
            loss = node.outcome.loss
            return kind_text(node, kind), f"differ by {loss.largest:.2f}{unit_word(loss.unit)}"
        if node.kind == Table.kind and (told := answer_text(node)):
            return kind_text(node, kind), told
        cost = cost_text(node)
        return kind_text(node, kind), f"loss {cost}" if cost else ""
