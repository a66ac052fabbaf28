"""How much earth lies between two surfaces: exact, by cells and by sections."""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import late_shapely as shapely
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats, Ints
from vastgrid.data.tin import Tin
from vastgrid.kernels.triangles.locate import buckets
from vastgrid.kernels.triangles.overlay import packed, pieces, prisms
from vastgrid.measures.heights import lattice
from vastgrid.measures.section import cut

# West, south, east and north of some ground.
Sides = tuple[float, float, float, float]

# Differences below this share of the range of heights are none: what cutting and adding make of one plane is far below it.
NONE = 1e-9
# Work is parted in so many, however many cores there are, so that sums do not depend on the machine.
PARTS = 48


@dataclass(frozen=True, slots=True)
class Earthwork:
    """What lies between a base and a surface above or below it.

    Attributes
    ----------
    cut, fill : float
        Volume where the surface lies below the base, and above it: plan unit² times the unit of heights.
    cut_area, fill_area, area : float
        Plan area of either, and of all the ground in common, with what does not change.
    """

    cut: float = 0.0
    fill: float = 0.0
    cut_area: float = 0.0
    fill_area: float = 0.0
    area: float = 0.0

    @property
    def net(self) -> float:
        """Fill minus cut."""
        return self.fill - self.cut

    def scaled(self, times: float) -> Earthwork:
        """Return areas and volumes times a number."""
        own = (self.cut, self.fill, self.cut_area, self.fill_area, self.area)
        return Earthwork(*(value * times for value in own))


@dataclass(frozen=True, slots=True)
class Part:
    """Some of the ground that two surfaces have in common: what all of it is parted by, and which of it is looked at."""

    common: Sides
    own: Sides


@dataclass(frozen=True, slots=True)
class Region:
    """Areas as triangles, each of a part.

    Attributes
    ----------
    places : (n, 2) float64
    triangles : (m, 3) int32
        Counter-clockwise.
    part : (m,) int64
    """

    places: Floats
    triangles: Ints
    part: NDArray[np.int64]


def region_of(areas: Sequence[Any]) -> Region:
    """Return polygons, holes and all, as triangles; the k-th is part k."""
    places: list[Floats] = []
    part: list[NDArray[np.int64]] = []
    for k, area in enumerate(areas):
        faces = shapely.get_parts(shapely.constrained_delaunay_triangles(area))
        corners = shapely.get_coordinates(faces).reshape(-1, 4, 2)[:, :3]
        u, v = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
        turn = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        corners[turn < 0.0] = corners[turn < 0.0][:, ::-1]
        places.append(corners[turn != 0.0].reshape(-1, 2))
        part.append(np.full(int((turn != 0.0).sum()), k, np.int64))
    every = np.concatenate(places) if places else np.zeros((0, 2))
    triangles = np.arange(len(every), dtype=np.int32).reshape(-1, 3)
    return Region(every, triangles, np.concatenate(part) if part else np.zeros(0, np.int64))


def _none_below(*surfaces: Tin) -> float:
    z = np.concatenate([each.vertices[:, 2] for each in surfaces])
    return NONE * float(np.ptp(z)) if len(z) else 0.0


def _local(first: Tin, second: Tin) -> tuple[Floats, Floats, Floats]:
    """Return both surfaces' vertices near the origin, so that places keep their digits, and what was taken off."""
    low = np.minimum(first.vertices[:, :2].min(axis=0), second.vertices[:, :2].min(axis=0))
    origin = np.append(np.floor(low), 0.0)
    return first.vertices - origin, second.vertices - origin, origin[:2]


