"""What is in a file on disk, as a tree: read anew, whatever was sent or taken of it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from vastgrid import catalog
from vastgrid.base.errors import VastGridError
from vastgrid.base.progress import Progress
from vastgrid.base.words import size_words
from vastgrid.execution.outline import Item, outline
from vastgrid.execution.steps import read_file
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.widgets.labels import label
from vastgrid.tasks.runner import Runner

# More branches of one kind are seen in the file itself.
_MOST = 400


def fill(tree: QTreeWidget, items: tuple[Item, ...], *, open_first: bool = True) -> None:
    """Show items in a tree of two columns."""
    tree.clear()

    def add(parent: QTreeWidget | QTreeWidgetItem, item: Item) -> QTreeWidgetItem:
        row = QTreeWidgetItem(parent, [item.name, item.words()])
        for inner in item.items[:_MOST]:
            add(row, inner)
        return row

    for item in items:
        add(tree, item).setExpanded(open_first and len(items) < 4)
    tree.resizeColumnToContents(0)


class TreeDialog(QDialog):
    """Shows the tree of one file."""

    def __init__(self, parent: QWidget | None, desk: Desk, path: Path) -> None:
        super().__init__(parent)
        self.setProperty("manual", "checking")
        self.desk, self.path = desk, path
        self.setWindowTitle(f"In {path.name}")
        self.resize(560, 520)
        layout = QVBoxLayout(self)
        self.about = label(f"reading {path.name} …", quiet=True)
        layout.addWidget(self.about)
        self.tree = QTreeWidget()
        self.tree.setColumnCount(2)
        self.tree.setHeaderHidden(True)
        self.tree.setAccessibleName("Tree of the file's content")
        layout.addWidget(self.tree, 1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)
        self.runner = Runner(lambda task: None)
        self.finished.connect(lambda _: self.runner.cancel_all())
        self.desk.start_behind(
            self.runner, f"reading {path.name}", self._read, self._show, self.about.setText, owner=self
        )

    def _read(self, progress: Progress) -> tuple[str, tuple[Item, ...]]:
        """Read the file; what cannot be read is said instead."""
        try:
            if not self.path.exists():
                return f"{self.path} is gone.", ()
            size = self.path.stat().st_size
            if not any(each.read and each.sniff(self._head(), self.path) for each in catalog.FORMATS):
                return f"{self.path.name} is looked at, not read: {size_words(size)}.", ()
            source = read_file(self.path, {}, progress)
        except (VastGridError, OSError) as error:
            return str(error), ()
        return f"{source.format.title}, {size_words(size)}", outline(source.datasets)

    def _head(self) -> bytes:
        with self.path.open("rb") as file:
            return file.read(65536)

    def _show(self, found: tuple[str, tuple[Item, ...]]) -> None:
        self.about.setText(found[0])
        fill(self.tree, found[1])
