"""Lines that keep one height each, as contours."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, unit_word
from vastgrid.data.linework import Contours, Linework
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.measures.levels import interval_of, line_levels
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class LevelParams:
    """Which of them are index contours."""

    interval: Annotated[
        Length | None,
        Param(
            "Interval",
            "Level interval: the difference of neighbouring levels.",
            Quantity.Z_LENGTH,
            above=0,
            absent="not known",
        ),
    ] = None
    index: Annotated[
        int, Param("Index contours", "Every n-th, counted from 0, is an index contour.", least=1, ordinal=True)
    ] = 5


def settle(inputs: Sequence[Linework], params: LevelParams) -> LevelParams:
    """Take the interval that most of the lines keep."""
    found = interval_of(line_levels(inputs[0])) if params.interval is None else None
    return replace(params, interval=Length(found.step, inputs[0].frame.vertical)) if found else params


def run(inputs: Sequence[Linework], params: LevelParams, progress: Progress) -> Result:
    """Take the flat lines; see `CONVERSION`.

    Raises
    ------
    DataError
        If no line keeps one height.
    """
    lines, params = inputs[0], settle(inputs, params)
    levels = line_levels(lines)
    flat = np.flatnonzero(np.isfinite(levels) & (np.diff(lines.offsets) > 1))
    if len(flat) == 0:
        raise DataError(f"no line of {lines.name} keeps one height, so none is a contour")
    own = lines.chosen(flat)
    step = params.interval.in_unit(lines.frame.vertical, "interval") if params.interval is not None else 0.0
    number = levels[flat] / step if step else np.full(len(flat), 0.5)
    whole = np.abs(number - np.rint(number)) < 1e-6
    made = Contours(
        name=lines.name,
        frame=lines.frame,
        plan=own.vertices[:, :2],
        offsets=own.offsets,
        levels=levels[flat],
        index=whole & (np.rint(number) % params.index == 0),
        interval=step,
        supplementary=~whole if step and whole.any() else np.zeros(len(flat), np.bool_),
    )
    findings: list[Finding] = []
    if len(flat) < len(lines):
        text = f"{count(len(lines) - len(flat), 'line')} of {lines.name} are not level: left out."
        findings.append(left_out("no-level", text))
    if step:
        text = f"They keep an interval of {step:g}{unit_word(lines.frame.vertical)}."
        findings.append(note("contour-interval", text))
    findings.append(note("side-unknown", "On which side the ground is higher is not known of lines that came in."))
    progress.report(1.0)
    return Result(made, tuple(findings))


CONVERSION = Conversion(
    id="levels",
    version=1,
    title="Contours from level lines",
    also=("polylines to contours",),
    help="Level lines, each of one height, as contours, with index contours by their interval.",
    inputs=(Input("lines", (Linework,)),),
    outputs=(Output("contours", Contours),),
    params=LevelParams,
    template="{lines} as contours[ every {interval}|, {interval=interval unknown}], every {index} one an index contour.",
    run=run,
    settle=settle,
    name=lambda inputs, params: inputs[0].name,
    automatic=6,
)
