"""Lines laid into a surface without changing it: a vertex at every edge they cross, each in its triangle's plane."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.locate import cuts_along
from vastgrid.kernels.triangles.planar import INSIDE, ON_EDGE, ON_VERTEX
from vastgrid.kernels.triangles.surroundings import nearest_edge
from vastgrid.measures.heights import bucket_index
from vastgrid.terrain.editing.bits import BREAK, SHOWN
from vastgrid.terrain.editing.working import Working

# All edges that were there stay while lines are laid in: only what parts a triangle within its own plane is swapped.
LOCKED = 8


def laid_in(tin: Tin, lines: Sequence[Floats]) -> tuple[Tin, int]:
    """Return a TIN with the plan courses of lines as edges, the ground as it was, and how many vertices that took.

    Raises
    ------
    CallError
        If the surface overlaps itself.
    """
    work = Working(tin)
    work.open()
    before = int(work.size[0])
    count = int(work.size[1])
    work.flag[:count] |= LOCKED
    close = 1e-9 * float(np.ptp(tin.vertices[:, :2], axis=0).max())
    for line in lines:
        last = -1
        for place in _places(tin, line):
            vertex = _vertex(work, place, close)
            if vertex >= 0 and last >= 0 and vertex != last:
                work.keep(last, vertex, BREAK)
            last = vertex
    work.flag[: int(work.size[1])] &= 255 - LOCKED
    return work.done(), int(work.size[0]) - before


def _places(tin: Tin, line: Floats) -> Floats:
    """Return a line's vertices and its crossings with edges, in order, (n, 2)."""
    cuts = cuts_along(line, tin.vertices, tin.triangles, bucket_index(tin))
    own = np.column_stack((np.arange(len(line), dtype=np.float64), line[:, :2]))
    met = np.column_stack((cuts[:, 0] + cuts[:, 1], cuts[:, 2:4]))
    both = np.concatenate((own, met))
    return np.asarray(both[np.argsort(both[:, 0], kind="stable"), 1:])


def _vertex(work: Working, place: Floats, close: float) -> int:
    """Return the vertex at a place, put in where there is none; -1 where there is no ground."""
    east, north = float(place[0]), float(place[1])
    t, what, k = work.locate(east, north)
    if t < 0:
        return -1
    corners = work.tri[t]
    away = np.hypot(work.xyz[corners, 0] - east, work.xyz[corners, 1] - north)
    if away.min() <= close or what == ON_VERTEX:
        return int(corners[away.argmin()])
    height = work.height_at(east, north)
    if height is None:
        return -1
    x, y = work.local(east, north)
    found, edge, far = nearest_edge(work.xy, work.tri, work.nbr, t, x, y)
    if what == INSIDE and far <= close:
        # Beside an edge by a rounding is on it.
        t, what, k = int(found), ON_EDGE, int(edge)
    if work.part[t] != SHOWN and what == INSIDE:
        return -1
    if what == ON_EDGE:
        a, b = (work.xyz[int(work.tri[t, (k + j) % 3])] for j in (0, 1))
        along = b[:2] - a[:2]
        height = float(a[2] + float((place - a[:2]) @ along) / float(along @ along) * (b[2] - a[2]))
    vertex = work.new_vertex(east, north, height)
    work.put(vertex, t, what, k)
    return vertex
