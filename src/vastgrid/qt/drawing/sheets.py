"""The plan on a sheet of paper, true to scale."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from functools import singledispatch
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QLineF, QMarginsF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import QColor, QImage, QPageLayout, QPageSize, QPainter, QPainterPath, QPdfWriter, QPen, QTransform

from vastgrid.base.files import replacing
from vastgrid.base.quantities import Unit
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_of, narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.survey import Survey
from vastgrid.qt.drawing import furniture, rendering
from vastgrid.qt.drawing.lettering import paint_names, write_levels
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.polygons import polygon
from vastgrid.styling.colouring import Scale, StyledLayer, line_colours
from vastgrid.styling.paper import MARGIN, STRIP, Sheet, tick_step

# Dots per inch of what is drawn as an image on a sheet; lines and letters are placed in the window's 96.
DPI, OWN = 200, 96


@dataclass(frozen=True, eq=False)
class Page:
    """What is on a sheet.

    Attributes
    ----------
    view : View
        The plan as it lies on the sheet, in the sheet's own pixels.
    items : tuple of Dressed
        What is drawn, the lowest first.
    unit : Unit or None
        Unit of plan.
    legend : list of Scale
        What colours stand for.
    words : list of str
        Title, and what stands beside it.
    wires : bool
        Whether triangles are drawn by their edges.
    """

    sheet: Sheet
    view: View
    items: tuple[StyledLayer, ...]
    unit: Unit | None
    legend: list[Scale]
    words: list[str]
    wires: bool = True


def write_sheet(path: Path, kind: str, page: Page) -> None:
    """Write a sheet as “pdf” or “svg”.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    with replacing(path) as temporary:
        draw_sheet(temporary, kind, page)


def draw_sheet(path: Path, kind: str, page: Page) -> None:
    """Draw a sheet into a file as it is being written."""
    if kind == "svg":
        _write_svg(path, page)
        return
    writer = QPdfWriter(str(path))
    layout = QPageLayout(
        QPageSize(QSizeF(*page.sheet.size()), QPageSize.Unit.Millimeter),
        QPageLayout.Orientation.Portrait,
        QMarginsF(0, 0, 0, 0),
    )
    writer.setPageLayout(layout)
    writer.setResolution(OWN)
    writer.setTitle(page.sheet.title)
    writer.setCreator("Vast Grid")
    painter = QPainter(writer)
    _paint_sheet(painter, page)
    painter.end()


def _write_svg(path: Path, page: Page) -> None:
    from PyQt6.QtSvg import QSvgGenerator

    width, height = page.sheet.size()
    generator = QSvgGenerator()
    generator.setFileName(str(path))
    generator.setResolution(OWN)
    generator.setSize(QSize(round(width / 25.4 * OWN), round(height / 25.4 * OWN)))
    generator.setViewBox(QRectF(0, 0, width / 25.4 * OWN, height / 25.4 * OWN))
    generator.setTitle(page.sheet.title)
    painter = QPainter(generator)
    _paint_sheet(painter, page)
    painter.end()


def finished(
    drawn: QImage, palette: theme.Palette, view: View | None, unit: Unit | None, legend: list[Scale], ratio: float
) -> QImage:
    """Return a picture on the theme's paper, with its furniture as large as in the window."""
    out = QImage(drawn.size(), QImage.Format.Format_RGB32)
    out.fill(palette.colour("paper"))
    painter = QPainter(out)
    painter.drawImage(0, 0, drawn)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setTransform(QTransform.fromScale(ratio, ratio))
    width, height = drawn.width() / ratio, drawn.height() / ratio
    if view is not None:
        furniture.paint_north(painter, width - 14.0, 12.0, view.turn, palette)
        furniture.paint_bar(painter, 12.0, height, view.size * ratio, unit, palette)
    furniture.paint_legends(painter, width - 14.0, 66.0, height - 110.0, legend, palette)
    painter.end()
    return out


