"""Surfaces that follow from other data alone: a TIN through a grid, a TIN of contours."""

from __future__ import annotations

import numpy as np

from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, legs
from vastgrid.data.tin import Tin
from vastgrid.kernels.raster import lattice_triangles
from vastgrid.kernels.topology import group_places
from vastgrid.kernels.triangulate import once, parted_at_places, triangulate


def grid_tin(grid: Grid) -> Tin:
    """Return the TIN through a grid's cell centres; see `lattice_triangles` for how cells are split."""
    triangles = lattice_triangles(grid.heights)
    row, column = np.divmod(np.arange(grid.rows * grid.columns), grid.columns)
    vertices = np.column_stack((grid.eastings()[column], grid.northings()[row], grid.heights.ravel()))
    used = np.zeros(len(vertices), np.bool_)
    used[triangles.ravel()] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    return Tin(name=grid.name, frame=grid.frame, vertices=vertices[used], triangles=number[triangles])


def contour_tin(contours: Contours, progress: Progress) -> Tin:
    """Return contours turned back into a TIN, their lines kept as edges: what a receiver can make of them alone.

    Raises
    ------
    DataError
        If the contours do not span a plane.
    """
    xyz = contours.coordinates()
    origin = np.floor(xyz[:, :2].min(axis=0)) if len(xyz) else np.zeros(2)
    local = np.ascontiguousarray(xyz[:, :2] - origin)
    # Vertices that only rounding keeps apart are one, and lines that touch share it.
    near = max(float(np.ptp(local, axis=0).max(initial=0.0)) * 1e-10, 1e-9)
    number, first = group_places(local[:, 0].copy(), local[:, 1].copy(), near)
    places, z = xyz[first, :2], xyz[first, 2]
    start = legs(contours.offsets, len(xyz))
    lines = np.column_stack((number[start], number[start + 1])).astype(np.int64)
    lines = parted_at_places(places, once(lines), 10.0 * near)
    made = triangulate(places, lines, progress)
    # Contours of one surface do not cross; where rounding makes them, the first line's level stands.
    extra = [z[lines[group[0], 0]] if group else 0.0 for _, group in made.crossings]
    vertices = np.column_stack((made.xy, np.concatenate((z, extra))))
    return Tin(
        name=contours.name,
        frame=contours.frame,
        vertices=vertices,
        triangles=made.triangles,
        neighbours=made.neighbours,
        constrained=made.constrained,
    )
