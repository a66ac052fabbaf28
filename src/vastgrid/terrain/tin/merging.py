"""One surface laid over another: the old one is cut away beneath it, and what lies between them becomes triangles."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress, Silent
from vastgrid.data.dataset import Floats
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.locate import cuts_along
from vastgrid.kernels.triangles.overlay import level_with
from vastgrid.kernels.triangles.topology import group_places, neighbours_of, plan_areas
from vastgrid.kernels.triangles.triangulate import once, parted_at_places, triangulate
from vastgrid.measures.heights import bucket_index, heights
from vastgrid.terrain.tin.limits import WELD, cut_to, parted_faces, polygons_of
from vastgrid.terrain.tin.precision import without_slivers

# Steps below this are none, in the unit of heights: what reading and cutting make of one height is far below it.
NONE = 1e-6
# Places so many roundings apart are one: the crossing line of two surfaces is found on a lattice as fine as that.
NEARLY = 100.0
# So many roundings thin is a sliver between two lines that are one: twice what the crossing line is widened by.
SLIVER = 2e3


@dataclass(frozen=True, slots=True)
class Merged:
    """What laying one surface over another gave.

    Attributes
    ----------
    tin : Tin
        The surface.
    area : float
        How much ground is new.
    steps : int
        How many edges of the new one's rim stand off from the old.
    largest, at : float, (float, float)
        The largest step between them at the rim, and where.
    seam : int
        Triangles between the two.
    common : float
        How much of the new one lies over the old.
    meets : bool
        Whether the new one's rim lies on the old anywhere.
    closed, open : float
        Area between the two that belongs to neither, and is covered now, or not.
    apart : float
        How far the two lie apart; 0 where they touch.
    """

    tin: Tin
    area: float
    steps: int
    largest: float
    at: tuple[float, float]
    seam: int
    common: float = 0.0
    meets: bool = True
    closed: float = 0.0
    open: float = 0.0
    apart: float = 0.0


def outline(tin: Tin) -> Any:
    """Return what a TIN covers in plan, voids left out."""
    across = tin.edges_across < 0
    following = np.roll(tin.triangles, -1, axis=1)
    pairs = np.column_stack((tin.triangles[across], following[across]))
    lines = shapely.linestrings(tin.vertices[pairs][:, :, :2])
    faces = [face for face in polygons_of(shapely.polygonize(lines)) if face.area > 0.0]
    if not faces:
        raise DataError(f"the rim of {tin.name} encloses nothing")
    inner = shapely.get_coordinates(shapely.point_on_surface(np.array(faces)))
    ground = np.isfinite(heights(tin, inner))
    return shapely.union_all([face for face, own in zip(faces, ground, strict=True) if own])


def winning(ground: Tin, over: Tin, lowest: bool) -> Any:
    """Return where the second of two surfaces is the lower (or the higher), of what both cover and where only it lies."""
    common = shapely.intersection(outline(ground), outline(over))
    alone = shapely.difference(outline(over), outline(ground))
    if common.is_empty or not common.area:
        return alone
    west, south, east, north = common.bounds
    low, high = np.array([west, south]), np.array([east, north])
    lines = level_with(ground.vertices, ground.triangles, over.vertices, over.triangles, bucket_index(over), low, high)
    # Neighbouring pieces end at one place but for rounding; on a fine lattice they end at the same.
    fine = max(east - west, north - south) * 1e-9
    edges = [shapely.boundary(common), *shapely.linestrings(lines)]
    joined = shapely.union_all(np.array(edges), grid_size=fine)
    cells = shapely.polygonize(shapely.get_parts(joined))
    faces = np.array([face for face in polygons_of(cells) if face.area > 0.0])
    if len(faces) == 0:
        return alone
    inner = shapely.get_coordinates(shapely.point_on_surface(faces))
    gap = heights(over, inner) - heights(ground, inner)
    # Where they are one, the ground stays as it is.
    better = gap < -NONE if lowest else gap > NONE
    place = shapely.union_all(np.array([*faces[better], *polygons_of(alone)]), grid_size=fine)
    # A hair wider, so that no hair is cut off triangles at the rim, which the lattice has moved.
    return shapely.buffer(place, 10.0 * fine, join_style="mitre")


def laid_over(ground: Tin, over: Tin, width: float, tin_name: str, progress: Progress, gap: float = 0.0) -> Merged:
    """Lay one surface over another.

    Where both are equally high at the rim they share vertices; elsewhere the ground ends `width` beside it, and triangles
    lead from one to the other.

    Parameters
    ----------
    width : float
        Width of the seam: small for a wall, larger to blend.
    gap : float
        The ground is joined to what is laid beside it if it lies no farther away than this.
    """
    place = outline(over)
    own = outline(ground)
    rim, step, meets = _steps(over, ground)
    common = float(shapely.intersection(place, own).area)
    common = common if common > 1e-9 * min(place.area, own.area) else 0.0
    far = step > NONE
    worst = int(step.argmax()) if len(step) else 0
    lines = shapely.linestrings(rim[far][:, :, :2]) if far.any() else np.zeros(0, object)
    band = (
        shapely.buffer(shapely.line_merge(shapely.union_all(lines)), width, cap_style="flat", join_style="mitre")
        if far.any()
        else shapely.Polygon()
    )
    hole = shapely.union_all([place, band])
    progress.report(0.3, "cutting away what lies beneath")
    frame = _around(own, hole)
    rest = frame.difference(hole)
    left = own.difference(hole)
    low_area = 1e-12 * own.area
    if left.is_empty or left.area <= low_area:
        return Merged(
            over.renamed(tin_name),
            place.area,
            int(far.sum()),
            float(step.max(initial=0.0)),
            _at(rim, worst),
            0,
            common,
            meets,
        )
    kept = cut_to(ground, rest)
    between = shapely.intersection(hole.difference(place), own)
    if gap > 0.0:
        closed = shapely.buffer(shapely.union_all([place, left]), gap / 2, join_style="mitre")
        closed = shapely.buffer(closed, -gap / 2, join_style="mitre")
        between = shapely.union_all([between, closed.difference(place).difference(left)])
    progress.report(0.6, "joining them")
    tin, seam = _joined(over, kept, between, ground, tin_name)
    at = _at(rim, worst)
    whole = outline(tin)
    # What lies between the two and is ground of neither: closed now, or open still.
    closed = max(float(whole.area) - float(shapely.union_all([place, own]).area), 0.0)
    largest = float(step.max(initial=0.0))
    return Merged(
        tin,
        place.area,
        int(far.sum()),
        largest,
        at,
        seam,
        common,
        meets,
        closed,
        _gap_left(whole, place, own),
        apart(place, own),
    )


def apart(place: Any, own: Any) -> float:
    """Return how far two areas lie apart; 0 where they touch but for rounding."""
    far = float(shapely.distance(place, own))
    return far if far > WELD * max(np.ptp(shapely.bounds(own)[[0, 2]]), np.ptp(shapely.bounds(place)[[0, 2]])) else 0.0


def _gap_left(whole: Any, place: Any, own: Any) -> float:
    """Return the area of the gaps that lie between two areas that touch: holes of the whole that reach both."""
    rings = [ring for piece in polygons_of(whole) for ring in piece.interiors]
    near = WELD * max(float(np.ptp(shapely.bounds(whole)[[0, 2]])), 1e-9)
    holes = [shapely.Polygon(ring) for ring in rings]
    between = [hole for hole in holes if hole.distance(place) <= near and hole.distance(own) <= near]
    # A hole that one of them has by itself is none of their gaps.
    return float(sum(hole.area for hole in between if not any(_same(hole, area, near) for area in (place, own))))


def _same(hole: Any, area: Any, near: float) -> bool:
    rings = [ring for piece in polygons_of(area) for ring in piece.interiors]
    return any(abs(shapely.Polygon(ring).area - hole.area) <= near * hole.length for ring in rings)


def _at(rim: Floats, worst: int) -> tuple[float, float]:
    if len(rim) == 0:
        return (np.nan, np.nan)
    middle = rim[worst].mean(axis=0)
    return float(middle[0]), float(middle[1])


def _around(*areas: Any) -> Any:
    bounds = shapely.total_bounds(np.array(areas))
    room = 1.0 + float((bounds[2:] - bounds[:2]).max())
    return shapely.box(*(bounds[:2] - room), *(bounds[2:] + room))


def _steps(over: Tin, ground: Tin) -> tuple[Floats, Floats, bool]:
    """Return the rim's edges, (r, 2, 3), how far the ground lies from each at most, 0 where there is none, and whether there is some."""
    across = over.edges_across < 0
    following = np.roll(over.triangles, -1, axis=1)
    rim = np.stack((over.vertices[over.triangles[across]], over.vertices[following[across]]), axis=1)
    step = np.zeros(len(rim))
    meets = False
    for end in (0, 1):
        gap = np.abs(heights(ground, rim[:, end, :2]) - rim[:, end, 2])
        meets |= bool(np.isfinite(gap).any())
        step = np.fmax(step, gap)
    line = np.ascontiguousarray(rim.reshape(-1, 3))
    cuts = cuts_along(line, ground.vertices, ground.triangles, bucket_index(ground))
    leg = cuts[:, 0].astype(np.int64)
    # Every other leg leads from one edge of the rim to the next.
    real = leg % 2 == 0
    edge, share = leg[real] // 2, cuts[real, 1]
    z = rim[edge, 0, 2] + share * (rim[edge, 1, 2] - rim[edge, 0, 2])
    np.maximum.at(step, edge, np.abs(cuts[real, 4] - z))
    return rim, step, meets or bool(real.any())


