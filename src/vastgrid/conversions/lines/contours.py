"""TIN or grid to contours."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError, ParamError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, unit_word
from vastgrid.base.words import spaced, step_above, step_near
from vastgrid.data.dataset import Dataset, Flags, Floats
from vastgrid.data.frame import need_lengths, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours
from vastgrid.data.outline import CellOutline, LineOutline, Outline, Window
from vastgrid.data.places import Area
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.declarations.tiles import TilePart, Tiling
from vastgrid.kernels.lines.gridlines import grid_isolines
from vastgrid.kernels.lines.isolines import undoubled
from vastgrid.measures.difference import difference
from vastgrid.measures.halo import element
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Grade, Levels
from vastgrid.terrain.areas.limiting import LIMIT, limit_of
from vastgrid.terrain.lines.contouring import Lines, clear_of, flat_parts, level_lines, smoothed, sparser
from vastgrid.terrain.lines.courses import parted_by
from vastgrid.terrain.tin.surfaces import contour_tin

MOST_LEVELS = 20_000
# Turning more vertices of contours back into a TIN takes longer than making and writing them.
MOST_MEASURED = 3_000_000
MOST_PREVIEWED = 400
# Beyond so many triangles or cells no level is traced to foretell how many lines there will be.
MOST_SAMPLED = 400_000
# Seconds for tracing, and for measuring what a vertex costs.
EACH_VERTEX = 1.2e-5


class Smooth(Enum):
    """How much contours are smoothed."""

    NONE = "none"
    LIGHT = "light"
    MEDIUM = "medium"
    STRONG = "strong"


# How far along a line the mean reaches, in usual legs between its vertices.
_STRENGTH = {Smooth.LIGHT: 0.8, Smooth.MEDIUM: 2.0, Smooth.STRONG: 3.5}


@dataclass(frozen=True)
class ContourParams:
    """Which contours are drawn."""

    interval: Annotated[
        Length | None,
        Param(
            "Interval",
            "Vertical distance of neighbouring contours.",
            Quantity.Z_LENGTH,
            above=0,
            absent="a suitable interval",
        ),
    ] = None
    base: Annotated[
        Length | None,
        Param("Base elevation", "Elevation from which contours are counted.", Quantity.Z_LENGTH),
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
    smooth: Annotated[
        Smooth,
        Param(
            "Smoothing",
            "none, light, medium or strong; no contour crosses another or leaves its half of the way to the next level.",
            said=(
                ("none", "not smoothed"),
                ("light", "smoothed lightly"),
                ("medium", "smoothed"),
                ("strong", "smoothed strongly"),
            ),
        ),
    ] = Smooth.NONE
    held: Annotated[
        bool,
        Param(
            "Held to the points",
            "Smoothed contours do not cross surveyed points: each point stays on its side of the contour, or on it.",
            said=(("yes", "and held to every surveyed point"), ("no", "not held to the surveyed points")),
        ),
    ] = False
    weed: Annotated[
        Length | None,
        Param(
            "Weed",
            "Vertices closer than this to the straight line between their neighbours are removed, as long as no contours cross.",
            Quantity.XY_LENGTH,
            above=0,
        ),
    ] = None
    supplementary: Annotated[
        Grade | None,
        Param("Supplementary", "At half the interval, where the ground is flatter than this: 3 %, 1.7deg, 33:1."),
    ] = None
    area: Annotated[
        Area | None,
        Param("Area", "Only inside it: a box as west,south,east,north, or a polygon as E N, E N, E N."),
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
    return step_above(wanted)


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
    progress.report(0.05, "tracing contours")
    levels, number, half = _levels(params, pair, unit)
    findings: list[Finding] = []
    lines = _lines(surface, params, levels, half, findings, progress.part(0.05, 0.3))
    made = Contours(
        name="Contours",
        frame=surface.frame,
        plan=lines.plan,
        offsets=lines.offsets,
        levels=levels[lines.which],
        index=(number[lines.which] % params.index == 0) & ~half[lines.which],
        interval=params.interval.in_unit(unit, "interval") if params.interval is not None else 0.0,
        supplementary=half[lines.which],
    )
    made = _inside(made, params, inputs)
    if params.shortest is not None:
        made = _long(made, params.shortest, findings)
    if len(made) == 0:
        findings.append(
            Finding(
                "no-contours",
                f"No contour crosses the heights {pair[0]:.3f} … {pair[1]:.3f}{word} {_where(params, unit)}.",
            )
        )
        return Result(made, tuple(findings))
    if len(made.plan) > MOST_MEASURED:
        text = f"What the contours lose was not measured: {count(len(made.plan), 'vertex', 'vertices')} would take long to turn back into ground."
        findings.append(Finding("loss-unknown", text))
        return Result(made, tuple(findings))
    try:
        back = contour_tin(made, progress.part(0.3, 0.7))
        loss = difference(surface, back, progress.part(0.7, 1.0))
    except DataError as error:
        findings.append(Finding("loss-unknown", f"What the contours lose cannot be measured: {error}."))
        return Result(made, tuple(findings))
    return Result(made, tuple(findings), loss)


def _lines(
    surface: Tin | Grid,
    params: ContourParams,
    levels: Floats,
    half: Flags,
    findings: list[Finding],
    progress: Progress,
) -> Lines:
    """Trace the lines of all levels, smooth and weed them as asked.

    Raises
    ------
    CallError
        If something is asked for that the others rule out.
    """
    if params.held and params.smooth is Smooth.NONE:
        raise CallError("held: contours that are not smoothed pass through the surveyed points as they are")
    lines = level_lines(surface, levels)
    if half.any():
        lines = _supplemented(lines, half, surface, params)
    if params.smooth is Smooth.NONE and params.weed is None:
        return lines
    clear = clear_of(surface, levels, held=params.held)
    if params.smooth is not Smooth.NONE:
        own = [strength for strength in _STRENGTH.values() if strength <= _STRENGTH[params.smooth]]
        lines, back = smoothed(lines, own, clear, progress)
        if back:
            text = f"Along {back:.1%} of their length the smoothing gives way, so that nothing crosses."
            findings.append(note("smoothing-gave-way", text))
    if params.weed is not None:
        before = len(lines.plan)
        lines = sparser(lines, params.weed.in_unit(surface.frame.horizontal, "weed"), clear)
        text = f"{count(before - len(lines.plan), 'vertex', 'vertices')} of {spaced(before)} weeded out."
        findings.append(note("weeded", text))
    return lines


def _supplemented(lines: Lines, half: Flags, surface: Tin | Grid, params: ContourParams) -> Lines:
    """Return lines of which those at half the interval are left only where the ground is flat."""
    assert params.supplementary is not None
    assert params.interval is not None
    need_lengths(surface.name, surface.frame, "slopes need")
    grade, ratio = params.supplementary.rise, ratio_of(surface.frame)
    interval = params.interval.in_unit(surface.frame.vertical, "interval")
    between_levels = half[lines.which]
    # Where the ground is as steep as that, neighbouring contours lie so far apart.
    flat = flat_parts(lines.chosen(between_levels), surface, grade, ratio, interval / ratio / grade)
    whole = lines.chosen(~between_levels)
    offsets = np.concatenate((whole.offsets, whole.offsets[-1] + flat.offsets[1:]))
    return Lines(np.concatenate((whole.plan, flat.plan)), offsets, np.concatenate((whole.which, flat.which)))


def _levels(params: ContourParams, pair: tuple[float, float], unit: Unit | None) -> tuple[Floats, Floats, Flags]:
    """Return the levels that cross a range of heights, each one's number for telling index contours, and which are half.

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
        for name, value in (
            ("interval", params.interval),
            ("base", params.base),
            ("supplementary", params.supplementary),
        ):
            if value is not None:
                raise ParamError("levels", f"either a list of levels or {name} says where contours lie, not both")
        levels = np.array(params.levels.in_unit(unit, "levels"))
        number = np.arange(len(levels), dtype=np.float64)
        own = (levels > pair[0]) & (levels <= pair[1])
        levels, number = levels[own], number[own]
    else:
        assert params.interval is not None
        base = params.base.in_unit(unit, "base") if params.base is not None else 0.0
        interval = params.interval.in_unit(unit, "interval")
        parts = 2.0 if params.supplementary is not None else 1.0
        ends = max(pair[0], low - 1e-9 * interval), min(pair[1], high)
        levels, number = levels_between(*ends, base, interval / parts, unit_word(unit))
        number = number / parts
    kept = (levels >= low) & (levels <= high)
    return levels[kept], number[kept], np.asarray(number[kept] % 1.0 != 0.0, np.bool_) & (params.levels is None)


