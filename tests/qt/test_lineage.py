"""The lineage of a large job: zoomed out, filtered, folded; curves that never run behind cards; cards dragged onto each other."""

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest

from hands import named, on_page, settle, wheel
from vastgrid.lineage.graph import Graph, Node, OutputCard, Role, Use
from vastgrid.qt.views.lineage_layout import column_of, following, laid_out
from vastgrid.qt.views.lineage_view import CARD_MIME
from vastgrid.qt.widgets.section import Section

# Texts are measured with the fonts of an application.
pytestmark = pytest.mark.usefixtures("qapp")


def many(sources=40, made=110, sent=50):
    """A job of 200 cards."""
    nodes = {}

    def add(role, operation, uses=(), kind="tin"):
        key = f"n{len(nodes)}"
        name = f"{operation} {len(nodes)}"
        nodes[key] = Node(
            key, role, operation, uses=tuple(Use(use, "data") for use in uses), outputs=(OutputCard(key, "", name),)
        )
        return key

    first = [add(Role.SOURCE, "text") for _ in range(sources)]
    ground = add(Role.MADE, "tin", first[:3])
    rest = [add(Role.MADE, "contours" if k % 2 else "grid", [ground]) for k in range(made - 1)]
    for k in range(sent):
        add(Role.DELIVERY, "dxf", [rest[k]])
    return Graph(nodes)


def kind(card):
    return {"tin": "tin", "contours": "contours", "grid": "grid"}.get(card.operation, "points")


@pytest.mark.parametrize("level", [0, 1, 2])
def test_curves_never_run_behind_cards(level):
    graph = many(12, 14, 9)
    layout = laid_out(graph, kind, 1100, level=level)
    places = {card.node: card for card in layout.cards}
    checked = 0
    for card in layout.cards:
        for source in graph[card.node].inputs:
            path = layout.route(places[source], card)
            for k in range(2, 99):
                at = path.pointAtPercent(k / 100)
                behind = [
                    other.node
                    for other in layout.cards
                    if other.node not in (source, card.node) and other.place.adjusted(2, 2, -2, -2).contains(at)
                ]
                assert not behind, (graph[source].name, graph[card.node].name, behind)
            checked += 1
    assert checked > 20


def test_curves_that_lead_back_stay_between_cards():
    """A surface made from a surface stands in the same column: its curve swings around."""
    layout = laid_out(many(6, 5, 2), kind, 1100)
    for a in layout.cards:
        for b in layout.cards:
            if b.column > a.column or a is b or abs(a.place.top() - b.place.top()) < 10:
                continue
            path = layout.route(a, b)
            assert path.currentPosition().x() == pytest.approx(b.place.left())
            inside = sum(
                other.place.adjusted(3, 3, -3, -3).contains(path.pointAtPercent(k / 100))
                for k in range(3, 98)
                for other in layout.cards
                if other not in (a, b)
            )
            assert inside == 0, (a, b)


def test_two_hundred_cards_are_overlooked_zoomed_out():
    graph = many()
    assert len(graph.cards) == 200
    cards, rows, fine = (laid_out(graph, kind, 1100, level=level) for level in (0, 1, 2))
    assert cards.size.height() > 3 * rows.size.height() / 1.6 and rows.size.height() > fine.size.height()
    assert fine.size.height() < 2000, "two screens"
    assert all(len(lines) == 1 and lines[0] for lines in fine.names.values())
    for one in fine.cards:
        assert not any(one.place.intersects(other.place) for other in fine.cards if other is not one)


def test_what_follows_a_card_folds_into_a_number_of_steps():
    graph = many(5, 8, 3)
    ground = next(card.id for card in graph.cards.values() if card.operation == "tin")
    assert len(following(graph, ground)) == 7 + 3
    layout = laid_out(graph, kind, 1100, folded=[ground])
    assert layout.steps == {ground: 10} and len(layout.cards) == 6
    assert laid_out(graph, kind, 1100, folded=["gone"]).steps == {}


def test_columns_are_those_of_the_map():
    graph = many(1, 3, 1)
    assert [column_of(card, kind(card)) for card in graph.cards.values()] == [0, 1, 2, 2, 3]


def test_the_wheel_zooms_the_lineage_and_a_press_still_chooses(qtbot, window):
    view = window.lineage
    tall = view.layout_.size.height()
    wheel(view, QPointF(40, 40), -1, Qt.KeyboardModifier.ControlModifier)
    assert view.level == 1 and view.layout_.size.height() < tall
    card = named(window, "Ground")
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=view.place_of(card).center().toPoint())
    assert window.desk.selection == [card]
    shown = window.session.graph[card].shown
    placed = next(each for each in view.cards if each.node == card)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=view.eye_of(placed).center().toPoint())
    assert window.session.graph[card].shown != shown
    window.actions_["zoom_out"].trigger()
    window.actions_["zoom_out"].trigger()
    assert view.level == 2
    view.grab()
    window.actions_["zoom_in"].trigger()
    window.actions_["zoom_in"].trigger()
    assert view.level == 0


