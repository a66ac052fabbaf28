"""Every screen of the real window is looked at, at three sizes, with small and large text, light and dark: see `walker`."""

import shutil

import pytest
from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QApplication, QDialog, QHBoxLayout, QLabel, QLineEdit, QMenu, QPushButton, QToolButton

import walker
from hands import makeable, named, settle
from vastgrid import catalog
from vastgrid.base.progress import Silent
from vastgrid.jobs.session import Session
from vastgrid.qt.dialogs.go_dialog import GoDialog
from vastgrid.qt.dialogs.height_dialog import HeightDialog
from vastgrid.qt.dialogs.interval_dialog import IntervalDialog
from vastgrid.qt.dialogs.pick_dialogs import ClassDialog, HeightsDialog
from vastgrid.qt.dialogs.picture_dialogs import PictureDialog, SheetDialog
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow

# Each size with small and with large text, each text and each size in light and in dark.
LOOKS = (
    ((1024, 768), 1.0, theme.LIGHT),
    ((1024, 768), 1.5, theme.DARK),
    ((1280, 800), 1.0, theme.DARK),
    ((1280, 800), 1.5, theme.LIGHT),
    ((1920, 1080), 1.0, theme.LIGHT),
    ((1920, 1080), 1.5, theme.DARK),
)


@pytest.fixture(scope="module")
def whole(made, demo, tmp_path_factory):
    """The job of the tests of looking, with an answer, a delivery, edits by hand, a failure to be, and something out of date."""
    folder = tmp_path_factory.mktemp("walker") / "Tollgarth restoration"
    shutil.copytree(made, folder)
    session = Session(folder)
    ids = {card.name: card.id for card in session.graph.cards.values()}
    for operation, inputs, words in (
        ("volumes", ["Ground", "Grid"], {}),
        ("accuracy", ["Ground", "day2"], {}),
        ("edit", ["Ground"], {"log": "raise -0.5 inside 431305,887190 431320,887190 431312,887205"}),
        ("bands", ["Ground"], {"interval": "5m"}),
        ("solid", ["Ground"], {}),
    ):
        node = session.plan(operation, [ids[each] for each in inputs], words)
        session.change(session.remake(session.graph.with_node(node), [node.id], Silent()), operation)
    sent = session.plan_delivery("landxml", [ids["Ground"]], {}, folder / "ground.xml", (None, None))
    session.change(session.remake(session.graph.with_node(sent), [sent.id], Silent()), "deliver")
    session.change(session.graph.with_node(session.with_words(ids["Contours"], {"interval": "5m"})), "stale")
    session.close()
    return session.folder


@pytest.fixture
def look(qtbot, whole, tmp_path, request):
    """A window in one of the looks."""
    size, text, palette = request.param
    shutil.copytree(whole, tmp_path / "job")
    theme.load_fonts()
    theme.set_text_size(text)
    QApplication.instance().setFont(theme.font())
    own = MainWindow(Session(tmp_path / "job"), palette)
    own.apply_theme(palette)
    qtbot.addWidget(own)
    own.resize(*size)
    own.show()
    qtbot.waitExposed(own)
    settle(qtbot, own)
    yield own
    own.close()
    theme.set_text_size(1.0)
    QApplication.instance().setFont(theme.font())


def panels(qtbot, window):
    """Give every state of the panel by its name, the window being what is looked at."""
    window.lineage.select([])
    yield "nothing chosen", window
    for card in list(window.session.graph.cards.values()):
        window.lineage.select([card.id])
        yield f"card {card.name}", window
    window.lineage.select([named(window, "Ground"), named(window, "Grid")])
    yield "two cards", window
    window.lineage.select([named(window, "Ground")])
    window.panel._toggle_more()
    yield "all options", window
    window.panel._toggle_more()
    window.desk.failures[named(window, "Grid")] = "the disk has no room for it: 12 MB are free, 40 MB are needed"
    window.lineage.select([named(window, "Grid")])
    yield "a failure", window
    window.desk.failures.clear()
    window.desk.running.add(named(window, "Grid"))
    window.lineage.select([named(window, "Grid")])
    yield "being made", window
    window.desk.running.clear()
    window.lineage.select([named(window, "Ground")])
    makeable(window)["Merge surfaces"].run()
    yield "a step that lacks a surface", window
    window.parts.making.drafting.fill(named(window, "Ground, by hand"))
    yield "a step that lacks nothing", window
    window.parts.making.drafting.give_up()
    for which in ("3D", "both", "plan"):
        window.views.show_views(which)
        settle(qtbot, window)
        yield f"view {which}", window


def sheets(qtbot, window):
    """Give the sheets, the finder and the editor of a field."""
    window.lineage.select([named(window, "Ground")])
    for name, own in (("make", window.choose_make()), ("deliver", window.parts.delivering.choose())):
        yield f"sheet {name}", own
        own.close()
    window.finder.begin()
    qtbot.keyClicks(window.finder, "contours")
    yield "finder", window
    window.finder.leave()
    window.lineage.select([named(window, "Contours")])
    window.panel.edit_field("interval")
    yield "field", window.panel.field_editor
    window.panel.field_editor.close()