def _where(params: ContourParams, unit: Unit | None) -> str:
    if params.levels is not None:
        return f"at {params.levels}"
    word = unit_word(unit)
    base = params.base.in_unit(unit, "base") if params.base is not None else 0.0
    interval = params.interval.in_unit(unit, "interval") if params.interval is not None else 0.0
    limits = " within the limits" if params.lowest is not None or params.highest is not None else ""
    return f"at an interval of {interval:g}{word} from {base:g}{word}{limits}"


def _inside(made: Contours, params: ContourParams, inputs: Sequence[Dataset]) -> Contours:
    """Return what of contours lies in the area that was drawn, and in the areas that limit them."""
    limits = [limit] if (limit := limit_of(inputs, [])) is not None else []
    if params.area is not None:
        limits.append(shapely.make_valid(shapely.Polygon(params.area.in_frame(made.frame).corners)))
    for area in limits if len(made) else ():
        made = made.parts(*parted_by(made.coordinates(), made.offsets, area, inside=True))
    return made


def _long(made: Contours, shortest: Length, findings: list[Finding]) -> Contours:
    """Return the lines that are long enough, and say how many are not."""
    least = shortest.in_unit(made.frame.horizontal, "shortest")
    lines = Lines(made.plan, made.offsets, np.arange(len(made)))
    keep = lines.lengths() >= least
    lost = int((~keep).sum())
    if not lost:
        return made
    text = f"{count(lost, 'contour')} shorter than {least:g}{unit_word(made.frame.horizontal)} left out."
    findings.append(note("short-contours", text))
    return made.parts(*lines.chosen(keep))


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
    every = f"every {settled.interval}, " if settled.interval is not None else ""
    vertices = f", {count(size, 'vertex', 'vertices')}" if size > 1_000_000 else ""
    return every + "about " + count(max(int((pair[1] - pair[0]) / interval), 1), "level") + vertices


