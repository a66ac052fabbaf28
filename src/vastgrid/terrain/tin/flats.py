"""No false plateaus between contours: places are inferred on ridges, in valleys, on summits and saddles.

A triangle whose corners all lie on one contour is flat, though the ground there is not. Through flat ground runs a spine:
the middles of its inner edges. From where it begins, at the tip of a contour or at a saddle, to where it leads to the next
contour, heights change with the share of the way: the nearer the contour beside in proportion to the next level, the
nearer its height. On a summit or in a pit, which leads nowhere, the ground goes on half as steep as it arrives, and never
as far as the next level. What is then still flat has an edge swapped.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Flags, Floats
from vastgrid.kernels.triangles.flats import along_spines, flat_triangles, spine, swap_flats
from vastgrid.kernels.triangles.planar import first_triangles
from vastgrid.kernels.triangles.topology import regions
from vastgrid.kernels.triangles.triangulate import Triangulation, triangulate

ROUNDS = 4
# On summits the ground goes on with this share of the slope at which it arrives.
ONWARD = 0.5
# An inferred height stays this far from the next level, as a share of the interval.
SHORT_OF = 0.98


@dataclass(frozen=True, slots=True)
class Corrected:
    """A triangulation without false plateaus.

    Attributes
    ----------
    vertices : (v, 3) float64
        Those given, then those inferred.
    triangles, neighbours, constrained
        As a triangulation gives them.
    added, swapped : int
        How many places were inferred, and edges swapped.
    before, after : float
        Share of triangles that are flat.
    """

    vertices: Floats
    triangles: NDArray[np.int32]
    neighbours: NDArray[np.int32]
    constrained: Flags
    added: int
    swapped: int
    before: float
    after: float


def without_plateaus(
    vertices: Floats, made: Triangulation, on_contour: Flags, interval: float, progress: Progress
) -> Corrected:
    """Infer places in flat ground and swap what stays flat.

    Parameters
    ----------
    vertices : (v, 3) float64
        Of the triangulation.
    on_contour : (v,) bool
        Which of them are contours' own: only triangles between them are false.
    interval : float
        Distance of levels.
    """
    triangles, neighbours, flags = made.triangles, made.neighbours, made.constrained
    given = len(vertices)
    edges = _edges(triangles, flags)
    before = -1.0
    for turn in range(ROUNDS):
        flat = _flat(vertices, triangles, on_contour)
        share = float(flat.mean()) if len(flat) else 0.0
        before = share if before < 0.0 else before
        new = _inferred(vertices, triangles, neighbours, flags, flat, interval)
        if len(new) == 0:
            break
        progress.report((turn + 0.2) / ROUNDS, "inferring ridges and valleys")
        vertices = np.concatenate((vertices, new))
        on_contour = np.concatenate((on_contour, np.zeros(len(new), np.bool_)))
        again = triangulate(
            np.ascontiguousarray(vertices[:, :2]), edges, progress.part(turn / ROUNDS, (turn + 1) / ROUNDS)
        )
        triangles, neighbours, flags = again.triangles, again.neighbours, again.constrained
        if len(again.xy) > len(vertices):
            # Edges that had met without crossing cannot cross now but by rounding: such a place has their height.
            extra = np.column_stack((again.xy[len(vertices) :], np.full(len(again.xy) - len(vertices), np.nan)))
            vertices = np.concatenate((vertices, extra))
            on_contour = np.concatenate((on_contour, np.zeros(len(extra), np.bool_)))
    added = len(vertices) - given
    tri, nbr, bits = triangles.copy(), neighbours.copy(), flags.astype(np.uint8)
    at = np.full(len(vertices), -1, np.int32)
    first_triangles(tri, len(tri), at)
    part = np.ones(len(tri), np.uint8)
    z = np.where(on_contour, vertices[:, 2], np.arange(len(vertices)) * 1e3 + 1e9)
    swapped = int(swap_flats(np.ascontiguousarray(vertices[:, :2]), z, tri, nbr, bits, part, at, 1e-9, 0.0))
    after = float(_flat(vertices, tri, on_contour).mean())
    return Corrected(vertices, tri, nbr, bits != 0, added, swapped, max(before, 0.0), after)


def _flat(vertices: Floats, triangles: NDArray[np.int32], on_contour: Flags) -> Flags:
    flat = flat_triangles(np.ascontiguousarray(vertices[:, 2]), triangles, 1e-9)
    return np.asarray(flat & on_contour[triangles].all(axis=1))


def _edges(triangles: NDArray[np.int32], flags: Flags) -> NDArray[np.int64]:
    following = np.roll(triangles, -1, axis=1)
    pairs = np.sort(np.column_stack((triangles[flags], following[flags])).astype(np.int64), axis=1)
    return np.unique(pairs, axis=0)


def _inferred(
    vertices: Floats,
    triangles: NDArray[np.int32],
    neighbours: NDArray[np.int32],
    flags: Flags,
    flat: Flags,
    interval: float,
) -> Floats:
    """Return the places of the spines of flat ground, with heights."""
    if not flat.any():
        return np.zeros((0, 3))
    xy, z = np.ascontiguousarray(vertices[:, :2]), np.ascontiguousarray(vertices[:, 2])
    places, width, owner, links, mouths = spine(xy, z, triangles, neighbours, flags.astype(np.uint8), flat)
    if len(places) == 0:
        return np.zeros((0, 3))
    far, mouth = along_spines(places, links, mouths, xy)
    level = places[:, 2].copy()
    open_ = mouth >= 0
    beyond = np.zeros(len(places))
    beyond[open_] = z[mouths[mouth[open_], 1]] - level[open_]
    most = SHORT_OF * interval if interval > 0.0 else np.inf
    share = np.zeros(len(places))
    share[open_] = width[open_] / (width[open_] + far[open_])
    change = np.clip(beyond * share, -most, most)
    if (~open_).any():
        change[~open_] = np.clip(
            _onward(vertices, triangles, neighbours, flags, flat)[owner] * width, -most / 2, most / 2
        )[~open_]
    return np.asarray(np.column_stack((places[:, :2], level + change))[change != 0.0])


def _onward(
    vertices: Floats, triangles: NDArray[np.int32], neighbours: NDArray[np.int32], flags: Flags, flat: Flags
) -> Floats:
    """Return for each triangle how steeply its flat ground goes on: upwards where it arrives from below."""
    corner = vertices[triangles]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    double = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    gx = (u[:, 2] * v[:, 1] - v[:, 2] * u[:, 1]) / double
    gy = (v[:, 2] * u[:, 0] - u[:, 2] * v[:, 0]) / double
    slope = np.minimum(np.hypot(gx, gy), 2.0)
    inner = neighbours >= 0
    same = flat[:, None] & inner & flat[np.maximum(neighbours, 0)] & ~flags
    region = regions(neighbours, ~same)
    number = int(region.max()) + 1
    total, signs, times = np.zeros(number), np.zeros(number), np.zeros(number)
    mean = corner[:, :, 2].mean(axis=1)
    for k in range(3):
        own = flat & flags[:, k] & inner[:, k]
        other = neighbours[own, k]
        steep = ~flat[other]
        mine = region[own][steep]
        np.add.at(total, mine, slope[other][steep])
        np.add.at(signs, mine, np.sign(mean[own] - mean[other])[steep])
        np.add.at(times, mine, 1.0)
    return np.asarray((np.sign(signs) * ONWARD * total / np.maximum(times, 1.0))[region])
