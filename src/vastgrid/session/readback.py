"""Comparing what was read back from disk with what was sent: counts, extents, units and every coordinate."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import singledispatch
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Extent, span
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed, of_kind
from vastgrid.data.linework import Contours, Linework, from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format
from vastgrid.measures.difference import difference

# Lines with other vertices than were sent, beyond which nobody can speak of pairs.
MOST_UNEVEN = 20_000


@dataclass(frozen=True, slots=True)
class Compared:
    """One thing that was compared after reading back."""

    what: str
    sent: str
    read: str
    good: bool


def compare(
    sent: Sequence[Dataset], back: list[Dataset], target: Format, params: Any, progress: Progress
) -> tuple[list[Compared], float | None, float | None]:
    """Pair what was sent with what was read, and return the checks and the largest differences."""
    checks: list[Compared] = []
    vertical: list[float] = []
    plan: list[float] = []
    paired = True
    carries = target.carries_with(params)
    if not any("triangles" in each.count() for each in back):
        sent = [part for each in sent for part in _as_source(each)]
    sent = _pooled(sent, back)
    drawn = of_kind(sent, Survey) if not of_kind(back, Survey) else []
    back = [*_without_records(back, drawn), *back] if drawn and len(sent) > len(drawn) else back
    for each in sent:
        found = _counterpart(each, back)
        label = f"{each.name}: " if len(sent) > 1 else ""
        if found is None:
            checks.append(Compared(each.name, each.title, "nothing", False))
            paired = False
            continue
        gap = _gaps(each, found, carries, checks, label, progress)
        if gap is None:
            paired = False
        else:
            plan.append(gap[0])
            vertical.append(gap[1])
            _check_gaps(each, gap, carries, checks, label)
        _check_frame(each, found, carries, checks)
        _check_attributes(each, found, target, params, checks, label)
    return checks, max(vertical) if paired and vertical else None, max(plan) if paired and plan else None


def _as_source(dataset: Dataset) -> list[Dataset]:
    """Return a TIN as what it was built from, for a file that holds nothing else of it; others as they are."""
    if not isinstance(dataset, Tin):
        return [dataset]
    out: list[Dataset] = []
    if len(dataset.source_points):
        out.append(PointSet(name=dataset.name, frame=dataset.frame, xyz=dataset.source_points))
    cuts = dataset.break_offsets
    lines = [dataset.break_vertices[cuts[k] : cuts[k + 1]] for k in range(len(cuts) - 1)]
    lines += [ring for _, ring in dataset.limits()]
    if lines:
        out.append(from_lines(f"{dataset.name} lines", dataset.frame, lines, [dataset.name] * len(lines)))
    return out or [dataset]


def _check_attributes(
    sent: Dataset, read: Dataset, target: Format, params: Any, checks: list[Compared], label: str
) -> None:
    """Compare every attribute that the format claims to hold."""
    carried = target.carries_with(params).attributes
    own, other = (getattr(each, "attributes", {}) for each in (sent, read))
    if not carried or not own or sent.kind != read.kind or sent.count() != read.count():
        return
    kept = set(own) if isinstance(carried, bool) else set(carried)
    if carried == "numbers":
        kept = {name for name, values in own.items() if values.dtype.kind in "iufb"}
    names = [name for name in own if name in kept]
    called = target.renamed(names, params)
    for name in names:
        there = called[name]
        if not there:
            continue
        if there not in other:
            checks.append(Compared(f"{label}attribute {name}", "as sent", "not there", False))
        elif not _alike(own[name], other[there]):
            checks.append(Compared(f"{label}attribute {name}", "as sent", "others", False))
    if names:
        checks.append(Compared(f"{label}attributes", str(len(names)), str(len(names)), True))


def _alike(sent: Any, read: Any) -> bool:
    """Say whether values agree, as numbers to the precision of the less precise, or as words."""
    if sent.shape != read.shape:
        return False
    if sent.dtype.kind in "iufb" and read.dtype.kind in "iufb":
        if "f" in (sent.dtype.kind, read.dtype.kind):
            single = min(sent.dtype.itemsize, read.dtype.itemsize) < 8
            close = np.isclose(
                sent.astype(np.float64),
                read.astype(np.float64),
                rtol=1e-6 if single else 1e-12,
                atol=1e-9,
                equal_nan=True,
            )
            return bool(close.all())
        return bool((sent == read).all())
    return all(_as_word(one) == _as_word(other) for one, other in zip(sent.tolist(), read.tolist(), strict=True))


def _as_word(value: Any) -> str:
    text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
    return " ".join(text.split())


def _pooled(sent: Sequence[Dataset], back: Sequence[Dataset]) -> list[Dataset]:
    """Return what was sent, several of a kind as one where the file holds them as one."""
    points, lines = of_kind(sent, PointSet), [each for each in sent if each.as_lines() is not None]
    out = [each for each in sent if each not in points and each not in lines]
    if len(points) < 2 or len(of_kind(back, PointSet)) != 1:
        out += points
    else:
        xyz = np.concatenate([each.xyz for each in points])
        out.append(PointSet(name=points[0].name, frame=points[0].frame, xyz=xyz))
    if len(lines) < 2 or sum(each.as_lines() is not None for each in back) != 1:
        return out + lines
    works: list[Linework] = [each.as_lines() for each in lines]
    sizes = np.concatenate([np.diff(work.offsets) for work in works])
    first = np.cumsum([0, *(len(work.layers) for work in works)])
    pooled = Linework(
        name=works[0].name,
        frame=works[0].frame,
        vertices=np.concatenate([work.vertices for work in works]),
        offsets=np.concatenate(([0], np.cumsum(sizes))),
        layer=np.concatenate([work.layer + first[k] for k, work in enumerate(works)]),
        layers=tuple(name for work in works for name in work.layers),
    )
    return [*out, pooled]


def _counterpart(sent: Dataset, back: list[Dataset]) -> Dataset | None:
    """Return what was read that stands for what was sent; lines are pooled by files that know no contours."""
    kind = Linework.kind if sent.as_lines() is not None else sent.kind
    able = [each for each in back if each.kind == kind] or [each for each in back if each.kind == sent.kind]
    # Faces that are a height field come back as a surface, whatever they were before, and the other way round.
    if sent.kind == Survey.kind:
        # Several share a drawing's lines: the table with all of them.
        lines = [each for each in back if each.as_lines() is not None]
        able = able or [each for each in lines if len(each.as_lines()) == max(len(one.as_lines()) for one in lines)]
    able = able or [each for each in back if "triangles" in sent.count() and "triangles" in each.count()]
    if not able:
        return None
    same = [each for each in able if each.count() == sent.count()]
    named = [each for each in able if _plain(each.name).endswith(_plain(sent.name))]
    return ([each for each in named if each in same] or same or named or able)[0]


def _plain(name: str) -> str:
    """Return a name as the poorest layer has it: small letters and digits."""
    return re.sub(r"[\W_]", "", name, flags=re.ASCII).lower() or name


def _check_counts(sent: Dataset, read: Dataset, checks: list[Compared], label: str) -> bool:
    names = {"triangles": "triangles", "points": "points", "lines": "lines", "rows": "rows", "columns": "columns"}
    good = True
    for name, value in sent.count().items():
        if name in names:
            other = read.count().get(name, 0)
            checks.append(Compared(f"{label}{name}", str(value), str(other), value == other))
            good &= value == other
    return good


@dataclass(frozen=True, slots=True)
class _Reading:
    """What was read back, and what is said of it."""

    read: Dataset
    carries: Carries
    checks: list[Compared]
    label: str
    progress: Progress


def _gaps(
    sent: Dataset, read: Dataset, carries: Carries, checks: list[Compared], label: str, progress: Progress
) -> tuple[float, float] | None:
    """Return the largest difference in plan and in height, corner by corner; None where they cannot be paired."""
    reading = _Reading(read, carries, checks, label, progress)
    if sent.kind == Survey.kind:
        return _between(sent, reading)
    same = _check_counts(sent, read, checks, label)
    own, other = _ground_extent(sent), _ground_extent(read)
    lines = sent.as_lines()
    if lines is not None and not carries.open_heights and lines.without_heights().any():
        # Heights that nobody knows read as 0.
        own, other = (dataclasses.replace(each, elevation=None) for each in (own, other))
    _check_extent(own, other, carries.step, checks, label)
    return _between(sent, reading) if same else None


@singledispatch
def _between(sent: Dataset, reading: _Reading) -> tuple[float, float] | None:
    """Return the largest difference in plan and in height; None where places cannot be paired."""
    return None


@_between.register
def _between_tins(sent: Tin, reading: _Reading) -> tuple[float, float] | None:
    if reading.read.kind == Mesh.kind:
        return _corner_gaps(sent, narrowed(reading.read, Mesh))
    read = narrowed(reading.read, Tin)
    gap = _corner_gaps(sent, read)
    # The order of triangles may differ without the ground differing.
    return gap if gap[0] < 1.0 else (0.0, difference(sent, read, reading.progress).largest)


@_between.register
def _between_meshes(sent: Mesh, reading: _Reading) -> tuple[float, float] | None:
    read = reading.read
    return _corner_gaps(sent, narrowed(read, Tin) if read.kind == Tin.kind else narrowed(read, Mesh))


@_between.register
def _between_grids(sent: Grid, reading: _Reading) -> tuple[float, float] | None:
    read, label = narrowed(reading.read, Grid), reading.label
    if (np.isnan(sent.heights) != np.isnan(read.heights)).any():
        reading.checks.append(Compared(f"{label}cells without height", "as sent", "others", False))
        return None
    if reading.carries.quantity:
        same = sent.holds() == read.holds()
        reading.checks.append(Compared(f"{label}quantity", sent.holds(), read.holds(), same))
    place = max(abs(sent.west - read.west), abs(sent.north - read.north))
    return place, float(np.nanmax(np.abs(sent.heights - read.heights), initial=0.0))


@_between.register
def _between_contours(sent: Contours, reading: _Reading) -> tuple[float, float] | None:
    lines = sent.as_lines()
    return _line_gaps(lines, reading.read.as_lines(), lines.layer)


@_between.register
def _between_lines(sent: Linework, reading: _Reading) -> tuple[float, float] | None:
    return _line_gaps(sent, reading.read.as_lines(), sent.layer)


@_between.register
def _between_points(sent: PointSet, reading: _Reading) -> tuple[float, float] | None:
    return _largest(sent.xyz, narrowed(reading.read, PointSet).xyz)


@_between.register
def _between_surveys(sent: Survey, reading: _Reading) -> tuple[float, float] | None:
    if reading.read.kind != Survey.kind:
        return _along_lines(sent, reading)
    read = narrowed(reading.read, Survey)
    return _record_gaps(sent, read, reading.carries, reading.checks, reading.label)


def _without_records(back: Sequence[Dataset], drawn: Sequence[Survey]) -> list[Dataset]:
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


def _along_lines(sent: Survey, reading: _Reading) -> tuple[float, float] | None:
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


def _ground_extent(dataset: Dataset) -> Extent:
    """Return a dataset's extent; of a TIN that of its triangles, since points of invisible faces are no ground."""
    if dataset.kind != Tin.kind:
        return dataset.extent()
    tin = narrowed(dataset, Tin)
    used = np.zeros(len(tin.vertices), np.bool_)
    used[tin.triangles.ravel()] = True
    xyz = tin.vertices if used.all() else tin.vertices[used]
    return Extent(span(xyz[:, 0]), span(xyz[:, 1]), span(xyz[:, 2]))


