"""Faces in space that need not be a height field: overhangs, walls and closed solids included."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
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
    """

    kind: ClassVar[str] = "mesh"
    title: ClassVar[str] = "mesh"
    vertices: Floats
    triangles: Ints

    def __post_init__(self) -> None:
        object.__setattr__(self, "vertices", frozen(self.vertices, np.float64, (-1, 3), "vertices"))
        object.__setattr__(self, "triangles", frozen(self.triangles, np.int32, (-1, 3), "triangles"))

    def count(self) -> dict[str, int]:
        """Return the numbers of vertices and triangles."""
        return {"vertices": len(self.vertices), "triangles": len(self.triangles)}

    def coordinates(self) -> Floats:
        """Return the vertices."""
        return self.vertices

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the mesh scaled into another frame."""
        return dataclasses.replace(self, vertices=self.vertices * (plan, plan, height), frame=frame)
