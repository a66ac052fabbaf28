"""Slope of a grid, as a grid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.drawing.shade import slope_aspect
from vastgrid.measures.halo import element
from vastgrid.params.declare import Param
from vastgrid.terrain.cells.products import cell_by_cell, cells_in_heights, of_quantity

# Flatter ground counts as this ratio, which nobody tells from level.
FLATTEST = 1000.0


class Said(Enum):
    """How a slope is said."""

    PERCENT = "percent"
    DEGREES = "degrees"
    RATIO = "ratio"


_MEASURE = {Said.PERCENT: "%", Said.DEGREES: "°", Said.RATIO: "1:n"}


@dataclass(frozen=True)
class SlopeParams:
    """In what slopes are said."""

    as_: Annotated[
        Said,
        Param(
            "Unit",
            "percent: rise over run; degrees from level; ratio: horizontal per one vertical, at most 1000.",
        ),
    ] = Said.PERCENT


def run(inputs: Sequence[Grid], params: SlopeParams, progress: Progress) -> Result:
    """Return the slope at every cell; see `CONVERSION`.

    Raises
    ------
    CallError
        If the grid is in degrees.
    """
    grid = inputs[0]
    degrees, _ = slope_aspect(grid.heights, *cells_in_heights(grid))
    progress.report(0.8)
    if params.as_ is Said.DEGREES:
        values = degrees
    else:
        rise = np.tan(np.radians(degrees))
        with np.errstate(divide="ignore"):
            values = rise * 100.0 if params.as_ is Said.PERCENT else np.minimum(1.0 / rise, FLATTEST)
    return Result(of_quantity(grid, values, "slope", _MEASURE[params.as_]))


def foretell(inputs: Sequence[Grid], params: SlopeParams) -> tuple[dict[str, int], float]:
    """Return the grid's own rows and columns."""
    return dict(inputs[0].count()), inputs[0].heights.size * 1e-7


CONVERSION = Conversion(
    id="slope",
    version=1,
    title="Slope",
    also=("gradient",),
    help="How steep the ground is at each cell, after Horn (1981).",
    inputs=(Input("surface", (Grid,)),),
    outputs=(Output("slope", Grid),),
    params=SlopeParams,
    template="Slope of {surface}, as {as}.",
    run=run,
    foretell=foretell,
    name=lambda inputs, params: f"Slope of {inputs[0].name}",
    halo=lambda inputs, params: element(inputs[0]),
    tiles=cell_by_cell(run, "slope", lambda params: _MEASURE[params.as_]),
)
