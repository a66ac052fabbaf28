"""Grid to TIN, every cell kept."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.measures.difference import difference
from vastgrid.measures.halo import element
from vastgrid.terrain.tin.surfaces import grid_tin


@dataclass(frozen=True)
class FacetParams:
    """Nothing to choose: every cell becomes a vertex."""


def run(inputs: Sequence[Grid], params: FacetParams, progress: Progress) -> Result:
    """Join the cell centres by triangles; see `CONVERSION`.

    Raises
    ------
    DataError
        If no three neighbouring cells have heights.
    """
    grid = inputs[0]
    tin = grid_tin(grid)
    if len(tin.triangles) == 0:
        raise DataError(f"{grid.name} has no three neighbouring cells with heights")
    progress.report(0.5, "joining cells")
    return Result(tin, (), difference(grid, tin, progress.part(0.5, 1.0)))


def foretell(inputs: Sequence[Grid], params: FacetParams) -> tuple[dict[str, int], float]:
    """Return about two triangles for each cell that has a height."""
    known = int(np.isfinite(inputs[0].heights).sum())
    return {"triangles": 2 * known, "vertices": known}, known * 1e-6


CONVERSION = Conversion(
    id="facets",
    version=1,
    title="TIN from every grid cell",
    also=("grid to TIN",),
    help="A TIN with a vertex at the centre of every cell that has a height.",
    inputs=(Input("grid", (Grid,)),),
    outputs=(Output("tin", Tin),),
    params=FacetParams,
    template="TIN through every cell of {inputs}.",
    run=run,
    foretell=foretell,
    name=lambda inputs, params: "Ground",
    halo=lambda inputs, params: element(inputs[0]),
    automatic=2,
)
