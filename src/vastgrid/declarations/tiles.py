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
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.loss import Loss
from vastgrid.data.outline import Box, CellOutline, Outline

# Classes of size by which the 95th percentile of a loss is told over all tiles: each 1 % wider than the one before.
_LEAST, _STEP, _CLASSES = 1e-6, 1.01, 2800


@dataclass(frozen=True, slots=True)
class Piece:
    """What a conversion is told of the tile that it makes.

    Attributes
    ----------
    box : Box
        The ground that the result has to cover; it may cover more.
    inputs : tuple of outline
        Of the whole inputs, in the order of their roles.
    whole : outline
        Of the whole result.
    fetch : callable
        Returns the main input on any ground.
    """

    box: Box
    inputs: tuple[Outline, ...]
    whole: Outline
    fetch: Callable[[Box], Dataset]

    @property
    def cells(self) -> CellOutline:
        """The lattice of the whole result."""
        assert isinstance(self.whole, CellOutline)
        return self.whole


@dataclass(slots=True)
class Tally:
    """Sums from which what a step costs vertically is told over all tiles."""

    number: int = 0
    wanted: int = 0
    total: float = 0.0
    squares: float = 0.0
    largest: float = 0.0
    at: tuple[float, float] = (math.nan, math.nan)
    sizes: NDArray[np.int64] = field(default_factory=lambda: np.zeros(_CLASSES, np.int64))

    def add(self, gaps: Floats, places: Floats) -> None:
        """Add height differences at places; those that are not known count as lost."""
        self.wanted += len(gaps)
        known = np.isfinite(gaps)
        if not known.any():
            return
        own, where = gaps[known], places[known]
        size = np.abs(own)
        self.number += len(own)
        self.total += float(own.sum())
        self.squares += float((own * own).sum())
        k = int(size.argmax())
        if self.number == len(own) or size[k] > self.largest:
            self.largest, self.at = float(size[k]), (float(where[k, 0]), float(where[k, 1]))
        rank = np.zeros(len(size), np.int64)
        above = size > _LEAST
        rank[above] = np.ceil(np.log(size[above] / _LEAST) / math.log(_STEP)).astype(np.int64)
        self.sizes += np.bincount(np.minimum(rank, _CLASSES - 1), minlength=_CLASSES)

    def join(self, other: dict[str, Any]) -> None:
        """Add the sums of another tile, as `to_json` gave them."""
        if other["largest"] > self.largest or not self.number:
            self.largest, self.at = other["largest"], tuple(other["at"])
        self.number += other["number"]
        self.wanted += other["wanted"]
        self.total += other["total"]
        self.squares += other["squares"]
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
    """How a conversion runs on tiles; how far around a tile it looks is its `Conversion.reach`.

    Attributes
    ----------
    whole : callable
        Outlines of the inputs, settled parameters → outline of the whole result.
    run : callable
        Inputs on at least the ground of a piece grown by the reach, parameters, piece → the result on the ground of the
        piece, the same as if the whole had been worked on at once.
    columns : callable
        Parameters → attributes of points that it needs.
    refuses : callable
        Parameters → why it cannot run on tiles with these; empty where it can.
    tally : callable or None
        Input on the piece's ground and around it, result, piece, parameters → what the result costs on that ground.
    finish : callable or None
        The joined result, its outline, parameters → the whole as it is wanted, and what is said of it: short lines are left
        out, whose length no tile knows.
    """

    whole: Callable[[Sequence[Outline], Any], Outline]
    run: Callable[[Sequence[Dataset], Any, Piece], Dataset]
    columns: Callable[[Any], tuple[str, ...]] = _no_columns
    refuses: Callable[[Any], str] = lambda params: ""
    tally: Callable[[Dataset, Dataset, Piece, Any], Tally] | None = None
    finish: Callable[[Any, Outline, Any], tuple[Dataset, list[Finding]]] | None = None
