"""GeoJSON files: points, lines and areas with attributes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, weighing
from vastgrid.families.vectorfile import vector_format, write_vector
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class GeoJsonWriteParams:
    """How coordinates are written."""

    decimals: Annotated[
        int, Param("Decimals", "Decimals of degrees and of metres; the ninth of a degree is a tenth of a millimetre.",
                   least=0, most=12)
    ] = 9  # fmt: skip


_KINDS = rb'"type"\s*:\s*"(Feature|FeatureCollection|GeometryCollection|(Multi)?(Point|LineString|Polygon))"'


def sniff(head: bytes, path: Path) -> int:
    """JSON that speaks of features or geometries (RFC 7946)."""
    if not head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return 0
    return 90 if re.search(_KINDS, head) else 0


def write(datasets: Sequence[Dataset], path: Path, params: GeoJsonWriteParams, progress: Progress) -> None:
    """Write one dataset in longitude and latitude of WGS 84 and metres (RFC 7946, 4)."""
    write_vector(datasets, path, progress, "GeoJSON", own_heights=False, digits=params.decimals)


FORMAT = vector_format(
    "geojson",
    "GeoJSON",
    (".geojson", ".json"),
    sniff,
    "GeoJSON",
    write=write,
    weigh=weighing(points=190, vertices=42, lines=200),
    write_params=GeoJsonWriteParams,
    carries=Carries(kinds=(PointSet, Linework, Contours), units="both", crs=True, attributes=True, geographic=True),
)
