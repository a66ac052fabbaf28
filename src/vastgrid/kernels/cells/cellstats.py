"""What the points in each cell of a lattice have in common: lowest, highest, mean, median, count."""

from __future__ import annotations

import numba
import numpy as np

LOWEST, HIGHEST, MEAN, MEDIAN, COUNT = range(5)
# So many cells beyond the lattice a place may lie that is on its edge but for rounding.
EDGE = 1e-6


@numba.njit(cache=True, nogil=True)
def _of_lattice(place, most):
    """Return the row or column of a place, in cells; the outermost edges belong to the outermost cells."""
    own = np.int64(np.floor(place))
    if own == most and place <= most + EDGE:
        return own - 1
    return np.int64(0) if own == -1 and place >= -EDGE else own


@numba.njit(cache=True, nogil=True)
def cell_of(xyz, i, keep, west, north, dx, dy, top, left, most_rows, most_columns, rows, columns):
    """Return the number of the cell a point lies in; -1 where it lies in none, has no height or does not count."""
    if (keep.shape[0] > 0 and not keep[i]) or not np.isfinite(xyz[i, 2]):
        return -1
    column = _of_lattice((xyz[i, 0] - west) / dx, most_columns) - left
    row = _of_lattice((north - xyz[i, 1]) / dy, most_rows) - top
    if row < 0 or column < 0 or row >= rows or column >= columns:
        return -1
    return row * columns + column


@numba.njit(cache=True, nogil=True)
def gather(xyz, keep, west, north, dx, dy, top, left, most_rows, most_columns, number, value, what):
    """Add points to cells: how many, and their lowest, highest or running mean height.

    Parameters
    ----------
    xyz : (n, 3) float64
        Points without a height are passed over.
    keep : (n,) bool
        Which of them count; of no length where all do.
    west, north, dx, dy : float
        Outer corner of the lattice's north-western cell, and the size of a cell. A cell holds its western and northern edge.
    top, left : int
        Row and column of the lattice that come first here: a part of a lattice gathers what the whole would.
    most_rows, most_columns : int
        Rows and columns of the whole lattice: its outermost edges belong to its outermost cells, so no point of an extent
        that ends on a whole cell is lost.
    number : (rows, columns) int64
        How many points each cell has; added to.
    value : (rows, columns) float64
        What is gathered; NaN where there is nothing yet.
    what : int
        `LOWEST`, `HIGHEST`, `MEAN` or `COUNT`, which needs no value.
    """
    rows, columns = number.shape
    for i in range(xyz.shape[0]):
        cell = cell_of(xyz, i, keep, west, north, dx, dy, top, left, most_rows, most_columns, rows, columns)
        if cell < 0:
            continue
        z, row, column = xyz[i, 2], cell // columns, cell % columns
        n = number[row, column] + 1
        number[row, column] = n
        if what == COUNT:
            continue
        old = value[row, column]
        if n == 1:
            value[row, column] = z
        elif what == LOWEST:
            value[row, column] = min(old, z)
        elif what == HIGHEST:
            value[row, column] = max(old, z)
        else:
            value[row, column] = old + (z - old) / n


@numba.njit(cache=True, nogil=True)
def joined(number, value, more, other, what):
    """Add what others gathered of the same cells; see `gather`."""
    for row in range(number.shape[0]):
        for column in range(number.shape[1]):
            n, m = number[row, column], more[row, column]
            if m == 0:
                continue
            number[row, column] = n + m
            if what == COUNT:
                continue
            z = other[row, column]
            if n == 0:
                value[row, column] = z
            elif what == LOWEST:
                value[row, column] = min(value[row, column], z)
            elif what == HIGHEST:
                value[row, column] = max(value[row, column], z)
            else:
                value[row, column] += (z - value[row, column]) * m / (n + m)


@numba.njit(cache=True, nogil=True)
def put_by_cell(xyz, keep, west, north, dx, dy, top, left, most_rows, most_columns, columns, slot, heights):
    """Write points' heights to where their cells begin; `slot` moves on, (rows × columns,) int64."""
    rows = slot.shape[0] // columns
    for i in range(xyz.shape[0]):
        cell = cell_of(xyz, i, keep, west, north, dx, dy, top, left, most_rows, most_columns, rows, columns)
        if cell < 0:
            continue
        heights[slot[cell]] = xyz[i, 2]
        slot[cell] += 1


@numba.njit(cache=True, nogil=True)
def medians(heights, starts, out):
    """Write the median of each cell's heights; of an even number the mean of the middle two."""
    for cell in range(starts.shape[0] - 1):
        first, stop = starts[cell], starts[cell + 1]
        n = stop - first
        if n == 0:
            continue
        sorted_ = np.sort(heights[first:stop])
        out[cell] = sorted_[n // 2] if n % 2 else 0.5 * (sorted_[n // 2 - 1] + sorted_[n // 2])


@numba.njit(cache=True, nogil=True)
def weighted(heights, nearest, far):
    """Return heights weighted by the inverse square of the distance, (n,) (Shepard, D., 1968).

    Parameters
    ----------
    heights : (m,) float64
        Known heights.
    nearest : (n, k) int
        Numbers of the nearest of them, the nearest first.
    far : (n, k) float64
        Their distances; infinite where there are fewer.
    """
    out = np.zeros(nearest.shape[0])
    for i in range(nearest.shape[0]):
        total, sum_ = 0.0, 0.0
        first = heights[nearest[i, 0]]
        if far[i, 0] == 0.0:
            out[i] = first
            continue
        for k in range(nearest.shape[1]):
            if not np.isfinite(far[i, k]):
                break
            # Relative to the nearest, so that no distance is too small.
            share = (far[i, 0] / far[i, k]) ** 2
            total += share
            sum_ += share * (heights[nearest[i, k]] - first)
        out[i] = first + sum_ / total
    return out
