"""Natural neighbour interpolation over a Delaunay triangulation."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray

# More triangles than this around one place are not gathered; their circles then hardly differ, and linear is used.
MOST = 256


def natural_heights(
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    neighbours: NDArray[np.int32],
    corner: tuple[float, float],
    cell: tuple[float, float],
    shape: tuple[int, int],
) -> NDArray[np.float64]:
    """Return natural neighbour heights at the centres of cells, (rows, columns) float64, NaN outside the triangles.

    A place takes its height from those vertices whose Voronoi cells it would take area from, in the share of that area
    (Sibson, R., “A brief description of natural neighbour interpolation”, 1981). The areas are summed edge by edge of the
    cavity that the place opens in the triangulation; where circles are so large that the sum loses its digits, the height
    is linear in the triangle.

    Parameters
    ----------
    vertices : (n, 3) float64
        Of a Delaunay triangulation.
    neighbours : (m, 3) int32
        Neighbour k lies across the edge from corner k to k + 1, -1 at the hull.
    corner, cell, shape
        As in `raster.raster_heights`.
    """
    out = np.full(shape, np.nan)
    origin = vertices[:, :2].mean(axis=0) if len(vertices) else np.zeros(2)
    local = vertices - np.array([origin[0], origin[1], 0.0])
    circle = _circles(local, triangles)
    west, north = corner[0] - origin[0], corner[1] - origin[1]
    _fill(local, triangles, neighbours, circle, west, north, cell[0], cell[1], out)
    return out


def natural_weights(
    vertices: NDArray[np.float64], triangles: NDArray[np.int32], neighbours: NDArray[np.int32], x: float, y: float
) -> dict[int, float]:
    """Return the share of each natural neighbour of one place, by number of vertex; empty outside the triangles."""
    circle = _circles(vertices, triangles)
    share = np.zeros(3 * MOST)
    who = np.zeros(3 * MOST, np.int64)
    for start in range(len(triangles)):
        if _holds(vertices, triangles, start, x, y):
            n = _weights(vertices, triangles, neighbours, circle, start, x, y, *_room(), who, share)
            return {int(v): float(w) for v, w in zip(who[:n], share[:n], strict=True)}
    return {}


def _room():
    return np.zeros(MOST, np.int64), np.zeros((3 * MOST, 2), np.int64), np.zeros((3 * MOST, 2))


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _circles(vertices, triangles):
    """Return centre and squared radius of the circle through each triangle's corners, (m, 3)."""
    out = np.zeros((triangles.shape[0], 3))
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        x, y, far = _circle(
            vertices[b, 0] - vertices[a, 0],
            vertices[b, 1] - vertices[a, 1],
            vertices[c, 0] - vertices[a, 0],
            vertices[c, 1] - vertices[a, 1],
        )
        out[t, 0], out[t, 1], out[t, 2] = vertices[a, 0] + x, vertices[a, 1] + y, far
    return out


@numba.njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _circle(bx, by, cx, cy):
    """Return the centre of the circle through the origin and two places, and its squared radius."""
    twice = 2.0 * (bx * cy - by * cx)
    b, c = bx * bx + by * by, cx * cx + cy * cy
    x, y = (cy * b - by * c) / twice, (bx * c - cx * b) / twice
    return x, y, x * x + y * y


@numba.njit(cache=True, nogil=True)
def _holds(vertices, triangles, t, x, y):
    for k in range(3):
        a, b = triangles[t, k], triangles[t, (k + 1) % 3]
        if _side(vertices, a, b, x, y) < 0.0:
            return False
    return True


@numba.njit(cache=True, nogil=True, inline="always")
def _side(vertices, a, b, x, y):
    ax, ay = vertices[a, 0], vertices[a, 1]
    return (vertices[b, 0] - ax) * (y - ay) - (vertices[b, 1] - ay) * (x - ax)


