"""TIN or grid to contours."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.data.dataset import Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.gridlines import grid_isolines
from vastgrid.kernels.isolines import isolines, undoubled
from vastgrid.measures.difference import difference
from vastgrid.measures.reach import element
from vastgrid.params.declare import Param
from vastgrid.shaping.surfaces import contour_tin

MOST_LEVELS = 20_000
# Turning more vertices of contours back into a TIN takes longer than making and writing them.
MOST_MEASURED = 3_000_000
MOST_PREVIEWED = 400


@dataclass(frozen=True)
class ContourParams:
    """Which contours are drawn."""

    interval: Annotated[
        Length | None,
        Param(
            "Interval", "Vertical distance of neighbouring contours.", Quantity.Z_LENGTH, above=0, absent="a fit step"
        ),
    ] = None
    base: Annotated[
        Length, Param("Base elevation", "An elevation that would have a contour; all others follow.", Quantity.Z_LENGTH)
    ] = Length(0.0)
    index: Annotated[
        int,
        Param("Index contours", "Every n-th contour counted from the base is an index contour.", least=1, ordinal=True),
    ] = 5


def levels_between(low: float, high: float, base: float, interval: float, word: str = "") -> tuple[Floats, Floats]:
    """Return the levels inside a range, and each one's number counted from the base.

    A level equal to the lowest height is left out: the ground touches it but does not cross it.

    Parameters
    ----------
    word : str
        The unit, as an error says it after a number.

    Raises
    ------
    ParamError
        If there would be more than 20 000.
    """
    first, last = math.floor((low - base) / interval) + 1, math.floor((high - base) / interval + 1e-9)
    if last - first + 1 > MOST_LEVELS:
        raise ParamError("interval", f"{interval:g}{word} would give {last - first + 1} levels; choose a larger one")
    number = np.arange(first, last + 1, dtype=np.float64)
    # Levels are what was asked for in decimals, not sums of binary fractions.
    return np.round(base + number * interval, 10), number


def suggested_interval(low: float, high: float) -> float:
    """Return the interval 1, 2 or 5 × 10ⁿ that gives about forty levels."""
    wanted = max(high - low, 1e-6) / 40.0
    power = 10.0 ** math.floor(math.log10(wanted))
    step = next(step for step in (1.0, 2.0, 5.0, 10.0) if step * power >= wanted * 0.999)
    return float(f"{step * power:.6g}")


def level_lines(surface: Tin | Grid, levels: Floats) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Return a surface's level lines: vertices in plan, offsets, and which level each line has.

    A grid is followed between its own centres, without a triangulation that would add kinks.
    """
    if isinstance(surface, Grid):
        west, north = surface.west + surface.dx / 2.0, surface.north - surface.dy / 2.0
        return undoubled(*grid_isolines(surface.heights, west, north, surface.dx, surface.dy, levels))
    return undoubled(*isolines(surface.vertices, surface.triangles, surface.edges_across, levels))


def settle(inputs: Sequence[Tin | Grid], params: ContourParams) -> ContourParams:
    """Fill in the interval where it was left open."""
    if params.interval is not None:
        return params
    pair = inputs[0].extent().elevation
    low, high = pair if pair else (0.0, 1.0)
    return replace(params, interval=Length(suggested_interval(low, high), inputs[0].frame.vertical))


