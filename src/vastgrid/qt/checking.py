"""Checking what the window's job holds: two surfaces against each other, and all findings."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QMenu, QMessageBox

from vastgrid.base.errors import CallError
from vastgrid.base.files import write_text
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import square_word, unit_word
from vastgrid.base.words import spaced
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.measures.difference import difference
from vastgrid.session.reporting import report
from vastgrid.session.steps import in_one_frame

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
        """Measure how far the second surface lies above the first, and tell."""
        a, b = self.window.dataset(first), self.window.dataset(second)
        if not isinstance(a, Tin | Grid) or not isinstance(b, Tin | Grid):
            raise CallError("only TINs and grids can be compared")

        def work(progress: Progress) -> Any:
            one, two = in_one_frame([a, b], [])
            assert isinstance(one, Tin | Grid)
            assert isinstance(two, Tin | Grid)
            return difference(one, two, progress)

        def done(loss: Any) -> None:
            unit = unit_word(loss.unit)
            self.window.views.go_to(*loss.at, close=False)
            box = QMessageBox(self.window)
            box.setWindowTitle("Compare")
            box.setText(f"{b.name} against {a.name}")
            box.setInformativeText(
                f"Largest difference {loss.largest:.3f}{unit} at E {loss.at[0]:.2f}, N {loss.at[1]:.2f} (marked in the plan)\n"
                f"RMSE {loss.rmse:.3f}{unit}, 95 % within {loss.p95:.3f}{unit}, mean {loss.mean:+.3f}{unit}\n"
                f"over {spaced(round(loss.area))}{square_word(loss.plan_unit)} of common ground"
            )
            box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
            box.open()
            self.window.say(f"{b.name} against {a.name}: {loss.sentence()}")

        self.window.start(f"comparing {a.name} and {b.name}", work, done)

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
