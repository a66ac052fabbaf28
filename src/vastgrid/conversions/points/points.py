"""Any kind to points: its vertices."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count
from vastgrid.base.progress import Progress
from vastgrid.data.dataset import Dataset
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.mesh import Mesh
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result


@dataclass(frozen=True)
class PointParams:
    """Nothing to choose: every vertex becomes a point."""


def run(inputs: Sequence[Dataset], params: PointParams, progress: Progress) -> Result:
    """Take the vertices; see `CONVERSION`."""
    source = inputs[0]
    xyz = source.coordinates()
    good = np.isfinite(xyz).all(axis=1)
    if not good.any():
        raise DataError(f"no vertex of {source.name} has a height, so there are no points of it")
    findings = []
    if not good.all():
        findings.append(
            Finding("no-height", f"{count(int((~good).sum()), 'vertex', 'vertices')} without a height: left out.")
        )
    progress.report(1.0)
    return Result(PointSet(name="Points", frame=source.frame, xyz=xyz[good]), tuple(findings))


def foretell(inputs: Sequence[Dataset], params: PointParams) -> tuple[dict[str, int], float]:
    """Return how many vertices with a height there are."""
    number = int(np.isfinite(inputs[0].coordinates()[:, 2]).sum())
    return {"points": number}, number * 1e-7


CONVERSION = Conversion(
    id="points",
    version=1,
    title="Points from vertices",
    also=("extract points", "cell centres"),
    help="The vertices of a TIN, of a mesh, of lines or contours, or the cell centres of a grid.",
    inputs=(Input("data", (Tin, Grid, Linework, Contours, Mesh)),),
    outputs=(Output("points", PointSet),),
    params=PointParams,
    template="Points at every vertex of {inputs}.",
    run=run,
    foretell=foretell,
    name=lambda inputs, params: "Points",
    halo=lambda inputs, params: 0.0,
    automatic=5,
)
