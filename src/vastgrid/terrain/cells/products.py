"""What grids of slope, aspect and light have in common."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from typing import Any

from vastgrid.base.progress import Silent
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import need_lengths, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline, Outline
from vastgrid.declarations.tiles import TilePart, Tiling


def cells_in_heights(grid: Grid) -> tuple[float, float]:
    """Return the cell size in the unit of the heights.

    Raises
    ------
    CallError
        If the grid is in degrees: a degree of longitude is no length.
    """
    need_lengths(grid.name, grid.frame, "slopes need")
    ratio = ratio_of(grid.frame)
    return grid.dx * ratio, grid.dy * ratio


def of_quantity(grid: Grid, values: Floats, quantity: str, measure: str) -> Grid:
    """Return a grid of another quantity on the same cells."""
    name = f"{quantity.capitalize()} of {grid.name}"
    return dataclasses.replace(grid, name=name, heights=values, quantity=quantity, measure=measure)


def cell_by_cell(run: Callable[[Any, Any, Any], Any], quantity: str, measure: Callable[[Any], str]) -> Tiling:
    """Return how what depends on each cell and its eight neighbours runs on tiles: as on the whole."""

    def whole(inputs: Sequence[Outline], params: Any) -> CellOutline:
        source = inputs[0]
        assert isinstance(source, CellOutline)
        name = f"{quantity.capitalize()} of {source.name}"
        return dataclasses.replace(source, name=name, quantity=quantity, measure=measure(params), elevation=None)

    def one(inputs: Sequence[Dataset], params: Any, piece: TilePart) -> Dataset:
        made: Dataset = run(inputs, params, Silent()).dataset
        return made

    return Tiling(whole=whole, run=one)
