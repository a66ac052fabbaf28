"""Answers and repeating in the real window: volumes and what they look like, check points, recipes, copies, room."""

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import QFileDialog, QMenu, QPushButton

from hands import entries, named, on_page, pixels, settle
from vastgrid.data.dataset import DIFFERENCE
from vastgrid.jobs.dropping import Drop
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import Role, State
from vastgrid.qt.widgets.charts import Columns, Curve, EarthBars
from vastgrid.recipes.recipe import read_recipe


def checks(window):
    menu = QMenu()
    window.parts.checking.fill_menu(menu, window.actions_)
    return entries(menu)


def made(qtbot, window, operation, cards, words=None, roles=()):
    window.parts.making.make(operation, cards, words or {}, roles=roles, asked=True)
    settle(qtbot, window)
    return window.desk.selection[0]


def chart(window, kind, k=0):
    return window.panel.answer.findChildren(kind)[k]


def test_check_offers_what_the_chosen_cards_can_answer(window):
    window.lineage.select([named(window, "Ground"), named(window, "Grid")])
    offered = checks(window)
    assert {"Cut and fill volumes …", "Volumes between several surfaces …"} <= set(offered)
    assert "Cut and fill volumes over a drawn area …" in offered
    window.lineage.select([named(window, "Ground"), named(window, "day2")])
    assert "Check-point accuracy …" in checks(window)
    window.lineage.select([named(window, "Ground")])
    assert {"Stockpile volume over a drawn area …", "Storage volumes by level over a drawn area …"} <= set(
        checks(window)
    )


def test_volumes_are_drawn_and_the_difference_with_one_press(qtbot, window):
    ground, grid = named(window, "Ground"), named(window, "Grid")
    card = made(qtbot, window, "volumes", [ground, grid, named(window, "edges")], {"boundaries": "SITE_LIMIT"})
    bars = chart(window, EarthBars)
    assert bars.rows[0][0] == "SITE_LIMIT"
    own = window.session.graph[card].node.outcome.figures["volumes"]
    assert bars.rows[0][1:] == pytest.approx((own["cut"], own["fill"]))
    methods = chart(window, EarthBars, 1)
    assert len(methods.rows) == 3 and "exact" in methods.rows[0][0]
    assert "cut" in bars.accessibleName(), "whoever cannot see the bars is told them"
    assert isinstance(chart(window, Columns), Columns)
    assert pixels(bars.grab().toImage()).std() > 5.0
    # One card for the answer, not three: the other tables are on its page.
    placed = [window.session.graph[each.node].name for each in window.lineage.cards]
    assert not any("methods" in name for name in placed)
    assert (
        sum(
            window.session.graph[each.node].node.id == window.session.graph[card].node.id
            for each in window.lineage.cards
        )
        == 1
    )
    shown = {c.id for c in window.session.graph.cards.values() if c.shown}
    assert ground in shown
    qtbot.mouseClick(window.panel.answer.map, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: any(c.name == "No change" for c in window.session.graph.cards.values()), timeout=60_000)
    settle(qtbot, window)
    difference = next(c for c in window.session.graph.cards.values() if c.operation == "difference")
    assert window.session.dataset(difference.id).quantity == DIFFERENCE
    assert difference.shown and not window.session.graph[ground].shown, "whatever would hide it is hidden"
    assert window.desk.selection == [card], "its page stays open beside the map"


def test_a_wide_table_is_shown_whole_and_saved(qtbot, window, tmp_path, monkeypatch):
    made(qtbot, window, "volumes", [named(window, "Ground"), named(window, "Grid")])
    button = next(each for each in window.panel.answer.buttons if "depth classes" in each.text())
    with qtbot.waitSignal(window.panel.table_wanted) as told:
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    dialog = window.parts.checking.show_table(told.args[0])
    assert dialog.table.columnCount() == 5 and dialog.table.rowCount() == told.args[0].count()["entries"]
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "a.csv"), ""))
    dialog.ask_save()
    assert (tmp_path / "a.csv").read_text().startswith("from [m],to [m],area [m²],share [%],volume [m³]")
    dialog.copy()
    dialog.close()


