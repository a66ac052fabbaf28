"""How much of a surface lies below a height."""

from __future__ import annotations

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def area_below(corner, area, levels):
    """Return the plan area of triangles that lies below each of some levels, (k,).

    Parameters
    ----------
    corner : (m, 3) float64
        Heights of each triangle's corners, ascending.
    area : (m,) float64
        Of each triangle.
    levels : (k,) float64
    """
    out = np.zeros(levels.shape[0])
    for k in range(levels.shape[0]):
        z = levels[k]
        total = 0.0
        for t in range(corner.shape[0]):
            a, b, c = corner[t, 0], corner[t, 1], corner[t, 2]
            if z >= c:
                total += area[t]
            elif z > a:
                if z <= b:
                    total += area[t] * (z - a) * (z - a) / ((b - a) * (c - a))
                else:
                    total += area[t] * (1.0 - (c - z) * (c - z) / ((c - a) * (c - b)))
        out[k] = total
    return out
