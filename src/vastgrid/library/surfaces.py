"""TIN, mesh and grid as a script has them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import NDArray

from vastgrid.base import findings as core
from vastgrid.base.errors import DataError
from vastgrid.data.dataset import Dataset
from vastgrid.data.frame import Frame
from vastgrid.data.grid import Grid as GridData
from vastgrid.data.mesh import Mesh as MeshData
from vastgrid.data.tin import Tin as TinData
from vastgrid.library.data import Data, Origin, frame_from, told
from vastgrid.library.vectors import places_from
from vastgrid.terrain.tin.assemble import oriented_tin

if TYPE_CHECKING:
    from affine import Affine


class Faces(Data, ABC):
    """What a TIN and a mesh have in common: vertices, and triangles of three of them."""

    __slots__ = ()

    @classmethod
    def from_arrays(
        cls,
        vertices: Any,
        triangles: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "surface",
    ) -> Self:
        """Return it from (n, 3) vertices and (m, 3) indices; triangles of a TIN are turned counter-clockwise.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or triangles name vertices that are not there.
        """
        xyz, corners = places_from(vertices), np.asarray(triangles)
        if not np.isfinite(xyz).all():
            raise DataError("a vertex has no height")
        if corners.ndim != 2 or corners.shape[1] != 3 or corners.dtype.kind not in "iu":
            raise DataError(f"triangles have the shape {corners.shape} of {corners.dtype}, not (m, 3) of whole numbers")
        if len(corners) and (corners.min() < 0 or corners.max() >= len(xyz)):
            raise DataError("a triangle names a vertex that is not there")
        made, noticed = cls._made(name, frame_from(crs, unit, vertical_unit), xyz, corners.astype(np.int32))
        return cls(made, Origin(findings=told(noticed)))

    @staticmethod
    @abstractmethod
    def _made(
        name: str, frame: Frame, vertices: NDArray[np.float64], triangles: NDArray[np.int32]
    ) -> tuple[Dataset, list[core.Finding]]:
        """Return the data, and what was noticed in making it."""

    @classmethod
    def from_trimesh(
        cls,
        mesh: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "surface",
    ) -> Self:
        """Return what a mesh of the trimesh package holds."""
        return cls.from_arrays(mesh.vertices, mesh.faces, unit, vertical_unit, crs, name)

    @property
    def vertices(self) -> NDArray[np.float64]:
        """Vertices, (n, 3) float64."""
        return self._dataset.coordinates()

    @property
    def triangles(self) -> NDArray[np.int32]:
        """Indices of vertices, (m, 3) int32; of a TIN counter-clockwise in plan."""
        assert isinstance(self._dataset, TinData | MeshData)
        return self._dataset.triangles

    def to_trimesh(self) -> Any:
        """Return a mesh of the trimesh package, in the same coordinates."""
        import trimesh

        # As it is: nothing merged, nothing turned.
        return trimesh.Trimesh(vertices=self.vertices, faces=self.triangles, process=False)


class Tin(Faces):
    """A TIN: a surface with one height at each place."""

    __slots__ = ()
    _of = TinData

    @staticmethod
    def _made(
        name: str, frame: Frame, vertices: NDArray[np.float64], triangles: NDArray[np.int32]
    ) -> tuple[Dataset, list[core.Finding]]:
        return oriented_tin(name, frame, vertices, triangles)


class Mesh(Faces):
    """A mesh in space, which may lie over itself."""

    __slots__ = ()
    _of = MeshData

    @staticmethod
    def _made(
        name: str, frame: Frame, vertices: NDArray[np.float64], triangles: NDArray[np.int32]
    ) -> tuple[Dataset, list[core.Finding]]:
        return MeshData(name=name, frame=frame, vertices=vertices, triangles=triangles), []


class Grid(Data):
    """A grid of cells: heights, and where they lie."""

    __slots__ = ()
    _of = GridData

    @classmethod
    def from_arrays(
        cls,
        heights: Any,
        transform: Any,
        unit: str | None = None,
        vertical_unit: str | None = None,
        crs: Any = None,
        name: str = "grid",
    ) -> Self:
        """Return a grid from (rows, columns) heights, masked or NaN where there are none, and the affine transform of its outer corner.

        Raises
        ------
        CallError, DataError
            If units contradict the system, or the grid is turned.
        """
        own = np.ma.filled(np.ma.asarray(heights).astype(np.float64), np.nan)
        a, b, west, d, e, north = tuple(transform)[:6]
        if own.ndim != 2:
            raise DataError(f"heights have the shape {own.shape}, not (rows, columns)")
        if b or d or a <= 0 or e == 0:
            raise DataError("the grid is turned or mirrored east-west; its rows have to run east")
        if e > 0:
            own, north, e = own[::-1], north + e * own.shape[0], -e
        frame = frame_from(crs, unit, vertical_unit)
        return cls(GridData(name=name, frame=frame, heights=own, west=west, north=north, dx=a, dy=-e))

    @property
    def heights(self) -> NDArray[np.float64]:
        """Values, (rows, columns) float64, the northernmost row first; NaN where there is none."""
        return self._own().heights

    @property
    def transform(self) -> Affine:
        """Affine transform from column and row to east and north; its origin is the outer corner of the north-western cell."""
        from affine import Affine

        own = self._own()
        return Affine(own.dx, 0.0, own.west, 0.0, -own.dy, own.north)

    @property
    def profile(self) -> dict[str, Any]:
        """What a raster library has to know to write `heights`, by the names of rasterio."""
        rows, columns = self.heights.shape
        own = {"driver": "GTiff", "dtype": "float64", "count": 1, "nodata": np.nan, "crs": self.crs}
        return {**own, "height": rows, "width": columns, "transform": self.transform}

    @property
    def quantity(self) -> str:
        """What it holds: “height”, “height difference”, “slope” …."""
        return self._own().quantity

    @property
    def x(self) -> NDArray[np.float64]:
        """Eastings of the middles of columns, (columns,)."""
        return self._own().eastings()

    @property
    def y(self) -> NDArray[np.float64]:
        """Northings of the middles of rows, (rows,)."""
        return self._own().northings()

    def _own(self) -> GridData:
        assert isinstance(self._dataset, GridData)
        return self._dataset
