"""KML and KMZ: points, lines and areas by longitude and latitude, with what placemarks say of them."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

from numpy.typing import NDArray

from vastgrid.base.untrusted import member_names
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, Format, weighing
from vastgrid.formats.kml._data import column, spelled
from vastgrid.formats.kml._read import KmlReadParams, read
from vastgrid.formats.kml._write import write


def sniff(head: bytes, path: Path) -> int:
    """The root element, or an archive with a KML in it."""
    if head.startswith(b"PK\3\4"):
        if path.suffix.lower() == ".kmz":
            return 95
        return 80 if any(name.lower().endswith(".kml") for name in member_names(path)) else 0
    plain = head.replace(b"\0", b"")
    if re.search(rb"<(\w+:)?kml[\s>]", plain[:8192]):
        return 100
    return 45 if path.suffix.lower() == ".kml" and plain.lstrip().startswith(b"<") else 0


_PLACES = weighing(points=135, vertices=33, lines=130, areas=100, rings=110)


def weigh(dataset: Dataset) -> float:
    """Return about how many bytes a dataset takes: places, and what is said of each."""
    each = dataset.count()
    number = each.get("points") or each.get("lines") or each.get("areas", 0)
    said = sum(min(values.dtype.itemsize, 12) + 40 + len(name) for name, values in _said(dataset))
    return _PLACES(dataset) + float(number * (said and said + 80))


def _said(dataset: Dataset) -> list[tuple[str, NDArray[Any]]]:
    return [(name, own) for name, own in getattr(dataset, "attributes", {}).items() if name not in ("name", "point")]


FORMAT = Format(
    id="kml",
    title="KML or KMZ",
    used_for="GIS",
    suffixes=(".kml", ".kmz"),
    sniff=sniff,
    carries=Carries(
        kinds=(Areas, PointSet, Linework, Contours),
        several=True,
        geographic=True,
        units="both",
        crs=True,
        attributes=True,
        open_heights=True,
    ),
    weigh=weigh,
    read=read,
    write=write,
    column=column,
    renamed=spelled,
    read_params=KmlReadParams,
)
