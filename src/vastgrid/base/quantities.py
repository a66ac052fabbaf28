"""Length units with exact factors, and lengths as the user writes them."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from enum import Enum
from fractions import Fraction

from vastgrid.base.errors import CallError

# Metres in a degree of latitude, on a sphere as large as the Earth (111.2 km; GRS 80's mean radius of 6 371 008.8 m).
DEGREE = 111_195.08


class Unit(Enum):
    """A unit of length (or, for geographic coordinates, the degree).

    The value is the token used on the command line and in saved jobs. Factors: the international foot is 0.3048 m
    exactly (international yard and pound agreement, 1959); the US survey foot is 1200/3937 m (Mendenhall Order, 1893).
    """

    METRE = "m"
    MILLIMETRE = "mm"
    INCH = "in"
    FOOT = "ft"
    US_FOOT = "us-ft"
    DEGREE = "deg"

    @property
    def title(self) -> str:
        """The unit's full name."""
        return _TITLES[self]

    @property
    def metres(self) -> Fraction:
        """Length in metres, exact.

        Raises
        ------
        CallError
            For the degree, which is no length.
        """
        if self is Unit.DEGREE:
            raise CallError("degrees are angles: they have no length to convert; reproject to a grid first")
        return _METRES[self]


def unit_word(unit: Unit | None) -> str:
    """Return “ m”, as it follows a number; nothing where the unit is unknown."""
    return f" {unit.value}" if unit else ""


def square_word(unit: Unit | None) -> str:
    """Return “ m²”, as it follows an area; “ square units” where the unit is unknown."""
    return f" {unit.value}²" if unit else " square units"


_METRES = {
    Unit.METRE: Fraction(1),
    Unit.MILLIMETRE: Fraction(1, 1000),
    Unit.INCH: Fraction(254, 10000),
    Unit.FOOT: Fraction(3048, 10000),
    Unit.US_FOOT: Fraction(1200, 3937),
}
_TITLES = {
    Unit.METRE: "metre",
    Unit.MILLIMETRE: "millimetre",
    Unit.INCH: "inch",
    Unit.FOOT: "international foot",
    Unit.US_FOOT: "US survey foot",
    Unit.DEGREE: "degree",
}
_NAMES = {
    Unit.METRE: ("m", "metre", "metres", "meter", "meters"),
    Unit.MILLIMETRE: ("mm", "millimetre", "millimetres", "millimeter", "millimeters"),
    Unit.INCH: ("in", "inch", "inches"),
    Unit.FOOT: ("ft", "foot", "feet", "ift", "international-foot", "internationalfoot"),
    Unit.US_FOOT: ("us-ft", "usft", "us_ft", "ftus", "us-survey-foot", "ussurveyfoot", "survey-foot", "sft"),
    Unit.DEGREE: ("deg", "degree", "degrees"),
}
LENGTH_UNITS = tuple(unit for unit in Unit if unit is not Unit.DEGREE)


def parse_unit(text: str) -> Unit:
    """Return the unit a word stands for.

    Raises
    ------
    CallError
        If no unit has that name.
    """
    word = text.strip().lower().replace(" ", "-")
    for unit, names in _NAMES.items():
        if word in names:
            return unit
    known = ", ".join(unit.value for unit in LENGTH_UNITS)
    raise CallError(f"“{text}” is not a unit of length; use one of {known}")


def factor(source: Unit, target: Unit) -> float:
    """Return the number that turns lengths in `source` into lengths in `target`, rounded once from the exact ratio."""
    return float(source.metres / target.metres)


class Quantity(Enum):
    """What a number measures; it decides which unit it is in."""

    XY_LENGTH = "plan length"
    Z_LENGTH = "height"
    # Of what a surface holds, whatever that is: a bare number takes the unit of that.
    VALUE = "value"
    COUNT = "count"
    RATIO = "ratio"


@dataclass(frozen=True, slots=True)
class Length:
    """A length as written: a number and, perhaps, a unit. Without one it is in the unit of the data it is used on.

    Degrees are not a unit of length: a number of them is one of the data's own.
    """

    value: float
    unit: Unit | None = None

    def __post_init__(self) -> None:
        if self.unit is Unit.DEGREE:
            object.__setattr__(self, "unit", None)

    def __str__(self) -> str:
        number = f"{self.value:.10g}"
        return number if self.unit is None else f"{number} {self.unit.value}"

    def in_unit(self, unit: Unit | None, what: str) -> float:
        """Return the number in the data's unit.

        Raises
        ------
        CallError
            If the length has a unit and the data's is unknown.
        """
        if self.unit is None or self.unit is unit:
            return self.value
        if unit is None:
            raise CallError(
                f"{what} is given in {self.unit.title}, but the unit of the data is unknown; "
                f"say it with --from-units and --from-vertical-units, or give {what} without a unit"
            )
        return self.value * factor(self.unit, unit)


_LENGTH = re.compile(r"\s*([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*([A-Za-z][A-Za-z_ -]*)?\s*")


def parse_length(text: str) -> Length:
    """Read “0.5”, “0.5m” or “2 us-ft”.

    Raises
    ------
    CallError
        If it is not a finite number with an optional unit of length.
    """
    found = _LENGTH.fullmatch(text)
    if not found or not math.isfinite(float(found[1])):
        raise CallError(f"“{text}” is not a length; write a number with an optional unit, such as 0.5 or 0.5m")
    unit = parse_unit(found[2]) if found[2] else None
    if unit is Unit.DEGREE:
        raise CallError(f"“{text}”: a length cannot be in degrees")
    return Length(float(found[1]), unit)


def length_in(length: Length, unit: Unit | None, default: Unit = Unit.METRE) -> float:
    """Return a length in the data's unit; one without a unit of its own is in metres, or what `default` says.

    Data of unknown unit takes the number as it stands; in data in degrees a length counts as one along a meridian.
    """
    own = length.unit or default
    if unit is None or own is unit:
        return length.value
    if unit is Unit.DEGREE:
        return length.value * float(own.metres) / DEGREE
    return length.value * float(own.metres / unit.metres)
