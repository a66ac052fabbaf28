"""The views in the real window: every tool driven by mouse and keyboard, pictures compared by what they show."""

import csv
import dataclasses
import gc
import itertools
import math
import time

import ezdxf
import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, QSize, Qt, QTimer
from PyQt6.QtGui import QGuiApplication, QImage, QPainter

from hands import click, named, pixels, settle, surface, wheel
from vastgrid.base.errors import CallError
from vastgrid.demo import ground
from vastgrid.jobs.session import Session
from vastgrid.measures.heights import heights
from vastgrid.qt.dialogs.go_dialog import place_of
from vastgrid.qt.dialogs.interval_dialog import IntervalDialog
from vastgrid.qt.dialogs.picture_dialogs import SheetDialog
from vastgrid.qt.drawing import furniture
from vastgrid.qt.drawing.sheets import Sheet
from vastgrid.qt.drawing.view import View, bounds
from vastgrid.qt.widgets import theme
from vastgrid.styling import ramps
from vastgrid.styling.colouring import Scale

E0, N0 = ground.ORIGIN


# -- the plan


@pytest.mark.parametrize("turn", [0.0, 90.0, 237.0])
def test_a_turned_view_leads_back(turn):
    view = View(500_000.0, 4_000_000.0, 0.5, 800, 600, turn)
    for x, y in ((0, 0), (800, 0), (123.4, 456.7)):
        assert view.pixel(*view.world(x, y)) == pytest.approx((x, y), abs=1e-6)
    places = np.array([view.world(x, y) for x, y in ((0, 0), (800, 600))])
    flat = view.turned(places)
    assert flat[0] == pytest.approx((view.west, view.top), abs=1e-6)
    up = np.array(view.world(400, 0)) - view.world(400, 600)
    assert math.degrees(math.atan2(*up)) % 360 == pytest.approx(turn)


def test_the_plan_turns_with_what_it_shows(qtbot, window):
    plan = window.plan
    for name in ("Contours", "edges"):
        window.session.show(named(window, name), shown=False)
    window.parts.styling.set_look(named(window, "Ground"), {"shade": "no", "faces": "filled"})
    settle(qtbot, window)
    straight = pixels(plan.grab().toImage())
    place = (E0 + 330.0, N0 + 215.0)
    before = plan.view.pixel(*place)
    qtbot.keyClick(plan, Qt.Key.Key_BracketRight)
    assert plan.view.turn == 15.0
    plan.turn_to(180.0)
    settle(qtbot, window)
    # Turned half round, what was seen left of the middle is right of it: the colours are the other's turned.
    turned = pixels(plan.grab().toImage())
    rows, columns = slice(120, plan.height() - 120), slice(250, plan.width() - 250)
    gap = np.abs(turned[rows, columns] - straight[::-1, ::-1][rows, columns]).max(axis=2)
    assert np.median(gap) < 12 < np.median(np.abs(turned - straight)[rows, columns].max(axis=2))
    x, y = plan.view.pixel(*place)
    assert (x, y) == pytest.approx((plan.width() - before[0], plan.height() - before[1]), abs=0.01)
    qtbot.keyClick(plan, Qt.Key.Key_N)
    assert plan.view.turn == 0.0


def test_shift_and_wheel_turn(window):
    plan = window.plan
    middle = QPointF(plan.width() / 2, plan.height() / 2)
    wheel(plan, middle, 2, Qt.KeyboardModifier.ShiftModifier)
    assert plan.view.turn == 10.0


@pytest.mark.parametrize(
    ("text", "place"),
    [
        ("431254.3 887341.7", (431254.3, 887341.7)),
        ("E 431254.3, N 887341.7", (431254.3, 887341.7)),
        ("431 254,3; 887 341,7", (431254.3, 887341.7)),
        ("-5.5\t12", (-5.5, 12.0)),
    ],
)
def test_typed_coordinates(text, place):
    assert place_of(text) == pytest.approx(place)


def test_going_to_coordinates(qtbot, window):
    with pytest.raises(CallError):
        place_of("somewhere")
    window.parts.ask_place()
    from vastgrid.qt.dialogs.go_dialog import GoDialog

    dialog = window.findChild(GoDialog)
    dialog.edit.setText("nowhere")
    assert not dialog.go.isEnabled() and "not an easting" in dialog.error.text()
    dialog.edit.setText(f"{E0 + 300} {N0 + 200}")
    dialog.go.click()
    assert (window.plan.view.east, window.plan.view.north) == (E0 + 300, N0 + 200) == window.plan.mark


