"""What is asked for about picked points: limits of height, and a class."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QPushButton, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Length, parse_length
from vastgrid.data.classes import CLASS_NAMES, LOW_NOISE, class_name
from vastgrid.qt.widgets.labels import label


class HeightsDialog(QDialog):
    """Asks between which heights points are meant.

    Parameters
    ----------
    what : str
        What is picked.
    low, high : float
        Of the points that lie there.
    unit : str
        Unit of heights, as it follows a number.
    """

    def __init__(self, parent: QWidget, what: str, low: float, high: float, unit: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Between which heights")
        layout = QFormLayout(self)
        layout.addRow(label(f"{what}: heights from {low:.3f} to {high:.3f}{unit}"))
        self.above, self.below = QLineEdit(f"{low:.3f}"), QLineEdit(f"{high:.3f}")
        self.note = label("", quiet=True)
        for text, edit in (("Lowest", self.above), ("Highest", self.below)):
            edit.setAccessibleName(text)
            edit.setPlaceholderText("no limit")
            edit.textChanged.connect(lambda _: self._check())
            layout.addRow(text, edit)
        layout.addRow(self.note)
        self.done_ = _buttons(self, layout, "Pick")
        self._check()

    def limits(self) -> tuple[Length | None, Length | None]:
        """Return the lowest and the highest height; None where there is no limit.

        Raises
        ------
        CallError
            If one is no height.
        """
        above, below = (parse_length(edit.text()) if edit.text().strip() else None for edit in (self.above, self.below))
        if above is not None and below is not None and above.unit is below.unit and above.value > below.value:
            raise CallError("the lowest is higher than the highest")
        return above, below

    def _check(self) -> None:
        try:
            self.limits()
        except CallError as error:
            self.note.setText(str(error))
            self.done_.setEnabled(False)
            return
        self.note.setText("")
        self.done_.setEnabled(True)


class ClassDialog(QDialog):
    """Asks for a class."""

    def __init__(self, parent: QWidget, what: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Set the class")
        layout = QFormLayout(self)
        layout.addRow(label(f"{what} become"))
        self.class_ = QComboBox()
        self.class_.setAccessibleName("Class")
        for code in range(256):
            if code in CLASS_NAMES or code >= 64:
                self.class_.addItem(class_name(code), code)
        self.class_.setCurrentIndex(self.class_.findData(LOW_NOISE))
        layout.addRow("Class", self.class_)
        _buttons(self, layout, "Set")

    def code(self) -> int:
        """Return the chosen class."""
        return int(self.class_.currentData())


def _buttons(dialog: QDialog, layout: QFormLayout, text: str) -> QPushButton:
    buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
    button = buttons.addButton(text, QDialogButtonBox.ButtonRole.AcceptRole)
    assert button is not None
    button.setProperty("main", "true")
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    layout.addRow(buttons)
    return button