def _in_parts(number: int, work: Callable[[int, int], Any], progress: Progress, what: str) -> list[Any]:
    """Run work on stretches of triangles beside each other; return what each gave, in order."""
    step = max(-(-number // PARTS), 2048)
    cuts = list(range(0, number, step))
    found = []
    with ThreadPoolExecutor(max(os.cpu_count() or 1, 1)) as pool:
        for k, own in enumerate(pool.map(lambda start: work(start, min(start + step, number)), cuts)):
            progress.report((k + 1) / len(cuts), what)
            found.append(own)
    return found


def between(
    base: Tin, top: Tin, region: Region | None, limits: Floats, progress: Progress
) -> tuple[list[Earthwork], Floats]:
    """Return what lies between two TINs, exactly: prism by prism over the pieces in which both are planes.

    Parameters
    ----------
    region : Region or None
        The areas that count; None for all the ground in common.
    limits : (k,) float64
        Ends of classes of depth, ascending, in the unit of heights.

    Returns
    -------
    list of Earthwork
        One for each part of the region, or one in all.
    classes : (parts, k + 1, 2) float64
        Plan area of each class, and the volume over it, negative for cut; no classes where there are no limits.
    """
    pa, pb, origin = _local(base, top)
    index = packed(buckets(pb, top.triangles))
    if region is None:
        places, triangles, part, parts = np.zeros((0, 2)), np.zeros((0, 3), np.int32), np.zeros(0, np.int64), 1
        own_index = index
    else:
        places, triangles, part = region.places - origin, region.triangles, region.part
        parts = int(part.max()) + 1 if len(part) else 0
        own_index = packed(buckets(np.column_stack((places, np.zeros(len(places)))), triangles)) if parts else index
    if parts == 0:
        return [], np.zeros((0, len(limits) + 1 if len(limits) else 0, 2))
    tolerance = _none_below(base, top)

    def work(start: int, stop: int) -> tuple[Floats, Floats]:
        made: tuple[Floats, Floats] = prisms(
            pa, base.triangles, pb, top.triangles, index, places, triangles, part, own_index, parts, limits, tolerance,
            start, stop,
        )  # fmt: skip
        return made

    found = _in_parts(len(base.triangles), work, progress, "adding up prisms")
    sums = sum((own[0] for own in found), np.zeros((parts, 5)))
    classes = sum((own[1] for own in found), np.zeros((parts, len(limits) + 1 if len(limits) else 0, 2)))
    made = [Earthwork(cut=row[3], fill=row[4], cut_area=row[1], fill_area=row[2], area=row[0]) for row in sums.tolist()]
    return made, classes


def common_pieces(
    base: Tin, top: Tin, use: Callable[[Floats, Floats], Any], progress: Progress
) -> tuple[list[Any], Floats]:
    """Lay two TINs over each other, and use the ground in common as triangles in which both are planes, part by part.

    Parameters
    ----------
    use : callable
        Gets corners in plan near the origin, (m, 3, 2), and the height of either at each corner in the plane of its own
        triangle there, (m, 3, 2): a wall has two heights at one place. Called from several threads.

    Returns
    -------
    list
        What `use` gave for each part.
    origin : (2,) float64
        What was taken off the corners.
    """
    pa, pb, origin = _local(base, top)
    index = packed(buckets(pb, top.triangles))

    def work(start: int, stop: int) -> Any:
        return use(*pieces(pa, base.triangles, pb, top.triangles, index, start, stop))

    return _in_parts(len(base.triangles), work, progress, "laying one surface over the other"), origin


def gaps(base: Tin, top: Tin, area: Any, number: int) -> Floats:
    """Return how far one TIN lies above another at about so many places, (n,)."""
    box = common_box(base, top, area)
    if box[2] <= box[0] or box[3] <= box[1]:
        return np.zeros(0)
    cell = float(np.sqrt((box[2] - box[0]) * (box[3] - box[1]) / number))
    return _cells(base, top, area, cell, box, box)[0]


def by_cells(base: Tin, top: Tin, area: Any, cell: float, progress: Progress, part: Part | None = None) -> Earthwork:
    """Return what lies between two TINs by heights at the centres of square cells.

    Parameters
    ----------
    area : GEOS polygon or None
        Cells count whose centre lies in it.
    part : Part or None
        Where only some of the ground is to be looked at.
    """
    box, inner = (part.common, part.own) if part else (common_box(base, top, area),) * 2
    values, size = _cells(base, top, area, cell, box, inner)
    progress.report(1.0, "cross-checking by cells")
    return _of_values(values, np.full(len(values), size), _none_below(base, top))


def _cells(base: Tin, top: Tin, area: Any, cell: float, box: Sides, inner: Sides) -> tuple[Floats, float]:
    """Return the differences at the centres of cells that count, (n,), and the size of each.

    Parameters
    ----------
    box, inner : (west, south, east, north)
        The ground that cells part evenly; that whose cells are wanted, its northern and eastern sides left out.
    """
    if box[2] <= box[0] or box[3] <= box[1]:
        return np.zeros(0), cell * cell
    # Cells end where the ground in common ends, so none reaches beyond it: each side is the size asked for, or a little less.
    rows, columns = max(int(np.ceil((box[3] - box[1]) / cell)), 1), max(int(np.ceil((box[2] - box[0]) / cell)), 1)
    dx, dy = (box[2] - box[0]) / columns, (box[3] - box[1]) / rows
    first, last = (min(max(math.ceil((box[3] - y) / dy - 0.5), 0), rows) for y in (inner[3], inner[1]))
    left, right = (min(max(math.ceil((x - box[0]) / dx - 0.5), 0), columns) for x in (inner[0], inner[2]))
    shape = last - first, right - left
    if shape[0] <= 0 or shape[1] <= 0:
        return np.zeros(0), dx * dy
    corner = (box[0] + left * dx, box[3] - first * dy)
    gap = lattice(top, corner, (dx, dy), shape) - lattice(base, corner, (dx, dy), shape)
    row, column = np.nonzero(np.isfinite(gap))
    if area is not None:
        within = shapely.contains_xy(area, corner[0] + (column + 0.5) * dx, corner[1] - (row + 0.5) * dy)
        row, column = row[within], column[within]
    return np.asarray(gap[row, column]), dx * dy


def _of_values(values: Floats, sizes: Floats, none: float) -> Earthwork:
    up, down = values > none, values < -none
    return Earthwork(
        cut=-float((values * sizes)[down].sum()),
        fill=float((values * sizes)[up].sum()),
        cut_area=float(sizes[down].sum()),
        fill_area=float(sizes[up].sum()),
        area=float(sizes.sum()),
    )


def common_box(base: Tin, top: Tin, area: Any) -> Sides:
    """Return west, south, east, north of the ground that two TINs, and an area where there is one, have in common.

    Where they have none, east is not east of west, or north not north of south.
    """
    low = np.maximum(base.vertices[:, :2].min(axis=0), top.vertices[:, :2].min(axis=0))
    high = np.minimum(base.vertices[:, :2].max(axis=0), top.vertices[:, :2].max(axis=0))
    if area is not None:
        west, south, east, north = area.bounds
        low, high = np.maximum(low, (west, south)), np.minimum(high, (east, north))
    return float(low[0]), float(low[1]), float(high[0]), float(high[1])


def by_sections(base: Tin, top: Tin, area: Any, number: int, progress: Progress) -> tuple[Earthwork, float]:
    """Return what lies between two TINs by parallel sections across the longer way, and how far apart they stand.

    The area of cut and of fill in each section is exact; between two sections the mean of both counts over their
    distance (the average end area method).
    """
    box = common_box(base, top, area)
    return between_sections(section_areas(base, top, area, number, Part(box, box), progress), box)


def section_areas(base: Tin, top: Tin, area: Any, number: int, part: Part, progress: Progress) -> Floats:
    """Return what each of some parallel sections has on a part of the ground, (number + 1, 5); all parts add up.

    Areas of cut and of fill, the length of either, and that over which both surfaces are.
    """
    west, south, east, north = part.common
    along_east = east - west >= north - south
    length = (east - west) if along_east else (north - south)
    stations = np.linspace(0.0, length, number + 1)
    # Not quite at the ends, where a section would run along the rim.
    stations[[0, -1]] += np.array((1.0, -1.0)) * 1e-6 * length
    none = _none_below(base, top)
    rows = np.zeros((number + 1, 5))
    low, high = (max(a, b) for a, b in zip(part.common[:2], part.own[:2], strict=True)), part.own[2:]
    own_west, own_south = low
    own_east, own_north = (min(a, b) for a, b in zip(part.common[2:], high, strict=True))
    for k, station in enumerate(stations.tolist()):
        at = (west if along_east else south) + station
        first, last = (part.own[0], part.own[2]) if along_east else (part.own[1], part.own[3])
        if first <= at < last and own_east > own_west and own_north > own_south:
            ends = ((at, own_south), (at, own_north)) if along_east else ((own_west, at), (own_east, at))
            rows[k] = _section(base, top, area, np.array(ends), none)
        progress.report((k + 1) / len(stations), "cross-checking by sections")
    return rows


def between_sections(rows: Floats, box: Sides) -> tuple[Earthwork, float]:
    """Return what lies between sections that part a ground evenly along its longer side, and how far apart they stand."""
    spacing = max(box[2] - box[0], box[3] - box[1]) / (len(rows) - 1)
    whole = ((rows[1:] + rows[:-1]) / 2.0 * spacing).sum(axis=0)
    return Earthwork(*whole.tolist()), spacing


def _section(base: Tin, top: Tin, area: Any, line: Floats, none: float) -> tuple[float, float, float, float, float]:
    """Return area of cut and fill below a line, the length of either, and the length over which both are."""
    found = {profile.source: profile for profile in cut([base, top], line, 0.0)}
    if len(found) < 2:
        return 0.0, 0.0, 0.0, 0.0, 0.0
    one, two = found[0], found[1]
    ends = [one.along, two.along]
    total = float(np.hypot(*(line[1] - line[0])))
    if area is not None:
        inner = shapely.intersection(shapely.LineString(line), area)
        cuts = shapely.get_coordinates(inner)
        ends.append(np.hypot(*(cuts - line[0]).T) if len(cuts) else np.zeros(0))
    along = np.unique(np.concatenate(ends))
    middle = (along[1:] + along[:-1]) / 2.0
    step = np.diff(along)
    keep = step > 1e-12 * total
    if area is not None:
        share = middle / total
        places = line[0] + share[:, None] * (line[1] - line[0])
        keep &= shapely.contains_xy(area, places[:, 0], places[:, 1])
    # Within a step both are straight, so a little inside each end they are what they are at it: gaps part runs there.
    inside = 1e-7
    low, high = along[:-1] + inside * step, along[1:] - inside * step
    before, after = (_gap(one, two, at) for at in (low, high))
    good = keep & np.isfinite(before) & np.isfinite(after)
    a, b, width = before[good], after[good], step[good]
    a, b = np.where(np.abs(a) <= none, 0.0, a), np.where(np.abs(b) <= none, 0.0, b)
    mixed = (a < 0.0) & (b > 0.0) | (a > 0.0) & (b < 0.0)
    share = np.where(mixed, a / np.where(mixed, a - b, 1.0), 1.0)
    first = a * share * width / 2.0 + np.where(mixed, 0.0, b * width / 2.0)
    second = np.where(mixed, b * (1.0 - share) * width / 2.0, 0.0)
    both = np.concatenate((first, second))
    wide = np.concatenate((share * width, (1.0 - share) * width * mixed))
    return (
        -float(both[both < 0.0].sum()),
        float(both[both > 0.0].sum()),
        float(wide[both < 0.0].sum()),
        float(wide[both > 0.0].sum()),
        float(width.sum()),
    )


def _gap(one: Any, two: Any, at: Floats) -> Floats:
    heights = [np.interp(at, own.along, own.z, left=np.nan, right=np.nan) for own in (one, two)]
    return np.asarray(heights[1] - heights[0])


def below_levels(surface: Tin, region: Region, levels: Floats, progress: Progress) -> Floats:
    """Return what level surfaces would hold above the ground and inside an area: plan area and volume, (k, 2)."""
    out = np.zeros((len(levels), 2))
    if len(levels) == 0:
        return out
    places = np.asarray(region.places)
    flat = Tin(
        name="level",
        frame=surface.frame,
        vertices=np.column_stack((places, np.full(len(places), levels[0]))),
        triangles=region.triangles,
    )
    # Heights above the lowest in classes: what lies below each level adds up from the lowest.
    _, classes = between(flat, surface, None, np.asarray(levels - levels[0], np.float64), progress)
    out[:, 0] = np.cumsum(classes[0, :, 0])[:-1]
    out[:, 1] = (levels - levels[0]) * out[:, 0] - np.cumsum(classes[0, :, 1])[:-1]
    return out
