"""Writing drawings of seven editions, entities streamed as text."""

from __future__ import annotations

import dataclasses
import io
import logging
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import Enum
from functools import singledispatch
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import ParamError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.base.words import plain
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import listed
from vastgrid.format_support.origin import NONE, NOWHERE, Origin, Place, told
from vastgrid.formats.dxf._bands import colours_of, legend, of_bands, of_change
from vastgrid.formats.dxf._faces import Faces, count_handles, write_surface
from vastgrid.formats.dxf._hatches import level_of, write_hatches
from vastgrid.formats.dxf._lines import write_curve, write_flat, write_labels, write_spatial
from vastgrid.formats.dxf._pen import Pen, Version, encoded
from vastgrid.formats.dxf._scheme import Layer, check_scheme, layer_names, layer_of
from vastgrid.formats.dxf._spots import Points, define_block, handles, write_points
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Styles

_OURS = Styles()
# $INSUNITS by the DXF reference.
_CODE_OF = {Unit.INCH: 1, Unit.FOOT: 2, Unit.MILLIMETRE: 4, Unit.METRE: 6, Unit.US_FOOT: 21}


class ContourForm(Enum):
    """How a contour is drawn."""

    PLAN = "2d"
    SPATIAL = "3d"
    FLAT = "flat"


class AreaForm(Enum):
    """How an area is drawn."""

    LINES = "lines"
    HATCH = "hatch"


class BandsBy(Enum):
    """What bands are of."""

    HEIGHT = "elevation"
    CHANGE = "cut_fill"


@dataclass(frozen=True)
class DxfWriteParams:
    """How a drawing is written."""

    version: Annotated[
        Version,
        Param("Edition", "R2018 or an older one; R12 is for old readers: no units, true colours or compact meshes."),
    ] = Version.R2018
    faces: Annotated[
        Faces,
        Param(
            "Triangles as",
            "faces: single 3D faces; polyface: meshes of at most 32 767 corners; mesh: one compact mesh, from R2000 on.",
        ),
    ] = Faces.FACES
    contours_as: Annotated[
        ContourForm,
        Param("Contours as", "2d: polylines with an elevation; 3d: polylines in space; flat: all at elevation 0."),
    ] = ContourForm.PLAN
    areas_as: Annotated[
        AreaForm,
        Param("Areas as", "lines: closed lines around areas and holes; hatch: filled areas, from R2000 on."),
    ] = AreaForm.LINES
    points_as: Annotated[
        Points,
        Param("Points as", "points; or blocks: a mark with attributes for number, code and height."),
    ] = Points.POINTS
    text_height: Annotated[
        Length | None,
        Param("Text height", "Height of the texts beside points.", Quantity.XY_LENGTH, above=0,
              absent="a 400th of the drawing's width"),
    ] = None  # fmt: skip
    bands: Annotated[
        Length | None,
        Param("Bands of", "Triangles are divided at this height interval, and each band gets a layer and a colour.",
              Quantity.Z_LENGTH, above=0, absent="none: one colour for each surface"),
    ] = None  # fmt: skip
    bands_by: Annotated[
        BandsBy,
        Param("Bands by", "elevation; or cut_fill: how far the second of two surfaces lies below or above the first."),
    ] = BandsBy.HEIGHT
    layers: Annotated[
        Styles,
        Param(
            "Layers",
            "For a purpose or a line's own layer: layer=NAME, colour=1…255, rgb=#RRGGBB. Purposes: TIN, CONTOUR, "
            "CONTOUR_INDEX, CONTOUR_SUPPLEMENTARY, CONTOUR_LABEL, POINT, SPOT_HEIGHT, ALIGNMENT, PARCEL, PLAN_FEATURE, LEGEND.",
            absent="standard names and colours",
        ),
    ] = _OURS
    shift: Annotated[
        Origin,
        Param("Shift", "Subtracted from every coordinate, as E,N,Z; the drawing and the report say so. none: nothing."),
    ] = NONE
    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


_CONTOURS = {
    "Contours": "CONTOUR",
    "Index contours": "CONTOUR_INDEX",
    "Supplementary contours": "CONTOUR_SUPPLEMENTARY",
}
_RECORDS = {"alignment": "ALIGNMENT", "parcel": "PARCEL", "plan feature": "PLAN_FEATURE"}
# Visible words of a shift stand beside the drawing, a few hundredths of its width high.
_NOTE = "NOTE"
# Attribute of points that come from a drawing.
LAYER = "layer"


