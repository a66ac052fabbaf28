"""Closed lines to areas."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.findings import Finding
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity
from vastgrid.data.areas import Areas
from vastgrid.data.linework import Linework
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.areas.nesting import enclosed


@dataclass(frozen=True)
class AreaParams:
    """Which lines count as closed."""

    close: Annotated[
        Length | None,
        Param(
            "Close gaps up to",
            "A line whose end misses its beginning by no more than this is closed, and counted.",
            Quantity.XY_LENGTH,
            above=0,
            absent="no gap",
        ),
    ] = None


def run(inputs: Sequence[Linework], params: AreaParams, progress: Progress) -> Result:
    """Take what closed lines enclose; see `CONVERSION`.

    Raises
    ------
    DataError
        If no line is closed, or nobody can say what one encloses.
    """
    lines = inputs[0]
    findings: list[Finding] = []
    progress.report(0.1, "looking for closed lines")
    gap = params.close.in_unit(lines.frame.horizontal, "close") if params.close is not None else 0.0
    made = enclosed(lines, gap, findings)
    progress.report(1.0)
    return Result(dataclasses.replace(made, name=f"Areas of {lines.name}"), tuple(findings))


CONVERSION = Conversion(
    id="areas",
    version=1,
    title="Areas from closed lines",
    also=("polygons", "polygonize", "plots", "fill"),
    help="Closed lines as areas: one inside another on the same layer is a hole in it.",
    inputs=(Input("lines", (Linework,)),),
    outputs=(Output("areas", Areas),),
    params=AreaParams,
    template="Areas inside the closed lines of {lines}[, gaps up to {close} closed].",
    run=run,
    name=lambda inputs, params: f"Areas of {inputs[0].name}",
    fits=lambda lines: bool((np.diff(lines.offsets) > 2).any()),
)
