"""What slopes are given as: a TIN, the daylight line, lines down the slopes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Silent
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.topology import group_places, neighbours_of
from vastgrid.kernels.triangles.triangulate import once, triangulate
from vastgrid.terrain.lines.slopes import Cast, Caster, Side


def surface_of(side_list: list[Side], inner: Any, name: str, frame: Any, ring: Floats | None) -> tuple[Tin, Any]:
    """Return the slopes as a TIN, with what lies within a closed line if that is wanted, and their place in plan.

    Parameters
    ----------
    inner : shapely Polygon or None
        The pad inside a closed line, which is filled too.
    ring : (n, 3) float64 or None
        The line, whose vertices and feet are the pad's.
    """
    xyz: list[Floats] = []
    edges: list[NDArray[np.int64]] = []
    strips: list[Any] = []
    number = 0

    def put(places: Floats) -> NDArray[np.int64]:
        nonlocal number
        xyz.append(places)
        index = np.arange(number, number + len(places))
        number += len(places)
        return index

    for side in side_list:
        previous: tuple[Cast, NDArray[np.int64]] | None = None
        last_ground = -1
        for cast in side.casts:
            rows = put(cast.places)
            if cast.state != "slope" and len(rows) > 1:
                edges.append(np.column_stack((rows[:-1], rows[1:])))
            if previous is not None:
                one, before = previous
                edges.append(np.array([[before[0], rows[0]]]))
                strips.append(_strip(one.places, cast.places))
                for k in range(1, min(len(before), len(rows)) - 1):
                    edges.append(np.array([[before[k], rows[k]]]))
            if cast.state != "slope":
                if last_ground >= 0:
                    edges.append(np.array([[last_ground, rows[-1]]]))
                last_ground = int(rows[-1])
            previous = cast, rows
    if ring is not None:
        rows = put(ring)
        edges.append(np.column_stack((rows[:-1], rows[1:])))
    vertices = np.concatenate(xyz)
    region = shapely.union_all([each for each in strips if each is not None])
    if inner is not None:
        region = shapely.union_all([region, inner])
    if region.is_empty or region.area <= 0.0:
        raise DataError("the line lies on the ground: there is no slope to make")
    return _triangulated(vertices, np.concatenate(edges), region, name, frame), region


def _strip(one: Floats, two: Floats) -> Any:
    ring = np.concatenate((one[:, :2], two[::-1, :2]))
    polygon = shapely.Polygon(ring) if len(np.unique(ring, axis=0)) > 2 else None
    if polygon is None:
        return None
    return polygon if polygon.is_valid else shapely.make_valid(polygon)


def _triangulated(vertices: Floats, edges: NDArray[np.int64], region: Any, name: str, frame: Any) -> Tin:
    origin = np.floor(vertices[:, :2].min(axis=0))
    local = vertices[:, :2] - origin
    near = max(float(np.ptp(local, axis=0).max()) * 1e-9, 1e-7)
    group, first = group_places(local[:, 0].copy(), local[:, 1].copy(), near)
    places, z = vertices[first, :2], vertices[first, 2]
    pairs = once(group[edges].astype(np.int64))
    made = triangulate(places, pairs, Silent())
    extra = []
    for vertex, group_ in made.crossings:
        k = pairs[group_[0]] if group_ else np.array([0, 0])
        a, b = places[k[0]], places[k[1]]
        length = float(np.hypot(*(b - a)))
        share = float(np.hypot(*(made.xy[vertex] - a))) / length if length else 0.0
        extra.append(float(z[k[0]] + share * (z[k[1]] - z[k[0]])))
    heights_ = np.concatenate((z, np.array(extra)))
    middle = made.xy[made.triangles].mean(axis=1)
    shapely.prepare(region)
    keep = shapely.contains_xy(region, middle[:, 0], middle[:, 1])
    faces = made.triangles[keep]
    used, again = np.unique(faces, return_inverse=True)
    triangles = again.reshape(-1, 3).astype(np.int32)
    return Tin(
        name=name,
        frame=frame,
        vertices=np.column_stack((made.xy, heights_))[used],
        triangles=triangles,
        neighbours=neighbours_of(triangles),
        constrained=made.constrained[keep],
    )


def daylight_of(side: Side) -> list[Floats]:
    """Return the line along which slopes meet the ground, parted where they do not."""
    found: list[list[Floats]] = [[]]
    for cast in side.casts:
        if cast.state == "ground":
            found[-1].append(cast.end)
        elif cast.state == "open" and found[-1]:
            found.append([])
    return [line for line in (_without_repeats(np.array(line)) for line in found if line) if len(line) > 1]


def _without_repeats(line: Floats) -> Floats:
    """Return a line without places that only rounding keeps apart from the one before."""
    near = 1e-9 * max(float(np.ptp(line[:, :2], axis=0).max()), 1.0)
    keep = np.append(True, np.hypot(*np.diff(line[:, :2], axis=0).T) > near)
    return np.asarray(line[keep], np.float64)


def slope_lines(caster: Caster, spacing: float) -> list[tuple[Floats, bool]]:
    """Return lines down the slopes at a spacing along the line, long and half as long in turn, from their upper end.

    Returns
    -------
    list of ((n, 3) float64, bool)
        Each line, and whether it is a long one.
    """
    found = []
    number = max(int(caster.total[-1] / spacing), 1)
    for k in range(number + (0 if caster.closed else 1)):
        at = min(k * spacing, float(caster.total[-1]))
        leg = min(max(int(np.searchsorted(caster.total, at, side="right")) - 1, 0), len(caster.length) - 1)
        own = caster.cast(caster.of_leg(leg, float((at - caster.total[leg]) / caster.length[leg])))
        if own is None or len(own.places) < 2:
            continue
        down = own.places[::-1] if own.up else own.places
        long = k % 2 == 0
        found.append((down if long else _half(down), long))
    return found


def _half(line: Floats) -> Floats:
    """Return the upper half of a line."""
    total = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line[:, :2], axis=0).T))))
    end = total[-1] / 2.0
    last = np.array([np.interp(end, total, line[:, axis]) for axis in range(3)])
    return np.vstack((line[total < end], last))
