"""LandXML 1.0 to 2.0 in, 1.2 out: surfaces by faces or source data, points, alignments, parcels, plan features."""

from __future__ import annotations

from pathlib import Path

from vastgrid.formats.landxml._read import LandXmlReadParams, read
from vastgrid.formats.landxml._write import LandXmlWriteParams, write
from vastgrid.terrain.fileformat import Carries, Format
from vastgrid.terrain.linework import Contours, Linework
from vastgrid.terrain.pointset import PointSet
from vastgrid.terrain.survey import Survey
from vastgrid.terrain.tin import Tin

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


FORMAT = Format(
    id="landxml",
    title="LandXML",
    suffixes=(".xml", ".landxml"),
    sniff=sniff,
    carries=Carries(
        kinds=(Tin, Contours, Linework, PointSet, Survey),
        several=True,
        units="one",
        unit_needed=True,
        crs=True,
        attributes=("point", "code", "description"),
        breaklines=True,
        roles=("alignment", "parcel", "plan feature"),
    ),
    read=read,
    write=write,
    read_params=LandXmlReadParams,
    write_params=LandXmlWriteParams,
)
