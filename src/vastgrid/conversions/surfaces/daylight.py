"""Slopes from a line to the ground."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import CallError, DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, length_in, square_word, unit_word
from vastgrid.base.words import gap_words, place_words
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.frame import need_lengths, ratio_of
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.params.declare import Param
from vastgrid.params.kinds import Batter
from vastgrid.terrain.lines.slope_forms import daylight_of, slope_lines, surface_of
from vastgrid.terrain.lines.slopes import Caster, Side, Slopes, side_of
from vastgrid.terrain.tin.merging import laid_over
from vastgrid.terrain.tin.surfaces import grid_tin

# The daylight line keeps within so much, in metres of plan, of what it would be with more rays.
WITHIN = 0.03


class Corners(Enum):
    """What goes around an outer corner."""

    SQUARE = "square"
    ROUND = "round"


class Gives(Enum):
    """What is given."""

    SLOPES = "slopes"
    GROUND = "ground"
    LIMIT = "limit"
    LINES = "lines"


class Beside(Enum):
    """On which side of the line slopes are made."""

    OUTSIDE = "outside"
    INSIDE = "inside"
    RIGHT = "right"
    LEFT = "left"
    BOTH = "both"


@dataclass(frozen=True)
class DaylightParams:
    """How steep, and what is given."""

    cut: Annotated[
        Batter,
        Param(
            "Cut", "Where the ground lies higher: 2:1 (horizontal to vertical), 50 %, 26.6deg; a bare number is n:1."
        ),
    ] = Batter(2.0, ":1")  # noqa: RUF009
    fill: Annotated[Batter, Param("Fill", "Where the ground lies lower, written in the same way.")] = Batter(2.0, ":1")  # noqa: RUF009
    side: Annotated[
        Beside | None,
        Param(
            "Side",
            "outside or inside of a closed line; right, left or both of an open one, seen along it.",
            said=(
                ("outside", "the outer side"),
                ("inside", "the inner side"),
                ("right", "the right"),
                ("left", "the left"),
                ("both", "both sides"),
            ),
            absent="the outer side",
        ),
    ] = None
    corners: Annotated[
        Corners,
        Param(
            "Corners",
            "square: the slopes of both legs carried on until they meet; round: a cone around the corner.",
            said=(("square", "corners square"), ("round", "corners round")),
        ),
    ] = Corners.SQUARE
    level: Annotated[
        Length | None,
        Param(
            "Level", "One height for the whole line, instead of its own.", Quantity.Z_LENGTH, absent="its own heights"
        ),
    ] = None
    bench: Annotated[
        Length | None,
        Param("Bench every", "Height from one bench to the next; none for slopes without.", Quantity.Z_LENGTH, above=0),
    ] = None
    width: Annotated[Length | None, Param("Bench width", "How wide a bench is.", Quantity.XY_LENGTH, above=0)] = None
    lines: Annotated[
        Length | None,
        Param(
            "Slope lines", "Spacing of the lines down the slopes, long and short in turn.", Quantity.XY_LENGTH, above=0
        ),
    ] = None
    gives: Annotated[
        Gives,
        Param(
            "Gives",
            "slopes: a TIN of them; ground: the ground with pad and slopes; limit: the daylight line; lines: slope lines.",
            said=(
                ("slopes", "a TIN of the slopes"),
                ("ground", "the ground with pad and slopes"),
                ("limit", "the daylight line"),
                ("lines", "slope lines"),
            ),
        ),
    ] = Gives.SLOPES


def settle(inputs: Inputs, params: DaylightParams) -> DaylightParams:
    """Take the outside of closed lines and both sides of open ones, a bench as wide as it is usual, lines 5 m apart."""
    (lines,) = inputs.of("line")
    assert isinstance(lines, Linework)
    if params.side is None:
        params = dataclasses.replace(params, side=Beside.OUTSIDE if lines.closed().all() else Beside.BOTH)
    unit = lines.frame.horizontal
    if params.bench is not None and params.width is None:
        params = dataclasses.replace(params, width=Length(2.0, Unit.METRE) if unit else Length(2.0))
    if params.gives is Gives.LINES and params.lines is None:
        params = dataclasses.replace(params, lines=Length(5.0, Unit.METRE) if unit else Length(5.0))
    return params


def run(inputs: Inputs, params: DaylightParams, progress: Progress) -> Result:
    """Make the slopes; see `CONVERSION`.

    Raises
    ------
    CallError
        If the data is in degrees, a side does not fit the line, or a bench's width is given without benches.
    DataError
        If a line has no heights, or lies beside the surface.
    """
    (lines,), (surface,) = inputs.of("line"), inputs.of("surface")
    assert isinstance(lines, Linework)
    params = settle(inputs, params)
    need_lengths(lines.name, lines.frame, "slopes need")
    if params.width is not None and params.bench is None:
        raise CallError("width: there are no benches; say how high the slope is between them (bench=3m)")
    ground = grid_tin(surface) if isinstance(surface, Grid) else surface
    assert isinstance(ground, Tin)
    slopes = _slopes(lines, params)
    findings: list[Finding] = []
    parts = []
    for k in range(len(lines)):
        part = progress.part(0.7 * k / len(lines), 0.7 * (k + 1) / len(lines))
        parts.append(_Part(_line(lines, k, params), ground, slopes, params, lines, part))
    _tell(parts, lines, ground, params, findings)
    made: Dataset
    match params.gives:
        case Gives.SLOPES:
            made = _slopes_given(parts, lines, findings)
        case Gives.GROUND:
            made = _ground_given(parts, ground, lines, findings, progress.part(0.7, 1.0))
        case Gives.LIMIT:
            made = _limit_given(parts, lines, params)
        case Gives.LINES:
            made = _lines_given(parts, lines, params, findings)
    return Result(made, tuple(findings))


def _slopes(lines: Linework, params: DaylightParams) -> Slopes:
    frame = lines.frame
    bench = params.bench.in_unit(frame.vertical, "bench") if params.bench is not None else 0.0
    width = params.width.in_unit(frame.horizontal, "width") if params.width is not None else 0.0
    round_ = params.corners is Corners.ROUND
    return Slopes(1.0 / params.cut.rise, 1.0 / params.fill.rise, ratio_of(frame), bench, width, round_)


def _line(lines: Linework, k: int, params: DaylightParams) -> Floats:
    line = lines.line(k).copy()
    if params.level is not None:
        line[:, 2] = params.level.in_unit(lines.frame.vertical, "level")
    if not np.isfinite(line[:, 2]).all():
        raise DataError(f"{lines.name} has no heights everywhere; lay it on a surface, or say its level (level=231.5m)")
    line = line[np.append(True, (np.diff(line[:, :2], axis=0) != 0.0).any(axis=1))]
    if len(line) < 2:
        raise DataError(f"line {k + 1} of {lines.name} has no length")
    return np.ascontiguousarray(line)


class _Part:
    """One line with the slopes on its sides."""

    def __init__(
        self, line: Floats, ground: Tin, slopes: Slopes, params: DaylightParams, lines: Linework, progress: Progress
    ) -> None:
        self.line = line
        self.closed = len(line) > 3 and bool((line[0, :2] == line[-1, :2]).all())
        self.pad: Any = None
        ways = _ways(line, self.closed, params)
        if self.closed and params.side is Beside.OUTSIDE:
            self.pad = shapely.Polygon(line[:, :2])
            if not self.pad.is_valid:
                raise DataError(f"a closed line of {lines.name} crosses itself: {shapely.is_valid_reason(self.pad)}")
        spacing = params.lines.in_unit(lines.frame.horizontal, "lines") if params.lines is not None else 0.0
        self.casters = [Caster(line, ground, slopes, way, spacing) for way in ways]
        within = length_in(Length(WITHIN, Unit.METRE), lines.frame.horizontal)
        self.sides: list[Side] = [
            side_of(caster, within, progress.part(k / len(ways), (k + 1) / len(ways)))
            for k, caster in enumerate(self.casters)
        ]

    def surface(self, lines: Linework, *, pad: bool) -> tuple[Tin, Any]:
        """Return the slopes as a TIN, with the pad inside the line if that is wanted, and their place."""
        inner = self.pad if pad else None
        return surface_of(self.sides, inner, f"Slopes of {lines.name}", lines.frame, self.line if inner else None)


def _ways(line: Floats, closed: bool, params: DaylightParams) -> list[float]:
    """Return 1 for the right and -1 for the left side of a line.

    Raises
    ------
    CallError
        If the side is one that the line has not.
    """
    side = params.side
    if side in (Beside.OUTSIDE, Beside.INSIDE):
        if not closed:
            raise CallError(f"side={side.value}: the line is not closed; take right, left or both")
        outward = 1.0 if shapely.is_ccw(shapely.LinearRing(line[:, :2])) else -1.0
        return [outward if side is Beside.OUTSIDE else -outward]
    return {Beside.RIGHT: [1.0], Beside.LEFT: [-1.0]}.get(side or Beside.BOTH, [1.0, -1.0])


def _tell(parts: list[_Part], lines: Linework, ground: Tin, params: DaylightParams, findings: list[Finding]) -> None:
    plan, unit = unit_word(lines.frame.horizontal), unit_word(lines.frame.vertical)
    casts = [cast for part in parts for side in part.sides for cast in side.casts]
    ends = [cast for cast in casts if len(cast.places) > 1]
    if not ends:
        raise DataError(f"{lines.name} lies on the ground: there is no slope to make")
    longest = max(ends, key=lambda own: float(np.hypot(*(own.end - own.places[0])[:2])))
    highest = max(abs(float(end.end[2] - end.places[0, 2])) for end in ends)
    length = float(np.hypot(*(longest.end - longest.places[0])[:2]))
    cuts = sum(end.up for end in ends)
    kinds = "cut" if cuts == len(ends) else "fill" if cuts == 0 else "cut and fill"
    text = f"Slopes in {kinds}, up to {length:.2f}{plan} wide and {highest:.2f}{unit} high."
    findings.append(note("slopes", text, (float(longest.end[0]), float(longest.end[1]))))
    beside = sum(side.beside for part in parts for side in part.sides)
    if beside:
        findings.append(Finding("beyond-surface", f"Part of {lines.name} lies beyond {ground.name}: no slopes there."))
    open_ = [end for end in ends if end.state == "open"]
    if open_:
        at = (float(open_[0].end[0]), float(open_[0].end[1]))
        feet = sum(_open_length(side) for part in parts for side in part.sides)
        text = (
            f"Along {feet:.2f}{plan} of {lines.name} the slopes do not reach the ground: it ends before "
            f"({place_words(at[0], at[1])})."
        )
        findings.append(Finding("no-daylight", text, at=at))


def _open_length(side: Side) -> float:
    at = np.array([cast.ray.at for cast in side.casts])
    bad = np.array([cast.state == "open" for cast in side.casts])
    return float(np.diff(at)[bad[1:] & bad[:-1]].sum())


def _slopes_given(parts: list[_Part], lines: Linework, findings: list[Finding]) -> Tin:
    made = [part.surface(lines, pad=False) for part in parts]
    for k, (_, one) in enumerate(made):
        for _, two in made[:k]:
            if shapely.intersection(one, two).area > 1e-9 * max(one.area, 1e-9):
                raise DataError("the slopes of two lines meet; make them one after the other (gives=ground)")
    area = sum(float(place.area) for _, place in made)
    findings.append(note("area", f"They cover {area:.2f}{square_word(lines.frame.horizontal)} in plan."))
    if len(made) == 1:
        return made[0][0]
    start = np.cumsum([0, *(len(tin.vertices) for tin, _ in made[:-1])])
    return Tin(
        name=made[0][0].name,
        frame=lines.frame,
        vertices=np.concatenate([tin.vertices for tin, _ in made]),
        triangles=np.concatenate([tin.triangles + first for (tin, _), first in zip(made, start, strict=True)]),
    )


def _ground_given(parts: list[_Part], ground: Tin, lines: Linework, findings: list[Finding], progress: Progress) -> Tin:
    width = length_in(Length(0.01, Unit.METRE), lines.frame.horizontal)
    made = ground
    for k, part in enumerate(parts):
        over, _ = part.surface(lines, pad=True)
        merged = laid_over(made, over, width, ground.name, progress.part(k / len(parts), (k + 1) / len(parts)))
        made = merged.tin
        if merged.largest > 4.0 * WITHIN:
            unit = unit_word(lines.frame.vertical)
            text = f"Where slopes end above or below the ground a wall of up to {gap_words(merged.largest)}{unit} joins them."
            findings.append(note("wall", text, merged.at))
    return made


def _limit_given(parts: list[_Part], lines: Linework, params: DaylightParams) -> Linework:
    found = []
    for part in parts:
        for side in part.sides:
            own = daylight_of(side)
            whole = side.closed and len(own) == 1 and all(each.state != "open" for each in side.casts)
            if whole and (own[0][0, :2] != own[0][-1, :2]).any():
                own = [np.vstack((own[0], own[0][:1]))]
            found += own
    if not found:
        raise DataError(f"the slopes of {lines.name} reach the ground nowhere")
    layers = ["Daylight"] * len(found)
    if params.lines is not None:
        down = _down(parts, lines, params)
        found += [line for line, _ in down]
        layers += ["Slope lines, long" if long else "Slope lines, short" for _, long in down]
    return from_lines(f"Daylight of {lines.name}", lines.frame, found, layers)


def _down(parts: list[_Part], lines: Linework, params: DaylightParams) -> list[tuple[Floats, bool]]:
    assert params.lines is not None
    spacing = params.lines.in_unit(lines.frame.horizontal, "lines")
    return [line for part in parts for caster in part.casters for line in slope_lines(caster, spacing)]


def _lines_given(parts: list[_Part], lines: Linework, params: DaylightParams, findings: list[Finding]) -> Linework:
    found = _down(parts, lines, params)
    layers = ["Slope lines, long" if long else "Slope lines, short" for _, long in found]
    findings.append(note("slope-lines", f"{count(len(found), 'slope line')}, long and short in turn."))
    return from_lines(f"Slope lines of {lines.name}", lines.frame, [line for line, _ in found], layers)


CONVERSION = Conversion(
    id="daylight",
    version=1,
    title="Grade to daylight",
    also=("batter", "slope to surface", "pad", "embankment", "side slopes"),
    help="Slopes from a line or the edge of a pad to the ground, in cut and in fill: their TIN, the ground with them, the daylight "
    "line, or slope lines.",
    inputs=(
        Input("line", (Linework,), help="the edge they begin at"),
        Input("surface", (Tin, Grid), help="the ground", fits=lambda data: data.has_heights),
    ),
    outputs=(Output("made", Tin),),
    forms=((Linework, {"gives": "limit"}),),
    params=DaylightParams,
    template="Slopes from {line} to {surface}, cut {cut}, fill {fill}, on {side}[, from {level}], {corners}[, a bench every "
    "{bench}][, {width} wide][, lines every {lines}], giving {gives}.",
    run=run,
    settle=settle,
    name=lambda inputs, params: (
        f"{inputs.of('surface')[0].name} with {inputs[0].name}"
        if params.gives is Gives.GROUND
        else f"Slopes of {inputs[0].name}"
    ),
    frame_of="surface",
    ask=True,
)
