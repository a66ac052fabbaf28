"""Making cards from cards: sentences changed, what follows made again, a preview meanwhile."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from vastgrid import catalog
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import listed
from vastgrid.execution.inspection import by_hand
from vastgrid.execution.steps import lightly, settled
from vastgrid.lineage.graph import Graph, Node, Role
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk, Words
from vastgrid.qt.desk.drafting import Drafting

# What follows a change is made again at once if it took no longer than this the last time.
QUICK_SECONDS = 15.0


class Making:
    """What Make does, and what changing a sentence does.

    Parameters
    ----------
    desk : Desk
        Whose job it is.
    """

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self.drafting = Drafting(desk)

    def make(
        self,
        operation: str,
        inputs: list[str],
        words: dict[str, str],
        *,
        roles: Sequence[str] = (),
        asked: bool = False,
    ) -> None:
        """Make something from cards; it joins the lineage when it is done.

        A conversion that no default would suit is asked for first, and so are roles that could be exchanged; one that lacks
        an input is begun, and waits for it.
        """
        conversion = catalog.conversion_named(operation)
        data = [self.desk.session.named(card) for card in inputs]
        if not roles and conversion.assigned(data) is None and conversion.begun(data) is not None:
            self.drafting.begin(operation, inputs, words)
            return
        if (conversion.ask or (not conversion.single and not conversion.answers)) and not asked:
            self.desk.asked.emit(operation, inputs, words)
            return
        if asked:
            self.desk.session.remember("asked", operation, declare.again(conversion.params, words))
        node = self.desk.session.plan(operation, inputs, words, roles)
        self.run_new(node, f"making {node.name}", f"make {node.name}")

    def run_new(
        self, node: Node, title: str, text: str, then: Callable[[list[str]], None] = lambda cards: None
    ) -> None:
        """Run a new step; its cards join the lineage when it is done, and `then` is called with them."""
        session = self.desk.session
        graph = session.graph.with_node(node)

        def work(progress: Progress) -> Graph:
            return session.remake(graph, [node.outputs[0].card], progress)

        def done(made: Graph) -> None:
            present = session.graph
            if not all(i in present for i in node.inputs):
                return
            own = made.nodes[node.id]
            own = own.with_name(present.free_name(own.name))
            session.accept([own], text)
            self.desk.selection = [own.outputs[0].card]
            delivered = own.outcome.delivery if own.outcome else None
            if own.role is Role.MADE and catalog.conversion_named(own.operation).answers:
                self._show_answer(own)
            self.desk.say(delivered.sentence() if delivered else f"{own.name} is made")
            then([output.card for output in own.outputs])

        self.desk.start(title, work, done)

    def _show_answer(self, node: Node) -> None:
        """Bring the place into the views that an answer speaks of."""
        if node.outcome is not None and node.outcome.loss is not None:
            self.desk.place.emit(*node.outcome.loss.at, False)

    def change_field(self, node: str, field: str, text: str) -> None:
        """Change one field of a sentence; what follows is out of date, and made again where that is quick."""
        self.change_fields(node, {field: text})

    def change_fields(self, node: str, words: Words) -> None:
        """Change fields of a sentence as one step; what follows is out of date, and made again where that is quick."""
        session = self.desk.session
        if node not in session.graph:
            return
        changed = session.with_words(node, words)
        if changed.words == session.graph[node].words:
            return
        what = listed([field.replace("_", " ") for field in words])
        session.change(session.graph.with_node(changed), f"change {what} of {changed.name}")
        if changed.role is Role.DELIVERY:
            self.desk.changed.emit()
            self.desk.say(f"{changed.name} is out of date; press “Make again” when you are ready")
            return
        self.follow([node])

    def edit(self, node: str, entry: str) -> None:
        """Add an entry to the log of edits of a card, or begin one on it."""
        own = self.desk.session.editing.add(node, entry)
        if own != node:
            # What was taken out would show what lies beneath.
            self.desk.session.show(node, shown=False)
        self.desk.selection = [own]
        self.follow([own])

    def rewrite_edits(self, node: str, entries: Sequence[str]) -> None:
        """Let the log of edits of a card be another one, and make again what follows."""
        self.desk.session.editing.rewrite(node, entries)
        self.follow([node])

    def take_back(self) -> None:
        """Take the last change back; what an edit had changed is made again."""
        self.desk.undo()
        self._follow_edits()

    def do_again(self) -> None:
        """Do again what was taken back; what an edit changes is made again."""
        self.desk.redo()
        self._follow_edits()

    def _follow_edits(self) -> None:
        session = self.desk.session
        stale = session.stale(session.graph)
        grown = [card for card in stale if by_hand(session.graph.node(card))]
        if grown:
            self.follow(grown)

    def remake(self, nodes: Sequence[str]) -> None:
        """Make cards again, after whatever they are made from."""
        session = self.desk.session
        graph = session.graph
        ordered = session.stale_before(nodes)
        if not ordered:
            return
        name = graph[ordered[-1]].name

        def work(progress: Progress) -> Graph:
            return session.remake(graph, ordered, progress)

        def done(made: Graph) -> None:
            overtaken = session.merged(made, graph, ordered)
            self.desk.say(f"{name} is made again")
            if overtaken:
                self.remake(overtaken)

        self.desk.start(f"making {name} again", work, done, ordered)

    def remake_all(self) -> None:
        """Make everything again that is out of date, deliveries included."""
        stale = self.desk.session.stale(self.desk.session.graph)
        if not stale:
            self.desk.say("nothing is out of date")
            return
        self.remake(stale)

    def follow(self, nodes: Sequence[str]) -> None:
        """Make cards and what follows them again where that is quick; otherwise say that it is out of date."""
        following, took = self.desk.session.following(nodes)
        self.desk.changed.emit()
        if following and took <= QUICK_SECONDS:
            self.remake(following)
        elif following:
            self.desk.say("what follows is out of date; press “Make again” when you are ready")

    # -- preview while a sentence is edited

    def preview_field(self, node: str, field: str, text: str) -> None:
        """Show what a field would make, where its conversion can say that at once."""
        session = self.desk.session
        own = session.graph.node(node)
        conversion = catalog.conversion_named(own.operation) if own.role is Role.MADE else None
        if conversion is None:
            return
        words = {**session.executor.words(own), field: text}

        def work(progress: Progress) -> Dataset | None:
            params = declare.build(conversion.params, words)
            given = session.executor.inputs(session.graph, own)
            return lightly(conversion, given, settled(conversion, given, params), progress)

        self.desk.behind.cancel_all()
        self.desk.start_behind(self.desk.behind, "preview", work, self.desk.previewed.emit)

    def end_preview(self) -> None:
        """Take the preview away."""
        self.desk.behind.cancel_all()
        self.desk.previewed.emit(None)
