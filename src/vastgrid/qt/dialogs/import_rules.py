"""The drawing's part of the import window: a table of sorting rules, what they match, and what fits none."""

from __future__ import annotations

import dataclasses
import math
from collections import Counter
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.formats.dxf import Drawing
from vastgrid.formats.dxf.sorting import (
    TYPES,
    Becomes,
    Items,
    Rule,
    fits,
    matched,
    parse_rules,
    rules_text,
)
from vastgrid.kernels.drawing import strokes
from vastgrid.qt.drawing.view import View
from vastgrid.qt.widgets.kept_box import KeptBox
from vastgrid.qt.widgets.labels import label

HEADS = ("becomes", "name", "layer", "type", "colour", "line type", "from Z", "to Z", "matches")


class RulesPart(QWidget):
    """Rules as a table.

    Parameters
    ----------
    sets : dict
        Kept sets of rules: name → text; changed when one is kept.
    changed : callable
        Called with the rules as text, whenever they change and can be read.
    chosen : callable
        Called when another row is chosen, so that what it matches can be highlighted.
    """

    def __init__(self, sets: dict[str, str], changed: Callable[[str], None], chosen: Callable[[], None]) -> None:
        super().__init__()
        self.sets, self._changed, self._chosen = sets, changed, chosen
        self.drawing: Drawing | None = None
        self.items: Items | None = None
        self._starts = self._ends = np.zeros((0, 2))
        self._line_of = np.zeros(0, np.int64)
        self._filling = False
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        self.kept = KeptBox("Sorting rules", "these rules", self._use, self.keep_as)
        outer.addWidget(self.kept)
        row = QHBoxLayout()
        outer.addLayout(row)
        self.buttons: dict[str, QPushButton] = {}
        for text, call in (
            ("Add", self.add),
            ("Remove", self.remove),
            ("Up", lambda: self._move(-1)),
            ("Down", lambda: self._move(1)),
        ):
            button = QPushButton(text)
            button.clicked.connect(lambda _=False, call=call: call())
            row.addWidget(button)
            self.buttons[text] = button
        row.addStretch()
        self.table = QTableWidget(0, len(HEADS))
        self.table.setAccessibleName("Sorting rules; the first that fits counts")
        self.table.setHorizontalHeaderLabels(list(HEADS))
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        for column, width in enumerate((122, 100, 130, 104, 58, 78, 60, 58, 76)):
            self.table.setColumnWidth(column, width)
        self.table.itemChanged.connect(lambda _: self._edited())
        self.table.itemSelectionChanged.connect(lambda: self._chosen())
        outer.addWidget(self.table, 1)
        self.error = label("", name="error")
        outer.addWidget(self.error)
        self.free = label("", quiet=True)
        outer.addWidget(self.free)
        self.kept.fill(self.sets)

    # -- what is shown

    def show_drawing(self, drawing: Drawing, text: str) -> None:
        """Show the rules and what they match in a drawing."""
        if drawing is not self.drawing:
            self.drawing, self.items = drawing, drawing.items()
            self._join(drawing)
        if text != self.text():
            try:
                self._fill(list(parse_rules(text)))
            except CallError as error:
                self.error.setText(str(error))
        self._count()

    def _join(self, drawing: Drawing) -> None:
        """Keep all segments of all lines as arrays, so that a click is answered at once."""
        lines = drawing.lines
        none = np.zeros((0, 2))
        self._starts = np.concatenate([none, *(line[:-1, :2] for line in lines)])
        self._ends = np.concatenate([none, *(line[1:, :2] for line in lines)])
        self._line_of = np.repeat(np.arange(len(lines)), [max(len(line) - 1, 0) for line in lines])

    def rules(self) -> list[Rule]:
        """Return the rules in the table.

        Raises
        ------
        CallError
            If a cell makes no sense.
        """
        return list(parse_rules("; ".join(self._row_text(row) for row in range(self.table.rowCount()))))

    def text(self) -> str:
        """Return the rules as the reader's option; empty where they cannot be read."""
        try:
            return rules_text(self.rules())
        except CallError:
            return ""

    def current(self) -> int:
        """Return the chosen row, -1 for none."""
        return self.table.currentRow()

    def matches(self) -> NDArray[np.bool_] | None:
        """Return which entities the chosen rule gets: those it fits and no earlier rule does."""
        if self.items is None or self.current() < 0:
            return None
        try:
            return np.asarray(matched(self.items, self.rules()) == self.current())
        except CallError:
            return None

    def _row_text(self, row: int) -> str:
        cells = [self._cell(row, column) for column in range(len(HEADS) - 1)]
        parts = [
            f"{key}={value}"
            for key, value in zip(("layer", "type", "colour", "linetype"), cells[2:6], strict=True)
            if value
        ]
        if cells[6] or cells[7]:
            parts.append(f"z={cells[6]}..{cells[7]}")
        name = f" “{cells[1]}”" if cells[1] else ""
        return f"{cells[0]}{name}: {', '.join(parts) or 'everything'}"

    def _cell(self, row: int, column: int) -> str:
        box = self.table.cellWidget(row, column)
        if isinstance(box, QComboBox):
            return box.currentText().strip()
        item = self.table.item(row, column)
        return item.text().strip() if item else ""

    # -- changing

    def _fill(self, rules: list[Rule]) -> None:
        self._filling = True
        self.table.setRowCount(0)
        for rule in rules:
            self._append(rule)
        self._filling = False

    def _append(self, rule: Rule) -> None:
        row = self.table.rowCount()
        self.table.insertRow(row)
        becomes = QComboBox()
        becomes.addItems([each.value for each in Becomes])
        becomes.setCurrentText(rule.becomes.value)
        becomes.currentTextChanged.connect(lambda _: self._edited())
        kind = QComboBox()
        kind.setEditable(True)
        kind.addItems(["", *TYPES])
        kind.setCurrentText(rule.type)
        kind.currentTextChanged.connect(lambda _: self._edited())
        self.table.setCellWidget(row, 0, becomes)
        self.table.setCellWidget(row, 3, kind)
        ends = [f"{end:g}" if math.isfinite(end) else "" for end in (rule.low, rule.high)]
        texts = {1: rule.name, 2: rule.layer, 4: "" if rule.colour is None else str(rule.colour), 5: rule.line_type}
        for column, text in {**texts, 6: ends[0], 7: ends[1], 8: ""}.items():
            item = QTableWidgetItem(text)
            if column == 8:
                item.setFlags(item.flags() & ~item.flags().ItemIsEditable)
            self.table.setItem(row, column, item)
        self.table.setRowHeight(row, 34)

    def add(self, rule: Rule | None = None) -> None:
        """Add a rule at the end, empty or filled."""
        self._filling = True
        self._append(rule or Rule(Becomes.BREAKLINES))
        self._filling = False
        self.table.selectRow(self.table.rowCount() - 1)
        self._edited()

    def remove(self) -> None:
        """Take the chosen rule out."""
        if self.current() >= 0:
            self.table.removeRow(self.current())
            self._edited()

    def _move(self, step: int) -> None:
        row = self.current()
        try:
            rules = self.rules()
        except CallError:
            return
        if 0 <= row + step < len(rules) and row >= 0:
            rules[row], rules[row + step] = rules[row + step], rules[row]
            self._fill(rules)
            self.table.selectRow(row + step)
            self._edited()

    def fill_from(self, entity: int) -> None:
        """Fill the chosen rule, or a new one, from an entity that was picked."""
        if self.items is None:
            return
        kind = self.items.types[self.items.type[entity]]
        word = next((word for word, names in TYPES.items() if kind in names), kind)
        layer = self.items.layers[self.items.layer[entity]]
        likely = {"text": Becomes.POINTS, "point": Becomes.POINTS, "face": Becomes.FACES}.get(word, Becomes.BREAKLINES)
        if self.current() < 0:
            self.add(Rule(likely, "", layer, word))
            return
        rules = self.rules()
        row = self.current()
        rules[row] = dataclasses.replace(rules[row], layer=layer, type=word)
        self._fill(rules)
        self.table.selectRow(row)
        self._edited()

    def _edited(self) -> None:
        if self._filling:
            return
        try:
            text = rules_text(self.rules())
            self.error.setText("")
        except CallError as error:
            self.error.setText(str(error))
            return
        self._count()
        self._changed(text)
        self._chosen()

    def _count(self) -> None:
        if self.items is None:
            return
        try:
            rules = self.rules()
        except CallError:
            return
        rule_of = matched(self.items, rules)
        self._filling = True
        for k, rule in enumerate(rules):
            item = self.table.item(k, 8)
            own, able = int((rule_of == k).sum()), int(fits(self.items, rule).sum())
            if item is not None:
                item.setText(str(own) if own == able else f"{own} of {able}")
        self._filling = False
        free = np.flatnonzero(rule_of < 0)
        kinds = Counter(
            f"{self.items.types[self.items.type[k]]} on {self.items.layers[self.items.layer[k]]}" for k in free.tolist()
        )
        some = ", ".join(f"{number} {name}" for name, number in kinds.most_common(8))
        more = f" and {len(kinds) - 8} more kinds" if len(kinds) > 8 else ""
        if not rules:
            self.free.setText(
                f"Without rules every entity comes in as what it is: {some}{more}. "
                "Click an entity in the picture to begin a rule with it."
            )
        elif len(free):
            self.free.setText(f"{count(len(free), 'entity fits', 'entities fit')} no rule: {some}{more}.")
        else:
            self.free.setText("Every entity fits a rule.")

    # -- kept sets

    def _use(self, name: str) -> None:
        text = self.sets.get(name)
        if text is not None:
            self._fill(list(parse_rules(text)))
            self._edited()

    def keep_as(self, name: str) -> None:
        """Keep the rules under a name."""
        self.sets[name] = self.text()
        self.kept.fill(self.sets, name)

    # -- pictures

    def nearest(self, east: float, north: float, reach: float) -> int | None:
        """Return the entity nearest to a place, within a reach."""
        if self.drawing is None:
            return None
        place = np.array((east, north))
        best, found = reach, None
        if len(self._starts):
            along = self._ends - self._starts
            length = np.maximum((along**2).sum(axis=1), 1e-30)
            share = np.clip(((place - self._starts) * along).sum(axis=1) / length, 0.0, 1.0)
            away = np.hypot(*(self._starts + share[:, None] * along - place).T)
            k = int(away.argmin())
            if away[k] < best:
                best, found = float(away[k]), int(self._line_of[k])
        places = self.drawing.points()
        if len(places):
            away = np.hypot(*(places[:, :2] - place).T)
            if away.min() < best:
                # Places stand after lines and faces.
                return len(self.drawing.lines) + self.drawing.count("faces") + int(away.argmin())
        if found is not None:
            return found
        triangles, owner = self.drawing.faces()
        if len(triangles):
            middle = triangles[:, :, :2].mean(axis=1)
            size = np.hypot(*(triangles[:, 0, :2] - middle).T)
            away = np.hypot(*(middle - place).T)
            k = int((away - size).argmin())
            if away[k] <= size[k] + reach:
                return len(self.drawing.lines) + int(owner[k])
        return None

    def highlighted(self, view: View, colour: tuple[int, int, int]) -> QImage | None:
        """Return a picture of what the chosen rule matches, to lay over the drawing's."""
        mine = self.matches()
        if mine is None or self.drawing is None or not mine.any():
            return None
        image = np.zeros((view.height, view.width, 4), np.uint8)
        ink = np.array(colour, np.uint8)
        lines = [self.drawing.lines[k] for k in np.flatnonzero(mine[: len(self.drawing.lines)]).tolist()]
        triangles, owner = self.drawing.faces()
        own = mine[len(self.drawing.lines) :][owner] if len(owner) else np.zeros(0, np.bool_)
        lines += list(triangles[own][:20_000][:, [0, 1, 2, 0]])
        if lines:
            offsets = np.concatenate(([0], np.cumsum([len(line) for line in lines])))
            strokes.draw_lines(image, np.concatenate(lines), offsets, view.west, view.top, view.size, ink, 1.0, 3.0)
        places = self.drawing.points()[mine[len(self.drawing.lines) + self.drawing.count("faces") :]]
        if len(places):
            colours = np.tile(ink, (2, 1))
            strokes.draw_points(image, places, view.west, view.top, view.size, colours, 0.0, 1.0, 1.0, 2)
        return QImage(image.tobytes(), view.width, view.height, 4 * view.width, QImage.Format.Format_ARGB32).copy()