@pytest.mark.parametrize("by", ["slope", "aspect", "one colour", "difference"])
def test_colours_under_a_pixel(qtbot, window, by):
    node = named(window, "Ground")
    for name in ("Contours", "edges"):
        window.session.show(named(window, name), shown=False)
    window.parts.styling.set_look(
        node, {"colour": by, "shade": "no", "faces": "filled", "plain": "#3366CC", "against": "Grid"}
    )
    settle(qtbot, window)
    plan = window.plan
    plan.view = dataclasses.replace(plan.view, size=0.4)
    plan.go_to(E0 + 470.0, N0 + 320.0, close=False)
    plan.mark = None
    settle(qtbot, window)
    image = pixels(plan.grab().toImage())
    own = {each.title: each for each in plan.legend}
    titles = {"slope": "Slope in degrees", "aspect": "Aspect", "one colour": "Ground", "difference": "Above Grid in m"}
    assert titles[by] in own
    scale = own[titles[by]]
    tin = surface(window)
    close = 0
    places = [(x, y) for x in range(250, plan.width() - 250, 40) for y in range(120, plan.height() - 100, 25)]
    for x, y in places:
        east, north = plan.view.world(x + 0.5, y + 0.5)
        step = plan.view.size
        z = heights(
            tin,
            np.array(
                [(east, north), (east + step, north), (east - step, north), (east, north + step), (east, north - step)]
            ),
        )
        p, q = (z[1] - z[2]) / (2 * step), (z[3] - z[4]) / (2 * step)
        value = {
            "slope": math.degrees(math.atan(math.hypot(p, q))),
            "aspect": math.degrees(math.atan2(-p, -q)) % 360.0,
            "one colour": 0.0,
            "difference": z[0] - heights(window.session.dataset(named(window, "Grid")), np.array([(east, north)]))[0],
        }[by]
        expected = scale.of(np.array([value]))[0].astype(int)
        close += np.abs(image[y, x] - expected).max() < 40
    assert close > 0.75 * len(places)


