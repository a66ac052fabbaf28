"""Writing drawings of two editions, entities streamed as text."""

from __future__ import annotations

import io
import logging
import re
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from functools import singledispatch
from pathlib import Path
from typing import Annotated, Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.kernels.textrows import HEX, RowTemplate
from vastgrid.params.declare import Param

# $INSUNITS by the DXF reference.
_CODE_OF = {Unit.INCH: 1, Unit.FOOT: 2, Unit.MILLIMETRE: 4, Unit.METRE: 6, Unit.US_FOOT: 21}


class Version(Enum):
    """Edition of the DXF reference."""

    R2018 = "R2018"
    R12 = "R12"


class ContourForm(Enum):
    """How a contour is drawn."""

    FLAT = "2d"
    SPATIAL = "3d"


@dataclass(frozen=True)
class DxfWriteParams:
    """How a drawing is written."""

    version: Annotated[Version, Param("Edition", "R2018, or R12 for old readers (which keeps no units).")] = (
        Version.R2018
    )
    contours_as: Annotated[
        ContourForm, Param("Contours as", "2d: polylines with an elevation; 3d: polylines in space.")
    ] = ContourForm.FLAT
    decimals: Annotated[int, Param("Decimals", "Decimals of every coordinate.", least=0, most=9)] = 4


# Colour numbers of the drawing standard: brown for index contours, sand for the others, green faces, grey points.
_LAYERS = {"TIN": 94, "CONTOUR": 44, "CONTOUR_INDEX": 36, "CONTOUR_SUPPLEMENTARY": 54, "CONTOUR_LABEL": 36, "POINT": 8}
_CONTOURS = {
    "Contours": "CONTOUR",
    "Index contours": "CONTOUR_INDEX",
    "Supplementary contours": "CONTOUR_SUPPLEMENTARY",
}
_LINE_COLOUR = 30


@dataclass(slots=True)
class _Pen:
    """Writes entities of one edition, numbering handles."""

    file: BinaryIO
    params: DxfWriteParams
    owner: str
    handle: int

    @property
    def old(self) -> bool:
        return self.params.version is Version.R12

    def head(self, kind: str, layer: str, sub: str) -> tuple[str, tuple[int, ...]]:
        """Return the beginning of an entity's template, and the decimals of its slots."""
        if self.old:
            return f"0\n{kind}\n8\n{layer}\n", ()
        return f"0\n{kind}\n5\n{{}}\n330\n{self.owner}\n100\nAcDbEntity\n8\n{layer}\n100\n{sub}\n", (HEX,)

    def handles(self, number: int) -> list[NDArray[Any]]:
        """Return the column of handles, where the edition has them."""
        if self.old:
            return []
        own = np.arange(self.handle, self.handle + number)
        self.handle += number
        return [own]


def write(datasets: Sequence[Dataset], path: Path, params: DxfWriteParams, progress: Progress) -> None:
    """Write a drawing; see `FORMAT`."""
    import ezdxf  # here, not above: half a second that only drawings should cost

    # The library remarks on standard error what the report says already.
    logging.getLogger("ezdxf").setLevel(logging.ERROR)
    document = ezdxf.new(params.version.value, setup=False)
    unit = next((each.frame.horizontal for each in datasets if each.frame.horizontal), None)
    if params.version is not Version.R12:
        document.header["$INSUNITS"] = _CODE_OF.get(unit, 0) if unit else 0
        document.header["$MEASUREMENT"] = 0 if unit in (Unit.FOOT, Unit.US_FOOT, Unit.INCH) else 1
    alone = max(len(of_kind(datasets, Tin)), len(of_kind(datasets, PointSet))) < 2
    names = {
        name: _LAYERS.get(name, _LAYERS["TIN"] if each.kind == Tin.kind else _LINE_COLOUR)
        for each in datasets
        for name in _layer_names(each, params.version, alone=alone)
    }
    for name, colour in names.items():
        if not document.layers.has_entry(name):
            document.layers.add(name, color=colour)
    _set_extents(document, datasets)
    first = int(str(document.entitydb.handles), 16)
    used = _handle_count(datasets)
    document.entitydb.handles.reset(f"{first + used + 16:X}")
    text = io.StringIO()
    document.write(text)
    code = "utf-8" if params.version is not Version.R12 else "cp1252"
    before, after = _around_entities(text.getvalue())
    with path.open("wb") as file:
        file.write(before.encode(code, "replace"))
        pen = _Pen(file, params, document.modelspace().block_record_handle or "0", first)
        for k, each in enumerate(datasets):
            part = progress.part(k / len(datasets), (k + 1) / len(datasets))
            _write_dataset(each, pen, part, _layer_names(each, params.version, alone=alone))
        file.write(after.encode(code, "replace"))


