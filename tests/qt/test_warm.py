"""Looking at things compiles nothing: a compiler at work holds the window up for seconds."""

import os
import subprocess
import sys
from pathlib import Path

SCRIPT = """
import importlib, pkgutil, shutil, sys
from pathlib import Path
import vastgrid.kernels
from vastgrid.kernels import warm
from numba.core.dispatcher import Dispatcher

modules = [importlib.import_module(m.name) for m in pkgutil.walk_packages(vastgrid.kernels.__path__, "vastgrid.kernels.")]
def known():
    found = {}
    for module in modules:
        for name, each in vars(module).items():
            if isinstance(each, Dispatcher):
                found[f"{module.__name__}.{name}"] = set(each.signatures)
    return found
warm.warm()
before = known()

from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
import numpy as np
app = QApplication(["warm"])
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow
from vastgrid.jobs.session import Session
theme.load_fonts()
folder = Path(sys.argv[2])
shutil.copytree(sys.argv[1], folder)
window = MainWindow(Session(folder))
window.show()
def settle():
    for _ in range(400):
        QTest.qWait(50)
        if window.views.settled() and not window.parts.inspecting.busy and not window.parts.figuring.busy and not window.desk.runner.busy:
            return
settle()
named = {n.name: n.id for n in window.session.graph.cards.values()}
for name, node in named.items():
    window.session.show(node, shown=True)
window.refresh()
window.views.show_views("both")
settle()
for by in ("slope", "aspect", "difference", "one colour", "source", "elevation"):
    window.parts.styling.set_look(named["Existing ground"], {"colour": by, "against": "Heights 1 m"})
    settle()
window.parts.styling.set_look(named["Existing ground"], {"opacity": "50", "heights": "200 … 210"})
for by in ("class", "intensity", "difference", "source"):
    window.parts.styling.set_look(named["Pit scan, ground"], {"colour": by, "against": "Heights 1 m", "hidden": "9"})
    settle()
window.plan.turn_to(30.0)
settle()
east, north = window.plan.view.east, window.plan.view.north
window.plan.caught(window.plan.rect().center().toPointF())
window.plan.readout(east, north)
window.views.sectioning.along(np.array([(east - 150, north), (east + 150, north + 20)]))
window.views.cut.setChecked(True)
settle()
for node in named.values():
    window.lineage.select([node])
    settle()
window.plan.line_at(east, north)
window.close()
after = known()
for name in after:
    for signature in after[name] - before.get(name, set()):
        print(name, signature)
"""


def test_everything_that_draws_is_compiled_beforehand(demo, tmp_path):
    done = subprocess.run(
        [sys.executable, "-c", SCRIPT, str(demo / "Tollgarth restoration"), str(tmp_path / "job")],
        capture_output=True,
        text=True,
        timeout=280,
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen"},
        cwd=Path(__file__).parents[2],
    )
    assert done.returncode == 0, done.stderr[-3000:]
    assert not done.stdout.strip(), done.stdout
