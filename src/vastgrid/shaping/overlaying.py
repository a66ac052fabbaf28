"""Two TINs laid over each other: the triangles in which both are planes, with the height of either at every corner."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress, Silent
from vastgrid.data.dataset import Floats, Ints
from vastgrid.data.tin import Tin, edges
from vastgrid.kernels.locate import triangles_at
from vastgrid.kernels.topology import group_places
from vastgrid.kernels.triangulate import triangulate
from vastgrid.measures.heights import bucket_index


@dataclass(frozen=True, slots=True)
class Overlay:
    """Ground in common of two TINs.

    Attributes
    ----------
    plan : (m, 3, 2) float64
        Corners of the triangles in which both are planes.
    first, second : (m, 3) float64
        Height of either at each corner, in the plane of its own triangle there: a wall has two heights at one place.
    """

    plan: Floats
    first: Floats
    second: Floats


def overlaid(first: Tin, second: Tin, progress: Progress | None = None) -> Overlay:
    """Return the ground in common of two TINs, in triangles that no edge of either crosses.

    Raises
    ------
    DataError
        If they have none.
    """
    watch = progress or Silent()
    places = np.concatenate((first.vertices[:, :2], second.vertices[:, :2]))
    pairs = np.concatenate((edges(first).astype(np.int64), edges(second).astype(np.int64) + len(first.vertices)))
    local = places - np.floor(places.min(axis=0))
    span = float(np.ptp(places, axis=0).max())
    group, kept = group_places(local[:, 0].copy(), local[:, 1].copy(), 1e-9 * span)
    pairs = group[pairs].astype(np.int64)
    pairs = np.unique(np.sort(pairs[pairs[:, 0] != pairs[:, 1]], axis=1), axis=0)
    made = triangulate(np.ascontiguousarray(places[kept]), pairs, watch)
    plan = made.xy[made.triangles]
    middle = np.ascontiguousarray(plan.mean(axis=1))
    own = [triangles_at(middle, tin.vertices, tin.triangles, bucket_index(tin)) for tin in (first, second)]
    both = (own[0] >= 0) & (own[1] >= 0)
    if not both.any():
        raise DataError(f"{first.name} and {second.name} have no ground in common")
    plan = plan[both]
    heights = [_on_plane(tin, triangle[both], plan) for tin, triangle in zip((first, second), own, strict=True)]
    return Overlay(plan, heights[0], heights[1])


def _on_plane(tin: Tin, triangle: Ints, plan: Floats) -> Floats:
    """Return the heights of triangles' planes at places, (m, 3)."""
    a, b, c = (tin.vertices[tin.triangles[triangle, k]] for k in range(3))
    u, v = b - a, c - a
    area = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    east = (u[:, 2] * v[:, 1] - v[:, 2] * u[:, 1]) / area
    north = (v[:, 2] * u[:, 0] - u[:, 2] * v[:, 0]) / area
    away = plan - a[:, None, :2]
    return np.asarray(a[:, None, 2] + east[:, None] * away[..., 0] + north[:, None] * away[..., 1], np.float64)
