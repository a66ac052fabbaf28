"""Cells of a cloud: the lowest height in each, gaps filled smoothly, and how far points lie from a ground."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(cache=True, nogil=True)
def lowest_of_cells(xyz, use, west, north, size, rows, columns):
    """Return the lowest of the points in use in each cell, (rows, columns) int64; -1 where there is none."""
    out = np.full((rows, columns), -1, np.int64)
    for i in range(xyz.shape[0]):
        if not use[i]:
            continue
        r = min(max(int((north - xyz[i, 1]) / size), 0), rows - 1)
        c = min(max(int((xyz[i, 0] - west) / size), 0), columns - 1)
        if out[r, c] < 0 or xyz[i, 2] < xyz[out[r, c], 2]:
            out[r, c] = i
    return out


@numba.njit(cache=True, nogil=True)
def at_middles(xyz, lowest, ground, west, north, size):
    """Return the heights of the cells' lowest points brought to the cells' middles along the slope of a ground."""
    rows, columns = lowest.shape
    out = np.full((rows, columns), np.nan)
    for r in range(rows):
        for c in range(columns):
            i = lowest[r, c]
            if i < 0:
                continue
            r0, r1, c0, c1 = max(r - 1, 0), min(r + 1, rows - 1), max(c - 1, 0), min(c + 1, columns - 1)
            gx = (ground[r, c1] - ground[r, c0]) / max((c1 - c0) * size, 1e-300)
            gy = (ground[r0, c] - ground[r1, c]) / max((r1 - r0) * size, 1e-300)
            x, y = west + (c + 0.5) * size, north - (r + 0.5) * size
            out[r, c] = xyz[i, 2] + gx * (x - xyz[i, 0]) + gy * (y - xyz[i, 1])
    return out


def filled(heights: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return heights with gaps filled from coarser and coarser means, so that a slope goes on through a gap.

    Means of known neighbours are taken at half the resolution again and again, and given back (push and pull; Gortler and
    others, “The lumigraph”, SIGGRAPH 1996); then a few rounds of averaging smooth what was filled.
    """
    if not np.isnan(heights).any() or np.isnan(heights).all():
        return heights
    rows, columns = heights.shape
    if rows == 1 and columns == 1:
        return heights
    wide = np.full((rows + rows % 2, columns + columns % 2), np.nan)
    wide[:rows, :columns] = heights
    blocks = wide.reshape(wide.shape[0] // 2, 2, wide.shape[1] // 2, 2)
    known = ~np.isnan(blocks)
    number = known.sum(axis=(1, 3))
    total = np.where(known, blocks, 0.0).sum(axis=(1, 3))
    coarse = filled(np.where(number > 0, total / np.maximum(number, 1), np.nan))
    out = heights.copy()
    _pulled(out, coarse)
    gap = np.isnan(heights)
    for _ in range(12):
        _averaged(out, gap)
    return out


@numba.njit(cache=True, nogil=True)
def _pulled(out, coarse):
    rows, columns = coarse.shape
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            if not np.isnan(out[r, c]):
                continue
            y, x = min(max(0.5 * r - 0.25, 0.0), rows - 1.0), min(max(0.5 * c - 0.25, 0.0), columns - 1.0)
            j, i = min(int(y), max(rows - 2, 0)), min(int(x), max(columns - 2, 0))
            v, u = y - j, x - i
            j1, i1 = min(j + 1, rows - 1), min(i + 1, columns - 1)
            out[r, c] = (1 - v) * ((1 - u) * coarse[j, i] + u * coarse[j, i1]) + v * (
                (1 - u) * coarse[j1, i] + u * coarse[j1, i1]
            )


@numba.njit(cache=True, nogil=True)
def _averaged(out, gap):
    rows, columns = out.shape
    for r in range(rows):
        for c in range(columns):
            if gap[r, c]:
                total, number = 0.0, 0
                for dr, dc in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                    if 0 <= r + dr < rows and 0 <= c + dc < columns:
                        total += out[r + dr, c + dc]
                        number += 1
                if number:
                    out[r, c] = total / number


@numba.njit(cache=True, nogil=True)
def above_ground(xyz, ground, west, north, size):
    """Return how far each point lies above a ground of cells, and how steep that is there, (n,) and (n,) float64."""
    rows, columns = ground.shape
    gap = np.zeros(xyz.shape[0])
    slope = np.zeros(xyz.shape[0])
    for i in range(xyz.shape[0]):
        y = min(max((north - xyz[i, 1]) / size - 0.5, 0.0), rows - 1.0)
        x = min(max((xyz[i, 0] - west) / size - 0.5, 0.0), columns - 1.0)
        j, k = min(int(y), max(rows - 2, 0)), min(int(x), max(columns - 2, 0))
        j1, k1 = min(j + 1, rows - 1), min(k + 1, columns - 1)
        v, u = y - j, x - k
        a, b, c, d = ground[j, k], ground[j, k1], ground[j1, k], ground[j1, k1]
        gap[i] = xyz[i, 2] - ((1 - v) * ((1 - u) * a + u * b) + v * ((1 - u) * c + u * d))
        gx, gy = ((1 - v) * (b - a) + v * (d - c)) / size, ((1 - u) * (c - a) + u * (d - b)) / size
        slope[i] = np.sqrt(gx * gx + gy * gy)
    return gap, slope
