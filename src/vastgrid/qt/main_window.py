"""The window: lineage below, plan above, the chosen card's panel beside; everything else is reached from there."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QEvent, QPointF, Qt, QUrl
from PyQt6.QtGui import QCloseEvent, QDesktopServices, QDragEnterEvent, QDropEvent, QPalette
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QMainWindow,
    QMenu,
    QMessageBox,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.base.errors import CallError, VastGridError
from vastgrid.base.files import write_text
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.qt import theme
from vastgrid.qt.actions import add_actions
from vastgrid.qt.bridge import Bridge
from vastgrid.qt.checking import Checking
from vastgrid.qt.delivering import Delivering
from vastgrid.qt.dressing import Dressing
from vastgrid.qt.figuring import Figuring
from vastgrid.qt.finder import Finder, Hit, understood
from vastgrid.qt.header import Header
from vastgrid.qt.importing import Importing
from vastgrid.qt.inspecting import Inspecting
from vastgrid.qt.lineage_view import LineageView
from vastgrid.qt.making import Making
from vastgrid.qt.measuring import Measuring
from vastgrid.qt.ordering import Ordering
from vastgrid.qt.panel import Panel
from vastgrid.qt.picturing import Picturing
from vastgrid.qt.plan_view import PlanView
from vastgrid.qt.sectioning import Sectioning
from vastgrid.qt.sourcing import Sourcing
from vastgrid.qt.status_line import StatusLine
from vastgrid.qt.views import Views
from vastgrid.qt.window_place import place_window, remember_window
from vastgrid.session.session import Session
from vastgrid.tasks.runner import Runner, Task


class MainWindow(QMainWindow):
    """One window, one job.

    Parameters
    ----------
    session : Session
        The open job.
    palette : Palette
        Light or dark.
    """

    def __init__(self, session: Session, palette: theme.Palette = theme.LIGHT) -> None:
        super().__init__()
        self.session = session
        self.palette_ = palette
        self.failures: dict[str, str] = {}
        self.message = ""
        self._names: dict[tuple[str, str], Dataset] = {}
        self._closed = False
        self._after: list[Callable[[], None]] = []
        self.bridge = Bridge(self)
        self._keep_behind(session)
        self.runner = Runner(lambda task: self.bridge.post(lambda: self._task_changed(task)))
        self.previews = Runner(lambda task: None)
        self.importing = Importing(self)
        self.checking = Checking(self)
        self.making = Making(self)
        self.delivering = Delivering(self)
        self.picturing = Picturing(self)
        self.inspecting = Inspecting(self)
        self.dressing = Dressing(self)
        self.figuring = Figuring(self, lambda: self.show_panel())
        self.sourcing = Sourcing(self, self.previews)
        self.ordering = Ordering(self.bridge, lambda: self.views.repaint_all(), lambda: self._show_tasks())
        self.setAcceptDrops(True)
        self.plan = PlanView(palette)
        self.lineage = LineageView(palette)
        self.panel = Panel(palette)
        self.finder = Finder(self._search)
        self.actions_ = add_actions(self)
        self.views = Views(self, palette)
        self.sectioning = Sectioning(self)
        self.measuring = Measuring(self)
        self.views.add_section(self.sectioning)
        self.plan.overlays.append(self.sectioning.paint_line)
        self._lay_out()
        self._connect()
        self.apply_theme(palette)
        self.refresh()
        place_window(self)

    def _keep_behind(self, session: Session) -> None:
        """Let a job be written off the interface thread, and its unused results be removed."""
        session.keeper.behind(lambda why: self.bridge.post(lambda: self.tell(why)))
        before = time.time()
        threading.Thread(target=session.sweep, args=(before,), daemon=True, name="vastgrid-sweep").start()

    # -- building the window

    def _lay_out(self) -> None:
        page = QWidget()
        page.setObjectName("page")
        self.setCentralWidget(page)
        outer = QVBoxLayout(page)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        self.header = Header(self)
        self.menus = self.header.menus
        outer.addWidget(self.header)
        self.upper = QSplitter(Qt.Orientation.Horizontal)
        self.upper.addWidget(self.views)
        self.upper.addWidget(self.panel)
        self.upper.setSizes([945, 335])
        self.upper.setStretchFactor(0, 1)
        self.lineage_scroll = QScrollArea()
        self.lineage_scroll.setWidgetResizable(True)
        self.lineage_scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self.lineage_scroll.setWidget(self.lineage)
        self.halves = QSplitter(Qt.Orientation.Vertical)
        self.halves.addWidget(self.upper)
        self.halves.addWidget(self.lineage_scroll)
        self.halves.setSizes([450, 275])
        self.halves.setStretchFactor(0, 1)
        outer.addWidget(self.halves, 1)
        self.status = StatusLine(self.runner.cancel_all, self.ordering.pause, self.actions_["findings"].trigger)
        outer.addWidget(self.status)

    def _connect(self) -> None:
        self.plan.cursor_moved.connect(self.status.readout.setText)
        self.plan.scale_changed.connect(self.status.scale.setText)
        self.lineage.chosen.connect(lambda nodes: self.show_panel())
        self.lineage.wanted_targets.connect(self._targets_menu)
        self.lineage.switched.connect(self.toggle_shown)
        self.lineage.removed.connect(lambda: self.guarded(self.remove_chosen))
        self.panel.field_changed.connect(lambda *a: self.guarded(partial(self.making.change_field, *a)))
        self.panel.field_left_open.connect(
            lambda node, field: self.guarded(partial(self.making.change_fields, node, {field: None}))
        )
        self.panel.fields_changed.connect(lambda *a: self.guarded(partial(self.making.change_fields, *a)))
        self.panel.field_edited.connect(self.making.preview_field)
        self.panel.editing_ended.connect(self.making.end_preview)
        self.panel.remake.connect(lambda nodes: self.guarded(partial(self.making.remake, nodes)))
        self.panel.place.connect(self.go_to)
        self.panel.renamed.connect(self._rename)
        self.panel.read_again.connect(lambda n: self.guarded(lambda: self.sourcing.read_again(n)))
        self.panel.source_switched.connect(lambda *a: self.guarded(partial(self.sourcing.switch, *a)))
        self.panel.source_dropped.connect(lambda *a: self.guarded(partial(self.sourcing.drop, *a)))
        self.panel.source_added.connect(lambda *a: self.guarded(partial(self.sourcing.add, *a)))
        self.panel.source_replaced.connect(lambda *a: self.guarded(partial(self.sourcing.ask_replacement, *a)))
        self.panel.source_given_role.connect(lambda *a: self.guarded(partial(self.sourcing.give_role, *a)))
        self.panel.source_painted.connect(self.sourcing.paint)
        self.panel.compare.connect(lambda a, b: self.guarded(partial(self.checking.compare, a, b)))
        self.panel.worn.connect(self.dressing.wear)
        self.panel.shifted.connect(self.dressing.shift)
        self.panel.figures_of = self.figuring.of
        self.panel.can_mend = self.inspecting.can_mend
        self.panel.finding_wanted.connect(self.inspecting.go_to)
        self.panel.finding_mended.connect(
            lambda noticed: self.guarded(partial(self.inspecting.mend, noticed.node, noticed.finding.remedy))
        )
        self.panel.findings_listed.connect(lambda: self.guarded(self.inspecting.show))
        self.panel.report_wanted.connect(lambda node: self.guarded(partial(self.checking.save_report, node)))
        self.panel.text_saved.connect(lambda path, text: self.guarded(lambda: self.save_text(Path(path), text)))
        self.panel.open_folder.connect(
            lambda path: QDesktopServices.openUrl(QUrl.fromLocalFile(str(Path(path).parent)))
        )

    def apply_theme(self, palette: theme.Palette) -> None:
        """Use another theme everywhere."""
        self.palette_ = palette
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setStyleSheet(theme.style(palette))
            colours = app.palette()
            colours.setColor(QPalette.ColorRole.Link, palette.colour("action"))
            app.setPalette(colours)
        self.panel.palette_ = palette
        self.views.set_palette(palette)
        self.lineage.set_palette(palette)
        self.show_panel()

    def toggle_theme(self) -> None:
        """Change between light and dark."""
        self.apply_theme(theme.DARK if self.palette_ is theme.LIGHT else theme.LIGHT)
        self.session.settings["theme"] = self.palette_.name
        self.session.save()

    # -- showing the job

    def refresh(self) -> None:
        """Show the job as it is now."""
        graph = self.session.graph
        self.header.show_job(self.session)
        self.setWindowTitle(f"{self.session.name} – Vast Grid")
        self.lineage.show_graph(graph, self.dataset)
        self.plan.unit = self.session.units()[0]
        self.refresh_views()
        self.show_findings_count()
        self.inspecting.see_to()
        self.actions_["undo"].setEnabled(self.session.history.can_undo)
        self.actions_["redo"].setEnabled(self.session.history.can_redo)
        self.show_panel()

    def show_findings_count(self) -> None:
        """Show how many findings are open."""
        self.status.show_findings(sum(each.open for each in self.session.noticed()))

    def go_to(self, east: float, north: float) -> None:
        """Bring a place into the views and mark it."""
        self.views.go_to(east, north)

    def dataset(self, node: str) -> Dataset | None:
        try:
            dataset = self.session.dataset(node)
        except VastGridError as error:
            self.failures[node] = str(error)
            return None
        return self._named(node, dataset) if dataset is not None else None

    def _named(self, node: str, dataset: Dataset) -> Dataset:
        """Return the dataset under its card's name; the same object as long as both stay the same."""
        name = self.session.graph[node].name
        key = (dataset.digest, name)
        if key not in self._names:
            self._names[key] = dataset if dataset.name == name else dataset.renamed(name)
        return self._names[key]

    def refresh_views(self) -> None:
        """Show the cards that are to be seen, in their looks."""
        self.views.show_items()
        items = self.plan.items
        self.ordering.see_to([own.dataset for own in items], self.session.folder)

    def show_panel(self) -> None:
        """Show the chosen cards' panel anew."""
        self.panel.show_nodes(self.session, list(self.lineage.selection), self.failures)
        self.actions_["remove"].setEnabled(bool(self.lineage.selection))

    def save_text(self, path: Path, text: str) -> None:
        """Write text to a file that the user chose."""
        self.session.refuse_output(path)
        write_text(path, text)
        self.say(f"{path.name} is written")

    def say(self, text: str) -> None:
        """Say something in the status line."""
        self.message = text
        self.status.say(text)

    def guarded(self, run: Callable[[], Any]) -> None:
        """Run something the user asked for; what goes wrong is told, not raised."""
        try:
            run()
        except VastGridError as error:
            self.tell(str(error))

    def tell(self, text: str) -> None:
        """Tell of a fault."""
        self.say(text if len(text) < 90 else text[:87] + "…")
        box = QMessageBox(QMessageBox.Icon.Warning, "Vast Grid", text, QMessageBox.StandardButton.Ok, self)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        box.open()

    # -- tasks

    def start(
        self, title: str, work: Callable[[Progress], Any], done: Callable[[Any], None], nodes: Sequence[str] = ()
    ) -> None:
        """Do slow work off the interface thread; `done` runs here with its result, unless another job is open by then."""
        session = self.session
        self.lineage.running |= set(nodes)
        for node in nodes:
            self.failures.pop(node, None)
            self.lineage.failed.discard(node)

        def succeeded(made: Any) -> None:
            # What was begun in one job never lands in another.
            if session is self.session:
                self.guarded(partial(done, made))

        def failed(why: str, detail: str) -> None:
            if session is not self.session:
                return
            for node in nodes:
                self.failures[node] = why
                self.lineage.failed.add(node)
            self.tell(f"{title}: {why}" + (f"\n\n{detail}" if detail else ""))

        def ended() -> None:
            if session is self.session:
                self.lineage.running -= set(nodes)
                self.refresh()

        self.runner.start(
            Task(
                title=title,
                work=work,
                done=lambda made: self.bridge.post(partial(succeeded, made)),
                failed=lambda why, detail: self.bridge.post(partial(failed, why, detail)),
                ended=lambda: self.bridge.post(ended),
            )
        )
        self.lineage.update()

    def _task_changed(self, task: Task) -> None:
        current = self.runner.current()
        self._show_tasks()
        if current is None:
            if task.state == "cancelled":
                self.say(f"{task.title}: cancelled, nothing was changed")
            following, self._after = self._after, []
            for call in following:
                call()

    def _show_tasks(self) -> None:
        self.status.show_tasks(self.runner.current(), self.ordering.task)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and event.mimeData() is not None and event.mimeData().hasUrls():  # type: ignore[union-attr]
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is None or event.mimeData() is None:
            return
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]  # type: ignore[union-attr]
        event.acceptProposedAction()
        self.guarded(lambda: self.importing.files(paths))

    # -- menus

    def _targets_menu(self, node: str, place: QPointF) -> None:
        menu = self.targets_menu()
        menu.popup(place.toPoint())

    def targets_menu(self) -> QMenu:
        """Return the menu of what can be made from the chosen cards, files included."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.making.fill_menu(menu, self.lineage.selection)
        menu.addSeparator()
        self.delivering.fill_menu(menu)
        return menu

    def changeEvent(self, event: QEvent | None) -> None:
        super().changeEvent(event)
        active = event is not None and event.type() is QEvent.Type.ActivationChange and self.isActiveWindow()
        if active and not self._closed:
            self.sourcing.look_at_files()

    # -- the job

    def undo(self) -> None:
        """Take the last change back."""
        self.say(f"undone: {self.session.undo()}")
        self.refresh()

    def redo(self) -> None:
        """Do again what was undone."""
        self.say(f"done again: {self.session.redo()}")
        self.refresh()

    def toggle_shown(self, node: str) -> None:
        """Show or hide a card in the plan."""
        self.session.show(node, shown=not self.session.graph[node].shown)
        self.refresh()

    def isolate(self) -> None:
        """Show only the chosen cards; with none chosen, all."""
        for node in self.session.graph.cards:
            self.session.show(node, shown=not self.lineage.selection or node in self.lineage.selection)
        self.refresh()

    def remove_chosen(self) -> None:
        """Take the chosen cards out, with all that was made from them."""
        if self.lineage.selection:
            self.session.remove(self.lineage.selection)
            self.say("removed; Ctrl+Z brings it back")
            self.refresh()

    def _rename(self, node: str, name: str) -> None:
        if node in self.session.graph and self.session.graph[node].name != name:
            self.session.rename(node, name)
            self.refresh()

    def new_job(self) -> None:
        """Begin an empty job in a new folder."""
        name, _ = QFileDialog.getSaveFileName(
            self, "New job: name of its folder", str(self.session.folder.parent / "New job")
        )
        if name:
            self.use_session(Session(Path(name)))
            self.session.save()
            self.session.keeper.flush()

    def open_job(self) -> None:
        """Open a job's folder."""
        name = QFileDialog.getExistingDirectory(self, "Open a job: its folder", str(self.session.folder.parent))
        if name:
            if not (Path(name) / "job.json").exists():
                raise CallError(f"there is no job in {name}")
            self.use_session(Session(Path(name)))

    def save_copy(self) -> None:
        """Copy the job to another folder."""
        name, _ = QFileDialog.getSaveFileName(
            self, "Save a copy: name of its folder", str(self.session.folder) + " copy"
        )
        if name:
            self.session.save_copy(Path(name))
            self.say(f"copied to {name}")

    def use_session(self, session: Session) -> None:
        """Show another job in this window."""
        self.runner.cancel_all()
        self.previews.cancel_all()
        self.guarded(self.session.close)
        self._after = []
        self.lineage.running.clear()
        self.lineage.failed.clear()
        self.session = session
        self._keep_behind(session)
        self.failures.clear()
        self._names.clear()
        self.dressing.forget()
        self.lineage.selection = []
        self.views.forget()
        self.refresh()

    # -- finding by typing

    def _search(self, text: str) -> list[Hit]:
        hits = []
        wish = understood(text, self.session, self.lineage.selection)
        if wish is not None:
            conversion = catalog.conversion_named(wish.conversion)
            names = ", ".join(self.session.graph[node].name for node in wish.inputs)
            said = " ".join(f"{k} {v}" for k, v in wish.words.items())
            hits.append(
                Hit(
                    f"Make: {conversion.title} {said} from {names}",
                    lambda: self.guarded(partial(self.making.make, wish.conversion, list(wish.inputs), wish.words)),
                )
            )
        words = text.lower().split()
        for action in self.actions_.values():
            if all(word in action.text().lower() for word in words) and action.isEnabled():
                keys = action.shortcut().toString()
                hits.append(Hit(action.text() + (f"   ({keys})" if keys else ""), action.trigger))
        for node in self.session.graph.cards.values():
            if all(word in node.name.lower() for word in words):
                hits.append(Hit(f"Card: {node.name}", partial(self._go_to_card, node.id)))
        return hits

    def _go_to_card(self, node: str) -> None:
        self.lineage.select([node])
        self.lineage.setFocus()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._closed = True
        self.ordering.close()
        self.inspecting.close()
        self.figuring.close()
        self.runner.close()
        self.previews.close()
        self.sectioning.close_runner()
        self.views.close_painters()
        remember_window(self)
        self.guarded(self.session.close)
        super().closeEvent(event)
