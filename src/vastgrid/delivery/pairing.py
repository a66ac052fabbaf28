"""How far what was read back lies from what was sent, kind by kind: triangles, cells, lines and records paired with their like."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries
from vastgrid.lineage.delivered import Compared
from vastgrid.measures.difference import difference

# Lines with other vertices than were sent, beyond which nobody can speak of pairs.
MOST_UNEVEN = 20_000


@dataclass(frozen=True, slots=True)
class Reading:
    """What was read back, and what is said of it."""

    read: Dataset
    carries: Carries
    checks: list[Compared]
    label: str
    progress: Progress


@singledispatch
def between(sent: Dataset, reading: Reading) -> tuple[float, float] | None:
    """Return the largest difference in plan and in height; None where places cannot be paired."""
    return None


@between.register
def _between_tins(sent: Tin, reading: Reading) -> tuple[float, float] | None:
    if reading.read.kind == Mesh.kind:
        return _corner_gaps(sent, narrowed(reading.read, Mesh))
    read = narrowed(reading.read, Tin)
    gap = _corner_gaps(sent, read)
    # The order of triangles may differ without the ground differing.
    return gap if gap[0] < 1.0 else (0.0, difference(sent, read, reading.progress).largest)


@between.register
def _between_meshes(sent: Mesh, reading: Reading) -> tuple[float, float] | None:
    read = reading.read
    return _corner_gaps(sent, narrowed(read, Tin) if read.kind == Tin.kind else narrowed(read, Mesh))


@between.register
def _between_grids(sent: Grid, reading: Reading) -> tuple[float, float] | None:
    read, label = narrowed(reading.read, Grid), reading.label
    if (np.isnan(sent.heights) != np.isnan(read.heights)).any():
        reading.checks.append(Compared(f"{label}cells without height", "as sent", "others", False))
        return None
    if reading.carries.quantity:
        same = sent.holds() == read.holds()
        reading.checks.append(Compared(f"{label}quantity", sent.holds(), read.holds(), same))
    place = max(abs(sent.west - read.west), abs(sent.north - read.north))
    return place, float(np.nanmax(np.abs(sent.heights - read.heights), initial=0.0))


@between.register
def _between_contours(sent: Contours, reading: Reading) -> tuple[float, float] | None:
    lines = sent.as_lines()
    return _line_gaps(lines, reading.read.as_lines(), lines.layer)


@between.register
def _between_lines(sent: Linework, reading: Reading) -> tuple[float, float] | None:
    return _line_gaps(sent, reading.read.as_lines(), sent.layer)


@between.register
def _between_areas(sent: Areas, reading: Reading) -> tuple[float, float] | None:
    """Compare ring by ring: their number, the parts, and every vertex."""
    if reading.read.kind != Areas.kind:
        lines = sent.as_lines()
        return _line_gaps(lines, reading.read.as_lines(), lines.layer)
    read = narrowed(reading.read, Areas)
    same = sent.pieces == read.pieces
    reading.checks.append(Compared(f"{reading.label}parts", str(sent.pieces), str(read.pieces), same))
    if not same:
        return None
    built = [np.array_equal(getattr(sent, name), getattr(read, name)) for name in ("offsets", "parts", "members")]
    if all(built):
        return _largest(sent.vertices, read.vertices)
    one, other = sent.as_lines(), read.as_lines()
    return _line_gaps(one, other, one.layer)


@between.register
def _between_points(sent: PointSet, reading: Reading) -> tuple[float, float] | None:
    return _largest(sent.xyz, narrowed(reading.read, PointSet).xyz)


@between.register
def _between_surveys(sent: Survey, reading: Reading) -> tuple[float, float] | None:
    if reading.read.kind != Survey.kind:
        return _along_lines(sent, reading)
    read = narrowed(reading.read, Survey)
    return _record_gaps(sent, read, reading.carries, reading.checks, reading.label)


def without_records(back: Sequence[Dataset], drawn: Sequence[Survey]) -> list[Dataset]:
    """Return the lines that were read without one for each record that is drawn as a line."""
    import shapely

    out: list[Dataset] = []
    for each in back:
        lines = each.as_lines()
        if lines is None:
            continue
        gone: set[int] = set()
        first, last = lines.vertices[lines.offsets[:-1], :2], lines.vertices[lines.offsets[1:] - 1, :2]
        for record in (record for survey in drawn for record in survey.records() if len(record.line) > 1):
            course = shapely.linestrings(record.line[:, :2])
            ends = np.abs(first - record.line[0, :2]).max(axis=1) + np.abs(last - record.line[-1, :2]).max(axis=1)
            for k in np.argsort(ends, kind="stable")[: len(gone) + 8].tolist():
                places = shapely.points(lines.line(k)[:, :2])
                if k not in gone and ends[k] < _CHORD and shapely.distance(places, course).max() < 3.0 * _CHORD:
                    gone.add(k)
                    break
        if len(gone) < len(lines):
            out.append(lines.chosen(np.setdiff1d(np.arange(len(lines)), sorted(gone))))
    return out


def _along_lines(sent: Survey, reading: Reading) -> tuple[float, float] | None:
    """Compare records with lines: how far any drawn place lies from the nearest line, beyond what chords cost."""
    import shapely

    lines = reading.read.as_lines()
    own = [record for record in sent.records() if record.role in reading.carries.roles and len(record.line) > 1]
    if lines is None or len(lines) < len(own):
        number = str(0 if lines is None else len(lines))
        reading.checks.append(Compared(f"{reading.label}records", str(len(own)), number, False))
        return None
    index = np.repeat(np.arange(len(lines)), np.diff(lines.offsets))
    every = shapely.union_all(shapely.linestrings(lines.vertices[:, :2], indices=index))
    far = [shapely.distance(shapely.points(record.line[:, :2]), every).max() for record in own]
    reading.checks.append(Compared(f"{reading.label}records", str(len(own)), str(len(own)), True))
    return max(0.0, float(max(far, default=0.0)) - 2.0 * _CHORD), 0.0


# Both sides draw an arc as chords that keep so close to it.
_CHORD = 0.01


def _record_gaps(
    sent: Survey, read: Survey, carries: Carries, checks: list[Compared], label: str
) -> tuple[float, float] | None:
    """Compare records by role and name: every number of their geometry and profiles."""
    there = {(record.role, record.name): record for record in read.records()}
    own = [record for record in sent.records() if record.role in carries.roles]
    found = [(record, there.get((record.role, record.name))) for record in own]
    good = sum(other is not None for _, other in found)
    checks.append(Compared(f"{label}records", str(len(own)), str(good), good == len(own)))
    largest = 0.0
    for record, other in found:
        if other is None:
            return None
        geometry = record.exact.get("geometry")
        parts = [(record.exact.get(key, []), other.exact.get(key, [])) for key in ("profile", "more_profiles")]
        parts.append(
            (geometry, other.exact.get("geometry")) if geometry else (record.line.tolist(), other.line.tolist())
        )
        for one, two in parts:
            first, second = _flattened(one), _flattened(two)
            if len(first) != len(second):
                checks.append(Compared(f"{label}{record.name}", count(len(first), "number"), str(len(second)), False))
                return None
            largest = max([largest, *(abs(a - b) for a, b in zip(first, second, strict=True) if a == a and b == b)])
    return largest, largest


def _flattened(value: Any) -> list[float]:
    """Return every number in plain values, in a fixed order."""
    if isinstance(value, dict):
        return [number for key in sorted(value) for number in _flattened(value[key])]
    if isinstance(value, list):
        return [number for part in value for number in _flattened(part)]
    return [float(value)] if isinstance(value, int | float) else []


def _corner_gaps(sent: Tin | Mesh, read: Tin | Mesh) -> tuple[float, float]:
    """Compare triangles in their order, each begun at whichever corner fits best; a mesh's may be turned over."""
    own, other = sent.corners(), read.corners()
    if len(own) == 0:
        return 0.0, 0.0
    # Nearly always the file keeps the order of corners; the others are tried where that does not fit.
    gap = np.abs(other - own)
    plan, height = gap[..., :2].max(axis=(1, 2)), gap[..., 2].max(axis=1)
    rows = np.flatnonzero(plan > _CHORD)
    if len(rows):
        first, second = own[rows], other[rows]
        ways = [second] if sent.kind == read.kind == Tin.kind else [second, second[:, ::-1]]
        turns = [np.abs(np.roll(way, -k, axis=1) - first) for way in ways for k in range(3)]
        plans = np.stack([turn[..., :2].max(axis=(1, 2)) for turn in turns])
        heights = np.stack([turn[..., 2].max(axis=1) for turn in turns])
        best, every = plans.argmin(axis=0), np.arange(len(rows))
        plan[rows], height[rows] = plans[best, every], heights[best, every]
    return float(plan.max()), float(height.max())


