"""What makes the window at home on a desktop: manual, recent jobs, text size, theme, notifications, reports of crashes."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QChildEvent, QEvent, QObject, QSettings, Qt
from PyQt6.QtGui import QCursor, QGuiApplication, QKeyEvent
from PyQt6.QtWidgets import (
    QApplication,
    QDialog,
    QDialogButtonBox,
    QMenu,
    QMessageBox,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from vastgrid.home import faults
from vastgrid.lineage.graph import Role
from vastgrid.manual.pages import FIRST
from vastgrid.qt.desk.desk import Desk
from vastgrid.qt.dialogs.manual_window import ManualWindow
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.section import settings
from vastgrid.tasks.runner import Task

# Work that took so many seconds is worth a word when it ends.
LONG = 10.0
MOST_RECENT = 10
# Types of values on the message bus, by Qt's numbers.
_UNSIGNED, _STRING = 3, 10
SIZES = (0.8, 0.9, 1.0, 1.15, 1.3, 1.5, 1.75, 2.0)


class AtHome(QObject):
    """Everything about the program itself.

    Parameters
    ----------
    window : QWidget
        The main window.
    desk : Desk
        Whose work is watched.
    palette : callable
        Gives the theme.
    use : callable
        Opens a job.
    restyle : callable
        Gives every widget its style anew.
    """

    def __init__(
        self,
        window: QWidget,
        desk: Desk,
        palette: Callable[[], theme.Palette],
        use: Callable[[Path], None],
        restyle: Callable[[], None],
    ) -> None:
        super().__init__(window)
        self._window, self._desk, self._palette, self.use, self._restyle = window, desk, palette, use, restyle
        self.manual: ManualWindow | None = None
        self.notify: Callable[[str, str], None] = notified
        self._watched: Task | None = None
        desk.worked.connect(self._watch)
        desk.changed.connect(self._remember_job)
        desk.help_wanted.connect(self.show_manual)
        self._remember_job()
        # Of windows alone, not of the application: a filter in Python that sees each event of each widget waits for the
        # interpreter each time, behind whatever works meanwhile. A key that nobody takes comes to the window in the end.
        window.installEventFilter(self)

    # -- the manual

    def show_manual(self, where: str = "") -> None:
        """Show the manual at a page, or at the one that fits what is on the screen."""
        if self.manual is None:
            self.manual = ManualWindow(self._palette())
            # A dialog may be modal; the manual can be read beside it.
            self.manual.setWindowModality(Qt.WindowModality.NonModal)
        self.manual.set_palette(self._palette())
        self.manual.show_page(where or self.fitting())
        self.manual.show()
        self.manual.raise_()
        self.manual.activateWindow()

    def fitting(self) -> str:
        """Return the page that fits: of what is under the pointer or has the focus, of the dialog in front, or of the chosen card."""
        front = QApplication.activeModalWidget() or QApplication.activeWindow()
        for start in (QApplication.widgetAt(QCursor.pos()), QApplication.focusWidget(), front):
            if start is not None and (front is None or start.window() is front) and (own := _page_of(start)):
                return own
        chosen = [node for node in self._desk.selection if node in self._desk.session.graph]
        if not chosen:
            return FIRST
        node = self._desk.session.graph.node(chosen[-1])
        if node.role in (Role.SOURCE, Role.DELIVERY):
            return f"format-{node.operation}"
        return f"conversion-{node.operation}" if node.role is Role.MADE else FIRST

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Let F1 open the manual wherever the focus is, in dialogs too: they are children of the window."""
        if isinstance(event, QChildEvent) and event.added():
            child = event.child()
            if isinstance(child, QWidget):
                child.installEventFilter(self)
        if (
            event is not None
            and event.type() is QEvent.Type.KeyPress
            and isinstance(event, QKeyEvent)
            and event.key() == Qt.Key.Key_F1
            and isinstance(watched, QWidget)
            and not event.isAutoRepeat()
        ):
            self.show_manual()
            return True
        return False

    # -- recent jobs

    def _remember_job(self) -> None:
        folder = str(self._desk.session.folder.resolve())
        kept = [folder, *(path for path in recent() if path != folder)]
        if kept != recent():
            settings().setValue("recent", kept[:MOST_RECENT])

    def others(self) -> list[Path]:
        """Return the folders of jobs that were open lately, are still there, and are not the one that is open."""
        here = str(self._desk.session.folder.resolve())
        return [Path(path) for path in recent() if path != here and (Path(path) / "job.json").is_file()]

    def fill_recent(self, menu: QMenu) -> None:
        """Fill a menu with the jobs that were open lately and are still there."""
        menu.clear()
        for folder in self.others():
            action = menu.addAction(folder.name)
            assert action is not None
            action.setToolTip(str(folder))
            action.triggered.connect(lambda _=False, p=folder: self._desk.guarded(lambda: self.use(p)))
        menu.setToolTipsVisible(True)
        if menu.isEmpty():
            none = menu.addAction("no other job yet")
            assert none is not None
            none.setEnabled(False)

    # -- text size and theme

    def change_text(self, steps: int) -> None:
        """Make all text larger or smaller; 0 steps is the usual size."""
        nearest = min(range(len(SIZES)), key=lambda k: abs(SIZES[k] - theme.text_size()))
        size = SIZES[min(max(nearest + steps, 0), len(SIZES) - 1)] if steps else 1.0
        theme.set_text_size(size)
        settings().setValue("text", size)
        self._restyle()
        self._desk.say(f"text at {size:.0%}")

    # -- work that ended

    def _watch(self) -> None:
        now = self._desk.runner.current()
        before, self._watched = self._watched, now
        if before is None or before is now or before.state not in ("done", "failed"):
            return
        if time.monotonic() - before.began < LONG or self._window.isActiveWindow():
            return
        how = "is done" if before.state == "done" else "failed"
        self.notify("Vast Grid", f"{before.title} {how}")
        QApplication.alert(self._window)

    # -- crashes

    def offer_reports(self) -> None:
        """Offer the reports of crashes that nobody has seen yet."""
        reports = faults.unseen()
        if not reports:
            return
        faults.seen(reports)
        box = QMessageBox(
            QMessageBox.Icon.Information,
            "Vast Grid",
            "Vast Grid ended unexpectedly before. A report of it is in a file on this machine; it was not sent anywhere.",
            QMessageBox.StandardButton.Close,
            self._window,
        )
        box.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        show = box.addButton("Show the report", QMessageBox.ButtonRole.AcceptRole)
        assert show is not None
        show.clicked.connect(lambda: self._show_report(reports[0]))
        box.open()

    def _show_report(self, path: Path) -> None:
        dialog = QDialog(self._window)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        dialog.setWindowTitle(path.name)
        dialog.resize(780, 520)
        layout = QVBoxLayout(dialog)
        text = QPlainTextEdit()
        text.setReadOnly(True)
        text.setAccessibleName("Report of the crash")
        with contextlib.suppress(OSError):
            text.setPlainText(f"{path}\n\n{path.read_text(encoding='utf-8', errors='replace')}")
        layout.addWidget(text)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Close)
        buttons.rejected.connect(dialog.close)
        layout.addWidget(buttons)
        dialog.open()

    def close(self) -> None:
        """Let go of everything."""
        app = QApplication.instance()
        if app is not None:
            app.removeEventFilter(self)
        if self.manual is not None:
            self.manual.close()
            self.manual.deleteLater()
            self.manual = None


