"""How a conversion runs on tiles: what it gives of the whole, what it needs around a tile, how one tile is made."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding
from vastgrid.base.quantities import Unit
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.loss import Loss
from vastgrid.data.outline import Box, CellOutline, Outline
from vastgrid.kernels.cells.raster import gap_sizes, gaps_in_box

# Least and greatest of something over all tiles, by name; what adds up over them, by name.
Seen = dict[str, tuple[float, float]]
Sums = dict[str, Floats]

# Classes of size by which the 95th percentile of a loss is told over all tiles: each 1 % wider than the one before.
_LEAST, _STEP, _CLASSES = 1e-6, 1.01, 2800


@dataclass(frozen=True, slots=True)
class TilePart:
    """What a conversion is told of the tile that it makes.

    Attributes
    ----------
    box : Box
        The ground that the result has to cover; it may cover more.
    inputs : tuple of outline
        Of the whole inputs, in the order of their roles.
    whole : outline
        Of the whole result.
    seen : dict
        What looking at all of the data first has shown; see `Tiling.look`.
    """

    box: Box
    inputs: tuple[Outline, ...]
    whole: Outline
    seen: Seen = field(default_factory=dict)

    @property
    def cells(self) -> CellOutline:
        """The lattice of the whole result."""
        assert isinstance(self.whole, CellOutline)
        return self.whole


@dataclass(slots=True)
class Tally:
    """Sums from which what a step costs vertically, and which points it used, is told over all tiles.

    Attributes
    ----------
    counted : int
        How many points lie in the cells of the result; of no meaning where cells gather none.
    whole : bool
        Whether all points of the source have to be among them.
    """

    number: int = 0
    wanted: int = 0
    total: float = 0.0
    squares: float = 0.0
    largest: float = 0.0
    at: tuple[float, float] = (math.nan, math.nan)
    counted: int = 0
    whole: bool = False
    sizes: NDArray[np.int64] = field(default_factory=lambda: np.zeros(_CLASSES, np.int64))

    def add_points(self, xyz: Floats, keep: Flags, grid: Grid, box: Box) -> None:
        """Add how far a grid lies from points in a box; those over a gap of the grid count as lost.

        Parameters
        ----------
        keep : (n,) bool
            Which of them count; of no length where all do.
        """
        west, north = grid.west + grid.dx / 2.0, grid.north - grid.dy / 2.0
        sides = (box.west, box.south, box.east, box.north)
        wanted, number, total, squares, worst, largest = gaps_in_box(
            xyz, keep, grid.heights, west, north, grid.dx, grid.dy, *sides, _LEAST, _STEP, self.sizes
        )
        if number and (not self.number or largest > self.largest):
            self.largest, self.at = largest, (float(xyz[worst, 0]), float(xyz[worst, 1]))
        self.wanted += wanted
        self.number += number
        self.total += total
        self.squares += squares

    def add_cells(self, made: Floats, wanted: Grid) -> None:
        """Add how far heights at the centres of a grid's cells, (rows, columns), lie from its own."""
        size, total, squares, worst = gap_sizes(made.ravel(), np.ascontiguousarray(wanted.heights).ravel())
        self.wanted += int(np.isfinite(wanted.heights).sum())
        if not len(size):
            return
        row, column = divmod(int(worst), wanted.columns)
        largest = float(abs(made[row, column] - wanted.heights[row, column]))
        if not self.number or largest > self.largest:
            self.largest, self.at = largest, (float(wanted.eastings()[column]), float(wanted.northings()[row]))
        self.number += len(size)
        self.total += float(total)
        self.squares += float(squares)
        rank = np.ceil(np.log(np.maximum(size, _LEAST) / _LEAST) / math.log(_STEP)).astype(np.int64)
        self.sizes += np.bincount(np.minimum(rank, _CLASSES - 1), minlength=_CLASSES)

    def join(self, other: dict[str, Any]) -> None:
        """Add the sums of another tile, as `to_json` gave them."""
        if other["largest"] > self.largest or not self.number:
            self.largest, self.at = other["largest"], tuple(other["at"])
        self.number += other["number"]
        self.wanted += other["wanted"]
        self.total += other["total"]
        self.squares += other["squares"]
        self.counted += other["counted"]
        self.whole |= other["whole"]
        for rank, number in other["sizes"]:
            self.sizes[rank] += number

    def to_json(self) -> dict[str, Any]:
        """Return plain values."""
        used = np.flatnonzero(self.sizes)
        return {
            "number": self.number,
            "wanted": self.wanted,
            "total": self.total,
            "squares": self.squares,
            "largest": self.largest,
            "at": list(self.at),
            "counted": self.counted,
            "whole": self.whole,
            "sizes": np.column_stack((used, self.sizes[used])).tolist(),
        }

    def loss(self, area: float, unit: Unit | None, plan_unit: Unit | None) -> Loss | None:
        """Return the loss over all; its 95th percentile is the upper end of a class 1 % wide."""
        if not self.number:
            return None
        reached = np.cumsum(self.sizes) >= 0.95 * self.number
        p95 = min(_LEAST * _STEP ** float(np.argmax(reached)), self.largest) if self.largest > 0 else 0.0
        return Loss(
            largest=self.largest,
            rmse=math.sqrt(self.squares / self.number),
            mean=self.total / self.number,
            p95=p95,
            at=self.at,
            area=area,
            share=self.number / max(self.wanted, 1),
            unit=unit,
            plan_unit=plan_unit,
        )


