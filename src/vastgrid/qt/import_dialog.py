"""Bringing a file in: what it holds, a picture of it, its options, and what will be left out, before anything is taken."""

from __future__ import annotations

from collections.abc import Callable
from html import escape
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QLabel,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import LENGTH_UNITS, Unit
from vastgrid.formats import text as text_format
from vastgrid.params import declare
from vastgrid.qt import rendering, theme
from vastgrid.qt.bridge import Bridge
from vastgrid.qt.forms import ParamForm
from vastgrid.qt.panel import label
from vastgrid.session.session import Session, Units
from vastgrid.session.steps import Source
from vastgrid.tasks.runner import Runner, Task

PREVIEW_LINES = 12


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


class ImportDialog(QDialog):
    """Shows one file as it would come in, and asks for what it does not say.

    Parameters
    ----------
    session : Session
        The job to bring it into.
    path : Path
        The file.
    remembered : dict
        Options used last for files of this format.
    """

    def __init__(self, parent: QWidget | None, session: Session, path: Path, remembered: dict[str, str]) -> None:
        super().__init__(parent)
        self.session, self.path = session, path
        self.source: Source | None = None
        self.words: dict[str, str] = {}
        self.setWindowTitle(f"Import {path.name}")
        self.resize(980, 640)
        self._closed = False
        self._bridge = Bridge(self)
        self._runner = Runner(lambda task: None)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(150)
        self._soon.timeout.connect(self._read)
        layout = QVBoxLayout(self)
        self.heading = label(f"<b>{escape(path.name)}</b>", wrap=False)
        layout.addWidget(self.heading)
        self.summary = label("Reading …", quiet=True)
        layout.addWidget(self.summary)
        middle = QHBoxLayout()
        layout.addLayout(middle, 1)
        left = QVBoxLayout()
        middle.addLayout(left, 3)
        self.table = RoleTable(self._roles_changed)
        self.table.setVisible(False)
        left.addWidget(self.table, 1)
        self.role_error = label("", name="error")
        left.addWidget(self.role_error)
        self.picture = QLabel()
        self.picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self.picture.setMinimumSize(380, 240)
        self.picture.setAccessibleName("Picture of the file's content")
        left.addWidget(self.picture, 1)
        right = QVBoxLayout()
        middle.addLayout(right, 2)
        right.addWidget(label("<b>Units</b>"))
        self.units = (self._unit_box("plan"), self._unit_box("height"))
        self.unit_notes = (label("", quiet=True), label("", quiet=True))
        for name, box, said in zip(("Plan", "Heights"), self.units, self.unit_notes, strict=True):
            row = QHBoxLayout()
            caption = label(name, wrap=False)
            caption.setBuddy(box)
            caption.setMinimumWidth(60)
            row.addWidget(caption)
            row.addWidget(box)
            row.addWidget(said, 1)
            right.addLayout(row)
        right.addWidget(label("<b>Options</b>"))
        self.form: ParamForm | None = None
        self._form_place = QVBoxLayout()
        right.addLayout(self._form_place)
        right.addStretch()
        self.findings = label("")
        right.addWidget(self.findings)
        self.error = label("", name="error")
        layout.addWidget(self.error)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.take = self.buttons.addButton("Import", QDialogButtonBox.ButtonRole.AcceptRole)
        assert self.take is not None
        self.take.setProperty("main", "true")
        self.take.setEnabled(False)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        layout.addWidget(self.buttons)
        self._start(remembered)

    def _unit_box(self, what: str) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(f"Unit of {what}")
        box.addItem("unknown", None)
        for unit in LENGTH_UNITS:
            box.addItem(unit.title, unit)
        box.currentIndexChanged.connect(lambda _: self._show_source())
        return box

    def _start(self, remembered: dict[str, str]) -> None:
        try:
            kind = catalog.recognise(self.path)
        except VastGridError as error:
            self._failed(str(error))
            return
        self.heading.setText(f"<b>{escape(self.path.name)}</b> · {kind.title}")
        self.is_text = kind is text_format.FORMAT
        if declare.fields(kind.read_params):
            # A remembered column order is only offered where the file has that many columns, which reading will show.
            words = {name: text for name, text in remembered.items() if name != "columns"}
            self.form = ParamForm(kind.read_params, words)
            self.form.changed.connect(self._soon.start)
            self._form_place.addWidget(self.form)
        self._read()

    def _read(self) -> None:
        words: dict[str, str] = {}
        if self.form is not None:
            try:
                words = declare.to_words(self.form.value())
            except CallError:
                self.take_button(enabled=False)
                return
        self._preview_text(words)
        self.summary.setText("Reading …")
        self._runner.cancel_all()

        def work(progress: Progress) -> tuple[Source, QImage | None]:
            source = self.session.read(self.path, words, (None, None), progress)
            box = rendering.bounds(source.datasets)
            picture = None
            if box is not None:
                view = rendering.fitted(box, 560, 300)
                picture = rendering.draw(source.datasets, view, theme.LIGHT)
            return source, picture

        self._runner.start(
            Task(
                title=f"reading {self.path.name}",
                work=work,
                done=lambda made: self._bridge.post(lambda: self._arrived(made[0], made[1], words)),
                failed=lambda why, _: self._bridge.post(lambda: self._failed(why)),
            )
        )

    def _preview_text(self, words: dict[str, str]) -> None:
        if not getattr(self, "is_text", False):
            return
        self.table.setVisible(True)
        params = declare.build(text_format.TextReadParams, words)
        try:
            data = text_format.load(self.path)
            layout = text_format.detect(self.path, data, params)
        except CallError:
            return
        except VastGridError as error:
            self._failed(str(error))
            return
        lines = [(k, line) for k, line in text_format.sample_lines(data, params.comment) if k >= layout.first]
        rows = [text_format.split_line(line, layout.delimiter) for _, line in lines[:PREVIEW_LINES]]
        if self.table.roles() != ",".join(layout.roles):
            self.table.fill(layout.roles, rows, layout.first)

    def _roles_changed(self) -> None:
        # A role used twice, or missing, is refused at once, under the columns.
        try:
            text_format.check_roles(text_format.parse_roles(self.table.roles()))
            self.role_error.setText("")
        except CallError as error:
            self.role_error.setText(str(error))
            self.take_button(enabled=False)
        if self.form is not None:
            own = self.form.editors["columns"]
            own.setText(self.table.roles())  # type: ignore[attr-defined]

    def _arrived(self, source: Source, picture: QImage | None, words: dict[str, str]) -> None:
        if self._closed:
            return
        self.source, self.words = source, words
        self.error.setText("")
        if picture is not None:
            self.picture.setPixmap(QPixmap.fromImage(picture))
        self._show_source()

    def _show_source(self) -> None:
        if self.source is None:
            return
        parts = []
        for each in self.source.datasets:
            counts = ", ".join(f"{value:,} {name}".replace(",", "\u202f") for name, value in each.count().items())
            extent = each.extent()
            ranges = [
                f"{n} {p[0]:.2f} … {p[1]:.2f}"
                for n, p in (("E", extent.east), ("N", extent.north), ("Z", extent.elevation))
                if p
            ]
            parts.append(f"<b>{escape(each.name)}</b>: {each.title}, {counts}<br>{'; '.join(ranges)}")
        self.summary.setText("<br>".join(parts))
        frames = [each.frame for each in self.source.datasets]
        unknown = False
        for k, (box, said) in enumerate(zip(self.units, self.unit_notes, strict=True)):
            known: Unit | None = next((u for f in frames if (u := (f.horizontal, f.vertical)[k])), None)
            box.setVisible(known is None)
            said.setText(f"{known.title}, says the file" if known else self._suggestion(k))
            unknown |= known is None and box.currentData() is None
        lines = []
        for finding in self.source.findings:
            lines.append(f"{finding.severity.value} · {escape(finding.text)}")
        left = "" if lines else "Nothing is left out: 0 dropped."
        if unknown:
            lines.append("A unit is unknown. Say it if you know it; otherwise the data stays without one.")
        self.findings.setText("<br>".join([*lines, left]))
        self.take_button(enabled=True)

    def _suggestion(self, which: int) -> str:
        own = self.session.units()[which]
        return f"the job's is {own.title}" if own else ""

    def _failed(self, why: str) -> None:
        if self._closed:
            return
        self.source = None
        self.summary.setText("")
        self.error.setText("" if self.role_error.text() else why)
        self.take_button(enabled=False)

    def take_button(self, *, enabled: bool) -> None:
        """Allow or refuse the import."""
        assert self.take is not None
        self.take.setEnabled(enabled)

    def chosen_units(self) -> Units:
        """Return the units said for what the file leaves unknown."""
        plan, height = (box.currentData() if box.isVisibleTo(self) else None for box in self.units)
        return plan, height

    def done(self, result: int) -> None:
        self._closed = True
        self._soon.stop()
        self._runner.cancel_all()
        super().done(result)
