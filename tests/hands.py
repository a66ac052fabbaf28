"""What tests of the window do with their hands and eyes."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage, QWheelEvent
from PyQt6.QtWidgets import QApplication, QWidget


def settle(qtbot, window):
    qtbot.waitUntil(
        lambda: window.views.settled() and not window.desk.runner.busy and not window.parts.inspecting.busy,
        timeout=60_000,
    )
    qtbot.wait(30)


def named(window, name):
    return next(n.id for n in window.session.graph.cards.values() if n.name == name)


def surface(window):
    return window.session.dataset(named(window, "Ground"))


def click(qtbot, view, east, north):
    qtbot.mouseClick(view, Qt.MouseButton.LeftButton, pos=QPointF(*view.view.pixel(east, north)).toPoint())


def pixels(image):
    own = image.convertToFormat(QImage.Format.Format_RGB32)
    data = own.constBits().asarray(own.sizeInBytes())
    return np.frombuffer(data, np.uint8).reshape(own.height(), own.width(), 4)[:, :, 2::-1].astype(int)


def wheel(view, at, steps, modifiers=Qt.KeyboardModifier.NoModifier):
    """Turn the wheel over a pixel."""
    event = QWheelEvent(
        at, QPointF(view.mapToGlobal(at.toPoint())), QPoint(), QPoint(0, 120 * steps), Qt.MouseButton.NoButton,
        modifiers, Qt.ScrollPhase.NoScrollPhase, False,
    )  # fmt: skip
    QApplication.sendEvent(view, event)


def looked(qtbot, window):
    """Wait until nothing is made or looked at any more."""
    qtbot.waitUntil(
        lambda: (
            not window.desk.runner.busy
            and not window.parts.inspecting.busy
            and not window.session.inspection.due(window.session.graph)
        ),
        timeout=90_000,
    )
    qtbot.wait(50)


def on_page(panel, kind):
    """Return the widgets of a kind on the pages that a panel shows now; those of the last page may not be gone yet."""
    return [each for page in panel.findChildren(QWidget, "panelBody") for each in page.findChildren(kind)]


def makeable(window):
    """Return what Make offers from the chosen cards, by its title; what cannot be made is not among it."""
    return {each.title: each for each in reversed(window.parts.offers.choices(window.actions_)) if each.run is not None}


def entries(menu):
    """Return what a menu offers by its text, entries of menus below it as well; headings say only where things are."""
    found = {}
    for action in menu.actions():
        if action.menu() is not None:
            found |= entries(action.menu())
        elif action.isEnabled() and not action.isSeparator():
            found[action.text()] = action
    return found