def _no_columns(params: Any) -> tuple[str, ...]:
    return ()


@dataclass(frozen=True, slots=True)
class Tiling:
    """How a conversion runs on tiles; how far around a tile it looks is its `Conversion.halo`, if nothing else is said.

    Attributes
    ----------
    whole : callable
        Outlines of the inputs, settled parameters → outline of the whole result.
    run : callable
        Inputs on at least the ground of a piece grown by the halo, parameters, piece → the result on the ground of the
        piece, the same as if the whole had been worked on at once; None where nothing is made but sums.
    columns : callable
        Parameters → attributes of points that it needs.
    ground : callable or None
        Box of the result, outline of the input, parameters → the box of the input from which it is made, where the result
        lies elsewhere.
    known : callable
        Outlines of the inputs, outline of the result, parameters → what can be said before anything is made.
    wanted : callable
        Points, parameters → which of them it looks at, (n,) bool; None for all.
    refuses : callable
        Parameters → why it cannot run on tiles with these; empty where it can.
    halo : callable or None
        How far around a tile it looks where a result at a place depends on all of the data, but parts fit; see
        `Conversion.halo`.
    local : str
        What to say instead where its halo is all of the data.
    tally : callable or None
        Input on the piece's ground and around it, result, piece, parameters → what the result costs on that ground.
    finish : callable or None
        The joined result, the whole as one piece, parameters → the whole as it is wanted, and what is said of it: short lines are left
        out, whose length no tile knows.
    looks : callable
        Parameters → whether it has to look at all of the data before anything is made.
    look : callable or None
        Inputs as for `run`, parameters, piece → least and greatest of what it has to know, by name.
    sums : callable or None
        Inputs, result or None, parameters, piece → what adds up over all tiles, by name.
    told : callable or None
        These sums, parameters, the whole as one piece → what is said of them.
    answer : callable or None
        Inputs of which there is only the outline, these sums, parameters, the whole as one piece → what a question is answered
        with.
    """

    whole: Callable[[Sequence[Outline], Any], Outline]
    run: Callable[[Any, Any, TilePart], Dataset] | None
    columns: Callable[[Any], tuple[str, ...]] = _no_columns
    ground: Callable[[Box, Outline, Any], Box] | None = None
    known: Callable[[Sequence[Outline], Outline, Any], list[Finding]] = lambda inputs, whole, params: []
    wanted: Callable[[Any, Any], Flags | None] = lambda points, params: None
    refuses: Callable[[Any], str] = lambda params: ""
    halo: Callable[[Any, Any], float | None] | None = None
    local: str = ""
    tally: Callable[[Dataset, Dataset, TilePart, Any], Tally] | None = None
    finish: Callable[[Any, TilePart, Any], tuple[Dataset, list[Finding]]] | None = None
    looks: Callable[[Any], bool] = lambda params: False
    look: Callable[[Any, Any, TilePart], Seen] | None = None
    sums: Callable[[Any, Dataset | None, Any, TilePart], Sums] | None = None
    told: Callable[[Sums, Any, TilePart], list[Finding]] | None = None
    answer: Callable[[Any, Sums, Any, TilePart], Any] | None = None


def seen_together(every: Sequence[Seen]) -> Seen:
    """Return what all tiles together have seen."""
    found: Seen = {}
    for own in every:
        for name, (low, high) in own.items():
            if not math.isnan(low):
                before = found.get(name, (low, high))
                found[name] = (min(before[0], low), max(before[1], high))
    return found


def added_up(every: Sequence[Sums]) -> Sums:
    """Return the sums of all tiles, in their order."""
    found: Sums = {}
    for own in every:
        for name, values in own.items():
            found[name] = found[name] + values if name in found else np.array(values, np.float64)
    return found
