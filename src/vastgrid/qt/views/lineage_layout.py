"""Where the lineage's cards lie, and how the curves between them run; at three sizes, so that 200 cards can be overlooked."""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainterPath

from vastgrid.data.kinds import kind_named
from vastgrid.lineage.graph import Card, Graph, Role
from vastgrid.qt.desk.cards import beside_another
from vastgrid.qt.widgets import theme

CARD, PICTURE = QSize(246, 58), QSize(62, 46)
# Beside the panel there is less room: cards and their pictures become narrower, and names break onto further lines.
NARROW, SMALL = 193, QSize(46, 34)
BETWEEN, LINE, LINES = 40, 15, 3
GAP, TOP, LEFT = 7, 26, 16
COLUMNS = ("came in", "ground", "made", "goes out")
# Zoomed out a card is a row: its height, the size of its text, and the gap below.
ROWS = ((0, 9.5, GAP), (22, 9.0, 4), (15, 7.5, 2))
# So far to the side a curve swings that leads back.
_SWING = 22.0


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


def following(graph: Graph, card: str) -> set[str]:
    """Return all cards that were made from a card, and from those."""
    found: set[str] = set()
    todo = [card]
    while todo:
        now = todo.pop()
        for other in graph.cards.values():
            if other.id not in found and now in other.inputs:
                found.add(other.id)
                todo.append(other.id)
    return found - {card}


@dataclass
class Layout:
    """The places of cards.

    Attributes
    ----------
    cards : list of Placed
        Column by column, from above.
    names : dict
        The lines of each card's name.
    steps : dict
        How many cards are folded away behind each card that is folded.
    size : QSize
        The least room that it takes.
    step, width : float
        From column to column; of a card.
    level : int
        0 for cards with pictures, 1 for rows, 2 for fine rows.
    """

    cards: list[Placed] = field(default_factory=list)
    names: dict[str, list[str]] = field(default_factory=dict)
    steps: dict[str, int] = field(default_factory=dict)
    size: QSize = field(default_factory=QSize)
    step: float = 0.0
    width: int = 0
    level: int = 0

    @property
    def picture(self) -> QSize:
        """How large the picture on a card is."""
        return PICTURE if self.width > CARD.width() - 20 else SMALL

    @property
    def text(self) -> float:
        """The size of names."""
        return ROWS[self.level][1]

    def place_of(self, card: str) -> QRectF | None:
        """Return where a card lies; None where it has no place."""
        return next((each.place for each in self.cards if each.node == card), None)

    def free(self, column: int, y: float) -> float:
        """Return the height nearest to another at which a curve can cross a column without running behind a card."""
        places = [each.place for each in self.cards if each.column == column]
        if not places:
            return y
        ends = [places[0].top() - 5.0, *(place.bottom() + ROWS[self.level][2] / 2.0 for place in places)]
        if y < ends[0] or y > places[-1].bottom() + 3.0:
            return y
        return min(ends, key=lambda end: abs(end - y))

    def route(self, a: Placed, b: Placed) -> QPainterPath:
        """Return the curve from one card to another; it crosses columns between their cards, never behind one."""
        begin = QPointF(a.place.right(), a.place.center().y())
        end = QPointF(b.place.left(), b.place.center().y())
        path = QPainterPath(begin)
        if b.column > a.column:
            for column in range(a.column + 1, b.column):
                left = LEFT + column * self.step - 6.0
                part = (left - begin.x()) / max(end.x() - begin.x(), 1.0)
                y = self.free(column, begin.y() + (end.y() - begin.y()) * part)
                _bend(path, QPointF(left, y))
                path.lineTo(QPointF(left + self.width + 12.0, y))
            _bend(path, end)
            return path
        for column in range(a.column, b.column - 1, -1):
            left = LEFT + column * self.step
            y = self.free(column, end.y() - (b.place.height() / 2.0 + 3.0) * (1.0 if end.y() > begin.y() else -1.0))
            now = path.currentPosition()
            if now.x() >= left + self.width - 1.0:
                turn = now.x() + _SWING
                path.cubicTo(QPointF(turn, now.y()), QPointF(turn, y), QPointF(left + self.width, y))
            path.lineTo(QPointF(left, y))
        now = path.currentPosition()
        path.cubicTo(QPointF(now.x() - _SWING, now.y()), QPointF(end.x() - _SWING, end.y()), end)
        return path


def _bend(path: QPainterPath, end: QPointF) -> None:
    """Lead a path on to a place, level at both ends."""
    now = path.currentPosition()
    bend = max(abs(end.x() - now.x()) * 0.5, 10.0)
    path.cubicTo(now + QPointF(bend, 0), end - QPointF(bend, 0), end)


def laid_out(
    graph: Graph,
    kind_of: Callable[[Card], str],
    room: int,
    *,
    level: int = 0,
    folded: Collection[str] = (),
    wanted: Callable[[Card], bool] = lambda card: True,
) -> Layout:
    """Lay the cards of a job out in columns.

    Parameters
    ----------
    kind_of : callable
        Gives the kind of a card.
    room : int
        The width there is.
    level : int
        How far it is zoomed out.
    folded : collection of str
        Cards behind which all that follows is folded away.
    wanted : callable
        Says which cards are listed.
    """
    made = Layout(level=level)
    gone: set[str] = set()
    for card in folded:
        if card in graph:
            after = {each for each in following(graph, card) if not beside_another(graph[each])}
            made.steps[card] = len(after)
            gone |= following(graph, card)
    columns: list[list[str]] = [[], [], [], []]
    for node in graph.cards.values():
        if not beside_another(node) and node.id not in gone and wanted(node):
            columns[column_of(node, kind_of(node))].append(node.id)
    least = 4 * NARROW + 3 * BETWEEN + 2 * LEFT
    inside = max(room, least) - 2 * LEFT
    made.width = min(CARD.width(), (inside - 3 * BETWEEN) // 4)
    made.step = (inside - made.width) / 3.0
    tall, _, gap = ROWS[level]
    height = 60.0
    for k, column in enumerate(columns):
        top = TOP + (_ground_row(graph, columns) if k == 1 and level == 0 else 0.0) * (CARD.height() + GAP)
        for card in column:
            made.names[card] = _broken(graph[card], made) if level == 0 else [_elided(graph[card].name, made)]
            own = tall or CARD.height() + LINE * (len(made.names[card]) - 1)
            made.cards.append(Placed(card, k, QRectF(LEFT + k * made.step, top, made.width, own)))
            top += own + gap
        height = max(height, top + 8)
    made.size = QSize(least, math.ceil(height))
    return made


def _elided(name: str, made: Layout) -> str:
    metrics = QFontMetricsF(theme.font(made.text))
    return metrics.elidedText(name, Qt.TextElideMode.ElideMiddle, made.width - 64)


def _broken(node: Card, made: Layout) -> list[str]:
    """Return a card's name on one to three lines; what is too long for them is cut in the middle, where names differ least."""
    metrics = QFontMetricsF(theme.font(made.text, bold=True))
    room = made.width - 6 - made.picture.width() - 8 - 19 - (28 if node.role is not Role.DELIVERY else 8)
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


def _ground_row(graph: Graph, columns: Sequence[Sequence[str]]) -> float:
    """Return where the ground begins: beside the middle of its sources, yet never far down."""
    if not columns[1]:
        return 0.0
    rows = [columns[0].index(i) for i in graph[columns[1][0]].inputs if i in columns[0]]
    middle = sum(rows) / len(rows) if rows else 0.0
    return max(min(middle, 2.0) - (len(columns[1]) - 1) / 2.0, 0.0)
