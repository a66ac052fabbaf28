"""Surface or points to grid."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import spaced, step_below, step_near
from vastgrid.data.classes import CLASSES, ClassList
from vastgrid.data.dataset import Dataset, Flags
from vastgrid.data.grid import Grid
from vastgrid.data.kinds import narrowed
from vastgrid.data.outline import Box, CellOutline, Outline, Window
from vastgrid.data.places import WHERE, Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import Tally, TilePart, Tiling
from vastgrid.measures.difference import gridded_loss
from vastgrid.measures.halo import element
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.clipping import clipped
from vastgrid.terrain.areas.limiting import LIMIT, limit_of
from vastgrid.terrain.cells.gridding import (
    OF_CELL,
    SAID_METHODS,
    Cells,
    Method,
    filled,
    grid_of,
    heights_of_cells,
    heights_on,
)

MOST_CELLS = 400_000_000
# What a preview may cost.
MOST_PREVIEWED = 250_000

TIMES = (0.2, 0.5, 1.0, 2.0, 5.0)

Source = Tin | Grid | PointSet


@dataclass(frozen=True)
class GridParams:
    """How the grid is laid, and how a cell gets its height."""

    cell: Annotated[
        Length | None,
        Param("Cell size", "Width and height of a cell.", Quantity.XY_LENGTH, above=0, absent="automatic size"),
    ] = None
    method: Annotated[
        Method | None,
        Param(
            "Method",
            "linear: in the triangles, breaklines honoured, of a raster between four cells; natural: natural neighbours (Sibson); idw: the 12 nearest by "
            "the inverse square of their distance; lowest, highest, mean, median, count: of the points in each cell.",
            absent="by the usual method",
            said=SAID_METHODS,
        ),
    ] = None
    classes: Annotated[
        ClassList | None, Param("Classes", "Only points of these classes count: 2, 9.", absent="all classes")
    ] = None
    area: Annotated[Area | None, WHERE] = None
    fill: Annotated[
        Length | None,
        Param(
            "Fill gaps",
            "Empty cells no farther than this from one with a height are filled by distance.",
            Quantity.XY_LENGTH,
            above=0,
            absent="nothing",
        ),
    ] = None


def mean_spacing(source: Source) -> float:
    """Return the mean distance of neighbouring vertices or points, by the ground they cover; a grid's own cell size."""
    if isinstance(source, Grid):
        return math.sqrt(source.dx * source.dy)
    if isinstance(source, Tin) and len(source.triangles):
        area, number = float(np.abs(areas(source)).sum()), len(source.vertices)
    else:
        extent = source.extent()
        if extent.east is None or extent.north is None:
            raise DataError(f"{source.name} is empty")
        # A surface without triangles is one that is yet to be made.
        places = source.vertices if isinstance(source, Tin) else source.xyz
        area, number = float(np.ptp(extent.east) * np.ptp(extent.north)), len(places)
    return math.sqrt(area / max(number, 1)) or 1.0


def suggested_cell(source: Source) -> float:
    """Return a cell of about the mean spacing, rounded to 1, 2 or 5 × 10ⁿ: down, but up where cells gather points."""
    spacing = mean_spacing(source)
    if isinstance(source, PointSet):
        # Twice the spacing has four points in a cell: few stay empty.
        spacing *= 2.0
    return step_below(spacing)


def settle(inputs: Sequence[Source], params: GridParams) -> GridParams:
    """Suggest a cell of about the points' mean spacing, and a method: a surface is read, points are averaged."""
    source = inputs[0]
    if params.method is None:
        params = replace(params, method=Method.MEAN if isinstance(source, PointSet) else Method.LINEAR)
    if params.cell is None:
        params = replace(params, cell=Length(suggested_cell(source), source.frame.horizontal))
    return params


