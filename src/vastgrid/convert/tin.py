"""Points, breaklines and an outer boundary to a TIN."""

from __future__ import annotations

import dataclasses
import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, either, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, is_geographic
from vastgrid.data.line_roles import BOUNDARY, BOUNDARY_ROLES, ISLAND, OUTER, VOID
from vastgrid.data.linework import Contours, Linework, legs
from vastgrid.data.loss import Loss
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels import topology
from vastgrid.kernels.triangulate import Triangulation, triangulate
from vastgrid.params.declare import Param
from vastgrid.shaping.limits import cut_to, limits_area
from vastgrid.shaping.meeting import RULE, Meeting, Met, height_along, meet, once_in_order


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
    voids: Annotated[
        str,
        Param("Voids", "Layers whose closed lines are holes in the TIN; their heights are not used.", absent="nothing"),
    ] = ""
    islands: Annotated[
        str,
        Param("Islands", "Layers whose closed lines are ground again inside a void.", absent="no island"),
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
            "Points closer to each other than this are at one place; a point so close to a breakline lies on it.",
            Quantity.XY_LENGTH,
            least=0,
            absent="a thousandth of the unit",
        ),
    ] = None


def settle(inputs: Sequence[Dataset], params: TinParams) -> TinParams:
    """Say which points count as one place, and which layers are boundaries by the data's own word.

    One place is a thousandth of the unit of plan, and in degrees what is a millimetre.
    """
    own = {role: _layers_of_role(inputs, role) for role in BOUNDARY_ROLES}
    return dataclasses.replace(
        params,
        same_place=params.same_place or _usual_place(inputs[0].frame),
        boundary=params.boundary or own[OUTER],
        voids=params.voids or own[VOID],
        islands=params.islands or own[ISLAND],
    )


def _layers_of_role(inputs: Sequence[Dataset], role: str) -> str:
    """Return the layers all of whose lines are boundaries of one kind, parted by commas."""
    found: dict[str, None] = {}
    for each in inputs:
        if not isinstance(each, Linework) or BOUNDARY not in each.attributes:
            continue
        is_role = each.attributes[BOUNDARY] == role.encode()
        for k, name in enumerate(each.layers):
            on_layer = each.layer == k
            if on_layer.any() and is_role[on_layer].all():
                found[name] = None
    return ",".join(found)


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
    tolerance = (params.same_place or _usual_place(frame)).in_unit(frame.horizontal, "same_place")
    limits, lines = _sorted_lines(inputs, params, points, tolerance, findings)
    xyz = np.concatenate([points, *(line.vertices for line in lines)])
    if len(xyz) == 0:
        raise DataError("there is nothing to build a TIN from: no points and no lines with heights")
    progress.report(0.05, "finding places")
    unit = unit_word(frame.vertical)
    places, group = _places(xyz, tolerance, params.heights, findings, unit)
    edges, order = _edges(group, len(points), lines)
    met = Met(params.heights)
    edges, order = meet(places, group, edges, order, tolerance, met)
    progress.report(0.15, "triangulating")
    made = triangulate(places[:, :2], edges, progress.part(0.15, 0.7))
    tin = _tin(places, edges, order, made, met)
    findings += met.findings(frame)
    if params.max_edge is not None:
        plan = unit_word(frame.horizontal)
        tin = _without_long_edges(tin, params.max_edge.in_unit(frame.horizontal, "max_edge"), findings, plan)
    area = limits_area(limits.of(OUTER), limits.of(VOID), limits.of(ISLAND), tin.vertices, findings, frame.horizontal)
    if area is not None:
        progress.report(0.75, "cutting to the limits")
        tin = cut_to(tin, area)
        lost = int((~np.isin(places[:, 0] + 1j * places[:, 1], tin.vertices[:, 0] + 1j * tin.vertices[:, 1])).sum())
        if lost > 0:
            text = f"{count(lost, 'place')} of {spaced(len(places))} {either(lost, 'lies', 'lie')} outside the limits."
            findings.append(note("outside-limits", text))
    breaks = np.concatenate([np.zeros((0, 3)), *(line.vertices for line in lines)])
    counts = np.concatenate([np.zeros(0, np.int64), *(np.diff(line.offsets) for line in lines)])
    progress.report(1.0)
    loss = _loss(xyz, places[group, 2], met, tin, frame)
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
            limit=limits.vertices(),
            limit_offsets=limits.offsets(),
            limit_roles=tuple(limits.roles),
        ),
        tuple(findings),
        loss,
    )


@dataclass(slots=True)
class _Limits:
    """Closed lines that limit the TIN, each with its role."""

    rings: list[Floats] = field(default_factory=list)
    roles: list[str] = field(default_factory=list)

    def of(self, role: str) -> list[Floats]:
        return [ring for ring, own in zip(self.rings, self.roles, strict=True) if own == role]

    def vertices(self) -> Floats:
        return np.concatenate([np.zeros((0, 3)), *self.rings])

    def offsets(self) -> NDArray[np.int64]:
        return np.concatenate(([0], np.cumsum([len(ring) for ring in self.rings], dtype=np.int64)))


