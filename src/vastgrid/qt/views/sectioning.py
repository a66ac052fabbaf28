"""The section through what is shown: its line in the plan, its strip below, and what is handed on of it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPainter, QPen
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.files import replacing, write_text
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit, length_in, parse_length, unit_word
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import UNKNOWN, Frame, ratio_of
from vastgrid.data.kinds import of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.delivery.deliver import deliver
from vastgrid.lineage import cloudindex
from vastgrid.lineage.cloudindex import WORTH
from vastgrid.measures.section import Piece, Profile, as_csv, as_drawing, cut, lengths_along, stepped
from vastgrid.measures.snap import Caught
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.drawing.images import save_image
from vastgrid.qt.views.plan_view import PlanView
from vastgrid.qt.views.section_view import EXAGGERATIONS, SectionView
from vastgrid.qt.views.tools import Tool
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import entry, flat_button, menu_button
from vastgrid.tasks.runner import Runner


class Sectioning(QWidget):
    """The strip with its controls, and the line it belongs to.

    Parameters
    ----------
    desk : Desk
        Whose data is cut.
    plan : PlanView
        Where the line is drawn.

    Signals
    -------
    shown : bool
        There is a section, or none any more.
    moved
        The line lies elsewhere.
    pointed : east, north
        The pointer is over a place along the section.
    """

    shown = pyqtSignal(bool)
    moved = pyqtSignal()
    pointed = pyqtSignal(float, float)

    def __init__(self, desk: Desk, plan: PlanView, palette: theme.Palette) -> None:
        super().__init__()
        self.desk, self.plan = desk, plan
        self.setObjectName("sectionStrip")
        self.base: Floats | None = None
        self.line: Floats | None = None
        self.sideways = 0.0
        self.fault = ""
        self.taken = 0.0
        self._hover = math.nan
        self._asked = 0
        self._runner = Runner(lambda task: None)
        self.view = SectionView(palette)
        self.view.hovered.connect(self._hovered)
        self.view.stepped.connect(self.step)
        self.earlier = SectionView(palette)
        self.earlier.hide()
        for one, other in ((self.view, self.earlier), (self.earlier, self.view)):
            one.beside = other
            one.seen.connect(other.follow)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(self._controls())
        layout.addWidget(self.earlier, 1)
        layout.addWidget(self.view, 1)
        desk.selected.connect(self._chosen)
        self.hide()

    def _controls(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setContentsMargins(12, 3, 8, 3)
        row.setSpacing(6)
        self.title = QLabel("Section")
        row.addWidget(self.title)
        row.addStretch()
        self.before = QCheckBox("before")
        self.before.setToolTip("Show above what the chosen card was made from, cut along the same line")
        self.before.toggled.connect(lambda _: self.refresh())
        row.addWidget(self.before)
        self.exaggeration = QComboBox()
        self.exaggeration.setAccessibleName("Vertical exaggeration")
        self.exaggeration.addItems(["fill" if value == 0 else f"× {value:g}" for value in EXAGGERATIONS])
        self.exaggeration.currentIndexChanged.connect(self._exaggerated)
        row.addWidget(QLabel("Heights"))
        row.addWidget(self.exaggeration)
        self.band = self._length("0.5", "Band: points count up to this far from the line", self.refresh)
        row.addWidget(QLabel("Band"))
        row.addWidget(self.band)
        self.step_size = self._length("5", "How far a step goes sideways", lambda: None)
        row.addWidget(flat_button("◀", partial(self.step, -1), "Step to the left (Page up)"))
        row.addWidget(self.step_size)
        row.addWidget(flat_button("▶", partial(self.step, 1), "Step to the right (Page down)"))
        row.addWidget(menu_button("Export ▾", self._fill_exports, "Hand the section on"))
        row.addWidget(flat_button("✕", self.close_section, "Close the section"))
        return row

    def _fill_exports(self, menu: QMenu) -> None:
        for text, kind in (
            ("Table (CSV) …", "csv"),
            ("Drawing (DXF) …", "dxf"),
            ("Picture (SVG) …", "svg"),
            ("Picture (PNG) …", "png"),
        ):
            entry(menu, text, partial(self.desk.guarded, partial(self.ask_export, kind)))

    def _length(self, text: str, tip: str, changed: Any) -> QLineEdit:
        edit = QLineEdit(text)
        edit.setFixedWidth(58)
        edit.setToolTip(tip)
        edit.setAccessibleName(tip)
        edit.editingFinished.connect(changed)
        return edit

    def _value(self, edit: QLineEdit) -> float:
        try:
            length = parse_length(edit.text())
        except CallError:
            return 0.0
        unit = self.frame_().horizontal
        return abs(length_in(length, unit, unit or Unit.METRE))

    def band_width(self) -> float:
        """Return how far from the line points count, in the unit of plan."""
        return self._value(self.band)

    # -- the line

    def draw(self) -> None:
        """Let the section's line be drawn in the plan: two places, or more for a polyline."""
        self.plan.use(Tool(self._drawn, ended=lambda: self.desk.say("")))
        self.desk.say("Click where the section begins, bends and ends; Enter or a double click ends it, Esc gives up")

    def _drawn(self, places: list[Caught]) -> None:
        self.along(np.array([(each.east, each.north) for each in places]))

    def pick(self) -> None:
        """Let a line that is shown be clicked: an alignment, a breakline; the section runs along it."""
        self.plan.use(Tool(self._picked, least=1, most=1, ended=lambda: self.desk.say("")))
        self.desk.say("Click an alignment or any other line; the section runs along it")

    def _picked(self, places: list[Caught]) -> None:
        line = self.plan.line_at(places[0].east, places[0].north)
        if line is None:
            self.desk.say("there is no line at that place; click nearer to one that is shown")
            return
        self.along(np.asarray(line[:, :2], np.float64))

    def along(self, line: Floats) -> None:
        """Cut along a line (n ≥ 2 places)."""
        step = np.hypot(*np.diff(line, axis=0).T)
        line = line[np.concatenate(([True], step > 0))]
        if len(line) < 2:
            return
        self.base, self.line, self.sideways = line, line, 0.0
        self.shown.emit(True)
        self.refresh()

    def step(self, by: int) -> None:
        """Move the section sideways by a step."""
        if self.base is None:
            return
        self.sideways += by * self._value(self.step_size)
        self.line = stepped(self.base, self.sideways) if self.sideways else self.base
        self.refresh()

    def close_section(self) -> None:
        """Take the section away."""
        self.base = self.line = None
        self._hover = math.nan
        self.shown.emit(False)
        self.plan.update()

    def frame_(self) -> Frame:
        """Return the units of what is cut."""
        items = self.plan.items
        return items[0].dataset.frame if items else UNKNOWN

    def refresh(self) -> None:
        """Cut anew, off the interface thread."""
        line = self.line
        if line is None:
            return
        datasets = [item.dataset for item in reversed(self.plan.items)]
        band = self.band_width()
        self._asked += 1
        number = self._asked

        earlier = self._made_from()

        def work(progress: Progress) -> tuple[list[Profile], list[Profile]]:
            now, then = (cut(each, line, band, clouds_along(each, line, band)) for each in (datasets, earlier))
            return now, then

        def done(made: tuple[list[Profile], list[Profile]]) -> None:
            if number == self._asked:
                self._show(*made)

        def failed(why: str) -> None:
            self.fault = why

        self._runner.cancel_all()
        self.desk.start_behind(self._runner, "cutting a section", work, done, failed)
        self.plan.update()
        self.moved.emit()

    def _chosen(self) -> None:
        if self.line is not None:
            self._made_from()
            if self.before.isChecked():
                self.refresh()

    def _made_from(self) -> list[Dataset]:
        """Return what the chosen card was made from, where that is of its own kind and is to be seen."""
        graph, chosen = self.desk.session.graph, self.desk.selection
        if len(chosen) != 1 or chosen[0] not in graph:
            return []
        own = graph[chosen[0]]
        found = [card for card in graph.node(chosen[0]).inputs if card in graph and graph[card].kind == own.kind]
        self.before.setVisible(bool(found) or self.before.isChecked())
        if not self.before.isChecked():
            return []
        return [dataset for card in found if (dataset := self.desk.dataset(card)) is not None]

    def _show(self, made: list[Profile], earlier: list[Profile]) -> None:
        if self.line is None:
            return
        frame = self.frame_()
        total = float(lengths_along(self.line)[-1])
        units = (frame.horizontal, frame.vertical)
        self.earlier.setVisible(bool(earlier))
        self.earlier.show_profiles(earlier, total, units, ratio_of(frame))
        self.view.show_profiles(made, total, units, ratio_of(frame))
        unit = unit_word(frame.horizontal)
        side = (
            "" if not self.sideways else f" · {abs(self.sideways):g}{unit} {'right' if self.sideways > 0 else 'left'}"
        )
        self.title.setText(f"<b>Section A–B</b> {total:.1f}{unit}{side} · heights × {self.view.exaggeration():.3g}")

    @property
    def busy(self) -> bool:
        """Whether the section is being cut."""
        return self._runner.busy

    def _exaggerated(self, k: int) -> None:
        self.view.wanted = self.earlier.wanted = EXAGGERATIONS[k]
        self.view.update()
        if self.line is not None:
            self._show(self.view.profiles, self.earlier.profiles)

    def _hovered(self, distance: float) -> None:
        self._hover = distance
        self.plan.update()
        place = self.place(distance)
        if place is not None:
            self.pointed.emit(*place)

    def place(self, distance: float) -> tuple[float, float] | None:
        """Return the place at a distance along the section."""
        if self.line is None or math.isnan(distance):
            return None
        total = lengths_along(self.line)
        return float(np.interp(distance, total, self.line[:, 0])), float(np.interp(distance, total, self.line[:, 1]))

    def paint_line(self, painter: QPainter) -> None:
        """Paint the section's line into the plan."""
        if self.line is None:
            return
        plan = self.plan
        points = [QPointF(*plan.view.pixel(*place)) for place in self.line[:, :2].tolist()]
        halo, red = plan.palette_.colour("raised"), plan.palette_.colour("error")
        for pen in (QPen(halo, 4.0), QPen(red, 1.8, Qt.PenStyle.DashLine)):
            painter.setPen(pen)
            for a, b in itertools.pairwise(points):
                painter.drawLine(a, b)
        painter.setFont(theme.font(10, bold=True))
        for point, text in ((points[0], "A"), (points[-1], "B")):
            painter.setPen(QPen(halo, 1.5))
            painter.setBrush(red)
            painter.drawEllipse(point, 4.5, 4.5)
            box = QRectF(point.x() - 11, point.y() - 26, 22, 18)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(halo)
            painter.drawRoundedRect(box, 4, 4)
            painter.setPen(red)
            painter.drawText(box, 0x84, text)
        at = self.place(self._hover)
        if at is not None:
            painter.setPen(QPen(halo, 1.5))
            painter.setBrush(plan.palette_.colour("action"))
            painter.drawEllipse(QPointF(*plan.view.pixel(*at)), 5.0, 5.0)

    # -- handing on

    def ask_export(self, kind: str) -> None:
        """Ask for a file and write the section to it."""
        if self.line is None:
            raise CallError("draw a section first")
        folder = self.desk.session.deliver_folder
        name, _ = QFileDialog.getSaveFileName(
            self, "Export the section", str(folder / f"section.{kind}"), f"{kind.upper()} (*.{kind})"
        )
        if name:
            self.desk.session.refuse_output(Path(name))
            self.export(Path(name), kind)

    def export(self, path: Path, kind: str) -> None:
        """Write the section.

        Raises
        ------
        WriteError
            If the system refuses.
        """
        assert self.line is not None
        profiles, line = list(self.view.profiles), self.line
        if kind == "csv":
            write_text(path, as_csv(profiles, line))
            self.desk.say(f"{path.name} is written")
        elif kind == "dxf":
            self._export_drawing(path, profiles)
        elif kind == "png":
            image = QImage(2 * self.view.size(), QImage.Format.Format_ARGB32)
            image.setDevicePixelRatio(2.0)
            image.fill(self.view.palette_.colour("paper"))
            painter = QPainter(image)
            self.view.paint(painter, QRectF(self.view.rect()))
            painter.end()
            save_image(image, path)
            self.desk.say(f"{path.name} is written")
        else:
            self._export_svg(path)
            self.desk.say(f"{path.name} is written")

    def _export_drawing(self, path: Path, profiles: list[Profile]) -> None:
        work = as_drawing(profiles, self.frame_())
        kind = catalog.format_named("dxf")

        def write(progress: Progress) -> str:
            return deliver([work], path, kind, kind.write_params(), progress).sentence()

        self.desk.start(f"writing {path.name}", write, self.desk.say)

    def _export_svg(self, path: Path) -> None:
        from PyQt6.QtSvg import QSvgGenerator

        with replacing(path) as temporary:
            generator = QSvgGenerator()
            generator.setFileName(str(temporary))
            generator.setSize(QSize(self.view.width(), self.view.height()))
            generator.setViewBox(QRectF(self.view.rect()))
            generator.setTitle("Section")
            painter = QPainter(generator)
            painter.fillRect(QRectF(self.view.rect()), self.view.palette_.colour("paper"))
            self.view.paint(painter, QRectF(self.view.rect()))
            painter.end()

    def close_runner(self) -> None:
        """Stop cutting."""
        self._runner.close()


def clouds_along(datasets: Sequence[Dataset], line: Floats, band: float) -> dict[str, Iterable[Piece]]:
    """Return the pieces near a line of clouds that have an order; others are searched whole."""
    found: dict[str, Iterable[Piece]] = {}
    low, high = line[:, :2].min(axis=0) - band, line[:, :2].max(axis=0) + band
    for each in of_kind(datasets, PointSet):
        if len(each.xyz) >= WORTH:
            index = cloudindex.ready.get(each.content)
            if index is not None:
                origin = np.array((index.west, index.south, index.low))
                box = (float(low[0]), float(low[1]), float(high[0]), float(high[1]))
                spacing = max(float(np.hypot(*(high - low))) / 6000.0, 1e-6)
                found[each.content] = [(part + origin, rows) for part, rows in index.visible(box, spacing)]
    return found
