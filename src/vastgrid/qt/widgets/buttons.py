"""The flat buttons of the window's rows, with and without a menu."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QAction, QIcon
from PyQt6.QtWidgets import QMenu, QToolButton


def flat_button(text: str, run: Callable[[], Any] | None = None, tip: str = "") -> QToolButton:
    """Return a button without a frame that the tab key reaches; `tip` is also what a screen reader says."""
    button = QToolButton()
    button.setText(text)
    button.setProperty("flat", "true")
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    if tip:
        button.setToolTip(tip)
        button.setAccessibleName(tip)
    if run is not None:
        button.clicked.connect(lambda _=False: run())
    return button


def menu_button(text: str, fill: Callable[[QMenu], Any], tip: str = "") -> QToolButton:
    """Return a flat button with a menu, which `fill` fills each time before it opens."""
    button = flat_button(text, tip=tip)
    button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    menu = QMenu(button)

    def refill() -> None:
        menu.clear()
        fill(menu)

    menu.aboutToShow.connect(refill)
    button.setMenu(menu)
    return button


def offering(actions: Sequence[QAction]) -> Callable[[QMenu], None]:
    """Return what fills a menu with actions."""

    def fill(menu: QMenu) -> None:
        menu.addActions(actions)

    return fill


def heading(menu: QMenu, text: str) -> None:
    """Add a word above the entries that follow."""
    if menu.actions():
        menu.addSeparator()
    action = menu.addAction(text)
    assert action is not None
    font = action.font()
    font.setBold(True)
    action.setFont(font)
    action.setEnabled(False)


def submenu(menu: QMenu, text: str) -> QMenu:
    """Add a menu of its own below what is there."""
    own = menu.addMenu(text)
    assert own is not None
    return own


def entry(menu: QMenu, text: str, run: Callable[[], Any] | None = None, icon: QIcon | None = None) -> None:
    """Add an entry to a menu; without `run` it only says something, such as why the menu offers nothing."""
    action = menu.addAction(icon or QIcon(), text)
    assert action is not None
    if run is None:
        action.setEnabled(False)
    else:
        action.triggered.connect(lambda _=False: run())
