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
) -> tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64]]:
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
    """
    empty = np.zeros((0, 2)), np.zeros(1, np.int64), np.zeros(0, np.int64)
    if len(triangles) == 0 or len(levels) == 0:
        return empty
    # Rank of each vertex: how many levels it is at or above.
    rank = np.searchsorted(levels, vertices[:, 2], side="right").astype(np.int32)
    starts, members = _by_level(triangles, rank, len(levels))
    if members.size == 0:
        return empty
    plan, offsets, level, lines, points = _chain(vertices, triangles, neighbours, rank, levels, starts, members)
    return plan[:points].copy(), offsets[: lines + 1].copy(), level[:lines].copy()


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


@numba.njit(cache=True, nogil=True)
def _chain(vertices, triangles, neighbours, rank, levels, starts, members):
    segments = members.shape[0]
    # An open line has one point more than segments; a line has at least one segment.
    plan = np.zeros((2 * segments + 1, 2))
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
                    a, b = triangles[current, edge], triangles[current, (edge + 1) % 3]
                    # Always from the lower vertex number, so that both sides of an edge give the same point.
                    if a > b:
                        a, b = b, a
                    za, zb = vertices[a, 2], vertices[b, 2]
                    share = (level - za) / (zb - za)
                    x = vertices[a, 0] + share * (vertices[b, 0] - vertices[a, 0])
                    y = vertices[a, 1] + share * (vertices[b, 1] - vertices[a, 1])
                    if points == begin or x != plan[points - 1, 0] or y != plan[points - 1, 1]:
                        plan[points, 0], plan[points, 1] = x, y
                        points += 1
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
                        if a > b:
                            a, b = b, a
                        za, zb = vertices[a, 2], vertices[b, 2]
                        share = (level - za) / (zb - za)
                        x = vertices[a, 0] + share * (vertices[b, 0] - vertices[a, 0])
                        y = vertices[a, 1] + share * (vertices[b, 1] - vertices[a, 1])
                        if x != plan[points - 1, 0] or y != plan[points - 1, 1]:
                            plan[points, 0], plan[points, 1] = x, y
                            points += 1
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
    return plan, offsets, line_level, lines, points
