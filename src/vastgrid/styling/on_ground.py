"""What has no height of its own brought onto the ground that is shown: points, solids, lines."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.measures.heights import heights, surface_of
from vastgrid.styling.colouring import StyledLayer


def standing(xyz: Floats, items: Sequence[StyledLayer]) -> Floats:
    """Return places brought down, or up, to the uppermost surface that is shown; where there is none they stay."""
    out = np.array(xyz)
    for item in items:
        surface = surface_of(item.dataset)
        if surface is not None:
            z = heights(surface, np.ascontiguousarray(xyz[:, :2]))
            out[np.isfinite(z), 2] = z[np.isfinite(z)]
    return out


_BOX = np.array([
    (0, 1, 5), (0, 5, 4), (1, 2, 6), (1, 6, 5), (2, 3, 7), (2, 7, 6), (3, 0, 4), (3, 4, 7), (4, 5, 6), (4, 6, 7),
    (0, 2, 1), (0, 3, 2),
], np.int32)  # fmt: skip


def solids(foot: Floats, tall: Floats, width: float) -> tuple[Floats, NDArray[np.int32]]:
    """Return boxes: 8 vertices and 12 triangles for each foot (n, 3) and height (n,)."""
    half = width / 2.0
    corner = np.array([(-half, -half), (half, -half), (half, half), (-half, half)])
    out = np.zeros((len(foot), 8, 3))
    out[:, :4, :2] = out[:, 4:, :2] = foot[:, None, :2] + corner
    out[:, :4, 2] = foot[:, 2, None]
    out[:, 4:, 2] = (foot[:, 2] + tall)[:, None]
    triangles = _BOX[None] + 8 * np.arange(len(foot), dtype=np.int32)[:, None, None]
    return out.reshape(-1, 3), triangles.reshape(-1, 3)


def laid(data: Linework | Survey, layer: StyledLayer, items: Sequence[StyledLayer]) -> tuple[Floats, NDArray[np.int64]]:
    """Return lines in space: those without heights, or flat at zero, are laid on the surface that is shown.

    They get more vertices on the way, so that they follow the ground.
    """
    surfaces = [surface for each in items if (surface := surface_of(each.dataset)) is not None]
    z = data.vertices[:, 2]
    line_of = np.repeat(np.arange(len(data.offsets) - 1), np.diff(data.offsets))
    floating = np.zeros(len(data.offsets) - 1, np.bool_)
    bare = np.isnan(z) | (z == 0.0)
    np.logical_or.at(floating, line_of, np.isnan(z))
    whole = np.ones(len(floating), np.bool_)
    np.logical_and.at(whole, line_of, bare)
    floating |= whole
    if not floating.any() or not surfaces:
        return data.vertices, data.offsets
    key = "laid " + " ".join(str(id(each)) for each in surfaces)
    made: tuple[Floats, NDArray[np.int64]] = layer.kept(key, lambda: _laid(data, floating, surfaces))
    return made


def _laid(
    data: Linework | Survey, floating: NDArray[np.bool_], surfaces: Sequence[Tin | Grid]
) -> tuple[Floats, NDArray[np.int64]]:
    extent = data.extent()
    assert extent.east is not None
    assert extent.north is not None
    step = max(math.hypot(extent.east[1] - extent.east[0], extent.north[1] - extent.north[0]) / 800.0, 1e-6)
    parts, offsets = [], [0]
    for k in range(len(floating)):
        line = data.vertices[data.offsets[k] : data.offsets[k + 1]]
        if floating[k] and len(line) > 1:
            length = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line[:, :2], axis=0).T))))
            at = np.unique(np.concatenate((length, np.arange(0.0, length[-1], step))))
            line = np.column_stack(
                (np.interp(at, length, line[:, 0]), np.interp(at, length, line[:, 1]), np.full(len(at), np.nan))
            )
            for surface in surfaces:
                z = heights(surface, np.ascontiguousarray(line[:, :2]))
                line[np.isfinite(z), 2] = z[np.isfinite(z)]
        parts.append(line)
        offsets.append(offsets[-1] + len(line))
    return np.concatenate(parts), np.array(offsets, np.int64)
