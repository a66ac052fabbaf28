"""Asking for the height of one vertex."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QLineEdit, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Length, parse_length
from vastgrid.qt.widgets.labels import label


class HeightDialog(QDialog):
    """Shows where a vertex is and how high, and asks how high it should be.

    Parameters
    ----------
    unit : str
        Unit of heights, as it follows a number.
    """

    def __init__(self, parent: QWidget, east: float, north: float, height: float, unit: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Set a height")
        self._before, self._unit = height, unit
        layout = QVBoxLayout(self)
        layout.addWidget(label(f"Vertex at E {east:.3f}, N {north:.3f}, now {height:.3f}{unit}"))
        self.height_ = QLineEdit(f"{height:.3f}")
        self.height_.setAccessibleName("Height")
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
        """Return the height asked for.

        Raises
        ------
        CallError
            If it is none.
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
        bare = own.unit is None or own.unit.value == self._unit.strip()
        self.note.setText(f"{'Raises' if by >= 0 else 'Lowers'} it by {abs(by):.3f}{self._unit}" if bare else "")
