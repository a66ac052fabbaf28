"""Neighbours, places and regions: integer work on triangles."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


def corners(xy: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Return the smallest and largest of each column of (n, 2 or 3) coordinates; twenty times faster than by axis."""
    columns = range(xy.shape[1])
    return np.array([xy[:, k].min() for k in columns]), np.array([xy[:, k].max() for k in columns])


def neighbours_of(triangles: NDArray[np.int32]) -> NDArray[np.int32]:
    """Return the triangle across each edge (corner k to k + 1), -1 at the rim.

    An edge shared by more than two triangles joins the first two met; the rest count as rim.
    """
    triangles = np.ascontiguousarray(triangles, np.int32)
    top = int(triangles.max()) + 1 if len(triangles) else 0
    # Numbers of edges: half the memory where they fit.
    kind = np.int32 if 3 * len(triangles) < 2**31 - 1 else np.int64
    head, following = np.full(top, -1, kind), np.full(3 * len(triangles), -1, kind)
    return np.asarray(_neighbours(triangles, head, following))


def free_edges(
    triangles: NDArray[np.int32], across: NDArray[np.int32], places: NDArray[np.float64]
) -> tuple[int, float]:
    """Return how many edges have a face on one side alone, and their length in plan.

    Parameters
    ----------
    across : (m, 3) int32
        The triangle across each edge, as `neighbours_of` gives it.
    places : (n, 2 or more) float64
    """
    free = across < 0
    away = places[np.roll(triangles, -1, axis=1)[free]] - places[triangles[free]]
    return int(free.sum()), float(np.hypot(away[:, 0], away[:, 1]).sum())


@numba.njit(cache=True, nogil=True)
def _neighbours(triangles, head, following):
    # Edges are kept in lists that hang on their smaller vertex: no hashing, no sorting.
    count = triangles.shape[0]
    out = np.full((count, 3), -1, np.int32)
    for t in range(count):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            low, high = min(a, b), max(a, b)
            before = -1
            slot = head[low]
            while slot >= 0:
                other, corner = slot // 3, slot % 3
                c, d = triangles[other, corner], triangles[other, (corner + 1) % 3]
                if max(c, d) == high:
                    out[t, k] = other
                    out[other, corner] = t
                    if before < 0:
                        head[low] = following[slot]
                    else:
                        following[before] = following[slot]
                    break
                before = slot
                slot = following[slot]
            if slot < 0:
                slot = t * 3 + k
                following[slot] = head[low]
                head[low] = slot
    return out


@numba.njit(cache=True, nogil=True)
def plan_areas(vertices, triangles):
    """Return each triangle's plan area, (m,) float64, positive for counter-clockwise."""
    out = np.zeros(triangles.shape[0])
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
        vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
        out[t] = (ux * vy - uy * vx) / 2.0
    return out


@numba.njit(cache=True, nogil=True)
def wind(vertices, triangles):
    """Turn every triangle counter-clockwise in plan, in place.

    Returns
    -------
    flat : (m,) bool
        Triangles without an area in plan; they are left as they are.
    turned : int
        How many were wound the other way.
    """
    flat = np.zeros(triangles.shape[0], np.bool_)
    turned = 0
    for t in range(triangles.shape[0]):
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
        vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
        turn = ux * vy - uy * vx
        if turn == 0.0:
            flat[t] = True
        elif turn < 0.0:
            triangles[t, 0], triangles[t, 2] = c, a
            turned += 1
    return flat, turned


