"""Which points of a cloud are ground: classes are set, no point is dropped.

The method is the simple morphological filter of Pingel, Clarke and McBride, “An improved simple morphological filter for
the terrain classification of airborne LIDAR data”, ISPRS Journal of Photogrammetry and Remote Sensing 77 (2013): the lowest
heights of cells are opened with growing windows; what stands out by more than the slope allows is no ground; the rest
makes a provisional ground, and points close enough to it are ground. As in Zhang and others, “A progressive morphological
filter for removing nonground measurements from airborne LIDAR data”, IEEE Transactions on Geoscience and Remote Sensing
41 (2003), windows are square, so that each pass costs the same however wide they are.
"""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.base.words import spaced
from vastgrid.data.classes import CLASSES, GROUND, LOW_NOISE, NOISE, UNCLASSIFIED, class_words
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame, need_lengths
from vastgrid.data.outline import Outline, PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.kernels.cells.ground import above_ground, at_middles, filled, lowest_of_cells, reach_of_filling
from vastgrid.params.declare import Param

MOST_CELLS = 60_000_000


class Preset(Enum):
    """What the ground is covered with."""

    OPEN = "open"
    WOODED = "wooded"
    BUILT = "built"


# Cell, window, height and noise in metres; slope and scale as ratios. The method's paper finds 1 m, 0.15, 18 m, 0.5 m and
# 1.25 best over all its samples; wider windows for roofs and more slope for open hillsides follow its discussion.
_PRESETS = {
    Preset.OPEN: {"cell": 1.0, "window": 6.0, "slope": 0.3, "height": 0.25, "scale": 0.2, "noise": 1.0},
    Preset.WOODED: {"cell": 1.0, "window": 12.0, "slope": 0.25, "height": 0.3, "scale": 0.2, "noise": 1.5},
    Preset.BUILT: {"cell": 1.0, "window": 25.0, "slope": 0.15, "height": 0.3, "scale": 0.25, "noise": 1.5},
}


@dataclass(frozen=True)
class GroundParams:
    """What stands on the ground, and how far it may be from even."""

    preset: Annotated[
        Preset,
        Param("Ground is", "open: grass and rock; wooded: bushes and trees; built: houses. It sets the other values."),
    ] = Preset.OPEN
    cell: Annotated[
        Length | None,
        Param("Cell", "Width of the cells whose lowest points are looked at.", Quantity.XY_LENGTH, above=0),
    ] = None
    window: Annotated[
        Length | None,
        Param("Window", "Half the width of the widest object that stands on the ground.", Quantity.XY_LENGTH, above=0),
    ] = None
    slope: Annotated[
        float | None, Param("Slope", "How much steeper than its surroundings ground may be, as a ratio.", above=0)
    ] = None
    height: Annotated[
        Length | None,
        Param("Height", "How far from the provisional ground a point may lie.", Quantity.Z_LENGTH, above=0),
    ] = None
    scale: Annotated[
        float | None, Param("On slopes", "How much farther it may lie for each unit of slope, in cells.", least=0)
    ] = None
    noise: Annotated[
        Length | None,
        Param(
            "Noise below",
            "Points lower than the ground by more than this become class 7, low noise.",
            Quantity.Z_LENGTH,
            above=0,
        ),
    ] = None


def settle(inputs: Sequence[PointSet], params: GroundParams) -> GroundParams:
    """Fill in what the preset says, and cells wide enough to hold points."""
    frame = inputs[0].frame
    preset = _PRESETS[params.preset]
    filled_in: dict[str, object] = {}
    for name in ("cell", "window", "height", "noise"):
        if getattr(params, name) is None:
            value = preset[name] if name != "cell" else max(preset["cell"], _cell_of(inputs[0]))
            filled_in[name] = _metric(value, frame, height=name in ("height", "noise"))
    for name in ("slope", "scale"):
        if getattr(params, name) is None:
            filled_in[name] = preset[name]
    return dataclasses.replace(params, **filled_in)  # type: ignore[arg-type]


