"""The part of the panel that says what a step cost vertically, or how far two surfaces differ."""

from __future__ import annotations

from html import escape

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QVBoxLayout

from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.loss import Loss
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.labels import label


class CostPart(QFrame):
    """A loss in a sentence.

    Parameters
    ----------
    source : str
        What it is measured against.
    answers : bool
        Whether it is the answer to how far two surfaces differ, which costs nothing.

    Signals
    -------
    place : east, north
        The worst place is to be shown.
    """

    place = pyqtSignal(float, float)

    def __init__(self, loss: Loss, source: str, palette: theme.Palette, *, answers: bool) -> None:
        super().__init__()
        self.setObjectName("box")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 9, 12, 9)
        unit = unit_word(loss.unit)
        share = "" if loss.share > 0.995 else f", over {loss.share:.0%} of the ground"
        text = label(
            f'{"They differ by" if answers else "It differs by"} <b style="color:{palette.warning}">{escape(gap_words(loss.largest))}{unit}</b> '
            f"at most, {escape(gap_words(loss.rmse))}{unit} RMSE, {escape(gap_words(loss.p95))}{unit} for 95 % of the ground, from {escape(source)}{share}. "
            f'<a href="worst" style="color:{palette.action}">Show the worst place</a>'
        )
        text.setTextInteractionFlags(
            Qt.TextInteractionFlag.LinksAccessibleByMouse | Qt.TextInteractionFlag.LinksAccessibleByKeyboard
        )
        text.linkActivated.connect(lambda _: self.place.emit(*loss.at))
        layout.addWidget(text)
