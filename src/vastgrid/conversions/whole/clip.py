"""What lies inside or outside closed lines, exactly to their edge."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import kind_of
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.places import Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.halo import element
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.clipping import clipped
from vastgrid.terrain.tin.limits import has_rings, limited_area


class Side(Enum):
    """Which side stays."""

    INSIDE = "inside"
    OUTSIDE = "outside"


@dataclass(frozen=True)
class ClipParams:
    """Which side, and of what."""

    side: Annotated[
        Side, Param("Side", "inside: what lies in the closed lines stays; outside: everything else stays.")
    ] = Side.INSIDE
    area: Annotated[
        Area | None,
        Param("Area", "An area that was drawn or typed, instead of closed lines.", absent="a line to be named"),
    ] = None


def _area(inputs: Inputs, params: ClipParams, findings: list[Finding]) -> Any:
    lines = inputs.of("limit")
    if params.area is not None:
        if lines:
            raise CallError("give closed lines or an area, not both")
        return shapely.Polygon(params.area.corners)
    area = limited_area(lines, "closed line", findings, inputs[0].frame.horizontal)
    if area is None:
        raise CallError("there is no closed line to clip to" if lines else "clip needs areas or closed lines")
    return area


def run(inputs: Inputs, params: ClipParams, progress: Progress) -> Result:
    """Clip; see `CONVERSION`.

    Raises
    ------
    CallError
        If there is no closed line.
    DataError
        If nothing is left.
    """
    findings: list[Finding] = []
    area = _area(inputs, params, findings)
    data = inputs.of("data")[0]
    progress.report(0.1, "clipping")
    made = clipped(data, area, params.side is Side.INSIDE, findings)
    progress.report(1.0)
    return Result(made, tuple(findings))


_KINDS = (Tin, Grid, PointSet, Linework, Contours, Areas)
CONVERSION = Conversion(
    id="clip",
    version=1,
    title="Clip",
    also=("trim", "crop", "boundary"),
    help="What lies inside or outside closed lines: triangles and lines are cut exactly at the edge.",
    inputs=(
        Input("data", _KINDS, help="what is clipped"),
        Input("limit", (Linework, Areas), least=0, most=None, help="areas or closed lines", fits=has_rings),
    ),
    outputs=(Output("data", like="data"),),
    params=ClipParams,
    template="{data} {side} [{limit}|{area}].",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, {params.side.value}",
    halo=lambda inputs, params: element(inputs[0]) if kind_of(inputs[0]).covers else 0.0,
    ask=True,
)
