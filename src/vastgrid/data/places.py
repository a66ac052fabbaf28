"""Areas and lines that were drawn or typed, as parameters: with the frame they were drawn in, at full precision."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Any, Self

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import count
from vastgrid.base.quantities import Quantity, Unit, factor, parse_unit
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import UNKNOWN, Frame, crs_name
from vastgrid.params.declare import Param
from vastgrid.params.kinds import FrameLike, Kind, register


@dataclass(frozen=True, slots=True)
class Drawn:
    """Corners in plan.

    Attributes
    ----------
    corners : tuple of (float, float)
        Easting and northing of each.
    frame : Frame
        What they were drawn in; an unknown one is that of the data.
    name : str
        What it is called, if anything.
    """

    corners: tuple[tuple[float, float], ...]
    frame: Frame = UNKNOWN
    name: str = ""

    def extent(self) -> str:
        """Return “E 431020 … 431100, N 887020 … 887080”."""
        decimals = 8 if self.frame.horizontal is Unit.DEGREE else 3
        ends = [(f(e for e, _ in self.corners), f(n for _, n in self.corners)) for f in (min, max)]
        east, north = ([round(end[k], decimals) for end in ends] for k in (0, 1))
        return f"E {east[0]:.15g} … {east[1]:.15g}, N {north[0]:.15g} … {north[1]:.15g}"

    def in_frame(self, frame: FrameLike) -> Self:
        """Return it in the frame of data.

        Raises
        ------
        CallError
            If it was drawn in another system and there is no way from it.
        """
        own = self.frame
        to = Frame(frame.crs, frame.horizontal)
        if own == UNKNOWN or not self.corners or (own.crs == to.crs and own.horizontal is to.horizontal):
            return type(self)(self.corners, to, self.name)
        places = np.array(self.corners)
        if own.crs and to.crs:
            places = _reprojected(places, own.crs, to.crs)
        elif own.horizontal and to.horizontal and own.horizontal is not to.horizontal:
            if Unit.DEGREE in (own.horizontal, to.horizontal):
                raise CallError("it was drawn in degrees or is used on them, and one of the two systems is unknown")
            places = places * factor(own.horizontal, to.horizontal)
        return type(self)(tuple((float(e), float(n)) for e, n in places), to, self.name)


class Area(Drawn):
    """An area: a ring of corners, its first not repeated."""

    def ring(self) -> Floats:
        """Return the corners as a closed ring, (n + 1, 2)."""
        return np.array([*self.corners, self.corners[0]])

    def __str__(self) -> str:
        if self.name:
            return self.name
        corners = set(self.corners)
        box = len(corners) == 4 and len({e for e, _ in corners}) == len({n for _, n in corners}) == 2
        return self.extent() if box else f"an area of {count(len(corners), 'corner')} in {self.extent()}"


class Line(Drawn):
    """A line of at least two corners."""

    def places(self) -> Floats:
        """Return the corners, (n, 2)."""
        return np.array(self.corners)

    def __str__(self) -> str:
        return self.name or f"a line of {count(len(self.corners), 'corner')} in {self.extent()}"


class Places(Drawn):
    """Single places."""

    def places(self) -> Floats:
        """Return the places, (n, 2)."""
        return np.array(self.corners)

    def __str__(self) -> str:
        if len(self.corners) == 1:
            (east, north) = self.corners[0]
            return self.name or f"E {round(east, 8):.12g}, N {round(north, 8):.12g}"
        return self.name or f"{count(len(self.corners), 'place')} in {self.extent()}"


def _reprojected(places: Floats, text: str, to: str) -> Floats:
    import pyproj

    try:
        way = pyproj.Transformer.from_crs(text, to, always_xy=True)
        moved = np.column_stack(way.transform(places[:, 0], places[:, 1]))
    except pyproj.exceptions.ProjError as error:
        raise CallError(f"there is no way from {crs_name(text)} to {crs_name(to)}") from error
    if not np.isfinite(moved).all():
        raise CallError(f"it lies outside of where {crs_name(to)} is used")
    return moved


def _numbers(text: str, number: int) -> list[float]:
    try:
        values = [float(word) for word in re.split(r"[,\s]+", text.strip())]
    except ValueError:
        values = []
    if len(values) != number or not all(math.isfinite(value) for value in values):
        raise CallError(f"“{text}” is not {number} numbers")
    return values


def corners_of(text: str, least: int) -> tuple[tuple[float, float], ...]:
    """Read “E N, E N, E N”, or for an area “west,south,east,north”; a repeated first corner is dropped from an area.

    Raises
    ------
    CallError
        If it is neither.
    """
    pairs = [part.split() for part in text.split(",") if part.strip()]
    if least > 2 and len(pairs) == 4 and all(len(pair) == 1 for pair in pairs):
        west, south, east, north = _numbers(text, 4)
        if not (west < east and south < north):
            raise CallError(f"“{text}” is not a box: west has to be less than east, south less than north")
        return (west, south), (east, south), (east, north), (west, north)
    if len(pairs) >= least and all(len(pair) == 2 for pair in pairs):
        values = _numbers(" ".join(" ".join(pair) for pair in pairs), 2 * len(pairs))
        found = list(zip(values[::2], values[1::2], strict=True))
        if least > 2 and found[0] == found[-1] and len(found) > least:
            found = found[:-1]
        return tuple(found)
    raise CallError(
        f"“{text}” is neither west,south,east,north nor corners as E N, E N, E N"
        if least > 2
        else f"“{text}” is not a line; write its corners as E N, E N"
    )


def _parse(kind: Any, word: str) -> Any:
    """Read “NAME: E N, E N, E N | UNIT | CRS”, of which only the corners are needed."""
    body, *said = (part.strip() for part in word.split("|"))
    name, colon, corners = body.rpartition(":")
    unit = parse_unit(said[0]) if said and said[0] else None
    crs = said[1] if len(said) > 1 and said[1] else None
    return kind(corners_of(corners, {Area: 3, Line: 2}.get(kind, 1)), Frame(crs, unit), name.strip() if colon else "")


def _text(drawn: Drawn) -> str:
    corners = ", ".join(f"{east!r} {north!r}" for east, north in drawn.corners)
    text = f"{drawn.name}: {corners}" if drawn.name else corners
    if drawn.frame.horizontal or drawn.frame.crs:
        text += f" | {drawn.frame.horizontal.value if drawn.frame.horizontal else ''}"
    return text + (f" | {drawn.frame.crs}" if drawn.frame.crs else "")


def _brought(drawn: Drawn, quantity: Quantity | None, frame: FrameLike) -> Drawn:
    return drawn.in_frame(frame)


for _each in (Area, Line):
    register(_each, Kind(_parse, _text, str, "drawn", brought=_brought, large=True))
register(Places, Kind(_parse, _text, str, "line", brought=_brought, large=True))

# How a conversion that works on a part of its data asks for it.
WHERE = Param("Area", "Where: a box as west,south,east,north, or a polygon as E N, E N, E N.", absent="all")
