"""Writing LandXML 1.0, 1.1 and 1.2, piece by piece."""

from __future__ import annotations

import datetime
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from functools import singledispatch
from pathlib import Path
from typing import Annotated, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid import __version__
from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.base.words import plain
from vastgrid.base.xmltext import quoteattr
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import Frame, epsg_code
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import of_kind
from vastgrid.data.line_roles import BOUNDARY, BREAKLINE, BREAKLINE_KINDS, CONTOUR, TRIM, UNTRIMMED, USUAL_BREAKLINE
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.places import Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Record, Survey, survey_of
from vastgrid.data.tin import Tin, areas
from vastgrid.formats.landxml._records import write_records
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Several
from vastgrid.terrain.areas.clipping import clipped

# Further attributes of a point by the standard (LandXML 1.2, CgPoint; from memory), which come and go as they are.
POINT_WORDS = (
    *("state", "oID", "featureRef", "pntSurv", "pointGeometry", "DTMAttribute", "timeStamp", "role", "surveyOrder"),
    *("determinedTimeStamp", "ellipsoidHeight", "latitude", "longitude", "zone", "northingStdError", "eastingStdError"),
    *("elevationStdError", "surveyHorizontalOrder", "surveyVerticalOrder"),
)


class Hold(Enum):
    """Which definitions of a surface are written."""

    FACES = "faces"
    SOURCE = "source"
    BOTH = "both"


class Version(Enum):
    """Version of the standard."""

    V12 = "1.2"
    V11 = "1.1"
    V10 = "1.0"


class Pieces(Several):
    """What goes into the file, by the standard's own parts."""

    words = (
        "surfaces",
        "points",
        "breaklines",
        "boundaries",
        "contours",
        "alignments",
        "parcels",
        "plan features",
        "lines",
    )


class LinesAs(Enum):
    """What lines become that are no source of a surface by their own word."""

    BREAKLINES = "breaklines"
    FEATURES = "plan features"


class GridAs(Enum):
    """What a grid becomes."""

    TIN = "tin"
    POINTS = "points"


_EVERY = Pieces()


@dataclass(frozen=True)
class LandXmlWriteParams:
    """How the file is written."""

    version: Annotated[Version, Param("Version", "1.2 is usual; 1.1 and 1.0 are for old readers.")] = Version.V12

    hold: Annotated[
        Hold | None,
        Param(
            "Definition",
            "faces: the triangles; source: what they were built from; or both.",
            absent="both, where there is source data",
        ),
    ] = None
    pieces: Annotated[
        Pieces,
        Param(
            "Pieces",
            f"all, or some of: {', '.join(Pieces.words)}; breaklines and boundaries are those of a surface's source.",
        ),
    ] = _EVERY
    lines_as: Annotated[
        LinesAs,
        Param(
            "Lines as",
            "breaklines: source of a surface of their own; plan features: lines for guidance, such as a line of no change.",
        ),
    ] = LinesAs.BREAKLINES
    grid_as: Annotated[
        GridAs, Param("Grids as", "tin: two triangles for each cell; points: the middle of every cell.")
    ] = GridAs.TIN
    inside: Annotated[
        Area | None,
        Param(
            "Inside",
            "Only what lies in this area, exactly to its edge; such a surface goes out as faces.",
            absent="everything",
        ),
    ] = None
    neighbours: Annotated[bool, Param("Neighbours", "Write for each face which three faces it touches.")] = False
    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


_UNITS = {
    Unit.METRE: ("Metric", "meter"),
    Unit.MILLIMETRE: ("Metric", "millimeter"),
    Unit.FOOT: ("Imperial", "foot"),
    Unit.US_FOOT: ("Imperial", "USSurveyFoot"),
    Unit.INCH: ("Imperial", "inch"),
}
_REST = {
    "Metric": 'areaUnit="squareMeter" volumeUnit="cubicMeter" temperatureUnit="celsius" pressureUnit="HPA"',
    "Imperial": 'areaUnit="squareFoot" volumeUnit="cubicFeet" temperatureUnit="fahrenheit" pressureUnit="inHG"',
}


