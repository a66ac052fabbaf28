"""Where a surface ends: closed lines as an area, mended where that is certain, and a TIN cut to it."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, left_out
from vastgrid.base.quantities import Unit, square_word
from vastgrid.base.words import place_words
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.line_roles import ISLAND, VOID
from vastgrid.data.linework import Linework
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.crossings import on_segments
from vastgrid.kernels.triangles.locate import touched_by
from vastgrid.kernels.triangles.topology import group_places, neighbours_of
from vastgrid.measures.heights import bucket_index

# A loop that a slip of the hand makes at a crossing encloses less than this share of the whole.
SLIP = 0.01
# Places that cutting finds from both sides of an edge agree to far less than this share of the extent.
WELD = 1e-11
# So many corners of an area, or so few shapes, that parting them further gains nothing.
SMALL, FEW = 64, 8


def ring_area(ring: Floats, what: str, findings: list[Finding], unit: Unit | None = None) -> Any:
    """Return a closed line as a polygon; slips are mended and told.

    Parameters
    ----------
    ring : (n, ≥ 2) float64
        Its first vertex repeated at the end.
    what : str
        What the line is, for messages: “outer boundary”.
    unit : Unit or None
        Its unit, for messages.

    Raises
    ------
    DataError
        If it encloses nothing, or crosses itself so that nobody can say what is meant; with the place.
    """
    xy = np.asarray(ring[:, :2], np.float64)
    if not np.isfinite(xy).all():
        raise DataError(f"the {what} has a vertex that is not a place")
    kept = np.append(True, (np.diff(xy, axis=0) != 0.0).any(axis=1))
    xy = xy[kept]
    at = f"{place_words(xy[0, 0], xy[0, 1])}"
    if len(np.unique(xy, axis=0)) < 3:
        raise DataError(f"the {what} at {at} has fewer than three corners and encloses nothing")
    polygon = shapely.Polygon(xy)
    if polygon.is_valid and polygon.area > 0.0:
        return polygon
    place = _crossing(polygon)
    where = f"{place_words(place[0], place[1])}"
    parts = [
        each for each in polygons_of(shapely.make_valid(polygon, method="linework", keep_collapsed=True)) if each.area
    ]
    parts.sort(key=lambda each: -each.area)
    if not parts:
        raise DataError(f"the {what} at {where} goes there and back on one line and encloses nothing")
    total = sum(each.area for each in parts)
    if parts[0].area < (1.0 - SLIP) * total:
        sizes = " and ".join(f"{each.area:.4g}" for each in parts[:2])
        raise DataError(
            f"the {what} crosses itself at {where} and encloses parts of {sizes}{square_word(unit)}; nobody can say which is "
            "meant. Mend the line there"
        )
    if len(parts) > 1:
        lost = total - parts[0].area
        text = (
            f"The {what} crosses itself at {where}; the {'loop' if len(parts) == 2 else 'loops'} of {lost:.4g}{square_word(unit)} "
            f"cut off there ({lost / total:.2g} of the whole) {'was' if len(parts) == 2 else 'were'} left out."
        )
    else:
        text = f"The {what} doubles back on itself at {where}; what encloses nothing there was left out."
    findings.append(Finding("ring-mended", text, at=place))
    return parts[0]


def _crossing(polygon: Any) -> tuple[float, float]:
    found = re.search(r"\[(\S+) (\S+?)[ \]]", shapely.is_valid_reason(polygon))
    if found:
        return float(found[1]), float(found[2])
    first = shapely.get_coordinates(polygon)[0]
    return float(first[0]), float(first[1])


def polygons_of(shape: Any) -> list[Any]:
    """Return the polygons of a shape."""
    if shape.geom_type == "Polygon":
        return [shape]
    return [each for part in getattr(shape, "geoms", ()) for each in polygons_of(part)]


def limits_area(
    outer: Sequence[Floats],
    voids: Sequence[Floats],
    islands: Sequence[Floats],
    around: Floats,
    findings: list[Finding],
    unit: Unit | None = None,
) -> Any:
    """Return the area inside one outer boundary and outside voids, islands in them again inside; None for no limit.

    Parameters
    ----------
    around : (n, ≥ 2) float64
        Coordinates of the ground; where there is no outer boundary all of it is inside.

    Raises
    ------
    DataError
        If there are several outer boundaries, or a ring cannot be used.
    """
    if not (outer or voids or islands):
        return None
    rings = [ring_area(ring, "outer boundary", findings, unit) for ring in outer]
    different = [ring for k, ring in enumerate(rings) if not any(ring.equals(other) for other in rings[:k])]
    if len(different) > 1:
        first = ", ".join(place_words(*shapely.get_coordinates(each)[0]) for each in different[:3])
        raise DataError(
            f"there are {len(different)} closed lines where one outer boundary is needed (beginning at {first}); put the "
            "others on a layer of their own"
        )
    if len(rings) > 1:
        findings.append(
            Finding("boundary-twice", f"The outer boundary is given {len(rings)} times, alike; it counts once.")
        )
    if different:
        area = different[0]
    else:
        low, high = around[:, :2].min(axis=0), around[:, :2].max(axis=0)
        area = shapely.box(*(low - 1.0 - np.ptp(around[:, :2])), *(high + 1.0 + np.ptp(around[:, :2])))
    if voids:
        area = area.difference(shapely.union_all([ring_area(ring, VOID, findings, unit) for ring in voids]))
    if islands:
        kept = shapely.union_all([ring_area(ring, ISLAND, findings, unit) for ring in islands])
        area = area.union(kept.intersection(different[0]) if different else kept)
    return area


def has_rings(data: Linework | Areas) -> bool:
    """Return whether any of some lines is closed, or there are areas."""
    return len(data) > 0 if isinstance(data, Areas) else bool(data.closed().any())


def closed_rings(lines: Linework, findings: list[Finding]) -> list[Floats]:
    """Return the closed lines among some, each (n, 3) with its first vertex repeated; open ones are told."""
    closed = lines.closed()
    for k in np.flatnonzero(~closed).tolist():
        end = lines.line(k)[-1]
        at = (float(end[0]), float(end[1]))
        text = f"A line on {lines.layers[lines.layer[k]] or lines.name} is open (it ends at {place_words(at[0], at[1])}) and limits nothing; left out."
        findings.append(left_out("open-boundary", text, at=at))
    return [lines.line(k) for k in np.flatnonzero(closed).tolist()]


def joined_area(rings: Sequence[Floats], what: str, findings: list[Finding], unit: Unit | None = None) -> Any:
    """Return the area that closed lines enclose together; one inside another is a hole in it.

    Raises
    ------
    DataError
        If one of them cannot be used.
    """
    area = shapely.Polygon()
    for ring in rings:
        area = shapely.symmetric_difference(area, ring_area(ring, what, findings, unit))
    return area


def limited_area(limits: Sequence[Dataset], what: str, findings: list[Finding], unit: Unit | None = None) -> Any | None:
    """Return the ground inside areas and closed lines together, holes left out; None where there is none of either.

    Raises
    ------
    DataError
        If a line cannot be used.
    """
    rings = [ring for each in limits if isinstance(each, Linework) for ring in closed_rings(each, findings)]
    shapes = [shape for each in limits if isinstance(each, Areas) for shape in each.shapes().tolist()]
    if rings:
        shapes.append(joined_area(rings, what, findings, unit))
    if not shapes:
        return None
    return shapes[0] if len(shapes) == 1 else shapely.union_all(shapes)


def cut_to(tin: Tin, area: Any) -> Tin:
    """Return the part of a TIN that lies in an area; triangles on its edge are parted, each in its own plane.

    The ground inside stays as it is: no edge is flipped, and what is new lies on the triangles that were there.

    Parameters
    ----------
    area : shapely Polygon or MultiPolygon
        In the TIN's own coordinates.

    Raises
    ------
    DataError
        If none of it lies inside.
    """
    origin = np.floor(tin.vertices[:, :2].min(axis=0)) if len(tin.vertices) else np.zeros(2)
    local = tin.vertices.copy()
    local[:, :2] -= origin
    inside_of = shapely.transform(area, lambda xy: xy - origin)
    shapely.prepare(inside_of)
    touched = np.zeros(len(tin.triangles), np.bool_)
    for ring in _rings(area):
        touched |= touched_by(ring, tin.vertices, tin.triangles, bucket_index(tin))
    centre = local[tin.triangles].mean(axis=1)
    keep = ~touched
    keep[keep] = shapely.contains_xy(inside_of, centre[keep, 0], centre[keep, 1])
    pieces = _pieces(local, tin.triangles, np.flatnonzero(touched), inside_of, keep)
    whole = np.flatnonzero(keep)
    if len(whole) == 0 and len(pieces[0]) == 0:
        low, high = tin.vertices[:, :2].min(axis=0), tin.vertices[:, :2].max(axis=0)
        west, south, east, north = area.bounds
        raise DataError(
            f"no part of the ground (E {low[0]:.2f} … {high[0]:.2f}, N {low[1]:.2f} … {high[1]:.2f}) lies inside the "
            f"outer boundary (E {west:.2f} … {east:.2f}, N {south:.2f} … {north:.2f}); are both in the same units and place?"
        )
    return _joined(tin, local, origin, whole, pieces)


def _rings(area: Any) -> list[Floats]:
    return [
        np.asarray(shapely.get_coordinates(ring), np.float64)
        for polygon in polygons_of(area)
        for ring in (polygon.exterior, *polygon.interiors)
    ]


def _pieces(
    local: Floats, triangles: NDArray[np.int32], which: NDArray[np.int64], area: Any, keep: Flags
) -> tuple[Floats, NDArray[np.int64]]:
    """Return the inner parts of triangles, (p, 3, 2), and the triangle of each; one that is wholly inside is kept."""
    if len(which) == 0:
        return np.zeros((0, 3, 2)), np.zeros(0, np.int64)
    corner = local[triangles[which]][:, :, :2]
    shapes = shapely.polygons(corner)
    within = shapely.covers(area, shapes)
    keep[which[within]] = True
    which, shapes = which[~within], shapes[~within]
    cut = _inner(shapes, shapely.bounds(shapes), area)
    parts, of_part = shapely.get_parts(cut, return_index=True)
    # Where only an edge or a corner touches there is no area.
    solid = shapely.area(parts) > 0.0
    parts, of_part = parts[solid], of_part[solid]
    if len(parts) == 0:
        return np.zeros((0, 3, 2)), np.zeros(0, np.int64)
    small, of_small = shapely.get_parts(shapely.constrained_delaunay_triangles(parts), return_index=True)
    xy = shapely.get_coordinates(small).reshape(-1, 4, 2)[:, :3]
    u, v = xy[:, 1] - xy[:, 0], xy[:, 2] - xy[:, 0]
    clockwise = u[:, 0] * v[:, 1] < u[:, 1] * v[:, 0]
    xy[clockwise] = xy[clockwise, ::-1]
    return np.asarray(xy, np.float64), which[of_part[of_small]]


def _inner(shapes: NDArray[Any], bounds: Floats, area: Any) -> NDArray[Any]:
    """Return what of each shape lies in an area: shape by shape where it is small, and else with the part of it nearby.

    Where a part ends no shape is near, so that only what rounding makes of a cut line's direction differs.
    """
    if len(shapes) <= FEW or shapely.get_num_coordinates(area) <= SMALL:
        return np.asarray(shapely.intersection(shapes, area))
    out = np.zeros(len(shapes), object)
    middle = bounds[:, :2] + bounds[:, 2:]
    axis = int(np.ptp(middle[:, 1]) > np.ptp(middle[:, 0]))
    order = np.argsort(middle[:, axis], kind="stable")
    for half in (order[: len(order) // 2], order[len(order) // 2 :]):
        low, high = bounds[half, :2].min(axis=0), bounds[half, 2:].max(axis=0)
        room = 0.01 * float((high - low).max())
        near = shapely.MultiPolygon(polygons_of(shapely.intersection(area, shapely.box(*(low - room), *(high + room)))))
        out[half] = _inner(shapes[half], bounds[half], near)
    return out


def _joined(
    tin: Tin, local: Floats, origin: Floats, whole: NDArray[np.int64], pieces: tuple[Floats, NDArray[np.int64]]
) -> Tin:
    """Return kept triangles and pieces as one TIN: equal places are one vertex, and no edge ends on another."""
    xy, source = pieces
    corner = local[tin.triangles[source]]
    new = np.column_stack((xy.reshape(-1, 2), _on_planes(corner, xy).ravel()))
    together = np.concatenate((local, new))
    size = max(float(np.ptp(local[:, :2], axis=0).max()) * WELD, 1e-12)
    group, first = group_places(together[:, 0].copy(), together[:, 1].copy(), size)
    # Vertices of the TIN keep their numbers, also where two of them lie closer than that.
    number = np.concatenate((np.arange(len(local)), np.zeros(len(new), np.int64)))
    number[len(local) :] = first[group[len(local) :]]
    faces = np.concatenate((tin.triangles[whole].astype(np.int64), number[len(local) :].reshape(-1, 3)))
    flags = np.concatenate((_flags(tin)[whole], _edges_kept(tin, local, xy, source, size)))
    vertices = together.copy()
    # In world coordinates, as everything after sees them.
    vertices[: len(local)] = tin.vertices
    vertices[len(local) :, :2] += origin
    faces, flags = parted_faces(vertices, faces, flags, size)
    turn = _turns(vertices, faces)
    faces, flags = faces[turn > 0.0], flags[turn > 0.0]
    used, compacted = np.unique(faces, return_inverse=True)
    triangles = compacted.reshape(-1, 3).astype(np.int32)
    return dataclasses.replace(
        tin, vertices=vertices[used], triangles=triangles, neighbours=neighbours_of(triangles), constrained=flags
    )


def _flags(tin: Tin) -> Flags:
    assert tin.constrained is not None
    return tin.constrained


def _turns(vertices: Floats, faces: NDArray[np.int64]) -> Floats:
    a, b, c = (vertices[faces[:, k]] for k in range(3))
    return np.asarray((b[:, 0] - a[:, 0]) * (c[:, 1] - a[:, 1]) - (b[:, 1] - a[:, 1]) * (c[:, 0] - a[:, 0]))


def _on_planes(corner: Floats, xy: Floats) -> Floats:
    """Return the heights of places, (p, 3, 2), on the planes of triangles, (p, 3, 3); corners get their very height."""
    a = corner[:, None, 0]
    u, v = corner[:, None, 1] - a, corner[:, None, 2] - a
    w = xy - a[..., :2]
    double = u[..., 0] * v[..., 1] - u[..., 1] * v[..., 0]
    s = (w[..., 0] * v[..., 1] - w[..., 1] * v[..., 0]) / double
    t = (u[..., 0] * w[..., 1] - u[..., 1] * w[..., 0]) / double
    return np.asarray(a[..., 2] + s * u[..., 2] + t * v[..., 2])


def _edges_kept(tin: Tin, local: Floats, xy: Floats, source: NDArray[np.int64], size: float) -> Flags:
    """Return which edges of pieces lie on an edge of their triangle that is a breakline."""
    out = np.zeros((len(xy), 3), np.bool_)
    flags = _flags(tin)[source]
    corner = local[tin.triangles[source]][:, :, :2]
    for k in np.flatnonzero(flags.any(axis=0)).tolist():
        p, q = corner[:, k], corner[:, (k + 1) % 3]
        along = q - p
        length = np.hypot(along[:, 0], along[:, 1])
        away = xy - p[:, None]
        off = (
            np.abs(along[:, None, 0] * away[..., 1] - along[:, None, 1] * away[..., 0]) <= 10.0 * size * length[:, None]
        )
        out |= flags[:, k, None] & off & np.roll(off, -1, axis=1)
    return out


def parted_faces(
    vertices: Floats, faces: NDArray[np.int64], flags: Flags, size: float
) -> tuple[NDArray[np.int64], Flags]:
    """Return triangles parted on whose open edge a vertex of another lies, so that triangles meet edge to edge."""
    for _ in range(20):
        across = neighbours_of(faces.astype(np.int32))
        rim = np.flatnonzero(across.ravel() < 0)
        ends = np.column_stack((faces.ravel(), np.roll(faces, -1, axis=1).ravel()))[rim]
        at_rim = np.unique(ends)
        pairs, _ = on_segments(vertices[at_rim], vertices[ends[:, 0]], vertices[ends[:, 1]], 10.0 * size)
        if len(pairs) == 0:
            return faces, flags
        # One at a time for each triangle; what is left is found in the next round.
        triangle, kept = np.unique(rim[pairs[:, 1]] // 3, return_index=True)
        edge = rim[pairs[kept, 1]] % 3
        new = at_rim[pairs[kept, 0]]
        a, b, c = (faces[triangle, (edge + k) % 3] for k in range(3))
        marks = [flags[triangle, (edge + k) % 3] for k in range(3)]
        none = np.zeros(len(triangle), np.bool_)
        faces = faces.copy()
        flags = flags.copy()
        faces[triangle] = np.column_stack((a, new, c))
        flags[triangle] = np.column_stack((marks[0], none, marks[2]))
        faces = np.concatenate((faces, np.column_stack((new, b, c))))
        flags = np.concatenate((flags, np.column_stack((marks[0], marks[1], none))))
    return faces, flags
