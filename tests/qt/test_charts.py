"""Small charts: what they show is told to whoever cannot see it, lies where it is drawn, and is to one scale."""

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QToolTip

from hands import pixels
from vastgrid.base.quantities import Unit
from vastgrid.data.loss import Loss
from vastgrid.qt.panel.cost_part import CostPart
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.charts import Columns, Curve, EarthBars, cut_colour, fill_colour


def shown(qtbot, widget, width=320):
    theme.load_fonts()
    qtbot.addWidget(widget)
    widget.resize(width, widget.height())
    widget.show()
    return pixels(widget.grab().toImage())


def wide(image, colour):
    """How many columns of pixels have a colour, in the row that has most of it."""
    near = np.abs(image - np.array((colour.red(), colour.green(), colour.blue()))).sum(axis=2) < 12
    return int(near.sum(axis=1).max())


@pytest.mark.parametrize("palette", [theme.LIGHT, theme.DARK], ids=["light", "dark"])
def test_bars_are_to_one_scale(qtbot, palette):
    bars = EarthBars("Cut and fill", [("A", 400.0, 100.0), ("B", 0.0, 200.0)], "m³", palette)
    image = shown(qtbot, bars)
    top, bottom = (image[int(bars.place_of(k).top()) : int(bars.place_of(k).bottom())] for k in (0, 1))
    cut, fill = wide(top, cut_colour()), wide(top, fill_colour())
    assert cut == pytest.approx(4 * fill, rel=0.05)
    assert wide(bottom, fill_colour()) == pytest.approx(2 * fill, rel=0.05)
    assert wide(bottom, cut_colour()) == 0
    assert bars.accessibleName() == "Cut and fill: A: cut 400.0 m³, fill 100.0 m³; B: cut 0.0 m³, fill 200.0 m³"


def test_nothing_to_show_is_no_fault(qtbot):
    shown(qtbot, EarthBars("none", [("A", 0.0, 0.0)], "", theme.LIGHT))
    shown(qtbot, Columns("none", np.zeros(0), [], ("", ""), theme.LIGHT))
    shown(qtbot, Curve("one", np.array([3.0]), np.array([5.0]), ["3: 5"], ("3", "3", "5"), theme.LIGHT))


def test_columns_stand_on_nought_and_have_the_colours_of_cut_and_fill(qtbot):
    own = Columns(
        "Depth", np.array([2.0, 4.0, 1.0]), ["a", "b", "c"], ("-2 m", "+2 m"), theme.LIGHT, np.array([-1.0, 0.0, 1.0])
    )
    image = shown(qtbot, own)
    middle = [own.place_of(k).center().x() for k in range(3)]
    high = []
    paper = np.array(image[int(own.place_of(0).top()) + 1, int(middle[0])])
    for x in middle:
        column = image[20 : int(own.place_of(0).bottom()) - 2, int(x)]
        high.append(int((np.abs(column - paper).sum(axis=1) > 20).sum()))
    assert high[1] == pytest.approx(2 * high[0], abs=6) and high[0] == pytest.approx(2 * high[2], abs=6)
    low = int(own.place_of(0).bottom()) - 4
    blue, brown = image[low, int(middle[0])], image[low, int(middle[2])]
    assert blue[2] > blue[0] and brown[0] > brown[2], "blue is cut, brown is fill"


def test_a_pointer_is_told_what_lies_under_it(qtbot):
    own = Columns("Residuals", np.array([2.0, 4.0]), ["first", "second"], ("0", "1"), theme.LIGHT)
    shown(qtbot, own)
    place = own.place_of(1).center()
    event = QMouseEvent(
        QMouseEvent.Type.MouseMove, place, QPointF(own.mapToGlobal(place.toPoint())), Qt.MouseButton.NoButton,
        Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier,
    )  # fmt: skip
    own.mouseMoveEvent(event)
    qtbot.waitUntil(lambda: QToolTip.text() == "second", timeout=2000)


def test_a_curve_rises_from_left_to_right(qtbot):
    own = Curve(
        "Volume", np.array([0.0, 1.0, 2.0]), np.array([0.0, 1.0, 4.0]), ["a", "b", "c"], ("0", "2", "4"), theme.LIGHT
    )
    shown(qtbot, own)
    places = [own.place_of(k).center() for k in range(3)]
    assert places[0].x() < places[1].x() < places[2].x()
    assert places[0].y() - places[2].y() == pytest.approx(4 * (places[0].y() - places[1].y()))
    assert own.place_of(2).contains(QPointF(places[2])) and not own.place_of(2).contains(QPointF(QPoint(0, 0)))


def test_a_cost_says_what_and_where(qtbot):
    loss = Loss(0.61, 0.11, 0.0, 0.25, (431_000.0, 887_000.0), 100.0, 0.5, Unit.METRE, Unit.METRE)
    for answers, word in ((False, "It differs by"), (True, "They differ by")):
        part = CostPart(loss, "A & B", theme.LIGHT, answers=answers)
        qtbot.addWidget(part)
        (text,) = (each for each in part.children() if hasattr(each, "text"))
        assert word in text.text() and "0.610 m" in text.text() and "over 50% of the ground" in text.text()
        assert "A &amp; B" in text.text()
        with qtbot.waitSignal(part.place) as told:
            text.linkActivated.emit("worst")
        assert told.args == [431_000.0, 887_000.0]
