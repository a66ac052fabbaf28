"""The frame of the window: the panel's height, the lineage beside it, the smallest window, and what is left behind in dialogs."""

from threading import Event

import pytest
from PyQt6.QtCore import QPoint, QRect
from PyQt6.QtGui import QFontMetricsF
from PyQt6.QtWidgets import QLabel, QToolButton

from hands import named, settle
from vastgrid.jobs.glance import glance
from vastgrid.jobs.session import Session
from vastgrid.qt.views.views import EDIT_GROUPS
from vastgrid.qt.widgets import theme
from vastgrid.qt.window.main_window import MainWindow


def place_in(window, widget):
    return QRect(widget.mapTo(window, QPoint(0, 0)), widget.size())


def test_the_panel_runs_from_the_top_bar_to_the_status_line_and_folds(qtbot, window):
    window.resize(1280, 800)
    settle(qtbot, window)
    panel, views = place_in(window, window.panel), place_in(window, window.views)
    assert panel.top() == views.top() and panel.bottom() >= place_in(window, window.status).top() - 2
    assert 300 <= panel.width() <= 380
    wide = views.width()
    fold = window.actions_["panel"]
    assert fold.shortcut().toString() == "F8"
    fold.trigger()
    settle(qtbot, window)
    assert not window.panel.isVisible() and place_in(window, window.views).width() > wide + 250
    fold.trigger()
    assert window.panel.isVisible()


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1920, 1080)])
def test_every_size_shows_all_columns_and_all_rows_of_buttons(qtbot, window, size):
    window.resize(*size)
    window.lineage.select([named(window, "Ground")])
    settle(qtbot, window)
    assert (window.width(), window.height()) == size, "the smallest window is not a larger"
    for bar in (window.views.hands_row, window.header):
        buttons = [each for each in bar.findChildren(QToolButton) if each.isVisible()]
        places = [place_in(window, each) for each in buttons]
        for k, one in enumerate(places):
            assert not any(one.intersects(other) for other in places[:k]), buttons[k].text()
            assert one.right() <= window.width(), buttons[k].text()
    if size[0] >= 1280:
        assert window.lineage_scroll.horizontalScrollBar().maximum() == 0


def test_edit_tools_are_in_four_groups(window):
    window.lineage.select([named(window, "Ground")])
    for group in EDIT_GROUPS:
        button = window.views.buttons[f"edit_{group}"]
        button.menu().aboutToShow.emit()
        assert button.isVisible() and len(button.menu().actions()) >= 2, group
    every = [key for key in window.actions_ if key.startswith("hand_")]
    assert {window.actions_[key].property("group") for key in every} == set(EDIT_GROUPS)


def test_names_of_cards_break_onto_lines_and_differ(qtbot, window):
    names = [
        "Existing ground against check shots of the northern slope, east",
        "Existing ground against check shots of the northern slope, west",
        "a-very-long-name-of-a-file-without-spaces_2026-11-30_final.xml",
    ]
    cards = list(window.session.graph.cards)[:3]
    for card, name in zip(cards, names, strict=True):
        window.desk.rename(card, name)
    for wide in (1024, 1280, 1920):
        window.resize(wide, 800)
        settle(qtbot, window)
        shown = [" ".join(window.lineage.layout_.names[card]) for card in window.session.graph.cards]
        assert len(set(shown)) == len(shown)
        metrics = QFontMetricsF(theme.font(9.5, bold=True))
        for card in window.lineage.cards:
            assert all(
                metrics.horizontalAdvance(line) <= card.place.width() - 70
                for line in window.lineage.layout_.names[card.node]
            )
            assert not any(
                card.place.intersects(other.place) for other in window.lineage.cards if other.node != card.node
            )


def test_the_chosen_card_is_in_sight(qtbot, window):
    window.resize(1024, 700)
    settle(qtbot, window)
    for card in window.session.graph.cards:
        window.desk.select([card])
        qtbot.wait(20)
        place = window.lineage.place_of(card).center().toPoint()
        seen = window.lineage.mapTo(window.lineage_scroll.viewport(), place)
        assert window.lineage_scroll.viewport().rect().contains(seen), window.session.graph[card].name


def test_a_new_card_is_in_sight(qtbot, window):
    window.resize(1024, 700)
    window.lineage.select([named(window, "Ground")])
    settle(qtbot, window)
    for interval in ("1m", "3m", "4m", "5m", "6m"):
        window.parts.making.make("contours", [named(window, "Ground")], {"interval": interval})
        qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=30_000)
        settle(qtbot, window)
        card = window.desk.selection[-1]
        assert window.session.graph[card].words["interval"].startswith(interval[0])
        place = window.lineage.place_of(card).center().toPoint()
        seen = window.lineage.mapTo(window.lineage_scroll.viewport(), place)
        assert window.lineage_scroll.viewport().rect().contains(seen)


