"""The real window, driven by mouse and keyboard; run under Xvfb or offscreen."""

import gc
import shutil
import time

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, QMimeData, QPoint, QPointF, Qt, QTimer, QUrl
from PyQt6.QtGui import QColor, QDropEvent
from PyQt6.QtWidgets import QApplication, QComboBox, QLabel, QLineEdit, QMessageBox, QPushButton

from hands import on_page
from vastgrid.jobs.plain_words import understood
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import State
from vastgrid.measures.heights import heights
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.section import Section
from vastgrid.qt.window.main_window import MainWindow


@pytest.fixture
def job(demo, tmp_path):
    """A small job of its own: two files, ground and contours."""
    from vastgrid.base.progress import Silent

    session = Session(tmp_path / "Tollgarth test")
    for name in ("day1.csv", "day2.txt", "edges.dxf"):
        shutil.copy(demo / "received" / name, tmp_path / name)
    for name in ("day1.csv", "day2.txt"):
        session.sources.bring_in(tmp_path / name)
    points = list(session.graph.cards)
    for operation, inputs, words in (("tin", points, {}), ("contours", None, {"interval": "2m"})):
        node = session.plan(operation, inputs or [list(session.graph.cards)[-1]], words)
        session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "make")
    return session


@pytest.fixture
def window(qtbot, job):
    theme.load_fonts()
    made = MainWindow(job)
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    qtbot.waitUntil(made.plan.settled, timeout=30_000)
    yield made
    made.close()


def named(window, name):
    return next(node.id for node in window.session.graph.cards.values() if node.name == name)


def card(window, name):
    return next(card for card in window.lineage.cards if card.node == named(window, name))


def idle(qtbot, window):
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=60_000)
    qtbot.wait(80)


def message(qtbot):
    """Return the text of the message box that is open, and close it."""
    found = []

    def look():
        found.extend(w for w in QApplication.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible())
        return bool(found)

    qtbot.waitUntil(look, timeout=5000)
    text = found[0].text() + found[0].informativeText()
    # As a press of Escape: a message goes away however it is closed.
    found[0].reject()
    assert not found[0].isVisible()
    return text


def test_what_is_seen_first(window):
    assert window.windowTitle() == "Tollgarth test – Vast Grid"
    assert [window.lineage.graph[c.node].name for c in window.lineage.cards] == [
        "day1",
        "day2",
        "Ground",
        "Contours 2 m",
    ]
    assert [c.column for c in window.lineage.cards] == [0, 0, 1, 2]
    assert "m · m · local grid" in window.header.units.text()


def test_readout_is_the_ground_under_the_cursor(qtbot, window):
    plan = window.plan
    x, y = plan.width() // 2, plan.height() // 2
    qtbot.mouseMove(plan, QPoint(x, y))
    east, north = plan.view.world(x, y)
    z = heights(window.session.dataset(named(window, "Ground")), np.array([[east, north]]))[0]
    text = plan.readout(east, north)
    assert f"Z {z:.3f} (Ground)" in text


def test_colour_under_a_pixel_is_the_heights(window):
    window.session.show(named(window, "Contours 2 m"), shown=False)
    for name in ("day1", "day2"):
        window.session.show(named(window, name), shown=False)
    window.refresh()
    from PyQt6.QtTest import QTest

    QTest.qWait(700)
    picture = window.plan.grab().toImage()
    ratio = picture.width() / window.plan.width()
    ground = window.session.dataset(named(window, "Ground"))
    low = ground.vertices[ground.vertices[:, 2].argmin()]
    high = ground.vertices[ground.vertices[:, 2].argmax()]
    at = [window.plan.view.pixel(*place[:2]) for place in (low, high)]
    dark, pale = (QColor(picture.pixel(int(x * ratio), int(y * ratio))).lightness() for x, y in at)
    assert pale > dark + 40, "the ramp runs from dark, low to pale, high"


def test_zoom_keeps_the_place_under_the_cursor(qtbot, window):
    plan = window.plan
    before = plan.view.world(200, 150)
    plan.zoom(3.0, QPointF(200, 150))
    assert plan.view.world(200, 150) == pytest.approx(before)
    qtbot.waitUntil(plan.settled, timeout=30_000)
    qtbot.keyClick(plan, Qt.Key.Key_F)
    assert plan.view.world(0, 0) != before
    for key in (Qt.Key.Key_Plus, Qt.Key.Key_Left, Qt.Key.Key_Up, Qt.Key.Key_Minus):
        view = plan.view
        qtbot.keyClick(plan, key)
        assert plan.view != view


