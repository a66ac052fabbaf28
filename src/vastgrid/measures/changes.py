"""Which triangles of a surface are not what they were: what a change would do, drawn before it is made."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.tin import Tin


@dataclass(frozen=True, slots=True)
class Changes:
    """What is otherwise in a part of the world.

    Attributes
    ----------
    gone, new : (…, 3, 3) float64
        Corners of triangles that go, and of those that come.
    taken : float
        How much ground there would be less, in plan; negative for more.
    """

    gone: Floats
    new: Floats
    taken: float


def changes(before: Tin, after: Tin, box: tuple[float, float, float, float]) -> Changes:
    """Return which triangles differ between two surfaces, as far as they touch a box (west, south, east, north)."""
    old, new = (_corners(each, box) for each in (before, after))
    keys = [_keys(each) for each in (old, new)]
    gone = old[~np.isin(keys[0], keys[1])]
    come = new[~np.isin(keys[1], keys[0])]
    return Changes(gone, come, _area(gone) - _area(come))


def _corners(tin: Tin, box: tuple[float, float, float, float]) -> Floats:
    corner = tin.corners()
    low, high = corner[:, :, :2].min(axis=1), corner[:, :, :2].max(axis=1)
    near: Flags = (low[:, 0] <= box[2]) & (high[:, 0] >= box[0]) & (low[:, 1] <= box[3]) & (high[:, 1] >= box[1])
    return np.asarray(corner[near])


def _keys(corner: Floats) -> NDArray[Any]:
    """Return one value for each triangle that is the same for the same corners, wherever it begins."""
    flat = np.ascontiguousarray(corner)
    first = np.lexsort((flat[:, :, 1].ravel(), flat[:, :, 0].ravel()))
    rank = np.zeros(len(first), np.int64)
    rank[first] = np.arange(len(first))
    begin = rank.reshape(-1, 3).argmin(axis=1)
    turned = flat[np.arange(len(flat))[:, None], (begin[:, None] + np.arange(3)) % 3]
    return np.ascontiguousarray(turned.reshape(len(flat), 9)).view("V72").ravel()


def _area(corner: Floats) -> float:
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    return float((u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]).sum() / 2.0)
