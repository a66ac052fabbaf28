"""Points, breaklines and an outer boundary to a TIN."""

from __future__ import annotations

import dataclasses
import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, Severity, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.base.words import spaced
from vastgrid.kernels import topology
from vastgrid.kernels.locate import cuts_along
from vastgrid.kernels.triangulate import Triangulation, triangulate
from vastgrid.params.declare import Param
from vastgrid.terrain.compare import Loss, bucket_index, heights
from vastgrid.terrain.conversion import Conversion, Result
from vastgrid.terrain.dataset import Dataset, Flags, Floats
from vastgrid.terrain.frame import Frame, is_geographic
from vastgrid.terrain.linework import Contours, Linework
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.tin import Tin, areas


class Meeting(Enum):
    """Which height counts where several meet at one place."""

    MEAN = "mean"
    FIRST = "first"
    LAST = "last"
    HIGHEST = "highest"
    LOWEST = "lowest"


_RULE = {
    Meeting.MEAN: topology.MEAN,
    Meeting.FIRST: topology.FIRST,
    Meeting.LAST: topology.LAST,
    Meeting.HIGHEST: topology.HIGHEST,
    Meeting.LOWEST: topology.LOWEST,
}


@dataclass(frozen=True)
class TinParams:
    """How a TIN is built."""

    max_edge: Annotated[
        Length | None,
        Param(
            "Longest edge",
            "Triangles with a longer edge in plan are left out; edges on breaklines do not count.",
            Quantity.XY_LENGTH,
            above=0,
            absent="any length",
        ),
    ] = None
    boundary: Annotated[
        str,
        Param("Outer boundary", "Layer whose closed line limits the TIN; its heights are not used.", absent="the hull"),
    ] = ""
    breaklines: Annotated[
        str,
        Param(
            "Breaklines",
            "Layers whose lines become edges of the TIN: names or patterns (EDGE*), parted by commas; or none.",
            absent="no layer",
            said=(("*", "all layers"), ("none", "no layer")),
        ),
    ] = "*"
    heights: Annotated[
        Meeting,
        Param("Where heights meet", "Which height counts where points or crossing breaklines meet at one place."),
    ] = Meeting.MEAN
    same_place: Annotated[
        Length | None,
        Param(
            "One place",
            "Points whose coordinates agree when rounded to this are at one place.",
            Quantity.XY_LENGTH,
            least=0,
            absent="a thousandth of the unit",
        ),
    ] = None


def settle(inputs: Sequence[Dataset], params: TinParams) -> TinParams:
    """Say which points count as one place: a thousandth of the unit of plan, and in degrees what is a millimetre."""
    return dataclasses.replace(params, same_place=params.same_place or _usual_place(inputs[0].frame))


def _usual_place(frame: Frame) -> Length:
    return Length(1e-8) if is_geographic(frame) else Length(0.001, frame.horizontal)


def run(inputs: Sequence[Dataset], params: TinParams, progress: Progress) -> Result:
    """Build the TIN; see `CONVERSION`.

    Raises
    ------
    DataError
        If no triangle can be made.
    CallError
        If the boundary layer is not there or not one closed line.
    """
    frame = inputs[0].frame
    findings: list[Finding] = []
    points = _points(inputs, findings)
    ring, lines = _sorted_lines(inputs, params, points, findings)
    xyz = np.concatenate([points, *(line.vertices for line in lines)])
    if len(xyz) == 0:
        raise DataError("there is nothing to build a TIN from: no points and no lines with heights")
    progress.report(0.05, "finding places")
    tolerance = (params.same_place or _usual_place(frame)).in_unit(frame.horizontal, "same_place")
    places, group = _places(xyz, tolerance, params.heights, findings)
    edges = _edges(group[len(points) :], lines)
    progress.report(0.15, "triangulating")
    made = triangulate(places[:, :2], edges, progress.part(0.15, 0.7))
    tin = _tin(places, edges, made, params.heights, findings)
    if ring is not None:
        tin = _inside(tin, ring, places, edges, tolerance, progress.part(0.7, 0.95))
    if params.max_edge is not None:
        tin = _without_long_edges(tin, params.max_edge.in_unit(frame.horizontal, "max_edge"), findings)
    lost = len(places) - len(tin.vertices)
    if lost > 0 and ring is not None:
        findings.append(
            note("outside-limits", f"{count(lost, 'place')} of {spaced(len(places))} lie outside the limits.")
        )
    breaks = np.concatenate([np.zeros((0, 3)), *(line.vertices for line in lines)])
    counts = np.concatenate([np.zeros(0, np.int64), *(np.diff(line.offsets) for line in lines)])
    progress.report(1.0)
    loss = _loss(xyz[: len(points)], places[group[: len(points)], 2], tin, frame)
    return Result(
        Tin(
            name="TIN",
            frame=frame,
            vertices=tin.vertices,
            triangles=tin.triangles,
            neighbours=tin.neighbours,
            constrained=tin.constrained,
            source_points=points,
            break_vertices=breaks,
            break_offsets=np.concatenate(([0], np.cumsum(counts))),
            limit=np.zeros((0, 3)) if ring is None else ring,
        ),
        tuple(findings),
        loss,
    )


