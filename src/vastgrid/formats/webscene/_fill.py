"""The fill of areas in a scene: cut from the ground that is shown, so that it lies on it."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.terrain.areas.outlines import outline_of
from vastgrid.terrain.tin.limits import cut_to, polygons_of


def fill_of(areas: Areas, tins: Sequence[Tin], lowest: float) -> tuple[Floats, NDArray[np.int64]]:
    """Return places, (m, 3), and triangles, (t, 3), that fill areas.

    What lies over a surface is cut from the first such one; the rest is flat at its vertices' heights, or at `lowest`.
    """
    left = shapely.union_all(areas.shapes())
    places: list[Floats] = []
    triangles: list[NDArray[np.int64]] = []
    for tin in tins:
        try:
            piece = cut_to(tin, left)
        except DataError:
            continue
        _add(places, triangles, piece.vertices, piece.triangles)
        # Each layer of areas asks for it.
        ground = tin.worked_out("outline", partial(_ground, tin))
        left = left.difference(ground)
        if left.is_empty:
            break
    for polygon in polygons_of(left):
        corners = shapely.get_coordinates(shapely.constrained_delaunay_triangles(polygon)).reshape(-1, 4, 2)[:, :3]
        flat = corners.reshape(-1, 2)
        if len(flat):
            z = _nearest(areas, flat, lowest)
            _add(places, triangles, np.column_stack((flat, z)), np.arange(len(flat)).reshape(-1, 3))
    if not places:
        return np.zeros((0, 3)), np.zeros((0, 3), np.int64)
    return np.concatenate(places), np.concatenate(triangles)


def _ground(tin: Tin) -> Any:
    return shapely.union_all(outline_of(tin, None).shapes())


def _add(places: list[Floats], triangles: list[NDArray[np.int64]], xyz: Floats, corners: NDArray[Any]) -> None:
    triangles.append(corners.astype(np.int64) + sum(map(len, places)))
    places.append(xyz)


def _nearest(areas: Areas, xy: Floats, lowest: float) -> Floats:
    """Return the heights of the areas' own vertices at places that are such vertices; `lowest` where there is none."""
    from scipy.spatial import cKDTree

    z = areas.vertices[:, 2]
    _, own = cKDTree(areas.vertices[:, :2]).query(xy)
    return np.where(np.isfinite(z[own]), z[own], lowest)