def _around_entities(text: str) -> tuple[str, str]:
    start = text.index("\nENTITIES\n") + len("\nENTITIES\n")
    end = re.compile(r" *0\nENDSEC\n").search(text, start)
    assert end is not None
    return text[: end.start()], text[end.start() :]


def _set_extents(document: Any, datasets: Sequence[Dataset]) -> None:
    extents = [each.extent() for each in datasets]
    for name, pick in (("$EXTMIN", 0), ("$EXTMAX", 1)):
        choose = min if pick == 0 else max
        values = [
            choose((getattr(e, axis)[pick] for e in extents if getattr(e, axis)), default=0.0)
            for axis in ("east", "north", "elevation")
        ]
        document.header[name] = tuple(values)


def _handle_count(datasets: Sequence[Dataset]) -> int:
    number = 0
    for each in datasets:
        counts = each.count()
        number += counts.get("triangles", 0) + counts.get("points", 0)
        number += sum(len(contours.labels.get("level", ())) for contours in of_kind([each], Contours))
        if "triangles" not in counts:
            number += 2 * counts.get("lines", 0) + counts.get("vertices", 0)
    return number


def layer_name(name: str, version: Version) -> str:
    """Return a layer name that the edition allows."""
    if version is Version.R12:
        name = re.sub(r"[^A-Z0-9$_-]", "_", name.upper().encode("ascii", "replace").decode())[:31]
    else:
        name = re.sub(r'[<>/\\":;?*|=`,\x00-\x1f]', "_", name)[:255]
    return name or "0"


@singledispatch
def _layer_names(dataset: Dataset, version: Version, *, alone: bool) -> list[str]:
    """Return the layers that a dataset goes to; points and surfaces keep apart by them where there are several."""
    return ["POINT"] if alone else [layer_name(f"POINT {dataset.name}", version)]


@_layer_names.register
def _layers_of_tin(tin: Tin, version: Version, *, alone: bool) -> list[str]:
    # Several surfaces keep apart by their layers; on one layer they would be one, lying over itself.
    return ["TIN"] if alone else [layer_name(f"TIN {tin.name}", version)]


@_layer_names.register
def _layers_of_contours(contours: Contours, version: Version, *, alone: bool) -> list[str]:
    own = [_CONTOURS[name] for name, _ in contours.groups()]
    return own + ["CONTOUR_LABEL"] * bool(contours.labels)


@_layer_names.register
def _layers_of_lines(lines: Linework, version: Version, *, alone: bool) -> list[str]:
    return [layer_name(name, version) for name in lines.layers]


@singledispatch
def _write_dataset(dataset: Dataset, pen: _Pen, progress: Progress, names: list[str]) -> None:
    raise TypeError(f"{dataset.title} goes into no drawing")


@_write_dataset.register
def _write_tin(tin: Tin, pen: _Pen, progress: Progress, names: list[str]) -> None:
    _write_faces(pen, tin, progress, names[0])


@_write_dataset.register
def _write_contours(contours: Contours, pen: _Pen, progress: Progress, names: list[str]) -> None:
    layers = [(_CONTOURS[name], mine) for name, mine in contours.groups()]
    if pen.params.contours_as is ContourForm.FLAT:
        _write_flat(pen, contours.plan, contours.offsets, contours.closed(), contours.levels, layers, progress)
    else:
        _write_spatial(pen, contours.coordinates(), contours.offsets, contours.closed(), layers, progress)
    _write_labels(pen, contours)


