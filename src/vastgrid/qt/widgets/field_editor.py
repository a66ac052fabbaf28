"""Changing one field of a sentence."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLineEdit, QPushButton, QSlider, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Length, Quantity, parse_length
from vastgrid.params import declare
from vastgrid.qt.widgets.forms import editor, text_of, when_changed
from vastgrid.qt.widgets.labels import label


class FieldEditor(QFrame):
    """The small window in which one field of a sentence is changed; errors stand in it, beside the field."""

    accepted = pyqtSignal(str)
    left_open = pyqtSignal()
    edited = pyqtSignal(str)
    closed = pyqtSignal()

    def __init__(
        self, parent: QWidget, field: declare.Field, text: str, suggestions: list[str], *, asked: bool | None = None
    ) -> None:
        super().__init__(parent, Qt.WindowType.Popup)
        self.setObjectName("box")
        self.field = field
        layout = QVBoxLayout(self)
        layout.addWidget(label(field.param.label, wrap=False))
        self.editor = editor(field, text, suggestions)
        self.editor.setMinimumWidth(240)
        layout.addWidget(self.editor)
        self.slider: QSlider | None = None
        if isinstance(self.editor, QLineEdit) and field.param.quantity is Quantity.XY_LENGTH:
            self._add_slider(layout, text, self.editor)
        note = label(field.param.help, quiet=True)
        note.setMaximumWidth(270)
        layout.addWidget(note)
        self.error = label("", name="error")
        self.error.hide()
        layout.addWidget(self.error)
        row = QHBoxLayout()
        self.button = QPushButton("Change")
        self.button.setProperty("main", "true")
        self.button.clicked.connect(self._accept)
        self.open = QPushButton("Reset to automatic")
        self.open.setToolTip("Nothing is asked for any more: it is settled for this data, and anew for other data")
        self.open.clicked.connect(self._leave_open)
        self.open.setVisible(bool(asked))
        if asked is False:
            said = label(
                "This value is automatic, worked out from this data. “Change” keeps what is written here.", quiet=True
            )
            said.setMaximumWidth(270)
            layout.addWidget(said)
        row.addWidget(self.open)
        row.addStretch()
        row.addWidget(self.button)
        layout.addLayout(row)
        when_changed(self.editor, self._edited)
        if isinstance(self.editor, QLineEdit):
            self.editor.returnPressed.connect(self._accept)
            self.editor.selectAll()

    def _add_slider(self, layout: QVBoxLayout, text: str, line: QLineEdit) -> None:
        """Let a length be dragged, from a tenth of what stands there to ten times as much."""
        try:
            own = parse_length(text)
        except CallError:
            own = Length(10.0)
        if own.value <= 0.0:
            return
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setRange(-100, 100)
        self.slider.setAccessibleName(f"{self.field.param.label}, dragged")

        def dragged(step: int) -> None:
            value = float(f"{own.value * 10.0 ** (step / 100.0):.3g}")
            line.setText(f"{value:g}{own.unit.value if own.unit else ''}")

        self.slider.valueChanged.connect(dragged)
        layout.addWidget(self.slider)

    def open_at(self, place: QPoint) -> None:
        """Show the editor below a place, inside the screen."""
        self.adjustSize()
        screen = self.screen()
        room = screen.availableGeometry() if screen else self.geometry()
        x = min(place.x(), room.right() - self.width() - 4)
        y = min(place.y(), room.bottom() - self.height() - 4)
        self.move(x, y)
        self.show()
        self.editor.setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._accept()
            return
        super().keyPressEvent(event)

    def hideEvent(self, event: Any) -> None:
        self.closed.emit()

    def _edited(self) -> None:
        if self._checked():
            self.edited.emit(text_of(self.editor))

    def _checked(self) -> bool:
        try:
            declare.parse_value(self.field, text_of(self.editor))
        except CallError as error:
            self.error.setText(str(error))
            self.error.show()
            self.button.setEnabled(False)
            self.adjustSize()
            return False
        self.error.hide()
        self.button.setEnabled(True)
        return True

    def _accept(self) -> None:
        if self._checked():
            text = text_of(self.editor)
            self.hide()
            self.accepted.emit(text)

    def _leave_open(self) -> None:
        self.hide()
        self.left_open.emit()
