"""The window on a desktop: manual, recent jobs, text, theme, notifications, reports, files dragged out, names of controls."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import time

import pytest
from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QMenu,
    QMessageBox,
    QPlainTextEdit,
    QWidget,
)

from hands import named, settle
from tiling.grounds import cloud_files
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.home import faults
from vastgrid.qt.dialogs.table_dialog import TableDialog
from vastgrid.qt.widgets import theme
from vastgrid.qt.window import at_home
from vastgrid.tasks.runner import Task
from vastgrid.verification.cases import cases


def press_f1(widget):
    QApplication.sendEvent(widget, QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_F1, Qt.KeyboardModifier.NoModifier))


def test_f1_opens_the_page_of_the_chosen_card(qtbot, window):
    home = window.parts.at_home
    press_f1(window)
    assert home.manual.isVisible()
    assert home.manual.slug == "first-hour"
    window.activateWindow()
    for name, slug in (("Contours", "conversion-contours"), ("day1", "format-text")):
        window.desk.select([named(window, name)])
        home.manual.hide()
        press_f1(window)
        assert home.manual.slug == slug


def test_f1_tells_of_what_has_the_focus(qtbot, window):
    home = window.parts.at_home
    QApplication.setActiveWindow(window)
    for widget, slug in (
        (window.header.deliver, "delivering"),
        (window.finder, "keys"),
        (window.header.check, "checking"),
    ):
        widget.setFocus()
        assert home.fitting() == slug
    window.desk.select([named(window, "Ground")])
    window.parts.making.make("merge", [named(window, "Ground")], {})
    window.panel.draft.make.setFocus()
    window.panel.draft.roles["over"].setFocus()
    assert home.fitting() == "conversion-merge"
    window.parts.making.drafting.give_up()


def test_f1_reaches_the_manual_from_dialogs_too(qtbot, window):
    home = window.parts.at_home
    dialog = window.parts.delivering.dialog("dxf")
    dialog.show()
    press_f1(dialog.path)
    assert home.manual.isVisible() and home.manual.slug == "delivering"
    dialog.reject()


def test_the_manual_is_searched_and_followed(qtbot, window):
    home = window.parts.at_home
    home.show_manual("questions")
    manual = home.manual
    qtbot.keyClicks(manual.search, "hillshade light")
    qtbot.keyClick(manual.search, Qt.Key.Key_Return)
    assert manual.slug == "conversion-hillshade"
    manual.search.clear()
    manual.go_back()
    assert manual.slug == "questions"
    home.show_manual("findings#unit-unknown")
    assert "unit that is not known" in manual.text.toPlainText()
    assert manual.text.verticalScrollBar().value() > 0
    home.show_manual("larger-than-memory")
    from PyQt6.QtCore import QUrl

    manual._follow(QUrl("findings#files-gap"))
    assert manual.slug == "findings"


def test_a_finding_and_a_fault_lead_to_the_manual(qtbot, window):
    window.panel.finding_explained.emit("same-place")
    assert window.parts.at_home.manual.slug == "findings"
    window.parts.at_home.manual.hide()

    def wrong():
        raise CallError("this cannot be")

    window.desk.guarded(wrong)
    box = next(each for each in window.findChildren(QMessageBox) if each.isVisible())
    box.button(QMessageBox.StandardButton.Help).click()
    assert window.parts.at_home.manual.isVisible()


def test_the_program_is_verified_from_the_menu(qtbot, window, monkeypatch):
    # What is looked at is the way through the window; all of the cases run elsewhere.
    some = [each for each in cases() if {"volumes", "slope"} & set(each.covers)]
    monkeypatch.setattr("vastgrid.verification.cases.cases", lambda: some)
    window.actions_["verify"].trigger()
    dialogs = []

    def shown():
        dialogs[:] = [
            each for each in QApplication.topLevelWidgets() if isinstance(each, TableDialog) and each.isVisible()
        ]
        return bool(dialogs)

    qtbot.waitUntil(shown, timeout=60_000)
    table = dialogs[0].data
    assert set(table.columns["passed"].tolist()) == {b"yes"} and b"volumes.frustum" in table.columns["case"].tolist()
    dialogs[0].close()


def test_jobs_that_were_open_lately_can_be_opened_again(qtbot, window, tmp_path):
    shutil.copytree(window.session.folder, tmp_path / "Other job", ignore=shutil.ignore_patterns("lock*", "*.lock"))
    first = str(window.session.folder.resolve())
    window.parts._use(tmp_path / "Other job")
    settle(qtbot, window)
    assert at_home.recent()[:2] == [str((tmp_path / "Other job").resolve()), first]
    menu = QMenu()
    window.parts.at_home.fill_recent(menu)
    (action,) = [each for each in menu.actions() if each.toolTip() == first]
    action.trigger()
    settle(qtbot, window)
    assert str(window.session.folder.resolve()) == first


def test_text_grows_and_is_remembered(qtbot, window):
    before = window.header.job.fontMetrics().height()
    small = window.status.readout.fontMetrics().height()
    for _ in range(3):
        window.actions_["text_larger"].trigger()
    try:
        assert theme.text_size() == 1.5
        assert at_home.kept_text_size(at_home.settings()) == 1.5
        qtbot.waitUntil(lambda: window.status.readout.fontMetrics().height() > small)
        assert window.header.job.fontMetrics().height() > before
    finally:
        window.actions_["text_usual"].trigger()
    assert theme.text_size() == 1.0


def test_the_desktops_light_or_dark_counts_until_one_is_chosen(qtbot, window, monkeypatch):
    from vastgrid.qt.window import main_window

    monkeypatch.setattr(main_window, "desktop_is_dark", lambda: True)
    window.session.settings.pop("theme", None)
    window.follow_desktop()
    assert window.palette_ is theme.DARK
    window.toggle_theme()
    assert window.palette_ is theme.LIGHT
    window.follow_desktop()
    assert window.palette_ is theme.LIGHT


def test_long_work_that_ends_behind_other_windows_is_told(qtbot, window, monkeypatch):
    home, told = window.parts.at_home, []
    home.notify = lambda title, text: told.append(text)
    monkeypatch.setattr(type(window), "isActiveWindow", lambda self: False)
    for seconds in (1.0, 60.0):
        task = Task("making contours", lambda p: None, lambda r: None, lambda w, d: None)
        task.began, task.state = time.monotonic() - seconds, "done"
        home._watched = task
        home._watch()
    assert told == ["making contours is done"]


def test_a_report_of_a_crash_is_offered_once(qtbot, window, tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    try:
        raise ZeroDivisionError("planted")
    except ZeroDivisionError as error:
        faults.report(type(error), error, error.__traceback__)
    window.parts.at_home.offer_reports()
    box = next(each for each in window.findChildren(QMessageBox) if each.isVisible())
    assert "not sent" in box.text()
    next(each for each in box.buttons() if each.text() == "Show the report").click()
    text = next(each for each in window.findChildren(QPlainTextEdit) if each.accessibleName() == "Report of the crash")
    assert "planted" in text.toPlainText()
    text.window().close()
    assert faults.unseen() == []


def test_a_card_is_dragged_as_its_file(window, tmp_path):
    data = window.lineage.file_of(named(window, "day1"))
    assert data.urls()[0].toLocalFile().endswith("day1.csv")
    assert window.lineage.file_of(named(window, "Ground")) is None


def named_for_readers(widget):
    """Return what a screen reader says of a control: its own name, its text, or that of the label beside it."""
    for own in (widget.accessibleName(), getattr(widget, "text", str)() if not isinstance(widget, QLineEdit) else ""):
        if own:
            return own
    if isinstance(widget, QLineEdit) and widget.placeholderText():
        return widget.placeholderText()
    for each in widget.window().findChildren(QLabel):
        if each.buddy() is widget:
            return each.text()
    return ""


CONTROLS = (QAbstractButton, QLineEdit, QComboBox, QAbstractSpinBox, QAbstractItemView, QPlainTextEdit)


def without_names(top: QWidget):
    found = []
    for widget in top.findChildren(QWidget):
        # What is part of a larger control is told of by that.
        inner = isinstance(
            widget.parent(), QComboBox | QAbstractSpinBox | QAbstractItemView
        ) or widget.objectName().startswith("qt_")
        if isinstance(widget, CONTROLS) and not inner and widget.isVisibleTo(top) and not named_for_readers(widget):
            found.append(f"{type(widget).__name__} {widget.objectName()} in {type(widget.parent()).__name__}")
    return found


def test_every_control_has_a_name(qtbot, window):
    assert without_names(window) == []
    window.parts.at_home.show_manual()
    assert without_names(window.parts.at_home.manual) == []
    dialog = window.parts.tiling.ask()
    assert without_names(dialog) == []
    dialog.close()
    window.parts.checking.show_findings()
    assert without_names(window.parts.checking.dialog) == []


@pytest.fixture
def large(qtbot, window, tmp_path):
    folder = tmp_path / "strips"
    cloud_files(folder, 20_000)
    dialog = window.parts.tiling.ask()
    dialog.set_paths([folder])
    dialog.add_step(catalog.conversion_named("grid"), {"cell": "4", "method": "mean", "classes": "2"})
    dialog.target.setText(str(tmp_path / "ground.tif"))
    dialog.tile.setText("120m")
    dialog.workers.setValue(0)
    yield dialog
    dialog.close()


def test_a_large_folder_is_planned_worked_on_and_becomes_a_card(qtbot, window, large):
    large.look.click()
    qtbot.waitUntil(lambda: bool(large.plan.tiles), timeout=20_000)
    assert len(large.plan.files) == 5
    assert "Tiles of 120 m" in large.text.text()
    assert "MB of scratch on the disk" in large.text.text()
    large.begin.click()
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=60_000)
    qtbot.wait(50)
    assert len(large.plan.done) == len(large.plan.tiles)
    card = named(window, "ground")
    assert window.session.dataset(card).kind == "grid"
    assert window.desk.selection == [card]
    assert "read back" in large.text.text()
    assert large.begin.isEnabled()


def test_a_large_run_waits_and_stops_and_goes_on(qtbot, window, large, tmp_path):
    large.tile.setText("30m")
    large.begin.click()
    qtbot.waitUntil(lambda: len(large.plan.done) > 2, timeout=30_000)
    large.wait.click()
    qtbot.wait(300)
    number = len(large.plan.done)
    qtbot.wait(400)
    assert len(large.plan.done) == number
    large.stop.click()
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=30_000)
    assert not (tmp_path / "ground.tif").exists()
    large.begin.click()
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=60_000)
    assert (tmp_path / "ground.tif").exists()


def test_what_is_missing_is_told(qtbot, window):
    dialog = window.parts.tiling.ask()
    dialog.look.click()
    box = next(each for each in window.findChildren(QMessageBox) if each.isVisible())
    assert "name a folder" in box.text()
    box.close()
    dialog.close()


def test_tiles_are_drawn_where_they_lie(qtbot, window, large):
    from vastgrid.data.outline import Box
    from vastgrid.qt.dialogs.large_dialog import Layout

    boxes = tuple(Box(x, y, x + 10.0, y + 10.0) for y in (0.0, 10.0) for x in (0.0, 10.0))
    large.plan.show_layout(Layout("", (), boxes))
    before = large.plan.grab().toImage()
    large.plan.fill(boxes[0], good=True)
    large.plan.fill(boxes[3], good=False)
    after = large.plan.grab().toImage()
    size = after.size()
    # The first tile lies in the south-west, the last in the north-east.
    at = {
        name: QPointF(
            size.width() / 2 + across * size.height() / 5, size.height() / 2 - up * size.height() / 5
        ).toPoint()
        for name, across, up in (("sw", -1, -1), ("ne", 1, 1), ("nw", -1, 1))
    }
    assert after.pixelColor(at["sw"]).name() == theme.LIGHT.chip.lower()
    assert after.pixelColor(at["ne"]).name() == theme.LIGHT.warning.lower()
    assert after.pixelColor(at["nw"]) == before.pixelColor(at["nw"])


WAYLAND = """
import sys
from pathlib import Path
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow
from vastgrid.jobs.session import Session
app = QApplication(["vastgrid"])
theme.load_fonts()
window = MainWindow(Session(Path(sys.argv[1])))
window.show()
for _ in range(100):
    QTest.qWait(50)
    if window.windowHandle().isExposed() and window.views.settled():
        break
