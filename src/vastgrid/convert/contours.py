"""TIN or grid to contours."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.errors import DataError, ParamError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, unit_word
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
from vastgrid.params.kinds import Levels
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
        Length | None,
        Param("Base elevation", "An elevation that would have a contour; all others follow.", Quantity.Z_LENGTH),
    ] = None
    index: Annotated[
        int,
        Param(
            "Index contours",
            "Every n-th contour counted from the base, or from the first of a list, is an index contour.",
            least=1,
            ordinal=True,
        ),
    ] = 5
    lowest: Annotated[
        Length | None, Param("Lowest level", "No contour lies below it.", Quantity.Z_LENGTH, absent="no limit")
    ] = None
    highest: Annotated[
        Length | None, Param("Highest level", "No contour lies above it.", Quantity.Z_LENGTH, absent="no limit")
    ] = None
    levels: Annotated[
        Levels | None,
        Param("Levels", "A list of your own instead of an interval: 100, 105.5, 120 m.", Quantity.Z_LENGTH),
    ] = None
    shortest: Annotated[
        Length | None,
        Param("Shortest line", "Contours shorter than this are left out, and counted.", Quantity.XY_LENGTH, above=0),
    ] = None


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
    """Fill in the interval where it was left open, unless there is a list of levels."""
    if params.levels is not None:
        return params
    if params.base is None:
        params = replace(params, base=Length(0.0, inputs[0].frame.vertical))
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
    unit = surface.frame.vertical
    pair = surface.extent().elevation
    if pair is None:
        raise DataError(f"{surface.name} has no heights to draw contours from")
    word = unit_word(unit)
    levels, number = _levels(params, pair, unit)
    progress.report(0.05, "tracing contours")
    plan, offsets, which = level_lines(surface, levels)
    findings: list[Finding] = []
    if params.shortest is not None:
        plan, offsets, which = _long(plan, offsets, which, params.shortest, surface, findings)
    progress.report(0.3, "tracing contours")
    index = number[which] % params.index == 0
    made = Contours(
        name="Contours",
        frame=surface.frame,
        plan=plan,
        offsets=offsets,
        levels=levels[which],
        index=index,
        interval=params.interval.in_unit(unit, "interval") if params.interval is not None else 0.0,
    )
    if len(made) == 0:
        findings.append(
            Finding(
                "no-contours",
                f"No contour crosses the heights {pair[0]:.3f} … {pair[1]:.3f}{word} {_where(params, unit)}.",
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


def _levels(params: ContourParams, pair: tuple[float, float], unit: Unit | None) -> tuple[Floats, Floats]:
    """Return the levels that cross a range of heights, and each one's number for telling index contours.

    Raises
    ------
    ParamError
        If a list and an interval are given, or limits that leave nothing between them.
    """
    low, high = (
        limit.in_unit(unit, name) if limit is not None else end
        for limit, name, end in ((params.lowest, "lowest", -math.inf), (params.highest, "highest", math.inf))
    )
    if low > high:
        raise ParamError("lowest", f"{low:g} is above the highest level, {high:g}")
    if params.levels is not None:
        for name, value in (("interval", params.interval), ("base", params.base)):
            if value is not None:
                raise ParamError("levels", f"either a list of levels or an {name} says where contours lie, not both")
        levels = np.array(params.levels.in_unit(unit, "levels"))
        number = np.arange(len(levels), dtype=np.float64)
        own = (levels > pair[0]) & (levels <= pair[1])
        levels, number = levels[own], number[own]
    else:
        assert params.interval is not None
        base = params.base.in_unit(unit, "base") if params.base is not None else 0.0
        interval = params.interval.in_unit(unit, "interval")
        levels, number = levels_between(
            max(pair[0], low - 1e-9 * interval), min(pair[1], high), base, interval, unit_word(unit)
        )
    kept = (levels >= low) & (levels <= high)
    return levels[kept], number[kept]


def _where(params: ContourParams, unit: Unit | None) -> str:
    if params.levels is not None:
        return f"at {params.levels}"
    word = unit_word(unit)
    base = params.base.in_unit(unit, "base") if params.base is not None else 0.0
    interval = params.interval.in_unit(unit, "interval") if params.interval is not None else 0.0
    limits = " within the limits" if params.lowest is not None or params.highest is not None else ""
    return f"at an interval of {interval:g}{word} from {base:g}{word}{limits}"


def _long(
    plan: Floats,
    offsets: NDArray[np.int64],
    which: NDArray[np.int64],
    shortest: Length,
    surface: Tin | Grid,
    findings: list[Finding],
) -> tuple[Floats, NDArray[np.int64], NDArray[np.int64]]:
    """Return the lines that are long enough, and say how many are not."""
    least = shortest.in_unit(surface.frame.horizontal, "shortest")
    legs = np.hypot(*np.diff(plan, axis=0, prepend=plan[:1]).T)
    legs[offsets[:-1]] = 0.0
    keep = np.add.reduceat(legs, offsets[:-1]) >= least if len(which) else np.zeros(0, np.bool_)
    lost = int((~keep).sum())
    if not lost:
        return plan, offsets, which
    text = f"{count(lost, 'contour')} shorter than {least:g}{unit_word(surface.frame.horizontal)} left out."
    findings.append(note("short-contours", text))
    size = np.diff(offsets)
    return plan[np.repeat(keep, size)], np.concatenate(([0], np.cumsum(size[keep]))), which[keep]


def effort(inputs: Sequence[Tin | Grid], params: ContourParams) -> int:
    """Return about how many vertices the contours will have: one wherever a level crosses an edge."""
    surface = inputs[0]
    pair = surface.extent().elevation
    settled = settle(inputs, params)
    if pair is None:
        return 0
    interval = _mean_interval(settled, pair, surface.frame.vertical)
    if isinstance(surface, Grid):
        steps = (np.abs(np.diff(surface.heights, axis=axis)) for axis in (0, 1))
        return int(sum(float(np.nansum(step)) for step in steps) / interval)
    z = surface.vertices[surface.triangles, 2]
    return int(float((z.max(axis=1) - z.min(axis=1)).sum()) / interval)


def _estimate(inputs: Sequence[Tin | Grid], params: ContourParams) -> str:
    pair = inputs[0].extent().elevation
    settled = settle(inputs, params)
    if pair is None:
        return ""
    interval = _mean_interval(settled, pair, inputs[0].frame.vertical)
    size = effort(inputs, settled)
    vertices = f", {count(size, 'vertex', 'vertices')}" if size > 1_000_000 else ""
    return "about " + count(max(int((pair[1] - pair[0]) / interval), 1), "level") + vertices


def _mean_interval(params: ContourParams, pair: tuple[float, float], unit: Unit | None) -> float:
    """Return the interval, or for a list what would give as many levels."""
    if params.interval is not None:
        return params.interval.in_unit(unit, "interval")
    return max(pair[1] - pair[0], 1e-9) / max(len(params.levels.values) if params.levels else 1, 1)


def _name(inputs: Sequence[Tin | Grid], params: ContourParams) -> str:
    return f"Contours {params.interval}" if params.interval else "Contours"


def preview(inputs: Sequence[Tin | Grid], params: ContourParams, progress: Progress) -> Contours | None:
    """Return the contours as thin lines, nothing measured; nothing where there would be too many to draw at once."""
    surface = inputs[0]
    pair = surface.extent().elevation
    if pair is None or (params.interval is None and params.levels is None):
        return None
    levels, _ = _levels(params, pair, surface.frame.vertical)
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
    template="Contours[ every {interval}][ at {levels}] from {inputs}[, starting at {base}][, none below {lowest}]"
    "[, none above {highest}], every {index} one an index contour[, lines shorter than {shortest} left out].",
    run=run,
    settle=settle,
    estimate=_estimate,
    effort=effort,
    name=_name,
    preview=preview,
    reach=lambda inputs, params: element(inputs[0]),
    automatic=4,
)
