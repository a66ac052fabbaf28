"""Where many line segments cross each other in plan, and which places lie on them."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


def crossings(a: NDArray[np.float64], b: NDArray[np.float64]) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return pairs of segments that cross or touch, (k, 2), and the shares along both at which they do, (k, 2).

    Parameters
    ----------
    a, b : (n, ≥ 2) float64
        Ends of the segments. Those that follow each other, one's end being the other's beginning, are not pair; nor are
        parallel ones.
    """
    if len(a) < 2:
        return np.zeros((0, 2), np.int64), np.zeros((0, 2))
    low, size, columns, starts, members = sorted_into_cells(a, b)
    p, q = np.ascontiguousarray(a[:, :2] - low), np.ascontiguousarray(b[:, :2] - low)
    room = 1024
    while True:
        pairs, shares = np.zeros((room, 2), np.int64), np.zeros((room, 2))
        count = _pairs(p, q, size, columns, starts, members, pairs, shares)
        if count <= room:
            return pairs[:count], shares[:count]
        room = count


def sorted_into_cells(
    a: NDArray[np.float64], b: NDArray[np.float64]
) -> tuple[NDArray[np.float64], float, int, NDArray[np.int64], NDArray[np.int64]]:
    """Return segments by the cells of a lattice that they touch.

    Returns
    -------
    low : (2,) float64
        South-western corner of the lattice.
    size, columns
        Width of a cell; cells in a row.
    starts : (cells + 1,) int64
        Where the segments of each cell begin in `members`.
    members : (k,) int64
    """
    low = np.minimum(a[:, :2], b[:, :2]).min(axis=0)
    span = np.maximum(np.maximum(a[:, :2], b[:, :2]).max(axis=0) - low, 1e-9)
    # About a cell for each segment, but none smaller than a usual segment: it would stand in many.
    usual = float(np.median(np.abs(b[:, :2] - a[:, :2]).max(axis=1)))
    size = max(float(np.sqrt(span[0] * span[1] / len(a))), usual, float(span.max()) / 4000.0, 1e-9)
    columns, rows = int(span[0] / size) + 1, int(span[1] / size) + 1
    starts = np.zeros(columns * rows + 1, np.int64)
    p, q = np.ascontiguousarray(a[:, :2] - low), np.ascontiguousarray(b[:, :2] - low)
    _sort(p, q, size, columns, rows, starts, np.zeros(0, np.int64), False)
    starts = np.concatenate((np.zeros(1, np.int64), np.cumsum(starts[:-1])))
    members = np.zeros(int(starts[-1]), np.int64)
    _sort(p, q, size, columns, rows, starts.copy(), members, True)
    return low, size, columns, starts, members


@numba.njit(cache=True, nogil=True)
def _sort(p, q, size, columns, rows, slots, members, write):
    for i in range(p.shape[0]):
        first, last = min(p[i, 1], q[i, 1]), max(p[i, 1], q[i, 1])
        r0, r1 = max(int(first / size), 0), min(int(last / size), rows - 1)
        for r in range(r0, r1 + 1):
            # The reach within this row of cells, so that a long slanted segment fills no more than it touches.
            left, right = min(p[i, 0], q[i, 0]), max(p[i, 0], q[i, 0])
            dy = q[i, 1] - p[i, 1]
            if dy != 0.0:
                s0 = min(max((r * size - p[i, 1]) / dy, 0.0), 1.0)
                s1 = min(max(((r + 1) * size - p[i, 1]) / dy, 0.0), 1.0)
                x0, x1 = p[i, 0] + s0 * (q[i, 0] - p[i, 0]), p[i, 0] + s1 * (q[i, 0] - p[i, 0])
                left, right = min(x0, x1), max(x0, x1)
            c0, c1 = max(int(left / size - 1e-9), 0), min(int(right / size + 1e-9), columns - 1)
            for c in range(c0, c1 + 1):
                cell = r * columns + c
                if write:
                    members[slots[cell]] = i
                slots[cell] += 1


@numba.njit(cache=True, nogil=True)
def _pairs(p, q, size, columns, starts, members, pairs, shares):
    count = 0
    for cell in range(starts.shape[0] - 1):
        for m in range(starts[cell], starts[cell + 1]):
            i = members[m]
            for n in range(m + 1, starts[cell + 1]):
                j = members[n]
                if (q[i, 0] == p[j, 0] and q[i, 1] == p[j, 1]) or (q[j, 0] == p[i, 0] and q[j, 1] == p[i, 1]):
                    continue
                ux, uy = q[i, 0] - p[i, 0], q[i, 1] - p[i, 1]
                vx, vy = q[j, 0] - p[j, 0], q[j, 1] - p[j, 1]
                wide = ux * vy - uy * vx
                if abs(wide) < 1e-12:
                    continue
                wx, wy = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1]
                s, t = (wx * vy - wy * vx) / wide, (wx * uy - wy * ux) / wide
                if not (-1e-9 <= s <= 1 + 1e-9 and -1e-9 <= t <= 1 + 1e-9):
                    continue
                # Two segments may meet in the lists of many cells; the pair belongs to the one where they cross.
                x, y = p[i, 0] + s * ux, p[i, 1] + s * uy
                row, column = cell // columns, cell % columns
                if max(int(x / size), 0) != column or max(int(y / size), 0) != row:
                    continue
                if count < pairs.shape[0]:
                    pairs[count, 0], pairs[count, 1] = min(i, j), max(i, j)
                    shares[count, 0], shares[count, 1] = (s, t) if i < j else (t, s)
                count += 1
    return count


