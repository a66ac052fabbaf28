"""Surfaces with fewer triangles: a grid or TIN within a vertical tolerance, or with as many triangles as one likes.

What is kept in plan: rims, voids, areas without heights, and breaklines. Vertices are those of the source, bit for
bit; where an edge of the source would lie too far away between them, it becomes an edge.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin, edges
from vastgrid.kernels.cells.raster import gap_sizes, raster_heights
from vastgrid.kernels.lines.chains import boxes_of, lattice_rim, marked_tiles, on_tiles, straightened
from vastgrid.kernels.triangles import greedy
from vastgrid.kernels.triangles.locate import buckets, edge_gaps, heights_at
from vastgrid.kernels.triangles.topology import compact, corners, edge_flags, plan_areas, regions, spatial_order
from vastgrid.kernels.triangles.triangulate import triangulate
from vastgrid.measures.heights import bucket_index

# More triangles than any surface has.
ANY = 2**40
# A vertex this close to a straight way, as a share of the extent, lies on it.
STRAIGHT = 1e-11
# The bit of an edge that stays because the source has it, beside 1 for rims and breaklines.
HELD = 2
# Tiles across a surface by which is noted where it changed.
TILES = 512
# A surface whose rims turn out to need more of their vertices is begun again, with vertices left out of straight ways that lie
# beside them by ever less of the tolerance.
AGAIN = (0.5, 0.25, 0.0)
# Rounds in which edges of the source that lie too far away are mended.
ROUNDS = 40


@dataclass(frozen=True, slots=True)
class Wanted:
    """When to stop: the vertical tolerance, in the unit of heights, or the most triangles."""

    tolerance: float | None = None
    triangles: int | None = None

    @property
    def least_error(self) -> float:
        """Error below which nothing is put in."""
        return self.tolerance if self.tolerance is not None else 0.0

    def more(self, state: greedy.Greedy) -> int:
        """Return how many triangles there may be in all, so that those that are ground stay within the budget."""
        if self.triangles is None:
            return ANY
        # A vertex inside makes two more.
        room = self.triangles - state.ground
        return int(state.size[1]) + max(room - 1, 0)


@dataclass(frozen=True, slots=True)
class Reached:
    """What a simplification really reached, measured in float64 against the whole source.

    Attributes
    ----------
    largest : float
        At every vertex of the source, or cell, and for TINs wherever edges cross.
    rmse, mean, p95 : float
        Over the vertices or cells.
    at : (float, float)
        Where the largest is.
    """

    largest: float
    rmse: float
    mean: float
    p95: float
    at: tuple[float, float]


def within_grid(
    grid: Grid, wanted: Wanted, progress: Progress, stay: NDArray[np.int64] | None = None
) -> tuple[Tin, Reached]:
    """Return a TIN of a grid: at every cell with a height within the tolerance, and where there is none no ground.

    Parameters
    ----------
    stay : (k,) int64 or None
        Numbers of cells on its rims, row by row, that become vertices in any case.

    Raises
    ------
    DataError
        If no three neighbouring cells have heights.
    """
    pairs = lattice_rim(grid.heights)
    if len(pairs) == 0:
        raise DataError(f"{grid.name} has no three neighbouring cells with heights")
    state = _grid_start(grid, pairs, progress, stay)
    enough = wanted.least_error
    state.look_at_cells(grid.heights, enough)
    _filled(state, wanted, lambda most: state.put_cells(grid.heights, enough, most), progress.part(0.05, 0.85))
    number = int(state.size[0])
    cells = state.source[:number]
    vertices = np.column_stack(
        (grid.eastings()[cells % grid.columns], grid.northings()[cells // grid.columns], grid.heights.ravel()[cells])
    )
    tin = _tin(grid.name, grid.frame, vertices, state, np.zeros((0, 2), np.int64))
    progress.report(0.9, "measuring what was reached")
    corner = (grid.west, grid.north)
    made = raster_heights(tin.vertices, tin.triangles, corner, (grid.dx, grid.dy), (grid.rows, grid.columns))
    return tin, _reached(made, grid)


def _grid_start(
    grid: Grid, pairs: NDArray[np.int64], progress: Progress, stay: NDArray[np.int64] | None
) -> greedy.Greedy:
    """Return the triangulation of a grid's rims alone, in lattice coordinates."""
    rim, number = np.unique(pairs, return_inverse=True)
    row, column = np.divmod(rim, grid.columns)
    places = np.column_stack((column, -row)).astype(np.float64)
    held = None if stay is None else np.flatnonzero(np.isin(rim, stay))
    chain = straightened(places, number.reshape(-1, 2).astype(np.int64), 1e-9, stay=held)
    ends, number = np.unique(chain, return_inverse=True)
    xy, used = places[ends], rim[ends]
    made = triangulate(xy, number.reshape(-1, 2), progress.part(0.0, 0.05))
    middle = xy[made.triangles].mean(axis=1)
    shown = _lattice_covers(grid.heights, middle[:, 0], -middle[:, 1])
    shown = _by_region(xy, made.triangles, made.neighbours, made.constrained, shown)
    heights = grid.heights.ravel()[used]
    return greedy.started(xy, heights, made.triangles, made.neighbours, made.constrained, shown, used)