def write(datasets: Sequence[Dataset], path: Path, params: LandXmlWriteParams, progress: Progress) -> None:
    """Write datasets to one file.

    Raises
    ------
    CallError
        If there is no unit, since the standard needs one.
    """
    frame = datasets[0].frame
    if frame.horizontal is None or frame.horizontal not in _UNITS:
        raise CallError(
            f"LandXML has to say its unit, and that of {datasets[0].name} is unknown; say it with --from-units (m, ft, us-ft)"
        )
    now = datetime.datetime.now()
    space = f"http://www.landxml.org/schema/LandXML-{params.version.value}"
    with path.open("wb") as file:
        file.write(
            '<?xml version="1.0" encoding="UTF-8"?>\n'
            f'<LandXML xmlns="{space}" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" '
            f'xsi:schemaLocation="{space} {space}/LandXML-{params.version.value}.xsd" '
            f'version="{params.version.value}" date="{now:%Y-%m-%d}" time="{now:%H:%M:%S}" language="English" readOnly="false">\n'.encode()
        )
        file.write(_units(frame).encode())
        file.write(f'<Application name="Vast Grid" version="{__version__}"/>\n'.encode())
        for points in of_kind(datasets, PointSet):
            _write_points(file, points, params)
        for records in of_kind(datasets, Survey):
            write_records(file, records, params.decimals)
        surfaces = [each for each in datasets if each.kind not in (PointSet.kind, Survey.kind)]
        if surfaces:
            file.write(b"<Surfaces>\n")
            for k, each in enumerate(surfaces):
                _write_surface(file, each, params, progress.part(k / len(surfaces), (k + 1) / len(surfaces)))
            file.write(b"</Surfaces>\n")
        file.write(b"</LandXML>\n")


# Which piece each kind is; a survey's records are pieces by their roles.
_ROLES = {"alignment": "alignments", "parcel": "parcels", "plan feature": "plan features"}


def given(datasets: Sequence[Dataset], params: LandXmlWriteParams) -> list[Dataset]:
    """Return what goes into the file: the chosen pieces, inside the area, lines and grids as what they are to become.

    Raises
    ------
    CallError
        If nothing is left.
    """
    out: list[Dataset] = []
    for each in datasets:
        part = _piece(each, params.pieces)
        if part is None:
            continue
        if params.inside is not None and not isinstance(part, Survey):
            part = clipped(part, shapely.Polygon(params.inside.corners), True, [])
        if isinstance(part, Grid):
            part = PointSet(name=part.name, frame=part.frame, xyz=part.coordinates())
        if isinstance(part, Linework) and params.lines_as is LinesAs.FEATURES:
            part = _features(part)
        out.append(part)
    if not out:
        raise CallError(f"none of the chosen pieces ({params.pieces}) is among what goes out")
    return out


def fits(datasets: Sequence[Dataset], params: LandXmlWriteParams) -> LandXmlWriteParams:
    """Refuse to write source data that a surface does not have.

    Raises
    ------
    ParamError
        With the surfaces that have none.
    """
    if params.hold in (None, Hold.FACES):
        return params
    bare = [tin.name for tin in of_kind(datasets, Tin) if not len(tin.source_points) + len(tin.break_vertices)]
    if bare:
        raise ParamError(
            "hold",
            f"{', '.join(bare)} has no source data, only its triangles; leave hold out, or take points and breaklines from it first (--via points)",
        )
    return params


