"""How a dataset looks in the views: declared like parameters, one kind of look for each kind of data."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from functools import singledispatch
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.quantities import Length, Quantity
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_named
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.params import declare
from vastgrid.params.declare import Param


class SurfaceColour(Enum):
    """What a surface is coloured by."""

    ELEVATION = "elevation"
    SLOPE = "slope"
    ASPECT = "aspect"
    DIFFERENCE = "difference"
    LOSS = "loss"
    SOURCE = "source"
    PLAIN = "one colour"


class PointColour(Enum):
    """What points are coloured by."""

    ELEVATION = "elevation"
    CLASS = "class"
    INTENSITY = "intensity"
    TRUE = "true colour"
    SOURCE = "source"
    DIFFERENCE = "difference"
    PLAIN = "one colour"


class LineColour(Enum):
    """What lines are coloured by."""

    PLAIN = "one colour"
    LAYER = "layer"
    ELEVATION = "elevation"
    LOSS = "loss"


class Faces(Enum):
    """How triangles are drawn."""

    FILLED = "filled"
    WIRE = "wire"
    BOTH = "both"


_OPACITY = Param("Opacity", "How much it covers what lies below, in per cent.", Quantity.RATIO, least=5, most=100)
_COLOUR = "#8C6D1F"
_HEIGHTS = Param(
    "Hidden heights", "Ranges of height that are not drawn, such as 210 … 212.5, separated by commas.", absent="none"
)
_OWN = Param("Colour", "Its own colour, as #RRGGBB; counts where it is coloured by one colour.")


@dataclass(frozen=True)
class SurfaceLook:
    """How a surface looks."""

    colour: Annotated[SurfaceColour, Param("Coloured by", "What the colours of the surface stand for.")] = (
        SurfaceColour.ELEVATION
    )
    against: Annotated[
        str, Param("Difference to", "Card of the surface that is taken off; for colours by difference.", absent="none")
    ] = ""
    shade: Annotated[bool, Param("Hillshade", "Light from the north-west, 45° high.")] = True
    bands: Annotated[
        Length | None,
        Param(
            "Elevation bands", "Height of bands of one colour; none for smooth colours.", Quantity.Z_LENGTH, above=0,
            absent="smooth",
        ),
    ] = None  # fmt: skip
    heights: Annotated[str, _HEIGHTS] = ""
    faces: Annotated[
        Faces, Param("Triangles", "Filled, as wires, or both; wires show where there is room for them.")
    ] = Faces.BOTH
    plain: Annotated[str, _OWN] = ""
    opacity: Annotated[float, _OPACITY] = 100.0


@dataclass(frozen=True)
class PointLook:
    """How points look."""

    colour: Annotated[PointColour, Param("Coloured by", "What the colours of the points stand for.")] = (
        PointColour.ELEVATION
    )
    against: Annotated[
        str, Param("Difference to", "Card of the surface below the points; for colours by difference.", absent="none")
    ] = ""
    hidden: Annotated[
        str, Param("Hidden classes", "Classes that are not drawn, separated by commas.", absent="none")
    ] = ""
    heights: Annotated[str, _HEIGHTS] = ""
    size: Annotated[int, Param("Size", "Width in pixels; 0 follows the scale.", Quantity.COUNT, least=0, most=15)] = 0
    labels: Annotated[bool, Param("Elevations and codes", "Written beside the points where there is room.")] = True
    stand: Annotated[
        str,
        Param(
            "Stand as tall as", "Attribute with a height: points stand as solids in the 3D view.", absent="no solids"
        ),
    ] = ""
    width: Annotated[Length, Param("Width of solids", "Side of a solid.", Quantity.XY_LENGTH, above=0)] = Length(0.6)
    plain: Annotated[str, _OWN] = ""
    opacity: Annotated[float, _OPACITY] = 100.0


@dataclass(frozen=True)
class LineLook:
    """How lines look."""

    colour: Annotated[LineColour, Param("Coloured by", "What the colours of the lines stand for.")] = LineColour.PLAIN
    width: Annotated[float, Param("Width", "In pixels.", Quantity.RATIO, least=0.5, most=9)] = 1.5
    plain: Annotated[str, _OWN] = ""
    opacity: Annotated[float, _OPACITY] = 100.0


@dataclass(frozen=True)
class ContourLook:
    """How contours look."""

    colour: Annotated[LineColour, Param("Coloured by", "What the colours of the contours stand for.")] = (
        LineColour.PLAIN
    )
    labels: Annotated[bool, Param("Heights", "Written along the index contours.")] = True
    minor: Annotated[bool, Param("Minor contours", "Drawn between the index contours.")] = True
    plain: Annotated[str, _OWN] = ""
    opacity: Annotated[float, _OPACITY] = 100.0


@dataclass(frozen=True)
class AreaLook:
    """How areas look."""

    colour: Annotated[LineColour, Param("Coloured by", "What the colours of the areas stand for.")] = LineColour.PLAIN
    fill: Annotated[
        float, Param("Fill", "How much the inside covers what lies below, in per cent; 0 for outlines only.",
                     Quantity.RATIO, least=0, most=100)
    ] = 30.0  # fmt: skip
    width: Annotated[
        float, Param("Outline", "Width in pixels; 0 for none.", Quantity.RATIO, least=0, most=9)
    ] = 1.5  # fmt: skip
    label: Annotated[
        str, Param("Label", "Attribute that is written in the areas where there is room.", absent="none")
    ] = ""
    plain: Annotated[str, _OWN] = ""
    opacity: Annotated[float, _OPACITY] = 100.0


Look = SurfaceLook | PointLook | LineLook | ContourLook | AreaLook


_LOOKS: dict[str, type[Any]] = {PointSet.kind: PointLook, Contours.kind: ContourLook, Areas.kind: AreaLook}


def look_class(kind: str) -> type[Any]:
    """Return the look that a kind of data has, by the kind's id."""
    own = kind_named(kind)
    return _LOOKS.get(kind, SurfaceLook if own is not None and own.covers else LineLook)