def test_choosing_cards_with_mouse_and_keyboard(qtbot, window):
    place = card(window, "Ground").place.center().toPoint()
    qtbot.mouseClick(window.lineage, Qt.MouseButton.LeftButton, pos=place)
    assert window.lineage.selection == [named(window, "Ground")]
    assert "TIN from day1 and day2" in window.panel.sentence.text().replace("&nbsp;", " ")
    qtbot.keyClick(window.lineage, Qt.Key.Key_Right)
    assert window.lineage.selection == [named(window, "Contours 2 m")]
    qtbot.keyClick(window.lineage, Qt.Key.Key_Left)
    qtbot.keyClick(window.lineage, Qt.Key.Key_Left)
    qtbot.keyClick(window.lineage, Qt.Key.Key_Down, Qt.KeyboardModifier.ShiftModifier)
    assert len(window.lineage.selection) == 2
    qtbot.keyClick(window.lineage, Qt.Key.Key_Space)
    assert sum(node.shown for node in window.session.graph.cards.values()) == 3


def test_a_changed_sentence_makes_all_that_follows_again(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    window.panel.edit_field("max_edge")
    editor = window.panel.field_editor
    assert isinstance(editor.editor, QLineEdit)
    qtbot.keyClicks(editor.editor, "nonsense")
    assert "not a length" in editor.error.text() and not editor.button.isEnabled()
    editor.editor.clear()
    qtbot.keyClicks(editor.editor, "30m")
    before = window.session.dataset(named(window, "Contours 2 m")).digest
    qtbot.keyClick(editor.editor, Qt.Key.Key_Return)
    idle(qtbot, window)
    graph = window.session.graph
    assert all(graph.state(node) is State.MADE for node in graph.cards)
    assert window.session.dataset(named(window, "Contours 2 m")).digest != before
    assert "30 m" in window.panel.sentence.text().replace("&nbsp;", " ")
    window.actions_["undo"].trigger()
    assert window.session.dataset(named(window, "Contours 2 m")).digest == before


def test_editing_shows_the_result_before_it_is_made(qtbot, window):
    window.lineage.select([named(window, "Contours 2 m")])
    window.panel.edit_field("interval")
    window.panel.field_editor.editor.setText("7m")
    qtbot.waitUntil(lambda: window.plan.preview is not None, timeout=10_000)
    assert set(np.round(np.diff(np.unique(window.plan.preview.levels)), 6)) == {7.0}
    window.panel.field_editor.hide()
    assert window.plan.preview is None
    assert "2m" in window.session.graph[named(window, "Contours 2 m")].words["interval"].replace(".0", "")


def test_making_from_a_card(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    sheet = window.choose_make()
    qtbot.waitUntil(lambda: sheet.quiet_of("Grid").startswith("cells of"), timeout=20_000)
    assert "as GeoTIFF" in sheet.quiet_of("Grid")
    qtbot.keyClicks(sheet.field, "grid")
    qtbot.keyClick(sheet.field, Qt.Key.Key_Return)
    idle(qtbot, window)
    made = window.session.graph[window.lineage.selection[0]]
    assert made.operation == "grid" and made.outcome.loss.largest > 0


def test_the_finder_takes_actions_cards_and_sentences(qtbot, window):
    window.actions_["find"].trigger()
    qtbot.keyClicks(window.finder, "contours 0.5 m index 4 from ground")
    assert window.finder.hits[0].text.startswith("Make: Contours interval 0.5m index 4 from Ground")
    qtbot.keyClick(window.finder, Qt.Key.Key_Return)
    idle(qtbot, window)
    node = window.session.graph[window.lineage.selection[0]]
    assert (node.words["interval"], node.words["index"]) == ("0.5m", "4")
    qtbot.keyClicks(window.finder, "light")
    assert any("light and dark" in hit.text for hit in window.finder.hits)
    qtbot.keyClick(window.finder, Qt.Key.Key_Escape)
    assert not window.finder.list.isVisible()
    assert understood("make me a sandwich", window.session, []) is None


def test_importing_a_text_file(qtbot, window, tmp_path):
    (tmp_path / "new.csv").write_text(
        "a,b,c\n" + "".join(f"{431100 + k},{887100 + k * k % 17},{230 + k % 3}\n" for k in range(40))
    )
    dialog = window.parts.importing.dialog(tmp_path / "new.csv")
    dialog.show()
    qtbot.waitUntil(lambda: dialog.source is not None, timeout=20_000)
    assert "do not say which columns are coordinates" in dialog.findings.text()
    assert [box.currentText() for box in dialog.table.boxes] == ["easting", "northing", "elevation"]
    assert dialog.units.boxes[0].isVisible(), "an unknown unit is asked for"
    dialog.table.boxes[1].setCurrentText("easting")
    assert "easting is given to columns 1 and 2" in dialog.role_error.text()
    assert not dialog.take.isEnabled()
    dialog.table.boxes[0].setCurrentText("northing")
    dialog.units.boxes[0].setCurrentText("metre")
    qtbot.waitUntil(lambda: dialog.take.isEnabled() and not dialog._soon.isActive(), timeout=20_000)
    qtbot.waitUntil(lambda: "northing" in dialog.words.get("columns", ""), timeout=20_000)
    dialog.take.click()
    idle(qtbot, window)
    node = window.session.graph[window.lineage.selection[0]]
    assert node.name == "new" and node.node.units == ("m", "")
    points = window.session.dataset(node.id)
    assert points.xyz[3, 1] == 431103.0
    assert window.session.settings["reading"]["text"]["columns"].startswith("northing")


def test_a_bad_file_is_told_in_the_dialog(qtbot, window, tmp_path):
    (tmp_path / "bad.laz").write_bytes(b"LASF" + b"\0" * 400)
    dialog = window.parts.importing.dialog(tmp_path / "bad.laz")
    dialog.show()
    qtbot.waitUntil(lambda: dialog.error.text() != "", timeout=20_000)
    assert "bad.laz" in dialog.error.text() and not dialog.take.isEnabled()
    dialog.reject()


def test_dropping_files(qtbot, window, tmp_path, monkeypatch):
    dropped = []
    monkeypatch.setattr(window.parts.importing, "files", dropped.extend)
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "edges.dxf"))])
    event = QDropEvent(
        QPointF(5, 5),
        Qt.DropAction.CopyAction,
        data,
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
        QEvent.Type.Drop,
    )
    window.dropEvent(event)
    assert [path.name for path in dropped] == ["edges.dxf"]


