"""The lineage by mouse and keyboard, what a card's panel offers, histograms, and the window for deliveries."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import QColorDialog, QFileDialog, QLineEdit, QPushButton

from hands import named, settle
from vastgrid import catalog
from vastgrid.base.quantities import Unit
from vastgrid.job.lineage import Role, State
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
    assert len(window.session.history.graphs) == steps, "showing is no step of the history"


def test_the_plus_opens_what_can_be_made(qtbot, window, monkeypatch):
    opened = []
    monkeypatch.setattr("PyQt6.QtWidgets.QMenu.popup", lambda menu, place: opened.append(menu))
    press(qtbot, window, window.lineage.plus_of(card(window, "Ground")).center())
    texts = [action.text() for action in opened[0].actions()]
    assert chosen(window) == ["Ground"] and any(text.startswith("Contours") for text in texts)
    assert any(text.startswith("LandXML") for text in texts), "and where it can go"
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
    (edit,) = [each for each in window.panel.findChildren(QLineEdit) if each.text() == "Ground"]
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
    (change,) = [each for each in window.panel.findChildren(QPushButton) if each.text() == "Change"]
    change.click()
    settle(qtbot, window)
    assert window.session.graph[node].words["interval"] == "4.0m"
    assert window.session.graph.state(node) is State.MADE and window.session.dataset(node).interval == 4.0


def test_a_colour_is_chosen_and_seen(qtbot, window, monkeypatch):
    node = named(window, "edges")
    window.lineage.select([node])
    monkeypatch.setattr(QColorDialog, "getColor", lambda *a, **k: QColor("#2255AA"))
    (swatch,) = [each for each in window.panel.findChildren(QPushButton) if each.text() == "choose …"]
    swatch.click()
    settle(qtbot, window)
    assert window.session.graph[node].look["plain"].upper() == "#2255AA"
    window.lineage.select([node])
    (swatch,) = [each for each in window.panel.findChildren(QPushButton) if each.text().upper() == "#2255AA"]
    monkeypatch.setattr(QColorDialog, "getColor", lambda *a, **k: QColor())
    swatch.click()
    assert window.session.graph[node].look["plain"].upper() == "#2255AA", "giving up keeps it"


def test_a_card_is_lowered_by_one(qtbot, window):
    order = [own.dataset.name for own in window.plan.items]
    window.lineage.select([named(window, "edges")])
    (lower,) = [each for each in window.panel.findChildren(QPushButton) if each.text() == "Lower"]
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
        able = own in ("dxf", "landxml", "obj", "stl")
        assert dialog.write.isEnabled() is able, own
        assert ("there is none to write" in dialog.error.text()) is not able
    for k in range(dialog.list.count()):
        dialog.list.item(k).setCheckState(Qt.CheckState.Checked)
    dialog.formats.setCurrentIndex(dialog.formats.findData("landxml"))
    assert "cannot hold grid: Grid was left out" in dialog.preview.text()
    assert "about" in dialog.preview.text() and "MB" in dialog.preview.text()


def test_a_file_that_exists_is_said_to_be_replaced(dialog, tmp_path):
    (tmp_path / "old.xml").write_text("old")
    dialog.path.setText(str(tmp_path / "old.xml"))
    assert "The file exists and will be replaced once the new one is whole" in dialog.preview.text()
    assert (tmp_path / "old.xml").read_text() == "old"


def test_options_and_units_go_into_the_card(qtbot, window, dialog, tmp_path):
    dialog.form.editors["decimals"].setText("2")
    dialog.units[0].setCurrentText(Unit.FOOT.title)
    dialog.path.setText(str(tmp_path / "feet.xml"))
    dialog.write.click()
    settle(qtbot, window)
    (node,) = [each for each in window.session.graph.cards.values() if each.role is Role.DELIVERY]
    assert node.words["decimals"] == "2" and node.node.into[0] == "ft" and node.outcome.delivery["good"]
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