def _lattice_covers(heights: Floats, x: Floats, y: Floats) -> Flags:
    """Return whether places, as fractional columns and rows, lie on the ground between cell centres."""
    rows, columns = heights.shape
    c = np.clip(np.floor(x).astype(np.int64), 0, max(columns - 2, 0))
    r = np.clip(np.floor(y).astype(np.int64), 0, max(rows - 2, 0))
    u, v = x - c, y - r
    known = ~np.isnan(heights)
    nw, ne, sw, se = known[r, c], known[r, c + 1], known[r + 1, c], known[r + 1, c + 1]
    three = nw.astype(int) + ne + sw + se == 3
    inside = np.where(~nw, u + v > 1.0, np.where(~se, u + v < 1.0, np.where(~ne, v > u, v < u)))
    return np.asarray((nw & ne & sw & se) | (three & inside))


def _by_region(
    xy: Floats, triangles: NDArray[np.int32], neighbours: NDArray[np.int32], walls: Flags, shown: Flags
) -> Flags:
    """Return what each region between walls is by its largest triangle, for all of its triangles."""
    region = regions(neighbours, walls)
    area = plan_areas(xy, triangles)
    order = np.lexsort((-area, region))
    first = np.append(True, np.diff(region[order]) != 0)
    largest = np.zeros(int(region.max()) + 1 if len(region) else 0, np.int64)
    largest[region[order[first]]] = order[first]
    return np.asarray(shown[largest][region])


def _filled(state: greedy.Greedy, wanted: Wanted, more: Callable[[int], int], progress: Progress) -> None:
    """Put vertices in until what is wanted is reached."""
    began = max(float(state.key[state.heap[0]]) if state.heaped[0] else 0.0, 1e-12)
    while True:
        most = wanted.more(state)
        what = more(most)
        if what == greedy.ROOM:
            state.grow()
        elif what == greedy.DONE and (wanted.more(state) <= int(state.size[1]) or not _left(state, wanted)):
            return
        left = float(state.key[state.heap[0]]) if state.heaped[0] else 0.0
        # Errors fall by orders of magnitude: what is done is told on that scale.
        goal = np.log(max(wanted.least_error, 1e-4 * began) / began)
        share = np.log(max(left, 1e-12) / began) / goal if goal < 0.0 else 1.0
        progress.report(min(max(float(share), 0.0), 1.0), "putting in what lies farthest away")


def _left(state: greedy.Greedy, wanted: Wanted) -> bool:
    return bool(state.heaped[0]) and float(state.key[state.heap[0]]) > wanted.least_error


def _tin(name: str, frame: object, vertices: Floats, state: greedy.Greedy, breaks: NDArray[np.int64]) -> Tin:
    """Return the ground of a triangulation as a TIN, with the bits of its edges that are breaklines."""
    count = int(state.size[1])
    keep = state.part[:count] == greedy.SHOWN
    flags = np.zeros((count, 3), np.bool_)
    if len(breaks):
        flags = edge_flags(state.tri[:count], breaks, len(vertices))
    triangles, across, flags, used = compact(state.tri[:count], state.nbr[:count], flags, keep, len(vertices))
    return Tin(
        name=name,
        frame=frame,  # type: ignore[arg-type]
        vertices=vertices[used],
        triangles=triangles,
        neighbours=across,
        constrained=flags,
    )


