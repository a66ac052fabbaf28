"""One sheet for choosing from many: a field to type into, groups of entries, each with a glyph and one quiet line."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QModelIndex, QObject, QPoint, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QKeyEvent, QPainter
from PyQt6.QtWidgets import (
    QFrame,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid.base.ranking import found
from vastgrid.qt.widgets import glyphs, theme
from vastgrid.qt.widgets.labels import label

# The part of the window that a sheet covers at most, across and down: together less than 60 %.
_WIDE, _TALL = 0.66, 0.86
_MOST_WIDE = 760
_ROLE = int(Qt.ItemDataRole.UserRole)


@dataclass(frozen=True)
class Choice:
    """Something that can be chosen.

    Attributes
    ----------
    group : str
        The heading under which it stands.
    title : str
        What it is called.
    quiet : str
        What it will be, what else it needs, or why it cannot be chosen.
    glyph : str
        Name of the glyph before it; empty for none.
    run : callable or None
        What choosing it does; None where it cannot be chosen.
    also : tuple of str
        Other words it goes by.
    tell : callable or None
        Works out the quiet line, where that takes time: it is called off the interface thread.
    """

    group: str
    title: str
    quiet: str
    glyph: str
    run: Callable[[], object] | None
    also: tuple[str, ...] = ()
    tell: Callable[[], str] | None = None

    @property
    def names(self) -> tuple[str, ...]:
        """The words it goes by."""
        return (self.title, *self.also)


class _Rows(QStyledItemDelegate):
    """Draws an entry on one line: glyph, title, and the quiet line to the right of it."""

    def __init__(self, palette: theme.Palette, view: QListWidget) -> None:
        super().__init__(view)
        self.palette_ = palette
        self.titles = 0.0
        # Quiet lines that were worked out since.
        self.told: dict[str, str] = {}

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        tall = QFontMetricsF(theme.font(10)).height()
        return QSize(100, round(tall * (1.35 if isinstance(index.data(_ROLE), str) else 1.6)))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        p, own, place = self.palette_, index.data(_ROLE), QRectF(option.rect)
        painter.save()
        if isinstance(own, str):
            painter.setFont(theme.font(8.5, bold=True))
            painter.setPen(QColor(p.quiet))
            painter.drawText(place.adjusted(10, 0, -6, -1), 0x41, own)
            painter.restore()
            return
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(place, QColor(p.chip))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        grey = own.run is None
        if own.glyph:
            glyphs.paint(
                painter,
                own.glyph,
                p.quiet if grey else p.action,
                QRectF(place.left() + 10, place.center().y() - 8, 16, 16),
            )
        painter.setFont(theme.font(10))
        painter.setPen(QColor(p.quiet if grey else p.ink))
        left = place.left() + 36
        metrics = QFontMetricsF(painter.font())
        title = metrics.elidedText(own.title, Qt.TextElideMode.ElideRight, self.titles)
        painter.drawText(QRectF(left, place.top(), self.titles, place.height()), 0x81, title)
        painter.setFont(theme.font(9))
        painter.setPen(QColor(p.quiet))
        rest = QRectF(left + self.titles + 14, place.top(), 0, place.height())
        rest.setRight(place.right() - 8)
        quiet = QFontMetricsF(painter.font()).elidedText(
            self.told.get(own.title, own.quiet), Qt.TextElideMode.ElideRight, rest.width()
        )
        painter.drawText(rest, 0x81, quiet)
        painter.restore()


class Chooser(QFrame):
    """The sheet. Arrow keys, Enter and Esc work while one types; a click chooses too.

    Parameters
    ----------
    window : QWidget
        Over which it opens.
    title : str
        What is chosen, and from what.
    choices : sequence of Choice
        In the order in which they are offered; those of one group stand together.
    """

    def __init__(self, window: QWidget, palette: theme.Palette, title: str, choices: Sequence[Choice]) -> None:
        super().__init__(window, Qt.WindowType.Popup)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.setObjectName("box")
        self.setAccessibleName(title)
        self.choices = tuple(choices)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 12, 12)
        head = label(title, name="heading")
        layout.addWidget(head)
        self.field = QLineEdit()
        self.field.setPlaceholderText("Type the first letters, or what you call it")
        self.field.setAccessibleName(f"Search: {title}")
        self.field.textEdited.connect(lambda _: self._fill())
        self.field.installEventFilter(self)
        layout.addWidget(self.field)
        self.list = QListWidget()
        self.list.setAccessibleName(title)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setVerticalScrollMode(QListWidget.ScrollMode.ScrollPerPixel)
        self.list.setMouseTracking(True)
        self.list.itemClicked.connect(self._run)
        self.list.itemActivated.connect(self._run)
        self._rows = _Rows(palette, self.list)
        self.list.setItemDelegate(self._rows)
        layout.addWidget(self.list, 1)
        self._place(window)
        self._fill()

    def _place(self, window: QWidget) -> None:
        wide = min(round(window.width() * _WIDE), _MOST_WIDE)
        self.setFixedWidth(wide)
        metrics = QFontMetricsF(theme.font(10))
        longest = max((metrics.horizontalAdvance(each.title) for each in self.choices), default=0.0)
        self._rows.titles = min(longest + 4, wide * 0.46)
        heads = len({each.group for each in self.choices})
        rows = len(self.choices) * round(metrics.height() * 1.6) + heads * round(metrics.height() * 1.35)
        self.setFixedHeight(min(rows + 120, round(window.height() * _TALL)))
        corner = window.mapToGlobal(QPoint((window.width() - wide) // 2, round(window.height() * 0.07)))
        self.move(corner)

    def _fill(self) -> None:
        text = self.field.text().strip()
        if text:
            able = [*self.choices]
            shown = found(text, able, lambda each: each.names, lambda each: 0 if each.run is not None else 1)
            # What stands in two groups is listed once.
            single = list({each.title: each for each in reversed(shown)}.values())[::-1]
            shown = sorted(single, key=lambda each: each.run is None)
        else:
            shown = list(self.choices)
        self.list.clear()
        group = ""
        for each in shown:
            if not text and each.group != group:
                group = each.group
                head = QListWidgetItem(group)
                head.setData(_ROLE, group)
                head.setFlags(Qt.ItemFlag.NoItemFlags)
                self.list.addItem(head)
            item = QListWidgetItem(each.title)
            item.setData(_ROLE, each)
            self._describe(item, each)
            self.list.addItem(item)
        if not shown:
            nothing = QListWidgetItem("")
            nothing.setData(_ROLE, "Nothing here goes by that word")
            nothing.setFlags(Qt.ItemFlag.NoItemFlags)
            self.list.addItem(nothing)
        self._step(0, 1)

    def tell(self, title: str, quiet: str) -> None:
        """Say the quiet line of an entry, worked out since the sheet was opened."""
        self._rows.told[title] = quiet
        for row in range(self.list.count()):
            item = self.list.item(row)
            own = item.data(_ROLE) if item is not None else None
            if item is not None and isinstance(own, Choice) and own.title == title:
                self._describe(item, own)
        self.list.viewport().update()  # type: ignore[union-attr]

    def _describe(self, item: QListWidgetItem, own: Choice) -> None:
        quiet = self._rows.told.get(own.title, own.quiet)
        item.setToolTip(f"{own.title}: {quiet}" if quiet else own.title)
        item.setData(int(Qt.ItemDataRole.AccessibleTextRole), f"{own.title}, {quiet}")

    def quiet_of(self, title: str) -> str:
        """Return the quiet line of an entry."""
        own = next(each for each in self.choices if each.title == title)
        return self._rows.told.get(title, own.quiet)

    def _step(self, start: int, by: int) -> None:
        """Choose the next row from a place that is no heading."""
        row = start
        while 0 <= row < self.list.count():
            item = self.list.item(row)
            if item is not None and isinstance(item.data(_ROLE), Choice):
                self.list.setCurrentRow(row)
                above = self.list.item(row - 1)
                if above is not None and isinstance(above.data(_ROLE), str):
                    self.list.scrollToItem(above)
                self.list.scrollToItem(item)
                return
            row += by

    def _run(self, item: QListWidgetItem | None) -> None:
        own = item.data(_ROLE) if item is not None else None
        if isinstance(own, Choice) and own.run is not None:
            self.close()
            own.run()

    def titles(self) -> dict[str, Choice]:
        """Return what is listed now, by title."""
        items = (self.list.item(row) for row in range(self.list.count()))
        found_ = [own for item in items if item is not None and isinstance(own := item.data(_ROLE), Choice)]
        return {each.title: each for each in found_}

    def begin(self) -> None:
        """Show the sheet, ready to be typed into."""
        self.show()
        self.field.setFocus()

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() is QEvent.Type.KeyPress:
            row, key = self.list.currentRow(), event.key()
            page = max(self.list.height() // 30, 1)
            steps = {
                Qt.Key.Key_Down: (row + 1, 1),
                Qt.Key.Key_Up: (row - 1, -1),
                Qt.Key.Key_PageDown: (min(row + page, self.list.count() - 1), -1),
                Qt.Key.Key_PageUp: (max(row - page, 0), 1),
            }
            if key in steps:
                self._step(*steps[Qt.Key(key)])
                return True
            if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._run(self.list.currentItem())
                return True
        return super().eventFilter(watched, event)
