"""How far two surfaces differ vertically."""

from __future__ import annotations

import math
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from vastgrid.base.disk_arrays import release
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import of_kind
from vastgrid.data.loss import Loss
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, edges
from vastgrid.kernels.cells.raster import gaps_of_points, largest_gap
from vastgrid.kernels.triangles.locate import largest_edge_gap
from vastgrid.measures.heights import bucket_index, heights, lattice

LATTICE = 1_000_000
# Points are compared in pieces of so many.
PIECE = 1_000_000


def difference(first: Tin | Grid, second: Tin | Grid, progress: Progress) -> Loss:
    """Measure how far the second surface lies above the first.

    Raises
    ------
    DataError
        If they have no ground in common.
    """
    for each in (first, second):
        for grid in (own for own in of_kind([each], Grid) if not own.has_heights):
            raise DataError(f"{each.name} holds {grid.holds()}, no heights, so it cannot be compared as ground")
    if first.content == second.content:
        second = first
    corner, cell, shape = _common_lattice(first, second)
    own = lattice(first, corner, cell, shape)
    progress.report(0.3, "comparing")
    other = lattice(second, corner, cell, shape)
    progress.report(0.5, "comparing")
    gap = other - own
    both = np.isfinite(gap)
    row, column = np.nonzero(both)
    places = np.column_stack((corner[0] + (column + 0.5) * cell[0], corner[1] - (row + 0.5) * cell[1]))
    values = gap[both]
    if len(values) == 0:
        # Slivers that no lattice place hits still have vertices.
        places, values = _at_vertices(first, second)
    if len(values) == 0:
        raise DataError(f"{first.name} and {second.name} have no ground in common, so they cannot be compared")
    worst, at = _worst(values, places)
    # A surface does not differ from itself, whatever rounding says.
    for one, two in ((first, second), (second, first)) if first is not second else ():
        far, where = _largest_at(one, two)
        if far > worst:
            worst, at = far, where
    progress.report(0.8, "comparing")
    if isinstance(first, Tin) and isinstance(second, Tin) and first is not second:
        found, x, y = largest_edge_gap(
            edges(first), first.vertices, second.vertices, second.triangles, bucket_index(second)
        )
        if abs(found) > worst:
            worst, at = abs(found), (x, y)
    progress.report(1.0, "comparing")
    return Loss(
        largest=worst,
        rmse=math.sqrt(float(np.mean(values**2))),
        mean=float(np.mean(values)),
        p95=float(np.quantile(np.abs(values), 0.95)),
        at=at,
        area=float(both.sum()) * cell[0] * cell[1],
        share=min(float(both.sum()) / max(float(np.isfinite(own).sum()), 1.0), 1.0) * _overlap(first, second),
        unit=first.frame.vertical,
        plan_unit=first.frame.horizontal,
    )


def gridded_loss(source: Tin | Grid | PointSet, grid: Grid, keep: Flags | None, progress: Progress) -> Loss | None:
    """Measure how far a grid lies above what it was made from; of points those that count, see `points_loss`."""
    if isinstance(source, PointSet):
        return points_loss(source, grid, keep)
    return difference(source, grid, progress)


def points_loss(points: PointSet, grid: Grid, keep: Flags | None = None) -> Loss | None:
    """Measure how far a grid lies above the points that it was made from: at every one of them, exact.

    Parameters
    ----------
    keep : (n,) bool or None
        Which points count.

    Returns
    -------
    Loss or None
        None where no point with a height lies over the grid.
    """
    xyz = points.xyz
    west, north = grid.west + grid.dx / 2.0, grid.north - grid.dy / 2.0
    sizes = np.zeros(len(xyz), np.float32)
    every = np.zeros(0, np.bool_)

    def work(start: int) -> tuple[int, float, float, int, float]:
        part = slice(start, min(start + PIECE, len(xyz)))
        own = every if keep is None else keep[part]
        number, total, squares, worst, largest = gaps_of_points(
            xyz[part], own, grid.heights, west, north, grid.dx, grid.dy, sizes[part]
        )
        return number, total, squares, worst + start, largest

    with ThreadPoolExecutor(2) as pool:
        found = list(pool.map(work, range(0, len(xyz), PIECE)))
    release(xyz)
    number = sum(own[0] for own in found)
    if number == 0:
        return None
    worst, largest = max(((own[3], own[4]) for own in found), key=lambda own: own[1])
    extent = grid.extent()
    assert extent.east is not None
    assert extent.north is not None
    known = sizes if number == len(sizes) else sizes[np.isfinite(sizes)]
    wanted = int(np.isfinite(xyz[:, 2]).sum()) if keep is None else int((keep & np.isfinite(xyz[:, 2])).sum())
    at = len(known) - 1 - int(0.05 * len(known))
    known.partition(at)
    return Loss(
        largest=largest,
        rmse=math.sqrt(sum(own[2] for own in found) / number),
        mean=sum(own[1] for own in found) / number,
        p95=float(known[at]),
        at=(float(xyz[worst, 0]), float(xyz[worst, 1])),
        area=(extent.east[1] - extent.east[0]) * (extent.north[1] - extent.north[0]),
        share=number / max(wanted, 1),
        unit=points.frame.vertical,
        plan_unit=points.frame.horizontal,
    )


