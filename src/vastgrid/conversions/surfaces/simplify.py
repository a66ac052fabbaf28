"""A surface with fewer triangles: within a vertical tolerance, or with as many triangles as one likes."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress, Silent
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.base.words import place_words, spaced, step_near
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.outline import CellOutline, Outline, SurfaceOutline, Window
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import Tally, TilePart, Tiling
from vastgrid.kernels.cells.raster import raster_heights
from vastgrid.kernels.lines.chains import lattice_rim
from vastgrid.kernels.triangles.vertexwise import around
from vastgrid.measures.difference import difference
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.seams import on_lattice, seam_vertices, shared_window
from vastgrid.terrain.tin.simplify import Wanted, within_grid, within_tin

# So many vertices tell how rough a surface is.
SAMPLE = 200_000


@dataclass(frozen=True)
class SimplifyParams:
    """How far to go."""

    tolerance: Annotated[
        Length | None,
        Param(
            "Tolerance",
            "No vertex, cell or place between them lies farther from the new surface, vertically.",
            Quantity.Z_LENGTH,
            above=0,
            absent="no tolerance",
        ),
    ] = None
    triangles: Annotated[
        int | None,
        Param("Most triangles", "The most triangles it may have, instead of a tolerance.", least=2, absent="any"),
    ] = None


def suggested(surface: Tin | Grid) -> float:
    """Return a tolerance that fits a surface's roughness: twice the median height of a vertex over its neighbours."""
    gap = _over_neighbours(surface)
    gap = gap[np.isfinite(gap)]
    rough = float(np.median(gap)) if len(gap) else 0.0
    if rough == 0.0 and len(gap):
        rough = float(gap.mean())
    return step_near(2.0 * rough) if rough > 0.0 else 0.01


def _over_neighbours(surface: Tin | Grid) -> Floats:
    if isinstance(surface, Grid):
        z = surface.heights[:1500, :1500]
        if min(z.shape) < 3:
            return np.zeros(0)
        return np.asarray(
            np.abs(z[1:-1, 1:-1] - (z[:-2, 1:-1] + z[2:, 1:-1] + z[1:-1, :-2] + z[1:-1, 2:]) / 4.0)
        ).ravel()
    triangles = surface.triangles[:SAMPLE]
    ring = around(surface.vertices, triangles)
    used = np.unique(triangles)
    return np.asarray(np.abs(surface.vertices[used, 2] - (ring[used, 0] + ring[used, 1]) / 2.0))


def settle(inputs: Sequence[Tin | Grid], params: SimplifyParams) -> SimplifyParams:
    """Give a tolerance that fits the surface where neither is asked for.

    Raises
    ------
    CallError
        If both are.
    """
    if params.tolerance is not None and params.triangles is not None:
        raise CallError("give a tolerance or a number of triangles, not both: one decides the other")
    if params.tolerance is None and params.triangles is None:
        return dataclasses.replace(params, tolerance=Length(suggested(inputs[0]), inputs[0].frame.vertical))
    return params


def tries(inputs: Sequence[Tin | Grid], params: SimplifyParams) -> list[dict[str, str]]:
    """Return five tolerances around the one asked for, or five numbers of triangles."""
    if params.triangles is not None:
        return [{"triangles": str(max(int(params.triangles * share), 2))} for share in (0.25, 0.5, 1.0, 2.0, 4.0)]
    own = params.tolerance or Length(suggested(inputs[0]), inputs[0].frame.vertical)
    unit = own.unit.value if own.unit else ""
    return [
        {"tolerance": f"{step_near(own.value * share) if share != 1.0 else own.value:g}{unit}"}
        for share in (0.25, 0.5, 1.0, 2.0, 4.0)
    ]


def run(inputs: Sequence[Tin | Grid], params: SimplifyParams, progress: Progress) -> Result:
    """Simplify; see `CONVERSION`.

    Raises
    ------
    DataError
        If there is no surface, or it overlaps itself.
    """
    surface = inputs[0]
    frame = surface.frame
    tolerance = params.tolerance.in_unit(frame.vertical, "tolerance") if params.tolerance is not None else None
    wanted = Wanted(tolerance, params.triangles)
    part = progress.part(0.0, 0.85)
    tin, reached = (
        within_grid(surface, wanted, part) if isinstance(surface, Grid) else within_tin(surface, wanted, part)
    )
    loss = difference(surface, tin, progress.part(0.85, 1.0))
    if isinstance(surface, Grid):
        # A grid has heights at its cells; what lies between them is not its word.
        loss = dataclasses.replace(
            loss, largest=reached.largest, at=reached.at, rmse=reached.rmse, mean=reached.mean, p95=reached.p95
        )
    elif reached.largest > loss.largest:
        # A lattice over both is coarser than a look at every vertex and crossing: the larger is the truth.
        loss = dataclasses.replace(loss, largest=reached.largest, at=reached.at)
    unit = unit_word(frame.vertical)
    number = len(tin.triangles)
    before = _triangles(surface)
    text = (
        f"{count(number, 'triangle')} of {spaced(before)} ({number / max(before, 1):.1%}); the largest error is "
        f"{reached.largest:.4g}{unit} ({place_words(reached.at[0], reached.at[1])}), {reached.rmse:.4g}{unit} RMSE, "
        f"at every {'cell' if isinstance(surface, Grid) else 'vertex and wherever edges cross'}."
    )
    findings = [note("reached", text, reached.at)]
    if tolerance is not None and reached.largest > tolerance * (1.0 + 1e-12):
        text = f"The tolerance of {tolerance:g}{unit} is not met: {reached.largest:.6g}{unit} at {place_words(reached.at[0], reached.at[1])}."
        findings.insert(0, Finding("tolerance-not-met", text, at=reached.at))
    if params.triangles is not None and number > params.triangles:
        text = (
            f"{count(number, 'triangle')} are more than {spaced(params.triangles)}: its rims, voids and breaklines alone "
            "need that many."
        )
        findings.insert(0, Finding("budget-not-met", text))
    progress.report(1.0)
    figures = {
        "reached": reached.largest,
        "rmse": reached.rmse,
        "triangles": number,
        "dropped": max(before - number, 0),
    }
    return Result(tin, tuple(findings), loss, figures=figures)


