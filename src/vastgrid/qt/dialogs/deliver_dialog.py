"""Sending terrain out, written like a letter: to whom, what is enclosed, in which units, where to; with what each file will hold."""

from __future__ import annotations

import dataclasses
import re
from dataclasses import dataclass
from html import escape
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QInputDialog,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import LENGTH_UNITS, Unit, unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_named
from vastgrid.declarations.fileformat import Format
from vastgrid.delivery.sets import DeliverySet, Enclosure, belonging, grounds, known_sets, safe_name, save_set
from vastgrid.execution.delivery_preview import Held, held, measured_size
from vastgrid.execution.executor import Units
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.held_view import HeldView, scrolling
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label
from vastgrid.tasks.runner import Runner

# So much is looked through while one types; more is done behind.
_AT_ONCE = 150_000


@dataclass(slots=True)
class File:
    """One file of a delivery, and the name it has."""

    enclosure: Enclosure
    name: str = ""

    @property
    def format(self) -> Format:
        """Its format."""
        return catalog.format_named(self.enclosure.format)

    def change(self, **values: Any) -> None:
        """Change what is asked of it."""
        self.enclosure = dataclasses.replace(self.enclosure, **values)


class DeliverDialog(QDialog):
    """Asks what goes out, to whom, as what, and where; and shows what each file will hold."""

    def __init__(self, parent: QWidget | None, desk: Desk, chosen: list[str], folder: Path, operation: str) -> None:
        super().__init__(parent)
        self.setProperty("manual", "delivering")
        self.desk, self.session = desk, desk.session
        self.setWindowTitle("Deliver")
        # No wider or taller than the window that it belongs to, which may be the smallest.
        above = parent.window() if parent is not None else None
        room = above.size() if above is not None else QSize(1180, 720)
        self.resize(QSize(1180, 720).boundedTo(room))
        self.form: ParamForm | None = None
        self.files: list[File] = []
        self.current = 0
        self._folder = folder
        self._named = ""
        self._wish = 0
        self.runner = Runner(lambda task: None)
        columns = QHBoxLayout(self)
        columns.setSpacing(16)
        columns.addLayout(self._what(chosen), 5)
        columns.addWidget(self._as_what(), 6)
        columns.addLayout(self._preview_part(), 7)
        index = self.formats.findData(operation or self._suggested(chosen))
        self.formats.setCurrentIndex(max(index, 0))
        self.files = [File(self._last(self.format.id))]
        self._fill_files()
        self._format_changed()
        self.finished.connect(lambda _: self.runner.cancel_all())

    def _last(self, name: str) -> Enclosure:
        """Return a file of a format with the options of the last one, if they still are options."""
        words = self.session.remembered("writing", name)
        try:
            declare.build(catalog.format_named(name).write_params, words)
        except CallError:
            words = {}
        return Enclosure(name, words=words)

    # -- laying out

    def _what(self, chosen: list[str]) -> QVBoxLayout:
        left = QVBoxLayout()
        left.addWidget(label("<b>To whom</b>"))
        self.sets = QComboBox()
        self.sets.setAccessibleName("To whom")
        self._fill_sets()
        _narrow(self.sets)
        self.sets.activated.connect(lambda _: self._set_changed())
        self.sets.currentTextChanged.connect(self.sets.setToolTip)
        left.addWidget(self.sets)
        self.gets = label("", quiet=True)
        self.sets.currentIndexChanged.connect(lambda _: self._say_what_they_get())
        left.addWidget(self.gets)
        self._say_what_they_get()
        left.addWidget(label("<b>What goes out</b>"))
        self.list = QListWidget()
        self.list.setAccessibleName("What goes out")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        for node in self.session.graph.cards.values():
            if not node.digest:
                continue
            cost = node.outcome.loss if node.outcome else None
            told = f"  · differs by {gap_words(cost.largest)}{unit_word(cost.unit)} at most" if cost else ""
            kind = kind_named(node.kind)
            item = QListWidgetItem(f"{node.name}  ({kind.type.title if kind else node.kind}){told}")
            item.setData(Qt.ItemDataRole.UserRole, node.id)
            item.setToolTip(item.text())
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if node.id in chosen else Qt.CheckState.Unchecked)
            self.list.addItem(item)
        self.list.itemChanged.connect(lambda _: self._changed())
        left.addWidget(self.list, 3)
        self.files_label = label("<b>Enclosed</b>")
        left.addWidget(self.files_label)
        self.files_list = QListWidget()
        self.files_list.setAccessibleName("Files of the set")
        self.files_list.currentRowChanged.connect(self._row_changed)
        left.addWidget(self.files_list, 2)
        row = QHBoxLayout()
        self.keep = QPushButton("Keep as a set …")
        self.keep.setToolTip("These files with their options, under a name, for other jobs too.")
        self.keep.clicked.connect(self._keep_set)
        self.more = QPushButton("Another file")
        self.more.setToolTip("One more file goes out with this one.")
        self.more.clicked.connect(self._add_file)
        row.addWidget(self.more)
        row.addWidget(self.keep)
        row.addStretch()
        left.addLayout(row)
        return left

    def _as_what(self) -> QWidget:
        body = QWidget()
        middle = QVBoxLayout(body)
        middle.setContentsMargins(0, 0, 6, 0)
        middle.addWidget(label("<b>As</b>"))
        self.formats = QComboBox()
        self.formats.setAccessibleName("Format")
        for each in catalog.FORMATS:
            if each.write is not None:
                self.formats.addItem(each.title, each.id)
        _narrow(self.formats)
        self.formats.currentIndexChanged.connect(lambda _: self._format_changed())
        middle.addWidget(self.formats)
        self._form_place = QVBoxLayout()
        middle.addLayout(self._form_place)
        self.units = (self._unit_box("Unit of plan"), self._unit_box("Unit of heights"))
        rows = QFormLayout()
        for name, unit_box in zip(("Plan in", "Heights in"), self.units, strict=True):
            rows.addRow(name, unit_box)
        middle.addLayout(rows)
        middle.addStretch()
        scroll = scrolling(body)
        scroll.setMinimumWidth(345)
        return scroll

    def _preview_part(self) -> QVBoxLayout:
        right = QVBoxLayout()
        right.addWidget(label("<b>To</b>"))
        row = QHBoxLayout()
        self.path = QLineEdit()
        self.path.setAccessibleName("File")
        self.path.textChanged.connect(lambda _: self._preview())
        # The name counts, which is at the end; the folder in full is on hover.
        self.path.textChanged.connect(self.path.setToolTip)
        row.addWidget(self.path, 1)
        choose = QPushButton("Choose …")
        choose.clicked.connect(self._choose)
        row.addWidget(choose)
        right.addLayout(row)
        right.addWidget(label("<b>The file will hold</b>"))
        self.shown = HeldView(self.desk, self.runner)
        right.addWidget(self.shown, 1)
        self.error = label("", name="error")
        right.addWidget(self.error)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.write = self.buttons.addButton("Write and read back", QDialogButtonBox.ButtonRole.AcceptRole)
        assert self.write is not None
        self.write.setProperty("main", "true")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        right.addWidget(self.buttons)
        return right

    def _suggested(self, chosen: list[str]) -> str:
        kinds = [type(d) for node in chosen if (d := self.session.dataset(node)) is not None]
        return catalog.usual_format(kinds).id

    def _unit_box(self, name: str) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.addItem("as it is", None)
        for unit in LENGTH_UNITS:
            box.addItem(unit.title, unit)
        _narrow(box)
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

    def _have(self) -> dict[str, Dataset]:
        """Return what goes out, by card."""
        return {node: own for node in self.nodes() if (own := self.session.named_dataset(node)) is not None}

    def enclosed(self, file: File) -> list[str]:
        """Return the cards that go into a file."""
        return belonging(file.enclosure, self._have())

    def surfaces(self) -> list[str]:
        """Return the cards among what goes out that are ground."""
        return grounds(self._have())

    def chosen_units(self) -> Units:
        """Return the units to write in."""
        plan: Unit | None = self.units[0].currentData()
        height: Unit | None = self.units[1].currentData()
        return plan, height

    def words(self) -> dict[str, str]:
        """Return the writing options of the file that is shown."""
        return declare.to_words(self.form.value()) if self.form is not None else {}

    def target(self) -> Path:
        """Return the file to write, that which is shown."""
        return Path(self.path.text()).expanduser()

    def targets(self) -> list[tuple[File, Path]]:
        """Return every file with where it goes."""
        self._take_back()
        return self._named_targets()

    def _named_targets(self) -> list[tuple[File, Path]]:
        folder = self.target().parent
        own = [(file, folder / file.name) for file in self.files]
        own[self.current] = (self.files[self.current], self.target())
        return own

    # -- sets

    def _fill_sets(self, chosen: str = "") -> None:
        self.sets.clear()
        self.sets.addItem("one file", "")
        for each in known_sets():
            self.sets.addItem(each.title.partition(": ")[0], each)
            self.sets.setItemData(self.sets.count() - 1, each.title, Qt.ItemDataRole.ToolTipRole)
            if each.name == chosen:
                self.sets.setCurrentIndex(self.sets.count() - 1)

    def _say_what_they_get(self) -> None:
        """Say what is in the set, on as many lines as that takes."""
        own = self.sets.currentData()
        told = own.title.partition(": ")[2] if isinstance(own, DeliverySet) else ""
        self.gets.setText(escape(told))
        self.gets.setVisible(bool(told))

    def choose_set(self, name: str) -> None:
        """Choose a set by its name."""
        for k in range(1, self.sets.count()):
            if self.sets.itemData(k).name == name:
                self.sets.setCurrentIndex(k)
                self._set_changed()

    def _set_changed(self) -> None:
        own = self.sets.currentData()
        if isinstance(own, DeliverySet):
            self.files = [File(each) for each in own.enclosures]
        else:
            own = self.files[0].enclosure
            self.files = [File(Enclosure(own.format, words=own.words))]
        self.current = 0
        self._named = self.path.text()
        self._fill_files()
        self._show_file()

    def _add_file(self) -> None:
        self._take_back()
        other = "dxf" if self.files[-1].format.id != "dxf" else "landxml"
        self.files.append(File(self._last(other)))
        self.current = len(self.files) - 1
        self._name_files()
        self._fill_files()
        self._show_file()

    def _keep_set(self) -> None:
        name, fine = QInputDialog.getText(self, "Keep as a set", "Name of the set")
        if not fine or not name.strip():
            return
        self._take_back()
        try:
            save_set(DeliverySet(name.strip(), name.strip(), tuple(each.enclosure for each in self.files)))
        except VastGridError as error:
            self.error.setText(str(error))
            return
        self._fill_sets(name.strip())

    def _fill_files(self) -> None:
        self._name_files()
        self.files_list.blockSignals(True)
        self.files_list.clear()
        for each in self.files:
            self.files_list.addItem(f"{each.name}\n{each.format.title}")
        self.files_list.setCurrentRow(self.current)
        self.files_list.blockSignals(False)
        several = len(self.files) > 1
        for part in (self.files_label, self.files_list):
            part.setVisible(several)

    def _name_files(self) -> None:
        nodes = self.nodes()
        stem = self.session.graph[nodes[0]].name if nodes else "terrain"
        stem = safe_name(re.sub(r"[\s,;]+", "-", stem.strip().lower()))
        for each in self.files:
            each.name = each.enclosure.file_name(stem)

    def _row_changed(self, row: int) -> None:
        if 0 <= row < len(self.files) and row != self.current:
            self._take_back()
            self.current = row
            self._show_file()

    def _take_back(self) -> None:
        """Keep what was typed for the file that is shown."""
        if not self.files:
            return
        file = self.files[self.current]
        if self.form is not None and self.form.params is file.format.write_params:
            try:
                file.change(words=self.words())
            except CallError:
                return
        file.name = self.target().name or file.name

    def _show_file(self) -> None:
        """Show a file's format, options and name."""
        file = self.files[self.current]
        folder = self.target().parent if self.path.text() else self._folder
        self.formats.blockSignals(True)
        self.formats.setCurrentIndex(self.formats.findData(file.format.id))
        self.formats.blockSignals(False)
        self._make_form(file.enclosure.words)
        self._named = str(folder / file.name)
        self._show_path(self._named)
        self._preview()

    def _show_path(self, path: str) -> None:
        self.path.setText(path)
        self.path.end(False)

    # -- following the choices

    def _make_form(self, words: dict[str, str]) -> None:
        if self.form is not None:
            self._form_place.removeWidget(self.form)
            # What is deleted later would stay painted while a dialog runs a loop of its own.
            self.form.hide()
            self.form.deleteLater()
            self.form = None
        if declare.fields(self.format.write_params):
            self.form = ParamForm(self.format.write_params, words or None)
            self.form.changed.connect(self._preview)
            self._form_place.addWidget(self.form)

    def _format_changed(self) -> None:
        if not self.files:
            return
        file = self.files[self.current]
        if file.format is not self.format:
            file.change(format=self.format.id, words={}, ending="")
        self._make_form(file.enclosure.words)
        self._changed()
        self._fill_files()

    def _changed(self) -> None:
        if not self.files:
            return
        if self.path.text() in ("", self._named):
            self._name_files()
            folder = self.target().parent if self.path.text() else self._folder
            self._named = str(folder / self.files[self.current].name)
            self._show_path(self._named)
        self._preview()

    def _preview(self) -> None:
        if not self.files:
            return
        self._wish += 1
        try:
            file = self.files[self.current]
            have = self._have()
            datasets = [have[card] for card in self.enclosed(file)]
            params = declare.build(self.format.write_params, self.words())
            if not datasets and have:
                raise CallError(f"nothing of what goes out belongs into this file ({', '.join(file.enclosure.kinds)})")
            if not self.target().parent.is_dir():
                raise CallError(f"there is no folder {self.target().parent}")
            names = [path.name for _, path in self._named_targets()]
            if len(set(names)) < len(names):
                raise CallError("two files of the set have one name; give one of them another")
        except CallError as error:
            self._refused(str(error))
            return
        units, target, wish = self.chosen_units(), self.format, self._wish
        if sum(sum(each.count().values()) for each in datasets) <= _AT_ONCE:
            try:
                self._show_held(held(datasets, target, params, units))
            except VastGridError as error:
                self._refused(str(error))
            return
        self.shown.clear("looking …")
        self.runner.cancel_all()

        def work(progress: Progress) -> Held | str:
            try:
                return held(datasets, target, params, units)
            except VastGridError as error:
                return str(error)

        def done(found: Held | str) -> None:
            if wish == self._wish:
                self._refused(found) if isinstance(found, str) else self._show_held(found)

        self.desk.start_behind(self.runner, "what the file will hold", work, done, owner=self)

    def _refused(self, why: str) -> None:
        assert self.write is not None
        self.shown.clear()
        self.error.setText(why)
        self.write.setEnabled(False)

    def _show_held(self, own: Held) -> None:
        assert self.write is not None
        self.error.setText("")
        self.write.setEnabled(True)
        self.shown.show_held(own)
        self.shown.say(own.size, self._beside())
        wish, target = self._wish, self.format

        def measured(size: float) -> None:
            if wish == self._wish:
                self.shown.say(size, self._beside())

        self.desk.start_behind(
            self.runner, "how large", lambda progress: measured_size(own, target, progress), measured, owner=self
        )

    def _beside(self) -> list[str]:
        """Return what is said of the file beside its content: the line of no change, and what it replaces."""
        lines = []
        if self.files[self.current].enclosure.meeting:
            told = "The line where both surfaces meet is made first and goes along."
            lines.append(
                told if len(self.surfaces()) > 1 else "With a second surface the line where both meet would go along."
            )
        there = [path.name for _, path in self._named_targets() if path.exists()]
        if there and len(self.files) > 1:
            lines.append(
                f"In the folder already, and replaced once the new ones are whole: {escape(', '.join(there))}."
            )
        elif there:
            lines.append("The file exists and will be replaced once the new one is whole.")
        return lines

    def _choose(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, "Deliver to", self.path.text(), f"{self.format.title} (*{' *'.join(self.format.suffixes)})"
        )
        if name:
            self._show_path(name)


def _narrow(box: QComboBox) -> None:
    """Let a box be as wide as there is room, whatever its longest entry."""
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    box.setMinimumContentsLength(14)
