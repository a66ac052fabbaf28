"""GeoPackages: points, lines and areas with attributes, in several layers."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, NoParams
from vastgrid.families.vectorfile import vector_format, weigh, write_vector


def sniff(head: bytes, path: Path) -> int:
    """A database whose application id says so (OGC 12-128, requirement 2)."""
    if not head.startswith(b"SQLite format 3\0"):
        return 0
    return 100 if head[68:72] in (b"GPKG", b"GP10", b"GP11") else 70


def write(datasets: Sequence[Dataset], path: Path, params: NoParams, progress: Progress) -> None:
    """Write each dataset as a layer."""
    write_vector(datasets, path, progress, "GPKG", layers=True)


FORMAT = vector_format(
    "geopackage",
    "GeoPackage",
    (".gpkg",),
    sniff,
    "GPKG",
    write=write,
    weigh=lambda dataset: 98_304 + weigh(dataset),
    carries=Carries(
        kinds=(PointSet, Linework, Contours), several=True, units="both", crs=True, attributes=True, open_heights=True
    ),
)