def _page_of(widget: QWidget) -> str:
    """Return the page that a widget names, or one of those around it in its window; empty where none does."""
    now: QWidget | None = widget
    while now is not None:
        if own := now.property("manual"):
            return str(own)
        now = None if now.isWindow() else now.parentWidget()
    return ""


def recent() -> list[str]:
    """Return the folders of jobs that were open lately, the latest first."""
    kept = settings().value("recent")
    if isinstance(kept, str):
        return [kept]
    return [str(path) for path in kept] if isinstance(kept, list) else []


def kept_text_size(own: QSettings) -> float:
    """Return the size of text that was chosen."""
    try:
        return min(max(float(own.value("text", 1.0)), SIZES[0]), SIZES[-1])
    except (TypeError, ValueError):
        return 1.0


def desktop_is_dark() -> bool:
    """Return whether the desktop asks for a dark look."""
    hints = QGuiApplication.styleHints()
    return hints is not None and hints.colorScheme() is Qt.ColorScheme.Dark


def notified(title: str, text: str) -> None:
    """Tell the desktop (Desktop Notifications Specification); where nobody listens, nothing happens."""
    from PyQt6.QtCore import QMetaType, QVariant
    from PyQt6.QtDBus import QDBusArgument, QDBusConnection, QDBusInterface

    bus = QDBusConnection.sessionBus()
    if not bus.isConnected():
        return
    own = "org.freedesktop.Notifications"
    there = QDBusInterface(own, "/org/freedesktop/Notifications", own, bus)
    if not there.isValid():
        return
    none = QDBusArgument()
    none.beginArray(QMetaType(_STRING))
    none.endArray()
    replaces = QVariant(0)
    replaces.convert(QMetaType(_UNSIGNED))
    there.asyncCall("Notify", "Vast Grid", replaces, "io.github.vastgrid.VastGrid", title, text, none, {}, -1)
