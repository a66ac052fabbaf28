"""Points given twice with different heights."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.findings import Finding, Remedy, count, either, note
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Length, Quantity, length_in
from vastgrid.data.dataset import Dataset
from vastgrid.data.kinds import of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check, cut_short, point_name, with_unit
from vastgrid.kernels.triangles.topology import group_places
from vastgrid.params.declare import Param
from vastgrid.terrain.editing.picking import words_of_point

# From so many points on it is a scan, in which steep things have many heights at one place.
CLOUD = 200_000
# Beyond this it takes more room than it is worth: a scan's points hardly ever share a place by mistake.
LARGEST = 6_000_000


@dataclass(frozen=True)
class Params:
    """When two points contradict each other."""

    apart: Annotated[
        Length,
        Param("Heights differ by more than", "Smaller differences are measuring noise.", Quantity.Z_LENGTH, least=0),
    ] = Length(0.05)
    place: Annotated[
        Length,
        Param(
            "One place",
            "Points closer to each other than this are at one place.",
            Quantity.XY_LENGTH,
            above=0,
        ),
    ] = Length(0.01)


def run(data: PointSet | Tin, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return places with several heights, the farthest apart first."""
    xyz = getattr(data, "source_points", None)
    xyz = data.coordinates() if xyz is None else xyz
    if len(xyz) > LARGEST:
        return []
    xyz = np.asarray(xyz[np.isfinite(xyz).all(axis=1)]) if len(xyz) else xyz
    if len(xyz) < 2:
        return []
    origin = np.floor(xyz[:, :2].min(axis=0))
    size = length_in(params.place, data.frame.horizontal)
    group, first = group_places(xyz[:, 0] - origin[0], xyz[:, 1] - origin[1], size)
    progress.report(0.5)
    low, high = np.full(len(first), np.inf), np.full(len(first), -np.inf)
    np.minimum.at(low, group, xyz[:, 2])
    np.maximum.at(high, group, xyz[:, 2])
    gap = high - low
    wrong = np.flatnonzero(gap > length_in(params.apart, data.frame.vertical))
    wrong = wrong[np.argsort(-gap[wrong], kind="stable")]
    progress.report(0.9)
    if len(wrong) and (len(xyz) > CLOUD or _scanned(data)):
        text = f"{count(len(wrong), 'place')} of {count(len(first), 'place')} {either(len(wrong), 'has', 'have')} several heights, at most {with_unit(float(gap[wrong[0]]), data.frame.vertical)} apart, as scans of walls and bushes do."
        worst = first[wrong[0]]
        return [note(CHECK.id, text, (float(xyz[worst, 0]), float(xyz[worst, 1])))]
    found: list[Finding] = []
    for place in wrong[:500].tolist():
        index = np.flatnonzero(group == place) if len(found) < 25 else np.zeros(0, np.int64)
        found.append(_told(data, xyz, index, first[place], float(low[place]), float(high[place]), size))
    return cut_short(found, CHECK.id, ("place with two heights", "places with two heights"))


def _scanned(data: PointSet | Tin) -> bool:
    """Return whether points came from a scanner, which sees walls and what hangs over the ground."""
    return any(name in getattr(data, "attributes", ()) for name in ("intensity", "return_number"))


def _told(
    data: PointSet | Tin, xyz: np.ndarray, own: np.ndarray, first: int, low: float, high: float, size: float
) -> Finding:
    unit = data.frame.vertical
    who = ""
    for points in of_kind([data], PointSet):
        if "point" in points.attributes and len(points.xyz) == len(xyz) and len(own):
            who = f" (points {', '.join(point_name(points, int(k)) for k in own[:4])})"
    text = f"One place has two heights{who}: {with_unit(low, unit, 3)} and {with_unit(high, unit, 3)}, {with_unit(high - low, unit, 3)} apart."
    remedy = None
    if data.kind == Tin.kind:
        remedy = Remedy("words", "Use the last one given", {"heights": "last"})
    elif len(own) > 1:
        earlier = xyz[own[:-1]]
        earlier = earlier[earlier[:, 2] != xyz[own[-1], 2]]
        # Up to where the other height is nearer.
        room = 0.45 * np.abs(earlier[:, 2] - xyz[own[-1], 2])
        picks = " also ".join(
            words_of_point(each, size, float(each[2] - near), float(each[2] + near))
            for each, near in zip(earlier, room, strict=True)
        )
        remedy = Remedy("edit", "Keep the last one given", {"entry": f"delete {picks}"}) if picks else None
    return Finding(CHECK.id, text, at=(float(xyz[first, 0]), float(xyz[first, 1])), remedy=remedy)


CHECK = Check(
    id="two-heights-here",
    version=3,
    title="One place, two heights",
    help="A point surveyed twice with different heights: one of the two is wrong, or the ground has moved. Clouds of more than 6 million points are not searched.",
    takes=(PointSet, Tin),
    params=Params,
    run=run,
)
