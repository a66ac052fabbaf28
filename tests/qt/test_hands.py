"""Mouse and keyboard in the 3D view and the section, pictures asked for, large clouds caught, and jobs changed for others."""

import math

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QImage
from PyQt6.QtWidgets import QDialog, QFileDialog, QMenu, QToolButton

from hands import click, entries, named, pixels, settle, surface, wheel
from vastgrid.data.frame import Frame
from vastgrid.data.linework import from_lines
from vastgrid.data.pointset import PointSet
from vastgrid.demo import ground
from vastgrid.jobs.session import Session
from vastgrid.lineage.cloudindex import WORTH
from vastgrid.measures.heights import heights
from vastgrid.qt.drawing import pointing
from vastgrid.qt.drawing.view import bounds
from vastgrid.qt.widgets import theme
from vastgrid.qt.window import picturing
from vastgrid.qt.window.main_window import MainWindow

E0, N0 = ground.ORIGIN
LEFT, RIGHT = Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton


def drag(qtbot, view, start, by, button=LEFT, modifier=Qt.KeyboardModifier.NoModifier):
    """Press, move in two steps, and let go."""
    from PyQt6.QtCore import QEvent
    from PyQt6.QtGui import QMouseEvent
    from PyQt6.QtWidgets import QApplication

    def send(kind, at, held):
        QApplication.sendEvent(view, QMouseEvent(kind, at, view.mapToGlobal(at), button, held, modifier))

    send(QEvent.Type.MouseButtonPress, start, button)
    for share in (0.5, 1.0):
        at = start + QPointF(by.x() * share, by.y() * share)
        send(QEvent.Type.MouseMove, at, button)
    send(QEvent.Type.MouseButtonRelease, start + by, Qt.MouseButton.NoButton)


@pytest.fixture
def space(qtbot, window):
    window.actions_["view_3D"].trigger()
    settle(qtbot, window)
    return window.views.space


# -- 3D


def test_dragging_turns_and_the_right_button_slides(qtbot, window, space):
    middle = QPointF(space.width() * 0.45, space.height() * 0.55)
    before = space.camera
    drag(qtbot, space, middle, QPointF(100, 20))
    assert space.camera.heading == pytest.approx((before.heading + 35.0) % 360)
    assert space.camera.pitch == pytest.approx(before.pitch + 6.0)
    assert space.camera.target.tolist() == before.target.tolist()
    settle(qtbot, window)
    place = space.place_at(middle)
    before = space.camera
    for button, modifier in ((RIGHT, Qt.KeyboardModifier.NoModifier), (LEFT, Qt.KeyboardModifier.ShiftModifier)):
        drag(qtbot, space, middle, QPointF(60, 0), button, modifier)
        x, y = space.camera.pixel(place, space.width(), space.height())
        assert (x - middle.x(), y - middle.y()) == pytest.approx((60, 0), abs=1.5), "what is gripped goes with the hand"
        assert (space.camera.heading, space.camera.pitch) == (before.heading, before.pitch)
        drag(qtbot, space, middle + QPointF(60, 0), QPointF(-60, 0), button, modifier)
        settle(qtbot, window)


def test_a_double_click_brings_a_place_to_the_middle(qtbot, window, space):
    at = QPointF(space.width() * 0.35, space.height() * 0.6)
    place = space.place_at(at)
    qtbot.mouseDClick(space, LEFT, pos=at.toPoint())
    assert space.camera.target == pytest.approx(place, abs=space.camera.pixel_size(space.height()) * 3)
    qtbot.mouseDClick(space, LEFT, pos=QPoint(3, 3))
    assert space.camera.target == pytest.approx(place, abs=space.camera.pixel_size(space.height()) * 3), (
        "the sky has no place"
    )


def test_the_wheel_goes_to_what_is_under_the_pointer(qtbot, window, space):
    at = QPointF(space.width() * 0.4, space.height() * 0.55)
    place, far = space.place_at(at), space.camera.distance
    wheel(space, at, 2)
    assert space.camera.distance < far
    assert space.camera.pixel(place, space.width(), space.height()) == pytest.approx((at.x(), at.y()), abs=1.0)