def _write_labels(pen: _Pen, contours: Contours) -> None:
    """Write labels as texts about their middle, at the elevation of their level."""
    if not contours.labels or not len(contours.labels["level"]):
        return
    labels, tall = contours.labels, contours.label_height
    angle = np.degrees(labels["angle"]) % 360.0
    # A text's first point is where its line of letters begins; readers that know no alignment use it.
    way = np.column_stack((np.cos(labels["angle"]), np.sin(labels["angle"])))
    up = np.column_stack((-way[:, 1], way[:, 0]))
    start = labels["place"] - 0.5 * labels["wide"][:, None] * way - 0.5 * tall * up
    head, slots = pen.head("TEXT", "CONTOUR_LABEL", "AcDbText")
    tail = "73\n2\n" if pen.old else "100\nAcDbText\n73\n2\n"
    digits = pen.params.decimals
    numbers = pen.handles(len(start))[0].tolist() if slots else [None] * len(start)
    rows = zip(numbers, contours.texts(), start, labels["place"], labels["level"], angle, strict=True)
    for number, text, (x, y), (east, north), level, turn in rows:
        begin = head.format(f"{number:X}") if slots else head
        first = f"10\n{x:.{digits}f}\n20\n{y:.{digits}f}\n30\n{level:.{digits}f}\n40\n{tall:.{digits}f}\n1\n{text}\n"
        middle = f"11\n{east:.{digits}f}\n21\n{north:.{digits}f}\n31\n{level:.{digits}f}\n"
        pen.file.write(f"{begin}{first}50\n{turn:.4f}\n72\n1\n{middle}{tail}".encode())


@_write_dataset.register
def _write_linework(lines: Linework, pen: _Pen, progress: Progress, names: list[str]) -> None:
    layers = [(layer_name(name, pen.params.version), lines.layer == k) for k, name in enumerate(lines.layers)]
    # A line without heights is drawn in plan; the drawing has no way to say that its elevation is unknown.
    flat = lines.without_heights()
    closed = lines.closed()
    spatial = [(name, mine & ~flat) for name, mine in layers]
    _write_spatial(pen, lines.vertices, lines.offsets, closed, spatial, progress)
    plan = [(name, mine & flat) for name, mine in layers]
    _write_flat(pen, lines.vertices[:, :2], lines.offsets, closed, np.zeros(len(lines)), plan, progress)


@_write_dataset.register
def _write_points(dataset: PointSet, pen: _Pen, progress: Progress, names: list[str]) -> None:
    head, slots = pen.head("POINT", names[0], "AcDbPoint")
    template = RowTemplate(head + "10\n{}\n20\n{}\n30\n{}\n", (*slots, *(pen.params.decimals,) * 3))
    columns = [*pen.handles(len(dataset.xyz)), *dataset.xyz.T]
    for block in template.blocks(columns):
        pen.file.write(block)


def _write_faces(pen: _Pen, tin: Tin, progress: Progress, layer: str) -> None:
    head, slots = pen.head("3DFACE", layer, "AcDbFace")
    body = "".join(f"{10 * axis + corner}\n{{}}\n" for corner in range(4) for axis in (1, 2, 3))
    template = RowTemplate(head + body, (*slots, *(pen.params.decimals,) * 12))
    count_ = len(tin.triangles)
    handles = pen.handles(count_)
    step = 100_000
    for start in range(0, count_, step):
        corner = tin.vertices[tin.triangles[start : start + step]][:, [0, 1, 2, 2]].reshape(-1, 12)
        for block in template.blocks([*(each[start : start + step] for each in handles), *corner.T]):
            pen.file.write(block)
        progress.report(min((start + step) / count_, 1.0), "writing faces")


def _interleave(
    file: BinaryIO,
    heads: tuple[memoryview, list[int]],
    rows: tuple[memoryview, list[int]],
    sizes: list[int],
    tail: list[bytes],
) -> None:
    """Write each line's head, its vertices and its tail."""
    head_text, head_ends = heads
    row_text, row_ends = rows
    at = head_from = row_from = 0
    out = bytearray()
    for k, size in enumerate(sizes):
        out += head_text[head_from : head_ends[k]]
        head_from = head_ends[k]
        at += size
        stop = row_ends[at - 1] if at else 0
        out += row_text[row_from:stop]
        row_from = stop
        out += tail[k] if len(tail) > 1 else tail[0]
        if len(out) > 1 << 22:
            file.write(out)
            out.clear()
    file.write(out)


