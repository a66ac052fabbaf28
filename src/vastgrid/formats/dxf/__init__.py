"""DXF drawings: faces, lines, curves, points, texts and blocks in; written as R2018 or R12."""

from __future__ import annotations

import re
from pathlib import Path

from vastgrid.formats.dxf._collect import Drawing
from vastgrid.formats.dxf._read import DxfReadParams, as_it_is, open_drawing, read
from vastgrid.formats.dxf._write import DxfWriteParams, Version, write
from vastgrid.terrain.fileformat import Carries, Format
from vastgrid.terrain.linework import Contours, Linework
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.tin import Tin

__all__ = ["FORMAT", "Drawing", "DxfReadParams", "DxfWriteParams", "as_it_is", "open_drawing", "read", "write"]


def sniff(head: bytes, path: Path) -> int:
    """A drawing begins with a section, or with comments before one."""
    if b"Binary DXF\r\n\x1a\0" in head[:32]:
        return 100
    start = re.match(rb"(\s*999\s*\n[^\n]*\n)*\s*0\s*\n\s*SECTION\s*\n", head)
    return 100 if start else (30 if path.suffix.lower() == ".dxf" else 0)


_KINDS = (Tin, Contours, Linework, PointSet)


def _carries(params: DxfWriteParams) -> Carries:
    return Carries(kinds=_KINDS, several=True, units="none" if params.version is Version.R12 else "one")


FORMAT = Format(
    id="dxf",
    title="DXF drawing",
    suffixes=(".dxf",),
    sniff=sniff,
    carries=Carries(kinds=_KINDS, several=True, units="one"),
    read=read,
    write=write,
    read_params=DxfReadParams,
    write_params=DxfWriteParams,
    carries_as=_carries,
)
