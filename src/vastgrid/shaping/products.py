"""What grids of slope, aspect and light have in common."""

from __future__ import annotations

import dataclasses

from vastgrid.data.dataset import Floats
from vastgrid.data.frame import need_lengths, ratio_of
from vastgrid.data.grid import Grid


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