def _loss(xyz: Floats, height: Floats, met: Met, tin: Tin, frame: Frame) -> Loss | None:
    """Return how far the ground lies from the points and lines it was built from: nothing, but where heights met."""
    if len(xyz) == 0:
        return None
    gap = np.concatenate((height - xyz[:, 2], met.gaps))
    place = np.concatenate((xyz[:, :2], np.array(met.at).reshape(-1, 2)))
    worst = int(np.abs(gap).argmax())
    return Loss(
        largest=float(abs(gap[worst])),
        rmse=float(np.sqrt(np.mean(gap**2))),
        mean=float(gap.mean()),
        p95=float(np.quantile(np.abs(gap), 0.95)),
        at=(float(place[worst, 0]), float(place[worst, 1])),
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
            Finding("no-height", f"{count(int((~good).sum()), 'point')} without a finite height: left out.")
        )
        points = points[good]
    return points


def _matches(name: str, patterns: str) -> bool:
    words = [word.strip().lower() for word in patterns.split(",")]
    return any(fnmatch.fnmatchcase(name.lower(), word) for word in words if word not in ("", "none"))


def _sorted_lines(
    inputs: Sequence[Dataset], params: TinParams, points: Floats, tolerance: float, findings: list[Finding]
) -> tuple[_Limits, list[Linework]]:
    """Return the limits, and the lines that become edges.

    Raises
    ------
    CallError
        If a layer that was named is not there, or holds no closed line.
    """
    limits = _Limits()
    lines: list[Linework] = []
    layers: list[str] = []
    asked = dict(zip(BOUNDARY_ROLES, (params.boundary, params.voids, params.islands), strict=True))
    for each in inputs:
        work = each.as_lines()
        if work is None:
            continue
        layers += work.layers
        chosen = np.array([_matches(name, params.breaklines) for name in work.layers])
        for role, patterns in asked.items():
            on_role = np.array([bool(patterns) and _matches(name, patterns) for name in work.layers])
            _take_rings(work.on_layers(on_role), role, tolerance, limits, findings)
            chosen &= ~on_role
        kept = _with_heights(work.on_layers(chosen), points, findings)
        if len(kept):
            lines.append(kept)
    known = ", ".join(dict.fromkeys(layers)) or "none"
    for (role, patterns), name in zip(asked.items(), ("boundary", "voids", "islands"), strict=True):
        if patterns and not limits.of(role):
            raise CallError(f"{name}: there is no closed line on a layer “{patterns}” (layers: {known})")
    for word in (word.strip() for word in params.breaklines.split(",")):
        if layers and word not in ("", "*", "none") and not any(_matches(name, word) for name in layers):
            raise CallError(f"breaklines: there is no layer “{word}” (layers: {known})")
    return limits, lines


def _take_rings(lines: Linework, role: str, tolerance: float, limits: _Limits, findings: list[Finding]) -> None:
    """Take closed lines as limits; one that misses its beginning by less than a place is closed."""
    for k in range(len(lines)):
        ring = lines.line(k)
        ends = ring[[0, -1]]
        gap = float(np.hypot(*(ends[1] - ends[0])[:2])) if len(ring) > 2 else np.inf
        at = (float(ends[1, 0]), float(ends[1, 1]))
        if gap > tolerance:
            text = f"A line on {lines.layers[lines.layer[k]]} is open (it ends at E {at[0]:.3f}, N {at[1]:.3f}) and limits nothing; left out."
            findings.append(left_out("open-boundary", text, at=at))
            continue
        if gap > 0.0:
            text = f"The line on {lines.layers[lines.layer[k]]} ends {gap:.4g}{unit_word(lines.frame.horizontal)} beside its beginning (E {at[0]:.3f}, N {at[1]:.3f}) and was closed."
            findings.append(Finding("ring-closed", text, at=at))
            ring = np.concatenate((ring[:-1], ring[:1]))
        limits.rings.append(ring)
        limits.roles.append(role)


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
            f"{count(int(missing.sum()), 'line')} of {lines.name} without heights (none, or 0 throughout while the "
            "ground is far from 0): not used as breaklines."
        )
        findings.append(Finding("lines-without-height", text, at=(float(where[0]), float(where[1]))))
        lines = lines.chosen(np.flatnonzero(~missing))
    return lines


