"""A recipe run on many files: runs with their files on the left, what came of each on the right."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from html import escape
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QSplitter,
    QTableWidget,
    QTableWidgetItem,
    QTextBrowser,
    QVBoxLayout,
    QWidget,
)

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Severity, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import gap_words
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.labels import label
from vastgrid.recipes.recipe import Recipe
from vastgrid.recipes.run import Files, RunAccount, run_folders, run_many
from vastgrid.tasks.runner import Runner, Task

RESULTS = ("run", "state", "files", "largest loss", "took")


class RecipeDialog(QDialog):
    """Asks for the files of a recipe's slots, runs it on them, and lists what came of each run.

    Signals
    -------
    job_wanted : Files
        The run of one row is to become a job.
    """

    job_wanted = pyqtSignal(object)

    def __init__(self, parent: QWidget, desk: Desk, recipe: Recipe, palette: theme.Palette, folder: Path) -> None:
        super().__init__(parent)
        self.setProperty("manual", "how-much-and-again")
        self.desk, self.recipe, self.palette_ = desk, recipe, palette
        self.runner = Runner(lambda task: None)
        self.task: Task | None = None
        # Files by row and slot, and what came of each row.
        self.rows: list[dict[str, list[Path]]] = []
        self.accounts: dict[int, RunAccount] = {}
        self.folders: list[str] = []
        self.setWindowTitle(f"Recipe: {recipe.title}")
        self.setAcceptDrops(True)
        self.resize(1120, 660)
        layout = QVBoxLayout(self)
        slots = ", ".join(
            f"{slot.name} ({', '.join(dict.fromkeys(kind for _, kind in slot.cards))})" for slot in recipe.slots
        )
        layout.addWidget(
            label(f"It takes {slots}. Give each run its files: choose a place in the table, or drop files on it.")
        )
        middle = QSplitter(Qt.Orientation.Horizontal)
        middle.addWidget(self._left())
        middle.addWidget(self._right())
        middle.setSizes([560, 540])
        layout.addWidget(middle, 3)
        self.told = QTextBrowser()
        self.told.setAccessibleName("What the recipe does, and what the chosen run did")
        layout.addWidget(self.told, 2)
        layout.addLayout(self._foot(folder))
        self.add_run()
        self._tell()

    # -- what it is made of

    def _left(self) -> QWidget:
        widget = QWidget()
        layout = QVBoxLayout(widget)
        layout.setContentsMargins(0, 0, 0, 0)
        self.files = self._table([slot.name for slot in self.recipe.slots])
        self.files.setAccessibleName("Files of each run")
        self.files.cellDoubleClicked.connect(lambda row, column: self.choose(row, column))
        self.files.currentCellChanged.connect(lambda *_: self._chosen(self.files))
        layout.addWidget(self.files)
        row = QHBoxLayout()
        for text, run, tip in (
            ("Choose files …", self.choose_here, "For the slot that is chosen; several files make several runs"),
            ("Add a run", self.add_run, "The files of the last one are taken over, to be changed"),
            ("Take the run out", self.remove_run, ""),
        ):
            button = QPushButton(text)
            button.setToolTip(tip)
            button.setAutoDefault(False)
            button.clicked.connect(lambda _=False, run=run: self.desk.guarded(run))
            row.addWidget(button)
        row.addStretch()
        layout.addLayout(row)
        return widget

    def _right(self) -> QWidget:
        widget = QWidget()
        layout = QVBoxLayout(widget)
        layout.setContentsMargins(0, 0, 0, 0)
        self.results = self._table(list(RESULTS))
        self.results.setAccessibleName("Results of each run")
        self.results.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.results.currentCellChanged.connect(lambda *_: self._chosen(self.results))
        layout.addWidget(self.results)
        row = QHBoxLayout()
        self.as_job = QPushButton("Start a job from the chosen run")
        self.as_job.setAutoDefault(False)
        self.as_job.setToolTip("Its steps become the cards of a new job; nothing is written beside it")
        self.as_job.clicked.connect(lambda: self.desk.guarded(self._want_job))
        row.addWidget(self.as_job)
        row.addStretch()
        layout.addLayout(row)
        return widget

    def _foot(self, folder: Path) -> QHBoxLayout:
        row = QHBoxLayout()
        row.addWidget(label("Into", wrap=False))
        self.folder = QLineEdit(str(folder))
        self.folder.setAccessibleName("Folder for what goes out")
        row.addWidget(self.folder, 1)
        browse = QPushButton("Choose …")
        browse.setAutoDefault(False)
        browse.clicked.connect(self._browse)
        row.addWidget(browse)
        self.replace = QCheckBox("Write over files of these names")
        row.addWidget(self.replace)
        row.addSpacing(12)
        self.run_button = QPushButton("Run")
        self.run_button.setProperty("main", "true")
        self.run_button.setDefault(True)
        self.run_button.clicked.connect(lambda: self.desk.guarded(self.run_or_stop))
        row.addWidget(self.run_button)
        close = QPushButton("Close")
        close.setAutoDefault(False)
        close.clicked.connect(self.reject)
        row.addWidget(close)
        return row

    @staticmethod
    def _table(heads: Sequence[str]) -> QTableWidget:
        table = QTableWidget(0, len(heads))
        table.setHorizontalHeaderLabels(list(heads))
        table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        horizontal = table.horizontalHeader()
        if horizontal is not None:
            horizontal.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            horizontal.setStretchLastSection(True)
        return table

    # -- files

    def add_run(self) -> None:
        """Add a run with the files of the last."""
        self.rows.append({name: list(paths) for name, paths in (self.rows[-1] if self.rows else {}).items()})
        for table in (self.files, self.results):
            table.insertRow(len(self.rows) - 1)
        self._fill(len(self.rows) - 1)

    def remove_run(self) -> None:
        """Take the chosen run out, unless it is the only one."""
        row = max(self.files.currentRow(), 0)
        if len(self.rows) < 2:
            self.rows[0] = {}
        else:
            self.rows.pop(row)
            for table in (self.files, self.results):
                table.removeRow(row)
        self.accounts.clear()
        for k in range(len(self.rows)):
            self._fill(k)
        self._tell()

    def choose_here(self) -> None:
        """Ask for files of the chosen slot and run."""
        self.choose(max(self.files.currentRow(), 0), max(self.files.currentColumn(), 0))

    def choose(self, row: int, column: int) -> None:
        """Ask for files of a slot; the first goes to this run, each further one to a run of its own."""
        slot = self.recipe.slots[column].name
        before = self.rows[row].get(slot)
        start = str(before[0].parent if before else self.desk.session.folder.parent)
        names, _ = QFileDialog.getOpenFileNames(self, f"Files for {slot}", start)
        self.give(row, column, [Path(name) for name in names])

    def give(self, row: int, column: int, paths: Sequence[Path]) -> None:
        """Give files to a slot: the first to one run, each further one to a run of its own."""
        slot = self.recipe.slots[column].name
        for k, path in enumerate(paths):
            if row + k >= len(self.rows):
                self.add_run()
            self.rows[row + k][slot] = [path]
            self.accounts.pop(row + k, None)
            self._fill(row + k)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        view = self.files.viewport()
        if event is None or data is None or view is None:
            return
        paths = [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]
        at = view.mapFrom(self, event.position().toPoint())
        row, column = self.files.rowAt(at.y()), self.files.columnAt(at.x())
        self.give(max(row, 0), max(column, 0), paths)

    def _fill(self, row: int) -> None:
        for column, slot in enumerate(self.recipe.slots):
            paths = self.rows[row].get(slot.name, [])
            item = QTableWidgetItem(", ".join(path.name for path in paths) or "choose …")
            item.setToolTip("\n".join(str(path) for path in paths))
            if not paths:
                item.setForeground(self.palette_.colour("quiet"))
            self.files.setItem(row, column, item)
        account = self.accounts.get(row)
        self._show(row, _texts(account) if account is not None else ["", "", "", "", ""], account)

    def _show(self, row: int, texts: Sequence[str], account: RunAccount | None) -> None:
        for column, text in enumerate(texts):
            item = QTableWidgetItem(text)
            item.setToolTip(account.error if account is not None else "")
            if account is not None and not account.good and column == 1:
                item.setForeground(self.palette_.colour("error"))
            self.results.setItem(row, column, item)

    # -- running

    def _runs(self) -> list[tuple[Files, Path]]:
        into = Path(self.folder.text()).expanduser()
        for k, files in enumerate(self.rows):
            for slot in self.recipe.slots:
                if not files.get(slot.name):
                    raise CallError(f"run {k + 1} has no file for {slot.name} yet")
        order = [slot.name for slot in self.recipe.slots]
        runs: list[Files] = [{name: list(files[name]) for name in order} for files in self.rows]
        return list(zip(runs, run_folders(runs, into), strict=True))

    def run_or_stop(self) -> None:
        """Run the recipe on every row, or stop what runs."""
        if self.task is not None:
            self.task.cancel()
            return
        runs = self._runs()
        self.accounts.clear()
        for row in range(len(runs)):
            self._show(row, [runs[row][1].name, "waiting", "", "", ""], None)
        self._show(0, [runs[0][1].name, "running …", "", "", ""], None)
        self.folders = [folder.name for _, folder in runs]
        self.run_button.setText("Stop")

        def work(progress: Progress) -> list[RunAccount]:
            def done(k: int, account: RunAccount) -> None:
                self.desk.bridge.post(partial(self._arrived, k, account, len(runs)))

            return run_many(self.recipe, runs, progress, replace=self.replace.isChecked(), done=done)

        def failed(why: str, detail: str) -> None:
            self.desk.tell(f"the recipe: {why}\n\n{detail}")

        def ended() -> None:
            self.task = None
            self.run_button.setText("Run")
            for row in range(len(self.rows)):
                if row not in self.accounts:
                    self._show(row, [self.folders[row], "stopped", "", "", ""], None)

        task = Task(
            title="running the recipe",
            work=work,
            done=lambda made: None,
            failed=lambda why, detail: self.desk.bridge.post(partial(failed, why, detail)),
            ended=lambda: self.desk.bridge.post(ended),
        )
        self.task = task
        self.runner.start(task)

    def _arrived(self, row: int, account: RunAccount, number: int) -> None:
        self.accounts[row] = account
        self._fill(row)
        if row + 1 < number:
            self._show(row + 1, [self.folders[row + 1], "running …", "", "", ""], None)
        self.results.selectRow(row)
        self._tell(row)
        good = sum(own.good for own in self.accounts.values())
        self.desk.say(f"{good} of {number} runs are good")

    def _want_job(self) -> None:
        row = max(self.files.currentRow(), self.results.currentRow(), 0)
        files = self.rows[row]
        missing = [slot.name for slot in self.recipe.slots if not files.get(slot.name)]
        if missing:
            raise CallError(f"run {row + 1} has no file for {missing[0]} yet")
        self.job_wanted.emit(files)

    def _browse(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "Where files go", self.folder.text())
        if name:
            self.folder.setText(name)

    # -- telling

    def _chosen(self, table: QTableWidget) -> None:
        row = table.currentRow()
        for other in (self.files, self.results):
            if other is not table and other.currentRow() != row and row >= 0:
                other.blockSignals(True)
                other.setCurrentCell(row, max(other.currentColumn(), 0))
                other.blockSignals(False)
        self._tell(row)

    def _tell(self, row: int = -1) -> None:
        account = self.accounts.get(row)
        if account is None:
            lines = [f"<b>{escape(self.recipe.title)}</b>"]
            lines += [escape(step.says or step.operation) for step in self.recipe.steps]
            lines += [escape(sent.says or f"{sent.file} is written.") for sent in self.recipe.sent]
            self.told.setHtml("".join(f"<p style='margin:4px 0'>{line}</p>" for line in lines))
            return
        lines = [f"<b>{escape(account.folder.name)}</b>"]
        if account.error:
            lines.append(f"<span style='color:{self.palette_.error}'>{escape(account.error)}</span>")
        for step in account.steps:
            cost = f" <i>Costs {escape(step.loss.sentence())}.</i>" if step.loss else ""
            lines.append(escape(step.sentence) + cost)
        lines += [escape(each.sentence()) for each in account.deliveries]
        lines += [escape(f"{path.name} written.") for path in account.tables]
        for finding in account.findings():
            if finding.severity is not Severity.NOTE:
                lines.append(f"<span style='color:{self.palette_.warning}'>{escape(finding.text)}</span>")
        self.told.setHtml("".join(f"<p style='margin:4px 0'>{line}</p>" for line in lines))

    def done(self, code: int) -> None:
        """End what still runs."""
        self.runner.cancel_all()
        self.runner.close()
        super().done(code)


def _texts(account: RunAccount) -> list[str]:
    worst = account.worst()
    number = len(account.deliveries) + len(account.tables)
    state = "good" if account.good else "failed" if account.error else "differs"
    loss = f"{gap_words(worst.largest)}{unit_word(worst.unit)}" if worst else "none"
    return [account.folder.name, state, count(number, "file"), loss, f"{account.seconds:.1f} s"]
