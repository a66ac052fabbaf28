"""Shapefiles: points, lines and areas with attributes."""

from __future__ import annotations

from pathlib import Path

from vastgrid.base.errors import FormatError
from vastgrid.terrain.vectorfile import vector_format


def sniff(head: bytes, path: Path) -> int:
    """The file code 9994 stands first (ESRI Shapefile Technical Description, 1998)."""
    return 100 if head[:4] == b"\0\0\x27\x0a" else 0


def check(path: Path) -> None:
    """Refuse a shapefile without its index: senders often forget the files that belong to it."""
    beside = {each.name.lower() for each in path.parent.iterdir()}
    if f"{path.stem}.shx".lower() not in beside:
        raise FormatError(
            path,
            f"its index {path.stem}.shx is not beside it; a shapefile is several files: ask for .shp, .shx and .dbf",
        )


FORMAT = vector_format("shapefile", "Shapefile", (".shp",), sniff, "ESRI Shapefile", check)
