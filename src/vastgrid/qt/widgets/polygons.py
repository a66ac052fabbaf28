"""Arrays to Qt's polygons."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPolygonF


def polygon(x: np.ndarray, y: np.ndarray) -> QPolygonF:
    """Fill a polygon's own memory: a thousand times faster than point by point."""
    made = QPolygonF()
    if len(x) == 0:
        return made
    made.fill(QPointF(), len(x))
    buffer = made.data()
    assert buffer is not None
    buffer.setsize(16 * len(x))
    values = np.frombuffer(memoryview(buffer), np.float64)  # type: ignore[arg-type]
    values[0::2], values[1::2] = x, y
    return made
