"""A TIN parted at heights: triangles that a level crosses become smaller ones, each in the plane of the old."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.terrain.tin.assemble import welded


def parted(tin: Tin, limits: Floats) -> Iterator[tuple[int, Tin]]:
    """Yield each band with its number as a TIN of its own; band 0 lies below the first limit.

    Parameters
    ----------
    limits : (k,) float64
        Ascending heights.
    """
    return parted_by(tin, np.asarray(tin.corners(), np.float64), limits)


def parted_by(tin: Tin, corners: Floats, limits: Floats) -> Iterator[tuple[int, Tin]]:
    """Yield bands of triangles parted by what stands in their third coordinate; a fourth one, if any, is their height.

    Parameters
    ----------
    tin : Tin
        Whose name and frame the bands get.
    corners : (m, 3, 3) or (m, 3, 4) float64
        Corners of triangles.
    """
    rest = corners
    for number in range(len(limits) + 1):
        if number < len(limits):
            below, rest = _cut(rest, float(limits[number]))
        else:
            below = rest
        if len(below):
            vertices, triangles = welded(below if below.shape[2] == 3 else below[:, :, [0, 1, 3]])
            own = triangles[_with_area(vertices, triangles)]
            if len(own):
                used, ranked = np.unique(own, return_inverse=True)
                numbers = ranked.reshape(-1, 3).astype(np.int32)
                yield number, Tin(name=tin.name, frame=tin.frame, vertices=vertices[used], triangles=numbers)


def _with_area(vertices: Floats, triangles: NDArray[np.int32]) -> NDArray[np.bool_]:
    plan = vertices[triangles][:, :, :2]
    u, v = plan[:, 1] - plan[:, 0], plan[:, 2] - plan[:, 0]
    return np.asarray(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0] > 0.0, np.bool_)


def _cut(corner: Floats, level: float) -> tuple[Floats, Floats]:
    """Return triangles, (m, 3, 3), parted at a height: those below it and those above; a vertex on it is above."""
    up = corner[:, :, 2] >= level
    number = up.sum(axis=1)
    below, above = [corner[number == 0]], [corner[number == 3]]
    for lone, few, many in ((1, above, below), (2, below, above)):
        own = corner[number == lone]
        if not len(own):
            continue
        # The corner that is alone on its side comes first; turning keeps the way round.
        alone = (up[number == lone] if lone == 1 else ~up[number == lone]).argmax(axis=1)
        a, b, c = (own[np.arange(len(own)), (alone + k) % 3] for k in range(3))
        ab, ac = _between(a, b, level), _between(a, c, level)
        few.append(np.stack((a, ab, ac), axis=1))
        many.append(np.stack((ab, b, c), axis=1))
        many.append(np.stack((ab, c, ac), axis=1))
    return np.concatenate(below), np.concatenate(above)


def _between(a: Floats, b: Floats, level: float) -> Floats:
    """Return the places between two ends at a height; of an edge the same from both of its triangles."""
    turned = (a[:, 0] > b[:, 0]) | ((a[:, 0] == b[:, 0]) & (a[:, 1] > b[:, 1]))
    first, last = np.where(turned[:, None], b, a), np.where(turned[:, None], a, b)
    share = (level - first[:, 2]) / (last[:, 2] - first[:, 2])
    out = first + share[:, None] * (last - first)
    out[:, 2] = level
    return np.asarray(out, np.float64)
