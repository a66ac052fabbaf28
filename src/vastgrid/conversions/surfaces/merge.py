"""Surfaces laid over each other, with a clean seam."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

import numpy as np

from vastgrid.base import late_shapely as shapely
from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, square_word, unit_word
from vastgrid.base.words import area_words, gap_words, place_words
from vastgrid.data.areas import Areas
from vastgrid.data.frame import Frame
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.places import Area
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Result
from vastgrid.measures.difference import difference
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.limits import cut_to, has_rings, limited_area
from vastgrid.terrain.tin.merging import Merged, laid_over, outline, winning


class Keep(Enum):
    """Which of two heights counts where both lie."""

    OVER = "over"
    LOWEST = "lowest"
    HIGHEST = "highest"


@dataclass(frozen=True)
class MergeParams:
    """Which surface counts, and how they meet."""

    keep: Annotated[
        Keep,
        Param(
            "Where both lie",
            "over: what is laid over counts; lowest or highest: the lower or the higher of the two.",
            said=(("over", "what is laid over"), ("lowest", "the lower"), ("highest", "the higher")),
        ),
    ] = Keep.OVER
    seam: Annotated[
        Length | None,
        Param(
            "Seam",
            "wall: a step between them stays one; a width: it is blended over that width of the ground beside it.",
            Quantity.XY_LENGTH,
            above=0,
            absent="kept as a wall",
            none="wall",
        ),
    ] = None
    offset: Annotated[
        Length | None,
        Param(
            "Wall's offset", "How far a wall leans, since no place can have two heights.", Quantity.XY_LENGTH, above=0
        ),
    ] = None
    gap: Annotated[
        Length | None,
        Param(
            "Close gaps up to",
            "Neighbouring surfaces that lie no farther apart than this are joined.",
            Quantity.XY_LENGTH,
            above=0,
            absent="no gap",
        ),
    ] = None
    area: Annotated[
        Area | None,
        Param("Area", "Only what is laid inside it, instead of closed lines.", absent="all of it"),
    ] = None


def settle(inputs: Sequence[Tin], params: MergeParams) -> MergeParams:
    """Let walls lean by a centimetre."""
    if params.offset is None:
        unit = inputs[0].frame.horizontal
        known = unit is not None and unit is not Unit.DEGREE
        return dataclasses.replace(
            params, offset=Length(0.01, Unit.METRE) if known else Length(0.01 if unit is None else 1e-7)
        )
    return params


def _limit(inputs: Inputs, params: MergeParams, findings: list[Finding]) -> Any:
    area = limited_area(inputs.of("limit"), "limit", findings, inputs[0].frame.horizontal)
    if params.area is not None:
        drawn = shapely.Polygon(params.area.corners)
        area = drawn if area is None else shapely.intersection(area, drawn)
    return area


def run(inputs: Inputs, params: MergeParams, progress: Progress) -> Result:
    """Lay surfaces over each other; see `CONVERSION`.

    Raises
    ------
    DataError
        If nothing of what is laid over lies inside the limit.
    """
    findings: list[Finding] = []
    area = _limit(inputs, params, findings)
    (ground,) = inputs.of("ground")
    assert isinstance(ground, Tin)
    frame = ground.frame
    offset = params.offset.in_unit(frame.horizontal, "offset") if params.offset else 0.01
    width = params.seam.in_unit(frame.horizontal, "seam") if params.seam else offset
    gap = params.gap.in_unit(frame.horizontal, "gap") if params.gap else 0.0
    laid = [each for each in inputs.of("over") if isinstance(each, Tin)]
    made = ground
    plan = unit_word(frame.horizontal)
    seam = 0
    for k, each in enumerate(laid):
        part = progress.part(0.7 * k / len(laid), 0.7 * (k + 1) / len(laid))
        over = cut_to(each, area) if area is not None else each
        if params.keep is not Keep.OVER:
            place = winning(made, over, params.keep is Keep.LOWEST)
            if place.is_empty or not place.area:
                which = "lower" if params.keep is Keep.LOWEST else "higher"
                text = f"{each.name} is nowhere the {which} of the two; nothing of it was laid."
                findings.append(Finding("nothing-laid", text))
                continue
            over = cut_to(over, place)
        before = made
        joined = laid_over(made, over, width, "Merged", part, gap)
        made = joined.tin
        seam += joined.seam
        findings += _told(joined, each.name, before.name or "the ground", frame)
        if joined.common:
            try:
                differs = difference(before, made, part)
                findings.append(
                    note(
                        "differs-from-ground", f"Against {ground.name} it differs by {differs.sentence()}.", differs.at
                    )
                )
                differs = difference(over, made, part)
                findings.append(
                    note("differs-from-over", f"Against {each.name} it differs by {differs.sentence()}.", differs.at)
                )
            except DataError:
                continue
    if seam:
        how = f"a wall that leans by {offset:g}{plan}" if params.seam is None else f"blended over {width:g}{plan}"
        findings.append(note("seam", f"The seam is {how}: {count(seam, 'triangle')}."))
    progress.report(1.0)
    return Result(made.renamed("Merged"), tuple(findings), figures={"seam": seam})


def _told(joined: Merged, over: str, ground: str, frame: Frame) -> list[Finding]:
    """Say where one surface lies to the other: over it or beside it, how high at the rim, and what stays open between."""
    plan, unit, square = unit_word(frame.horizontal), unit_word(frame.vertical), square_word(frame.horizontal)
    beside = joined.area - joined.common
    beside = beside if beside > 1e-9 * joined.area else 0.0
    if joined.common:
        where = f"{over} lies over {area_words(joined.common)}{square} of {ground}"
        where += f" and beside it with {area_words(beside)}{square}" if beside else ""
    else:
        where = f"{over} lies beside {ground}: they have 0{square} in common"
    if joined.steps:
        rim = f"; at its rim the two stand up to {gap_words(joined.largest)}{unit} apart ({place_words(joined.at[0], joined.at[1])})"
    elif joined.meets:
        rim = "; where its rim meets the other they are equally high"
    else:
        rim = f"; their rims do not meet: they lie {joined.apart:.6g}{plan} apart"
    found = [note("laid-over", f"{where}{rim}.", joined.at if joined.steps else None)]
    if joined.closed > 1e-9 * joined.area:
        found.append(
            note("gap-closed", f"Between {over} and {ground} {area_words(joined.closed)}{square} were closed.")
        )
    if joined.open or (joined.apart and joined.closed <= 1e-9 * joined.area):
        what = f"of {area_words(joined.open)}{square}" if joined.open else f"of {joined.apart:.6g}{plan}"
        text = f"A gap {what} stays between {over} and {ground}; gap= joins what lies no farther apart than it says."
        found.append(Finding("gap-stays", text))
    return found


def preview(inputs: Inputs, params: MergeParams, progress: Progress) -> Linework | None:
    """Return where the seams would lie: both rims of the band that a blended one takes."""
    (ground,) = inputs.of("ground")
    assert isinstance(ground, Tin)
    area = _limit(inputs, params, [])
    frame = ground.frame
    width = params.seam.in_unit(frame.horizontal, "seam") if params.seam else 0.0
    rings: list[Any] = []
    for each in inputs.of("over"):
        assert isinstance(each, Tin)
        place = outline(each) if area is None else shapely.intersection(outline(each), area)
        if params.keep is not Keep.OVER:
            place = shapely.intersection(place, winning(ground, each, params.keep is Keep.LOWEST))
        rings += [shapely.boundary(place)]
        if width:
            rings.append(shapely.boundary(shapely.buffer(place, width, join_style="mitre")))
    lines = [shapely.get_coordinates(line) for line in shapely.get_parts(rings) if not line.is_empty]
    if not lines:
        return None
    return from_lines(
        "seam", frame, [np.column_stack((own, np.zeros(len(own)))) for own in lines], ["SEAM"] * len(lines)
    )


CONVERSION = Conversion(
    id="merge",
    version=1,
    title="Merge surfaces",
    also=("overlay", "stitch", "combine"),
    help="A surface laid over another, or the lower or higher of two, with shared edges where they meet.",
    inputs=(
        Input("ground", (Tin,), help="the ground below"),
        Input("over", (Tin,), most=None, help="what is laid over it"),
        Input(
            "limit",
            (Linework, Areas),
            least=0,
            most=None,
            help="areas or closed lines inside which it is laid",
            fits=has_rings,
        ),
    ),
    outputs=(Output("tin", Tin),),
    params=MergeParams,
    template="{over} laid over {ground}[ inside {limit}][ inside {area}]; where both lie, {keep} counts, the seam {seam}[ (walls lean by {offset})][, gaps up to {gap} closed].",
    run=run,
    settle=settle,
    name=lambda inputs, params: f"{inputs[0].name}, merged",
    preview=preview,
)
