"""Kinds of parameter values: how each is read, kept as words, spoken, edited and brought into a frame.

A kind is registered once, beside the type it is for; forms, sentences, the command line, the finder, saved jobs and
recipes ask this registry and know no type by name.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Any, Protocol

from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Length, Quantity, Unit, parse_length, parse_unit
from vastgrid.base.words import instead, shortly


class FrameLike(Protocol):
    """What a value needs to know of the frame of data."""

    @property
    def crs(self) -> str | None:
        """Coordinate reference system."""

    @property
    def horizontal(self) -> Unit | None:
        """Unit of plan."""

    @property
    def vertical(self) -> Unit | None:
        """Unit of heights."""


def _same(value: Any, quantity: Quantity | None, frame: FrameLike) -> Any:
    return value


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind of value.

    Attributes
    ----------
    parse : callable
        Type as declared, and a word → the value; raises CallError.
    text : callable
        Value → the words that `parse` reads back, nothing lost.
    spoken : callable
        Value → what a sentence says.
    editor : str
        How it is edited: line, choice, tick, drawn or lines.
    number : callable
        Value → the number that bounds apply to, or None.
    brought : callable
        Value, quantity and frame of the data → the value as it is in that frame; raises CallError.
    large : bool
        Whether it may be long: then jobs keep it beside their file, and the command line reads it from @FILE.
    bare : bool
        Whether a bare number in a plain sentence can mean it.
    choices : callable
        Type as declared → the words it can take, where they are few.
    """

    parse: Callable[[Any, str], Any]
    text: Callable[[Any], str] = str
    spoken: Callable[[Any], str] = str
    editor: str = "line"
    number: Callable[[Any], float | None] = lambda value: None
    brought: Callable[[Any, Quantity | None, FrameLike], Any] = _same
    large: bool = False
    bare: bool = False
    choices: Callable[[Any], tuple[str, ...]] = lambda kind: ()


EDITORS = ("line", "choice", "tick", "drawn", "lines")
_kinds: dict[type, Kind] = {}


def register(kind: type, how: Kind) -> None:
    """Say how values of a type, and of types made from it, are read and written."""
    assert how.editor in EDITORS
    _kinds[kind] = how


def how_of(kind: type) -> Kind:
    """Return how values of a type are read and written.

    Raises
    ------
    KeyError
        If nobody registered it.
    """
    for each in kind.__mro__:
        if each in _kinds:
            return _kinds[each]
    raise KeyError(f"no kind of parameter is registered for {kind.__name__}")


def registered() -> dict[type, Kind]:
    """Return every kind."""
    return dict(_kinds)


# ------------------------------------------------------------------------------------------------ the plain kinds


def _choice(kind: type[Enum], word: str) -> Enum:
    for member in kind:
        if str(member.value).lower() == word.lower():
            return member
    raise CallError(f"“{shortly(word)}” is not one of the choices; {instead(word, _choices(kind))}")


def _choices(kind: type[Enum]) -> tuple[str, ...]:
    return tuple(member.value for member in kind)


def _truth(_: Any, word: str) -> bool:
    if word.lower() in ("yes", "true", "on", "1"):
        return True
    if word.lower() in ("no", "false", "off", "0"):
        return False
    raise CallError(f"“{word}” is neither yes nor no")


def _whole(_: Any, word: str) -> int:
    number = re.fullmatch(r"([+-]?\d{1,15})(st|nd|rd|th)?", word)
    if not number:
        raise CallError(f"“{word}” is not a whole number")
    return int(number[1])


def _number(_: Any, word: str) -> float:
    try:
        return float(word)
    except ValueError:
        raise CallError(f"“{word}” is not a number") from None


def _length_text(length: Length) -> str:
    number = repr(length.value)
    return number if length.unit is None else number + length.unit.value


def _length_in(length: Length, quantity: Quantity | None, frame: FrameLike) -> Length:
    """Give a bare length the unit that the data has; one with a unit stays as it was said."""
    known = {Quantity.Z_LENGTH: frame.vertical, Quantity.XY_LENGTH: frame.horizontal}.get(quantity)  # type: ignore[arg-type]
    if length.unit is None and known is not None and known is not Unit.DEGREE:
        return Length(length.value, known)
    return length


@dataclass(frozen=True, slots=True)
class Steps:
    """How far east, north and up."""

    east: Length
    north: Length
    up: Length = Length(0.0)

    def __str__(self) -> str:
        up = f" and {self.up} up" if self.up.value else ""
        return f"{self.east} east{',' if up else ' and'} {self.north} north{up}"

    def in_frame_units(self, plan: Unit | None, height: Unit | None) -> tuple[float, float, float]:
        """Return the three numbers in the units of some data.

        Raises
        ------
        CallError
            If one has a unit and the data's is unknown.
        """
        return self.east.in_unit(plan, "by"), self.north.in_unit(plan, "by"), self.up.in_unit(height, "by")


