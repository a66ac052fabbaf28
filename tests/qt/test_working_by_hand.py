"""Hands in the plan, the log in the panel, limits dragged, tolerances in a table, findings cured: the real window."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QDialog, QFileDialog

from hands import click, named, settle
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Remedy
from vastgrid.data.tin import Tin
from vastgrid.lineage.graph import State
from vastgrid.qt.dialogs.height_dialog import HeightDialog
from vastgrid.qt.dialogs.tries_dialog import TriesDialog
from vastgrid.terrain.editing.logs import OFF


def middle(window, name="Ground"):
    """A place in the middle of the surface, with the plan close to it."""
    tin = window.session.dataset(named(window, name))
    place = tin.vertices[:, :2].mean(axis=0)
    vertex = tin.vertices[int(np.hypot(*(tin.vertices[:, :2] - place).T).argmin())]
    window.lineage.select([named(window, name)])
    window.plan.go_to(*vertex[:2])
    return tin, vertex


def over(qtbot, window, east, north):
    """Move the pointer to a place and wait for what the hand shows there."""
    at = QPointF(*window.plan.view.pixel(east, north)).toPoint()
    qtbot.mouseMove(window.plan, at)
    qtbot.wait(10)
    edit_tools = window.parts.edit_tools
    qtbot.waitUntil(lambda: edit_tools.ghost is not None or bool(edit_tools.why), timeout=10_000)


def test_a_cut_is_shown_before_it_is_made_and_taken_back(qtbot, window):
    tin, vertex = middle(window)
    settle(qtbot, window)
    button = window.views.buttons["edit_triangles"]
    assert window.views.hands_row.isVisible() and button.text() == "Triangles ▾"
    button.menu().aboutToShow.emit()
    assert [action.iconText() for action in button.menu().actions()][:2] == ["delete triangles", "delete inside"]
    button.menu().actions()[0].trigger()
    assert button.text() == "Triangles: delete triangles ▾" and button.isChecked()
    click(qtbot, window.plan, vertex[0] - 3.0, vertex[1] - 2.0)
    over(qtbot, window, vertex[0] + 6.0, vertex[1] + 4.0)
    ghost = window.parts.edit_tools.ghost
    assert len(ghost.gone) > 0 and ghost.taken > 0.0 and len(ghost.new) == 0
    assert window.parts.edit_tools._amount(ghost).endswith("m²")
    assert "Ground, by hand" not in [each.name for each in window.session.graph.cards.values()], "only shown so far"
    click(qtbot, window.plan, vertex[0] + 6.0, vertex[1] + 4.0)
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    settle(qtbot, window)
    card = named(window, "Ground, by hand")
    assert len(window.session.dataset(card).triangles) < len(tin.triangles)
    assert not window.session.graph[named(window, "Ground")].shown, "what was cut does not lie beneath"
    assert window.parts.edit_tools.held == "hand_delete_triangles", "the hand stays taken up, on what it made"
    qtbot.keyClick(window.plan, Qt.Key.Key_Escape)
    assert window.parts.edit_tools.held == "" and window.plan.tool is None
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert card not in window.session.graph


def test_what_is_done_is_seen_at_once_and_before_it_is_in_the_surface(qtbot, window):
    _, vertex = middle(window)
    settle(qtbot, window)
    window.actions_["hand_delete_triangles"].trigger()
    edit_tools = window.parts.edit_tools
    click(qtbot, window.plan, vertex[0] - 3.0, vertex[1] - 2.0)
    click(qtbot, window.plan, vertex[0] + 6.0, vertex[1] + 4.0)
    before = window.plan.grab().toImage()
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    assert window.desk.runner.busy and len(edit_tools._done.found.gone) > 0, "the surface is still being made"
    at = QPointF(*window.plan.view.pixel(*edit_tools._done.found.gone[0][:, :2].mean(axis=0))).toPoint()
    paper = window.plan.palette_.colour("paper").rgb()
    assert before.pixel(at) != paper and window.plan.grab().toImage().pixel(at) == paper
    settle(qtbot, window)
    window.plan.repaint()
    assert edit_tools._done is None and edit_tools._waiting == []


def test_an_area_is_raised_by_what_is_typed_and_the_ghost_follows_the_number(qtbot, window):
    tin, vertex = middle(window)
    settle(qtbot, window)
    window.actions_["hand_raise"].trigger()
    for dx, dy in ((-30, -30), (30, -30), (0, 30)):
        click(qtbot, window.plan, vertex[0] + dx, vertex[1] + dy)
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: bool(window.findChildren(HeightDialog)), timeout=5000)
    dialog = window.findChildren(HeightDialog)[-1]
    dialog.height_.setText("1.5 m")
    qtbot.waitUntil(
        lambda: window.parts.edit_tools.ghost is not None or bool(window.parts.edit_tools.why), timeout=10_000
    )
    assert window.parts.edit_tools.why == ""
    assert len(window.parts.edit_tools.ghost.new) > 0
    dialog.done(QDialog.DialogCode.Accepted)
    settle(qtbot, window)
    made = window.session.dataset(named(window, "Ground, by hand"))
    raised = made.vertices[:, 2] - tin.vertices[:, 2]
    assert raised.max() == pytest.approx(1.5) and (raised == 0.0).any()


def test_swap_remove_and_move_mean_what_lies_nearest(qtbot, window):
    _, vertex = middle(window)
    settle(qtbot, window)
    for key, places in (
        ("hand_remove", [(vertex[0] + 0.1, vertex[1] - 0.1)]),
        ("hand_add", None),
        ("hand_swap", [(vertex[0] + 20.0, vertex[1] + 20.0)]),
    ):
        if places is None:
            continue
        window.actions_[key].trigger()
        click(qtbot, window.plan, *places[0])
        settle(qtbot, window)
        qtbot.keyClick(window.plan, Qt.Key.Key_Escape)
        settle(qtbot, window)
    lines = window.session.editing.entries(named(window, "Ground, by hand"))
    assert lines[0] == f"remove {float(vertex[0])!r},{float(vertex[1])!r}" and lines[1].startswith("swap ")


def test_a_hand_without_a_surface_is_refused_in_words(qtbot, window):
    window.lineage.select([named(window, "Contours")])
    assert not window.views.hands_row.isVisible()
    with pytest.raises(CallError, match="choose one TIN first"):
        window.parts.edit_tools.take_up("hand_delete_triangles")


def test_the_log_is_switched_reordered_saved_and_loaded(qtbot, window, tmp_path, monkeypatch):
    _, vertex = middle(window)
    east, north = float(vertex[0]), float(vertex[1])
    making = window.parts.making
    making.edit(named(window, "Ground"), f"set {east!r},{north!r} 240.0")
    settle(qtbot, window)
    card = named(window, "Ground, by hand")
    making.edit(card, f"set {east!r},{north!r} 250.0")
    settle(qtbot, window)

    def height():
        own = window.session.dataset(card).vertices
        return own[np.hypot(*(own[:, :2] - vertex[:2]).T).argmin(), 2]

    assert height() == 250.0 and window.panel.edits is not None
    window.panel.edits.boxes[2].setChecked(False)
    settle(qtbot, window)
    assert height() == 240.0 and window.session.editing.entries(card)[1].startswith(OFF)
    window.panel.edits.boxes[2].setChecked(True)
    settle(qtbot, window)
    window.panel.edits.buttons["▾", 2].click()
    settle(qtbot, window)
    assert height() == 240.0, "the other one is the last now"
    path = tmp_path / "edits.txt"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(path), ""))
    window.panel.edits.save_wanted.emit()
    assert path.read_text().splitlines() == window.session.editing.entries(card)
    window.panel.edits.buttons["✕", 1].click()
    settle(qtbot, window)
    assert len(window.session.editing.entries(card)) == 1
    path.write_text(f"# by hand\nset {east},{north} 260\nset 1,2 3\n")
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(path), ""))
    window.panel.edits.load_wanted.emit()
    settle(qtbot, window)
    assert height() == 260.0 and "does not apply" in " ".join(
        each.text() for each in window.panel.edits.findChildren(type(window.panel.sentence))
    )
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert len(window.session.editing.entries(card)) == 1, "loading a log is taken back too"


def test_a_limit_is_seen_while_it_is_dragged(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    window.panel.edit_field("max_edge")
    editor = window.panel.field_editor
    assert editor.slider is not None
    editor.slider.setValue(20)
    qtbot.waitUntil(lambda: isinstance(window.plan.preview, Tin), timeout=20_000)
    assert "go, " in window.plan.preview.name and len(window.plan.preview.triangles) > 0
    qtbot.wait(100)
    editor.hide()
    qtbot.waitUntil(lambda: window.plan.preview is None, timeout=5000)


def test_a_table_stands_before_the_decision(qtbot, window):
    window.parts.making.make("simplify", [named(window, "Grid")], {})
    dialog = window.findChildren(TriesDialog)[-1]
    qtbot.waitUntil(lambda: all(each.dataset is not None for each in dialog.tries), timeout=30_000)
    numbers = [len(each.dataset.triangles) for each in dialog.tries]
    assert numbers == sorted(numbers, reverse=True) and len(numbers) == 5
    errors = [each.loss.largest for each in dialog.tries]
    assert errors == sorted(errors)
    dialog.table.selectRow(3)
    assert window.plan.preview is dialog.tries[3].dataset
    words = dialog.tries[3].words["tolerance"]
    dialog._accept()
    settle(qtbot, window)
    card = window.desk.selection[0]
    assert window.session.graph[card].words == {"tolerance": words} and window.plan.preview is None
    assert len(window.session.dataset(card).triangles) == numbers[3]


def test_the_rim_is_kept_in_one_press(qtbot, window):
    ground = named(window, "Ground")
    window.lineage.select([ground])
    window.parts.making.change_field(ground, "max_edge", "25m")
    settle(qtbot, window)
    window.actions_["keep_rim"].trigger()
    settle(qtbot, window)
    assert "area" in window.session.graph[ground].words and window.session.graph.state(ground) is State.MADE
    before = len(window.session.dataset(ground).triangles)
    window.parts.making.change_fields(ground, {"max_edge": None})
    settle(qtbot, window)
    assert abs(len(window.session.dataset(ground).triangles) - before) < 0.1 * before, "what went stays away"


def test_a_spike_is_deleted_in_one_press(qtbot, window):
    ground = named(window, "Ground")
    _, vertex = middle(window)
    line = f"remove {float(vertex[0])!r},{float(vertex[1])!r}"
    remedy = Remedy("edit", "Delete the vertex", {"entry": line})
    inspecting = window.parts.inspecting
    assert inspecting.can_mend(ground, remedy) and not inspecting.can_mend(named(window, "Contours"), remedy)
    inspecting.mend(ground, remedy)
    settle(qtbot, window)
    assert window.session.editing.entries(named(window, "Ground, by hand")) == [line]
