"""Where data ends: the rim of triangles, the outer edges of cells, the hull of points; exact, with its holes."""

from __future__ import annotations

from functools import singledispatch

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import ring_areas, take_lines
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.kernels.lines.loops import loops
from vastgrid.kernels.triangles.topology import neighbours_of
from vastgrid.kernels.triangles.triangulate import triangulate


@singledispatch
def outline_of(data: Dataset, length: float | None) -> Areas:
    """Return what data covers in plan as one area of as many parts as there are.

    Parameters
    ----------
    length : float or None
        Of points: edges between neighbours (Delaunay) that are longer lead across open ground, so that the outline turns in
        there, or a hole is left; None for the convex hull.

    Raises
    ------
    DataError
        If it covers nothing.
    """
    raise DataError(f"{data.name} ({data.title}) has no outline")


@outline_of.register
def _of_tin(tin: Tin, length: float | None) -> Areas:
    return _of_triangles(tin.name, tin.frame, tin.vertices, tin.triangles, tin.edges_across)


@outline_of.register
def _of_points(points: PointSet, length: float | None) -> Areas:
    xyz = points.xyz
    if length is None:
        hull = shapely.convex_hull(shapely.multipoints(xyz[:, :2]))
        if hull.geom_type != "Polygon":
            raise DataError(f"the points of {points.name} lie on one line and enclose nothing")
        return _with_heights(points, np.asarray(shapely.get_coordinates(hull.exterior)[::-1], np.float64))
    made = triangulate(_different(xyz[:, :2]), np.zeros((0, 2), np.int32), Silent())
    corner = made.xy[made.triangles]
    side = np.roll(corner, -1, axis=1) - corner
    kept = made.triangles[(np.hypot(side[..., 0], side[..., 1]) <= length).all(axis=1)]
    if len(kept) == 0:
        raise DataError(f"no three points of {points.name} lie as near to each other as {length:g}")
    vertices = np.column_stack((made.xy, _heights_at(xyz, made.xy)))
    return _of_triangles(points.name, points.frame, vertices, kept, neighbours_of(kept))


def _different(xy: Floats) -> Floats:
    return np.asarray(np.unique(xy, axis=0), np.float64)


def _heights_at(xyz: Floats, xy: Floats) -> Floats:
    """Return the height of the point at each place; of several the first."""
    key = xyz[:, 0] + 1j * xyz[:, 1]
    known, at = np.unique(key, return_index=True)
    wanted = xy[:, 0] + 1j * xy[:, 1]
    found = np.minimum(np.searchsorted(known, wanted), len(known) - 1)
    return np.where(known[found] == wanted, xyz[at[found], 2], np.nan)


def _with_heights(points: PointSet, ring: Floats) -> Areas:
    vertices = np.column_stack((ring, _heights_at(points.xyz, ring)))
    return rings_as_area(points.name, points.frame, vertices, np.array([0, len(ring)], np.int64))


def _of_triangles(
    name: str, frame: Frame, vertices: Floats, triangles: NDArray[np.int32], across: NDArray[np.int32]
) -> Areas:
    free = across < 0
    start, end = triangles[free].astype(np.int64), np.roll(triangles, -1, axis=1)[free].astype(np.int64)
    if len(start) == 0:
        raise DataError(f"{name} has no triangles, and so no outline")
    order, offsets = loops(start, end, np.ascontiguousarray(vertices[:, :2]))
    return rings_as_area(name, frame, vertices[order], offsets)


@outline_of.register
def _of_cells(grid: Grid, length: float | None) -> Areas:
    known = np.pad(np.isfinite(grid.heights), 1)
    if not known.any():
        raise DataError(f"no cell of {grid.name} has a value, so there is no outline")
    inner = known[1:-1, 1:-1]
    wide = grid.columns + 1

    def edges(out: Flags, a: tuple[int, int], b: tuple[int, int]) -> NDArray[np.int64]:
        row, column = np.nonzero(inner & ~out)
        return np.column_stack(((row + a[0]) * wide + column + a[1], (row + b[0]) * wide + column + b[1]))

    # Along each side with the cell on the left: the upper one westwards, the lower one eastwards, and so on.
    every = np.concatenate(
        (
            edges(known[:-2, 1:-1], (0, 1), (0, 0)),
            edges(known[2:, 1:-1], (1, 0), (1, 1)),
            edges(known[1:-1, :-2], (0, 0), (1, 0)),
            edges(known[1:-1, 2:], (1, 1), (0, 1)),
        )
    )
    corners, place = np.unique(every, return_inverse=True)
    place = place.reshape(-1, 2)
    row, column = np.divmod(corners, wide)
    xy = np.column_stack((grid.west + column * grid.dx, grid.north - row * grid.dy)).astype(np.float64)
    order, offsets = loops(place[:, 0].copy(), place[:, 1].copy(), xy)
    order, offsets = _corners_only(order, offsets, row, column)
    return rings_as_area(grid.name, grid.frame, np.column_stack((xy[order], np.full(len(order), np.nan))), offsets)


