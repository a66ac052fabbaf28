"""A label of contours taken from one place to another by hand."""

from __future__ import annotations

import numpy as np

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours
from vastgrid.measures.snap import Caught
from vastgrid.params import declare
from vastgrid.params.declare import Field
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.views.tools import Tool
from vastgrid.terrain.lines.labelling import NEAR, Moves


class MovingLabels:
    """Moves labels of the chosen card.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    making : Making
        Makes the card again.
    plan : PlanView
        Where labels are taken up and put down.
    """

    def __init__(self, desk: Desk, making: Making, plan: PlanView) -> None:
        self.desk, self.making, self.plan = desk, making, plan

    def _chosen(self) -> tuple[str, Field]:
        """Return the chosen card of contours with labels, and its parameter that keeps what was moved.

        Raises
        ------
        CallError
            If none with labels is chosen.
        """
        chosen = [card for card in self.desk.selection if self.desk.session.graph[card].kind == Contours.kind]
        field = catalog.parameter_of(self.desk.session.graph[chosen[0]].operation, Moves) if len(chosen) == 1 else None
        if field is None or not narrowed(self.desk.session.named(chosen[0]), Contours).labels:
            raise CallError("choose contours with labels first (Make, Labels)")
        return chosen[0], field

    def take_up(self) -> None:
        """Let a label be taken up by one click and put down by the next."""
        card, field = self._chosen()
        self.plan.use(
            Tool(lambda places: self.desk.guarded(lambda: self._moved(card, field, places)), most=2, snaps=False)
        )
        self.desk.say("Click a label, then where it should stand; Esc gives up")

    def _moved(self, card: str, field: Field, places: list[Caught]) -> None:
        contours = narrowed(self.desk.session.named(card), Contours)
        labels = contours.labels
        first, last = places[0], places[-1]
        away = np.hypot(labels["place"][:, 0] - first.east, labels["place"][:, 1] - first.north)
        k = int(away.argmin())
        if away[k] > max(float(labels["wide"][k]), 12.0 * self.plan.view.size):
            raise CallError("there is no label at that place; click on one")
        session = self.desk.session
        node = session.graph[card]
        moves = declare.parse_value(field, session.executor.words(node.node).get(field.name, ""))
        assert isinstance(moves, Moves)
        was = (float(labels["place"][k, 0]), float(labels["place"][k, 1]))
        now = (last.east, last.north)
        level = float(labels["level"][k])
        more = moves.then(level, was, now, NEAR * contours.label_height)
        self.making.change_fields(card, {field.name: declare.value_text(more)})
        self.desk.say(
            f"The label {contours.texts()[k]} stands where you put it, on its contour, also when contours are made again"
        )
