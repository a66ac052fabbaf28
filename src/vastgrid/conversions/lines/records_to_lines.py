"""Survey records to lines: their drawn courses, for receivers that know no alignments."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.linework import Linework, from_lines
from vastgrid.data.survey import Survey
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param


class Layers(Enum):
    """What the lines' layers are called after."""

    ROLE = "role"
    NAME = "name"


@dataclass(frozen=True)
class CourseParams:
    """How the lines are laid on layers."""

    layers: Annotated[
        Layers, Param("Layers by", "role: alignment, parcel, plan feature …; name: each record's own.")
    ] = Layers.ROLE


def run(inputs: Sequence[Dataset], params: CourseParams, progress: Progress) -> Result:
    """Take the drawn courses; see `CONVERSION`.

    Raises
    ------
    DataError
        If no record has a course.
    """
    survey = inputs[0]
    assert isinstance(survey, Survey)
    records = survey.records()
    courses = [record for record in records if len(record.line) > 1]
    if not courses:
        raise DataError(f"the records of {survey.name} are single places; none has a course")
    findings = []
    if len(courses) < len(records):
        text = f"{count(len(records) - len(courses), 'record')} of {spaced(len(records))} without a course (single places): left out."
        findings.append(Finding("no-course", text))
    layers = [record.role.upper() if params.layers is Layers.ROLE else record.name or record.role for record in courses]
    progress.report(1.0)
    lines = from_lines("Courses", survey.frame, [record.line for record in courses], layers)
    return Result(lines, tuple(findings))


CONVERSION = Conversion(
    id="courses",
    version=1,
    title="Lines from alignments and parcels",
    also=("alignments", "parcels", "trajectories"),
    help="Alignments, parcels, plan features and trajectories, as lines on layers.",
    inputs=(Input("records", (Survey,)),),
    outputs=(Output("lines", Linework),),
    params=CourseParams,
    template="Alignments and parcels of {inputs} as lines, on layers by {layers}.",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name} as lines",
    automatic=6,
)
