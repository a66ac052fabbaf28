"""Points, breaklines and an outer boundary to a TIN."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, either, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Quantity, Unit, square_word, unit_word
from vastgrid.base.words import area_words
from vastgrid.data.areas import Areas
from vastgrid.data.classes import CLASSES
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.frame import Frame, is_geographic
from vastgrid.data.line_roles import (
    BOUNDARY,
    BREAKLINE,
    CONTOUR,
    GENTLE,
    ISLAND,
    OUTER,
    PROXIMITY,
    STANDARD,
    TRIM,
    UNTRIMMED,
    VOID,
    WALL,
)
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.outline import Outline, PointOutline, SurfaceOutline
from vastgrid.data.places import Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Conversion, Input, Output, Result, listed
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.format_support.cloudfile import parse_classes
from vastgrid.kernels.triangles.ties import settle_ties
from vastgrid.kernels.triangles.triangulate import Triangulation, triangulate
from vastgrid.measures.difference import difference
from vastgrid.measures.levels import interval_of, line_levels
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Fitting
from vastgrid.terrain.areas.limiting import LIMIT, limit_of
from vastgrid.terrain.lines.courses import prepared
from vastgrid.terrain.tin.building import (
    building_loss,
    compacted,
    edges_of,
    nearest_edges,
    on_contours,
    places_of,
    with_heights,
)
from vastgrid.terrain.tin.flats import without_plateaus
from vastgrid.terrain.tin.gentle import laid_in
from vastgrid.terrain.tin.lines_for_tin import LineChoices, SortedLines, layers_of, sort_lines
from vastgrid.terrain.tin.meeting import Meeting, Met, meet
from vastgrid.terrain.tin.source_data import inside_rims, rings_of, told, with_sources
from vastgrid.terrain.tin.trimming import FOLLOWS, RimLimits, inside_limits, trimmed, used_points
from vastgrid.terrain.tin.walls import leaning, parted_walls


class Crossing(Enum):
    """Which height counts where breaklines cross."""

    MEAN = "mean"
    FIRST = "first"
    LAST = "last"
    HIGHEST = "highest"
    LOWEST = "lowest"
    REFUSE = "refuse"


_LAYERS = "Layers, names or patterns (EDGE*), separated by commas."


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
    circle: Annotated[
        Length | None,
        Param(
            "Largest circumradius",
            "Triangles with a larger circumradius are left out: the TIN ends where points lie farther apart. With "
            "it a TIN can be made in tiles.",
            Quantity.XY_LENGTH,
            above=0,
            absent="any",
        ),
    ] = None
    rim_length: Annotated[
        Fitting | None,
        Param(
            "Longest rim edge",
            "Triangles at the rim are removed while their outer edge is longer than this; auto follows the density of the points.",
            Quantity.XY_LENGTH,
            above=0,
            absent="any",
        ),
    ] = None
    rim_angle: Annotated[
        float | None,
        Param(
            "Smallest rim angle",
            "Triangles at the rim with a smaller angle, in degrees, are removed.",
            above=0,
            most=60,
            absent="any",
        ),
    ] = None
    classes: Annotated[
        str,
        Param(
            "Classes",
            "Classes of cloud points that are used, such as 2 for ground; others stay out.",
            absent="every class",
        ),
    ] = ""
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
    whole: Annotated[
        str,
        Param(
            "Untrimmed at",
            "Layers of boundaries at which triangles stay whole: those whose middle lies inside; others are cut exactly.",
            absent="no boundary",
        ),
    ] = ""
    area: Annotated[
        Area | None,
        Param("Area", "An outer boundary that was drawn, or a rim that was taken.", absent="no area"),
    ] = None
    breaklines: Annotated[
        str,
        Param(
            "Breaklines",
            "Layers whose lines become edges of the TIN: names or patterns (EDGE*), separated by commas; or none.",
            absent="no layer",
            said=(("*", "all layers"), ("none", "no layer")),
        ),
    ] = "*"
    walls: Annotated[
        str, Param("Walls", f"{_LAYERS[:-1]}: two heights at one place, as two lines, foot and top.", absent="no layer")
    ] = ""
    proximity: Annotated[
        str,
        Param(
            "Nearest points",
            f"{_LAYERS[:-1]}: edges lead from the point nearest to each vertex to the next.",
            absent="no layer",
        ),
    ] = ""
    nondestructive: Annotated[
        str,
        Param(
            "Nondestructive",
            f"{_LAYERS[:-1]}: lines become edges, and the ground stays as it is without them.",
            absent="no layer",
        ),
    ] = ""
    contours: Annotated[
        str,
        Param(
            "Contours",
            f"{_LAYERS[:-1]}: lines of one height each, for weeding and for flat triangles.",
            absent="no layer",
        ),
    ] = ""
    weed: Annotated[
        Length | None,
        Param(
            "Weed contours",
            "Vertices of contours closer than this to the line without them are removed.",
            Quantity.XY_LENGTH,
            above=0,
            absent="not at all",
        ),
    ] = None
    spacing: Annotated[
        Length | None,
        Param(
            "Contour spacing",
            "Contours get additional vertices, so that none is farther than this from the next.",
            Quantity.XY_LENGTH,
            above=0,
            absent="as they are",
        ),
    ] = None
    flats: Annotated[
        bool | None,
        Param(
            "Flat triangles",
            "yes: heights are inferred where triangles between contours would be false plateaus.",
            said=(("yes", "corrected"), ("no", "left")),
        ),
    ] = None
    heights: Annotated[
        Meeting,
        Param("Where points meet", "Which height counts where several points are at one place."),
    ] = Meeting.MEAN
    crossings: Annotated[
        Crossing | None,
        Param(
            "Where lines cross",
            "Which height counts where breaklines cross or meet; refuse names every place instead.",
            said=(
                ("refuse", "it is refused"),
                *((each, f"the {each} counts") for each in ("mean", "first", "last", "highest", "lowest")),
            ),
            absent="the same",
        ),
    ] = None
    offset: Annotated[
        Length | None,
        Param(
            "Wall's offset",
            "How far the top of a wall is moved towards the higher ground.",
            Quantity.XY_LENGTH,
            above=0,
            absent="a centimetre",
        ),
    ] = None
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


_KIND_FIELDS = {WALL: "walls", PROXIMITY: "proximity", GENTLE: "nondestructive", CONTOUR: "contours"}
_LIMIT_FIELDS = {OUTER: "boundary", VOID: "voids", ISLAND: "islands"}


def _usual_place(frame: Frame) -> Length:
    return Length(1e-8) if is_geographic(frame) else Length(0.001, frame.horizontal)


def settle(inputs: Sequence[Dataset], params: TinParams) -> TinParams:
    """Say which points count as one place, and which layers are what by the data's own word.

    One place is a thousandth of the unit of plan, and in degrees what is a millimetre.
    """
    inputs = with_sources(_sources(inputs))
    own = {field: layers_of(inputs, BOUNDARY, role) for role, field in _LIMIT_FIELDS.items()}
    own |= {field: layers_of(inputs, BREAKLINE, kind) for kind, field in _KIND_FIELDS.items()}
    own["whole"] = layers_of(inputs, TRIM, UNTRIMMED)
    if not own["contours"]:
        own["contours"] = _level_layers(inputs)
    found = {field: getattr(params, field) or value for field, value in own.items()}
    asked = {field: value for field, value in found.items() if value != "none"}
    known = any(isinstance(each, Contours) for each in inputs) or bool(asked.get("contours"))
    changes: dict[str, Any] = {field: "" if value == "none" else value for field, value in found.items()}
    if params.flats is None and known:
        changes["flats"] = True
    if params.crossings is None:
        changes["crossings"] = Crossing(params.heights.value)
    frame = inputs[0].frame
    if changes["walls"] and params.offset is None:
        changes["offset"] = Length(0.01, Unit.METRE) if frame.horizontal not in (None, Unit.DEGREE) else Length(0.01)
    return dataclasses.replace(params, same_place=params.same_place or _usual_place(frame), **changes)


def _level_layers(inputs: Sequence[Dataset]) -> str:
    """Return the layers of sources that are contours by evidence: nine in ten of their lines are level and keep an interval."""
    found: dict[str, None] = {}
    for each in inputs:
        if not isinstance(each, Linework) or len(each) < 6:
            continue
        levels = line_levels(each)
        # The toes of benches keep an interval too: only where all lines of a source do are they contours.
        if np.isfinite(levels).mean() < 0.9 or not np.abs(levels[np.isfinite(levels)]).any():
            continue
        if interval_of(levels) is not None:
            found |= dict.fromkeys(each.layers)
    return ",".join(found)


def run(inputs: Sequence[Dataset], params: TinParams, progress: Progress) -> Result:
    """Build the TIN; see `CONVERSION`.

    Raises
    ------
    DataError
        If no triangle can be made, or lines cross and that is refused.
    CallError
        If a layer is not there, or a boundary is not closed.
    """
    frame = inputs[0].frame
    limit, inputs = limit_of(inputs, []), _sources(inputs)
    findings: list[Finding] = told(inputs)
    given, inputs = inputs, with_sources(inputs)
    points = used_points(inputs, params.classes, parse_classes(params.classes) if params.classes else (), findings)
    tolerance = (params.same_place or _usual_place(frame)).in_unit(frame.horizontal, "same_place")
    lines = sort_lines(inputs, _asked(params), points, tolerance, findings)
    edged, interval = _edged(lines, points, params, tolerance, frame, findings)
    xyz = np.concatenate([points, *(line.vertices for line in edged)])
    if len(xyz) == 0:
        raise DataError(f"no TIN can be built of {listed([each.name for each in inputs])}: nothing in it has heights")
    progress.report(0.05, "finding places")
    unit = unit_word(frame.vertical)
    places, group = places_of(xyz, tolerance, params.heights, findings, unit)
    edges, order = edges_of(group, len(points), edged)
    edges, order = nearest_edges(lines.of(PROXIMITY), places, group[: len(points)], edges, order, findings)
    refuse = params.crossings is Crossing.REFUSE
    rule = params.heights if params.crossings in (None, Crossing.REFUSE) else Meeting(params.crossings.value)
    met = Met(rule)
    edges, order = meet(places, group, edges, order, tolerance, met)
    progress.report(0.15, "triangulating")
    made = triangulate(places[:, :2], edges, progress.part(0.15, 0.6))
    if params.circle is not None:
        # Which way four places on one circle are parted must not depend on what else there is.
        settle_ties(np.ascontiguousarray(made.xy), made.triangles, made.neighbours, made.constrained)
    vertices = with_heights(places, edges, order, made, met)
    if refuse and met.all_different:
        raise DataError(met.refusal(frame))
    findings += met.findings(frame)
    figures: dict[str, Any] = {}
    if params.flats and interval is not None:
        contoured = on_contours(edged, points, group, len(vertices))
        vertices, made = _without_flats(vertices, made, contoured, interval, progress.part(0.6, 0.7), figures, findings)
    tin = compacted(vertices, made)
    tin = trimmed(tin, _rim(params, frame), frame, findings)
    progress.report(0.75, "cutting to the limits")
    drawn = params.area.ring() if params.area else None
    tin = inside_limits(tin, lines.limits, drawn, limit, places, frame, findings)
    tin = inside_rims(tin, given)
    gentle = [work.line(k) for work in lines.of(GENTLE) for k in range(len(work))]
    if gentle:
        tin, new = laid_in(tin, gentle)
        text = f"{count(len(gentle), 'line')} became edges without changing the ground: {count(new, 'vertex', 'vertices')} on it."
        findings.append(note("nondestructive-lines", text))
    progress.report(1.0)
    tin = dataclasses.replace(tin, name="TIN", frame=frame)
    # A surface that is built anew is compared with what came in, not with what it was taken apart into.
    anew = given[0] if len(given) == 1 else None
    loss = (
        difference(anew, tin, Silent())
        if isinstance(anew, Tin)
        else building_loss(xyz, places[group, 2], met, tin, frame)
    )
    figures["dropped"] = len(tin.spare)
    return Result(_with_source(tin, points, edged, lines, limit), tuple(findings), loss, figures=figures)


def _sources(inputs: Sequence[Dataset]) -> list[Dataset]:
    """Return what a TIN is built from, without the areas that limit it."""
    return [each for each in inputs if not isinstance(each, Areas)]


def _without_flats(
    vertices: Floats,
    made: Triangulation,
    contoured: Flags,
    interval: float,
    progress: Progress,
    figures: dict[str, Any],
    findings: list[Finding],
) -> tuple[Floats, Triangulation]:
    """Return vertices and triangles with heights inferred where these lay flat between contours."""
    corrected = without_plateaus(vertices, made, contoured, interval, progress)
    figures |= {
        "added": corrected.added,
        "swapped": corrected.swapped,
        "flat_before": corrected.before,
        "flat_after": corrected.after,
    }
    text = (
        f"Of the triangles {corrected.before:.1%} lay flat between contours: {count(corrected.added, 'place')} "
        f"{either(corrected.added, 'was', 'were')} inferred and {count(corrected.swapped, 'edge')} swapped; {corrected.after:.2%} are flat now."
    )
    findings.append(note("flats-corrected", text))
    other = dataclasses.replace(
        made,
        xy=corrected.vertices[:, :2],
        triangles=corrected.triangles,
        neighbours=corrected.neighbours,
        constrained=corrected.constrained,
    )
    return corrected.vertices, other


def _with_source(tin: Tin, points: Floats, edged: Sequence[Linework], lines: SortedLines, limit: Any) -> Tin:
    """Return a TIN that says what it was built from; nothing of it where source data cannot say how it is limited."""
    if limit is not None:
        rings = [] if lines.limits.rings else rings_of(limit)
        if not rings:
            return tin.without_source()
        for role, ring in rings:
            lines.limits.take(ring, role)
    counts = np.concatenate([np.zeros(0, np.int64), *(np.diff(line.offsets) for line in edged)])
    return dataclasses.replace(
        tin,
        source_points=points,
        break_vertices=np.concatenate([np.zeros((0, 3)), *(line.vertices for line in edged)]),
        break_offsets=np.concatenate(([0], np.cumsum(counts))),
        limit=lines.limits.vertices(),
        limit_offsets=lines.limits.offsets(),
        limit_roles=tuple(lines.limits.roles),
        limit_whole=tuple(lines.limits.whole) if any(lines.limits.whole) else (),
    )


def _rim(params: TinParams, frame: Frame) -> RimLimits:
    length = params.rim_length
    return RimLimits(
        params.max_edge.in_unit(frame.horizontal, "max_edge") if params.max_edge is not None else None,
        None
        if length is None
        else FOLLOWS
        if length.length is None
        else length.length.in_unit(frame.horizontal, "rim_length"),
        params.rim_angle or 0.0,
        params.circle.in_unit(frame.horizontal, "circle") if params.circle is not None else None,
    )


def _asked(params: TinParams) -> LineChoices:
    return LineChoices(
        limits={role: (field, getattr(params, field)) for role, field in _LIMIT_FIELDS.items()},
        whole=params.whole,
        kinds={kind: (field, getattr(params, field)) for kind, field in _KIND_FIELDS.items()},
        breaklines=params.breaklines,
    )


def _edged(
    lines: SortedLines, points: Floats, params: TinParams, tolerance: float, frame: Frame, findings: list[Finding]
) -> tuple[list[Linework], float | None]:
    """Return the lines whose vertices and legs become those of the TIN, and the interval of contours, where there are some."""
    plain, pairs = parted_walls([*lines.of(STANDARD), *lines.of(WALL)], tolerance)
    offset = (params.offset or Length(0.01)).in_unit(
        frame.horizontal if params.offset and params.offset.unit else None, "offset"
    )
    alone = sum(len(each) for each in lines.of(WALL)) - 2 * len(pairs)
    if lines.of(WALL) and alone > 0 and not pairs:
        text = (
            f"{count(alone, 'wall')} {either(alone, 'has', 'have')} one height at each place; used as plain breaklines."
        )
        findings.append(Finding("wall-alone", text))
    other = [points, *(line.vertices for kind in (STANDARD, CONTOUR) for line in lines.of(kind))]
    like = next(iter((*lines.of(WALL), *lines.of(STANDARD))), None)
    leaned = leaning(pairs, np.concatenate(other), offset, like, findings) if pairs and like is not None else []
    weed = params.weed.in_unit(frame.horizontal, "weed") if params.weed is not None else None
    spacing = params.spacing.in_unit(frame.horizontal, "spacing") if params.spacing is not None else None
    contours = [prepared(each, weed, spacing, findings) for each in lines.of(CONTOUR)]
    interval = None
    if contours:
        levels = np.concatenate([line_levels(each) for each in contours])
        found = interval_of(levels)
        known = np.unique(levels[np.isfinite(levels)])
        interval = found.step if found else float(np.median(np.diff(known))) if len(known) > 1 else 0.0
    return [*plain, *leaned, *contours], interval


# The surface without limits that was looked at last: while a limit is dragged only the limit changes.
_UNLIMITED: dict[str, Tin] = {}


def preview(inputs: Sequence[Dataset], params: TinParams, progress: Progress) -> Tin | None:
    """Return the triangles that the limits of the rim and of edges would leave out; None where no limit is asked for."""
    if params.max_edge is None and params.rim_length is None and not params.rim_angle:
        return None
    free = dataclasses.replace(params, max_edge=None, rim_length=None, rim_angle=None)
    key = repr(free) + "".join(each.content for each in inputs)
    if key not in _UNLIMITED:
        _UNLIMITED.clear()
        made = run(inputs, free, progress).dataset
        _UNLIMITED.update({key: made} if isinstance(made, Tin) else {})
    whole = _UNLIMITED[key]
    left = trimmed(whole, _rim(params, whole.frame), whole.frame, [])
    gone = Tin(frame=whole.frame, vertices=np.concatenate((left.vertices, left.spare_vertices)), triangles=left.spare)
    area = float(areas(gone).sum())
    text = f"{count(len(left.spare), 'triangle')} go, {area_words(area)}{square_word(whole.frame.horizontal)}"
    return gone.renamed(text)


def foretell(inputs: Sequence[Dataset], params: TinParams) -> tuple[dict[str, int], float]:
    """Return two triangles for each place: by Euler's formula, but for those at the rim."""
    places = sum(each.count().get("points", each.count().get("vertices", 0)) for each in _sources(inputs))
    return {"triangles": 2 * places, "vertices": places}, places * 4e-6


