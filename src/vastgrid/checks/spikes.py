"""Spikes and pits: single heights that stand far above or below everything around them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Remedy, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, length_in
from vastgrid.base.words import spaced
from vastgrid.data.classes import CLASSES, HIGH_NOISE, LOW_NOISE, NOISE
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.frame import ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check, cut_short, point_name, with_unit
from vastgrid.kernels.triangles.vertexwise import around
from vastgrid.params.declare import Param
from vastgrid.terrain.editing.picking import words_of_point

# Neighbours of points that no triangles join; beyond so many points a search for neighbours takes too long.
NEAREST = 8
LARGEST = 6_000_000
LARGEST_GRID = 60_000_000
GROUND = (2, 8, 9, 11)


@dataclass(frozen=True)
class Params:
    """When a height is a spike or a pit."""

    height: Annotated[
        Length,
        Param(
            "Beyond all neighbours by",
            "How far a height has to stand above the highest, or below the lowest, of its neighbours.",
            Quantity.Z_LENGTH,
            above=0,
        ),
    ] = Length(1.0)
    steepness: Annotated[
        float,
        Param(
            "Steeper than",
            "Rise over run to the nearest neighbour; tops of piles are gentler.",
            Quantity.RATIO,
            above=0,
        ),
    ] = 1.0


def run(data: Tin | PointSet | Grid, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return heights beyond those of all neighbours, the farthest first."""
    if isinstance(data, Grid) and data.rows * data.columns > LARGEST_GRID:
        return [note(CHECK.id, f"{data.name} was not searched for spikes: its cells are too many.")]
    xyz = data.coordinates()
    if len(xyz) < 4:
        return []
    if isinstance(data, Grid):
        low, high, run_ = _in_grid(data)
        number = np.arange(len(xyz))
    elif isinstance(data, Tin):
        low, high, run_, _ = around(data.vertices, data.triangles).T
        number = np.arange(len(xyz))
    else:
        number = np.flatnonzero(_ground(data))
        if len(number) > LARGEST:
            text = f"{data.name} was not searched for spikes: {spaced(len(number))} points are too many. A TIN made from it is."
            return [note(CHECK.id, text)]
        low, high, run_ = _nearest(xyz[number], progress)
    progress.report(0.9)
    z = xyz[number, 2]
    with np.errstate(invalid="ignore", divide="ignore"):
        beyond = np.maximum(z - high, low - z)
        steep = beyond / np.where(run_ > 0, run_ * ratio_of(data.frame), np.nan)
        wrong = (beyond > length_in(params.height, data.frame.vertical)) & (steep > params.steepness)
        # On a steep face heights differ by much anyway; a spike stands out farther than they do.
        wrong &= beyond > 1.5 * (high - low)
    order = np.flatnonzero(wrong)
    order = order[np.argsort(-beyond[order], kind="stable")]
    found = [
        _told(data, xyz[number[k]], int(number[k]), float(beyond[k]), bool(z[k] > high[k]), float(run_[k]))
        for k in order[:200]
    ]
    found = cut_short(found, CHECK.id, ("spike or pit", "spikes or pits"))
    if len(order) > 200:
        found[-1] = note(CHECK.id, f"There are {len(order) - 20} more spikes or pits, all smaller.")
    return found


def _in_grid(grid: Grid) -> tuple[Floats, Floats, Floats]:
    """Return the lowest and highest of the eight neighbours of every cell that has a height, and how far they are."""
    from scipy import ndimage

    known = np.isfinite(grid.heights)
    around_it = np.ones((3, 3), np.bool_)
    around_it[1, 1] = False
    fill = {"footprint": around_it, "mode": "constant"}
    low = ndimage.minimum_filter(np.where(known, grid.heights, np.inf), cval=np.inf, **fill)[known]
    high = ndimage.maximum_filter(np.where(known, grid.heights, -np.inf), cval=-np.inf, **fill)[known]
    # A cell alone among gaps has nobody to differ from.
    low[~np.isfinite(low)], high[~np.isfinite(high)] = -np.inf, np.inf
    return low, high, np.full(len(low), min(grid.dx, grid.dy))


