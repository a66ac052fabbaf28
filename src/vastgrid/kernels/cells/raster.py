"""Heights on a lattice: triangles drawn row by row, and bilinear reading back."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


def raster_heights(
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    corner: tuple[float, float],
    cell: tuple[float, float],
    shape: tuple[int, int],
) -> NDArray[np.float64]:
    """Return the height of the surface at every cell centre, (rows, columns) float64, NaN outside.

    Parameters
    ----------
    corner : (west, north)
        Outer corner of the first cell; row 0 is the northernmost.
    cell : (dx, dy)
        Cell size, both positive.
    shape : (rows, columns)
        Size of the result.
    """
    out = np.full(shape, np.nan)
    _raster(vertices, triangles, corner[0], corner[1], cell[0], cell[1], out)
    return out


# Share of a cell that is nothing: coordinates of millions, in cells of decimetres, are off by a tenth of it.
_ROUNDING = 1e-7


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _raster(vertices, triangles, west, north, dx, dy, out):
    rows, columns = out.shape
    # Cell units, centres at whole numbers, rows downwards; the slack closes gaps along shared edges.
    slack = 1e-9
    ox, oy = west + 0.5 * dx, north - 0.5 * dy
    ix, iy = 1.0 / dx, -1.0 / dy
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        y0, y1, y2 = (vertices[a, 1] - oy) * iy, (vertices[b, 1] - oy) * iy, (vertices[c, 1] - oy) * iy
        top, bottom = min(y0, y1, y2), max(y0, y1, y2)
        first, last = max(int(np.ceil(top - slack)), 0), min(int(np.floor(bottom + slack)), rows - 1)
        if first > last:
            continue
        x0, x1, x2 = (vertices[a, 0] - ox) * ix, (vertices[b, 0] - ox) * ix, (vertices[c, 0] - ox) * ix
        left, right = min(x0, x1, x2), max(x0, x1, x2)
        if right < -slack or left > columns - 1 + slack or np.ceil(left - slack) > np.floor(right + slack):
            continue
        ux, uy, vx, vy = x1 - x0, y1 - y0, x2 - x0, y2 - y0
        double = ux * vy - uy * vx
        if double == 0:
            continue
        z0 = vertices[a, 2]
        uz, vz = vertices[b, 2] - z0, vertices[c, 2] - z0
        zx, zy = (uz * vy - vz * uy) / double, (vz * ux - uz * vx) / double
        for row in range(first, last + 1):
            y = min(max(float(row), top), bottom)
            lo, hi = np.inf, -np.inf
            if min(y0, y1) <= y <= max(y0, y1) and y0 != y1:
                x = x0 + (y - y0) / (y1 - y0) * (x1 - x0)
                lo, hi = min(lo, x), max(hi, x)
            if min(y1, y2) <= y <= max(y1, y2) and y1 != y2:
                x = x1 + (y - y1) / (y2 - y1) * (x2 - x1)
                lo, hi = min(lo, x), max(hi, x)
            if min(y2, y0) <= y <= max(y2, y0) and y2 != y0:
                x = x2 + (y - y2) / (y0 - y2) * (x0 - x2)
                lo, hi = min(lo, x), max(hi, x)
            start, stop = max(int(np.ceil(lo - slack)), 0), min(int(np.floor(hi + slack)), columns - 1)
            for column in range(start, stop + 1):
                out[row, column] = z0 + (column - x0) * zx + (row - y0) * zy


def raster_faces(
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    corner: tuple[float, float],
    cell: tuple[float, float],
    shape: tuple[int, int],
    values: NDArray[np.float64],
) -> NDArray[np.float64]:
    """Return the value of the face under every cell centre, (rows, columns) float64, NaN outside.

    Parameters
    ----------
    corner, cell, shape
        As in `raster_heights`.
    values : (m,) float64
        One for each triangle.
    """
    out = np.full(shape, np.nan)
    _faces(vertices, triangles, corner[0], corner[1], cell[0], cell[1], values, out)
    return out


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _faces(vertices, triangles, west, north, dx, dy, values, out):
    rows, columns = out.shape
    ox, oy = west + 0.5 * dx, north - 0.5 * dy
    ix, iy = 1.0 / dx, -1.0 / dy
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        y0, y1, y2 = (vertices[a, 1] - oy) * iy, (vertices[b, 1] - oy) * iy, (vertices[c, 1] - oy) * iy
        first, last = max(int(np.ceil(min(y0, y1, y2))), 0), min(int(np.floor(max(y0, y1, y2))), rows - 1)
        if first > last:
            continue
        x0, x1, x2 = (vertices[a, 0] - ox) * ix, (vertices[b, 0] - ox) * ix, (vertices[c, 0] - ox) * ix
        if max(x0, x1, x2) < 0 or min(x0, x1, x2) > columns - 1:
            continue
        for row in range(first, last + 1):
            y = float(row)
            lo, hi = np.inf, -np.inf
            for p, q, r, s in ((x0, y0, x1, y1), (x1, y1, x2, y2), (x2, y2, x0, y0)):
                if min(q, s) <= y <= max(q, s) and q != s:
                    x = p + (y - q) / (s - q) * (r - p)
                    lo, hi = min(lo, x), max(hi, x)
            for column in range(max(int(np.ceil(lo - 1e-9)), 0), min(int(np.floor(hi + 1e-9)), columns - 1) + 1):
                out[row, column] = values[t]


@numba.njit(cache=True, nogil=True)
def bilinear_at(heights, c, r):
    """Return the bilinear height at one place in fractional cell indices; see `bilinear`."""
    rows, columns = heights.shape
    # A place on the outermost centres may be off by a rounding: of coordinates of millions, in cells of decimetres.
    if not (c >= -_ROUNDING and r >= -_ROUNDING and c <= columns - 1 + _ROUNDING and r <= rows - 1 + _ROUNDING):
        return np.nan
    c, r = min(max(c, 0.0), columns - 1.0), min(max(r, 0.0), rows - 1.0)
    j, k = min(int(c), max(columns - 2, 0)), min(int(r), max(rows - 2, 0))
    fc, fr = c - j, r - k
    # As good as on a centre: what lies beside it, perhaps nothing, must not count for a rounding.
    fc = 0.0 if fc < _ROUNDING else (1.0 if fc > 1.0 - _ROUNDING else fc)
    fr = 0.0 if fr < _ROUNDING else (1.0 if fr > 1.0 - _ROUNDING else fr)
    j1, k1 = min(j + 1, columns - 1), min(k + 1, rows - 1)
    value = 0.0
    if (1 - fc) * (1 - fr) > 0:
        value += (1 - fc) * (1 - fr) * heights[k, j]
    if fc * (1 - fr) > 0:
        value += fc * (1 - fr) * heights[k, j1]
    if (1 - fc) * fr > 0:
        value += (1 - fc) * fr * heights[k1, j]
    if fc * fr > 0:
        value += fc * fr * heights[k1, j1]
    return value


@numba.njit(cache=True, nogil=True)
def bilinear(heights, column, row):
    """Return bilinear heights at fractional cell indices (centres at whole numbers); NaN outside or beside a gap."""
    out = np.full(column.shape[0], np.nan)
    for i in range(column.shape[0]):
        out[i] = bilinear_at(heights, column[i], row[i])
    return out


@numba.njit(cache=True, nogil=True)
def lattice_triangles_like(heights, guide):
    """Return the triangles between a grid's cell centres, (m, 3) int32 numbers of cells (row-major).

    Four neighbouring centres give two triangles, split along the diagonal on which the heights of a guide of the same
    shape differ less, its own where that has none; three give one; cells without a height give none. Counter-clockwise
    with row 0 in the north.
    """
    rows, columns = heights.shape
    out = np.zeros((2 * max(rows - 1, 0) * max(columns - 1, 0), 3), np.int32)
    n = 0
    for r in range(rows - 1):
        for c in range(columns - 1):
            nw, ne, sw, se = r * columns + c, r * columns + c + 1, (r + 1) * columns + c, (r + 1) * columns + c + 1
            a, b, d, e = heights[r, c], heights[r, c + 1], heights[r + 1, c], heights[r + 1, c + 1]
            gaps = int(np.isnan(a)) + int(np.isnan(b)) + int(np.isnan(d)) + int(np.isnan(e))
            if gaps > 1:
                continue
            falling, rising = abs(guide[r, c + 1] - guide[r + 1, c]), abs(guide[r, c] - guide[r + 1, c + 1])
            if np.isnan(falling) or np.isnan(rising):
                falling, rising = abs(b - d), abs(a - e)
            if np.isnan(a) or np.isnan(e) or (gaps == 0 and falling <= rising):
                if not np.isnan(a):
                    out[n, 0], out[n, 1], out[n, 2] = nw, sw, ne
                    n += 1
                if not np.isnan(e):
                    out[n, 0], out[n, 1], out[n, 2] = ne, sw, se
                    n += 1
            else:
                if not np.isnan(d):
                    out[n, 0], out[n, 1], out[n, 2] = nw, sw, se
                    n += 1
                if not np.isnan(b):
                    out[n, 0], out[n, 1], out[n, 2] = nw, se, ne
                    n += 1
    return out[:n].copy()


@numba.njit(cache=True, nogil=True)
def lattice_triangles(heights):
    """Return the triangles between a grid's cell centres; see `lattice_triangles_like`, like itself."""
    return lattice_triangles_like(heights, heights)


