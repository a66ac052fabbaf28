"""A vertex set by hand in the plan: asked with its place, made, shown, taken back and done again, edit by edit."""

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QDialog, QLabel

from hands import named, on_page, settle
from vastgrid.lineage.graph import State
from vastgrid.qt.dialogs.height_dialog import HeightDialog


def vertex(window, number):
    return window.session.dataset(named(window, "Ground")).vertices[number]


def press(qtbot, window, place, text):
    """Click a vertex and give it a height."""
    window.actions_["hand_set_height"].trigger()
    at = QPointF(*window.plan.view.pixel(place[0] + 0.2, place[1] - 0.1)).toPoint()
    qtbot.mouseClick(window.plan, Qt.MouseButton.LeftButton, pos=at)
    qtbot.waitUntil(lambda: bool(window.findChildren(HeightDialog)), timeout=5000)
    dialog = window.findChildren(HeightDialog)[-1]
    dialog.height_.setText(text)
    said = dialog.note.text()
    dialog.done(QDialog.DialogCode.Accepted)
    settle(qtbot, window)
    return said


def test_a_vertex_is_set_and_everything_can_be_taken_back(qtbot, window):
    ground = named(window, "Ground")
    window.lineage.select([ground])
    first, second = (np.array(vertex(window, k)) for k in (200, 400))
    window.plan.go_to(*first[:2])
    settle(qtbot, window)
    assert press(qtbot, window, first, f"{first[2] + 1.5:.3f}").startswith("Raises it by 1.500 m")
    edited = named(window, "Ground, by hand")
    assert window.desk.selection == [edited]
    own = window.session.dataset(edited).vertices
    at = np.hypot(*(own[:, :2] - first[:2]).T).argmin()
    assert own[at, 2] == np.round(first[2] + 1.5, 3)
    window.plan.go_to(*second[:2])
    settle(qtbot, window)
    press(qtbot, window, second, "199.5")
    assert len(window.session.editing.entries(edited)) == 2 and window.desk.selection == [edited]
    text = " ".join(each.text() for each in on_page(window.panel, type(window.panel.sentence)))
    assert "2&nbsp;edits" in text and " set to " in text
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert len(window.session.editing.entries(edited)) == 1
    assert window.session.graph.state(edited) is State.MADE, "made again without being asked"
    assert window.actions_["redo"].isEnabled()
    window.actions_["redo"].trigger()
    settle(qtbot, window)
    assert len(window.session.editing.entries(edited)) == 2
    window.actions_["undo"].trigger()
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert edited not in window.session.graph and ground in window.session.graph


def test_a_height_that_is_none_cannot_be_set(qtbot, window):
    dialog = HeightDialog(window, "Vertex at E 1.000, N 2.000", 231.4, " m")
    qtbot.addWidget(dialog)
    dialog.height_.setText("high")
    assert not dialog.set_.isEnabled() and "is not a length" in dialog.note.text()
    dialog.height_.setText("760 ft")
    assert dialog.set_.isEnabled() and dialog.length().unit.value == "ft"


def test_something_else_than_a_tin_is_refused(qtbot, window, monkeypatch):
    told = []
    monkeypatch.setattr(window.desk, "tell", told.append)
    window.lineage.select([named(window, "Contours")])
    window.actions_["hand_set_height"].trigger()
    assert "choose one TIN first" in told[0]


def test_roles_are_seen_and_exchanged(qtbot, window):
    """Old and new stand beside the sources and on the curves; a press lets one be the other."""
    ground, grid = named(window, "Ground"), named(window, "Grid")
    window.lineage.select([ground, grid])
    window.actions_["compare"].trigger()
    settle(qtbot, window)
    (card,) = window.desk.selection
    before = window.session.graph[card].outcome.loss.mean
    assert window.lineage._role_word(ground, card) == "old" and window.lineage._role_word(grid, card) == "new"
    part = window.panel.sources
    assert part is not None and "Ground (old)" in " ".join(each.text() for each in part.findChildren(QLabel))
    press_entry(part.menus[ground], "Use as new")
    settle(qtbot, window)
    assert [(use.card, use.role) for use in window.session.graph.node(card).uses] == [(grid, "old"), (ground, "new")]
    assert np.sign(window.session.graph[card].outcome.loss.mean) == -np.sign(before)
    assert window.session.graph[card].name == "Ground above Grid", "the name follows"


def test_what_is_settled_is_pinned_and_given_back(qtbot, window):
    lines = named(window, "Contours")
    window.lineage.select([lines])
    html = window.panel.sentence.text()
    assert html.count("font-style:italic") == 3, "base, index and smoothing were not asked for"
    window.panel.edit_field("index")
    editor = window.panel.field_editor
    assert not editor.open.isVisible() and editor.button.isEnabled()
    editor._accept()
    settle(qtbot, window)
    assert window.session.graph[lines].words["index"] == "5", "pinned as it stood"
    window.panel.edit_field("index")
    editor = window.panel.field_editor
    assert editor.open.isVisible()
    editor.open.click()
    settle(qtbot, window)
    assert "index" not in window.session.graph[lines].words


def press_entry(menu, text):
    next(each for each in menu.actions() if each.text() == text).trigger()
