"""Points of a complete lattice to the grid that they are, nothing interpolated."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, left_out, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import unit_word
from vastgrid.data.grid import Grid
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.terrain.cells.regular import grid_of, is_complete


@dataclass(frozen=True)
class CellParams:
    """Nothing to choose: every point becomes a cell."""


def run(inputs: Sequence[PointSet], params: CellParams, progress: Progress) -> Result:
    """Make every point the centre of a cell; see `CONVERSION`.

    Raises
    ------
    DataError
        If the points are not on a regular grid along east and north.
    """
    points = inputs[0]
    lattice = grid_of(points)
    if lattice is None:
        raise DataError(f"the points of {points.name} are not on a regular grid along east and north")
    findings: list[Finding] = []
    gaps = lattice.grid.heights.size - len(points.xyz)
    if gaps:
        findings.append(note("lattice-gaps", f"{count(gaps, 'cell')} of the lattice without a point and a height."))
    if lattice.moved > 1e-9 * lattice.grid.dx:
        findings.append(
            note(
                "lattice-rounded",
                f"Points move by up to {lattice.moved:.3g}{unit_word(points.frame.horizontal)} onto the even lattice.",
            )
        )
    names = ", ".join(points.attributes)
    if names:
        findings.append(left_out("attributes-not-carried", f"A grid holds heights only; left out: {names}."))
    progress.report(1.0)
    return Result(lattice.grid, tuple(findings))


CONVERSION = Conversion(
    id="cells",
    version=1,
    title="Grid from gridded points",
    also=("XYZ grid", "rasterise lattice"),
    help="A grid with a cell at every point of a regular grid of points, its height unchanged.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("grid", Grid),),
    params=CellParams,
    template="Grid with a cell at every point of {inputs}.",
    run=run,
    name=lambda inputs, params: inputs[0].name,
    fits=is_complete,
    automatic=0,
)
