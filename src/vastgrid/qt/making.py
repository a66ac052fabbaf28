"""Making cards from cards: what is offered, sentences changed, what follows made again, a preview meanwhile."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QMenu

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, listed
from vastgrid.job.lineage import Graph, Node, Role
from vastgrid.params import declare
from vastgrid.qt import glyphs
from vastgrid.qt.ask_dialog import AskDialog
from vastgrid.qt.buttons import entry
from vastgrid.session.deliver import Delivery
from vastgrid.tasks.runner import Task

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


def drawn_field(conversion: Conversion) -> str:
    """Return which parameter of a conversion is an area that can be drawn, if any."""
    return next((each.name for each in declare.fields(conversion.params) if each.param.drawn), "")


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
            try:
                estimate = conversion.estimate(known, conversion.settle(known, conversion.params()))
            except VastGridError as error:
                estimate = str(error)
            entry(
                menu,
                conversion.title + (f"   ({estimate})" if estimate else ""),
                partial(self.window.guarded, partial(self.make, conversion.id, list(nodes), {})),
                glyphs.icon(conversion.gives.kind or "dataset", self.window.palette_.action),
            )
        for conversion in able:
            if drawn_field(conversion):
                menu.addAction(self.window.actions_[f"draw_{conversion.id}"])
        if not able:
            entry(menu, "Choose cards below first" if not nodes else "Nothing can be made from these together")

    def make(self, operation: str, inputs: list[str], words: dict[str, str], *, asked: bool = False) -> None:
        """Make something from cards; it joins the lineage when it is done.

        A conversion that no default would suit is asked for first.
        """
        if catalog.conversion_named(operation).ask and not asked:
            self.ask_dialog(operation, inputs, words).open()
            return
        node = self.window.session.plan(operation, inputs, words)
        self.run_new(node, f"making {node.name}", f"make {node.name}")

    def ask_dialog(self, operation: str, inputs: list[str], words: dict[str, str]) -> AskDialog:
        """Return the dialog that asks for a conversion's parameters; accepting it makes the result."""
        dialog = AskDialog(self.window, self.window.session, catalog.conversion_named(operation), inputs, words)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.accepted.connect(
            lambda: self.window.guarded(lambda: self.make(operation, inputs, dialog.words(), asked=True))
        )
        return dialog

    def draw(self, operation: str) -> None:
        """Let an area be drawn in the plan, then make something over it from the chosen card."""
        conversion = catalog.conversion_named(operation)
        chosen = [n for n in self.window.lineage.selection if self.window.session.graph[n].role is not Role.DELIVERY]
        if len(chosen) != 1:
            raise CallError(f"choose one card first: {conversion.title.lower()} is made from it")

        def drawn(corners: list[tuple[float, float]]) -> None:
            decimals = 8 if self.window.plan.unit is Unit.DEGREE else 3
            area = ", ".join(f"{east:.{decimals}f} {north:.{decimals}f}" for east, north in corners)
            self.make(operation, chosen, {drawn_field(conversion): area})

        self.window.plan.draw_area(lambda corners: self.window.guarded(lambda: drawn(corners)))
        self.window.say("Click the corners of the area; Enter or a double click ends, Esc gives up")

    def run_new(self, node: Node, title: str, text: str) -> None:
        session = self.window.session
        graph = session.graph.with_node(node)

        def work(progress: Progress) -> Graph:
            return session.remake(graph, [node.id], progress)

        def done(made: Graph) -> None:
            present = self.window.session.graph
            if all(i in present for i in node.inputs):
                own = dataclasses.replace(made[node.id], name=present.free_name(node.name))
                self.window.session.accept([own], text)
                self.window.lineage.selection = [node.id]
                delivered = own.outcome.delivery if own.outcome else None
                self.window.say(Delivery.from_json(delivered).sentence() if delivered else f"{own.name} is made")

        self.window.start(title, work, done)

    def change_field(self, node: str, field: str, text: str) -> None:
        """Change one field of a sentence; what follows is out of date, and made again where that is quick."""
        self.change_fields(node, {field: text})

    def change_fields(self, node: str, words: dict[str, str]) -> None:
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
        stale = session.stale(graph)
        wanted: list[str] = []
        for node in nodes:
            before = self._before(node)
            wanted += [n for n in stale if n in before]
        ordered = [n for n in graph.nodes if n in {*wanted, *nodes}]
        names = graph[ordered[-1]].name if ordered else ""
        if not ordered:
            return

        def work(progress: Progress) -> Graph:
            return session.remake(graph, ordered, progress)

        def done(made: Graph) -> None:
            present = session.graph
            overtaken = []
            for node in ordered:
                own, asked = made[node], graph[node]
                if node not in present or own.outcome is None:
                    continue
                now = present[node]
                if (now.words, now.inputs, now.off, now.path) != (asked.words, asked.inputs, asked.off, asked.path):
                    # Changed while it was being made: what was typed since stays, and is made next.
                    overtaken.append(node)
                    continue
                name = own.name if now.name == asked.name else now.name
                present = present.changed(node, words=own.words, outcome=own.outcome, name=name)
            session.history = session.history.amended(present)
            session.save()
            self.window.say(f"{names} is made again")
            if overtaken:
                self.remake(overtaken)

        self.window.start(f"making {names} again", work, done, ordered)

    def _before(self, node: str) -> set[str]:
        found = {node}
        for each in reversed(list(self.window.session.graph.nodes)):
            if each in found:
                found |= set(self.window.session.graph[each].inputs)
        return found

    def remake_all(self) -> None:
        """Make everything again that is out of date, deliveries included."""
        stale = self.window.session.stale(self.window.session.graph)
        if not stale:
            self.window.say("nothing is out of date")
            return
        self.remake(stale)

    # -- preview while a sentence is edited

    def preview_field(self, node: str, field: str, text: str) -> None:
        own = self.window.session.graph[node]
        if own.operation != "contours" or field not in ("interval", "base"):
            return
        surface = self.window.dataset(own.inputs[0])
        if not isinstance(surface, Tin | Grid):
            return

        def work(progress: Progress) -> Contours | None:
            from vastgrid.convert.contours import level_lines, levels_between

            conversion = catalog.conversion_named("contours")
            params = conversion.settle([surface], declare.build(conversion.params, {**own.words, field: text}))
            pair = surface.extent().elevation
            if pair is None:
                return None
            unit = surface.frame.vertical
            levels, _ = levels_between(
                *pair, params.base.in_unit(unit, "base"), params.interval.in_unit(unit, "interval")
            )
            if len(levels) > 400:
                return None
            progress.report(0.1)
            plan, offsets, which = level_lines(surface, levels)
            progress.report(1.0)
            flags = [False] * len(which)
            return Contours(plan=plan, offsets=offsets, levels=levels[which], index=flags)  # type: ignore[arg-type]

        self.window.previews.cancel_all()
        self.window.previews.start(
            Task(
                title="preview",
                work=work,
                done=lambda made: self.window.bridge.post(lambda: self._show_preview(made)),
                failed=lambda *_: None,
            )
        )

    def _show_preview(self, contours: Contours | None) -> None:
        editor = self.window.panel.field_editor
        if editor is not None and editor.isVisible():
            self.window.plan.show_preview(contours)

    def end_preview(self) -> None:
        self.window.previews.cancel_all()
        self.window.plan.show_preview(None)
