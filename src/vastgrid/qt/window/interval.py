"""Asking whether contours keep their interval, and showing what was found."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from vastgrid.base.errors import CallError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours
from vastgrid.measures.heights import surface_of
from vastgrid.measures.measure import IntervalCheck, check_interval
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.interval_dialog import IntervalDialog
from vastgrid.qt.views.measuring import Measuring


class AskInterval:
    """Checks the interval of contours.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose contours they are.
    measuring : Measuring
        Shows what was found.
    """

    def __init__(self, parent: QWidget, desk: Desk, measuring: Measuring) -> None:
        self.parent, self.desk, self.measuring = parent, desk, measuring

    def ask(self) -> None:
        """Ask what the interval should be, and measure whether the chosen contours keep it."""
        every = [
            node for node in self.desk.session.drawing_order() if self.desk.session.graph[node].kind == Contours.kind
        ]
        nodes = [node for node in self.desk.selection if node in every] or every
        if not nodes:
            raise CallError("there are no contours in this job; make some first")
        contours = narrowed(self.desk.session.named(nodes[0]), Contours)
        dialog = IntervalDialog(self.parent, contours)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(lambda: self.measure(nodes[0], dialog.asked(), dialog.pairs.value()))
        dialog.open()

    def measure(self, node: str, asked: float | None, pairs: int) -> None:
        """Measure random neighbouring pairs of a card's contours, on the surface they were made from where there is one."""
        contours = narrowed(self.desk.session.named(node), Contours)
        inputs = (self.desk.dataset(i) for i in self.desk.session.graph[node].inputs)
        surface = next((own for each in inputs if (own := surface_of(each)) is not None), None)

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
                rows.append((f"From {surface.name}", f"{gap_words(made.on_surface)}{unit} at most"))
            verdict = "The interval is kept" if made.good else "The interval is not kept"
            self.measuring.readings.show_rows(verdict, rows)
            self.measuring.plan.mark = made.worst
            self.measuring.plan.update()
            self.desk.say(made.sentence())

        self.desk.start(f"checking the interval of {contours.name}", work, done)