print(app.platformName(), window.windowHandle().isExposed(), window.devicePixelRatio())
window.close()
"""


@pytest.mark.skipif(not shutil.which("weston"), reason="weston is not installed")
def test_it_comes_up_on_wayland_and_at_twice_the_size(tmp_path):
    """On a screen of the reference compositor, and with the desktop's scale at 200 %."""
    runtime = tmp_path / "run"
    runtime.mkdir(mode=0o700)
    environment = {
        **os.environ,
        "XDG_RUNTIME_DIR": str(runtime),
        "QT_QPA_PLATFORM": "wayland",
        "WAYLAND_DISPLAY": "test",
    }
    environment |= {"QT_SCALE_FACTOR": "2", "XDG_CONFIG_HOME": str(tmp_path / "config")}
    command = ["weston", "--backend=headless-backend.so", "--width=2800", "--height=1800", "--socket=test"]
    with subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as screen:
        until = time.monotonic() + 20
        while time.monotonic() < until and not (runtime / "test").exists():
            time.sleep(0.05)
        done = subprocess.run(
            [sys.executable, "-c", WAYLAND, str(tmp_path / "job")], env=environment, capture_output=True, text=True,
            check=False, timeout=90,
        )  # fmt: skip
        screen.terminate()
    assert done.stdout.split() == ["wayland", "True", "2.0"], done.stderr