def _steps(_: Any, word: str) -> Steps:
    parts = [part for part in re.split(r"[,;]\s*|\s+(?=[-+\d.])", word.strip()) if part]
    if len(parts) not in (2, 3):
        raise CallError(f"“{shortly(word)}” is not east,north or east,north,up, such as 100,200,0.5")
    return Steps(*(parse_length(part) for part in parts))


def _steps_text(steps: Steps) -> str:
    return ",".join(_length_text(each) for each in (steps.east, steps.north, steps.up))


def _steps_in(steps: Steps, quantity: Quantity | None, frame: FrameLike) -> Steps:
    plan, height = Quantity.XY_LENGTH, Quantity.Z_LENGTH
    return Steps(
        _length_in(steps.east, plan, frame), _length_in(steps.north, plan, frame), _length_in(steps.up, height, frame)
    )


@dataclass(frozen=True, slots=True)
class Fitting:
    """A length, or one that follows the data: None."""

    length: Length | None = None

    def __str__(self) -> str:
        return "what the density allows" if self.length is None else str(self.length)


def _fitting(_: Any, word: str) -> Fitting:
    return Fitting(None if word.lower() == "auto" else parse_length(word))


def _fitting_text(fitting: Fitting) -> str:
    return "auto" if fitting.length is None else _length_text(fitting.length)


def _fitting_number(fitting: Fitting) -> float | None:
    return None if fitting.length is None else float(fitting.length.value)


def _fitting_in(fitting: Fitting, quantity: Quantity | None, frame: FrameLike) -> Fitting:
    return fitting if fitting.length is None else Fitting(_length_in(fitting.length, quantity, frame))


@dataclass(frozen=True, slots=True)
class Levels:
    """A list of levels, in ascending order, in one unit; without one they are in the unit of the data's heights."""

    values: tuple[float, ...]
    unit: Unit | None = None

    def __str__(self) -> str:
        shown = [f"{value:.10g}" for value in self.values]
        if len(shown) > 4:
            shown = [*shown[:2], "…", shown[-1]]
        return ", ".join(shown) + (f" {self.unit.value}" if self.unit else "")

    def in_unit(self, unit: Unit | None, what: str) -> tuple[float, ...]:
        """Return the levels in the data's unit; see `Length.in_unit`."""
        return tuple(Length(value, self.unit).in_unit(unit, what) for value in self.values)


def _levels(_: Any, word: str) -> Levels:
    parts = [part for part in re.split(r"[;,\s]+", word.strip()) if part]
    unit = None
    ending = re.fullmatch(r"([+-]?[\d.]+(?:[eE][+-]?\d+)?)?([A-Za-z][A-Za-z_-]*)", parts[-1]) if parts else None
    if ending:
        unit = parse_unit(ending[2])
        parts[-1:] = [ending[1]] if ending[1] else []
    try:
        values = sorted({float(part) for part in parts})
    except ValueError:
        values = []
    if not values or not all(math.isfinite(value) for value in values):
        raise CallError(
            f"“{word}” is not a list of levels; write numbers separated by commas, such as 210, 212.5, 220 m"
        )
    return Levels(tuple(values), unit)


def _levels_text(levels: Levels) -> str:
    return ", ".join(repr(value) for value in levels.values) + (f" {levels.unit.value}" if levels.unit else "")


def _levels_in(levels: Levels, quantity: Quantity | None, frame: FrameLike) -> Levels:
    if levels.unit or not frame.vertical or quantity is not Quantity.Z_LENGTH:
        return levels
    return Levels(levels.values, frame.vertical)


@dataclass(frozen=True, slots=True)
class Grade:
    """How steep something is. A bare number is in per cent.

    Attributes
    ----------
    value : float
        As it was said.
    said : str
        “%”, “deg”, or “:1” for horizontal per one vertical.
    """

    value: float
    said: str = "%"

    def __str__(self) -> str:
        return {"%": f"{self.value:.10g} %", "deg": f"{self.value:.10g}°"}.get(self.said, f"{self.value:.10g} : 1")

    @property
    def rise(self) -> float:
        """Rise over run."""
        if self.said == "%":
            return self.value / 100.0
        return math.tan(math.radians(self.value)) if self.said == "deg" else 1.0 / self.value


