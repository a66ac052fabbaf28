"""Levels written along contours."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import CallError
from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, Unit, length_in, unit_word
from vastgrid.data.linework import Contours
from vastgrid.data.places import Line
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.lines.labelling import Moves, Wish, decimals_of, labelled

# A plan of so many metres on paper holds everything at the scale that is proposed.
PAPER = 0.6
SCALES = (50, 100, 200, 250, 500, 1000, 2000, 2500, 5000, 10_000, 20_000, 25_000, 50_000, 100_000, 250_000)
# How far from the beginning of a line the first label is, and from one to the next, in heights.
FIRST, SPACING = 16.0, 48.0


class Placed(Enum):
    """Where a label stands."""

    GAP = "gap"
    ON = "on"
    ABOVE = "above"


class Facing(Enum):
    """Who can read it upright."""

    READER = "reader"
    UPHILL = "uphill"


class Only(Enum):
    """Which contours get labels."""

    INDEX = "index"
    ALL = "all"


@dataclass(frozen=True)
class LabelParams:
    """How labels look, and where they go."""

    height: Annotated[
        float | None,
        Param("Text height", "Of the labels on paper, in millimetres.", above=0, most=100, absent="another height"),
    ] = None
    scale: Annotated[float | None, Param("Scale", "Of the plan, as the n of 1:n.", above=0, absent="no scale")] = None
    ground: Annotated[
        Length | None,
        Param("Height on the ground", "Of the labels, instead of a height on paper.", Quantity.XY_LENGTH, above=0),
    ] = None
    only: Annotated[
        Only | None,
        Param(
            "Which contours",
            "index: index contours only; all: every contour.",
            said=(("index", "index contours"), ("all", "all contours")),
            absent="automatic",
        ),
    ] = None
    decimals: Annotated[
        int | None,
        Param("Decimals", "Of the levels; open: what the interval needs.", least=0, most=6, absent="automatic"),
    ] = None
    spacing: Annotated[
        Length | None,
        Param(
            "Spacing",
            "From one label to the next along a line.",
            Quantity.XY_LENGTH,
            above=0,
            absent="a suitable spacing",
        ),
    ] = None
    first: Annotated[
        Length | None,
        Param(
            "First distance", "From the beginning of a line to its first label.", Quantity.XY_LENGTH, least=0,
            absent="a suitable distance",
        ),
    ] = None  # fmt: skip
    ends: Annotated[
        bool,
        Param(
            "At the ends",
            "Open lines get a label at either end as well.",
            said=(("yes", "at both ends of open lines as well"),),
        ),
    ] = False
    placed: Annotated[
        Placed,
        Param(
            "Placed",
            "gap: the line is broken for it; on: it stands on the line; above: beside it.",
            said=(("gap", "in gaps of the lines"), ("on", "on the lines"), ("above", "above the lines")),
        ),
    ] = Placed.GAP
    facing: Annotated[
        Facing,
        Param(
            "Facing",
            "reader: upright on the sheet; uphill: readable facing uphill.",
            said=(("reader", "upright for the reader"), ("uphill", "facing uphill")),
        ),
    ] = Facing.READER
    shortest: Annotated[
        Length | None,
        Param("Shortest line", "Contours shorter than this get none.", Quantity.XY_LENGTH, above=0, absent="any line"),
    ] = None
    along: Annotated[
        Line | None,
        Param("Along", "Labels stand where contours cross this line, instead of at a spacing.", absent="the contours"),
    ] = None
    depressions: Annotated[
        bool,
        Param(
            "Mark depressions",
            "Labels of closed depressions stand in brackets.",
            said=(("yes", "depressions in brackets"),),
        ),
    ] = False
    moved: Annotated[
        Moves,
        Param("Moved by hand", "One line each: LEVEL: E N -> E N. The label stays there when contours are made again."),
    ] = Moves()  # noqa: RUF009


def settle(inputs: Sequence[Contours], params: LabelParams) -> LabelParams:
    """Propose a scale at which everything has room on paper, 2.5 mm, decimals that the levels need, and a spacing.

    Raises
    ------
    CallError
        If a height on paper and one on the ground are asked for.
    """
    contours = inputs[0]
    if params.ground is not None and (params.height is not None or params.scale is not None):
        raise CallError("ground: give a height on the ground, or a height on paper and a scale, not both")
    frame = contours.frame
    filled: dict[str, object] = {}
    if params.ground is None:
        if frame.horizontal is None and params.scale is None and params.height is None:
            # Of unknown unit nobody can say what a millimetre on paper is.
            filled["ground"] = Length(float(f"{_extent(contours) / 240.0 or 1.0:.1g}"))
        else:
            filled["height"] = params.height if params.height is not None else 2.5
            filled["scale"] = params.scale if params.scale is not None else _scale(contours)
    if params.only is None:
        filled["only"] = Only.INDEX if contours.index.any() else Only.ALL
    if params.decimals is None:
        every = (params.only or filled.get("only")) is Only.ALL
        filled["decimals"] = decimals_of(contours.levels if every else contours.levels[~contours.supplementary])
    own = dataclasses.replace(params, **filled)  # type: ignore[arg-type]
    tall = _height(contours, own)
    for name, times in (("spacing", SPACING), ("first", FIRST)):
        if getattr(own, name) is None and own.along is None:
            length = Length(float(f"{times * tall:.2g}"), frame.horizontal)
            own = dataclasses.replace(own, **{name: length})  # type: ignore[arg-type]
    return own


def _extent(contours: Contours) -> float:
    extent = contours.extent()
    return max(float(np.ptp(pair)) if pair else 0.0 for pair in (extent.east, extent.north))


def _scale(contours: Contours) -> float:
    metre = length_in(Length(1.0, Unit.METRE), contours.frame.horizontal)
    wanted = _extent(contours) / metre / PAPER
    return float(next((scale for scale in SCALES if scale >= wanted), SCALES[-1]))


def _height(contours: Contours, params: LabelParams) -> float:
    """Return how tall labels are, in the unit of plan.

    Raises
    ------
    CallError
        If a height on paper is asked for, and the unit of plan is unknown.
    """
    unit = contours.frame.horizontal
    if params.ground is not None:
        return length_in(params.ground, unit, unit or Unit.METRE)
    if unit is None:
        raise CallError(
            f"height: the unit of {contours.name} is unknown, so a scale has no meaning; give ground= in its own unit, or "
            "say the unit with --from-units"
        )
    assert params.height is not None
    assert params.scale is not None
    return length_in(Length(params.height / 1000.0 * params.scale, Unit.METRE), unit)


def _wish(contours: Contours, params: LabelParams) -> Wish:
    unit = contours.frame.horizontal

    def plan(length: Length | None, name: str) -> float:
        if length is None:
            return 0.0
        return length.value if unit is Unit.DEGREE and length.unit is None else length.in_unit(unit, name)

    tall = _height(contours, params)
    return Wish(
        height=tall,
        decimals=params.decimals or 0,
        brackets=params.depressions,
        first=plan(params.first, "first"),
        spacing=plan(params.spacing, "spacing") or SPACING * tall,
        ends=params.ends,
        placed=params.placed.value,
        uphill=params.facing is Facing.UPHILL,
        every=params.only is Only.ALL,
        shortest=plan(params.shortest, "shortest"),
        along=params.along.in_frame(contours.frame).places() if params.along is not None else None,
        moves=params.moved,
    )


def run(inputs: Sequence[Contours], params: LabelParams, progress: Progress) -> Result:
    """Place the labels; see `CONVERSION`.

    Raises
    ------
    CallError
        If a spacing and a line to stand along are asked for, or their height cannot be told.
    """
    contours, params = inputs[0], settle(inputs, params)
    if params.along is not None and (params.spacing is not None or params.first is not None):
        raise CallError(
            "along: labels stand where contours cross the line, so a spacing and a first distance say nothing"
        )
    wish = _wish(contours, params)
    put = labelled(contours, wish, progress)
    number = len(put.contours.labels["line"])
    lines = len(np.unique(put.contours.labels["line"]))
    unit = unit_word(contours.frame.horizontal)
    text = f"{count(number, 'label')} on {count(lines, 'contour')}, {wish.height:.4g}{unit} tall on the ground."
    findings = [note("labels", text)]
    if put.left_out:
        text = f"{count(put.left_out, 'place')} had no room for one: a sharp bend, a short line, or another label."
        findings.append(note("labels-left-out", text))
    if number == 0:
        findings.append(Finding("no-labels", "No label found room: make them smaller, or the spacing shorter."))
    gone = [row for row in params.moved.rows if row[0] not in contours.levels]
    if gone:
        levels = ", ".join(f"{row[0]:g}" for row in gone)
        findings.append(
            Finding("moved-label-gone", f"There is no contour any more for labels that were moved: {levels}.")
        )
    return Result(put.contours, tuple(findings), figures={"labels": number})


def preview(inputs: Sequence[Contours], params: LabelParams, progress: Progress) -> Contours | None:
    """Return the contours with their labels."""
    if len(inputs[0].plan) > 500_000:
        return None
    settled = settle(inputs, params)
    return labelled(inputs[0], _wish(inputs[0], settled), progress).contours


def _estimate(inputs: Sequence[Contours], params: LabelParams) -> str:
    contours = inputs[0]
    settled = settle(inputs, params)
    wish = _wish(contours, settled)
    lengths = contours.lengths()
    own = lengths[contours.index] if settled.only is Only.INDEX else lengths
    number = int((np.maximum(own - wish.first, 0.0) // wish.spacing + 1.0).sum())
    return "up to " + count(number, "label")


CONVERSION = Conversion(
    id="labels",
    version=1,
    title="Contour labels",
    also=("annotate", "elevations"),
    help="The levels written along contours: never over each other, none on a sharp bend.",
    inputs=(Input("contours", (Contours,)),),
    outputs=(Output("contours", like="contours"),),
    params=LabelParams,
    template="{contours} with labels[ on {only}| on {only=the contours that need them}][, {height} mm tall][ at 1:{scale}][, {ground} tall][, {decimals} decimals|, with {decimals=as many decimals as the interval needs}]"
    "[, one every {spacing}][, the first after {first}][, along {along}][, {ends}], {placed}, {facing}"
    "[, none on lines shorter than {shortest}][, {depressions}], {moved}.",
    run=run,
    settle=settle,
    estimate=_estimate,
    preview=preview,
    name=lambda inputs, params: f"{inputs[0].name} with labels",
)
