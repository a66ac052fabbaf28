"""The lineage by mouse and keyboard, what a card's panel offers, histograms, and the window for deliveries."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QColorDialog, QFileDialog, QLineEdit, QPushButton

from hands import named, on_page, settle
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.base.quantities import Unit
from vastgrid.lineage.graph import Role, State
from vastgrid.measures.figures import Histogram
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.histograms import HistogramView

LEFT = Qt.MouseButton.LeftButton
SHIFT, CONTROL = Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier


def card(window, name):
    return next(each for each in window.lineage.cards if each.node == named(window, name))


def press(qtbot, window, place, modifier=Qt.KeyboardModifier.NoModifier):
    qtbot.mouseClick(window.lineage, LEFT, modifier, pos=place.toPoint())


def chosen(window):
    return [window.session.graph[node].name for node in window.lineage.selection]


# -- the lineage


def test_cards_stand_in_the_column_of_what_they_are(window):
    columns = {window.session.graph[each.node].name: each.column for each in window.lineage.cards}
    assert columns["day1"] == columns["edges"] == 0 and columns["Ground"] == 1
    assert columns["Contours"] == columns["Grid"] == 2
    for one in window.lineage.cards:
        for other in window.lineage.cards:
            assert one is other or not one.place.intersects(other.place)
        assert window.lineage.rect().contains(one.place.toRect())


def test_a_press_chooses_and_a_press_beside_chooses_nothing(qtbot, window):
    press(qtbot, window, card(window, "Ground").place.center())
    assert chosen(window) == ["Ground"] and window.panel.sentence is not None
    press(qtbot, window, card(window, "Contours").place.center(), CONTROL)
    press(qtbot, window, card(window, "Grid").place.center(), SHIFT)
    assert chosen(window) == ["Ground", "Contours", "Grid"]
    press(qtbot, window, card(window, "Contours").place.center(), CONTROL)
    assert chosen(window) == ["Ground", "Grid"], "a second press takes it out again"
    press(qtbot, window, QPointF(window.lineage.width() - 3.0, window.lineage.height() - 3.0))
    assert chosen(window) == []


def test_the_ring_shows_and_hides(qtbot, window):
    before, steps = window.session.graph[named(window, "Grid")].shown, len(window.session.history.graphs)
    place = window.lineage.eye_of(card(window, "Grid")).center()
    press(qtbot, window, place)
    assert window.session.graph[named(window, "Grid")].shown is not before
    assert len(window.session.history.graphs) == steps, "showing is not a step of the history"


def test_the_plus_opens_what_can_be_made(qtbot, window, monkeypatch):
    opened = []
    monkeypatch.setattr("vastgrid.qt.widgets.chooser.Chooser.begin", lambda sheet: opened.append(sheet.titles()))
    press(qtbot, window, window.lineage.plus_of(card(window, "Ground")).center())
    assert chosen(window) == ["Ground"] and "Contours" in opened[0]
    assert "Deliver …" in opened[0], "and where it can go"
    window.lineage.setFocus()
    qtbot.keyClick(window.lineage, Qt.Key.Key_Return)
    assert len(opened) == 2


def test_arrows_walk_through_the_cards(qtbot, window):
    window.lineage.setFocus()
    window.lineage.select([])
    qtbot.keyClick(window.lineage, Qt.Key.Key_Down)
    assert chosen(window) == ["day1"]
    for _ in range(9):
        qtbot.keyClick(window.lineage, Qt.Key.Key_Down)
    assert chosen(window) == ["pit-scan"], "the last one stays chosen at the end of a column"
    qtbot.keyClick(window.lineage, Qt.Key.Key_Right)
    assert chosen(window) == ["Ground"]
    qtbot.keyClick(window.lineage, Qt.Key.Key_Right, SHIFT)
    assert chosen(window)[0] == "Ground" and len(chosen(window)) == 2
    qtbot.keyClick(window.lineage, Qt.Key.Key_Right)
    assert len(chosen(window)) == 1, "there is nothing farther right"
    hidden = window.session.graph[window.lineage.selection[0]].shown
    qtbot.keyClick(window.lineage, Qt.Key.Key_Space)
    assert window.session.graph[window.lineage.selection[0]].shown is not hidden


def test_delete_takes_a_card_out_and_undo_brings_it_back(qtbot, window):
    window.lineage.setFocus()
    window.lineage.select([named(window, "Ground")])
    qtbot.keyClick(window.lineage, Qt.Key.Key_Delete)
    names = {node.name for node in window.session.graph.cards.values()}
    assert names == {"day1", "day2", "edges", "pit-scan"}, "with all that was made from it"
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert {"Ground", "Contours", "Grid"} <= {node.name for node in window.session.graph.cards.values()}
    assert len(window.plan.items) == 3


# -- the panel


def test_a_card_gets_another_name(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    (edit,) = [each for each in on_page(window.panel, QLineEdit) if each.text() == "Ground"]
    edit.setText("Contours")
    edit.editingFinished.emit()
    names = [node.name for node in window.session.graph.cards.values()]
    assert "Contours (2)" in names and names.count("Contours") == 1, "names stay unique, and the clash is seen"
    assert "Contours (2)" in [own.dataset.name for own in window.plan.items]


def test_further_options_change_what_the_sentence_does_not_say(qtbot, window):
    node = named(window, "Contours")
    window.lineage.select([node])
    window.panel._toggle_more()
    window.panel.form.editors["interval"].setText("4m")
    (change,) = [each for each in on_page(window.panel, QPushButton) if each.text() == "Change"]
    change.click()
    settle(qtbot, window)
    assert window.session.graph[node].words["interval"] == "4.0m"
    assert window.session.graph.state(node) is State.MADE and window.session.dataset(node).interval == 4.0


def test_a_colour_is_chosen_and_seen(qtbot, window, monkeypatch):
    node = named(window, "edges")
    window.lineage.select([node])
    monkeypatch.setattr(QColorDialog, "getColor", lambda *a, **k: QColor("#2255AA"))
    (swatch,) = [each for each in on_page(window.panel, QPushButton) if each.text() == "choose …"]
    swatch.click()
    settle(qtbot, window)
    assert window.session.graph[node].look["plain"].upper() == "#2255AA"
    window.lineage.select([node])
    (swatch,) = [each for each in on_page(window.panel, QPushButton) if each.text().upper() == "#2255AA"]
    monkeypatch.setattr(QColorDialog, "getColor", lambda *a, **k: QColor())
    swatch.click()
    assert window.session.graph[node].look["plain"].upper() == "#2255AA", "giving up keeps it"


def test_a_card_is_lowered_by_one(qtbot, window):
    order = [own.dataset.name for own in window.plan.items]
    window.lineage.select([named(window, "edges")])
    (lower,) = [each for each in on_page(window.panel, QPushButton) if each.text() == "Lower"]
    lower.click()
    settle(qtbot, window)
    after = [own.dataset.name for own in window.plan.items]
    assert after.index("edges") == order.index("edges") - 1 and sorted(after) == sorted(order)


# -- histograms


@pytest.fixture
def bars(qtbot):
    own = Histogram("Classes", np.array([5, 0, 20, 1]), keys=(2, 3, 5, 9), names=("ground", "low", "high", "water"))
    view = HistogramView(own, theme.LIGHT, set(), clickable=True)
    view.resize(300, 120)
    qtbot.addWidget(view)
    view.show()
    return view


def test_a_bar_is_pressed_by_mouse_and_keyboard(qtbot, bars):
    pressed = []
    bars.pressed.connect(pressed.append)
    for k in (0, 2):
        qtbot.mouseClick(bars, LEFT, pos=bars.bar(k).center().toPoint())
    qtbot.mouseClick(bars, LEFT, pos=QPoint(1, 1))
    assert pressed == [0, 2]
    bars.setFocus()
    for key in (Qt.Key.Key_Down, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Space):
        qtbot.keyClick(bars, key)
    assert pressed[2:] == [0]
    for _ in range(9):
        qtbot.keyClick(bars, Qt.Key.Key_Right)
    qtbot.keyClick(bars, Qt.Key.Key_Return)
    assert pressed[-1] == 3, "the last bar is the last"


def test_what_is_only_to_be_read_takes_no_clicks(qtbot):
    own = Histogram("Edge lengths", np.array([1, 2, 3]), np.array([0.0, 1.0, 2.0, 3.0]), unit="m")
    view = HistogramView(own, theme.LIGHT, set(), clickable=False)
    qtbot.addWidget(view)
    view.resize(200, 100)
    view.show()
    pressed = []
    view.pressed.connect(pressed.append)
    qtbot.mouseClick(view, LEFT, pos=view.bar(1).center().toPoint())
    qtbot.keyClick(view, Qt.Key.Key_Space)
    assert pressed == []


# -- deliveries


@pytest.fixture
def dialog(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    own = window.parts.delivering.dialog("")
    qtbot.addWidget(own)
    own.show()
    return own


def test_the_file_is_named_after_what_goes_out_until_it_is_named(dialog):
    assert dialog.path.text().endswith("/ground.xml")
    dialog.formats.setCurrentIndex(dialog.formats.findData("dxf"))
    assert dialog.path.text().endswith("/ground.dxf")
    dialog.path.setText("/tmp/mine.dxf")
    dialog.formats.setCurrentIndex(dialog.formats.findData("landxml"))
    assert dialog.path.text() == "/tmp/mine.dxf"


def test_every_format_is_offered_and_says_what_it_loses(window, dialog):
    ids = [dialog.formats.itemData(k) for k in range(dialog.formats.count())]
    assert ids == [each.id for each in catalog.FORMATS if each.write]
    for k, own in enumerate(ids):
        dialog.formats.setCurrentIndex(k)
        able = any(kind.kind == "tin" for kind in catalog.format_named(own).carries.kinds)
        assert dialog.write.isEnabled() is able, own
        assert ("there is none to write" in dialog.error.text()) is not able
    for k in range(dialog.list.count()):
        dialog.list.item(k).setCheckState(Qt.CheckState.Checked)
    dialog.formats.setCurrentIndex(dialog.formats.findData("landxml"))
    assert "cannot hold grid: Grid was left out" in dialog.shown.words.text()
    assert "about" in dialog.shown.words.text() and "MB" in dialog.shown.words.text()


def test_a_file_that_exists_is_said_to_be_replaced(dialog, tmp_path):
    (tmp_path / "old.xml").write_text("old")
    dialog.path.setText(str(tmp_path / "old.xml"))
    assert "The file exists and will be replaced once the new one is whole" in dialog.shown.words.text()
    assert (tmp_path / "old.xml").read_text() == "old"


def test_options_and_units_go_into_the_card(qtbot, window, dialog, tmp_path):
    dialog.form.editors["decimals"].setText("2")
    dialog.units[0].setCurrentText(Unit.FOOT.title)
    dialog.path.setText(str(tmp_path / "feet.xml"))
    dialog.write.click()
    settle(qtbot, window)
    (node,) = [each for each in window.session.graph.cards.values() if each.role is Role.DELIVERY]
    assert node.words["decimals"] == "2" and node.node.into[0] == "ft" and node.outcome.delivery.good
    assert 'linearUnit="foot"' in (tmp_path / "feet.xml").read_text()[:3000]
    assert chosen(window) == ["feet.xml"] and "written and read back" in window.desk.message


def test_where_to_is_asked_for(dialog, monkeypatch, tmp_path):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "there.xml"), ""))
    (choose,) = [each for each in dialog.findChildren(QPushButton) if each.text() == "Choose …"]
    choose.click()
    assert dialog.path.text() == str(tmp_path / "there.xml")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: ("", ""))
    choose.click()
    assert dialog.path.text() == str(tmp_path / "there.xml")


# -- sets


@pytest.fixture
def letter(qtbot, window, tmp_path, monkeypatch):
    """The window for deliveries with the ground chosen, writing into a folder of its own."""
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config"))
    window.session.settings["deliver_folder"] = str(tmp_path)
    window.lineage.select([named(window, "Ground")])
    own = window.parts.delivering.dialog("")
    qtbot.addWidget(own)
    own.show()
    return own


def deliveries(window):
    return {each.name: each for each in window.session.graph.cards.values() if each.role is Role.DELIVERY}


def test_a_set_writes_all_its_files(qtbot, window, letter, tmp_path):
    letter.choose_set("architect")
    assert letter.files_list.isVisible() and letter.files_list.count() == 2
    assert [file.format.id for file in letter.files] == ["dxf", "ifc"]
    letter.files_list.setCurrentRow(1)
    assert letter.format.id == "ifc" and letter.path.text().endswith("ground.ifc")
    letter.form.editors["decimals"].setText("2")
    letter.files_list.setCurrentRow(0)
    assert letter.format.id == "dxf" and letter.form.editors["version"].currentText() == "R2010"
    letter.write.click()
    settle(qtbot, window)
    made = deliveries(window)
    assert set(made) == {"ground.dxf", "ground.ifc"} and all(each.outcome.delivery.good for each in made.values())
    assert made["ground.ifc"].words["decimals"] == "2", "what was typed for the other file stays with it"
    assert {each.name for each in tmp_path.iterdir() if each.is_file()} == {"ground.dxf", "ground.ifc"}


def test_another_file_and_a_set_of_ones_own(qtbot, window, letter, monkeypatch):
    letter.more.click()
    assert [file.format.id for file in letter.files] == ["landxml", "dxf"] and letter.files_list.count() == 2
    letter.formats.setCurrentIndex(letter.formats.findData("stl"))
    letter.form.editors["origin"].setText("none")
    from PyQt6.QtWidgets import QInputDialog

    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("for the foreman", True))
    letter.keep.click()
    assert letter.sets.currentText() == "for the foreman"
    again = window.parts.delivering.dialog("")
    qtbot.addWidget(again)
    again.choose_set("for the foreman")
    assert [file.format.id for file in again.files] == ["landxml", "stl"] and again.files[1].enclosure.words[
        "origin"
    ] == "none"
    monkeypatch.setattr(QInputDialog, "getText", lambda *a, **k: ("a/b", True))
    again.keep.click()
    assert "cannot be the name of a set" in again.error.text()


def test_one_file_after_a_set_takes_everything(letter):
    letter.choose_set("machine")
    assert letter.files[0].enclosure.meeting and letter.files[0].enclosure.kinds
    letter.sets.setCurrentIndex(0)
    letter.sets.activated.emit(0)
    (file,) = letter.files
    assert not file.enclosure.meeting and not file.enclosure.kinds and file.enclosure.words["hold"] == "faces"
    assert letter.enclosed(file) == letter.nodes() and "where both meet" not in letter.shown.words.text()


def test_two_files_of_one_name_are_refused(letter):
    letter.more.click()
    letter.formats.setCurrentIndex(letter.formats.findData("landxml"))
    assert "two files of the set have one name" in letter.error.text() and not letter.write.isEnabled()


def test_the_preview_follows_the_options_and_the_tree_draws_its_branch(qtbot, letter):
    letter.formats.setCurrentIndex(letter.formats.findData("dxf"))
    whole = letter.shown.tree.topLevelItemCount()
    letter.form.editors["bands"].setText("1 m")
    qtbot.waitUntil(lambda: letter.shown.tree.topLevelItemCount() > whole)
    assert "BAND" in letter.shown.tree.topLevelItem(0).text(0) and "triangle" in letter.shown.tree.topLevelItem(0).text(
        1
    )
    qtbot.waitUntil(lambda: letter.shown.picture.image is not None)
    everything = letter.shown.picture.view
    letter.shown.tree.setCurrentItem(letter.shown.tree.topLevelItem(1))
    qtbot.waitUntil(lambda: letter.shown.picture.view != everything)
    letter.form.editors["bands"].setText("0")
    assert not letter.write.isEnabled()


def test_the_tree_of_a_written_file_can_be_looked_at(qtbot, window, letter):
    letter.write.click()
    settle(qtbot, window)
    (made,) = deliveries(window).values()
    dialog = window.parts.checking.look_into(made.path)
    qtbot.addWidget(dialog)
    qtbot.waitUntil(lambda: dialog.tree.topLevelItemCount() == 1)
    assert "LandXML" in dialog.about.text() and dialog.tree.topLevelItem(0).text(0) == "Ground"
    gone = window.parts.checking.look_into(made.path + ".gone")
    qtbot.addWidget(gone)
    qtbot.waitUntil(lambda: "is gone" in gone.about.text())


def test_machine_control_gets_where_the_surfaces_meet(qtbot, window, letter, tmp_path):
    session = window.session
    card = named(window, "Ground")
    node = session.plan("simplify", [card], {"tolerance": "0.5m"})
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "simplify")
    second = node.outputs[0].card
    window.desk.changed.emit()
    window.lineage.select([card, second])
    dialog = window.parts.delivering.dialog("")
    qtbot.addWidget(dialog)
    dialog.choose_set("machine")
    dialog.show()
    assert "is made first and goes along" in dialog.shown.words.text() and dialog.shown.tree.topLevelItemCount() == 1
    dialog.write.click()
    settle(qtbot, window)
    qtbot.waitUntil(lambda: bool(deliveries(window)), timeout=20_000)
    settle(qtbot, window)
    (made,) = deliveries(window).values()
    assert made.outcome.delivery.good and len(made.inputs) == 2
    text = (tmp_path / "ground.xml").read_text()
    assert text.count("<Surface name") == 1 and 'PlanFeature name="No change' in text
