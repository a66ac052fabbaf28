"""What can be done in the window, by name: the menus, the keys and the finder all take it from here."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from PyQt6.QtGui import QAction, QKeySequence

from vastgrid import catalog
from vastgrid.qt.making import drawn_field

if TYPE_CHECKING:
    from vastgrid.qt.main_window import MainWindow


def add_actions(window: MainWindow) -> dict[str, QAction]:
    """Give the window its actions; they are returned by their keys."""
    actions: dict[str, QAction] = {}

    def add(key: str, text: str, run: Callable[[], Any], shortcut: str = "") -> QAction:
        action = QAction(text, window)
        action.triggered.connect(lambda _=False: window.guarded(run))
        if shortcut:
            action.setShortcut(QKeySequence(shortcut))
        window.addAction(action)
        actions[key] = action
        return action

    add("import", "Import files …", window.importing.choose, "Ctrl+I")
    add("deliver", "Deliver …", lambda: window.delivering.deliver(""), "Ctrl+D")
    add("undo", "Undo", window.undo, "Ctrl+Z")
    add("redo", "Redo", window.redo, "Ctrl+Shift+Z")
    add("remove", "Remove the chosen cards", window.remove_chosen)
    add("remake", "Make everything again that is out of date", window.making.remake_all, "F5")
    add("compare", "Compare the two chosen surfaces", window.checking.compare_chosen)
    add("findings", "Read all findings", window.inspecting.show)
    add("fit", "Show everything", lambda: window.views.fit(), "Ctrl+0")
    add("go", "Go to coordinates …", lambda: window.views.ask_place(), "Ctrl+G")
    add("north", "Turn until north is up", lambda: window.views.turn_north())
    add("section", "Draw a section", lambda: window.sectioning.draw(), "Ctrl+L")
    add("section_along", "Section along a line that is shown", lambda: window.sectioning.pick())
    add("section_end", "Close the section", lambda: window.sectioning.close_section())
    add("measure", "Measure from place to place", lambda: window.measuring.distance(), "Ctrl+M")
    add("measure_area", "Measure an area", lambda: window.measuring.area())
    add("interval", "Check the interval of contours …", lambda: window.measuring.check_interval())
    add("swipe", "Two chosen cards, with a divider", lambda: window.views.compare(blink=False))
    add("blink", "Two chosen cards in turn", lambda: window.views.compare(blink=True))
    add("compare_end", "End comparing", lambda: window.views.end_compare())
    add("picture", "Picture of any size (PNG) …", lambda: window.picturing.ask_picture())
    add("sheet", "Plan to scale (PDF or SVG) …", lambda: window.picturing.ask_sheet())
    snap = add("snap", "Catch vertices, lines and edges", lambda: window.plan.set_snapping(snap.isChecked()), "Ctrl+J")
    snap.setCheckable(True)
    snap.setChecked(True)
    for key, text in (("plan", "Show the plan"), ("3D", "Show the 3D view"), ("both", "Show plan and 3D view")):
        add(
            f"view_{key}",
            text,
            partial(lambda which: window.views.show_views(which), key),
            {"plan": "F2", "3D": "F3", "both": "F4"}[key],
        )
    add("only", "Show only the chosen cards", window.isolate)
    add("new", "New job …", window.new_job, "Ctrl+N")
    add("open", "Open a job …", window.open_job, "Ctrl+O")
    add("copy", "Save a copy of the job …", window.save_copy, "Ctrl+Shift+S")
    add("theme", "Change between light and dark", window.toggle_theme, "Ctrl+T")
    add("find", "Find an action or write a sentence", window.finder.begin, "Ctrl+K")
    for each in catalog.CONVERSIONS:
        if drawn_field(each):
            add(f"draw_{each.id}", f"{each.title} over a drawn area …", partial(window.making.draw, each.id))
    add("quit", "Quit", window.close, "Ctrl+Q")
    for key, text, widget in (
        ("plan", "Go to the plan", window.plan),
        ("lineage", "Go to the lineage", window.lineage),
    ):
        add(key, text, widget.setFocus, "F6" if key == "plan" else "F7")
    return actions