def dialogs(qtbot, window, demo):
    """Give every dialog."""
    parts, graph = window.parts, window.session.graph
    ground, grid, cloud = (named(window, name) for name in ("Ground", "Grid", "pit-scan"))

    def shown(name, own):
        own.show()
        qtbot.wait(30)
        settle(qtbot, window)
        return name, own

    window.lineage.select([ground])
    for chosen in ("", "designer", "machine", "architect", "client"):
        own = parts.delivering.dialog("" if chosen else "landxml")
        if chosen:
            own.choose_set(chosen)
        yield shown(f"deliver {chosen}", own)
        own.reject()
    own = parts.delivering.dialog("dxf")
    yield shown("deliver as DXF", own)
    own.reject()
    for name in ("edges.dxf", "day1.csv", "pit-scan.laz", "surroundings-1998.tif", "design-finished.xml"):
        own = parts.importing.dialog(demo / "received" / name)
        own.show()
        qtbot.waitUntil(lambda own=own: all(each.source or each.error for each in own.candidates), timeout=30_000)
        yield shown(f"import {name}", own)
        own.reject()
    for conversion in catalog.CONVERSIONS:
        if conversion.ask or not conversion.single:
            cards = (ground, named(window, "Ground, by hand"), grid, cloud)
            for given in ([cards[0]], [cards[0], cards[1]], [cards[2]], [cards[3]], [named(window, "edges"), cards[0]]):
                if conversion.assigned([window.session.named(card) for card in given]) is not None:
                    own = parts.offers.ask_dialog(conversion.id, given, {})
                    yield shown(f"ask {conversion.id}", own)
                    own.reject()
                    break
    own = parts.offers.which_form()
    yield shown("forms", own)
    own.reject()
    parts.checking.show_findings()
    yield shown("findings", parts.checking.dialog)
    parts.checking.dialog.thresholds.setVisible(True)
    yield shown("thresholds", parts.checking.dialog)
    parts.checking.dialog.reject()
    own = parts.checking.show_table(window.session.named(next(c.id for c in graph.cards.values() if c.kind == "table")))
    yield shown("table", own)
    own.close()
    window.lineage.select([named(window, "Contours"), ground])
    own = parts.repeating.run(_recipe(window))
    yield shown("run a recipe", own)
    own.reject()
    own = parts.tiling.ask()
    own.set_paths([demo / "received" / "pit-scan.laz"])
    own.add_step(catalog.conversion_named("grid"), {"cell": "0.5m"})
    yield shown("large folder", own)
    own.close()
    for name, own in (
        ("go", GoDialog(window, "431204.200 887162.100")),
        ("height", HeightDialog(window, "Vertex at 431204.2, 887162.1", 232.88, "m")),
        ("heights", HeightsDialog(window, "120 points in a box", 201.2, 244.4, "m")),
        ("class", ClassDialog(window, "120 points")),
        ("interval", IntervalDialog(window, window.session.named(named(window, "Contours")))),
        ("picture", PictureDialog(window.views, QSize(900, 500), "plan")),
        ("sheet", SheetDialog(window.views, window.session.name, 1000)),
    ):
        yield shown(name, own)
        own.reject()
    own = parts.checking.look_into(str(demo / "received" / "design-finished.xml"))
    yield shown("tree", own)
    own.close()
    parts.at_home.show_manual("conversion-contours")
    yield shown("manual", parts.at_home.manual)
    parts.at_home.manual.hide()


def _recipe(window):
    path = window.session.folder / "month.recipe"
    window.parts.repeating.keep(path, window.parts.repeating.recipe())
    return path


def _lasting(qtbot, own):
    """Return the faults of a window that are there still when everything has been laid out."""
    seen = []
    for pause in (10, 60, 200):
        qtbot.wait(pause)
        seen = [*walker.faults(own), *walker.lost(own), *walker.pale(own)]
        if not seen:
            break
    return seen


@pytest.mark.parametrize("look", LOOKS, indirect=True, ids=lambda look: f"{look[0][0]}-{look[1]:g}-{look[2].name}")
def test_nothing_is_cut_covered_or_out_of_reach(qtbot, look, demo):
    found, looked = {}, 0
    walks = [panels(qtbot, look), sheets(qtbot, look)]
    if look.width() != 1280:
        # A dialog knows of the window's size only that it may not be larger: the smallest and the largest tell.
        walks.append(dialogs(qtbot, look, demo))
    for walk in walks:
        for name, own in walk:
            looked += 1
            for fault in _lasting(qtbot, own):
                found.setdefault(fault, name)
    assert looked > (60 if look.width() != 1280 else 25)
    # A menu may not be taller than 70 % of the smallest screen.
    for fault in walker.tall_menus(look, 768):
        found.setdefault(fault, "menus")
    assert not found, "\n".join(f"{name}: {fault}" for fault, name in found.items())


