"""Points that stand on a regular lattice are a grid, written as a list."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet

# A point may stand this far from its lattice place, as a share of the step: what rounding in a list makes of a step.
SLACK = 1e-3


@dataclass(frozen=True, slots=True)
class Lattice:
    """A grid made of points, and how far a point stands from its cell's centre at most."""

    grid: Grid
    moved: float


def grid_of(points: PointSet) -> Lattice | None:
    """Return points as a grid where they stand on one, each place at most once and a tenth of them taken."""
    found: Lattice | None = points.worked_out("lattice", lambda: _found(points))
    if found is None or found.grid.frame == points.frame:
        return found
    return Lattice(found.grid.in_frame(points.frame), found.moved)


def is_complete(points: PointSet) -> bool:
    """Say whether points are a regular lattice with a point at every place."""
    found = grid_of(points)
    return found is not None and found.grid.heights.size == len(points.xyz)


def _found(points: PointSet) -> Lattice | None:
    xyz = points.xyz
    if len(xyz) < 9 or not np.isfinite(xyz).all():
        return None
    axes = [_axis(xyz[:, 0]), _axis(-xyz[:, 1])]
    if axes[0] is None or axes[1] is None:
        return None
    (west, dx, columns, column, off_x), (north, dy, rows, row, off_y) = axes[0], axes[1]
    if rows * columns > 10 * len(xyz) or len(np.unique(row * columns + column)) < len(xyz):
        return None
    heights = np.full((rows, columns), np.nan)
    heights[row, column] = xyz[:, 2]
    grid = Grid(
        name=points.name,
        frame=points.frame,
        heights=heights,
        west=west - dx / 2.0,
        north=-north + dy / 2.0,
        dx=dx,
        dy=dy,
        point_registered=True,
    )
    return Lattice(grid, max(off_x, off_y))


def _axis(values: Floats) -> tuple[float, float, int, NDArray[np.int64], float] | None:
    """Return first place, step, number of places, each value's place and how far off it is; None where uneven."""
    low, high = float(values.min()), float(values.max())
    different = np.unique(np.round(values[:50_000], 9))
    gaps = np.diff(different)
    gaps = gaps[gaps > SLACK * (high - low) / max(len(values), 1)]
    if len(gaps) < 2:
        return None
    step = float(np.median(gaps[gaps <= gaps.min() * (1.0 + 2.0 * SLACK)]))
    number = round((high - low) / step)
    if number < 2 or number > len(values):
        return None
    # From end to end: the step of neighbours is rounded, and a thousand of them add up.
    step = float(f"{(high - low) / number:.12g}")
    place = np.rint((values - low) / step).astype(np.int64)
    off = float(np.abs(low + place * step - values).max())
    return None if off > SLACK * step else (low, step, int(place.max()) + 1, place, off)
