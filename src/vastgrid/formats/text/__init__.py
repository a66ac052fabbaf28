"""Delimited or fixed-width text with a point on each line."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, ReadResult, rounding, weighing
from vastgrid.format_support.prj import frame_beside
from vastgrid.formats.text._heads import COORDINATES, ROLES, check_roles, parse_roles, roles_from_header
from vastgrid.formats.text._layout import (
    Delimiter,
    Form,
    Layout,
    TextReadParams,
    detect,
    load,
    parse_angle,
    prepared,
    sample_lines,
    split_line,
)
from vastgrid.formats.text._read import read as read_text
from vastgrid.formats.text._write import PLACED, TextWriteParams, write

__all__ = [
    "COORDINATES",
    "FORMAT",
    "ROLES",
    "Delimiter",
    "Form",
    "Layout",
    "TextReadParams",
    "TextWriteParams",
    "check_roles",
    "detect",
    "load",
    "parse_angle",
    "parse_roles",
    "prepared",
    "read",
    "sample_lines",
    "split_line",
    "write",
]


def turned(path: Path, params: TextReadParams) -> dict[str, str]:
    """Return the columns with easting and northing taken for each other."""
    roles = detect(path, prepared(path, params, 1 << 20)[0], params).roles
    other = {"easting": "northing", "northing": "easting"}
    return {"columns": ",".join(other.get(role, role) for role in roles)}


def sniff(head: bytes, path: Path) -> int:
    """Text that is not markup may be points."""
    if b"\0" in head and head[:2] not in (b"\xff\xfe", b"\xfe\xff"):
        return 0
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:200].lower()
    if start.startswith((b"<", b"{", b"%pdf", b"lasf", b"ncols")):
        return 0
    return 40 if path.suffix.lower() in FORMAT.suffixes else 10


def read(path: Path, params: TextReadParams, progress: Progress) -> ReadResult:
    """Read points; the reference system beside a list of places counts where the text says none."""
    result = read_text(path, params, progress)
    beside = frame_beside(path) if path.suffix.lower() == PLACED else UNKNOWN
    if beside.crs is None:
        return result
    datasets = tuple(
        each.in_frame(
            Frame(beside.crs, each.frame.horizontal or beside.horizontal, each.frame.vertical or beside.vertical)
        )
        if each.frame.crs is None and each.frame.horizontal in (None, beside.horizontal)
        else each
        for each in result.datasets
    )
    return dataclasses.replace(result, datasets=datasets)


def renamed(names: Sequence[str], params: TextWriteParams) -> dict[str, str]:
    """Return what attributes are called when the file is read: heads that fit a column's role get that."""
    heads = roles_from_header(("easting", "northing", "elevation", *names))[3:]
    return dict(zip(names, heads, strict=True))


_CARRIES = Carries(kinds=(PointSet,), units="both", attributes=True)
FORMAT = Format(
    id="text",
    title="Text points",
    used_for="survey and CAD",
    suffixes=(".csv", ".txt", ".xyz", ".asc", ".pts", ".pnt", ".dat", ".tsv"),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    weigh=weighing(points=45),
    editor="columns",
    usual=1,
    read=read,
    write=write,
    read_params=TextReadParams,
    write_params=TextWriteParams,
    turned=turned,
    parts=(".prj",),
    renamed=renamed,
)
