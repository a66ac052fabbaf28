"""Sorting rules: which entities of a drawing become spot heights, breaklines, contours, boundaries or faces."""

from __future__ import annotations

import fnmatch
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import ParamError
from vastgrid.data.dataset import Floats
from vastgrid.data.line_roles import CONTOUR, GENTLE, ISLAND, OUTER, PROXIMITY, VOID, WALL


class Becomes(Enum):
    """What entities become."""

    POINTS = "spot heights"
    BREAKLINES = "breaklines"
    CONTOURS = "contours"
    WALL = "wall"
    PROXIMITY = "proximity"
    NONDESTRUCTIVE = "nondestructive"
    BOUNDARY = "boundary"
    VOID = "void"
    ISLAND = "island"
    AREAS = "areas"
    FACES = "faces"
    NOTHING = "left out"


# What lines say of themselves once a rule has sorted them.
LIMITS = {Becomes.BOUNDARY: OUTER, Becomes.VOID: VOID, Becomes.ISLAND: ISLAND}
KINDS_OF_LINES = {
    Becomes.WALL: WALL,
    Becomes.PROXIMITY: PROXIMITY,
    Becomes.NONDESTRUCTIVE: GENTLE,
    Becomes.CONTOURS: CONTOUR,
}
# Words for types; several entity names of the DXF reference mean one thing to a surveyor.
TYPES = {
    "point": ("POINT", "INSERT"),
    "line": ("LINE",),
    "polyline": ("POLYLINE", "LWPOLYLINE"),
    "curve": ("ARC", "CIRCLE", "ELLIPSE", "SPLINE", "HELIX"),
    "text": ("TEXT", "MTEXT", "ATTRIB", "ATTDEF"),
    "face": ("3DFACE", "POLYFACE", "POLYMESH", "MESH", "SOLID", "TRACE"),
}


@dataclass(frozen=True, slots=True)
class Rule:
    """One rule: what an entity has to be, and what it becomes then.

    Attributes
    ----------
    becomes : Becomes
        What it becomes.
    name : str
        Name of the dataset that all entities of the rule make together; the kind's name where empty.
    layer, line_type : str
        Patterns such as ``KERB*``; several parted by bars; empty for any.
    type : str
        A key of `TYPES` or an entity name; several parted by bars; empty for any.
    colour : int or None
        Colour number (1 to 255) of the DXF reference, by layer already resolved.
    low, high : float
        Range of the entity's elevations.
    """

    becomes: Becomes
    name: str = ""
    layer: str = ""
    type: str = ""
    colour: int | None = None
    line_type: str = ""
    low: float = -math.inf
    high: float = math.inf

    def text(self) -> str:
        """Return the rule as it is written."""
        parts = [f"{key}={value}" for key, value in (("layer", self.layer), ("type", self.type)) if value]
        parts += [f"colour={self.colour}"] if self.colour is not None else []
        parts += [f"linetype={self.line_type}"] if self.line_type else []
        if math.isfinite(self.low) or math.isfinite(self.high):
            ends = [f"{end:g}" if math.isfinite(end) else "" for end in (self.low, self.high)]
            parts.append(f"z={ends[0]}..{ends[1]}")
        name = f" “{self.name}”" if self.name else ""
        return f"{self.becomes.value}{name}: {', '.join(parts) or 'everything'}"


def rules_text(rules: Sequence[Rule]) -> str:
    """Return rules as `parse_rules` reads them."""
    return "; ".join(rule.text() for rule in rules)


def parse_rules(text: str) -> tuple[Rule, ...]:
    """Read rules such as ``breaklines “Kerbs”: layer=KERB*, type=polyline; spot heights: type=text, z=100..300``.

    Raises
    ------
    ParamError
        If a rule cannot be read.
    """
    return tuple(_rule(part.strip()) for part in re.split(r"[;\n]", text) if part.strip())


