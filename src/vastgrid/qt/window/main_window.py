"""The window: lineage below, plan above, the chosen card's panel beside; everything else is reached from there."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from threading import Thread

from PyQt6.QtCore import QEvent, QObject, Qt, QTimer, QUrl
from PyQt6.QtGui import (
    QCloseEvent,
    QDesktopServices,
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QPalette,
    QResizeEvent,
)
from PyQt6.QtWidgets import (
    QApplication,
    QMainWindow,
    QMessageBox,
    QScrollArea,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from vastgrid import catalog
from vastgrid.jobs.glance import Suggestion
from vastgrid.jobs.session import Session
from vastgrid.manual.pages import of_finding
from vastgrid.qt.panel.panel import Panel, PanelWork
from vastgrid.qt.views.lineage_view import CARD_MIME, LineageView
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.chooser import Chooser
from vastgrid.qt.window.actions import add_actions
from vastgrid.qt.window.at_home import desktop_is_dark
from vastgrid.qt.window.finder import Finder
from vastgrid.qt.window.header import Header
from vastgrid.qt.window.parts import Parts
from vastgrid.qt.window.searching import Searching
from vastgrid.qt.window.status_line import StatusLine
from vastgrid.qt.window.window_place import place_window, remember_window

# The part of the height below the header that the lineage takes at most unasked.
LINEAGE = 0.45


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
        doings: dict[str, Callable[[], object]] = {
            "theme": self.toggle_theme,
            "find": self.finder.begin,
            "quit": self.close,
            "lineage": self._to_lineage,
            "lineage_all": self._turn_lineage,
            "zoom_out": lambda: self.lineage.zoom(1),
            "zoom_in": lambda: self.lineage.zoom(-1),
            "fold": self._fold_chosen,
            "panel": lambda: self.panel.setVisible(not self.panel.isVisible()),
        }
        self.actions_ = add_actions(self, parts, doings)
        self.searching = Searching(self.desk, parts, self.actions_, self._go_to_card)
        parts.build_views(self.actions_)
        self.views, self.plan = parts.views, parts.views.plan
        self.lineage = LineageView(self.desk, palette)
        work = PanelWork(parts.making, parts.sourcing, parts.inspecting, parts.styling, parts.figuring)
        self.panel = Panel(self.desk, palette, work)
        self.setAcceptDrops(True)
        self._lay_out()
        self._connect()
        self._connect_panel()
        self.apply_theme(palette)
        self.refresh()
        place_window(self)
        # What can be made is asked for sooner or later: its modules are loaded before, behind the window.
        QTimer.singleShot(1500, lambda: Thread(target=_load_all, name="vastgrid-load", daemon=True).start())
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
        self.header = Header(
            self.actions_,
            self.finder,
            make=self.choose_make,
            check=lambda menu: parts.checking.fill_menu(menu, self.actions_),
            deliver=parts.delivering.choose,
            recent=parts.at_home.fill_recent,
        )
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
        # How much of the height the lineage has: as much as its rows need, or as somebody dragged it; all; or one row.
        self._lineage_has = "needed"
        self.halves.splitterMoved.connect(lambda *_: setattr(self, "_lineage_has", "dragged"))
        handle = self.halves.handle(1)
        assert handle is not None
        handle.setToolTip("Drag, or double-click for the lineage alone")
        handle.installEventFilter(self)
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
        self.lineage.laid_out.connect(self._fit_lineage)
        self.lineage.wanted_targets.connect(lambda: self.desk.guarded(self.choose_make))
        self.lineage.filled.connect(lambda card: desk.guarded(lambda: parts.making.drafting.fill(card)))
        self.lineage.given_up.connect(parts.making.drafting.give_up)
        desk.drafted.connect(self._show_draft)
        self.lineage.switched.connect(desk.toggle_shown)
        self.lineage.removed.connect(lambda: desk.guarded(desk.remove_chosen))

    def _connect_panel(self) -> None:
        desk, parts, panel = self.desk, self.parts, self.panel

        def guarded(run: Callable[..., object]) -> Callable[..., None]:
            return lambda *values: desk.guarded(partial(run, *values))

        panel.place.connect(lambda east, north: self.views.go_to(east, north))
        panel.source_replaced.connect(guarded(parts.ask_replacement))
        panel.compare.connect(guarded(parts.checking.compare))
        panel.finding_explained.connect(lambda code: parts.at_home.show_manual(of_finding(code)))
        panel.findings_listed.connect(self.actions_["findings"].trigger)
        panel.report_wanted.connect(guarded(parts.checking.save_report))
        panel.table_wanted.connect(guarded(parts.checking.show_table))
        panel.map_wanted.connect(guarded(parts.checking.draw_answer))
        panel.file_wanted.connect(guarded(parts.checking.look_into))
        panel.text_saved.connect(guarded(lambda path, text: parts.save_text(Path(path), text)))
        panel.wished.connect(guarded(self._do))
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
        self._say_why_empty()
        self.parts.ordering.see_to([item.dataset for item in self.plan.items], self.session.folder)

    def show_panel(self) -> None:
        """Show the chosen cards' panel anew."""
        self.panel.show_nodes(list(self.desk.selection))
        self.actions_["remove"].setEnabled(bool(self.desk.selection))

    def _show_news(self) -> None:
        """Show what has come to be known; the panel only where it is of the chosen cards."""
        self.show_findings_count()
        if self.panel.out_of_date():
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

    def _say_why_empty(self) -> None:
        """Tell the plan what it is to say while there is nothing in it."""
        graph, task = self.session.graph, self.desk.runner.current()
        doing = ""
        if task is not None:
            doing = f"{task.title[0].upper()}{task.title[1:]} …"
        elif any(card.digest for card in graph.cards.values()):
            doing = "All cards are hidden: the circle on a card shows it"
        if doing != self.plan.doing:
            self.plan.doing = doing
            self.plan.update()

    def _show_tasks(self) -> None:
        self._say_why_empty()
        if self.panel.glance is not None:
            self.show_panel()
        self.status.show_tasks(self.desk.runner.current(), self.parts.ordering.task)

    def _forget(self) -> None:
        """Let go of everything of the job that was open."""
        self.parts.styling.forget()
        self.views.forget()

    def _to_lineage(self) -> None:
        self.lineage.setFocus()

    def _fit_lineage(self) -> None:
        """Give the lineage the height that its rows need, up to a part of the window's."""
        sizes = self.halves.sizes()
        room = sum(sizes)
        if room <= 0 or self._lineage_has == "dragged" or self._sizes:
            return
        need = self.lineage.layout_.size.height() + 4
        wanted = {"needed": min(max(need, 110), round(room * LINEAGE)), "one row": 96, "all": room}[self._lineage_has]
        if abs(sizes[1] - wanted) > 1:
            self.views.setVisible(self._lineage_has != "all")
            self.halves.setSizes([room - wanted, wanted])

    def _turn_lineage(self) -> None:
        """Give the lineage all of the window, then one row, then what it needs."""
        turns = {"needed": "all", "dragged": "all", "all": "one row", "one row": "needed"}
        self._lineage_has = turns[self._lineage_has]
        self.views.setVisible(True)
        self._fit_lineage()

    def _fold_chosen(self) -> None:
        """Fold away what was made from the chosen card, or unfold it."""
        for card in self.desk.selection[-1:]:
            self.lineage.fold(card)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() is QEvent.Type.MouseButtonDblClick and watched is self.halves.handle(1):
            self._lineage_has = "needed" if self._lineage_has == "all" else "all"
            self.views.setVisible(True)
            self._fit_lineage()
            return True
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit_lineage()

    def _bring_into_sight(self) -> None:
        """Scroll the lineage to the card that was chosen last, new ones too."""
        if self.desk.selection:
            self.lineage.unfold_to(self.desk.selection[-1])
        place = self.lineage.place_of(self.desk.selection[-1]) if self.desk.selection else None
        if place is not None:
            self._in_sight = list(self.desk.selection)
            # A new row makes the lineage taller: what can be scrolled is known once that is laid out.
            self.lineage.resize(self.lineage.size().expandedTo(self.lineage.minimumSize()))
            middle = place.center().toPoint()
            self.lineage_scroll.ensureVisible(
                middle.x(), middle.y(), round(place.width() / 2) + 12, round(place.height() / 2) + 10
            )

    def _bring_lit_into_sight(self) -> None:
        """Scroll the lineage to the first card that fits a step that is begun, where none is in sight."""
        places = [place for card in self.lineage.lit or () if (place := self.lineage.place_of(card)) is not None]
        seen = self.lineage.visibleRegion().boundingRect()
        if places and not any(seen.contains(place.center().toPoint()) for place in places):
            middle = min(places, key=lambda place: place.top()).center().toPoint()
            self.lineage_scroll.ensureVisible(middle.x(), middle.y(), 60, 50)

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
        data = event.mimeData() if event is not None else None
        # A card of this window is no file that comes in.
        if event is not None and data is not None and data.hasUrls() and not data.hasFormat(CARD_MIME):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        if event is None or event.mimeData() is None:
            return
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]  # type: ignore[union-attr]
        event.acceptProposedAction()
        self.desk.guarded(lambda: self.parts.importing.files(paths))

    def choose_make(self) -> Chooser:
        """Open the sheet of what can be made from the chosen cards."""
        names = [self.session.graph[card].name for card in self.desk.selection]
        from_what = f" from {names[0]}" if len(names) == 1 else f" from {len(names)} cards" if names else ""
        return self.parts.sheet(f"Make{from_what}", self.parts.offers.choices(self.actions_))

    def _do(self, wish: Suggestion) -> None:
        """Do what the job at a glance proposes."""
        parts, cards = self.parts, list(wish.cards)
        doings: dict[str, Callable[[], object]] = {
            "import": parts.importing.choose,
            "open": parts.open_job,
            "manual": lambda: parts.at_home.show_manual("first-hour"),
            "read_again": lambda: parts.sourcing.read_again(cards[0]),
            "remake": parts.making.remake_all,
            "findings": parts.checking.show_findings,
            "make": lambda: parts.making.make(wish.operation, cards, {}),
            "deliver": parts.delivering.choose,
        }
        if wish.action == "deliver":
            self.desk.select(cards)
        doings[wish.action]()

    def _show_draft(self) -> None:
        """Show the step that is begun, or whatever is chosen where none is."""
        self.panel.setVisible(True)
        self.lineage.lit = self.parts.making.drafting.lit() if self.desk.draft is not None else None
        self.lineage.update()
        self.show_panel()
        self._bring_lit_into_sight()
        if self.panel.draft is not None:
            self.panel.draft.begin()

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


def _load_all() -> None:
    """Load every conversion and every format."""
    list(catalog.CONVERSIONS)
    list(catalog.FORMATS)
