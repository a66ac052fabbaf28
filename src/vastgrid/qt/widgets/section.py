"""A section of the panel: a title that folds what stands below it, remembered for all cards and jobs."""

from __future__ import annotations

from PyQt6.QtCore import QSettings, Qt
from PyQt6.QtWidgets import QFrame, QToolButton, QVBoxLayout, QWidget

from vastgrid.qt.widgets.labels import rule


def settings() -> QSettings:
    """Return what is remembered of the window, apart from any job."""
    return QSettings(QSettings.Format.IniFormat, QSettings.Scope.UserScope, "vastgrid", "window")


class Section(QFrame):
    """A title with a sign, and a body that it folds.

    Parameters
    ----------
    title : str
        What it is; under this word it is remembered whether it is folded.
    note : str
        What stands beside the title, folded or not.
    """

    def __init__(self, title: str, body: QWidget, note: str = "") -> None:
        super().__init__()
        self.title, self.note, self.body = title, note, body
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addWidget(rule())
        self.head = QToolButton()
        self.head.setObjectName("section")
        self.head.setCheckable(True)
        self.head.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.head.setChecked(settings().value(self._key, "open") != "folded")
        self.head.toggled.connect(self._toggled)
        layout.addWidget(self.head, alignment=Qt.AlignmentFlag.AlignLeft)
        layout.addWidget(body)
        # Unfolded it is seen with the page: told so before, it would be styled once more.
        if not self.head.isChecked():
            body.hide()
        self._say()

    @property
    def _key(self) -> str:
        return f"sections/{self.title}"

    def _toggled(self, unfolded: bool) -> None:
        settings().setValue(self._key, "open" if unfolded else "folded")
        self.body.setVisible(unfolded)
        self._say()

    def _say(self) -> None:
        unfolded = self.head.isChecked()
        beside = f" · {self.note}" if self.note else ""
        self.head.setText(f"{'▾' if unfolded else '▸'} {self.title}{beside}")
        self.head.setAccessibleName(f"{self.title}{beside}, {'unfolded' if unfolded else 'folded'}")
        self.head.setToolTip("Fold this section" if unfolded else "Unfold this section")