def _loss(points: Floats, height: Floats, tin: Tin, frame: Frame) -> Loss | None:
    """Return how far the ground lies from the points it was built from: nothing, but where heights met."""
    if len(points) == 0:
        return None
    gap = height - points[:, 2]
    worst = int(np.abs(gap).argmax())
    return Loss(
        largest=float(abs(gap[worst])),
        rmse=float(np.sqrt(np.mean(gap**2))),
        mean=float(gap.mean()),
        p95=float(np.quantile(np.abs(gap), 0.95)),
        at=(float(points[worst, 0]), float(points[worst, 1])),
        area=float(areas(tin).sum()),
        share=1.0,
        unit=frame.vertical,
        plan_unit=frame.horizontal,
    )


def _points(inputs: Sequence[Dataset], findings: list[Finding]) -> Floats:
    found = [each.xyz for each in inputs if isinstance(each, PointSet)]
    points = np.concatenate([np.zeros((0, 3)), *found])
    good = np.isfinite(points).all(axis=1)
    if not good.all():
        findings.append(
            Finding("no-height", f"{count(int((~good).sum()), 'point')} without a finite height were left out.")
        )
        points = points[good]
    return points


def _matches(name: str, patterns: str) -> bool:
    words = [word.strip().lower() for word in patterns.split(",")]
    return any(fnmatch.fnmatchcase(name.lower(), word) for word in words if word not in ("", "none"))


def _sorted_lines(
    inputs: Sequence[Dataset], params: TinParams, points: Floats, findings: list[Finding]
) -> tuple[Floats | None, list[Linework]]:
    rings: list[Floats] = []
    lines: list[Linework] = []
    layers: list[str] = []
    for each in inputs:
        work = each.as_lines() if isinstance(each, Contours) else each
        if not isinstance(work, Linework):
            continue
        layers += work.layers
        limit = np.array([bool(params.boundary) and _matches(name, params.boundary) for name in work.layers])
        chosen = np.array([_matches(name, params.breaklines) for name in work.layers])
        on_limit = work.on_layers(limit)
        rings += [on_limit.line(k) for k in np.flatnonzero(on_limit.closed())]
        kept = _with_heights(work.on_layers(chosen & ~limit), points, findings)
        if len(kept):
            lines.append(kept)
    if not params.boundary:
        return None, lines
    if not rings:
        known = ", ".join(dict.fromkeys(layers)) or "none"
        raise CallError(f"boundary: there is no closed line on a layer “{params.boundary}” (layers: {known})")
    if len(rings) > 1:
        findings.append(
            Finding("several-boundaries", f"{len(rings)} closed lines are on “{params.boundary}”; the longest is used.")
        )
        rings.sort(key=lambda ring: -float(np.hypot(*np.diff(ring[:, :2], axis=0).T).sum()))
    return rings[0], lines


def _with_heights(lines: Linework, points: Floats, findings: list[Finding]) -> Linework:
    """Drop lines that have no heights: unknown, or exactly zero throughout while the ground is far from zero."""
    if len(lines) == 0:
        return lines
    missing = np.logical_or.reduceat(~np.isfinite(lines.vertices).all(axis=1), lines.offsets[:-1])
    if len(points) and (points[:, 2].min() > 1.0 or points[:, 2].max() < -1.0):
        missing |= ~np.logical_or.reduceat(lines.vertices[:, 2] != 0.0, lines.offsets[:-1])
    if missing.any():
        where = lines.line(int(np.flatnonzero(missing)[0]))[0]
        text = (
            f"{count(int(missing.sum()), 'line')} of {lines.name} have no heights (none, or 0 throughout while the "
            "ground is far from 0) and were not used as breaklines."
        )
        findings.append(Finding("lines-without-height", text, at=(float(where[0]), float(where[1]))))
        lines = lines.chosen(np.flatnonzero(~missing))
    return lines