def fits(datasets: Sequence[Dataset], params: DxfWriteParams) -> DxfWriteParams:
    """Refuse what an edition does not have, and schemes that cannot be followed.

    Raises
    ------
    ParamError
        With what works instead.
    """
    if params.version.old and params.faces is Faces.MESH:
        raise ParamError(
            "faces", "R12 has no MESH; faces or polyface work in it, or an edition from R2000 on (version=R2000)"
        )
    if params.version.old and params.areas_as is AreaForm.HATCH:
        raise ParamError("areas_as", "R12 has no HATCH; lines work in it, or an edition from R2000 on (version=R2000)")
    check_scheme(params.layers)
    if params.bands_by is BandsBy.CHANGE:
        if params.bands is None:
            raise ParamError("bands_by", "bands by cut and fill need a height of one band: bands=0.5m")
        if len(of_kind(datasets, Tin)) < 2:
            raise ParamError("bands_by", "cut and fill need two surfaces, the earlier one first")
    return params


def says(datasets: Sequence[Dataset], params: DxfWriteParams) -> tuple[Finding, ...]:
    """Return what the report says of the options: a shift, heights that were left out."""
    found = []
    place = shift_of(params)
    if place != NOWHERE:
        text = f"Every coordinate is shifted by −{place[0]:.10g}, −{place[1]:.10g}, −{place[2]:.10g}; add E {place[0]:.10g}, N {place[1]:.10g}, Z {place[2]:.10g} to come back. The drawing says so too."
        found.append(Finding("shifted", text))
    if params.contours_as is ContourForm.FLAT and of_kind(datasets, Contours):
        found.append(Finding("flattened", "Contours lie at elevation 0, as asked; their levels are in labels only."))
    sloped = [each.name for each in of_kind(datasets, Areas) if params.areas_as is AreaForm.HATCH and _sloped(each)]
    if sloped:
        text = f"A hatch lies in one height: those of {listed(sloped)} whose vertices have several lie at 0."
        found.append(Finding("flattened", text))
    other = {
        name: called
        for name, called in _plan(datasets, params).names.items()
        if name != called and not (params.version.old and name.upper() == called)
    }
    if other:
        some = ", ".join(f"{name[:40]} as {called[:40]}" for name, called in list(other.items())[:6])
        more = f" and {len(other) - 6} more" if len(other) > 6 else ""
        text = f"Some layers are spelled otherwise in this edition ({params.version.value}): {some}{more}; different layers stay different."
        found.append(note("layers-renamed", text))
    return tuple(found)


def given(datasets: Sequence[Dataset], params: DxfWriteParams) -> list[Dataset]:
    """Return what is drawn: contours parted at their labels, flattened if asked, surfaces parted into bands."""
    out: list[Dataset] = []
    if params.bands is not None and params.bands_by is BandsBy.CHANGE:
        before, after = of_kind(datasets, Tin)[:2]
        out += of_change(before, after, params.bands.in_unit(after.frame.vertical, "bands"))
        datasets = [each for each in datasets if each is not before and each is not after]
    for each in datasets:
        if isinstance(each, Contours):
            shown = each.with_gaps()
            out.append(_flattened(shown) if params.contours_as is ContourForm.FLAT else shown)
        elif isinstance(each, Tin) and params.bands is not None:
            out += of_bands(each, params.bands.in_unit(each.frame.vertical, "bands"))
        elif isinstance(each, Areas):
            out.append(_in_plane(each) if params.areas_as is AreaForm.HATCH else each.as_lines())
        else:
            out.append(each)
    plan = _plan(out, params)
    return [_on_layers(each, plan) if isinstance(each, PointSet) else each for each in out]


def _sloped(areas: Areas) -> bool:
    known = ~areas.without_heights()
    return bool((known & (level_of(areas) == 0.0)).any())


def _in_plane(areas: Areas) -> Areas:
    """Return areas with the one height in which each is hatched; none where that is 0."""
    level = level_of(areas)
    each = np.where(level == 0.0, np.nan, level)[np.repeat(areas.area_of_ring(), np.diff(areas.offsets))]
    return dataclasses.replace(areas, vertices=np.column_stack((areas.vertices[:, :2], each)))


def _own_layers(points: PointSet) -> tuple[list[str], NDArray[np.int64]] | None:
    """Return the names of points' layers, and each point's number among them; None where they have none of their own."""
    values = points.attributes.get(LAYER)
    if values is None or values.ndim != 1:
        return None
    names, number = np.unique(np.array([plain(each) or "POINT" for each in values.tolist()]), return_inverse=True)
    return names.tolist(), number.ravel()


