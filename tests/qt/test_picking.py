"""Points picked in plan, section and 3D, and what is done to them: the real window."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QDialog

from hands import click, makeable, named, settle
from vastgrid.base.errors import CallError
from vastgrid.data.classes import CLASSES
from vastgrid.qt.dialogs.pick_dialogs import ClassDialog, HeightsDialog


@pytest.fixture
def scan(qtbot, window):
    """The scan alone in the plan, with a section through its middle."""
    window.lineage.select([named(window, "pit-scan")])
    window.parts.desk.isolate()
    settle(qtbot, window)
    window.views.fit()
    settle(qtbot, window)
    return window.session.dataset(named(window, "pit-scan"))


def box_of(points, low=0.3, high=0.6):
    start, size = points.xyz[:, :2].min(axis=0), np.ptp(points.xyz[:, :2], axis=0)
    (west, south), (east, north) = start + low * size, start + high * size
    return [(west, south), (east, south), (east, north), (west, north)]


def pick(qtbot, window, corners, key="pick"):
    if window.parts.picking.held != key:
        window.views.buttons[key].click()
    for corner in corners:
        click(qtbot, window.plan, *corner)
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    settle(qtbot, window)
    qtbot.waitUntil(lambda: not window.desk.behind.busy, timeout=10_000)


def test_areas_add_and_subtract_and_what_is_picked_is_deleted_and_taken_back(qtbot, window, scan):
    picking = window.parts.picking
    pick(qtbot, window, box_of(scan))
    first = picking.number
    assert first > 0 and "points picked" in picking.words and window.views.buttons["pick"].isChecked()
    pick(qtbot, window, box_of(scan, 0.5, 0.8))
    both = picking.number
    assert both > first
    pick(qtbot, window, box_of(scan, 0.4, 0.7), "pick_less")
    assert picking.number < both and window.views.buttons["pick_less"].isChecked()
    number = picking.number
    window.views.buttons["pick_delete"].click()
    settle(qtbot, window)
    card = named(window, "pit-scan, cleaned")
    assert len(window.session.dataset(card).xyz) == len(scan.xyz) - number
    assert picking.picks == [] and window.panel.edits is not None and window.desk.selection == [card]
    qtbot.keyClick(window.plan, Qt.Key.Key_Escape)
    assert picking.held == "" and not window.views.buttons["pick_less"].isChecked()
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert card not in window.session.graph


def test_a_section_and_a_turned_view_pick_too_and_give_a_class(qtbot, window, scan):
    picking = window.parts.picking
    (west, south), (east, _), *_ = box_of(scan, 0.2, 0.8)
    window.views.sectioning.along(np.array([(west, south + 20.0), (east, south + 60.0)]))
    window.views.show_views("both")
    settle(qtbot, window)
    section, space = window.views.sectioning.view, window.views.space
    window.views.buttons["pick"].click()
    for x, y in ((0.4, 0.1), (0.6, 0.1), (0.6, 0.9), (0.4, 0.9)):
        qtbot.mouseClick(
            section, Qt.MouseButton.LeftButton, pos=QPoint(int(section.width() * x), int(section.height() * y))
        )
    before = section._from, section._to
    qtbot.mouseDClick(
        section, Qt.MouseButton.LeftButton, pos=QPoint(int(section.width() * 0.4), int(section.height() * 0.9))
    )
    qtbot.waitUntil(lambda: picking.number > 0, timeout=10_000)
    assert (section._from, section._to) == before, "a double click closes the area and leaves the section as it is"
    in_section = picking.number
    for x, y in ((0.4, 0.4), (0.6, 0.4), (0.6, 0.6)):
        qtbot.mouseClick(space, Qt.MouseButton.LeftButton, pos=QPoint(int(space.width() * x), int(space.height() * y)))
    qtbot.keyClick(space, Qt.Key.Key_Backspace)
    assert len(picking.lassos["space"].corners) == 2
    qtbot.mouseClick(space, Qt.MouseButton.LeftButton, pos=QPoint(int(space.width() * 0.6), int(space.height() * 0.65)))
    qtbot.keyClick(space, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: picking.number > in_section, timeout=10_000)
    number = picking.number
    assert [bool(each.line) for _, each in picking.picks] == [True, False]
    window.views.buttons["pick_class"].click()
    dialog = window.findChildren(ClassDialog)[-1]
    dialog.class_.setCurrentText("9 water")
    dialog.done(QDialog.DialogCode.Accepted)
    settle(qtbot, window)
    card = named(window, "pit-scan, cleaned")
    made = window.session.dataset(card)
    assert (made.attributes[CLASSES] == 9).sum() >= number and len(made.xyz) == len(scan.xyz)
    window.views.sectioning.before.setChecked(True)
    settle(qtbot, window)
    earlier = window.views.sectioning.earlier
    assert earlier.isVisible() and earlier.profiles[0].name == "pit-scan"
    section.zoom(3.0, 40.0)
    assert (earlier._from, earlier._to) == (section._from, section._to) and earlier.frame(earlier._box())[
        2
    ] == pytest.approx(section.frame(section._box())[2])


def test_a_box_in_plan_and_height_is_kept(qtbot, window, scan):
    corners = box_of(scan)
    window.views.buttons["pick_box"].click()
    click(qtbot, window.plan, *corners[0])
    click(qtbot, window.plan, *corners[2])
    qtbot.waitUntil(lambda: bool(window.findChildren(HeightsDialog)), timeout=5000)
    dialog = window.findChildren(HeightsDialog)[-1]
    dialog.above.setText("lower")
    assert not dialog.done_.isEnabled()
    dialog.above.setText("")
    dialog.below.setText("220 m")
    dialog.done(QDialog.DialogCode.Accepted)
    qtbot.waitUntil(lambda: window.parts.picking.number > 0, timeout=10_000)
    window.views.buttons["pick_keep"].click()
    settle(qtbot, window)
    made = window.session.dataset(named(window, "pit-scan, cleaned"))
    assert 0 < len(made.xyz) < len(scan.xyz) and made.xyz[:, 2].max() <= 220.0
    assert made.xyz[:, 0].max() - made.xyz[:, 0].min() <= corners[1][0] - corners[0][0] + 2.0


def test_what_is_hidden_is_not_picked_and_without_points_nothing_is(qtbot, window, scan):
    card = named(window, "pit-scan")
    pick(qtbot, window, box_of(scan, 0.0, 1.0))
    every = window.parts.picking.number
    codes = np.unique(scan.attributes[CLASSES])
    window.parts.styling.set_look(card, {"hidden": str(codes[0])})
    settle(qtbot, window)
    window.parts.picking.clear()
    pick(qtbot, window, box_of(scan, 0.0, 1.0))
    assert window.parts.picking.number < every
    window.lineage.select([named(window, "Ground")])
    assert window.parts.picking.picks == []
    with pytest.raises(CallError, match="choose one card of points"):
        window.parts.picking.run("pick")
    window.lineage.select([card])
    with pytest.raises(CallError, match="pick some points first"):
        window.parts.picking.run("pick_delete")


@pytest.mark.parametrize(("card", "begins"), [("pit-scan", "Points: "), ("Ground", "Edit surface: ")])
def test_the_menu_offers_what_hands_can_do_with_the_kind(window, card, begins):
    window.lineage.select([named(window, card)])
    texts = makeable(window)
    other = {"Points: ": "Edit surface: ", "Edit surface: ": "Points: "}[begins]
    assert sum(text.startswith(begins) for text in texts) >= 6
    assert not any(text.startswith(other) for text in texts)
    assert not any(text.startswith(("Edit points", "Edit the surface")) for text in texts)
