"""Parts of a simplified grid that meet: along a seam both sides have the same vertices, found from the seam alone."""

from __future__ import annotations

import dataclasses

import numpy as np
from numpy.typing import NDArray

from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline, Window
from vastgrid.data.tin import Tin
from vastgrid.kernels.lines.chains import LONGEST_RUN
from vastgrid.kernels.lines.profiles import needed

# Both sides look at a seam with a tolerance a rounding below the one asked for: neither then puts a vertex of its own there.
BELOW = 1.0 - 1e-9


def shared_window(whole: CellOutline, window: Window) -> Window:
    """Return the cells between whose centres the ground of a tile lies: its own, and the first row and column beyond."""
    rows, columns = min(window.rows + 1, whole.rows - window.top), min(window.columns + 1, whole.columns - window.left)
    return Window(window.top, window.left, rows, columns)


def on_lattice(tin: Tin, whole: CellOutline) -> Tin:
    """Return a TIN whose vertices are centres of cells with the very coordinates that these have in the whole lattice.

    Worked out from the corner of a part they would be off by a rounding, and parts would not meet to the last bit.
    """
    column = np.rint((tin.vertices[:, 0] - whole.west) / whole.dx - 0.5)
    row = np.rint((whole.north - tin.vertices[:, 1]) / whole.dy - 0.5)
    east, north = whole.west + (column + 0.5) * whole.dx, whole.north - (row + 0.5) * whole.dy
    return dataclasses.replace(tin, vertices=np.column_stack((east, north, tin.vertices[:, 2])))


def seam_vertices(around: Grid, whole: CellOutline, window: Window, tolerance: float) -> NDArray[np.int64]:
    """Return the cells of a window that become vertices on its seams, as numbers row by row.

    Which they are depends on the seam and the cells beside it, not on which side of it is asked.

    Parameters
    ----------
    around : Grid
        The cells of the window and, where there are any, one more on every side.
    window : Window
        As `shared_window` gives it.
    tolerance : float
        How far the straight lines between them may lie from the cells of the seam.
    """
    place = whole.place_of(around)
    top, left = window.top - place.top, window.left - place.left
    # Where ground ends beside a seam a rim may turn, so both sides have a vertex there; beyond the whole nothing ends.
    open_ = _beside_gaps(np.isnan(around.heights))
    inner = (slice(top, top + window.rows), slice(left, left + window.columns))
    heights, held = around.heights[inner], open_[inner]
    found: list[NDArray[np.int64]] = []
    last = window.top + window.rows - 1, window.left + window.columns - 1
    for row, seam in ((0, window.top > 0), (window.rows - 1, last[0] < whole.rows - 1)):
        if seam:
            stays = _along(heights[row], held[row], window.left, tolerance)
            found.append(row * window.columns + np.flatnonzero(stays))
    for column, seam in ((0, window.left > 0), (window.columns - 1, last[1] < whole.columns - 1)):
        if seam:
            stays = _along(heights[:, column], held[:, column], window.top, tolerance)
            found.append(np.flatnonzero(stays) * window.columns + column)
    return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)


def _beside_gaps(missing: Flags) -> Flags:
    """Return which cells have a gap among their eight neighbours or are one."""
    rows, columns = missing.shape
    wide = np.pad(missing, 1)
    near = [wide[r : r + rows, c : c + columns] for r in range(3) for c in range(3)]
    return np.asarray(np.logical_or.reduce(near))


def _along(heights: Floats, held: Flags, first: int, tolerance: float) -> Flags:
    """Return which cells of a seam become vertices; it begins at a number of the whole lattice."""
    ends = held.copy()
    ends[[0, -1]] = True
    # A straight run is parted at some length: here both sides part it, at the same cells.
    ends |= (first + np.arange(len(heights))) % (LONGEST_RUN // 2) == 0
    return needed(heights, ends, BELOW * tolerance)
