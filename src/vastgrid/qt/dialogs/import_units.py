"""Units of a file that comes in: what it says itself, what the user says, and what something speaks for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.quantities import LENGTH_UNITS, Unit
from vastgrid.qt.dialogs.import_candidate import Candidate
from vastgrid.qt.widgets.labels import label


class UnitsPart(QWidget):
    """Asks for the units of plan and heights that a file leaves open.

    Parameters
    ----------
    changed : callable
        Called when the user has said a unit.
    """

    def __init__(self, changed: Callable[[], Any]) -> None:
        super().__init__()
        self._candidate: Candidate | None = None
        self._changed = changed
        self._hinted: list[Unit | None] = [None, None]
        self.boxes = (self._box(0), self._box(1))
        self.notes = (label("", quiet=True), label("", quiet=True))
        self.hints = (QPushButton(), QPushButton())
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        for k, name in enumerate(("Plan", "Heights")):
            row = QHBoxLayout()
            caption = label(name, wrap=False)
            caption.setBuddy(self.boxes[k])
            caption.setMinimumWidth(60)
            row.addWidget(caption)
            row.addWidget(self.boxes[k])
            row.addWidget(self.notes[k], 1)
            column.addLayout(row)
            self.hints[k].setProperty("flat", "true")
            self.hints[k].clicked.connect(lambda _=False, k=k: self._take_hint(k))
            self.hints[k].hide()
            column.addWidget(self.hints[k])

    def _box(self, which: int) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(f"Unit of {('plan', 'heights')[which]}")
        box.addItem("unknown", None)
        for unit in LENGTH_UNITS:
            box.addItem(unit.title, unit)
        box.currentIndexChanged.connect(lambda _: self._said(which))
        return box

    def show_candidate(self, candidate: Candidate) -> None:
        """Show a file's units."""
        self._candidate = candidate
        for k, box in enumerate(self.boxes):
            box.blockSignals(True)
            box.setCurrentIndex(box.findData(candidate.units[k]))
            box.blockSignals(False)
        if candidate.contents is None:
            for note, button in zip(self.notes, self.hints, strict=True):
                note.setText("")
                button.hide()
            return
        frames = [dataset.frame for dataset in candidate.contents.source.datasets]
        for k, (box, said) in enumerate(zip(self.boxes, self.notes, strict=True)):
            known: Unit | None = next((u for f in frames if (u := (f.horizontal, f.vertical)[k])), None)
            box.setVisible(known is None or candidate.doubtful)
            box.setItemText(0, "as the file says" if known else "unknown")
            doubt = ", which is doubtful" if candidate.doubtful else ""
            said.setText(f"{known.title}, says the file{doubt}" if known else "")
            hint = next((h for h in candidate.contents.hints if h.which == ("plan", "height")[k]), None)
            self.hints[k].setVisible(known is None and hint is not None and candidate.units[k] is not hint.unit)
            if hint is not None:
                self._hinted[k] = hint.unit
                self.hints[k].setText(f"Take {hint.unit.title}: {hint.why}")

    def _said(self, which: int) -> None:
        if self._candidate is not None:
            self._candidate.units[which] = self.boxes[which].currentData()
            self.show_candidate(self._candidate)
            self._changed()

    def _take_hint(self, which: int) -> None:
        self.boxes[which].setCurrentIndex(self.boxes[which].findData(self._hinted[which]))