def cells_of(source: Dataset, params: GridParams) -> Cells:
    """Return the lattice that covers data, or the area asked for, on whole multiples of the cell size.

    Raises
    ------
    ParamError
        If there would be more than 400 million cells, or the area lies beside the data.
    """
    assert params.cell is not None
    size = params.cell.in_unit(source.frame.horizontal, "cell")
    extent = source.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{source.name} is empty")
    box = [extent.east[0], extent.north[0], extent.east[1], extent.north[1]]
    if params.area is not None:
        ring = params.area.in_frame(source.frame).ring()
        low, high = ring.min(axis=0), ring.max(axis=0)
        if low[0] >= box[2] or low[1] >= box[3] or high[0] <= box[0] or high[1] <= box[1]:
            raise ParamError("area", f"{params.area} lies beside {source.name}")
        box = [float(low[0]), float(low[1]), float(high[0]), float(high[1])]
    west, south = (math.floor(value / size + 1e-9) for value in box[:2])
    east, north = (math.ceil(value / size - 1e-9) for value in box[2:])
    rows, columns = max(north - south, 1), max(east - west, 1)
    if rows * columns > MOST_CELLS:
        word = unit_word(source.frame.horizontal)
        raise ParamError("cell", f"{size:g}{word} would give {count(rows * columns, 'cell')}; choose a larger one")
    return Cells(west * size, north * size, size, size, rows, columns)


def run(inputs: Sequence[Source], params: GridParams, progress: Progress) -> Result:
    """Lay the grid and measure what it loses; see `CONVERSION`.

    Raises
    ------
    CallError
        If classes are asked for of what has none, or gaps are to be filled among counts.
    ParamError
        If there would be more than 400 million cells.
    """
    source, params = inputs[0], settle(inputs, params)
    assert params.method is not None
    cells = cells_of(source, params)
    keep = _kept(source, params)
    if params.fill is not None and params.method is Method.COUNT:
        raise CallError("fill: where no point lies the count is 0, so there is no gap to fill")
    counted: list[Finding] = []
    if params.method in OF_CELL:
        part = progress.part(0.0, 0.5)
        heights, used = heights_of_cells(source.coordinates(), keep, cells, params.method, part)
        counted = _counted(source, keep, used)
    else:
        heights = heights_on(source, cells, params.method, keep, progress.part(0.0, 0.5))
    if params.area is not None:
        heights[~cells.inside(params.area.in_frame(source.frame).ring())] = np.nan
    word = unit_word(source.frame.horizontal)
    if not np.isfinite(heights).any():
        raise DataError(f"no cell centre lies on {source.name}; a cell of {cells.dx:g}{word} is too large for it")
    findings = [*counted, *_reasons(source, params, cells)]
    if params.fill is not None:
        halo = params.fill.in_unit(source.frame.horizontal, "fill")
        heights, number = filled(heights, cells, halo)
        if params.area is not None:
            heights[~cells.inside(params.area.in_frame(source.frame).ring())] = np.nan
        findings.append(note("gaps-filled", f"{count(number, 'empty cell')} filled from up to {params.fill} away."))
    empty = int(np.isnan(heights).sum())
    if params.method in OF_CELL and empty:
        findings.append(note("cells-empty", f"{count(empty, 'cell')} of {heights.size} have no point and no height."))
    progress.report(0.55, "laying the grid")
    grid = grid_of("Grid", source.frame, cells, heights, params.method)
    grid = _within(grid, inputs, findings)
    if params.method is Method.COUNT:
        return Result(grid, tuple(findings))
    try:
        loss = gridded_loss(source, grid, keep, progress.part(0.55, 1.0))
    except DataError as error:
        findings.append(Finding("loss-unknown", f"What the grid loses cannot be measured: {error}."))
        return Result(grid, tuple(findings))
    return Result(grid, tuple(findings), loss)


def _counted(source: Source, keep: Flags | None, used: int) -> list[Finding]:
    """Say how many points lie in cells, of how many there are."""
    known = np.isfinite(source.coordinates()[:, 2])
    total = int((known & keep).sum() if keep is not None else known.sum())
    what = count(used, "point") if isinstance(source, PointSet) else count(used, "vertex", "vertices")
    if used == total:
        return [note("points-counted", f"{what} lie in the cells: all that count.")]
    return [Finding("points-counted", f"{what} of {spaced(total)} lie in the cells; the others lie outside the area.")]