def _triangles(surface: Tin | Grid) -> int:
    return surface.count().get("triangles", 2 * int(np.isfinite(getattr(surface, "heights", np.zeros(0))).sum()))


# ------------------------------------------------------------------------------------------------------ on tiles


def _refuses(params: SimplifyParams) -> str:
    if params.triangles is not None:
        return "a number of triangles is one of the whole; say a tolerance (tolerance=0.05m) instead"
    return "" if params.tolerance is not None else "say the tolerance (tolerance=0.05m)"


def _halo(inputs: Sequence[Tin | Grid], params: SimplifyParams) -> float | None:
    (surface,) = inputs
    if not isinstance(surface, Grid) or params.tolerance is None:
        return None
    # One cell beyond the tile to the seam, one to see whether ground ends beside it.
    return 2.5 * max(surface.dx, surface.dy)


def _whole(inputs: Sequence[Outline], params: SimplifyParams) -> SurfaceOutline:
    (own,) = inputs
    assert isinstance(own, CellOutline)
    return SurfaceOutline(own)


def _tile(inputs: Sequence[Tin | Grid], params: SimplifyParams, piece: TilePart) -> Tin:
    """Return the TIN between the centres of a tile's cells and the first beyond it; seams fit those of its neighbours."""
    (grid,) = inputs
    whole = piece.inputs[0]
    assert isinstance(grid, Grid)
    assert isinstance(whole, CellOutline)
    assert params.tolerance is not None
    tolerance = params.tolerance.in_unit(grid.frame.vertical, "tolerance")
    window = shared_window(whole, whole.window(piece.box))
    top, left = max(window.top - 1, 0), max(window.left - 1, 0)
    wide = Window(
        top,
        left,
        min(window.top + window.rows + 1, whole.rows) - top,
        min(window.left + window.columns + 1, whole.columns) - left,
    )
    part = whole.cut(grid, window)
    if len(lattice_rim(part.heights)) == 0:
        return Tin(name=grid.name, frame=grid.frame, vertices=np.zeros((0, 3)), triangles=np.zeros((0, 3), np.int32))
    stay = seam_vertices(whole.cut(grid, wide), whole, window, tolerance)
    tin, _ = within_grid(part, Wanted(tolerance), Silent(), stay)
    return on_lattice(tin, whole)


def _tally(grid: Dataset, made: Dataset, piece: TilePart, params: SimplifyParams) -> Tally:
    """Return how far the surface lies from the cells of a tile; a seam is told by the tile whose cells it has."""
    tally, whole = Tally(), piece.inputs[0]
    assert isinstance(whole, CellOutline)
    assert isinstance(grid, Grid)
    assert isinstance(made, Tin)
    own = whole.cut(grid, whole.window(piece.box))
    corner, cell = (own.west, own.north), (own.dx, own.dy)
    tally.add_cells(raster_heights(made.vertices, made.triangles, corner, cell, (own.rows, own.columns)), own)
    return tally


CONVERSION = Conversion(
    id="simplify",
    version=1,
    title="Simplify to a tolerance",
    also=("decimate", "thin TIN", "fewer triangles", "grid to TIN"),
    help="A TIN of a surface within a vertical tolerance, or with at most a given number of triangles; outlines, voids, breaklines and no-data stay.",
    inputs=(Input("surface", (Tin, Grid)),),
    outputs=(Output("tin", Tin),),
    params=SimplifyParams,
    template="{surface} with fewer triangles[, nowhere farther from it than {tolerance}][, at most {triangles} triangles].",
    run=run,
    settle=settle,
    tries=tries,
    form="tin",
    ask=True,
    tiles=Tiling(whole=_whole, run=_tile, refuses=_refuses, halo=_halo, tally=_tally),
    name=lambda inputs, params: (
        f"{inputs[0].name} within {params.tolerance}"
        if params.tolerance
        else f"{inputs[0].name}, {params.triangles} triangles"
    ),
)
