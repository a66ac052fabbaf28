"""Lines moved sideways, and up or down."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import count, left_out
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.data.frame import need_lengths
from vastgrid.data.linework import Linework
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.lines.sideways import moved_sideways


class Corners(Enum):
    """How the outer side of a bend is joined."""

    SQUARE = "square"
    ROUND = "round"


@dataclass(frozen=True)
class OffsetParams:
    """How far."""

    by: Annotated[
        Length,
        Param("Sideways", "Positive to the right of the line's direction, negative to its left.", Quantity.XY_LENGTH),
    ] = Length(0.0)
    rise: Annotated[Length, Param("Up", "What is added to the heights; negative is down.", Quantity.Z_LENGTH)] = Length(
        0.0
    )
    corners: Annotated[
        Corners,
        Param(
            "Corners",
            "square: legs are carried on until they meet; round: an arc around the corner.",
            said=(("square", "square corners"), ("round", "round corners")),
        ),
    ] = Corners.SQUARE


def run(inputs: Sequence[Linework], params: OffsetParams, progress: Progress) -> Result:
    """Move the lines; see `CONVERSION`.

    Raises
    ------
    CallError
        If the lines are in degrees.
    DataError
        If nothing is left: every line was narrower than twice the way.
    """
    lines = inputs[0]
    if params.by.value:
        need_lengths(lines.name, lines.frame, "an offset needs")
    by = params.by.in_unit(lines.frame.horizontal, "by")
    up = np.array([0.0, 0.0, params.rise.in_unit(lines.frame.vertical, "rise")])
    if by == 0.0:
        vertices = lines.vertices + up
        return Result(dataclasses.replace(lines, vertices=vertices))
    parts, source = [np.zeros((0, 3))], []
    for k in range(len(lines)):
        own = moved_sideways(lines.line(k), by, round_=params.corners is Corners.ROUND)
        parts += [part + up for part in own]
        source += [k] * len(own)
        if k % 200 == 0:
            progress.report(k / len(lines), "moving lines sideways")
    if not source:
        raise DataError(f"nothing of {lines.name} is left {params.by} sideways: every line is too narrow")
    offsets = np.cumsum([0, *(len(part) for part in parts[1:])])
    from_ = np.array(source, np.int64)
    made = dataclasses.replace(
        lines,
        vertices=np.concatenate(parts),
        offsets=offsets.astype(np.int64),
        layer=lines.layer[from_],
        attributes={name: values[from_] for name, values in lines.attributes.items()},
    )
    gone = len(lines) - len(np.unique(from_))
    findings = []
    if gone:
        text = f"{count(gone, 'line')} too narrow to have anything {params.by} sideways: left out."
        findings.append(left_out("offset-vanished", text))
    return Result(made, tuple(findings))


CONVERSION = Conversion(
    id="offset",
    version=1,
    title="Offset lines",
    also=("parallel", "kerb", "edge"),
    help="Lines moved sideways in plan by a distance, and up or down.",
    inputs=(Input("lines", (Linework,)),),
    outputs=(Output("lines", Linework),),
    params=OffsetParams,
    template="{lines} moved {by} to the right and {rise} up, {corners}.",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, {params.by} beside",
    ask=True,
)
