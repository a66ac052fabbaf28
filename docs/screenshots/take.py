"""Takes the pictures of this folder anew, from the demo job.

Run it on a screen of at least 1280×800: xvfb-run -a -s "-screen 0 1400x900x24" .venv/bin/python docs/screenshots/take.py
"""

import sys
import tempfile
import time
from pathlib import Path

from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QPainter, QPixmap
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from vastgrid.base.progress import Silent
from vastgrid.demo import tollgarth
from vastgrid.qt import theme
from vastgrid.qt.main_window import MainWindow
from vastgrid.session.session import Session

HERE = Path(__file__).parent


def settle(window: MainWindow) -> None:
    """Wait until everything is drawn."""
    end = time.time() + 40
    QTest.qWait(400)
    while time.time() < end and (not window.plan.settled() or window.runner.busy):
        QTest.qWait(50)
    QTest.qWait(1200)


def named(window: MainWindow, name: str) -> str:
    """Return the id of a card."""
    return next(node.id for node in window.session.graph.nodes.values() if node.name == name)


def picture(window: QWidget, name: str) -> None:
    """Save a window with whatever floats above it."""
    shot: QPixmap = window.grab()
    painter = QPainter(shot)
    for other in QApplication.topLevelWidgets():
        if other.windowType() == Qt.WindowType.Popup and other.isVisible():
            painter.drawPixmap(other.mapToGlobal(QPoint(0, 0)) - window.mapToGlobal(QPoint(0, 0)), other.grab())
    painter.end()
    shot.save(str(HERE / f"{name}.png"))


def main() -> int:
    """Take all pictures."""
    app = QApplication(["vastgrid"])
    theme.load_fonts()
    app.setFont(theme.font())
    folder = Path(sys.argv[1]) if len(sys.argv) > 1 else Path(tempfile.mkdtemp())
    window = MainWindow(Session(tollgarth.prepare(folder, Silent())))
    window.show()
    window.lineage.select([named(window, "Existing ground")])
    settle(window)
    picture(window, "main-light")
    window.lineage.select([named(window, "Contours 1 m")])
    window.panel.edit_field("interval")
    assert window.panel.field_editor is not None
    window.panel.field_editor.editor.setText("2.5 m")  # type: ignore[attr-defined]
    QTest.qWait(1500)
    picture(window, "changing-a-sentence")
    window.panel.field_editor.hide()
    window.apply_theme(theme.DARK)
    window.lineage.select([named(window, "existing-ground.xml")])
    settle(window)
    picture(window, "main-dark")
    window.apply_theme(theme.LIGHT)
    dialog = window.importing.dialog(folder / "received" / "day3-stockpiles-again.csv")
    dialog.show()
    QTest.qWait(2000)
    picture(dialog, "import-text")
    dialog.reject()
    window.lineage.select([named(window, "Existing ground")])
    delivery = window.deliver_dialog("landxml")
    delivery.show()
    QTest.qWait(800)
    picture(delivery, "deliver")
    delivery.reject()
    window.lineage.select([named(window, "contours.dxf")])
    settle(window)
    picture(window, "read-back")
    window.close()
    return 0


if __name__ == "__main__":
    sys.exit(main())
