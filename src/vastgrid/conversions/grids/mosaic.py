"""Several grids as one."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import gap_words
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.loss import Loss
from vastgrid.data.outline import CellOutline, Outline
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.measures.difference import difference
from vastgrid.measures.heights import lattice
from vastgrid.params.declare import Param
from vastgrid.terrain.cells.gridding import Cells, grid_of

MOST_CELLS = 400_000_000


class Overlap(Enum):
    """What counts where several have a height."""

    FEATHER = "feather"
    FIRST = "first"
    MEAN = "mean"
    LOWEST = "lowest"
    HIGHEST = "highest"


@dataclass(frozen=True)
class MosaicParams:
    """How grids meet."""

    overlap: Annotated[
        Overlap,
        Param(
            "Where they overlap",
            "feather: weighted by the distance to its edge; first: the one named first; mean, lowest, highest.",
            said=(
                ("feather", "feathered where they overlap"),
                ("first", "the first taking precedence where they overlap"),
                ("mean", "their mean where they overlap"),
                ("lowest", "the lowest where they overlap"),
                ("highest", "the highest where they overlap"),
            ),
        ),
    ] = Overlap.FEATHER
    width: Annotated[
        Length | None,
        Param(
            "Feather",
            "Distance from its edge beyond which a grid counts in full.",
            Quantity.XY_LENGTH,
            above=0,
            absent="the whole overlap",
        ),
    ] = None


def cells_of(grids: Sequence[Grid]) -> Cells:
    """Return the cells of the finest grid, carried on over the ground of all.

    Raises
    ------
    CallError
        If there would be more than 400 million.
    """
    fine = min(grids, key=lambda each: each.dx * each.dy)
    west = min(each.west for each in grids)
    north = max(each.north for each in grids)
    east = max(each.west + each.columns * each.dx for each in grids)
    south = min(each.north - each.rows * each.dy for each in grids)
    left, up = math.ceil((fine.west - west) / fine.dx - 1e-6), math.ceil((north - fine.north) / fine.dy - 1e-6)
    west, north = fine.west - left * fine.dx, fine.north + up * fine.dy
    columns, rows = math.ceil((east - west) / fine.dx - 1e-6), math.ceil((north - south) / fine.dy - 1e-6)
    if rows * columns > MOST_CELLS:
        raise CallError(f"together they would have {count(rows * columns, 'cell')}; bring them onto larger cells first")
    return Cells(west, north, fine.dx, fine.dy, rows, columns)


def _share(known: Flags, cells: Cells, width: float | None) -> Floats:
    """Return how much each cell counts: its distance from where the grid ends, up to a width."""
    from scipy.ndimage import distance_transform_edt

    # What lies beyond the mosaic ends it no less.
    wide = np.pad(known, 1)
    far = distance_transform_edt(wide, sampling=(cells.dy, cells.dx))[1:-1, 1:-1]
    return np.asarray(far if width is None else np.minimum(far, width), np.float64)


def _halo(inputs: Sequence[Grid], params: MosaicParams) -> float | None:
    if params.overlap is Overlap.FEATHER and params.width is None:
        return None
    width = params.width.in_unit(inputs[0].frame.horizontal, "width") if params.width is not None else 0.0
    cells = cells_of(inputs)
    return width + 2.0 * max([math.hypot(cells.dx, cells.dy), *(math.hypot(each.dx, each.dy) for each in inputs)])


def _halo_of_tiles(inputs: Sequence[Grid], params: MosaicParams) -> float | None:
    if params.overlap is not Overlap.FEATHER or params.width is not None:
        return _halo(inputs, params)
    cells = cells_of(inputs)
    return _widest(inputs) + 2.0 * max(
        [math.hypot(cells.dx, cells.dy), *(math.hypot(source.dx, source.dy) for source in inputs)]
    )


def _widest(grids: Sequence[Grid | CellOutline]) -> float:
    """Return how far from a grid's rim anything lies at most that another covers too: so far a whole feather looks."""
    low = np.array([(each.west, each.north - each.rows * each.dy) for each in grids])
    high = np.array([(each.west + each.columns * each.dx, each.north) for each in grids])
    most = 0.0
    for k, (own_low, own_high) in enumerate(zip(low, high, strict=True)):
        left, right = np.maximum(low, own_low), np.minimum(high, own_high)
        meets = (left < right).all(axis=1)
        # Farthest from both ends lies the middle, or what of the overlap is nearest to it.
        middle = np.clip((own_low + own_high) / 2.0, left, right)
        far = np.minimum(middle - own_low, own_high - middle).min(axis=1)
        meets[k] = False
        most = max(most, float(far[meets].max(initial=0.0)))
    return most


def _whole(inputs: Sequence[Outline], params: MosaicParams) -> CellOutline:
    _check(params)
    cells = cells_of([each.dataset() for each in inputs])  # type: ignore[misc]
    own = (cells.west, cells.north, cells.dx, cells.dy, cells.rows, cells.columns)
    return CellOutline("Mosaic", inputs[0].frame, *own)


