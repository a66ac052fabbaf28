"""The text file's part of the import window: its first lines under a role for each column, and named layouts."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtWidgets import (
    QComboBox,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid.base.errors import CallError, VastGridError
from vastgrid.formats import text as text_format
from vastgrid.params import declare
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.kept_box import KeptBox
from vastgrid.qt.widgets.labels import label

PREVIEW_LINES = 12
# As much as detection looks at; a file of gigabytes must not be read for its first lines.
BEGINNING = 1 << 18
# What a layout keeps: how lines are understood, not which of them.
KEPT = ("columns", "delimiter", "decimal", "start", "comment", "widths", "form")


class RoleTable(QTableWidget):
    """The first lines of a text file, with a role to choose above each column."""

    def __init__(self, changed: Callable[[], None]) -> None:
        super().__init__()
        self.setAccessibleName("First lines of the file, with the role of each column")
        self.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self._changed = changed
        self.boxes: list[QComboBox] = []

    def fill(self, roles: tuple[str, ...], rows: list[list[str]], first: int) -> None:
        """Show lines and roles."""
        width = max(len(roles), 1)
        self.boxes = []
        self.clear()
        self.setColumnCount(width)
        self.setRowCount(len(rows) + 1)
        self.setHorizontalHeaderLabels([f"column {k + 1}" for k in range(width)])
        self.setVerticalHeaderLabels(["role", *(str(first + k + 1) for k in range(len(rows)))])
        for k, role in enumerate(roles):
            box = QComboBox()
            box.addItems([*text_format.ROLES, *([role] if role not in text_format.ROLES else [])])
            box.setCurrentText(role)
            box.setAccessibleName(f"Role of column {k + 1}")
            box.currentTextChanged.connect(lambda _: self._changed())
            self.setCellWidget(0, k, box)
            self.boxes.append(box)
        for r, cells in enumerate(rows):
            for c, cell in enumerate(cells[:width]):
                item = QTableWidgetItem(cell)
                item.setFont(theme.font(9, mono=True))
                self.setItem(r + 1, c, item)
        for k in range(width):
            self.setColumnWidth(k, 132)
        self.setRowHeight(0, 34)

    def roles(self) -> str:
        """Return the chosen roles as the reader's option."""
        return ",".join(box.currentText() for box in self.boxes)


class TextPart(QWidget):
    """First lines, roles and layouts.

    Parameters
    ----------
    layouts : dict
        The job's named layouts: name → options as words; changed when one is kept.
    changed : callable
        Called with options that were chosen here.
    refused : callable
        Called with what is wrong with the roles, or nothing.
    """

    def __init__(
        self,
        layouts: dict[str, dict[str, str]],
        changed: Callable[[dict[str, str]], None],
        refused: Callable[[str], None],
    ) -> None:
        super().__init__()
        self.layouts, self._changed, self._refused = layouts, changed, refused
        self.words: dict[str, str] = {}
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self.kept = KeptBox("Layout", "as detected", self._use, self.keep_as)
        outer.addWidget(self.kept)
        self.table = RoleTable(self._roles)
        outer.addWidget(self.table, 1)
        self.error = label("", name="error")
        outer.addWidget(self.error)
        self.kept.fill(layouts)

    def show_file(self, path: Path, words: dict[str, str]) -> None:
        """Show a file's first lines as these options understand them.

        Raises
        ------
        VastGridError
            If they cannot be understood at all.
        """
        self.words = words
        params = declare.build(text_format.TextReadParams, words)
        data, _ = text_format.prepared(path, params, BEGINNING)
        try:
            layout = text_format.detect(path, data, params)
        except CallError:
            return
        lines = [(k, line) for k, line in text_format.sample_lines(data, params.comment) if k >= layout.first]
        rows = [text_format.split_line(line, layout.delimiter) for _, line in lines[:PREVIEW_LINES]]
        if self.table.roles() != ",".join(layout.roles):
            self.table.fill(layout.roles, rows, layout.first)
        self.error.setText("")
        own = {key: words[key] for key in KEPT if words.get(key) and key in words}
        name = next((n for n, kept in self.layouts.items() if own and kept.items() <= own.items()), "")
        self.kept.show_name(name)

    def _roles(self) -> None:
        # A role used twice, or missing, is refused at once, under the columns.
        try:
            text_format.check_roles(text_format.parse_roles(self.table.roles()))
            self.error.setText("")
            self._refused("")
        except CallError as error:
            self.error.setText(str(error))
            self._refused(str(error))
        self._changed({"columns": self.table.roles()})

    def _use(self, name: str) -> None:
        plain = declare.to_words(text_format.TextReadParams())
        self._changed({**{key: plain[key] for key in KEPT}, **self.layouts.get(name, {})})

    def keep_as(self, name: str) -> None:
        """Keep how this file's lines are understood under a name."""
        plain = declare.to_words(text_format.TextReadParams())
        own = {key: self.words.get(key, plain[key]) for key in KEPT if self.words.get(key, plain[key]) != plain[key]}
        own["columns"] = self.table.roles()
        self.layouts[name] = own
        self.kept.fill(self.layouts, name)


def fitting(path: Path, layouts: dict[str, dict[str, str]]) -> dict[str, str] | None:
    """Return the options of the first kept layout that fits a file: as many columns, and points where it says so."""
    for own in layouts.values():
        try:
            params = declare.build(text_format.TextReadParams, own)
            data, _ = text_format.prepared(path, params, BEGINNING)
            layout = text_format.detect(path, data, params)
        except VastGridError:
            continue
        lines = [line for k, line in text_format.sample_lines(data, params.comment) if k >= layout.first][:50]
        cells = [text_format.split_line(line, layout.delimiter) for line in lines]
        wanted = len(layout.roles)
        numeric = [k for k, role in enumerate(layout.roles) if role in text_format.COORDINATES]
        good = sum(len(row) == wanted and all(_is_number(row[k], comma=layout.comma) for k in numeric) for row in cells)
        if cells and good >= 0.9 * len(cells):
            return own
    return None


def _is_number(cell: str, *, comma: bool) -> bool:
    try:
        float(cell.replace(",", ".") if comma else cell)
    except ValueError:
        return text_format.parse_angle(cell) == text_format.parse_angle(cell)
    return True
