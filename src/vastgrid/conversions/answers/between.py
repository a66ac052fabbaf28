"""Any number of stages against each other: cut and fill from each to every later one."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Linework
from vastgrid.data.table import Table
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Inputs, Output, Picture, Result, listed
from vastgrid.measures import earthwork
from vastgrid.measures.earthwork import region_of
from vastgrid.terrain.areas.boundaries import (
    ClosedLines,
    DrawnArea,
    beyond_centres,
    cubic,
    for_volumes,
    named_areas,
    whole_of,
)
from vastgrid.terrain.tin.limits import has_rings


@dataclass(frozen=True)
class BetweenParams:
    """Inside what."""

    boundaries: ClosedLines = ""
    area: DrawnArea = None


def run(inputs: Inputs, params: BetweenParams, progress: Progress) -> Result:
    """Compare each with every later one; see `CONVERSION`.

    Raises
    ------
    DataError
        If no two of them have ground in common.
    """
    surfaces, lines = inputs.of("stages"), inputs.of("inside")
    findings: list[Finding] = []
    areas = named_areas(lines, findings, params.area, params.boundaries) if lines or params.area else []
    region = region_of([whole_of(areas)]) if areas else None
    tins = [for_volumes(each, surfaces[0]) for each in surfaces]
    findings += beyond_centres(surfaces)
    pairs = list(itertools.combinations(range(len(tins)), 2))
    rows = []
    for k, (one, other) in enumerate(pairs):
        part = progress.part(k / len(pairs), (k + 1) / len(pairs))
        made, _ = earthwork.between(tins[one], tins[other], region, np.zeros(0), part)
        rows.append(made[0])
    if not any(row.area > 0.0 for row in rows):
        raise DataError(f"{listed([each.name for each in surfaces])} have no ground in common")
    for (one, other), own in zip(pairs, rows, strict=True):
        if own.area <= 0.0:
            text = f"{surfaces[one].name} and {surfaces[other].name} have no ground in common."
            findings.append(Finding("ground-missing", text))
    unit = surfaces[0].frame.horizontal
    steps = [own for (one, other), own in zip(pairs, rows, strict=True) if other == one + 1]
    word = f" {cubic(unit)}".rstrip() or " cubic units"
    moved = sum(step.cut for step in steps), sum(step.fill for step in steps)
    text = f"From stage to stage, {spaced(moved[0], 1)}{word} were cut and {spaced(moved[1], 1)}{word} filled in all."
    findings.append(note("between", text))
    square = f"{unit.value}²" if unit else ""
    columns = {
        "from": np.array([surfaces[one].name.encode() for one, _ in pairs]),
        "to": np.array([surfaces[other].name.encode() for _, other in pairs]),
        "cut": np.array([row.cut for row in rows]),
        "fill": np.array([row.fill for row in rows]),
        "net": np.array([row.net for row in rows]),
        "common area": np.array([row.area for row in rows]),
    }
    table = Table(
        name="Stages against each other",
        frame=surfaces[0].frame,
        columns=columns,
        units=("", "", cubic(unit), cubic(unit), cubic(unit), square),
    )
    return Result(table, tuple(findings))


CONVERSION = Conversion(
    id="between",
    version=1,
    title="Volumes between several surfaces",
    also=("stages", "phases", "monthly"),
    help="Cut and fill from each of several surfaces to every later one, in the order in which they are given.",
    inputs=(
        Input(
            "stages",
            (Tin, Grid),
            least=2,
            most=None,
            help="surfaces, the first stage first",
            fits=lambda data: data.has_heights,
        ),
        Input("inside", (Linework, Areas), least=0, most=None, help="areas or closed lines", fits=has_rings),
    ),
    outputs=(Output("stages", Table, picture=Picture("bars", "From stage to stage", ("from", "to", "cut", "fill"))),),
    params=BetweenParams,
    template="Cut and fill between {stages}, each to every later one[, inside {inside}][ ({boundaries})][, inside {area}].",
    run=run,
    name=lambda inputs, params: "Stages against each other",
    answers=True,
)
