"""Points that lie below a level, lifted onto it: a pond that fills."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Annotated

from vastgrid.plugin import (
    Conversion, Input, Inputs, Length, Output, Param, ParamError, PointSet, Progress, Quantity, Result, count, narrowed,
    note,
)  # fmt: skip

INTERFACE = "1.0"


@dataclass(frozen=True)
class FillParams:
    """How high."""

    level: Annotated[Length | None, Param("Level", "Height of the water.", Quantity.Z_LENGTH, absent="no level")] = None


def run(inputs: Inputs, params: FillParams, progress: Progress) -> Result:
    """Lift what is too low."""
    progress.report(0.1)
    if params.level is None:
        raise ParamError("level", "say how high the water stands, such as level=231.5m")
    points = narrowed(inputs[0], PointSet)
    level = params.level.in_unit(points.frame.vertical, "level")
    xyz = points.xyz.copy()
    wet = xyz[:, 2] < level
    xyz[wet, 2] = level
    progress.report(1.0)
    said = note("lifted", f"{count(int(wet.sum()), 'point')} of {len(xyz)} lay below {params.level}.")
    return Result(dataclasses.replace(points, xyz=xyz), (said,))


CONVERSION = Conversion(
    id="tollgarth_spots_fill",
    version=1,
    title="Water up to a level",
    help="Points that lie below a level, lifted onto it.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", PointSet),),
    params=FillParams,
    template="{points} with water up to {level}.",
    run=run,
    ask=True,
)
