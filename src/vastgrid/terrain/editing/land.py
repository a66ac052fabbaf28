"""The land around a surface that is edited: triangles without ground, so that every vertex is an inner one."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.progress import Silent
from vastgrid.data.dataset import Floats
from vastgrid.kernels.triangles.topology import regions
from vastgrid.kernels.triangles.triangulate import triangulate


def land(
    xy: Floats, own: NDArray[np.int32], across: NDArray[np.int32], number: int, name: str
) -> tuple[NDArray[np.int32], Floats]:
    """Return triangles that fill all around ground and its holes, up to four far corners, and places they add.

    Parameters
    ----------
    xy : (v, 2) float64
        Local places; the four far corners are those from `number` on.
    own, across : (m, 3) int32
        Ground, and what was taken out of it, with neighbours.

    Raises
    ------
    CallError
        If the rim cannot be followed.
    """
    following = np.roll(own, -1, axis=1)
    pairs = np.column_stack((own[across < 0], following[across < 0])).astype(np.int64)
    # What was taken out lies against the ground: such edges are no rim.
    key = (np.minimum(pairs[:, 0], pairs[:, 1]) << 32) | np.maximum(pairs[:, 0], pairs[:, 1])
    _, first, times = np.unique(key, return_index=True, return_counts=True)
    pairs = pairs[first[times == 1]]
    used, local = np.unique(np.concatenate((pairs.ravel(), np.arange(number, number + 4))), return_inverse=True)
    edges = local[: pairs.size].reshape(-1, 2).astype(np.int64)
    try:
        made = triangulate(xy[used], edges, Silent())
    except DataError as error:
        raise CallError(f"{name} cannot be edited: its rim cannot be followed ({error})") from error
    region = regions(made.neighbours, made.constrained)
    # Ground lies on the left of its rim.
    left = {(int(a), int(b)) for a, b in edges}
    corner = made.triangles
    inside = np.zeros(int(region.max()) + 1, np.bool_)
    for k in range(3):
        marked = np.flatnonzero(made.constrained[:, k])
        for t in marked.tolist():
            if (int(corner[t, k]), int(corner[t, (k + 1) % 3])) in left:
                inside[region[t]] = True
    met = made.xy[len(used) :]
    places = np.concatenate((used, number + 4 + np.arange(len(met))))
    return np.asarray(places[corner[~inside[region]]], np.int32), met


def match(tri: NDArray[np.int32], nbr: NDArray[np.int32]) -> None:
    """Join edges that have no neighbour yet with those that lead the other way."""
    open_ = np.flatnonzero(nbr.ravel() < 0)
    a = tri.ravel()[open_].astype(np.int64)
    b = np.roll(tri, -1, axis=1).ravel()[open_].astype(np.int64)
    there, back = (a << 32) | b, (b << 32) | a
    order = np.argsort(there, kind="stable")
    found = np.searchsorted(there[order], back)
    found = np.minimum(found, len(order) - 1)
    same = there[order][found] == back
    mine, other = open_[same], open_[order[found[same]]]
    nbr.reshape(-1)[mine] = (other // 3).astype(np.int32)
