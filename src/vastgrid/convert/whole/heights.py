"""Heights of anything raised, scaled, or brought from one height system into another by a geoid grid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, factor, unit_word
from vastgrid.base.words import place_words
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.place.geoid import undulations
from vastgrid.terrain.place.moving import Motion, moved


class Towards(Enum):
    """Which heights are given."""

    ORTHOMETRIC = "orthometric"
    ELLIPSOIDAL = "ellipsoidal"


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
    if params.add is None and params.times is None and not params.geoid:
        raise CallError("say how heights are to change: add=0.35m, times=0.3048, or geoid=FILE to=orthometric")
    if not data.has_heights:
        raise CallError(f"{data.name} holds no heights")
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

    made, findings, loss = moved(data, Motion(up=up, times=params.times or 1.0, lift=lift))
    progress.report(1.0)
    return Result(made, (*findings, *_example(data, made, params)), loss)


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
    template="Heights of {inputs}[ times {times}][, {add} added][, made {to} by {geoid}].",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, heights changed",
    halo=lambda inputs, params: 0.0,
    ask=True,
)