def _paint_sheet(painter: QPainter, page: Page) -> None:
    """Paint a sheet: ground and points as an image, lines as lines, furniture, and a strip with the title."""
    dot = OWN / 25.4
    view, items = page.view, page.items
    palette = theme.LIGHT
    left, top = MARGIN * dot, MARGIN * dot
    box = QRectF(left, top, view.width, view.height)
    lines = [item for item in items if kind_of(item.dataset).lines]
    ground = [item for item in items if item not in lines]
    fine = DPI / OWN
    sharp = dataclasses.replace(
        view, size=view.size / fine, width=round(view.width * fine), height=round(view.height * fine)
    )
    image = rendering.draw(ground, sharp, palette, wires=page.wires)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.drawImage(box, image)
    painter.save()
    painter.setClipRect(box)
    painter.translate(left, top)
    ends = rendering.height_range([item.dataset for item in items])
    named: list[QRectF] = []
    for line in lines:
        if line.dataset.kind == Areas.kind:
            _paint_areas(painter, line, view, ends, palette, dot)
        else:
            _paint_lines(painter, line, view, ends, palette, dot)
    for line in lines:
        if line.dataset.kind == Areas.kind:
            paint_names(painter, narrowed(line.dataset, Areas), line.look.label, view, palette, named)
    sets = [line for line in lines if line.dataset.kind == Contours.kind and line.look.labels]
    write_levels(painter, sets, view, palette, [])
    painter.restore()
    ink = palette.colour("ink")
    painter.setPen(QPen(ink, 0.35 * dot))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(box)
    _paint_ticks(painter, page, box, palette, dot)
    painter.save()
    painter.translate(left, top)
    furniture.paint_north(painter, view.width - 8.0, 8.0, view.turn, palette)
    furniture.paint_legends(painter, view.width - 8.0, 62.0, view.height - 80.0, page.legend, palette)
    furniture.paint_bar(painter, 8.0, float(view.height), view.size, page.unit, palette)
    painter.restore()
    _paint_block(painter, page, QRectF(left, box.bottom(), view.width, STRIP * dot), palette, dot)


def _paint_ticks(painter: QPainter, page: Page, box: QRectF, palette: theme.Palette, dot: float) -> None:
    """Paint crosses at round coordinates, with their figures along the frame."""
    if page.unit is None or page.unit is Unit.DEGREE or page.view.turn:
        return
    view, sheet = page.view, page.sheet
    step = tick_step(sheet.scale, float(page.unit.metres))
    west, south, east, north = view.box()
    ink = palette.colour("ink")
    font = theme.font(7, mono=True)
    font.setPixelSize(round(2.1 * dot))
    painter.setFont(font)
    columns = np.arange(np.ceil(west / step), np.floor(east / step) + 1) * step
    rows = np.arange(np.ceil(south / step), np.floor(north / step) + 1) * step
    painter.setPen(QPen(ink, 0.13 * dot))
    arm = 2.0 * dot
    for e in columns.tolist():
        x = box.left() + view.pixel(e, north)[0]
        for n in rows.tolist():
            y = box.top() + view.pixel(e, n)[1]
            painter.drawLine(QLineF(x - arm, y, x + arm, y))
            painter.drawLine(QLineF(x, y - arm, x, y + arm))
    wide, tall = 30.0 * dot, 3.0 * dot
    for e in columns.tolist():
        x = box.left() + view.pixel(e, north)[0]
        for y in (box.top(), box.bottom()):
            inward = 1.0 if y == box.top() else -1.0
            painter.drawLine(QLineF(x, y, x, y + inward * arm))
        if box.left() + wide / 2 < x < box.right() - wide / 2:
            painter.drawText(QRectF(x - wide / 2, box.top() + arm, wide, tall), 0x84, spaced_figure(e))
    for n in rows.tolist():
        y = box.top() + view.pixel(west, n)[1]
        for x in (box.left(), box.right()):
            inward = 1.0 if x == box.left() else -1.0
            painter.drawLine(QLineF(x, y, x + inward * arm, y))
        if box.top() + wide / 2 < y < box.bottom() - wide / 2:
            painter.save()
            painter.translate(box.left() + arm, y)
            painter.rotate(-90.0)
            painter.drawText(QRectF(-wide / 2, 0.0, wide, tall), 0x84, spaced_figure(n))
            painter.restore()


def spaced_figure(value: float) -> str:
    """Return a coordinate with its thousands apart, without needless decimals."""
    whole = round(value)
    return spaced(whole) if abs(value - whole) < 1e-9 * max(1.0, abs(value)) else f"{value:.10g}"


def _paint_block(painter: QPainter, page: Page, strip: QRectF, palette: theme.Palette, dot: float) -> None:
    """Paint the title block: title and note, then scale, date, units and reference system, each in a cell of its own."""
    ink, quiet = palette.colour("ink"), palette.colour("quiet")
    title, *facts = page.words
    names = ("scale", "date", "units plan / height", "reference system")
    cells = [(name, fact) for name, fact in zip(names, facts, strict=False) if fact]
    painter.setPen(QPen(ink, 0.35 * dot))
    painter.drawRect(strip)
    own = min(strip.width() * 0.46, strip.width() - len(cells) * 24.0 * dot)
    font = theme.font(16, bold=True)
    font.setPixelSize(round(5.0 * dot))
    painter.setFont(font)
    left = QRectF(strip.left() + 4 * dot, strip.top() + 3 * dot, own - 8 * dot, 8 * dot)
    painter.drawText(
        left, 0x81, painter.fontMetrics().elidedText(title, Qt.TextElideMode.ElideRight, int(left.width()))
    )
    small = theme.font(8)
    small.setPixelSize(round(2.9 * dot))
    painter.setFont(small)
    painter.drawText(left.translated(0, 8.5 * dot), 0x81, page.sheet.note)
    tiny = theme.font(6)
    tiny.setPixelSize(round(2.1 * dot))
    painter.setFont(tiny)
    painter.setPen(quiet)
    painter.drawText(left.translated(0, 14.0 * dot), 0x81, f"Vast Grid · {page.sheet.paper}")
    share = (strip.width() - own) / max(len(cells), 1)
    for k, (name, fact) in enumerate(cells):
        cell = QRectF(strip.left() + own + k * share, strip.top(), share, strip.height())
        painter.setPen(QPen(ink, 0.18 * dot))
        painter.drawLine(cell.topLeft(), cell.bottomLeft())
        painter.setPen(quiet)
        painter.setFont(tiny)
        painter.drawText(cell.adjusted(2 * dot, 2 * dot, -dot, 0), 0x21, name)
        painter.setPen(ink)
        painter.setFont(small)
        painter.drawText(cell.adjusted(2 * dot, 6 * dot, -dot, -2 * dot), 0x1000 | 0x81, fact)


