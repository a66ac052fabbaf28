"""Anything into another coordinate reference system."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress, Silent
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import crs_name, is_geographic
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.outline import Box, CellOutline, Outline, PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.params.declare import Param
from vastgrid.terrain.place.reproject import (
    Passage,
    cells_there,
    grid_there,
    ground_before,
    passage,
    reprojected,
    rim_there,
    sampled_said,
    utm_zone,
)


@dataclass(frozen=True)
class ReprojectParams:
    """Where to."""

    crs: Annotated[
        str,
        Param(
            "Reference system",
            "Coordinate reference system to bring it into, as EPSG:25832 or WKT; for degrees the UTM zone is suggested.",
            absent="a system yet to be named",
        ),
    ] = ""


def settle(inputs: Sequence[Dataset], params: ReprojectParams) -> ReprojectParams:
    """Suggest the UTM zone for data in degrees."""
    extent = inputs[0].extent()
    if params.crs.strip() or not is_geographic(inputs[0].frame) or not extent.east or not extent.north:
        return params
    return dataclasses.replace(params, crs=utm_zone(sum(extent.east) / 2.0, sum(extent.north) / 2.0))


def run(inputs: Sequence[Dataset], params: ReprojectParams, progress: Progress) -> Result:
    """Reproject; see `CONVERSION`.

    Raises
    ------
    ParamError
        If no system is named.
    CallError, DataError
        If there is no way there.
    """
    if not params.crs.strip():
        raise ParamError("crs", "name the system to bring it into, such as EPSG:25832")
    dataset, findings = reprojected(inputs[0], params.crs.strip(), progress)
    return Result(dataset, findings)


def _way(outline: Outline, params: ReprojectParams) -> Passage:
    return passage(outline.frame, params.crs.strip())


def _whole(inputs: Sequence[Outline], params: ReprojectParams) -> Outline:
    outline = inputs[0]
    if not params.crs.strip():
        raise ParamError("crs", "name the system to bring it into, such as EPSG:25832")
    way = _way(outline, params)
    if isinstance(outline, CellOutline):
        return cells_there(outline, way)
    assert isinstance(outline, PointOutline)
    box = rim_there(outline.name, outline.box(), way)
    box = box.grown(0.01 * max(box.east - box.west, box.north - box.south))
    low, high = (box.west, box.south, outline.low[2]), (box.east, box.north, outline.high[2])
    return PointOutline(outline.name, way.target, outline.count, low, high, rough=True)


def _ground(box: Box, outline: Outline, params: ReprojectParams) -> Box:
    return ground_before(box, outline.box(), _way(outline, params))


def _tile(inputs: Sequence[Dataset], params: ReprojectParams, piece: TilePart) -> Dataset:
    data, before = inputs[0], piece.inputs[0]
    way = _way(before, params)
    if isinstance(data, Grid):
        assert isinstance(before, CellOutline)
        return grid_there(data, before, piece.cells, piece.cells.window(piece.box), way, Silent())
    return reprojected(data, params.crs.strip(), Silent())[0]


def _told(inputs: Sequence[Outline], whole: Outline, params: ReprojectParams) -> list[Finding]:
    sampled = [sampled_said(whole)] if isinstance(whole, CellOutline) else []
    return [*_way(inputs[0], params).findings, *sampled]


def _halo(inputs: Sequence[Dataset], params: ReprojectParams) -> float:
    data = inputs[0]
    return 2.0 * math.hypot(data.dx, data.dy) if isinstance(data, Grid) else 0.0


def _name(inputs: Sequence[Dataset], params: ReprojectParams) -> str:
    try:
        return f"{inputs[0].name} in {crs_name(params.crs)}" if params.crs else ""
    except CallError:
        return ""


CONVERSION = Conversion(
    id="reproject",
    version=1,
    title="Reproject",
    also=("transform coordinates", "EPSG", "UTM", "change system"),
    help="The same ground in another coordinate reference system; heights change to another system only where that is certain.",
    inputs=(Input("data", (PointSet, Linework, Contours, Areas, Tin, Grid, Mesh, Survey)),),
    outputs=(Output("data", like="data"),),
    params=ReprojectParams,
    template="{inputs} reprojected to {crs}.",
    run=run,
    settle=settle,
    name=_name,
    ask=True,
    tiles=Tiling(whole=_whole, run=_tile, halo=_halo, ground=_ground, known=_told),
)
