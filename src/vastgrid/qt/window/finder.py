"""Finds any action, dataset or step by typing; understands a plain sentence such as “contours 0.5 from existing ground”."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QWidget


@dataclass(frozen=True)
class Hit:
    """One thing that was found: its text, and what choosing it does: something, or going on with words in the field."""

    text: str
    run: Callable[[], None]
    words: str = ""


class Finder(QLineEdit):
    """The field in the header; its hits drop down below it.

    Parameters
    ----------
    search : callable
        Text → hits, best first.
    """

    def __init__(self, search: Callable[[str], list[Hit]]) -> None:
        super().__init__()
        self.setObjectName("finder")
        self.setPlaceholderText("Find anything (Ctrl+K)")
        self.setToolTip("Find anything (Ctrl+K): an action, a card, a page of the manual; or write a sentence")
        self.setAccessibleName("Find an action, or write a sentence")
        self.setMinimumWidth(260)
        self._search = search
        self.hits: list[Hit] = []
        self.list: QListWidget | None = None
        self.textEdited.connect(lambda _: self._find())

    def _find(self) -> None:
        self.hits = self._search(self.text())[:12] if self.text().strip() else []
        if self.list is None:
            window = self.window()
            self.list = QListWidget(window if isinstance(window, QWidget) else self)
            self.list.setAccessibleName("What is found")
            # It floats above the page, and the arrow keys in the field lead it.
            self.list.setProperty("floats", True)
            self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
            self.list.itemClicked.connect(lambda item: self._run(self.list.row(item) if self.list else 0))
        self.list.clear()
        for hit in self.hits:
            item = QListWidgetItem(hit.text)
            item.setToolTip(hit.text)
            self.list.addItem(item)
        if not self.hits:
            self.list.hide()
            return
        self.list.setCurrentRow(0)
        window = self.window()
        assert window is not None
        place = self.mapTo(window, QPoint(0, self.height() + 3))
        wide = max(self.width(), 560)
        tall = sum(self.list.sizeHintForRow(row) for row in range(len(self.hits))) + 2 * self.list.frameWidth() + 4
        self.list.setGeometry(max(min(place.x(), window.width() - wide - 8), 8), place.y(), wide, tall)
        self.list.raise_()
        self.list.show()

    def _run(self, row: int) -> None:
        hit = self.hits[row] if 0 <= row < len(self.hits) else None
        if hit is not None and hit.words:
            self.setText(hit.words)
            self._find()
            return
        self.leave()
        if hit is not None:
            hit.run()

    def begin(self) -> None:
        """Take the keys, ready to be typed into."""
        self.setFocus()
        self.selectAll()

    def leave(self) -> None:
        """Put the hits away."""
        if self.list is not None:
            self.list.hide()
        self.clear()
        self.clearFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        row = self.list.currentRow() if self.list is not None else -1
        if event.key() == Qt.Key.Key_Escape:
            self.leave()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._run(max(row, 0))
        elif event.key() == Qt.Key.Key_Down and self.list is not None:
            self.list.setCurrentRow(min(row + 1, len(self.hits) - 1))
        elif event.key() == Qt.Key.Key_Up and self.list is not None:
            self.list.setCurrentRow(max(row - 1, 0))
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: object) -> None:
        if self.list is not None:
            self.list.hide()
        super().focusOutEvent(event)  # type: ignore[arg-type]
