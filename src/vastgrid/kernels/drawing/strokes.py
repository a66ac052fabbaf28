"""Drawing into a picture: lines, edges and points, each pixel blended by how much of it is covered."""

from __future__ import annotations

import math

import numba
import numpy as np


@numba.njit(cache=True, nogil=True, inline="always")
def blend(image, x, y, b, g, r, cover):
    """Lay a colour over a pixel, by how much of it is covered (0 … 1)."""
    if 0 <= x < image.shape[1] and 0 <= y < image.shape[0] and cover > 0.0:
        old = image[y, x, 3] / 255.0
        alpha = cover + old * (1.0 - cover)
        keep = old * (1.0 - cover)
        image[y, x, 0] = int((b * cover + image[y, x, 0] * keep) / alpha)
        image[y, x, 1] = int((g * cover + image[y, x, 1] * keep) / alpha)
        image[y, x, 2] = int((r * cover + image[y, x, 2] * keep) / alpha)
        image[y, x, 3] = int(alpha * 255.0)


@numba.njit(cache=True, nogil=True)
def _segment(image, x0, y0, x1, y1, b, g, r, strength, width):
    rows, columns = image.shape[0], image.shape[1]
    # Cut to the picture (Liang–Barsky 1984), so that a line far outside costs nothing.
    t0, t1 = 0.0, 1.0
    dx, dy = x1 - x0, y1 - y0
    margin = width + 1.0
    for p, q in (
        (-dx, x0 + margin),
        (dx, columns - 1 + margin - x0),
        (-dy, y0 + margin),
        (dy, rows - 1 + margin - y0),
    ):
        if p == 0.0:
            if q < 0.0:
                return
        else:
            t = q / p
            if p < 0.0:
                t0 = max(t0, t)
            else:
                t1 = min(t1, t)
    if t0 > t1:
        return
    x0, y0, x1, y1 = x0 + t0 * dx, y0 + t0 * dy, x0 + t1 * dx, y0 + t1 * dy
    dx, dy = x1 - x0, y1 - y0
    half = width / 2.0
    if abs(dx) >= abs(dy):
        if x1 < x0:
            x0, y0, x1, y1 = x1, y1, x0, y0
        slope = (y1 - y0) / (x1 - x0) if x1 != x0 else 0.0
        reach = half * math.sqrt(1.0 + slope * slope)
        for x in range(int(math.floor(x0 + 0.5)), int(math.floor(x1 + 0.5)) + 1):
            y = y0 + slope * (x - x0)
            low, high = y - reach, y + reach
            for k in range(int(math.floor(low + 0.5)), int(math.floor(high + 0.5)) + 1):
                cover = min(high, k + 0.5) - max(low, k - 0.5)
                blend(image, x, k, b, g, r, min(cover, 1.0) * strength)
    else:
        if y1 < y0:
            x0, y0, x1, y1 = x1, y1, x0, y0
        slope = (x1 - x0) / (y1 - y0)
        reach = half * math.sqrt(1.0 + slope * slope)
        for y in range(int(math.floor(y0 + 0.5)), int(math.floor(y1 + 0.5)) + 1):
            x = x0 + slope * (y - y0)
            low, high = x - reach, x + reach
            for k in range(int(math.floor(low + 0.5)), int(math.floor(high + 0.5)) + 1):
                cover = min(high, k + 0.5) - max(low, k - 0.5)
                blend(image, k, y, b, g, r, min(cover, 1.0) * strength)


@numba.njit(cache=True, nogil=True)
def draw_lines(image, xy, offsets, west, north, size, colour, strength, width):
    """Draw polylines, smoothed, into an image.

    Parameters
    ----------
    xy : (n, ≥ 2) float64
        World coordinates; line i is ``xy[offsets[i]:offsets[i + 1]]``.
    west, north, size : float
        World place of the image's outer corner, and world size of a pixel.
    colour : (3,) uint8
        Red, green, blue.
    strength, width : float
        Opacity from 0 to 1; width in pixels.
    """
    r, g, b = float(colour[0]), float(colour[1]), float(colour[2])
    scale = 1.0 / size
    for line in range(offsets.shape[0] - 1):
        start, stop = offsets[line], offsets[line + 1]
        if stop - start < 2:
            continue
        x0, y0 = (xy[start, 0] - west) * scale - 0.5, (north - xy[start, 1]) * scale - 0.5
        for i in range(start + 1, stop):
            x1, y1 = (xy[i, 0] - west) * scale - 0.5, (north - xy[i, 1]) * scale - 0.5
            # Steps far below a pixel are gathered, or their ends would be painted many times over.
            if i < stop - 1 and abs(x1 - x0) + abs(y1 - y0) < 0.7:
                continue
            _segment(image, x0, y0, x1, y1, b, g, r, strength, width)
            x0, y0 = x1, y1


