"""Directed edges joined into simple rings that keep the inside on their left."""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def loops(start, end, xy):
    """Return the vertices of rings one after another, each with its first repeated, and where rings begin.

    Where several edges leave a vertex, a ring goes on along the side of the wedge that it came by; a ring that comes to a
    vertex for the second time is parted there, so that none touches itself.

    Parameters
    ----------
    start, end : (m,) int64
        Vertices of edges with the inside on the left; as many lead to a vertex as leave it.
    xy : (n, 2) float64
        Places of the vertices.
    """
    count, number = xy.shape[0], start.shape[0]
    first = np.zeros(count + 1, np.int64)
    for e in range(number):
        first[start[e] + 1] += 1
    for v in range(count):
        first[v + 1] += first[v]
    leaving = np.zeros(number, np.int64)
    at = first[:-1].copy()
    for e in range(number):
        leaving[at[start[e]]] = e
        at[start[e]] += 1
    used = np.zeros(number, np.bool_)
    place = np.full(count, -1, np.int64)
    stack = np.zeros(number + 1, np.int64)
    # No ring has fewer than two edges, so this is room for all with their repeated ends.
    out = np.zeros(number + number // 2 + 1, np.int64)
    ends = np.zeros(number // 2 + 2, np.int64)
    ends[0] = 0
    rings, filled = 0, 0
    for seed in range(number):
        if used[seed]:
            continue
        height, e = 0, seed
        while e >= 0:
            used[e] = True
            v = start[e]
            stack[height] = v
            place[v] = height
            height += 1
            w = end[e]
            if place[w] >= 0:
                base = place[w]
                for k in range(base, height):
                    out[filled] = stack[k]
                    filled += 1
                    place[stack[k]] = -1
                out[filled] = w
                filled += 1
                rings += 1
                ends[rings] = filled
                height = base
            e = _next(e, start, end, xy, first, leaving, used)
        for k in range(height):
            place[stack[k]] = -1
    return out[:filled].copy(), ends[: rings + 1].copy()


@numba.njit(cache=True, nogil=True)
def _next(e, start, end, xy, first, leaving, used):
    a, b = start[e], end[e]
    back = math.atan2(xy[a, 1] - xy[b, 1], xy[a, 0] - xy[b, 0])
    best, least = -1, 10.0
    for k in range(first[b], first[b + 1]):
        f = leaving[k]
        if used[f]:
            continue
        c = end[f]
        turn = back - math.atan2(xy[c, 1] - xy[b, 1], xy[c, 0] - xy[b, 0])
        # The way back itself is the last to be taken.
        if turn <= 1e-12:
            turn += 2.0 * math.pi
        if turn < least:
            best, least = f, turn
    return best
