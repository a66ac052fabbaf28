"""Wavefront OBJ meshes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, rounding, weighing
from vastgrid.format_support.meshfile import MeshReadParams, Part, as_told, audit, faces_of, in_pieces, surfaces
from vastgrid.format_support.origin import FullOriginParams, told
from vastgrid.kernels.text.decimals import read_words
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.assemble import fans


@dataclass(frozen=True)
class ObjReadParams(MeshReadParams):
    """How the file is understood."""

    accept_cut: Annotated[
        bool, Param("Accept a cut-off file", "Take a file whose last line has no end, as one that was cut off has.")
    ] = False


def read(path: Path, params: ObjReadParams, progress: Progress) -> ReadResult:
    """Read vertices and faces, with full coordinates; each object or group is a part of its own.

    Raises
    ------
    FormatError
        If a vertex is not three numbers, or a face names corners that are not there.
    """
    data = path.read_bytes().replace(b"\\\r\n", b" ").replace(b"\\\n", b" ")
    if not data.strip():
        raise FormatError(path, "the file is empty")
    if not data.endswith((b"\n", b"\r")) and not params.accept_cut:
        line = data.count(b"\n") + 1
        raise FormatError(
            path, "the file ends in the middle of a line: it is cut off (accept_cut=yes takes what is there)", line=line
        )
    vertices = _vertices(path, data)
    progress.report(0.4, f"reading {path.name}")
    parts: list[Part] = []
    # Faces belong to the object or group named last; negative numbers count back from the vertices read so far.
    pieces = re.split(rb"^[ \t]*[og][ \t]+([^\r\n]*)", data, flags=re.MULTILINE)
    seen = 0
    for k in range(0, len(pieces), 2):
        name = pieces[k - 1].decode("utf-8", "replace").strip() if k else ""
        triangles, seen = _faces(path, pieces[k], seen)
        if len(triangles):
            parts.append((name or path.stem, vertices, triangles))
        progress.report(0.4 + 0.4 * k / len(pieces), f"reading {path.name}")
    if len(parts) == 1:
        parts = [(path.stem, *parts[0][1:])]
    return as_told(surfaces(path, parts, params.up), data[:500])


_VERTEX = re.compile(rb"^[ \t]*v[ \t]+([^\r\n]*)", re.MULTILINE)
_THREE = re.compile(rb"^[ \t]*v[ \t]+(\S+[ \t]+\S+[ \t]+\S+)", re.MULTILINE)


def _vertices(path: Path, data: bytes) -> NDArray[np.float64]:
    # What follows three coordinates, a weight or a colour, is passed over.
    rows = _THREE.findall(data)
    number = len(_VERTEX.findall(data))
    if not number:
        raise FormatError(path, "there is no vertex in the file")
    values, at = read_words(b"\n".join(rows))
    if len(values) == 3 * number and at < 0:
        return values.reshape(-1, 3)
    for found in _VERTEX.finditer(data):
        words = found[1].split()[:3]
        if len(words) < 3 or read_words(b" ".join(words))[1] >= 0:
            line = data.count(b"\n", 0, found.start(1)) + 1
            shown = found[1].decode("latin-1")[:40]
            raise FormatError(path, f"a vertex is not three numbers: “{shown}”", line=line)
    raise FormatError(path, "a vertex is not three numbers")


def _faces(path: Path, data: bytes, seen: int) -> tuple[NDArray[np.int32], int]:
    rows = re.findall(rb"^[ \t]*f[ \t]+([^\r\n]*)", data, re.MULTILINE)
    number = len(re.findall(rb"^[ \t]*v[ \t]", data, re.MULTILINE))
    if not rows:
        return np.zeros((0, 3), np.int32), seen + number
    plain = [re.sub(rb"/\S*", b"", row.split(b"#")[0]).split() for row in rows]
    try:
        corners = np.array([word for row in plain for word in row], dtype="S").astype(np.int64)
    except (ValueError, OverflowError) as error:
        raise FormatError(path, "a face is not a row of whole numbers") from error
    sizes = np.array([len(row) for row in plain], np.int64)
    if (sizes < 3).any():
        shown = rows[int((sizes < 3).argmax())].decode("latin-1")[:40]
        raise FormatError(path, f"a face has fewer than three corners: “f {shown}”; the file is damaged or cut off")
    if (corners < 0).any():
        corners = np.where(corners < 0, _counted_back(data, seen, sizes) + corners + 1, corners)
    return fans(corners - 1, sizes), seen + number


def _counted_back(data: bytes, seen: int, sizes: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return for each corner how many vertices were read before its face."""
    kinds = re.findall(rb"^[ \t]*([vf])[ \t]", data, re.MULTILINE)
    is_vertex = np.array([kind == b"v" for kind in kinds])
    before = seen + np.cumsum(is_vertex)[~is_vertex]
    return np.repeat(before[: len(sizes)], sizes)


def write(datasets: Sequence[Dataset], path: Path, params: FullOriginParams, progress: Progress) -> None:
    """Write vertices and faces, each dataset an object of its own."""
    place = params.origin.said
    with path.open("wb") as file:
        file.write(f"# {told(place, datasets[0].frame.horizontal)}; x east, y north, z up\n".encode())
        first = 1
        for k, each in enumerate(datasets):
            vertices, triangles = faces_of(each)
            file.write(f"o {'_'.join(each.name.split()) or 'surface'}\n".encode())
            for block in RowTemplate("v {} {} {}\n", (params.decimals,) * 3).blocks(list((vertices - place).T)):
                file.write(block)
            progress.report((k + 0.5) / len(datasets), f"writing {path.name}")
            for block in RowTemplate("f {} {} {}\n", (0, 0, 0)).blocks(list((triangles.astype(np.int64) + first).T)):
                file.write(block)
            first += len(vertices)
            progress.report((k + 1) / len(datasets), f"writing {path.name}")


def plan(datasets: Sequence[Dataset], stem: str, params: FullOriginParams) -> tuple[PlannedFile, ...]:
    """Return a file for each piece."""
    return in_pieces(datasets, stem, ".obj")


def sniff(head: bytes, path: Path) -> int:
    """Lines that begin with v and three numbers, and others with f."""
    if b"\0" in head:
        return 0
    vertices = re.search(rb"^[ \t]*v[ \t]+[-+.\d]\S*[ \t]+[-+.\d]\S*[ \t]+[-+.\d]", head, re.MULTILINE)
    if not vertices:
        return 30 if path.suffix.lower() == ".obj" else 0
    return 90 if path.suffix.lower() == ".obj" or re.search(rb"^f[ \t]+\d", head, re.MULTILINE) else 20


_CARRIES = Carries(kinds=(Tin, Mesh), several=True, units="one", worded=True)
FORMAT = Format(
    id="obj",
    title="OBJ mesh",
    used_for="meshes and print",
    suffixes=(".obj",),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    read=read,
    write=write,
    audit=audit,
    read_params=ObjReadParams,
    write_params=FullOriginParams,
    weigh=weighing(vertices=38, triangles=20),
    plan=plan,
)