@numba.njit(cache=True, nogil=True)
def gap_sizes(made, heights):
    """Compare heights, both (n,), where both are known.

    Returns
    -------
    size : (k,) float64
        How far apart they are, without sign.
    total, squares : float
        Sums of the differences and of their squares.
    worst : int
        Where they are farthest apart; -1 where nothing could be compared.
    """
    size = np.zeros(made.shape[0])
    k = 0
    total, squares, largest = 0.0, 0.0, -1.0
    worst = -1
    for i in range(made.shape[0]):
        gap = made[i] - heights[i]
        if np.isfinite(gap):
            far = abs(gap)
            size[k] = far
            k += 1
            total += gap
            squares += gap * gap
            if far > largest:
                largest, worst = far, i
    return size[:k], total, squares, worst


@numba.njit(cache=True, nogil=True)
def gaps_of_points(xyz, keep, heights, west, north, dx, dy, sizes):
    """Compare points with a grid, bilinear between its centres.

    Parameters
    ----------
    xyz : (n, 3) float64
    keep : (n,) bool
        Which points count; of no length where all do.
    west, north : float
        Centre of the north-western cell.
    sizes : (n,) float32
        Written to: how far each lies from the grid, without sign; NaN where it cannot be told.

    Returns
    -------
    number : int
        How many could be compared.
    total, squares : float
        Sums of the differences, grid minus point, and of their squares.
    worst : int
        The point farthest from the grid; -1 where none could be compared.
    largest : float
        How far that is.
    """
    number, worst = 0, -1
    total, squares, largest = 0.0, 0.0, -1.0
    every = keep.shape[0] == 0
    for i in range(xyz.shape[0]):
        sizes[i] = np.nan
        if not (every or keep[i]):
            continue
        gap = bilinear_at(heights, (xyz[i, 0] - west) / dx, (north - xyz[i, 1]) / dy) - xyz[i, 2]
        if np.isfinite(gap):
            number += 1
            total += gap
            squares += gap * gap
            far = abs(gap)
            sizes[i] = far
            if far > largest:
                largest, worst = far, i
    return number, total, squares, worst, largest


