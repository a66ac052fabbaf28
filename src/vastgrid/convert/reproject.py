"""Anything into another coordinate reference system."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import crs_name, is_geographic
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.shaping.reproject import reprojected, utm_zone


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


def _name(inputs: Sequence[Dataset], params: ReprojectParams) -> str:
    try:
        return f"{inputs[0].name} in {crs_name(params.crs)}" if params.crs else ""
    except CallError:
        return ""


CONVERSION = Conversion(
    id="reproject",
    version=1,
    title="Other reference system",
    help="The same ground in another coordinate reference system; heights change theirs only where that is sure.",
    inputs=(Input("data", (PointSet, Linework, Contours, Tin, Grid, Mesh, Survey)),),
    outputs=(Output("data", like="data"),),
    params=ReprojectParams,
    template="{inputs} brought into {crs}.",
    run=run,
    settle=settle,
    name=_name,
    ask=True,
)
