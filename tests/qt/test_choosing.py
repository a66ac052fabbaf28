"""Single areas chosen by clicks in the plan, by mouse on the real window."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from hands import named, settle
from vastgrid.base.errors import CallError


def click(window, east, north):
    plan = window.parts.views.plan
    x, y = plan.view.pixel(east, north)
    QTest.mouseClick(plan, Qt.MouseButton.LeftButton, pos=QPoint(round(x), round(y)))


@pytest.fixture
def bands(qtbot, window):
    window.parts.making.make("bands", [named(window, "Ground")], {"interval": "8 m"}, asked=True)
    settle(qtbot, window)
    card = window.desk.selection[0]
    window.desk.select([card])
    settle(qtbot, window)
    return card


def test_areas_are_clicked_and_kept(qtbot, window, bands):
    areas = window.desk.session.named(bands)
    largest = np.argsort(-areas.sizes())[:3]
    window.actions_["choose_areas"].trigger()
    settle(qtbot, window)
    places = areas.middles()
    for k in largest:
        click(window, *places[k])
    choosing = window.parts.choosing
    assert set(choosing.places) == set(largest.tolist())
    click(window, *places[largest[0]])
    assert set(choosing.places) == set(largest[1:].tolist()), "a second click lets it go"
    before = window.parts.views.plan.grab().toImage()
    window.actions_["choose_none"].trigger()
    assert window.parts.views.plan.grab().toImage() != before, "what is chosen is seen"
    with pytest.raises(CallError, match="choose some areas"):
        choosing.run("choose_keep")
    click(window, *places[largest[0]])
    window.actions_["choose_keep"].trigger()
    settle(qtbot, window)
    made = window.desk.session.named(window.desk.selection[0])
    assert len(made) == 1 and made.sizes()[0] == pytest.approx(areas.sizes()[largest[0]])
    assert not choosing.places
    sentence = window.desk.session.sentence(window.desk.selection[0])
    assert "kept alone" in str(sentence)


def test_the_hands_are_there_for_areas_alone(qtbot, window, bands):
    buttons = window.parts.views.buttons
    assert buttons["choose_areas"].isVisible() and not buttons["pick"].isVisible()
    window.desk.select([named(window, "Ground")])
    settle(qtbot, window)
    assert not buttons["choose_areas"].isVisible()
    with pytest.raises(CallError, match="card of areas"):
        window.parts.choosing.run("choose_areas")