def _suggest(inputs: Sequence[Dataset]) -> dict[str, list[str]]:
    """Return the layers of the lines, for the parameters that name some."""
    layers = [name for each in with_sources(_sources(inputs)) if isinstance(each, Linework) for name in each.layers]
    named = ["", "none", *layers]
    fields = (*_LIMIT_FIELDS.values(), *_KIND_FIELDS.values(), "whole")
    return {**dict.fromkeys(fields, named), "breaklines": ["*", "none", *layers]}


# What a tile has of its own: points, and values that each triangle answers by itself.
_LOCAL = ("circle", "max_edge", "classes", "heights", "same_place", "crossings", "breaklines", "area")


def _refuses(params: TinParams) -> str:
    usual = TinParams()
    names = [each.name for each in dataclasses.fields(params) if each.name not in (*_LOCAL, "flats")]
    other = [name.removesuffix("_") for name in names if getattr(params, name) != getattr(usual, name)]
    if other:
        return f"{', '.join(other)} applies to the whole surface; leave it out"
    if params.circle is None:
        return "triangles may reach anywhere; say the widest circle (circle=20m), beyond which there is no ground"
    return ""


def _wanted(points: PointSet, params: TinParams) -> Flags | None:
    if not params.classes or CLASSES not in points.attributes:
        return None
    return np.isin(points.attributes[CLASSES], parse_classes(params.classes))


