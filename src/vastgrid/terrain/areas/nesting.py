"""Closed lines as areas: one inside another on the same layer is a hole in it, and one inside a hole an area again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, either, left_out, note
from vastgrid.base.quantities import unit_word
from vastgrid.base.words import place_words
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Linework
from vastgrid.terrain.areas.mending import sound
from vastgrid.terrain.tin.limits import polygons_of


def enclosed(lines: Linework, gap: float, findings: list[Finding]) -> Areas:
    """Return what closed lines enclose, with the layer and attributes of each outer line.

    Parameters
    ----------
    gap : float
        A line whose end misses its beginning by no more than this in plan is closed, and counted.

    Raises
    ------
    DataError
        If no line is closed, or nobody can say what one encloses.
    """
    closed, rings = _rings(lines, gap, findings)
    polygons = np.array([shapely.Polygon(_flat_if_open(ring)) for ring in rings], object)
    names = [f"the line on {lines.layers[lines.layer[k]] or lines.name}" for k in closed.tolist()]
    shapes, kept = sound(polygons, lambda k: names[k], findings)
    closed = closed[kept]
    closed, shapes = _once(closed, shapes, lines, findings)
    depth, around = _nested(shapes, lines.layer[closed])
    outer = np.flatnonzero(depth % 2 == 0)
    inner: dict[int, list[Any]] = {}
    for k in np.flatnonzero(depth % 2).tolist():
        inner.setdefault(int(around[k]), []).append(shapes[k])
    made = np.array([_without(shapes[k], inner.get(k, [])) for k in outer.tolist()], object)
    holes = sum(map(len, inner.values()))
    if holes:
        text = (
            f"{count(holes, 'line')} inside another on the same layer {either(holes, 'is a hole', 'are holes')} in it."
        )
        findings.append(note("holes", text))
    own = closed[outer]
    return from_shapes(
        made,
        name=lines.name,
        frame=lines.frame,
        layer=lines.layer[own],
        layers=lines.layers,
        attributes={name: values[own] for name, values in lines.attributes.items()},
    )


def assembled(rings: Sequence[Floats]) -> Any:
    """Return what closed rings enclose together by the even-odd rule, every vertex as it is; None for nothing.

    Parameters
    ----------
    rings : sequence of (n, 3) float64
        Each with its first vertex repeated.
    """
    polygons = np.array([shapely.Polygon(_flat_if_open(ring)) for ring in rings], object)
    if len(polygons) == 0:
        return None
    if not shapely.is_valid(polygons).all():
        # What crosses itself is mended, or refused, as a whole.
        return shapely.multipolygons(polygons)
    depth, around = _nested(polygons, np.zeros(len(polygons), np.int32))
    parts = []
    for k in np.flatnonzero(depth % 2 == 0).tolist():
        holes = [polygons[h] for h in np.flatnonzero((depth % 2 == 1) & (around == k)).tolist()]
        parts += polygons_of(_without(polygons[k], holes))
    made = shapely.multipolygons(parts)
    if made.is_valid:
        return made
    even_odd = shapely.Polygon()
    for each in polygons:
        even_odd = shapely.symmetric_difference(even_odd, each)
    return shapely.MultiPolygon(polygons_of(even_odd))


def _flat_if_open(ring: Floats) -> Floats:
    # Where some have none, heights would keep a ring from closing.
    return ring if np.isfinite(ring[:, 2]).all() else ring[:, :2]


def _rings(lines: Linework, gap: float, findings: list[Finding]) -> tuple[NDArray[np.int64], list[Floats]]:
    """Return which lines are closed, or nearly, and their rings; the others are told with how far they are open."""
    first, last = lines.vertices[lines.offsets[:-1]], lines.vertices[lines.offsets[1:] - 1]
    apart = np.hypot(*(last - first)[:, :2].T)
    size = np.diff(lines.offsets)
    able = size > 3
    take = able & (apart <= gap)
    near = np.flatnonzero(take & (apart > 0.0))
    unit = unit_word(lines.frame.horizontal)
    if len(near):
        at = (float(last[near[0], 0]), float(last[near[0], 1]))
        text = f"{count(len(near), 'line')} that nearly {either(len(near), 'closes', 'close')} (by {apart[near].max():.4g}{unit} at most, first at {place_words(*at)}) {either(len(near), 'was', 'were')} closed."
        findings.append(Finding("ring-closed", text, at=at))
    open_ = np.flatnonzero(~take)
    if len(open_):
        least = apart[open_][able[open_]].min(initial=np.inf)
        k = open_[0]
        at = (float(last[k, 0]), float(last[k, 1]))
        hint = f" (close={least:.3g}{unit.strip()} would take the nearest to it)" if np.isfinite(least) else ""
        text = f"{count(len(open_), 'line')} {either(len(open_), 'is', 'are')} open, first at {place_words(*at)}, and {either(len(open_), 'encloses', 'enclose')} nothing: left out{hint}."
        findings.append(left_out("open-boundary", text, at=at))
    index = np.flatnonzero(take)
    if len(index) == 0:
        raise DataError(
            f"no line of {lines.name} is closed, so there is no area"
            + (f"; the nearest to it is open by {apart.min():.4g}{unit} (close=…)" if len(apart) else "")
        )
    rings = []
    for k in index.tolist():
        line = lines.line(k)
        # Its last place is meant to be the first, in height too.
        rings.append(np.concatenate((line[:-1], line[:1])))
    return index, rings


def _once(
    index: NDArray[np.int64], shapes: NDArray[Any], lines: Linework, findings: list[Finding]
) -> tuple[NDArray[np.int64], NDArray[Any]]:
    """Return shapes without those that are given twice on one layer."""
    normal = shapely.to_wkb(shapely.normalize(shapely.force_2d(shapes)))
    seen: dict[tuple[int, bytes], int] = {}
    for k, (layer, text) in enumerate(zip(lines.layer[index].tolist(), normal.tolist(), strict=True)):
        seen.setdefault((layer, text), k)
    kept = np.array(sorted(seen.values()), np.int64)
    twice = len(index) - len(kept)
    if twice:
        findings.append(left_out("given-twice", f"{count(twice, 'closed line')} given twice: counted once."))
    return index[kept], shapes[kept]


def _nested(shapes: NDArray[Any], layer: NDArray[np.int32]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return how many shapes of its layer lie around each, and the smallest of these (-1 for none)."""
    inner, outer = shapely.STRtree(shapes).query(shapes, predicate="covered_by")
    size = shapely.area(shapes)
    other = (inner != outer) & (layer[inner] == layer[outer]) & (size[outer] > size[inner])
    inner, outer = inner[other], outer[other]
    depth = np.bincount(inner, minlength=len(shapes)).astype(np.int64)
    around = np.full(len(shapes), -1, np.int64)
    order = np.lexsort((-size[outer], inner))
    # Written last, the smallest stays.
    around[inner[order]] = outer[order]
    return depth, around


def _without(shape: Any, holes: list[Any]) -> Any:
    """Return a shape with holes in it; where these touch its rim or each other along an edge, what is left without them."""
    if not holes:
        return shape
    if shape.geom_type == "Polygon" and all(hole.geom_type == "Polygon" for hole in holes):
        made = shapely.Polygon(shape.exterior, [*shape.interiors, *(hole.exterior for hole in holes)])
        if made.is_valid:
            return made
    return shapely.MultiPolygon(polygons_of(shapely.difference(shape, shapely.union_all(holes))))