def look_of(dataset: Dataset, words: dict[str, str] | None = None) -> Any:
    """Return a dataset's look from words; words it does not know, from elsewhere, are passed over."""
    kind = look_class(dataset.kind)
    known = {field.name for field in declare.fields(kind)}
    return declare.build(kind, {name: text for name, text in (words or {}).items() if name in known})


def choices(dataset: Dataset, *, made: bool = True) -> dict[str, list[str]]:
    """Return the words that make sense for a dataset's look, by field, where not all of them do.

    Parameters
    ----------
    made : bool
        Whether it was made from others: a surface that came in has no sources to tell apart.
    """
    return _choices(dataset, made)


@singledispatch
def _choices(dataset: Dataset, made: bool) -> dict[str, list[str]]:
    return {}


def _but(*left_out: SurfaceColour) -> dict[str, list[str]]:
    return {"colour": [each.value for each in SurfaceColour if each not in left_out]}


@_choices.register
def _of_points(points: PointSet, made: bool) -> dict[str, list[str]]:
    has = points.attributes
    able = [PointColour.ELEVATION]
    able += [PointColour.CLASS] if "classification" in has else []
    able += [PointColour.INTENSITY] if "intensity" in has else []
    able += [PointColour.TRUE] if true_colour(points) else []
    able += [PointColour.SOURCE, PointColour.DIFFERENCE, PointColour.PLAIN]
    numbers = [name for name, values in has.items() if values.ndim == 1 and values.dtype.kind in "fiu"]
    return {"colour": [each.value for each in able], "stand": ["", *numbers]}


@_choices.register
def _of_tin(tin: Tin, made: bool) -> dict[str, list[str]]:
    if not tin.has_heights:
        return {"colour": [SurfaceColour.ELEVATION.value, SurfaceColour.PLAIN.value]}
    return {} if made else _but(SurfaceColour.SOURCE, SurfaceColour.LOSS)