def _bounds(surface: Dataset) -> tuple[float, float, float, float]:
    extent = surface.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{surface.name} is empty")
    return extent.east[0], extent.north[0], extent.east[1], extent.north[1]


def _overlap(first: Dataset, second: Dataset) -> float:
    # The lattice covers the common rectangle; what of the first lies outside it is lost too.
    a, b = _bounds(first), _bounds(second)
    whole = (a[2] - a[0]) * (a[3] - a[1])
    common = max(min(a[2], b[2]) - max(a[0], b[0]), 0.0) * max(min(a[3], b[3]) - max(a[1], b[1]), 0.0)
    return min(common / whole, 1.0) if whole > 0 else 1.0


def _common_lattice(
    first: Dataset, second: Dataset
) -> tuple[tuple[float, float], tuple[float, float], tuple[int, int]]:
    a, b = _bounds(first), _bounds(second)
    west, south, east, north = max(a[0], b[0]), max(a[1], b[1]), min(a[2], b[2]), min(a[3], b[3])
    if east <= west or north <= south:
        raise DataError(
            f"{first.name} (E {a[0]:.2f} … {a[2]:.2f}, N {a[1]:.2f} … {a[3]:.2f}) and {second.name} "
            f"(E {b[0]:.2f} … {b[2]:.2f}, N {b[1]:.2f} … {b[3]:.2f}) have no ground in common"
        )
    size = math.sqrt((east - west) * (north - south) / LATTICE)
    columns, rows = max(int((east - west) / size), 1), max(int((north - south) / size), 1)
    columns, rows = min(columns, LATTICE), min(rows, LATTICE)
    return (west, north), ((east - west) / columns, (north - south) / rows), (rows, columns)


def _at_vertices(first: Tin | Grid, second: Tin | Grid) -> tuple[Floats, Floats]:
    places, gaps = [], []
    for own, other, sign in ((first, second, 1.0), (second, first, -1.0)):
        xyz = own.coordinates()
        gap = sign * (heights(other, xyz[:, :2]) - xyz[:, 2])
        good = np.isfinite(gap)
        places.append(xyz[good, :2])
        gaps.append(gap[good])
    return np.concatenate(places), np.concatenate(gaps)


def _largest_at(own: Tin | Grid, other: Tin | Grid) -> tuple[float, tuple[float, float]]:
    """Return how far another surface lies from one at most, at its vertices or the centres of its cells, and where."""
    if isinstance(own, Grid) and isinstance(other, Tin):
        # A lattice of triangles is drawn far sooner than places are looked up one by one.
        made = lattice(other, (own.west, own.north), (own.dx, own.dy), own.heights.shape)
        far, row, column = largest_gap(made, own.heights)
        if row < 0:
            return -1.0, (math.nan, math.nan)
        return float(far), (own.west + (column + 0.5) * own.dx, own.north - (row + 0.5) * own.dy)
    xyz = own.coordinates()
    gap = heights(other, np.ascontiguousarray(xyz[:, :2])) - xyz[:, 2]
    good = np.isfinite(gap)
    return _worst(gap[good], xyz[good, :2]) if good.any() else (-1.0, (math.nan, math.nan))


def _worst(values: Floats, places: Floats) -> tuple[float, tuple[float, float]]:
    k = int(np.abs(values).argmax())
    return abs(float(values[k])), (float(places[k, 0]), float(places[k, 1]))
