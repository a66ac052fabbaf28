"""The part of the panel with a card's figures: numbers, histograms, density; to be copied or saved."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from vastgrid.measures.figures import Figures, Histogram
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.histograms import DensityView, HistogramView
from vastgrid.qt.widgets.labels import label
from vastgrid.styling.look import hidden_classes_of, hidden_heights_of, ranges_text


class FiguresPart(QWidget):
    """Figures of one card.

    Signals
    -------
    hidden : dict
        Words of the look to be changed: which classes or heights are hidden.
    saved : path, text
        The figures are to be written to a file.
    """

    hidden = pyqtSignal(dict)
    saved = pyqtSignal(str, str)

    def __init__(
        self,
        name: str,
        rows: list[tuple[str, str]],
        figures: Figures | None,
        palette: theme.Palette,
        look: dict[str, str],
        *,
        hides: bool,
    ) -> None:
        super().__init__()
        self.name = name
        self.look_ = look
        more = list(figures.rows) if figures is not None else []
        self.rows = [*rows, *more]
        self.figures = figures
        self.histograms: list[HistogramView] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(6)
        layout.addLayout(self._table())
        for each in figures.histograms if figures is not None else ():
            clickable = bool(each.keys) or (each.title == "Elevations" and hides)
            view = HistogramView(each, palette, self._hidden(each), clickable=clickable)
            view.pressed.connect(lambda k, each=each: self._toggle(each, k))
            self.histograms.append(view)
            layout.addWidget(view)
        if figures is not None and figures.density is not None:
            layout.addWidget(DensityView(figures.density, palette))
        row = QHBoxLayout()
        for text, run in (("Copy figures", self.copy), ("Save figures …", self._ask_save)):
            button = QPushButton(text)
            button.clicked.connect(run)
            row.addWidget(button)
        row.addStretch()
        layout.addLayout(row)

    def _table(self) -> QGridLayout:
        table = QGridLayout()
        table.setHorizontalSpacing(8)
        table.setColumnStretch(1, 1)
        table.setVerticalSpacing(3)
        for k, (name, value) in enumerate(self.rows):
            table.addWidget(label(name, quiet=True, wrap=False), k, 0)
            # Long names without a blank may be broken too, or they would push the panel beyond its edge.
            own = label(value.replace("_", "_\u200b").replace("/", "/\u200b"), wrap=len(value) > 24)
            own.setStyleSheet(f'font-family: "{theme.MONO}"; font-size: {theme.points(8.5)};')
            own.setAlignment(Qt.AlignmentFlag.AlignRight)
            own.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
            table.addWidget(own, k, 1)
        return table

    def _hidden(self, histogram: Histogram) -> set[int]:
        if histogram.keys:
            hidden = hidden_classes_of(self.look_.get("hidden", ""))
            return {k for k, key in enumerate(histogram.keys) if hidden[key]}
        if histogram.title != "Elevations":
            return set()
        ranges = hidden_heights_of(self.look_.get("heights", ""))
        middle = (histogram.bounds[1:] + histogram.bounds[:-1]) / 2.0
        return {k for k, z in enumerate(middle.tolist()) if any(low <= z <= high for low, high in ranges)}

    def _toggle(self, histogram: Histogram, k: int) -> None:
        """Hide what a bar stands for, or show it again."""
        gone = self._hidden(histogram) ^ {k}
        if histogram.keys:
            self.hidden.emit({"hidden": ", ".join(str(histogram.keys[each]) for each in sorted(gone))})
        else:
            self.hidden.emit(
                {"heights": ranges_text([(histogram.bounds[j], histogram.bounds[j + 1]) for j in sorted(gone)])}
            )

    def text(self) -> str:
        """Return everything as text."""
        lines = [self.name, *(f"{name}\t{value}" for name, value in self.rows), ""]
        rest = self.figures.text().split("\n\n", 1) if self.figures is not None else []
        return "\n".join(lines) + (rest[1] if len(rest) > 1 else "")

    def copy(self) -> None:
        """Put the figures on the clipboard."""
        board = QGuiApplication.clipboard()
        if board is not None:
            board.setText(self.text())

    def _ask_save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the figures", f"{self.name} figures.txt", "Text (*.txt)")
        if name:
            self.saved.emit(name, self.text())