def _places(xyz: Floats, tolerance: float, rule: Meeting, findings: list[Finding]) -> tuple[Floats, NDArray[np.int32]]:
    origin = np.floor(topology.corners(xyz[:, :2])[0])
    group, first = topology.group_places(xyz[:, 0] - origin[0], xyz[:, 1] - origin[1], tolerance)
    height, spread = topology.heights_of_places(group, np.ascontiguousarray(xyz[:, 2]), len(first), _RULE[rule])
    if len(first) < len(xyz):
        findings.append(
            note(
                "same-place",
                f"{count(len(xyz) - len(first), 'point')} of {spaced(len(xyz))} share a place with another.",
            )
        )
    # Heights a float's rounding apart are one height.
    differ = spread > 1e-9
    if differ.any():
        worst = int(spread.argmax())
        east, north = (float(value) for value in xyz[first[worst], :2])
        text = (
            f"Heights differ at {count(int(differ.sum()), 'place')}, at most by {spread[worst]:.3f} "
            f"(E {east:.3f}, N {north:.3f}); the {rule.value} counts."
        )
        findings.append(Finding("two-heights", text, at=(east, north)))
    places = np.column_stack((xyz[first, :2], height))
    order = topology.spatial_order(places[:, :2])
    number = np.zeros(len(order), np.int32)
    number[order] = np.arange(len(order), dtype=np.int32)
    return np.ascontiguousarray(places[order]), number[group]


def _edges(numbers: NDArray[np.int32], lines: list[Linework]) -> NDArray[np.int64]:
    pairs = []
    start = 0
    for work in lines:
        own = numbers[start : start + len(work.vertices)].astype(np.int64)
        follows = np.ones(len(own), np.bool_)
        follows[work.offsets[1:] - 1] = False
        at = np.flatnonzero(follows)
        pairs.append(np.column_stack((own[at], own[at + 1])))
        start += len(work.vertices)
    edges = np.concatenate([np.zeros((0, 2), np.int64), *pairs])
    edges = np.sort(edges[edges[:, 0] != edges[:, 1]], axis=1)
    return np.unique(edges, axis=0) if len(edges) else edges


def _tin(places: Floats, edges: NDArray[np.int64], made: Triangulation, rule: Meeting, findings: list[Finding]) -> Tin:
    z = np.concatenate((places[:, 2], np.zeros(len(made.xy) - len(places))))
    worst, worst_at, differ = 0.0, None, 0
    for vertex, group in made.crossings:
        each = [_height_along(places, edges[k], made.xy[vertex]) for k in group]
        z[vertex] = _choose(each, rule)
        gap = max(each) - min(each) if each else 0.0
        differ += gap > 1e-6
        if gap > worst:
            worst, worst_at = gap, (float(made.xy[vertex, 0]), float(made.xy[vertex, 1]))
    if made.crossings:
        text = f"Breaklines cross at {count(len(made.crossings), 'place')}"
        text += (
            f"; at {differ} with different heights, at most {worst:.3f} apart (E {worst_at[0]:.3f}, "
            f"N {worst_at[1]:.3f}); the {rule.value} counts."
            if worst_at and differ
            else ", with the same height on both."
        )
        severity = Severity.WARNING if differ else Severity.NOTE
        findings.append(Finding("crossing-breaklines", text, severity, worst_at))
    triangles, neighbours, flags, used = topology.compact(
        made.triangles, made.neighbours, made.constrained, np.ones(len(made.triangles), np.bool_), len(made.xy)
    )
    vertices = np.column_stack((made.xy, z))[used]
    return Tin(vertices=vertices, triangles=triangles, neighbours=neighbours, constrained=flags)


def _height_along(places: Floats, edge: NDArray[np.int64], xy: Floats) -> float:
    a, b = places[edge[0]], places[edge[1]]
    along = b[:2] - a[:2]
    share = float(np.dot(xy - a[:2], along) / np.dot(along, along))
    return float(a[2] + share * (b[2] - a[2]))


def _choose(values: list[float], rule: Meeting) -> float:
    if not values:
        return 0.0
    choices = {
        Meeting.MEAN: sum(values) / len(values),
        Meeting.FIRST: values[0],
        Meeting.LAST: values[-1],
        Meeting.HIGHEST: max(values),
        Meeting.LOWEST: min(values),
    }
    return choices[rule]