def test_the_pointer_tells_its_place_and_heights(qtbot, window, space):
    at = QPointF(space.width() * 0.45, space.height() * 0.55)
    east, north, z = space.place_at(at)
    # The pointer may stand there already, or move only with the next turn of the loop.
    qtbot.mouseMove(space, at.toPoint() + QPoint(7, 3))
    qtbot.mouseMove(space, at.toPoint())
    qtbot.waitUntil(lambda: "(Ground)" in window.status.readout.text(), timeout=3000)
    said = window.status.readout.text()
    told = float(said.split("Z ")[1].split(" ")[0])
    true = heights(surface(window), np.array([(east, north)]))[0]
    # A pixel is this wide, and what is seen through it may be as much lower or higher as the ground is steep.
    assert told == pytest.approx(true, abs=space.camera.pixel_size(space.height()) * 4)
    assert z == pytest.approx(true, abs=space.camera.pixel_size(space.height()) * 4)


def test_keys_that_mean_nothing_here_leave_the_view_untouched(qtbot, window, space):
    space.fit()
    before = space.camera
    for key in (Qt.Key.Key_Z, Qt.Key.Key_Tab, Qt.Key.Key_Shift):
        qtbot.keyClick(space, key)
    assert space.camera == before and not space.touched


def test_keys_turn_north_exaggerate_and_rise(qtbot, window, space):
    space.setFocus()
    qtbot.keyClick(space, Qt.Key.Key_Left)
    assert space.camera.heading != 0.0
    qtbot.keyClick(space, Qt.Key.Key_N)
    assert space.camera.heading == 0.0
    for _ in range(40):
        qtbot.keyClick(space, Qt.Key.Key_PageUp)
    assert space.camera.stretch == 20.0 == window.views.stretch.value(), "the box beside it follows"
    for _ in range(40):
        qtbot.keyClick(space, Qt.Key.Key_PageDown)
    assert space.camera.stretch == 0.5
    window.views.mode.setCurrentText("fly")
    high = space.camera.eye()[2]
    qtbot.keyClick(space, Qt.Key.Key_Q)
    assert space.camera.eye()[2] < high
    window.views.mode.setCurrentText("walk")
    settle(qtbot, window)
    eye = space.camera.eye()
    qtbot.keyClick(space, Qt.Key.Key_E)
    assert space.camera.eye() == pytest.approx(eye), "nobody rises while walking"


def test_looking_about_while_flying_keeps_the_eye(qtbot, window, space):
    window.views.mode.setCurrentText("fly")
    eye = space.camera.eye()
    drag(qtbot, space, QPointF(300, 300), QPointF(80, -30))
    assert space.camera.eye() == pytest.approx(eye, abs=1e-6)


# -- the section


@pytest.fixture
def section(qtbot, window):
    window.views.sectioning.along(np.array([(E0 + 60.0, N0 + 215.0), (E0 + 600.0, N0 + 215.0)]))
    settle(qtbot, window)
    return window.views.sectioning.view


def test_a_section_is_zoomed_moved_and_shown_whole_again(qtbot, window, section):
    assert section.total == pytest.approx(540.0)
    middle = QPointF(section.width() / 2, section.height() / 2)
    qtbot.mouseMove(section, middle.toPoint())
    there = section._hover
    wheel(section, middle, 5)
    shown = section._to - section._from
    assert shown < 540.0 / 2
    qtbot.mouseMove(section, middle.toPoint() + QPoint(1, 0))
    qtbot.mouseMove(section, middle.toPoint())
    assert section._hover == pytest.approx(there, abs=0.5), "what is under the pointer stays"
    start = section._from
    drag(qtbot, section, middle, QPointF(-80, 0))
    assert section._from > start and section._to - section._from == pytest.approx(shown)
    drag(qtbot, section, middle, QPointF(-100_000, 0))
    assert section._to == pytest.approx(540.0), "it ends where the line ends"
    drag(qtbot, section, middle, QPointF(100_000, 0))
    assert section._from == 0.0
    qtbot.mouseDClick(section, LEFT, pos=middle.toPoint())
    assert (section._from, section._to) == (0.0, pytest.approx(540.0))


