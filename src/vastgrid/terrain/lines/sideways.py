"""Lines moved sideways in plan, with the heights of the places that they come from."""

from __future__ import annotations

from typing import Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.data.dataset import Floats

# Legs of a square corner are carried on up to so many offsets; a sharper corner is cut off there.
MITRE = 5.0
# Chords of a quarter of a round corner.
CHORDS = 16


def moved_sideways(line: Floats, by: float, *, round_: bool) -> list[Floats]:
    """Return what a line becomes moved sideways, positive to the right, loops cut off; nothing where it vanishes.

    Parameters
    ----------
    line : (n, 3) float64
        A closed line repeats its first vertex.
    """
    flat = np.ascontiguousarray(line[np.append(True, (np.diff(line[:, :2], axis=0) != 0.0).any(axis=1))])
    if len(flat) < 2:
        return []
    style = "round" if round_ else "mitre"
    closed = len(flat) > 3 and (flat[0, :2] == flat[-1, :2]).all()
    if closed:
        ring = shapely.Polygon(flat[:, :2])
        if not ring.is_valid:
            ring = shapely.make_valid(ring)
        outward = by if shapely.is_ccw(shapely.LinearRing(flat[:, :2])) else -by
        grown = shapely.buffer(ring, outward, quad_segs=CHORDS, join_style=style, mitre_limit=MITRE)
        shells = [each.exterior for each in _polygons(grown)]
        found = [_like(shapely.get_coordinates(each), flat) for each in shells]
    else:
        own = shapely.offset_curve(
            shapely.LineString(flat[:, :2]), -by, quad_segs=CHORDS, join_style=style, mitre_limit=MITRE
        )
        found = [shapely.get_coordinates(each) for each in shapely.get_parts(own) if not each.is_empty]
    return [_with_heights(each, flat) for each in found if len(each) > 1]


def _polygons(shape: Any) -> list[Any]:
    parts = [shape] if shape.geom_type == "Polygon" else list(getattr(shape, "geoms", ()))
    return [each for each in parts if each.geom_type == "Polygon" and not each.is_empty]


def _like(ring: Floats, line: Floats) -> Floats:
    """Return a ring that goes round as the line does, begun where the line begins."""
    own = shapely.is_ccw(shapely.LinearRing(ring))
    if own != shapely.is_ccw(shapely.LinearRing(line[:, :2])):
        ring = ring[::-1]
    first = int(np.hypot(*(ring[:-1] - line[0, :2]).T).argmin())
    body = np.roll(ring[:-1], -first, axis=0)
    return np.concatenate((body, body[:1]))


def _with_heights(places: Floats, line: Floats) -> Floats:
    """Return places with the height of the nearest place of the line."""
    along = np.concatenate(([0.0], np.cumsum(np.hypot(*np.diff(line[:, :2], axis=0).T))))
    at = shapely.line_locate_point(shapely.LineString(line[:, :2]), shapely.points(places))
    return np.column_stack((places, np.interp(at, along, line[:, 2])))
