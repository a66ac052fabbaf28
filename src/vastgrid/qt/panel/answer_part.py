"""The part of the panel with an answer: volumes drawn to one scale, residuals, what a basin holds; and its tables."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QPushButton, QVBoxLayout, QWidget

from vastgrid.base.words import plain, spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.table import Table
from vastgrid.declarations.conversion import Conversion, Picture
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.charts import Columns, Curve, EarthBars
from vastgrid.qt.widgets.labels import label

# A table of so many columns has room in the panel; wider ones are drawn, and opened whole.
NARROW = 3


class AnswerPart(QWidget):
    """What an answer says, in pictures where it has some.

    Parameters
    ----------
    conversion : Conversion
        Says how each is drawn, and by what all of it is seen in the plan.
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

    def __init__(self, conversion: Conversion, results: Mapping[str, Dataset], palette: theme.Palette) -> None:
        super().__init__()
        self.palette_ = palette
        self.charts: list[QWidget] = []
        self.buttons: list[QPushButton] = []
        self.map: QPushButton | None = None
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(8)
        tables = {name: table for name, own in results.items() for table in of_kind([own], Table)}
        pictures = {output.name: output.picture for output in conversion.outputs}
        for k, (name, table) in enumerate(tables.items()):
            picture = pictures.get(name)
            if picture is not None and table.count()["entries"]:
                self.charts.append(_DRAWN[picture.shape](picture, table, palette))
                layout.addWidget(self.charts[-1])
            elif len(table.columns) > NARROW:
                layout.addLayout(self._turned(table))
            if k == 0 and conversion.seen_by:
                self.map = QPushButton("Draw the difference in the plan")
                self.map.clicked.connect(self.map_wanted)
                layout.addWidget(self.map, alignment=Qt.AlignmentFlag.AlignLeft)
        for table in tables.values():
            if len(table.columns) > NARROW or table.count()["entries"] > 12:
                button = QPushButton(f"Table: {_short(table.name)} …")
                button.setToolTip(table.name)
                button.clicked.connect(lambda _=False, table=table: self.whole_wanted.emit(table))
                self.buttons.append(button)
                layout.addWidget(button, alignment=Qt.AlignmentFlag.AlignLeft)

    def _turned(self, table: Table) -> QGridLayout:
        """Return a wide table turned, its columns below each other: figures of a few groups."""
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(3)
        texts = table.texts()[:4]
        units = table.units or ("",) * len(table.columns)
        for row, (name, unit) in enumerate(zip(table.columns, units, strict=True)):
            grid.addWidget(label(f"{name} {unit}".strip(), quiet=True, wrap=False), row, 0)
            for column, text in enumerate(texts):
                value = label(text[row], wrap=False)
                value.setStyleSheet(f'font-family: "{theme.MONO}"; font-size: {theme.points(8.5)};')
                value.setAlignment(Qt.AlignmentFlag.AlignRight)
                grid.addWidget(value, row, 1 + column)
        grid.setColumnStretch(len(texts), 1)
        return grid


def _unit(table: Table, name: str) -> str:
    return dict(zip(table.columns, table.units, strict=True)).get(name, "") if table.units else ""


def _bars(picture: Picture, table: Table, palette: theme.Palette) -> QWidget:
    *names, cut, fill = picture.columns
    called = [
        " → ".join(plain(value) for value in row) for row in zip(*(table.columns[name] for name in names), strict=True)
    ]
    rows = list(zip(called, table.columns[cut].tolist(), table.columns[fill].tolist(), strict=True))
    return EarthBars(picture.title, rows, _unit(table, cut), palette)


def _columns(picture: Picture, table: Table, palette: theme.Palette) -> QWidget:
    low, high, value = (np.asarray(table.columns[name]) for name in picture.columns)
    unit, of = _unit(table, picture.columns[0]), _unit(table, picture.columns[2])
    step = float(np.nanmin(high - low)) if np.isfinite(high - low).any() else 1.0
    # The outermost classes may be open.
    low, high = np.where(np.isnan(low), high - step, low), np.where(np.isnan(high), low + step, high)
    words = [
        f"{a:+.4g} … {b:+.4g} {unit}: {spaced(v, 1 if of else 0)} {of}".strip()
        for a, b, v in zip(low.tolist(), high.tolist(), value.tolist(), strict=True)
    ]
    ends = (f"{low[0]:+.3g} {unit}", f"{high[-1]:+.3g} {unit}")
    return Columns(picture.title, value, words, ends, palette, (low + high) / 2.0)


def _curve(picture: Picture, table: Table, palette: theme.Palette) -> QWidget:
    across, up = (np.asarray(table.columns[name]) for name in picture.columns)
    one, other = (_unit(table, name) for name in picture.columns)
    words = [f"{x:g} {one}: {spaced(y, 1)} {other}" for x, y in zip(across.tolist(), up.tolist(), strict=True)]
    ends = (f"{across[0]:g} {one}", f"{across[-1]:g} {one}", f"{spaced(float(up.max()), 1)} {other}")
    return Curve(picture.title, across, up, words, ends, palette)


_DRAWN: dict[str, Callable[[Picture, Table, theme.Palette], QWidget]] = {
    "bars": _bars,
    "columns": _columns,
    "curve": _curve,
}


def _short(name: str) -> str:
    return name.rsplit(", ", 1)[-1] if ", " in name else name