def _inside(
    tin: Tin, ring: Floats, places: Floats, edges: NDArray[np.int64], tolerance: float, progress: Progress
) -> Tin:
    """Cut the TIN at a ring: it is laid on the surface, made an edge of it, and what lies outside is dropped."""
    cuts = cuts_along(ring, tin.vertices, tin.triangles, bucket_index(tin))
    corners = np.column_stack((np.arange(len(ring)), np.zeros(len(ring)), ring[:, :2], heights(tin, ring[:, :2])))
    laid = np.concatenate((corners[:, [0, 1, 2, 3, 4]], cuts))
    laid = laid[np.lexsort((laid[:, 1], laid[:, 0]))]
    # The way around the ring between two laid places may lead outside the ground; there is nothing to cut there.
    known = np.isfinite(laid[:, 4])
    together = np.concatenate((tin.vertices, laid[known, 2:5]))
    origin = np.floor(topology.corners(np.asarray(together[:, :2], np.float64))[0])
    size = max(tolerance, 1e-9)
    group, first = topology.group_places(together[:, 0] - origin[0], together[:, 1] - origin[1], size)
    merged = together[first]
    number = np.full(len(laid), -1, np.int64)
    number[known] = group[len(tin.vertices) :]
    walls = np.column_stack((number[:-1], number[1:]))
    walls = walls[(walls >= 0).all(axis=1) & (walls[:, 0] != walls[:, 1])]
    following = np.roll(tin.triangles, -1, axis=1)
    assert tin.constrained is not None
    breaks = np.column_stack((tin.triangles[tin.constrained], following[tin.constrained])).astype(np.int64)
    breaks = group[breaks] if len(breaks) else breaks
    made = triangulate(
        np.ascontiguousarray(merged[:, :2]),
        np.unique(np.sort(np.concatenate((walls, breaks)), axis=1), axis=0),
        progress,
    )
    z = np.concatenate((merged[:, 2], np.zeros(len(made.xy) - len(merged))))
    if len(made.xy) > len(merged):
        z[len(merged) :] = heights(tin, made.xy[len(merged) :])
    vertices = np.column_stack((made.xy, z))
    wall_flags = topology.edge_flags(made.triangles, walls, len(vertices))
    region = topology.regions(made.neighbours, wall_flags)
    keep = _inside_regions(vertices, made.triangles, region, ring)
    keep &= np.isfinite(vertices[made.triangles, 2]).all(axis=1)
    # Triangles across a bay of the hull are not ground that was there before.
    centres = vertices[made.triangles].mean(axis=1)[:, :2]
    keep &= np.isfinite(heights(tin, np.ascontiguousarray(centres)))
    if not keep.any():
        raise DataError("no part of the ground lies inside the outer boundary; are both in the same units and place?")
    break_flags = (
        topology.edge_flags(made.triangles, breaks, len(vertices)) if len(breaks) else np.zeros_like(wall_flags)
    )
    triangles, neighbours, flags, used = topology.compact(
        made.triangles, made.neighbours, break_flags, keep, len(vertices)
    )
    return Tin(vertices=vertices[used], triangles=triangles, neighbours=neighbours, constrained=flags)


def _inside_regions(vertices: Floats, triangles: NDArray[np.int32], region: NDArray[np.int32], ring: Floats) -> Flags:
    number = int(region.max()) + 1
    corner = vertices[triangles][:, :, :2]
    u, v = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]
    area = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    # Each region is judged by its largest triangle, well away from rounding.
    order = np.argsort(area, kind="stable")
    largest = np.zeros(number, np.int64)
    largest[region[order]] = order
    centre = corner[largest].mean(axis=1)
    inside = topology.inside_polygon(
        np.ascontiguousarray(centre[:, 0]), np.ascontiguousarray(centre[:, 1]), np.ascontiguousarray(ring[:, :2])
    )
    return np.asarray(inside[region], np.bool_)


def _without_long_edges(tin: Tin, longest: float, findings: list[Finding]) -> Tin:
    corner = tin.corners()[:, :, :2]
    length = np.hypot(*np.moveaxis(np.roll(corner, -1, axis=1) - corner, 2, 0))
    assert tin.constrained is not None
    keep = ~((length > longest) & ~tin.constrained).any(axis=1)
    dropped = int((~keep).sum())
    if dropped == 0:
        return tin
    if not keep.any():
        raise DataError(
            f"every triangle has an edge longer than {longest:g}, so nothing is left; the shortest longest edge is "
            f"{length.max(axis=1).min():.3g}"
        )
    triangles, neighbours, flags, used = topology.compact(
        tin.triangles, tin.edges_across, tin.constrained, keep, len(tin.vertices)
    )
    text = f"{count(dropped, 'triangle')} with an edge longer than {longest:g} were left out"
    lost = len(tin.vertices) - len(used)
    text += f", and {count(lost, 'place')} that no other triangle uses." if lost else "."
    findings.append(note("long-edges", text))
    return Tin(vertices=tin.vertices[used], triangles=triangles, neighbours=neighbours, constrained=flags)


def _estimate(inputs: Sequence[Dataset], params: TinParams) -> str:
    places = sum(each.count().get("points", each.count().get("vertices", 0)) for each in inputs)
    return f"about {count(2 * places, 'triangle')}"


CONVERSION = Conversion(
    id="tin",
    version=2,
    title="TIN",
    help="Constrained Delaunay triangulation of points, lines and contours, inside one outer boundary.",
    takes=(PointSet, Linework, Contours),
    many=True,
    gives=Tin,
    params=TinParams,
    template="TIN from {inputs}, inside {boundary}, with edges up to {max_edge} and breaklines from "
    "{breaklines}; where heights meet, the {heights} counts, and places closer than {same_place} are one.",
    run=run,
    settle=settle,
    estimate=_estimate,
    name=lambda inputs, params: "Ground",
    automatic=1,
)
