"""The line at the head of the window: the job, what can be done, the finder, units and reference system."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QMenu, QWidget

from vastgrid.qt.buttons import flat_button, menu_button
from vastgrid.session.session import Session

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow

UNITS_TIP = "Unit of plan · unit of heights · coordinate reference system"
# A reference system's name may be longer than the window is wide.
ROOM_FOR_UNITS = 220
JOB_MENU = ("new", "open", "copy", None, "undo", "redo", "remove", None, "fit", "only", "theme", None, "quit")


class Header(QWidget):
    """What the window's job is called and what can be done with it.

    Parameters
    ----------
    window : MainWindow
        Whose actions and menus are offered.
    """

    def __init__(self, window: MainWindow) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 6, 14, 6)

        def fill_job_menu(menu: QMenu) -> None:
            for key in JOB_MENU:
                if key is None:
                    menu.addSeparator()
                else:
                    menu.addAction(window.actions_[key])

        self.job = menu_button("", fill_job_menu)
        # Of the button alone: its menu is a child and would inherit it.
        self.job.setStyleSheet("QToolButton { font-size: 12pt; font-weight: 600; }")
        row.addWidget(self.job)
        row.addSpacing(12)
        row.addWidget(flat_button("Import", window.actions_["import"].trigger))
        self.menus = {
            "make": menu_button("Make", lambda menu: window.making.fill_menu(menu, window.lineage.selection)),
            "check": menu_button("Check", window.checking.fill_menu),
            "deliver": menu_button("Deliver", window.delivering.fill_menu),
        }
        for button in self.menus.values():
            row.addWidget(button)
        row.addStretch()
        for key, sign in (("undo", "↶"), ("redo", "↷")):
            button = flat_button(sign)
            button.setDefaultAction(window.actions_[key])
            button.setText(sign)
            button.setAccessibleName(key)
            window.actions_[key].setIconText(sign)
            row.addWidget(button)
        row.addWidget(window.finder)
        row.addSpacing(8)
        self.units = QLabel()
        self.units.setObjectName("quiet")
        self.units.setToolTip(UNITS_TIP)
        row.addWidget(self.units)

    def show_job(self, session: Session) -> None:
        """Show the job's name, units and reference system."""
        self.job.setText(session.name + "  ▾")
        nodes = session.graph.cards.values()
        words = [unit.value if unit else "?" for unit in session.units()]
        systems = (n.figures["crs"] for n in nodes if n.outcome and n.figures.get("crs"))
        words.append(next(systems, "local grid"))
        text = " · ".join(words) if nodes else "empty job"
        room = self.units.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, ROOM_FOR_UNITS)
        self.units.setText(room)
        self.units.setToolTip(f"{text}\n{UNITS_TIP}" if room != text else UNITS_TIP)
