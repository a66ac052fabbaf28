"""All findings of the job in one list; each leads to its card and place."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QDialog, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from vastgrid.base.findings import Severity
from vastgrid.qt import theme
from vastgrid.qt.panel_labels import label
from vastgrid.session.session import Session


class FindingsDialog(QDialog):
    """Lists findings, warnings first.

    Signals
    -------
    place : node, east, north
        A finding with a place was chosen.
    card : node
        A finding without one was chosen.
    """

    place = pyqtSignal(str, float, float)
    card = pyqtSignal(str)

    def __init__(self, parent: QWidget, session: Session, palette: theme.Palette) -> None:
        super().__init__(parent)
        self.setWindowTitle("Findings")
        self.resize(720, 420)
        layout = QVBoxLayout(self)
        self.list = QListWidget()
        self.list.setAccessibleName("Findings")
        self.list.setWordWrap(True)
        found = [(finding, node) for node in session.graph.nodes for finding in session.findings(node)]
        found.sort(key=lambda pair: pair[0].severity is Severity.NOTE)
        layout.addWidget(
            label(f"<b>{len(found)}</b> in this job; Enter goes to the place." if found else "Nothing was noticed.")
        )
        for finding, node in found:
            item = QListWidgetItem(f"{finding.severity.value} · {session.graph[node].name}: {finding.text}")
            if finding.severity is not Severity.NOTE:
                item.setForeground(palette.colour("warning"))
            item.setData(Qt.ItemDataRole.UserRole, (node, finding.at))
            self.list.addItem(item)
        self.list.itemActivated.connect(self._chosen)
        self.list.itemClicked.connect(self._chosen)
        layout.addWidget(self.list)

    def _chosen(self, item: QListWidgetItem) -> None:
        node, at = item.data(Qt.ItemDataRole.UserRole)
        if at is None:
            self.card.emit(node)
        else:
            self.place.emit(node, at[0], at[1])
