"""Points in a drawing: points, or blocks with a mark and attributes for number, code and height."""

from __future__ import annotations

from enum import Enum
from typing import Any

import numpy as np

from vastgrid.base.words import plain
from vastgrid.data.pointset import PointSet
from vastgrid.formats.dxf._pen import Pen

BLOCK = "SPOT_HEIGHT"
# Attributes of the block, each with what of the points fills it and where it stands, in heights of its text.
ATTRIBUTES = (("NUMBER", "point", (1.0, 1.2)), ("CODE", "code", (1.0, -1.6)), ("HEIGHT", "", (1.0, -0.2)))


class Points(Enum):
    """What points become."""

    POINTS = "points"
    BLOCKS = "blocks"


def define_block(document: Any, tall: float, layer: str) -> None:
    """Put the block into a drawing: a point, and its attributes."""
    block = document.blocks.new(name=BLOCK)
    block.add_point((0, 0, 0), dxfattribs={"layer": layer})
    # The point itself is the mark, drawn as a cross: lines in the block would be read as lines of the ground.
    document.header["$PDMODE"] = 2
    document.header["$PDSIZE"] = 0.8 * tall
    for tag, _, (east, north) in ATTRIBUTES:
        block.add_attdef(tag, (east * tall, north * tall), height=tall, dxfattribs={"layer": layer, "prompt": tag})


def handles(points: PointSet, kind: Points) -> int:
    """Return how many handles points take."""
    return len(points.xyz) * (1 if kind is Points.POINTS else 2 + len(ATTRIBUTES))


def write_points(pen: Pen, points: PointSet, kind: Points, layer: str, tall: float) -> None:
    """Write points as what is asked for."""
    xyz = pen.moved(points.xyz)
    if kind is Points.POINTS:
        head, slots = pen.head("POINT", layer, "AcDbPoint")
        template = pen.template(head + "10\n{}\n20\n{}\n30\n{}\n", (*slots, *(pen.decimals,) * 3))
        for block in template.blocks([*pen.handles(len(xyz)), *xyz.T]):
            pen.file.write(block)
        return
    insert, _ = pen.head("INSERT", layer, "AcDbBlockReference")
    attribute, _ = pen.head("ATTRIB", layer, "AcDbText")
    ending, _ = pen.head("SEQEND", layer, "")
    texts = [_texts(points, source, pen.decimals) for _, source, _ in ATTRIBUTES]
    digits = pen.decimals
    out: list[str] = []
    for k, (x, y, z) in enumerate(xyz.tolist()):
        place = f"10\n{x:.{digits}f}\n20\n{y:.{digits}f}\n30\n{z:.{digits}f}\n"
        out.append(f"{_own(pen, insert)}66\n1\n2\n{BLOCK}\n{place}")
        for (tag, _, (east, north)), text in zip(ATTRIBUTES, texts, strict=True):
            at = f"10\n{x + east * tall:.{digits}f}\n20\n{y + north * tall:.{digits}f}\n30\n{z:.{digits}f}\n"
            mark = "" if pen.old else "100\nAcDbAttribute\n"
            out.append(f"{_own(pen, attribute)}{at}40\n{tall:.{digits}f}\n1\n{text[k]}\n{mark}2\n{tag}\n70\n0\n")
        out.append(_own(pen, ending))
        if len(out) > 50_000:
            pen.file.write(pen.text("".join(out)))
            out.clear()
    pen.file.write(pen.text("".join(out)))


def _own(pen: Pen, head: str) -> str:
    return head if pen.old else head.format(pen.one())


def _texts(points: PointSet, source: str, decimals: int) -> list[str]:
    if not source:
        return [f"{z:.{min(decimals, 3)}f}" for z in points.xyz[:, 2].tolist()]
    values = points.attributes.get(source)
    if values is None:
        return [""] * len(points.xyz) if source != "point" else [str(k + 1) for k in range(len(points.xyz))]
    words = [plain(each) for each in values.tolist()]
    # A line's end would end the text's tag.
    return [" ".join(np.char.split(np.array(word)).item()) if word else "" for word in words]