def on_segments(
    xy: NDArray[np.float64], a: NDArray[np.float64], b: NDArray[np.float64], tolerance: float
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Return which places lie on the interior of which segments, (k, 2) place and segment, and their shares along.

    Parameters
    ----------
    xy : (n, ≥ 2) float64
        Places.
    a, b : (m, ≥ 2) float64
        Ends of the segments; a place closer to an end than `tolerance` is that end.
    tolerance : float
        Distance from the segment up to which a place lies on it.

    Returns
    -------
    pairs : (k, 2) int64
        Ordered by segment.
    shares : (k,) float64
    """
    none = np.zeros((0, 2), np.int64), np.zeros(0)
    if len(xy) == 0 or len(a) == 0:
        return none
    low = xy[:, :2].min(axis=0)
    span = np.maximum(np.ptp(xy[:, :2], axis=0), 1e-9)
    size = max(float(np.sqrt(span[0] * span[1] / len(xy))), float(span.max()) / 4000.0, 4.0 * tolerance)
    columns, rows = int(span[0] / size) + 1, int(span[1] / size) + 1
    local = np.ascontiguousarray(xy[:, :2] - low)
    cell = np.minimum((local[:, 1] / size).astype(np.int64), rows - 1) * columns
    cell += np.minimum((local[:, 0] / size).astype(np.int64), columns - 1)
    order = np.argsort(cell, kind="stable")
    starts = np.searchsorted(cell[order], np.arange(columns * rows + 1))
    p, q = np.ascontiguousarray(a[:, :2] - low), np.ascontiguousarray(b[:, :2] - low)
    room = 1024
    while True:
        pairs, shares = np.zeros((room, 2), np.int64), np.zeros(room)
        count = _touching(local, order, starts, p, q, size, columns, rows, tolerance, pairs, shares)
        if count <= room:
            return pairs[:count].copy(), shares[:count].copy()
        room = count


@numba.njit(cache=True, nogil=True)
def _touching(xy, order, starts, p, q, size, columns, rows, tolerance, pairs, shares):
    count = 0
    for i in range(p.shape[0]):
        ux, uy = q[i, 0] - p[i, 0], q[i, 1] - p[i, 1]
        length = np.hypot(ux, uy)
        if length == 0.0:
            continue
        r0 = max(int(np.floor((min(p[i, 1], q[i, 1]) - tolerance) / size)), 0)
        r1 = min(int(np.floor((max(p[i, 1], q[i, 1]) + tolerance) / size)), rows - 1)
        for r in range(r0, r1 + 1):
            left, right = min(p[i, 0], q[i, 0]), max(p[i, 0], q[i, 0])
            if uy != 0.0:
                s0 = min(max((r * size - tolerance - p[i, 1]) / uy, 0.0), 1.0)
                s1 = min(max(((r + 1) * size + tolerance - p[i, 1]) / uy, 0.0), 1.0)
                left, right = min(p[i, 0] + s0 * ux, p[i, 0] + s1 * ux), max(p[i, 0] + s0 * ux, p[i, 0] + s1 * ux)
            c0 = max(int(np.floor((left - tolerance) / size - 1e-9)), 0)
            c1 = min(int(np.floor((right + tolerance) / size + 1e-9)), columns - 1)
            for c in range(c0, c1 + 1):
                cell = r * columns + c
                for m in range(starts[cell], starts[cell + 1]):
                    k = order[m]
                    wx, wy = xy[k, 0] - p[i, 0], xy[k, 1] - p[i, 1]
                    share = (wx * ux + wy * uy) / (length * length)
                    if not 0.0 < share < 1.0:
                        continue
                    if abs(wx * uy - wy * ux) > tolerance * length:
                        continue
                    # An end of the segment, or a place that counts as one, is no place on its interior.
                    if np.hypot(wx, wy) <= tolerance or np.hypot(xy[k, 0] - q[i, 0], xy[k, 1] - q[i, 1]) <= tolerance:
                        continue
                    if count < pairs.shape[0]:
                        pairs[count, 0], pairs[count, 1], shares[count] = k, i, share
                    count += 1
    return count
