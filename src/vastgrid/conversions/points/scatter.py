"""Points at random on a surface."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.progress import Progress
from vastgrid.data.grid import Grid
from vastgrid.data.places import WHERE, Area
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.kernels.triangles.topology import inside_polygon
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class ScatterParams:
    """How many, where, and by which seed."""

    number: Annotated[int, Param("Number", "How many points.", least=1, most=20_000_000)] = 1000
    seed: Annotated[int, Param("Seed", "The same seed gives the same points again.", least=0)] = 1
    area: Annotated[Area | None, WHERE] = None


def run(inputs: Sequence[Tin | Grid], params: ScatterParams, progress: Progress) -> Result:
    """Place the points; see `CONVERSION`.

    Raises
    ------
    DataError
        If hardly any place of the area lies on the surface.
    """
    surface = inputs[0]
    extent = surface.extent()
    if extent.east is None or extent.north is None:
        raise DataError(f"{surface.name} is empty")
    low, high = np.array([extent.east[0], extent.north[0]]), np.array([extent.east[1], extent.north[1]])
    ring = params.area.in_frame(surface.frame).ring() if params.area is not None else None
    if ring is not None:
        low, high = np.maximum(low, ring.min(axis=0)), np.minimum(high, ring.max(axis=0))
        if (high <= low).any():
            raise DataError(f"{params.area} lies beside {surface.name}")
    rng = np.random.default_rng(params.seed)
    found, have, tried = [np.zeros((0, 3))], 0, 0
    while have < params.number:
        places = low + rng.random((max(params.number, 1000), 2)) * (high - low)
        tried += len(places)
        if ring is not None:
            places = places[inside_polygon(places[:, 0].copy(), places[:, 1].copy(), ring)]
        z = heights(surface, np.ascontiguousarray(places))
        own = np.column_stack((places, z))[np.isfinite(z)]
        found.append(own)
        have += len(own)
        progress.report(min(have / params.number, 1.0), "placing points")
        if have < 1e-4 * tried:
            raise DataError(f"hardly any place of the area lies on {surface.name}")
    return Result(PointSet(name="Points", frame=surface.frame, xyz=np.concatenate(found)[: params.number]))


def foretell(inputs: Sequence[Tin | Grid], params: ScatterParams) -> tuple[dict[str, int], float]:
    """Return as many points as are asked for."""
    return {"points": params.number}, params.number * 1e-6


CONVERSION = Conversion(
    id="scatter",
    version=1,
    title="Random points on a surface",
    also=("sample",),
    help="Randomly placed points, evenly distributed over a surface, with its heights.",
    inputs=(Input("surface", (Tin, Grid)),),
    outputs=(Output("points", PointSet),),
    params=ScatterParams,
    template="{number} random points on {surface}[, within {area}|, over {area=the whole of it}], seed {seed}.",
    run=run,
    foretell=foretell,
    name=lambda inputs, params: f"Points on {inputs[0].name}",
)
