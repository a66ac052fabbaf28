"""The outline of ground: what a surface or points cover in plan."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, square_word
from vastgrid.base.words import area_words
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of
from vastgrid.data.places import Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.outlines import outline_of
from vastgrid.terrain.tin.limits import polygons_of


@dataclass(frozen=True)
class OutlineParams:
    """How an outline follows points."""

    length: Annotated[
        Length | None,
        Param(
            "Longest edge",
            "Of points: where neighbours lie farther apart than this, the outline turns in or leaves a hole.",
            Quantity.XY_LENGTH,
            above=0,
            absent="the convex hull",
        ),
    ] = None
    area: Annotated[
        Area | None, Param("Area", "An area that was drawn or typed: only what lies in it.", absent="all of it")
    ] = None


def run(inputs: Sequence[Dataset], params: OutlineParams, progress: Progress) -> Result:
    """Find the outline; see `CONVERSION`.

    Raises
    ------
    CallError
        If a length is said for what has a rim of its own.
    DataError
        If the data covers nothing, or nothing in the drawn area.
    """
    data = inputs[0]
    if params.length is not None and kind_of(data).covers:
        raise CallError(f"length: {data.name} ({data.title}) has a rim of its own; length is for points")
    length = params.length.in_unit(data.frame.horizontal, "length") if params.length is not None else None
    progress.report(0.1, "following the rim")
    made = outline_of(data, length)
    if params.area is not None:
        made = _within(made, params.area)
    name = f"Outline of {data.name}"
    size = float(made.sizes()[0])
    holes = int(made.holes().sum())
    text = f"{count(made.pieces, 'part')}, {count(holes, 'hole')}, {area_words(size)}{square_word(data.frame.horizontal)} in plan."
    found: tuple[Finding, ...] = (note("outline", text),)
    progress.report(1.0)
    return Result(dataclasses.replace(made, name=name, layers=(name,)), found)


def _within(made: Areas, area: Area) -> Areas:
    drawn = shapely.make_valid(shapely.Polygon(area.in_frame(made.frame).corners))
    left = [one for one in polygons_of(shapely.intersection(made.shapes()[0], drawn)) if one.area > 0.0]
    if not left:
        raise DataError(f"{area} lies beside {made.name}")
    return from_shapes([shapely.MultiPolygon(left)], name=made.name, frame=made.frame)


CONVERSION = Conversion(
    id="outline",
    version=1,
    title="Outline",
    also=("hull", "rim", "footprint", "extent", "coverage"),
    help="What a TIN, a grid or points cover: the rim with its holes, the outer edges of cells, the convex hull or a closer one.",
    inputs=(Input("data", (Tin, Grid, PointSet)),),
    outputs=(Output("outline", Areas),),
    params=OutlineParams,
    template="Outline of {data}[ within {area}][, along neighbours up to {length} apart].",
    run=run,
    name=lambda inputs, params: f"Outline of {inputs[0].name}",
    any_quantity=True,
)