def _reached(made: Floats, grid: Grid) -> Reached:
    size, total, squares, worst = gap_sizes(made.ravel(), grid.heights.ravel())
    if len(size) == 0:
        return Reached(0.0, 0.0, 0.0, 0.0, (grid.west, grid.north))
    row, column = divmod(int(worst), grid.columns)
    at = (float(grid.eastings()[column]), float(grid.northings()[row]))
    largest = float(abs(made[row, column] - grid.heights[row, column]))
    count = len(size)
    return Reached(
        largest,
        float(np.sqrt(squares / count)),
        float(total / count),
        float(np.quantile(size, 0.95, overwrite_input=True)),
        at,
    )


def _spread(gap: Floats) -> tuple[float, float, float]:
    """Return the root mean square, the mean and the 95th percentile of differences."""
    if len(gap) == 0:
        return 0.0, 0.0, 0.0
    return float(np.sqrt(np.mean(gap**2))), float(gap.mean()), float(np.quantile(np.abs(gap), 0.95))


# ------------------------------------------------------------------------------------------------------- TINs


def within_tin(tin: Tin, wanted: Wanted, progress: Progress) -> tuple[Tin, Reached]:
    """Return a TIN with fewer triangles: everywhere within the tolerance, rims, voids and breaklines in place.

    Raises
    ------
    DataError
        If the surface overlaps itself.
    """
    if len(tin.triangles) == 0:
        raise DataError(f"{tin.name} has no triangles")
    assert tin.constrained is not None
    origin = np.floor(corners(tin.vertices[:, :2])[0])
    places = np.ascontiguousarray(tin.vertices[:, :2] - origin)
    near = float(np.ptp(places, axis=0).max()) * STRAIGHT
    rims = _pairs(tin, tin.edges_across < 0)
    breaks = _pairs(tin, tin.constrained & (tin.edges_across >= 0))
    # A vertex on a straight rim cannot be put in later, so one that is needed stays from the beginning.
    stay = np.zeros(0, np.int64)
    for turn, share in enumerate(AGAIN):
        drop = share * wanted.least_error if wanted.tolerance is not None else np.inf
        part = progress.part(turn / len(AGAIN), (turn + 1) / len(AGAIN))
        made, reached, needed = _within(tin, wanted, places, (near, drop), rims, breaks, stay, part)
        more = np.setdiff1d(needed, stay)
        if len(more) == 0:
            break
        stay = np.concatenate((stay, more))
    return made, reached


