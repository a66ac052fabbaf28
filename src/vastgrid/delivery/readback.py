"""Comparing what was read back from disk with what was sent: counts, extents, units and every coordinate."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from typing import Any

import numpy as np

from vastgrid.base.findings import count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import plain
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Extent, span
from vastgrid.data.kinds import narrowed, of_kind
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format
from vastgrid.delivery.pairing import Reading, between, without_records
from vastgrid.kernels.triangles.topology import free_edges, neighbours_of
from vastgrid.lineage.delivered import Compared


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
    back = [*without_records(back, drawn), *back] if drawn and len(sent) > len(drawn) else back
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
            _check_closed(each, found, checks, label)
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
    carries = target.carries_with(params)
    own, other = (getattr(each, "attributes", {}) for each in (sent, read))
    if not own or sent.kind != read.kind or sent.count() != read.count():
        return
    names = carries.attributes_held(own)
    called = target.renamed(names, params)
    held = {name: called[name] for name in names if called[name]}
    agree = 0
    for name, there in held.items():
        if there not in other:
            checks.append(Compared(f"{label}attribute {name}", "as sent", "not there", False))
        elif not _alike(own[name], other[there]):
            checks.append(Compared(f"{label}attribute {name}", "as sent", "others", False))
        else:
            agree += 1
    if held:
        checks.append(Compared(f"{label}attributes", str(len(held)), str(agree), agree == len(held)))


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
    text = plain(value)
    return " ".join(text.split())


def _pooled(sent: Sequence[Dataset], back: Sequence[Dataset]) -> list[Dataset]:
    """Return what was sent, several of a kind as one where the file holds them as one."""
    whole = [each for each in sent if each.kind == Areas.kind] if of_kind(back, Areas) else []
    points = of_kind(sent, PointSet)
    lines = [each for each in sent if each.as_lines() is not None and each not in whole]
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
    own = [each for each in back if each.kind == sent.kind]
    drawn = [each for each in back if each.kind == Linework.kind] if sent.as_lines() is not None else []
    able = own or drawn if sent.kind == Areas.kind else drawn or own
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
    names = {
        "triangles": "triangles",
        "points": "points",
        "lines": "lines",
        "rows": "rows",
        "columns": "columns",
        "areas": "areas",
        "rings": "rings",
    }
    good = True
    for name, value in sent.count().items():
        if name in names:
            other = read.count().get(name, 0)
            checks.append(Compared(f"{label}{name}", str(value), str(other), value == other))
            good &= value == other
    return good


def _gaps(
    sent: Dataset, read: Dataset, carries: Carries, checks: list[Compared], label: str, progress: Progress
) -> tuple[float, float] | None:
    """Return the largest difference in plan and in height, corner by corner; None where they cannot be paired."""
    reading = Reading(read, carries, checks, label, progress)
    if sent.kind == Survey.kind:
        return between(sent, reading)
    same = _check_counts(sent, read, checks, label)
    own, other = _ground_extent(sent), _ground_extent(read)
    lines = sent.as_lines()
    if lines is not None and not carries.open_heights and lines.without_heights().any():
        # Heights that nobody knows read as 0.
        own, other = (dataclasses.replace(each, elevation=None) for each in (own, other))
    _check_extent(own, other, carries.step, checks, label)
    return between(sent, reading) if same else None


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


def _check_closed(sent: Dataset, read: Dataset, checks: list[Compared], label: str) -> None:
    """Check that faces are as closed as those sent: that no more of their edges has a face on one side alone."""
    own, other = _free_edges(sent), _free_edges(read)
    if own is None or other is None:
        return
    degrees = sent.frame.horizontal is Unit.DEGREE
    words = [count(number, "free edge") + ("" if degrees else f", {length:.3f}") for number, length in (own, other)]
    checks.append(Compared(f"{label}faces", words[0], words[1], other[0] <= own[0]))


def _free_edges(dataset: Dataset) -> tuple[int, float] | None:
    """Return how many edges of faces have one on one side alone, and their length; None where there are no faces."""
    if isinstance(dataset, Tin):
        return free_edges(dataset.triangles, dataset.edges_across, dataset.vertices)
    if isinstance(dataset, Mesh):
        return free_edges(dataset.triangles, neighbours_of(dataset.triangles), dataset.vertices)
    return None


def _check_frame(sent: Dataset, read: Dataset, carries: Carries, checks: list[Compared]) -> None:
    for what, one, other, carried in (
        ("plan unit", sent.frame.horizontal, read.frame.horizontal, carries.units != "none"),
        (
            "height unit",
            sent.frame.vertical,
            read.frame.vertical,
            carries.units in ("one", "both") and sent.has_lengths and sent.extent().elevation is not None,
        ),
    ):
        if carried and one is not None:
            checks.append(Compared(what, one.title, other.title if other else "unknown", one is other))