def _ground(points: PointSet) -> Flags:
    """Return which points are meant to be ground; bushes are no spikes."""
    classes = points.attributes.get("classification")
    if classes is None or not np.isin(classes, GROUND).any():
        # Nobody looks twice at what is noise already.
        return np.ones(len(points.xyz), np.bool_) if classes is None else ~np.isin(classes, NOISE)
    return np.isin(classes, GROUND)


def _nearest(xyz: Floats, progress: Progress) -> tuple[Floats, Floats, Floats]:
    from scipy.spatial import cKDTree

    here = xyz[:, :2] - xyz[:, :2].mean(axis=0)
    good = np.isfinite(here).all(axis=1) & np.isfinite(xyz[:, 2])
    low, high, run_ = np.full(len(xyz), np.nan), np.full(len(xyz), np.nan), np.full(len(xyz), np.nan)
    rows = np.flatnonzero(good)
    if len(rows) < 4:
        return low, high, run_
    tree = cKDTree(here[rows], balanced_tree=False)
    near = min(NEAREST, len(rows) - 1)
    for start in range(0, len(rows), 200_000):
        part = rows[start : start + 200_000]
        distance, index = tree.query(here[part], near + 1)
        z = xyz[rows, 2][index[:, 1:]]
        # A second height at the same place is another finding.
        z = np.where(distance[:, 1:] > 1e-6, z, np.nan)
        with np.errstate(all="ignore"):
            low[part], high[part] = np.nanmin(z, axis=1), np.nanmax(z, axis=1)
            run_[part] = np.nanmin(np.where(distance[:, 1:] > 1e-6, distance[:, 1:], np.nan), axis=1)
        progress.report(0.1 + 0.8 * start / len(rows))
    return low, high, run_


def _told(data: Dataset, place: NDArray[np.float64], number: int, beyond: float, up: bool, run_: float) -> Finding:
    name = ""
    for points in of_kind([data], PointSet):
        if "point" in points.attributes:
            name = f" (point {point_name(points, number)})"
    what, side = ("spike", "above the highest") if up else ("pit", "below the lowest")
    text = (
        f"A {what}{name}: height {with_unit(float(place[2]), data.frame.vertical, 3)} stands {with_unit(beyond, data.frame.vertical)} "
        f"{side} of its neighbours, the nearest {with_unit(run_, data.frame.horizontal, 1)} away."
    )
    at = (float(place[0]), float(place[1]))
    remedy = None
    if isinstance(data, Tin):
        remedy = Remedy("edit", "Delete the vertex", {"entry": f"remove {at[0]!r},{at[1]!r}"})
    elif isinstance(data, PointSet):
        remedy = _point_out(data, place, run_, beyond, up)
    return Finding(CHECK.id, text, at=at, remedy=remedy)


def _point_out(points: PointSet, place: Floats, run_: float, beyond: float, up: bool) -> Remedy:
    """Return how one point goes: out of sight of what is made of its class, or out altogether where it has none."""
    z = float(place[2])
    where = words_of_point(place, run_ / 4.0, z - beyond / 2.0 if up else None, None if up else z + beyond / 2.0)
    if CLASSES in points.attributes:
        return Remedy("edit", "Make it noise", {"entry": f"class {HIGH_NOISE if up else LOW_NOISE} {where}"})
    return Remedy("edit", "Delete the point", {"entry": f"delete {where}"})


CHECK = Check(
    id="spikes",
    version=3,
    title="Spikes and pits",
    also=("outliers", "pits", "blunders"),
    help="A single height beyond all around it is a bad reading, a bird, or a point with the wrong rod height.",
    takes=(Tin, PointSet, Grid),
    params=Params,
    run=run,
)