def _metric(value: float, frame: Frame, *, height: bool) -> Length:
    """Return a length given in metres; where the unit of heights is unknown, as a number in that of plan."""
    unit = frame.vertical if height else frame.horizontal
    if unit is not None and unit is not Unit.DEGREE:
        return Length(value, Unit.METRE)
    return Length(float(f"{value / _metres(frame.horizontal):.3g}"))


def _cell_of(points: PointSet) -> float:
    """Return a cell, in metres, that most often holds a point of its own: one and a half times their mean distance."""
    if len(points.xyz) < 2:
        return 0.0
    low, high = (np.array(each) for each in _ends(points))
    unit = points.frame.horizontal
    metres = float(unit.metres) if unit is not None and unit is not Unit.DEGREE else 1.0
    mean = float(np.sqrt(np.prod(np.maximum(high - low, 1e-9)) / len(points.xyz)))
    return float(f"{1.5 * mean * metres:.1g}")


def run(inputs: Sequence[PointSet], params: GroundParams, progress: Progress) -> Result:
    """Set classes; see `CONVERSION`.

    Raises
    ------
    CallError
        If the points are in degrees, or the cells too many.
    """
    points = inputs[0]
    need_lengths(points.name, points.frame, "slopes need")
    ground_filter = _filter_of(points.frame, params)
    use = _usable(points)
    if not use.any():
        return Result(points, (Finding("no-ground", f"{points.name} has no points that could be ground."),))
    low, high = _ends(points)
    lattice = ground_filter.lattice(low, high)
    if lattice[2] * lattice[3] > MOST_CELLS:
        raise CallError(
            f"cells of {ground_filter.size:g} would be {spaced(lattice[2])} × {spaced(lattice[3])}; give a wider cell"
        )
    ground = _provisional(points.xyz, use, ground_filter, lattice, progress)
    progress.report(0.85, "measuring points against the ground")
    classes = _classified(points, use, ground_filter, ground, lattice)
    findings = _told(points.attributes.get(CLASSES), classes)
    progress.report(1.0)
    made = dataclasses.replace(points, attributes={**points.attributes, CLASSES: classes})
    ground_number, low_number = int((classes[use] == GROUND).sum()), int((classes[use] == LOW_NOISE).sum())
    figures = {"ground": ground_number, "other": len(classes) - ground_number, "noise": low_number}
    return Result(made, tuple(findings), figures=figures)


def _ends(points: PointSet) -> tuple[list[float], list[float]]:
    extent = points.extent()
    assert extent.east is not None and extent.north is not None  # noqa: PT018
    return [extent.east[0], extent.north[0]], [extent.east[1], extent.north[1]]


def _classified(
    points: PointSet, use: NDArray[np.bool_], ground_filter: _Filter, ground: Floats, lattice: tuple[int, int, int, int]
) -> NDArray[np.uint8]:
    """Return the class of each point by its height above a ground."""
    gap, steep = above_ground(points.xyz, ground, ground_filter.size, lattice[0], lattice[1])
    # Half a cell beside the middle of its cell a point on a slope is as much higher as that.
    slack = ground_filter.height + ground_filter.scale * steep * ground_filter.size
    classes = np.full(len(points.xyz), UNCLASSIFIED, np.uint8)
    classes[(np.abs(gap) <= slack) & use] = GROUND
    classes[(gap < -np.maximum(ground_filter.noise, slack)) & use] = LOW_NOISE
    old = points.attributes.get(CLASSES)
    if old is not None:
        noise = np.isin(old, NOISE)
        classes[noise] = old[noise]
    return classes


def _halo(inputs: Sequence[PointSet], params: GroundParams) -> float | None:
    if params.cell is None:
        return None
    return _filter_of(inputs[0].frame, params).halo()


def _whole(inputs: Sequence[Outline], params: GroundParams) -> PointOutline:
    (own,) = inputs
    assert isinstance(own, PointOutline)
    need_lengths(own.name, own.frame, "slopes need")
    return own


