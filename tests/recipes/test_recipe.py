"""A recipe as text: whatever it holds comes back, and what is wrong is told with its place."""

import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vastgrid.base.errors import FormatError
from vastgrid.recipes.recipe import (
    MOST,
    Recipe,
    RecipeError,
    RecipeStep,
    Sent,
    Slot,
    as_text,
    read_recipe,
    read_text,
    slug,
    write_recipe,
)

TEXT = st.text(st.characters(exclude_categories=("Cs",), exclude_characters="\0"), max_size=40)
WORDS = st.dictionaries(st.text("abcdefghij_é -", min_size=1, max_size=8), TEXT, max_size=4)
SLUGS = st.lists(TEXT.map(slug), min_size=2, max_size=4, unique=True)


@st.composite
def recipes(draw):
    names = draw(SLUGS)
    cards = st.lists(st.tuples(TEXT.filter(bool), st.sampled_from(["points", "tin", "lines"])), min_size=1, max_size=3)
    slots = tuple(
        Slot(name, tuple(draw(cards)), "text", draw(WORDS), ("ft", ""), ("m", "m"), draw(st.booleans()))
        for name in names[:-1]
    )
    step = RecipeStep(names[-1], {"tin": draw(TEXT)}, "tin", 4, (("sources", names[0]),), draw(WORDS), draw(TEXT))
    sent = Sent("out.xml", "landxml", (names[-1],), draw(WORDS), ("", "us-ft"), draw(TEXT))
    return Recipe(draw(TEXT), slots, (step,), (sent,))


@given(recipes())
def test_whatever_a_recipe_holds_comes_back(recipe):
    text = as_text(recipe)
    assert read_text(text) == recipe
    # Any program that reads TOML reads it.
    assert tomllib.loads(text)["form"] == 1


GOOD = as_text(
    Recipe(
        "Ground",
        (Slot("day-1", (("Day 1", "points"),), "text"),),
        (
            RecipeStep(
                "ground", {"tin": "Ground"}, "tin", 4, (("sources", "day-1"),), {"max_edge": "60m"}, "TIN from Day 1."
            ),
        ),
        (Sent("ground.xml", "landxml", ("ground",)),),
    )
)


def test_it_can_be_read_out():
    assert '[step.ground]\nsays = "TIN from Day 1."' in GOOD
    assert "#   vastgrid run RECIPE day-1=FILE --into FOLDER" in GOOD
    assert 'with.max_edge = "60m"' in GOOD


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (("form = 1", "form = 9"), "form 9, and form 1 is known"),
        (('make = "tin"', 'mkae = "tin"'), "“mkae” is not known in step ground"),
        (
            ('"day-1"]]', '"day-2"]]'),
            "step ground uses “day-2”, which is neither a source nor an earlier step; did you mean day-1",
        ),
        (('"day-1"]]', '"day-1/Day 3"]]'), "which day-1 does not have; did you mean Day 1"),
        (('file = "ground.xml"', 'file = "../ground.xml"'), "without a folder"),
        (('file = "ground.xml"', 'file = ".."'), "without a folder"),
        (("[step.ground]", "[step.day-1]"), "is the name of a source and of a step"),
        (('with.max_edge = "60m"', "with.max_edge = [1]"), "has to be a text or a number"),
        (("version = 4", 'version = "x"'), "version is a whole number"),
        (('holds = [["Day 1", "points"]]', "holds = 3"), "holds has to be a list of pairs"),
        (('what = ["ground"]', "what = []"), "what has to be a list of names"),
        (('title = "Ground"', 'title = "Ground'), "line 8"),
        (("[source.day-1]", "[other.day-1]"), "“other” is not known"),
    ],
)
def test_what_is_wrong_is_told(change, said, tmp_path):
    assert change[0] in GOOD
    path = tmp_path / "a.recipe"
    path.write_text(GOOD.replace(*change))
    with pytest.raises(FormatError, match=r"a\.recipe: ") as told:
        read_recipe(path)
    assert said in str(told.value)


def test_what_is_no_recipe_is_refused(tmp_path):
    for text, said in (("", "form unknown"), ("form = 1", "no source"), ("[" * 5000, "not a recipe")):
        with pytest.raises(RecipeError, match=said):
            read_text(text)
    with pytest.raises(FormatError, match="no such recipe"):
        read_recipe(tmp_path / "gone.recipe")
    (tmp_path / "b").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(FormatError, match="not text"):
        read_recipe(tmp_path / "b")
    with (tmp_path / "large").open("wb") as file:
        file.truncate(MOST + 1)
    with pytest.raises(FormatError, match="larger than any recipe"):
        read_recipe(tmp_path / "large")
    write_recipe(tmp_path / "good.recipe", read_text(GOOD))
    assert read_recipe(tmp_path / "good.recipe") == read_text(GOOD)


def test_slots_are_named_in_lower_case_with_hyphens():
    assert slug("Pit scan, ground") == "pit-scan-ground"
    assert slug("Day 1") == "day-1"
    assert slug("Day 1", ["day-1"]) == "day-1-2"
    assert slug("…") == "source"
    assert slug("__autzen_trim_") == "autzen-trim"
    assert slug("Höhen 2.5 m") == "höhen-2.5-m"
