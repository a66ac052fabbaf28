"""Points cleaned by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.progress import Progress
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.editing.cleaning import CleaningLog, cleaned


@dataclass(frozen=True)
class CleanParams:
    """What was done."""

    log: Annotated[
        CleaningLog,
        Param(
            "Edits",
            "One line each, such as: delete inside 431200,887100 431260,887100 431260,887140, or class 7 everywhere below 180m.",
            absent="no edits",
        ),
    ] = CleaningLog()  # noqa: RUF009 - it never changes


def run(inputs: Sequence[PointSet], params: CleanParams, progress: Progress) -> Result:
    """Do what the log says; see `CONVERSION`."""
    done = cleaned(inputs[0], params.log)
    progress.report(1.0)
    figures = {"replayed": done.made, "not_replayed": done.missed, "dropped": done.dropped, "classed": done.classed}
    return Result(done.points, done.findings, figures=figures)


CONVERSION = Conversion(
    id="clean",
    version=1,
    title="Edit points by hand",
    also=("classify", "delete points", "crop cloud"),
    help="Points deleted, kept or given a class by areas drawn in the plan, in a section or in 3D: a log of lines, replayed "
    "when the points change.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", like="points"),),
    params=CleanParams,
    template="{points} with {log} by hand.",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, cleaned",
    resumes="log",
)