def _on_layers(points: PointSet, plan: _Plan) -> PointSet:
    """Return points, layer by layer, with their layers called as they will be in the drawing."""
    own = _own_layers(points)
    if own is None:
        return points
    called = np.array([plan.layer(name, "POINT").name.encode() for name in own[0]])
    named = dataclasses.replace(points, attributes={**points.attributes, LAYER: called[own[1]]})
    return named.chosen(np.argsort(own[1], kind="stable"))


def renamed(names: Sequence[str], params: DxfWriteParams) -> dict[str, str]:
    """Return what attributes are called; the layer is none that could be called otherwise."""
    return {name: "" if name.lower() == LAYER else name for name in names}


def _flattened(contours: Contours) -> Contours:
    return dataclasses.replace(contours, levels=np.zeros(len(contours.levels)))


def shift_of(params: DxfWriteParams) -> Place:
    """Return what is taken from every coordinate."""
    return params.shift.said


@dataclass(slots=True)
class _Plan:
    """What goes onto which layers."""

    params: DxfWriteParams
    alone: bool
    tall: float
    bands: list[str]
    # What layers are called in the drawing, by the names that were wished.
    names: dict[str, str] = field(default_factory=dict)

    def layer(self, purpose: str, usual: str = "") -> Layer:
        own = layer_of(purpose, self.params.layers, usual)
        return dataclasses.replace(own, name=self.names.get(own.name, own.name))


def _plan(datasets: Sequence[Dataset], params: DxfWriteParams, tall: float = 0.0) -> _Plan:
    bands = [each.name for each in of_kind(datasets, Tin)] if params.bands is not None else []
    alone = max(len(of_kind(datasets, Tin)) + len(of_kind(datasets, Mesh)), len(of_kind(datasets, PointSet))) < 2
    plan = _Plan(params, alone, tall, bands)
    wished = [layer.name for each in datasets for layer in _layers(each, plan)]
    wished += [plan.layer(name, "BAND").name for name in bands]
    wished += [plan.layer(purpose).name for purpose in ("LEGEND", "SPOT_HEIGHT")]
    plan.names = layer_names([*wished, _NOTE], params.version)
    return plan


def write(datasets: Sequence[Dataset], path: Path, params: DxfWriteParams, progress: Progress) -> None:
    """Write a drawing; see `FORMAT`."""
    import ezdxf  # here, not above: half a second that only drawings should cost

    # The library remarks on standard error what the report says already.
    logging.getLogger("ezdxf").setLevel(logging.ERROR)
    document = ezdxf.new(params.version.value, setup=False)
    unit = next((each.frame.horizontal for each in datasets if each.frame.horizontal), None)
    if not params.version.old:
        document.header["$INSUNITS"] = _CODE_OF.get(unit, 0) if unit else 0
        document.header["$MEASUREMENT"] = 0 if unit in (Unit.FOOT, Unit.US_FOOT, Unit.INCH) else 1
    shift = shift_of(params)
    low, high = _corners(datasets)
    tall = params.text_height.in_unit(unit, "text_height") if params.text_height else max(high[0] - low[0], 1.0) / 400.0
    plan = _plan(datasets, params, tall)
    bands = plan.bands
    colours = colours_of(bands)
    for each in datasets:
        for layer in _layers(each, plan):
            _add_layer(document, layer, params.version)
    for k, name in enumerate(bands):
        _add_layer(document, Layer(plan.layer(name, "BAND").name, colours[k][0], colours[k][1]), params.version)
    if bands:
        _add_layer(document, plan.layer("LEGEND"), params.version)
    if params.points_as is Points.BLOCKS and of_kind(datasets, PointSet):
        define_block(document, tall, plan.layer("SPOT_HEIGHT").name)
        _add_layer(document, plan.layer("SPOT_HEIGHT"), params.version)
    if bands:
        legend(
            document,
            bands,
            colours,
            plan.layer("LEGEND").name,
            (high[0] - shift[0], high[1] - shift[1]),
            tall * 2.0,
            params.version,
        )
    _say_shift(document, shift, low, tall)
    _say_place(document, low - shift, high - shift)
    document.header["$LASTSAVEDBY"] = "Vast Grid"
    first = int(str(document.entitydb.handles), 16)
    used = _handle_count(datasets, params)
    document.entitydb.handles.reset(f"{first + used + 16:X}")
    text = io.StringIO()
    document.write(text)
    before, after = _around_entities(text.getvalue())
    with path.open("wb") as file:
        file.write(f"999\n{told(shift, unit)}\n".encode())
        file.write(encoded(before, params.version))
        pen = Pen(file, params.version, params.decimals, document.modelspace().block_record_handle or "0", first, shift)
        for k, each in enumerate(datasets):
            part = progress.part(k / len(datasets), (k + 1) / len(datasets))
            _write_dataset(each, pen, plan, part)
        file.write(encoded(after, params.version))


