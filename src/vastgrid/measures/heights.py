"""Heights of a surface at places and over a lattice."""

from __future__ import annotations

import numpy as np

from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.kernels.cells.raster import bilinear, raster_heights
from vastgrid.kernels.triangles.locate import Buckets, buckets, heights_at


def bucket_index(tin: Tin) -> Buckets:
    """Return a TIN's bucket index, made once."""
    made: Buckets = tin.worked_out("buckets", lambda: buckets(tin.vertices, tin.triangles))
    return made


def heights_at_hand(surface: Dataset) -> bool:
    """Return whether heights of a surface can be had at once: a TIN's index takes a second for millions of triangles."""
    return surface.kind == Grid.kind or (surface.kind == Tin.kind and surface.is_worked_out("buckets"))


def surface_of(dataset: Dataset | None) -> Tin | Grid | None:
    """Return a dataset as a surface with heights, if it is one."""
    return dataset if isinstance(dataset, Tin | Grid) and dataset.has_heights else None


def heights(surface: Tin | Grid, xy: Floats) -> Floats:
    """Return a surface's height at places in plan, (n,) float64, NaN outside."""
    if isinstance(surface, Tin):
        return heights_at(xy, surface.vertices, surface.triangles, bucket_index(surface))
    column = (xy[:, 0] - surface.west) / surface.dx - 0.5
    row = (surface.north - xy[:, 1]) / surface.dy - 0.5
    return np.asarray(bilinear(surface.heights, column, row))


def lattice(
    surface: Tin | Grid, corner: tuple[float, float], cell: tuple[float, float], shape: tuple[int, int]
) -> Floats:
    """Return a surface's heights at the centres of a lattice, (rows, columns) float64, NaN outside."""
    if isinstance(surface, Tin):
        return raster_heights(surface.vertices, surface.triangles, corner, cell, shape)
    east = corner[0] + (np.arange(shape[1]) + 0.5) * cell[0]
    north = corner[1] - (np.arange(shape[0]) + 0.5) * cell[1]
    column = np.tile((east - surface.west) / surface.dx - 0.5, shape[0])
    row = np.repeat((surface.north - north) / surface.dy - 0.5, shape[1])
    return np.asarray(bilinear(surface.heights, column, row).reshape(shape))


def gradients(surface: Tin | Grid, places: Floats, step: float) -> Floats:
    """Return rise over run to the east and to the north at places, (n, 2); NaN where the surface ends."""
    ways = [np.array(way) * step for way in ((1.0, 0.0), (-1.0, 0.0), (0.0, 1.0), (0.0, -1.0))]
    east, west, north, south = (heights(surface, np.ascontiguousarray(places + way)) for way in ways)
    return np.column_stack((east - west, north - south)) / (2.0 * step)
