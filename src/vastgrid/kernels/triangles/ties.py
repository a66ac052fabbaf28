"""Where four places lie on one circle a Delaunay triangulation can go either way: here it goes the same way every time."""

from __future__ import annotations

import numba
import numpy as np

# Differences this share of the terms they are made of are rounding (as of `predicates.in_circle`, with room).
_BOUND = 64.0 * 1.11e-16


@numba.njit(cache=True, nogil=True, inline="always")
def _before(xy, i, j):
    return xy[i, 0] < xy[j, 0] or (xy[i, 0] == xy[j, 0] and xy[i, 1] < xy[j, 1])


@numba.njit(cache=True, nogil=True)
def _on_one_circle(xy, four):
    """Say whether four places lie on one circle, whatever their order."""
    own = four.copy()
    for i in range(1, 4):
        j = i
        while j > 0 and _before(xy, own[j], own[j - 1]):
            own[j], own[j - 1] = own[j - 1], own[j]
            j -= 1
    dx, dy = xy[own[3], 0], xy[own[3], 1]
    adx, ady = xy[own[0], 0] - dx, xy[own[0], 1] - dy
    bdx, bdy = xy[own[1], 0] - dx, xy[own[1], 1] - dy
    cdx, cdy = xy[own[2], 0] - dx, xy[own[2], 1] - dy
    bc, cb, ca, ac, ab, ba = bdx * cdy, cdx * bdy, cdx * ady, adx * cdy, adx * bdy, bdx * ady
    a, b, c = adx * adx + ady * ady, bdx * bdx + bdy * bdy, cdx * cdx + cdy * cdy
    found = a * (bc - cb) + b * (ca - ac) + c * (ab - ba)
    room = (abs(bc) + abs(cb)) * a + (abs(ca) + abs(ac)) * b + (abs(ab) + abs(ba)) * c
    return abs(found) <= _BOUND * room


@numba.njit(cache=True, nogil=True)
def _turn(xy, a, b, c):
    return (xy[a, 0] - xy[c, 0]) * (xy[b, 1] - xy[c, 1]) - (xy[a, 1] - xy[c, 1]) * (xy[b, 0] - xy[c, 0])


@numba.njit(cache=True, nogil=True)
def settle_ties(xy, triangles, neighbours, constrained):
    """Swap edges, in place, until of four places on one circle the first is on the edge between them; return how many.

    First is the westernmost, then the southernmost: so every polygon of places on one circle becomes a fan from its
    first, whatever the order in which it was triangulated.

    Parameters
    ----------
    xy : (n, 2) float64
    triangles, neighbours : (m, 3) int32
        As `triangulate` gives them.
    constrained : (m, 3) bool
        Edges that stay.
    """
    swapped = 0
    four = np.zeros(4, np.int64)
    for _ in range(1000):
        before = swapped
        for t in range(triangles.shape[0]):
            for k in range(3):
                u = neighbours[t, k]
                if u < 0 or constrained[t, k]:
                    continue
                a, b, c = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
                j = 0
                while neighbours[u, j] != t or triangles[u, j] != b:
                    j += 1
                d = triangles[u, (j + 2) % 3]
                other = c if _before(xy, c, d) else d
                if not (_before(xy, other, a) and _before(xy, other, b)):
                    continue
                four[0], four[1], four[2], four[3] = a, b, c, d
                if not _on_one_circle(xy, four) or not (_turn(xy, d, b, c) > 0.0 and _turn(xy, d, c, a) > 0.0):
                    continue
                bc, ca = neighbours[t, (k + 1) % 3], neighbours[t, (k + 2) % 3]
                ad, db = neighbours[u, (j + 1) % 3], neighbours[u, (j + 2) % 3]
                fbc, fca = constrained[t, (k + 1) % 3], constrained[t, (k + 2) % 3]
                fad, fdb = constrained[u, (j + 1) % 3], constrained[u, (j + 2) % 3]
                triangles[t, 0], triangles[t, 1], triangles[t, 2] = d, b, c
                neighbours[t, 0], neighbours[t, 1], neighbours[t, 2] = db, bc, u
                constrained[t, 0], constrained[t, 1], constrained[t, 2] = fdb, fbc, False
                triangles[u, 0], triangles[u, 1], triangles[u, 2] = d, c, a
                neighbours[u, 0], neighbours[u, 1], neighbours[u, 2] = t, ca, ad
                constrained[u, 0], constrained[u, 1], constrained[u, 2] = False, fca, fad
                if db >= 0:
                    for i in range(3):
                        if neighbours[db, i] == u and triangles[db, i] == b:
                            neighbours[db, i] = t
                if ca >= 0:
                    for i in range(3):
                        if neighbours[ca, i] == t and triangles[ca, i] == a:
                            neighbours[ca, i] = u
                swapped += 1
                break
        if swapped == before:
            break
    return swapped


@numba.njit(cache=True, nogil=True)
def circle_radii(xy, triangles):
    """Return the radius of the circle through each triangle's corners, (m,) float64; infinite where they are on a line."""
    out = np.full(triangles.shape[0], np.inf)
    for t in range(triangles.shape[0]):
        # From the first corner in one order for all, so that it does not depend on how the triangle is written.
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if _before(xy, b, a) and _before(xy, b, c):
            a, b, c = b, c, a
        elif _before(xy, c, a) and _before(xy, c, b):
            a, b, c = c, a, b
        ux, uy = xy[b, 0] - xy[a, 0], xy[b, 1] - xy[a, 1]
        vx, vy = xy[c, 0] - xy[a, 0], xy[c, 1] - xy[a, 1]
        area = abs(ux * vy - uy * vx)
        if area > 0.0:
            wx, wy = vx - ux, vy - uy
            out[t] = np.sqrt(ux * ux + uy * uy) * np.sqrt(vx * vx + vy * vy) * np.sqrt(wx * wx + wy * wy) / (2.0 * area)
    return out
