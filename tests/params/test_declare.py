"""Parameters as a person types them: read, checked, spoken and kept, for every kind of value."""

from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from vastgrid import catalog
from vastgrid.base.errors import ParamError
from vastgrid.base.quantities import LENGTH_UNITS, Length, Quantity, Unit
from vastgrid.params import declare
from vastgrid.params.declare import Param


class Way(Enum):
    OVER = "over"
    UNDER = "under ground"


@dataclass(frozen=True)
class Example:
    reach: Annotated[Length, Param("Reach", "How far.", Quantity.XY_LENGTH, above=0)] = Length(5.0, Unit.METRE)
    limit: Annotated[Length | None, Param("Limit", "At most.", Quantity.Z_LENGTH, least=0, absent="any height")] = None
    way: Annotated[Way, Param("Way", "Over or under.")] = Way.OVER
    every: Annotated[int, Param("Every", "Which one.", Quantity.COUNT, least=1, most=99, ordinal=True)] = 5
    share: Annotated[float, Param("Share", "In per cent.", Quantity.RATIO, least=0, most=100)] = 50.0
    deep: Annotated[bool, Param("Deep", "Whether it is.")] = False
    layers: Annotated[str, Param("Layers", "Names.", absent="no layer", said=(("*", "all layers"),))] = "*"


LENGTHS = st.builds(Length, st.floats(1e-6, 1e9, allow_nan=False), st.one_of(st.none(), st.sampled_from(LENGTH_UNITS)))
EXAMPLES = st.builds(
    Example,
    reach=LENGTHS,
    limit=st.one_of(st.none(), LENGTHS),
    way=st.sampled_from(Way),
    every=st.integers(1, 99),
    share=st.floats(0, 100),
    deep=st.booleans(),
    layers=st.text(st.characters(codec="utf-8", exclude_categories=("C", "Z")), min_size=1),
)


@settings(max_examples=300, deadline=None)
@given(EXAMPLES)
def test_words_read_back_to_the_same_value(example):
    words = declare.to_words(example)
    assert set(words) == {each.name for each in declare.fields(Example)}
    assert declare.build(Example, words) == example, "to the last bit"


@settings(max_examples=300, deadline=None)
@given(st.sampled_from([each.name for each in declare.fields(Example)]), st.text(max_size=12))
def test_any_text_is_a_value_or_a_fault_that_names_the_parameter(name, text):
    told = None
    try:
        value = declare.build(Example, {name: text})
    except ParamError as error:
        told = error
    if told is None:
        assert declare.build(Example, declare.to_words(value)) == value
    else:
        assert str(told).startswith(f"{name}: ")


@pytest.mark.parametrize(
    ("name", "text", "value"),
    [
        ("reach", "0.5m", Length(0.5, Unit.METRE)), ("reach", " 12 US-ft ", Length(12, Unit.US_FOOT)),
        ("reach", "2", Length(2)), ("reach", "1e3 ft", Length(1000, Unit.FOOT)), ("reach", ".5mm", Length(0.5, Unit.MILLIMETRE)),
        ("limit", "none", None), ("limit", "", None), ("limit", "OFF", None), ("limit", "0", Length(0)),
        ("way", "Under Ground", Way.UNDER), ("every", "3rd", 3), ("every", "11th", 11), ("every", "+7", 7),
        ("share", "1e1", 10.0), ("deep", "Yes", True), ("deep", "off", False), ("deep", "1", True), ("layers", " A,B ", "A,B"),
    ],
)  # fmt: skip
def test_what_people_type(name, text, value):
    assert getattr(declare.build(Example, {name: text}), name) == value


@pytest.mark.parametrize(
    ("name", "text", "why"),
    [
        ("reach", "0", "more than 0, not 0"), ("reach", "-1m", "more than 0"), ("reach", "none", "is not a length"),
        ("reach", "5 deg", "cannot be in degrees"), ("reach", "5 parsec", "parsec"), ("reach", "inf", "is not a length"),
        ("limit", "-0.1", "at least 0"), ("way", "through", "is not one of the choices; there are over, under ground"), ("every", "0", "at least 1"),
        ("every", "100", "at most 99, not 100"), ("every", "2.5", "is not a whole number"), ("every", "5 th", "is not a whole number"),
        ("share", "nan", "a finite number"), ("share", "half", "is not a number"), ("deep", "perhaps", "neither yes nor no"),
    ],
)  # fmt: skip
def test_what_cannot_be(name, text, why):
    with pytest.raises(ParamError, match=why):
        declare.build(Example, {name: text})


def test_an_unknown_name_lists_those_there_are():
    with pytest.raises(ParamError, match="colour: there is no such parameter here; there are reach, limit, way"):
        declare.build(Example, {"colour": "red"})


@pytest.mark.parametrize(
    ("number", "said"),
    [
        (1, "1st"),
        (2, "2nd"),
        (3, "3rd"),
        (4, "4th"),
        (11, "11th"),
        (12, "12th"),
        (13, "13th"),
        (21, "21st"),
        (22, "22nd"),
        (99, "99th"),
    ],
)
def test_ordinals(number, said):
    assert declare.spoken(declare.field_named(Example, "every"), number) == said
    assert declare.build(Example, {"every": said}).every == number


def test_a_sentence_has_its_fields_where_they_stand():
    template = "{inputs} within {reach}, {limit}, every {every} {way}, on {layers}."
    pieces = declare.sentence(template, Example(), {"inputs": "Points A"})
    assert declare.plain(pieces) == "Points A within 5 m, any height, every 5th over, on all layers."
    assert [piece.field for piece in pieces if piece.field] == ["reach", "limit", "every", "way", "layers"]
    assert declare.plain(declare.sentence("{layers}", Example(layers=""), {})) == "no layer"


def test_a_missing_value_is_asked_for():
    with pytest.raises(ParamError, match="a value is needed"):
        declare.check_value(declare.field_named(Example, "reach"), None)
    declare.check_value(declare.field_named(Example, "limit"), None)


# -- what is declared in the program


DECLARED = [(each.id, each.params) for each in (*catalog.CONVERSIONS, *catalog.CHECKS)]
DECLARED += [(f"{each.id}-read", each.read_params) for each in catalog.FORMATS if each.read]
DECLARED += [(f"{each.id}-write", each.write_params) for each in catalog.FORMATS if each.write]
FIELDS = [(f"{own}.{each.name}", each) for own, params in DECLARED for each in declare.fields(params)]


@pytest.mark.parametrize("field", [each for _, each in FIELDS], ids=[name for name, _ in FIELDS])
def test_every_parameter_explains_itself(field):
    param = field.param
    assert param.label[0].isupper() and not param.label.endswith("."), "a label is a name"
    assert param.help.endswith((".", ".)")) and len(param.help) > 8, "the help is a sentence"
    declare.check_value(field, field.default)
    if field.kind is Length:
        assert param.quantity in (Quantity.XY_LENGTH, Quantity.Z_LENGTH, Quantity.VALUE), (
            "which unit a bare number takes has to be known"
        )
    for value, _ in param.said:
        declare.parse_value(field, value)
    if param.least is not None and param.most is not None:
        assert param.least < param.most


@pytest.mark.parametrize("own", catalog.CONVERSIONS, ids=lambda each: each.id)
def test_every_conversion_is_a_sentence(own):
    names = [(role.role, f"{role.role} of Day {k}") for k, role in enumerate(own.inputs)]
    pieces = own.sentence(own.params(), names)
    text = declare.plain(pieces)
    assert text.endswith(".") and all(name in text for _, name in names) and "{" not in text and "None" not in text
