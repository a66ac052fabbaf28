"""Points of a cloud: stored integers to coordinates."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


@numba.njit(cache=True, nogil=True)
def place_points(x, y, z, scales, offsets, out):
    """Fill (n, 3) coordinates from stored integers: offset plus scaled integer, as the LAS standard says.

    Where the scale is 1/100, say, the integer is divided by 100: that gives the decimal that was stored, and
    multiplying by 0.01 does not. Returns the smallest and largest of each coordinate.
    """
    whole = np.zeros(3)
    for k in range(3):
        nearest = np.rint(1.0 / scales[k]) if scales[k] != 0 else 0.0
        if nearest > 0 and abs(nearest * scales[k] - 1.0) < 1e-12:
            whole[k] = nearest
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for i in range(out.shape[0]):
        out[i, 0] = (x[i] / whole[0] if whole[0] > 0 else x[i] * scales[0]) + offsets[0]
        out[i, 1] = (y[i] / whole[1] if whole[1] > 0 else y[i] * scales[1]) + offsets[1]
        out[i, 2] = (z[i] / whole[2] if whole[2] > 0 else z[i] * scales[2]) + offsets[2]
        for k in range(3):
            low[k], high[k] = min(low[k], out[i, k]), max(high[k], out[i, k])
    return low, high


@numba.njit(cache=True, nogil=True)
def _slot(keys, key):
    """Return where a key stands, or would stand, in an open hash table of a power of two."""
    mask = np.uint64(keys.shape[0] - 1)
    h = np.uint64(key) * np.uint64(0x9E3779B97F4A7C15)
    slot = (h >> np.uint64(20)) & mask
    while keys[slot] != -1 and keys[slot] != key:
        slot = (slot + np.uint64(1)) & mask
    return slot


@numba.njit(cache=True, nogil=True)
def thinned(xyz, spacing):
    """Return which points to keep so that none kept are closer in space than a spacing, (n,) bool.

    Points are taken in their order: each is kept unless one kept before is closer (a greedy Poisson-disk choice, so
    every point left out has a kept one within the spacing).

    Parameters
    ----------
    xyz : (n, 3) float64
        Points, all finite.
    spacing : float
        In their unit, positive.
    """
    n = xyz.shape[0]
    keep = np.zeros(n, np.bool_)
    room = 16
    while room < 2 * n:
        room *= 2
    keys = np.full(room, np.int64(-1))
    heads = np.full(room, np.int64(-1))
    following = np.full(n, np.int64(-1))
    low = np.zeros(3)
    for k in range(3):
        low[k] = np.inf
        for i in range(n):
            low[k] = min(low[k], xyz[i, k])
    wide = np.int64(1) << np.int64(20)
    limit = spacing * spacing
    for i in range(n):
        a = np.int64((xyz[i, 0] - low[0]) / spacing) + 1
        b = np.int64((xyz[i, 1] - low[1]) / spacing) + 1
        c = np.int64((xyz[i, 2] - low[2]) / spacing) + 1
        free = True
        for da in range(-1, 2):
            for db in range(-1, 2):
                for dc in range(-1, 2):
                    key = ((a + da) * wide + (b + db)) * wide + (c + dc)
                    j = heads[_slot(keys, key)]
                    while j >= 0 and free:
                        dx, dy, dz = xyz[i, 0] - xyz[j, 0], xyz[i, 1] - xyz[j, 1], xyz[i, 2] - xyz[j, 2]
                        if dx * dx + dy * dy + dz * dz < limit:
                            free = False
                        j = following[j]
                    if not free:
                        break
                if not free:
                    break
            if not free:
                break
        if free:
            keep[i] = True
            key = (a * wide + b) * wide + c
            slot = _slot(keys, key)
            keys[slot] = key
            following[i] = heads[slot]
            heads[slot] = i
    return keep


@numba.njit(cache=True, nogil=True)
def unpacked(data, size):
    """Return LZF-packed bytes unpacked, (size,) uint8; shorter where the input is damaged.

    The format is Marc Lehmann's LibLZF: a control byte below 32 announces that many literals plus one, otherwise a
    copy from up to 8 kB back.
    """
    out = np.zeros(size, np.uint8)
    i = o = np.int64(0)
    n = data.shape[0]
    while i < n:
        control = np.int64(data[i])
        i += 1
        if control < 32:
            length = control + 1
            if i + length > n or o + length > size:
                return out[:o]
            out[o : o + length] = data[i : i + length]
            i += length
            o += length
            continue
        length = control >> 5
        if length == 7:
            if i >= n:
                return out[:o]
            length += np.int64(data[i])
            i += 1
        if i >= n:
            return out[:o]
        back = o - ((control & 31) << 8) - np.int64(data[i]) - 1
        i += 1
        length += 2
        if back < 0 or o + length > size:
            return out[:o]
        for k in range(length):
            out[o + k] = out[back + k]
        o += length
    return out[:o]


def sorted_by_bucket(
    xyz: NDArray[np.float64], west: float, south: float, size: float, most: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the keys of points' square buckets in ascending order, and the order of points that this is; both (n,) int64.

    A key is the bucket's row times `most` plus its column. Points of one bucket stay in their order.
    """
    keys, low, high, left, right = _bucket_keys(xyz, west, south, size, most)
    rows, columns = high - low + 1, right - left + 1
    if len(keys) and rows * columns <= 4 * len(keys) + 1024:
        ascending, order = _counted(keys, low, left, rows, columns, most)
        return ascending, order
    order = np.argsort(keys, kind="stable")
    return keys[order], order


