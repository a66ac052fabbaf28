"""The Make menu: what can be made from the chosen cards, and what is asked or drawn before."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QDialog, QMenu, QWidget

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.data.frame import UNKNOWN
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion
from vastgrid.job.lineage import Role
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.ask_dialog import AskDialog
from vastgrid.qt.dialogs.tries_dialog import TriesDialog
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.widgets import glyphs, theme
from vastgrid.qt.widgets.buttons import entry
from vastgrid.session.steps import check_usable, settled


def drawn_field(conversion: Conversion) -> str:
    """Return which parameter of a conversion is a place that can be drawn, if any."""
    return next((each.name for each in declare.fields(conversion.params) if each.how.editor == "drawn"), "")


class MakeMenu:
    """What Make offers.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose job it is.
    making : Making
        Makes it.
    plan : PlanView
        Where areas are drawn.
    palette : callable
        Gives the theme.
    """

    def __init__(
        self, parent: QWidget, desk: Desk, making: Making, plan: PlanView, palette: Callable[[], theme.Palette]
    ) -> None:
        self.parent, self.desk, self.making, self.plan, self.palette = parent, desk, making, plan, palette
        desk.asked.connect(lambda *asked: desk.guarded(lambda: self._ask(*asked).open()))

    def fill(self, menu: QMenu, actions: dict[str, QAction]) -> None:
        """Put what can be made from the chosen cards into a menu."""
        nodes = list(self.desk.selection)
        known = [dataset for node in nodes if (dataset := self.desk.session.dataset(node)) is not None]
        able = catalog.targets(known) if known and len(known) == len(nodes) else ()
        able = tuple(each for each in able if not each.answers)
        for conversion in able:
            if conversion.resumes:
                continue
            try:
                given = check_usable(conversion, known)
                estimate = conversion.estimate(given, settled(conversion, given, conversion.params()))
            except VastGridError as error:
                estimate = str(error)
            entry(
                menu,
                conversion.title + (f"   ({estimate})" if estimate else ""),
                partial(self.desk.guarded, partial(self.making.make, conversion.id, nodes, {})),
                glyphs.icon(conversion.gives([type(each) for each in known]).kind, self.palette().action),
            )
        for conversion in able:
            if drawn_field(conversion):
                menu.addAction(actions[f"draw_{conversion.id}"])
            if conversion.resumes:
                menu.addSeparator()
                own = "pick" if PointSet in conversion.takes else "hand_"
                for key, action in actions.items():
                    if key.startswith(own):
                        menu.addAction(action)
        if not able:
            entry(menu, "Choose cards below first" if not nodes else "Nothing can be made from these together")

    def _ask(self, operation: str, inputs: list[str], words: dict[str, str]) -> QDialog:
        """Return what asks before a conversion is made: a table where it can be tried, otherwise its form."""
        conversion = catalog.conversion_named(operation)
        known = check_usable(conversion, [self.desk.session.named(node) for node in inputs])
        params = settled(conversion, known, declare.build(conversion.params, words))
        if not conversion.tries(known, params):
            return self.ask_dialog(operation, inputs, words)
        dialog = TriesDialog(self.parent, self.desk, conversion, inputs, words)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.shown.connect(self.plan.show_preview)
        dialog.chosen.connect(
            lambda chosen: self.desk.guarded(lambda: self.making.make(operation, inputs, chosen, asked=True))
        )
        return dialog

    def ask_dialog(self, operation: str, inputs: list[str], words: dict[str, str]) -> AskDialog:
        """Return the dialog that asks for a conversion's parameters; accepting it makes the result."""
        dialog = AskDialog(self.parent, self.desk.session, catalog.conversion_named(operation), inputs, words)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)

        def accepted() -> None:
            self.making.make(operation, inputs, dialog.words(), roles=dialog.said_roles(), asked=True)

        dialog.accepted.connect(lambda: self.desk.guarded(accepted))
        return dialog

    def draw(self, operation: str) -> None:
        """Let an area be drawn in the plan, then make something over it from the chosen card."""
        conversion = catalog.conversion_named(operation)
        chosen = [node for node in self.desk.selection if self.desk.session.graph[node].role is not Role.DELIVERY]
        if len(chosen) != 1:
            raise CallError(f"choose one card first: {conversion.title.lower()} is made from it")

        def drawn(corners: list[tuple[float, float]]) -> None:
            own = self.desk.dataset(chosen[0])
            field = declare.field_named(conversion.params, drawn_field(conversion))
            area = field.kind(tuple(corners), own.frame if own is not None else UNKNOWN)
            self.making.make(operation, chosen, {field.name: declare.value_text(area)})

        self.plan.draw_area(lambda corners: self.desk.guarded(lambda: drawn(corners)))
        self.desk.say("Click the corners of the area; Enter or a double click ends, Esc gives up")