class Batter(Grade):
    """How steep a slope is built. A bare number is horizontal per one vertical."""


def _grade(kind: Any, word: str) -> Grade:
    found = re.fullmatch(r"([+]?[\d.]+(?:[eE][+-]?\d+)?)\s*(%|deg|degrees|°|:\s*1)?", word)
    try:
        value = float(found[1]) if found else 0.0
    except ValueError:
        value = 0.0
    said = re.sub(r"\s", "", (found[2] if found else "") or (":1" if issubclass(kind, Batter) else "%"))
    said = "deg" if said in ("degrees", "°") else said
    if not value > 0.0 or not math.isfinite(value) or (said == "deg" and value >= 90.0):
        raise CallError(f"“{word}” is not a slope; write 3 %, 1.7deg, or 2:1 for two horizontal to one vertical")
    return kind(value, said)  # type: ignore[no-any-return]


@dataclass(frozen=True, slots=True)
class Styles:
    """A table of styles: for names or patterns such as EDGE*, in order, the values of some columns.

    Attributes
    ----------
    rows : tuple of (str, tuple of (str, str))
        Name or pattern, and its values by column.
    """

    rows: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = ()

    def of(self, name: str) -> dict[str, str]:
        """Return the values of the first row that fits a name."""
        import fnmatch

        return next((dict(values) for each, values in self.rows if fnmatch.fnmatchcase(name, each)), {})

    def __str__(self) -> str:
        return f"styles for {', '.join(name for name, _ in self.rows)}" if self.rows else "no styles"


def _styles(_: Any, word: str) -> Styles:
    rows = []
    for line in re.split(r"[\n;]", word):
        if not line.strip():
            continue
        name, colon, rest = line.partition(":")
        pairs = [part.partition("=") for part in rest.split(",") if part.strip()]
        if not colon or not name.strip() or not all(equals and key.strip() for key, equals, _ in pairs):
            raise CallError(f"“{line.strip()}” is not a style; write NAME: column=value, column=value")
        rows.append((name.strip(), tuple((key.strip(), value.strip()) for key, _, value in pairs)))
    return Styles(tuple(rows))


def _styles_text(styles: Styles) -> str:
    return "\n".join(f"{name}: {', '.join(f'{key}={value}' for key, value in values)}" for name, values in styles.rows)


class Several:
    """Some of a few words; a subclass names them in `words`.

    Attributes
    ----------
    chosen : tuple of str
        Those that were chosen, in the order of `words`.
    """

    words: tuple[str, ...] = ()

    def __init__(self, chosen: Sequence[str] | None = None) -> None:
        self.chosen = self.words if chosen is None else tuple(word for word in self.words if word in chosen)

    def __contains__(self, word: str) -> bool:
        return word in self.chosen

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Several) and self.chosen == other.chosen

    def __hash__(self) -> int:
        return hash(self.chosen)

    def __str__(self) -> str:
        return "all" if self.chosen == self.words else ", ".join(self.chosen) or "none"


def _several(kind: Any, word: str) -> Several:
    if word.strip().lower() in ("all", "none"):
        return kind(None if word.strip().lower() == "all" else ())  # type: ignore[no-any-return]
    asked = [part.strip().lower() for part in word.split(",") if part.strip()]
    for part in asked:
        if part not in kind.words:
            raise CallError(f"“{shortly(part)}” is not one of the choices; {instead(part, kind.words)}")
    return kind(asked)  # type: ignore[no-any-return]


def _as_float(value: Any) -> float | None:
    return float(value)


register(Several, Kind(_several, str))
register(str, Kind(lambda _, word: word))
register(Enum, Kind(_choice, lambda own: str(own.value), lambda own: str(own.value), "choice", choices=_choices))
register(bool, Kind(_truth, lambda own: "yes" if own else "no", lambda own: "yes" if own else "no", "tick"))
register(int, Kind(_whole, number=_as_float))
register(float, Kind(_number, repr, lambda own: f"{own:.10g}", number=_as_float))
register(
    Length, Kind(lambda _, word: parse_length(word), _length_text, str, number=lambda own: float(own.value),
                 brought=_length_in, bare=True),
)  # fmt: skip
register(Fitting, Kind(_fitting, _fitting_text, str, number=_fitting_number, brought=_fitting_in, bare=False))
register(Steps, Kind(_steps, _steps_text, str, brought=_steps_in, bare=False))
register(Levels, Kind(_levels, _levels_text, str, brought=_levels_in, large=True))
register(Grade, Kind(_grade, lambda own: f"{own.value!r}{own.said}"))
register(Styles, Kind(_styles, _styles_text, str, "lines", large=True))
