"""Forms made from parameter declarations: one row for each, checked as it is typed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QLabel, QLineEdit, QPlainTextEdit, QWidget

from vastgrid.base.errors import CallError
from vastgrid.params import declare
from vastgrid.params.declare import Field


def _choice(field: Field, text: str, suggestions: list[str]) -> QWidget:
    box = QComboBox()
    box.addItems(list(field.choices))
    box.setCurrentText(text)
    return box


def _tick(field: Field, text: str, suggestions: list[str]) -> QWidget:
    check = QCheckBox("yes")
    check.setChecked(text == "yes")
    return check


def _line(field: Field, text: str, suggestions: list[str]) -> QWidget:
    absent = field.param.absent if field.optional or text == "" else ""
    if suggestions:
        box = QComboBox()
        box.setEditable(True)
        # Words for an area are long; the box is as wide as there is room.
        box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(8)
        box.addItems(suggestions)
        box.setCurrentText(text)
        line_edit = box.lineEdit()
        if line_edit is not None:
            line_edit.setPlaceholderText(absent)
        return box
    line = QLineEdit("" if text == "none" and field.optional else text)
    line.setPlaceholderText(absent)
    return line


def _lines(field: Field, text: str, suggestions: list[str]) -> QWidget:
    edit = QPlainTextEdit("" if text == "none" and field.optional else text)
    edit.setPlaceholderText(field.param.absent)
    edit.setTabChangesFocus(True)
    edit.setFixedHeight(96)
    return edit


# By the editor that a kind of parameter names; a place that can be drawn is typed here, and drawn in the plan.
EDITORS: dict[str, Callable[[Field, str, list[str]], QWidget]] = {
    "choice": _choice,
    "tick": _tick,
    "line": _line,
    "drawn": _line,
    "lines": _lines,
}


def editor(field: Field, text: str, suggestions: list[str] | None = None) -> QWidget:
    """Return the widget that edits one parameter, holding `text`."""
    made = EDITORS[field.how.editor](field, text, suggestions or [])
    absent = getattr(made, "placeholderText", lambda: "")()
    made.setToolTip(field.param.help + (f"\nLeft empty: {absent}" if absent else ""))
    made.setAccessibleName(field.param.label)
    made.setAccessibleDescription(field.param.help)
    return made


def text_of(widget: QWidget) -> str:
    """Return what an editor holds, as words."""
    if isinstance(widget, QComboBox):
        return widget.currentText()
    if isinstance(widget, QCheckBox):
        return "yes" if widget.isChecked() else "no"
    if isinstance(widget, QPlainTextEdit):
        return widget.toPlainText()
    assert isinstance(widget, QLineEdit)
    return widget.text()


def put_text(widget: QWidget, text: str) -> None:
    """Put words into an editor."""
    if isinstance(widget, QComboBox):
        widget.setCurrentText(text)
    elif isinstance(widget, QCheckBox):
        widget.setChecked(text == "yes")
    elif isinstance(widget, QPlainTextEdit):
        widget.setPlainText("" if text == "none" else text)
    elif isinstance(widget, QLineEdit):
        widget.setText("" if text == "none" else text)


def when_changed(widget: QWidget, call: Callable[[], None]) -> None:
    """Call something whenever an editor's content changes."""
    if isinstance(widget, QComboBox):
        widget.currentTextChanged.connect(lambda _: call())
    elif isinstance(widget, QCheckBox):
        widget.toggled.connect(lambda _: call())
    elif isinstance(widget, QPlainTextEdit):
        widget.textChanged.connect(call)
    elif isinstance(widget, QLineEdit):
        widget.textChanged.connect(lambda _: call())


class ParamForm(QWidget):
    """A form for a parameter class.

    Signals
    -------
    changed : ()
        A value changed, good or not.
    """

    changed = pyqtSignal()

    def __init__(
        self, params: type, words: dict[str, str] | None = None, suggestions: dict[str, list[str]] | None = None
    ) -> None:
        super().__init__()
        self.params = params
        self.editors: dict[str, QWidget] = {}
        self.error = QLabel()
        self.error.setObjectName("error")
        self.error.setWordWrap(True)
        self.error.hide()
        layout = QFormLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        given = words or {}
        for field in declare.fields(params):
            text = given.get(field.name, declare.value_text(field.default))
            own = editor(field, text, (suggestions or {}).get(field.name))
            self.editors[field.name] = own
            when_changed(own, self._check)
            label = QLabel(field.param.label)
            label.setToolTip(field.param.help)
            label.setBuddy(own)
            layout.addRow(label, own)
        layout.addRow(self.error)

    def set_words(self, words: dict[str, str]) -> None:
        """Put values into the form without telling anyone."""
        for name, text in words.items():
            own = self.editors.get(name)
            if own is not None:
                own.blockSignals(True)
                put_text(own, text)
                own.blockSignals(False)
        self._refuse()

    def hide_row(self, name: str) -> None:
        """Hide a parameter that is edited elsewhere."""
        layout = self.layout()
        assert isinstance(layout, QFormLayout)
        layout.setRowVisible(self.editors[name], False)

    def words(self) -> dict[str, str]:
        """Return what the form holds, as words."""
        return {name: text_of(own) for name, own in self.editors.items()}

    def value(self) -> Any:
        """Return the parameter object.

        Raises
        ------
        ParamError
            If a value cannot be.
        """
        return declare.build(self.params, self.words())

    def _refuse(self) -> None:
        try:
            self.value()
            self.error.hide()
        except CallError as error:
            self.error.setText(str(error))
            self.error.show()

    def _check(self) -> None:
        self._refuse()
        self.changed.emit()
