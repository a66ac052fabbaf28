"""Cells of a cloud: the lowest height in each, gaps filled smoothly, and how far points lie from a ground."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(cache=True, nogil=True)
def lowest_of_cells(xyz, use, size, top, left, rows, columns):
    """Return the lowest of the points in use in each cell, (rows, columns) int64; -1 where there is none.

    Cells lie on whole multiples of their size, whatever the data: column k begins at k × size, row k ends at -k × size.
    Of equally low points the westernmost counts, then the southernmost, so that their order does not matter.
    """
    out = np.full((rows, columns), -1, np.int64)
    for i in range(xyz.shape[0]):
        if not use[i]:
            continue
        r = -np.int64(np.floor(xyz[i, 1] / size)) - 1 - top
        c = np.int64(np.floor(xyz[i, 0] / size)) - left
        if r < 0 or c < 0 or r >= rows or c >= columns:
            continue
        k = out[r, c]
        if (
            k < 0
            or xyz[i, 2] < xyz[k, 2]
            or (xyz[i, 2] == xyz[k, 2] and (xyz[i, 0], xyz[i, 1]) < (xyz[k, 0], xyz[k, 1]))
        ):
            out[r, c] = i
    return out


@numba.njit(cache=True, nogil=True)
def at_middles(xyz, lowest, ground, size, top, left):
    """Return the heights of the cells' lowest points brought to the cells' middles along the slope of a ground.

    Where the ground beside a cell is not known it counts as level.
    """
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
            gx, gy = (0.0 if np.isnan(gx) else gx), (0.0 if np.isnan(gy) else gy)
            x, y = (left + c + 0.5) * size, -(top + r + 0.5) * size
            out[r, c] = xyz[i, 2] + gx * (x - xyz[i, 0]) + gy * (y - xyz[i, 1])
    return out


def filled(heights: NDArray[np.float64], top: int, left: int, levels: int) -> NDArray[np.float64]:
    """Return heights with gaps filled from coarser and coarser means, so that a slope goes on through a gap.

    Means of known neighbours are taken at half the resolution again and again, and given back (push and pull; Gortler and
    others, “The lumigraph”, SIGGRAPH 1996); then a few rounds of averaging smooth what was filled. Cells are joined by
    whole multiples, whatever the data, and no coarser than asked for: what lies in the middle of a wider gap stays unknown,
    and no cell depends on anything farther away than `reach_of_filling`.

    Parameters
    ----------
    top, left : int
        Number of the first row and column, counted from 0.
    levels : int
        How often the resolution is halved at most.
    """
    out = _from_coarser(heights, top, left, levels)
    gap = np.isnan(heights)
    if gap.any():
        for _ in range(ROUNDS):
            out = _averaged(out, gap)
    return out


ROUNDS = 8


def reach_of_filling(levels: int) -> int:
    """Return how many cells away the farthest lies that a filled cell depends on."""
    # A cell takes from coarser cells beside its own, which do so in turn; each is as wide as what it stands for.
    return int(4 * 2**levels + ROUNDS)


def _from_coarser(heights: NDArray[np.float64], top: int, left: int, levels: int) -> NDArray[np.float64]:
    if levels == 0 or not np.isnan(heights).any():
        return heights
    rows, columns = heights.shape
    up, aside = top % 2, left % 2
    wide = np.full((rows + up + (rows + up) % 2, columns + aside + (columns + aside) % 2), np.nan)
    wide[up : up + rows, aside : aside + columns] = heights
    blocks = wide.reshape(wide.shape[0] // 2, 2, wide.shape[1] // 2, 2)
    known = ~np.isnan(blocks)
    number = known.sum(axis=(1, 3))
    total = np.where(known, blocks, 0.0).sum(axis=(1, 3))
    means = np.where(number > 0, total / np.maximum(number, 1), np.nan)
    coarse = _from_coarser(means, top // 2, left // 2, levels - 1)
    out = heights.copy()
    _pulled(out, coarse, up, aside)
    return out


@numba.njit(cache=True, nogil=True)
def _pulled(out, coarse, up, aside):
    rows, columns = coarse.shape
    for r in range(out.shape[0]):
        for c in range(out.shape[1]):
            if not np.isnan(out[r, c]):
                continue
            y, x = 0.5 * (r + up) - 0.25, 0.5 * (c + aside) - 0.25
            j, i = int(np.floor(y)), int(np.floor(x))
            v, u = y - j, x - i
            total, share = 0.0, 0.0
            for dj in range(2):
                for di in range(2):
                    # Beyond the rim, and where even the coarser is not known, nothing counts.
                    if 0 <= j + dj < rows and 0 <= i + di < columns and not np.isnan(coarse[j + dj, i + di]):
                        weight = (v if dj else 1.0 - v) * (u if di else 1.0 - u)
                        total += weight * coarse[j + dj, i + di]
                        share += weight
            if share > 0.0:
                out[r, c] = total / share


@numba.njit(cache=True, nogil=True)
def _averaged(old, gap):
    rows, columns = old.shape
    out = old.copy()
    for r in range(rows):
        for c in range(columns):
            if gap[r, c] and not np.isnan(old[r, c]):
                total, number = 0.0, 0
                for dr, dc in ((-1, 0), (1, 0), (0, -1), (0, 1)):
                    if 0 <= r + dr < rows and 0 <= c + dc < columns and not np.isnan(old[r + dr, c + dc]):
                        total += old[r + dr, c + dc]
                        number += 1
                if number:
                    out[r, c] = total / number
    return out


@numba.njit(cache=True, nogil=True)
def above_ground(xyz, ground, size, top, left):
    """Return how far each point lies above a ground of cells, and how steep that is there, (n,) and (n,) float64.

    Both are NaN where the ground is not known.
    """
    rows, columns = ground.shape
    gap = np.zeros(xyz.shape[0])
    slope = np.zeros(xyz.shape[0])
    for i in range(xyz.shape[0]):
        y = min(max(-xyz[i, 1] / size - 0.5 - top, 0.0), rows - 1.0)
        x = min(max(xyz[i, 0] / size - 0.5 - left, 0.0), columns - 1.0)
        j, k = min(int(y), max(rows - 2, 0)), min(int(x), max(columns - 2, 0))
        j1, k1 = min(j + 1, rows - 1), min(k + 1, columns - 1)
        v, u = y - j, x - k
        a, b, c, d = ground[j, k], ground[j, k1], ground[j1, k], ground[j1, k1]
        gap[i] = xyz[i, 2] - ((1 - v) * ((1 - u) * a + u * b) + v * ((1 - u) * c + u * d))
        gx, gy = ((1 - v) * (b - a) + v * (d - c)) / size, ((1 - u) * (c - a) + u * (d - b)) / size
        slope[i] = np.sqrt(gx * gx + gy * gy)
    return gap, slope
