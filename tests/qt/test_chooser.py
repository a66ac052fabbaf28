"""The sheet from which is chosen what is made and sent; steps that lack an input, filled by a click on a card."""

import contextlib

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from hands import makeable, named, settle
from vastgrid import catalog
from vastgrid.base.errors import CallError
from vastgrid.base.ranking import found
from vastgrid.declarations.fileformat import USES
from vastgrid.qt.panel.draft_part import chosen_words
from vastgrid.qt.widgets.chooser import Choice, Chooser


@pytest.fixture
def sheet(qtbot, window):
    """The sheet of what can be made from the ground."""
    window.lineage.select([named(window, "Ground")])
    own = window.choose_make()
    yield own
    with contextlib.suppress(RuntimeError):
        own.close()


def click_card(window, card):
    place = window.lineage.place_of(card).center().toPoint()
    QTest.mouseClick(window.lineage, Qt.MouseButton.LeftButton, pos=place)


def test_every_conversion_is_listed_once_made_or_not(window):
    """Whatever is chosen, each of the catalogue's conversions stands in the sheet, under its title."""
    for chosen in ([], ["Ground"], ["day1"], ["Contours"], ["Ground", "Grid"], ["Grid"]):
        window.lineage.select([named(window, each) for each in chosen])
        choices = window.parts.offers.choices(window.actions_)
        titles = [each.title for each in choices if each.group != "Made last"]
        assert len(titles) == len(set(titles)), chosen
        usual = {each.title for each in catalog.CONVERSIONS if not each.resumes}
        # What can only be asked for over a drawn area is offered with drawing it.
        listed = {each.split(" over an area")[0].split(" along a line")[0] for each in titles}
        assert usual <= listed, (chosen, usual - listed)
        assert all(each.quiet for each in choices if each.run is None), "what cannot be made says why"
        assert all(each.quiet or each.tell for each in choices)


def test_nothing_is_impossible_where_nothing_is_chosen(window):
    window.lineage.select([])
    choices = window.parts.offers.choices(window.actions_)
    assert all(each.run is not None for each in choices)
    assert next(each for each in choices if each.title == "Contours").quiet == "needs surface (TIN or grid) too"


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1920, 1080)])
def test_the_sheet_leaves_the_window_in_sight(qtbot, window, size):
    window.resize(*size)
    window.lineage.select([named(window, "Ground")])
    for own in (window.choose_make(), window.parts.delivering.choose()):
        assert own.width() * own.height() <= 0.6 * size[0] * size[1]
        assert own.field.hasFocus() or own.focusWidget() is own.field
        own.close()


def test_the_first_letters_and_enter_are_enough(qtbot, window, sheet):
    qtbot.keyClicks(sheet.field, "slo")
    assert next(iter(sheet.titles())) == "Slope arrows"
    qtbot.keyClick(sheet.field, Qt.Key.Key_Return)
    settle(qtbot, window)
    assert window.session.graph[window.desk.selection[0]].operation == "arrows"
    window.lineage.select([named(window, "Ground")])
    assert window.parts.offers.choices(window.actions_)[0].title == "Slope arrows", "what was made last comes first"


@pytest.mark.parametrize(
    ("typed", "title"),
    [("earthworks", "Cut and fill volumes"), ("isolines", "Contours"), ("decimate", "Simplify to a tolerance")],
)
def test_the_sheet_knows_what_people_call_it(qtbot, sheet, typed, title):
    qtbot.keyClicks(sheet.field, typed)
    assert title in sheet.titles()


def test_arrows_pass_over_headings_and_esc_leaves(qtbot, window, sheet):
    before = dict(window.session.graph.nodes)
    rows = []
    for _ in range(12):
        rows.append(sheet.list.currentItem().text())
        qtbot.keyClick(sheet.field, Qt.Key.Key_Down)
    assert len(set(zip(rows, range(12), strict=True))) == 12 and "Ground" not in rows and "Lines" not in rows
    qtbot.keyClick(sheet.field, Qt.Key.Key_PageDown)
    qtbot.keyClick(sheet.field, Qt.Key.Key_Up)
    qtbot.keyClick(sheet.field, Qt.Key.Key_PageUp)
    qtbot.keyClick(sheet, Qt.Key.Key_Escape)
    assert dict(window.session.graph.nodes) == before


