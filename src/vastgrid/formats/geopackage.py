"""GeoPackages: points, lines and areas with attributes, in several layers."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, NoParams
from vastgrid.format_support.columns import different
from vastgrid.format_support.vectorfile import beside_layer, vector_format, weigh, write_vector


def sniff(head: bytes, path: Path) -> int:
    """A database whose application id says so (OGC 12-128, requirement 2)."""
    if not head.startswith(b"SQLite format 3\0"):
        return 0
    return 100 if head[68:72] in (b"GPKG", b"GP10", b"GP11") else 70


# Columns that every table has (OGC 12-128).
_RESERVED = ("fid", "geom")


def _called(names: Sequence[str]) -> dict[str, str]:
    return different({name: name for name in names}, taken=_RESERVED)


def renamed(names: Sequence[str], params: NoParams) -> dict[str, str]:
    """Return what attributes are called: no table has two columns that differ in case only."""
    return _called(beside_layer(names))


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write each dataset as a layer."""
    write_vector(datasets, path, progress, "GPKG", layers=True, called=_called)


FORMAT = vector_format(
    "geopackage",
    "GeoPackage",
    (".gpkg",),
    sniff,
    "GPKG",
    write=write,
    renamed=renamed,
    weigh=lambda dataset: 98_304 + weigh(dataset),
    carries=Carries(
        kinds=(Areas, PointSet, Linework, Contours),
        several=True,
        units="both",
        crs=True,
        attributes=True,
        open_heights=True,
    ),
)
