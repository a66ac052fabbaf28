"""Anything moved, turned and scaled."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.base.words import shortly
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import is_geographic
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Steps
from vastgrid.terrain.place.moving import Motion, moved
from vastgrid.terrain.place.tiled_motion import ground_before, moved_outline, moved_tile


@dataclass(frozen=True)
class MoveParams:
    """How far, and how it is turned."""

    by: Annotated[
        Steps | None,
        Param(
            "By",
            "East, north and, if wanted, up: 100,200,0.5 in the units of the data, or 100m,200m,0.5m.",
            absent="nothing",
        ),
    ] = None
    turn: Annotated[float | None, Param("Turn", "Degrees, counter-clockwise seen from above.", absent="0")] = None
    scale: Annotated[float | None, Param("Scale", "Of plan lengths; heights are not scaled.", above=0, absent="1")] = (
        None
    )
    about: Annotated[
        str,
        Param(
            "About",
            "East,north of the place that turning and scaling leave where it is.",
            absent="the middle of the data",
        ),
    ] = ""


def settle(inputs: Sequence[Dataset], params: MoveParams) -> MoveParams:
    """Turn about the middle of the data, on whole units, where nobody says about what."""
    extent = inputs[0].extent()
    turned = (params.turn or 0.0) % 360.0 != 0.0 or (params.scale or 1.0) != 1.0
    if params.about or not turned or not extent.east or not extent.north:
        return params
    east, north = (round((pair[0] + pair[1]) / 2.0) for pair in (extent.east, extent.north))
    return dataclasses.replace(params, about=f"{east},{north}")


def motion_of(data: Dataset, params: MoveParams) -> Motion:
    """Return what is asked for as a motion in the units of some data.

    Raises
    ------
    CallError
        If nothing is asked for, or degrees would have to be turned or scaled.
    """
    turn, scale = params.turn or 0.0, params.scale or 1.0
    turned = turn % 360.0 != 0.0 or scale != 1.0
    if params.by is None and params.turn is None and params.scale is None:
        raise CallError("say how it is to be moved: by=E,N,H, turn=… or scale=…")
    if is_geographic(data.frame) and turned:
        raise CallError(
            f"{data.name} is in degrees, which cannot be turned or scaled; bring it onto a grid first (reproject)"
        )
    about = (0.0, 0.0)
    if turned and params.about:
        about = _place(params.about)
    steps = params.by.in_frame_units(data.frame.horizontal, data.frame.vertical) if params.by else (0.0, 0.0, 0.0)
    return Motion(steps[:2], turn, scale, about, steps[2])


def _place(text: str) -> tuple[float, float]:
    try:
        east, north = (float(part) for part in re.split(r"[,;\s]+", text.strip()))
    except ValueError:
        raise ParamError("about", f"“{shortly(text)}” is not a place; write it as east,north") from None
    return east, north


def run(inputs: Sequence[Dataset], params: MoveParams, progress: Progress) -> Result:
    """Move it; see `CONVERSION`.

    Raises
    ------
    CallError
        If nothing is asked for, or degrees would have to be turned or scaled.
    """
    motion = motion_of(inputs[0], params)
    if motion.up and not inputs[0].has_heights:
        raise CallError(f"{inputs[0].name} holds no heights that could be moved up")
    made, findings, loss = moved(inputs[0], motion)
    progress.report(1.0)
    return Result(made, findings, loss)


def _tile(inputs: Sequence[Dataset], params: MoveParams, piece: TilePart) -> Dataset:
    return moved_tile(inputs[0], motion_of(inputs[0], params), piece)


CONVERSION = Conversion(
    id="move",
    version=1,
    title="Move, turn and scale",
    also=("shift", "translate", "rotate", "offset coordinates"),
    help="The same data elsewhere: shifted, turned about a place, plan lengths scaled; a grid is sampled anew only where it must be.",
    inputs=(Input("data", (PointSet, Linework, Contours, Areas, Tin, Grid, Mesh, Survey)),),
    outputs=(Output("data", like="data"),),
    params=MoveParams,
    template="{inputs} moved[ by {by}][, turned by {turn}°][, scaled by {scale}][ about {about}].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name}, moved",
    tiles=Tiling(
        halo=lambda inputs, params: 0.0,
        whole=lambda inputs, params: moved_outline(inputs[0], motion_of(inputs[0].dataset(), params)),
        run=_tile,
        ground=lambda box, outline, params: ground_before(box, motion_of(outline.dataset(), params)),
    ),
    any_quantity=True,
    ask=True,
)
