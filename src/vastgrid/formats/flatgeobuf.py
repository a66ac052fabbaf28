"""FlatGeobuf files: points, lines and areas with attributes."""

from __future__ import annotations

from pathlib import Path

from vastgrid.families.vectorfile import vector_format


def sniff(head: bytes, path: Path) -> int:
    """The magic bytes stand first."""
    return 100 if head[:3] == b"fgb" and head[4:7] == b"fgb" else 0


FORMAT = vector_format("flatgeobuf", "FlatGeobuf", (".fgb",), sniff, "FlatGeobuf")
