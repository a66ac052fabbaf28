"""What stands over the plan: north arrow, scale bar and legends, true in the window, in pictures and on paper; marks."""

from __future__ import annotations

import math
from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QImage, QPainter, QPen, QPolygonF

from vastgrid.base.quantities import Unit, unit_word
from vastgrid.base.words import spaced, step_below
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_of, of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, edges
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.polygons import polygon
from vastgrid.styling.colouring import Scale, StyledLayer, point_scale, surface_scale
from vastgrid.styling.look import LineColour
from vastgrid.styling.ramps import category

# So many entries of a legend are listed; a view of fewer pixels across has little room for them.
MOST = 9
NARROW = 520.0


def scales(items: Sequence[StyledLayer], ends: tuple[float, float]) -> list[Scale]:
    """Return what has to be explained: the scales of what is shown, the uppermost first, each once."""
    found: dict[str, Scale] = {}
    for item in reversed(items):
        scale = _scale_of(item, ends)
        if scale is not None:
            found.setdefault(scale.title, scale)
    # Many sources share one legend.
    sources = [scale for scale in found.values() if scale.title == "Source"]
    if len(sources) > 1:
        entries = tuple(entry for scale in sources for entry in scale.entries)
        found["Source"] = Scale("Source", sources[0].colours, entries=entries)
    return list(found.values())[:3]


def _scale_of(layer: StyledLayer, ends: tuple[float, float]) -> Scale | None:
    data = layer.dataset
    if kind_of(data).covers:
        return surface_scale(layer, *ends)
    if data.kind == PointSet.kind:
        scale = point_scale(layer, *ends)
        return scale if scale.entries or not scale.title.startswith("Elevation") else None
    layers = getattr(data, "layers", None)
    if layers is not None and layer.look.colour is LineColour.LAYER:
        entries = tuple((name or "no layer", category(k)) for k, name in enumerate(layers))
        return Scale(data.name or "Layers", category(0).reshape(1, 3), entries=entries)
    return None


def halo_of(palette: theme.Palette) -> QColor:
    """Return the colour behind what is written over the ground."""
    halo = QColor(palette.raised)
    halo.setAlpha(215)
    return halo


def paint_north(painter: QPainter, right: float, top: float, turn: float, palette: theme.Palette) -> None:
    """Paint an arrow to the north; `turn` is the bearing of the picture's upper side in degrees."""
    painter.setFont(theme.font(8.5))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(halo_of(palette))
    painter.drawRoundedRect(QRectF(right - 36, top, 36, 46), 5, 5)
    ink = palette.colour("ink")
    painter.save()
    painter.translate(right - 18.0, top + 16.0)
    painter.rotate(-turn)
    painter.setBrush(ink)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.drawPolygon(QPolygonF([QPointF(0, -12), QPointF(6, 9), QPointF(0, 4), QPointF(-6, 9)]))
    painter.restore()
    painter.setPen(ink)
    text = "N" if turn == 0 else f"N {(-turn) % 360:.0f}°"
    painter.drawText(QRectF(right - 38, top + 29, 40, 15), 0x84, text)


def bar_length(size: float, wanted: float = 130.0) -> float:
    """Return a round length that is drawn at most `wanted` pixels long at a scale."""
    return step_below(wanted * size)


def paint_bar(
    painter: QPainter, left: float, bottom: float, size: float, unit: Unit | None, palette: theme.Palette
) -> None:
    """Paint a scale bar for so many world units per pixel."""
    ink, length = palette.colour("ink"), bar_length(size)
    pixels = length / size
    y = bottom - 18.0
    painter.setFont(theme.font(8.5))
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(halo_of(palette))
    painter.drawRoundedRect(QRectF(left, y - 22, pixels + 60, 32), 5, 5)
    painter.setBrush(ink)
    painter.drawRect(QRectF(left + 10, y, pixels / 2.0, 4))
    painter.setPen(QPen(ink, 1))
    painter.setBrush(QColor(palette.raised))
    painter.drawRect(QRectF(left + 10 + pixels / 2.0, y, pixels / 2.0, 4))
    painter.drawText(QRectF(left, y - 19, 20, 16), 0x84, "0")
    words = f"{length:g}" + unit_word(unit)
    painter.drawText(QRectF(left + 10 + pixels - 40, y - 19, 90, 16), 0x84, words)


