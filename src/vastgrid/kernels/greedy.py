"""Greedy insertion: a coarse triangulation gets the vertex that lies farthest from it, until none lies too far.

After Garland and Heckbert, “Fast polygonal approximation of terrains and height fields”, Carnegie Mellon University
report CMU-CS-95-181 (1995), with edges that stay, areas without heights, and all errors in float64.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.planar import (
    INSIDE,
    NOWHERE,
    ON_EDGE,
    can_flip,
    edge_to,
    first_triangles,
    flip,
    keep_edge,
    locate,
    side,
    split_edge,
    split_triangle,
)  # fmt: skip
from vastgrid.kernels.predicates import in_circle

OUTSIDE, SHOWN = 0, 1
DONE, ROOM, PAUSE = 0, 1, 2
# So many vertices are put in between two looks at whether the run was cancelled.
BATCH = 20_000


@dataclass(frozen=True, slots=True)
class Cloud:
    """Points that may become vertices.

    Attributes
    ----------
    places, heights : (n, 2), (n,) float64
        Where they are.
    near : float
        A point this close to an edge that stays lies on it.
    """

    places: NDArray[np.float64]
    heights: NDArray[np.float64]
    near: float


@dataclass(slots=True)
class Greedy:
    """A triangulation while vertices are put in, with what waits to be put in.

    Attributes
    ----------
    xy, z : (v, 2), (v,) float64
        Vertices, with room at the end; `size` says how many there are.
    tri, nbr, flag, part, at, size
        See `kernels.planar`; `part` is `SHOWN` where there is ground.
    source : (v,) int64
        Where each vertex comes from: a point or cell; below 0 for those given at the beginning.
    heap, place, worst, key
        Triangles by their largest error, where each stands among them, its farthest point, and that error.
    heaped : (1,) int64
        How many triangles are in the heap.
    head, following : int32
        Points in each triangle, as lists; not used for grids.
    """

    xy: NDArray[np.float64]
    z: NDArray[np.float64]
    tri: NDArray[np.int32]
    nbr: NDArray[np.int32]
    flag: NDArray[np.uint8]
    part: NDArray[np.uint8]
    at: NDArray[np.int32]
    size: NDArray[np.int64]
    source: NDArray[np.int64]
    heap: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    place: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    worst: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    key: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    heaped: NDArray[np.int64] = field(default_factory=lambda: np.zeros(1, np.int64))
    head: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    following: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))

    def grow(self, triangles: int = 0) -> None:
        """Make room for more."""
        top = max(2 * len(self.tri), triangles, 4096)
        old = len(self.place)
        self.tri, self.nbr, self.flag = _wider(self.tri, top), _wider(self.nbr, top), _wider(self.flag, top)
        self.part, self.heap, self.key = _wider(self.part, top), _wider(self.heap, top), _wider(self.key, top)
        self.place, self.worst, self.head = _wider(self.place, top), _wider(self.worst, top), _wider(self.head, top)
        self.place[old:] = -1
        self.head[old:] = -1
        corners = max(top // 2 + 16, len(self.xy))
        self.xy, self.z = _wider(self.xy, corners), _wider(self.z, corners)
        self.at, self.source = _wider(self.at, corners), _wider(self.source, corners)

    @property
    def _mesh(self) -> tuple[NDArray[Any], ...]:
        return self.xy, self.z, self.tri, self.nbr, self.flag, self.part, self.at, self.size, self.source

    @property
    def _queue(self) -> tuple[NDArray[Any], ...]:
        return self.heap, self.place, self.worst, self.key, self.heaped

    @property
    def _lists(self) -> tuple[NDArray[Any], ...]:
        return self.head, self.following

    def look_at_cells(self, heights: NDArray[np.float64], tolerance: float) -> None:
        """Find the farthest cell of every triangle; a vertex' place is its column and, below 0, its row."""
        grid_begin(heights, *self._mesh, *self._queue, tolerance)

    def put_cells(self, heights: NDArray[np.float64], tolerance: float, most: int) -> int:
        """Put a batch of cells in, the farthest first; return `DONE`, `ROOM` or `PAUSE`."""
        return int(grid_more(heights, *self._mesh, *self._queue, tolerance, most, BATCH))

    def look_at_points(self, cloud: Cloud, order: NDArray[np.int64], tolerance: float) -> None:
        """Sort points into triangles, and find the farthest of each."""
        self.head[:] = -1
        self.place[:] = -1
        self.key[:] = 0.0
        self.heaped[0] = 0
        self.following = np.full(len(cloud.heights), -1, np.int32)
        points_begin(cloud.places, cloud.heights, order, *self._mesh, *self._queue, *self._lists, tolerance)

    def look_again(self, cloud: Cloud, changed: NDArray[np.int32], tolerance: float) -> None:
        """Sort the points of triangles that have changed anew."""
        points_again(cloud.places, cloud.heights, changed, *self._mesh, *self._queue, *self._lists, tolerance)

    def put_points(self, cloud: Cloud, tolerance: float, most: int) -> int:
        """Put a batch of points in, the farthest first; return `DONE`, `ROOM` or `PAUSE`."""
        own = (*self._mesh, *self._queue, *self._lists)
        return int(points_more(cloud.places, cloud.heights, cloud.near, *own, tolerance, most, BATCH))

    def put_these(self, cloud: Cloud, which: NDArray[np.int64], tolerance: float) -> None:
        """Put some points in, however near they lie."""
        start = 0
        while start < len(which):
            own = (*self._mesh, *self._queue, *self._lists)
            start = int(enter_all(cloud.places, cloud.heights, which, start, cloud.near, *own, tolerance))
            if start < len(which):
                self.grow()

    def keep_edges(self, pairs: NDArray[np.int64], bit: int) -> None:
        """Make edges between vertices that stay."""
        keep_all(self.xy, self.tri, self.nbr, self.flag, self.part, self.at, pairs, bit)

    def shown(self) -> NDArray[np.int32]:
        """Return the triangles that are ground, (m, 3)."""
        used = int(self.size[1])
        return np.asarray(self.tri[:used][self.part[:used] == SHOWN])

    @property
    def ground(self) -> int:
        """How many triangles are ground."""
        return int((self.part[: int(self.size[1])] == SHOWN).sum())