def test_what_cannot_be_made_is_not_made(qtbot, window, sheet):
    before = dict(window.session.graph.nodes)
    qtbot.keyClicks(sheet.field, "top surface of a mesh")
    (only,) = sheet.titles().values()
    assert only.run is None and "mesh" in only.quiet
    qtbot.keyClick(sheet.field, Qt.Key.Key_Return)
    assert sheet.isVisible() and dict(window.session.graph.nodes) == before


def test_a_word_that_nothing_goes_by_is_said(qtbot, sheet):
    qtbot.keyClicks(sheet.field, "qqqqqq")
    assert not sheet.titles() and sheet.list.count() == 1


def test_typing_errors_are_forgiven():
    names = [("Contours", "isolines"), ("Grid", "raster"), ("Cut and fill volumes", "earthworks")]
    assert found("contuors", names, lambda each: each, lambda each: 0)[0][0] == "Contours"
    assert found("earthwroks", names, lambda each: each, lambda each: 0)[0][0].startswith("Cut")
    assert found("xyzzy", names, lambda each: each, lambda each: 0) == []
    ranks = {"Contours": 1, "Contour labels": 0}
    both = found("contour", [(each,) for each in ranks], lambda each: each, lambda each: ranks[each[0]])
    assert [each[0] for each in both] == ["Contour labels", "Contours"]


def test_opening_the_sheet_holds_nobody_up(qtbot, demo_window):
    """What takes time to tell is told later: the sheet of 770 000 triangles is there at once (interface.md: 100 ms)."""
    from time import process_time

    demo_window.lineage.select([named(demo_window, "Existing ground")])
    spans = []
    for _ in range(4):
        begin = process_time()
        own = demo_window.choose_make()
        spans.append(process_time() - begin)
        own.close()
        if spans[-1] < 0.1:
            break
    assert min(spans) < 0.25, spans


# -- steps that lack an input


def test_volumes_are_found_from_one_card_and_filled_by_a_click(qtbot, window):
    ground, grid = named(window, "Ground"), named(window, "Grid")
    window.lineage.select([ground])
    assert makeable(window)["Cut and fill volumes"].quiet == "needs top (TIN or grid) too"
    makeable(window)["Cut and fill volumes"].run()
    part = window.panel.draft
    assert part is not None and not part.make.isEnabled()
    assert "choose a surface" in part.sentence.text().replace("&nbsp;", " ")
    assert grid in window.lineage.lit and named(window, "Contours") not in window.lineage.lit
    told = []
    window.desk.told.connect(told.append)
    click_card(window, named(window, "day1"))
    assert "day1 cannot be the top" in told[0]
    for box in window.findChildren(Chooser):
        box.close()
    click_card(window, grid)
    part = window.panel.draft
    assert part.make.isEnabled() and "Grid" in part.sentence.text()
    assert part.words() == {}, "what nobody asked for stays open"
    part.form.editors["sections"].setText("11") if "sections" in part.form.editors else None
    part.make.click()
    settle(qtbot, window)
    made = window.session.graph.node(window.desk.selection[0])
    assert made.operation == "volumes" and {use.role: use.card for use in made.uses} == {"base": ground, "top": grid}
    assert window.desk.draft is None and window.lineage.lit is None


def test_a_step_can_begin_from_nothing(qtbot, window):
    window.lineage.select([])
    makeable(window)["Drape lines on a surface"].run()
    part = window.panel.draft
    assert set(part.roles) == {each.role for each in catalog.conversion_named("lay").inputs if each.least}
    for role, card in (("lines", "edges"), ("surface", "Ground")):
        box = window.panel.draft.roles[role]
        at = box.findText(card)
        assert at > 0, (role, card, [box.itemText(k) for k in range(box.count())])
        box.setCurrentIndex(at)
        box.activated.emit(at)
    assert window.panel.draft.make.isEnabled()
    window.panel.draft.make.click()
    settle(qtbot, window)
    assert window.session.graph[window.desk.selection[0]].operation == "lay"