def test_letters_list_only_the_cards_that_have_them(qtbot, window):
    view = window.lineage
    view.setFocus()
    every = len(view.cards)
    qtbot.keyClicks(view, "gr")
    names = {window.session.graph[each.node].name for each in view.cards}
    assert {"Ground", "Grid"} <= names and len(view.cards) < every
    assert "“gr”" in window.desk.message
    qtbot.keyClicks(view, "id")
    assert {window.session.graph[each.node].name for each in view.cards} == {"Grid"}
    view.grab()
    qtbot.keyClick(view, Qt.Key.Key_Backspace)
    assert len(view.cards) >= 1
    qtbot.keyClicks(view, "zz")
    assert not view.cards
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert len(view.cards) == every


def test_a_branch_folds_by_a_double_click_and_opens_where_a_card_of_it_is_gone_to(qtbot, window):
    view, ground = window.lineage, named(window, "Ground")
    place = view.place_of(ground).center().toPoint()
    QTest.mouseDClick(view, Qt.MouseButton.LeftButton, pos=place)
    assert view.layout_.steps == {ground: 2} and view.place_of(named(window, "Contours")) is None
    view.grab()
    assert window.session.settings["folded"] == [ground], "kept with the job"
    window._go_to_card(named(window, "Contours"))
    assert view.place_of(named(window, "Contours")) is not None and view.layout_.steps == {}
    window.lineage.select([ground])
    window.actions_["fold"].trigger()
    placed = next(each for each in view.cards if each.node == ground)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=view.fold_of(placed).center().toPoint())
    assert view.layout_.steps == {}
    view.fold(named(window, "Contours"))
    assert view.folded == [], "nothing follows it"


def test_a_card_dropped_on_another_offers_what_both_make(qtbot, window):
    view = window.lineage
    one, other = named(window, "Ground"), named(window, "Grid")
    mime = view.dragged(one)
    assert bytes(mime.data(CARD_MIME).data()).decode() == one
    view.dropEvent(
        QDropEvent(
            view.place_of(other).center(),
            Qt.DropAction.CopyAction,
            mime,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
    )
    assert window.desk.selection == [one, other]
    assert "Cut and fill volumes" in window.parts.chooser.titles()
    assert window.parts.chooser.titles()["Cut and fill volumes"].run is not None
    window.parts.chooser.close()


def test_a_card_dropped_on_itself_or_beside_cards_does_nothing(window):
    view, one = window.lineage, named(window, "Ground")
    window.lineage.select([named(window, "Grid")])
    mime = view.dragged(one)
    for at in (view.place_of(one).center(), QPointF(2.0, 2.0)):
        view.dropEvent(
            QDropEvent(
                at,
                Qt.DropAction.CopyAction,
                mime,
                Qt.MouseButton.LeftButton,
                Qt.KeyboardModifier.NoModifier,
            )
        )
    assert window.desk.selection == [named(window, "Grid")]
    assert view.dragged(named(window, "day1")).hasUrls(), "the file of a source can be dragged out"
    assert not view.dragged(one).hasUrls()


def test_the_lineage_takes_what_its_rows_need(qtbot, window):
    window.resize(1280, 800)
    settle(qtbot, window)
    upper, lower = window.halves.sizes()
    assert lower <= 0.45 * (upper + lower) + 2
    assert abs(lower - min(window.lineage.layout_.size.height() + 4, round(0.45 * (upper + lower)))) <= 6
    handle = window.halves.handle(1)
    QTest.mouseDClick(handle, Qt.MouseButton.LeftButton, pos=handle.rect().center())
    settle(qtbot, window)
    assert not window.views.isVisible()
    QTest.mouseDClick(handle, Qt.MouseButton.LeftButton, pos=handle.rect().center())
    settle(qtbot, window)
    assert window.views.isVisible()
    window.actions_["lineage_all"].trigger()
    window.actions_["lineage_all"].trigger()
    settle(qtbot, window)
    assert window.lineage_scroll.height() < 130, "one row"
    window.actions_["lineage_all"].trigger()
    settle(qtbot, window)
    assert window.lineage_scroll.height() > 150


def section(window, title):
    """Return a section of the page that is shown; that of the last one may not be gone yet."""
    every = on_page(window.panel, Section)
    return next(each for each in reversed(every) if each.title == title)


def test_sections_fold_and_remember(qtbot, window):
    def unfolded():
        """Whether the section is; a page that is made anew meanwhile is asked again."""
        return section(window, "Look").body.isVisibleTo(window.panel)

    window.lineage.select([named(window, "Ground")])
    settle(qtbot, window)
    qtbot.waitUntil(unfolded, timeout=10_000)
    section(window, "Look").head.click()
    assert not unfolded()
    window.lineage.select([named(window, "Grid")])
    settle(qtbot, window)
    qtbot.waitUntil(lambda: section(window, "Figures").body.isVisibleTo(window.panel), timeout=10_000)
    assert not unfolded(), "another card's section is folded as well"
    section(window, "Look").head.click()
    qtbot.waitUntil(unfolded, timeout=10_000)
    assert window.panel.head.isVisible() and window.panel.sentence.isVisible()


def test_sentence_and_cost_stay_in_sight(qtbot, window):
    from vastgrid.qt.panel.cost_part import CostPart

    window.resize(1024, 700)
    window.lineage.select([named(window, "Contours")])
    settle(qtbot, window)
    window.panel._scroll.verticalScrollBar().setValue(10_000)
    for widget in (window.panel.sentence, on_page(window.panel, CostPart)[0]):
        assert widget is not None and not widget.visibleRegion().isEmpty()
        place = widget.mapTo(window, QPoint(0, 0))
        assert window.rect().contains(place)
