"""A table whole, to be read, copied or saved."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid.data.table import Table
from vastgrid.qt.widgets.labels import label

# Longer tables are shown by their beginning; saved, they are whole.
MOST = 5000


class TableDialog(QDialog):
    """Shows a table.

    Signals
    -------
    saved : path, text
        It is to be written to a file.
    """

    saved = pyqtSignal(str, str)

    def __init__(self, parent: QWidget, table: Table) -> None:
        super().__init__(parent)
        self.data = table
        self.setWindowTitle(table.name)
        self.resize(760, 420)
        layout = QVBoxLayout(self)
        texts = table.texts()
        shown = texts[:MOST]
        if len(shown) < len(texts):
            layout.addWidget(label(f"The first {MOST} of {len(texts)} rows; saved, the table is whole.", quiet=True))
        units = table.units or ("",) * len(table.columns)
        self.table = QTableWidget(len(shown), len(table.columns))
        self.table.setAccessibleName(table.name)
        self.table.setHorizontalHeaderLabels(
            [f"{name}\n{unit}" if unit else f"{name}\n" for name, unit in zip(table.columns, units, strict=True)]
        )
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        for row, own in enumerate(shown):
            for column, text in enumerate(own):
                item = QTableWidgetItem(text)
                if list(table.columns.values())[column].dtype.kind != "S":
                    item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
                self.table.setItem(row, column, item)
        vertical, horizontal = self.table.verticalHeader(), self.table.horizontalHeader()
        if vertical is not None and horizontal is not None:
            vertical.hide()
            horizontal.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
        layout.addWidget(self.table, 1)
        # As wide as its columns, as far as there is room.
        whole = sum(self.table.columnWidth(k) for k in range(len(table.columns))) + 60
        self.resize(min(max(760, whole), max(760, int(0.9 * parent.window().width()))), 420)  # type: ignore[union-attr]
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        for text, run in (("Copy", self.copy), ("Save as CSV …", self.ask_save)):
            button = buttons.addButton(text, QDialogButtonBox.ButtonRole.ActionRole)
            assert button is not None
            button.clicked.connect(run)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)

    def copy(self) -> None:
        """Put it on the clipboard, columns parted by tabs, numbers in full."""
        board = QGuiApplication.clipboard()
        if board is not None:
            rows = zip(*(values.tolist() for values in self.data.columns.values()), strict=True)
            lines = ["\t".join(self.data.columns)]
            lines += ["\t".join(v.decode() if isinstance(v, bytes) else repr(v) for v in row) for row in rows]
            board.setText("\n".join(lines) + "\n")

    def ask_save(self) -> None:
        """Ask for a file and save it."""
        name, _ = QFileDialog.getSaveFileName(self, "Save the table", f"{self.data.name}.csv", "Table (*.csv)")
        if name:
            self.saved.emit(name, self.data.as_csv())
