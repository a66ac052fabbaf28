"""Which points of a cloud are noise: classes are set, no point is dropped.

A point is noise where it lies much farther from its nearest neighbours than the points above and below it lie from theirs.
The ratio of mean distances follows Breunig, Kriegel, Ng and Sander, “LOF: identifying density-based local outliers”, SIGMOD
2000, in its plain form; what it is compared with are the nearest in plan, so that strays which keep each other company far
from the ground do not excuse each other. Because each point is compared with its own surroundings, a scan that is dense near
the scanner and thin far away is treated alike everywhere.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from numpy.typing import NDArray

from vastgrid.base.findings import count, note
from vastgrid.base.progress import Progress
from vastgrid.base.words import spaced
from vastgrid.data.classes import CLASSES, HIGH_NOISE, LOW_NOISE, NOISE, UNCLASSIFIED
from vastgrid.data.dataset import Flags, Floats
from vastgrid.data.frame import need_lengths, ratio_of
from vastgrid.data.pointset import PointSet
from vastgrid.declarations.conversion import Conversion, Input, Output, Result
from vastgrid.params.declare import Param

PIECE = 500_000
# Where points fall together their distance says nothing: no neighbourhood counts as denser than this share of the usual.
DENSEST = 0.2


@dataclass(frozen=True)
class NoiseParams:
    """What stands apart."""

    neighbours: Annotated[
        int, Param("Neighbours", "How many nearest points each is compared with.", least=3, most=64)
    ] = 8
    times: Annotated[
        float,
        Param(
            "Times",
            "Noise lies more than this many times as far from its neighbours as the points around it from theirs.",
            above=1,
        ),
    ] = 4.0


def run(inputs: Sequence[PointSet], params: NoiseParams, progress: Progress) -> Result:
    """Set classes; see `CONVERSION`.

    Raises
    ------
    CallError
        If the points are in degrees.
    """
    points = inputs[0]
    need_lengths(points.name, points.frame, "distances need")
    old = points.attributes.get(CLASSES)
    known = np.isin(old, NOISE) if old is not None else np.zeros(len(points.xyz), np.bool_)
    use = np.flatnonzero(~known & np.isfinite(points.xyz).all(axis=1))
    classes = np.full(len(points.xyz), UNCLASSIFIED, np.uint8) if old is None else np.array(old)
    low = high = use[:0]
    if len(use) > params.neighbours:
        xyz = points.xyz[use] - points.xyz[use[0]]
        xyz[:, 2] /= ratio_of(points.frame)
        stray, below = strays(xyz, params.neighbours, params.times, progress)
        low, high = use[stray & below], use[stray & ~below]
    classes[low], classes[high] = LOW_NOISE, HIGH_NOISE
    found = [
        note(
            "noise-set",
            f"Of {count(len(classes), 'point')} {spaced(len(low))} are now low noise (7) and {spaced(len(high))} high noise (18)"
            + (f"; {spaced(int(known.sum()))} were noise already." if known.any() else "."),
        )
    ]
    progress.report(1.0)
    made = dataclasses.replace(points, attributes={**points.attributes, CLASSES: classes})
    return Result(made, tuple(found), figures={"noise": len(low) + len(high), "low": len(low), "high": len(high)})


def strays(xyz: Floats, neighbours: int, times: float, progress: Progress) -> tuple[Flags, Flags]:
    """Return which points stand apart, and which lie below the middle of their neighbours, both (n,) bool."""
    from scipy.spatial import cKDTree

    tree = cKDTree(xyz, balanced_tree=False, compact_nodes=False)
    mean = np.zeros(len(xyz))
    for start in range(0, len(xyz), PIECE):
        part = slice(start, start + PIECE)
        # The nearest of all is the point itself.
        mean[part] = tree.query(xyz[part], neighbours + 1, workers=-1)[0][:, 1:].mean(axis=1)
        progress.report(0.6 * min(start + PIECE, len(xyz)) / len(xyz), "looking at neighbours")
    least = DENSEST * float(np.median(mean))
    plan = cKDTree(xyz[:, :2], balanced_tree=False, compact_nodes=False)
    stray: NDArray[np.bool_] = np.zeros(len(xyz), np.bool_)
    below = np.zeros(len(xyz), np.bool_)
    for start in range(0, len(xyz), PIECE):
        part = slice(start, start + PIECE)
        near = plan.query(xyz[part, :2], neighbours + 1, workers=-1)[1]
        stray[part] = mean[part] > times * np.maximum(np.median(mean[near], axis=1), least)
        below[part] = xyz[part, 2] < np.median(xyz[near, 2], axis=1)
        progress.report(0.6 + 0.4 * min(start + PIECE, len(xyz)) / len(xyz), "comparing them")
    return stray, below


CONVERSION = Conversion(
    id="noise",
    version=1,
    title="Classify noise points",
    also=("outliers", "isolated points"),
    help="Sets the class of points that stand apart from all others to low noise (7) or high noise (18); no point is dropped.",
    inputs=(Input("points", (PointSet,)),),
    outputs=(Output("points", like="points"),),
    params=NoiseParams,
    template="{points} with noise classified: points more than {times} times as far from their {neighbours} nearest "
    "neighbours as the points around them from theirs.",
    run=run,
    name=lambda inputs, params: f"{inputs[0].name}, noise classified",
)
