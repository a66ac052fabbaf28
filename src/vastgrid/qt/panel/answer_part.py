"""The part of the panel with an answer: volumes drawn to one scale, residuals, what a basin holds; and its tables."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.words import plain, spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import of_kind
from vastgrid.data.table import Table
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.charts import Columns, Curve, EarthBars
from vastgrid.qt.widgets.labels import label

# A table of so many columns has room in the panel; wider ones are drawn, and opened whole.
NARROW = 3


class AnswerPart(QWidget):
    """What an answer says, in pictures where it has some.

    Parameters
    ----------
    results : mapping
        What the step gave, by the names of its outputs.

    Signals
    -------
    whole_wanted : Table
        A table is to be shown whole.
    map_wanted : ()
        The difference is to be drawn in the plan.
    """

    whole_wanted = pyqtSignal(object)
    map_wanted = pyqtSignal()

    def __init__(self, results: Mapping[str, Dataset], palette: theme.Palette) -> None:
        super().__init__()
        self.palette_ = palette
        self.charts: list[QWidget] = []
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        tables = {name: table for name, own in results.items() for table in of_kind([own], Table)}
        drawn = {
            "volumes": self._volumes,
            "methods": self._methods,
            "classes": self._classes,
            "histogram": self._histogram,
            "levels": self._levels,
            "stages": self._stages,
        }
        for name, table in tables.items():
            make = drawn.get(name)
            own = make(table) if make is not None and table.count()["entries"] else None
            if own is not None:
                self.charts.append(own)
                layout.addWidget(own)
            if name == "volumes" and "methods" in tables:
                self.map = QPushButton("Draw the difference in the plan")
                self.map.clicked.connect(self.map_wanted)
                layout.addWidget(self.map, alignment=Qt.AlignmentFlag.AlignLeft)
            elif own is None and table.columns and len(table.columns) > NARROW:
                layout.addLayout(self._turned(table))
        self.buttons: list[QPushButton] = []
        for table in tables.values():
            if len(table.columns) > NARROW or table.count()["entries"] > 12:
                button = QPushButton(f"Table: {_short(table.name)} …")
                button.setToolTip(table.name)
                button.clicked.connect(lambda _=False, table=table: self.whole_wanted.emit(table))
                self.buttons.append(button)
                layout.addWidget(button, alignment=Qt.AlignmentFlag.AlignLeft)

    # -- one for each kind of table

    def _volumes(self, table: Table) -> QWidget | None:
        if "above the base" in table.columns:
            rows = _rows(table, "area", "below the base", "above the base")
            return EarthBars("Below and above the base (cut, fill)", rows, table.units[1] or "", self.palette_)
        return EarthBars("Cut and fill, exact", _rows(table, "inside", "cut", "fill"), table.units[1], self.palette_)

    def _methods(self, table: Table) -> QWidget:
        rows = _rows(table, "inside", "cut", "fill")
        return EarthBars("Three methods side by side", rows, table.units[1], self.palette_)

    def _classes(self, table: Table) -> QWidget:
        low, high, area, volume = (np.asarray(table.columns[name]) for name in ("from", "to", "area", "volume"))
        unit = table.units
        words = [
            f"{_end(a, 'below')}{_end(b, 'from', other=a)} {unit[0]}: {spaced(s, 1)} {unit[2]}, {spaced(v, 1)} {unit[4]}"
            for a, b, s, v in zip(low.tolist(), high.tolist(), area.tolist(), volume.tolist(), strict=True)
        ]
        step = float(np.nanmin(high - low)) if np.isfinite(high - low).any() else 1.0
        middle = np.where(
            np.isnan(low), high - step / 2.0, np.where(np.isnan(high), low + step / 2.0, (low + high) / 2.0)
        )
        ends = (f"{middle.min():+.3g} {unit[0]}", "area by depth", f"{middle.max():+.3g} {unit[0]}")
        return Columns("Depth classes, blue is cut", area, words, ends, self.palette_, middle)

    def _histogram(self, table: Table) -> QWidget:
        low, high, number = (np.asarray(table.columns[name]) for name in ("from", "to", "points"))
        unit = table.units[0]
        words = [
            f"{a:+.3g} … {b:+.3g} {unit}: {int(n)}"
            for a, b, n in zip(low.tolist(), high.tolist(), number.tolist(), strict=True)
        ]
        ends = (f"{low[0]:+.3g} {unit}", "surface minus check point", f"{high[-1]:+.3g} {unit}")
        return Columns("Residuals", number, words, ends, self.palette_, (low + high) / 2.0)

    def _levels(self, table: Table) -> QWidget:
        level, area, volume = (np.asarray(table.columns[name]) for name in ("level", "area", "volume"))
        unit = table.units
        words = [
            f"{z:g} {unit[0]}: {spaced(s, 1)} {unit[1]}, {spaced(v, 1)} {unit[2]}"
            for z, s, v in zip(level.tolist(), area.tolist(), volume.tolist(), strict=True)
        ]
        ends = (f"{level[0]:g} {unit[0]}", f"{level[-1]:g} {unit[0]}", f"{spaced(float(volume.max()), 1)} {unit[2]}")
        return Curve("Volume below each level", level, volume, words, ends, self.palette_)

    def _stages(self, table: Table) -> QWidget:
        names = [f"{plain(a)} → {plain(b)}" for a, b in zip(table.columns["from"], table.columns["to"], strict=True)]
        rows = list(zip(names, table.columns["cut"].tolist(), table.columns["fill"].tolist(), strict=True))
        return EarthBars("From stage to stage", rows, table.units[2], self.palette_)

    def _turned(self, table: Table) -> QGridLayout:
        """Return a wide table turned, its columns below each other: figures of a few groups."""
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(3)
        texts = table.texts()[:4]
        units = table.units or ("",) * len(table.columns)
        for row, (name, unit) in enumerate(zip(table.columns, units, strict=True)):
            grid.addWidget(label(f"{name} {unit}".strip(), quiet=True, wrap=False), row, 0)
            for column, own in enumerate(texts):
                value = label(own[row], wrap=False)
                value.setStyleSheet(f'font-family: "{theme.MONO}"; font-size: 8.5pt;')
                value.setAlignment(Qt.AlignmentFlag.AlignRight)
                grid.addWidget(value, row, 1 + column)
        grid.setColumnStretch(len(texts), 1)
        return grid


def _rows(table: Table, name: str, cut: str, fill: str) -> list[tuple[str, float, float]]:
    names = [plain(value) for value in table.columns[name].tolist()]
    cuts: Floats = table.columns[cut]
    return list(zip(names, cuts.tolist(), table.columns[fill].tolist(), strict=True))


def _short(name: str) -> str:
    return name.rsplit(", ", 1)[-1] if ", " in name else name


def _end(value: float, word: str, other: float = 0.0) -> str:
    if word == "below":
        return "" if value != value else f"{value:g}"
    if value != value:
        return " and more"
    return f"below {value:g}" if other != other else f" … {value:g}"
