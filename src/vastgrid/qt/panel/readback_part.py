"""What was found when a delivery was read back from disk."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from vastgrid.base.words import gap_words
from vastgrid.lineage.delivered import Delivery
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.labels import label


class ReadbackPart(QWidget):
    """Lists what was compared: the largest difference, then each check with what was sent and read.

    Parameters
    ----------
    report : Delivery
        What went out, and what reading it back showed.
    """

    def __init__(self, report: Delivery) -> None:
        super().__init__()
        self.setProperty("manual", "delivering")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        gap = report.vertical
        if gap is not None:
            plan = f"{escape(gap_words(report.plan or 0.0, 6))} {report.plan_unit or report.unit}"
            layout.addWidget(
                label(f"Largest difference: height {escape(gap_words(gap, 6))} {report.unit}, plan {plan}")
            )
        table = QGridLayout()
        table.setHorizontalSpacing(8)
        for k, check in enumerate(report.checks):
            good = check.good
            table.addWidget(label("✓" if good else "≠", name="" if good else "error", wrap=False), k, 0)
            table.addWidget(label(escape(check.what), quiet=True), k, 1)
            text = check.read if good else f"{check.sent} → {check.read}"
            value = label(escape(text), wrap=len(text) > 30)
            value.setStyleSheet(f'font-family: "{theme.MONO}"; font-size: {theme.points(8.5)};')
            value.setAlignment(Qt.AlignmentFlag.AlignRight)
            table.addWidget(value, k, 2)
        table.setColumnStretch(2, 1)
        layout.addLayout(table)
