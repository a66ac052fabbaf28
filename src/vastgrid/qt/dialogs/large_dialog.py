"""Working on a large folder: files, steps and result are named, the plan of tiles is drawn, and fills up while it runs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QMenu,
    QProgressBar,
    QPushButton,
    QScrollArea,
    QSpinBox,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Severity
from vastgrid.data.outline import Box
from vastgrid.declarations.conversion import Conversion
from vastgrid.execution.input_options import Options, Said
from vastgrid.execution.run_log import Via
from vastgrid.params import declare
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import menu_button
from vastgrid.qt.widgets.forms import ParamForm
from vastgrid.qt.widgets.labels import label
from vastgrid.tiled.stages import TileState
from vastgrid.tiling.engine import cores


@dataclass(frozen=True, slots=True)
class Wish:
    """What is to be done: files or folders, steps, the result, how wide tiles are and how many make them."""

    paths: tuple[Path, ...]
    vias: tuple[Via, ...]
    target: Path
    tile: str
    workers: int
    cluster: str
    read: Options
    units: Said


@dataclass(frozen=True, slots=True)
class Layout:
    """What a plan says: text, files and tiles as rectangles."""

    text: str
    files: tuple[Box, ...]
    tiles: tuple[Box, ...]


class TilePlan(QWidget):
    """Draws the outlines of files, and tiles that fill up."""

    def __init__(self, palette: theme.Palette) -> None:
        super().__init__()
        self.palette_ = palette
        self.files: tuple[Box, ...] = ()
        self.tiles: tuple[Box, ...] = ()
        self.done: dict[Box, bool] = {}
        self.setMinimumSize(QSize(320, 260))
        self.setAccessibleName("Plan of files and tiles")

    def show_layout(self, layout: Layout) -> None:
        """Show a plan, nothing of it done."""
        self.files, self.tiles, self.done = layout.files, layout.tiles, {}
        self.update()

    def fill(self, box: Box, *, good: bool) -> None:
        """Mark a tile as made."""
        self.done[box] = good
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        p = self.palette_
        painter.fillRect(self.rect(), p.colour("raised"))
        every = [*self.files, *self.tiles]
        if not every:
            painter.setPen(p.colour("quiet"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, "Files and tiles show here after a look.")
            return
        west, south = min(b.west for b in every), min(b.south for b in every)
        east, north = max(b.east for b in every), max(b.north for b in every)
        room = QRectF(self.rect()).adjusted(10, 10, -10, -10)
        scale = min(room.width() / max(east - west, 1e-9), room.height() / max(north - south, 1e-9))
        left = room.center().x() - scale * (east - west) / 2.0
        top = room.center().y() - scale * (north - south) / 2.0

        def place(box: Box) -> QRectF:
            return QRectF(
                left + (box.west - west) * scale,
                top + (north - box.north) * scale,
                (box.east - box.west) * scale,
                (box.north - box.south) * scale,
            )

        for box, good in self.done.items():
            painter.fillRect(place(box), p.colour("chip") if good else p.colour("warning"))
        painter.setPen(p.colour("line"))
        for box in self.tiles:
            painter.drawRect(place(box))
        painter.setPen(p.colour("action"))
        for box in self.files:
            painter.drawRect(place(box))


class LargeDialog(QDialog):
    """Asks what is to be done with a large folder, shows the plan, and the work.

    Signals
    -------
    looked : Wish
        The headers are to be looked at.
    begun : Wish
        The work is to begin.
    held : bool
        It is to wait, or to go on.
    stopped : ()
        It is to stop; tiles that are made stay.
    """

    looked = pyqtSignal(object)
    begun = pyqtSignal(object)
    held = pyqtSignal(bool)
    stopped = pyqtSignal()

    def __init__(
        self, parent: QWidget | None, palette: theme.Palette, guarded: Callable[[Callable[[], object]], None]
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Work on a large folder")
        self.setProperty("manual", "larger-than-memory")
        self.resize(940, 600)
        self.palette_, self._guarded = palette, guarded
        self.paths: list[Path] = []
        self.vias: list[Via] = []
        self.read, self.units = Options(), Said()
        outer = QHBoxLayout(self)
        left = QVBoxLayout()
        left.addWidget(
            label(
                "A folder of clouds or rasters is one. Steps run on tiles; the result does not depend on them.",
                quiet=True,
            )
        )
        form = QFormLayout()
        self.where = QLineEdit()
        self.where.setReadOnly(True)
        self.where.setAccessibleName("Folder or files")
        form.addRow(
            "Data", self._with_buttons(self.where, ("Folder …", self._ask_folder), ("Files …", self._ask_files))
        )
        self.steps = QListWidget()
        self.steps.setAccessibleName("Steps")
        self.steps.setMaximumHeight(130)
        self.steps.setWordWrap(True)
        self.steps.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.steps.itemActivated.connect(lambda _: self._change())
        adding = menu_button("Add a step ▾", self._fill_steps, tip="Add a step")
        row = QHBoxLayout()
        row.addWidget(adding)
        for text, run in (("Change …", self._change), ("Take out", self._take_out)):
            row.addWidget(self._button(text, run))
        row.addStretch()
        column = QVBoxLayout()
        column.addWidget(self.steps)
        column.addLayout(row)
        form.addRow("Steps", column)
        self.target = QLineEdit()
        self.target.setAccessibleName("Result")
        self.target.setPlaceholderText("ground.tif, ground.laz, contours.gpkg …")
        self.target.setToolTip(f"Its ending says what is made: {self.target.placeholderText()}")
        form.addRow("Result", self._with_buttons(self.target, ("Choose …", self._ask_target)))
        self.tile = QLineEdit()
        self.tile.setAccessibleName("Width of a tile")
        self.tile.setPlaceholderText("automatic; or 1000m")
        form.addRow("Tiles", self.tile)
        self.workers = QSpinBox()
        self.workers.setRange(0, 512)
        self.workers.setValue(cores())
        self.workers.setAccessibleName("Workers")
        self.workers.setSpecialValueText("this program alone")
        form.addRow("Workers", self.workers)
        self.cluster = QLineEdit()
        self.cluster.setAccessibleName("Scheduler")
        self.cluster.setPlaceholderText("none; or tcp://HOST:PORT of one that is there")
        self.cluster.setToolTip(self.cluster.placeholderText())
        form.addRow("Scheduler", self.cluster)
        left.addLayout(form)
        self.card = QCheckBox("Bring the result into the job")
        self.card.setChecked(True)
        left.addWidget(self.card)
        left.addStretch()
        buttons = QHBoxLayout()
        self.look = self._button("Look", lambda: self.looked.emit(self.wish()))
        self.begin = self._button("Begin", lambda: self.begun.emit(self.wish()))
        self.begin.setProperty("main", "true")
        self.wait = self._button("Wait", self._toggle_wait)
        self.stop = self._button("Stop", self.stopped.emit)
        for button in (self.look, self.begin, self.wait, self.stop):
            buttons.addWidget(button)
        left.addLayout(buttons)
        outer.addLayout(left, 1)
        right = QVBoxLayout()
        self.plan = TilePlan(palette)
        right.addWidget(self.plan, 2)
        self.bar = QProgressBar()
        self.bar.setTextVisible(False)
        self.bar.setAccessibleName("Progress")
        right.addWidget(self.bar)
        self.state = label("", quiet=True)
        right.addWidget(self.state)
        self.text = label("")
        self.text.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.text.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setObjectName("panelScroll")
        scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self.text.setObjectName("panelBody")
        scroll.setWidget(self.text)
        right.addWidget(scroll, 1)
        outer.addLayout(right, 1)
        self.show_working(working=False)

    def _button(self, text: str, run: Callable[[], object]) -> QPushButton:
        button = QPushButton(text)
        button.setAutoDefault(False)
        button.clicked.connect(lambda _=False: self._guarded(run))
        return button

    def _with_buttons(self, field: QWidget, *buttons: tuple[str, Callable[[], object]]) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(field, 1)
        for text, run in buttons:
            row.addWidget(self._button(text, run))
        return row

    # -- what is asked

    def wish(self) -> Wish:
        """Return what is asked for.

        Raises
        ------
        CallError
            If something is missing.
        """
        if not self.paths:
            raise CallError("name a folder or files first")
        if not self.target.text().strip():
            raise CallError("name the result: its ending says what it is")
        return Wish(
            tuple(self.paths),
            tuple(self.vias),
            Path(self.target.text().strip()).expanduser(),
            self.tile.text().strip(),
            self.workers.value(),
            self.cluster.text().strip(),
            self.read,
            self.units,
        )

    def set_paths(self, paths: list[Path]) -> None:
        """Name the data."""
        self.paths = paths
        names = ", ".join(path.name for path in paths[:3])
        self.where.setText(names + (f" and {len(paths) - 3} more" if len(paths) > 3 else ""))

    def add_step(self, conversion: Conversion, words: dict[str, str]) -> None:
        """Add a step."""
        self.vias.append(Via(conversion, words))
        self._show_steps()

    def _show_steps(self) -> None:
        self.steps.clear()
        for k, via in enumerate(self.vias):
            usual = declare.to_words(via.conversion.params())
            said = [f"{name} {text}" for name, text in via.words.items() if text and text != usual.get(name)]
            self.steps.addItem(f"{k + 1}. {via.conversion.title}{': ' + ', '.join(said) if said else ''}")

    def _fill_steps(self, menu: QMenu) -> None:
        for each in catalog.CONVERSIONS:
            if each.tiles is not None and not each.answers:
                action = menu.addAction(each.title)
                assert action is not None
                action.setToolTip(each.help)
                action.triggered.connect(lambda _=False, own=each: self.ask_step(own, {}))

    def ask_step(self, conversion: Conversion, words: dict[str, str], at: int | None = None) -> None:
        """Ask for the parameters of a step, and add it or put it in the place of another."""
        dialog = QDialog(self)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle(conversion.title)
        dialog.setProperty("manual", f"conversion-{conversion.id}")
        layout = QVBoxLayout(dialog)
        layout.addWidget(label(conversion.help))
        usual = declare.to_words(declare.build(conversion.params, words))
        form = ParamForm(conversion.params, usual, {})
        layout.addWidget(form)
        take = QPushButton("Add step")
        take.setProperty("main", "true")
        layout.addWidget(take)

        def taken() -> None:
            given = declare.canonical(conversion.params, form.words())
            if at is None:
                self.add_step(conversion, given)
            else:
                self.vias[at] = Via(conversion, given)
                self._show_steps()
            dialog.close()

        take.clicked.connect(lambda _=False: self._guarded(taken))
        dialog.open()

    def _change(self) -> None:
        at = self.steps.currentRow()
        if at >= 0:
            self.ask_step(self.vias[at].conversion, self.vias[at].words, at)

    def _take_out(self) -> None:
        at = self.steps.currentRow()
        if at >= 0:
            del self.vias[at]
            self._show_steps()

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder of clouds or rasters")
        if name:
            self.set_paths([Path(name)])

    def _ask_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Clouds or rasters")
        if names:
            self.set_paths([Path(name) for name in names])

    def _ask_target(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "The result", self.target.text())
        if name:
            self.target.setText(name)

    # -- what happens

    def show_layout(self, layout: Layout) -> None:
        """Show a plan."""
        self.plan.show_layout(layout)
        self.text.setText(layout.text)

    def show_working(self, *, working: bool) -> None:
        """Offer what fits while work is done, or not."""
        for button in (self.look, self.begin):
            button.setEnabled(not working)
        for button in (self.wait, self.stop):
            button.setEnabled(working)
        self.wait.setText("Wait")
        if not working:
            self.bar.setRange(0, 1)
            self.bar.setValue(0)
            self.state.setText("")

    def show_state(self, state: TileState) -> None:
        """Show how far the work is."""
        self.bar.setRange(0, max(state.of, 1))
        self.bar.setValue(state.done)
        left = (
            ""
            if state.left is None
            else f", about {state.left / 60.0:.0f} min left"
            if state.left > 90
            else f", about {state.left:.0f} s left"
        )
        self.state.setText(f"{state.stage}: {state.done} of {state.of}{left}")
        if state.box is not None:
            self.plan.fill(state.box, good=not state.fault)

    def _toggle_wait(self) -> None:
        waits = self.wait.text() == "Wait"
        self.wait.setText("Go on" if waits else "Wait")
        self.held.emit(waits)


def findings_text(lines: list[str], findings: list[object]) -> str:
    """Return sentences and warnings as rich text."""
    from html import escape

    told = [escape(line) for line in lines]
    for each in findings:
        severity, text = getattr(each, "severity", Severity.NOTE), getattr(each, "text", "")
        sign = "·" if severity is Severity.NOTE else "<b>!</b>"
        told.append(f"{sign} {escape(text)}")
    return "<br>".join(told)