@pytest.mark.parametrize("look", LOOKS[:3:2], indirect=True, ids=lambda look: look[2].name)
def test_the_focus_is_seen(qtbot, look):
    look.activateWindow()
    look.lineage.select([named(look, "Ground")])
    settle(qtbot, look)
    assert walker.without_focus_sign(look) == []
    own = look.parts.delivering.dialog("landxml")
    own.show()
    own.activateWindow()
    settle(qtbot, look)
    assert walker.without_focus_sign(own) == []
    own.reject()


# -- each rule sees what breaks it


@pytest.fixture
def page(qtbot):
    own = QDialog()
    qtbot.addWidget(own)
    own.resize(300, 200)
    own.setStyleSheet(theme.style(theme.LIGHT))
    return own


def test_the_walker_sees_what_overlaps(page):
    one, other = QPushButton("One", page), QPushButton("Other", page)
    one.setGeometry(10, 10, 100, 30)
    other.setGeometry(90, 20, 100, 30)
    page.show()
    assert any("overlap" in fault for fault in walker.faults(page))
    other.move(120, 20)
    assert not any("overlap" in fault for fault in walker.faults(page))


def test_the_walker_sees_the_stale_form_that_deliver_once_had(page):
    """What is taken out of a layout and deleted later stays painted, under what comes in its place."""
    row = QHBoxLayout(page)
    old, new = QLabel("old form"), QLabel("new form")
    row.addWidget(old)
    page.show()
    row.removeWidget(old)
    old.deleteLater()
    row.addWidget(new)
    new.show()
    row.activate()
    assert any("overlap" in fault for fault in walker.faults(page))


@pytest.mark.parametrize("kind", [QLabel, QPushButton, QToolButton])
def test_the_walker_sees_text_that_is_cut(page, kind):
    own = kind(page)
    own.setText("a text that is far too long for the room that it has")
    own.setGeometry(10, 10, 80, 26)
    page.show()
    assert any("is cut" in fault for fault in walker.faults(page))
    own.setToolTip("Here: a text that is far too long for the room that it has")
    assert not any("is cut" in fault for fault in walker.faults(page))


def test_the_walker_sees_lines_that_are_cut(page):
    own = QLabel("several words that need more lines than there is height for them", page)
    own.setWordWrap(True)
    own.setGeometry(10, 10, 90, 20)
    page.show()
    assert any("px of height" in fault for fault in walker.faults(page))


def test_the_walker_sees_what_lies_outside(page):
    own = QPushButton("Outside", page)
    own.setGeometry(260, 10, 100, 30)
    page.show()
    assert any("lies outside" in fault for fault in walker.faults(page))


def test_the_walker_sees_what_has_no_name_and_what_tab_passes(page):
    field = QLineEdit(page)
    field.setGeometry(10, 10, 100, 30)
    button = QPushButton("Press", page)
    button.setGeometry(10, 60, 100, 30)
    button.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
    page.show()
    found = walker.faults(page)
    assert any("has no name" in fault for fault in found) and any("not reached by Tab" in fault for fault in found)
    field.setAccessibleName("Field")
    button.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    assert walker.faults(page) == [] and walker.lost(page) == []


def test_the_walker_sees_pale_text(page):
    own = QLabel("pale", page)
    own.setStyleSheet("color: #c8c8c8;")
    own.setGeometry(10, 10, 100, 30)
    page.show()
    assert walker.pale(page)
    own.setStyleSheet("color: #202020;")
    assert walker.pale(page) == []


class Blank(QToolButton):
    """A button that looks the same whatever happens to it."""

    def paintEvent(self, event):
        painter = QPainter(self)
        painter.fillRect(self.rect(), Qt.GlobalColor.white)
        painter.end()


def test_the_walker_sees_a_hidden_focus(page):
    one, other = QPushButton("One", page), QToolButton(page)
    other.setText("Other")
    one.setGeometry(10, 10, 100, 30)
    other.setGeometry(10, 60, 100, 30)
    other.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    page.show()
    page.activateWindow()
    assert walker.without_focus_sign(page) == []
    blank = Blank(page)
    blank.setGeometry(10, 110, 100, 30)
    blank.setObjectName("blank")
    blank.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
    blank.show()
    assert [fault for fault in walker.without_focus_sign(page) if "blank" in fault]


def test_the_walker_sees_tall_menus(page):
    menu = QMenu(page)
    for k in range(60):
        menu.addAction(f"entry {k}")
    assert walker.tall_menus(page, 768)


def test_contrast_is_that_of_the_standard():
    """WCAG 2.1: black on white has 21 : 1; #767676 on white is the palest grey that has 4.5 : 1 (technique G18's example)."""
    from PyQt6.QtGui import QColor

    assert walker.contrast(QColor("black"), QColor("white")) == pytest.approx(21.0)
    assert 4.5 <= walker.contrast(QColor("#767676"), QColor("white")) < 4.6
    assert walker.contrast(QColor("#777777"), QColor("white")) < 4.5
