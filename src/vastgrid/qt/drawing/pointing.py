"""What lies under the pointer: heights to read out, and what it is caught by."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence

import numpy as np

from vastgrid.base.words import spaced
from vastgrid.data.dataset import Dataset, Floats
from vastgrid.data.kinds import of_kind
from vastgrid.data.pointset import PointSet
from vastgrid.data.tin import Tin
from vastgrid.kernels.lines.nearest import on_lines
from vastgrid.lineage import cloudindex
from vastgrid.lineage.cloudindex import WORTH
from vastgrid.measures.heights import heights, heights_at_hand, surface_of
from vastgrid.measures.snap import Caught, catch


def readout(datasets: Sequence[Dataset], east: float, north: float) -> str:
    """Return easting, northing and the height of each surface there, the last of them first."""
    text = f"E {spaced(east, 2)}   N {spaced(north, 2)}"
    found = []
    for each in reversed(datasets):
        surface = surface_of(each)
        if surface is not None and heights_at_hand(surface):
            z = float(heights(surface, np.array([[east, north]]))[0])
            if math.isfinite(z):
                found.append(f"Z {z:.3f} ({each.name})")
    return text + "   " + ("   ".join(dict.fromkeys(found)) or "Z –")


def caught(datasets: Sequence[Dataset], east: float, north: float, pixels: float, size: float) -> Caught:
    """Return the place itself, or what it is caught by.

    Parameters
    ----------
    pixels, size : float
        How near something has to be, in pixels; and the width of a pixel in the unit of plan.
    """
    # What the painter has not worked out yet is caught a moment later.
    able = [each for each in datasets if each.kind != Tin.kind or heights_at_hand(each)]
    reach = pixels * size
    return catch(able, east, north, reach, _clouds_near(datasets, east, north, reach, size))


def line_at(datasets: Sequence[Dataset], east: float, north: float, reach: float) -> Floats | None:
    """Return the line nearest to a place, (n, ≥ 2), if one is within reach."""
    best, found = reach, None
    for each in datasets:
        courses = each.courses()
        if courses is None:
            continue
        xy, offsets = courses
        k, _, away = on_lines(xy, offsets, east, north, best)
        if k >= 0 and away <= best:
            line = int(np.searchsorted(offsets, k, side="right")) - 1
            best, found = away, each.coordinates()[offsets[line] : offsets[line + 1]]
    return found


def _clouds_near(
    datasets: Sequence[Dataset], east: float, north: float, reach: float, size: float
) -> dict[str, Iterable[Floats]]:
    """Return the pieces of large clouds around a place; searching them whole would take too long."""
    found: dict[str, Iterable[Floats]] = {}
    for each in of_kind(datasets, PointSet):
        if len(each.xyz) >= WORTH:
            index = cloudindex.ready.get(each.content)
            pieces = []
            if index is not None and reach > 0:
                box = (east - reach, north - reach, east + reach, north + reach)
                origin = np.array((index.west, index.south, index.low))
                pieces = [part + origin for part, _ in index.visible(box, size)]
            found[each.content] = pieces
    return found
