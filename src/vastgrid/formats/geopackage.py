"""GeoPackages: points, lines and areas with attributes, in several layers."""

from __future__ import annotations

from pathlib import Path

from vastgrid.families.vectorfile import vector_format


def sniff(head: bytes, path: Path) -> int:
    """A database whose application id says so (OGC 12-128, requirement 2)."""
    if not head.startswith(b"SQLite format 3\0"):
        return 0
    return 100 if head[68:72] in (b"GPKG", b"GP10", b"GP11") else 70


FORMAT = vector_format("geopackage", "GeoPackage", (".gpkg",), sniff, "GPKG")
