"""Looks at everything that a window shows, and says what a person would stumble over.

Rules: siblings do not overlap; no text is cut without a tool tip that has it; nothing lies outside its window; what can be
pressed is reached by Tab and has a name; text has a contrast of 4.5 to 1 (WCAG 2.1, success criterion 1.4.3).
"""

import re
from collections import Counter

from PyQt6 import sip
from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QTextDocument
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractScrollArea,
    QAbstractSlider,
    QAbstractSpinBox,
    QApplication,
    QCheckBox,
    QComboBox,
    QDialogButtonBox,
    QGraphicsView,
    QHeaderView,
    QLabel,
    QLineEdit,
    QListWidget,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QRadioButton,
    QScrollArea,
    QScrollBar,
    QSizeGrip,
    QSplitterHandle,
    QTabBar,
    QTextEdit,
    QToolButton,
    QTreeWidget,
    QWidget,
)

CONTROLS = (
    QAbstractButton, QLineEdit, QComboBox, QAbstractItemView, QAbstractSlider, QAbstractSpinBox, QPlainTextEdit, QTextEdit,
)  # fmt: skip
# What the library draws inside these is its own matter.
_WHOLE = (QComboBox, QAbstractSpinBox, QAbstractItemView, QScrollBar, QLineEdit, QHeaderView, QTabBar, QGraphicsView)
# The system's own windows are not ours to lay out.
_SYSTEMS = ("QFileDialog", "QColorDialog", "QInputDialog")


def seen(widget):
    """Give every widget that is seen of a window, the window first; not what stands inside ready-made controls."""
    yield widget
    if isinstance(widget, _WHOLE):
        return
    for child in widget.children():
        if isinstance(child, QWidget) and child.isVisible() and not child.isWindow():
            yield from seen(child)


def named(widget):
    """Return how a widget is told from others in a fault."""
    words = getattr(widget, "text", lambda: "")()
    words = words if isinstance(words, str) else ""
    return f"{type(widget).__name__} “{(widget.accessibleName() or plain(words) or widget.objectName())[:60]}”"


def plain(text):
    """Return what is read of a text."""
    if "<" not in text:
        return text
    document = QTextDocument()
    document.setHtml(text)
    return document.toPlainText()


def faults(window):
    """Return all that is wrong with what a window shows now."""
    if type(window).__name__ in _SYSTEMS:
        return []
    found = []
    every = list(seen(window))
    for widget in every:
        found += [*overlaps(widget), *cut(widget), *outside(widget, window), *unnamed(widget), *unreached(widget)]
    return [f"{type(window).__name__}: {each}" for each in found]


# -- the rules


def overlaps(widget):
    """Siblings lie beside each other."""
    if isinstance(widget, (*_WHOLE, QAbstractScrollArea)):
        return []
    children = [
        child
        for child in widget.children()
        if isinstance(child, QWidget)
        and child.isVisible()
        and not child.isWindow()
        and not isinstance(child, QSizeGrip | QSplitterHandle)
        and not child.property("floats")
        and child.width() > 1
        and child.height() > 1
    ]
    return [
        f"{named(one)} and {named(other)} overlap"
        for k, one in enumerate(children)
        for other in children[k + 1 :]
        if one.geometry().intersects(other.geometry())
    ]


def cut(widget):
    """Text that does not fit is in the tool tip."""
    for kinds, look in _LOOKS:
        if isinstance(widget, kinds):
            return look(widget)
    return []


def missing(widget, text, room):
    """Return whether a text needs more room than there is, and the tool tip does not have it."""
    words, tip = plain(text).replace("\u200b", ""), plain(widget.toolTip()).replace("\u200b", "")
    metrics = QFontMetricsF(widget.font())
    wide = max((metrics.horizontalAdvance(line) for line in words.split("\n")), default=0.0)
    return wide > room + 1.5 and words.strip("… ") not in tip


def _cut_label(widget):
    if widget.pixmap() and not widget.pixmap().isNull():
        return []
    if widget.wordWrap():
        need = widget.heightForWidth(widget.width())
        if need > widget.height() + 2 and plain(widget.text()) not in plain(widget.toolTip()):
            return [f"{named(widget)} needs {need} px of height and has {widget.height()}"]
        longest = max((w for w in re.split(r"[\s\u200b/\-–]+", plain(widget.text()))), key=len, default="")
        return [f"{named(widget)}: the word {longest} is cut"] if missing(widget, longest, widget.width()) else []
    if "<" in widget.text():
        short = widget.sizeHint().width() > widget.width() + 2 and not widget.toolTip()
        return [f"{named(widget)} is cut"] if short else []
    return [f"{named(widget)} is cut"] if missing(widget, widget.text(), widget.width()) else []


