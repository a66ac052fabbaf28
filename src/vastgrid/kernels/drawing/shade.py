"""Pictures from numbers: hillshade, slope and aspect, and tinting by a scale of colours."""

from __future__ import annotations

import math

import numba
import numpy as np

from vastgrid.kernels.drawing.strokes import blend


@numba.njit(cache=True, nogil=True, inline="always")
def _rise(before, here, after):
    """Return the rise from neighbour to neighbour over two steps; over one step, doubled, where one is missing."""
    if np.isnan(after):
        return 2.0 * (here - before)
    if np.isnan(before):
        return 2.0 * (after - here)
    return after - before


@numba.njit(cache=True, nogil=True, inline="always")
def _gradient(heights, r, c, dx, dy):
    """Return the rise to the east and to the north.

    By Horn (1981) where all eight neighbours are there. At rims and beside gaps the same weights count for the rows
    and columns that are there, each by what it has: a plane has one slope everywhere.
    """
    rows, columns = heights.shape
    p = q = weight_p = weight_q = 0.0
    for k in range(-1, 2):
        weight = 2.0 if k == 0 else 1.0
        if 0 <= r + k < rows:
            before = heights[r + k, c - 1] if c > 0 else np.nan
            after = heights[r + k, c + 1] if c < columns - 1 else np.nan
            rise = _rise(before, heights[r + k, c], after)
            if not np.isnan(rise):
                p += weight * rise
                weight_p += weight
        if 0 <= c + k < columns:
            before = heights[r + 1, c + k] if r < rows - 1 else np.nan
            after = heights[r - 1, c + k] if r > 0 else np.nan
            rise = _rise(before, heights[r, c + k], after)
            if not np.isnan(rise):
                q += weight * rise
                weight_q += weight
    p = p / (2.0 * dx * weight_p) if weight_p > 0.0 else 0.0
    q = q / (2.0 * dy * weight_q) if weight_q > 0.0 else 0.0
    return p, q


@numba.njit(cache=True, nogil=True)
def hillshade(heights, dx, dy, azimuth, altitude):
    """Return the light on each cell, (rows, columns) float64 from 0 to 1; NaN where there is no height.

    Slopes by Horn (1981), “Hill shading and the reflectance map”; at rims and gaps see `_gradient`.

    Parameters
    ----------
    dx, dy : float
        Cell size in the unit of the heights.
    azimuth, altitude : float
        Where the light comes from, in degrees: clockwise from north, and above the horizon.
    """
    rows, columns = heights.shape
    out = np.full((rows, columns), np.nan)
    zenith = math.radians(90.0 - altitude)
    turn = math.radians(360.0 - azimuth + 90.0)
    cos_zenith, sin_zenith = math.cos(zenith), math.sin(zenith)
    lx, ly = math.cos(turn), math.sin(turn)
    for r in range(rows):
        for c in range(columns):
            if np.isnan(heights[r, c]):
                continue
            p, q = _gradient(heights, r, c, dx, dy)
            light = (cos_zenith - sin_zenith * (p * lx + q * ly)) / math.sqrt(1.0 + p * p + q * q)
            out[r, c] = max(light, 0.0)
    return out


@numba.njit(cache=True, nogil=True)
def slope_aspect(heights, dx, dy):
    """Return slope in degrees from level and the bearing that the ground falls towards, both (rows, columns) float64.

    Bearings are degrees clockwise from the raster's north; level cells have none (NaN). Slopes by Horn (1981); at rims and
    gaps see `_gradient`.

    Parameters
    ----------
    dx, dy : float
        Cell size in the unit of the heights.
    """
    rows, columns = heights.shape
    slope = np.full((rows, columns), np.nan)
    aspect = np.full((rows, columns), np.nan)
    for r in range(rows):
        for c in range(columns):
            if np.isnan(heights[r, c]):
                continue
            p, q = _gradient(heights, r, c, dx, dy)
            slope[r, c] = math.degrees(math.atan(math.sqrt(p * p + q * q)))
            if p != 0.0 or q != 0.0:
                aspect[r, c] = math.degrees(math.atan2(-p, -q)) % 360.0
    return slope, aspect


@numba.njit(cache=True, nogil=True)
def tint(values, light, colours, low, high, image, opacity):
    """Paint values by colour, darkened by shadow, over an image (rows, columns, 4) uint8 in B, G, R, A order.

    Parameters
    ----------
    values : (rows, columns) float64
        What the colours stand for; grey where there is light but no value.
    light : (rows, columns) float64
        As `hillshade` gives it; NaN where nothing is painted.
    opacity : float
        From 0 to 1.
    """
    rows, columns = values.shape
    last = colours.shape[0] - 1
    scale = last / (high - low) if high > low else 0.0
    for r in range(rows):
        for c in range(columns):
            lit = light[r, c]
            if np.isnan(lit):
                continue
            # Flat ground keeps its colour; light at 45° on flat ground is 0.707.
            f = min(0.42 + 0.82 * lit, 1.12)
            v = values[r, c]
            if np.isnan(v):
                red, green, blue = 200.0 * f, 200.0 * f, 200.0 * f
            else:
                k = min(max(int((v - low) * scale), 0), last)
                red, green, blue = colours[k, 0] * f, colours[k, 1] * f, colours[k, 2] * f
            red, green, blue = min(red, 255.0), min(green, 255.0), min(blue, 255.0)
            if opacity >= 1.0:
                image[r, c, 0], image[r, c, 1], image[r, c, 2] = int(blue), int(green), int(red)
                image[r, c, 3] = 255
            else:
                blend(image, c, r, blue, green, red, opacity)
