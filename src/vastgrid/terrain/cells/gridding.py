"""Heights on cells: in the triangles, between natural neighbours, by distance, from the points in each cell."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.disk_arrays import pieces, release
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import HEIGHT, Dataset, Flags, Floats
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.kernels.cells.cellstats import (
    COUNT,
    HIGHEST,
    LOWEST,
    MEAN,
    MEDIAN,
    gather,
    joined,
    medians,
    put_by_cell,
    weighted,
)
from vastgrid.kernels.triangles.natural import natural_heights
from vastgrid.kernels.triangles.topology import group_places, inside_polygon, spatial_order
from vastgrid.kernels.triangles.triangulate import triangulate
from vastgrid.measures.heights import lattice

# So many known heights give one by distance.
NEAREST = 12
PIECE = 200_000
GATHERED = 2_000_000
NO_EDGES = np.zeros((0, 2), np.int64)


class Method(Enum):
    """How a cell gets its height."""

    LINEAR = "linear"
    NATURAL = "natural"
    IDW = "idw"
    LOWEST = "lowest"
    HIGHEST = "highest"
    MEAN = "mean"
    MEDIAN = "median"
    COUNT = "count"


# As a sentence says it.
SAID_METHODS = (
    ("linear", "linear between neighbouring heights"),
    ("natural", "by natural neighbours"),
    ("idw", "by the distance of the nearest"),
    ("lowest", "the lowest in each cell"),
    ("highest", "the highest in each cell"),
    ("mean", "the mean of each cell"),
    ("median", "the median of each cell"),
    ("count", "how many lie in each cell"),
)
# What is taken straight from the points in each cell.
OF_CELL = {
    Method.LOWEST: LOWEST,
    Method.HIGHEST: HIGHEST,
    Method.MEAN: MEAN,
    Method.MEDIAN: MEDIAN,
    Method.COUNT: COUNT,
}


@dataclass(frozen=True, slots=True)
class Cells:
    """A lattice of cells, or some rows and columns of one.

    Attributes
    ----------
    west, north : float
        Outer corner of the lattice's north-western cell.
    dx, dy : float
        Size of a cell.
    rows, columns : int
        How many.
    top, left : int
        Row and column of the lattice that come first.
    most_rows, most_columns : int
        How many the whole lattice has; 0 where these are all of it.
    """

    west: float
    north: float
    dx: float
    dy: float
    rows: int
    columns: int
    top: int = 0
    left: int = 0
    most_rows: int = 0
    most_columns: int = 0

    @property
    def most(self) -> tuple[int, int]:
        """Rows and columns of the whole lattice."""
        return self.most_rows or self.top + self.rows, self.most_columns or self.left + self.columns

    @property
    def lattice(self) -> tuple[float, float, float, float, int, int, int, int]:
        """The whole lattice and the part that these are of it, as kernels take it."""
        return self.west, self.north, self.dx, self.dy, self.top, self.left, *self.most

    @property
    def corner(self) -> tuple[float, float]:
        """Outer corner of the first cell."""
        return self.west + self.left * self.dx, self.north - self.top * self.dy

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        return self.rows, self.columns

    def centres(self) -> tuple[Floats, Floats]:
        """Return the eastings, west to east, and northings, north to south, of the cells' centres."""
        east = np.asarray(self.west + (self.left + np.arange(self.columns) + 0.5) * self.dx, np.float64)
        return east, np.asarray(self.north - (self.top + np.arange(self.rows) + 0.5) * self.dy, np.float64)

    def inside(self, ring: Floats) -> Flags:
        """Return which cells have their centre in an area, (rows, columns) bool."""
        east, north = self.centres()
        flat = inside_polygon(np.tile(east, self.rows), np.repeat(north, self.columns), ring)
        return np.asarray(flat, np.bool_).reshape(self.shape)


def heights_on(source: Dataset, cells: Cells, method: Method, keep: Flags | None, progress: Progress) -> Floats:
    """Return the heights of data at the cells of a lattice, (rows, columns) float64, NaN where there are none.

    Parameters
    ----------
    source : Dataset
        Surface or points; a surface's own points are its vertices, or the centres of its cells.
    keep : (n,) bool or None
        Which points count.

    Raises
    ------
    DataError
        If the points span no ground.
    """
    if method in OF_CELL:
        return heights_of_cells(source.coordinates(), keep, cells, method, progress)[0]
    if method is Method.LINEAR and isinstance(source, Tin | Grid):
        return lattice(source, cells.corner, (cells.dx, cells.dy), cells.shape)
    xyz = _places(source.coordinates(), keep)
    if method is Method.IDW:
        return _by_distance(source, xyz, cells, progress)
    tin = _triangles(xyz, progress.part(0.0, 0.6))
    corner, size = cells.corner, (cells.dx, cells.dy)
    if method is Method.LINEAR:
        return lattice(tin, corner, size, cells.shape)
    found = natural_heights(tin.vertices, tin.triangles, tin.edges_across, corner, size, cells.shape)
    return _within(source, found, cells)


def grid_of(
    name: str,
    frame: Frame,
    cells: Cells,
    heights: Floats,
    method: Method | None = None,
    *,
    point_registered: bool = False,
) -> Grid:
    """Return heights on a lattice of cells as a grid; by `Method.COUNT` they are numbers of points."""
    counted = method is Method.COUNT
    return Grid(
        name=name,
        frame=frame,
        heights=heights,
        west=cells.corner[0],
        north=cells.corner[1],
        dx=cells.dx,
        dy=cells.dy,
        point_registered=point_registered,
        quantity="count" if counted else HEIGHT,
        measure="points" if counted else "",
    )


