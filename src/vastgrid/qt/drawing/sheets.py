"""The plan on a sheet of paper, true to scale."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from functools import singledispatch
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QMarginsF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import QColor, QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QPen, QTransform

from vastgrid.base.files import replacing
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import kind_of, narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.survey import Survey
from vastgrid.looks.colouring import Dressed, Scale, line_colours
from vastgrid.qt.drawing import furniture, rendering
from vastgrid.qt.drawing.lettering import write_levels
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.polygons import polygon

# Width and height of sheets in millimetres, upright (ISO 216).
PAPERS = {"A4": (210, 297), "A3": (297, 420), "A2": (420, 594), "A1": (594, 841), "A0": (841, 1189)}
MARGIN = 10.0
# The title's strip below the plan.
STRIP = 22.0
# Dots per inch of what is drawn as an image on a sheet; lines and letters are placed in the window's 96.
DPI, OWN = 200, 96


@dataclass(frozen=True)
class Sheet:
    """A sheet of paper with the plan on it.

    Attributes
    ----------
    paper : str
        One of `PAPERS`.
    wide : bool
        Whether it lies on its longer side.
    scale : int
        500 for 1:500.
    title : str
        What stands in the title strip.
    """

    paper: str
    wide: bool
    scale: int
    title: str

    def size(self) -> tuple[float, float]:
        """Return width and height in millimetres."""
        width, height = PAPERS[self.paper]
        return (float(height), float(width)) if self.wide else (float(width), float(height))

    def plan_size(self) -> tuple[float, float]:
        """Return width and height of the plan on it, in millimetres."""
        width, height = self.size()
        return width - 2 * MARGIN, height - 2 * MARGIN - STRIP


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
    """

    sheet: Sheet
    view: View
    items: tuple[Dressed, ...]
    unit: Unit | None
    legend: list[Scale]
    words: list[str]


def write_sheet(path: Path, kind: str, page: Page) -> None:
    """Write a sheet as “pdf” or “svg”.

    Raises
    ------
    WriteError
        If the system refuses.
    """
    with replacing(path) as temporary:
        if kind == "svg":
            _write_svg(temporary, page)
            return
        writer = QPdfWriter(str(temporary))
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
    view, items, words = page.view, page.items, page.words
    palette = theme.LIGHT
    left, top = MARGIN * dot, MARGIN * dot
    box = QRectF(left, top, view.width, view.height)
    lines = [own for own in items if kind_of(own.dataset).lines]
    ground = [own for own in items if own not in lines]
    fine = DPI / OWN
    sharp = dataclasses.replace(
        view, size=view.size / fine, width=round(view.width * fine), height=round(view.height * fine)
    )
    image = rendering.draw(ground, sharp, palette, wires=True)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.drawImage(box, image)
    painter.save()
    painter.setClipRect(box)
    painter.translate(left, top)
    ends = rendering.height_range([own.dataset for own in items])
    for own in lines:
        _paint_lines(painter, own, view, ends, palette, dot)
    sets = [own for own in lines if own.dataset.kind == Contours.kind and own.look.labels]
    write_levels(painter, sets, view, palette, [])
    painter.restore()
    ink = palette.colour("ink")
    painter.setPen(QPen(ink, 0.35 * dot))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(box)
    painter.save()
    painter.translate(left, top)
    furniture.paint_north(painter, view.width - 8.0, 8.0, view.turn, palette)
    furniture.paint_legends(painter, view.width - 8.0, 62.0, view.height - 80.0, page.legend, palette)
    furniture.paint_bar(painter, 8.0, float(view.height), view.size, page.unit, palette)
    painter.restore()
    strip = QRectF(left, box.bottom(), view.width, STRIP * dot)
    painter.setPen(QPen(ink, 0.35 * dot))
    painter.drawRect(strip)
    font = theme.font(16, bold=True)
    font.setPixelSize(round(5.0 * dot))
    painter.setFont(font)
    painter.drawText(strip.adjusted(4 * dot, 2 * dot, 0, -10 * dot), 0x81, words[0])
    font.setPixelSize(round(3.2 * dot))
    font.setBold(False)
    painter.setFont(font)
    painter.drawText(strip.adjusted(4 * dot, 11 * dot, 0, -2 * dot), 0x81, "   ·   ".join(words[1:]))


def _paint_lines(
    painter: QPainter, own: Dressed, view: View, ends: tuple[float, float], palette: theme.Palette, dot: float
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


Pen = tuple[Any, Any, str, Any]


@singledispatch
def _pen(data: Dataset, own: Dressed, palette: theme.Palette) -> Pen:
    """Return level and layer of each line, the usual colour, and each line's width in millimetres; 0 draws none."""
    raise TypeError(f"{data.title} is not drawn with a pen")


@_pen.register
def _pen_of_contours(data: Contours, own: Dressed, palette: theme.Palette) -> Pen:
    width = np.where(data.index, 0.30, np.where(data.supplementary, 0.09, 0.13) if own.look.minor else 0.0)
    return data.levels, None, palette.contour, width


@_pen.register
def _pen_of_lines(data: Linework, own: Dressed, palette: theme.Palette) -> Pen:
    return _first_heights(data), data.layer, palette.breakline, np.full(len(data), 0.22 * own.look.width)


@_pen.register
def _pen_of_survey(data: Survey, own: Dressed, palette: theme.Palette) -> Pen:
    return _first_heights(data), None, palette.action, np.full(len(data), 0.22 * own.look.width)


def _first_heights(data: Linework | Survey) -> Any:
    last = max(len(data.vertices) - 1, 0)
    return data.vertices[np.minimum(data.offsets[:-1], last), 2] if len(data) else np.zeros(0)