def _line_gaps(sent: Linework, read: Linework, layer: Any) -> tuple[float, float] | None:
    """Pair lines in their order, or grouped by layer as drawings are written; the pairing that fits best counts.

    Rounding can make the end of a closed line one place with its beginning, which a drawing then holds once. Such lines
    are compared by the nearest vertex of the other, both ways.
    """
    found = []
    # In their order, by layer, or by layer with those in space before those in plan.
    flat = sent.without_heights()
    likely = _by_place(sent, read)
    for order in (
        *([] if likely is None else [likely]),
        np.arange(len(sent)),
        np.argsort(layer, kind="stable"),
        np.lexsort((layer, flat)),
        np.lexsort((layer, ~flat)),
        np.lexsort((flat, layer)),
    ):
        moved = sent.chosen(order)
        if len(moved) != len(read):
            continue
        other = np.flatnonzero(np.diff(moved.offsets) != np.diff(read.offsets))
        if len(other) > MOST_UNEVEN:
            continue
        alike = np.delete(np.arange(len(read)), other)
        first, second = (moved.chosen(alike), read.chosen(alike)) if len(other) else (moved, read)
        gaps = [_largest(first.vertices, second.vertices)]
        gaps += [_nearest(moved.line(k), read.line(k)) for k in other.tolist()]
        found.append((max(plan for plan, _ in gaps), max(height for _, height in gaps)))
    return min(found, default=None, key=lambda gaps: [np.inf if gap != gap else gap for gap in gaps])