def _tile(inputs: Sequence[Grid], params: MosaicParams, piece: TilePart) -> Grid:
    """Join what the grids have on a tile and as far around it as a feather is wide."""
    whole = piece.cells
    width = params.width.in_unit(whole.frame.horizontal, "width") if params.width is not None else None
    far = width or 0.0
    if params.overlap is Overlap.FEATHER and width is None:
        far = _widest([each for each in piece.inputs if isinstance(each, CellOutline)])
    window = whole.window(piece.box.grown(far + 1.5 * max(whole.dx, whole.dy)))
    cells = Cells(whole.west, whole.north, whole.dx, whole.dy, window.rows, window.columns, window.top, window.left)
    total, share = np.zeros(cells.shape), np.zeros(cells.shape)
    for each in inputs:
        own = lattice(each, cells.corner, (cells.dx, cells.dy), cells.shape)
        known = np.isfinite(own)
        weight = _share(known, cells, width) if params.overlap is Overlap.FEATHER else known.astype(np.float64)
        _join(total, share, own, weight, params.overlap)
    return whole.grid(window, _value(total, share))


def _check(params: MosaicParams) -> None:
    if params.width is not None and params.overlap is not Overlap.FEATHER:
        raise CallError("width: only a feathered overlap has one")


def run(inputs: Sequence[Grid], params: MosaicParams, progress: Progress) -> Result:
    """Join the grids; see `CONVERSION`.

    Raises
    ------
    CallError
        If a width is given for what is not feathered.
    """
    _check(params)
    frame = inputs[0].frame
    cells = cells_of(inputs)
    width = params.width.in_unit(frame.horizontal, "width") if params.width is not None else None
    total, share = np.zeros(cells.shape), np.zeros(cells.shape)
    both = np.zeros(cells.shape, np.int8)
    worst = 0.0
    for k, each in enumerate(inputs):
        own = lattice(each, cells.corner, (cells.dx, cells.dy), cells.shape)
        known = np.isfinite(own)
        shared = known & (both > 0)
        if shared.any():
            worst = max(worst, float(np.abs(own - _value(total, share))[shared].max()))
        both += known
        weight = _share(known, cells, width) if params.overlap is Overlap.FEATHER else known.astype(np.float64)
        _join(total, share, own, weight, params.overlap)
        progress.report(0.6 * (k + 1) / len(inputs), "joining grids")
    heights = np.where(both > 0, _value(total, share), np.nan)
    made = grid_of("Mosaic", frame, cells, heights)
    unit = unit_word(frame.vertical)
    overlap = int((both > 1).sum())
    text = f"{count(overlap, 'cell')} lie in more than one grid, where they differ by up to {gap_words(worst)}{unit}."
    findings = [note("overlap", text if overlap else "The grids do not overlap.")]
    coarse = [each.name for each in inputs if each.dx > cells.dx * 1.000001]
    if coarse:
        findings.append(
            note("resampled", f"Brought onto cells of {cells.dx:g}{unit_word(frame.horizontal)}: {', '.join(coarse)}.")
        )
    return Result(made, tuple(findings), _loss(inputs, made, progress.part(0.6, 1.0), findings))


def _join(total: Floats, share: Floats, own: Floats, weight: Floats, overlap: Overlap) -> None:
    """Add a grid to the sums of heights and of what they count; `weight` is 0 where it has no height."""
    known = weight > 0.0
    fresh = known & (share == 0.0)
    again = known & ~fresh
    total[fresh], share[fresh] = (weight * own)[fresh], weight[fresh]
    if overlap in (Overlap.FEATHER, Overlap.MEAN):
        total[again] += (weight * own)[again]
        share[again] += weight[again]
    elif overlap is not Overlap.FIRST:
        pick = np.minimum if overlap is Overlap.LOWEST else np.maximum
        total[again] = pick(total[again], own[again])


def _value(total: Floats, share: Floats) -> Floats:
    return np.asarray(np.divide(total, share, out=np.full(total.shape, np.nan), where=share > 0.0), np.float64)


def _loss(grids: Sequence[Grid], made: Grid, progress: Progress, findings: list[Finding]) -> Loss | None:
    """Return what the mosaic costs the grid that it costs most."""
    losses: list[Loss] = []
    for k, each in enumerate(grids):
        try:
            losses.append(difference(each, made, progress.part(k / len(grids), (k + 1) / len(grids))))
        except DataError as error:
            findings.append(Finding("loss-unknown", f"What it costs {each.name} cannot be measured: {error}."))
    return max(losses, key=lambda loss: loss.largest, default=None)


CONVERSION = Conversion(
    id="mosaic",
    version=1,
    title="Mosaic of grids",
    also=("merge rasters", "join tiles"),
    help="Several grids as one, on the cells of the finest.",
    inputs=(Input("grids", (Grid,), least=2, most=None, fits=lambda grid: grid.has_heights),),
    outputs=(Output("grid", Grid),),
    params=MosaicParams,
    template="{grids} as one grid, {overlap}[, over {width}].",
    run=run,
    estimate=lambda inputs, params: "{} × {} cells".format(*cells_of(inputs).shape),
    name=lambda inputs, params: f"{inputs[0].name} and {len(inputs) - 1} more",
    halo=_halo,
    tiles=Tiling(whole=_whole, run=_tile, halo=_halo_of_tiles),
)
