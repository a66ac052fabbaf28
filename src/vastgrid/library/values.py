"""Values of a script as the words that declared parameters are read from."""

from __future__ import annotations

from collections.abc import Mapping
from enum import Enum
from pathlib import PurePath
from typing import Any

from vastgrid.base import quantities
from vastgrid.base.errors import CallError
from vastgrid.base.quantities import Unit, parse_length, parse_unit
from vastgrid.base.words import shortly
from vastgrid.params import declare


class Length(quantities.Length):
    """A length with its unit: ``Length("60 m")`` or ``Length(60, "m")``; without one it is in the unit of the data.

    Raises
    ------
    CallError
        If it is no number, or the unit is unknown.
    """

    def __init__(self, value: str | float, unit: str | Unit | None = None) -> None:
        own = parse_length(value) if isinstance(value, str) else quantities.Length(float(value))
        if unit is not None:
            if own.unit is not None:
                raise CallError(f"“{value}” has a unit already; {unit} is one too many")
            own = quantities.Length(own.value, parse_unit(unit) if isinstance(unit, str) else unit)
        super().__init__(own.value, own.unit)


def units_from(unit: str | None, vertical_unit: str | None) -> tuple[Unit | None, Unit | None]:
    """Return the units of plan and height that were said; None where none was.

    Raises
    ------
    CallError
        If one is unknown.
    """
    return (parse_unit(unit) if unit else None, parse_unit(vertical_unit) if vertical_unit else None)


def words_of(params: type, values: Mapping[str, Any]) -> dict[str, str]:
    """Return the values of parameters as words; what is None stays open.

    A trailing underscore is dropped from names that are words of the language (``from_``, ``as_``).

    Raises
    ------
    ParamError
        If there is no such parameter.
    CallError
        If a value is of a type that none can have.
    """
    found = {}
    for name, value in values.items():
        own = declare.field_named(params, name if name in _names(params) else name.removesuffix("_"))
        if value is not None:
            found[own.name] = _word(own, value)
    return found


def _names(params: type) -> set[str]:
    return {each.name for each in declare.fields(params)}


def _word(field: declare.Field, value: Any) -> str:
    if isinstance(value, str):
        return value
    value = value.item() if hasattr(value, "item") and getattr(value, "ndim", 0) == 0 else value
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, Enum):
        return str(value.value)
    if isinstance(value, quantities.Length):
        return declare.value_text(quantities.Length(value.value, value.unit))
    if isinstance(value, float) and field.kind is int and value.is_integer():
        return str(int(value))
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, PurePath):
        return str(value)
    if isinstance(value, field.kind):
        return declare.value_text(value)
    if isinstance(value, list | tuple) or hasattr(value, "tolist"):
        return _row(field, value)
    raise CallError(f"{field.name}: {shortly(repr(value))} is nothing that a parameter can be")


def _row(field: declare.Field, value: Any) -> str:
    """Return several values with commas between them; places as east and north with a blank between them."""
    parts = value.tolist() if hasattr(value, "tolist") else value
    if any(isinstance(part, list | tuple) for part in parts):
        return ", ".join(" ".join(_word(field, each) for each in part) for part in parts)
    return ",".join(_word(field, part) for part in parts)
