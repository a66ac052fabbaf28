"""How large areas are: each with its area, its perimeter, and its parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.findings import Finding, count, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import square_word
from vastgrid.base.words import spaced
from vastgrid.data.areas import Areas
from vastgrid.data.table import Table
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.measures.area_sizes import sizes_of
from vastgrid.terrain.areas.boundaries import names_of
from vastgrid.terrain.areas.ground import OnGround, to_ground


@dataclass(frozen=True)
class SizeParams:
    """On the grid, or on the ground."""

    ground: OnGround = False


def run(inputs: Sequence[Areas], params: SizeParams, progress: Progress) -> Result:
    """Measure them; see `CONVERSION`.

    Raises
    ------
    CallError
        If ground quantities are asked for of what lies in no projected system.
    """
    areas = inputs[0]
    findings: list[Finding] = []
    times = to_ground(areas, findings, wanted=params.ground)
    sizes = sizes_of(areas)
    progress.report(0.8, "measuring areas")
    holes = np.bincount(areas.area_of_ring()[areas.holes()], minlength=len(areas)).astype(np.float64)
    own, around = sizes.areas * times, sizes.perimeters * times**0.5
    columns = {
        "name": np.array([name.encode() for name in names_of(areas)] or [b""])[: len(areas)],
        "area": own,
        "perimeter": around,
        "parts": np.diff(areas.members).astype(np.float64),
        "holes": holes,
    }
    unit = sizes.unit.value if sizes.unit else ""
    table = Table(
        name=f"Sizes of {areas.name}",
        frame=areas.frame,
        columns=columns,
        units=("", f"{unit}²" if unit else "", unit, "", ""),
    )
    total = float(own.sum())
    said = f"{spaced(total, 2)}{square_word(sizes.unit)}"
    findings.insert(0, note("sizes", f"{count(len(areas), 'area')}, {said} in all."))
    rows = [{"name": row["name"], "area": row["area"], "perimeter": row["perimeter"]} for row in table.rows()]
    figures = {"in short": said, "area": total, "perimeter": float(around.sum()), "parts": rows}
    progress.report(1.0)
    return Result(table, tuple(findings), figures=figures)


CONVERSION = Conversion(
    id="sizes",
    version=1,
    title="Areas and perimeters",
    also=("area table", "hectares", "acreage", "perimeter"),
    help="A table with the area and the perimeter of each area; in degrees by the ellipsoid.",
    inputs=(Input("areas", (Areas,)),),
    outputs=(Output("table", Table),),
    params=SizeParams,
    template="Sizes of {areas}[, {ground}].",
    run=run,
    name=lambda inputs, params: f"Sizes of {inputs[0].name}",
    answers=True,
)
