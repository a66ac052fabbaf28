"""A surface on the cells of another grid."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import count, note
from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.difference import gridded_loss
from vastgrid.params.declare import Param
from vastgrid.terrain.cells.gridding import SAID_METHODS, Cells, Method, grid_of, heights_on


@dataclass(frozen=True)
class AlignParams:
    """How a cell gets its height."""

    method: Annotated[
        Method,
        Param(
            "Method",
            "linear or natural: read from the surface; idw: by distance; lowest, highest, mean, median, count: of what lies "
            "in each cell.",
            said=SAID_METHODS,
        ),
    ] = Method.LINEAR


def run(inputs: Inputs, params: AlignParams, progress: Progress) -> Result:
    """Read the surface at the other grid's cells; see `CONVERSION`.

    Raises
    ------
    DataError
        If the surface lies beside the other grid.
    """
    (surface,), (like,) = inputs.of("surface"), inputs.of("like")
    assert isinstance(surface, Tin | Grid | PointSet)
    assert isinstance(like, Grid)
    cells = Cells(like.west, like.north, like.dx, like.dy, like.rows, like.columns)
    heights = heights_on(surface, cells, params.method, None, progress.part(0.0, 0.5))
    known = int(np.isfinite(heights).sum())
    if known == 0:
        raise DataError(f"no cell of {like.name} lies on {surface.name}")
    made = grid_of("Grid", surface.frame, cells, heights, params.method, point_registered=like.point_registered)
    findings = []
    if empty := heights.size - known:
        text = f"{count(empty, 'cell')} of {heights.size} lie beside it, without a height."
        findings.append(note("cells-empty", text))
    if params.method is Method.COUNT:
        return Result(made, tuple(findings))
    return Result(made, tuple(findings), gridded_loss(surface, made, None, progress.part(0.5, 1.0)))


CONVERSION = Conversion(
    id="align",
    version=1,
    title="Resample to another grid",
    also=("match grid", "same cells"),
    help="Heights of a surface or of points at the cells of another grid: the same corner, size, rows and columns.",
    inputs=(
        Input("surface", (Tin, Grid, PointSet), fits=lambda data: data.has_heights),
        Input("like", (Grid,), help="whose cells"),
    ),
    outputs=(Output("grid", Grid),),
    params=AlignParams,
    template="{surface} resampled to the cells of {like}, {method}.",
    run=run,
    estimate=lambda inputs, params: "{} × {} cells".format(*inputs.of("like")[0].heights.shape),
    name=lambda inputs, params: f"{inputs[0].name} aligned",
)