def test_a_section_by_keys(qtbot, window, section):
    section.setFocus()
    qtbot.keyClick(section, Qt.Key.Key_Right)
    there = section._hover
    assert there == pytest.approx(270.0 + 10.8)
    qtbot.keyClick(section, Qt.Key.Key_Left)
    assert section._hover == pytest.approx(270.0)
    z = heights(surface(window), np.array([(E0 + 60.0 + 270.0, N0 + 215.0)]))[0]
    assert f"Ground {z:.3f} m" in section.words()
    qtbot.keyClick(section, Qt.Key.Key_Plus)
    assert section._to - section._from == pytest.approx(540.0 / 1.4)
    qtbot.keyClick(section, Qt.Key.Key_Minus)
    qtbot.keyClick(section, Qt.Key.Key_F)
    assert section._from == 0.0
    before = window.views.sectioning.line.copy()
    qtbot.keyClick(section, Qt.Key.Key_PageDown)
    assert np.abs(window.views.sectioning.line - before).max() == pytest.approx(5.0), (
        "a step goes as far as is written there"
    )
    qtbot.keyClick(section, Qt.Key.Key_PageUp)
    np.testing.assert_allclose(window.views.sectioning.line, before)


def test_leaving_a_section_ends_its_readout(qtbot, window, section):
    told = []
    section.hovered.connect(told.append)
    qtbot.mouseMove(section, QPoint(section.width() // 2, section.height() // 2))
    section.leaveEvent(None)
    assert section.words() == "" and math.isnan(told[-1]) and not math.isnan(told[0])


@pytest.mark.parametrize("wanted", ["× 1", "× 5"])
def test_heights_of_a_section_are_exaggerated_as_said(qtbot, window, section, wanted):
    window.views.sectioning.exaggeration.setCurrentText(wanted)
    assert section.exaggeration() == pytest.approx(float(wanted[2:]))


def test_every_export_of_a_section_is_in_its_menu(window, section):
    menu = QMenu()
    window.views.sectioning._fill_exports(menu)
    assert [action.text().split("(")[1][:3] for action in menu.actions()] == ["CSV", "DXF", "SVG", "PNG"]


def test_a_table_of_a_section_is_asked_for_and_written(window, section, monkeypatch, tmp_path):
    target = tmp_path / "cut.csv"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(target), ""))
    window.views.sectioning.ask_export("csv")
    lines = target.read_text().splitlines()
    assert len(lines) > 20 and "Ground" in target.read_text()


# -- pictures that are asked for


def test_a_picture_is_asked_for_and_written_at_its_size(qtbot, window, monkeypatch, tmp_path):
    def chosen(dialog):
        dialog.view.setCurrentText("3D")
        dialog.width_.setValue(320)
        dialog.height_.setValue(200)
        return QDialog.DialogCode.Accepted

    asked = []
    monkeypatch.setattr(picturing.PictureDialog, "exec", chosen)
    monkeypatch.setattr(
        QFileDialog, "getSaveFileName", lambda *a, **k: asked.append(a[2]) or (str(tmp_path / "p.png"), "")
    )
    window.views.show_views("both")
    settle(qtbot, window)
    window.actions_["picture"].trigger()
    settle(qtbot, window)
    image = QImage(str(tmp_path / "p.png"))
    assert (image.width(), image.height()) == (320, 200) and asked[0].endswith("3D.png")
    assert len(np.unique(pixels(image).reshape(-1, 3), axis=0)) > 100
    assert "p.png is written" in window.desk.message
    monkeypatch.setattr(picturing.PictureDialog, "exec", lambda dialog: QDialog.DialogCode.Rejected)
    window.actions_["picture"].trigger()
    assert len(asked) == 1, "who cancels is not asked for a file"


def test_a_sheet_is_proposed_at_a_usual_scale_at_which_all_fits(qtbot, window, monkeypatch, tmp_path):
    seen = []
    monkeypatch.setattr(picturing.SheetDialog, "exec", lambda d: seen.append(d.sheet()) or QDialog.DialogCode.Accepted)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "plan.pdf"), ""))
    window.actions_["sheet"].trigger()
    settle(qtbot, window)
    (sheet,) = seen
    shown = window.plan.view.size * window.plan.width()
    assert shown <= 0.4 * sheet.scale < 2.5 * shown, "the next usual scale, not a far one"
    assert (tmp_path / "plan.pdf").read_bytes().startswith(b"%PDF")
    assert f"1:{sheet.scale}" in window.desk.message


def test_a_plan_in_degrees_has_no_scale_and_says_so(window, monkeypatch):
    told = []
    monkeypatch.setattr(window.desk, "tell", told.append)
    window.plan.unit = None
    window.actions_["sheet"].trigger()
    assert "has no scale" in told[0]


