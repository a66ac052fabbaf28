"""Filling areas in a picture."""

from __future__ import annotations

import math

import numba
import numpy as np

from vastgrid.kernels.drawing.strokes import blend


@numba.njit(cache=True, nogil=True)
def draw_areas(image, xy, offsets, rings, west, north, size, colours, strength):
    """Fill areas by the even-odd rule, each in a colour of its own: pixels whose middle lies inside.

    Parameters
    ----------
    xy : (n, ≥ 2) float64
        World coordinates; ring i is ``xy[offsets[i]:offsets[i + 1]]``, its first place repeated.
    rings : (k + 1,) int64
        Area j has the rings ``rings[j]`` to ``rings[j + 1]``.
    west, north, size : float
        World place of the image's outer corner, and world size of a pixel.
    colours : (k, 3) uint8
    strength : float
        Opacity from 0 to 1.
    """
    rows, columns = image.shape[0], image.shape[1]
    scale = 1.0 / size
    for area in range(rings.shape[0] - 1):
        first, last = offsets[rings[area]], offsets[rings[area + 1]]
        if first == last:
            continue
        low, high = math.inf, -math.inf
        left, right = math.inf, -math.inf
        for i in range(first, last):
            x, y = (xy[i, 0] - west) * scale - 0.5, (north - xy[i, 1]) * scale - 0.5
            low, high = min(low, y), max(high, y)
            left, right = min(left, x), max(right, x)
        if high < 0 or low > rows - 1 or right < 0 or left > columns - 1:
            continue
        top, bottom = int(max(math.ceil(low), 0.0)), int(min(math.floor(high), rows - 1.0))
        r, g, b = float(colours[area, 0]), float(colours[area, 1]), float(colours[area, 2])
        # Where sides cross the middle of rows, row by row.
        start = np.zeros(max(bottom - top, -1) + 2, np.int64)
        for turn in range(2):
            if turn:
                for k in range(start.shape[0] - 1):
                    start[k + 1] += start[k]
                crossing = np.zeros(start[-1], np.float64)
                at = start[:-1].copy()
            for ring in range(rings[area], rings[area + 1]):
                for i in range(offsets[ring], offsets[ring + 1] - 1):
                    ya, yb = (north - xy[i, 1]) * scale - 0.5, (north - xy[i + 1, 1]) * scale - 0.5
                    begin = int(max(math.floor(min(ya, yb)) + 1.0, float(top)))
                    end = int(min(math.floor(max(ya, yb)), float(bottom)))
                    if not turn:
                        for row in range(begin, end + 1):
                            start[row - top + 1] += 1
                        continue
                    xa, xb = (xy[i, 0] - west) * scale - 0.5, (xy[i + 1, 0] - west) * scale - 0.5
                    for row in range(begin, end + 1):
                        crossing[at[row - top]] = xa + (row - ya) / (yb - ya) * (xb - xa)
                        at[row - top] += 1
        for row in range(top, bottom + 1):
            own = crossing[start[row - top] : start[row - top + 1]]
            own.sort()
            for k in range(0, own.shape[0] - 1, 2):
                begin = int(min(max(math.ceil(own[k]), 0.0), float(columns)))
                end = int(max(min(math.ceil(own[k + 1]) - 1.0, columns - 1.0), -1.0))
                for column in range(begin, end + 1):
                    blend(image, column, row, b, g, r, strength)
