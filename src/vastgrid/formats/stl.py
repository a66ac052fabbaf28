"""STL meshes, binary and text."""

from __future__ import annotations

import struct
from pathlib import Path

from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.data.mesh import Mesh
from vastgrid.declarations.fileformat import Carries, Format, ReadResult
from vastgrid.families.meshfile import MeshReadParams, read_by_library


def read(path: Path, params: MeshReadParams, progress: Progress) -> ReadResult:
    """Read the faces; see `FORMAT`.

    Raises
    ------
    FormatError
        If the file is cut off or damaged.
    """
    data = path.read_bytes()
    if not _is_text(data):
        if len(data) < 84:
            raise FormatError(path, f"the file is cut off: {len(data)} bytes are less than a header")
        faces = struct.unpack_from("<I", data, 80)[0]
        if len(data) < 84 + 50 * faces:
            there = (len(data) - 84) // 50
            raise FormatError(path, f"the file is cut off: its header speaks of {faces} faces, {there} are there")
    return read_by_library(path, data, "stl_ascii" if _is_text(data) else "stl", params.up, progress)


def _is_text(data: bytes) -> bool:
    return data[:5].lower() == b"solid" and b"facet" in data[:4096] and b"\0" not in data[:512]


def sniff(head: bytes, path: Path) -> int:
    """Text says “solid”; a binary file's size follows from its face count."""
    if _is_text(head):
        return 95
    if len(head) >= 84:
        faces = struct.unpack_from("<I", head, 80)[0]
        if faces and path.stat().st_size == 84 + 50 * faces:
            return 90
    return 45 if path.suffix.lower() == ".stl" else 0


FORMAT = Format(
    id="stl",
    title="STL mesh",
    suffixes=(".stl",),
    sniff=sniff,
    carries=Carries(kinds=(Mesh,)),
    read=read,
    read_params=MeshReadParams,
)