def run(inputs: Sequence[Tin | Grid], params: ContourParams, progress: Progress) -> Result:
    """Trace the contours and measure what they lose; see `CONVERSION`.

    Raises
    ------
    DataError
        If the surface has no heights.
    """
    surface = inputs[0]
    assert params.interval is not None
    unit = surface.frame.vertical
    interval, base = params.interval.in_unit(unit, "interval"), params.base.in_unit(unit, "base")
    pair = surface.extent().elevation
    if pair is None:
        raise DataError(f"{surface.name} has no heights to draw contours from")
    word = unit_word(unit)
    levels, number = levels_between(pair[0], pair[1], base, interval, word)
    progress.report(0.05, "tracing contours")
    plan, offsets, which = level_lines(surface, levels)
    progress.report(0.3, "tracing contours")
    findings: list[Finding] = []
    index = number[which] % params.index == 0
    made = Contours(
        name="Contours",
        frame=surface.frame,
        plan=plan,
        offsets=offsets,
        levels=levels[which],
        index=index,
        interval=interval,
    )
    if len(made) == 0:
        findings.append(
            Finding(
                "no-contours",
                f"No contour crosses the heights {pair[0]:.3f} … {pair[1]:.3f}{word} at an interval of {interval:g}{word} "
                f"from {base:g}{word}.",
            )
        )
        return Result(made, tuple(findings))
    if len(plan) > MOST_MEASURED:
        text = f"What the contours lose was not measured: {count(len(plan), 'vertex', 'vertices')} would take long to turn back into ground."
        findings.append(Finding("loss-unknown", text))
        return Result(made, tuple(findings))
    try:
        back = contour_tin(made, progress.part(0.3, 0.7))
        loss = difference(surface, back, progress.part(0.7, 1.0))
    except DataError as error:
        findings.append(Finding("loss-unknown", f"What the contours lose cannot be measured: {error}."))
        return Result(made, tuple(findings))
    return Result(made, tuple(findings), loss)


def effort(inputs: Sequence[Tin | Grid], params: ContourParams) -> int:
    """Return about how many vertices the contours will have: one wherever a level crosses an edge."""
    surface = inputs[0]
    pair = surface.extent().elevation
    settled = settle(inputs, params)
    if pair is None or settled.interval is None:
        return 0
    unit = surface.frame.vertical
    interval = settled.interval.in_unit(unit, "interval")
    if isinstance(surface, Grid):
        steps = (np.abs(np.diff(surface.heights, axis=axis)) for axis in (0, 1))
        return int(sum(float(np.nansum(step)) for step in steps) / interval)
    z = surface.vertices[surface.triangles, 2]
    return int(float((z.max(axis=1) - z.min(axis=1)).sum()) / interval)


def _estimate(inputs: Sequence[Tin | Grid], params: ContourParams) -> str:
    pair = inputs[0].extent().elevation
    settled = settle(inputs, params)
    if pair is None or settled.interval is None:
        return ""
    interval = settled.interval.in_unit(inputs[0].frame.vertical, "interval")
    size = effort(inputs, settled)
    vertices = f", {count(size, 'vertex', 'vertices')}" if size > 1_000_000 else ""
    return "about " + count(max(int((pair[1] - pair[0]) / interval), 1), "level") + vertices


def _name(inputs: Sequence[Tin | Grid], params: ContourParams) -> str:
    return f"Contours {params.interval}" if params.interval else "Contours"


def preview(inputs: Sequence[Tin | Grid], params: ContourParams, progress: Progress) -> Contours | None:
    """Return the contours as thin lines, nothing measured; nothing where there would be too many to draw at once."""
    surface = inputs[0]
    pair = surface.extent().elevation
    if pair is None or params.interval is None:
        return None
    unit = surface.frame.vertical
    levels, _ = levels_between(*pair, params.base.in_unit(unit, "base"), params.interval.in_unit(unit, "interval"))
    if len(levels) > MOST_PREVIEWED:
        return None
    progress.report(0.1)
    plan, offsets, which = level_lines(surface, levels)
    progress.report(1.0)
    return Contours(plan=plan, offsets=offsets, levels=levels[which], index=np.zeros(len(which), np.bool_))


CONVERSION = Conversion(
    id="contours",
    version=2,
    title="Contours",
    help="Level lines of a TIN or grid, chained, with higher ground on the left.",
    inputs=(Input("surface", (Tin, Grid)),),
    outputs=(Output("contours", Contours),),
    params=ContourParams,
    template="Contours every {interval} from {inputs}, starting at {base}, every {index} one an index contour.",
    run=run,
    settle=settle,
    estimate=_estimate,
    effort=effort,
    name=_name,
    preview=preview,
    reach=lambda inputs, params: element(inputs[0]),
    automatic=4,
)
