"""Asking what the interval of contours should be, before it is checked."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QLabel, QLineEdit, QSpinBox, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Unit, length_in, parse_length
from vastgrid.data.linework import Contours


class IntervalDialog(QDialog):
    """Asks what the interval of contours should be, in which unit, and how many pairs to measure.

    Parameters
    ----------
    contours : Contours
        Whose interval is checked.
    """

    def __init__(self, parent: QWidget, contours: Contours) -> None:
        super().__init__(parent)
        self.setProperty("manual", "contours-and-grids")
        self._unit = contours.frame.vertical
        self.setWindowTitle("Check the interval")
        layout = QFormLayout(self)
        note = QLabel(
            f"From random vertices of {contours.name} the nearest contour of another level is looked for; "
            "the heights of both are compared, on the surface too."
        )
        note.setWordWrap(True)
        note.setMinimumWidth(380)
        layout.addRow(note)
        unit = self._unit.value if self._unit else ""
        self.interval = QLineEdit(f"{contours.interval:g} {unit}".strip() if contours.interval else "")
        self.interval.setPlaceholderText("whatever is usual")
        self.interval.textChanged.connect(lambda _: self._check())
        layout.addRow("Interval asked for", self.interval)
        self.pairs = QSpinBox()
        self.pairs.setRange(3, 1000)
        self.pairs.setValue(30)
        layout.addRow("Pairs to measure", self.pairs)
        self.error = QLabel()
        self.error.setObjectName("error")
        layout.addRow(self.error)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.go = buttons.addButton("Measure", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addRow(buttons)

    def asked(self) -> float | None:
        """Return the interval in the contours' unit; None for whatever they declare.

        Raises
        ------
        CallError
            If it cannot be read.
        """
        text = self.interval.text().strip()
        if not text:
            return None
        return length_in(parse_length(text), self._unit, self._unit or Unit.METRE)

    def _check(self) -> None:
        try:
            self.asked()
            self.error.setText("")
        except CallError as error:
            self.error.setText(str(error))
        if self.go is not None:
            self.go.setEnabled(not self.error.text())
