"""All findings of the job in one list: each leads to its place, can be mended or accepted; thresholds beside them."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFrame,
    QHBoxLayout,
    QInputDialog,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Severity, count
from vastgrid.declarations.check import Check
from vastgrid.execution.inspection import Noticed
from vastgrid.params import declare
from vastgrid.qt.desk.inspecting import Inspecting
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label, rule


class FindingsDialog(QDialog):
    """Lists findings, open warnings first; stays open while one looks around.

    Parameters
    ----------
    parent : QWidget
        The window.
    inspecting : Inspecting
        Whose findings they are.
    palette : Palette
        Colours of warnings.
    """

    explained = pyqtSignal(str)

    def __init__(self, parent: QWidget, inspecting: Inspecting, palette: theme.Palette) -> None:
        super().__init__(parent)
        self.setProperty("manual", "findings")
        self.palette_ = palette
        self.inspecting = inspecting
        self.forms: dict[str, ParamForm] = {}
        self.setWindowTitle("Findings")
        self.resize(860, 460)
        outer = QVBoxLayout(self)
        self.heading = label()
        outer.addWidget(self.heading)
        self.list = QListWidget()
        self.list.setAccessibleName("Findings")
        self.list.setWordWrap(True)
        self.list.setSpacing(2)
        self.list.currentItemChanged.connect(lambda *_: self._offer())
        self.list.itemActivated.connect(lambda _: self._show_place())
        self.list.itemClicked.connect(lambda _: self._show_place())
        outer.addWidget(self.list, 1)
        row = QHBoxLayout()
        self.all = QCheckBox("Also notes and what was accepted")
        self.all.toggled.connect(lambda _: self.fill())
        row.addWidget(self.all)
        row.addStretch()
        self.mend = self._button("", self._mend)
        self.mend.setProperty("main", "true")
        self.accept_ = self._button("Accept with a note …", self._accept)
        self.reopen = self._button("Open it again", self._reopen)
        self.place = self._button("Show the place", self._show_place)
        self.limits = self._button("Thresholds …", self._toggle_thresholds)
        self.meaning = self._button("What it means", self._explain)
        row.addWidget(self.meaning)
        for button in (self.mend, self.accept_, self.reopen, self.place, self.limits):
            row.addWidget(button)
        outer.addLayout(row)
        self.thresholds = QScrollArea()
        self.thresholds.setWidgetResizable(True)
        self.thresholds.setFrameShape(QFrame.Shape.NoFrame)
        self.thresholds.hide()
        outer.addWidget(self.thresholds, 2)

    def _explain(self) -> None:
        own = self.chosen()
        self.explained.emit(own.finding.code if own is not None else "")

    def _button(self, text: str, run: object) -> QPushButton:
        button = QPushButton(text)
        button.setAutoDefault(False)
        button.clicked.connect(lambda: self.inspecting.desk.guarded(run))  # type: ignore[arg-type]
        return button

    # -- the list

    def fill(self) -> None:
        """Show the findings as they are now; the chosen one stays chosen."""
        session = self.inspecting.desk.session
        before = self.chosen()
        every = session.noticed()
        shown = [each for each in every if each.open or self.all.isChecked()]
        number = sum(each.open for each in every)
        rest = len(every) - number
        busy = " Still looking …" if self.inspecting.busy else ""
        self.heading.setText(
            f"<b>{number} open</b>, {count(rest, 'note')} and accepted ones. Enter goes to the place.{busy}"
            if every
            else f"Nothing was noticed.{busy}"
        )
        self.list.blockSignals(True)
        self.list.clear()
        palette = self.palette_
        for each in shown:
            sign = "✓" if each.accepted is not None else "·" if each.finding.severity is Severity.NOTE else "!"
            text = f"{sign}  {session.graph[each.node].name}: {each.finding.text}"
            if each.accepted is not None:
                text += f"  Accepted: {each.accepted or 'without a note'}"
            item = QListWidgetItem(text)
            item.setToolTip(text)
            if each.open:
                item.setForeground(palette.colour("warning"))
            item.setData(Qt.ItemDataRole.UserRole, each)
            self.list.addItem(item)
            if before is not None and (each.node, each.finding) == (before.node, before.finding):
                self.list.setCurrentItem(item)
        self.list.blockSignals(False)
        self._offer()

    def chosen(self) -> Noticed | None:
        """Return the chosen finding."""
        item = self.list.currentItem()
        return None if item is None else item.data(Qt.ItemDataRole.UserRole)

    def _offer(self) -> None:
        """Offer what can be done about the chosen finding, and nothing else."""
        own = self.chosen()
        remedy = own.finding.remedy if own is not None else None
        able = own is not None and self.inspecting.can_mend(own.node, remedy)
        self.mend.setVisible(able)
        if remedy is not None:
            self.mend.setText(remedy.text)
        self.accept_.setVisible(own is not None and own.open)
        self.reopen.setVisible(own is not None and own.accepted is not None)
        self.place.setEnabled(own is not None)
        self.place.setText("Show the place" if own is None or own.finding.at is not None else "Show the card")

    def _show_place(self) -> None:
        own = self.chosen()
        if own is not None:
            self.inspecting.go_to(own)

    def _mend(self) -> None:
        own = self.chosen()
        if own is not None and own.finding.remedy is not None:
            self.inspecting.mend(own.node, own.finding.remedy)

    def _accept(self) -> None:
        own = self.chosen()
        if own is None:
            return
        note, good = QInputDialog.getText(
            self, "Accept a finding", f"{own.finding.text}\n\nWhy it can stay (goes into the report):"
        )
        if good:
            self.inspecting.accept(own, note)

    def _reopen(self) -> None:
        own = self.chosen()
        if own is not None:
            self.inspecting.reopen(own)

    # -- thresholds

    def _toggle_thresholds(self) -> None:
        if self.thresholds.isVisible():
            self.thresholds.hide()
            self.limits.setText("Thresholds …")
            return
        body = QWidget()
        layout = QVBoxLayout(body)
        inspection = self.inspecting.desk.session.inspection
        self.forms = {}
        for check in catalog.CHECKS:
            if not declare.fields(check.params):
                continue
            layout.addWidget(label(f"<b>{check.title}</b>"))
            layout.addWidget(label(check.help, quiet=True))
            form = ParamForm(check.params, inspection.words(check))
            form.changed.connect(partial(self._changed, check))
            self.forms[check.id] = form
            layout.addWidget(form)
            layout.addWidget(rule())
        layout.addStretch()
        self.thresholds.setWidget(body)
        self.thresholds.show()
        self.limits.setText("Hide thresholds")
        self.resize(self.width(), max(self.height(), 700))

    def _changed(self, check: Check) -> None:
        try:
            words = declare.to_words(self.forms[check.id].value())
        except CallError:
            return
        desk = self.inspecting.desk
        if words != desk.session.inspection.words(check):
            desk.session.inspection.set_words(check, words)
            desk.session.save()
            self.inspecting.see_to()
            self.fill()