def _within(
    tin: Tin,
    wanted: Wanted,
    places: Floats,
    straight: tuple[float, float],
    rims: NDArray[np.int64],
    breaks: NDArray[np.int64],
    stay: NDArray[np.int64],
    progress: Progress,
) -> tuple[Tin, Reached, NDArray[np.int64]]:
    """Return a TIN with fewer triangles, and the vertices that it would have to have to keep within the tolerance.

    Parameters
    ----------
    stay : (k,) int64
        Vertices that stay: on a straight way of a rim or a breakline, or a rounding beside it.
    """
    near, _ = straight
    origin = np.floor(corners(tin.vertices[:, :2])[0])
    state = _tin_start(tin, places, straight, rims, breaks, stay, progress)
    cloud = greedy.Cloud(places, np.ascontiguousarray(tin.vertices[:, 2]), 10.0 * near)
    used = np.zeros(len(places), np.bool_)
    used[tin.triangles.ravel()] = True
    waiting = used.copy()
    waiting[state.source[: int(state.size[0])]] = False
    order = spatial_order(places)
    enough = wanted.least_error
    state.look_at_points(cloud, order[waiting[order]], enough)
    _filled(state, wanted, lambda most: state.put_points(cloud, enough, most), progress.part(0.1, 0.6))
    between = _Between(edges(tin), np.column_stack((places, cloud.heights)))
    for turn in range(ROUNDS):
        progress.report(0.6 + 0.3 * turn / ROUNDS, "looking between the vertices")
        between.look(state)
        far = between.gap > enough if wanted.tolerance is not None else np.zeros(0, np.bool_)
        if not far.any():
            break
        before = state.tri.copy()
        if _mended(state, cloud, between.edges[far], between.place[far], enough):
            state.look_again(cloud, _changed(before, state), enough)
        _filled(state, wanted, lambda most: state.put_points(cloud, enough, most), progress.part(0.6, 0.6))
        between.touched(state, _changed(before, state))
    vertices = tin.vertices[state.source[: int(state.size[0])]]
    made = _tin(tin.name, tin.frame, vertices, state, _kept(state, breaks))
    gaps = heights_at(tin.vertices[used, :2], made.vertices, made.triangles, buckets(made.vertices, made.triangles))
    gaps = gaps - tin.vertices[used, 2]
    needed = np.zeros(0, np.int64)
    if wanted.tolerance is not None:
        bad = between.edges[between.gap > enough].astype(np.int64).ravel()
        needed = np.union1d(np.flatnonzero(used)[np.abs(np.nan_to_num(gaps)) > enough], bad)
        needed = np.setdiff1d(needed, state.source[: int(state.size[0])])
    return made, _reached_tin(gaps, tin.vertices[used], between.gap, between.place, origin), needed


def _pairs(tin: Tin, chosen: Flags) -> NDArray[np.int64]:
    following = np.roll(tin.triangles, -1, axis=1)
    pairs = np.sort(np.column_stack((tin.triangles[chosen], following[chosen])).astype(np.int64), axis=1)
    return np.unique(pairs, axis=0) if len(pairs) else pairs


def _tin_start(
    tin: Tin,
    places: Floats,
    straight: tuple[float, float],
    rims: NDArray[np.int64],
    breaks: NDArray[np.int64],
    stay: NDArray[np.int64],
    progress: Progress,
) -> greedy.Greedy:
    """Return the triangulation of rims and breaklines alone, without vertices that a straight way passes in plan and height."""
    near, far = straight
    chain = straightened(places, np.concatenate((rims, breaks)), near, tin.vertices[:, 2], far, stay)
    used = np.union1d(chain.ravel(), stay)
    number = np.searchsorted(used, chain)
    made = triangulate(places[used], number, progress.part(0.0, 0.1))
    if len(made.xy) > len(used):
        raise DataError(f"edges of {tin.name} cross each other in plan: it overlaps itself and cannot be simplified")
    xy = places[used]
    middle = xy[made.triangles].mean(axis=1)
    origin = np.floor(corners(tin.vertices[:, :2])[0])
    known = heights_at(middle + origin, tin.vertices, tin.triangles, bucket_index(tin))
    shown = _by_region(xy, made.triangles, made.neighbours, made.constrained, np.isfinite(known))
    area = plan_areas(xy, made.triangles)
    # Between a straight way and vertices a rounding beside it there is no ground.
    region = regions(made.neighbours, made.constrained)
    total = np.bincount(region, weights=area)
    shown &= total[region] > near * float(np.ptp(places, axis=0).max())
    return greedy.started(xy, tin.vertices[used, 2], made.triangles, made.neighbours, made.constrained, shown, used)


def _changed(before: NDArray[np.int32], state: greedy.Greedy) -> NDArray[np.int32]:
    """Return the triangles that are not what they were, and the new ones."""
    count = int(state.size[1])
    known = min(len(before), count)
    same = (before[:known] == state.tri[:known]).all(axis=1)
    return np.concatenate((np.flatnonzero(~same), np.arange(known, count))).astype(np.int32)