@numba.njit(cache=True, nogil=True)
def group_places(x, y, tolerance):
    """Give points at one place one number.

    A point belongs to the nearest place that began closer to it than `tolerance`, and begins a new one where there is
    none; 0 asks for equality.

    Returns
    -------
    group : (n,) int32
        Number of each point's place, counted in order of first appearance.
    first : (k,) int64
        First point of each place.
    """
    n = x.shape[0]
    size = 64
    while size < 2 * n:
        size *= 2
    mask = size - 1
    head = np.full(size, -1, np.int32)
    following = np.full(n, -1, np.int32)
    group = np.zeros(n, np.int32)
    first = np.zeros(n, np.int64)
    places = 0
    # Cells four tolerances wide: most points have to look into one alone.
    scale = 0.25 / tolerance if tolerance > 0 else 0.0
    for i in range(n):
        cx, cy = x[i], y[i]
        x0 = x1 = y0 = y1 = 0
        if scale > 0:
            fx, fy = x[i] * scale, y[i] * scale
            cx, cy = np.floor(fx), np.floor(fy)
            x0, x1 = -1 if fx - cx < 0.25 else 0, 1 if fx - cx > 0.75 else 0
            y0, y1 = -1 if fy - cy < 0.25 else 0, 1 if fy - cy > 0.75 else 0
        best, nearest = -1, np.inf
        for dx in range(x0, x1 + 1):
            for dy in range(y0, y1 + 1):
                place = head[_slot(cx + dx, cy + dy, mask)]
                while place >= 0:
                    j = first[place]
                    ux, uy = x[j] - x[i], y[j] - y[i]
                    away = ux * ux + uy * uy
                    if (away < tolerance * tolerance or away == 0.0) and (
                        away < nearest or (away == nearest and place < best)
                    ):
                        best, nearest = place, away
                    place = following[place]
        if best < 0:
            slot = _slot(cx, cy, mask)
            following[places] = head[slot]
            head[slot] = places
            first[places] = i
            best = places
            places += 1
        group[i] = best
    return group, first[:places].copy()


@numba.njit(cache=True, nogil=True)
def _slot(x, y, mask):
    # A cheap mix of both coordinates; what shares a slot is compared in full.
    hashed = np.uint64(np.int64(x * 1024.0)) * np.uint64(0x9E3779B97F4A7C15)
    hashed ^= np.uint64(np.int64(y * 1024.0)) * np.uint64(0xC2B2AE3D27D4EB4F)
    hashed ^= hashed >> np.uint64(29)
    return np.int64(hashed & np.uint64(mask))


