"""Taking a vertex out of a TIN that is being edited."""

from __future__ import annotations

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.kernels.triangles import planar
from vastgrid.kernels.triangles.lifting import lift_out
from vastgrid.terrain.editing.bits import BREAK, GONE, HELD, SHOWN
from vastgrid.terrain.editing.working import Working


def lift(work: Working, vertex: int) -> str:
    """Take a vertex out and close the gap; a line through it goes straight on. Return why that cannot be, or nothing."""
    kept = [(other, bits) for other, bits in work.edges_kept_at(vertex) if bits != HELD]
    if len(kept) not in (0, 1, 2):
        return f"{len(kept)} lines meet there"
    around = work.around(vertex)
    if len(around) == 0:
        return "it cannot be walked around"
    sides = work.part[around].copy()
    if len(kept) == 2 and len(around) > 2:
        (p, _), (q, _) = kept
        ends = {int(p), int(q)}
        if _outer_edge(work, vertex, ends):
            return "the lines through it turn back there"
    outer = [
        (int(work.tri[t, (planar.corner_of(work.tri, t, vertex) + 1) % 3]), int(side))
        for t, side in zip(around.tolist(), sides.tolist(), strict=True)
    ]
    for t in around.tolist():
        k = int(planar.corner_of(work.tri, t, vertex))
        if work.flag[t, k]:
            planar.clear_edge(work.tri, work.nbr, work.flag, t, k, 255)
    work.part[around] = SHOWN
    gone = np.zeros(2, np.int64)
    if not lift_out(work.xy, work.tri, work.nbr, work.flag, work.part, work.at, vertex, work.ring, gone):
        raise CallError("the surface around a vertex cannot be closed")
    work.part[gone] = GONE
    work.structure = True
    _straight_on(work, kept, outer)
    return ""


def _outer_edge(work: Working, vertex: int, ends: set[int]) -> bool:
    """Return whether the way from one end to the other leaves the figure around a vertex."""
    p, q = sorted(ends)
    ring = [int(work.tri[t, (planar.corner_of(work.tri, t, vertex) + 1) % 3]) for t in work.around(vertex)]
    for a, b in zip(ring, ring[1:] + ring[:1], strict=True):
        if {a, b} & ends:
            continue
        s = planar.side(work.xy, p, q, a), planar.side(work.xy, p, q, b)
        if s[0] * s[1] < 0.0 and (planar.side(work.xy, a, b, p) * planar.side(work.xy, a, b, q) < 0.0):
            return True
    return False


def _straight_on(work: Working, kept: list[tuple[int, int]], outer: list[tuple[int, int]]) -> None:
    """Make an edge of two that led to a vertex that is gone, and give each side the part it had."""
    if len(kept) == 2:
        (p, one), (q, two) = kept
        bits = (one | two) & (BREAK | HELD)
        work.keep(p, q, (bits & ~HELD) or HELD)
        if not bits & BREAK:
            t, k = planar.find_edge(work.tri, work.nbr, work.at, p, q)
            if t >= 0:
                planar.clear_edge(work.tri, work.nbr, work.flag, t, k, 255)
                _sides(work, outer, (p, q))
                return
    _sides(work, outer, (kept[0][0], kept[1][0]) if len(kept) == 2 else None)


def _sides(work: Working, outer: list[tuple[int, int]], wall: tuple[int, int] | None) -> None:
    """Give the triangles inside a figure the part of the edge of it from which they are reached."""
    size = len(outer)
    border = {outer[k][0]: outer[(k + 1) % size][0] for k in range(size)}
    for k in range(size):
        a, side = outer[k]
        t, edge = planar.find_edge(work.tri, work.nbr, work.at, a, outer[(k + 1) % size][0])
        if t < 0:
            continue
        stack, seen = [(int(t), int(edge))], set()
        while stack:
            u, _ = stack.pop()
            if u in seen:
                continue
            seen.add(u)
            work.part[u] = side
            for j in range(3):
                p, q = int(work.tri[u, j]), int(work.tri[u, (j + 1) % 3])
                if border.get(p) == q or (wall is not None and {p, q} == set(wall)):
                    continue
                if work.nbr[u, j] >= 0:
                    stack.append((int(work.nbr[u, j]), j))