class _Between:
    """How far edges of the source lie from the made surface where they cross its edges; looked at anew where it changed.

    Attributes
    ----------
    edges : (e, 2) int32
        Edges of the source.
    gap, place : (e,), (e, 3) float64
        The largest distance along each, and where.
    """

    def __init__(self, edges_: NDArray[np.int32], ground: Floats) -> None:
        self.edges, self._ground = edges_, ground
        self.gap, self.place = np.zeros(len(edges_)), np.zeros((len(edges_), 3))
        self._low, self._high = boxes_of(ground, edges_, len(edges_))
        self._which: NDArray[np.int64] | None = None
        self._near: NDArray[np.int64] | None = None
        self._west = ground[:, :2].min(axis=0)
        self._size = max(float(np.ptp(ground[:, :2], axis=0).max()) / TILES, 1e-12)

    def look(self, state: greedy.Greedy) -> None:
        """Measure the edges that may have got nearer or farther."""
        vertices = np.column_stack((state.xy, state.z))[: int(state.size[0])]
        triangles = state.shown()
        own = self.edges
        if self._which is not None and self._near is not None:
            kept = self._near[state.part[self._near] == greedy.SHOWN]
            triangles, own = state.tri[kept], self.edges[self._which]
        gap, place = edge_gaps(own, self._ground, vertices, triangles, buckets(vertices, triangles))
        if self._which is None:
            self.gap, self.place = gap, place
        else:
            self.gap[self._which], self.place[self._which] = gap, place

    def touched(self, state: greedy.Greedy, changed: NDArray[np.int32]) -> None:
        """Note which triangles have changed: edges near them are looked at again."""
        where = (float(self._west[0]), float(self._west[1]), self._size, TILES)
        low, high = boxes_of(state.xy, state.tri, int(state.size[1]))
        sums = marked_tiles(low, high, changed, *where)
        self._which = np.flatnonzero(on_tiles(self._low, self._high, sums, *where))
        # Edges reach out of where something changed, to triangles beside it.
        sums = marked_tiles(self._low, self._high, self._which, *where)
        self._near = np.flatnonzero(on_tiles(low, high, sums, *where))


def _mended(state: greedy.Greedy, cloud: greedy.Cloud, far: NDArray[np.int32], place: Floats, enough: float) -> bool:
    """Bring the made surface nearer to edges of the source; return whether edges were made.

    The end nearer to where an edge is too far away becomes a vertex; where both are vertices already, it becomes an edge.
    """
    count = int(state.size[0])
    vertex = np.full(len(cloud.heights), -1, np.int64)
    vertex[state.source[:count]] = np.arange(count)
    there = vertex[far] >= 0
    away = np.hypot(cloud.places[far, 0] - place[:, None, 0], cloud.places[far, 1] - place[:, None, 1])
    away[there] = np.inf
    new = np.unique(far[np.arange(len(far)), away.argmin(axis=1)][~there.all(axis=1)]).astype(np.int64)
    state.put_these(cloud, new, enough)
    both = vertex[far[there.all(axis=1)]]
    if len(both):
        state.keep_edges(both, HELD)
    return bool(len(both))


def _kept(state: greedy.Greedy, breaks: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the edges of the made surface that lie on breaklines: those that stayed because a breakline did."""
    count = int(state.size[1])
    tri, flag, nbr, part = state.tri[:count], state.flag[:count], state.nbr[:count], state.part[:count]
    if len(breaks) == 0:
        return np.zeros((0, 2), np.int64)
    inner = (flag & 1 != 0) & (nbr >= 0)
    inner &= (part[:, None] == greedy.SHOWN) & (part[np.maximum(nbr, 0)] == greedy.SHOWN)
    following = np.roll(tri, -1, axis=1)
    return np.column_stack((tri[inner], following[inner])).astype(np.int64)


def _reached_tin(gaps: Floats, vertices: Floats, between: Floats, place: Floats, origin: Floats) -> Reached:
    known = np.isfinite(gaps)
    size = np.where(known, np.abs(gaps), 0.0)
    worst = int(size.argmax()) if len(size) else 0
    largest, at = float(size[worst]), (float(vertices[worst, 0]), float(vertices[worst, 1]))
    if len(between) and float(between.max()) > largest:
        k = int(between.argmax())
        largest, at = float(between[k]), (float(place[k, 0] + origin[0]), float(place[k, 1] + origin[1]))
    return Reached(largest, *_spread(gaps[known]), at)