def spatial_order(xy: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return an order in which neighbouring places come near each other (Z-order curve, Morton 1966).

    Whatever walks over points afterwards then finds them in the cache: the kernels here run up to nine times faster.
    """
    low, high = corners(xy)
    width = float((high - low).max()) or 1.0
    cells = ((xy - low) * (4095.0 / width)).astype(np.uint32)
    return np.argsort(_spread(cells[:, 0]) | (_spread(cells[:, 1]) << np.uint32(1)), kind="stable")


def _spread(values: NDArray[np.uint32]) -> NDArray[np.uint32]:
    for shift, mask in ((8, 0x00FF00FF), (4, 0x0F0F0F0F), (2, 0x33333333), (1, 0x55555555)):
        values = (values | (values << np.uint32(shift))) & np.uint32(mask)
    return values


MEAN, FIRST, LAST, HIGHEST, LOWEST = range(5)


@numba.njit(cache=True, nogil=True)
def heights_of_places(group, z, places, rule):
    """Return one height for each place by a rule, and how far its points' heights lie apart."""
    low = np.full(places, np.inf)
    high = np.full(places, -np.inf)
    out = np.full(places, np.nan)
    total = np.zeros(places)
    number = np.zeros(places, np.int64)
    for i in range(group.shape[0]):
        g = group[i]
        if np.isnan(z[i]):
            continue
        low[g] = min(low[g], z[i])
        high[g] = max(high[g], z[i])
        total[g] += z[i]
        number[g] += 1
        if rule == 2 or number[g] == 1:
            out[g] = z[i]
    spread = np.zeros(places)
    for g in range(places):
        if number[g] == 0:
            continue
        spread[g] = high[g] - low[g]
        if spread[g] > 0:
            if rule == 0:
                out[g] = total[g] / number[g]
            elif rule == 3:
                out[g] = high[g]
            elif rule == 4:
                out[g] = low[g]
    return out, spread


@numba.njit(cache=True, nogil=True)
def regions(neighbours, walls):
    """Number the parts that a set of wall edges divides the triangles into, (m,) int32 from 0."""
    count = neighbours.shape[0]
    region = np.full(count, -1, np.int32)
    stack = np.zeros(count, np.int32)
    number = 0
    for start in range(count):
        if region[start] >= 0:
            continue
        region[start] = number
        stack[0] = start
        depth = 1
        while depth > 0:
            depth -= 1
            t = stack[depth]
            for k in range(3):
                other = neighbours[t, k]
                if other >= 0 and not walls[t, k] and region[other] < 0:
                    region[other] = number
                    stack[depth] = other
                    depth += 1
        number += 1
    return region


@numba.njit(cache=True, nogil=True)
def inside_ring(x, y, ring):
    """Return whether a place lies inside a closed ring, by counting crossings (even-odd rule)."""
    inside = False
    for k in range(ring.shape[0] - 1):
        y0, y1 = ring[k, 1], ring[k + 1, 1]
        if (y0 > y) != (y1 > y):
            crossing = ring[k, 0] + (y - y0) / (y1 - y0) * (ring[k + 1, 0] - ring[k, 0])
            if x < crossing:
                inside = not inside
    return inside


@numba.njit(cache=True, nogil=True)
def inside_polygon(x, y, ring):
    """Return which points lie inside a closed ring, by counting crossings (even-odd rule)."""
    out = np.zeros(x.shape[0], np.bool_)
    for i in range(x.shape[0]):
        out[i] = inside_ring(x[i], y[i], ring)
    return out


@numba.njit(cache=True, nogil=True)
def edge_flags(triangles, pairs, top):
    """Return which triangle edges are among `pairs` of vertices, (m, 3) bool."""
    head = np.full(top, -1, np.int64)
    following = np.full(pairs.shape[0], -1, np.int64)
    for e in range(pairs.shape[0]):
        low = min(pairs[e, 0], pairs[e, 1])
        following[e] = head[low]
        head[low] = e
    out = np.zeros(triangles.shape, np.bool_)
    for t in range(triangles.shape[0]):
        for k in range(3):
            a, b = triangles[t, k], triangles[t, (k + 1) % 3]
            low, high = min(a, b), max(a, b)
            e = head[low]
            while e >= 0:
                if max(pairs[e, 0], pairs[e, 1]) == high:
                    out[t, k] = True
                    break
                e = following[e]
    return out


@numba.njit(cache=True, nogil=True)
def compact(triangles, neighbours, flags, keep, vertex_count):
    """Drop triangles that are not kept and vertices that nothing uses.

    Returns
    -------
    triangles, neighbours, flags
        Renumbered.
    used : (k,) int64
        Old index of each vertex that is left.
    """
    count = triangles.shape[0]
    number = np.full(count, -1, np.int32)
    left = 0
    for t in range(count):
        if keep[t]:
            number[t] = left
            left += 1
    vertex = np.full(vertex_count, -1, np.int32)
    for t in range(count):
        if keep[t]:
            for k in range(3):
                vertex[triangles[t, k]] = 0
    used = np.zeros(vertex_count, np.int64)
    n = 0
    for v in range(vertex_count):
        if vertex[v] == 0:
            vertex[v] = n
            used[n] = v
            n += 1
    out = np.zeros((left, 3), np.int32)
    across = np.zeros((left, 3), np.int32)
    marks = np.zeros((left, 3), np.bool_)
    for t in range(count):
        if keep[t]:
            for k in range(3):
                out[number[t], k] = vertex[triangles[t, k]]
                other = neighbours[t, k]
                across[number[t], k] = number[other] if other >= 0 else -1
                marks[number[t], k] = flags[t, k]
    return out, across, marks, used[:n].copy()


@numba.njit(cache=True, nogil=True)
def plan_turn(vertices, a, b, c):
    """Return twice the plan area of a triangle, as every reader here computes it."""
    ux, uy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
    vx, vy = vertices[c, 0] - vertices[a, 0], vertices[c, 1] - vertices[a, 1]
    return ux * vy - uy * vx


@numba.njit(cache=True, nogil=True)
def _is_flat(vertices, a, b, c, thin):
    turn = plan_turn(vertices, a, b, c)
    if turn <= 0.0 or thin == 0.0:
        return turn <= 0.0
    longest = 0.0
    for p, q in ((a, b), (b, c), (c, a)):
        longest = max(longest, np.hypot(vertices[q, 0] - vertices[p, 0], vertices[q, 1] - vertices[p, 1]))
    return turn <= thin * longest


@numba.njit(cache=True, nogil=True)
def mend_flat(vertices, triangles, neighbours, flags, drop, thin, last):
    """Flip or drop triangles without an area in plan, in place.

    A triangle whose corner lies on its longest edge is joined with the one across that edge and parted the other way,
    where the corner's height is that of the edge. Where nothing lies across it is dropped: its corner is the rim's now.

    Parameters
    ----------
    vertices : (n, 3) float64
        As the file will hold them.
    drop : float
        Largest difference in height at which an edge may be flipped.
    thin : float
        A triangle has no area if it is no higher than this above its longest edge.
    last : bool
        Drop what cannot be flipped either: it covers no ground. Else it stays, to be mended otherwise.

    Returns
    -------
    keep : (m,) bool
    flipped : int
    stuck : (m,) bool
        What cannot be flipped.
    """
    count = triangles.shape[0]
    keep = np.ones(count, np.bool_)
    stuck = np.zeros(count, np.bool_)
    tries = np.zeros(count, np.int8)
    stack = np.zeros(8 * count + 8, np.int32)
    depth = 0
    for t in range(count - 1, -1, -1):
        if _is_flat(vertices, triangles[t, 0], triangles[t, 1], triangles[t, 2], thin):
            stack[depth] = t
            depth += 1
    flipped = 0
    while depth > 0:
        depth -= 1
        t = stack[depth]
        if not keep[t] or not _is_flat(vertices, triangles[t, 0], triangles[t, 1], triangles[t, 2], thin):
            continue
        k, longest, shortest = 0, -1.0, np.inf
        for e in range(3):
            p, q = triangles[t, e], triangles[t, (e + 1) % 3]
            dx, dy = vertices[q, 0] - vertices[p, 0], vertices[q, 1] - vertices[p, 1]
            length = dx * dx + dy * dy
            shortest = min(shortest, length)
            if length > longest:
                k, longest = e, length
        o = neighbours[t, k]
        a, b, c = triangles[t, k], triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
        can = o >= 0 and shortest > 0.0 and tries[t] < 6 and depth + 2 < stack.shape[0]
        m = 0
        if can:
            for e in range(3):
                if neighbours[o, e] == t and triangles[o, e] == b:
                    m = e
            can = triangles[o, m] == b and triangles[o, (m + 1) % 3] == a
        if can:
            dx, dy = vertices[b, 0] - vertices[a, 0], vertices[b, 1] - vertices[a, 1]
            share = ((vertices[c, 0] - vertices[a, 0]) * dx + (vertices[c, 1] - vertices[a, 1]) * dy) / longest
            on_edge = vertices[a, 2] + share * (vertices[b, 2] - vertices[a, 2])
            can = abs(on_edge - vertices[c, 2]) <= drop and triangles[o, (m + 2) % 3] != c
        if not can:
            stuck[t] = o >= 0
            if stuck[t] and not last:
                continue
            keep[t] = False
            for e in range(3):
                other = neighbours[t, e]
                if other >= 0:
                    for f in range(3):
                        if neighbours[other, f] == t:
                            neighbours[other, f] = -1
            continue
        d = triangles[o, (m + 2) % 3]
        t_bc, t_ca = neighbours[t, (k + 1) % 3], neighbours[t, (k + 2) % 3]
        o_ad, o_db = neighbours[o, (m + 1) % 3], neighbours[o, (m + 2) % 3]
        f_ab = flags[t, k]
        f_bc, f_ca = flags[t, (k + 1) % 3] or f_ab, flags[t, (k + 2) % 3] or f_ab
        f_ad, f_db = flags[o, (m + 1) % 3], flags[o, (m + 2) % 3]
        triangles[t, 0], triangles[t, 1], triangles[t, 2] = a, d, c
        neighbours[t, 0], neighbours[t, 1], neighbours[t, 2] = o_ad, o, t_ca
        flags[t, 0], flags[t, 1], flags[t, 2] = f_ad, False, f_ca
        triangles[o, 0], triangles[o, 1], triangles[o, 2] = d, b, c
        neighbours[o, 0], neighbours[o, 1], neighbours[o, 2] = o_db, t_bc, t
        flags[o, 0], flags[o, 1], flags[o, 2] = f_db, f_bc, False
        # What lay across the two edges that changed hands now lies across the other triangle.
        for outside, old, new in ((o_ad, o, t), (t_bc, t, o)):
            if outside >= 0:
                for e in range(3):
                    if neighbours[outside, e] == old:
                        neighbours[outside, e] = new
                        break
        if f_ab:
            for outside, p, q in ((t_bc, c, b), (t_ca, a, c)):
                if outside >= 0:
                    for e in range(3):
                        if triangles[outside, e] == p and triangles[outside, (e + 1) % 3] == q:
                            flags[outside, e] = True
        flipped += 1
        tries[t] += 1
        tries[o] += 1
        stack[depth], stack[depth + 1] = o, t
        depth += 2
    return keep, flipped, stuck