def test_a_picture_that_cannot_be_written_is_told(qtbot, window, monkeypatch, tmp_path):
    from PyQt6.QtCore import QSize

    told = []
    monkeypatch.setattr(window.desk, "tell", told.append)
    window.parts.picturing.save_picture(tmp_path / "nowhere" / "p.png", "plan", QSize(64, 64))
    settle(qtbot, window)
    assert told and "p.png" in told[0] and not (tmp_path / "nowhere").exists()


# -- what lies under the pointer


@pytest.fixture(scope="module")
def big():
    rng = np.random.default_rng(8)
    xyz = np.column_stack((rng.uniform(0, 400, (WORTH, 2)) + (E0, N0), rng.uniform(200, 220, WORTH)))
    return PointSet(name="Scan", frame=Frame(), xyz=xyz)


def test_a_point_of_a_large_cloud_is_caught_through_its_index(big, tmp_path):
    from vastgrid.base.progress import Silent
    from vastgrid.lineage import cloudindex

    place = big.xyz[12_345]
    alone = pointing.caught([big], place[0] + 0.01, place[1], 11.0, 0.005)
    assert alone.what == "", "not yet in order, it is not searched"
    index = cloudindex.build(big, tmp_path / "index", Silent())
    cloudindex.ready[big.content] = index
    try:
        found = pointing.caught([big], place[0] + 0.01, place[1], 11.0, 0.005)
    finally:
        del cloudindex.ready[big.content]
    assert (found.east, found.north) == pytest.approx(tuple(place[:2]), abs=0.01)


def test_the_nearest_line_is_the_nearest_of_all():
    near = np.array([(E0, N0, 1.0), (E0 + 50, N0, 1.0)])
    lines = [from_lines(name, Frame(), [near + (0, away, 0)], ["KERB"]) for name, away in (("a", 6.0), ("b", 2.0))]
    found = pointing.line_at(lines, E0 + 20.0, N0 + 0.5, 5.0)
    np.testing.assert_allclose(found[:, 1], N0 + 2.0)
    assert pointing.line_at(lines, E0 + 20.0, N0 - 9.0, 5.0) is None


def test_heights_of_many_surfaces_are_read_out_uppermost_first(window):
    window.desk.toggle_shown(named(window, "Grid"))
    said = window.plan.readout(E0 + 330.0, N0 + 215.0)
    upper, lower = [own.dataset.name for own in window.plan.items if own.dataset.name in ("Ground", "Grid")][::-1]
    assert said.count("Z ") == 2 and 0 < said.index(f"({upper})") < said.index(f"({lower})")
    assert "Z –" in window.plan.readout(E0 - 9_000.0, N0), "beyond all ground there is none"


# -- jobs


def test_another_job_is_begun_opened_and_copied(qtbot, window, monkeypatch, tmp_path):
    first = window.session.folder
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "Second"), ""))
    window.actions_["new"].trigger()
    assert (tmp_path / "Second" / "job.json").exists() and not window.session.graph.cards
    assert window.header.units.text() == "empty job" and window.windowTitle().startswith("Second")
    assert window.plan.items == [] and window.views.space.items == []
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: str(first))
    window.actions_["open"].trigger()
    settle(qtbot, window)
    assert window.session.folder == first and len(window.plan.items) == 3
    west, south, east, north = bounds(window.plan.datasets)
    x, y = window.plan.view.pixel((west + east) / 2, (south + north) / 2)
    assert (x, y) == pytest.approx((window.plan.width() / 2, window.plan.height() / 2), abs=2), "it is shown whole"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "Third"), ""))
    window.actions_["copy"].trigger()
    names = {node.name for node in Session(tmp_path / "Third").graph.cards.values()}
    assert {"Ground", "Contours"} <= names


def test_a_folder_without_a_job_is_refused(window, monkeypatch, tmp_path):
    told = []
    monkeypatch.setattr(window.desk, "tell", told.append)
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: str(tmp_path))
    before = window.session
    window.actions_["open"].trigger()
    assert "there is no job in" in told[0] and window.session is before


def test_who_names_no_job_keeps_the_present_one(window, monkeypatch):
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: ("", ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a, **k: "")
    before = window.session
    for key in ("new", "open", "copy"):
        window.actions_[key].trigger()
    assert window.session is before


def test_the_job_menu_holds_what_is_done_with_a_job(window):
    menu = window.header.job.menu()
    menu.aboutToShow.emit()
    menu.aboutToShow.emit()
    texts = list(entries(menu))
    assert len(texts) == len(set(texts)) and {"New job …", "Open a job …", "Undo", "Quit"} <= set(texts)


