"""Kinds of parameters beyond plain numbers: whatever is written is read back, and nothing is read that was not meant."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import LENGTH_UNITS, Quantity, Unit
from vastgrid.data.frame import Frame
from vastgrid.data.places import Area, Line
from vastgrid.data.table import Table, figures_table
from vastgrid.params.kinds import Levels, Styles, how_of, registered

NUMBERS = st.floats(-1e7, 1e7, allow_nan=False)
PLACES = st.lists(st.tuples(NUMBERS, NUMBERS), min_size=3, max_size=9, unique=True)
NAMES = st.text(st.characters(codec="utf-8", exclude_categories=("C", "Z"), exclude_characters="|:,;"), max_size=9)
FRAMES = st.sampled_from([Frame(), Frame(None, Unit.METRE), Frame(None, Unit.US_FOOT), Frame("EPSG:32632", Unit.METRE)])


def back(value):
    how = how_of(type(value))
    return how.parse(type(value), how.text(value))


@settings(max_examples=200, deadline=None)
@given(st.sampled_from([Area, Line]), PLACES, NAMES, FRAMES)
def test_places_keep_every_bit_their_name_and_their_frame(kind, corners, name, frame):
    if kind is Area and corners[0] == corners[-1]:
        return
    own = kind(tuple(corners), frame, name)
    assert back(own) == own and str(own)


@settings(max_examples=200, deadline=None)
@given(st.sets(NUMBERS, min_size=1, max_size=30), st.sampled_from([None, *LENGTH_UNITS]))
def test_levels_are_ascending_and_keep_their_unit(values, unit):
    own = Levels(tuple(sorted(values)), unit)
    assert back(own) == own
    assert own.in_unit(unit, "levels") == own.values


@pytest.mark.parametrize("text", ["", "high", "1, two", "inf", "nan 3", "1,,x m", "3 parsec", "m"])
def test_what_is_no_list_of_levels_is_refused(text):
    with pytest.raises(CallError):
        how_of(Levels).parse(Levels, text)


def test_levels_take_the_unit_of_the_heights():
    how = how_of(Levels)
    levels = how.parse(Levels, "12; 10 11.5")
    assert levels.values == (10.0, 11.5, 12.0)
    feet = Frame(None, Unit.METRE, Unit.FOOT)
    assert how.brought(levels, Quantity.Z_LENGTH, feet).unit is Unit.FOOT
    assert Levels((1.0,), Unit.METRE).in_unit(Unit.FOOT, "levels")[0] == pytest.approx(1 / 0.3048)
    assert how.spoken(how.parse(Levels, "1 2 3 4 5 6 m")) == "1, 2, …, 6 m"


def test_a_table_of_styles_answers_by_the_first_row_that_fits():
    how = how_of(Styles)
    styles = how.parse(Styles, "EDGE*: colour=#112233, width=2\n*: width=1")
    assert styles.of("EDGE_TOP") == {"colour": "#112233", "width": "2"} and styles.of("KERB") == {"width": "1"}
    assert Styles().of("KERB") == {} and how.spoken(styles) == "styles for EDGE*, *"
    for text in ("EDGE", "EDGE: colour", ": width=1"):
        with pytest.raises(CallError, match="is not a style"):
            how.parse(Styles, text)


def test_every_kind_says_how_it_is_edited_and_what_may_be_large():
    for kind, how in registered().items():
        assert how.editor, kind
    assert how_of(Area).large and how_of(Levels).large and not how_of(float).large
    with pytest.raises(KeyError, match="complex"):
        how_of(complex)


def test_a_box_says_where_it_is_and_a_name_stands_for_all():
    how = how_of(Area)
    assert str(how.parse(Area, "10,20,30,40")) == "E 10 … 30, N 20 … 40"
    assert str(how.parse(Area, "0 0, 5 0, 5.25 7")) == "an area of 3 corners in E 0 … 5.25, N 0 … 7"
    assert str(how.parse(Area, "Pond: 0 0, 5 0, 5 7")) == "Pond"
    assert str(how_of(Line).parse(Line, "0 0, 5 0")) == "a line of 2 corners in E 0 … 5, N 0 … 0"
    closed = how.parse(Area, "0 0, 5 0, 5 7, 0 0")
    assert len(closed.corners) == 3 and np.array_equal(closed.ring()[0], closed.ring()[-1])
    for text in ("30,20,10,40", "1 2", "1 2, 3 4", "1 2, 3 4, 5 x", "1 2 3, 4 5 6, 7 8 9"):
        with pytest.raises(CallError):
            how.parse(Area, text)


def test_a_place_drawn_on_an_unknown_grid_is_taken_as_it_stands():
    area = how_of(Area).parse(Area, "0 0, 5 0, 5 7")
    brought = area.in_frame(Frame(None, Unit.FOOT))
    assert brought.corners == area.corners and brought.frame.horizontal is Unit.FOOT
    with pytest.raises(CallError, match="degrees"):
        Area(area.corners, Frame(None, Unit.DEGREE)).in_frame(Frame(None, Unit.METRE))


def test_tables_are_kept_shown_and_written_whole(tmp_path):
    from vastgrid.lineage.store import Store

    table = figures_table("Volumes", [("cut, total", 12345.678901, "m³"), ("fill", 3.0, "m³"), ("rest", math.nan, "")])
    assert table.texts()[0] == ["cut, total", "12\u202f345.679", "m³"] and table.texts()[1][1] == "3"
    assert table.texts()[2][1] == ""
    assert table.as_csv().splitlines()[:2] == ["figure,value,unit", '"cut, total",12345.678901,m³']
    again = Store(tmp_path).get(Store(tmp_path).put(table))
    assert again.texts() == table.texts() and again.digest == table.digest and not again.located
    with pytest.raises(ValueError, match="differ in length"):
        Table(columns={"a": np.zeros(2), "b": np.zeros(3)})