def paint_legends(
    painter: QPainter, right: float, top: float, room: float, legend: Sequence[Scale], palette: theme.Palette
) -> None:
    """Paint legends below each other, as many as there is room for; ramps are lower in a narrow view."""
    ramp = 120.0 if right > NARROW else 78.0
    for scale in legend:
        tall = 22.0 + (min(len(scale.entries), MOST + 1) * 16.0 if scale.entries else ramp)
        if tall > room:
            return
        _paint_entries(painter, right, top, tall, scale, palette) if scale.entries else _paint_ramp(
            painter, right, top, tall, scale, palette
        )
        top, room = top + tall + 6.0, room - tall - 6.0


def _title(painter: QPainter, box: QRectF, scale: Scale, palette: theme.Palette) -> None:
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(halo_of(palette))
    painter.drawRoundedRect(box, 5, 5)
    painter.setFont(theme.font(8, bold=True))
    painter.setPen(palette.colour("ink"))
    text = QFontMetricsF(painter.font()).elidedText(scale.title, Qt.TextElideMode.ElideRight, box.width() - 12)
    painter.drawText(QRectF(box.x() + 6, box.y() + 3, box.width() - 12, 15), 0x81, text)
    painter.setFont(theme.font(8))


def _paint_entries(
    painter: QPainter, right: float, top: float, tall: float, scale: Scale, palette: theme.Palette
) -> None:
    painter.setFont(theme.font(8))
    metrics = QFontMetricsF(painter.font())
    shown = list(scale.entries[:MOST])
    rest = len(scale.entries) - len(shown)
    widest = max(metrics.horizontalAdvance(text) for text, _ in shown)
    wide = min(max(widest + 34.0, metrics.horizontalAdvance(scale.title) + 20.0, 80.0), 220.0)
    box = QRectF(right - wide, top, wide, tall)
    _title(painter, box, scale, palette)
    for k, (text, colour) in enumerate(shown):
        y = top + 20.0 + 16.0 * k
        painter.setPen(QPen(palette.colour("line"), 1))
        painter.setBrush(QColor(*(int(v) for v in colour)))
        painter.drawRect(QRectF(box.x() + 7, y + 2, 11, 10))
        painter.setPen(palette.colour("ink"))
        text = metrics.elidedText(text, Qt.TextElideMode.ElideRight, wide - 30)
        painter.drawText(QRectF(box.x() + 24, y - 1, wide - 26, 16), 0x81, text)
    if rest:
        painter.drawText(
            QRectF(box.x() + 24, top + 20.0 + 16.0 * len(shown) - 1, wide - 26, 16), 0x81, f"… {rest} more"
        )


def _paint_ramp(painter: QPainter, right: float, top: float, tall: float, scale: Scale, palette: theme.Palette) -> None:
    painter.setFont(theme.font(8, bold=True))
    wide = min(max(QFontMetricsF(painter.font()).horizontalAdvance(scale.title) + 14.0, 74.0), 170.0)
    box = QRectF(right - wide, top, wide, tall)
    _title(painter, box, scale, palette)
    x, y, high = box.right() - 18.0, top + 29.0, tall - 39.0
    for k in range(int(high)):
        r, g, b = (int(v) for v in scale.colours[len(scale.colours) - 1 - int(k * len(scale.colours) / high)])
        painter.fillRect(QRectF(x, y + k, 11, 1.5), QColor(r, g, b))
    painter.setPen(palette.colour("ink"))
    span = scale.high - scale.low
    decimals = max(0, min(3, 2 - math.floor(math.log10(span)))) if span > 0 else 1
    marks = scale.marks or tuple((v, f"{v:.{decimals}f}") for v in (scale.low, scale.low + span / 2.0, scale.high))
    for value, text in marks:
        at = y + high * (1.0 - (value - scale.low) / span) if span > 0 else y
        painter.drawText(QRectF(x - 74, at - 8, 70, 16), 0x82, text)


def paint_empty(painter: QPainter, width: int, height: int, palette: theme.Palette, doing: str = "") -> None:
    """Say in an empty plan how to begin, or what is being done that will fill it."""
    painter.setPen(palette.colour("ink"))
    painter.setFont(theme.font(14, bold=True))
    box = QRectF(0, height / 2.0 - 46, width, 30)
    painter.drawText(box, 0x84, doing or "Drop files here, or press Import")
    painter.setPen(palette.colour("quiet"))
    painter.setFont(theme.font(10))
    if doing:
        return
    text = "Points, clouds, drawings, LandXML, rasters, vectors, meshes. Then make ground from what came in."
    painter.drawText(box.translated(0, 32), 0x84, text)


