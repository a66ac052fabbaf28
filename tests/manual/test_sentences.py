"""Sentences as they are read: each with nothing given, and with everything given, kept in a file that people read as well."""

import re
from pathlib import Path

import pytest

import words
from vastgrid import catalog
from vastgrid.params import declare

KEPT = Path(__file__).with_name("sentences.txt")


def test_the_sentences_are_those_that_were_read():
    """What changes is seen, and read, in the file: `./vastgrid words --sentences > tests/manual/sentences.txt`."""
    made = [f"{name} ({way}): {text}" for name, way, text in words.sentences()]
    assert made == KEPT.read_text(encoding="utf-8").splitlines()


@pytest.mark.parametrize(
    ("name", "way", "text"), list(words.sentences()), ids=lambda each: each if len(each) < 20 else ""
)
def test_a_sentence_can_be_read_aloud(name, way, text):
    """No slot left, no “None”, no word said twice, no article before one, no blank before a stop."""
    assert text[0].isupper() or (text[0].isdigit() and text.endswith("."))
    assert not re.search(r"[{}\[\]|]|None|\bnone\b(?! (below|above|on))", text), text
    assert not re.search(r"\b(\w+) \1\b|\b(an?|the|every|each) (an?|the)\b|\s[.,;)]|\(\s|,,|\.\.", text), text
    assert "automatic" not in text or way == "open", text


def test_what_is_open_can_be_pressed():
    """An open value stands in the sentence as a field, marked as nobody's wish."""
    conversion = catalog.conversion_named("lattice")
    pieces = conversion.sentence(conversion.params(), [("ground", "Survey")], ())
    assert declare.plain(pieces).startswith("Points at automatic spacing over the whole of Survey")
    field = next(each for each in pieces if each.field == "spacing")
    assert field.text == "automatic spacing" and field.settled
    given = declare.build(conversion.params, {"spacing": "5m"})
    pieces = conversion.sentence(given, [("ground", "Survey")], {"spacing"})
    assert declare.plain(pieces).startswith("Points every 5 m over the whole of Survey")
    assert not next(each for each in pieces if each.field == "spacing").settled


def test_every_text_has_its_place():
    every = [*words.declared(), *words.written()]
    assert len(every) > 3000
    assert all(place and text.strip() for place, text in every)
    assert any(place == "conversion contours" and text == "Contours" for place, text in every)
    assert any("qt/panel" in place for place, _ in every)