def _by_place(sent: Linework, read: Linework) -> NDArray[np.int64] | None:
    """Return the order in which lines that were sent were read, by how many places they have and where these lie.

    None where that leaves any without a partner.
    """
    from scipy.spatial import cKDTree

    if len(sent) != len(read) or len(sent) == 0:
        return None
    marks = []
    for work in (sent, read):
        sizes = np.diff(work.offsets)
        if not sizes.all():
            return None
        # A place without a height lies far from all that have one.
        middle = np.add.reduceat(np.nan_to_num(work.vertices, nan=-1e5), work.offsets[:-1], axis=0) / sizes[:, None]
        marks.append(np.column_stack((1e6 * sizes, middle)))
    near = cKDTree(marks[0]).query(marks[1], k=min(8, len(sent)))[1].reshape(len(sent), -1)
    order = near[:, 0].copy()
    if len(np.unique(order)) < len(order):
        # Lines that lie on each other: each takes the nearest that is still free.
        taken: set[int] = set()
        for k, choices in enumerate(near.tolist()):
            own = next((each for each in choices if each not in taken), -1)
            if own < 0:
                return None
            taken.add(own)
            order[k] = own
    return np.asarray(order, np.int64)


def _nearest(sent: Any, read: Any) -> tuple[float, float]:
    from scipy.spatial import cKDTree

    plan = height = 0.0
    for one, two in ((sent, read), (read, sent)):
        _, at = cKDTree(np.nan_to_num(two)).query(np.nan_to_num(one))
        own, other = _largest(one, two[at])
        plan, height = max(plan, own), max(height, other)
    return plan, height


def _largest(sent: Any, read: Any) -> tuple[float, float]:
    if len(sent) == 0:
        return 0.0, 0.0
    known = np.isfinite(sent[:, 2])
    heights = np.abs(sent[known, 2] - read[known, 2])
    return float(np.abs(sent[:, :2] - read[:, :2]).max()), float(heights.max(initial=0.0))