def test_options_of_a_format_that_was_left_are_gone_at_once(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    dialog = window.parts.delivering.dialog("landxml")
    dialog.show()
    before = dialog.form
    client = next(k for k in range(dialog.sets.count()) if "client" in dialog.sets.itemText(k))
    dialog.sets.setCurrentIndex(client)
    dialog.sets.activated.emit(client)
    # Deleted it is only when the loop of events comes round; painted it must not be until then.
    assert dialog.form is not before and not before.isVisible()
    dialog.close()


# -- nothing chosen: the job at a glance


def texts(widget):
    return " ".join(each.text() for each in widget.findChildren(QLabel))


def test_nothing_chosen_shows_the_job_at_a_glance(qtbot, window):
    window.lineage.select([])
    part = window.panel.glance
    said = texts(part)
    assert window.session.name in said and "Came in" in said and "day1" in said and "m · m" in said
    assert 1 <= len(part.buttons) <= 3
    part.wanted.emit(named(window, "Grid"))
    assert window.desk.selection == [named(window, "Grid")] and window.panel.glance is None


def test_what_is_worth_doing_is_done_by_its_button(qtbot, window):
    window.lineage.select([])
    wish = next(own for own in glance(window.session, {}).suggestions if own.action == "make")
    assert wish.operation == "volumes", "contours and a grid are there; two surfaces are not compared yet"
    assert wish.text == "Cut and fill from Ground to Grid"
    next(each for each in window.panel.glance.buttons if each.text() == wish.text).click()
    settle(qtbot, window)
    made = [node.operation for node in window.session.graph.nodes.values()]
    assert "volumes" in made


def test_what_is_out_of_date_is_told_and_made_again(qtbot, window):
    window.session.change(
        window.session.graph.with_node(window.session.with_words(named(window, "Ground"), {"max_edge": "45m"})), "x"
    )
    window.desk.changed.emit()
    window.lineage.select([])
    assert "Out of date" in texts(window.panel.glance)
    first = window.panel.glance.buttons[0]
    assert first.text().startswith("Make 3 cards again")
    first.click()
    settle(qtbot, window)
    assert not glance(window.session, {}).stale


def test_points_without_ground_suggest_a_surface(tmp_path, demo):
    session = Session(tmp_path / "empty")
    assert [own.action for own in glance(session, {}).suggestions] == ["import", "open", "manual"]
    for name in ("day1.csv", "edges.dxf"):
        session.sources.bring_in(demo / "received" / name, {})
    own = glance(session, {})
    first = own.suggestions[0]
    assert (first.action, first.operation, len(first.cards)) == ("make", "tin", 2)
    assert first.text.startswith("Make a TIN from day1 and ")
    changed = glance(session, {first.cards[0]: "its file has changed"}).suggestions[0]
    assert changed.action == "read_again" and changed.cards == (first.cards[0],)
    session.close()


def test_what_was_made_and_not_sent_is_proposed(qtbot, window):
    actions = [own.action for own in glance(window.session, {}).suggestions]
    window.parts.making.make("volumes", [named(window, "Ground"), named(window, "Grid")], {}, asked=True)
    settle(qtbot, window)
    own = next(each for each in glance(window.session, {}).suggestions if each.action == "deliver")
    assert own.text.startswith("Deliver ") and actions


def test_an_empty_plan_says_what_is_being_done(qtbot, tmp_path):
    window = MainWindow(Session(tmp_path / "new"))
    qtbot.addWidget(window)
    assert window.plan.doing == "" and "Nothing is in this job yet" in texts(window.panel)
    go = Event()
    window.desk.start("preparing the demo job", lambda progress: go.wait(20), lambda made: None)
    assert window.plan.doing == "Preparing the demo job …"
    assert "preparing the demo job" in texts(window.panel) and not window.panel.glance.buttons
    go.set()
    qtbot.waitUntil(lambda: not window.desk.runner.busy, timeout=20_000)
    qtbot.waitUntil(lambda: window.plan.doing == "", timeout=5_000)
    window.close()


def test_a_plan_with_everything_hidden_says_so(window):
    for card in window.session.graph.cards:
        window.session.show(card, shown=False)
    window.desk.changed.emit()
    assert "hidden" in window.plan.doing