def _joined(over: Tin, kept: Tin, between: Any, ground: Tin, name: str) -> tuple[Tin, int]:
    """Return two surfaces and the triangles between their rims as one."""
    vertices = np.concatenate((over.vertices, kept.vertices))
    origin = np.floor(vertices[:, :2].min(axis=0))
    size = max(float(np.ptp(vertices[:, :2], axis=0).max()) * WELD, 1e-12)
    faces = np.concatenate((over.triangles, kept.triangles + len(over.vertices))).astype(np.int64)
    assert over.constrained is not None and kept.constrained is not None  # noqa: PT018
    flags = np.concatenate((over.constrained, kept.constrained))
    # Only rims can meet: all other vertices keep their own.
    rims = np.unique(np.concatenate((_rim_pairs(over), _rim_pairs(kept) + len(over.vertices))))
    local = vertices[rims, :2] - origin
    group, first = group_places(local[:, 0].copy(), local[:, 1].copy(), NEARLY * size)
    number = np.arange(len(vertices))
    number[rims] = rims[first[group]]
    faces = number[faces]
    seam = 0
    # What is as thin as rounding is no seam: there both rims are one.
    wide = [each for each in polygons_of(between) if each.area > 10.0 * NEARLY * size * each.length]
    between = shapely.MultiPolygon(wide)
    if wide:
        pairs = number[np.concatenate((_rim_pairs(over), _rim_pairs(kept) + len(over.vertices)))]
        fill, new = _filled(vertices, pairs, between, ground, NEARLY * size)
        vertices = np.concatenate((vertices, new))
        seam = len(fill)
        faces = np.concatenate((faces, fill))
        flags = np.concatenate((flags, np.zeros((len(fill), 3), np.bool_)))
    faces, flags = parted_faces(vertices, faces, flags, 10.0 * size)
    used, compacted = np.unique(faces, return_inverse=True)
    triangles = compacted.reshape(-1, 3).astype(np.int32)
    made = Tin(
        name=name,
        frame=kept.frame,
        vertices=vertices[used],
        triangles=triangles,
        neighbours=neighbours_of(triangles),
        constrained=flags,
    )
    return without_slivers(made, SLIVER * size), seam