def _wider(values: NDArray[Any], top: int) -> NDArray[Any]:
    if len(values) >= top:
        return values
    out = np.zeros((top, *values.shape[1:]), values.dtype)
    out[: len(values)] = values
    return out


def started(
    xy: NDArray[np.float64],
    z: NDArray[np.float64],
    triangles: NDArray[np.int32],
    neighbours: NDArray[np.int32],
    flags: NDArray[np.bool_],
    shown: NDArray[np.bool_],
    source: NDArray[np.int64],
) -> Greedy:
    """Return a triangulation of a convex area that vertices can be put into."""
    made = Greedy(
        xy=xy.copy(),
        z=z.copy(),
        tri=triangles.astype(np.int32),
        nbr=neighbours.astype(np.int32),
        flag=flags.astype(np.uint8),
        part=np.where(shown, SHOWN, OUTSIDE).astype(np.uint8),
        at=np.zeros(len(xy), np.int32),
        size=np.array([len(xy), len(triangles)], np.int64),
        source=source.astype(np.int64),
    )
    first_triangles(made.tri, len(triangles), made.at)
    made.grow(2 * len(triangles))
    return made


# ------------------------------------------------------------------------------------------- the heap of triangles


@numba.njit(cache=True, nogil=True)
def _swap(heap, place, i, j):
    heap[i], heap[j] = heap[j], heap[i]
    place[heap[i]], place[heap[j]] = i, j


@numba.njit(cache=True, nogil=True)
def _up(heap, place, key, i):
    while i > 0:
        above = (i - 1) >> 1
        if key[heap[i]] <= key[heap[above]]:
            break
        _swap(heap, place, i, above)
        i = above


@numba.njit(cache=True, nogil=True)
def _down(heap, place, key, n, i):
    while True:
        child = 2 * i + 1
        if child >= n:
            break
        if child + 1 < n and key[heap[child + 1]] > key[heap[child]]:
            child += 1
        if key[heap[child]] <= key[heap[i]]:
            break
        _swap(heap, place, i, child)
        i = child


