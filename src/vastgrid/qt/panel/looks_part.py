"""The part of the panel in which a card's look is chosen: colours, shading, opacity, place in the stack."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QColorDialog, QComboBox, QHBoxLayout, QLineEdit, QPushButton, QSlider, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Dataset
from vastgrid.params import declare
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.styling.look import choices, look_class

# What is worth a row before “more” is pressed.
_FIRST = ("colour", "against", "opacity", "hidden", "faces")


class LooksPart(QWidget):
    """The look of one card.

    Signals
    -------
    worn : dict
        Another look was chosen, in words.
    shifted : bool
        The card is to move up (True) or down in the stack.
    """

    look_changed = pyqtSignal(dict)
    shifted = pyqtSignal(bool)
    more_wanted = pyqtSignal(bool)

    def __init__(self, dataset: Dataset, words: dict[str, str], surfaces: list[str], *, made: bool, more: bool) -> None:
        super().__init__()
        self.kind: type[Any] = look_class(dataset.kind)
        known = {field.name for field in declare.fields(self.kind)}
        self._words = {name: text for name, text in words.items() if name in known}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        row = QHBoxLayout()
        for text, up, tip in (("Raise", True, "Draw it above the next card"), ("Lower", False, "Draw it below")):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, up=up: self.shifted.emit(up))
            row.addWidget(button)
        self.more = QPushButton("Less" if more else "More")
        self.more.clicked.connect(lambda: self.more_wanted.emit(not more))
        row.addWidget(self.more)
        row.addStretch()
        layout.addLayout(row)
        able = choices(dataset, made=made)
        suggestions = {"stand": able.get("stand", []), "against": ["", *surfaces]}
        self.form = ParamForm(self.kind, self._words, suggestions)
        colour = self.form.editors["colour"]
        if isinstance(colour, QComboBox) and "colour" in able:
            for k in reversed(range(colour.count())):
                if colour.itemText(k) not in able["colour"]:
                    colour.removeItem(k)
        self._opacity_as_slider()
        self._colour_as_button()
        self._hide_what_says_nothing(dataset, able, more)
        self.form.changed.connect(self._changed)
        layout.addWidget(self.form)

    def _opacity_as_slider(self) -> None:
        edit = self.form.editors["opacity"]
        assert isinstance(edit, QLineEdit)
        self.opacity = QSlider(Qt.Orientation.Horizontal)
        self.opacity.setRange(5, 100)
        self.opacity.setAccessibleName("Opacity")
        self.opacity.setValue(int(float(edit.text() or "100")))
        self.opacity.valueChanged.connect(lambda value: edit.setText(str(value)))
        layout = self.form.layout()
        assert layout is not None
        layout.replaceWidget(edit, self.opacity)
        edit.setParent(self)
        edit.hide()

    def _colour_as_button(self) -> None:
        edit = self.form.editors["plain"]
        assert isinstance(edit, QLineEdit)
        self.swatch = QPushButton(edit.text() or "choose …")
        self._paint_swatch(edit.text())
        self.swatch.clicked.connect(self._choose_colour)
        layout = self.form.layout()
        assert layout is not None
        layout.replaceWidget(edit, self.swatch)
        edit.setParent(self)
        edit.hide()

    def _paint_swatch(self, colour: str) -> None:
        if QColor.isValidColorName(colour):
            ink = "#000000" if QColor(colour).lightness() > 130 else "#FFFFFF"
            self.swatch.setStyleSheet(f"QPushButton {{ background: {colour}; color: {ink}; }}")
            self.swatch.setText(colour)

    def _choose_colour(self) -> None:
        edit = self.form.editors["plain"]
        assert isinstance(edit, QLineEdit)
        colour = QColorDialog.getColor(QColor(edit.text() or "#8C6D1F"), self, "Colour of this card")
        if colour.isValid():
            self._paint_swatch(colour.name())
            edit.setText(colour.name())

    def _hide_what_says_nothing(self, dataset: Dataset, able: dict[str, list[str]], more: bool) -> None:
        words = self.form.words()
        by = words["colour"]
        gone = set() if more else {name for name in words if name not in _FIRST}
        if by != "difference":
            gone.add("against")
        if by != "one colour":
            gone.add("plain")
        else:
            gone.discard("plain")
        if by != "elevation":
            gone.add("bands")
        if dataset.kind == "grid":
            gone.add("faces")
        if "class" not in able.get("colour", []):
            gone.add("hidden")
        if len(able.get("stand", [])) < 2:
            gone |= {"stand", "width"}
        rows = {"opacity": self.opacity, "plain": self.swatch}
        layout = self.form.layout()
        for name in words:
            if name in gone:
                layout.setRowVisible(rows.get(name, self.form.editors[name]), False)  # type: ignore[union-attr]

    def _changed(self) -> None:
        try:
            self.look_changed.emit(declare.to_words(self.form.value()))
        except CallError:
            return
