"""The regular grid of heights (DEM), or of another quantity that says so."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import ClassVar, Self

import numpy as np

from vastgrid.data.dataset import DIFFERENCE, HEIGHT, Dataset, Extent, Floats, frozen, span
from vastgrid.data.frame import Frame


@dataclass(frozen=True, eq=False, kw_only=True)
class Grid(Dataset):
    """Heights, or values of another quantity, on a regular, north-up lattice.

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
    quantity : str
        What `heights` holds: “height”, or the name of what else, such as “slope”.
    measure : str
        What that other quantity is measured in, by the source's word, such as “%”; heights have the frame's unit.
    """

    kind: ClassVar[str] = "grid"
    title: ClassVar[str] = "grid"
    heights: Floats
    west: float
    north: float
    dx: float
    dy: float
    point_registered: bool = False
    quantity: str = HEIGHT
    measure: str = ""

    def __post_init__(self) -> None:
        object.__setattr__(self, "heights", frozen(self.heights, np.float64, (-1, -1), "heights"))
        if not (self.dx > 0 and self.dy > 0):
            raise ValueError("cells need a positive size")

    @property
    def has_heights(self) -> bool:
        """Whether it holds heights."""
        return self.quantity == HEIGHT

    @property
    def has_lengths(self) -> bool:
        """Whether its values are in the unit of heights."""
        return self.quantity in (HEIGHT, DIFFERENCE)

    def holds(self) -> str:
        """Return what it holds, as a sentence says it: “heights”, “slope in %”."""
        if self.has_heights:
            return "heights"
        return f"{self.quantity} in {self.measure}" if self.measure else self.quantity

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
            heights=self.heights * height if self.has_lengths else self.heights,
            west=self.west * plan,
            north=self.north * plan,
            dx=self.dx * plan,
            dy=self.dy * plan,
            frame=frame,
        )
