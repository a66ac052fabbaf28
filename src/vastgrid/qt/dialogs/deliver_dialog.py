"""Sending terrain out: what the file will hold and lose, before it is written."""

from __future__ import annotations

from html import escape
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding
from vastgrid.base.quantities import LENGTH_UNITS, Unit
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.fileformat import Format
from vastgrid.params import declare
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label
from vastgrid.session.deliver import prepared
from vastgrid.session.executor import Units
from vastgrid.session.session import Session


class DeliverDialog(QDialog):
    """Asks what goes out, as what, and where; and shows what the file will hold."""

    def __init__(
        self, parent: QWidget | None, session: Session, chosen: list[str], folder: Path, operation: str
    ) -> None:
        super().__init__(parent)
        self.session = session
        self.setWindowTitle("Deliver")
        self.resize(760, 600)
        self.form: ParamForm | None = None
        layout = QHBoxLayout(self)
        left, right = QVBoxLayout(), QVBoxLayout()
        layout.addLayout(left, 2)
        layout.addLayout(right, 3)
        left.addWidget(label("<b>What goes out</b>"))
        self.list = QListWidget()
        self.list.setAccessibleName("What goes out")
        for node in session.graph.cards.values():
            if not node.digest:
                continue
            item = QListWidgetItem(f"{node.name}  ({node.figures.get('kind')})")
            item.setData(Qt.ItemDataRole.UserRole, node.id)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if node.id in chosen else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.itemChanged.connect(lambda _: self._changed())
        left.addWidget(self.list, 1)
        right.addWidget(label("<b>As</b>"))
        self.formats = QComboBox()
        self.formats.setAccessibleName("Format")
        for each in catalog.FORMATS:
            if each.write is not None:
                self.formats.addItem(each.title, each.id)
        self.formats.currentIndexChanged.connect(lambda _: self._format_changed())
        right.addWidget(self.formats)
        self._form_place = QVBoxLayout()
        right.addLayout(self._form_place)
        self.units = (self._unit_box("Unit of plan"), self._unit_box("Unit of heights"))
        row = QHBoxLayout()
        for name, box in zip(("Plan in", "heights in"), self.units, strict=True):
            row.addWidget(label(name, wrap=False))
            row.addWidget(box, 1)
        right.addLayout(row)
        right.addWidget(label("<b>To</b>"))
        row = QHBoxLayout()
        self.path = QLineEdit()
        self.path.setAccessibleName("File")
        self.path.textChanged.connect(lambda _: self._preview())
        row.addWidget(self.path, 1)
        choose = QPushButton("Choose …")
        choose.clicked.connect(self._choose)
        row.addWidget(choose)
        right.addLayout(row)
        right.addWidget(label("<b>The file will hold</b>"))
        self.preview = QLabel()
        self.preview.setWordWrap(True)
        self.preview.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        right.addWidget(self.preview)
        self.error = label("", name="error")
        right.addWidget(self.error)
        right.addStretch()
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.write = self.buttons.addButton("Write and read back", QDialogButtonBox.ButtonRole.AcceptRole)
        assert self.write is not None
        self.write.setProperty("main", "true")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        right.addWidget(self.buttons)
        self._folder = folder
        self._named = ""
        index = self.formats.findData(operation or self._suggested(chosen))
        self.formats.setCurrentIndex(max(index, 0))
        self._format_changed()

    def _suggested(self, chosen: list[str]) -> str:
        kinds = [type(d) for node in chosen if (d := self.session.dataset(node)) is not None]
        return catalog.usual_format(kinds).id

    def _unit_box(self, name: str) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.addItem("as it is", None)
        for unit in LENGTH_UNITS:
            box.addItem(unit.title, unit)
        box.currentIndexChanged.connect(lambda _: self._preview())
        return box

    # -- what was asked for

    @property
    def format(self) -> Format:
        """The chosen format."""
        return catalog.format_named(str(self.formats.currentData()))

    def nodes(self) -> list[str]:
        """Return the ids of what goes out."""
        items = [self.list.item(k) for k in range(self.list.count())]
        return [
            str(item.data(Qt.ItemDataRole.UserRole))
            for item in items
            if item is not None and item.checkState() is Qt.CheckState.Checked
        ]

    def chosen_units(self) -> Units:
        """Return the units to write in."""
        plan: Unit | None = self.units[0].currentData()
        height: Unit | None = self.units[1].currentData()
        return plan, height

    def words(self) -> dict[str, str]:
        """Return the writing options."""
        return declare.to_words(self.form.value()) if self.form is not None else {}

    def target(self) -> Path:
        """Return the file to write."""
        return Path(self.path.text()).expanduser()

    # -- following the choices

    def _format_changed(self) -> None:
        if self.form is not None:
            self._form_place.removeWidget(self.form)
            self.form.deleteLater()
            self.form = None
        if declare.fields(self.format.write_params):
            self.form = ParamForm(self.format.write_params)
            self.form.changed.connect(self._preview)
            self._form_place.addWidget(self.form)
        self._changed()

    def _changed(self) -> None:
        if self.path.text() in ("", self._named):
            nodes = self.nodes()
            stem = self.session.graph[nodes[0]].name if nodes else "terrain"
            name = "".join(c if c.isalnum() or c in "-_ " else "-" for c in stem).strip().lower().replace(" ", "-")
            self._named = str(self._folder / (name + self.format.suffixes[0]))
            self.path.setText(self._named)
        self._preview()

    def _preview(self) -> None:
        assert self.write is not None
        findings: list[Finding] = []
        try:
            datasets = [d.renamed(self.session.graph[n].name) for n in self.nodes() if (d := self.session.dataset(n))]
            params = declare.build(self.format.write_params, self.words())
            held = prepared(datasets, self.format, params, self.chosen_units(), findings)
            if not self.target().parent.is_dir():
                raise CallError(f"there is no folder {self.target().parent}")
        except CallError as error:
            self.preview.setText("")
            self.error.setText(str(error))
            self.write.setEnabled(False)
            return
        self.error.setText("")
        self.write.setEnabled(True)
        lines = [f"<b>{escape(each.name)}</b>: {_counts(each)}<br>{escape(each.frame.describe())}" for each in held]
        # A header, and what each takes.
        size = 1500.0 + sum(self.format.weigh(each) for each in held)
        lines.append(f"about {size / 1e6:.1f} MB" if size > 1e5 else f"about {max(size / 1e3, 0.1):.1f} kB")
        if self.target().exists():
            lines.append("The file exists and will be replaced once the new one is whole.")
        lines += [f"{finding.severity.value} · {escape(finding.text)}" for finding in findings]
        self.preview.setText("<br>".join(lines))

    def _choose(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Deliver to", self.path.text(), f"{self.format.title} (*{' *'.join(self.format.suffixes)})"
        )
        if name:
            self.path.setText(name)


def _counts(dataset: Dataset) -> str:
    return f"{dataset.title}, " + ", ".join(f"{spaced(value)} {name}" for name, value in dataset.count().items())
