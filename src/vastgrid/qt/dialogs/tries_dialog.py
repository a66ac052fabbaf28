"""A table before a decision: steps tried several ways, each with what it would cost; one press makes it."""

from __future__ import annotations

import dataclasses
import time
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QDialog,
    QDialogButtonBox,
    QHeaderView,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.findings import counted
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import size_words
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.declarations.conversion import Conversion
from vastgrid.execution.steps import check_usable, convert
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.widgets.labels import label
from vastgrid.tasks.runner import Runner

COLUMNS = ("try", "gives", "size as a file", "largest error", "RMSE", "took")


@dataclasses.dataclass(slots=True)
class Try:
    """One way to do it, and what came of it; no conversion for what is there already."""

    conversion: Conversion | None
    words: dict[str, str]
    said: str
    dataset: Dataset | None = None
    loss: Loss | None = None
    seconds: float = 0.0


class TriesDialog(QDialog):
    """Runs steps several ways behind, and lists what each gives and costs.

    Parameters
    ----------
    title : str
        What is decided.
    inputs : list of str
        Cards that everything is made from.
    tries : list of Try
        The rows.
    chosen_row : int
        Which row is chosen at first.

    Signals
    -------
    chosen : operation, words
        One of them is to be made.
    shown : Dataset or None
        What the chosen row gives, to be drawn over the plan.
    """

    chosen = pyqtSignal(str, dict)
    shown = pyqtSignal(object)

    def __init__(
        self, parent: QWidget, desk: Desk, title: str, inputs: list[str], tries: list[Try], chosen_row: int
    ) -> None:
        super().__init__(parent)
        self.desk, self.tries = desk, tries
        self.setWindowTitle(title)
        self.resize(700, 130 + 26 * max(len(tries), 6))
        self.datasets = [desk.session.named(card) for card in inputs]
        self.runner = Runner(lambda task: None)
        layout = QVBoxLayout(self)
        names = ", ".join(each.name for each in self.datasets)
        layout.addWidget(
            label(f"{names}: the row that is chosen is drawn in the plan; nothing is made before you say so.")
        )
        self.table = QTableWidget(len(self.tries), len(COLUMNS))
        self.table.setAccessibleName(title)
        self.table.setHorizontalHeaderLabels(COLUMNS)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        vertical, horizontal = self.table.verticalHeader(), self.table.horizontalHeader()
        if vertical is not None and horizontal is not None:
            vertical.hide()
            horizontal.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            horizontal.setStretchLastSection(True)
        self.table.itemSelectionChanged.connect(self._show_chosen)
        layout.addWidget(self.table, 1)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Cancel)
        self.make: QPushButton = buttons.addButton("Make this one", QDialogButtonBox.ButtonRole.AcceptRole)  # type: ignore[assignment]
        self.make.setProperty("main", "true")
        buttons.accepted.connect(self._accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)
        for row, each in enumerate(self.tries):
            if each.dataset is not None:
                self._arrived(row, each)
                continue
            self._fill(row, [each.said, "…", "", "", "", ""])
            self._start(row)
        self.table.selectRow(chosen_row)

    def _start(self, row: int) -> None:
        attempt = self.tries[row]

        def work(progress: Progress) -> Try:
            began = time.perf_counter()
            conversion = attempt.conversion
            assert conversion is not None
            params = declare.build(conversion.params, attempt.words)
            result, _ = convert(conversion, check_usable(conversion, self.datasets), params, progress)
            return dataclasses.replace(
                attempt, dataset=result.dataset, loss=result.loss, seconds=time.perf_counter() - began
            )

        self.desk.start_behind(
            self.runner,
            "trying",
            work,
            partial(self._arrived, row),
            lambda why: self._fill(row, [attempt.said, why]),
            owner=self,
        )

    def _arrived(self, row: int, made: Try) -> None:
        self.tries[row] = made
        assert made.dataset is not None
        kind = catalog.usual_format([type(made.dataset)])
        count = made.dataset.count()
        count |= {"cells": count["rows"] * count["columns"]} if "rows" in count else {}
        name = next(name for name in ("triangles", "cells", *count) if name in count)
        unit = unit_word(made.dataset.frame.vertical)
        loss = made.loss
        errors = [f"{loss.largest:.4g}{unit}", f"{loss.rmse:.4g}{unit}"] if loss is not None else ["", ""]
        size = f"{size_words(kind.weigh(made.dataset))} {kind.title}"
        took = f"{made.seconds:.1f} s" if made.conversion is not None else ""
        self._fill(row, [made.said, counted(count[name], name), size, *errors, took])
        self._show_chosen()

    def _fill(self, row: int, texts: list[str]) -> None:
        for column, text in enumerate(texts):
            item = QTableWidgetItem(text)
            if column:
                item.setTextAlignment(int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter))
            self.table.setItem(row, column, item)

    def row(self) -> int:
        """Return the row that is chosen."""
        return max(self.table.currentRow(), 0)

    def _show_chosen(self) -> None:
        attempt = self.tries[self.row()]
        self.make.setEnabled(attempt.dataset is not None and attempt.conversion is not None)
        self.shown.emit(attempt.dataset)

    def _accept(self) -> None:
        attempt = self.tries[self.row()]
        if attempt.conversion is not None:
            self.chosen.emit(attempt.conversion.id, attempt.words)
        self.accept()

    def done(self, code: int) -> None:
        """End what still runs, and take the picture away."""
        self.runner.cancel_all()
        self.runner.close()
        self.shown.emit(None)
        super().done(code)
