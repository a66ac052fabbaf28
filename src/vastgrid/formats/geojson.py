"""GeoJSON files: points, lines and areas with attributes."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, weighing
from vastgrid.families.columns import AsHeld, Column, as_text, without_large_unsigned
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


def column(name: str, values: Column, params: GeoJsonWriteParams) -> AsHeld:
    """Return an attribute as JSON holds it, which knows no infinite numbers."""
    if values.dtype.kind == "f" and values.ndim == 1 and np.isinf(values).any():
        return as_text(values), "infinite numbers, which JSON does not have, written as text"
    return without_large_unsigned(name, values, params)


def exact(path: Path, _layer: str, name: str) -> list[int | None] | None:
    """Return a column of whole numbers that the library takes for reals; None for another one."""
    try:
        features = json.loads(path.read_bytes())["features"]
        found = [each["properties"].get(name) for each in features]
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None
    whole = all(value is None or (isinstance(value, int) and not isinstance(value, bool)) for value in found)
    return found if whole else None


FORMAT = vector_format(
    "geojson",
    "GeoJSON",
    (".geojson", ".json"),
    sniff,
    "GeoJSON",
    write=write,
    column=column,
    exact=exact,
    weigh=weighing(points=190, vertices=42, lines=200),
    write_params=GeoJsonWriteParams,
    carries=Carries(kinds=(PointSet, Linework, Contours), units="both", crs=True, attributes=True, geographic=True),
)