def _paint_lines(
    painter: QPainter, own: StyledLayer, view: View, ends: tuple[float, float], palette: theme.Palette, dot: float
) -> None:
    data = own.dataset
    if data.kind == Contours.kind and own.look.labels:
        data = narrowed(data, Contours).with_gaps()
    courses = data.courses()
    if courses is None:
        return
    plan, offsets = courses
    level, layer, usual, width = _pen(data, own, palette)
    colours = line_colours(own, level, layer, usual, ends)
    turned = view.turned(plan)
    x, y = (turned[:, 0] - view.west) / view.size, (view.top - turned[:, 1]) / view.size
    for k in range(len(offsets) - 1):
        cut = slice(int(offsets[k]), int(offsets[k + 1]))
        if width[k] == 0.0 or cut.stop - cut.start < 2 or x[cut].max() < 0 or x[cut].min() > view.width:
            continue
        if y[cut].max() < 0 or y[cut].min() > view.height:
            continue
        colour = QColor(*(int(v) for v in colours[k]))
        colour.setAlphaF(own.look.opacity / 100.0)
        painter.setPen(QPen(colour, float(width[k]) * dot))
        painter.drawPolyline(polygon(x[cut], y[cut]))


def _paint_areas(
    painter: QPainter, own: StyledLayer, view: View, ends: tuple[float, float], palette: theme.Palette, dot: float
) -> None:
    """Paint areas as filled paths, holes left out."""
    areas, look = narrowed(own.dataset, Areas), own.look
    colours = line_colours(own, np.zeros(len(areas)), areas.layer, palette.action, ends)
    turned = view.turned(areas.vertices)
    x, y = (turned[:, 0] - view.west) / view.size, (view.top - turned[:, 1]) / view.size
    rings = areas.parts[areas.members]
    for k in range(len(areas)):
        path = QPainterPath()
        path.setFillRule(Qt.FillRule.OddEvenFill)
        for ring in range(int(rings[k]), int(rings[k + 1])):
            cut = slice(int(areas.offsets[ring]), int(areas.offsets[ring + 1]))
            path.addPolygon(polygon(x[cut], y[cut]))
        colour = QColor(*(int(v) for v in colours[k]))
        inside = QColor(colour)
        inside.setAlphaF(look.opacity / 100.0 * look.fill / 100.0)
        colour.setAlphaF(look.opacity / 100.0)
        painter.setBrush(inside)
        painter.setPen(QPen(colour, 0.22 * look.width * dot) if look.width else Qt.PenStyle.NoPen)
        painter.drawPath(path)
    painter.setBrush(Qt.BrushStyle.NoBrush)


Pen = tuple[Any, Any, str, Any]


@singledispatch
def _pen(data: Dataset, layer: StyledLayer, palette: theme.Palette) -> Pen:
    """Return level and layer of each line, the usual colour, and each line's width in millimetres; 0 draws none."""
    raise TypeError(f"{data.title} is not drawn with a pen")


@_pen.register
def _pen_of_contours(data: Contours, layer: StyledLayer, palette: theme.Palette) -> Pen:
    width = np.where(data.index, 0.30, np.where(data.supplementary, 0.09, 0.13) if layer.look.minor else 0.0)
    return data.levels, None, palette.contour, width


@_pen.register
def _pen_of_lines(data: Linework, layer: StyledLayer, palette: theme.Palette) -> Pen:
    return _first_heights(data), data.layer, palette.breakline, np.full(len(data), 0.22 * layer.look.width)


@_pen.register
def _pen_of_survey(data: Survey, layer: StyledLayer, palette: theme.Palette) -> Pen:
    return _first_heights(data), None, palette.action, np.full(len(data), 0.22 * layer.look.width)


def _first_heights(data: Linework | Survey) -> Any:
    last = max(len(data.vertices) - 1, 0)
    return data.vertices[np.minimum(data.offsets[:-1], last), 2] if len(data) else np.zeros(0)
