"""Pictures of the views: PNG of any size, and the plan on a sheet, true to scale, as PDF or SVG."""

from __future__ import annotations

import dataclasses
import datetime
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from PyQt6.QtCore import QMarginsF, QRectF, QSize, QSizeF, Qt
from PyQt6.QtGui import QColor, QImage, QPageLayout, QPageSize, QPainter, QPdfWriter, QPen, QTransform
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QFormLayout,
    QLabel,
    QLineEdit,
    QSpinBox,
    QWidget,
)

from vastgrid.base.errors import CallError
from vastgrid.base.files import replacing
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import spaced
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.survey import Survey
from vastgrid.looks.colouring import Dressed, Scale, line_colours
from vastgrid.qt import furniture, rendering, theme
from vastgrid.qt.lettering import write_levels
from vastgrid.qt.polygons import polygon
from vastgrid.qt.view import View

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow

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


class PictureDialog(QDialog):
    """Asks for the size of a picture, and which view it shows."""

    def __init__(self, parent: QWidget, size: QSize, which: str) -> None:
        super().__init__(parent)
        self.setWindowTitle("Picture")
        layout = QFormLayout(self)
        self.view = QComboBox()
        self.view.addItems(["plan", "3D"])
        self.view.setCurrentText("3D" if which == "3D" else "plan")
        layout.addRow("View", self.view)
        self.width_, self.height_ = QSpinBox(), QSpinBox()
        for spin, value, name in (
            (self.width_, 2 * size.width(), "Width"),
            (self.height_, 2 * size.height(), "Height"),
        ):
            spin.setRange(16, 20_000)
            spin.setValue(value)
            spin.setSuffix(" pixels")
            layout.addRow(name, spin)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        buttons.addButton("Save as …", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addRow(buttons)


class SheetDialog(QDialog):
    """Asks for paper, scale and title of a sheet."""

    def __init__(self, parent: QWidget, title: str, scale: int) -> None:
        super().__init__(parent)
        self.setWindowTitle("Plan to scale")
        layout = QFormLayout(self)
        self.title = QLineEdit(title)
        self.paper, self.lies = QComboBox(), QComboBox()
        self.paper.addItems(list(PAPERS))
        self.paper.setCurrentText("A3")
        self.lies.addItems(["landscape", "portrait"])
        self.scale = QSpinBox()
        self.scale.setRange(1, 10_000_000)
        self.scale.setPrefix("1 : ")
        self.scale.setValue(scale)
        self.kind = QComboBox()
        self.kind.addItems(["PDF", "SVG"])
        for name, widget in (
            ("Title", self.title), ("Paper", self.paper), ("Lies", self.lies), ("Scale", self.scale), ("File", self.kind),
        ):  # fmt: skip
            layout.addRow(name, widget)
        self.note = QLabel()
        self.note.setProperty("quiet", "true")
        layout.addRow(self.note)
        for signal in (self.paper.currentTextChanged, self.lies.currentTextChanged, self.scale.valueChanged):
            signal.connect(lambda *_: self._tell())
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        buttons.addButton("Save as …", QDialogButtonBox.ButtonRole.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addRow(buttons)
        self._tell()

    def sheet(self) -> Sheet:
        """Return what was asked for."""
        return Sheet(
            self.paper.currentText(), self.lies.currentText() == "landscape", self.scale.value(), self.title.text()
        )

    def _tell(self) -> None:
        width, height = (mm / 1000.0 * self.scale.value() for mm in self.sheet().plan_size())
        self.note.setText(f"The sheet shows {spaced(width)} × {spaced(height)} m")


class Picturing:
    """Saves pictures of the window's views.

    Parameters
    ----------
    window : MainWindow
        Whose views they are.
    """

    def __init__(self, window: MainWindow) -> None:
        self.window = window

    def _folder(self) -> Path:
        session = self.window.session
        return Path(str(session.settings.get("deliver_folder", session.folder.parent)))

    def ask_picture(self) -> None:
        """Ask for size and file, and save the picture."""
        views = self.window.views
        dialog = PictureDialog(self.window, self.window.plan.size(), views.shown)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Save the picture", str(self._folder() / f"{dialog.view.currentText()}.png"), "PNG (*.png)"
        )
        if name:
            self.window.session.refuse_output(Path(name))
            size = QSize(dialog.width_.value(), dialog.height_.value())
            self.save_picture(Path(name), dialog.view.currentText(), size)

    def save_picture(self, path: Path, which: str, size: QSize) -> None:
        """Draw a view at a size of its own, off the interface thread, and write it."""
        from vastgrid.qt.sectioning import save_image

        window = self.window
        plan, space, palette = window.plan, window.views.space, window.palette_
        if which == "plan":
            # The same ground is seen, whatever the number of pixels.
            ratio = max(plan.width() / size.width(), plan.height() / size.height())
            view = dataclasses.replace(plan.view, size=plan.view.size * ratio, width=size.width(), height=size.height())
            items, unit, legend = tuple(plan.items), plan.unit, list(plan.legend)

            def draw(progress: Progress) -> QImage:
                drawn = rendering.draw(items, view, palette, wires=True)
                return _finished(drawn, palette, view, unit, legend, size.width() / max(plan.width(), 1))
        else:
            legend3 = list(space.legend)

            def draw(progress: Progress) -> QImage:
                drawn = space.picture(size.width(), size.height())
                return _finished(drawn, palette, None, None, legend3, size.width() / max(space.width(), 1))

        def work(progress: Progress) -> str:
            save_image(draw(progress), path)
            progress.report(1.0)
            return f"{path.name} is written"

        window.start(f"drawing {path.name}", work, window.say)

    def ask_sheet(self) -> None:
        """Ask for paper, scale and file, and save the plan on a sheet."""
        plan = self.window.plan
        metres = self._metres()
        # The next usual scale at which what is seen fits on the paper that is proposed.
        wanted = plan.view.size * plan.width() * metres / 0.4
        scale = next(
            (s for s in (50, 100, 200, 250, 500, 1000, 2000, 2500, 5000, 10_000, 25_000, 50_000) if s >= wanted),
            100_000,
        )
        dialog = SheetDialog(self.window, self.window.session.name, scale)
        if dialog.exec() != QDialog.DialogCode.Accepted:
            return
        kind = dialog.kind.currentText().lower()
        name, _ = QFileDialog.getSaveFileName(
            self.window, "Save the plan", str(self._folder() / f"plan.{kind}"), f"{kind.upper()} (*.{kind})"
        )
        if name:
            self.window.session.refuse_output(Path(name))
            self.save_sheet(Path(name), dialog.sheet(), kind)

    def _metres(self) -> float:
        unit = self.window.plan.unit
        if unit is None or unit is Unit.DEGREE:
            raise CallError("the plan's unit is unknown or degrees, so it has no scale; say the unit at import first")
        return float(unit.metres)

    def save_sheet(self, path: Path, sheet: Sheet, kind: str) -> None:
        """Draw the plan on a sheet, the middle of what is seen in its middle."""
        window = self.window
        width, height = sheet.plan_size()
        size = sheet.scale * 0.0254 / OWN / self._metres()
        view = View(
            window.plan.view.east, window.plan.view.north, size, round(width / 25.4 * OWN), round(height / 25.4 * OWN),
            window.plan.view.turn,
        )  # fmt: skip
        items, unit, legend = tuple(window.plan.items), window.plan.unit, list(window.plan.legend)
        words = [
            sheet.title, f"1 : {sheet.scale}", datetime.date.today().isoformat(), window.header.units.text(),
        ]  # fmt: skip

        def work(progress: Progress) -> str:
            with replacing(path) as temporary:
                if kind == "pdf":
                    writer = QPdfWriter(str(temporary))
                    layout = QPageLayout(
                        QPageSize(QSizeF(*sheet.size()), QPageSize.Unit.Millimeter),
                        QPageLayout.Orientation.Portrait,
                        QMarginsF(0, 0, 0, 0),
                    )
                    writer.setPageLayout(layout)
                    writer.setResolution(OWN)
                    writer.setTitle(sheet.title)
                    writer.setCreator("Vast Grid")
                    painter = QPainter(writer)
                    _paint_sheet(painter, sheet, view, items, unit, legend, words)
                    painter.end()
                else:
                    _write_svg(temporary, sheet, view, items, unit, legend, words)
            progress.report(1.0)
            return f"{path.name}: the plan at 1:{sheet.scale} on {sheet.paper}"

        window.start(f"drawing {path.name}", work, window.say)


def _write_svg(
    path: Path,
    sheet: Sheet,
    view: View,
    items: tuple[Dressed, ...],
    unit: Unit | None,
    legend: list[Scale],
    words: list[str],
) -> None:
    from PyQt6.QtSvg import QSvgGenerator

    width, height = sheet.size()
    generator = QSvgGenerator()
    generator.setFileName(str(path))
    generator.setResolution(OWN)
    generator.setSize(QSize(round(width / 25.4 * OWN), round(height / 25.4 * OWN)))
    generator.setViewBox(QRectF(0, 0, width / 25.4 * OWN, height / 25.4 * OWN))
    generator.setTitle(sheet.title)
    painter = QPainter(generator)
    _paint_sheet(painter, sheet, view, items, unit, legend, words)
    painter.end()


def _finished(
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


def _paint_sheet(
    painter: QPainter,
    sheet: Sheet,
    view: View,
    items: tuple[Dressed, ...],
    unit: Unit | None,
    legend: list[Scale],
    words: list[str],
) -> None:
    """Paint a sheet: ground and points as an image, lines as lines, furniture, and a strip with the title."""
    dot = OWN / 25.4
    palette = theme.LIGHT
    left, top = MARGIN * dot, MARGIN * dot
    box = QRectF(left, top, view.width, view.height)
    lines = [own for own in items if isinstance(own.dataset, Linework | Survey | Contours)]
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
    sets = [own for own in lines if isinstance(own.dataset, Contours) and own.look.labels]
    write_levels(painter, sets, view, palette, [])
    painter.restore()
    ink = palette.colour("ink")
    painter.setPen(QPen(ink, 0.35 * dot))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawRect(box)
    painter.save()
    painter.translate(left, top)
    furniture.paint_north(painter, view.width - 8.0, 8.0, view.turn, palette)
    furniture.paint_legends(painter, view.width - 8.0, 62.0, view.height - 80.0, legend, palette)
    furniture.paint_bar(painter, 8.0, float(view.height), view.size, unit, palette)
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
    if isinstance(data, Contours):
        plan, level, layer = data.plan, data.levels, None
        usual = palette.contour
    else:
        assert isinstance(data, Linework | Survey)
        plan, layer = data.vertices, data.layer if isinstance(data, Linework) else None
        level = data.vertices[np.minimum(data.offsets[:-1], max(len(plan) - 1, 0)), 2] if len(data) else np.zeros(0)
        usual = palette.action if isinstance(data, Survey) else palette.breakline
    colours = line_colours(own, level, layer, usual, ends)
    turned = view.turned(plan)
    x, y = (turned[:, 0] - view.west) / view.size, (view.top - turned[:, 1]) / view.size
    for k in range(len(data.offsets) - 1):
        cut = slice(int(data.offsets[k]), int(data.offsets[k + 1]))
        if cut.stop - cut.start < 2 or x[cut].max() < 0 or x[cut].min() > view.width:
            continue
        if y[cut].max() < 0 or y[cut].min() > view.height:
            continue
        index = isinstance(data, Contours) and bool(data.index[k])
        if isinstance(data, Contours) and not index and not own.look.minor:
            continue
        width = (0.30 if index else 0.13) if isinstance(data, Contours) else 0.22 * own.look.width
        colour = QColor(*(int(v) for v in colours[k]))
        colour.setAlphaF(own.look.opacity / 100.0)
        painter.setPen(QPen(colour, width * dot))
        painter.drawPolyline(polygon(x[cut], y[cut]))
