"""The log of edits of a card as prose: each line can be switched off, moved, taken out, and leads to its place."""

from __future__ import annotations

from functools import partial
from html import escape

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QGridLayout, QHBoxLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import flat_button
from vastgrid.terrain.editing.logs import OFF, Log

# So many of the last lines are listed until all are asked for.
FEW = 8


class EditsPart(QWidget):
    """Lists the edits of a card, the latest first.

    Parameters
    ----------
    log : Log
        What is listed.
    unit : str
        Unit of heights that have none of their own, as it follows a number.
    missed : set of int
        Numbers of the entries that do not apply, counted from 1.

    Signals
    -------
    rewritten : list of str
        The log is to be this.
    wanted : east, north
        A place is to be shown.
    save_wanted, load_wanted
        The log is to be written to a file, or read from one.
    every_wanted : bool
        All lines are to be listed, or the last few.
    """

    rewritten = pyqtSignal(list)
    wanted = pyqtSignal(float, float)
    save_wanted = pyqtSignal()
    load_wanted = pyqtSignal()
    every_wanted = pyqtSignal(bool)

    def __init__(self, log: Log, unit: str, missed: set[int], palette: theme.Palette, *, every: bool) -> None:
        super().__init__()
        self.log, self._palette = log, palette
        entries = self.entries = list(log.entries)
        self.boxes: dict[int, QCheckBox] = {}
        self.buttons: dict[tuple[str, int], QToolButton] = {}
        self.setProperty("manual", "trim-ground")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        row = QHBoxLayout()
        for text, signal, tip in (
            ("Save …", self.save_wanted, "Write the log to a text file, one edit a line"),
            ("Load …", self.load_wanted, "Replace the log by that of a text file"),
        ):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.clicked.connect(lambda _=False, signal=signal: signal.emit())
            row.addWidget(button)
        row.addStretch()
        layout.addLayout(row)
        table = QGridLayout()
        table.setHorizontalSpacing(2)
        table.setVerticalSpacing(2)
        table.setColumnStretch(1, 1)
        numbers = list(range(len(entries), 0, -1))
        for k, number in enumerate(numbers if every else numbers[:FEW]):
            self._add_row(table, k, number, unit, number in missed)
        layout.addLayout(table)
        if len(entries) > FEW:
            more = QPushButton("Fewer" if every else f"All {len(entries)}")
            more.clicked.connect(lambda: self.every_wanted.emit(not every))
            layout.addWidget(more, alignment=Qt.AlignmentFlag.AlignLeft)

    def _add_row(self, table: QGridLayout, row: int, number: int, unit: str, missed: bool) -> None:
        line = self.entries[number - 1]
        box = QCheckBox()
        box.setChecked(not line.startswith(OFF))
        box.setAccessibleName(f"Edit {number} counts")
        box.setToolTip("Switch this edit off or on; all others stay")
        box.toggled.connect(lambda on: self._switch(number, on=on))
        self.boxes[number] = box
        table.addWidget(box, row, 0, Qt.AlignmentFlag.AlignTop)
        colour = self._palette.error if missed else self._palette.ink if box.isChecked() else self._palette.quiet
        said = escape(f"{number}. {self.log.shown(line, unit)}") + (" — does not apply" if missed else "")
        text = QLabel(f'<a href="place" style="color:{colour}; text-decoration:none;">{said}</a>')
        text.setWordWrap(True)
        text.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        text.setToolTip("Show the place")
        text.linkActivated.connect(lambda _: self.wanted.emit(*self.log.place(line)))
        table.addWidget(text, row, 1)
        for column, (sign, tip, run) in enumerate(
            (
                ("▴", "Make it later", partial(self._shift, number, 1)),
                ("▾", "Make it earlier", partial(self._shift, number, -1)),
                ("✕", "Remove it from the log", partial(self._take_out, number)),
            ),
            2,
        ):
            button = flat_button(sign, run, tip)
            button.setProperty("small", "true")
            button.setFixedWidth(24)
            self.buttons[sign, number] = button
            table.addWidget(button, row, column, Qt.AlignmentFlag.AlignTop)
        self.buttons["▴", number].setEnabled(number < len(self.entries))
        self.buttons["▾", number].setEnabled(number > 1)

    def _switch(self, number: int, *, on: bool) -> None:
        entries = list(self.entries)
        own = entries[number - 1].removeprefix(OFF)
        entries[number - 1] = own if on else OFF + own
        self.rewritten.emit(entries)

    def _shift(self, number: int, by: int) -> None:
        entries = list(self.entries)
        entries.insert(number - 1 + by, entries.pop(number - 1))
        self.rewritten.emit(entries)

    def _take_out(self, number: int) -> None:
        self.rewritten.emit([line for k, line in enumerate(self.entries, 1) if k != number])
