"""Flat triangles, as contours make them: shelves and cut-off tops that the ground does not have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.findings import Finding, Severity, count, either
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Quantity
from vastgrid.data.dataset import Dataset
from vastgrid.data.tin import Tin, areas
from vastgrid.declarations.check import Check
from vastgrid.kernels.triangles.vertexwise import groups
from vastgrid.params.declare import Param


@dataclass(frozen=True)
class Params:
    """When flat triangles are worth telling."""

    share: Annotated[
        float,
        Param(
            "More of the area than",
            "Share of the plan area that is level, in per cent.",
            Quantity.RATIO,
            least=0,
            most=100,
        ),
    ] = 1.0


def run(tin: Tin, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return what share of the ground is level triangles, and where most of them are."""
    z = tin.vertices[:, 2][tin.triangles]
    flat = (z[:, 0] == z[:, 1]) & (z[:, 1] == z[:, 2])
    area = np.abs(areas(tin))
    total = float(area.sum())
    progress.report(0.5)
    if total == 0 or 100.0 * float(area[flat].sum()) / total <= params.share or not flat.any():
        return []
    group = groups(tin.edges_across, flat)
    wide = np.bincount(group[flat], weights=area[flat])
    mine = np.flatnonzero(group == int(wide.argmax()))
    place = tin.vertices[tin.triangles[mine[area[mine].argmax()]]].mean(axis=0)
    levels = np.unique(z[flat, 0])
    even = len(levels) > 2 and len(np.unique(np.round(np.diff(levels), 6))) <= max(2, len(levels) // 4)
    from_contours = "as triangles between vertices of one contour are" if even else "at one height each"
    share = 100.0 * float(area[flat].sum()) / total
    text = (
        f"{count(int(flat.sum()), 'triangle')} of {count(len(flat), 'triangle')} {either(int(flat.sum()), 'is', 'are')} level, {from_contours}: {share:.1f} % of the area, "
        f"in {count(len(wide), 'patch', 'patches')}. The largest is at the place shown. Real ground is seldom level; water is."
    )
    severity = Severity.WARNING if even or len(wide) > 3 else Severity.NOTE
    return [Finding(CHECK.id, text, severity, (float(place[0]), float(place[1])))]


CHECK = Check(
    id="flat-triangles",
    version=1,
    title="Level triangles",
    help="A TIN made from contours gets level triangles at ridges, tops and hollows, where the contour bends back.",
    takes=(Tin,),
    params=Params,
    run=run,
)