def _piece(dataset: Dataset, pieces: Pieces) -> Dataset | None:
    """Return what of a dataset is among the chosen pieces; nothing where it is none of them."""
    if isinstance(dataset, Tin):
        if "surfaces" not in pieces:
            return None
        gone = [each not in pieces for each in ("points", "breaklines", "boundaries")]
        return dataset.without_source(*gone)
    if isinstance(dataset, Survey):
        keep = [record for record in dataset.records() if _ROLES.get(record.role, "") in pieces]
        return survey_of(dataset.name, dataset.frame, keep) if keep else None
    if isinstance(dataset, Linework):
        limits = dataset.attributes.get(BOUNDARY, np.zeros(len(dataset), "S1")) != b""
        keep_lines = np.where(limits, "boundaries" in pieces, "lines" in pieces)
        return dataset.chosen(np.flatnonzero(keep_lines)) if keep_lines.any() else None
    own = "contours" if isinstance(dataset, Contours) else "points"
    return dataset if own in pieces else None


def _features(lines: Linework) -> Survey:
    """Return lines as plan features, each named after its layer."""
    names = [lines.layers[k] or "line" for k in lines.layer.tolist()]
    told: dict[str, int] = {}
    records = []
    for k, name in enumerate(names):
        told[name] = told.get(name, 0) + 1
        text = name if told[name] == 1 else f"{name} {told[name]}"
        records.append(Record("plan feature", text, lines.line(k), {}))
    return survey_of(lines.name, lines.frame, records)


def _units(frame: Frame) -> str:
    assert frame.horizontal is not None
    system, word = _UNITS[frame.horizontal]
    text = f'<Units><{system} linearUnit="{word}" {_REST[system]}/></Units>\n'
    if frame.crs:
        code = epsg_code(frame.crs)
        described = f'epsgCode="{code}"' if code else f"ogcWktCode={quoteattr(' '.join(frame.crs.split()))}"
        text += f"<CoordinateSystem {described}/>\n"
    return text


def _write_points(file: BinaryIO, points: PointSet, params: LandXmlWriteParams) -> None:
    file.write(f"<CgPoints name={quoteattr(points.name)}>\n".encode())
    names = points.attributes.get("point")
    words = [
        (own, points.attributes[ours])
        for own, ours in (("code", "code"), ("desc", "description"), *((each, each) for each in POINT_WORDS))
        if ours in points.attributes
    ]
    flat = np.isnan(points.xyz[:, 2])
    columns = [np.where(flat, 0.0, column) for column in _nez(points.xyz)[2:]]
    text, ends = RowTemplate("{} {} {}", (params.decimals,) * 3).rows([*_nez(points.xyz)[:2], *columns])
    start = 0
    for k, end in enumerate(ends):
        own = f" name={quoteattr(_word(names[k]) if names is not None else str(k + 1))}"
        for word, values in words:
            if _word(values[k]):
                own += f" {word}={quoteattr(_word(values[k]))}"
        place = bytes(text[start:end])
        if flat[k]:
            place = place[: place.rindex(b" ")]
        file.write(f"<CgPoint{own}>".encode() + place + b"</CgPoint>\n")
        start = end
    file.write(b"</CgPoints>\n")


def _word(value: object) -> str:
    text = plain(value)
    # Control characters cannot stand in XML 1.0.
    return "".join(letter for letter in text if letter >= " ")


def _nez(xyz: Floats) -> tuple[Floats, Floats, Floats]:
    """Return columns in the standard's order: northing, easting, elevation."""
    return xyz[:, 1], xyz[:, 0], xyz[:, 2]


def _write_surface(file: BinaryIO, dataset: Dataset, params: LandXmlWriteParams, progress: Progress) -> None:
    file.write(f"<Surface name={quoteattr(_word(dataset.name))}>\n".encode())
    _definition(dataset, file, params, progress)
    file.write(b"</Surface>\n")
    progress.report(1.0)


@singledispatch
def _definition(dataset: Dataset, file: BinaryIO, params: LandXmlWriteParams, progress: Progress) -> None:
    raise TypeError(f"{dataset.title} is not a surface, nor a source of one")


@_definition.register
def _of_tin(tin: Tin, file: BinaryIO, params: LandXmlWriteParams, progress: Progress) -> None:
    source = len(tin.source_points) + len(tin.break_vertices) > 0
    if source and params.hold is not Hold.FACES:
        _write_source(file, tin, params)
    if params.hold is not Hold.SOURCE or not source:
        _write_faces(file, tin, params, progress)


