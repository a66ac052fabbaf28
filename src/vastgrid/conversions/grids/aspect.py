"""Aspect of a grid: the bearing its ground falls towards."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.findings import count, note
from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.drawing.shade import slope_aspect
from vastgrid.measures.halo import element
from vastgrid.terrain.cells.products import cell_by_cell, cells_in_heights, of_quantity


@dataclass(frozen=True)
class AspectParams:
    """Nothing to choose."""


def run(inputs: Sequence[Grid], params: AspectParams, progress: Progress) -> Result:
    """Return the bearing at every cell; see `CONVERSION`.

    Raises
    ------
    CallError
        If the grid is in degrees.
    """
    grid = inputs[0]
    _, bearing = slope_aspect(grid.heights, *cells_in_heights(grid))
    level = int((np.isnan(bearing) & np.isfinite(grid.heights)).sum())
    findings = (note("level-cells", f"{count(level, 'level cell')} without a bearing."),) if level else ()
    progress.report(1.0)
    return Result(of_quantity(grid, bearing, "aspect", "°"), findings)


def foretell(inputs: Sequence[Grid], params: AspectParams) -> tuple[dict[str, int], float]:
    """Return the grid's own rows and columns."""
    return dict(inputs[0].count()), inputs[0].heights.size * 1e-7


CONVERSION = Conversion(
    id="aspect",
    version=1,
    title="Aspect",
    also=("exposure",),
    help="The bearing, clockwise from north, that the ground falls towards at each cell; level cells have none. After Horn (1981).",
    inputs=(Input("surface", (Grid,)),),
    outputs=(Output("aspect", Grid),),
    params=AspectParams,
    template="Aspect of {surface}: the bearing in which it slopes down.",
    run=run,
    foretell=foretell,
    name=lambda inputs, params: f"Aspect of {inputs[0].name}",
    halo=lambda inputs, params: element(inputs[0]),
    tiles=cell_by_cell(run, "aspect", lambda params: "°"),
)