def test_check_points_have_a_page_and_a_map(qtbot, window):
    card = made(qtbot, window, "accuracy", [named(window, "Ground"), named(window, "day2")])
    columns = chart(window, Columns)
    assert columns.values.sum() == window.session.graph[card].node.outcome.figures["accuracy"]["count"]
    residuals = next(c for c in window.session.graph.cards.values() if c.operation == "accuracy" and c.kind == "points")
    assert residuals.look == {"colour": "difference", "against": "Ground"}
    assert any("RMSEz" in finding.text for finding in window.session.findings(card))


def test_a_pond_and_stages_have_pictures(qtbot, window):
    area = "431240 887130, 431300 887130, 431300 887190, 431240 887190"
    made(qtbot, window, "stages", [named(window, "Ground")], {"area": area, "every": "0.5m"})
    assert len(chart(window, Curve).words) > 1
    made(qtbot, window, "between", [named(window, "Ground"), named(window, "Grid")])
    assert chart(window, EarthBars).rows[0][0] == "Ground → Grid"
    made(qtbot, window, "pile", [named(window, "Ground")], {"area": area})
    assert "Below the base" in chart(window, EarthBars).title


def test_a_recipe_is_kept_and_run_on_many_files(qtbot, window, demo, tmp_path, monkeypatch):
    window.lineage.select([named(window, "Contours")])
    target = tmp_path / "contours.recipe"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(target), ""))
    window.actions_["recipe"].trigger()
    recipe = read_recipe(target)
    assert [slot.name for slot in recipe.slots] == ["day1", "day2", "edges"]
    dialog = window.parts.repeating.run(target)
    dialog.show()
    assert "Contours every" in dialog.told.toPlainText(), "what it does can be read before it is run"
    dialog.run_button.click()
    assert "has no file for day1 yet" in window.desk.message
    received, later = demo / "received", demo / "next-month"
    bad = tmp_path / "bad.csv"
    bad.write_text("nothing\n")
    dialog.give(0, 0, [received / "day1.csv", later / "day1.csv", bad])
    assert dialog.files.rowCount() == 3
    for row in range(3):
        dialog.give(row, 1, [received / "day2.txt"])
        dialog.give(row, 2, [received / "edges.dxf"])
    dialog.folder.setText(str(tmp_path / "out"))
    qtbot.mouseClick(dialog.run_button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: dialog.task is None, timeout=120_000)
    states = [dialog.results.item(row, 1).text() for row in range(3)]
    assert states == ["good", "good", "failed"]
    assert [dialog.results.item(row, 0).text() for row in range(3)] == ["received-day1", "next-month-day1", "bad"]
    assert "bad.csv" in dialog.results.item(2, 1).toolTip()
    assert (tmp_path / "out" / "received-day1").is_dir() and not (tmp_path / "out" / "bad").exists()
    # The window gives what the job gave.
    assert dialog.accounts[0].digests["Contours"] == window.session.dataset(named(window, "Contours")).content
    dialog.results.selectRow(1)
    assert "Costs" in dialog.told.toPlainText()
    opened = []
    monkeypatch.setattr(window.parts.repeating, "open_job", opened.append)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "new job"), ""))
    qtbot.mouseClick(dialog.as_job, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: bool(opened), timeout=60_000)
    fresh = Session(opened[0])
    assert all(fresh.graph.state(card) is State.MADE for card in fresh.graph.cards)
    dialog.reject()


