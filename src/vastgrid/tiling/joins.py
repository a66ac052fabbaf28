"""Tiles as one: lines joined over their seams; points and cells in arrays that live on disk where they are large."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from vastgrid import catalog
from vastgrid.base.disk_arrays import large_array, pieces, release
from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework, from_lines
from vastgrid.data.outline import CellOutline, LineOutline, PointOutline, Window
from vastgrid.data.pointset import PointSet
from vastgrid.format_support.rastertiles import read_tile
from vastgrid.kernels.lines.joining import joined_lines
from vastgrid.tiling.work import Plan, kept, tile_file


def whole_grid(plan: Plan, tiles: Sequence[int], progress: Progress) -> Grid:
    """Return all tiles as one grid."""
    whole = plan.whole
    assert isinstance(whole, CellOutline)
    heights = large_array((whole.rows, whole.columns), np.float64, np.nan)
    for k in tiles:
        tile = plan.tiles()[k]
        assert isinstance(tile, Window)
        heights[tile.top : tile.top + tile.rows, tile.left : tile.left + tile.columns] = read_tile(
            tile_file(plan.path_of(k))
        )
        release(heights)
        progress.report((k + 1) / len(plan.tiles()), "putting tiles together")
    return whole.grid(Window(0, 0, whole.rows, whole.columns), heights)


def whole_cloud(plan: Plan, facts: Sequence[dict[str, Any]], progress: Progress) -> PointSet:
    """Return the points of all tiles as one cloud, tile after tile.

    Raises
    ------
    DataError
        If no point is left.
    """
    whole = plan.whole
    assert isinstance(whole, PointOutline)
    own = [each for each in facts if not each["empty"]]
    total = sum(each["counts"]["points"] for each in own)
    if not total:
        raise DataError("no point is left")
    arrays: dict[str, Any] = {}
    at = 0
    for k, each in enumerate(own):
        parts = kept(plan.path_of(each["tile"]))
        number = len(parts["xyz"])
        for name, values in parts.items():
            if name not in arrays:
                arrays[name] = large_array((total, *values.shape[1:]), values.dtype)
            arrays[name][at : at + number] = values
            release(arrays[name])
        at += number
        progress.report((k + 1) / len(own), "putting tiles together")
    attributes = {name.removeprefix("attributes/"): values for name, values in arrays.items() if name != "xyz"}
    for name in {name for file in plan.source.files for name in catalog.format_named(file.format).seldom}:
        if name in attributes and not any(piece.any() for piece in pieces(attributes[name])):
            del attributes[name]
    return PointSet(name=whole.name, frame=whole.frame, xyz=arrays["xyz"], attributes=attributes)


def _seams(plan: Plan) -> tuple[Floats, Floats]:
    """Return the eastings and northings of the lines along which the tiles of contours meet."""
    assert isinstance(plan.whole, LineOutline)
    own = plan.whole.cells
    windows = [each for each in plan.tiles() if isinstance(each, Window)]
    left, top = (np.array(sorted({getattr(each, name) for each in windows} - {0})) for name in ("left", "top"))
    # In the very terms in which places on them are worked out.
    return (own.west + own.dx / 2.0) + left * own.dx, (own.north - own.dy / 2.0) - top * own.dy


def whole_lines(plan: Plan, facts: Sequence[dict[str, Any]], progress: Progress) -> Contours:
    """Return the contours of all tiles, joined over their seams into whole lines."""
    own = [each for each in facts if not each["empty"]]
    parts = [kept(plan.path_of(each["tile"])) for each in own]
    progress.report(0.3, "joining lines")
    if not parts:
        empty = plan.whole.dataset()
        assert isinstance(empty, Contours)
        return empty
    plan_xy = np.concatenate([each["plan"] for each in parts])
    shift = np.cumsum([0, *(len(each["plan"]) for each in parts[:-1])])
    offsets = np.concatenate(([0], *(each["offsets"][1:] + at for each, at in zip(parts, shift, strict=True))))
    # A level is a number that every tile rounded alike.
    every = np.concatenate([each["levels"] for each in parts])
    levels, which = np.unique(every, return_inverse=True)
    flags = {
        name: np.concatenate([each[name] for each in parts]) for name in ("index", "supplementary") if name in parts[0]
    }
    of_level = {name: np.zeros(len(levels), np.bool_) for name in flags}
    for name, values in flags.items():
        of_level[name][which] = values
    del parts
    plan_xy, offsets, which = joined_lines(plan_xy, offsets.astype(np.int64), which.astype(np.int64), _seams(plan))
    progress.report(1.0, "joining lines")
    first = plan.whole.dataset()
    assert isinstance(first, Contours)
    return Contours(
        name="Contours",
        frame=first.frame,
        plan=plan_xy,
        offsets=offsets,
        levels=levels[which],
        index=of_level["index"][which],
        interval=0.0,
        supplementary=of_level["supplementary"][which]
        if "supplementary" in of_level
        else np.zeros(len(which), np.bool_),
    )


def whole_edges(plan: Plan, facts: Sequence[dict[str, Any]], progress: Progress) -> Linework:
    """Return the edges of all tiles, one tile after the other."""
    first = plan.whole.dataset()
    parts = [kept(plan.path_of(each["tile"])) for each in facts if not each["empty"]]
    progress.report(0.5, "putting tiles together")
    if not parts:
        return from_lines(first.name, first.frame, [], [])
    shift = np.cumsum([0, *(len(each["vertices"]) for each in parts[:-1])])
    offsets = [each["offsets"][1:] + at for each, at in zip(parts, shift, strict=True)]
    names = [name for name in parts[0] if name.startswith("attributes/")]
    every = {name: np.concatenate([each[name] for each in parts]) for name in ("vertices", "layer", *names)}
    progress.report(1.0, "putting tiles together")
    return Linework(
        name=first.name,
        frame=first.frame,
        vertices=every["vertices"],
        offsets=np.concatenate(([0], *offsets)),
        layer=every["layer"],
        attributes={name.removeprefix("attributes/"): every[name] for name in names},
    )
