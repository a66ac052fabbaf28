"""The lineage: cards in columns, joined by curves; the map of the job."""

from __future__ import annotations

import functools
import threading
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QMimeData, QPointF, QRectF, Qt, QUrl, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QDrag,
    QDragEnterEvent,
    QDropEvent,
    QFontMetricsF,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QWheelEvent,
)
from PyQt6.QtWidgets import QApplication, QSizePolicy, QWidget

from vastgrid import catalog
from vastgrid.base.findings import count
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.kinds import kind_named
from vastgrid.data.table import Table
from vastgrid.lineage.graph import Card, Graph, Role, State
from vastgrid.qt.desk.cards import answer_text, beside_another, cost_text, kind_expected, kind_text
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.drawing import rendering
from vastgrid.qt.drawing.view import bounds, fitted
from vastgrid.qt.views.lineage_layout import COLUMNS, LEFT, LINE, PICTURE, ROWS, Layout, Placed, following, laid_out
from vastgrid.qt.widgets import glyphs, theme
from vastgrid.qt.widgets.bridge import Bridge

# A card that is dragged says so; whatever is no lineage knows it by its file, if it has one.
CARD_MIME = "application/x-vastgrid-card"


class LineageView(QWidget):
    """Paints the lineage and lets cards be chosen with mouse and keyboard.

    Signals
    -------
    wanted_targets : str, QPointF
        The “+” of a card was pressed, at a global place.
    switched : str
        A card's eye was pressed.
    filled : str
        While a step is begun: the card that it is made with.
    given_up : ()
        Esc was pressed while a step is begun.
    laid_out : ()
        Cards lie elsewhere: the lineage needs another height.
    """

    wanted_targets = pyqtSignal(str, object)
    switched = pyqtSignal(str)
    removed = pyqtSignal()
    filled = pyqtSignal(str)
    given_up = pyqtSignal()
    laid_out = pyqtSignal()

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
        # While a step is begun: the cards that fit what it lacks.
        self.lit: list[str] | None = None
        self.graph = Graph()
        self.layout_ = Layout()
        self.level = 0
        self.filter = ""
        self.setAcceptDrops(True)
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

    @property
    def cards(self) -> list[Placed]:
        """Where the cards lie."""
        return self.layout_.cards

    @property
    def folded(self) -> list[str]:
        """The cards behind which all that follows is folded away; the job remembers them."""
        return [card for card in self.desk.session.settings.get("folded", []) if card in self.graph]

    def _lay_out(self) -> None:
        self.layout_ = laid_out(
            self.graph,
            self.kind_of,
            self.parent_width(),
            level=self.level,
            folded=self.folded,
            wanted=self._wanted,
        )
        self.setMinimumSize(self.layout_.size)
        self.laid_out.emit()

    def _wanted(self, node: Card) -> bool:
        """Return whether a card is listed: with letters typed, those whose name, kind or conversion has them all."""
        if not self.filter:
            return True
        said = " ".join((node.name, kind_text(node, self.kind_of(node)), node.operation, Path(node.path).name)).lower()
        return all(word in said for word in self.filter.lower().split())

    def zoom(self, by: int) -> None:
        """Zoom out by a step, or in: cards, rows, fine rows."""
        level = min(max(self.level + by, 0), len(ROWS) - 1)
        if level != self.level:
            self.level = level
            self._lay_out()
            self.update()

    def fold(self, card: str) -> None:
        """Fold away what was made from a card, or unfold it."""
        folded = self.folded
        if card in folded:
            folded.remove(card)
        elif following(self.graph, card):
            folded.append(card)
        self.desk.session.settings["folded"] = folded
        self.desk.session.save()
        self._lay_out()
        self.update()

    def unfold_to(self, card: str) -> None:
        """Bring a card into the lineage that is folded away or filtered out."""
        if self.place_of(card) is not None or card not in self.graph or beside_another(self.graph[card]):
            return
        hiding = [each for each in self.folded if card in following(self.graph, each)]
        if hiding:
            self.desk.session.settings["folded"] = [each for each in self.folded if each not in hiding]
        self.filter = self.filter if self._wanted(self.graph[card]) else ""
        self._lay_out()
        self.update()

    def _type(self, filter_text: str) -> None:
        self.filter = filter_text
        self._lay_out()
        self.update()
        number = len(self.cards)
        self.desk.say(f"{count(number, 'card')} with “{self.filter}”; Esc shows all" if self.filter else "")

    def parent_width(self) -> int:
        """Return the width there is to fill."""
        parent = self.parentWidget()
        return parent.width() if parent is not None else self.width()

    def place_of(self, node: str) -> QRectF | None:
        """Return where a card lies; None where it has none of its own."""
        return self.layout_.place_of(node)

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
        if self.level:
            return QRectF(card.place.right() - 32, card.place.top(), 18, card.place.height())
        return QRectF(card.place.right() - 32, card.place.top() + 3, 18, 18)

    def fold_of(self, card: Placed) -> QRectF:
        """Return where it stands on a card how many steps are folded away behind it."""
        return QRectF(card.place.right() - 66, card.place.bottom() - 17, 52, 15)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        if event is None:
            return
        card = self._card_at(event.position())
        self._pressed = event.position() if event.button() is Qt.MouseButton.LeftButton else None
        if self.lit is not None:
            # A step is begun: what is clicked is what it is made with.
            if card is not None:
                self.filled.emit(card.node)
            return
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
        elif card.node in self.layout_.steps and self.fold_of(card).contains(event.position()):
            self.fold(card.node)
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
        drag = QDrag(self)
        drag.setMimeData(self.dragged(card.node))
        drag.exec(Qt.DropAction.CopyAction)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        card = self._card_at(event.position()) if event is not None else None
        if card is not None and self.lit is None:
            self.fold(card.node)

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        if event is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom(1 if event.angleDelta().y() < 0 else -1)
            event.accept()
        elif event is not None:
            event.ignore()

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and event.mimeData() is not None and event.mimeData().hasFormat(CARD_MIME):  # type: ignore[union-attr]
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Use two cards together: one was dropped on the other."""
        data = event.mimeData() if event is not None else None
        target = self._card_at(event.position()) if event is not None else None
        if event is None or data is None or target is None:
            return
        card = bytes(data.data(CARD_MIME).data()).decode()
        if card in self.graph and card != target.node:
            event.acceptProposedAction()
            self.select([card, target.node])
            self.wanted_targets.emit(target.node, QPointF(self.mapToGlobal(event.position().toPoint())))

    def dragged(self, card: str) -> QMimeData:
        """Return a card as what is dragged: itself, and its file where it has one."""
        data = self.file_of(card) or QMimeData()
        data.setData(CARD_MIME, card.encode())
        return data

    def file_of(self, node: str) -> QMimeData | None:
        """Return the file of a card as what is dragged: that of a delivery, or of a source; None for others."""
        own = self.graph[node]
        if own.role not in (Role.DELIVERY, Role.SOURCE) or not own.path or not Path(own.path).is_file():
            return None
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(own.path)])
        return data

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None or (not self.cards and not self.filter):
            return
        if event.key() == Qt.Key.Key_Escape and self.lit is not None:
            self.given_up.emit()
            return
        if self._filtering(event):
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

    def _filtering(self, event: QKeyEvent) -> bool:
        """Take what is typed as letters that cards are to have; return whether it was that."""
        plain = not event.modifiers() & (Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
        text = event.text()
        if event.key() == Qt.Key.Key_Escape and self.filter:
            self._type("")
        elif event.key() == Qt.Key.Key_Backspace and self.filter:
            self._type(self.filter[:-1])
        elif plain and text.isprintable() and text.strip() and text != "+":
            self._type(self.filter + text)
        elif plain and text == " " and self.filter:
            self._type(self.filter + " ")
        else:
            return False
        return True

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
            painter.drawText(QRectF(LEFT + k * self.layout_.step + 2, 5, 200, 18), 0x81, name)
        if self.filter:
            self._paint_filter(painter)
        places = {card.node: card for card in self.cards}
        labels: list[QRectF] = []
        for card in self.cards:
            for source in self.graph[card.node].inputs:
                if source in places:
                    self._paint_curve(painter, places[source], card)
        for card in self.cards:
            self._paint_cost(painter, card, places, labels)
        for card in self.cards:
            self._paint_card(painter, card)
            painter.setOpacity(1.0)
        if self.hasFocus():
            painter.setPen(QPen(self.palette_.colour("action"), 1, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawRect(QRectF(1, 1, self.width() - 3, self.height() - 3))
        painter.end()

    def _paint_filter(self, painter: QPainter) -> None:
        """Say which letters the cards that are listed have."""
        text = f"“{self.filter}”: {len(self.cards)} of {len(self.graph.cards)}, Esc shows all"
        painter.setPen(self.palette_.colour("action"))
        painter.drawText(QRectF(self.visibleRegion().boundingRect().right() - 330, 5, 320, 18), 0x82, text)

    def _paint_curve(self, painter: QPainter, a: Placed, b: Placed) -> None:
        path, source, node = self.layout_.route(a, b), a.node, b.node
        strong = node in self.selection or source in self.selection
        stale = self.graph.state(node) is not State.MADE
        pen = QPen(self.palette_.colour("action" if strong else "curve"), 2.2 if strong else 1.4)
        if stale:
            pen.setStyle(Qt.PenStyle.DashLine)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        role = self._role_word(source, node) if not self.level else ""
        if role:
            painter.setFont(theme.font(8.0))
            width = QFontMetricsF(painter.font()).horizontalAdvance(role) + 6
            # Between the columns where there is room, otherwise on the way across the next one; the sentence says it too.
            narrow = self.layout_.step - self.layout_.width < width + 4
            left = a.place.right() + 4 if not narrow else LEFT + (a.column + 1) * self.layout_.step + 8
            if not narrow or b.column > a.column + 1:
                part = 0.12 if not narrow else path.percentAtLength(left + width / 2 - a.place.right())
                box = QRectF(left, path.pointAtPercent(min(part, 1.0)).y() - 8, width, 16)
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
        text = cost_text(self.graph[card.node]) if not self.level else ""
        inputs = self.graph[card.node].inputs
        if not text or not inputs or inputs[0] not in places:
            return
        painter.setFont(theme.font(8.5))
        width = QFontMetricsF(painter.font()).horizontalAdvance(text) + 10
        box = QRectF(card.place.left() - width - 6, card.place.center().y() - 9, width, 18)
        # The card says it too: where there is no room between the columns, that is enough.
        if width + 8 > self.layout_.step - self.layout_.width or any(box.intersects(other) for other in taken):
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
        if self.lit is not None:
            fits = card.node in self.lit
            painter.setOpacity(1.0 if fits or chosen else 0.45)
            if fits:
                painter.setPen(QPen(palette.colour("chip"), 9.0))
                painter.drawRoundedRect(place, 8, 8)
                pen = QPen(palette.colour("action"), 2.0)
        painter.setPen(pen)
        painter.setBrush(palette.colour("raised"))
        painter.drawRoundedRect(place, 6, 6)
        if self.level:
            self._paint_row(painter, card, node, state)
            return
        frame = QRectF(place.left() + 6, place.top() + 6, self.layout_.picture.width(), self.layout_.picture.height())
        painter.fillRect(frame, palette.colour("band"))
        picture = self._pictures.get(self._picture_key(node))
        if picture is not None:
            whole = painter.opacity()
            painter.setOpacity(whole * (1.0 if node.shown or node.role is Role.DELIVERY else 0.35))
            painter.drawImage(frame, picture)
            painter.setOpacity(whole)
        kind = self.kind_of(node)
        if kind == Table.kind:
            glyphs.paint(painter, kind, palette.quiet, QRectF(frame.center().x() - 14, frame.center().y() - 14, 28, 28))
        left = frame.right() + 8
        glyphs.paint(painter, kind, palette.action, QRectF(left, place.top() + 5, 15, 15))
        painter.setPen(palette.colour("ink"))
        painter.setFont(theme.font(9.5, bold=True))
        names = self.layout_.names.get(card.node) or [node.name]
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
        self._paint_folded(painter, card)
        if node.role is not Role.DELIVERY:
            if self._has_eye(node):
                self._paint_eye(painter, self.eye_of(card), node.shown)
            if chosen or self.underMouse():
                self._paint_plus(painter, self.plus_of(card), chosen=chosen)

    def _paint_row(self, painter: QPainter, card: Placed, node: Card, state: State) -> None:
        """Draw a card as a row: its kind, its name, and a mark for its state."""
        palette, place = self.palette_, card.place
        small = place.height() - 6
        glyphs.paint(
            painter, self.kind_of(node), palette.action, QRectF(place.left() + 6, place.top() + 3, small, small)
        )
        painter.setFont(theme.font(self.layout_.text, bold=card.node in self.selection))
        fault = card.node in self.desk.failures
        painter.setPen(palette.colour("error" if fault else "warning" if state is not State.MADE else "ink"))
        name = self.layout_.names[card.node][0]
        painter.drawText(place.adjusted(small + 12, 0, -16, 0), 0x81, name)
        self._paint_folded(painter, card)
        if self._has_eye(node):
            self._paint_eye(painter, self.eye_of(card), node.shown)
        if card.node in self.selection and node.role is not Role.DELIVERY:
            self._paint_plus(painter, self.plus_of(card), chosen=True)

    def _paint_folded(self, painter: QPainter, card: Placed) -> None:
        """Say on a card how many steps are folded away behind it."""
        steps = self.layout_.steps.get(card.node)
        if not steps:
            return
        place = self.fold_of(card)
        painter.setPen(QPen(self.palette_.colour("action"), 1.0))
        painter.setBrush(self.palette_.colour("chip"))
        painter.drawRoundedRect(place, 7, 7)
        painter.setFont(theme.font(7.5, bold=True))
        painter.drawText(place, 0x84, count(steps, "step"))

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
            return kind_text(node, kind), mark + (
                f" {gap_words(gap, 4)} {report.unit}".rstrip() if gap is not None else ""
            )
        if node.role is Role.SOURCE:
            return kind_text(node, kind), Path(node.path).name
        if node.role is Role.KEPT:
            return kind_text(node, kind), f"kept as it was: {node.words['of']}"
        if node.kind == Table.kind and node.outcome and node.outcome.loss:
            loss = node.outcome.loss
            return kind_text(node, kind), f"differ by {gap_words(loss.largest, 2)}{unit_word(loss.unit)}"
        if node.kind == Table.kind and (told := answer_text(node)):
            return kind_text(node, kind), told
        cost = cost_text(node)
        return kind_text(node, kind), f"loss {cost}" if cost else ""
