"""Triangles at the rim that go: too long an edge, too small an angle; the rest stays in one piece."""

from __future__ import annotations

import heapq

import numba
import numpy as np


@numba.njit(cache=True, nogil=True)
def worn_rim(xy, triangles, neighbours, flags, longest, smallest):
    """Return which triangles are left when those at the rim go one after another, the longest rim edge first.

    A triangle goes if its rim edge is longer than allowed, or its smallest angle smaller; but not if the rim would then
    touch itself at a vertex, and none at a breakline. After Duckham, Kulik, Worboys and Galton, “Efficient generation of
    simple polygons for characterizing the shape of a set of points in the plane”, Pattern Recognition 41 (2008).

    Parameters
    ----------
    longest : (m,) float64
        Length that the rim edge of each triangle may have; infinite for any.
    smallest : float
        Smallest angle in radians; 0 for any.

    Returns
    -------
    (m,) bool
    """
    m = triangles.shape[0]
    keep = np.ones(m, np.bool_)
    rim = np.zeros(xy.shape[0], np.int64)
    heap = [(0.0, np.int64(0), np.int64(0))]
    heap.pop()
    for t in range(m):
        for k in range(3):
            if neighbours[t, k] < 0:
                rim[triangles[t, k]] += 1
                rim[triangles[t, (k + 1) % 3]] += 1
                heapq.heappush(heap, (-_length(xy, triangles, t, k), np.int64(t), np.int64(k)))
    while len(heap) > 0:
        key, t, k = heapq.heappop(heap)
        if not keep[t] or flags[t, k]:
            continue
        if -key <= longest[t] and not (smallest > 0.0 and _angle(xy, triangles, t) < smallest):
            continue
        open_ = 0
        for j in range(3):
            o = neighbours[t, j]
            if o < 0 or not keep[o]:
                open_ += 1
        c = triangles[t, (k + 2) % 3]
        # With one open edge its far corner comes to the rim: it must not be there already.
        if open_ == 1 and rim[c] > 0:
            continue
        if open_ == 2:
            # An ear: its tip goes, unless other triangles hang on it.
            if smallest == 0.0:
                continue
        elif open_ == 3:
            continue
        keep[t] = False
        for j in range(3):
            o = neighbours[t, j]
            a, b = triangles[t, j], triangles[t, (j + 1) % 3]
            if o < 0 or not keep[o]:
                rim[a] -= 1
                rim[b] -= 1
            else:
                rim[a] += 1
                rim[b] += 1
                for i in range(3):
                    if neighbours[o, i] == t and triangles[o, i] == b:
                        heapq.heappush(heap, (-_length(xy, triangles, o, i), np.int64(o), np.int64(i)))
    return keep


@numba.njit(cache=True, nogil=True)
def _length(xy, triangles, t, k):
    a, b = triangles[t, k], triangles[t, (k + 1) % 3]
    return np.hypot(xy[a, 0] - xy[b, 0], xy[a, 1] - xy[b, 1])


@numba.njit(cache=True, nogil=True)
def _angle(xy, triangles, t):
    p, q, r = _length(xy, triangles, t, 0), _length(xy, triangles, t, 1), _length(xy, triangles, t, 2)
    shortest = min(p, min(q, r))
    one, other = (q, r) if shortest == p else ((r, p) if shortest == q else (p, q))
    cosine = (one * one + other * other - shortest * shortest) / (2.0 * one * other)
    return np.arccos(min(max(cosine, -1.0), 1.0))
