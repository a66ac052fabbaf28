"""Two sets of triangles laid over each other: where they are equally high."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.locate import Buckets


def level_with(
    first: NDArray[np.float64],
    first_triangles: NDArray[np.int32],
    second: NDArray[np.float64],
    second_triangles: NDArray[np.int32],
    index: Buckets,
    low: NDArray[np.float64],
    high: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Return the pieces of the line along which two surfaces are equally high, (s, 2, 2) float64 in plan.

    In each common piece of two triangles the difference is a plane, so the line is straight there.

    Parameters
    ----------
    index : Buckets
        Of the second surface's triangles.
    low, high : (2,) float64
        Where both lie; triangles beyond are not looked at.
    """
    room = 1024
    while True:
        out, number = _level_with(
            first, first_triangles, second, second_triangles, index.west, index.south, index.size, index.columns,
            index.rows, index.starts, index.members, low, high, room,
        )  # fmt: skip
        if number <= room:
            return np.asarray(out[:number])
        room = int(number)


@numba.njit(cache=True, nogil=True)
def _level_with(pa, ta, pb, tb, west, south, size, columns, rows, starts, members, low, high, room):
    out = np.zeros((room, 2, 2))
    number = 0
    seen = np.full(tb.shape[0], -1, np.int64)
    ring = np.zeros((16, 2))
    other = np.zeros((16, 2))
    for t in range(ta.shape[0]):
        ax, ay = pa[ta[t, 0], 0], pa[ta[t, 0], 1]
        bx, by = pa[ta[t, 1], 0], pa[ta[t, 1], 1]
        cx, cy = pa[ta[t, 2], 0], pa[ta[t, 2], 1]
        x0, x1 = min(ax, bx, cx), max(ax, bx, cx)
        y0, y1 = min(ay, by, cy), max(ay, by, cy)
        if x1 < low[0] or x0 > high[0] or y1 < low[1] or y0 > high[1]:
            continue
        za, ga, ha = _plane(pa, ta, t)
        for row in range(max(int((y0 - south) / size), 0), min(int((y1 - south) / size), rows - 1) + 1):
            for column in range(max(int((x0 - west) / size), 0), min(int((x1 - west) / size), columns - 1) + 1):
                bucket = row * columns + column
                for m in range(starts[bucket], starts[bucket + 1]):
                    u = members[m]
                    if seen[u] == t:
                        continue
                    seen[u] = t
                    n = _common(pa, ta, t, pb, tb, u, ring, other)
                    if n < 3:
                        continue
                    zb, gb, hb = _plane(pb, tb, u)
                    found = 0
                    for i in range(n):
                        j = (i + 1) % n
                        # Relative to each triangle's first corner, so that large coordinates cost no digits.
                        di = _over(pb, tb, u, zb, gb, hb, ring[i]) - _over(pa, ta, t, za, ga, ha, ring[i])
                        dj = _over(pb, tb, u, zb, gb, hb, ring[j]) - _over(pa, ta, t, za, ga, ha, ring[j])
                        # On the level counts as above, as everywhere: a line along an edge is found once.
                        if (di >= 0.0) != (dj >= 0.0) and found < 2:
                            share = di / (di - dj)
                            if number < room:
                                out[number, found, 0] = ring[i, 0] + share * (ring[j, 0] - ring[i, 0])
                                out[number, found, 1] = ring[i, 1] + share * (ring[j, 1] - ring[i, 1])
                            found += 1
                    if found == 2:
                        number += 1
    return out, number


@numba.njit(cache=True, nogil=True)
def _plane(p, tri, t):
    a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    vx, vy, vz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    det = ux * vy - uy * vx
    return p[a, 2], (uz * vy - vz * uy) / det, (vz * ux - uz * vx) / det


@numba.njit(cache=True, nogil=True)
def _over(p, tri, t, z, gx, gy, place):
    a = tri[t, 0]
    return z + gx * (place[0] - p[a, 0]) + gy * (place[1] - p[a, 1])


@numba.njit(cache=True, nogil=True)
def _common(pa, ta, t, pb, tb, u, ring, other):
    # The common piece of two triangles (Sutherland and Hodgman 1974); returns its number of corners.
    for k in range(3):
        ring[k, 0], ring[k, 1] = pa[ta[t, k], 0], pa[ta[t, k], 1]
    n = 3
    for k in range(3):
        ex, ey = pb[tb[u, k], 0], pb[tb[u, k], 1]
        dx, dy = pb[tb[u, (k + 1) % 3], 0] - ex, pb[tb[u, (k + 1) % 3], 1] - ey
        m = 0
        for i in range(n):
            j = (i + 1) % n
            si = dx * (ring[i, 1] - ey) - dy * (ring[i, 0] - ex)
            sj = dx * (ring[j, 1] - ey) - dy * (ring[j, 0] - ex)
            if si >= 0.0:
                other[m, 0], other[m, 1] = ring[i, 0], ring[i, 1]
                m += 1
            if (si > 0.0 and sj < 0.0) or (si < 0.0 and sj > 0.0):
                share = si / (si - sj)
                other[m, 0] = ring[i, 0] + share * (ring[j, 0] - ring[i, 0])
                other[m, 1] = ring[i, 1] + share * (ring[j, 1] - ring[i, 1])
                m += 1
        for i in range(m):
            ring[i, 0], ring[i, 1] = other[i, 0], other[i, 1]
        n = m
        if n < 3:
            return 0
    return n
