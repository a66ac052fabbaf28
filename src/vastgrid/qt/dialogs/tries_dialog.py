"""A table before a decision: the same step tried several ways, each with what it would cost; one press makes it."""

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
from vastgrid.data.dataset import Dataset
from vastgrid.data.loss import Loss
from vastgrid.declarations.conversion import Conversion
from vastgrid.params import declare
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.widgets.labels import label
from vastgrid.session.steps import check_usable, convert, settled
from vastgrid.tasks.runner import Runner

COLUMNS = ("try", "gives", "size as a file", "largest error", "RMSE", "took")


@dataclasses.dataclass(slots=True)
class Try:
    """One way to do it, and what came of it."""

    words: dict[str, str]
    dataset: Dataset | None = None
    loss: Loss | None = None
    seconds: float = 0.0


class TriesDialog(QDialog):
    """Runs a step several ways behind, and lists what each gives and costs.

    Parameters
    ----------
    inputs : list of str
        Cards it is made from.
    words : dict
        What is asked for already; the tries lie around it.

    Signals
    -------
    chosen : words
        One of them is to be made.
    shown : Dataset or None
        What the chosen row gives, to be drawn over the plan.
    """

    chosen = pyqtSignal(dict)
    shown = pyqtSignal(object)

    def __init__(
        self, parent: QWidget, desk: Desk, conversion: Conversion, inputs: list[str], words: dict[str, str]
    ) -> None:
        super().__init__(parent)
        self.desk, self.conversion, self.words = desk, conversion, words
        self.setWindowTitle(f"{conversion.title}: what each would cost")
        self.resize(640, 330)
        datasets = [desk.session.named(card) for card in inputs]
        self.given = check_usable(conversion, datasets)
        params = settled(conversion, self.given, declare.build(conversion.params, words))
        self.tries = [Try(each) for each in conversion.tries(self.given, params)]
        self.runner = Runner(lambda task: None)
        layout = QVBoxLayout(self)
        names = ", ".join(each.name for each in datasets)
        layout.addWidget(
            label(f"{names}: the row that is chosen is drawn in the plan; nothing is made before you say so.")
        )
        self.table = QTableWidget(len(self.tries), len(COLUMNS))
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
            self._fill(row, [", ".join(each.words.values()), "…", "", "", "", ""])
            self._start(row)
        self.table.selectRow(len(self.tries) // 2)

    def _start(self, row: int) -> None:
        own = self.tries[row]

        def work(progress: Progress) -> Try:
            began = time.perf_counter()
            params = declare.build(self.conversion.params, {**self.words, **own.words})
            result, _ = convert(self.conversion, self.given, params, progress)
            return Try(own.words, result.dataset, result.loss, time.perf_counter() - began)

        self.desk.start_behind(
            self.runner,
            "trying",
            work,
            partial(self._arrived, row),
            lambda why: self._fill(row, [", ".join(own.words.values()), why]),
        )

    def _arrived(self, row: int, made: Try) -> None:
        self.tries[row] = made
        assert made.dataset is not None
        kind = catalog.usual_format([type(made.dataset)])
        count = made.dataset.count()
        name = "triangles" if "triangles" in count else next(iter(count))
        unit = unit_word(made.dataset.frame.vertical)
        loss = made.loss
        errors = [f"{loss.largest:.4g}{unit}", f"{loss.rmse:.4g}{unit}"] if loss is not None else ["", ""]
        size = f"{kind.weigh(made.dataset) / 1e6:.2f} MB {kind.title}"
        self._fill(
            row, [", ".join(made.words.values()), counted(count[name], name), size, *errors, f"{made.seconds:.1f} s"]
        )
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
        own = self.tries[self.row()]
        self.make.setEnabled(own.dataset is not None)
        self.shown.emit(own.dataset)

    def _accept(self) -> None:
        self.chosen.emit({**self.words, **self.tries[self.row()].words})
        self.accept()

    def done(self, code: int) -> None:
        """End what still runs, and take the picture away."""
        self.runner.cancel_all()
        self.runner.close()
        self.shown.emit(None)
        super().done(code)
