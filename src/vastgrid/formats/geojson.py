"""GeoJSON files: points, lines and areas with attributes."""

from __future__ import annotations

import re
from pathlib import Path

from vastgrid.families.vectorfile import vector_format

_KINDS = rb'"type"\s*:\s*"(Feature|FeatureCollection|GeometryCollection|(Multi)?(Point|LineString|Polygon))"'


def sniff(head: bytes, path: Path) -> int:
    """JSON that speaks of features or geometries (RFC 7946)."""
    if not head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{"):
        return 0
    return 90 if re.search(_KINDS, head) else 0


FORMAT = vector_format("geojson", "GeoJSON", (".geojson", ".json"), sniff, "GeoJSON")