@numba.njit(cache=True, nogil=True)
def _bucket_keys(xyz, west, south, size, most):
    keys = np.zeros(xyz.shape[0], np.int64)
    low, high, left, right = most, -1, most, -1
    for i in range(xyz.shape[0]):
        column = min(max(np.int64(np.floor((xyz[i, 0] - west) / size)), 0), most - 1)
        row = min(max(np.int64(np.floor((xyz[i, 1] - south) / size)), 0), most - 1)
        keys[i] = row * most + column
        low, high, left, right = min(low, row), max(high, row), min(left, column), max(right, column)
    return keys, low, high, left, right


@numba.njit(cache=True, nogil=True)
def _counted(keys, low, left, rows, columns, most):
    starts = np.zeros(rows * columns + 1, np.int64)
    for i in range(keys.shape[0]):
        starts[(keys[i] // most - low) * columns + keys[i] % most - left + 1] += 1
    for k in range(rows * columns):
        starts[k + 1] += starts[k]
    out = np.zeros(keys.shape[0], np.int64)
    order = np.zeros(keys.shape[0], np.int64)
    for i in range(keys.shape[0]):
        bucket = (keys[i] // most - low) * columns + keys[i] % most - left
        at = starts[bucket]
        out[at], order[at] = keys[i], i
        starts[bucket] = at + 1
    return out, order


@numba.njit(cache=True, nogil=True)
def rows_in_box(xyz, order, starts, stops, west, south, east, north):
    """Return which rows of some stretches lie in a box, its sides included, by ascending `order`, (k,) int64.

    Parameters
    ----------
    order : (n,) int32
        A number of each point from 0 to n - 1, each once.
    starts, stops : (m,) int64
        Stretches of rows.
    """
    row_of = np.full(order.shape[0], -1, np.int64)
    number = 0
    for k in range(starts.shape[0]):
        for i in range(starts[k], stops[k]):
            if west <= xyz[i, 0] <= east and south <= xyz[i, 1] <= north:
                row_of[order[i]] = i
                number += 1
    out = np.zeros(number, np.int64)
    at = 0
    for i in range(row_of.shape[0]):
        if row_of[i] >= 0:
            out[at] = row_of[i]
            at += 1
    return out
