"""Making room on the disk: what can be dropped, and how much that frees, said beforehand."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QVBoxLayout, QWidget

from vastgrid.base.findings import count
from vastgrid.base.words import size_words
from vastgrid.jobs.dropping import Drop, Room
from vastgrid.qt.widgets.labels import label


class RoomDialog(QDialog):
    """Asks what is to be dropped of what can be made again."""

    def __init__(self, parent: QWidget, rooms: Sequence[Room]) -> None:
        super().__init__(parent)
        self.setProperty("manual", "at-home")
        self.setWindowTitle("Free disk space")
        self.resize(520, 240)
        layout = QVBoxLayout(self)
        layout.addWidget(
            label(
                "What came in, and copies that were kept as they are, stay. What is dropped can be made again, which takes its time."
            )
        )
        self.boxes: dict[Drop, QCheckBox] = {}
        for room in rooms:
            what = room.what.value
            box = QCheckBox(f"{what[:1].upper()}{what[1:]}: {size_words(room.size)} ({count(room.number, 'result')})")
            box.setEnabled(room.number > 0)
            box.toggled.connect(self._sum)
            self.boxes[room.what] = box
            layout.addWidget(box)
        self.rooms = {room.what: room for room in rooms}
        self.total = label()
        layout.addWidget(self.total)
        layout.addStretch()
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        drop = buttons.addButton("Drop", QDialogButtonBox.ButtonRole.AcceptRole)
        assert drop is not None
        self.drop = drop
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)
        self._sum()

    def chosen(self) -> list[Drop]:
        """Return what is to be dropped."""
        return [what for what, box in self.boxes.items() if box.isChecked()]

    def _sum(self) -> None:
        chosen = self.chosen()
        # What is dropped with all that was made is not freed a second time.
        whole = Drop.MADE in chosen
        sizes = [self.rooms[what].size for what in chosen if not (whole and what is Drop.HIDDEN)]
        self.total.setText(f"Frees {size_words(sum(sizes))}." if chosen else "Choose what may go.")
        self.drop.setEnabled(bool(chosen))
