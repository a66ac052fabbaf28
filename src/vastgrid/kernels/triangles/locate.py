"""Finding triangles: a lattice of buckets that works on any set of triangles, holes and overlaps included."""

from __future__ import annotations

from dataclasses import dataclass

import numba
import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True)
class Buckets:
    """Triangles listed by the square buckets they touch.

    Attributes
    ----------
    west, south, size : float
        Corner of the lattice and width of a bucket.
    columns, rows : int
        Size of the lattice.
    starts : (columns * rows + 1,) int64
        Bucket b lists ``members[starts[b]:starts[b + 1]]``.
    members : (…,) int32
        Triangle numbers.
    """

    west: float
    south: float
    size: float
    columns: int
    rows: int
    starts: NDArray[np.int64]
    members: NDArray[np.int32]


def buckets(vertices: NDArray[np.float64], triangles: NDArray[np.int32]) -> Buckets:
    """Sort triangles into buckets, about one triangle wide."""
    used = vertices if len(vertices) else np.zeros((1, 3))
    west, south = float(used[:, 0].min()), float(used[:, 1].min())
    width, height = float(np.ptp(used[:, 0])), float(np.ptp(used[:, 1]))
    target = max(len(triangles) / 2.0, 1.0)
    size = max(np.sqrt(width * height / target), max(width, height) / 20000.0, 1e-9)
    columns, rows = int(width / size) + 1, int(height / size) + 1
    starts = np.zeros(columns * rows + 1, np.int64)
    _fill(vertices, triangles, west, south, size, columns, rows, starts, np.zeros(0, np.int32), False)
    starts = np.concatenate((np.zeros(1, np.int64), np.cumsum(starts[:-1])))
    members = np.zeros(int(starts[-1]), np.int32)
    _fill(vertices, triangles, west, south, size, columns, rows, starts.copy(), members, True)
    return Buckets(west, south, size, columns, rows, starts, members)


@numba.njit(cache=True, nogil=True)
def _fill(vertices, triangles, west, south, size, columns, rows, slots, members, write):
    for t in range(triangles.shape[0]):
        x0, y0 = vertices[triangles[t, 0], 0] - west, vertices[triangles[t, 0], 1] - south
        x1, y1 = vertices[triangles[t, 1], 0] - west, vertices[triangles[t, 1], 1] - south
        x2, y2 = vertices[triangles[t, 2], 0] - west, vertices[triangles[t, 2], 1] - south
        first = max(int(min(y0, y1, y2) / size), 0)
        last = min(int(max(y0, y1, y2) / size), rows - 1)
        for row in range(first, last + 1):
            low, high = row * size, (row + 1) * size
            # The triangle's reach within this row of buckets, so that long thin ones fill no more than they touch.
            left, right = np.inf, -np.inf
            for a, b, c, d in ((x0, y0, x1, y1), (x1, y1, x2, y2), (x2, y2, x0, y0)):
                if low <= b <= high:
                    left, right = min(left, a), max(right, a)
                for edge in (low, high):
                    if (b < edge) != (d < edge):
                        x = a + (edge - b) / (d - b) * (c - a)
                        left, right = min(left, x), max(right, x)
            if right < left:
                continue
            for column in range(max(int(left / size), 0), min(int(right / size), columns - 1) + 1):
                bucket = row * columns + column
                if write:
                    members[slots[bucket]] = t
                slots[bucket] += 1


def heights_at(
    xy: NDArray[np.float64], vertices: NDArray[np.float64], triangles: NDArray[np.int32], index: Buckets
) -> NDArray[np.float64]:
    """Return the height of the surface at places in plan, (n,) float64; NaN where there is no triangle.

    Linear within a triangle; where triangles overlap, the one with the smallest number counts.
    """
    order = np.arange(len(xy))
    if len(xy) > 10_000:
        # Neighbouring queries touch neighbouring memory.
        row = ((xy[:, 1] - index.south) / index.size).astype(np.int64)
        order = np.argsort(row * index.columns + ((xy[:, 0] - index.west) / index.size).astype(np.int64))
    out = np.full(len(xy), np.nan)
    _heights(
        np.ascontiguousarray(xy, np.float64), order, vertices, triangles,
        index.west, index.south, index.size, index.columns, index.rows, index.starts, index.members, out,
    )  # fmt: skip
    return out