@numba.njit(cache=True, nogil=True)
def _rank(heap, place, key, heaped, t, found, enough):
    # Put a triangle where its error belongs; one whose error is small enough is not in the heap.
    error = found if found > enough else 0.0
    key[t] = error
    i = place[t]
    if i < 0:
        if error <= 0.0:
            return
        i = heaped[0]
        heaped[0] += 1
        heap[i] = t
        place[t] = i
        _up(heap, place, key, i)
        return
    if error <= 0.0:
        heaped[0] -= 1
        last = heaped[0]
        if i != last:
            _swap(heap, place, i, last)
        place[t] = -1
        if i != last:
            _up(heap, place, key, i)
            _down(heap, place, key, last, i)
        return
    _up(heap, place, key, i)
    _down(heap, place, key, heaped[0], place[t])


# ------------------------------------------------------------------------------------------- putting a vertex in


@numba.njit(cache=True, nogil=True)
def _put(xy, tri, nbr, flag, part, at, size, t, k, v, stack, pool, head, following):
    """Put vertex v into triangle t (k < 0) or on its edge k, and swap edges until all is Delaunay.

    The lists of points of all triangles that change are joined to the list that `pool` begins. Returns the new
    beginning of it; the changed triangles are those around v.
    """
    lists = head.shape[0] > 0
    depth = 0
    n = size[1]
    if k >= 0:
        o = np.int64(nbr[t, k])
        if lists:
            pool = _poured(head, following, t, pool)
            if o >= 0:
                pool = _poured(head, following, o, pool)
        split_edge(xy, tri, nbr, flag, part, at, size, t, k, v)
        stack[0] = t
        depth = 1
        if o >= 0:
            stack[1] = o
            depth = 2
    else:
        if lists:
            pool = _poured(head, following, t, pool)
        split_triangle(xy, tri, nbr, flag, part, at, size, t, v)
        stack[0] = t
        depth = 1
    for u in range(n, size[1]):
        if lists:
            head[u] = -1
        stack[depth] = u
        depth += 1
    while depth > 0:
        depth -= 1
        t = np.int64(stack[depth])
        # The vertex is corner 2 in all of them, so its opposite edge is edge 0.
        o = np.int64(nbr[t, 0])
        if o < 0 or flag[t, 0] != 0 or part[o] != part[t]:
            continue
        a, b = np.int64(tri[t, 0]), np.int64(tri[t, 1])
        d = np.int64(tri[o, (edge_to(nbr, o, t, tri, b) + 2) % 3])
        if not in_circle(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[v, 0], xy[v, 1], xy[d, 0], xy[d, 1]):
            continue
        if not can_flip(xy, tri, nbr, part, t, 0):
            continue
        if lists:
            pool = _poured(head, following, o, pool)
        flip(tri, nbr, flag, at, t, 0)
        if depth + 2 <= stack.shape[0]:
            stack[depth], stack[depth + 1] = o, t
            depth += 2
    return pool


@numba.njit(cache=True, nogil=True)
def _poured(head, following, t, pool):
    p = head[t]
    head[t] = -1
    while p >= 0:
        after = following[p]
        following[p] = pool
        pool = p
        p = after
    return pool


@numba.njit(cache=True, nogil=True)
def _star(tri, nbr, v, start, ring):
    # Triangles around v, which is corner 2 in each; a rim is walked from both sides.
    n = 0
    t = start
    while True:
        if n < ring.shape[0]:
            ring[n] = t
            n += 1
        t = np.int64(nbr[t, 1])
        if t == start or t < 0:
            break
    if t < 0:
        t = np.int64(nbr[start, 2])
        while t >= 0:
            if n < ring.shape[0]:
                ring[n] = t
                n += 1
            t = np.int64(nbr[t, 2])
    return n


# ------------------------------------------------------------------------------------------- grids


