"""The kinds' glyphs, our own drawings, in the colour of the text."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from PyQt6.QtCore import QByteArray, QRectF
from PyQt6.QtGui import QIcon, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer

_FOLDER = Path(__file__).parent / "glyphs"


@lru_cache(maxsize=64)
def _renderer(kind: str, colour: str) -> QSvgRenderer:
    text = (_FOLDER / f"{kind}.svg").read_text(encoding="utf-8").replace("currentColor", colour)
    return QSvgRenderer(QByteArray(text.encode()))


def paint(painter: QPainter, kind: str, colour: str, place: QRectF) -> None:
    """Draw a kind's glyph into a place."""
    _renderer(kind, colour).render(painter, place)


def icon(kind: str, colour: str, size: int = 32) -> QIcon:
    """Return a kind's glyph as an icon."""
    from PyQt6.QtCore import Qt

    picture = QPixmap(size, size)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    paint(painter, kind, colour, QRectF(0, 0, size, size))
    painter.end()
    return QIcon(picture)