def _corners_only(
    order: NDArray[np.int64], offsets: NDArray[np.int64], row: NDArray[np.int64], column: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return rings along rows and columns of cells without what lies between two corners."""
    ring = np.repeat(np.arange(len(offsets) - 1), np.diff(offsets))
    number = np.arange(len(order))
    first, last = offsets[ring], offsets[ring + 1] - 1
    before = np.where(number == first, last - 1, number - 1)
    after = np.where(number == last, first + 1, number + 1)
    level = (row[order[before]] == row[order]) & (row[order] == row[order[after]])
    upright = (column[order[before]] == column[order]) & (column[order] == column[order[after]])
    kept = ~(level | upright)
    # A ring that began between two corners begins at its first corner now, and ends there too.
    size = np.add.reduceat(kept.astype(np.int64), offsets[:-1])
    closed = kept[offsets[:-1]]
    starts = np.concatenate(([0], np.cumsum(size + ~closed))).astype(np.int64)
    out = np.zeros(int(starts[-1]), np.int64)
    rank = np.cumsum(kept) - 1
    shift = np.concatenate(([0], np.cumsum(~closed)))[ring]
    out[(rank + shift)[kept]] = order[kept]
    out[starts[1:][~closed] - 1] = out[starts[:-1][~closed]]
    return out, starts


def rings_as_area(name: str, frame: Frame, vertices: Floats, offsets: NDArray[np.int64]) -> Areas:
    """Return simple rings as one area: those that run counter-clockwise are rims, the others holes in the rim around them.

    Raises
    ------
    DataError
        If there is no rim.
    """
    signed = ring_areas(vertices, offsets)
    rims, holes = np.flatnonzero(signed > 0.0), np.flatnonzero(signed < 0.0)
    if len(rims) == 0:
        raise DataError(f"the rim of {name} encloses nothing")
    owner = _around(vertices, offsets, rims, holes)
    # Each rim, then its holes.
    part = np.concatenate((np.arange(len(rims)), owner))
    ring = np.concatenate((rims, holes))
    order = ring[np.argsort(part, kind="stable")]
    sizes = np.bincount(part, minlength=len(rims))
    places, starts = take_lines(vertices, offsets, order)
    return Areas(
        name=name,
        frame=frame,
        vertices=places,
        offsets=starts,
        parts=np.concatenate(([0], np.cumsum(sizes))).astype(np.int64),
        members=np.array([0, len(rims)], np.int64),
        layer=np.zeros(1, np.int32),
        layers=(name,),
    )


def _around(
    vertices: Floats, offsets: NDArray[np.int64], rims: NDArray[np.int64], holes: NDArray[np.int64]
) -> NDArray[np.int64]:
    """Return which of some rims is the smallest around each hole."""
    if len(rims) == 1 or len(holes) == 0:
        return np.zeros(len(holes), np.int64)

    def polygons(which: NDArray[np.int64]) -> NDArray[np.object_]:
        return np.array([shapely.Polygon(vertices[offsets[k] : offsets[k + 1], :2]) for k in which.tolist()], object)

    outer = polygons(rims)
    inner = polygons(holes)
    hole, rim = shapely.STRtree(outer).query(shapely.point_on_surface(inner), predicate="within")
    size = shapely.area(outer)[rim]
    # An island in the hole may hold that point too.
    larger = size > shapely.area(inner)[hole]
    hole, rim, size = hole[larger], rim[larger], size[larger]
    order = np.lexsort((size, hole))
    first = np.unique(hole[order], return_index=True)[1]
    owner = np.zeros(len(holes), np.int64)
    owner[hole[order][first]] = rim[order][first]
    return owner