def test_files_are_dropped_on_a_slot_and_runs_taken_out(qtbot, window, tmp_path):
    window.lineage.select([named(window, "Contours")])
    window.parts.repeating.keep(tmp_path / "a.recipe", window.parts.repeating.recipe())
    dialog = window.parts.repeating.run(tmp_path / "a.recipe")
    dialog.show()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / name)) for name in ("x.csv", "y.csv")])
    item = dialog.files.visualItemRect(dialog.files.item(0, 1)).center()
    at = QPointF(dialog.files.viewport().mapTo(dialog, item))
    dialog.dropEvent(
        QDropEvent(at, Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
    )
    assert [dialog.files.item(row, 1).text() for row in range(2)] == ["x.csv", "y.csv"]
    dialog.files.setCurrentCell(0, 1)
    dialog.remove_run()
    assert dialog.files.rowCount() == 1 and dialog.files.item(0, 1).text() == "y.csv"
    dialog.reject()


def test_a_copy_is_kept_as_it_is(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    window.actions_["keep_copy"].trigger()
    (copy,) = window.desk.selection
    own = window.session.graph[copy]
    assert own.role is Role.KEPT and not own.shown
    assert "as it was on" in window.panel.sentence.text()
    assert window.lineage._lines(own, "tin", State.MADE)[1] == "kept as it was: Ground"
    window.lineage.select([])
    window.actions_["keep_copy"].trigger()
    assert "choose one card first" in window.desk.message


def test_room_is_made_and_said_beforehand(qtbot, window):
    dialog = window.parts.repeating.ask_room()
    assert not dialog.drop.isEnabled()
    dialog.boxes[Drop.MADE].setChecked(True)
    assert "Frees" in dialog.total.text() and dialog.drop.isEnabled()
    content = window.session.dataset(named(window, "Ground")).content
    dialog.accept()
    assert "freed" in window.desk.message
    assert window.session.graph.state(named(window, "Ground")) is State.NEVER
    window.actions_["remake"].trigger()
    settle(qtbot, window)
    assert window.session.dataset(named(window, "Ground")).content == content
    assert np.isfinite(window.session.dataset(named(window, "Grid")).heights).any()


def test_a_second_window_on_the_job_is_told(window, tmp_path, monkeypatch):
    from vastgrid.qt.window.app import claimed, opened

    window.session.claim()
    session, why = opened(window.session.folder, tmp_path / "jobs")
    assert "is open in another window" in why and "An empty job is open instead" in why
    assert not session.graph.cards
    session.close()
    window.session.close()
    own = claimed(window.session.folder)
    assert "Ground" in [card.name for card in own.graph.cards.values()], "the first one let it go"
    own.close()


def test_what_was_asked_for_is_proposed_the_next_time(qtbot, window):
    ground, grid = named(window, "Ground"), named(window, "Grid")
    dialog = window.parts.offers.ask_dialog("volumes", [ground, grid], {})
    assert dialog.form.value().depth is None
    dialog.reject()
    words = {
        "depth": "2m",
        "swell": "1.2",
        "area": "431050 887050, 431200 887050, 431200 887200",
        "boundaries": "NONE*",
    }
    words.pop("boundaries")
    made(qtbot, window, "volumes", [ground, grid], words)
    dialog = window.parts.offers.ask_dialog("volumes", [ground, grid], {})
    proposed = dialog.form.value()
    assert str(proposed.depth) == "2 m" and proposed.swell == 1.2
    assert proposed.area is None, "where something lies is not proposed for another place"
    dialog.accept()
    settle(qtbot, window)
    # It is seen in the form before it is made, so it counts as asked.
    assert window.session.graph[window.desk.selection[0]].words["depth"] == "2.0m"
    window.session.close()
    again = Session(window.session.folder)
    assert again.remembered("asked", "volumes") == {"depth": "2.0m", "swell": "1.2"}
    assert again.remembered("asked", "tin") == {}


def test_options_of_a_delivery_are_proposed_the_next_time(qtbot, window, tmp_path):
    window.lineage.select([named(window, "Ground")])
    letter = window.parts.delivering.dialog("landxml")
    letter.files[0].change(words={"hold": "faces", "decimals": "3"})
    letter._show_file()
    letter.path.setText(str(tmp_path / "a.xml"))
    letter.accept()
    settle(qtbot, window)
    again = window.parts.delivering.dialog("landxml")
    assert again.words()["hold"] == "faces" and again.words()["decimals"] == "3"
    other = window.parts.delivering.dialog("dxf")
    assert other.words()["version"] == "R2018"
    again.reject()
    other.reject()


def test_a_name_that_is_taken_is_resolved_and_said(window):
    window.desk.rename(named(window, "Contours"), "Ground")
    assert window.session.graph[named(window, "Ground (2)")].kind == "contours"
    assert window.desk.message == "there is a “Ground” already, so this one is “Ground (2)”"


def test_a_report_of_an_answer_is_saved_from_its_page(qtbot, window, tmp_path, monkeypatch):
    card = made(qtbot, window, "volumes", [named(window, "Ground"), named(window, "Grid")])
    button = next(each for each in on_page(window.panel, QPushButton) if each.text() == "Save report …")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "r.md"), ""))
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    text = (tmp_path / "r.md").read_text()
    assert "| inside | cut [m³]" in text
    assert "| from [m] | to [m]" in text, "all its tables"
    assert window.session.graph[card].name in text
