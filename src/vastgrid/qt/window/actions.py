"""What can be done in the window, by name: the menus, the keys and the finder all take it from here."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QWidget

from vastgrid import catalog
from vastgrid.data.places import Line
from vastgrid.qt.window.choosing import TOOLS as CHOOSING
from vastgrid.qt.window.edit_tools import edit_tools
from vastgrid.qt.window.offers import drawn_field, drawn_kind
from vastgrid.qt.window.parts import Parts
from vastgrid.qt.window.picking import TOOLS


def add_actions(window: QWidget, parts: Parts, own: dict[str, Callable[[], Any]]) -> dict[str, QAction]:
    """Give a window its actions; they are returned by their keys.

    Parameters
    ----------
    own : dict
        What the window itself does: the theme, the finder, going to the lineage, closing.
    """
    actions: dict[str, QAction] = {}

    def add(key: str, text: str, run: Callable[[], Any], shortcut: str = "") -> QAction:
        action = QAction(text, window)
        action.triggered.connect(lambda _=False: parts.desk.guarded(run))
        if shortcut:
            action.setShortcut(QKeySequence(shortcut))
        window.addAction(action)
        actions[key] = action
        return action

    add("import", "Import files …", parts.importing.choose, "Ctrl+I")
    add("deliver", "Deliver …", lambda: parts.delivering.deliver(""), "Ctrl+D")
    add("undo", "Undo", parts.making.take_back, "Ctrl+Z")
    add("redo", "Redo", parts.making.do_again, "Ctrl+Shift+Z")
    add("remove", "Remove the chosen cards", parts.desk.remove_chosen)
    add("remake", "Make everything again that is out of date", parts.making.remake_all, "F5")
    add("compare", "Compare the two chosen surfaces", parts.checking.compare_chosen)
    add("findings", "Read all findings", parts.checking.show_findings)
    add("fit", "Show everything", lambda: parts.views.fit(), "Ctrl+0")
    add("go", "Go to coordinates …", parts.ask_place, "Ctrl+G")
    add("north", "Turn until north is up", lambda: parts.views.turn_north())
    add("section", "Draw a section", lambda: parts.views.sectioning.draw(), "Ctrl+L")
    add("section_along", "Section along a line that is shown", lambda: parts.views.sectioning.pick())
    add("section_end", "Close the section", lambda: parts.views.sectioning.close_section())
    add("measure", "Measure from place to place", lambda: parts.measuring.distance(), "Ctrl+M")
    add("measure_area", "Measure an area", lambda: parts.measuring.area())
    add("forms", "Compare output formats …", lambda: parts.offers.which_form().open())
    add("interval", "Check the interval of contours …", lambda: parts.interval.ask())
    add("swipe", "Compare side by side with a slider", lambda: parts.views.compare(blink=False))
    add("blink", "Compare by switching", lambda: parts.views.compare(blink=True))
    add("compare_end", "End comparing", lambda: parts.views.end_compare())
    add("picture", "Picture of any size (PNG) …", lambda: parts.picturing.ask_picture())
    add("sheet", "Plan to scale (PDF or SVG) …", lambda: parts.picturing.ask_sheet())
    snap = add(
        "snap", "Catch vertices, lines and edges", lambda: parts.views.plan.set_snapping(snap.isChecked()), "Ctrl+J"
    )
    snap.setCheckable(True)
    snap.setChecked(True)
    for key, text in (("plan", "Show the plan"), ("3D", "Show the 3D view"), ("both", "Show plan and 3D view")):
        add(
            f"view_{key}",
            text,
            partial(lambda which: parts.views.show_views(which), key),
            {"plan": "F2", "3D": "F3", "both": "F4"}[key],
        )
    add("only", "Show only the chosen cards", parts.desk.isolate)
    add("new", "New job …", parts.new_job, "Ctrl+N")
    add("open", "Open a job …", parts.open_job, "Ctrl+O")
    add("copy", "Save a copy of the job …", parts.save_copy, "Ctrl+Shift+S")
    add("recipe", "Keep the steps as a recipe …", parts.repeating.ask_keep)
    add("run_recipe", "Run a recipe on files …", parts.repeating.ask_run, "Ctrl+R")
    add("keep_copy", "Keep a copy of the chosen card as it is", parts.repeating.keep_copy)
    add("room", "Free disk space …", parts.repeating.ask_room)
    add("theme", "Change between light and dark", own["theme"], "Ctrl+T")
    add("text_larger", "Larger text", lambda: parts.at_home.change_text(1), "Ctrl++")
    add("text_smaller", "Smaller text", lambda: parts.at_home.change_text(-1), "Ctrl+-")
    add("text_usual", "Text of normal size", lambda: parts.at_home.change_text(0))
    # The key itself is watched everywhere, dialogs included.
    add("manual", "Manual (F1)", lambda: parts.at_home.show_manual())
    add("verify", "Verify this program …", parts.checking.verify)
    add("large", "Work on a large folder …", parts.tiling.ask)
    add("find", "Find an action or write a sentence", own["find"], "Ctrl+K")
    for each in catalog.CONVERSIONS:
        if drawn_field(each):
            add(
                f"draw_{each.id}",
                f"{each.title} along a drawn line …"
                if drawn_kind(each) is Line
                else f"{each.title} over a drawn area …",
                partial(lambda name: parts.offers.draw(name), each.id),
            )
    add("quit", "Quit", own["quit"], "Ctrl+Q")
    for key, kind, hand in edit_tools():
        add(
            key,
            f"Edit surface: {hand.text}",
            partial(lambda own: parts.edit_tools.take_up(own), key),
            "Ctrl+E" if kind.word == "set" else "",
        )
        actions[key].setToolTip(hand.tip)
        actions[key].setIconText(hand.text)
        actions[key].setCheckable(True)
        actions[key].setProperty("group", hand.group)
    for key, text, tip in TOOLS:
        add(key, f"Points: {text}", partial(lambda own: parts.picking.run(own), key))
        actions[key].setToolTip(tip)
        actions[key].setIconText(text)
    for key, text, tip in CHOOSING:
        add(key, f"Areas: {text}", partial(lambda own: parts.choosing.run(own), key))
        actions[key].setToolTip(tip)
        actions[key].setIconText(text)
    add("label_move", "Move a contour label", lambda: parts.moving_labels.take_up())
    actions["label_move"].setIconText("move label")
    actions["label_move"].setToolTip("Click a label, then where it should stand on its contour")
    add("keep_rim", "Keep the outline as the outer boundary", parts.keep_rim)
    actions["keep_rim"].setIconText("keep outline")
    add("plan", "Go to the plan", lambda: parts.views.plan.setFocus(), "F6")
    add("lineage", "Go to the lineage", own["lineage"], "F7")
    add("lineage_all", "Lineage over the whole window, in one row, or as needed", own["lineage_all"], "Shift+F7")
    add("zoom_out", "Zoom the lineage out", own["zoom_out"], "Ctrl+Alt+-")
    add("zoom_in", "Zoom the lineage in", own["zoom_in"], "Ctrl+Alt++")
    add("fold", "Fold or unfold what follows the chosen card", own["fold"], "Ctrl+B")
    add("panel", "Fold or show the panel", own["panel"], "F8")
    return actions