def test_delivering_shows_what_the_file_will_hold_and_reads_it_back(qtbot, window, tmp_path):
    window.lineage.select([named(window, "Ground")])
    dialog = window.parts.delivering.dialog("")
    dialog.show()
    assert dialog.format.id == "landxml"
    assert "triangles" in dialog.shown.words.text() and "about" in dialog.shown.words.text()
    dialog.path.setText(str(tmp_path / "no" / "folder.xml"))
    assert "there is no folder" in dialog.error.text() and not dialog.write.isEnabled()
    dialog.path.setText(str(tmp_path / "ground.xml"))
    dialog.units[0].setCurrentText("US survey foot")
    assert "heights were brought from metre to US survey foot" in dialog.shown.words.text()
    dialog.write.click()
    idle(qtbot, window)
    node = window.session.graph[window.lineage.selection[0]]
    assert node.outcome.delivery.good and (tmp_path / "ground.xml").exists()
    shown = " ".join(label.text() for label in on_page(window.panel, type(window.panel.sentence)))
    sections = [section.title for section in on_page(window.panel, Section)]
    assert "Read back from disk" in sections and "triangles" in shown


def test_compare_two_surfaces(qtbot, window):
    window.parts.making.make("grid", [named(window, "Ground")], {"cell": "10m"})
    idle(qtbot, window)
    grid = window.lineage.selection[0]
    window.lineage.select([named(window, "Ground"), grid])
    buttons = [b for b in on_page(window.panel, QPushButton) if b.text() == "Compare them"]
    buttons[0].click()
    idle(qtbot, window)
    (made,) = [window.session.graph[n] for n in window.lineage.selection]
    assert made.kind == "table" and [use.role for use in made.node.uses] == ["old", "new"]
    qtbot.waitUntil(lambda: any(name == "Largest difference" for name, _ in window.panel.figures.rows), timeout=5000)
    assert "They differ by" in " ".join(each.text() for each in on_page(window.panel, QLabel))
    assert window.plan.mark is not None
    assert made.name == "Heights 10 m above Ground" and made.id not in window.session.drawing_order()
    window.parts.making.take_back()
    assert made.id not in window.session.graph, "the answer is a step like any other"