@_definition.register
def _of_contours(contours: Contours, file: BinaryIO, params: LandXmlWriteParams, progress: Progress) -> None:
    file.write(b"<SourceData>\n<Contours>\n")
    heads = [f'<Contour elev="{level:.{params.decimals}f}"><PntList2D>' for level in contours.levels.tolist()]
    _write_lines(file, contours.plan[:, ::-1], contours.offsets, heads, "</PntList2D></Contour>\n", params.decimals)
    file.write(b"</Contours>\n</SourceData>\n")


@_definition.register
def _of_lines(lines: Linework, file: BinaryIO, params: LandXmlWriteParams, progress: Progress) -> None:
    _write_linework(file, lines, params.decimals)


def _write_source(file: BinaryIO, tin: Tin, params: LandXmlWriteParams) -> None:
    file.write(b"<SourceData>\n")
    if len(tin.source_points):
        file.write(b"<DataPoints><PntList3D>\n")
        for block in RowTemplate("{} {} {}\n", (params.decimals,) * 3).blocks(_nez(tin.source_points)):
            file.write(block)
        file.write(b"</PntList3D></DataPoints>\n")
    cuts = tin.break_offsets
    kinds = np.array([*tin.break_kinds, *[USUAL_BREAKLINE] * (len(cuts) - 1)][: len(cuts) - 1])
    for outer, chosen in (("Breaklines", kinds != CONTOUR), ("Contours", kinds == CONTOUR)):
        index = np.flatnonzero(chosen)
        if not len(index):
            continue
        file.write(f"<{outer}>\n".encode())
        parts = [tin.break_vertices[cuts[k] : cuts[k + 1]] for k in index.tolist()]
        vertices, offsets = np.concatenate(parts), np.concatenate(([0], np.cumsum([len(part) for part in parts])))
        if outer == "Breaklines":
            _write_breaklines(file, vertices, offsets, None, params.decimals, kinds[index].tolist())
        else:
            heads = [f'<Contour elev="{part[0, 2]:.{params.decimals}f}"><PntList2D>' for part in parts]
            _write_lines(file, vertices[:, [1, 0]], offsets, heads, "</PntList2D></Contour>\n", params.decimals)
        file.write(f"</{outer}>\n".encode())
    if len(tin.limit):
        file.write(b"<Boundaries>\n")
        for k, (role, ring) in enumerate(tin.limits()):
            trimmed = "false" if any(tin.limit_whole[k : k + 1]) else "true"
            head = f'<Boundary bndType="{role}" edgeTrim="{trimmed}"><PntList2D>'
            tail = "</PntList2D></Boundary>\n"
            _write_lines(file, ring[:, [1, 0]], np.array([0, len(ring)]), [head], tail, params.decimals)
        file.write(b"</Boundaries>\n")
    file.write(b"</SourceData>\n")


def _write_linework(file: BinaryIO, lines: Linework, decimals: int) -> None:
    """Write lines as what they are by their source's word: boundaries as such, all others as breaklines."""
    roles = lines.attributes.get(BOUNDARY, np.zeros(len(lines), "S1"))
    whole = lines.attributes.get(TRIM, np.zeros(len(lines), "S1"))
    limits = np.flatnonzero(roles != b"")
    rest = lines.chosen(np.flatnonzero(roles == b""))
    file.write(b"<SourceData>\n")
    if len(rest):
        file.write(b"<Breaklines>\n")
        names = [_word(rest.layers[k]) for k in rest.layer.tolist()]
        marks = rest.attributes.get(BREAKLINE, np.zeros(len(rest), "S1"))
        _write_breaklines(file, rest.vertices, rest.offsets, names, decimals, [mark.decode() for mark in marks])
        file.write(b"</Breaklines>\n")
    if len(limits):
        file.write(b"<Boundaries>\n")
    for k in limits.tolist():
        ring = lines.line(k)
        space = bool(np.isfinite(ring[:, 2]).all())
        tag = "PntList3D" if space else "PntList2D"
        trimmed = "false" if whole[k] == UNTRIMMED.encode() else "true"
        head = f'<Boundary bndType="{roles[k].decode()}" edgeTrim="{trimmed}"><{tag}>'
        columns = ring[:, [1, 0, 2]] if space else ring[:, [1, 0]]
        _write_lines(file, columns, np.array([0, len(ring)]), [head], f"</{tag}></Boundary>\n", decimals)
    if len(limits):
        file.write(b"</Boundaries>\n")
    file.write(b"</SourceData>\n")