def _tile(inputs: Sequence[PointSet], params: GroundParams, piece: TilePart) -> PointSet:
    """Set the classes of the points of a tile by the ground of the tile and around it."""
    (points,) = inputs
    ground_filter = _filter_of(points.frame, params)
    whole, halo = piece.inputs[0].box(), ground_filter.halo()
    box = piece.box.grown(halo)
    low = max(box.west, whole.west), max(box.south, whole.south)
    high = min(box.east, whole.east), min(box.north, whole.north)
    x, y = points.xyz[:, 0], points.xyz[:, 1]
    inner = points.chosen(
        (x >= piece.box.west) & (x <= piece.box.east) & (y >= piece.box.south) & (y <= piece.box.north)
    )
    if not len(inner.xyz) or low[0] > high[0] or low[1] > high[1]:
        return dataclasses.replace(inner, attributes={**inner.attributes, CLASSES: np.zeros(len(inner.xyz), np.uint8)})
    lattice = ground_filter.lattice(low, high)
    ground = _provisional(points.xyz, _usable(points), ground_filter, lattice, Silent())
    classes = _classified(inner, _usable(inner), ground_filter, ground, lattice)
    return dataclasses.replace(inner, attributes={**inner.attributes, CLASSES: classes})


def _metres(unit: Unit | None) -> float:
    return float(unit.metres) if unit is not None and unit is not Unit.DEGREE else 1.0


@dataclass(frozen=True, slots=True)
class _Filter:
    """All that the filter is told, as numbers in the data's units.

    Attributes
    ----------
    size, window : float
        Width of a cell, and half the widest thing, in plan.
    slope : float
        Rise over run, in units of height over plan.
    height, noise : float
        How far from the ground a point may lie, and how far below it is noise.
    scale : float
        How many cells farther for each unit of slope.
    """

    size: float
    window: float
    slope: float
    height: float
    noise: float
    scale: float

    @property
    def widest(self) -> int:
        """Half the widest thing, in cells."""
        return max(int(np.ceil(self.window / self.size)), 1)

    @property
    def levels(self) -> int:
        """How coarse the ground under things is guessed: over gaps twice as wide as the widest of them."""
        return max(math.ceil(math.log2(2 * self.widest)), _SMALL)

    def halo(self) -> float:
        """Return how far around a point its class depends on the others."""
        cells = 2 * reach_of_filling(_SMALL) + 2 * self.widest + 2
        cells += 2 * (reach_of_filling(_LEAST) + 1) + reach_of_filling(self.levels) + 3
        return cells * self.size

    def lattice(self, low: Sequence[float], high: Sequence[float]) -> tuple[int, int, int, int]:
        """Return the first row and column, and the numbers of rows and columns, that cover ground in plan."""
        left, right = (math.floor(value / self.size) for value in (low[0], high[0]))
        top, bottom = (-math.floor(value / self.size) - 1 for value in (high[1], low[1]))
        return top, left, bottom - top + 1, right - left + 1


# Gaps where no point fell are small; those for telling a slope need only their neighbours.
_SMALL, _LEAST = 3, 2


def _filter_of(frame: Frame, params: GroundParams) -> _Filter:
    assert params.cell is not None and params.window is not None and params.height is not None  # noqa: PT018
    assert params.noise is not None and params.slope is not None and params.scale is not None  # noqa: PT018
    # Slopes are lengths over lengths: where plan and height have other units, a ratio of 1 is not 45°.
    ratio = _metres(frame.horizontal) / _metres(frame.vertical or frame.horizontal)
    return _Filter(
        params.cell.in_unit(frame.horizontal, "cell"),
        params.window.in_unit(frame.horizontal, "window"),
        params.slope * ratio,
        params.height.in_unit(frame.vertical, "height"),
        params.noise.in_unit(frame.vertical, "noise"),
        params.scale,
    )


def _usable(points: PointSet) -> NDArray[np.bool_]:
    """Return the points that could be ground: they have a place, and are not noise already."""
    old = points.attributes.get(CLASSES)
    noise = np.isin(old, NOISE) if old is not None else np.zeros(len(points.xyz), np.bool_)
    return np.asarray(~noise & np.isfinite(points.xyz).all(axis=1), np.bool_)


