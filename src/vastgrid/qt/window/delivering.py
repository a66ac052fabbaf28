"""Delivering: which formats can hold what is chosen, and the dialog that writes it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtWidgets import QMenu, QWidget

from vastgrid import catalog
from vastgrid.delivery.sets import MEETING, known_sets
from vastgrid.execution.executor import Units
from vastgrid.lineage.graph import Role
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.deliver_dialog import DeliverDialog, File
from vastgrid.qt.widgets import glyphs, theme
from vastgrid.qt.widgets.buttons import entry


class Delivering:
    """What the window's Deliver does.

    Parameters
    ----------
    parent : QWidget
        Above which is asked.
    desk : Desk
        Whose job it is.
    making : Making
        Runs the delivery.
    palette : callable
        Gives the theme.
    """

    def __init__(self, parent: QWidget, desk: Desk, making: Making, palette: Callable[[], theme.Palette]) -> None:
        self.parent, self.desk, self.making, self.palette = parent, desk, making, palette

    def fill_menu(self, menu: QMenu) -> None:
        nodes = self.desk.selection
        kinds = [type(d) for node in nodes if (d := self.desk.session.dataset(node)) is not None]
        able = [
            each
            for each in catalog.FORMATS
            if each.write is not None and (not kinds or any(issubclass(kind, each.carries.kinds) for kind in kinds))
        ]
        for delivery_set in known_sets():
            run = partial(self.desk.guarded, partial(self.deliver_set, delivery_set.name))
            entry(menu, f"{delivery_set.title} …", run, glyphs.icon("delivery", self.palette().action))
        menu.addSeparator()
        for each in able:
            run = partial(self.desk.guarded, partial(self.deliver, each.id))
            entry(menu, f"{each.title} file …", run, glyphs.icon("delivery", self.palette().action))
        if not able:
            entry(menu, "No format can hold these")

    def deliver(self, operation: str) -> None:
        """Ask what goes out and where, write it, read it back."""
        self.dialog(operation).exec()

    def deliver_set(self, name: str) -> None:
        """Ask what goes out as a set, write its files, read them back."""
        dialog = self.dialog("")
        dialog.choose_set(name)
        dialog.exec()

    def dialog(self, operation: str) -> DeliverDialog:
        """Return the dialog for a delivery; accepting it writes the file."""
        chosen = [node for node in self.desk.selection if self.desk.session.graph[node].role is not Role.DELIVERY]
        folder = self.desk.session.deliver_folder
        dialog = DeliverDialog(self.parent, self.desk, chosen, folder, operation)
        dialog.accepted.connect(lambda: self.desk.guarded(lambda: self._write(dialog)))
        return dialog

    def _write(self, dialog: DeliverDialog) -> None:
        """Write every file of a delivery, one after the other; the line of no change is made before the file it goes into."""
        targets, units = dialog.targets(), dialog.chosen_units()
        self.desk.session.settings["deliver_folder"] = str(targets[0][1].parent)
        surfaces = dialog.surfaces()
        for file, target in targets:
            send = partial(self._send, file, dialog.enclosed(file), target, units)
            words = declare.again(file.format.write_params, file.enclosure.words)
            self.desk.session.remember("writing", file.enclosure.format, words)
            if file.enclosure.meeting and len(surfaces) > 1:
                line = self.desk.session.plan(MEETING, surfaces[:2], {})
                text = f"make {line.name}"
                self.making.run_new(line, "finding where the surfaces meet", text, then=send)
            else:
                send([])

    def _send(self, file: File, nodes: list[str], target: Path, units: Units, more: list[str]) -> None:
        node = self.desk.session.plan_delivery(
            file.enclosure.format, [*nodes, *more], file.enclosure.words, target, units
        )
        self.making.run_new(node, f"writing {target.name}", f"deliver {target.name}")
