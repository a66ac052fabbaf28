"""The window: lineage below, plan above, the chosen card's panel beside; everything else is reached from there."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QEvent, QPointF, Qt, QUrl
from PyQt6.QtGui import QCloseEvent, QDesktopServices, QDragEnterEvent, QDropEvent, QGuiApplication, QPalette
from PyQt6.QtWidgets import (
    QApplication,
    QMainWindow,
    QMenu,
    QMessageBox,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from vastgrid.jobs.session import Session
from vastgrid.manual.pages import of_finding
from vastgrid.qt.panel.panel import Panel
from vastgrid.qt.views.lineage_view import LineageView
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.actions import add_actions
from vastgrid.qt.window.at_home import desktop_is_dark
from vastgrid.qt.window.finder import Finder
from vastgrid.qt.window.header import Header
from vastgrid.qt.window.parts import Parts
from vastgrid.qt.window.searching import Searching
from vastgrid.qt.window.status_line import StatusLine
from vastgrid.qt.window.window_place import place_window, remember_window


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
        self.palette_ = palette
        self._closed = False
        self._sizes: list[int] = []
        self._in_sight: list[str] = []
        self.parts = parts = Parts(self, session, lambda: self.palette_, lambda: self.apply_theme(self.palette_))
        self.desk = parts.desk
        self.finder = Finder(lambda text: self.searching.hits(text))
        own: dict[str, Callable[[], object]] = {
            "theme": self.toggle_theme,
            "find": self.finder.begin,
            "quit": self.close,
            "lineage": self._to_lineage,
            "panel": lambda: self.panel.setVisible(not self.panel.isVisible()),
        }
        self.actions_ = add_actions(self, parts, own)
        self.searching = Searching(self.desk, parts, self.actions_, self._go_to_card)
        parts.build_views(self.actions_)
        self.views, self.plan = parts.views, parts.views.plan
        self.lineage = LineageView(self.desk, palette)
        self.panel = Panel(self.desk, palette)
        self.setAcceptDrops(True)
        self._lay_out()
        self._connect()
        self._connect_panel()
        self.apply_theme(palette)
        self.refresh()
        place_window(self)
        hints = QGuiApplication.styleHints()
        if hints is not None:
            # The method itself: a function around it would keep every window that ever was.
            hints.colorSchemeChanged.connect(self.follow_desktop)

    @property
    def session(self) -> Session:
        """The open job."""
        return self.desk.session

    # -- building the window

    def _lay_out(self) -> None:
        page = QWidget()
        page.setObjectName("page")
        self.setCentralWidget(page)
        outer = QVBoxLayout(page)
        outer.setContentsMargins(0, 0, 0, 0)
        outer.setSpacing(0)
        parts = self.parts
        menus: dict[str, Callable[[QMenu], None]] = {
            "Make": lambda menu: parts.make_menu.fill(menu, self.actions_),
            "Check": lambda menu: parts.checking.fill_menu(menu, self.actions_),
            "Deliver": parts.delivering.fill_menu,
        }
        self.header = Header(self.actions_, menus, self.finder, parts.at_home.fill_recent)
        self.menus = self.header.menus
        outer.addWidget(self.header)
        self.lineage_scroll = QScrollArea()
        self.lineage_scroll.setWidgetResizable(True)
        self.lineage_scroll.setFrameShape(QScrollArea.Shape.NoFrame)
        self.lineage_scroll.setWidget(self.lineage)
        self.halves = QSplitter(Qt.Orientation.Vertical)
        self.halves.addWidget(self.views)
        self.halves.addWidget(self.lineage_scroll)
        self.halves.setSizes([450, 275])
        self.halves.setStretchFactor(0, 1)
        # People read in the panel: it has the full height.
        self.across = QSplitter(Qt.Orientation.Horizontal)
        self.across.addWidget(self.halves)
        self.across.addWidget(self.panel)
        self.across.setSizes([944, 336])
        self.across.setStretchFactor(0, 1)
        outer.addWidget(self.across, 1)
        self.status = StatusLine(
            self.desk.runner.cancel_all, self.parts.ordering.pause, self.actions_["findings"].trigger
        )
        outer.addWidget(self.status)

    def _connect(self) -> None:
        desk, parts = self.desk, self.parts
        desk.changed.connect(self.refresh)
        desk.looks_changed.connect(self.refresh_views)
        desk.news.connect(self._show_news)
        desk.selected.connect(self.show_panel)
        desk.selected.connect(self._bring_into_sight)
        desk.said.connect(self.status.say)
        desk.told.connect(self._show_fault)
        desk.worked.connect(self._show_tasks)
        desk.place.connect(lambda east, north, close: self.views.go_to(east, north, close=close))
        desk.previewed.connect(self._show_preview)
        desk.left.connect(self._forget)
        self.plan.cursor_moved.connect(self.status.readout.setText)
        self.plan.scale_changed.connect(self.status.scale.setText)
        self.views.pointed.connect(self.status.readout.setText)
        self.views.room_wanted.connect(self._make_room)
        self.lineage.wanted_targets.connect(self._targets_menu)
        self.lineage.switched.connect(desk.toggle_shown)
        self.lineage.removed.connect(lambda: desk.guarded(desk.remove_chosen))
        self.panel.figures_of = parts.figuring.of
        self.panel.can_mend = parts.inspecting.can_mend

    def _connect_panel(self) -> None:
        desk, parts, panel = self.desk, self.parts, self.panel

        def guarded(run: Callable[..., object]) -> Callable[..., None]:
            return lambda *values: desk.guarded(partial(run, *values))

        making, sourcing, inspecting = parts.making, parts.sourcing, parts.inspecting
        panel.field_changed.connect(guarded(making.change_field))
        panel.fields_changed.connect(guarded(making.change_fields))
        panel.field_left_open.connect(guarded(lambda node, field: making.change_fields(node, {field: None})))
        panel.field_edited.connect(making.preview_field)
        panel.editing_ended.connect(making.end_preview)
        panel.remake.connect(guarded(making.remake))
        panel.place.connect(lambda east, north: self.views.go_to(east, north))
        panel.renamed.connect(desk.rename)
        panel.read_again.connect(guarded(sourcing.read_again))
        panel.source_switched.connect(guarded(sourcing.switch))
        panel.source_dropped.connect(guarded(sourcing.drop))
        panel.source_added.connect(guarded(sourcing.add))
        panel.source_replaced.connect(guarded(parts.ask_replacement))
        panel.source_given_role.connect(guarded(sourcing.give_role))
        panel.source_painted.connect(sourcing.paint)
        panel.compare.connect(guarded(parts.checking.compare))
        panel.look_changed.connect(parts.styling.set_look)
        panel.shifted.connect(parts.styling.shift)
        panel.finding_wanted.connect(inspecting.go_to)
        panel.finding_mended.connect(guarded(lambda noticed: inspecting.mend(noticed.node, noticed.finding.remedy)))
        panel.finding_explained.connect(lambda code: parts.at_home.show_manual(of_finding(code)))
        panel.findings_listed.connect(self.actions_["findings"].trigger)
        panel.report_wanted.connect(guarded(parts.checking.save_report))
        panel.table_wanted.connect(guarded(parts.checking.show_table))
        panel.map_wanted.connect(guarded(parts.checking.draw_answer))
        panel.file_wanted.connect(guarded(parts.checking.look_into))
        panel.text_saved.connect(guarded(lambda path, text: parts.save_text(Path(path), text)))
        panel.edits_changed.connect(guarded(making.rewrite_edits))
        panel.edits_saved.connect(guarded(parts.save_edits))
        panel.edits_loaded.connect(guarded(parts.load_edits))
        panel.open_folder.connect(lambda path: QDesktopServices.openUrl(QUrl.fromLocalFile(str(Path(path).parent))))

    def apply_theme(self, palette: theme.Palette) -> None:
        """Use another theme everywhere."""
        self.palette_ = palette
        app = QApplication.instance()
        if isinstance(app, QApplication):
            app.setStyleSheet(theme.style(palette))
            colours = app.palette()
            colours.setColor(QPalette.ColorRole.Link, palette.colour("action"))
            app.setPalette(colours)
        self.header.restyle()
        self.status.restyle()
        self.panel.palette_ = palette
        self.views.set_palette(palette)
        self.lineage.set_palette(palette)
        self.show_panel()

    def follow_desktop(self) -> None:
        """Use the desktop's light or dark, unless one was chosen for this job."""
        if not self.session.settings.get("theme"):
            wanted = theme.DARK if desktop_is_dark() else theme.LIGHT
            if wanted is not self.palette_:
                self.apply_theme(wanted)

    def toggle_theme(self) -> None:
        """Change between light and dark."""
        self.apply_theme(theme.DARK if self.palette_ is theme.LIGHT else theme.LIGHT)
        self.session.settings["theme"] = self.palette_.name
        self.session.save()

    # -- showing the job

    def refresh(self) -> None:
        """Show the job as it is now."""
        session = self.session
        self.header.show_job(session)
        self.setWindowTitle(f"{session.name} – Vast Grid")
        self.lineage.show_graph()
        self.plan.unit = session.units()[0]
        self.refresh_views()
        self.show_findings_count()
        self.parts.inspecting.see_to()
        self.actions_["undo"].setEnabled(session.history.can_undo)
        self.actions_["redo"].setEnabled(session.history.can_redo or session.editing.can_go_on)
        self.show_panel()
        if self._in_sight != self.desk.selection:
            self._bring_into_sight()

    def show_findings_count(self) -> None:
        """Show how many findings are open."""
        self.status.show_findings(sum(each.open for each in self.session.noticed()))

    def refresh_views(self) -> None:
        """Show the cards that are to be seen, in their looks."""
        self.views.show_items()
        self.parts.ordering.see_to([item.dataset for item in self.plan.items], self.session.folder)

    def show_panel(self) -> None:
        """Show the chosen cards' panel anew."""
        self.panel.show_nodes(list(self.desk.selection))
        self.actions_["remove"].setEnabled(bool(self.desk.selection))

    def _show_news(self) -> None:
        self.show_findings_count()
        self.show_panel()

    def _show_fault(self, text: str) -> None:
        buttons = QMessageBox.StandardButton.Ok | QMessageBox.StandardButton.Help
        box = QMessageBox(QMessageBox.Icon.Warning, "Vast Grid", text, buttons, self)
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        page = self.desk.help_page
        box.setProperty("manual", page)
        # Beside Help the library takes neither for what Escape and the frame's cross mean.
        box.setEscapeButton(QMessageBox.StandardButton.Ok)
        box.setDefaultButton(QMessageBox.StandardButton.Ok)
        helping = box.button(QMessageBox.StandardButton.Help)
        assert helping is not None
        helping.clicked.connect(lambda: self.parts.at_home.show_manual(page))
        box.open()

    def _show_preview(self, made: object) -> None:
        editor = self.panel.field_editor
        seen = editor is not None and editor.isVisible()
        self.plan.show_preview(made if seen else None)  # type: ignore[arg-type]  # the signal carries datasets

    def _show_tasks(self) -> None:
        self.status.show_tasks(self.desk.runner.current(), self.parts.ordering.task)

    def _forget(self) -> None:
        """Let go of everything of the job that was open."""
        self.parts.styling.forget()
        self.views.forget()

    def _to_lineage(self) -> None:
        self.lineage.setFocus()

    def _bring_into_sight(self) -> None:
        """Scroll the lineage to the card that was chosen last, new ones too."""
        place = self.lineage.place_of(self.desk.selection[-1]) if self.desk.selection else None
        if place is not None:
            self._in_sight = list(self.desk.selection)
            # A new row makes the lineage taller: what can be scrolled is known once that is laid out.
            self.lineage.resize(self.lineage.size().expandedTo(self.lineage.minimumSize()))
            middle = place.center().toPoint()
            self.lineage_scroll.ensureVisible(
                middle.x(), middle.y(), round(place.width() / 2) + 12, round(place.height() / 2) + 10
            )

    def _make_room(self, wanted: bool) -> None:
        """Give the views room from the lineage for the section strip, and take it back afterwards."""
        if wanted:
            self._sizes = self.halves.sizes()
            upper, lower = self._sizes
            less = max(lower - 165, 0)
            self.halves.setSizes([upper + less, lower - less])
        elif self._sizes:
            self.halves.setSizes(self._sizes)
            self._sizes = []

    # -- hands

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        if event is not None and event.mimeData() is not None and event.mimeData().hasUrls():  # type: ignore[union-attr]
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is None or event.mimeData() is None:
            return
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]  # type: ignore[union-attr]
        event.acceptProposedAction()
        self.desk.guarded(lambda: self.parts.importing.files(paths))

    def _targets_menu(self, node: str, place: QPointF) -> None:
        self.targets_menu().popup(place.toPoint())

    def targets_menu(self) -> QMenu:
        """Return the menu of what can be made from the chosen cards, files included."""
        menu = QMenu(self)
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.parts.make_menu.fill(menu, self.actions_)
        return menu

    def changeEvent(self, event: QEvent | None) -> None:
        super().changeEvent(event)
        active = event is not None and event.type() is QEvent.Type.ActivationChange and self.isActiveWindow()
        if active and not self._closed:
            self.parts.sourcing.look_at_files()

    # -- finding by typing

    def _go_to_card(self, node: str) -> None:
        self.lineage.select([node])
        self.lineage.setFocus()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self._closed = True
        remember_window(self)
        self.parts.close()
        super().closeEvent(event)
