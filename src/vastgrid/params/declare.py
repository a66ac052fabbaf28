"""Typed parameters, declared once: the sentence, form, command line, recipe and report all read these declarations."""

from __future__ import annotations

import dataclasses
import keyword
import math
import re
import types
import typing
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.quantities import Quantity
from vastgrid.base.words import instead, shortly
from vastgrid.params.kinds import Kind, how_of


@dataclass(frozen=True, slots=True)
class Param:
    """What is said about one parameter, beside its type and default.

    Attributes
    ----------
    label : str
        Short name for a form.
    help : str
        One sentence for tool tips and ``--help``.
    quantity : Quantity or None
        What a number measures.
    above, least, most : float or None
        Exclusive lower, inclusive lower and inclusive upper bound.
    absent : str
        What the sentence says where the value is None or empty.
    ordinal : bool
        The sentence writes 5 as “5th”.
    said : tuple of (value, words)
        What the sentence says for certain values instead of the value.
    once : bool
        It says something of one file or place alone, so it is not proposed for the next.
    none : str
        Word that means no value, beside “none”, where that has a name of its own.
    """

    label: str
    help: str
    quantity: Quantity | None = None
    above: float | None = None
    least: float | None = None
    most: float | None = None
    absent: str = "none"
    ordinal: bool = False
    said: tuple[tuple[str, str], ...] = ()
    once: bool = False
    none: str = ""


@dataclass(frozen=True, slots=True)
class Field:
    """A parameter as renderers see it: declaration, type and default together.

    Its name is that of the attribute, without the underscore that words of the language need (`as_` is said “as”).
    """

    name: str
    kind: type
    optional: bool
    default: Any
    param: Param

    @property
    def attribute(self) -> str:
        """The attribute that holds it."""
        return f"{self.name}_" if keyword.iskeyword(self.name) else self.name

    @property
    def choices(self) -> tuple[str, ...]:
        """The words an enumerated parameter can take."""
        return self.how.choices(self.kind)

    @property
    def how(self) -> Kind:
        """How values of its kind are read, spoken and kept."""
        return how_of(self.kind)


def fields(params: type) -> tuple[Field, ...]:
    """Return the declared parameters of a parameter class, in order."""
    return _fields(params)


_cache: dict[type, tuple[Field, ...]] = {}


def _fields(params: type) -> tuple[Field, ...]:
    if params not in _cache:
        hints = typing.get_type_hints(params, include_extras=True)
        found = []
        for each in dataclasses.fields(params):
            kind, param = typing.get_args(hints[each.name])[:2]
            optional = isinstance(kind, types.UnionType)
            if optional:
                kind = next(k for k in typing.get_args(kind) if k is not type(None))
            found.append(Field(each.name.removesuffix("_"), kind, optional, each.default, param))
        _cache[params] = tuple(found)
    return _cache[params]


def field_named(params: type, name: str) -> Field:
    """Return one declared parameter.

    Raises
    ------
    ParamError
        If there is none of that name; the text lists those there are.
    """
    for each in _fields(params):
        if each.name == name:
            return each
    known = [each.name for each in _fields(params)]
    raise ParamError(shortly(name), f"there is no such parameter here; {instead(name, known)}")


def parse_value(field: Field, text: str) -> Any:
    """Read one parameter as a person types it, and check it.

    Raises
    ------
    ParamError
        If it cannot be read or is out of range.
    """
    word = text.strip()
    if field.optional and word.lower() in ("", "none", "off", field.param.none or "none"):
        return None
    try:
        value = field.how.parse(field.kind, word)
    except CallError as error:
        raise ParamError(field.name, str(error)) from error
    check_value(field, value)
    return value


def check_value(field: Field, value: Any) -> None:
    """Check one value against its declaration.

    Raises
    ------
    ParamError
        If it is missing, not finite, or out of range.
    """
    if value is None:
        if not field.optional:
            raise ParamError(field.name, "a value is needed")
        return
    number = field.how.number(value)
    if number is None:
        return
    if not math.isfinite(number):
        raise ParamError(field.name, "it has to be a finite number")
    param = field.param
    if param.above is not None and number <= param.above:
        raise ParamError(field.name, f"it has to be more than {param.above:g}, not {number:g}")
    if param.least is not None and number < param.least:
        raise ParamError(field.name, f"it has to be at least {param.least:g}, not {number:g}")
    if param.most is not None and number > param.most:
        raise ParamError(field.name, f"it has to be at most {param.most:g}, not {number:g}")


