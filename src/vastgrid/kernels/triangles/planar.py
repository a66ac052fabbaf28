"""A triangulation that changes: vertices go in and out, edges are swapped and kept, each change local.

All functions work on plain arrays with room at their ends:

xy (v, 2) float64, tri (t, 3) int32 corners counter-clockwise, nbr (t, 3) int32 the triangle across the edge from corner k
to corner k + 1 (-1 at the rim), flag (t, 3) uint8 bits of that edge (any bit: it stays), part (t,) uint8 what a triangle
belongs to (edges between parts stay), at (v,) int32 some triangle of each vertex, size (2,) int64 vertices and
triangles in use. Decisions depend on places alone, not on where vertices and triangles stand in the arrays, so
that a log gives the same surface whether it is replayed as a whole or from half-way.
"""

from __future__ import annotations

import numba
import numpy as np

from vastgrid.kernels.triangles.predicates import in_circle, turn

INSIDE, ON_EDGE, ON_VERTEX, NOWHERE = 0, 1, 2, 3


@numba.njit(cache=True, nogil=True)
def side(xy, a, b, c):
    """Return the turn of three vertices."""
    return turn(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1])


@numba.njit(cache=True, nogil=True)
def edge_to(nbr, t, other, tri, a):
    """Return the edge of a triangle that leads to another and begins at vertex a; -1 if none does."""
    for k in range(3):
        if nbr[t, k] == other and tri[t, k] == a:
            return k
    return -1


@numba.njit(cache=True, nogil=True)
def _relink(nbr, t, old, new, tri, a):
    # The edge of t that begins at vertex a led to `old` and now leads to `new`.
    if t >= 0:
        for k in range(3):
            if nbr[t, k] == old and tri[t, k] == a:
                nbr[t, k] = new
                return


@numba.njit(cache=True, nogil=True)
def corner_of(tri, t, v):
    """Return which corner of a triangle a vertex is, or -1."""
    for k in range(3):
        if tri[t, k] == v:
            return k
    return -1


@numba.njit(cache=True, nogil=True)
def flip(tri, nbr, flag, at, t, k):
    """Swap edge k of triangle t with the other diagonal of the four-sided figure; t and its neighbour keep their numbers.

    Afterwards t is (a, d, c) and the other (d, b, c), where the edge led from a to b.
    """
    o = np.int64(nbr[t, k])
    k1, k2 = (k + 1) % 3, (k + 2) % 3
    a, b, c = np.int64(tri[t, k]), np.int64(tri[t, k1]), np.int64(tri[t, k2])
    m = edge_to(nbr, o, t, tri, b)
    m1, m2 = (m + 1) % 3, (m + 2) % 3
    d = np.int64(tri[o, m2])
    t_bc, t_ca, o_ad, o_db = nbr[t, k1], nbr[t, k2], nbr[o, m1], nbr[o, m2]
    f_bc, f_ca, f_ad, f_db = flag[t, k1], flag[t, k2], flag[o, m1], flag[o, m2]
    tri[t, 0], tri[t, 1], tri[t, 2] = a, d, c
    nbr[t, 0], nbr[t, 1], nbr[t, 2] = o_ad, o, t_ca
    flag[t, 0], flag[t, 1], flag[t, 2] = f_ad, 0, f_ca
    tri[o, 0], tri[o, 1], tri[o, 2] = d, b, c
    nbr[o, 0], nbr[o, 1], nbr[o, 2] = o_db, t_bc, t
    flag[o, 0], flag[o, 1], flag[o, 2] = f_db, f_bc, 0
    _relink(nbr, o_ad, o, t, tri, d)
    _relink(nbr, t_bc, t, o, tri, c)
    at[a], at[b], at[c], at[d] = t, o, t, t


@numba.njit(cache=True, nogil=True)
def can_flip(xy, tri, nbr, part, t, k):
    """Return whether the figure on both sides of an edge is convex, and of one part."""
    o = np.int64(nbr[t, k])
    if o < 0 or part[o] != part[t]:
        return False
    a, b, c = np.int64(tri[t, k]), np.int64(tri[t, (k + 1) % 3]), np.int64(tri[t, (k + 2) % 3])
    m = edge_to(nbr, o, t, tri, b)
    if m < 0:
        return False
    d = np.int64(tri[o, (m + 2) % 3])
    return c != d and side(xy, a, d, c) > 0.0 and side(xy, d, b, c) > 0.0