@_choices.register
def _of_grid(grid: Grid, made: bool) -> dict[str, list[str]]:
    if not grid.has_heights:
        return {"colour": [SurfaceColour.ELEVATION.value, SurfaceColour.PLAIN.value]}
    return _but(SurfaceColour.SOURCE) if made else _but(SurfaceColour.SOURCE, SurfaceColour.LOSS)


@_choices.register
def _of_mesh(mesh: Mesh, made: bool) -> dict[str, list[str]]:
    return _but(SurfaceColour.SOURCE, SurfaceColour.DIFFERENCE, SurfaceColour.LOSS)


@_choices.register
def _of_lines(lines: Linework, made: bool) -> dict[str, list[str]]:
    return {"colour": [each.value for each in LineColour if each is not LineColour.LOSS]}


@_choices.register
def _of_areas(areas: Areas, made: bool) -> dict[str, list[str]]:
    colours = [LineColour.PLAIN.value, LineColour.LAYER.value]
    return {"colour": colours, "label": ["", *areas.attributes]}


@_choices.register
def _of_contours(contours: Contours, made: bool) -> dict[str, list[str]]:
    return {
        "colour": [
            each.value for each in LineColour if each is not LineColour.LAYER and (made or each is not LineColour.LOSS)
        ]
    }


@_choices.register(Survey)
def _of_other_lines(lines: Dataset, made: bool) -> dict[str, list[str]]:
    return {"colour": [LineColour.PLAIN.value, LineColour.ELEVATION.value]}


def true_colour(points: PointSet) -> tuple[str, str, str] | None:
    """Return the names of the attributes that hold red, green and blue, whatever their case."""
    names = {name.lower(): name for name in points.attributes}
    for wanted in (("red", "green", "blue"), ("colorred", "colorgreen", "colorblue"), ("r", "g", "b")):
        if all(name in names for name in wanted):
            return names[wanted[0]], names[wanted[1]], names[wanted[2]]
    return None


def hidden_classes(look: PointLook) -> NDArray[np.bool_]:
    """Return which classes 0 … 255 are hidden, (256,) bool."""
    return hidden_classes_of(look.hidden)


def hidden_classes_of(text: str) -> NDArray[np.bool_]:
    """Return which classes 0 … 255 a text names, (256,) bool; words that are no class are passed over."""
    out = np.zeros(256, np.bool_)
    for word in text.replace(";", ",").split(","):
        if word.strip().isdigit() and int(word) < 256:
            out[int(word)] = True
    return out


_RANGE = re.compile(r"\s*(-?\d+(?:\.\d+)?)\s*(?:…|\.\.+|to)\s*(-?\d+(?:\.\d+)?)\s*")


def hidden_heights_of(text: str) -> list[tuple[float, float]]:
    """Return the ranges of height that a text names; what is no range is passed over."""
    found = []
    for word in text.split(","):
        match = _RANGE.fullmatch(word)
        if match:
            low, high = sorted((float(match[1]), float(match[2])))
            found.append((low, high))
    return found


def ranges_text(ranges: Sequence[tuple[float, float]]) -> str:
    """Return ranges as a text that `hidden_heights_of` reads; those that touch become one."""
    joined: list[list[float]] = []
    for low, high in sorted(ranges):
        if joined and low <= joined[-1][1] + 1e-9:
            joined[-1][1] = max(joined[-1][1], high)
        else:
            joined.append([float(low), float(high)])
    return ", ".join(f"{low:.4f} … {high:.4f}" for low, high in joined)


def hidden_at(look: Any, z: NDArray[np.float64]) -> NDArray[np.bool_] | None:
    """Return at which heights nothing is to be drawn, same shape as `z`; None where all is."""
    ranges = hidden_heights_of(getattr(look, "heights", ""))
    if not ranges:
        return None
    out = np.zeros(z.shape, np.bool_)
    with np.errstate(invalid="ignore"):
        for low, high in ranges:
            out |= (z >= low) & (z <= high)
    return out
