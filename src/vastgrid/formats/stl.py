"""STL meshes, binary and text."""

from __future__ import annotations

import dataclasses
import re
import struct
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from vastgrid.base.errors import FormatError
from vastgrid.base.findings import note
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, weighing
from vastgrid.families.meshfile import MeshReadParams, faces_of, in_pieces, read_by_library


@dataclass(frozen=True)
class StlWriteParams:
    """Nothing to choose: binary, z upwards."""


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
    shift = _shift(data[:80])
    if shift is None:
        return result
    moved = tuple(_moved(each, shift) for each in result.datasets)
    text = f"Coordinates are told from E {shift[0]:.10g}, N {shift[1]:.10g}, Z {shift[2]:.10g}, as the head of the file says."
    return dataclasses.replace(result, datasets=moved, findings=(*result.findings, note("local-origin", text)))


def _shift(head: bytes) -> tuple[float, float, float] | None:
    """Return the origin that the head of a file written here tells."""
    found = re.match(rb"Vast Grid; origin ([^ ;\0]+) ([^ ;\0]+) ([^ ;\0]+)", head)
    try:
        return (float(found[1]), float(found[2]), float(found[3])) if found else None
    except ValueError:
        return None


def _moved(dataset: Dataset, shift: tuple[float, float, float]) -> Dataset:
    vertices, triangles = faces_of(dataset)
    kind = Tin if dataset.kind == Tin.kind else Mesh
    return kind(name=dataset.name, frame=dataset.frame, vertices=vertices + shift, triangles=triangles)


def origin_of(vertices: Floats) -> tuple[float, float, float]:
    """Return a whole-number origin near data that lies so far from (0, 0, 0) that single precision would lose digits."""
    low, high = vertices.min(axis=0), vertices.max(axis=0)
    far = np.maximum(np.abs(low), np.abs(high)) > 4.0 * np.maximum(high - low, 100.0)
    east, north, up = np.where(far, np.floor(low), 0.0).tolist()
    return east, north, up


def write(datasets: Sequence[Dataset], path: Path, params: StlWriteParams, progress: Progress) -> None:
    """Write binary STL; coordinates far from the origin are told from a place that the head names."""
    vertices, triangles = faces_of(datasets[0])
    origin = origin_of(vertices)
    local = vertices - origin
    corner = local[triangles].astype(np.float32)
    u, v = local[triangles[:, 1]] - local[triangles[:, 0]], local[triangles[:, 2]] - local[triangles[:, 0]]
    normal = np.cross(u, v)
    size = np.linalg.norm(normal, axis=1)
    rows = np.zeros(len(triangles), np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("rest", "<u2")]))
    rows["normal"] = normal / np.where(size > 0.0, size, 1.0)[:, None]
    rows["corner"] = corner
    unit = datasets[0].frame.horizontal
    told = f"; unit {unit.value}" if unit else ""
    head = (
        f"Vast Grid; origin {origin[0]:.17g} {origin[1]:.17g} {origin[2]:.17g}{told}"
        if any(origin)
        else f"Vast Grid{told}"
    )
    with path.open("wb") as file:
        file.write(head.encode("ascii").ljust(80)[:80])
        file.write(struct.pack("<I", len(rows)))
        step = 500_000
        for start in range(0, len(rows), step):
            file.write(rows[start : start + step].tobytes())
            progress.report(min((start + step) / len(rows), 1.0), f"writing {path.name}")


def plan(datasets: Sequence[Dataset], stem: str, params: StlWriteParams) -> tuple[PlannedFile, ...]:
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
    carries=Carries(kinds=(Tin, Mesh)),
    read=read,
    write=write,
    read_params=MeshReadParams,
    write_params=StlWriteParams,
    weigh=weighing(triangles=50),
    plan=plan,
)