def _write_breaklines(
    file: BinaryIO,
    vertices: Floats,
    offsets: NDArray[np.int64],
    names: list[str] | None,
    decimals: int,
    kinds: list[str] | None = None,
) -> None:
    for k in range(len(offsets) - 1):
        line = vertices[offsets[k] : offsets[k + 1]]
        own = names[k] if names else ""
        kind = kinds[k] if kinds else ""
        known = kind in BREAKLINE_KINDS
        name = f" name={quoteattr(own)}" if own and not known else ""
        space = bool(np.isfinite(line[:, 2]).all())
        tag = "PntList3D" if space else "PntList2D"
        columns = line[:, [1, 0, 2]] if space else line[:, [1, 0]]
        head = f'<Breakline brkType="{kind if known else USUAL_BREAKLINE}"{name}><{tag}>'
        _write_lines(file, columns, np.array([0, len(line)]), [head], f"</{tag}></Breakline>\n", decimals)


def _write_lines(
    file: BinaryIO, columns: Floats, offsets: NDArray[np.int64], heads: list[str], tail: str, decimals: int
) -> None:
    width = columns.shape[1]
    template = RowTemplate(" ".join(["{}"] * width) + " ", (decimals,) * width)
    text, ends = template.rows(list(columns.T))
    for k, head in enumerate(heads):
        first, last = int(offsets[k]), int(offsets[k + 1])
        start = ends[first - 1] if first else 0
        body = bytes(text[start : ends[last - 1]]) if last > first else b""
        file.write(head.encode() + body.rstrip() + tail.encode())


def _write_faces(file: BinaryIO, tin: Tin, params: LandXmlWriteParams, progress: Progress) -> None:
    corner = tin.corners()
    cross = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    low, high = tin.extent().elevation or (0.0, 0.0)
    file.write(
        f'<Definition surfType="TIN" area2DSurf="{areas(tin).sum():.3f}" '
        f'area3DSurf="{np.linalg.norm(cross, axis=1).sum() / 2.0:.3f}" '
        f'elevMin="{low:.{params.decimals}f}" elevMax="{high:.{params.decimals}f}">\n<Pnts>\n'.encode()
    )
    ids = np.arange(1, len(tin.vertices) + 1)
    done = 0
    for block in RowTemplate('<P id="{}">{} {} {}</P>\n', (0, *(params.decimals,) * 3)).blocks(
        [ids, *_nez(tin.vertices)]
    ):
        file.write(block)
        done += 20_000
        progress.report(0.4 * min(done / len(ids), 1.0), "writing points")
    file.write(b"</Pnts>\n<Faces>\n")
    done = 0
    columns = list((tin.triangles + 1).T)
    template = RowTemplate("<F>{} {} {}</F>\n", (0, 0, 0))
    if params.neighbours:
        # Numbers of faces count from 1; 0 is none. The third stands across the edge from the last corner to the first.
        columns = [*(tin.edges_across + 1).T, *columns]
        template = RowTemplate('<F n="{} {} {}">{} {} {}</F>\n', (0,) * 6)
    for block in template.blocks(columns):
        file.write(block)
        done += 20_000
        progress.report(0.4 + 0.6 * min(done / max(len(tin.triangles), 1), 1.0), "writing faces")
    file.write(b"</Faces>\n</Definition>\n")
