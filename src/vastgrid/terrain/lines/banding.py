"""Surfaces parted into bands of height: their outlines, exact, and limits that give equal shares."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.linework import legs
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.below import area_below
from vastgrid.measures.heights import heights
from vastgrid.terrain.lines.contouring import level_lines


@dataclass(frozen=True, slots=True)
class Band:
    """A connected piece of ground between two limits: which band, and its outline as a GEOS polygon."""

    number: int
    outline: Any


@dataclass(frozen=True, slots=True)
class Cuts:
    """What parts ground into bands, as separate straight edges, (n, 2, 2) float64 each.

    Attributes
    ----------
    levels : (n, 2, 2) float64
        Of the level lines, higher ground on their left.
    rim : (m, 2, 2) float64
        Of the rim, parted where a level crosses it.
    """

    levels: Floats
    rim: Floats


def cuts_of(tin: Tin, limits: Floats) -> Cuts:
    """Return the edges at which limits part a TIN."""
    lines = level_lines(tin, limits)
    start = legs(lines.offsets, len(lines.plan))
    return Cuts(np.stack((lines.plan[start], lines.plan[start + 1]), axis=1), _rim(tin, limits))


def _aligned(edges: Floats) -> tuple[Floats, Flags]:
    """Return edges all running east, or north where they run neither way, and which were turned for that."""
    a, b = edges[:, 0], edges[:, 1]
    turned = (a[:, 0] > b[:, 0]) | ((a[:, 0] == b[:, 0]) & (a[:, 1] > b[:, 1]))
    return np.where(turned[:, None, None], edges[:, ::-1], edges), turned


def joined_cuts(parts: Cuts) -> Cuts:
    """Return the cuts of all parts of one surface as those of the whole.

    Seams are no rims, and level lines that only a seam kept apart cancel where one runs along a ridge or valley and back.
    """
    rim, _ = _aligned(parts.rim)
    # The rim of a part is one of the whole unless the part beside it has the same.
    own, number = np.unique(rim.reshape(-1, 4), axis=0, return_counts=True)
    levels, turned = _aligned(parts.levels)
    places, which = np.unique(levels.reshape(-1, 4), axis=0, return_inverse=True)
    ways = np.zeros((len(places), 2), np.int64)
    np.add.at(ways, (which.ravel(), turned.astype(np.int64)), 1)
    return Cuts(places[ways[:, 0] != ways[:, 1]].reshape(-1, 2, 2), own[number == 1].reshape(-1, 2, 2))


def faces_of(cuts: Cuts) -> Any:
    """Return the areas that cuts enclose, as GEOS polygons, holes in the ground among them."""
    whole, _ = _aligned(np.concatenate((cuts.levels, cuts.rim)))
    whole = whole[(whole[:, 0] != whole[:, 1]).any(axis=1)]
    # Where a rim lies on a level both would be there.
    once = np.unique(whole.reshape(-1, 4), axis=0).reshape(-1, 2, 2)
    return shapely.get_parts(shapely.polygonize(shapely.linestrings(once)))


def banded(tin: Tin, limits: Floats, progress: Progress) -> list[Band]:
    """Return the pieces into which limits part a TIN, in the order of bands; band 0 lies below the first limit.

    Their edges are the level lines and the rim of the surface, so their areas are exact.
    """
    cuts = cuts_of(tin, limits)
    progress.report(0.2, "parting the surface into bands")
    faces = faces_of(cuts)
    progress.report(0.6, "parting the surface into bands")
    number, _ = numbered(tin, limits, faces)
    progress.report(1.0)
    return in_order(faces, number)


def numbered(tin: Tin, limits: Floats, faces: Any) -> tuple[NDArray[np.int64], Floats]:
    """Return the band of each face, -1 for a hole, and a place inside each, (k, 2)."""
    if len(faces) == 0:
        return np.zeros(0, np.int64), np.zeros((0, 2))
    inner = shapely.get_coordinates(shapely.point_on_surface(faces))
    z = heights(tin, inner)
    return np.where(np.isfinite(z), np.searchsorted(limits, z, side="right"), -1), inner


def number_by_places(faces: Any, places: Floats, number: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the band of each face by places of which the band is known; -1 where a face has none, as holes."""
    found = np.full(len(faces), -1, np.int64)
    if len(faces) and len(places):
        place, face = shapely.STRtree(faces).query(shapely.points(places), predicate="within")
        found[face] = number[place]
    return found


def in_order(faces: Any, number: NDArray[np.int64]) -> list[Band]:
    """Return faces as bands, by number, the largest first; holes are left out."""
    order = np.lexsort((-shapely.area(faces), number)) if len(faces) else np.zeros(0, np.int64)
    return [Band(int(number[k]), faces[k]) for k in order.tolist() if number[k] >= 0]


def _rim(tin: Tin, limits: Floats) -> Floats:
    """Return the rim's edges, parted where a level crosses them at the very place where its line ends, (m, 2, 2)."""
    t, k = np.nonzero(tin.edges_across < 0)
    pair = np.sort(np.column_stack((tin.triangles[t, k], tin.triangles[t, (k + 1) % 3])), axis=1)
    a, b = tin.vertices[pair[:, 0]], tin.vertices[pair[:, 1]]
    low, high = np.minimum(a[:, 2], b[:, 2]), np.maximum(a[:, 2], b[:, 2])
    first, stop = np.searchsorted(limits, low, side="left"), np.searchsorted(limits, high, side="right")
    number = stop - first
    edge = np.repeat(np.arange(len(pair)), number)
    level = limits[np.arange(len(edge)) - np.repeat(np.cumsum(number) - number, number) + np.repeat(first, number)]
    za, zb = a[edge, 2], b[edge, 2]
    flat = za == zb
    share = np.where(flat, 0.0, (level - za) / np.where(flat, 1.0, zb - za))
    # The same arithmetic as that of the level lines, so that places agree to the last bit.
    x = a[edge, 0] + share * (b[edge, 0] - a[edge, 0])
    y = a[edge, 1] + share * (b[edge, 1] - a[edge, 1])
    at_a, at_b = level == za, level == zb
    x, y = (
        np.where(at_a, a[edge, 0], np.where(at_b, b[edge, 0], x)),
        np.where(at_a, a[edge, 1], np.where(at_b, b[edge, 1], y)),
    )
    every = np.arange(len(pair))
    who = np.concatenate((every, edge, every))
    where = np.concatenate((np.zeros(len(pair)), np.clip(share, 0.0, 1.0), np.ones(len(pair))))
    place = np.concatenate((a[:, :2], np.column_stack((x, y)), b[:, :2]))
    order = np.lexsort((where, who))
    who, place = who[order], place[order]
    together = who[1:] == who[:-1]
    return np.stack((place[:-1][together], place[1:][together]), axis=1)


def equal_shares(tin: Tin, number: int) -> Floats:
    """Return the heights that part a TIN into so many bands of equal plan area, (number - 1,)."""
    corner = np.sort(tin.vertices[tin.triangles, 2], axis=1)
    plan = tin.corners()[:, :, :2]
    u, v = plan[:, 1] - plan[:, 0], plan[:, 2] - plan[:, 0]
    area = np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / 2.0
    wanted = area.sum() * np.arange(1, number) / number
    low = np.full(number - 1, float(corner[:, 0].min()))
    high = np.full(number - 1, float(corner[:, 2].max()))
    for _ in range(80):
        middle = (low + high) / 2.0
        less = area_below(corner, area, middle) < wanted
        low, high = np.where(less, middle, low), np.where(less, high, middle)
    return np.asarray((low + high) / 2.0, np.float64)
