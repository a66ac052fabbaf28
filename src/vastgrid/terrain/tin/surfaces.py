"""Surfaces that follow from other data alone: a TIN through a grid, a TIN of contours."""

from __future__ import annotations

import numpy as np

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, legs
from vastgrid.data.tin import Tin
from vastgrid.kernels.cells.raster import lattice_triangles, lattice_triangles_like
from vastgrid.kernels.triangles.topology import group_places
from vastgrid.kernels.triangles.triangulate import once, parted_at_places, triangulate


def grid_tin(grid: Grid, like: Grid | None = None) -> Tin:
    """Return the TIN through a grid's cell centres; see `lattice_triangles` for how cells are split.

    Parameters
    ----------
    like : Grid or None
        Where it has the same centres, cells are split as its are: two surfaces that differ by a plane then differ by one
        between the centres too.
    """
    guide = None if like is None or like is grid else _on_cells(like, grid)
    triangles = lattice_triangles(grid.heights) if guide is None else lattice_triangles_like(grid.heights, guide)
    row, column = np.divmod(np.arange(grid.rows * grid.columns), grid.columns)
    vertices = np.column_stack((grid.eastings()[column], grid.northings()[row], grid.heights.ravel()))
    used = np.zeros(len(vertices), np.bool_)
    used[triangles.ravel()] = True
    number = np.cumsum(used, dtype=np.int32) - 1
    return Tin(name=grid.name, frame=grid.frame, vertices=vertices[used], triangles=number[triangles])


def _on_cells(grid: Grid, other: Grid) -> Floats | None:
    """Return a grid's heights at the cells of another one, NaN where it has none; None where their centres differ."""
    top, left = (other.north - grid.north) / -grid.dy, (other.west - grid.west) / grid.dx
    fine = 1e-6
    same = abs(grid.dx / other.dx - 1.0) * other.columns < fine and abs(grid.dy / other.dy - 1.0) * other.rows < fine
    if not same or abs(top - round(top)) > fine or abs(left - round(left)) > fine:
        return None
    out = np.full(other.heights.shape, np.nan)
    first = np.array([round(top), round(left)])
    # Rows and columns of the other one that lie on this one.
    low = np.maximum(-first, 0)
    high = np.minimum(np.array(grid.heights.shape) - first, other.heights.shape)
    if (high > low).all():
        own = tuple(slice(a + f, b + f) for a, b, f in zip(low, high, first, strict=True))
        out[low[0] : high[0], low[1] : high[1]] = grid.heights[own]
    return out


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
