"""Asking a triangulation that changes what lies at a place or along a line; see `planar` for the arrays."""

from __future__ import annotations

import numba
import numpy as np

from vastgrid.kernels.triangles.planar import INSIDE, NOWHERE, ON_EDGE, ON_VERTEX, corner_of
from vastgrid.kernels.triangles.predicates import turn
from vastgrid.kernels.triangles.topology import inside_ring


@numba.njit(cache=True, nogil=True)
def crossed(xy, tri, nbr, x0, y0, x1, y1, start, out, stamp, mark):
    """Write the triangles whose inside a segment passes through, beginning at one that holds its first end.

    Parameters
    ----------
    out : (…,) int32
        Where they are written.
    stamp : (t,) int32
        Marks of triangles that were looked at; `mark` is this segment's.

    Returns
    -------
    int
        How many there are; more than `out` holds means there is no room.
    """
    stack = np.zeros(1024, np.int32)
    stack[0] = start
    depth = 1
    stamp[start] = mark
    n = 0
    while depth > 0:
        depth -= 1
        t = np.int64(stack[depth])
        if _passes(xy, tri, t, x0, y0, x1, y1):
            if n < out.shape[0]:
                out[n] = t
            n += 1
        elif not _touches(xy, tri, t, x0, y0, x1, y1):
            continue
        for k in range(3):
            o = np.int64(nbr[t, k])
            if o >= 0 and stamp[o] != mark:
                stamp[o] = mark
                if depth == stack.shape[0]:
                    more = np.zeros(2 * depth, np.int32)
                    for i in range(depth):
                        more[i] = stack[i]
                    stack = more
                stack[depth] = o
                depth += 1
    return n


@numba.njit(cache=True, nogil=True)
def _sides(xy, tri, t, x0, y0, x1, y1):
    low, high = np.inf, -np.inf
    for k in range(3):
        s = (x1 - x0) * (xy[tri[t, k], 1] - y0) - (y1 - y0) * (xy[tri[t, k], 0] - x0)
        low, high = min(low, s), max(high, s)
    # Of each edge, how far inside the nearer end of the segment lies.
    outside = np.inf
    for k in range(3):
        a, b = np.int64(tri[t, k]), np.int64(tri[t, (k + 1) % 3])
        dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
        first = dx * (y0 - xy[a, 1]) - dy * (x0 - xy[a, 0])
        second = dx * (y1 - xy[a, 1]) - dy * (x1 - xy[a, 0])
        outside = min(outside, max(first, second))
    return low, high, outside


@numba.njit(cache=True, nogil=True)
def _passes(xy, tri, t, x0, y0, x1, y1):
    low, high, outside = _sides(xy, tri, t, x0, y0, x1, y1)
    if x0 == x1 and y0 == y1:
        return outside > 0.0
    return low < 0.0 < high and outside > 0.0


@numba.njit(cache=True, nogil=True)
def _touches(xy, tri, t, x0, y0, x1, y1):
    low, high, outside = _sides(xy, tri, t, x0, y0, x1, y1)
    return low <= 0.0 <= high and outside >= 0.0


@numba.njit(cache=True, nogil=True)
def vertices_near(tri, nbr, t, out):
    """Write the vertices of a triangle and of those around its corners; return how many, some perhaps twice."""
    n = 0
    for k in range(3):
        if n < out.shape[0]:
            out[n] = tri[t, k]
            n += 1
    for k in range(3):
        v = np.int64(tri[t, k])
        for way in range(2):
            u = t
            for _ in range(200):
                c = corner_of(tri, u, v)
                u = nbr[u, (c + 2) % 3] if way == 0 else nbr[u, c]
                if u < 0 or u == t:
                    break
                c = corner_of(tri, u, v)
                for j in (1, 2):
                    if n < out.shape[0]:
                        out[n] = tri[u, (c + j) % 3]
                        n += 1
            if u == t:
                break
    return n


@numba.njit(cache=True, nogil=True)
def nearest_edge(xy, tri, nbr, t, x, y):
    """Return the triangle, edge and distance of the edge nearest to a place in or beside a triangle."""
    best, best_k, least = -1, 0, np.inf
    for j in range(4):
        u = t if j == 3 else nbr[t, j]
        if u < 0:
            continue
        for k in range(3):
            a, b = tri[u, k], tri[u, (k + 1) % 3]
            dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
            length = dx * dx + dy * dy
            share = min(max(((x - xy[a, 0]) * dx + (y - xy[a, 1]) * dy) / length, 0.0), 1.0) if length > 0.0 else 0.0
            px, py = xy[a, 0] + share * dx - x, xy[a, 1] + share * dy - y
            away = np.sqrt(px * px + py * py)
            if away < least:
                best, best_k, least = u, k, away
    return best, best_k, least


