"""Heights of anything raised, scaled, or brought from one height system into another by a geoid grid."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, factor, unit_word
from vastgrid.base.words import place_words
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, frame_of_crs, height_system
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.outline import Outline
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.params.declare import Param
from vastgrid.terrain.place.geoid import undulations
from vastgrid.terrain.place.moving import Motion, moved
from vastgrid.terrain.place.tiled_motion import moved_outline, moved_tile


class Towards(Enum):
    """Which heights are given."""

    ORTHOMETRIC = "orthometric"
    ELLIPSOIDAL = "ellipsoidal"


class Outside(Enum):
    """What becomes of places outside a geoid grid."""

    REFUSE = "refuse"
    DROP = "drop"


@dataclass(frozen=True)
class HeightsParams:
    """How heights change."""

    add: Annotated[
        Length | None,
        Param("Add", "What is added to every height; negative lowers.", Quantity.Z_LENGTH, absent="nothing"),
    ] = None
    times: Annotated[
        float | None,
        Param("Times", "What every height is multiplied with, before anything is added.", above=0, absent="1"),
    ] = None
    geoid: Annotated[
        str,
        Param(
            "Geoid",
            "A geoid grid: a file of heights of the geoid above the ellipsoid (GTX, GeoTIFF, or what PROJ reads).",
            absent="none",
        ),
    ] = ""
    to: Annotated[
        Towards | None,
        Param(
            "To",
            "orthometric: heights above the geoid; ellipsoidal: heights above the ellipsoid.",
            absent="the other heights",
        ),
    ] = None
    outside: Annotated[
        Outside | None,
        Param(
            "Outside the geoid",
            "refuse: nothing is made where places lie outside the grid; drop: points and cells there are left out, and counted.",
            said=(("refuse", "refused"), ("drop", "left out")),
            absent="refused",
        ),
    ] = None


def run(inputs: Sequence[Dataset], params: HeightsParams, progress: Progress) -> Result:
    """Change the heights; see `CONVERSION`.

    Raises
    ------
    CallError
        If nothing is asked for, the data has no heights, or a geoid comes without its direction.
    DataError
        If places lie outside the geoid grid.
    """
    data = inputs[0]
    motion = motion_of(data, params)
    if not data.has_heights:
        raise CallError(f"{data.name} holds no heights")
    dropped: tuple[Finding, ...] = ()
    if params.outside is Outside.DROP and motion.lift is not None:
        data, dropped = _within(data, motion.lift)
    made, findings, loss = moved(data, motion)
    progress.report(1.0)
    made, told = _in_system(made, params)
    return Result(made, (*findings, *dropped, *told, *_example(data, made, params)), loss)


def motion_of(data: Dataset, params: HeightsParams) -> Motion:
    """Return what is asked for as a motion in the units of some data.

    Raises
    ------
    CallError
        If nothing is asked for, or a geoid comes without its direction.
    """
    if params.add is None and params.times is None and not params.geoid:
        raise CallError("say how heights are to change: add=0.35m, times=0.3048, or geoid=FILE to=orthometric")
    if bool(params.geoid) != (params.to is not None):
        raise ParamError("to", "a geoid needs its direction, to=orthometric or to=ellipsoidal, and that needs a geoid")
    up = params.add.in_unit(data.frame.vertical, "add") if params.add is not None else 0.0
    lift = None
    if params.geoid:
        unit = data.frame.vertical
        if unit is None:
            raise CallError(
                f"the height unit of {data.name} is unknown, and the geoid is in metres; say it with --from-vertical-units"
            )
        sign = -1.0 if params.to is Towards.ORTHOMETRIC else 1.0
        rate = sign * factor(Unit.METRE, unit)
        geoid = undulations(params.geoid, data.frame)

        def lift(xyz: Floats) -> Floats:
            return rate * geoid(xyz)

    return Motion(up=up, times=params.times or 1.0, lift=lift)


def _tile(inputs: Sequence[Dataset], params: HeightsParams, piece: TilePart) -> Dataset:
    return _in_system(moved_tile(inputs[0], motion_of(inputs[0], params), piece), params)[0]


def _whole(inputs: Sequence[Outline], params: HeightsParams) -> Outline:
    data = inputs[0].dataset()
    made = moved_outline(inputs[0], motion_of(data, params))
    return dataclasses.replace(made, frame=_in_system(data, params)[0].frame)


def _refuses(params: HeightsParams) -> str:
    return (
        ""
        if params.outside is not Outside.DROP
        else "what lies outside the geoid is not left out on tiles; clip it off first"
    )


def _within(data: Dataset, lift: Callable[[Floats], Floats]) -> tuple[Dataset, tuple[Finding, ...]]:
    """Return points or cells without those that lie outside the geoid grid; other data as it is.

    Raises
    ------
    DataError
        If nothing is left.
    """
    if data.kind not in (PointSet.kind, Grid.kind):
        return data, ()
    xyz = data.coordinates()
    lost = np.isnan(lift(xyz)) & ~np.isnan(xyz[:, 2])
    number = int(lost.sum())
    if not number:
        return data, ()
    if number == int((~np.isnan(xyz[:, 2])).sum()):
        raise DataError(f"all of {data.name} lies outside the geoid grid; is its reference system right?")
    made: Dataset
    if data.kind == Grid.kind:
        grid = narrowed(data, Grid)
        made = dataclasses.replace(grid, heights=np.where(lost.reshape(grid.heights.shape), np.nan, grid.heights))
        what = count(number, "cell")
    else:
        made, what = narrowed(data, PointSet).chosen(~lost), count(number, "point")
    at = (float(xyz[lost][0, 0]), float(xyz[lost][0, 1]))
    text = f"{what} of {data.name} outside the geoid grid left out, as asked (first at {place_words(*at)})."
    return made, (left_out("outside-geoid", text, at=at),)


def _in_system(made: Dataset, params: HeightsParams) -> tuple[Dataset, tuple[Finding, ...]]:
    """Return data in the plan of its system alone, where that named a system of heights which are no longer its own."""
    frame = made.frame
    system = height_system(frame.crs) if frame.crs and params.geoid else ""
    if not system or params.to is not Towards.ELLIPSOIDAL:
        return made, ()
    import pyproj

    crs = pyproj.CRS.from_user_input(frame.crs)
    if not crs.is_compound:
        return made, ()
    flat = frame_of_crs(crs.sub_crs_list[0].to_wkt())
    text = f"Heights are above the ellipsoid now, no longer in {system}: the system of {made.name} is that of the plan alone."
    return made.in_frame(Frame(flat.crs, frame.horizontal, frame.vertical)), (note("height-system-left", text),)


def _example(before: Dataset, after: Dataset, params: HeightsParams) -> tuple[Finding, ...]:
    """Tell by an example which way heights went."""
    one, other = before.coordinates(), after.coordinates()
    known = np.flatnonzero(~np.isnan(one[:, 2]))
    if not len(known) or not params.geoid or params.to is None:
        return ()
    k = int(known[0])
    source = "ellipsoidal" if params.to is Towards.ORTHOMETRIC else "orthometric"
    unit = unit_word(before.frame.vertical)
    text = f"At {place_words(one[k, 0], one[k, 1])} {source} {one[k, 2]:.3f}{unit} becomes {params.to.value} {other[k, 2]:.3f}{unit}."
    return (note("height-example", text),)


CONVERSION = Conversion(
    id="heights",
    version=1,
    title="Change heights",
    also=("raise", "geoid", "height system", "undulation", "vertical shift", "orthometric", "ellipsoidal"),
    help="Heights raised or lowered, multiplied, or brought from the ellipsoid to the geoid and back by a geoid grid.",
    inputs=(Input("data", (PointSet, Linework, Contours, Areas, Tin, Grid, Mesh, Survey)),),
    outputs=(Output("data", like="data"),),
    params=HeightsParams,
    template="Heights of {inputs}[ times {times}][, {add} added][, made {to} by {geoid}][, places outside it {outside}].",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, heights changed",
    halo=lambda inputs, params: 0.0,
    tiles=Tiling(whole=_whole, run=_tile, refuses=_refuses),
    ask=True,
)
