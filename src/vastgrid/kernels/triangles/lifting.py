"""Taking a vertex out of a triangulation; see `planar` for the arrays."""

import numba
import numpy as np

from vastgrid.kernels.triangles.planar import _relink, around, corner_of, flip, side
from vastgrid.kernels.triangles.predicates import in_circle


@numba.njit(cache=True, nogil=True)
def lift_out(xy, tri, nbr, flag, part, at, v, ring, gone):
    """Take an inner vertex out; no edge at it may have a bit, and all around it has to be of one part.

    Edges at the vertex are swapped until three triangles are left, which become one.

    Returns
    -------
    bool
        Whether it could be done; `gone` are then the two triangles that are no more.
    """
    n = around(xy, tri, nbr, at, v, ring)
    if n < 3:
        return False
    for _ in range(n * n + 16):
        if n == 3:
            break
        best, best_k = -1, 0
        degenerate, degenerate_k = -1, 0
        for i in range(n):
            t = np.int64(ring[i])
            k = corner_of(tri, t, v)
            # Swap the edge v → q, between triangles (v, p, q) on its right and (v, q, r) on its left.
            q, r = tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]
            o = np.int64(nbr[t, k])
            p = tri[o, (corner_of(tri, o, v) + 1) % 3]
            if side(xy, p, q, r) <= 0.0:
                continue
            s = side(xy, p, r, v)
            if s > 0.0:
                ok = True
                # An ear is cut where no other vertex around lies in its circle.
                for j in range(n):
                    w = tri[ring[j], (corner_of(tri, ring[j], v) + 1) % 3]
                    if w not in (p, q, r) and in_circle(
                        xy[p, 0], xy[p, 1], xy[q, 0], xy[q, 1], xy[r, 0], xy[r, 1], xy[w, 0], xy[w, 1]
                    ):
                        ok = False
                        break
                if ok:
                    best, best_k = t, k
                    break
                if best < 0:
                    best, best_k = t, k
            elif s == 0.0 and n == 4 and degenerate < 0:
                degenerate, degenerate_k = t, k
        if best < 0:
            best, best_k = degenerate, degenerate_k
        if best < 0:
            return False
        flip(tri, nbr, flag, at, best, best_k)
        n = around(xy, tri, nbr, at, v, ring)
    if n != 3:
        return False
    # Three triangles around v become one.
    t, u, w = ring[0], ring[1], ring[2]
    corners = np.zeros(3, np.int64)
    across = np.zeros(3, np.int64)
    bits = np.zeros(3, np.int64)
    for i in range(3):
        k = corner_of(tri, ring[i], v)
        corners[i] = tri[ring[i], (k + 1) % 3]
        across[i] = nbr[ring[i], (k + 1) % 3]
        bits[i] = flag[ring[i], (k + 1) % 3]
    for i in range(3):
        if across[i] >= 0:
            _relink(nbr, across[i], ring[i], t, tri, corners[(i + 1) % 3])
    for i in range(3):
        tri[t, i], nbr[t, i], flag[t, i] = corners[i], across[i], bits[i]
        at[corners[i]] = t
    gone[0], gone[1] = u, w
    at[v] = -1
    return True
