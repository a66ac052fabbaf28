"""Catching the nearest vertex, point, line or edge, so that what is measured is what was surveyed."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import singledispatch

import numpy as np

from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats, fixed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.kernels.lines.nearest import on_lines, on_places
from vastgrid.measures.heights import bucket_index, heights, surface_of


@dataclass(frozen=True, slots=True)
class Caught:
    """A place that was caught.

    Attributes
    ----------
    east, north, z : float
        Its coordinates; the height NaN where there is none.
    what : str
        “vertex”, “point”, “line”, “edge”, “surface”, or empty for a bare place.
    name : str
        Name of the dataset.
    """

    east: float
    north: float
    z: float
    what: str = ""
    name: str = ""


def catch(
    datasets: Sequence[Dataset],
    east: float,
    north: float,
    reach: float,
    clouds: dict[str, Iterable[Floats]] | None = None,
) -> Caught:
    """Return what lies nearest within reach: vertices and points first, then lines, then edges, then the surface.

    Parameters
    ----------
    datasets : sequence of Dataset
        The uppermost last.
    reach : float
        In plan units.
    clouds : dict
        Of clouds too large to search whole, by digest of their points: the pieces near the place.
    """
    corners: list[tuple[float, Caught]] = []
    sides: list[tuple[float, Caught]] = []
    for each in datasets:
        pieces = (clouds or {}).get(each.content)
        _near(each, (east, north, reach), corners, sides, pieces)
    for found in (corners, sides):
        if found:
            return min(found, key=lambda pair: pair[0])[1]
    for surface in reversed(datasets):
        ground = surface_of(surface)
        if ground is not None:
            z = float(heights(ground, np.array([[east, north]]))[0])
            if math.isfinite(z):
                return Caught(east, north, z, "surface", surface.name)
    return Caught(east, north, math.nan)


def _floats(place: Floats) -> tuple[float, float, float]:
    return float(place[0]), float(place[1]), float(place[2])


Found = list[tuple[float, Caught]]
Where = tuple[float, float, float]


@singledispatch
def _near(data: Dataset, where: Where, corners: Found, sides: Found, pieces: Iterable[Floats] | None) -> None:
    """Add what of a dataset is near a place; what has neither vertices nor lines catches nothing."""


@_near.register
def _near_points(points: PointSet, where: Where, corners: Found, sides: Found, pieces: Iterable[Floats] | None) -> None:
    for xyz in [points.xyz] if pieces is None else pieces:
        k, away = on_places(fixed(xyz), *where)
        if k >= 0:
            corners.append((away, Caught(*_floats(xyz[k]), "point", points.name)))


@_near.register(Linework)
@_near.register(Survey)
@_near.register(Contours)
@_near.register(Areas)
def _near_lines(
    lines: Linework | Survey | Contours | Areas,
    where: Where,
    corners: Found,
    sides: Found,
    pieces: Iterable[Floats] | None,
) -> None:
    # Contours keep their heights by line: no copy of all vertices is made for one of them.
    levels = getattr(lines, "levels", None)
    xyz = lines.courses()[0] if levels is not None else lines.coordinates()

    def caught(k: int, share: float, what: str) -> Caught:
        place = xyz[k] + share * (xyz[min(k + 1, len(xyz) - 1)] - xyz[k]) if share else xyz[k]
        z = float(place[2]) if len(place) > 2 else math.nan
        if levels is not None:
            z = float(levels[int(np.searchsorted(lines.offsets, k, side="right")) - 1])
        return Caught(float(place[0]), float(place[1]), z, what, lines.name)

    k, away = on_places(xyz, *where)
    if k >= 0:
        corners.append((away, caught(k, 0.0, "vertex")))
    k, share, away = on_lines(xyz, lines.offsets, *where)
    if k >= 0:
        sides.append((away, caught(k, share, "line")))


@_near.register
def _near_edges(tin: Tin, where: Where, corners: Found, sides: Found, pieces: Iterable[Floats] | None) -> None:
    """Look at the triangles around the place; where many fit into the reach, those nearest by are near enough."""
    east, north, reach = where
    index = bucket_index(tin)
    column, row = (east - index.west) / index.size, (north - index.south) / index.size
    step = min(reach / index.size, 3.0)
    members = []
    for r in range(max(int(row - step), 0), min(int(row + step), index.rows - 1) + 1):
        for c in range(max(int(column - step), 0), min(int(column + step), index.columns - 1) + 1):
            bucket = r * index.columns + c
            members.append(index.members[index.starts[bucket] : index.starts[bucket + 1]])
    near = np.unique(np.concatenate(members)) if members else np.zeros(0, np.int32)
    if len(near) == 0:
        return
    corner = tin.vertices[tin.triangles[near]]
    flat = corner.reshape(-1, 3)
    k, away = on_places(fixed(flat), east, north, reach)
    if k >= 0:
        corners.append((away, Caught(*_floats(flat[k]), "vertex", tin.name)))
    rings = np.concatenate((corner, corner[:, :1]), axis=1).reshape(-1, 3)
    k, share, away = on_lines(fixed(rings), fixed(np.arange(0, len(rings) + 1, 4)), east, north, reach)
    if k >= 0:
        place = rings[k] + share * (rings[k + 1] - rings[k])
        sides.append((away, Caught(*_floats(place), "edge", tin.name)))