@numba.njit(cache=True, nogil=True)
def _walk(vertices, triangles, neighbours, start, x, y):
    """Return the triangle that holds a place, or -1 where a walk leaves the triangles."""
    t = start
    for step in range(triangles.shape[0] + 3):
        onwards = -2
        for k in range(3):
            # Another edge first each time, so that rounding cannot send the walk in circles.
            e = (k + step) % 3
            if _side(vertices, triangles[t, e], triangles[t, (e + 1) % 3], x, y) < 0.0:
                onwards = neighbours[t, e]
                break
        if onwards == -2:
            return t
        if onwards < 0:
            return -1
        t = onwards
    return -1


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _weights(vertices, triangles, neighbours, circle, home, x, y, cavity, rim, centre, who, share):
    """Write the natural neighbours of a place in a triangle and their shares; return how many; 0 where digits are lost."""
    # The cavity: every triangle whose circle holds the place, reached from the one that it lies in.
    number, done = 1, 0
    cavity[0] = home
    edges = 0
    found = 0
    while done < number:
        t = cavity[done]
        done += 1
        for e in range(3):
            v, w = triangles[t, e], triangles[t, (e + 1) % 3]
            o = neighbours[t, e]
            inside = False
            if o >= 0:
                for k in range(number):
                    if cavity[k] == o:
                        inside = True
                        break
                if not inside:
                    dx, dy = circle[o, 0] - x, circle[o, 1] - y
                    if dx * dx + dy * dy < circle[o, 2] * (1.0 - 1e-12):
                        if number == MOST:
                            return 0
                        cavity[number] = o
                        number += 1
                        inside = True
            if not inside:
                rim[edges, 0], rim[edges, 1] = v, w
                edges += 1
            # The side between the two cells goes from this triangle's centre to the other's, or to the new corner.
            tx, ty = circle[t, 0] - x, circle[t, 1] - y
            if inside:
                if o < t:
                    continue
                gx, gy = circle[o, 0] - x, circle[o, 1] - y
            else:
                gx, gy, _ = _circle(vertices[v, 0] - x, vertices[v, 1] - y, vertices[w, 0] - x, vertices[w, 1] - y)
                centre[edges - 1, 0], centre[edges - 1, 1] = gx, gy
            twice = tx * gy - ty * gx
            for k in range(2):
                u = w if k else v
                at = -1
                for i in range(found):
                    if who[i] == u:
                        at = i
                        break
                if at < 0:
                    at = found
                    who[at], share[at] = u, 0.0
                    found += 1
                share[at] += twice if k else -twice
    # The sides of the new cell: from one new corner to the next around the rim.
    for i in range(edges):
        for j in range(edges):
            if rim[j, 0] == rim[i, 1]:
                twice = centre[i, 0] * centre[j, 1] - centre[i, 1] * centre[j, 0]
                for k in range(found):
                    if who[k] == rim[i, 1]:
                        share[k] += twice
                        break
                break
    total, least = 0.0, 0.0
    for k in range(found):
        total += share[k]
        least = min(least, share[k])
    if not total > 0.0 or least < -1e-6 * total or not np.isfinite(total):
        return 0
    for k in range(found):
        share[k] /= total
    return found


@numba.njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _linear(vertices, triangles, t, x, y):
    a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
    ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
    vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
    double = ux * vy - uy * vx
    px, py = x - vertices[a, 0], y - vertices[a, 1]
    s, q = (px * vy - py * vx) / double, (ux * py - uy * px) / double
    return vertices[a, 2] + s * (vertices[b, 2] - vertices[a, 2]) + q * (vertices[c, 2] - vertices[a, 2])


@numba.njit(cache=True, nogil=True, error_model="numpy")
def _fill(vertices, triangles, neighbours, circle, west, north, dx, dy, out):
    rows, columns = out.shape
    cavity = np.zeros(MOST, np.int64)
    rim = np.zeros((3 * MOST, 2), np.int64)
    centre = np.zeros((3 * MOST, 2))
    who = np.zeros(3 * MOST, np.int64)
    share = np.zeros(3 * MOST)
    if triangles.shape[0] == 0:
        return
    last = 0
    for row in range(rows):
        y = north - (row + 0.5) * dy
        for i in range(columns):
            # To and fro, so that a walk is short.
            column = i if row % 2 == 0 else columns - 1 - i
            x = west + (column + 0.5) * dx
            t = _walk(vertices, triangles, neighbours, last, x, y)
            if t < 0:
                continue
            last = t
            height = np.nan
            for k in range(3):
                v = triangles[t, k]
                if vertices[v, 0] == x and vertices[v, 1] == y:
                    height = vertices[v, 2]
            if np.isnan(height):
                n = _weights(vertices, triangles, neighbours, circle, t, x, y, cavity, rim, centre, who, share)
                if n == 0:
                    height = _linear(vertices, triangles, t, x, y)
                else:
                    first = vertices[who[0], 2]
                    height = first
                    for k in range(n):
                        height += share[k] * (vertices[who[k], 2] - first)
            out[row, column] = height
