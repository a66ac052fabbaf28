"""Level lines of a TIN, chained, with higher ground on the left."""

from __future__ import annotations

import numba
import numpy as np
from numpy.typing import NDArray


def isolines(
    vertices: NDArray[np.float64],
    triangles: NDArray[np.int32],
    neighbours: NDArray[np.int32],
    levels: NDArray[np.float64],
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
    """Return the level lines of a TIN.

    A vertex exactly on a level counts as above it, so each triangle is crossed once or not at all and lines never
    branch; flat triangles on a level are not crossed.

    Parameters
    ----------
    levels : (k,) float64
        Ascending.

    Returns
    -------
    plan : (n, 2) float64
        Vertices of all lines, one after another.
    offsets : (l + 1,) int64
        Line i is ``plan[offsets[i]:offsets[i + 1]]``; closed lines repeat their first vertex.
    level : (l,) int64
        Which of `levels` each line has.
    node : (n,) bool
        Which vertices of lines stand exactly on a vertex of the TIN.
    """
    empty = np.zeros((0, 2)), np.zeros(1, np.int64), np.zeros(0, np.int64), np.zeros(0, np.bool_)
    if len(triangles) == 0 or len(levels) == 0:
        return empty
    # Rank of each vertex: how many levels it is at or above.
    rank = np.searchsorted(levels, vertices[:, 2], side="right").astype(np.int32)
    starts, members = _by_level(triangles, rank, len(levels))
    if members.size == 0:
        return empty
    plan, offsets, level, node, lines, points = _chain(vertices, triangles, neighbours, rank, levels, starts, members)
    return plan[:points].copy(), offsets[: lines + 1].copy(), level[:lines].copy(), node[:points].copy()


@numba.njit(cache=True, nogil=True)
def _by_level(triangles, rank, count):
    starts = np.zeros(count + 1, np.int64)
    for t in range(triangles.shape[0]):
        a, b, c = rank[triangles[t, 0]], rank[triangles[t, 1]], rank[triangles[t, 2]]
        for k in range(min(a, b, c), max(a, b, c)):
            starts[k + 1] += 1
    for k in range(count):
        starts[k + 1] += starts[k]
    members = np.zeros(starts[count], np.int32)
    slot = starts[:-1].copy()
    for t in range(triangles.shape[0]):
        a, b, c = rank[triangles[t, 0]], rank[triangles[t, 1]], rank[triangles[t, 2]]
        for k in range(min(a, b, c), max(a, b, c)):
            members[slot[k]] = t
            slot[k] += 1
    return starts, members


@numba.njit(cache=True, nogil=True, inline="always")
def put(plan, node, begin, points, x, y, on):
    """Add a place to the line that began at `begin`, unless it ends there already; return the number of places."""
    if points > begin and x == plan[points - 1, 0] and y == plan[points - 1, 1]:
        return points
    plan[points, 0], plan[points, 1], node[points] = x, y, on
    return points + 1


@numba.njit(cache=True, nogil=True)
def _chain(vertices, triangles, neighbours, rank, levels, starts, members):
    segments = members.shape[0]
    # An open line has one point more than segments; a line has at least one segment.
    plan = np.zeros((2 * segments + 1, 2))
    node = np.zeros(2 * segments + 1, np.bool_)
    offsets = np.zeros(segments + 2, np.int64)
    line_level = np.zeros(segments + 1, np.int64)
    seen = np.full(triangles.shape[0], -1, np.int32)
    points = 0
    lines = 0
    for k in range(levels.shape[0]):
        level = levels[k]
        # First the lines that begin at the rim, then the rings.
        for pass_number in range(2):
            for m in range(starts[k], starts[k + 1]):
                t = members[m]
                if seen[t] == k:
                    continue
                # A line enters a triangle over the edge that goes from above to below: higher ground on its left.
                entry = -1
                for e in range(3):
                    above = rank[triangles[t, e]] > k
                    if above and not rank[triangles[t, (e + 1) % 3]] > k:
                        entry = e
                if pass_number == 0 and neighbours[t, entry] >= 0:
                    continue
                begin = points
                edge = entry
                current = t
                while True:
                    x, y, on = _place(vertices, triangles[current, edge], triangles[current, (edge + 1) % 3], level)
                    points = put(plan, node, begin, points, x, y, on)
                    if seen[current] == k:
                        break
                    seen[current] = k
                    leave = -1
                    for e in range(3):
                        above = rank[triangles[current, e]] > k
                        if not above and rank[triangles[current, (e + 1) % 3]] > k:
                            leave = e
                    onwards = neighbours[current, leave]
                    if onwards < 0:
                        a, b = triangles[current, leave], triangles[current, (leave + 1) % 3]
                        x, y, on = _place(vertices, a, b, level)
                        points = put(plan, node, begin, points, x, y, on)
                        break
                    # The same edge, seen from the other side.
                    low = triangles[current, leave]
                    for e in range(3):
                        if neighbours[onwards, e] == current:
                            edge = e
                            if triangles[onwards, (e + 1) % 3] == low:
                                break
                    current = onwards
                if points - begin < 2:
                    points = begin
                    continue
                lines += 1
                offsets[lines] = points
                line_level[lines - 1] = k
    return plan, offsets, line_level, node, lines, points


@numba.njit(cache=True, nogil=True, inline="always")
def _place(vertices, a, b, level):
    # Always from the lower vertex number, so that both sides of an edge give the same point.
    if a > b:
        a, b = b, a
    za, zb = vertices[a, 2], vertices[b, 2]
    if za == level:
        return vertices[a, 0], vertices[a, 1], True
    if zb == level:
        return vertices[b, 0], vertices[b, 1], True
    share = (level - za) / (zb - za)
    x = vertices[a, 0] + share * (vertices[b, 0] - vertices[a, 0])
    y = vertices[a, 1] + share * (vertices[b, 1] - vertices[a, 1])
    return x, y, False


def undoubled(
    plan: NDArray[np.float64], offsets: NDArray[np.int64], level: NDArray[np.int64], node: NDArray[np.bool_]
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
    """Return level lines without stretches that are there twice, once each way.

    A ridge or a valley that lies exactly on a level has no ground between its two sides: their lines fall together and
    enclose nothing. Such pairs go, and what is left is joined again.

    Parameters
    ----------
    node : (n,) bool
        Vertices on a vertex of the surface; only between two such can stretches fall together.
    """
    start = np.flatnonzero(node[:-1] & node[1:]) if len(node) > 1 else np.zeros(0, np.int64)
    last = np.zeros(len(plan), np.bool_)
    last[offsets[1:] - 1] = True
    start = start[~last[start]]
    if len(start) == 0:
        return plan, offsets, level
    line = np.searchsorted(offsets, start, side="right") - 1
    a, b = plan[start], plan[start + 1]
    forward = (a[:, 0] < b[:, 0]) | ((a[:, 0] == b[:, 0]) & (a[:, 1] < b[:, 1]))
    low, high = np.where(forward[:, None], a, b), np.where(forward[:, None], b, a)
    keys = (forward, high[:, 1], high[:, 0], low[:, 1], low[:, 0], level[line])
    order = np.lexsort(keys)
    same = np.ones(len(order) - 1, np.bool_)
    for key in keys[1:]:
        same &= key[order][1:] == key[order][:-1]
    pair = same & (forward[order][1:] != forward[order][:-1])
    # Of three in a row only two are a pair.
    first = np.flatnonzero(pair)
    first = first[np.diff(first, prepend=-2) > 1]
    gone = start[np.concatenate((order[first], order[first + 1]))]
    if len(gone) == 0:
        return plan, offsets, level
    return _rejoined(plan, offsets, level, np.sort(gone))


def _rejoined(
    plan: NDArray[np.float64], offsets: NDArray[np.int64], level: NDArray[np.int64], gone: NDArray[np.int64]
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
    """Return lines without the stretches that begin at some vertices, the pieces joined where they meet."""
    line = np.searchsorted(offsets, gone, side="right") - 1
    cut = np.unique(line)
    kept = np.setdiff1d(np.arange(len(level)), cut)
    out = [plan[offsets[k] : offsets[k + 1]] for k in kept.tolist()]
    levels = level[kept].tolist()
    borders = np.searchsorted(line, cut), np.searchsorted(line, cut, side="right")
    pieces: dict[tuple[int, float, float], list[NDArray[np.float64]]] = {}
    for k, first, stop in zip(cut.tolist(), *(each.tolist() for each in borders), strict=True):
        begin = int(offsets[k])
        for end in (*gone[first:stop].tolist(), int(offsets[k + 1]) - 1):
            if end > begin:
                piece = plan[begin : end + 1]
                pieces.setdefault((int(level[k]), *piece[0].tolist()), []).append(piece)
            begin = end + 1
    # Pieces that nothing leads to come first: they are the beginnings of open lines.
    ends = {(key[0], *piece[-1].tolist()) for key, own in pieces.items() for piece in own}
    for key in sorted(pieces, key=lambda key: key in ends):
        while pieces.get(key):
            chain = [pieces[key].pop()]
            while True:
                at = (key[0], *chain[-1][-1].tolist())
                if at == key or not pieces.get(at):
                    break
                chain.append(_leftmost(chain[-1], pieces[at]))
            out.append(np.concatenate([chain[0], *(piece[1:] for piece in chain[1:])]))
            levels.append(key[0])
    sizes = np.array([len(each) for each in out], np.int64)
    joined = np.concatenate(out) if out else np.zeros((0, 2))
    return joined, np.concatenate(([0], np.cumsum(sizes))), np.array(levels, np.int64)


def _leftmost(piece: NDArray[np.float64], others: list[NDArray[np.float64]]) -> NDArray[np.float64]:
    """Take the piece that turns farthest to the left, so that lines touch and never cross."""
    if len(others) == 1:
        return others.pop()
    come = piece[-1] - piece[-2]
    turns = []
    for other in others:
        go = other[1] - other[0]
        turns.append(np.arctan2(come[0] * go[1] - come[1] * go[0], come @ go))
    return others.pop(int(np.argmax(turns)))
