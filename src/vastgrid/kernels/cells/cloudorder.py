"""Putting a cloud in order for looking at it: tile by tile, and coarse to fine within each tile."""

from __future__ import annotations

import numba
import numpy as np

# A tile is told apart into 2^LEVELS × 2^LEVELS cells; finer than that all its points are drawn.
LEVELS = 9


@numba.njit(cache=True, nogil=True)
def count_tiles(xyz, west, south, size, columns, rows, counts):
    """Add to `counts` how many points lie in each tile; points that are not finite count nowhere."""
    for i in range(xyz.shape[0]):
        if not (np.isfinite(xyz[i, 0]) and np.isfinite(xyz[i, 1]) and np.isfinite(xyz[i, 2])):
            continue
        column = min(max(int((xyz[i, 0] - west) / size), 0), columns - 1)
        row = min(max(int((xyz[i, 1] - south) / size), 0), rows - 1)
        counts[row * columns + column] += 1


@numba.njit(cache=True, nogil=True)
def scatter(xyz, first, west, south, low, size, columns, rows, cursor, out, rows_out):
    """Write points behind each other into the stretches of their tiles.

    Parameters
    ----------
    xyz : (n, 3) float64
        Points.
    first : int
        Which of the cloud's points the first of these is.
    west, south, low : float
        Origin that is taken off, so that single precision keeps millimetres.
    cursor : (tiles,) int64
        Where each tile's next point goes; moved on.
    out : (total, 3) float32
        All points, tile after tile.
    rows_out : (total,) uint32
        Which of the cloud's points each is: the way to its attributes.
    """
    for i in range(xyz.shape[0]):
        if not (np.isfinite(xyz[i, 0]) and np.isfinite(xyz[i, 1]) and np.isfinite(xyz[i, 2])):
            continue
        column = min(max(int((xyz[i, 0] - west) / size), 0), columns - 1)
        row = min(max(int((xyz[i, 1] - south) / size), 0), rows - 1)
        tile = row * columns + column
        at = cursor[tile]
        out[at, 0] = xyz[i, 0] - west
        out[at, 1] = xyz[i, 1] - south
        out[at, 2] = xyz[i, 2] - low
        rows_out[at] = first + i
        cursor[tile] = at + 1


@numba.njit(cache=True, nogil=True)
def coarse_to_fine(points, rows, x0, y0, size):
    """Order a tile's points, and their row numbers, in place, so that any beginning of them covers it evenly; return where each level ends.

    A point belongs to the coarsest level at which it is the first in its cell; points are met in a scrambled order,
    so that none of the file's own order shows.

    Returns
    -------
    ends : (LEVELS + 2,) int64
        Points up to and with level k are ``points[:ends[k]]``; the last end is all of them.
    """
    n = points.shape[0]
    total = 0
    for level in range(LEVELS + 1):
        total += 1 << (2 * level)
    taken = np.zeros(total, np.bool_)
    level_of = np.zeros(n, np.uint8)
    step = int(max(n * 0.6180339887, 1.0))
    while n > 1 and _divisor(step, n) != 1:
        step += 1
    i = 0
    for _ in range(n):
        u = min(max((points[i, 0] - x0) / size, 0.0), 0.9999999)
        v = min(max((points[i, 1] - y0) / size, 0.0), 0.9999999)
        base = 0
        found = LEVELS + 1
        for level in range(LEVELS + 1):
            wide = 1 << level
            cell = base + int(v * wide) * wide + int(u * wide)
            if not taken[cell]:
                taken[cell] = True
                found = min(found, level)
            base += wide * wide
        level_of[i] = found
        i = (i + step) % n
    ends = np.zeros(LEVELS + 2, np.int64)
    for i in range(n):
        ends[level_of[i]] += 1
    for k in range(1, LEVELS + 2):
        ends[k] += ends[k - 1]
    place = np.zeros(LEVELS + 2, np.int64)
    place[1:] = ends[:-1]
    ordered, ordered_rows = np.zeros_like(points), np.zeros_like(rows)
    for i in range(n):
        k = level_of[i]
        ordered[place[k]] = points[i]
        ordered_rows[place[k]] = rows[i]
        place[k] += 1
    points[:] = ordered
    rows[:] = ordered_rows
    return ends


@numba.njit(cache=True, nogil=True)
def _divisor(a, b):
    while b:
        a, b = b, a % b
    return a