def _write_flat(
    pen: _Pen,
    plan: Floats,
    offsets: NDArray[np.int64],
    closed: NDArray[np.bool_],
    levels: Floats,
    layers: list[tuple[str, NDArray[np.bool_]]],
    progress: Progress,
) -> None:
    """Write polylines in plan, each with one elevation."""
    decimals = pen.params.decimals
    if pen.old:
        xyz = np.column_stack((plan, np.repeat(levels, np.diff(offsets))))
        _write_spatial(pen, xyz, offsets, closed, layers, progress, levels)
        return
    for layer, mine in layers:
        lines = np.flatnonzero(mine)
        if len(lines) == 0:
            continue
        rows, sizes = _rows_of(offsets, closed, lines)
        head, slots = pen.head("LWPOLYLINE", layer, "AcDbPolyline")
        template = RowTemplate(head + "90\n{}\n70\n{}\n38\n{}\n", (*slots, 0, 0, decimals))
        shut = closed[lines].astype(np.int64)
        heads = template.rows([*pen.handles(len(lines)), sizes, shut, levels[lines]])
        vertices = RowTemplate("10\n{}\n20\n{}\n", (decimals, decimals)).rows(list(plan[rows].T))
        _interleave(pen.file, heads, vertices, sizes.tolist(), [b""])
        progress.report(0.5, "writing lines")


def _rows_of(
    offsets: NDArray[np.int64], closed: NDArray[np.bool_], lines: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    sizes = (np.diff(offsets) - closed)[lines]
    ends = np.cumsum(sizes)
    rows = (
        np.arange(ends[-1] if len(ends) else 0) - np.repeat(ends - sizes, sizes) + np.repeat(offsets[:-1][lines], sizes)
    )
    return rows, sizes


def _write_spatial(
    pen: _Pen,
    xyz: Floats,
    offsets: NDArray[np.int64],
    closed: NDArray[np.bool_],
    layers: list[tuple[str, NDArray[np.bool_]]],
    progress: Progress,
    levels: Floats | None = None,
) -> None:
    """Write polylines in space; or, with `levels`, polylines in plan with an elevation, the R12 way."""
    decimals = pen.params.decimals
    flag = 0 if levels is not None else 8
    mark = 0 if levels is not None else 32
    for layer, mine in layers:
        lines = np.flatnonzero(mine)
        if len(lines) == 0:
            continue
        rows, sizes = _rows_of(offsets, closed, lines)
        head, slots = pen.head("POLYLINE", layer, "AcDb3dPolyline")
        template = RowTemplate(head + "66\n1\n10\n0.0\n20\n0.0\n30\n{}\n70\n{}\n", (*slots, decimals, 0))
        flags = closed[lines] * 1 + flag
        heights = levels[lines] if levels is not None else np.zeros(len(lines))
        heads = template.rows([*pen.handles(len(lines)), heights, flags])
        head, slots = pen.head("VERTEX", layer, "AcDbVertex\n100\nAcDb3dPolylineVertex")
        template = RowTemplate(f"{head}10\n{{}}\n20\n{{}}\n30\n{{}}\n70\n{mark}\n", (*slots, *(decimals,) * 3))
        vertices = template.rows([*pen.handles(len(rows)), *xyz[rows].T])
        head, slots = pen.head("SEQEND", layer, "")
        if pen.old:
            tail = [head.encode()]
        else:
            head = head.removesuffix("100\n\n")
            text, ends = RowTemplate(head, slots).rows(pen.handles(len(lines)))
            tail = [bytes(text[a:b]) for a, b in zip([0, *ends[:-1]], ends, strict=True)]
            tail = [*tail, b""] if len(tail) == 1 else tail
        _interleave(pen.file, heads, vertices, sizes.tolist(), tail)
        progress.report(0.5, "writing lines")
