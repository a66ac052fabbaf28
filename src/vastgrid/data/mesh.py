"""Faces in space that need not be a height field: overhangs, walls and closed solids included."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, field
from typing import ClassVar, Self

import numpy as np

from vastgrid.data.dataset import Dataset, Floats, Ints, frozen
from vastgrid.data.frame import Frame


@dataclass(frozen=True, eq=False, kw_only=True)
class Mesh(Dataset):
    """A triangle mesh.

    Attributes
    ----------
    vertices : (n, 3) float64
        Easting, northing, elevation.
    triangles : (m, 3) int32
        Vertex indices, in the winding of the source.
    part : (m,) int32
        Which piece each triangle belongs to, from 0, where pieces go out as files of their own; empty for one piece.
    """

    kind: ClassVar[str] = "mesh"
    title: ClassVar[str] = "mesh"
    vertices: Floats
    triangles: Ints
    part: Ints = field(default_factory=lambda: np.zeros(0, np.int32))

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, np.float64, (-1, 3), "vertices"))
        object.__setattr__(self, "triangles", frozen(self.triangles, np.int32, (-1, 3), "triangles"))
        object.__setattr__(self, "part", frozen(self.part, np.int32, (-1,), "part"))
        if len(self.part) not in (0, len(self.triangles)):
            raise ValueError("a mesh in pieces needs a piece for each triangle")

    def count(self) -> dict[str, int]:
        """Return the numbers of vertices and triangles."""
        return {"vertices": len(self.vertices), "triangles": len(self.triangles)}

    def corners(self) -> Floats:
        """Return the corners of every triangle, (m, 3, 3)."""
        return np.asarray(self.vertices[self.triangles], np.float64)

    def pieces(self) -> list[Mesh]:
        """Return each piece as a mesh of its own that begins at the origin in plan; the mesh itself where it is one."""
        if not len(self.part):
            return [self]
        found = []
        for number in range(int(self.part.max()) + 1):
            used, triangles = np.unique(self.triangles[self.part == number], return_inverse=True)
            own = self.vertices[used].copy()
            own[:, :2] -= own[:, :2].min(axis=0)
            name = f"{self.name}-{number + 1}"
            numbers: Ints = triangles.reshape(-1, 3).astype(np.int32)
            found.append(Mesh(name=name, frame=self.frame, vertices=own, triangles=numbers))
        return found

    def coordinates(self) -> Floats:
        """Return the vertices."""
        return self.vertices

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the mesh scaled into another frame."""
        return dataclasses.replace(self, vertices=self.vertices * (plan, plan, height), frame=frame)
