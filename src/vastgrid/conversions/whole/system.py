"""Saying in which coordinate reference system data lies whose file does not tell: no coordinate changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame, crs_name, frame_said
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.measures.evidence import outside_area
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class SystemParams:
    """Which it is."""

    crs: Annotated[
        str,
        Param(
            "Reference system",
            "Coordinate reference system in which the coordinates already are, as EPSG:25832 or WKT.",
            absent="a system yet to be named",
        ),
    ] = ""
    instead: Annotated[
        bool,
        Param(
            "Instead of another",
            "Also where the data says another system, which is then overridden.",
            said=(("yes", "replacing the one it had"), ("no", "if it has none")),
        ),
    ] = False


def run(inputs: Sequence[Dataset], params: SystemParams, progress: Progress) -> Result:
    """State a reference system; see `CONVERSION`.

    Raises
    ------
    ParamError
        If no system is named.
    CallError
        If there is no such system, or the data says another one or other units.
    """
    import pyproj

    own, crs = inputs[0], params.crs.strip()
    if not crs:
        raise ParamError("crs", "name the system in which the coordinates are, such as EPSG:25832")
    said = frame_said(crs)
    if said.crs is None or said.horizontal is None or pyproj.CRS.from_user_input(said.crs).is_geocentric:
        raise CallError(f"{crs_name(crs)} has no easting and northing, and no longitude and latitude; choose another")
    name, frame = crs_name(crs), own.frame
    if frame.crs is not None and not params.instead and not _same(frame.crs, said.crs):
        raise CallError(
            f"{own.name} says itself that it is in {crs_name(frame.crs)}; bring it into {name} (reproject crs={crs}), or "
            "say that this is wrong (instead=yes)"
        )
    heights = said.vertical if own.has_lengths else None
    for have, meant, what in ((frame.horizontal, said.horizontal, "in plan"), (frame.vertical, heights, "in height")):
        if have is not None and meant is not None and have is not meant:
            raise CallError(f"{own.name} is in {have.title} {what}, and {name} in {meant.title}; it cannot lie in it")
    there = own.in_frame(Frame(said.crs, said.horizontal, frame.vertical or heights))
    return Result(there, tuple(outside_area(there, there.extent())))


def _same(one: str, other: str) -> bool:
    import pyproj

    try:
        return bool(pyproj.CRS.from_user_input(one).equals(pyproj.CRS.from_user_input(other), ignore_axis_order=True))
    except pyproj.exceptions.CRSError:
        return False


CONVERSION = Conversion(
    id="system",
    version=1,
    title="Assign a reference system",
    also=("set CRS", "EPSG", "coordinate system"),
    help="States the coordinate reference system of data whose file does not say it; every coordinate stays as it is.",
    inputs=(Input("data", (PointSet, Linework, Contours, Areas, Tin, Grid, Mesh, Survey)),),
    outputs=(Output("data", like="data"),),
    params=SystemParams,
    template="{inputs} in {crs}, as assigned[, {instead}].",
    run=run,
    name=lambda inputs, params: inputs[0].name,
    ask=True,
)
