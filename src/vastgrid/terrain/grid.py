"""The regular grid of heights (DEM)."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from vastgrid.terrain.dataset import Dataset, Extent, Floats, frozen, span
from vastgrid.terrain.frame import Frame


@dataclass(frozen=True, eq=False, kw_only=True)
class Grid(Dataset):
    """Heights on a regular, north-up lattice.

    Attributes
    ----------
    heights : (rows, columns) float64
        Row 0 is the northernmost; NaN where there is no height.
    west, north : float
        Outer corner of the north-western cell.
    dx, dy : float
        Cell width and height, both positive. A height belongs to its cell's centre.
    point_registered : bool
        Whether the source spoke of nodes rather than cells; kept for writing it back that way.
    """

    kind: ClassVar[str] = "grid"
    title: ClassVar[str] = "grid"
    heights: Floats
    west: float
    north: float
    dx: float
    dy: float
    point_registered: bool = False

    def __post_init__(self) -> None:
        object.__setattr__(self, "heights", frozen(self.heights, np.float64, (-1, -1), "heights"))
        if not (self.dx > 0 and self.dy > 0):
            raise ValueError("cells need a positive size")

    @property
    def rows(self) -> int:
        """Number of rows."""
        return int(self.heights.shape[0])

    @property
    def columns(self) -> int:
        """Number of columns."""
        return int(self.heights.shape[1])

    def count(self) -> dict[str, int]:
        """Return the numbers of rows and columns."""
        return {"rows": self.rows, "columns": self.columns}

    def eastings(self) -> Floats:
        """Return the cell centres' eastings, west to east."""
        return np.asarray(self.west + (np.arange(self.columns) + 0.5) * self.dx, np.float64)

    def northings(self) -> Floats:
        """Return the cell centres' northings, north to south."""
        return np.asarray(self.north - (np.arange(self.rows) + 0.5) * self.dy, np.float64)

    def coordinates(self) -> Floats:
        """Return the cells that have a height, as (n, 3) centres."""
        row, column = np.nonzero(np.isfinite(self.heights))
        return np.column_stack((self.eastings()[column], self.northings()[row], self.heights[row, column]))

    def extent(self) -> Extent:
        """Return the outer edges of the cells, and the range of heights."""
        if not self._extent:
            east = (self.west, self.west + self.columns * self.dx)
            north = (self.north - self.rows * self.dy, self.north)
            self._extent.append(Extent(east, north, span(self.heights)))
        return self._extent[0]

    def with_coordinates(self, plan: float, height: float, frame: Frame) -> Self:
        """Return the grid scaled into another frame."""
        return dataclasses.replace(
            self,
            heights=self.heights * height,
            west=self.west * plan,
            north=self.north * plan,
            dx=self.dx * plan,
            dy=self.dy * plan,
            frame=frame,
            _digest=[],
        )