@numba.njit(cache=True, nogil=True)
def gaps_in_box(xyz, keep, heights, west, north, dx, dy, left, bottom, right, top, least, step, sizes):
    """Compare points in a box with a grid, and count their differences by classes of size; see `gaps_of_points`.

    Parameters
    ----------
    left, bottom, right, top : float
        The box; its western and southern sides belong to it.
    least, step : float
        The first class ends here; each one after is so many times as large.
    sizes : (k,) int64
        Added to.

    Returns
    -------
    wanted : int
        How many points with a height lie in the box.
    number, total, squares, worst, largest
        As of `gaps_of_points`.
    """
    wanted, number, worst = 0, 0, -1
    total, squares, largest = 0.0, 0.0, -1.0
    every = keep.shape[0] == 0
    wide = np.log(step)
    for i in range(xyz.shape[0]):
        if not (left <= xyz[i, 0] < right and bottom <= xyz[i, 1] < top) or np.isnan(xyz[i, 2]):
            continue
        if not (every or keep[i]):
            continue
        wanted += 1
        gap = bilinear_at(heights, (xyz[i, 0] - west) / dx, (north - xyz[i, 1]) / dy) - xyz[i, 2]
        if not np.isfinite(gap):
            continue
        number += 1
        total += gap
        squares += gap * gap
        far = abs(gap)
        rank = int(np.ceil(np.log(far / least) / wide)) if far > least else 0
        sizes[min(rank, sizes.shape[0] - 1)] += 1
        if far > largest:
            largest, worst = far, i
    return wanted, number, total, squares, worst, largest


@numba.njit(cache=True, nogil=True)
def largest_gap(made, heights):
    """Return the largest difference of two lattices where both are known, and its row and column; -1 where none is."""
    worst, at_row, at_column = -1.0, -1, -1
    for row in range(made.shape[0]):
        for column in range(made.shape[1]):
            far = abs(made[row, column] - heights[row, column])
            if far > worst:
                worst, at_row, at_column = far, row, column
    return worst, at_row, at_column
