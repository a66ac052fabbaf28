"""Motions on tiles: clouds place by place, grids where their cells only shift."""

from __future__ import annotations

import dataclasses
import itertools

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.outline import Box, CellOutline, Outline, PointOutline
from vastgrid.declarations.tiles import TilePart
from vastgrid.terrain.place.moving import Motion, moved

# The geoid lies no farther from the ellipsoid than this, in metres; in any smaller unit the outline is only rough.
_GEOID = 120.0


def moved_outline(outline: Outline, motion: Motion) -> CellOutline | PointOutline:
    """Return the outline of data that is moved.

    Raises
    ------
    CallError
        If cells of a grid would come to lie askew: they are sampled from all around.
    """
    if isinstance(outline, PointOutline):
        box = _around(motion, outline.box())
        # What is linear is lowest and highest at corners.
        ends = np.array(list(itertools.product(*zip(outline.low, outline.high, strict=True))))
        flat = motion if motion.level else dataclasses.replace(motion, lift=None)
        up = flat.heights(ends)
        low, high = float(np.nanmin(up)), float(np.nanmax(up))
        slack = 0.0 if motion.level else _GEOID + abs(high - low)
        exact = motion.stays and motion.level
        return dataclasses.replace(
            outline,
            low=(box.west, box.south, low - slack),
            high=(box.east, box.north, high + slack),
            rough=outline.rough or not exact,
        )
    assert isinstance(outline, CellOutline)
    if motion.quarters != 0 or not motion.stays:
        raise CallError("a grid that is turned or scaled is sampled anew as a whole; on tiles it can be shifted alone")
    east, north = motion.shift
    return dataclasses.replace(outline, west=outline.west + east, north=outline.north + north, elevation=None)


def _around(motion: Motion, box: Box) -> Box:
    corners = np.array([(e, n) for e in (box.west, box.east) for n in (box.south, box.north)])
    there = motion.plan(corners)
    (west, south), (east, north) = there.min(axis=0).tolist(), there.max(axis=0).tolist()
    return Box(west, south, east, north)


def ground_before(box: Box, motion: Motion) -> Box:
    """Return the box of the input from which the ground of a box of the result is made."""
    corners = np.array([(e, n) for e in (box.west, box.east) for n in (box.south, box.north)])
    here = motion.back(corners)
    (west, south), (east, north) = here.min(axis=0).tolist(), here.max(axis=0).tolist()
    # What rounding takes off at the sides has to be there too.
    return Box(west, south, east, north).grown(1e-9 * max(abs(east), abs(north), 1.0))


def moved_tile(data: Dataset, motion: Motion, piece: TilePart) -> Dataset:
    """Return data of a tile moved, a grid on the very cells of the whole result."""
    made = moved(data, motion)[0]
    if not isinstance(data, Grid):
        return made
    before = piece.inputs[0]
    assert isinstance(before, CellOutline)
    return piece.cells.grid(before.place_of(data), narrowed(made, Grid).heights)