@numba.njit(cache=True, nogil=True)
def draw_coloured_lines(image, xy, offsets, west, north, size, colours, strength, width):
    """Draw polylines like `draw_lines`, each in a colour of its own: (k, 3) uint8."""
    for line in range(offsets.shape[0] - 1):
        draw_lines(image, xy, offsets[line : line + 2], west, north, size, colours[line], strength, width)


@numba.njit(cache=True, nogil=True)
def draw_edges(image, vertices, triangles, chosen, west, north, size, colour, strength, width, room):
    """Draw triangles' edges as lines (each inner edge is met twice and drawn once).

    Parameters
    ----------
    chosen : (m, 3) bool
        Which edges are drawn, from corner k to k + 1; an empty array means all.
    room : float
        Edges shorter than this many pixels are left out, and those below four times as many drawn the fainter, the
        shorter they are: however dense a TIN, its wires never blacken the picture.
    """
    r, g, b = float(colour[0]), float(colour[1]), float(colour[2])
    scale = 1.0 / size
    rows, columns = image.shape[0], image.shape[1]
    every = chosen.shape[0] == 0
    for t in range(triangles.shape[0]):
        for k in range(3):
            a, c = triangles[t, k], triangles[t, (k + 1) % 3]
            # At the rim, and where faces run the other way round, an edge is met only once.
            if every and a > c:
                continue
            if not every and not chosen[t, k]:
                continue
            x0, y0 = (vertices[a, 0] - west) * scale - 0.5, (north - vertices[a, 1]) * scale - 0.5
            x1, y1 = (vertices[c, 0] - west) * scale - 0.5, (north - vertices[c, 1]) * scale - 0.5
            if max(x0, x1) < 0 or min(x0, x1) > columns or max(y0, y1) < 0 or min(y0, y1) > rows:
                continue
            own = strength
            if room > 0.0:
                length = max(abs(x1 - x0), abs(y1 - y0))
                if length < room:
                    continue
                own *= min((length - room) / (3.0 * room), 1.0)
            _segment(image, x0, y0, x1, y1, b, g, r, own, width)


@numba.njit(cache=True, nogil=True)
def draw_dots(image, xyz, west, north, size, colours, strength, reach):
    """Draw points as small squares, each in its own colour: (n, 3) uint8."""
    scale = 1.0 / size
    rows, columns = image.shape[0], image.shape[1]
    for i in range(xyz.shape[0]):
        x, y = (xyz[i, 0] - west) * scale, (north - xyz[i, 1]) * scale
        if not (-reach <= x < columns + reach and -reach <= y < rows + reach):
            continue
        r, g, b = float(colours[i, 0]), float(colours[i, 1]), float(colours[i, 2])
        cx, cy = int(math.floor(x)), int(math.floor(y))
        for py in range(cy - reach, cy + reach + 1):
            for px in range(cx - reach, cx + reach + 1):
                blend(image, px, py, b, g, r, strength)


@numba.njit(cache=True, nogil=True)
def draw_points(image, xyz, west, north, size, colours, low, high, strength, reach):
    """Draw points as small squares, coloured by height."""
    scale = 1.0 / size
    last = colours.shape[0] - 1
    ratio = last / (high - low) if high > low else 0.0
    rows, columns = image.shape[0], image.shape[1]
    for i in range(xyz.shape[0]):
        x, y = (xyz[i, 0] - west) * scale, (north - xyz[i, 1]) * scale
        if not (-reach <= x < columns + reach and -reach <= y < rows + reach):
            continue
        k = min(max(int((xyz[i, 2] - low) * ratio), 0), last) if not np.isnan(xyz[i, 2]) else 0
        r, g, b = float(colours[k, 0]), float(colours[k, 1]), float(colours[k, 2])
        cx, cy = int(math.floor(x)), int(math.floor(y))
        for py in range(cy - reach, cy + reach + 1):
            for px in range(cx - reach, cx + reach + 1):
                blend(image, px, py, b, g, r, strength)
