"""Points of a cloud: stored integers to coordinates."""

from __future__ import annotations

import numba
import numpy as np


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
