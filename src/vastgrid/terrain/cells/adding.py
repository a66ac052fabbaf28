"""Adding up over grids piece by piece, so that no more than a piece is ever held as triangles."""

from __future__ import annotations

import dataclasses
import math
from typing import Any

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.outline import Box, CellOutline, TotalOutline, Window
from vastgrid.declarations.conversion import Inputs
from vastgrid.declarations.tiles import Seen, Sums, TilePart, Tiling, added_up, seen_together

# So many cells take some hundred megabytes as triangles.
PIECE = 4_000_000


def summed(tiling: Tiling, inputs: Inputs, params: Any, progress: Progress) -> tuple[Sums, TilePart]:
    """Return what adds up over pieces of grids in memory, as over tiles of files, and the whole as one piece.

    Parameters
    ----------
    tiling : Tiling
        What is looked at and added.
    inputs : Inputs
        Grids, of which each piece has the part on its ground, and others, which every piece has all of.
    """
    outlines = tuple(CellOutline.of(each) for each in inputs if isinstance(each, Grid))
    whole = tiling.whole(outlines, params)
    assert isinstance(whole, TotalOutline)
    assert tiling.look is not None
    assert tiling.sums is not None
    halo = tiling.halo(inputs, params) if tiling.halo is not None else 0.0
    side = max(math.isqrt(PIECE), 1)
    own = whole.cells
    windows = [
        Window(top, left, min(side, own.rows - top), min(side, own.columns - left))
        for top in range(0, own.rows, side)
        for left in range(0, own.columns, side)
    ]
    boxes = [own.box(window) for window in windows]
    every: list[Seen] = []
    for k, box in enumerate(boxes):
        part = _on(inputs, box.grown(halo or 0.0))
        if part is not None:
            every.append(tiling.look(part, params, TilePart(box, outlines, whole)))
        progress.report(0.4 * (k + 1) / len(boxes), "looking at all of it")
    piece = TilePart(whole.box(), outlines, whole, seen_together(every))
    sums: list[Sums] = []
    for k, box in enumerate(boxes):
        part = _on(inputs, box.grown(halo or 0.0))
        if part is not None:
            sums.append(tiling.sums(part, None, params, dataclasses.replace(piece, box=box)))
        progress.report(0.4 + 0.6 * (k + 1) / len(boxes), "adding up")
    return added_up(sums), piece


def _on(inputs: Inputs, box: Box) -> Inputs | None:
    """Return inputs on some ground; None where one of the grids has none of it."""
    parts: list[Dataset] = []
    for each in inputs:
        if isinstance(each, Grid):
            outline = CellOutline.of(each)
            try:
                window = outline.window(box)
            except DataError:
                return None
            parts.append(outline.cut(each, window))
        else:
            parts.append(each)
    return inputs.with_datasets(parts)
