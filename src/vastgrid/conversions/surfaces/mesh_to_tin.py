"""The upper side of a mesh to a TIN."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import Enum
from typing import Annotated

import numpy as np

from vastgrid.base.errors import DataError
from vastgrid.base.findings import Finding, count, either
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset
from vastgrid.data.mesh import Mesh
from vastgrid.data.tin import Tin
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param
from vastgrid.terrain.tin.assemble import merged, oriented_tin, overlaps


class Side(Enum):
    """Which faces count where several lie over each other."""

    UPPER = "upper"
    LOWER = "lower"


@dataclass(frozen=True)
class UpperParams:
    """Which side of the mesh is the ground."""

    side: Annotated[
        Side, Param("Side", "upper: faces that nothing lies above; lower: faces that nothing lies below.")
    ] = Side.UPPER


def run(inputs: Sequence[Dataset], params: UpperParams, progress: Progress) -> Result:
    """Keep the faces of one side; see `CONVERSION`.

    Raises
    ------
    DataError
        If none is left.
    """
    mesh = inputs[0]
    assert isinstance(mesh, Mesh)
    tin, findings = oriented_tin(mesh.name, mesh.frame, mesh.vertices, mesh.triangles)
    progress.report(0.4, "looking which faces lie above")
    gap = 1e-6 * (float(np.ptp(mesh.vertices[:, 2])) + 1.0)
    over = overlaps(tin, gap)
    keep = (over & (1 if params.side is Side.UPPER else 2)) == 0
    if not keep.any():
        raise DataError(f"no face of {mesh.name} lies alone on its {params.side.value} side")
    if not keep.all():
        text = f"{count(int((~keep).sum()), 'face')} of {spaced(len(keep))} {either(int((~keep).sum()), 'lies', 'lie')} {'below' if params.side is Side.UPPER else 'above'} others; left out."
        findings.append(Finding("faces-hidden", text))
    vertices, triangles = merged(tin.vertices, tin.triangles[keep])
    progress.report(1.0)
    return Result(Tin(name=mesh.name, frame=mesh.frame, vertices=vertices, triangles=triangles), tuple(findings))


CONVERSION = Conversion(
    id="upper",
    version=1,
    title="Top surface of a mesh",
    also=("mesh to TIN",),
    help="The upper (or lower) side of a mesh with overhangs, or of a closed body, as a TIN.",
    inputs=(Input("mesh", (Mesh,)),),
    outputs=(Output("tin", Tin),),
    params=UpperParams,
    template="TIN from the {side} side of {inputs}.",
    run=run,
    name=lambda inputs, params: "Ground",
    automatic=0,
)