@numba.njit(cache=True, nogil=True)
def _covering_at(x, y, vertices, triangles, west, south, size, columns, rows, starts, members):
    """Return the triangle that covers a place, -1 for none, and its corners' weights there with their sum."""
    column, row = int(np.floor((x - west) / size)), int(np.floor((y - south) / size))
    if column < 0 or row < 0 or column >= columns or row >= rows:
        return -1, 0.0, 0.0, 0.0, 0.0
    bucket = row * columns + column
    for m in range(starts[bucket], starts[bucket + 1]):
        t = members[m]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x0, y0 = vertices[a, 0] - x, vertices[a, 1] - y
        x1, y1 = vertices[b, 0] - x, vertices[b, 1] - y
        x2, y2 = vertices[c, 0] - x, vertices[c, 1] - y
        w0, w1, w2 = x1 * y2 - y1 * x2, x2 * y0 - y2 * x0, x0 * y1 - y0 * x1
        total = w0 + w1 + w2
        # Rounding must not open a gap along a shared edge.
        slack = -1e-11 * (abs(w0) + abs(w1) + abs(w2))
        if total > 0 and w0 >= slack and w1 >= slack and w2 >= slack:
            return t, w0, w1, w2, total
    return -1, 0.0, 0.0, 0.0, 0.0


@numba.njit(cache=True, nogil=True)
def _heights(xy, order, vertices, triangles, west, south, size, columns, rows, starts, members, out):
    for q in order:
        x, y = xy[q, 0], xy[q, 1]
        if not (np.isfinite(x) and np.isfinite(y)):
            continue
        t, w0, w1, w2, total = _covering_at(
            x, y, vertices, triangles, west, south, size, columns, rows, starts, members
        )
        if t < 0:
            continue
        # From the nearest corner on, so that a place on a corner gets its very height.
        za, zb, zc = vertices[triangles[t, 0], 2], vertices[triangles[t, 1], 2], vertices[triangles[t, 2], 2]
        if w0 >= w1 and w0 >= w2:
            out[q] = za + (w1 * (zb - za) + w2 * (zc - za)) / total
        elif w1 >= w2:
            out[q] = zb + (w0 * (za - zb) + w2 * (zc - zb)) / total
        else:
            out[q] = zc + (w0 * (za - zc) + w1 * (zb - zc)) / total


def triangles_at(
    xy: NDArray[np.float64], vertices: NDArray[np.float64], triangles: NDArray[np.int32], index: Buckets
) -> NDArray[np.int32]:
    """Return which triangle covers each place in plan, (n,) int32; -1 where there is none."""
    out = np.full(len(xy), -1, np.int32)
    _triangles_at(
        np.ascontiguousarray(xy, np.float64), vertices, triangles,
        index.west, index.south, index.size, index.columns, index.rows, index.starts, index.members, out,
    )  # fmt: skip
    return out


@numba.njit(cache=True, nogil=True)
def _triangles_at(xy, vertices, triangles, west, south, size, columns, rows, starts, members, out):
    for q in range(xy.shape[0]):
        out[q] = _covering_at(
            xy[q, 0], xy[q, 1], vertices, triangles, west, south, size, columns, rows, starts, members
        )[0]


