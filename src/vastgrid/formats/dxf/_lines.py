"""Lines in a drawing: contours in space, in plan or flattened, polylines, labels, and curves of records."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.linework import Contours
from vastgrid.formats.dxf._pen import Pen

Layers = list[tuple[str, NDArray[np.bool_]]]


def write_labels(pen: Pen, contours: Contours, layer: str, *, on_ground: bool) -> None:
    """Write labels as texts about their middle, at the elevation of their level."""
    if not contours.labels or not len(contours.labels["level"]):
        return
    labels, tall = contours.labels, contours.label_height
    angle = np.degrees(labels["angle"]) % 360.0
    # A text's first point is where its line of letters begins; readers that know no alignment use it.
    way = np.column_stack((np.cos(labels["angle"]), np.sin(labels["angle"])))
    up = np.column_stack((-way[:, 1], way[:, 0]))
    place = pen.moved(labels["place"])
    start = place - 0.5 * labels["wide"][:, None] * way - 0.5 * tall * up
    z = labels["level"] - pen.shift[2] if on_ground else np.zeros(len(start))
    head, slots = pen.head("TEXT", layer, "AcDbText")
    tail = "73\n2\n" if pen.old else "100\nAcDbText\n73\n2\n"
    digits = pen.decimals
    numbers = pen.handles(len(start))[0].tolist() if slots else [None] * len(start)
    rows = zip(numbers, contours.texts(), start.tolist(), place.tolist(), z.tolist(), angle.tolist(), strict=True)
    for number, text, (x, y), (east, north), level, turn in rows:
        begin = head.format(f"{number:X}") if slots else head
        first = f"10\n{x:.{digits}f}\n20\n{y:.{digits}f}\n30\n{level:.{digits}f}\n40\n{tall:.{digits}f}\n1\n{text}\n"
        middle = f"11\n{east:.{digits}f}\n21\n{north:.{digits}f}\n31\n{level:.{digits}f}\n"
        pen.file.write(pen.text(f"{begin}{first}50\n{turn:.4f}\n72\n1\n{middle}{tail}"))


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


def write_flat(
    pen: Pen,
    plan: Floats,
    offsets: NDArray[np.int64],
    closed: NDArray[np.bool_],
    levels: Floats,
    layers: Layers,
    progress: Progress,
) -> None:
    """Write polylines in plan, each with one elevation."""
    if pen.old:
        xyz = np.column_stack((plan, np.repeat(levels, np.diff(offsets))))
        write_spatial(pen, xyz, offsets, closed, layers, progress, levels)
        return
    decimals = pen.decimals
    moved, up = pen.moved(plan), levels - pen.shift[2]
    for layer, lines, rows, sizes in _by_layer(layers, offsets, closed):
        head, slots = pen.head("LWPOLYLINE", layer, "AcDbPolyline")
        template = pen.template(head + "90\n{}\n70\n{}\n38\n{}\n", (*slots, 0, 0, decimals))
        shut = closed[lines].astype(np.int64)
        heads = template.rows([*pen.handles(len(lines)), sizes, shut, up[lines]])
        vertices = pen.template("10\n{}\n20\n{}\n", (decimals, decimals)).rows(list(moved[rows].T))
        _interleave(pen.file, heads, vertices, sizes.tolist(), [b""])
        progress.report(0.5, "writing lines")


def _by_layer(
    layers: Layers, offsets: NDArray[np.int64], closed: NDArray[np.bool_]
) -> Iterator[tuple[str, NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]]:
    """Yield each layer with its lines, the rows of their vertices, and how many each has; a closed line's last is its first."""
    for layer, mine in layers:
        lines = np.flatnonzero(mine)
        if len(lines) == 0:
            continue
        sizes = (np.diff(offsets) - closed)[lines]
        ends = np.cumsum(sizes)
        rows = np.arange(ends[-1]) - np.repeat(ends - sizes, sizes) + np.repeat(offsets[:-1][lines], sizes)
        yield layer, lines, rows, sizes


