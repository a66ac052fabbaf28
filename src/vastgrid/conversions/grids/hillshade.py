"""Light on a grid, as a grid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.drawing.shade import hillshade
from vastgrid.measures.halo import element
from vastgrid.params.declare import Param
from vastgrid.terrain.cells.products import cell_by_cell, cells_in_heights, of_quantity


@dataclass(frozen=True)
class HillshadeParams:
    """Where the light comes from."""

    azimuth: Annotated[float, Param("Sun's bearing", "Clockwise from north, in degrees.", least=0, most=360)] = 315.0
    altitude: Annotated[float, Param("Sun's height", "Above the horizon, in degrees.", above=0, most=90)] = 45.0
    suns: Annotated[
        int,
        Param(
            "Suns",
            "Number of suns, evenly spaced from the first one's bearing; their light is averaged.",
            least=1,
            most=16,
        ),
    ] = 1
    exaggeration: Annotated[float, Param("Heights times", "Makes gentle ground stand out.", above=0, most=100)] = 1.0


def run(inputs: Sequence[Grid], params: HillshadeParams, progress: Progress) -> Result:
    """Return the light on every cell; see `CONVERSION`.

    Raises
    ------
    CallError
        If the grid is in degrees.
    """
    grid = inputs[0]
    dx, dy = cells_in_heights(grid)
    total = np.zeros(grid.heights.shape)
    for k in range(params.suns):
        bearing = (params.azimuth + 360.0 * k / params.suns) % 360.0
        total += hillshade(grid.heights * params.exaggeration, dx, dy, bearing, params.altitude)
        progress.report((k + 1) / params.suns)
    return Result(of_quantity(grid, total / params.suns * 255.0, "hillshade", ""))


def foretell(inputs: Sequence[Grid], params: HillshadeParams) -> tuple[dict[str, int], float]:
    """Return the grid's own rows and columns."""
    return dict(inputs[0].count()), inputs[0].heights.size * 1e-7


CONVERSION = Conversion(
    id="hillshade",
    version=1,
    title="Hillshade",
    also=("shaded relief",),
    help="Light on each cell: 255 times the cosine between the sun and the ground's normal after Horn (1981), 0 where it is dark.",
    inputs=(Input("surface", (Grid,)),),
    outputs=(Output("light", Grid),),
    params=HillshadeParams,
    template="Hillshade of {surface}, light from {azimuth}°, {altitude}° above the horizon; light sources: {suns}; heights × {exaggeration}.",
    run=run,
    foretell=foretell,
    name=lambda inputs, params: f"Light on {inputs[0].name}",
    halo=lambda inputs, params: element(inputs[0]),
    tiles=cell_by_cell(run, "hillshade", lambda params: ""),
)
