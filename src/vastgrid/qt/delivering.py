"""Delivering: which formats can hold what is chosen, and the dialog that writes it."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtWidgets import QMenu

from vastgrid import catalog
from vastgrid.job.lineage import Role
from vastgrid.qt import glyphs
from vastgrid.qt.buttons import entry
from vastgrid.qt.deliver_dialog import DeliverDialog

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


class Delivering:
    """What the window's Deliver does.

    Parameters
    ----------
    window : MainWindow
        Whose job it is.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def fill_menu(self, menu: QMenu) -> None:
        nodes = self.window.lineage.selection
        kinds = [type(d) for node in nodes if (d := self.window.session.dataset(node)) is not None]
        able = [
            each
            for each in catalog.FORMATS
            if each.write is not None and (not kinds or any(issubclass(kind, each.carries.kinds) for kind in kinds))
        ]
        for each in able:
            run = partial(self.window.guarded, partial(self.deliver, each.id))
            entry(menu, f"{each.title} file …", run, glyphs.icon("delivery", self.window.palette_.action))
        if not able:
            entry(menu, "No format can hold these")

    def deliver(self, operation: str) -> None:
        """Ask what goes out and where, write it, read it back."""
        self.dialog(operation).exec()

    def dialog(self, operation: str) -> DeliverDialog:
        """Return the dialog for a delivery; accepting it writes the file."""
        chosen = [
            node for node in self.window.lineage.selection if self.window.session.graph[node].role is not Role.DELIVERY
        ]
        folder = Path(str(self.window.session.settings.get("deliver_folder", self.window.session.folder.parent)))
        dialog = DeliverDialog(self.window, self.window.session, chosen, folder, operation)

        def accepted() -> None:
            target = dialog.target()
            self.window.session.settings["deliver_folder"] = str(target.parent)
            node = self.window.session.plan_delivery(
                dialog.format.id, dialog.nodes(), dialog.words(), target, dialog.chosen_units()
            )
            self.window.making.run_new(node, f"writing {target.name}", f"deliver {target.name}")

        dialog.accepted.connect(lambda: self.window.guarded(accepted))
        return dialog