@numba.njit(cache=True, nogil=True)
def legalise(xy, tri, nbr, flag, part, at, stack, depth):
    """Swap edges until none of those waiting has another vertex in its circle (Lawson 1977).

    Parameters
    ----------
    stack : (s, 2) int32
        Edges as vertex pairs from the left of which they are looked at; `depth` of them wait.
    """
    while depth > 0:
        depth -= 1
        a, b = np.int64(stack[depth, 0]), np.int64(stack[depth, 1])
        t, k = find_edge(tri, nbr, at, a, b)
        if t < 0 or flag[t, k] != 0 or not can_flip(xy, tri, nbr, part, t, k):
            continue
        c = np.int64(tri[t, (k + 2) % 3])
        o = nbr[t, k]
        d = np.int64(tri[o, (edge_to(nbr, o, t, tri, b) + 2) % 3])
        if not in_circle(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], xy[c, 0], xy[c, 1], xy[d, 0], xy[d, 1]):
            continue
        flip(tri, nbr, flag, at, t, k)
        for p, q in ((a, d), (d, b), (b, c), (c, a)):
            if depth < stack.shape[0]:
                stack[depth, 0], stack[depth, 1] = p, q
                depth += 1


@numba.njit(cache=True, nogil=True)
def find_edge(tri, nbr, at, a, b):
    """Return the triangle left of the edge a → b and which of its edges that is; -1, 0 where there is none.

    The triangles around a are walked both ways, so that a rim on the way does no harm.
    """
    start = at[a]
    t = start
    while True:
        k = corner_of(tri, t, a)
        if k < 0:
            return -1, 0
        if tri[t, (k + 1) % 3] == b:
            return t, k
        t = np.int64(nbr[t, (k + 2) % 3])
        if t == start:
            return -1, 0
        if t < 0:
            break
    t = start
    while True:
        k = corner_of(tri, t, a)
        if tri[t, (k + 1) % 3] == b:
            return t, k
        t = np.int64(nbr[t, k])
        if t < 0 or t == start:
            return -1, 0


@numba.njit(cache=True, nogil=True)
def locate(xy, tri, nbr, x, y, start):
    """Walk to the triangle that holds a place; return it, what of it the place lies on, and which edge or corner.

    The triangles have to fill a convex area. (-1, NOWHERE, 0) means outside of it.
    """
    t = start
    came = -1
    for step in range(4 * tri.shape[0] + 100):
        worst, best = 0.0, -1
        zero = 0
        # Another edge first at every step: a walk cannot go round in a ring for ever (Devillers 2002).
        for j in range(3):
            k = (j + step) % 3
            a, b = np.int64(tri[t, k]), np.int64(tri[t, (k + 1) % 3])
            s = turn(xy[a, 0], xy[a, 1], xy[b, 0], xy[b, 1], x, y)
            if s == 0.0:
                zero += 1 << k
            elif s < 0.0 and (best < 0 or (nbr[t, k] != came and s < worst)):
                worst, best = s, k
        if best < 0:
            if zero == 0:
                return t, INSIDE, 0
            if zero == 1 or zero == 2 or zero == 4:
                return t, ON_EDGE, 0 if zero == 1 else (1 if zero == 2 else 2)
            # Two edges meet in the corner that is the end of one and the beginning of the other.
            return t, ON_VERTEX, 1 if zero == 3 else (2 if zero == 6 else 0)
        if nbr[t, best] < 0:
            return -1, NOWHERE, 0
        came, t = t, nbr[t, best]
    return -1, NOWHERE, 0


@numba.njit(cache=True, nogil=True)
def before(xy, a, b):
    """Return whether a vertex lies west of another, or south of it on the same easting."""
    return xy[a, 0] < xy[b, 0] or (xy[a, 0] == xy[b, 0] and xy[a, 1] < xy[b, 1])