@numba.njit(cache=True, nogil=True)
def _segment_cuts(
    ax, ay, bx, by, stamp, vertices, triangles, west, south, size, columns, rows, starts, members, seen, out, n
):
    # Writes (share along the segment, easting, northing, height) of every triangle edge met; returns the new count,
    # which may exceed the room in `out`.
    dx, dy = bx - ax, by - ay
    first = max(int(np.floor((min(ay, by) - south) / size)), 0)
    last = min(int(np.floor((max(ay, by) - south) / size)), rows - 1)
    for row in range(first, last + 1):
        low, high = south + row * size, south + (row + 1) * size
        left, right = min(ax, bx), max(ax, bx)
        if dy != 0:
            t0, t1 = (low - ay) / dy, (high - ay) / dy
            t0, t1 = min(max(min(t0, t1), 0.0), 1.0), min(max(max(t0, t1), 0.0), 1.0)
            left, right = min(ax + t0 * dx, ax + t1 * dx), max(ax + t0 * dx, ax + t1 * dx)
        # Buckets hold closed ranges, so a place on a bucket's rim is found without looking next door.
        start = max(int(np.floor((left - west) / size - 1e-9)), 0)
        stop = min(int(np.floor((right - west) / size + 1e-9)), columns - 1)
        for column in range(start, stop + 1):
            bucket = row * columns + column
            for m in range(starts[bucket], starts[bucket + 1]):
                t = members[m]
                if seen[t] == stamp:
                    continue
                seen[t] = stamp
                for k in range(3):
                    a, b = triangles[t, k], triangles[t, (k + 1) % 3]
                    ex, ey = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
                    wide = dx * ey - dy * ex
                    if wide == 0:
                        continue
                    px, py = vertices[a, 0] - ax, vertices[a, 1] - ay
                    along = (px * ey - py * ex) / wide
                    share = (px * dy - py * dx) / wide
                    if -1e-12 <= along <= 1 + 1e-12 and -1e-12 <= share <= 1 + 1e-12:
                        # Of edges that lie along each other rounding alone says where they meet: their ends say enough.
                        off = abs(px + share * ex - along * dx) + abs(py + share * ey - along * dy)
                        if off > 1e-8 * (abs(dx) + abs(dy) + abs(ex) + abs(ey)):
                            continue
                        if n < out.shape[0]:
                            along = min(max(along, 0.0), 1.0)
                            # At an end, the end's own height: rounding must not show as a difference.
                            share = 0.0 if share < 1e-12 else (1.0 if share > 1.0 - 1e-12 else share)
                            out[n, 0], out[n, 1], out[n, 2] = along, ax + along * dx, ay + along * dy
                            out[n, 3] = vertices[a, 2] + share * (vertices[b, 2] - vertices[a, 2])
                        n += 1
    return n


@numba.njit(cache=True, nogil=True)
def _cuts(line, vertices, triangles, west, south, size, columns, rows, starts, members, capacity):
    out = np.zeros((capacity, 4))
    segment = np.zeros(capacity, np.int64)
    seen = np.full(triangles.shape[0], -1, np.int64)
    n = 0
    for s in range(line.shape[0] - 1):
        begin = n
        n = _segment_cuts(
            line[s, 0], line[s, 1], line[s + 1, 0], line[s + 1, 1], s,
            vertices, triangles, west, south, size, columns, rows, starts, members, seen, out, n,
        )  # fmt: skip
        for i in range(begin, min(n, capacity)):
            segment[i] = s
    return segment[: min(n, capacity)], out[: min(n, capacity)], n


def largest_edge_gap(
    lines: NDArray[np.int32],
    own: NDArray[np.float64],
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    index: Buckets,
) -> tuple[float, float, float]:
    """Return the largest height difference where edges of one surface cross edges of another, and its place.

    Between two TINs the difference is a plane in every common piece, so its extremes are at vertices of either and
    at these crossings.

    Parameters
    ----------
    lines : (e, 2) int32
        Edges of the first surface, as indices of `own`.
    """
    if len(lines) == 0:
        return 0.0, float("nan"), float("nan")
    gap, place = edge_gaps(lines, own, vertices, triangles, index)
    worst = int(gap.argmax())
    return float(gap[worst]), float(place[worst, 0]), float(place[worst, 1])


