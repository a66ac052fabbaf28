"""The arrays of a TIN that was edited, in an order that no way of getting there changes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Flags, Floats
from vastgrid.kernels.triangles.surroundings import settled
from vastgrid.terrain.editing.bits import BREAK, HELD, SHOWN, SPARE


def in_order(
    xyz: Floats, tri: NDArray[np.int32], nbr: NDArray[np.int32], flag: NDArray[np.uint8], part: NDArray[np.uint8]
) -> dict[str, Any]:
    """Return the arrays of ground and of what was taken out, in an order that no way of getting there changes."""
    count, total = len(tri), len(xyz)
    shown = np.zeros(total, np.bool_)
    shown[tri[part == SHOWN].ravel()] = True
    spare = np.zeros(total, np.bool_)
    spare[tri[part == SPARE].ravel()] = True
    only = np.flatnonzero(spare & ~shown)
    only = only[np.lexsort((xyz[only, 1], xyz[only, 0]))]
    number = np.full(total, -1, np.int32)
    ground = np.flatnonzero(shown)
    number[ground] = np.arange(len(ground), dtype=np.int32)
    number[only] = len(ground) + np.arange(len(only), dtype=np.int32)
    out, across, flags, key, own = settled(tri, nbr, flag, part, count, SHOWN, number)
    order = np.argsort(key, kind="stable")
    place = np.full(count, -1, np.int32)
    place[own[order]] = np.arange(len(own), dtype=np.int32)
    across = across[order]
    neighbours = np.where(across >= 0, place[np.maximum(across, 0)], -1)
    extra, _, marks, spare_key, _ = settled(tri, nbr, flag, part, count, SPARE, number)
    return {
        "vertices": xyz[ground],
        "triangles": out[order],
        "neighbours": neighbours,
        "constrained": (flags[order] & BREAK) != 0,
        "held": _pairs_of(out[order], (flags[order] & HELD) != 0),
        "spare_vertices": xyz[only],
        "spare": extra[np.argsort(spare_key, kind="stable")],
        "spare_constrained": (marks[np.argsort(spare_key, kind="stable")] & BREAK) != 0,
    }


def _pairs_of(triangles: NDArray[np.int32], chosen: Flags) -> NDArray[np.int32]:
    """Return chosen edges once each, smaller vertex first, in order."""
    following = np.roll(triangles, -1, axis=1)
    pairs = np.sort(np.column_stack((triangles[chosen], following[chosen])), axis=1)
    return np.unique(pairs, axis=0) if len(pairs) else pairs
