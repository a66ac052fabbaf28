"""Surfaces whose figures are known in closed form."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.library.surfaces import Grid, Tin
from vastgrid.library.vectors import Areas, Linework, PointSet

CLOSED = "closed form"


def plane_points(a: float = 0.1, b: float = 0.05, c: float = 20.0, step: float = 5.0, side: float = 100.0) -> PointSet:
    """Return a lattice of points on z = c + a·E + b·N over a square."""
    axis = np.arange(0.0, side + step / 2, step)
    east, north = (own.ravel() for own in np.meshgrid(axis, axis))
    return PointSet.from_arrays(np.column_stack((east, north, c + a * east + b * north)), unit="m", vertical_unit="m")


def plane(a: float = 0.1, b: float = 0.05, c: float = 20.0, side: float = 100.0, name: str = "plane") -> Tin:
    """Return two triangles on z = c + a·E + b·N over a square."""
    corners = np.array([(0.0, 0.0), (side, 0.0), (side, side), (0.0, side)])
    z = c + corners @ (a, b)
    return Tin.from_arrays(np.column_stack((corners, z)), [(0, 1, 2), (0, 2, 3)], "m", "m", name=name)


def plane_grid(a: float, b: float, c: float = 0.0, cell: float = 2.0, number: int = 30) -> Grid:
    """Return a grid with the heights of z = c + a·E + b·N at the middles of its cells, its corner at (0, 0)."""
    middle = (np.arange(number) + 0.5) * cell
    heights = c + a * middle[None, :] + b * middle[::-1, None]
    return Grid.from_arrays(heights, (cell, 0.0, 0.0, 0.0, -cell, number * cell), "m", "m")


def frustum(
    foot: float = 60.0, crown: float = 20.0, height: float = 10.0, side: float = 100.0, level: float = 0.0
) -> Tin:
    """Return a square pyramid with its top cut off, on level ground; a negative height makes a pit of it."""
    middle = side / 2.0
    rings = [_square(middle, half, z) for half, z in ((side / 2, 0.0), (foot / 2, 0.0), (crown / 2, height))]
    corners = np.concatenate(rings) + np.array((0.0, 0.0, level))
    triangles = []
    for ring in (0, 4):
        for k in range(4):
            a, b = ring + k, ring + (k + 1) % 4
            triangles += [(a, b, b + 4), (a, b + 4, a + 4)]
    triangles += [(8, 9, 10), (8, 10, 11)]
    return Tin.from_arrays(corners, triangles, "m", "m", name="frustum")


def frustum_volume(foot: float = 60.0, crown: float = 20.0, height: float = 10.0) -> float:
    """Return h/3 · (A₁ + A₂ + √(A₁·A₂))."""
    return height / 3.0 * (foot**2 + crown**2 + foot * crown)


def _square(middle: float, half: float, z: float) -> NDArray[np.float64]:
    signs = np.array([(-1, -1), (1, -1), (1, 1), (-1, 1)], np.float64)
    return np.column_stack((middle + half * signs, np.full(4, z)))


def square_line(low: float, high: float, z: float = np.nan) -> Linework:
    """Return a closed square."""
    ring = [(low, low), (high, low), (high, high), (low, high), (low, low)]
    return Linework.from_arrays([np.column_stack((np.array(ring), np.full(5, z)))], "m", "m")


def square(low: float, high: float) -> Areas:
    """Return a square as an area."""
    import shapely

    return Areas.from_geometries([shapely.box(low, low, high, high)], unit="m")