def _rim_pairs(tin: Tin) -> NDArray[np.int64]:
    across = tin.edges_across < 0
    following = np.roll(tin.triangles, -1, axis=1)
    return np.column_stack((tin.triangles[across], following[across])).astype(np.int64)


def _filled(
    vertices: Floats, pairs: NDArray[np.int64], between: Any, ground: Tin, near: float
) -> tuple[NDArray[np.int64], Floats]:
    """Return the triangles between two rims, as numbers of vertices, and vertices that only they have.

    Where the ground ends within the seam, its own rim is the seam's.

    Parameters
    ----------
    pairs : (r, 2) int64
        Edges of both rims.
    """
    band = shapely.buffer(between, 1e3 * near)
    shapely.prepare(band)
    pairs = pairs[shapely.intersects(band, shapely.linestrings(vertices[pairs][:, :, :2]))]
    used = np.unique(pairs)
    # The seam's own outline, with corners that neither rim has.
    rings = [
        np.asarray(shapely.get_coordinates(ring))
        for each in polygons_of(between)
        for ring in (each.exterior, *each.interiors)
    ]
    course = np.concatenate(rings)
    places = np.concatenate((vertices[used, :2], course))
    local = places - np.floor(places.min(axis=0))
    group, first = group_places(local[:, 0].copy(), local[:, 1].copy(), near)
    only = first[first >= len(used)]
    z = heights(ground, places[only])
    # Beyond the ground by a rounding: as high as what lies nearest.
    for k in np.flatnonzero(np.isnan(z)).tolist():
        away = ((vertices[used, :2] - places[only[k]]) ** 2).sum(axis=1)
        z[k] = vertices[used[int(away.argmin())], 2]
    new = np.column_stack((places[only], z))
    number = np.zeros(len(first), np.int64)
    number[first < len(used)] = used[first[first < len(used)]]
    number[first >= len(used)] = len(vertices) + np.arange(len(only))
    at_rim = np.zeros(len(vertices), np.int64)
    at_rim[used] = group[: len(used)]
    legs, start = [at_rim[pairs]], len(used)
    for ring in rings:
        own = group[start : start + len(ring)].astype(np.int64)
        legs.append(np.column_stack((own[:-1], own[1:])))
        start += len(ring)
    here = np.ascontiguousarray(places[first])
    edges = parted_at_places(here, once(np.concatenate(legs).astype(np.int64)), near)
    made = triangulate(here, edges, Silent())
    if len(made.xy) > len(here):
        raise DataError("the rims of the two surfaces cross beside each other, so no clean seam can be made")
    middle = made.xy[made.triangles].mean(axis=1)
    inside = shapely.contains_xy(between, middle[:, 0], middle[:, 1])
    # Between three places on one straight rim there is nothing but rounding.
    corner = made.xy[made.triangles]
    longest = np.hypot(*np.moveaxis(np.roll(corner, -1, axis=1) - corner, 2, 0)).max(axis=1)
    inside &= 2.0 * plan_areas(made.xy, made.triangles) > near * longest
    return np.asarray(number[made.triangles[inside]], np.int64), new
