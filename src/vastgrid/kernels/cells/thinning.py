"""Points by the cells of a lattice that begins at whole multiples of its spacing."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

LOWEST, HIGHEST, CENTRAL = range(3)


def cells_of(xyz: NDArray[np.float64], size: float) -> tuple[NDArray[np.int64], int]:
    """Return the number of each point's cell, in the order of first appearance, and how many cells there are."""
    cell, number = _cells(xyz, size)
    return cell, int(number)


@numba.njit(cache=True, nogil=True)
def _cells(xyz, size):
    n = xyz.shape[0]
    room = 64
    while room < 2 * n:
        room *= 2
    mask = room - 1
    slot_x = np.zeros(room, np.int64)
    slot_y = np.zeros(room, np.int64)
    taken = np.full(room, -1, np.int64)
    out = np.zeros(n, np.int64)
    cells = 0
    for i in range(n):
        x, y = np.int64(np.floor(xyz[i, 0] / size)), np.int64(np.floor(xyz[i, 1] / size))
        hashed = np.uint64(x) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(y) * np.uint64(0xC2B2AE3D27D4EB4F)
        hashed ^= hashed >> np.uint64(29)
        slot = np.int64(hashed & np.uint64(mask))
        while taken[slot] >= 0 and not (slot_x[slot] == x and slot_y[slot] == y):
            slot = (slot + 1) & mask
        if taken[slot] < 0:
            taken[slot] = cells
            slot_x[slot], slot_y[slot] = x, y
            cells += 1
        out[i] = taken[slot]
    return out, cells


@numba.njit(cache=True, nogil=True)
def chosen_of_cells(xyz, cell, number, size, choice):
    """Return the point that stays of each cell, (number,) int64; of equals the first."""
    best = np.full(number, -1, np.int64)
    least = np.full(number, np.inf)
    for i in range(xyz.shape[0]):
        c = cell[i]
        if choice == LOWEST:
            value = xyz[i, 2]
        elif choice == HIGHEST:
            value = -xyz[i, 2]
        else:
            dx = xyz[i, 0] - (np.floor(xyz[i, 0] / size) + 0.5) * size
            dy = xyz[i, 1] - (np.floor(xyz[i, 1] / size) + 0.5) * size
            value = dx * dx + dy * dy
        if np.isnan(value):
            value = np.inf
        if best[c] < 0 or value < least[c]:
            best[c], least[c] = i, value
    return best


@numba.njit(cache=True, nogil=True)
def means_of_cells(xyz, cell, number):
    """Return the mean place and height of each cell's points, (number, 3)."""
    first = np.zeros((number, 3))
    total = np.zeros((number, 3))
    count = np.zeros(number)
    for i in range(xyz.shape[0]):
        c = cell[i]
        if count[c] == 0.0:
            first[c] = xyz[i]
        # From the cell's first point on: large coordinates cost no digits.
        for k in range(3):
            total[c, k] += xyz[i, k] - first[c, k]
        count[c] += 1.0
    for c in range(number):
        for k in range(3):
            total[c, k] = first[c, k] + total[c, k] / count[c]
    return total
