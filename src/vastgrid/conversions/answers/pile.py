"""A stockpile or a pond: what lies above and below a base made from the rim of an area."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import factor, square_word
from vastgrid.base.words import place_words, spaced
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Picture, Result
from vastgrid.kernels.triangles.topology import group_places
from vastgrid.kernels.triangles.triangulate import once, triangulate
from vastgrid.measures.earthwork import Earthwork, between, region_of
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.boundaries import (
    ClosedLines,
    DrawnArea,
    NamedArea,
    beyond_centres,
    cubic,
    for_volumes,
    named_areas,
)
from vastgrid.terrain.areas.ground import OnGround, to_ground
from vastgrid.terrain.lines.laying import laid_on
from vastgrid.terrain.tin.limits import has_rings, polygons_of

# So many places along a rim decide its plane.
PLACES = 720


class Base(Enum):
    """What the base is made of."""

    RIM = "rim"
    PLANE = "plane"
    LOWEST = "lowest"


@dataclass(frozen=True)
class PileParams:
    """On which base."""

    base: Annotated[
        Base,
        Param(
            "Base",
            "rim: triangles through the ground at the rim; plane: the plane that lies nearest to it; lowest: level, at its lowest place.",
            said=(
                ("rim", "triangles through its rim"),
                ("plane", "the plane nearest to its rim"),
                ("lowest", "a level base at the lowest place of its rim"),
            ),
        ),
    ] = Base.RIM
    boundaries: ClosedLines = ""
    area: DrawnArea = None
    ground: OnGround = False


def run(inputs: Inputs, params: PileParams, progress: Progress) -> Result:
    """Measure it; see `CONVERSION`.

    Raises
    ------
    CallError
        If there is no closed line and no area.
    DataError
        If a rim leaves the ground.
    """
    (surface,), lines = inputs.of("surface"), inputs.of("inside")
    findings: list[Finding] = []
    tin = for_volumes(surface)
    findings += beyond_centres([surface])
    areas = named_areas(lines, findings, params.area, params.boundaries)
    rows: list[Earthwork] = []
    faces: list[Floats] = []
    for k, own in enumerate(areas):
        base = _base(tin, own, params.base)
        faces.append(base.corners())
        part = progress.part(k / len(areas), (k + 1) / len(areas))
        made, _ = between(base, tin, region_of([own.area]), np.zeros(0), part)
        rows += made
        gone = own.area.area - made[0].area
        if gone > 1e-6 * own.area.area:
            text = f"On {gone:.2f}{square_word(surface.frame.horizontal)} of {own.name} there is no ground; nothing is counted there."
            findings.append(Finding("ground-missing", text))
    times = to_ground(surface, findings, wanted=params.ground)
    rows = [row.scaled(times) for row in rows]
    unit = surface.frame.horizontal
    word, square = f" {cubic(unit)}".rstrip() or " cubic units", square_word(unit)
    for own, row in list(zip(areas, rows, strict=True))[:20]:
        text = f"{own.name}: {spaced(row.fill, 2)}{word} above its base, {spaced(row.cut, 2)}{word} below, on {spaced(row.area, 1)}{square}."
        findings.append(note("pile", text))
    columns = {
        "area": np.array([area.name.encode() for area in areas]),
        "above the base": np.array([row.fill for row in rows]),
        "below the base": np.array([row.cut for row in rows]),
        "net": np.array([row.net for row in rows]),
        "plan area": np.array([row.area for row in rows]),
    }
    called = f"Volume over its base, {surface.name}"
    plain = unit.value + "²" if unit else ""
    table = Table(
        name=called,
        frame=surface.frame,
        columns=columns,
        units=("", cubic(unit), cubic(unit), cubic(unit), plain),
    )
    figures = {
        "in short": f"{spaced(sum(row.fill for row in rows))} {cubic(unit)} above the base".replace("  ", " "),
        "pile": {
            "unit": unit.value if unit else None,
            "parts": [
                {"name": own.name, "above": row.fill, "below": row.cut, "net": row.net, "area": row.area}
                for own, row in zip(areas, rows, strict=True)
            ],
        },
    }
    return Result(table, tuple(findings), more={"base": _joined(faces, surface.frame)}, figures=figures)


def _joined(faces: list[Floats], frame: Frame) -> Tin:
    """Return the bases as one TIN in the units of the data."""
    corners = np.concatenate(faces).reshape(-1, 3)
    local = corners[:, :2] - np.floor(corners[:, :2].min(axis=0))
    group, first = group_places(local[:, 0].copy(), local[:, 1].copy(), 0.0)
    vertices = corners[first]
    if frame.vertical is not None and frame.horizontal is not None:
        vertices = vertices * (1.0, 1.0, factor(frame.horizontal, frame.vertical))
    return Tin(name="Base", frame=frame, vertices=vertices, triangles=group.reshape(-1, 3))


def _base(tin: Tin, area: NamedArea, how: Base) -> Tin:
    rings = [ring for each in polygons_of(area.area) for ring in (each.exterior, *each.interiors)]
    laid = []
    for ring in rings:
        xy = shapely.get_coordinates(ring)
        vertices, offsets, _ = laid_on(np.column_stack((xy, np.zeros(len(xy)))), np.array([0, len(xy)]), tin, Silent())
        if len(offsets) != 2 or not np.allclose(vertices[[0, -1], :2], xy[[0, -1]]):
            away = xy[~np.isfinite(heights(tin, xy))]
            at = away[0] if len(away) else xy[0]
            raise DataError(
                f"the rim of {area.name} leaves the ground of {tin.name} (near {place_words(at[0], at[1])}); draw it inside"
            )
        laid.append(vertices)
    if how is Base.RIM:
        return _through(tin, area, laid)
    if how is Base.LOWEST:
        return _level(tin, area, lambda xy: np.full(len(xy), min(float(ring[:, 2].min()) for ring in laid)))
    places = shapely.get_coordinates(
        [
            shapely.line_interpolate_point(ring, share, normalized=True)
            for ring in (rings[0],)
            for share in np.arange(PLACES) / PLACES
        ]
    )
    z = heights(tin, places)
    good = np.isfinite(z)
    middle = places[good].mean(axis=0)
    matrix = np.column_stack((places[good] - middle, np.ones(int(good.sum()))))
    (east, north, level), *_ = np.linalg.lstsq(matrix, z[good], rcond=None)
    return _level(tin, area, lambda xy: level + (xy - middle) @ np.array((east, north)))


def _level(tin: Tin, area: NamedArea, height: Any) -> Tin:
    region = region_of([area.area])
    vertices = np.column_stack((region.places, height(region.places)))
    return Tin(name="base", frame=tin.frame, vertices=vertices, triangles=region.triangles)


def _through(tin: Tin, area: NamedArea, laid: list[Floats]) -> Tin:
    """Return the TIN through the rims alone; its triangles outside the area do no harm, since only what is inside counts."""
    every = np.concatenate([ring[:-1] for ring in laid])
    starts = np.cumsum([0, *(len(ring) - 1 for ring in laid)])
    pairs = [
        np.column_stack((np.arange(a, b), np.append(np.arange(a + 1, b), a)))
        for a, b in zip(starts[:-1].tolist(), starts[1:].tolist(), strict=True)
    ]
    origin = np.floor(every[:, :2].min(axis=0))
    group, first = group_places(
        np.ascontiguousarray(every[:, 0] - origin[0]), np.ascontiguousarray(every[:, 1] - origin[1]), 1e-9
    )
    edges = once(group[np.concatenate(pairs)].astype(np.int64))
    made = triangulate(np.ascontiguousarray(every[first, :2] - origin), edges, Silent())
    z = np.concatenate((every[first, 2], np.zeros(len(made.xy) - len(first))))
    if len(made.xy) > len(first):
        z[len(first) :] = heights(tin, np.ascontiguousarray(made.xy[len(first) :] + origin))
    vertices = np.column_stack((made.xy + origin, z))
    inner = shapely.contains_xy(area.area, *(made.xy[made.triangles].mean(axis=1) + origin).T)
    return Tin(name="base", frame=tin.frame, vertices=vertices, triangles=made.triangles[inner])


CONVERSION = Conversion(
    id="pile",
    version=1,
    title="Stockpile volume",
    also=("heap", "base plane"),
    help="A stockpile or a pond: what lies above and below a base made from the rim of an area.",
    inputs=(
        Input("surface", (Tin, Grid), fits=lambda data: data.has_heights),
        Input("inside", (Linework, Areas), least=0, most=None, help="areas or closed lines around it", fits=has_rings),
    ),
    outputs=(
        Output(
            "volumes",
            Table,
            picture=Picture(
                "bars", "Below the base (cut), above it (fill)", ("area", "below the base", "above the base")
            ),
        ),
        Output("base", Tin, title="base"),
    ),
    params=PileParams,
    template="Stockpile volume on {surface}, above and below {base}[, inside {inside}][ ({boundaries})][, inside {area}][, {ground}].",
    run=run,
    name=lambda inputs, params: f"Volume over its base, {inputs[0].name}",
    answers=True,
    ask=True,
)