@numba.njit(cache=True, nogil=True)
def _turned(xy, tri, nbr, flag, t):
    # Begin a triangle at its westernmost vertex.
    while before(xy, tri[t, 1], tri[t, 0]) or before(xy, tri[t, 2], tri[t, 0]):
        tri[t, 0], tri[t, 1], tri[t, 2] = tri[t, 1], tri[t, 2], tri[t, 0]
        nbr[t, 0], nbr[t, 1], nbr[t, 2] = nbr[t, 1], nbr[t, 2], nbr[t, 0]
        flag[t, 0], flag[t, 1], flag[t, 2] = flag[t, 1], flag[t, 2], flag[t, 0]


@numba.njit(cache=True, nogil=True)
def split_triangle(xy, tri, nbr, flag, part, at, size, t, v):
    """Put a vertex inside a triangle; three edges lead to it."""
    _turned(xy, tri, nbr, flag, t)
    a, b, c = np.int64(tri[t, 0]), np.int64(tri[t, 1]), np.int64(tri[t, 2])
    n0, n1, n2 = nbr[t, 0], nbr[t, 1], nbr[t, 2]
    f0, f1, f2 = flag[t, 0], flag[t, 1], flag[t, 2]
    u, w = size[1], size[1] + 1
    size[1] += 2
    tri[t, 0], tri[t, 1], tri[t, 2] = a, b, v
    nbr[t, 0], nbr[t, 1], nbr[t, 2] = n0, u, w
    flag[t, 0], flag[t, 1], flag[t, 2] = f0, 0, 0
    tri[u, 0], tri[u, 1], tri[u, 2] = b, c, v
    nbr[u, 0], nbr[u, 1], nbr[u, 2] = n1, w, t
    flag[u, 0], flag[u, 1], flag[u, 2] = f1, 0, 0
    tri[w, 0], tri[w, 1], tri[w, 2] = c, a, v
    nbr[w, 0], nbr[w, 1], nbr[w, 2] = n2, t, u
    flag[w, 0], flag[w, 1], flag[w, 2] = f2, 0, 0
    part[u], part[w] = part[t], part[t]
    _relink(nbr, n1, t, u, tri, c)
    _relink(nbr, n2, t, w, tri, a)
    at[a], at[b], at[c], at[v] = t, t, u, t


@numba.njit(cache=True, nogil=True)
def split_edge(xy, tri, nbr, flag, part, at, size, t, k, v):
    """Put a vertex on edge k of a triangle; the edge's bits are those of both halves."""
    o = np.int64(nbr[t, k])
    if o >= 0 and before(xy, tri[t, (k + 1) % 3], tri[t, k]):
        # From the side on which the western end comes first.
        k = edge_to(nbr, o, t, tri, tri[t, (k + 1) % 3])
        t, o = o, t
    k1, k2 = (k + 1) % 3, (k + 2) % 3
    a, b, c = np.int64(tri[t, k]), np.int64(tri[t, k1]), np.int64(tri[t, k2])
    kept = flag[t, k]
    n_bc, n_ca, f_bc, f_ca = nbr[t, k1], nbr[t, k2], flag[t, k1], flag[t, k2]
    u = size[1]
    size[1] += 1
    part[u] = part[t]
    if o >= 0:
        m = edge_to(nbr, o, t, tri, b)
        m1, m2 = (m + 1) % 3, (m + 2) % 3
        d = np.int64(tri[o, m2])
        n_ad, n_db, f_ad, f_db = nbr[o, m1], nbr[o, m2], flag[o, m1], flag[o, m2]
        w = size[1]
        size[1] += 1
        part[w] = part[o]
        tri[o, 0], tri[o, 1], tri[o, 2] = a, d, v
        nbr[o, 0], nbr[o, 1], nbr[o, 2] = n_ad, w, t
        flag[o, 0], flag[o, 1], flag[o, 2] = f_ad, 0, kept
        tri[w, 0], tri[w, 1], tri[w, 2] = d, b, v
        nbr[w, 0], nbr[w, 1], nbr[w, 2] = n_db, u, o
        flag[w, 0], flag[w, 1], flag[w, 2] = f_db, kept, 0
        _relink(nbr, n_db, o, w, tri, b)
        at[d] = o
    else:
        w = -1
    tri[t, 0], tri[t, 1], tri[t, 2] = c, a, v
    nbr[t, 0], nbr[t, 1], nbr[t, 2] = n_ca, o, u
    flag[t, 0], flag[t, 1], flag[t, 2] = f_ca, kept, 0
    tri[u, 0], tri[u, 1], tri[u, 2] = b, c, v
    nbr[u, 0], nbr[u, 1], nbr[u, 2] = n_bc, t, w
    flag[u, 0], flag[u, 1], flag[u, 2] = f_bc, 0, kept
    _relink(nbr, n_bc, t, u, tri, c)
    at[a], at[b], at[c], at[v] = t, u, t, t


