"""Asking how a picture, or a sheet with the plan, should be."""

from __future__ import annotations

from PyQt6.QtCore import QSize
from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QLabel, QLineEdit, QSpinBox, QWidget

from vastgrid.base.words import spaced
from vastgrid.styling.paper import PAPERS, Sheet


class PictureDialog(QDialog):
    """Asks for the size of a picture, and which view it shows."""

    def __init__(self, parent: QWidget, size: QSize, which: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Picture")
        layout = QFormLayout(self)
        self.view = QComboBox()
        self.view.addItems(["plan", "3D"])
        self.view.setCurrentText("3D" if which == "3D" else "plan")
        layout.addRow("View", self.view)
        self.width_, self.height_ = QSpinBox(), QSpinBox()
        for spin, value, name in (
            (self.width_, 2 * size.width(), "Width"),
            (self.height_, 2 * size.height(), "Height"),
        ):
            spin.setRange(16, 20_000)
            spin.setValue(value)
            spin.setSuffix(" pixels")
            layout.addRow(name, spin)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        buttons.addButton("Save as …", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addRow(buttons)


class SheetDialog(QDialog):
    """Asks for paper, scale and title of a sheet."""

    def __init__(self, parent: QWidget, title: str, scale: int) -> None:
        super().__init__(parent)
        self.setWindowTitle("Plan to scale")
        layout = QFormLayout(self)
        self.title = QLineEdit(title)
        self.paper, self.lies = QComboBox(), QComboBox()
        self.paper.addItems(list(PAPERS))
        self.paper.setCurrentText("A3")
        self.lies.addItems(["landscape", "portrait"])
        self.scale = QSpinBox()
        self.scale.setRange(1, 10_000_000)
        self.scale.setPrefix("1 : ")
        self.scale.setValue(scale)
        self.kind = QComboBox()
        self.kind.addItems(["PDF", "SVG"])
        for name, widget in (
            ("Title", self.title), ("Paper", self.paper), ("Lies", self.lies), ("Scale", self.scale), ("File", self.kind),
        ):  # fmt: skip
            layout.addRow(name, widget)
        self.note = QLabel()
        self.note.setProperty("quiet", "true")
        layout.addRow(self.note)
        for signal in (self.paper.currentTextChanged, self.lies.currentTextChanged, self.scale.valueChanged):
            signal.connect(lambda *_: self._tell())
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        buttons.addButton("Save as …", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addRow(buttons)
        self._tell()

    def sheet(self) -> Sheet:
        """Return what was asked for."""
        return Sheet(
            self.paper.currentText(), self.lies.currentText() == "landscape", self.scale.value(), self.title.text()
        )

    def _tell(self) -> None:
        width, height = (mm / 1000.0 * self.scale.value() for mm in self.sheet().plan_size())
        self.note.setText(f"The sheet shows {spaced(width)} × {spaced(height)} m")
