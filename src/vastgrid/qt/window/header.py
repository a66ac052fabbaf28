"""The line at the head of the window: the job, what can be done, the finder, units and reference system."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QMenu, QWidget

from vastgrid.jobs.session import Session
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.buttons import flat_button, menu_button, submenu

UNITS_TIP = "Unit of plan · unit of heights · coordinate reference system"
# A reference system's name may be longer than the window is wide.
ROOM_FOR_UNITS = 220
# A name and what stands below it, for what is not looked for each day: no menu may be taller than a small screen.
JOB_MENU: tuple[str | tuple[str, tuple[str, ...]] | None, ...] = (
    *("new", "open", "recent", "copy", "room", None),
    ("Repeat", ("recipe", "run_recipe", "large")),
    ("Edit", ("undo", "redo", "remove", "keep_copy")),
    ("View", ("fit", "only", "panel", "lineage_all", "zoom_out", "zoom_in", "fold")),
    ("Text and colours", ("theme", "text_larger", "text_smaller", "text_usual")),
    *(None, "manual", "verify", "quit"),
)


class Header(QWidget):
    """What the window's job is called and what can be done with it.

    Parameters
    ----------
    actions : dict
        What can be done, by name.
    finder : QWidget
        The field in which anything is found.
    make, deliver : callable
        Open the sheets of what can be made, and sent out.
    check : callable
        Fills the menu of what can be checked.
    recent : callable
        Fills a menu with the jobs that were open lately.
    """

    def __init__(
        self,
        actions: dict[str, QAction],
        finder: QWidget,
        *,
        make: Callable[[], object],
        check: Callable[[QMenu], None],
        deliver: Callable[[], object],
        recent: Callable[[QMenu], None],
    ) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 6, 14, 6)

        def fill_job_menu(menu: QMenu) -> None:
            for key in JOB_MENU:
                if key is None:
                    menu.addSeparator()
                elif isinstance(key, tuple):
                    submenu(menu, key[0]).addActions([actions[each] for each in key[1]])
                elif key == "recent":
                    own = menu.addMenu("Open recent")
                    assert own is not None
                    recent(own)
                else:
                    menu.addAction(actions[key])

        self.job = menu_button("", fill_job_menu)
        self.restyle()
        row.addWidget(self.job)
        row.addSpacing(12)
        row.addWidget(flat_button("Import", actions["import"].trigger))
        self.make, self.deliver = flat_button("Make", make), flat_button("Deliver", deliver)
        self.check = menu_button("Check", check)
        finder.setProperty("manual", "keys")
        self.check.setProperty("manual", "checking")
        self.deliver.setProperty("manual", "delivering")
        for own in (self.make, self.check, self.deliver):
            row.addWidget(own)
        row.addStretch()
        for key, sign in (("undo", "↶"), ("redo", "↷")):
            button = flat_button(sign)
            button.setDefaultAction(actions[key])
            button.setText(sign)
            button.setAccessibleName(key)
            actions[key].setIconText(sign)
            row.addWidget(button)
        row.addWidget(finder)
        row.addSpacing(8)
        self.units = QLabel()
        self.units.setObjectName("quiet")
        self.units.setToolTip(UNITS_TIP)
        row.addWidget(self.units)

    def restyle(self) -> None:
        """Give text its size."""
        # Of the button alone: its menu is a child and would inherit it.
        self.job.setStyleSheet(f"QToolButton {{ font-size: {theme.points(12)}; font-weight: 600; }}")

    def show_job(self, session: Session) -> None:
        """Show the job's name, units and reference system."""
        self.job.setText(session.name + "  ▾")
        text = session.units_text()
        room = self.units.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, ROOM_FOR_UNITS)
        self.units.setText(room)
        self.units.setToolTip(f"{text}\n{UNITS_TIP}" if room != text else UNITS_TIP)
