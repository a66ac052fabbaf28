"""Level lines of a regular grid, cell by cell between four centres (marching squares), chained."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.lines.isolines import put


def grid_isolines(
    heights: NDArray[np.float64],
    west: float,
    north: float,
    dx: float,
    dy: float,
    levels: NDArray[np.float64],
    top: int = 0,
    left: int = 0,
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
    """Return the level lines of a grid, higher ground on their left; see `isolines.isolines`.

    Four centres that alternate are joined as their mean says. Where one of four has no height, the triangle of the
    other three is crossed; where more have none, nothing is.

    Parameters
    ----------
    heights : (rows, columns) float64
        Row 0 is the northernmost; NaN where there is no height.
    west, north : float
        Centre of the lattice's north-western cell.
    levels : (k,) float64
        Ascending.
    top, left : int
        Row and column of the lattice that come first here: a part has the places of the whole, to the last bit.

    Returns
    -------
    plan, offsets, level
        As `isolines` gives them.
    node : (n,) bool
        Which vertices stand exactly on a cell's centre.
    """
    rows, columns = heights.shape
    if rows < 2 or columns < 2 or len(levels) == 0:
        return np.zeros((0, 2)), np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.bool_)
    rank = np.searchsorted(levels, heights.ravel(), side="right").astype(np.int32).reshape(heights.shape)
    rank[np.isnan(heights)] = -1
    starts, members = _by_level(rank, len(levels))
    plan, offsets, level, node, lines, points = _chain(
        heights, rank, levels, starts, members, west, north, dx, dy, top, left
    )
    return plan[:points].copy(), offsets[: lines + 1].copy(), level[:lines].copy(), node[:points].copy()


@numba.njit(cache=True, nogil=True)
def _by_level(rank, count):
    rows, columns = rank.shape
    starts = np.zeros(count + 1, np.int64)
    for write in range(2):
        if write:
            for k in range(count):
                starts[k + 1] += starts[k]
            members = np.zeros(starts[count], np.int64)
            slot = starts[:-1].copy()
        for r in range(rows - 1):
            for c in range(columns - 1):
                low, high, gone = np.int32(2147483647), np.int32(-1), 0
                for v in (rank[r, c], rank[r, c + 1], rank[r + 1, c + 1], rank[r + 1, c]):
                    if v < 0:
                        gone += 1
                    else:
                        low, high = min(low, v), max(high, v)
                if gone > 1:
                    continue
                for k in range(low, high):
                    if write:
                        members[slot[k]] = r * columns + c
                        slot[k] += 1
                    else:
                        starts[k + 1] += 1
    return starts, members


@numba.njit(cache=True, nogil=True)
def _chain(heights, rank, levels, starts, members, west, north, dx, dy, top, left):
    rows, columns = heights.shape
    cells = rows * columns
    total = members.shape[0]
    plan = np.zeros((4 * total + 1, 2))
    node = np.zeros(4 * total + 1, np.bool_)
    offsets = np.zeros(2 * total + 2, np.int64)
    line_level = np.zeros(2 * total + 1, np.int64)
    # Edges by number: along a row, along a column, across a cell of three. What follows on an edge, for this level.
    follows = np.full(3 * cells, -1, np.int64)
    entered = np.zeros(3 * cells, np.bool_)
    points = lines = 0
    corner = np.zeros(4, np.int64)
    edge = np.zeros(4, np.int64)
    for k in range(levels.shape[0]):
        level = levels[k]
        begins = np.zeros(2 * (starts[k + 1] - starts[k]), np.int64)
        number = 0
        for m in range(starts[k], starts[k + 1]):
            cell = members[m]
            # Counter-clockwise from the south-west, so that a line enters over an edge that goes from above to below.
            sw, se, ne, nw = cell + columns, cell + columns + 1, cell + 1, cell
            south, east, north_edge, west_edge = sw, cells + ne, nw, cells + nw
            n = 0
            for a, e in ((sw, south), (se, east), (ne, north_edge), (nw, west_edge)):
                if rank[a // columns, a % columns] >= 0:
                    corner[n], edge[n] = a, e
                    n += 1
                elif n > 0:
                    edge[n - 1] = 2 * cells + cell
                else:
                    edge[3] = -9
            if n == 3 and rank[sw // columns, sw % columns] < 0:
                edge[2] = 2 * cells + cell
            ups = 0
            for i in range(n):
                ups += rank[corner[i] // columns, corner[i] % columns] > k
            crossings = 0
            for i in range(n):
                a, b = corner[i], corner[(i + 1) % n]
                crossings += (rank[a // columns, a % columns] > k) != (rank[b // columns, b % columns] > k)
            if crossings == 0:
                continue
            high = True
            if crossings == 4:
                mean = (
                    heights[corner[0] // columns, corner[0] % columns]
                    + heights[corner[1] // columns, corner[1] % columns]
                    + heights[corner[2] // columns, corner[2] % columns]
                    + heights[corner[3] // columns, corner[3] % columns]
                ) / 4.0
                high = mean >= level
            for i in range(n):
                a, b = corner[i], corner[(i + 1) % n]
                if not (rank[a // columns, a % columns] > k and not rank[b // columns, b % columns] > k):
                    continue
                # With high ground on its left a line leaves at the next edge, unless the middle joins the high corners:
                # then it turns round the low corner that it has just passed.
                j = i
                for step in range(1, n):
                    j = (i + step) % n if high or crossings == 2 else (i - step) % n
                    p, q = corner[j], corner[(j + 1) % n]
                    if not rank[p // columns, p % columns] > k and rank[q // columns, q % columns] > k:
                        break
                follows[edge[i]] = edge[j]
                entered[edge[j]] = True
                begins[number] = edge[i]
                number += 1
        # First the lines that begin at the rim, then the rings.
        for ring in range(2):
            for m in range(number):
                start = begins[m]
                if follows[start] < 0 or (ring == 0 and entered[start]):
                    continue
                begin = points
                at = start
                while at >= 0:
                    x, y, on = _place(at, heights, level, west, north, dx, dy, top, left, cells, columns, rank)
                    points = put(plan, node, begin, points, x, y, on)
                    following = follows[at]
                    follows[at] = -1
                    entered[at] = False
                    if following < 0:
                        break
                    at = following
                if points - begin < 2:
                    points = begin
                    continue
                lines += 1
                offsets[lines] = points
                line_level[lines - 1] = k
    return plan, offsets, line_level, node, lines, points


@numba.njit(cache=True, nogil=True)
def _place(edge, heights, level, west, north, dx, dy, top, left, cells, columns, rank):
    kind, cell = edge // cells, edge % cells
    r, c = cell // columns, cell % columns
    if kind == 0:
        r1, c1 = r, c + 1
    elif kind == 1:
        r1, c1 = r + 1, c
    elif rank[r, c] < 0 or rank[r + 1, c + 1] < 0:
        # Across the cell of three, from the one corner beside the gap to the other.
        r, c, r1, c1 = r + 1, c, r, c + 1
    else:
        r1, c1 = r + 1, c + 1
    za, zb = heights[r, c], heights[r1, c1]
    on = za == level or zb == level
    share = 0.0 if za == level else (1.0 if zb == level else (level - za) / (zb - za))
    # An end is the very centre, from whichever edge it is met.
    if share == 0.0:
        x, y = west + (left + c) * dx, north - (top + r) * dy
    elif share == 1.0:
        x, y = west + (left + c1) * dx, north - (top + r1) * dy
    else:
        x = west + (left + c + share * (c1 - c)) * dx
        y = north - (top + r + share * (r1 - r)) * dy
    return x, y, on
