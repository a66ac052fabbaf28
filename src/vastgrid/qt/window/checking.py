"""Checking what the job holds: two surfaces against each other, all findings, and reports."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QFileDialog, QMenu, QWidget

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import write_text
from vastgrid.base.progress import Progress, Silent
from vastgrid.data.kinds import kind_named
from vastgrid.data.table import Table
from vastgrid.execution.papers import check_ending, picture_of, write_report
from vastgrid.jobs.reporting import report, sent_of
from vastgrid.manual.pages import of_finding
from vastgrid.measures.heights import surface_of
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.inspecting import Inspecting
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.table_dialog import TableDialog
from vastgrid.qt.dialogs.tree_dialog import TreeDialog
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import entry
from vastgrid.qt.window.offers import drawn_field
from vastgrid.verification.book import summary
from vastgrid.verification.book import table as cases_table
from vastgrid.verification.cases import Outcome, run_all


def _covers(kind: str) -> bool:
    own = kind_named(kind)
    return own is not None and own.covers


class Checking:
    """What Check does.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose job is checked.
    making : Making
        Makes the answers.
    inspecting : Inspecting
        Has the findings.
    palette : callable
        Gives the theme.
    """

    def __init__(
        self,
        parent: QWidget,
        desk: Desk,
        making: Making,
        inspecting: Inspecting,
        palette: Callable[[], theme.Palette],
    ) -> None:
        self.parent, self.desk, self.making = parent, desk, making
        self.inspecting, self.palette = inspecting, palette
        self.dialog: QWidget | None = None
        desk.news.connect(self._refill)

    def fill_menu(self, menu: QMenu, actions: dict[str, QAction]) -> None:
        """Put what can be checked into the Check menu."""
        actions["compare"].setEnabled(len(self._chosen()) == 2)
        menu.addAction(actions["compare"])
        nodes = list(self.desk.selection)
        known = [dataset for node in nodes if (dataset := self.desk.session.dataset(node)) is not None]
        able = catalog.targets(known) if known and len(known) == len(nodes) else ()
        answers = [each for each in able if each.answers and each.id != "compare"]
        for conversion in answers:
            drawn = drawn_field(conversion)
            # What cannot be asked without a place is offered with drawing it.
            if not (conversion.ask and drawn):
                ask = partial(self.desk.asked.emit, conversion.id, nodes, {})
                entry(menu, f"{conversion.title} …", partial(self.desk.guarded, ask))
            if drawn:
                menu.addAction(actions[f"draw_{conversion.id}"])
        if not answers:
            entry(menu, "Two surfaces, or a surface and points or closed lines, give more to choose here")
        menu.addSeparator()
        for key in ("findings", "remake"):
            menu.addAction(actions[key])

    def draw_answer(self, node: str) -> None:
        """Draw in the plan what a step answers: whatever its conversion says that it is seen by, one after the other."""
        session = self.desk.session
        own = session.graph.node(node)
        playing = {use.role: use.card for use in own.used}
        plans = [
            session.plan(operation, [playing[role] for role in roles.values()], {}, list(roles))
            for operation, roles in catalog.conversion_named(own.operation).seen_by
        ]

        drawn: list[str] = []

        def next_one(cards: list[str]) -> None:
            drawn.extend(cards)
            for card in session.graph.cards if cards else ():
                # Whatever else covers the ground would hide it.
                covers = _covers(session.graph[card].kind)
                session.show(card, shown=card in drawn or (session.graph[card].shown and not covers))
            self.desk.changed.emit()
            if plans:
                plan = plans.pop(0)
                self.making.run_new(plan, f"drawing {plan.name}", f"draw {plan.name}", next_one)
            else:
                self.desk.select([node])

        next_one([])

    def verify(self) -> None:
        """Run the cases whose results are known, and show what came out."""

        def done(outcomes: list[Outcome]) -> None:
            self.desk.say(summary(outcomes))
            self.show_table(cases_table(outcomes))

        self.desk.start("verifying the program", run_all, done)

    def show_table(self, table: Table) -> TableDialog:
        """Show a table whole."""
        dialog = TableDialog(self.parent, table)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.saved.connect(lambda path, text: self.desk.guarded(lambda: self._save(Path(path), text)))
        dialog.show()
        return dialog

    def _save(self, path: Path, text: str) -> None:
        self.desk.session.refuse_output(path)
        write_text(path, text)
        self.desk.say(f"{path.name} is written")

    def _chosen(self) -> list[str]:
        return [node for node in self.desk.selection if surface_of(self.desk.dataset(node)) is not None]

    def compare_chosen(self) -> None:
        """Compare the two chosen surfaces."""
        surfaces = self._chosen()
        if len(surfaces) != 2:
            raise CallError(
                "choose two surfaces (TIN or grid) in the lineage: click one, then the other with Ctrl held"
            )
        self.compare(*surfaces)

    def compare(self, first: str, second: str) -> None:
        """Measure how far the second surface lies above the first; the answer is a card."""
        self.making.make("compare", [first, second], {})

    def save_report(self, node: str) -> None:
        """Ask for a file and write the report of everything that led to a card."""
        session = self.desk.session
        suggestion = Path(session.graph[node].path or session.folder.parent / session.graph[node].name)
        name, _ = QFileDialog.getSaveFileName(
            self.parent,
            "Save the report",
            str(suggestion.with_suffix(".report.html")),
            "Page (*.html);;PDF (*.pdf);;Markdown text (*.md)",
        )
        if not name:
            return
        path = Path(name)
        session.refuse_output(path)
        check_ending(path)
        paper = report(session, node)
        if path.suffix.lower() not in (".html", ".htm", ".pdf"):
            write_report(path, paper, {}, Silent())
            self.desk.say(f"the report is in {name}")
            return
        sent = sent_of(session, node)

        def work(progress: Progress) -> str:
            shown = dataclasses.replace(paper, picture=picture_of(sent, progress))
            write_report(path, shown, {}, progress)
            return f"the report is in {name}"

        self.desk.start(f"writing {path.name}", work, self.desk.say)

    def look_into(self, path: str) -> TreeDialog:
        """Show what is in a file on disk, as a tree."""
        dialog = TreeDialog(self.parent, self.desk, Path(path))
        dialog.show()
        return dialog

    # -- findings

    def show_findings(self) -> None:
        """Open the list of findings, or bring it to the front."""
        # Loaded when asked for: the window opens sooner without it.
        from vastgrid.qt.dialogs.findings_dialog import FindingsDialog

        if self.dialog is None:
            dialog = FindingsDialog(self.parent, self.inspecting, self.palette())
            dialog.finished.connect(self._closed)
            dialog.explained.connect(lambda code: self.desk.help_wanted.emit(of_finding(code)))
            self.dialog = dialog
        self._refill()
        self.dialog.show()
        self.dialog.raise_()

    def _refill(self) -> None:
        fill = getattr(self.dialog, "fill", None)
        if fill is not None:
            fill()

    def _closed(self) -> None:
        if self.dialog is not None:
            self.dialog.deleteLater()
        self.dialog = None