def test_what_cannot_hold_the_chosen_says_why(window):
    window.lineage.select([named(window, "Contours")])
    choices = {each.title: each for each in reversed(window.parts.delivering.choices())}
    assert choices["DXF drawing"].run is not None
    assert choices["GeoTIFF"].run is None and choices["GeoTIFF"].quiet == "holds grid only"


def test_the_theme_is_remembered(window):
    assert window.palette_ is theme.LIGHT
    window.actions_["theme"].trigger()
    assert window.palette_ is theme.DARK
    window.session.keeper.flush()
    again = MainWindow(Session(window.session.folder), theme.DARK)
    assert again.session.settings["theme"] == "dark"
    again.close()


def test_files_dropped_on_the_window_are_offered(window, monkeypatch, tmp_path):
    offered = []
    monkeypatch.setattr(window.parts.importing, "files", offered.extend)
    (tmp_path / "a.csv").write_text("1,2,3\n")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "a.csv")), QUrl("https://example.org/b.csv")])
    event = QDropEvent(QPointF(10, 10), Qt.DropAction.CopyAction, data, LEFT, Qt.KeyboardModifier.NoModifier)
    window.dropEvent(event)
    assert offered == [tmp_path / "a.csv"], "what lies elsewhere is not fetched"


def test_only_the_chosen_cards_are_shown_and_all_again(qtbot, window):
    window.lineage.select([named(window, "Grid")])
    window.actions_["only"].trigger()
    assert [own.dataset.name for own in window.plan.items] == ["Grid"]
    window.lineage.select([])
    window.actions_["only"].trigger()
    assert len(window.plan.items) == len(window.session.graph.cards)


def test_a_click_without_a_tool_changes_nothing(qtbot, window):
    before = window.plan.view
    click(qtbot, window.plan, E0 + 330.0, N0 + 215.0)
    assert window.plan.view == before and window.plan.tool is None


@pytest.mark.parametrize(
    ("key", "first"),
    [
        ("section", "Draw a section"),
        ("measure", "Measure from place to place"),
        ("compare", "Compare side by side with a slider"),
        ("look", "Show everything"),
        ("picture", "Picture of any size (PNG) …"),
    ],
)
def test_menus_above_the_views_hold_their_actions_once(window, key, first):
    menu = window.views.buttons[key].menu()
    menu.aboutToShow.emit()
    menu.aboutToShow.emit()
    texts = [action.text() for action in menu.actions()]
    assert texts[0] == first and len(texts) == len(set(texts)) > 1
    assert all(action in window.actions_.values() for action in menu.actions()), "the finder knows each of them too"


def test_buttons_do_what_is_written_on_them(qtbot, window, monkeypatch):
    done = []
    monkeypatch.setattr(QFileDialog, "getOpenFileNames", lambda *a, **k: done.append("import") or ([], ""))
    (importing,) = [each for each in window.header.findChildren(QToolButton) if each.text() == "Import"]
    qtbot.mouseClick(importing, LEFT)
    qtbot.mouseClick(window.status.findings, LEFT)
    assert window.parts.checking.dialog.isVisible()
    window.parts.checking.dialog.close()
    for key in ("3D", "both", "plan"):
        qtbot.mouseClick(window.views.buttons[key], LEFT)
        done.append(window.views.shown)
        settle(qtbot, window)
    assert done == ["import", "3D", "both", "plan"]
    assert window.views.buttons["plan"].isChecked() and not window.views.buttons["3D"].isChecked()


def test_buttons_of_the_section(qtbot, window, section):
    strip, before = window.views.sectioning, window.views.sectioning.line.copy()
    buttons = {each.text(): each for each in strip.findChildren(QToolButton)}
    assert set(buttons) == {"◀", "▶", "Export ▾", "✕"} and all(each.accessibleName() for each in buttons.values())
    qtbot.mouseClick(buttons["▶"], LEFT)
    # The line runs east, so its right hand is south.
    np.testing.assert_allclose(strip.line - before, [(0.0, -5.0), (0.0, -5.0)], atol=1e-9)
    qtbot.mouseClick(buttons["◀"], LEFT)
    np.testing.assert_allclose(strip.line, before, atol=1e-9)
    buttons["Export ▾"].menu().aboutToShow.emit()
    assert len(buttons["Export ▾"].menu().actions()) == 4
    qtbot.mouseClick(buttons["✕"], LEFT)
    assert strip.line is None and not strip.isVisible()