def build(params: type, words: dict[str, str]) -> Any:
    """Make a parameter object from ``name=value`` words, unnamed ones at their defaults.

    Raises
    ------
    ParamError
        For an unknown name or a bad value.
    """
    own = {name: field_named(params, name) for name in words}
    return params(**{own[name].attribute: parse_value(own[name], text) for name, text in words.items()})


def again(params: type, words: Mapping[str, str]) -> dict[str, str]:
    """Return the words that may be proposed the next time: none that say where something lies, or are of one file's data alone."""
    able = {
        field.name
        for field in fields(params)
        if not field.param.once and not field.how.large and field.how.editor != "drawn"
    }
    return {name: text for name, text in words.items() if name in able}


def canonical(params: type, words: dict[str, str]) -> dict[str, str]:
    """Return words as `to_words` writes them; an empty word for what is open by itself asks for nothing.

    Raises
    ------
    ParamError
        For an unknown name or a bad value.
    """
    found = {}
    for name, text in words.items():
        field = field_named(params, name)
        value = parse_value(field, text)
        if value not in (None, "") or value != field.default:
            found[name] = value_text(value)
    return found


def to_words(params: Any) -> dict[str, str]:
    """Return a parameter object as words that `build` reads back: for saved jobs, recipes and logs."""
    return {each.name: value_text(getattr(params, each.attribute)) for each in _fields(type(params))}


def value_text(value: Any) -> str:
    """Return one value as `parse_value` reads it."""
    return "none" if value is None else how_of(type(value)).text(value)


def spoken(field: Field, value: Any) -> str:
    """Return one value as the sentence says it."""
    if value is None or value == "":
        return field.param.absent
    if field.param.ordinal and isinstance(value, int):
        ending = "th" if 10 <= value % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(value % 10, "th")
        return f"{value}{ending}"
    return dict(field.param.said).get(value_text(value)) or field.how.spoken(value)


@dataclass(frozen=True, slots=True)
class Phrase:
    """A piece of a sentence: plain words, or the value of a field that can be changed.

    Attributes
    ----------
    settled : bool
        Whether nobody asked for the value: it was settled for this data, or is the default.
    """

    text: str
    field: str | None = None
    settled: bool = False


_SLOT = re.compile(r"\{(\w+)(?:=([^{}]*))?\}")
_OPTIONAL = re.compile(r"\[([^\[\]]*)\]")


def sentence(
    template: str, params: Any, others: dict[str, str], asked: Collection[str] | None = None
) -> tuple[Phrase, ...]:
    """Fill a sentence's slots from parameters, and from `others` for what is not a parameter (the inputs' names).

    What stands in square brackets is said only where a slot in it has a value; “no” is none. After a bar stands what is
    said where none has: “[ every {spacing}| at {spacing=automatic spacing}]”, the words of the open field after its name.

    Parameters
    ----------
    asked : collection of str or None
        Names of the parameters that were asked for; all others are marked as settled. None marks nothing.
    """

    def said(part: re.Match[str]) -> str:
        given, _, open_words = part[1].partition("|")
        names = [slot[0] for slot in _SLOT.findall(given)]
        values = [others.get(name, getattr(params, name, None)) for name in names]
        return given if any(value is not False and value not in (None, "") for value in values) else open_words

    template = _OPTIONAL.sub(said, template)
    pieces: list[Phrase] = []
    place = 0
    for slot in _SLOT.finditer(template):
        if slot.start() > place:
            pieces.append(Phrase(template[place : slot.start()]))
        name = slot[1]
        if name in others:
            pieces.append(Phrase(others[name] or slot[2] or ""))
        else:
            field = field_named(type(params), name)
            settled = asked is not None and name not in asked
            said_so = slot[2] if slot[2] is not None else spoken(field, getattr(params, field.attribute))
            pieces.append(Phrase(said_so, name, settled))
        place = slot.end()
    if place < len(template):
        pieces.append(Phrase(template[place:]))
    return tuple(pieces)


def plain(pieces: tuple[Phrase, ...]) -> str:
    """Return a sentence as one string."""
    return "".join(piece.text for piece in pieces)
