"""Areas to lines: their rims and the rims of their holes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.data.areas import Areas
from vastgrid.data.linework import Linework
from vastgrid.declarations.conversion import Conversion, Input, Output, Result


@dataclass(frozen=True)
class RimParams:
    """Nothing to choose: every ring becomes a closed line."""


def run(inputs: Sequence[Areas], params: RimParams, progress: Progress) -> Result:
    """Take the rings; see `CONVERSION`."""
    areas = inputs[0]
    holes = int(areas.holes().sum())
    found: list[Finding] = []
    if holes:
        found.append(note("holes", f"{count(holes, 'line')} of {areas.rings} lie around holes."))
    progress.report(1.0)
    return Result(areas.as_lines(), tuple(found))


CONVERSION = Conversion(
    id="lines",
    version=1,
    title="Lines around areas",
    also=("rims", "boundaries", "polylines", "rings"),
    help="The rims of areas and of their holes as closed lines, with the layer and attributes of their area.",
    inputs=(Input("areas", (Areas,)),),
    outputs=(Output("lines", Linework),),
    params=RimParams,
    template="Closed lines around {areas}.",
    run=run,
    foretell=lambda inputs, params: ({"lines": inputs[0].rings}, 0.01),
    name=lambda inputs, params: f"{inputs[0].name} as lines",
    halo=lambda inputs, params: 0.0,
    automatic=6,
)
