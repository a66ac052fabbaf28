"""A small part of a TIN, enough to see at once what an edit does there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import fixed
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.surroundings import touching

# Rings of triangles around what is meant: an edit reaches a little beyond its places.
RINGS = 3


def patch(tin: Tin, box: tuple[float, float, float, float]) -> Tin:
    """Return the triangles of a TIN that touch a box (west, south, east, north), those around them, and what was taken out there.

    Its rim is where the patch ends, so only what lies well inside says anything about the whole surface; what the TIN was
    built from is left out.
    """
    assert tin.constrained is not None and tin.spare_constrained is not None  # noqa: PT018
    rows = _with_rings(tin, np.flatnonzero(touching(tin.vertices, tin.triangles, *box)))
    extra = np.zeros(0, np.int64)
    every = tin.vertices
    if len(tin.spare):
        every = fixed(np.concatenate((tin.vertices, tin.spare_vertices)))
        extra = np.flatnonzero(touching(every, tin.spare, *box))
    used = np.unique(tin.triangles[rows])
    only = np.setdiff1d(np.unique(tin.spare[extra]), used)
    vertices = np.concatenate((used, only))
    order = np.argsort(vertices, kind="stable")

    def number(corners: NDArray[np.int32]) -> NDArray[np.int32]:
        return np.asarray(order[np.searchsorted(vertices[order], corners)], np.int32)

    across = tin.edges_across[rows]
    place = np.minimum(np.searchsorted(rows, across), max(len(rows) - 1, 0))
    neighbours = np.where((across >= 0) & (rows[place] == across), place, -1) if len(rows) else across
    held = tin.held[np.isin(tin.held, used).all(axis=1)] if len(tin.held) else tin.held
    return Tin(
        name=tin.name,
        frame=tin.frame,
        vertices=every[used],
        triangles=number(tin.triangles[rows]),
        neighbours=neighbours.astype(np.int32),
        constrained=tin.constrained[rows],
        spare_vertices=every[only],
        spare=number(tin.spare[extra]),
        spare_constrained=tin.spare_constrained[extra],
        held=number(held),
    )


def _with_rings(tin: Tin, rows: NDArray[np.int64]) -> NDArray[np.int64]:
    for _ in range(RINGS):
        across = tin.edges_across[rows]
        rows = np.union1d(rows, across[across >= 0])
    return rows
