"""A surface's sources: switched on and off, taken out, replaced by a newer file, added."""

from __future__ import annotations

from datetime import datetime
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor, QIcon, QPixmap
from PyQt6.QtWidgets import QCheckBox, QColorDialog, QGridLayout, QMenu, QToolButton, QVBoxLayout, QWidget

from vastgrid.data.kinds import kind_named
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Card, Role
from vastgrid.qt.widgets.buttons import entry
from vastgrid.qt.widgets.labels import label

# For sources that were not given a colour: well apart for colour-blind eyes (Okabe and Ito 2008, darkened for paper).
USUAL = ("#0072B2", "#B5541C", "#007A5E", "#A35A86", "#8A6D00", "#3A87AD", "#5B5B5B")


class SourcesPart(QWidget):
    """The inputs of one node.

    Signals
    -------
    switched : node, source, on
        A source was switched.
    dropped, replaced : node, source
        A source is to be taken out of the node, or read from another file.
    added : node, source
        Another card is to become a source.
    painted : source, colour
        A source got a colour.
    given_role : node, source, role
        A source is to play another role.
    """

    switched = pyqtSignal(str, str, bool)
    dropped = pyqtSignal(str, str)
    replaced = pyqtSignal(str, str)
    added = pyqtSignal(str, str)
    painted = pyqtSignal(str, str)
    given_role = pyqtSignal(str, str, str)

    def __init__(self, session: Session, node: Card, changed: dict[str, str]) -> None:
        super().__init__()
        self.boxes: dict[str, QCheckBox] = {}
        self.menus: dict[str, QMenu] = {}
        self.setProperty("manual", "surfaces")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        table = QGridLayout()
        table.setHorizontalSpacing(6)
        table.setVerticalSpacing(2)
        table.setColumnStretch(2, 1)
        outer.addLayout(table)
        for k, source in enumerate(node.inputs):
            self._row(table, k, session, node, session.graph[source], changed)
        able = session.usable_sources(node.id)
        if able:
            button = QToolButton()
            button.setText("Add a source")
            button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
            menu = QMenu(button)
            for other in able:
                entry(menu, session.graph[other].name, partial(self.added.emit, node.id, other))
            button.setMenu(menu)
            self.menus["add"] = menu
            outer.addWidget(button)

    def _row(
        self, table: QGridLayout, k: int, session: Session, node: Card, source: Card, changed: dict[str, str]
    ) -> None:
        box = QCheckBox()
        box.setChecked(source.id not in node.off)
        box.setAccessibleName(f"Use {source.name}")
        box.toggled.connect(lambda on: self.switched.emit(node.id, source.id, on))
        self.boxes[source.id] = box
        table.addWidget(box, 2 * k, 0)
        colour = source.colour or USUAL[k % len(USUAL)]
        swatch = QToolButton()
        swatch.setIcon(_swatch(colour))
        swatch.setAutoRaise(True)
        swatch.setToolTip("Colour of its points in the plan")
        swatch.setAccessibleName(f"Colour of {source.name}")
        swatch.clicked.connect(lambda: self._pick(source, colour))
        table.addWidget(swatch, 2 * k, 1)
        figures = source.figures
        kind = kind_named(source.kind)
        counts = kind.in_a_word(figures["count"]) if kind is not None else ""
        own = next((use.role for use in node.node.uses if use.card == source.id), "")
        others = session.other_roles(node.id, source.id)
        name = label(f"{source.name} ({own})" if len(others) else source.name, wrap=False)
        name.setToolTip(_extent(figures))
        table.addWidget(name, 2 * k, 2)
        more = QToolButton()
        more.setText("…")
        more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        more.setAccessibleName(f"What can be done with {source.name}")
        menu = QMenu(more)
        if source.role is Role.SOURCE:
            entry(menu, "Replace by a newer file …", partial(self.replaced.emit, node.id, source.id))
        for role in others:
            entry(menu, f"Use as {role}", partial(self.given_role.emit, node.id, source.id, role))
        entry(menu, "Take out", partial(self.dropped.emit, node.id, source.id))
        more.setMenu(menu)
        self.menus[source.id] = menu
        table.addWidget(more, 2 * k, 3)
        told = [Path(source.path).name] if source.path else ["made here"]
        told += [_date(figures), counts]
        quiet = label(" · ".join(part for part in told if part), quiet=True)
        table.addWidget(quiet, 2 * k + 1, 2, 1, 2, Qt.AlignmentFlag.AlignTop)
        if source.id in changed:
            quiet.setText(quiet.text() + " · changed on disk")

    def _pick(self, source: Card, colour: str) -> None:
        made = QColorDialog.getColor(QColor(colour), self, f"Colour of {source.name}")
        if made.isValid():
            self.painted.emit(source.id, made.name())


def _swatch(colour: str) -> QIcon:
    picture = QPixmap(14, 14)
    picture.fill(QColor(colour))
    return QIcon(picture)


def _date(figures: dict[str, object]) -> str:
    stamp = figures.get("file")
    if not isinstance(stamp, list | tuple):
        return ""
    return datetime.fromtimestamp(int(stamp[1]) / 1e9).strftime("%Y-%m-%d")


def _extent(figures: dict[str, object]) -> str:
    extent = figures.get("extent")
    if not isinstance(extent, dict):
        return ""
    return "\n".join(f"{name} {pair[0]:.2f} … {pair[1]:.2f}" for name, pair in extent.items() if pair)
