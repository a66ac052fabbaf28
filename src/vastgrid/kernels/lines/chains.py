"""Chains of edges: rims of lattices and of triangles, and what of them is needed to keep their course in plan."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

# A straight run is looked at again from its beginning for every vertex; longer ones are parted.
LONGEST_RUN = 400


@numba.njit(cache=True, nogil=True)
def lattice_rim(heights):
    """Return the rim of the ground that `raster.lattice_triangles` covers, (e, 2) int64 pairs of cells (row-major)."""
    rows, columns = heights.shape
    # For each four neighbouring centres: 15 where all have heights, the bit of the missing one taken off where three do.
    code = np.zeros((rows + 1, columns + 1), np.uint8)
    number = 0
    for r in range(rows - 1):
        for c in range(columns - 1):
            bits = 0
            gaps = 0
            for j in range(4):
                if np.isnan(heights[r + j // 2, c + j % 2]):
                    gaps += 1
                else:
                    bits |= 1 << j
            if gaps <= 1:
                code[r + 1, c + 1] = bits
    for turn in range(2):
        out = np.zeros((number, 2), np.int64)
        number = 0
        for r in range(rows):
            for c in range(columns):
                here = r * columns + c
                # The edge to the east: above it corners 2 and 3 of one square, below it 0 and 1 of the other.
                if c + 1 < columns:
                    above, below = (code[r, c + 1] & 12) == 12, (code[r + 1, c + 1] & 3) == 3
                    if above != below:
                        if turn:
                            out[number, 0], out[number, 1] = here, here + 1
                        number += 1
                if r + 1 < rows:
                    west, east = (code[r + 1, c] & 10) == 10, (code[r + 1, c + 1] & 5) == 5
                    if west != east:
                        if turn:
                            out[number, 0], out[number, 1] = here, here + columns
                        number += 1
                    bits = code[r + 1, c + 1]
                    if bits in (14, 7):
                        if turn:
                            out[number, 0], out[number, 1] = here + 1, here + columns
                        number += 1
                    elif bits in (13, 11):
                        if turn:
                            out[number, 0], out[number, 1] = here, here + columns + 1
                        number += 1
    return out


def straightened(
    xy: NDArray[np.float64],
    pairs: NDArray[np.int64],
    near: float,
    z: NDArray[np.float64] | None = None,
    far: float = np.inf,
    stay: NDArray[np.int64] | None = None,
) -> NDArray[np.int64]:
    """Return chains of edges without the vertices that a straight way passes anyway, as pairs of vertices.

    Vertices where a chain ends, turns or meets another stay.

    Parameters
    ----------
    pairs : (e, 2) int64
        Edges, each once.
    near : float
        How far the vertices left out may lie from the straight way in plan.
    z, far : (n,) float64 or None, float
        Their heights, and how far those of vertices left out may lie from it.
    stay : (k,) int64 or None
        Vertices that stay in any case.
    """
    if len(pairs) == 0:
        return pairs
    count = len(xy)
    ends = np.concatenate((pairs[:, 0], pairs[:, 1]))
    degree = np.bincount(ends, minlength=count)
    order = np.argsort(ends, kind="stable")
    starts = np.concatenate(([0], np.cumsum(degree)))
    number = len(pairs)
    if stay is not None:
        # As if more edges met there.
        degree[stay] = np.where(degree[stay] > 0, 99, 0)
    own = np.zeros(count) if z is None else np.ascontiguousarray(z)
    return np.asarray(
        _straightened(
            np.ascontiguousarray(xy), own, pairs, order % number, starts, degree, near, float(far), LONGEST_RUN
        )
    )


@numba.njit(cache=True, nogil=True)
def _straightened(xy, z, pairs, order, starts, degree, near, far, longest):
    used = np.zeros(pairs.shape[0], np.bool_)
    out = np.zeros(pairs.shape, np.int64)
    run = np.zeros(longest + 1, np.int64)
    n = 0
    # First from vertices that stay in any case, then from turns, then from anywhere on what is left.
    for turn in range(3):
        for v in range(starts.shape[0] - 1):
            if degree[v] == 0 or (turn == 0 and degree[v] == 2):
                continue
            if turn == 1 and degree[v] == 2:
                first, second = order[starts[v]], order[starts[v] + 1]
                a = pairs[first, 0] + pairs[first, 1] - v
                b = pairs[second, 0] + pairs[second, 1] - v
                dx, dy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
                length = np.sqrt(dx * dx + dy * dy)
                if length > 0.0 and abs((xy[v, 0] - xy[a, 0]) * dy - (xy[v, 1] - xy[a, 1]) * dx) <= near * length:
                    continue
            for slot in range(starts[v], starts[v + 1]):
                edge = order[slot]
                if used[edge]:
                    continue
                start, last = v, v
                passed = 0
                here = v
                while True:
                    used[edge] = True
                    ahead = pairs[edge, 0] + pairs[edge, 1] - here
                    # May the straight way go on to `ahead`?
                    dx, dy = xy[ahead, 0] - xy[start, 0], xy[ahead, 1] - xy[start, 1]
                    length = np.sqrt(dx * dx + dy * dy)
                    straight = passed < longest and length > 0.0
                    if straight:
                        before = 0.0
                        for i in range(passed):
                            px, py = xy[run[i], 0] - xy[start, 0], xy[run[i], 1] - xy[start, 1]
                            along = (px * dx + py * dy) / length
                            if abs(px * dy - py * dx) > near * length or along <= before or along >= length:
                                straight = False
                                break
                            if abs(z[start] + along / length * (z[ahead] - z[start]) - z[run[i]]) > far:
                                straight = False
                                break
                            before = along
                    if not straight:
                        out[n, 0], out[n, 1] = start, last
                        n += 1
                        start, passed = last, 0
                    last = ahead
                    run[passed] = ahead
                    passed += 1
                    if degree[ahead] != 2:
                        break
                    following = -1
                    for other in range(starts[ahead], starts[ahead + 1]):
                        if not used[order[other]]:
                            following = order[other]
                    if following < 0:
                        break
                    here, edge = ahead, following
                if last != start:
                    out[n, 0], out[n, 1] = start, last
                    n += 1
    return out[:n].copy()


@numba.njit(cache=True, nogil=True)
def marked_tiles(low, high, which, west, south, size, tiles):
    """Return a summed table of the tiles that some boxes lie on, (tiles + 2, tiles + 2) int32.

    Parameters
    ----------
    low, high : (b, 2) float64
        Corners of boxes; `which` of them are meant.
    """
    sums = np.zeros((tiles + 2, tiles + 2), np.int32)
    for i in which:
        x0, x1 = _tile(low[i, 0], west, size, tiles), _tile(high[i, 0], west, size, tiles)
        y0, y1 = _tile(low[i, 1], south, size, tiles), _tile(high[i, 1], south, size, tiles)
        sums[x0 + 1, y0 + 1] += 1
        if x1 + 2 < tiles + 2:
            sums[x1 + 2, y0 + 1] -= 1
        if y1 + 2 < tiles + 2:
            sums[x0 + 1, y1 + 2] -= 1
        if x1 + 2 < tiles + 2 and y1 + 2 < tiles + 2:
            sums[x1 + 2, y1 + 2] += 1
    for turn in range(2):
        for x in range(1, tiles + 2):
            for y in range(1, tiles + 2):
                sums[x, y] += sums[x - 1, y] + sums[x, y - 1] - sums[x - 1, y - 1]
        if turn == 0:
            # How many boxes lie on a tile becomes whether any does, and is summed once more.
            for x in range(1, tiles + 2):
                for y in range(1, tiles + 2):
                    sums[x, y] = 1 if sums[x, y] > 0 else 0
    return sums


@numba.njit(cache=True, nogil=True)
def on_tiles(low, high, sums, west, south, size, tiles):
    """Return which boxes lie on a marked tile."""
    out = np.zeros(low.shape[0], np.bool_)
    for i in range(low.shape[0]):
        x0, x1 = _tile(low[i, 0], west, size, tiles), _tile(high[i, 0], west, size, tiles) + 1
        y0, y1 = _tile(low[i, 1], south, size, tiles), _tile(high[i, 1], south, size, tiles) + 1
        out[i] = sums[x1, y1] - sums[x0, y1] - sums[x1, y0] + sums[x0, y0] > 0
    return out


@numba.njit(cache=True, nogil=True)
def _tile(value, begin, size, tiles):
    return min(max(int((value - begin) / size), 0), tiles)


@numba.njit(cache=True, nogil=True)
def boxes_of(xy, figures, count):
    """Return the corners of the boxes around edges or triangles given by vertices, (count, 2) and (count, 2) float64."""
    low, high = np.zeros((count, 2)), np.zeros((count, 2))
    for i in range(count):
        for axis in range(2):
            low[i, axis] = high[i, axis] = xy[figures[i, 0], axis]
            for k in range(1, figures.shape[1]):
                value = xy[figures[i, k], axis]
                low[i, axis], high[i, axis] = min(low[i, axis], value), max(high[i, axis], value)
    return low, high