def _kept(source: Source, params: GridParams) -> Flags | None:
    if params.classes is None:
        return None
    if not isinstance(source, PointSet):
        raise CallError(f"classes: {source.name} ({source.title}) has no classes of points")
    return params.classes.of(source)


def _reasons(source: Source, params: GridParams, cells: Cells) -> list[Finding]:
    """Say why a cell is as large as it was suggested, and what a method does not see."""
    found = []
    word = unit_word(source.frame.horizontal)
    if cells.dx == suggested_cell(source):
        what = {"grid": "its own cells are", "tin": "vertices lie", "points": "points lie"}[source.kind]
        found.append(note("cell-fits", f"A cell of {cells.dx:g}{word} fits: {what} {mean_spacing(source):.3g}{word} "
                          f"{'wide' if source.kind == 'grid' else 'apart on average'}."))  # fmt: skip
    blind = params.method in (Method.NATURAL, Method.IDW)
    if blind and isinstance(source, Tin) and len(source.break_vertices):
        found.append(Finding("breaklines-unseen", "This method sees points only; linear honours the breaklines."))
    return found


def _estimate(inputs: Sequence[Source], params: GridParams) -> str:
    return f"cells of {settle(inputs, params).cell}"


def tries(inputs: Sequence[Source], params: GridParams) -> list[dict[str, str]]:
    """Return five cell sizes around the one asked for."""
    cell = settle(inputs, params).cell
    assert cell is not None
    unit = cell.unit.value if cell.unit else ""
    return [{"cell": f"{step_near(cell.value * times) if times != 1.0 else cell.value:g}{unit}"} for times in TIMES]


def _name(inputs: Sequence[Source], params: GridParams) -> str:
    word = "Count" if params.method is Method.COUNT else "Heights"
    return f"{word} {params.cell}" if params.cell else word


def preview(inputs: Sequence[Source], params: GridParams, progress: Progress) -> Grid | None:
    """Return the grid of a surface, nothing measured; nothing where it would take long."""
    source = inputs[0]
    if params.cell is None or params.method is None:
        return None
    cells = cells_of(source, params)
    if cells.rows * cells.columns > MOST_PREVIEWED or len(source.coordinates()) > 4 * MOST_PREVIEWED:
        return None
    heights = heights_on(source, cells, params.method, _kept(source, params), progress)
    if params.area is not None:
        heights[~cells.inside(params.area.in_frame(source.frame).ring())] = np.nan
    return _within(grid_of("", source.frame, cells, heights, params.method), inputs, [])


def _within(grid: Grid, inputs: Sequence[Dataset], findings: list[Finding]) -> Grid:
    """Return what of a grid lies in the areas that limit it."""
    limit = limit_of(inputs, findings)
    return grid if limit is None else narrowed(clipped(grid, limit, inside=True, findings=findings), Grid)


def foretell(inputs: Sequence[Source], params: GridParams) -> tuple[dict[str, int], float]:
    """Return how many rows and columns there will be."""
    cells = cells_of(inputs[0], params)
    each = 1.5e-6 if params.method in (Method.NATURAL, Method.IDW) else 1e-7
    return {"rows": cells.rows, "columns": cells.columns}, cells.rows * cells.columns * each + 0.4


def _halo(inputs: Sequence[Source], params: GridParams) -> float | None:
    if params.method in (None, Method.LINEAR):
        return element(inputs[0])
    if params.method in OF_CELL and params.fill is None and params.cell is not None:
        # A point counts in the cell that it lies in.
        return params.cell.in_unit(inputs[0].frame.horizontal, "cell") * math.sqrt(2.0)
    return None


def _whole(inputs: Sequence[Outline], params: GridParams) -> CellOutline:
    source = inputs[0].dataset()
    cells = cells_of(source, params)
    made = grid_of(
        "Grid", source.frame, Cells(*cells.corner, cells.dx, cells.dy, 1, 1), np.zeros((1, 1)), params.method
    )
    own = (cells.west, cells.north, cells.dx, cells.dy, cells.rows, cells.columns)
    return CellOutline("Grid", source.frame, *own, made.quantity, made.measure)


