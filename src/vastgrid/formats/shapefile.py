"""Shapefiles: points, lines and areas with attributes."""

from __future__ import annotations

from pathlib import Path

from vastgrid.terrain.vectorfile import vector_format


def sniff(head: bytes, path: Path) -> int:
    """The file code 9994 stands first (ESRI Shapefile Technical Description, 1998)."""
    return 100 if head[:4] == b"\0\0\x27\x0a" else 0


FORMAT = vector_format("shapefile", "Shapefile", (".shp",), sniff, "ESRI Shapefile")