def test_what_may_be_added_is_lit_when_nothing_is_lacking(window):
    """Volumes have both surfaces: closed lines inside which they count may still come."""
    window.lineage.select([named(window, "Ground"), named(window, "Grid")])
    drafting = window.parts.making.drafting
    drafting.begin("volumes", [named(window, "Ground"), named(window, "Grid")], {})
    assert not drafting.draft.lacking() and drafting.lit() == [named(window, "edges")]
    drafting.fill(named(window, "edges"))
    assert drafting.draft.uses[-1] == ("inside", named(window, "edges"))
    with pytest.raises(CallError, match="cannot be the inside"):
        drafting.fill(named(window, "day1"))
    drafting.give_up()
    drafting.begin("difference", [named(window, "Ground"), named(window, "Grid")], {})
    assert drafting.lit() == []
    with pytest.raises(CallError, match="has all it can use"):
        drafting.fill(named(window, "Contours"))
    drafting.give_up()


def test_a_card_can_be_taken_out_of_its_role_again(window):
    window.lineage.select([named(window, "Ground")])
    makeable(window)["Difference surface"].run()
    drafting = window.parts.making.drafting
    drafting.fill(named(window, "Grid"))
    with pytest.raises(CallError, match="used already"):
        drafting.fill(named(window, "Grid"))
    assert not drafting.draft.lacking()
    drafting.empty(named(window, "Ground"))
    assert [each.role for each in drafting.draft.lacking()] == ["base"]
    drafting.fill(named(window, "Ground"), "base")
    assert not drafting.draft.lacking()


def test_esc_gives_a_step_up(qtbot, window):
    before = dict(window.session.graph.nodes)
    window.lineage.select([named(window, "Ground")])
    makeable(window)["Merge surfaces"].run()
    qtbot.keyClick(window.lineage, Qt.Key.Key_Escape)
    assert window.panel.draft is None and window.lineage.lit is None
    assert dict(window.session.graph.nodes) == before
    assert window.panel.sentence is not None, "the card that was chosen is shown again"


def test_a_step_of_cards_that_are_gone_is_given_up(qtbot, window):
    window.lineage.select([named(window, "Grid")])
    makeable(window)["Cut and fill volumes"].run()
    window.lineage.select([named(window, "Grid")])
    window.desk.remove_chosen()
    assert window.desk.draft is None


def test_a_step_that_cannot_begin_is_refused(window):
    with pytest.raises(CallError, match="Contours is made from"):
        window.parts.making.drafting.begin("contours", [named(window, "day1")], {})


@pytest.mark.parametrize(
    "conversion", [each for each in catalog.CONVERSIONS if not each.resumes], ids=lambda each: each.id
)
def test_every_conversion_can_be_begun_from_nothing(window, conversion):
    """Its sentence can be read with everything open, and each role that is needed has a field."""
    window.lineage.select([])
    window.parts.making.make(conversion.id, [], {})
    part = window.panel.draft
    assert part is not None and not part.make.isEnabled()
    assert set(part.roles) >= {each.role for each in conversion.inputs if each.least}
    said = part.sentence.text()
    assert said, part.why.text()
    for each in conversion.inputs:
        if (each.least and "{" + each.role + "}" in conversion.template) or "{inputs}" in conversion.template:
            assert "choose " in said.replace("&nbsp;", " ")
    window.parts.making.drafting.give_up()


def test_what_is_chosen_for_a_role_is_said_in_plain_words():
    for conversion in catalog.CONVERSIONS:
        for role in conversion.inputs:
            words = chosen_words(role)
            assert words.startswith("choose ") and len(words) < 44, words


# -- sending


def test_deliver_lists_who_gets_what_then_formats_by_use(window):
    window.lineage.select([named(window, "Ground")])
    choices = window.parts.delivering.choices()
    groups = list(dict.fromkeys(each.group for each in choices))
    assert groups[0] == "To whom" and groups[-1] == "Cannot hold what is chosen"
    uses = [each.lower() for each in groups[1:-1] if each != "Sent last"]
    assert uses == [each.lower() for each in USES if each.lower() in uses]
    titles = {each.title for each in choices}
    assert titles >= {each.title for each in catalog.FORMATS if each.write}
    designer = choices[0]
    assert designer.title == "For the designer" and "LandXML" in designer.quiet


def test_choices_that_are_alike_are_listed_once_when_typed(qtbot, window):
    twice = [Choice("Made last", "Grid", "a", "grid", print), Choice("Grids", "Grid", "a", "grid", print)]
    own = Chooser(window, window.palette_, "Make", twice)
    qtbot.addWidget(own)
    qtbot.keyClicks(own.field, "gr")
    assert own.list.count() == 1
