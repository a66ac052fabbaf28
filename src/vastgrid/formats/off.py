"""OFF meshes."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from vastgrid.base.errors import FormatError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.fileformat import Carries, Format, PlannedFile, ReadResult, rounding, weighing
from vastgrid.format_support.meshfile import MeshReadParams, as_told, audit, faces_of, in_pieces, surfaces
from vastgrid.format_support.origin import FullOriginParams, told
from vastgrid.kernels.text.decimals import read_words
from vastgrid.kernels.text.textrows import RowTemplate
from vastgrid.terrain.tin.assemble import fans

_HEAD = re.compile(rb"\s*((?:#[^\n]*\n\s*)*)(ST)?(C)?(N)?OFF\b", re.IGNORECASE)


def read(path: Path, params: MeshReadParams, progress: Progress) -> ReadResult:
    """Read vertices and faces of any number of corners.

    Raises
    ------
    FormatError
        If counts and content disagree, or something is not a number.
    """
    data = path.read_bytes()
    head = _HEAD.match(data)
    if not head:
        raise FormatError(path, "it does not begin with OFF")
    # Extra columns of a vertex: texture, normal, colour.
    body = re.sub(rb"#[^\n\r]*", lambda found: b" " * len(found[0]), data[head.end() :])
    progress.report(0.2, f"reading {path.name}")
    every, wrong = read_words(body)
    if wrong >= 0:
        line = data.count(b"\n", 0, head.end() + wrong) + 1
        shown = body[wrong : wrong + 40].split()[0].decode("latin-1")
        raise FormatError(path, f"something in it is not a number: “{shown}”", line=line)
    if len(every) < 3 or (every[:2] % 1.0).any() or (abs(every[:2]) > 1e12).any():
        raise FormatError(path, "its first line does not say how many vertices and faces there are")
    vertices, faces = int(every[0]), int(every[1])
    width = 3 + (2 if head[2] else 0) + (3 if head[4] else 0) + (4 if head[3] else 0)
    numbers = every[3:]
    if vertices < 3 or faces < 1 or vertices * width + faces * 4 > len(numbers):
        why = f"the file is cut off: it speaks of {vertices} vertices and {faces} faces, which do not fit in it"
        raise FormatError(path, why)
    xyz = numbers[: vertices * width].reshape(-1, width)[:, :3]
    corners, sizes = _faces(path, numbers[vertices * width :], faces, data)
    progress.report(0.7, f"reading {path.name}")
    return as_told(surfaces(path, [(path.stem, xyz, fans(corners, sizes))], params.up), data[:500])


def _faces(path: Path, numbers: np.ndarray, count: int, data: bytes) -> tuple[np.ndarray, np.ndarray]:
    """Return corner numbers and sizes; colours may follow a face's corners, so lines are looked at where sizes vary."""
    width = len(numbers) // count
    rows = numbers[: count * width].reshape(count, width)
    size = rows[0, 0]
    if len(numbers) == count * width and (rows[:, 0] == size).all() and 3 <= size < width:
        corners = rows[:, 1 : 1 + int(size)]
        return corners.astype(np.int64).ravel(), np.full(count, int(size))
    lines = [line.split() for line in re.sub(rb"#[^\n\r]*", b"", data).splitlines() if line.strip()][-count:]
    try:
        sizes = [int(line[0]) for line in lines]
        parts = [[int(word) for word in line[1 : size + 1]] for line, size in zip(lines, sizes, strict=True)]
    except (ValueError, IndexError) as error:
        raise FormatError(path, "a face is not a row of whole numbers") from error
    if any(len(part) != size for part, size in zip(parts, sizes, strict=True)):
        raise FormatError(path, "a face has fewer corners than it says")
    flat = np.array([corner for part in parts for corner in part], np.int64)
    return flat, np.array(sizes, np.int64)


def write(datasets: Sequence[Dataset], path: Path, params: FullOriginParams, progress: Progress) -> None:
    """Write vertices and triangles as text."""
    vertices, triangles = faces_of(datasets[0])
    place = params.origin.said
    with path.open("wb") as file:
        head = f"OFF\n# {told(place, datasets[0].frame.horizontal)}\n{len(vertices)} {len(triangles)} 0\n"
        file.write(head.encode())
        for block in RowTemplate("{} {} {}\n", (params.decimals,) * 3).blocks(list((vertices - place).T)):
            file.write(block)
        progress.report(0.5, f"writing {path.name}")
        for block in RowTemplate("3 {} {} {}\n", (0, 0, 0)).blocks(list(triangles.T)):
            file.write(block)
    progress.report(1.0, f"writing {path.name}")


def plan(datasets: Sequence[Dataset], stem: str, params: FullOriginParams) -> tuple[PlannedFile, ...]:
    """Return a file for each piece."""
    return in_pieces(datasets, stem, ".off")


def sniff(head: bytes, path: Path) -> int:  # noqa: D103
    return 95 if _HEAD.match(head) else 0


_CARRIES = Carries(kinds=(Tin, Mesh), units="one", worded=True)
FORMAT = Format(
    id="off",
    title="OFF mesh",
    used_for="meshes and print",
    suffixes=(".off",),
    sniff=sniff,
    carries=_CARRIES,
    carries_as=rounding(_CARRIES),
    read=read,
    write=write,
    audit=audit,
    write_params=FullOriginParams,
    weigh=weighing(vertices=36, triangles=20),
    plan=plan,
    read_params=MeshReadParams,
)