def _halo(inputs: Sequence[Dataset], params: TinParams) -> float | None:
    if params.circle is None or _refuses(params):
        return None
    frame = inputs[0].frame
    place = (params.same_place or _usual_place(frame)).in_unit(frame.horizontal, "same_place")
    # A triangle that is asked for lies in its circle, and is one of the whole if no point at all lies in there.
    return 2.0 * params.circle.in_unit(frame.horizontal, "circle") + 4.0 * place


def _whole(inputs: Sequence[Outline], params: TinParams) -> SurfaceOutline:
    (own,) = inputs
    assert isinstance(own, PointOutline)
    return SurfaceOutline(own)


def _tile(inputs: Sequence[PointSet], params: TinParams, piece: TilePart) -> Tin:
    """Return the triangles of a tile; where there are none, a TIN without any."""
    frame = inputs[0].frame
    try:
        made = run(inputs, params, Silent()).dataset
    except DataError:
        made = Tin(vertices=np.zeros((0, 3)), triangles=np.zeros((0, 3), np.int32))
    assert isinstance(made, Tin)
    return dataclasses.replace(made, frame=frame)


CONVERSION = Conversion(
    id="tin",
    version=4,
    title="TIN",
    also=("triangulate", "surface", "DTM", "breaklines"),
    help="Constrained Delaunay triangulation of points, breaklines of every kind and contours, inside one outer boundary and outside voids; a TIN is built anew from its source data, or from its vertices, breaklines and rim.",
    inputs=(Input("sources", (PointSet, Linework, Contours, Tin), most=None), LIMIT),
    outputs=(Output("tin", Tin),),
    params=TinParams,
    template="TIN from {sources}[ (points of class {classes})], inside {boundary}[ and {area}][ and {limit}][, without {voids}][, but with {islands}][, whole triangles at {whole}], with edges up to {max_edge}[, circles up to {circle} in radius]"
    "[, rim edges up to {rim_length}][, no angle below {rim_angle}° at the rim] and breaklines from {breaklines}[, walls from {walls} leaning by {offset}]"
    "[, over the points nearest to {proximity}][, {nondestructive} laid on it][, contours from {contours}][, weeded by {weed}][, a vertex every {spacing}]"
    "[, flat triangles {flats}]; where points meet, the {heights} counts, where lines cross, {crossings}; points closer than {same_place} are merged.",
    run=run,
    settle=settle,
    preview=preview,
    foretell=foretell,
    suggest=_suggest,
    name=lambda inputs, params: "Ground",
    automatic=1,
    builds=True,
    halo=_halo,
    tiles=Tiling(
        whole=_whole,
        run=_tile,
        columns=lambda params: (CLASSES,) if params.classes else (),
        wanted=_wanted,
        refuses=_refuses,
    ),
)
