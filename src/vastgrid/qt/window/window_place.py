"""Where a window stands: inside what the screen leaves, and where it stood the last time."""

from __future__ import annotations

from PyQt6.QtCore import QRect
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QWidget

from vastgrid.qt.widgets.section import settings

USUAL = (1280, 800)
# A title bar and frame as most desktops draw them; the system tells the true ones only once the window is there.
TITLE, FRAME = 38, 4


def fitting(wanted: QRect, room: QRect) -> QRect:
    """Return the place nearest to a wanted one at which a window with its title bar lies inside a screen's room."""
    width = min(wanted.width(), room.width() - 2 * FRAME)
    height = min(wanted.height(), room.height() - TITLE - FRAME)
    left = min(max(wanted.left(), room.left() + FRAME), room.left() + room.width() - FRAME - width)
    top = min(max(wanted.top(), room.top() + TITLE), room.top() + room.height() - FRAME - height)
    return QRect(left, top, width, height)


def place_window(window: QWidget) -> None:
    """Put a window where it stood the last time, or in the middle, inside the screen."""
    screen = QGuiApplication.primaryScreen()
    kept = settings().value("place")
    wanted = kept if isinstance(kept, QRect) and kept.isValid() else None
    if wanted is not None:
        screen = QGuiApplication.screenAt(wanted.center()) or screen
    if screen is None:
        window.resize(*USUAL)
        return
    room = screen.availableGeometry()
    if wanted is None:
        wanted = QRect(0, 0, *USUAL)
        wanted.moveCenter(room.center())
    window.setGeometry(fitting(wanted, room))


def remember_window(window: QWidget) -> None:
    """Keep where a window stands."""
    if not window.isMinimized() and not window.isMaximized() and not window.isFullScreen():
        settings().setValue("place", window.geometry())
