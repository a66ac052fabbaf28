"""A window on a job with everything that can be seen, for the tests of looking."""

import shutil

import pytest
from PyQt6.QtCore import QSettings

from hands import looked, settle
from vastgrid.base.progress import Silent
from vastgrid.jobs.session import Session
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow


@pytest.fixture(autouse=True)
def place(tmp_path):
    """What is remembered of the window stays with the test."""
    QSettings.setPath(QSettings.Format.IniFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))


@pytest.fixture(scope="module")
def made(demo, tmp_path_factory):
    """A job with two surfaces, contours, edges and a classified cloud."""
    folder = tmp_path_factory.mktemp("views")
    session = Session(folder / "Tollgarth views")
    for name, words in (("day1.csv", {}), ("day2.txt", {}), ("edges.dxf", {}), ("pit-scan.laz", {"thin": "2m"})):
        session.sources.bring_in(demo / "received" / name, words)
    ids = {node.name: node.id for node in session.graph.cards.values()}
    for operation, inputs, words, name in (
        ("tin", [ids["day1"], ids["day2"], ids["edges"]], {"boundary": "SITE_LIMIT"}, "Ground"),
        ("contours", ["Ground"], {"interval": "2m"}, "Contours"),
        ("grid", ["Ground"], {"cell": "4m"}, "Grid"),
    ):
        own = [next(n.id for n in session.graph.cards.values() if n.name == i) if i == "Ground" else i for i in inputs]
        node = session.plan(operation, own, words)
        graph = session.graph.with_node(node).changed(node.id, name=name)
        session.change(session.remake(graph, [node.id], Silent()), f"make {name}")
    for name in ("day1", "day2", "pit-scan", "Grid"):
        session.show(next(n.id for n in session.graph.cards.values() if n.name == name), shown=False)
    return session.folder


@pytest.fixture
def window(qtbot, made, tmp_path):
    shutil.copytree(made, tmp_path / "job")
    theme.load_fonts()
    own = MainWindow(Session(tmp_path / "job"))
    qtbot.addWidget(own)
    own.show()
    qtbot.waitExposed(own)
    settle(qtbot, own)
    yield own
    own.close()


@pytest.fixture
def demo_window(qtbot, demo, tmp_path):
    """A window on a copy of the demo's job, everything looked at."""
    shutil.copytree(demo / "Tollgarth restoration", tmp_path / "job")
    theme.load_fonts()
    own = MainWindow(Session(tmp_path / "job"))
    qtbot.addWidget(own)
    own.show()
    qtbot.waitExposed(own)
    looked(qtbot, own)
    yield own
    own.close()
