"""Fewer points: one for each cell of a lattice."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Quantity
from vastgrid.base.words import spaced
from vastgrid.data.outline import Outline, PointOutline
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.kernels.cells.thinning import CENTRAL, HIGHEST, LOWEST, cells_of, chosen_of_cells, means_of_cells
from vastgrid.kernels.triangles.topology import corners
from vastgrid.params.declare import Param


class Keep(Enum):
    """Which point of a cell stays."""

    LOWEST = "lowest"
    HIGHEST = "highest"
    MEAN = "mean"
    CENTRAL = "central"


_CHOICE = {Keep.LOWEST: LOWEST, Keep.HIGHEST: HIGHEST, Keep.CENTRAL: CENTRAL}


@dataclass(frozen=True)
class ThinParams:
    """How fine, and which."""

    spacing: Annotated[
        Length | None,
        Param(
            "Spacing",
            "Width of the cells, counted from whole multiples of it; one point of each stays.",
            Quantity.XY_LENGTH,
            above=0,
            absent="twice the mean spacing",
        ),
    ] = None
    keep: Annotated[
        Keep,
        Param(
            "Keep",
            "lowest, highest; mean: one new point at the mean place and height; central: the one nearest to the cell's middle.",
        ),
    ] = Keep.CENTRAL


def settle(inputs: Sequence[PointSet], params: ThinParams) -> ThinParams:
    """Give an open spacing twice the mean distance of points: a quarter of them stays."""
    if params.spacing is not None or len(inputs[0].xyz) == 0:
        return params
    extent = inputs[0].extent()
    sides = [max(pair[1] - pair[0], 1e-9) for pair in (extent.east, extent.north) if pair is not None]
    area = math.prod(sides)
    size = float(f"{2.0 * (area / len(inputs[0].xyz)) ** 0.5:.2g}")
    return dataclasses.replace(params, spacing=Length(size, inputs[0].frame.horizontal))


def run(inputs: Sequence[PointSet], params: ThinParams, progress: Progress) -> Result:
    """Keep one point of each cell; see `CONVERSION`.

    Raises
    ------
    CallError
        If the cells are so small that they cannot be numbered.
    """
    points = inputs[0]
    if params.spacing is None or len(points.xyz) == 0:
        return Result(points)
    size = params.spacing.in_unit(points.frame.horizontal, "spacing")
    low, high = corners(points.xyz[:, :2])
    if float(np.ptp(np.stack((low, high)), axis=0).max()) / size > 1e9:
        raise CallError(f"spacing: cells of {params.spacing} are too small for ground of this extent")
    findings: list[Finding] = []
    cell, number = cells_of(points.xyz, size)
    progress.report(0.5, "sorting points into cells")
    if params.keep is Keep.MEAN:
        xyz = means_of_cells(points.xyz, cell, number)
        first = chosen_of_cells(points.xyz, cell, number, size, CENTRAL)
        made = dataclasses.replace(points.chosen(first), xyz=xyz)
        if points.attributes:
            text = "Means are new points; their other values are those of the point nearest to the middle of the cell."
            findings.append(note("means-are-new", text))
    else:
        made = points.chosen(np.sort(chosen_of_cells(points.xyz, cell, number, size, _CHOICE[params.keep])))
    gone = len(points.xyz) - len(made.xyz)
    text = f"{count(len(made.xyz), 'point')} of {spaced(len(points.xyz))} stayed, {gone / len(points.xyz):.1%} were dropped."
    findings.append(note("thinned", text))
    progress.report(1.0)
    return Result(made, tuple(findings), figures={"kept": len(made.xyz), "dropped": gone})


def _whole(inputs: Sequence[Outline], params: ThinParams) -> PointOutline:
    (own,) = inputs
    assert isinstance(own, PointOutline)
    assert params.spacing is not None
    size = params.spacing.in_unit(own.frame.horizontal, "spacing")
    cells = math.ceil((own.high[0] - own.low[0]) / size + 1.0) * math.ceil((own.high[1] - own.low[1]) / size + 1.0)
    return dataclasses.replace(own, count=min(own.count, cells))


def _tile(inputs: Sequence[PointSet], params: ThinParams, piece: TilePart) -> PointSet:
    """Thin the points of all cells that meet a tile; each that stays belongs to the tile that it lies in."""
    made = run(inputs, params, Silent()).dataset
    assert isinstance(made, PointSet)
    return made


CONVERSION = Conversion(
    id="thin",
    version=1,
    title="Thin points",
    also=("decimate cloud", "subsample"),
    help="One point of each cell of a lattice: the lowest, the highest, the one nearest to its middle, or their mean.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", like="points"),),
    params=ThinParams,
    template="{points} thinned to one point[ every {spacing}| in {spacing=cells of automatic size}], keeping the {keep} one.",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name} thinned",
    halo=lambda inputs, params: (
        params.spacing.in_unit(inputs[0].frame.horizontal, "spacing") if params.spacing else None
    ),
    ask=True,
    tiles=Tiling(whole=_whole, run=_tile),
)
