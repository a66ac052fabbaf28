"""Bringing files in: what each holds, a picture of it, its options, and what will be left out, before anything is taken."""

from __future__ import annotations

from html import escape
from pathlib import Path
from typing import Any

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import (
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.findings import Finding, Severity, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.execution.executor import Units
from vastgrid.execution.steps import Source
from vastgrid.jobs.session import Session
from vastgrid.params import declare
from vastgrid.qt.dialogs.import_candidate import Candidate, Contents, examine
from vastgrid.qt.dialogs.import_rules import RulesPart
from vastgrid.qt.dialogs.import_text import RoleTable, TextPart
from vastgrid.qt.dialogs.import_units import UnitsPart
from vastgrid.qt.drawing.picture import Picture
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.bridge import Bridge
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label
from vastgrid.tasks.runner import Runner


class ImportDialog(QDialog):
    """Shows files as they would come in, and asks for what they do not say.

    Parameters
    ----------
    session : Session
        The job to bring them into.
    paths : list of Path
        The files.
    remembered : dict
        Options used last, by format; and kept layouts and sets of rules.
    """

    def __init__(self, parent: QWidget | None, session: Session, paths: list[Path], remembered: dict[str, Any]) -> None:
        super().__init__(parent)
        self.setProperty("manual", "what-comes-in")
        self.session = session
        self.remembered = remembered
        self.candidates = [Candidate(path) for path in paths]
        self.at = 0
        self.setWindowTitle(f"Import {paths[0].name}" if len(paths) == 1 else f"Import {len(paths)} files")
        wide = any(path.suffix.lower() == ".dxf" for path in paths)
        self.resize(1000 + (260 if wide else 0) + (110 if len(paths) > 1 else 0), 700)
        self._closed = False
        self._role_fault = ""
        self._bridge = Bridge(self)
        self._runner = Runner(lambda task: None)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(150)
        self._soon.timeout.connect(self._read_again)
        self._lay_out()
        for each in self.candidates:
            self._begin(each)
        self._choose(0)

    # -- laying out

    def _lay_out(self) -> None:
        outer = QHBoxLayout(self)
        self.list = QListWidget()
        self.list.setAccessibleName("Files; those with a tick come in")
        self.list.setVisible(len(self.candidates) > 1)
        self.list.setMaximumWidth(250)
        for each in self.candidates:
            item = QListWidgetItem(each.path.name)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked)
            item.setToolTip(str(each.path))
            self.list.addItem(item)
        self.list.currentRowChanged.connect(self._choose)
        self.list.itemChanged.connect(lambda _: self._allow())
        outer.addWidget(self.list)
        layout = QVBoxLayout()
        outer.addLayout(layout, 1)
        self.heading = label("", wrap=False)
        layout.addWidget(self.heading)
        self.summary = label("Reading …", quiet=True)
        layout.addWidget(self.summary)
        middle = QHBoxLayout()
        layout.addLayout(middle, 1)
        left = QVBoxLayout()
        middle.addLayout(left, 3)
        settings = self.remembered
        self.text_part = TextPart(settings.setdefault("layouts", {}), self._chosen_words, self._roles_refused)
        self.text_part.setVisible(False)
        left.addWidget(self.text_part, 1)
        self.rules_part = RulesPart(
            settings.setdefault("rules", {}), lambda text: self._chosen_words({"rules": text}), self._show_picture
        )
        self.rules_part.setVisible(False)
        left.addWidget(self.rules_part, 1)
        self.picture = Picture()
        self.picture.picked.connect(self._picked)
        self.picture.boxed.connect(self._boxed)
        left.addWidget(self.picture, 1)
        side = self._options()
        side.setFixedWidth(390)
        middle.addWidget(side)
        self.error = label("", name="error")
        layout.addWidget(self.error)
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.take: QPushButton = self.buttons.addButton("Import", QDialogButtonBox.ButtonRole.AcceptRole)  # type: ignore[assignment]
        self.take.setProperty("main", "true")
        self.take.setEnabled(False)
        self.left_out = QPushButton("Keep the lines left out …")
        self.left_out.setToolTip("Writes them beside the job, each with its number and reason.")
        self.left_out.clicked.connect(self.keep_left_out)
        self.left_out.hide()
        self.buttons.addButton(self.left_out, QDialogButtonBox.ButtonRole.ActionRole)
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        layout.addWidget(self.buttons)

    def _options(self) -> QWidget:
        side = QWidget()
        right = QVBoxLayout(side)
        right.setContentsMargins(0, 0, 8, 0)
        right.addWidget(label("<b>Units</b>"))
        self.units = UnitsPart(lambda: self._show_findings(self.own))
        right.addWidget(self.units)
        right.addWidget(label("<b>Options</b>"))
        self.form: ParamForm | None = None
        self._form_place = QVBoxLayout()
        right.addLayout(self._form_place)
        self.findings = label("")
        self.findings.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        self.findings.linkActivated.connect(self.remedy)
        right.addWidget(self.findings)
        right.addStretch()
        side.setObjectName("panelBody")
        scroll = QScrollArea()
        scroll.setObjectName("panelScroll")
        scroll.setWidget(side)
        scroll.setWidgetResizable(True)
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        return scroll

    # -- one file at a time

    @property
    def own(self) -> Candidate:
        """The file that is shown."""
        return self.candidates[self.at]

    @property
    def source(self) -> Source | None:
        """What was read of the file that is shown."""
        return self.own.source

    @property
    def words(self) -> dict[str, str]:
        """Options with which it was read."""
        return self.own.words

    @property
    def table(self) -> RoleTable:
        """The first lines of a text file."""
        return self.text_part.table

    @property
    def role_error(self) -> Any:
        """Where it stands what is wrong with the roles."""
        return self.text_part.error

    def _begin(self, each: Candidate) -> None:
        try:
            each.recognise(self.remembered)
        except VastGridError as error:
            each.error = str(error)
            self._mark(each)
            return
        self._read(each)

    def _choose(self, row: int) -> None:
        if not 0 <= row < len(self.candidates):
            return
        self.at = row
        each = self.own
        title = f" · {each.kind.title}" if each.kind else ""
        self.heading.setText(f"<b>{escape(each.path.name)}</b>{title}")
        self.text_part.setVisible(each.editor == "columns")
        self.rules_part.setVisible(each.editor == "rules")
        self._role_fault = ""
        self._new_form(each)
        self.units.show_candidate(each)
        self._show()

    def _new_form(self, each: Candidate) -> None:
        if self.form is not None:
            self._form_place.removeWidget(self.form)
            # What is deleted later would stay painted while a dialog runs a loop of its own.
            self.form.hide()
            self.form.deleteLater()
            self.form = None
        if each.kind is not None and declare.fields(each.kind.read_params):
            self.form = ParamForm(each.kind.read_params, each.words, self._suggestions(each))
            self.form.changed.connect(self._soon.start)
            if any(each.editor == field.name for field in declare.fields(each.kind.read_params)):
                # What an editor of its own is for need not stand in the form as well.
                self.form.hide_row(each.editor)
            self._form_place.addWidget(self.form)

    def _suggestions(self, each: Candidate) -> dict[str, list[str]]:
        """Return what can be chosen for options that name something in the file, such as attributes."""
        if each.kind is None or each.kind.suggest is None:
            return {}
        try:
            return {name: ["", *words] for name, words in each.kind.suggest(each.path).items()}
        except VastGridError:
            return {}

    def _chosen_words(self, words: dict[str, str]) -> None:
        """Options were chosen elsewhere than in the form: the form follows."""
        if self.form is not None:
            self.form.set_words(words)
            self._soon.start()

    def _roles_refused(self, why: str) -> None:
        self._role_fault = why
        self._allow()

    def _read_again(self) -> None:
        if self.form is None:
            return
        try:
            self.own.words = declare.to_words(self.form.value())
        except CallError:
            self.take.setEnabled(False)
            return
        self._read(self.own)

    def _read(self, each: Candidate) -> None:
        each.number += 1
        each.reading, each.error = True, ""
        number, words, kind = each.number, dict(each.words), each.kind
        assert kind is not None
        self._allow()
        if each is self.own:
            self.summary.setText("Reading …")
        others = self.session.known_datasets()

        def work(progress: Progress) -> Contents:
            return examine(each.path, kind, words, others, progress)

        def done(made: Contents) -> None:
            if self._closed or each.number != number:
                return
            each.contents, each.reading = made, False
            self._mark(each)
            if each is self.own:
                self._show()

        def failed(why: str, _detail: str) -> None:
            if self._closed or each.number != number:
                return
            each.reading, each.error = False, why
            self._mark(each)
            if each is self.own:
                self._show()

        self._bridge.start(self._runner, f"reading {each.path.name}", work, done, failed)

    # -- showing

    def _show(self) -> None:
        each = self.own
        self.error.setText("" if self._role_fault else each.error)
        if each.editor == "columns":
            try:
                self.text_part.show_file(each.path, each.words)
            except VastGridError as error:
                self.error.setText(str(error))
        if each.drawing is not None:
            self.rules_part.show_drawing(each.drawing, each.words.get("rules", ""))
        self._show_picture()
        source = each.source
        if source is None:
            self.summary.setText("" if each.error else "Reading …")
            self.findings.setText("")
            self.left_out.hide()
            self._allow()
            return
        parts = []
        for dataset, counts in zip(source.datasets, source.counts(), strict=True):
            said = ", ".join(f"{spaced(value)} {name}" for name, value in counts.items())
            extent = dataset.extent()
            ranges = [
                f"{n} {p[0]:.2f} … {p[1]:.2f}"
                for n, p in (("E", extent.east), ("N", extent.north), ("Z", extent.elevation))
                if p
            ]
            parts.append(f"<b>{escape(dataset.name)}</b>: {dataset.title}, {said} · {'; '.join(ranges)}")
        more = f"<br>and {len(parts) - 6} more" if len(parts) > 6 else ""
        self.summary.setText("<br>".join(parts[:6]) + more)
        self.units.show_candidate(each)
        self._show_findings(each)
        self._allow()

    def _show_picture(self) -> None:
        contents = self.own.contents
        if contents is None:
            self.picture.note = ""
            self.picture.show_image(None, View(0.0, 0.0, 1.0, 1, 1), None)
            return
        overlay = None
        if contents.drawing is not None and contents.image is not None:
            colour = theme.LIGHT.colour("action")
            overlay = self.rules_part.highlighted(contents.view, (colour.red(), colour.green(), colour.blue()))
        self.picture.note = "A sample of the file; all of it comes in." if contents.sampled else ""
        self.picture.show_image(contents.image, contents.view, overlay)

    def _show_findings(self, each: Candidate) -> None:
        assert each.source is not None
        told = _together(each.source.findings)
        lines = [_line(finding, k) for k, finding in enumerate(told)]
        if not any(finding.drops for finding in each.source.findings):
            counts = each.source.counts()
            name, number = next(iter(counts[0].items()))
            whole = f"0 of {spaced(number)} {name} dropped."
            lines.append(whole if len(counts) == 1 else "Nothing is dropped: all of it comes in.")
        frames = [dataset.frame for dataset in each.source.datasets]
        if any(f.horizontal is None and each.units[0] is None for f in frames) or any(
            f.vertical is None and each.units[1] is None for f in frames
        ):
            lines.append("A unit is unknown. Say it if you know it; otherwise the data stays without one.")
        self.findings.setText("<br>".join(lines))
        self.left_out.setVisible(bool(each.source.left_out))

    def remedy(self, number: str) -> None:
        """Read the file again as a finding proposes."""
        source = self.own.source
        found = _together(source.findings)[int(number)] if source is not None else None
        if found is not None and found.remedy is not None:
            self._chosen_words(found.remedy.values)

    def _mark(self, each: Candidate) -> None:
        item = self.list.item(self.candidates.index(each))
        if item is not None:
            sign = "✗" if each.error else "✓" if each.source else "…"
            item.setText(f"{sign} {each.path.name}")
            item.setToolTip(each.error or str(each.path))
            if each.error:
                item.setCheckState(Qt.CheckState.Unchecked)
        self._allow()

    # -- picking

    def _picked(self, east: float, north: float, pixel: float) -> None:
        if self.own.editor == "rules":
            entity = self.rules_part.nearest(east, north, 8.0 * pixel)
            if entity is not None:
                self.rules_part.fill_from(entity)

    def _boxed(self, west: float, south: float, east: float, north: float) -> None:
        if self.form is not None and "crop" in self.form.editors:
            self._chosen_words({"crop": f"{west:.2f},{south:.2f},{east:.2f},{north:.2f}"})

    def keep_left_out(self) -> Path | None:
        """Write the lines that could not be read beside the job; return the file."""
        source = self.own.source
        if source is None or not source.left_out:
            return None
        target = self.session.sources.keep_left_out(source)
        self.left_out.setText(f"Kept in {target.name}")
        self.left_out.setToolTip(str(target))
        return target

    # -- ending

    def _allow(self) -> None:
        wanted = self.taken()
        good = bool(wanted) and all(each.source is not None for each in wanted) and not self._role_fault
        self.take.setEnabled(good and not (self.form is not None and self.form.error.isVisible()))
        if len(self.candidates) > 1:
            self.take.setText(f"Import {count(len(wanted), 'file')}")

    def taken(self) -> list[Candidate]:
        """Return the files that are to come in."""
        found = []
        for k, each in enumerate(self.candidates):
            item = self.list.item(k)
            if not each.error and (len(self.candidates) == 1 or (item and item.checkState() is Qt.CheckState.Checked)):
                found.append(each)
        return found

    def chosen_units(self) -> Units:
        """Return the units said for what the shown file leaves unknown."""
        return self.own.units[0], self.own.units[1]

    def done(self, result: int) -> None:
        self._closed = True
        self._soon.stop()
        self._runner.cancel_all()
        super().done(result)


def _together(findings: tuple[Finding, ...]) -> list[Finding]:
    """Return findings, warnings first."""
    return sorted(findings, key=lambda finding: finding.severity is Severity.NOTE)


def _line(finding: Finding, number: int) -> str:
    line = f"{finding.severity.value} · {escape(finding.text)}"
    if finding.remedy is None or finding.remedy.kind != "words":
        return line
    return f'{line} <a href="{number}">{escape(finding.remedy.text)}</a>'