@numba.njit(cache=True, nogil=True)
def around(xy, tri, nbr, at, v, ring):
    """Write the triangles around an inner vertex in counter-clockwise order; return how many, or -1 at a rim.

    The first is the one whose next corner lies farthest west.
    """
    start = at[v]
    t = start
    best, first = np.int64(-1), start
    for _ in range(tri.shape[0]):
        k = corner_of(tri, t, v)
        ahead = np.int64(tri[t, (k + 1) % 3])
        if best < 0 or before(xy, ahead, best):
            best, first = ahead, t
        t = np.int64(nbr[t, (k + 2) % 3])
        if t < 0:
            return -1
        if t == start:
            break
    n = 0
    t = first
    while True:
        if n < ring.shape[0]:
            ring[n] = t
        n += 1
        t = np.int64(nbr[t, (corner_of(tri, t, v) + 2) % 3])
        if t == first:
            break
    return n if n <= ring.shape[0] else -2


@numba.njit(cache=True, nogil=True)
def legalise_around(xy, tri, nbr, flag, part, at, v, stack, ring):
    """Swap edges opposite a vertex until its surroundings are Delaunay again."""
    n = around(xy, tri, nbr, at, v, ring)
    depth = 0
    for i in range(max(n, 0)):
        k = corner_of(tri, ring[i], v)
        if depth < stack.shape[0]:
            stack[depth, 0], stack[depth, 1] = tri[ring[i], (k + 1) % 3], tri[ring[i], (k + 2) % 3]
            depth += 1
    legalise(xy, tri, nbr, flag, part, at, stack, depth)


@numba.njit(cache=True, nogil=True)
def roomier(pairs, top):
    """Return pairs with room for more."""
    out = np.zeros((top, 2), np.int64)
    for i in range(pairs.shape[0]):
        out[i, 0], out[i, 1] = pairs[i, 0], pairs[i, 1]
    return out


