"""Data of which is known only how much there is, where it lies and in which frame: what headers tell."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.data.areas import Areas, from_shapes
from vastgrid.data.dataset import HEIGHT, Dataset, Extent
from vastgrid.data.frame import UNKNOWN, Frame
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.pointset import PointSet
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin

Pair = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Box:
    """A rectangle along east and north; its western and southern sides belong to it, the others do not."""

    west: float
    south: float
    east: float
    north: float

    def grown(self, reach: float) -> Box:
        """Return the box with so much more on every side."""
        return Box(self.west - reach, self.south - reach, self.east + reach, self.north + reach)

    def meets(self, other: Box) -> bool:
        """Say whether two boxes have a place in common, their sides included."""
        return (
            self.west <= other.east
            and other.west <= self.east
            and self.south <= other.north
            and other.south <= self.north
        )


def box_of(dataset: Dataset) -> Box | None:
    """Return where a dataset lies; None where it lies nowhere."""
    extent = dataset.extent()
    if extent.east is None or extent.north is None:
        return None
    return Box(extent.east[0], extent.north[0], extent.east[1], extent.north[1])


@dataclass(frozen=True, slots=True)
class Window:
    """Some rows and columns of a lattice of cells."""

    top: int
    left: int
    rows: int
    columns: int


@dataclass(frozen=True, slots=True)
class PointOutline:
    """A cloud by its headers: how many points, and the corners of their extent; a rough extent is never too small."""

    name: str
    frame: Frame
    count: int
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    rough: bool = False

    def dataset(self) -> PointSet:
        """Return a stand-in that counts, has an extent and a frame; its coordinates are no places."""
        made = PointSet(name=self.name, frame=self.frame, xyz=np.zeros((0, 3)))
        object.__setattr__(made, "xyz", np.broadcast_to(np.zeros(3), (self.count, 3)))
        pairs = [(a, b) for a, b in zip(self.low, self.high, strict=True)]
        made._extent.append(Extent(*pairs))
        return made

    def box(self) -> Box:
        """Return where it lies."""
        return Box(self.low[0], self.low[1], self.high[0], self.high[1])


@dataclass(frozen=True, slots=True)
class CellOutline:
    """A grid by its header: its lattice and what it holds."""

    name: str
    frame: Frame
    west: float
    north: float
    dx: float
    dy: float
    rows: int
    columns: int
    quantity: str = HEIGHT
    measure: str = ""
    point_registered: bool = False
    elevation: Pair | None = None

    @classmethod
    def of(cls, grid: Grid) -> CellOutline:
        """Return the outline of a grid."""
        place = (grid.west, grid.north, grid.dx, grid.dy, grid.rows, grid.columns)
        return cls(grid.name, grid.frame, *place, grid.quantity, grid.measure, grid.point_registered)

    def dataset(self) -> Grid:
        """Return a stand-in that counts, has an extent and a frame; it has no values."""
        made = Grid(
            name=self.name,
            frame=self.frame,
            heights=np.zeros((1, 1)),
            west=self.west,
            north=self.north,
            dx=self.dx,
            dy=self.dy,
            point_registered=self.point_registered,
            quantity=self.quantity,
            measure=self.measure,
        )
        object.__setattr__(made, "heights", np.broadcast_to(np.array(np.nan), (self.rows, self.columns)))
        box = self.box()
        made._extent.append(Extent((box.west, box.east), (box.south, box.north), self.elevation))
        return made

    def box(self, window: Window | None = None) -> Box:
        """Return where it lies, or some of its cells."""
        own = window or Window(0, 0, self.rows, self.columns)
        return Box(
            self.west + own.left * self.dx,
            self.north - (own.top + own.rows) * self.dy,
            self.west + (own.left + own.columns) * self.dx,
            self.north - own.top * self.dy,
        )

    def window(self, box: Box) -> Window:
        """Return the cells that cover a box, as far as there are any.

        Raises
        ------
        DataError
            If there are none.
        """
        left = max(math.floor((box.west - self.west) / self.dx + 1e-6), 0)
        top = max(math.floor((self.north - box.north) / self.dy + 1e-6), 0)
        right = min(math.ceil((box.east - self.west) / self.dx - 1e-6), self.columns)
        bottom = min(math.ceil((self.north - box.south) / self.dy - 1e-6), self.rows)
        if right <= left or bottom <= top:
            raise DataError(f"no cell of {self.name} lies there")
        return Window(top, left, bottom - top, right - left)

    def grid(self, window: Window, heights: Any, name: str = "") -> Grid:
        """Return values of some of the cells as a grid."""
        return Grid(
            name=name or self.name,
            frame=self.frame,
            heights=heights,
            west=self.west + window.left * self.dx,
            north=self.north - window.top * self.dy,
            dx=self.dx,
            dy=self.dy,
            point_registered=self.point_registered,
            quantity=self.quantity,
            measure=self.measure,
        )

    def place_of(self, grid: Grid) -> Window:
        """Return which of the cells a grid of the same lattice has."""
        left, top = round((grid.west - self.west) / self.dx), round((self.north - grid.north) / self.dy)
        return Window(top, left, grid.rows, grid.columns)

    def cut(self, grid: Grid, window: Window) -> Grid:
        """Return some of the cells of a grid of the same lattice that has them."""
        place = self.place_of(grid)
        top, left = window.top - place.top, window.left - place.left
        part = grid.heights[top : top + window.rows, left : left + window.columns]
        if part.shape != (window.rows, window.columns):
            raise DataError(f"{grid.name} has {place}, not {window}")
        return self.grid(window, part, grid.name)


class _OnCells:
    """What lies on the ground of a lattice, in its frame."""

    __slots__ = ()
    cells: CellOutline

    def box(self) -> Box:
        """Return where it lies."""
        return self.cells.box()

    @property
    def frame(self) -> Frame:
        """Frame of the lattice."""
        return self.cells.frame


@dataclass(frozen=True, slots=True)
class LineOutline(_OnCells):
    """Contours that a lattice will give: the lattice they are traced on."""

    cells: CellOutline

    def dataset(self) -> Contours:
        """Return contours without a line, in the frame."""
        none, empty = np.zeros(0, np.bool_), np.zeros((0, 2))
        offsets, levels = np.zeros(1, np.int64), np.zeros(0)
        return Contours(
            name="Contours",
            frame=self.cells.frame,
            plan=empty,
            offsets=offsets,
            levels=levels,
            index=none,
            interval=0.0,
            supplementary=none,
        )


@dataclass(frozen=True, slots=True)
class EdgeOutline(_OnCells):
    """Areas that a lattice will be parted into: the lattice, and how the areas are called."""

    cells: CellOutline
    name: str

    def dataset(self) -> Areas:
        """Return areas without an area, in the frame."""
        return from_shapes([], name=self.name, frame=self.cells.frame)


@dataclass(frozen=True, slots=True)
class SurfaceOutline:
    """A TIN that points or cells will give: how many places, and where.

    One that cells give comes in parts, one for each tile, that meet along their seams.
    """

    places: PointOutline | CellOutline

    def dataset(self) -> Tin:
        """Return a stand-in that counts the places of points, has an extent and a frame; it has no triangles."""
        dataset = self.places.dataset()
        made = Tin(name="TIN", frame=dataset.frame, vertices=np.zeros((0, 3)), triangles=np.zeros((0, 3), np.int32))
        if isinstance(dataset, PointSet):
            object.__setattr__(made, "vertices", dataset.xyz)
        made._extent.append(dataset.extent())
        return made

    def box(self) -> Box:
        """Return where it lies."""
        return self.places.box()

    @property
    def frame(self) -> Frame:
        """Frame of its places."""
        return self.places.frame


@dataclass(frozen=True, slots=True)
class TotalOutline(_OnCells):
    """What is added up over the cells of a lattice: figures, without a place."""

    cells: CellOutline

    def dataset(self) -> Table:
        """Return an empty table in the frame."""
        return Table(name=self.cells.name, frame=self.cells.frame)


Outline = PointOutline | CellOutline | LineOutline | EdgeOutline | SurfaceOutline | TotalOutline


def joined(outlines: list[PointOutline], name: str) -> PointOutline:
    """Return several clouds as one."""
    low = np.min([each.low for each in outlines], axis=0).tolist()
    high = np.max([each.high for each in outlines], axis=0).tolist()
    frame = outlines[0].frame if outlines else UNKNOWN
    return PointOutline(name, frame, sum(each.count for each in outlines), tuple(low), tuple(high))