def _within(source: Dataset, found: Floats, cells: Cells) -> Floats:
    """Return heights where a surface lies; points end at the hull of their places anyway."""
    if not isinstance(source, Tin | Grid):
        return found
    found[np.isnan(lattice(source, cells.corner, (cells.dx, cells.dy), cells.shape))] = np.nan
    return found


def _places(xyz: Floats, keep: Flags | None) -> Floats:
    """Return points with a height, of several at one place the first."""
    good = np.isfinite(xyz).all(axis=1)
    xyz = xyz[good & keep] if keep is not None else xyz[good]
    if len(xyz) == 0:
        raise DataError("there is no point with a height to make cells from")
    low = xyz[:, :2].min(axis=0)
    local = xyz[:, :2] - low
    near = max(float(local.max()) * 1e-12, 1e-9)
    _, first = group_places(local[:, 0].copy(), local[:, 1].copy(), near)
    own = xyz[first]
    return np.asarray(own[spatial_order(np.ascontiguousarray(own[:, :2]))], np.float64)


def _triangles(xyz: Floats, progress: Progress) -> Tin:
    made = triangulate(np.ascontiguousarray(xyz[:, :2]), NO_EDGES, progress)
    return Tin(vertices=xyz, triangles=made.triangles, neighbours=made.neighbours)


def heights_of_cells(
    xyz: Floats, keep: Flags | None, cells: Cells, method: Method, progress: Progress
) -> tuple[Floats, int]:
    """Return what the points in each cell have in common, and how many points lie in cells.

    A point on an edge between two cells belongs to the eastern and the southern one, on an outermost edge to the outermost.
    """
    what = OF_CELL[method]
    every = np.zeros(0, np.bool_)
    first = COUNT if what == MEDIAN else what

    def half(start: int, stop: int) -> tuple[NDArray[np.int64], Floats]:
        number, value = np.zeros(cells.shape, np.int64), np.full(cells.shape, np.nan)
        for begin in range(start, stop, GATHERED):
            part = slice(begin, min(begin + GATHERED, stop))
            own = every if keep is None else keep[part]
            gather(xyz[part], own, *cells.lattice, number, value, first)
            release(xyz)
        return number, value

    # Two threads fill cells of their own, where these are not many more than the points.
    parts = 2 if len(xyz) > GATHERED and cells.rows * cells.columns <= len(xyz) else 1
    edges = np.linspace(0, len(xyz), parts + 1).astype(int).tolist()
    with ThreadPoolExecutor(parts) as pool:
        halves = list(pool.map(half, edges[:-1], edges[1:]))
    progress.report(0.5, "putting points into cells")
    number, value = halves[0]
    for more, other in halves[1:]:
        joined(number, value, more, other, first)
    used = int(number.sum())
    if what == COUNT:
        return number.astype(np.float64), used
    if what == MEDIAN:
        starts = np.concatenate(([0], np.cumsum(number.ravel())))
        heights = np.zeros(int(starts[-1]))
        slot = starts[:-1].copy()
        at = 0
        for piece in pieces(xyz):
            own = every if keep is None else keep[at : at + len(piece)]
            put_by_cell(piece, own, *cells.lattice, cells.columns, slot, heights)
            at += len(piece)
            progress.report(0.5 + 0.4 * at / max(len(xyz), 1), "putting points into cells")
        medians(heights, starts, value.reshape(-1))
    return value, used


def _by_distance(source: Dataset, xyz: Floats, cells: Cells, progress: Progress) -> Floats:
    from scipy.spatial import ConvexHull, cKDTree

    if len(xyz) < 3:
        raise DataError("the points span no ground: there are fewer than three")
    origin = xyz[0, :2].copy()
    local = xyz[:, :2] - origin
    tree = cKDTree(local)
    east, north = cells.centres()
    out = np.full(cells.rows * cells.columns, np.nan)
    if isinstance(source, Tin | Grid):
        there = np.isfinite(lattice(source, cells.corner, (cells.dx, cells.dy), cells.shape))
    else:
        hull = xyz[ConvexHull(local).vertices, :2]
        there = cells.inside(np.concatenate((hull, hull[:1])))
    wanted = np.flatnonzero(there)
    for start in range(0, len(wanted), PIECE):
        own = wanted[start : start + PIECE]
        row, column = np.divmod(own, cells.columns)
        at = np.column_stack((east[column], north[row])) - origin
        far, near = tree.query(at, k=min(NEAREST, len(xyz)), workers=-1)
        out[own] = weighted(xyz[:, 2].copy(), near.astype(np.int64), far)
        progress.report(min((start + PIECE) / len(wanted), 1.0), "weighing by distance")
    return out.reshape(cells.shape)


def filled(heights: Floats, cells: Cells, reach: float) -> tuple[Floats, int]:
    """Return heights with empty cells filled that lie no farther than a length from one with a height, and how many.

    They are weighted by the inverse square of the distance from the nearest rim cells.
    """
    from scipy.ndimage import binary_dilation, distance_transform_edt
    from scipy.spatial import cKDTree

    known = np.isfinite(heights)
    if known.all() or not known.any():
        return heights, 0
    far = distance_transform_edt(~known, sampling=(cells.dy, cells.dx))
    wanted = ~known & (far <= reach * (1.0 + 1e-9))
    if not wanted.any():
        return heights, 0
    rim = np.argwhere(known & binary_dilation(~known, np.ones((3, 3), np.bool_)))
    size = np.array([cells.dy, cells.dx])
    places = np.argwhere(wanted)
    far, near = cKDTree(rim * size).query(places * size, k=min(NEAREST, len(rim)), workers=-1)
    if len(rim) == 1:
        far, near = far[:, None], near[:, None]
    out = heights.copy()
    out[wanted] = weighted(heights[tuple(rim.T)], near.astype(np.int64), far)
    return out, len(places)