def _add_layer(document: Any, layer: Layer, version: Version) -> None:
    if document.layers.has_entry(layer.name):
        return
    own = document.layers.add(layer.name, color=layer.colour)
    if layer.rgb >= 0 and version.true_colours:
        own.rgb = (layer.rgb >> 16 & 255, layer.rgb >> 8 & 255, layer.rgb & 255)


def _say_place(document: Any, low: Any, high: Any) -> None:
    """Say where the drawing's content lies, as extents, as limits and as the view that it opens with."""
    space = document.modelspace()
    space.reset_extents(tuple(low.tolist()), tuple(high.tolist()))
    space.reset_limits(tuple(low[:2].tolist()), tuple(high[:2].tolist()))
    document.header["$EXTMIN"], document.header["$EXTMAX"] = tuple(low.tolist()), tuple(high.tolist())
    document.header["$LIMMIN"], document.header["$LIMMAX"] = tuple(low[:2].tolist()), tuple(high[:2].tolist())
    middle = ((low + high) / 2.0)[:2]
    document.set_modelspace_vport(
        1.05 * max(high[1] - low[1], (high[0] - low[0]) / 1.5, 1e-6),
        tuple(middle.tolist()),
        dxfattribs={"aspect_ratio": 1.5},
    )


def _say_shift(document: Any, shift: Place, low: Any, tall: float) -> None:
    """Write a shift where a person will see it."""
    if shift == NOWHERE:
        return
    words = f"Coordinates are shifted: add E {shift[0]:.10g}, N {shift[1]:.10g}, Z {shift[2]:.10g}"
    document.layers.add(_NOTE, color=7)
    place = (float(low[0] - shift[0]), float(low[1] - shift[1]) - 3.0 * tall)
    document.modelspace().add_text(words, height=tall, dxfattribs={"layer": _NOTE, "insert": place})


def _around_entities(text: str) -> tuple[str, str]:
    """Return a drawing's text before the end of its entities, and from there on."""
    start = text.index("\nENTITIES\n")
    end = re.compile(r" *0\nENDSEC\n").search(text, start)
    assert end is not None
    return text[: end.start()], text[end.start() :]


def _corners(datasets: Sequence[Dataset]) -> tuple[Any, Any]:
    extents = [each.extent() for each in datasets]
    found = []
    for pick, choose in ((0, min), (1, max)):
        pairs = [[getattr(each, axis) for each in extents] for axis in ("east", "north", "elevation")]
        found.append(np.array([choose((pair[pick] for pair in own if pair), default=0.0) for own in pairs]))
    return found[0], found[1]


def _handle_count(datasets: Sequence[Dataset], params: DxfWriteParams) -> int:
    """Return at most how many handles everything takes."""
    number = 0
    for each in datasets:
        if isinstance(each, Tin | Mesh):
            number += count_handles(params.faces, each.vertices, each.triangles)
        elif isinstance(each, PointSet):
            number += handles(each, params.points_as)
        else:
            counts = each.count()
            number += counts.get("areas", 0)
            number += 2 * counts.get("lines", counts.get("records", 0)) + counts.get("vertices", 0)
            number += sum(len(contours.labels.get("level", ())) for contours in of_kind([each], Contours))
    return number


@singledispatch
def _layers(dataset: Dataset, plan: _Plan) -> list[Layer]:
    """Return the layers that a dataset goes to; points and surfaces keep apart by them where there are several."""
    if isinstance(dataset, PointSet) and (own := _own_layers(dataset)) is not None:
        return [plan.layer(name, "POINT") for name in own[0]]
    purpose = "SPOT_HEIGHT" if plan.params.points_as is Points.BLOCKS else "POINT"
    return [plan.layer(purpose if plan.alone else f"{purpose} {dataset.name}", purpose)]


