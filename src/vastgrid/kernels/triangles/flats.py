"""Flat triangles between contours: edges swapped and places inferred where ridges, valleys, summits and saddles lie."""

from __future__ import annotations

import heapq

import numba
import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.triangles.planar import can_flip, edge_to, flip


@numba.njit(cache=True, nogil=True)
def flat_triangles(z, tri, near):
    """Return which triangles have three corners of one height, (m,) bool."""
    out = np.zeros(tri.shape[0], np.bool_)
    for t in range(tri.shape[0]):
        a, b, c = z[tri[t, 0]], z[tri[t, 1]], z[tri[t, 2]]
        out[t] = abs(a - b) <= near and abs(a - c) <= near
    return out


@numba.njit(cache=True, nogil=True)
def swap_flats(xy, z, tri, nbr, flag, part, at, near, sharpest):
    """Swap edges between a flat triangle and one that is not, as far as no sharp triangle comes of it; return how many.

    Parameters
    ----------
    sharpest : float
        Sine of the smallest angle that may come of it.
    """
    number = 0
    count = tri.shape[0]
    stack = np.zeros(count + 16, np.int64)
    depth = 0
    for t in range(count):
        if _flat(z, tri, t, near):
            stack[depth] = t
            depth += 1
    while depth > 0:
        depth -= 1
        t = stack[depth]
        if not _flat(z, tri, t, near):
            continue
        best, sine = -1, sharpest
        for k in range(3):
            o = np.int64(nbr[t, k])
            if o < 0 or flag[t, k] != 0 or _flat(z, tri, o, near) or not can_flip(xy, tri, nbr, part, t, k):
                continue
            b = np.int64(tri[t, (k + 1) % 3])
            a, c = np.int64(tri[t, k]), np.int64(tri[t, (k + 2) % 3])
            d = np.int64(tri[o, (edge_to(nbr, o, t, tri, b) + 2) % 3])
            least = min(_sine(xy, a, d, c), _sine(xy, d, b, c))
            if least > sine:
                best, sine = k, least
        if best < 0:
            continue
        flip(tri, nbr, flag, at, t, best)
        number += 1
        # Its flat neighbours now lie against ground that is not flat.
        o = np.int64(nbr[t, 1])
        for u in (t, o):
            for k in range(3):
                v = np.int64(nbr[u, k])
                if v >= 0 and depth < stack.shape[0] and _flat(z, tri, v, near):
                    stack[depth] = v
                    depth += 1
    return number


@numba.njit(cache=True, nogil=True)
def _flat(z, tri, t, near):
    a, b, c = z[tri[t, 0]], z[tri[t, 1]], z[tri[t, 2]]
    return abs(a - b) <= near and abs(a - c) <= near


@numba.njit(cache=True, nogil=True)
def _sine(xy, a, b, c):
    # The sine of the smallest angle: twice the area over the product of the two longest sides.
    ux, uy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
    vx, vy = xy[c, 0] - xy[a, 0], xy[c, 1] - xy[a, 1]
    wx, wy = vx - ux, vy - uy
    p, q, r = ux * ux + uy * uy, vx * vx + vy * vy, wx * wx + wy * wy
    least = min(p, min(q, r))
    return abs(ux * vy - uy * vx) / np.sqrt(max(p * q * r / least, 1e-300))


@numba.njit(cache=True, nogil=True)
def spine(xy, z, tri, nbr, flag, flat):
    """Return the places in the middle of flat ground: one on each inner edge of it, and how they hang together.

    Returns
    -------
    places : (p, 3) float64
        Easting, northing, level of the flat ground.
    width : (p,) float64
        Distance to the contour beside: half the edge's length.
    owner : (p,) int64
        A flat triangle that has the place on an edge.
    links : (q, 2) int64
        Pairs of places of one triangle.
    mouths : (r, 2) int64
        Places on an edge beyond which the ground is not flat, and the vertex beyond.
    """
    m = tri.shape[0]
    number = np.full((m, 3), -1, np.int64)
    p = 0
    for t in range(m):
        if not flat[t]:
            continue
        for k in range(3):
            o = nbr[t, k]
            if flag[t, k] != 0 or o < 0:
                continue
            if flat[o]:
                if o > t:
                    j = edge_to(nbr, o, t, tri, np.int64(tri[t, (k + 1) % 3]))
                    number[t, k] = p
                    number[o, j] = p
                    p += 1
            else:
                number[t, k] = p
                p += 1
    places = np.zeros((p, 3))
    width = np.zeros(p)
    owner = np.zeros(p, np.int64)
    links = np.zeros((3 * m, 2), np.int64)
    mouths = np.zeros((p, 2), np.int64)
    q = r = 0
    for t in range(m):
        if not flat[t]:
            continue
        for k in range(3):
            i = number[t, k]
            if i < 0:
                continue
            a, b = tri[t, k], tri[t, (k + 1) % 3]
            places[i, 0], places[i, 1] = (xy[a, 0] + xy[b, 0]) / 2.0, (xy[a, 1] + xy[b, 1]) / 2.0
            places[i, 2] = z[a]
            owner[i] = t
            width[i] = np.hypot(xy[a, 0] - xy[b, 0], xy[a, 1] - xy[b, 1]) / 2.0
            o = nbr[t, k]
            if not flat[o]:
                mouths[r, 0] = i
                mouths[r, 1] = tri[o, (edge_to(nbr, o, t, tri, np.int64(b)) + 2) % 3]
                r += 1
            for j in range(k):
                if number[t, j] >= 0:
                    links[q, 0], links[q, 1] = i, number[t, j]
                    q += 1
    return places, width, owner, links[:q].copy(), mouths[:r].copy()


def along_spines(
    places: NDArray[np.float64], links: NDArray[np.int64], mouths: NDArray[np.int64], ends: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Return how far each place of a spine is from the next other level, and which mouth leads there (-1 for none).

    Parameters
    ----------
    ends : (v, 2) float64
        Places of the vertices that mouths lead to.
    """
    count = len(places)
    far = np.full(count, np.inf)
    mouth = np.full(count, -1, np.int64)
    length = np.hypot(*(places[links[:, 0], :2] - places[links[:, 1], :2]).T) if len(links) else np.zeros(0)
    order = np.argsort(np.concatenate((links[:, 0], links[:, 1])), kind="stable")
    ends_ = np.concatenate((links[:, 0], links[:, 1]))[order]
    others = np.concatenate((links[:, 1], links[:, 0]))[order]
    lengths = np.concatenate((length, length))[order]
    starts = np.searchsorted(ends_, np.arange(count + 1))
    queue: list[tuple[float, int, int]] = []
    for k, (place, vertex) in enumerate(mouths.tolist()):
        away = float(np.hypot(*(places[place, :2] - ends[vertex])))
        heapq.heappush(queue, (away, place, k))
    while queue:
        away, place, k = heapq.heappop(queue)
        if away >= far[place]:
            continue
        far[place], mouth[place] = away, k
        for slot in range(int(starts[place]), int(starts[place + 1])):
            other = int(others[slot])
            if away + lengths[slot] < far[other]:
                heapq.heappush(queue, (away + float(lengths[slot]), other, k))
    return far, mouth
