"""The finder knows everything by what people call it: titles, ids and the trade's other words, with typing errors."""

import pytest
from PyQt6.QtCore import Qt

from hands import named
from vastgrid import catalog


def found(window, words):
    return [hit.text for hit in window.searching.hits(words)]


@pytest.mark.parametrize(
    ("words", "title"),
    [
        ("volumes", "Cut and fill volumes"), ("quantities", "Cut and fill volumes"), ("earthworks", "Cut and fill volumes"),
        ("isolines", "Contours"), ("drape", "Drape lines on a surface"), ("DEM", "Grid"), ("batter", "Grade to daylight"),
        ("stockpile", "Stockpile volume"), ("heap", "Stockpile volume"), ("RMSE", "Check-point accuracy"),
        ("isopach", "Difference surface"), ("UTM", "Reproject"), ("decimate", "Simplify to a tolerance"), ("hachures", "Depression ticks"),
    ],
)  # fmt: skip
def test_a_conversion_is_found_by_what_people_call_it(window, words, title):
    assert any(text.startswith(f"Make: {title}") for text in found(window, words)[:6]), found(window, words)[:6]


@pytest.mark.parametrize(
    ("typed", "title"),
    [
        ("contuors", "Contours"),
        ("volumse", "Cut and fill volumes"),
        ("hilshade", "Hillshade"),
        ("reprojekt", "Reproject"),
    ],
)
def test_typing_errors_are_forgiven(window, typed, title):
    assert any(title in text for text in found(window, typed)[:6]), found(window, typed)


def test_every_conversion_format_and_check_is_found_by_title_and_other_words(window):
    window.lineage.select([])
    for conversion in catalog.CONVERSIONS:
        if conversion.resumes:
            continue
        for words in (conversion.title, conversion.id.replace("_", " "), *conversion.also):
            assert any(text.startswith(f"Make: {conversion.title}") for text in found(window, words)), (
                conversion.id,
                words,
            )
    for kind in catalog.FORMATS:
        for words in (kind.title, *kind.also):
            assert any(kind.title in text for text in found(window, words)), (kind.id, words)
    for check in catalog.CHECKS:
        for words in (check.title, *check.also):
            assert f"Check: {check.title}" in found(window, words), (check.id, words)


def test_what_is_missing_is_said_and_choosing_it_begins_a_step(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    (text,) = [text for text in found(window, "cut and fill volumes") if text.startswith("Make: Cut and fill volumes")]
    assert "needs" in text and "TIN or grid" in text.replace(", ", " or "), text
    before = window.session.graph
    window.actions_["find"].trigger()
    qtbot.keyClicks(window.finder, "cut and fill volumes")
    row = next(k for k, hit in enumerate(window.finder.hits) if hit.text == text)
    for _ in range(row):
        qtbot.keyClick(window.finder, Qt.Key.Key_Down)
    qtbot.keyClick(window.finder, Qt.Key.Key_Return)
    assert window.session.graph == before
    assert window.panel.draft is not None, "it is begun, and waits for the other surface"
    window.parts.making.drafting.give_up()


def test_what_can_be_done_changes_without_the_job(window):
    window.lineage.select([named(window, "Ground")])
    assert any(text.startswith("Quit") for text in found(window, "quit"))
    window.actions_["quit"].setEnabled(False)
    assert not any(text.startswith("Quit") for text in found(window, "quit"))


def test_cards_formats_and_pages_are_found(window):
    assert "Card: Ground" in found(window, "ground")
    assert any(text.startswith("Deliver as LandXML") for text in found(window, "landxml"))
    assert any(text.startswith("Deliver as") for text in found(window, ".dxf"))
    assert any(text.startswith("Manual:") for text in found(window, "first hour"))


def test_a_sentence_may_begin_with_any_of_the_words(window):
    window.lineage.select([named(window, "Ground")])
    for words in ("isolines 0.5 m", "Contours 0.5 m", "DEM"):
        assert found(window, words)[0].startswith("Make: ") and found(window, words)[0].endswith("from Ground"), words


def test_a_sentence_is_completed_as_it_is_typed(qtbot, window):
    window.lineage.select([named(window, "Ground")])
    window.finder.begin()
    qtbot.keyClicks(window.finder, "contours 2m")
    texts = [hit.text for hit in window.finder.hits]
    assert texts[0] == "Make: Contours interval 2m from Ground"
    going_on = [text for text in texts if text.startswith("… ")]
    assert going_on and "index" in " ".join(going_on) and not any(text.startswith("… interval") for text in going_on)
    row = next(k for k, text in enumerate(texts) if text.startswith("… index"))
    window.finder.list.setCurrentRow(row)
    qtbot.keyClick(window.finder, Qt.Key.Key_Return)
    assert window.finder.text() == "contours 2m index "
    qtbot.keyClicks(window.finder, "4")
    assert window.finder.hits[0].text == "Make: Contours interval 2m index 4 from Ground"
    window.finder.leave()


def test_coordinates_lead_to_their_place(qtbot, window):
    window.finder.begin()
    qtbot.keyClicks(window.finder, "431204.2 887162.1")
    assert window.finder.hits[0].text.startswith("Go to E 431204")
    qtbot.keyClick(window.finder, Qt.Key.Key_Return)
    assert (window.plan.view.east, window.plan.view.north) == (431204.2, 887162.1)