@numba.njit(cache=True, nogil=True)
def _scan(heights, xy, z, tri, t):
    """Return the cell in a triangle that lies farthest from it, and how far; corners are lattice places, y northwards."""
    a, b, c = np.int64(tri[t, 0]), np.int64(tri[t, 1]), np.int64(tri[t, 2])
    x0, y0, x1, y1, x2, y2 = xy[a, 0], -xy[a, 1], xy[b, 0], -xy[b, 1], xy[c, 0], -xy[c, 1]
    det = (x1 - x0) * (y2 - y0) - (x2 - x0) * (y1 - y0)
    gx = ((z[b] - z[a]) * (y2 - y0) - (z[c] - z[a]) * (y1 - y0)) / det
    gy = ((z[c] - z[a]) * (x1 - x0) - (z[b] - z[a]) * (x2 - x0)) / det
    # By rows: where the triangle's edges cross each.
    if y1 < y0:
        x0, y0, x1, y1 = x1, y1, x0, y0
    if y2 < y0:
        x0, y0, x2, y2 = x2, y2, x0, y0
    if y2 < y1:
        x1, y1, x2, y2 = x2, y2, x1, y1
    xa, ya, za = xy[a, 0], -xy[a, 1], z[a]
    columns = heights.shape[1]
    long = (x2 - x0) / (y2 - y0)
    upper = (x1 - x0) / (y1 - y0) if y1 > y0 else 0.0
    lower = (x2 - x1) / (y2 - y1) if y2 > y1 else 0.0
    worst, cell = 0.0, np.int64(-1)
    for row in range(int(y0), int(y2) + 1):
        left = x0 + (row - y0) * long
        right = x0 + (row - y0) * upper if row < y1 else x1 + (row - y1) * lower
        if right < left:
            left, right = right, left
        first, last = int(np.ceil(left - 1e-9)), int(np.floor(right + 1e-9))
        height = za + (first - xa) * gx + (row - ya) * gy
        for column in range(first, last + 1):
            error = abs(heights[row, column] - height)
            # No-data is never larger.
            if error > worst:
                worst, cell = error, np.int64(row) * columns + column
            height += gx
    return cell, worst


@numba.njit(cache=True, nogil=True)
def grid_begin(
    heights, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped, tolerance
):  # fmt: skip
    """Look at every triangle once."""
    for t in range(size[1]):
        if part[t] == SHOWN:
            cell, error = _scan(heights, xy, z, tri, t)
            worst[t] = cell
            _rank(heap, place, key, heaped, t, error, tolerance)


@numba.njit(cache=True, nogil=True)
def grid_more(
    heights, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped, tolerance, most, batch
):
    """Put cells in until none lies farther away than the tolerance, or there are `most` triangles; see `DONE`."""
    stack, ring = np.zeros(4096, np.int32), np.zeros(4096, np.int32)
    none = np.zeros(0, np.int32)
    columns = heights.shape[1]
    for _ in range(batch):
        if heaped[0] == 0 or key[heap[0]] <= tolerance or heaped[0] >= 2**31 or size[1] >= most:
            return DONE
        if size[1] + 4 > tri.shape[0] or size[0] + 1 > xy.shape[0]:
            return ROOM
        t = np.int64(heap[0])
        cell = worst[t]
        row, column = cell // columns, cell % columns
        v = size[0]
        xy[v, 0], xy[v, 1], z[v] = column, -row, heights[row, column]
        source[v] = cell
        edge, corner = -1, False
        for k in range(3):
            a, b = np.int64(tri[t, k]), np.int64(tri[t, (k + 1) % 3])
            # Lattice places are whole numbers: this is exact.
            s = (xy[b, 0] - xy[a, 0]) * (xy[v, 1] - xy[a, 1]) - (xy[b, 1] - xy[a, 1]) * (xy[v, 0] - xy[a, 0])
            if s == 0.0:
                corner = corner or edge >= 0
                edge = k
        if corner:
            # Rounding of a height at a corner: it is there already.
            _rank(heap, place, key, heaped, t, 0.0, 0.0)
            continue
        size[0] += 1
        _put(xy, tri, nbr, flag, part, at, size, t, edge, v, stack, -1, none, none)
        n = _star(tri, nbr, v, at[v], ring)
        for i in range(n):
            u = np.int64(ring[i])
            if part[u] == SHOWN:
                cell, error = _scan(heights, xy, z, tri, u)
                worst[u] = cell
                _rank(heap, place, key, heaped, u, error, tolerance)
    return PAUSE


