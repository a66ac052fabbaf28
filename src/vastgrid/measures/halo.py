"""How far around a place a result depends on its input: what lets a conversion run on pieces of ground."""

from __future__ import annotations

from functools import singledispatch

import numpy as np

from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin


@singledispatch
def element(data: Dataset) -> float | None:
    """Return the size in plan of the largest piece that a surface is made of: an edge, a cell; None for anything else."""
    return None


@element.register
def _of_tin(tin: Tin) -> float:
    corner = tin.corners()[:, :, :2]
    sides = np.roll(corner, -1, axis=1) - corner
    return float(np.hypot(sides[..., 0], sides[..., 1]).max(initial=0.0))


@element.register
def _of_grid(grid: Grid) -> float:
    return float(np.hypot(grid.dx, grid.dy))