def _cut_button(widget):
    sign = 20 if isinstance(widget, QCheckBox | QRadioButton) else 4
    return [f"{named(widget)} is cut"] if missing(widget, widget.text(), widget.width() - sign) else []


def _cut_box(widget):
    text = widget.currentText()
    return [f"{named(widget)}: {text} is cut"] if missing(widget, text, widget.width() - 24) else []


def _cut_line(widget):
    text = widget.text() if widget.isReadOnly() else ("" if widget.text() else widget.placeholderText())
    return [f"{named(widget)}: {text} is cut"] if missing(widget, text, widget.width() - 12) else []


def _cut_list(widget):
    if (
        widget.itemDelegate().metaObject().className() != "QStyledItemDelegate"
        or widget.horizontalScrollBar().maximum()
    ):
        return []
    metrics, room = QFontMetricsF(widget.font()), widget.viewport().width()
    items = [each for row in range(widget.count()) if (each := widget.item(row)) is not None and not each.isHidden()]
    return [
        f"{named(widget)}: {each.text()} is cut"
        for each in items
        if not each.toolTip()
        and max((metrics.horizontalAdvance(line) for line in each.text().split("\n")), default=0) + 24 > room + 1
    ]


def _cut_tree(widget):
    found, metrics = [], QFontMetricsF(widget.font())
    for column in range(widget.columnCount()):
        for item in widget.findItems("*", Qt.MatchFlag.MatchWildcard | Qt.MatchFlag.MatchRecursive, column):
            if not widget.visualItemRect(item).isValid() or item.toolTip(column):
                continue
            depth, above = 1, item.parent()
            while above is not None:
                depth, above = depth + 1, above.parent()
            room = widget.columnWidth(column) - (widget.indentation() * depth if column == 0 else 0) - 4
            if metrics.horizontalAdvance(item.text(column)) > room + 1:
                found.append(f"{named(widget)}: {item.text(column)} is cut")
    return found


_LOOKS = (
    (QLabel, _cut_label),
    (QCheckBox | QRadioButton | QPushButton | QToolButton, _cut_button),
    (QComboBox, _cut_box),
    (QLineEdit, _cut_line),
    (QListWidget, _cut_list),
    (QTreeWidget, _cut_tree),
)


def clip_of(widget, window):
    """Return the part of a window in which a widget can be brought into sight, and whether it scrolls there."""
    parent = widget.parentWidget()
    while parent is not None and parent is not window:
        above = parent.parentWidget()
        if isinstance(above, QScrollArea) and above.viewport() is parent:
            return parent, above
        parent = above
    return window, None


def outside(widget, window):
    """Nothing lies outside its window, or beside what can be scrolled to."""
    if widget is window:
        return []
    frame, scroll = clip_of(widget, window)
    place = QRect(widget.mapTo(frame, QPoint(0, 0)), widget.size())
    inside = frame.rect()
    if scroll is not None:
        able_x, able_y = scroll.horizontalScrollBar(), scroll.verticalScrollBar()
        inside = inside.adjusted(
            -able_x.value(), -able_y.value(), able_x.maximum() - able_x.value(), able_y.maximum() - able_y.value()
        )
    if inside.adjusted(-2, -2, 2, 2).contains(place) or widget.property("floats"):
        return []
    return [f"{named(widget)} at {place.getRect()} lies outside {inside.getRect()}"]


def unnamed(widget):
    """What is used has a name for a screen reader; its role is that of its class (`test_screen_reader` hears them)."""
    if not isinstance(widget, CONTROLS) or isinstance(widget, QScrollBar | QDialogButtonBox):
        return []
    if widget.focusPolicy() == Qt.FocusPolicy.NoFocus:
        return []
    # As Qt tells it: a name of its own, the text of a button, or the label that the control is the buddy of.
    name = widget.accessibleName() or (widget.text() if isinstance(widget, QAbstractButton) else "")
    labels = widget.window().findChildren(QLabel)
    if name.strip() or any(each.buddy() is widget and each.text().strip() for each in labels):
        return []
    return [f"{named(widget)} in {named(widget.parentWidget())} has no name"]


