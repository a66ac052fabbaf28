"""Looking for findings behind everything else, and what is done about them."""

from __future__ import annotations

from typing import Any

from vastgrid import catalog
from vastgrid.base.errors import VastGridError
from vastgrid.base.findings import Remedy
from vastgrid.base.progress import Progress
from vastgrid.execution.inspection import Noticed, by_hand
from vastgrid.lineage.graph import Node
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.tasks.runner import Runner


class Inspecting:
    """Keeps the findings of the job up to date.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    making : Making
        Makes what follows again.
    """

    def __init__(self, desk: Desk, making: Making) -> None:
        self.desk, self.making = desk, making
        self._runner = Runner(lambda task: None)
        self._asked: set[tuple[str, str, str]] = set()
        self.fault = ""

    @property
    def busy(self) -> bool:
        """Whether something is being looked at."""
        return self._runner.busy

    def see_to(self) -> None:
        """Look for whatever has not been looked for yet."""
        session = self.desk.session
        graph = session.graph
        due = {(node, check.id, graph.key(node)) for node, check in session.inspection.due(graph)}
        if not due or (due <= self._asked and self.busy):
            return
        self._asked = due

        def work(progress: Progress) -> Any:
            return session.inspection.look(graph, session.named_dataset, progress)

        def done(made: Any) -> None:
            session.inspection.take_in(session.graph, made)
            session.save()
            self.desk.news.emit()

        def failed(why: str) -> None:
            self.fault = why

        self._runner.cancel_all()
        self.desk.start_behind(self._runner, "looking for findings", work, done, failed)

    # -- what can be done about a finding

    def go_to(self, noticed: Noticed) -> None:
        """Choose a finding's card, show it, and bring its place into the views."""
        desk = self.desk
        if noticed.node not in desk.session.graph:
            return
        desk.select([noticed.node])
        if not desk.session.graph[noticed.node].shown and noticed.finding.at is not None:
            desk.toggle_shown(noticed.node)
        if noticed.finding.at is not None:
            desk.place.emit(*noticed.finding.at, True)

    def accept(self, noticed: Noticed, note: str) -> None:
        """Accept a finding with a note."""
        self.desk.session.inspection.accept(noticed.node, noticed.finding, note)
        self.desk.session.save()
        self.desk.news.emit()

    def reopen(self, noticed: Noticed) -> None:
        """Take an acceptance back."""
        self.desk.session.inspection.reopen(noticed.node, noticed.finding)
        self.desk.session.save()
        self.desk.news.emit()

    def mend(self, node: str, remedy: Remedy) -> None:
        """Do what a finding offers; it is a step of the history like any other."""
        session = self.desk.session
        if remedy.kind == "edit":
            self.making.edit(node, remedy.values["entry"])
            return
        node = self._before_hands(node)
        if remedy.kind == "words":
            self.making.change_fields(node, remedy.values)
            return
        own = session.graph[node]

        def done(made: Node) -> None:
            if node in session.graph:
                session.accept([made], f"read {own.name} in other units")
                self.making.follow([node])
                self.desk.say(f"{own.name}: {remedy.text[0].lower()}{remedy.text[1:]}; Ctrl+Z takes it back")

        self.desk.start(
            f"reading {own.name} again",
            lambda progress: session.sources.in_other_units(node, remedy.values, progress),
            done,
            [node],
        )

    def _before_hands(self, node: str) -> str:
        """Return the card whose sentence or file is behind one that was worked on by hand."""
        graph = self.desk.session.graph
        while by_hand(graph.node(node)):
            node = graph.node(node).inputs[0]
        return node

    def can_mend(self, node: str, remedy: Remedy | None) -> bool:
        """Return whether a remedy fits the card: a file has no sentence, and a made surface no units of its own."""
        if remedy is None:
            return False
        session = self.desk.session
        try:
            if remedy.kind == "edit":
                return any(
                    session.graph[node].kind in {kind.kind for kind in each.takes}
                    for each in catalog.CONVERSIONS
                    if each.resumes
                )
            node = self._before_hands(node)
            if remedy.kind == "words":
                return all(session.with_word(node, *pair) is not None for pair in remedy.values.items())
        except VastGridError:
            return False
        return bool(session.graph[node].path)

    def close(self) -> None:
        """Stop looking."""
        self._runner.close()