def _check_extent(sent: Extent, read: Extent, step: float, checks: list[Compared], label: str) -> None:
    for name in ("east", "north", "elevation"):
        one, other = getattr(sent, name), getattr(read, name)
        if one is None:
            continue
        words = [f"{pair[0]:.3f} … {pair[1]:.3f}" if pair else "none" for pair in (one, other)]
        # Half of what coordinates are rounded to, and single precision of a raster's heights.
        slack = max(1e-3, 0.501 * step) + 1e-7 * max(abs(one[0]), abs(one[1]))
        good = other is not None and all(abs(a - b) <= slack for a, b in zip(one, other, strict=True))
        checks.append(Compared(f"{label}{name}", words[0], words[1], good))


def _check_gaps(sent: Dataset, gap: tuple[float, float], carries: Carries, checks: list[Compared], label: str) -> None:
    """Check that no coordinate differs by more than what it was rounded to, and by single precision where it is that."""
    extent = sent.extent()
    in_degrees = sent.frame.horizontal is Unit.DEGREE
    for what, far, pairs in (
        ("plan coordinates", gap[0], (extent.east, extent.north)),
        ("heights", gap[1], (extent.elevation,)),
    ):
        most = max((abs(value) for pair in pairs if pair for value in pair), default=0.0)
        # About a millimetre, in degrees too.
        least = 1e-8 if in_degrees and what != "heights" else 1e-3
        slack = max(least, 1.001 * carries.step) + (2e-7 if carries.single else 1e-15) * most
        checks.append(Compared(f"{label}{what}", "as sent", f"{far:.6f} off at most", far <= slack))


def _check_frame(sent: Dataset, read: Dataset, carries: Carries, checks: list[Compared]) -> None:
    for what, one, other, carried in (
        ("plan unit", sent.frame.horizontal, read.frame.horizontal, carries.units != "none"),
        (
            "height unit",
            sent.frame.vertical,
            read.frame.vertical,
            carries.units in ("one", "both") and sent.has_heights,
        ),
    ):
        if carried and one is not None:
            checks.append(Compared(what, one.title, other.title if other else "unknown", one is other))
