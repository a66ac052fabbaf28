"""LandXML 1.0 to 2.0 in, 1.0 to 1.2 out: surfaces by faces or source data, points, alignments, parcels, plan features."""

from __future__ import annotations

import dataclasses
from pathlib import Path

from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import of_kind
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.survey import Survey
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, rounding, weighing
from vastgrid.formats.landxml._read import LandXmlReadParams, read
from vastgrid.formats.landxml._write import POINT_WORDS, GridAs, Hold, LandXmlWriteParams, fits, given, write

__all__ = ["FORMAT", "LandXmlReadParams", "LandXmlWriteParams", "read", "write"]


def sniff(head: bytes, path: Path) -> int:
    """The root element says it, in whatever encoding."""
    plain = head.replace(b"\0", b"")
    if b"LandXML" in plain and plain.lstrip(b"\xef\xbb\xbf\xff\xfe \t\r\n").startswith(b"<"):
        return 100
    is_xml = plain.lstrip().startswith(b"<")
    return (
        50 if path.suffix.lower() == ".xml" and is_xml else (30 if path.suffix.lower() in (".landxml", ".xml") else 0)
    )


_plain, _flat = weighing(vertices=44, triangles=28, points=60, lines=60), weighing(vertices=23, lines=60)


def _weigh(dataset: Dataset) -> float:
    """Return about how many bytes a dataset takes, a TIN with what it was built from."""
    if dataset.kind == Contours.kind:
        return _flat(dataset)
    source = sum(len(tin.source_points) + len(tin.break_vertices) for tin in of_kind([dataset], Tin))
    return _plain(dataset) + 38.0 * source


_CARRIES = Carries(
    # Parcels come before plain lines: they are what areas are to it.
    kinds=(Tin, Contours, Survey, Linework, PointSet),
    several=True,
    units="one",
    unit_needed=True,
    crs=True,
    attributes=("point", "code", "description", *POINT_WORDS),
    breaklines=True,
    roles=("alignment", "parcel", "plan feature"),
    open_heights=True,
)


def _carries(params: LandXmlWriteParams) -> Carries:
    own = rounding(_CARRIES)(params)
    kinds: tuple[type[Dataset], ...] = (*own.kinds, Grid) if params.grid_as is GridAs.POINTS else own.kinds
    hold = params.hold
    return dataclasses.replace(own, kinds=kinds, breaklines=hold is not Hold.FACES, faces=hold is not Hold.SOURCE)


FORMAT = Format(
    id="landxml",
    title="LandXML",
    used_for="survey and CAD",
    also=("machine control", "surface exchange"),
    suffixes=(".xml", ".landxml"),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=_carries,
    given=given,
    fits=fits,
    weigh=_weigh,
    usual=4,
    read=read,
    write=write,
    read_params=LandXmlReadParams,
    write_params=LandXmlWriteParams,
)
