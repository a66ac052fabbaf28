"""Points below the lowest height that a site can have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.plugin import Check, Dataset, Finding, Length, Param, PointSet, Progress, Quantity, count, length_in

INTERFACE = "1.0"


@dataclass(frozen=True)
class Params:
    """What is too low."""

    floor: Annotated[Length, Param("Lowest height", "No ground of the site lies below it.", Quantity.Z_LENGTH)] = Length(-430.0)


def run(data: Dataset, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return how many points are too low, and where the lowest one is."""
    xyz = data.coordinates()
    low = np.flatnonzero(xyz[:, 2] < length_in(params.floor, data.frame.vertical))
    if not len(low):
        return []
    east, north, height = xyz[low[np.argmin(xyz[low, 2])]].tolist()
    return [Finding(CHECK.id, f"{count(len(low), 'point')} below {params.floor}, the lowest at {height:.3f}.", at=(east, north))]


CHECK = Check(
    id="tollgarth_spots-low",
    version=1,
    title="Below the site",
    help="No land lies lower than the shore of the Dead Sea; a sign or a decimal point is wrong there.",
    takes=(PointSet,),
    params=Params,
    run=run,
)
