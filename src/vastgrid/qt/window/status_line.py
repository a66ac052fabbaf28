"""The line at the foot of the window: place and heights, scale, what was said, what runs, findings."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QProgressBar, QPushButton, QSizePolicy, QWidget

from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import flat_button
from vastgrid.tasks.runner import Task


class StatusLine(QWidget):
    """What the window has to tell at any time.

    Parameters
    ----------
    cancel, pause, findings : callable
        What the three buttons do.
    """

    def __init__(self, cancel: Callable[[], Any], pause: Callable[[], Any], findings: Callable[[], Any]) -> None:
        super().__init__()
        self.setObjectName("status")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(14, 3, 14, 3)
        self.readout = QLabel("E –   N –   Z –")
        self.restyle()
        self.readout.setMinimumWidth(430)
        self.scale = QLabel("")
        self.said = QLabel("")
        self.said.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        # Whatever these say, the window keeps its width.
        for words in (self.readout, self.said):
            words.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        row.addWidget(self.readout, 3)
        row.addWidget(self.scale)
        row.addWidget(self.said, 4)
        self.task_text = QLabel("")
        self.bar = QProgressBar()
        self.bar.setRange(0, 1000)
        self.bar.setTextVisible(False)
        self.bar.setFixedWidth(130)
        self.pause = QPushButton("Pause")
        self.pause.clicked.connect(lambda: pause())
        self.cancel = QPushButton("Cancel")
        self.cancel.clicked.connect(lambda: cancel())
        self.findings = flat_button("", findings)
        for widget in (self.task_text, self.bar, self.pause, self.cancel, self.findings):
            row.addWidget(widget)
        self.show_tasks(None, None)

    def restyle(self) -> None:
        """Give text its size."""
        self.readout.setFont(theme.font(9, mono=True))
        self.readout.setStyleSheet(f'font-family: "{theme.MONO}"; font-size: {theme.points(9)};')

    def say(self, text: str) -> None:
        """Say something."""
        self.said.setText(text)
        self.said.setToolTip(text)

    def show_findings(self, number: int) -> None:
        """Show how many findings are open."""
        self.findings.setText(f"{number} finding{'' if number == 1 else 's'}")

    def show_tasks(self, current: Task | None, behind: Task | None) -> None:
        """Show what runs: the task that is waited for, or else the one in the background."""
        shown = current or behind
        self.bar.setVisible(shown is not None)
        self.cancel.setVisible(current is not None)
        self.pause.setVisible(current is None and behind is not None)
        if shown is None:
            self.task_text.setText("")
            return
        self.bar.setValue(int(1000 * shown.fraction))
        self.task_text.setText(shown.title + (" (resting)" if shown.paused else ""))
        self.pause.setText("Go on" if shown.paused else "Pause")