def unreached(widget):
    """What is used is reached by Tab."""
    if not isinstance(widget, CONTROLS) or isinstance(widget, QScrollBar) or not widget.isEnabled():
        return []
    if widget.property("floats") or widget.focusProxy() is not None:
        return []
    if isinstance(widget, QListWidget) and widget.property("led"):
        return []
    able = widget.focusPolicy() & Qt.FocusPolicy.TabFocus
    return [] if able else [f"{named(widget)} is not reached by Tab"]


def chain(window):
    """Return what Tab leads to, one after the other."""
    found, now = [], window
    while True:
        now = now.nextInFocusChain()
        if now is None or now is window or now in found:
            return found
        found.append(now)


def lost(window):
    """Return the controls that are seen and that Tab never comes to."""
    reached = {sip.unwrapinstance(widget) for widget in chain(window)}
    return [
        f"Tab never comes to {named(widget)}"
        for widget in seen(window)
        if isinstance(widget, CONTROLS)
        and widget.focusPolicy() & Qt.FocusPolicy.TabFocus
        and sip.unwrapinstance(widget) not in reached
    ]


def pale(window):
    """Return texts that stand out less than 4.5 to 1 from what lies behind them."""
    image = window.grab().toImage()
    scale = image.width() / max(window.width(), 1)
    found = set()
    for widget in seen(window):
        if not isinstance(widget, QLabel | QPushButton | QToolButton | QCheckBox) or not widget.isEnabled():
            continue
        text = plain(widget.text()) if isinstance(widget.text(), str) else ""
        at = widget.mapTo(window, QPoint(2, widget.height() // 2))
        if not text.strip() or not window.rect().contains(at):
            continue
        if isinstance(widget, QLabel) and "<" in widget.text():
            continue
        frame, _ = clip_of(widget, window)
        if not frame.rect().contains(widget.mapTo(frame, QPoint(2, widget.height() // 2))):
            continue
        behind = _ground(image, QRect(widget.mapTo(window, QPoint(0, 0)) * scale, widget.size() * scale))
        if behind is None:
            continue
        ink = widget.palette().color(widget.foregroundRole())
        if contrast(ink, behind) < 4.5:
            found.add(f"{named(widget)}: {ink.name()} on {behind.name()} has {contrast(ink, behind):.1f} : 1")
    return [f"{type(window).__name__}: {each}" for each in sorted(found)]


def _ground(image, place):
    """Return the colour that most of a part of a picture has: what text stands on."""
    place = place.intersected(image.rect())
    rows = range(place.top(), place.bottom() + 1, max(place.height() // 12, 1))
    columns = range(place.left(), place.right() + 1, max(place.width() // 40, 1))
    counted = Counter(image.pixel(x, y) for y in rows for x in columns)
    return QColor(counted.most_common(1)[0][0]) if counted else None


def contrast(one, other):
    """Return the contrast of two colours (WCAG 2.1, definitions of contrast ratio and relative luminance)."""

    def luminance(colour):
        parts = [
            v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4
            for v in (colour.redF(), colour.greenF(), colour.blueF())
        ]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def without_focus_sign(window):
    """Return the kinds of controls that look the same with and without the focus."""
    # There may be no window manager that would do it.
    QApplication.setActiveWindow(window)
    kinds = {}
    for widget in seen(window):
        if isinstance(widget, CONTROLS) and widget.focusPolicy() & Qt.FocusPolicy.TabFocus and widget.isEnabled():
            frame, _ = clip_of(widget, window)
            if frame.rect().contains(widget.mapTo(frame, widget.rect().center())):
                kind = (type(widget).__name__, widget.objectName(), widget.property("flat"), widget.property("main"))
                kinds.setdefault(kind, widget)
    found = []
    for kind, widget in kinds.items():
        other = next((each for each in kinds.values() if each is not widget), None)
        if other is not None:
            other.setFocus(Qt.FocusReason.TabFocusReason)
        before = widget.grab().toImage()
        widget.setFocus(Qt.FocusReason.TabFocusReason)
        if widget.hasFocus() and widget.grab().toImage() == before:
            found.append(f"{type(window).__name__}: no focus is seen on {kind}")
    return found


def tall_menus(window, height):
    """Return the menus of a window that are taller than 70 % of a screen."""
    found = []
    for menu in window.findChildren(QMenu):
        menu.aboutToShow.emit()
        if menu.sizeHint().height() > 0.7 * height:
            found.append(
                f"the menu {menu.title() or [a.text() for a in menu.actions()][:2]} is {menu.sizeHint().height()} px tall"
            )
    return found