@numba.njit(cache=True, nogil=True)
def keep_edge(xy, tri, nbr, flag, part, at, a, b, bit, out):
    """Make a way from vertex a towards b out of edges that stay, as far as nothing that stays already is in its way.

    Crossed edges are swapped away one by one (Sloan, “A fast algorithm for generating constrained Delaunay
    triangulations”, Computers & Structures 47, 1993).

    Parameters
    ----------
    bit : int
        Bit that the edges get.
    out : (3,) int64
        What stopped it: an edge that stays, as a pair of vertices and the triangle left of it.

    Returns
    -------
    int
        The vertex that was reached: b, another on the way, or -1 where `out` says what is in the way; -2 if there is
        no way.
    """
    t, k = find_edge(tri, nbr, at, a, b)
    if t >= 0:
        mark(tri, nbr, flag, t, k, bit)
        return b
    t, k = find_edge(tri, nbr, at, b, a)
    if t >= 0:
        mark(tri, nbr, flag, t, k, bit)
        return b
    # The triangle around a through which the way leaves; at a rim from the first of those around a.
    start = at[a]
    t = start
    for _ in range(tri.shape[0]):
        before = nbr[t, corner_of(tri, t, a)]
        if before < 0 or before == start:
            break
        t = before
    start = t
    found, left, right = np.int64(-1), np.int64(-1), np.int64(-1)
    for _ in range(tri.shape[0]):
        k = corner_of(tri, t, a)
        p, q = np.int64(tri[t, (k + 1) % 3]), np.int64(tri[t, (k + 2) % 3])
        sp, sq = side(xy, a, b, p), side(xy, a, b, q)
        if (
            sp == 0.0
            and (xy[p, 0] - xy[a, 0]) * (xy[b, 0] - xy[a, 0]) + (xy[p, 1] - xy[a, 1]) * (xy[b, 1] - xy[a, 1]) > 0.0
        ):
            mark(tri, nbr, flag, t, k, bit)
            return p
        if sp < 0.0 and sq > 0.0:
            found, right, left = t, p, q
            break
        t = np.int64(nbr[t, (k + 2) % 3])
        if t < 0 or t == start:
            break
    if found < 0:
        return -2
    crossed = np.zeros((256, 2), np.int64)
    n = 0
    t = found
    end = b
    while True:
        k = corner_of(tri, t, right)
        if flag[t, k] != 0 or nbr[t, k] < 0 or part[nbr[t, k]] != part[t]:
            out[0], out[1], out[2] = right, left, t
            return -1
        if n == crossed.shape[0]:
            crossed = roomier(crossed, 2 * n)
        crossed[n, 0], crossed[n, 1] = right, left
        n += 1
        o = np.int64(nbr[t, k])
        m = edge_to(nbr, o, t, tri, left)
        p = np.int64(tri[o, (m + 2) % 3])
        t = o
        if p == b:
            break
        s = side(xy, a, b, p)
        if s == 0.0:
            end = p
            break
        if s > 0.0:
            left = p
        else:
            right = p
    # Swap until none is crossed; an edge whose figure is not convex yet waits.
    first, last, number = 0, n % crossed.shape[0], n
    new = np.zeros((4 * n + 16, 2), np.int64)
    fresh = 0
    tries = 0
    if n == crossed.shape[0]:
        crossed = roomier(crossed, 2 * n)
        last = n
    room = crossed.shape[0]
    while number > 0:
        p, q = crossed[first, 0], crossed[first, 1]
        first = (first + 1) % room
        number -= 1
        t, k = find_edge(tri, nbr, at, p, q)
        if t < 0:
            continue
        tries += 1
        if tries > 50 * n * n + 1000:
            return -2
        if not can_flip(xy, tri, nbr, part, t, k):
            crossed[last, 0], crossed[last, 1] = p, q
            last = (last + 1) % room
            number += 1
            continue
        flip(tri, nbr, flag, at, t, k)
        # The new diagonal leads from d to c: see `flip`.
        d, c = tri[t, 1], tri[t, 2]
        if d != a and d != end and c != a and c != end and side(xy, a, end, d) * side(xy, a, end, c) < 0.0:
            if side(xy, a, end, d) < 0.0:
                crossed[last, 0], crossed[last, 1] = d, c
            else:
                crossed[last, 0], crossed[last, 1] = c, d
            last = (last + 1) % room
            number += 1
        elif not ((d == a and c == end) or (c == a and d == end)) and fresh < new.shape[0]:
            new[fresh, 0], new[fresh, 1] = min(c, d), max(c, d)
            fresh += 1
    t, k = find_edge(tri, nbr, at, a, end)
    if t < 0:
        return -2
    mark(tri, nbr, flag, t, k, bit)
    stack = roomier(new, new.shape[0] + 8 * fresh + 64)
    legalise(xy, tri, nbr, flag, part, at, stack, fresh)
    return end


@numba.njit(cache=True, nogil=True)
def mark(tri, nbr, flag, t, k, bit):
    """Give an edge a bit, on both sides."""
    flag[t, k] |= bit
    o = np.int64(nbr[t, k])
    if o >= 0:
        flag[o, edge_to(nbr, o, t, tri, tri[t, (k + 1) % 3])] |= bit


@numba.njit(cache=True, nogil=True)
def clear_edge(tri, nbr, flag, t, k, bit):
    """Take a bit off an edge, on both sides."""
    flag[t, k] &= ~np.uint8(bit)
    o = np.int64(nbr[t, k])
    if o >= 0:
        flag[o, edge_to(nbr, o, t, tri, tri[t, (k + 1) % 3])] &= ~np.uint8(bit)


@numba.njit(cache=True, nogil=True)
def first_triangles(tri, count, at):
    """Write some triangle of each vertex: the last that names it."""
    for t in range(count):
        for k in range(3):
            at[tri[t, k]] = t