def test_opacity_and_order(qtbot, window):
    grid, tin = named(window, "Grid"), named(window, "Ground")
    window.session.show(grid, shown=True)
    for name in ("Contours", "edges"):
        window.session.show(named(window, name), shown=False)
    window.parts.styling.set_look(grid, {"colour": "one colour", "plain": "#0000FF", "shade": "no"})
    window.parts.styling.set_look(tin, {"colour": "one colour", "plain": "#FF0000", "shade": "no", "faces": "filled"})
    settle(qtbot, window)

    def middle():
        settle(qtbot, window)
        return pixels(window.plan.grab().toImage())[window.plan.height() // 2, window.plan.width() // 2]

    assert middle()[0] > 200, "a TIN lies above a grid"
    window.parts.styling.shift(grid, True)
    assert middle()[2] > 200 and middle()[0] < 60
    window.session.keeper.flush()
    assert Session(window.session.folder).settings["order"], "kept with the job"
    window.parts.styling.set_look(grid, {"colour": "one colour", "plain": "#0000FF", "shade": "no", "opacity": "50"})
    assert 90 < middle()[0] < 170 and 90 < middle()[2] < 170
    window.parts.styling.shift(grid, False)
    assert middle()[0] > 200


def test_points_tell_height_and_code_when_there_is_room(qtbot, window):
    window.session.show(named(window, "day1"), shown=True)
    window.refresh()
    points = window.session.dataset(named(window, "day1"))
    plan = window.plan
    place = points.xyz[500]
    plan.go_to(place[0], place[1])
    plan.look(dataclasses.replace(plan.view, size=0.02))
    settle(qtbot, window)
    labelled = pixels(plan.grab().toImage())
    window.parts.styling.set_look(named(window, "day1"), {"labels": "no"})
    settle(qtbot, window)
    bare = pixels(plan.grab().toImage())
    x, y = plan.view.pixel(place[0], place[1])
    box = (slice(int(y) - 14, int(y) + 14), slice(int(x) + 4, int(x) + 50))
    assert (labelled[box] != bare[box]).any(axis=2).sum() > 60


def test_the_readout_names_every_surface(window):
    window.session.show(named(window, "Grid"), shown=True)
    window.refresh()
    text = window.plan.readout(E0 + 200.0, N0 + 350.0)
    assert "(Ground)" in text and "(Grid)" in text


# -- looks in the panel


def test_a_look_is_chosen_in_the_panel(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    looks = window.panel.looks
    qtbot.waitUntil(lambda: window.panel.looks.form.editors["colour"].isVisible(), timeout=5000)
    looks = window.panel.looks
    assert not looks.form.editors["against"].isVisible()
    looks.form.editors["colour"].setCurrentText("difference")
    qtbot.waitUntil(lambda: window.panel.looks.form.editors["against"].isVisible(), timeout=5000)
    looks = window.panel.looks
    looks.form.editors["against"].setCurrentText("Grid")
    settle(qtbot, window)
    assert window.plan.legend[0].title.startswith("Above Grid")
    looks.opacity.setValue(40)
    assert window.session.graph[named(window, "Ground")].look["opacity"] == "40.0"
    looks.more.click()
    qtbot.waitUntil(lambda: window.panel.looks.form.editors["shade"].isVisible(), timeout=5000)
    window.session.keeper.flush()
    assert Session(window.session.folder).graph[named(window, "Ground")].look["colour"] == "difference"


def test_a_bar_hides_a_class_and_heights(qtbot, window):
    node = named(window, "pit-scan")
    window.session.show(node, shown=True)
    window.refresh()
    window.lineage.select([node])
    qtbot.waitUntil(lambda: not window.parts.figuring.busy and bool(window.panel.figures.histograms), timeout=20_000)
    part = window.panel.figures
    elevations, classes = part.histograms
    k = classes.histogram.keys.index(2)
    qtbot.mouseClick(classes, Qt.MouseButton.LeftButton, pos=classes.bar(k).center().toPoint())
    qtbot.wait(60)
    assert window.session.graph[node].look["hidden"] == "2"
    settle(qtbot, window)
    assert not any("2 ground" in text for scale in window.plan.legend for text, _ in scale.entries)
    elevations, classes = window.panel.figures.histograms
    assert classes.hidden == {k}
    classes.setFocus()
    for _ in range(k + 1):
        qtbot.keyClick(classes, Qt.Key.Key_Down)
    qtbot.keyClick(classes, Qt.Key.Key_Space)
    qtbot.wait(60)
    assert window.session.graph[node].look["hidden"] == "", "the keyboard shows it again"
    elevations = window.panel.figures.histograms[0]
    qtbot.mouseClick(elevations, Qt.MouseButton.LeftButton, pos=elevations.bar(3).center().toPoint())
    qtbot.wait(60)
    assert "…" in window.session.graph[node].look["heights"]
    assert window.panel.figures.histograms[0].hidden == {3}
    window.panel.figures.copy()
    assert "Density" in QGuiApplication.clipboard().text()


def test_figures_are_saved(window, monkeypatch, tmp_path):
    window.lineage.select([named(window, "Grid")])
    from PyQt6.QtWidgets import QFileDialog

    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a: (str(tmp_path / "f.txt"), ""))
    window.panel.figures._ask_save()
    assert "Grid" in (tmp_path / "f.txt").read_text()


# -- 3D


def test_both_views_look_at_the_same_place(qtbot, window):
    window.actions_["view_both"].trigger()
    settle(qtbot, window)
    views = window.views
    assert views.plan.isVisible() and views.space.isVisible()
    west, south, east, north = bounds(views.plan.datasets)
    for corner in ((west, south), (east, north)):
        x, y = views.plan.view.pixel(*corner)
        assert 0 <= x <= views.plan.width() and 0 <= y <= views.plan.height(), "both show everything in less room"
    views.plan.centre_on(E0 + 200, N0 + 120, 0.5)
    assert (views.space.camera.east, views.space.camera.north) == (E0 + 200, N0 + 120)
    views.space.zoom(2.0)
    assert views.plan.view.size == pytest.approx(0.25, rel=0.01)
    views.link.setChecked(False)
    views.space.zoom(2.0)
    assert views.plan.view.size == pytest.approx(0.25, rel=0.01)
    views.plan.pointed.emit(E0 + 210.0, N0 + 125.0)
    z = heights(surface(window), np.array([(E0 + 210.0, N0 + 125.0)]))[0]
    assert views.space.pointer == pytest.approx((E0 + 210.0, N0 + 125.0, z))


def test_turning_sliding_and_zooming_to_the_cursor(qtbot, window):
    window.actions_["view_3D"].trigger()
    settle(qtbot, window)
    space = window.views.space
    at = QPointF(space.width() * 0.4, space.height() * 0.55)
    place = space.place_at(at)
    assert place is not None
    space.zoom(1.5, at)
    settle(qtbot, window)
    assert space.camera.pixel(place, space.width(), space.height()) == pytest.approx((at.x(), at.y()), abs=1.0)
    camera = space.camera
    qtbot.mousePress(space, Qt.MouseButton.LeftButton, pos=at.toPoint())
    qtbot.mouseMove(space, at.toPoint() + QPoint(60, 10))
    space._turn(camera, 20.0, 5.0)
    qtbot.mouseRelease(space, Qt.MouseButton.LeftButton, pos=at.toPoint() + QPoint(60, 10))
    assert space.camera.heading == pytest.approx((camera.heading + 20.0) % 360)
    assert space.camera.target.tolist() == camera.target.tolist(), "orbiting keeps what is in the middle"
    before = space.camera
    space._slide(before, QPointF(50, 0), None)
    assert space.camera.heading == before.heading and space.camera.east != before.east
    for key in (Qt.Key.Key_Left, Qt.Key.Key_Up, Qt.Key.Key_Plus, Qt.Key.Key_Minus, Qt.Key.Key_W, Qt.Key.Key_E):
        seen = space.camera
        qtbot.keyClick(space, key)
        assert space.camera != seen
    qtbot.keyClick(space, Qt.Key.Key_F)
    assert not space.touched


def test_walking_keeps_to_the_ground(qtbot, window):
    window.actions_["view_3D"].trigger()
    settle(qtbot, window)
    views = window.views
    views.go_to(E0 + 330.0, N0 + 215.0)
    views.mode.setCurrentText("walk")
    settle(qtbot, window)
    for _ in range(8):
        qtbot.keyClick(views.space, Qt.Key.Key_Up)
        eye = views.space.camera.eye()
        z = heights(surface(window), eye[None, :2].copy())[0]
        assert eye[2] - z == pytest.approx(1.7, abs=1e-6)
    gone = eye
    qtbot.keyClick(views.space, Qt.Key.Key_Down)
    assert math.dist(views.space.camera.eye()[:2], gone[:2]) == pytest.approx(2.0)
    views.mode.setCurrentText("fly")
    low = views.space.camera.eye()[2]
    qtbot.keyClick(views.space, Qt.Key.Key_E)
    assert views.space.camera.eye()[2] > low


def test_exaggeration_sun_and_palette_change_the_picture(qtbot, window):
    window.actions_["view_3D"].trigger()
    settle(qtbot, window)
    views = window.views

    def picture():
        settle(qtbot, window)
        return pixels(views.space.grab().toImage())

    before = picture()
    views.stretch.setValue(3.0)
    taller = picture()
    assert views.space.camera.stretch == 3.0 and (before != taller).any(axis=2).mean() > 0.05
    views.azimuth.setValue(90.0)
    lit = picture()
    assert views.space.sun == (90.0, 45.0) and (lit != taller).any(axis=2).mean() > 0.1
    qtbot.keyClick(views.space, Qt.Key.Key_PageDown)
    assert views.stretch.value() == pytest.approx(2.4)
    window.apply_theme(theme.DARK)
    assert picture()[60, 30].sum() < 200


def test_a_mark_is_seen_in_3d(qtbot, window):
    window.actions_["view_both"].trigger()
    window.views.go_to(E0 + 300.0, N0 + 300.0)
    settle(qtbot, window)
    space = window.views.space
    z = heights(surface(window), np.array([(E0 + 300.0, N0 + 300.0)]))[0]
    assert space.mark == pytest.approx((E0 + 300.0, N0 + 300.0, z))
    x, y = space.camera.pixel(np.array(space.mark), space.width(), space.height())
    assert 0 < x < space.width() and 0 < y < space.height()


# -- sections


def section(qtbot, window, *places):
    window.actions_["section"].trigger()
    for east, north in places:
        click(qtbot, window.plan, E0 + east, N0 + north)
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    settle(qtbot, window)


def test_a_section_is_drawn_hovered_and_stepped(qtbot, window):
    window.session.show(named(window, "Grid"), shown=True)
    window.refresh()
    window.plan.snapping = False
    section(qtbot, window, (100, 215), (330, 240), (560, 215))
    strip = window.views.sectioning
    assert strip.isVisible() and len(strip.line) == 3
    names = [each.name for each in strip.view.profiles]
    assert {"Ground", "Grid", "Contours", "edges"} <= set(names)
    view = strip.view
    view._hover_at(view.total / 3.0)
    place = strip.place(view.total / 3.0)
    tin, grid = (window.session.dataset(named(window, name)) for name in ("Ground", "Grid"))
    a, b = (heights(each, np.array([place]))[0] for each in (tin, grid))
    assert f"Ground {a:.3f} m" in view.words() and "Δ" in view.words()
    assert f"{abs(b - a):.2f}"[:3] in view.words()
    strip.step_size.setText("5")
    before = strip.line.copy()
    qtbot.keyClick(view, Qt.Key.Key_PageDown)
    settle(qtbot, window)
    assert strip.sideways == 5.0
    assert np.hypot(*(strip.line[0] - before[0])) == pytest.approx(5.0)
    assert "right" in strip.title.text()
    strip.exaggeration.setCurrentText("× 5")
    assert view.exaggeration() == pytest.approx(5.0)
    wide = view._to - view._from
    view.zoom(4.0, view.total / 2)
    assert view._to - view._from == pytest.approx(wide / 4)
    window.desk.toggle_shown(named(window, "Grid"))
    settle(qtbot, window)
    assert "Grid" not in [each.name for each in strip.view.profiles], "what is hidden is not cut"
    window.actions_["section_end"].trigger()
    assert not strip.isVisible() and strip.line is None


def test_a_section_along_a_line_that_is_clicked(qtbot, window):
    edges = window.session.dataset(named(window, "edges"))
    k = next(k for k in range(len(edges)) if edges.layers[edges.layer[k]] == "POND_EDGE")
    place = edges.line(k)[7]
    window.plan.go_to(place[0], place[1])
    window.actions_["section_along"].trigger()
    click(qtbot, window.plan, place[0], place[1])
    settle(qtbot, window)
    assert len(window.views.sectioning.line) == len(edges.line(k))
    window.actions_["section_along"].trigger()
    window.plan.go_to(E0 + 2000.0, N0)
    click(qtbot, window.plan, E0 + 2000.0, N0)
    assert "no line at that place" in window.desk.message


def test_a_section_goes_out_as_table_drawing_and_pictures(qtbot, window, tmp_path):
    window.plan.snapping = False
    section(qtbot, window, (100, 215), (560, 215))
    strip = window.views.sectioning
    strip.export(tmp_path / "s.csv", "csv")
    rows = list(csv.DictReader((tmp_path / "s.csv").open()))
    middle = next(row for row in rows if row["Ground"])
    place = np.array([(float(middle["Easting"]), float(middle["Northing"]))])
    assert float(middle["Ground"]) == pytest.approx(heights(surface(window), place)[0], abs=0.01)
    strip.export(tmp_path / "s.dxf", "dxf")
    settle(qtbot, window)
    drawing = ezdxf.readfile(tmp_path / "s.dxf")
    layers = {each.dxf.layer for each in drawing.modelspace()}
    assert "Ground" in layers and drawing.header["$INSUNITS"] == 6
    line = next(each for each in drawing.modelspace() if each.dxf.layer == "Ground")
    first = next(iter(line.vertices)).dxf.location
    assert first.y == pytest.approx(strip.view.profiles[-1].at(first.x), abs=1e-3)
    assert "read back" in window.desk.message
    strip.export(tmp_path / "s.png", "png")
    assert QImage(str(tmp_path / "s.png")).width() == 2 * strip.view.width()
    strip.export(tmp_path / "s.svg", "svg")
    text = (tmp_path / "s.svg").read_text()
    assert "<svg" in text and "polyline" in text and "Ground" in text


def test_the_section_cuts_the_3d_view(qtbot, window):
    window.actions_["view_both"].trigger()
    window.plan.snapping = False
    section(qtbot, window, (100, 215), (560, 215))
    views = window.views
    assert views.cut.isVisible()
    before = (views.space.shot.depth > 0).sum()
    views.cut.setChecked(True)
    settle(qtbot, window)
    assert (views.space.shot.depth > 0).sum() < 0.8 * before
    window.actions_["section_end"].trigger()
    settle(qtbot, window)
    assert views.space.cut is None


# -- measuring


def test_a_distance_catches_vertices_and_is_copied(qtbot, window):
    tin = surface(window)
    k = int(np.hypot(tin.vertices[:, 0] - E0 - 150, tin.vertices[:, 1] - N0 - 100).argmin())
    j = int(np.hypot(tin.vertices[:, 0] - E0 - 170, tin.vertices[:, 1] - N0 - 110).argmin())
    a, b = tin.vertices[k], tin.vertices[j]
    window.plan.go_to(*((a + b) / 2.0)[:2])
    settle(qtbot, window)
    window.actions_["measure"].trigger()
    for place in (a, b):
        x, y = window.plan.view.pixel(place[0], place[1])
        qtbot.mouseMove(window.plan, QPoint(round(x) + 2, round(y)))
        qtbot.mouseClick(window.plan, Qt.MouseButton.LeftButton, pos=QPoint(round(x) + 2, round(y)))
    assert [each.what for each in window.plan.tool.places] == ["vertex", "vertex"]
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    readings = window.parts.measuring.readings
    rows = dict(readings.rows)
    assert rows["ΔZ"] == f"{b[2] - a[2]:+.3f} m"
    assert rows["Plan"] == f"{math.hypot(b[0] - a[0], b[1] - a[1]):.3f} m"
    readings.copy.click()
    assert f"ΔE\t{b[0] - a[0]:+.3f} m" in QGuiApplication.clipboard().text()
    readings.close_.click()
    assert not readings.isVisible()


def test_without_catching_places_are_where_one_clicks(qtbot, window):
    window.actions_["snap"].trigger()
    assert not window.plan.snapping
    window.actions_["measure"].trigger()
    qtbot.mouseClick(window.plan, Qt.MouseButton.LeftButton, pos=QPoint(301, 205))
    assert window.plan.tool.places[0].what == "surface"
    qtbot.keyClick(window.plan, Qt.Key.Key_Backspace)
    assert window.plan.tool.places == []
    qtbot.keyClick(window.plan, Qt.Key.Key_Space)
    middle = window.plan.tool.places[0]
    assert (middle.east, middle.north) == pytest.approx((window.plan.view.east, window.plan.view.north)), "by keyboard"
    qtbot.keyClick(window.plan, Qt.Key.Key_Escape)
    assert window.plan.tool is None


def test_dragging_with_a_tool_moves_the_plan_and_adds_nothing(qtbot, window):
    window.actions_["measure"].trigger()
    before = window.plan.view
    qtbot.mousePress(window.plan, Qt.MouseButton.LeftButton, pos=QPoint(300, 200))
    for step in range(1, 6):
        qtbot.mouseMove(window.plan, QPoint(300 + 12 * step, 200))
    qtbot.mouseRelease(window.plan, Qt.MouseButton.LeftButton, pos=QPoint(360, 200))
    assert window.plan.tool.places == [] and window.plan.view != before


def test_an_area(qtbot, window):
    window.plan.snapping = False
    window.actions_["measure_area"].trigger()
    corners = [(200.0, 100.0), (300.0, 100.0), (300.0, 180.0), (200.0, 180.0)]
    for corner in corners:
        click(qtbot, window.plan, E0 + corner[0], N0 + corner[1])
    qtbot.keyClick(window.plan, Qt.Key.Key_Return)
    area = float(dict(window.parts.measuring.readings.rows)["Area in plan"].split()[0])
    assert area == pytest.approx(8000.0, rel=0.03)


def test_the_interval_of_contours(qtbot, window):
    window.lineage.select([named(window, "Contours")])
    window.actions_["interval"].trigger()
    dialog = window.findChild(IntervalDialog)
    assert dialog.interval.text() == "2 m"
    dialog.interval.setText("many")
    assert not dialog.go.isEnabled()
    dialog.interval.setText("2 m")
    dialog.go.click()
    settle(qtbot, window)
    assert "The interval is kept" in window.parts.measuring.readings.title.text()
    rows = dict(window.parts.measuring.readings.rows)
    assert rows["Found"] == "2 m" and rows["From Ground"].startswith("< 0.001 m")
    window.parts.interval.measure(named(window, "Contours"), 1.0, 20)
    settle(qtbot, window)
    assert "not kept" in window.parts.measuring.readings.title.text()


# -- comparing


def test_two_cards_beside_a_divider_and_in_turn(qtbot, window):
    with pytest.raises(CallError, match="choose two cards"):
        window.views.compare(blink=False)
    window.parts.styling.set_look(
        named(window, "Ground"), {"colour": "one colour", "plain": "#FF0000", "faces": "filled", "shade": "no"}
    )
    window.parts.styling.set_look(named(window, "Grid"), {"colour": "one colour", "plain": "#0000FF", "shade": "no"})
    for name in ("Contours", "edges"):
        window.session.show(named(window, name), shown=False)
    window.lineage.select([named(window, "Ground"), named(window, "Grid")])
    window.actions_["swipe"].trigger()
    settle(qtbot, window)
    plan = window.plan

    def colours():
        image = pixels(plan.grab().toImage())
        row = image[plan.height() // 2 + 30]
        red, blue = (row[:, 0] > 180) & (row[:, 2] < 80), (row[:, 2] > 180) & (row[:, 0] < 80)
        return np.flatnonzero(red), np.flatnonzero(blue)

    red, blue = colours()
    assert red.max() < plan.width() / 2 < blue.min() + 3, "left the one, right the other"
    x = round(plan.width() / 2)
    qtbot.mousePress(plan, Qt.MouseButton.LeftButton, pos=QPoint(x, 100))
    qtbot.mouseMove(plan, QPoint(x - 150, 100))
    qtbot.mouseRelease(plan, Qt.MouseButton.LeftButton, pos=QPoint(x - 150, 100))
    red, blue = colours()
    assert red.max() < x - 140 and blue.min() < x - 130
    qtbot.keyClick(plan, Qt.Key.Key_Period)
    assert plan.split == pytest.approx((x - 150) / plan.width() + 0.02, abs=0.01)
    window.actions_["blink"].trigger()
    assert window.views.blinking
    seen = set()
    qtbot.waitUntil(lambda: seen.add(plan.split) or len(seen) == 2, timeout=5000)
    assert seen == {0.0, 1.0}
    window.actions_["compare_end"].trigger()
    assert plan.split is None and not window.views.blinking and not plan.other


# -- pictures


@pytest.mark.parametrize("which", ["plan", "3D"])
def test_pictures_of_any_size(qtbot, window, tmp_path, which):
    window.views.show_views("both")
    settle(qtbot, window)
    window.parts.picturing.save_picture(tmp_path / "p.png", which, QSize(1500, 900))
    settle(qtbot, window)
    image = QImage(str(tmp_path / "p.png"))
    assert (image.width(), image.height()) == (1500, 900)
    own = pixels(image)
    paper = np.array([0xF7, 0xF5, 0xF0])
    assert (np.abs(own - paper).max(axis=2) > 20).mean() > 0.15


def test_a_sheet_is_true_to_scale(qtbot, window, tmp_path):
    window.parts.picturing.save_sheet(tmp_path / "plan.svg", Sheet("A3", True, 2000, "Tollgarth"), "svg")
    settle(qtbot, window)
    text = (tmp_path / "plan.svg").read_text()
    assert "Tollgarth" in text and "1 : 2000" in text and "<image" in text
    # 420 × 297 mm, as the file says of itself.
    import re

    wide, high = (float(v) for v in re.search(r'width="([\d.]+)mm" height="([\d.]+)mm"', text).groups())
    assert (wide, high) == pytest.approx((420, 297), abs=0.6)
    window.parts.picturing.save_sheet(tmp_path / "plan.pdf", Sheet("A4", False, 5000, "Tollgarth"), "pdf")
    settle(qtbot, window)
    data = (tmp_path / "plan.pdf").read_bytes()
    assert data.startswith(b"%PDF") and re.search(rb"MediaBox \[0 0 59[45]\.?\d* 84[12]", data), "A4 upright, in points"
    assert "1:5000 on A4" in window.desk.message
    dialog = SheetDialog(window, "t", 1000)
    dialog.paper.setCurrentText("A4")
    assert "277 × 166 m" in dialog.note.text(), "what fits on the paper is said"


def test_the_scale_bar_is_true():
    for size in (0.013, 0.5, 7.7, 1234.0):
        length = furniture.bar_length(size)
        assert length / size <= 130.0001 and length / size > 40
        assert length / 10 ** math.floor(math.log10(length)) in (1.0, 2.0, 5.0)


@pytest.mark.parametrize("palette", [theme.LIGHT, theme.DARK], ids=lambda p: p.name)
def test_legends_are_written_readably_over_any_ground(palette):
    """Contrast by WCAG 2.1, 1.4.3, of the legend's words over the palest and the darkest ground."""

    def brightness(colour):
        parts = [v / 255.0 for v in colour]
        parts = [v / 12.92 if v <= 0.04045 else ((v + 0.055) / 1.055) ** 2.4 for v in parts]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    def contrast(one, other):
        a, b = sorted((brightness(one), brightness(other)))
        return (b + 0.05) / (a + 0.05)

    halo = furniture.halo_of(palette)
    share = halo.alpha() / 255.0
    for under in ((255, 255, 202), (20, 20, 20)):
        behind = [
            share * v + (1 - share) * u for v, u in zip((halo.red(), halo.green(), halo.blue()), under, strict=True)
        ]
        ink = palette.colour("ink")
        assert contrast((ink.red(), ink.green(), ink.blue()), behind) >= 4.5


def test_many_entries_are_cut_short_in_a_legend():
    entries = tuple((f"source {k}", ramps.category(k)) for k in range(30))
    image = QImage(300, 400, QImage.Format.Format_ARGB32)
    image.fill(0)
    painter = QPainter(image)
    furniture.paint_legends(
        painter, 290, 10, 380, [Scale("Source", ramps.category(0).reshape(1, 3), entries=entries)], theme.LIGHT
    )
    painter.end()
    used = np.flatnonzero([any(image.pixelColor(x, y).alpha() for x in range(60, 290, 7)) for y in range(400)])
    assert 150 < used.max() < 250


# -- nothing holds the window up


def test_the_window_answers_while_everything_is_drawn(qtbot, window):
    """A timer ticks while views turn, a section is cut and looks change; the gaps between ticks are what a hand feels."""
    window.views.show_views("both")
    settle(qtbot, window)
    # What hundreds of tests before left behind is not the window's to sweep.
    gc.collect()
    gc.freeze()
    ticks = []
    timer = QTimer()
    timer.setInterval(5)
    timer.timeout.connect(lambda: ticks.append(time.perf_counter()))
    space, plan = window.views.space, window.plan

    def gaps_while_all_is_drawn(looks):
        ticks.clear()
        timer.start()
        for k in range(25):
            space._turn(space.camera, 7.0, 1.0 if k % 2 else -1.0)
            plan.pan(9.0, -4.0)
            plan.zoom(1.05 if k % 2 else 0.96, QPointF(200, 150))
            plan.readout(E0 + 200 + k, N0 + 200)
            qtbot.wait(20)
        window.views.sectioning.along(np.array([(E0 + 60, N0 + 215), (E0 + 600, N0 + 215)]))
        for k in range(10):
            window.views.sectioning.step(1 if k % 2 else -1)
            qtbot.wait(20)
        for by in looks:
            window.parts.styling.set_look(named(window, "Ground"), {"colour": by})
            qtbot.wait(60)
        timer.stop()
        return np.array([b - a for a, b in itertools.pairwise(ticks)])

    # The promise is 100 ms. A window held up by its own work is so every time, by others on the machine not.
    for looks in itertools.islice(itertools.permutations(("slope", "aspect", "elevation")), 4):
        gaps = gaps_while_all_is_drawn(looks)
        if np.quantile(gaps, 0.95) < 0.1 and (gaps > 0.1).sum() <= 5 and gaps.max() < 1.0:
            break
    gc.unfreeze()
    assert np.quantile(gaps, 0.95) < 0.1, f"{np.quantile(gaps, 0.95):.3f} s"
    assert (gaps > 0.1).sum() <= 5 and gaps.max() < 1.0, np.sort(gaps)[-8:]