def _tile(inputs: Sequence[Source], params: GridParams, piece: TilePart) -> Grid:
    """Return some cells of the whole lattice, and a row of neighbours around them, which tell what they lose."""
    (source,) = inputs
    assert params.method is not None
    whole = piece.cells
    window = whole.window(piece.box.grown(1.01 * max(whole.dx, whole.dy)))
    cells = _part(whole, window)
    heights = heights_on(source, cells, params.method, _among(source, params), Silent())
    if params.area is not None:
        heights[~cells.inside(params.area.in_frame(source.frame).ring())] = np.nan
    return whole.grid(window, heights)


def _among(source: Source | Dataset, params: GridParams) -> Flags | None:
    """Return which points of a tile count; perhaps none."""
    if params.classes is None:
        return None
    if not isinstance(source, PointSet):
        raise CallError(f"classes: {source.name} ({source.title}) has no classes of points")
    return params.classes.among(source)


def _refuses(params: GridParams) -> str:
    if params.method in (Method.NATURAL, Method.IDW):
        return (
            f"method={params.method.value} looks at points anywhere around; take method=linear or statistics of cells"
        )
    return "gaps are filled from anywhere around; leave out fill" if params.fill is not None else ""


def _tally(source: Dataset, made: Dataset, piece: TilePart, params: GridParams) -> Tally:
    """Return how far the cells of a tile lie from the points on it, and how many points they gather."""
    tally = Tally()
    if not isinstance(source, PointSet) or not isinstance(made, Grid):
        return tally
    keep = _among(source, params)
    if params.method in OF_CELL:
        tally.counted = heights_of_cells(
            source.xyz, keep, _part(piece.cells, piece.cells.window(piece.box)), Method.COUNT, Silent()
        )[1]
        tally.whole = params.classes is None and params.area is None
    if params.method is not Method.COUNT:
        tally.add_points(source.xyz, np.zeros(0, np.bool_) if keep is None else keep, made, _closed(piece))
    return tally


def _closed(piece: TilePart) -> Box:
    """Return the ground of a tile with the outermost edges of all, which a box leaves to what lies beyond."""
    box, outer = piece.box, piece.cells.box()
    east = math.nextafter(box.east, math.inf) if box.east >= outer.east else box.east
    north = math.nextafter(box.north, math.inf) if box.north >= outer.north else box.north
    return Box(box.west, box.south, east, north)


def _part(whole: CellOutline, window: Window) -> Cells:
    """Return some cells of a lattice that know all of it."""
    own = (window.rows, window.columns, window.top, window.left, whole.rows, whole.columns)
    return Cells(whole.west, whole.north, whole.dx, whole.dy, *own)


_ANY = (Tin, Grid, PointSet)
CONVERSION = Conversion(
    id="grid",
    version=2,
    title="Grid",
    also=("DEM", "raster"),
    help="Heights at the centres of regular cells: of a surface, or from the points in each cell.",
    inputs=(Input("surface", _ANY), LIMIT),
    outputs=(Output("grid", Grid),),
    params=GridParams,
    template="Heights of {surface} on a grid with cells of {cell}, {method}[, of {classes} only][, within {area}][, within {limit}]"
    "[, gaps of up to {fill} filled].",
    run=run,
    foretell=foretell,
    settle=settle,
    estimate=_estimate,
    name=_name,
    preview=preview,
    tries=tries,
    form="grid",
    kinds_as=lambda params: (Tin, Grid) if params.method in (None, Method.LINEAR, Method.NATURAL) else _ANY,
    halo=_halo,
    tiles=Tiling(
        whole=_whole,
        run=_tile,
        columns=lambda params: (CLASSES,) if params.classes is not None else (),
        wanted=_among,
        refuses=_refuses,
        local="of points take a statistic of those in each cell (method=mean), or make a TIN of them before (tin circle=20m)",
        tally=_tally,
    ),
    automatic=3,
)
