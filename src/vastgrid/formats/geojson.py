"""GeoJSON files: points, lines and areas with attributes."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np

from vastgrid.base.findings import Finding, Severity
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.fileformat import Carries, weighing
from vastgrid.format_support.columns import AsHeld, Column, as_text, without_large_unsigned
from vastgrid.format_support.vectorfile import VectorReadParams, vector_format, write_vector
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


# Members that RFC 7946 and its predecessor know, of a collection and of a feature.
_KNOWN = {"type", "features", "bbox", "name", "crs", "id", "geometry", "properties", "coordinates", "geometries"}
_READ_WHOLE = 64 << 20
_OF_HEIGHTS = re.compile(r"vert|elev|height|alt|datum|geoid|unit", re.IGNORECASE)


def check(path: Path, params: VectorReadParams) -> tuple[Finding, ...]:
    """Say what the file says beside what is read: members of its own, of which some may speak of heights."""
    if path.stat().st_size > _READ_WHOLE:
        return ()
    try:
        whole = json.loads(path.read_bytes().lstrip(b"\xef\xbb\xbf"))
        parts = [whole, *whole.get("features", [])[:1000]]
        beyond = {key: value for part in parts for key, value in part.items() if key not in _KNOWN}
    except (ValueError, AttributeError, TypeError, RecursionError):
        # What is wrong with it is said when it is read.
        return ()
    if not beyond:
        return ()
    heights = {key: value for key, value in beyond.items() if _OF_HEIGHTS.search(key)}
    some = ", ".join(
        f"{key}: {value}"[:40] if isinstance(value, str | int | float) else key
        for key, value in list(beyond.items())[:8]
    )
    text = f"The file has members beyond the standard, which are not read: {some}. "
    text += (
        "Heights are taken as the standard has them, in metres; --from-vertical-units with --override-units says otherwise."
        if heights
        else ""
    )
    return (Finding("members-not-read", text.strip(), Severity.WARNING if heights else Severity.NOTE),)


FORMAT = vector_format(
    "geojson",
    "GeoJSON",
    (".geojson", ".json"),
    sniff,
    "GeoJSON",
    check,
    write=write,
    column=column,
    exact=exact,
    weigh=weighing(points=190, vertices=42, lines=200, areas=60),
    write_params=GeoJsonWriteParams,
    carries=Carries(
        kinds=(Areas, PointSet, Linework, Contours), units="both", crs=True, attributes=True, geographic=True
    ),
)
