"""Triangles in a drawing: single faces, polyface meshes within the format's limits, or compact meshes."""

from __future__ import annotations

from collections.abc import Iterator
from enum import Enum

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.formats.dxf._pen import Pen

# A polyface mesh counts its vertices and faces in 16 bits with a sign (DXF reference, VERTEX, groups 71 to 74).
MOST = 32_767


class Faces(Enum):
    """What triangles become."""

    FACES = "faces"
    POLYFACE = "polyface"
    MESH = "mesh"


Ints = NDArray[np.int32]


def count_handles(kind: Faces, vertices: Floats, triangles: Ints) -> int:
    """Return at most how many handles triangles take."""
    if kind is Faces.FACES:
        return len(triangles)
    if kind is Faces.MESH:
        return 1
    # Each piece has a head, its vertices, its faces and an end.
    return 4 * len(triangles) + 2 * (len(triangles) // (MOST // 3) + 1)


def write_surface(pen: Pen, kind: Faces, vertices: Floats, triangles: Ints, layer: str, progress: Progress) -> None:
    """Write triangles as what is asked for."""
    moved = pen.moved(vertices)
    if kind is Faces.FACES:
        _faces(pen, moved, triangles, layer, progress)
    elif kind is Faces.MESH:
        _mesh(pen, moved, triangles, layer, progress)
    else:
        done = 0
        for corners, part in pieces(triangles):
            _polyface(pen, moved[corners], part, layer)
            done += len(part)
            progress.report(done / max(len(triangles), 1), "writing polyface meshes")


def _faces(pen: Pen, vertices: Floats, triangles: Ints, layer: str, progress: Progress) -> None:
    head, slots = pen.head("3DFACE", layer, "AcDbFace")
    body = "".join(f"{10 * axis + corner}\n{{}}\n" for corner in range(4) for axis in (1, 2, 3))
    template = pen.template(head + body, (*slots, *(pen.decimals,) * 12))
    number = len(triangles)
    handles = pen.handles(number)
    step = 100_000
    for start in range(0, number, step):
        corner = vertices[triangles[start : start + step]][:, [0, 1, 2, 2]].reshape(-1, 12)
        for block in template.blocks([*(each[start : start + step] for each in handles), *corner.T]):
            pen.file.write(block)
        progress.report(min((start + step) / number, 1.0), "writing faces")


def pieces(triangles: Ints) -> Iterator[tuple[Ints, Ints]]:
    """Yield triangles in pieces that a polyface mesh can hold: numbers of their corners, and triangles of those."""
    start = 0
    while start < len(triangles):
        size = min(MOST, len(triangles) - start)
        while True:
            corners, own = np.unique(triangles[start : start + size], return_inverse=True)
            if len(corners) <= MOST:
                break
            # As many corners too many as faces too many, about: surfaces have half as many vertices as triangles.
            size = max(int(size * 0.95 * MOST / len(corners)), MOST // 3)
        yield corners.astype(np.int32), own.reshape(-1, 3).astype(np.int32)
        start += size


def _polyface(pen: Pen, vertices: Floats, triangles: Ints, layer: str) -> None:
    head, _ = pen.head("POLYLINE", layer, "AcDbPolyFaceMesh")
    own = head.format(pen.one()) if not pen.old else head
    begin = f"{own}66\n1\n10\n0.0\n20\n0.0\n30\n0.0\n70\n64\n71\n{len(vertices)}\n72\n{len(triangles)}\n"
    pen.file.write(pen.text(begin))
    head, slots = pen.head("VERTEX", layer, "AcDbVertex\n100\nAcDbPolyFaceMeshVertex")
    template = pen.template(f"{head}10\n{{}}\n20\n{{}}\n30\n{{}}\n70\n192\n", (*slots, *(pen.decimals,) * 3))
    for block in template.blocks([*pen.handles(len(vertices)), *vertices.T]):
        pen.file.write(block)
    head, slots = pen.head("VERTEX", layer, "AcDbFaceRecord")
    body = "10\n0.0\n20\n0.0\n30\n0.0\n70\n128\n71\n{}\n72\n{}\n73\n{}\n"
    for block in pen.template(head + body, (*slots, 0, 0, 0)).blocks(
        [*pen.handles(len(triangles)), *(triangles + 1).T]
    ):
        pen.file.write(block)
    head, _ = pen.head("SEQEND", layer, "")
    pen.file.write(pen.text(head if pen.old else head.format(pen.one())))


def _mesh(pen: Pen, vertices: Floats, triangles: Ints, layer: str, progress: Progress) -> None:
    head, _ = pen.head("MESH", layer, "AcDbSubDMesh")
    pen.file.write(pen.text(f"{head.format(pen.one())}71\n2\n72\n0\n91\n0\n92\n{len(vertices)}\n"))
    for block in pen.template("10\n{}\n20\n{}\n30\n{}\n", (pen.decimals,) * 3).blocks(list(vertices.T)):
        pen.file.write(block)
    progress.report(0.5, "writing the mesh")
    pen.file.write(f"93\n{4 * len(triangles)}\n".encode())
    for block in pen.template("90\n3\n90\n{}\n90\n{}\n90\n{}\n", (0, 0, 0)).blocks(list(triangles.T)):
        pen.file.write(block)
    # No edges, creases or overrides of its own.
    pen.file.write(b"94\n0\n95\n0\n90\n0\n")
    progress.report(1.0, "writing the mesh")
