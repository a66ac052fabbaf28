"""Making cards from cards: what is offered, sentences changed, what follows made again, a preview meanwhile."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMenu

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import UNKNOWN
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.job.lineage import Graph, Node, Role
from vastgrid.params import declare
from vastgrid.qt import glyphs
from vastgrid.qt.ask_dialog import AskDialog
from vastgrid.qt.buttons import entry
from vastgrid.session.deliver import Delivery
from vastgrid.session.steps import check_usable, settled
from vastgrid.tasks.runner import Task

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


def drawn_field(conversion: Conversion) -> str:
    """Return which parameter of a conversion is an area that can be drawn, if any."""
    return next((each.name for each in declare.fields(conversion.params) if each.how.editor == "drawn"), "")


class Making:
    """What the window's Make does, and its sentences.

    Parameters
    ----------
    window : MainWindow
        Whose job it is.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def fill_menu(self, menu: QMenu, nodes: list[str]) -> None:
        datasets = [self.window.session.dataset(node) for node in nodes]
        known = [d for d in datasets if d is not None]
        able = catalog.targets(known) if known and len(known) == len(nodes) else ()
        for conversion in able:
            if conversion.resumes or conversion.answers:
                continue
            try:
                given = check_usable(conversion, known)
                estimate = conversion.estimate(given, settled(conversion, given, conversion.params()))
            except VastGridError as error:
                estimate = str(error)
            entry(
                menu,
                conversion.title + (f"   ({estimate})" if estimate else ""),
                partial(self.window.guarded, partial(self.make, conversion.id, list(nodes), {})),
                glyphs.icon(conversion.gives([type(each) for each in known]).kind, self.window.palette_.action),
            )
        for conversion in able:
            if drawn_field(conversion):
                menu.addAction(self.window.actions_[f"draw_{conversion.id}"])
        if not able:
            entry(menu, "Choose cards below first" if not nodes else "Nothing can be made from these together")

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

        A conversion that no default would suit is asked for first, and so are roles that could be exchanged.
        """
        conversion = catalog.conversion_named(operation)
        if (conversion.ask or (len(conversion.inputs) > 1 and not conversion.answers)) and not asked:
            self.ask_dialog(operation, inputs, words).open()
            return
        node = self.window.session.plan(operation, inputs, words, roles)
        self.run_new(node, f"making {node.name}", f"make {node.name}")

    def ask_dialog(self, operation: str, inputs: list[str], words: dict[str, str]) -> AskDialog:
        """Return the dialog that asks for a conversion's parameters; accepting it makes the result."""
        dialog = AskDialog(self.window, self.window.session, catalog.conversion_named(operation), inputs, words)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(
            lambda: self.window.guarded(
                lambda: self.make(operation, inputs, dialog.words(), roles=dialog.said_roles(), asked=True)
            )
        )
        return dialog

    def draw(self, operation: str) -> None:
        """Let an area be drawn in the plan, then make something over it from the chosen card."""
        conversion = catalog.conversion_named(operation)
        chosen = [n for n in self.window.lineage.selection if self.window.session.graph[n].role is not Role.DELIVERY]
        if len(chosen) != 1:
            raise CallError(f"choose one card first: {conversion.title.lower()} is made from it")

        def drawn(corners: list[tuple[float, float]]) -> None:
            own = self.window.dataset(chosen[0])
            field = declare.field_named(conversion.params, drawn_field(conversion))
            area = field.kind(tuple(corners), own.frame if own is not None else UNKNOWN)
            self.make(operation, chosen, {field.name: declare.value_text(area)})

        self.window.plan.draw_area(lambda corners: self.window.guarded(lambda: drawn(corners)))
        self.window.say("Click the corners of the area; Enter or a double click ends, Esc gives up")

    def run_new(self, node: Node, title: str, text: str) -> None:
        session = self.window.session
        graph = session.graph.with_node(node)

        def work(progress: Progress) -> Graph:
            return session.remake(graph, [node.outputs[0].card], progress)

        def done(made: Graph) -> None:
            present = self.window.session.graph
            if all(i in present for i in node.inputs):
                own = made.nodes[node.id]
                own = own.with_name(present.free_name(own.name))
                self.window.session.accept([own], text)
                self.window.lineage.selection = [own.outputs[0].card]
                delivered = own.outcome.delivery if own.outcome else None
                if own.role is Role.MADE and catalog.conversion_named(own.operation).answers:
                    self._show_answer(own)
                self.window.say(Delivery.from_json(delivered).sentence() if delivered else f"{own.name} is made")

        self.window.start(title, work, done)

    def _show_answer(self, node: Node) -> None:
        """Bring the place into the views that an answer speaks of."""
        if node.outcome is not None and node.outcome.loss is not None:
            self.window.views.go_to(*node.outcome.loss["at"], close=False)

    def change_field(self, node: str, field: str, text: str) -> None:
        """Change one field of a sentence; what follows is out of date, and made again where that is quick."""
        self.change_fields(node, {field: text})

    def change_fields(self, node: str, words: Mapping[str, str | None]) -> None:
        """Change fields of a sentence as one step; what follows is out of date, and made again where that is quick."""
        session = self.window.session
        if node not in session.graph:
            return
        changed = session.with_words(node, words)
        if changed.words == session.graph[node].words:
            return
        graph = session.graph.with_node(changed)
        what = listed([field.replace("_", " ") for field in words])
        session.change(graph, f"change {what} of {changed.name}")
        if changed.role is Role.DELIVERY:
            self.window.refresh()
            self.window.say(f"{changed.name} is out of date; press “Make again” when you are ready")
            return
        self.window.sourcing.follow(node)

    def remake(self, nodes: Sequence[str]) -> None:
        """Make cards again, after whatever they are made from."""
        session = self.window.session
        graph = session.graph
        ordered = session.stale_before(nodes)
        if not ordered:
            return
        names = graph[ordered[-1]].name

        def work(progress: Progress) -> Graph:
            return session.remake(graph, ordered, progress)

        def done(made: Graph) -> None:
            overtaken = session.merged(made, graph, ordered)
            self.window.say(f"{names} is made again")
            if overtaken:
                self.remake(overtaken)

        self.window.start(f"making {names} again", work, done, ordered)

    def remake_all(self) -> None:
        """Make everything again that is out of date, deliveries included."""
        stale = self.window.session.stale(self.window.session.graph)
        if not stale:
            self.window.say("nothing is out of date")
            return
        self.remake(stale)

    # -- preview while a sentence is edited

    def preview_field(self, node: str, field: str, text: str) -> None:
        session = self.window.session
        own = session.graph.node(node)
        conversion = catalog.conversion_named(own.operation) if own.role is Role.MADE else None
        if conversion is None or conversion.preview is None:
            return
        preview = conversion.preview
        words = {**session.executor.words(own), field: text}

        def work(progress: Progress) -> Dataset | None:
            params = declare.build(conversion.params, words)
            given = session.executor.inputs(session.graph, own)
            return preview(given, settled(conversion, given, params), progress)

        self.window.previews.cancel_all()
        self.window.previews.start(
            Task(
                title="preview",
                work=work,
                done=lambda made: self.window.bridge.post(lambda: self._show_preview(made)),
                failed=lambda *_: None,
            )
        )

    def _show_preview(self, made: Dataset | None) -> None:
        editor = self.window.panel.field_editor
        if editor is not None and editor.isVisible():
            self.window.plan.show_preview(made)

    def end_preview(self) -> None:
        self.window.previews.cancel_all()
        self.window.plan.show_preview(None)