# ------------------------------------------------------------------------------------------- points


@numba.njit(cache=True, nogil=True)
def _plane(xy, z, tri, t, x, y):
    a, b, c = np.int64(tri[t, 0]), np.int64(tri[t, 1]), np.int64(tri[t, 2])
    x1, y1 = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
    x2, y2 = xy[c, 0] - xy[a, 0], xy[c, 1] - xy[a, 1]
    det = x1 * y2 - x2 * y1
    px, py = x - xy[a, 0], y - xy[a, 1]
    s, u = (px * y2 - x2 * py) / det, (x1 * py - px * y1) / det
    return z[a] + s * (z[b] - z[a]) + u * (z[c] - z[a])


@numba.njit(cache=True, nogil=True)
def _listed(points, xy, z, tri, t, head, following, p, worst, key, heights):
    # Put a point into a triangle's list, and remember the farthest.
    following[p] = head[t]
    head[t] = p
    error = abs(_plane(xy, z, tri, t, points[p, 0], points[p, 1]) - heights[p])
    if error > key[t]:
        key[t] = error
        worst[t] = p


@numba.njit(cache=True, nogil=True)
def points_begin(
    points, heights, order, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped, head, following, tolerance,
):  # fmt: skip
    """Put every point into the list of its triangle; points outside of all are left out."""
    t = 0
    for i in range(order.shape[0]):
        p = order[i]
        found, what, _ = locate(xy, tri[: size[1]], nbr, points[p, 0], points[p, 1], t)
        if what == NOWHERE:
            continue
        t = found
        _listed(points, xy, z, tri, t, head, following, p, worst, key, heights)
    for t in range(size[1]):
        error = key[t]
        key[t] = 0.0
        _rank(heap, place, key, heaped, t, error, tolerance)


