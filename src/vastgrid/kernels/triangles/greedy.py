"""Greedy insertion: a coarse triangulation gets the vertex that lies farthest from it, until none lies too far.

After Garland and Heckbert, “Fast polygonal approximation of terrains and height fields”, Carnegie Mellon University
report CMU-CS-95-181 (1995), with edges that stay, areas without heights, and all errors in float64.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.kernels.triangles.farthest import (
    DONE,
    OUTSIDE,
    PAUSE,
    ROOM,
    SHOWN,
    enter_all,
    grid_begin,
    grid_more,
    keep_all,
    points_again,
    points_begin,
    points_more,
)  # fmt: skip
from vastgrid.kernels.triangles.planar import first_triangles

__all__ = ["DONE", "OUTSIDE", "PAUSE", "ROOM", "SHOWN", "Cloud", "Greedy", "started"]

# So many vertices are put in between two looks at whether the run was cancelled.
BATCH = 20_000


@dataclass(frozen=True, slots=True)
class Cloud:
    """Points that may become vertices.

    Attributes
    ----------
    places, heights : (n, 2), (n,) float64
        Where they are.
    near : float
        A point this close to an edge that stays lies on it.
    """

    places: NDArray[np.float64]
    heights: NDArray[np.float64]
    near: float


@dataclass(slots=True)
class Greedy:
    """A triangulation while vertices are put in, with what waits to be put in.

    Attributes
    ----------
    xy, z : (v, 2), (v,) float64
        Vertices, with room at the end; `size` says how many there are.
    tri, nbr, flag, part, at, size
        See `kernels.planar`; `part` is `SHOWN` where there is ground.
    source : (v,) int64
        Where each vertex comes from: a point or cell; below 0 for those given at the beginning.
    heap, place, rank
        Triangles by their largest error; see `kernels.heap`.
    worst, key
        The farthest point of each triangle, and how far it lies away.
    heaped : (1,) int64
        How many triangles are in the heap.
    head, following : int32
        Points in each triangle, as lists; not used for grids.
    """

    xy: NDArray[np.float64]
    z: NDArray[np.float64]
    tri: NDArray[np.int32]
    nbr: NDArray[np.int32]
    flag: NDArray[np.uint8]
    part: NDArray[np.uint8]
    at: NDArray[np.int32]
    size: NDArray[np.int64]
    source: NDArray[np.int64]
    heap: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    place: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    rank: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    worst: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    key: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    heaped: NDArray[np.int64] = field(default_factory=lambda: np.zeros(1, np.int64))
    head: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    following: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))

    def grow(self, triangles: int = 0) -> None:
        """Make room for more."""
        top = max(2 * len(self.tri), triangles, 4096)
        old = len(self.place)
        self.tri, self.nbr, self.flag = _wider(self.tri, top), _wider(self.nbr, top), _wider(self.flag, top)
        self.part, self.heap, self.key = _wider(self.part, top), _wider(self.heap, top), _wider(self.key, top)
        self.place, self.worst, self.head = _wider(self.place, top), _wider(self.worst, top), _wider(self.head, top)
        self.rank = _wider(self.rank, top)
        self.place[old:] = -1
        self.head[old:] = -1
        corners = max(top // 2 + 16, len(self.xy))
        self.xy, self.z = _wider(self.xy, corners), _wider(self.z, corners)
        self.at, self.source = _wider(self.at, corners), _wider(self.source, corners)

    @property
    def _mesh(self) -> tuple[NDArray[Any], ...]:
        return self.xy, self.z, self.tri, self.nbr, self.flag, self.part, self.at, self.size, self.source

    @property
    def _queue(self) -> tuple[NDArray[Any], ...]:
        return self.heap, self.place, self.rank, self.worst, self.key, self.heaped

    @property
    def _lists(self) -> tuple[NDArray[Any], ...]:
        return self.head, self.following

    def look_at_cells(self, heights: NDArray[np.float64], tolerance: float) -> None:
        """Find the farthest cell of every triangle; a vertex' place is its column and, below 0, its row."""
        grid_begin(heights, *self._mesh, *self._queue, tolerance)

    def put_cells(self, heights: NDArray[np.float64], tolerance: float, most: int) -> int:
        """Put a batch of cells in, the farthest first; return `DONE`, `ROOM` or `PAUSE`."""
        return int(grid_more(heights, *self._mesh, *self._queue, tolerance, most, BATCH))

    def look_at_points(self, cloud: Cloud, order: NDArray[np.int64], tolerance: float) -> None:
        """Sort points into triangles, and find the farthest of each."""
        self.head[:] = -1
        self.place[:] = -1
        self.key[:] = 0.0
        self.heaped[0] = 0
        self.following = np.full(len(cloud.heights), -1, np.int32)
        points_begin(cloud.places, cloud.heights, order, *self._mesh, *self._queue, *self._lists, tolerance)

    def look_again(self, cloud: Cloud, changed: NDArray[np.int32], tolerance: float) -> None:
        """Sort the points of triangles that have changed anew."""
        points_again(cloud.places, cloud.heights, changed, *self._mesh, *self._queue, *self._lists, tolerance)

    def put_points(self, cloud: Cloud, tolerance: float, most: int) -> int:
        """Put a batch of points in, the farthest first; return `DONE`, `ROOM` or `PAUSE`."""
        own = (*self._mesh, *self._queue, *self._lists)
        return int(points_more(cloud.places, cloud.heights, cloud.near, *own, tolerance, most, BATCH))

    def put_these(self, cloud: Cloud, which: NDArray[np.int64], tolerance: float) -> None:
        """Put some points in, however near they lie."""
        start = 0
        while start < len(which):
            own = (*self._mesh, *self._queue, *self._lists)
            start = int(enter_all(cloud.places, cloud.heights, which, start, cloud.near, *own, tolerance))
            if start < len(which):
                self.grow()

    def keep_edges(self, pairs: NDArray[np.int64], bit: int) -> None:
        """Make edges between vertices that stay."""
        keep_all(self.xy, self.tri, self.nbr, self.flag, self.part, self.at, pairs, bit)

    def shown(self) -> NDArray[np.int32]:
        """Return the triangles that are ground, (m, 3)."""
        used = int(self.size[1])
        return np.asarray(self.tri[:used][self.part[:used] == SHOWN])

    @property
    def ground(self) -> int:
        """How many triangles are ground."""
        return int((self.part[: int(self.size[1])] == SHOWN).sum())


def _wider(values: NDArray[Any], top: int) -> NDArray[Any]:
    if len(values) >= top:
        return values
    out = np.zeros((top, *values.shape[1:]), values.dtype)
    out[: len(values)] = values
    return out


def started(
    xy: NDArray[np.float64],
    z: NDArray[np.float64],
    triangles: NDArray[np.int32],
    neighbours: NDArray[np.int32],
    flags: NDArray[np.bool_],
    shown: NDArray[np.bool_],
    source: NDArray[np.int64],
) -> Greedy:
    """Return a triangulation of a convex area that vertices can be put into."""
    made = Greedy(
        xy=xy.copy(),
        z=z.copy(),
        tri=triangles.astype(np.int32),
        nbr=neighbours.astype(np.int32),
        flag=flags.astype(np.uint8),
        part=np.where(shown, SHOWN, OUTSIDE).astype(np.uint8),
        at=np.zeros(len(xy), np.int32),
        size=np.array([len(xy), len(triangles)], np.int64),
        source=source.astype(np.int64),
    )
    first_triangles(made.tri, len(triangles), made.at)
    made.grow(2 * len(triangles))
    return made
