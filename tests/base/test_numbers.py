"""Units by their definitions, lengths and numbers as people write and read them, and files that are all or nothing.

1 in = 25.4 mm and 1 ft = 0.3048 m exactly (international yard and pound agreement, 1959); 1 US survey ft = 1200/3937 m
exactly (US Coast and Geodetic Survey Bulletin 26, 1893; NIST SP 811, appendix B.6).
"""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vastgrid.base.errors import CallError, WriteError
from vastgrid.base.files import fingerprint, replacing, write_text
from vastgrid.base.findings import count
from vastgrid.base.quantities import LENGTH_UNITS, Length, Unit, factor, length_in, parse_length, parse_unit
from vastgrid.base.words import spaced


@pytest.mark.parametrize(
    ("unit", "metres"),
    [
        (Unit.METRE, Fraction(1)),
        (Unit.MILLIMETRE, Fraction(1, 1000)),
        (Unit.INCH, Fraction(254, 10_000)),
        (Unit.FOOT, Fraction(3048, 10_000)),
        (Unit.US_FOOT, Fraction(1200, 3937)),
    ],
)
def test_units_are_exact(unit, metres):
    assert unit.metres == metres
    assert factor(unit, Unit.METRE) == float(metres) and factor(Unit.METRE, unit) == float(1 / metres)


def test_the_two_feet_differ_by_two_parts_in_a_million():
    """At a northing of 500 000 ft they are a foot apart, which is why they are never taken for each other."""
    assert 500_000 * factor(Unit.US_FOOT, Unit.FOOT) - 500_000 == pytest.approx(1.0, rel=1e-3)


@pytest.mark.parametrize("unit", LENGTH_UNITS)
def test_units_are_known_by_their_own_words(unit):
    assert parse_unit(unit.value) is unit and parse_unit(unit.title) is unit
    with pytest.raises(CallError, match="furlong"):
        parse_unit("furlong")


def test_degrees_have_no_length():
    with pytest.raises(CallError, match="reproject to a grid first"):
        factor(Unit.DEGREE, Unit.METRE)


@given(st.floats(1e-9, 1e9), st.sampled_from(LENGTH_UNITS), st.sampled_from(LENGTH_UNITS))
def test_there_and_back(value, one, two):
    there = length_in(Length(value, one), two)
    assert length_in(Length(there, two), one) == pytest.approx(value, rel=1e-14)
    assert Length(value, one).in_unit(two, "it") == pytest.approx(there, rel=1e-14)


@given(st.floats(-1e6, 1e6).map(lambda v: round(v, 4)), st.one_of(st.none(), st.sampled_from(LENGTH_UNITS)))
def test_a_length_reads_as_it_is_written(value, unit):
    assert parse_length(str(Length(value, unit))) == Length(float(f"{value:.10g}"), unit)


def test_a_bare_length_is_in_what_is_usual():
    assert length_in(Length(2.0), Unit.FOOT) == pytest.approx(2.0 / 0.3048)
    assert length_in(Length(2.0), Unit.FOOT, Unit.FOOT) == 2.0
    assert length_in(Length(2.0, Unit.FOOT), None) == 2.0, "where the data's unit is unknown the number stands"


@pytest.mark.parametrize(
    ("value", "decimals", "said"),
    [
        (0, 0, "0"),
        (999, 0, "999"),
        (1000, 0, "1\u202f000"),
        (12_345_678.905, 2, "12\u202f345\u202f678.90"),
        (-4500.25, 1, "-4\u202f500.2"),
        (-0.0, 0, "0"),
        (-0.0004, 3, "0.000"),
    ],
)
def test_thousands_are_set_apart(value, decimals, said):
    assert spaced(value, decimals) == said


def test_one_and_many():
    assert [count(n, "point") for n in (0, 1, 2, 1500)] == ["0 points", "1 point", "2 points", "1\u202f500 points"]
    assert count(2, "entity", "entities") == "2 entities"


# -- files


def test_a_file_keeps_its_rights_and_gets_its_name_only_when_whole(tmp_path):
    target = tmp_path / "report.md"
    write_text(target, "first")
    target.chmod(0o640)
    with replacing(target) as temporary:
        temporary.write_text("second")
        assert target.read_text() == "first" and temporary.name == "report.md"
        assert temporary.parent.parent == tmp_path
    assert target.read_text() == "second" and target.stat().st_mode & 0o777 == 0o640


def test_whatever_is_raised_the_old_file_stays(tmp_path):
    target = tmp_path / "a.csv"
    target.write_text("old")

    def write(error):
        with replacing(target) as temporary:
            temporary.write_text("new")
            raise error

    for error in (ValueError("x"), KeyboardInterrupt()):
        with pytest.raises(type(error)):
            write(error)
    assert target.read_text() == "old" and [each.name for each in tmp_path.iterdir()] == ["a.csv"]


def test_a_writer_that_takes_its_file_away_is_told(tmp_path):
    with pytest.raises(WriteError, match="was not written"), replacing(tmp_path / "a.csv") as temporary:
        temporary.unlink()
    assert not list(tmp_path.iterdir())


def test_a_fingerprint_is_of_the_bytes(tmp_path):
    one, two = tmp_path / "one", tmp_path / "two"
    one.write_bytes(b"abc" * 1000)
    two.write_bytes(b"abc" * 1000)
    assert fingerprint(one) == fingerprint(two)
    two.write_bytes(b"abc" * 999 + b"abd")
    assert fingerprint(one) != fingerprint(two)


def test_a_large_files_fingerprint_looks_at_its_ends_and_between(tmp_path):
    """Files beyond 64 MB are sampled; their time counts too, so that a change between the samples is not missed."""
    import os

    path = tmp_path / "large"
    with path.open("wb") as file:
        file.truncate((64 << 20) + 5)
    first = fingerprint(path)
    with path.open("r+b") as file:
        file.seek(-1, 2)
        file.write(b"x")
    assert fingerprint(path) != first
    second = fingerprint(path)
    os.utime(path, ns=(1, 1))
    assert fingerprint(path) != second
