"""Measuring in the plan, and checking that contours keep their interval; results can be copied as text."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.measures.measure import chain_rows
from vastgrid.measures.snap import Caught
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.views.tools import AreaTool, Tool
from vastgrid.qt.widgets import theme


class Readings(QFrame):
    """A small sheet over the plan with what was measured."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("box")
        self.rows: list[tuple[str, str]] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 8, 12, 8)
        self.title = QLabel()
        layout.addWidget(self.title)
        self.table = QLabel()
        self.table.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        layout.addWidget(self.table)
        row = QHBoxLayout()
        self.copy = QPushButton("Copy")
        self.copy.clicked.connect(self.copy_text)
        self.close_ = QPushButton("Done")
        self.close_.clicked.connect(self.hide)
        row.addWidget(self.copy)
        row.addWidget(self.close_)
        row.addStretch()
        layout.addLayout(row)
        self.hide()

    def show_rows(self, title: str, rows: list[tuple[str, str]]) -> None:
        """Show figures."""
        self.rows = rows
        self.title.setText(f"<b>{title}</b>")
        # One label for all: it follows the pointer, so nothing is built anew.
        cells = "".join(
            f'<tr><td>{escape(name)}</td><td align="right" style="padding-left:14px; font-family:{theme.MONO};">'
            f"{escape(value)}</td></tr>"
            for name, value in rows
        )
        self.table.setText(f'<table cellspacing="0" cellpadding="1">{cells}</table>')
        self.show()
        self.adjustSize()
        self.place()

    def place(self) -> None:
        """Stay in the upper left corner of the view."""
        self.move(12, 12)
        self.raise_()

    def text(self) -> str:
        """Return the figures as text, a line each."""
        return "\n".join(f"{name}\t{value}".strip() for name, value in self.rows)

    def copy_text(self) -> None:
        """Put the figures on the clipboard."""
        board = QGuiApplication.clipboard()
        if board is not None:
            board.setText(self.text())


class Measuring:
    """Distances, chains, areas, and the interval of contours.

    Parameters
    ----------
    desk : Desk
        Whose data is measured.
    plan : PlanView
        Where places are clicked.
    """

    def __init__(self, desk: Desk, plan: PlanView) -> None:
        self.desk, self.plan = desk, plan
        self.readings = Readings(plan)

    def distance(self) -> None:
        """Measure from place to place, as long as places are clicked."""
        self._begin(Tool(self._done, changed=self._changed, ended=lambda: self.desk.say("")), "Measure")
        self.desk.say("Click places; Backspace takes one back, Enter ends. Vertices, lines and edges are caught")

    def area(self) -> None:
        """Measure an area."""
        tool = AreaTool(self._done, least=3, changed=self._changed_area, ended=lambda: self.desk.say(""))
        self._begin(tool, "Area")
        self.desk.say("Click the corners of the area; Enter ends it")

    def _begin(self, tool: Tool, title: str) -> None:
        self.readings.hide()
        self.plan.use(tool)
        self._title = title

    def _changed(self, places: list[Caught], pointer: Caught | None) -> None:
        every = [*places, *([pointer] if pointer is not None and places else [])]
        if len(every) >= 2:
            self.readings.show_rows("Measured", chain_rows(every, self._frame()))

    def _changed_area(self, places: list[Caught], pointer: Caught | None) -> None:
        every = [*places, *([pointer] if pointer is not None and places else [])]
        if len(every) >= 3:
            self.readings.show_rows("Area", chain_rows(every, self._frame(), closed=True))

    def _done(self, places: list[Caught]) -> None:
        if self._title == "Area":
            self._changed_area(places, None)
        else:
            self._changed(places, None)
        self.desk.say("measured; Copy puts it on the clipboard")

    def _frame(self) -> Frame:
        items = self.plan.items
        return items[0].dataset.frame if items else UNKNOWN
