"""DXF drawings: faces, lines, curves, points, texts and blocks in; R12 to R2018 out."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Sequence
from pathlib import Path

from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.formats.dxf._drawing import Drawing
from vastgrid.formats.dxf._pen import Version
from vastgrid.formats.dxf._read import DxfReadParams, Hidden, as_it_is, open_drawing, read
from vastgrid.formats.dxf._spots import Points
from vastgrid.formats.dxf._write import LAYER, DxfWriteParams, fits, given, renamed, says, write

__all__ = [
    "FORMAT",
    "Drawing",
    "DxfReadParams",
    "DxfWriteParams",
    "Hidden",
    "Version",
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


_KINDS = (Tin, Contours, Linework, Areas, PointSet, Survey, Mesh)


def _carries(params: DxfWriteParams) -> Carries:
    return dataclasses.replace(
        _CARRIES,
        worded=params.version.old,
        step=10.0**-params.decimals,
        attributes=("point", "code", LAYER) if params.points_as is Points.BLOCKS else (LAYER,),
    )


_faces_and_points = weighing(triangles=225, points=100)
_flat, _spatial = weighing(vertices=30, lines=110), weighing(vertices=138, lines=110)
_filled = weighing(vertices=30, rings=110)


def _weigh(dataset: Dataset) -> float:
    """Return about how many bytes a dataset takes: a vertex of a line in space is an entity of its own."""
    by_kind = {Contours.kind: _flat, Linework.kind: _spatial, Areas.kind: _filled}
    labels = len(getattr(dataset, "labels", {}).get("level", ()))
    return by_kind.get(dataset.kind, _faces_and_points)(dataset) + 260.0 * labels


# A larger drawing takes the library minutes; its tags are counted by our reader all the same.
_AUDITED = 30_000_000


def audit(path: Path) -> tuple[str, ...] | None:
    """Return what the drawing library's audit says against a drawing; None where it is too large to wait for."""
    if path.stat().st_size > _AUDITED:
        return None
    import ezdxf

    found = ezdxf.readfile(path).audit()
    return tuple(each.message for each in (*found.errors, *found.fixes))


def expected(datasets: Sequence[Dataset], params: DxfWriteParams) -> set[str]:
    """Return the findings of reading that only say what was drawn beside the terrain."""
    found = {"local-origin"} if params.shift.place is not None else set()
    if (
        any(each.labels for each in of_kind(datasets, Contours))
        or params.bands is not None
        or params.shift.place is not None
    ):
        found.add("texts-left-out")
    if params.points_as is Points.BLOCKS:
        found.add("texts-left-out")
    return found


_CARRIES = Carries(kinds=_KINDS, several=True, units="one", labels=True, roles=("alignment", "parcel", "plan feature"))
FORMAT = Format(
    id="dxf",
    title="DXF drawing",
    used_for="survey and CAD",
    suffixes=(".dxf",),
    sniff=sniff,
    carries=_CARRIES,
    given=given,
    says=says,
    fits=fits,
    audit=audit,
    expected=expected,
    renamed=renamed,
    weigh=_weigh,
    editor="rules",
    usual=2,
    read=read,
    write=write,
    read_params=DxfReadParams,
    write_params=DxfWriteParams,
    carries_as=_carries,
)
