"""Profiles of heights at even places with fewer of them."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


def needed(heights: NDArray[np.float64], held: NDArray[np.bool_], tolerance: float) -> NDArray[np.bool_]:
    """Return which places of a profile stay so that straight lines between them keep within a tolerance, vertically.

    After Douglas and Peucker, “Algorithms for the reduction of the number of points required to represent a digitized line
    or its caricature”, Cartographica 10 (1973), with vertical distances; gaps (NaN) part the profile.

    Parameters
    ----------
    heights : (n,) float64
    held : (n,) bool
        Places that stay in any case, if they have a height; so do the ends of what has no gap.
    """
    keep = held & np.isfinite(heights)
    _needed(np.ascontiguousarray(heights), keep, tolerance)
    return keep


@numba.njit(cache=True, nogil=True)
def _needed(z, keep, tolerance):
    number = z.shape[0]
    stack = np.zeros((number + 1, 2), np.int64)
    start = -1
    for i in range(number):
        if np.isnan(z[i]):
            start = -1
            continue
        if start < 0 or i + 1 == number or np.isnan(z[i + 1]):
            keep[i] = True
        if not keep[i]:
            continue
        if start >= 0:
            stack[0, 0], stack[0, 1] = start, i
            depth = 1
            while depth > 0:
                depth -= 1
                a, b = stack[depth, 0], stack[depth, 1]
                best, at = tolerance, -1
                for k in range(a + 1, b):
                    away = abs(z[a] + (z[b] - z[a]) * ((k - a) / (b - a)) - z[k])
                    if away > best:
                        best, at = away, k
                if at >= 0:
                    keep[at] = True
                    stack[depth, 0], stack[depth, 1] = a, at
                    stack[depth + 1, 0], stack[depth + 1, 1] = at, b
                    depth += 2
        start = i
