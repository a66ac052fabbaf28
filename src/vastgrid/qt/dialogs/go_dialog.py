"""Going to typed coordinates."""

from __future__ import annotations

import re

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QLabel, QLineEdit, QWidget

from vastgrid.base.errors import CallError

_NUMBER = re.compile(r"[-+]?\d[\d\u202f\u00a0' ]*(?:[.,]\d+)?")


def place_of(text: str) -> tuple[float, float]:
    """Read “431 254.3 887341.7”, “E 431254.3, N 887341.7” or “431254.3; 887341.7”.

    Raises
    ------
    CallError
        If these are not two numbers.
    """
    words = re.sub(r"[eEnN:=]", " ", text)
    parts = re.split(r"[;\t]|,\s+", words) if re.search(r"[;\t]|,\s", words) else words.split()
    if len(parts) != 2:
        # Thousands set apart by blanks: easting and northing are split where the second begins after a decimal.
        found = [match.group() for match in _NUMBER.finditer(words)]
        parts = found if len(found) == 2 else parts
    try:
        east, north = (float(re.sub(r"[\s\u202f\u00a0']", "", part).replace(",", ".")) for part in parts)
    except ValueError:
        raise CallError(f"“{text}” is not an easting and a northing, such as 431254.3 887341.7") from None
    return east, north


class GoDialog(QDialog):
    """Asks for a place."""

    def __init__(self, parent: QWidget, start: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Go to coordinates")
        layout = QFormLayout(self)
        self.edit = QLineEdit(start)
        self.edit.setMinimumWidth(300)
        self.edit.selectAll()
        self.edit.textChanged.connect(lambda _: self._check())
        layout.addRow("Easting, northing", self.edit)
        self.error = QLabel()
        self.error.setObjectName("error")
        self.error.setWordWrap(True)
        layout.addRow(self.error)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.go = buttons.addButton("Go", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addRow(buttons)

    def place(self) -> tuple[float, float]:
        """Return the place that was typed."""
        return place_of(self.edit.text())

    def _check(self) -> None:
        try:
            self.place()
            self.error.setText("")
        except CallError as error:
            self.error.setText(str(error))
        if self.go is not None:
            self.go.setEnabled(not self.error.text())