@numba.njit(cache=True, nogil=True)
def settled(tri, nbr, flag, part, count, which, number):
    """Return the triangles of one part with their vertices numbered anew, each beginning at its smallest vertex.

    Parameters
    ----------
    which : int
        The part.
    number : (v,) int32
        New number of each vertex.

    Returns
    -------
    triangles, neighbours, flags, key
        Neighbours are still old numbers of triangles; `key` orders triangles by their first edge.
    """
    n = 0
    for t in range(count):
        n += part[t] == which
    out = np.zeros((n, 3), np.int32)
    across = np.zeros((n, 3), np.int32)
    flags = np.zeros((n, 3), np.uint8)
    key = np.zeros(n, np.int64)
    own = np.zeros(n, np.int32)
    n = 0
    for t in range(count):
        if part[t] != which:
            continue
        a, b, c = number[tri[t, 0]], number[tri[t, 1]], number[tri[t, 2]]
        first = 0 if a < b and a < c else (1 if b < c else 2)
        for k in range(3):
            j = (first + k) % 3
            out[n, k] = number[tri[t, j]]
            across[n, k] = nbr[t, j]
            flags[n, k] = flag[t, j]
        key[n] = (np.int64(out[n, 0]) << 32) | np.int64(out[n, 1])
        own[n] = t
        n += 1
    return out, across, flags, key, own


@numba.njit(cache=True, nogil=True)
def holding(xy, tri, part, count, x, y):
    """Return a triangle that holds a place, what of it the place lies on, and which edge or corner; all are looked at."""
    for t in range(count):
        if part[t] == 0:
            continue
        zero = 0
        inside = True
        for k in range(3):
            a, b = tri[t, k], tri[t, (k + 1) % 3]
            s = turn(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], x, y)
            if s < 0.0:
                inside = False
                break
            if s == 0.0:
                zero += 1 << k
        if not inside:
            continue
        if zero == 0:
            return t, INSIDE, 0
        if zero in (1, 2, 4):
            return t, ON_EDGE, 0 if zero == 1 else (1 if zero == 2 else 2)
        return t, ON_VERTEX, 1 if zero == 3 else (2 if zero == 6 else 0)
    return -1, NOWHERE, 0


@numba.njit(cache=True, nogil=True)
def touching(vertices, triangles, west, south, east, north):
    """Return which triangles' boxes in plan touch a box, (n,) bool."""
    out = np.zeros(triangles.shape[0], np.bool_)
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x0, x1, x2 = vertices[a, 0], vertices[b, 0], vertices[c, 0]
        if max(x0, x1, x2) < west or min(x0, x1, x2) > east:
            continue
        y0, y1, y2 = vertices[a, 1], vertices[b, 1], vertices[c, 1]
        out[t] = max(y0, y1, y2) >= south and min(y0, y1, y2) <= north
    return out


@numba.njit(cache=True, nogil=True)
def vertices_within(xy, number, tri, part, count, which, ring):
    """Return which of the first vertices lie inside a closed ring and belong to triangles of one part, (number,) bool."""
    used = np.zeros(number, np.bool_)
    for t in range(count):
        if part[t] == which:
            for k in range(3):
                used[tri[t, k]] = True
    west, east = ring[:, 0].min(), ring[:, 0].max()
    south, north = ring[:, 1].min(), ring[:, 1].max()
    for v in range(number):
        if used[v]:
            x, y = xy[v, 0], xy[v, 1]
            used[v] = west <= x <= east and south <= y <= north and inside_ring(x, y, ring)
    return used


@numba.njit(cache=True, nogil=True)
def middles_within(xy, tri, part, count, gone, ring):
    """Return which triangles have their middle inside a closed ring, those of one part left out, (count,) bool."""
    out = np.zeros(count, np.bool_)
    west, east = ring[:, 0].min(), ring[:, 0].max()
    south, north = ring[:, 1].min(), ring[:, 1].max()
    for t in range(count):
        if part[t] == gone:
            continue
        a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
        x, y = (xy[a, 0] + xy[b, 0] + xy[c, 0]) / 3.0, (xy[a, 1] + xy[b, 1] + xy[c, 1]) / 3.0
        out[t] = west <= x <= east and south <= y <= north and inside_ring(x, y, ring)
    return out


@numba.njit(cache=True, nogil=True)
def drawn_on(tri, flag, part, count, which, first, bit):
    """Return whether a triangle of one part has a vertex from `first` on, or an edge with a bit."""
    for t in range(count):
        if part[t] == which:
            for k in range(3):
                if tri[t, k] >= first or flag[t, k] & bit != 0:
                    return True
    return False
