"""STL meshes, binary and text."""

from __future__ import annotations

import struct
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, weighing
from vastgrid.families.meshfile import MeshReadParams, as_told, audit, faces_of, in_pieces, read_by_library
from vastgrid.families.origin import SingleOriginParams, chosen, seen, told


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
    result = read_by_library(path, data, "stl_ascii" if _is_text(data) else "stl", params.up, progress)
    return as_told(result, data[:80])


def write(datasets: Sequence[Dataset], path: Path, params: SingleOriginParams, progress: Progress) -> None:
    """Write binary STL; coordinates far from the origin are told from a place that the head names."""
    vertices, triangles = faces_of(datasets[0])
    origin = chosen(params.origin, vertices, FORMAT.title)
    local = vertices - origin
    corner = local[triangles].astype(np.float32)
    u, v = local[triangles[:, 1]] - local[triangles[:, 0]], local[triangles[:, 2]] - local[triangles[:, 0]]
    normal = np.cross(u, v)
    size = np.linalg.norm(normal, axis=1)
    rows = np.zeros(len(triangles), np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("rest", "<u2")]))
    rows["normal"] = normal / np.where(size > 0.0, size, 1.0)[:, None]
    rows["corner"] = corner
    head = told(origin, datasets[0].frame.horizontal)
    if len(head) > 80:
        raise ParamError("origin", "the 80 letters of an STL's head have no room for so many digits; use fewer")
    with path.open("wb") as file:
        file.write(head.encode("ascii").ljust(80)[:80])
        file.write(struct.pack("<I", len(rows)))
        step = 500_000
        for start in range(0, len(rows), step):
            file.write(rows[start : start + step].tobytes())
            progress.report(min((start + step) / len(rows), 1.0), f"writing {path.name}")


def plan(datasets: Sequence[Dataset], stem: str, params: SingleOriginParams) -> tuple[PlannedFile, ...]:
    """Return a file for each piece."""
    return in_pieces(datasets, stem, ".stl")


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
    carries=Carries(kinds=(Tin, Mesh), units="one", worded=True, single=True),
    read=read,
    write=write,
    audit=audit,
    read_params=MeshReadParams,
    write_params=SingleOriginParams,
    weigh=weighing(triangles=50),
    plan=plan,
    seen=seen,
)