# So many courses are drawn as a preview; beyond them it would no longer follow the hand.
MOST_PREVIEWED = 20_000


def paint_preview(painter: QPainter, made: Dataset, view: View, palette: theme.Palette) -> None:
    """Draw what would be made lightly over what is shown: its courses, or its places."""
    courses = made.courses()
    painter.setPen(QPen(palette.colour("action"), 1.0))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, on=False)
    for tin in of_kind([made], Tin):
        _paint_triangles(painter, tin, view, palette)
        return
    plan = view.turned(courses[0] if courses is not None else made.coordinates()[:MOST_PREVIEWED, :2])
    x = (plan[:, 0] - view.west) / view.size
    y = (view.top - plan[:, 1]) / view.size
    if courses is None:
        painter.drawPoints(polygon(x, y))
        return
    offsets = courses[1]
    for k in range(min(len(offsets) - 1, MOST_PREVIEWED)):
        cut = slice(int(offsets[k]), int(offsets[k + 1]))
        if x[cut].max() < 0 or x[cut].min() > view.width or y[cut].max() < 0 or y[cut].min() > view.height:
            continue
        painter.drawPolyline(polygon(x[cut], y[cut]))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)


def _paint_triangles(painter: QPainter, tin: Tin, view: View, palette: theme.Palette) -> None:
    """Draw the edges of a surface, as many as there is time for, and its name, which says what it stands for."""
    plan = view.turned(tin.vertices[:, :2])
    x, y = (plan[:, 0] - view.west) / view.size, (view.top - plan[:, 1]) / view.size
    inside = (x >= 0) & (x <= view.width) & (y >= 0) & (y <= view.height)
    pairs = edges(tin)
    pairs = pairs[inside[pairs].any(axis=1)][:MOST_PREVIEWED]
    for a, b in pairs.tolist():
        painter.drawLine(QPointF(float(x[a]), float(y[a])), QPointF(float(x[b]), float(y[b])))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setFont(theme.font(9))
    wide = QFontMetricsF(painter.font()).horizontalAdvance(tin.name) + 16
    box = QRectF(12, 10, wide, 22)
    painter.fillRect(box, palette.colour("raised"))
    painter.setPen(palette.colour("ink"))
    painter.drawText(box, int(Qt.AlignmentFlag.AlignCenter), tin.name)


def paint_mark(painter: QPainter, at: QPointF, palette: theme.Palette) -> None:
    """Mark a pixel with a ring and two ticks."""
    for colour, width in ((QColor("#FFFFFF"), 4.0), (palette.colour("error"), 2.0)):
        painter.setPen(QPen(colour, width))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(at, 11, 11)
        painter.drawLine(at - QPointF(17, 0), at - QPointF(6, 0))
        painter.drawLine(at + QPointF(6, 0), at + QPointF(17, 0))


def scale_text(size: float, unit: Unit | None, dots: int) -> str:
    """Return a plan's scale, such as “1:4 400”; in degrees or unknown units the side of a pixel.

    Parameters
    ----------
    size : float
        Side of a pixel, in `unit`.
    dots : int
        Pixels of an inch of the screen.
    """
    if unit is None or unit is Unit.DEGREE:
        return f"1 pixel = {size:.3g}"
    ratio = size * float(unit.metres) / (0.0254 / max(dots, 1))
    return f"1:{spaced(round(ratio, -max(int(math.log10(max(ratio, 1.0))) - 1, 0)))}"


def paint_picture(painter: QPainter, picture: QImage, drawn: View, view: View) -> None:
    """Show a picture that was drawn for one view where its place is in another: moved, scaled and turned."""
    x, y = view.pixel(drawn.east, drawn.north)
    ratio, turn = drawn.size / view.size, drawn.turn - view.turn
    # A picture for a finer screen is some pixels of that screen wider than the view, its middle the same.
    size, finer = picture.deviceIndependentSize(), picture.devicePixelRatio()
    if abs(ratio - 1.0) < 1e-9 and turn == 0.0:
        left, top = x - size.width() / 2.0, y - size.height() / 2.0
        painter.drawImage(QPointF(round(left * finer) / finer, round(top * finer) / finer), picture)
        return
    painter.save()
    painter.translate(x, y)
    painter.rotate(turn)
    painter.scale(ratio, ratio)
    painter.drawImage(QPointF(-size.width() / 2.0, -size.height() / 2.0), picture)
    painter.restore()
