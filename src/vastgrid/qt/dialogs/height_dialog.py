"""Asking for one number that an edit needs: a height, or how much."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Length, parse_length
from vastgrid.qt.widgets.labels import label


class HeightDialog(QDialog):
    """Says what is meant, and asks for a height or an amount.

    Parameters
    ----------
    what : str
        What it is asked for: “Vertex at E 1, N 2”.
    height : float
        What stands there now, or is proposed.
    unit : str
        Unit of heights, as it follows a number.
    compared : bool
        Whether the number is told apart from what stands there now.

    Signals
    -------
    typed
        Another number was typed that can be read.
    """

    typed = pyqtSignal()

    def __init__(self, parent: QWidget, what: str, height: float, unit: str, *, compared: bool = True) -> None:
        super().__init__(parent)
        self.setWindowTitle("Set a height" if compared else "How much")
        self._before, self._unit, self._compared = height, unit, compared
        layout = QVBoxLayout(self)
        layout.addWidget(label(f"{what}, now {height:.3f}{unit}" if compared else what))
        self.height_ = QLineEdit(f"{height:.3f}")
        self.height_.setAccessibleName("Height" if compared else "Amount")
        self.height_.textChanged.connect(lambda _: self._check())
        layout.addWidget(self.height_)
        self.note = label("", quiet=True)
        layout.addWidget(self.note)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.set_: QPushButton = buttons.addButton("Set", QDialogButtonBox.ButtonRole.AcceptRole)  # type: ignore[assignment]
        self.set_.setProperty("main", "true")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)
        self.height_.selectAll()
        self._check()

    def length(self) -> Length:
        """Return what is asked for.

        Raises
        ------
        CallError
            If it is no length.
        """
        return parse_length(self.height_.text())

    def _check(self) -> None:
        try:
            own = self.length()
        except CallError as error:
            self.note.setText(str(error))
            self.set_.setEnabled(False)
            return
        self.set_.setEnabled(True)
        by = own.value - self._before
        bare = self._compared and (own.unit is None or own.unit.value == self._unit.strip())
        self.note.setText(f"{'Raises' if by >= 0 else 'Lowers'} it by {abs(by):.3f}{self._unit}" if bare else "")
        self.typed.emit()
