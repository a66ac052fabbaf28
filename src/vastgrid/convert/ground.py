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
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit
from vastgrid.base.words import spaced
from vastgrid.data.classes import CLASSES, GROUND, LOW_NOISE, NOISE, UNCLASSIFIED, class_words
from vastgrid.data.dataset import Floats
from vastgrid.data.frame import Frame, need_lengths
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.ground import above_ground, at_middles, filled, lowest_of_cells
from vastgrid.kernels.topology import corners
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
        Param("Ground is", "open: grass and rock; wooded: bushes and trees; built: houses. It fills in the rest."),
    ] = Preset.OPEN
    cell: Annotated[
        Length | None,
        Param("Cell", "Width of the cells whose lowest points are looked at.", Quantity.XY_LENGTH, above=0),
    ] = None
    window: Annotated[
        Length | None,
        Param("Window", "Half the width of the widest thing that stands on the ground.", Quantity.XY_LENGTH, above=0),
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
    low, high = corners(points.xyz[:, :2])
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
    frame = points.frame
    need_lengths(points.name, points.frame, "slopes need")
    assert params.cell is not None and params.window is not None and params.height is not None  # noqa: PT018
    assert params.noise is not None and params.slope is not None and params.scale is not None  # noqa: PT018
    size = params.cell.in_unit(frame.horizontal, "cell")
    window = params.window.in_unit(frame.horizontal, "window")
    # Slopes are lengths over lengths: where plan and height have other units, a ratio of 1 is not 45°.
    ratio = _metres(frame.horizontal) / _metres(frame.vertical or frame.horizontal)
    height = params.height.in_unit(frame.vertical, "height")
    lowest = params.noise.in_unit(frame.vertical, "noise")
    old = points.attributes.get(CLASSES)
    noise = np.isin(old, NOISE) if old is not None else np.zeros(len(points.xyz), np.bool_)
    use = ~noise & np.isfinite(points.xyz).all(axis=1)
    if not use.any():
        return Result(points, (Finding("no-ground", f"{points.name} has no points that could be ground."),))
    ground, west, north = _provisional(points.xyz, use, size, window, params.slope * ratio, lowest, progress)
    progress.report(0.85, "measuring points against the ground")
    gap, steep = above_ground(points.xyz, ground, west, north, size)
    # Half a cell beside the middle of its cell a point on a slope is as much higher as that.
    near = np.abs(gap) <= height + params.scale * steep * size
    is_ground = near & use
    low = (gap < -np.maximum(lowest, height + params.scale * steep * size)) & use
    classes = np.full(len(points.xyz), UNCLASSIFIED, np.uint8)
    classes[is_ground] = GROUND
    classes[low] = LOW_NOISE
    if old is not None:
        classes[noise] = old[noise]
    findings = _told(old, classes)
    progress.report(1.0)
    made = dataclasses.replace(points, attributes={**points.attributes, CLASSES: classes})
    figures = {"ground": int(is_ground.sum()), "other": int((~is_ground).sum()), "noise": int(low.sum())}
    return Result(made, tuple(findings), figures=figures)


def _metres(unit: Unit | None) -> float:
    return float(unit.metres) if unit is not None and unit is not Unit.DEGREE else 1.0


def _provisional(
    xyz: Floats, use: NDArray[np.bool_], size: float, window: float, slope: float, noise: float, progress: Progress
) -> tuple[Floats, float, float]:
    """Return the heights of the ground by cells, and the outer corner of the first.

    Raises
    ------
    CallError
        If there would be too many cells.
    """
    from scipy import ndimage

    low, high = corners(xyz[use])
    rows, columns = int((high[1] - low[1]) / size) + 1, int((high[0] - low[0]) / size) + 1
    if rows * columns > MOST_CELLS:
        raise CallError(f"cells of {size:g} would be {spaced(rows)} × {spaced(columns)}; give a wider cell")
    west, north = float(low[0]), float(high[1])
    lowest = lowest_of_cells(xyz, use, west, north, size, rows, columns)
    empty = lowest < 0
    cells = np.where(empty, np.nan, xyz[lowest, 2])
    whole = filled(cells)
    # Stray points far below stand out of the ground turned upside down, as in the paper's first step.
    below = -whole - _opened(ndimage, -whole, 1) > noise + slope * size
    cells[below] = np.nan
    whole = filled(cells)
    thing = np.zeros(whole.shape, np.bool_)
    last = whole
    widest = max(int(np.ceil(window / size)), 1)
    radii = sorted({*range(1, min(widest, 8) + 1), *np.geomspace(8, max(widest, 8), 12).astype(int).tolist(), widest})
    radii = [radius for radius in radii if radius <= widest]
    for k, radius in enumerate(radii):
        progress.report(0.1 + 0.6 * k / len(radii), "opening with growing windows")
        opened = _opened(ndimage, last, radius)
        thing |= last - opened > slope * size * radius
        last = opened
    progress.report(0.75, "laying the ground under what stands on it")
    out = thing | empty | below
    ground = filled(np.where(out, np.nan, whole))
    # The lowest point of a cell on a slope lies beside its middle: it is brought there, twice for the slope's own sake.
    for _ in range(2):
        ground = filled(np.where(out, np.nan, at_middles(xyz, lowest, ground, west, north, size)))
    return ground, west, north


def _opened(ndimage: object, heights: Floats, radius: int) -> Floats:
    size = 2 * radius + 1
    # Beyond the rim the ground goes on as it is there.
    eroded = ndimage.minimum_filter(heights, size=size, mode="nearest")  # type: ignore[attr-defined]
    return np.asarray(ndimage.maximum_filter(eroded, size=size, mode="nearest"))  # type: ignore[attr-defined]


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
    version=1,
    title="Ground of a cloud",
    help="Sets the class of each point to ground or not, by a morphological filter; no point is dropped.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", like="points"),),
    params=GroundParams,
    template="{points} with ground told from what stands on it ({preset} land): cells of {cell}, things up to twice {window} wide, "
    "ground up to {slope} steeper than around, points within {height} of it (and {scale} cells for each unit of slope); "
    "more than {noise} below is noise.",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name}, ground classified",
)