def _rule(text: str) -> Rule:
    head, mark, rest = text.partition(":")
    found = re.fullmatch(r"\s*([a-z ]+?)\s*(?:[“\"]([^”\"]*)[”\"])?\s*", head)
    word = found[1] if found else head.strip()
    aliases = {
        "points": "spot heights",
        "none": "left out",
        "boundaries": "boundary",
        "voids": "void",
        "islands": "island",
        "walls": "wall",
    }
    try:
        becomes = Becomes(aliases.get(word, word))
    except ValueError:
        known = ", ".join(each.value for each in Becomes)
        raise ParamError("rules", f"“{word}” is not one of {known} (in “{text}”)") from None
    if not mark:
        raise ParamError("rules", f"“{text}” does not say which entities: write {becomes.value}: layer=…, type=…")
    values: dict[str, object] = {}
    for part in rest.split(","):
        key, equals, value = (piece.strip() for piece in part.partition("="))
        if not key or key == "everything":
            continue
        if not equals or key not in ("layer", "type", "colour", "linetype", "z"):
            raise ParamError(
                "rules", f"“{part.strip()}” is not one of layer=, type=, colour=, linetype=, z= (in “{text}”)"
            )
        values |= _value(key, value, text)
    return Rule(becomes, (found[2] or "") if found else "", **values)  # type: ignore[arg-type]


def _value(key: str, value: str, text: str) -> dict[str, object]:
    if key == "colour":
        if not re.fullmatch(r"\d{1,3}", value):
            raise ParamError("rules", f"colour “{value}” is not a number from 0 to 256 (in “{text}”)")
        return {"colour": int(value)}
    if key == "z":
        ends = value.split("..")
        try:
            low, high = (
                float(end) if end.strip() else fill for end, fill in zip(ends, (-math.inf, math.inf), strict=True)
            )
        except ValueError:
            raise ParamError("rules", f"“z={value}” is not a range such as z=100..300 (in “{text}”)") from None
        return {"low": low, "high": high}
    return {"line_type" if key == "linetype" else key: value}


@dataclass(frozen=True, slots=True)
class Items:
    """What there is to sort: of each entity its type, layer, colour, line type and elevations.

    Attributes
    ----------
    type, layer, line_type : (k,) int64
        Numbers into `types`, `layers` and `line_types`.
    colour : (k,) int64
        Colour numbers of the DXF reference, by layer already resolved.
    low, high : (k,) float64
        Elevations; NaN where there are none.
    """

    type: NDArray[np.int64]
    layer: NDArray[np.int64]
    colour: NDArray[np.int64]
    line_type: NDArray[np.int64]
    low: Floats
    high: Floats
    types: tuple[str, ...]
    layers: tuple[str, ...]
    line_types: tuple[str, ...]

    def __len__(self) -> int:
        return len(self.type)


def matched(items: Items, rules: Sequence[Rule]) -> NDArray[np.int64]:
    """Return which rule each entity falls under: the first that fits; -1 where none does."""
    found = np.full(len(items), -1, np.int64)
    for k, rule in reversed(list(enumerate(rules))):
        found[fits(items, rule)] = k
    return found


def fits(items: Items, rule: Rule) -> NDArray[np.bool_]:
    """Return which entities a rule fits, (k,) bool."""
    good = _named(items.layers, rule.layer)[items.layer] & _named(items.line_types, rule.line_type)[items.line_type]
    if rule.type:
        wanted = {
            name for word in rule.type.split("|") for name in TYPES.get(word.strip().lower(), (word.strip().upper(),))
        }
        good &= np.array([name in wanted for name in items.types], np.bool_)[items.type]
    if rule.colour is not None:
        good &= items.colour == rule.colour
    if math.isfinite(rule.low):
        good &= items.low >= rule.low
    if math.isfinite(rule.high):
        good &= items.high <= rule.high
    return good


def _named(names: Sequence[str], pattern: str) -> NDArray[np.bool_]:
    if not pattern:
        return np.ones(len(names), np.bool_)
    wanted = [word.strip().lower() for word in pattern.split("|")]
    return np.array([any(fnmatch.fnmatchcase(name.lower(), word) for word in wanted) for name in names], np.bool_)
