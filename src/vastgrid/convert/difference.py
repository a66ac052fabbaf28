"""How far one surface lies above another, as a surface of its own."""

from __future__ import annotations

import dataclasses
import math
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import spaced, step_above
from vastgrid.data.dataset import DIFFERENCE, Dataset
from vastgrid.data.frame import need_lengths
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.heights import lattice
from vastgrid.params.declare import Param
from vastgrid.shaping.boundaries import as_tin
from vastgrid.shaping.overlaying import difference_tin

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
        made = difference_tin(as_tin(base), as_tin(top), name, progress)
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
    gap = lattice(top, (west, north), (dx, dy), shape) - lattice(base, (west, north), (dx, dy), shape)
    if not np.isfinite(gap).any():
        raise DataError(f"{base.name} and {top.name} have no ground in common")
    return Grid(name=name, frame=top.frame, heights=gap, west=west, north=north, dx=dx, dy=dy, quantity=DIFFERENCE)


CONVERSION = Conversion(
    id="difference",
    version=1,
    title="Difference surface",
    help="How far a surface lies above another, as a surface of its own: exact between TINs, or by cells.",
    inputs=(
        Input("base", (Tin, Grid), help="what is taken off", fits=lambda data: data.has_heights),
        Input("top", (Tin, Grid), help="what lies above or below it", fits=lambda data: data.has_heights),
    ),
    outputs=(Output("difference", Tin),),
    params=DifferenceParams,
    template="{top} minus {base}, as {as}[ with cells of {cell}].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[1].name} minus {inputs[0].name}",
    reach=lambda inputs, params: None,
)
