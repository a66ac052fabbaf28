"""Two sets of triangles laid over each other: their common pieces, what lies between them, where they are equally high."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.triangles.locate import Buckets


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
        out, number = _level_with(first, first_triangles, second, second_triangles, packed(index), low, high, room)
        if number <= room:
            return np.asarray(out[:number])
        room = int(number)


@numba.njit(cache=True, nogil=True)
def _level_with(pa, ta, pb, tb, index, low, high, room):
    out = np.zeros((room, 2, 2))
    number = 0
    seen, met = np.full(tb.shape[0], -1, np.int64), np.zeros(tb.shape[0], np.int32)
    ring, other = np.zeros((16, 2)), np.zeros((16, 2))
    for t in range(ta.shape[0]):
        _corners(pa, ta, t, ring)
        x0, x1, y0, y1 = _bounds(ring, 3)
        if x1 < low[0] or x0 > high[0] or y1 < low[1] or y0 > high[1]:
            continue
        za, ga, ha = _plane(pa, ta, t)
        for m in range(_near(index, (x0, x1, y0, y1), pb, tb, seen, t, met)):
            u = met[m]
            _corners(pa, ta, t, ring)
            n = _clip(ring, 3, pb, tb, u, other)
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
def _near(index, box, p, tri, seen, stamp, found):
    # Writes the triangles whose boxes touch a box, each once; returns their number.
    west, south, size, columns, rows, starts, members = index
    x0, x1, y0, y1 = box
    number = 0
    for row in range(max(int((y0 - south) / size), 0), min(int((y1 - south) / size), rows - 1) + 1):
        for column in range(max(int((x0 - west) / size), 0), min(int((x1 - west) / size), columns - 1) + 1):
            bucket = row * columns + column
            for m in range(starts[bucket], starts[bucket + 1]):
                u = members[m]
                if seen[u] != stamp:
                    seen[u] = stamp
                    if not _apart(p, tri, u, x0, x1, y0, y1):
                        found[number] = u
                        number += 1
    return number


@numba.njit(cache=True, nogil=True)
def _corners(p, tri, t, ring):
    for k in range(3):
        ring[k, 0], ring[k, 1] = p[tri[t, k], 0], p[tri[t, k], 1]


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
def _clip(ring, n, pb, tb, u, other):
    # A convex ring clipped by a triangle, in place (Sutherland and Hodgman 1974); returns its number of corners.
    for k in range(3):
        ex, ey = pb[tb[u, k], 0], pb[tb[u, k], 1]
        dx, dy = pb[tb[u, (k + 1) % 3], 0] - ex, pb[tb[u, (k + 1) % 3], 1] - ey
        m = 0
        si = dx * (ring[0, 1] - ey) - dy * (ring[0, 0] - ex)
        for i in range(n):
            j = i + 1 if i + 1 < n else 0
            sj = dx * (ring[j, 1] - ey) - dy * (ring[j, 0] - ex)
            if si >= 0.0:
                other[m, 0], other[m, 1] = ring[i, 0], ring[i, 1]
                m += 1
            if (si > 0.0 and sj < 0.0) or (si < 0.0 and sj > 0.0):
                share = si / (si - sj)
                other[m, 0] = ring[i, 0] + share * (ring[j, 0] - ring[i, 0])
                other[m, 1] = ring[i, 1] + share * (ring[j, 1] - ring[i, 1])
                m += 1
            si = sj
        for i in range(m):
            ring[i, 0], ring[i, 1] = other[i, 0], other[i, 1]
        n = m
        if n < 3:
            return 0
    return n


@numba.njit(cache=True, nogil=True)
def _bounds(ring, n):
    x0, x1, y0, y1 = ring[0, 0], ring[0, 0], ring[0, 1], ring[0, 1]
    for i in range(1, n):
        x0, x1 = min(x0, ring[i, 0]), max(x1, ring[i, 0])
        y0, y1 = min(y0, ring[i, 1]), max(y1, ring[i, 1])
    return x0, x1, y0, y1


@numba.njit(cache=True, nogil=True)
def _integral(ring, d, n):
    # Plan area of a convex ring, and the volume below values that are a plane over it.
    area, volume = 0.0, 0.0
    for i in range(1, n - 1):
        ux, uy = ring[i, 0] - ring[0, 0], ring[i, 1] - ring[0, 1]
        vx, vy = ring[i + 1, 0] - ring[0, 0], ring[i + 1, 1] - ring[0, 1]
        own = 0.5 * (ux * vy - uy * vx)
        area += own
        volume += own * (d[0] + d[i] + d[i + 1]) / 3.0
    return area, volume


@numba.njit(cache=True, nogil=True)
def _below(ring, d, n, level, part, e):
    # Plan area of what of a ring lies below a level, and the volume of the values there.
    m = 0
    for i in range(n):
        j = i + 1 if i + 1 < n else 0
        if d[i] <= level:
            part[m, 0], part[m, 1], e[m] = ring[i, 0], ring[i, 1], d[i]
            m += 1
        if (d[i] < level and d[j] > level) or (d[i] > level and d[j] < level):
            share = (level - d[i]) / (d[j] - d[i])
            part[m, 0] = ring[i, 0] + share * (ring[j, 0] - ring[i, 0])
            part[m, 1] = ring[i, 1] + share * (ring[j, 1] - ring[i, 1])
            e[m] = level
            m += 1
    if m < 3:
        return 0.0, 0.0
    return _integral(part, e, m)


@numba.njit(cache=True, nogil=True)
def _add(ring, d, n, part, e, tolerance, limits, own, classes):
    # Adds one piece to the sums of its part: common, cut and fill area, cut, fill; area and volume of each class.
    area, volume = _integral(ring, d, n)
    if not area > 0.0:
        return
    low, high = d[0], d[0]
    for i in range(1, n):
        low, high = min(low, d[i]), max(high, d[i])
    own[0] += area
    if low >= -tolerance and high <= tolerance:
        volume = 0.0
    elif low >= -tolerance:
        own[2] += area
        own[4] += volume
    elif high <= tolerance:
        own[1] += area
        own[3] -= volume
    else:
        lower, under = _below(ring, d, n, 0.0, part, e)
        own[1] += lower
        own[2] += area - lower
        own[3] -= under
        own[4] += volume - under
    if classes.shape[0] > 0:
        k = np.searchsorted(limits, low, side="right")
        done, sum_done = 0.0, 0.0
        while k < limits.shape[0] and limits[k] < high:
            lower, under = _below(ring, d, n, limits[k], part, e)
            classes[k, 0] += lower - done
            classes[k, 1] += under - sum_done
            done, sum_done = lower, under
            k += 1
        classes[k, 0] += area - done
        classes[k, 1] += volume - sum_done


@numba.njit(cache=True, nogil=True)
def prisms(pa, ta, pb, tb, index, pr, tr, part, region, parts, limits, tolerance, first, last):
    """Return what lies between two surfaces, prism by prism over their common pieces, for some triangles of the first.

    In a common piece of two triangles the difference is a plane, so its prism's volume is its area times the mean of the
    differences at the corners of each triangle of a fan over it: nothing is approximated.

    Parameters
    ----------
    pa, ta, pb, tb : (n, 3) float64, (m, 3) int32
        The surfaces, counter-clockwise, in coordinates near the origin.
    index, region : tuple
        Buckets of the second's triangles and of those of the areas; see `packed`.
    pr, tr, part : (r, 2) float64, (q, 3) int32, (q,) int64
        Triangles of the areas that count, and which part each belongs to; none for everything.
    parts : int
        Number of parts.
    limits : (k,) float64
        Ends of the classes of depth, ascending.
    tolerance : float
        Differences up to this are none.
    first, last : int
        Triangles of the first surface.

    Returns
    -------
    sums : (parts, 5) float64
        Common area, cut area, fill area, cut, fill. Fill is where the second lies above the first.
    classes : (parts, k + 1, 2) float64
        Plan area of each class, and the volume over it, negative where it is cut.
    """
    sums = np.zeros((parts, 5))
    classes = np.zeros((parts, limits.shape[0] + 1 if limits.shape[0] else 0, 2))
    seen, met = np.full(tb.shape[0], -1, np.int64), np.zeros(tb.shape[0], np.int32)
    own_seen, own_met = np.full(tr.shape[0], -1, np.int64), np.zeros(max(tr.shape[0], 1), np.int32)
    base, ring, other, below = np.zeros((16, 2)), np.zeros((16, 2)), np.zeros((16, 2)), np.zeros((16, 2))
    d, e = np.zeros(16), np.zeros(16)
    whole = tr.shape[0] == 0
    stamp = 0
    for t in range(first, last):
        _corners(pa, ta, t, base)
        za, ga, ha = _plane(pa, ta, t)
        around = 1 if whole else _near(region, _bounds(base, 3), pr, tr, own_seen, t, own_met)
        for a in range(around):
            _corners(pa, ta, t, base)
            n = 3 if whole else _clip(base, 3, pr, tr, own_met[a], other)
            if n < 3:
                continue
            mine = 0 if whole else part[own_met[a]]
            stamp += 1
            for m in range(_near(index, _bounds(base, n), pb, tb, seen, stamp, met)):
                u = met[m]
                for k in range(n):
                    ring[k, 0], ring[k, 1] = base[k, 0], base[k, 1]
                number = _clip(ring, n, pb, tb, u, other)
                if number < 3:
                    continue
                zb, gb, hb = _plane(pb, tb, u)
                for i in range(number):
                    d[i] = _over(pb, tb, u, zb, gb, hb, ring[i]) - _over(pa, ta, t, za, ga, ha, ring[i])
                _add(ring, d, number, below, e, tolerance, limits, sums[mine], classes[mine])
    return sums, classes


@numba.njit(cache=True, nogil=True)
def _apart(p, tri, u, x0, x1, y0, y1):
    ax, bx, cx = p[tri[u, 0], 0], p[tri[u, 1], 0], p[tri[u, 2], 0]
    ay, by, cy = p[tri[u, 0], 1], p[tri[u, 1], 1], p[tri[u, 2], 1]
    return max(ax, bx, cx) < x0 or min(ax, bx, cx) > x1 or max(ay, by, cy) < y0 or min(ay, by, cy) > y1


@numba.njit(cache=True, nogil=True)
def pieces(pa, ta, pb, tb, index, first, last):
    """Return the common pieces of two surfaces as triangles, for some triangles of the first.

    Returns
    -------
    plan : (m, 3, 2) float64
        Corners.
    heights : (m, 3, 2) float64
        Height of either surface at each corner, in the plane of its own triangle there.
    """
    room = max(4 * (last - first), 64)
    plan, heights = np.zeros((room, 3, 2)), np.zeros((room, 3, 2))
    number = 0
    seen, met = np.full(tb.shape[0], -1, np.int64), np.zeros(tb.shape[0], np.int32)
    ring, other = np.zeros((16, 2)), np.zeros((16, 2))
    for t in range(first, last):
        _corners(pa, ta, t, ring)
        za, ga, ha = _plane(pa, ta, t)
        for m in range(_near(index, _bounds(ring, 3), pb, tb, seen, t, met)):
            u = met[m]
            _corners(pa, ta, t, ring)
            n = _clip(ring, 3, pb, tb, u, other)
            if n < 3:
                continue
            if number + n > room:
                room *= 2
                more, higher = np.zeros((room, 3, 2)), np.zeros((room, 3, 2))
                more[:number], higher[:number] = plan[:number], heights[:number]
                plan, heights = more, higher
            zb, gb, hb = _plane(pb, tb, u)
            for i in range(1, n - 1):
                ux, uy = ring[i, 0] - ring[0, 0], ring[i, 1] - ring[0, 1]
                vx, vy = ring[i + 1, 0] - ring[0, 0], ring[i + 1, 1] - ring[0, 1]
                if not ux * vy - uy * vx > 0.0:
                    continue
                for k in range(3):
                    j = 0 if k == 0 else i + k - 1
                    plan[number, k] = ring[j]
                    heights[number, k, 0] = _over(pa, ta, t, za, ga, ha, ring[j])
                    heights[number, k, 1] = _over(pb, tb, u, zb, gb, hb, ring[j])
                number += 1
    return plan[:number].copy(), heights[:number].copy()


def packed(index: Buckets) -> tuple[float, float, float, int, int, NDArray[np.int64], NDArray[np.int32]]:
    """Return buckets as compiled functions take them."""
    return index.west, index.south, index.size, index.columns, index.rows, index.starts, index.members
