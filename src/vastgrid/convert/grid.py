"""TIN to grid."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.raster import raster_heights
from vastgrid.measures.difference import difference
from vastgrid.measures.reach import element
from vastgrid.params.declare import Param

MOST_CELLS = 400_000_000


@dataclass(frozen=True)
class GridParams:
    """How the grid is laid."""

    cell: Annotated[
        Length | None,
        Param("Cell size", "Width and height of a cell.", Quantity.XY_LENGTH, above=0, absent="a fit size"),
    ] = None


def settle(inputs: Sequence[Tin], params: GridParams) -> GridParams:
    """Suggest a cell of about the vertices' mean spacing, rounded down to 1, 2 or 5 × 10ⁿ."""
    if params.cell is not None:
        return params
    tin = inputs[0]
    area = float(np.abs(areas(tin)).sum())
    spacing = math.sqrt(area / max(len(tin.vertices), 1)) or 1.0
    power = 10.0 ** math.floor(math.log10(spacing))
    step = max(step for step in (1.0, 2.0, 5.0) if step * power <= spacing * 1.001)
    return replace(params, cell=Length(float(f"{step * power:.6g}"), tin.frame.horizontal))


def shape_of(tin: Tin, size: float) -> tuple[float, float, int, int]:
    """Return the corner and size of the grid that covers a TIN, on whole multiples of the cell size.

    Returns
    -------
    west, north : float
    rows, columns : int
    """
    extent = tin.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{tin.name} is empty")
    west, south = math.floor(extent.east[0] / size + 1e-9), math.floor(extent.north[0] / size + 1e-9)
    east, north = math.ceil(extent.east[1] / size - 1e-9), math.ceil(extent.north[1] / size - 1e-9)
    return west * size, north * size, max(int(north - south), 1), max(int(east - west), 1)


def run(inputs: Sequence[Tin], params: GridParams, progress: Progress) -> Result:
    """Lay the grid and measure what it loses; see `CONVERSION`.

    Raises
    ------
    ParamError
        If there would be more than 400 million cells.
    """
    tin = inputs[0]
    assert params.cell is not None
    size = params.cell.in_unit(tin.frame.horizontal, "cell")
    word = unit_word(tin.frame.horizontal)
    west, north, rows, columns = shape_of(tin, size)
    if rows * columns > MOST_CELLS:
        raise ParamError("cell", f"{size:g}{word} would give {count(rows * columns, 'cell')}; choose a larger one")
    heights = raster_heights(tin.vertices, tin.triangles, (west, north), (size, size), (rows, columns))
    progress.report(0.4, "laying the grid")
    grid = Grid(name="Grid", frame=tin.frame, heights=heights, west=west, north=north, dx=size, dy=size)
    findings: list[Finding] = []
    if not np.isfinite(heights).any():
        raise DataError(f"no cell centre lies on {tin.name}; a cell of {size:g}{word} is too large for it")
    try:
        loss = difference(tin, grid, progress.part(0.4, 1.0))
    except DataError as error:
        findings.append(Finding("loss-unknown", f"What the grid loses cannot be measured: {error}."))
        return Result(grid, tuple(findings))
    return Result(grid, tuple(findings), loss)


def _estimate(inputs: Sequence[Tin], params: GridParams) -> str:
    settled = settle(inputs, params)
    assert settled.cell is not None
    _, _, rows, columns = shape_of(inputs[0], settled.cell.in_unit(inputs[0].frame.horizontal, "cell"))
    return f"{rows} × {columns} cells of {settled.cell}"


def _name(inputs: Sequence[Tin], params: GridParams) -> str:
    return f"Heights {params.cell}" if params.cell else "Heights"


CONVERSION = Conversion(
    id="grid",
    version=1,
    title="Grid",
    help="Heights at the centres of regular cells, linear within each triangle.",
    inputs=(Input("surface", (Tin,)),),
    outputs=(Output("grid", Grid),),
    params=GridParams,
    template="Heights of {inputs} on a grid of {cell}.",
    run=run,
    settle=settle,
    estimate=_estimate,
    name=_name,
    reach=lambda inputs, params: element(inputs[0]),
    automatic=3,
)