def write_spatial(
    pen: Pen,
    xyz: Floats,
    offsets: NDArray[np.int64],
    closed: NDArray[np.bool_],
    layers: Layers,
    progress: Progress,
    levels: Floats | None = None,
) -> None:
    """Write polylines in space; or, with `levels`, polylines in plan with an elevation, the R12 way."""
    decimals = pen.decimals
    flag = 0 if levels is not None else 8
    mark = 0 if levels is not None else 32
    moved = pen.moved(xyz)
    for layer, lines, rows, sizes in _by_layer(layers, offsets, closed):
        head, slots = pen.head("POLYLINE", layer, "AcDb3dPolyline")
        template = pen.template(head + "66\n1\n10\n0.0\n20\n0.0\n30\n{}\n70\n{}\n", (*slots, decimals, 0))
        flags = closed[lines] * 1 + flag
        heights = levels[lines] - pen.shift[2] if levels is not None else np.zeros(len(lines))
        heads = template.rows([*pen.handles(len(lines)), heights, flags])
        head, slots = pen.head("VERTEX", layer, "AcDbVertex\n100\nAcDb3dPolylineVertex")
        template = pen.template(f"{head}10\n{{}}\n20\n{{}}\n30\n{{}}\n70\n{mark}\n", (*slots, *(decimals,) * 3))
        vertices = template.rows([*pen.handles(len(rows)), *moved[rows].T])
        head, slots = pen.head("SEQEND", layer, "")
        if pen.old:
            tail = [pen.text(head)]
        else:
            text, ends = pen.template(head, slots).rows(pen.handles(len(lines)))
            tail = [bytes(text[a:b]) for a, b in zip([0, *ends[:-1]], ends, strict=True)]
            tail = [*tail, b""] if len(tail) == 1 else tail
        _interleave(pen.file, heads, vertices, sizes.tolist(), tail)
        progress.report(0.5, "writing lines")


def write_curve(pen: Pen, elements: list[dict[str, Any]], layer: str) -> bool:
    """Write straight lines and arcs of a record as one polyline with bulges; say whether that could be done.

    A bulge is the tangent of a quarter of the arc's angle, positive to the left (DXF reference, LWPOLYLINE, group 42).
    """
    places: list[tuple[float, float]] = []
    bulges: list[float] = []
    for each in elements:
        if each.get("kind") not in ("line", "curve") or "start" not in each or "end" not in each:
            return False
        start, end = each["start"][:2], each["end"][:2]
        if places and math.dist(places[-1], start) > 1e-6 * max(1.0, abs(start[0]), abs(start[1])):
            return False
        if not places:
            places.append((start[0], start[1]))
        bulges.append(_bulge(each) if each["kind"] == "curve" else 0.0)
        places.append((end[0], end[1]))
    if len(places) < 2:
        return False
    bulges.append(0.0)
    moved = pen.moved(np.array(places)).tolist()
    digits = pen.decimals
    if pen.old:
        head, _ = pen.head("POLYLINE", layer, "")
        rows = [f"{head}66\n1\n10\n0.0\n20\n0.0\n30\n0.0\n70\n0\n"]
        head, _ = pen.head("VERTEX", layer, "")
        rows += [
            f"{head}10\n{x:.{digits}f}\n20\n{y:.{digits}f}\n30\n0.0\n42\n{bulge:.12f}\n"
            for (x, y), bulge in zip(moved, bulges, strict=True)
        ]
        rows.append(pen.head("SEQEND", layer, "")[0])
    else:
        head, _ = pen.head("LWPOLYLINE", layer, "AcDbPolyline")
        rows = [f"{head.format(pen.one())}90\n{len(moved)}\n70\n0\n38\n0.0\n"]
        rows += [
            f"10\n{x:.{digits}f}\n20\n{y:.{digits}f}\n42\n{bulge:.12f}\n"
            for (x, y), bulge in zip(moved, bulges, strict=True)
        ]
    pen.file.write(pen.text("".join(rows)))
    return True


def _bulge(arc: dict[str, Any]) -> float:
    """Return an arc's bulge by its ends, its centre and the way it turns."""
    centre, start, end = arc["centre"], arc["start"], arc["end"]
    first = math.atan2(start[1] - centre[1], start[0] - centre[0])
    last = math.atan2(end[1] - centre[1], end[0] - centre[0])
    turn = (last - first) % (2.0 * math.pi)
    if arc.get("rot", "ccw") == "cw":
        turn -= 2.0 * math.pi
    return math.tan(turn / 4.0)
