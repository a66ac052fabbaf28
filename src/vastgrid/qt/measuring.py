"""Measuring in the plan, and checking that contours keep their interval; results can be copied as text."""

from __future__ import annotations

from html import escape
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.tin import Tin
from vastgrid.measures.measure import IntervalCheck, chain_rows, check_interval
from vastgrid.measures.snap import Caught
from vastgrid.qt import theme
from vastgrid.qt.interval_dialog import IntervalDialog
from vastgrid.qt.tools import AreaTool, Tool

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


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
    window : MainWindow
        Whose data is measured.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.readings = Readings(window.plan)

    def distance(self) -> None:
        """Measure from place to place, as long as places are clicked."""
        self._begin(Tool(self._done, changed=self._changed, ended=self.window.views.tool_ended), "Measure")
        self.window.say("Click places; Backspace takes one back, Enter ends. Vertices, lines and edges are caught")

    def area(self) -> None:
        """Measure an area."""
        tool = AreaTool(self._done, least=3, changed=self._changed_area, ended=self.window.views.tool_ended)
        self._begin(tool, "Area")
        self.window.say("Click the corners of the area; Enter ends it")

    def _begin(self, tool: Tool, title: str) -> None:
        self.readings.hide()
        self.window.plan.use(tool)
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
        self.window.say("measured; Copy puts it on the clipboard")

    def _frame(self) -> Any:
        return self.window.sectioning.frame_()

    # -- the interval of contours

    def check_interval(self) -> None:
        """Ask what the interval should be, and measure whether the chosen contours keep it."""
        window = self.window
        chosen = [n for n in window.lineage.selection if isinstance(window.dataset(n), Contours)]
        shown = [n for n in window.dressing.order() if isinstance(window.dataset(n), Contours)]
        nodes = chosen or shown
        if not nodes:
            raise CallError("there are no contours in this job; make some first")
        node = nodes[0]
        contours = window.dataset(node)
        assert isinstance(contours, Contours)
        dialog = IntervalDialog(window, contours)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(lambda: self.measure_interval(node, dialog.asked(), dialog.pairs.value()))
        dialog.open()

    def measure_interval(self, node: str, asked: float | None, pairs: int) -> None:
        """Measure random neighbouring pairs of a card's contours, on the surface they were made from where there is one."""
        window = self.window
        contours = window.dataset(node)
        if not isinstance(contours, Contours):
            return
        inputs = [window.dataset(i) for i in window.session.graph[node].inputs]
        surface = next((each for each in inputs if isinstance(each, Tin | Grid) and each.has_heights), None)

        def work(progress: Progress) -> IntervalCheck:
            return check_interval(contours, surface, asked=asked, pairs=pairs)

        def done(made: IntervalCheck) -> None:
            unit = unit_word(made.unit)
            rows = [
                ("Asked for", f"{made.asked:g}{unit}" if made.asked else "–"),
                ("Found", f"{made.found:g}{unit}"),
                ("Pairs that keep it", f"{made.keep} of {made.pairs}"),
            ]
            if surface is not None:
                rows.append((f"From {surface.name}", f"{made.on_surface:.3f}{unit} at most"))
            verdict = "The interval is kept" if made.good else "The interval is not kept"
            self.readings.show_rows(verdict, rows)
            window.plan.mark = made.worst
            window.plan.update()
            window.say(made.sentence())

        window.start(f"checking the interval of {contours.name}", work, done)
