"""Gaps: places inside the data where there is none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import Finding, Severity
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Quantity
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check, cut_short, plan_area, with_unit
from vastgrid.kernels.cells.raster import raster_heights
from vastgrid.params.declare import Param

CELLS = 600


@dataclass(frozen=True)
class Params:
    """When a gap is worth telling."""

    times: Annotated[
        float,
        Param(
            "Wider than this many times the spacing",
            "How wide an empty place inside has to be, in mean distances of points or cells.",
            Quantity.RATIO,
            above=1,
        ),
    ] = 10.0


def run(data: PointSet | Tin | Grid, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return empty places inside the data, the widest first."""
    from scipy import ndimage

    extent = data.extent()
    if not extent.east or not extent.north:
        return []
    filled, size, spacing = _filled(data, params.times)
    if filled.sum() < 9:
        return []
    progress.report(0.4)
    inside = ndimage.binary_fill_holes(ndimage.binary_closing(np.pad(filled, 2), iterations=1))[2:-2, 2:-2]
    number, many = ndimage.label(inside & ~filled)
    if many == 0:
        return []
    depth = ndimage.distance_transform_edt(np.pad(number > 0, 1))[1:-1, 1:-1]
    widest = ndimage.maximum(depth, number, np.arange(1, many + 1))
    progress.report(0.8)
    found = []
    for k in np.argsort(-widest):
        width = 2.0 * float(widest[k]) * size
        if width < params.times * spacing:
            break
        row, column = np.unravel_index(int(np.where(number == k + 1, depth, 0).argmax()), depth.shape)
        place = (extent.east[0] + (float(column) + 0.5) * size, extent.north[1] - (float(row) + 0.5) * size)
        area = float((number == k + 1).sum()) * size * size
        unit = data.frame.horizontal
        text = f"A gap about {with_unit(width, unit, 1)} wide: some {plan_area(area, unit)} inside without any data."
        found.append(Finding(CHECK.id, text, Severity.WARNING, place))
        if len(found) > 200:
            break
    return cut_short(found, CHECK.id, ("gap", "gaps"))


def _filled(data: PointSet | Tin | Grid, times: float) -> tuple[NDArray[np.bool_], float, float]:
    """Return a north-up raster of where there is data, the size of its cells, and the spacing of the data."""
    extent = data.extent()
    assert extent.east
    assert extent.north
    width, height = extent.east[1] - extent.east[0], extent.north[1] - extent.north[0]
    if isinstance(data, Grid):
        step = max(max(data.rows, data.columns) // 2000, 1)
        return np.isfinite(data.heights[::step, ::step]), data.dx * step, data.dx
    if isinstance(data, Tin):
        size = max(width, height, 1e-6) / CELLS
        shape = (max(int(height / size) + 1, 1), max(int(width / size) + 1, 1))
        drawn = raster_heights(data.vertices, data.triangles, (extent.east[0], extent.north[1]), (size, size), shape)
        spacing = float(np.sqrt(max(width * height, 1e-9) / max(len(data.vertices), 1)))
        return np.isfinite(drawn), size, max(spacing, size / times * 3.0)
    # A cell takes in some ten points where they are spread evenly, so that an empty one is no accident.
    spacing = float(np.sqrt(max(width * height, 1e-9) / max(len(data.xyz), 1)))
    size = max(3.2 * spacing, max(width, height) / 2000.0, 1e-6)
    columns, rows = int(width / size) + 1, int(height / size) + 1
    counts = np.zeros(rows * columns, np.int64)
    for start in range(0, len(data.xyz), 2_000_000):
        part = data.xyz[start : start + 2_000_000]
        part = part[np.isfinite(part[:, :2]).all(axis=1)]
        column = ((part[:, 0] - extent.east[0]) / size).astype(np.int64)
        row = ((extent.north[1] - part[:, 1]) / size).astype(np.int64)
        counts += np.bincount(
            np.clip(row, 0, rows - 1) * columns + np.clip(column, 0, columns - 1), minlength=rows * columns
        )
    return counts.reshape(rows, columns) > 0, size, spacing


CHECK = Check(
    id="gaps",
    version=1,
    title="Gaps",
    also=("holes", "missing data"),
    help="An empty place inside the data was forgotten in the field, hidden from the scanner, or lost on the way.",
    takes=(PointSet, Tin, Grid),
    params=Params,
    run=run,
)
