"""What a file will hold, before it is written: a picture, a tree whose branches can be drawn alone, and what is said of it."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QFrame, QLabel, QScrollArea, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from vastgrid.base.progress import Progress
from vastgrid.base.words import size_words, spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_of
from vastgrid.execution.delivery_preview import Held
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.tree_dialog import fill
from vastgrid.qt.drawing import rendering
from vastgrid.qt.drawing.picture import Picture
from vastgrid.qt.drawing.view import View, bounds, fitted
from vastgrid.qt.widgets import theme
from vastgrid.styling.colouring import plain
from vastgrid.tasks.runner import Runner

_WIDE, _TALL = 370, 215
_NOWHERE = View(0.0, 0.0, 1.0, 1, 1)


class HeldView(QWidget):
    """Shows what one file will hold.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    runner : Runner
        Draws behind the window.
    """

    def __init__(self, desk: Desk, runner: Runner) -> None:
        super().__init__()
        self.desk, self.runner = desk, runner
        self.held: Held | None = None
        self._wish = 0
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        self.picture = Picture()
        self.picture.setMinimumSize(_WIDE, _TALL)
        self.picture.setMaximumHeight(_TALL)
        layout.addWidget(self.picture)
        self.tree = QTreeWidget()
        self.tree.setAccessibleName("Tree of the file's content")
        self.tree.setColumnCount(2)
        self.tree.setHeaderHidden(True)
        self.tree.currentItemChanged.connect(lambda item, _: self._branch_chosen(item))
        layout.addWidget(self.tree, 1)
        self.words = QLabel()
        self.words.setWordWrap(True)
        self.words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.words.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        layout.addWidget(scrolling(self.words), 1)

    def clear(self, why: str = "") -> None:
        """Show nothing, or why there is nothing yet."""
        self.held = None
        self.words.setText(why)
        self.tree.clear()
        self._draw([])

    def show_held(self, held: Held) -> None:
        """Show a file's tree and picture."""
        self.held = held
        self.tree.blockSignals(True)
        fill(self.tree, held.items)
        self.tree.blockSignals(False)
        self._draw(held.datasets)

    def say(self, size: float, more: Sequence[str]) -> None:
        """Say what is in it, its size in bytes, where it lies, and more lines of rich text."""
        own = self.held
        if own is None:
            return
        lines = [
            f"<b>{escape(each.name)}</b>: {_counts(each)}<br>{escape(each.frame.describe())}" for each in own.datasets
        ]
        lines.append(f"about {size_words(max(size, 100.0))}")
        extent = [each.extent() for each in own.datasets]
        east = [pair for each in extent if (pair := each.east)]
        north = [pair for each in extent if (pair := each.north)]
        if east and north:
            lines.append(
                f"E {min(p[0] for p in east):.2f} … {max(p[1] for p in east):.2f}, "
                f"N {min(p[0] for p in north):.2f} … {max(p[1] for p in north):.2f}"
            )
        lines += more
        lines += [f"{finding.severity.value} · {escape(finding.text)}" for finding in own.findings]
        self.words.setText("<br>".join(lines))

    def _branch_chosen(self, item: QTreeWidgetItem | None) -> None:
        """Draw only the branch that was chosen."""
        if self.held is None or item is None:
            return
        top = item
        while (above := top.parent()) is not None:
            top = above
        index = self.tree.indexOfTopLevelItem(top)
        if 0 <= index < len(self.held.datasets):
            self._draw([self.held.datasets[index]])

    def _draw(self, datasets: Sequence[Dataset]) -> None:
        self._wish += 1
        wish = self._wish
        able = sorted((each for each in datasets if kind_of(each).drawn), key=lambda each: kind_of(each).rank)
        box = bounds(able) if able else None
        if box is None:
            self.picture.show_image(None, _NOWHERE)
            return
        view = fitted(box, _WIDE, _TALL)
        palette = theme.DARK if self.desk.session.settings.get("theme") == "dark" else theme.LIGHT
        items = tuple(plain(each) for each in able)

        def work(progress: Progress) -> QImage:
            return rendering.draw(items, view, palette, wires=False)

        def done(image: QImage) -> None:
            if wish == self._wish:
                self.picture.show_image(image, view)

        self.desk.start_behind(self.runner, "a picture of the file", work, done, owner=self)


def scrolling(body: QWidget) -> QScrollArea:
    """Return a part that scrolls up and down on the window's own paper."""
    scroll = QScrollArea()
    scroll.setWidget(body)
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QFrame.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    for part in (scroll.viewport(), body):
        if part is not None:
            part.setAutoFillBackground(False)
            part.setObjectName("clear")
    scroll.setStyleSheet("QScrollArea, QWidget#clear { background: transparent; }")
    return scroll


def _counts(dataset: Dataset) -> str:
    return f"{dataset.title}, " + ", ".join(f"{spaced(value)} {name}" for name, value in dataset.count().items())