@numba.njit(cache=True, nogil=True)
def points_again(
    points, heights, changed, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped, head, following, tolerance,
):  # fmt: skip
    """Put the points of triangles that have changed into the lists of those that hold them now."""
    pool = -1
    for t in changed:
        pool = _poured(head, following, t, pool)
        key[t] = 0.0
    t = changed[0] if changed.shape[0] else 0
    p = pool
    while p >= 0:
        after = following[p]
        found, what, _ = locate(xy, tri[: size[1]], nbr, points[p, 0], points[p, 1], t)
        if what != NOWHERE:
            t = found
            _listed(points, xy, z, tri, t, head, following, p, worst, key, heights)
        p = after
    n = 0
    for t in range(size[1]):
        place[t] = -1
        if key[t] > tolerance:
            heap[n] = t
            place[t] = n
            n += 1
    heaped[0] = n
    for i in range(n // 2 - 1, -1, -1):
        _down(heap, place, key, n, i)


@numba.njit(cache=True, nogil=True)
def points_more(
    points, heights, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped, head,
    following, tolerance, most, batch,
):  # fmt: skip
    """Put points in until none lies farther away than the tolerance, or there are `most` triangles; see `DONE`.

    Parameters
    ----------
    near : float
        A point this close to an edge that stays lies on it.
    """
    stack, ring, largest = np.zeros(4096, np.int32), np.zeros(4096, np.int32), np.zeros(4096)
    for _ in range(batch):
        if heaped[0] == 0 or key[heap[0]] <= tolerance or size[1] >= most:
            return DONE
        if size[1] + 4 > tri.shape[0] or size[0] + 1 > xy.shape[0]:
            return ROOM
        t = np.int64(heap[0])
        if not _enter(
            points, heights, worst[t], t, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key,
            heaped, head, following, stack, ring, largest, tolerance,
        ):  # fmt: skip
            # It is there already, but for rounding.
            _rank(heap, place, key, heaped, t, 0.0, 0.0)
    return PAUSE


@numba.njit(cache=True, nogil=True)
def _enter(
    points, heights, p, t, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped, head,
    following, stack, ring, largest, tolerance,
):  # fmt: skip
    # Put one point in as a vertex; False where it cannot be one.
    x, y = points[p, 0], points[p, 1]
    edge = -1
    v = size[0]
    xy[v, 0], xy[v, 1], z[v] = x, y, heights[p]
    for k in range(3):
        a, b = np.int64(tri[t, k]), np.int64(tri[t, (k + 1) % 3])
        dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
        length = np.sqrt(dx * dx + dy * dy)
        away = abs((x - xy[a, 0]) * dy - (y - xy[a, 1]) * dx) / length
        if (away <= near and (flag[t, k] != 0 or away <= 1e-3 * near)) or side(xy, a, b, v) <= 0.0:
            edge = k
    if edge >= 0:
        a, b, c = tri[t, edge], tri[t, (edge + 1) % 3], tri[t, (edge + 2) % 3]
        o = np.int64(nbr[t, edge])
        if side(xy, v, b, c) <= 0.0 or side(xy, a, v, c) <= 0.0:
            return False
        if o >= 0:
            d = np.int64(tri[o, (edge_to(nbr, o, t, tri, b) + 2) % 3])
            if side(xy, v, a, d) <= 0.0 or side(xy, b, v, d) <= 0.0:
                return False
    size[0] += 1
    source[v] = p
    pool = _put(xy, tri, nbr, flag, part, at, size, t, edge, v, stack, -1, head, following)
    n = _star(tri, nbr, v, at[v], ring)
    # Keys change one at a time: the heap has to be one whenever it is mended.
    for i in range(n):
        largest[i] = 0.0
    q = pool
    while q >= 0:
        after = following[q]
        if q != p:
            best, least = 0, -np.inf
            for i in range(n):
                u = np.int64(ring[i])
                a, b = tri[u, 0], tri[u, 1]
                # How far inside the wedge and the triangle; the least of the three decides.
                qx, qy = points[q, 0], points[q, 1]
                s0 = (xy[b, 0] - xy[a, 0]) * (qy - xy[a, 1]) - (xy[b, 1] - xy[a, 1]) * (qx - xy[a, 0])
                s1 = (x - xy[b, 0]) * (qy - xy[b, 1]) - (y - xy[b, 1]) * (qx - xy[b, 0])
                s2 = (xy[a, 0] - x) * (qy - y) - (xy[a, 1] - y) * (qx - x)
                s = min(s0, min(s1, s2))
                if s > least:
                    best, least = i, s
                    if s >= 0.0:
                        break
            u = np.int64(ring[best])
            following[q] = head[u]
            head[u] = q
            error = abs(_plane(xy, z, tri, u, points[q, 0], points[q, 1]) - heights[q])
            if error > largest[best]:
                largest[best] = error
                worst[u] = q
        q = after
    for i in range(n):
        _rank(heap, place, key, heaped, ring[i], largest[i], tolerance)
    return True


@numba.njit(cache=True, nogil=True)
def enter_all(
    points, heights, which, start, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key, heaped,
    head, following, tolerance,
):  # fmt: skip
    """Put some points in as vertices, from `start` on; return where it stopped for want of room, or how many there are."""
    stack, ring, largest = np.zeros(4096, np.int32), np.zeros(4096, np.int32), np.zeros(4096)
    t = 0
    for i in range(start, which.shape[0]):
        if size[1] + 4 > tri.shape[0] or size[0] + 1 > xy.shape[0]:
            return i
        p = which[i]
        found, what, _ = locate(xy, tri[: size[1]], nbr, points[p, 0], points[p, 1], min(t, size[1] - 1))
        if what in (INSIDE, ON_EDGE):
            t = found
            _enter(
                points, heights, p, t, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, worst, key,
                heaped, head, following, stack, ring, largest, tolerance,
            )  # fmt: skip
    return which.shape[0]


@numba.njit(cache=True, nogil=True)
def keep_all(xy, tri, nbr, flag, part, at, pairs, bit):
    """Make edges between vertices, as far as nothing that stays is in the way; see `planar.keep_edge`."""
    out = np.zeros(3, np.int64)
    for i in range(pairs.shape[0]):
        a, b = pairs[i, 0], pairs[i, 1]
        for _ in range(1000):
            reached = keep_edge(xy, tri, nbr, flag, part, at, a, b, bit, out)
            if reached < 0 or reached == b:
                break
            a = reached
