"""Finds any action, dataset or step by typing; understands a plain sentence such as “contours 0.5 from existing ground”."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QLineEdit, QListWidget, QListWidgetItem, QWidget

from vastgrid import catalog
from vastgrid.base.quantities import Length
from vastgrid.job.lineage import Role
from vastgrid.params import declare
from vastgrid.session.session import Session


@dataclass(frozen=True)
class Hit:
    """One thing that was found: its text, and what choosing it does."""

    text: str
    run: Callable[[], None]


@dataclass(frozen=True)
class Wish:
    """A conversion asked for in words."""

    conversion: str
    words: dict[str, str]
    inputs: tuple[str, ...]


def understood(text: str, session: Session, chosen: list[str]) -> Wish | None:
    """Read a sentence such as “contours 0.5 m index 5 from existing ground”; None where it is none."""
    sentence = re.fullmatch(r"\s*(?P<what>.+?)(?:\s+(?:from|of)\s+(?P<source>.+))?\s*", text, re.IGNORECASE)
    if sentence is None:
        return None
    parts = sentence["what"].split()
    head = parts[0].lower().rstrip("s")
    found = [
        each
        for each in catalog.CONVERSIONS
        if head and (each.id.rstrip("s") == head or each.title.lower().rstrip("s") == head)
    ]
    if not found:
        return None
    conversion = found[0]
    words = _words(conversion.params, parts[1:])
    inputs = _named(session, sentence["source"], conversion.takes) if sentence["source"] else tuple(chosen)
    if words is None or not inputs:
        return None
    return Wish(conversion.id, words, inputs)


def _words(params: type, parts: list[str]) -> dict[str, str] | None:
    fields = declare.fields(params)
    joined = " ".join(parts)
    joined = re.sub(r"(\d)\s+(m|mm|ft|us-ft|in)\b", r"\1\2", joined)
    words: dict[str, str] = {}
    rest = joined.split()
    while rest:
        part = rest.pop(0)
        name = part.lower().replace("-", "_")
        if part.lower() in ("every", "at", "with"):
            continue
        if any(field.name == name for field in fields) and rest:
            words[name] = rest.pop(0)
        elif re.match(r"[\d.]", part):
            free = next((f for f in fields if f.kind is Length and f.name not in words), None)
            if free is None:
                return None
            words[free.name] = part
        else:
            return None
    return words


def _named(session: Session, text: str, takes: tuple[type, ...]) -> tuple[str, ...]:
    wanted = [word.strip().lower() for word in re.split(r",|\band\b", text) if word.strip()]
    found = []
    for word in wanted:
        able = [
            node
            for node in session.graph.cards.values()
            if node.role is not Role.DELIVERY and word in node.name.lower()
        ]
        able.sort(key=lambda node: (node.name.lower() != word, not isinstance(session.dataset(node.id), takes)))
        if able:
            found.append(able[0].id)
    return tuple(found)


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
        self.setPlaceholderText("Find an action, or write a sentence (Ctrl+K)")
        self.setAccessibleName("Find an action, or write a sentence")
        self.setMinimumWidth(300)
        self._search = search
        self.hits: list[Hit] = []
        self.list: QListWidget | None = None
        self.textEdited.connect(lambda _: self._find())

    def _find(self) -> None:
        self.hits = self._search(self.text())[:12] if self.text().strip() else []
        if self.list is None:
            window = self.window()
            self.list = QListWidget(window if isinstance(window, QWidget) else self)
            self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.list.itemClicked.connect(lambda item: self._run(self.list.row(item) if self.list else 0))
        self.list.clear()
        for hit in self.hits:
            self.list.addItem(QListWidgetItem(hit.text))
        if not self.hits:
            self.list.hide()
            return
        self.list.setCurrentRow(0)
        window = self.window()
        assert window is not None
        place = self.mapTo(window, QPoint(0, self.height() + 3))
        self.list.setGeometry(place.x(), place.y(), max(self.width(), 420), 30 * len(self.hits) + 8)
        self.list.raise_()
        self.list.show()

    def _run(self, row: int) -> None:
        hit = self.hits[row] if 0 <= row < len(self.hits) else None
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