def _places(
    xyz: Floats, tolerance: float, rule: Meeting, findings: list[Finding], unit: str = ""
) -> tuple[Floats, NDArray[np.int32]]:
    origin = np.floor(topology.corners(xyz[:, :2])[0])
    group, first = topology.group_places(xyz[:, 0] - origin[0], xyz[:, 1] - origin[1], tolerance)
    height, spread = topology.heights_of_places(group, np.ascontiguousarray(xyz[:, 2]), len(first), RULE[rule])
    if len(first) < len(xyz):
        findings.append(
            note(
                "same-place",
                f"{count(len(xyz) - len(first), 'point shares', 'points share')} a place with another, of {spaced(len(xyz))}.",
            )
        )
    # Heights a float's rounding apart are one height.
    differ = spread > 1e-9
    if differ.any():
        worst = int(spread.argmax())
        east, north = (float(value) for value in xyz[first[worst], :2])
        text = (
            f"Heights differ at {count(int(differ.sum()), 'place')}, at most by {spread[worst]:.3f}{unit} "
            f"(E {east:.3f}, N {north:.3f}); the {rule.value} counts."
        )
        findings.append(Finding("two-heights", text, at=(east, north)))
    places = np.column_stack((xyz[first, :2], height))
    order = topology.spatial_order(places[:, :2])
    number = np.zeros(len(order), np.int32)
    number[order] = np.arange(len(order), dtype=np.int32)
    return np.ascontiguousarray(places[order]), number[group]


def _edges(group: NDArray[np.int32], points: int, lines: list[Linework]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Return the lines' edges as pairs of places, each once, and where in the inputs each comes first."""
    pairs, orders = [], []
    start = points
    for work in lines:
        own = group[start : start + len(work.vertices)].astype(np.int64)
        at = legs(work.offsets, len(own))
        pairs.append(np.column_stack((own[at], own[at + 1])))
        orders.append(start + at)
        start += len(work.vertices)
    edges = np.concatenate([np.zeros((0, 2), np.int64), *pairs])
    order = np.concatenate([np.zeros(0, np.int64), *orders])
    return once_in_order(edges, order)


def _tin(places: Floats, edges: NDArray[np.int64], order: NDArray[np.int64], made: Triangulation, met: Met) -> Tin:
    z = np.concatenate((places[:, 2], np.zeros(len(made.xy) - len(places))))
    for vertex, group in made.crossings:
        xy = made.xy[vertex]
        values = [height_along(places, edges[k], xy) for k in group]
        if values:
            orders = [int(order[k]) for k in group]
            z[vertex] = met.choose("crossing", values, orders, (float(xy[0]), float(xy[1])))
    triangles, neighbours, flags, used = topology.compact(
        made.triangles, made.neighbours, made.constrained, np.ones(len(made.triangles), np.bool_), len(made.xy)
    )
    vertices = np.column_stack((made.xy, z))[used]
    return Tin(vertices=vertices, triangles=triangles, neighbours=neighbours, constrained=flags)


def _without_long_edges(tin: Tin, longest: float, findings: list[Finding], word: str) -> Tin:
    corner = tin.corners()[:, :, :2]
    length = np.hypot(*np.moveaxis(np.roll(corner, -1, axis=1) - corner, 2, 0))
    assert tin.constrained is not None
    keep = ~((length > longest) & ~tin.constrained).any(axis=1)
    dropped = int((~keep).sum())
    if dropped == 0:
        return tin
    if not keep.any():
        raise DataError(
            f"every triangle has an edge longer than {longest:g}{word}, so nothing is left; the shortest longest edge is "
            f"{length.max(axis=1).min():.3g}{word}"
        )
    triangles, neighbours, flags, used = topology.compact(
        tin.triangles, tin.edges_across, tin.constrained, keep, len(tin.vertices)
    )
    text = f"{count(dropped, 'triangle')} with an edge longer than {longest:g}{word} {either(dropped, 'was', 'were')} left out"
    lost = len(tin.vertices) - len(used)
    text += f", and {count(lost, 'place')} that no other triangle uses." if lost else "."
    findings.append(note("long-edges", text))
    return Tin(vertices=tin.vertices[used], triangles=triangles, neighbours=neighbours, constrained=flags)


def _estimate(inputs: Sequence[Dataset], params: TinParams) -> str:
    places = sum(each.count().get("points", each.count().get("vertices", 0)) for each in inputs)
    return f"about {count(2 * places, 'triangle')}"


def _suggest(inputs: Sequence[Dataset]) -> dict[str, list[str]]:
    """Return the layers of the lines, for the parameters that name some."""
    layers = [name for each in inputs if isinstance(each, Linework) for name in each.layers]
    named = ["", *layers]
    return {"boundary": named, "voids": named, "islands": named, "breaklines": ["*", "none", *layers]}


CONVERSION = Conversion(
    id="tin",
    version=3,
    title="TIN",
    help="Constrained Delaunay triangulation of points, lines and contours, inside one outer boundary and outside voids.",
    inputs=(Input("sources", (PointSet, Linework, Contours), most=None),),
    outputs=(Output("tin", Tin),),
    params=TinParams,
    template="TIN from {inputs}, inside {boundary}[, without {voids}][, but with {islands}], with edges up to {max_edge} and breaklines from "
    "{breaklines}; where heights meet, the {heights} counts, and places closer than {same_place} are one.",
    run=run,
    settle=settle,
    estimate=_estimate,
    suggest=_suggest,
    name=lambda inputs, params: "Ground",
    automatic=1,
    builds=True,
)
