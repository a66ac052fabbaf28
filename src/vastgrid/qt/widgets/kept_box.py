"""Settings kept under names: a box to choose one, and a button to keep the present ones."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QInputDialog, QPushButton, QWidget

from vastgrid.qt.widgets.labels import label


class KeptBox(QWidget):
    """A box of names.

    Parameters
    ----------
    title, present : str
        What stands before the box, and what stands for settings that are not kept.
    chosen, keep : callable
        Called with the name that was chosen, or under which the present settings are to be kept.
    """

    def __init__(self, title: str, present: str, chosen: Callable[[str], None], keep: Callable[[str], None]) -> None:
        super().__init__()
        self._present, self._keep = present, keep
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(label(title, wrap=False))
        self.box = QComboBox()
        self.box.setAccessibleName(f"{title} that are kept")
        self.box.activated.connect(lambda index: chosen(self.box.itemText(index)))
        row.addWidget(self.box, 1)
        button = QPushButton("Keep as …")
        button.clicked.connect(self._ask)
        row.addWidget(button)

    def fill(self, names: Iterable[str], current: str = "") -> None:
        """Show names, one of them as the present one."""
        self.box.clear()
        self.box.addItem(self._present)
        self.box.addItems(sorted(names))
        self.show_name(current)

    def show_name(self, name: str) -> None:
        """Show which name the present settings have; an empty one for none."""
        self.box.setCurrentText(name or self._present)

    def _ask(self) -> None:
        name, good = QInputDialog.getText(self, "Keep", "Name:")
        if good and name.strip():
            self._keep(name.strip())
