"""The place that coordinates in a file are told from: chosen, said in words in the file, and read back from there."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.quantities import Unit, parse_unit
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Kind, register

Place = tuple[float, float, float]
NOWHERE: Place = (0.0, 0.0, 0.0)


@dataclass(frozen=True, slots=True)
class Origin:
    """Where coordinates are told from: a place, None for coordinates of full size, or wherever the data settles it."""

    place: Place | None = None
    auto: bool = False

    @property
    def said(self) -> Place:
        """The place, or (0, 0, 0)."""
        return self.place or NOWHERE

    def __str__(self) -> str:
        if self.auto:
            return "near the data"
        return (
            "none" if self.place is None else f"E {self.place[0]:.10g}, N {self.place[1]:.10g}, Z {self.place[2]:.10g}"
        )


def _parse(_: Any, word: str) -> Origin:
    if word.strip().lower() in ("none", "auto"):
        return Origin(auto=word.strip().lower() == "auto")
    try:
        values = [float(part) for part in re.split(r"[,\s]+", word.strip())]
    except ValueError:
        values = []
    if len(values) not in (2, 3) or not all(math.isfinite(value) for value in values):
        raise CallError(f"“{word}” is not a place; write E,N,Z, or none for coordinates of full size")
    return Origin((values[0], values[1], values[2] if len(values) == 3 else 0.0))


def _text(own: Origin) -> str:
    if own.auto:
        return "auto"
    return "none" if own.place is None else ",".join(repr(value) for value in own.place)


register(Origin, Kind(_parse, _text))

NONE, AUTO = Origin(), Origin(auto=True)
SINGLE = Param(
    "Origin",
    "Local origin, subtracted from coordinates, as E,N,Z; none: full size; auto: a round coordinate near the data where single "
    "precision would lose digits.",
)
FULL = Param("Origin", "Local origin, subtracted from coordinates, as E,N,Z; none keeps them of full size.")


@dataclass(frozen=True)
class SingleOriginParams:
    """Where coordinates are told from, in formats of single precision."""

    origin: Annotated[Origin, SINGLE] = AUTO


@dataclass(frozen=True)
class FullOriginParams:
    """Where coordinates are told from, in formats that hold them at full size."""

    origin: Annotated[Origin, FULL] = NONE
    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


def near(vertices: Floats) -> Place:
    """Return a whole-number origin near data that lies so far from (0, 0, 0) that single precision would lose digits."""
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    far = np.maximum(np.abs(low), np.abs(high)) > 4.0 * np.maximum(high - low, 100.0)
    east, north, up = np.where(far, np.floor(low), 0.0).tolist()
    return east, north, up


def chosen(origin: Origin, vertices: Floats, title: str) -> Place:
    """Return the place that a file of single precision is told from.

    Raises
    ------
    ParamError
        If a place was said from which single precision would move the data by more than it would from one near it.
    """
    if origin.auto:
        return near(vertices)
    place = origin.said
    rounded = (vertices - place).astype(np.float32).astype(np.float64) + place
    best = near(vertices)
    least = (vertices - best).astype(np.float32).astype(np.float64) + best
    moved, possible = (float(np.abs(each - vertices).max(initial=0.0)) for each in (rounded, least))
    if moved > max(10.0 * possible, 1e-3):
        raise ParamError(
            "origin",
            f"{title} has single precision, which from there moves coordinates by up to {moved:.3g}; "
            f"{_text(Origin(best))} keeps them within {possible:.1g} (so does origin=auto)",
        )
    return place


def seen(vertices: Floats, params: SingleOriginParams) -> Floats:
    """Return coordinates as a reader of a file of single precision sees them."""
    place = near(vertices) if params.origin.auto else params.origin.said
    return (vertices - place).astype(np.float32).astype(np.float64) + place


def told(place: Place, unit: Unit | None) -> str:
    """Return the words that a file carries: “Vast Grid; origin 1 2 3; unit m”."""
    origin = f"; origin {place[0]!r} {place[1]!r} {place[2]!r}" if any(place) else ""
    return f"Vast Grid{origin}{f'; unit {unit.value}' if unit else ''}"


def heard(text: bytes) -> tuple[Place, Frame]:
    """Return the origin and the unit that a file's own words tell; nowhere and unknown where there are none."""
    found = re.search(rb"Vast Grid; ([^\r\n\0\"]*)", text)
    if not found:
        return NOWHERE, Frame()
    words = "; " + found[1].decode("ascii", "replace")
    number = r"[-+]?\d[\d.]*(?:[eE][-+]?\d+)?"
    place = re.search(rf"; origin ({number}) ({number}) ({number})", words)
    unit = re.search(r"; unit ([\w-]+)", words)
    try:
        own = parse_unit(unit[1]) if unit else None
        return ((float(place[1]), float(place[2]), float(place[3])) if place else NOWHERE), Frame(None, own, own)
    except (CallError, ValueError):
        return NOWHERE, Frame()
