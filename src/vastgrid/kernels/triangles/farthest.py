"""Putting the farthest point into a triangulation, again and again; see `kernels.greedy`, which holds the arrays."""

import numba
import numpy as np

from vastgrid.kernels.triangles.heap import down as heap_down
from vastgrid.kernels.triangles.heap import put as heap_put
from vastgrid.kernels.triangles.planar import (
    INSIDE,
    NOWHERE,
    ON_EDGE,
    can_flip,
    edge_to,
    flip,
    keep_edge,
    locate,
    side,
    split_edge,
    split_triangle,
)  # fmt: skip
from vastgrid.kernels.triangles.predicates import in_circle

OUTSIDE, SHOWN = 0, 1
DONE, ROOM, PAUSE = 0, 1, 2


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
    heights, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key, heaped, tolerance
):  # fmt: skip
    """Look at every triangle once."""
    for t in range(size[1]):
        if part[t] == SHOWN:
            cell, error = _scan(heights, xy, z, tri, t)
            worst[t] = cell
            heap_put(heap, place, rank, key, heaped, t, error, tolerance)


@numba.njit(cache=True, nogil=True)
def grid_more(
    heights,
    xy,
    z,
    tri,
    nbr,
    flag,
    part,
    at,
    size,
    source,
    heap,
    place,
    rank,
    worst,
    key,
    heaped,
    tolerance,
    most,
    batch,
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
            heap_put(heap, place, rank, key, heaped, t, 0.0, 0.0)
            continue
        size[0] += 1
        _put(xy, tri, nbr, flag, part, at, size, t, edge, v, stack, -1, none, none)
        n = _star(tri, nbr, v, at[v], ring)
        for i in range(n):
            u = np.int64(ring[i])
            if part[u] == SHOWN:
                cell, error = _scan(heights, xy, z, tri, u)
                worst[u] = cell
                heap_put(heap, place, rank, key, heaped, u, error, tolerance)
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
    points, heights, order, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key, heaped, head, following, tolerance,
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
        heap_put(heap, place, rank, key, heaped, t, error, tolerance)


@numba.njit(cache=True, nogil=True)
def points_again(
    points, heights, changed, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key, heaped, head, following, tolerance,
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
            heap[n], rank[n] = t, key[t]
            place[t] = n
            n += 1
    heaped[0] = n
    for i in range(n // 2 - 1, -1, -1):
        heap_down(heap, place, rank, n, i)


@numba.njit(cache=True, nogil=True)
def points_more(
    points, heights, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key, heaped, head,
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
            points, heights, worst[t], t, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key,
            heaped, head, following, stack, ring, largest, tolerance,
        ):  # fmt: skip
            # It is there already, but for rounding.
            heap_put(heap, place, rank, key, heaped, t, 0.0, 0.0)
    return PAUSE


@numba.njit(cache=True, nogil=True)
def _enter(
    points, heights, p, t, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key, heaped, head,
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
        heap_put(heap, place, rank, key, heaped, ring[i], largest[i], tolerance)
    return True


@numba.njit(cache=True, nogil=True)
def enter_all(
    points, heights, which, start, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key, heaped,
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
                points, heights, p, t, near, xy, z, tri, nbr, flag, part, at, size, source, heap, place, rank, worst, key,
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
