"""Takes the pictures of this folder anew, from the demo job.

Run it on a screen of at least 1280×800: xvfb-run -a -s "-screen 0 1400x900x24" .venv/bin/python docs/screenshots/take.py
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import ezdxf
import numpy as np
from PyQt6.QtCore import QPoint, QPointF, QSettings, QSizeF, Qt
from PyQt6.QtGui import QImage, QPainter, QPixmap
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.demo import ground, tollgarth
from vastgrid.execution.steps import read_file
from vastgrid.formats import las
from vastgrid.formats.dxf.sorting import Becomes, Rule
from vastgrid.jobs.session import Session
from vastgrid.lineage.graph import State
from vastgrid.qt.dialogs.import_dialog import ImportDialog
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow

HERE = Path(__file__).parent
sys.path += [str(HERE.parent.parent / "tests"), str(HERE.parent.parent / "tests" / "web")]


def settle(window: MainWindow) -> None:
    """Wait until everything is drawn."""
    end = time.time() + 40
    QTest.qWait(400)
    while time.time() < end and (not window.views.settled() or window.desk.runner.busy or window.parts.inspecting.busy):
        QTest.qWait(50)
    QTest.qWait(1200)


def named(window: MainWindow, name: str) -> str:
    """Return the id of a card."""
    return next(node.id for node in window.session.graph.cards.values() if node.name == name)


def picture(window: QWidget, name: str) -> None:
    """Save a window with whatever floats above it."""
    shot: QPixmap = window.grab()
    painter = QPainter(shot)
    for other in QApplication.topLevelWidgets():
        if other.windowType() == Qt.WindowType.Popup and other.isVisible():
            painter.drawPixmap(other.mapToGlobal(QPoint(0, 0)) - window.mapToGlobal(QPoint(0, 0)), other.grab())
    painter.end()
    shot.save(str(HERE / f"{name}.png"))


def ready(dialog: ImportDialog) -> None:
    """Wait until the import window has read what it shows."""
    end = time.time() + 60
    QTest.qWait(400)
    while time.time() < end and (dialog._soon.isActive() or not all(c.source or c.error for c in dialog.candidates)):
        QTest.qWait(50)
    QTest.qWait(400)


def take_imports(window: MainWindow, received: Path) -> None:
    """The import window for a drawing with rules."""
    dialog = window.parts.importing.dialog(received / "edges.dxf")
    dialog.show()
    ready(dialog)
    for rule in (
        Rule(Becomes.BOUNDARY, "Site limit", "SITE_LIMIT"),
        Rule(Becomes.BREAKLINES, "Benches", "BENCH_*", "polyline"),
        Rule(Becomes.BREAKLINES, "Pond", "POND*"),
    ):
        dialog.rules_part.add(rule)
    dialog.rules_part.table.selectRow(1)
    ready(dialog)
    picture(dialog, "import-rules")
    dialog.reject()


def take_views(window: MainWindow) -> None:
    """The views: both with a section, 3D by class, findings."""
    east, north = ground.ORIGIN
    window.lineage.select([])
    window.views.show_views("both")
    settle(window)
    window.views.sectioning.along(np.array([(east + 60, north + 215), (east + 600, north + 215)]))
    settle(window)
    window.views.sectioning.view._hover_at(130.0)
    window.views.space.zoom(1.2)
    settle(window)
    picture(window, "both-views")
    window.views.sectioning.close_section()
    window.views.show_views("3D")
    scan = named(window, "Pit scan, ground")
    window.desk.toggle_shown(scan)
    window.parts.styling.set_look(scan, {"colour": "class"})
    window.views.stretch.setValue(2.0)
    window.views.space.fit()
    window.views.space.zoom(1.3)
    window.lineage.select([scan])
    settle(window)
    picture(window, "space-class")
    window.desk.toggle_shown(scan)
    take_tools(window)


def take_tools(window: MainWindow) -> None:
    """Findings."""
    window.plan.fit()
    window.parts.checking.show_findings()
    dialog = window.parts.checking.dialog
    assert dialog is not None
    dialog.list.setCurrentRow(
        next(k for k in range(dialog.list.count()) if "across a bay" in dialog.list.item(k).text())
    )
    QTest.qWait(300)
    picture(dialog, "findings")
    dialog.reject()


def take_shaping(window: MainWindow) -> None:
    """A cut before it is made, beside a log of edits."""
    window.views.show_views("plan")
    making = window.parts.making
    making.edit(named(window, "Existing ground"), "raise -0.5 inside 431305,887190 431320,887190 431312,887205")
    settle(window)
    card = window.desk.selection[0]
    for line in ("swap 431283.52,887171.31", "line 431262,887150,201.2 431284,887160,200.6 431300,887158,200.4"):
        making.edit(card, line)
        settle(window)
    window.plan.go_to(431_300, 887_170)
    settle(window)
    window.actions_["hand_delete_triangles"].trigger()

    def at(east: float, north: float) -> QPoint:
        return QPointF(*window.plan.view.pixel(east, north)).toPoint()

    QTest.mouseClick(window.plan, Qt.MouseButton.LeftButton, pos=at(431_290, 887_163))
    for step in range(3):
        QTest.mouseMove(window.plan, at(431_316 + step, 887_176 + step))
        QTest.qWait(300)
    QTest.qWait(3000)
    picture(window, "by-hand")
    QTest.keyClick(window.plan, Qt.Key.Key_Escape)
    window.session.undo()


def take_sent(window: MainWindow, folder: Path) -> None:
    """A set for the client: the letter, then the scene in a browser, the plan and the report on paper."""
    from test_scene import Browser  # needs Chromium and its driver

    window.lineage.select([named(window, "Existing ground"), named(window, "Contours 1 m")])
    delivery = window.parts.delivering.dialog("")
    delivery.choose_set("client")
    delivery.show()
    QTest.qWait(4000)
    # The picture needs no folder of this machine.
    delivery.path.blockSignals(True)
    delivery.path.setText("existing-ground.html")
    picture(delivery, "deliver")
    delivery.reject()
    out, lines = folder / "for-the-client", folder / "contours.gpkg"
    full, surface = folder / "delivered" / "existing-ground.xml", folder / "ground.xml"
    vastgrid = [sys.executable, "-m", "vastgrid", "convert"]
    subprocess.run([*vastgrid, full, surface, "--via", "simplify", "tolerance=0.05m"], check=True)
    subprocess.run([*vastgrid, full, lines, "--via", "contours", "interval=1m"], check=True)
    words = ["--set", "client", "--into", out, "--report", out / "report.pdf"]
    subprocess.run([*vastgrid, surface, lines, *words], check=True)
    browser = Browser(folder / "profile")
    browser.open(next(out.glob("*.html")))
    browser.wait("return document.documentElement.dataset.ready")
    browser.run("document.getElementById('cut').click()")
    time.sleep(0.5)
    browser.press((470, 420))
    browser.wait("return document.getElementById('cutwords').textContent.includes('other end')")
    browser.press((860, 330))
    browser.wait("return document.getElementById('cutwords').textContent.startsWith('Section')")
    browser.hover(700, 360)
    time.sleep(1.0)
    (HERE / "scene.png").write_bytes(browser.picture())
    browser.close()
    on_paper(next(out.glob("*plan.pdf")), "plan")
    on_paper(out / "report.pdf", "report")


def on_paper(path: Path, name: str) -> None:
    """Save the first page of a file, at most 1280 by 900."""
    document = QPdfDocument(None)
    document.load(str(path))
    size = document.pagePointSize(0)
    sheet: QSizeF = size * min(1280 / size.width(), 900 / size.height())
    drawn = document.render(0, sheet.toSize())
    page = QImage(drawn.size(), QImage.Format.Format_RGB32)
    page.fill(Qt.GlobalColor.white)
    painter = QPainter(page)
    painter.drawImage(0, 0, drawn)
    painter.end()
    page.save(str(HERE / f"{name}.png"))


def take_making(window: MainWindow, folder: Path) -> None:
    """The forms of a surface beside each other, contours with labels, and slopes from a pad to the ground."""
    making, session = window.parts.making, window.session
    ground_card = named(window, "Existing ground")
    window.lineage.select([ground_card])
    dialog = window.parts.offers.which_form()
    dialog.show()
    end = time.time() + 120
    while time.time() < end and not all(each.dataset is not None for each in dialog.tries):
        QTest.qWait(100)
    dialog.table.selectRow(2)
    QTest.qWait(500)
    picture(dialog, "forms")
    dialog.reject()
    east, north = ground.ORIGIN
    drawing = ezdxf.new()
    drawing.header["$INSUNITS"] = 6
    corners = [(east + x, north + y, 252.0) for x, y in ((100, 80), (180, 80), (180, 130), (100, 130))]
    drawing.modelspace().add_polyline3d(corners, close=True, dxfattribs={"layer": "PAD"})
    drawing.saveas(folder / "pad.dxf")
    session.sources.bring_in(folder / "pad.dxf")
    window.desk.changed.emit()
    words = {"cut": "2", "fill": "2", "bench": "4m", "gives": "ground"}
    making.make("daylight", [named(window, "pad"), ground_card], words, asked=True)
    show_only(window, made(window), named(window, "pad"))
    window.views.fit()
    window.views.show_views("3D")
    settle(window)
    window.views.go_to(east + 140, north + 105, close=True)
    window.views.space.zoom(2.0)
    settle(window)
    picture(window, "daylight")


def take_answers(window: MainWindow, folder: Path) -> None:
    """Cut and fill with the difference drawn, the ground against check shots, and a recipe run on many files."""
    window.views.show_views("plan")
    cards = [named(window, name) for name in ("Existing ground", "Finished surface")]
    window.parts.making.make("volumes", cards, {}, asked=True)
    volumes = made(window)
    window.parts.checking.draw_answer(volumes)
    end = time.time() + 120
    while time.time() < end and not any(c.name == "No change" for c in window.session.graph.cards.values()):
        QTest.qWait(100)
    settle(window)
    difference = next(c.id for c in window.session.graph.cards.values() if c.operation == "difference")
    show_only(window, difference, named(window, "No change"))
    window.views.fit()
    window.lineage.select([volumes])
    settle(window)
    picture(window, "volumes")
    shots = next(c.id for c in window.session.graph.cards.values() if c.operation == "accuracy" and c.kind == "points")
    show_only(window, named(window, "Existing ground"), shots)
    window.views.fit()
    window.lineage.select([named(window, "Ground against check shots")])
    settle(window)
    picture(window, "accuracy")
    chosen = ("Contours 1 m", "Cut and fill", "Ground against check shots", "contours.dxf")
    window.lineage.select([named(window, name) for name in chosen])
    window.parts.repeating.keep(folder / "month.recipe", window.parts.repeating.recipe())
    dialog = window.parts.repeating.run(folder / "month.recipe")
    received, later = folder / "received", folder / "next-month"
    days = [received / "day1.csv", later / "day1.csv", received / "edges.dxf"]
    scans = [received / "pit-scan.laz", later / "pit-scan.laz", later / "pit-scan.laz"]
    files = {"day-1": days, "pit-scan-ground": scans}
    for slot, name in (
        ("day-2", "day2.txt"),
        ("edges", "edges.dxf"),
        ("finished-surface", "design-finished.xml"),
        ("check-shots", "day2-check-shots.csv"),
    ):
        files[slot] = [received / name] * 3
    for column, slot in enumerate(dialog.recipe.slots):
        dialog.give(0, column, files[slot.name])
    dialog.folder.setText(str(folder / "months"))
    dialog.show()
    dialog.run_or_stop()
    end = time.time() + 240
    while time.time() < end and dialog.task is not None:
        QTest.qWait(100)
    dialog.results.selectRow(1)
    dialog.folder.setText("months")
    QTest.qWait(500)
    picture(dialog, "recipe")
    dialog.reject()


def take_home(window: MainWindow, folder: Path) -> None:
    """The manual, and a folder of clouds worked on in tiles."""
    window.parts.at_home.show_manual("conversion-contours")
    manual = window.parts.at_home.manual
    assert manual is not None
    QTest.qWait(500)
    picture(manual, "manual")
    manual.hide()
    cloud = read_file(folder / "received" / "pit-scan.laz", {}, Silent()).datasets[0]
    strips = folder / "strips"
    strips.mkdir(exist_ok=True)
    # As flown: six strips beside each other, each a file.
    across = np.argsort(np.argsort(cloud.xyz[:, 0] + 0.3 * cloud.xyz[:, 1])) * 6 // len(cloud.xyz)
    for k in range(6):
        las.write([cloud.chosen(across == k)], strips / f"strip-{k + 1}.laz", las.LasWriteParams(), Silent())
    dialog = window.parts.tiling.ask()
    dialog.set_paths([strips])
    dialog.add_step(catalog.conversion_named("ground"), {"preset": "open"})
    dialog.add_step(catalog.conversion_named("grid"), {"cell": "0.5m", "method": "mean", "classes": "2"})
    dialog.target.setText(str(folder / "pit.tif"))
    dialog.tile.setText("30m")
    dialog.workers.setValue(0)
    dialog.begin.click()
    # What is being made has its name; the picture needs no folder of this machine.
    dialog.target.setText("pit.tif")
    end = time.time() + 120
    while time.time() < end and (not dialog.plan.tiles or len(dialog.plan.done) < 0.6 * len(dialog.plan.tiles)):
        QTest.qWait(20)
    picture(dialog, "large")
    while window.desk.runner.busy and time.time() < end:
        QTest.qWait(50)
    settle(window)
    dialog.close()
    window.session.undo()
    window.desk.changed.emit()


def made(window: MainWindow) -> str:
    """Wait until the chosen card is made; return it."""
    settle(window)
    card = window.desk.selection[0]
    end = time.time() + 120
    while time.time() < end and window.session.graph.state(card) is not State.MADE:
        QTest.qWait(100)
    settle(window)
    return card


def show_only(window: MainWindow, *cards: str) -> None:
    """Show some cards and no others."""
    for each in list(window.session.drawing_order()):
        window.session.show(each, shown=each in cards)
    window.desk.changed.emit()
    settle(window)


def take_cleaning(window: MainWindow) -> None:
    """Points picked in a section, with the classes before above it."""
    session = window.session
    scan = named(window, "Pit scan, ground")
    node = session.plan("ground", [scan], {"preset": "open"})
    session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), "ground")
    window.desk.changed.emit()
    settle(window)
    window.lineage.select([node.outputs[0].card])
    window.desk.isolate()
    settle(window)
    window.views.fit()
    strip = window.views.sectioning
    strip.along(np.array([(431_120.0, 887_210.0), (431_500.0, 887_235.0)]))
    strip.before.setChecked(True)
    settle(window)
    strip.view.zoom(4.0, 90.0)
    window.views.buttons["pick"].click()
    for x, y in ((0.32, 0.2), (0.62, 0.2), (0.62, 0.62), (0.32, 0.62)):
        at = QPoint(int(strip.view.width() * x), int(strip.view.height() * y))
        QTest.mouseClick(strip.view, Qt.MouseButton.LeftButton, pos=at)
    QTest.keyClick(strip.view, Qt.Key.Key_Return)
    QTest.qWait(1500)
    settle(window)
    picture(window, "clean-cloud")
    window.parts.picking.run("pick_none")
    strip.close_section()
    session.undo()
    window.desk.changed.emit()
    settle(window)


def main() -> int:
    """Take all pictures."""
    app = QApplication(["vastgrid"])
    theme.load_fonts()
    app.setFont(theme.font())
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(tempfile.mkdtemp())
    # The usual size of a window, whatever is remembered on this machine.
    QSettings.setPath(QSettings.Format.IniFormat, QSettings.Scope.UserScope, str(folder / "settings"))
    window = MainWindow(Session(tollgarth.prepare(folder, Silent())))
    window.show()
    window.lineage.select([named(window, "Existing ground")])
    settle(window)
    picture(window, "main-light")
    window.apply_theme(theme.DARK)
    window.lineage.select([named(window, "existing-ground.xml")])
    settle(window)
    picture(window, "main-dark")
    window.apply_theme(theme.LIGHT)
    take_imports(window, folder / "received")
    take_sent(window, folder)
    take_home(window, folder)
    before = set(window.session.graph.cards)
    take_making(window, folder)
    take_answers(window, folder)
    for _ in range(40):
        if set(window.session.graph.cards) == before:
            break
        window.session.undo()
    window.views.show_views("plan")
    show_only(window, named(window, "Existing ground"), named(window, "Contours 1 m"))
    take_views(window)
    take_cleaning(window)
    take_shaping(window)
    window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
