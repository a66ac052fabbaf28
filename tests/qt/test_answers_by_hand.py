"""Answers driven by hand in the real window: areas drawn, roles exchanged, ground changed below, the job closed and opened."""

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest

from hands import click, named, settle
from vastgrid.base.quantities import Length, Unit
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import State
from vastgrid.qt.widgets.charts import Curve, EarthBars
from vastgrid.terrain.editing.edits import set_height_line


def answer(window, operation):
    return next(c for c in reversed(list(window.session.graph.cards.values())) if c.operation == operation)


def figures(window, operation, key):
    return answer(window, operation).node.outcome.figures[key]


def drawn(qtbot, window, action, places):
    """Trigger an action that asks for an area, click its corners in the plan, and end with Enter."""
    window.views.show_views("plan")
    window.views.fit()
    settle(qtbot, window)
    window.actions_[action].trigger()
    for east, north in places:
        click(qtbot, window.views.plan, east, north)
        qtbot.wait(20)
    QTest.keyClick(window.views.plan, Qt.Key.Key_Return)
    settle(qtbot, window)


SQUARE = ((431_100.0, 887_100.0), (431_200.0, 887_100.0), (431_200.0, 887_200.0), (431_100.0, 887_200.0))


def test_volumes_inside_an_area_that_is_drawn(qtbot, window):
    window.lineage.select([named(window, "Ground"), named(window, "Grid")])
    drawn(qtbot, window, "draw_volumes", SQUARE)
    own = figures(window, "volumes", "volumes")
    # A click is as exact as a pixel of the plan.
    assert own["common_area"] == pytest.approx(10_000.0, rel=0.05)
    assert own["parts"][0]["name"] == "Area"
    assert window.panel.answer.findChildren(EarthBars)[0].rows[0][0] == "Area"
    window.lineage.select([named(window, "Ground")])
    window.actions_["draw_volumes"].trigger()
    assert "choose 2 cards first" in window.desk.message


def test_a_basin_and_a_pile_are_drawn_around(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    drawn(qtbot, window, "draw_stages", SQUARE)
    rows = figures(window, "stages", "stages")["rows"]
    volumes = [row["volume"] for row in rows]
    assert len(rows) > 3 and volumes == sorted(volumes), "the higher the level, the more it holds"
    assert isinstance(window.panel.answer.findChildren(Curve)[0], Curve)
    window.lineage.select([named(window, "Ground")])
    drawn(qtbot, window, "draw_pile", SQUARE)
    (part,) = figures(window, "pile", "pile")["parts"]
    assert part["area"] == pytest.approx(10_000.0, rel=0.05)


def test_exchanged_roles_exchange_cut_and_fill(qtbot, window):
    ground, grid = named(window, "Ground"), named(window, "Grid")
    window.parts.making.make("volumes", [ground, grid], {}, asked=True)
    settle(qtbot, window)
    card = window.desk.selection[0]
    before = dict(figures(window, "volumes", "volumes"))
    assert window.session.other_roles(card, ground) == ["top"]
    window.parts.sourcing.give_role(card, ground, "top")
    settle(qtbot, window)
    after = figures(window, "volumes", "volumes")
    assert after["cut"] == pytest.approx(before["fill"], rel=1e-9)
    assert after["fill"] == pytest.approx(before["cut"], rel=1e-9)
    assert window.session.graph[card].name == "Cut and fill, Grid to Ground", "its name follows its sentence"
    window.actions_["undo"].trigger()
    settle(qtbot, window)
    assert window.session.graph[card].name == "Cut and fill, Ground to Grid"


def test_ground_that_is_changed_by_hand_is_counted_anew(qtbot, window):
    ground = named(window, "Ground")
    copy = window.session.keep_as_it_is(ground)
    window.parts.making.make("volumes", [copy, ground], {}, asked=True)
    settle(qtbot, window)
    card = window.desk.selection[0]
    own = figures(window, "volumes", "volumes")
    assert (own["cut"], own["fill"]) == (0.0, 0.0), "nothing has changed yet"
    xyz = window.session.dataset(ground).vertices
    at = int(np.hypot(xyz[:, 0] - 431_150.0, xyz[:, 1] - 887_150.0).argmin())
    east, north, z = xyz[at].tolist()
    window.parts.making.edit(ground, set_height_line(east, north, Length(z + 3.0, Unit.METRE)))
    settle(qtbot, window)
    assert window.session.graph.state(card) is State.MADE
    tin = window.session.dataset(ground)
    corner = tin.vertices[tin.triangles[(tin.triangles == at).any(axis=1)]]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    area = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() / 2.0
    # Each triangle at the raised vertex gains a pyramid: a third of its area times the step.
    assert figures(window, "volumes", "volumes")["fill"] == pytest.approx(area * 3.0 / 3.0, rel=1e-6)


def test_an_answer_is_there_after_the_job_was_closed(qtbot, window):
    window.parts.making.make("accuracy", [named(window, "Ground"), named(window, "day1")], {}, asked=True)
    settle(qtbot, window)
    card = window.desk.selection[0]
    own = figures(window, "accuracy", "accuracy")
    window.session.close()
    again = Session(window.session.folder)
    assert again.graph[card].node.outcome.figures["accuracy"] == own
    table = again.dataset(card)
    assert (
        dict(zip(*(table.columns[name].tolist() for name in ("figure", "value")), strict=True))[b"RMSEz"] == own["rmse"]
    )


def test_a_chosen_residual_can_be_pointed_at(qtbot, window):
    """Residual points are points like all others: they stand in the plan and say their heights."""
    window.parts.making.make("accuracy", [named(window, "Ground"), named(window, "day1")], {}, asked=True)
    settle(qtbot, window)
    residuals = next(c for c in window.session.graph.cards.values() if c.operation == "accuracy" and c.kind == "points")
    data = window.session.dataset(residuals.id)
    assert {"point", "residual", "surface height", "blunder"} <= set(data.attributes)
    np.testing.assert_allclose(
        data.attributes["residual"], data.attributes["surface height"] - data.xyz[:, 2], atol=1e-12
    )
    window.lineage.select([residuals.id])
    east, north = data.xyz[0, :2]
    window.views.go_to(east, north)
    settle(qtbot, window)
    place = QPointF(*window.views.plan.view.pixel(east, north))
    assert window.views.plan.rect().contains(place.toPoint())
