"""Places through a matrix, in one pass over them."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def through(xyz, middle, matrix, goal, solid):
    """Return goal + matrix · (p − middle) for places, (n, 3); a place without a height stays without.

    Parameters
    ----------
    middle, goal : (3,) float64
    matrix : (3, 3) float64
    solid : bool
        Whether heights move the plan; those that are unknown count as that of the middle.
    """
    out = np.zeros(xyz.shape, np.float64)
    for k in range(xyz.shape[0]):
        x, y, h = xyz[k, 0] - middle[0], xyz[k, 1] - middle[1], xyz[k, 2] - middle[2]
        known = h == h
        if not known:
            h = 0.0
        out[k, 0] = goal[0] + (matrix[0, 0] * x + matrix[0, 1] * y)
        out[k, 1] = goal[1] + (matrix[1, 0] * x + matrix[1, 1] * y)
        if solid:
            out[k, 0] += matrix[0, 2] * h
            out[k, 1] += matrix[1, 2] * h
        out[k, 2] = goal[2] + (matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2] * h) if known else np.nan
    return out