def _mean_interval(params: ContourParams, pair: tuple[float, float], unit: Unit | None) -> float:
    """Return the interval, or for a list what would give as many levels."""
    if params.interval is not None:
        return params.interval.in_unit(unit, "interval")
    return max(pair[1] - pair[0], 1e-9) / max(len(params.levels.values) if params.levels else 1, 1)


def tries(inputs: Sequence[Tin | Grid], params: ContourParams) -> list[dict[str, str]]:
    """Return five intervals around the one asked for; none where there is a list of levels."""
    own = settle(inputs, params).interval
    if own is None:
        return []
    unit = own.unit.value if own.unit else ""
    near = {step_near(own.value * times) for times in (0.2, 0.5, 1.0, 2.0, 5.0)} - {step_near(own.value)}
    steps = sorted(near | {own.value})
    return [{"interval": f"{step:g}{unit}"} for step in steps]


def _name(inputs: Sequence[Tin | Grid], params: ContourParams) -> str:
    return f"Contours {params.interval}" if params.interval else "Contours"


def preview(inputs: Sequence[Tin | Grid], params: ContourParams, progress: Progress) -> Contours | None:
    """Return the contours as thin lines, nothing measured; nothing where there would be too many to draw at once."""
    surface = inputs[0]
    pair = surface.extent().elevation
    if pair is None or (params.interval is None and params.levels is None):
        return None
    levels, number, half = _levels(params, pair, surface.frame.vertical)
    if len(levels) > MOST_PREVIEWED:
        return None
    progress.report(0.1)
    lines = _lines(surface, params, levels, half, [], progress)
    progress.report(1.0)
    made = Contours(
        plan=lines.plan,
        offsets=lines.offsets,
        levels=levels[lines.which],
        index=number[lines.which] % params.index == 0,
    )
    return _inside(made, params, inputs)


