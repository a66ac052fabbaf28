"""Heights in feet that were declared metres, or the other way round: told from the data beside them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np

from vastgrid.base.findings import Finding, Remedy
from vastgrid.base.progress import Progress
from vastgrid.base.quantities import Quantity, Unit
from vastgrid.data.areas import Areas
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.grid import Grid
from vastgrid.data.linework import Contours, Linework
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.declarations.check import Check
from vastgrid.measures.heights import heights
from vastgrid.params.declare import Param

SAMPLE, ENOUGH = 2000, 20
# No ground is higher (8 849 m, Nepal and China's joint survey of 2020; from memory).
HIGHEST = 9000.0


@dataclass(frozen=True)
class Params:
    """When heights look like another unit's."""

    near: Annotated[
        float,
        Param(
            "Ratio matches within",
            "How near the ratio of heights has to be to that of the units, in per cent.",
            Quantity.RATIO,
            above=0,
            most=20,
        ),
    ] = 3.0


def run(data: Dataset, others: Sequence[Dataset], params: Params, progress: Progress) -> list[Finding]:
    """Return whether heights are those of the job's other data in another unit, or beyond any ground."""
    own = _sample(data)
    unit = data.frame.vertical
    if len(own) < ENOUGH or unit is None:
        return []
    ratios = []
    for k, other in enumerate(others):
        if other.frame.vertical is unit and other.frame.horizontal is data.frame.horizontal:
            told = _ratio(own, other)
            if told is not None:
                ratios.append((*told, other))
        progress.report((k + 1) / len(others))
    slack = params.near / 100.0
    fits = [name for ratio, _, name in ratios if abs(ratio - 1.0) < slack]
    for wrong in (Unit.FOOT, Unit.METRE):
        # Declared metres and really feet, numbers are 3.28 times too large; and the other way round.
        factor = float(unit.metres / wrong.metres)
        against = [(place, name) for ratio, place, name in ratios if abs(ratio / factor - 1.0) < slack]
        if wrong is unit or not against or len(fits) >= len(against) or (not fits and _smaller_exists(data, against)):
            continue
        place, name = against[0]
        text = (
            f"The heights are {factor:.3f} times those of {name.name} at the same places: they look like {wrong.title}, "
            f"and were taken as {unit.title}."
        )
        remedy = Remedy("units", f"Read its heights as {wrong.title}", {"height": wrong.value})
        return [Finding(CHECK.id, text, at=place, remedy=remedy)]
    top = float(own[:, 2].max()) * float(unit.metres)
    if top > HIGHEST:
        k = int(own[:, 2].argmax())
        text = f"Heights reach {own[k, 2]:,.0f} {unit.value}: no ground on Earth is so high. Their unit is another one.".replace(
            ",", "\u202f"
        )
        return [Finding(CHECK.id, text, at=(float(own[k, 0]), float(own[k, 1])))]
    return []


def _smaller_exists(data: Dataset, against: list[tuple[tuple[float, float], Dataset]]) -> bool:
    """Where only two disagree, the lesser of them is told."""
    mine = sum(data.count().values())
    return len(against) == 1 and sum(against[0][1].count().values()) < mine


def _sample(data: Dataset) -> Floats:
    xyz = data.coordinates()
    xyz = xyz[:: max(len(xyz) // SAMPLE, 1)]
    xyz = xyz[np.isfinite(xyz).all(axis=1)]
    return np.asarray(xyz[xyz[:, 2] != 0.0])


def _ratio(own: Floats, other: Dataset) -> tuple[float, tuple[float, float]] | None:
    """Return the median ratio of heights at common places, and one of the places."""
    if isinstance(other, Tin | Grid) and other.has_heights:
        there = heights(other, np.ascontiguousarray(own[:, :2]))
    else:
        there = _nearest(own, _many(other))
    good = np.isfinite(there) & (np.abs(there) > 5.0)
    if good.sum() < ENOUGH:
        return None
    k = int(np.flatnonzero(good)[0])
    return float(np.median(own[good, 2] / there[good])), (float(own[k, 0]), float(own[k, 1]))


def _many(other: Dataset) -> Floats:
    xyz = other.coordinates()
    xyz = xyz[:: max(len(xyz) // 100_000, 1)]
    return np.asarray(xyz[np.isfinite(xyz).all(axis=1)])


def _nearest(own: Floats, there: Floats) -> Floats:
    from scipy.spatial import cKDTree

    out = np.full(len(own), np.nan)
    if len(there) < ENOUGH:
        return out
    spacing = np.sqrt(max(float(np.ptp(there[:, 0]) * np.ptp(there[:, 1])), 1e-9) / len(there))
    distance, index = cKDTree(there[:, :2]).query(own[:, :2], distance_upper_bound=3.0 * spacing)
    near = np.isfinite(distance)
    out[near] = there[index[near], 2]
    return out


CHECK = Check(
    id="wrong-unit",
    version=1,
    title="Feet taken for metres",
    help="A file whose heights are 3.28 or 0.305 times those around it was written in another unit than it says.",
    takes=(PointSet, Linework, Contours, Areas, Tin, Grid),
    params=Params,
    run=run,
    around=True,
)