def _provisional(
    xyz: Floats, use: NDArray[np.bool_], ground_filter: _Filter, lattice: tuple[int, int, int, int], progress: Progress
) -> Floats:
    """Return the heights of the ground by cells, NaN where none is known far and wide."""
    top, left, rows, columns = lattice
    size = ground_filter.size
    lowest = lowest_of_cells(xyz, use, size, top, left, rows, columns)
    empty = lowest < 0
    cells = np.where(empty, np.nan, xyz[lowest, 2]) if len(xyz) else np.full(lowest.shape, np.nan)
    whole = filled(cells, top, left, _SMALL)
    # Stray points far below stand out of the ground turned upside down, as in the paper's first step.
    below = -whole - _opened(-whole, 1) > ground_filter.noise + ground_filter.slope * size
    cells[below] = np.nan
    whole = filled(cells, top, left, _SMALL)
    thing = np.zeros(whole.shape, np.bool_)
    last, widest = whole, ground_filter.widest
    radii = sorted({*range(1, min(widest, 8) + 1), *np.geomspace(8, max(widest, 8), 12).astype(int).tolist(), widest})
    radii = [radius for radius in radii if radius <= widest]
    for k, radius in enumerate(radii):
        progress.report(0.1 + 0.6 * k / len(radii), "opening with growing windows")
        # A wider square takes away all that a narrower one does, so that each may begin from the first.
        opened = _opened(whole, radius)
        thing |= last - opened > ground_filter.slope * size * radius
        last = opened
    progress.report(0.75, "laying the ground under what stands on it")
    out = thing | empty | below
    known = np.where(out, np.nan, whole)
    # The lowest point of a cell on a slope lies beside its middle: it is brought there, twice for the slope's own sake.
    for _ in range(2):
        near = filled(known, top, left, _LEAST)
        known = np.where(out, np.nan, at_middles(xyz, lowest, near, size, top, left))
    return filled(known, top, left, ground_filter.levels)


def _opened(heights: Floats, radius: int) -> Floats:
    """Return heights opened by a square; what is not known neither holds anything down nor up."""
    from scipy import ndimage

    size = 2 * radius + 1
    unknown = np.isnan(heights)
    # Beyond the rim the ground goes on as it is there.
    eroded = ndimage.minimum_filter(np.where(unknown, np.inf, heights), size=size, mode="nearest")
    eroded[eroded == np.inf] = -np.inf
    return np.where(unknown, np.nan, ndimage.maximum_filter(eroded, size=size, mode="nearest"))


def _told(old: NDArray[np.uint8] | None, new: NDArray[np.uint8]) -> list[Finding]:
    """Say how many points went from where to where."""
    parts = [f"{spaced(int((new == code).sum()))} {class_words(int(code))}" for code in np.unique(new)]
    findings = [note("classes-set", f"Of {count(len(new), 'point')} are now: {', '.join(parts)}.")]
    if old is not None:
        moved = [
            f"{spaced(number)} from {class_words(int(was))} to {class_words(int(now))}"
            for was in np.unique(old)
            for now in np.unique(new)
            if was != now and (number := int(((old == was) & (new == now)).sum()))
        ]
        if moved:
            findings.append(note("classes-changed", f"Their classes changed: {', '.join(moved)}."))
    return findings


CONVERSION = Conversion(
    id="ground",
    version=2,
    title="Classify ground points",
    also=("ground filter", "bare earth", "DTM"),
    help="Sets the class of each point to ground or not, by a morphological filter; no point is dropped.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", like="points"),),
    params=GroundParams,
    template="{points} with ground points classified ({preset} land)[: cells of {cell}, things up to twice {window} wide, "
    "ground up to {slope} steeper than around, points within {height} of it (and {scale} cells for each unit of slope); "
    "more than {noise} below is noise|, with {cell=automatic values}].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name}, ground classified",
    halo=_halo,
    tiles=Tiling(whole=_whole, run=_tile, columns=lambda params: (CLASSES,)),
)
