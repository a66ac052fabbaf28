"""How far one surface lies above another, as a surface of its own."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import spaced, step_above
from vastgrid.data.dataset import DIFFERENCE, Dataset, Floats
from vastgrid.data.frame import need_lengths
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline, Outline
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.measures.heights import lattice
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.boundaries import as_tin
from vastgrid.terrain.cells.gridding import Cells
from vastgrid.terrain.tin.overlaying import difference_tin

# So many cells where nobody says how large they are.
CELLS = 250_000
MOST_CELLS = 400_000_000


class As(Enum):
    """In which form."""

    TIN = "tin"
    GRID = "grid"


@dataclass(frozen=True)
class DifferenceParams:
    """In which form."""

    as_: Annotated[
        As | None,
        Param("As", "tin: exact, with an edge wherever either surface has one; grid: at the centres of cells."),
    ] = None
    cell: Annotated[
        Length | None,
        Param("Cell", "Size of a cell of a grid.", Quantity.XY_LENGTH, above=0, absent="that of the grid given"),
    ] = None


def settle(inputs: Inputs, params: DifferenceParams) -> DifferenceParams:
    """Stay exact where both are TINs and nobody asks for cells."""
    base, top = inputs.of("base")[0], inputs.of("top")[0]
    if params.as_ is None:
        form = As.TIN if params.cell is None and isinstance(base, Tin) and isinstance(top, Tin) else As.GRID
        params = dataclasses.replace(params, as_=form)
    if params.as_ is As.GRID and params.cell is None and not any(isinstance(each, Grid) for each in (base, top)):
        box = _common(base, top)
        size = step_above(math.sqrt(max((box[2] - box[0]) * (box[3] - box[1]), 1e-12) / CELLS))
        params = dataclasses.replace(params, cell=Length(size, base.frame.horizontal))
    return params


def _common(base: Dataset, top: Dataset) -> tuple[float, float, float, float]:
    boxes = []
    for each in (base, top):
        extent = each.extent()
        if extent.east is None or extent.north is None:
            raise DataError(f"{each.name} is empty")
        boxes.append((extent.east[0], extent.north[0], extent.east[1], extent.north[1]))
    a, b = boxes
    box = max(a[0], b[0]), max(a[1], b[1]), min(a[2], b[2]), min(a[3], b[3])
    if box[2] <= box[0] or box[3] <= box[1]:
        raise DataError(f"{base.name} and {top.name} have no ground in common")
    return box


def run(inputs: Inputs, params: DifferenceParams, progress: Progress) -> Result:
    """Take one surface from the other; see `CONVERSION`.

    Raises
    ------
    DataError
        If they have no ground in common.
    ParamError
        If there would be more cells than fit.
    """
    (base,), (top,) = inputs.of("base"), inputs.of("top")
    params = settle(inputs, params)
    name = f"{top.name} minus {base.name}"
    made: Tin | Grid
    if params.as_ is As.TIN:
        _common(base, top)
        made = difference_tin(as_tin(base), as_tin(top, base), name, progress)
        values = made.vertices[:, 2]
    else:
        made = _grid(base, top, params, name)
        values = made.heights[np.isfinite(made.heights)]
    unit = unit_word(made.frame.vertical)
    text = f"From {values.min():+.3f}{unit} to {values.max():+.3f}{unit}; positive where {top.name} lies above {base.name}."
    return Result(made, (note("difference", text),))


def _grid(base: Dataset, top: Dataset, params: DifferenceParams, name: str) -> Grid:
    assert isinstance(base, Tin | Grid)
    assert isinstance(top, Tin | Grid)
    cells = _cells(base, top, params)
    gap = _gap(base, top, cells)
    if not np.isfinite(gap).any():
        raise DataError(f"{base.name} and {top.name} have no ground in common")
    west, north = cells.corner
    return Grid(
        name=name, frame=top.frame, heights=gap, west=west, north=north, dx=cells.dx, dy=cells.dy, quantity=DIFFERENCE
    )


def _gap(base: Tin | Grid, top: Tin | Grid, cells: Cells) -> Floats:
    one, other = (lattice(each, cells.corner, (cells.dx, cells.dy), cells.shape) for each in (top, base))
    return np.asarray(one - other, np.float64)


def _cells(base: Dataset, top: Dataset, params: DifferenceParams) -> Cells:
    """Return the cells of a difference as a grid, over the ground in common.

    Raises
    ------
    DataError
        If there is none.
    ParamError
        If there would be more cells than fit.
    """
    box = _common(base, top)
    own = next((each for each in (base, top) if isinstance(each, Grid)), None)
    if params.cell is not None:
        need_lengths(base.name, base.frame, "cells need")
        dx = dy = params.cell.in_unit(base.frame.horizontal, "cell")
        # Edges of cells at whole multiples, so that two differences of one place share them.
        west, north = math.floor(box[0] / dx) * dx, math.ceil(box[3] / dy) * dy
    else:
        assert own is not None
        dx, dy = own.dx, own.dy
        west = own.west + math.floor((box[0] - own.west) / dx + 1e-9) * dx
        north = own.north - math.floor((own.north - box[3]) / dy + 1e-9) * dy
    shape = max(math.ceil((north - box[1]) / dy - 1e-9), 1), max(math.ceil((box[2] - west) / dx - 1e-9), 1)
    if shape[0] * shape[1] > MOST_CELLS:
        raise ParamError("cell", f"that makes {spaced(shape[0] * shape[1])} cells; choose a larger one")
    return Cells(west, north, dx, dy, *shape)


def _halo(inputs: Inputs, params: DifferenceParams) -> float | None:
    if params.as_ is not As.GRID or not all(isinstance(each, Grid) for each in inputs):
        return None
    return 2.0 * max(math.hypot(each.dx, each.dy) for each in inputs if isinstance(each, Grid))


def _whole(inputs: Sequence[Outline], params: DifferenceParams) -> CellOutline:
    base, top = (each.dataset() for each in inputs)
    cells = _cells(base, top, params)
    own = (*cells.corner, cells.dx, cells.dy, cells.rows, cells.columns)
    return CellOutline(f"{top.name} minus {base.name}", top.frame, *own, DIFFERENCE)


def _tile(inputs: Inputs, params: DifferenceParams, piece: TilePart) -> Grid:
    """Return the difference on the cells of a tile."""
    (base,), (top,) = inputs.of("base"), inputs.of("top")
    whole = piece.cells
    window = whole.window(piece.box)
    cells = Cells(whole.west, whole.north, whole.dx, whole.dy, window.rows, window.columns, window.top, window.left)
    return whole.grid(window, _gap(base, top, cells))  # type: ignore[arg-type]


CONVERSION = Conversion(
    id="difference",
    version=1,
    title="Difference surface",
    also=("cut/fill surface", "isopach", "subtract"),
    help="How far a surface lies above another, as a surface of its own: exact between TINs, or by cells.",
    inputs=(
        Input("base", (Tin, Grid), help="the surface that is subtracted", fits=lambda data: data.has_heights),
        Input("top", (Tin, Grid), help="the surface it is subtracted from", fits=lambda data: data.has_heights),
    ),
    outputs=(Output("difference", Tin),),
    forms=((Tin, {"as": "tin"}), (Grid, {"as": "grid"})),
    params=DifferenceParams,
    template="{top} minus {base}[, as {as}][ with cells of {cell}].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[1].name} minus {inputs[0].name}",
    halo=_halo,
    tiles=Tiling(
        whole=_whole,
        run=_tile,
        local="it needs two grids",
        refuses=lambda params: "an exact TIN is of the whole; take as=grid" if params.as_ is As.TIN else "",
    ),
)