@numba.njit(cache=True, nogil=True)
def _edge_gaps(lines, own, vertices, triangles, west, south, size, columns, rows, starts, members, gap, place):
    seen = np.full(triangles.shape[0], -1, np.int64)
    out = np.zeros((20000, 4))
    for e in range(lines.shape[0]):
        a, b = lines[e, 0], lines[e, 1]
        n = _segment_cuts(
            own[a, 0], own[a, 1], own[b, 0], own[b, 1], e,
            vertices, triangles, west, south, size, columns, rows, starts, members, seen, out, 0,
        )  # fmt: skip
        for i in range(min(n, out.shape[0])):
            z = own[a, 2] + out[i, 0] * (own[b, 2] - own[a, 2])
            if abs(out[i, 3] - z) > gap[e]:
                gap[e] = abs(out[i, 3] - z)
                place[e, 0], place[e, 1], place[e, 2] = out[i, 1], out[i, 2], z


def edge_gaps(
    lines: NDArray[np.int32],
    own: NDArray[np.float64],
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    index: Buckets,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return how far edges of a surface lie from another one at most, where they cross its edges.

    Parameters
    ----------
    lines : (e, 2) int32
        Edges of the first surface, as indices of `own`.

    Returns
    -------
    gap : (e,) float64
    place : (e, 3) float64
        That place on each edge.
    """
    gap, place = np.zeros(len(lines)), np.zeros((len(lines), 3))
    _edge_gaps(
        lines, own, vertices, triangles,
        index.west, index.south, index.size, index.columns, index.rows, index.starts, index.members, gap, place,
    )  # fmt: skip
    return gap, place


def cuts_along(
    line: NDArray[np.float64], vertices: NDArray[np.float64], triangles: NDArray[np.int32], index: Buckets
) -> NDArray[np.float64]:
    """Return where a line crosses triangle edges, (n, 5): segment, share along it, easting, northing, height.

    Sorted along the line; a crossing met from both sides of an edge appears twice.
    """
    line = np.ascontiguousarray(line[:, :2], np.float64)
    capacity = 4096
    while True:
        segment, found, number = _cuts(
            line, vertices, triangles,
            index.west, index.south, index.size, index.columns, index.rows, index.starts, index.members, capacity,
        )  # fmt: skip
        if number <= capacity:
            rows = np.column_stack((segment, found))
            return np.asarray(rows[np.lexsort((rows[:, 1], rows[:, 0]))])
        capacity = number


def covering(
    vertices: NDArray[np.float64], triangles: NDArray[np.int32], index: Buckets, gap: float
) -> NDArray[np.int8]:
    """Return for each triangle whether another lies above (1), below (2) or on both sides (3) of a place inside it.

    Parameters
    ----------
    gap : float
        Vertical distance from which on the other lies apart rather than touching.

    Returns
    -------
    (m,) int8
        0 where the triangle is alone, as in any height field.
    """
    where = (index.west, index.south, index.size, index.columns, index.rows)
    return np.asarray(_covering(vertices, triangles, *where, index.starts, index.members, gap))


@numba.njit(cache=True, nogil=True)
def _covering(vertices, triangles, west, south, size, columns, rows, starts, members, gap):
    out = np.zeros(triangles.shape[0], np.int8)
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        # Uneven weights: the very middle of a face often lies on an edge of the face below.
        x = 0.391 * vertices[a, 0] + 0.334 * vertices[b, 0] + 0.275 * vertices[c, 0]
        y = 0.391 * vertices[a, 1] + 0.334 * vertices[b, 1] + 0.275 * vertices[c, 1]
        z = 0.391 * vertices[a, 2] + 0.334 * vertices[b, 2] + 0.275 * vertices[c, 2]
        column = min(max(int((x - west) / size), 0), columns - 1)
        row = min(max(int((y - south) / size), 0), rows - 1)
        bucket = row * columns + column
        for m in range(starts[bucket], starts[bucket + 1]):
            other = members[m]
            if other == t:
                continue
            p, q, r = triangles[other, 0], triangles[other, 1], triangles[other, 2]
            ux, uy = vertices[q, 0] - vertices[p, 0], vertices[q, 1] - vertices[p, 1]
            vx, vy = vertices[r, 0] - vertices[p, 0], vertices[r, 1] - vertices[p, 1]
            double = ux * vy - uy * vx
            if double == 0.0:
                continue
            px, py = x - vertices[p, 0], y - vertices[p, 1]
            s, u = (px * vy - py * vx) / double, (ux * py - uy * px) / double
            # Clearly inside: beside a shared edge rounding decides nothing.
            if s < 1e-3 or u < 1e-3 or s + u > 1.0 - 1e-3:
                continue
            height = vertices[p, 2] + s * (vertices[q, 2] - vertices[p, 2]) + u * (vertices[r, 2] - vertices[p, 2])
            if height > z + gap:
                out[t] |= 1
            elif height < z - gap:
                out[t] |= 2
    return out


def touched_by(
    line: NDArray[np.float64], vertices: NDArray[np.float64], triangles: NDArray[np.int32], index: Buckets
) -> NDArray[np.bool_]:
    """Return which triangles a line may pass through or touch, (m,) bool: all that do, and perhaps some beside it."""
    out = np.zeros(len(triangles), np.bool_)
    _touched(
        np.ascontiguousarray(line[:, :2], np.float64), vertices, triangles,
        index.west, index.south, index.size, index.columns, index.rows, index.starts, index.members, out,
    )  # fmt: skip
    return out


@numba.njit(cache=True, nogil=True)
def _touched(line, vertices, triangles, west, south, size, columns, rows, starts, members, out):
    for s in range(line.shape[0] - 1):
        ax, ay, bx, by = line[s, 0], line[s, 1], line[s + 1, 0], line[s + 1, 1]
        dx, dy = bx - ax, by - ay
        slack = 1e-9 * (abs(dx) + abs(dy) + size)
        first = max(int(np.floor((min(ay, by) - south - slack) / size)), 0)
        last = min(int(np.floor((max(ay, by) - south + slack) / size)), rows - 1)
        for row in range(first, last + 1):
            low, high = south + row * size - slack, south + (row + 1) * size + slack
            left, right = min(ax, bx), max(ax, bx)
            if dy != 0:
                t0, t1 = (low - ay) / dy, (high - ay) / dy
                t0, t1 = min(max(min(t0, t1), 0.0), 1.0), min(max(max(t0, t1), 0.0), 1.0)
                left, right = min(ax + t0 * dx, ax + t1 * dx), max(ax + t0 * dx, ax + t1 * dx)
            start = max(int(np.floor((left - west - slack) / size)), 0)
            stop = min(int(np.floor((right - west + slack) / size)), columns - 1)
            for column in range(start, stop + 1):
                bucket = row * columns + column
                for m in range(starts[bucket], starts[bucket + 1]):
                    t = members[m]
                    if out[t]:
                        continue
                    x0, x1, y0, y1 = np.inf, -np.inf, np.inf, -np.inf
                    above, below = 0, 0
                    for k in range(3):
                        x, y = vertices[triangles[t, k], 0], vertices[triangles[t, k], 1]
                        x0, x1, y0, y1 = min(x0, x), max(x1, x), min(y0, y), max(y1, y)
                        side = dx * (y - ay) - dy * (x - ax)
                        if side > -slack * (abs(dx) + abs(dy)):
                            above += 1
                        if side < slack * (abs(dx) + abs(dy)):
                            below += 1
                    if (
                        above
                        and below
                        and x0 <= max(ax, bx) + slack
                        and x1 >= min(ax, bx) - slack
                        and y0 <= max(ay, by) + slack
                        and y1 >= min(ay, by) - slack
                    ):
                        out[t] = True
