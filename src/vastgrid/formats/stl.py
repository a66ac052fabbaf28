"""STL meshes, binary and text."""

from __future__ import annotations

import re
import struct
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError, ParamError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, weighing
from vastgrid.format_support.meshfile import MeshReadParams, Part, as_told, audit, faces_of, in_pieces, surfaces
from vastgrid.format_support.origin import SingleOriginParams, chosen, seen, told
from vastgrid.kernels.text.decimals import read_words

_ROW = np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("rest", "<u2")])


def read(path: Path, params: MeshReadParams, progress: Progress) -> ReadResult:
    """Read the faces; see `FORMAT`.

    Raises
    ------
    FormatError
        If the file is cut off or damaged.
    """
    data = path.read_bytes()
    parts = _from_text(path, data) if _is_text(data) else _from_bytes(path, data)
    progress.report(0.7, f"reading {path.name}")
    return as_told(surfaces(path, parts, params.up), data[:80])


def _from_bytes(path: Path, data: bytes) -> list[Part]:
    if len(data) < 84:
        raise FormatError(path, f"the file is cut off: {len(data)} bytes are less than a header")
    faces = struct.unpack_from("<I", data, 80)[0]
    there = (len(data) - 84) // 50
    if there < faces:
        raise FormatError(path, f"the file is cut off: its header speaks of {faces} faces, {there} are there")
    if len(data) - 84 >= 50 * (faces + 1):
        raise FormatError(path, f"the file holds {there} faces, its header speaks of {faces}; it is damaged")
    rows = np.frombuffer(data, _ROW, faces, 84)
    return [(path.stem, rows["corner"].reshape(-1, 3).astype(np.float64), _in_threes(faces))]


def _in_threes(faces: int) -> NDArray[np.int32]:
    return np.arange(3 * faces, dtype=np.int32).reshape(-1, 3)


def _from_text(path: Path, data: bytes) -> list[Part]:
    """Return a part for each solid."""
    if not re.search(rb"\bendsolid\b[^\n]*\s*\Z", data, re.IGNORECASE):
        raise FormatError(path, "the file is cut off: its last solid does not end")
    solids = [each for each in re.split(rb"^[ \t]*solid\b", data, flags=re.MULTILINE | re.IGNORECASE) if each.strip()]
    parts: list[Part] = []
    before = 0
    for k, solid in enumerate(solids):
        name, _, body = solid.partition(b"\n")
        corners = re.findall(rb"\bvertex[ \t]+([^\r\n]*)", body, re.IGNORECASE)
        facets = len(re.findall(rb"\bendfacet\b", body, re.IGNORECASE))
        values, wrong = read_words(b"\n".join(corners))
        if wrong >= 0 or len(values) != 3 * len(corners) or len(corners) != 3 * facets:
            bad = next((c for c in corners if len(c.split()) != 3 or read_words(c)[1] >= 0), None)
            why = (
                f"a vertex is not three numbers: “{bad.decode('latin-1')[:40]}”"
                if bad is not None
                else "a facet is not three vertices"
            )
            line = data.count(b"\n", 0, data.find(bad, before)) + 1 if bad is not None else None
            raise FormatError(path, why, line=line)
        text = name.decode("utf-8", "replace").strip()
        parts.append(
            (
                path.stem if len(solids) == 1 else text or f"{path.stem} {k + 1}",
                values.reshape(-1, 3),
                _in_threes(facets),
            )
        )
        before += len(solid)
    return parts


def write(datasets: Sequence[Dataset], path: Path, params: SingleOriginParams, progress: Progress) -> None:
    """Write binary STL; coordinates far from the origin are told from a place that the head names."""
    vertices, triangles = faces_of(datasets[0])
    origin = chosen(params.origin, vertices, FORMAT.title)
    local = vertices - origin
    corner = local[triangles].astype(np.float32)
    u, v = local[triangles[:, 1]] - local[triangles[:, 0]], local[triangles[:, 2]] - local[triangles[:, 0]]
    normal = np.cross(u, v)
    size = np.linalg.norm(normal, axis=1)
    rows = np.zeros(len(triangles), _ROW)
    rows["normal"] = normal / np.where(size > 0.0, size, 1.0)[:, None]
    rows["corner"] = corner
    head = told(origin, datasets[0].frame.horizontal)
    if len(head) > 80:
        raise ParamError("origin", "the 80 letters of an STL's head have no room for that many digits; use fewer")
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
    used_for="meshes and print",
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
