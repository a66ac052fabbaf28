"""What is written into a plan: levels along contours, elevations and codes beside points, never over each other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QPainter

from vastgrid.base.words import plain
from vastgrid.data.areas import Areas
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours
from vastgrid.data.pointset import PointSet
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme
from vastgrid.styling.colouring import StyledLayer

# Labels lower than so many pixels cannot be read.
LEGIBLE = 4.0


def write_points(picture: QImage, layer: StyledLayer, view: View, palette: theme.Palette, taken: list[QRectF]) -> None:
    """Write elevations and codes beside points, the first come first."""
    points = narrowed(layer.dataset, PointSet)
    box = view.box()
    xyz = points.xyz
    inside = (xyz[:, 0] > box[0]) & (xyz[:, 0] < box[2]) & (xyz[:, 1] > box[1]) & (xyz[:, 1] < box[3])
    rows = np.flatnonzero(inside)[:600]
    painter = QPainter(picture)
    painter.setFont(theme.font(7.5))
    ink = palette.colour("ink")
    halo = QColor(palette.paper)
    halo.setAlpha(190)
    for k in rows.tolist():
        x, y = view.pixel(xyz[k, 0], xyz[k, 1])
        lines = [f"{xyz[k, 2]:.2f}"]
        for name in ("code", "point"):
            if name in points.attributes and len(lines) < 2:
                value = points.attributes[name][k]
                text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
                lines += [text] if text.strip() else []
        width = 5.4 * max(len(line) for line in lines) + 5.0
        place = QRectF(x + 5, y - 6.5 * len(lines), width, 12.5 * len(lines))
        if any(place.intersects(other) for other in taken):
            continue
        taken.append(place)
        painter.fillRect(place, halo)
        painter.setPen(ink)
        painter.drawText(place, 0x84, "\n".join(lines))
    painter.end()


def write_names(
    picture: QImage, areas: Areas, name: str, view: View, palette: theme.Palette, taken: list[QRectF]
) -> None:
    """Write what an attribute says into areas that have room for it, the largest first."""
    painter = QPainter(picture)
    paint_names(painter, areas, name, view, palette, taken)
    painter.end()


def paint_names(
    painter: QPainter, areas: Areas, name: str, view: View, palette: theme.Palette, taken: list[QRectF]
) -> None:
    """Write into a picture that is being painted; see `write_names`."""
    values = areas.attributes.get(name)
    if values is None or len(areas) == 0:
        return
    box = view.box()
    low, high = areas.boxes()
    seen = (high[:, 0] > box[0]) & (low[:, 0] < box[2]) & (high[:, 1] > box[1]) & (low[:, 1] < box[3])
    # What is less than a word wide holds none.
    seen &= (high - low).max(axis=1) / view.size > _WORD
    rows = np.flatnonzero(seen)
    rows = rows[np.argsort(-areas.sizes()[rows], kind="stable")][:300]
    font = theme.font(8.0, bold=True)
    painter.setFont(font)
    metrics = QFontMetricsF(font)
    halo = QColor(palette.paper)
    halo.setAlpha(170)
    for k, (east, north) in zip(rows.tolist(), areas.chosen(rows).middles().tolist(), strict=True):
        text = plain(values[k])
        if not text:
            continue
        x, y = view.pixel(east, north)
        wide = metrics.horizontalAdvance(text) + 6.0
        place = QRectF(x - wide / 2.0, y - 7.0, wide, 14.0)
        if wide * view.size > float((high[k] - low[k]).max()) * 1.2 or any(place.intersects(one) for one in taken):
            continue
        taken.append(place)
        painter.fillRect(place, halo)
        painter.setPen(palette.colour("ink"))
        painter.drawText(place, 0x84, text)


# Pixels that a word takes at least.
_WORD = 14.0


def write_levels(
    painter: QPainter, sets: Sequence[StyledLayer], view: View, palette: theme.Palette, taken: list[QRectF]
) -> None:
    """Write levels along index contours where there is room, upright, the first come first."""
    painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
    painter.setFont(theme.font(7.5, bold=True))
    for delivery_set in sets:
        contours = narrowed(delivery_set.dataset, Contours)
        if contours.labels:
            _write_labels(painter, contours, view, palette)
            continue
        decimals = max(0, -int(np.floor(np.log10(contours.interval) + 1e-9))) if contours.interval > 0 else 2
        for k in np.flatnonzero(contours.index).tolist():
            line = view.turned(contours.plan[contours.offsets[k] : contours.offsets[k + 1]])
            for place in _label_places(line, view):
                _write_level(painter, f"{contours.levels[k]:.{decimals}f}", place, palette, taken)


def _write_labels(painter: QPainter, contours: Contours, view: View, palette: theme.Palette) -> None:
    """Write the labels that contours have, as tall as they are on the ground; nothing where they could not be read."""
    tall = contours.label_height / view.size
    if tall < LEGIBLE:
        return
    box = view.box()
    place, angle = contours.labels["place"], contours.labels["angle"]
    reach = contours.label_height * 8.0
    seen = ((place > (box[0] - reach, box[1] - reach)) & (place < (box[2] + reach, box[3] + reach))).all(axis=1)
    font = theme.font(10.0, bold=True)
    # Capitals and digits are about 0.72 of a font's size tall.
    font.setPixelSize(max(round(tall / 0.72), 1))
    painter.save()
    painter.setFont(font)
    painter.setPen(QColor(palette.index))
    texts = contours.texts()
    halo = QColor("#F3EFE4")
    halo.setAlpha(150)
    for k in np.flatnonzero(seen).tolist():
        x, y = view.pixel(float(place[k, 0]), float(place[k, 1]))
        painter.save()
        painter.translate(QPointF(x, y))
        painter.rotate(-float(np.degrees(angle[k])) - view.turn)
        own = float(contours.labels["wide"][k]) / view.size
        # Neighbouring lines show through: the file has no paper to put below a text.
        painter.fillRect(QRectF(-own / 2.0, -0.62 * tall, own, 1.24 * tall), halo)
        wide = 3.0 * own
        painter.drawText(QRectF(-wide / 2.0, -2.0 * tall, wide, 4.0 * tall), 0x84, texts[k])
        painter.restore()
    painter.restore()


def _label_places(line: NDArray[np.float64], view: View) -> list[tuple[float, float, float]]:
    """Return where labels go on one line, as pixel place and angle: every 420 pixels, where it is fairly straight."""
    x = (line[:, 0] - view.west) / view.size
    y = (view.top - line[:, 1]) / view.size
    length = np.concatenate(([0.0], np.cumsum(np.hypot(np.diff(x), np.diff(y)))))
    if length[-1] < 90.0:
        return []
    places = []
    for at in np.arange(min(length[-1] / 2.0, 120.0), length[-1], 420.0)[:40]:
        a, b = np.interp((at - 14.0, at + 14.0), length, x), np.interp((at - 14.0, at + 14.0), length, y)
        if not (0 <= a[0] < view.width and 0 <= b[0] < view.height) or np.hypot(a[1] - a[0], b[1] - b[0]) < 24.0:
            continue
        angle = float(np.degrees(np.arctan2(b[1] - b[0], a[1] - a[0])))
        places.append(
            (float(a.mean()), float(b.mean()), angle - 180.0 * np.sign(angle) if abs(angle) > 90.0 else angle)
        )
    return places


def _write_level(
    painter: QPainter, text: str, place: tuple[float, float, float], palette: theme.Palette, taken: list[QRectF]
) -> None:
    x, y, angle = place
    width = 6.2 * len(text) + 4.0
    reach = QRectF(x - width, y - width, 2.0 * width, 2.0 * width)
    if any(reach.intersects(other) for other in taken):
        return
    taken.append(reach)
    painter.save()
    painter.translate(QPointF(x, y))
    painter.rotate(angle)
    box = QRectF(-width / 2.0, -6.5, width, 13.0)
    halo = QColor("#F3EFE4")
    halo.setAlpha(205)
    painter.fillRect(box, halo)
    painter.setPen(QColor(palette.index))
    painter.drawText(box, 0x84, text)
    painter.restore()