@_layers.register(Tin)
@_layers.register(Mesh)
def _layers_of_faces(tin: Tin | Mesh, plan: _Plan) -> list[Layer]:
    if plan.bands and isinstance(tin, Tin):
        return []
    # Several surfaces keep apart by their layers; on one layer they would be one, lying over itself.
    return [plan.layer("TIN" if plan.alone else f"TIN {tin.name}", "TIN")]


@_layers.register
def _layers_of_contours(contours: Contours, plan: _Plan) -> list[Layer]:
    own = [plan.layer(_CONTOURS[name]) for name, _ in contours.groups()]
    return own + [plan.layer("CONTOUR_LABEL")] * bool(contours.labels)


@_layers.register(Linework)
@_layers.register(Areas)
def _layers_of_lines(lines: Linework | Areas, plan: _Plan) -> list[Layer]:
    return [plan.layer(name) for name in lines.layers]


@_layers.register
def _layers_of_records(survey: Survey, plan: _Plan) -> list[Layer]:
    return [plan.layer(_RECORDS.get(role, role.upper())) for role in dict.fromkeys(survey.roles)]


@singledispatch
def _write_dataset(dataset: Dataset, pen: Pen, plan: _Plan, progress: Progress) -> None:
    raise TypeError(f"{dataset.title} goes into no drawing")


@_write_dataset.register(Tin)
@_write_dataset.register(Mesh)
def _write_faces(tin: Tin | Mesh, pen: Pen, plan: _Plan, progress: Progress) -> None:
    name = plan.layer(tin.name, "BAND").name if plan.bands and isinstance(tin, Tin) else _layers(tin, plan)[0].name
    write_surface(pen, plan.params.faces, tin.vertices, tin.triangles, name, progress)


@_write_dataset.register
def _write_contours(contours: Contours, pen: Pen, plan: _Plan, progress: Progress) -> None:
    layers = [(plan.layer(_CONTOURS[name]).name, mine) for name, mine in contours.groups()]
    if plan.params.contours_as is ContourForm.SPATIAL:
        write_spatial(pen, contours.coordinates(), contours.offsets, contours.closed(), layers, progress)
    else:
        write_flat(pen, contours.plan, contours.offsets, contours.closed(), contours.levels, layers, progress)
    flat = plan.params.contours_as is ContourForm.FLAT
    write_labels(pen, contours, plan.layer("CONTOUR_LABEL").name, on_ground=not flat)


@_write_dataset.register
def _write_linework(lines: Linework, pen: Pen, plan: _Plan, progress: Progress) -> None:
    layers = [(plan.layer(name).name, lines.layer == k) for k, name in enumerate(lines.layers)]
    # A line without heights is drawn in plan; the drawing has no way to say that its elevation is unknown.
    flat = lines.without_heights()
    closed = lines.closed()
    spatial = [(name, mine & ~flat) for name, mine in layers]
    write_spatial(pen, lines.vertices, lines.offsets, closed, spatial, progress)
    in_plan = [(name, mine & flat) for name, mine in layers]
    write_flat(pen, lines.vertices[:, :2], lines.offsets, closed, np.full(len(lines), pen.shift[2]), in_plan, progress)


@_write_dataset.register
def _write_areas(areas: Areas, pen: Pen, plan: _Plan, progress: Progress) -> None:
    write_hatches(pen, areas, [plan.layer(name).name for name in areas.layers], progress)


@_write_dataset.register
def _write_points(points: PointSet, pen: Pen, plan: _Plan, progress: Progress) -> None:
    layers, own = _layers(points, plan), _own_layers(points)
    for k, layer in enumerate(layers):
        part = points if own is None else points.chosen(np.flatnonzero(own[1] == k))
        write_points(pen, part, plan.params.points_as, layer.name, plan.tall)


@_write_dataset.register
def _write_records(survey: Survey, pen: Pen, plan: _Plan, progress: Progress) -> None:
    """Write lines and arcs as polylines with bulges; spirals, and what has no elements, as it is drawn."""
    for record in survey.records():
        layer = plan.layer(_RECORDS.get(record.role, record.role.upper())).name
        geometry = record.exact.get("geometry")
        if isinstance(geometry, list) and write_curve(pen, geometry, layer):
            continue
        line, offsets = record.line, np.array([0, len(record.line)], np.int64)
        if len(line) < 2:
            continue
        none, every = np.zeros(1, np.bool_), [(layer, np.ones(1, np.bool_))]
        if np.isfinite(line[:, 2]).all():
            write_spatial(pen, line, offsets, none, every, progress)
        else:
            write_flat(pen, line[:, :2], offsets, none, np.full(1, pen.shift[2]), every, progress)
