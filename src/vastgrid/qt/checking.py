"""Checking what the window's job holds: two surfaces against each other, and all findings."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QFileDialog, QMenu

from vastgrid.base.errors import CallError
from vastgrid.base.files import write_text
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.session.reporting import report

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


class Checking:
    """What the window's Check does.

    Parameters
    ----------
    window : MainWindow
        Whose job is checked.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def fill_menu(self, menu: QMenu) -> None:
        """Put what can be checked into the Check menu."""
        surfaces = self._chosen()
        self.window.actions_["compare"].setEnabled(len(surfaces) == 2)
        for key in ("compare", "findings", "remake"):
            menu.addAction(self.window.actions_[key])

    def _chosen(self) -> list[str]:
        return [n for n in self.window.lineage.selection if isinstance(self.window.dataset(n), Tin | Grid)]

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
        self.window.making.make("compare", [first, second], {})

    def save_report(self, node: str) -> None:
        """Ask for a file and write the report of everything that led to a card."""
        session = self.window.session
        suggestion = Path(session.graph[node].path or session.folder.parent / session.graph[node].name)
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Save the report", str(suggestion.with_suffix(".report.md")), "Markdown text (*.md)"
        )
        if name:
            session.refuse_output(Path(name))
            write_text(Path(name), report(session, node))
            self.window.say(f"the report is in {name}")
