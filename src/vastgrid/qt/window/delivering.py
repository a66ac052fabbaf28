"""Delivering: which formats can hold what is chosen, and the dialog that writes it."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QWidget

from vastgrid import catalog
from vastgrid.base.words import size_words
from vastgrid.data.dataset import Dataset
from vastgrid.declarations.conversion import listed
from vastgrid.declarations.fileformat import USES, Format
from vastgrid.delivery.sets import MEETING, known_sets
from vastgrid.execution.executor import Units
from vastgrid.lineage.graph import Role
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.desk.making import Making
from vastgrid.qt.dialogs.deliver_dialog import DeliverDialog, File
from vastgrid.qt.widgets.chooser import Choice, Chooser


def _why_not(form: Format, data: Sequence[Dataset]) -> str:
    """Return why a format cannot hold some data; empty where it can hold something of them."""
    if not data or any(isinstance(own, form.carries.kinds) for own in data):
        return ""
    return f"holds {listed(list(dict.fromkeys(kind.title for kind in form.carries.kinds)))} only"


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
    sheet : callable
        Opens a sheet of choices under a title.
    """

    def __init__(
        self, parent: QWidget, desk: Desk, making: Making, sheet: Callable[[str, list[Choice]], Chooser]
    ) -> None:
        self.parent, self.desk, self.making, self.sheet = parent, desk, making, sheet

    def choose(self) -> Chooser:
        """Open the sheet of who it goes to, and as what."""
        return self.sheet("Deliver: to whom, or as what", self.choices())

    def choices(self) -> list[Choice]:
        """Return the sets with what they hold, the formats that can hold what is chosen, and those that cannot with the reason."""
        graph = self.desk.session.graph
        nodes = [node for node in self.desk.selection if graph[node].role is not Role.DELIVERY]
        data = [own for node in nodes if (own := self.desk.session.dataset(node)) is not None]
        found = []
        for whole in known_sets():
            told, _, quiet = whole.title.partition(": ")
            files = ", ".join(catalog.format_named(one.format).title for one in whole.enclosures)
            send = partial(self.desk.guarded, partial(self.deliver_set, whole.name))
            found.append(Choice("To whom", told, quiet or files, "delivery", send, (whole.name, files)))
        last = list(dict.fromkeys(n.operation for n in reversed(graph.nodes.values()) if n.role is Role.DELIVERY))
        able, cannot = [], []
        for each in sorted((own for own in catalog.FORMATS if own.write), key=lambda own: USES.index(own.used_for)):
            why = _why_not(each, data)
            words = (each.id, *each.suffixes, *each.also)
            send = partial(self.desk.guarded, partial(self.deliver, each.id))
            if why:
                cannot.append(Choice("Cannot hold what is chosen", each.title, why, "delivery", None, words))
                continue
            size = sum(each.weigh(own) for own in data)
            told = f"{each.suffixes[0]}" + (f", about {size_words(max(size, 1e3))}" if data else "")
            able.append(Choice(each.used_for[0].upper() + each.used_for[1:], each.title, told, "delivery", send, words))
        titles = {catalog.format_named(name).title for name in last[:3]}
        again = [dataclasses.replace(each, group="Sent last") for each in able if each.title in titles]
        return [*found, *again, *able, *cannot]

    def deliver(self, operation: str) -> None:
        """Ask what goes out and where, write it, read it back."""
        self._open(self.dialog(operation))

    def deliver_set(self, name: str) -> None:
        """Ask what goes out as a set, write its files, read them back."""
        dialog = self.dialog("")
        dialog.choose_set(name)
        self._open(dialog)

    @staticmethod
    def _open(dialog: DeliverDialog) -> None:
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.open()

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
