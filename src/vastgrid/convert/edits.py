"""A TIN with edits made by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

from vastgrid.base.progress import Progress
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.shaping.edits import EditLog, edited, near


@dataclass(frozen=True)
class EditParams:
    """Which edits."""

    log: Annotated[
        EditLog,
        Param("Edits", "One line each, such as: set height at E 431200 N 887100 to 231.4m.", absent="no edit"),
    ] = EditLog()  # noqa: RUF009 - it never changes


def run(inputs: Sequence[Tin], params: EditParams, progress: Progress) -> Result:
    """Make the edits one after another; see `CONVERSION`."""
    made, findings = edited(inputs[0], params.log)
    progress.report(1.0)
    return Result(made, tuple(findings))


CONVERSION = Conversion(
    id="edits",
    version=1,
    title="Edits by hand",
    help="A TIN with edits made by hand: a log of lines, replayed by coordinates when what it is made from changes.",
    inputs=(Input("surface", (Tin,)),),
    outputs=(Output("tin", Tin),),
    params=EditParams,
    template="{surface} with {log}.",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, edited",
    reach=lambda inputs, params: near(inputs[0]),
    resumes="log",
)
