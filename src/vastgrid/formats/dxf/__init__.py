"""DXF drawings: faces, lines, curves, points, texts and blocks in; written as R2018 or R12."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Literal

from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import narrowed
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.formats.dxf._collect import Drawing
from vastgrid.formats.dxf._read import DxfReadParams, Hidden, as_it_is, open_drawing, read
from vastgrid.formats.dxf._write import DxfWriteParams, Version, write

__all__ = [
    "FORMAT",
    "Drawing",
    "DxfReadParams",
    "DxfWriteParams",
    "Hidden",
    "as_it_is",
    "open_drawing",
    "read",
    "write",
]


def sniff(head: bytes, path: Path) -> int:
    """A drawing begins with a section, or with comments before one."""
    if b"Binary DXF\r\n\x1a\0" in head[:32]:
        return 100
    start = re.match(rb"(\s*999\s*\n[^\n]*\n)*\s*0\s*\n\s*SECTION\s*\n", head)
    return 100 if start else (30 if path.suffix.lower() == ".dxf" else 0)


_KINDS = (Tin, Contours, Linework, PointSet)


def _carries(params: DxfWriteParams) -> Carries:
    units: Literal["none", "one"] = "none" if params.version is Version.R12 else "one"
    return Carries(kinds=_KINDS, several=True, units=units, step=10.0**-params.decimals, labels=True)


_faces_and_points = weighing(triangles=225, points=100)
_flat, _spatial = weighing(vertices=30, lines=110), weighing(vertices=138, lines=110)


def _weigh(dataset: Dataset) -> float:
    """Return about how many bytes a dataset takes: a vertex of a line in space is an entity of its own."""
    by_kind = {Contours.kind: _flat, Linework.kind: _spatial}
    labels = len(getattr(dataset, "labels", {}).get("level", ()))
    return by_kind.get(dataset.kind, _faces_and_points)(dataset) + 260.0 * labels


def _with_gaps(dataset: Dataset) -> Dataset:
    """Return contours as they are drawn, parted where labels stand in gaps of their lines."""
    return narrowed(dataset, Contours).with_gaps() if dataset.kind == Contours.kind else dataset


FORMAT = Format(
    id="dxf",
    title="DXF drawing",
    suffixes=(".dxf",),
    sniff=sniff,
    carries=Carries(kinds=_KINDS, several=True, units="one", labels=True),
    given=_with_gaps,
    weigh=_weigh,
    editor="rules",
    usual=2,
    read=read,
    write=write,
    read_params=DxfReadParams,
    write_params=DxfWriteParams,
    carries_as=_carries,
)