def foretell(inputs: Sequence[Tin | Grid], params: ContourParams) -> tuple[dict[str, int], float]:
    """Return about how many lines and vertices there will be: some levels are traced, and stand for all."""
    surface = inputs[0]
    pair = surface.extent().elevation
    if pair is None:
        return {"lines": 0, "vertices": 0}, 0.0
    levels, _, half = _levels(params, pair, surface.frame.vertical)
    whole = levels[~half]
    size = surface.heights.size if isinstance(surface, Grid) else len(surface.triangles)
    vertices, times = effort(inputs, params), {Smooth.NONE: 1.0}.get(params.smooth, 3.0)
    if size > MOST_SAMPLED or len(whole) == 0:
        # Rings of contours have about a hundred vertices each on ground of this size.
        return {"lines": max(vertices // 100, 1), "vertices": int(vertices * times)}, vertices * EACH_VERTEX
    some = whole[:: max(len(whole) // 12, 1)]
    lines = level_lines(surface, some)
    share = len(whole) / len(some)
    number = {
        "lines": max(round(len(lines.which) * share), 1),
        "vertices": max(round(len(lines.plan) * share * times), 2),
    }
    return number, number["vertices"] * EACH_VERTEX


def _refuses(params: ContourParams) -> str:
    if params.smooth is not Smooth.NONE or params.weed is not None:
        return "smoothing and weeding look along whole lines; leave out smooth and weed"
    return "supplementary contours look along whole lines; leave them out" if params.supplementary is not None else ""


def _whole(inputs: Sequence[Outline], params: ContourParams) -> LineOutline:
    (own,) = inputs
    assert isinstance(own, CellOutline)
    return LineOutline(own)


def _tile(inputs: Sequence[Tin | Grid], params: ContourParams, piece: TilePart) -> Contours:
    """Return the lines between the centres of a tile and the first beyond it; those of all tiles meet end to end."""
    (grid,) = inputs
    assert isinstance(grid, Grid)
    assert isinstance(piece.whole, LineOutline)
    whole = piece.whole.cells
    own = whole.window(piece.box)
    window = Window(
        own.top, own.left, min(own.rows + 1, whole.rows - own.top), min(own.columns + 1, whole.columns - own.left)
    )
    part = whole.cut(grid, window)
    empty = piece.whole.dataset()
    pair = part.extent().elevation
    if pair is None:
        return empty
    levels, number, half = _levels(params, pair, part.frame.vertical)
    west, north = whole.west + whole.dx / 2.0, whole.north - whole.dy / 2.0
    plan, offsets, which, _ = grid_isolines(
        part.heights, west, north, whole.dx, whole.dy, levels, window.top, window.left
    )
    index = (number[which] % params.index == 0) & ~half[which]
    return replace(empty, plan=plan, offsets=offsets, levels=levels[which], index=index, supplementary=half[which])


def _finish(joined: Contours, piece: TilePart, params: ContourParams) -> tuple[Contours, list[Finding]]:
    """Return whole lines without what is there twice, inside the area and as long as asked for."""
    assert isinstance(piece.whole, LineOutline)
    own = piece.whole.cells
    column = (joined.plan[:, 0] - (own.west + own.dx / 2.0)) / own.dx
    row = ((own.north - own.dy / 2.0) - joined.plan[:, 1]) / own.dy
    node = (own.west + own.dx / 2.0 + np.rint(column) * own.dx == joined.plan[:, 0]) & (
        own.north - own.dy / 2.0 - np.rint(row) * own.dy == joined.plan[:, 1]
    )
    levels, which = np.unique(joined.levels, return_inverse=True)
    index = np.zeros(len(levels), np.bool_)
    index[which] = joined.index
    lines = Lines(*undoubled(joined.plan, joined.offsets, which, node))
    made = replace(
        joined,
        plan=lines.plan,
        offsets=lines.offsets,
        levels=levels[lines.which],
        index=index[lines.which],
        supplementary=np.zeros(len(lines.which), np.bool_),
        interval=params.interval.in_unit(joined.frame.vertical, "interval") if params.interval is not None else 0.0,
    )
    made = _inside(made, params, [made])
    findings = [Finding("loss-unknown", "What contours made in tiles lose was not measured.")]
    if params.shortest is not None:
        made = _long(made, params.shortest, findings)
    return made, findings


CONVERSION = Conversion(
    id="contours",
    version=3,
    title="Contours",
    also=("isolines",),
    help="Level lines of a TIN or grid, chained, with higher ground on the left.",
    inputs=(Input("surface", (Tin, Grid)), LIMIT),
    outputs=(Output("contours", Contours),),
    params=ContourParams,
    template="Contours[ every {interval}][ at {levels}] from {surface}[, starting at {base}][, none below {lowest}]"
    "[, none above {highest}], every {index} one an index contour[, supplementary ones where it is flatter than "
    "{supplementary}], {smooth}[ {held}][, weeded by {weed}][, within {area}][, within {limit}][, lines shorter than {shortest} left out].",
    run=run,
    foretell=foretell,
    settle=settle,
    estimate=_estimate,
    effort=effort,
    name=_name,
    preview=preview,
    tries=tries,
    form="contours",
    halo=lambda inputs, params: element(inputs[0]),
    tiles=Tiling(whole=_whole, run=_tile, refuses=_refuses, finish=_finish),
    automatic=4,
)
