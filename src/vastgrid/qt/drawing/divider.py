"""The divider between two compared stacks: where it may stand, where it is gripped, and how it looks."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from vastgrid.qt.drawing import furniture
from vastgrid.qt.widgets import theme

# So near, in pixels, it is gripped; so near to an edge, as a share of the width, it stops.
REACH, EDGE = 8.0, 0.02


def within(share: float) -> float:
    """Return a place that leaves something to be seen on both sides."""
    return min(max(share, EDGE), 1.0 - EDGE)


def grips(share: float | None, x: float, width: int) -> bool:
    """Return whether a pixel is near enough to a divider, if there is one."""
    return share is not None and abs(x - share * width) < REACH


def paint(
    painter: QPainter, at: int, height: int, left: Sequence[str], right: Sequence[str], palette: theme.Palette
) -> None:
    """Paint a divider, and beside it what is seen on either side only."""
    painter.fillRect(QRectF(at - 1.5, 0, 3, height), palette.colour("action"))
    painter.setPen(QPen(palette.colour("raised"), 1.5))
    painter.setBrush(palette.colour("action"))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.drawEllipse(QPointF(at, height / 2.0), 9, 9)
    painter.setFont(theme.font(8.5, bold=True))
    for names, side in ((left, -1), (right, 1)):
        text = " · ".join(names) or "nothing"
        wide = painter.fontMetrics().horizontalAdvance(text) + 16.0
        box = QRectF(at - wide - 8 if side < 0 else at + 8, height - 58.0, wide, 20)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(furniture.halo_of(palette))
        painter.drawRoundedRect(box, 5, 5)
        painter.setPen(palette.colour("ink"))
        painter.drawText(box, 0x84, text)