def test_failures_are_told_and_nothing_is_lost(qtbot, window):
    before = window.session.graph
    window.desk.start("failing", lambda progress: 1 / 0, lambda made: None)
    idle(qtbot, window)
    assert "division by zero" in message(qtbot)
    assert window.session.graph == before
    window.desk.guarded(window.parts.checking.compare_chosen)
    assert "choose two surfaces" in message(qtbot)


def test_cancel_in_the_middle(qtbot, window):
    before = window.session.graph

    def endless(progress):
        while True:
            progress.report(0.3)
            time.sleep(0.005)

    window.desk.start("working without end", endless, lambda made: None)
    qtbot.waitUntil(window.status.cancel.isVisible, timeout=5000)
    assert window.status.task_text.text() == "working without end"
    window.status.cancel.click()
    idle(qtbot, window)
    assert not window.status.cancel.isVisible() and "nothing was changed" in window.desk.message
    assert window.session.graph == before


def test_the_window_answers_while_work_goes_on(qtbot, window):
    """A timer that should tick every 10 ms measures how long the interface was ever held up."""
    # What hundreds of tests before left behind is not the window's to sweep.
    gc.collect()
    gc.freeze()
    timer = QTimer()

    def longest_gap(interval):
        gaps, last = [], time.perf_counter()

        def tick():
            nonlocal last
            now = time.perf_counter()
            gaps.append(now - last)
            last = now

        timer.timeout.connect(tick)
        window.parts.making.make("contours", [named(window, "Ground")], {"interval": interval})
        timer.start(10)
        last = time.perf_counter()
        qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=60_000)
        timer.stop()
        timer.timeout.disconnect(tick)
        return np.median(gaps), max(gaps)

    # The promise is 100 ms. A window that is held up by its own work is so every time, by others on the machine not.
    for interval in ("0.1m", "0.11m", "0.12m", "0.13m"):
        median, worst = longest_gap(interval)
        if median < 0.03 and worst < 1.0:
            break
    gc.unfreeze()
    assert median < 0.03
    assert worst < 1.0


def test_both_themes_have_enough_contrast():
    def luminance(text):
        colour = QColor(text)
        parts = [
            c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4
            for c in (colour.redF(), colour.greenF(), colour.blueF())
        ]
        return 0.2126 * parts[0] + 0.7152 * parts[1] + 0.0722 * parts[2]

    # Contrast by WCAG 2.1, success criterion 1.4.3: at least 4.5:1 for text.
    for palette in (theme.LIGHT, theme.DARK):
        for front in ("ink", "quiet", "action", "warning", "error"):
            for back in ("paper", "raised", "band"):
                a, b = sorted((luminance(getattr(palette, front)), luminance(getattr(palette, back))))
                assert (b + 0.05) / (a + 0.05) >= 4.5, (palette.name, front, back)
        a, b = sorted((luminance(palette.on_action), luminance(palette.action)))
        assert (b + 0.05) / (a + 0.05) >= 4.5


def test_every_control_can_be_reached_and_has_a_name(window):
    for kind in (QLineEdit, QComboBox, QPushButton):
        for widget in window.findChildren(kind):
            assert widget.focusPolicy() & Qt.FocusPolicy.TabFocus
    for view in (window.plan, window.lineage):
        assert view.focusPolicy() & Qt.FocusPolicy.TabFocus and view.accessibleName()
    for action in window.actions_.values():
        assert action.text()


def test_an_empty_job_says_what_to_do(qtbot, tmp_path):
    window = MainWindow(Session(tmp_path / "Empty"), theme.DARK)
    qtbot.addWidget(window)
    window.show()
    qtbot.waitExposed(window)
    assert window.header.units.text() == "empty job"
    assert not window.plan.grab().isNull()
    for key in ("undo", "redo", "remove"):
        assert not window.actions_[key].isEnabled()
    window.parts.making.remake_all()
    assert window.desk.message == "nothing is out of date"
    window.close()
