"""The window holds on to what the user did: typed while work goes on, another job opened meanwhile, small screens."""

import threading

import pytest
from PyQt6.QtCore import QRect
from PyQt6.QtWidgets import QLabel

from hands import settle
from vastgrid.jobs.session import Session
from vastgrid.qt.widgets import theme
from vastgrid.qt.widgets.section import settings
from vastgrid.qt.window.main_window import MainWindow
from vastgrid.qt.window.window_place import fitting


def named(window, name):
    return next(node.id for node in window.session.graph.cards.values() if node.name == name)


@pytest.fixture
def slow(window, monkeypatch):
    """Making waits until it is let go."""
    gate = threading.Event()
    real = Session.remake

    def remake(self, graph, nodes, progress):
        made = real(self, graph, nodes, progress)
        gate.wait(20)
        return made

    monkeypatch.setattr(Session, "remake", remake)
    yield gate
    gate.set()


def test_a_value_typed_while_its_card_is_being_made_stays_and_is_made(qtbot, window, slow):
    contours = named(window, "Contours")
    window.parts.making.change_field(contours, "interval", "4m")
    qtbot.waitUntil(lambda: window.desk.runner.busy)
    window.parts.making.change_field(contours, "interval", "5m")
    slow.set()
    settle(qtbot, window)
    own = window.session.graph[contours]
    assert own.words["interval"] == "5.0m"
    assert window.session.graph.state(contours).value == "made"
    assert set(window.session.dataset(contours).levels % 5.0) == {0.0}


def test_several_fields_are_one_step_and_one_making(qtbot, window):
    contours = named(window, "Contours")
    window.lineage.select([contours])
    window.panel._toggle_more()
    for name, text in (("interval", "4m"), ("index", "2"), ("base", "1m")):
        window.panel.form.editors[name].setText(text)
    steps = len(window.session.history.graphs)
    window.panel._apply(window.session.graph[contours])
    settle(qtbot, window)
    assert len(window.session.history.graphs) == steps + 1
    window.parts.making.take_back()
    assert window.session.graph[contours].words["interval"] == "2.0m"


def test_a_card_never_lands_in_another_job(qtbot, window, slow, tmp_path):
    first = window.session
    window.parts.making.make("points", [named(window, "Ground")], {})
    qtbot.waitUntil(lambda: window.desk.runner.busy)
    window.desk.use_session(Session(tmp_path / "Other"))
    slow.set()
    qtbot.waitUntil(lambda: not window.desk.runner.busy)
    qtbot.wait(200)
    assert not window.session.graph.cards and window.desk.running == set()
    assert "Points" not in {node.name for node in first.graph.cards.values()}
    assert Session(first.folder).graph.cards.keys() == first.graph.cards.keys()


@pytest.mark.parametrize(
    "room", [QRect(0, 0, 1280, 800), QRect(0, 28, 1366, 740), QRect(0, 0, 1024, 700), QRect(1920, 0, 2560, 1440)]
)
def test_the_window_lies_inside_what_the_screen_leaves(window, room):
    for wanted in (QRect(0, 0, 1280, 800), QRect(-500, -300, 900, 700), QRect(5000, 4000, 3000, 2000)):
        place = fitting(wanted, room)
        whole = place.adjusted(-4, -38, 4, 4)
        assert room.contains(whole), (wanted, place)
    least = window.minimumSizeHint()
    assert least.width() <= 1016 and least.height() <= 650, "nothing in it needs more than the smallest screen has"


def test_the_window_remembers_its_place(qtbot, window, tmp_path):
    window.setGeometry(QRect(40, 60, 1100, 640))
    window.close()
    kept = settings().value("place")
    assert kept == QRect(40, 60, 1100, 640)
    again = MainWindow(Session(tmp_path / "empty"), theme.LIGHT)
    qtbot.addWidget(again)
    assert again.size() == kept.size()
    again.close()


def test_the_status_line_is_inside_the_window(qtbot, window):
    window.resize(1200, 660)
    qtbot.wait(50)
    bottom = window.status.mapTo(window, window.status.rect().bottomLeft()).y()
    assert bottom <= window.height() and window.status.height() > 15


def test_only_the_jobs_name_is_bold(window):
    menu = window.header.job.menu()
    menu.aboutToShow.emit()
    window.header.job.ensurePolished()
    menu.ensurePolished()
    assert window.header.job.font().weight() >= 600 and menu.font().weight() < 600


def test_a_long_reference_system_stays_in_the_head(qtbot, window, monkeypatch):
    name = "NAD83(2011) / Oregon GIC Lambert (intl feet), compounded with a height of another name"
    node = next(node for node in window.session.graph.cards.values() if node.outcome)
    node.figures["crs"] = name
    window.header.show_job(window.session)
    label = window.header.units
    assert isinstance(label, QLabel) and label.text().endswith("…") and name in label.toolTip()
    assert label.sizeHint().width() <= 240


def test_pictures_of_sparse_points_can_be_seen():
    import numpy as np

    from builders import METRES
    from vastgrid.data.pointset import PointSet
    from vastgrid.qt.drawing import rendering
    from vastgrid.qt.drawing.view import bounds, fitted
    from vastgrid.qt.views.lineage_layout import PICTURE

    rng = np.random.default_rng(2)
    points = PointSet(name="p", frame=METRES, xyz=rng.random((60, 3)) * (900.0, 600.0, 20.0))
    view = fitted(bounds([points]), 2 * PICTURE.width(), 2 * PICTURE.height(), 0.03)
    image = rendering.draw([points], view, theme.LIGHT, small=True)
    alpha = np.frombuffer(image.constBits().asarray(image.sizeInBytes()), np.uint8).reshape(view.height, view.width, 4)[
        ..., 3
    ]
    assert (alpha > 60).mean() > 0.04
